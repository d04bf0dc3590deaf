//! A load that goes nowhere: what a table takes in memory and in Parquet, in one way or several, without
//! a byte on disk but for what sorting puts aside.

use std::io;
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use typhos_core::columns::{Account, BlockReport, Converter, OnMisfit, Plan};
use typhos_core::filter::Filter;
use typhos_core::ledger::{ColumnBytes, Measure};
use typhos_core::run::{self, Monitor, RunError, RunOptions};
use typhos_core::text::{Input, mean_record_bytes};

use crate::parquet::{self, Counted, Footprint, Form, RowGroupUnit, RowGroups};
use crate::sqlite::PROBE;
use typhos_load::budget::threads_within;
use typhos_load::refusals::NO_REFUSALS;
use typhos_load::whole::sweep;
use typhos_load::{EncodeUnit, Encoder, TargetError};
use typhos_load::{LoadError, TempFiles, Work};

/// What is weighed, and how.
pub struct Weighing<'w> {
    /// The input.
    pub input: &'w Input,
    /// The declaration, bound to it.
    pub plan: &'w Plan,
    /// Other ways to hold the same records.
    pub others: &'w [Plan],
    /// A question that readers ask of what is declared.
    pub filter: Option<&'w Filter>,
    /// Threads.
    pub run: RunOptions,
    /// Bytes that weighing may take, in all.
    pub memory: usize,
    /// Bytes that sorting may take of them.
    pub sort_memory: usize,
    /// Where temporary files may be.
    pub folder: PathBuf,
    /// What is to be found out.
    pub wanted: WeighAs,
}

/// What weighing is to find out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WeighAs {
    /// Memory and file of all ways.
    Ledger,
    /// That, and how long a load takes: it is done by itself for that.
    Time,
    /// The file, what has to be read of it, and the time: nothing of memory and of rows that are meant.
    File,
}

/// What a table takes in one way.
#[derive(Debug, Clone, Default)]
pub struct Weight {
    /// Each column in memory.
    pub memory: Vec<ColumnBytes>,
    /// The leaves of each column that nests in memory; of others none.
    pub leaves: Vec<Vec<ColumnBytes>>,
    /// Each column in the file: its pages and dictionaries.
    pub disk: Vec<u64>,
    /// The same of each of its leaves; a point has two.
    pub disk_leaves: Vec<Vec<u64>>,
    /// The whole file.
    pub file: u64,
}

/// What weighing found.
#[derive(Debug, Clone)]
pub struct Weighed {
    /// What became of every record; misfits are noted, and would not stop it.
    pub account: Account,
    /// As it is declared.
    pub declared: Weight,
    /// In the other ways.
    pub others: Vec<Weight>,
    /// Rows that the question means.
    pub matched: u64,
    /// What a reader has to read for it.
    pub footprint: Option<Footprint>,
    /// How long the load took, without writing it anywhere; of a timed weighing.
    pub took: Duration,
}

/// Weighs a table.
///
/// # Errors
/// An input that cannot be read, an interruption, a temporary file that cannot be written.
pub fn weigh(weighing: &Weighing<'_>, monitor: &dyn Monitor) -> Result<Weighed, LoadError> {
    let weighed = weigh_all(weighing, monitor)?;
    weighing.input.verify_unchanged().map_err(RunError::from)?;
    Ok(weighed)
}

fn weigh_all(weighing: &Weighing<'_>, monitor: &dyn Monitor) -> Result<Weighed, LoadError> {
    sweep(&weighing.folder, &[&PROBE]);
    let is_sorted = !weighing.plan.schema().layout.sort.is_empty();
    let apart = is_sorted || weighing.wanted != WeighAs::Ledger;
    let measured = match weighing.wanted {
        WeighAs::File => None,
        _ => Some(weighing.measure(!apart, monitor)?),
    };
    if !apart && let Some(measured) = measured {
        return Ok(measured);
    }
    let loaded = weighing.load(monitor)?;
    Ok(match measured {
        Some(measured) => {
            let Weight { memory, leaves, .. } = measured.declared;
            let declared = Weight { memory, leaves, ..loaded.declared };
            Weighed { declared, footprint: loaded.footprint, took: loaded.took, ..measured }
        }
        None => loaded,
    })
}

