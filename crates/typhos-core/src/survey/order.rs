//! Whether the values of a column stand in order: rising or falling, as numbers or as texts.
//!
//! Order is a fact about neighbours, so unlike all others it cannot be learned from blocks in any
//! order. Each block gives a [`OrderedRun`] for a column; the runs of one file are joined where they touch, and
//! whatever is no longer in any order is dropped, which is nearly every column after a few records. What
//! is left at the end is one run a file, and those are joined in the order of the files.
//!
//! Absent values stand in nobody's way. Values of more than [`MOST_BYTES`] are not compared.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::saved::{decimal, text_or_bytes};
use crate::readings::{Decimal, parse_integer, parse_number, token, trim};

/// The longest value that is compared.
const MOST_BYTES: usize = 256;

/// The most files over which order is followed.
const MOST_FILES: usize = 1024;

/// How values stand: both ways where all are equal.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Trend {
    /// None is smaller than the one before.
    pub rises: bool,
    /// None is larger.
    pub falls: bool,
}

impl Trend {
    /// Whether the values are in any order.
    pub fn is_any(self) -> bool {
        self.rises || self.falls
    }

    #[inline]
    fn step(&mut self, step: Option<Ordering>) {
        self.rises &= step.is_some_and(Ordering::is_le);
        self.falls &= step.is_some_and(Ordering::is_ge);
    }

    fn and(self, other: Trend) -> Trend {
        Trend { rises: self.rises && other.rises, falls: self.falls && other.falls }
    }
}

/// A value that others are compared with.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Edge {
    #[serde(with = "text_or_bytes")]
    text: Vec<u8>,
    /// The number that it is, where it is one.
    #[serde(with = "decimal")]
    number: Option<Decimal>,
}

impl Edge {
    fn number_of(value: &[u8]) -> Option<Decimal> {
        if let Some(number) = parse_integer(value) {
            return Some(Decimal { mantissa: number.into(), scale: 0 });
        }
        let number = parse_number(value).filter(|number| number.exponent.is_none())?;
        Some(Decimal { mantissa: number.mantissa, scale: number.scale })
    }

    fn step_from(&self, before: &Edge) -> (Option<Ordering>, Option<Ordering>) {
        let numbers = before.number.zip(self.number);
        (Some(before.text.cmp(&self.text)), numbers.map(|(a, b)| a.cmp(&b)))
    }
}

/// Neighbouring values of one column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct OrderedRun {
    first: Edge,
    last: Edge,
    as_text: Trend,
    as_number: Trend,
}

impl OrderedRun {
    /// A run of one value, which is not blank, where `open` says which orders there may still be.
    fn of(value: &[u8], open: Open) -> OrderedRun {
        let number = Edge::number_of(value);
        let edge = Edge { text: value.to_vec(), number };
        let trend = |is: bool| Trend { rises: is, falls: is };
        OrderedRun {
            first: edge.clone(),
            last: edge,
            as_text: trend(open.as_text),
            as_number: trend(open.as_number && number.is_some()),
        }
    }

    fn is_any(&self) -> bool {
        self.as_text.is_any() || self.as_number.is_any()
    }

    /// Adds the run behind.
    fn join(mut self, next: OrderedRun) -> OrderedRun {
        let (text, number) = next.first.step_from(&self.last);
        self.as_text = self.as_text.and(next.as_text);
        self.as_text.step(text);
        self.as_number = self.as_number.and(next.as_number);
        self.as_number.step(number);
        self.last = next.last;
        self
    }
}

/// The number of the last value, in the form it is compared in.
#[derive(Debug, Clone, Copy)]
enum Before {
    Small(i64),
    Other(Option<Decimal>),
}

impl Before {
    fn of(number: Option<Decimal>) -> Before {
        let small = number.filter(|number| number.scale == 0);
        match small.and_then(|number| i64::try_from(number.mantissa).ok()) {
            Some(small) => Before::Small(small),
            None => Before::Other(number),
        }
    }

