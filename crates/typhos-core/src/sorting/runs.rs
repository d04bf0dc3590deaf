//! Runs: stretches of rows that are in order, in memory or in temporary files.

use std::fs::File;
use std::io::{BufReader, BufWriter};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_ipc::reader::StreamReader;
use arrow_ipc::writer::StreamWriter;
use arrow_schema::{ArrowError, SchemaRef};
use tempfile::TempDir;

use super::merge::Merge;
use super::{SortError, SortOrder};
use crate::unfinished::{self, Listed};

/// Bytes that sorting may take in all, where nothing is said.
pub const DEFAULT_SORT_MEMORY: usize = 256 << 20;

/// Less than this is not enough to merge with.
pub const LEAST_SORT_MEMORY: usize = 64 << 20;

/// Most runs that are merged at once: a stretch of each is held in memory.
const FAN_IN: usize = 64;

/// Most rows of a stretch, and about how many bytes it has at most.
const STRETCH_ROWS: usize = 8192;
const STRETCH_BYTES: usize = 1 << 20;

/// The name of folders with runs, before a few random letters.
const PREFIX: &str = ".typhos-unfinished-sort-";

/// Runs of rows, in the order in which they came.
#[derive(Debug)]
pub struct Runs {
    order: Arc<SortOrder>,
    schema: SchemaRef,
    runs: Vec<Run>,
    /// Bytes that runs may take in memory, and how many they do.
    room: usize,
    held: usize,
    rows: u64,
    folder: PathBuf,
    /// The folder of temporary files, and a handle that keeps it locked.
    files: Option<(TempDir, Held)>,
    made: usize,
}

/// What keeps a folder of temporary files from being taken for one that was left behind.
#[derive(Debug)]
pub(super) struct Held {
    _lock: File,
    _listed: Listed,
}

#[derive(Debug)]
pub(super) enum Run {
    Memory(RecordBatch),
    File(PathBuf),
}

impl Runs {
    /// No runs yet. Temporary files are put into `folder`, and are gone when this is dropped. Of `memory`
    /// bytes half are for runs; the rest is left for the work around them.
    pub fn new(order: Arc<SortOrder>, schema: SchemaRef, memory: usize, folder: &Path) -> Runs {
        Runs {
            order,
            schema,
            runs: Vec::new(),
            room: memory / 2,
            held: 0,
            rows: 0,
            folder: folder.to_path_buf(),
            files: None,
            made: 0,
        }
    }

    /// Adds rows that are in order, behind all that came before.
    ///
    /// # Errors
    /// A temporary file that cannot be written.
    pub fn push(&mut self, batch: RecordBatch) -> Result<(), SortError> {
        if batch.num_rows() == 0 {
            return Ok(());
        }
        self.rows += batch.num_rows() as u64;
        let bytes = batch.get_array_memory_size();
        if self.held + bytes <= self.room {
            self.held += bytes;
            self.runs.push(Run::Memory(batch));
            return Ok(());
        }
        let file = self.write(stretches(batch).map(Ok))?;
        self.runs.push(file);
        Ok(())
    }

    /// Rows in all runs.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// Merges all runs. Where they are too many to be merged at once, some are merged into larger ones
    /// first.
    ///
    /// # Errors
    /// A temporary file that cannot be written or read.
    pub fn merge(mut self) -> Result<Merge, SortError> {
        while self.runs.len() > FAN_IN {
            // Neighbours, so that equal rows keep their order.
            let runs = std::mem::take(&mut self.runs);
            let mut runs = runs.into_iter().peekable();
            while runs.peek().is_some() {
                let few: Vec<Run> = runs.by_ref().take(FAN_IN).collect();
                let merged = self.merge_few(few)?;
                self.runs.push(merged);
            }
        }
        let runs = std::mem::take(&mut self.runs);
        let sources = runs.into_iter().map(|run| self.open(run)).collect::<Result<_, _>>()?;
        Merge::new(self.order, self.schema, sources, self.folder, self.files)
    }

