//! Definitions in every language, and what fits into what exists.

use super::quoting::literals;
use super::*;
use proptest::prelude::*;
use typhos_core::read_schema as read;
use typhos_core::schema::{Held, relation};

const SCHEMA: &str = r#"typhos = 1
[columns]
id = { type = "uint32", required = true, comment = "the number on the paper; it's unique" } # 1 to 20,000
party = { type = "uint8", default = "1" }
cabin = { type = "category", values = ["deck", "it's"] }
route = { type = "lowcard", required = true }
name = { type = "text(8)", default = "a'b" }
at = { type = "timestamp(ns)", patterns = ["yyyy-MM-dd"] }
"q\"`x" = { type = "decimal(6,2)" }
[layout]
key = ["id"]
sort = ["route", "id desc"]
"#;

fn script_of(language: &str) -> String {
    let schema = read(SCHEMA).unwrap_or_else(|wrong| panic!("{wrong:?}"));
    script(super::sql_language(language).unwrap().as_ref(), &schema, "tickets").unwrap()
}

#[test]
fn every_language_defines_the_table_in_its_own_way() {
    for (language, wants) in [
        (
            "postgres",
            &[
                "CREATE TYPE \"tickets_cabin\" AS ENUM ('deck', 'it''s');",
                "\"id\" bigint NOT NULL CONSTRAINT \"tickets_id_check\" CHECK (\"id\" BETWEEN 0 AND 4294967295)",
                "\"party\" smallint DEFAULT 1",
                "\"name\" varchar(8) DEFAULT 'a''b'",
                "\"at\" bigint",
                "\"q\"\"`x\" numeric(6,2)",
                "PRIMARY KEY (\"id\")",
                "COMMENT ON COLUMN \"tickets\".\"id\" IS 'the number on the paper; it''s unique';",
                "CREATE INDEX \"tickets_sorted\" ON \"tickets\" (\"route\", \"id\" DESC);",
                "-- Note: 'at' is stored as a whole number of nanoseconds since 1970",
            ][..],
        ),
        (
            "mariadb",
            &[
                "`id` int unsigned NOT NULL COMMENT 'the number on the paper; it''s unique'",
                "`cabin` enum('deck', 'it''s')",
                "`q\"``x` decimal(6,2)",
                "PRIMARY KEY (`id`)",
            ],
        ),
        (
            "clickhouse",
            &[
                "`id` UInt32",
                "`party` Nullable(UInt8) DEFAULT 1",
                "`cabin` Nullable(Enum8('deck' = 1, 'it\\'s' = 2))",
                "`route` LowCardinality(String)",
                "ORDER BY (`route`)",
                "`q\"\\`x` Nullable(Decimal(6,2))",
            ],
        ),
        (
            "sqlite",
            &[
                "-- id: the number on the paper; it's unique",
                "\"party\" INTEGER DEFAULT 1 CHECK (\"party\" BETWEEN 0 AND 255)",
                "\"cabin\" TEXT CHECK (\"cabin\" IN ('deck', 'it''s'))",
                ") STRICT;",
            ],
        ),
        (
            "sql",
            &[
                "\"cabin\" varchar(4) CHECK (\"cabin\" IN ('deck', 'it''s'))",
                "\"at\" timestamp(9)",
                "\"route\" character large object NOT NULL",
            ],
        ),
    ] {
        let script = script_of(language);
        for want in wants {
            assert!(script.contains(want), "{language}: {want}\n{script}");
        }
    }
    assert!(super::sql_language("oracle of somewhere").is_none());
}

#[test]
fn no_text_ends_a_comment_or_a_literal() {
    let schema = read("typhos = 1\n[columns]\na = { type = 'text' } # x\n").unwrap();
    let mut schema = schema;
    schema.columns[0].comment = Some("x\n; DROP TABLE t; --\r'".into());
    schema.columns[0].name = "a\n; DROP TABLE t; --".into();
    for name in SQL_LANGUAGES {
        let language = super::sql_language(name).unwrap();
        schema.columns[0].comment = Some("x\n; DROP TABLE t; --'".into());
        let script = script(language.as_ref(), &schema, "t\n; DROP TABLE t; --").unwrap();
        let comments = script.lines().filter(|line| line.starts_with("--"));
        assert!(comments.count() >= 1);
        for line in script.lines().filter(|line| line.trim_start().starts_with("; DROP")) {
            // Only inside quotes may such a line stand: those of a name before it are still open.
            let before = &script[..script.find(line).unwrap()];
            let quote = language.identifier("x").chars().next().unwrap();
            let code: String = before.lines().filter(|line| !line.starts_with("--")).collect();
            let open = code.matches(quote).count() % 2 == 1 || code.matches('\'').count() % 2 == 1;
            assert!(open, "{name}: {script}");
        }
    }
}

