//! Parquet: one file, or a directory of parts.
//!
//! Each block of the input becomes a row group, encoded and compressed on the thread that converted
//! it; the sink only appends bytes. [`form`] says how files are written, [`read`] reads them back.

mod encoding;
mod footprint;
mod form;
mod partitions;
mod read;
mod target;

use std::io::Write;
use std::path::{Path, PathBuf};

use ::parquet::arrow::ArrowWriter;
use ::parquet::arrow::arrow_writer::{
    ArrowColumnChunk, ArrowColumnWriter, ArrowRowGroupWriterFactory, ArrowWriterOptions,
    compute_leaves,
};
use ::parquet::errors::ParquetError;
use ::parquet::file::writer::SerializedFileWriter;
use arrow_array::{ArrayRef, RecordBatch, StringArray};
use arrow_schema::{Field, SchemaRef};

pub use footprint::Footprint;
pub use form::{Form, SORT_KEY, fidelity_notes};
use form::{Values, leaves, stored_array};
pub use read::{files, head};
pub(crate) use target::ParquetTarget;
pub use target::Parts;

use typhos_core::filter::Filter;
use typhos_core::text::{Input, InputError, mean_record_bytes};

use crate::weigh::Nowhere;
use crate::{EncodeUnit, Encoder, TargetError};

/// Bytes of input that become one row group.
pub const ROW_GROUP_INPUT_BYTES: usize = 32 << 20;

/// Row groups that a file has at least, where they are not too small for it.
const LEAST_ROW_GROUPS: u64 = 12;

/// Bytes of input that are worth a row group.
const LEAST_ROW_GROUP_INPUT_BYTES: usize = 4 << 20;

/// The most bytes of input that are held for one row group, whatever is declared: four of them may be at
/// hand for each thread.
const MOST_BLOCK_BYTES: usize = 64 << 20;

/// Rows of a row group where rows are sorted and nothing else is said.
pub const SORTED_ROW_GROUP: u64 = 250_000;

/// Bytes of input that become one row group where rows are not sorted: about as many as the form asks
/// for, and little enough that each of some parts gets one. The form learns how many rows that will be.
///
/// # Errors
/// An input that cannot be read.
pub fn block_bytes(
    form: &mut Form,
    input: &Input,
    parts: Option<u32>,
) -> Result<usize, InputError> {
    let record = mean_record_bytes(input)?;
    let whole = match form.row_group {
        Some(rows) => {
            let wanted = match record {
                // A little less, so that the rest of a block is not a row group of its own.
                Some(bytes) => bytes * rows as f64 * 0.98,
                None => ROW_GROUP_INPUT_BYTES as f64,
            };
            (wanted as usize).clamp(1 << 16, MOST_BLOCK_BYTES)
        }
        // Enough of them that all threads have work to the end; how many threads there are makes no
        // difference to the file.
        None => ((input.bytes() / LEAST_ROW_GROUPS) as usize)
            .clamp(LEAST_ROW_GROUP_INPUT_BYTES, ROW_GROUP_INPUT_BYTES),
    };
    let whole = if input.bytes() == 0 { ROW_GROUP_INPUT_BYTES } else { whole };
    if let Some(record) = record {
        form.expect_rows((input.bytes().min(whole as u64) as f64 / record) as u64);
    }
    // Each part gets at least one block, where the input is large enough to be shared out; of a stream
    // nobody knows.
    Ok(match parts {
        Some(parts) if input.bytes() > 0 => {
            whole.min((input.bytes() / u64::from(parts)).max(1) as usize)
        }
        _ => whole,
    })
}

/// Opens a Parquet target that keeps nothing but sizes, and for a question what a reader has to read.
pub(crate) fn nowhere(
    form: Form,
    rows: SchemaRef,
    filter: Option<&Filter>,
) -> Result<(ParquetEncoder, Counted<'_>), TargetError> {
    let path = crate::weigh::no_path();
    let (encoder, writers) = writers(&path, vec![Nowhere::default()], form)?;
    let columns = vec![0; rows.fields().len()];
    let footprint = filter.map(|filter| (filter, Footprint::default()));
    Ok((encoder, Counted { writers, rows, columns, footprint }))
}

/// A file that is written nowhere, and counted.
pub(crate) struct Counted<'f> {
    writers: Writers<Nowhere>,
    rows: SchemaRef,
    columns: Vec<u64>,
    footprint: Option<(&'f Filter, Footprint)>,
}

/// What a file that is written nowhere would take.
pub(crate) struct Sizes {
    /// Bytes of the pages and dictionaries of each column.
    pub columns: Vec<u64>,
    /// Bytes of the whole file.
    pub file: u64,
    pub footprint: Option<Footprint>,
}

