//! Loads that go well, plans that object, and what readers see.

use serde_json::{Value, json};

use super::server::Server;
use crate::world::World;

const SCHEMA: &str = "typhos = 1\n[columns]\nsailing = { type = 'text(8)', required = true }\nvessel = { type = 'lowcard' }\n\
                      departs = { type = 'timestamp(s)', patterns = ['yyyy-MM-dd HH:mm'] }\nfare = { type = 'decimal(6,2)' }\n\
                      party = { type = 'uint8' }\nnote = { type = 'text' }\n";

fn rows(from: usize, to: usize) -> String {
    let row = |at: usize| {
        let vessel = ["Tern", "Gull", ""][at % 3];
        let (day, cents) = (1 + at % 28, at % 100);
        format!(
            "S{at},{vessel},2025-01-{day:02} 06:30,{}.{cents:02},{},\"calm, {at}\n\tat sea\"\n",
            at % 900,
            at % 9
        )
    };
    format!("sailing,vessel,departs,fare,party,note\n{}", (from..to).map(row).collect::<String>())
}

/// A world with so many sailings, and a key where it is wanted.
pub fn world(count: usize, has_key: bool) -> World {
    let world = World::new();
    let layout = if has_key { "[layout]\nkey = ['sailing']\n" } else { "" };
    world.write("s.typhos.toml", format!("{SCHEMA}{layout}")).write("s.csv", rows(0, count));
    world
}

/// The same with long notes: few documents that take several requests.
pub fn long_world(count: usize, has_key: bool) -> World {
    let world = world(count, has_key);
    let long = format!("at sea {}\"\n", "y".repeat(900));
    world.write("s.csv", rows(0, count).replace("at sea\"\n", &long));
    world
}

#[test]
fn an_index_is_made_proven_and_found_by_its_name() {
    let server = Server::start();
    let world = world(3000, false);
    let line = format!("load s.typhos.toml s.csv --into {}", server.url("sailings"));
    world.ok(&format!("{line} --plan")).says("keyword").says("its file, its line");
    assert_eq!(server.indexes(), Vec::<String>::new(), "a plan makes nothing");
    world.ok(&line).says("3,000 read = 3,000 loaded + 0 set aside").says("proven");
    assert_eq!(server.count("sailings"), 3000);
    let (_, alias) = server.ask("GET", "_alias/sailings", &Value::Null);
    assert_eq!(alias.as_object().unwrap().len(), 1, "readers know it by its alias: {alias}");
    let (_, mapping) = server.ask("GET", "sailings/_mapping", &Value::Null);
    let mapping = &mapping.as_object().unwrap().values().next().unwrap()["mappings"];
    assert_eq!(mapping["dynamic"], "strict");
    assert_eq!(mapping["properties"]["fare"]["type"], "scaled_float");
    assert!(mapping["_meta"]["typhos"]["state"].is_null(), "{mapping}");
    let query = json!({ "query": { "match": { "note": "calm" } }, "size": 1, "sort": ["sailing"] });
    let (_, found) = server.ask("POST", "sailings/_search", &query);
    let first = &found["hits"]["hits"][0]["_source"];
    assert_eq!(found["hits"]["total"]["value"], 3000, "{found}");
    let want = json!({
        "sailing": "S0", "vessel": "Tern", "departs": "2025-01-01T06:30:00", "fare": 0.0, "party": 0, "note": "calm, 0\n\tat sea",
    });
    assert_eq!(first, &want);
    world.run(&line).status(2).complains("there is an index 'sailings' already");
    let peeked = world.json(&format!("peek {} --rows 2 --json", server.url("sailings")));
    assert_eq!(peeked["total"], 3000);
    let types: Vec<_> = peeked["columns"]
        .as_array()
        .unwrap()
        .iter()
        .map(|it| it["type"].as_str().unwrap())
        .collect();
    assert_eq!(
        types,
        ["text", "text(8)", "lowcard", "timestamp(s)", "decimal(6,2)", "uint8", "text"]
    );
}

