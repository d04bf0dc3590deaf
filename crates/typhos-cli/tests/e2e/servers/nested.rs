//! Lists and structs of every type, through each server and back.

use serde_json::{Value, json};

use super::round_trip::{CASES, Case};
use super::{Kind, for_each_server};
use crate::world::World;

/// The declaration of a list of values as a case has them.
fn list_of(case: &Case) -> String {
    let (ty, rest) = case.keys["type = '".len()..].split_once('\'').unwrap();
    format!("type = 'list({ty})'{rest}")
}

/// What can be asked of a server in its own words: the first and the last element of a list.
fn ends(kind: Kind, column: &str) -> Option<[String; 2]> {
    match kind {
        Kind::Postgres => Some([1, 3].map(|at| format!("{column}[{at}]"))),
        Kind::ClickHouse => Some([1, 3].map(|at| format!("arrayElement({column}, {at})"))),
        Kind::Mariadb => None,
    }
}

#[test]
fn every_type_comes_back_from_lists_and_structs() {
    let cases: Vec<(usize, &Case)> = CASES
        .iter()
        .enumerate()
        .filter(|(_, case)| !case.keys.contains("default") && !case.keys.contains("'json'"))
        .collect();
    let fields: Vec<_> =
        cases.iter().map(|(at, case)| format!("f{at} = {{ {} }}", case.keys)).collect();
    let fields = fields.join(", ");
    let lists: Vec<_> =
        cases.iter().map(|(at, case)| format!("l{at} = {{ {} }}", list_of(case))).collect();
    let schema = format!(
        "typhos = 1\n[input]\nformat = 'json'\nquoted_empty = 'text'\n[columns]\nid = {{ type = 'uint8' }}\n{}\n\
         s = {{ type = 'struct', fields = {{ {fields} }} }}\n\
         ls = {{ type = 'list(struct)', fields = {{ {fields}, more = {{ type = 'list(uint8)' }} }} }}\n\
         ll = {{ type = 'list(list(int16))' }}\n",
        lists.join("\n"),
    );
    let member = |at: usize, of: usize| -> Value {
        cases
            .iter()
            .map(|(n, case)| (format!("f{n}"), json!(case.values[at])))
            .chain([("more".to_owned(), json!(vec![of; of]))])
            .collect()
    };
    let mut first = json!({ "id": 1, "s": member(0, 0), "ls": [member(0, 2), null, member(1, 0)], "ll": [[1], [], null, [2, null]] });
    let mut last = json!({ "id": 3, "s": member(1, 0), "ls": [], "ll": null });
    for (at, case) in &cases {
        first[format!("l{at}")] = json!([case.values[0], null, case.values[1]]);
        last[format!("l{at}")] = json!([]);
    }
    let text = format!("{first}\n{{\"id\":2}}\n{last}\n");
    for_each_server(|server| {
        let database = server.database();
        let world = World::new();
        world.write("t.typhos.toml", &schema);
        world.write("t.ndjson", &text);
        let report =
            world.json(&format!("load t.typhos.toml t.ndjson --into {} --json", database.url()));
        assert_eq!(report["proof"]["proven"], true, "{report}");
        assert_eq!(report["account"]["loaded"], 3);
        world.ok(&format!("load t.typhos.toml t.ndjson --into {} --mode append", database.url()));
        assert_eq!(database.one("SELECT count(*) FROM t"), "6");
        for (at, case) in &cases {
            let Some(ends) = ends(server.kind, &format!("l{at}")) else {
                // A list is the JSON that it was, as far as values are written alike.
                let text = database.one(&format!("SELECT l{at} FROM t WHERE id = 1 LIMIT 1"));
                // No digit is taken for less than it is.
                let written = case.values.map(|value| [value.to_owned(), json!(value).to_string()]);
                let all = |n: usize| format!("[{},null,{}]", written[0][n], written[1][n]);
                assert!(text == all(0) || text == all(1), "{}: {text}", case.keys);
                continue;
            };
            let of_array =
                |end: &String| database.one(&format!("SELECT {end} FROM t WHERE id = 1 LIMIT 1"));
            // As a column of these values shows them.
            let plain = database.one(&format!(
                "SELECT {} FROM t WHERE id = 1 LIMIT 1",
                match server.kind {
                    Kind::Postgres => format!("cardinality(l{at})"),
                    _ => format!("length(l{at})"),
                }
            ));
            assert_eq!(plain, "3", "{}", case.keys);
            let said = case.shown.iter().find(|(kind, _)| *kind == server.kind);
            let old = server.kind == Kind::ClickHouse
                && database.one("SELECT version()").starts_with("18.");
            if said.is_some() || !old {
                let want = said.map_or(case.values, |(_, shown)| *shown);
                assert_eq!(
                    [of_array(&ends[0]), of_array(&ends[1])],
                    want.map(str::to_owned),
                    "{:?} {}",
                    server.kind,
                    case.keys
                );
            }
        }
        let empty = match server.kind {
            Kind::Postgres => "SELECT cardinality(l0) FROM t WHERE id = 3 LIMIT 1",
            Kind::ClickHouse => "SELECT length(l0) FROM t WHERE id = 3 LIMIT 1",
            Kind::Mariadb => "SELECT json_length(l0) FROM t WHERE id = 3 LIMIT 1",
        };
        assert_eq!(database.one(empty), "0");
    });
}

/// A list goes into a column of JSON or text that exists as JSON, and not as an array is written.
#[test]
fn lists_become_json_in_columns_that_hold_it() {
    for_each_server(|server| {
        let database = server.database();
        let (json, text) = match server.kind {
            Kind::Postgres => ("jsonb", "text"),
            Kind::Mariadb => ("json", "longtext"),
            Kind::ClickHouse => ("String", "String"),
        };
        let engine = if server.kind == Kind::ClickHouse { " ENGINE = Log" } else { "" };
        database.run(&format!("CREATE TABLE t (a {json}, b {text}){engine}"));
        let world = World::new();
        world.write("t.ndjson", "{\"a\":[1,2],\"b\":[\"x\",null]}\n");
        world.write(
            "t.typhos.toml",
            "typhos = 1\n[columns]\na = { type = 'list(uint8)' }\nb = { type = 'list(text)' }\n",
        );
        let line = format!("load t.typhos.toml t.ndjson --into {} --mode append", database.url());
        if server.kind == Kind::ClickHouse {
            world.run(&line).status(2).complains("does not write it as text");
            return;
        }
        world.ok(&line);
        for (column, want) in [("a", "[1,2]"), ("b", "[\"x\",null]")] {
            let found = database.one(&format!("SELECT {column} FROM t")).replace(' ', "");
            assert_eq!(found, want, "{:?}", server.kind);
        }
    });
}
