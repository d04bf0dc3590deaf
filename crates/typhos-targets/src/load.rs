//! A load: every block converted and encoded on any thread, taken by the sink in order, accounted for.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::RecordBatch;
use thiserror::Error;
use typhos_core::columns::{Account, BlockReport, Converter, MisfitValue, OnMisfit, Plan};
use typhos_core::run::{self, Monitor, RunError, RunOptions};
use typhos_core::sorting::{SortError, SortOrder};
use typhos_core::spilling::Scratch;
use typhos_core::text::{Block, Input};

use crate::arrow_file::ArrowTarget;
use crate::clickhouse::ClickHouseSession;
use crate::gate::Gate;
use crate::keys::{self, KeyWatch};
use crate::mariadb::MariadbSession;
use crate::parquet::{ParquetTarget, Parts};
use crate::place::{Place, ServerKind};
use crate::postgres::PostgresSession;
use crate::preflight::{LoadPlan, Problem};
use crate::rejects::Rejects;
use crate::scratch::TempFiles;
use crate::server::TableTarget;
use crate::sorted::Sorted;
use crate::sqlite::SqliteSession;
use crate::whole::guard::keep_apart;
use crate::whole::pending::Awaited;
use crate::whole::{followed, parent, sweep};
use crate::{Done, EncodeUnit, Encoder, Job, Mode, Seen, Sink, Target, TargetError};

/// Where rows go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Destination {
    /// A Parquet file, or a directory of them.
    Parquet {
        /// The file or directory.
        path: PathBuf,
        /// How a directory is shared out to files; `None` for a single file.
        parts: Option<Parts>,
    },
    /// A file of Arrow's IPC format.
    Arrow {
        /// The file.
        path: PathBuf,
    },
    /// A table in a SQLite database.
    Sqlite {
        /// The database.
        path: PathBuf,
        /// The table.
        table: String,
    },
    /// A table of a server.
    Server {
        /// The server and its database.
        place: Place,
        /// The table.
        table: String,
    },
}

impl Destination {
    /// The file or directory that is written, where it is one.
    pub fn path(&self) -> Option<&Path> {
        match self {
            Destination::Parquet { path, .. }
            | Destination::Arrow { path }
            | Destination::Sqlite { path, .. } => Some(path),
            Destination::Server { .. } => None,
        }
    }

    /// Where temporary files may be: beside what is written there is room for that, or nearly so.
    fn folder<'f>(&'f self, options: &'f LoadOptions) -> &'f Path {
        parent(self.path().unwrap_or(&options.rejects))
    }

    /// Whose appearance records wait for that were set aside.
    fn awaited(&self) -> Awaited {
        match self {
            Destination::Sqlite { path, .. } if path.exists() => Awaited::Sqlite(path.clone()),
            Destination::Server { .. } => Awaited::Unseen,
            Destination::Parquet { path, .. }
            | Destination::Arrow { path }
            | Destination::Sqlite { path, .. } => {
                Awaited::path(&followed(path).unwrap_or_else(|_| path.clone()))
            }
        }
    }

    fn visit<V: Visit>(&self, visitor: V) -> Result<V::Out, LoadError> {
        match self {
            Destination::Parquet { path, parts } => {
                visitor.visit(ParquetTarget { path: path.clone(), parts: *parts })
            }
            Destination::Arrow { path } => visitor.visit(ArrowTarget { path: path.clone() }),
            Destination::Sqlite { path, table } => visitor
                .visit(TableTarget { session: SqliteSession::new(path)?, table: table.clone() }),
            Destination::Server { place, table } => {
                let table = table.clone();
                match place.kind {
                    ServerKind::Postgres => visitor
                        .visit(TableTarget { session: PostgresSession::connect(place)?, table }),
                    ServerKind::Mariadb => visitor
                        .visit(TableTarget { session: MariadbSession::connect(place)?, table }),
                    ServerKind::ClickHouse => visitor
                        .visit(TableTarget { session: ClickHouseSession::connect(place)?, table }),
                }
            }
        }
    }
}

/// Something to do with a target of any kind.
trait Visit {
    type Out;

