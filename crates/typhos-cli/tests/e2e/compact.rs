//! Compact by proof: lossy conversions that are declared, ledgers, and rows in an order.

use serde_json::{Value, json};

use crate::world::World;

/// The column of a ledger with a name.
fn column<'r>(ledger: &'r Value, name: &str) -> &'r Value {
    let columns = ledger["columns"].as_array().unwrap();
    columns.iter().find(|column| column["name"] == name).unwrap()
}

#[test]
fn what_is_declared_to_be_lost_is_counted_and_told() {
    let world = World::new();
    world.write("t.csv", "fare,when,note,x\n7.5,2024-03-01 10:00,a long note,16777217\n8.5,2024-03-02 00:00,short,0.5\n-2.50,2024-03-03 09:30,Tårnvik pier,2\n");
    let schema = |fare: &str, when: &str, note: &str, x: &str| {
        format!(
            "typhos = 1\n[columns]\nfare = {{ type = \"int16\"{fare} }}\n\
             when = {{ type = \"date\", patterns = [\"yyyy-MM-dd HH:mm\"]{when} }}\n\
             note = {{ type = \"text(7)\"{note} }}\nx = {{ type = \"float32\"{x} }}\n"
        )
    };
    world.write("strict.typhos.toml", schema("", "", "", ""));
    world
        .run("check strict.typhos.toml t.csv")
        .status(1)
        .says("'7.5' has a fraction, and int16 has none; rounding = \"half-even\" would round it")
        .says("has a time of day, and a date keeps midnight only; rounding = \"down\" would drop it")
        .says("'a long note' has 11 characters, 7 are allowed; text(11) would do")
        .says("text(12) would hold the longest")
        .says("'16777217' is another number as float32; rounding = \"half-even\" would take the nearest");
    let half_even = ", rounding = \"half-even\"";
    world.write(
        "loose.typhos.toml",
        schema(half_even, ", rounding = \"down\"", ", clip = true", half_even),
    );
    world
        .ok("load loose.typhos.toml t.csv --into t.parquet")
        .says("3 read = 3 loaded")
        .says("fare: 3 values rounded (half-even) as declared")
        .says("when: 2 values rounded (down) as declared")
        .says("note: 2 values cut to 7 characters as declared")
        .says("x: 1 value rounded (half-even) as declared");
    let peek = world.json("peek t.parquet --json");
    assert_eq!(
        peek["rows"],
        json!([
            ["8", "2024-03-01", "a long ", "16777216"],
            ["8", "2024-03-02", "short", "0.5"],
            ["-2", "2024-03-03", "Tårnvik", "2"]
        ])
    );
    let report = world.json("check loose.typhos.toml t.csv --json");
    let changed = &report["account"]["changed"];
    assert_eq!(changed[2], json!({ "name": "note", "count": 2, "how": "cut to 7 characters" }));
    // A record that is set aside changes nothing.
    world.write(
        "u.csv",
        "fare,when,note,x\n7.5,never,a long note,16777217\n1.5,2024-03-01 00:00,b,1\n",
    );
    let rejecting = world
        .read("loose.typhos.toml")
        .replace("rounding = \"down\"", "rounding = \"down\", misfit = \"reject\"");
    world.write("loose.typhos.toml", rejecting);
    let report = world.run("check loose.typhos.toml u.csv --json").status(1).parsed();
    assert_eq!(
        report["account"]["changed"],
        json!([{ "name": "fare", "count": 1, "how": "rounded (half-even)" }])
    );
}

#[test]
fn what_float32_would_change_is_told() {
    let world = World::new();
    let value = |n: u32| format!("1,{}.{}\n", 16_777_216 + n, n % 2 * 5);
    world.write("t.csv", format!("n,x\n{}", (0..50).map(value).collect::<String>()));
    world
        .ok("scout t.csv --column x --never decimal")
        .says("float32    25 values would change, by at most 0.5 (16777217.5)");
}

