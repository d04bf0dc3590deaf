//! Everything there is to say about one column, for a person who asks.

use super::dates::Context;
use super::readings::{Outcome, READINGS, Reading};
use super::{Choice, Clause, Decision, Rules};
use crate::readings::Mark;
use crate::schema::Scalar;
use crate::survey::{Cell, Class, ColumnFacts, Example, Facts, Spread, Tally, Trend};

/// What became of a reading.
#[derive(Debug, Clone, PartialEq)]
pub struct ReadingFacts {
    /// What it is called.
    pub name: &'static str,
    /// Values that it takes.
    pub read: u64,
    /// Values that it does not take.
    pub refused: u64,
    /// The first of those.
    pub examples: Vec<Example>,
    /// The type that holds the values it takes.
    pub ty: Option<Scalar>,
    /// Why there is no such type.
    pub reason: Option<Clause>,
}

impl ReadingFacts {
    /// Whether it takes every value, and gives a type.
    pub fn survives(&self) -> bool {
        self.refused == 0 && self.ty.is_some()
    }
}

/// A range of numbers and how many values are in it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bin {
    /// Where it starts.
    pub low: f64,
    /// Where it ends; the next bin starts there.
    pub high: f64,
    /// Values in it; to the nearest, where cells of the survey lie across a border.
    pub count: u64,
}

/// All about one column.
#[derive(Debug, Clone)]
pub struct Profile {
    /// The readings that took at least one value, the narrower ones first.
    pub readings: Vec<ReadingFacts>,
    /// Smallest number, quartiles and a few more, largest: by the share of values that are not larger.
    pub quantiles: Vec<(f64, f64)>,
    /// Whether those are exact; otherwise they are off by at most one of 512 cells.
    pub is_exact: bool,
    /// Numbers by ranges of equal width.
    pub histogram: Vec<Bin>,
    /// Fewest and most bytes of a value.
    pub bytes: Option<(u64, u64)>,
    /// Bytes of all values, divided by how many there are.
    pub mean_bytes: f64,
    /// How the values stand as texts and as numbers, where they stand in any order.
    pub trends: Option<(Trend, Trend)>,
}

/// Shares of values whose quantiles are told.
const SHARES: [f64; 7] = [0.0, 0.05, 0.25, 0.5, 0.75, 0.95, 1.0];

/// Bins of a histogram.
const BINS: usize = 12;

/// Works out everything about a column.
pub(super) fn profile(
    column: &ColumnFacts,
    decision: &Decision,
    rules: &Rules,
    context: &Context,
) -> Profile {
    let facts = &column.facts_with_spread();
    let spread = spread_of(facts, decision);
    let mut cells = spread.map(Spread::cells).unwrap_or_default();
    // The extremes are known, whatever the cells are.
    if let Some((low, high)) = &decision.range
        && let (Some(low), Some(high)) = (low.to_f64(), high.to_f64())
    {
        cells.iter_mut().for_each(|cell| {
            (cell.low, cell.high) = (cell.low.max(low), cell.high.min(high));
        });
    }
    let text = &facts.text;
    Profile {
        readings: readings(column, facts, rules, context),
        quantiles: quantiles(&cells),
        is_exact: spread.is_none_or(Spread::is_exact),
        histogram: histogram(&cells, matches!(decision.ty, Scalar::Int(_))),
        bytes: text.bytes_range,
        mean_bytes: text.bytes as f64 / text.count.max(1) as f64,
        trends: column.sequence().trends(),
    }
}

fn readings(
    column: &ColumnFacts,
    facts: &Facts,
    rules: &Rules,
    context: &Context,
) -> Vec<ReadingFacts> {
    // A wider reading that reads no more says nothing new: numbers where there are no fractions, numbers
    // in any clothes where all wear the usual ones.
    let [integers, numbers] = [Reading::Integer, Reading::Number].map(|r| r.read(facts));
    let is_same = |reading: Reading| match reading {
        Reading::Number => reading.read(facts) == integers,
        Reading::Written(Mark::Point) => reading.read(facts) == numbers,
        _ => false,
    };
    let taking = READINGS.into_iter().filter(|r| r.read(facts) > 0 && !is_same(*r));
    let told = taking.map(|reading| {
        let (ty, reason) = match reading.outcome(column, facts, rules, context) {
            Outcome::Type(decision) => (Some(decision.ty), None),
            Outcome::None(reason) => (None, Some(reason)),
            Outcome::Asked(question) => {
                let ways = question.choices.iter().map(Choice::line).collect();
                (None, Some(Clause::ManyWays(ways)))
            }
        };
        let Tally { count, examples } = reading.refused(facts);
        let read = reading.read(facts);
        ReadingFacts { name: reading.name(), read, refused: count, examples, ty, reason }
    });
    told.collect()
}

