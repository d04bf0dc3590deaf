//! How a command ends, and the documented exit status for each way.

use std::io::{self, Write};
use std::process::ExitCode;

use thiserror::Error;
use typhos_core::run::RunError;
use typhos_core::table::TableError;
use typhos_core::text::InputError;
use typhos_load::{LoadPlan, TargetError};

use crate::console::{door, safe_lines};
use crate::remedies::{with_remedy, words};

/// A command that did its work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// Nothing to object to.
    Clean,
    /// Misfits or differences were found, and have been reported.
    Objections,
}

impl Outcome {
    pub fn objecting_if(found: bool) -> Outcome {
        if found { Outcome::Objections } else { Outcome::Clean }
    }
}

/// A command that did not.
#[derive(Debug, Error)]
pub enum Failure {
    /// The command line is wrong. The text is clap's, styled.
    #[error("{0}")]
    CommandLine(clap::Error),
    /// The command line asks for something that does not go together.
    #[error("{0}")]
    Usage(String),
    /// The schema file is wrong; the text shows where.
    #[error("{0}")]
    Schema(String),
    /// The data was refused, and nothing was done.
    #[error("{0}")]
    Refused(String),
    /// A file, a target or the machine failed.
    #[error("{0}")]
    Machine(String),
    /// What never should have happened.
    #[error("{0}")]
    Fault(String),
    /// A signal asked for an end.
    #[error("interrupted; nothing was written")]
    Interrupted,
}

impl Failure {
    /// Its exit status, and what it is called in a JSON report.
    fn status(&self) -> (u8, &'static str) {
        match self {
            Failure::CommandLine(error) if !error.use_stderr() => (0, "help"),
            Failure::CommandLine(_) | Failure::Usage(_) => (2, "usage"),
            Failure::Schema(_) => (2, "schema"),
            Failure::Machine(_) => (3, "machine"),
            Failure::Fault(_) => (3, "fault"),
            Failure::Refused(_) => (4, "refused"),
            Failure::Interrupted => (3, "interrupted"),
        }
    }

    /// The failure for a program that reads the results: `{"typhos": 1, "error": {…}}`.
    pub fn json(&self) -> serde_json::Value {
        let (status, kind) = self.status();
        let message = anstream::adapter::strip_str(&without_logins(&self.to_string())).to_string();
        serde_json::json!({ "typhos": 1, "error": { "status": status, "kind": kind, "message": message } })
    }
}

impl From<io::Error> for Failure {
    /// Only for errors in writing results; files are named where they are opened.
    fn from(error: io::Error) -> Self {
        Failure::Machine(format!("the results could not be written to standard output: {error}"))
    }
}

impl From<InputError> for Failure {
    fn from(error: InputError) -> Self {
        let remedy = error.remedy();
        // The file can be read; what is in it is not taken.
        let is_refused = matches!(
            error,
            InputError::TooManyFields { .. }
                | InputError::TooManyColumns { .. }
                | InputError::NotAList { .. }
        );
        let is_usage = matches!(
            error,
            InputError::NoParts | InputError::BeginOutside { .. } | InputError::BeginsWithFile
        );
        let told = with_remedy(error, "; ", remedy);
        match (is_refused, is_usage) {
            (true, _) => Failure::Refused(told),
            (_, true) => Failure::Usage(told),
            _ => Failure::Machine(told),
        }
    }
}

impl From<RunError> for Failure {
    fn from(error: RunError) -> Self {
        match error {
            RunError::Interrupted => Failure::Interrupted,
            RunError::Input(error) => error.into(),
        }
    }
}

impl From<TableError> for Failure {
    fn from(error: TableError) -> Self {
        match error {
            TableError::Input(error) => error.into(),
            TableError::Interrupted => Failure::Interrupted,
            TableError::Sort(error) => Failure::Machine(error.to_string()),
            TableError::Source(source) => match source.downcast::<TargetError>() {
                Ok(error) => (*error).into(),
                Err(other) => Failure::Machine(other.to_string()),
            },
        }
    }
}

