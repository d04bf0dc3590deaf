//! Outputs and what is there already: nothing of anybody's is overwritten, removed or half replaced.

use std::os::unix::fs::{PermissionsExt, symlink};
use std::process::Command;

use crate::world::{World, tool};

const SCHEMA: &str = "typhos = 1\n[input]\nmisfit = 'reject'\n[columns]\nn = { type = 'uint8', misfit = 'reject' }\n";

fn world() -> World {
    let world = World::new();
    world.write("t.csv", "n\n1\n2\nx\n").write("s.typhos.toml", SCHEMA);
    world
}

fn load(world: &World, into: &str) -> crate::world::Ran {
    world.run(&format!("load s.typhos.toml t.csv --into {into}"))
}

#[test]
fn a_directory_that_holds_something_of_others_is_not_replaced() {
    let world = world();
    load(&world, "lake --parts 2").status(1);
    world.write("lake/notes.txt", "mine");
    for line in ["lake --parts 2 --mode replace", "lake --parts 2 --mode replace --plan"] {
        let ran = load(&world, line);
        let told = format!("{}{}", ran.out, ran.err);
        assert!(told.contains("notes.txt, which typhos did not write there"), "{told}");
        assert!(ran.status != 0);
    }
    assert_eq!(world.read("lake/notes.txt"), "mine");
    std::fs::remove_file(world.path("lake/notes.txt")).unwrap();
    load(&world, "lake --parts 3 --mode replace").status(1).says("lake in 3 parts");
    // An empty one is nobody's.
    std::fs::create_dir(world.path("empty")).unwrap();
    load(&world, "empty --parts 1 --mode replace").status(1);
    // A file is no directory, and a directory no file.
    load(&world, "t.parquet").status(1);
    load(&world, "t.parquet --parts 2 --mode replace").status(2).complains("is a file");
    std::fs::create_dir(world.path("d.parquet")).unwrap();
    load(&world, "d.parquet --mode replace").status(2).complains("is a directory");
}

#[test]
fn what_is_read_is_not_written_over() {
    let world = world();
    std::fs::create_dir(world.path("in2")).unwrap();
    world.write("in2/a.csv", "n\n1\n");
    symlink("in2", world.path("link")).unwrap();
    std::fs::hard_link(world.path("t.csv"), world.path("same.csv")).unwrap();
    world.ok("scout t.csv --save t.survey");
    for line in [
        "load s.typhos.toml in2 --into in2 --parts 2 --mode replace",
        "load s.typhos.toml in2 --into link --parts 2 --mode replace",
        "load s.typhos.toml t.csv --into u.sqlite --rejects u.sqlite",
        "load s.typhos.toml t.csv --into lake --parts 2 --rejects lake/r.csv",
        "load s.typhos.toml t.csv --into t.parquet --rejects same.csv",
        "load s.typhos.toml t.csv --into t.parquet --rejects s.typhos.toml",
        "draft t.csv -o t.csv --replace",
        "draft same.csv -o t.csv --replace",
        "draft in2 -o in2/a.csv --replace",
        "draft t.survey -o t.survey --replace",
        "scout t.csv --save t.csv --replace",
        "scout t.survey --save t.survey --replace",
        "pool t.survey -o t.survey --replace",
        "emit s.typhos.toml --as sql -o s.typhos.toml --replace",
    ] {
        let before = world.names();
        world.run(line).status(2).complains("nothing was written");
        assert_eq!(world.names(), before, "{line}");
    }
    assert_eq!(world.read("t.csv"), "n\n1\n2\nx\n");
    assert_eq!(world.read("in2/a.csv"), "n\n1\n");
    assert_eq!(world.read("s.typhos.toml"), SCHEMA);
    // What a person keeps is drafted again in its place.
    world.ok("draft same.csv --keep s.typhos.toml -o s.typhos.toml --replace --only n");
}

