//! Rows that are wanted, in the order and the shape that is wanted, of every kind of table.

use serde_json::json;

use crate::world::{World, ended};

/// A table with a ranked category, absent values and texts that are hard to print, in four forms.
fn world() -> World {
    let world = World::new();
    world
        .write(
            "t.typhos.toml",
            "typhos = 1\n[columns]\nid = { type = \"uint16\" }\ncabin = { type = \"category\", values = [\"deck\", \"saloon\", \"cabin\"], ranked = true }\nfare = { type = \"decimal(6,2)\" }\nsold_on = { type = \"date\", patterns = [\"yyyy-MM-dd\"] }\nnote = { type = \"text\" }\n",
        )
        .write(
            "t.csv",
            "id,cabin,fare,sold_on,note\n1,saloon,12.50,2024-12-31,\"a, b\"\n2,deck,,2025-01-01,\n3,cabin,9.00,2025-06-30,\"x|y\nz\"\n4,,100.25,,é\n5,deck,12.50,2025-02-28,\n",
        );
    for target in ["t.parquet", "t.arrow", "t.sqlite"] {
        world.ok(&format!("load t.typhos.toml t.csv --into {target}"));
    }
    world
}

/// The forms that keep all types.
const TYPED: [&str; 3] = ["t.typhos.toml t.csv", "t.parquet", "t.arrow"];

#[test]
fn rows_are_those_of_the_question_in_the_order_that_is_said() {
    let world = world();
    let ids = |what: &str, more: &[&str]| {
        let line: Vec<&str> = ["peek"].into_iter().chain(what.split(' ')).collect();
        let rest = ["--columns", "id", "--json", "-q"];
        let report = world.run_args(&[&line[..], more, &rest].concat()).parsed();
        let rows = report["rows"].as_array().unwrap().iter();
        rows.map(|row| row[0].as_u64().unwrap()).collect::<Vec<_>>()
    };
    for what in TYPED {
        for (more, want) in [
            (&["--where", "cabin > 'deck'"][..], &[1, 3][..]),
            (&["--where", "year(sold_on) = 2025 and fare is not absent"], &[3, 5]),
            (&["--where", "bucket(fare, 10) = 10"], &[1, 5]),
            // By rank, and absent last whichever way.
            (&["--sort", "cabin desc, id desc"], &[3, 1, 5, 2, 4]),
            (&["--sort", "cabin, fare desc"], &[5, 2, 1, 3, 4]),
            (&["--sort", "fare"], &[3, 1, 5, 4, 2]),
            (&["--sort", "fare", "--skip-rows", "1", "--rows", "2"], &[1, 5]),
            (&["--sort", "id", "--last", "2"], &[4, 5]),
            (&["--last", "3"], &[3, 4, 5]),
            (&["--skip-rows", "3"], &[4, 5]),
            (&["--rows", "2"], &[1, 2]),
            (&["--rows", "all"], &[1, 2, 3, 4, 5]),
            (&["--skip-rows", "9"], &[]),
        ] {
            assert_eq!(ids(what, more), want, "{what} {more:?}");
        }
    }
}

#[test]
fn rows_are_printed_as_their_readers_want_them() {
    let world = world();
    for what in TYPED {
        let peek = |shape: &str| world.ok(&format!("peek {what} {shape} -q")).out;
        assert_eq!(
            peek("--as csv --columns id,note,fare"),
            "id,note,fare\n1,\"a, b\",12.50\n2,,\n3,\"x|y\nz\",9.00\n4,é,100.25\n5,,12.50\n"
        );
        assert_eq!(
            peek("--as ndjson --columns id,fare,sold_on --rows 2"),
            "{\"id\":1,\"fare\":12.50,\"sold_on\":\"2024-12-31\"}\n{\"id\":2,\"fare\":null,\"sold_on\":\"2025-01-01\"}\n"
        );
        assert_eq!(
            peek("--as markdown --columns id,note --skip-rows 2 --rows 1"),
            "| id | note |\n| ---: | --- |\n| 3 | x\\|y<br>z |\n"
        );
        let upright = peek("--upright --rows 1");
        assert!(upright.contains("row 1\n  id       1\n  cabin    saloon\n"), "{upright}");
        let document = world.run(&format!("peek {what} --json --rows 1 -q")).parsed();
        assert_eq!(document["rows"], json!([[1, "saloon", 12.5, "2024-12-31", "a, b"]]));
        assert_eq!(document["columns"][1], json!({ "name": "cabin", "type": "category" }));
    }
    // What was printed is read again as the same.
    world.write("again.csv", world.ok("peek t.parquet --as csv --rows all").out);
    let again = world.ok("peek t.typhos.toml again.csv --as csv --rows all -q").out;
    assert_eq!(again, world.read("again.csv"));
}

