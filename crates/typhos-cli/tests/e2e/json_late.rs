//! JSON whose first records do not have what others have: commands begin under the names of those, and tell of all.

use crate::world::World;

/// More records than names are first learned from, then those that are given.
fn world(last: &str) -> World {
    let world = World::new();
    let records: String = (0..60_000)
        .map(|id| format!("{{\"id\":{id},\"note\":\"a note that is as long as the others, which is what it is for\"}}\n"))
        .collect();
    world.write("d.ndjson", records + last);
    world
}

const LATE: &str = "{\"id\":60000,\"late\":7,\"more\":{\"deep\":\"x\"}}\n{\"id\":60001,\"id\":1}\n";

#[test]
fn columns_of_the_last_record_are_found() {
    let world = world(LATE);
    let report = world.json("scout d.ndjson --json");
    let columns = report["columns"].as_array().unwrap();
    let names: Vec<_> = columns.iter().map(|column| column["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["id", "note", "late", "more.deep"]);
    assert_eq!(report["records"]["whole"].as_u64().or(report["records"].as_u64()), Some(60_001));
    assert_eq!(columns[2]["kinds"]["missing"], 60_000);
    assert_eq!(columns[1]["kinds"]["missing"], 1);
    let draft = world.run("draft d.ndjson").status(1).out;
    assert!(draft.contains("late        = { type = \"uint8\" }"), "{draft}");
    // On any number of threads, and in the same words as where all is learned first.
    assert_eq!(world.run("draft d.ndjson --threads 1").out, draft);
    assert_eq!(world.run("scout d.ndjson").out, world.run("scout d.ndjson --threads 1").out);
}

#[test]
fn declared_columns_that_come_late_are_loaded_and_others_are_told() {
    let world = world(LATE);
    let schema = "typhos = 1\n[input]\nmisfit = 'reject'\n[columns]\nid = { type = 'uint32', misfit = 'reject' }\nlate = { type = 'uint8' }\n";
    world.write("s.typhos.toml", schema);
    let checked = world.run("check s.typhos.toml d.ndjson").status(1);
    checked.complains("more.deep").says("60,002 read = 60,001 would load + 1 would not");
    world.run("load s.typhos.toml d.ndjson --into t.parquet").status(1).complains("more.deep");
    let rows = world.ok("peek t.parquet --where late=7 --json").parsed();
    assert_eq!(rows["rows"], serde_json::json!([[60_000, 7]]));
    // Nothing is left of the attempt that was given up.
    let left: Vec<_> = world.names().into_iter().filter(|name| name.starts_with('.')).collect();
    assert!(left.is_empty(), "{left:?}");
    // Where names that are not declared stop everything, nothing is begun.
    world.write("s.typhos.toml", schema.replace("[input]", "[input]\nundeclared = 'stop'"));
    world.run("load s.typhos.toml d.ndjson --into u.parquet").status(4).complains("more.deep");
}

/// What nobody declared may come late without anything being done twice, and is told all the same.
#[test]
fn undeclared_names_that_come_late_are_told() {
    let world = world("{\"id\":60000,\"extra\":1}\n");
    world.write("s.typhos.toml", "typhos = 1\n[columns]\nid = { type = 'uint32' }\n");
    let report = world.json("load s.typhos.toml d.ndjson --into t.parquet --json");
    let undeclared = report["undeclared"].to_string();
    assert!(undeclared.contains("note") && undeclared.contains("extra"), "{undeclared}");
    assert_eq!(report["account"]["loaded"], 60_001);
}

/// A value that stands where a declared column leads through is no column of its own, whenever it comes.
#[test]
fn what_leads_through_a_late_text_is_told_as_if_it_had_come_first() {
    let late = world("{\"id\":60000,\"where\":\"at sea\"}\n");
    let schema = "typhos = 1\n[columns]\nid = { type = 'uint32' }\nport = { type = 'text', from = 'where.port' }\n";
    late.write("s.typhos.toml", schema);
    let told = late.run("check s.typhos.toml d.ndjson");
    let first = World::new();
    first
        .write("s.typhos.toml", schema)
        .write("d.ndjson", "{\"id\":1,\"note\":\"x\"}\n{\"id\":60000,\"where\":\"at sea\"}\n");
    let expected = first.run("check s.typhos.toml d.ndjson");
    assert_eq!(told.status, expected.status);
    assert!(told.err.ends_with(&expected.err), "{} instead of {}", told.err, expected.err);
    late.run("load s.typhos.toml d.ndjson --into t.parquet").status(expected.status);
    assert_eq!(late.path("t.parquet").exists(), expected.status == 0);
}
