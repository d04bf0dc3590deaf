//! Why a load failed, and why a target did.

use std::path::{Path, PathBuf};

use thiserror::Error;
use typhos_core::columns::MisfitValue;
use typhos_core::remedy::Remedy;
use typhos_core::run::RunError;
use typhos_core::sorting::SortError;
use typhos_core::text::{InputError, LineRef};
use typhos_core::wording::{counted, listed};

use crate::load_plan::LoadPlan;
use crate::misfit_limit::MisfitLimit;
use crate::refusals::MOST_REFUSED;
use crate::secret::PASSWORD_VARIABLE;

/// Why a target failed.
#[derive(Debug, Error)]
pub enum TargetError {
    /// A file cannot be made or written.
    #[error("{}: {source}", path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// What the operating system said.
        source: std::io::Error,
    },
    /// The output is there already.
    #[error("{} exists already, and nothing was written", .0.display())]
    Exists(PathBuf),
    /// A directory that is to be replaced holds something that no load of ours wrote.
    #[error(
        "{} holds {}, which typhos did not write there; nothing was replaced: move it away, or name another directory",
        directory.display(), file.display()
    )]
    Foreign {
        /// The directory.
        directory: PathBuf,
        /// The file, by its path in it.
        file: PathBuf,
    },
    /// An output is something that the same run reads or writes.
    #[error(
        "{}, {what}, {}; nothing was written: name another",
        path.display(), same_as(path, other, other_path)
    )]
    SameFile {
        /// The output.
        path: PathBuf,
        /// What it is to the run.
        what: String,
        /// What the other one is to the run.
        other: String,
        /// The other one.
        other_path: PathBuf,
    },
    /// Something stands in the way; the plan says what.
    #[error("{}", problems(.0))]
    Preflight(Box<LoadPlan>),
    /// A server failed, or objected.
    #[error("{target}: {message}{}", if help.is_empty() { String::new() } else { format!("\n{help}") })]
    Server {
        /// Where it is.
        target: String,
        /// What it said.
        message: String,
        /// What to do about it, where that is known.
        help: String,
    },
    /// A server lets the user in with a password only, and none is known.
    #[error(
        "{target} asks for the password of '{user}': set {PASSWORD_VARIABLE}, or use the file of passwords of its client"
    )]
    PasswordNeeded {
        /// Where it is.
        target: String,
        /// Whose password it is.
        user: String,
    },
    /// A row is not what a table demands; which one, nobody said.
    #[error("{target}: {message}")]
    Violation {
        /// Where the table is.
        target: String,
        /// What the database said.
        message: String,
    },
    /// A server refused a row, for what its table demands.
    #[error("{}", refused(target, rows, place.as_deref()))]
    Refused {
        /// Where the server is.
        target: String,
        /// The rows, as far as they were looked for: the first one at least.
        rows: Vec<RefusedRow>,
        /// The file and line of the first one's record, or what it looks like, where that is known.
        place: Option<String>,
    },
    /// A statement that was to follow the rows failed when they were visible.
    #[error("the rows are loaded, and a statement that was to follow them failed: {0}")]
    Behind(String),
    /// A load that was killed half-way has been finished, and nobody knows whether this one is the same.
    #[error(
        "a load of {} into '{table}' was killed while its rows became visible: it has been finished now, and nothing else was loaded\n\
         Load again if these are other rows.",
        typhos_core::infer::counted(*rows, "row")
    )]
    Finished {
        /// The table.
        table: String,
        /// The rows of that load.
        rows: u64,
    },
    /// A server does not answer.
    #[error(
        "{target} has not answered for {}, and the load was given up: the server undoes it when it comes to, or the next load does",
        typhos_core::infer::counted(*seconds, "second")
    )]
    Mute {
        /// Where it is.
        target: String,
        /// For how long.
        seconds: u64,
    },
    /// Rows are in the table already.
    #[error(
        "{} of these rows {} in table '{table}' already, by {columns}: {}",
        typhos_core::infer::grouped(*count),
        if *count == 1 { "is" } else { "are" },
        shown_keys(keys, *count)
    )]
    Seen {
        /// The table.
        table: String,
        /// The columns of the key.
        columns: String,
        /// How many.
        count: u64,
        /// The first of them.
        keys: Vec<String>,
    },
    /// A key comes twice in the input.
    #[error(
        "the input has {}, by {columns}: {}\nNothing was loaded.",
        typhos_core::infer::counted(*count, "duplicate key"), repeats.join("; ")
    )]
    Repeated {
        /// The columns of the key.
        columns: String,
        /// Records whose key has come before.
        count: u64,
        /// The first of them, each with its two lines.
        repeats: Vec<String>,
    },
    /// The target does not have what was sent.
    #[error("{target} does not have what was sent:\n  {}\nNothing was loaded.", differences.join("\n  "))]
    Unproven {
        /// The target.
        target: String,
        /// What differs.
        differences: Vec<String>,
    },
    /// The system gives no thread.
    #[error("the system starts no more threads: {0}")]
    Thread(std::io::Error),
    /// Somebody asked the load to stop.
    #[error("interrupted; nothing was loaded")]
    Interrupted,
    /// The load was given up before its end.
    #[error("the load was given up; nothing was loaded")]
    GivenUp,
    /// The input cannot be read.
    #[error(transparent)]
    Input(#[from] InputError),
    /// The path is something else than the target would make of it.
    #[error("{} {what}", path.display())]
    NotThat {
        /// The path.
        path: PathBuf,
        /// What is wrong about it.
        what: String,
    },
    /// A URL that cannot be taken apart, or a password that is not kept as it should be: what is wrong with it.
    #[error("{0}")]
    Address(String),
    /// A value that the target cannot hold.
    #[error("{}column '{column}': {value} {reason}{}", at(place), too_many(rows))]
    CannotHold {
        /// File and line of its record, once that was looked for.
        place: Option<String>,
        /// All records with such values and what is said of each, where they are set aside and were looked for.
        rows: Vec<(LineRef, String)>,
        /// The column.
        column: String,
        /// The value.
        value: String,
        /// Why, and what to declare instead.
        reason: String,
    },
    /// The library that writes or reads a format failed.
    #[error("{}: {source}", path.display())]
    Format {
        /// The file.
        path: PathBuf,
        /// What it said.
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// Rows could not be sorted.
    #[error(transparent)]
    Sort(#[from] SortError),
}

/// How an output clashes with another file of the run.
fn same_as(path: &Path, other: &str, other_path: &Path) -> String {
    if path == other_path {
        format!("is {other} too")
    } else {
        format!("is, holds or lies in {} ({other})", other_path.display())
    }
}

/// What a plan found, a line each, with what to do about it.
fn problems(plan: &LoadPlan) -> String {
    let table = plan.table.as_ref().map_or(String::new(), |table| format!(" table '{table}'"));
    let lines =
        plan.problems.iter().map(|problem| format!("\n  {}\n    → {}", problem.what, problem.help));
    format!(
        "{}{table} cannot be loaded, and nothing was sent:{}",
        plan.target,
        lines.collect::<String>()
    )
}

fn shown_keys(keys: &[String], count: u64) -> String {
    let more = if count > keys.len() as u64 { ", …" } else { "" };
    format!("{}{more}", listed(keys))
}

/// A row that a server refused.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RefusedRow {
    /// How many rows were sent before it.
    pub row: u64,
    /// What the server said.
    pub message: String,
    /// Where its record stands, once that was looked for.
    pub at: Option<LineRef>,
}

/// Where something stands, before it.
fn at(place: &Option<String>) -> String {
    place.as_ref().map_or(String::new(), |place| format!("{place}  "))
}

/// What is said where more records are refused than are set aside.
fn too_many(rows: &[(LineRef, String)]) -> String {
    if rows.len() <= MOST_REFUSED {
        return String::new();
    }
    let most = counted(MOST_REFUSED as u64, "record");
    format!(", and at least {most} more have such values, which are too many to be set aside")
}

/// What is said of rows that were refused.
fn refused(target: &str, rows: &[RefusedRow], place: Option<&str>) -> String {
    let Some(RefusedRow { row, message, .. }) = rows.first() else { return String::new() };
    let numbered = || format!("row {} of those that were sent", row + 1);
    let place = place.map_or_else(numbered, str::to_owned);
    let more = match rows.len() {
        1 => String::new(),
        several if several > MOST_REFUSED => format!(
            ", and at least {} more, which are too many to be set aside",
            counted(MOST_REFUSED as u64, "record")
        ),
        several => format!(", and {} more", counted(several as u64 - 1, "record")),
    };
    format!("{place}: {target} refuses the record: {message}{more}\nNothing was loaded.")
}

impl TargetError {
    /// A row that a server refused, of which only the number is known.
    pub fn refused_row(target: String, message: String, row: u64) -> TargetError {
        let rows = vec![RefusedRow { row, message, at: None }];
        TargetError::Refused { target, rows, place: None }
    }

    /// A value that the target cannot hold, wherever its record stands.
    #[cold]
    pub fn cannot_hold(
        column: impl Into<String>,
        value: impl Into<String>,
        reason: impl Into<String>,
    ) -> TargetError {
        TargetError::CannotHold {
            place: None,
            rows: Vec::new(),
            column: column.into(),
            value: value.into(),
            reason: reason.into(),
        }
    }

    /// An error of a file, by what the operating system said.
    pub fn io(path: &Path) -> impl FnOnce(std::io::Error) -> TargetError + '_ {
        move |source| TargetError::Io { path: path.to_path_buf(), source }
    }
}

