//! Where the table is: lines above it, comments in it, and a delimiter at the end of its records.

use std::borrow::Cow;
use std::collections::HashSet;

use super::{Finding, Glance, SAID, Sample};
use crate::records::Values;
use crate::text::{Dialect, InputChoice, LineEnds, PlainRecord, PlainRecords};
use crate::wording::{counted, shown};

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

/// Comments start with `#`, or as the text does, and unlike records most do not split into the fields of the table.
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
    let mark = sample.mark;
    if dialect.delimiter == mark {
        return;
    }
    let is_mark = |record: &&PlainRecord| sample.is_marked(record);
    let records = sample.records(*dialect);
    let marked: Vec<&PlainRecord> = records.iter().filter(is_mark).collect();
    let is_comment = if fields > 1 {
        // A remark may have as many delimiters as a record by chance; a value may start with the mark.
        let unlike = marked.iter().filter(|record| record.fields.len() != fields).count();
        unlike * 2 >= marked.len()
    } else {
        // In a single column `#` may well start a value; above the first value it is a remark.
        let leading = records.iter().take_while(|record| is_mark(record)).count();
        leading > 0
            && leading == marked.len()
            && sample.text[records[0].start..].starts_with(&[mark, b' '])
    };
    if is_comment && !marked.is_empty() && marked.len() < records.len() {
        dialect.comment = Some(mark);
        finding.comment = format!(
            "{} so far {} with it, and {} no record",
            counted(marked.len() as u64, "line"),
            if marked.len() == 1 { "starts" } else { "start" },
            if marked.len() == 1 { "is" } else { "are" },
        );
    }
}

/// Names that stand in a comment, right above the first record: where the last of the comments above the table splits
/// into its fields as a header does, and no comment comes below, the table starts there. Offset of that line.
pub(super) fn find_commented_names(
    sample: Sample<'_>,
    dialect: &mut Dialect,
    fields: usize,
    finding: &mut Finding,
) -> Option<usize> {
    let mark = dialect.comment.filter(|_| fields > 1)?;
    let text = sample.text;
    let is_mark = |at: usize| text.get(at) == Some(&mark);
    let (mut at, mut named, mut lines) = (0, None, 0);
    while is_mark(at) {
        named = Some((at, lines));
        at += LineEnds::Mixed.after_first(&text[at..]);
        lines += 1;
    }
    let (start, above) = named?;
    let goes_on = memchr::memchr_iter(mark, &text[at..])
        .any(|found| matches!(text[at + found - 1], b'\n' | b'\r'));
    if goes_on {
        return None;
    }
    // What stands behind the mark and its spaces.
    let is_aside = |byte: &u8| *byte == mark || *byte == b' ';
    let inner = start + text[start..].iter().take_while(|byte| is_aside(byte)).count();
    let uncommented = Dialect { comment: None, ..*dialect };
    let inside = Sample { text: &text[inner..], ..sample };
    let records = inside.records(uncommented);
    let names = records.first()?;
    let is_short_name = |name: &Cow<'_, str>| name.chars().count() <= 40 && !name.trim().is_empty();
    let texts = names.texts(inside.text, &uncommented);
    if texts.len() != fields
        || !texts.iter().all(is_short_name)
        || !is_names(inside, &uncommented, names)
    {
        return None;
    }
    let mut found = Finding::default();
    let choice = InputChoice::default();
    let is_header = super::header::find(inside, uncommented, false, &choice, &mut found);
    // Prose has as many fields by chance, of several words each.
    let most_words = match dialect.delimiter {
        b'\t' => 4,
        _ if found.header.starts_with("a guess") => 1,
        _ => 2,
    };
    let words = |name: &Cow<'_, str>| name.split_whitespace().count();
    if !is_header || texts.iter().any(|name| words(name) > most_words) {
        return None;
    }
    *dialect = Dialect { header: true, skip: dialect.skip + above, ..uncommented };
    finding.comment = String::new();
    finding.header = format!("{}; it stands in a comment above the records", found.header);
    if above > 0 {
        finding.skip = format!(
            "{} above {} with '{}', and the next one names the columns",
            counted(above.into(), "line"),
            if above == 1 { "starts" } else { "start" },
            char::from(mark),
        );
    }
    Some(start)
}

