//! Loads that go wrong half-way: afterwards everything is as it was.

use std::io::{BufRead, BufReader, Read};
use std::os::unix::process::ExitStatusExt;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::world::World;

const SCHEMA: &str = "typhos = 1\n[columns]\nn = { type = \"uint32\" }\nt = { type = \"text\" }\n";

/// A file of many rows whose very last one does not fit.
fn bad_at_the_end(world: &World) {
    let mut text = String::from("n,t\n");
    for row in 0..300_000 {
        text.push_str(&format!("{row},row {row}\n"));
    }
    text.push_str("last,one\n");
    world.write("t.csv", text).write("s.typhos.toml", SCHEMA);
}

#[test]
fn a_misfit_in_the_last_row_leaves_nothing_behind() {
    let world = World::new();
    bad_at_the_end(&world);
    for into in ["t.parquet", "t.sqlite", "lake --parts 3"] {
        let ran = world.run(&format!("load s.typhos.toml t.csv --into {into}")).status(4);
        ran.complains("t.csv:300002: column 'n': 'last' is not an integer");
        assert_eq!(world.names(), ["s.typhos.toml", "t.csv"], "{into}");
    }
}

#[test]
fn a_failed_replacement_leaves_the_old_output() {
    let world = World::new();
    world.write("t.csv", "n,t\n1,x\n").write("s.typhos.toml", SCHEMA);
    for into in ["t.parquet", "t.sqlite", "lake --parts 1"] {
        world.ok(&format!("load s.typhos.toml t.csv --into {into}"));
    }
    let before = world.names();
    let contents = |name: &str| std::fs::read(world.path(name)).unwrap();
    let (parquet, part) = (contents("t.parquet"), contents("lake/part-00001.parquet"));
    bad_at_the_end(&world);
    for into in ["t.parquet", "t.sqlite", "lake --parts 1"] {
        world
            .run(&format!("load s.typhos.toml t.csv --into {into}"))
            .status(2)
            .complains("--mode replace");
        world.run(&format!("load s.typhos.toml t.csv --into {into} --mode replace")).status(4);
    }
    assert_eq!(world.names(), before);
    assert!(contents("t.parquet") == parquet && contents("lake/part-00001.parquet") == part);
    assert_eq!(world.json("peek t.sqlite --json")["rows"], serde_json::json!([["1", "x"]]));
}

/// Starts a load that takes a while and waits until its side file is there.
fn long_load(world: &World, into: &str) -> std::process::Child {
    let mut command =
        world.command(&format!("load s.typhos.toml big.csv --into {into} --threads 1"));
    let child = command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let started = Instant::now();
    while !world.names().iter().any(|name| name.starts_with(".typhos-unfinished")) {
        assert!(started.elapsed() < Duration::from_secs(60), "the load never began");
        std::thread::sleep(Duration::from_millis(2));
    }
    child
}

fn big(world: &World) {
    let line = "1,some words that take their time to be written again and again\n";
    world
        .write("big.csv", format!("n,t\n{}", line.repeat(1_500_000)))
        .write("s.typhos.toml", SCHEMA);
}

fn signal(child: &std::process::Child, name: &str) {
    let status = Command::new("kill").arg(name).arg(child.id().to_string()).status().unwrap();
    assert!(status.success());
}

#[test]
fn ctrl_c_leaves_nothing_behind() {
    let world = World::new();
    big(&world);
    for into in ["b.parquet", "b.sqlite"] {
        let mut child = long_load(&world, into);
        signal(&child, "-INT");
        let status = child.wait().unwrap();
        let mut said = String::new();
        child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
        assert_eq!(status.signal(), Some(2), "{into}: {said}");
        assert!(said.contains("interrupted; nothing was written"), "{into}: {said}");
        assert_eq!(world.names(), ["big.csv", "s.typhos.toml"], "{into}");
    }
}

