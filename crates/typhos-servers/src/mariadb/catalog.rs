//! What the catalog of MariaDB says of tables and rights.

use std::collections::HashSet;

use super::MariadbSession;
use typhos_core::remedy::Remedy;
use typhos_core::schema::Held;
use typhos_core::wording::listed;
use typhos_load::TargetError;
use typhos_load::table::{Adding, Ask, Intent, Objections};
use typhos_load::{Action, Problem, columns_go_along, goes_along, rows_go_along};
use typhos_sql::held::{Existing, ExistingColumn, Filled, Letters};
use typhos_sql::{Definitions, Mariadb};

/// How many times larger than the input a table may be that rows go straight into: to go over a row that was there takes about a
/// thirtieth of what it takes to move one from a table beside.
const MOST_TIMES: u64 = 16;

pub(super) fn existing(
    session: &mut MariadbSession,
    table: &str,
) -> Result<Option<Existing>, TargetError> {
    let text = Mariadb.literal(table);
    let rows = session.query(&format!(
        "SELECT column_name, column_type, is_nullable, column_default, extra, is_generated, \
                character_set_name, collation_name \
         FROM information_schema.columns WHERE table_schema = database() AND table_name = {text} \
         ORDER BY ordinal_position"
    ))?;
    if rows.is_empty() {
        return Ok(None);
    }
    let key = session.names(&format!(
        "SELECT column_name FROM information_schema.key_column_usage WHERE table_schema = database() \
         AND table_name = {text} AND constraint_name = 'PRIMARY' ORDER BY ordinal_position"
    ))?;
    let column = |row: Vec<Option<String>>| -> Option<ExistingColumn> {
        let [name, ty, nullable, default, extra, generated, character_set, collation] =
            row.try_into().ok()?;
        let filled = if generated.as_deref() == Some("ALWAYS") {
            Filled::Computed
        } else if extra.is_some_and(|extra| extra.contains("auto_increment")) {
            Filled::Numbered
        } else {
            // The word NULL is a default that is none.
            match default.filter(|default| default != "NULL") {
                Some(default) => Filled::Default(default),
                None => Filled::Nobody,
            }
        };
        let ty = without_width(&ty?);
        Some(ExistingColumn {
            name: name?,
            held: held(&ty),
            ty,
            nullable: nullable.as_deref() == Some("YES"),
            filled,
            letters: character_set
                .zip(collation)
                .map(|(character_set, collation)| Letters { character_set, collation }),
        })
    };
    Ok(Some(Existing { columns: rows.into_iter().filter_map(column).collect(), key }))
}

/// `int(10) unsigned` → `int unsigned`: how wide a number is shown says nothing of what it holds.
fn without_width(ty: &str) -> String {
    match (ty.split_once('('), ty.split_once(')')) {
        (Some((name, _)), Some((_, rest))) if name.ends_with("int") && ty != "tinyint(1)" => {
            format!("{name}{rest}")
        }
        _ => ty.to_owned(),
    }
}

fn held(ty: &str) -> Held {
    let (name, rest) = ty.split_once(['(', ' ']).unwrap_or((ty, ""));
    let signed = !ty.contains("unsigned");
    let numbers: Vec<u32> = rest
        .split(')')
        .next()
        .unwrap_or("")
        .split(',')
        .filter_map(|n| n.trim().parse().ok())
        .collect();
    let fraction = numbers.first().map_or(0, |n| *n as u8);
    match name {
        "tinyint" if ty == "tinyint(1)" => Held::bits(8, true),
        "tinyint" => Held::bits(8, signed),
        "smallint" => Held::bits(16, signed),
        "mediumint" => Held::bits(24, signed),
        "int" => Held::bits(32, signed),
        "bigint" => Held::bits(64, signed),
        "decimal" => match numbers[..] {
            [precision, scale] => Held::Decimal(Some((precision, scale))),
            _ => Held::Decimal(Some((10, 0))),
        },
        // With digits behind the mark they round as decimals do.
        "float" | "double" if numbers.len() == 2 => Held::Decimal(Some((numbers[0], numbers[1]))),
        "float" => Held::Float(32),
        "double" => Held::Float(64),
        "char" | "varchar" => Held::Text(numbers.first().map(|n| u64::from(*n))),
        // Bytes, of which a character may take four.
        "tinytext" => Held::Text(Some(63)),
        "text" => Held::Text(Some(16_383)),
        "mediumtext" => Held::Text(Some(4_194_303)),
        "longtext" => Held::Text(None),
        "enum" => Held::Listed(list_values(ty)),
        "date" => Held::Date,
        "time" => Held::Time(fraction),
        "datetime" => Held::Timestamp(fraction, None),
        "timestamp" => Held::Timestamp(fraction, Some(true)),
        "uuid" => Held::Uuid,
        "inet6" => Held::Ip,
        "point" => Held::Point,
        _ => Held::Other,
    }
}