/// Lines of prose above a single column, the only ones that have a delimiter in them.
fn find_prose(sample: Sample<'_>, dialect: &mut Dialect, finding: &mut Finding) {
    let records = sample.records(*dialect);
    let is_prose = |record: &&PlainRecord| {
        let text = &sample.text[record.start..record.next];
        record.fields.len() > 1 && text.split(u8::is_ascii_whitespace).count() > LEAST_WORDS
    };
    let above = records.iter().take_while(is_prose).count();
    let Some(first) = records.get(above).filter(|_| above > 0) else { return };
    let below = &records[above..];
    if below.len() < FEWEST_ALONE || below.iter().any(|record| record.fields.len() > 1) {
        return;
    }
    let lines = LineEnds::Mixed.count(&sample.text[..first.start]);
    dialect.skip += lines as u32;
    finding.skip =
        format!("{} above the column are prose with delimiters", counted(lines as u64, "line"));
}

/// Words of a line that is prose, and records of a single column below it.
const LEAST_WORDS: usize = 4;
const FEWEST_ALONE: usize = 3;

/// A delimiter at the end of every record separates nothing.
pub(super) fn find_trailing(
    sample: Sample<'_>,
    dialect: &mut Dialect,
    fields: &mut usize,
    choice: &InputChoice,
    finding: &mut Finding,
) {
    let records = sample.records(*dialect);
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
        return find_prose(sample, dialect, finding);
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
    let least = if dialect.short_records { 2 } else { fields };
    let is_table = |record: &PlainRecord| {
        record.broken.is_none() && width(record) >= least && !is_title(record)
    };
    let Some(first) = records.iter().position(is_table) else { return };
    let first = match first {
        0 => below_titles(sample, dialect, &records, &is_table).unwrap_or(0),
        first => first,
    };
    let first = below_gaps(sample, dialect, &records, fields).map_or(first, |full| full.max(first));
    let above = records[..first].iter().filter(|record| !record.is_blank(sample.text)).count();
    if above == 0 || first > MOST_ABOVE {
        return;
    }
    // One record that is short by one is more likely a header than a title: see `has_short_header`. So is one that
    // is short by more, if it is all names and what stands below is a record.
    let width_above = width(&records[first - 1]);
    if above == 1
        && width_above > 1
        && (width_above + 1 == fields
            || is_names(sample, dialect, &records[first - 1])
                && has_figures(sample, dialect, &records[first]))
    {
        return;
    }
    // Lines of figures, nearly as many as the table has, are records that lack something.
    let is_record = |record: &PlainRecord| {
        let values = record.texts(sample.text, dialect);
        let figures =
            values.iter().filter(|value| Glance::of(value.as_bytes()).is_figure()).count();
        width(record) > 2 && width(record) * 2 > fields && figures * 2 > values.len()
    };
    if records[..first].iter().any(is_record) {
        return;
    }
    let line = LineEnds::Mixed.count(&sample.text[..records[first].start]) as u32;
    dialect.skip += line;
    finding.skip = format!(
        "{} not split into the {fields} fields of the table below",
        if line == 1 { "1 line above does".to_owned() } else { format!("{line} lines above do") }
    );
}

