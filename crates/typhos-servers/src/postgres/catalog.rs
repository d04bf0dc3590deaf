//! What the catalog of PostgreSQL says of tables and their columns.

use super::PostgresSession;
use typhos_core::schema::Held;
use typhos_load::TargetError;
use typhos_load::table::{Ask, Define};
use typhos_sql::held::{Existing, ExistingColumn, Filled};
use typhos_sql::{Definitions, Postgres};

/// The condition that finds the table in `pg_class c`.
pub(super) fn condition(session: &PostgresSession, table: &str) -> String {
    let (table, schema) = (Postgres.literal(table), session.schema());
    format!(
        "c.relname = {table} AND c.relnamespace = (SELECT oid FROM pg_namespace WHERE nspname = {schema})"
    )
}

pub(super) fn existing(
    session: &mut PostgresSession,
    table: &str,
) -> Result<Option<Existing>, TargetError> {
    let here = condition(session, table);
    let kind = session.one(&format!("SELECT c.relkind FROM pg_class c WHERE {here}"))?;
    if kind.is_none() {
        return Ok(None);
    }
    let columns = session.query(&format!(
        "SELECT a.attname, format_type(a.atttypid, a.atttypmod), \
                format_type(CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE a.atttypid END, \
                            CASE WHEN t.typtype = 'd' THEN t.typtypmod ELSE a.atttypmod END), \
                a.attnotnull, pg_get_expr(d.adbin, d.adrelid), a.attidentity, a.attgenerated, \
                (SELECT json_agg(e.enumlabel ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = a.atttypid) \
         FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped \
         JOIN pg_type t ON t.oid = a.atttypid \
         LEFT JOIN pg_attrdef d ON d.adrelid = c.oid AND d.adnum = a.attnum \
         WHERE {here} ORDER BY a.attnum"
    ))?;
    let key = session.names(&format!(
        "SELECT a.attname FROM pg_class c JOIN pg_index i ON i.indrelid = c.oid AND i.indisprimary \
         JOIN unnest(i.indkey) WITH ORDINALITY k(num, url) ON k.url <= i.indnkeyatts \
         JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.num WHERE {here} ORDER BY k.url"
    ))?;
    let column = |row: Vec<Option<String>>| -> Option<ExistingColumn> {
        let [name, ty, base, not_null, default, identity, generated, labels] =
            row.try_into().ok()?;
        let has = |text: &Option<String>| text.as_deref().is_some_and(|text| !text.is_empty());
        let filled = if has(&generated) {
            Filled::Computed
        } else if has(&identity) || default.as_deref().is_some_and(|d| d.starts_with("nextval(")) {
            Filled::Numbered
        } else {
            default.map_or(Filled::Nobody, Filled::Default)
        };
        let held = match labels.and_then(|labels| serde_json::from_str(&labels).ok()) {
            Some(labels) => Held::Listed(labels),
            None => held(&base?),
        };
        Some(ExistingColumn {
            name: name?,
            ty: ty?,
            held,
            nullable: not_null.as_deref() != Some("t"),
            filled,
            letters: None,
        })
    };
    Ok(Some(Existing { columns: columns.into_iter().filter_map(column).collect(), key }))
}

/// What a type holds, as `format_type` spells it.
fn held(ty: &str) -> Held {
    if let Some(items) = ty.strip_suffix("[]") {
        return Held::List(Box::new(held(items)));
    }
    let (name, rest) = ty.split_once('(').unwrap_or((ty, ""));
    let (numbers, tail) = rest.split_once(')').unwrap_or(("", ""));
    let numbers: Vec<u32> = numbers.split(',').filter_map(|n| n.trim().parse().ok()).collect();
    let fraction = || numbers.first().map_or(6, |n| *n as u8);
    match (name.trim(), tail.trim()) {
        ("boolean", _) => Held::Bool,
        ("smallint", _) => Held::bits(16, true),
        ("integer", _) => Held::bits(32, true),
        ("bigint", _) => Held::bits(64, true),
        ("numeric", _) => Held::Decimal(match numbers[..] {
            [precision, scale] => Some((precision, scale)),
            _ if rest.is_empty() => None,
            // A scale below zero rounds to tens and hundreds.
            _ => return Held::Other,
        }),
        ("real", _) => Held::Float(32),
        ("double precision", _) => Held::Float(64),
        ("text", _) => Held::Text(None),
        ("character varying" | "character", _) => {
            Held::Text(numbers.first().map(|n| u64::from(*n)))
        }
        ("date", _) => Held::Date,
        ("time", "without time zone") | ("time without time zone", _) => Held::Time(fraction()),
        ("timestamp", "without time zone") | ("timestamp without time zone", _) => {
            Held::Timestamp(fraction(), Some(false))
        }
        ("timestamp", "with time zone") | ("timestamp with time zone", _) => {
            Held::Timestamp(fraction(), Some(true))
        }
        ("uuid", _) => Held::Uuid,
        ("inet", _) => Held::Ip,
        ("json" | "jsonb", _) => Held::Json,
        ("point", _) => Held::Point,
        _ => Held::Other,
    }
}

/// Gives the primary key of a table the name that the server would have given it.
pub(super) fn rename_key(session: &mut PostgresSession, table: &str) -> Result<(), TargetError> {
    let here = condition(session, table);
    let name = session.one(&format!(
        "SELECT k.conname FROM pg_class c JOIN pg_constraint k ON k.conrelid = c.oid AND k.contype = 'p' WHERE {here}"
    ))?;
    let wanted = format!("{table}_pkey");
    match name {
        Some(name) if name != wanted && wanted.len() <= 63 => {
            let table = session.qualified(table);
            let (from, to) = (Postgres.identifier(&name), Postgres.identifier(&wanted));
            session
                .execute(&format!("ALTER TABLE {table} RENAME CONSTRAINT {from} TO {to}"))
                .map(|_| ())
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_are_understood_as_the_catalog_spells_them() {
        for (ty, want) in [
            ("integer", Held::bits(32, true)),
            ("numeric(6,2)", Held::Decimal(Some((6, 2)))),
            ("numeric", Held::Decimal(None)),
            ("numeric(5,-2)", Held::Other),
            ("character varying(8)", Held::Text(Some(8))),
            ("timestamp(0) without time zone", Held::Timestamp(0, Some(false))),
            ("timestamp with time zone", Held::Timestamp(6, Some(true))),
            ("time(3) without time zone", Held::Time(3)),
            ("integer[]", Held::List(Box::new(Held::bits(32, true)))),
            ("ferry.fare", Held::Other),
        ] {
            assert_eq!(held(ty), want, "{ty}");
        }
    }
}
