//! Clients and readers that are not ours: a published client of the protocol against the stand-in, and the binding of the library of
//! embedded indexes for another language.

use super::loads::world;
use super::server::Server;
use crate::independent::run;

#[test]
fn a_published_client_finds_the_stand_in_as_it_expects_a_server() {
    let server = Server::start();
    if let Some(found) = run("index_server.py", &[&server.address]) {
        assert_eq!(found["well"], true);
    }
}

#[test]
fn an_embedded_index_is_read_in_another_language() {
    let world = world(900, false);
    world.ok("load s.typhos.toml s.csv --into sailings.index");
    let directory = world.path("sailings.index");
    let directory = directory.to_str().unwrap();
    let Some(found) = run("embedded_index.py", &[directory, "vessel:Gull", "sailing:S7"]) else {
        return;
    };
    assert_eq!((&found["documents"], &found["found"]), (&900.into(), &300.into()));
    let values = &found["values"];
    assert_eq!(values["fare"][0], "7.07");
    assert_eq!(values["note"][0], "calm, 7\n\tat sea");
    assert!(values["departs"][0].as_str().unwrap().contains("2025-01-08"), "{values}");
}
