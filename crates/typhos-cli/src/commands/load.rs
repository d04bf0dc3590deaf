//! `typhos load`: typed rows into a target, all or nothing.

use std::path::{Path, PathBuf};

use serde_json::json;
use typhos_core::columns::Plan;
use typhos_core::infer::{counted, grouped};
use typhos_core::schema::{Misfit, Schema};
use typhos_core::sorting::DEFAULT_SORT_MEMORY;
use typhos_core::text::{Input, InputFile, Undeclared};
use typhos_load::refusals::can_be_set_aside;
use typhos_load::{
    Address, DEFAULT_MEMORY, Destination, KindError, LoadError, LoadOptions, LoadReport, Parts,
    Problem, Proof, Secret, Statements, TargetError,
};

use super::seen_files::{self, Left};
use super::{first, load_plan};
use crate::args::{Common, Load};
use crate::console::{self, BOLD, Console, DIM, GOOD, WARN, paint, safe};
use crate::outcome::{Failure, Outcome};
use crate::progress::Progress;
use crate::report::{
    InputReport, UNDECLARED_HELP, account_json, account_line, changed_lines, misfit_line,
    stopped_by, undeclared, undeclared_json,
};
use crate::targets::kinds;

pub fn run(args: &Load, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    if let Some(part) = args.part {
        return super::staged::load(args, part, common, console);
    }
    // What a plan says is about everything.
    let bound = if args.plan { super::plan } else { first::plan };
    let (mut plan, mut input) = bound(&args.schema, &args.inputs, &args.input, common, console)?;
    let table = table_of(args, plan.schema(), &input);
    super::warn_of_password(&args.into, console)?;
    let mut destination = destination(args, &plan, &table)?;
    let mut history = Vec::new();
    if let Some(fate) = args.server.seen_file(args.mode) {
        match seen_files::sort_out(fate, &mut *destination, (&args.into, &input), console)? {
            Left::All(marks) => history = marks,
            Left::Some(paths, marks) => {
                (plan, input) = bound(&args.schema, &paths, &args.input, common, console)?;
                history = marks;
            }
            Left::Nothing => {
                let files = counted(input.files().len() as u64, "file");
                console.say(format!("nothing to load: {files}, loaded before"))?;
                return Ok(Outcome::objecting_if(false));
            }
        }
    }
    let options = LoadOptions {
        run: common.run_options(),
        mode: args.mode,
        seen: args.seen,
        is_proven: !args.no_proof,
        misfit_limit: args.misfit_limit,
        rejects: args.rejects.clone().unwrap_or_else(|| rejects_of(&*destination, &input)),
        memory: args.memory.unwrap_or(DEFAULT_MEMORY),
        sort_memory: args.sort_memory.or(args.memory).unwrap_or(DEFAULT_SORT_MEMORY),
        is_counted: args.count,
        history,
        statements: args.server.statements(),
        probes: kinds().probes(),
    };
    if options.statements != Statements::default() && !destination.speaks_sql() {
        return Err(Failure::Usage(format!(
            "--before and --after are statements of SQL, and {} takes none",
            safe(&args.into)
        )));
    }
    if args.plan {
        let planned = with_password(&mut *destination, |destination| {
            let progress = Progress::new("planning", input.bytes(), common.quiet);
            typhos_load::plan(&input, &plan, destination, &options, &progress)
        });
        let mut planned = planned.map_err(|error| failed(error, &plan, &input))?;
        if input.choice().undeclared == Some(Undeclared::Stop) && !plan.undeclared().is_empty() {
            let (what, help) = (undeclared(&plan, &input), UNDECLARED_HELP.to_owned());
            planned.problems.push(Problem { what, help: help.into(), is_outside: false });
        }
        // Where there are problems no row would be read.
        let counted = (args.count && planned.problems.is_empty()).then(|| {
            let counted = with_password(&mut *destination, |destination| {
                let progress = Progress::new("counting", input.bytes(), common.quiet);
                typhos_load::load(&input, &plan, destination, &options, &progress)
            });
            counted.map_err(|error| failed(error, &plan, &input))
        });
        let counted = counted.transpose()?;
        if args.json {
            let undeclared = undeclared_json(&plan, &input);
            let mut report =
                json!({ "typhos": 1, "plan": load_plan::json(&planned), "undeclared": undeclared });
            if let Some(LoadReport { account, done, .. }) = &counted {
                report["account"] = account_json(account, &plan, &input);
                report["count"] = json!({
                    "new": done.moved.inserted, "updated": done.moved.updated, "skipped": done.moved.skipped,
                });
            }
            console.json(&report)?;
        } else {
            load_plan::show(&planned, console)?;
            if let Some(counted) = &counted {
                console.say("")?;
                console.say(account_line(&counted.account, true))?;
                console.say(load_plan::counted_line(counted, &plan))?;
                if let Some(note) = &counted.done.note {
                    console.say(format!("  {}", safe(note)))?;
                }
            }
        }
        let objects =
            |counted: &LoadReport| counted.account.misfits() > 0 || counted.done.note.is_some();
        let objects = counted.as_ref().is_some_and(objects);
        return Ok(Outcome::objecting_if(!planned.problems.is_empty() || objects));
    }
    super::refuse_undeclared(&plan, &input)?;
    let schema_file = [("the schema", args.schema.as_path())];
    let mut written = vec![("the rejects file", options.rejects.as_path())];
    written.extend(destination.path().map(|path| ("the target", path)));
    typhos_load::keep_apart(&schema_file, &written)?;
    let loaded = |plan: &Plan, input: &Input| {
        let loaded = with_password(&mut *destination, |destination| {
            let progress = Progress::new("loading", input.bytes(), common.quiet);
            let watched = first::Watched { progress: &progress, input };
            typhos_load::load(input, plan, destination, &options, &watched)
        });
        loaded.map_err(|error| failed(error, plan, input))
    };
    let report = first::confirmed((&mut plan, &args.schema), &mut input, common, console, loaded)?;
    let misfits = report.account.misfits();
    let target = console::safe(&report.plan.target);
    tell(&report, destination.path(), args, common, &plan, &input, console).map_err(|failure| {
        match failure {
            Failure::Machine(what) => {
                Failure::Machine(format!("{what}; the rows are loaded all the same, into {target}"))
            }
            other => other,
        }
    })?;
    Ok(Outcome::objecting_if(misfits > 0))
}

