//! Whether the first record holds names: seen by comparing it with the records below it.
//!
//! Each column casts a vote. A text above figures speaks for a header, and so does a figure above
//! figures of another kind; a figure above its like speaks against one. Where all is text, smaller
//! signs are looked for, and the reason says how sure they make it.

use std::borrow::Cow;
use std::collections::HashSet;

use super::{Finding, Glance, SAID, Sample};
use crate::records::Values;
use crate::text::{Dialect, InputChoice};

/// Records that the first is compared with.
const BELOW: usize = 300;

/// Finds whether there is a header; `is_short` says that the first record, if it is one, has a field
/// less than the others.
pub(super) fn find(
    sample: Sample<'_>,
    dialect: Dialect,
    is_short: bool,
    choice: &InputChoice,
    finding: &mut Finding,
) -> bool {
    if let Some(said) = choice.header {
        finding.header = SAID.into();
        return said;
    }
    // Each value with whether it stands in quotes.
    let records = sample.records(dialect);
    let mut records = records.iter().map(|record| {
        let quoted =
            record.fields.iter().map(|field| dialect.is_quoted(&sample.text[field.0..field.1]));
        record.texts(sample.text, &dialect).into_iter().zip(quoted).collect::<Vec<_>>()
    });
    let Some(mut first) = records.next() else {
        finding.header = "nothing to compare".into();
        return true;
    };
    if dialect.trailing_delimiter && first.last().is_some_and(|(name, _)| name.is_empty()) {
        first.pop();
    }
    // A header that is short by one leaves the first column, of row names, without one.
    let shift = usize::from(is_short);
    let rows: Vec<_> = records.filter(|row| row.len() >= first.len() + shift).take(BELOW).collect();
    let columns: Vec<Column<'_>> = first
        .iter()
        .enumerate()
        .map(|(at, name)| Column::new(name, rows.iter().filter_map(|row| row.get(at + shift))))
        .collect();
    let is_said = |names: &Vec<String>| names.iter().eq(first.iter().map(|(name, _)| name));
    let (header, why, sure) = if choice.names.as_ref().is_some_and(is_said) {
        (true, "the first record is the names as said".to_owned(), true)
    } else if rows.is_empty() {
        let header = !columns.iter().any(|column| column.top.is_figure());
        let why =
            if header { "the only record is all text" } else { "the only record has values in it" };
        (header, format!("a guess: {why}"), false)
    } else {
        decide(&columns, is_short)
    };
    finding.header = why;
    // Names that were said need no header: one that is not certain is more likely a record.
    if choice.names.is_some() && header && !sure {
        finding.header =
            "names are given, and nothing proves that the first record is more than a record"
                .into();
        return false;
    }
    header
}

/// A name, if it is one, and what stands below it.
struct Column<'v> {
    name: &'v str,
    top: Glance,
    below: Vec<&'v str>,
    /// What all values below are at a glance, where they are one thing; blanks and the like aside.
    kind: Option<Glance>,
    /// Whether it stands in quotes and none of the values below does.
    is_quoted_alone: bool,
}

