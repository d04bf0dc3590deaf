//! Loads the same tickets as they come and sorted by two keys, in turn, and weighs both.
//!
//! Usage: `sorted [ROWS] [ROUNDS]`; `scripts/bench sort` builds everything and calls it. The best time of
//! each counts. What a reader has to read of the two files for one question comes from `typhos weigh`.

use std::path::Path;
use std::process::{Command, ExitCode};

use typhos_benches::{Case, binaries};

/// What is asked of the files.
const QUESTION: &str = "route = 'Holm' and cabin > 'deck'";

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let mut number =
        |usual: u64| arguments.next().and_then(|word| word.parse().ok()).unwrap_or(usual);
    let (rows, rounds) = (number(5_000_000), number(3));
    let run = || -> Result<(), String> {
        let typhos = binaries()?.join("typhos");
        let data = binaries()?.join(format!("bench-data-{rows}"));
        let path = |name: &str| data.join(name).display().to_string();
        let (tickets, drafted) = (path("tickets.csv"), path("t.typhos.toml"));
        if !Path::new(&drafted).exists() {
            let folder = data.display().to_string();
            let rows = rows.to_string();
            Case::new("demo", &typhos, &["demo", &folder, "--data-only", "--rows", &rows]).run()?;
            Case::new("draft", &typhos, &["draft", &tickets, "-o", &drafted]).run()?;
        }
        // Cabins have a rank, as a person would declare it.
        let text = std::fs::read_to_string(&drafted).map_err(|error| error.to_string())?;
        let text = text.replace(
            "values = [\"cabin\", \"deck\", \"saloon\"]",
            "values = [\"deck\", \"saloon\", \"cabin\"], ranked = true",
        );
        let (plain, sorted) = (path("plain.typhos.toml"), path("sorted.typhos.toml"));
        let layout = "\n[layout]\nsort = [\"route\", \"cabin\"]\n";
        for (path, text) in [(&plain, text.clone()), (&sorted, text + layout)] {
            std::fs::write(path, text).map_err(|error| error.to_string())?;
        }
        let target = path("sorted.parquet");
        let into = ["--into", &target, "--mode", "replace"];
        let load = |name, schema| {
            Case::new(name, &typhos, &[&["load", schema, &tickets], &into[..]].concat())
        };
        let mut cases = [load("as they come", &plain), load("sorted by two keys", &sorted)];
        for _ in 0..rounds {
            for case in &mut cases {
                case.run()?;
            }
        }
        println!("{rows} tickets into Parquet, best of {rounds}\n");
        println!("| rows | seconds | ratio | peak memory |\n|---|---:|---:|---:|");
        let unit = cases[0].best.as_secs_f64();
        for case in &cases {
            let seconds = case.best.as_secs_f64();
            let peak = case.peak_kib as f64 / 1024.0;
            println!("| {} | {seconds:.2} | {:.2} | {peak:.0} MiB |", case.name, seconds / unit);
        }
        println!();
        let weighed = Command::new(&typhos)
            .args(["weigh", &plain, &sorted, &tickets, "--where", QUESTION])
            .status();
        match weighed {
            Ok(status) if status.success() => Ok(()),
            Ok(status) => Err(format!("typhos weigh: {status}")),
            Err(error) => Err(error.to_string()),
        }
    };
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("sorted: {error}");
            ExitCode::FAILURE
        }
    }
}