/// The name of the table that is loaded: as it is said, or as the files are called.
pub fn table_of(args: &Load, schema: &Schema, input: &Input) -> String {
    args.table.clone().or_else(|| schema.table.clone()).unwrap_or_else(|| {
        let files: Vec<String> = input.files().iter().map(InputFile::name).collect();
        super::table_name(files.iter().map(String::as_str))
    })
}

/// Why a load came to nothing.
pub fn failed(error: LoadError, plan: &Plan, input: &Input) -> Failure {
    match error {
        LoadError::Misfit(misfit) => Failure::Refused(stopped_by(&misfit, plan, input)),
        LoadError::TooManyMisfits { .. } => Failure::Refused(error.to_string()),
        LoadError::InPlace(_) => Failure::Machine(error.to_string()),
        LoadError::Target(TargetError::Exists(_)) => {
            Failure::Usage(format!("{error}; pass --mode replace to replace it"))
        }
        LoadError::Target(TargetError::Refused { .. })
            if plan.schema().input.misfit == Misfit::Stop
                && can_be_set_aside(plan.schema(), input) =>
        {
            let what = "To set such records aside and load the rest, say misfit = \"reject\" under [input]";
            Failure::Refused(format!("{error}\n{what}"))
        }
        LoadError::Target(TargetError::CannotHold { ref rows, ref place, .. })
            if rows.is_empty() && place.is_some() && can_be_set_aside(plan.schema(), input) =>
        {
            let what = "To set such records aside and load the rest, declare the column with misfit = \"reject\"";
            Failure::Refused(format!("{error}\n{what}"))
        }
        LoadError::Target(error) => error.into(),
        LoadError::Run(error) => error.into(),
    }
}

/// Reports a load that went well.
pub fn tell(
    report: &LoadReport,
    path: Option<&Path>,
    args: &Load,
    common: &Common,
    plan: &Plan,
    input: &Input,
    console: &mut Console,
) -> Result<(), Failure> {
    let account = &report.account;
    if args.json {
        let mut json = json!({
            "typhos": 1,
            "schema": args.schema.display().to_string(),
            "input": InputReport::of(input).json(),
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
        json["account"]["skipped"] = json!(account.there_already);
        return Ok(console.json(&json)?);
    }
    let files = &report.done.files;
    let bytes = match path.filter(|_| files.is_empty()) {
        // A table is in a file beside others.
        Some(path) => path.metadata().ok().map(|about| about.len()),
        None => (!files.is_empty()).then(|| files.iter().map(|file| file.bytes).sum()),
    };
    let rows = counted(account.loaded, "row");
    let columns = counted(plan.schema().columns.len() as u64, "column");
    let target = match &report.plan.table {
        Some(table) if files.len() > 1 => {
            let files = counted(files.len() as u64, "file");
            format!("{} table {table} in {files}", report.plan.target)
        }
        Some(table) => format!("{} table {table}", report.plan.target),
        None if files.iter().all(|file| file.path == Path::new(&report.plan.target)) => {
            report.plan.target.clone()
        }
        None => format!("{} in {}", report.plan.target, counted(files.len() as u64, "part")),
    };
    let size =
        bytes.map_or(String::new(), |bytes| format!("  {}", paint(DIM, console::bytes(bytes))));
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
    let mut line = account_line(account, false);
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
            format!(
                "not proven beyond its {} rows{}",
                grouped(account.loaded),
                if args.no_proof {
                    ", as --no-proof asks"
                } else {
                    ", which went straight into the table"
                }
            ),
        ),
    })?;
    Ok(())
}

/// Where records go that are set aside, unless it is said: a file of the format that they come from.
pub fn rejects_of(destination: &dyn Destination, input: &Input) -> PathBuf {
    let path = destination.rejects();
    if input.is_json() { path.with_extension("ndjson") } else { path }
}

