//! The contract of a load: what a target is, and the steps in which rows go to it.
//!
//! A [`Target`] can say what a load would do before the first byte is sent, and stages it in two halves.
//! Its [`Encoder`] is shared by all threads and turns the batches of a block into whatever the target
//! takes; its [`Sink`] takes the encoded blocks in the order of the input, holds what arrived against what
//! was sent, and makes it visible all at once when it [publishes](Sink::publish). A sink that is dropped
//! before leaves nothing behind. [`load()`] runs both over an input and keeps the account.
//!
//! Which targets there are is not known here. Each is registered as a [`TargetKind`] by the crate that has it, and
//! found by the scheme of a URL or the extension of a file. Tables of databases share their steps ([`table`]);
//! what is written to the file system appears [`whole`] or not at all.
#![warn(missing_docs)]

pub mod at_once;
mod beyond;
pub mod budget;
mod contract;
mod destination;
mod erased;
mod error;
pub mod feed;
mod gate;
mod keys;
mod load;
mod load_plan;
mod located;
mod misfit_limit;
mod misfit_list;
mod onlooker;
mod plan_file;
pub mod proof;
pub mod refusals;
mod rejects;
mod run;
mod scratch;
mod secret;
pub mod stage;
pub mod table;
pub mod unfinished;
pub mod view;
pub mod whole;
pub mod witness;
mod work;

pub use budget::{DEFAULT_MEMORY, LEAST_MEMORY};
pub use contract::{
    DataFile, Done, EncodeUnit, Encoder, Job, Mode, Moved, Seen, Sink, Statements, Target,
};
pub use destination::{
    Address, Destination, KindError, Kinds, Parts, TargetKind, Timeouts, Written, plain_name,
    plan_of, rejects_beside,
};
pub use error::{LoadError, RefusedRow, TargetError};
pub use gate::Gate;
pub use keys::{KeyWatch, Repeats};
pub use load::{load, plan};
pub use load_plan::{
    Action, LeftColumn, LoadPlan, PlannedColumn, Problem, columns_go_along, default_words,
    goes_along, key_problems, rows_go_along, source_words,
};
pub use misfit_limit::MisfitLimit;
pub use misfit_list::{MisfitList, csv_field};
pub use onlooker::Onlooker;
pub use plan_file::{plan_file, planned_columns};
pub use proof::Proof;
pub use refusals::Refusals;
pub use run::{LoadOptions, LoadReport, LoadRun};
pub use scratch::TempFiles;
pub use secret::{PASSWORD_VARIABLE, Secret};
pub use whole::guard::{Named, keep_apart};
pub use whole::pending::{Awaited, Probe};
pub use whole::{refuse_existing, write_file};
pub use work::{SORTED_ROW_GROUP, Work};
