//! What is known of the values of groups, while they come: it merges in any order to the same result.

use std::sync::Arc;

use arrow_array::builder::{FixedSizeBinaryBuilder, StringBuilder};
use arrow_array::{Array, ArrayRef, Float64Array, UInt64Array};
use arrow_buffer::i256;
use arrow_schema::DataType;

use super::TallyError;
use super::coder::{Coder, each_bytes, each_float, key_type};
use super::exact_sum::ExactSum;
use super::spec::{Measure, Measured, TallySpec, scale_of};
use crate::columns::whole::{dictionary_array, each_whole, is_whole, whole_array};
use crate::schema::ColumnDecl;

/// What is known of each of some groups: rows, and the values of every measure.
#[derive(Debug, Default)]
pub(super) struct States {
    pub rows: Vec<u64>,
    kept: Vec<Kept>,
}

/// The values of one measure, by group.
#[derive(Debug)]
enum Kept {
    /// Nothing beside the rows.
    Rows,
    /// How many are there.
    Present(Vec<u64>),
    /// Their number, and their sum.
    Sum(Vec<u64>, Vec<i256>),
    /// The same of floats.
    FloatSum(Vec<u64>, Vec<ExactSum>),
    /// The least, or the greatest; ranks count as whole numbers.
    Whole { is_max: bool, ranks: Option<Coder>, found: Vec<i128> },
    /// The same of floats; what is not a number is left out, and stands for none.
    Floats { is_max: bool, found: Vec<f64> },
    /// The same of texts.
    Bytes { is_max: bool, found: Vec<Option<Box<[u8]>>>, held: usize },
}

/// Stands for none among the least and greatest: no value is so small or so great.
fn none(is_max: bool) -> i128 {
    if is_max { i128::MIN } else { i128::MAX }
}

impl Kept {
    fn of(measure: &Measure) -> Kept {
        let Some(term) = measure.term() else { return Kept::Rows };
        let key_type = key_type(term);
        let is_max = measure.what == Measured::Max;
        match measure.what {
            Measured::Count | Measured::Quantile(_) => Kept::Present(Vec::new()),
            Measured::Distinct => Kept::Rows,
            Measured::Sum | Measured::Mean | Measured::Share if is_whole(&key_type) => {
                Kept::Sum(Vec::new(), Vec::new())
            }
            Measured::Sum | Measured::Mean | Measured::Share => {
                Kept::FloatSum(Vec::new(), Vec::new())
            }
            Measured::Min | Measured::Max if term.result.ranked => {
                Kept::Whole { is_max, ranks: Some(Coder::new(term)), found: Vec::new() }
            }
            Measured::Min | Measured::Max if is_whole(&key_type) => {
                Kept::Whole { is_max, ranks: None, found: Vec::new() }
            }
            Measured::Min | Measured::Max if key_type == DataType::Float64 => {
                Kept::Floats { is_max, found: Vec::new() }
            }
            Measured::Min | Measured::Max => Kept::Bytes { is_max, found: Vec::new(), held: 0 },
        }
    }

    fn resize(&mut self, groups: usize) {
        match self {
            Kept::Rows => {}
            Kept::Present(present) => present.resize(groups, 0),
            Kept::Sum(present, sums) => {
                present.resize(groups, 0);
                sums.resize(groups, i256::ZERO);
            }
            Kept::FloatSum(present, sums) => {
                present.resize(groups, 0);
                sums.resize(groups, ExactSum::default());
            }
            Kept::Whole { is_max, found, .. } => found.resize(groups, none(*is_max)),
            Kept::Floats { found, .. } => found.resize(groups, f64::NAN),
            Kept::Bytes { found, .. } => found.resize(groups, None),
        }
    }

