//! What real deliveries have that is easily misread: columns nobody declared, records cut short, quotes left
//! open, totals, foreign encodings, accounts, parts that are absent.

use serde_json::json;

use crate::world::World;

const TWO: &str = "typhos = 1\n[columns]\nid = { type = \"uint8\" }\nname = { type = \"text\" }\n";

#[test]
fn undeclared_columns_are_told_everywhere() {
    let world = World::new();
    world
        .write("t.csv", "id,name,extra,note\n1,Holm,5,a\n2,Tang,6,b\n")
        .write("s.typhos.toml", TWO);
    let note = "2 columns of t.csv are not declared: 'extra', 'note'; left out";
    for command in [
        "check s.typhos.toml t.csv",
        "load s.typhos.toml t.csv --into t.parquet --plan",
        "load s.typhos.toml t.csv --into t.parquet",
        "peek s.typhos.toml t.csv",
        "weigh s.typhos.toml t.csv",
    ] {
        world.ok(command).complains(note);
    }
    let want = json!({ "policy": "note", "columns": ["extra", "note"] });
    assert_eq!(world.json("check s.typhos.toml t.csv --json")["undeclared"], want);
    assert_eq!(world.json("load s.typhos.toml t.csv --into u.parquet --json")["undeclared"], want);
    let plan = world.json("load s.typhos.toml t.csv --into v.parquet --plan --json");
    assert_eq!(plan["undeclared"], want);

    // Said to be an error, nothing is done; said to be nothing, nothing is said.
    let stop = TWO.replace("[columns]", "[input]\nundeclared = \"stop\"\n[columns]");
    world.write("stop.typhos.toml", &stop);
    world
        .run("load stop.typhos.toml t.csv --into w.parquet")
        .status(4)
        .complains("are not declared: 'extra', 'note'; declare them");
    assert!(!world.path("w.parquet").exists());
    world.run("check stop.typhos.toml t.csv").status(1).says("(would stop a load)");
    world.run("load stop.typhos.toml t.csv --into w.parquet --plan").status(1).says("problem:");
    let quiet = world.ok("check stop.typhos.toml t.csv --undeclared ignore");
    assert!(!quiet.err.contains("declared"), "{}", quiet.err);

    // A line that is a comment was written by somebody who knew of the column.
    world.write(
        "c.typhos.toml",
        stop + "# extra = { type = \"uint8\" }\n# note = { type = \"text\" }\n",
    );
    world.ok("load c.typhos.toml t.csv --into w.parquet");
}

#[test]
fn short_records_are_found_drafted_and_kept_in_their_places() {
    let world = World::new();
    let rows = "1,Holm,5,1\n2,Tang\n3,Sker,7\n4,Aran,8,2\n5,Bo,many\n6,Cy,9,3\n";
    world.write("t.csv", format!("id,name,n,m\n{rows}"));
    world
        .ok("scout t.csv")
        .says("short      absent  3 of the first 7 records leave out fields at their end");
    world.ok("draft t.csv -o t.typhos.toml");
    let schema = world.read("t.typhos.toml");
    assert!(schema.contains("short_records = \"absent\""), "{schema}");
    let lines = schema.lines().map(|line| match line.starts_with("n ") {
        true => "n = { type = \"uint8\", misfit = \"reject\" }\n".to_owned(),
        false => format!("{line}\n"),
    });
    world.write("t.typhos.toml", lines.collect::<String>());
    world
        .run("load t.typhos.toml t.csv --into t.parquet")
        .status(1)
        .says("6 read = 5 loaded + 1 set aside");
    assert_eq!(world.json("peek t.parquet --json")["rows"][1], json!(["2", "Tang", null, null]));
    let rejects = world.read(&world.rejects());
    assert!(rejects.contains("\n5,Bo,many,,t.csv,6,n,is not an integer\n"), "{rejects}");
    world.write("mended.csv", rejects.replace("many", "4"));
    world.ok("load t.typhos.toml mended.csv --into m.parquet").says("1 read = 1 loaded");

    // Where they are broken, the columns of the rejects are in their places too.
    world
        .run("load t.typhos.toml t.csv --into b.parquet --short-records reject --mode replace")
        .status(4)
        .complains("has 2 fields instead of 4");
}

