//! The commands: each resolves what was typed into what the libraries take, and shows what they say.

mod ask;
mod check;
mod compare;
mod dates;
mod demo;
mod draft;
mod emit;
mod first;
mod keep;
mod load;
mod load_plan;
mod look;
mod page;
mod peek;
mod plan_parts;
mod pool;
mod scout;
mod seen_files;
mod shape;
mod staged;
mod tally;
mod typed;
mod weigh;

use std::path::Path;

use clap::Parser;
use typhos_core::columns::Plan;
use typhos_core::infer::{settle, survey_for};
use typhos_core::json;
use typhos_core::schema::Schema;
use typhos_core::survey::{Survey, SurveyOptions};
use typhos_core::text::{Input, InputChoice, InputError, Part, Undeclared};
use typhos_files::origins::{self, Stream};
use typhos_files::store;
use typhos_servers::ServerUrl;
use typhos_servers::index::IndexTable;
use typhos_servers::reading::ServerTable;

use crate::args::{Args, Command, Common, InputArgs, RuleArgs};
use crate::console::{Console, DIM, FOUND, Tone, WARN, paint, safe};
use crate::diagnose;
use crate::outcome::{Failure, Outcome};
use crate::progress::Progress;
use crate::report::{InputReport, UNDECLARED_HELP, undeclared, undeclared_note};
use crate::settings::Settings;

/// Runs the command line of the process.
pub fn run_from_env() -> Result<Outcome, Failure> {
    crate::interrupt::catch(|| crate::outcome::tell_failure(&Failure::Interrupted));
    let wants_json = std::env::args_os().any(|word| word == "--json");
    let parsed = Args::try_parse().map_err(Failure::CommandLine);
    let quiet = parsed.as_ref().is_ok_and(|args| args.common.quiet);
    let mut console = Console::of_process(Tone { quiet });
    let outcome = parsed.and_then(|args| run(args, &mut console));
    let outcome = outcome.and_then(|outcome| {
        console.flush()?;
        Ok(outcome)
    });
    if let (Err(failure), true) = (&outcome, wants_json)
        && !matches!(failure, Failure::CommandLine(error) if !error.use_stderr())
    {
        // Standard error says it too, and where nothing can be written that is what there is.
        let _ = console.json(&failure.json());
    }
    outcome
}

fn run(args: Args, console: &mut Console) -> Result<Outcome, Failure> {
    let common = &args.common;
    let is_readable = |path: &&Path| {
        path.to_str().is_some_and(|text| IndexTable::is_url(text) || ServerTable::is_url(text))
    };
    let looked_at = matches!(args.command, Command::Peek(_) | Command::Tally(_) | Command::Ask(_));
    let (inputs, others) = args.command.paths();
    let saves_survey = match &args.command {
        Command::Pool(_) => true,
        // Of one column a picture is saved.
        Command::Scout(scout) => scout.column.is_none(),
        _ => false,
    };
    for (at, path) in inputs.into_iter().enumerate() {
        // What is looked at first is a file of rows, or a schema.
        let takes_objects = !(looked_at && at == 0);
        let is_taken = takes_objects && store::is_url(path) || looked_at && is_readable(&path);
        if !is_taken {
            refuse_url(path)?;
        }
    }
    let is_refused = |path: &&Path| !(saves_survey && store::is_object(path));
    others.into_iter().filter(is_refused).try_for_each(refuse_url)?;
    match args.command {
        Command::Scout(args) => scout::run(&args, common, console),
        Command::Draft(args) => draft::run(&args, common, console),
        Command::Pool(args) => pool::run(&args, common, console),
        Command::Check(args) => check::run(&args, common, console),
        Command::Compare(args) => compare::run(&args, common, console),
        Command::Weigh(args) => weigh::run(&args, common, console),
        Command::Load(args) => load::run(&args, common, console),
        Command::Commit(args) => staged::commit(&args, common, console),
        Command::PlanParts(args) => plan_parts::run(&args, console),
        Command::Emit(args) => emit::run(&args, console),
        Command::Peek(args) => peek::run(&args, common, console),
        Command::Tally(args) => tally::run(&args, common, console),
        Command::Ask(args) => ask::run(&args, common, console),
        Command::Report(args) => page::run(&args, common, console),
        Command::Dates(args) => dates::run(&args, common, console),
        Command::Demo(args) => demo::run(&args, common, console),
    }
}

