//! A load: every block converted and encoded on any thread, taken by the sink in order, accounted for.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_schema::SchemaRef;
use thiserror::Error;
use typhos_core::columns::{Account, BlockReport, Converter, MisfitValue, OnMisfit, Plan};
use typhos_core::run::{self, Monitor, RunError, RunOptions};
use typhos_core::sorting::{SortError, SortOrder};
use typhos_core::text::Input;

use crate::parquet::Form;
use crate::rejects::Rejects;
use crate::sorted::Sorted;
use crate::{EncodeUnit, Encoder, Sink, TargetError, parquet, sqlite};

/// Where rows go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Destination {
    /// A Parquet file, or with `parts` a directory of so many.
    Parquet {
        /// The file or directory.
        path: PathBuf,
        /// How many parts, where it is a directory.
        parts: Option<u32>,
    },
    /// A table in a SQLite database.
    Sqlite {
        /// The database.
        path: PathBuf,
        /// The table.
        table: String,
    },
}

impl Destination {
    /// The file or directory that is written.
    pub fn path(&self) -> &Path {
        match self {
            Destination::Parquet { path, .. } | Destination::Sqlite { path, .. } => path,
        }
    }

    /// What the target cannot hold as declared, and what is used instead.
    pub fn fidelity_notes(&self, schema: &SchemaRef) -> Vec<String> {
        match self {
            Destination::Parquet { .. } => parquet::fidelity_notes(schema),
            Destination::Sqlite { .. } => sqlite::fidelity_notes(schema),
        }
    }
}

/// How a load is done.
#[derive(Debug, Clone)]
pub struct LoadOptions {
    /// Threads and blocks.
    pub run: RunOptions,
    /// Whether an output that exists is replaced.
    pub replace: bool,
    /// Where records that are set aside go.
    pub rejects: PathBuf,
    /// Bytes that sorting may take, in all.
    pub sort_memory: usize,
}

/// What a load did.
#[derive(Debug, Clone)]
pub struct LoadReport {
    /// What became of every record.
    pub account: Account,
    /// The rejects file, where there is one.
    pub rejects: Option<PathBuf>,
    /// What the target holds otherwise than declared.
    pub notes: Vec<String>,
}

/// Why a load ended with nothing loaded.
#[derive(Debug, Error)]
pub enum LoadError {
    /// The input cannot be read, or the load was interrupted.
    #[error(transparent)]
    Run(#[from] RunError),
    /// A value that does not fit, in a column that says to stop.
    #[error("a value does not fit")]
    Misfit(Box<MisfitValue>),
    /// The target failed.
    #[error(transparent)]
    Target(#[from] TargetError),
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

/// Loads an input into a destination. Either all of it is there afterwards, or nothing.
///
/// # Errors
/// The first misfit in a column that says to stop, and whatever the input or the target failed with.
pub fn load(
    input: &Input,
    plan: &Plan,
    destination: &Destination,
    options: &LoadOptions,
    monitor: &dyn Monitor,
) -> Result<LoadReport, LoadError> {
    let rows = plan.arrow();
    let mut options = options.clone();
    match destination {
        Destination::Parquet { path, parts } => {
            let mut form = Form::of(plan.schema(), &rows);
            options.run.block_bytes =
                parquet::block_bytes(&mut form, input, *parts).map_err(RunError::from)?;
            let (encoder, sink) = parquet::open(path, *parts, options.replace, form)?;
            run_load(input, plan, encoder, sink, &options, monitor)
        }
        Destination::Sqlite { path, table } => {
            let (encoder, sink) = sqlite::open(path, table, options.replace, &rows)?;
            run_load(input, plan, encoder, sink, &options, monitor)
        }
    }
    .map(|report| LoadReport { notes: destination.fidelity_notes(&rows), ..report })
}

fn run_load<E, S>(
    input: &Input,
    plan: &Plan,
    encoder: E,
    mut sink: S,
    options: &LoadOptions,
    monitor: &dyn Monitor,
) -> Result<LoadReport, LoadError>
where
    E: Encoder,
    S: Sink<Encoded = E::Encoded>,
{
    let mut rejects = Rejects::new(&options.rejects, options.replace, input, plan)?;
    let mut account = Account::new(plan.schema().columns.len());
    let work = Work {
        input,
        plan,
        mode: OnMisfit::AsDeclared,
        run: options.run,
        sort_memory: options.sort_memory,
        // Beside the rejects there is room for what is loaded too, or nearly so.
        folder: crate::whole::parent(&options.rejects),
    };
    let note = |report: BlockReport| {
        account.add(&report.account);
        rejects.write(&report.set_aside)
    };
    work.encode(&encoder, monitor, note, |encoded| sink.append(encoded))?;
    account.assert_balance();
    if monitor.stopped() {
        return Err(RunError::Interrupted.into());
    }
    // The rejects first: a load without them would have lost records, and they alone are harmless.
    let rejects = rejects.keep()?;
    if let Err(error) = sink.finish() {
        if let Some(path) = &rejects {
            let _ = std::fs::remove_file(path);
        }
        return Err(error.into());
    }
    Ok(LoadReport { account, rejects, notes: Vec::new() })
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
    /// Where temporary files may be.
    pub folder: &'l Path,
}

impl Work<'_> {
    /// Hands every report to `note`, and everything encoded to `append`, both in order.
    ///
    /// # Errors
    /// The first of reading, converting, sorting, `note` and `append`.
    pub fn encode<E: Encoder>(
        &self,
        encoder: &E,
        monitor: &dyn Monitor,
        mut note: impl FnMut(BlockReport) -> Result<(), TargetError> + Send,
        mut append: impl FnMut(E::Encoded) -> Result<(), TargetError> + Send,
    ) -> Result<(), LoadError> {
        if let Some(order) = SortOrder::of(self.plan.schema(), &self.plan.arrow()) {
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
                let report =
                    converter.convert::<LoadError>(block, |batch| Ok(unit.push(batch)?))?;
                Ok((unit.finish()?, report))
            },
            |(encoded, report)| {
                note(report)?;
                Ok(append(encoded)?)
            },
        )
    }
}
