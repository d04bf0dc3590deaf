//! Servers that rows are loaded into and read from: PostgreSQL, MariaDB, ClickHouse, search indexes.
//!
//! Each has a module with a session that talks to it, and a [`TargetKind`] in [`KINDS`]; the steps of a load are those
//! of every database, in [`typhos_load::table`]; an index is no table, and has steps of its own. Each driver is a feature of the crate, and all are on unless said
//! otherwise. Tables that are there are read in [`reading`].
#![warn(missing_docs)]

#[cfg(feature = "clickhouse")]
mod clickhouse;
#[cfg(any(feature = "clickhouse", feature = "index"))]
mod http;
#[cfg(feature = "index")]
pub mod index;
#[cfg(any(feature = "clickhouse", feature = "index"))]
mod maker;
#[cfg(feature = "mariadb")]
mod mariadb;
mod passwords;
#[cfg(feature = "postgres")]
mod postgres;
#[cfg(any(feature = "clickhouse", feature = "mariadb", feature = "postgres"))]
pub mod reading;
mod server_table;
mod server_url;
mod table_name;
#[cfg(feature = "tls")]
mod tls;
#[cfg(feature = "mariadb")]
mod wire;

use typhos_load::TargetKind;

pub use server_url::{ServerKind, ServerUrl};

/// The kinds of servers that can be loaded into.
pub static KINDS: &[TargetKind] = &[
    #[cfg(feature = "postgres")]
    postgres::KIND,
    #[cfg(feature = "postgres")]
    postgres::lake::KIND,
    #[cfg(feature = "mariadb")]
    mariadb::KIND,
    #[cfg(feature = "clickhouse")]
    clickhouse::KIND,
    #[cfg(feature = "index")]
    index::KIND,
];