#[test]
fn files_alone_are_typed_by_a_draft_and_that_is_said() {
    let world = World::demo(500);
    let ran = world.ok("peek tickets.csv --rows 1").complains("typed by a draft of all rows");
    ran.says("decimal(5,2)").says("timestamp(s)");
    world.ok("peek engines.ndjson --rows 1").says("list(text(3))").complains("typed by a draft");
    let names = "a,b,c,d,e,f,g,h";
    let crossings = format!("peek crossings --rows 2 --encoding windows-1252 --names {names}");
    world.ok(&crossings).complains("typed by a draft");
    let counted =
        world.ok(&crossings.replace("peek crossings --rows 2", "tally crossings/2024-0*"));
    counted.says("count");
    world.run("peek -").status(2).complains("give its schema first");
}

#[test]
fn what_cannot_be_looked_for_is_said_with_its_place() {
    let world = world();
    for (args, told) in [
        (&["--columns", "fair"][..], "there is no column 'fair'"),
        (&["--sort", "fair"], "--sort: there is no column 'fair'"),
        (&["--where", "fare > 'x'"], "'x' is not a valid decimal"),
        (&["--where", "year(fare) = 1"], "'fare' is of type decimal(6,2), which has no year"),
        (&["--where", "hour(sold_on) = 1"], "which has no hour"),
        (&["--rows", "some"], "'some' is not a number of rows: a whole number, or 'all'"),
        (&["--rows", "3", "--last", "2"], "cannot be used with"),
    ] {
        world.run_args(&[&["peek", "t.parquet"], args].concat()).status(2).complains(told);
    }
    // Of SQLite the texts of a table without types can be asked about, too.
    let ran = world.run_args(&["peek", "t.sqlite", "--where", "id >= 4", "--columns", "id"]);
    ran.status(0).says("4").says("5");
}

/// Pages and row groups that a question rules out are not read: a broken one is not noticed.
#[test]
fn what_a_question_rules_out_is_not_read() {
    let world = World::new();
    // Texts that no encoding makes small.
    let word = |row: u64| (row + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    let rows: String = (0..200_000).map(|row| format!("{row},{:016x}\n", word(row))).collect();
    world.write("n.csv", format!("n,m\n{rows}")).write(
        "n.typhos.toml",
        "typhos = 1\n[columns]\nn = { type = \"uint32\" }\nm = { type = \"text\" }\n",
    );
    world.ok("load n.typhos.toml n.csv --into n.parquet");
    let ask = |question: &str| {
        let line = ["peek", "n.parquet", "--where", question, "--as", "csv", "--rows", "all"];
        world.run_args(&line)
    };
    let wanted = "n >= 190000 and n < 190002";
    let want = ask(wanted).status(0).out;
    assert_eq!(
        want,
        format!("n,m\n190000,{:016x}\n190001,{:016x}\n", word(190_000), word(190_001))
    );
    // Among the first pages of the texts.
    let mut bytes = std::fs::read(world.path("n.parquet")).unwrap();
    let at = bytes.len() / 4;
    bytes[at..at + 40_000].fill(0xff);
    world.write("n.parquet", bytes);
    assert_ne!(ask("n < 100000").status, 0, "what is broken is noticed where it is read");
    assert_eq!(ask(wanted).status(0).out, want);
}

/// Who has seen enough ends it: not all of a long table is printed into nothing.
#[test]
fn a_closed_pipe_ends_what_is_printed() {
    let world = World::new();
    let rows: String = (0..3_000_000).map(|row| format!("{row}\n")).collect();
    world.write("n.csv", format!("n\n{rows}"));
    world.write("n.typhos.toml", "typhos = 1\n[columns]\nn = { type = \"uint32\" }\n");
    let line = "peek n.typhos.toml n.csv --rows all --as csv";
    let mut child = world.command(line).stdout(std::process::Stdio::piped()).spawn().unwrap();
    let out = child.stdout.take().unwrap();
    let mut head = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(out), &mut head).unwrap();
    assert_eq!(head, "n\n");
    assert_eq!(ended(child).status.code(), Some(0));
}

#[test]
fn categories_are_shown_by_their_codes_where_that_is_wanted() {
    let world = World::new();
    world.write("t.csv", "id,cabin,port\n1,deck,Holm\n2,,Sund\n3,suite,Holm\n");
    world.write(
        "t.typhos.toml",
        "typhos = 1\n[columns]\nid = { type = \"uint8\" }\ncabin = { type = \"category\", values = [\"suite\", \"deck\"] }\n\
         port = { type = \"lowcard\" }\n",
    );
    world.ok("load t.typhos.toml t.csv --into t.parquet");
    for what in ["t.typhos.toml t.csv", "t.parquet"] {
        let ran = world.ok(&format!("peek {what} --codes --as csv"));
        assert_eq!(ran.out, "id,cabin,port\n1,1,Holm\n2,,Sund\n3,0,Holm\n", "{what}");
        ran.complains("cabin: 0 suite, 1 deck");
        let report = world.run(&format!("peek {what} --codes --json")).parsed();
        assert_eq!(
            report["dictionaries"],
            serde_json::json!({ "cabin": ["suite", "deck"] }),
            "{what}"
        );
        assert_eq!(report["rows"][2], serde_json::json!([3, 0, "Holm"]), "{what}");
    }
    let none = world.ok("peek t.typhos.toml t.csv --codes --columns id");
    none.says("none of these columns is a category whose list is known");
}