/// Why a load ended with nothing loaded.
#[derive(Debug, Error)]
pub enum LoadError {
    /// The input cannot be read, or the load was interrupted.
    #[error(transparent)]
    Run(#[from] RunError),
    /// There are more misfits than the load may have.
    #[error(
        "{misfits} of {read} records and values do not fit, and the limit is {limit}; nothing was loaded\nThe first: {first}"
    )]
    TooManyMisfits {
        /// Misfits so far.
        misfits: u64,
        /// Records read so far.
        read: u64,
        /// How many there may be.
        limit: MisfitLimit,
        /// The first of them: where it stands, and what is wrong.
        first: String,
    },
    /// A value that does not fit, in a column that says to stop.
    #[error("a value does not fit")]
    Misfit(Box<MisfitValue>),
    /// The target failed.
    #[error(transparent)]
    Target(TargetError),
    /// The rows are where they belong, and something after that failed.
    #[error("the rows are loaded, but {0}")]
    InPlace(String),
}

impl From<TargetError> for LoadError {
    fn from(error: TargetError) -> Self {
        match error {
            TargetError::Interrupted => RunError::Interrupted.into(),
            error => LoadError::Target(error),
        }
    }
}

impl From<SortError> for LoadError {
    fn from(error: SortError) -> Self {
        LoadError::Target(error.into())
    }
}

