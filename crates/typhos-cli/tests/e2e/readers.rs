//! What was loaded, read by programs that are not ours.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;

use serde_json::Value;

use crate::servers::round_trip::{CASES, Case};
use crate::world::{World, tool};

fn independent() -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/independent")
}

/// Facts of a Parquet file by an independent reader.
fn facts(path: &Path) -> Value {
    let output =
        Command::new("node").arg(independent().join("facts.mjs")).arg(path).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

fn reader_is_there() -> bool {
    let modules = independent().join("node_modules");
    tool("node") && {
        assert!(
            modules.exists() || std::env::var("CI").is_err(),
            "scripts/test installs the independent reader"
        );
        modules.exists()
    }
}

/// Per column of a CSV: nulls, smallest and largest value as text, compared as `key` says.
fn source_facts(path: &Path) -> (usize, BTreeMap<String, (u64, String, String)>) {
    let mut reader = csv::Reader::from_path(path).unwrap();
    let names = reader.headers().unwrap().clone();
    let records: Vec<_> = reader.records().map(|record| record.unwrap()).collect();
    let columns = names.iter().enumerate().map(|(at, name)| {
        let iso = |value: &str| match value.split('/').collect::<Vec<_>>()[..] {
            [month, day, year] => format!("20{year}-{month}-{day}"),
            _ => value.to_owned(),
        };
        let mut values: Vec<String> = records
            .iter()
            .map(|record| iso(&record[at]))
            .filter(|value| !value.is_empty())
            .collect();
        let nulls = (records.len() - values.len()) as u64;
        let is_number = matches!(name, "ticket_no" | "fare" | "party");
        values.sort_by(|a, b| {
            if is_number {
                a.parse::<f64>().unwrap().total_cmp(&b.parse().unwrap())
            } else {
                a.cmp(b)
            }
        });
        (name.to_owned(), (nulls, values[0].clone(), values[values.len() - 1].clone()))
    });
    (records.len(), columns.collect())
}

#[test]
fn an_independent_reader_sees_the_same_table() {
    if !reader_is_there() {
        return;
    }
    let world = World::demo(20_000);
    world.ok("draft tickets.csv -o t.typhos.toml");
    world.ok("load t.typhos.toml tickets.csv --into t.parquet");
    let (rows, source) = source_facts(&world.path("tickets.csv"));
    let facts = facts(&world.path("t.parquet"));
    assert_eq!(facts["rows"], rows);
    for (name, physical, logical) in [
        ("ticket_no", "INT32", r#"{"type":"INTEGER","bitWidth":16,"isSigned":false}"#),
        ("booking", "BYTE_ARRAY", r#"{"type":"STRING"}"#),
        ("sold_on", "INT32", r#"{"type":"DATE"}"#),
        ("departs_at", "INT64", r#"{"type":"TIMESTAMP","isAdjustedToUTC":false,"unit":"MILLIS"}"#),
        ("route", "BYTE_ARRAY", r#"{"type":"STRING"}"#),
        ("cabin", "BYTE_ARRAY", r#"{"type":"STRING"}"#),
        ("fare", "INT32", r#"{"type":"DECIMAL","scale":2,"precision":5}"#),
        ("party", "INT32", r#"{"type":"INTEGER","bitWidth":8,"isSigned":false}"#),
        ("Sold by (agent)", "BYTE_ARRAY", r#"{"type":"STRING"}"#),
        ("note", "BYTE_ARRAY", r#"{"type":"STRING"}"#),
    ] {
        let column = &facts["columns"][name];
        let (nulls, min, max) = &source[name];
        assert_eq!(column["physical"], physical, "{name}");
        assert_eq!(column["logical"], serde_json::from_str::<Value>(logical).unwrap(), "{name}");
        assert_eq!(column["nulls"], *nulls, "{name}");
        let repetition = if *nulls == 0 { "REQUIRED" } else { "OPTIONAL" };
        assert_eq!(column["repetition"], repetition, "{name}");
        for (key, want) in [("min", min), ("max", max)] {
            let got = column[key].as_str().unwrap();
            let same = match (got.parse::<f64>(), want.parse::<f64>()) {
                (Ok(got), Ok(want)) => got == want,
                _ if physical == "BYTE_ARRAY" => got == want,
                // Instants of the reader: 2024-01-01T06:15:00.000Z
                _ => got.replace('T', " ").starts_with(want.as_str()),
            };
            assert!(same, "{name} {key}: {got} instead of {want}");
        }
    }
}

#[test]
fn every_type_is_read_by_an_independent_reader() {
    if !reader_is_there() {
        return;
    }
    let world = World::new();
    let columns = [
        ("type = 'bool'", "true", "BOOLEAN", "true"),
        ("type = 'int8'", "-128", "INT32", "-128"),
        ("type = 'int64'", "-9223372036854775808", "INT64", "-9223372036854775808"),
        ("type = 'uint32'", "4294967295", "INT32", "4294967295"),
        ("type = 'uint64'", "18446744073709551615", "INT64", "18446744073709551615"),
        ("type = 'float32'", "0.5", "FLOAT", "0.5"),
        ("type = 'float64'", "0.1", "DOUBLE", "0.1"),
        ("type = 'decimal(18,2)'", "12.25", "INT64", "12.25"),
        (
            "type = 'date', patterns = ['dd.MM.yyyy']",
            "29.02.2024",
            "INT32",
            "2024-02-29T00:00:00.000Z",
        ),
        (
            "type = 'timestamp(us, utc)', patterns = [\"yyyy-MM-dd'T'HH:mm:ss.SSSXXX\"]",
            "2024-01-01T01:00:00.5+01:00",
            "INT64",
            "2024-01-01T00:00:00.500Z",
        ),
        ("type = 'lowcard'", "Tårnvik", "BYTE_ARRAY", "Tårnvik"),
        ("type = 'text'", "\"a,\n\"\"b\"\"\"", "BYTE_ARRAY", "a,\n\"b\""),
    ];
    let names: Vec<_> = (0..columns.len()).map(|at| format!("c{at}")).collect();
    let declarations: Vec<_> = columns
        .iter()
        .zip(&names)
        .map(|((declaration, ..), name)| format!("{name} = {{ {declaration} }}"))
        .collect();
    world.write("s.typhos.toml", format!("typhos = 1\n[columns]\n{}\n", declarations.join("\n")));
    let values: Vec<_> = columns.iter().map(|(_, value, ..)| *value).collect();
    let nulls = ",".repeat(columns.len() - 1);
    world.write("t.csv", format!("{}\n{}\n{nulls}\n", names.join(","), values.join(",")));
    world.ok("load s.typhos.toml t.csv --into t.parquet").says("2 read = 2 loaded");
    let facts = facts(&world.path("t.parquet"));
    for ((_, _, physical, want), name) in columns.iter().zip(&names) {
        let column = &facts["columns"][name];
        assert_eq!(
            (&column["physical"], &column["nulls"]),
            (&(*physical).into(), &1.into()),
            "{name}"
        );
        assert_eq!((&column["min"], &column["max"]), (&(*want).into(), &(*want).into()), "{name}");
    }
}

#[test]
fn the_sqlite_shell_sees_the_same_table() {
    if !tool("sqlite3") {
        return;
    }
    let world = World::demo(20_000);
    world.ok("draft tickets.csv -o t.typhos.toml");
    world.ok("load t.typhos.toml tickets.csv --into t.sqlite");
    let (rows, source) = source_facts(&world.path("tickets.csv"));
    let shell = |sql: &str| shell(&world, "t.sqlite", sql);
    assert_eq!(shell("PRAGMA integrity_check"), "ok");
    for (name, (nulls, min, max)) in &source {
        let sql = format!(
            "SELECT count(*), count(*) - count(\"{name}\"), min(\"{name}\"), max(\"{name}\") FROM tickets"
        );
        let answer = shell(&sql);
        let fields: Vec<_> = answer.split('|').collect();
        assert_eq!(
            (fields[0], fields[1]),
            (rows.to_string().as_str(), nulls.to_string().as_str()),
            "{name}"
        );
        for (got, want) in [(fields[2], min), (fields[3], max)] {
            let same = match (got.parse::<f64>(), want.parse::<f64>()) {
                (Ok(got), Ok(want)) => got == want,
                _ => got == want,
            };
            assert!(same, "{name}: {got} instead of {want}");
        }
    }
    let types =
        shell("SELECT DISTINCT typeof(fare), typeof(ticket_no), typeof(sold_on) FROM tickets");
    assert_eq!(types, "real|integer|text");
}

/// A statement that the shell of SQLite runs in a database.
fn shell(world: &World, database: &str, sql: &str) -> String {
    let output = Command::new("sqlite3").arg(world.path(database)).arg(sql).output().unwrap();
    assert!(output.status.success(), "{sql}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap().trim_end().to_owned()
}

/// A table of every type keeps what its own definition asks for, rows without any value among them, and takes the same rows
/// once more.
#[test]
fn a_table_of_sqlite_is_as_its_own_definition_says() {
    if !tool("sqlite3") {
        return;
    }
    let world = World::new();
    let columns: Vec<_> =
        CASES.iter().enumerate().map(|(at, case)| format!("c{at} = {{ {} }}", case.keys)).collect();
    let names: Vec<_> = (0..CASES.len()).map(|at| format!("c{at}")).collect();
    world.write(
        "t.typhos.toml",
        format!("typhos = 1\n[input]\nquoted_empty = 'text'\n[columns]\n{}\n", columns.join("\n")),
    );
    let quoted = |text: &str| format!("\"{}\"", text.replace('"', "\"\""));
    let line = |value: &dyn Fn(&Case) -> String| CASES.iter().map(value).collect::<Vec<_>>();
    let rows = [
        names.clone(),
        line(&|case| quoted(case.values[0])),
        line(&|_| String::new()),
        line(&|case| quoted(case.values[1])),
    ];
    world.write("t.csv", rows.map(|row| row.join(",") + "\n").concat());
    world.ok("load t.typhos.toml t.csv --into t.sqlite").says("3 read = 3 loaded");
    assert_eq!(shell(&world, "t.sqlite", "PRAGMA integrity_check"), "ok");
    world.ok("load t.typhos.toml t.csv --into t.sqlite --mode append").says("3 read = 3 loaded");
    assert_eq!(shell(&world, "t.sqlite", "PRAGMA integrity_check"), "ok");
    for (name, case) in names.iter().zip(&CASES) {
        let count = shell(&world, "t.sqlite", &format!("SELECT count(*), count({name}) FROM t"));
        let has_default = case.keys.contains("default");
        assert_eq!(count, if has_default { "6|6" } else { "6|4" }, "{}", case.keys);
    }
}

/// Tables that somebody else made, with the names of types that people give them there.
#[test]
fn rows_are_added_to_columns_of_the_types_that_people_name() {
    if !tool("sqlite3") {
        return;
    }
    let world = World::new();
    world.write(
        "t.csv",
        "id,left_at,day,at,open,price,note,raw,any_thing,n,f,seen,mark,facts\n\
         1,2024-03-01 10:00:00,2024-03-01,10:00:00,yes,12.50,short,abc,7,3,0.25,2024-03-01 10:00:00Z,6f9619ff-8b86-d011-b42d-00cf4fc964ff,\"{\"\"a\"\":1}\"\n\
         2,2024-03-02 11:30:00,2024-03-02,11:30:00,no,0.05,a much longer note,007,8,4,1e10,,,\n",
    );
    world.write(
        "t.typhos.toml",
        "typhos = 1\ntable = \"trips\"\n[columns]\nid = { type = \"uint32\" }\nleft_at = { type = \"timestamp(s)\" }\n\
         day = { type = \"date\" }\nat = { type = \"time(s)\" }\nopen = { type = \"bool\" }\nprice = { type = \"decimal(10,2)\" }\n\
         note = { type = \"text\" }\nraw = { type = \"text\" }\nany_thing = { type = \"uint8\" }\nn = { type = \"uint8\" }\n\
         f = { type = \"float64\" }\nseen = { type = \"timestamp(s, utc)\" }\nmark = { type = \"uuid\" }\nfacts = { type = \"json\" }\n",
    );
    shell(
        &world,
        "o.db",
        "CREATE TABLE trips (id INTEGER PRIMARY KEY, left_at DATETIME, day DATE, at TIME, open BOOLEAN, price DECIMAL(10,2), \
         note VARCHAR(10), raw BLOB, any_thing, n NUMERIC, f DOUBLE, seen TIMESTAMP, mark UUID, facts JSON)",
    );
    world
        .ok("load t.typhos.toml t.csv --into o.db --mode append")
        .says("2 read = 2 loaded + 0 set aside");
    let rows = shell(&world, "o.db", "SELECT * FROM trips ORDER BY id");
    assert_eq!(
        rows,
        "1|2024-03-01 10:00:00|2024-03-01|10:00:00|1|12.5|short|abc|7|3|0.25|2024-03-01 10:00:00Z|6f9619ff-8b86-d011-b42d-00cf4fc964ff|{\"a\":1}\n\
         2|2024-03-02 11:30:00|2024-03-02|11:30:00|0|0.05|a much longer note|007|8|4|10000000000.0|||"
    );
    // What a column does not hold is told before anything is written.
    shell(&world, "o.db", "CREATE TABLE odd (id INTEGER, day MONEY)");
    world
        .write("d.csv", "id,day\n1,2024-03-01\n")
        .write(
            "d.typhos.toml",
            "typhos = 1\ntable = \"odd\"\n[columns]\nid = { type = \"uint64\" }\nday = { type = \"date\" }\n",
        );
    world
        .run("load d.typhos.toml d.csv --into o.db --mode append")
        .status(2)
        .complains("'id', which is INTEGER, cannot hold every uint64")
        .complains("'day', which is MONEY, holds no date");
    assert_eq!(shell(&world, "o.db", "SELECT count(*) FROM odd"), "0");
}

/// In a table that is not strict a column may hold anything, and numbers are numbers all the same where it holds nothing else.
#[test]
fn numbers_of_any_table_are_compared_as_numbers() {
    if !tool("sqlite3") {
        return;
    }
    let world = World::new();
    shell(
        &world,
        "n.db",
        "CREATE TABLE t (n INTEGER, p NUMERIC, s TEXT, f REAL, big, m); INSERT INTO t VALUES (3, 1.5, '30', 0.5, 7, 1), \
         (10, 20, '4', 1e3, '18446744073709551615', 'x'), (7, 100.25, '100', NULL, 20, 3), (NULL, NULL, NULL, -2, NULL, 40)",
    );
    for (question, want) in [
        ("n > 5", 2),
        ("p >= 20", 2),
        ("f < 1", 2),
        ("big > 10", 2),
        // Texts are what they are, and a column with a word in it is one of texts.
        ("s > '4'", 0),
        ("m > '3'", 2),
    ] {
        world
            .run_args(&["tally", "n.db", "--where", question, "--as", "csv", "-q"])
            .status(0)
            .says(&format!("count\n{want}\n"));
    }
    let sums = world.run_args(&[
        "tally",
        "n.db",
        "--show",
        "sum(n), max(n), max(p), max(big)",
        "--as",
        "csv",
        "-q",
    ]);
    assert_eq!(sums.status(0).out.lines().nth(1), Some("20,10,100.25,18446744073709551615"));
    let sorted = world.run_args(&[
        "peek",
        "n.db",
        "--sort",
        "n desc",
        "--columns",
        "n",
        "--as",
        "csv",
        "-q",
    ]);
    assert_eq!(sorted.status(0).out, "n\n10\n7\n3\n\n");
}
