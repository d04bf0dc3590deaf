//! `typhos scout --column NAME --save FILE.svg`: how the values of a column are spread, as a picture.

use std::path::Path;

use typhos_core::infer::{Bin, Decision, grouped};

use super::super::look::Looked;
use super::column::{frequent, number};
use crate::chart::{ChartKind, Point};
use crate::outcome::Failure;
use crate::picture;

/// The most values that are drawn one by one.
const MOST_VALUES: usize = 24;

/// Draws a column: numbers by ranges, other values by how often they stand there.
pub fn save(looked: &Looked, at: usize, path: &Path, replace: bool) -> Result<(), Failure> {
    let (survey, decision) = (&looked.examined.survey, &looked.examined.decisions[at]);
    let name = &survey.source.names[at];
    let profile = looked.examined.profile(at);
    let (kind, points) = match profile.histogram.len() > 1 && decision.distinct.count > 2 {
        true => (ChartKind::Histogram, by_range(&profile.histogram, decision)),
        false => (ChartKind::Bar, by_value(looked, at)?),
    };
    let left = match decision.distinct.count.saturating_sub(points.len() as u64) {
        more if more > 0 && kind == ChartKind::Bar => {
            format!(", the {} most frequent of {}", points.len(), grouped(decision.distinct.count))
        }
        _ => String::new(),
    };
    let of = looked.report().line();
    let title = format!("{name} ({}{left}) in {}", decision.ty, anstream::adapter::strip_str(&of));
    let across =
        if kind == ChartKind::Histogram { format!("{name}, from … on") } else { name.clone() };
    let names = picture::Names { title: &title, across: &across, up: "values" };
    picture::save(path, replace, kind, names, &points)
}

fn by_range(bins: &[Bin], decision: &Decision) -> Vec<Point> {
    let point = |bin: &Bin| Point {
        label: number(bin.low, decision.ty),
        text: grouped(bin.count),
        value: Some(bin.count as f64),
    };
    bins.iter().map(point).collect()
}

fn by_value(looked: &Looked, at: usize) -> Result<Vec<Point>, Failure> {
    let (survey, decision) = (&looked.examined.survey, &looked.examined.decisions[at]);
    let name = &survey.source.names[at];
    if !survey.columns[at].has_values() {
        return Err(Failure::Usage(format!(
            "'{name}' has more distinct values than are counted one by one, and no numbers to draw by ranges; \
             'typhos tally --chart' draws groups, such as the year of a date"
        )));
    }
    let values = frequent(&survey.columns[at], decision);
    let point = |label: String, count: u64| Point {
        label,
        text: grouped(count),
        value: Some(count as f64),
    };
    let drawn = values.iter().take(MOST_VALUES);
    Ok(drawn
        .map(|found| point(String::from_utf8_lossy(found.value).into_owned(), found.count))
        .collect())
}