impl From<TargetError> for Failure {
    fn from(error: TargetError) -> Self {
        match error {
            // These are answered by another word on the command line, not by another machine.
            TargetError::Exists(_) => {
                let remedy = error.remedy();
                Failure::Usage(with_remedy(error, "; ", remedy))
            }
            TargetError::SameFile { .. } | TargetError::Foreign { .. } => {
                Failure::Usage(error.to_string())
            }
            TargetError::Address(wrong) => Failure::Usage(wrong),
            TargetError::Interrupted => Failure::Interrupted,
            // What stands in the way is answered by another word on the command line or in the schema, but
            // for rights and places.
            TargetError::Preflight(ref plan) if plan.problems.iter().all(|p| p.is_outside) => {
                Failure::Machine(problems(plan))
            }
            TargetError::Preflight(plan) => Failure::Usage(problems(&plan)),
            TargetError::Seen { .. } => {
                let remedy = error.remedy();
                Failure::Refused(with_remedy(error, "\n", remedy))
            }
            TargetError::Repeated { .. }
            | TargetError::CannotHold { .. }
            | TargetError::Finished { .. }
            | TargetError::Refused { .. } => Failure::Refused(error.to_string()),
            TargetError::Input(error) => error.into(),
            other => Failure::Machine(other.to_string()),
        }
    }
}

/// What a plan found, a line each, with what to do about it.
fn problems(plan: &LoadPlan) -> String {
    let table = plan.table.as_ref().map_or(String::new(), |table| format!(" table '{table}'"));
    let lines = plan
        .problems
        .iter()
        .map(|problem| format!("\n  {}\n    → {}", problem.what, words(&problem.help)));
    format!(
        "{}{table} cannot be loaded, and nothing was sent:{}",
        plan.target,
        lines.collect::<String>()
    )
}

/// Tells a failure on standard error and gives the exit status: 0 clean, 1 objections, 2 the command line or the
/// schema is wrong, 3 a file, a target or the machine failed, 4 the data was refused. Where a signal asked for an
/// end, the process ends by it.
pub fn exit_code(result: Result<Outcome, Failure>) -> ExitCode {
    let failure = match result {
        Ok(Outcome::Clean) => return ExitCode::SUCCESS,
        Ok(Outcome::Objections) => return ExitCode::from(1),
        // Whatever came of a wait that was cut short, it is not what counts.
        Err(_) if crate::interrupt::is_asked() => Failure::Interrupted,
        Err(failure) => failure,
    };
    tell_failure(&failure);
    crate::interrupt::end_if_asked();
    ExitCode::from(failure.status().0)
}

/// Tells a failure on standard error.
pub fn tell_failure(failure: &Failure) {
    const ERROR: anstyle::Style = anstyle::AnsiColor::Red.on_default().bold();
    match failure {
        // Help and version come this way too; a closed pipe is nothing to talk about.
        Failure::CommandLine(error) if !error.use_stderr() => _ = error.print(),
        Failure::CommandLine(error) => tell(&without_logins(&error.render().ansi().to_string())),
        // Shown with its lines and carets.
        Failure::Schema(text) => tell(text),
        failure => tell(&format!(
            "{ERROR}error{ERROR:#}: {}",
            safe_lines(&without_logins(&failure.to_string()))
        )),
    }
}

/// A text without the logins of URLs: what stands behind a scheme is left out where there is an `@` in it.
///
/// What the program prints of a server has none; this is for words of the command line that are shown as they were
/// typed.
fn without_logins(text: &str) -> String {
    let is_end = |letter: char| letter.is_whitespace() || matches!(letter, '\'' | '"' | '`');
    let (mut shown, mut rest) = (String::new(), text);
    while let Some(at) = rest.find(":/") {
        let (before, behind) = rest.split_at(at + 2);
        shown.push_str(before);
        let word = behind.split(is_end).next().unwrap_or_default();
        // Nobody knows where a login that is written wrong ends.
        if word.contains('@') {
            shown.push('…');
            rest = &behind[word.len()..];
        } else {
            rest = behind;
        }
    }
    shown + rest
}

/// Writes to standard error; where that is closed, nobody wants to know.
fn tell(text: &str) {
    let _ = writeln!(anstream::AutoStream::auto(io::stderr()), "{}", door(text));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn logins_of_urls_are_not_shown() {
        for (text, want) in [
            ("no URL: a/b", "no URL: a/b"),
            ("at postgres://h/d: gone", "at postgres://h/d: gone"),
            ("'postgres://u:pw@h/d' found", "'postgres:/…' found"),
            ("postgres:/u:p@w@h/d and x@y", "postgres:/… and x@y"),
            ("a://u:1@h b://v:2@i", "a:/… b:/…"),
        ] {
            assert_eq!(without_logins(text), want);
        }
    }
}
