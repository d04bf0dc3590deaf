//! All groups, merged, in the order of what they are grouped by.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::UInt32Type;
use arrow_array::{Array, ArrayRef, Float64Array, RecordBatch, UInt32Array, UInt64Array};
use arrow_buffer::i256;
use arrow_schema::{DataType, SchemaRef};
use arrow_select::take::take;

use super::TallyError;
use super::coder::each_float;
use super::groups::{Entries, GroupTable, Keys, split_entry};
use super::measure::{States, Totals, ranked, scaled};
use super::spec::{Measure, Measured, TallySpec, scale_of};
use crate::columns::whole::{each_whole, is_whole, whole_array};
use crate::schema::ColumnDecl;

/// Groups of rows, in order.
pub struct Groups {
    spec: Arc<TallySpec>,
    schema: SchemaRef,
    groups: Stream,
    /// Groups and values, of each term whose values are wanted themselves.
    pairs: Vec<Stream>,
    totals: Totals,
    is_over: bool,
}

/// Entries, and the first of them that is not taken yet.
struct Stream {
    keys: Arc<Keys>,
    entries: Entries,
    head: Option<Vec<u8>>,
    place: String,
}

impl Stream {
    fn of(tables: Vec<GroupTable>, place: &str) -> Result<Stream, TallyError> {
        let keys = tables[0].keys();
        let entries = GroupTable::merged(tables)?;
        let mut stream = Stream { keys, entries, head: None, place: place.to_owned() };
        stream.go_on()?;
        Ok(stream)
    }

    fn go_on(&mut self) -> Result<(), TallyError> {
        let next = self.entries.next();
        self.head = next.map_err(|source| TallyError::Io { place: self.place.clone(), source })?;
        Ok(())
    }
}

/// A quantile of each group of a batch: the keys of the two values that it is between.
struct Between {
    measure: usize,
    part: f64,
    keys: Vec<Option<[Vec<u8>; 2]>>,
}

impl Groups {
    pub(super) fn new(
        spec: Arc<TallySpec>,
        tables: Vec<GroupTable>,
        pairs: Vec<Vec<GroupTable>>,
        totals: Totals,
        place: String,
    ) -> Result<Groups, TallyError> {
        Ok(Groups {
            schema: spec.arrow(),
            groups: Stream::of(tables, &place)?,
            pairs: pairs
                .into_iter()
                .map(|tables| Stream::of(tables, &place))
                .collect::<Result<_, _>>()?,
            spec,
            totals,
            is_over: false,
        })
    }

    /// Rows that were grouped.
    pub fn rows(&self) -> u64 {
        self.totals.rows()
    }

    /// How the groups are held: see [`TallySpec::arrow`].
    pub fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    /// The next groups, at most so many; `None` when there are no more. Without anything to group by there is one, also of no rows.
    ///
    /// # Errors
    /// A temporary file that cannot be read, and a sum that no number holds.
    pub fn next(&mut self, most: usize) -> Result<Option<RecordBatch>, TallyError> {
        let spec = self.spec.clone();
        let mut states = States::of(&spec);
        let mut keys: Vec<Vec<u8>> = Vec::new();
        while let Some(entry) = &self.groups.head {
            let (key, state) = split_entry(entry);
            if keys.last().is_none_or(|last| last != key) {
                if keys.len() == most {
                    break;
                }
                keys.push(key.to_vec());
                states.resize(keys.len());
            }
            states.absorb(keys.len() - 1, state);
            self.groups.go_on()?;
        }
        if keys.is_empty() && spec.by().is_empty() && !self.is_over {
            keys.push(Vec::new());
            states.resize(1);
        }
        self.is_over = true;
        if keys.is_empty() {
            return Ok(None);
        }
        let columns = self.groups.keys.columns(&keys);
        let mut columns: Vec<ArrayRef> = columns
            .into_iter()
            .zip(spec.results())
            .map(|(column, result)| of_key(column, result))
            .collect();
        let mut valued = self.valued(&keys, &states)?;
        for (at, measure) in spec.show().iter().enumerate() {
            columns.push(match valued[at].take() {
                Some(column) => column,
                None => states.result(at, measure, &self.totals)?,
            });
        }
        // Numbers of a file may be held wider than their declaration says.
        let fields = self.schema.fields().iter();
        let columns = columns.into_iter().zip(fields).map(|(column, field)| {
            let is_other = column.data_type() != field.data_type() && is_whole(column.data_type());
            if is_other { held_as(&column, field.data_type()) } else { column }
        });
        let batch = RecordBatch::try_new(self.schema.clone(), columns.collect());
        Ok(Some(batch.expect("columns of the types that were said")))
    }

