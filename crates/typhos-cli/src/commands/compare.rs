//! `typhos compare`: what differs between two schemas, or between a schema and a delivery, and what that breaks.

use std::path::{Path, PathBuf};

use typhos_core::columns::{Account, Plan};
use typhos_core::infer::{DraftOptions, counted, draft};
use typhos_core::schema::{Layout, Schema};
use typhos_core::text::{Input, Undeclared};

use super::look::{Extent, look};
use super::{check, open_under};
use crate::args::{Common, Compare, InputArgs, RuleArgs};
use crate::console::{BOLD, Console, DIM, GOOD, WARN, paint, safe};
use crate::diagnose;
use crate::outcome::{Failure, Outcome};
use crate::report::comparison::{Comparison, Found};
use crate::report::{fate, misfit_line};
use crate::table::{Heading, Look, render};

pub fn run(args: &Compare, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    let compared = compared(&args.old, &args.new, &args.input, common, console)?;
    if args.json {
        console.json(&compared.json())?;
    } else {
        show(&compared, console)?;
    }
    Ok(Outcome::objecting_if(!compared.found.is_empty()))
}

/// Whether a path is that of a schema file.
pub fn is_schema(path: &Path) -> bool {
    path.extension().is_some_and(|extension| extension == "toml")
}

/// Compares two schemas, a schema with the files of a delivery, or drafts of files.
pub fn compared(
    old: &Path,
    new: &[PathBuf],
    typed: &InputArgs,
    common: &Common,
    console: &mut Console,
) -> Result<Comparison, Failure> {
    if let Some(schema) = new.iter().find(|path| is_schema(path)).filter(|_| new.len() > 1) {
        return Err(Failure::Usage(format!(
            "'{}' is a schema, which stands for itself: compare it alone, or give files only",
            schema.display()
        )));
    }
    let is_delivery = !is_schema(&new[0]);
    if is_schema(old) && is_delivery {
        return delivered(old, new, typed, common);
    }
    let mut side = |paths: &[PathBuf]| -> Result<(String, Schema), Failure> {
        let name = paths[0].display().to_string();
        if is_schema(&paths[0]) {
            return Ok((name, diagnose::read_schema(&paths[0])?.0));
        }
        let rules = RuleArgs::default();
        let looked = look(paths, typed, &rules, None, None, Extent::All, common)?;
        let wanted = DraftOptions {
            naming: looked.settings.house.naming.unwrap_or_default(),
            objects: looked.settings.house.nested.unwrap_or_default(),
            ..DraftOptions::default()
        };
        let drafted = draft(&looked.examined.survey, &looked.examined.decisions, &wanted).schema;
        console
            .note(paint(DIM, format!("{} is compared by a draft of all its rows", safe(&name))))?;
        Ok((name, drafted))
    };
    let (old_name, mut was) = side(&[old.to_path_buf()])?;
    let (new_name, mut is) = side(new)?;
    if !is_schema(old) || is_delivery {
        // Of a draft nobody said how the table is called, nor how it is laid out.
        for schema in [&mut was, &mut is] {
            (schema.table, schema.layout) = (None, Layout::default());
        }
    }
    Ok(Comparison::of_schemas((old_name, &was), (new_name, &is)))
}