#[test]
fn a_quote_that_is_never_closed_takes_one_record() {
    let world = World::new();
    let rows: String = (3..300).map(|n| format!("{n},Sker\n")).collect();
    world.write("t.csv", format!("id,name\n1,Holm\n2,\"Tang\n{rows}"));
    let schema = "typhos = 1\n[input]\nmisfit = \"reject\"\n[columns]\nid = { type = \"uint16\" }\nname = { type = \"text\" }\n";
    world.write("s.typhos.toml", schema);
    let why = "has a quote, opened in line 3, that is never closed; it ends after 1 line, since line 4 looks like the next record";
    world.run("scout t.csv").status(1).says(why);
    world
        .run("load s.typhos.toml t.csv --into t.parquet")
        .status(1)
        .says(why)
        .says("299 read = 298 loaded + 1 set aside");
    assert!(world.read(&world.rejects()).contains("\n2,\"Tang,t.csv,3,,"));
    // In a stream too, and where the text goes on for some lines.
    let text = "id,name\n1,Holm\n2,\"Tang\nand more\nof it\n3,Sker\n4,Aran\n";
    let ran = world.run_with("check s.typhos.toml -", text).status(1);
    ran.says("it ends after 3 lines, since line 6 looks like the next record")
        .says("4 read = 3 would load + 1 would not");
    // Beyond the record limit the file is read again from the next record.
    world
        .run("check s.typhos.toml t.csv --record-limit 1KiB")
        .status(1)
        .says(why)
        .says("299 read = 298 would load + 1 would not");
}

#[test]
fn totals_and_remarks_are_told_and_left_out_where_that_is_said() {
    let world = World::new();
    let rows: String = (1..10).map(|n| format!("Holm{n},{n}\n")).collect();
    world.write("t.csv", format!("port,n\n{rows}Total,45\n\nSource: the office\n"));
    let note = "3 lines at the end look like totals and remarks: 'Total'; to leave them out, say --skip-end 3";
    world.run("scout t.csv").status(1).says(note);
    let found = world.json("scout t.csv --json");
    assert_eq!((&found["input"]["end"][0]["lines"], &found["records"]), (&json!(3), &json!(10)));
    world.run("draft t.csv").status(1).complains(note);
    world.ok("draft t.csv --skip-end 3 -o t.typhos.toml");
    assert!(world.read("t.typhos.toml").contains("skip_end = 3"));
    let schema = world
        .read("t.typhos.toml")
        .replace("\"uint8\"", "\"uint8\", high = 8, misfit = \"reject\"");
    world.write("t.typhos.toml", schema.replace(", misfit = \"stop\"", ""));
    world
        .run("load t.typhos.toml t.csv --into t.parquet")
        .status(1)
        .says("9 read = 8 loaded + 1 set aside");
    // What is skipped at the end of the input is there at the end of its rejects too.
    let rejects = world.read(&world.rejects());
    world.write("mended.csv", rejects.replace("Holm9,9", "Holm9,8"));
    world.ok("load t.typhos.toml mended.csv --into m.parquet").says("1 read = 1 loaded");
}

#[test]
fn units_below_a_header_are_skipped_and_said() {
    let world = World::new();
    world.write("t.csv", "time,depth\ns,m\n1,5.5\n2,6.5\n3,x\n4,7.5\n");
    world.ok("draft t.csv -o t.typhos.toml").complains("skipped 1 line below the header of t.csv");
    let schema = world.read("t.typhos.toml");
    assert!(schema.contains("skip_below = 1"), "{schema}");
    let schema =
        schema.replace("type = \"text(6)\"", "type = \"decimal(3,1)\", misfit = \"reject\"");
    world.write("t.typhos.toml", schema);
    world
        .run("load t.typhos.toml t.csv --into t.parquet")
        .status(1)
        .says("t.csv:5  depth: 'x' is not a number")
        .says("4 read = 3 loaded + 1 set aside");
    let rejects = world.read(&world.rejects());
    assert!(rejects.contains("rejected_reason\ns,m\n3,x,"), "{rejects}");
}

#[test]
fn encodings_are_judged_far_behind_the_head_and_for_all_files_alike() {
    let world = World::new();
    let mut late = b"id,name\n".to_vec();
    (0..150_000).for_each(|n| late.extend(format!("{n},Holm\n").bytes()));
    late.extend_from_slice(b"7,T\xe5rnvik\n");
    world.write("late.csv", &late);
    world.ok("scout late.csv").says("windows-1252  likely: not UTF-8, and it reads 'Tårnvik'");
    assert!(world.ok("draft late.csv").out.contains("encoding = \"windows-1252\""));

    std::fs::create_dir(world.path("in")).unwrap();
    world.write("in/a.csv", "id,name\n1,Holm\n").write("in/b.csv", b"id,name\n2,Skerr\xf8y\n");
    assert!(world.ok("draft in").out.contains("encoding = \"windows-1252\""));
    world.ok("draft in -o in.typhos.toml");
    world.ok("load in.typhos.toml in --into t.parquet");
    assert_eq!(world.json("peek t.parquet --json")["rows"][1], json!(["2", "Skerrøy"]));
    // Code pages of old are said.
    world.write("old.csv", b"id,name\n1,T\x86rnvik\n");
    world.write("s.typhos.toml", TWO);
    world.ok("load s.typhos.toml old.csv --into o.parquet --encoding cp850");
    assert_eq!(world.json("peek o.parquet --json")["rows"][0], json!(["1", "Tårnvik"]));
    world.run("scout old.csv --encoding cp9").status(2).complains("is not an encoding");
}