#[test]
fn a_new_index_takes_the_place_of_the_old_one() {
    let server = Server::start();
    let world = world(500, true);
    let line = format!("load s.typhos.toml s.csv --into {}", server.url("sailings"));
    // An index that somebody else made, and that has another alias.
    server.ask("PUT", "sailings", &json!({ "aliases": { "boats": {} } }));
    server.ask("PUT", "sailings/_doc/1?refresh=true", &json!({ "old": 1 }));
    for _ in 0..2 {
        world.ok(&format!("{line} --mode replace"));
        assert_eq!((server.count("sailings"), server.count("boats")), (500, 500));
        let indexes = server.indexes();
        assert!(indexes.len() == 1 && indexes[0].starts_with("sailings-typhos-"), "{indexes:?}");
    }
    // One that cannot be loaded leaves the one that is there.
    world.write("s.csv", format!("{}S9,Tern,2025-01-01 06:30,x,1,n\n", rows(0, 400)));
    let before = server.indexes();
    world.run(&format!("{line} --mode replace")).status(4).complains("Nothing was loaded");
    assert_eq!((server.indexes(), server.count("sailings")), (before, 500));
}

#[test]
fn a_failed_creation_leaves_no_index() {
    let server = Server::start();
    let world = world(5000, true);
    world.write("s.csv", format!("{}S9,Tern,2025-01-01 06:30,x,1,n\n", rows(0, 4000)));
    world.run(&format!("load s.typhos.toml s.csv --into {}", server.url("sailings"))).status(4);
    assert_eq!(server.indexes(), Vec::<String>::new());
}

#[test]
fn records_are_known_again_by_file_line_and_content() {
    let server = Server::start();
    let world = world(700, false);
    let line = format!("load s.typhos.toml s.csv --into {} --mode append", server.url("sailings"));
    world.ok(&line);
    let again = world.json(&format!("{line} --json"));
    assert_eq!(
        (&again["account"]["loaded"], &again["account"]["skipped"]),
        (&json!(0), &json!(700))
    );
    // The same file with another line, and one more: both are new.
    let changed = rows(0, 701).replace("S5,Auk", "S5,Tern").replace("\"calm, 6\n", "\"rough, 6\n");
    world.write("s.csv", changed);
    let again = world.json(&format!("{line} --json"));
    assert_eq!(
        (&again["account"]["loaded"], &again["account"]["skipped"]),
        (&json!(2), &json!(699))
    );
    assert_eq!(server.count("sailings"), 702);
}

#[test]
fn keys_that_are_there_stop_are_left_out_or_get_new_values() {
    let server = Server::start();
    let world = world(600, true);
    let line = format!("load s.typhos.toml s.csv --into {} --mode append", server.url("sailings"));
    world.ok(&line);
    world.write("s.csv", rows(300, 900).replace("calm", "rough"));
    world.run(&line).status(4).complains("already, by their ids").complains("Nothing was loaded");
    assert_eq!(server.count("sailings"), 600, "what was new is taken out again");
    let skipped = world.json(&format!("{line} --seen skip --json"));
    assert_eq!(
        (&skipped["account"]["loaded"], &skipped["account"]["skipped"]),
        (&json!(300), &json!(300))
    );
    assert_eq!(
        server.ask("GET", "sailings/_doc/S400", &Value::Null).1["_source"]["note"],
        "calm, 400\n\tat sea"
    );
    let updated = world.json(&format!("{line} --seen update --json"));
    assert_eq!(
        (&updated["account"]["loaded"], &updated["account"]["updated"]),
        (&json!(600), &json!(600))
    );
    assert_eq!(
        server.ask("GET", "sailings/_doc/S400", &Value::Null).1["_source"]["note"],
        "rough, 400\n\tat sea"
    );
    assert_eq!(server.count("sailings"), 900);
}

