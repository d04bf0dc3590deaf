//! Files in many layouts, and many files as one: what is found of them, and what is loaded.

use serde_json::{Value, json};

use crate::world::World;

/// The cases of RFC 4180 and their neighbours: a text, and the records that anybody would read.
const CONFORMANCE: [(&str, &str, &[&[&str]]); 16] = [
    ("plain", "a,b,c\n1,2,3\n", &[&["1", "2", "3"]]),
    ("crlf", "a,b,c\r\n1,2,3\r\n", &[&["1", "2", "3"]]),
    ("no last line end", "a,b\n1,2\n3,4", &[&["1", "2"], &["3", "4"]]),
    ("no last line end after a quote", "a,b\n1,\"2\"", &[&["1", "2"]]),
    ("all quoted", "\"a\",\"b\"\n\"1\",\"2\"\n", &[&["1", "2"]]),
    ("comma in quotes", "a,b\n\"x, y\",2\n", &[&["x, y", "2"]]),
    ("quotes in quotes", "a,b\n1,\"ha \"\"ha\"\" ha\"\n", &[&["1", "ha \"ha\" ha"]]),
    ("only quotes in quotes", "a,b\n1,\"\"\"\"\"\"\n", &[&["1", "\"\""]]),
    ("line break in quotes", "a,b\n1,\"x\ny\"\n2,z\n", &[&["1", "x\ny"], &["2", "z"]]),
    ("crlf in quotes", "a,b\r\n1,\"x\r\ny\"\r\n2,z\r\n", &[&["1", "x\r\ny"], &["2", "z"]]),
    ("line ends at once", "a,b\n1,\"\n\n\"\n2,z\n", &[&["1", "\n\n"], &["2", "z"]]),
    ("empty fields", "a,b,c\n1,,\n,\"\",3\n", &[&["1", "", ""], &["", "", "3"]]),
    ("spaces are kept", "a,b\n x , y \nz,w\n", &[&[" x ", " y "], &["z", "w"]]),
    (
        "json in quotes",
        "k,v\n1,\"{\"\"t\"\": \"\"p\"\", \"\"c\"\": [1, 2]}\"\n",
        &[&["1", "{\"t\": \"p\", \"c\": [1, 2]}"]],
    ),
    ("utf-8", "a,b\n1,ʤ\n2,å\n", &[&["1", "ʤ"], &["2", "å"]]),
    (
        "a mark and a quote in the middle",
        "\u{feff}a,b\n5\" pipe,2\n6\" pipe,3\n",
        &[&["5\" pipe", "2"], &["6\" pipe", "3"]],
    ),
];

#[test]
fn conformance_with_rfc_4180() {
    for (name, text, want) in CONFORMANCE {
        let world = World::new();
        world.write("t.csv", text);
        let found = world.json("scout t.csv --json");
        assert_eq!(found["records"], want.len(), "{name}: {found:#}");
        assert_eq!(found["broken_records"]["count"], 0, "{name}");
        let columns: Vec<_> =
            found["columns"].as_array().unwrap().iter().map(|c| &c["name"]).collect();
        // As text, so that nothing is read into the values; blank ones are absent all the same.
        let lines: String =
            columns.iter().map(|name| format!("{name} = {{ type = \"text\" }}\n")).collect();
        world.write("t.typhos.toml", format!("typhos = 1\n[columns]\n{lines}"));
        let rows = world.json("peek t.typhos.toml t.csv --json --rows 100");
        let rows: Vec<Vec<Value>> = rows["rows"]
            .as_array()
            .unwrap()
            .iter()
            .map(|row| row.as_array().unwrap().clone())
            .collect();
        let value = |text: &&str| if text.is_empty() { Value::Null } else { json!(text) };
        let want: Vec<Vec<Value>> =
            want.iter().map(|row| row.iter().map(value).collect()).collect();
        assert_eq!(rows, want, "{name}");
    }
}

