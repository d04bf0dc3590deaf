//! The facts of one column, and the two ways of watching it.

use std::num::NonZeroUsize;
use std::sync::Arc;

use super::direct::Direct;
use super::distinct::{DistinctTable, DistinctValue, MAX_DISTINCT, most_hashes};
use super::estimate::Hashes;
use super::fold::add_all;
use super::group::{GROUP, Group};
use super::habit::{Fields, Passed};
use super::log::{Prospect, ValueLog};
use super::order::Adding;
use super::spread::most_cells;
use super::{Class, Facts, KindFacts, Sequence, Tally};
use crate::intern::Key;
use crate::readings;
use crate::text::LineRef;

/// Distinct values whose table stays in the fastest caches, so that a look-up need not wait.
const FEW: usize = 4096;

/// Distinct values whose table stays in the second level of cache, where look-ups one after the other overlap enough: by `perf`
/// taking them in groups costs more than it saves up to here.
const STILL_FEW: usize = 16_384;

/// What is known of one column.
#[derive(Debug, Clone)]
pub struct ColumnFacts {
    /// Facts of all values that are not in the table.
    pub(super) direct: Direct,
    /// The distinct values, as long as there are not too many of them.
    pub(super) table: Option<DistinctTable>,
    /// Values that are not in the table yet, where it will most likely be given up.
    pub(super) log: Option<Box<ValueLog>>,
    /// Distinct values from which on it is asked whether that is likely; `usize::MAX` once it was.
    pub(super) log_from: usize,
    /// What the logs of all threads say together.
    pub(super) prospect: Arc<Prospect>,
    /// The hashes of all values, once there is no table any more.
    pub(super) hashes: Option<Hashes>,
    /// The most hashes that are kept one by one.
    pub(super) most_hashes: usize,
    /// Fields with nothing in them but white space.
    pub(super) empty: u64,
    /// Values in quotes, where they are looked for.
    pub(super) quoted: Tally,
    /// How the values stand.
    pub(super) sequence: Sequence,
    /// Kinds of values, where the format tells them apart.
    pub(super) kinds: Option<Box<KindFacts>>,
    /// How many elements there are, where its values are those of lists; otherwise there is one for each record.
    pub(super) elements: Option<u64>,
}

/// How many distinct values a column has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DistinctCount {
    /// How many.
    pub count: u64,
    /// Whether that is exact; otherwise it is an [estimate](super::ESTIMATE_ERROR).
    pub is_exact: bool,
}

impl ColumnFacts {
    /// No values yet, in a survey of `columns` columns, and [the facts](Self::none) of none.
    pub(super) fn new(columns: usize, none: Arc<Facts>) -> Self {
        ColumnFacts {
            direct: Direct { made: None, none },
            table: Some(DistinctTable::new(columns)),
            log: None,
            log_from: FEW,
            prospect: Arc::new(Prospect::of_threads(NonZeroUsize::MIN)),
            hashes: None,
            most_hashes: most_hashes(columns),
            empty: 0,
            quoted: Tally::default(),
            sequence: Sequence::empty(),
            kinds: None,
            elements: None,
        }
    }

    /// Facts of no values, in a survey of `columns` columns; `said` are the texts that mean "no value", and `is_all`
    /// that no others do.
    pub(super) fn none(columns: usize, said: &[String], is_all: bool) -> Facts {
        Facts::new(said, is_all, most_cells(columns))
    }

    /// Takes note of one value, which stands behind all that were observed before. `is_utf8` says that
    /// the text around it is known to be valid.
    pub(super) fn observe(&mut self, value: &[u8], is_utf8: bool, place: LineRef) {
        let trimmed = readings::trim(value);
        if trimmed.is_empty() {
            self.empty += 1;
        } else if let Some(table) = &mut self.table {
            table.may_be_malformed |= !is_utf8;
            self.keep(value, place);
        } else {
            self.hash(value);
            if is_utf8 {
                self.direct.add_trimmed(value, trimmed, 1, place);
            } else {
                self.direct.add(value, 1, place);
            }
        }
    }

    /// Takes note of a value among the distinct ones of a column without a table.
    #[inline(always)]
    fn hash(&mut self, value: &[u8]) {
        if let Some(hashes) = &mut self.hashes {
            hashes.add(value, self.most_hashes);
        }
    }

