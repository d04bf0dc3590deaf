//! Where typed rows go: one module a target.
//!
//! A [`Target`] can say what a load would do before the first byte is sent, and opens into two halves.
//! Its [`Encoder`] is shared by all threads and turns the batches of a block into whatever the target
//! takes; its [`Sink`] takes the encoded blocks in the order of the input, holds what arrived against what
//! was sent, and makes it visible all at once when it [finishes](Sink::finish). A sink that is dropped
//! before leaves nothing behind. [`load`] runs both over an input and keeps the account.
//!
//! Databases share their steps ([`server`]) and differ in their [`sql`] and in how rows are sent.
//! `docs/architecture.md` says how a target is added.
#![warn(missing_docs)]

pub mod arrow_file;
mod at_once;
mod budget;
mod clickhouse;
mod damaged;
mod feed;
mod gate;
mod keys;
mod load;
mod mariadb;
pub mod parquet;
mod passwords;
mod place;
mod postgres;
mod preflight;
mod proof;
mod rejects;
mod scratch;
mod server;
mod sorted;
pub mod sql;
pub mod sqlite;
mod tls;
pub mod unfinished;
mod view;
mod weigh;
mod whole;
mod wire;
mod witness;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::RecordBatch;
use thiserror::Error;
use typhos_core::columns::Plan;
use typhos_core::run::{Monitor, RunOptions};
use typhos_core::sorting::{Grouping, SortError};
use typhos_core::text::{Input, InputError};
use typhos_core::wording::listed;

pub use budget::{DEFAULT_MEMORY, LEAST_MEMORY};
pub use gate::Gate;
pub use keys::{KeyWatch, Repeats};
pub use load::{Destination, LoadError, LoadOptions, LoadReport, MisfitLimit, load, plan};
pub use parquet::Parts;
pub use passwords::PASSWORD_VARIABLE;
pub use place::{Place, Secret, ServerKind};
pub use preflight::{Action, LeftColumn, LoadPlan, PlannedColumn, Problem, key_problems};
pub use proof::Proof;
pub use scratch::TempFiles;
pub use weigh::{Wanted, Weighed, Weighing, Weight, weigh};
pub use whole::guard::{Named, keep_apart};
pub use whole::{refuse_existing, write_file};

/// What happens to what is there already.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Mode {
    /// The output is new; one that exists is refused.
    #[default]
    Create,
    /// Rows are added to a table that exists, or to the files of a directory.
    Append,
    /// The output takes the place of what is there.
    Replace,
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
    /// What else there is to say.
    pub note: Option<String>,
}

/// A load, as far as a target needs to know it.
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
    /// Bytes that the load may take.
    pub memory: usize,
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

    /// Begins a load. `run` learns which blocks the target likes.
    ///
    /// # Errors
    /// What stands in the way of the load, as its plan says it.
    fn open(
        self,
        job: &Job<'_>,
        run: &mut RunOptions,
    ) -> Result<(Self::Encoder, Self::Sink), TargetError>;
}

