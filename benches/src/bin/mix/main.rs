//! Files of many kinds: Typhos against a loop over the `csv` crate's byte records that does nothing, on each of them.
//!
//! Usage: `mix [MB] [ROUNDS] [KIND…]`; `scripts/bench mix` builds everything and calls it. Files are made once, beside the
//! programs, from a seed. The commands of a file are run in turn, and the best time of each counts.

mod files;

use std::path::Path;
use std::process::ExitCode;

use files::KINDS;
use typhos_benches::{Case, binaries};

/// What is measured on each file, after the loop.
const WORK: [&str; 4] = ["scout", "1 thread", "check", "load"];

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let number =
        |at: usize, usual: u64| words.get(at).and_then(|word| word.parse().ok()).unwrap_or(usual);
    let (megabytes, rounds) = (number(0, 60), number(1, 3));
    let wanted = words.get(2..).unwrap_or_default();
    let run = || -> Result<(), String> {
        let folder = binaries()?.join(format!("mix-data-{megabytes}"));
        std::fs::create_dir_all(&folder).map_err(|error| error.to_string())?;
        println!("{megabytes} MB each, best of {rounds}\n");
        println!(
            "| file | `scout` | 1 thread | `check` | `load` | most memory |\n|---|---:|---:|---:|---:|---:|"
        );
        let mut all: Vec<[f64; WORK.len()]> = Vec::new();
        for kind in
            KINDS.iter().filter(|kind| wanted.is_empty() || wanted.iter().any(|w| w == kind.name))
        {
            let path = folder.join(format!("{}.csv", kind.name));
            if !path.exists() {
                files::write(kind, &path, megabytes * 1_000_000)
                    .map_err(|error| error.to_string())?;
            }
            let (ratios, peak) = measure(&folder, kind.name, rounds)?;
            let [scout, alone, check, load] = ratios;
            println!(
                "| {}: {} | {scout:.2} | {alone:.2} | {check:.2} | {load:.2} | {} MiB |",
                kind.name,
                kind.about,
                peak >> 10
            );
            all.push(ratios);
        }
        let column = |at: usize| all.iter().map(move |ratios| ratios[at]);
        let mean = |at: usize| (column(at).map(f64::ln).sum::<f64>() / all.len() as f64).exp();
        let worst = |at: usize| column(at).fold(0.0, f64::max);
        for (name, of) in [("worst", &worst as &dyn Fn(usize) -> f64), ("geometric mean", &mean)] {
            println!(
                "| **{name}** | {:.2} | {:.2} | {:.2} | {:.2} | |",
                of(0),
                of(1),
                of(2),
                of(3)
            );
        }
        Ok(())
    };
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("mix: {error}");
            ExitCode::FAILURE
        }
    }
}

/// The times of all work on a file as ratios to the loop, and the most memory that any of it held.
fn measure(folder: &Path, name: &str, rounds: u64) -> Result<([f64; WORK.len()], u64), String> {
    let binaries = binaries()?;
    let typhos = binaries.join("typhos");
    let path = |end: &str| folder.join(format!("{name}{end}")).display().to_string();
    let (file, schema, target) = (path(".csv"), path(".typhos.toml"), path(".parquet"));
    // What the schema is depends on the program that is measured.
    Case::new("draft", &typhos, &["draft", &file, "-o", &schema, "--replace"]).run()?;
    let delimiter = match name {
        "commas" => ";",
        "names" => "\t",
        _ => ",",
    };
    let mut cases = [
        Case::new("loop", binaries.join("csv_walk"), &[&file, delimiter]),
        Case::new(WORK[0], &typhos, &["scout", &file]),
        Case::new(WORK[1], &typhos, &["scout", &file, "--threads", "1"]),
        Case::new(WORK[2], &typhos, &["check", &schema, &file]),
        Case::new(
            WORK[3],
            &typhos,
            &["load", &schema, &file, "--into", &target, "--mode", "replace"],
        ),
    ];
    for _ in 0..rounds {
        for case in &mut cases {
            case.run()?;
        }
    }
    let unit = cases[0].best.as_secs_f64();
    let peak = cases[1..].iter().map(|case| case.peak_kib).max().unwrap_or(0);
    let ratio = |at: usize| cases[at + 1].best.as_secs_f64() / unit;
    Ok(([ratio(0), ratio(1), ratio(2), ratio(3)], peak))
}
