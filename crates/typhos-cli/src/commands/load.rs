//! `typhos load`: typed rows into a target, all or nothing.

use std::path::{Path, PathBuf};

use serde_json::json;
use typhos_core::columns::Plan;
use typhos_core::infer::{counted, grouped};
use typhos_core::sorting::DEFAULT_SORT_MEMORY;
use typhos_core::text::{Input, InputFile, Undeclared};
use typhos_targets::{
    DEFAULT_MEMORY, Destination, LoadError, LoadOptions, LoadReport, Parts, Place, Problem, Proof,
    Secret, TargetError,
};

use super::load_plan;
use crate::args::{Common, Load};
use crate::console::{self, BOLD, Console, DIM, GOOD, WARN, paint, safe};
use crate::outcome::{Failure, Outcome};
use crate::progress::Progress;
use crate::report::{
    UNDECLARED_HELP, account_json, account_line, changed_lines, input_json, misfit_line,
    stopped_by, undeclared, undeclared_json,
};

pub fn run(args: &Load, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    let (plan, input) = super::plan(&args.schema, &args.inputs, &args.input, common, console)?;
    let table = args.table.clone().or_else(|| plan.schema().table.clone()).unwrap_or_else(|| {
        let files: Vec<String> = input.files().iter().map(InputFile::name).collect();
        super::table_name(files.iter().map(String::as_str))
    });
    let mut destination = destination(args, &plan, table)?;
    let options = LoadOptions {
        run: common.run_options(),
        mode: args.mode,
        seen: args.seen,
        is_proven: !args.no_proof,
        misfit_limit: args.misfit_limit,
        rejects: args.rejects.clone().unwrap_or_else(|| beside(&destination)),
        memory: args.memory.unwrap_or(DEFAULT_MEMORY),
        sort_memory: args.sort_memory.or(args.memory).unwrap_or(DEFAULT_SORT_MEMORY),
    };
    let failed = |error: LoadError| match error {
        LoadError::Misfit(misfit) => Failure::Refused(stopped_by(&misfit, &plan, &input)),
        LoadError::TooManyMisfits { .. } => Failure::Refused(error.to_string()),
        LoadError::InPlace(_) => Failure::Machine(error.to_string()),
        LoadError::Target(TargetError::Exists(_)) => {
            Failure::Usage(format!("{error}; pass --mode replace to replace it"))
        }
        LoadError::Target(error) => error.into(),
        LoadError::Run(error) => error.into(),
    };
    if args.plan {
        let planned = with_password(&mut destination, |destination| {
            let progress = Progress::new("planning", input.bytes(), common.quiet);
            typhos_targets::plan(&input, &plan, destination, &options, &progress)
        });
        let mut planned = planned.map_err(failed)?;
        if input.choice().undeclared == Some(Undeclared::Stop) && !plan.undeclared().is_empty() {
            let (what, help) = (undeclared(&plan, &input), UNDECLARED_HELP.to_owned());
            planned.problems.push(Problem { what, help, is_outside: false });
        }
        if args.json {
            let undeclared = undeclared_json(&plan, &input);
            let plan = load_plan::json(&planned);
            console.json(&json!({ "typhos": 1, "plan": plan, "undeclared": undeclared }))?;
        } else {
            load_plan::show(&planned, console)?;
        }
        return Ok(Outcome::objecting_if(!planned.problems.is_empty()));
    }
    super::refuse_undeclared(&plan, &input)?;
    let schema_file = [("the schema", args.schema.as_path())];
    let mut written = vec![("the rejects file", options.rejects.as_path())];
    written.extend(destination.path().map(|path| ("the target", path)));
    typhos_targets::keep_apart(&schema_file, &written)?;
    let loaded = with_password(&mut destination, |destination| {
        let progress = Progress::new("loading", input.bytes(), common.quiet);
        typhos_targets::load(&input, &plan, destination, &options, &progress)
    });
    let report = loaded.map_err(failed)?;
    let misfits = report.account.misfits();
    let target = console::safe(&report.plan.target);
    tell(report, args, common, &plan, &input, &destination, console).map_err(|failure| {
        match failure {
            Failure::Machine(what) => {
                Failure::Machine(format!("{what}; the rows are loaded all the same, into {target}"))
            }
            other => other,
        }
    })?;
    Ok(Outcome::objecting_if(misfits > 0))
}