    fn visit<T: Target>(self, target: T) -> Result<Self::Out, LoadError>;
}

/// How many misfits a load may have.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum MisfitLimit {
    /// So many values and records.
    Count(u64),
    /// So many of every hundred records.
    Percent(f64),
}

impl MisfitLimit {
    fn is_exceeded(self, misfits: u64, read: u64) -> bool {
        match self {
            MisfitLimit::Count(most) => misfits > most,
            MisfitLimit::Percent(percent) => misfits as f64 > percent / 100.0 * read as f64,
        }
    }
}

impl std::fmt::Display for MisfitLimit {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            MisfitLimit::Count(most) => write!(f, "{most}"),
            MisfitLimit::Percent(percent) => write!(f, "{percent}%"),
        }
    }
}

/// How a load is done.
#[derive(Debug, Clone)]
pub struct LoadOptions {
    /// Threads and blocks.
    pub run: RunOptions,
    /// What happens to what is there already.
    pub mode: Mode,
    /// What happens to rows that are there already.
    pub seen: Seen,
    /// Whether the target is asked for what it has.
    pub is_proven: bool,
    /// How many misfits are let through; all of them where it is not said.
    pub misfit_limit: Option<MisfitLimit>,
    /// Where records that are set aside go; with a number where a file is there already.
    pub rejects: PathBuf,
    /// Bytes that the load may take, in all.
    pub memory: usize,
    /// Bytes that sorting may take of them.
    pub sort_memory: usize,
}

/// What a load did.
#[derive(Debug, Clone)]
pub struct LoadReport {
    /// What became of every record.
    pub account: Account,
    /// The rejects file, where there is one.
    pub rejects: Option<PathBuf>,
    /// What was planned, with what the target holds otherwise than declared.
    pub plan: LoadPlan,
    /// What became of the rows, and whether the target has them.
    pub done: Done,
}

/// Why a load ended with nothing loaded.
#[derive(Debug, Error)]
pub enum LoadError {
    /// The input cannot be read, or the load was interrupted.
    #[error(transparent)]
    Run(#[from] RunError),
    /// There are more misfits than the load may have.
    #[error(
        "{misfits} of {read} records and values do not fit, and --misfit-limit is {limit}; nothing was loaded\nThe first: {first}"
    )]
    TooManyMisfits {
        /// Misfits so far.
        misfits: u64,
        /// Records read so far.
        read: u64,
        /// How many there may be.
        limit: MisfitLimit,
        /// The first of them: where it stands, and what is wrong.
        first: String,
    },
    /// A value that does not fit, in a column that says to stop.
    #[error("a value does not fit")]
    Misfit(Box<MisfitValue>),
    /// The target failed.
    #[error(transparent)]
    Target(TargetError),
    /// The rows are where they belong, and something after that failed.
    #[error("the rows are loaded, but {0}")]
    InPlace(String),
}

impl From<TargetError> for LoadError {
    fn from(error: TargetError) -> Self {
        match error {
            TargetError::Interrupted => RunError::Interrupted.into(),
            error => LoadError::Target(error),
        }
    }
}

impl From<SortError> for LoadError {
    fn from(error: SortError) -> Self {
        LoadError::Target(error.into())
    }
}

impl From<MisfitValue> for LoadError {
    fn from(misfit: MisfitValue) -> Self {
        LoadError::Misfit(Box::new(misfit))
    }
}

/// What a load would do, and what stands in its way, duplicate keys included. Nothing is changed.
///
/// # Errors
/// A target that cannot be asked, an input that cannot be read.
pub fn plan(
    input: &Input,
    plan: &Plan,
    destination: &Destination,
    options: &LoadOptions,
    monitor: &dyn Monitor,
) -> Result<LoadPlan, LoadError> {
    struct Ask<'l>(Job<'l>);
    impl Visit for Ask<'_> {
        type Out = LoadPlan;
        fn visit<T: Target>(self, mut target: T) -> Result<LoadPlan, LoadError> {
            Ok(target.plan(&self.0)?)
        }
    }
    kept_apart(input, destination, options)?;
    let mut planned = destination.visit(Ask(job(input, plan, options)))?;
    let scratch = TempFiles::inside(destination.folder(options));
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

