//! Finds the dialect of a text from its head, and says why.
//!
//! The delimiter is the one that splits most records into the same number of fields. Whether there
//! is a header is seen by comparing the first record with those below it: a name above a column of
//! numbers is no number.

use std::collections::HashMap;

use super::{Dialect, DialectChoice, PlainRecord, PlainRecords, delimiter_name};
use crate::dates::read_shape;
use crate::readings::{bool_word, parse_number, trim};

/// Delimiters that are looked for, the least likely to stand in a value first: between two that
/// split equally well, the earlier one wins (`1,5;2,5` is two fields, not three).
const CANDIDATES: [u8; 5] = [0x1f, b'\t', b'|', b';', b','];

/// Records that are looked at.
const SAMPLE_RECORDS: usize = 500;

/// Share of records that must have the same number of fields for a delimiter to be one.
const CONSISTENT: f64 = 0.6;

/// Why a dialect was found to be what it is, for a person.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Finding {
    /// Why this delimiter.
    pub delimiter: String,
    /// Why a header or none.
    pub header: String,
    /// Why this encoding.
    pub encoding: String,
}

/// Finds what `choice` leaves open. `whole` says that `head` is all of the text.
pub fn sniff(head: &[u8], choice: &DialectChoice, whole: bool) -> (Dialect, Finding) {
    let quote = choice.quote.unwrap_or(Some(b'"'));
    let mut finding = Finding::default();
    let delimiter = match choice.delimiter {
        Some(delimiter) => {
            finding.delimiter = "as said".into();
            delimiter
        }
        None => {
            let (delimiter, why) = find_delimiter(head, quote, whole);
            finding.delimiter = why;
            delimiter
        }
    };
    let mut dialect = Dialect { delimiter, quote, header: true };
    dialect.header = match choice.header {
        Some(header) => {
            finding.header = "as said".into();
            header
        }
        None => {
            let (header, why) = find_header(head, dialect, whole);
            finding.header = why;
            header
        }
    };
    (dialect, finding)
}

/// The records of a sample; a last one that the end of the head has cut is left out.
fn sample(head: &[u8], dialect: Dialect, whole: bool) -> impl Iterator<Item = PlainRecord> {
    PlainRecords::new(head, dialect)
        .filter(move |record| !record.is_blank() && (record.complete || whole))
        .take(SAMPLE_RECORDS)
}

fn find_delimiter(head: &[u8], quote: Option<u8>, whole: bool) -> (u8, String) {
    let mut best: Option<(f64, u8, usize, usize)> = None;
    let mut any_splits = false;
    for delimiter in CANDIDATES {
        let dialect = Dialect { delimiter, quote, header: true };
        let mut counts: HashMap<usize, usize> = HashMap::new();
        let mut records = 0usize;
        for record in sample(head, dialect, whole) {
            records += 1;
            if record.broken.is_none() {
                *counts.entry(record.fields.len()).or_default() += 1;
            }
        }
        let many = counts.into_iter().filter(|(fields, _)| *fields > 1);
        let most = many.max_by_key(|(fields, count)| (*count, *fields));
        any_splits |= most.is_some();
        let Some((fields, agreeing)) = most else { continue };
        let share = agreeing as f64 / records as f64;
        if share >= CONSISTENT && best.is_none_or(|(known, ..)| share > known + 0.01) {
            best = Some((share, delimiter, fields, records));
        }
    }
    match best {
        Some((share, delimiter, fields, records)) => {
            let all = if share == 1.0 {
                "all of".into()
            } else {
                format!("{:.0} % of", (share * 100.0).floor())
            };
            (delimiter, format!("splits {all} the first {records} records into {fields} fields"))
        }
        None if any_splits => {
            (b',', format!("assumed: none of {} splits the records evenly", names()))
        }
        None => (b',', format!("one column: there is none of {} in it", names())),
    }
}

fn names() -> String {
    CANDIDATES.map(delimiter_name).join(", ")
}

/// What a value looks like at a glance.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Glance {
    /// Digits and no letters (numbers however they are grouped, dates), or what a reading takes.
    Figure,
    /// A word of a boolean pair. Above figures `n` and `t` are names like any other.
    Bool,
    Text,
}

