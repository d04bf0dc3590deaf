//! Loads that go wrong in the middle: the target is as it was, and the next load works.

use std::os::unix::process::ExitStatusExt;
use std::time::Duration;

use super::{Database, Kind, Server, for_each_server};
use crate::world::World;

const SCHEMA: &str = "typhos = 1\ntable = 't'\n[columns]\nid = { type = 'int32', required = true }\nroute = { type = 'category', values = ['Holm', 'Sund'] }\n\
                      note = { type = 'text' }\n";

/// A world with so many rows.
fn world(rows: u32) -> World {
    let world = World::new();
    let lines = (0..rows).map(|n| {
        format!(
            "{n},{},a note of row {n} that is no short one\n",
            if n % 3 == 0 { "Holm" } else { "Sund" }
        )
    });
    world.write("t.typhos.toml", SCHEMA);
    world.write("t.csv", format!("id,route,note\n{}", lines.collect::<String>()));
    world
}

#[test]
fn a_load_that_is_killed_leaves_nothing_that_the_next_does_not_sweep() {
    for_each_server(|server| {
        let database = server.database();
        let world = world(300_000);
        let line = format!("load t.typhos.toml t.csv --into {}", database.url());
        world.ok(&line);
        for (at, mode) in ["replace", "append", "replace", "append"].into_iter().enumerate() {
            let before = database.one("SELECT count(*) FROM t");
            let mut child = world.command(&format!("{line} --mode {mode} -q")).spawn().unwrap();
            // At moments that are spread over the load.
            std::thread::sleep(Duration::from_millis(60 + 170 * at as u64));
            let was_running = child.try_wait().unwrap().is_none();
            child.kill().unwrap();
            child.wait().unwrap();
            if was_running {
                // The server may take a moment to notice.
                let now = database.one("SELECT count(*) FROM t");
                assert!(
                    now == before || now == "600000",
                    "{:?}: {before} became {now}",
                    server.kind
                );
            }
        }
        for _ in 0..50 {
            let run = world.run(&format!("{line} --mode replace -q"));
            if run.status == 0 && database.objects().iter().all(|name| !name.contains("typhos")) {
                break;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        assert_eq!(database.one("SELECT count(*) FROM t"), "300000");
        assert_eq!(unfinished(&database), Vec::<String>::new(), "{:?}", server.kind);
        assert!(
            world.names().iter().all(|name| !name.starts_with(".typhos-unfinished")),
            "{:?}",
            world.names()
        );
    });
}

#[test]
fn an_interrupted_load_leaves_nothing_at_all() {
    for_each_server(|server| {
        let database = server.database();
        let world = world(600_000);
        let line = format!("load t.typhos.toml t.csv --into {}", database.url());
        let child = world
            .command(&format!("{line} -q"))
            .stderr(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(250));
        let signalled = std::process::Command::new("kill")
            .args(["-INT", &child.id().to_string()])
            .status()
            .unwrap();
        assert!(signalled.success());
        let output = child.wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr).into_owned();
        if output.status.signal() == Some(2) {
            assert!(told.contains("interrupted"), "{told}");
            assert_eq!(database.objects(), Vec::<String>::new(), "{:?}", server.kind);
        } else {
            assert_eq!(output.status.code(), Some(0), "it was done before: {told}");
        }
    });
}

#[test]
fn the_last_row_can_stop_a_load() {
    for_each_server(|server| {
        let database = server.database();
        let world = world(50_000);
        world.write("t.csv", world.read("t.csv") + "x,Holm,the last one\n");
        let line = format!("load t.typhos.toml t.csv --into {}", database.url());
        world.run(&line).status(4).complains("t.csv:50002: column 'id': 'x' is not an integer");
        assert_eq!(database.objects(), Vec::<String>::new());
        // A column that lets misfits go, and a budget of them that is full.
        world.write(
            "t.typhos.toml",
            SCHEMA.replace("'int32', required = true", "'int32', misfit = 'reject'"),
        );
        world
            .run(&format!("{line} --misfit-limit 0"))
            .status(4)
            .complains("the limit is 0; nothing was loaded");
        assert_eq!(database.objects(), Vec::<String>::new());
        assert!(world.names().iter().all(|name| !name.contains("rejects")));
        world
            .run(&format!("{line} --misfit-limit 0.1%"))
            .status(1)
            .says("50,001 read = 50,000 loaded + 1 set aside");
        assert_eq!(
            world.read(&world.rejects()).lines().nth(1).unwrap(),
            "x,Holm,the last one,t.csv,50002,id,is not an integer"
        );
        // Mended, the rejects load by themselves.
        world.write("mended.csv", world.read(&world.rejects()).replace("\nx,", "\n7,"));
        world
            .ok(&format!("{} --mode append", line.replace("t.csv", "mended.csv")))
            .says("1 read = 1 loaded");
        assert_eq!(database.one("SELECT count(*) FROM t"), "50001");
    });
}

/// Loads the first thousand rows; returns the line that does it.
fn load_few(world: &World, line: &str) -> String {
    let text = world.read("t.csv");
    let few: String = text.split_inclusive('\n').take(1001).collect();
    world.write("few.csv", few);
    let few = line.replace("t.csv", "few.csv");
    world.ok(&few);
    few
}

/// They are there, can be added to, and nothing else is there.
fn loads_as_before(world: &World, few: &str, database: &Database<'_>) {
    let kind = database.server.kind;
    world.ok(&format!("{few} --mode append"));
    assert_eq!(database.one("SELECT count(*) FROM t"), "2000", "{kind:?}");
    assert_eq!(unfinished(database), Vec::<String>::new(), "{kind:?}");
}

/// What loads have left there.
fn unfinished(database: &Database<'_>) -> Vec<String> {
    database.objects().into_iter().filter(|name| name.contains("typhos")).collect()
}

#[test]
fn a_server_that_stops_in_the_middle_has_what_it_had() {
    for kind in Kind::ALL {
        let Some(server) = Server::start(kind) else { continue };
        let world = world(1_500_000);
        let database = server.database();
        let line = format!("load t.typhos.toml t.csv --into {} -q", database.url());
        let few = load_few(&world, &line);
        for mode in ["replace", "append"] {
            let child = world
                .command(&format!("{line} --mode {mode}"))
                .stderr(std::process::Stdio::piped())
                .spawn()
                .unwrap();
            std::thread::sleep(Duration::from_millis(400));
            server.kill();
            let output = child.wait_with_output().unwrap();
            let told = String::from_utf8_lossy(&output.stderr).into_owned();
            assert_eq!(output.status.code(), Some(3), "{kind:?}: {told}");
            assert!(told.contains("127.0.0.1"), "{kind:?}: {told}");
            world.run(&line).status(3).complains("is the server running there");
            server.start_again();
            assert_eq!(database.one("SELECT count(*) FROM t"), "1000", "{kind:?} {mode}");
        }
        loads_as_before(&world, &few, &database);
    }
}

#[test]
fn a_server_whose_disk_is_full_has_what_it_had() {
    for_each_server(|server| {
        let database = server.database();
        let megabytes = if server.kind == Kind::ClickHouse { 3 } else { 12 };
        let Some(_disk) = database.on_small_disk(megabytes) else { return };
        let world = world(600_000);
        let line = format!("load t.typhos.toml t.csv --into {} -q", database.url());
        let few = load_few(&world, &line);
        for mode in ["append", "replace"] {
            let told = world.run(&format!("{line} --mode {mode}")).status(3).err;
            assert!(told.contains("127.0.0.1"), "{told}");
            assert_eq!(database.one("SELECT count(*) FROM t"), "1000", "{:?}", server.kind);
        }
        loads_as_before(&world, &few, &database);
        // What is on the disk goes away with it.
        database.run("DROP TABLE t");
    });
}

#[test]
fn rights_that_are_missing_are_said_before_anything_is_sent() {
    for_each_server(|server| {
        let database = server.database();
        let world = world(10);
        let url = match server.kind {
            Kind::Postgres => {
                database
                    .run("CREATE ROLE guest LOGIN")
                    .run("REVOKE CREATE ON SCHEMA public FROM public");
                database.url().replace("tester@", "guest@")
            }
            Kind::Mariadb => {
                database.run("CREATE USER IF NOT EXISTS guest@'127.0.0.1'");
                database.run(&format!("GRANT SELECT ON {}.* TO guest@'127.0.0.1'", database.name));
                database.url().replace("tester@", "guest@")
            }
            Kind::ClickHouse => database.url().replace("//", "//reader@"),
        };
        world
            .run(&format!("load t.typhos.toml t.csv --into {url}"))
            .status(3)
            .complains("the user")
            .complains("nothing was sent");
        assert_eq!(database.objects(), Vec::<String>::new());
    });
}

#[test]
fn passwords_are_never_shown() {
    for_each_server(|server| {
        let world = world(10);
        let database = server.database();
        let url = database
            .url()
            .replace("tester@", "nobody:hush-hush@")
            .replace("clickhouse://", "clickhouse://nobody:hush-hush@");
        let run = world.run(&format!("load t.typhos.toml t.csv --into {url}")).status(3);
        assert!(!run.out.contains("hush") && !run.err.contains("hush"), "{}", run.err);
    });
}

/// A load that waits for somebody else's lock ends when it is told to, and does not go on afterwards.
#[test]
fn a_load_that_waits_for_a_lock_can_be_interrupted() {
    for_each_server(|server| {
        // It has no locks that a client could hold.
        if server.kind == Kind::ClickHouse {
            return;
        }
        for mode in ["append", "replace"] {
            let database = server.database();
            let world = world(100);
            let line = format!("load t.typhos.toml t.csv --into {}", database.url());
            world.ok(&line);
            let objects = database.objects();
            database.locked("t", || {
                let mut child = world
                    .command(&format!("{line} --mode {mode} -q"))
                    .stdout(std::process::Stdio::null())
                    .stderr(std::process::Stdio::piped())
                    .spawn()
                    .unwrap();
                while database.waiting() == "0" {
                    let ended = child.try_wait().unwrap();
                    assert!(ended.is_none(), "{:?} {mode} does not wait", server.kind);
                    std::thread::sleep(Duration::from_millis(50));
                }
                let told = std::time::Instant::now();
                let id = child.id().to_string();
                std::process::Command::new("kill").args(["-TERM", &id]).status().unwrap();
                let output = child.wait_with_output().unwrap();
                let said = String::from_utf8_lossy(&output.stderr);
                assert_eq!(output.status.signal(), Some(15), "{:?} {mode}: {said}", server.kind);
                // Long before it would have given up by itself, however busy the machine is.
                assert!(told.elapsed() < Duration::from_secs(60), "{:?} {mode}", server.kind);
            });
            assert_eq!(database.one("SELECT count(*) FROM t"), "100", "{:?} {mode}", server.kind);
            assert_eq!(database.objects(), objects, "{:?} {mode}", server.kind);
        }
    });
}

/// Partitions become visible one after the other, and what a killed load did not come to the next one does.
#[test]
fn what_a_load_did_not_come_to_is_finished_by_the_next() {
    for_each_server(|server| {
        if server.kind != Kind::ClickHouse {
            return;
        }
        let database = server.database();
        database
            .run("CREATE TABLE t (id Int32) ENGINE = MergeTree PARTITION BY id % 90 ORDER BY id");
        let world = World::new();
        let rows: String = (0..9_000).map(|id| format!("{id}\n")).collect();
        world
            .write(
                "t.typhos.toml",
                "typhos = 1\ntable = 't'\n[columns]\nid = { type = 'int32', required = true }\n",
            )
            .write("t.csv", format!("id\n{rows}"));
        let line = format!("load t.typhos.toml t.csv --into {} --mode append -q", database.url());
        let count = || database.one("SELECT count(*) FROM t").parse::<u64>().unwrap();
        let mut halves = 0;
        for _ in 0..12 {
            let before = count();
            let mut child = world.command(&line).spawn().unwrap();
            while count() == before && child.try_wait().unwrap().is_none() {}
            child.kill().unwrap();
            child.wait().unwrap();
            // A statement that was sent may still be under way.
            std::thread::sleep(Duration::from_millis(300));
            let is_half = (before + 1..before + 9_000).contains(&count());
            halves += u32::from(is_half);
            let next = world.run(&line);
            if is_half {
                next.status(4)
                    .complains("a load of 9,000 rows into 't' was killed")
                    .complains("has been finished now");
            } else {
                next.status(0);
            }
            assert_eq!((count() - before) % 9_000, 0, "every load is there whole or not at all");
            assert_eq!(database.objects(), ["t"]);
            if halves == 2 {
                return;
            }
        }
        assert!(halves > 0, "no load was killed half-way");
    });
}
