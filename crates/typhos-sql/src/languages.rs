//! The languages that a schema can be written in, by their names.

use thiserror::Error;
use typhos_core::schema::Schema;

use super::clickhouse::ClickHouse;
use super::definitions::Definitions;
use super::json_schema::json_schema;
use super::mapping::{UnfitName, mapping};
use super::mariadb::Mariadb;
use super::postgres::Postgres;
use super::script::{Unwritable, script};
use super::sqlite::Sqlite;
use super::standard::Standard;

/// The languages that a schema can be written in.
pub const LANGUAGES: [&str; 7] =
    ["postgres", "mariadb", "clickhouse", "sqlite", "sql", "mapping", "json-schema"];

/// A schema in another language.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Emitted {
    /// The text.
    pub text: String,
    /// What is to be said of it that does not stand in it.
    pub notes: Vec<String>,
}

/// A schema that a language cannot say.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum EmitError {
    /// A text that it has no way to write.
    #[error(transparent)]
    Text(#[from] Unwritable),
    /// A name that it has no place for.
    #[error(transparent)]
    Name(#[from] UnfitName),
}

/// A language that a schema can be written in.
pub trait SchemaLanguage {
    /// What it is the language of.
    fn of(&self) -> &'static str;

    /// Writes a schema; `table` is what it is a schema of.
    ///
    /// # Errors
    /// What cannot be said in it.
    fn emit(&self, schema: &Schema, table: &str) -> Result<Emitted, EmitError>;
}

/// The SQL of a database, or of none.
struct Sql(Box<dyn Definitions>);

impl SchemaLanguage for Sql {
    fn of(&self) -> &'static str {
        self.0.name()
    }

    fn emit(&self, schema: &Schema, table: &str) -> Result<Emitted, EmitError> {
        Ok(Emitted { text: script(&*self.0, schema, table)?, notes: Vec::new() })
    }
}

/// The mapping of a search index.
struct IndexMapping;

impl SchemaLanguage for IndexMapping {
    fn of(&self) -> &'static str {
        "a search index"
    }

    fn emit(&self, schema: &Schema, _table: &str) -> Result<Emitted, EmitError> {
        let mapping = mapping(schema)?;
        Ok(Emitted { text: format!("{:#}\n", mapping.body), notes: mapping.notes })
    }
}

/// What a row is as a JSON object.
struct JsonSchema;

impl SchemaLanguage for JsonSchema {
    fn of(&self) -> &'static str {
        "JSON documents"
    }

    fn emit(&self, schema: &Schema, table: &str) -> Result<Emitted, EmitError> {
        let (body, notes) = json_schema(schema, table);
        Ok(Emitted { text: format!("{body:#}\n"), notes })
    }
}

/// The languages of SQL among them, that a table can be defined in.
pub const SQL_LANGUAGES: [&str; 5] = ["postgres", "mariadb", "clickhouse", "sqlite", "sql"];

/// The language of a name; that of ClickHouse may be one of a version: `clickhouse@18.16`. What other servers understand is
/// the same in all of their versions that can be loaded into.
pub fn language(name: &str) -> Option<Box<dyn SchemaLanguage>> {
    match name {
        "mapping" => Some(Box::new(IndexMapping)),
        "json-schema" => Some(Box::new(JsonSchema)),
        name => Some(Box::new(Sql(match name.split_once('@') {
            Some(("clickhouse", version)) => Box::new(ClickHouse { version: numbers(version)? }),
            Some(_) => return None,
            None => sql_language(name)?,
        }))),
    }
}

/// The first two numbers of a version.
fn numbers(version: &str) -> Option<(u32, u32)> {
    let mut parts = version.split('.').map(str::parse);
    Some((parts.next()?.ok()?, parts.next().unwrap_or(Ok(0)).ok()?))
}

/// The language of SQL of a name.
pub fn sql_language(name: &str) -> Option<Box<dyn Definitions>> {
    Some(match name {
        "postgres" => Box::new(Postgres),
        "mariadb" => Box::new(Mariadb),
        "clickhouse" => Box::new(ClickHouse::newest()),
        "sqlite" => Box::new(Sqlite),
        "sql" => Box::new(Standard),
        _ => return None,
    })
}