/// The values of `enum('a','b')`, where a quote is doubled.
fn list_values(ty: &str) -> Vec<String> {
    let inner = ty.split_once('(').map_or("", |(_, rest)| rest).trim_end_matches(')');
    let mut values = Vec::new();
    let mut letters = inner.chars().peekable();
    while let Some(letter) = letters.next() {
        if letter != '\'' {
            continue;
        }
        let mut value = String::new();
        while let Some(letter) = letters.next() {
            if letter != '\'' {
                value.push(letter);
            } else if letters.next_if_eq(&'\'').is_some() {
                value.push('\'');
            } else {
                break;
            }
        }
        values.push(value);
    }
    values
}

pub(super) fn objections(
    session: &mut MariadbSession,
    intent: &Intent<'_>,
) -> Result<Objections, TargetError> {
    let mut found = Objections::default();
    if session.one("SELECT @@local_infile")?.as_deref() != Some("1") {
        found.problems.push(Problem::outside(
            "LOAD DATA LOCAL is disabled on this server",
            "enable it with SET GLOBAL local_infile = 1",
        ));
    }
    let bytes = match intent.action {
        Action::Append => takes_behind(session, intent)?,
        _ => None,
    };
    session.adds_behind = bytes.is_some();
    if let Some(bytes) = bytes {
        found.adding = Adding::Straight { least_input: bytes.div_ceil(MOST_TIMES) };
    }
    may_write(session, intent, &mut found)?;
    if intent.action == Action::Replace {
        may_replace(session, intent, &mut found)?;
    }
    if intent.action.keeps_table() {
        can_undo(session, intent, &mut found.problems)?;
    }
    if intent.action == Action::Refill {
        let text = Mariadb.literal(intent.table);
        let along = session.names(&format!(
            "SELECT DISTINCT table_name FROM information_schema.referential_constraints \
             WHERE unique_constraint_schema = database() AND referenced_table_name = {text} \
             AND delete_rule IN ('CASCADE', 'SET NULL', 'SET DEFAULT') ORDER BY 1"
        ))?;
        found.problems.extend(rows_go_along(intent.table, &along));
    }
    Ok(found)
}

/// How many bytes a table has to which rows are added behind all that are there, so that those of a transaction can be told: one
/// of InnoDB without a key that could be the order of its rows, whose triggers and foreign keys do nothing on the way.
/// Nothing of any other, and of servers that do not say which row it is that they refuse.
fn takes_behind(
    session: &mut MariadbSession,
    intent: &Intent<'_>,
) -> Result<Option<u64>, TargetError> {
    if !says_rows(&session.version) {
        return Ok(None);
    }
    let text = Mariadb.literal(intent.table);
    let bytes = session.one(&format!(
        "SELECT greatest(t.data_length, t.table_rows * 20) FROM information_schema.tables t \
         WHERE t.table_schema = database() AND t.table_name = {text} AND t.table_type = 'BASE TABLE' AND t.engine = 'InnoDB' \
         AND coalesce(t.create_options, '') NOT LIKE '%partitioned%' \
         AND NOT EXISTS (SELECT 1 FROM information_schema.statistics WHERE table_schema = database() AND table_name = {text} AND non_unique = 0) \
         AND NOT EXISTS (SELECT 1 FROM information_schema.triggers WHERE event_object_schema = database() AND event_object_table = {text}) \
         AND NOT EXISTS (SELECT 1 FROM information_schema.referential_constraints WHERE constraint_schema = database() AND table_name = {text})"
    ))?;
    Ok(bytes.and_then(|bytes| bytes.parse().ok()))
}

/// Whether a server of a version, `10.11.6-MariaDB`, says which of many rows it refuses: from 10.7 on.
pub(super) fn says_rows(version: &str) -> bool {
    let mut numbers = version.split(['.', '-']).map_while(|number| number.parse::<u32>().ok());
    let (Some(major), Some(minor)) = (numbers.next(), numbers.next()) else { return false };
    (major, minor) >= (10, 7)
}

