//! How the time of `scout` grows with the size and the shape of a file.
//!
//! Usage: `shapes [LARGEST_MB]`; `scripts/bench shapes` calls it. Sizes go from 1 MB by tens to 1,000 MB,
//! and to the largest asked for (4,000); then come a wide file, one of a single narrow column, and one in
//! which everything is quoted. Each is made, looked at three times in turn with the loop over the `csv`
//! crate's byte records, and removed.

use std::fmt::Write as _;
use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::process::ExitCode;

use typhos_benches::{Case, binaries};

/// Tickets of the demo in a MB.
const TICKETS_PER_MB: u64 = 11_930;

/// Writes a file row by row.
fn make(path: &Path, rows: u64, row: impl Fn(u64, &mut String)) -> std::io::Result<()> {
    let mut writer = BufWriter::with_capacity(1 << 20, File::create(path)?);
    let mut line = String::new();
    for number in 0..rows {
        line.clear();
        row(number, &mut line);
        writer.write_all(line.as_bytes())?;
    }
    writer.flush()
}

/// A number that looks like any other.
fn scattered(number: u64) -> u64 {
    number.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 40
}

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let largest: u64 = std::env::args().nth(1).and_then(|word| word.parse().ok()).unwrap_or(4000);
    let run = || -> Result<(), String> {
        let binaries = binaries()?;
        let folder = binaries.join("bench-shapes");
        let typhos = binaries.join("typhos");
        println!("| file | MB | scout, seconds | MB/s | the loop, seconds | peak memory |");
        println!("|---|---:|---:|---:|---:|---:|");
        let measure = |name: &str, path: &Path| -> Result<(), String> {
            let bytes = std::fs::metadata(path).map_err(|error| error.to_string())?.len();
            let text = path.display().to_string();
            let mut scout = Case::new("scout", &typhos, &["scout", &text]);
            let mut walk = Case::new("the loop", binaries.join("csv_walk"), &[&text]);
            for _ in 0..3 {
                scout.run()?;
                walk.run()?;
            }
            let (megabytes, seconds) = (bytes as f64 / 1e6, scout.best.as_secs_f64());
            println!(
                "| {name} | {megabytes:.0} | {seconds:.2} | {:.0} | {:.2} | {} MiB |",
                megabytes / seconds,
                walk.best.as_secs_f64(),
                scout.peak_kib >> 10
            );
            std::fs::remove_dir_all(&folder).map_err(|error| error.to_string())
        };
        for megabytes in [1, 10, 100, 1000, largest] {
            let rows = (megabytes * TICKETS_PER_MB).to_string();
            let target = folder.display().to_string();
            Case::new("demo", &typhos, &["demo", &target, "--data-only", "--rows", &rows]).run()?;
            measure("demo tickets", &folder.join("tickets.csv"))?;
        }
        let file = folder.join("t.csv");
        let made = |name: &str, rows: u64, row: &dyn Fn(u64, &mut String)| {
            std::fs::create_dir_all(&folder)
                .and_then(|()| make(&file, rows, row))
                .map_err(|error| error.to_string())?;
            measure(name, &file)
        };
        made("20,000 records of 5,000 columns", 20_001, &|row, line| {
            for column in 0..5000 {
                let comma = if column > 0 { "," } else { "" };
                let _ = match row {
                    0 => write!(line, "{comma}c{column}"),
                    _ => write!(line, "{comma}{}", scattered(row * 5000 + column) % 1000),
                };
            }
            line.push('\n');
        })?;
        made("100,000,000 short rows of one column", 100_000_000, &|row, line| {
            let _ = writeln!(line, "{}", scattered(row) % 1000);
        })?;
        made("everything in quotes", 2_000_001, &|row, line| {
            let _ = match row {
                0 => writeln!(line, "\"id\",\"name\",\"fare\",\"note\""),
                _ => writeln!(
                    line,
                    "\"{row}\",\"port {}\",\"{}.5\",\"as \"\"told\"\", {}\"",
                    scattered(row) % 40,
                    scattered(row) % 90,
                    scattered(row)
                ),
            };
        })
    };
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("shapes: {error}");
            ExitCode::FAILURE
        }
    }
}
