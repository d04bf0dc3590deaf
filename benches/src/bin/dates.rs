//! What reading dates costs in `check`, against a column of plain integers.
//!
//! Usage: `dates [ROWS] [ROUNDS]`; `scripts/bench dates` builds everything and calls it. Each file has one
//! column; rounds are interleaved and the best time of each counts. Values of the first two have ten bytes
//! each; longer ones are told by their bytes.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::process::ExitCode;

use typhos_benches::{Case, binaries};

/// A column: its name, its declaration, and what stands in a row.
type Column = (&'static str, &'static str, fn(u64) -> String);

/// Days that differ from row to row: year, month, day.
fn day(row: u64) -> (u64, u64, u64) {
    let mixed = row.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 33;
    (1990 + mixed % 60, 1 + mixed / 60 % 12, 1 + mixed / 720 % 28)
}

const COLUMNS: [Column; 6] = [
    ("integers", "type = \"int64\"", |row| {
        let (year, month, day) = day(row);
        format!("{year}{month:02}{day:02}{:02}", row % 100)
    }),
    (
        "dates of two patterns",
        "type = \"date\", patterns = [\"yyyy-MM-dd\", \"dd.MM.yyyy\"]",
        |row| {
            let (year, month, day) = day(row);
            if row % 2 == 0 {
                format!("{year}-{month:02}-{day:02}")
            } else {
                format!("{day:02}.{month:02}.{year}")
            }
        },
    ),
    ("dates of one loose pattern", "type = \"date\", patterns = [\"M/d/yyyy\"]", |row| {
        let (year, month, day) = day(row);
        format!("{month}/{day}/{year}")
    }),
    ("dates with names", "type = \"date\", patterns = [\"d MMM yyyy\"]", |row| {
        let (year, month, day) = day(row);
        let names = "JanFebMarAprMayJunJulAugSepOctNovDec";
        let at = 3 * (month as usize - 1);
        format!("{day} {} {year}", &names[at..at + 3])
    }),
    (
        "instants with seven digits and an offset",
        "type = \"timestamp(ns, utc)\", patterns = [\"yyyy-MM-dd'T'HH:mm:ss.SSSSSSSXXX\"]",
        |row| {
            let (year, month, day) = day(row);
            let (hour, minute) = (row % 24, row % 60);
            format!(
                "{year}-{month:02}-{day:02}T{hour:02}:{minute:02}:07.{:07}+01:00",
                row % 10_000_000
            )
        },
    ),
    (
        "times on the clocks of a zone",
        "type = \"timestamp(s, utc)\", patterns = [\"yyyy-MM-dd HH:mm:ss\"], zone = \"Europe/Oslo\", overlap = \"earlier\"",
        |row| {
            let (year, month, day) = day(row);
            format!("{year}-{month:02}-{day:02} {:02}:{:02}:07", 4 + row % 20, row % 60)
        },
    ),
];

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let mut numbers = std::env::args().skip(1).filter_map(|word| word.parse().ok());
    let (rows, rounds) = (numbers.next().unwrap_or(10_000_000), numbers.next().unwrap_or(5));
    let run = || -> Result<(), String> {
        let binaries = binaries()?;
        let data = binaries.join(format!("bench-dates-{rows}"));
        let typhos = binaries.join("typhos");
        let mut cases = Vec::new();
        for (at, (name, declaration, value)) in COLUMNS.iter().enumerate() {
            let file = data.join(format!("{at}.csv"));
            let schema = data.join(format!("{at}.typhos.toml"));
            let failed = |error: std::io::Error| format!("{}: {error}", file.display());
            let text = format!("typhos = 1\n[columns]\na = {{ {declaration} }}\n");
            std::fs::create_dir_all(&data).map_err(failed)?;
            std::fs::write(&schema, text).map_err(failed)?;
            if !Path::new(&file).exists() {
                write(&file, rows, *value).map_err(failed)?;
            }
            let bytes = std::fs::metadata(&file).map_err(failed)?.len();
            let paths = [schema.display().to_string(), file.display().to_string()];
            cases.push((Case::new(name, &typhos, &["check", &paths[0], &paths[1]]), bytes));
        }
        for _ in 0..rounds {
            for (case, _) in &mut cases {
                case.run()?;
            }
        }
        let unit = cases[0].0.best.as_secs_f64();
        println!("{rows} values, best of {rounds}\n");
        println!("| column | MB | seconds | ratio |\n|---|---:|---:|---:|");
        for (case, bytes) in &cases {
            let seconds = case.best.as_secs_f64();
            let megabytes = *bytes as f64 / 1e6;
            println!("| {} | {megabytes:.0} | {seconds:.2} | {:.2} |", case.name, seconds / unit);
        }
        Ok(())
    };
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            eprintln!("{message}");
            ExitCode::FAILURE
        }
    }
}

fn write(path: &Path, rows: u64, value: fn(u64) -> String) -> std::io::Result<()> {
    let mut out = BufWriter::new(File::create(path)?);
    writeln!(out, "a")?;
    for row in 0..rows {
        writeln!(out, "{}", value(row))?;
    }
    out.flush()
}