/// Misfits shown after a load; the rejects file has them all.
const SHOWN_MISFITS: usize = 5;

/// Does something that may need a password, and asks for it where a person sits.
pub fn with_password<T>(
    destination: &mut dyn Destination,
    run: impl Fn(&dyn Destination) -> Result<T, LoadError>,
) -> Result<T, LoadError> {
    let result = run(destination);
    let Err(LoadError::Target(TargetError::PasswordNeeded { target, user })) = &result else {
        return result;
    };
    let question = format!("Password of {} at {}: ", safe(user), safe(target));
    let Some(word) = crate::prompt::password(&question) else { return result };
    destination.log_in(Secret::new(word));
    run(destination)
}

/// What the target is, by its name.
fn destination(args: &Load, plan: &Plan, table: &str) -> Result<Box<dyn Destination>, Failure> {
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
    let wants_parts = args.parts.is_some() || args.part_size.is_some();
    let address = Address {
        into: &args.into,
        table,
        is_named: args.table.is_some(),
        parts,
        timeouts: args.server.timeouts(),
    };
    opened(&address, wants_parts, &args.into)
}

/// Opens a target, by its name.
pub fn opened(
    address: &Address<'_>,
    wants_parts: bool,
    into: &str,
) -> Result<Box<dyn Destination>, Failure> {
    let kinds = kinds();
    kinds.open(address, wants_parts).map_err(|error| {
        Failure::Usage(match error {
            KindError::NoParts(kind) => {
                format!("--parts and --part-size are for Parquet: {kind} has no parts")
            }
            KindError::Scheme(scheme) => {
                let known: Vec<_> =
                    kinds.schemes().iter().map(|scheme| format!("{scheme}://")).collect();
                format!(
                    "unsupported target {}://; there are {}",
                    safe(&scheme),
                    known.join(", ")
                )
            }
            KindError::Extension => format!(
                "'{}' does not say what to write: name a file.parquet, a file.arrow, a database.sqlite or a directory.index, pass --parts N \
                 for a directory of Parquet files, or give the URL of a server",
                into
            ),
            KindError::Address(wrong) => wrong,
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::Parser;

    fn of(words: &str, layout: &str) -> Result<Box<dyn Destination>, Failure> {
        let line = format!("typhos load s i {words}");
        let args = crate::args::Args::try_parse_from(line.split(' ')).unwrap();
        let crate::args::Command::Load(args) = args.command else { panic!("{words}") };
        let schema =
            format!("typhos = 1\n[columns]\na = {{ type = 'text' }}\n[layout]\n{layout}\n");
        let input = Input::from_bytes("i", b"a\n1\n".to_vec(), &Default::default());
        let plan = Plan::new(typhos_core::read_schema(&schema).unwrap(), &input).unwrap();
        destination(&args, &plan, "a/b")
    }

    #[test]
    fn targets_are_known_by_their_names() {
        for (words, layout, want) in [
            (
                "--into a.parquet",
                "",
                "ParquetTarget { path: \"a.parquet\", parts: None, within: None }",
            ),
            (
                "--into lake --parts 4",
                "",
                "ParquetTarget { path: \"lake\", parts: Some(Count(4)), within: None }",
            ),
            (
                "--into lake --part-size 1MiB",
                "partition = ['a']",
                "ParquetTarget { path: \"lake\", parts: Some(Bytes(1048576)), within: None }",
            ),
            (
                "--into lake",
                "partition = ['a']",
                "ParquetTarget { path: \"lake\", parts: Some(Partitions), within: None }",
            ),
            ("--into A.SQLITE", "", "Database { path: \"A.SQLITE\", table: \"a/b\" }"),
            ("--into a.arrow", "", "ArrowTarget { path: \"a.arrow\" }"),
            (
                "--into iceberg+https://u:p@h/api",
                "",
                "LakeTable { catalog: https://h/api, table: TableName { namespace: [\"default\"], name: \"a/b\" }, parts: None }",
            ),
            ("--into postgres://u:p@h/d", "", "postgres://h/d table a/b"),
            ("--into MYSQL://u:p@h/d", "", "mysql://h/d table a/b"),
        ] {
            assert_eq!(format!("{:?}", of(words, layout).unwrap()), want, "{words}");
        }
        for (words, want) in [
            ("--into postgres://u:p@h/d", "h.d.a_b.rejects.csv"),
            ("--into x/a.parquet", "x/a.parquet.rejects.csv"),
            ("--into a.sqlite", "a.sqlite.a_b.rejects.csv"),
        ] {
            assert_eq!(of(words, "").unwrap().rejects(), Path::new(want), "{words}");
        }
        for words in [
            "--into a.csv",
            "--into lake",
            "--into ftp://h/d",
            "--into postgres://h",
            "--into mysql://h/d --parts 2",
            "--into a.db --parts 2",
            "--into a.arrow --part-size 1MiB",
        ] {
            assert!(matches!(of(words, ""), Err(Failure::Usage(_))), "{words}");
        }
        assert!(matches!(of("--into lake --parts 2", "partition = ['a']"), Err(Failure::Usage(_))));
    }
}
