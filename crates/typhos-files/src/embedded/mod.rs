//! An index in a directory, for whoever has no server: written with the library `tantivy`, and read by any program that uses it.
//!
//! It is written aside and appears whole, as all directories do. Rows that it cannot hold are set aside. What was written is read
//! back and held against what was sent.

mod form;
mod table;
mod tally;
mod target;

pub use table::EmbeddedTable;
pub use target::KIND;
