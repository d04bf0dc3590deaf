//! The two things that are asked of a destination: what a load would do, and the load.

use std::path::Path;
use std::sync::Arc;

use typhos_core::columns::Plan;
use typhos_core::run::Monitor;
use typhos_core::text::Input;

use crate::contract::Job;
use crate::destination::Destination;
use crate::error::{LoadError, TargetError};
use crate::gate::Gate;
use crate::keys;
use crate::load_plan::{LoadPlan, Problem};
use crate::refusals::{self, Refusals};
use crate::run::{LoadOptions, LoadReport, LoadRun};
use crate::scratch::TempFiles;
use crate::whole::guard::keep_apart;
use crate::whole::{followed, parent, sweep};

/// What a load would do, and what stands in its way, duplicate keys included. Nothing is changed.
///
/// # Errors
/// A target that cannot be asked, an input that cannot be read.
pub fn plan(
    input: &Input,
    plan: &Plan,
    destination: &dyn Destination,
    options: &LoadOptions,
    monitor: &dyn Monitor,
) -> Result<LoadPlan, LoadError> {
    kept_apart(input, destination, options)?;
    let mut planned = destination.plan(&job(input, plan, options, &refusals::NO_REFUSALS))?;
    let scratch = TempFiles::inside(folder(destination, options));
    match keys::find_repeats(input, plan, &scratch, &options.run, monitor) {
        Err(LoadError::Target(error @ TargetError::Repeated { .. })) => {
            let what = error.to_string();
            let what = what.lines().next().unwrap_or_default();
            planned.problems.push(Problem::new(what, "remove them, or declare another key"));
        }
        other => other?,
    }
    Ok(planned)
}

/// Loads an input into a destination. Either all of it is there afterwards, or nothing. Where records that do not fit are set
/// aside, those are, too, whose rows a table refuses: the load is undone then, and done again without them.
///
/// # Errors
/// The first misfit in a column that says to stop, what stands in the way of the load, and whatever the
/// input or the target failed with.
pub fn load(
    input: &Input,
    plan: &Plan,
    destination: &dyn Destination,
    options: &LoadOptions,
    monitor: &dyn Monitor,
) -> Result<LoadReport, LoadError> {
    kept_apart(input, destination, options)?;
    let folder = folder(destination, options);
    sweep(folder, &options.probes);
    if let Some(path) = destination.path() {
        sweep(parent(&followed(path)?), &options.probes);
    }
    sweep(parent(&options.rejects), &options.probes);
    let mut refusals = Refusals::default();
    loop {
        let (job, awaited) = (job(input, plan, options, &refusals), destination.awaited());
        let run = LoadRun { job, awaited, folder, options, monitor };
        match destination.load(run) {
            Err(error) => {
                refusals.take(error, refusals::are_set_aside(plan.schema(), input))?;
            }
            done => return done,
        }
    }
}

/// Where temporary files may be: beside what is written there is room for that, or nearly so.
fn folder<'f>(destination: &'f dyn Destination, options: &'f LoadOptions) -> &'f Path {
    parent(destination.path().unwrap_or(&options.rejects))
}

/// Refuses to write over what is read.
fn kept_apart(
    input: &Input,
    destination: &dyn Destination,
    options: &LoadOptions,
) -> Result<(), LoadError> {
    let read = input.files().iter().filter_map(|file| Some(("an input", file.path()?)));
    let mut written = vec![("the rejects file", options.rejects.as_path())];
    written.extend(destination.path().map(|path| ("the target", path)));
    Ok(keep_apart(&read.collect::<Vec<_>>(), &written)?)
}

fn job<'l>(
    input: &'l Input,
    plan: &'l Plan,
    options: &'l LoadOptions,
    refusals: &'l Refusals,
) -> Job<'l> {
    let LoadOptions { mode, seen, is_proven, is_counted, memory, .. } = *options;
    let (history, statements) = (&options.history[..], &options.statements);
    let gate = Arc::new(Gate::default());
    Job {
        input,
        plan,
        mode,
        seen,
        is_proven,
        is_counted,
        memory,
        history,
        statements,
        refusals,
        gate,
    }
}
