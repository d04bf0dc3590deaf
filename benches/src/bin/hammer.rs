//! Hammers the reader with made-up bytes: any text, any dialect, any blocks, for as many cases as asked.
//!
//! Usage: `hammer [CASES] [SEED]`; `scripts/hammer` builds and calls it. Each case opens a text as an
//! input (with a dialect partly said and partly found), reads it in blocks of two sizes, and holds both
//! against the plain splitter; one case in 64 goes through a whole survey and draft as well. It fails on
//! a panic, on a difference, on a case that takes longer than ten seconds, and on memory that grows, and
//! prints the number of the case: `hammer 1 SEED` with that number as the seed runs it alone.

use std::num::NonZeroUsize;
use std::process::ExitCode;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};
use typhos_core::infer::{Rules, Wanted, decide, draft};
use typhos_core::run::{NoMonitor, RunOptions};
use typhos_core::survey::{Survey, SurveyOptions};
use typhos_core::text::{
    Block, BlockReader, ColumnsDiffer, Escape, Input, InputChoice, LineEnds, PlainRecords,
    QuotedEmpty, Records, Splitter,
};

/// Cases after which memory is held against what it is at the end.
const WARM: u64 = 20_000;

/// Memory may grow by so much after that.
const GROWTH_KIB: u64 = 32 << 10;

/// A case must end within this.
const PATIENCE: Duration = Duration::from_secs(10);

struct Dice(ChaCha8Rng);

impl Dice {
    fn below(&mut self, end: usize) -> usize {
        ((u64::from(self.0.next_u32()) * end as u64) >> 32) as usize
    }

    fn chance(&mut self, percent: usize) -> bool {
        self.below(100) < percent
    }

    fn pick<T: Copy>(&mut self, things: &[T]) -> T {
        things[self.below(things.len())]
    }

    fn maybe<T: Copy>(&mut self, percent: usize, things: &[T]) -> Option<T> {
        self.chance(percent).then(|| self.pick(things))
    }

    fn choice(&mut self) -> InputChoice {
        InputChoice {
            delimiter: self.maybe(40, b",;\t| :\x1f\\"),
            quote: self.maybe(40, &[Some(b'"'), Some(b'\''), None]),
            escape: self.maybe(30, Escape::ALL),
            line_ends: self.maybe(30, LineEnds::ALL),
            comment: self.maybe(30, &[Some(b'#'), Some(b'%'), None]),
            trailing_delimiter: self.maybe(20, &[true, false]),
            header: self.maybe(60, &[true, false]),
            skip: self.maybe(20, &[0, 1, 2, 9]),
            names: self.chance(5).then(|| vec!["a".into(), "b".into()]),
            encoding: None,
            columns_differ: self.maybe(5, ColumnsDiffer::ALL),
            quoted_empty: self.maybe(20, QuotedEmpty::ALL),
            record_limit: None,
        }
    }

    /// A text: rows of a table as a program would write them, then damaged; or just bytes.
    fn text(&mut self) -> Vec<u8> {
        let mut text = Vec::new();
        if self.chance(30) {
            let length = self.below(300);
            let loud = b",;\t\"\"\"'\n\n\r\\#aab10. \x00\xff\xe5|:\x1f";
            text.extend((0..length).map(|_| self.pick(loud)));
            return text;
        }
        let (delimiter, quote) = (self.pick(b",,,;\t|:"), self.pick(b"\"\"\"'"));
        let end: &[u8] = self.pick(&[&b"\n"[..], b"\n", b"\r\n", b"\r"]);
        let columns = 1 + self.below(5);
        let values: [&[u8]; 14] = [
            b"",
            b"7",
            b"-12.5",
            b"2024-02-29",
            b"31.12.99",
            b"Holm",
            b"T\xc3\xa5rnvik",
            b"NA",
            b"it's",
            b"00712",
            b"say \"so\"",
            b"a,b;c",
            b"two\nlines",
            b" x ",
        ];
        for _ in 0..self.below(12) {
            for column in 0..columns {
                if column > 0 {
                    text.push(delimiter);
                }
                let value = self.pick(&values);
                let special = [delimiter, quote, b'\n', b'\r'];
                if self.chance(15) || value.iter().any(|byte| special.contains(byte)) {
                    text.push(quote);
                    for byte in value {
                        if *byte == quote {
                            text.push(self.pick(&[quote, quote, b'\\']));
                        }
                        text.push(*byte);
                    }
                    text.push(quote);
                } else {
                    text.extend_from_slice(value);
                }
            }
            text.extend_from_slice(end);
        }
        for _ in 0..self.pick(&[0, 0, 1, 1, 2, 8]) {
            let at = self.below(text.len() + 1);
            match self.below(3) {
                0 => text.insert(at, self.pick(b",;\t\"'\n\r\\#\x00\xff")),
                1 if at < text.len() => drop(text.remove(at)),
                _ => text.truncate(at.max(text.len() / 2)),
            }
        }
        text
    }
}

/// Where records start and end in the text below the header, and what is wrong with them.
type Found = Vec<(u64, Vec<u8>, Option<String>)>;

fn through_blocks(input: &Input, block_bytes: usize, most: usize) -> Found {
    let layout = input.files()[0].layout();
    let mut reader = BlockReader::new(input, block_bytes);
    let (mut block, mut records, mut all) = (Block::default(), Records::default(), Vec::new());
    while reader.next(&mut block).expect("bytes in memory can be read") {
        let mut splitter = Splitter::new(&block, &layout.dialect, layout.fields);
        while splitter.fill(&mut records, most) {
            let whole =
                (0..records.len()).map(|row| (records.line(row), records.record(row), None));
            let broken = records.broken().iter().map(|broken| {
                let why = broken.kind.describe(block.first_line).into_owned();
                (broken.line, (broken.start as usize, broken.end as usize), Some(why))
            });
            let mut found: Vec<_> = whole.chain(broken).collect();
            found.sort();
            all.extend(found.into_iter().map(|(line, (start, end), why)| {
                (block.first_line + u64::from(line), block.text()[start..end].to_vec(), why)
            }));
        }
    }
    all
}

