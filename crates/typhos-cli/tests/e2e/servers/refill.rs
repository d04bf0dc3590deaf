//! Tables whose rows are exchanged: everything else of them stays as it was, and a load that fails leaves the old rows.

use super::{Database, Kind, for_each_server};
use crate::world::World;

/// A world with a schema of two columns, and the line that loads a file of so many rows.
fn world(database: &Database<'_>, more: &str) -> (World, String) {
    let world = World::new();
    world
        .write(
            "t.typhos.toml",
            "typhos = 1\ntable = 't'\n[columns]\nid = { type = 'int32', required = true }\nnote = { type = 'text(4)' }\n",
        )
        .write("t.csv", "id,note\n1,new\n2,\n");
    (world, format!("load t.typhos.toml t.csv --into {} {more}", database.url()))
}

/// A table that somebody made, with three rows and a column that no file has.
fn made(database: &Database<'_>) {
    database.run(match database.server.kind {
        Kind::Postgres => {
            "CREATE TABLE t (id int PRIMARY KEY, note varchar(4), kept text DEFAULT 'as it was' NOT NULL, CHECK (id > 0)); \
             CREATE INDEX t_note ON t (note); COMMENT ON TABLE t IS 'tickets'; \
             CREATE TABLE log (what text); \
             CREATE FUNCTION seen() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (TG_OP); RETURN NULL; END $$; \
             CREATE TRIGGER told AFTER INSERT ON t FOR EACH STATEMENT EXECUTE FUNCTION seen(); \
             CREATE VIEW v AS SELECT id FROM t"
        }
        Kind::Mariadb => {
            "CREATE TABLE t (id int PRIMARY KEY, note varchar(4), kept varchar(20) DEFAULT 'as it was' NOT NULL, CHECK (id > 0), \
             INDEX t_note (note)) ENGINE = InnoDB COMMENT 'tickets' PARTITION BY HASH (id) PARTITIONS 3"
        }
        Kind::ClickHouse => {
            "CREATE TABLE t (id Int32, note Nullable(String), kept String DEFAULT 'as it was') \
             ENGINE = MergeTree PARTITION BY id % 2 ORDER BY id"
        }
    });
    database.run("INSERT INTO t (id, note) VALUES (1, 'old'), (7, 'old'), (8, 'old')");
}

/// What the server says of how the table is made.
fn definition(database: &Database<'_>) -> Vec<Vec<String>> {
    database.rows(match database.server.kind {
        Kind::Postgres => {
            "SELECT pg_get_indexdef(indexrelid) FROM pg_index WHERE indrelid = 't'::regclass \
             UNION SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE conrelid = 't'::regclass \
             UNION SELECT tgname || obj_description('t'::regclass) FROM pg_trigger WHERE tgrelid = 't'::regclass \
             UNION SELECT attname || coalesce(pg_get_expr(adbin, adrelid), '') FROM pg_attribute LEFT JOIN pg_attrdef \
             ON adrelid = attrelid AND adnum = attnum WHERE attrelid = 't'::regclass AND attnum > 0 \
             UNION SELECT relacl::text || relfilenode::text FROM pg_class WHERE oid = 't'::regclass ORDER BY 1"
        }
        Kind::Mariadb => "SHOW CREATE TABLE t",
        Kind::ClickHouse => "SHOW CREATE TABLE t",
    })
}

const ROWS: &str = "SELECT id, note, kept FROM t ORDER BY id";