#[test]
fn a_ledger_adds_up_and_says_what_a_load_writes() {
    let world = World::demo(3000);
    world.ok("draft tickets.csv -o t.typhos.toml --without note");
    let ledger = world.json("weigh t.typhos.toml tickets.csv --json");
    let columns = ledger["columns"].as_array().unwrap();
    assert_eq!(columns.len(), 10, "what is left out is in the ledger too");
    assert_eq!(column(&ledger, "note")["memory"]["declared"], 0);
    assert_eq!(column(&ledger, "ticket_no")["memory"]["declared"], 6000);
    assert_eq!(column(&ledger, "ticket_no")["memory"]["wide"], 24_000);
    for way in ["text", "wide", "declared"] {
        let sum = |part: &str| columns.iter().map(|c| c[part][way].as_u64().unwrap()).sum::<u64>();
        assert_eq!(ledger["memory"][way], sum("memory"));
        assert_eq!(ledger["pages"][way], sum("file"));
        assert!(ledger["file"][way].as_u64() > ledger["pages"][way].as_u64());
    }
    let steps: i64 =
        ledger["steps"].as_array().unwrap().iter().map(|s| s["saves"].as_i64().unwrap()).sum();
    let memory = &ledger["memory"];
    assert_eq!(steps, memory["text"].as_i64().unwrap() - memory["declared"].as_i64().unwrap());
    world.ok("load t.typhos.toml tickets.csv --into t.parquet");
    let size = world.path("t.parquet").metadata().unwrap().len();
    assert_eq!(ledger["file"]["declared"], size);
    // The words of the report are those of the ledger.
    world
        .ok("weigh t.typhos.toml tickets.csv")
        .says("columns left out")
        .says("dates and times out of text")
        .says("left out");
    let cat = world.read("tickets.csv");
    let piped = world.run_with("weigh t.typhos.toml - --json", &cat).status(0).parsed();
    assert_eq!(piped["memory"], ledger["memory"]);
}

/// What the issue of compact types asks of the demo: how small memory and files have to be.
#[test]
fn demo_tickets_are_as_small_as_promised() {
    let world = World::demo(20_000);
    world.ok("draft tickets.csv -o t.typhos.toml");
    let ledger = world.json("weigh t.typhos.toml tickets.csv --json");
    let of = |what: &str, way: &str| ledger[what][way].as_f64().unwrap();
    assert!(of("memory", "declared") <= 0.45 * of("memory", "wide"), "{}", ledger["memory"]);
    assert!(of("memory", "declared") <= 0.34 * of("memory", "text"), "{}", ledger["memory"]);
    let input = ledger["input"]["bytes"].as_f64().unwrap();
    assert!(of("file", "declared") <= 0.17 * input, "{} of {input}", ledger["file"]);
}

#[test]
fn advice_is_lines_that_save_what_they_say() {
    let world = World::demo(2000);
    let hurried = "typhos = 1\n[columns]\nticket_no = { type = \"int64\" }\nfare = { type = \"float64\", low = \"0\" }\n\
        party = { type = \"int64\" }\ncabin = { type = \"text\" }\ndeparts_at = { type = \"text\" }\n\
        agent = { type = \"text\", from = \"Sold by (agent)\" }\n";
    world.write("h.typhos.toml", hurried);
    let before = world.json("weigh h.typhos.toml tickets.csv --advice --json");
    let advice = before["advice"].as_array().unwrap();
    let saves: Vec<_> = advice.iter().map(|a| a["saves"].as_u64().unwrap()).collect();
    assert!(saves.is_sorted_by(|a, b| a >= b), "in order of bytes: {saves:?}");
    let party = advice.iter().find(|a| a["column"] == "party").unwrap();
    assert_eq!((&party["from"], &party["to"]), (&json!("int64"), &json!("uint8")));
    assert_eq!(party["risk"], "largest value seen 9");
    // The lines, put into the schema, save exactly that.
    let lines: Vec<&str> = advice.iter().map(|a| a["line"].as_str().unwrap()).collect();
    assert_eq!(lines.len(), 6);
    world.write("n.typhos.toml", format!("typhos = 1\n[columns]\n{}\n", lines.join("\n")));
    let after = world.json("weigh n.typhos.toml tickets.csv --json");
    let memory = |ledger: &Value| ledger["memory"]["declared"].as_u64().unwrap();
    assert_eq!(memory(&before) - memory(&after), saves.iter().sum::<u64>());
    world.ok("weigh n.typhos.toml tickets.csv --advice").says("nothing would be smaller");
    world
        .ok("weigh h.typhos.toml tickets.csv --advice")
        .says("party: int64 → uint8 saves 14.0 kB; largest value seen 9")
        .says("party = { type = \"uint8\" }");
}

