//! Values of other programs as we hold them: what is the same in another form is made ours, so that it can be asked about, grouped
//! and shown in one way.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Date64Type, Float16Type, UInt32Type};
use arrow_array::{
    Array, ArrayRef, DictionaryArray, Float32Array, RecordBatch, RecordBatchOptions, StringArray,
    TimestampMillisecondArray,
};
use arrow_schema::{DataType, Field, Fields, Schema as ArrowSchema, SchemaRef, TimeUnit};
use arrow_select::take::take;

use crate::columns::RANKED_KEY;
use crate::columns::whole::{dictionary_array, each_whole};

/// How values of a type are held here; `None` where they stay as they are.
fn plain_type(data_type: &DataType) -> Option<DataType> {
    Some(match data_type {
        DataType::LargeUtf8 | DataType::Utf8View => DataType::Utf8,
        DataType::Float16 => DataType::Float32,
        DataType::Date64 => DataType::Timestamp(TimeUnit::Millisecond, None),
        DataType::Dictionary(_, values) if **values != DataType::Utf8 => {
            plain_type(values).unwrap_or_else(|| (**values).clone())
        }
        DataType::Dictionary(codes, _) if !is_code(codes) => {
            DataType::Dictionary(DataType::UInt32.into(), DataType::Utf8.into())
        }
        _ => return None,
    })
}

/// Whether codes of dictionaries are held so here.
fn is_code(data_type: &DataType) -> bool {
    matches!(data_type, DataType::UInt8 | DataType::UInt16 | DataType::UInt32)
}

/// Whether a word of a dictionary is null, so that its codes do not say which rows have no value.
fn hides_nulls(array: &ArrayRef) -> bool {
    array.as_any_dictionary_opt().is_some_and(|dictionary| dictionary.values().null_count() > 0)
}

/// The columns of rows as they are held here.
pub fn plain_schema(schema: &ArrowSchema) -> SchemaRef {
    let field = |field: &Arc<Field>| match plain_type(field.data_type()) {
        Some(plain) => Arc::new(Field::clone(field).with_data_type(plain)),
        None => field.clone(),
    };
    let fields: Fields = schema.fields().iter().map(field).collect();
    Arc::new(ArrowSchema::new_with_metadata(fields, schema.metadata().clone()))
}

/// Rows as they are held here.
pub(super) fn plain_batch(batch: &RecordBatch) -> RecordBatch {
    let fields = batch.schema_ref().fields();
    let is_ours = |(field, column): (&Arc<Field>, &ArrayRef)| {
        let is_plain = plain_type(column.data_type()).is_none() && !hides_nulls(column);
        is_plain && !field.metadata().contains_key(RANKED_KEY)
    };
    if fields.iter().zip(batch.columns()).all(is_ours) {
        return batch.clone();
    }
    let plain = |(field, column): (&Arc<Field>, &ArrayRef)| match field.metadata().get(RANKED_KEY) {
        Some(values) => {
            let values: Option<Vec<String>> = serde_json::from_str(values).ok();
            let ranked = values.and_then(|values| by_list(column, &values));
            ranked.unwrap_or_else(|| plain_array(column))
        }
        None => plain_array(column),
    };
    let columns = fields.iter().zip(batch.columns()).map(plain).collect();
    let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
    RecordBatch::try_new_with_options(plain_schema(batch.schema_ref()), columns, &options)
        .expect("columns of the plain types")
}

/// A category whose codes are the places in its list: as it is read from a file, they are the order in which values came. `None`
/// where it has a value that is not in the list.
pub(super) fn by_list(array: &ArrayRef, values: &[String]) -> Option<ArrayRef> {
    let dictionary = array.as_any_dictionary_opt()?;
    let words = dictionary.values().as_string_opt::<i32>()?;
    if words.iter().eq(values.iter().map(|value| Some(&value[..]))) {
        return Some(array.clone());
    }
    let ranks: HashMap<&str, i128> = values.iter().map(|value| &value[..]).zip(0..).collect();
    let of_words: Vec<Option<i128>> = (0..words.len())
        .map(|word| match words.is_null(word) {
            true => Some(None),
            false => ranks.get(words.value(word)).map(|rank| Some(*rank)),
        })
        .collect::<Option<_>>()?;
    let mut places = Vec::with_capacity(array.len());
    each_whole(dictionary.keys(), |key| {
        let word = key.and_then(|key| usize::try_from(key).ok());
        places.push(word.and_then(|word| *of_words.get(word)?));
    });
    let room = match dictionary.keys().data_type() {
        DataType::Int8 => 128,
        DataType::UInt8 => 256,
        _ => i128::MAX,
    };
    (values.len() as i128 <= room)
        .then(|| dictionary_array(array.data_type(), places.into_iter(), values))
}