#[test]
fn rejects_belong_to_their_target_and_stay() {
    let world = world();
    world.write("t.parquet.rejects.csv", "mended by hand");
    load(&world, "t.parquet").status(1).says("set aside in t.parquet.rejects-2.csv");
    load(&world, "t.arrow").status(1).says("set aside in t.arrow.rejects.csv");
    load(&world, "t.sqlite").status(1).says("set aside in t.sqlite.t.rejects.csv");
    load(&world, "t.sqlite --table u").status(1).says("set aside in t.sqlite.u.rejects.csv");
    load(&world, "t.parquet --mode replace").status(1).says("t.parquet.rejects-3.csv");
    world.write("good.csv", "n\n1\n");
    world.ok("load s.typhos.toml good.csv --into t.parquet --mode replace");
    assert_eq!(world.read("t.parquet.rejects.csv"), "mended by hand");
    for name in ["t.parquet.rejects-2.csv", "t.parquet.rejects-3.csv"] {
        assert!(world.read(name).contains("\nx,"), "{name}");
    }
    // A load that does not come about leaves none.
    let before = world.names();
    load(&world, "v.parquet --misfit-limit 0").status(4);
    load(&world, "t.parquet").status(2).complains("exists already");
    assert_eq!(world.names(), before);
}

#[test]
fn permissions_and_links_of_what_is_replaced_stay() {
    let world = world();
    load(&world, "real.parquet").status(1);
    symlink("real.parquet", world.path("link.parquet")).unwrap();
    let mode = |name: &str| world.path(name).metadata().unwrap().permissions().mode() & 0o777;
    std::fs::set_permissions(world.path("real.parquet"), PermissionsExt::from_mode(0o600)).unwrap();
    load(&world, "link.parquet --mode replace").status(1);
    assert!(world.path("link.parquet").symlink_metadata().unwrap().is_symlink());
    assert_eq!(mode("real.parquet"), 0o600);
    // As the umask has it.
    let umask = format!(
        "umask 077; {} load s.typhos.toml t.csv --into lake --parts 1; {0} draft t.csv -o d.toml",
        env!("CARGO_BIN_EXE_typhos")
    );
    let mut shell = std::process::Command::new("sh");
    shell.args(["-c", &umask]).current_dir(world.path("")).output().unwrap();
    assert_eq!(
        (mode("lake"), mode("lake/part-00001.parquet"), mode("d.toml")),
        (0o700, 0o600, 0o600)
    );
}

/// What was there when a load began has to have been read when it ends.
#[test]
fn an_input_that_changes_stops_a_load() {
    for (change, said) in
        [("truncate -s 30000000 big.csv", "it shrank"), ("echo 1 >> big.csv", "it grew")]
    {
        let world = world();
        world.write("big.csv", format!("n\n{}", "123\n".repeat(15_000_000)));
        let mut child = world
            .command("load s.typhos.toml big.csv --into b.parquet --threads 1 -q")
            .stderr(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        while !world.names().iter().any(|name| name.starts_with(".typhos-unfinished")) {
            assert!(child.try_wait().unwrap().is_none(), "it was over before it began");
            std::thread::sleep(std::time::Duration::from_millis(1));
        }
        let mut shell = std::process::Command::new("sh");
        assert!(shell.args(["-c", change]).current_dir(world.path("")).status().unwrap().success());
        let output = child.wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(3), "{told}");
        assert!(
            told.contains("big.csv changed while it was read") && told.contains(said),
            "{told}"
        );
        assert_eq!(world.names(), ["big.csv", "s.typhos.toml", "t.csv"]);
    }
}

/// The losers of a race find that somebody was first, and leave nothing.
#[test]
fn one_load_of_several_at_once_wins() {
    let world = world();
    for into in ["lake --parts 2", "t.parquet", "t.sqlite"] {
        let before = world.names().len();
        let line = format!("load s.typhos.toml t.csv --into {into} -q");
        let children: Vec<_> = (0..6)
            .map(|_| {
                let mut command = world.command(&line);
                command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::piped());
                command.spawn().unwrap()
            })
            .collect();
        let ends: Vec<_> = children
            .into_iter()
            .map(|child| {
                let output = child.wait_with_output().unwrap();
                (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
            })
            .collect();
        let winners = ends.iter().filter(|(status, _)| *status == Some(1)).count();
        assert_eq!(winners, 1, "{into}: {ends:?}");
        let losers =
            ends.iter().filter(|(status, said)| *status == Some(2) && said.contains("already"));
        assert_eq!(losers.count(), 5, "{into}: {ends:?}");
        assert_eq!(world.names().len(), before + 2, "{into}: {:?}", world.names());
    }
}

