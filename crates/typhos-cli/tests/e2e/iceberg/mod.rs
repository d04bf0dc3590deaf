//! Tables of a lake: what is written there, as another library reads it, which holds every file against its manifest.

mod catalogs;
mod parts;
mod races;
mod types;

use serde_json::{Value, json};

use crate::independent;
use crate::world::World;

/// Where the tables of most tests are.
const LAKE: &str = "iceberg+sqlite:lake/catalog.db";

/// A few sailings, under a schema that partitions and sorts them.
pub fn sailings() -> World {
    let world = World::new();
    std::fs::create_dir(world.path("lake")).unwrap();
    world
        .write("a.csv", "id,route,sailed\n1,Holm,2025-01-02\n2,Vassle,2024-12-31\n3,,\n4,Holm,2025-01-03\n")
        .write("b.csv", "id,route,sailed\n5,Ormsey,2025-01-09\n6,Holm,2024-02-29\n")
        .write(
            "s.typhos.toml",
            "typhos = 1\n[columns]\nid = { type = 'uint8', required = true, comment = 'counts sailings' }\n\
             route = { type = 'text' }\nsailed = { type = 'date', patterns = ['yyyy-MM-dd'], misfit = 'reject' }\n\
             [layout]\npartition = ['month(sailed)']\nsort = ['route', 'id desc']\n",
        );
    world
}

/// Tables of a catalog in a database, as the other library reads them; none where it is not here.
pub fn read(world: &World, tables: &[&str]) -> Option<Value> {
    let folder = world.path("lake");
    let properties = json!({
        "type": "sql",
        "uri": format!("sqlite:///{}", folder.join("catalog.db").display()),
        "warehouse": format!("file://{}", folder.join("warehouse").display()),
    });
    read_from(&properties, tables)
}

pub fn read_from(properties: &Value, tables: &[&str]) -> Option<Value> {
    let properties = properties.to_string();
    let args: Vec<&str> = [&properties[..]].into_iter().chain(tables.iter().copied()).collect();
    independent::run("lake.py", &args)
}

/// The values of a column, in the order of their text.
pub fn column(table: &Value, name: &str) -> Vec<String> {
    let rows = table["rows"].as_array().unwrap().iter();
    let mut values: Vec<String> = rows.map(|row| row[name].to_string()).collect();
    values.sort();
    values
}

/// What stands under a folder of the lake, file by file.
pub fn files(world: &World, folder: &str) -> Vec<String> {
    let root = world.path("lake").join(folder);
    let mut found = Vec::new();
    let mut folders = vec![root.clone()];
    while let Some(next) = folders.pop() {
        for entry in std::fs::read_dir(next).into_iter().flatten() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => folders.push(path),
                false => found.push(path.strip_prefix(&root).unwrap().display().to_string()),
            }
        }
    }
    found.sort();
    found
}

