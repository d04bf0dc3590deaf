//! The road from a file to a typed table, command by command.

use crate::world::World;

#[test]
fn the_demo_tells_the_whole_story() {
    let world = World::new();
    let ran = world.ok("demo ferry --rows 2000");
    for step in ["scout", "draft", "check", "weigh", "load", "peek", "tally", "report"] {
        assert!(ran.out.contains(&format!("$ typhos {step}")), "{step}");
    }
    let ran = ran
        .says("2,000 read = 2,000 loaded + 0 set aside")
        .says("57 read = 42 would load + 15 would not");
    ran.says("every value fits")
        .says("ticket_no  booking")
        .says("documents found; the first of them:")
        .says("Everything is in ferry. Try next:");
    for file in [
        "ferry/tickets.parquet/part-00002.parquet",
        "ferry/ferry.sqlite",
        "ferry/crossings.index/meta.json",
        "ferry/tickets.typhos.toml",
        "ferry/tickets.html",
    ] {
        assert!(world.path(file).exists(), "{file}");
    }
    // Once more over its own folder, but never over another's.
    world.ok("demo ferry --rows 100 --data-only");
    world.write("mine.txt", "x");
    world.run("demo .").status(2).complains("is there and not empty");
}

#[test]
fn the_commands_the_demo_ends_with_work() {
    let world = World::demo(2000);
    world.ok("draft tickets.csv -o tickets.typhos.toml");
    world.ok("scout tickets.csv --column booking").says("digits, but").says("start with 0");
    world.ok("scout gauges.tsv").says("timestamp(ns, utc)").says("tab");
    let peek = ["peek", "tickets.typhos.toml", "tickets.csv", "--where", "fare > 80", "--sort"];
    world.run_args(&[&peek[..], &["fare desc"]].concat()).status(0).says("timestamp(s)");
    let question = "select route, max(fare) from tickets group by route";
    world.run_args(&["ask", "tickets.csv", question]).status(0).says("Marrow Isle");
}

#[test]
fn scout_finds_the_types_of_tickets() {
    let world = World::demo(3000);
    let report = world.json("scout tickets.csv --json");
    assert_eq!((&report["typhos"], &report["records"]), (&1.into(), &3000.into()));
    let types: Vec<_> = report["columns"]
        .as_array()
        .unwrap()
        .iter()
        .map(|c| (c["name"].as_str().unwrap(), c["type"].as_str().unwrap()))
        .collect();
    assert_eq!(
        types,
        [
            ("ticket_no", "uint16"),
            ("booking", "text(8)"),
            ("sold_on", "date"),
            ("departs_at", "timestamp(s)"),
            ("route", "category"),
            ("cabin", "category"),
            ("fare", "decimal(5,2)"),
            ("party", "uint8"),
            ("Sold by (agent)", "lowcard"),
            ("note", "lowcard"),
        ]
    );
    assert_eq!(report["columns"][2]["patterns"][0]["pattern"], "MM/dd/yy");
    assert_eq!(report["columns"][0]["max"], "3000");
}

/// The facts of scout against a plain walk over the same file.
#[test]
fn scout_counts_what_a_plain_walk_counts() {
    let world = World::demo(5000);
    let report = world.json("scout tickets.csv --json --headroom 1");
    let mut reader = csv::Reader::from_path(world.path("tickets.csv")).unwrap();
    let names = reader.headers().unwrap().clone();
    let records: Vec<_> = reader.records().map(|record| record.unwrap()).collect();
    for (at, name) in names.iter().enumerate() {
        let column = &report["columns"][at];
        let values: Vec<&str> = records.iter().map(|record| &record[at]).collect();
        let present: Vec<&str> = values.iter().copied().filter(|value| !value.is_empty()).collect();
        let distinct: std::collections::HashSet<_> = present.iter().collect();
        assert_eq!(column["name"], name);
        assert_eq!(column["absent"], values.len() - present.len(), "{name}");
        assert_eq!(column["distinct"], distinct.len(), "{name}");
        assert_eq!(
            column["max_chars"],
            present.iter().map(|value| value.chars().count()).max().unwrap(),
            "{name}"
        );
        if column["type"].as_str().unwrap().starts_with("uint") {
            let numbers = present.iter().map(|value| value.parse::<u64>().unwrap());
            assert_eq!(column["min"], numbers.clone().min().unwrap().to_string(), "{name}");
            assert_eq!(column["max"], numbers.max().unwrap().to_string(), "{name}");
        }
    }
}

