//! `typhos ask`: SQL over typed rows, answered by the embedded engine.

use std::ops::ControlFlow;
use std::path::PathBuf;

use serde_json::json;
use typhos_core::infer::counted;
use typhos_core::run::Monitor;
use typhos_core::table::Selection;
use typhos_files::sqlite::{AskError, Asking};

use super::shape::Printer;
use super::typed::{self, Named, Opened};
use crate::args::{Ask, Common, Shape};
use crate::console::{Console, WARN, paint};
use crate::diagnose;
use crate::outcome::{Failure, Outcome};
use crate::progress::Progress;

impl From<AskError> for Failure {
    fn from(error: AskError) -> Self {
        match error {
            AskError::Stopped => Failure::Interrupted,
            AskError::Database(_) => Failure::Machine(error.to_string()),
            AskError::Statement { message, .. } => Failure::Usage(message),
        }
    }
}

pub fn run(args: &Ask, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    let [what @ .., statement] = &args.words[..] else { unreachable!("clap asks for two") };
    let statement = statement.to_str().ok_or_else(|| {
        Failure::Usage("the question, which stands last, is not valid UTF-8".into())
    })?;
    if what.is_empty() {
        return Err(Failure::Usage(format!(
            "what is asked? Name it before the question: typhos ask WHAT \"{statement}\""
        )));
    }
    if PathBuf::from(statement).exists() {
        return Err(Failure::Usage(format!(
            "the question stands last, and '{statement}' is a file: typhos ask WHAT \"select …\""
        )));
    }
    let named = Named {
        what,
        table: args.table.as_deref(),
        input: &args.input,
        command: "ask",
        documents: None,
    };
    named
        .open(common, console, &mut |opened, console| ask(args, statement, opened, common, console))
}

fn ask(
    args: &Ask,
    statement: &str,
    opened: Opened<'_>,
    common: &Common,
    console: &mut Console,
) -> Result<Outcome, Failure> {
    let Opened { title, name, table, bytes } = opened;
    let is_text = bytes.is_some();
    let told = |error: AskError| match error {
        AskError::Statement { message, span: Some(span) } => {
            let error = typhos_core::terms::PhraseError { span, message };
            Failure::Schema(diagnose::phrase(statement, "the question", &error))
        }
        other => other.into(),
    };
    let mut asking = Asking::new(&name, &table.schema(), statement, crate::interrupt::is_asked)?;
    let columns = asking.columns(statement).map_err(told)?;
    for note in asking.notes(&columns) {
        console.note(paint(WARN, crate::console::safe(&note)))?;
    }
    let progress = Progress::of_unknown("reading rows", common.quiet);
    let selection = Selection { columns: Some(columns.clone()), ..Selection::default() };
    let mut misfits = 0;
    asking.fill::<Failure>(&columns, |put| {
        let mut failed = None;
        let passed = table.read(&selection, &mut |batch| {
            if progress.stopped() {
                failed = Some(Failure::Interrupted);
            } else if let Err(error) = put(&batch) {
                failed = Some(error.into());
            }
            if failed.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })?;
        misfits = passed.misfits;
        failed.map_or(Ok(()), Err)
    })?;
    drop(progress);
    let shape = args.shape.unwrap_or(Shape::Table);
    let mut printer: Option<Printer<'_>> = None;
    let mut console = Some(console);
    asking.answer::<Failure>(statement, &mut |batch| {
        if let Some(console) = console.take() {
            let mut begun = Printer::new(console, batch.schema(), shape, args.json, args.upright);
            begun.begin(&title, None)?;
            printer = Some(begun);
        }
        printer.as_mut().expect("it was begun").push(batch).map_err(Failure::from)
    })?;
    let mut printer = printer.expect("an answer has columns, if no rows");
    printer.end(None, &json!({}))?;
    let rows = printer.rows;
    let console = printer.console();
    if shape == Shape::Table && !args.json {
        console.say(paint(crate::console::DIM, format!("  {}", counted(rows, "row"))))?;
    }
    typed::ended(misfits, is_text, console)
}
