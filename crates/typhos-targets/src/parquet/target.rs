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
use arrow_array::cast::AsArray;
use arrow_array::types::{
    Time32MillisecondType, Time32SecondType, TimestampMillisecondType, TimestampSecondType,
};
use arrow_array::{ArrayRef, RecordBatch};
use arrow_schema::{DataType, FieldRef, Schema as ArrowSchema, SchemaRef, TimeUnit};
use typhos_core::run::{Monitor, RunOptions};
use typhos_core::schema::Schema;

use super::form::Form;
use super::partitions::{Partitioned, PartitionedEncoder, Partitions, is_too_many, too_many};
use super::{Writers, block_bytes, fidelity_notes, writers};
use crate::at_once::at_once;
use crate::budget::threads_within;
use crate::preflight::{LoadPlan, plan_file};
use crate::proof::{Facts, Proof};
use crate::whole::{WholeDirectory, WholeFile};
use crate::witness::{Witness, prove_file};
use crate::{Done, Gate, Job, Mode, Moved, Sink, Target, TargetError};

/// Rows that are read back at once.
const READ_ROWS: usize = 8192;

/// Columns that are read back at once.
const READ_COLUMNS: usize = 128;

/// How a directory is shared out to files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Parts {
    /// So many files of about as many rows.
    Count(u32),
    /// A new file once one has so many bytes.
    Bytes(u64),
    /// One file for each partition.
    Partitions,
}

/// A file or directory to be written.
pub(crate) struct ParquetTarget {
    pub path: PathBuf,
    pub parts: Option<Parts>,
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
        let stored = |ty: &arrow_schema::DataType| super::form::stored_name(ty);
        Ok(plan_file(job, &self.path, self.parts.is_some(), &what, notes, &stored))
    }

    fn open(
        self,
        job: &Job<'_>,
        run: &mut RunOptions,
    ) -> Result<(Self::Encoder, Self::Sink), TargetError> {
        let (path, rows, schema) = (self.path, job.plan.arrow(), job.plan.schema());
        let mut form = Form::of(schema, &rows);
        let count = match self.parts {
            Some(Parts::Count(count)) => Some(count),
            _ => None,
        };
        run.block_bytes = block_bytes(&mut form, job.input, count)?;
        // A block and its arrays, the smaller one of which is encoded already.
        let each = run.block_bytes - run.block_bytes / 8;
        run.threads = threads_within(run.threads, job.memory, each);
        let replace = job.mode == Mode::Replace;
        let (place, files) = match self.parts {
            None => {
                let file = WholeFile::create(&path, replace)?;
                let writer = file.writer()?;
                (Place::File(file), vec![writer])
            }
            Some(parts) => {
                let directory = WholeDirectory::create(&path, replace)?;
                let files = match (parts, schema.layout.partition.is_empty()) {
                    (Parts::Count(count), true) => (1..=count.max(1)).collect(),
                    (_, true) => vec![1],
                    (_, false) => Vec::new(),
                };
                let files =
                    files.into_iter().map(|part| part_file(directory.side_path(), "", part));
                let files = files.collect::<Result<_, _>>()?;
                (Place::Directory(directory), files)
            }
        };
        let (encoder, writers) = writers(&path, files, form)?;
        let columns = schema.columns.len();
        let partitions = Partitions::of(schema);
        let encoder = if partitions.is_empty() { encoder } else { encoder.deferred() };
        let encoder = PartitionedEncoder { encoder, partitions };
        let sink = ParquetSink {
            place,
            writers,
            part_bytes: match self.parts {
                Some(Parts::Bytes(bytes)) => Some(bytes),
                _ => None,
            },
            is_partitioned: !schema.layout.partition.is_empty(),
            open: HashMap::new(),
            sent: Facts::new(columns),
            threads: run.threads.get(),
            schema: job.is_proven.then(|| (schema.clone(), rows)),
            gate: job.gate.clone(),
        };
        Ok((Witness { encoder, columns, keeps_facts: job.is_proven }, sink))
    }
}

/// The columns of a batch as they were sent: Parquet has no whole seconds, and stores milliseconds.
fn declared(batch: &RecordBatch, rows: &ArrowSchema) -> Vec<ArrayRef> {
    let columns = batch.columns().iter().zip(rows.fields());
    let column = |(array, field): (&ArrayRef, &FieldRef)| -> ArrayRef {
        match field.data_type() {
            DataType::Timestamp(TimeUnit::Second, _) => {
                let stored = array.as_primitive::<TimestampMillisecondType>();
                Arc::new(stored.unary::<_, TimestampSecondType>(|units| units.div_euclid(1000)))
            }
            DataType::Time32(TimeUnit::Second) => {
                let stored = array.as_primitive::<Time32MillisecondType>();
                Arc::new(stored.unary::<_, Time32SecondType>(|units| units / 1000))
            }
            _ => array.clone(),
        }
    };
    columns.map(column).collect()
}