/// A sorted load has temporary files beside the target, too.
#[test]
fn a_sorted_load_that_ends_early_leaves_nothing_behind() {
    let world = World::new();
    big(&world);
    world.write("s.typhos.toml", format!("{SCHEMA}[layout]\nsort = [\"t\"]\n"));
    let is_sorting = |name: &String| name.starts_with(".typhos-unfinished-aside");
    let mut command =
        world.command("load s.typhos.toml big.csv --into b.parquet --threads 1 --sort-memory 64m");
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let started = Instant::now();
    while !world.names().iter().any(is_sorting) {
        assert!(started.elapsed() < Duration::from_secs(60), "it never spilled");
        std::thread::sleep(Duration::from_millis(2));
    }
    signal(&child, "-INT");
    assert_eq!(child.wait().unwrap().signal(), Some(2));
    assert_eq!(world.names(), ["big.csv", "s.typhos.toml"]);
    // A misfit in the last row, after everything was sorted.
    bad_at_the_end(&world);
    world.write("s.typhos.toml", format!("{SCHEMA}[layout]\nsort = [\"t\"]\n"));
    world.run("load s.typhos.toml t.csv --into b.parquet").status(4);
    assert_eq!(world.names(), ["big.csv", "s.typhos.toml", "t.csv"]);
}

#[test]
fn a_killed_load_leaves_the_target_as_it_was_and_a_second_run_works() {
    let world = World::new();
    big(&world);
    let mut child = long_load(&world, "b.parquet");
    signal(&child, "-KILL");
    child.wait().unwrap();
    assert!(!world.path("b.parquet").exists());
    world
        .ok("load s.typhos.toml big.csv --into b.parquet")
        .says("1,500,000 read = 1,500,000 loaded + 0 set aside");
}

#[test]
fn a_killed_load_into_a_database_that_exists_is_undone() {
    let world = World::new();
    big(&world);
    world.write("few.csv", "n,t\n1,x\n2,y\n");
    world.ok("load s.typhos.toml few.csv --into b.sqlite --table t");
    for (at, mode) in ["append", "replace"].into_iter().enumerate() {
        let line = format!("load s.typhos.toml big.csv --into b.sqlite --table t --mode {mode}");
        let mut child = world.command(&line).stdout(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(300 + 400 * at as u64));
        assert!(child.try_wait().unwrap().is_none(), "it takes longer than that");
        signal(&child, "-KILL");
        child.wait().unwrap();
        let rows = &world.json("peek b.sqlite --json")["rows"];
        assert_eq!(*rows, serde_json::json!([["1", "x"], ["2", "y"]]), "{mode}");
    }
    world.ok("load s.typhos.toml few.csv --into b.sqlite --table t --mode append");
    assert_eq!(world.json("peek b.sqlite --json")["rows"].as_array().map(Vec::len), Some(4));
    assert_eq!(world.names(), ["b.sqlite", "big.csv", "few.csv", "s.typhos.toml"]);
}

#[test]
fn a_closed_pipe_ends_the_program_quietly() {
    let world = World::demo(20_000);
    world.ok("draft tickets.csv -o t.typhos.toml");
    world.ok("load t.typhos.toml tickets.csv --into t.parquet");
    let mut command = world.command("peek t.parquet --rows 20000");
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut first = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut first).unwrap();
    assert!(first.contains("20,000 rows"), "{first}");
    let output = child.wait_with_output().unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stderr), "");
    assert_eq!(output.status.code(), Some(0));
}

#[test]
fn a_place_that_cannot_be_written_is_said_before_the_work() {
    let world = World::new();
    world.write("t.csv", "n,t\n1,x\n").write("s.typhos.toml", SCHEMA);
    for into in ["nowhere/t.parquet", "nowhere/t.sqlite"] {
        world
            .run(&format!("load s.typhos.toml t.csv --into {into}"))
            .status(3)
            .complains("there is no folder nowhere");
    }
    assert_eq!(world.names(), ["s.typhos.toml", "t.csv"]);
}
