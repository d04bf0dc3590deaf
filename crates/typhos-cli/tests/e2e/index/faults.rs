//! Servers and networks that misbehave: no doubles, no losses, and an account that is right.

use std::time::Duration;

use serde_json::{Value, json};

use super::loads::{long_world, world};
use super::server::Server;
use crate::world::ended;

#[test]
fn what_is_busy_away_or_cut_off_for_a_moment_is_asked_again() {
    let faults = [
        json!({ "at": "_bulk", "after": 1, "times": 2, "do": "status", "status": 429, "retry_after": 1 }),
        json!({ "at": "_bulk", "times": 3, "do": "status", "status": 503 }),
        json!({ "at": "_bulk", "after": 1, "times": 2, "do": "cut-before" }),
        json!({ "at": "_bulk", "after": 0, "times": 3, "do": "cut-after" }),
        json!({ "at": "_bulk", "times": 2, "do": "slow", "ms": 300 }),
        json!({ "at": "_search", "times": 1, "do": "cut-after" }),
        json!({ "at": "_aliases", "times": 1, "do": "cut-after" }),
    ];
    let world = long_world(2_500, true);
    for fault in faults {
        let modes: &[&str] =
            if fault["at"] == "_bulk" { &["create", "append"] } else { &["create"] };
        for mode in modes {
            let server = Server::start();
            if *mode == "append" {
                server.ask("PUT", "sailings", &Value::Null);
            }
            server.misbehave(fault.clone());
            let line = format!(
                "load s.typhos.toml s.csv --into {} --mode {mode} --json",
                server.url("sailings")
            );
            let report = world.json(&line);
            assert_eq!(report["account"]["loaded"], 2_500, "{fault} {mode}");
            assert_eq!(report["account"]["skipped"], 0, "{fault} {mode}");
            assert_eq!(report["proof"]["proven"], true);
            assert_eq!(server.count("sailings"), 2_500, "{fault} {mode}");
            assert_eq!(server.indexes().len(), 1, "{fault} {mode}");
        }
    }
}

/// A name that was moved, and whose answer was lost, has moved: what has it is not removed.
#[test]
fn a_name_whose_answer_is_lost_has_moved() {
    let world = world(400, true);
    for is_alias in [false, true] {
        let server = Server::start();
        let line = format!("load s.typhos.toml s.csv --into {}", server.url("sailings"));
        if is_alias {
            world.ok(&line);
        } else {
            server.ask("PUT", "sailings", &Value::Null);
        }
        server.misbehave(json!({ "at": "_aliases", "times": 1, "do": "cut-after" }));
        world.ok(&format!("{line} --mode replace")).says("proven");
        assert_eq!(server.count("sailings"), 400, "{is_alias}");
        let indexes = server.indexes();
        assert!(indexes.len() == 1 && indexes[0].starts_with("sailings-typhos-"), "{indexes:?}");
    }
    // One whose making was not heard of is made, too.
    let server = Server::start();
    server.misbehave(json!({ "times": 1, "after": 4, "do": "cut-after" }));
    world.ok(&format!("load s.typhos.toml s.csv --into {}", server.url("sailings")));
    assert_eq!((server.count("sailings"), server.indexes().len()), (400, 1));
}

#[test]
fn documents_that_the_server_refuses_are_records_set_aside() {
    let server = Server::start();
    let world = world(2000, true);
    server.misbehave(json!({ "at": "_bulk", "times": 1000, "do": "refuse", "id": "77" }));
    let line = format!("load s.typhos.toml s.csv --into {}", server.url("sailings"));
    // S77, S177, …, S1977.
    let ran =
        world.run(&line).status(1).says("2,000 read = 1,980 loaded + 20 set aside").says("proven");
    ran.says("is refused: the server was asked to refuse this item");
    assert_eq!(server.count("sailings"), 1980);
    let rejects = world.rejects();
    let text = world.read(&rejects);
    assert!(text.contains("S1977,") && text.contains("is refused"), "{text}");
    // The file loads again once the server takes them.
    server.behave();
    let again = format!("load s.typhos.toml {rejects} --rejects again.csv --mode append");
    world.ok(&format!("{again} --into {}", server.url("sailings"))).says("20 read = 20 loaded");
    assert_eq!(server.count("sailings"), 2000);
    // A limit stops the load, and nothing is left of it.
    server.misbehave(json!({ "at": "_bulk", "times": 1000, "do": "refuse", "id": "7" }));
    let line = format!("load s.typhos.toml s.csv --into {} --misfit-limit 5", server.url("other"));
    world.run(&line).status(4);
    assert_eq!(server.indexes().len(), 1);
}