#[test]
fn files_that_are_no_data_and_files_given_twice_are_told() {
    let world = World::new();
    std::fs::create_dir(world.path("in")).unwrap();
    world.write("in/a.csv", "id,name\n1,Holm\n").write("in/_SUCCESS", "").write("in/b.csv", "");
    world.ok("scout in").says("in/_SUCCESS, in/b.csv are passed over: empty").says("1 record");
    world.write("s.typhos.toml", TWO);
    world.ok("check s.typhos.toml in").complains("are passed over").says("1 read = 1 would load");
    world
        .ok("load s.typhos.toml in/a.csv in/../in/a.csv --into t.parquet")
        .complains("in/../in/a.csv is given twice: its records count twice")
        .says("2 read = 2 loaded");
    let json = world.json("scout in --json");
    assert!(json["input"]["notes"][0].as_str().unwrap().contains("_SUCCESS"), "{json}");
    // An empty file that is named is an error.
    world.run("scout in/b.csv").status(3).complains("in/b.csv is empty");
}

#[test]
fn tables_are_named_by_what_can_be_a_name() {
    let world = World::new();
    std::fs::create_dir(world.path("crossings")).unwrap();
    for name in ["2024-01.csv", "my file.csv", "crossings/2024-01.csv", "crossings/2024-02.csv"] {
        world.write(name, "a,b\n1,2\n");
    }
    let table = |ran: crate::world::Ran| {
        let line = ran.out.lines().find(|line| line.starts_with("table")).unwrap().to_owned();
        line.replace("table = ", "").replace('"', "")
    };
    assert_eq!(table(world.ok("draft 2024-01.csv")), "data_2024_01");
    assert_eq!(table(world.run_args(&["draft", "my file.csv"])), "my_file");
    assert_eq!(table(world.ok("draft crossings")), "crossings");
    assert_eq!(table(world.run_with("draft -", "a,b\n1,2\n")), "data");
}

#[test]
fn a_redraft_tells_what_a_declaration_was_outgrown_by() {
    let world = World::new();
    let rows = |cabin: &str, fare: &str, from: u32| -> String {
        (from..from + 60).map(|n| format!("{n},{cabin},{fare},2024-01-0{}\n", n % 9 + 1)).collect()
    };
    world.write(
        "jan.csv",
        "id,cabin,fare,day\n".to_owned() + &rows("deck", "5.25", 1) + &rows("saloon", "5.50", 61),
    );
    world.ok("draft jan.csv --without day -o t.typhos.toml");
    let schema = world.read("t.typhos.toml");
    assert!(schema.contains("\n# day = { type = \"auto\" }"), "{schema}");
    world.write(
        "feb.csv",
        "id,cabin,fare,day\n".to_owned() + &rows("deck", "5.25", 1) + &rows("hold", "215.50", 361),
    );
    let ran = world.ok("draft feb.csv --keep t.typhos.toml");
    assert_eq!(ran.out.trim_end(), schema.trim_end(), "nothing is put in for what was left out");
    ran.complains("outgrown id: uint8  '420' is outside of uint8: 0 to 255")
        .complains("outgrown cabin: category  1 value in 60 records is not listed: 'hold'")
        .complains("outgrown fare: decimal(4,2)  '215.50' is outside");
    let quiet = world.ok("draft jan.csv --keep t.typhos.toml");
    assert!(!quiet.err.contains("outgrown"), "{}", quiet.err);
}

#[test]
fn keys_are_proven_however_many_values_there_are() {
    let world = World::new();
    let rows: String = (1..=90_000).map(|n| format!("{n},{}\n", n % 7)).collect();
    world.write("t.csv", format!("id,v\n{rows}"));
    world.ok("scout t.csv --key id").says("✓ 'id' is a key: all 90,000 records differ in it.");
    let found = world.json("scout t.csv --json");
    assert!(
        found["columns"][0]["distinct"].as_u64().unwrap() <= 90_000,
        "no more values than records"
    );
    world.write("u.csv", format!("id,v\n{rows}778,3\n,4\n"));
    let ran = world.run("scout u.csv --key id").status(1);
    ran.says("'id' is not a key: 1 record repeats what another has; 1 absent")
        .says("u.csv:90002  as in u.csv:779");
    assert_eq!(world.json("scout u.csv --key v,id --json")["key"]["is_key"], json!(false));
    world.run("scout u.csv --key nope").status(2).complains("there is no column 'nope'");
    world
        .run_with("scout - --key id", "id\n1\n")
        .status(2)
        .complains("--key reads the input a second time");
}

