//! Schemas and deliveries that are compared: what changed, and what that breaks.

use serde_json::Value;

use crate::world::World;

const OLD: &str = "typhos = 1\ntable = \"fares\"\n[columns]\nid = { type = \"uint16\", required = true }\n\
    on = { type = \"date\", patterns = [\"MM/dd/yy\"] }\ncabin = { type = \"category\", values = [\"deck\", \"saloon\"], misfit = \"reject\" }\n\
    fare = { type = \"decimal(5,2)\" }\nnote = { type = \"text\" }\n[layout]\nkey = [\"id\"]\n";

fn world() -> World {
    let world = World::new();
    let new = OLD
        .replace("MM/dd", "dd/MM")
        .replace("\"deck\", ", "\"suite\", ")
        .replace("(5,2)", "(7,2)")
        .replace("note = { type = \"text\" }", "port = { type = \"text\", required = true }");
    world.write("old.typhos.toml", OLD).write("new.typhos.toml", new);
    world
}

/// What each difference is of, what it is, and whether it breaks something.
fn found(report: &Value) -> Vec<String> {
    let found = report["differences"].as_array().unwrap().iter();
    let text = |found: &Value, key: &str| found[key].as_str().unwrap().to_owned();
    found
        .map(|it| {
            let breaks = it["breaks"].as_bool().unwrap();
            assert_eq!(breaks, it["why"].is_string(), "{it}");
            format!("{} {}{}", text(it, "of"), text(it, "what"), if breaks { " !" } else { "" })
        })
        .collect()
}

#[test]
fn two_schemas_are_compared_key_by_key() {
    let world = world();
    let ran = world.run("compare old.typhos.toml new.typhos.toml --json").status(1);
    let report = ran.parsed();
    assert_eq!(
        found(&report),
        [
            "on patterns = [\"MM/dd/yy\"] → [\"dd/MM/yy\"] !",
            "cabin takes 'suite'; takes no more 'deck' !",
            "fare decimal(5,2) → decimal(7,2)",
            "note gone: it was text !",
            "port new: text !",
        ]
    );
    assert_eq!(report["breaking"], 4);
    let told = world.run("compare old.typhos.toml new.typhos.toml").status(1);
    told.says("5 differences, 4 of which break something.");
    world.run("compare old.typhos.toml old.typhos.toml").status(0).says("nothing differs");
    world.run("report old.typhos.toml new.typhos.toml -o c.html").status(1);
    let page = world.read("c.html");
    assert!(page.contains("old.typhos.toml → new.typhos.toml"), "{page}");
    assert!(page.contains("rows with a value that is gone do not fit"));
    assert!(page.contains("decimal(5,2) → decimal(7,2)") && page.contains("What else differs"));
    world.run("report old.typhos.toml old.typhos.toml -o same.html").status(0);
    assert!(world.read("same.html").contains("Nothing differs."));
}

#[test]
fn a_delivery_is_held_against_its_schema() {
    let world = world();
    let delivery = "id,on,cabin,fare,agent\n1,02/29/24,deck,10.50,x\n2,13/02/24,deck,7,x\n2,01/02/24,hold,1.255,x\n";
    world.write("d.csv", delivery);
    let report = world.run("compare old.typhos.toml d.csv --json").status(1).parsed();
    assert_eq!(
        found(&report),
        [
            "note not in the delivery !",
            "on 1 misfit of date, which would stop a load !",
            "cabin 1 misfit of category, which would be set aside !",
            "fare 1 misfit of decimal(5,2), which would stop a load !",
            "agent in the delivery, and not declared",
        ]
    );
    let why = report["differences"][1]["why"].as_str().unwrap();
    assert!(why.starts_with("d.csv:3") && why.contains("month 13 does not exist"), "{why}");
    // With all of its columns, its key is looked at too.
    world.write("e.csv", "id,on,cabin,fare,note\n1,02/29/24,deck,1,a\n1,02/28/24,deck,2,b\n");
    let report = world.run("compare old.typhos.toml e.csv --json").status(1).parsed();
    assert_eq!(found(&report), ["[layout] 1 duplicate key !"]);
    world.write("f.csv", "id,on,cabin,fare,note\n1,02/29/24,deck,1,a\n");
    world.run("compare old.typhos.toml f.csv").status(0).says("nothing differs");
    world.write(
        "stop.typhos.toml",
        OLD.replace("[columns]", "[input]\nundeclared = \"stop\"\n[columns]"),
    );
    let report = world.run("compare stop.typhos.toml d.csv --json").status(1).parsed();
    assert!(found(&report).contains(&"agent in the delivery, and not declared !".to_owned()));
}

#[test]
fn deliveries_are_compared_by_their_drafts() {
    let world = World::new();
    world.write("may.csv", "id,fare,port\n1,10.50,Holm\n2,9.25,Sund\n");
    world.write("june.csv", "id,fare,quay\n1,10.50,Holm\nx2,9.25,Sund\n");
    let ran = world.run("compare may.csv june.csv --json").status(1);
    ran.complains("june.csv is compared by a draft of all its rows");
    let report = world.run("compare may.csv june.csv --json").parsed();
    let found = found(&report);
    assert!(found[0].starts_with("id uint8 → text") && found[0].ends_with('!'), "{found:?}");
    assert!(found.iter().any(|it| it.starts_with("port gone")), "{found:?}");
    assert!(found.iter().any(|it| it.starts_with("quay new")), "{found:?}");
    world.run("compare may.csv may.csv").status(0).says("nothing differs");
}

#[test]
fn what_cannot_be_compared_is_said() {
    let world = world();
    world.write("d.csv", "id\n1\n");
    world
        .run("compare old.typhos.toml new.typhos.toml d.csv")
        .status(2)
        .complains("'new.typhos.toml' is a schema, which stands for itself");
    world.run("compare old.typhos.toml nowhere.csv").status(3).complains("nowhere.csv");
    world.write("auto.typhos.toml", "typhos = 1\n[columns]\nid = { type = \"auto\" }\n");
    world.run("compare auto.typhos.toml d.csv").status(2).complains("'id' is of type auto");
}

/// Of a draft nobody said how its table is called or laid out: that is no difference, on whichever side it stands.
#[test]
fn a_draft_differs_in_its_columns_only() {
    let world = World::new();
    world.write("d.csv", "id,note\n1,abc\n2,defg\n");
    world.ok("draft d.csv -o d.typhos.toml --table sales");
    let said = world.read("d.typhos.toml") + "[layout]\nsort = [\"id\"]\n";
    world.write("d.typhos.toml", said);
    world.run("compare d.csv d.typhos.toml").status(0).says("nothing differs");
}