/// Killed at any moment, a replacement is the old one or the new one, with its rejects or without.
#[test]
fn a_kill_leaves_the_old_or_the_new() {
    let world = world();
    world.write("new.csv", format!("n\nx\n{}", "7\n".repeat(20_000)));
    for (into, table) in
        [("lake --parts 2", "lake"), ("t.parquet", "t.parquet"), ("t.arrow", "t.arrow")]
    {
        load(&world, into).status(1);
        let rows = || world.json(&format!("peek {table} --json --rows 1"))["total"].clone();
        let rejects = || {
            world
                .names()
                .iter()
                .filter(|name| name.starts_with(table) && name.contains("rejects"))
                .count()
        };
        for round in 0..25 {
            std::fs::remove_file(world.path(&format!("{table}.rejects-2.csv"))).ok();
            load(&world, &format!("{into} --mode replace")).status(1);
            let (old_rows, old_rejects) = (rows(), rejects());
            let line = format!("load s.typhos.toml new.csv --into {into} --mode replace -q");
            let mut child =
                world.command(&line).stdout(std::process::Stdio::null()).spawn().unwrap();
            std::thread::sleep(std::time::Duration::from_micros(2500 * round));
            child.kill().unwrap();
            child.wait().unwrap();
            // The next run settles what was left.
            world.write("none.csv", "n\n");
            world.ok("load s.typhos.toml none.csv --into settle.parquet --mode replace");
            let is_new = rows() != old_rows;
            assert_eq!(
                rejects() - old_rejects,
                usize::from(is_new),
                "{table} {round}: {:?}",
                world.names()
            );
            assert!(
                world.names().iter().all(|name| !name.contains("unfinished")),
                "{:?}",
                world.names()
            );
        }
    }
}

/// A stream is read only once: its keys are watched while it is loaded.
#[test]
fn duplicate_keys_are_found_wherever_rows_come_from() {
    let world = World::new();
    world.write("t.csv", "id,x\n1,a\n2,b\n1,c\n").write(
        "s.typhos.toml",
        "typhos = 1\n[columns]\nid = { type = 'uint8', required = true }\nx = { type = 'text' }\n[layout]\nkey = ['id']\n",
    );
    for into in ["t.parquet", "t.arrow", "t.sqlite"] {
        let stream =
            world.run_with(&format!("load s.typhos.toml - --into {into}"), &world.read("t.csv"));
        stream.status(4).complains(
            "the input has 1 duplicate key, by 'id': standard input:2 and standard input:4",
        );
        world
            .run(&format!("load s.typhos.toml t.csv --into {into} --plan"))
            .status(1)
            .says("the input has 1 duplicate key, by 'id': t.csv:2 and t.csv:4");
    }
    assert_eq!(world.names(), ["s.typhos.toml", "t.csv"]);
    world
        .run("check s.typhos.toml t.csv")
        .status(1)
        .says("1 duplicate key, by 'id' (would stop a load)")
        .says("t.csv:4  as in t.csv:2");
    let report = world.run("check s.typhos.toml t.csv --json").parsed();
    assert_eq!(report["duplicate_keys"]["count"], 1);
}

/// All words of a dictionary are in memory: where there are too many, the column is text.
#[test]
fn a_dictionary_that_grows_too_large_becomes_text() {
    let world = World::new();
    let rows: String = (0..300_000).map(|n| format!("word {n},{}\n", n % 7)).collect();
    world.write("t.csv", format!("w,f\n{rows}")).write(
        "s.typhos.toml",
        "typhos = 1\n[columns]\nw = { type = 'lowcard' }\nf = { type = 'lowcard' }\n",
    );
    world
        .ok("load s.typhos.toml t.csv --into t.arrow")
        .says("too many distinct values for a dictionary in 'w': stored as text")
        .says("proven");
    let rows = world.json("peek t.arrow --json --rows 300000");
    let last = rows["rows"].as_array().and_then(|rows| rows.last().cloned());
    assert_eq!(last, Some(serde_json::json!(["word 299999", "0"])));
}

