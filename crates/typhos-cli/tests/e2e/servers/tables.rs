//! Tables that exist: what fits, what does not, rows that are there already, names that are hostile.

use super::{Database, Kind, for_each_server};
use crate::world::World;

const SCHEMA: &str = "typhos = 1\ntable = 't'\n[columns]\nid = { type = 'int32', required = true }\nroute = { type = 'text(20)', required = true }\n\
                      fare = { type = 'decimal(6,2)' }\nsold = { type = 'date', patterns = ['yyyy-MM-dd'] }\n\
                      [layout]\nkey = ['id']\n";

const ROWS: &str =
    "id,route,fare,sold\n1,Holm,10.50,2025-01-02\n2,Sund,,2025-01-03\n3,\"O'Hara\",7.25,\n";

/// A world with a schema and three rows, and the line that loads them.
fn world(database: &Database<'_>, more: &str) -> (World, String) {
    let world = World::new();
    world.write("t.typhos.toml", SCHEMA).write("t.csv", ROWS);
    (world, format!("load t.typhos.toml t.csv --into {} {more}", database.url()))
}

fn all(database: &Database<'_>) -> Vec<String> {
    let rows = database.rows("SELECT id, route, fare, sold FROM t ORDER BY id");
    rows.into_iter().map(|row| row.join("|")).collect()
}

const LOADED: [&str; 3] =
    ["1|Holm|10.50|2025-01-02", "2|Sund|null|2025-01-03", "3|O'Hara|7.25|null"];

#[test]
fn a_table_is_made_refused_replaced_and_added_to() {
    for_each_server(|server| {
        let database = server.database();
        let (world, line) = world(&database, "");
        world.ok(&format!("{line} --plan")).says("would be made").says("No problems found");
        assert_eq!(database.objects(), Vec::<String>::new(), "a plan changes nothing");
        world.ok(&line).says("3 read = 3 loaded + 0 set aside").says("proven:");
        assert_eq!(all(&database), LOADED);
        world
            .run(&line)
            .status(2)
            .complains("there is a table 't' already")
            .complains("--mode append");
        // Again: every key is there.
        world
            .run(&format!("{line} --mode append"))
            .status(4)
            .complains("3 of these rows are in table 't' already, by 'id': '1', '2', '3'");
        assert_eq!(all(&database), LOADED);
        world.write("more.csv", "id,route,fare,sold\n3,Ormsey,1.00,\n4,Vassle,2.00,\n");
        let more = line.replace("t.csv", "more.csv");
        world
            .ok(&format!("{more} --mode append --seen skip"))
            .says("2 read = 1 loaded + 0 set aside + 1 there already");
        assert_eq!(all(&database)[2..], ["3|O'Hara|7.25|null", "4|Vassle|2.00|null"]);
        let updating = format!("{more} --mode append --seen update");
        if server.kind == Kind::ClickHouse {
            world.run(&updating).status(2).complains("updates no rows");
        } else {
            world.ok(&updating).says("2 rows updated");
            assert_eq!(all(&database)[2..], ["3|Ormsey|1.00|null", "4|Vassle|2.00|null"]);
        }
        world.ok(&format!("{line} --mode replace"));
        assert_eq!(all(&database), LOADED);
        assert_eq!(database.objects(), ["t"]);
    });
}

#[test]
fn a_narrow_file_goes_into_a_wide_table() {
    for_each_server(|server| {
        let database = server.database();
        let (text, id) = match server.kind {
            Kind::Postgres => {
                ("text", "id integer PRIMARY KEY, serial bigint GENERATED ALWAYS AS IDENTITY")
            }
            Kind::Mariadb => {
                ("longtext", "id integer PRIMARY KEY, serial bigint AUTO_INCREMENT UNIQUE")
            }
            Kind::ClickHouse => ("Nullable(String)", "id Int32, serial Int64 DEFAULT 5"),
        };
        let wide: Vec<_> = (0..28).map(|n| format!("extra_{n} {text}")).collect();
        let fare =
            if server.kind == Kind::ClickHouse { "Nullable(Decimal(8,2))" } else { "decimal(8,2)" };
        let date = if server.kind == Kind::ClickHouse { "Nullable(Date)" } else { "date" };
        let route = if server.kind == Kind::ClickHouse { "String" } else { "varchar(30) NOT NULL" };
        let tail =
            if server.kind == Kind::ClickHouse { " ENGINE = MergeTree() ORDER BY id" } else { "" };
        let cabin = if server.kind == Kind::ClickHouse {
            "String DEFAULT 'deck'"
        } else {
            "varchar(9) DEFAULT 'deck'"
        };
        database.run(&format!(
            "CREATE TABLE t ({id}, route {route}, sold {date}, fare {fare}, cabin {cabin}, {}){tail}",
            wide.join(", ")
        ));
        let (world, line) = world(&database, "--mode append");
        world
            .ok(&format!("{line} --plan"))
            .says("exists, and rows would be added: 4 columns filled")
            .says("30 columns that the load does not fill")
            .says("gets its default")
            .says("gets null");
        world.ok(&line);
        assert_eq!(all(&database), LOADED);
        let rest = database.rows("SELECT cabin, extra_7 FROM t");
        assert_eq!(rest, [["deck", "null"]; 3]);
        if server.kind != Kind::ClickHouse {
            let serials = database.rows("SELECT serial FROM t ORDER BY serial");
            assert_eq!(serials.concat(), ["1", "2", "3"]);
        }
    });
}

