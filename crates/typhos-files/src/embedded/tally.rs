//! What is known of documents, kept while they are sent and found again when an index is read back: how many there are, how many
//! values each field has, and a sum over what they are, which does not depend on their order.

use std::collections::BTreeMap;

use tantivy::schema::{Document, OwnedValue, Schema, TantivyDocument, Value};
use tantivy::{Index, TantivyError};

/// Values of one field.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Values {
    count: u64,
    /// The sum of the hashes of all values, each with how many stand before it in its document.
    sum: u64,
}

/// What is known of documents.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Tally {
    /// How many there are.
    pub documents: u64,
    /// By the numbers of fields; of those that are stored.
    fields: BTreeMap<u32, Values>,
}

impl Tally {
    /// Adds a document.
    pub fn add(&mut self, document: &TantivyDocument) {
        self.documents += 1;
        // Values of one field need not stand together: a text that is searched in two ways is in two fields.
        let mut before: Vec<u64> = Vec::new();
        for (field, value) in document.iter_fields_and_values() {
            let number = field.field_id();
            if before.len() <= number as usize {
                before.resize(number as usize + 1, 0);
            }
            let nth = before[number as usize];
            before[number as usize] += 1;
            let values = self.fields.entry(number).or_default();
            values.count += 1;
            values.sum = values.sum.wrapping_add(hash(&OwnedValue::from(value.as_value()), nth));
        }
    }

    /// Adds what is known of other documents.
    pub fn merge(&mut self, other: &Tally) {
        self.documents += other.documents;
        for (number, theirs) in &other.fields {
            let ours = self.fields.entry(*number).or_default();
            ours.count += theirs.count;
            ours.sum = ours.sum.wrapping_add(theirs.sum);
        }
    }

    /// Reads all documents of an index; `None` where it was stopped.
    ///
    /// # Errors
    /// An index that cannot be read.
    pub fn of(index: &Index, stopped: &dyn Fn() -> bool) -> Result<Option<Tally>, TantivyError> {
        let mut tally = Tally::default();
        let searcher = index.reader()?.searcher();
        for segment in searcher.segment_readers() {
            let store = segment.get_store_reader(1)?;
            for (at, document) in store.iter::<TantivyDocument>(segment.alive_bitset()).enumerate()
            {
                tally.add(&document?);
                if at % 4096 == 0 && stopped() {
                    return Ok(None);
                }
            }
        }
        Ok(Some(tally))
    }

    /// How many facts there are.
    pub fn facts(&self) -> usize {
        1 + 2 * self.fields.len()
    }

    /// What differs from what was found. Fields that are not stored cannot be found.
    pub fn differences(&self, found: &Tally, schema: &Schema) -> Vec<String> {
        let mut wrong = Vec::new();
        if self.documents != found.documents {
            wrong.push(format!(
                "{} documents were sent, {} are there",
                self.documents, found.documents
            ));
        }
        for (field, entry) in schema.fields().filter(|(_, entry)| entry.is_stored()) {
            let of =
                |tally: &Tally| tally.fields.get(&field.field_id()).copied().unwrap_or_default();
            let (sent, there) = (of(self), of(found));
            let name = entry.name();
            if sent.count != there.count {
                wrong.push(format!(
                    "'{name}': {} values were sent, {} are there",
                    sent.count, there.count
                ));
            } else if sent.sum != there.sum {
                wrong.push(format!("'{name}': the values are others than were sent"));
            }
        }
        wrong
    }
}

fn hash(value: &OwnedValue, nth: u64) -> u64 {
    // Two values are written in the same way where they are the same.
    let text = match value {
        OwnedValue::Str(text) => {
            return twox_hash::XxHash3_64::oneshot_with_seed(nth, text.as_bytes());
        }
        OwnedValue::F64(value) => value.to_bits().to_le_bytes().to_vec(),
        OwnedValue::U64(value) => value.to_le_bytes().to_vec(),
        OwnedValue::I64(value) => value.to_le_bytes().to_vec(),
        OwnedValue::Bool(value) => vec![u8::from(*value)],
        other => format!("{other:?}").into_bytes(),
    };
    twox_hash::XxHash3_64::oneshot_with_seed(nth, &text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use tantivy::schema::{STORED, TEXT};

    #[test]
    fn documents_in_another_order_are_the_same_and_others_are_not() {
        let mut schema = Schema::builder();
        let (note, party) =
            (schema.add_text_field("note", TEXT | STORED), schema.add_u64_field("party", STORED));
        let schema = schema.build();
        let of = |rows: &[(&str, u64)]| {
            let mut tally = Tally::default();
            for (text, number) in rows {
                let mut document = TantivyDocument::new();
                document.add_text(note, text);
                document.add_u64(party, *number);
                tally.add(&document);
            }
            tally
        };
        let sent = of(&[("a", 1), ("b", 2)]);
        let several = |turns: [&str; 2]| {
            let mut document = TantivyDocument::new();
            document.add_text(note, turns[0]);
            document.add_u64(party, 1);
            document.add_text(note, turns[1]);
            let mut tally = Tally::default();
            tally.add(&document);
            tally
        };
        assert_ne!(several(["a", "b"]), several(["b", "a"]), "lists have an order");
        assert!(sent.differences(&of(&[("b", 2), ("a", 1)]), &schema).is_empty());
        assert_eq!(
            sent.differences(&of(&[("a", 1), ("c", 2)]), &schema),
            ["'note': the values are others than were sent"]
        );
        assert_eq!(sent.differences(&of(&[("a", 1)]), &schema).len(), 3);
        let mut parts = of(&[("a", 1)]);
        parts.merge(&of(&[("b", 2)]));
        assert_eq!(parts, sent);
    }
}