impl Counted<'_> {
    pub fn append(&mut self, encoded: RowGroups) -> Result<(), TargetError> {
        for group in &encoded.groups {
            let leaf: Vec<_> = group.chunks.iter().map(ArrowColumnChunk::close).collect();
            let mut sizes = leaf.iter().map(|leaf| leaf.bytes_written);
            for (total, field) in self.columns.iter_mut().zip(self.rows.fields()) {
                *total += sizes.by_ref().take(leaves(field.data_type())).sum::<u64>();
            }
            if let Some((filter, footprint)) = &mut self.footprint {
                footprint.add(&leaf, &self.rows, filter);
            }
        }
        self.writers.append(encoded)
    }

    pub fn finish(mut self) -> Result<Sizes, TargetError> {
        let mut file = 0;
        self.writers.close(|nowhere| {
            file += nowhere.0;
            Ok(())
        })?;
        let footprint = self.footprint.map(|(_, footprint)| footprint);
        Ok(Sizes { columns: self.columns, file, footprint })
    }
}

/// Encoder and writers of the files of an output.
fn writers<W: Write + Send>(
    path: &Path,
    files: Vec<W>,
    form: Form,
) -> Result<(ParquetEncoder, Writers<W>), TargetError> {
    let failed = |source| TargetError::Parquet { path: path.to_path_buf(), source };
    let options = |properties| {
        // What readers are told of the columns is known at the end.
        ArrowWriterOptions::new().with_properties(properties).with_skip_arrow_metadata(true)
    };
    // A row group takes its columns from either of these.
    let factory = |properties| {
        let aside = ArrowWriter::try_new_with_options(
            Nowhere::default(),
            form.stored.clone(),
            options(properties),
        );
        aside.and_then(ArrowWriter::into_serialized_writer).map(|(_, factory)| factory)
    };
    let encoder = ParquetEncoder {
        as_codes: factory(form.properties()).map_err(failed)?,
        direct: factory(form.direct()).map_err(failed)?,
        form: form.clone(),
        path: path.to_path_buf(),
        parts: files.len().max(1),
    };
    let mut writers =
        Writers { files: Vec::new(), form, values: Values::default(), path: path.to_path_buf() };
    files.into_iter().try_for_each(|file| writers.add(file))?;
    Ok((encoder, writers))
}

/// Makes row groups.
pub struct ParquetEncoder {
    /// Makes writers of columns with dictionaries, and of columns without.
    as_codes: ArrowRowGroupWriterFactory,
    direct: ArrowRowGroupWriterFactory,
    form: Form,
    path: PathBuf,
    parts: usize,
}

impl ParquetEncoder {
    /// Writers of the columns of a row group that starts with these rows.
    fn columns(&self, first: &RecordBatch) -> Result<Vec<ArrowColumnWriter>, TargetError> {
        let as_codes = self.as_codes.create_column_writers(0).map_err(self.failed())?;
        let direct = self.direct.create_column_writers(0).map_err(self.failed())?;
        let (mut as_codes, mut direct) = (as_codes.into_iter(), direct.into_iter());
        let mut writers = Vec::new();
        for (field, array) in self.form.stored.fields().iter().zip(first.columns()) {
            let is_direct = self.form.is_direct(field, array);
            for _ in 0..leaves(field.data_type()) {
                let both = [as_codes.next(), direct.next()];
                let [as_codes, direct] = both.map(|w| w.expect("a writer for every leaf"));
                writers.push(if is_direct { direct } else { as_codes });
            }
        }
        Ok(writers)
    }

    fn failed(&self) -> impl FnOnce(ParquetError) -> TargetError + '_ {
        |source| TargetError::Parquet { path: self.path.clone(), source }
    }
}

impl Encoder for ParquetEncoder {
    type Encoded = RowGroups;
    type Unit<'e> = RowGroupUnit<'e>;

    fn begin(&self, share: f64) -> Result<RowGroupUnit<'_>, TargetError> {
        let part = ((share * self.parts as f64) as usize).min(self.parts - 1);
        Ok(RowGroupUnit {
            encoder: self,
            part,
            columns: Vec::new(),
            rows: 0,
            done: Vec::new(),
            values: Vec::new(),
        })
    }

    fn parts(&self) -> usize {
        self.parts
    }
}

/// A block being encoded: one row group, or more where that would have too many rows.
pub struct RowGroupUnit<'e> {
    encoder: &'e ParquetEncoder,
    part: usize,
    columns: Vec<ArrowColumnWriter>,
    rows: u64,
    done: Vec<RowGroup>,
    /// The values of columns with an open set.
    values: Vec<(usize, StringArray)>,
}

/// Encoded row groups of one part.
pub struct RowGroups {
    groups: Vec<RowGroup>,
    part: usize,
    values: Vec<(usize, StringArray)>,
}

struct RowGroup {
    chunks: Vec<ArrowColumnChunk>,
}

