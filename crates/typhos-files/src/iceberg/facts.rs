//! What is known of the columns of a data file: read from the end of the file itself, in the form in which manifests have it.

use std::collections::BTreeMap;
use std::fs::File;
use std::path::Path;

use ::parquet::arrow::ProjectionMask;
use ::parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use ::parquet::basic::{ConvertedType, LogicalType};
use ::parquet::errors::ParquetError;
use ::parquet::file::metadata::ParquetMetaData;
use ::parquet::file::statistics::Statistics;
use ::parquet::schema::types::ColumnDescriptor;
use typhos_load::TargetError;

use super::literal::Literal;
use super::manifest::{ColumnFacts, NewFile};
use super::metadata::PartitionSpec;
use super::transform::Transform;
use super::types::TableSchema;

/// Characters of a text that bounds keep, as is usual in tables.
const BOUND: usize = 16;

/// A data file, as a manifest is to name it at a URL. Rows of a file share the values of the partitions, so those of its first
/// row are those of all.
///
/// # Errors
/// A file that cannot be read.
pub fn file_at(
    path: &Path,
    url: &str,
    (spec, schema): (&PartitionSpec, &TableSchema),
    order: i32,
) -> Result<NewFile, TargetError> {
    let failed = |source: ParquetError| TargetError::Format {
        path: path.to_path_buf(),
        source: source.into(),
    };
    let file = File::open(path).map_err(TargetError::io(path))?;
    let bytes = file.metadata().map_err(TargetError::io(path))?.len();
    let builder = ParquetRecordBatchReaderBuilder::try_new(file).map_err(failed)?;
    let metadata = builder.metadata().clone();
    let starts = metadata.row_groups().iter().filter_map(|group| {
        group.columns().iter().map(|column| column.byte_range().0).min().map(u64::cast_signed)
    });
    Ok(NewFile {
        path: url.to_owned(),
        bytes,
        rows: metadata.file_metadata().num_rows().unsigned_abs(),
        columns: columns(&metadata),
        offsets: starts.collect(),
        order,
        partition: partition(builder, spec, schema).map_err(failed)?,
    })
}

/// The values of the partitions of the rows of a file.
fn partition(
    builder: ParquetRecordBatchReaderBuilder<File>,
    spec: &PartitionSpec,
    schema: &TableSchema,
) -> Result<Vec<Option<Literal>>, ParquetError> {
    let mut values = vec![None; spec.fields.len()];
    let name_of = |id: i32| schema.fields.iter().find(|column| column.id == id);
    let names: Vec<&str> = spec
        .fields
        .iter()
        .map(|field| name_of(field.source_id).map_or("", |column| &column.name))
        .collect();
    let roots = names.iter().filter_map(|name| builder.schema().index_of(name).ok());
    let mask = ProjectionMask::roots(builder.parquet_schema(), roots.collect::<Vec<_>>());
    if values.is_empty() {
        return Ok(values);
    }
    let mut reader = builder.with_projection(mask).with_limit(1).with_batch_size(1).build()?;
    let Some(first) = reader.next() else { return Ok(values) };
    let first = first?;
    for ((field, name), value) in spec.fields.iter().zip(names).zip(&mut values) {
        let transform = Transform::parse(&field.transform).unwrap_or(Transform::Void);
        let cell = first.column_by_name(name).and_then(|array| Literal::of(array, 0));
        *value = cell.and_then(|cell| transform.apply(&cell));
    }
    Ok(values)
}

/// The extremes of a column, over row groups.
#[derive(Default)]
struct Extremes {
    low: Option<Literal>,
    high: Option<Literal>,
    /// Of some row group nobody knows them.
    is_unknown: bool,
}

/// What is known of the columns of a file, by their numbers.
fn columns(metadata: &ParquetMetaData) -> BTreeMap<i32, ColumnFacts> {
    let mut columns: BTreeMap<i32, (ColumnFacts, Extremes)> = BTreeMap::new();
    for chunk in metadata.row_groups().iter().flat_map(|group| group.columns()) {
        let column = chunk.column_descr();
        let about = column.self_type().get_basic_info();
        if !about.has_id() {
            continue;
        }
        let (facts, extremes) = columns.entry(about.id()).or_insert_with(|| {
            (ColumnFacts { nulls: Some(0), ..ColumnFacts::default() }, Extremes::default())
        });
        let values = chunk.num_values().unsigned_abs();
        facts.bytes += chunk.compressed_size().unsigned_abs();
        facts.values += values;
        // Of lists there are values and bytes; extremes of their elements nobody asks for.
        let stats = chunk.statistics().filter(|_| column.max_rep_level() == 0);
        let nulls = stats.and_then(Statistics::null_count_opt);
        facts.nulls = facts.nulls.zip(nulls).map(|(all, more)| all + more);
        if nulls == Some(values) {
            continue;
        }
        match stats.and_then(|stats| bounds(stats, column)) {
            Some((low, high)) => {
                let lower = |known: &Literal| low.order(known).is_lt();
                if extremes.low.as_ref().is_none_or(lower) {
                    extremes.low = Some(low);
                }
                let higher = |known: &Literal| high.order(known).is_gt();
                if extremes.high.as_ref().is_none_or(higher) {
                    extremes.high = Some(high);
                }
            }
            None => extremes.is_unknown = true,
        }
    }
    let finished = columns.into_iter().map(|(id, (mut facts, extremes))| {
        if !extremes.is_unknown {
            facts.low = extremes.low.map(|low| shortened(low).bytes());
            facts.high = extremes.high.and_then(raised).map(|high| high.bytes());
        }
        (id, facts)
    });
    finished.collect()
}