impl<'v> Column<'v> {
    fn new(
        (name, is_quoted): &'v (Cow<'v, str>, bool),
        below: impl Iterator<Item = &'v (Cow<'v, str>, bool)>,
    ) -> Column<'v> {
        let below: Vec<_> = below.filter(|(value, _)| !value.trim().is_empty()).collect();
        let is_quoted_alone = *is_quoted && !below.iter().any(|(_, is_quoted)| *is_quoted);
        let below: Vec<&str> = below.into_iter().map(|(value, _)| &**value).collect();
        let mut kinds = Vec::new();
        for value in &below {
            let kind = Glance::of(value.as_bytes());
            if kind != Glance::Absent && !kinds.contains(&kind) {
                kinds.push(kind);
            }
        }
        if kinds.contains(&Glance::Number) {
            kinds.retain(|kind| *kind != Glance::Integer);
        }
        let kind = kinds.first().copied().filter(|_| kinds.len() == 1);
        Column { name, top: Glance::of(name.as_bytes()), below, kind, is_quoted_alone }
    }

    fn vote(&self) -> Vote {
        use Glance::{Absent, Blank, Bool, Date, Integer, Number, Text};
        match (self.top, self.kind) {
            (Blank | Absent, _) => Vote::None,
            (top, None) if top.is_figure() && self.starts_alike() => Vote::Weak,
            (_, None) => Vote::None,
            (Text, Some(Integer | Number | Date | Bool)) => Vote::For,
            (top, Some(Integer | Number)) if top.is_figure() && self.is_quoted_alone => Vote::For,
            (Bool, Some(Bool)) => Vote::Weak,
            (Bool, Some(Integer | Number | Date)) => Vote::For,
            (Date, Some(Integer | Number)) | (Integer | Number, Some(Date)) => Vote::For,
            (Integer, Some(Integer)) | (Number, Some(Number)) | (Date, Some(Date)) => Vote::Against,
            (Integer, Some(Number)) | (Number, Some(Integer)) => Vote::Against,
            (Integer | Number | Date, Some(Text)) => Vote::Weak,
            (Text, Some(Text)) if self.starts_alike() => Vote::Weak,
            _ => Vote::None,
        }
    }

    /// Whether the name starts with a digit, as half of the values below it do: names hardly do, and codes, ranges
    /// and places are no figures.
    fn starts_alike(&self) -> bool {
        let is_so = |value: &str| value.trim().starts_with(|letter: char| letter.is_ascii_digit());
        let alike = self.below.iter().filter(|value| is_so(value)).count();
        is_so(self.name)
            && self.below.len() >= 3
            && is_so(self.below[0])
            && alike * 2 >= self.below.len()
    }

    /// Whether a word stands above figures, so many of them that it is hardly one of them.
    fn is_plain_name(&self) -> bool {
        self.vote() == Vote::For
            && self.name.trim().starts_with(char::is_alphabetic)
            && self.below.len() >= FEWEST_BELOW
            && self.kind.is_some_and(Glance::is_figure)
    }
}

/// Figures below a word from which on it is hardly one of them.
const FEWEST_BELOW: usize = 10;

#[derive(Clone, Copy, PartialEq, Eq)]
enum Vote {
    For,
    Against,
    /// A figure above texts, a word for true or false above such: speaks against, if nothing speaks for.
    Weak,
    None,
}

/// Whether there is a header, why, and whether that is certain.
fn decide(columns: &[Column<'_>], is_short: bool) -> (bool, String, bool) {
    let years = counts_up(columns) || rises(columns);
    let vote = |column: &Column<'_>| match column.vote() {
        Vote::Against | Vote::Weak | Vote::None if years && is_count(column.top) => Vote::For,
        vote => vote,
    };
    let of = |kind: Vote| columns.iter().filter(move |column| vote(column) == kind);
    let (votes_for, votes_against) = (of(Vote::For).count(), of(Vote::Against).count());
    if is_short && votes_against == 0 {
        let why = "certain: it has one field less than the records, whose first has no name";
        return (true, why.into(), true);
    }
    if is_numbered(columns) {
        let why = "certain: the columns behind the first, which has no name, are numbered";
        return (true, why.into(), true);
    }
    let is_plain = votes_for >= votes_against && columns.iter().any(Column::is_plain_name);
    if votes_for > 0 && (votes_for >= 3 * votes_against || is_plain) {
        let why = if years {
            "certain: names that count up stand above values that do not".to_owned()
        } else {
            let columns = if votes_for == 1 { "a column that is" } else { "columns that are" };
            let some = if votes_for == 1 { String::new() } else { format!("{votes_for} ") };
            format!("certain: the first record is text above {some}{columns} not")
        };
        return (true, why, true);
    }
    if let Some(column) = of(Vote::Against).next().or_else(|| of(Vote::Weak).next()) {
        let sure = votes_for == 0;
        let how = if sure { "certain" } else { "likely" };
        let why = format!("{how}: '{}' in the first record is a value, not a name", column.name);
        return (false, why, sure);
    }
    decide_by_text(columns)
}

