//! Types with reasons: evidence, blockers, the rules of a house, and drafts a person can trust.

use serde_json::{Value, json};

use crate::world::World;

/// A small file whose columns are types of their own, each with something in the way.
const ODD: &str = "id,amount,when,code,berth\n\
    1,\"1.234,50 €\",03.04.2024,0171,\"61.5,4.25\"\n\
    2,\"12,00 €\",05.06.2024,0172,\"61.75,4.5\"\n\
    3,\"-7,25 €\",13.06.2024,1173,\"62,4.125\"\n";

fn column<'r>(report: &'r Value, name: &str) -> &'r Value {
    let columns = report["columns"].as_array().unwrap();
    columns.iter().find(|column| column["name"] == name).unwrap()
}

/// Two hundred rows of a number, but for a few.
fn mostly_numbers() -> String {
    let rows = (1..=200).map(|n| match n {
        48 | 150 => format!("{n},n/k\n"),
        n => format!("{n},{}\n", n % 90),
    });
    format!("row,depth\n{}", rows.collect::<String>())
}

#[test]
fn numbers_in_any_clothes_are_typed_and_loaded() {
    let world = World::new();
    world.write("odd.csv", ODD);
    let report = world.json("scout odd.csv --json --headroom 1");
    for (name, ty, low, high) in [
        ("id", "uint8", "1", "3"),
        ("amount", "decimal(6,2)", "-7.25", "1234.50"),
        ("when", "date", "2024-04-03", "2024-06-13"),
        ("code", "text(4)", "0171", "1173"),
        ("berth", "geopoint", "61.5,4.25", "62,4.125"),
    ] {
        let column = column(&report, name);
        assert_eq!(column["type"], ty, "{column}");
        assert_eq!((&column["min"], &column["max"]), (&json!(low), &json!(high)), "{name}");
    }
    world.ok("draft odd.csv -o odd.typhos.toml");
    let schema = world.read("odd.typhos.toml");
    assert!(schema.contains("decimal_mark = \",\", grouping = \".\", strip = \"€\""), "{schema}");
    world.ok("load odd.typhos.toml odd.csv --into odd.parquet").says("3 read = 3 loaded");
    let peek = world.json("peek odd.parquet --json");
    assert_eq!(peek["rows"][0], json!(["1", "1234.50", "2024-04-03", "0171", "61.5,4.25"]));
    assert_eq!(peek["rows"][2], json!(["3", "-7.25", "2024-06-13", "1173", "62,4.125"]));
    // What is not written as declared is a misfit, with the reason.
    world.write("bad.csv", ODD.replace("12,00 €", "12.00 €"));
    world
        .run("check odd.typhos.toml bad.csv")
        .status(1)
        .says("is not a number with the decimal mark ',' and digits grouped by '.'");
}

#[test]
fn a_mark_that_could_be_either_is_a_question_with_its_answer() {
    let world = World::new();
    world.write("t.csv", "n;x\n1,234;a\n2,500;b\n");
    world
        .run("draft t.csv")
        .status(1)
        .says("a number, but which?")
        .complains("(--decimal-mark ',')");
    let choices = world.json("scout t.csv --json")["columns"][0]["question"]["choices"].clone();
    assert_eq!(
        choices[0],
        json!({ "decimal_mark": ".", "grouping": ",", "negative": null, "type": "uint16" })
    );
    world.ok("draft t.csv --decimal-mark ,").says("type = \"decimal(4,3)\", decimal_mark = \",\"");
    world.ok("draft t.csv --decimal-mark .").says("type = \"uint16\", grouping = \",\"");
    // Another column of the file proves it.
    world.write("u.csv", "n;x\n1,234;0,5\n2,500;1,75\n");
    world.ok("draft u.csv").says("the decimal mark is ',', as column 'x' proves");
}

#[test]
fn everything_about_a_column_answers_why_it_is_text() {
    let world = World::new();
    world.write("t.csv", mostly_numbers());
    world
        .ok("scout t.csv --column depth")
        .says("would be uint8 but for 2 values: 'n/k' in line 49")
        .says("2 values ruled out uint8:")
        .says("  line 49  'n/k'")
        .says("ruled out first by 'n/k' in line 49")
        .says("Most frequent");
    world
        .ok("scout t.csv --column row")
        .says("no value stands twice, so it could be a key")
        .says("sorted, rising")
        .says("median")
        .says("Histogram");
    let report = world.json("scout t.csv --column depth --json");
    let blocker = &column(&report, "depth")["blockers"][0];
    assert_eq!((&blocker["type"], &blocker["count"]), (&json!("uint8"), &json!(2)));
    assert_eq!(blocker["examples"][0], json!({ "value": "n/k", "file": "t.csv", "line": 49 }));
    let profile = &column(&report, "depth")["profile"];
    assert_eq!(profile["readings"][0]["does_not_read"], 2);
}