#[test]
fn a_draft_is_edited_and_obeyed() {
    let world = World::new();
    world.write("t.csv", "id,Sold by (agent),when,note,level\n1,web,03/31/24,x,low\n2,,01/01/24,y,high\n3,kiosk,12/31/24,z,low\n");
    let drafted = world.ok("draft t.csv").out;
    assert!(
        drafted.contains("# Drafted by typhos from t.csv: 3 records.") && drafted.contains("when"),
        "{drafted}"
    );
    world.write(
        "t.typhos.toml",
        "typhos = 1\n[columns]\nagent = { type = \"lowcard\", from = \"Sold by (agent)\" }\n\
         id = { type = \"int64\", required = true }\n\
         when = { type = \"date\", patterns = [\"MM/dd/yy\"] }\n\
         level = { type = \"category\", values = [\"low\", \"high\"], ranked = true }\n# note = { type = \"text\" }\n",
    );
    world.ok("check t.typhos.toml t.csv").says("3 read = 3 would load + 0 would not");
    world.ok("load t.typhos.toml t.csv --into t.parquet").says("3 rows, 4 columns");
    let peeked = world.json("peek t.parquet --json");
    assert_eq!(
        peeked["columns"],
        serde_json::json!([
            { "name": "agent", "type": "lowcard" }, { "name": "id", "type": "int64" },
            { "name": "when", "type": "date" }, { "name": "level", "type": "category" },
        ])
    );
    assert_eq!(peeked["rows"][1], serde_json::json!([null, "2", "2024-01-01", "high"]));
    assert_eq!(peeked["total"], 3);
    assert_eq!(world.json("peek t.typhos.toml t.csv --json")["rows"], peeked["rows"]);
}

#[test]
fn rejected_records_can_be_mended_and_loaded_by_themselves() {
    let world = World::demo(10);
    world.ok("draft tickets.csv -o tickets.typhos.toml --headroom 10");
    let schema = world.read("tickets.typhos.toml");
    let schema = schema.replace("header = true", "header = true\nmisfit = \"reject\"");
    let schema = schema.replace("type = \"uint8\"", "type = \"uint8\", misfit = \"reject\"");
    world.write("t.typhos.toml", schema);
    world.write(
        "more.csv",
        format!(
            "{}11,x\n12,40118254,06/30/24,2024-07-09 09:00:00,Holm,deck,7.25,many,web,\n",
            world.read("tickets.csv")
        ),
    );
    let ran = world.run("load t.typhos.toml more.csv --into t.parquet").status(1);
    let ran = ran.says("12 read = 10 loaded + 2 set aside").says("rejects.csv");
    ran.says("more.csv:12  the record has 2 fields instead of 10");
    let rejects = world.read(&world.rejects());
    let lines: Vec<_> = rejects.lines().collect();
    assert_eq!(lines.len(), 3, "{rejects}");
    assert!(
        lines[0].ends_with("note,rejected_file,rejected_line,rejected_column,rejected_reason"),
        "{rejects}"
    );
    assert_eq!(lines[1], "11,x,,,,,,,,,more.csv,12,,has 2 fields instead of 10");
    assert_eq!(
        lines[2],
        "12,40118254,06/30/24,2024-07-09 09:00:00,Holm,deck,7.25,many,web,,more.csv,13,party,is not an integer"
    );
    let mended = format!("{}\n{}\n", lines[0], lines[2].replace(",many,", ",4,"));
    world.write("mended.csv", mended);
    world
        .ok("load t.typhos.toml mended.csv --into mended.parquet")
        .says("1 read = 1 loaded + 0 set aside");
}