/// Whether the columns are numbered from 0 or 1, and the first one, of row names, has no name: programs write tables
/// so whose columns were not named.
fn is_numbered(columns: &[Column<'_>]) -> bool {
    let [first, others @ ..] = columns else { return false };
    let rows = columns.iter().map(|column| column.below.len()).max().unwrap_or(0);
    let start = others.first().and_then(|column| column.name.trim().parse::<usize>().ok());
    let counts = |start: usize| {
        let mut numbers = start..;
        others.iter().all(|column| {
            Some(column.name.trim().to_owned()) == numbers.next().map(|n| n.to_string())
        })
    };
    first.top == Glance::Blank
        && first.below.len() == rows
        && rows > 0
        && start.is_some_and(|start| start < 2 && counts(start))
}

/// Words that head columns, in small letters. In a table of nothing but texts they are what tells a header.
const WORDS: [&str; 64] = [
    "id",
    "ids",
    "name",
    "names",
    "code",
    "key",
    "label",
    "title",
    "type",
    "kind",
    "class",
    "category",
    "group",
    "status",
    "state",
    "country",
    "city",
    "town",
    "region",
    "county",
    "district",
    "area",
    "zone",
    "place",
    "location",
    "address",
    "street",
    "zip",
    "postcode",
    "date",
    "time",
    "year",
    "month",
    "day",
    "week",
    "quarter",
    "from",
    "to",
    "start",
    "end",
    "value",
    "count",
    "number",
    "no",
    "nr",
    "total",
    "amount",
    "price",
    "unit",
    "currency",
    "language",
    "description",
    "comment",
    "comments",
    "note",
    "notes",
    "remark",
    "text",
    "email",
    "phone",
    "url",
    "source",
    "first",
    "last",
];

/// Whether a name has a word in it that heads columns.
fn has_word(name: &str) -> bool {
    let small = name.trim().to_lowercase();
    let mut words = small.split(|letter: char| !letter.is_alphanumeric());
    words.any(|word| WORDS.contains(&word))
}

/// Whether the figures on top are a row of years or other numbers that count up, as names of columns
/// do, above values that do not.
fn counts_up(columns: &[Column<'_>]) -> bool {
    let step_of = |numbers: &[i64]| {
        let step = numbers.get(1)? - numbers[0];
        let is_even = numbers.windows(2).all(|pair| pair[1] - pair[0] == step);
        let is_usual = step == 1 || step > 1 && numbers.len() > 2;
        (is_usual && is_even).then_some(step)
    };
    let tops: Vec<(usize, i64)> = columns
        .iter()
        .enumerate()
        .filter(|(_, column)| column.top == Glance::Integer)
        .filter_map(|(at, column)| Some((at, column.name.trim().parse().ok()?)))
        .collect();
    let numbers: Vec<i64> = tops.iter().map(|(_, number)| *number).collect();
    // Small numbers are as often data; and a table of nothing but numbers has no names.
    if step_of(&numbers).is_none() || numbers[0] < 1000 || tops.len() == columns.len() {
        return false;
    }
    let rows = tops.iter().map(|(at, _)| columns[*at].below.len()).min().unwrap_or(0);
    !(0..rows).any(|row| {
        let below: Option<Vec<i64>> =
            tops.iter().map(|(at, _)| columns[*at].below[row].trim().parse().ok()).collect();
        below.is_some_and(|below| step_of(&below).is_some())
    })
}

/// Whether the figures on top rise from column to column, as points of a scale do that head columns, and no record
/// below does the same.
fn rises(columns: &[Column<'_>]) -> bool {
    let tops: Vec<(&Column<'_>, f64)> = columns
        .iter()
        .filter(|column| is_count(column.top))
        .filter_map(|column| Some((column, column.name.trim().parse().ok()?)))
        .collect();
    let is_rising = |numbers: &[f64]| numbers.windows(2).all(|pair| pair[0] < pair[1]);
    let numbers: Vec<f64> = tops.iter().map(|(_, number)| *number).collect();
    let is_even = numbers.windows(3).all(|n| ((n[2] - n[1]) - (n[1] - n[0])).abs() < 1e-9);
    let is_year = |number: &f64| number.fract() == 0.0 && (1800.0..2200.0).contains(number);
    let are_years = numbers.iter().all(is_year);
    // What rises by chance: one of two rows of two numbers, one of 120 of five.
    let is_long = numbers.len()
        >= if are_years {
            2
        } else if is_even {
            4
        } else {
            5
        };
    let has_names = columns.iter().any(|column| column.top == Glance::Text);
    let is_more = tops.len() * 2 >= columns.len() || are_years;
    if !is_long || !is_rising(&numbers) || !has_names || !is_more {
        return false;
    }
    let rows = tops.iter().map(|(column, _)| column.below.len()).min().unwrap_or(0);
    (0..rows).all(|row| {
        let number = |column: &Column<'_>| column.below[row].trim().parse().unwrap_or(f64::NAN);
        let row: Vec<f64> = tops.iter().map(|(column, _)| number(column)).collect();
        if are_years { !row.iter().any(is_year) } else { !is_rising(&row) }
    })
}

/// Whether a value counts or measures.
fn is_count(top: Glance) -> bool {
    matches!(top, Glance::Integer | Glance::Number)
}

/// Where nothing but text stands below text.
fn decide_by_text(columns: &[Column<'_>]) -> (bool, String, bool) {
    let blank = columns.iter().filter(|column| column.top == Glance::Blank).count();
    if blank * 2 > columns.len() {
        return (false, "likely: most of the first record is blank".into(), false);
    }
    let mut seen = HashSet::new();
    let named = columns.iter().filter(|column| column.top != Glance::Blank);
    if let Some(twice) = named.clone().find(|column| !seen.insert(column.name)) {
        let recurs = twice.below.contains(&twice.name);
        if recurs {
            let why = format!("likely: '{}' in the first record also stands below it", twice.name);
            return (false, why, false);
        }
    }
    // Two such words, and as many names with one as without.
    let words = named.clone().filter(|column| has_word(column.name)).count();
    let values = || columns.iter().flat_map(|column| &column.below);
    let worded = values().filter(|value| has_word(value)).count();
    if words >= 2 && words * 2 >= columns.len() && worded * 8 <= values().count() {
        return (true, "likely: the first record has words that head columns".into(), false);
    }
    let mut shape_for = 0;
    let mut shape_against = 0;
    let mut code = None;
    let mut recurring = None;
    for column in named.clone().filter(|column| column.below.len() >= 2) {
        if column.below.contains(&column.name) {
            recurring.get_or_insert(column.name);
        }
        let shape = shape(column.below[0]);
        if column.below.iter().all(|value| self::shape(value) == shape) {
            // Words are written like words, names or not; codes are not written like names.
            if self::shape(column.name) == shape {
                shape_against += usize::from(shape.contains(&'0'));
                // As long as all below, and in the same letters: a code.
                if column.below.len() >= FEWEST_CODES && is_as_long(column) {
                    code.get_or_insert(column.name);
                }
            } else {
                shape_for += 1;
            }
        }
    }
    if let Some(name) = recurring {
        return (
            false,
            format!("likely: '{name}' in the first record also stands below it"),
            false,
        );
    }
    if let Some(code) = code.filter(|_| shape_for == 0) {
        let why = format!(
            "likely: '{code}' in the first record is as long as all below it, and in the same letters"
        );
        return (false, why, false);
    }
    if shape_for > 0 && shape_for >= shape_against {
        return (true, "likely: the first record is written unlike those below it".into(), false);
    }
    let is_identifier = |column: &Column<'_>| is_identifier(column.name);
    if named.clone().all(is_identifier)
        && !columns.iter().all(|c| c.below.iter().all(|v| self::is_identifier(v)))
    {
        return (true, "likely: the first record looks like names".into(), false);
    }
    if shape_against > 0 {
        return (false, "a guess: the first record is written like those below it".into(), false);
    }
    (true, "a guess: all columns are text, and no name recurs below".into(), false)
}

/// Values below a name from which on their length says something.
const FEWEST_CODES: usize = 4;

/// Whether a name is as long as all values below it, letter by letter, and those differ.
fn is_as_long(column: &Column<'_>) -> bool {
    let length = |text: &str| text.trim().chars().count();
    let own = length(column.name);
    let is_capital = column.name.chars().any(char::is_uppercase);
    is_capital
        && column.below.iter().all(|value| length(value) == own)
        && column.below.iter().any(|value| *value != column.below[0])
}

/// How a value is written: its runs of capitals, small letters and digits, and its marks as they are.
fn shape(value: &str) -> Vec<char> {
    let mut shape: Vec<char> = Vec::new();
    for letter in value.trim().chars() {
        let class = match letter {
            letter if letter.is_uppercase() => 'A',
            letter if letter.is_numeric() => '0',
            letter if letter.is_alphabetic() => 'a',
            mark => mark,
        };
        if shape.last() != Some(&class) {
            shape.push(class);
        }
    }
    shape
}

/// Whether a text is written as programs write names: small letters, digits and underscores.
fn is_identifier(name: &str) -> bool {
    let name = name.trim();
    name.starts_with(|letter: char| letter.is_ascii_lowercase())
        && name
            .bytes()
            .all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'_')
}
