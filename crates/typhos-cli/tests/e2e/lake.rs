//! Files in a lake and tables in a file: partitions, parts, appending, plans, and what goes wrong there.

use std::collections::BTreeSet;
use std::path::Path;

use crate::small_disk::SmallDisk;
use crate::world::{World, tool};

const SCHEMA: &str = "typhos = 1\ntable = 't'\n[columns]\nid = { type = 'int32', required = true }\n\
                      route = { type = 'text', misfit = 'reject' }\nsold = { type = 'date', patterns = ['yyyy-MM-dd'] }\n\
                      [layout]\nkey = ['id']\n";

const ROWS: &str = "id,route,sold\n1,Holm,2025-01-02\n2,a/b,2024-12-31\n3,,\n4,Holm,2025-02-03\n";

fn world(layout: &str) -> World {
    let world = World::new();
    world.write("t.typhos.toml", format!("{SCHEMA}{layout}\n")).write("t.csv", ROWS);
    world
}

/// All files below a folder, by their paths inside of it.
fn files(folder: &Path) -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    let mut folders = vec![folder.to_path_buf()];
    while let Some(next) = folders.pop() {
        for entry in std::fs::read_dir(next).unwrap() {
            let path = entry.unwrap().path();
            if path.file_name().is_some_and(|name| name == ".typhos-parts.json") {
                continue;
            }
            if path.is_dir() {
                folders.push(path);
            } else {
                found.insert(path.strip_prefix(folder).unwrap().display().to_string());
            }
        }
    }
    found
}

#[test]
fn rows_go_to_their_partitions() {
    let world = world("partition = ['year(sold)', 'route']");
    world.ok("load t.typhos.toml t.csv --into lake").says("lake in 3 parts  4 rows").says("proven");
    assert_eq!(
        files(&world.path("lake")).into_iter().collect::<Vec<_>>(),
        [
            "sold_year=2024/route=a%2Fb/part-00001.parquet",
            "sold_year=2025/route=Holm/part-00001.parquet",
            "sold_year=absent/route=absent/part-00001.parquet",
        ]
    );
    let rows = world.json("peek lake --json --rows 10");
    assert_eq!(rows["rows"].as_array().map(Vec::len), Some(4), "{rows}");
    let one = world.json("peek lake/sold_year=2025/route=Holm/part-00001.parquet --json");
    assert_eq!(one["rows"].as_array().map(Vec::len), Some(2), "{one}");
    world
        .run("load t.typhos.toml t.csv --into lake --parts 2")
        .status(2)
        .complains("do not go together");
}

#[test]
fn no_rows_are_loaded_into_files_too() {
    let world = world("partition = ['route']");
    world.write("t.csv", "id,route,sold\n");
    world.ok("load t.typhos.toml t.csv --into lake").says("0 rows").says("proven");
    assert_eq!(files(&world.path("lake")).into_iter().collect::<Vec<_>>(), ["part-00001.parquet"]);
    world.ok("peek lake").says("0 rows");
    for into in ["t.parquet", "t.arrow", "d.sqlite"] {
        world.ok(&format!("load t.typhos.toml t.csv --into {into}")).says("proven");
    }
    // Neither has a column without values a smallest one.
    world.write("t.csv", "id,fare\n1,\n2,\n").write(
        "t.typhos.toml",
        "typhos = 1\n[columns]\nid = { type = 'int32' }\nfare = { type = 'decimal(6,2)' }\n",
    );
    world.ok("load t.typhos.toml t.csv --into d.sqlite --mode replace").says("proven");
}

#[test]
fn parts_are_begun_by_size() {
    let world = World::demo(60_000);
    world.ok("draft tickets.csv -o t.typhos.toml");
    world.ok("load t.typhos.toml tickets.csv --into lake --part-size 40KiB").says("60,000 rows");
    let files = files(&world.path("lake"));
    assert!(files.len() > 1, "{files:?}");
    for file in &files {
        let bytes = world.path("lake").join(file).metadata().unwrap().len();
        assert!(bytes < 2 << 20, "{file}: {bytes}");
    }
}

