//! A table of groups: each row finds its group by the codes of its values, and where the table is full it is put aside as a sorted
//! run.

use std::collections::HashMap;
use std::io;
use std::sync::Arc;

use arrow_array::ArrayRef;
use arrow_row::{RowConverter, Rows, SortField};
use arrow_schema::SortOptions;

use super::TallyError;
use super::coder::{Coder, key_type};
use super::measure::States;
use crate::spilling::{ByteMerge, ByteRuns, Scratch};
use crate::terms::Term;

/// Groups of rows that have the same values in some columns.
#[derive(Debug)]
pub(super) struct GroupTable {
    coders: Vec<Coder>,
    /// From the second column on: the number of a group of the columns before, and a code, as the number of a group.
    steps: Vec<Step>,
    states: States,
    keys: Arc<Keys>,
    /// Bytes it may hold.
    room: usize,
    scratch: Arc<dyn Scratch>,
    runs: ByteRuns,
}

#[derive(Debug, Default)]
struct Step {
    numbers: HashMap<u64, u32, foldhash::fast::RandomState>,
    /// For each number what it was made of.
    made_of: Vec<(u32, u32)>,
}

/// How the keys of groups become bytes that compare as the groups do: absent last.
#[derive(Debug)]
pub(super) struct Keys {
    converter: Option<RowConverter>,
}

impl Keys {
    pub fn of(terms: &[&Term]) -> Keys {
        let options = SortOptions { descending: false, nulls_first: false };
        let field = |term: &&Term| SortField::new_with_options(key_type(term), options);
        let fields: Vec<SortField> = terms.iter().map(field).collect();
        let converter = (!fields.is_empty())
            .then(|| RowConverter::new(fields).expect("every type of a key has an order"));
        Keys { converter }
    }

    fn rows(&self, columns: &[ArrayRef]) -> Option<Rows> {
        let converter = self.converter.as_ref()?;
        Some(converter.convert_columns(columns).expect("columns of the types of the keys"))
    }

    /// Keys as columns again.
    pub fn columns(&self, keys: &[Vec<u8>]) -> Vec<ArrayRef> {
        let Some(converter) = &self.converter else { return Vec::new() };
        let parser = converter.parser();
        let rows = keys.iter().map(|key| parser.parse(key));
        converter.convert_rows(rows).expect("keys that were made here")
    }
}

/// An entry of a run: a key, what is known of its group, and how long the key is.
pub(super) fn split_entry(entry: &[u8]) -> (&[u8], &[u8]) {
    let (entry, length) = entry.split_last_chunk().expect("an entry has a length");
    entry.split_at(u32::from_le_bytes(*length) as usize)
}

impl GroupTable {
    pub fn new(
        terms: Vec<&Term>,
        states: States,
        room: usize,
        scratch: Arc<dyn Scratch>,
    ) -> GroupTable {
        GroupTable {
            coders: terms.iter().map(|term| Coder::new(term)).collect(),
            steps: terms.iter().skip(1).map(|_| Step::default()).collect(),
            states,
            keys: Arc::new(Keys::of(&terms)),
            room,
            runs: ByteRuns::new(scratch.clone()),
            scratch,
        }
    }

    /// Takes rows: the values they are grouped by, and those that are measured. With `only_present`, rows whose last value is
    /// absent are left out.
    pub fn take(
        &mut self,
        keys: &[ArrayRef],
        measured: &[Option<ArrayRef>],
        rows: usize,
        only_present: bool,
    ) -> Result<(), TallyError> {
        let coded = self.coders.iter_mut().zip(keys).map(|(coder, key)| coder.codes(key));
        let mut codes: Vec<Vec<u32>> = coded.collect::<Result<_, _>>()?;
        if let Some(last) = codes.last().filter(|_| only_present) {
            let is_kept: Vec<bool> = last.iter().map(|code| *code > 0).collect();
            for codes in &mut codes {
                let mut is_kept = is_kept.iter();
                codes.retain(|_| *is_kept.next().expect("as many as there are rows"));
            }
        }
        let mut codes = codes.into_iter();
        // The codes of one column alone are numbers of groups already.
        let mut groups = codes.next().unwrap_or_else(|| vec![0; rows]);
        for (step, codes) in self.steps.iter_mut().zip(codes) {
            step.go_on(&mut groups, &codes);
        }
        let Some(most) = groups.iter().max() else { return Ok(()) };
        let count = self.states.rows.len().max(*most as usize + 1);
        self.states.resize(count);
        self.states.take(&groups, measured)?;
        if self.held() > self.room {
            self.put_aside()?;
        }
        Ok(())
    }