#[test]
fn rejects_of_another_encoding_load_under_the_same_schema() {
    let world = World::new();
    world.write("t.csv", b"port,n\nT\xe5rnvik,many\nHolm,1\n");
    let columns = "port = { type = \"text\" }\nn = { type = \"int8\", misfit = \"reject\" }\n";
    world.write(
        "s.typhos.toml",
        format!("typhos = 1\n[input]\nencoding = \"latin1\"\n[columns]\n{columns}"),
    );
    world
        .run("load s.typhos.toml t.csv --into t.parquet")
        .status(1)
        .says("2 read = 1 loaded + 1 set aside");
    let rejects = world.read(&world.rejects());
    assert!(rejects.contains("Tårnvik,many,t.csv,2,n,is not an integer"), "{rejects}");
    world.write("mended.csv", rejects.replace("many", "2"));
    world
        .ok("load s.typhos.toml mended.csv --into m.parquet")
        .says("1 read = 1 loaded + 0 set aside");
    assert_eq!(world.json("peek m.parquet --json")["rows"], serde_json::json!([["Tårnvik", "2"]]));
}

#[test]
fn misfits_become_null_where_that_is_declared() {
    let world = World::new();
    world.write("t.csv", "a,b\n1,x\nmany,y\n");
    world.write("t.typhos.toml", "typhos = 1\n[columns]\na = { type = \"int8\", misfit = \"null\" }\nb = { type = \"text\" }\n");
    world
        .run("load t.typhos.toml t.csv --into t.parquet")
        .status(1)
        .says("2 read = 2 loaded + 0 set aside; 1 value made null");
    assert_eq!(
        world.json("peek t.parquet --json")["rows"],
        serde_json::json!([["1", "x"], [null, "y"]])
    );
    assert_eq!(world.names(), ["t.csv", "t.parquet", "t.typhos.toml"]);
}

#[test]
fn threads_change_nothing_that_is_written() {
    let world = World::demo(30_000);
    let reports: Vec<_> = [1, 2, 5]
        .iter()
        .map(|n| world.ok(&format!("scout tickets.csv --json --threads {n}")).out)
        .collect();
    assert!(reports.iter().all(|report| *report == reports[0]));
    world.ok("draft tickets.csv -o t.typhos.toml");
    let files: Vec<_> = [1, 2, 5]
        .iter()
        .map(|n| {
            world.ok(&format!("load t.typhos.toml tickets.csv --into t{n}.parquet --threads {n}"));
            std::fs::read(world.path(&format!("t{n}.parquet"))).unwrap()
        })
        .collect();
    assert!(files.iter().all(|file| *file == files[0]));
}

#[test]
fn parts_hold_all_rows_in_order() {
    let world = World::demo(5000);
    world.ok("draft tickets.csv -o t.typhos.toml");
    world.ok("load t.typhos.toml tickets.csv --into lake --parts 7").says("lake in 7 parts");
    let parts = std::fs::read_dir(world.path("lake")).unwrap().count();
    assert_eq!(parts, 8, "and the list of them");
    let peeked = world.json("peek lake --rows 5000 --json");
    assert_eq!(peeked["total"], 5000);
    let rows = peeked["rows"].as_array().unwrap();
    assert!(
        rows.iter().zip(1..).all(|(row, number)| row[0].as_str() == Some(&format!("{number}")))
    );
    let counts: Vec<_> = (1..=7)
        .map(|n| {
            world.json(&format!("peek lake/part-0000{n}.parquet --json"))["total"].as_u64().unwrap()
        })
        .collect();
    assert!(counts.iter().all(|count| (500..1000).contains(count)), "{counts:?}");
}

#[test]
fn other_dialects_are_found_or_said() {
    let world = World::new();
    for (name, text) in [
        ("semicolon.csv", "a;b\r\n1,5;\"x;\r\ny\"\r\n2,5;z\r\n"),
        ("tab.tsv", "a\tb\n1,5\t\"x;\ny\"\n2,5\tz\n"),
        ("pipe.txt", "\u{feff}a|b\n1,5|\"x;\ny\"\n2,5|z\n"),
    ] {
        world.write(name, text);
        let report = world.json(&format!("scout {name} --json"));
        assert_eq!(report["records"], 2, "{name}");
        assert_eq!(report["columns"][0]["name"], "a", "{name}");
        assert_eq!(report["columns"][1]["distinct"], 2, "{name}");
    }
    world.write("bare.csv", "1;x\n2;y\n");
    let report = world.json("scout bare.csv --json");
    assert_eq!((&report["input"]["header"], &report["records"]), (&false.into(), &2.into()));
    let schema = world.ok("draft bare.csv").out;
    assert!(
        schema.contains("column_1 = { type = \"uint8\", from = 1, required = true }"),
        "{schema}"
    );
    world.write("bare.typhos.toml", schema);
    world.ok("load bare.typhos.toml bare.csv --into bare.parquet").says("2 rows");
    assert_eq!(world.json("scout bare.csv --header true --json")["records"], 1);
    assert_eq!(
        world.json("scout bare.csv --delimiter comma --header false --json")["columns"]
            .as_array()
            .unwrap()
            .len(),
        1
    );
}

