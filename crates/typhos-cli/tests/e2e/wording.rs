//! What the program says, word for word: one snapshot of each command's help and of each kind of message, so that a
//! change of wording is seen where changes are reviewed. `INSTA_UPDATE=always cargo test -p typhos-cli --test e2e wording`
//! writes them anew.

use crate::world::World;

/// What a line is answered, with its exit status.
fn answered(world: &World, line: &str) -> String {
    let ran = world.run(line);
    let mut told = format!("$ typhos {line}\n");
    for text in [&ran.out, &ran.err] {
        for line in text.lines() {
            told.push_str(&format!("  {}\n", line.trim_end()));
        }
    }
    told + &format!("  [{}]\n", ran.status)
}

fn all_answered(world: &World, lines: &[&str]) -> String {
    lines.iter().map(|line| answered(world, line)).collect::<Vec<_>>().join("\n")
}

/// The names of all commands, as the program lists them.
fn commands() -> Vec<String> {
    let help = World::new().ok("--help").out;
    let (_, list) = help.split_once("Commands:\n").expect("there is a list of commands");
    let names = list.lines().take_while(|line| !line.trim().is_empty());
    let is_entry = |line: &&str| line.starts_with("  ") && !line.starts_with("   ");
    let names = names.filter(is_entry).filter_map(|line| line.split_whitespace().next());
    names.filter(|name| *name != "help").map(str::to_owned).collect()
}

#[test]
fn every_command_has_help_of_these_words() {
    let commands = commands();
    assert!(commands.len() >= 10, "{commands:?}");
    let world = World::new();
    insta::assert_snapshot!("help", answered(&world, "--help"));
    for command in commands {
        let help = answered(&world, &format!("{command} --help"));
        assert!(help.contains("Usage: typhos"), "{help}");
        insta::assert_snapshot!(format!("help_{command}"), help);
    }
}

const SCHEMA: &str = "typhos = 1\n[columns]\na = { type = \"uint8\" }\nb = { type = \"text\" }\n";

fn world() -> World {
    let world = World::new();
    world
        .write("t.csv", "a,b\n1,x\n2,y\n")
        .write("wrong.csv", "a,b\n1,x\nmany,y\n300,z\n,\n")
        .write("other.csv", "x,y\n1,2\n")
        .write("short.csv", "a,b\n1\n2,y,z\n")
        .write("torn.csv", "a,b\n1,\"x\n2,y\n")
        .write("empty.csv", "")
        .write("packed.csv", b"\x1f\x8b\x08\0")
        .write("latin.csv", b"caf\xe9,b\n1,2\n")
        .write("lines.ndjson", "{\"a\":1,\"b\":2}\n")
        .write("text.db", "this is not a database at all")
        .write("s.typhos.toml", SCHEMA);
    world
}

#[test]
fn command_lines_that_are_wrong() {
    let lines = [
        "scuot t.csv",
        "scout",
        "scout t.csv --delimiter ;;",
        "scout t.csv --quote x",
        "scout t.csv --encoding utf-61",
        "scout t.csv --line-ends clrf",
        "scout t.csv --record-limit 3",
        "scout t.csv --headroom 0.5",
        "scout t.csv --tolerate 0.9",
        "scout t.csv --date-order dm",
        "scout t.csv --never uint",
        "scout t.csv --never text",
        "scout t.csv --column aa",
        "scout t.csv --column zzz",
        "scout t.csv --key zzz",
        "scout - t.csv",
        "scout postgres://user@host/database",
        "draft t.csv -o t.csv",
        "draft t.csv -o s.typhos.toml",
        "check t.csv",
        "check t.csv t.csv",
        "weigh s.typhos.toml t.csv --where b",
        "weigh s.typhos.toml t.csv --where c=1",
        "weigh s.typhos.toml t.csv --suggest-sort",
        "load s.typhos.toml t.csv",
        "load s.typhos.toml t.csv --into t.csvx",
        "load s.typhos.toml t.csv --into ftp://host/x",
        "load s.typhos.toml t.csv --into postgres://u:p@host",
        "load s.typhos.toml t.csv --into d.sqlite --parts 2",
        "load s.typhos.toml t.csv --into t.parquet --memory 1k",
        "load s.typhos.toml t.csv --into t.parquet --misfit-limit some",
        "load s.typhos.toml t.csv --into t.csv",
        "emit s.typhos.toml --as cobol",
        "peek t.csv",
        "peek s.typhos.toml",
        "peek t.csv --columns z",
        "scout t.csv --save t.svg",
        "compare s.typhos.toml s.typhos.toml t.csv",
        "tally t.csv --by z",
        "tally t.csv --show sum",
        "tally t.csv --chart bar",
        "ask t.csv",
        "report s.typhos.toml",
        "dates 2024-02-30",
        "dates crate",
        "dates 2024-03-01 --pattern yyyy-mm-dd",
        "dates 2024-03-01 --pattern yyyy-MM-dd --zone Europe/Olso",
        "pool t.csv -o x.survey",
    ];
    insta::assert_snapshot!(all_answered(&world(), &lines));
}

