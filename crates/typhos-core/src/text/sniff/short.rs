//! Records that leave out fields at their end: where many of them do, and what they have agrees with what
//! the whole ones have, that is how the file is written, and no mistake.

use super::{Glance, Sample};
use crate::text::{Dialect, PlainRecord};
use std::borrow::Cow;

/// At least so many records leave fields out, and so large a share of all.
const FEWEST: usize = 2;
const LEAST_SHARE: f64 = 0.1;

/// Share of records that are either whole or short.
const ALL_BUT: f64 = 0.98;

/// Share of values of a column that must be of one kind to be held against.
const OF_ONE_KIND: f64 = 0.95;

/// Share of values of short records that may be of another kind.
const MISSES: f64 = 0.05;

/// Fields of a whole record, where others leave some out at their end. `agreeing` are the records without
/// what may be comments.
pub(super) fn find(
    sample: Sample<'_>,
    dialect: Dialect,
    records: &[PlainRecord],
    is_said: bool,
) -> Option<usize> {
    let all: Vec<&PlainRecord> = records
        .iter()
        .filter(|record| record.broken.is_none() && !sample.is_marked(record))
        .collect();
    let count = |fields: usize| all.iter().filter(|record| record.fields.len() == fields).count();
    let widest = all.iter().map(|record| record.fields.len()).max()?;
    let first = all.first().map_or(0, |record| record.fields.len());
    let is_many = |count: usize| count >= FEWEST && count as f64 >= all.len() as f64 * LEAST_SHARE;
    // What the first record has, if that may be a header; else what many have.
    let fields = (2..=widest).rev().find(|fields| {
        is_many(count(*fields)) || *fields == first && is_header(sample, dialect, all[0])
    });
    if is_said {
        return fields.or(Some(widest)).filter(|fields| *fields > 1);
    }
    let fields = fields.filter(|fields| *fields > 2)?;
    let (whole, short): (Vec<&PlainRecord>, Vec<&PlainRecord>) = all
        .iter()
        .copied()
        .filter(|record| (2..=fields).contains(&record.fields.len()))
        .partition(|record| record.fields.len() == fields);
    let is_usual = (whole.len() + short.len()) as f64 >= all.len() as f64 * ALL_BUT;
    if !is_usual || !is_many(short.len()) {
        return None;
    }
    let is_titled = is_header(sample, dialect, all[0]) && first == fields;
    let body: Vec<&PlainRecord> =
        whole.iter().copied().filter(|record| !is_titled || record.start != all[0].start).collect();
    // Short ones that all stand above the whole ones are titles, and few below all of them remarks.
    let place = |records: &[&PlainRecord]| {
        records.first().map(|record| record.start).zip(records.last().map(|record| record.start))
    };
    if let (Some((first, last)), Some((above, below))) = (place(&body), place(&short))
        && (below < first && !is_titled || above > last && short.len() * 2 < body.len())
    {
        return None;
    }
    let fewest = short.iter().map(|record| record.fields.len()).min()?;
    let columns = |records: &[&PlainRecord]| {
        let mut columns: Vec<Vec<Cow<'_, str>>> = vec![Vec::new(); fewest];
        for record in records {
            let texts = record.texts(sample.text, &dialect).into_iter();
            columns.iter_mut().zip(texts).for_each(|(column, text)| column.push(text));
        }
        columns
    };
    let mut alike = 0;
    for (ours, theirs) in columns(&body).into_iter().zip(columns(&short)) {
        // Where only the header is whole, the short ones are held against each other.
        let model = if ours.is_empty() { &theirs } else { &ours };
        let Some(kind) = kind_of(model) else { continue };
        // Figures where whole records have texts are those of the column behind.
        if let (Kind::Length(_), Some(Kind::Glance(glance))) = (kind, kind_of(&theirs))
            && !model.iter().any(|value| Kind::Glance(glance).has(value))
        {
            return None;
        }
        let fits = theirs.iter().filter(|value| kind.has(value)).count();
        // One of a few may be a mistake.
        let misses = theirs.len() - fits;
        match kind {
            _ if misses == 0 || misses as f64 <= theirs.len() as f64 * MISSES => alike += 1,
            _ if misses == 1 => {}
            // Where figures stand in whole records, something else stands in short ones.
            Kind::Glance(_) => return None,
            Kind::Length(_) => {}
        }
    }
    (alike > 0 || is_titled).then_some(fields)
}

/// Whether a record may be a header: names, each of them once.
fn is_header(sample: Sample<'_>, dialect: Dialect, record: &PlainRecord) -> bool {
    let names = record.texts(sample.text, &dialect);
    let is_name =
        |name: &Cow<'_, str>| matches!(Glance::of(name.as_bytes()), Glance::Text | Glance::Bool);
    let mut seen = std::collections::HashSet::new();
    names.iter().all(is_name) && names.iter().all(|name| seen.insert(name))
}

/// What the values of a column have in common.
#[derive(Clone, Copy)]
enum Kind {
    Glance(Glance),
    /// Texts of so many characters.
    Length(usize),
}

impl Kind {
    fn has(self, value: &str) -> bool {
        match self {
            _ if value.trim().is_empty() => true,
            Kind::Glance(glance) => {
                let found = Glance::of(value.as_bytes());
                found == glance
                    || found == Glance::Absent
                    || found.is_figure() && glance.is_figure()
            }
            Kind::Length(length) => value.chars().count() == length,
        }
    }
}

fn kind_of(values: &[Cow<'_, str>]) -> Option<Kind> {
    let first = values.iter().find(|value| !value.trim().is_empty())?;
    let glance = Kind::Glance(Glance::of(first.as_bytes()));
    let length = Kind::Length(first.chars().count());
    let holds = |kind: Kind| {
        let fits = values.iter().filter(|value| kind.has(value)).count();
        fits as f64 >= values.len() as f64 * OF_ONE_KIND
    };
    match glance {
        Kind::Glance(kind) if kind.is_figure() && holds(glance) => Some(glance),
        // Texts of any length are of no kind, which is told as one of no characters.
        _ if values.len() > 2 && holds(length) => Some(length),
        _ => Some(Kind::Length(0)),
    }
}
