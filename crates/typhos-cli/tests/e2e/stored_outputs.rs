//! Outputs in stores: objects that are there whole or not at all.

use crate::stores::Bucket;
use crate::world::World;

fn drafted(rows: u64) -> World {
    let world = World::demo(rows);
    world.ok("draft tickets.csv -o t.typhos.toml");
    world
}

#[test]
fn parquet_and_arrow_files_go_to_a_store_as_they_go_to_a_folder() {
    let world = drafted(2000);
    let bucket = Bucket::start(None);
    for name in ["t.parquet", "t.arrow"] {
        world.ok(&format!("load t.typhos.toml tickets.csv --into {name}"));
        bucket
            .run(&world, &format!("load t.typhos.toml tickets.csv --into s3://ferries/out/{name}"))
            .status(0)
            .says(&format!("s3://ferries/out/{name}  2,000 rows"))
            .says("proven: ");
        let there = std::fs::read(bucket.path(&format!("out/{name}"))).unwrap();
        assert_eq!(there, std::fs::read(world.path(name)).unwrap(), "{name}");
    }
    // What is there is refused, or replaced.
    let again = "load t.typhos.toml tickets.csv --into s3://ferries/out/t.parquet";
    bucket.run(&world, again).status(2).complains("it exists already");
    world.write("one.csv", "ticket_no\n");
    bucket.run(&world, &format!("{again} --mode replace")).status(0);
    bucket.run(&world, &format!("{again} --mode append")).status(2);
    bucket
        .run(&world, &format!("{again} --plan --mode replace"))
        .status(0)
        .says("s3://ferries/out/t.parquet");
    // A folder of files.
    bucket
        .run(&world, "load t.typhos.toml tickets.csv --into s3://ferries/parts --parts 3")
        .status(0)
        .says("s3://ferries/parts in 3 parts");
    let keys = bucket.keys();
    let parts: Vec<_> = keys.iter().filter(|key| key.starts_with("parts/")).collect();
    assert_eq!(parts.len(), 3, "{parts:?}");
    let rows = |key: &&String| {
        std::fs::copy(bucket.path(key), world.path("part.parquet")).unwrap();
        let told = world.json("peek part.parquet --rows 1 --json");
        told["total"].as_u64().unwrap()
    };
    let rows: u64 = parts.iter().map(rows).sum();
    assert_eq!(rows, 2000);
    bucket
        .run(
            &world,
            "load t.typhos.toml tickets.csv --into s3://ferries/parts --parts 3 --mode replace",
        )
        .status(2)
        .complains("a folder of objects cannot be replaced in one step");
    bucket
        .run(&world, "load t.typhos.toml tickets.csv --into s3://ferries/t.sqlite")
        .status(2)
        .complains("name an object.parquet or object.arrow");
}

#[test]
fn an_object_appears_whole_or_not_at_all() {
    let world = drafted(500);
    let bucket = Bucket::start(None);
    world.write("bad.csv", world.read("tickets.csv").replace("\n7,", "\nseven,"));
    bucket
        .run(&world, "load t.typhos.toml bad.csv --into s3://ferries/bad.parquet")
        .status(4)
        .complains("'seven'");
    assert_eq!(bucket.keys(), [""; 0]);
    // A store that fails for a moment is asked again; one that fails for good leaves nothing.
    let busy = Bucket::start(Some(2));
    busy.run(&world, "load t.typhos.toml tickets.csv --into s3://ferries/t.parquet").status(0);
    assert_eq!(busy.keys(), ["t.parquet"]);
    let line = "load t.typhos.toml tickets.csv --into s3://ferries/t.parquet";
    let mut command = bucket.command(&world, line);
    command.env("AWS_SECRET_ACCESS_KEY", "wrong");
    let ran = world.run_command(line, command).status(3);
    assert!(ran.err.contains("credentials"), "{}", ran.err);
    assert_eq!(bucket.keys(), [""; 0]);
}

#[test]
fn records_that_are_set_aside_stay_on_this_machine() {
    let world = World::new();
    let bucket = Bucket::start(None);
    world.write("t.csv", "id\n1\ntwo\n3\n").write(
        "t.typhos.toml",
        "typhos = 1\n[columns]\nid = { type = 'int8', misfit = 'reject' }\n",
    );
    bucket
        .run(&world, "load t.typhos.toml t.csv --into s3://ferries/t.parquet")
        .status(1)
        .says("3 read = 2 loaded + 1 set aside");
    assert_eq!(world.rejects(), "t.parquet.rejects.csv");
}

#[test]
fn surveys_are_saved_in_a_store_and_pooled_from_it() {
    let world = drafted(3000);
    let bucket = Bucket::start(None);
    world.ok("scout tickets.csv --save whole.survey");
    for part in 1..=3 {
        let line = format!("scout tickets.csv --part {part}/3 --save s3://ferries/p/{part}.survey");
        bucket.run(&world, &line).status(0);
        bucket.run(&world, &line).status(2).complains("exists already");
        bucket.run(&world, &format!("{line} --replace")).status(0);
    }
    let pool = "pool s3://ferries/p/3.survey s3://ferries/p/1.survey s3://ferries/p/2.survey -o";
    bucket.run(&world, &format!("{pool} s3://ferries/all.survey")).status(0);
    bucket.run(&world, "pool s3://ferries/p/*.survey -o pooled.survey").status(0);
    let saved = |name: &str| std::fs::read(world.path(name)).unwrap();
    assert_eq!(saved("pooled.survey"), saved("whole.survey"));
    let pooled = std::fs::read(bucket.path("all.survey")).unwrap();
    assert_eq!(pooled, std::fs::read(world.path("whole.survey")).unwrap());
    let here = world.ok("draft whole.survey");
    let there = bucket.run(&world, "draft s3://ferries/all.survey").status(0);
    let rest = |text: &str| text.split_once('\n').map(|(_, rest)| rest.to_owned());
    assert_eq!(rest(&there.out), rest(&here.out));
}
