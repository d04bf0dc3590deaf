//! The fast splitter: a block → the bounds of its fields, some thousand records at a time.
//!
//! What separates is found by the [walk](super::walk); here it becomes records. It is held against
//! [`PlainRecords`](super::PlainRecords) by a property test.

use super::text_records::TextRecords;
use super::unclosed::{swallowed, without_line_end};
use super::walk::{Events, Walk};
use super::{Block, Dialect, PlainRecord, PlainRecords};
use super::{Broken, BrokenKind};
use crate::readings::trim;
use crate::records::{Records, Split};

/// Splits one block, slice after slice.
#[derive(Debug)]
pub struct Splitter<'b> {
    text: &'b [u8],
    dialect: Dialect,
    walk: Walk,
    state: State,
    /// Ends of the fields of a record that goes on in the next slice.
    carried: Vec<u32>,
    /// What is wrong with the block, which is then one record.
    damage: Option<BrokenKind>,
    finished: bool,
}

/// Where the splitter stands between two events.
#[derive(Debug)]
struct State {
    dialect: Dialect,
    columns: usize,
    trailing_delimiter: bool,
    /// Whether fields that are left out at the end are absent.
    short_records: bool,
    has_cr: bool,
    /// Start of the record that is being read.
    record: u32,
    /// Line ends seen so far, and at the start of the record.
    line: u32,
    record_line: u32,
    /// Field of the record after whose closing quote there was text.
    text_after: Option<u32>,
}

impl State {
    /// Whether a CR before the end of a record at `at` belongs to the line end: before LF, and where CR
    /// alone means nothing also at the end of the text.
    fn drops_cr(&self, text: &[u8], at: usize) -> bool {
        text.get(at).map_or(!self.has_cr, |byte| *byte == b'\n')
    }
}

/// Makes records of what the walk finds.
struct Filler<'f> {
    records: &'f mut TextRecords,
    state: &'f mut State,
}

impl Events for Filler<'_> {
    const EACH: bool = true;

    #[inline(always)]
    fn field(&mut self, at: usize) {
        self.records.ends.push(at as u32);
    }

    #[inline(always)]
    fn record(&mut self, text: &[u8], at: usize) {
        self.state.line += 1;
        self.end_record(text, at, at + 1);
    }

    fn inner_lines(&mut self, count: u32) {
        self.state.line += count;
    }

    fn comment(&mut self, at: usize) {
        self.state.line += 1;
        self.start_record(at + 1);
    }

    fn text_after_quote(&mut self) {
        let before = self.records.ends.len() - self.records.len() * self.state.columns;
        self.state.text_after.get_or_insert(before as u32);
    }
}