#[test]
fn numbers_of_the_server_can_come_from_the_file() {
    for_each_server(|server| {
        let database = server.database();
        match server.kind {
            Kind::Postgres => database.run("CREATE TABLE t (id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY, route varchar(20), fare numeric(6,2), sold date)"),
            Kind::Mariadb => database.run("CREATE TABLE t (id integer AUTO_INCREMENT PRIMARY KEY, route varchar(20), fare decimal(6,2), sold date)"),
            Kind::ClickHouse => return,
        };
        let (world, line) = world(&database, "--mode append");
        world.ok(&format!("{line} --plan")).says("numbered by the database, kept from the input");
        world.ok(&line);
        assert_eq!(all(&database), LOADED);
        // The server goes on behind them.
        database.run("INSERT INTO t (route) VALUES ('Holm')");
        assert_eq!(database.one("SELECT max(id) FROM t"), "4");
    });
}

#[test]
fn what_does_not_fit_a_table_is_said_before_anything_is_sent() {
    for_each_server(|server| {
        let database = server.database();
        match server.kind {
            Kind::Postgres => database.run("CREATE TABLE t (id smallint, route varchar(5) NOT NULL, fare numeric(6,2) NOT NULL, solds date, must integer NOT NULL)"),
            Kind::Mariadb => database.run("CREATE TABLE t (id smallint, route varchar(5) NOT NULL, fare decimal(6,2) NOT NULL, solds date, must integer NOT NULL)"),
            Kind::ClickHouse => database.run("CREATE TABLE t (id Int16, route String, fare Decimal(6,2), solds Nullable(Date)) ENGINE = MergeTree() ORDER BY id"),
        };
        let (world, line) = world(&database, "--mode append");
        for run in [world.run(&line).status(2), world.run(&format!("{line} --plan")).status(1)] {
            let told = format!("{}{}", run.out, run.err);
            let mut wants = vec![
                "cannot hold every int32",
                "it holds -32768 to 32767",
                "'fare' must not be null, and the schema declares it optional",
                "the table has no column 'sold'",
                "did you mean 'solds'?",
            ];
            if server.kind != Kind::ClickHouse {
                wants.extend(["it holds 5 characters", "'must' must not be null, has no default"]);
            }
            for want in wants {
                assert!(told.contains(want), "{:?}: {want}\n{told}", server.kind);
            }
        }
        assert_eq!(database.one("SELECT count(*) FROM t"), "0");
    });
}