#[test]
fn codes_that_make_a_column_larger_are_obeyed_with_a_note() {
    let world = World::demo(100);
    let report = world.json("scout vessels.csv --json");
    let name =
        report["columns"].as_array().unwrap().iter().find(|c| c["name"] == "vessel").unwrap();
    assert!(name["type"].as_str().unwrap().starts_with("text"), "{name}");
    let why = name["evidence"].to_string();
    assert!(why.contains("bytes as codes"), "{why}");
    world.write("v.typhos.toml", "typhos = 1\n[columns]\nvessel = { type = \"lowcard\" }\n");
    world
        .run("weigh v.typhos.toml vessels.csv")
        .status(0)
        .complains("'vessel' takes")
        .complains("as codes with their dictionary");
}

#[test]
fn sort_keys_pay_where_a_question_is_asked() {
    let world = World::demo(30_000);
    world.ok("draft tickets.csv -o t.typhos.toml");
    let layout = "\n[layout]\nrow_group = 5000\n";
    let text = world.read("t.typhos.toml") + layout;
    let text = text.replace(
        "values = [\"cabin\", \"deck\", \"saloon\"]",
        "values = [\"deck\", \"saloon\", \"cabin\"], ranked = true",
    );
    world.write("old.typhos.toml", &text);
    world.write("new.typhos.toml", format!("{text}sort = [\"route\", \"cabin desc\"]\n"));
    let question = "route = 'Holm' and cabin > 'deck'";
    let report = world
        .run_args(&[
            "weigh",
            "old.typhos.toml",
            "new.typhos.toml",
            "tickets.csv",
            "--where",
            question,
            "--json",
        ])
        .status(0)
        .parsed();
    let (old, new) = (&report["old"], &report["new"]);
    assert_eq!(old["memory"], new["memory"], "the order of rows takes no memory");
    assert_eq!(old["rows_meant"], new["rows_meant"]);
    assert!(new["rows_meant"].as_u64().unwrap() > 1000);
    let bytes = |side: &Value| side["reads"]["bytes"]["read"].as_f64().unwrap();
    assert_eq!(bytes(old), old["reads"]["bytes"]["all"].as_f64().unwrap());
    assert!(bytes(new) * 2.0 < bytes(old), "{report}");
    // What is compared is what a load writes.
    for side in ["old", "new"] {
        world.ok(&format!("load {side}.typhos.toml tickets.csv --into {side}.parquet"));
        let size = world.path(&format!("{side}.parquet")).metadata().unwrap().len();
        assert_eq!(report[side]["file"], size);
    }
    let rows = world.json("peek new.parquet --rows 30000 --json");
    let keys: Vec<(String, u8)> = rows["rows"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| {
            let rank = ["cabin", "saloon", "deck"].iter().position(|c| row[5] == *c).unwrap();
            (row[4].as_str().unwrap().to_owned(), rank as u8)
        })
        .collect();
    assert!(keys.is_sorted(), "by route, and by rank backwards");
    // In parts the rows go on where the part before ends.
    world.ok("load new.typhos.toml tickets.csv --into lake --parts 3");
    let parts = world.json("peek lake --rows 30000 --json");
    assert_eq!(parts["rows"], rows["rows"]);
    let part = world.json("peek lake/part-00003.parquet --json");
    assert_eq!(part["total"], 10_000);
    world.ok("load new.typhos.toml tickets.csv --into new.sqlite");
    let head = world.json("peek new.sqlite --rows 5 --json");
    assert_eq!(head["rows"][0][4], "Eldersay");

    let suggested = world
        .run_args(&[
            "weigh",
            "old.typhos.toml",
            "tickets.csv",
            "--where",
            question,
            "--suggest-sort",
            "--json",
        ])
        .status(0)
        .parsed();
    let tried = suggested["tried"].as_array().unwrap();
    assert_eq!(tried.len(), 5, "two columns, both orders, and none");
    assert!(tried.is_sorted_by_key(|trial| trial["reads"]["bytes"]["read"].as_u64()));
    assert_eq!(tried[0]["sort"][0], "route");
    world
        .run_args(&[
            "weigh",
            "old.typhos.toml",
            "tickets.csv",
            "--where",
            question,
            "--suggest-sort",
        ])
        .status(0)
        .says("sort = [\"route\"")
        .says("not sorted");
}