/// Whatever takes escape sequences out of a script on its way finds none: not one that would take a quote with it.
#[test]
fn no_script_has_control_characters() {
    let text = "a\x1b\" int); DROP TABLE victim; --";
    for (name, want) in [
        ("postgres", Ok(r#"U&"a\001B"" int)"#)),
        ("sql", Ok(r#"U&"a\001B"" int)"#)),
        ("clickhouse", Ok(r#"`a\x1B" int)"#)),
        ("sqlite", Err("SQLite has no way to write the control character U+001B")),
        ("mariadb", Err("MariaDB has no way to write the control character U+001B")),
    ] {
        let mut schema = read("typhos = 1\n[columns]\na = { type = 'text' }\n").unwrap();
        schema.columns[0].name = text.into();
        let language = super::sql_language(name).unwrap();
        match (script(language.as_ref(), &schema, "t"), want) {
            (Ok(script), Ok(want)) => {
                assert!(script.contains(want), "{script}");
                assert!(!script.contains(|c: char| c.is_control() && c != '\n'), "{script}");
            }
            (Err(error), Err(want)) => assert!(error.to_string().contains(want), "{error}"),
            (other, _) => panic!("{name}: {other:?}"),
        }
        schema.columns[0].name = "a\0".into();
        assert!(script(language.as_ref(), &schema, "t").is_err(), "{name} has no NUL");
    }
    // Values of a category and comments are texts too.
    let schema =
        read("typhos = 1\n[columns]\na = { type = 'category', values = [\"x\\u001b'\\u009b\"] }\n");
    let mut schema = schema.unwrap();
    schema.columns[0].comment = Some("c\u{9b}".into());
    for name in ["postgres", "sql", "clickhouse"] {
        let script = script(super::sql_language(name).unwrap().as_ref(), &schema, "t").unwrap();
        assert!(!script.contains(|c: char| c.is_control() && c != '\n'), "{script}");
    }
}

#[test]
fn a_comment_stands_before_a_check() {
    let schema = "typhos = 1\n[columns]\na = { type = 'category', values = ['x '] }\n";
    let mut schema = read(schema).unwrap();
    schema.columns[0].comment = Some("c".into());
    let script = script(&Mariadb, &schema, "t").unwrap();
    let places = [script.find(" COMMENT "), script.find(" CHECK ")];
    assert!(places[0].is_some() && places[1].is_some() && places[0] < places[1], "{script}");
}

#[test]
fn a_declared_column_fits_what_holds_all_its_values() {
    let column = |keys: &str| {
        let schema = read(&format!("typhos = 1\n[columns]\nx = {{ {keys} }}\n"));
        schema.unwrap_or_else(|wrong| panic!("{wrong:?}")).columns.remove(0)
    };
    for (keys, held, want) in [
        ("type = 'uint8'", Held::bits(16, true), Ok(())),
        ("type = 'uint16'", Held::bits(16, true), Err("declare int16")),
        ("type = 'int32'", Held::Decimal(Some((10, 0))), Ok(())),
        ("type = 'int32'", Held::Decimal(Some((10, 2))), Err("it holds 8 digits before the mark")),
        ("type = 'int64'", Held::Float(64), Err("rounded")),
        ("type = 'decimal(6,2)'", Held::Decimal(Some((7, 3))), Ok(())),
        ("type = 'decimal(6,2)'", Held::Decimal(Some((6, 3))), Err("declare decimal(6,3)")),
        ("type = 'decimal(6,2)'", Held::Float(64), Ok(())),
        ("type = 'decimal(20,2)'", Held::Float(64), Err("holds no decimal(20,2)")),
        ("type = 'float64'", Held::Float(32), Err("declare float32")),
        ("type = 'text'", Held::Text(Some(9)), Err("declare text(9)")),
        ("type = 'text(9)'", Held::Text(Some(9)), Ok(())),
        ("type = 'text(10)'", Held::Text(Some(9)), Err("these may have 10")),
        ("type = 'lowcard'", Held::Text(Some(9)), Ok(())),
        (
            "type = 'category', values = ['a', 'b']",
            Held::Listed(vec!["b".into(), "a".into()]),
            Ok(()),
        ),
        (
            "type = 'category', values = ['a', 'b']",
            Held::Listed(vec!["a".into()]),
            Err("'b' first"),
        ),
        (
            "type = 'timestamp(ms)', patterns = ['yyyy']",
            Held::Timestamp(0, None),
            Err("0 digits of a second"),
        ),
        (
            "type = 'timestamp(s)', patterns = ['yyyy']",
            Held::Timestamp(6, Some(true)),
            Err("points in time"),
        ),
        ("type = 'timestamp(s)', patterns = ['yyyy']", Held::Timestamp(6, Some(false)), Ok(())),
        ("type = 'date', patterns = ['yyyy']", Held::Text(None), Ok(())),
        ("type = 'uuid'", Held::bits(64, true), Err("holds no uuid")),
        ("type = 'bool'", Held::bits(8, true), Ok(())),
    ] {
        let found = relation(&column(keys), &held).is_lossless().map_err(|why| why.to_string());
        match (found, want) {
            (Ok(()), Ok(())) => {}
            (Err(found), Err(want)) => assert!(found.contains(want), "{keys}: {found}"),
            (found, want) => panic!("{keys} into {held:?}: {found:?}, not {want:?}"),
        }
    }
}

/// A text in quotes that are doubled inside, from the start of some SQL; and what stands behind it.
fn doubled_text(sql: &str, quote: char) -> Option<(String, &str)> {
    let mut rest = sql.strip_prefix(quote)?;
    let mut text = String::new();
    loop {
        let (before, behind) = rest.split_once(quote)?;
        text.push_str(before);
        match behind.strip_prefix(quote) {
            Some(more) => {
                text.push(quote);
                rest = more;
            }
            None => return Some((text, behind)),
        }
    }
}

/// A letter by its number, of so many digits.
fn coded(letters: &mut std::str::Chars<'_>, digits: usize) -> Option<char> {
    let text: String = letters.by_ref().take(digits).collect();
    char::from_u32(u32::from_str_radix(&text, 16).ok()?)
}

/// A text as standard SQL has it with `U&` in front, inside of which a backslash and four digits are a letter.
fn unicode_text(sql: &str, quote: char) -> Option<String> {
    let (inside, rest) = doubled_text(sql, quote)?;
    let (mut text, mut letters) = (String::new(), inside.chars());
    while let Some(letter) = letters.next() {
        match letter {
            '\\' if letters.as_str().starts_with('\\') => text.extend(letters.next()),
            '\\' => text.push(coded(&mut letters, 4)?),
            other => text.push(other),
        }
    }
    rest.is_empty().then_some(text)
}

/// A text in quotes inside of which a backslash escapes.
fn escaped_text(sql: &str, quote: char, doubles: bool) -> Option<String> {
    let mut text = String::new();
    let mut letters = sql.strip_prefix(quote)?.chars();
    loop {
        match letters.next()? {
            '\\' => text.push(match letters.next()? {
                '0' => '\0',
                'u' => coded(&mut letters, 4)?,
                // Bytes of a letter, one after the other.
                'x' => {
                    let first = coded(&mut letters, 2)? as u8;
                    let mut bytes = vec![first];
                    while std::str::from_utf8(&bytes).is_err() {
                        (letters.next()? == '\\' && letters.next()? == 'x').then_some(())?;
                        bytes.push(coded(&mut letters, 2)? as u8);
                    }
                    String::from_utf8(bytes).ok()?.chars().next()?
                }
                other => other,
            }),
            letter if letter == quote => match letters.next() {
                None => return Some(text),
                Some(again) if doubles && again == quote => text.push(quote),
                Some(_) => return None,
            },
            other => text.push(other),
        }
    }
}

/// A literal as the server of a language reads it; `None` where something is left over.
fn read_literal(language: &str, sql: &str) -> Option<String> {
    let whole = |(text, rest): (String, &str)| rest.is_empty().then_some(text);
    match language {
        "postgres" => match sql.strip_prefix(" E") {
            Some(sql) => escaped_text(sql, '\'', true),
            None => doubled_text(sql, '\'').and_then(whole),
        },
        "clickhouse" => escaped_text(sql, '\'', false),
        "mariadb" if sql.starts_with("concat(") => {
            let mut rest = sql.strip_prefix("concat(")?;
            let mut text = String::new();
            loop {
                let (part, behind) = doubled_text(rest, '\'')?;
                // A backslash in it would be read in two ways, depending on a setting.
                if part.contains('\\') {
                    return None;
                }
                text.push_str(&part);
                if behind == ")" {
                    return Some(text);
                }
                text.push('\\');
                rest = behind.strip_prefix(", char(92), ")?;
            }
        }
        "mariadb" => doubled_text(sql, '\'').and_then(whole).filter(|text| !text.contains('\\')),
        "sql" if sql.starts_with("U&") => unicode_text(&sql[2..], '\''),
        _ => doubled_text(sql, '\'').and_then(whole),
    }
}

fn read_identifier(language: &str, sql: &str) -> Option<String> {
    let whole = |(text, rest): (String, &str)| rest.is_empty().then_some(text);
    match language {
        "mariadb" => doubled_text(sql, '`').and_then(whole),
        "clickhouse" => escaped_text(sql, '`', false),
        "postgres" | "sql" if sql.starts_with("U&") => unicode_text(&sql[2..], '"'),
        _ => doubled_text(sql, '"').and_then(whole),
    }
}

proptest! {
    /// Whatever a text or a name is, the server reads that, and nothing behind it.
    #[test]
    fn no_text_and_no_name_is_more_than_itself(
        text in "(\\PC|['\"`\\\\;\\-]|[\u{0}\n\t]){0,24}"
    ) {
        for name in SQL_LANGUAGES {
            let language = super::sql_language(name).unwrap();
            let read = read_literal(name, &language.literal(&text));
            prop_assert_eq!(read.as_ref(), Some(&text), "{}", name);
            let read = read_identifier(name, &language.identifier(&text));
            prop_assert_eq!(read.as_ref(), Some(&text), "{}", name);
        }
    }
}

#[test]
fn long_lists_are_on_several_lines() {
    let values: Vec<String> = (0..30).map(|n| format!("value {n}")).collect();
    let list = literals(&Postgres, &values);
    assert!(list.lines().count() > 3 && list.lines().all(|line| line.len() <= 92), "{list}");
    let plain = list.replace(['\n', ' ', '(', ')'], "");
    assert_eq!(plain.split(',').count(), 30);
    assert_eq!(literals(&Postgres, &values[..2]), "('value 0', 'value 1')");
}

/// The type of every column, and the notes about what is no type there, in standard SQL and in SQLite.
#[test]
fn every_type_has_its_place_where_there_are_few() {
    let types: [(&str, &str, &str); 26] = [
        ("bool", "boolean", "INTEGER"),
        ("int8", "smallint", "INTEGER"),
        ("int16", "smallint", "INTEGER"),
        ("int32", "integer", "INTEGER"),
        ("int64", "bigint", "INTEGER"),
        ("uint8", "smallint", "INTEGER"),
        ("uint16", "integer", "INTEGER"),
        ("uint32", "bigint", "INTEGER"),
        ("uint64", "decimal(20,0)", "ANY"),
        ("float32", "real", "REAL"),
        ("float64", "double precision", "REAL"),
        ("decimal(9,2)", "decimal(9,2)", "REAL"),
        ("decimal(18,0)", "decimal(18,0)", "INTEGER"),
        ("decimal(38,2)", "decimal(38,2)", "TEXT"),
        ("text", "character large object", "TEXT"),
        ("text(9)", "varchar(9)", "TEXT"),
        ("lowcard", "character large object", "TEXT"),
        ("date", "date", "TEXT"),
        ("time(ms)", "time(3)", "TEXT"),
        ("timestamp(s)", "timestamp(0)", "TEXT"),
        ("timestamp(us, utc)", "timestamp(6) with time zone", "TEXT"),
        ("duration(ms)", "bigint", "INTEGER"),
        ("uuid", "char(36)", "TEXT"),
        ("ip", "varchar(45)", "TEXT"),
        ("geopoint", "varchar(50)", "TEXT"),
        ("list(uint8)", "character large object", "TEXT"),
    ];
    let columns = types.iter().enumerate();
    let columns: String =
        columns.map(|(at, (ty, ..))| format!("c{at} = {{ type = \"{ty}\" }}\n")).collect();
    let schema = read(&format!("typhos = 1\n[columns]\n{columns}")).unwrap();
    let of = |language: &str| {
        script(super::sql_language(language).unwrap().as_ref(), &schema, "t").unwrap()
    };
    for (at, language) in [(1, "sql"), (2, "sqlite")] {
        let script = of(language);
        for (nth, (ty, standard, sqlite)) in types.iter().enumerate() {
            let want = [standard, sqlite][at - 1];
            let line = script.lines().find(|line| line.starts_with(&format!("  \"c{nth}\" ")));
            let line = line.unwrap_or_else(|| panic!("{ty} is not in\n{script}"));
            let (_, stored) = line.split_once("\" ").unwrap();
            let stored = stored.trim_end_matches(',').split(" CHECK ").next().unwrap();
            assert_eq!(stored, *want, "{language}: {ty}");
        }
    }
    // No check keeps what is absent out.
    assert!(of("sqlite").contains("CHECK (\"c8\" IS NULL OR typeof(\"c8\") = 'integer'"));
    let notes = of("sql");
    for note in [
        "'c8' is stored as decimal(20,0) with a check: there is no uint64",
        "'c21' is stored as a whole number of milliseconds",
        "'c22' is stored as char(36): there are no UUIDs",
        "'c24' is stored as varchar(50), latitude before longitude: there are no points",
        "'c25' is stored as character large object: standard SQL has no type for list(uint8)",
    ] {
        assert!(notes.contains(note), "{note}\n{notes}");
    }
}
