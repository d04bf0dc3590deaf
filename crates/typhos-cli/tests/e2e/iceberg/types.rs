//! Every type, and everything that a partition can take of one.

use serde_json::json;

use super::{LAKE, column, read};
use crate::world::World;

const SCHEMA: &str = r#"typhos = 1
[columns]
id = { type = "uint32", required = true }
small = { type = "uint8" }
tiny = { type = "int8" }
big = { type = "uint64" }
long = { type = "int64" }
f32 = { type = "float32" }
f64 = { type = "float64" }
d9 = { type = "decimal(9,2)" }
d18 = { type = "decimal(18,4)" }
d38 = { type = "decimal(38,10)" }
yes = { type = "bool" }
txt = { type = "text" }
low = { type = "lowcard" }
cat = { type = "category", values = ["a", "b"] }
day = { type = "date", patterns = ["yyyy-MM-dd"] }
t_s = { type = "time(s)", patterns = ["HH:mm:ss"] }
t_us = { type = "time(us)", patterns = ["HH:mm:ss.SSSSSS"] }
ts = { type = "timestamp(s)", patterns = ["yyyy-MM-dd HH:mm:ss"] }
tsms = { type = "timestamp(ms)", patterns = ["yyyy-MM-dd HH:mm:ss.SSS"] }
tz = { type = "timestamp(us, utc)", patterns = ["yyyy-MM-dd'T'HH:mm:ss.SSSSSSXXX"] }
dur = { type = "duration(s)" }
uid = { type = "uuid" }
ip = { type = "ip" }
geo = { type = "geopoint" }
js = { type = "json" }
"#;

const ROWS: &str = r#"id,small,tiny,big,long,f32,f64,d9,d18,d38,yes,txt,low,cat,day,t_s,t_us,ts,tsms,tz,dur,uid,ip,geo,js
1,255,-128,18446744073709551615,-9223372036854775000,0.1,0.1,-9999999.99,99999999999999.9999,-1234567890123456789012345678.0123456789,true,Tårnvik to Skerrow,x,a,2024-02-29,23:59:59,23:59:59.999999,1969-12-31 23:59:59,2024-01-01 00:00:00.001,2024-06-01T12:00:00.000001+02:00,01:02:03,f79c3e09-677c-4bbd-a479-3f349cb785e7,10.0.0.1,"1.5,-2.5","{""a"":1}"
4294967295,0,127,0,9223372036854775807,-3.5,1e300,9999999.99,-0.0001,0.0000000001,false,zz,y,b,1850-03-01,00:00:00,00:00:00.000000,2024-01-01 00:00:00,1969-12-31 23:59:59.999,1969-12-31T23:59:59.999999Z,-00:00:01,00000000-0000-0000-0000-000000000000,::1,"0,0","[]"
3,,,,,,,,,,,,,,,,,,,,,,,,
"#;

fn world() -> World {
    let world = World::new();
    std::fs::create_dir(world.path("lake")).unwrap();
    world.write("all.csv", ROWS).write("all.typhos.toml", SCHEMA);
    world
}