#[test]
fn questions_and_layouts_that_make_no_sense_are_told() {
    let world = World::demo(100);
    world.ok("draft tickets.csv -o t.typhos.toml");
    world
        .run_args(&["weigh", "t.typhos.toml", "tickets.csv", "--where", "rout = 'Holm'"])
        .status(2)
        .complains("there is no column 'rout'; did you mean 'route'?");
    world.run("weigh t.typhos.toml tickets.csv --suggest-sort").status(2).complains("--where");
    let bad = world.read("t.typhos.toml") + "\n[layout]\nsort = [\"rout\"]\n";
    world.write("bad.typhos.toml", bad);
    world.run("check bad.typhos.toml tickets.csv").status(2).complains("did you mean 'route'?");
    world
        .run("weigh t.typhos.toml t.typhos.toml tickets.csv --advice")
        .status(2)
        .complains("are for one schema");
    world.run("weigh t.typhos.toml t.typhos.toml").status(2).complains("give the files to weigh");
    let sorted = world.read("t.typhos.toml") + "\n[layout]\nsort = [\"route\"]\n";
    world.write("s.typhos.toml", sorted);
    world
        .run_with("weigh s.typhos.toml -", &world.read("tickets.csv"))
        .status(2)
        .complains("a stream is read only once");
    // A load sorts a stream, since it reads it once.
    world
        .run_with("load s.typhos.toml - --into s.parquet", &world.read("tickets.csv"))
        .status(0)
        .says("100 read = 100 loaded");
    world
        .run("load s.typhos.toml tickets.csv --into x.parquet --sort-memory 1k")
        .status(2)
        .complains("'1k' is not a size of memory");
}

#[test]
fn misfits_are_left_out_of_a_ledger_and_told() {
    let world = World::demo(500);
    world.ok("draft tickets.csv -o t.typhos.toml");
    let ledger = world
        .run("weigh t.typhos.toml refused.csv --json")
        .status(1)
        .complains("misfits left out")
        .parsed();
    let account = &ledger["account"];
    assert_eq!(
        account["read"].as_u64(),
        Some(account["loaded"].as_u64().unwrap() + account["set_aside"].as_u64().unwrap())
    );
    assert_eq!(ledger["rows"], account["loaded"]);
}

#[test]
fn two_declarations_are_compared_in_words() {
    let world = World::new();
    let rows: String =
        (0..1000).map(|row| format!("{row},pier {},{}.5,x\n", row % 7, row % 40)).collect();
    world.write("t.csv", format!("id,berth,fare,note\n{rows}"));
    let head = "typhos = 1\n[columns]\n";
    world.write(
        "old.typhos.toml",
        format!(
            "{head}id = {{ type = \"int64\" }}\nberth = {{ type = \"text\" }}\nfare = {{ type = \"float64\" }}\nnote = {{ type = \"text\" }}\n"
        ),
    );
    world.write(
        "new.typhos.toml",
        format!(
            "{head}id = {{ type = \"uint16\" }}\nberth = {{ type = \"lowcard\" }}\nfare = {{ type = \"float64\" }}\nprice = {{ type = \"text\", from = \"fare\" }}\n"
        ),
    );
    let ran = world.ok("weigh old.typhos.toml new.typhos.toml t.csv");
    let cells = |name: &str| -> Vec<String> {
        let line = ran.out.lines().find(|line| line.trim_start().starts_with(name));
        let line = line.unwrap_or_else(|| panic!("{name} is not among\n{}", ran.out));
        line.split_whitespace().map(str::to_owned).collect()
    };
    assert_eq!(cells("id ")[..7], ["id", "int64", "uint16", "8,000", "2,000", "4.0x", "less"]);
    assert_eq!(cells("fare ")[..6], ["fare", "float64", "float64", "8,000", "8,000", "same"]);
    // What only one of them has stands against nothing.
    assert_eq!(cells("price ")[..4], ["price", "-", "text", "-"]);
    let note = cells("note ");
    assert_eq!(note[..5], ["note", "text", "-", "5,004", "-"]);
    // The sums of the columns.
    let memory = cells("bytes in memory");
    let sum = |at: usize| -> u64 {
        let figure = |name: &str| cells(name)[at].replace(',', "").parse().unwrap_or(0);
        ["id ", "berth ", "fare ", "price ", "note "].into_iter().map(figure).sum()
    };
    let figure = |text: &str| text.replace(',', "").parse::<u64>().unwrap();
    assert_eq!((figure(&memory[3]), figure(&memory[5])), (sum(3), sum(4)));
    for line in ["bytes in a file", "time to load"] {
        assert!(ran.out.contains(line), "{line} is not among\n{}", ran.out);
    }

    let asked = |question: &str| {
        let schemas = ["old.typhos.toml", "new.typhos.toml", "t.csv"];
        world.run_args(&[&["weigh"], &schemas[..], &["--where", question]].concat())
    };
    asked("id < 10")
        .status(0)
        .says("row groups to read")
        .says("rows to read")
        .says("to read: for id < 10  10 rows match");
    asked("note = 'x'").status(2).complains("there is no column 'note'");
    let text = world.read("t.csv");
    world
        .run_with("weigh old.typhos.toml new.typhos.toml -", &text)
        .status(2)
        .complains("two declarations are compared by reading it four times; give a file");
}

