//! `typhos load`: typed rows into a target, all or nothing.

use std::path::{Path, PathBuf};

use serde_json::json;
use typhos_core::infer::counted;
use typhos_core::sorting::DEFAULT_SORT_MEMORY;
use typhos_targets::{Destination, LoadError, LoadOptions};

use crate::args::{Common, Load};
use crate::console::{self, BOLD, Console, DIM, WARN, paint};
use crate::outcome::{Failure, Outcome};
use crate::progress::Progress;
use crate::report::{
    account_json, account_line, changed_lines, input_json, misfit_line, skipped_note, stopped_by,
};

pub fn run(args: &Load, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    let (plan, input) = super::plan(&args.schema, &args.inputs, &args.input, common, console)?;
    let table = args
        .table
        .clone()
        .or_else(|| plan.schema().table.clone())
        .unwrap_or_else(|| super::table_name(input.files().first().map(|file| file.name())));
    let destination = destination(&args.into, args.parts, table)?;
    let options = LoadOptions {
        run: common.run_options(),
        replace: args.replace,
        rejects: args.rejects.clone().unwrap_or_else(|| beside(&args.into)),
        sort_memory: args.sort_memory.unwrap_or(DEFAULT_SORT_MEMORY),
    };
    let progress = Progress::new("loading", input.bytes(), common.quiet);
    let loaded = typhos_targets::load(&input, &plan, &destination, &options, &progress);
    drop(progress);
    let report = loaded.map_err(|error| match error {
        LoadError::Misfit(misfit) => Failure::Misfit(stopped_by(&misfit, &plan, &input)),
        LoadError::Target(error) => error.into(),
        LoadError::Run(error) => error.into(),
    })?;
    if let Some(note) = skipped_note(&input) {
        console.note(paint(DIM, note))?;
    }
    let account = &report.account;
    if args.json {
        let mut json = json!({
            "typhos": 1,
            "schema": args.schema.display().to_string(),
            "input": input_json(&input),
            "target": destination.path().display().to_string(),
            "rejects": report.rejects.as_ref().map(|path| path.display().to_string()),
            "notes": report.notes,
        });
        json["account"] = account_json(account, &plan, &input);
        console.json(&json)?;
        return Ok(Outcome::objecting_if(account.misfits() > 0));
    }
    let size = size(destination.path()).map_or(String::new(), console::bytes);
    let rows = counted(account.loaded, "row");
    let columns = counted(plan.schema().columns.len() as u64, "column");
    let target = match &destination {
        Destination::Sqlite { path, table } => format!("{} table {table}", path.display()),
        Destination::Parquet { path, parts: Some(parts) } => {
            format!("{} in {}", path.display(), counted(u64::from(*parts), "part"))
        }
        Destination::Parquet { path, parts: None } => path.display().to_string(),
    };
    console.say(format!("{}  {rows}, {columns}  {}", paint(BOLD, target), paint(DIM, size)))?;
    for note in report.notes.iter().filter(|_| !common.quiet) {
        console.say(paint(DIM, format!("  {note}")))?;
    }
    let examples = account
        .broken
        .examples
        .iter()
        .chain(account.columns.iter().flat_map(|column| &column.examples));
    let mut examples: Vec<_> = examples.collect();
    examples.sort_by_key(|misfit| misfit.place);
    for misfit in examples.iter().take(SHOWN_MISFITS) {
        console.say(format!("  {}", misfit_line(misfit, &input, Some(&plan))))?;
    }
    let more = account.misfits().saturating_sub(SHOWN_MISFITS as u64);
    if more > 0 {
        console.say(paint(DIM, format!("  … and {}", counted(more, "more misfit"))))?;
    }
    for line in changed_lines(account, &plan) {
        console.say(line)?;
    }
    if let Some(path) = &report.rejects {
        console.say(format!("  {} {}", paint(WARN, "set aside in"), path.display()))?;
    }
    console.say(account_line(account, false))?;
    Ok(Outcome::objecting_if(account.misfits() > 0))
}

/// Misfits shown after a load; the rejects file has them all.
const SHOWN_MISFITS: usize = 5;

/// What the target is, by its name.
fn destination(into: &Path, parts: Option<u32>, table: String) -> Result<Destination, Failure> {
    let path = into.to_path_buf();
    let extension = into.extension().map(|extension| extension.to_string_lossy().to_lowercase());
    match (extension.as_deref(), parts) {
        (Some("sqlite" | "sqlite3" | "db"), None) => Ok(Destination::Sqlite { path, table }),
        (Some("sqlite" | "sqlite3" | "db"), Some(_)) => {
            Err(Failure::Usage("--parts is for Parquet: a database has no parts".into()))
        }
        (_, Some(_)) | (Some("parquet"), None) => Ok(Destination::Parquet { path, parts }),
        _ => Err(Failure::Usage(format!(
            "'{}' does not say what to write: name a file.parquet or a database.sqlite, or pass --parts N for a \
             directory of Parquet files",
            into.display()
        ))),
    }
}

/// `tickets.parquet` → `tickets.rejects.csv`, in the same place.
fn beside(into: &Path) -> PathBuf {
    into.with_extension("rejects.csv")
}

/// Bytes of a file, or of the files in a directory.
fn size(path: &Path) -> Option<u64> {
    let about = path.metadata().ok()?;
    if about.is_file() {
        return Some(about.len());
    }
    let files = std::fs::read_dir(path).ok()?.filter_map(|entry| entry.ok()?.metadata().ok());
    Some(files.map(|about| about.len()).sum())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn targets_are_known_by_their_names() {
        let of = |into: &str, parts| destination(Path::new(into), parts, "t".into());
        assert!(matches!(of("a.parquet", None), Ok(Destination::Parquet { parts: None, .. })));
        assert!(matches!(of("lake", Some(4)), Ok(Destination::Parquet { parts: Some(4), .. })));
        assert!(matches!(of("A.SQLITE", None), Ok(Destination::Sqlite { .. })));
        for (into, parts) in [("a.csv", None), ("lake", None), ("a.db", Some(2))] {
            assert!(matches!(of(into, parts), Err(Failure::Usage(_))), "{into}");
        }
        assert_eq!(beside(Path::new("x/a.parquet")), Path::new("x/a.rejects.csv"));
    }
}