#[test]
fn a_client_that_is_killed_leaves_nothing_that_the_next_does_not_sweep() {
    let world = long_world(3_000, false);
    for (round, mode) in
        ["create", "replace", "append", "replace", "append"].into_iter().enumerate()
    {
        let server = Server::start();
        let line = format!("load s.typhos.toml s.csv --into {} -q", server.url("sailings"));
        if mode != "create" {
            world.ok(&line);
        }
        let before = if mode == "create" { u64::MAX } else { 3_000 };
        let mut child = world.command(&format!("{line} --mode {mode}")).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(150 + 260 * round as u64));
        child.kill().unwrap();
        child.wait().unwrap();
        let now = server.count("sailings");
        assert!(now == before || now == 3_000, "{mode}: {now}");
        let again = if mode == "create" && now == u64::MAX { "create" } else { mode };
        let again = if again == "create" && now == 3_000 { "replace" } else { again };
        world.ok(&format!("{line} --mode {again}"));
        assert_eq!(server.count("sailings"), 3_000, "{mode}");
        assert_eq!(server.indexes().len(), 1, "{mode}: {:?}", server.indexes());
    }
}

#[test]
fn an_interrupted_load_leaves_nothing() {
    let world = long_world(3_000, true);
    let server = Server::start();
    let line = format!("load s.typhos.toml s.csv --into {}", server.url("sailings"));
    for (mode, left) in [("create", 0), ("append", 1)] {
        if mode == "append" {
            server.ask("PUT", "sailings", &Value::Null);
        }
        server.misbehave(
            json!({ "at": "_bulk", "after": 2, "times": 100, "do": "slow", "ms": 2000 }),
        );
        let mut child = world.command(&format!("{line} --mode {mode} -q")).spawn().unwrap();
        // It is under way by then, and waits for an answer, on a machine of any speed.
        std::thread::sleep(Duration::from_millis(700));
        let id = child.id().to_string();
        std::process::Command::new("kill").args(["-INT", &id]).status().unwrap();
        assert!(!child.wait().unwrap().success());
        server.behave();
        assert_eq!(server.indexes().len(), left, "{mode}: {:?}", server.indexes());
        if mode == "append" {
            assert_eq!(server.count("sailings"), 0, "what arrived is taken out again");
        }
    }
}

#[test]
fn a_server_that_is_killed_and_comes_back_has_every_document_once() {
    let world = long_world(3_000, true);
    for (round, mode) in ["create", "append", "create", "append"].into_iter().enumerate() {
        let folder = tempfile::tempdir().unwrap();
        let mut server = Server::apart(folder.path(), 0);
        if mode == "append" {
            server.ask("PUT", "sailings", &Value::Null);
        }
        let line =
            format!("load s.typhos.toml s.csv --into {} --mode {mode} -q", server.url("sailings"));
        let mut child = world.command(&line).stderr(std::process::Stdio::piped()).spawn().unwrap();
        // A server that is not there when it is asked for the first time is a wrong address.
        let has_begun = || match mode {
            "append" => server.count("sailings") > 0,
            _ => !server.indexes().is_empty(),
        };
        while !has_begun() {
            assert!(child.try_wait().unwrap().is_none(), "{mode}: it ended before it began");
            std::thread::sleep(Duration::from_millis(10));
        }
        std::thread::sleep(Duration::from_millis(120 * round as u64));
        let port = server.port();
        server.kill();
        std::thread::sleep(Duration::from_millis(300));
        let server = Server::apart(folder.path(), port);
        let done = ended(child);
        assert!(done.status.success(), "{mode}: {}", String::from_utf8_lossy(&done.stderr));
        assert_eq!(server.count("sailings"), 3_000, "{mode}");
        assert_eq!(server.indexes().len(), 1, "{mode}: {:?}", server.indexes());
    }
}
