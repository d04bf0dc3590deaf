//! Several writers at once.

use serde_json::json;

use super::{LAKE, column, files, read, sailings};
use crate::world::ended;

#[test]
fn whoever_adds_at_once_adds_all_of_it_once() {
    let world = sailings();
    world.ok(&format!("load s.typhos.toml a.csv --into {LAKE} --table ferry.s"));
    let line =
        format!("load s.typhos.toml b.csv --into {LAKE} --table ferry.s --mode append --quiet");
    for _ in 0..3 {
        let started: Vec<_> = (0..6)
            .map(|_| {
                let mut command = world.command(&line);
                command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
                command.spawn().unwrap()
            })
            .collect();
        for child in started {
            let output = ended(child);
            let said = String::from_utf8_lossy(&output.stderr).into_owned();
            assert!(output.status.success(), "{said}");
        }
    }
    let Some(found) = read(&world, &["ferry.s"]) else { return };
    let table = &found["ferry.s"];
    assert_eq!(table["rows"].as_array().unwrap().len(), 4 + 18 * 2);
    assert_eq!(column(table, "id").iter().filter(|id| *id == "6").count(), 18);
    // One snapshot a load, each with the rows of all before it.
    let snapshots = table["snapshots"].as_array().unwrap();
    let rows: Vec<_> = snapshots.iter().map(|it| it["rows"].as_u64().unwrap()).collect();
    assert_eq!(rows, (0..=18).map(|at| 4 + at * 2).collect::<Vec<_>>());
    // What lost a race left nothing: a list and a metadata file a snapshot, a manifest a load.
    let count = |word: &str| {
        let all = files(&world, "warehouse/ferry/s/metadata");
        all.iter().filter(|name| name.contains(word)).count()
    };
    assert_eq!((count("snap-"), count(".metadata.json"), count("-m0.avro")), (19, 19, 19));
}

#[test]
fn of_those_that_make_a_table_at_once_one_does() {
    let world = sailings();
    let line = format!("load s.typhos.toml a.csv --into {LAKE} --table ferry.s --quiet");
    let started: Vec<_> = (0..4)
        .map(|_| {
            let mut command = world.command(&line);
            command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
            command.spawn().unwrap()
        })
        .collect();
    let ended: Vec<_> = started.into_iter().map(ended).collect();
    let won = ended.iter().filter(|output| output.status.success()).count();
    assert_eq!(won, 1);
    for output in ended.iter().filter(|output| !output.status.success()) {
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(said.contains("somebody else") || said.contains("exists already"), "{said}");
    }
    let data: Vec<_> = files(&world, "warehouse/ferry/s/data");
    assert_eq!(data.len(), 3, "{data:?}");
    if let Some(found) = read(&world, &["ferry.s"]) {
        assert_eq!(found["ferry.s"]["snapshots"].as_array().unwrap().len(), 1);
        assert_eq!(found["ferry.s"]["snapshots"][0]["rows"], json!(4));
    }
}
