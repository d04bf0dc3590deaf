//! The merge of runs: of all their first rows the smallest, again and again.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{ArrowDictionaryKeyType, UInt8Type, UInt16Type, UInt32Type};
use arrow_array::{
    Array, ArrayRef, DictionaryArray, PrimitiveArray, RecordBatch, RecordBatchOptions, StringArray,
};
use arrow_buffer::ArrowNativeType;
use arrow_schema::{ArrowError, DataType, SchemaRef};
use arrow_select::interleave::interleave;

use super::source::{RowSource, arrow_failed};
use super::{SortError, SortOrder, SortedBatch};
use crate::intern::Interner;

/// Rows of runs, in order.
pub struct Merge {
    order: Arc<SortOrder>,
    schema: SchemaRef,
    cursors: Vec<Cursor>,
    /// The cursors as a heap: none stands before its parent, which is at half its place.
    heap: Vec<u32>,
    /// For each column with a closed list of values the first array of them: see [`share_values`].
    values: Vec<Option<ArrayRef>>,
    /// Where runs are put aside, for messages.
    place: String,
}

/// A place in a run.
struct Cursor {
    source: RowSource,
    stretch: SortedBatch,
    row: usize,
    /// The place of the stretch among those that rows are taken from.
    place: usize,
}

impl Merge {
    pub(super) fn new(
        order: Arc<SortOrder>,
        schema: SchemaRef,
        sources: Vec<RowSource>,
        place: String,
    ) -> Result<Merge, SortError> {
        let values = vec![None; schema.fields().len()];
        let mut merge =
            Merge { order, schema, cursors: Vec::new(), heap: Vec::new(), values, place };
        for mut source in sources {
            if let Some(stretch) = merge.read(&mut source)? {
                merge.cursors.push(Cursor { source, stretch, row: 0, place: 0 });
            }
        }
        merge.heap = (0..merge.cursors.len() as u32).collect();
        for at in (0..merge.heap.len() / 2).rev() {
            merge.sift_down(at);
        }
        Ok(merge)
    }

    /// The next rows, at most so many; `None` when there are no more.
    ///
    /// # Errors
    /// A temporary file that cannot be read.
    pub fn next(&mut self, rows: usize) -> Result<Option<RecordBatch>, SortError> {
        if self.heap.is_empty() || rows == 0 {
            return Ok(None);
        }
        let mut taken: Vec<RecordBatch> =
            self.cursors.iter().map(|cursor| cursor.stretch.batch.clone()).collect();
        self.cursors.iter_mut().enumerate().for_each(|(at, cursor)| cursor.place = at);
        let mut picks: Vec<(usize, usize)> = Vec::with_capacity(rows);
        while picks.len() < rows
            && let Some(top) = self.heap.first().copied()
        {
            let cursor = &mut self.cursors[top as usize];
            picks.push((cursor.place, cursor.row));
            cursor.row += 1;
            if cursor.row == cursor.stretch.batch.num_rows() {
                self.refill(top as usize, &mut taken)?;
            }
            if !self.heap.is_empty() {
                self.sift_down(0);
            }
        }
        Ok(Some(self.collect(&taken, &picks)?))
    }

    /// Goes on to the next stretch of the run at the top; where there is none the run is done.
    fn refill(&mut self, at: usize, taken: &mut Vec<RecordBatch>) -> Result<(), SortError> {
        let mut source = std::mem::replace(
            &mut self.cursors[at].source,
            RowSource::Memory(Box::new(std::iter::empty())),
        );
        let stretch = self.read(&mut source)?;
        self.cursors[at].source = source;
        match stretch {
            Some(stretch) => {
                let cursor = &mut self.cursors[at];
                cursor.place = taken.len();
                taken.push(stretch.batch.clone());
                (cursor.stretch, cursor.row) = (stretch, 0);
            }
            None => {
                self.heap.swap_remove(0);
            }
        }
        Ok(())
    }

    fn read(&mut self, source: &mut RowSource) -> Result<Option<SortedBatch>, SortError> {
        let Some(batch) = source.next() else { return Ok(None) };
        let batch = batch.map_err(|source| arrow_failed(&self.place, source))?;
        let batch = share_values(batch, &mut self.values);
        Ok(Some(self.order.keyed(batch)))
    }

    /// Whether the first row of one run comes before that of another: of equal ones that of the earlier
    /// run.
    fn is_before(&self, a: u32, b: u32) -> bool {
        let [one, other] = [a, b].map(|at| &self.cursors[at as usize]);
        (one.stretch.keys.row(one.row), a) < (other.stretch.keys.row(other.row), b)
    }