    /// The table of a column with few distinct values, in which it is fast to count them one by one.
    pub(super) fn few(&mut self) -> Option<&mut DistinctTable> {
        // Once it is known that no log is kept.
        let few = if self.log_from == usize::MAX { STILL_FEW } else { FEW };
        let is_small = |table: &&mut DistinctTable| table.len() <= few;
        if self.log.is_some() { None } else { self.table.as_mut().filter(is_small) }
    }

    /// Whether values are better looked up in a [`Group`]: there are many, and a table of them.
    pub(super) fn wants_groups(&mut self) -> bool {
        self.choose_log();
        self.table.is_some()
    }

    /// Looks at a valid value of which note will be taken, in a column without a table: where values come in order, those
    /// before the last are no extremes then.
    pub(super) fn expect(&mut self, value: &[u8]) {
        let facts: &mut Facts = &mut self.direct;
        if self.table.is_none() && facts.said.is_empty() {
            facts.text.expect(value);
        }
    }

    /// Takes note of the first of some values, in a column without a table, and of how they stand: of as many as are what
    /// the column is in the habit of. `place` says where the record of a field stands.
    #[inline(never)]
    pub(super) fn pass_habit<'t>(
        &mut self,
        fields: Fields<'_, 't>,
        place: impl Fn(u32) -> LineRef,
        adding: &mut Adding<'_, 't>,
    ) -> Passed {
        let Some(hashes) = &mut self.hashes else { return Passed::default() };
        let facts: &mut Facts = &mut self.direct;
        let passed = facts.pass_habit(fields, place, &mut hashes.sink(), adding);
        hashes.see_to_list(self.most_hashes);
        passed
    }

    /// As [`observe_group`](Self::observe_group), in a column without a table; takes note of how the
    /// values stand, too.
    pub(super) fn observe_directly<'t>(
        &mut self,
        group: &mut Group,
        text: &'t [u8],
        place: impl Fn(u32) -> LineRef,
        adding: &mut Adding<'_, 't>,
    ) {
        let values = &group.values[..group.length];
        let Some((_, _, first)) = values.first() else { return };
        debug_assert!(self.table.is_none(), "values go through the table while there is one");
        let bytes = |(start, end, _): &(u32, u32, u32)| &text[*start as usize..*end as usize];
        let mut numbers = [None; GROUP];
        let ColumnFacts { direct, hashes, most_hashes, empty, .. } = self;
        let direct: &mut Facts = direct;
        let row = |row: u32| (1, place(row));
        *empty +=
            direct.add_group::<false>(text, values, row, place(*first), |at, value, number| {
                if let Some(hashes) = hashes {
                    hashes.add(value, *most_hashes);
                }
                numbers[at] = number;
            });
        if !adding.is_over() {
            for (value, number) in values.iter().map(bytes).zip(numbers) {
                if !adding.push_integer(value, number) {
                    adding.push(value);
                }
            }
        }
        group.length = 0;
    }

    /// Takes note of the values of a group, as [`observe`](Self::observe) does of one, and empties it. The
    /// text is valid UTF-8.
    ///
    /// A value that was seen before is only counted: nothing else is to be known of it. The steps of the
    /// look-up are taken for all values before the next, see [`Interner`](crate::intern::Interner).
    pub(super) fn observe_group(
        &mut self,
        group: &mut Group,
        text: &[u8],
        place: impl Fn(u32) -> LineRef,
    ) {
        if let Some(log) = &mut self.log {
            self.empty += log.push_group(group, text, place);
            return self.see_to_log();
        }
        let values = &group.values[..group.length];
        let mut is_counted = [false; GROUP];
        if let Some(table) = &mut self.table {
            let mut table = table.values_mut().counter();
            let mut keys = [(Key::EMPTY, 0); GROUP];
            let mut candidates = [0; GROUP];
            for ((key, place), (start, end, _)) in keys.iter_mut().zip(values) {
                *key = Key::within(text, *start as usize, *end as usize);
                *place = table.place(table.hash(*key, &text[*start as usize..*end as usize]));
            }
            for (candidate, (_, place)) in candidates.iter_mut().zip(&keys[..values.len()]) {
                *candidate = table.candidate(*place);
            }
            for ((is_it, candidate), (key, _)) in is_counted.iter_mut().zip(candidates).zip(&keys) {
                *is_it = table.has_key(candidate, *key);
            }
            let found = is_counted.iter_mut().zip(candidates).zip(&keys).zip(values);
            for (((is_it, candidate), (key, place)), (start, end, _)) in found {
                let value = &text[*start as usize..*end as usize];
                // What is known stands behind its first place: its count is all that changes.
                *is_it = *is_it && table.count_candidate(candidate, *key, value)
                    || table.count_from(*place, *key, value);
            }
        }
        for ((start, end, row), is_counted) in values.iter().zip(is_counted) {
            if !is_counted {
                self.observe(&text[*start as usize..*end as usize], true, place(*row));
            }
        }
        group.length = 0;
    }

    /// Whether all distinct values that there are, blank ones left aside, are examples of values in quotes from before a place.
    pub(super) fn has_quoted_all(&self, from: LineRef) -> bool {
        let (known, table) = (&self.quoted.examples, self.table.as_ref());
        let is_in = |table: &DistinctTable| {
            table.len() == known.len()
                && known.iter().all(|known| known.place <= from && table.has(&known.value))
        };
        self.log.is_none() && table.is_some_and(is_in)
    }

    /// How many fields had nothing in them, or were blank.
    pub(super) fn empty(&self) -> u64 {
        self.empty
    }

    /// Takes note of fields with nothing in them.
    pub(super) fn observe_empty(&mut self, count: u64) {
        self.empty += count;
    }

    /// Takes note of a value that is a text, blank as it may be.
    #[cold]
    pub(super) fn observe_text(&mut self, value: &[u8], place: LineRef) {
        if self.table.is_some() {
            self.keep(value, place);
        } else {
            self.hash(value);
            self.direct.add(value, 1, place);
        }
    }

    /// Keeps a value of a column with a table.
    #[inline]
    fn keep(&mut self, value: &[u8], place: LineRef) {
        let Some(table) = &mut self.table else { return };
        match &mut self.log {
            Some(log) => {
                log.push(value, place);
                self.see_to_log();
            }
            None => {
                table.add(value, 1, place);
                if table.is_over() {
                    self.fold();
                }
            }
        }
    }

    /// Keeps no hash one by one, as if there had been too many.
    #[cfg(test)]
    pub(super) fn condense(&mut self) {
        self.hashes.as_mut().expect("there is no table any more").condense();
    }

    pub(super) fn merge(&mut self, mut other: ColumnFacts) {
        self.end_log();
        other.end_log();
        self.empty += other.empty;
        if let Some(elements) = other.elements {
            *self.elements.get_or_insert(0) += elements;
        }
        match (&mut self.table, &mut other.table) {
            (Some(ours), Some(theirs)) => {
                ours.merge(theirs);
                if ours.is_over() {
                    self.fold();
                }
            }
            _ => {
                self.fold();
                other.fold();
            }
        }
        if let (Some(ours), Some(theirs)) = (&mut self.hashes, other.hashes) {
            ours.merge(theirs, self.most_hashes);
        }
        self.settle();
        self.direct.merge(other.direct);
        self.quoted.merge(other.quoted);
        match (&mut self.kinds, other.kinds) {
            (Some(ours), Some(theirs)) => ours.merge(&theirs),
            (ours, theirs) => *ours = ours.take().or(theirs),
        }
    }

    /// Adds the facts of other files, or of what comes next `in_order`, in which places have other numbers already.
    pub(super) fn pool(&mut self, other: ColumnFacts, in_order: bool) {
        self.sequence.merge(other.sequence.clone(), in_order);
        self.merge(other);
    }

    /// Gives the files other numbers.
    pub(super) fn renumber(&mut self, new: &dyn Fn(u32) -> u32) {
        self.move_places(&|place| LineRef { part: new(place.part), ..place });
        self.sequence.renumber(new);
    }

    /// Gives all values other places.
    pub(super) fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        if let Some(direct) = &mut self.direct.made {
            direct.move_places(new);
        }
        self.table.iter_mut().for_each(|table| table.move_places(new));
        self.log.iter_mut().for_each(|log| log.move_places(new));
        self.quoted.move_places(new);
        self.kinds.iter_mut().for_each(|kinds| kinds.move_places(new));
    }

    /// The facts of all values but how they are spread. Worked out from the distinct values where those
    /// are known, so ask once.
    pub fn facts(&self) -> Facts {
        self.all_facts(self.direct.clone_without_spread())
    }

    /// The facts of all values, and how they are spread.
    pub fn facts_with_spread(&self) -> Facts {
        self.all_facts(Facts::clone(&self.direct))
    }

    fn all_facts(&self, mut facts: Facts) -> Facts {
        debug_assert!(self.log.is_none(), "a survey is settled before it is asked");
        if let Some(table) = &self.table {
            add_all(&mut facts, table, &mut |_| {});
        }
        facts.blank += self.empty;
        facts.settle();
        facts
    }

    /// Makes what was noted fit to be asked.
    pub(super) fn settle(&mut self) {
        self.end_log();
        self.table.iter_mut().for_each(DistinctTable::settle);
        if let Some(hashes) = &mut self.hashes {
            hashes.settle(self.most_hashes);
        }
    }

    /// How many distinct values there are, the empty one not counted. Exact up to [`MAX_DISTINCT`]; in
    /// inputs of more than ninety columns sooner an estimate.
    pub fn distinct(&self) -> DistinctCount {
        match (&self.table, &self.hashes) {
            (Some(table), _) => DistinctCount { count: table.len() as u64, is_exact: true },
            (None, Some(hashes)) => {
                let (count, is_exact) = hashes.count();
                // Hashes are kept only where there were more values than a table takes.
                let is_exact = is_exact && count <= MAX_DISTINCT as u64;
                DistinctCount { count, is_exact }
            }
            (None, None) => DistinctCount { count: 0, is_exact: true },
        }
    }

    /// Whether some values are not valid in the encoding.
    pub fn is_malformed(&self) -> bool {
        let in_table = |table: &DistinctTable| {
            table.may_be_malformed
                && table.values().any(|found| std::str::from_utf8(found.value).is_err())
        };
        self.direct.count(Class::Malformed) > 0 || self.table.as_ref().is_some_and(in_table)
    }

    /// Whether the distinct values are at hand one by one.
    pub fn has_values(&self) -> bool {
        self.table.is_some()
    }

    /// Values that stood in quotes, where the survey was told to look for them.
    pub fn quoted(&self) -> &Tally {
        &self.quoted
    }

    /// Kinds of values, where the format tells them apart.
    pub fn kinds(&self) -> Option<&KindFacts> {
        self.kinds.as_deref()
    }

    /// Whether the format says of all values that they are numbers, or true or false.
    pub fn tells_numbers(&self) -> bool {
        self.kinds.is_some() && self.quoted.count == 0
    }

    /// How the values stand: rising, falling, or in no order.
    pub fn sequence(&self) -> &Sequence {
        &self.sequence
    }

    /// Bytes of the distinct values.
    pub fn distinct_bytes(&self) -> Option<u64> {
        self.table.as_ref().map(|table| table.value_bytes() as u64)
    }

    /// The distinct values with their counts, the most frequent first; empty where there are too many.
    pub fn distinct_values(&self) -> Vec<DistinctValue<'_>> {
        let mut values: Vec<_> = self.table.iter().flat_map(DistinctTable::values).collect();
        values.sort_by(|a, b| {
            b.count
                .cmp(&a.count)
                .then_with(|| a.first.cmp(&b.first))
                .then_with(|| a.value.cmp(b.value))
        });
        values
    }
}

