//! Parquet: one file, or a directory of parts.
//!
//! Each block of the input becomes a row group, encoded and compressed on the thread that converted
//! it; the sink only appends bytes. [`form`] says how files are written, [`read`] reads them back.

mod encoder;
mod encoding;
mod footprint;
mod form;
mod partitions;
mod read;
mod target;

use std::io::Write;
use std::path::{Path, PathBuf};

use ::parquet::arrow::ArrowWriter;
use ::parquet::arrow::arrow_writer::{ArrowColumnChunk, ArrowWriterOptions};
use ::parquet::errors::ParquetError;
use ::parquet::file::writer::SerializedFileWriter;
use arrow_schema::SchemaRef;

use encoder::RowGroup;
pub use encoder::{ParquetEncoder, RowGroupUnit, RowGroups};
pub use footprint::Footprint;
pub use form::{Form, RANKED_KEY, SORT_KEY, fidelity_notes};
use form::{Values, leaves};
pub use read::{files, head};
pub(crate) use target::ParquetTarget;
pub use target::Parts;

use typhos_core::filter::Filter;
use typhos_core::text::{Input, InputError, mean_record_bytes};

use crate::TargetError;
use crate::weigh::Nowhere;

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
    let encoder = ParquetEncoder::new(form.clone(), path.to_path_buf(), files.len().max(1));
    let mut writers =
        Writers { files: Vec::new(), form, values: Values::default(), path: path.to_path_buf() };
    files.into_iter().try_for_each(|file| writers.add(file))?;
    Ok((encoder, writers))
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