/// The extremes of a column of a row group.
fn bounds(stats: &Statistics, column: &ColumnDescriptor) -> Option<(Literal, Literal)> {
    let about = column.self_type().get_basic_info();
    let is_decimal = about.converted_type() == ConvertedType::DECIMAL
        || matches!(about.logical_type_ref(), Some(LogicalType::Decimal { .. }));
    let precision = u8::try_from(column.type_precision()).unwrap_or(38);
    let both = |one: &dyn Fn(&[u8]) -> Option<Literal>| {
        Some((one(stats.min_bytes_opt()?)?, one(stats.max_bytes_opt()?)?))
    };
    match stats {
        Statistics::Boolean(_) => both(&|bytes| Some(Literal::Bool(*bytes.first()? != 0))),
        Statistics::Int32(_) => both(&|bytes| {
            let value = i32::from_le_bytes(bytes.try_into().ok()?);
            Some(match is_decimal {
                true => Literal::Decimal(value.into(), precision),
                false => Literal::Int(value),
            })
        }),
        Statistics::Int64(_) => both(&|bytes| {
            let value = i64::from_le_bytes(bytes.try_into().ok()?);
            Some(match is_decimal {
                true => Literal::Decimal(value.into(), precision),
                false => Literal::Long(value),
            })
        }),
        Statistics::Float(_) => {
            both(&|bytes| Some(Literal::Float(f32::from_le_bytes(bytes.try_into().ok()?))))
        }
        Statistics::Double(_) => {
            both(&|bytes| Some(Literal::Double(f64::from_le_bytes(bytes.try_into().ok()?))))
        }
        Statistics::ByteArray(_) => {
            both(&|bytes| Some(Literal::Text(str::from_utf8(bytes).ok()?.to_owned())))
        }
        Statistics::FixedLenByteArray(_) if is_decimal => both(&|bytes| {
            let sign = if bytes.first()? & 0x80 == 0 { 0 } else { 0xff };
            let mut all = [sign; 16];
            all.get_mut(16 - bytes.len()..)?.copy_from_slice(bytes);
            Some(Literal::Decimal(i128::from_be_bytes(all), precision))
        }),
        Statistics::FixedLenByteArray(_) => {
            both(&|bytes| Some(Literal::Uuid(bytes.try_into().ok()?)))
        }
        Statistics::Int96(_) => None,
    }
}

/// A lower bound of a text is any beginning of it.
fn shortened(low: Literal) -> Literal {
    match low {
        Literal::Text(text) => Literal::Text(text.chars().take(BOUND).collect()),
        other => other,
    }
}

/// An upper bound of a text is a beginning of it whose last character is the next one; `None` where there is none.
fn raised(high: Literal) -> Option<Literal> {
    let Literal::Text(text) = &high else { return Some(high) };
    if text.chars().nth(BOUND).is_none() {
        return Some(high);
    }
    let mut kept: Vec<char> = text.chars().take(BOUND).collect();
    while let Some(last) = kept.pop() {
        // Between the two halves of all code points there are some that are no characters.
        let next = match last {
            '\u{D7FF}' => Some('\u{E000}'),
            other => char::from_u32(u32::from(other) + 1),
        };
        if let Some(next) = next {
            kept.push(next);
            return Some(Literal::Text(kept.into_iter().collect()));
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bounds_of_texts_are_short_and_hold_them() {
        let text = |text: &str| Literal::Text(text.into());
        let long = "Skerrow to Tårnvik";
        assert_eq!(shortened(text(long)), text("Skerrow to Tårnv"));
        assert_eq!(raised(text(long)), Some(text("Skerrow to Tårnw")));
        assert_eq!(raised(text("deck")), Some(text("deck")));
        assert_eq!(raised(text(&"\u{10FFFF}".repeat(20))), None);
        let last = format!("{}\u{10FFFF}b", "a".repeat(15));
        assert_eq!(raised(text(&last)), Some(text(&format!("{}b", "a".repeat(14)))));
        assert_eq!(raised(Literal::Int(7)), Some(Literal::Int(7)));
    }
}
