//! A load into Parquet: a file, or a directory of parts and partitions that appear together.

use std::collections::HashMap;
use std::fs::File;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use ::parquet::arrow::ProjectionMask;
use ::parquet::arrow::arrow_reader::{
    ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReaderBuilder,
};
use ::parquet::errors::ParquetError;
use arrow_array::{ArrayRef, RecordBatch};
use arrow_schema::{Schema as ArrowSchema, SchemaRef};
use serde_json::Value;
use typhos_core::columns::Plan;
use typhos_core::run::{Monitor, RunOptions};
use typhos_core::schema::{Partition, Schema};

use super::blocks::block_bytes;
use super::form::{Form, fidelity_notes, stored_name};
use super::partitions::{Partitioned, PartitionedEncoder, Partitions, is_too_many, too_many};
use super::read::{files, rows_of};
use super::recast::declared_array;
use super::writers::{Writers, writers};
use typhos_load::at_once::at_once;
use typhos_load::budget::threads_within;
use typhos_load::proof::{Proof, SentFacts};
use typhos_load::stage::{Published, Publishing, Stage, TakesParts, publish_directory};
use typhos_load::whole::{WholeDirectory, WholeFile};
use typhos_load::witness::{Witness, prove_file};
use typhos_load::{
    DataFile, Destination, Done, Gate, Job, LoadPlan, Mode, Moved, Parts, Sink, Target,
    TargetError, TargetKind, Written, plan_file,
};

/// Rows that are read back at once.
const READ_ROWS: usize = 8192;

/// Columns that are read back at once.
const READ_COLUMNS: usize = 128;

/// A file, or a directory of parts and partitions.
pub const KIND: TargetKind = TargetKind {
    name: "a Parquet file",
    schemes: &[],
    extensions: &["parquet"],
    has_parts: true,
    open: |address| {
        let path = address.into.into();
        Ok(Box::new(ParquetTarget { path, parts: address.parts, within: None }))
    },
    probe: None,
};

/// A file or directory to be written.
#[derive(Debug, Clone)]
pub(crate) struct ParquetTarget {
    pub path: PathBuf,
    pub parts: Option<Parts>,
    /// The table that the files are to be part of.
    pub within: Option<InTable>,
}

/// How files are written that are to be part of a table of a lake.
#[derive(Debug, Clone)]
pub struct InTable {
    /// The columns as they are stored, under the numbers of the table.
    pub stored: SchemaRef,
    /// How rows are shared out to files.
    pub partition: Vec<Partition>,
}

impl Written for ParquetTarget {
    fn output(&self) -> &Path {
        &self.path
    }

    fn parted(&self) -> Option<&dyn TakesParts> {
        self.parts.is_some().then_some(self)
    }
}

impl TakesParts for ParquetTarget {
    fn refuses(&self, mode: Mode) -> Option<&'static str> {
        let is_taken = matches!(mode, Mode::Create | Mode::Replace);
        (!is_taken).then_some("a directory of Parquet files is created or replaced")
    }

    fn stage(&self) -> PathBuf {
        Stage::beside(&self.path)
    }

    fn part(
        &self,
        _plan: &Plan,
        _mode: Mode,
        folder: &Path,
    ) -> Result<(Box<dyn Destination>, Value), TargetError> {
        Ok((Box::new(ParquetTarget { path: folder.to_path_buf(), ..self.clone() }), Value::Null))
    }

    fn rows_of(&self, file: &Path) -> Result<u64, TargetError> {
        rows_of(file)
    }

    fn publish(
        &self,
        parts: &Publishing<'_>,
        monitor: &dyn Monitor,
    ) -> Result<Published, TargetError> {
        publish_directory(&self.path, parts, monitor)
    }
}

impl Target for ParquetTarget {
    type Encoder = Witness<PartitionedEncoder>;
    type Sink = ParquetSink;

