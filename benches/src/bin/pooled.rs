//! Pooling many surveys: how time and memory grow with their number.
//!
//! Usage: `pooled [COLUMNS] [ROWS] [MOST]`; `scripts/bench pool` builds everything and calls it. Surveys are of files of so
//! many columns and rows each, made from a seed: numbers that rise, numbers of few digits, fractions, names of a few kinds, texts
//! that differ. They are pooled by the program, 1,000 of them first, then more.

use std::fmt::Write as _;
use std::fs::File;
use std::process::ExitCode;

use typhos_benches::{Case, binaries};
use typhos_core::run::{NoMonitor, RunOptions};
use typhos_core::survey::{Survey, SurveyOptions};
use typhos_core::text::{Dialect, Input};

/// Files that differ; others are the same under another name.
const KINDS: usize = 40;

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let words: Vec<usize> = std::env::args().skip(1).filter_map(|word| word.parse().ok()).collect();
    let number = |at: usize, usual: usize| words.get(at).copied().unwrap_or(usual);
    let (columns, rows, most) = (number(0, 500), number(1, 50), number(2, 10_000));
    let run = || -> Result<(), String> {
        let folder = binaries()?.join(format!("pool-data-{columns}-{rows}"));
        std::fs::create_dir_all(&folder).map_err(|error| error.to_string())?;
        let name = |at: usize| folder.join(format!("{at:06}.survey"));
        if !name(most - 1).exists() {
            write(columns, rows, most, &name)?;
        }
        println!(
            "{columns} columns, {rows} rows each\n\n| surveys | seconds | ms each | peak memory |\n|---:|---:|---:|---:|"
        );
        let mut counts = vec![most / 10, most / 4, most / 2, most];
        counts.dedup();
        for count in counts {
            let mut args = vec!["pool".to_owned()];
            args.extend((0..count).map(|at| name(at).display().to_string()));
            let output = folder.join("pooled").display().to_string();
            args.extend(["-o".into(), output, "--replace".into(), "--quiet".into()]);
            let args: Vec<&str> = args.iter().map(String::as_str).collect();
            let mut case = Case::new("pool", binaries()?.join("typhos"), &args);
            case.run()?;
            let seconds = case.best.as_secs_f64();
            println!(
                "| {count} | {seconds:.1} | {:.1} | {} MiB |",
                seconds * 1e3 / count as f64,
                case.peak_kib >> 10
            );
        }
        Ok(())
    };
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("pooled: {error}");
            ExitCode::FAILURE
        }
    }
}

fn write(
    columns: usize,
    rows: usize,
    most: usize,
    name: &dyn Fn(usize) -> std::path::PathBuf,
) -> Result<(), String> {
    let mut state = 5_u64;
    let mut next = move |of: u64| {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % of
    };
    let mut surveys = Vec::new();
    for kind in 0..KINDS.min(most) {
        let mut text: String = (0..columns).map(|at| format!("c{at},")).collect();
        text.pop();
        text.push('\n');
        for row in 0..rows {
            for at in 0..columns {
                let _ = match at % 5 {
                    0 => write!(text, "{}", kind * rows + row),
                    1 => write!(text, "{}", next(1000)),
                    2 => write!(text, "{}.{:03}", next(90), next(1000)),
                    3 => write!(text, "{}", ["Holm", "Tang", "Alca", "Skerrow"][next(4) as usize]),
                    _ => write!(text, "note {:x}", next(1 << 40)),
                };
                text.push(if at + 1 == columns { '\n' } else { ',' });
            }
        }
        let input = Input::from_bytes("x.csv", text.into_bytes(), &Dialect::RFC_4180.into());
        let survey =
            Survey::take(&input, &SurveyOptions::default(), &RunOptions::default(), &NoMonitor);
        surveys.push(survey.map_err(|error| error.to_string())?);
    }
    for at in 0..most {
        let survey = &mut surveys[at % KINDS];
        survey.source.files[0].name = format!("{at:06}.csv");
        let file = File::create(name(at)).map_err(|error| error.to_string())?;
        survey.save(file).map_err(|error| error.to_string())?;
    }
    Ok(())
}
