//! JSON lines: Typhos against a loop of `serde_json` over the lines that ignores every value, on one thread.
//!
//! Usage: `json [RECORDS] [ROUNDS]`, or `json walk FILE`, which is that loop; `scripts/bench json` builds everything and calls
//! it. The file of events as a web server has them (a nested object, a list, keys that some records lack, dates in
//! texts) is made once, beside the programs, from a seed.

use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, Write};
use std::path::Path;
use std::process::ExitCode;

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};
use typhos_benches::{Case, binaries};

/// Writes so many events.
fn write(path: &Path, records: u64) -> std::io::Result<()> {
    let mut dice = ChaCha8Rng::seed_from_u64(18);
    let mut file = BufWriter::new(File::create(path)?);
    let ports = ["Holm", "Sund", "Vassle", "Ormsey", "Tårnvik"];
    let agents = ["boat/2.1", "shore/0.9 (quay 4)", "deck/11"];
    for id in 0..records {
        let mut roll = |sides: u64| dice.next_u64() % sides;
        let (day, hour, minute, second) = (1 + roll(28), roll(24), roll(60), roll(60));
        write!(
            file,
            "{{\"id\":{},\"at\":\"2024-03-{day:02}T{hour:02}:{minute:02}:{second:02}.{:03}Z\",\"kind\":\"{}\",",
            7_000_000_000_000u64 + id,
            roll(1000),
            ["view", "search", "book", "pay"][roll(4) as usize],
        )?;
        write!(
            file,
            "\"user\":{{\"id\":{},\"agent\":\"{}\",\"port\":\"{}\"}},\"path\":\"/sailings/{}/{}\",\"took_ms\":{}.{:02}",
            roll(200_000),
            agents[roll(3) as usize],
            ports[roll(5) as usize],
            ports[roll(4) as usize].to_lowercase(),
            roll(9_000),
            roll(900),
            roll(100),
        )?;
        if roll(3) > 0 {
            write!(file, ",\"status\":{}", [200, 200, 200, 301, 404, 500][roll(6) as usize])?;
        }
        if roll(4) == 0 {
            write!(file, ",\"seats\":[{},{}]", roll(200), roll(200))?;
        }
        if roll(10) == 0 {
            write!(file, ",\"error\":null,\"note\":\"a \\\"quoted\\\" word\"")?;
        }
        file.write_all(b"}\n")?;
    }
    file.flush()
}

/// The loop.
fn walk(path: &str) -> Result<u64, String> {
    let failed = |error: std::io::Error| error.to_string();
    let mut reader = BufReader::with_capacity(1 << 20, File::open(path).map_err(failed)?);
    let (mut line, mut records) = (Vec::new(), 0);
    while reader.read_until(b'\n', &mut line).map_err(failed)? > 0 {
        serde_json::from_slice::<serde::de::IgnoredAny>(&line)
            .map_err(|error| error.to_string())?;
        records += 1;
        line.clear();
    }
    Ok(records)
}

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let words: Vec<String> = std::env::args().skip(1).collect();
    if let [walked, path] = &words[..]
        && walked == "walk"
    {
        return match walk(path) {
            Ok(records) => {
                println!("{records} records");
                ExitCode::SUCCESS
            }
            Err(error) => {
                eprintln!("json: {path}: {error}");
                ExitCode::FAILURE
            }
        };
    }
    let number =
        |at: usize, usual: u64| words.get(at).and_then(|word| word.parse().ok()).unwrap_or(usual);
    let (records, rounds) = (number(0, 1_000_000), number(1, 3));
    let run = || -> Result<(), String> {
        let programs = binaries()?;
        let folder = programs.join(format!("json-data-{records}"));
        std::fs::create_dir_all(&folder).map_err(|error| error.to_string())?;
        let of = |name: &str| folder.join(name).display().to_string();
        let (events, schema, parquet) =
            (of("events.ndjson"), of("events.typhos.toml"), of("events.parquet"));
        if !Path::new(&events).exists() {
            write(Path::new(&events), records).map_err(|error| error.to_string())?;
        }
        let typhos = programs.join("typhos");
        Case::new("draft", &typhos, &["draft", &events, "-o", &schema, "--replace"]).run()?;
        let load = ["load", &schema, &events, "--into", &parquet, "--mode", "replace"];
        let mut cases = [
            Case::new("serde_json, every value ignored", programs.join("json"), &["walk", &events]),
            Case::new("`scout`", &typhos, &["scout", &events]),
            Case::new("`scout`, 1 thread", &typhos, &["scout", &events, "--threads", "1"]),
            Case::new("`check`", &typhos, &["check", &schema, &events]),
            Case::new("`load` into Parquet", &typhos, &load),
        ];
        for _ in 0..rounds {
            cases.iter_mut().try_for_each(Case::run)?;
        }
        let bytes = std::fs::metadata(&events).map_err(|error| error.to_string())?.len();
        println!("{records} events, {} MB, best of {rounds}\n", bytes / 1_000_000);
        println!("| work | ratio | peak memory |\n|---|---:|---:|");
        let unit = cases[0].best.as_secs_f64();
        for case in &cases {
            let ratio = case.best.as_secs_f64() / unit;
            println!("| {} | {ratio:.2} | {} MiB |", case.name, case.peak_kib >> 10);
        }
        Ok(())
    };
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("json: {error}");
            ExitCode::FAILURE
        }
    }
}
