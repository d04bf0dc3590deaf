//! The plan of a load into a file or directory.

use std::path::Path;

use arrow_schema::Field;

use typhos_core::remedy::Remedy;

use crate::contract::{Job, Mode, Seen};
use crate::load_plan::{
    Action, LoadPlan, PlannedColumn, Problem, default_words, key_problems, source_words,
};
use crate::whole::foreign_file;

/// The columns of a plan, each stored as `stored` says of its place.
pub fn planned_columns(job: &Job<'_>, stored: impl Fn(usize) -> String) -> Vec<PlannedColumn> {
    let schema = job.plan.schema();
    let columns = schema.columns.iter().enumerate().map(|(at, column)| PlannedColumn {
        name: column.name.clone(),
        source: source_words(column, at, job.plan, job.input.names()),
        declared: column.ty.to_string(),
        stored: stored(at),
        nullable: !column.required,
        is_key: schema.layout.key.contains(&column.name),
        remark: default_words(column),
    });
    columns.collect()
}

/// Makes the plan of a load into a file or directory.
pub fn plan_file(
    job: &Job<'_>,
    path: &Path,
    is_directory: bool,
    what: &str,
    notes: Vec<String>,
    stored: &dyn Fn(&Field) -> String,
) -> LoadPlan {
    let schema = job.plan.schema();
    let exists = path.symlink_metadata().is_ok();
    let mut problems = key_problems(schema);
    if exists && job.mode == Mode::Create {
        problems.push(Problem::new(
            "it exists already",
            Remedy::of("pass {mode = replace} to put this in its place"),
        ));
    }
    if exists && job.mode == Mode::Replace {
        let what = if is_directory {
            match foreign_file(path) {
                Ok(None) => None,
                Ok(Some(file)) => {
                    Some(format!("it holds {}, which typhos did not write there", file.display()))
                }
                Err(error) => Some(error.to_string()),
            }
        } else {
            path.is_dir().then(|| "it is a directory, and a file is to be written there".to_owned())
        };
        let help = "move it away, or name another place";
        problems.extend(what.map(|what| Problem::new(what, help)));
    }
    if job.mode == Mode::Refill {
        problems.push(Problem::new(
            "only the rows of a table are exchanged",
            Remedy::of("pass {mode = replace}: a file is nothing but its rows"),
        ));
    }
    if job.mode == Mode::Append {
        problems.push(Problem::new(
            "files are written once, and nothing is added to them",
            Remedy::of("pass {mode = replace}, or load into another file of the same directory"),
        ));
    }
    if job.seen != Seen::Stop {
        problems.push(Problem::new(
            "a file has no rows to be skipped or updated",
            Remedy::of("drop {seen}"),
        ));
    }
    let folder = crate::whole::parent(path);
    if !folder.is_dir() {
        problems
            .push(Problem::outside(format!("there is no folder {}", folder.display()), "make it"));
    } else if let Err(error) = crate::whole::writable(folder) {
        problems.push(Problem::outside(
            format!("the folder {} cannot be written to ({error})", folder.display()),
            "change its permissions, or name another place",
        ));
    }
    let arrow = job.plan.arrow();
    let columns = planned_columns(job, |at| stored(arrow.field(at)));
    LoadPlan {
        target: path.display().to_string(),
        server: Some(what.to_owned()),
        table: None,
        action: if exists && job.mode == Mode::Replace { Action::Replace } else { Action::Create },
        exists,
        columns,
        left: Vec::new(),
        notes,
        problems,
        statements: Vec::new(),
    }
}