#[test]
fn files_that_cannot_be_read() {
    let world = world();
    std::fs::create_dir(world.path("folder")).unwrap();
    let lines = [
        "scout nowhere.csv",
        "scout folder",
        "scout *.tsv",
        "scout empty.csv",
        "scout packed.csv",
        "scout latin.csv --encoding utf-8",
        "scout t.csv other.csv",
        "check nowhere.toml t.csv",
        "peek nowhere.parquet",
        "peek folder",
        "load s.typhos.toml t.csv --into text.db",
        "load s.typhos.toml t.csv --into nowhere/t.parquet",
    ];
    insta::assert_snapshot!(all_answered(&world, &lines));
}

#[test]
fn schema_files_that_are_wrong() {
    let world = world();
    let columns = |lines: &str| format!("typhos = 1\n[columns]\n{lines}\n");
    let cases = [
        ("syntax", "typhos = 1\n[columns\n".to_owned()),
        ("keys", "typhos = 1\ncolour = 1\n[input]\ndelimeter = \",\"\n[columns]\na = { type = \"unit8\", requird = true }\n".into()),
        ("twice", columns("a = { type = \"uint8\" }\na = { type = \"text\" }")),
        ("types", columns("a = { type = \"decimal\" }\nb = { type = \"timestamp\" }\nc = { type = \"list(text)\" }\nd = { type = \"text(0)\" }")),
        ("apply", columns("a = { type = \"text\", patterns = [\"yyyy\"] }\nb = { type = \"uint8\", values = [\"x\"] }\nc = { type = \"date\", zone = \"Europe/Oslo\" }")),
        ("bounds", columns("a = { type = \"uint8\", low = \"x\" }\nb = { type = \"uint8\", default = \"300\" }\nc = { type = \"duration(s)\", high = \"soon\" }")),
        ("patterns", columns("a = { type = \"date\", patterns = [\"yyyy-mm-dd\"] }\nb = { type = \"time(s)\", patterns = [\"hh:mm\"] }")),
        ("words", columns("a = { type = \"uint8\", misfit = \"rejct\", rounding = \"up\", generate = \"serial\" }")),
        ("layout", columns("a = { type = \"uint8\" }\n[layout]\nkey = [\"b\"]\nsort = [\"a down\"]\ncompression = \"zip\"\npage = \"4\"")),
        ("sources", columns("a = { type = \"text\", from = \"aa\" }\nb = { type = \"text\", from = [\"a\"] }")),
    ];
    let mut told = Vec::new();
    for (name, text) in &cases {
        let file = format!("{name}.typhos.toml");
        world.write(&file, text);
        told.push(answered(&world, &format!("check {file} t.csv")));
    }
    insta::assert_snapshot!(told.join("\n"));
}

#[test]
fn what_does_not_fit_is_told() {
    let world = world();
    world.write("null.typhos.toml", SCHEMA.replace("\"uint8\"", "\"uint8\", misfit = \"null\""));
    world
        .write("reject.typhos.toml", SCHEMA.replace("\"uint8\"", "\"uint8\", misfit = \"reject\""));
    world.write("key.typhos.toml", format!("{SCHEMA}[layout]\nkey = [\"a\"]\n"));
    world.write("twice.csv", "a,b\n1,x\n1,y\n");
    let lines = [
        "check s.typhos.toml t.csv",
        "check s.typhos.toml wrong.csv",
        "check s.typhos.toml short.csv",
        "check s.typhos.toml torn.csv",
        "check key.typhos.toml twice.csv",
        "load s.typhos.toml wrong.csv --into w.parquet",
        "load null.typhos.toml wrong.csv --into n.parquet --no-proof",
        "load reject.typhos.toml wrong.csv --into r.arrow",
        "load reject.typhos.toml wrong.csv --into l.arrow --misfit-limit 1",
        "load key.typhos.toml twice.csv --into k.sqlite",
        "load s.typhos.toml t.csv --into r.arrow",
        "load s.typhos.toml t.csv --into p.sqlite --plan",
        "load key.typhos.toml t.csv --into t.parquet --seen skip --plan",
    ];
    insta::assert_snapshot!(all_answered(&world, &lines));
}
