//! What the catalog of ClickHouse says of tables, their columns and their engines.

use super::ClickHouseSession;
use typhos_core::remedy::Remedy;
use typhos_core::schema::{ColumnDecl, Held};
use typhos_load::TargetError;
use typhos_load::table::{Adding, Ask, Intent, Objections};
use typhos_load::{Action, Problem, columns_go_along};
use typhos_sql::Definitions;
use typhos_sql::held::{Existing, ExistingColumn, Filled};

pub(super) fn existing(
    session: &mut ClickHouseSession,
    table: &str,
) -> Result<Option<Existing>, TargetError> {
    let (database, table) =
        (session.language.literal(&session.url.database), session.language.literal(table));
    let condition = format!("FROM system.columns WHERE database = {database} AND table = {table}");
    // What this column is called has changed with the versions.
    let kind = match session.query(&format!("SELECT default_kind {condition} LIMIT 0")) {
        Ok(_) => "default_kind",
        Err(_) => "default_type",
    };
    let rows =
        session.query(&format!("SELECT name, type, {kind}, default_expression {condition}"))?;
    if rows.is_empty() {
        return Ok(None);
    }
    // What a column without a zone of its own shows its times in.
    let zone = session.one("SELECT timezone()")?.unwrap_or_else(|| "UTC".into());
    let column = |row: Vec<Option<String>>| -> Option<ExistingColumn> {
        let [name, ty, kind, default] = row.try_into().ok()?;
        let ty = ty?;
        let filled = match kind.as_deref() {
            Some("DEFAULT") => Filled::Default(default.unwrap_or_default()),
            Some("MATERIALIZED" | "ALIAS") => Filled::Computed,
            _ if !ty.contains("Nullable(") => Filled::Default("the empty value of its type".into()),
            _ => Filled::Nobody,
        };
        Some(ExistingColumn {
            name: name?,
            held: held(&ty),
            nullable: ty.contains("Nullable("),
            ty: zoned(plain(&ty), &zone),
            filled,
            letters: None,
        })
    };
    Ok(Some(Existing { columns: rows.into_iter().filter_map(column).collect(), key: Vec::new() }))
}

pub(super) fn objections(
    session: &mut ClickHouseSession,
    intent: &Intent<'_>,
) -> Result<Objections, TargetError> {
    let mut found = Objections::default();
    let reads_only = session.one("SELECT value FROM system.settings WHERE name = 'readonly'")?;
    // Over HTTP, 2 lets settings be changed, and still nothing be written.
    if let Some("1" | "2") = reads_only.as_deref() {
        let what = format!("the user '{}' may only read", session.url.user);
        let help = "load as a user whose profile does not say readonly";
        found.problems.push(Problem::outside(what, help));
    }
    let database = session.language.literal(&session.url.database);
    let table = session.language.literal(intent.table);
    let about = session.query(&format!(
        "SELECT engine, length(dependencies_table), \
         position(create_table_query, ' CONSTRAINT ') + position(create_table_query, ' TTL ') \
         FROM system.tables WHERE database = {database} AND name = {table}"
    ))?;
    let Some([Some(engine), followers, rules]) =
        about.into_iter().next().and_then(|row| <[_; 3]>::try_from(row).ok())
    else {
        return Ok(found);
    };
    if engine.ends_with("View") && intent.action != Action::Create {
        let what = format!("'{}' is a view", intent.table);
        found
            .problems
            .push(Problem::new(what, Remedy::of("name the table behind it with {table}")));
    } else if intent.action == Action::Replace {
        // What a new table has instead, the plan shows as its definition.
        let order = session.query(&format!(
            "SELECT partition_key, sorting_key FROM system.tables WHERE database = {database} AND name = {table}"
        ));
        let [partition, sorting] = match order.ok().and_then(|rows| rows.into_iter().next()) {
            Some(row) => <[_; 2]>::try_from(row).unwrap_or_default(),
            None => [None, None],
        };
        let kept = [(" PARTITION BY ", partition), (" ORDER BY ", sorting)].map(|(word, key)| {
            key.filter(|key| !key.is_empty()).map_or(String::new(), |key| format!("{word}{key}"))
        });
        found.notes.push(format!(
            "the table is one of {engine}{}, which goes with it, and stays where only the rows are exchanged",
            kept.concat()
        ));
        let there = session.names(&format!(
            "SELECT name FROM system.columns WHERE database = {database} AND table = {table}"
        ))?;
        found.notes.extend(columns_go_along(there, intent.columns()));
    } else if intent.action == Action::Refill {
        // Those of a replicated one are known to its keeper by where it is.
        let is_alone =
            !["Replicated", "Shared", "Distributed"].iter().any(|word| engine.starts_with(word));
        let holds = engine.ends_with("MergeTree") || engine.ends_with("Log") || engine == "Memory";
        if is_alone && holds {
            found.adding = Adding::ByExchange;
        } else {
            let what = format!(
                "'{}' is a table of {engine}, whose rows cannot be exchanged at once",
                intent.table
            );
            found
                .problems
                .push(Problem::new(what, Remedy::of("pass {mode = append} or {mode = replace}")));
        }
    } else if intent.action == Action::Append {
        // A table made as a replicated one is would be the same to its keeper; and views are told of
        // insertions only.
        let is_shared = ["Replicated", "Shared"].iter().any(|word| engine.starts_with(word));
        let has_parts = engine.ends_with("MergeTree") && !is_shared;
        if has_parts && followers.as_deref() == Some("0") {
            // Of other engines' rows some may be gone before they are asked about, and of a table with rules of its own; and a
            // row that is refused is looked for in the table beside.
            let keeps_all = engine == "MergeTree" && rules.as_deref() == Some("0");
            let as_sent = keeps_all && takes_as_sent(session, intent)?;
            found.adding = Adding::ByParts { engine, as_sent };
        } else {
            found.notes.push(
                "rows are added by one insertion, which this server makes visible block by block"
                    .into(),
            );
        }
    }
    Ok(found)
}

