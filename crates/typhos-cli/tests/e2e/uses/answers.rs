//! Groups and SQL against an engine that knows nothing of ours: the shell of SQLite over the same rows.

use std::process::Command;

use serde_json::Value;

use crate::world::{World, tool};

/// What the shell answers, a row a line, values with `|` between.
fn shell(world: &World, statement: &str) -> Vec<String> {
    let output =
        Command::new("sqlite3").arg(world.path("plain.db")).arg(statement).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap().lines().map(str::to_owned).collect()
}

/// The rows of a printed table as lines of the same form.
fn split(text: &str) -> Vec<String> {
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let rows = reader.records().map(|row| row.unwrap().iter().collect::<Vec<_>>().join("|"));
    rows.collect()
}

/// The demo's tickets, and the same in a database that the shell made of plain text.
fn world() -> World {
    let world = World::demo(3_000);
    world.ok("draft tickets.csv -o tickets.typhos.toml");
    world.ok("load tickets.typhos.toml tickets.csv --into tickets.parquet");
    world.ok("load tickets.typhos.toml tickets.csv --into tickets.arrow");
    let rows = world.ok("peek tickets.parquet --as csv --rows all").out;
    world.write("rows.csv", rows);
    // Money in cents, so that the shell is exact too; what is nothing between commas is absent.
    let script = ".mode csv\n.import rows.csv raw\ncreate table t as select cast(ticket_no as int) id, booking, sold_on, departs_at, route, cabin, cast(round(fare * 100) as int) cents, cast(party as int) party, nullif(note, '') note from raw;\n";
    world.write("make.sql", script);
    let made = Command::new("sqlite3")
        .arg("plain.db")
        .stdin(std::fs::File::open(world.path("make.sql")).unwrap())
        .current_dir(world.path(""))
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    world
}

/// Groups as lines, of the table in all its forms, which agree.
fn tally(world: &World, args: &[&str]) -> Vec<String> {
    let mut answers = ["tickets.typhos.toml tickets.csv", "tickets.parquet", "tickets.arrow"]
        .into_iter()
        .flat_map(|what| [(what, "1"), (what, "3")])
        .map(|(what, threads)| {
            let mut line: Vec<&str> = ["tally"].into_iter().chain(what.split(' ')).collect();
            line.extend(["--as", "csv", "-q", "--threads", threads]);
            split(&world.run_args(&[&line[..], args].concat()).status(0).out)
        });
    let first = answers.next().unwrap();
    answers.for_each(|other| assert_eq!(other, first, "{args:?}"));
    first
}

#[test]
fn groups_are_those_of_another_engine() {
    if !tool("sqlite3") {
        return;
    }
    let world = world();
    let money =
        "printf('%s%d.%02d', case when {} < 0 then '-' else '' end, abs({}) / 100, abs({}) % 100)";
    let money = |of: &str| money.replace("{}", of);
    for (by, show, more, statement) in [
        (
            "cabin, year(sold_on)",
            "count, sum(fare), min(fare), max(fare), sum(party), distinct(route)",
            &[][..],
            format!(
                "select cabin, cast(strftime('%Y', sold_on) as int) y, count(*), {}, {}, {}, sum(party), count(distinct route) from t group by 1, 2 order by 1, 2",
                money("sum(cents)"),
                money("min(cents)"),
                money("max(cents)")
            ),
        ),
        (
            "month(departs_at), hour(departs_at)",
            "count(note), distinct(note), max(sold_on), min(booking)",
            &["--where", "party > 2 and route != 'Holm'"],
            "select cast(strftime('%m', departs_at) as int), cast(strftime('%H', departs_at) as int), count(note), count(distinct note), max(sold_on), min(booking) from t where party > 2 and route <> 'Holm' group by 1, 2 order by 1, 2".into(),
        ),
        (
            "bucket(fare, 7.5)",
            "count, min(id) as first",
            &[],
            "select printf('%.2f', (cents / 750) * 7.5), count(*), min(id) from t group by 1 order by cents / 750".into(),
        ),
        (
            "note",
            "count",
            &["--sort", "count desc, note", "--top", "5"],
            "select note, count(*) n from t group by note order by n desc, note is null, note limit 5".into(),
        ),
        (
            "",
            "count, sum(party), distinct(booking), median(party)",
            &[],
            "select count(*), sum(party), count(distinct booking), (select avg(party) from (select party from t where party is not null order by party limit 2 - (select count(party) from t) % 2 offset (select (count(party) - 1) / 2 from t))) from t".into(),
        ),
        ("", "count", &["--where", "party > 200"], "select count(*) from t where party > 200".into()),
    ] {
        let show = show.replace("min(id)", "min(ticket_no)");
        let found = tally(&world, &[&["--by", by, "--show", &show][..], more].concat());
        let want: Vec<String> =
            shell(&world, &statement).iter().map(|line| line.trim_end_matches(".0").into()).collect();
        assert_eq!(found, want, "{by} {show}");
    }
}

