//! Runs Typhos and bare walks on the same file, in turn, and prints how they compare.
//!
//! Usage: `ratios [ROWS] [ROUNDS]`; `scripts/bench` builds everything and calls it. Each command is run
//! once a round, the rounds are interleaved so that a slow moment of the machine hits all alike, and
//! the best time of each counts. Peak memory is what the kernel saw of the process.

use std::path::Path;
use std::process::{Command, ExitCode, Stdio};

use typhos_benches::{Case, Tickets, binaries, numbers};

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let [rows, rounds] = numbers([5_000_000, 5]);
    let run = || -> Result<(), String> {
        let binaries = binaries()?;
        let made = Tickets::make(rows)?;
        let (packed, target) = (made.beside("tickets.csv.gz"), made.beside("t.parquet"));
        let Tickets { typhos, file: tickets, schema, .. } = made;
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
