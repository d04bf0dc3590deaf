//! Parquet: one file, or a directory of parts.
//!
//! Each block of the input becomes a row group, encoded and compressed on the thread that converted
//! it; the sink only appends bytes. Parquet has no times in whole seconds, so those are stored in
//! milliseconds; everything else is stored as declared, and the Arrow schema is embedded.

use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ::parquet::arrow::ArrowWriter;
use ::parquet::arrow::arrow_reader::{ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder};
use ::parquet::arrow::arrow_writer::{
    ArrowColumnChunk, ArrowColumnWriter, ArrowRowGroupWriterFactory, compute_leaves,
};
use ::parquet::basic::{Compression, ZstdLevel};
use ::parquet::errors::ParquetError;
use ::parquet::file::properties::WriterProperties;
use ::parquet::file::writer::SerializedFileWriter;
use arrow_array::types::{
    Time32MillisecondType, Time32SecondType, TimestampMillisecondType, TimestampSecondType,
};
use arrow_array::{Array, ArrayRef, PrimitiveArray, RecordBatch, cast::AsArray};
use arrow_schema::{DataType, Field, Schema as ArrowSchema, SchemaRef, TimeUnit};

use crate::whole::{WholeDirectory, WholeFile};
use crate::{EncodeUnit, Encoder, Sink, TargetError};

/// Bytes of input that become one row group.
pub const ROW_GROUP_INPUT_BYTES: usize = 32 << 20;

/// The fastest level of zstd: with it demo tickets take 18 % of the bytes of their text.
const ZSTD_LEVEL: i32 = 1;

/// Opens a Parquet target at `path`: a file, or with `parts` a directory of so many files.
///
/// `input_bytes` is what the parts are shared out by.
///
/// # Errors
/// An output that exists and is not to be replaced, or a place that cannot be written to.
pub fn open(
    path: &Path,
    parts: Option<u32>,
    replace: bool,
    schema: &ArrowSchema,
    input_bytes: u64,
) -> Result<(ParquetEncoder, ParquetSink), TargetError> {
    let stored = stored_schema(schema);
    let (place, files) = match parts {
        None => {
            let file = WholeFile::create(path, replace)?;
            let writer = file.writer()?;
            (Place::File(file), vec![writer])
        }
        Some(parts) => {
            let directory = WholeDirectory::create(path, replace)?;
            let files = (0..parts.max(1)).map(|part| {
                let name = directory.side_path().join(format!("part-{:05}.parquet", part + 1));
                File::create_new(&name).map_err(TargetError::io(&name))
            });
            let files = files.collect::<Result<_, _>>()?;
            (Place::Directory(directory), files)
        }
    };
    let failed = |source| TargetError::Parquet { path: path.to_path_buf(), source };
    let mut writers = Vec::new();
    let mut factory = None;
    for file in files {
        let writer =
            ArrowWriter::try_new(file, stored.clone(), Some(properties())).map_err(failed)?;
        let (writer, made) = writer.into_serialized_writer().map_err(failed)?;
        factory.get_or_insert(made);
        writers.push(writer);
    }
    let encoder = ParquetEncoder {
        factory: factory.expect("there is at least one part"),
        schema: stored,
        path: path.to_path_buf(),
        parts: writers.len() as u64,
        input_bytes,
    };
    Ok((encoder, ParquetSink { place, writers, path: path.to_path_buf() }))
}

fn properties() -> WriterProperties {
    WriterProperties::builder()
        .set_compression(Compression::ZSTD(
            ZstdLevel::try_new(ZSTD_LEVEL).expect("a level of zstd"),
        ))
        .set_created_by(concat!("typhos ", env!("CARGO_PKG_VERSION")).to_owned())
        .build()
}

/// The schema as Parquet can hold it: no times in whole seconds.
fn stored_schema(schema: &ArrowSchema) -> SchemaRef {
    let fields = schema.fields().iter().map(|field| {
        let stored = match field.data_type() {
            DataType::Timestamp(TimeUnit::Second, zone) => {
                DataType::Timestamp(TimeUnit::Millisecond, zone.clone())
            }
            DataType::Time32(TimeUnit::Second) => DataType::Time32(TimeUnit::Millisecond),
            other => other.clone(),
        };
        Field::new(field.name(), stored, field.is_nullable())
            .with_metadata(field.metadata().clone())
    });
    Arc::new(ArrowSchema::new(fields.collect::<Vec<_>>()))
}

/// What is stored otherwise than declared, a sentence each.
pub fn fidelity_notes(schema: &ArrowSchema) -> Vec<String> {
    let stored = stored_schema(schema);
    let changed = schema
        .fields()
        .iter()
        .zip(stored.fields())
        .filter(|(ours, theirs)| ours.data_type() != theirs.data_type());
    changed
        .map(|(field, _)| {
            format!("'{}' is stored in milliseconds: Parquet has no whole seconds", field.name())
        })
        .collect()
}

fn stored_array(array: &ArrayRef) -> ArrayRef {
    // The range of seconds of years 1 to 9999 stays far within that of milliseconds.
    match array.data_type() {
        DataType::Timestamp(TimeUnit::Second, zone) => {
            let millis: PrimitiveArray<TimestampMillisecondType> =
                array.as_primitive::<TimestampSecondType>().unary(|seconds| seconds * 1000);
            Arc::new(millis.with_timezone_opt(zone.clone()))
        }
        DataType::Time32(TimeUnit::Second) => {
            let millis: PrimitiveArray<Time32MillisecondType> =
                array.as_primitive::<Time32SecondType>().unary(|seconds| seconds * 1000);
            Arc::new(millis)
        }
        _ => array.clone(),
    }
}

