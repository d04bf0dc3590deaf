//! What stands below a table: totals and remarks, told and never dropped unasked.

use super::Glance;
use crate::text::{Dialect, PlainRecord, PlainRecords};
use crate::wording::{counted, shown};

/// Records at the end that may be something else.
const MOST_UNLIKE: usize = 10;

/// Records before them that a table has at least.
const LEAST_LIKE: usize = 3;

/// First words of a line that sums up, in a few languages, in small letters.
const SUMS: [&str; 22] = [
    "total",
    "totals",
    "grand total",
    "subtotal",
    "sub-total",
    "sum",
    "average",
    "mean",
    "summe",
    "gesamt",
    "gesamtsumme",
    "insgesamt",
    "totaal",
    "totale",
    "total general",
    "somme",
    "suma",
    "razem",
    "итого",
    "всего",
    "合計",
    "总计",
];

/// How many lines at the end of a file are unlike the records above them, and what they look like. `tail` is
/// the end of the text, from the start of a line.
pub fn find_end(tail: &[u8], dialect: &Dialect, fields: usize) -> Option<(u32, String)> {
    if fields < 2 {
        return None;
    }
    let records: Vec<PlainRecord> =
        PlainRecords::new(tail, *dialect).filter(|record| !record.is_blank(tail)).collect();
    let unlike = |record: &&PlainRecord| what(record, tail, dialect, fields).is_some();
    // Nothing but delimiters stands between totals and remarks, and between those and records.
    let is_empty = |record: &&PlainRecord| {
        record.texts(tail, dialect).iter().all(|text| text.trim().is_empty())
    };
    let count = records.iter().rev().take_while(|r| unlike(r) || is_empty(r)).count();
    let above = &records[..records.len() - count];
    if !records[above.len()..].iter().any(|record| unlike(&record)) {
        return None;
    }
    if !(1..=MOST_UNLIKE).contains(&count) || above.len() < LEAST_LIKE {
        return None;
    }
    // Where records above look like that too, it is how records of this file look.
    if above.iter().filter(unlike).count() > 0 {
        return None;
    }
    let first = &records[above.len()];
    let kinds: Vec<What> = records[above.len()..]
        .iter()
        .filter_map(|record| what(record, tail, dialect, fields))
        .collect();
    let kind = match (kinds.contains(&What::Sum), kinds.contains(&What::Remark)) {
        (true, true) => "totals and remarks",
        (true, false) => "totals",
        _ => "remarks",
    };
    let start = first.start;
    let lines = dialect.line_ends.count(&tail[start..]);
    let lines = lines + usize::from(!tail.ends_with(b"\n") && !tail.ends_with(b"\r"));
    let lines = u32::try_from(lines).ok()?;
    let text = first.texts(tail, dialect).into_iter().find(|text| !text.trim().is_empty())?;
    let are = if lines == 1 { "looks" } else { "look" };
    Some((
        lines,
        format!("{} at the end {are} like {kind}: {}", counted(lines.into(), "line"), shown(&text)),
    ))
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum What {
    Sum,
    Remark,
}

/// What a record is that is unlike those of the table.
fn what(record: &PlainRecord, text: &[u8], dialect: &Dialect, fields: usize) -> Option<What> {
    let values = record.texts(text, dialect);
    let mut full = values.iter().map(|value| value.trim()).filter(|value| !value.is_empty());
    let first = full.next()?;
    let is_lone = full.next().is_none();
    let word = first.trim_end_matches([':', '.']).to_lowercase();
    if SUMS.contains(&&word[..]) && (!is_lone || values.len() < fields) {
        return Some(What::Sum);
    }
    // A lone text of more than a word, in a line of its own.
    let is_text = Glance::of(first.as_bytes()) == Glance::Text && first.contains([' ', ':']);
    let is_fewer = values.len() == 1 || is_lone && fields > 2;
    // Or of a few texts, where records have many fields.
    let is_bare = values.len() * 2 < fields
        && fields > 4
        && values.iter().all(|value| Glance::of(value.as_bytes()) == Glance::Text);
    (is_text && is_fewer && is_lone || is_bare).then_some(What::Remark)
}