#[test]
fn tolerated_misfits_are_set_aside_and_not_lost() {
    let world = World::new();
    world.write("t.csv", mostly_numbers());
    world.ok("draft t.csv --tolerate 0.9%").says("depth = { type = \"lowcard\"");
    world.ok("draft t.csv --tolerate 1% -o t.typhos.toml");
    let schema = world.read("t.typhos.toml");
    assert!(
        schema.contains("depth = { type = \"uint8\", required = true, misfit = \"reject\" }"),
        "{schema}"
    );
    assert!(schema.contains("2 misfits tolerated: 'n/k' in line 49"), "{schema}");
    world
        .run("load t.typhos.toml t.csv --into t.parquet")
        .status(1)
        .says("200 read = 198 loaded + 2 set aside");
    // Codes are no misfits: a leading zero is never tolerated away.
    let codes: String = (0..100)
        .map(|n| format!("{},x\n", if n == 7 { "007".into() } else { n.to_string() }))
        .collect();
    world.write("codes.csv", format!("c,d\n{codes}"));
    world.ok("draft codes.csv --tolerate 10%").says("type = \"text(6)\"");
}

#[test]
fn the_rules_of_a_house_stand_beside_the_data_or_above() {
    let world = World::new();
    std::fs::create_dir_all(world.path("house/data")).unwrap();
    world.write("house/data/t.csv", "Sold By,n,k\nx,40,1\ny,200,n/k\n");
    world.write(
        "house/typhos.toml",
        "headroom = 1\nabsent = ['n/k']\nnaming = 'snake'\nnever = ['unsigned']\n",
    );
    world
        .ok("draft house/data/t.csv")
        .says("absent = [\"\", \"n/k\"]")
        .says("sold_by = { type = \"text(1)\", from = \"Sold By\"")
        .says("n       = { type = \"int16\"")
        .says("k       = { type = \"int8\" }");
    world
        .ok("scout house/data/t.csv -v --headroom 3")
        .says("house/typhos.toml")
        .says("headroom      3              --headroom")
        .says("naming        snake          typhos.toml")
        .says("tolerate      0%             usual");
    world.write("house/data/typhos.toml", "headrom = 1\n");
    world
        .run("scout house/data/t.csv")
        .status(2)
        .complains("unknown key 'headrom' in a settings file")
        .complains("did you mean 'headroom'?");
}

#[test]
fn options_decide_what_is_drafted() {
    let world = World::new();
    world.write("t.csv", "n,f,q,t\n1,1.5,\"5\",2024-03-01\n2,1.25,\"6\",2024-03-02\n");
    for (options, says) in [
        ("", "f = { type = \"decimal(3,2)\""),
        ("--fractions exact", "f = { type = \"decimal(3,2)\""),
        ("--fractions float --never float32", "f = { type = \"float64\""),
        ("--never float,decimal", "f = { type = \"text(8)\""),
        ("--never unsigned", "n = { type = \"int8\""),
        ("--never date", "t = { type = \"text(10)\""),
        ("--quoted text", "q = { type = \"text(1)\""),
        ("--quoted any", "q = { type = \"uint8\""),
        ("--without f,q", "# Left out, as wanted: 'f', 'q'."),
        ("--rows 1", "# Drafted by typhos from a sample of t.csv: only the first 1 record."),
    ] {
        world.ok(&format!("draft t.csv {options}")).says(says);
    }
    let only = world.json("scout t.csv --only t,n --json");
    let names: Vec<_> = only["columns"].as_array().unwrap().iter().map(|c| &c["name"]).collect();
    assert_eq!(names, ["n", "t"]);
    let sample = world.json("scout t.csv --rows 1 --json");
    assert_eq!((&sample["sample"], &sample["records"]), (&json!(true), &json!(1)));
    // As many as there are is all of them.
    assert_eq!(world.json("scout t.csv --rows 2 --json")["sample"], false);
    world.ok("scout t.csv --rows 1").says("a sample: the first ones only");
    for (line, complaint) in [
        ("draft t.csv --only fx", "there is no column 'fx'; did you mean 'f'?"),
        ("draft t.csv --never uint", "did you mean 'uint8'?"),
        ("draft t.csv --never text", "text is what remains"),
        ("draft t.csv --tolerate 60%", "at most 50%"),
        ("draft t.csv --only f --without n", "cannot be used with"),
    ] {
        world.run(line).status(2).complains(complaint);
    }
}

