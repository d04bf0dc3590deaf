//! `typhos load --part`: one part of an input into a stage, and `typhos commit`, which publishes all of them.

use std::path::{Path, PathBuf};

use serde_json::json;
use typhos_core::columns::{Account, Plan};
use typhos_core::infer::counted;
use typhos_core::run::Monitor;
use typhos_core::schema::{Generate, Schema};
use typhos_core::sorting::DEFAULT_SORT_MEMORY;
use typhos_core::survey::PartOf;
use typhos_core::text::{Input, Part};
use typhos_load::stage::{
    self, CommitError, Committed, PartAccount, PartExample, PartManifest, PartMisfits, Stage,
    StagedFile, StagedRejects,
};
use typhos_load::{
    Address, DEFAULT_MEMORY, Destination, LoadOptions, LoadReport, MisfitLimit, Mode, Parts, Proof,
    Statements, Timeouts,
};
use typhos_servers::ServerUrl;

use super::load::{failed, opened, rejects_of, tell};
use crate::args::{Commit, Common, Load};
use crate::console::{self, BOLD, Console, DIM, GOOD, WARN, paint, safe};
use crate::diagnose;
use crate::outcome::{Failure, Outcome};
use crate::progress::Progress;
use crate::report::account_line;
use crate::targets::kinds;

