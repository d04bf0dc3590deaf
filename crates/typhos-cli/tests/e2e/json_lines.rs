//! JSON lines and arrays, through every command.

use std::io::Write;

use crate::world::World;

const EVENTS: &str = "\
{\"id\":1,\"at\":\"2024-03-01T10:00:00Z\",\"where\":{\"port\":\"Holm\",\"berth\":3},\"tags\":[\"a\",\"b\"]}
{\"id\":2,\"at\":\"2024-03-01T11:00:00Z\",\"where\":{\"port\":\"Sk\\u00e5rvik\",\"berth\":null}}
{\"id\":3,\"at\":null,\"where\":{\"port\":\"\\\"Tang\\\"\",\"berth\":7},\"tags\":[]}
{\"id\":9007199254740993,\"at\":\"2024-03-02T09:30:00Z\",\"where\":{},\"late\":12.50}
";

#[test]
fn fields_of_every_record_are_columns() {
    let world = World::new();
    world.write("events.ndjson", EVENTS);
    let report = world.json("scout events.ndjson --json");
    assert_eq!(report["input"]["format"], "json");
    let columns = report["columns"].as_array().unwrap();
    let of = |key: &str| columns.iter().map(|c| c[key].as_str().unwrap()).collect::<Vec<_>>();
    assert_eq!(of("name"), ["id", "at", "where.port", "where.berth", "tags[]", "late"]);
    assert_eq!(
        of("type"),
        ["uint64", "timestamp(s, utc)", "text(14)", "uint8", "text(1)", "decimal(4,2)"]
    );
    let berth = &columns[3]["kinds"];
    assert_eq!(
        (&berth["missing"], &berth["null"], &berth["number"]),
        (&1.into(), &1.into(), &2.into())
    );
    assert_eq!(columns[5]["kinds"]["missing"], 3);
    world.ok("scout events.ndjson --column where.berth").says("null 1, numbers 2, missing 1");
}

#[test]
fn packed_piped_and_in_an_array_the_records_are_the_same() {
    let world = World::new();
    let array = format!("[\n{}\n]\n", EVENTS.trim_end().replace('\n', ",\n"));
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(EVENTS.as_bytes()).unwrap();
    world.write("events.ndjson", EVENTS).write("events.json", &array);
    world.write("events.ndjson.gz", gzip.finish().unwrap());
    world.ok("draft events.ndjson -o want.typhos.toml");
    let columns = |text: &str| text[text.find("[columns]").unwrap()..].to_owned();
    let want = columns(&world.read("want.typhos.toml"));
    for name in ["events.json", "events.ndjson.gz"] {
        assert_eq!(columns(&world.ok(&format!("draft {name}")).out), want, "{name}");
    }
    for text in [EVENTS, &array] {
        let ran = world.run_with("draft -", text).status(0);
        assert_eq!(columns(&ran.out), want);
    }
    // What is piped is loaded, too, and places are those of the text.
    world
        .run_with("load want.typhos.toml - --into piped.parquet", &array)
        .status(0)
        .says("4 read = 4 loaded");
}

/// The same records, each over several lines.
fn over_lines() -> String {
    let pretty = |line: &str| {
        let record: serde_json::Value = serde_json::from_str(line).unwrap();
        serde_json::to_string_pretty(&record).unwrap() + "\n"
    };
    EVENTS.lines().map(pretty).collect()
}

#[test]
fn objects_may_go_over_several_lines() {
    let world = World::new();
    world.write("events.ndjson", EVENTS).write("events.json", over_lines());
    world.ok("scout events.json").says("JSON objects over several lines").says("4 records");
    world.ok("draft events.ndjson -o s.typhos.toml");
    for name in ["events.ndjson", "events.json"] {
        let target = format!("{name}.parquet");
        world.ok(&format!("load s.typhos.toml {name} --into {target}")).says("4 read = 4 loaded");
    }
    let rows = |name: &str| world.ok(&format!("peek {name}.parquet --json")).out;
    assert_eq!(rows("events.json"), rows("events.ndjson"));
    world
        .run_with("load s.typhos.toml - --into piped.parquet", &over_lines())
        .status(0)
        .says("4 read = 4 loaded");
    // Parts are of whole files then.
    world.ok("scout --part 1/2 events.json --save 1.survey");
    world.ok("scout --part 2/2 events.json --save 2.survey");
    world.ok("pool 1.survey 2.survey -o all.survey");
    world.ok("scout all.survey").says("4 records");
}

#[test]
fn a_broken_object_over_several_lines_breaks_no_other() {
    let world = World::new();
    let broken = over_lines().replacen("\"Sk\u{e5}rvik\"", "\"Sk\u{e5}rvik", 1) + "what is this\n";
    assert_ne!(broken, over_lines());
    world.write("events.json", &broken).write("whole.json", over_lines());
    let told = world.run("scout events.json").status(1);
    // The second record starts on the line behind the first one, and what is no object on the last.
    let first = serde_json::from_str::<serde_json::Value>(EVENTS.lines().next().unwrap()).unwrap();
    let second = 1 + serde_json::to_string_pretty(&first).unwrap().lines().count();
    told.says("3 records")
        .says("2 more records")
        .says(&format!("events.json:{second}  "))
        .says(&format!("events.json:{}  ", broken.lines().count()));
    world.ok("draft whole.json -o s.typhos.toml");
    world
        .run("load s.typhos.toml events.json --into e.parquet")
        .status(4)
        .complains(&format!("events.json:{second}"));
}

#[test]
fn the_first_object_may_be_the_broken_one() {
    let world = World::new();
    world.write("t.json", "{\n  \"a\": 1,\n}\n{\n  \"a\": 2\n}\n");
    world.run("scout t.json").status(1).says("1 record\n").says("t.json:1  ");
}

#[test]
fn one_large_object_on_one_line_is_told_as_what_it_is() {
    let world = World::new();
    let members: Vec<String> = (0..80_000).map(|n| format!("\"{n}\": {{\"n\": {n}}}")).collect();
    world.write("large.json", format!("{{{}}}", members.join(", ")));
    world.run("scout large.json").status(4).complains("most likely names in them are values");
}

#[test]
fn a_draft_checks_loads_and_reads_back() {
    let world = World::new();
    world.write("events.ndjson", EVENTS);
    world.ok("draft events.ndjson --naming snake -o s.typhos.toml");
    assert!(
        world
            .read("s.typhos.toml")
            .contains("where_port  = { type = \"text(14)\", from = \"where.port\" }")
    );
    world.ok("check s.typhos.toml events.ndjson").says("every value fits");
    world.ok("weigh s.typhos.toml events.ndjson");
    for target in ["e.parquet", "e.arrow", "e.sqlite"] {
        world
            .ok(&format!("load s.typhos.toml events.ndjson --into {target}"))
            .says("4 read = 4 loaded");
    }
    let rows = world.ok("peek e.parquet --json");
    assert!(rows.out.contains("9007199254740993") && rows.out.contains("12.50"), "{}", rows.out);
    assert!(rows.out.contains("Skårvik") && rows.out.contains("\\\"Tang\\\""), "{}", rows.out);
    world.ok("peek s.typhos.toml events.ndjson").says("Skårvik");
}

#[test]
fn what_does_not_fit_is_named_by_line_and_path_and_loads_once_mended() {
    let world = World::new();
    world.write(
        "engines.ndjson",
        "{\"id\":1,\"bearing\":{\"temp\":71}}\n{\"id\":2,\"bearing\":{\"temp\":\"hot\"}}\n{\"id\":3,}\n{\"id\":4,\"bearing\":{\"temp\":68}}\n",
    );
    world.write(
        "s.typhos.toml",
        "typhos = 1\n[input]\nformat = 'json'\nmisfit = 'reject'\n[columns]\nid = { type = 'uint8', required = true }\n\
         temp = { type = 'uint8', from = 'bearing.temp', misfit = 'reject' }\n",
    );
    world
        .run("check s.typhos.toml engines.ndjson")
        .status(1)
        .says("engines.ndjson:2  bearing.temp: 'hot' is not an integer");
    let ran = world.run("load s.typhos.toml engines.ndjson --into e.parquet").status(1);
    ran.says("4 read = 2 loaded + 2 set aside");
    let rejects = world.read("e.parquet.rejects.ndjson");
    let lines: Vec<serde_json::Value> =
        rejects.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines[0]["bearing"]["temp"], "hot");
    assert_eq!(lines[0]["rejected_line"], 2);
    assert_eq!(lines[0]["rejected_column"], "bearing.temp");
    assert_eq!(lines[1]["rejected_text"], "{\"id\":3,}");
    assert_eq!(
        lines[1]["rejected_reason"],
        "has '}' at byte 9 where a name in quotes was expected"
    );
    // What was not mended is set aside again, with the reason of this time alone.
    world
        .run("load s.typhos.toml e.parquet.rejects.ndjson --into again.parquet")
        .status(1)
        .says("2 read = 0 loaded + 2 set aside");
    let again = world.read("again.parquet.rejects.ndjson");
    assert_eq!(again.matches("rejected_reason").count(), 3, "{again}");
    let mended = rejects
        .replace("\"hot\"", "70")
        .replace("{\"rejected_text\":\"{\\\"id\\\":3,}\"", "{\"id\":3");
    world.write("mended.ndjson", mended);
    world.ok("load s.typhos.toml mended.ndjson --into mended.parquet").says("2 read = 2 loaded");
}

#[test]
fn a_declared_field_may_be_in_no_record() {
    let world = World::new();
    world.write("one.ndjson", "{\"a\":1,\"more\":true}\n{\"a\":2}\n");
    let schema = |more: &str| format!("typhos = 1\n[columns]\na = {{ type = 'uint8' }}\n{more}\n");
    world.write("s.typhos.toml", schema("b = { type = 'uint8', from = 'x.y' }"));
    let ran = world.ok("load s.typhos.toml one.ndjson --into t.parquet").says("2 read = 2 loaded");
    assert!(ran.err.contains("1 column of one.ndjson is not declared: 'more'"), "{}", ran.err);
    world.write("r.typhos.toml", schema("b = { type = 'uint8', required = true }"));
    world.run("check r.typhos.toml one.ndjson").status(1).says("b  uint8  2 misfits");
    // An object may be declared as it is.
    world.write("deep.ndjson", "{\"a\":{\"b\":[1,2]}}\n");
    world.write("d.typhos.toml", "typhos = 1\n[columns]\na = { type = 'json' }\n");
    world.ok("load d.typhos.toml deep.ndjson --into d.parquet");
    world.ok("peek d.parquet").says("{\"b\":[1,2]}");
}

#[test]
fn an_encoding_that_shows_late_has_the_same_columns() {
    let world = World::new();
    let mut text = "{\"port\":\"Holm\",\"n\":1}\n".repeat(60_000).into_bytes();
    text.extend_from_slice(b"{\"port\":\"T\xe5rnvik og Sk\xe5rvik\",\"n\":2}\n");
    world.write("late.ndjson", text);
    let report = world.json("scout late.ndjson --json");
    assert_eq!(report["input"]["encoding"], "windows-1252");
    assert_eq!(report["columns"][0]["name"], "port");
    assert_eq!(report["records"], 60_001);
}

#[test]
fn numbers_are_what_the_format_says_they_are() {
    let world = World::new();
    world.write(
        "n.ndjson",
        "{\"v\":2.1,\"e\":1e5}\n{\"v\":2.10,\"e\":2e5}\n{\"v\":1.234,\"e\":3e5}\n",
    );
    let report = world.json("scout n.ndjson --json");
    assert_eq!(report["columns"][0]["type"], "decimal(4,3)");
    assert_eq!(report["columns"][1]["type"], "float32");
}

#[test]
fn numbers_in_texts_are_texts_unless_it_is_said() {
    let world = World::new();
    world.write("t.ndjson", "{\"n\":\"5\",\"d\":\"2024-01-02\",\"m\":1}\n{\"n\":\"7\",\"d\":\"2024-01-03\",\"m\":{\"x\":2}}\n");
    let types = |line: &str| -> Vec<String> {
        let report = world.json(line);
        report["columns"]
            .as_array()
            .unwrap()
            .iter()
            .map(|c| c["type"].as_str().unwrap().into())
            .collect()
    };
    assert_eq!(types("scout t.ndjson --json"), ["text(1)", "date", "text(14)"]);
    assert_eq!(types("scout t.ndjson --json --strings numbers")[..2], ["uint8", "date"]);
    assert_eq!(types("scout t.ndjson --json --strings text")[..2], ["text(1)", "text(10)"]);
    world.ok("scout t.ndjson").says("2 numbers are texts in quotes: '5' in line 1");
    world.ok("scout t.ndjson").says("a number in line 1, an object in line 2 at one path");
    // Saved and pooled, it is all the same.
    world.ok("scout t.ndjson --save t.survey");
    assert_eq!(types("scout t.survey --json"), ["text(1)", "date", "text(14)"]);
}

#[test]
fn csv_and_json_of_the_same_tickets_load_into_the_same_rows() {
    let world = World::demo(300);
    world.ok("draft tickets.csv -o tickets.typhos.toml");
    let mut reader = csv::Reader::from_path(world.path("tickets.csv")).unwrap();
    let names = reader.headers().unwrap().clone();
    let mut lines = String::new();
    for record in reader.records() {
        let record = record.unwrap();
        let members = names.iter().zip(&record).map(|(name, value)| {
            // Numbers as numbers, all else as texts.
            let is_number = !value.starts_with('0')
                && serde_json::from_str::<serde_json::Number>(value).is_ok();
            let value =
                if is_number { value.to_owned() } else { serde_json::json!(value).to_string() };
            format!("{}:{value}", serde_json::json!(name))
        });
        lines += &format!("{{{}}}\n", members.collect::<Vec<_>>().join(","));
    }
    world.write("tickets.ndjson", lines);
    // One schema serves both: what it says of delimiters means nothing in JSON.
    world.ok("load tickets.typhos.toml tickets.csv --into a.parquet");
    world.ok("load tickets.typhos.toml tickets.ndjson --format json --into b.parquet");
    let rows = |name: &str| world.ok(&format!("peek {name} --json --rows 300")).out;
    let without_name = |text: String| text.replace("b.parquet", "a.parquet");
    let strip = |text: String| {
        let value: serde_json::Value = serde_json::from_str(&without_name(text)).unwrap();
        value["rows"].clone()
    };
    assert_eq!(strip(rows("a.parquet")), strip(rows("b.parquet")));
}

#[test]
fn null_is_absent_whatever_texts_are() {
    let world = World::new();
    world.write("n.ndjson", "{\"a\":\"\",\"b\":null}\n{\"a\":null,\"b\":2}\n{}\n");
    let columns = "a = { type = \"text\" }\nb = { type = \"uint8\" }\n";
    let input = "[input]\nformat = \"json\"\nabsent = []\n";
    world.write("n.typhos.toml", format!("typhos = 1\n{input}[columns]\n{columns}"));
    let shown = world.json("peek n.typhos.toml n.ndjson --json");
    assert_eq!(shown["rows"], serde_json::json!([["", null], [null, "2"], [null, null]]));
}

/// Spaces in quotes are a value where nothing in quotes is one: in JSON as in delimited text, in a field as in a list.
#[test]
fn blank_texts_are_values_where_empty_ones_are() {
    let world = World::new();
    world.write("b.csv", "n,t,b\n\"5\",\"x\",\"2\"\n\"  \",\"  \",\" \"\n,\"\",\"7\"\n");
    let lines = r#"{"n":"5","t":"x","b":"2"}
{"n":"  ","t":"  ","b":" "}
{"n":null,"t":"","b":"7"}
"#;
    world.write("b.ndjson", lines);
    for (quoted_empty, want) in [
        ("absent", serde_json::json!([["5", "x", "2"], [null, null, null], [null, null, "7"]])),
        ("text", serde_json::json!([["5", "x", "2"], ["  ", "  ", " "], [null, "", "7"]])),
    ] {
        for name in ["b.csv", "b.ndjson"] {
            let draft = format!("draft {name} --quoted-empty {quoted_empty} -o b.typhos.toml");
            world.ok(&format!("{draft} --replace"));
            world.ok(&format!("check b.typhos.toml {name}")).says("every value fits");
            let shown = world.json(&format!("peek b.typhos.toml {name} --json"));
            assert_eq!(shown["rows"], want, "{name}, {quoted_empty}");
        }
    }
    world.write("l.ndjson", "{\"l\":[{\"a\":1},\"  \",null]}\n");
    world.ok("draft l.ndjson --quoted-empty text -o l.typhos.toml");
    world.ok("check l.typhos.toml l.ndjson").says("every value fits");
}

/// A draft without columns would be read by nobody.
#[test]
fn where_no_record_is_sound_nothing_is_drafted() {
    let world = World::new();
    world.write("torn.ndjson", "{\n{\"a\n{]\n");
    world
        .run("draft torn.ndjson --format json -o torn.typhos.toml")
        .status(4)
        .complains("there are no columns to declare: 3 records cannot be read");
    assert!(!world.names().contains(&"torn.typhos.toml".to_owned()));
    world.write("half.ndjson", "{\n{\"a\":1}\n");
    world.run("draft half.ndjson --format json -o half.typhos.toml").status(1);
    world.run("check half.typhos.toml half.ndjson").status(1);
}
