//! What the catalog of PostgreSQL says of tables, types and rights.

use super::{PostgresSession, first};
use crate::TargetError;
use crate::preflight::{Action, Problem};
use crate::server::Session;
use crate::sql::held::{Existing, ExistingColumn, Filled, Held, bits};
use crate::sql::{Language, Postgres};

/// The condition that finds the table in `pg_class c`.
fn condition(session: &PostgresSession, table: &str) -> String {
    let table = Postgres.literal(table);
    match &session.place.schema {
        Some(schema) => {
            let schema = Postgres.literal(schema);
            format!(
                "c.relname = {table} AND c.relnamespace = (SELECT oid FROM pg_namespace WHERE nspname = {schema})"
            )
        }
        None => format!("c.relname = {table} AND c.relnamespace = current_schema()::regnamespace"),
    }
}

pub(super) fn existing(
    session: &mut PostgresSession,
    table: &str,
) -> Result<Option<Existing>, TargetError> {
    let here = condition(session, table);
    let kind = first(session.query(&format!("SELECT c.relkind FROM pg_class c WHERE {here}"))?);
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
    let key = session.query(&format!(
        "SELECT a.attname FROM pg_class c JOIN pg_index i ON i.indrelid = c.oid AND i.indisprimary \
         JOIN unnest(i.indkey) WITH ORDINALITY k(num, place) ON true \
         JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.num WHERE {here} ORDER BY k.place"
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
        })
    };
    Ok(Some(Existing {
        columns: columns.into_iter().filter_map(column).collect(),
        key: key.into_iter().filter_map(|row| row.into_iter().next()?).collect(),
    }))
}

/// What a type holds, as `format_type` spells it.
fn held(ty: &str) -> Held {
    let (name, rest) = ty.split_once('(').unwrap_or((ty, ""));
    let (numbers, tail) = rest.split_once(')').unwrap_or(("", ""));
    let numbers: Vec<u32> = numbers.split(',').filter_map(|n| n.trim().parse().ok()).collect();
    let fraction = || numbers.first().map_or(6, |n| *n as u8);
    match (name.trim(), tail.trim()) {
        ("boolean", _) => Held::Bool,
        ("smallint", _) => bits(16, true),
        ("integer", _) => bits(32, true),
        ("bigint", _) => bits(64, true),
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

pub(super) fn rights(
    session: &mut PostgresSession,
    action: Action,
    table: &str,
) -> Result<Vec<Problem>, TargetError> {
    let schema = match &session.place.schema {
        Some(schema) => Postgres.literal(schema),
        None => "current_schema()".into(),
    };
    let user = session.place.user.clone();
    let mut problems = Vec::new();
    let is_there = first(
        session.query(&format!("SELECT count(*) FROM pg_namespace WHERE nspname = {schema}"))?,
    );
    if is_there.as_deref() == Some("0") {
        let name = session.place.schema.clone().unwrap_or_default();
        let help =
            format!("CREATE SCHEMA {}; or name another in the URL", Postgres.identifier(&name));
        return Ok(vec![Problem::outside(format!("there is no schema '{name}'"), help)]);
    }
    let here = condition(session, table);
    let identifier = Postgres.identifier(&user);
    let mut ask = |sql: String, what: String, help: String| -> Result<(), TargetError> {
        if first(session.query(&sql)?).as_deref() != Some("t") {
            problems.push(Problem::outside(what, help));
        }
        Ok(())
    };
    match action {
        Action::Create | Action::Replace => ask(
            format!("SELECT has_schema_privilege({schema}, 'CREATE')"),
            format!("the user '{user}' may not make tables there"),
            format!("GRANT CREATE ON SCHEMA … TO {identifier}"),
        )?,
        Action::Append => {
            ask(
                "SELECT has_database_privilege(current_database(), 'TEMP')".into(),
                format!("the user '{user}' may not make temporary tables there"),
                format!("GRANT TEMPORARY ON DATABASE … TO {identifier}"),
            )?;
            for right in ["INSERT", "SELECT"] {
                ask(
                    format!(
                        "SELECT bool_and(has_table_privilege(c.oid, '{right}') OR has_any_column_privilege(c.oid, '{right}')) \
                         FROM pg_class c WHERE {here}"
                    ),
                    format!("the user '{user}' lacks the right {right} on '{table}'"),
                    format!("GRANT {right} ON {} TO {identifier}", Postgres.identifier(table)),
                )?;
            }
            ask(
                format!("SELECT c.relkind IN ('r', 'p', 'f') FROM pg_class c WHERE {here}"),
                format!("'{table}' is no table that rows can be added to"),
                "name another with --table".into(),
            )?;
        }
    }
    if action == Action::Replace {
        ask(
            format!(
                "SELECT bool_and(pg_has_role(c.relowner, 'USAGE') AND c.relkind = 'r') FROM pg_class c WHERE {here}"
            ),
            format!("'{table}' is not a table that '{user}' owns, and only that can be replaced"),
            "load as its owner, or with --mode append".into(),
        )?;
    }
    Ok(problems)
}

/// Whether the type is still to be made. One that is there and has the same values is used; one with other
/// values that no table uses, or only the one that is replaced, makes way.
pub(super) fn is_type_free(
    session: &mut PostgresSession,
    name: &str,
    labels: &str,
) -> Result<bool, TargetError> {
    let text = Postgres.literal(name);
    let there = session.query(&format!(
        "SELECT '(' || string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder) || ')' \
         FROM pg_enum e WHERE e.enumtypid = to_regtype({text})"
    ))?;
    let Some(there) = first(there) else { return Ok(true) };
    let plain = |labels: &str| labels.replace(" E'", "'").replace(", ", ",");
    if plain(&there) == plain(labels) {
        return Ok(false);
    }
    let number = first(session.query("SELECT txid_current()")?).unwrap_or_default();
    let old = Postgres.identifier(&format!("typhos_old_{number}_{}", session.old_types.len()));
    session.execute(&format!("ALTER TYPE {name} RENAME TO {old}"))?;
    session.drop_later(old);
    Ok(true)
}

/// Gives the primary key of a table the name that the server would have given it.
pub(super) fn rename_key(session: &mut PostgresSession, table: &str) -> Result<(), TargetError> {
    let here = condition(session, table);
    let name = first(session.query(&format!(
        "SELECT k.conname FROM pg_class c JOIN pg_constraint k ON k.conrelid = c.oid AND k.contype = 'p' WHERE {here}"
    ))?);
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
            ("integer", bits(32, true)),
            ("numeric(6,2)", Held::Decimal(Some((6, 2)))),
            ("numeric", Held::Decimal(None)),
            ("numeric(5,-2)", Held::Other),
            ("character varying(8)", Held::Text(Some(8))),
            ("timestamp(0) without time zone", Held::Timestamp(0, Some(false))),
            ("timestamp with time zone", Held::Timestamp(6, Some(true))),
            ("time(3) without time zone", Held::Time(3)),
            ("integer[]", Held::Other),
            ("ferry.fare", Held::Other),
        ] {
            assert_eq!(held(ty), want, "{ty}");
        }
    }
}