/// A made-up file in each of many layouts: its text, what is to be found, records and columns.
fn layouts() -> Vec<(&'static str, Vec<u8>, Value, u64, usize)> {
    let rows = |head: &str, row: &dyn Fn(u32) -> String| {
        head.to_owned() + &(1..=40).map(row).collect::<String>()
    };
    let port = |n: u32| ["Holm", "Tang", "Eldersay", "Sker"][n as usize % 4];
    let utf16 = |text: &str| -> Vec<u8> {
        std::iter::once(0xfeffu16).chain(text.encode_utf16()).flat_map(u16::to_le_bytes).collect()
    };
    let latin1 =
        |text: &str| text.chars().map(|letter| u32::from(letter) as u8).collect::<Vec<u8>>();
    let text = |text: String| text.into_bytes();
    vec![
        (
            "comma, header, LF",
            text(rows("port,day,fare\n", &|n| format!("{},{n},{n}.50\n", port(n)))),
            json!({ "delimiter": "comma", "quote": "\"", "header": true, "line_ends": "lf" }),
            40,
            3,
        ),
        (
            "semicolon, decimal commas, CRLF, no header",
            text(rows("", &|n| format!("{:02}.01.2024;{};{n},50\r\n", n % 28 + 1, port(n)))),
            json!({ "delimiter": "semicolon", "header": false, "line_ends": "crlf" }),
            40,
            3,
        ),
        (
            "tab, stray quotes",
            text(rows("id\tname\tlat\n", &|n| format!("{n}\t\"{}\" berth {n}\t60.{n}\n", port(n)))),
            json!({ "delimiter": "tab", "quote": null, "header": true }),
            40,
            3,
        ),
        (
            "tab, no header, gaps",
            text(rows("", &|n| format!("{}\t{}\t\t{}\t\n", 3_000_000 + n, port(n), n % 3))),
            json!({ "delimiter": "tab", "header": false, "trailing_delimiter": true }),
            40,
            4,
        ),
        (
            "pipe, no header",
            text(rows("", &|n| format!("{n}|{}|01-Jan-1995||{}\n", port(n), n % 2))),
            json!({ "delimiter": "pipe", "header": false }),
            40,
            5,
        ),
        (
            "colon, no header",
            text(rows("", &|n| format!("u{n}:x:{n}:100:{}:/home/u{n}:/bin/sh\n", port(n)))),
            json!({ "delimiter": "colon", "header": false }),
            40,
            7,
        ),
        (
            "space, numbers only",
            text(rows("", &|n| format!("{n} {}.5 {} 7\n", n + 3, n * 2))),
            json!({ "delimiter": "space", "header": false }),
            40,
            4,
        ),
        (
            "space, names of rows",
            text(rows("\"depth\" \"salt\"\n", &|n| format!("\"r{n}\" {n} 3.{n}\n"))),
            json!({ "delimiter": "space", "header": true }),
            40,
            3,
        ),
        (
            "caret",
            text(rows("port^day^fare\n", &|n| format!("{}^{n}^{n}.5\n", port(n)))),
            json!({ "delimiter": "'^'", "header": true }),
            40,
            3,
        ),
        (
            "control characters",
            text(rows("", &|n| format!("{n}\u{1}{}\u{1}a,b;c|d\n", port(n)))),
            json!({ "delimiter": "'\\u{1}'", "header": false }),
            40,
            3,
        ),
        (
            "unit separator",
            text(rows("port\u{1f}day\n", &|n| format!("{}, {n};\u{1f}{n}\n", port(n)))),
            json!({ "delimiter": "unit-separator", "header": true }),
            40,
            2,
        ),
        (
            "single quotes",
            text(rows("port,note\n", &|n| format!("{},'left at {n}, late'\n", port(n)))),
            json!({ "delimiter": "comma", "quote": "'", "header": true }),
            40,
            2,
        ),
        (
            "backslashes before quotes",
            text(rows("", &|n| format!("{n},\"{} \\\"new\\\", pier {n}\",\\N\n", port(n)))),
            json!({ "delimiter": "comma", "escape": "backslash", "header": false }),
            40,
            3,
        ),
        (
            "backslashes in paths",
            text(rows("id,path\n", &|n| format!("{n},\"C:\\ferry\\{n}\\\"\n"))),
            json!({ "escape": "doubled", "header": true }),
            40,
            2,
        ),
        (
            "CR alone",
            text(rows("port,day\r", &|n| format!("{},{n}\r", port(n)))),
            json!({ "line_ends": "cr", "header": true }),
            40,
            2,
        ),
        (
            "all line ends at once",
            text(rows("port,day\r\n", &|n| {
                format!("{},{n}{}", port(n), ["\n", "\r\n", "\r"][n as usize % 3])
            })),
            json!({ "line_ends": "mixed", "header": true }),
            40,
            2,
        ),
        (
            "lines above, each with a delimiter at its end",
            text(rows(
                "\"Source\",\"Skerrow Ferries\",\n\n\"Updated\",\"2024-05-30\",\n\n\"Port\",\"Code\",\"1960\",\"1961\",\"1962\",\n",
                &|n| format!("\"{} {n}\",\"P{n:02}\",\"{n}.5\",\"\",\"{}\",\n", port(n), n * 7),
            )),
            json!({ "skip": 4, "header": true, "trailing_delimiter": true }),
            40,
            5,
        ),
        (
            "a title, padded as spreadsheets do",
            text(rows("Sailings 2024,,,\n,,,\nport,day,fare,note\n", &|n| {
                format!("{},{n},{n}.5,x{n}\n", port(n))
            })),
            json!({ "skip": 2, "header": true }),
            40,
            4,
        ),
        (
            "remarks above and between",
            text(rows("# sailings, as of today\n# by port\nport,day\n", &|n| {
                format!("{},{n}\n{}", port(n), if n == 20 { "# half way\n" } else { "" })
            })),
            json!({ "comment": "#", "header": true }),
            40,
            2,
        ),
        (
            "a line that names the delimiter",
            text(rows("sep=;\nport;note\n", &|n| format!("{};a, b, {n}\n", port(n)))),
            json!({ "delimiter": "semicolon", "skip": 1, "header": true }),
            40,
            2,
        ),
        (
            "spaces after commas, a blank line at the end",
            text(rows("", &|n| format!("{n}, {}, {}, <=50\n", port(n), n * 13)) + "\n"),
            json!({ "delimiter": "comma", "header": false }),
            40,
            4,
        ),
        (
            "names twice, blank and over two lines",
            text(rows("port,port,,\"fare\n(local)\"\n", &|n| format!("{},{n},x,{n}.5\n", port(n)))),
            json!({ "header": true }),
            40,
            4,
        ),
        (
            "UTF-16 with a mark",
            utf16(&rows("port\tfare\r\n", &|n| format!("Tårnvik {n}\t{n}\r\n"))),
            json!({ "encoding": "utf-16le", "delimiter": "tab", "header": true }),
            40,
            2,
        ),
        (
            "ISO-8859-1",
            latin1(&rows("port;fare\n", &|n| format!("Tårnvik {n};{n}\n"))),
            json!({ "encoding": "windows-1252", "delimiter": "semicolon", "header": true }),
            40,
            2,
        ),
        (
            "one column of words",
            text(rows("port\n", &|n| format!("{} {n}\n", port(n)))),
            json!({ "header": true }),
            40,
            1,
        ),
        (
            "one column of times",
            text(rows("", &|n| format!("{:02}:{:02}:00\n", n % 24, n))),
            json!({ "delimiter": "comma", "header": false }),
            40,
            1,
        ),
    ]
}

