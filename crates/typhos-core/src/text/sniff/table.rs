//! Where the table is: lines above it, comments in it, and a delimiter at the end of its records.

use std::collections::HashSet;

use super::{Finding, Glance, SAID, Sample};
use crate::text::{Dialect, InputChoice, PlainRecord, PlainRecords};
use crate::wording::counted;

/// Lines above a table that are looked through for its start.
const MOST_ABOVE: usize = 60;

/// The delimiter that a first line of the form `sep=;` names, as spreadsheets write and read it.
pub(super) fn delimiter_hint(head: &[u8]) -> Option<u8> {
    let line = head.split(|byte| matches!(byte, b'\n' | b'\r')).next()?;
    let line =
        line.strip_prefix(b"\"").map_or(line, |inner| inner.strip_suffix(b"\"").unwrap_or(inner));
    match line {
        [s, e, p, b'=', delimiter] if [*s, *e, *p].eq_ignore_ascii_case(b"sep") => Some(*delimiter),
        _ => None,
    }
    .filter(|byte| byte.is_ascii() && !byte.is_ascii_alphanumeric() && *byte != b'"')
}

/// Comments start with `#`, and unlike records most do not split into the fields of the table.
pub(super) fn find_comments(
    sample: Sample<'_>,
    dialect: &mut Dialect,
    fields: usize,
    choice: &InputChoice,
    finding: &mut Finding,
) {
    if let Some(said) = choice.comment {
        dialect.comment = said;
        finding.comment = SAID.into();
        return;
    }
    if dialect.delimiter == b'#' {
        return;
    }
    let is_mark = |record: &&PlainRecord| sample.text[record.start] == b'#';
    let records: Vec<PlainRecord> = sample.records(*dialect).collect();
    let marked: Vec<&PlainRecord> = records.iter().filter(is_mark).collect();
    let is_comment = if fields > 1 {
        // A remark may have as many delimiters as a record by chance; a value may start with the mark.
        let unlike = marked.iter().filter(|record| record.fields.len() != fields).count();
        unlike * 2 >= marked.len()
    } else {
        // In a single column `#` may well start a value; above the first value it is a remark.
        let leading = records.iter().take_while(|record| is_mark(record)).count();
        leading > 0 && leading == marked.len() && sample.text[records[0].start..].starts_with(b"# ")
    };
    if is_comment && !marked.is_empty() && marked.len() < records.len() {
        dialect.comment = Some(b'#');
        finding.comment = format!(
            "{} so far {} with it, and {} no record",
            counted(marked.len() as u64, "line"),
            if marked.len() == 1 { "starts" } else { "start" },
            if marked.len() == 1 { "is" } else { "are" },
        );
    }
}

/// A delimiter at the end of every record separates nothing.
pub(super) fn find_trailing(
    sample: Sample<'_>,
    dialect: &mut Dialect,
    fields: &mut usize,
    choice: &InputChoice,
    finding: &mut Finding,
) {
    let records: Vec<PlainRecord> = sample.records(*dialect).collect();
    let table: Vec<&PlainRecord> =
        records.iter().filter(|record| record.fields.len() == *fields).collect();
    let all_end_so =
        *fields > 1 && table.len() >= 2 && table.iter().all(|record| record.ends_in_delimiter());
    if let Some(said) = choice.trailing_delimiter {
        dialect.trailing_delimiter = said;
        *fields -= usize::from(said && all_end_so);
        finding.trailing_delimiter = SAID.into();
        return;
    }
    if all_end_so {
        dialect.trailing_delimiter = true;
        *fields -= 1;
        finding.trailing_delimiter = format!(
            "the first {} end in a delimiter with nothing behind it",
            counted(table.len() as u64, "record")
        );
    }
}

/// Lines above the table have fewer fields than its records, or but one that is not blank.
pub(super) fn find_start(
    sample: Sample<'_>,
    dialect: &mut Dialect,
    fields: usize,
    finding: &mut Finding,
) {
    if fields < 2 {
        return;
    }
    let records: Vec<PlainRecord> = PlainRecords::new(sample.text, *dialect)
        .filter(|record| record.complete || sample.whole)
        .take(MOST_ABOVE + 10)
        .collect();
    let width = |record: &PlainRecord| {
        record.fields.len() - usize::from(dialect.trailing_delimiter && record.ends_in_delimiter())
    };
    // A title that a spreadsheet has padded with delimiters.
    let is_title = |record: &PlainRecord| {
        let values = record.texts(sample.text, dialect);
        let mut full = values.iter().filter(|value| !value.trim().is_empty());
        fields > 2
            && full.next().is_none_or(|title| Glance::of(title.as_bytes()) == Glance::Text)
            && full.next().is_none()
    };
    let is_table = |record: &PlainRecord| {
        record.broken.is_none() && width(record) >= fields && !is_title(record)
    };
    let Some(first) = records.iter().position(is_table) else { return };
    let above = records[..first].iter().filter(|record| !record.is_blank(sample.text)).count();
    if above == 0 || first > MOST_ABOVE {
        return;
    }
    // One record that is short by one is more likely a header than a title: see `has_short_header`.
    let width_above = width(&records[first - 1]);
    if above == 1 && width_above > 1 && width_above + 1 == fields {
        return;
    }
    let line = records[first].line as u32;
    dialect.skip += line;
    finding.skip = format!(
        "{} not split into the {fields} fields of the table below",
        if line == 1 { "1 line above does".to_owned() } else { format!("{line} lines above do") }
    );
}

/// Whether the first record is a header that has one field less than the records, as some programs
/// write tables whose rows have names. They separate with spaces or tabs, or quote the names of rows;
/// anywhere else such a header is more likely wrong, or the records are.
pub(super) fn has_short_header(sample: Sample<'_>, dialect: Dialect, fields: usize) -> bool {
    let mut records = sample.records(dialect);
    let (Some(first), Some(second)) = (records.next(), records.next()) else { return false };
    if dialect.trailing_delimiter
        || first.fields.len() < 2
        || first.fields.len() + 1 != fields
        || second.fields.len() != fields
    {
        return false;
    }
    let is_quoted = |record: &PlainRecord| {
        let (start, end) = record.fields[0];
        dialect.is_quoted(&sample.text[start..end])
    };
    let is_usual = matches!(dialect.delimiter, b' ' | b'\t');
    if !is_usual && (!is_quoted(&first) || !is_quoted(&second)) {
        return false;
    }
    let mut seen = HashSet::new();
    let name = |record: &PlainRecord| {
        record.texts(sample.text, &dialect).into_iter().next().unwrap_or_default()
    };
    let mut names = std::iter::once(&second).map(name).chain(records.map(|record| name(&record)));
    names.all(|name| seen.insert(name))
}
