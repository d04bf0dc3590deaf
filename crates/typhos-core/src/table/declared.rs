//! What is declared of the columns of typed rows: what they say themselves, where we wrote them, and what their types say otherwise.

use arrow_schema::{DataType, Field, Schema as ArrowSchema, TimeUnit as ArrowUnit};

use crate::columns::{RANKED_KEY, TYPE_KEY};
use crate::filter::Filter;
use crate::schema::{ColumnDecl, IntType, Scalar, Schema, TimeUnit, Type};
use crate::terms::PhraseError;

/// The columns of typed rows, declared.
#[derive(Debug, Clone)]
pub struct Declared {
    schema: Schema,
    /// Columns of types that are not ours: they can be shown, and nothing else.
    foreign: Vec<(usize, String)>,
}

impl Declared {
    /// What is declared of columns that are held as `arrow` says.
    pub fn of(arrow: &ArrowSchema) -> Declared {
        let mut declared = Declared { schema: Schema::default(), foreign: Vec::new() };
        for (at, field) in arrow.fields().iter().enumerate() {
            let column = declared_field(field).unwrap_or_else(|| {
                declared.foreign.push((at, field.data_type().to_string()));
                ColumnDecl::new(field.name(), Scalar::Text { most: None })
            });
            declared.schema.columns.push(column);
        }
        declared
    }

    /// The columns, those of foreign types among them as texts.
    pub fn schema(&self) -> &Schema {
        &self.schema
    }

    /// The place of a column.
    ///
    /// # Errors
    /// A sentence that says which columns there are.
    pub fn place(&self, name: &str) -> Result<usize, String> {
        let columns = &self.schema.columns;
        let found = columns.iter().position(|column| column.name == name);
        found.ok_or_else(|| crate::schema::unknown_column(name, columns))
    }

    /// Reads a question about rows that are held as `arrow` says.
    ///
    /// # Errors
    /// What [`Filter::parse`] refuses, and questions about columns of foreign types.
    pub fn filter(&self, question: &str, arrow: &ArrowSchema) -> Result<Filter, PhraseError> {
        let filter = Filter::parse(question, &self.schema, arrow)?;
        self.refuse_foreign(filter.columns(), question)?;
        Ok(filter)
    }

    /// Refuses columns that can only be shown, for what was said.
    ///
    /// # Errors
    /// The first of them, by its name.
    pub fn refuse_foreign(
        &self,
        columns: impl IntoIterator<Item = usize>,
        said: &str,
    ) -> Result<(), PhraseError> {
        for column in columns {
            let Some((_, ty)) = self.foreign.iter().find(|(at, _)| *at == column) else { continue };
            let name = &self.schema.columns[column].name;
            let start = said.find(&name[..]).unwrap_or(0);
            return Err(PhraseError {
                span: start..(start + name.len()).min(said.len()),
                message: format!(
                    "'{name}' is of Arrow's type {ty}, which is shown and cannot be asked about"
                ),
            });
        }
        Ok(())
    }
}

/// The declaration of a field; `None` where its type is not ours.
fn declared_field(field: &Field) -> Option<ColumnDecl> {
    let said = field.metadata().get(TYPE_KEY).and_then(|said| Type::parse(said).ok());
    let ranked: Option<Vec<String>> =
        field.metadata().get(RANKED_KEY).and_then(|values| serde_json::from_str(values).ok());
    let scalar = match said {
        // What a file says of itself counts where it can be so.
        Some(Type::Scalar(scalar)) if is_held_as(scalar, field.data_type()) => scalar,
        _ => scalar_of(field.data_type())?,
    };
    let mut column = ColumnDecl::new(field.name(), scalar);
    if let (Scalar::Category, Some(values)) = (scalar, ranked) {
        column.values = values;
        column.ranked = true;
    } else if scalar == Scalar::Category {
        // Its list is not known here, and its order has no meaning.
        column.ty = Scalar::Lowcard.into();
    }
    Some(column)
}

/// Whether values of a type are held so.
fn is_held_as(scalar: Scalar, data_type: &DataType) -> bool {
    match (scalar.arrow(1), data_type) {
        (DataType::Dictionary(_, ours), DataType::Dictionary(_, values)) => ours == *values,
        // Read back, a dictionary may be plain text.
        (DataType::Dictionary(_, ours), DataType::Utf8) => {
            *ours == DataType::Utf8 && scalar == Scalar::Lowcard
        }
        (DataType::Timestamp(ours, _), DataType::Timestamp(unit, zone)) => {
            ours == *unit && zone.is_some() == matches!(scalar, Scalar::Timestamp { utc: true, .. })
        }
        (ours, other) => ours == *other,
    }
}