/// Why a target failed.
#[derive(Debug, Error)]
pub enum TargetError {
    /// A file cannot be made or written.
    #[error("{}: {source}", path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// What the operating system said.
        source: std::io::Error,
    },
    /// The output is there already.
    #[error("{} exists already, and nothing was written", .0.display())]
    Exists(PathBuf),
    /// A directory that is to be replaced holds something that no load of ours wrote.
    #[error(
        "{} holds {}, which typhos did not write there; nothing was replaced: move it away, or name another directory",
        directory.display(), file.display()
    )]
    Foreign {
        /// The directory.
        directory: PathBuf,
        /// The file, by its path in it.
        file: PathBuf,
    },
    /// An output is something that the same run reads or writes.
    #[error(
        "{}, {what}, {}; nothing was written: name another",
        path.display(), same_as(path, other, other_path)
    )]
    SameFile {
        /// The output.
        path: PathBuf,
        /// What it is to the run.
        what: String,
        /// What the other one is to the run.
        other: String,
        /// The other one.
        other_path: PathBuf,
    },
    /// Something stands in the way; the plan says what.
    #[error("{}", problems(.0))]
    Preflight(Box<LoadPlan>),
    /// A server failed, or objected.
    #[error("{target}: {message}{}", if help.is_empty() { String::new() } else { format!("\n{help}") })]
    Server {
        /// Where it is.
        target: String,
        /// What it said.
        message: String,
        /// What to do about it, where that is known.
        help: String,
    },
    /// A server lets the user in with a password only, and none is known.
    #[error(
        "{target} asks for the password of '{user}': set {PASSWORD_VARIABLE}, or use the file of passwords of its client"
    )]
    PasswordNeeded {
        /// Where it is.
        target: String,
        /// Whose password it is.
        user: String,
    },
    /// Rows are in the table already.
    #[error(
        "{} of these rows {} in table '{table}' already, by {columns}: {}\nNothing was loaded. --seen skip leaves them out, --seen update gives the rows there the new values.",
        typhos_core::infer::grouped(*count),
        if *count == 1 { "is" } else { "are" },
        shown_keys(keys, *count)
    )]
    Seen {
        /// The table.
        table: String,
        /// The columns of the key.
        columns: String,
        /// How many.
        count: u64,
        /// The first of them.
        keys: Vec<String>,
    },
    /// A key comes twice in the input.
    #[error(
        "the input has {}, by {columns}: {}\nNothing was loaded.",
        typhos_core::infer::counted(*count, "duplicate key"), repeats.join("; ")
    )]
    Repeated {
        /// The columns of the key.
        columns: String,
        /// Records whose key has come before.
        count: u64,
        /// The first of them, each with its two lines.
        repeats: Vec<String>,
    },
    /// The target does not have what was sent.
    #[error("{target} does not have what was sent:\n  {}\nNothing was loaded.", differences.join("\n  "))]
    Unproven {
        /// The target.
        target: String,
        /// What differs.
        differences: Vec<String>,
    },
    /// The system gives no thread.
    #[error("the system starts no more threads: {0}")]
    Thread(std::io::Error),
    /// Somebody asked the load to stop.
    #[error("interrupted; nothing was loaded")]
    Interrupted,
    /// The load was given up before its end.
    #[error("the load was given up; nothing was loaded")]
    GivenUp,
    /// The input cannot be read.
    #[error(transparent)]
    Input(#[from] InputError),
    /// The path is something else than the target would make of it.
    #[error("{} {what}", path.display())]
    NotThat {
        /// The path.
        path: PathBuf,
        /// What is wrong about it.
        what: String,
    },
    /// A value that the target cannot hold.
    #[error("column '{column}': {value} {reason}")]
    CannotHold {
        /// The column.
        column: String,
        /// The value.
        value: String,
        /// Why, and what to declare instead.
        reason: String,
    },
    /// The Parquet writer failed.
    #[error("{}: {source}", path.display())]
    Parquet {
        /// The file.
        path: PathBuf,
        /// What the writer said.
        source: ::parquet::errors::ParquetError,
    },
    /// The writer of Arrow files failed.
    #[error("{}: {source}", path.display())]
    Arrow {
        /// The file.
        path: PathBuf,
        /// What it said.
        source: arrow_schema::ArrowError,
    },
    /// Rows could not be sorted.
    #[error(transparent)]
    Sort(#[from] SortError),
    /// SQLite failed.
    #[error("{}: {source}", path.display())]
    Sqlite {
        /// The database.
        path: PathBuf,
        /// What SQLite said.
        source: rusqlite::Error,
    },
}

/// How an output clashes with another file of the run.
fn same_as(path: &Path, other: &str, other_path: &Path) -> String {
    if path == other_path {
        format!("is {other} too")
    } else {
        format!("is, holds or lies in {} ({other})", other_path.display())
    }
}

/// What a plan found, a line each, with what to do about it.
fn problems(plan: &LoadPlan) -> String {
    let table = plan.table.as_ref().map_or(String::new(), |table| format!(" table '{table}'"));
    let lines =
        plan.problems.iter().map(|problem| format!("\n  {}\n    → {}", problem.what, problem.help));
    format!(
        "{}{table} cannot be loaded, and nothing was sent:{}",
        plan.target,
        lines.collect::<String>()
    )
}

fn shown_keys(keys: &[String], count: u64) -> String {
    let more = if count > keys.len() as u64 { ", …" } else { "" };
    format!("{}{more}", listed(keys))
}

impl TargetError {
    pub(crate) fn io(path: &Path) -> impl FnOnce(std::io::Error) -> TargetError + '_ {
        move |source| TargetError::Io { path: path.to_path_buf(), source }
    }
}

/// Turns batches into what a target takes, on any thread.
pub trait Encoder: Sync {
    /// What one block becomes.
    type Encoded: Send;
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

    /// Holds what arrived against what was sent, passes the [`Gate`], and makes everything visible at once.
    ///
    /// # Errors
    /// Whatever keeps the target from that; then nothing is visible.
    fn finish(self, monitor: &dyn Monitor) -> Result<Done, TargetError>;
}
