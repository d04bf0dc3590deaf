//! Runs Typhos and bare walks on the same file, in turn, and prints how they compare.
//!
//! Usage: `ratios [ROWS] [ROUNDS]`; `scripts/bench` builds everything and calls it. Each command is run
//! once a round, the rounds are interleaved so that a slow moment of the machine hits all alike, and
//! the best time of each counts. Peak memory is what the kernel saw of the process.

use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};
use std::time::{Duration, Instant};

/// What is measured: a name, the program and its arguments, and whether its time is the unit.
struct Case {
    name: &'static str,
    program: PathBuf,
    arguments: Vec<String>,
    best: Duration,
    peak_kib: u64,
}

impl Case {
    fn new(name: &'static str, program: impl AsRef<Path>, arguments: &[&str]) -> Case {
        Case {
            name,
            program: program.as_ref().to_path_buf(),
            arguments: arguments.iter().map(|word| (*word).to_owned()).collect(),
            best: Duration::MAX,
            peak_kib: 0,
        }
    }

    fn run(&mut self) -> Result<(), String> {
        let failed = |what: String| {
            format!("{} {}: {what}", self.program.display(), self.arguments.join(" "))
        };
        let started = Instant::now();
        let mut child = Command::new(&self.program)
            .args(&self.arguments)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .map_err(|error| failed(error.to_string()))?;
        let status = format!("/proc/{}/status", child.id());
        let ended = loop {
            if let Some(peak) = peak_kib(&status) {
                self.peak_kib = self.peak_kib.max(peak);
            }
            if let Some(ended) = child.try_wait().map_err(|error| failed(error.to_string()))? {
                break ended;
            }
            std::thread::sleep(Duration::from_millis(2));
        };
        self.best = self.best.min(started.elapsed());
        if ended.success() { Ok(()) } else { Err(failed(ended.to_string())) }
    }
}

/// The most memory the process has held, beside the page cache.
fn peak_kib(status: &str) -> Option<u64> {
    let text = std::fs::read_to_string(status).ok()?;
    let line = text.lines().find(|line| line.starts_with("VmHWM:"))?;
    line.split_whitespace().nth(1)?.parse().ok()
}

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let mut number =
        |usual: u64| arguments.next().and_then(|word| word.parse().ok()).unwrap_or(usual);
    let (rows, rounds) = (number(5_000_000), number(5));
    let run = || -> Result<(), String> {
        let binaries = std::env::current_exe().map_err(|error| error.to_string())?;
        let binaries = binaries.parent().ok_or("the program has no folder")?.to_path_buf();
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
                &["load", &schema, &tickets, "--into", &target, "--replace"],
            ),
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