/// Holds a delivery against a schema: what it lacks, what it has besides, and what of it does not fit.
fn delivered(
    path: &Path,
    inputs: &[PathBuf],
    typed: &InputArgs,
    common: &Common,
) -> Result<Comparison, Failure> {
    let (schema, source) = diagnose::read_schema(path)?;
    if let Some(auto) = schema.columns.iter().find(|column| column.auto) {
        return Err(Failure::Usage(format!(
            "'{}' is of type auto, which is what the delivery makes of it: say its type, as 'typhos draft --keep {}' does",
            auto.name,
            path.display()
        )));
    }
    let input = open_under(&schema, inputs, typed, common)?;
    let is_there = |schema: &Schema| schema.bind(&input).is_ok();
    let alone = |at: usize| Schema {
        columns: vec![schema.columns[at].clone()],
        layout: Layout::default(),
        ..schema.clone()
    };
    let (present, missing): (Vec<usize>, Vec<usize>) =
        (0..schema.columns.len()).partition(|at| is_there(&alone(*at)));
    let mut found: Vec<Found> = Vec::new();
    for at in &missing {
        let column = &schema.columns[*at];
        found.push(Found {
            of: column.name.clone(),
            what: "not in the delivery".into(),
            why: Some(format!(
                "it is declared as {}, and the delivery has no such column",
                column.ty
            )),
        });
    }
    let columns = present.iter().map(|at| schema.columns[*at].clone()).collect();
    // A key of which a part is missing cannot be looked for.
    let layout = if missing.is_empty() { schema.layout.clone() } else { Layout::default() };
    let plan = Plan::new(Schema { columns, layout, ..schema }, &input)
        .map_err(|wrong| Failure::Schema(diagnose::show(&wrong, &source, path)))?;
    let (account, repeats) = check::account(&plan, &input, None, common)?;
    misfits(&account, &plan, &input, &mut found);
    if let Some((first, again)) = repeats.examples.first() {
        found.push(Found {
            of: "[layout]".into(),
            what: counted(repeats.count, "duplicate key"),
            why: Some(format!("the key in {again} is that in {first}")),
        });
    }
    let stops = input.choice().undeclared == Some(Undeclared::Stop);
    for name in plan.undeclared() {
        found.push(Found {
            of: name.clone(),
            what: "in the delivery, and not declared".into(),
            why: stops.then(|| "the schema says that such columns stop a load".into()),
        });
    }
    let old = path.display().to_string();
    let new = inputs[0].display().to_string();
    let others = inputs.len() - 1;
    let new = if others == 0 {
        new
    } else {
        format!("{new} and {}", counted(others as u64, "more file"))
    };
    Ok(Comparison { old, new, found })
}

/// What does not fit, a line for each column.
fn misfits(account: &Account, plan: &Plan, input: &Input, found: &mut Vec<Found>) {
    let paths = input.is_json().then_some(plan);
    let plainly = |text: String| anstream::adapter::strip_str(&text).to_string();
    for (column, misfits) in plan.schema().columns.iter().zip(&account.columns) {
        if misfits.count == 0 {
            continue;
        }
        let fate = fate(column.misfit);
        let first = misfits.examples.first().map(|it| plainly(misfit_line(it, input, paths)));
        found.push(Found {
            of: column.name.clone(),
            what: format!("{} of {}, which {fate}", counted(misfits.count, "misfit"), column.ty),
            why: Some(first.unwrap_or_default()),
        });
    }
    if account.broken.count > 0 {
        let first = account.broken.examples.first();
        found.push(Found {
            of: "[input]".into(),
            what: format!(
                "{} cannot be split into columns",
                counted(account.broken.count, "record")
            ),
            why: Some(first.map(|it| plainly(misfit_line(it, input, None))).unwrap_or_default()),
        });
    }
}

fn show(compared: &Comparison, console: &mut Console) -> Result<(), Failure> {
    console.say(format!(
        "{} → {}",
        paint(BOLD, safe(&compared.old)),
        paint(BOLD, safe(&compared.new))
    ))?;
    if compared.found.is_empty() {
        console.say(format!("{} {}.", paint(GOOD, "✓"), compared.summary()))?;
        return Ok(());
    }
    let row = |found: &Found| {
        let breaks = found.why.is_some();
        vec![
            (found.of.clone(), if breaks { Look::Warn } else { Look::Plain }),
            (found.what.clone(), Look::Plain),
            (found.why.clone().unwrap_or_default(), Look::Dim),
        ]
    };
    let headings =
        [Heading::left(""), Heading::left("what changed"), Heading::left("what that breaks")];
    let rows = compared.found.iter().map(row).collect();
    console.say(render(console, &headings, rows, true))?;
    let summary = compared.summary();
    let look = if compared.breaking() > 0 { WARN } else { GOOD };
    console.say(paint(look, format!("{summary}.")))?;
    Ok(())
}