    fn take(&mut self, groups: &[u32], array: &ArrayRef) -> Result<(), TallyError> {
        let mut ids = groups.iter().map(|group| *group as usize);
        let mut next = || ids.next().expect("a group for every row");
        match self {
            Kept::Rows => {}
            Kept::Present(present) => {
                for (row, group) in groups.iter().enumerate() {
                    present[*group as usize] += u64::from(array.is_valid(row));
                }
            }
            Kept::Sum(present, sums) => each_whole(array, |value| {
                let group = next();
                if let Some(value) = value {
                    present[group] += 1;
                    sums[group] = sums[group].wrapping_add(i256::from_i128(value));
                }
            }),
            Kept::FloatSum(present, sums) => each_float(array, |value| {
                let group = next();
                if let Some(value) = value {
                    present[group] += 1;
                    sums[group].add(value);
                }
            }),
            Kept::Whole { is_max, ranks: Some(ranks), found } => {
                for code in ranks.codes(array)? {
                    let group = next();
                    if code > 0 {
                        further(*is_max, &mut found[group], i128::from(code - 1));
                    }
                }
            }
            Kept::Whole { is_max, ranks: None, found } => each_whole(array, |value| {
                let group = next();
                if let Some(value) = value {
                    further(*is_max, &mut found[group], value);
                }
            }),
            Kept::Floats { is_max, found } => each_float(array, |value| {
                let group = next();
                if let Some(value) = value {
                    further_float(*is_max, &mut found[group], value);
                }
            }),
            Kept::Bytes { is_max, found, held } => {
                each_bytes::<TallyError>(array, |value| {
                    let group = next();
                    if let Some(value) = value {
                        further_bytes(*is_max, &mut found[group], value, held);
                    }
                    Ok(())
                })?;
            }
        }
        Ok(())
    }

    /// Adds what another knows of its group to a group.
    fn merge(&mut self, group: usize, other: &Kept, theirs: usize) {
        match (self, other) {
            (Kept::Present(ours), Kept::Present(other)) => ours[group] += other[theirs],
            (Kept::Sum(present, sums), Kept::Sum(other, others)) => {
                present[group] += other[theirs];
                sums[group] = sums[group].wrapping_add(others[theirs]);
            }
            (Kept::FloatSum(present, sums), Kept::FloatSum(other, others)) => {
                present[group] += other[theirs];
                sums[group].merge(&others[theirs]);
            }
            _ => {}
        }
    }

    fn write(&self, group: usize, to: &mut Vec<u8>) {
        match self {
            Kept::Rows => {}
            Kept::Present(present) => to.extend(present[group].to_le_bytes()),
            Kept::Sum(present, sums) => {
                to.extend(present[group].to_le_bytes());
                to.extend(sums[group].to_le_bytes());
            }
            Kept::FloatSum(present, sums) => {
                to.extend(present[group].to_le_bytes());
                sums[group].write(to);
            }
            Kept::Whole { found, .. } => to.extend(found[group].to_le_bytes()),
            Kept::Floats { found, .. } => to.extend(found[group].to_le_bytes()),
            Kept::Bytes { found, .. } => {
                let bytes = found[group].as_deref();
                to.extend(bytes.map_or(u32::MAX, |bytes| bytes.len() as u32).to_le_bytes());
                to.extend(bytes.unwrap_or_default());
            }
        }
    }