#[test]
fn surveys_are_pooled_in_any_order() {
    let world = World::demo(300);
    let months = ["2024-03", "2024-01", "2024-02"];
    for month in months {
        world.ok(&format!(
            "scout crossings/{month}.csv --encoding windows-1252 --save {month}.survey -q"
        ));
    }
    let whole =
        "crossings/2024-01.csv crossings/2024-02.csv crossings/2024-03.csv --encoding windows-1252";
    let drafted = world.ok(&format!("draft {whole} --table t")).out;
    for order in ["2024-03 2024-01 2024-02", "2024-01 2024-02 2024-03", "2024-02 2024-03 2024-01"] {
        let files: Vec<_> = order.split(' ').map(|month| format!("{month}.survey")).collect();
        let files = files.join(" ");
        world
            .ok(&format!("pool {files} -o all.survey --replace"))
            .complains("3 files, from 3 surveys");
        assert_eq!(world.ok("draft all.survey --table t").out, drafted, "{order}");
        assert_eq!(world.ok(&format!("draft {files} --table t")).out, drafted, "{order}");
    }
    let (one, pooled) =
        (world.json(&format!("scout {whole} --json")), world.json("scout all.survey --json"));
    assert_eq!(one["columns"], pooled["columns"]);
    assert_eq!(one["input"]["bytes"], pooled["input"]["bytes"]);
    world.ok("scout all.survey --column column_6").says("Quantiles");
    world.run("scout crossings/2024-01.csv --save all.survey").status(2).complains("exists");
    world
        .run("draft all.survey --delimiter ,")
        .status(2)
        .complains("a saved survey is not read again");
    world
        .run("draft all.survey --absent x")
        .status(2)
        .complains("scout again with the same --absent");
    world.ok("scout tickets.csv --save tickets.survey -q");
    world
        .run("pool tickets.survey 2024-01.survey -o x.survey")
        .status(2)
        .complains("have other columns");
    assert!(!world.path("x.survey").exists());
    world
        .run("pool 2024-01.survey 2024-01.survey -o x.survey")
        .status(1)
        .complains("was it scouted twice?");
}

#[test]
fn survey_files_that_are_not_understood_are_refused() {
    let world = World::demo(50);
    world.ok("scout tickets.csv --save t.survey -q");
    let good = std::fs::read(world.path("t.survey")).unwrap();
    world.write("new.survey", [b"typhos survey 5\n", &good[16..]].concat());
    world
        .run("draft new.survey")
        .status(3)
        .complains("new.survey: has version 5 of the format; this program reads version 4");
    world.write("cut.survey", &good[..good.len() / 2]);
    world.run("draft cut.survey").status(3).complains("cut.survey: is damaged");
    world
        .run("pool tickets.csv -o x.survey")
        .status(3)
        .complains("tickets.csv: is not a saved survey");
    // Any byte changed is an answer or an error, and nothing else.
    for at in (0..good.len()).step_by(good.len() / 40 + 1) {
        let mut bad = good.clone();
        bad[at] ^= 0x20;
        world.write("bad.survey", bad);
        let ran = world.run("draft bad.survey");
        assert!([0, 1, 3].contains(&ran.status), "byte {at}: {}", ran.err);
    }
}

#[test]
fn a_redraft_keeps_what_a_person_wrote() {
    let world = World::demo(200);
    let kept = "# Ours.\ntyphos = 1\n[columns]\nprice = { type = \"decimal(9,2)\", from = \"fare\" } # before tax\n\
                # note = { type = \"text\" }\nold = { type = \"text\" }\nparty = { type = \"auto\" }\n";
    world.write("t.typhos.toml", kept);
    let ran = world.ok("draft tickets.csv --keep t.typhos.toml --headroom 1");
    for line in kept.lines() {
        assert!(ran.out.lines().any(|known| known == line), "{line}\n{}", ran.out);
    }
    let ran = ran
        .says("\nroute = { type = \"lowcard\"")
        .complains("new      ticket_no: uint8")
        .complains("gone     old")
        .complains("kept     price: decimal(9,2), where a draft would say decimal(4,2)");
    assert!(!ran.out.contains("\nnote ="), "{}", ran.out);
    world.write("u.typhos.toml", ran.out.replace("old = { type = \"text\" }\n", ""));
    world
        .ok("check u.typhos.toml tickets.csv")
        .complains("auto: party is uint8")
        .says("every value fits");
}