/// Makes row groups.
pub struct ParquetEncoder {
    factory: ArrowRowGroupWriterFactory,
    schema: SchemaRef,
    path: PathBuf,
    parts: u64,
    input_bytes: u64,
}

impl Encoder for ParquetEncoder {
    type Encoded = RowGroup;
    type Unit = RowGroupUnit;

    fn begin(&self, offset: u64) -> Result<RowGroupUnit, TargetError> {
        let failed = |source| TargetError::Parquet { path: self.path.clone(), source };
        let columns = self.factory.create_column_writers(0).map_err(failed)?;
        let part =
            (offset * self.parts).checked_div(self.input_bytes).unwrap_or(0).min(self.parts - 1);
        Ok(RowGroupUnit {
            columns,
            schema: self.schema.clone(),
            path: self.path.clone(),
            part: part as usize,
            rows: 0,
        })
    }
}

/// A row group being encoded.
pub struct RowGroupUnit {
    columns: Vec<ArrowColumnWriter>,
    schema: SchemaRef,
    path: PathBuf,
    part: usize,
    rows: usize,
}

/// An encoded row group.
pub struct RowGroup {
    chunks: Vec<ArrowColumnChunk>,
    part: usize,
    rows: usize,
}

impl EncodeUnit for RowGroupUnit {
    type Encoded = RowGroup;

    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError> {
        self.rows += batch.num_rows();
        let mut writers = self.columns.iter_mut();
        let mut write = |field: &Field, array: &ArrayRef| -> Result<(), ParquetError> {
            for leaf in compute_leaves(field, &stored_array(array))? {
                writers.next().expect("a writer for every leaf").write(&leaf)?;
            }
            Ok(())
        };
        for (field, array) in self.schema.fields().iter().zip(batch.columns()) {
            write(field, array)
                .map_err(|source| TargetError::Parquet { path: self.path.clone(), source })?;
        }
        Ok(())
    }

    fn finish(self) -> Result<RowGroup, TargetError> {
        let failed = |source| TargetError::Parquet { path: self.path.clone(), source };
        let chunks = self
            .columns
            .into_iter()
            .map(ArrowColumnWriter::close)
            .collect::<Result<_, _>>()
            .map_err(failed)?;
        Ok(RowGroup { chunks, part: self.part, rows: self.rows })
    }
}

enum Place {
    File(WholeFile),
    Directory(WholeDirectory),
}

/// Appends row groups, and names the output when it is whole.
pub struct ParquetSink {
    place: Place,
    writers: Vec<SerializedFileWriter<File>>,
    path: PathBuf,
}

impl Sink for ParquetSink {
    type Encoded = RowGroup;

    fn append(&mut self, row_group: RowGroup) -> Result<(), TargetError> {
        if row_group.rows == 0 {
            return Ok(());
        }
        let writer = &mut self.writers[row_group.part];
        let append = || -> Result<(), ParquetError> {
            let mut open = writer.next_row_group()?;
            for chunk in row_group.chunks {
                chunk.append_to_row_group(&mut open)?;
            }
            open.close()?;
            Ok(())
        };
        append().map_err(|source| TargetError::Parquet { path: self.path.clone(), source })
    }

    fn finish(self) -> Result<(), TargetError> {
        for writer in self.writers {
            let file = writer
                .into_inner()
                .map_err(|source| TargetError::Parquet { path: self.path.clone(), source })?;
            file.sync_all().map_err(TargetError::io(&self.path))?;
        }
        match self.place {
            Place::File(file) => file.keep(),
            Place::Directory(directory) => directory.keep(),
        }
    }
}

/// The Parquet files at a path: the file itself, or all parts in a directory, in order.
///
/// # Errors
/// A path that cannot be read, and a directory without Parquet files.
pub fn files(path: &Path) -> Result<Vec<PathBuf>, TargetError> {
    if !path.is_dir() {
        return Ok(vec![path.to_path_buf()]);
    }
    let mut files = Vec::new();
    for entry in std::fs::read_dir(path).map_err(TargetError::io(path))? {
        let file = entry.map_err(TargetError::io(path))?.path();
        if file.extension().is_some_and(|extension| extension == "parquet") {
            files.push(file);
        }
    }
    files.sort();
    if files.is_empty() {
        let what = "has no Parquet files in it".into();
        return Err(TargetError::NotThat { path: path.to_path_buf(), what });
    }
    Ok(files)
}

/// The first rows of what was loaded, and how many there are.
///
/// # Errors
/// Files that cannot be read or are no Parquet.
pub fn head(path: &Path, rows: usize) -> Result<(SchemaRef, Vec<RecordBatch>, u64), TargetError> {
    let mut total = 0;
    let mut batches: Vec<RecordBatch> = Vec::new();
    let mut schema = None;
    let mut missing = rows;
    for file in files(path)? {
        let failed = |source| TargetError::Parquet { path: file.clone(), source };
        let open = File::open(&file).map_err(TargetError::io(&file))?;
        let builder = ParquetRecordBatchReaderBuilder::try_new(open).map_err(failed)?;
        total += builder.metadata().file_metadata().num_rows().unsigned_abs();
        schema.get_or_insert_with(|| builder.schema().clone());
        if missing > 0 {
            let reader: ParquetRecordBatchReader =
                builder.with_limit(missing).build().map_err(failed)?;
            for batch in reader {
                let batch = batch.map_err(|error| failed(error.into()))?;
                missing -= batch.num_rows();
                batches.push(batch);
            }
        }
    }
    Ok((schema.expect("there is at least one file"), batches, total))
}