impl RowGroupUnit<'_> {
    /// Adds rows to the row group at hand.
    fn write(&mut self, batch: &RecordBatch) -> Result<(), TargetError> {
        if self.columns.is_empty() {
            self.columns = self.encoder.columns(batch)?;
        }
        let mut writers = self.columns.iter_mut();
        let mut write = |field: &Field, array: &ArrayRef| -> Result<(), ParquetError> {
            for leaf in compute_leaves(field, &stored_array(array))? {
                writers.next().expect("a writer for every leaf").write(&leaf)?;
            }
            Ok(())
        };
        let schema: &SchemaRef = &self.encoder.form.stored;
        for (field, array) in schema.fields().iter().zip(batch.columns()) {
            write(field, array).map_err(self.encoder.failed())?;
        }
        self.rows += batch.num_rows() as u64;
        Ok(())
    }

    /// Ends the row group at hand, where there is one.
    fn close(&mut self) -> Result<(), TargetError> {
        if self.rows > 0 {
            let columns = std::mem::take(&mut self.columns).into_iter();
            let chunks = columns.map(ArrowColumnWriter::close).collect::<Result<_, _>>();
            self.done.push(RowGroup { chunks: chunks.map_err(self.encoder.failed())? });
            self.rows = 0;
        }
        Ok(())
    }
}

impl EncodeUnit for RowGroupUnit<'_> {
    type Encoded = RowGroups;

    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError> {
        for (column, words) in self.encoder.form.values_of(&batch) {
            // The dictionaries of a block grow from batch to batch: the longest of them has all.
            match self.values.iter_mut().rfind(|(known, _)| *known == column) {
                Some((_, array)) if starts_with(&words, array) => *array = words,
                _ => self.values.push((column, words)),
            }
        }
        let most = self.encoder.form.row_group.unwrap_or(u64::MAX);
        let mut rest = batch;
        while rest.num_rows() > 0 {
            let room = usize::try_from(most - self.rows).unwrap_or(usize::MAX);
            let now = rest.num_rows().min(room);
            self.write(&rest.slice(0, now))?;
            if self.rows == most {
                self.close()?;
            }
            rest = rest.slice(now, rest.num_rows() - now);
        }
        Ok(())
    }

    fn finish(mut self) -> Result<RowGroups, TargetError> {
        self.close()?;
        Ok(RowGroups { groups: self.done, part: self.part, values: self.values })
    }
}

/// Whether an array of texts starts with all those of another.
fn starts_with(array: &StringArray, other: &StringArray) -> bool {
    let bytes = other.values().as_slice();
    array.value_offsets().starts_with(other.value_offsets())
        && array.values().as_slice().starts_with(bytes)
}

/// The writers of the files of an output.
struct Writers<W: Write> {
    files: Vec<SerializedFileWriter<W>>,
    form: Form,
    values: Values,
    path: PathBuf,
}

impl<W: Write + Send> Writers<W> {
    /// One more file.
    fn add(&mut self, file: W) -> Result<(), TargetError> {
        let options = ArrowWriterOptions::new()
            .with_properties(self.form.properties())
            .with_skip_arrow_metadata(true);
        let writer = ArrowWriter::try_new_with_options(file, self.form.stored.clone(), options)
            .and_then(ArrowWriter::into_serialized_writer);
        let (writer, _) = writer.map_err(|source| self.failed(source))?;
        self.files.push(writer);
        Ok(())
    }

    /// Bytes that were written to a file so far.
    fn written(&self, file: usize) -> u64 {
        self.files[file].bytes_written() as u64
    }

    fn append(&mut self, encoded: RowGroups) -> Result<(), TargetError> {
        for (column, words) in &encoded.values {
            self.values.add(*column, words);
        }
        let writer = &mut self.files[encoded.part];
        let mut append = |group: RowGroup| -> Result<(), ParquetError> {
            let mut open = writer.next_row_group()?;
            for chunk in group.chunks {
                chunk.append_to_row_group(&mut open)?;
            }
            open.close()?;
            Ok(())
        };
        encoded.groups.into_iter().try_for_each(&mut append).map_err(|source| self.failed(source))
    }

    fn failed(&self, source: ParquetError) -> TargetError {
        TargetError::Parquet { path: self.path.clone(), source }
    }

    /// Writes what stands at the end of files, and hands each to `done`.
    fn close(
        &mut self,
        mut done: impl FnMut(&W) -> Result<(), TargetError>,
    ) -> Result<(), TargetError> {
        let metadata = self.form.metadata(&self.values);
        for mut writer in std::mem::take(&mut self.files) {
            metadata.iter().for_each(|entry| writer.append_key_value_metadata(entry.clone()));
            writer.finish().map_err(|source| self.failed(source))?;
            done(writer.inner())?;
        }
        Ok(())
    }
}
