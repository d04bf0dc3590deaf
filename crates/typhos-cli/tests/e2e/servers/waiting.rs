//! Loads that wait for others, servers that are mute, and statements around a load.

use std::io::Read;
use std::net::TcpListener;
use std::thread;
use std::time::{Duration, Instant};

use super::{Kind, for_each_server};
use crate::world::World;

const SCHEMA: &str =
    "typhos = 1\ntable = 't'\n[columns]\nid = { type = 'int32', required = true }\n";

fn world() -> World {
    let world = World::new();
    world.write("t.typhos.toml", SCHEMA).write("t.csv", "id\n1\n2\n");
    world
}

#[test]
fn who_waits_for_a_lock_says_so_and_not_for_ever() {
    for_each_server(|server| {
        if server.kind == Kind::ClickHouse {
            return;
        }
        let database = server.database();
        database.run("CREATE TABLE t (id int PRIMARY KEY)");
        let world = world();
        let line = format!("load t.typhos.toml t.csv --into {} --mode append", database.url());
        database.locked("t", || {
            let since = Instant::now();
            let told = world.run(&format!("{line} --lock-timeout 6")).status(3);
            let held = match server.kind {
                Kind::Postgres => "waiting for a lock on t held by session ",
                _ => {
                    "waiting for a lock (table metadata lock); others at work there are connection "
                }
            };
            told.complains(held).complains("imeout");
            assert!(since.elapsed() < Duration::from_secs(60));
        });
        assert_eq!(database.one("SELECT count(*) FROM t"), "0", "{:?}", server.kind);
        world.ok(&line);
        assert_eq!(database.one("SELECT count(*) FROM t"), "2", "{:?}", server.kind);
    });
}

/// Something that takes connections and says nothing.
#[test]
fn a_server_that_is_mute_ends_the_load() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    thread::spawn(move || {
        let mut kept = Vec::new();
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            let _ = stream.set_read_timeout(Some(Duration::from_millis(100)));
            let _ = stream.read(&mut [0; 64]);
            kept.push(stream);
        }
    });
    let world = world();
    for scheme in ["postgres", "mysql", "clickhouse"] {
        let url = format!("{scheme}://u@127.0.0.1:{port}/d");
        let line = format!("load t.typhos.toml t.csv --into {url} --connect-timeout 1");
        let since = Instant::now();
        world.run(&line).status(3).complains("127.0.0.1");
        assert!(since.elapsed() < Duration::from_secs(30), "{scheme}");
    }
}

#[test]
fn statements_go_before_and_behind_the_rows() {
    for_each_server(|server| {
        let database = server.database();
        let (int, engine) = match server.kind {
            Kind::ClickHouse => ("Int32", "ENGINE = MergeTree ORDER BY id"),
            _ => ("int", ""),
        };
        database.run(&format!("CREATE TABLE t (id {int}) {engine}"));
        database.run(&format!("CREATE TABLE seen (id {int}) {engine}"));
        let world = world();
        let url = database.url();
        let run = |before: &str, after: &str| {
            world.run_args(&[
                "load",
                "t.typhos.toml",
                "t.csv",
                "--into",
                &url,
                "--mode",
                "append",
                "--before",
                before,
                "--after",
                after,
            ])
        };
        run("INSERT INTO t VALUES (7)", "INSERT INTO seen SELECT id FROM t").status(0);
        let rows = || database.rows("SELECT id FROM t ORDER BY id").concat();
        let seen = || database.rows("SELECT id FROM seen ORDER BY id").concat();
        assert_eq!(rows(), ["1", "2", "7"], "{:?}", server.kind);
        assert_eq!(seen(), ["1", "2", "7"], "{:?}", server.kind);
        // What fails before the rows keeps them out, and what fails behind them as well, where a transaction covers it.
        run("INSERT INTO nowhere VALUES (8)", "INSERT INTO t VALUES (9)")
            .status(3)
            .complains("nowhere");
        let failed = run("INSERT INTO seen VALUES (8)", "INSERT INTO nowhere VALUES (9)").status(3);
        if server.kind == Kind::ClickHouse {
            failed.complains("the rows are loaded, and a statement that was to follow them failed");
            assert_eq!(rows().len(), 5);
        } else {
            assert_eq!((rows().len(), seen().len()), (3, 3), "{:?}", server.kind);
        }
    });
    let line = "load t.typhos.toml t.csv --into t.parquet --after";
    let words: Vec<&str> = line.split(' ').chain(["SELECT 1"]).collect();
    world().run_args(&words).status(2).complains("t.parquet takes none");
}
