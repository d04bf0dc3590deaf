//! How a command ends, and the documented exit status for each way.

use std::io;
use std::process::ExitCode;

use anstream::eprintln;
use thiserror::Error;
use typhos_core::run::RunError;
use typhos_core::text::InputError;
use typhos_targets::TargetError;

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
    /// A value that does not fit stopped a load.
    #[error("{0}")]
    Misfit(String),
    /// A file, a target or the machine failed.
    #[error("{0}")]
    Machine(String),
    /// Nobody reads any more.
    #[error("the output was closed")]
    ClosedPipe,
}

impl From<io::Error> for Failure {
    /// Only for errors in writing results; files are named where they are opened.
    fn from(error: io::Error) -> Self {
        match error.kind() {
            io::ErrorKind::BrokenPipe => Failure::ClosedPipe,
            _ => Failure::Machine(format!("standard output: {error}")),
        }
    }
}

impl From<InputError> for Failure {
    fn from(error: InputError) -> Self {
        Failure::Machine(error.to_string())
    }
}

impl From<RunError> for Failure {
    fn from(error: RunError) -> Self {
        Failure::Machine(error.to_string())
    }
}

/// A message whose lines stay lines, and whose names do no harm to a terminal.
fn console_safe(error: &TargetError) -> String {
    error.to_string().lines().map(crate::console::safe).collect::<Vec<_>>().join("\n")
}

impl From<TargetError> for Failure {
    fn from(error: TargetError) -> Self {
        match error {
            // These are answered by another word on the command line, not by another machine.
            TargetError::Exists(_) => Failure::Usage(error.to_string()),
            // What stands in the way is answered by another word on the command line or in the schema, but
            // for rights and places.
            TargetError::Preflight(ref plan) if plan.problems.iter().all(|p| p.is_outside) => {
                Failure::Machine(console_safe(&error))
            }
            TargetError::Preflight(_) => Failure::Usage(console_safe(&error)),
            TargetError::Seen { .. }
            | TargetError::Repeated { .. }
            | TargetError::RepeatedInStream { .. } => Failure::Misfit(console_safe(&error)),
            other => Failure::Machine(console_safe(&other)),
        }
    }
}

/// Tells a failure on standard error and gives the exit status: 0 clean, 1 objections, 2 the command
/// line or the schema is wrong, 3 a file, a target or the machine failed.
pub fn exit_code(result: Result<Outcome, Failure>) -> ExitCode {
    const ERROR: anstyle::Style = anstyle::AnsiColor::Red.on_default().bold();
    let code = match result {
        Ok(Outcome::Clean) | Err(Failure::ClosedPipe) => 0,
        Ok(Outcome::Objections) => 1,
        Err(Failure::CommandLine(error)) => {
            // Help and version come this way too; a closed pipe is nothing to talk about.
            let _ = error.print();
            if error.use_stderr() { 2 } else { 0 }
        }
        Err(Failure::Schema(text)) => {
            eprintln!("{text}");
            2
        }
        Err(failure) => {
            eprintln!("{ERROR}error{ERROR:#}: {failure}");
            match failure {
                Failure::Misfit(_) => 1,
                Failure::Usage(_) => 2,
                _ => 3,
            }
        }
    };
    ExitCode::from(code)
}