#[test]
fn fields_that_are_there_are_compared_before_anything_is_sent() {
    let server = Server::start();
    let world = world(50, false);
    let line = format!("load s.typhos.toml s.csv --into {} --mode append", server.url("sailings"));
    let fields = json!({ "mappings": { "dynamic": "strict", "properties": {
        "sailing": { "type": "keyword" }, "vessel": { "type": "keyword" }, "departs": { "type": "date" },
        "fare": { "type": "keyword" }, "party": { "type": "integer" }, "berth": { "type": "ip" },
    } } });
    server.ask("PUT", "sailings", &fields);
    let plan = world.run(&format!("{line} --plan")).status(1);
    let plan = plan
        .says("'fare' is keyword there, and scaled_float")
        .says("the type of a field never changes");
    plan.says("--mode replace").says("a new field").says("berth");
    world.run(&line).status(2).complains("'fare' is keyword there");
    let (_, after) = server.ask("GET", "sailings/_mapping", &Value::Null);
    assert!(after["sailings"]["mappings"]["properties"]["note"].is_null(), "nothing was changed");
    let schema = world.read("s.typhos.toml").replace("'decimal(6,2)'", "'text'");
    world.write("s.typhos.toml", schema);
    world.ok(&line).says("proven");
    let (_, after) = server.ask("GET", "sailings/_mapping", &Value::Null);
    assert_eq!(after["sailings"]["mappings"]["properties"]["note"]["type"], "text");
    assert_eq!(server.count("sailings"), 50);
}

#[test]
fn names_that_no_index_or_field_has_are_refused_in_the_plan() {
    let server = Server::start();
    let world = world(5, false);
    for name in ["Sailings", "a%20b", "_all", "a*"] {
        let line = format!("load s.typhos.toml s.csv --into {} --plan", server.url(name));
        world.run(&line).status(1).says("cannot be the name of an index");
    }
    for (column, want) in
        [("_id", "is a field that every index has for itself"), ("'a..b'", "no name of a field")]
    {
        let schema =
            format!("typhos = 1\n[columns]\n{column} = {{ type = 'text', from = 'note' }}\n");
        world.write("n.typhos.toml", schema);
        let line = format!("load n.typhos.toml s.csv --into {} --plan", server.url("sailings"));
        world.run(&line).status(1).says(want);
    }
    world
        .run("load s.typhos.toml s.csv --into index+http://127.0.0.1:1/")
        .status(2)
        .complains("names no index");
    // Hostile ids and names with points in them are stored as they are.
    let hostile =
        "id,a.b,note\n\"x|y\",1,q\n\"a/%b\",2,\"\u{1}\u{2028}\"\n\"{\"\"index\"\":{}}\",3,\n";
    world.write("h.csv", hostile);
    let schema = "typhos = 1\n[columns]\nid = { type = 'text', required = true }\n'a.b' = { type = 'int8', from = ['a.b'] }\nnote = { type = 'text' }\n[layout]\nkey = ['id']\n";
    world.write("h.typhos.toml", schema.replace(", from = ['a.b']", ""));
    world.ok(&format!("load h.typhos.toml h.csv --into {}", server.url("hostile"))).says("proven");
    let (_, found) = server.ask("GET", "hostile/_doc/a%2F%2525b", &Value::Null);
    assert_eq!(
        found["_source"],
        json!({ "id": "a/%b", "a.b": 2, "note": "\u{1}\u{2028}" }),
        "{found}"
    );
    assert_eq!(
        server.ask("POST", "hostile/_count", &json!({ "query": { "term": { "a.b": 3 } } })).1["count"],
        1
    );
}

#[test]
fn users_and_keys_are_let_in_and_nobody_else() {
    // ana:secret
    let server = Server::with_authorization(Some("Basic YW5hOnNlY3JldA=="));
    let world = world(10, false);
    let at = |login: &str| format!("index+http://{login}{}/sailings", server.address);
    let line = |login: &str| format!("load s.typhos.toml s.csv --into {}", at(login));
    world.run(&line("")).status(3).complains("TYPHOS_API_KEY");
    world.run(&line("ana@")).status(3).complains("asks for the password of 'ana'");
    let wrong = world.run(&line("ana:wrong@")).status(3);
    assert!(!wrong.err.contains("wrong") && !wrong.out.contains("wrong"));
    world.ok(&line("ana:secret@"));
    let out = world
        .command(&format!("peek {}", at("ana@")))
        .env("TYPHOS_PASSWORD", "secret")
        .output()
        .unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let server = Server::with_authorization(Some("ApiKey c2FpbA=="));
    let line = format!("load s.typhos.toml s.csv --into {}", server.url("sailings"));
    let out = world.command(&line).env("TYPHOS_API_KEY", "c2FpbA==").output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
}
