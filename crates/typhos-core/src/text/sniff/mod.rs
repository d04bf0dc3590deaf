//! Finds the dialect of a text from its head, and says why.
//!
//! The delimiter and the quote are those that split most records into the same number of fields
//! ([`layout`]). What stands above the table is told from it by its number of fields ([`table`]). Whether
//! the first record is a header is seen by comparing it with those below: a name above a column of
//! numbers is not a number ([`header`]).

mod aligned;
mod end;
mod header;
mod layout;
mod short;
mod table;

pub use end::find_end;

use std::cell::RefCell;
use std::collections::VecDeque;
use std::ops::Range;
use std::rc::Rc;

use super::{
    BrokenKind, Dialect, InputChoice, LineEnds, PlainRecord, PlainRecords, ShortRecords,
    delimiter_name,
};
use crate::dates::read_shape;
use crate::readings::{bool_word, parse_number, token, trim};

/// Records that are looked at.
const SAMPLE_RECORDS: usize = 500;

/// Fields that are looked at, where records are so long that fewer of them say as much: with all 500 of four hundred columns
/// each, finding the dialect took a sixth of `scout`.
const SAMPLE_FIELDS: usize = 65_536;

/// Records that are looked at however long they are.
const FEWEST_RECORDS: usize = 150;

/// Why a dialect was found to be what it is, for a person. What is empty goes without saying.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Finding {
    /// Why this delimiter.
    pub delimiter: String,
    /// Why this quote.
    pub quote: String,
    /// Why this escape.
    pub escape: String,
    /// Why these line ends.
    pub line_ends: String,
    /// Why these lines are skipped.
    pub skip: String,
    /// Why these lines below the header are.
    pub skip_below: String,
    /// Why fields that are left out at the end of a record are absent.
    pub short_records: String,
    /// Why these are comments.
    pub comment: String,
    /// Why the last delimiter of a record separates nothing.
    pub trailing_delimiter: String,
    /// Why a header or none.
    pub header: String,
    /// Why this encoding.
    pub encoding: String,
    /// Whether the encoding is only likely: judged by the words it makes.
    pub is_likely_encoding: bool,
}

/// What was found of a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// How it is laid out.
    pub dialect: Dialect,
    /// Fields of most of its records.
    pub fields: usize,
    /// Whether the header has one field less than the records: the first column, of row names, has no
    /// name.
    pub has_short_header: bool,
    /// Why.
    pub finding: Finding,
}

/// Said by a person: there is nothing to be found.
const SAID: &str = "as said";

/// What comments start with: the first of them wherever it stands, the others where a text starts with them.
const MARKS: [u8; 3] = *b"#%!";

/// Finds what `choice` leaves open. `whole` says that `head` is all of the text, and `known` keeps its records for the next time.
pub fn sniff(head: &[u8], choice: &InputChoice, whole: bool, known: &Known) -> Found {
    let mut finding = Finding::default();
    let mut skip = choice.skip.unwrap_or(0);
    if choice.skip.is_some_and(|lines| lines > 0) {
        finding.skip = SAID.into();
    }
    let mut choice = choice.clone();
    if choice.skip.is_none()
        && let Some(delimiter) = table::delimiter_hint(head)
    {
        finding.skip = "the first line only names the delimiter".into();
        skip = 1;
        if choice.delimiter.is_none() {
            choice.delimiter = Some(delimiter);
            finding.delimiter = "named by the first line".into();
        }
    }
    let text = &head[after_lines(head, skip, choice.line_ends.unwrap_or(LineEnds::Mixed))..];
    let sample = Sample::new(text, whole, known);

    let layout = layout::find(sample, &choice, &mut finding);
    let mut dialect = layout.dialect;
    let mut fields = layout.fields;
    dialect.skip = skip;
    if let Some(said) = choice.short_records {
        dialect.short_records = said == ShortRecords::Absent;
        finding.short_records = SAID.into();
    }
    table::find_comments(sample, &mut dialect, fields, &choice, &mut finding);
    table::find_trailing(sample, &mut dialect, &mut fields, &choice, &mut finding);
    // Where nothing splits the records evenly, nobody knows which of them are none.
    if choice.skip.is_none() && !finding.delimiter.starts_with(layout::ASSUMED) {
        table::find_start(sample, &mut dialect, fields, &mut finding);
    }
    let above = after_lines(text, dialect.skip - skip, LineEnds::Mixed);
    let sample = Sample { text: &text[above..], ..sample };
    let has_short_header =
        !dialect.short_records && table::has_short_header(sample, dialect, fields);
    dialect.header = header::find(sample, dialect, has_short_header, &choice, &mut finding);
    let is_open = choice.skip.is_none() && choice.header.is_none() && choice.comment.is_none();
    let named = (is_open && !dialect.header && choice.names.is_none())
        .then(|| table::find_commented_names(sample, &mut dialect, fields, &mut finding));
    let named = named.flatten().unwrap_or(0);
    let sample = Sample { text: &sample.text[named..], ..sample };
    table::find_below(sample, &mut dialect, fields, &choice, &mut finding);
    dialect.line_ends = layout::line_ends_of(sample, dialect, &choice, &mut finding);
    Found { dialect, fields, has_short_header: has_short_header && dialect.header, finding }
}