#[test]
fn layouts_are_found() {
    for (name, text, want, records, columns) in layouts() {
        let world = World::new();
        world.write("t.txt", &text);
        let found = world.json("scout t.txt --json");
        let about = format!("{name}: {:#}", found["input"]);
        for (part, want) in want.as_object().unwrap() {
            assert_eq!(&found["input"][part], want, "{part} of {about}");
        }
        assert_eq!(found["records"], records, "{about}");
        assert_eq!(found["broken_records"]["count"], 0, "{about}");
        assert_eq!(found["columns"].as_array().unwrap().len(), columns, "{about}");
        // What a draft says of the layout is all that is needed to read the file again.
        world.run("draft t.txt -o t.typhos.toml --date-order dmy");
        let checked = world.json("check t.typhos.toml t.txt --json");
        assert_eq!(
            checked["account"]["loaded"],
            records,
            "{about}\n{}",
            world.read("t.typhos.toml")
        );
    }
}

#[test]
fn every_part_of_a_layout_can_be_said_on_the_command_line_and_in_the_schema() {
    let world = World::new();
    world.write("t.txt", "top\n%remark\n1~'a~b'~\r2~'c\\'d'~\r");
    let said = "--delimiter ~ --quote ' --escape backslash --line-ends cr --comment % \
                --trailing-delimiter true --header false --skip 1 --names n,x --encoding latin1 \
                --record-limit 4KiB --quoted-empty text --columns-differ first";
    let found = world.json(&format!("scout t.txt --json {said}"));
    assert_eq!(
        (&found["records"], &found["input"]["reasons"]["delimiter"]),
        (&json!(2), &json!("as said"))
    );
    world.ok(&format!("draft t.txt -o t.typhos.toml {said}"));
    let schema = world.read("t.typhos.toml");
    for line in [
        "delimiter = \"~\"",
        "quote = \"'\"",
        "escape = \"backslash\"",
        "line_ends = \"cr\"",
        "comment = \"%\"",
        "trailing_delimiter = true",
        "header = false",
        "skip = 1",
        "names = [\"n\", \"x\"]",
        "encoding = \"windows-1252\"",
        "columns_differ = \"first\"",
        "quoted_empty = \"text\"",
        "record_limit = \"4 KiB\"",
    ] {
        assert!(schema.contains(line), "{line}\n{schema}");
    }
    let rows = world.json("peek t.typhos.toml t.txt --json");
    assert_eq!(rows["rows"], json!([["1", "a~b"], ["2", "c'd"]]));
    world
        .run("scout t.txt --delimiter ~ --comment ~")
        .status(3)
        .complains("cannot be the delimiter and the start");
    world.run("scout t.txt --skip 4000000000").status(3).complains("t.txt is empty");
    world.run("scout t.txt --line-ends clrf").status(2).complains("did you mean 'crlf'?");
}