/// Loads one part.
pub fn load(
    args: &Load,
    part: Part,
    common: &Common,
    console: &mut Console,
) -> Result<Outcome, Failure> {
    let (schema, source) = diagnose::read_schema(&args.schema)?;
    refuse_what_is_whole(&schema, args)?;
    let choice = args.input.choice().or(&schema.input_choice());
    let mut input = super::open_part(&args.inputs, &choice, part, None)?;
    let parts = match (args.parts, args.part_size) {
        _ if !schema.layout.partition.is_empty() => Parts::Partitions,
        (_, Some(bytes)) => Parts::Bytes(bytes),
        (count, None) => Parts::Count(count.unwrap_or(1)),
    };
    let table = super::load::table_of(args, &schema, &input);
    let into = ServerUrl::without_password(&args.into).map_or(args.into.clone(), |(url, _)| url);
    super::warn_of_password(&args.into, console)?;
    let target = destination(&args.into, &table, args.table.is_some(), parts, args)?;
    let Some(taker) = target.takes_parts() else {
        return Err(Failure::Usage(
            "a load in parts goes into a directory of Parquet files or an Iceberg table: name one"
                .into(),
        ));
    };
    if let Some(why) = taker.refuses(args.mode) {
        return Err(refused(why));
    }
    // Files say themselves what they are: only what has tables has a name for this one.
    let table = if target.path().is_some() { String::new() } else { table };
    let stage_path = args.stage.clone().unwrap_or_else(|| taker.stage());
    let stage = Stage::open(&stage_path)?;

    let whole = input.part().expect("it was narrowed").1.clone();
    // The same input may be loaded once more into something else, or be added once more.
    let hash = stage::id_of(&format!("{source}\n{choice:?}\n{into}\n{table}\n{:?}", args.mode));
    if stage.committed(&whole, &hash)? {
        console.note(format!(
            "all parts of this load were published before; to load them again, remove {}",
            console::path(&stage_path)
        ))?;
        return Ok(Outcome::objecting_if(false));
    }
    stage.forget_committed()?;
    let is_this = |there: &PartManifest| {
        (&there.read.whole, &there.schema, &there.target, &there.table, there.mode)
            == (&whole, &hash, &into, &table, args.mode)
            && there.misfit_limit == args.misfit_limit
    };
    if let Some(there) = stage.find(part)?.filter(|there| args.begin.is_none() && is_this(there)) {
        console.note(format!(
            "part {part} is there: {} in {}",
            counted(there.account.loaded, "row"),
            console::path(&stage_path)
        ))?;
        return Ok(Outcome::objecting_if(there.count_misfits() > 0));
    }
    // The part before may know where this one begins.
    let known = stage.begin_of(part, &whole)?.filter(|(name, _)| {
        let mut read = input.files().iter().filter(|file| file.bytes_read() > 0);
        read.next().is_some_and(|file| file.name() == *name)
    });
    if let Some(begin) = args.begin.or(known.map(|(_, begin)| begin)) {
        input.take_part(part, Some(begin))?;
    }
    let progress = Progress::of_unknown("counting the lines before the part", common.quiet);
    let goes_on = |bytes| {
        progress.advance(bytes);
        !progress.stopped()
    };
    if !input.count_lines_before(goes_on)? {
        return Err(Failure::Interrupted);
    }
    let progress = Progress::new("loading", input.bytes(), common.quiet);
    super::learn(&mut input, Some(&schema), common)?;
    let (plan, input) =
        super::bind((schema, source, &args.schema), (input, &args.inputs), common, console)?;
    super::refuse_undeclared(&plan, &input)?;

    let folder = stage.folder(part)?;
    let name = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let (destination, note) = taker
        .part(&plan, args.mode, &folder)
        .map_err(|error| failed(error.into(), &plan, &input))?;
    let rejects = rejects_beside(&rejects_of(&*target, &input), &folder);
    let options = LoadOptions {
        run: common.run_options(),
        mode: Mode::Create,
        is_proven: !args.no_proof,
        // A share is known once all parts are.
        misfit_limit: args.misfit_limit.filter(|limit| matches!(limit, MisfitLimit::Count(_))),
        memory: args.memory.unwrap_or(DEFAULT_MEMORY),
        sort_memory: args.sort_memory.or(args.memory).unwrap_or(DEFAULT_SORT_MEMORY),
        probes: kinds().probes(),
        ..LoadOptions::new(rejects)
    };
    let report = typhos_load::load(&input, &plan, &*destination, &options, &progress)
        .map_err(|error| failed(error, &plan, &input))?;
    let manifest = PartManifest {
        typhos: PartManifest::VERSION,
        read: PartOf::read(&input).expect("it was narrowed"),
        schema: hash,
        columns: plan.schema().columns.len() as u64,
        target: into,
        table,
        mode: args.mode,
        note,
        rejects_to: args
            .rejects
            .clone()
            .unwrap_or_else(|| rejects_of(&*target, &input))
            .display()
            .to_string(),
        files: report.done.files.iter().map(|file| staged(file, &folder)).collect(),
        folder: name,
        rejects: rejects_in(&report)?,
        account: account_of(&report.account),
        misfits: misfits_of(&report.account, &plan, &input),
        misfit_limit: args.misfit_limit,
        proven: match report.done.proof {
            Proof::Proven { facts, .. } => Some(facts as u64),
            Proof::Skipped => None,
        },
    };
    stage.add(&manifest)?;
    tell(&report, destination.path(), args, common, &plan, &input, console)?;
    console.note(paint(
        DIM,
        format!(
            "part {part} waits in {}; 'typhos commit' publishes all of them",
            console::path(&stage_path)
        ),
    ))?;
    Ok(Outcome::objecting_if(report.account.misfits() > 0))
}

/// Refuses what can only be known, or decided, of the whole input.
fn refuse_what_is_whole(schema: &Schema, args: &Load) -> Result<(), Failure> {
    let what = if let Some(column) = schema.columns.iter().find(|column| column.auto) {
        format!("the type of '{}' is decided from all rows; draft it first", column.name)
    } else if !schema.layout.key.is_empty() {
        "that no key comes twice is found out over all rows; take 'key' out of [layout], or load the input as a whole".into()
    } else if let Some(column) = schema
        .columns
        .iter()
        .find(|column| matches!(column.generate, Some(Generate::RowNumber { .. })))
    {
        format!("'{}' counts all rows; take it out, or count by file and line", column.name)
    } else if args.server.statements() != Statements::default() {
        "--before and --after are for databases, and parts become Parquet files".into()
    } else {
        return Ok(());
    };
    Err(refused(&what))
}

fn refused(what: &str) -> Failure {
    Failure::Usage(format!("this cannot be loaded in parts: {what}"))
}

