//! What comes first: rows as keys that compare as bytes.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{UInt8Type, UInt16Type, UInt32Type};
use arrow_array::{ArrayRef, RecordBatch, StringArray, UInt32Array};
use arrow_row::{RowConverter, Rows, SortField};
use arrow_schema::{DataType, Schema as ArrowSchema, SortOptions};
use arrow_select::take::take_record_batch;

use crate::schema::{ColumnDecl, Schema, SortKey};

/// What rows are kept together by, before they are sorted: a text for each row of a batch.
pub type Grouping = Arc<dyn Fn(&RecordBatch) -> StringArray + Send + Sync>;

/// The order of rows.
pub struct SortOrder {
    grouping: Option<Grouping>,
    keys: Vec<Key>,
    converter: RowConverter,
}

#[derive(Debug)]
struct Key {
    column: usize,
    /// Whether the codes of a dictionary are the order.
    by_code: bool,
}

/// Rows in order, and their keys.
#[derive(Debug)]
pub struct SortedBatch {
    /// The rows.
    pub batch: RecordBatch,
    /// The key of each row.
    pub keys: Rows,
}

impl std::fmt::Debug for SortOrder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SortOrder").field("keys", &self.keys).finish_non_exhaustive()
    }
}

impl SortOrder {
    /// The order that a schema asks for, over rows of an Arrow schema with the same columns, within groups where
    /// there are any; `None` where there is neither.
    pub fn of(
        schema: &Schema,
        arrow: &ArrowSchema,
        grouping: Option<Grouping>,
    ) -> Option<SortOrder> {
        SortOrder::within(grouping, &schema.layout.sort, &schema.columns, arrow)
    }

    /// The order by some keys; `None` where there are none.
    ///
    /// # Panics
    /// If a key is none of the columns: schemas are read with all their keys known.
    pub fn by(sort: &[SortKey], columns: &[ColumnDecl], arrow: &ArrowSchema) -> Option<SortOrder> {
        SortOrder::within(None, sort, columns, arrow)
    }

    fn within(
        grouping: Option<Grouping>,
        sort: &[SortKey],
        columns: &[ColumnDecl],
        arrow: &ArrowSchema,
    ) -> Option<SortOrder> {
        let place = |key: &SortKey| {
            let at = columns.iter().position(|column| column.name == key.column);
            at.expect("sort keys are columns of the schema")
        };
        let (keys, mut fields): (Vec<Key>, Vec<SortField>) = sort
            .iter()
            .map(|sort_key| {
                let column = place(sort_key);
                let by_code = columns[column].ranked;
                let data_type = match arrow.field(column).data_type() {
                    DataType::Dictionary(codes, _) if by_code => (**codes).clone(),
                    other => other.clone(),
                };
                let options = SortOptions { descending: sort_key.descending, nulls_first: false };
                (Key { column, by_code }, SortField::new_with_options(data_type, options))
            })
            .unzip();
        if grouping.is_some() {
            fields.insert(0, SortField::new(DataType::Utf8));
        }
        if fields.is_empty() {
            return None;
        }
        let converter = RowConverter::new(fields).expect("every type of a column can be sorted");
        Some(SortOrder { grouping, keys, converter })
    }

    /// The keys of the rows of a batch, in the order they stand there.
    pub fn keys(&self, batch: &RecordBatch) -> Rows {
        let columns = self.keys.iter().map(|key| {
            let array = batch.column(key.column);
            if key.by_code { codes(array) } else { array.clone() }
        });
        let groups = self.grouping.iter().map(|group| -> ArrayRef { Arc::new(group(batch)) });
        let columns: Vec<ArrayRef> = groups.chain(columns).collect();
        self.converter.convert_columns(&columns).expect("the columns have the types of the order")
    }

    /// Sorts the rows of a batch. Equal ones stay in their order.
    pub fn sort(&self, batch: &RecordBatch) -> RecordBatch {
        let keys = self.keys(batch);
        // A batch has far fewer rows than 32 bits count.
        let mut rows: Vec<u32> = (0..batch.num_rows() as u32).collect();
        rows.sort_by(|a, b| keys.row(*a as usize).cmp(&keys.row(*b as usize)));
        take_record_batch(batch, &UInt32Array::from(rows)).expect("rows of the batch")
    }

    /// Adds their keys to rows that are in order.
    pub(super) fn keyed(&self, batch: RecordBatch) -> SortedBatch {
        SortedBatch { keys: self.keys(&batch), batch }
    }
}

/// The codes of a dictionary as numbers, null where the value is.
fn codes(array: &ArrayRef) -> ArrayRef {
    match array.data_type() {
        DataType::Dictionary(codes, _) => match **codes {
            DataType::UInt8 => Arc::new(array.as_dictionary::<UInt8Type>().keys().clone()),
            DataType::UInt16 => Arc::new(array.as_dictionary::<UInt16Type>().keys().clone()),
            _ => Arc::new(array.as_dictionary::<UInt32Type>().keys().clone()),
        },
        _ => array.clone(),
    }
}