/// Reports a load that went well.
fn tell(
    mut report: LoadReport,
    args: &Load,
    common: &Common,
    plan: &Plan,
    input: &Input,
    destination: &Destination,
    console: &mut Console,
) -> Result<(), Failure> {
    // Rows that were there already were read, and not loaded.
    let skipped = report.done.moved.skipped;
    report.account.loaded -= skipped;
    let account = &report.account;
    if args.json {
        let mut json = json!({
            "typhos": 1,
            "schema": args.schema.display().to_string(),
            "input": input_json(input),
            "undeclared": undeclared_json(plan, input),
            "target": report.plan.target,
            "table": report.plan.table,
            "rejects": report.rejects.as_ref().map(|path| path.display().to_string()),
            "notes": report.plan.notes,
            "plan": load_plan::json(&report.plan),
            "proof": match report.done.proof {
                Proof::Skipped => json!({ "proven": false }),
                Proof::Proven { facts, rows, is_before_move } => json!({
                    "proven": true, "facts": facts, "rows": rows, "before_move": is_before_move,
                }),
            },
        });
        json["account"] = account_json(account, plan, input);
        json["account"]["updated"] = json!(report.done.moved.updated);
        json["account"]["skipped"] = json!(skipped);
        return Ok(console.json(&json)?);
    }
    let size = destination.path().and_then(size).map_or(String::new(), console::bytes);
    let rows = counted(account.loaded, "row");
    let columns = counted(plan.schema().columns.len() as u64, "column");
    let target = match (&report.plan.table, destination.path()) {
        (Some(table), _) => format!("{} table {table}", report.plan.target),
        (None, Some(path)) if path.is_dir() => {
            format!("{} in {}", path.display(), counted(files_in(path), "part"))
        }
        _ => report.plan.target.clone(),
    };
    let size = if size.is_empty() { size } else { format!("  {}", paint(DIM, size)) };
    console.say(format!("{}  {rows}, {columns}{size}", paint(BOLD, safe(&target))))?;
    for note in report.plan.notes.iter().filter(|_| !common.quiet) {
        console.say(paint(DIM, format!("  {}", safe(note))))?;
    }
    let examples = account
        .broken
        .examples
        .iter()
        .chain(account.columns.iter().flat_map(|column| &column.examples));
    let mut examples: Vec<_> = examples.collect();
    examples.sort_by_key(|misfit| misfit.place);
    for misfit in examples.iter().take(SHOWN_MISFITS) {
        console.say(format!("  {}", misfit_line(misfit, input, Some(plan))))?;
    }
    let more = account.misfits().saturating_sub(SHOWN_MISFITS as u64);
    if more > 0 {
        console.say(paint(DIM, format!("  … and {}", counted(more, "more misfit"))))?;
    }
    for line in changed_lines(account, plan) {
        console.say(line)?;
    }
    if let Some(path) = &report.rejects {
        console.say(format!("  {} {}", paint(WARN, "set aside in"), console::path(path)))?;
    }
    let mut line = account_line(account, skipped, false);
    if report.done.moved.updated > 0 {
        let updated = paint(WARN, counted(report.done.moved.updated, "row"));
        line.push_str(&format!("; {updated} updated"));
    }
    console.say(line)?;
    console.say(match report.done.proof {
        Proof::Proven { facts, rows, is_before_move } => format!(
            "{}: {} about {} agree with what was sent{}",
            paint(GOOD, "proven"),
            counted(facts as u64, "fact"),
            counted(rows, "row"),
            match is_before_move {
                true => ", in a table beside; those added from it were counted",
                false => "",
            }
        ),
        Proof::Skipped => paint(
            DIM,
            format!("not proven beyond its {} rows, as --no-proof asks", grouped(account.loaded)),
        ),
    })?;
    Ok(())
}

/// Misfits shown after a load; the rejects file has them all.
const SHOWN_MISFITS: usize = 5;

/// Does something that may need a password, and asks for it where a person sits.
fn with_password<T>(
    destination: &mut Destination,
    run: impl Fn(&Destination) -> Result<T, LoadError>,
) -> Result<T, LoadError> {
    let result = run(destination);
    let Err(LoadError::Target(TargetError::PasswordNeeded { target, user })) = &result else {
        return result;
    };
    let Destination::Server { place, .. } = destination else { return result };
    let question = format!("Password of {} at {}: ", safe(user), safe(target));
    let Some(word) = crate::prompt::password(&question) else { return result };
    place.password = Some(Secret::new(word));
    run(destination)
}

/// What the target is, by its name.
fn destination(args: &Load, plan: &Plan, table: String) -> Result<Destination, Failure> {
    let into = &args.into;
    let has_partitions = !plan.schema().layout.partition.is_empty();
    let parts = match (args.parts, args.part_size) {
        (Some(count), _) if has_partitions => {
            return Err(Failure::Usage(format!(
                "--parts {count} and the partitions of the schema do not go together; use --part-size"
            )));
        }
        (Some(count), _) => Some(Parts::Count(count)),
        (None, Some(bytes)) => Some(Parts::Bytes(bytes)),
        (None, None) => has_partitions.then_some(Parts::Partitions),
    };
    let is_shared = args.parts.is_some() || args.part_size.is_some();
    let no_parts = |what: &str| {
        Failure::Usage(format!("--parts and --part-size are for Parquet: {what} has no parts"))
    };
    if let Some(place) = Place::parse(into) {
        let mut place = place.map_err(|wrong| Failure::Usage(safe(&wrong)))?;
        if is_shared {
            return Err(no_parts("a server"));
        }
        place.look_up_password();
        return Ok(Destination::Server { place, table });
    }
    if into.contains("://") {
        let scheme = into.split("://").next().unwrap_or_default();
        return Err(Failure::Usage(format!(
            "unsupported target {}://; there are postgres://, mysql:// and clickhouse://",
            safe(scheme)
        )));
    }
    let path = PathBuf::from(into);
    let extension = path.extension().map(|extension| extension.to_string_lossy().to_lowercase());
    match (extension.as_deref(), parts) {
        (Some("sqlite" | "sqlite3" | "db"), _) if is_shared => Err(no_parts("a database")),
        (Some("sqlite" | "sqlite3" | "db"), _) => Ok(Destination::Sqlite { path, table }),
        (Some("arrow"), _) if is_shared => Err(no_parts("an Arrow file")),
        (Some("arrow"), _) => Ok(Destination::Arrow { path }),
        (_, Some(_)) | (Some("parquet"), None) => Ok(Destination::Parquet { path, parts }),
        _ => Err(Failure::Usage(format!(
            "'{}' does not say what to write: name a file.parquet, a file.arrow or a database.sqlite, pass --parts N \
             for a directory of Parquet files, or give the URL of a server",
            path.display()
        ))),
    }
}

