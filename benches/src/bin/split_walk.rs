//! Splitting alone: every record of a file through the core's reader, on all threads, with nothing
//! done to it.
//!
//! Usage: `split_walk FILE [THREADS]`. Prints records and seconds.

use std::num::NonZeroUsize;
use std::path::Path;
use std::process::ExitCode;

use typhos_core::records::{Records, Split};
use typhos_core::run::{NoMonitor, RunOptions, fold_blocks};
use typhos_core::text::{InputChoice, Splitter, TextRecords};

/// Records a slice, as the survey takes them.
const SLICE: usize = 2048;

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let Some(path) = arguments.next() else {
        eprintln!("usage: split_walk FILE [THREADS]");
        return ExitCode::from(2);
    };
    let mut options = RunOptions::default();
    if let Some(threads) = arguments.next().and_then(|word| word.parse::<NonZeroUsize>().ok()) {
        options.threads = threads;
    }
    let started = std::time::Instant::now();
    let input = match typhos_files::origins::open(&[Path::new(&path)], &InputChoice::default()) {
        Ok(input) => input,
        Err(error) => {
            eprintln!("split_walk: {error}");
            return ExitCode::FAILURE;
        }
    };
    let counts = fold_blocks(
        &input,
        &options,
        &NoMonitor,
        || (TextRecords::default(), 0u64),
        |(records, count), block| {
            let layout = input.files()[block.file as usize].layout();
            let mut splitter = Splitter::new(block, &layout.dialect, layout.fields);
            while splitter.refill(records, SLICE) {
                *count += (records.len() + records.broken().len()) as u64;
            }
        },
    );
    match counts {
        Ok(counts) => {
            let records: u64 = counts.iter().map(|(_, count)| count).sum();
            println!("{records} records, {:.3} s", started.elapsed().as_secs_f64());
            ExitCode::SUCCESS
        }
        Err(error) => {
            eprintln!("split_walk: {error}");
            ExitCode::FAILURE
        }
    }
}