/// Whether the columns of a table are those that a new table would have, as far as they are filled.
fn takes_as_sent(
    session: &mut ClickHouseSession,
    intent: &Intent<'_>,
) -> Result<bool, TargetError> {
    let (database, table) =
        (session.language.literal(&session.url.database), session.language.literal(intent.table));
    let there = session.query(&format!(
        "SELECT name, type FROM system.columns WHERE database = {database} AND table = {table}"
    ))?;
    // Names of values may have commas of their own.
    let spelled = |ty: &str| match ty.contains('\'') {
        true => ty.to_owned(),
        false => ty.replace(", ", ","),
    };
    let is_there = |column: &ColumnDecl| {
        let stored = session.language.stored(intent.table, column).ty;
        let wanted = session.language.nullable(&stored, !column.required);
        there.iter().any(|row| match &row[..] {
            [Some(name), Some(ty)] => *name == column.name && spelled(ty) == spelled(&wanted),
            _ => false,
        })
    };
    Ok(intent.schema.columns.iter().all(is_there))
}

/// A type without what is said of nulls and of how texts are stored.
fn plain(ty: &str) -> String {
    let mut ty = ty;
    for around in ["LowCardinality(", "Nullable("] {
        ty = ty.strip_prefix(around).and_then(|ty| ty.strip_suffix(')')).unwrap_or(ty);
    }
    ty.to_owned()
}

/// A type with the zone in which its times are shown, where it is one of times and says none.
fn zoned(ty: String, zone: &str) -> String {
    match ty.split_once('(') {
        _ if !ty.starts_with("DateTime") || ty.contains('\'') => ty,
        None => format!("{ty}('{zone}')"),
        Some(_) => format!("{}, '{zone}')", ty.trim_end_matches(')')),
    }
}

fn held(ty: &str) -> Held {
    let ty = plain(ty);
    let (name, rest) = ty.split_once('(').unwrap_or((&ty, ""));
    let numbers: Vec<u32> = rest.split([',', ')']).filter_map(|n| n.trim().parse().ok()).collect();
    let int = |signed: &str| name.strip_prefix(signed).and_then(|bits| bits.parse::<u32>().ok());
    match name {
        "Bool" => Held::Bool,
        "Float32" => Held::Float(32),
        "Float64" => Held::Float(64),
        "Decimal" => match numbers[..] {
            [precision, scale] => Held::Decimal(Some((precision, scale))),
            _ => Held::Other,
        },
        "String" => Held::Text(None),
        "Enum8" | "Enum16" => Held::Listed(listed(rest)),
        "Date" | "Date32" => Held::Date,
        "DateTime" => Held::Timestamp(0, None),
        "DateTime64" => Held::Timestamp(numbers.first().map_or(3, |n| *n as u8), None),
        "UUID" => Held::Uuid,
        _ => match (int("Int"), int("UInt")) {
            (Some(width), _) if width <= 64 => Held::bits(width, true),
            (_, Some(width)) if width <= 64 => Held::bits(width, false),
            _ => Held::Other,
        },
    }
}

/// The values of `'a' = 1, 'b' = 2`.
fn listed(text: &str) -> Vec<String> {
    let mut values = Vec::new();
    let mut letters = text.chars();
    while letters.by_ref().any(|letter| letter == '\'') {
        let mut value = String::new();
        while let Some(letter) = letters.next() {
            match letter {
                '\\' => value.extend(letters.next().map(meant)),
                '\'' => break,
                other => value.push(other),
            }
        }
        values.push(value);
    }
    values
}

/// What a letter behind a backslash stands for.
fn meant(letter: char) -> char {
    match letter {
        'b' => '\u{8}',
        'f' => '\u{c}',
        'n' => '\n',
        'r' => '\r',
        't' => '\t',
        '0' => '\0',
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_are_understood_as_the_catalog_spells_them() {
        for (ty, want) in [
            ("Nullable(UInt8)", Held::bits(8, false)),
            ("LowCardinality(Nullable(String))", Held::Text(None)),
            ("Decimal(9, 2)", Held::Decimal(Some((9, 2)))),
            ("Enum8('deck' = 1, 'it\\'s' = 2)", Held::Listed(vec!["deck".into(), "it's".into()])),
            ("Enum8('a\\nb\\t' = 1, '\\\\' = 2)", Held::Listed(vec!["a\nb\t".into(), "\\".into()])),
            ("DateTime64(6, 'UTC')", Held::Timestamp(6, None)),
            ("Array(Int8)", Held::Other),
        ] {
            assert_eq!(held(ty), want, "{ty}");
        }
        for (ty, want) in [
            ("DateTime", "DateTime('Europe/Oslo')"),
            ("DateTime64(3)", "DateTime64(3, 'Europe/Oslo')"),
            ("DateTime('UTC')", "DateTime('UTC')"),
            ("Date", "Date"),
        ] {
            assert_eq!(zoned(ty.into(), "Europe/Oslo"), want);
        }
    }
}