#[test]
fn advice_says_what_each_change_risks() {
    let world = World::new();
    let mut text = String::from("pier,void,deep,cold,who,bounded,when\n");
    for row in 0u32..400 {
        let deep = f64::from(row).sqrt() / 3.0;
        let who = format!("6f9619ff-8b86-d011-b42d-00cf4fc9{row:04x}");
        let (cold, day) = (-i64::from(row % 90), 1 + row % 28);
        text += &format!("north,,{deep},{cold},{who},{},2024-03-{day:02} 10:00:00\n", row % 7);
    }
    world.write("t.csv", text);
    world.write(
        "s.typhos.toml",
        "typhos = 1\n[columns]\npier = { type = \"text\" }\nvoid = { type = \"text\" }\ndeep = { type = \"float64\" }\n\
         cold = { type = \"int64\" }\nwho = { type = \"text\" }\nbounded = { type = \"int64\", high = \"1000000\" }\nwhen = { type = \"text\" }\n",
    );
    world
        .ok("weigh s.typhos.toml t.csv --advice")
        .says("pier: text → left out saves 3.6 kB; every value is 'north'")
        .says("# pier = { type = \"text\" }")
        .says("void: text → left out saves 1.7 kB; it has no value at all")
        .says("cold: int64 → int16 saves 2.4 kB; values seen from -89 to 0")
        .says("who: text → uuid saves 9.6 kB; a value that is not a valid uuid is a misfit")
        .says("a value not written as yyyy-MM-dd HH:mm:ss is a misfit")
        .says("values would change; 'typhos scout --column deep' says by how much")
        .says("deep = { type = \"float32\", rounding = \"half-even\" }");
    // A bound that a narrower type could not have stands for values that are still to come.
    let ledger = world.json("weigh s.typhos.toml t.csv --advice --json");
    let advice = ledger["advice"].as_array().unwrap();
    assert_eq!(advice.len(), 6, "{advice:?}");
    assert!(advice.iter().all(|advice| advice["column"] != "bounded"), "{advice:?}");
}

#[test]
fn a_question_says_how_much_of_a_file_is_read_for_it() {
    let world = World::new();
    let rows: String = (0..900).map(|row| format!("{row},a\n")).collect();
    world.write("t.csv", format!("id,x\n{rows}"));
    world.write(
        "s.typhos.toml",
        "typhos = 1\n[columns]\nid = { type = \"uint16\" }\nx = { type = \"text\" }\n[layout]\nrow_group = 300\n",
    );
    let asked = |question: &str| {
        world.run_args(&["weigh", "s.typhos.toml", "t.csv", "--where", question]).status(0)
    };
    asked("id < 300")
        .says("id < 300  300 rows match")
        .says("reads 1 of 3 row groups (33.3 %)")
        .says("reads 300 of 900 rows (33.3 %)");
    asked("id >= 0").says("id >= 0  900 rows match").says("reads 3 of 3 row groups (100.0 %)");
    asked("id > 900").says("reads 0 of 3 row groups (0.0 %)").says("reads 0 of ");
}