fn glance(value: &str) -> Glance {
    let value = trim(value.as_bytes());
    let digits = value.iter().any(u8::is_ascii_digit);
    let letters = value.iter().any(|byte| byte.is_ascii_alphabetic() || !byte.is_ascii());
    if digits && !letters || parse_number(value).is_some() || read_shape(value).is_some() {
        Glance::Figure
    } else if bool_word(value).is_some() {
        Glance::Bool
    } else {
        Glance::Text
    }
}

fn find_header(head: &[u8], dialect: Dialect, whole: bool) -> (bool, String) {
    let mut records = sample(head, dialect, whole).map(|record| record.texts(head, &dialect));
    let Some(first) = records.next() else { return (true, "nothing to compare".into()) };
    let rows: Vec<_> = records.filter(|row| row.len() == first.len()).take(200).collect();
    if rows.is_empty() {
        let header = !first.iter().any(|value| glance(value) == Glance::Figure);
        let why =
            if header { "the only record is all text" } else { "the only record has values in it" };
        return (header, why.into());
    }
    let mut names_above_values = 0;
    let mut value_on_top = None;
    let mut repeated = None;
    for (column, name) in first.iter().enumerate() {
        let mut below = rows
            .iter()
            .map(|row| &row[column])
            .filter(|value| !trim(value.as_bytes()).is_empty())
            .peekable();
        if below.peek().is_none() {
            continue;
        }
        let all_below = |look: Glance| below.clone().all(|value| glance(value) == look);
        match glance(name) {
            Glance::Figure => {
                value_on_top.get_or_insert(name);
            }
            Glance::Bool if all_below(Glance::Bool) => {
                value_on_top.get_or_insert(name);
            }
            Glance::Text if name.trim().is_empty() => {}
            Glance::Text if all_below(Glance::Bool) => names_above_values += 1,
            _ if all_below(Glance::Figure) => names_above_values += 1,
            _ => {}
        }
        if below.any(|value| value == name) {
            repeated.get_or_insert(name);
        }
    }
    let unnamed = first.iter().filter(|name| name.trim().is_empty()).count();
    match (names_above_values, value_on_top, repeated) {
        (1.., None, _) => {
            let plural =
                if names_above_values == 1 { "column that is" } else { "columns that are" };
            (true, format!("the first record is text above {names_above_values} {plural} not"))
        }
        (_, Some(value), _) => {
            (false, format!("'{value}' in the first record is a value, not a name"))
        }
        (_, None, Some(value)) => {
            (false, format!("'{value}' in the first record also stands below it"))
        }
        (_, None, None) if unnamed * 2 > first.len() => {
            (false, "most of the first record is blank".into())
        }
        (_, None, None) => (true, "likely: all columns are text and no name recurs below".into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(text: &str) -> (u8, bool) {
        let (dialect, _) = sniff(text.as_bytes(), &DialectChoice::default(), true);
        (dialect.delimiter, dialect.header)
    }

    #[test]
    fn delimiters_and_headers() {
        for (text, delimiter, header) in [
            ("a,b\n1,2\n", b',', true),
            ("a;b\n1,5;2,5\n3,5;4,5\n", b';', true),
            ("1,5;2,5\n3,5;4,5\n", b';', false),
            ("a\tb\n1,2\t3\n", b'\t', true),
            ("a|b\n1|2\n", b'|', true),
            ("a\u{1f}b\n1,2\u{1f}2\n", 0x1f, true),
            ("name,town\nAda,Skerrow\nBo,Holm\n", b',', true),
            ("Ada,Skerrow\nBo,Holm\nCy,Holm\nAda,Skerrow\n", b',', false),
            ("2024-01-01,a\n2024-01-02,b\n", b',', false),
            ("word\nother words, and more\nlast\n", b',', true),
            ("a,b\n\"x,\n;;;\",1\n\"y;;;\",2\n", b',', true),
            ("id,2019,2020\nx,1,2\n", b',', false),
            ("n,t\n1,x\n", b',', true),
            ("t,x\nf,x\n", b',', false),
            ("paid,x\nf,y\n", b',', true),
        ] {
            assert_eq!(found(text), (delimiter, header), "{text:?}");
        }
    }

    #[test]
    fn what_was_said_is_not_looked_for() {
        let choice = DialectChoice {
            delimiter: Some(b';'),
            header: Some(false),
            quote: Some(None),
            encoding: None,
        };
        let (dialect, finding) = sniff(b"a,b\n1,2\n", &choice, true);
        assert_eq!(dialect, Dialect { delimiter: b';', quote: None, header: false });
        assert_eq!(finding.delimiter, "as said");
    }
}