/// Where the table starts, if the first records are titles that split as it does by chance: lines that do not stand
/// between them and names above figures.
fn below_titles(
    sample: Sample<'_>,
    dialect: &Dialect,
    records: &[PlainRecord],
    is_table: &impl Fn(&PlainRecord) -> bool,
) -> Option<usize> {
    let is_blank = |record: &PlainRecord| record.is_blank(sample.text);
    let last = records.iter().rposition(|record| !is_blank(record) && !is_table(record))?;
    let start = last + 1 + records[last + 1..].iter().take_while(|record| is_blank(record)).count();
    let (names, below) = (records.get(start)?, records.get(start + 1)?);
    // More titles than other lines, or more records above than below, are no titles.
    let titles = records[..last].iter().filter(|record| is_table(record)).count();
    let others = records[..=last].iter().filter(|record| !is_table(record)).count();
    let is_short = titles <= others && records.len() - start >= 2 && last < MOST_ABOVE;
    let is_header = is_names(sample, dialect, names)
        && has_figures(sample, dialect, below)
        && !has_figures(sample, dialect, &records[1]);
    let is_apart = records[..start].iter().any(is_blank);
    (is_short && (is_header || is_apart && titles == 1)).then_some(start)
}

/// Where the table starts, if what stands above it has gaps: the first record that is all names, above figures, where
/// every record before it has blank fields and no figures, as what a spreadsheet has padded.
fn below_gaps(
    sample: Sample<'_>,
    dialect: &Dialect,
    records: &[PlainRecord],
    fields: usize,
) -> Option<usize> {
    let full = records
        .iter()
        .position(|record| record.fields.len() == fields && is_names(sample, dialect, record))?;
    let has_gap = |record: &PlainRecord| {
        let values = record.texts(sample.text, dialect);
        record.fields.len() < fields || values.iter().any(|value| value.trim().is_empty())
    };
    let above = &records[..full];
    let is_apart = fields > 2
        && full <= MOST_ABOVE
        && above.iter().all(|record| has_gap(record) && !has_figures(sample, dialect, record));
    let below = records.get(full + 1)?;
    (is_apart && full > 0 && has_figures(sample, dialect, below)).then_some(full)
}

/// Whether a record is names: texts, each of them once.
fn is_names(sample: Sample<'_>, dialect: &Dialect, record: &PlainRecord) -> bool {
    let mut seen = HashSet::new();
    let names = record.texts(sample.text, dialect);
    let is_name =
        |name: &Cow<'_, str>| matches!(Glance::of(name.as_bytes()), Glance::Text | Glance::Bool);
    names.into_iter().all(|name| is_name(&name) && seen.insert(name))
}

/// Whether a record has a value that cannot well be a name.
fn has_figures(sample: Sample<'_>, dialect: &Dialect, record: &PlainRecord) -> bool {
    let values = record.texts(sample.text, dialect);
    values.iter().any(|value| Glance::of(value.as_bytes()).is_figure())
}

/// Units of measurement, and types, as they stand below names; others are known by their brackets and signs.
const UNITS: [&str; 70] = [
    "m", "cm", "mm", "km", "ft", "in", "mi", "nm", "s", "sec", "ms", "min", "h", "hr", "g", "kg",
    "mg", "t", "lb", "l", "ml", "c", "°c", "degc", "deg c", "°f", "f", "k", "%", "percent", "hpa",
    "pa", "mbar", "v", "a", "w", "kw", "kwh", "m/s", "km/h", "kn", "deg", "°", "hz", "eur", "usd",
    "gbp", "nok", "count", "integer", "int", "float", "number", "real", "double", "numeric",
    "string", "ppm", "psu", "db", "ts", "rn", "volts", "avg", "smp", "max", "min", "std", "tot",
    "mean",
];