#[test]
fn several_files_are_one_table() {
    let world = World::new();
    world.write("a.csv", "n,t\n1,x\n").write("b.csv", "n,t\n300,y\n");
    let report = world.json("scout a.csv b.csv --json --headroom 1");
    assert_eq!((&report["records"], &report["columns"][0]["type"]), (&2.into(), &"uint16".into()));
    world.write("s.typhos.toml", "typhos = 1\n[columns]\nn = { type = \"uint8\" }\n");
    world
        .run("check s.typhos.toml a.csv b.csv")
        .status(1)
        .says("b.csv:2  '300' is outside of uint8: 0 to 255");
}

/// The same table, however its bytes are encoded, packed and handed over.
#[test]
fn encodings_packing_streams_and_directories() {
    use std::io::Write;
    let world = World::new();
    let text = "port;n\nTårnvik;1\nHolm;2\n";
    let latin: Vec<u8> = text.chars().map(|letter| letter as u8).collect();
    let utf16: Vec<u8> = "\u{feff}"
        .chars()
        .chain(text.chars())
        .map(|c| c as u16)
        .flat_map(u16::to_le_bytes)
        .collect();
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(text.as_bytes()).unwrap();
    world.write("plain.csv", text).write("latin.csv", &latin).write("utf16.csv", utf16);
    world.write("packed.data", gzip.finish().unwrap());
    world.write(
        "s.typhos.toml",
        "typhos = 1\n[columns]\nport = { type = \"text\" }\nn = { type = \"uint8\" }\n",
    );
    let want = serde_json::json!([["Tårnvik", "1"], ["Holm", "2"]]);
    for (line, encoding) in [
        ("plain.csv", "utf-8"),
        ("latin.csv --encoding windows-1252", "windows-1252"),
        ("utf16.csv", "utf-16le"),
        ("packed.data", "utf-8"),
    ] {
        assert_eq!(
            world.json(&format!("scout {line} --json"))["input"]["encoding"],
            encoding,
            "{line}"
        );
        assert_eq!(
            world.json(&format!("peek s.typhos.toml {line} --json"))["rows"],
            want,
            "{line}"
        );
        let into = format!("load s.typhos.toml {line} --into t.parquet --mode replace");
        world.ok(&into).says("2 read = 2 loaded + 0 set aside");
        assert_eq!(world.json("peek t.parquet --json")["rows"], want, "{line}");
    }
    world.ok("scout packed.data").says("bytes of gzip").says("2 records");
    let drafted = world.ok("draft latin.csv --encoding latin1").out;
    assert!(drafted.contains("encoding = \"windows-1252\""), "{drafted}");
    // Without a word on the encoding it is judged, and told with the words that come out.
    world
        .ok("scout latin.csv")
        .says("windows-1252  likely: not UTF-8, and it reads 'Tårnvik'")
        .says("would read as well");
    world
        .run("check s.typhos.toml latin.csv --encoding utf-8")
        .status(1)
        .says("'T\\xe5rnvik' is not valid UTF-8");

    let mut child = world
        .command("scout - --json")
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    let report: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(
        (&report["records"], &report["input"]["files"][0]),
        (&2.into(), &"standard input".into())
    );

    // A pipe under a name can be read only once too.
    let mut shell = std::process::Command::new("bash");
    shell.arg("-c").arg("\"$0\" load s.typhos.toml <(cat utf16.csv) --into pipe.parquet");
    shell.arg(env!("CARGO_BIN_EXE_typhos")).current_dir(world.path("."));
    assert!(shell.output().unwrap().status.success());
    assert_eq!(world.json("peek pipe.parquet --json")["rows"], want);

    std::fs::create_dir(world.path("months")).unwrap();
    world
        .write("months/b.csv", "port;n\nSund;3\n")
        .write("months/a.csv", text)
        .write("months/.hidden", "x");
    let report = world.json("scout months --json");
    assert_eq!(report["input"]["files"], serde_json::json!(["months/a.csv", "months/b.csv"]));
    assert_eq!(report["records"], 3);
}

