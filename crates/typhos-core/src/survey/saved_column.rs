//! The facts of a column, saved and restored.

use std::num::NonZeroUsize;
use std::sync::Arc;

use super::Facts;
use super::column::ColumnFacts;
use super::direct::Direct;
use super::distinct::{DistinctTable, DistinctValue, most_hashes};
use super::estimate::Hashes;
use super::log::Prospect;
use super::saved::{SavedColumn, SavedHashes, SavedValue, hex, unhex};

impl ColumnFacts {
    /// The column as it is saved; `none` are the facts of no values in its survey.
    pub(super) fn save(&self, none: &Facts) -> SavedColumn {
        let hashes = self.hashes.as_ref().map(|hashes| match hashes {
            Hashes::All(all) => {
                let bytes = all.sorted().iter().flat_map(|hash| hash.to_be_bytes());
                SavedHashes::All(hex(&bytes.collect::<Vec<_>>()))
            }
            Hashes::Sketch(registers) => SavedHashes::Sketch(hex(&registers[..])),
        });
        let values = self.table.as_ref().map(|_| {
            let saved = |found: DistinctValue<'_>| SavedValue {
                value: found.value.to_vec(),
                count: found.count,
                first: found.first,
            };
            self.distinct_values().into_iter().map(saved).collect()
        });
        let facts = self.direct.made.as_deref().map_or(&*self.direct.none, |facts| facts);
        let facts = (facts != none).then(|| {
            let mut facts = facts.clone();
            facts.settle();
            facts
        });
        SavedColumn {
            empty: self.empty,
            values,
            hashes,
            facts,
            quoted: self.quoted.clone(),
            sequence: self.sequence.clone(),
            kinds: self.kinds.clone(),
            elements: self.elements,
        }
    }

    /// A saved column, of a survey of so many columns and records; `none` are the facts of no values. `None` where it
    /// does not add up.
    pub(super) fn restore(
        saved: SavedColumn,
        none: &Arc<Facts>,
        columns: usize,
        records: u64,
    ) -> Option<ColumnFacts> {
        let mut column = ColumnFacts {
            direct: Direct { made: saved.facts.map(Box::new), none: none.clone() },
            table: None,
            log: None,
            log_from: usize::MAX,
            prospect: Arc::new(Prospect::of_threads(NonZeroUsize::MIN)),
            hashes: None,
            most_hashes: most_hashes(columns),
            empty: saved.empty,
            quoted: saved.quoted,
            sequence: saved.sequence,
            kinds: saved.kinds,
            elements: saved.elements,
        };
        if let Some(facts) = &mut column.direct.made {
            facts.restore();
        }
        let mut total = column.direct.total()?.checked_add(column.empty)?;
        match (saved.values, saved.hashes) {
            (Some(values), None) => {
                let mut table = DistinctTable::new(columns);
                for saved in values {
                    total = total.checked_add(saved.count)?;
                    table.may_be_malformed |= std::str::from_utf8(&saved.value).is_err();
                    table.add(&saved.value, saved.count, saved.first);
                }
                table.settle();
                let over = table.is_over();
                column.table = Some(table);
                if over {
                    column.fold();
                }
            }
            (None, Some(SavedHashes::Sketch(registers))) => {
                column.hashes = Some(Hashes::from_registers(&unhex(&registers)?)?);
            }
            (None, Some(SavedHashes::All(all))) => {
                let mut hashes = Hashes::new();
                let bytes = unhex(&all)?;
                let (all, rest) = bytes.as_chunks::<8>();
                for hash in all.iter().map(|bytes| u64::from_be_bytes(*bytes)) {
                    hashes.add_hash(hash, column.most_hashes);
                }
                hashes.settle(column.most_hashes);
                column.hashes = rest.is_empty().then_some(hashes);
                column.hashes.as_ref()?;
            }
            _ => return None,
        }
        let records = column.elements.unwrap_or(records);
        (total == records && column.direct.is_sound(records) && column.quoted.count <= records)
            .then_some(column)
    }

    /// Whether every place is in one of so many files.
    pub(super) fn places_are_below(&mut self, files: u32) -> bool {
        let below = std::cell::Cell::new(true);
        self.renumber(&|file| {
            below.set(below.get() && file < files);
            file
        });
        below.get()
    }
}
