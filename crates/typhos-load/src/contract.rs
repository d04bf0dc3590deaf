//! The contract of a load: what a target is, and in which steps rows go to it.

use std::path::PathBuf;
use std::sync::Arc;

use arrow_array::RecordBatch;
use serde::{Deserialize, Serialize};
use typhos_core::columns::{Places, Plan, SetAside};
use typhos_core::run::{Monitor, RunOptions};
use typhos_core::sorting::Grouping;
use typhos_core::text::Input;

use crate::error::TargetError;
use crate::gate::Gate;
use crate::load_plan::LoadPlan;
use crate::proof::Proof;
use crate::refusals::Refusals;
use crate::table::{FileMark, LoadedBefore};

/// What happens to what is there already.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Mode {
    /// The output is new; one that exists is refused.
    #[default]
    Create,
    /// Rows are added to a table that exists, or to the files of a directory.
    Append,
    /// The output takes the place of what is there.
    Replace,
    /// The rows of a table are replaced, and the table stays as it is.
    Refill,
}

/// What happens to rows whose key is in the table already.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Seen {
    /// The load stops, and names the first of them.
    #[default]
    Stop,
    /// They are left out.
    Skip,
    /// The rows in the table get their values.
    Update,
}

/// What became of the rows that were sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Moved {
    /// New rows.
    pub inserted: u64,
    /// Rows that were there and got other values.
    pub updated: u64,
    /// Rows that were there and stayed as they were.
    pub skipped: u64,
}

/// What a sink ended with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Done {
    /// Whether the target has what was sent.
    pub proof: Proof,
    /// What became of the rows.
    pub moved: Moved,
    /// The files that were written; none where the target is no set of files.
    pub files: Vec<DataFile>,
    /// What else there is to say.
    pub note: Option<String>,
}

/// A file that a load wrote.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DataFile {
    /// Where it is, once the load is published.
    pub path: PathBuf,
    /// Its rows.
    pub rows: u64,
    /// Its bytes.
    pub bytes: u64,
}

/// Statements that somebody wants executed with a load, in the same session, and the same transaction where there is one.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Statements {
    /// Before anything else.
    pub before: Vec<String>,
    /// Behind everything else, before the load becomes visible where that is by a commit.
    pub after: Vec<String>,
}

/// A load, as far as a target needs to know it.
#[derive(Clone)]
pub struct Job<'l> {
    /// What is read.
    pub input: &'l Input,
    /// How it is read.
    pub plan: &'l Plan,
    /// What happens to what is there.
    pub mode: Mode,
    /// What happens to rows that are there.
    pub seen: Seen,
    /// Whether the target is asked for what it has.
    pub is_proven: bool,
    /// Whether it is only to be known what would become of the rows: the target is as it was afterwards.
    pub is_counted: bool,
    /// Bytes that the load may take.
    pub memory: usize,
    /// The files that are written down in the history of a database; none, where nobody wants that.
    pub history: &'l [FileMark],
    /// What else is executed there.
    pub statements: &'l Statements,
    /// Records that are set aside because the target refused their rows before.
    pub refusals: &'l Refusals,
    /// What a sink passes right before the load becomes visible.
    pub gate: Arc<Gate>,
}

/// A place that rows can go to.
pub trait Target {
    /// Its encoder.
    type Encoder: Encoder;
    /// Its sink.
    type Sink: Sink<Encoded = <Self::Encoder as Encoder>::Encoded>;

    /// What a load would do, and what stands in its way. Nothing is changed.
    ///
    /// # Errors
    /// A target that cannot be asked.
    fn plan(&mut self, job: &Job<'_>) -> Result<LoadPlan, TargetError>;

    /// Whether it can be asked what would become of rows, by a load that is [only counted](Job::is_counted).
    fn counts_rows(&self) -> bool {
        false
    }

    /// For each file, a load of its contents that the target knows of; `None` where it has no history.
    ///
    /// # Errors
    /// A target that cannot be asked.
    fn loaded_before(
        &mut self,
        _files: &[FileMark],
    ) -> Result<Option<Vec<Option<LoadedBefore>>>, TargetError> {
        Ok(None)
    }

    /// Begins a load, where no reader sees it. `run` learns which blocks the target likes.
    ///
    /// # Errors
    /// What stands in the way of the load, as its plan says it.
    fn stage(
        self,
        job: &Job<'_>,
        run: &mut RunOptions,
    ) -> Result<(Self::Encoder, Self::Sink), TargetError>;
}

/// Turns batches into what a target takes, on any thread.
pub trait Encoder: Sync {
    /// What one block becomes.
    type Encoded: Send + 'static;
    /// The work on one block.
    type Unit<'e>: EncodeUnit<Encoded = Self::Encoded>
    where
        Self: 'e;

    /// Begins a block whose middle stands at a share of the whole, from 0 to 1: 0 where nobody knows.
    ///
    /// # Errors
    /// Whatever keeps the target from taking it.
    fn begin(&self, share: f64) -> Result<Self::Unit<'_>, TargetError>;

    /// How many parts the whole is shared out to.
    fn parts(&self) -> usize {
        1
    }

    /// What rows have to come together by, where they may come in any order otherwise.
    fn grouping(&self) -> Option<Grouping> {
        None
    }

    /// Whether it wants to know where rows are from. They come in the order of the input then, whatever the schema says:
    /// such a target has no order.
    fn wants_places(&self) -> bool {
        false
    }
}

/// One block being encoded.
pub trait EncodeUnit {
    /// What the block becomes.
    type Encoded;

    /// Adds a batch.
    ///
    /// # Errors
    /// A value that the target cannot hold.
    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError>;

    /// Adds a batch, and learns where its rows are from: called where the encoder wants to.
    ///
    /// # Errors
    /// As [`push`](Self::push).
    fn push_placed(&mut self, batch: RecordBatch, _places: &Places<'_>) -> Result<(), TargetError> {
        self.push(batch)
    }

    /// Ends the block.
    ///
    /// # Errors
    /// Whatever keeps the target from taking it.
    fn finish(self) -> Result<Self::Encoded, TargetError>;
}

/// Takes encoded blocks in the order of the input.
pub trait Sink: Send {
    /// What blocks become.
    type Encoded;

    /// Takes the next block.
    ///
    /// # Errors
    /// Whatever keeps the target from taking it.
    fn append(&mut self, encoded: Self::Encoded, monitor: &dyn Monitor) -> Result<(), TargetError>;

    /// Waits until everything that was taken has arrived.
    ///
    /// # Errors
    /// Whatever keeps it from that.
    fn settle(&mut self, _monitor: &dyn Monitor) -> Result<(), TargetError> {
        Ok(())
    }

    /// Records whose rows were taken and the target refused, since this was asked last.
    fn refused(&mut self) -> Vec<SetAside> {
        Vec::new()
    }

    /// Holds what arrived against what was sent, once all of it has arrived.
    ///
    /// # Errors
    /// What differs, and whatever keeps the target from being asked.
    fn prove(&mut self, monitor: &dyn Monitor) -> Result<Proof, TargetError>;

    /// Passes the [`Gate`], and makes everything visible at once. Dropping the sink instead undoes the load.
    ///
    /// # Errors
    /// Whatever keeps the target from that; then nothing is visible.
    fn publish(self, proof: Proof, monitor: &dyn Monitor) -> Result<Done, TargetError>;
}
