//! Inputs in parts: surveys that are pooled, loads that are committed.

use std::process::{Child, Stdio};

use serde_json::Value;

use crate::world::{Ran, World};

/// A file whose notes go over many lines, some of which look like records.
fn notes(world: &World, records: usize) {
    let lines = ["a, b", "\"\"so\"\"", "1,2,3", "hello", "", "x,y"];
    let mut text = "n,who,note\n".to_owned();
    let mut state = 7_u64;
    let mut next = |of: usize| {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as usize % of
    };
    for n in 0..records {
        let note: Vec<&str> = (0..=next(8)).map(|_| lines[next(lines.len())]).collect();
        text.push_str(&format!("{n},p{},\"{}\"\n", n % 7, note.join("\n")));
    }
    world.write("notes.csv", text);
}

fn spawned(world: &World, line: &str) -> Child {
    world.command(line).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

fn scouted(world: &World, files: &str, count: u32) -> String {
    let part =
        |number| format!("scout --part {number}/{count} {files} --save {number}.survey --replace");
    let all: Vec<Child> = (1..=count).map(|number| spawned(world, &part(number))).collect();
    // A part that began wrongly has records that cannot be split.
    let ended = all.into_iter().map(|mut child| child.wait().unwrap().code());
    ended.for_each(|code| assert!(matches!(code, Some(0 | 1)), "{code:?}"));
    (1..=count).map(|number| format!("{number}.survey")).collect::<Vec<_>>().join(" ")
}

#[test]
fn sixteen_processes_find_what_one_does() {
    let world = World::new();
    notes(&world, 6000);
    let parts = scouted(&world, "notes.csv", 16);
    world
        .ok(&format!("pool {parts} -o pooled.survey"))
        .complains("6,000 records of 1 file, from 16 surveys");
    world.ok("scout notes.csv --save whole.survey");
    assert!(
        std::fs::read(world.path("pooled.survey")).unwrap()
            == std::fs::read(world.path("whole.survey")).unwrap()
    );
    let draft = world.ok("draft pooled.survey").out;
    assert_eq!(draft, world.ok("draft notes.csv").out);
    assert!(draft.contains("6,000 records"), "{draft}");
}

#[test]
fn a_part_that_took_quoted_lines_for_records_is_surveyed_again() {
    let world = World::new();
    // A note that is a table of its own, longer than what is looked at.
    let inner: String = (0..90_000).map(|n| format!("{n},p,q\n")).collect();
    world.write("nested.csv", format!("n,who,note\n1,a,x\n2,b,\"{inner}\"\n3,c,y\n4,d,z\n"));
    let parts = scouted(&world, "nested.csv", 3);
    world
        .ok(&format!("pool {parts} -o pooled.survey"))
        .complains("part 2/3 took a line within quotes of nested.csv for a record")
        .complains("4 records of 1 file, from 3 surveys");
    world.ok("scout nested.csv --save whole.survey");
    assert_eq!(world.ok("draft pooled.survey").out, world.ok("draft nested.csv").out);
    // Where the input is not at hand, it is said what to do; and that does it.
    std::fs::rename(world.path("nested.csv"), world.path("away.csv")).unwrap();
    let told = world.run(&format!("pool {parts} -o again.survey")).status(4);
    let (_, begin) =
        told.err.split_once("scout part 2/3 again, with --begin ").expect("what to do");
    let begin = begin.trim().to_owned();
    std::fs::rename(world.path("away.csv"), world.path("nested.csv")).unwrap();
    world.ok(&format!("scout --part 2/3 --begin {begin} nested.csv --save 2b.survey"));
    world
        .run("scout --part 2/3 --begin 3 nested.csv --save 2c.survey")
        .status(2)
        .complains("byte 3 of nested.csv is outside of this part");
    world.ok(&format!("scout --part 3/3 --begin {begin} nested.csv --save 3b.survey"));
    world.ok("pool 1.survey 2.survey 2b.survey 3.survey 3b.survey -o again.survey");
    assert_eq!(world.ok("draft again.survey").out, world.ok("draft nested.csv").out);
}

#[test]
fn parts_go_over_files_of_any_kind() {
    let world = World::demo(300);
    for files in ["crossings", "tickets.csv", "engines.ndjson", "gauges.tsv", "vessels.csv"] {
        let parts = scouted(&world, files, 5);
        world.ok(&format!("pool {parts} -o pooled.survey --replace"));
        world.run(&format!("scout {files} --save whole.survey --replace"));
        let of = |name: &str| world.run(&format!("draft {name} --table t")).out;
        assert_eq!(of("pooled.survey"), of("whole.survey"), "{files}");
        let saved = |name: &str| std::fs::read(world.path(name)).unwrap();
        assert!(saved("pooled.survey") == saved("whole.survey"), "{files}");
    }
}

#[test]
fn surveys_of_parts_say_what_they_lack() {
    let world = World::demo(300);
    scouted(&world, "tickets.csv", 4);
    world
        .run("pool 1.survey 4.survey -o p.survey")
        .status(4)
        .complains("parts 2/4 and 3/4 are missing");
    world.run("draft 2.survey").status(4).complains("parts 1/4, 3/4 and 4/4 are missing");
    world.ok("scout --part 2/3 tickets.csv --save other.survey");
    world
        .run("pool 1.survey other.survey -o p.survey")
        .status(2)
        .complains("are not parts of one input");
    world
        .run("scout --part 5/4 tickets.csv --save x.survey")
        .status(2)
        .complains("from 1/4 to 4/4");
    world
        .run_with("scout --part 1/2 - --save x.survey", "a\n1\n")
        .status(2)
        .complains("a stream has no parts");
}

/// Drafts tickets, so that records that do not fit are set aside.
fn refused(world: &World) {
    world.ok("draft tickets.csv -o tickets.typhos.toml");
    let schema = world.read("tickets.typhos.toml");
    let line = |line: &str| match line.contains(" = { type = ") {
        true => line.replacen(" }", ", misfit = \"reject\" }", 1),
        false => line.replace("[input]", "[input]\nmisfit = \"reject\""),
    };
    world.write("tickets.typhos.toml", schema.lines().map(|l| line(l) + "\n").collect::<String>());
}

/// Tickets, the last hundredth of which are refused.
fn some_refused(world: &World) {
    refused(world);
    let read = |name: &str| std::fs::read(world.path(name)).unwrap();
    let (tickets, wrong) = (read("tickets.csv"), read("refused.csv"));
    let below = |text: &[u8]| text[text.iter().position(|b| *b == b'\n').unwrap() + 1..].to_vec();
    world.write("all.csv", [tickets.clone(), below(&wrong), below(&tickets)].concat());
}

fn rows(world: &World, path: &str) -> Vec<Value> {
    let mut rows = world.json(&format!("peek {path} --rows 100000 --json"))["rows"]
        .as_array()
        .unwrap()
        .clone();
    rows.sort_by_key(Value::to_string);
    rows
}

#[test]
fn a_load_in_parts_is_the_load_of_the_whole() {
    let world = World::demo(2000);
    some_refused(&world);
    world.run("load tickets.typhos.toml all.csv --into whole.parquet").status(1);
    let parts: Vec<Child> = (1..=7)
        .map(|n| {
            spawned(
                &world,
                &format!("load --part {n}/7 tickets.typhos.toml all.csv --into lake --threads 1"),
            )
        })
        .collect();
    for mut child in parts {
        assert!([0, 1].contains(&child.wait().unwrap().code().unwrap()));
    }
    assert!(!world.path("lake").exists(), "nothing is visible yet");
    let committed = committed(&world, "commit lake.stage --json");
    let whole =
        world.run("load tickets.typhos.toml all.csv --into w2.parquet --json").status(1).parsed();
    for key in ["read", "loaded", "set_aside"] {
        assert_eq!(committed["account"][key], whole["account"][key], "{key}");
    }
    assert_eq!(rows(&world, "lake"), rows(&world, "whole.parquet"));
    let bytes = |name: &str| std::fs::read(world.path(name)).unwrap();
    assert!(bytes("lake.rejects.csv") == bytes("whole.parquet.rejects.csv"));
    assert_eq!(committed["proof"]["proven"], true);
    // What is done is done: neither a late part nor a second commit changes anything.
    world
        .run("load --part 3/7 tickets.typhos.toml all.csv --into lake")
        .status(0)
        .complains("published before");
    world.ok("commit lake.stage").complains("were published before");
    assert_eq!(rows(&world, "lake").len() as u64, committed["account"]["loaded"].as_u64().unwrap());
}

fn committed(world: &World, line: &str) -> Value {
    let ran: Ran = world.run(line);
    assert!([0, 1].contains(&ran.status), "{}\n{}", ran.out, ran.err);
    ran.parsed()
}

#[test]
fn what_a_load_in_parts_lacks_is_said_and_nothing_is_visible() {
    let world = World::demo(500);
    refused(&world);
    let part =
        |n: u32| format!("load --part {n}/3 tickets.typhos.toml tickets.csv --into lake --stage s");
    world.ok(&part(1)).complains("part 1/3 waits in s");
    world.ok(&part(3));
    world.ok(&part(3)).complains("part 3/3 is there");
    world.run("commit s").status(4).complains("part 2/3 is missing");
    world.ok(&part(2));
    // A file that was cut short.
    let folder = std::fs::read_dir(world.path("s")).unwrap().map(|entry| entry.unwrap().path());
    let folder = folder
        .into_iter()
        .find(|path| path.is_dir() && path.to_string_lossy().contains("part-00002-"))
        .unwrap();
    let file = folder.join("part-00001.parquet");
    let bytes = std::fs::read(&file).unwrap();
    std::fs::write(&file, &bytes[..bytes.len() - 1]).unwrap();
    world.run("commit s").status(4).complains("the part is taken back");
    assert!(!world.path("lake").exists());
    world.run("commit s").status(4).complains("part 2/3 is missing");
    world.ok(&part(2));
    world.ok("commit s").says("500 read = 500 loaded + 0 set aside").says("3 parts fit together");
    assert_eq!(rows(&world, "lake").len(), 500);
    world.run("commit nowhere").status(3);
}

#[test]
fn parts_that_were_not_loaded_in_one_way_are_not_published() {
    let world = World::new();
    let rows = |row: u32| if row == 3 || row == 1500 { "bad".into() } else { row.to_string() };
    let text: String = (0..2000).map(|row| format!("{row},{}\n", rows(row))).collect();
    world.write("t.csv", format!("id,x\n{text}"));
    let schema = "typhos = 1\n[columns]\nid = { type = \"uint16\" }\nx = { type = \"uint16\", misfit = \"reject\" }\n";
    world.write("s.typhos.toml", schema);
    world.write("wide.typhos.toml", schema.replace("\"uint16\" }", "\"uint32\" }"));
    let part = |schema: &str, n: u32, more: &str| {
        let ran =
            world.run(&format!("load {schema}.typhos.toml t.csv --part {n}/3 --stage st {more}"));
        assert!([0, 1].contains(&ran.status), "{}", ran.err);
        ran
    };
    let refused = |told: &str| {
        world.run("commit st").status(4).complains(told);
        assert!(!world.path("lake").exists() && !world.path("sea").exists());
    };
    // The record that does not fit is told with the part that has it.
    part("s", 1, "--into lake").says("t.csv:5  x: 'bad' is not an integer").says("1 set aside");
    part("wide", 2, "--into lake");
    part("s", 3, "--into lake");
    world
        .run("commit st")
        .status(2)
        .complains("part 1/3 and part 2/3 were loaded under different schemas or settings");
    part("s", 2, "--into sea");
    world.run("commit st").status(2).complains("were loaded into different targets");
    part("s", 2, "--into lake --misfit-limit 1");
    world.run("commit st").status(2).complains("were loaded with different limits of misfits");
    part("s", 2, "--into lake");
    world
        .run("commit st")
        .status(1)
        .says("2,000 read = 1,998 loaded + 2 set aside")
        .says("t.csv:1502  x: 'bad' is not an integer");
    assert_eq!(world.read("lake.rejects.csv").lines().count(), 3);
    world.run("commit st").status(0).complains("were published before");
    std::fs::remove_dir_all(world.path("lake")).unwrap();
    std::fs::remove_dir_all(world.path("st")).unwrap();
    std::fs::remove_file(world.path("lake.rejects.csv")).unwrap();

    for n in 1..=3 {
        part("s", n, "--into lake --misfit-limit 1");
    }
    refused("2 misfits in 2,000 records, and no more than 1 are let through");
    // A file that is gone, and one that is no file of rows any more.
    let file = |n: u32| {
        let folders =
            std::fs::read_dir(world.path("st")).unwrap().map(|entry| entry.unwrap().path());
        let mut of_part = folders.filter(|path| {
            path.is_dir() && path.to_string_lossy().contains(&format!("part-0000{n}-"))
        });
        of_part.next().unwrap().join("part-00001.parquet")
    };
    for n in 1..=3 {
        part("s", n, "--into lake --misfit-limit 2");
    }
    let whole = file(2);
    let bytes = std::fs::read(&whole).unwrap();
    std::fs::remove_file(&whole).unwrap();
    refused("part-00001.parquet is not there; the part is taken back");
    part("s", 2, "--into lake --misfit-limit 2");
    std::fs::write(file(2), vec![b'x'; bytes.len()]).unwrap();
    refused("cannot be read");
    part("s", 2, "--into lake --misfit-limit 2");
    world.run("commit st").status(1).says("2,000 read = 1,998 loaded + 2 set aside");
    std::fs::create_dir(world.path("empty")).unwrap();
    world.run("commit empty").status(2).complains("empty has no parts in it");
}

#[test]
fn a_part_of_a_load_that_began_wrongly_is_loaded_again() {
    let world = World::new();
    let inner: String = (0..90_000).map(|n| format!("{n},p,q\n")).collect();
    world.write("nested.csv", format!("n,who,note\n1,a,x\n2,b,\"{inner}\"\n3,c,y\n4,d,z\n"));
    world.ok("draft nested.csv -o n.typhos.toml");
    let load =
        |n: u32| world.run(&format!("load --part {n}/3 n.typhos.toml nested.csv --into lake"));
    // Out of order: nobody can know where the later ones begin.
    for n in [3, 2, 1] {
        load(n);
    }
    let mut tries = 0;
    let done = loop {
        let ran = world.run("commit lake.stage");
        tries += 1;
        if ran.status != 4 || tries > 4 {
            break ran;
        }
        (1..=3).for_each(|n| drop(load(n)));
    };
    assert!(tries > 1, "the first try knew it all");
    done.status(0).says("4 read = 4 loaded + 0 set aside");
    assert_eq!(rows(&world, "lake").len(), 4);
}

#[test]
fn what_takes_the_whole_input_is_refused_in_parts() {
    let world = World::demo(100);
    world.ok("draft tickets.csv -o t.typhos.toml");
    let schema = world.read("t.typhos.toml");
    for (with, why) in [
        (format!("{schema}\n[layout]\nkey = [\"ticket_no\"]\n"), "no key comes twice"),
        (
            schema.replace(
                "[columns]\n",
                "[columns]\nn = { type = \"uint32\", generate = \"row-number\" }\n",
            ),
            "counts all rows",
        ),
        (
            schema.replace(
                "[columns]\n",
                "[columns]\nfare2 = { type = \"auto\", from = \"fare\" }\n",
            ),
            "decided from all rows",
        ),
    ] {
        world.write("x.typhos.toml", with);
        world.run("load --part 1/2 x.typhos.toml tickets.csv --into lake").status(2).complains(why);
    }
    world.run("load --part 1/2 t.typhos.toml tickets.csv --into postgres://a@b/c").status(2);
}

/// Loads in parts of which processes are killed at random, run twice or not at all, and commits that come too early, twice
/// at once, or are killed: what is visible is nothing, or all of it, once.
#[test]
fn whatever_becomes_of_its_processes_a_load_in_parts_is_whole_or_not_there() {
    const SCHEDULES: u64 = 100;
    const PARTS: u64 = 4;
    let world = World::demo(400);
    std::fs::create_dir(world.path("lake")).unwrap();
    refused(&world);
    let mut state = 11_u64;
    let mut next = |of: u64| {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % of
    };
    // Every fourth one goes into a table of a lake, and the others into directories.
    let is_table = |schedule: u64| schedule % 4 == 3;
    for schedule in 0..SCHEDULES {
        let name = format!("lake{schedule}");
        let into = match is_table(schedule) {
            true => {
                format!("iceberg+sqlite:lake/catalog.db --table ferry.{name} --stage {name}.stage")
            }
            false => name.clone(),
        };
        let load = |part: u64| {
            format!(
                "load --part {part}/{PARTS} tickets.typhos.toml tickets.csv --into {into} --threads 1"
            )
        };
        let commit = format!("commit {name}.stage");
        let is_whole = |when: &str| {
            if world.path(&name).exists() {
                assert_eq!(rows(&world, &name).len(), 400, "{when}, schedule {schedule}");
                return true;
            }
            is_table(schedule)
        };
        for _ in 0..6 {
            let line = if next(4) == 0 { commit.clone() } else { load(1 + next(PARTS)) };
            let mut child = spawned(&world, &line);
            match next(3) {
                0 => {
                    std::thread::sleep(std::time::Duration::from_millis(next(120)));
                    let _ = child.kill();
                }
                // Another attempt, at the same time.
                1 => assert!(spawned(&world, &line).wait().is_ok()),
                _ => {}
            }
            child.wait().unwrap();
            is_whole("half-way");
        }
        // The loop that a person or a scheduler would run.
        let done = (0..4).any(|_| {
            (1..=PARTS).for_each(|part| drop(world.run(&load(part))));
            world.run(&commit).status == 0
        });
        assert!(done && is_whole("in the end"), "schedule {schedule}");
        let left = world.names().into_iter().filter(|name| name.contains("unfinished"));
        assert_eq!(left.count(), 0);
    }
    let tables: Vec<String> =
        (0..SCHEDULES).filter(|at| is_table(*at)).map(|at| format!("ferry.lake{at}")).collect();
    let names: Vec<&str> = tables.iter().map(String::as_str).collect();
    let Some(found) = crate::iceberg::read(&world, &names) else { return };
    for table in &tables {
        let snapshots = found[table]["snapshots"].as_array().unwrap();
        assert_eq!((snapshots.len(), &snapshots[0]["rows"]), (1, &400.into()), "{table}");
    }
}

/// The script that is written does its work, does only what is left of it when it is run again, and gives every part
/// the options that are said.
#[test]
fn a_shell_runs_parts_and_runs_them_again() {
    let world = World::demo(300);
    std::fs::rename(world.path("tickets.csv"), world.path("it's tickets.csv")).unwrap();
    let plan = |words: &[&str]| {
        let words =
            [&["plan-parts", "it's tickets.csv", "--count", "5", "--for", "shell"], words].concat();
        world.run_args(&words).status(0)
    };
    let shell = |script: &str| {
        let mut command = std::process::Command::new("sh");
        command
            .arg(script)
            .current_dir(world.path("."))
            .env("JOBS", "2")
            .env("TYPHOS", env!("CARGO_BIN_EXE_typhos"));
        command.output().unwrap()
    };
    plan(&["--save", "t.survey", "-o", "survey.sh", "--", "--absent", "NA,-"]);
    assert!(shell("survey.sh").status.success());
    world
        .run_args(&["scout", "it's tickets.csv", "--save", "whole.survey", "--absent", "NA,-"])
        .status(0);
    let bytes = |name: &str| std::fs::read(world.path(name)).unwrap();
    assert!(bytes("t.survey") == bytes("whole.survey"));

    world.ok("draft t.survey -o t.typhos.toml");
    plan(&["--load", "t.typhos.toml", "--into", "lake", "-o", "load.sh"]);
    // A part that fails ends it before anything is visible.
    std::fs::rename(world.path("t.typhos.toml"), world.path("away")).unwrap();
    assert!(!shell("load.sh").status.success() && !world.path("lake").exists());
    std::fs::rename(world.path("away"), world.path("t.typhos.toml")).unwrap();
    let told = shell("load.sh");
    assert!(told.status.success(), "{}", String::from_utf8_lossy(&told.stderr));
    world.ok("peek lake --rows 1").says("1 of 300 rows");
    assert!(shell("load.sh").status.success(), "it is done already");
    world.ok("peek lake --rows 1").says("1 of 300 rows");

    // A name with a line end in it stays a name.
    let script = world.run_args(&[
        "plan-parts",
        "a\ntouch gone.csv",
        "--count",
        "2",
        "--for",
        "shell",
        "--save",
        "x",
        "-o",
        "odd.sh",
    ]);
    script.status(0);
    assert!(!shell("odd.sh").status.success() && !world.path("gone.csv").exists());
    world.run_args(&["plan-parts", "-", "--count", "2", "--for", "shell", "--save", "x"]).status(2);
    world
        .run("plan-parts a.csv --count 2 --for shell")
        .status(2)
        .complains("--save SURVEY, or --load SCHEMA");
}

/// What Kubernetes is given is what the published schema of its API says, and its containers do the work.
#[test]
fn kubernetes_takes_the_jobs_and_their_containers_do_the_work() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let python = root.join("target/python/bin");
    if !crate::world::tool(&python.join("kubernetes-validate").display().to_string()) {
        return;
    }
    let world = World::demo(200);
    world.ok("draft tickets.csv -o t.typhos.toml");
    world
        .ok("plan-parts tickets.csv --count 3 --for kubernetes --load t.typhos.toml --into lake --volume ferries -o jobs.yaml")
        .says("kubectl apply -f jobs.yaml");
    let python = |program: &str, args: &[&str]| {
        let mut command = std::process::Command::new(python.join(program));
        command.args(args).current_dir(world.path(".")).env("TYPHOS", env!("CARGO_BIN_EXE_typhos"));
        let told = command.output().unwrap();
        assert!(
            told.status.success(),
            "{}{}",
            String::from_utf8_lossy(&told.stdout),
            String::from_utf8_lossy(&told.stderr)
        );
    };
    python("kubernetes-validate", &["--strict", "jobs.yaml"]);
    world.write("run.py", r#"
import os, subprocess, yaml
for job in yaml.safe_load_all(open("jobs.yaml")):
    spec = job["spec"]
    container = spec["template"]["spec"]["containers"][0]
    indexed = spec.get("completionMode") == "Indexed"
    for index in range(spec["completions"] if indexed else 1):
        subprocess.run(container["command"] + container["args"], check=True, env={**os.environ, "JOB_COMPLETION_INDEX": str(index)})
"#);
    python("python", &["run.py"]);
    world.ok("peek lake --rows 1").says("1 of 200 rows");
}
