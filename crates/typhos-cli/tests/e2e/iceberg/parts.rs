//! A load in parts that becomes one snapshot.

use serde_json::json;

use super::{LAKE, column, read};
use crate::world::World;

fn world() -> World {
    let world = World::new();
    std::fs::create_dir(world.path("lake")).unwrap();
    let rows: String = (1..=3000).fold("id,route,sailed\n".to_owned(), |mut text, id| {
        // Names with line breaks, so that where a part begins has to be found.
        text.push_str(&format!("{id},\"R\n{}\",2025-{:02}-01\n", id % 7, id % 4 + 1));
        text
    });
    world.write("r.csv", rows).write(
        "r.typhos.toml",
        "typhos = 1\n[columns]\nid = { type = 'uint16', required = true }\nroute = { type = 'text' }\n\
         sailed = { type = 'date', patterns = ['yyyy-MM-dd'] }\n[layout]\npartition = ['month(sailed)']\n",
    );
    world
}

fn part(world: &World, part: u32, more: &str) {
    world.ok(&format!(
        "load r.typhos.toml r.csv --part {part}/4 --into {LAKE} --table ferry.r --stage stage --quiet {more}"
    ));
}

#[test]
fn parts_become_one_snapshot_and_no_part_comes_twice() {
    let world = world();
    part(&world, 3, "");
    world.run("commit stage").status(4).complains("parts 1/4, 2/4 and 4/4 are missing");
    assert!(!world.path("lake/catalog.db").exists());
    [1, 2, 4, 3].into_iter().for_each(|number| part(&world, number, ""));
    // What a commit leaves that is killed right behind its snapshot: the stage is as it was before.
    copy(&world, "stage", "before");
    world.ok("commit stage").says("table ferry.r").says("3,000 read = 3,000 loaded + 0 set aside");
    world.ok("commit stage").complains("were published before");
    world.ok("commit before").complains("all of it was visible already");
    // Added once more, by parts of their own.
    (1..=4).for_each(|number| part(&world, number, "--mode append"));
    world.ok("commit stage");
    let Some(found) = read(&world, &["ferry.r"]) else { return };
    let table = &found["ferry.r"];
    let rows: Vec<_> = (0..2).map(|at| &table["snapshots"][at]["rows"]).collect();
    assert_eq!(rows, [&json!(3000), &json!(6000)]);
    assert_eq!(table["snapshots"].as_array().unwrap().len(), 2);
    assert_eq!(table["files"].as_array().unwrap().len(), 2 * 4 * 4);
    let mut ids = column(table, "id");
    ids.dedup();
    assert_eq!(ids.len(), 3000);
}

#[test]
fn a_table_that_changed_since_its_parts_were_loaded_is_left_alone() {
    let world = world();
    (1..=4).for_each(|number| part(&world, number, ""));
    world.ok(&format!("load r.typhos.toml r.csv --into {LAKE} --table ferry.r"));
    world.run("commit stage").status(3).complains("is no longer what it was");
    if let Some(found) = read(&world, &["ferry.r"]) {
        assert_eq!(found["ferry.r"]["snapshots"].as_array().unwrap().len(), 1);
    }
}

/// Copies a folder with all that is in it.
fn copy(world: &World, from: &str, to: &str) {
    let status = std::process::Command::new("cp")
        .args(["-a", from, to])
        .current_dir(world.path(""))
        .status()
        .unwrap();
    assert!(status.success());
}