/// A line below the header that says what the figures below it are measured in: text above figures in every
/// column of figures that it has a value in.
pub(super) fn find_below(
    sample: Sample<'_>,
    dialect: &mut Dialect,
    fields: usize,
    choice: &InputChoice,
    finding: &mut Finding,
) {
    if let Some(said) = choice.skip_below {
        dialect.skip_below = said;
        finding.skip_below = SAID.into();
        return;
    }
    if !dialect.header {
        return;
    }
    let records = sample.records(*dialect);
    let below = records.iter().skip(1).take(MOST_BELOW + 100);
    let records: Vec<Vec<Cow<'_, str>>> =
        below.map(|record| record.texts(sample.text, dialect)).collect();
    // Units, and then what was made of many measurements: what stands below has to be figures.
    let mut known = false;
    let mut lines = 0;
    for most in 1..=MOST_BELOW {
        let Some((above, below)) = records.split_at_checked(most) else { break };
        if below.len() < 2 || above.iter().any(|line| line.len() < fields) {
            break;
        }
        match above.iter().map(|line| units(line, below)).collect::<Option<Vec<bool>>>() {
            Some(found) if found.iter().any(|is_known| *is_known) => (known, lines) = (true, most),
            _ => {}
        }
    }
    if !known {
        return;
    }
    dialect.skip_below = lines as u32;
    let first = records[0].iter().find(|unit| !unit.trim().is_empty());
    finding.skip_below = format!(
        "{} text above figures: {}",
        if lines == 1 { "the line below the header is" } else { "lines below the header are" },
        first.map_or(String::new(), |unit| shown(unit))
    );
}

/// Lines below a header that may be none of the records.
const MOST_BELOW: usize = 3;

/// Whether a line says what the figures below it are measured in, and is known to: `None` where it is a record.
fn units(line: &[Cow<'_, str>], below: &[Vec<Cow<'_, str>>]) -> Option<bool> {
    let (mut texts, mut known) = (0, 0);
    // The name of the rows, where the columns have names of several lines.
    if line.len() > 2 && line[1..].iter().all(|unit| unit.trim().is_empty()) {
        return (Glance::of(line[0].as_bytes()) == Glance::Text).then_some(false);
    }
    for (at, unit) in line.iter().enumerate() {
        let values = below.iter().filter_map(|record| record.get(at));
        let glances: Vec<Glance> = values.map(|value| Glance::of(value.as_bytes())).collect();
        let is_value = |glance: &&Glance| !matches!(glance, Glance::Blank | Glance::Absent);
        let full = glances.iter().filter(is_value).count();
        let figures = glances.iter().filter(|glance| glance.is_figure()).count();
        match Glance::of(unit.as_bytes()) {
            // A column of figures has a figure here as well: it is a record.
            glance if glance.is_figure() => return None,
            Glance::Text | Glance::Bool if full > 0 && figures == full => {
                let unit = unit.trim().to_lowercase();
                if unit.chars().count() > 20 {
                    return None;
                }
                let is_bracketed = unit.starts_with(['(', '[']) && unit.ends_with([')', ']']);
                let is_composed = unit.contains(['/', '°', '%', '^', '²', '³', 'µ']);
                known += usize::from(is_bracketed || is_composed || UNITS.contains(&&unit[..]));
                texts += 1;
            }
            _ => {}
        }
    }
    // Texts that nobody knows for units may be values that are missing.
    (texts > 0).then_some(known > 0 && known * 3 >= texts)
}

/// Whether the first record is a header that has one field less than the records, as some programs
/// write tables whose rows have names. They separate with spaces or tabs, or quote the names of rows;
/// anywhere else such a header is more likely wrong, or the records are.
pub(super) fn has_short_header(sample: Sample<'_>, dialect: Dialect, fields: usize) -> bool {
    let records = sample.records(dialect);
    let [first, second, rest @ ..] = &records[..] else { return false };
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
    if !is_usual && (!is_quoted(first) || !is_quoted(second)) {
        return false;
    }
    let mut seen = HashSet::new();
    let name = |record: &PlainRecord| {
        record.texts(sample.text, &dialect).into_iter().next().unwrap_or_default()
    };
    let mut names = std::iter::once(second).chain(rest).map(name);
    names.all(|name| seen.insert(name))
}
