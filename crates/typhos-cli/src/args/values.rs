//! Values of options, as they are typed: each with a sentence that says what it may be.

use std::num::NonZeroUsize;
use std::time::Duration;

use clap::ValueEnum;
use typhos_core::infer::Never;
use typhos_core::nearest;
use typhos_core::text::{parse_size, size_name};
use typhos_load::{LEAST_MEMORY, MisfitLimit, Mode, Seen};
use typhos_sql::{LANGUAGES, language};

/// The most threads: more of them only wait for each other.
const MOST_THREADS: usize = 1_024;

pub(super) fn parse_threads(word: &str) -> Result<NonZeroUsize, String> {
    let threads = word.parse().ok().filter(|threads: &NonZeroUsize| threads.get() <= MOST_THREADS);
    threads.ok_or_else(|| format!("'{word}' is not a number of threads: 1 to {MOST_THREADS}"))
}

pub(super) fn parse_memory(word: &str) -> Result<usize, String> {
    parse_size(word).filter(|bytes| *bytes >= LEAST_MEMORY).ok_or_else(|| {
        format!(
            "'{word}' is not a size of memory: '512 MiB', and {} at least",
            size_name(LEAST_MEMORY)
        )
    })
}

/// How rows are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Shape {
    /// A table for people
    Table,
    /// CSV as in RFC 4180, absent values as nothing and empty texts as ""
    Csv,
    /// A JSON object a line
    Ndjson,
    /// A table in Markdown
    Markdown,
}

/// How many rows are wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rows {
    /// So many at most.
    Some(u64),
    /// All of them.
    All,
}

pub(super) fn parse_rows(word: &str) -> Result<Rows, String> {
    match word {
        "all" => Ok(Rows::All),
        _ => word
            .parse()
            .map(Rows::Some)
            .map_err(|_| format!("'{word}' is not a number of rows: a whole number, or 'all'")),
    }
}

pub(super) fn parse_mode(word: &str) -> Result<Mode, String> {
    Ok(match word {
        "create" => Mode::Create,
        "append" => Mode::Append,
        "replace" => Mode::Replace,
        "refill" => Mode::Refill,
        _ => return Err("use create, append, refill or replace".into()),
    })
}

pub(super) fn parse_seen(word: &str) -> Result<Seen, String> {
    Ok(match word {
        "stop" => Seen::Stop,
        "skip" => Seen::Skip,
        "update" => Seen::Update,
        _ => return Err("use stop, skip or update".into()),
    })
}

/// The name of a language that a schema can be written in.
pub(super) fn parse_language(word: &str) -> Result<String, String> {
    if language(word).is_some() {
        return Ok(word.to_owned());
    }
    let near =
        nearest(word, LANGUAGES).map_or(String::new(), |near| format!("; did you mean '{near}'?"));
    Err(format!("there are {}, and clickhouse@VERSION{near}", LANGUAGES.join(", ")))
}

/// Seconds, which may have a fraction; 0 is no time at all.
pub(super) fn parse_seconds(word: &str) -> Result<Duration, String> {
    let wrong = || "use seconds, such as 30 or 0.5".to_owned();
    let seconds: f64 = word.parse().map_err(|_| wrong())?;
    // What is kept in milliseconds is not to be none at all.
    let is_known = seconds == 0.0 || (0.001..=31_536_000.0).contains(&seconds);
    is_known.then(|| Duration::from_secs_f64(seconds)).ok_or_else(wrong)
}

pub(super) fn parse_misfit_limit(word: &str) -> Result<MisfitLimit, String> {
    let wrong = || "use a number such as 10, or a share such as 0.1%".to_owned();
    match word.strip_suffix('%') {
        Some(percent) => {
            let percent = percent.trim().parse::<f64>().map_err(|_| wrong())?;
            (0.0..=100.0)
                .contains(&percent)
                .then_some(MisfitLimit::Percent(percent))
                .ok_or_else(wrong)
        }
        None => word.parse().map(MisfitLimit::Count).map_err(|_| wrong()),
    }
}

pub(super) fn parse_part_size(word: &str) -> Result<u64, String> {
    let size = parse_size(word).filter(|bytes| *bytes >= 1 << 10);
    size.map(|bytes| bytes as u64)
        .ok_or_else(|| "use a size of 1 KiB at least, such as \"128 MiB\"".into())
}

pub(super) fn parse_never(word: &str) -> Result<Never, String> {
    let mut never = Never::default();
    never.add(word).map(|()| never)
}
