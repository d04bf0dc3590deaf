//! What columns are in an embedded index: fields of the library's own types, each with its values stored, to be searched and to be
//! sorted by, as far as what is declared goes.

use std::collections::HashSet;

use tantivy::schema::{
    DateOptions, DateTimePrecision, FAST, Field, INDEXED, IndexRecordOption, JsonObjectOptions,
    NumericOptions, STORED, Schema as IndexSchema, SchemaBuilder, TextFieldIndexing, TextOptions,
};
use typhos_core::schema::{ColumnDecl, IntType, Scalar, Schema, Search, TimeUnit, Type};
use typhos_load::Problem;
use typhos_sql::{is_number_in_mapping, search_of};

/// What a value becomes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kept {
    /// True or false.
    Bool,
    /// A whole number with a sign.
    Signed,
    /// A whole number without one.
    Unsigned,
    /// A number.
    Float,
    /// A point in time.
    Instant,
    /// A text.
    Text,
    /// An address.
    Ip,
    /// Two numbers, in fields of their own.
    Point,
    /// An object, or several.
    Object,
    /// What nests otherwise, as JSON text.
    Json,
}

/// A column, and the fields that it has.
#[derive(Debug, Clone)]
pub struct Form {
    /// What its values become.
    pub kept: Kept,
    /// Its fields: one; two of a point; a second one for texts that are searched in two ways.
    pub fields: Vec<Field>,
    /// What it is, in a few words.
    pub stored: String,
}

/// All columns.
#[derive(Debug, Clone)]
pub struct Forms {
    /// The schema of the index.
    pub schema: IndexSchema,
    /// Its columns.
    pub columns: Vec<Form>,
    /// What is stored otherwise than declared, a sentence each.
    pub notes: Vec<String>,
    /// What keeps columns from being fields.
    pub problems: Vec<Problem>,
}

impl Forms {
    /// The fields of a schema.
    pub fn of(schema: &Schema) -> Forms {
        let mut making = Making {
            builder: IndexSchema::builder(),
            names: HashSet::new(),
            notes: Vec::new(),
            problems: Vec::new(),
        };
        let columns = schema.columns.iter().map(|column| making.column(column)).collect();
        let Making { builder, notes, problems, .. } = making;
        Forms { schema: builder.build(), columns, notes, problems }
    }
}

struct Making {
    builder: SchemaBuilder,
    names: HashSet<String>,
    notes: Vec<String>,
    problems: Vec<Problem>,
}

impl Making {
    /// Whether a name can be one; says otherwise.
    fn is_free(&mut self, name: &str) -> bool {
        let what = if name.is_empty() || name.starts_with('-') {
            format!("'{name}' cannot be the name of a field: it is empty or starts with -")
        } else if !self.names.insert(name.to_owned()) {
            format!("two columns want the field '{name}'")
        } else {
            return true;
        };
        self.problems.push(Problem::new(what, "rename the column in the schema"));
        false
    }

    fn note(&mut self, column: &ColumnDecl, what: &str) {
        self.notes.push(format!("'{}' is stored {what}", column.name));
    }