/// Offset behind so many lines.
pub(super) fn after_lines(text: &[u8], lines: u32, line_ends: LineEnds) -> usize {
    let mut at = 0;
    for _ in 0..lines {
        if at == text.len() {
            break;
        }
        at += line_ends.after_first(&text[at..]);
    }
    at
}

/// Records of one text by the ways it was split last: the same ones are asked for again and again.
#[derive(Debug, Default)]
pub struct Known(RefCell<VecDeque<(Splitting, Rc<[PlainRecord]>)>>);

/// Where a text starts and ends, and how it is split.
type Splitting = (Range<*const u8>, Dialect);

/// Ways to split of which the records are kept.
const MOST_KNOWN: usize = 4;

/// The head of a text, from where its table could start.
#[derive(Clone, Copy)]
struct Sample<'h> {
    text: &'h [u8],
    whole: bool,
    /// What comments would start with.
    mark: u8,
    known: &'h Known,
}

impl<'h> Sample<'h> {
    fn new(text: &'h [u8], whole: bool, known: &'h Known) -> Sample<'h> {
        let first = text.iter().find(|byte| !byte.is_ascii_whitespace());
        let mark = first.copied().filter(|byte| MARKS.contains(byte)).unwrap_or(MARKS[0]);
        Sample { text, whole, mark, known }
    }

    /// Whether a record starts as a comment would.
    fn is_marked(&self, record: &PlainRecord) -> bool {
        self.text[record.start] == self.mark
    }

    /// Whether a line starts as a comment would.
    fn has_marks(&self) -> bool {
        let marks = memchr::memchr_iter(self.mark, self.text);
        marks.into_iter().any(|at| at == 0 || matches!(self.text[at - 1], b'\n' | b'\r'))
    }

    /// Its records, blank ones left out, and a last one that the end of the head has cut.
    fn records(self, dialect: Dialect) -> Rc<[PlainRecord]> {
        // Nothing else changes what is split.
        let Dialect { delimiter, quote, escape, line_ends, comment, .. } = dialect;
        let alike = Dialect { delimiter, quote, escape, line_ends, comment, ..Dialect::RFC_4180 };
        let splitting = (self.text.as_ptr_range(), alike);
        let mut known = self.known.0.borrow_mut();
        if let Some((_, records)) = known.iter().find(|(other, _)| *other == splitting) {
            return records.clone();
        }
        let records: Rc<[PlainRecord]> = self.split(dialect).collect();
        known.truncate(MOST_KNOWN - 1);
        known.push_front((splitting, records.clone()));
        records
    }

    fn split(self, dialect: Dialect) -> impl Iterator<Item = PlainRecord> {
        let mut all = PlainRecords::new(self.text, dialect);
        // A quote that is never closed is not a reason to see nothing of what stands behind it.
        let going_on = std::iter::from_fn(move || {
            let record = all.next()?;
            if record.broken.is_some_and(BrokenKind::is_never_closed) {
                all.go_on_behind(&record);
            }
            Some(record)
        });
        going_on
            .filter(move |record| !record.is_blank(self.text) && (record.complete || self.whole))
            .take(SAMPLE_RECORDS)
            .scan((0, 0), |(records, fields), record| {
                *records += 1;
                *fields += record.fields.len();
                (*records <= FEWEST_RECORDS || *fields <= SAMPLE_FIELDS).then_some(record)
            })
    }
}

/// What a value looks like at a glance.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Glance {
    Blank,
    /// A token that means "no value".
    Absent,
    /// Digits with a sign at most.
    Integer,
    /// Another number, or digits and marks and no letters.
    Number,
    /// A date or a time.
    Date,
    /// A word of a boolean pair. Above figures `n` and `t` are names like any other.
    Bool,
    Text,
}

impl Glance {
    fn of(value: &[u8]) -> Glance {
        let value = trim(value);
        let all_digits = |value: &[u8]| value.iter().all(u8::is_ascii_digit);
        match value {
            [] => return Glance::Blank,
            // Nearly all fields of a wide file are these.
            [b'-', rest @ ..] if !rest.is_empty() && all_digits(rest) => return Glance::Integer,
            _ if all_digits(value) => return Glance::Integer,
            _ => {}
        }
        let digits = value.iter().any(u8::is_ascii_digit);
        let letters = value.iter().any(|byte| byte.is_ascii_alphabetic() || !byte.is_ascii());
        if digits && read_shape(value).is_some() {
            Glance::Date
        } else if token(value).is_some() {
            Glance::Absent
        } else if digits && !letters || parse_number(value).is_some() {
            Glance::Number
        } else if bool_word(value).is_some() {
            Glance::Bool
        } else {
            Glance::Text
        }
    }

    /// Whether it is a value and cannot well be a name.
    fn is_figure(self) -> bool {
        matches!(self, Glance::Integer | Glance::Number | Glance::Date)
    }
}

#[cfg(test)]
mod tests;