#[test]
fn hostile_names_and_values_do_no_harm() {
    const NAMES: [&str; 4] = ["x\"; DROP TABLE t; --", "a`b", "it's \\ 100%", "sel ect"];
    for_each_server(|server| {
        let database = server.database();
        database.run(match server.kind {
            Kind::ClickHouse => "CREATE TABLE t (n Int32) ENGINE = MergeTree() ORDER BY n",
            _ => "CREATE TABLE t (n integer)",
        });
        let world = World::new();
        let quoted =
            |name: &str| format!("\"{}\"", name.replace('\\', "\\\\").replace('"', "\\\""));
        let columns = NAMES
            .map(|name| format!("{} = {{ type = 'text' }} # '; DROP TABLE t; --\n", quoted(name)));
        let kinds = format!(
            "{} = {{ type = 'category', values = [\"'); DROP TABLE t; --\", 'b\\c'] }}\n",
            quoted("kind'")
        );
        world.write("s.typhos.toml", format!("typhos = 1\n[columns]\n{}{kinds}", columns.concat()));
        let header = NAMES.map(|name| format!("\"{}\"", name.replace('"', "\"\"")));
        let value = "'; DROP TABLE t; -- \\' \t\u{7}";
        world.write(
            "s.csv",
            format!("{},kind'\n{}b\\c\n", header.join(","), format!("{value},").repeat(4)),
        );
        let table = "t\"; DROP TABLE t; --`";
        let ran = world.run_args(&[
            "load",
            "s.typhos.toml",
            "s.csv",
            "--into",
            &database.url(),
            "--table",
            table,
        ]);
        ran.status(0);
        assert_eq!(database.one("SELECT count(*) FROM t"), "0");
        let columns: Vec<_> = NAMES.iter().map(|name| database.quoted(name)).collect();
        let rows = database.rows(&format!(
            "SELECT {} FROM {}",
            columns.join(", "),
            database.quoted(table)
        ));
        assert_eq!(rows, [[value; 4]], "{:?}", server.kind);
    });
}

#[test]
fn keys_that_come_twice_are_named_with_their_lines() {
    for_each_server(|server| {
        let database = server.database();
        let (world, line) = world(&database, "");
        world.write("t.csv", "id,route,fare,sold\n1,\"two\nlines\",1,\n2,b,1,\n1,c,1,\n2,d,bad,\n");
        // The record that is set aside anyway is not a repeat.
        world.write(
            "t.typhos.toml",
            SCHEMA.replace("decimal(6,2)'", "decimal(6,2)', misfit = 'reject'"),
        );
        world
            .run(&line)
            .status(4)
            .complains("the input has 1 duplicate key, by 'id': t.csv:2 and t.csv:5\n");
        assert_eq!(database.objects(), Vec::<String>::new());
        let text = world.read("t.csv").replace("2,d,bad", "9,d,bad").replace("1,c,1", "3,c,1");
        world
            .run_with(&line.replace("t.csv", "-"), &text)
            .status(1)
            .says("4 read = 3 loaded + 1 set aside")
            .says("proven");
        let again = text.replace("3,c,1", "1,c,1");
        world
            .run_with(&format!("{} --mode replace", line.replace("t.csv", "-")), &again)
            .status(4)
            .complains(
                "the input has 1 duplicate key, by 'id': standard input:2 and standard input:5",
            );
        assert_eq!(database.one("SELECT count(*) FROM t"), "3");
    });
}

#[test]
fn an_emitted_table_can_be_made_and_loaded() {
    for_each_server(|server| {
        let database = server.database();
        let world = World::demo(500);
        world.ok("draft tickets.csv -o t.typhos.toml");
        world.write(
            "t.typhos.toml",
            world.read("t.typhos.toml")
                + "\n[layout]\nkey = ['ticket_no']\nsort = ['route', 'departs_at']\n",
        );
        let language = match server.kind {
            Kind::Postgres => "postgres",
            Kind::Mariadb => "mariadb",
            Kind::ClickHouse => "clickhouse",
        };
        let script = world.ok(&format!("emit t.typhos.toml --as {language}")).out;
        for statement in script
            .split(";\n")
            .filter(|statement| statement.contains("CREATE") || statement.contains("COMMENT ON"))
        {
            // Older versions have no comments on columns, and older servers no newer types.
            if server.kind == Kind::ClickHouse
                && database.one("SELECT version()").starts_with("18.")
            {
                continue;
            }
            let lines: Vec<_> = statement.lines().filter(|line| !line.starts_with("--")).collect();
            database.run(&lines.join("\n"));
        }
        let line =
            format!("load t.typhos.toml tickets.csv --into {} --mode append", database.url());
        world.ok(&line).says("500 read = 500 loaded").says("proven");
        world.run(&line).status(4).complains("500 of these rows are in table 'tickets' already");
    });
}

#[test]
fn no_rows_are_loaded_too() {
    for_each_server(|server| {
        let database = server.database();
        let world = World::demo(500);
        world.ok("draft tickets.csv -o t.typhos.toml");
        let text = world.read("tickets.csv");
        world.write("none.csv", format!("{}\n", text.lines().next().unwrap()));
        let line = format!("load t.typhos.toml none.csv --into {}", database.url());
        world.ok(&line).says("0 read = 0 loaded + 0 set aside").says("proven");
        world.ok(&format!("{line} --mode append")).says("0 loaded");
        assert_eq!(database.one("SELECT count(*) FROM tickets"), "0");
    });
}

