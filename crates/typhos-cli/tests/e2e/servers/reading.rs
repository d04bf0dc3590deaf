//! Tables of real servers as typed rows: looked at, grouped, asked, by columns and by questions.

use serde_json::{Value, json};

use super::{Kind, Server, for_each_server};
use crate::world::World;

/// What `peek` shows of a table, as CSV.
fn peeked(world: &World, what: &str, more: &[&str]) -> String {
    let mut args = vec!["peek"];
    args.extend(what.split(' '));
    args.extend(["--rows", "all", "--as", "csv"]);
    args.extend(more);
    let ran = world.run_args(&args).status(0);
    ran.out
}

#[test]
fn rows_on_a_server_are_those_that_were_loaded() {
    let world = World::demo(700);
    world.ok("draft tickets.csv -o tickets.typhos.toml --replace");
    let of_file = "tickets.typhos.toml tickets.csv";
    let questions = [
        "fare between 10 and 30.5 and party is not absent",
        "cabin = 'deck' or note is absent",
        "sold_on >= '2025-03-01' and not route in ('Holm', 'Sund')",
        "departs_at < '2024-06-01' and year(sold_on) = 2024",
        "booking > '5' and hour(departs_at) < 12",
        "party = 2 or party > 6",
    ];
    let order = ["--sort", "ticket_no"];
    let all = peeked(&world, of_file, &order);
    assert!(all.lines().count() > 700);
    let tally = [
        "--by",
        "route, year(sold_on)",
        "--show",
        "count, sum(fare), max(departs_at), distinct(booking), count(note)",
    ];
    let groups = |what: &str| {
        let mut args = vec!["tally"];
        args.extend(what.split(' '));
        args.extend(tally);
        args.push("--json");
        world.run_args(&args).status(0).parsed()["rows"].clone()
    };
    let of_all = groups(of_file);
    for_each_server(|server| {
        let database = server.database();
        let url = database.url();
        world.ok(&format!("load {of_file} --into {url}"));
        assert_eq!(peeked(&world, &url, &order), all, "{:?}", server.kind);
        for question in questions {
            let more =
                ["--where", question, "--columns", "ticket_no,route,fare", "--sort", "ticket_no"];
            assert_eq!(
                peeked(&world, &url, &more),
                peeked(&world, of_file, &more),
                "{:?}: {question}",
                server.kind
            );
        }
        assert_eq!(groups(&url), of_all, "{:?}", server.kind);
        let most = "select route, max(fare), count(*) from tickets group by route order by route";
        let asked = |what: &str| {
            let mut args = vec!["ask"];
            args.extend(what.split(' '));
            args.extend([most, "--json"]);
            world.run_args(&args).status(0).parsed()["rows"].clone()
        };
        assert_eq!(asked(&url), asked(of_file), "{:?}", server.kind);
        // Few rows are shown at once, and the rest is not waited for.
        let few = world.run(&format!("peek {url} --rows 3 --as csv")).status(0);
        assert_eq!(few.out.lines().count(), 4);
        let some = world
            .run_args(&[
                "peek",
                &url,
                "--where",
                "hour(departs_at) >= 0",
                "--rows",
                "3",
                "--as",
                "csv",
            ])
            .status(0);
        assert_eq!(some.out.lines().count(), 4);
    });
}

/// The columns and rows of a table as JSON.
fn shown(world: &World, url: &str, table: &str) -> Value {
    world.run(&format!("peek {url} --table {table} --json --sort id")).parsed()
}