    /// The measures of these groups that are of the values themselves.
    fn valued(
        &mut self,
        keys: &[Vec<u8>],
        states: &States,
    ) -> Result<Vec<Option<ArrayRef>>, TallyError> {
        let spec = self.spec.clone();
        let mut found: Vec<Option<ArrayRef>> = spec.show().iter().map(|_| None).collect();
        for (term, pairs) in self.pairs.iter_mut().enumerate() {
            let of_term = |measure: &&(usize, &Measure)| measure.1.valued == Some(term);
            let measures: Vec<(usize, &Measure)> =
                spec.show().iter().enumerate().filter(|it| of_term(&it)).collect();
            let mut distinct = Vec::with_capacity(keys.len());
            let mut between: Vec<Between> = Vec::new();
            for (at, measure) in &measures {
                if let Measured::Quantile(part) = measure.what {
                    between.push(Between { measure: *at, part, keys: Vec::new() });
                }
            }
            for (group, key) in keys.iter().enumerate() {
                distinct.push(walk(pairs, key, group, states, &mut between)?);
            }
            for (at, measure) in measures {
                found[at] = Some(match measure.what {
                    Measured::Distinct => Arc::new(UInt64Array::from(distinct.clone())),
                    _ => {
                        let between = between.iter().find(|it| it.measure == at);
                        between.expect("one for each").array(&pairs.keys, measure, states)
                    }
                });
            }
        }
        Ok(found)
    }
}

/// Goes through the values of a group in their order. Returns how many distinct ones there are.
fn walk(
    pairs: &mut Stream,
    key: &[u8],
    group: usize,
    states: &States,
    between: &mut [Between],
) -> Result<u64, TallyError> {
    // The places that are wanted, of the lower and of the upper value of each.
    let places: Vec<(u64, u64)> = between
        .iter()
        .map(|it| {
            let last = states.present(it.measure, group).saturating_sub(1);
            let place = last as f64 * it.part;
            ((place.floor() as u64).min(last), (place.ceil() as u64).min(last))
        })
        .collect();
    between.iter_mut().for_each(|it| it.keys.push(None));
    let (mut distinct, mut passed) = (0, 0u64);
    let mut value: Vec<u8> = Vec::new();
    while let Some(entry) = &pairs.head {
        let (pair, state) = split_entry(entry);
        if !pair.starts_with(key) {
            break;
        }
        if distinct == 0 || value != pair {
            distinct += 1;
            value = pair.to_vec();
        }
        let rows = state.first_chunk().map_or(0, |rows| u64::from_le_bytes(*rows));
        for (between, (low, high)) in between.iter_mut().zip(&places) {
            let is_here = |place: u64| (passed..passed + rows).contains(&place);
            let last = between.keys.last_mut().expect("one for each group");
            if is_here(*low) {
                *last = Some([value.clone(), value.clone()]);
            }
            if let Some([_, upper]) = last.as_mut().filter(|_| is_here(*high)) {
                upper.clone_from(&value);
            }
        }
        passed += rows;
        pairs.go_on()?;
    }
    Ok(distinct)
}

impl Between {
    fn array(&self, keys: &Keys, measure: &Measure, states: &States) -> ArrayRef {
        let there: Vec<&[Vec<u8>; 2]> = self.keys.iter().flatten().collect();
        let values = |of: usize| {
            let keys_of: Vec<Vec<u8>> = there.iter().map(|pair| pair[of].clone()).collect();
            keys.columns(&keys_of).pop().expect("the last column is the value")
        };
        let low = values(0);
        if !measure.result.scalar().is_number() || *low.data_type() == DataType::Utf8 {
            let mut at = 0..;
            let places = self.keys.iter().map(|key| key.as_ref().and_then(|_| at.next()));
            let places: UInt32Array = places.collect();
            let spread = take(&low, &places, None).expect("places of the values");
            return of_key(spread, &measure.result);
        }
        let (low, high) = (floats(&low), floats(&values(1)));
        let mut pairs = low.into_iter().zip(high);
        let found = self.keys.iter().enumerate().map(|(group, key)| {
            key.as_ref()?;
            let (low, high) = pairs.next()?;
            let last = states.present(self.measure, group).saturating_sub(1);
            let part = (last as f64 * self.part).fract();
            Some(if part == 0.0 { low } else { low + (high - low) * part })
        });
        Arc::new(Float64Array::from_iter(found))
    }
}

/// Numbers as floats.
fn floats(array: &ArrayRef) -> Vec<f64> {
    let mut floats = Vec::with_capacity(array.len());
    match is_whole(array.data_type()) {
        true => {
            let scale = scale_of(array.data_type());
            each_whole(array, |value| {
                floats.push(scaled(i256::from_i128(value.unwrap_or(0)), scale));
            });
        }
        false => each_float(array, |value| floats.push(value.unwrap_or(f64::NAN))),
    }
    floats
}

/// Whole numbers, held in another way.
fn held_as(column: &ArrayRef, data_type: &DataType) -> ArrayRef {
    let mut values = Vec::with_capacity(column.len());
    each_whole(column, |value| values.push(value));
    whole_array(data_type, values.into_iter())
}

/// A column of keys as a column of groups.
fn of_key(column: ArrayRef, result: &ColumnDecl) -> ArrayRef {
    if !result.ranked {
        return column;
    }
    let ranks = column.as_primitive::<UInt32Type>().iter();
    ranked(ranks.map(|rank| rank.map(i128::from)), result)
}