/// Refuses to write over what is read.
fn kept_apart(
    input: &Input,
    destination: &Destination,
    options: &LoadOptions,
) -> Result<(), LoadError> {
    let read = input.files().iter().filter_map(|file| Some(("an input", file.path()?)));
    let mut written = vec![("the rejects file", options.rejects.as_path())];
    written.extend(destination.path().map(|path| ("the target", path)));
    Ok(keep_apart(&read.collect::<Vec<_>>(), &written)?)
}

fn job<'l>(input: &'l Input, plan: &'l Plan, options: &LoadOptions) -> Job<'l> {
    let LoadOptions { mode, seen, is_proven, memory, .. } = *options;
    Job { input, plan, mode, seen, is_proven, memory, gate: Arc::new(Gate::default()) }
}

/// Loads an input into a destination. Either all of it is there afterwards, or nothing.
///
/// # Errors
/// The first misfit in a column that says to stop, what stands in the way of the load, and whatever the
/// input or the target failed with.
pub fn load(
    input: &Input,
    plan: &Plan,
    destination: &Destination,
    options: &LoadOptions,
    monitor: &dyn Monitor,
) -> Result<LoadReport, LoadError> {
    kept_apart(input, destination, options)?;
    let folder = destination.folder(options);
    sweep(folder);
    sweep(parent(&options.rejects));
    let awaited = destination.awaited();
    destination.visit(Run { job: job(input, plan, options), folder, awaited, options, monitor })
}

struct Run<'l> {
    job: Job<'l>,
    folder: &'l Path,
    awaited: Awaited,
    options: &'l LoadOptions,
    monitor: &'l dyn Monitor,
}

impl Visit for Run<'_> {
    type Out = LoadReport;

    fn visit<T: Target>(self, mut target: T) -> Result<LoadReport, LoadError> {
        let Run { job, folder, awaited, options, monitor } = self;
        let planned = target.plan(&job)?;
        if !planned.problems.is_empty() {
            return Err(TargetError::Preflight(Box::new(planned)).into());
        }
        let scratch = TempFiles::inside(folder);
        keys::find_repeats(job.input, job.plan, &scratch, &options.run, monitor)?;
        let mut run = options.run;
        let (encoder, sink) = target.open(&job, &mut run)?;
        let options = LoadOptions { run, ..options.clone() };
        let run = Run { job, folder, awaited, options: &options, monitor };
        let mut planned = planned;
        let gate = run.job.gate.clone();
        let (account, done) = run.send(encoder, sink)?;
        planned.notes.extend(done.note.clone());
        // It is visible; what was set aside is too.
        let rejects = gate.publish().map_err(|error| LoadError::InPlace(error.to_string()))?;
        Ok(LoadReport { account, rejects, plan: planned, done })
    }
}

impl Run<'_> {
    /// Sends everything, and makes it visible.
    fn send<E, S>(self, encoder: E, mut sink: S) -> Result<(Account, Done), LoadError>
    where
        E: Encoder,
        S: Sink<Encoded = E::Encoded>,
    {
        let Run { job, folder, awaited, options, monitor } = self;
        let Job { input, plan, .. } = job;
        let mut rejects = Rejects::new(&options.rejects, input, plan);
        let scratch = TempFiles::inside(folder);
        let keys = input.is_stream().then(|| KeyWatch::new(plan, &scratch)).flatten();
        let mut account = Account::new(plan.schema().columns.len());
        let work = Work {
            input,
            plan,
            mode: OnMisfit::AsDeclared,
            run: options.run,
            sort_memory: options.sort_memory,
            scratch: scratch.clone(),
            keys: keys.as_ref(),
        };
        let note = |report: BlockReport| {
            account.add(&report.account);
            // A count can only grow; a share is known at the end.
            if let Some(limit @ MisfitLimit::Count(_)) = options.misfit_limit {
                within(limit, &account, &job)?;
            }
            Ok(rejects.write(&report.set_aside)?)
        };
        monitor.begin("loading", Some(input.bytes()));
        work.encode(&encoder, monitor, note, |encoded| sink.append(encoded, monitor))?;
        account.assert_balance();
        if let Some(limit) = options.misfit_limit {
            within(limit, &account, &job)?;
        }
        if let Some(keys) = keys {
            keys.finish(input)?.refuse(&plan.schema().layout.key)?;
        }
        input.verify_unchanged().map_err(RunError::from)?;
        if let Some(file) = rejects.seal()? {
            job.gate.hold(file, awaited);
        }
        if monitor.stopped() {
            return Err(RunError::Interrupted.into());
        }
        monitor.begin("proving", None);
        let done = sink.finish(monitor)?;
        Ok((account, done))
    }
}

