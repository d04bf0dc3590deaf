//! The documents of an embedded index as a table, whoever made it: a column for each field that is stored.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::builder::{
    BooleanBuilder, Float64Builder, Int64Builder, StringBuilder, TimestampNanosecondBuilder,
    UInt64Builder,
};
use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_schema::{DataType, Field as Column, Schema as ArrowSchema, SchemaRef, TimeUnit};
use tantivy::schema::{Document, Field, OwnedValue, TantivyDocument, Type, Value};
use tantivy::{Index, Searcher, TantivyError};
use typhos_core::table::{Passed, Sieve, Table, TableError};
use typhos_load::TargetError;

/// Documents of a batch.
const BATCH: usize = 4096;

/// An embedded index.
pub struct EmbeddedTable {
    path: PathBuf,
    searcher: Searcher,
    fields: Vec<(Field, Type)>,
    schema: SchemaRef,
}

impl EmbeddedTable {
    /// Whether a directory is one.
    pub fn is_in(path: &Path) -> bool {
        path.join("meta.json").is_file() && path.join(".managed.json").exists()
    }

    /// Opens a directory.
    ///
    /// # Errors
    /// A directory that is none, or cannot be read.
    pub fn open(path: &Path) -> Result<EmbeddedTable, TargetError> {
        crate::damaged::guarded(path, || {
            let index = Index::open_in_dir(path).map_err(failed(path))?;
            let searcher = index.reader().map_err(failed(path))?.searcher();
            let schema = index.schema();
            let stored = schema.fields().filter(|(_, entry)| entry.is_stored());
            let (mut fields, mut columns) = (Vec::new(), Vec::new());
            for (field, entry) in stored {
                let ty = entry.field_type().value_type();
                let held = match ty {
                    Type::U64 => DataType::UInt64,
                    Type::I64 => DataType::Int64,
                    Type::F64 => DataType::Float64,
                    Type::Bool => DataType::Boolean,
                    Type::Date => DataType::Timestamp(TimeUnit::Nanosecond, Some("UTC".into())),
                    _ => DataType::Utf8,
                };
                fields.push((field, ty));
                columns.push(Column::new(entry.name(), held, true));
            }
            let schema = Arc::new(ArrowSchema::new(columns));
            Ok(EmbeddedTable { path: path.to_path_buf(), searcher, fields, schema })
        })
    }

    fn batch(
        &self,
        documents: &[TantivyDocument],
        columns: &[usize],
    ) -> Result<RecordBatch, TargetError> {
        let arrays = columns.iter().map(|at| self.column(documents, self.fields[*at])).collect();
        let schema = self.schema.project(columns).map_err(|source| TargetError::Format {
            path: self.path.clone(),
            source: source.into(),
        })?;
        let options = RecordBatchOptions::new().with_row_count(Some(documents.len()));
        RecordBatch::try_new_with_options(Arc::new(schema), arrays, &options).map_err(|source| {
            TargetError::Format { path: self.path.clone(), source: source.into() }
        })
    }

    fn column(&self, documents: &[TantivyDocument], (field, ty): (Field, Type)) -> ArrayRef {
        let values = documents.iter().map(|document| {
            let all = document.iter_fields_and_values().filter(|(of, _)| *of == field);
            all.map(|(_, value)| OwnedValue::from(value.as_value())).collect::<Vec<_>>()
        });
        macro_rules! of_first {
            ($builder:expr, $kind:ident, $value:ident => $held:expr) => {{
                let mut builder = $builder;
                for values in values {
                    builder.append_option(match values.first() {
                        Some(OwnedValue::$kind($value)) => Some($held),
                        _ => None,
                    });
                }
                Arc::new(builder.finish()) as ArrayRef
            }};
        }
        match ty {
            Type::U64 => of_first!(UInt64Builder::new(), U64, value => *value),
            Type::I64 => of_first!(Int64Builder::new(), I64, value => *value),
            Type::F64 => of_first!(Float64Builder::new(), F64, value => *value),
            Type::Bool => of_first!(BooleanBuilder::new(), Bool, value => *value),
            Type::Date => {
                let builder = TimestampNanosecondBuilder::new().with_timezone("UTC");
                of_first!(builder, Date, value => value.into_timestamp_nanos())
            }
            _ => {
                let mut texts = StringBuilder::new();
                for values in values {
                    match &values[..] {
                        [] => texts.append_null(),
                        [one] => texts.append_value(text(one)),
                        several => {
                            let several: Vec<_> = several.iter().map(text).collect();
                            texts.append_value(several.join(", "));
                        }
                    }
                }
                Arc::new(texts.finish())
            }
        }
    }
}

/// A value that is shown as text. Several of a field are shown with commas between them.
fn text(value: &OwnedValue) -> String {
    match value {
        OwnedValue::Str(text) => text.clone(),
        OwnedValue::IpAddr(address) => match address.to_ipv4_mapped() {
            Some(address) => address.to_string(),
            None => address.to_string(),
        },
        other => serde_json::to_string(other).unwrap_or_default(),
    }
}

fn failed(path: &Path) -> impl Fn(TantivyError) -> TargetError {
    move |source| TargetError::Format { path: path.to_path_buf(), source: source.into() }
}

impl Table for EmbeddedTable {
    fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    fn rows(&self) -> Option<u64> {
        Some(self.searcher.num_docs())
    }

    fn read_through(
        &mut self,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<Passed, TableError> {
        let columns = sieve.columns().to_vec();
        let read = crate::damaged::guarded(&self.path, || {
            for segment in self.searcher.segment_readers() {
                let store = segment
                    .get_store_reader(1)
                    .map_err(|error| failed(&self.path)(error.into()))?;
                let mut documents = store.iter::<TantivyDocument>(segment.alive_bitset());
                while !sieve.is_done() {
                    let some = documents.by_ref().take(BATCH).collect::<tantivy::Result<Vec<_>>>();
                    let some = some.map_err(failed(&self.path))?;
                    if some.is_empty() {
                        break;
                    }
                    if each(sieve.pass(&self.batch(&some, &columns)?)).is_break() {
                        return Ok(());
                    }
                }
            }
            Ok(())
        });
        read.map_err(|error| TableError::Source(Box::new(error)))?;
        Ok(Passed::default())
    }
}
