//! The commands: each resolves what was typed into what the libraries take, and shows what they say.

mod check;
mod demo;
mod draft;
mod load;
mod peek;
mod scout;

use clap::Parser;
use typhos_core::columns::Plan;
use typhos_core::schema::Schema;
use typhos_core::survey::Survey;
use typhos_core::text::{Input, InputChoice};

use crate::args::{Args, Command, Common, InputArgs};
use crate::console::{Console, Tone};
use crate::diagnose;
use crate::outcome::{Failure, Outcome};
use crate::progress::{Progress, catch_interrupts};

/// Runs the command line of the process.
pub fn run_from_env() -> Result<Outcome, Failure> {
    let args = Args::try_parse().map_err(Failure::CommandLine)?;
    catch_interrupts();
    let mut console = Console::of_process(Tone { quiet: args.common.quiet });
    let outcome = run(args, &mut console)?;
    console.flush()?;
    Ok(outcome)
}

fn run(args: Args, console: &mut Console) -> Result<Outcome, Failure> {
    let common = &args.common;
    match args.command {
        Command::Scout(args) => scout::run(&args, common, console),
        Command::Draft(args) => draft::run(&args, common, console),
        Command::Check(args) => check::run(&args, common, console),
        Command::Load(args) => load::run(&args, common, console),
        Command::Peek(args) => peek::run(&args, console),
        Command::Demo(args) => demo::run(&args, common, console),
    }
}

/// Opens files and directories, or standard input where that is asked for.
fn open(inputs: &[std::path::PathBuf], choice: &InputChoice) -> Result<Input, Failure> {
    let is_stream = |path: &std::path::PathBuf| path.as_os_str() == "-";
    match inputs {
        [only] if is_stream(only) => {
            Ok(Input::of_stream("standard input", Box::new(std::io::stdin()), choice)?)
        }
        several if several.iter().any(is_stream) => Err(Failure::Usage(
            "'-' is standard input, which is read alone: give no other files beside it".into(),
        )),
        files => Ok(Input::open(files, choice)?),
    }
}

/// Opens an input under a schema: what is typed wins over what the schema says, and what neither says
/// is found from the data.
fn open_under(
    schema: &Schema,
    inputs: &[std::path::PathBuf],
    typed: &InputArgs,
) -> Result<Input, Failure> {
    open(inputs, &typed.choice().or(&schema.input_choice()))
}

/// Reads a schema, opens the inputs and binds them.
fn plan(
    path: &std::path::Path,
    inputs: &[std::path::PathBuf],
    typed: &InputArgs,
) -> Result<(Plan, Input), Failure> {
    let (schema, source) = diagnose::read_schema(path)?;
    let input = open_under(&schema, inputs, typed)?;
    let plan = Plan::new(schema, &input)
        .map_err(|wrong| Failure::Schema(diagnose::show(&wrong, &source, path)))?;
    Ok((plan, input))
}

/// Surveys an input with a progress bar.
fn survey(input: &Input, common: &Common) -> Result<Survey, Failure> {
    let progress = Progress::new("surveying", input.bytes(), common.quiet);
    Ok(Survey::take(input, &common.run_options(), &progress)?)
}

/// The name of a table made of a file's name: its stem.
fn table_name(input: &Input) -> String {
    let name = input.files().first().map_or(String::new(), |file| file.name());
    let base = std::path::Path::new(&name);
    base.file_stem().map_or("data".into(), |stem| stem.to_string_lossy().into_owned())
}
