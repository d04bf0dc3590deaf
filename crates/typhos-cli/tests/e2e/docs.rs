//! The documents: what they show works, and what they list is all there is.

use std::path::{Path, PathBuf};

use crate::world::World;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn document(name: &str) -> String {
    std::fs::read_to_string(root().join(name)).unwrap()
}

/// The fenced blocks of a language.
fn blocks<'t>(text: &'t str, language: &str) -> Vec<&'t str> {
    let opening = format!("```{language}\n");
    text.split(&opening).skip(1).map(|rest| rest.split("```").next().unwrap()).collect()
}

#[test]
fn the_schema_of_the_document_checks_the_demo_tickets() {
    let text = document("docs/schema-file.md");
    let schemas = blocks(&text, "toml");
    assert_eq!(schemas.len(), 3, "a schema, columns that nest, and the rules of a house");
    typhos_core::infer::House::read(schemas[2]).expect("the rules of the document are rules");
    let nested = format!("typhos = 1\n[columns]\n{}", schemas[1]);
    assert_eq!(typhos_core::read_schema(&nested).expect("columns are columns").columns.len(), 3);
    let world = World::demo(500);
    world.write("t.typhos.toml", schemas[0]);
    world.ok("check t.typhos.toml tickets.csv").says("every value fits");
    world
        .run("load t.typhos.toml refused.csv --into r.parquet")
        .status(4)
        .complains("refused.csv:5: column 'ticket_no'");
}

#[test]
fn the_document_lists_every_key_and_type() {
    let text = document("docs/schema-file.md");
    use typhos_core::schema::{COLUMN_KEYS, LAYOUT_KEYS, TYPE_NAMES};
    for word in COLUMN_KEYS.iter().chain(&LAYOUT_KEYS).chain(&TYPE_NAMES) {
        assert!(
            text.contains(&format!("`{word}`")),
            "docs/schema-file.md does not mention `{word}`"
        );
    }
}

#[test]
fn the_document_and_the_command_line_have_every_rule_of_a_house() {
    let text = document("docs/schema-file.md");
    let (_, house) = text.split_once("## The rules of a house").unwrap();
    let help = World::new().ok("draft --help").out;
    for key in typhos_core::infer::HOUSE_KEYS {
        assert!(house.contains(&format!("\n{key} =")), "the document does not show {key}");
        let option = format!("--{}", key.replace('_', "-"));
        assert!(help.contains(&option), "draft --help does not mention {option}");
    }
}

/// Every key of an object, and of those in it; counts by text are data and have no keys.
fn keys(value: &serde_json::Value, found: &mut Vec<String>) {
    match value {
        serde_json::Value::Object(members) => {
            for (key, member) in members {
                found.push(key.clone());
                if !["absent_tokens", "reasons"].contains(&key.as_str()) {
                    keys(member, found);
                }
            }
        }
        serde_json::Value::Array(items) => items.iter().for_each(|item| keys(item, found)),
        _ => {}
    }
}

#[test]
fn the_document_describes_every_key_of_the_report() {
    let text = document("docs/scout-json.md");
    let world = World::demo(300);
    world.write("broken.csv", "d,n,w\n03/04/24,1,\"1,234\"\n05/06/24,x\n05/06/24,5,7\n");
    let mut found = Vec::new();
    for line in
        ["tickets.csv", "tickets.csv --column booking", "broken.csv", "gauges.tsv --column level_m"]
    {
        keys(&world.json(&format!("scout {line} --json")), &mut found);
    }
    assert!(found.len() > 100);
    for key in found {
        assert!(text.contains(&format!("`{key}")), "docs/scout-json.md does not describe {key}");
    }
}

#[test]
fn the_documents_and_the_command_line_have_every_key_of_the_input() {
    let text = document("docs/schema-file.md") + &document("docs/reading.md");
    let help = World::new().ok("scout --help").out;
    for word in typhos_core::schema::INPUT_KEYS {
        assert!(text.contains(&format!("`{word}`")), "the documents do not mention `{word}`");
        let option = format!("--{}", word.replace('_', "-"));
        // What values mean is declared, and not said about a file.
        let is_declared = ["absent", "misfit"].contains(&word);
        assert!(is_declared || help.contains(&option), "scout --help does not mention {option}");
    }
}

#[test]
fn the_commands_of_the_readme_work_one_after_another() {
    let text = document("README.md");
    let lines = blocks(&text, "sh")
        .into_iter()
        .flat_map(str::lines)
        .filter(|line| line.starts_with("typhos "));
    let lines: Vec<_> = lines.map(|line| line.split('#').next().unwrap().trim()).collect();
    assert_eq!(lines.len(), 9);
    let world = World::demo(300);
    for line in lines {
        // As a shell takes it, of which the document needs no more than quotes.
        let parts = line.split(['"', '\'']).enumerate();
        let words = parts.flat_map(|(at, part)| match at % 2 {
            0 => part.split_whitespace().collect(),
            _ => vec![part],
        });
        let words: Vec<&str> = words.skip(1).collect();
        world.run_args(&words).status(0);
    }
}

#[test]
fn the_files_that_documents_link_to_are_there() {
    let documents = std::fs::read_dir(root().join("docs")).unwrap();
    let names = documents.map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let mut names: Vec<_> =
        names.filter(|name| name.ends_with(".md")).map(|name| format!("docs/{name}")).collect();
    assert!(names.len() >= 8, "{names:?}");
    names.extend(["README.md".to_owned(), "CHANGELOG.md".to_owned()]);
    for name in &names {
        let text = document(name);
        let folder = root().join(name).parent().unwrap().to_path_buf();
        for target in text.split("](").skip(1).map(|rest| rest.split(')').next().unwrap()) {
            let (path, place) = target.split_once('#').unwrap_or((target, ""));
            let file = if path.is_empty() { root().join(name) } else { folder.join(path) };
            assert!(target.contains("://") || file.exists(), "{name} links to {target}");
            let heading = |line: &str| {
                let words = line.trim_start_matches('#').trim().to_lowercase().replace(' ', "-");
                line.starts_with('#') && words.replace('`', "") == place
            };
            let has_place = || std::fs::read_to_string(&file).unwrap().lines().any(heading);
            assert!(place.is_empty() || target.contains("://") || has_place(), "{name}: {target}");
        }
    }
}

#[test]
fn the_small_copies_of_the_demo_data_are_what_the_demo_makes() {
    let world = World::demo(500);
    for name in [
        "tickets.csv",
        "refused.csv",
        "gauges.tsv",
        "vessels.csv",
        "engines.ndjson",
        "crossings/2024-07.csv",
    ] {
        let (made, kept) = (
            std::fs::read(world.path(name)).unwrap(),
            std::fs::read(root().join("demo").join(name)).unwrap(),
        );
        assert!(made == kept, "demo/{name} is stale: typhos demo demo --rows 500 --data-only");
    }
}