impl Filler<'_> {
    /// The record ends at `at`; the next one starts at `next`.
    #[inline(always)]
    fn end_record(&mut self, text: &[u8], at: usize, next: usize) {
        let mut end = at as u32;
        let is_cr = at > 0 && text[at - 1] == b'\r';
        if is_cr && end > self.last_field() && self.state.drops_cr(text, at) {
            end -= 1;
        }
        let Filler { records, state } = self;
        let whole = (records.starts.len() + 1) * state.columns;
        let blank = end == state.record && state.columns > 1;
        if records.ends.len() + 1 == whole && state.text_after.is_none() && !blank {
            records.ends.push(end);
            self.take_record();
        } else {
            self.end_odd_record(text, end);
        }
        self.start_record(next);
    }

    /// The last field of the record starts here, behind the one before.
    fn last_field(&self) -> u32 {
        let Filler { records, state } = self;
        let is_first = records.ends.len() == records.starts.len() * state.columns;
        let before = records.ends.last().filter(|_| !is_first);
        before.map_or(state.record, |before| before + 1)
    }

    /// The record is one of those that are read.
    #[inline(always)]
    fn take_record(&mut self) {
        self.records.starts.push(self.state.record);
        self.records.lines.push(self.state.record_line);
    }

    /// A record with another number of fields, or with text behind a quote, or a blank line ends at `end`.
    #[cold]
    #[inline(never)]
    fn end_odd_record(&mut self, text: &[u8], end: u32) {
        let is_empty = self.state.trailing_delimiter && end == self.last_field();
        let Filler { records, state } = self;
        let found = records.ends.len() + 1 - records.starts.len() * state.columns;
        if is_empty && found == state.columns + 1 && state.text_after.is_none() {
            return self.take_record();
        }
        records.ends.push(end);
        self.set_aside(text, end as usize, is_empty);
    }

    #[inline]
    fn start_record(&mut self, at: usize) {
        self.state.record = at as u32;
        self.state.record_line = self.state.line;
    }

    #[cold]
    fn set_aside(&mut self, text: &[u8], end: usize, is_empty: bool) {
        let Filler { records, state } = self;
        let whole = records.starts.len() * state.columns;
        let found = (records.ends.len() - whole) as u32;
        let text_after = state.text_after.take();
        let expected = state.columns as u32;
        // A line of white space is a blank line, where a record has more than one field.
        let is_blank = found == 1 && trim(&text[state.record as usize..end]).is_empty();
        if state.short_records && text_after.is_none() && found < expected && !is_blank {
            // A delimiter at the end of the record separates nothing where that is usual.
            if is_empty && found > 1 {
                records.ends.pop();
            }
            let last = records.ends.last().copied().unwrap_or(state.record);
            records.ends.resize(whole + state.columns, last);
            records.starts.push(state.record);
            records.lines.push(state.record_line);
            return;
        }
        records.ends.truncate(whole);
        let record = &text[state.record as usize..end];
        if text_after.is_some()
            && let Some((first, records)) = swallowed(record, &state.dialect, state.columns)
        {
            return self.give_back(first, &records, text);
        }
        let kind = match text_after {
            Some(field) => BrokenKind::TextAfterQuote { field },
            None if is_blank => return,
            None => BrokenKind::FieldCount { found, expected },
        };
        self.broken(end, kind);
    }

    /// Sets the first line of a record aside, and takes the records behind it for what they are.
    fn give_back(&mut self, first: usize, swallowed: &[PlainRecord], text: &[u8]) {
        let (start, line) = (self.state.record, self.state.record_line);
        let line_text = &text[start as usize..start as usize + first];
        let end = start as usize + without_line_end(line_text, &self.state.dialect).len();
        self.broken(
            end,
            BrokenKind::NeverClosed { lines_before: line, lines: 1, next: Some(line + 1) },
        );
        let base = start + first as u32;
        for record in swallowed {
            self.records.starts.push(base + record.start as u32);
            self.records.lines.push(line + 1 + record.line as u32);
            self.records.ends.extend(record.fields.iter().map(|(_, end)| base + *end as u32));
        }
    }

    fn broken(&mut self, end: usize, kind: BrokenKind) {
        let row = self.records.starts.len() as u32;
        let (start, line) = (self.state.record, self.state.record_line);
        let missing = match kind {
            BrokenKind::FieldCount { found, expected } => expected.saturating_sub(found),
            _ => 0,
        };
        self.records.broken.push(Broken { start, end: end as u32, missing, line, row, kind });
    }
}

impl<'b> Splitter<'b> {
    /// Splits `block`, whose records have `columns` fields.
    pub fn new(block: &'b Block, dialect: &Dialect, columns: usize) -> Self {
        let damage = block.damage();
        Splitter { damage, ..Self::of_text(block.text(), dialect, columns) }
    }

    pub(super) fn of_text(text: &'b [u8], dialect: &Dialect, columns: usize) -> Self {
        assert!(u32::try_from(text.len()).is_ok(), "blocks are far below 4 GiB");
        Splitter {
            text,
            dialect: *dialect,
            walk: Walk::new(dialect),
            state: State {
                dialect: *dialect,
                columns: columns.max(1),
                trailing_delimiter: dialect.trailing_delimiter,
                short_records: dialect.short_records,
                has_cr: dialect.line_ends.has_cr(),
                record: 0,
                line: 0,
                record_line: 0,
                text_after: None,
            },
            carried: Vec::new(),
            damage: None,
            finished: text.is_empty(),
        }
    }