/// Stops a load that has more misfits than it may have.
fn within(limit: MisfitLimit, account: &Account, job: &Job<'_>) -> Result<(), LoadError> {
    let (misfits, read) = (account.misfits(), account.read);
    if !limit.is_exceeded(misfits, read) {
        return Ok(());
    }
    let all = account.columns.iter().chain([&account.broken]);
    let first = all.flat_map(|misfits| &misfits.examples).min_by_key(|misfit| misfit.place);
    let first = first.map_or(String::new(), |misfit| {
        let file = job.input.files()[misfit.place.part as usize].name();
        let column = misfit.column.map_or("the record".into(), |column| {
            format!("column '{}': '{}'", job.plan.schema().columns[column].name, misfit.value)
        });
        format!("{file}:{}: {column} {}", misfit.place.line, misfit.reason)
    });
    Err(LoadError::TooManyMisfits { misfits, read, limit, first })
}

/// An input that is converted and encoded, in the order that its schema asks for.
pub(crate) struct Work<'l> {
    pub input: &'l Input,
    pub plan: &'l Plan,
    pub mode: OnMisfit,
    /// Threads; and blocks, where rows stay in the order of the input.
    pub run: RunOptions,
    /// Bytes that sorting may take.
    pub sort_memory: usize,
    /// Where rows are put that do not fit into memory.
    pub scratch: Arc<dyn Scratch>,
    /// Watches keys, where nobody has looked at them before.
    pub keys: Option<&'l KeyWatch>,
}

impl Work<'_> {
    /// Converts a block, and watches its keys.
    pub fn convert(
        &self,
        converter: &mut Converter<'_>,
        block: &Block,
        mut each: impl FnMut(RecordBatch) -> Result<(), LoadError>,
    ) -> Result<BlockReport, LoadError> {
        let Some(keys) = self.keys else { return converter.convert(block, each) };
        converter.convert_with_lines(block, |batch, lines| {
            keys.note(&batch, block.file, lines)?;
            each(batch)
        })
    }

    /// Hands every report to `note`, and everything encoded to `append`, both in order.
    ///
    /// # Errors
    /// The first of reading, converting, sorting, `note` and `append`.
    pub fn encode<E: Encoder>(
        &self,
        encoder: &E,
        monitor: &dyn Monitor,
        mut note: impl FnMut(BlockReport) -> Result<(), LoadError> + Send,
        mut append: impl FnMut(E::Encoded) -> Result<(), TargetError> + Send,
    ) -> Result<(), LoadError> {
        if let Some(order) =
            SortOrder::of(self.plan.schema(), &self.plan.arrow(), encoder.grouping())
        {
            let sorted = Sorted { work: self, order: Arc::new(order) };
            let runs = sorted.runs(monitor, note)?;
            return sorted.merge(runs, encoder, monitor, append);
        }
        let bytes = self.input.bytes().max(1) as f64;
        run::map_blocks::<_, _, LoadError>(
            self.input,
            &self.run,
            monitor,
            || Converter::new(self.plan, self.mode),
            |converter, block| {
                let mut unit = encoder.begin((block.offset + block.bytes / 2) as f64 / bytes)?;
                let report = self.convert(converter, block, |batch| Ok(unit.push(batch)?))?;
                Ok((unit.finish()?, report))
            },
            |(encoded, report)| {
                note(report)?;
                Ok(append(encoded)?)
            },
        )
    }
}
