//! The writers of the files of an output: they append row groups that were encoded elsewhere.

use std::io::Write;
use std::path::{Path, PathBuf};

use ::parquet::arrow::ArrowWriter;
use ::parquet::arrow::arrow_writer::ArrowWriterOptions;
use ::parquet::errors::ParquetError;
use ::parquet::file::writer::SerializedFileWriter;
use typhos_load::TargetError;

use super::encoder::{ParquetEncoder, RowGroup, RowGroups};
use super::form::{Form, Values};

/// Encoder and writers of the files of an output.
pub(super) fn writers<W: Write + Send>(
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
pub(super) struct Writers<W: Write> {
    pub files: Vec<SerializedFileWriter<W>>,
    form: Form,
    values: Values,
    pub path: PathBuf,
}

impl<W: Write + Send> Writers<W> {
    /// One more file.
    pub fn add(&mut self, file: W) -> Result<(), TargetError> {
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
    pub fn written(&self, file: usize) -> u64 {
        self.files[file].bytes_written() as u64
    }

    pub fn append(&mut self, encoded: RowGroups) -> Result<(), TargetError> {
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
        TargetError::Format { path: self.path.clone(), source: source.into() }
    }

    /// Writes what stands at the end of files, and hands each to `done`, with its rows.
    pub fn close(
        &mut self,
        mut done: impl FnMut(&W, u64) -> Result<(), TargetError>,
    ) -> Result<(), TargetError> {
        let metadata = self.form.metadata(&self.values);
        for mut writer in std::mem::take(&mut self.files) {
            metadata.iter().for_each(|entry| writer.append_key_value_metadata(entry.clone()));
            let written = writer.finish().map_err(|source| self.failed(source))?;
            let rows = u64::try_from(written.file_metadata().num_rows()).unwrap_or(0);
            done(writer.inner(), rows)?;
        }
        Ok(())
    }
}