/// Whether the table belongs to an engine that undoes what is not committed: of any other, a load that fails half-way would
/// leave half of its rows.
fn can_undo(
    session: &mut MariadbSession,
    intent: &Intent<'_>,
    problems: &mut Vec<Problem>,
) -> Result<(), TargetError> {
    let text = Mariadb.literal(intent.table);
    let view = session.query(&format!(
        "SELECT is_updatable, view_definition FROM information_schema.views \
         WHERE table_schema = database() AND table_name = {text}"
    ))?;
    let view = view.into_iter().next();
    let behind = view.as_ref().and_then(|row| row.get(1)?.as_deref().and_then(table_of_view));
    let is_open = view.as_ref().is_some_and(|row| row[0].as_deref() == Some("YES"));
    if view.is_some() && !(is_open && behind.is_some() && intent.action == Action::Append) {
        let what = match intent.action {
            Action::Refill => "is not a table, and only the rows of one can be exchanged",
            _ => "is no table, and no view of one table that the server puts rows into",
        };
        problems.push(Problem::new(
            format!("'{}' {what}", intent.table),
            Remedy::of("name the table behind it with {table}"),
        ));
        return Ok(());
    }
    let (schema, text) = match behind {
        Some((schema, table)) => (Mariadb.literal(&schema), Mariadb.literal(&table)),
        None => ("database()".into(), text),
    };
    let engine = session.one(&format!(
        "SELECT t.engine FROM information_schema.tables t JOIN information_schema.engines e ON e.engine = t.engine \
         WHERE t.table_schema = {schema} AND t.table_name = {text} AND coalesce(e.transactions, 'NO') <> 'YES'"
    ))?;
    if let Some(engine) = engine {
        problems.push(Problem::new(
            format!(
                "'{}' is a table of {engine}, which does not undo a load that fails half-way",
                intent.table
            ),
            Remedy::of(
                "let it be one of InnoDB (ALTER TABLE … ENGINE = InnoDB), or pass {mode = replace}",
            ),
        ));
    }
    Ok(())
}

/// The database and the table behind a view, as the server writes the definition of a view of one table; `None` of any
/// other.
fn table_of_view(definition: &str) -> Option<(String, String)> {
    let (_, from) = definition.split_once(" from `")?;
    let (schema, rest) = from.split_once("`.`")?;
    let (table, rest) = rest.split_once('`')?;
    let is_alone = rest.is_empty() || rest.starts_with(" where ");
    (is_alone && !schema.contains('`')).then(|| (schema.to_owned(), table.to_owned()))
}

fn may_write(
    session: &mut MariadbSession,
    intent: &Intent<'_>,
    found: &mut Objections,
) -> Result<(), TargetError> {
    let text = Mariadb.literal(intent.table);
    // The parts of a name in `user`@`host`, as these tables write them: the last @ is the one between them.
    let me = "concat('\\'', left(current_user(), length(current_user()) - length(substring_index(current_user(), '@', -1)) - 1), \
              '\\'@\\'', substring_index(current_user(), '@', -1), '\\'')";
    let granted = session.names(&format!(
        "SELECT privilege_type FROM information_schema.user_privileges WHERE grantee = {me} \
         UNION SELECT privilege_type FROM information_schema.schema_privileges WHERE grantee = {me} AND database() LIKE table_schema \
         UNION SELECT privilege_type FROM information_schema.table_privileges WHERE grantee = {me} AND table_schema = database() AND table_name = {text}"
    ))?;
    let granted: HashSet<String> = granted.into_iter().collect();
    // Rights that come with a role are not listed there: who has one is asked by the server itself.
    let has_role = session.one("SELECT current_role()")?.is_some_and(|role| role != "NONE");
    let mut needed = vec!["CREATE", "INSERT", "SELECT", "DROP"];
    match intent.action {
        Action::Create | Action::Replace => needed.push("ALTER"),
        Action::Refill => needed.push("DELETE"),
        Action::Append if intent.updated().next().is_some() => needed.push("UPDATE"),
        Action::Append => {}
    }
    let lacks: Vec<&str> =
        needed.iter().copied().filter(|right| !granted.contains(*right)).collect();
    let is_alone = lacks.iter().all(|right| ["CREATE", "DROP"].contains(right));
    let is_plain = intent.action == Action::Append && intent.schema.layout.key.is_empty();
    if !lacks.is_empty() && !has_role && is_alone && is_plain {
        found.adding = Adding::Directly;
        let counted = match session.adds_behind {
            true => "",
            false => "; they are counted there, and not asked about",
        };
        found.notes.push(format!(
            "no table can be made beside, so that rows go straight into this one, in one transaction{counted}"
        ));
    } else if !lacks.is_empty() && !has_role {
        let user = session.one("SELECT current_user()")?.unwrap_or_default();
        let database = Mariadb.identifier(&session.url.database);
        found.problems.push(Problem::outside(
            format!(
                "the user {user} lacks the {} {} in this database",
                if lacks.len() == 1 { "right" } else { "rights" },
                lacks.join(", ")
            ),
            format!("GRANT {} ON {database}.* TO …", lacks.join(", ")),
        ));
    }
    Ok(())
}