    /// Adds what was written to a group, and returns what follows it.
    fn absorb<'b>(&mut self, group: usize, bytes: &'b [u8]) -> &'b [u8] {
        fn first<const N: usize>(bytes: &[u8]) -> ([u8; N], &[u8]) {
            let (first, rest) = bytes.split_first_chunk().expect("a whole state");
            (*first, rest)
        }
        let count = |bytes: &'b [u8]| {
            let (count, rest) = first(bytes);
            (u64::from_le_bytes(count), rest)
        };
        match self {
            Kept::Rows => bytes,
            Kept::Present(present) => {
                let (more, rest) = count(bytes);
                present[group] += more;
                rest
            }
            Kept::Sum(present, sums) => {
                let (more, rest) = count(bytes);
                let (sum, rest) = first(rest);
                present[group] += more;
                sums[group] = sums[group].wrapping_add(i256::from_le_bytes(sum));
                rest
            }
            Kept::FloatSum(present, sums) => {
                let (more, rest) = count(bytes);
                let (sum, rest) = ExactSum::read(rest);
                present[group] += more;
                sums[group].merge(&sum);
                rest
            }
            Kept::Whole { is_max, found, .. } => {
                let (value, rest) = first(bytes);
                let value = i128::from_le_bytes(value);
                if value != none(*is_max) {
                    further(*is_max, &mut found[group], value);
                }
                rest
            }
            Kept::Floats { is_max, found } => {
                let (value, rest) = first(bytes);
                further_float(*is_max, &mut found[group], f64::from_le_bytes(value));
                rest
            }
            Kept::Bytes { is_max, found, held } => {
                let (length, rest) = first(bytes);
                match u32::from_le_bytes(length) {
                    u32::MAX => rest,
                    length => {
                        let (value, rest) = rest.split_at(length as usize);
                        further_bytes(*is_max, &mut found[group], value, held);
                        rest
                    }
                }
            }
        }
    }

    /// About how many bytes it holds.
    fn held(&self) -> usize {
        match self {
            Kept::Rows => 0,
            Kept::Present(present) => present.capacity() * 8,
            Kept::Sum(present, sums) => present.capacity() * 8 + sums.capacity() * 32,
            // Most sums have a part or two, on the heap.
            Kept::FloatSum(present, sums) => {
                let parts: usize = sums.first().map_or(0, |sum| sum.held().max(48));
                present.capacity() * 8 + sums.capacity() * (size_of::<ExactSum>() + parts)
            }
            Kept::Whole { found, .. } => found.capacity() * 16,
            Kept::Floats { found, .. } => found.capacity() * 8,
            Kept::Bytes { found, held, .. } => found.capacity() * 16 + held,
        }
    }
}

fn further(is_max: bool, found: &mut i128, value: i128) {
    if if is_max { value > *found } else { value < *found } {
        *found = value;
    }
}

fn further_float(is_max: bool, found: &mut f64, value: f64) {
    *found = if is_max { found.max(value) } else { found.min(value) };
}

fn further_bytes(is_max: bool, found: &mut Option<Box<[u8]>>, value: &[u8], held: &mut usize) {
    let is_further = match found.as_deref() {
        None => true,
        Some(known) if is_max => value > known,
        Some(known) => value < known,
    };
    if is_further {
        // What the heap keeps beside the bytes is counted roughly.
        *held += value.len() + 16;
        *held -= found.as_deref().map_or(0, |known| known.len() + 16);
        *found = Some(value.into());
    }
}

impl States {
    pub fn of(spec: &TallySpec) -> States {
        States { rows: Vec::new(), kept: spec.show().iter().map(Kept::of).collect() }
    }

    /// Has room for so many groups.
    pub fn resize(&mut self, groups: usize) {
        self.rows.resize(groups, 0);
        self.kept.iter_mut().for_each(|kept| kept.resize(groups));
    }

    /// Takes rows: the group of each, and the values of each measure that is of values.
    pub fn take(
        &mut self,
        groups: &[u32],
        measured: &[Option<ArrayRef>],
    ) -> Result<(), TallyError> {
        groups.iter().for_each(|group| self.rows[*group as usize] += 1);
        for (kept, array) in self.kept.iter_mut().zip(measured) {
            if let Some(array) = array {
                kept.take(groups, array)?;
            }
        }
        Ok(())
    }

    pub fn write(&self, group: usize, to: &mut Vec<u8>) {
        to.extend(self.rows[group].to_le_bytes());
        self.kept.iter().for_each(|kept| kept.write(group, to));
    }

