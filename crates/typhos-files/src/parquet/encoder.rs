//! Encodes the rows of a block into row groups.
//!
//! A writer of a column holds some sixty-four KiB before it has a single row. So where there are many columns, or many
//! row groups at once (one for each partition), rows are held as they are until their row group ends, and are then
//! encoded column by column; where there are few, each batch is encoded as it comes, which holds no arrays.

use std::path::PathBuf;
use std::sync::OnceLock;

use ::parquet::arrow::ArrowWriter;
use ::parquet::arrow::arrow_writer::{
    ArrowColumnChunk, ArrowColumnWriter, ArrowRowGroupWriterFactory, ArrowWriterOptions,
    compute_leaves,
};
use ::parquet::errors::ParquetError;
use arrow_array::{Array, ArrayRef, RecordBatch, StringArray};
use arrow_schema::Field;

use super::form::{Form, KINDS, Kind, leaves};
use super::nowhere::Nowhere;
use super::recast::stored_array;
use typhos_load::{EncodeUnit, Encoder, TargetError};

/// The most leaf columns that are encoded side by side.
const SIDE_BY_SIDE: usize = 64;

/// Columns whose factories of writers are kept.
const KEPT_FACTORIES: usize = 512;

/// A cell of so many bytes is worth no statistics: they would hold copies of it.
const HUGE_CELL: usize = 1 << 20;

/// Makes row groups.
pub struct ParquetEncoder {
    form: Form,
    path: PathBuf,
    parts: usize,
    /// For each column what makes its writers, in each of the ways it may be written; empty where columns are many.
    factories: Vec<[OnceLock<ArrowRowGroupWriterFactory>; KINDS]>,
    /// Whether rows are held until their row group ends.
    defers: bool,
}

impl ParquetEncoder {
    pub(super) fn new(form: Form, path: PathBuf, parts: usize) -> ParquetEncoder {
        let fields = form.stored.fields();
        let columns: usize = fields.iter().map(|field| leaves(field.data_type())).sum();
        let kept = if fields.len() <= KEPT_FACTORIES { fields.len() } else { 0 };
        let factories = (0..kept).map(|_| std::array::from_fn(|_| OnceLock::new())).collect();
        ParquetEncoder { form, path, parts, factories, defers: columns > SIDE_BY_SIDE }
    }

    /// Holds rows until their row group ends: there are many of those at once.
    pub(super) fn deferred(mut self) -> ParquetEncoder {
        self.defers = true;
        self
    }

    pub(super) fn path(&self) -> &std::path::Path {
        &self.path
    }

    /// How a column of a row group is written that starts with these cells.
    fn kind(&self, field: &Field, first: &ArrayRef) -> Kind {
        if has_huge_cells(first) {
            return Kind::Huge;
        }
        self.form.kind(field, first)
    }

    /// Writers of the leaves of a column.
    fn writers(&self, column: usize, kind: Kind) -> Result<Vec<ArrowColumnWriter>, ParquetError> {
        // Of very many columns they would take more than what they make.
        if self.factories.is_empty() {
            return self.factory(column, kind)?.create_column_writers(0);
        }
        let known = &self.factories[column][kind as usize];
        let factory = match known.get() {
            Some(factory) => factory,
            None => {
                let factory = self.factory(column, kind)?;
                // Another thread may have been first; both are alike.
                known.get_or_init(|| factory)
            }
        };
        factory.create_column_writers(0)
    }

    /// What makes writers of a column.
    fn factory(
        &self,
        column: usize,
        kind: Kind,
    ) -> Result<ArrowRowGroupWriterFactory, ParquetError> {
        let (schema, properties) = self.form.alone(column, kind);
        let options =
            ArrowWriterOptions::new().with_properties(properties).with_skip_arrow_metadata(true);
        let aside = ArrowWriter::try_new_with_options(Nowhere::default(), schema, options);
        let (_, factory) = aside.and_then(ArrowWriter::into_serialized_writer)?;
        Ok(factory)
    }

    fn failed(&self) -> impl Fn(ParquetError) -> TargetError + '_ {
        |source| TargetError::Format { path: self.path.clone(), source: source.into() }
    }
}

/// Whether any text of a batch is so long that nothing should copy it.
fn has_huge_cells(array: &ArrayRef) -> bool {
    array.data_type() == &arrow_schema::DataType::Utf8
        && array.get_buffer_memory_size() > HUGE_CELL
        && {
            let texts = arrow_array::cast::AsArray::as_string::<i32>(array);
            texts.value_offsets().windows(2).any(|ends| (ends[1] - ends[0]) as usize > HUGE_CELL)
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
            held: Vec::new(),
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
    /// The writers of the row group at hand, where it is encoded as it comes.
    columns: Vec<ArrowColumnWriter>,
    /// Its rows, where they are held.
    held: Vec<RecordBatch>,
    rows: u64,
    done: Vec<RowGroup>,
    /// The values of columns with an open set.
    values: Vec<(usize, StringArray)>,
}

/// Encoded row groups of one part.
pub struct RowGroups {
    pub(super) groups: Vec<RowGroup>,
    pub(super) part: usize,
    pub(super) values: Vec<(usize, StringArray)>,
}

pub(super) struct RowGroup {
    pub chunks: Vec<ArrowColumnChunk>,
}

/// Encodes cells of a column.
fn encode(
    writers: &mut [ArrowColumnWriter],
    field: &Field,
    array: &ArrayRef,
) -> Result<(), ParquetError> {
    for (leaf, writer) in compute_leaves(field, &stored_array(array, field))?.iter().zip(writers) {
        writer.write(leaf)?;
    }
    Ok(())
}

impl RowGroupUnit<'_> {
    /// Adds rows to the row group at hand.
    fn write(&mut self, batch: &RecordBatch) -> Result<(), ParquetError> {
        self.rows += batch.num_rows() as u64;
        if self.encoder.defers {
            self.held.push(batch.clone());
            return Ok(());
        }
        let fields = self.encoder.form.stored.fields();
        if self.columns.is_empty() {
            for (at, (field, array)) in fields.iter().zip(batch.columns()).enumerate() {
                let kind = self.encoder.kind(field, array);
                self.columns.extend(self.encoder.writers(at, kind)?);
            }
        }
        let mut from = 0;
        for (field, array) in fields.iter().zip(batch.columns()) {
            let to = from + leaves(field.data_type());
            encode(&mut self.columns[from..to], field, array)?;
            from = to;
        }
        Ok(())
    }

    /// Encodes rows that were held.
    fn encode_held(&mut self) -> Result<Vec<ArrowColumnChunk>, ParquetError> {
        let held = std::mem::take(&mut self.held);
        let mut chunks = Vec::new();
        for (at, field) in self.encoder.form.stored.fields().iter().enumerate() {
            let kind = self.encoder.kind(field, held[0].column(at));
            let mut writers = self.encoder.writers(at, kind)?;
            for batch in &held {
                encode(&mut writers, field, batch.column(at))?;
            }
            for writer in writers {
                chunks.push(writer.close()?);
            }
        }
        Ok(chunks)
    }

    /// Ends the row group at hand, where there is one.
    fn close(&mut self) -> Result<(), TargetError> {
        if self.rows > 0 {
            let chunks = if self.encoder.defers {
                self.encode_held()
            } else {
                let columns = std::mem::take(&mut self.columns).into_iter();
                columns.map(ArrowColumnWriter::close).collect()
            };
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
            self.write(&rest.slice(0, now)).map_err(self.encoder.failed())?;
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