/// A new file of a directory.
fn part_file(directory: &Path, partition: &str, part: u32) -> Result<File, TargetError> {
    let folder = directory.join(partition);
    std::fs::create_dir_all(&folder).map_err(TargetError::io(&folder))?;
    let name = folder.join(format!("part-{part:05}.parquet"));
    File::create_new(&name).map_err(TargetError::io(&name))
}

enum Place {
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
    place: Place,
    writers: Writers<File>,
    /// The bytes after which a file is followed by another.
    part_bytes: Option<u64>,
    is_partitioned: bool,
    open: HashMap<String, Open>,
    sent: Facts,
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
        let Place::Directory(directory) = &self.place else { return Ok(0) };
        let part = known.map_or(1, |open| open.part + 1);
        if is_too_many(self.writers.files.len()) {
            return Err(too_many(&self.writers.path));
        }
        self.writers.add(part_file(directory.side_path(), &partition, part)?)?;
        let writer = self.writers.files.len() - 1;
        self.open.insert(partition, Open { writer, part });
        Ok(writer)
    }

    /// Reads back what was written.
    fn read_back(&self, rows: &ArrowSchema, monitor: &dyn Monitor) -> Result<Facts, TargetError> {
        let files = match &self.place {
            Place::File(file) => vec![file.side_path().to_path_buf()],
            Place::Directory(directory) => super::files(directory.side_path())?,
        };
        let mut parts = Vec::new();
        for path in &files {
            let file = File::open(path).map_err(TargetError::io(path))?;
            let known = ArrowReaderMetadata::load(&file, ArrowReaderOptions::default())
                .map_err(|source| TargetError::Parquet { path: path.to_path_buf(), source })?;
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
            let failed = |source| TargetError::Parquet { path: path.to_path_buf(), source };
            let file = File::open(path).map_err(TargetError::io(path))?;
            let builder = ParquetRecordBatchReaderBuilder::new_with_metadata(file, known.clone());
            let columns = columns.start..columns.end.min(rows.fields().len());
            let mask = ProjectionMask::roots(builder.parquet_schema(), columns.clone());
            let builder = builder
                .with_row_groups(vec![*group])
                .with_projection(mask)
                .with_batch_size((*held).clamp(1, READ_ROWS));
            let rows = rows.project(&columns.clone().collect::<Vec<_>>()).expect("columns of it");
            let mut found = Facts::new(columns.len());
            for batch in builder.build().map_err(failed)? {
                if monitor.stopped() {
                    return Err(TargetError::Interrupted);
                }
                let batch = batch.map_err(|error| failed(error.into()))?;
                found.add_columns(batch.num_rows(), &declared(&batch, &rows));
            }
            Ok((columns.start, found))
        };
        let next = AtomicUsize::new(0);
        let work = || -> Result<Facts, TargetError> {
            let mut found = Facts::new(rows.fields().len());
            while let Some(part) = parts.get(next.fetch_add(1, Ordering::Relaxed)) {
                let (from, part) = read(part)?;
                found.merge_columns(from, part);
            }
            Ok(found)
        };
        let mut all = Facts::new(rows.fields().len());
        for facts in at_once((0..self.threads).map(|_| work)) {
            all.merge(facts?);
        }
        Ok(all)
    }
}

impl Sink for ParquetSink {
    type Encoded = (Partitioned, Facts);

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

    fn finish(mut self, monitor: &dyn Monitor) -> Result<Done, TargetError> {
        if self.writers.files.is_empty()
            && let Place::Directory(directory) = &self.place
        {
            // Where there are no rows there are no partitions; a file without rows says what they would be.
            self.writers.add(part_file(directory.side_path(), "", 1)?)?;
        }
        let path = self.writers.path.clone();
        self.writers.close(|file| file.sync_all().map_err(TargetError::io(&path)))?;
        let proof = match &self.schema {
            None => Proof::Skipped,
            Some((schema, rows)) => {
                let found = self.read_back(rows, monitor)?;
                prove_file(path.display().to_string(), schema, &self.sent, &found)?
            }
        };
        self.gate.pass()?;
        match self.place {
            Place::File(file) => file.keep(),
            Place::Directory(directory) => directory.keep(),
        }?;
        Ok(Done {
            proof,
            moved: Moved { inserted: self.sent.rows, ..Moved::default() },
            note: None,
        })
    }
}
