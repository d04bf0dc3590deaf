//! The reader: any text, any dialect, any blocks. Each case opens a text as an input (with a dialect partly said and
//! partly found), reads it in blocks of two sizes, and holds both against the plain splitter; one case in 64 goes
//! through a whole survey and draft as well.

use std::num::NonZeroUsize;

use typhos_core::infer::{DraftOptions, Rules, decide, draft};
use typhos_core::records::{Records, Split};
use typhos_core::run::{NoMonitor, RunOptions};
use typhos_core::survey::{Survey, SurveyOptions};
use typhos_core::text::{
    Block, BlockReader, BrokenKind, Charset, ColumnsDiffer, Escape, Input, InputChoice,
    InputFormat, LineEnds, PlainRecord, PlainRecords, QuotedEmpty, ShortRecords, Splitter,
    TextRecords,
};

use crate::Dice;

impl Dice {
    fn choice(&mut self) -> InputChoice {
        InputChoice {
            format: Some(InputFormat::Delimited),
            delimiter: self.maybe(40, b",;\t| :\x1f\\"),
            quote: self.maybe(40, &[Some(b'"'), Some(b'\''), None]),
            escape: self.maybe(30, Escape::ALL),
            line_ends: self.maybe(30, LineEnds::ALL),
            comment: self.maybe(30, &[Some(b'#'), Some(b'%'), None]),
            trailing_delimiter: self.maybe(20, &[true, false]),
            header: self.maybe(60, &[true, false]),
            skip: self.maybe(20, &[0, 1, 2, 9]),
            skip_below: self.maybe(10, &[0, 1, 3]),
            skip_end: self.maybe(10, &[1, 2, 9]),
            short_records: self.maybe(20, ShortRecords::ALL),
            undeclared: None,
            names: self.chance(5).then(|| vec!["a".into(), "b".into()]),
            encoding: ["utf-8", "windows-1252", "cp850", "shift_jis"]
                .get(self.below(40))
                .and_then(|label| Charset::parse(label).ok()),
            columns_differ: self.maybe(5, ColumnsDiffer::ALL),
            quoted_empty: self.maybe(20, QuotedEmpty::ALL),
            record_limit: None,
            depth_limit: None,
            field_limit: None,
            unnest: None,
            without_elements: None,
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
    let (mut block, mut records, mut all) = (Block::default(), TextRecords::default(), Vec::new());
    while reader.next(&mut block).expect("bytes in memory can be read") {
        let mut splitter = Splitter::new(&block, &layout.dialect, layout.fields);
        while splitter.refill(&mut records, most) {
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

/// A text without its last lines.
fn above_end(text: &[u8], ends: LineEnds, lines: u32) -> &[u8] {
    let is_end = |at: &usize| match text[*at] {
        b'\n' => true,
        b'\r' => ends.has_cr() && text.get(at + 1) != Some(&b'\n'),
        _ => false,
    };
    let mut ends: Vec<usize> = (0..text.len()).filter(is_end).map(|at| at + 1).collect();
    if ends.last() != Some(&text.len()) {
        ends.push(text.len());
    }
    match lines as usize {
        0 => text,
        lines if lines < ends.len() => &text[..ends[ends.len() - lines - 1]],
        _ => &[],
    }
}

/// Runs one case; panics where anything is wrong.
pub fn case(number: u64) {
    let mut dice = Dice::of(number);
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
    let below = above_end(&text, layout.dialect.line_ends, choice.skip_end.unwrap_or(0));
    let below = below.get(file.data_start as usize..).unwrap_or_default();
    // A quote that is not closed where it should be is mended by the reader alone: what stands above it is compared.
    let is_unclosed = |record: &PlainRecord| {
        let mut text = below[record.start..record.next].trim_ascii_end().iter();
        matches!(record.broken, Some(BrokenKind::NeverClosed { .. }))
            || record.broken.is_some() && text.any(|byte| matches!(byte, b'\r' | b'\n'))
    };
    let mut is_mended = false;
    let plain = PlainRecords::new(below, layout.dialect).take_while(|record| {
        is_mended |= is_unclosed(record);
        !is_mended
    });
    let plain: Vec<_> = plain
        .filter(|record| layout.fields == 1 || !record.is_blank(below))
        .map(|record| {
            let trailing = layout.dialect.trailing_delimiter
                && record.broken.is_none()
                && (record.fields.len() == layout.fields + 1
                    || layout.dialect.short_records
                        && (2..layout.fields).contains(&record.fields.len()))
                && record.ends_in_delimiter();
            let last = record.fields[record.fields.len() - 1 - usize::from(trailing)];
            (file.first_line + record.line as u64, below[record.start..last.1].to_vec())
        })
        .collect();
    let mut same: Vec<_> = whole.iter().map(|(line, record, _)| (*line, record.clone())).collect();
    if is_mended {
        same.truncate(plain.len());
    }
    assert_eq!(same, plain, "the plain splitter");

    if number.is_multiple_of(64) {
        let threads = NonZeroUsize::new(1 + dice.below(2)).unwrap_or(NonZeroUsize::MIN);
        let options = RunOptions { threads, block_bytes };
        let survey = Survey::take(&input, &SurveyOptions::default(), &options, &NoMonitor)
            .expect("nothing stops it");
        assert_eq!(survey.records + survey.broken, whole.len() as u64, "the account");
        let decisions = decide(&survey, &Rules::default());
        let drafted = draft(&survey, &decisions, &DraftOptions::default()).to_toml();
        if let Err(wrong) = typhos_core::read_schema(&drafted) {
            panic!("the draft does not read back: {wrong:?}\n{drafted}");
        }
    }
}
