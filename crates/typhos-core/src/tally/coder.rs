//! The distinct values of one column, numbered.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::builder::{BinaryBuilder, FixedSizeBinaryBuilder, StringBuilder};
use arrow_array::cast::AsArray;
use arrow_array::types::{Float32Type, Float64Type};
use arrow_array::{Array, ArrayRef, Float64Array, UInt32Array};
use arrow_schema::DataType;

use super::TallyError;
use crate::columns::whole::{each_whole, is_whole, whole_array};
use crate::intern::Interner;
use crate::terms::Term;

/// Whole numbers from 0 to this have their codes in a table.
const SMALL: usize = 1 << 16;

/// Numbers values as they come: 0 is absent, the others follow.
#[derive(Debug)]
pub(super) struct Coder {
    kind: Kind,
    /// How the values come back.
    data_type: DataType,
}

#[derive(Debug)]
enum Kind {
    Whole {
        small: Vec<u32>,
        codes: HashMap<i128, u32, foldhash::fast::RandomState>,
        values: Vec<i128>,
    },
    Floats {
        codes: HashMap<u64, u32, foldhash::fast::RandomState>,
        values: Vec<f64>,
    },
    /// Texts of a list: the code of each is its place in it.
    Ranked {
        ranks: HashMap<String, u32>,
    },
    Bytes {
        known: Interner,
    },
}

/// How the values of a term are held in keys, where they compare as they are to be in order.
pub(super) fn key_type(term: &Term) -> DataType {
    match term.data_type() {
        data_type if is_whole(data_type) => data_type.clone(),
        DataType::Float32 | DataType::Float64 => DataType::Float64,
        DataType::Dictionary(..) if term.result.ranked => DataType::UInt32,
        DataType::FixedSizeBinary(width) => DataType::FixedSizeBinary(*width),
        DataType::Binary => DataType::Binary,
        _ => DataType::Utf8,
    }
}

impl Coder {
    pub fn new(term: &Term) -> Coder {
        let data_type = key_type(term);
        let kind = match &data_type {
            _ if term.result.ranked => {
                let values = term.result.values.iter().cloned().zip(1..);
                Kind::Ranked { ranks: values.collect() }
            }
            DataType::Float64 => Kind::Floats { codes: HashMap::default(), values: Vec::new() },
            other if is_whole(other) => {
                Kind::Whole { small: Vec::new(), codes: HashMap::default(), values: Vec::new() }
            }
            _ => Kind::Bytes { known: Interner::new() },
        };
        Coder { kind, data_type }
    }

    /// The codes of values, in order.
    pub fn codes(&mut self, array: &ArrayRef) -> Result<Vec<u32>, TallyError> {
        let mut codes = Vec::with_capacity(array.len());
        match &mut self.kind {
            Kind::Whole { small, codes: known, values } => each_whole(array, |value| {
                let Some(value) = value else { return codes.push(0) };
                let place = usize::try_from(value).ok().filter(|place| *place < SMALL);
                let Some(place) = place else {
                    let code = *known.entry(value).or_insert_with(|| {
                        values.push(value);
                        values.len() as u32
                    });
                    return codes.push(code);
                };
                if small.len() <= place {
                    small.resize((place + 1).next_power_of_two(), 0);
                }
                if small[place] == 0 {
                    values.push(value);
                    small[place] = values.len() as u32;
                }
                codes.push(small[place]);
            }),
            Kind::Floats { codes: known, values } => each_float(array, |value| {
                let Some(value) = value else { return codes.push(0) };
                // One zero, and one that is not a number.
                let value = if value.is_nan() { f64::NAN } else { value + 0.0 };
                codes.push(*known.entry(value.to_bits()).or_insert_with(|| {
                    values.push(value);
                    values.len() as u32
                }));
            }),
            Kind::Ranked { ranks } => {
                let code = |value: &[u8]| {
                    let text = String::from_utf8_lossy(value);
                    let rank = ranks.get(&*text).copied();
                    rank.ok_or_else(|| TallyError::NotRanked { value: text.into_owned() })
                };
                each_coded(array, &mut codes, code)?;
            }
            Kind::Bytes { known } => {
                each_coded(array, &mut codes, |value| Ok(known.intern(value).0 + 1))?;
            }
        }
        Ok(codes)
    }