    fn plan(&mut self, job: &Job<'_>) -> Result<LoadPlan, TargetError> {
        let notes = fidelity_notes(&job.plan.arrow());
        let partition = &job.plan.schema().layout.partition;
        let what = match self.parts {
            None => "a Parquet file".to_owned(),
            Some(Parts::Count(count)) => format!("a directory of {count} Parquet files"),
            Some(Parts::Bytes(bytes)) => {
                format!(
                    "a directory of Parquet files of about {}",
                    typhos_core::text::size_name(bytes as usize)
                )
            }
            Some(Parts::Partitions) => "a directory of Parquet files".to_owned(),
        };
        let by: Vec<_> = partition.iter().map(|partition| partition.label()).collect();
        let what = match &by[..] {
            [] => what,
            _ => format!("{what}, by {}", typhos_core::wording::listed(&by)),
        };
        Ok(plan_file(job, &self.path, self.parts.is_some(), &what, notes, &stored_name))
    }

    fn stage(
        self,
        job: &Job<'_>,
        run: &mut RunOptions,
    ) -> Result<(Self::Encoder, Self::Sink), TargetError> {
        let (path, rows, schema) = (self.path, job.plan.arrow(), job.plan.schema());
        let (mut form, partition) = match self.within {
            None => (Form::of(schema, &rows), schema.layout.partition.clone()),
            Some(table) => (Form::in_table(table.stored, schema, &rows), table.partition),
        };
        let count = match self.parts {
            Some(Parts::Count(count)) => Some(count),
            _ => None,
        };
        run.block_bytes = block_bytes(&mut form, job.input, count)?;
        // A block and its arrays, the smaller one of which is encoded already.
        let each = run.block_bytes - run.block_bytes / 8;
        run.threads = threads_within(run.threads, job.memory, each);
        let replace = job.mode == Mode::Replace;
        let mut names = vec![PathBuf::new()];
        let (output, files) = match self.parts {
            None => {
                let file = WholeFile::create(&path, replace)?;
                let writer = file.writer()?;
                (Output::File(file), vec![writer])
            }
            Some(parts) => {
                let directory = WholeDirectory::create(&path, replace)?;
                let numbers = match (parts, partition.is_empty()) {
                    (Parts::Count(count), true) => (1..=count.max(1)).collect(),
                    (_, true) => vec![1],
                    (_, false) => Vec::new(),
                };
                let parts: Vec<PathBuf> =
                    numbers.into_iter().map(|part| part_name("", part)).collect();
                let files = parts.iter().map(|name| part_file(directory.side_path(), name));
                let files = files.collect::<Result<_, _>>()?;
                names = parts;
                (Output::Directory(directory), files)
            }
        };
        let (encoder, writers) = writers(&path, files, form)?;
        let columns = schema.columns.len();
        let partitions = Partitions::of(schema, &partition);
        let encoder = if partitions.is_empty() { encoder } else { encoder.deferred() };
        let encoder = PartitionedEncoder { encoder, partitions };
        let sink = ParquetSink {
            output,
            writers,
            names,
            files: Vec::new(),
            part_bytes: match self.parts {
                Some(Parts::Bytes(bytes)) => Some(bytes),
                _ => None,
            },
            is_partitioned: !partition.is_empty(),
            open: HashMap::new(),
            sent: SentFacts::new(columns),
            threads: run.threads.get(),
            schema: job.is_proven.then(|| (schema.clone(), rows)),
            gate: job.gate.clone(),
        };
        Ok((Witness { encoder, columns, keeps_facts: job.is_proven, flat: Vec::new() }, sink))
    }
}

/// The columns of a batch as they were sent: Parquet has no whole seconds, and stores milliseconds.
fn declared(batch: &RecordBatch, rows: &ArrowSchema) -> Vec<ArrayRef> {
    let columns = batch.columns().iter().zip(rows.fields());
    columns.map(|(array, field)| declared_array(array, field)).collect()
}