#[test]
fn rows_are_exchanged_and_the_table_is_kept() {
    for_each_server(|server| {
        let database = server.database();
        made(&database);
        let before = definition(&database);
        let (world, line) = world(&database, "--mode refill");
        world
            .ok(&format!("{line} --plan"))
            .says("would be kept with these rows in place of its own");
        assert_eq!(database.one("SELECT count(*) FROM t"), "3", "a plan changes nothing");
        world.ok(&line).says("proven").says("2 read = 2 loaded + 0 set aside");
        let rows = database.rows(ROWS);
        assert_eq!(
            rows,
            [["1", "new", "as it was"], ["2", "null", "as it was"]],
            "{:?}",
            server.kind
        );
        assert_eq!(definition(&database), before, "{:?}", server.kind);
        // Once more, and with a key that is there already: there is nothing to see again.
        let keyed = world.read("t.typhos.toml") + "[layout]\nkey = ['id']\n";
        world.write("t.typhos.toml", keyed);
        world.ok(&line);
        assert_eq!(database.one("SELECT count(*) FROM t"), "2");
        let report = world.json(&format!("{line} --plan --json"));
        assert_eq!(report["plan"]["action"], "refill");
        if server.kind == Kind::Postgres {
            assert_eq!(database.one("SELECT count(*) FROM log"), "3", "one insertion each time");
        }
        let left: Vec<String> =
            database.objects().into_iter().filter(|name| name.contains("typhos")).collect();
        assert_eq!(left, Vec::<String>::new(), "{:?}", server.kind);
        // A table that is not there is made.
        world.ok(&format!("{line} --table fresh"));
        assert_eq!(database.one("SELECT count(*) FROM fresh"), "2");
    });
}

#[test]
fn a_load_that_fails_leaves_the_old_rows() {
    for_each_server(|server| {
        let database = server.database();
        made(&database);
        let before = database.rows(ROWS);
        let (world, line) = world(&database, "--mode refill");
        // What the file itself does not say: a value that the table refuses, and a misfit.
        if server.kind != Kind::ClickHouse {
            world.write("t.csv", "id,note\n5,a\n-1,b\n");
            world.run(&line).status(4).complains("refuses the record");
            assert_eq!(database.rows(ROWS), before, "{:?}", server.kind);
        }
        world.write("t.csv", "id,note\n5,a\n6,longer\n");
        world.run(&line).status(4);
        assert_eq!(database.rows(ROWS), before, "{:?}", server.kind);
        world.write("t.csv", "id,note\n5,a\n");
        world
            .run(&format!("{line} --seen skip"))
            .status(2)
            .complains("rows that are there go away");
        assert_eq!(database.rows(ROWS), before, "{:?}", server.kind);
    });
}

#[test]
fn rows_of_others_do_not_go_along() {
    for_each_server(|server| {
        if server.kind == Kind::ClickHouse {
            return;
        }
        let database = server.database();
        made(&database);
        let (world, line) = world(&database, "--mode refill");
        if server.kind == Kind::Mariadb {
            // One that is cut into partitions is referred to by nobody.
            database.run("ALTER TABLE t REMOVE PARTITIONING");
        }
        database.run(
            "CREATE TABLE child (t_id int, FOREIGN KEY (t_id) REFERENCES t (id) ON DELETE CASCADE)",
        );
        database.run("INSERT INTO child VALUES (7)");
        world
            .run(&line)
            .status(2)
            .complains("'child' refers to 't', and rows there would be removed");
        assert_eq!(database.one("SELECT count(*) FROM child"), "1");
        // One that refuses keeps the old rows, and lets others take their place where nothing refers to them.
        database.run("DROP TABLE child");
        database.run("CREATE TABLE child (t_id int, FOREIGN KEY (t_id) REFERENCES t (id))");
        database.run("INSERT INTO child VALUES (7)");
        world.run(&line).status(3);
        assert_eq!(database.one("SELECT count(*) FROM t"), "3");
        database.run("DELETE FROM child");
        world.ok(&line);
        assert_eq!(database.one("SELECT count(*) FROM t"), "2");
    });
}

#[test]
fn policies_stay_and_nobody_exchanges_rows_that_they_do_not_see() {
    for_each_server(|server| {
        if server.kind != Kind::Postgres {
            return;
        }
        let database = server.database();
        made(&database);
        let (world, line) = world(&database, "--mode refill");
        let user = format!("clerk_{}", database.name);
        database.run(&format!(
            "CREATE ROLE {user} LOGIN; GRANT ALL ON t, log TO {user}; ALTER TABLE t ENABLE ROW LEVEL SECURITY; \
             CREATE POLICY few ON t USING (id < 5); GRANT TEMPORARY ON DATABASE {} TO {user}", database.name
        ));
        let as_clerk = line.replace("tester@", &format!("{user}@"));
        world.run(&as_clerk).status(3).complains("'t' has policies");
        assert_eq!(database.one("SELECT count(*) FROM t"), "3");
        database.run(&format!("REVOKE DELETE ON t FROM {user}"));
        world.run(&as_clerk).status(3).complains("lacks the right DELETE on 't'");
        // Its owner sees all, and the policies are there afterwards.
        world.ok(&line);
        assert_eq!(database.one("SELECT count(*) FROM pg_policy"), "1");
        // A new table in its place would have none: whoever reads it would see more than they may.
        let replacing = line.replace("--mode refill", "--mode replace");
        database.run("DROP VIEW v");
        world.run(&replacing).status(2).complains("1 policy").complains("--mode refill");
        assert_eq!(database.one("SELECT count(*) FROM pg_policy"), "1");
    });
}