#[test]
fn a_declaration_does_not_change_with_the_data() {
    let world = World::new();
    world
        .write("t.csv", "port,day\nHolm,1\n")
        .write("next.csv", "title\nport,day\nHolm,1\n# Tang\nSker,2\n");
    world.ok("draft t.csv -o t.typhos.toml");
    world
        .run("check t.typhos.toml next.csv")
        .status(1)
        .complains("skipped 1 line above the table of next.csv")
        .says("next.csv:4  the record has 1 field instead of 2");
    world.ok("check t.typhos.toml next.csv --comment #").says("2 read = 2 would load");
}

#[test]
fn broken_records_have_their_outcomes() {
    let world = World::new();
    world.write(
        "t.csv",
        "a,b\n1,2\n3\n4,5,6\n\"x\"y,7\n8,9\"9\n10,n\0ul\n\n11,\"\"\"q\"\n12,13\n14,\"open\n15,16\n",
    );
    let found = world.json("scout t.csv --json");
    assert_eq!((&found["records"], &found["broken_records"]["count"]), (&json!(6), &json!(4)));
    let reasons: Vec<_> = found["broken_records"]["examples"]
        .as_array()
        .unwrap()
        .iter()
        .map(|broken| format!("{} {}", broken["line"], broken["reason"].as_str().unwrap()))
        .collect();
    assert_eq!(
        reasons,
        [
            "3 has 1 field instead of 2",
            "4 has 3 fields instead of 2",
            "5 has text after the closing quote of field 1",
            "11 has a quote, opened in line 11, that is never closed; it ends after 1 line, since line 12 looks like the next record",
        ]
    );
    world.write("s.typhos.toml", "typhos = 1\n[input]\nmisfit = 'reject'\n[columns]\na = { type = 'text' }\nb = { type = 'text' }\n");
    let account = &world.json("load s.typhos.toml t.csv --into t.parquet --json")["account"];
    assert_eq!(
        (&account["read"], &account["loaded"], &account["set_aside"]),
        (&json!(10), &json!(6), &json!(4))
    );
    let rejects = world.read(&world.rejects());
    assert!(
        rejects.contains("\n3,,t.csv,3,,has 1 field")
            && rejects.contains("\n14,\"open,t.csv,11,,\"has a quote"),
        "{rejects}"
    );
}

