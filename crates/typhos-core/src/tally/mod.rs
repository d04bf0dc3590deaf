//! Groups of typed rows, and what is counted, summed up and measured in each.
//!
//! A [`TallySpec`] says by what rows are grouped and what is shown of each group; a [`Tally`] takes batches on any thread and
//! gives [`Groups`], in the order of what they are grouped by: ranked categories by rank, absent last, as a group of its own.
//!
//! What is known of a group merges in any order to the same result, floats included, whose sums are exact until they are
//! rounded once. Groups that do not fit into the memory that is allowed are put aside as sorted runs and merged at the end, so
//! that there may be more of them than memory holds. Distinct values and quantiles are exact in the same way: pairs of a group
//! and a value are groups themselves, and are walked beside their group when all is merged.
//!
//! What can be shown, where `term` is a column or a [part of one](crate::terms):
//!
//! ```text
//! show    = measure { "," measure }
//! measure = "count" | "share" | function "(" term [ "," number ] ")" [ "as" name ]
//! function = "count" | "sum" | "mean" | "min" | "max" | "median" | "quantile" | "distinct" | "share"
//! ```
//!
//! Absent values count in none of them; `count` alone counts rows.

mod coder;
mod exact_sum;
mod groups;
mod measure;
mod results;
mod spec;

#[cfg(test)]
mod tests;

use std::io;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{ArrayRef, RecordBatch};
use thiserror::Error;

use crate::spilling::Scratch;
use groups::GroupTable;
use measure::{States, Totals};

pub use measure::scaled;
pub use results::Groups;
pub use spec::{Measured, Said, TallySpec};

/// Bytes that groups may take in all, where nothing is said.
pub const DEFAULT_TALLY_MEMORY: usize = 128 << 20;

/// Why groups could not be made.
#[derive(Debug, Error)]
pub enum TallyError {
    /// A temporary file cannot be made, written or read.
    #[error("grouping in {place}: {source}")]
    Io {
        /// Where groups are put aside.
        place: String,
        /// What the operating system said.
        source: io::Error,
    },
    /// A sum that no number here holds.
    #[error("{name}: a sum has more than 38 digits")]
    TooLarge {
        /// The measure.
        name: String,
    },
    /// A value that a ranked column does not list.
    #[error("'{value}' is not among the ranked values of its column")]
    NotRanked {
        /// The value.
        value: String,
    },
}

/// Takes rows, and groups them.
#[derive(Debug)]
pub struct Tally {
    spec: Arc<TallySpec>,
    workers: Vec<Mutex<Worker>>,
    scratch: Arc<dyn Scratch>,
}

/// What one thread has seen.
#[derive(Debug)]
struct Worker {
    groups: GroupTable,
    /// Groups and values of each term whose values are wanted themselves.
    pairs: Vec<GroupTable>,
    totals: Totals,
}

impl Tally {
    /// Nothing yet, for as many threads. Of `memory` bytes all of them have a share; what has no room there is put into
    /// `scratch`.
    pub fn new(spec: TallySpec, threads: usize, memory: usize, scratch: Arc<dyn Scratch>) -> Tally {
        let spec = Arc::new(spec);
        let room = memory / threads / (1 + spec.valued().len());
        let worker = || {
            let table = |keys, states| GroupTable::new(keys, states, room, scratch.clone());
            let pairs = spec.valued().iter().map(|term| {
                let keys = spec.by().iter().chain([term]).collect();
                table(keys, States::default())
            });
            Mutex::new(Worker {
                groups: table(spec.by().iter().collect(), States::of(&spec)),
                pairs: pairs.collect(),
                totals: Totals::of(&spec),
            })
        };
        let workers = (0..threads).map(|_| worker()).collect();
        Tally { spec, workers, scratch }
    }

    /// Takes rows of the columns that the specification [asks for](TallySpec::columns), on behalf of a thread.
    ///
    /// # Errors
    /// A temporary file that cannot be written, and a value that is in no list.
    ///
    /// # Panics
    /// If there are not so many threads.
    pub fn take(&self, thread: usize, batch: &RecordBatch) -> Result<(), TallyError> {
        let mut worker = self.workers[thread].lock().unwrap_or_else(PoisonError::into_inner);
        let Worker { groups, pairs, totals } = &mut *worker;
        let of = |term: &crate::terms::Term| term.values(batch.column(term.column));
        let keys: Vec<ArrayRef> = self.spec.by().iter().map(of).collect();
        let measured: Vec<Option<ArrayRef>> =
            self.spec.show().iter().map(|measure| measure.term().map(of)).collect();
        totals.take(batch.num_rows(), &measured)?;
        groups.take(&keys, &measured, batch.num_rows(), false)?;
        for (pairs, term) in pairs.iter_mut().zip(self.spec.valued()) {
            let keys: Vec<ArrayRef> = keys.iter().cloned().chain([of(term)]).collect();
            pairs.take(&keys, &[], batch.num_rows(), true)?;
        }
        Ok(())
    }

    /// All groups, in order.
    ///
    /// # Errors
    /// A temporary file that cannot be written or read.
    pub fn finish(self) -> Result<Groups, TallyError> {
        let workers = self.workers.into_iter();
        let workers = workers.map(|it| it.into_inner().unwrap_or_else(PoisonError::into_inner));
        let mut tables = Vec::new();
        let mut pairs: Vec<Vec<GroupTable>> =
            self.spec.valued().iter().map(|_| Vec::new()).collect();
        let mut totals = Totals::of(&self.spec);
        for worker in workers {
            tables.push(worker.groups);
            for (all, of_one) in pairs.iter_mut().zip(worker.pairs) {
                all.push(of_one);
            }
            totals.merge(&worker.totals);
        }
        Groups::new(self.spec, tables, pairs, totals, self.scratch.place())
    }
}
