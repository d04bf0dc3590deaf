//! Rows that are added to tables somebody else made: other types, other orders of letters, triggers, views,
//! rights, and types that are left of tables that are gone.

use std::sync::atomic::{AtomicBool, Ordering};

use super::{Database, Kind, for_each_server};
use crate::world::World;

/// A world with a schema of these columns and these rows, and the line that loads them.
fn world(database: &Database<'_>, columns: &str, rows: &str, more: &str) -> (World, String) {
    let world = World::new();
    world
        .write("t.typhos.toml", format!("typhos = 1\ntable = 't'\n[columns]\n{columns}\n"))
        .write("t.csv", rows);
    (world, format!("load t.typhos.toml t.csv --into {} {more}", database.url()))
}

fn of(kind: Kind, test: impl Fn(&Database<'_>)) {
    for_each_server(|server| {
        if server.kind == kind {
            test(&server.database());
        }
    });
}

#[test]
fn a_type_that_is_left_of_another_table_makes_way() {
    of(Kind::Postgres, |database| {
        let columns = "cabin = { type = 'category', values = ['deck', 'saloon'] }";
        let (world, line) = world(database, columns, "cabin\ndeck\nsaloon\n", "");
        // Nobody uses it, and its values are others.
        database.run("CREATE TYPE t_cabin AS ENUM ('deck', 'cabin')");
        world.ok(&line).says("proven");
        assert_eq!(database.objects(), ["t", "type t_cabin"]);
        // With the table it belongs to, too; and one with the same values stays as it is.
        world.ok(&format!("{line} --mode replace"));
        world.write(
            "t.typhos.toml",
            world.read("t.typhos.toml").replace("'saloon'", "'saloon', 'lounge'"),
        );
        world.ok(&format!("{line} --mode replace"));
        assert_eq!(database.objects(), ["t", "type t_cabin"]);
        assert_eq!(database.one("SELECT max(enum_last(cabin))::text FROM t"), "lounge");
        // Where another table has it, it stays, and the load is refused before anything is sent.
        database.run("DROP TABLE t").run("CREATE TABLE other (c t_cabin)");
        world.write("t.typhos.toml", world.read("t.typhos.toml").replace(", 'lounge'", ""));
        world
            .run(&line)
            .status(2)
            .complains("'t_cabin' is a type with other values, which 'other' uses")
            .complains("--table");
        assert_eq!(database.objects(), ["other", "type t_cabin"]);
        // Nor does it make way for a table of its name.
        database.run("DROP TABLE other; DROP TYPE t_cabin; CREATE TABLE t_cabin (x integer)");
        world.run(&line).status(2).complains("'t_cabin' is a type already");
    });
}

#[test]
fn a_longer_value_stops_the_load_and_is_not_cut() {
    for_each_server(|server| {
        let database = server.database();
        match server.kind {
            Kind::Postgres => database.run("CREATE TABLE t (route varchar(5))"),
            Kind::Mariadb => database.run("CREATE TABLE t (route varchar(5))"),
            Kind::ClickHouse => return,
        };
        let rows = "route\nHolm\nTarnvik\n";
        let (world, line) = world(&database, "route = { type = 'lowcard' }", rows, "--mode append");
        world.ok(&format!("{line} --plan")).says("a longer value stops the load");
        let place = match server.kind {
            Kind::Postgres => "t.csv:3: ",
            _ => "the row whose 'route' is 'Tarnvik': ",
        };
        world.run(&line).status(4).complains(place);
        assert_eq!(database.one("SELECT count(*) FROM t"), "0");
    });
}

#[test]
fn values_become_texts_as_people_write_them() {
    for_each_server(|server| {
        let database = server.database();
        let text = if server.kind == Kind::ClickHouse { "Nullable(String)" } else { "varchar(60)" };
        let tail = if server.kind == Kind::ClickHouse {
            " ENGINE = MergeTree() ORDER BY tuple()"
        } else {
            ""
        };
        let names = ["at", "ip", "berth", "fare", "sold", "ok", "size"];
        let columns = names.map(|name| format!("{name}_ {text}")).join(", ");
        database.run(&format!("CREATE TABLE t ({columns}){tail}"));
        let (world, line) = world(
            &database,
            "at_ = { type = 'timestamp(s)', patterns = ['yyyy-MM-dd HH:mm:ss'] }\nip_ = { type = 'ip' }\n\
             berth_ = { type = 'geopoint' }\nfare_ = { type = 'decimal(6,2)' }\nsold_ = { type = 'date', patterns = ['dd.MM.yyyy'] }\n\
             ok_ = { type = 'bool' }\nsize_ = { type = 'float32' }\n",
            "at_,ip_,berth_,fare_,sold_,ok_,size_\n2025-01-02 03:04:05,192.0.2.7,\"59.5,-10.25\",7.50,31.12.2024,true,0.5\n,,,,,,\n",
            "--mode append",
        );
        world.ok(&line).says("proven");
        let rows = database.rows("SELECT * FROM t ORDER BY fare_ IS NULL");
        let [berth, ok] = match server.kind {
            // As that server writes a point, which is read back as one.
            Kind::Postgres => ["(-10.25,59.5)", "true"],
            Kind::Mariadb => ["59.5,-10.25", "true"],
            Kind::ClickHouse => ["59.5,-10.25", "1"],
        };
        // Older decimals there are written without zeros at their end.
        let fare = if rows[0][3] == "7.5" { "7.5" } else { "7.50" };
        assert_eq!(
            rows[0],
            ["2025-01-02 03:04:05", "192.0.2.7", berth, fare, "2024-12-31", ok, "0.5"],
            "{:?}",
            server.kind
        );
        assert_eq!(rows[1], ["null"; 7]);
    });
}

#[test]
fn keys_are_compared_as_the_table_compares_them() {
    of(Kind::Mariadb, |database| {
        database.run(
            "CREATE TABLE t (booking varchar(8) CHARACTER SET latin1 COLLATE latin1_swedish_ci PRIMARY KEY, n integer)",
        );
        let (world, line) = world(
            database,
            "booking = { type = 'text(8)', required = true }\nn = { type = 'int32' }\n[layout]\nkey = ['booking']\n",
            "booking,n\nab,1\ncd,2\n",
            "--mode append",
        );
        world.ok(&line);
        world.write("t.csv", "booking,n\nAB,7\nef,3\n");
        world.run(&line).status(4).complains("1 of these rows is in table 't' already");
        world.ok(&format!("{line} --seen skip")).says("1 there already");
        let plan = database.rows(
            "EXPLAIN SELECT count(*) FROM t s WHERE EXISTS (SELECT 1 FROM t t WHERE t.booking = \
             convert(s.booking USING latin1) COLLATE latin1_swedish_ci)",
        );
        assert!(plan.concat().contains(&"PRIMARY".to_owned()), "the index serves: {plan:?}");
        assert_eq!(database.one("SELECT group_concat(n ORDER BY n) FROM t"), "1,2,3");
    });
}

#[test]
fn texts_without_a_limit_can_be_keys() {
    for_each_server(|server| {
        let database = server.database();
        let (world, line) = world(
            &database,
            "route = { type = 'lowcard', required = true }\nnote = { type = 'text', required = true }\n\
             [layout]\nkey = ['route', 'note']\nsort = ['note', 'route desc']\n",
            "route,note\nHolm,a\nHolm,b\nSund,a\n",
            "",
        );
        world.ok(&line).says("3 loaded");
        if server.kind == Kind::Mariadb {
            world
                .ok(&format!("{line} --table other --plan"))
                .says("the key compares the first 250 characters of 'route'");
        }
        world.write("t.csv", "route,note\nSund,a\nSund,c\n");
        world.ok(&format!("{line} --mode append --seen skip")).says("1 loaded");
        if server.kind != Kind::ClickHouse {
            let language = if server.kind == Kind::Mariadb { "mariadb" } else { "postgres" };
            let script = world.ok(&format!("emit t.typhos.toml --as {language} --table made")).out;
            let lines = script.lines().filter(|line| !line.starts_with("--"));
            let script = lines.collect::<Vec<_>>().join("\n");
            script
                .split(";\n")
                .filter(|statement| !statement.trim().is_empty())
                .for_each(|statement| _ = database.run(statement));
        }
    });
}

#[test]
fn what_a_trigger_changes_is_no_proof() {
    of(Kind::Postgres, |database| {
        database
            .run("CREATE TABLE t (route text, j jsonb)")
            .run("CREATE FUNCTION louder() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.route = upper(NEW.route) || '!'; RETURN NEW; END $$")
            .run("CREATE TRIGGER louder BEFORE INSERT ON t FOR EACH ROW EXECUTE FUNCTION louder()");
        let (world, line) = world(
            database,
            "route = { type = 'text' }\nj = { type = 'json' }\n",
            "route,j\nHolm,{ }\nSund,[ 1]\n",
            "--mode append",
        );
        world
            .run(&line)
            .status(3)
            .complains("'route': the smallest value sent is Holm, there it is HOLM!")
            .complains("Nothing was loaded");
        assert_eq!(database.one("SELECT count(*) FROM t"), "0");
        // Who knows of it can do without; and what JSON is written like is not what it is.
        world.ok(&format!("{line} --no-proof"));
        database.run("DROP TRIGGER louder ON t").run("DELETE FROM t");
        world.ok(&line).says("proven");
    });
}

#[test]
fn what_hangs_on_a_table_keeps_it_from_being_replaced() {
    for_each_server(|server| {
        let database = server.database();
        match server.kind {
            Kind::Postgres => database
                .run("CREATE TABLE t (n integer PRIMARY KEY)")
                .run("CREATE INDEX further ON t (n DESC)")
                .run("CREATE VIEW seen AS SELECT n FROM t")
                .run("CREATE TABLE child (n integer REFERENCES t)"),
            Kind::Mariadb => database
                .run("CREATE TABLE t (n integer PRIMARY KEY, INDEX further (n))")
                .run("CREATE TABLE child (n integer, FOREIGN KEY (n) REFERENCES t (n))"),
            Kind::ClickHouse => return,
        };
        let (world, line) = world(&database, "n = { type = 'int32' }", "n\n1\n", "--mode replace");
        let wanted = match server.kind {
            Kind::Postgres => "'child', 'seen' depend on 't'",
            _ => "'child' refers to 't'",
        };
        world.run(&line).status(2).complains(wanted).complains("--mode append");
        assert_eq!(database.one("SELECT count(*) FROM t"), "0");
        if server.kind == Kind::Postgres {
            database.run("DROP VIEW seen");
        }
        database.run("DROP TABLE child");
        world.ok(&format!("{line} --plan")).says("1 further index of the table that is replaced");
        world.ok(&line).says("1 loaded");
    });
}

#[test]
fn rights_are_asked_by_what_is_done() {
    for_each_server(|server| {
        let database = server.database();
        let guest = match server.kind {
            Kind::Postgres => {
                database
                    .run("CREATE TABLE t (id integer PRIMARY KEY, n integer, x integer)")
                    .run("DROP ROLE IF EXISTS clerk")
                    .run("CREATE ROLE clerk LOGIN")
                    .run("GRANT SELECT ON t TO clerk")
                    .run("GRANT INSERT (id, n) ON t TO clerk");
                database.url().replace("tester@", "clerk@")
            }
            Kind::Mariadb => {
                database.run("CREATE TABLE t (id integer PRIMARY KEY, n integer, x integer)");
                database.run("CREATE USER IF NOT EXISTS clerk@'127.0.0.1'");
                database.run(&format!(
                    "GRANT SELECT, INSERT, CREATE, DROP ON {}.* TO clerk@'127.0.0.1'",
                    database.name
                ));
                database.url().replace("tester@", "clerk@")
            }
            Kind::ClickHouse => return,
        };
        let columns = "id = { type = 'int32', required = true }\nn = { type = 'int32' }\n[layout]\nkey = ['id']\n";
        let (world, line) = world(&database, columns, "id,n\n1,2\n", "--mode append");
        let line = line.replace(&database.url(), &guest);
        world.run(&format!("{line} --seen update")).status(3).complains("lacks the right UPDATE");
        world.ok(&line);
        if server.kind == Kind::Postgres {
            world.write("t.csv", "id,n,x\n2,2,2\n").write(
                "t.typhos.toml",
                world.read("t.typhos.toml").replace("n = {", "x = { type = 'int32' }\nn = {"),
            );
            world.run(&line).status(3).complains("lacks the right INSERT on 't' for 'x'");
        }
    });
}

#[test]
fn a_user_who_may_only_insert_and_look_adds_rows() {
    of(Kind::Mariadb, |database| {
        database
            .run("CREATE TABLE t (id int, note varchar(9), kind enum('a', 'b'), CHECK (id > 0))");
        database.run("CREATE USER IF NOT EXISTS mate@'127.0.0.1'");
        database.run(&format!("GRANT SELECT, INSERT ON {}.* TO mate@'127.0.0.1'", database.name));
        let columns = "id = { type = 'int32' }\nnote = { type = 'text(9)' }\nkind = { type = 'category', values = ['a', 'b'] }\n";
        let (world, line) = world(database, columns, "id,note,kind\n1,x,b\n2,,\n", "--mode append");
        let line = line.replace(&database.url(), &database.url().replace("tester@", "mate@"));
        world.ok(&format!("{line} --plan")).says("rows go straight into this one");
        world.ok(&format!("{line} --plan --count")).says("2 new; no key is declared");
        world
            .ok(&line)
            .says("2 read = 2 loaded")
            .says("facts about 2 rows agree with what was sent\n");
        let rows = || database.rows("SELECT id, note, kind FROM t ORDER BY id");
        assert_eq!(rows(), [["1", "x", "b"], ["2", "null", "null"]]);
        world.write("t.csv", "id,note,kind\n7,x,b\n-1,x,b\n");
        world.run(&line).status(4).complains("t.csv:3: ").complains("CONSTRAINT");
        assert_eq!(rows().len(), 2, "a load that is refused is undone");
        // Of rows that may stand anywhere in the table those of the load are only counted.
        database.run("ALTER TABLE t ADD UNIQUE (id)");
        world.write("t.csv", "id,note,kind\n8,x,b\n9,y,a\n");
        world.ok(&format!("{line} --plan")).says("counted there, and not asked about");
        world.ok(&line).says("2 read = 2 loaded").says("which went straight into the table");
        let other = world.read("t.typhos.toml").replace("'int32'", "'int16'");
        world.write("t.typhos.toml", other);
        world.run(&line).status(3).complains("'id' is of another");
    });
}

/// What others write at the same time is neither taken for rows of the load nor lost.
#[test]
fn others_write_to_a_table_while_rows_go_straight_into_it() {
    for_each_server(|server| {
        if server.kind == Kind::ClickHouse {
            return;
        }
        let database = server.database();
        database.run("CREATE TABLE t (id int, note varchar(9))").run("CREATE INDEX i ON t (note)");
        database.run("INSERT INTO t VALUES (-2, 'older')");
        let rows: String = (0..120_000).map(|id| format!("{id},n{}\n", id % 90)).collect();
        let columns = "id = { type = 'int32' }\nnote = { type = 'text(9)' }\n";
        let (world, line) = world(&database, columns, &format!("id,note\n{rows}"), "--mode append");
        let ended = AtomicBool::new(false);
        let written = std::thread::scope(|scope| {
            let writer = scope.spawn(|| {
                let mut written = 1_u32;
                while !ended.load(Ordering::Relaxed) {
                    database.run("INSERT INTO t VALUES (-1, 'others')");
                    written += 1;
                }
                written
            });
            let loads = || {
                for _ in 0..2 {
                    world.ok(&line).says("facts about 120,000 rows agree with what was sent\n");
                }
            };
            let loaded = std::panic::catch_unwind(std::panic::AssertUnwindSafe(loads));
            ended.store(true, Ordering::Relaxed);
            let written = writer.join().unwrap();
            loaded.unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            written
        });
        assert!(written > 1, "{:?}: nobody wrote", server.kind);
        let count = |of: &str| database.one(&format!("SELECT count(*) FROM t WHERE {of}"));
        assert_eq!(count("id < 0"), written.to_string());
        assert_eq!(count("id >= 0"), "240000");
    });
}

#[test]
fn partitions_are_added_whole() {
    of(Kind::ClickHouse, |database| {
        database.run(
            "CREATE TABLE t (n Int64, sold Date, extra String DEFAULT 'x') ENGINE = MergeTree() \
             PARTITION BY toYYYYMM(sold) ORDER BY n",
        );
        let (world, line) = world(
            database,
            "n = { type = 'int32', required = true }\nsold = { type = 'date', patterns = ['yyyy-MM-dd'], required = true }\n",
            "n,sold\n1,2025-01-02\n2,2025-02-03\n3,2025-02-04\n",
            "--mode append",
        );
        world.ok(&line).says("3 loaded");
        world.ok(&line);
        assert_eq!(
            database.one("SELECT concat(toString(count()), extra) FROM t GROUP BY extra"),
            "6x"
        );
        assert_eq!(database.objects(), ["t"]);
        // Views are told of insertions only, and so there is one where they are.
        database
            .run("CREATE MATERIALIZED VIEW v ENGINE = MergeTree() ORDER BY n AS SELECT n FROM t");
        world.ok(&format!("{line} --plan")).says("makes visible block by block");
        world.ok(&line);
        assert_eq!(database.one("SELECT count() FROM v"), "3");
    });
}

/// Where columns are those that a new table would have, rows go into one that is made as the target is, whatever its columns'
/// order, and as they are; elsewhere they go through a table of the declared types first. Both give the same.
#[test]
fn rows_come_whole_into_tables_of_the_same_types_and_of_others() {
    of(Kind::ClickHouse, |database| {
        let tail = "extra String DEFAULT 'x') ENGINE = MergeTree() PARTITION BY n % 3 ORDER BY n";
        let make = |table: &str, fare: &str, n: &str, port: &str| {
            database.run(&format!(
                "CREATE TABLE {table} (fare {fare}, n {n}, port {port}, note Nullable(String), {tail}"
            ));
        };
        make("same", "Nullable(Decimal(7, 2))", "UInt16", "LowCardinality(Nullable(String))");
        make("other", "Nullable(Decimal(18, 2))", "Int64", "Nullable(String)");
        let columns = "n = { type = 'uint16', required = true }\nport = { type = 'lowcard' }\nnote = { type = 'text' }\n\
                       fare = { type = 'decimal(7,2)' }";
        let row = |n: u32| {
            let fare = if n.is_multiple_of(7) { String::new() } else { format!("-{n}.25") };
            let port = ["Holm", "", "Tarnvik"][n as usize % 3];
            format!("{n},{port},w{},{fare}\n", n % 500)
        };
        let rows: String = (0..3_000).map(row).collect();
        let (world, line) =
            world(database, columns, &format!("n,port,note,fare\n{rows}"), "--mode append");
        let sum = "SELECT concat(toString(count()), ' ', toString(count(fare)), ' ', toString(countIf(isNotNull(port))), ' ', \
                   toString(sum(n)), ' ', toString(sum(fare)), ' ', toString(sum(length(note))), ' ', \
                   toString(countIf(ifNull(port, '') = 'Tarnvik')), ' ', max(extra)) FROM ";
        for table in ["same", "other"] {
            world
                .ok(&format!("{line} --table {table}"))
                .says("3,000 loaded")
                .says("agree with what was sent, in a table beside");
            let found = database.one(&format!("{sum}{table}"));
            assert_eq!(found, "3000 2571 2000 4498500 -3856500.75 11340 1000 x", "{table}");
        }
        assert_eq!(database.objects(), ["other", "same"]);
        // Twice is twice.
        world.ok(&format!("{line} --table same"));
        assert_eq!(database.one("SELECT count() FROM same"), "6000");
    });
}

/// A column of the key is never null, also where the declaration says so only by a default or a number.
#[test]
fn keys_that_are_made_or_defaulted_are_never_null() {
    for_each_server(|server| {
        let database = server.database();
        let (world, line) = world(
            &database,
            "row = { generate = 'row-number', start = 5 }\nberth = { type = 'text(9)', default = 'quay' }\nroute = { type = 'lowcard' }\n\
             [layout]\nkey = ['row', 'berth']\n",
            "berth,route\npier,Holm\n,Sund\n,\n",
            "",
        );
        let want = ["5|pier|Holm", "6|quay|Sund", "7|quay|null"];
        world.ok(&line).says("proven");
        let rows = || -> Vec<String> {
            let rows = database.rows("SELECT * FROM t ORDER BY 1");
            rows.iter().map(|row| row.join("|")).collect()
        };
        assert_eq!(rows(), want, "{:?}", server.kind);
        world
            .ok(&format!("{line} --mode append --seen skip"))
            .says("3 read = 0 loaded + 0 set aside + 3 there already");
        assert_eq!(rows(), want, "{:?}", server.kind);
    });
}

/// A type that is meant for texts of any length takes them, and a text beyond what it really holds is not cut.
#[test]
fn texts_go_into_the_usual_type_for_texts() {
    of(Kind::Mariadb, |database| {
        let (world, line) =
            world(database, "note = { type = 'text' }", "note\nshort\n", "--mode append");
        database.run("CREATE TABLE t (note text)");
        let plan = world.json(&format!("{line} --plan --json"));
        assert!(
            plan["plan"]["notes"].to_string().contains("a longer value stops the load"),
            "{plan}"
        );
        world.ok(&line).says("proven");
        world.write("t.csv", format!("note\nx\n{}\n", "y".repeat(70_000)));
        world.run(&line).status(4).complains("note");
        assert_eq!(database.rows("SELECT count(*), max(length(note)) FROM t"), [["1", "5"]]);
        // A limit that somebody chose is another matter.
        database.run("CREATE OR REPLACE TABLE t (note varchar(200))");
        world.run(&line).status(2).complains("cannot hold every text");
    });
}

/// Two loads of the same keys at the same time: each row is there once, whoever came first.
#[test]
fn two_loads_at_once_do_not_add_a_key_twice() {
    for_each_server(|server| {
        let database = server.database();
        let columns = "id = { type = 'int32', required = true }\nnote = { type = 'text(20)', required = true }";
        let rows: String = (0..20_000).map(|id| format!("{id},note {id}\n")).collect();
        let (world, line) =
            world(&database, columns, &format!("id,note\n{rows}"), "--mode append --seen skip");
        world.write("t.typhos.toml", world.read("t.typhos.toml") + "[layout]\nkey = ['id']\n");
        database.run(match server.kind {
            // No key of the table itself, which would find them.
            Kind::ClickHouse => {
                "CREATE TABLE t (id Int32, note String) ENGINE = MergeTree ORDER BY id"
            }
            Kind::Mariadb => "CREATE TABLE t (id int, note text, INDEX (id))",
            Kind::Postgres => "CREATE TABLE t (id int, note text)",
        });
        let start = || {
            let mut command = world.command(&line);
            command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
            command.spawn().unwrap()
        };
        for _ in 0..2 {
            let loads = [start(), start(), start()];
            let ended = loads.map(crate::world::ended);
            let mut loaded = 0;
            for output in ended {
                let said = String::from_utf8_lossy(&output.stderr);
                // Where nobody can wait, who comes second is told.
                let is_told =
                    server.kind == Kind::ClickHouse && said.contains("another load looks for keys");
                assert!(output.status.success() || is_told, "{:?}: {said}", server.kind);
                loaded += usize::from(output.status.success());
            }
            assert!(loaded >= 1, "{:?}", server.kind);
            assert_eq!(database.one("SELECT count(*) FROM t"), "20000", "{:?}", server.kind);
        }
        world.ok(&line);
        let left: Vec<String> =
            database.objects().into_iter().filter(|name| name.contains("typhos")).collect();
        assert_eq!(left, Vec::<String>::new(), "{:?}", server.kind);
        if server.kind == Kind::ClickHouse {
            // What a load that was killed has left is nobody's lock.
            let lock = "typhos_unfinished_keys_";
            database.run("INSERT INTO t VALUES (-1, '')");
            let made = format!("{:x}_00000001_1", 1_000_000);
            let number = twox_of("t");
            database
                .run(&format!("CREATE TABLE {lock}{number} (made_{made} UInt8) ENGINE = Memory"));
            world.ok(&line);
            assert_eq!(database.objects(), ["t"]);
        }
    });
}

/// The number that a table has in the name of the lock on its keys.
fn twox_of(table: &str) -> String {
    format!("{:016x}", twox_hash::XxHash3_64::oneshot(table.as_bytes()))
}
