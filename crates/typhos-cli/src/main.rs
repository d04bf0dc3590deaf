//! The `typhos` program: the command line, and what a person sees. All computation is in the
//! libraries below it.

mod args;
mod chart;
mod commands;
mod console;
mod diagnose;
mod fault;
mod interrupt;
mod outcome;
mod picture;
mod progress;
mod prompt;
mod remedies;
mod report;
mod scrub;
mod settings;
mod table;
mod targets;
mod world;

use std::process::ExitCode;

fn main() -> ExitCode {
    scrub::arguments();
    outcome::exit_code(fault::caught(commands::run_from_env))
}