#[test]
fn a_server_is_asked_only_for_what_is_wanted() {
    let Some(server) = Server::shared(Kind::Postgres) else { return };
    let (database, world) = (server.database(), World::new());
    database.run(
        "CREATE VIEW fares AS SELECT n, 100 / (n - 5) AS share, chr(65 + n) AS pier, date '2024-01-01' + n AS on_day \
         FROM generate_series(1, 9) n",
    );
    let url = database.url();
    let whole = world.run(&format!("peek {url} --as csv")).status(3);
    whole.complains("division by zero");
    let rows = |args: &[&str]| {
        let all = [&["peek", &url, "--as", "csv"][..], args].concat();
        world.run_args(&all).status(0).out.lines().skip(1).map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(rows(&["--columns", "n"]).len(), 9);
    assert_eq!(rows(&["--rows", "2"]).len(), 2);
    for (question, want) in [
        ("n > 7", &["8,33,I,2024-01-09", "9,25,J,2024-01-10"][..]),
        ("n in (1, 7)", &["1,-25,B,2024-01-02", "7,50,H,2024-01-08"]),
        ("pier = 'C'", &["2,-33,C,2024-01-03"]),
        ("on_day = '2024-01-05'", &["4,-100,E,2024-01-05"]),
        ("on_day < '2024-01-05' and pier > 'C'", &["3,-50,D,2024-01-04"]),
    ] {
        assert_eq!(rows(&["--where", question]), want, "{question}");
    }
}

#[test]
fn tables_that_nobody_here_made_are_shown() {
    let world = World::new();
    for_each_server(|server| {
        let database = server.database();
        let url = database.url();
        let (definition, rows, want) = match server.kind {
            Kind::Postgres => (
                "CREATE TYPE pier AS ENUM ('west', 'east'); CREATE TABLE odd (id int, big numeric, at timestamptz, \
                 length interval, raw bytea, pier pier, list text[], numbers int[], place point, net inet, ok bool, x real)",
                "INSERT INTO odd VALUES \
                 (1, 12345678901234567890123456789012345678901234.5, '2024-02-29 06:15:00.25+02', '1 day 02:03', '\\x00ff', \
                  'east', '{\"a,b\",NULL}', '{1,NULL,3}', '(1,2)', '10.0.0.0/8', true, 0.1), \
                 (2, NULL, 'infinity', NULL, NULL, 'west', '{}', NULL, NULL, NULL, false, 'NaN'), \
                 (3, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)",
                json!([
                    {"id": 1, "big": "12345678901234567890123456789012345678901234.5",
                     "at": "2024-02-29 04:15:00.250Z", "length": "1 day 02:03:00", "raw": "\\x00ff", "pier": "east",
                     "list": ["a,b", null], "numbers": [1, null, 3], "place": "(1,2)", "net": "10.0.0.0/8", "ok": true, "x": 0.1},
                    {"id": 2, "big": null, "at": null, "length": null, "raw": null, "pier": "west",
                     "list": [], "numbers": null, "place": null, "net": null, "ok": false, "x": "NaN"},
                ]),
            ),
            Kind::Mariadb => (
                "CREATE TABLE odd (id int, b bit(9), raw varbinary(9), x float, y double, opened year, kinds set('a','b'), \
                 pier enum('west', 'east'), at timestamp NULL, d decimal(40,2), t time(3)) CHARACTER SET latin1",
                "INSERT INTO odd VALUES (1, 257, x'00ff', 0.1, 1e300, 1999, 'a,b', 'east', '2024-02-29 06:15:00', 1.5, '06:15:00.5'), \
                 (2, NULL, NULL, 16777217, NULL, NULL, '', 'west', NULL, NULL, '-100:00:00'), \
                 (3, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)",
                json!([
                    {"id": 1, "b": "257", "raw": "00FF", "x": 0.1, "y": 1e300, "opened": "1999", "kinds": "a,b",
                     "pier": "east", "at": "2024-02-29 06:15:00Z", "d": "1.50", "t": "06:15:00.500"},
                    {"id": 2, "b": null, "raw": null, "x": 16777216, "y": null, "opened": null, "kinds": "",
                     "pier": "west", "at": null, "d": null, "t": null},
                ]),
            ),
            Kind::ClickHouse => (
                "CREATE TABLE odd (id Int32, words Array(String), pair Tuple(UInt8, String), pier Enum8('west' = -3, 'east' = 7), \
                 f FixedString(3), n Nullable(Int8), x Float64) ENGINE = Memory",
                "INSERT INTO odd VALUES (1, ['a', 'it\\'s'], (1, 'x'), 'east', 'abc', NULL, inf), \
                 (2, [], (2, 'y'), 'west', 'a\\tb', 5, -0.5), (3, [], (0, ''), 'west', 'xyz', 1, nan)",
                json!([
                    {"id": 1, "words": "['a','it\\'s']", "pair": "(1,'x')", "pier": "east", "f": "abc", "n": null, "x": "inf"},
                    {"id": 2, "words": "[]", "pair": "(2,'y')", "pier": "west", "f": "a\tb", "n": 5, "x": -0.5},
                ]),
            ),
        };
        for statement in definition.split("; ") {
            database.run(statement);
        }
        database.run(rows);
        let report = shown(&world, &url, "odd");
        let rows: Vec<Value> = report["rows"].as_array().unwrap().clone();
        assert_eq!(rows.len(), 3);
        for (row, want) in rows.iter().zip(want.as_array().unwrap()) {
            let names = report["columns"].as_array().unwrap().iter();
            let cells = names.map(|column| column["name"].as_str().unwrap().to_owned());
            let row: Value = cells.zip(row.as_array().unwrap().iter().cloned()).collect();
            assert_eq!(&row, want, "{:?}", server.kind);
        }
        if server.kind == Kind::Postgres {
            // A day at infinity has no place here, and is found where it is shown: among what is absent.
            let args = [
                "peek",
                &url,
                "--table",
                "odd",
                "--columns",
                "id",
                "--where",
                "at is absent",
                "--as",
                "csv",
            ];
            assert_eq!(world.run_args(&args).status(1).out, "id\n2\n3\n");
        }
        // By the order of the list, and not of the letters.
        let first = peeked(
            &world,
            &format!("{url} --table odd"),
            &["--columns", "pier", "--where", "pier >= 'east'"],
        );
        assert_eq!(first.lines().count(), 2, "{first}");
    });
}

#[test]
fn what_is_not_on_a_server_is_said() {
    let world = World::new();
    world.write("t.csv", "a\n1\n2\n");
    for_each_server(|server| {
        let database = server.database();
        let url = database.url();
        world.run(&format!("peek {url}")).status(3).complains("there are no tables");
        world.ok("draft t.csv -o t.typhos.toml --replace");
        world.ok(&format!("load t.typhos.toml t.csv --into {url}"));
        assert_eq!(world.ok(&format!("peek {url} --as csv")).out, "a\n1\n2\n");
        world
            .run(&format!("peek {url} --table tt"))
            .status(3)
            .complains("there is no table 'tt'; did you mean 't'?");
        database.run(&format!(
            "CREATE TABLE u (a int){}",
            match server.kind {
                Kind::ClickHouse => " ENGINE = Memory",
                _ => "",
            }
        ));
        world
            .run(&format!("peek {url}"))
            .status(3)
            .complains("it has the tables 't', 'u'; pass --table NAME");
    });
}