    fn merge_few(&mut self, few: Vec<Run>) -> Result<Run, SortError> {
        let paths: Vec<PathBuf> = few
            .iter()
            .filter_map(|run| match run {
                Run::File(path) => Some(path.clone()),
                Run::Memory(_) => None,
            })
            .collect();
        let sources = few.into_iter().map(|run| self.open(run)).collect::<Result<_, _>>()?;
        let (order, schema) = (self.order.clone(), self.schema.clone());
        let mut merge = Merge::new(order, schema, sources, self.folder.clone(), None)?;
        let rows = std::iter::from_fn(|| merge.next(STRETCH_ROWS).transpose());
        let merged = self.write(rows)?;
        for path in paths {
            std::fs::remove_file(&path).map_err(self.io())?;
        }
        Ok(merged)
    }

    fn write(
        &mut self,
        batches: impl Iterator<Item = Result<RecordBatch, SortError>>,
    ) -> Result<Run, SortError> {
        if self.files.is_none() {
            let mut builder = tempfile::Builder::new();
            builder.prefix(PREFIX);
            // As long as it is locked, nobody takes it for one that was left behind; before that somebody may.
            let (files, held) = loop {
                let files = builder.tempdir_in(&self.folder).map_err(self.io())?;
                let held = match File::open(files.path()) {
                    Err(error) if error.kind() == std::io::ErrorKind::NotFound => continue,
                    held => held.map_err(self.io())?,
                };
                held.lock().map_err(self.io())?;
                if files.path().exists() {
                    break (files, held);
                }
            };
            let listed = unfinished::list(files.path());
            self.files = Some((files, Held { _lock: held, _listed: listed }));
        }
        let folder = self.files.as_ref().map_or(self.folder.as_path(), |(files, _)| files.path());
        let path = folder.join(format!("run-{}", self.made));
        self.made += 1;
        let file = File::create_new(&path).map_err(self.io())?;
        let failed = |source| arrow_failed(&self.folder, source);
        let mut writer =
            StreamWriter::try_new(BufWriter::with_capacity(1 << 20, file), &self.schema)
                .map_err(failed)?;
        for batch in batches {
            writer.write(&batch?).map_err(failed)?;
        }
        // What is still in the buffer is written here, where an error is seen.
        let buffer = writer.into_inner().map_err(failed)?;
        buffer.into_inner().map_err(|error| self.io()(error.into_error()))?;
        Ok(Run::File(path))
    }

    fn open(&self, run: Run) -> Result<Source, SortError> {
        Ok(match run {
            Run::Memory(batch) => Source::Memory(Box::new(stretches(batch))),
            Run::File(path) => {
                let file = File::open(&path).map_err(self.io())?;
                let reader = StreamReader::try_new(BufReader::new(file), None)
                    .map_err(|source| arrow_failed(&self.folder, source))?;
                Source::File(Box::new(reader))
            }
        })
    }

    fn io(&self) -> impl Fn(std::io::Error) -> SortError + use<> {
        let folder = self.folder.clone();
        move |source| SortError::Io { folder: folder.clone(), source }
    }
}

pub(super) fn arrow_failed(folder: &Path, source: ArrowError) -> SortError {
    let folder = folder.to_path_buf();
    match source {
        ArrowError::IoError(_, source) => SortError::Io { folder, source },
        source => SortError::Arrow { folder, source },
    }
}

/// A run that is being read, a stretch at a time.
pub(super) enum Source {
    Memory(Box<dyn Iterator<Item = RecordBatch> + Send>),
    File(Box<StreamReader<BufReader<File>>>),
}

impl Source {
    pub fn next(&mut self) -> Option<Result<RecordBatch, ArrowError>> {
        match self {
            Source::Memory(stretches) => stretches.next().map(Ok),
            Source::File(reader) => reader.next(),
        }
    }
}

/// Rows in stretches that are small enough to hold one of each run.
fn stretches(batch: RecordBatch) -> impl Iterator<Item = RecordBatch> + Send + use<> {
    let rows = batch.num_rows();
    let bytes = batch.get_array_memory_size();
    let stretch = (STRETCH_BYTES * rows / bytes.max(1)).clamp(1, STRETCH_ROWS);
    (0..rows).step_by(stretch).map(move |at| batch.slice(at, stretch.min(rows - at)))
}