/// The name of a file inside a directory.
fn part_name(partition: &str, part: u32) -> PathBuf {
    Path::new(partition).join(format!("part-{part:05}.parquet"))
}

/// A new file of a directory.
fn part_file(directory: &Path, name: &Path) -> Result<File, TargetError> {
    let path = directory.join(name);
    let folder = path.parent().unwrap_or(directory);
    std::fs::create_dir_all(folder).map_err(TargetError::io(folder))?;
    File::create_new(&path).map_err(TargetError::io(&path))
}

/// What is written.
enum Output {
    File(WholeFile),
    Directory(WholeDirectory),
}

/// The file that rows of a partition go to.
#[derive(Clone, Copy)]
struct Open {
    writer: usize,
    part: u32,
}

/// Appends row groups, and names the output when it is whole.
pub struct ParquetSink {
    output: Output,
    writers: Writers<File>,
    /// For each writer, where its file is inside of the output.
    names: Vec<PathBuf>,
    /// What was written, once it is.
    files: Vec<DataFile>,
    /// The bytes after which a file is followed by another.
    part_bytes: Option<u64>,
    is_partitioned: bool,
    open: HashMap<String, Open>,
    sent: SentFacts,
    /// Threads that read it back.
    threads: usize,
    /// What is written, where it is to be proven.
    schema: Option<(Schema, SchemaRef)>,
    gate: Arc<Gate>,
}

impl ParquetSink {
    /// The writer that rows of a partition go to now.
    fn writer_of(&mut self, partition: String) -> Result<usize, TargetError> {
        let known = match self.open.get(&partition) {
            Some(open) => Some(*open),
            // Where nothing is partitioned, the first file is there already.
            None => (!self.is_partitioned).then_some(Open { writer: 0, part: 1 }),
        };
        let is_full = |open: &Open| {
            self.part_bytes.is_some_and(|most| self.writers.written(open.writer) >= most)
        };
        if let Some(open) = known.filter(|open| !is_full(open)) {
            return Ok(open.writer);
        }
        let Output::Directory(directory) = &self.output else { return Ok(0) };
        let part = known.map_or(1, |open| open.part + 1);
        if is_too_many(self.writers.files.len()) {
            return Err(too_many(&self.writers.path));
        }
        let name = part_name(&partition, part);
        self.writers.add(part_file(directory.side_path(), &name)?)?;
        self.names.push(name);
        let writer = self.writers.files.len() - 1;
        self.open.insert(partition, Open { writer, part });
        Ok(writer)
    }

    /// Gives the output its name. Returns its files, and the rows in all of them.
    pub(crate) fn keep(self) -> Result<(Vec<DataFile>, u64), TargetError> {
        match self.output {
            Output::File(file) => file.keep(),
            Output::Directory(directory) => directory.keep(),
        }?;
        Ok((self.files, self.sent.rows))
    }

