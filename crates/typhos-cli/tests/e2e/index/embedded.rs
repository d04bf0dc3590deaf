//! An index in a directory: whole or not there, proven, replaced.

use super::loads::world;

#[test]
fn a_directory_appears_whole_and_is_replaced_whole() {
    let world = world(3000, false);
    let line = "load s.typhos.toml s.csv --into sailings.index";
    world.ok(&format!("{line} --plan")).says("text as a whole").says("1677 to 2262");
    assert!(!world.path("sailings.index").exists());
    world.ok(line).says("3,000 read = 3,000 loaded").says("proven");
    world.run(line).status(2).complains("it exists already");
    world.ok(&format!("{line} --mode replace"));
    world.run(&format!("{line} --mode append")).status(2);
    let shown = world.json("peek sailings.index --rows 3 --json");
    assert_eq!(shown["total"], 3000);
    // A load that stops in the middle leaves what was there.
    let text = world.read("s.csv");
    world.write("s.csv", format!("{text}S9,Tern,2025-01-01 06:30,x,1,n\n"));
    world.run(&format!("{line} --mode replace")).status(4);
    assert_eq!(world.json("peek sailings.index --json")["total"], 3000);
    assert_eq!(world.names(), ["s.csv", "s.typhos.toml", "sailings.index"]);
}

#[test]
fn columns_that_want_one_field_are_a_problem() {
    let world = world(3, false);
    let schema = "typhos = 1\n[columns]\nnote = { type = 'text' }\n'note.exact' = { type = 'text(8)', from = 'sailing' }\n";
    world.write("n.typhos.toml", schema);
    world
        .run("load n.typhos.toml s.csv --into n.index --plan")
        .status(1)
        .says("two columns want the field 'note.exact'");
}