fn destination(
    into: &str,
    table: &str,
    is_named: bool,
    parts: Parts,
    args: &Load,
) -> Result<Box<dyn Destination>, Failure> {
    let timeouts = args.server.timeouts();
    let wants_parts = args.parts.is_some() || args.part_size.is_some();
    opened(&Address { into, table, is_named, parts: Some(parts), timeouts }, wants_parts, into)
}

/// The rejects file of a part, beside its folder.
fn rejects_beside(rejects: &Path, folder: &Path) -> PathBuf {
    let mut name = folder.file_name().unwrap_or_default().to_owned();
    name.push(".rejects.");
    name.push(rejects.extension().unwrap_or_default());
    folder.with_file_name(name)
}

fn staged(file: &typhos_load::DataFile, folder: &Path) -> StagedFile {
    let path = file.path.strip_prefix(folder).unwrap_or(&file.path);
    StagedFile { path: path.display().to_string(), rows: file.rows, bytes: file.bytes }
}

fn rejects_in(report: &LoadReport) -> Result<Option<StagedRejects>, Failure> {
    let Some(path) = &report.rejects else { return Ok(None) };
    let bytes = path.metadata()?.len();
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let (head, tail) = report.rejects_frame;
    Ok(Some(StagedRejects { name, bytes, head, tail }))
}

fn account_of(account: &Account) -> PartAccount {
    PartAccount {
        read: account.read,
        loaded: account.loaded,
        set_aside: account.set_aside,
        without_elements: account.without_elements,
        nulled: account.nulled,
    }
}

fn misfits_of(account: &Account, plan: &Plan, input: &Input) -> Vec<PartMisfits> {
    let columns = plan.schema().columns.iter().map(|column| Some(column.name.clone()));
    let all = account.columns.iter().zip(columns).chain([(&account.broken, None)]);
    let misfits = all.filter(|(misfits, _)| misfits.count > 0).map(|(misfits, column)| {
        let example = |misfit: &typhos_core::columns::MisfitValue| PartExample {
            file: input.files()[misfit.place.part as usize].name(),
            line: misfit.place.line,
            value: misfit.value.clone(),
            reason: misfit.reason.to_string(),
        };
        let examples = misfits.examples.iter().map(example).collect();
        PartMisfits { column, count: misfits.count, examples }
    });
    misfits.collect()
}

/// Publishes all parts.
pub fn commit(args: &Commit, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    let stage = Stage::existing(&args.stage)?;
    let progress = Progress::of_unknown("looking at the parts", common.quiet);
    let committed = typhos_load::stage::commit(&stage, &open, &progress);
    drop(progress);
    let committed = match committed {
        Ok(committed) => committed,
        Err(error @ CommitError::Before(_)) => {
            console.note(error.to_string())?;
            return Ok(Outcome::objecting_if(false));
        }
        Err(error) => return Err(not_committed(error)),
    };
    let misfits: u64 = committed.misfits.iter().map(|misfits| misfits.count).sum();
    if args.json {
        console.json(&as_json(&committed))?;
    } else {
        show(&committed, console)?;
    }
    Ok(Outcome::objecting_if(misfits > 0))
}

/// Opens the target that a part was loaded for.
fn open(into: &str, table: &str) -> Result<Box<dyn Destination>, String> {
    let (parts, timeouts) = (Some(Parts::Count(1)), Timeouts::default());
    let address = Address { into, table, is_named: true, parts, timeouts };
    opened(&address, false, into).map_err(|failure| match failure {
        Failure::Usage(wrong) => wrong,
        _ => format!("'{into}' cannot be opened"),
    })
}

fn not_committed(error: CommitError) -> Failure {
    match error {
        CommitError::Target(error) => error.into(),
        CommitError::Nothing(_) | CommitError::Differ { .. } | CommitError::Address(_) => {
            Failure::Usage(error.to_string())
        }
        CommitError::Busy(_) => Failure::Machine(error.to_string()),
        _ => Failure::Refused(error.to_string()),
    }
}

/// The account as that of a load.
fn account(committed: &Committed) -> Account {
    let PartAccount { read, loaded, set_aside, without_elements, nulled } = committed.account;
    Account { read, loaded, set_aside, without_elements, nulled, ..Account::new(0) }
}