#[test]
fn parts_that_are_absent_have_their_policy() {
    let world = World::new();
    world.write("t.csv", "a,b,c\nx,,z\n,,\np,q,r\n");
    let rows = |policy: &str| {
        let schema = format!(
            "typhos = 1\n[columns]\nj = {{ type = \"text\", from = [\"a\", \"b\", \"c\"], glue = \"-\", \
             glue_absent = \"{policy}\" }}\nf = {{ generate = \"file\" }}\nl = {{ generate = \"line\", type = \"uint8\" }}\n"
        );
        world.write("s.typhos.toml", schema);
        world.json("peek s.typhos.toml t.csv --json")["rows"].clone()
    };
    assert_eq!(
        rows("skip"),
        json!([["x-z", "t.csv", "2"], [null, "t.csv", "3"], ["p-q-r", "t.csv", "4"]])
    );
    assert_eq!(
        rows("null"),
        json!([[null, "t.csv", "2"], [null, "t.csv", "3"], ["p-q-r", "t.csv", "4"]])
    );
    assert_eq!(rows("misfit"), json!([[null, "t.csv", "3"], ["p-q-r", "t.csv", "4"]]));
    world.run("check s.typhos.toml t.csv").status(1).says("number 2");
    world.write(
        "s.typhos.toml",
        "typhos = 1\n[columns]\nf = { generate = \"file\", type = \"uint8\" }\n",
    );
    world.run("check s.typhos.toml t.csv").status(2).complains("names of files are texts");
}

#[test]
fn questions_have_their_answers() {
    let world = World::new();
    world.write("t.csv", "release,amount,ordered,shipped\n2.1,100.00 CR,03/04/2024,05/06/2024\n2.10,25.50 DR,01/02/2024,02/03/2024\n");
    let ran = world.run("draft t.csv").status(1);
    let ran = ran.complains(
        "'release' has '2.1' in line 2 and '2.10' in line 3, which are two versions or one number",
    );
    let ran = ran
        .complains("amounts marked DR and CR")
        .complains("DR (--negative DR) or CR (--negative CR)");
    assert!(ran.out.contains("type = \"text\" or type = \"decimal(3,2)\""), "{}", ran.out);
    let options = "--fractions exact --negative dr --date-order mdy --date-order ordered:dmy";
    world.ok(&format!("draft t.csv {options} -o t.typhos.toml --headroom 1"));
    world.ok("load t.typhos.toml t.csv --into t.parquet");
    assert_eq!(
        world.json("peek t.parquet --json")["rows"],
        json!([
            ["2.10", "100.00", "2024-04-03", "2024-05-06"],
            ["2.10", "-25.50", "2024-02-01", "2024-02-03"]
        ])
    );
    world.run("draft t.csv --date-order nope:dmy").status(2).complains("there is no column 'nope'");
    let questions = world.json("scout t.csv --json");
    assert_eq!(questions["columns"][1]["question"]["about"], "negative");
    assert_eq!(questions["columns"][0]["question"]["lines"][1], "type = \"decimal(3,2)\"");
}

#[test]
fn declared_marks_hold_where_types_are_left_open() {
    let world = World::new();
    world.write("t.csv", "p;n\n1.234,50;1.234\n99,25;345\n");
    world.write("s.typhos.toml", "typhos = 1\n[columns]\np = { type = \"auto\" }\nn = { type = \"auto\", decimal_mark = \".\" }\n");
    assert_eq!(
        world.json("peek s.typhos.toml t.csv --json")["rows"][0],
        json!(["1234.50", "1.234"])
    );
    world.write(
        "s.typhos.toml",
        "typhos = 1\n[columns]\np = { type = \"auto\" }\nn = { type = \"auto\" }\n",
    );
    assert_eq!(
        world.json("peek s.typhos.toml t.csv --json")["rows"][0],
        json!(["1234.50", "1234"])
    );
    // A neighbour proves nothing where the mark is declared.
    world.write("u.csv", "n;x\n1.234;a\n345;b\n");
    world.write("s.typhos.toml", "typhos = 1\n[columns]\nn = { type = \"auto\", decimal_mark = \",\" }\n# x = { type = \"text\" }\n");
    assert_eq!(world.json("peek s.typhos.toml u.csv --json")["rows"][0], json!(["1234"]));
    world.write("v.csv", "n\n1.5\n2.25\n");
    world
        .run("check s.typhos.toml v.csv")
        .status(2)
        .complains("'n' is declared with the decimal mark ',', and its values have '.'");
}