#[cfg(test)]
mod tests {
    use super::super::saved::{SavedColumn, SavedHashes};
    use super::*;
    use crate::laws::value;
    use proptest::prelude::*;

    /// So many columns that each gets next to no memory: tables are folded after the first value, a few
    /// hashes are kept, and spreads are coarse.
    const CRAMPED: usize = 1_000_000;

    fn column(columns: usize, values: &[(String, u64)]) -> ColumnFacts {
        column_with_log(columns, values, usize::MAX)
    }

    /// The same, where a log is kept from so many distinct values on, whatever they are.
    fn column_with_log(columns: usize, values: &[(String, u64)], log_from: usize) -> ColumnFacts {
        let none = ColumnFacts::none(columns, &["-".to_owned()], false);
        let mut column = ColumnFacts::new(columns, Arc::new(none));
        for (value, line) in values {
            let is_time = column.table.as_ref().is_some_and(|table| table.len() >= log_from);
            if is_time && column.log.is_none() {
                column.log = Some(Box::default());
            }
            column.observe(value.as_bytes(), true, LineRef { part: 0, line: *line });
        }
        column
    }

    /// The smallest and largest numbers as a person is shown them: of equal ones always the same.
    fn shown_ranges(column: &ColumnFacts) -> Vec<Option<(String, String)>> {
        let facts = column.facts();
        let views = facts.written.iter().flat_map(|written| written.views.each_ref());
        let ranges = views.map(|view| view.range).chain([facts.numbers.range()]);
        ranges.map(|range| range.map(|(low, high)| (low.to_string(), high.to_string()))).collect()
    }