#[test]
fn a_database_in_a_file_is_added_to() {
    let world = world("");
    let line = "load t.typhos.toml t.csv --into d.sqlite";
    world.ok(line).says("proven");
    world
        .run(&format!("{line} --mode append"))
        .status(4)
        .complains("4 of these rows are in table 't' already, by 'id': '1', '2', '3', '4'");
    world.write("t.csv", "id,route,sold\n4,Sund,\n5,Sund,2025-05-05\n");
    world
        .ok(&format!("{line} --mode append --seen skip"))
        .says("2 read = 1 loaded + 0 set aside + 1 there already");
    world.ok(&format!("{line} --mode append --seen update")).says("2 rows updated");
    let rows = world.json("peek d.sqlite --json --rows 10");
    assert_eq!(rows["rows"].as_array().map(Vec::len), Some(5), "{rows}");
    assert_eq!(rows["rows"][3][1], "Sund", "{rows}");
    let plan = world.json(&format!("{line} --mode append --plan --json"));
    assert_eq!(plan["plan"]["action"], "append");
    assert_eq!(plan["plan"]["problems"], serde_json::json!([]));
}

#[test]
fn views_outlive_a_table_that_is_replaced() {
    let world = world("");
    let line = "load t.typhos.toml t.csv --into d.sqlite";
    world.ok(line);
    if !tool("sqlite3") {
        return;
    }
    let sql = |sql: &str| {
        let mut command = std::process::Command::new("sqlite3");
        let output = command.arg(world.path("d.sqlite")).arg(sql).output().unwrap();
        assert!(output.status.success(), "{output:?}");
        String::from_utf8(output.stdout).unwrap()
    };
    sql("CREATE VIEW seen AS SELECT count(*) AS n FROM t; CREATE INDEX ix ON t (route)");
    world
        .ok(&format!("{line} --mode replace --plan"))
        .says("1 index of the table that is replaced will be dropped with it");
    world.ok(&format!("{line} --mode replace"));
    assert_eq!(sql("SELECT n FROM seen"), "4\n");
}

#[test]
fn an_arrow_file_is_looked_at() {
    let world = world("");
    world.ok("load t.typhos.toml t.csv --into t.arrow");
    let all = world.json("peek t.arrow --json");
    assert_eq!((&all["total"], &all["rows"][1][1]), (&4.into(), &"a/b".into()), "{all}");
    world.ok("peek t.arrow --rows 2").says("Holm").says("int32");
    world.write("not.arrow", "ARROW1 and nothing of it");
    world.run("peek not.arrow").status(3).complains("not.arrow is damaged");
}

#[test]
fn a_key_that_comes_twice_is_found_for_files_too() {
    let world = world("");
    world.write("t.csv", ROWS.replace("\n4,", "\n2,"));
    for into in ["t.parquet", "t.arrow", "d.sqlite"] {
        world
            .run(&format!("load t.typhos.toml t.csv --into {into}"))
            .status(4)
            .complains("the input has 1 duplicate key, by 'id': t.csv:3 and t.csv:5");
        assert!(!world.path(into).exists());
    }
}

#[test]
fn a_misfit_limit_stops_a_load() {
    let world = world("");
    world.write("t.typhos.toml", SCHEMA.replace("type = 'text'", "type = 'uint8'"));
    world
        .run("load t.typhos.toml t.csv --into t.parquet --misfit-limit 2")
        .status(4)
        .complains("3 of 4")
        .complains("t.csv:2: column 'route': 'Holm' is not an integer");
    world.run("load t.typhos.toml t.csv --into t.parquet --misfit-limit 74%").status(4);
    assert_eq!(world.names(), ["t.csv", "t.typhos.toml"]);
    world
        .run("load t.typhos.toml t.csv --into t.parquet --misfit-limit 75%")
        .status(1)
        .says("4 read = 1 loaded + 3 set aside");
}

#[test]
fn made_columns_are_loaded() {
    let world = World::new();
    world.write("t.csv", "vessel,no,lat,lon\nEider,7,59.91,-10.75\nTern,8,,\n");
    world.write(
        "t.typhos.toml",
        "typhos = 1\n[columns]\nrow = { generate = 'row-number', start = 100 }\nsailing = { type = 'text', from = ['vessel', 'no'], glue = '-' }\n\
         berth = { type = 'geopoint', from = ['lat', 'lon'] }\nclass = { type = 'text', from = 'lat', absent = ['', '59.91'], default = 'none' }\n",
    );
    world
        .ok("load t.typhos.toml t.csv --into d.sqlite --plan")
        .says("row number from 100")
        .says("vessel '-' no")
        .says("lat, lon");
    world.ok("load t.typhos.toml t.csv --into d.sqlite");
    let rows = world.json("peek d.sqlite --json");
    assert_eq!(rows["rows"][0][0], "100", "{rows}");
    assert_eq!(rows["rows"][1][1], "Tern-8", "{rows}");
    assert_eq!(rows["rows"][0][2], "59.91,-10.75", "{rows}");
    assert_eq!(rows["rows"][1][2], serde_json::Value::Null, "{rows}");
    assert_eq!(rows["rows"][1][3], "none", "{rows}");
}