    fn number(self) -> Option<Decimal> {
        match self {
            Before::Small(number) => Some(Decimal { mantissa: number.into(), scale: 0 }),
            Before::Other(number) => number,
        }
    }
}

/// Which orders a column may still be in: what was ruled out in one block need not be looked at in the
/// next.
#[derive(Debug, Clone, Copy)]
pub(super) struct Open {
    as_text: bool,
    as_number: bool,
}

/// What one block has to say: nothing yet, a run, or that there is no order.
#[derive(Debug, Clone)]
pub(super) enum BlockRun {
    Empty(Open),
    OrderedRun(Box<OrderedRun>),
    None,
}

impl BlockRun {
    pub fn is_over(&self) -> bool {
        matches!(self, BlockRun::None)
    }
}

/// Values of one slice of a block being added to its run. The last of them stays where it stands, as long
/// as it can.
pub(super) struct Adding<'r, 't> {
    run: &'r mut BlockRun,
    before: Before,
    last: &'t [u8],
    /// Whether the last value is nothing but digits.
    is_digits: bool,
}

impl<'r, 't> Adding<'r, 't> {
    pub fn to(run: &'r mut BlockRun) -> Adding<'r, 't> {
        let before = match &*run {
            BlockRun::OrderedRun(run) => Before::of(run.last.number),
            _ => Before::Other(None),
        };
        Adding { run, before, last: b"", is_digits: false }
    }

    /// Whether there is no order to be found any more.
    pub fn is_over(&self) -> bool {
        self.run.is_over()
    }

    /// Adds the value behind; says whether there is still an order. Blank fields and well-known tokens are
    /// absent, and change nothing.
    #[inline]
    pub fn push(&mut self, value: &'t [u8]) -> bool {
        if value == self.last && !value.is_empty() {
            return !self.is_over();
        }
        let value = trim(value);
        value.is_empty() || token(value).is_some() || self.push_any(value)
    }

    /// As [`push`](Self::push) of a value that is known to be this integer, if it is one. Says whether it
    /// is done; otherwise the value has to be pushed.
    #[inline(always)]
    pub fn push_integer(&mut self, value: &'t [u8], number: Option<i64>) -> bool {
        match (&mut *self.run, &mut self.before, number) {
            (BlockRun::OrderedRun(run), Before::Small(last), Some(number))
                if !run.as_text.is_any() =>
            {
                run.as_number.step(Some(Ord::cmp(last, &number)));
                (*last, self.last, self.is_digits) = (number, value, false);
                run.as_number.is_any() || !self.end()
            }
            (BlockRun::None, ..) => true,
            _ => false,
        }
    }

    /// As [`push`](Self::push) of a value that is neither blank nor a well-known token.
    #[inline(always)]
    pub fn push_value(&mut self, value: &'t [u8]) {
        if !self.is_over() {
            self.push_any(value);
        }
    }

    /// As [`push`](Self::push) of a value that is this integer, and nothing but its digits and the sign of a negative one.
    #[inline(always)]
    pub fn push_digits(&mut self, value: &'t [u8], number: i64) {
        let is_digits = value.first() != Some(&b'-');
        match (&mut *self.run, &mut self.before) {
            (BlockRun::None, _) => {}
            (BlockRun::OrderedRun(run), Before::Small(last))
                if self.is_digits && is_digits && self.last.len() == value.len() =>
            {
                // As many digits: they stand as texts as they do as numbers.
                let step = Some(Ord::cmp(last, &number));
                run.as_number.step(step);
                run.as_text.step(step);
                (*last, self.last) = (number, value);
                if !run.is_any() {
                    self.end();
                }
            }
            _ => {
                if !self.push_integer(value, Some(number)) {
                    self.push_any(value);
                }
                // Its number is not kept where there is no order of numbers any more.
                let is_kept = matches!(self.before, Before::Small(last) if last == number);
                self.is_digits = is_digits && is_kept;
            }
        }
    }