    proptest! {
        /// With a table and without, whole or in parts, in any order: the same facts.
        #[test]
        fn values_give_the_same_facts_on_every_way(
            kinds in proptest::collection::vec(value(), 1..12),
            picks in proptest::collection::vec(0usize..12, 0..80), cut in 0usize..80, log_from in 0usize..6,
        ) {
            let values: Vec<(String, u64)> =
                (1..).zip(&picks).map(|(line, at)| (kinds[at % kinds.len()].clone(), line)).collect();
            let (first, second) = values.split_at(cut.min(values.len()));
            let roomy = column(1, &values);
            for columns in [1, 20_000, CRAMPED] {
                let whole = column(columns, &values);
                let mut parts = column(columns, first);
                parts.merge(column(columns, second));
                let mut backwards = column(columns, second);
                backwards.merge(column(columns, first));
                prop_assert_eq!(whole.facts(), roomy.facts());
                let mut logged = column_with_log(columns, &values, log_from);
                logged.settle();
                prop_assert_eq!(logged.facts_with_spread(), whole.facts_with_spread());
                prop_assert_eq!(shown_ranges(&logged), shown_ranges(&whole));
                let mut settled = whole.clone();
                settled.settle();
                prop_assert_eq!(logged.distinct(), settled.distinct());
                for other in [&parts, &backwards] {
                    prop_assert_eq!(other.facts_with_spread(), whole.facts_with_spread());
                    prop_assert_eq!(shown_ranges(other), shown_ranges(&whole));
                    prop_assert_eq!(other.distinct(), settled.distinct());
                }
                let none = Arc::new(ColumnFacts::none(columns, &[], false));
                let saved = serde_json::to_string(&settled.save(&none)).unwrap();
                let saved = serde_json::from_str(&saved).unwrap();
                let restored = ColumnFacts::restore(saved, &none, columns, values.len() as u64);
                let restored = restored.expect("what is saved adds up");
                prop_assert_eq!(restored.facts_with_spread(), whole.facts_with_spread());
                prop_assert_eq!(restored.distinct(), settled.distinct());
            }
        }
    }

    #[test]
    fn columns_that_do_not_add_up_are_refused() {
        let values: Vec<(String, u64)> = (1..20).map(|n| (n.to_string(), n)).collect();
        for columns in [1, CRAMPED] {
            let none = Arc::new(ColumnFacts::none(columns, &[], false));
            let saved = || {
                let mut column = column(columns, &values);
                column.settle();
                column.save(&none)
            };
            assert!(ColumnFacts::restore(saved(), &none, columns, 19).is_some());
            assert!(
                ColumnFacts::restore(saved(), &none, columns, 20).is_none(),
                "records are missing"
            );
            let both = SavedColumn { values: None, hashes: None, ..saved() };
            assert!(
                ColumnFacts::restore(both, &none, columns, 19).is_none(),
                "neither values nor hashes"
            );
            let short = SavedHashes::Sketch("00".into());
            let short = SavedColumn { values: None, hashes: Some(short), ..saved() };
            assert!(ColumnFacts::restore(short, &none, columns, 19).is_none(), "too few registers");
        }
    }
}