/// How the numbers of a column are spread, under the way they are read.
fn spread_of<'f>(facts: &'f Facts, decision: &Decision) -> Option<&'f Spread> {
    if !decision.ty.is_number() {
        return None;
    }
    match &facts.written {
        // Both kinds in one column: those of the larger part.
        Some(written) if facts.count(Class::Written) * 2 > facts.plain_count() => {
            Some(&written.views[usize::from(decision.style.mark == Mark::Comma)].spread)
        }
        // Integers in groups, where the survey saw fractions.
        None if decision.style.mark == Mark::Comma => None,
        _ => Some(&facts.numbers.spread),
    }
}

/// The number that a share of the values does not exceed, for each of [`SHARES`].
fn quantiles(cells: &[Cell]) -> Vec<(f64, f64)> {
    let total: u64 = cells.iter().map(|cell| cell.count).sum();
    let at = |share: f64| {
        // The rank from 1 of the value that as many are not above.
        let rank = ((share * total as f64).ceil() as u64).max(1);
        let mut before = 0;
        for cell in cells {
            if before + cell.count >= rank {
                // Values are taken to lie evenly in their cell.
                let part = (rank - before) as f64 / (cell.count + 1) as f64;
                return Some(cell.low + (cell.high - cell.low) * part);
            }
            before += cell.count;
        }
        None
    };
    let mut quantiles: Vec<(f64, f64)> =
        SHARES.into_iter().filter_map(|share| Some((share, at(share)?))).collect();
    if let (Some(first), Some(last), [.., (_, most)]) =
        (cells.first(), cells.last(), &mut quantiles[..])
    {
        *most = last.high;
        quantiles[0].1 = first.low;
    }
    quantiles
}

fn histogram(cells: &[Cell], whole: bool) -> Vec<Bin> {
    let (Some(first), Some(last)) = (cells.first(), cells.last()) else { return Vec::new() };
    let (low, mut high) = (first.low, last.high);
    let mut width = (high - low) / BINS as f64;
    let mut bins = BINS;
    if whole {
        // Integers have bins of whole numbers, each of as many.
        width = ((high - low + 1.0) / BINS as f64).ceil();
        bins = (((high - low + 1.0) / width).ceil() as usize).clamp(1, BINS);
        high = low + width * bins as f64;
    }
    if !(width.is_finite() && width > 0.0) {
        return Vec::new();
    }
    let edge = |at: usize| if at == bins { high } else { low + width * at as f64 };
    let mut counts = vec![0.0; bins];
    for cell in cells {
        let place = |number: f64| (((number - low) / width) as usize).min(bins - 1);
        let (from, to) = (place(cell.low), place(cell.high));
        for (at, count) in counts.iter_mut().enumerate().take(to + 1).skip(from) {
            let share = if from == to {
                1.0
            } else {
                let inside = cell.high.min(edge(at + 1)) - cell.low.max(edge(at));
                inside / (cell.high - cell.low)
            };
            *count += share * cell.count as f64;
        }
    }
    let bin = |(at, count): (usize, f64)| Bin {
        low: edge(at),
        high: edge(at + 1),
        count: count.round() as u64,
    };
    counts.into_iter().enumerate().map(bin).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cells(values: &[f64]) -> Vec<Cell> {
        let mut spread = Spread::default();
        values.iter().for_each(|value| spread.add(*value, 1));
        spread.cells()
    }

    #[test]
    fn quantiles_of_few_values_are_values() {
        let told = quantiles(&cells(&[1.0, 2.0, 3.0, 4.0]));
        let values: Vec<f64> = told.iter().map(|(_, value)| *value).collect();
        assert_eq!(values, [1.0, 1.0, 1.0, 2.0, 3.0, 4.0, 4.0]);
        assert!(quantiles(&[]).is_empty());
        assert_eq!(quantiles(&cells(&[7.0])).len(), SHARES.len());
    }

    #[test]
    fn quantiles_of_many_are_near() {
        let values: Vec<f64> = (0..100_000).map(|n| f64::from(n) / 10.0).collect();
        for (share, value) in quantiles(&cells(&values)) {
            assert!((value - share * 10_000.0).abs() < 300.0, "{share}: {value}");
        }
    }

    #[test]
    fn histograms_count_every_value() {
        let values: Vec<f64> = (0..1000).map(f64::from).collect();
        let bins = histogram(&cells(&values), true);
        assert_eq!(bins.iter().map(|bin| bin.count).sum::<u64>(), 1000);
        assert_eq!((bins[0].low, bins[0].high, bins[0].count), (0.0, 84.0, 84));
        let few = histogram(&cells(&[1.0, 2.0, 2.0]), true);
        assert_eq!(few.iter().map(|bin| bin.count).collect::<Vec<_>>(), [1, 2]);
        assert!(histogram(&cells(&[0.5, 0.5]), false).is_empty(), "one value has no width");
        let wide = histogram(&cells(&[-1e308, 1e308]), false);
        assert!(wide.is_empty(), "wider than a double");
    }
}