    #[cold]
    fn end(&mut self) -> bool {
        *self.run = BlockRun::None;
        false
    }

    #[inline(never)]
    fn push_any(&mut self, value: &'t [u8]) -> bool {
        if value.len() > MOST_BYTES {
            return self.end();
        }
        match &mut *self.run {
            BlockRun::None => return false,
            BlockRun::Empty(open) => {
                let run = OrderedRun::of(value, *open);
                self.before = Before::of(run.last.number);
                let is_any = run.is_any();
                *self.run = BlockRun::OrderedRun(Box::new(run));
                if !is_any {
                    return self.end();
                }
            }
            BlockRun::OrderedRun(run) => {
                let last = if self.last.is_empty() { &run.last.text[..] } else { self.last };
                if last == value {
                    return true;
                }
                if run.as_number.is_any() {
                    let number = Edge::number_of(value);
                    let step = self.before.number().zip(number).map(|(a, b)| a.cmp(&b));
                    self.before = Before::of(number);
                    run.as_number.step(step);
                }
                run.as_text.step(Some(last.cmp(value)));
                if !run.is_any() {
                    return self.end();
                }
            }
        }
        (self.last, self.is_digits) = (value, false);
        true
    }
}

impl Drop for Adding<'_, '_> {
    fn drop(&mut self) {
        if let BlockRun::OrderedRun(run) = &mut *self.run
            && !self.last.is_empty()
        {
            // Of values that are in no order as numbers it was not kept.
            let number = match run.as_number.is_any() {
                true => self.before.number(),
                false => Edge::number_of(self.last),
            };
            run.last = Edge { text: self.last.to_vec(), number };
        }
    }
}

/// Runs of one column by file, and within a file by the blocks they are of: from one to before another.
#[derive(Debug, Clone)]
pub(super) struct OrderedRuns {
    over: bool,
    open: Open,
    /// In the order of the blocks. Most of the time there is one stretch: a tree of them would take two KiB.
    by_file: BTreeMap<u32, Vec<Stretch>>,
}

/// Blocks from one to before another, and their run.
type Stretch = (u64, (u64, Option<OrderedRun>));

impl Default for OrderedRuns {
    fn default() -> OrderedRuns {
        let open = Open { as_text: true, as_number: true };
        OrderedRuns { over: false, open, by_file: BTreeMap::new() }
    }
}

impl OrderedRuns {
    /// Where the next block starts.
    pub fn next(&self) -> BlockRun {
        if self.over { BlockRun::None } else { BlockRun::Empty(self.open) }
    }

    fn end(&mut self) {
        self.over = true;
        self.by_file.clear();
    }

    /// Adds the run of a block.
    pub fn add(&mut self, file: u32, sequence: u64, run: BlockRun) {
        let run = match run {
            BlockRun::None => return self.end(),
            _ if self.over => return,
            BlockRun::Empty(_) => None,
            BlockRun::OrderedRun(run) => Some(*run),
        };
        let blocks = self.by_file.entry(file).or_default();
        let (mut start, mut end, mut run) = (sequence, sequence + 1, run);
        let mut at = blocks.partition_point(|(start, _)| *start < sequence);
        if at > 0 && blocks[at - 1].1.0 == sequence {
            at -= 1;
            let (earlier_start, (_, earlier)) = blocks.remove(at);
            start = earlier_start;
            run = both(earlier, run);
        }
        if blocks.get(at).is_some_and(|(next, _)| *next == end) {
            let (_, (next_end, later)) = blocks.remove(at);
            (end, run) = (next_end, both(run, later));
        }
        if let Some(run) = &run {
            self.open.as_text &= run.as_text.is_any();
            self.open.as_number &= run.as_number.is_any();
        }
        let is_any = run.as_ref().is_none_or(OrderedRun::is_any);
        // There is one, nearly always.
        if blocks.is_empty() {
            blocks.reserve_exact(1);
        }
        blocks.insert(at, (start, (end, run)));
        if !is_any || self.by_file.len() > MOST_FILES {
            self.end();
        }
    }