#[test]
fn dates_without_patterns_are_those_of_iso_8601() {
    let world = World::new();
    world
        .write("t.csv", "d,t,u,c\n2024-03-01,2024-03-01T10:20:30.5,2024-03-01 10:20+02:00,10:20\n");
    world.write(
        "s.typhos.toml",
        "typhos = 1\n[columns]\nd = { type = \"date\" }\nt = { type = \"timestamp(ms)\" }\nu = { type = \"timestamp(s, utc)\" }\nc = { type = \"time(s)\" }\n",
    );
    assert_eq!(
        world.json("peek s.typhos.toml t.csv --json")["rows"][0],
        json!(["2024-03-01", "2024-03-01 10:20:30.500", "2024-03-01 08:20:00Z", "10:20:00"])
    );
    world.write("u.csv", "d,t,u,c\n01.03.2024,x,y,z\n");
    world.run("check s.typhos.toml u.csv").status(1).says("is not read by 'yyyy-MM-dd'");
    world
        .run("dates 2024-02-30")
        .status(1)
        .says("is not a day: 2024-02 has 29 days, and no day 30");
}

#[test]
fn the_order_of_a_ranked_category_is_kept_or_told() {
    let world = World::new();
    world.write("t.csv", "cabin\ndeck\nsaloon\n");
    world.write(
        "s.typhos.toml",
        "typhos = 1\n[columns]\ncabin = { type = \"category\", values = [\"saloon\", \"deck\"], ranked = true }\n",
    );
    let lost = "the order of the values of 'cabin' is kept in the schema file alone";
    world.ok("load s.typhos.toml t.csv --into t.sqlite").says(lost);
    world.ok("load s.typhos.toml t.csv --into t.parquet");
    world.ok("load s.typhos.toml t.csv --into t.arrow");
    for name in ["t.parquet", "t.arrow"] {
        let bytes = std::fs::read(world.path(name)).unwrap();
        let text = String::from_utf8_lossy(&bytes);
        assert!(text.contains("typhos.ranked") && text.contains("[\"saloon\",\"deck\"]"), "{name}");
    }
}

/// However many distinct texts a column has, those with something escaped in them are what they say, not what stands in the file.
#[test]
fn escaped_texts_are_themselves_among_many() {
    let world = World::new();
    // More than are counted one by one.
    let values: Vec<String> =
        (0..70_000u32).map(|at| format!("\"Crate\" {} 'of' \\ {}", name_of(at), at % 7)).collect();
    let csv = |quote: &str| -> String {
        let doubled = |value: &String| value.replace(quote, &quote.repeat(2));
        values.iter().map(|value| format!("{quote}{}{quote},1\n", doubled(value))).collect()
    };
    let lines = |line: &dyn Fn(&String) -> String| values.iter().map(line).collect::<String>();
    let plain = lines(&|value| format!("{value}\t1\n"));
    let backslashes =
        lines(&|value| format!("\"{}\",1\n", value.replace('\\', "\\\\").replace('"', "\\\"")));
    let objects = lines(&|value| format!("{}\n", json!({ "text": value, "n": 1 })));
    world
        .write("plain.tsv", format!("text\tn\n{plain}"))
        .write("double.csv", format!("text,n\n{}", csv("\"")))
        .write("single.csv", format!("text,n\n{}", csv("'")))
        .write("backslash.csv", format!("text,n\n{backslashes}"))
        .write("objects.ndjson", objects);
    let told = |line: &str| {
        let column = world.json(&format!("scout --json {line}"))["columns"][0].clone();
        ["name", "type", "distinct", "min", "max", "max_chars", "absent"]
            .map(|key| column[key].clone())
    };
    let want = told("plain.tsv --quote none --delimiter tab");
    assert_eq!(want[5], json!(values.iter().map(String::len).max()));
    for line in
        ["double.csv", "single.csv --quote '", "backslash.csv --escape backslash", "objects.ndjson"]
    {
        assert_eq!(told(line), want, "{line}");
    }
}

/// A word of letters for a number.
fn name_of(mut number: u32) -> String {
    let mut name = String::new();
    for _ in 0..5 {
        name.push(char::from(b'k' + (number % 15) as u8));
        number /= 15;
    }
    name
}