#[test]
fn every_type_is_read_by_another_library() {
    let world = world();
    world
        .ok(&format!("load all.typhos.toml all.csv --into {LAKE} --table ferry.every"))
        .says("'big' is stored as decimal(20,0)")
        .says("'dur' is stored as a whole number of seconds");
    let Some(found) = read(&world, &["ferry.every"]) else { return };
    let table = &found["ferry.every"];
    let types = table["columns"].as_array().unwrap().iter();
    let types: Vec<_> = types.map(|column| column[2].as_str().unwrap()).collect();
    assert_eq!(
        types[..24],
        [
            "long",
            "int",
            "int",
            "decimal(20, 0)",
            "long",
            "float",
            "double",
            "decimal(9, 2)",
            "decimal(18, 4)",
            "decimal(38, 10)",
            "boolean",
            "string",
            "string",
            "string",
            "date",
            "time",
            "time",
            "timestamp",
            "timestamp",
            "timestamptz",
            "long",
            "uuid",
            "string",
            "struct<26: lat: required double, 27: lon: required double>",
        ]
    );
    let rows = table["rows"].as_array().unwrap();
    let first = rows.iter().find(|row| row["id"] == 1).unwrap();
    for (name, value) in [
        ("small", json!(255)),
        ("tiny", json!(-128)),
        ("big", json!("18446744073709551615")),
        ("long", json!(-9_223_372_036_854_775_000_i64)),
        ("f64", json!(0.1)),
        ("d9", json!("-9999999.99")),
        ("d18", json!("99999999999999.9999")),
        ("d38", json!("-1234567890123456789012345678.0123456789")),
        ("yes", json!(true)),
        ("txt", json!("Tårnvik to Skerrow")),
        ("low", json!("x")),
        ("cat", json!("a")),
        ("day", json!("2024-02-29")),
        ("t_s", json!("23:59:59")),
        ("t_us", json!("23:59:59.999999")),
        ("ts", json!("1969-12-31T23:59:59")),
        ("tsms", json!("2024-01-01T00:00:00.001000")),
        ("tz", json!("2024-06-01T10:00:00.000001+00:00")),
        ("dur", json!(3723)),
        ("uid", json!("f79c3e09-677c-4bbd-a479-3f349cb785e7")),
        ("ip", json!("10.0.0.1")),
        ("geo", json!({ "lat": 1.5, "lon": -2.5 })),
        ("js", json!("{\"a\":1}")),
    ] {
        assert_eq!(first[name], value, "{name}");
    }
    assert_eq!(first["f32"].as_f64().map(|it| it as f32), Some(0.1));
    // Of every plain column the extremes are known.
    let bounded = &table["files"][0]["bounded"];
    assert_eq!(bounded.as_array().unwrap().len(), 26, "{bounded}");
    assert_eq!(column(table, "small"), ["0", "255", "null"]);
}

#[test]
fn every_part_of_a_value_partitions_as_another_library_would() {
    let world = world();
    let partitions = [
        "tiny",
        "big",
        "f32",
        "d9",
        "d38",
        "yes",
        "txt",
        "day",
        "t_us",
        "ts",
        "tz",
        "dur",
        "uid",
        "ip",
        "year(day)",
        "month(day)",
        "day(day)",
        "year(ts)",
        "month(tsms)",
        "day(tz)",
        "hour(ts)",
        "hour(tz)",
        "bucket(4, id)",
        "bucket(3, big)",
        "bucket(8, d9)",
        "bucket(8, d38)",
        "bucket(5, txt)",
        "bucket(5, day)",
        "bucket(5, t_us)",
        "bucket(5, tz)",
        "bucket(5, uid)",
        "truncate(3, txt)",
        "truncate(10, id)",
        "truncate(7, tiny)",
        "truncate(50, d9)",
        "truncate(1000, long)",
    ];
    let tables: Vec<String> = (0..partitions.len()).map(|at| format!("ferry.p{at}")).collect();
    for (partition, table) in partitions.iter().zip(&tables) {
        world.write("p.typhos.toml", format!("{SCHEMA}[layout]\npartition = [\"{partition}\"]\n"));
        world.ok(&format!("load p.typhos.toml all.csv --into {LAKE} --table {table} --quiet"));
    }
    let names: Vec<&str> = tables.iter().map(String::as_str).collect();
    // Every value of every row is held against the partition of its file there.
    let Some(found) = read(&world, &names) else { return };
    for (partition, table) in partitions.iter().zip(&tables) {
        let files = found[table]["files"].as_array().unwrap();
        assert!((2..=3).contains(&files.len()), "{partition}: {files:?}");
        assert_eq!(found[table]["rows"].as_array().unwrap().len(), 3, "{partition}");
    }
}

#[test]
fn nested_records_become_nested_columns() {
    let world = World::demo(2000);
    std::fs::create_dir(world.path("lake")).unwrap();
    world.run("draft engines.ndjson --nested keep -o e.typhos.toml");
    world.ok(&format!("load e.typhos.toml engines.ndjson --into {LAKE} --table ferry.engines"));
    world.ok("load e.typhos.toml engines.ndjson --into e.parquet");
    let Some(found) = read(&world, &["ferry.engines"]) else { return };
    let table = &found["ferry.engines"];
    let types = table["columns"].to_string();
    assert!(types.contains("struct<") && types.contains("list<"), "{types}");
    let rows = world.json("peek e.parquet --rows 100000 --json");
    assert_eq!(table["rows"].as_array().unwrap().len(), rows["rows"].as_array().unwrap().len());
}