    /// What is left once all blocks have come.
    pub fn finish(self) -> Sequence {
        if self.over {
            return Sequence::default();
        }
        let join =
            |blocks: Vec<Stretch>| blocks.into_iter().map(|(_, (_, run))| run).fold(None, both);
        let runs = self.by_file.into_iter().filter_map(|(file, runs)| Some((file, join(runs)?)));
        let mut runs: Vec<_> = runs.collect();
        runs.shrink_to_fit();
        Sequence { runs: in_any_order(runs) }
    }
}

/// Runs of files that together are in an order still; all of them tell of the orders that all are in, since one that
/// was ruled out in one file is not always looked at in the others.
fn in_any_order(mut runs: Vec<(u32, OrderedRun)>) -> Option<Vec<(u32, OrderedRun)>> {
    let all = runs.iter().map(|(_, run)| (run.as_text, run.as_number));
    let all = all.reduce(|(text, number), (a, b)| (text.and(a), number.and(b)));
    for (_, run) in &mut runs {
        (run.as_text, run.as_number) = all?;
    }
    let is_any = runs.first().is_none_or(|(_, run)| run.is_any());
    (is_any && runs.len() <= MOST_FILES).then_some(runs)
}

fn both(a: Option<OrderedRun>, b: Option<OrderedRun>) -> Option<OrderedRun> {
    match (a, b) {
        (Some(a), Some(b)) => Some(a.join(b)),
        (one, None) | (None, one) => one,
    }
}

/// Runs by file are a map where they are saved.
mod by_file {
    use std::collections::BTreeMap;

    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    use super::OrderedRun;

    pub fn serialize<S: Serializer>(
        runs: &Option<Vec<(u32, OrderedRun)>>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        let by_file = |runs: &Vec<(u32, OrderedRun)>| -> BTreeMap<u32, OrderedRun> {
            runs.iter().cloned().collect()
        };
        runs.as_ref().map(by_file).serialize(serializer)
    }

    pub fn deserialize<'d, D: Deserializer<'d>>(
        deserializer: D,
    ) -> Result<Option<Vec<(u32, OrderedRun)>>, D::Error> {
        let runs = Option::<BTreeMap<u32, OrderedRun>>::deserialize(deserializer)?;
        Ok(runs.map(|runs| runs.into_iter().collect()))
    }
}

/// How the values of a column stand, file by file.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Sequence {
    /// By file, in their order; nothing where there is no order. Most inputs have one file.
    #[serde(with = "by_file")]
    runs: Option<Vec<(u32, OrderedRun)>>,
}

impl Sequence {
    /// A sequence without values.
    pub(super) fn empty() -> Sequence {
        Sequence { runs: Some(Vec::new()) }
    }

    /// How the values stand as texts and as numbers; `None` where there are fewer than two that differ,
    /// or no order.
    pub fn trends(&self) -> Option<(Trend, Trend)> {
        let runs = self.runs.as_ref()?.iter().map(|(_, run)| run.clone());
        let whole = runs.reduce(OrderedRun::join)?;
        let differ = whole.first.text != whole.last.text;
        (differ && whole.is_any()).then_some((whole.as_text, whole.as_number))
    }

    /// Adds that of other files; of the same files as well, where it is of what comes next in them, `in_order`.
    pub(super) fn merge(&mut self, other: Sequence, in_order: bool) {
        let both = self.runs.take().zip(other.runs);
        self.runs = both.and_then(|(mut ours, theirs)| {
            for (file, run) in theirs {
                match ours.binary_search_by_key(&file, |(file, _)| *file) {
                    // Else nobody knows which of two stands first.
                    Ok(at) if in_order => ours[at].1 = ours[at].1.clone().join(run),
                    Ok(_) => return None,
                    Err(at) => ours.insert(at, (file, run)),
                }
            }
            in_any_order(ours)
        });
    }

