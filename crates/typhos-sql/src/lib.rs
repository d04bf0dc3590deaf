//! Schema languages: what a declaration becomes in the language of each database.
//!
//! A language knows how names and texts are quoted, which type holds a declared column, and how a table is defined
//! ([`Definitions`]); [`define`](define()) puts a definition together, and [`script`](script()) writes it out. That is all
//! that a language of SQL needs that nothing is loaded into. The [`mapping()`] of a search index is another one, and JSON
//! Schema a third; all that a schema can be written in are [`SchemaLanguage`]s. A [`Language`] of a database knows besides how rows are
//! [moved](Movements), and what can be [asked](Questions) about them. [`held`] reads the other way: what a column that
//! exists can hold. Nothing here talks to a server.
#![warn(missing_docs)]

mod clickhouse;
mod define;
mod definitions;
pub mod held;
mod json_schema;
mod languages;
mod mapping;
mod mariadb;
mod movements;
mod nested;
mod postgres;
mod questions;
mod quoting;
mod script;
mod sqlite;
mod standard;
#[cfg(test)]
mod tests;
mod units;

pub use clickhouse::ClickHouse;
pub use define::{Definition, define, notes, qualified};
pub use definitions::{Definitions, Indexed, NamedType, RowBytes, Stored, TableOrder};
pub use languages::{
    EmitError, Emitted, LANGUAGES, SQL_LANGUAGES, SchemaLanguage, language, sql_language,
};
pub use mapping::{Mapping, UnfitName, is_number_in_mapping, mapping, search_of};
pub use mariadb::Mariadb;
pub use movements::Movements;
pub use nested::{Part, PartLeaf};
pub use postgres::{MOST_CHARACTERS, Postgres};
pub use questions::{Asked, Of, PART, Questions};
pub use script::{Unwritable, script};
pub use sqlite::{REAL_DIGITS, Sqlite};
pub use standard::Standard;

/// The SQL of a database that rows are loaded into.
pub trait Language: Movements + Questions {}

impl<L: Movements + Questions> Language for L {}
