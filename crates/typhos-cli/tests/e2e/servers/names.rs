//! Tables that are named with where they are, and views.

use super::{Kind, for_each_server};
use crate::world::World;

const SCHEMA: &str = "typhos = 1\ntable = 't'\n[columns]\nid = { type = 'int32', required = true }\nnote = { type = 'text(4)' }\n";

fn world() -> World {
    let world = World::new();
    world.write("t.typhos.toml", SCHEMA).write("t.csv", "id,note\n1,new\n2,\n");
    world
}

#[test]
fn a_table_is_named_with_where_it_is() {
    for_each_server(|server| {
        let database = server.database();
        let mart = format!("{}.mart", database.name);
        let quoted = database.quoted(&mart);
        database.run(&match server.kind {
            Kind::Postgres => format!("CREATE SCHEMA {quoted}"),
            _ => format!("CREATE DATABASE {quoted}"),
        });
        let world = world();
        let table = format!("\"{mart}\".tickets");
        let load = |more: &[&str]| {
            let url = database.url();
            let words = ["load", "t.typhos.toml", "t.csv", "--into", &url, "--table", &table];
            world.run_args(&[&words[..], more].concat())
        };
        load(&["--plan"]).status(0).says("tickets");
        load(&[]).status(0).says("2 read = 2 loaded + 0 set aside");
        load(&["--mode", "append"]).status(0).says("proven");
        load(&["--mode", "refill"]).status(0).says("proven");
        let count = format!("SELECT count(*) FROM {quoted}.tickets");
        assert_eq!(database.one(&count), "2", "{:?}", server.kind);
        assert!(database.objects().is_empty(), "{:?} {:?}", server.kind, database.objects());
        let seen = world.run_args(&["peek", &database.url(), "--table", &table, "--json"]);
        assert_eq!(seen.status(0).parsed()["rows"][0][1], "new", "{:?}", server.kind);
        let far = ["--table", "a.b.c.d"];
        let words = ["load", "t.typhos.toml", "t.csv", "--into", &database.url(), far[0], far[1]];
        world.run_args(&words).status(2).complains("has too many parts");
        database.run(&match server.kind {
            Kind::Postgres => format!("DROP SCHEMA {quoted} CASCADE"),
            _ => format!("DROP DATABASE {quoted}"),
        });
    });
}

#[test]
fn rows_go_into_a_view_where_the_server_puts_them_into_its_table() {
    for_each_server(|server| {
        let database = server.database();
        let (engine, text) = match server.kind {
            Kind::ClickHouse => ("ENGINE = MergeTree ORDER BY id", "Nullable(String)"),
            Kind::Mariadb => ("ENGINE = InnoDB", "varchar(9)"),
            Kind::Postgres => ("", "varchar(9)"),
        };
        let int = if server.kind == Kind::ClickHouse { "Int32" } else { "int" };
        database.run(&format!("CREATE TABLE kept (id {int}, note {text}) {engine}"));
        database.run("CREATE VIEW t AS SELECT id, note FROM kept");
        database.run("CREATE VIEW totals AS SELECT count(*) AS id, max(note) AS note FROM kept");
        let world = world();
        let load = |more: &str| {
            let line = format!("load t.typhos.toml t.csv --into {} {more}", database.url());
            world.run(&line)
        };
        if server.kind == Kind::ClickHouse {
            load("--mode append").status(2).complains("'t' is a view");
        } else {
            load("--mode append").status(0).says("proven");
            assert_eq!(database.one("SELECT count(*) FROM kept"), "2", "{:?}", server.kind);
        }
        load("--mode append --table totals --plan").status(1);
        let refused = if server.kind == Kind::Postgres { 3 } else { 2 };
        load("--mode append --table totals").status(refused).complains("view");
        load("--mode refill").status(refused);
        load("--mode replace").status(refused);
        let rows = if server.kind == Kind::ClickHouse { "0" } else { "2" };
        assert_eq!(database.one("SELECT count(*) FROM kept"), rows, "{:?}", server.kind);
    });
}

#[test]
fn a_view_of_a_table_that_undoes_nothing_is_refused() {
    for_each_server(|server| {
        if server.kind != Kind::Mariadb {
            return;
        }
        let database = server.database();
        database.run("CREATE TABLE kept (id int, note varchar(9)) ENGINE = MyISAM");
        database.run("CREATE VIEW t AS SELECT id, note FROM kept");
        let line = format!("load t.typhos.toml t.csv --into {} --mode append", database.url());
        world().run(&line).status(2).complains("does not undo a load that fails half-way");
        assert_eq!(database.one("SELECT count(*) FROM kept"), "0");
    });
}

/// Lists of values that a catalog writes in ways of its own.
#[test]
fn tables_with_odd_values_of_categories_are_added_to() {
    for_each_server(|server| {
        let database = server.database();
        let world = World::new();
        let values = ["two\nlines", "a\ttab", "it's", "🚢 ship", "plain"];
        let schema = format!(
            "typhos = 1\ntable = 't'\n[columns]\nkind = {{ type = 'category', values = {values:?}, required = true }}\n"
        );
        let cells: String = values.iter().map(|value| format!("\"{value}\"\n")).collect();
        world
            .write("t.typhos.toml", schema.replace("\\u{", "\\U{"))
            .write("t.csv", format!("kind\n{cells}"));
        let line = format!("load t.typhos.toml t.csv --into {}", database.url());
        world.ok(&line).says("proven");
        world.ok(&format!("{line} --mode append")).says("proven");
        world.ok(&format!("{line} --mode refill")).says("proven");
        let counts = database.rows("SELECT count(*), count(DISTINCT kind) FROM t");
        assert_eq!(counts, [["5", "5"]], "{:?}", server.kind);
    });
}

/// Who mistypes a part of a URL is told which one, and what to do.
#[test]
fn what_a_url_names_wrongly_is_told() {
    for_each_server(|server| {
        let database = server.database();
        let url = database.url();
        let world = World::new();
        world.write("t.csv", "n\n1\n");
        world
            .write("t.typhos.toml", "typhos = 1\ntable = 't'\n[columns]\nn = { type = 'uint8' }\n");
        let load = |url: &str| {
            world.run(&format!("load t.typhos.toml t.csv --into {url} --connect-timeout 2"))
        };
        let elsewhere = url.replace(&format!("/{}", database.name), "/nowhere");
        let told = load(&elsewhere).status(3);
        let wants = match server.kind {
            Kind::Postgres => {
                ["nowhere", "make the database 'nowhere', or name another in the URL"]
            }
            Kind::Mariadb => ["nowhere", "make the database, or name another in the URL"],
            Kind::ClickHouse => ["nowhere", "nowhere"],
        };
        for want in wants {
            assert!(told.err.contains(want), "{:?}: {want}\n{}", server.kind, told.err);
        }
        // Nobody is at this door.
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let closed = url.replace(&format!(":{}/", server.port), &format!(":{port}/"));
        let told = load(&closed).status(3);
        assert!(told.err.to_lowercase().contains("refused"), "{:?}: {}", server.kind, told.err);
        if server.kind == Kind::Postgres {
            load(&format!("{url}?schema=attic"))
                .status(3)
                .complains("there is no schema 'attic'")
                .complains("CREATE SCHEMA \"attic\"; or name another in the URL");
        }
        assert_eq!(database.objects(), Vec::<String>::new());
    });
}
