//! Rows by partition: which directory a row belongs to.

use std::collections::BTreeMap;
use std::sync::Arc;

use arrow_array::{Array, RecordBatch, StringArray, UInt32Array};
use arrow_select::take::take_record_batch;
use typhos_core::columns::cell_text;
use typhos_core::schema::{Partition, PartitionBy, Schema};
use typhos_core::sorting::Grouping;

use super::{ParquetEncoder, RowGroupUnit, RowGroups};
use crate::iceberg::{Literal, Transform};
use typhos_load::{EncodeUnit, Encoder, TargetError};

/// Partitions that may be written at once: each has a file open.
const MOST_PARTITIONS: usize = 1_000;

/// What stands for an absent value in the name of a directory.
const ABSENT: &str = "absent";

/// Which directory rows belong to.
#[derive(Clone)]
pub(super) struct Partitions {
    /// The columns, by their place, with what is taken of them and what that is called.
    columns: Vec<(usize, PartitionBy, String)>,
}

impl Partitions {
    /// As a schema has them, or those of a table in their place.
    pub fn of(schema: &Schema, partition: &[Partition]) -> Partitions {
        let column = |partition: &Partition| {
            let at = schema.columns.iter().position(|column| column.name == partition.column);
            (at.expect("partitions name columns"), partition.by, escaped(&partition.label()))
        };
        Partitions { columns: partition.iter().map(column).collect() }
    }

    pub fn is_empty(&self) -> bool {
        self.columns.is_empty()
    }

    /// The directory of a row: `name=value`, one inside the other.
    fn directory(&self, batch: &RecordBatch, row: usize) -> String {
        let parts = self.columns.iter().map(|(at, by, label)| {
            let array = batch.column(*at);
            format!("{label}={}", part(array, row, *by).unwrap_or(ABSENT.to_owned()))
        });
        parts.collect::<Vec<_>>().join("/")
    }
}

/// What a partition takes of a cell, as part of the name of a directory.
fn part(array: &dyn Array, row: usize, by: PartitionBy) -> Option<String> {
    if array.is_null(row) {
        return None;
    }
    if let PartitionBy::Bucket(_) | PartitionBy::Truncate(_) = by {
        let taken = Transform::Of(by).apply(&Literal::of(array, row)?)?;
        return Some(match taken {
            Literal::Text(text) => escaped(&text),
            Literal::Int(number) => number.to_string(),
            Literal::Long(number) => number.to_string(),
            // Of a decimal the digits tell partitions apart.
            Literal::Decimal(digits, _) => digits.to_string(),
            _ => return None,
        });
    }
    let value = cell_text(array, row)?;
    Some(escaped(by.part_of(&value)?))
}

/// A text as the name of a directory: letters that file systems or readers of such names could take for
/// something else are percent-encoded.
fn escaped(text: &str) -> String {
    let mut name = String::new();
    for byte in text.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'.' | b' ' => {
                name.push(byte.into())
            }
            0x80.. => name.push_str(&format!("%{byte:02X}")),
            _ => name.push_str(&format!("%{byte:02X}")),
        }
    }
    match name.as_str() {
        "" => "%".into(),
        "." | ".." => name.replace('.', "%2E"),
        ABSENT => "%61bsent".into(),
        _ => name,
    }
}

/// Encodes rows by their partition.
pub struct PartitionedEncoder {
    pub(super) encoder: ParquetEncoder,
    pub(super) partitions: Partitions,
}

/// Row groups, each with the directory it belongs to; empty where there is only one.
pub struct Partitioned(pub(super) Vec<(String, RowGroups)>);

impl Encoder for PartitionedEncoder {
    type Encoded = Partitioned;
    type Unit<'e> = PartitionedUnit<'e>;

    fn begin(&self, share: f64) -> Result<PartitionedUnit<'_>, TargetError> {
        Ok(PartitionedUnit { encoder: self, share, units: BTreeMap::new() })
    }

    fn parts(&self) -> usize {
        self.encoder.parts()
    }

    fn grouping(&self) -> Option<Grouping> {
        if self.partitions.is_empty() {
            return None;
        }
        let partitions = self.partitions.clone();
        Some(Arc::new(move |batch| {
            let directories = (0..batch.num_rows()).map(|row| partitions.directory(batch, row));
            StringArray::from_iter_values(directories)
        }))
    }
}

/// One block being encoded.
pub struct PartitionedUnit<'e> {
    encoder: &'e PartitionedEncoder,
    share: f64,
    units: BTreeMap<String, RowGroupUnit<'e>>,
}

impl PartitionedUnit<'_> {
    fn push_into(&mut self, directory: String, batch: RecordBatch) -> Result<(), TargetError> {
        if !self.units.contains_key(&directory) {
            if self.units.len() == MOST_PARTITIONS {
                return Err(too_many(self.encoder.encoder.path()));
            }
            let unit = self.encoder.encoder.begin(self.share)?;
            self.units.insert(directory.clone(), unit);
        }
        self.units.get_mut(&directory).expect("added above").push(batch)
    }
}

/// Says that there are more partitions than files that may be open.
pub(super) fn too_many(path: &std::path::Path) -> TargetError {
    let what = format!(
        "would have more than {MOST_PARTITIONS} partitions; partition by a column of fewer values, or by year(…)"
    );
    TargetError::NotThat { path: path.to_path_buf(), what }
}

/// How many partitions there may be.
pub(super) fn is_too_many(partitions: usize) -> bool {
    partitions > MOST_PARTITIONS
}

impl EncodeUnit for PartitionedUnit<'_> {
    type Encoded = Partitioned;

    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError> {
        let partitions = &self.encoder.partitions;
        if partitions.is_empty() {
            return self.push_into(String::new(), batch);
        }
        let mut rows: BTreeMap<String, Vec<u32>> = BTreeMap::new();
        for row in 0..batch.num_rows() {
            rows.entry(partitions.directory(&batch, row)).or_default().push(row as u32);
        }
        for (directory, rows) in rows {
            let part = take_record_batch(&batch, &UInt32Array::from(rows))
                .expect("rows of the batch itself");
            self.push_into(directory, part)?;
        }
        Ok(())
    }

    fn finish(self) -> Result<Partitioned, TargetError> {
        let groups =
            self.units.into_iter().map(|(directory, unit)| Ok((directory, unit.finish()?)));
        Ok(Partitioned(groups.collect::<Result<_, TargetError>>()?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_directories_are_safe_and_differ() {
        let names = ["", ".", "..", "a/b", "absent", "ab=sent", "Tårnvik", "x%2Fb", "plain 1-2_3"];
        let escaped: Vec<_> = names.iter().map(|name| escaped(name)).collect();
        assert_eq!(escaped[3], "a%2Fb");
        assert_eq!(escaped[6], "T%C3%A5rnvik");
        assert_eq!(escaped[8], "plain 1-2_3");
        for (at, name) in escaped.iter().enumerate() {
            assert!(!name.is_empty() && !name.contains('/') && name != "." && name != "..");
            assert!(!escaped[..at].contains(name) && name != ABSENT, "{name}");
        }
    }
}