/// Misfits that are shown.
const SHOWN_MISFITS: usize = 5;

fn show(committed: &Committed, console: &mut Console) -> Result<(), Failure> {
    let files = &committed.files;
    let bytes: u64 = files.iter().map(|file| file.bytes).sum();
    console.say(format!(
        "{}  {}, {}  {}",
        paint(
            BOLD,
            safe(&format!("{} in {}", name(committed), counted(files.len() as u64, "file")))
        ),
        counted(committed.account.loaded, "row"),
        counted(committed.columns, "column"),
        paint(DIM, console::bytes(bytes)),
    ))?;
    if committed.was_there {
        console.note("all of it was visible already: only the stage was left to be tidied")?;
    }
    if let Some(note) = &committed.note {
        console.say(paint(DIM, format!("  {}", safe(note))))?;
    }
    let examples = committed.misfits.iter().flat_map(|misfits| {
        let column = misfits.column.as_deref();
        misfits.examples.iter().map(move |example| (column, example))
    });
    let mut examples: Vec<_> = examples.collect();
    examples.sort_by(|(_, a), (_, b)| (&a.file, a.line).cmp(&(&b.file, b.line)));
    for (column, example) in examples.iter().take(SHOWN_MISFITS) {
        let place = paint(DIM, format!("{}:{}", safe(&example.file), example.line));
        let what = match column {
            Some(column) => format!(
                "{}: {} {}",
                safe(column),
                typhos_core::infer::shown(&example.value),
                safe(&example.reason)
            ),
            None => format!("the record {}", safe(&example.reason)),
        };
        console.say(format!("  {place}  {what}"))?;
    }
    let misfits: u64 = committed.misfits.iter().map(|misfits| misfits.count).sum();
    let more = misfits.saturating_sub(examples.len().min(SHOWN_MISFITS) as u64);
    if more > 0 {
        console.say(paint(DIM, format!("  … and {}", counted(more, "more misfit"))))?;
    }
    if let Some(path) = &committed.rejects {
        console.say(format!("  {} {}", paint(WARN, "set aside in"), console::path(path)))?;
    }
    console.say(account_line(&account(committed), false))?;
    console.say(match committed.proven {
        Some(facts) => format!(
            "{}: {} fit together; {} agree with what was sent, part by part",
            paint(GOOD, "proven"),
            counted(committed.parts.into(), "part"),
            counted(facts, "fact"),
        ),
        None => format!(
            "{} fit together; not all of them were proven, as --no-proof asks",
            counted(committed.parts.into(), "part")
        ),
    })?;
    Ok(())
}

/// What was published into.
fn name(committed: &Committed) -> String {
    match &committed.table[..] {
        "" => committed.target.clone(),
        table => format!("{} table {table}", committed.target),
    }
}

fn as_json(committed: &Committed) -> serde_json::Value {
    let PartAccount { read, loaded, set_aside, without_elements, nulled } = committed.account;
    let misfits = committed.misfits.iter().map(|misfits| {
        let examples = misfits.examples.iter().map(|example| {
            json!({ "file": example.file, "line": example.line, "value": example.value, "reason": example.reason })
        });
        json!({ "column": misfits.column, "count": misfits.count, "examples": examples.collect::<Vec<_>>() })
    });
    let files = committed.files.iter().map(|file| {
        json!({ "path": file.path.display().to_string(), "rows": file.rows, "bytes": file.bytes })
    });
    json!({
        "typhos": 1,
        "target": committed.target,
        "table": (!committed.table.is_empty()).then_some(&committed.table),
        "parts": committed.parts,
        "files": files.collect::<Vec<_>>(),
        "rejects": committed.rejects.as_ref().map(|path| path.display().to_string()),
        "account": {
            "read": read, "loaded": loaded, "set_aside": set_aside, "without_elements": without_elements, "nulled": nulled,
        },
        "misfits": misfits.collect::<Vec<_>>(),
        "proof": { "proven": committed.proven.is_some(), "facts": committed.proven },
    })
}