fn plain_array(array: &ArrayRef) -> ArrayRef {
    match array.data_type() {
        DataType::LargeUtf8 => Arc::new(StringArray::from_iter(array.as_string::<i64>())),
        DataType::Utf8View => Arc::new(StringArray::from_iter(array.as_string_view())),
        DataType::Float16 => {
            let values = array.as_primitive::<Float16Type>().iter();
            Arc::new(Float32Array::from_iter(values.map(|value| value.map(f32::from))))
        }
        DataType::Date64 => {
            let values = array.as_primitive::<Date64Type>().iter();
            Arc::new(TimestampMillisecondArray::from_iter(values))
        }
        DataType::Dictionary(_, values) if **values != DataType::Utf8 => {
            let dictionary = array.as_any_dictionary();
            let found = take(dictionary.values(), dictionary.keys(), None);
            plain_array(&found.expect("keys are places of values"))
        }
        DataType::Dictionary(codes, _) if !is_code(codes) || hides_nulls(array) => {
            let dictionary = array.as_any_dictionary();
            let words = dictionary.values().as_string::<i32>();
            let mut places = Vec::with_capacity(array.len());
            each_whole(dictionary.keys(), |key| {
                let place = key.and_then(|key| u32::try_from(key).ok());
                places.push(place.filter(|place| words.is_valid(*place as usize)));
            });
            if !is_code(codes) {
                let words = Arc::new(words.clone());
                return Arc::new(DictionaryArray::<UInt32Type>::new(places.into(), words));
            }
            let words: Vec<String> =
                words.iter().map(|word| word.unwrap_or_default().to_owned()).collect();
            let places = places.into_iter().map(|place| place.map(i128::from));
            dictionary_array(array.data_type(), places, &words)
        }
        _ => array.clone(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::columns::cell_text;
    use arrow_array::types::{Int8Type, Int32Type};
    use arrow_array::{Date64Array, Int64Array, LargeStringArray, StringViewArray};

    /// The law: what is made ours shows the same values, and the schema says how it is held.
    #[test]
    fn what_is_made_ours_is_the_same() {
        let words: DictionaryArray<Int32Type> = [Some("b"), None, Some("a")].into_iter().collect();
        let numbers = DictionaryArray::<Int8Type>::new(
            vec![Some(1), None, Some(0)].into(),
            Arc::new(Int64Array::from(vec![5, 6])),
        );
        let columns: Vec<ArrayRef> = vec![
            Arc::new(LargeStringArray::from(vec![Some("a"), None, Some("")])),
            Arc::new(StringViewArray::from(vec![Some("long enough for a view"), None, Some("")])),
            Arc::new(Date64Array::from(vec![Some(86_400_000), None, Some(-86_400_000)])),
            Arc::new(words),
            Arc::new(numbers),
        ];
        let fields: Vec<Field> = columns
            .iter()
            .enumerate()
            .map(|(at, column)| Field::new(format!("c{at}"), column.data_type().clone(), true))
            .collect();
        let batch = RecordBatch::try_new(Arc::new(ArrowSchema::new(fields)), columns).unwrap();
        let plain = plain_batch(&batch);
        assert_eq!(plain.schema(), plain_schema(batch.schema_ref()));
        for (ours, theirs) in plain.columns().iter().zip(batch.columns()) {
            assert_ne!(ours.data_type(), theirs.data_type());
            for row in 0..3 {
                assert_eq!(cell_text(ours, row), cell_text(theirs, row), "{}", theirs.data_type());
            }
        }
        let types: Vec<_> =
            plain.columns().iter().map(|column| column.data_type().clone()).collect();
        assert_eq!(types[4], DataType::Int64);
        assert!(matches!(&types[3], DataType::Dictionary(codes, _) if **codes == DataType::UInt32));
    }

    /// A row whose word is null has no value, whatever its code says.
    #[test]
    fn a_null_among_the_words_of_a_dictionary_is_no_value() {
        fn dictionary<K: arrow_array::types::ArrowDictionaryKeyType>(
            keys: impl Into<arrow_array::PrimitiveArray<K>>,
        ) -> ArrayRef {
            let words = Arc::new(StringArray::from(vec![Some("a"), None]));
            Arc::new(DictionaryArray::<K>::new(keys.into(), words))
        }
        for column in [
            dictionary::<arrow_array::types::UInt8Type>(vec![Some(0), Some(1), None]),
            dictionary::<Int8Type>(vec![Some(0), Some(1), None]),
        ] {
            let field = Field::new("c", column.data_type().clone(), true);
            let schema = Arc::new(ArrowSchema::new(vec![field]));
            let batch = RecordBatch::try_new(schema, vec![column.clone()]).unwrap();
            let plain = plain_batch(&batch);
            assert_eq!(plain.schema(), plain_schema(batch.schema_ref()));
            let plain = plain.column(0);
            assert_eq!(plain.null_count(), 2);
            for array in [plain, &column] {
                let cells: Vec<_> = (0..3).map(|row| cell_text(array, row)).collect();
                assert_eq!(cells, [Some("a".to_owned()), None, None]);
            }
        }
    }

    /// A ranked column has its ranks for codes, whatever the order in which a file has its values.
    #[test]
    fn ranks_are_the_codes_of_a_ranked_column() {
        let words: DictionaryArray<arrow_array::types::UInt8Type> =
            [Some("cabin"), Some("deck"), None, Some("cabin")].into_iter().collect();
        let words: ArrayRef = Arc::new(words);
        let ranked = by_list(&words, &["deck", "saloon", "cabin"].map(String::from)).unwrap();
        let dictionary = ranked.as_dictionary::<arrow_array::types::UInt8Type>();
        let codes: Vec<_> = dictionary.keys().iter().collect();
        assert_eq!(codes, [Some(2), Some(0), None, Some(2)]);
        assert_eq!(dictionary.values().len(), 3);
        assert!(by_list(&words, &["deck".to_owned()]).is_none(), "it is not what it says");
    }
}