#[test]
fn a_full_disk_leaves_what_was_there() {
    let world = World::demo(200_000);
    let Some(_disk) = SmallDisk::mount(&world.path("disk"), 1) else { return };
    world.ok("draft tickets.csv -o t.typhos.toml");
    let text = world.read("tickets.csv");
    let few: String = text.lines().take(1000).map(|line| format!("{line}\n")).collect();
    // No record is cut in half: the last quote is closed, or its record left out.
    let few = if few.matches('"').count().is_multiple_of(2) { few } else { few + "\"\n" };
    world.write("few.csv", few);
    for into in ["disk/t.arrow", "disk/d.sqlite", "disk/t.parquet"] {
        world.ok(&format!("load t.typhos.toml few.csv --into {into}"));
        let held = || match into.ends_with("sqlite") {
            // A transaction that was undone leaves another count of changes in the file.
            true => world.run(&format!("peek {into} --json")).out.into_bytes(),
            false => std::fs::read(world.path(into)).unwrap(),
        };
        let before = held();
        world
            .run(&format!("load t.typhos.toml tickets.csv --into {into} --mode replace"))
            .status(3);
        assert!(held() == before, "{into}");
        let left: Vec<_> = std::fs::read_dir(world.path("disk"))
            .unwrap()
            .map(|e| e.unwrap().file_name())
            .collect();
        assert_eq!(left.len(), 1, "{left:?}");
        std::fs::remove_file(world.path(into)).unwrap();
    }
}

#[test]
fn what_was_set_aside_before_is_kept() {
    let world = world("");
    world.write("t.typhos.toml", SCHEMA.replace("type = 'text'", "type = 'uint8'"));
    let line = "load t.typhos.toml t.csv --into d.sqlite";
    world.run(line).status(1).says("4 read = 1 loaded + 3 set aside");
    let before = world.read("d.sqlite.t.rejects.csv");
    world.write("good.csv", "id,route,sold\n8,1,\n").write("bad.csv", "id,route,sold\n9,x,\n");
    world.ok("load t.typhos.toml good.csv --into d.sqlite --mode append");
    world
        .run("load t.typhos.toml bad.csv --into d.sqlite --mode append")
        .status(1)
        .says("set aside in d.sqlite.t.rejects-2.csv");
    world
        .run("load t.typhos.toml bad.csv --into d.sqlite --mode append --rejects more.csv")
        .status(1)
        .says("set aside in more.csv");
    world.ok("load t.typhos.toml good.csv --into d.sqlite --mode replace");
    world.ok("load t.typhos.toml good.csv --into d.sqlite --table other");
    assert_eq!(world.read("d.sqlite.t.rejects.csv"), before);
    assert!(world.read("d.sqlite.t.rejects-2.csv").contains("9,x,"));
}

/// The smallest floats have few digits, and a database keeps the doubles of their texts.
#[test]
fn floats_at_the_edge_are_proven() {
    let world = World::new();
    world
        .write("t.csv", "x\n1e-45\n-0.0\n0.00\n1e-40\n")
        .write("s.typhos.toml", "typhos = 1\n[columns]\nx = { type = 'float32' }\n");
    for into in ["t.sqlite", "t.parquet", "t.arrow"] {
        world.ok(&format!("load s.typhos.toml t.csv --into {into}")).says("proven");
    }
    world.write("t.csv", "x\nNaN\n1.5\n");
    for into in ["n.parquet", "n.arrow"] {
        world.ok(&format!("load s.typhos.toml t.csv --into {into}")).says("proven");
    }
    let ran = world.run("load s.typhos.toml t.csv --into n.sqlite").status(4);
    ran.complains("column 'x': 'NaN' is a float that SQLite cannot hold").complains("absent = ");
}
