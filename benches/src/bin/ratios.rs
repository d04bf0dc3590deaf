//! Runs Typhos and bare walks on the same file, in turn, and prints how they compare.
//!
//! Usage: `ratios [ROWS] [ROUNDS]`; `scripts/bench` builds everything and calls it. Each command is run
//! once a round, the rounds are interleaved so that a slow moment of the machine hits all alike, and
//! the best time of each counts. Peak memory is what the kernel saw of the process.

use std::path::Path;
use std::process::{Command, ExitCode, Stdio};

use typhos_benches::{Case, binaries};

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let mut number =
        |usual: u64| arguments.next().and_then(|word| word.parse().ok()).unwrap_or(usual);
    let (rows, rounds) = (number(5_000_000), number(5));
    let run = || -> Result<(), String> {
        let binaries = binaries()?;
        let data = binaries.join(format!("bench-data-{rows}"));
        let typhos = binaries.join("typhos");
        let path = |name: &str| data.join(name).display().to_string();
        let (tickets, schema, target) =
            (path("tickets.csv"), path("t.typhos.toml"), path("t.parquet"));
        if !Path::new(&schema).exists() {
            let folder = data.display().to_string();
            Case::new(
                "demo",
                &typhos,
                &["demo", &folder, "--data-only", "--rows", &rows.to_string()],
            )
            .run()?;
            Case::new("draft", &typhos, &["draft", &tickets, "-o", &schema]).run()?;
        }
        let packed = path("tickets.csv.gz");
        if !Path::new(&packed).exists() {
            let made =
                Command::new("gzip").args(["-1", "-k", &tickets]).stdin(Stdio::null()).status();
            if !made.is_ok_and(|status| status.success()) {
                return Err("gzip cannot pack the tickets".into());
            }
        }
        let mut cases = [
            Case::new("csv crate, byte records", binaries.join("csv_walk"), &[&tickets]),
            Case::new("wc -l", "wc", &["-l", &tickets]),
            Case::new("splitting alone", binaries.join("split_walk"), &[&tickets]),
            Case::new("splitting alone, 1 thread", binaries.join("split_walk"), &[&tickets, "1"]),
            Case::new("scout", &typhos, &["scout", &tickets]),
            Case::new("scout, 1 thread", &typhos, &["scout", &tickets, "--threads", "1"]),
            Case::new("check", &typhos, &["check", &schema, &tickets]),
            Case::new(
                "load into Parquet",
                &typhos,
                &["load", &schema, &tickets, "--into", &target, "--mode", "replace"],
            ),
            Case::new("`gzip -dc` into nothing", "gzip", &["-dc", &packed]),
            Case::new("scout of the gzip", &typhos, &["scout", &packed]),
        ];
        for _ in 0..rounds {
            for case in &mut cases {
                case.run()?;
            }
        }
        let unit = cases[0].best.as_secs_f64();
        let bytes = std::fs::metadata(&tickets).map_err(|error| error.to_string())?.len();
        println!("{rows} tickets, {:.0} MB, best of {rounds}\n", bytes as f64 / 1e6);
        println!("| work | seconds | ratio | peak memory |\n|---|---:|---:|---:|");
        for case in &cases {
            let seconds = case.best.as_secs_f64();
            let peak = case.peak_kib as f64 / 1024.0;
            println!("| {} | {seconds:.2} | {:.2} | {peak:.0} MiB |", case.name, seconds / unit);
        }
        let [.., unpack, scout] = &cases;
        let packed = scout.best.as_secs_f64() / unpack.best.as_secs_f64();
        println!("\nscout of the gzip takes {packed:.2} times what `gzip -dc` takes");
        Ok(())
    };
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("ratios: {error}");
            ExitCode::FAILURE
        }
    }
}