    /// The last record, where no line end ends it.
    fn finish(&mut self, records: &mut TextRecords) {
        self.finished = true;
        let (text, start) = (self.text, self.state.record as usize);
        if start >= text.len() || self.walk.is_comment(text) {
            return;
        }
        let is_quoted = self.walk.is_quoted();
        let mut filler = Filler { records, state: &mut self.state };
        if !is_quoted {
            return filler.end_record(text, text.len(), text.len());
        }
        let whole = filler.records.starts.len() * filler.state.columns;
        filler.records.ends.truncate(whole);
        // The walk does not keep where a quote was opened: it is asked once, here.
        let broken = PlainRecords::new(&text[start..], self.dialect).next().and_then(|r| r.broken);
        let opened = match broken {
            Some(BrokenKind::NeverClosed { lines_before, .. }) => lines_before,
            _ => 0,
        };
        let lines_before = filler.state.record_line + opened;
        let lines = self.dialect.line_ends.count(&text[start..]) as u32 + 1;
        filler.broken(text.len(), BrokenKind::NeverClosed { lines_before, lines, next: None });
    }
}

impl Split for Splitter<'_> {
    type Records = TextRecords;

    fn refill(&mut self, records: &mut TextRecords, most: usize) -> bool {
        records.clear(self.state.columns);
        if self.finished {
            return false;
        }
        let (text, columns) = (self.text, self.state.columns);
        if let Some(kind) = self.damage {
            self.finished = true;
            // A whole record stands without its line end, as others do.
            let end = match kind.is_whole() {
                true => without_line_end(text, &self.dialect).len(),
                false => text.len(),
            };
            Filler { records, state: &mut self.state }.broken(end, kind);
            return true;
        }
        records.ends.append(&mut self.carried);
        let mut filler = Filler { records, state: &mut self.state };
        while self.walk.at() < text.len() && filler.records.len() < most {
            self.walk.stride(text, text.len(), &mut filler);
        }
        if self.walk.at() >= text.len() {
            self.finish(records);
        } else {
            let whole = records.len() * columns;
            self.carried.extend(records.ends.drain(whole..));
        }
        true
    }
}

#[cfg(test)]
mod tests {
    use super::super::testing::dialect_and_text;
    use super::super::walk::STRIDE;
    use super::*;
    use crate::records::{Split, Values};
    use proptest::prelude::*;

    /// What both splitters are asked for: values and line of whole records, and the broken ones.
    type WholeAndBroken = (Vec<(Vec<Vec<u8>>, u32)>, Vec<(u32, u32, u32, BrokenKind)>);

    fn fast(text: &[u8], dialect: &Dialect, columns: usize, most: usize) -> WholeAndBroken {
        let mut splitter = Splitter::of_text(text, dialect, columns);
        let (mut whole, mut broken) = (Vec::new(), Vec::new());
        let (mut records, mut scratch) = (TextRecords::default(), Vec::new());
        while splitter.refill(&mut records, most) {
            for row in 0..records.len() {
                let value = |column| {
                    let (start, end) = records.bounds(row, column);
                    dialect.value(&text[start..end], &mut scratch).to_vec()
                };
                whole.push(((0..columns).map(value).collect(), records.line(row)));
            }
            broken.extend(records.broken().iter().map(|b| (b.start, b.end, b.line, b.kind)));
        }
        (whole, broken)
    }

