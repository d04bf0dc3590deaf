//! A schema bound to an input: everything conversion needs to know, worked out once.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_schema::{
    DECIMAL32_MAX_PRECISION, DECIMAL64_MAX_PRECISION, DataType, Field, Fields,
    Schema as ArrowSchema, SchemaRef, TimeUnit as ArrowUnit,
};

use crate::schema::{ColumnDecl, Diagnostic, IntType, Scalar, Schema, Source, TimeUnit};
use crate::text::{FileLayout, Input, InputFile, QuotedEmpty};

/// The key under which an Arrow field says which type was declared: several types share an array.
pub const TYPE_KEY: &str = "typhos.type";

/// The key under which an Arrow field of a ranked category lists its values, the lowest first, as JSON.
pub const RANKED_KEY: &str = "typhos.ranked";

/// What conversion does, column by column.
#[derive(Debug, Clone)]
pub struct Plan {
    schema: Schema,
    /// For each declared column, where it comes from.
    sources: Vec<Source>,
    source_columns: usize,
    /// How each file of the input is laid out.
    layouts: Vec<FileLayout>,
    /// The names of those files.
    files: Vec<String>,
    keeps_empty: bool,
    /// Columns of the input that nothing is made of, and that are not left out by a comment.
    undeclared: Vec<String>,
    arrow: SchemaRef,
}

impl Plan {
    /// Binds `schema` to `input`.
    ///
    /// # Errors
    /// Every declared column whose source is not in the input.
    pub fn new(schema: Schema, input: &Input) -> Result<Plan, Vec<Diagnostic>> {
        let sources = schema.bind(input)?;
        let others = schema.undeclared(&sources, input.names());
        let undeclared = others.into_iter().map(|at| input.names()[at].clone()).collect();
        if sources.iter().any(|source| matches!(source, Source::RowNumber(_))) {
            input.number_records();
        }
        let fields: Vec<Field> = schema
            .columns
            .iter()
            .map(|column| {
                let field = Field::new(
                    &column.name,
                    arrow_type(column.ty, column.values.len()),
                    !column.required,
                );
                let mut metadata = HashMap::from([(TYPE_KEY.to_owned(), column.ty.to_string())]);
                if column.ranked {
                    let values = serde_json::json!(column.values).to_string();
                    metadata.insert(RANKED_KEY.to_owned(), values);
                }
                field.with_metadata(metadata).with_dict_is_ordered(column.ranked)
            })
            .collect();
        let arrow = Arc::new(ArrowSchema::new(fields));
        Ok(Plan {
            schema,
            sources,
            source_columns: input.names().len(),
            layouts: input.files().iter().map(|file| file.layout().clone()).collect(),
            files: input.files().iter().map(InputFile::name).collect(),
            keeps_empty: input.quoted_empty() == QuotedEmpty::Text,
            undeclared,
            arrow,
        })
    }

    /// Whether a column wants the numbers of records.
    pub(super) fn numbers_records(&self) -> bool {
        self.sources.iter().any(|source| matches!(source, Source::RowNumber(_)))
    }

    /// What stands between the values that a declared column is joined of.
    pub(super) fn glue(&self, column: usize) -> &str {
        self.glue_of(&self.schema.columns[column])
    }

    pub(super) fn glue_of<'c>(&self, column: &'c ColumnDecl) -> &'c str {
        match &column.glue {
            Some(glue) => glue,
            None if column.ty == Scalar::Geopoint => ",",
            None => "",
        }
    }

    /// The declaration.
    pub fn schema(&self) -> &Schema {
        &self.schema
    }

    /// The Arrow schema of the batches.
    pub fn arrow(&self) -> SchemaRef {
        self.arrow.clone()
    }

    /// Columns of the input that nothing is made of, and that are not left out by a comment.
    pub fn undeclared(&self) -> &[String] {
        &self.undeclared
    }

    /// The names of the files of the input.
    pub(super) fn files(&self) -> &[String] {
        &self.files
    }

    /// How a file of the input is laid out.
    pub fn layout(&self, file: u32) -> &FileLayout {
        &self.layouts[file as usize]
    }

    /// Whether a blank field in quotes is a value.
    pub fn keeps_empty(&self) -> bool {
        self.keeps_empty
    }

    /// Columns of the input.
    pub fn source_columns(&self) -> usize {
        self.source_columns
    }

    /// Where each declared column comes from.
    pub fn sources(&self) -> &[Source] {
        &self.sources
    }
}

/// The Arrow type that holds a column. `values` is the length of a category's list.
pub fn arrow_type(ty: Scalar, values: usize) -> DataType {
    match ty {
        Scalar::Bool => DataType::Boolean,
        Scalar::Int(int) => match int {
            IntType::Int8 => DataType::Int8,
            IntType::Int16 => DataType::Int16,
            IntType::Int32 => DataType::Int32,
            IntType::Int64 => DataType::Int64,
            IntType::UInt8 => DataType::UInt8,
            IntType::UInt16 => DataType::UInt16,
            IntType::UInt32 => DataType::UInt32,
            IntType::UInt64 => DataType::UInt64,
        },
        Scalar::Float32 => DataType::Float32,
        Scalar::Float64 => DataType::Float64,
        // The narrowest integers that hold the digits.
        Scalar::Decimal { precision, scale } => {
            let of = match precision {
                p if p <= DECIMAL32_MAX_PRECISION => DataType::Decimal32,
                p if p <= DECIMAL64_MAX_PRECISION => DataType::Decimal64,
                _ => DataType::Decimal128,
            };
            of(precision, scale.cast_signed())
        }
        Scalar::Text { .. } | Scalar::Ip | Scalar::Json => DataType::Utf8,
        Scalar::Uuid => DataType::FixedSizeBinary(16),
        Scalar::Geopoint => DataType::Struct(point_fields()),
        // How many values there will be is not known before the last.
        Scalar::Lowcard => dictionary(DataType::UInt32),
        Scalar::Category => dictionary(code_type(values as u64)),
        Scalar::Date => DataType::Date32,
        Scalar::Time(unit @ (TimeUnit::Second | TimeUnit::Milli)) => {
            DataType::Time32(arrow_unit(unit))
        }
        Scalar::Time(unit) => DataType::Time64(arrow_unit(unit)),
        Scalar::Timestamp { unit, utc } => {
            DataType::Timestamp(arrow_unit(unit), utc.then(|| "UTC".into()))
        }
    }
}

/// The narrowest unsigned integers that are codes for so many values. Absent is not a code.
pub fn code_type(values: u64) -> DataType {
    match values {
        0..=0x100 => DataType::UInt8,
        0x101..=0x1_0000 => DataType::UInt16,
        _ => DataType::UInt32,
    }
}

/// The fields of a point: latitude and longitude in degrees.
pub(super) fn point_fields() -> Fields {
    let degrees = |name: &str| Field::new(name, DataType::Float64, false);
    Fields::from(vec![degrees("lat"), degrees("lon")])
}

fn dictionary(codes: DataType) -> DataType {
    DataType::Dictionary(Box::new(codes), Box::new(DataType::Utf8))
}

fn arrow_unit(unit: TimeUnit) -> ArrowUnit {
    match unit {
        TimeUnit::Second => ArrowUnit::Second,
        TimeUnit::Milli => ArrowUnit::Millisecond,
        TimeUnit::Micro => ArrowUnit::Microsecond,
        TimeUnit::Nano => ArrowUnit::Nanosecond,
    }
}