#[test]
fn weekdays_and_weeks_are_those_of_iso_8601() {
    let world = world();
    let found = tally(&world, &["--by", "weekday(sold_on)", "--show", "count, share"]);
    let days: Vec<&str> = found.iter().map(|line| &line[..3]).collect();
    assert_eq!(days, ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"], "in their rank");
    let shares: f64 =
        found.iter().map(|line| line.rsplit('|').next().unwrap().parse::<f64>().unwrap()).sum();
    assert!((shares - 1.0).abs() < 1e-12, "{shares}");
    let at_sea =
        tally(&world, &["--by", "weekday(sold_on)", "--where", "weekday(sold_on) >= 'Sat'"]);
    assert_eq!(at_sea.len(), 2);
}

/// Extremes, sums and means of columns of every kind, of text and of both kinds of files, on one thread and on three.
#[test]
fn measures_are_of_columns_of_every_kind() {
    let world = World::new();
    world.write(
        "tickets.csv",
        "berth,depth,hull,mark,on,span,open,price\n\
         Holm,1.5,tug,11111111-2222-4333-8444-555555555555,2024-03-01,1:30:00,yes,1.10\n\
         Holm,-0.25,barge,21111111-2222-4333-8444-555555555555,2024-03-05,0:30:01,no,2.21\n\
         Sund,2e300,ferry,01111111-2222-4333-8444-555555555555,2024-02-01,30:00:00,no,3.30\n\
         Sund,,tug,,,,,\n\
         Ormsey,,,,,,,\n",
    );
    world.write(
        "tickets.typhos.toml",
        "typhos = 1\n[columns]\nberth = { type = \"text\" }\ndepth = { type = \"float64\" }\n\
         hull = { type = \"category\", values = [\"tug\", \"ferry\", \"barge\"], ranked = true }\nmark = { type = \"uuid\" }\n\
         on = { type = \"date\" }\nspan = { type = \"duration(s)\" }\nopen = { type = \"bool\" }\nprice = { type = \"decimal(6,2)\" }\n",
    );
    for target in ["tickets.parquet", "tickets.arrow"] {
        world.ok(&format!("load tickets.typhos.toml tickets.csv --into {target}"));
    }
    for (show, want) in [
        ("min(depth), max(depth)", ["-0.25|1.5", "|", "2e300|2e300"]),
        ("sum(depth), mean(depth)", ["1.25|0.625", "|", "2e300|2e300"]),
        // By rank, not by letters.
        ("min(hull), max(hull)", ["tug|barge", "|", "tug|ferry"]),
        (
            "max(mark), distinct(mark)",
            [
                "21111111-2222-4333-8444-555555555555|2",
                "|0",
                "01111111-2222-4333-8444-555555555555|1",
            ],
        ),
        ("min(on), max(on)", ["2024-03-01|2024-03-05", "|", "2024-02-01|2024-02-01"]),
        // The mean is the nearest second.
        (
            "sum(span), mean(span), max(span)",
            ["2:00:01|1:00:01|1:30:00", "||", "30:00:00|30:00:00|30:00:00"],
        ),
        ("min(open), max(open), count(open)", ["false|true|2", "||0", "false|false|1"]),
        ("sum(price), median(price)", ["3.31|1.655", "|", "3.30|3.3"]),
        ("share(price)", ["0.5007564296520424", "", "0.4992435703479576"]),
    ] {
        let found = tally(&world, &["--by", "berth", "--show", show]);
        let groups = ["Holm", "Ormsey", "Sund"].iter().zip(want);
        let want: Vec<String> = groups.map(|(berth, want)| format!("{berth}|{want}")).collect();
        assert_eq!(found, want, "{show}");
    }
    // Groups of all kinds of columns: each value once, what is absent last.
    for (by, want) in [("mark", 4), ("open", 3), ("depth", 4), ("span", 4), ("hull", 4), ("on", 4)]
    {
        let found = tally(&world, &["--by", by, "--show", "count"]);
        assert_eq!(found.len(), want, "{by}: {found:?}");
        assert!(found[want - 1].starts_with('|'), "{by}: {found:?}");
        let counts = found.iter().map(|line| line.rsplit('|').next().unwrap());
        assert_eq!(counts.map(|count| count.parse::<u64>().unwrap()).sum::<u64>(), 5);
    }
    for (show, told) in [
        ("sum(on)", "sum is of numbers, and 'on' is of type date"),
        ("mean(mark)", "mean is of numbers, and 'mark' is of type uuid"),
    ] {
        world.run_args(&["tally", "tickets.csv", "--show", show]).status(2).complains(told);
    }
}

/// More groups than the memory holds are put aside, and come back in order, each once; nothing is left behind.
#[test]
fn more_groups_than_memory_holds_are_grouped_all_the_same() {
    let world = World::new();
    let count = 600_000u64;
    let mut rows = String::from("id,name,n,x\n");
    // The id of every row is another one.
    let id_of = |row: u64| row * 7919 % count;
    let mut rows_of = vec![0; count as usize];
    for row in 0..count {
        let id = id_of(row);
        rows_of[id as usize] = row;
        rows.push_str(&format!("{id},name {id},{},{}.25\n", row % 5, row % 9));
    }
    world.write("n.csv", rows).write(
        "n.typhos.toml",
        "typhos = 1\n[columns]\nid = { type = \"uint32\" }\nname = { type = \"text\" }\nn = { type = \"uint8\" }\nx = { type = \"float64\" }\n",
    );
    let show = "count, sum(n), min(x), max(x)";
    let line = ["tally", "n.typhos.toml", "n.csv", "--by", "name, id", "--show", show];
    let more = ["--memory", "64MiB", "--as", "csv", "-q", "--sort", "id"];
    let found = world.run_args(&[&line[..], &more].concat()).status(0).out;
    let mut lines = found.lines().skip(1);
    for (id, row) in rows_of.into_iter().enumerate() {
        let (n, x) = (row % 5, row % 9);
        let want = format!("name {id},{id},1,{n},{x}.25,{x}.25");
        assert_eq!(lines.next(), Some(&*want));
    }
    assert_eq!(lines.next(), None);
    let left = std::fs::read_dir(std::env::temp_dir()).unwrap().flatten();
    let own = left.filter(|entry| {
        let name = entry.file_name();
        name.to_string_lossy().starts_with(".typhos-unfinished")
            && entry.path().join("run-1").exists()
    });
    // Another test may sort at the same time; what is left by nobody is old.
    for entry in own {
        let age = entry.metadata().unwrap().modified().unwrap().elapsed().unwrap_or_default();
        assert!(age.as_secs() < 120, "{:?} was left behind", entry.path());
    }
}

#[test]
fn charts_are_drawn_of_numbers() {
    let world = world();
    let draw = |kind: &str, by: &str, show: &str| {
        let line = ["tally", "tickets.parquet", "--by", by, "--show", show, "--chart", kind];
        world.run_args(&line)
    };
    let bars = draw("bar", "cabin", "mean(fare)").status(0);
    assert_eq!(bars.out.lines().count(), 4, "{}", bars.out);
    assert!(bars.out.contains("mean(fare) by cabin") && bars.out.contains('█'));
    assert!(draw("line", "sold_on", "count").status(0).out.contains("2025-12-"));
    assert!(draw("histogram", "bucket(fare, 5)", "count").status(0).out.contains('└'));
    let saved = ["tally", "tickets.parquet", "--by", "cabin", "--chart", "bar", "--save"];
    world.run_args(&[&saved[..], &["c.svg"]].concat()).status(0);
    let picture = world.read("c.svg");
    assert!(picture.starts_with("<svg role=\"img\"") && picture.contains("saloon"), "{picture}");
    world.run_args(&[&saved[..], &["c.svg"]].concat()).status(2).complains("exists already");
    world.run_args(&[&saved[..], &["c.png"]].concat()).status(0);
    let dots = std::fs::read(world.path("c.png")).unwrap();
    assert!(dots.starts_with(b"\x89PNG\r\n\x1a\n") && dots.ends_with(b"IEND\xaeB\x60\x82"));
    world.run_args(&[&saved[..], &["c.gif"]].concat()).status(2).complains("name a FILE.svg");
    draw("bar", "", "count").status(2).complains("say --by");
    draw("bar", "cabin", "max(note)").status(2).complains("'max(note)' is not a number");
}

#[test]
fn sql_is_answered_over_every_kind_of_table() {
    if !tool("sqlite3") {
        return;
    }
    let world = world();
    let statement = "select route, count(*), max(sold_on), count(note) from tickets where party > 2 group by route order by 1";
    let want = shell(&world, &statement.replace("from tickets", "from t"));
    for what in [
        &["tickets.csv"][..],
        &["tickets.typhos.toml", "tickets.csv"],
        &["tickets.parquet"],
        &["tickets.arrow"],
    ] {
        let ran = world.run_args(&[&["ask"], what, &[statement, "--as", "csv", "-q"]].concat());
        assert_eq!(split(&ran.status(0).out), want, "{what:?}");
    }
    let typed = world.run_args(&[
        "ask",
        "tickets.parquet",
        "select 1 a, 'x' b, null c, fare from tickets limit 1",
        "--json",
    ]);
    let typed = typed.parsed();
    assert_eq!(typed["rows"][0].as_array().unwrap()[..3], [1.into(), "x".into(), Value::Null]);
    for (statement, told) in [
        ("select far from tickets", "there is no column 'far'; did you mean 'fare'?"),
        ("delete from tickets", "a question may only read"),
        ("select 1 from trips", "the rows are the table \"tickets\""),
        ("selekt", "syntax error"),
    ] {
        world.run_args(&["ask", "tickets.parquet", statement]).status(2).complains(told);
    }
    world.run("ask tickets.parquet tickets.csv").status(2).complains("the question stands last");
    assert!(world.path("tickets.parquet").exists());
}

#[test]
fn every_misfit_is_listed() {
    let world = World::demo(300);
    world.ok("draft tickets.csv -o tickets.typhos.toml");
    for list in ["m.csv", "m.ndjson"] {
        let line = format!("check tickets.typhos.toml refused.csv --misfits {list}");
        world.run(&line).status(1).complains("15 misfits");
        let head = usize::from(list == "m.csv");
        assert_eq!(world.read(list).lines().count(), 15 + head);
        world.run(&line).status(2).complains("exists already");
        world.run(&format!("{line} --replace")).status(1);
    }
    assert!(world.read("m.csv").starts_with("file,line,column,value,reason\nrefused.csv,"));
    // More than five of one column, and each whole.
    let long = "x".repeat(400);
    let rows: String = (0..40).map(|row| format!("{row}{long}\n")).collect();
    world.write("n.csv", format!("n\n{rows}"));
    world.write("n.typhos.toml", "typhos = 1\n[columns]\nn = { type = \"uint8\" }\n");
    world.run("check n.typhos.toml n.csv --misfits n.ndjson").status(1);
    let text = world.read("n.ndjson");
    let listed: Vec<Value> = text.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(listed.len(), 40);
    assert_eq!(listed[39]["value"], format!("39{long}"));
    assert_eq!((&listed[39]["line"], &listed[39]["column"]), (&41.into(), &"n".into()));
    world.run("check n.typhos.toml n.csv --misfits n.csv --replace").status(2);
    assert!(world.read("n.csv").starts_with("n\n0xxx"), "an input is never written over");
}

/// More columns than the engine takes: those that a statement names are enough.
#[test]
fn a_table_of_very_many_columns_is_asked_for_some() {
    let world = World::new();
    let names: Vec<String> = (0..2_300).map(|at| format!("c{at}")).collect();
    let row = |of: usize| (0..2_300).map(|at| (at * of).to_string()).collect::<Vec<_>>().join(",");
    world.write("w.csv", format!("{}\n{}\n{}\n", names.join(","), row(1), row(2)));
    let asked = |statement: &str| world.run_args(&["ask", "w.csv", statement, "--as", "csv"]);
    assert_eq!(
        asked("select sum(c2299), count(*) from w").status(0).out,
        "sum(c2299),count(*)\n6897,2\n"
    );
    assert_eq!(asked("select count(*) from w").status(0).out, "count(*)\n2\n");
    asked("select * from w").status(2).complains("name those that are wanted in place of *");
}
