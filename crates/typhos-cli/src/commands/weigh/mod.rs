//! `typhos weigh`: the ledger of a table, what would save more, and two declarations compared.

mod compare;
mod json;
mod ledger;
mod suggest;

use std::path::{Path, PathBuf};

use typhos_core::columns::Plan;
use typhos_core::filter::Filter;
use typhos_core::infer::{Examined, counted, grouped, survey_for};
use typhos_core::ledger::{Advice, Faces, advise, faces};
use typhos_core::schema::Schema;
use typhos_core::sorting::DEFAULT_SORT_MEMORY;
use typhos_core::text::Input;
use typhos_files::{WeighAs, Weighed, Weighing};
use typhos_load::{DEFAULT_MEMORY, LoadError};

use crate::args::{Common, InputArgs, RuleArgs, Weigh};
use crate::console::{BOLD, Console, DIM, WARN, paint, safe};
use crate::diagnose;
use crate::outcome::{Failure, Outcome};
use crate::progress::Progress;
use crate::report::InputReport;
use crate::settings::Settings;

pub use ledger::{lines, totals};

pub fn run(args: &Weigh, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    let is_schema = |path: &Path| path.extension().is_some_and(|extension| extension == "toml");
    if is_schema(&args.inputs[0]) && (args.advice || args.suggest_sort) {
        return Err(Failure::Usage(
            "--advice and --suggest-sort are for one schema, and two are compared".into(),
        ));
    }
    let misfits = match &args.inputs[..] {
        [second] if is_schema(second) => {
            return Err(Failure::Usage(format!(
                "give the files to weigh: typhos weigh {} {} INPUT",
                args.schema.display(),
                second.display()
            )));
        }
        [second, ..] if is_schema(second) => compare::run(args, common, console)?,
        _ if args.suggest_sort => suggest::run(args, common, console)?,
        _ => one(args, common, console)?,
    };
    if misfits > 0 {
        let text = format!(
            "{} left out of the ledger; 'typhos check' lists them",
            counted(misfits, "misfit")
        );
        console.note(paint(WARN, text))?;
    }
    Ok(Outcome::objecting_if(misfits > 0))
}

/// A declaration and everything that its ledger says.
pub struct Ledger {
    pub plan: Plan,
    pub input: Input,
    pub faces: Faces,
    pub weighed: Weighed,
    pub advice: Option<Vec<Advice>>,
}

/// Weighs under one declaration.
fn one(args: &Weigh, common: &Common, console: &mut Console) -> Result<u64, Failure> {
    let (plan, input) = super::plan(&args.schema, &args.inputs, &args.input, common, console)?;
    let filter = filter(args, &plan)?;
    let is_sorted = !plan.schema().layout.sort.is_empty();
    if input.is_stream() && (is_sorted || args.advice) {
        return Err(Failure::Usage(
            "a stream is read only once, and to weigh sorted rows, or to give advice, it would be read \
             twice; give a file"
                .into(),
        ));
    }
    let ledger = ledger(args, (plan, input), filter, common)?;
    let misfits = ledger.weighed.account.misfits();
    if args.json {
        console.json(&json::one(&ledger, args))?;
    } else {
        ledger::show(&ledger, args, console)?;
    }
    Ok(misfits)
}

/// Weighs an input that is bound to its declaration.
fn ledger(
    args: &Weigh,
    (plan, input): (Plan, Input),
    filter: Option<Filter>,
    common: &Common,
) -> Result<Ledger, Failure> {
    let schema = plan.schema();
    let used: std::collections::HashSet<&usize> =
        plan.sources().iter().flat_map(|source| source.columns()).collect();
    let has_more = plan.source_columns() > used.len();
    let looked = if args.advice || has_more && !input.is_stream() {
        Some(look(&plan, &input, args, common)?)
    } else {
        None
    };
    let decisions = looked.as_ref().map(|examined| &examined.decisions[..]);
    let faces = faces(schema, plan.sources(), input.names(), decisions);
    let others = [&faces.text, &faces.wide].map(|face| bind(face.clone(), &input));
    let what = weighing(args, &plan, &others, filter.as_ref(), common, &input, WeighAs::Ledger);
    let weighed = weigh(&what, common, "weighing")?;
    let advice = looked.as_ref().filter(|_| args.advice).map(|examined| {
        let rows = weighed.account.loaded;
        advise(schema, plan.sources(), examined, &weighed.declared.memory, rows)
    });
    Ok(Ledger { plan, input, faces, weighed, advice })
}