#[test]
fn a_record_over_the_limit_is_told_and_never_half_kept() {
    let world = World::new();
    let long = "x\n".repeat(1000);
    world.write("t.csv", format!("a,b\n1,2\n3,\"{long}\"\n4,5\n"));
    let found = world.json("scout t.csv --record-limit 1KiB --json");
    assert_eq!((&found["records"], &found["broken_records"]["count"]), (&json!(2), &json!(1)));
    let reason = found["broken_records"]["examples"][0]["reason"].as_str().unwrap();
    assert_eq!(
        reason,
        "has a quote, opened in line 3, that is not closed within the record limit of 1 KiB"
    );
    world.write("s.typhos.toml", "typhos = 1\n[input]\nmisfit = 'reject'\nrecord_limit = '1 KiB'\n[columns]\na = { type = 'text' }\nb = { type = 'text' }\n");
    let before = world.names();
    world
        .run("load s.typhos.toml t.csv --into t.parquet")
        .status(4)
        .complains("t.csv:3")
        .complains("record limit of 1 KiB");
    assert_eq!(world.names(), before, "a record that is not whole cannot be set aside");
    world
        .ok("load s.typhos.toml t.csv --into t.parquet --record-limit 1MiB")
        .says("3 read = 3 loaded");
}

#[test]
fn an_empty_field_in_quotes_can_be_a_text() {
    let world = World::new();
    world.write("t.csv", "k,v\n1,\"\"\n2,\n3,x\n");
    assert_eq!(world.json("scout t.csv --json")["columns"][1]["absent"], 2);
    let found = world.json("scout t.csv --json --quoted-empty text");
    assert_eq!(
        (&found["columns"][1]["absent"], &found["columns"][1]["distinct"]),
        (&json!(1), &json!(2))
    );
    world.ok("draft t.csv -o t.typhos.toml --quoted-empty text");
    let rows = world.json("peek t.typhos.toml t.csv --json");
    let values: Vec<_> = rows["rows"].as_array().unwrap().iter().map(|row| &row[1]).collect();
    assert_eq!(values, [&json!(""), &Value::Null, &json!("x")]);
}

#[test]
fn many_files_are_one_table() {
    let world = World::new();
    std::fs::create_dir(world.path("in")).unwrap();
    let gzip = |text: &str| {
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        std::io::Write::write_all(&mut packed, text.as_bytes()).unwrap();
        packed.finish().unwrap()
    };
    let utf16: Vec<u8> = "\u{feff}fare,port,day\r\n3.5,Tårnvik,3\r\n"
        .encode_utf16()
        .flat_map(u16::to_le_bytes)
        .collect();
    world.write("in/1.csv", "port,day,fare\nHolm,1,1.5\n");
    world.write("in/2.csv", gzip("day,port,fare\r\n2,Tang,2.5\r\n"));
    world.write("in/3.csv", utf16);
    world.write("in/4.csv", "Sailings\n\nfare,day,port\n4.5,4,Sker\nx,5,Odd\n");
    let found = world.json("scout in/*.csv --json");
    assert_eq!(
        (&found["records"], found["input"]["files"].as_array().unwrap().len()),
        (&json!(5), 4)
    );

    world.write(
        "s.typhos.toml",
        "typhos = 1\n[columns]\nport = { type = 'text' }\nday = { type = 'uint8' }\nfare = { type = 'decimal(3,1)', misfit = 'reject' }\n",
    );
    world
        .run("load s.typhos.toml in --into t.parquet")
        .status(1)
        .says("5 read = 4 loaded + 1 set aside");
    let rows = world.json("peek t.parquet --json");
    let row = |at: usize| rows["rows"][at].clone();
    assert_eq!(row(1), json!(["Tang", "2", "2.5"]));
    assert_eq!(row(2), json!(["Tårnvik", "3", "3.5"]));
    assert_eq!(row(3), json!(["Sker", "4", "4.5"]));
    // What is set aside stands in the order of the first file, and loads by itself once mended.
    let rejects = world.read(&world.rejects());
    assert!(rejects.contains("\nOdd,5,x,in/4.csv,5,fare,is not a number"), "{rejects}");
    world.write("mended.csv", rejects.replace("Odd,5,x", "Odd,5,5.5"));
    world.ok("load s.typhos.toml mended.csv --into m.parquet").says("1 read = 1 loaded");
}