/// The type of values that are held so.
fn scalar_of(data_type: &DataType) -> Option<Scalar> {
    let unit = |unit: &ArrowUnit| match unit {
        ArrowUnit::Second => TimeUnit::Second,
        ArrowUnit::Millisecond => TimeUnit::Milli,
        ArrowUnit::Microsecond => TimeUnit::Micro,
        ArrowUnit::Nanosecond => TimeUnit::Nano,
    };
    Some(match data_type {
        DataType::Boolean => Scalar::Bool,
        DataType::Int8 => Scalar::Int(IntType::Int8),
        DataType::Int16 => Scalar::Int(IntType::Int16),
        DataType::Int32 => Scalar::Int(IntType::Int32),
        DataType::Int64 => Scalar::Int(IntType::Int64),
        DataType::UInt8 => Scalar::Int(IntType::UInt8),
        DataType::UInt16 => Scalar::Int(IntType::UInt16),
        DataType::UInt32 => Scalar::Int(IntType::UInt32),
        DataType::UInt64 => Scalar::Int(IntType::UInt64),
        DataType::Float32 => Scalar::Float32,
        DataType::Float64 => Scalar::Float64,
        DataType::Decimal32(precision, scale)
        | DataType::Decimal64(precision, scale)
        | DataType::Decimal128(precision, scale) => Scalar::Decimal {
            precision: *precision,
            scale: u8::try_from(*scale).ok().filter(|scale| scale <= precision)?,
        },
        DataType::Utf8 => Scalar::Text { most: None },
        DataType::Dictionary(_, values) if **values == DataType::Utf8 => Scalar::Lowcard,
        DataType::Date32 => Scalar::Date,
        DataType::Time32(resolution) | DataType::Time64(resolution) => {
            Scalar::Time(unit(resolution))
        }
        DataType::Timestamp(resolution, zone) => {
            Scalar::Timestamp { unit: unit(resolution), utc: zone.is_some() }
        }
        DataType::Duration(resolution) => Scalar::Duration(unit(resolution)),
        DataType::FixedSizeBinary(16) => Scalar::Uuid,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashMap;

    fn field(data_type: DataType, said: &[(&str, &str)]) -> Field {
        let said = said.iter().map(|(key, value)| (key.to_string(), value.to_string()));
        Field::new("x", data_type, true).with_metadata(said.collect::<HashMap<_, _>>())
    }

    #[test]
    fn what_a_file_says_of_itself_counts_where_it_can_be_so() {
        let words = DataType::Dictionary(DataType::Int32.into(), DataType::Utf8.into());
        for (field, want) in [
            (field(DataType::Utf8, &[(TYPE_KEY, "ip")]), Some("ip")),
            (field(DataType::Utf8, &[(TYPE_KEY, "uint8")]), Some("text")),
            (field(DataType::Utf8, &[(TYPE_KEY, "nonsense")]), Some("text")),
            (field(words.clone(), &[]), Some("lowcard")),
            (
                field(words.clone(), &[(TYPE_KEY, "category"), (RANKED_KEY, "[\"a\"]")]),
                Some("category"),
            ),
            (field(words, &[(TYPE_KEY, "category"), (RANKED_KEY, "{")]), Some("lowcard")),
            (field(DataType::Int64, &[(TYPE_KEY, "category")]), Some("int64")),
            (
                field(DataType::Timestamp(ArrowUnit::Second, Some("+02:00".into())), &[]),
                Some("timestamp(s, utc)"),
            ),
            (field(DataType::Decimal128(5, -2), &[]), None),
            (field(DataType::Binary, &[]), None),
        ] {
            let found = declared_field(&field).map(|column| column.ty.to_string());
            assert_eq!(found.as_deref(), want, "{field}");
        }
    }

    #[test]
    fn foreign_columns_cannot_be_asked_about() {
        let fields = vec![
            Field::new("n", DataType::Int8, true),
            Field::new("raw bytes", DataType::Binary, true),
        ];
        let arrow = ArrowSchema::new(fields);
        let declared = Declared::of(&arrow);
        assert!(declared.filter("n = 1", &arrow).is_ok());
        let error = declared.filter("n = 1 or \"raw bytes\" = 'x'", &arrow).unwrap_err();
        assert_eq!(error.span, 10..19);
        assert_eq!(
            error.message,
            "'raw bytes' is of Arrow's type Binary, which is shown and cannot be asked about"
        );
    }
}