#[test]
fn a_table_is_made_added_to_replaced_and_refilled() {
    let world = sailings();
    let load = |file: &str, mode: &str| {
        world.run(&format!("load s.typhos.toml {file} --into {LAKE} --table ferry.s --mode {mode}"))
    };
    load("a.csv", "append").status(2).complains("there is no such table");
    load("a.csv", "create")
        .status(0)
        .says("lake/catalog.db table ferry.s in 3 files  4 rows, 3 columns")
        .says("4 read = 4 loaded + 0 set aside")
        .says("proven: ");
    load("a.csv", "create").status(2).complains("pass --mode append to add rows to it");
    load("b.csv", "append").status(0);
    let Some(found) = read(&world, &["ferry.s"]) else { return };
    let table = &found["ferry.s"];
    assert_eq!(column(table, "id"), ["1", "2", "3", "4", "5", "6"]);
    assert_eq!(
        table["columns"],
        json!([
            [1, "id", "int", true, "counts sailings"],
            [2, "route", "string", false, null],
            [3, "sailed", "date", false, null],
        ])
    );
    assert_eq!(table["partitions"], json!([["sailed_month", "month", 3]]));
    assert_eq!(table["order"], json!([[2, "ASC", "NULLS_LAST"], [1, "DESC", "NULLS_LAST"]]));
    assert_eq!(table["files"].as_array().unwrap().len(), 5);
    assert!(table["files"].as_array().unwrap().iter().all(|file| file["order"] == 1), "{table}");
    let snapshots = &table["snapshots"];
    assert_eq!(snapshots[1]["total-records"], "6");
    assert_eq!((&snapshots[0]["rows"], &snapshots[1]["rows"]), (&json!(4), &json!(6)));

    // The rows are exchanged, the table stays; then the table becomes what is declared now.
    load("b.csv", "refill").status(0);
    world.write(
        "s.typhos.toml",
        "typhos = 1\n[columns]\nname = { type = 'text', from = 'route' }\nid = { type = 'int64', required = true }\n\
         sailed = { type = 'date', patterns = ['yyyy-MM-dd'] }\n[layout]\npartition = ['bucket(4, id)']\n",
    );
    load("a.csv", "append").status(2).complains("the table has no column 'name'");
    load("a.csv", "refill").status(2).complains("'id' is long here and int in the table");
    load("a.csv", "replace").status(0).says("older snapshots keep theirs");
    let found = read(&world, &["ferry.s"]).unwrap();
    let table = &found["ferry.s"];
    // Who has the same name and type is the same column.
    assert_eq!(
        table["columns"],
        json!([
            [4, "name", "string", false, null],
            [5, "id", "long", true, null],
            [3, "sailed", "date", false, null],
        ])
    );
    assert_eq!(table["partitions"], json!([["id_bucket", "bucket[4]", 5]]));
    assert_eq!(column(table, "name"), ["\"Holm\"", "\"Holm\"", "\"Vassle\"", "null"]);
    let told = table["snapshots"].as_array().unwrap().iter();
    let told: Vec<_> = told.map(|it| (&it["operation"], &it["rows"])).collect();
    let (append, overwrite) = (&json!("append"), &json!("overwrite"));
    assert_eq!(
        told,
        [(append, &json!(4)), (append, &json!(6)), (overwrite, &json!(2)), (overwrite, &json!(4))]
    );
    assert_eq!(table["snapshots"][2]["deleted-records"], "6");
}

#[test]
fn a_load_that_comes_to_nothing_leaves_nothing() {
    let world = sailings();
    world
        .write("bad.csv", "id,route,sailed\n1,Holm,2025-01-02\n700,Holm,2025-01-02\n")
        .run(&format!("load s.typhos.toml bad.csv --into {LAKE} --table ferry.s"))
        .status(4)
        .complains("bad.csv:3");
    assert_eq!(files(&world, ""), [""; 0]);
    assert!(!world.path("lake/warehouse/ferry/s").exists());
    // Beside what is there it leaves nothing, either.
    let load = |file: &str| {
        world
            .run(&format!("load s.typhos.toml {file} --into {LAKE} --table ferry.s --mode replace"))
    };
    load("a.csv").status(0);
    let before = files(&world, "");
    load("bad.csv").status(4);
    assert_eq!(files(&world, ""), before);
    // A catalog that cannot be written to.
    world.write("lake/other.db", "no database at all");
    world
        .run("load s.typhos.toml a.csv --into iceberg+sqlite:lake/other.db --table ferry.s")
        .status(3)
        .complains("file is not a database");
    assert_eq!(files(&world, "").len(), before.len() + 1);
}

#[test]
fn records_are_set_aside_and_rows_without_them_are_loaded() {
    let world = sailings();
    world.write("odd.csv", "id,route,sailed\n1,Holm,2025-01-02\n2,Holm,never\n");
    world
        .run(&format!("load s.typhos.toml odd.csv --into {LAKE} --table ferry.s"))
        .status(1)
        .says("2 read = 1 loaded + 1 set aside")
        .says("s.rejects.csv");
    let rejects = world.read(&world.rejects());
    assert!(rejects.contains("2,Holm,never"), "{rejects}");
    if let Some(found) = read(&world, &["ferry.s"]) {
        assert_eq!(column(&found["ferry.s"], "id"), ["1"]);
    }
}

