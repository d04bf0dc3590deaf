//! The languages that there are, by their names.

use super::clickhouse::ClickHouse;
use super::definitions::Definitions;
use super::mariadb::Mariadb;
use super::postgres::Postgres;
use super::sqlite::Sqlite;
use super::standard::Standard;

/// The languages that a table can be defined in.
pub const LANGUAGES: [&str; 5] = ["postgres", "mariadb", "clickhouse", "sqlite", "sql"];

/// The language of a name.
pub fn language(name: &str) -> Option<Box<dyn Definitions>> {
    Some(match name {
        "postgres" => Box::new(Postgres),
        "mariadb" => Box::new(Mariadb),
        "clickhouse" => Box::new(ClickHouse::newest()),
        "sqlite" => Box::new(Sqlite),
        "sql" => Box::new(Standard),
        _ => return None,
    })
}