    fn sift_down(&mut self, mut at: usize) {
        loop {
            let mut least = at;
            for child in [2 * at + 1, 2 * at + 2] {
                if child < self.heap.len() && self.is_before(self.heap[child], self.heap[least]) {
                    least = child;
                }
            }
            if least == at {
                return;
            }
            self.heap.swap(at, least);
            at = least;
        }
    }

    fn collect(
        &self,
        taken: &[RecordBatch],
        picks: &[(usize, usize)],
    ) -> Result<RecordBatch, SortError> {
        let column = |at: usize| {
            let arrays: Vec<&dyn Array> =
                taken.iter().map(|batch| batch.column(at).as_ref()).collect();
            match self.schema.field(at).data_type() {
                DataType::Dictionary(codes, _) => match **codes {
                    DataType::UInt8 => coded::<UInt8Type>(&arrays, picks),
                    DataType::UInt16 => coded::<UInt16Type>(&arrays, picks),
                    _ => coded::<UInt32Type>(&arrays, picks),
                },
                _ => interleave(&arrays, picks),
            }
        };
        let columns: Result<Vec<ArrayRef>, _> =
            (0..self.schema.fields().len()).map(column).collect();
        let options = RecordBatchOptions::new().with_row_count(Some(picks.len()));
        columns
            .and_then(|columns| {
                RecordBatch::try_new_with_options(self.schema.clone(), columns, &options)
            })
            .map_err(|source| arrow_failed(&self.place, source))
    }
}

/// Rows of dictionaries. Where all share one array of values their codes are enough; otherwise the rows
/// get a dictionary of their own, of the values that stand in them.
fn coded<K: ArrowDictionaryKeyType>(
    arrays: &[&dyn Array],
    picks: &[(usize, usize)],
) -> Result<ArrayRef, ArrowError> {
    let dictionaries: Vec<_> = arrays.iter().map(|array| array.as_dictionary::<K>()).collect();
    let first = dictionaries[0].values();
    if dictionaries.iter().all(|dictionary| Arc::ptr_eq(dictionary.values(), first)) {
        let keys: Vec<&dyn Array> = dictionaries.iter().map(|d| d.keys() as &dyn Array).collect();
        let keys = interleave(&keys, picks)?.as_primitive::<K>().clone();
        return Ok(Arc::new(DictionaryArray::<K>::try_new(keys, first.clone())?));
    }
    let mut words = Interner::new();
    // For each code of each dictionary the new one, once it is known.
    let mut known: Vec<Vec<Option<u32>>> =
        dictionaries.iter().map(|dictionary| vec![None; dictionary.values().len()]).collect();
    let texts: Vec<&StringArray> =
        dictionaries.iter().map(|dictionary| dictionary.values().as_string::<i32>()).collect();
    let keys = picks.iter().map(|(place, row)| {
        let old = dictionaries[*place].key(*row)?;
        let new = known[*place][old]
            .get_or_insert_with(|| words.intern(texts[*place].value(old).as_bytes()).0);
        Some(K::Native::usize_as(*new as usize))
    });
    let keys: PrimitiveArray<K> = keys.collect();
    let words = words.iter().map(|word| std::str::from_utf8(word).expect("texts of an array"));
    Ok(Arc::new(DictionaryArray::<K>::try_new(
        keys,
        Arc::new(StringArray::from_iter_values(words)),
    )?))
}

/// Gives dictionaries with the same values the same array of them, column by column: those of a closed
/// list always have, and rows of theirs are then put together by code alone, with the codes the list has.
fn share_values(batch: RecordBatch, known: &mut [Option<ArrayRef>]) -> RecordBatch {
    let columns = batch.columns().iter().zip(known).map(|(column, known)| {
        let DataType::Dictionary(..) = column.data_type() else { return column.clone() };
        let dictionary = column.as_any_dictionary();
        match known {
            Some(values) if values.as_string::<i32>() == dictionary.values().as_string::<i32>() => {
                dictionary.with_values(values.clone())
            }
            Some(_) => column.clone(),
            None => {
                *known = Some(dictionary.values().clone());
                column.clone()
            }
        }
    });
    let columns: Vec<ArrayRef> = columns.collect();
    let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
    RecordBatch::try_new_with_options(batch.schema(), columns, &options)
        .expect("the columns are those of the batch")
}