/// A statement that names many columns is longer than an address may be.
#[test]
fn tables_of_many_columns_with_long_names_are_loaded() {
    for_each_server(|server| {
        let database = server.database();
        let names: Vec<String> = (0..250)
            .map(|at| format!("a_column_with_a_name_of_some_fifty_letters_in_all_{at:03}"))
            .collect();
        let row = |of: usize| {
            (0..250).map(|at| (at * of % 100).to_string()).collect::<Vec<_>>().join(",")
        };
        let world = World::new();
        world.write("w.csv", format!("{}\n{}\n{}\n", names.join(","), row(1), row(3)));
        world.ok("draft w.csv -o w.typhos.toml");
        let into = format!("load w.typhos.toml w.csv --into {} --table w", database.url());
        world.ok(&into).says("proven");
        world.ok(&format!("{into} --mode append")).says("proven");
        let last = &names[249];
        assert_eq!(database.rows(&format!("SELECT count(*), sum({last}) FROM w")), [["4", "192"]]);
    });
}

/// A table that a server would not make is told of in the plan, with what to do.
#[test]
fn tables_that_are_too_wide_are_told_of_in_the_plan() {
    for_each_server(|server| {
        let database = server.database();
        let most = match server.kind {
            Kind::Postgres => 1_600,
            Kind::Mariadb => 1_017,
            Kind::ClickHouse => return,
        };
        let world = World::new();
        let load = |columns: usize, ty: &str| {
            let names: Vec<String> = (0..columns).map(|at| format!("c{at}")).collect();
            let lines = names.iter().map(|name| format!("{name} = {{ type = '{ty}' }}\n"));
            let schema =
                format!("typhos = 1\ntable = 't'\n[columns]\n{}", lines.collect::<String>());
            let values = vec!["1"; columns].join(",");
            world
                .write("t.typhos.toml", schema)
                .write("t.csv", format!("{}\n{values}\n", names.join(",")));
            let line = format!("load t.typhos.toml t.csv --into {} --mode replace", database.url());
            (world.run(&format!("{line} --plan")), world.run(&line))
        };
        let (plan, loaded) = load(most + 1, "bool");
        plan.status(1).says(&format!("has at most {most}"));
        loaded.status(2);
        let (plan, loaded) = load(most, "int8");
        plan.status(0);
        loaded.status(0);
        if server.kind == Kind::Mariadb {
            let (plan, loaded) = load(17, "text(1000)");
            plan.status(1)
                .says("a row may have 68,034 bytes, and one of MariaDB has at most 65,535");
            loaded.status(2);
            let (plan, loaded) = load(16, "text(1000)");
            plan.status(0);
            loaded.status(0);
        }
    });
}

/// The ends of what types hold, which servers round or refuse.
#[test]
fn truth_becomes_a_number_and_the_largest_float_is_one() {
    for_each_server(|server| {
        let database = server.database();
        let world = World::new();
        world
            .write(
                "t.typhos.toml",
                "typhos = 1\ntable = 't'\n[columns]\nf = { type = 'float32' }\n",
            )
            .write("t.csv", "f\n3.4028235e38\n-3.4028235e38\n0.1\n");
        world.ok(&format!("load t.typhos.toml t.csv --into {}", database.url())).says("proven");
        if server.kind == Kind::Postgres {
            database
                .run("CREATE TABLE flags (small smallint, big bigint, sold date, day varchar(10))");
            world
                .write(
                    "t.typhos.toml",
                    "typhos = 1\ntable = 'flags'\n[columns]\nsmall = { type = 'bool' }\nbig = { type = 'bool' }\n\
                     sold = { type = 'date' }\nday = { type = 'date' }\n",
                )
                .write("t.csv", "small,big,sold,day\ntrue,false,2024-03-01,2024-03-01\n,true,,\n");
            world.ok(&format!("load t.typhos.toml t.csv --into {} --mode append", database.url()));
            let rows = database.rows("SELECT * FROM flags ORDER BY big");
            assert_eq!(
                rows,
                [["1", "0", "2024-03-01", "2024-03-01"], ["null", "1", "null", "null"]]
            );
        }
    });
}