#[test]
fn a_table_that_undoes_nothing_is_not_added_to() {
    for_each_server(|server| {
        if server.kind != Kind::Mariadb {
            return;
        }
        let database = server.database();
        let (world, line) = world(&database, "");
        for engine in ["MyISAM", "Aria", "MEMORY"] {
            database.run(&format!(
                "CREATE OR REPLACE TABLE t (id int PRIMARY KEY, note varchar(4)) ENGINE = {engine}"
            ));
            database.run("INSERT INTO t VALUES (2, 'old')");
            for mode in ["append", "refill"] {
                world
                    .run(&format!("{line} --mode {mode}"))
                    .status(2)
                    .complains(&format!("'t' is a table of {engine}, which does not undo"));
            }
            assert_eq!(database.one("SELECT count(*) FROM t"), "1");
        }
        world.ok(&format!("{line} --mode replace"));
        database.run("ALTER TABLE t ENGINE = InnoDB");
        world.ok(&format!("{line} --mode refill"));
    });
}

#[test]
fn tables_of_a_database_in_a_file_are_refilled_too() {
    let world = World::new();
    world
        .write("t.typhos.toml", "typhos = 1\ntable = 't'\n[columns]\nid = { type = 'int32' }\n")
        .write("t.csv", "id\n1\n2\n")
        .write("u.csv", "id\n3\n");
    world.ok("load t.typhos.toml t.csv --into d.sqlite");
    world.ok("load t.typhos.toml u.csv --into d.sqlite --mode refill").says("proven");
    assert_eq!(world.ok("peek d.sqlite --as csv").out, "id\n3\n");
    // A file is nothing but its rows.
    world.ok("load t.typhos.toml t.csv --into t.parquet");
    world
        .run("load t.typhos.toml u.csv --into t.parquet --mode refill")
        .status(2)
        .complains("only the rows of a table are exchanged");
    assert_eq!(world.ok("peek t.parquet --as csv").out, "id\n1\n2\n");
}

/// What would go with a table that is replaced, the plan says.
#[test]
fn a_plan_says_what_goes_with_a_table_that_is_replaced() {
    for_each_server(|server| {
        let database = server.database();
        made(&database);
        let (world, line) = world(&database, "--mode replace --plan --json");
        if server.kind == Kind::Postgres {
            database.run("DROP VIEW v");
        }
        let plan = world.json(&line)["plan"].clone();
        assert_eq!(plan["problems"], serde_json::json!([]), "{plan}");
        let notes = plan["notes"].to_string();
        assert!(notes.contains("the column 'kept' would be gone"), "{:?}: {notes}", server.kind);
        for part in match server.kind {
            Kind::Postgres => &["1 further index, 1 trigger, 1 check and 1 default"][..],
            Kind::Mariadb => &["1 further index, 3 partitions, 1 check and 1 default"],
            Kind::ClickHouse => &[
                "the table is one of MergeTree",
                "PARTITION BY id % 2 ORDER BY id, which goes with it, and stays where only the rows are exchanged",
            ],
        } {
            assert!(notes.contains(part), "{:?}: {notes}", server.kind);
        }
    });
    let world = World::new();
    world.write("a.csv", "id,kept\n1,x\n").write("b.csv", "id\n1\n");
    world.ok("draft a.csv -o a.typhos.toml --table t");
    world.ok("draft b.csv -o b.typhos.toml --table t");
    world.ok("load a.typhos.toml a.csv --into d.sqlite");
    let plan = world.json("load b.typhos.toml b.csv --into d.sqlite --mode replace --plan --json");
    assert!(
        plan["plan"]["notes"].to_string().contains("the column 'kept' would be gone"),
        "{plan}"
    );
}