    /// Adds what was written of a group.
    pub fn absorb(&mut self, group: usize, bytes: &[u8]) {
        let (rows, mut bytes) = bytes.split_first_chunk().expect("a whole state");
        self.rows[group] += u64::from_le_bytes(*rows);
        for kept in &mut self.kept {
            bytes = kept.absorb(group, bytes);
        }
    }

    /// About how many bytes they hold.
    pub fn held(&self) -> usize {
        self.rows.capacity() * 8 + self.kept.iter().map(Kept::held).sum::<usize>()
    }

    pub fn clear(&mut self) {
        self.resize(0);
        for kept in &mut self.kept {
            if let Kept::Bytes { held, .. } = kept {
                *held = 0;
            }
        }
    }

    /// How many values of a measure are there in a group.
    pub fn present(&self, measure: usize, group: usize) -> u64 {
        match &self.kept[measure] {
            Kept::Present(present) | Kept::Sum(present, _) | Kept::FloatSum(present, _) => {
                present[group]
            }
            _ => self.rows[group],
        }
    }

    /// What a measure is in all groups; distinct values and quantiles are worked out elsewhere.
    pub fn result(
        &self,
        at: usize,
        measure: &Measure,
        totals: &Totals,
    ) -> Result<ArrayRef, TallyError> {
        let source = measure.term().map(key_type);
        let scale = source.as_ref().filter(|it| is_whole(it)).map_or(0, scale_of);
        let result = &measure.result;
        Ok(match (&self.kept[at], measure.what) {
            (Kept::Rows, Measured::Share) => {
                let all = totals.states.rows[0] as f64;
                Arc::new(Float64Array::from_iter(self.rows.iter().map(|rows| *rows as f64 / all)))
            }
            (Kept::Rows, _) => Arc::new(UInt64Array::from(self.rows.clone())),
            (Kept::Present(present), _) => Arc::new(UInt64Array::from(present.clone())),
            (Kept::Sum(present, sums), what) => {
                let sums = sums.iter().zip(present);
                match what {
                    Measured::Sum => sum_array(sums, result)?,
                    Measured::Mean if result.scalar().is_number() => {
                        let means = sums.map(|(sum, count)| {
                            (*count > 0).then(|| scaled(*sum, scale) / *count as f64)
                        });
                        Arc::new(Float64Array::from_iter(means))
                    }
                    Measured::Mean => {
                        let means = sums.map(|(sum, count)| {
                            (*count > 0).then(|| sum.to_i128()).flatten().map(|sum| {
                                (sum + i128::from(*count) / 2).div_euclid(i128::from(*count))
                            })
                        });
                        whole_array(&result.scalar().arrow(0), means)
                    }
                    _ => {
                        let all = totals.states.sum(at, scale);
                        let shares = sums
                            .map(|(sum, count)| (*count > 0).then(|| scaled(*sum, scale) / all));
                        Arc::new(Float64Array::from_iter(shares))
                    }
                }
            }
            (Kept::FloatSum(present, sums), what) => {
                let all = match what {
                    Measured::Share => totals.states.sum(at, 0),
                    _ => 1.0,
                };
                let values = sums.iter().zip(present).map(|(sum, count)| {
                    let by = if what == Measured::Mean { *count as f64 } else { all };
                    (*count > 0).then(|| sum.value() / by)
                });
                Arc::new(Float64Array::from_iter(values))
            }
            (Kept::Whole { is_max, ranks, found }, _) => {
                let values = found.iter().map(|value| (*value != none(*is_max)).then_some(*value));
                match ranks {
                    Some(_) => ranked(values, result),
                    None => whole_array(source.as_ref().expect("it has a term"), values),
                }
            }
            (Kept::Floats { found, .. }, _) => {
                let values = found.iter().map(|value| (!value.is_nan()).then_some(*value));
                Arc::new(Float64Array::from_iter(values))
            }
            (Kept::Bytes { found, .. }, _) => {
                bytes_array(source.as_ref(), found.iter().map(Option::as_deref))
            }
        })
    }