/// Refuses the URL of something where a file is asked for. Nothing of it is shown but its scheme: there may be a password
/// in it.
fn refuse_url(path: &Path) -> Result<(), Failure> {
    let Some((scheme, rest)) = path.to_str().and_then(|text| text.split_once(':')) else {
        return Ok(());
    };
    let is_scheme = scheme.len() > 1
        && scheme.starts_with(|letter: char| letter.is_ascii_alphabetic())
        && scheme.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"+.-".contains(&byte));
    let is_server = crate::targets::kinds().is_url(&format!("{scheme}:"));
    if !is_scheme || !(rest.starts_with('/') || is_server) || path.exists() {
        return Ok(());
    }
    if store::is_url(path) {
        return Err(Failure::Usage(format!(
            "{scheme}:… is an object: those are read as inputs, and a file of this machine is needed here"
        )));
    }
    Err(Failure::Usage(format!(
        "{scheme}:… is a URL, and a file is read or written here; servers are loaded into with --into, and looked at with 'typhos peek'"
    )))
}

/// Warns of a password that everybody on the machine may read in the list of processes.
fn warn_of_password(url: &str, console: &mut Console) -> std::io::Result<()> {
    let is_there = matches!(ServerUrl::parse(url), Some(Ok(parsed)) if parsed.password.is_some());
    if !is_there && !crate::scrub::is_typed() {
        return Ok(());
    }
    let where_it_is = match is_there {
        true => "the list of processes, for everybody on this machine",
        false => "what the shell remembers, and for a moment in the list of processes",
    };
    console.note(paint(
        WARN,
        format!(
            "a password in a URL stands in {where_it_is}: keep it in TYPHOS_PASSWORD, or in the file of the server's clients"
        ),
    ))
}

/// Opens files and directories, or standard input where that is asked for.
fn open(
    inputs: &[std::path::PathBuf],
    choice: &InputChoice,
    schema: Option<&Schema>,
    common: &Common,
) -> Result<Input, Failure> {
    let mut input = open_untaught(inputs, choice)?;
    learn(&mut input, schema, common)?;
    Ok(input)
}

/// Learns the names of JSON, and which of them a schema wants; of other inputs they are known.
fn learn(input: &mut Input, schema: Option<&Schema>, common: &Common) -> Result<(), Failure> {
    if input.is_json() {
        let progress = Progress::new("learning names", input.bytes(), common.quiet);
        let wanted = schema.map_or_else(Vec::new, Schema::source_names);
        json::learn(input, &wanted, &common.run_options(), &progress)?;
    }
    Ok(())
}

/// The same, where the names of JSON are not known yet.
fn open_untaught(inputs: &[std::path::PathBuf], choice: &InputChoice) -> Result<Input, Failure> {
    let is_stream = |path: &std::path::PathBuf| path.as_os_str() == "-";
    match inputs {
        [only] if is_stream(only) => {
            let stream = Stream::new("standard input", Box::new(std::io::stdin()));
            Ok(origins::open_stream(stream, choice)?)
        }
        several if several.iter().any(is_stream) => Err(Failure::Usage(
            "'-' is standard input, which is read alone: give no other files beside it".into(),
        )),
        files => Ok(origins::open(files, choice)?),
    }
}

/// Opens one part of files, whose names of JSON are not known yet.
fn open_part(
    inputs: &[std::path::PathBuf],
    choice: &InputChoice,
    part: Part,
    begin: Option<u64>,
) -> Result<Input, Failure> {
    if inputs.iter().any(|path| path.as_os_str() == "-") {
        return Err(InputError::NoParts.into());
    }
    let mut input = origins::open_part(inputs, choice, part)?;
    input.take_part(part, begin)?;
    Ok(input)
}

/// Opens an input under a schema: what is typed wins over what the schema says, and what neither says
/// is found from the data.
fn open_under(
    schema: &Schema,
    inputs: &[std::path::PathBuf],
    typed: &InputArgs,
    common: &Common,
) -> Result<Input, Failure> {
    open(inputs, &typed.choice().or(&schema.input_choice()), Some(schema), common)
}

/// Reads a schema, opens the inputs and binds them. Types that are left open are decided, and told.
fn plan(
    path: &std::path::Path,
    inputs: &[std::path::PathBuf],
    typed: &InputArgs,
    common: &Common,
    console: &mut Console,
) -> Result<(Plan, Input), Failure> {
    let (schema, source) = diagnose::read_schema(path)?;
    let input = open_under(&schema, inputs, typed, common)?;
    bind((schema, source, path), (input, inputs), common, console)
}

