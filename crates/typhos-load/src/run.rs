//! A load, whatever the target is: every block converted and encoded on any thread, taken by the sink in order,
//! accounted for.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use typhos_core::columns::{Account, BlockReport, Converter, OnMisfit, SetAside};
use typhos_core::run::{Monitor, RunError, RunOptions, map_blocks};
use typhos_core::sorting::DEFAULT_SORT_MEMORY;

use crate::budget::DEFAULT_MEMORY;
use crate::contract::{Done, Job, Mode, Moved, Seen, Statements, Target};
use crate::erased::{ErasedEncoder, ErasedSink};
use crate::error::{LoadError, TargetError};
use crate::keys::{self, KeyWatch};
use crate::load_plan::LoadPlan;
use crate::located::located;
use crate::misfit_limit::MisfitLimit;
use crate::proof::Proof;
use crate::rejects::Rejects;
use crate::scratch::TempFiles;
use crate::table::FileMark;
use crate::whole::pending::{Awaited, Probe};
use crate::work::Work;

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
    /// Whether it is only to be known what would become of the rows, behind a [plan](crate::plan()): nothing is written, and no record
    /// is set aside.
    pub is_counted: bool,
    /// The files that are written down in the history of a database.
    pub history: Vec<FileMark>,
    /// What else is executed in a database.
    pub statements: Statements,
    /// How the databases in files are looked into that a load may have been killed in.
    pub probes: Vec<&'static Probe>,
}

impl LoadOptions {
    /// A new output, proven, with every misfit that columns let through; on all cores, in the usual memory.
    pub fn new(rejects: PathBuf) -> LoadOptions {
        LoadOptions {
            run: RunOptions::default(),
            mode: Mode::default(),
            seen: Seen::default(),
            is_proven: true,
            misfit_limit: None,
            rejects,
            memory: DEFAULT_MEMORY,
            sort_memory: DEFAULT_SORT_MEMORY,
            is_counted: false,
            history: Vec::new(),
            statements: Statements::default(),
            probes: Vec::new(),
        }
    }
}

/// What a load did.
#[derive(Debug, Clone)]
pub struct LoadReport {
    /// What became of every record.
    pub account: Account,
    /// The rejects file, where there is one.
    pub rejects: Option<PathBuf>,
    /// Bytes before the first record in it, and behind the last.
    pub rejects_frame: (u64, u64),
    /// What was planned, with what the target holds otherwise than declared.
    pub plan: LoadPlan,
    /// What became of the rows, and whether the target has them.
    pub done: Done,
}

/// A load that is about to be done, whatever the target is.
pub struct LoadRun<'l> {
    pub(crate) job: Job<'l>,
    /// Whose appearance records wait for that were set aside.
    pub(crate) awaited: Awaited,
    /// Where temporary files may be.
    pub(crate) folder: &'l Path,
    pub(crate) options: &'l LoadOptions,
    pub(crate) monitor: &'l dyn Monitor,
}

