//! Types that hold the values of categories: enumerations, each made for a column of a table.
//!
//! A type outlives its table, so one of the wanted name is often there already.

use super::PostgresSession;
use typhos_load::TargetError;
use typhos_load::table::Ask;
use typhos_sql::{Definitions, NamedType, Postgres};

/// What there is of the name of a wanted type.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Found {
    /// Nothing.
    Nothing,
    /// A type with the same values, which is used as it is.
    Same,
    /// A type with other values that no column has: what is left of a table that is gone.
    Unused,
    /// A type with other values that only the table has which is loaded.
    OfThisTable,
    /// Something else, or a type that others use: what to say of it.
    Foreign(String),
}

/// Looks whether a type is there that a column of the table wants.
pub(super) fn look(
    session: &mut PostgresSession,
    named: &NamedType,
    table: &str,
) -> Result<Found, TargetError> {
    let (name, schema) = (Postgres.literal(&named.name), session.schema());
    let there = session.query(&format!(
        "SELECT t.oid, t.typtype, pg_has_role(t.typowner, 'USAGE'), \
                (SELECT json_agg(e.enumlabel ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid) \
         FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE t.typname = {name} AND n.nspname = {schema}"
    ))?;
    let Some([Some(number), kind, is_own, labels]) =
        there.into_iter().next().and_then(|row| <[_; 4]>::try_from(row).ok())
    else {
        return Ok(Found::Nothing);
    };
    if kind.as_deref() != Some("e") {
        return Ok(Found::Foreign("is a type already, and none that lists values".into()));
    }
    let labels: Option<Vec<String>> = labels.and_then(|text| serde_json::from_str(&text).ok());
    if labels.unwrap_or_default() == named.values {
        return Ok(Found::Same);
    }
    let users = session.query(&format!(
        "SELECT c.relname, n.nspname = {schema} AND c.relname = {} FROM pg_attribute a \
         JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace \
         WHERE a.atttypid = {number} AND NOT a.attisdropped AND c.relkind IN ('r', 'p', 'f', 'v', 'm') ORDER BY 2, 1",
        Postgres.literal(table)
    ))?;
    let is_this = |row: &Vec<Option<String>>| row[1].as_deref() == Some("t");
    Ok(match users.first() {
        Some(other) if !is_this(other) => {
            let other = other[0].clone().unwrap_or_default();
            Found::Foreign(format!("is a type with other values, which '{other}' uses"))
        }
        _ if is_own.as_deref() != Some("t") => {
            Found::Foreign("is a type with other values, of another user".into())
        }
        Some(_) => Found::OfThisTable,
        None => Found::Unused,
    })
}