/// Binds a schema, as it was read from a file, to an input. Types that are left open are decided, and told.
fn bind(
    (mut schema, source, path): (Schema, String, &std::path::Path),
    (input, inputs): (Input, &[std::path::PathBuf]),
    common: &Common,
    console: &mut Console,
) -> Result<(Plan, Input), Failure> {
    let wrong = |wrong: Vec<_>| Failure::Schema(diagnose::show(&wrong, &source, path));
    if schema.columns.iter().any(|column| column.auto) {
        if input.is_stream() {
            return Err(Failure::Usage(
                "a stream is read only once, and to decide the columns of type auto it would be read \
                 twice; give a file, or draft their types first"
                    .into(),
            ));
        }
        let sources = schema.bind(&input).map_err(wrong)?;
        let options = survey_for(&schema, &sources, input.names().len());
        let survey = survey(&input, &options, common)?;
        let rules =
            Settings::gather(&RuleArgs::default(), inputs.first().map(AsRef::as_ref))?.rules();
        for (name, decision) in settle(&mut schema, &sources, &survey, &rules).map_err(wrong)? {
            let why = decision.clauses().join("; ");
            let found = paint(FOUND, decision.ty.to_string());
            let line = format!("auto: {} is {found}  {}", safe(&name), paint(DIM, safe(&why)));
            console.note(line)?;
        }
    }
    let plan = Plan::new(schema, &input).map_err(wrong)?;
    for note in InputReport::of(&input).notes() {
        console.note(paint(DIM, note))?;
    }
    for note in undeclared_note(&plan, &input) {
        console.note(paint(WARN, note))?;
    }
    Ok((plan, input))
}

/// Refuses an input with columns that are not declared, where that is said to be an error.
fn refuse_undeclared(plan: &Plan, input: &Input) -> Result<(), Failure> {
    match input.choice().undeclared {
        Some(Undeclared::Stop) if !plan.undeclared().is_empty() => {
            Err(Failure::Refused(format!("{}; {UNDECLARED_HELP}", undeclared(plan, input))))
        }
        _ => Ok(()),
    }
}

/// Surveys an input with a progress bar.
fn survey(input: &Input, options: &SurveyOptions, common: &Common) -> Result<Survey, Failure> {
    // Nobody knows how many bytes the first records take.
    let bytes = if options.rows.is_some() { 0 } else { input.bytes() };
    let progress = Progress::new("surveying", bytes, common.quiet);
    Ok(Survey::take(input, options, &common.run_options(), &progress)?)
}

/// Most characters of a table's name that is made of a file's: databases keep 63 bytes.
const MOST_NAME: usize = 48;

/// The name of a table made of the names of its files: the stem of the only one, or the directory that all of them are
/// in; an identifier that needs no quotes but for letters beyond ASCII.
fn table_name<'n>(files: impl IntoIterator<Item = &'n str>) -> String {
    let files: Vec<&Path> = files.into_iter().map(Path::new).collect();
    let stem = match &files[..] {
        [one] => {
            let name = one.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let packed = [".gz", ".zst", ".zstd"].iter().find_map(|end| name.strip_suffix(end));
            let name = packed.unwrap_or(&name);
            // `standard input` is not a name, and a name may start with a point.
            let schema = name.strip_suffix(".typhos.toml");
            let stem = schema.or(name.rsplit_once('.').map(|(stem, _)| stem)).unwrap_or(name);
            if one.extension().is_none() && name.contains(' ') {
                String::new()
            } else {
                stem.to_owned()
            }
        }
        [first, others @ ..] => {
            let folder =
                first.parent().filter(|folder| others.iter().all(|f| f.parent() == Some(folder)));
            let named = folder.and_then(|folder| match folder.file_name() {
                Some(name) => Some(name.to_owned()),
                None => std::env::current_dir()
                    .ok()?
                    .join(folder)
                    .canonicalize()
                    .ok()?
                    .file_name()
                    .map(Into::into),
            });
            named
                .or_else(|| first.file_stem().map(Into::into))
                .unwrap_or_default()
                .to_string_lossy()
                .into_owned()
        }
        [] => String::new(),
    };
    let mut name = String::new();
    for letter in stem.chars() {
        if letter.is_alphanumeric() {
            name.push(letter);
        } else if !name.is_empty() && !name.ends_with('_') {
            name.push('_');
        }
    }
    let name: String = name.trim_end_matches('_').chars().take(MOST_NAME).collect();
    match name.chars().next() {
        None => "data".into(),
        Some(first) if first.is_numeric() => format!("data_{name}"),
        Some(_) => name,
    }
}

#[cfg(test)]
mod tests {
    use super::table_name;

    #[test]
    fn tables_have_names_that_need_no_quotes() {
        for (files, want) in [
            (&["a/tickets.csv"][..], "tickets"),
            (&["2024-01.csv"], "data_2024_01"),
            (&["standard input"], "data"),
            (&["my file (2).csv.gz"], "my_file_2"),
            (&["überfahrten.tsv"], "überfahrten"),
            (&["x/crossings/2024-01.csv", "x/crossings/2024-02.csv"], "crossings"),
            (&["a/one.csv", "b/two.csv"], "one"),
            (&["---.csv"], "data"),
            (&["archive.2024.csv"], "archive_2024"),
            (&["a/tickets.typhos.toml"], "tickets"),
            (&[], "data"),
        ] {
            assert_eq!(table_name(files.iter().copied()), want, "{files:?}");
        }
    }
}