/// Rows that are added to a database go straight into its table where they can be told from the others, are proven there, and leave
/// it as it was when one is refused.
#[test]
fn rows_go_straight_into_a_table_of_a_database() {
    let world = World::new();
    let rows = |from: u32| -> String {
        (from..from + 3_000)
            .map(|id| format!("{id},2024-02-{:02},{id}.50\n", 1 + id % 29))
            .collect()
    };
    let columns = "id = { type = 'uint16', required = true, high = '60000' }\n\
                   day = { type = 'date', patterns = ['yyyy-MM-dd'] }\nfare = { type = 'decimal(7,2)' }\n";
    world
        .write("s.typhos.toml", format!("typhos = 1\ntable = 't'\n[columns]\n{columns}"))
        .write("a.csv", format!("id,day,fare\n{}", rows(0)))
        .write("b.csv", format!("id,day,fare\n{}", rows(10_000)));
    let into = "--into d.sqlite --mode append";
    world.ok("load s.typhos.toml a.csv --into d.sqlite").says("facts about 3,000 rows");
    let straight = "facts about 3,000 rows agree with what was sent\n";
    world.ok(&format!("load s.typhos.toml b.csv {into}")).says(straight);
    if !tool("sqlite3") {
        return;
    }
    let ask = |sql: &str| {
        let ran =
            Command::new("sqlite3").current_dir(world.path("")).args(["d.sqlite", sql]).output();
        let ran = ran.unwrap();
        assert!(ran.status.success(), "{sql}: {}", String::from_utf8_lossy(&ran.stderr));
        String::from_utf8(ran.stdout).unwrap().trim().to_owned()
    };
    assert_eq!(
        ask("SELECT count(*), sum(id), min(day), max(fare) FROM t"),
        "6000|38997000|2024-02-01|12999.5"
    );
    // A row in the middle of many that are inserted at once.
    ask("CREATE UNIQUE INDEX once ON t (id)");
    world.write(
        "c.csv",
        format!("id,day,fare\n{}10007,2024-02-03,1.00\n{}", rows(20_000), rows(30_000)),
    );
    world
        .run(&format!("load s.typhos.toml c.csv {into}"))
        .status(4)
        .complains("c.csv:3002: d.sqlite refuses the record: UNIQUE constraint failed");
    assert_eq!(ask("SELECT count(*) FROM t"), "6000");
    // One that is silently left out is missed all the same.
    ask(
        "CREATE TABLE u (id INTEGER NOT NULL CHECK (id >= 0) UNIQUE ON CONFLICT IGNORE, day TEXT, fare REAL)",
    );
    world.write("d.csv", "id,day,fare\n1,2024-02-03,1.00\n1,2024-02-04,2.00\n");
    world
        .run(&format!("load s.typhos.toml d.csv {into} --table u"))
        .status(3)
        .complains("2 rows were sent, 1 were added");
    assert_eq!(ask("SELECT count(*) FROM u"), "0");
    // With a trigger, or a column that is the number of its row, by way of a table beside.
    for table in [
        "CREATE TABLE v (id INTEGER PRIMARY KEY, day TEXT, fare REAL)",
        "CREATE TABLE v (id INTEGER NOT NULL, day TEXT, fare REAL); \
         CREATE TRIGGER w AFTER INSERT ON v WHEN new.id < 5 BEGIN DELETE FROM v WHERE id = new.id; END",
    ] {
        ask(&format!("DROP TABLE IF EXISTS v; {table}"));
        world.ok(&format!("load s.typhos.toml b.csv {into} --table v")).says("in a table beside");
        assert_eq!(ask("SELECT count(*) FROM v"), "3000");
    }
}