/// The ledger of an input, for what shows it beside other things.
pub fn ledger_of(
    schema: &Path,
    inputs: &[PathBuf],
    input: &InputArgs,
    common: &Common,
    console: &mut Console,
) -> Result<Ledger, Failure> {
    let args = Weigh {
        schema: schema.to_path_buf(),
        inputs: inputs.to_vec(),
        advice: false,
        filter: None,
        suggest_sort: false,
        memory: None,
        sort_memory: None,
        json: false,
        input: input.clone(),
    };
    let bound = super::plan(schema, inputs, input, common, console)?;
    if bound.1.is_stream() {
        return Err(Failure::Usage(
            "a stream is read only once, and for a page it would be read twice; give a file".into(),
        ));
    }
    ledger(&args, bound, None, common)
}

/// Surveys the input under what the declaration says of absent values, and decides about its columns.
fn look(plan: &Plan, input: &Input, args: &Weigh, common: &Common) -> Result<Examined, Failure> {
    let options = survey_for(plan.schema(), plan.sources(), input.names().len());
    let survey = super::survey(input, &options, common)?;
    let first = args.inputs.first().map(AsRef::as_ref);
    let rules = Settings::gather(&RuleArgs::default(), first)?.rules();
    Ok(Examined::of(survey, rules, common.run_options().threads))
}

/// Binds a schema whose columns are said by their place in the input.
fn bind(schema: Schema, input: &Input) -> Plan {
    Plan::new(schema, input).expect("columns of the input by their place")
}

/// Reads the question, and shows where it is wrong.
fn filter(args: &Weigh, plan: &Plan) -> Result<Option<Filter>, Failure> {
    let Some(question) = &args.filter else { return Ok(None) };
    match Filter::parse(question, plan.schema(), &plan.arrow()) {
        Ok(filter) => Ok(Some(filter)),
        Err(error) => Err(Failure::Schema(diagnose::phrase(question, "--where", &error))),
    }
}

fn weighing<'w>(
    args: &Weigh,
    plan: &'w Plan,
    others: &'w [Plan],
    filter: Option<&'w Filter>,
    common: &Common,
    input: &'w Input,
    wanted: WeighAs,
) -> Weighing<'w> {
    Weighing {
        input,
        plan,
        others,
        filter,
        run: common.run_options(),
        memory: args.memory.unwrap_or(DEFAULT_MEMORY),
        sort_memory: args.sort_memory.or(args.memory).unwrap_or(DEFAULT_SORT_MEMORY),
        folder: std::env::temp_dir(),
        wanted,
    }
}

fn weigh(what: &Weighing<'_>, common: &Common, doing: &'static str) -> Result<Weighed, Failure> {
    let is_sorted = !what.plan.schema().layout.sort.is_empty();
    let passes = match what.wanted {
        WeighAs::Ledger => 1 + u64::from(is_sorted),
        WeighAs::Time => 2,
        WeighAs::File => 1,
    };
    let progress = Progress::new(doing, passes * what.input.bytes(), common.quiet);
    typhos_files::weigh(what, &progress).map_err(|error| match error {
        LoadError::Misfit(_) | LoadError::TooManyMisfits { .. } => {
            unreachable!("misfits are noted, and stop nothing")
        }
        LoadError::Target(error) => error.into(),
        LoadError::Run(error) => error.into(),
        LoadError::InPlace(_) => unreachable!("nothing is loaded"),
    })
}

/// How many rows a filter matches, as a clause.
fn matching(rows: u64) -> String {
    format!("{} {}", counted(rows, "row"), if rows == 1 { "matches" } else { "match" })
}

/// The input and its declaration, above every report.
fn title(input: &Input, under: &str) -> String {
    format!("{}  {}", InputReport::of(input).line(), paint(DIM, format!("under {}", safe(under))))
}

/// How much of a file a question reads, in a line.
fn reads(what: &str, part: u64, all: u64) -> String {
    let share = part as f64 / all.max(1) as f64 * 100.0;
    format!(
        "{} of {} {what} {}",
        paint(BOLD, grouped(part)),
        grouped(all),
        paint(DIM, format!("({share:.1} %)"))
    )
}

/// How much less or more it became, in a few words.
fn change(from: u64, to: u64) -> String {
    let (word, more, fewer) = if to > from { ("more", to, from) } else { ("less", from, to) };
    let ratio = more as f64 / fewer as f64;
    // To the digit that is shown.
    if more == fewer || ratio < 1.0005 {
        return "same".into();
    }
    match fewer {
        0 => format!("all {word}"),
        _ if ratio < 1.1 => format!("{:.1} % {word}", (ratio - 1.0) * 100.0),
        _ => format!("{} {word}", factor(more, fewer)),
    }
}

/// How many times smaller, in a few characters.
fn factor(from: u64, to: u64) -> String {
    match (from, to) {
        (0, 0) => "1.0x".into(),
        (_, 0) => "∞".into(),
        _ => {
            let ratio = from as f64 / to as f64;
            let digits = usize::from(ratio < 100.0);
            format!("{ratio:.digits$}x")
        }
    }
}