    fn plain(text: &[u8], dialect: &Dialect, columns: usize) -> WholeAndBroken {
        let (mut whole, mut broken) = (Vec::new(), Vec::new());
        let mut scratch = Vec::new();
        for mut record in PlainRecords::new(text, *dialect) {
            let is_trailing = record.fields.len() == columns + 1 && record.ends_in_delimiter();
            if dialect.trailing_delimiter && is_trailing && record.broken.is_none() {
                record.fields.pop();
            }
            let (found, expected) = (record.fields.len() as u32, columns as u32);
            let field_start = record.fields.last().unwrap().1;
            let swallowed = match record.broken {
                Some(BrokenKind::TextAfterQuote { .. }) => {
                    swallowed(&text[record.start..field_start], dialect, columns)
                }
                _ => None,
            };
            if let Some((first, inner)) = swallowed {
                let line = record.line as u32;
                let first_line = &text[record.start..record.start + first];
                let end = record.start + without_line_end(first_line, dialect).len();
                let kind =
                    BrokenKind::NeverClosed { lines_before: line, lines: 1, next: Some(line + 1) };
                broken.push((record.start as u32, end as u32, line, kind));
                for one in inner {
                    let base = record.start + first;
                    let values = one.fields.iter().map(|(start, end)| {
                        dialect.value(&text[base + start..base + end], &mut scratch).to_vec()
                    });
                    whole.push((values.collect(), line + 1 + one.line as u32));
                }
                continue;
            }
            let kind = match record.broken {
                None if columns > 1 && record.is_blank(text) => continue,
                None if dialect.short_records && found < expected => None,
                None if found != expected => Some(BrokenKind::FieldCount { found, expected }),
                other => other,
            };
            match kind {
                Some(kind) => {
                    let end = record.fields.last().unwrap().1;
                    broken.push((record.start as u32, end as u32, record.line as u32, kind));
                }
                None => {
                    let values = record.fields.iter().map(|(start, end)| {
                        dialect.value(&text[*start..*end], &mut scratch).to_vec()
                    });
                    let mut values: Vec<Vec<u8>> = values.collect();
                    values.resize(columns, Vec::new());
                    whole.push((values, record.line as u32));
                }
            }
        }
        (whole, broken)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]
        #[test]
        fn any_bytes_split_as_the_plain_splitter_does(
            (dialect, text) in dialect_and_text(400), columns in 1usize..4, most in 1usize..5,
        ) {
            prop_assert_eq!(fast(&text, &dialect, columns, most), plain(&text, &dialect, columns));
        }

        /// What anybody would write, the `csv` crate reads the same.
        #[test]
        fn well_formed_text_splits_as_the_csv_crate_does(
            rows in proptest::collection::vec(proptest::collection::vec("[a-z ,;\"\n\r]{0,70}", 3), 0..30),
            always: bool, crlf: bool, delimiter in prop_oneof![Just(b','), Just(b';')], most in 1usize..5,
        ) {
            let style = if always { csv::QuoteStyle::Always } else { csv::QuoteStyle::Necessary };
            let end = if crlf { csv::Terminator::CRLF } else { csv::Terminator::Any(b'\n') };
            let mut writer = csv::WriterBuilder::new()
                .quote_style(style).terminator(end).delimiter(delimiter).from_writer(Vec::new());
            rows.iter().for_each(|row| writer.write_record(row).unwrap());
            let text = writer.into_inner().unwrap();
            let mut oracle = csv::ReaderBuilder::new()
                .has_headers(false).delimiter(delimiter).from_reader(&text[..]);
            let want: Vec<Vec<Vec<u8>>> = oracle
                .byte_records()
                .map(|record| record.unwrap().iter().map(<[u8]>::to_vec).collect())
                .collect();
            let dialect = Dialect { delimiter, ..Dialect::RFC_4180 };
            let (whole, broken) = fast(&text, &dialect, 3, most);
            prop_assert_eq!(broken, []);
            prop_assert_eq!(whole.into_iter().map(|(values, _)| values).collect::<Vec<_>>(), want);
        }
    }

    #[test]
    fn records_longer_than_a_stride_are_whole() {
        let long = "x".repeat(3 * STRIDE);
        let text = format!("a,b\n{long},\"{long}\n\"\nc,d\n");
        let (whole, broken) = fast(text.as_bytes(), &Dialect::RFC_4180, 2, 1);
        assert_eq!(broken, []);
        assert_eq!(whole.len(), 3);
        assert_eq!(whole[1].0[1].len(), long.len() + 1);
        assert_eq!(whole[2].1, 3, "the line break inside quotes counts as a line");
    }

    #[test]
    fn retain_keeps_the_records_asked_for() {
        let text = b"a,b\nc,d\ne,f\n";
        let mut splitter = Splitter::of_text(text, &Dialect::RFC_4180, 2);
        let mut records = TextRecords::default();
        splitter.refill(&mut records, 10);
        records.retain(|row| row != 1);
        assert_eq!(records.len(), 2);
        let (start, end) = records.record(1);
        assert_eq!(&text[start..end], b"e,f");
        assert_eq!(records.line(1), 2);
        assert_eq!(records.bounds(1, 1), (10, 11));
        assert_eq!(records.column(0, 0..2).collect::<Vec<_>>(), [(0, 1), (8, 9)]);
        assert_eq!(records.column(1, 0..2).collect::<Vec<_>>(), [(2, 3), (10, 11)]);
    }
}