#[test]
fn a_table_without_rows_has_no_files() {
    let world = sailings();
    world.write("none.csv", "id,route,sailed\n");
    world.ok(&format!("load s.typhos.toml none.csv --into {LAKE} --table ferry.s"));
    world.ok(&format!("load s.typhos.toml a.csv --into {LAKE} --table ferry.s --mode append"));
    world.ok(&format!("load s.typhos.toml none.csv --into {LAKE} --table ferry.s --mode replace"));
    if let Some(found) = read(&world, &["ferry.s"]) {
        let rows: Vec<_> = (0..3).map(|at| &found["ferry.s"]["snapshots"][at]["rows"]).collect();
        assert_eq!(rows, [&json!(0), &json!(4), &json!(0)]);
        assert_eq!(found["ferry.s"]["files"], json!([]));
    }
}

#[test]
fn what_a_table_cannot_do_is_said_before_anything_happens() {
    let world = sailings();
    let plan = |schema: &str, more: &str| {
        world.write("p.typhos.toml", format!("typhos = 1\n[columns]\n{schema}"));
        world.run(&format!("load p.typhos.toml a.csv --into {LAKE} --table ferry.s --plan {more}"))
    };
    plan("id = { type = 'int8' }\n", "")
        .status(0)
        .says("Parquet files in file://")
        .says("table ferry.s would be made");
    plan("id = { type = 'timestamp(ns, utc)', patterns = ['epoch-ns'] }\n", "")
        .status(1)
        .says("has nanoseconds");
    plan("id = { type = 'int8', required = true }\n[layout]\nkey = ['id']\n", "--seen skip")
        .status(1)
        .says("drop --seen");
    world.ok(&format!("load s.typhos.toml a.csv --into {LAKE} --table ferry.s"));
    plan("id = { type = 'uint8', required = true }\n[layout]\nkey = ['id']\n", "--mode append")
        .status(1)
        .says("Iceberg tables have no index");
    plan("route = { type = 'text' }\n", "--mode append")
        .status(1)
        .says("'id' is required, and the schema does not have it");
    plan("id = { type = 'uint8' }\nsailed = { type = 'text' }\n", "--mode append")
        .status(1)
        .says("'id' may be absent, and is required in the table")
        .says("'sailed' is string here and date in the table");
    plan("id = { type = 'uint8', required = true }\n", "--mode append")
        .status(1)
        .says("the table is partitioned by 'sailed', which the schema does not have");
    for (url, wrong) in [
        ("iceberg+sqlite:", "name the file of the catalog"),
        (
            "iceberg+sqlite:lake/c.db?wharehouse=x",
            "no 'wharehouse': there are ?warehouse= and ?name=",
        ),
    ] {
        let line = ["load", "s.typhos.toml", "a.csv", "--into", url, "--table", "ferry.s"];
        world.run_args(&line).status(2).complains(wrong);
    }
    world
        .run(&format!("load s.typhos.toml a.csv --into {LAKE} --table ferry..s"))
        .status(2)
        .complains("write NAMESPACE.TABLE");
}

#[test]
fn the_key_of_a_schema_names_the_rows_of_a_table() {
    let world = sailings();
    world.write(
        "k.typhos.toml",
        "typhos = 1\n[columns]\nroute = { type = 'text' }\nid = { type = 'uint8', required = true }\n[layout]\nkey = ['id']\n",
    );
    world.ok(&format!("load k.typhos.toml a.csv --into {LAKE} --table ferry.k"));
    if let Some(found) = read(&world, &["ferry.k"]) {
        assert_eq!(found["ferry.k"]["identifier"], json!([2]));
    }
}
