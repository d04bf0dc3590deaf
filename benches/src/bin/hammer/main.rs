//! Hammers the doors through which bytes of others come in, for as many cases as asked.
//!
//! Usage: `hammer [DOOR] [CASES] [SEED]`; `scripts/hammer` builds and calls it. The doors are `reader`, `json`, `schema`,
//! `survey`, `filter`, `parquet` and `arrow`; without one, all of them share the cases, half of which are the
//! reader's. It fails on a panic, on a difference, on a case that takes longer than ten seconds or a quarter of a
//! gibibyte, and on memory that grows, and prints the door and the number of the case: `hammer DOOR 1 NUMBER` runs it
//! alone.

mod files;
mod json;
mod reader;
mod texts;

use std::num::NonZeroUsize;
use std::process::ExitCode;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

/// Cases after which memory is held against what it is at the end.
const WARM: u64 = 20_000;

/// Memory may grow by so much after that.
const GROWTH_KIB: u64 = 32 << 10;

/// A case must end within this.
const PATIENCE: Duration = Duration::from_secs(10);

/// No case may take so much memory.
const MOST_KIB: u64 = 256 << 10;

/// Dice of a case.
pub struct Dice(ChaCha8Rng);

impl Dice {
    /// The same number gives the same dice.
    pub fn of(number: u64) -> Dice {
        Dice(ChaCha8Rng::seed_from_u64(number))
    }

    /// Some bytes, damaged: a few of them others, left out, said twice, or all behind a place cut off.
    pub fn damaged(&mut self, bytes: &[u8]) -> Vec<u8> {
        let mut bytes = bytes.to_vec();
        for _ in 0..self.pick(&[1, 1, 1, 2, 4, 9]) {
            if bytes.is_empty() {
                break;
            }
            let at = self.below(bytes.len());
            match self.below(12) {
                0 => drop(bytes.remove(at)),
                1 => bytes.insert(at, self.pick(b"\x00\x01\x7f\x80\xff{}[]\"',.0 ")),
                2 => bytes.truncate(at),
                3 => {
                    let end = (at + 1 + self.below(64)).min(bytes.len());
                    let again = bytes[at..end].to_vec();
                    bytes.splice(at..at, again);
                }
                4..7 => bytes[at] ^= 1 << self.below(8),
                _ => bytes[at] = self.below(256) as u8,
            }
        }
        bytes
    }

    pub fn below(&mut self, end: usize) -> usize {
        ((u64::from(self.0.next_u32()) * end as u64) >> 32) as usize
    }

    pub fn chance(&mut self, percent: usize) -> bool {
        self.below(100) < percent
    }

    pub fn pick<T: Copy>(&mut self, things: &[T]) -> T {
        things[self.below(things.len())]
    }

    pub fn maybe<T: Copy>(&mut self, percent: usize, things: &[T]) -> Option<T> {
        self.chance(percent).then(|| self.pick(things))
    }
}

/// A door, and what tries it.
type Door<'d> = (&'static str, Box<dyn Fn(u64) + Sync + 'd>);

/// A number of `/proc/self/status`, in KiB.
fn memory_kib(key: &str) -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with(key));
    line.and_then(|line| line.split_whitespace().nth(1)?.parse().ok()).unwrap_or(0)
}

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1).peekable();
    let door = arguments.next_if(|word| word.parse::<u64>().is_err());
    let mut number =
        |usual: u64| arguments.next().and_then(|word| word.parse().ok()).unwrap_or(usual);
    let (cases, seed) = (number(1_000_000), number(1));
    let (texts, files) = (texts::Texts::new(), files::Files::new());
    let doors: [Door<'_>; 7] = [
        ("reader", Box::new(reader::case)),
        ("json", Box::new(json::case)),
        ("schema", Box::new(|number| texts.schema(number))),
        ("survey", Box::new(|number| texts.survey(number))),
        ("filter", Box::new(|number| texts.filter(number))),
        ("parquet", Box::new(|number| files.parquet(number))),
        ("arrow", Box::new(|number| files.arrow(number))),
    ];
    if let Some(door) = &door
        && doors.iter().all(|(name, _)| name != door)
    {
        eprintln!("the doors are {}", doors.map(|(name, _)| name).join(", "));
        return ExitCode::from(2);
    }
    let door_of = |number: u64| match &door {
        Some(door) => doors.iter().find(|(name, _)| name == door).expect("it was looked for"),
        None if number.is_multiple_of(2) => &doors[0],
        None => &doors[1 + (number / 2 % 6) as usize],
    };
    let threads = std::thread::available_parallelism().map_or(1, NonZeroUsize::get) as u64;
    let (next, failed) = (AtomicU64::new(seed), AtomicU64::new(0));
    let running: Vec<AtomicU64> = (0..threads).map(|_| AtomicU64::new(u64::MAX)).collect();
    let warm = AtomicU64::new(0);
    std::panic::set_hook(Box::new(|_| {}));
    std::thread::scope(|scope| {
        for slot in &running {
            let (next, failed, warm, door_of) = (&next, &failed, &warm, &door_of);
            scope.spawn(move || {
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    if number >= seed + cases || failed.load(Ordering::Relaxed) > 0 {
                        return slot.store(u64::MAX, Ordering::Relaxed);
                    }
                    slot.store(number, Ordering::Relaxed);
                    let (name, door) = door_of(number);
                    let fail = |text: String| {
                        eprintln!("{name}, case {number}: {text}");
                        failed.fetch_add(1, Ordering::Relaxed);
                    };
                    let before = memory_kib("VmHWM:");
                    let ended =
                        std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| door(number)));
                    if let Err(panic) = ended {
                        let text = panic.downcast_ref::<String>().cloned();
                        let text =
                            text.or_else(|| panic.downcast_ref::<&str>().map(|s| (*s).into()));
                        fail(text.unwrap_or_default());
                    }
                    if memory_kib("VmHWM:") > before + MOST_KIB {
                        fail("takes too much memory".to_owned());
                    }
                    if number == seed + WARM {
                        warm.store(memory_kib("VmRSS:"), Ordering::Relaxed);
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
    let (warm, end) = (warm.into_inner(), memory_kib("VmRSS:"));
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