    fn sum(&self, at: usize, scale: u8) -> f64 {
        match &self.kept[at] {
            Kept::Sum(_, sums) => scaled(sums[0], scale),
            Kept::FloatSum(_, sums) => sums[0].value(),
            _ => self.rows[0] as f64,
        }
    }
}

/// A whole number at a scale, as a float.
pub fn scaled(value: i256, scale: u8) -> f64 {
    let float = match value.to_i128() {
        Some(value) => value as f64,
        // Beyond 38 digits: what is below the upper half does not show in a float.
        None => {
            let (low, high) = value.to_parts();
            high as f64 * 2f64.powi(128) + low as f64
        }
    };
    float / 10f64.powi(scale.into())
}

fn sum_array<'s>(
    sums: impl Iterator<Item = (&'s i256, &'s u64)>,
    result: &ColumnDecl,
) -> Result<ArrayRef, TallyError> {
    let data_type = result.scalar().arrow(0);
    let most = match data_type {
        DataType::Decimal128(..) => 10i128.pow(38) - 1,
        _ => i128::from(i64::MAX),
    };
    let sums: Vec<Option<i128>> = sums
        .map(|(sum, count)| {
            if *count == 0 {
                return Ok(None);
            }
            let sum = sum.to_i128().filter(|sum| (-most..=most).contains(sum));
            sum.map(Some).ok_or_else(|| TallyError::TooLarge { name: result.name.clone() })
        })
        .collect::<Result<_, _>>()?;
    Ok(whole_array(&data_type, sums.into_iter()))
}

/// Ranks as what they are ranks of.
pub(super) fn ranked(ranks: impl Iterator<Item = Option<i128>>, result: &ColumnDecl) -> ArrayRef {
    dictionary_array(&result.scalar().arrow(result.values.len()), ranks, &result.values)
}

/// Bytes as texts, or as what else they are.
fn bytes_array<'b>(
    data_type: Option<&DataType>,
    values: impl Iterator<Item = Option<&'b [u8]>>,
) -> ArrayRef {
    if let Some(DataType::FixedSizeBinary(width)) = data_type {
        let mut builder = FixedSizeBinaryBuilder::new(*width);
        for value in values {
            match value {
                Some(value) => builder.append_value(value).expect("as wide"),
                None => builder.append_null(),
            }
        }
        return Arc::new(builder.finish());
    }
    let mut builder = StringBuilder::new();
    values.for_each(|value| {
        builder.append_option(value.map(|value| std::str::from_utf8(value).expect("a text")));
    });
    Arc::new(builder.finish())
}

/// The same of all rows, which shares are of.
#[derive(Debug)]
pub(super) struct Totals {
    states: States,
    /// The measures that are shares.
    shares: Vec<bool>,
}

impl Totals {
    pub fn of(spec: &TallySpec) -> Totals {
        let shares = spec.show().iter().map(|measure| measure.what == Measured::Share).collect();
        let mut states = States::of(spec);
        states.resize(1);
        Totals { states, shares }
    }

    pub fn take(&mut self, rows: usize, measured: &[Option<ArrayRef>]) -> Result<(), TallyError> {
        self.states.rows[0] += rows as u64;
        for ((kept, array), is_share) in self.states.kept.iter_mut().zip(measured).zip(&self.shares)
        {
            if let Some(array) = array.as_ref().filter(|_| *is_share) {
                kept.take(&vec![0; rows], array)?;
            }
        }
        Ok(())
    }

    pub fn merge(&mut self, other: &Totals) {
        self.states.rows[0] += other.states.rows[0];
        for (ours, theirs) in self.states.kept.iter_mut().zip(&other.states.kept) {
            ours.merge(0, theirs, 0);
        }
    }

    /// Rows in all.
    pub fn rows(&self) -> u64 {
        self.states.rows[0]
    }
}
