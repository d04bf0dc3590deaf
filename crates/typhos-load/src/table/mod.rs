//! A load into a table, step by step, the same for every database.
//!
//! A [`Session`] knows how to talk to one kind of database. The steps: a table beside, or where a
//! transaction covers definitions the table itself; rows into it; the proof; and only then the move to
//! where readers see them. Whatever fails before that is undone, and what a killed program left behind is
//! swept by the next load.

mod history;
mod moving;
mod preflight;
mod proving;
mod refused;
mod session;
mod steps;
mod target;

pub use history::{FileMark, HISTORY, LoadedBefore};
pub use session::{
    Adding, Answers, Ask, Define, Finished, Intent, MoveRows, Objections, RowOrder, Session,
    UNFINISHED,
};
pub use target::TableTarget;