/// A table that others refer to cannot be dropped; and it would be by then, half of the way.
fn may_replace(
    session: &mut MariadbSession,
    intent: &Intent<'_>,
    found: &mut Objections,
) -> Result<(), TargetError> {
    let (table, text) = (intent.table, Mariadb.literal(intent.table));
    let referring = session.names(&format!(
        "SELECT DISTINCT table_name FROM information_schema.key_column_usage \
         WHERE referenced_table_schema = database() AND referenced_table_name = {text} \
         AND NOT (table_schema = database() AND table_name = {text}) ORDER BY 1"
    ))?;
    if !referring.is_empty() {
        let verb = if referring.len() == 1 { "refers" } else { "refer" };
        found.problems.push(Problem::new(
            format!(
                "{} {verb} to '{table}', which therefore cannot be replaced",
                listed(&referring)
            ),
            Remedy::of(
                "pass {mode = append}, or drop the foreign keys and make them again afterwards",
            ),
        ));
    }
    let is_table = session.one(&format!(
        "SELECT table_type = 'BASE TABLE' FROM information_schema.tables WHERE table_schema = database() AND table_name = {text}"
    ))?;
    if is_table.as_deref() == Some("0") {
        found.problems.push(Problem::new(
            format!("'{table}' is not a table, and only a table can be replaced"),
            Remedy::of("name another with {table}"),
        ));
    }
    let counts = session.counts(&format!(
        "SELECT (SELECT count(DISTINCT index_name) FROM information_schema.statistics \
                 WHERE table_schema = database() AND table_name = {text} AND index_name <> 'PRIMARY'), \
                (SELECT count(*) FROM information_schema.triggers \
                 WHERE event_object_schema = database() AND event_object_table = {text}), \
                (SELECT count(*) FROM information_schema.partitions \
                 WHERE table_schema = database() AND table_name = {text} AND partition_name IS NOT NULL), \
                (SELECT count(*) FROM information_schema.referential_constraints \
                 WHERE constraint_schema = database() AND table_name = {text}), \
                (SELECT count(*) FROM information_schema.check_constraints \
                 WHERE constraint_schema = database() AND table_name = {text}), \
                (SELECT count(*) FROM information_schema.columns \
                 WHERE table_schema = database() AND table_name = {text} AND coalesce(column_default, 'NULL') <> 'NULL')"
    ))?;
    let things = ["further index", "trigger", "partition", "foreign key", "check", "default"];
    found.notes.extend(goes_along(counts, things));
    let there = session.names(&format!(
        "SELECT column_name FROM information_schema.columns WHERE table_schema = database() AND table_name = {text} \
         ORDER BY ordinal_position"
    ))?;
    found.notes.extend(columns_go_along(there, intent.columns()));
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_view_of_one_table_leads_to_it() {
        let of = |definition: &str| table_of_view(definition);
        let found = Some(("ferry".to_owned(), "tickets".to_owned()));
        let plain = "select `ferry`.`tickets`.`n` AS `n` from `ferry`.`tickets`";
        assert_eq!(of(plain), found);
        assert_eq!(of(&format!("{plain} where `ferry`.`tickets`.`n` > 1")), found);
        assert_eq!(of("select 1 AS `1`"), None);
        assert_eq!(of("select 1 AS `1` from (`ferry`.`a` join `ferry`.`b`)"), None);
        assert_eq!(of("select 1 AS `1` from `ferry`.`a` group by 1"), None);
    }

    #[test]
    fn rows_that_are_refused_are_named_by_newer_servers() {
        for (version, says) in [
            ("10.11.6-MariaDB-0+deb12u1", true),
            ("10.7.1-MariaDB", true),
            ("11.4.2-MariaDB", true),
            ("10.6.18-MariaDB-log", false),
            ("10.5", false),
            ("", false),
        ] {
            assert_eq!(says_rows(version), says, "{version}");
        }
    }

    #[test]
    fn types_are_understood_as_the_catalog_spells_them() {
        for (ty, want) in [
            ("int(10) unsigned", Held::bits(32, false)),
            ("bigint(20)", Held::bits(64, true)),
            ("decimal(6,2)", Held::Decimal(Some((6, 2)))),
            ("varchar(8)", Held::Text(Some(8))),
            ("enum('deck','it''s, so')", Held::Listed(vec!["deck".into(), "it's, so".into()])),
            ("datetime(3)", Held::Timestamp(3, None)),
            ("geometry", Held::Other),
        ] {
            assert_eq!(held(&without_width(ty)), want, "{ty}");
        }
        assert_eq!(without_width("int(10) unsigned"), "int unsigned");
    }
}