impl From<MisfitValue> for LoadError {
    fn from(misfit: MisfitValue) -> Self {
        LoadError::Misfit(Box::new(misfit))
    }
}

impl TargetError {
    /// What to do about it, where that is known.
    pub fn remedy(&self) -> Option<Remedy> {
        Some(match self {
            TargetError::Exists(_) => Remedy::of("pass {replace} to replace it"),
            TargetError::Seen { .. } => Remedy::of(
                "Nothing was loaded. {seen = skip} leaves them out, {seen = update} gives the rows there the new values.",
            ),
            TargetError::Input(error) => return error.remedy(),
            _ => return None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn refused_rows_are_told_with_how_many_more_there_are() {
        let said = |count: u64| {
            let row = |row| RefusedRow { row, message: "no such route".into(), at: None };
            let rows: Vec<RefusedRow> = (4..4 + count).map(row).collect();
            let (target, place) = ("the table".to_owned(), None);
            TargetError::Refused { target, rows, place }.to_string()
        };
        let first = "row 5 of those that were sent: the table refuses the record: no such route";
        assert_eq!(said(1), format!("{first}\nNothing was loaded."));
        assert_eq!(said(3), format!("{first}, and 2 records more\nNothing was loaded."));
        assert!(said(1001).contains(", and at least 1,000 records more, which are too many"));
    }
}