    fn column(&mut self, column: &ColumnDecl) -> Form {
        let (is_list, inner) = match &column.ty {
            Type::List(items) => (true, &**items),
            other => (false, other),
        };
        let scalar = match inner {
            Type::Scalar(scalar) => *scalar,
            Type::Struct(_) => return self.object(column),
            Type::List(_) => {
                self.note(column, "as JSON text, and cannot be searched");
                return self.texts(column, Search::None, Kept::Json, "JSON text");
            }
        };
        if is_list {
            self.note(
                column,
                "as any number of values: null elements are left out, and an empty list is none",
            );
        }
        let search = search_of(column, scalar);
        let is_searched = search != Search::None;
        let numbers = NumericOptions::default() | STORED | FAST;
        let numbers = if is_searched { numbers | INDEXED } else { numbers };
        let one = |making: &mut Making,
                   kept,
                   add: &dyn Fn(&mut SchemaBuilder, &str) -> Field,
                   stored: &str| {
            let fields = match making.is_free(&column.name) {
                true => vec![add(&mut making.builder, &column.name)],
                false => Vec::new(),
            };
            Form { kept, fields, stored: stored.to_owned() }
        };
        let signed =
            |builder: &mut SchemaBuilder, name: &str| builder.add_i64_field(name, numbers.clone());
        match scalar {
            Scalar::Bool => one(
                self,
                Kept::Bool,
                &|builder, name| builder.add_bool_field(name, numbers.clone()),
                "bool",
            ),
            Scalar::Int(IntType::Int8 | IntType::Int16 | IntType::Int32 | IntType::Int64) => {
                one(self, Kept::Signed, &signed, "i64")
            }
            Scalar::Int(_) => one(
                self,
                Kept::Unsigned,
                &|builder, name| builder.add_u64_field(name, numbers.clone()),
                "u64",
            ),
            Scalar::Duration(_) => {
                let counts = scalar.counts().unwrap_or("units");
                self.note(column, &format!("as a whole number of {counts}"));
                one(self, Kept::Signed, &signed, "i64")
            }
            Scalar::Decimal { scale: 0, .. } if is_number_in_mapping(scalar) => {
                one(self, Kept::Signed, &signed, "i64")
            }
            Scalar::Float32 | Scalar::Float64 => one(
                self,
                Kept::Float,
                &|builder, name| builder.add_f64_field(name, numbers.clone()),
                "f64",
            ),
            Scalar::Decimal { .. } if is_number_in_mapping(scalar) => {
                self.note(column, "as f64, which keeps all digits of it");
                one(
                    self,
                    Kept::Float,
                    &|builder, name| builder.add_f64_field(name, numbers.clone()),
                    "f64",
                )
            }
            Scalar::Decimal { .. } => {
                self.note(column, "as text, exactly: no number there keeps so many digits");
                self.texts(column, Search::Exact, Kept::Text, "text as a whole")
            }
            Scalar::Date | Scalar::Timestamp { .. } => {
                self.note(
                    column,
                    "as a date, which reaches from 1677 to 2262: rows beyond are set aside",
                );
                let precision = match scalar {
                    Scalar::Timestamp { unit: TimeUnit::Milli, .. } => {
                        DateTimePrecision::Milliseconds
                    }
                    Scalar::Timestamp { unit: TimeUnit::Micro, .. } => {
                        DateTimePrecision::Microseconds
                    }
                    Scalar::Timestamp { unit: TimeUnit::Nano, .. } => {
                        DateTimePrecision::Nanoseconds
                    }
                    _ => DateTimePrecision::Seconds,
                };
                let options = DateOptions::from(STORED | FAST).set_precision(precision);
                let options = if is_searched { options.set_indexed() } else { options };
                one(
                    self,
                    Kept::Instant,
                    &|builder, name| builder.add_date_field(name, options.clone()),
                    "date",
                )
            }
            Scalar::Ip => one(
                self,
                Kept::Ip,
                &|builder, name| builder.add_ip_addr_field(name, STORED | FAST | INDEXED),
                "address",
            ),
            Scalar::Geopoint => {
                let names = [format!("{}.lat", column.name), format!("{}.lon", column.name)];
                let is_free =
                    names.iter().map(|name| self.is_free(name)).fold(true, |all, it| all & it);
                let fields = match is_free {
                    true => names
                        .iter()
                        .map(|name| self.builder.add_f64_field(name, numbers.clone()))
                        .collect(),
                    false => Vec::new(),
                };
                self.note(column, "as two numbers, .lat and .lon");
                Form { kept: Kept::Point, fields, stored: "f64 .lat, f64 .lon".into() }
            }
            Scalar::Json => {
                self.note(column, "as it is, and cannot be searched");
                self.texts(column, Search::None, Kept::Text, "JSON text")
            }
            Scalar::Time(_) => {
                self.note(column, "as text, in ISO 8601");
                self.texts(column, Search::Exact, Kept::Text, "text as a whole")
            }
            _ => {
                let stored = match search {
                    Search::Exact => "text as a whole",
                    Search::Full => "text by its words",
                    Search::Both => "text by its words, and as a whole as .exact",
                    Search::None => "text, not searched",
                };
                self.texts(column, search, Kept::Text, stored)
            }
        }
    }

    fn texts(&mut self, column: &ColumnDecl, search: Search, kept: Kept, stored: &str) -> Form {
        let by = |tokenizer: &str, option| {
            TextFieldIndexing::default().set_tokenizer(tokenizer).set_index_option(option)
        };
        let whole = TextOptions::default()
            .set_indexing_options(by("raw", IndexRecordOption::Basic))
            .set_fast("raw");
        let words = TextOptions::default()
            .set_indexing_options(by("default", IndexRecordOption::WithFreqsAndPositions));
        let mut fields = Vec::new();
        if self.is_free(&column.name) {
            let options = match search {
                Search::Exact => whole.clone(),
                Search::Full | Search::Both => words,
                Search::None => TextOptions::default(),
            };
            fields.push(self.builder.add_text_field(&column.name, options | STORED));
        }
        let exact = format!("{}.exact", column.name);
        if search == Search::Both && !fields.is_empty() && self.is_free(&exact) {
            fields.push(self.builder.add_text_field(&exact, whole));
        }
        Form { kept, fields, stored: stored.to_owned() }
    }

    fn object(&mut self, column: &ColumnDecl) -> Form {
        let indexing = TextFieldIndexing::default()
            .set_tokenizer("raw")
            .set_index_option(IndexRecordOption::Basic);
        let options = JsonObjectOptions::default()
            .set_indexing_options(indexing)
            .set_stored()
            .set_fast("raw");
        let fields = match self.is_free(&column.name) {
            true => vec![self.builder.add_json_field(&column.name, options)],
            false => Vec::new(),
        };
        self.note(column, "as objects of JSON: dates and exact decimals in them are texts");
        Form { kept: Kept::Object, fields, stored: "object".into() }
    }
}
