//! Databases that know which files were loaded into them.

use std::process::Command;

use super::{Kind, for_each_server};
use crate::world::{World, tool};

const SCHEMA: &str = "typhos = 1\ntable = 't'\n[columns]\nid = { type = 'int32', required = true }\nfrom_file = { generate = 'file' }\n\
                      at = { generate = 'loaded-at' }\n";

fn world() -> World {
    let world = World::new();
    world
        .write("t.typhos.toml", SCHEMA)
        .write("january.csv", "id\n1\n2\n")
        .write("february.csv", "id\n3\n")
        .write("copy.csv", "id\n1\n2\n");
    world
}

/// Runs the same story in any database, of which `count` says how many rows its table has.
fn story(into: &str, count: &dyn Fn() -> String) {
    let world = world();
    let load = |more: &str| world.run(&format!("load t.typhos.toml --into {into} {more}"));
    load("january.csv --history").status(0).says("2 read = 2 loaded");
    assert_eq!(count(), "2");
    load("copy.csv --mode append --history")
        .status(4)
        .complains("copy.csv was loaded on ")
        .complains("as january.csv, 2 rows in all; nothing was loaded");
    load("january.csv february.csv --mode append --seen-file skip")
        .status(0)
        .complains("left out: january.csv was loaded on ")
        .says("1 read = 1 loaded");
    assert_eq!(count(), "3");
    load("january.csv february.csv --mode append --seen-file skip")
        .status(0)
        .says("nothing to load: 2 files, loaded before");
    load("copy.csv --mode append --seen-file load").status(0);
    assert_eq!(count(), "5");
    // Another table does not know it, and rows that take the place of others are no second time.
    load("january.csv --table other --history").status(0);
    load("january.csv --mode refill --history").status(0);
    assert_eq!(count(), "2");
    // A load that does not come about is not written down.
    world.write("broken.csv", "id\n9\nx\n");
    load("broken.csv --mode append --history").status(4);
    world.write("broken.csv", "id\n9\nx\n");
    load("broken.csv --mode append --history").status(4).complains("is not an integer");
}

#[test]
fn a_file_that_comes_again_is_known() {
    for_each_server(|server| {
        let database = server.database();
        story(&database.url(), &|| database.one("SELECT count(*) FROM t"));
        let known = database.rows(
            "SELECT file_name, load_rows, file_bytes FROM typhos_loads WHERE table_name = 't' ORDER BY loaded_at, file_name",
        );
        assert_eq!(known.len(), 4, "{:?} {known:?}", server.kind);
        assert!(
            known.contains(&["february.csv", "1", "5"].map(str::to_owned).to_vec()),
            "{known:?}"
        );
        // Every row says where it is from, and all rows of a load when that began.
        let said = database.rows("SELECT count(DISTINCT from_file), count(DISTINCT at) FROM t");
        assert_eq!(said, [["1", "1"]], "{:?}", server.kind);
        if server.kind == Kind::Postgres {
            // It is written down with the load, or not at all.
            let line = format!(
                "load t.typhos.toml january.csv --into {} --table new --history",
                database.url()
            );
            let words: Vec<&str> = line.split(' ').chain(["--after", "SELECT 1 / 0"]).collect();
            world().run_args(&words).status(3).complains("division by zero");
            let count = "SELECT count(*) FROM typhos_loads WHERE table_name = 'new'";
            assert_eq!(database.one(count), "0");
        }
    });
}

#[test]
fn a_database_in_a_file_knows_files_too() {
    if !tool("sqlite3") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("ferry.sqlite");
    let count = || {
        let asked = Command::new("sqlite3").arg(&path).arg("SELECT count(*) FROM t").output();
        String::from_utf8(asked.unwrap().stdout).unwrap().trim().to_owned()
    };
    story(path.to_str().unwrap(), &count);
    let world = world();
    world
        .run("load t.typhos.toml january.csv --into t.parquet --history")
        .status(2)
        .complains("t.parquet keeps no history");
    world
        .run_with("load t.typhos.toml - --into t.sqlite --history", "id\n1\n")
        .status(2)
        .complains("a stream cannot be known again");
}
