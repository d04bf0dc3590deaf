//! Work that begins under the names of the first records of JSON, and knows those of all when it has read them.
//!
//! Names are learned by reading everything once more than the work itself does. So commands that go over their input
//! once look at its first records, work, and confirm; where other names came up that matter to them, they do it again.

use std::path::{Path, PathBuf};

use typhos_core::columns::Plan;
use typhos_core::json;
use typhos_core::records::{Holds, Paths};
use typhos_core::run::Monitor;
use typhos_core::schema::Schema;
use typhos_core::survey::{Survey, SurveyOptions};
use typhos_core::text::{Input, InputChoice, Undeclared};

use crate::args::{Common, InputArgs};
use crate::console::{Console, WARN, paint};
use crate::diagnose;
use crate::outcome::Failure;
use crate::progress::Progress;
use crate::report::undeclared_note;

/// Opens files and directories, and looks at the first records of JSON.
pub fn open(
    inputs: &[PathBuf],
    choice: &InputChoice,
    schema: Option<&Schema>,
    holds: Holds,
    common: &Common,
) -> Result<Input, Failure> {
    let mut input = super::open_untaught(inputs, choice)?;
    if input.is_json() {
        let progress = Progress::of_unknown("learning names", common.quiet);
        let wanted = schema.map_or_else(Vec::new, Schema::source_names);
        json::learn_first(&mut input, &wanted, holds, &common.run_options(), &progress)?;
    }
    Ok(input)
}

/// Surveys an input under the names of its first records, and again where all of them have others. The schema is that
/// with which it was opened.
pub fn survey(
    input: &mut Input,
    schema: Option<&Schema>,
    options: &SurveyOptions,
    common: &Common,
) -> Result<Survey, Failure> {
    let progress = Progress::new("surveying", input.bytes(), common.quiet);
    let wanted = schema.map_or_else(Vec::new, Schema::source_names);
    Ok(Survey::take_confirmed(input, &wanted, options, &common.run_options(), &progress)?)
}

/// Reads a schema, opens the inputs and binds them, for work that is [confirmed]. Where the schema leaves types open,
/// or names that are not declared stop everything, all names are learned first.
pub fn plan(
    path: &Path,
    inputs: &[PathBuf],
    typed: &InputArgs,
    common: &Common,
    console: &mut Console,
) -> Result<(Plan, Input), Failure> {
    let (schema, source) = diagnose::read_schema(path)?;
    let choice = typed.choice().or(&schema.input_choice());
    let is_first = choice.undeclared != Some(Undeclared::Stop)
        && schema.columns.iter().all(|column| !column.auto);
    let input = match is_first {
        true => open(inputs, &choice, Some(&schema), Holds::Wanted, common)?,
        false => super::open(inputs, &choice, Some(&schema), common)?,
    };
    let is_first = input.paths().and_then(Paths::provisional).is_some();
    match super::bind((schema, source, path), (input, inputs), common, console) {
        // What the first records lack others may have.
        Err(Failure::Schema(_)) if is_first => super::plan(path, inputs, typed, common, console),
        bound => bound,
    }
}

/// Whether only the first records of an input were looked at, and others have names that matter.
fn is_off(input: &Input) -> bool {
    input.paths().and_then(Paths::provisional).is_some_and(|known| known.is_off())
}

/// Watches work under the names of the first records, and stops it once they turn out not to be all that matter.
pub struct Watched<'w> {
    /// Told how the work goes.
    pub progress: &'w Progress,
    /// What is read.
    pub input: &'w Input,
}

impl Monitor for Watched<'_> {
    fn begin(&self, what: &'static str, bytes: Option<u64>) {
        self.progress.begin(what, bytes);
    }

    fn advance(&self, bytes: u64) {
        self.progress.advance(bytes);
    }

    fn waiting(&self, for_what: &str) {
        self.progress.waiting(for_what);
    }

    fn stopped(&self) -> bool {
        self.progress.stopped() || is_off(self.input)
    }
}

/// Does work that reads all of an input and is [stopped](Watched) where the names of its first records are not all that
/// matter; once more under all names then. The plan is that of a schema in a file.
pub fn confirmed<T>(
    (plan, schema): (&mut Plan, &Path),
    input: &mut Input,
    common: &Common,
    console: &mut Console,
    mut work: impl FnMut(&Plan, &Input) -> Result<T, Failure>,
) -> Result<T, Failure> {
    let result = work(plan, input);
    if input.paths().and_then(Paths::provisional).is_none() || crate::interrupt::is_asked() {
        return result;
    }
    let wanted = plan.schema().source_names();
    let before = plan.undeclared().to_vec();
    let is_off = is_off(input);
    if is_off {
        let progress = Progress::new("learning names", input.bytes(), common.quiet);
        json::learn(input, &wanted, &common.run_options(), &progress)?;
    } else if result.is_ok() {
        json::confirm(input, &wanted)?;
    } else {
        return result;
    }
    // What others have may stand where something is declared to be.
    *plan = match Plan::new(plan.schema().clone(), input) {
        Ok(plan) => plan,
        Err(wrong) => {
            let (_, source) = diagnose::read_schema(schema)?;
            return Err(Failure::Schema(diagnose::show(&wrong, &source, schema)));
        }
    };
    if plan.undeclared() != before {
        for note in undeclared_note(plan, input) {
            console.note(paint(WARN, note))?;
        }
    }
    if is_off { work(plan, input) } else { result }
}