    /// Gives the files other numbers.
    pub(super) fn renumber(&mut self, new: &dyn Fn(u32) -> u32) {
        if let Some(runs) = self.runs.take() {
            let by_file: BTreeMap<u32, OrderedRun> =
                runs.into_iter().map(|(file, run)| (new(file), run)).collect();
            self.runs = Some(by_file.into_iter().collect());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn run_of(values: &[String]) -> BlockRun {
        let mut run = OrderedRuns::default().next();
        // In two parts, as a block comes in slices.
        let (first, second) = values.split_at(values.len() / 2);
        for part in [first, second] {
            let mut adding = Adding::to(&mut run);
            part.iter().for_each(|value| {
                adding.push(value.as_bytes());
            });
        }
        run
    }

    proptest! {
        /// Blocks in any order say what all values in their order say.
        #[test]
        fn order_is_found_whatever_comes_first(
            mut numbers in proptest::collection::vec(-20i32..200, 0..40), sorted in 0u8..3,
            cuts in proptest::collection::vec(0usize..40, 0..6), seed in 0usize..1000, two_files: bool,
        ) {
            match sorted {
                0 => numbers.sort_unstable(),
                1 => numbers.sort_unstable_by(|a, b| b.cmp(a)),
                _ => {}
            }
            let values: Vec<String> = numbers.iter().map(i32::to_string).collect();
            let mut cuts: Vec<usize> = cuts.into_iter().map(|cut| cut.min(values.len())).chain([0, values.len()]).collect();
            cuts.sort_unstable();
            let half = cuts.len() / 2;
            let mut blocks: Vec<(u32, u64, BlockRun)> = cuts.windows(2).enumerate()
                .map(|(at, cut)| (u32::from(two_files && at >= half), at as u64, run_of(&values[cut[0]..cut[1]]))).collect();
            let length = blocks.len().max(1);
            blocks.rotate_left(seed % length);
            if seed % 2 == 0 { blocks.reverse(); }
            let mut runs = OrderedRuns::default();
            blocks.into_iter().for_each(|(file, sequence, run)| runs.add(file, sequence, run));
            let trend = |is: &dyn Fn(usize) -> Option<Ordering>| {
                let steps: Vec<_> = (1..values.len()).map(is).collect();
                Trend {
                    rises: steps.iter().all(|step| step.is_some_and(Ordering::is_le)),
                    falls: steps.iter().all(|step| step.is_some_and(Ordering::is_ge)),
                }
            };
            let as_number = trend(&|at| Some(numbers[at - 1].cmp(&numbers[at])));
            let as_text = trend(&|at| Some(values[at - 1].cmp(&values[at])));
            let differ = values.windows(2).any(|pair| pair[0] != pair[1]);
            let want = (differ && (as_text.is_any() || as_number.is_any())).then_some((as_text, as_number));
            let sequence = runs.finish();
            prop_assert_eq!(sequence.trends(), want);
            let saved = serde_json::to_string(&sequence).unwrap();
            prop_assert_eq!(serde_json::from_str::<Sequence>(&saved).unwrap(), sequence);
        }
    }

    #[test]
    fn absent_values_are_passed_over_and_words_have_no_numbers() {
        let of = |values: &[&str]| {
            let mut runs = OrderedRuns::default();
            let values: Vec<String> = values.iter().map(|v| (*v).to_owned()).collect();
            runs.add(0, 0, run_of(&values));
            runs.finish().trends()
        };
        let (up, none) =
            (Trend { rises: true, falls: false }, Trend { rises: false, falls: false });
        assert_eq!(of(&["1", "", "NA", "9", "10"]), Some((none, up)));
        assert_eq!(of(&["a", " b ", "c"]), Some((up, none)));
        assert_eq!(of(&["2", "b", "1"]), None);
        assert_eq!(of(&["2", "2"]), None, "nothing to be in order");
        assert_eq!(of(&[]), None);
        assert_eq!(of(&["a", &"b".repeat(300)]), None);
    }
}