#[test]
fn open_types_are_decided_from_the_data_at_hand() {
    let world = World::new();
    world.write("t.csv", "a,b,c,d,e\n1,5,01.02.2024,\"1,5\",x\nNA,7,03.04.2024,\"2,25\",y\n");
    let schema = "typhos = 1\n[columns]\na = { type = \"auto\" }\nb = { type = \"auto\", high = 10000 }\n\
                  c = { type = \"auto\", patterns = [\"dd.MM.yyyy\"] }\n\
                  d = { type = \"auto\", decimal_mark = \",\", misfit = \"null\" }\n\
                  e = { type = \"auto\", values = [\"x\", \"y\"] }\n";
    world.write("t.typhos.toml", schema);
    world
        .ok("load t.typhos.toml t.csv --into t.parquet")
        .complains("auto: a is uint8")
        .complains("auto: b is uint16")
        .complains("auto: c is date")
        .complains("auto: d is decimal(3,2)")
        .complains("auto: e is category");
    let peek = world.json("peek t.parquet --json");
    assert_eq!(
        peek["rows"],
        json!([["1", "5", "2024-02-01", "1.50", "x"], [null, "7", "2024-04-03", "2.25", "y"]])
    );
    // What is declared absent is all that is.
    world.write(
        "u.typhos.toml",
        "typhos = 1\n[columns]\na = { type = \"auto\", absent = [\"\"] }\n",
    );
    world.ok("check u.typhos.toml t.csv").complains("auto: a is text");
    world.write("v.typhos.toml", "typhos = 1\n[columns]\nc = { type = \"auto\" }\na = { type = \"auto\", low = 0, absent = [\"\"] }\n");
    world
        .run("check v.typhos.toml t.csv")
        .status(2)
        .complains("the data does not tell what 'c' is")
        .complains("'a' is declared as numbers, and its values are text");
    let stream = std::fs::File::open(world.path("t.csv")).unwrap();
    let output = world.command("check t.typhos.toml -").stdin(stream).output().unwrap();
    assert_eq!(output.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&output.stderr).contains("a stream is read only once"));
    world.write("w.typhos.toml", "typhos = 1\n[columns]\na = { type = \"auto\", patterns = [\"yyyy-MM-dd\"], strip = \"x\" }\n");
    world
        .run("check w.typhos.toml t.csv")
        .status(2)
        .complains("one key says that the column holds dates, another numbers");
}

#[test]
fn a_schema_is_the_mapping_of_an_index() {
    let world = World::new();
    world.write(
        "t.typhos.toml",
        "typhos = 1\n[columns]\nid = { type = 'uint64' }\n\"where.port\" = { type = 'lowcard' }\n\
         note = { type = 'text' }\nlegs = { type = 'list(struct)', fields = { km = { type = 'decimal(4,1)', search = 'none' } } }\n",
    );
    let ran = world.ok("emit t.typhos.toml --as mapping");
    assert!(ran.err.contains("note: 'id' is stored as unsigned_long, exactly"), "{}", ran.err);
    let body: serde_json::Value = serde_json::from_str(&ran.out).unwrap();
    let properties = &body["mappings"]["properties"];
    assert_eq!(properties["where"]["properties"]["port"]["type"], "keyword");
    assert_eq!(properties["note"]["fields"]["exact"]["type"], "keyword");
    assert_eq!(properties["legs"]["type"], "nested");
    assert_eq!(properties["legs"]["properties"]["km"]["index"], false);
    world.ok("emit t.typhos.toml --as mapping -o body.json").says("for a search index");
    assert_eq!(world.read("body.json"), ran.out);
    world.write("bad.typhos.toml", "typhos = 1\n[columns]\n_id = { type = 'text' }\n");
    world
        .run("emit bad.typhos.toml --as mapping")
        .status(2)
        .complains("'_id' is a field that every index has for itself");
    world.write(
        "words.typhos.toml",
        "typhos = 1\n[columns]\na = { type = 'uint8', search = 'full' }\n",
    );
    world
        .run("emit words.typhos.toml --as mapping")
        .status(2)
        .complains("not searched by the words");
}

