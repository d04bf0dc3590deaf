//! The codes of categories in place of their values: what a row really holds.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, RecordBatch, RecordBatchOptions, new_null_array};
use arrow_schema::{DataType, Field, Schema as ArrowSchema, SchemaRef};

use super::plain::by_list;
use crate::columns::{RANKED_KEY, TYPE_KEY, VALUES_KEY};
use crate::schema::code_type;

/// The categories among some columns whose lists are known.
#[derive(Debug, Clone)]
pub struct Codes {
    lists: Vec<Option<Vec<String>>>,
    schema: SchemaRef,
}

/// The list of a category, where its column has it.
fn list_of(field: &Field) -> Option<Vec<String>> {
    let said = [RANKED_KEY, VALUES_KEY].into_iter().find_map(|key| field.metadata().get(key))?;
    let is_dictionary =
        matches!(field.data_type(), DataType::Dictionary(_, values) if **values == DataType::Utf8);
    serde_json::from_str(said).ok().filter(|_| is_dictionary)
}

impl Codes {
    /// Those among the columns of `schema`.
    pub fn of(schema: &ArrowSchema) -> Codes {
        let lists: Vec<_> = schema.fields().iter().map(|field| list_of(field)).collect();
        let field = |(field, list): (&Arc<Field>, &Option<Vec<String>>)| match list {
            Some(list) => {
                let codes = code_type(list.len() as u64);
                let mut metadata = field.metadata().clone();
                metadata.remove(RANKED_KEY);
                metadata.insert(TYPE_KEY.to_owned(), code_name(&codes).to_owned());
                let plain = Field::new(field.name(), codes, field.is_nullable());
                Arc::new(plain.with_metadata(metadata))
            }
            None => field.clone(),
        };
        let fields: Vec<_> = schema.fields().iter().zip(&lists).map(field).collect();
        let schema = ArrowSchema::new_with_metadata(fields, schema.metadata().clone());
        Codes { lists, schema: Arc::new(schema) }
    }

    /// The columns, those categories as whole numbers.
    pub fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    /// The categories by the names of their columns, each with its values in the order of their codes, from 0 on.
    pub fn lists(&self) -> impl Iterator<Item = (&str, &[String])> {
        let fields = self.schema.fields().iter().zip(&self.lists);
        fields.filter_map(|(field, list)| Some((&field.name()[..], &list.as_ref()?[..])))
    }

    /// Rows with codes. A value that its list does not have has none.
    ///
    /// # Panics
    /// If the rows have other columns.
    pub fn batch(&self, batch: &RecordBatch) -> RecordBatch {
        let column = |((field, list), column): ((&Arc<Field>, &Option<Vec<String>>), &ArrayRef)| {
            let Some(list) = list else { return column.clone() };
            let codes = by_list(column, list)
                .map(|coded| coded.as_any_dictionary().keys().slice(0, coded.len()));
            match codes {
                Some(codes) if codes.data_type() == field.data_type() => codes,
                Some(codes) => widened(&codes, field.data_type()),
                None => new_null_array(field.data_type(), column.len()),
            }
        };
        let columns = self.schema.fields().iter().zip(&self.lists).zip(batch.columns()).map(column);
        let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
        RecordBatch::try_new_with_options(self.schema.clone(), columns.collect(), &options)
            .expect("codes of their types")
    }
}

fn code_name(codes: &DataType) -> &'static str {
    match codes {
        DataType::UInt8 => "uint8",
        DataType::UInt16 => "uint16",
        _ => "uint32",
    }
}

/// Codes that came in another width, which files by others have.
fn widened(codes: &ArrayRef, data_type: &DataType) -> ArrayRef {
    let mut values = Vec::with_capacity(codes.len());
    crate::columns::whole::each_whole(codes, |value| values.push(value));
    crate::columns::whole::whole_array(data_type, values.into_iter())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::columns::cell_text;
    use arrow_array::{DictionaryArray, Int8Array, Int32Array, StringArray};
    use std::collections::HashMap;

    #[test]
    fn categories_are_shown_by_the_places_in_their_lists() {
        let dictionary = DataType::Dictionary(DataType::Int32.into(), DataType::Utf8.into());
        let said = |key: &str, list: &str| HashMap::from([(key.to_owned(), list.to_owned())]);
        let list = "[\"deck\",\"saloon\",\"cabin\"]";
        let field = |name: &str| Field::new(name, dictionary.clone(), true);
        let schema = ArrowSchema::new(vec![
            field("cabin").with_metadata(said(VALUES_KEY, list)),
            field("rank").with_metadata(said(RANKED_KEY, list)),
            field("route"),
            field("other").with_metadata(said(VALUES_KEY, "[\"elsewhere\"]")),
            Field::new("party", DataType::Int8, true),
        ]);
        let words: ArrayRef = Arc::new(DictionaryArray::new(
            Int32Array::from(vec![Some(0), Some(1), None, Some(0)]),
            Arc::new(StringArray::from(vec!["cabin", "deck"])),
        ));
        let party: ArrayRef = Arc::new(Int8Array::from(vec![1, 2, 3, 4]));
        let columns = vec![words.clone(), words.clone(), words.clone(), words, party];
        let batch = RecordBatch::try_new(Arc::new(schema.clone()), columns).unwrap();
        let codes = Codes::of(&schema);
        let coded = codes.batch(&batch);
        assert_eq!(coded.schema(), codes.schema());
        let texts = |column: usize| {
            let cells = (0..4).map(|row| cell_text(coded.column(column), row));
            cells.map(|cell| cell.unwrap_or("·".into())).collect::<Vec<_>>()
        };
        assert_eq!(texts(0), ["2", "0", "·", "2"]);
        assert_eq!(texts(1), texts(0));
        assert_eq!(texts(2), ["cabin", "deck", "·", "cabin"], "its list is not known");
        assert_eq!(texts(3), ["·"; 4], "its list does not have them");
        assert_eq!(texts(4), ["1", "2", "3", "4"]);
        let names: Vec<&str> = codes.lists().map(|(name, _)| name).collect();
        assert_eq!(names, ["cabin", "rank", "other"]);
        assert_eq!(codes.lists().next().unwrap().1, ["deck", "saloon", "cabin"]);
    }
}
