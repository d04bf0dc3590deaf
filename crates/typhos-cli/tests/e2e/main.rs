//! The built program on real files in temporary folders: what people type, and what they get.
#![expect(clippy::print_stderr, reason = "tests say which of them were skipped")]

mod compact;
mod dates;
mod docs;
mod edges;
mod errors;
mod faults;
mod iceberg;
mod independent;
mod index;
mod json_late;
mod json_lines;
mod lake;
mod layouts;
mod misread;
mod nested;
mod outputs;
mod parts;
mod readers;
mod servers;
mod slurm;
mod small_disk;
mod stored_outputs;
mod stores;
mod story;
mod types;
mod uses;
mod wording;
mod world;