    /// Reads back what was written.
    fn read_back(
        &self,
        rows: &ArrowSchema,
        monitor: &dyn Monitor,
    ) -> Result<SentFacts, TargetError> {
        let files = match &self.output {
            Output::File(file) => vec![file.side_path().to_path_buf()],
            Output::Directory(directory) => files(directory.side_path())?,
        };
        let mut parts = Vec::new();
        for path in &files {
            let file = File::open(path).map_err(TargetError::io(path))?;
            let known = ArrowReaderMetadata::load(&file, ArrowReaderOptions::default()).map_err(
                |source: ParquetError| TargetError::Format {
                    path: path.to_path_buf(),
                    source: source.into(),
                },
            )?;
            let metadata = known.metadata();
            for group in 0..metadata.num_row_groups() {
                let held = usize::try_from(metadata.row_group(group).num_rows()).unwrap_or(0);
                // A reader of a column holds some 25 KiB before it reads.
                let starts = (0..rows.fields().len()).step_by(READ_COLUMNS);
                parts.extend(
                    starts
                        .map(|from| (path, known.clone(), group, held, from..from + READ_COLUMNS)),
                );
            }
        }
        type Part<'p> = (&'p PathBuf, ArrowReaderMetadata, usize, usize, Range<usize>);
        let read = |(path, known, group, held, columns): &Part<'_>| {
            let failed = |source: ParquetError| TargetError::Format {
                path: path.to_path_buf(),
                source: source.into(),
            };
            let file = File::open(path).map_err(TargetError::io(path))?;
            let builder = ParquetRecordBatchReaderBuilder::new_with_metadata(file, known.clone());
            let columns = columns.start..columns.end.min(rows.fields().len());
            let mask = ProjectionMask::roots(builder.parquet_schema(), columns.clone());
            let builder = builder
                .with_row_groups(vec![*group])
                .with_projection(mask)
                .with_batch_size((*held).clamp(1, READ_ROWS));
            let rows = rows.project(&columns.clone().collect::<Vec<_>>()).expect("columns of it");
            let mut found = SentFacts::new(columns.len());
            for batch in builder.build().map_err(failed)? {
                if monitor.stopped() {
                    return Err(TargetError::Interrupted);
                }
                let batch = batch.map_err(|error| failed(error.into()))?;
                found.add_columns(batch.num_rows(), rows.fields(), &declared(&batch, &rows));
            }
            Ok((columns.start, found))
        };
        let next = AtomicUsize::new(0);
        let work = || -> Result<SentFacts, TargetError> {
            let mut found = SentFacts::new(rows.fields().len());
            while let Some(part) = parts.get(next.fetch_add(1, Ordering::Relaxed)) {
                let (from, part) = read(part)?;
                found.merge_columns(from, part);
            }
            Ok(found)
        };
        let mut all = SentFacts::new(rows.fields().len());
        for facts in at_once((0..self.threads).map(|_| work)) {
            all.merge(facts?);
        }
        Ok(all)
    }
}

impl Sink for ParquetSink {
    type Encoded = (Partitioned, SentFacts);

    fn append(
        &mut self,
        (Partitioned(groups), facts): Self::Encoded,
        _monitor: &dyn Monitor,
    ) -> Result<(), TargetError> {
        self.sent.merge(facts);
        for (partition, mut groups) in groups {
            if self.is_partitioned || self.part_bytes.is_some() {
                groups.part = self.writer_of(partition)?;
            }
            self.writers.append(groups)?;
        }
        Ok(())
    }

    fn prove(&mut self, monitor: &dyn Monitor) -> Result<Proof, TargetError> {
        if self.writers.files.is_empty()
            && let Output::Directory(directory) = &self.output
        {
            // Where there are no rows there are no partitions; a file without rows says what they would be.
            let name = part_name("", 1);
            self.writers.add(part_file(directory.side_path(), &name)?)?;
            self.names.push(name);
        }
        let path = self.writers.path.clone();
        let mut names = self.names.iter();
        self.writers.close(|file, rows| {
            file.sync_all().map_err(TargetError::io(&path))?;
            let bytes = file.metadata().map_err(TargetError::io(&path))?.len();
            let path = match names.next() {
                Some(name) if !name.as_os_str().is_empty() => path.join(name),
                _ => path.clone(),
            };
            self.files.push(DataFile { path, rows, bytes });
            Ok(())
        })?;
        match &self.schema {
            None => Ok(Proof::Skipped),
            Some((schema, rows)) => {
                let found = self.read_back(rows, monitor)?;
                prove_file(path.display().to_string(), schema, &self.sent, &found)
            }
        }
    }

    fn publish(self, proof: Proof, _monitor: &dyn Monitor) -> Result<Done, TargetError> {
        self.gate.pass()?;
        let (files, inserted) = self.keep()?;
        Ok(Done { proof, moved: Moved { inserted, ..Moved::default() }, files, note: None })
    }
}