/// Rows as they are written are held against the emitted schema by a validator that is not ours.
#[test]
fn rows_as_json_are_what_the_schema_says_of_them() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let python = root.join("target/python/bin/python");
    if !crate::world::tool(&python.display().to_string()) {
        return;
    }
    let world = World::demo(300);
    world.write("edges.csv", "id,kind,f,d,e,t,at,utc,len,u,ip,p,j,ok,n\n\
        1,deck,-1e-9,-9999.99,0.00,23:59:59.5,0001-01-01 00:00:00,9999-12-31T23:59:59Z,-25:51:00,6f9619ff-8b86-d011-b42d-00cf4fc964ff,::1,\"-0.0000001,180\",[1],yes,Skår\n\
        18446744073709551615,saloon,1e300,9999.99,,,,,,,10.0.0.1,\"59.91,-10.75\",\"{\"\"a\"\":null}\",,\n");
    world.write(
        "edges.typhos.toml",
        r#"
typhos = 1
[input]
absent = [""]
[columns]
id = { type = "uint64" }
kind = { type = "category", values = ["deck", "saloon"], required = true }
f = { type = "float64" }
d = { type = "decimal(6,2)" }
e = { type = "decimal(38,2)", low = "0" }
t = { type = "time(ms)", patterns = ["HH:mm:ss.S"] }
at = { type = "timestamp(s)", patterns = ["yyyy-MM-dd HH:mm:ss"] }
utc = { type = "timestamp(s, utc)", patterns = ["yyyy-MM-dd'T'HH:mm:ssX"] }
len = { type = "duration(s)" }
u = { type = "uuid" }
ip = { type = "ip" }
p = { type = "geopoint" }
j = { type = "json" }
ok = { type = "bool" }
n = { type = "text(4)" }
[layout]
key = ["id"]
"#,
    );
    let ran = world.ok("emit edges.typhos.toml --as json-schema -o edges.schema.json");
    assert!(ran.err.contains("note: that 'id' is a key is kept in the schema file"), "{}", ran.err);
    ran.says("table edges for JSON documents");
    world.write("edges.rows", &world.ok("peek edges.typhos.toml edges.csv --as ndjson").out);
    for (name, input) in
        [("tickets", "tickets.csv"), ("engines", "engines.ndjson"), ("kept", "engines.ndjson")]
    {
        let nested = if name == "kept" { "--nested keep" } else { "" };
        world.ok(&format!("draft {input} {nested} -o {name}.typhos.toml"));
        world.ok(&format!("emit {name}.typhos.toml --as json-schema -o {name}.schema.json"));
        let rows = world.ok(&format!("peek {name}.typhos.toml {input} --rows all --as ndjson"));
        world.write(&format!("{name}.rows"), &rows.out);
    }
    world.write("validate.py", r#"
import json
from jsonschema import Draft202012Validator, FormatChecker

checked = 0
for name in ["edges", "tickets", "engines", "kept"]:
    schema = json.load(open(f"{name}.schema.json"))
    Draft202012Validator.check_schema(schema)
    validator = Draft202012Validator(schema, format_checker=FormatChecker())
    for line in open(f"{name}.rows"):
        row = json.loads(line)
        validator.validate(row)
        checked += 1
        # Whatever is not declared, and whatever is of another kind, is found.
        assert not validator.is_valid({**row, "nobody": 1}), name
        for column in row:
            assert not validator.is_valid({**row, column: b""}), (name, column)
        for column in schema.get("required", []):
            assert not validator.is_valid({**row, column: None}), (name, column)
            assert not validator.is_valid({k: v for k, v in row.items() if k != column}), (name, column)
edge = json.loads(open("edges.rows").readline())
edges = Draft202012Validator(json.load(open("edges.schema.json")), format_checker=FormatChecker())
for column, wrong in [("id", -1), ("id", 18446744073709551616), ("id", 1.5), ("kind", "cabin"), ("f", "1"), ("d", 10000), ("e", -0.01),
                      ("t", "24:00:00"), ("at", "2026-03-01T00:00:00"), ("utc", "2026-03-01 00:00:00"), ("len", "1:60:00"),
                      ("ip", "10.0.0.256"), ("p", "59.91"), ("j", 1), ("ok", "true"), ("n", "Skerr"), ("at", "2026-03-01")]:
    assert not edges.is_valid({**edge, column: wrong}), (column, wrong)
print(checked, "rows")
"#);
    let told = std::process::Command::new(&python)
        .arg("validate.py")
        .current_dir(world.path("."))
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&told.stdout).into_owned();
    assert!(told.status.success(), "{said}{}", String::from_utf8_lossy(&told.stderr));
    let lines = |name: &str| world.read(name).lines().count();
    let rows: usize =
        ["edges.rows", "tickets.rows", "engines.rows", "kept.rows"].into_iter().map(lines).sum();
    assert_eq!(said.trim(), format!("{rows} rows"));
}