/// `tickets.parquet` → `tickets.parquet.rejects.csv`, in the same place, with the table where there may be several; for a
/// server, here. No two targets share a rejects file.
fn beside(destination: &Destination) -> PathBuf {
    let plain = |name: &str| -> String {
        let is_plain = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_');
        name.chars().map(|c| if is_plain(c) { c } else { '_' }).collect()
    };
    let behind = |path: &Path, more: &str| {
        let mut name = path.file_name().unwrap_or_default().to_owned();
        name.push(more);
        path.with_file_name(name)
    };
    match destination {
        Destination::Parquet { path, .. } | Destination::Arrow { path } => {
            behind(path, ".rejects.csv")
        }
        Destination::Sqlite { path, table } => {
            behind(path, &format!(".{}.rejects.csv", plain(table)))
        }
        Destination::Server { place, table } => {
            let parts =
                [Some(&place.host), Some(&place.database), place.schema.as_ref(), Some(table)];
            let parts: Vec<_> = parts.into_iter().flatten().map(|part| plain(part)).collect();
            PathBuf::from(format!("{}.rejects.csv", parts.join(".")))
        }
    }
}

/// Bytes of a file, or of the files in a directory.
fn size(path: &Path) -> Option<u64> {
    let about = path.metadata().ok()?;
    if about.is_file() {
        return Some(about.len());
    }
    let files = typhos_targets::parquet::files(path).ok()?;
    Some(files.iter().filter_map(|file| file.metadata().ok()).map(|about| about.len()).sum())
}

fn files_in(path: &Path) -> u64 {
    typhos_targets::parquet::files(path).map_or(0, |files| files.len() as u64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::Parser;

    fn of(words: &str, layout: &str) -> Result<Destination, Failure> {
        let line = format!("typhos load s i {words}");
        let args = crate::args::Args::try_parse_from(line.split(' ')).unwrap();
        let crate::args::Command::Load(args) = args.command else { panic!("{words}") };
        let schema =
            format!("typhos = 1\n[columns]\na = {{ type = 'text' }}\n[layout]\n{layout}\n");
        let input = Input::from_bytes("i", b"a\n1\n".to_vec(), &Default::default());
        let plan = Plan::new(typhos_core::read_schema(&schema).unwrap(), &input).unwrap();
        destination(&args, &plan, "a/b".into())
    }

    #[test]
    fn targets_are_known_by_their_names() {
        assert!(matches!(of("--into a.parquet", ""), Ok(Destination::Parquet { parts: None, .. })));
        let parts = |words: &str, layout: &str| match of(words, layout) {
            Ok(Destination::Parquet { parts, .. }) => parts,
            other => panic!("{other:?}"),
        };
        assert_eq!(parts("--into lake --parts 4", ""), Some(Parts::Count(4)));
        assert_eq!(
            parts("--into lake --part-size 1MiB", "partition = ['a']"),
            Some(Parts::Bytes(1 << 20))
        );
        assert_eq!(parts("--into lake", "partition = ['a']"), Some(Parts::Partitions));
        assert!(matches!(of("--into A.SQLITE", ""), Ok(Destination::Sqlite { .. })));
        assert!(matches!(of("--into a.arrow", ""), Ok(Destination::Arrow { .. })));
        let server = of("--into postgres://u:p@h/d", "").unwrap();
        assert_eq!(beside(&server), Path::new("h.d.a_b.rejects.csv"));
        let file = of("--into x/a.parquet", "").unwrap();
        assert_eq!(beside(&file), Path::new("x/a.parquet.rejects.csv"));
        let database = of("--into a.sqlite", "").unwrap();
        assert_eq!(beside(&database), Path::new("a.sqlite.a_b.rejects.csv"));
        for words in [
            "--into a.csv",
            "--into lake",
            "--into a.db --parts 2",
            "--into mysql://h/d --parts 2",
            "--into ftp://h/d",
        ] {
            assert!(matches!(of(words, ""), Err(Failure::Usage(_))), "{words}");
        }
        assert!(matches!(of("--into lake --parts 2", "partition = ['a']"), Err(Failure::Usage(_))));
    }
}