#[test]
fn an_ambiguous_date_is_a_question_with_its_answer() {
    let world = World::new();
    world.write("t.csv", "d,n\n03/04/24,1\n05/06/24,2\n");
    let ran = world
        .run("draft t.csv")
        .status(1)
        .complains("(--date-order dmy)")
        .complains("(--date-order mdy)");
    assert!(
        ran.out.contains(
            "a date, but which? patterns = [\"yy/MM/dd\"] or patterns = [\"dd/MM/yy\"] or patterns = [\"MM/dd/yy\"]"
        ),
        "{}",
        ran.out
    );
    let report = world.json("scout t.csv --json");
    assert_eq!(report["columns"][0]["question"]["choices"][1]["date_order"], "dmy");
    world.ok("draft t.csv --date-order dmy").says("patterns = [\"dd/MM/yy\"]");
}

#[test]
fn a_database_takes_several_tables() {
    let world = World::new();
    world
        .write("a.csv", "n,t\n1,x\n")
        .write("s.typhos.toml", "typhos = 1\n[columns]\nn = { type = \"uint8\" }\n");
    world.ok("load s.typhos.toml a.csv --into d.sqlite").says("d.sqlite table a");
    world.ok("load s.typhos.toml a.csv --into d.sqlite --table b");
    world.run("peek d.sqlite").status(2).complains("the tables a, b; pass --table NAME");
    world.ok("peek d.sqlite --table b").says("1 row");
    world
        .run("load s.typhos.toml a.csv --into d.sqlite")
        .status(2)
        .complains("there is a table 'a' already");
    world.write("a.csv", "n,t\n1,x\n2,y\n");
    world.ok("load s.typhos.toml a.csv --into d.sqlite --mode replace").says("2 rows");
    assert_eq!(world.json("peek d.sqlite --table a --json")["total"], 2);
    assert_eq!(world.json("peek d.sqlite --table b --json")["total"], 1);
}

#[test]
fn hostile_names_do_no_harm() {
    let world = World::new();
    let header = "\"a\"\"; DROP TABLE x; --\",\"tab\tname\",\"\u{1b}[31mred\"";
    world.write("t.csv", format!("{header}\n1,2,3\n"));
    world.run("draft t.csv -o s.typhos.toml --table x\"y");
    world.ok("load s.typhos.toml t.csv --into d.sqlite").says("1 row, 3 columns");
    world.ok("load s.typhos.toml t.csv --into t.parquet");
    let peeked = world.json("peek d.sqlite --json");
    assert_eq!(peeked["columns"][0]["name"], "a\"; DROP TABLE x; --");
    let shown = world.ok("peek t.parquet").out + &world.ok("scout t.csv").out;
    assert!(!shown.contains('\u{1b}'), "{shown}");
}

#[test]
fn an_input_of_nothing_but_a_header_loads_no_rows() {
    let world = World::new();
    world.write("t.csv", "a,b\n");
    world.ok("scout t.csv").says("0 records");
    world.ok("draft t.csv -o t.typhos.toml");
    world.ok("load t.typhos.toml t.csv --into t.parquet").says("0 read = 0 loaded + 0 set aside");
    world.ok("load t.typhos.toml t.csv --into t.sqlite");
    assert_eq!(world.json("peek t.parquet --json")["total"], 0);
}

#[test]
fn help_reads_well() {
    let world = World::new();
    for command in ["", "scout", "draft", "check", "load", "peek", "demo"] {
        let help = world.ok(&format!("{command} --help")).out;
        assert!(help.contains("Usage: typhos"), "{help}");
        assert!(help.lines().all(|line| line.chars().count() <= 100), "{help}");
    }
    world.ok("--version").says("typhos 0.1.0");
    world
        .ok("--help")
        .says("Exit status: 0 done; 1 done, and misfits or differences were found; 2 the command");
}