    /// The values of codes, as they are held in keys.
    pub fn array(&self, codes: impl Iterator<Item = u32>) -> ArrayRef {
        let place = |code: u32| (code as usize).checked_sub(1);
        match &self.kind {
            Kind::Whole { values, .. } => {
                whole_array(&self.data_type, codes.map(|code| place(code).map(|at| values[at])))
            }
            Kind::Floats { values, .. } => Arc::new(Float64Array::from_iter(
                codes.map(|code| place(code).map(|at| values[at])),
            )),
            Kind::Ranked { .. } => {
                Arc::new(UInt32Array::from_iter(codes.map(|code| code.checked_sub(1))))
            }
            Kind::Bytes { known } => {
                let bytes = codes.map(|code| code.checked_sub(1).map(|at| known.get(at)));
                match &self.data_type {
                    DataType::FixedSizeBinary(width) => {
                        let mut builder = FixedSizeBinaryBuilder::new(*width);
                        for value in bytes {
                            match value {
                                Some(value) => builder.append_value(value).expect("as wide"),
                                None => builder.append_null(),
                            }
                        }
                        Arc::new(builder.finish())
                    }
                    DataType::Binary => {
                        let mut builder = BinaryBuilder::new();
                        bytes.for_each(|value| builder.append_option(value));
                        Arc::new(builder.finish())
                    }
                    _ => {
                        let mut builder = StringBuilder::new();
                        let text = |bytes| std::str::from_utf8(bytes).expect("a text");
                        bytes.for_each(|value| builder.append_option(value.map(text)));
                        Arc::new(builder.finish())
                    }
                }
            }
        }
    }

    /// About how many bytes it holds.
    pub fn held(&self) -> usize {
        match &self.kind {
            Kind::Whole { small, codes, values } => {
                small.len() * 4 + codes.capacity() * 33 + values.capacity() * 16
            }
            Kind::Floats { codes, values } => codes.capacity() * 17 + values.capacity() * 8,
            Kind::Ranked { .. } => 0,
            Kind::Bytes { known } => Interner::held_bytes(known.len(), known.bytes()),
        }
    }

    /// Forgets all values.
    pub fn clear(&mut self) {
        match &mut self.kind {
            Kind::Whole { small, codes, values } => {
                small.fill(0);
                codes.clear();
                values.clear();
            }
            Kind::Floats { codes, values } => {
                codes.clear();
                values.clear();
            }
            Kind::Ranked { .. } => {}
            Kind::Bytes { known } => *known = Interner::new(),
        }
    }
}

/// Hands every float to `each`, in order.
pub(super) fn each_float(array: &ArrayRef, each: impl FnMut(Option<f64>)) {
    match array.data_type() {
        DataType::Float32 => {
            array.as_primitive::<Float32Type>().iter().map(|v| v.map(f64::from)).for_each(each);
        }
        _ => array.as_primitive::<Float64Type>().iter().for_each(each),
    }
}

/// Adds the code of every value that is bytes; those of a dictionary are looked at once each.
fn each_coded(
    array: &ArrayRef,
    codes: &mut Vec<u32>,
    mut code: impl FnMut(&[u8]) -> Result<u32, TallyError>,
) -> Result<(), TallyError> {
    if let Some(dictionary) = array.as_any_dictionary_opt() {
        let words = dictionary.values().as_string::<i32>();
        // Only of those that stand in a row: what is in no row need not be in a list.
        let mut of_words = vec![u32::MAX; words.len()];
        for (row, word) in normalized(array).into_iter().enumerate() {
            if array.is_null(row) || words.is_null(word) {
                codes.push(0);
                continue;
            }
            if of_words[word] == u32::MAX {
                of_words[word] = code(words.value(word).as_bytes())?;
            }
            codes.push(of_words[word]);
        }
        return Ok(());
    }
    each_bytes(array, |value| {
        codes.push(value.map_or(Ok(0), &mut code)?);
        Ok(())
    })
}

/// The places of the words of a dictionary's rows; any, where a row is absent.
fn normalized(array: &ArrayRef) -> Vec<usize> {
    let dictionary = array.as_any_dictionary();
    match dictionary.values().is_empty() {
        true => vec![0; array.len()],
        false => dictionary.normalized_keys(),
    }
}

/// Hands every value that is bytes to `each`, in order.
pub(super) fn each_bytes<E>(
    array: &ArrayRef,
    mut each: impl FnMut(Option<&[u8]>) -> Result<(), E>,
) -> Result<(), E> {
    match array.data_type() {
        DataType::FixedSizeBinary(_) => array.as_fixed_size_binary().iter().try_for_each(each),
        DataType::Binary => array.as_binary::<i32>().iter().try_for_each(each),
        DataType::Dictionary(..) => {
            let words = array.as_any_dictionary().values().as_string::<i32>();
            normalized(array).into_iter().enumerate().try_for_each(|(row, word)| {
                let is_there = array.is_valid(row) && words.is_valid(word);
                each(is_there.then(|| words.value(word).as_bytes()))
            })
        }
        _ => {
            let mut values = array.as_string::<i32>().iter();
            values.try_for_each(|value| each(value.map(str::as_bytes)))
        }
    }
}