/// Bytes of a record that is long.
const LONG_RECORD: f64 = (4 << 20) as f64;

/// Columns that are measured in all ways at once.
const MOST_AT_ONCE: usize = 4_000;

/// One way to hold records, being written to nowhere.
struct Face<'f> {
    encoder: parquet::ParquetEncoder,
    file: Mutex<Counted<'f>>,
    is_written: bool,
    /// Bytes of input that become a row group.
    block_bytes: usize,
}

impl Weighing<'_> {
    fn face<'f>(
        &self,
        plan: &Plan,
        filter: Option<&'f Filter>,
        is_written: bool,
    ) -> Result<Face<'f>, LoadError> {
        let mut form = Form::of(plan.schema(), &plan.arrow());
        let block_bytes =
            parquet::block_bytes(&mut form, self.input, None).map_err(RunError::from)?;
        let (encoder, file) = parquet::nowhere(form, plan.arrow(), filter)?;
        Ok(Face { encoder, file: Mutex::new(file), is_written, block_bytes })
    }

    /// Measures all ways, and writes the others; what is declared too, where that is wanted. In one pass, unless there
    /// are so many columns that what is known of their chunks takes more than the rows, or records are so long that few
    /// of them are to be held in several ways.
    fn measure(&self, writes_declared: bool, monitor: &dyn Monitor) -> Result<Weighed, LoadError> {
        let columns = self.plan.schema().columns.len();
        let record = mean_record_bytes(self.input).map_err(RunError::from)?.unwrap_or(0.0);
        let is_small = columns <= MOST_AT_ONCE && record <= LONG_RECORD;
        if is_small || self.input.is_stream() {
            return self.measure_at_once(self.others, writes_declared, monitor);
        }
        let mut weighed = self.measure_at_once(&[], writes_declared, monitor)?;
        for other in self.others {
            let one = self.measure_at_once(std::slice::from_ref(other), false, monitor)?;
            weighed.others.extend(one.others);
        }
        Ok(weighed)
    }

    fn measure_at_once(
        &self,
        others: &[Plan],
        writes_declared: bool,
        monitor: &dyn Monitor,
    ) -> Result<Weighed, LoadError> {
        let mut faces = vec![self.face(self.plan, self.filter, writes_declared)?];
        for plan in others {
            faces.push(self.face(plan, None, true)?);
        }
        // A block, and its arrays in each of the ways.
        let block_bytes = faces[0].block_bytes;
        let each = block_bytes / 2 + faces.len() * block_bytes / 2;
        let threads = threads_within(self.run.threads, self.memory, each);
        let run = RunOptions { block_bytes, threads };
        let plans: Vec<&Plan> = std::iter::once(self.plan).chain(others).collect();
        // Measures are taken by whichever thread needs one, and put back.
        let pool: Mutex<Vec<Vec<Measure>>> = Mutex::new(Vec::new());
        let scratch = TempFiles::inside(&self.folder);
        let fresh = || plans.iter().map(|plan| Measure::new(plan, &scratch)).collect::<Vec<_>>();
        let mut account = Account::new(self.plan.schema().columns.len());
        let mut matched = 0;
        run::map_blocks::<_, _, LoadError>(
            self.plan.blocks(self.input),
            &run,
            monitor,
            || Converter::new(self.plan, OnMisfit::NoteAll).beside(others),
            |converter, block| {
                let mut measures = lock(&pool).pop().unwrap_or_else(fresh);
                measures.iter_mut().for_each(Measure::begin_block);
                let mut units = faces.iter().map(|face| face.encoder.begin(0.0)).collect::<Result<
                    Vec<RowGroupUnit<'_>>,
                    _,
                >>(
                )?;
                let mut meant = 0;
                let report = converter.convert_all::<LoadError>(block, |batches| {
                    if let Some(filter) = self.filter {
                        let matches = filter.matches(&batches[0]);
                        meant += matches.into_iter().filter(|is| *is).count() as u64;
                    }
                    for (at, batch) in batches.into_iter().enumerate() {
                        measures[at].add(&batch).map_err(self.aside())?;
                        if faces[at].is_written {
                            units[at].push(batch)?;
                        }
                    }
                    Ok(())
                })?;
                lock(&pool).push(measures);
                let encoded: Vec<RowGroups> =
                    units.into_iter().map(EncodeUnit::finish).collect::<Result<_, _>>()?;
                Ok((encoded, report, meant))
            },
            |(encoded, report, meant)| {
                account.add(&report.account);
                matched += meant;
                for (face, encoded) in faces.iter().zip(encoded) {
                    lock(&face.file).append(encoded)?;
                }
                Ok(())
            },
        )?;
        let mut measures = fresh();
        for part in pool.into_inner().unwrap_or_else(PoisonError::into_inner) {
            for (measure, part) in measures.iter_mut().zip(part) {
                measure.merge(part).map_err(self.aside())?;
            }
        }
        let mut weights = Vec::new();
        let mut footprint = None;
        for (face, measure) in faces.into_iter().zip(measures) {
            let file = face.file.into_inner().unwrap_or_else(PoisonError::into_inner);
            let counted = file.finish()?;
            footprint = footprint.or(counted.footprint);
            let measured = measure.finish().map_err(self.aside())?;
            let (memory, leaves) = measured.into_iter().map(|of| (of.bytes, of.leaves)).unzip();
            weights.push(Weight { memory, leaves, ..on_disk(counted.columns, counted.file) });
        }
        let declared = weights.remove(0);
        let took = Duration::ZERO;
        Ok(Weighed { account, declared, others: weights, matched, footprint, took })
    }

    /// Loads what is declared, in its order, to nowhere.
    fn load(&self, monitor: &dyn Monitor) -> Result<Weighed, LoadError> {
        let start = Instant::now();
        let face = self.face(self.plan, self.filter, true)?;
        let mut account = Account::new(self.plan.schema().columns.len());
        let work = Work {
            input: self.input,
            plan: self.plan,
            mode: OnMisfit::NoteAll,
            run: RunOptions {
                block_bytes: face.block_bytes,
                threads: threads_within(self.run.threads, self.memory, face.block_bytes),
            },
            sort_memory: self.sort_memory,
            scratch: TempFiles::inside(&self.folder),
            keys: None,
            refusals: &NO_REFUSALS,
        };
        let note = |report: BlockReport| {
            account.add(&report.account);
            Ok(())
        };
        work.encode(&face.encoder, monitor, note, |encoded| Ok(lock(&face.file).append(encoded)?))?;
        let counted = face.file.into_inner().unwrap_or_else(PoisonError::into_inner).finish()?;
        let declared = on_disk(counted.columns, counted.file);
        let (footprint, took) = (counted.footprint, start.elapsed());
        Ok(Weighed { account, declared, others: Vec::new(), matched: 0, footprint, took })
    }

    /// Says where a temporary file failed.
    fn aside(&self) -> impl Fn(io::Error) -> LoadError + use<> {
        let path = self.folder.clone();
        move |source| TargetError::Io { path: path.clone(), source }.into()
    }
}

/// What a file takes.
fn on_disk(leaves: Vec<Vec<u64>>, file: u64) -> Weight {
    let disk = leaves.iter().map(|leaves| leaves.iter().sum()).collect();
    Weight { disk, disk_leaves: leaves, file, ..Weight::default() }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