#[test]
fn reasons_name_the_file_of_their_line() {
    let world = World::demo(100);
    world
        .ok("scout crossings --encoding windows-1252")
        .says("day first: '13.01.2024' in line ")
        .says(" of 2024-01.csv");
    let whole = (1..60).map(|n| format!("{n}\n")).collect::<String>();
    world.write("1.csv", format!("n\n{whole}")).write("2.csv", format!("n\n{whole}x\n"));
    world.ok("scout 1.csv 2.csv").says("would be uint8 but for 1 value: 'x' in line 61 of 2.csv");
    world.ok("scout 1.csv 2.csv --column n").says("line 61 of 2.csv  'x'");
}

#[test]
fn files_with_other_columns_follow_the_policy() {
    let world = World::new();
    world.write("a.csv", "port,day\nHolm,1\n").write("b.csv", "port,fare\nTang,2.5\n");
    world.run("scout a.csv b.csv").status(3).complains(
        "b.csv does not have the columns of a.csv: it lacks 'day', and has 'fare' besides",
    );
    world
        .ok("scout a.csv b.csv --columns-differ union")
        .says("a.csv lacks 'fare': absent there")
        .says("b.csv lacks 'day': absent there");
    world.ok("draft a.csv b.csv --columns-differ union -o t.typhos.toml");
    let rows = world.json("peek t.typhos.toml a.csv b.csv --json");
    assert_eq!(rows["rows"], json!([["Holm", "1", null], ["Tang", null, "2.5"]]));
    let first = world.json("scout a.csv b.csv --columns-differ first --json");
    assert_eq!(
        first["input"]["columns_differ"],
        json!([{ "file": "b.csv", "lacks": ["day"], "left_out": ["fare"] }])
    );
    // A column that is needed is missed in every record of a file that lacks it.
    world.write("s.typhos.toml", "typhos = 1\n[input]\ncolumns_differ = 'union'\n[columns]\nday = { type = 'uint8', required = true }\n");
    world
        .run("check s.typhos.toml a.csv b.csv")
        .status(1)
        .says("b.csv:2  '' is absent, and the column is required");
    world.write("h.csv", "1,2\n3,4\n").write("i.csv", "1,2,3\n4,5,6\n");
    world.run("scout h.csv i.csv").status(3).complains("i.csv has 3 columns and h.csv has 2");
    world.run("scout x*.csv").status(3).complains("no file matches this pattern");
}

#[test]
fn rejects_load_again_under_a_layout_of_every_kind() {
    for (text, said) in [
        ("top line\nport;day\nHolm;1\nTang;x\n", ""),
        ("port~day~\nHolm~1~\nTang~x~\n", "--delimiter ~"),
        ("port,day\rHolm,1\rTang,x\r", ""),
        ("port|day\n'Ho|lm'|1\n'Ta|ng'|x\n", "--quote '"),
        ("port,day\n\"Ho\\\"l,m\",1\n\"Ta\\\"n,g\",x\n", "--escape backslash"),
        ("#c\nport,day\nHolm,1\n#,\nTang,x\n", "--comment #"),
        ("#c\n\"#port\",day\nHolm,1\nTang,x\n", "--comment #"),
    ] {
        let world = World::new();
        world.write("t.txt", text);
        world.run(&format!("draft t.txt -o t.typhos.toml {said}"));
        let schema = world.read("t.typhos.toml");
        let day = schema.find("day ").unwrap();
        world.write(
            "t.typhos.toml",
            format!("{}day = {{ type = 'uint8', misfit = 'reject' }}\n", &schema[..day]),
        );
        world
            .run("load t.typhos.toml t.txt --into t.parquet")
            .status(1)
            .says("2 read = 1 loaded + 1 set aside");
        let rejects = world.read(&world.rejects());
        world.write("mended.txt", rejects.replace("x", "2"));
        world.ok("load t.typhos.toml mended.txt --into m.parquet").says("1 read = 1 loaded");
    }
}
