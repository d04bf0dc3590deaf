//! Giving up the table of a column that has too many distinct values, and putting values down beforehand where that is likely.

use super::ColumnFacts;
use super::Facts;
use super::distinct::DistinctTable;
use super::estimate::Hashes;
use super::group::GROUP;
use super::grouped::Within;
use super::habit::{Fields, NONE_ODD, Patience};
use super::log::{Outlook, ValueLog};
use super::order::{Adding, BlockRun};
use crate::records::Bounds;
use crate::text::LineRef;

impl ColumnFacts {
    /// Puts values down from now on, if a table of them would most likely be given up: once there are many, and nearly
    /// all were different.
    pub(super) fn choose_log(&mut self) {
        let Some(table) = &mut self.table else { return };
        if table.len() > self.log_from {
            self.log_from = usize::MAX;
            table.settle();
            let seen: u64 = table.values().map(|found| found.count).sum();
            if seen * 4 <= table.len() as u64 * 5 {
                self.log = Some(Box::default());
            }
        }
    }

    /// Looks at the log, where there may be too many values.
    #[inline]
    pub(super) fn see_to_log(&mut self) {
        let (Some(log), Some(table)) = (&mut self.log, &self.table) else { return };
        match log.outlook(table, &self.prospect) {
            Outlook::Open => {}
            Outlook::Over { distinct } => self.fold_all(distinct),
            Outlook::Repeating => self.end_log(),
        }
    }

    /// Moves the values of the log to where they belong.
    pub(super) fn end_log(&mut self) {
        let (Some(log), Some(table)) = (&mut self.log, &mut self.table) else { return };
        table.settle();
        if let Outlook::Over { distinct } = log.outlook(table, &self.prospect) {
            self.fold_all(distinct);
        } else if let Some(log) = self.log.take() {
            log.iter().for_each(|(value, place)| self.observe_text(value, place));
        }
    }

    /// Gives up the table.
    #[cold]
    pub(super) fn fold(&mut self) {
        self.end_log();
        if let Some(table) = &self.table {
            self.fold_all(table.len());
        }
    }

    /// Gives up the table and the log, which have so many distinct values.
    fn fold_all(&mut self, distinct: usize) {
        let Some(mut table) = self.table.take() else { return };
        table.settle();
        let hashes = self.hashes.get_or_insert_with(Hashes::new);
        if distinct > self.most_hashes {
            hashes.condense();
        }
        let mut hash = |value: &[u8]| hashes.add(value, self.most_hashes);
        add_all(&mut self.direct, &table, &mut hash);
        let Some(mut log) = self.log.take() else { return };
        if table.may_be_malformed {
            for (value, place) in log.iter() {
                hash(value);
                self.direct.add(value, 1, place);
            }
            return;
        }
        self.fold_log(&mut log);
    }

    /// Adds the values of a log, as those of a column without a table are added.
    fn fold_log(&mut self, log: &mut ValueLog) {
        let ColumnFacts { direct, hashes: Some(hashes), most_hashes, .. } = self else { return };
        // What is passed over stands in order, and is not empty.
        let passes = log.is_in_order() && !log.has_empty();
        let (text, values, firsts) = log.values();
        let bounds: Vec<Bounds> = values.iter().map(|(start, end, _)| (*start, *end)).collect();
        let place = |row: u32| (1, firsts[row as usize]);
        let mut order = BlockRun::None;
        let mut adding = Adding::to(&mut order);
        let mut patience = Patience::default();
        let mut at = 0;
        while at < values.len() {
            if passes && patience.is_over() {
                let place = |row: u32| firsts[at + row as usize];
                let mut sink = hashes.sink();
                let fields = Fields { text, bounds: &bounds[at..], odd: &NONE_ODD };
                let passed = direct.pass_habit(fields, place, &mut sink, &mut adding);
                hashes.see_to_list(*most_hashes);
                patience.note(passed.fields > 0);
                at += passed.fields;
            }
            let group = &values[at..values.len().min(at + GROUP)];
            let mut hash = |value: &[u8]| hashes.add(value, *most_hashes);
            add_valid(direct, text, group, place, &mut hash);
            at += group.len();
        }
    }
}

/// Adds all values of a table to plain facts, and tells `hash` of each.
pub(super) fn add_all(facts: &mut Facts, table: &DistinctTable, hash: &mut dyn FnMut(&[u8])) {
    if table.may_be_malformed {
        for found in table.values() {
            hash(found.value);
            facts.add(found.value, found.count, found.first);
        }
        return;
    }
    let mut group = [(0, 0, 0); GROUP];
    let mut places = table.places();
    loop {
        let mut length = 0;
        for (free, place) in group.iter_mut().zip(&mut places) {
            (*free, length) = (place, length + 1);
        }
        if length == 0 {
            break;
        }
        add_valid(facts, table.text(), &group[..length], |row| table.seen(row), hash);
    }
}

/// Adds some values of a valid text to plain facts, blank ones as texts, and tells `hash` of each.
fn add_valid(
    facts: &mut Facts,
    text: &[u8],
    values: &[Within],
    row: impl Fn(u32) -> (u64, LineRef),
    hash: &mut dyn FnMut(&[u8]),
) {
    values.iter().for_each(|(start, end, _)| hash(&text[*start as usize..*end as usize]));
    let Some(first) = values.iter().map(|(_, _, number)| row(*number).1).min() else { return };
    facts.add_group::<true>(text, values, row, first, |_, _, _| {});
}
