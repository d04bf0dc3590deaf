//! What would become of rows, without loading any.

use super::{Kind, for_each_server};
use crate::world::World;

const SCHEMA: &str = "typhos = 1\ntable = 't'\n[columns]\nid = { type = 'int32', required = true, misfit = 'reject' }\nnote = { type = 'text(4)' }\n\
                      [layout]\nkey = ['id']\n";

#[test]
fn rows_are_counted_and_nothing_is_written() {
    for_each_server(|server| {
        let database = server.database();
        database.run(match server.kind {
            Kind::ClickHouse => {
                "CREATE TABLE t (id Int32, note Nullable(String)) ENGINE = MergeTree ORDER BY id"
            }
            _ => "CREATE TABLE t (id int PRIMARY KEY, note varchar(4))",
        });
        database.run("INSERT INTO t (id, note) VALUES (1, 'old'), (7, 'old')");
        let world = World::new();
        world.write("t.typhos.toml", SCHEMA).write("t.csv", "id,note\n1,a\n2,b\n3,c\nx,d\n");
        let line = format!("load t.typhos.toml t.csv --into {} --plan --count", database.url());
        let objects = database.objects();
        let skipping = world.run(&format!("{line} --mode append --seen skip"));
        skipping.status(1).says("4 read = 2 would load + 1 would not + 1 there already").says(
            "2 new, 1 there already, skipped; no two rows have the same 'id'; nothing was written",
        );
        if server.kind != Kind::ClickHouse {
            let report = world.run(&format!("{line} --mode append --seen update --json")).status(1);
            let count = &report.parsed()["count"];
            assert_eq!(
                (&count["new"], &count["updated"]),
                (&2.into(), &1.into()),
                "{:?}",
                server.kind
            );
        }
        world
            .run(&format!("{line} --mode append"))
            .status(1)
            .says("2 new, 1 there already, which stops a load;")
            .says("1 of these rows is in table 't' already, by 'id': '1'");
        world.run(&format!("{line} --mode refill")).status(1).says("3 new;");
        world.run(&format!("{line} --table other")).status(1).says("3 new;");
        assert_eq!(database.objects(), objects, "{:?}", server.kind);
        let rows = database.rows("SELECT id, note FROM t ORDER BY id");
        assert_eq!(rows, [["1", "old"], ["7", "old"]], "{:?}", server.kind);
        assert!(!world.path("t.rejects.csv").exists());
    });
}

#[test]
fn rows_for_files_are_counted_too() {
    let world = World::new();
    world.write("t.typhos.toml", SCHEMA).write("t.csv", "id,note\n1,a\n2,b\nx,d\n");
    for target in ["t.parquet", "t.arrow", "t.sqlite", "t.index"] {
        let line = format!("load t.typhos.toml t.csv --into {target} --plan --count");
        world.run(&line).status(1).says("3 read = 2 would load + 1 would not").says("2 new;");
    }
    world.write("t.csv", "id,note\n1,a\n1,b\n");
    world
        .run("load t.typhos.toml t.csv --into t.parquet --plan --count")
        .status(1)
        .says("duplicate key");

    world.run("load t.typhos.toml t.csv --into t.parquet --count").status(2);
    let mut left: Vec<_> =
        std::fs::read_dir(world.path("")).unwrap().map(|it| it.unwrap().file_name()).collect();
    left.sort();
    assert_eq!(left, ["t.csv", "t.typhos.toml"]);
}
