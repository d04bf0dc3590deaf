//! Loads into real servers, started for these tests in temporary folders on free ports.

mod appends;
mod certificate;
mod counting;
mod encryption;
mod faults;
mod history;
mod names;
mod nested;
mod reading;
mod refill;
mod refused;
pub mod round_trip;
pub mod server;
mod tables;
mod values;
mod waiting;

pub use server::{Database, Kind, Server};

/// Runs a test against every server that is installed.
pub fn for_each_server(test: impl Fn(&Server)) {
    for kind in Kind::ALL {
        if let Some(server) = Server::shared(kind) {
            test(server);
        }
    }
}