/// Runs one case; panics where anything is wrong.
fn case(number: u64) {
    let mut dice = Dice(ChaCha8Rng::seed_from_u64(number));
    let (text, choice) = (dice.text(), dice.choice());
    let input = Input::from_bytes("hammer", text.clone(), &choice);
    let Some(file) = input.files().first() else { return };
    let layout = file.layout();
    let whole = through_blocks(&input, 1 << 20, 1000);
    let (block_bytes, most) = (1 + dice.below(text.len() + 8), 1 + dice.below(4));
    assert_eq!(through_blocks(&input, block_bytes, most), whole, "blocks of {block_bytes}");

    // A packed or transcoded text, or one with a mark, is not where it was.
    if text.starts_with(b"\x1f\x8b") || input.encoding() != "UTF-8" {
        return;
    }
    let below = &text[file.data_start as usize..];
    let plain = PlainRecords::new(below, layout.dialect);
    let plain: Vec<_> = plain
        .filter(|record| layout.fields == 1 || !record.is_blank(below))
        .map(|record| {
            let trailing = layout.dialect.trailing_delimiter
                && record.broken.is_none()
                && record.fields.len() == layout.fields + 1
                && record.ends_in_delimiter();
            let last = record.fields[record.fields.len() - 1 - usize::from(trailing)];
            (file.first_line + record.line as u64, below[record.start..last.1].to_vec())
        })
        .collect();
    let whole: Vec<_> = whole.into_iter().map(|(line, record, _)| (line, record)).collect();
    assert_eq!(whole, plain, "the plain splitter");

    if number.is_multiple_of(64) {
        let threads = NonZeroUsize::new(1 + dice.below(2)).unwrap_or(NonZeroUsize::MIN);
        let options = RunOptions { threads, block_bytes };
        let survey = Survey::take(&input, &SurveyOptions::default(), &options, &NoMonitor)
            .expect("nothing stops it");
        assert_eq!(survey.records + survey.broken, whole.len() as u64, "the account");
        let decisions = decide(&survey, &Rules::default());
        let drafted = draft(&survey, &decisions, &Wanted::default()).to_toml();
        if let Err(wrong) = typhos_core::schema::read(&drafted) {
            panic!("the draft does not read back: {wrong:?}\n{drafted}");
        }
    }
}

/// Memory held now, in KiB.
fn resident_kib() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with("VmRSS:"));
    line.and_then(|line| line.split_whitespace().nth(1)?.parse().ok()).unwrap_or(0)
}

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let mut number =
        |usual: u64| arguments.next().and_then(|word| word.parse().ok()).unwrap_or(usual);
    let (cases, seed) = (number(1_000_000), number(1));
    let threads = std::thread::available_parallelism().map_or(1, NonZeroUsize::get) as u64;
    let (next, failed) = (AtomicU64::new(seed), AtomicU64::new(0));
    let running: Vec<AtomicU64> = (0..threads).map(|_| AtomicU64::new(u64::MAX)).collect();
    let warm = AtomicU64::new(0);
    std::panic::set_hook(Box::new(|_| {}));
    std::thread::scope(|scope| {
        for slot in &running {
            let (next, failed, warm) = (&next, &failed, &warm);
            scope.spawn(move || {
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    if number >= seed + cases || failed.load(Ordering::Relaxed) > 0 {
                        return slot.store(u64::MAX, Ordering::Relaxed);
                    }
                    slot.store(number, Ordering::Relaxed);
                    if let Err(panic) = std::panic::catch_unwind(|| case(number)) {
                        let text = panic.downcast_ref::<String>().cloned();
                        let text =
                            text.or_else(|| panic.downcast_ref::<&str>().map(|s| (*s).into()));
                        eprintln!("case {number}: {}", text.unwrap_or_default());
                        failed.fetch_add(1, Ordering::Relaxed);
                    }
                    if number == seed + WARM {
                        warm.store(resident_kib(), Ordering::Relaxed);
                    }
                }
            });
        }
        // A case that hangs is told by its number, and ends the run.
        let mut before = Vec::new();
        let mut waited = Duration::ZERO;
        loop {
            std::thread::sleep(Duration::from_millis(50));
            let now: Vec<u64> = running.iter().map(|slot| slot.load(Ordering::Relaxed)).collect();
            if now.iter().all(|case| *case == u64::MAX) && next.load(Ordering::Relaxed) > seed {
                return;
            }
            waited =
                if now == before { waited + Duration::from_millis(50) } else { Duration::ZERO };
            if waited > PATIENCE {
                eprintln!("cases {now:?} do not end");
                std::process::exit(1);
            }
            before = now;
        }
    });
    let (warm, end) = (warm.into_inner(), resident_kib());
    println!(
        "{cases} cases from {seed}; memory {} MiB after {WARM}, {} MiB at the end",
        warm >> 10,
        end >> 10
    );
    if warm > 0 && end > warm + GROWTH_KIB {
        eprintln!("memory grows");
        return ExitCode::FAILURE;
    }
    if failed.into_inner() > 0 { ExitCode::FAILURE } else { ExitCode::SUCCESS }
}
