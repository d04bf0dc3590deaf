//! Rows that a table does not want: named by their lines, or set aside.

use std::process::Command;

use super::{Kind, for_each_server};
use crate::world::{World, tool};

/// A row that the table does not want is named by the line it is from, behind records that are set aside.
#[test]
fn a_row_that_is_refused_names_its_line() {
    let world = World::new();
    let mut text = "id,note\n".to_owned();
    for id in 1..=5_000 {
        let note = if id == 4_321 { "\"of two\nlines\"" } else { "fine" };
        text +=
            &if id % 1_000 == 0 { "x,set aside\n".to_owned() } else { format!("{id},{note}\n") };
    }
    world.write("t.csv", text + "9999,refused\n7777,fine\n").write(
        "t.typhos.toml",
        "typhos = 1\ntable = 't'\n[columns]\nid = { type = 'int32', required = true, misfit = 'reject' }\nnote = { type = 'text(80)' }\n",
    );
    let made = "CREATE TABLE t (id int PRIMARY KEY, note varchar(80), CHECK (note <> 'refused'))";
    for_each_server(|server| {
        if server.kind == Kind::ClickHouse {
            return;
        }
        let database = server.database();
        database.run(made);
        let line = format!("load t.typhos.toml t.csv --into {} --mode append", database.url());
        let refused = world.run(&line).status(4);
        match server.kind {
            Kind::Postgres => {
                refused.complains("t.csv:5003: ").complains("violates check constraint")
            }
            _ => refused.complains("the row whose 'id' is '9999' and 'note' is 'refused': "),
        };
        assert_eq!(database.one("SELECT count(*) FROM t"), "0");
        database.run("INSERT INTO t VALUES (17, 'old')");
        // Whether its values are asked about on the way or not.
        let place = match server.kind {
            Kind::Postgres => "t.csv:18: ",
            _ => "the row whose 'id' is '17' and 'note' is 'fine': ",
        };
        world.run(&format!("{line} --no-proof")).status(4).complains(place);
        assert_eq!(database.one("SELECT count(*) FROM t"), "1");
    });
    if tool("sqlite3") {
        let ran =
            Command::new("sqlite3").current_dir(world.path("")).args(["t.sqlite", made]).status();
        assert!(ran.unwrap().success());
        let line = "load t.typhos.toml t.csv --into t.sqlite --mode append";
        world.run(line).status(4).complains("t.csv:5003: ").complains("CHECK constraint failed");
    }
}

/// Where what does not fit is set aside, so is what the table does not want: all of it at once, beside records of other reasons, and
/// what is left is loaded and proven.
#[test]
fn rows_that_are_refused_are_set_aside() {
    let world = World::new();
    let mut text = "id,note\n".to_owned();
    let mut refused = vec![2, 700, 701, 702, 2_999, 3_000];
    for id in 1..=3_000 {
        text += &match id {
            _ if refused.contains(&id) => format!("{id},refused\n"),
            1_500 => "x,set aside\n".to_owned(),
            _ => format!("{id},fine {id}\n"),
        };
    }
    let schema = |misfit: &str| {
        format!(
            "typhos = 1\ntable = 't'\n[input]\n{misfit}[columns]\nid = {{ type = 'int32', required = true, misfit = 'reject' }}\n\
             note = {{ type = 'text(80)' }}\n"
        )
    };
    world
        .write("t.csv", text + "17,fine 17\n")
        .write("t.typhos.toml", schema("misfit = 'reject'\n"));
    world.write("stop.typhos.toml", schema(""));
    let check = "CHECK (note <> 'refused')";
    let keyed = format!("CREATE TABLE t (id int PRIMARY KEY, note varchar(80), {check})");
    let plain = format!("CREATE TABLE t (id int, note varchar(80), {check})");
    // The one with a number that is there already comes last.
    refused.push(17);
    let look = |line: &str, more: usize, count: &dyn Fn() -> String| {
        let rejects = world.path("r.csv");
        let _ = std::fs::remove_file(&rejects);
        let aside = 7 + more;
        world
            .run(&format!("{line} --rejects r.csv"))
            .status(1)
            .says(&format!("3,001 read = 2,{} loaded + {aside} set aside", 994 - more))
            .says("proven");
        assert_eq!(count(), (3_001 - aside).to_string(), "{line}");
        let kept = world.read("r.csv");
        let lines: Vec<&str> = kept.lines().skip(1).collect();
        assert_eq!(lines.len(), aside, "{kept}");
        assert!(lines[0].starts_with("2,refused,") && lines[0].contains("t.csv,3,"), "{kept}");
        assert!(lines[4].starts_with("x,set aside,"), "in the order of the file: {kept}");
        assert!(lines[1].contains("is refused: "), "{kept}");
        if more > 0 {
            assert!(lines[7].starts_with("17,fine 17,"), "{kept}");
        }
    };
    for_each_server(|server| {
        if server.kind == Kind::ClickHouse {
            return;
        }
        for (made, more) in [(&keyed, 1), (&plain, 0)] {
            let database = server.database();
            database.run(made);
            let into = format!("--into {} --mode append", database.url());
            // Nothing is set aside that was not to be, nor where it is too much.
            world
                .run(&format!("load stop.typhos.toml t.csv {into} --rejects no.csv"))
                .status(4)
                .complains("say misfit = \"reject\" under [input]");
            let line = format!("load t.typhos.toml t.csv {into} --misfit-limit 3 --rejects no.csv");
            world.run(&line).status(4).complains("do not fit, and the limit is 3");
            assert!(!world.path("no.csv").exists());
            let count = || database.one("SELECT count(*) FROM t");
            assert_eq!(count(), "0");
            look(&format!("load t.typhos.toml t.csv {into}"), more, &count);
        }
    });
    if tool("sqlite3") {
        for (made, more) in [(&keyed, 1), (&plain, 0)] {
            let run = |sql: &str| {
                let ran = Command::new("sqlite3")
                    .current_dir(world.path(""))
                    .args(["t.sqlite", sql])
                    .output();
                String::from_utf8(ran.unwrap().stdout).unwrap().trim().to_owned()
            };
            run(&format!("DROP TABLE IF EXISTS t; {made}"));
            look("load t.typhos.toml t.csv --into t.sqlite --mode append", more, &|| {
                run("SELECT count(*) FROM t")
            });
        }
    }
}