    /// About how many bytes it holds, or will when it is put aside.
    fn held(&self) -> usize {
        let coders: usize = self.coders.iter().map(Coder::held).sum();
        let steps: usize = self.steps.iter().map(Step::held).sum();
        // Keys are made for all groups at once.
        let keys = self.states.rows.len() * (8 + 16 * self.coders.len());
        coders + steps + keys + self.states.held()
    }

    /// The groups in order, as entries of a run.
    fn sorted(&self) -> impl Iterator<Item = Vec<u8>> + Clone {
        let groups: Vec<u32> = (0..self.states.rows.len() as u32)
            .filter(|group| self.states.rows[*group as usize] > 0)
            .collect();
        let mut codes: Vec<Vec<u32>> =
            self.coders.iter().map(|_| Vec::with_capacity(groups.len())).collect();
        for group in &groups {
            let mut number = *group;
            for (at, codes) in codes.iter_mut().enumerate().rev() {
                let code = match at {
                    0 => number,
                    at => {
                        let (before, code) = self.steps[at - 1].made_of[number as usize];
                        number = before;
                        code
                    }
                };
                codes.push(code);
            }
        }
        let columns = self.coders.iter().zip(codes);
        let columns: Vec<ArrayRef> =
            columns.map(|(coder, codes)| coder.array(codes.into_iter())).collect();
        let rows = self.keys.rows(&columns).map(Arc::new);
        let mut order: Vec<u32> = (0..groups.len() as u32).collect();
        if let Some(rows) = &rows {
            order.sort_unstable_by(|a, b| rows.row(*a as usize).cmp(&rows.row(*b as usize)));
        }
        order.into_iter().map(move |at| {
            let mut entry = Vec::new();
            if let Some(rows) = &rows {
                entry.extend_from_slice(rows.row(at as usize).as_ref());
            }
            let length = entry.len() as u32;
            self.states.write(groups[at as usize] as usize, &mut entry);
            entry.extend(length.to_le_bytes());
            entry
        })
    }

    fn put_aside(&mut self) -> Result<(), TallyError> {
        let mut runs = std::mem::replace(&mut self.runs, ByteRuns::new(self.scratch.clone()));
        let pushed = runs.push(self.sorted());
        self.runs = runs;
        pushed.map_err(|source| TallyError::Io { place: self.runs.place(), source })?;
        self.coders.iter_mut().for_each(Coder::clear);
        self.steps.iter_mut().for_each(Step::clear);
        self.states.clear();
        Ok(())
    }

    /// How its keys become columns again.
    pub fn keys(&self) -> Arc<Keys> {
        self.keys.clone()
    }

    /// All entries of tables of the same groups, in order.
    ///
    /// # Errors
    /// A place that takes no more, or gives nothing back.
    pub fn merged(tables: Vec<GroupTable>) -> Result<Entries, TallyError> {
        if tables.iter().all(|table| table.runs.is_empty()) {
            let mut entries: Vec<Vec<u8>> = tables.iter().flat_map(GroupTable::sorted).collect();
            entries.sort_unstable();
            return Ok(Entries::Memory(entries.into_iter()));
        }
        let mut all: Option<ByteRuns> = None;
        for mut table in tables {
            table.put_aside()?;
            match &mut all {
                Some(all) => all.append(table.runs),
                None => all = Some(table.runs),
            }
        }
        let all = all.expect("there is a table");
        let place = all.place();
        let merge = all.merge().map_err(|source| TallyError::Io { place, source })?;
        Ok(Entries::Spilled(merge))
    }
}

impl Step {
    /// The groups of rows, of the groups they were in and the codes of one more column.
    fn go_on(&mut self, groups: &mut [u32], codes: &[u32]) {
        for (group, code) in groups.iter_mut().zip(codes) {
            let pair = u64::from(*group) << 32 | u64::from(*code);
            let made_of = &mut self.made_of;
            *group = *self.numbers.entry(pair).or_insert_with(|| {
                made_of.push((*group, *code));
                made_of.len() as u32 - 1
            });
        }
    }

    fn held(&self) -> usize {
        self.numbers.capacity() * 17 + self.made_of.capacity() * 8
    }

    fn clear(&mut self) {
        self.numbers.clear();
        self.made_of.clear();
    }
}

/// Entries in order; of equal keys one after the other.
pub(super) enum Entries {
    Memory(std::vec::IntoIter<Vec<u8>>),
    Spilled(ByteMerge),
}

impl Entries {
    pub fn next(&mut self) -> io::Result<Option<Vec<u8>>> {
        Ok(match self {
            Entries::Memory(entries) => entries.next(),
            Entries::Spilled(merge) => merge.next()?.map(<[u8]>::to_vec),
        })
    }
}