impl LoadRun<'_> {
    /// Counts what would become of the rows, as far as that can be known without a target.
    ///
    /// # Errors
    /// As [`load`](crate::load()).
    fn without(self, planned: LoadPlan) -> Result<LoadReport, LoadError> {
        let LoadRun { job, options, monitor, .. } = self;
        monitor.begin("counting", Some(job.input.bytes()));
        let mut account = Account::new(job.plan.schema().columns.len());
        map_blocks::<_, _, LoadError>(
            job.plan.blocks(job.input),
            &options.run,
            monitor,
            || Converter::new(job.plan, OnMisfit::AsDeclared),
            |converter, block| converter.convert(block, |_| Ok(())),
            |part| {
                account.add(&part.account);
                Ok(())
            },
        )?;
        job.input.verify_unchanged().map_err(RunError::from)?;
        if let Some(limit) = options.misfit_limit {
            within(limit, &account, &job)?;
        }
        let moved = Moved { inserted: account.loaded, ..Moved::default() };
        let done = Done { proof: Proof::Skipped, moved, files: Vec::new(), note: None };
        Ok(LoadReport { account, rejects: None, rejects_frame: (0, 0), plan: planned, done })
    }

    /// Does it: plans, looks for duplicate keys, sends, proves, publishes. A load that fails has undone what it did.
    ///
    /// # Errors
    /// As [`load`](crate::load()).
    pub fn into<T: Target>(self, mut target: T) -> Result<LoadReport, LoadError> {
        let planned = target.plan(&self.job)?;
        if !planned.problems.is_empty() {
            return Err(TargetError::Preflight(Box::new(planned)).into());
        }
        if self.options.is_counted && !target.counts_rows() {
            return self.without(planned);
        }
        self.prepare()?;
        let mut run = self.options.run;
        let (encoder, sink) = target.stage(&self.job, &mut run)?;
        self.finish(planned, &run, ErasedEncoder::new(encoder), ErasedSink::new(sink))
    }

    /// Looks for duplicate keys.
    fn prepare(&self) -> Result<(), LoadError> {
        let LoadRun { job, options, monitor, .. } = self;
        // Whoever counts has asked for a plan, which looks for them.
        if !options.is_counted {
            let scratch = TempFiles::inside(self.folder);
            keys::find_repeats(job.input, job.plan, &scratch, &options.run, *monitor)?;
        }
        Ok(())
    }

    /// Sends everything, and makes it visible.
    fn finish(
        self,
        mut planned: LoadPlan,
        run: &RunOptions,
        encoder: ErasedEncoder<'_>,
        sink: ErasedSink<'_>,
    ) -> Result<LoadReport, LoadError> {
        let gate = self.job.gate.clone();
        let (job, monitor) = (self.job.clone(), self.monitor);
        let (account, done, rejects_frame) =
            self.send(run, encoder, sink).map_err(|error| match error {
                LoadError::Target(error) => LoadError::Target(located(error, &job, run, monitor)),
                other => other,
            })?;
        planned.notes.extend(done.note.clone());
        // It is visible; what was set aside is too.
        let rejects = gate.publish().map_err(|error| LoadError::InPlace(error.to_string()))?;
        Ok(LoadReport { account, rejects, rejects_frame, plan: planned, done })
    }

    /// Sends everything, and makes it visible.
    fn send(
        self,
        run: &RunOptions,
        encoder: ErasedEncoder<'_>,
        mut sink: ErasedSink<'_>,
    ) -> Result<(Account, Done, (u64, u64)), LoadError> {
        let LoadRun { job, awaited, folder, options, monitor } = self;
        let Job { input, plan, .. } = job;
        let rejects = Rejects::new(&options.rejects, input, plan);
        let scratch = TempFiles::inside(folder);
        let keys = input.is_stream().then(|| KeyWatch::new(plan, &scratch)).flatten();
        let account = Account::new(plan.schema().columns.len());
        let kept = Mutex::new(Kept { account, rejects, limit: options.misfit_limit });
        let kept_now = || kept.lock().unwrap_or_else(PoisonError::into_inner);
        let work = Work {
            input,
            plan,
            mode: OnMisfit::AsDeclared,
            run: *run,
            sort_memory: options.sort_memory,
            scratch,
            keys: keys.as_ref(),
            refusals: job.refusals,
        };
        let note = |report: BlockReport| kept_now().note(&report, &job);
        let what = match job.refusals.is_empty() {
            true => "loading",
            false => "loading again without what was refused",
        };
        monitor.begin(what, Some(input.bytes()));
        work.encode(&encoder, monitor, note, |encoded| {
            sink.append(encoded, monitor)?;
            kept_now().refuse(&sink.refused(), &job)
        })?;
        sink.settle(monitor)?;
        kept_now().refuse(&sink.refused(), &job)?;
        let Kept { mut account, rejects, .. } =
            kept.into_inner().unwrap_or_else(PoisonError::into_inner);
        account.assert_balance();
        if let Some(limit) = options.misfit_limit {
            within(limit, &account, &job)?;
        }
        drop(work);
        if let Some(keys) = keys {
            keys.finish(input)?.refuse(&plan.schema().layout.key)?;
        }
        input.verify_unchanged().map_err(RunError::from)?;
        let frame = rejects.frame();
        if !options.is_counted
            && let Some(file) = rejects.seal()?
        {
            job.gate.hold(file, awaited);
        }
        if monitor.stopped() {
            return Err(RunError::Interrupted.into());
        }
        monitor.begin("proving", None);
        let proof = sink.prove(monitor)?;
        let done = sink.publish(proof, monitor)?;
        account.leave_out(done.moved.skipped);
        Ok((account, done, frame))
    }
}

/// What is kept of a load while it goes on.
struct Kept<'i> {
    account: Account,
    rejects: Rejects<'i>,
    limit: Option<MisfitLimit>,
}

impl Kept<'_> {
    fn note(&mut self, report: &BlockReport, job: &Job<'_>) -> Result<(), LoadError> {
        self.account.add(&report.account);
        self.check(job)?;
        Ok(self.rejects.write(&report.set_aside)?)
    }

    /// Records whose rows the target refused.
    fn refuse(&mut self, refused: &[SetAside], job: &Job<'_>) -> Result<(), LoadError> {
        if refused.is_empty() {
            return Ok(());
        }
        refused.iter().for_each(|aside| self.account.refuse(aside));
        self.check(job)?;
        Ok(self.rejects.write(refused)?)
    }

    /// A count can only grow; a share is known at the end.
    fn check(&self, job: &Job<'_>) -> Result<(), LoadError> {
        match self.limit {
            Some(limit @ MisfitLimit::Count(_)) => within(limit, &self.account, job),
            _ => Ok(()),
        }
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
            let name = &job.plan.schema().columns[column].name;
            format!("column '{name}{}': '{}'", misfit.path, misfit.value)
        });
        format!("{file}:{}: {column} {}", misfit.place.line, misfit.reason)
    });
    Err(LoadError::TooManyMisfits { misfits, read, limit, first })
}
