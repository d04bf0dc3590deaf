//! How a Parquet file is written: its schema, its properties, and what it says of itself.
//!
//! The file embeds the Arrow schema that a reader should make of it. It is that of the rows, but for
//! three things: Parquet has no whole seconds; codes are as wide as the values turned out to ask for, and
//! one more; and decimals are announced in the width that every reader of Arrow knows, however few bytes they take in
//! the file.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use ::parquet::arrow::{ARROW_SCHEMA_META_KEY, encode_arrow_schema};
use ::parquet::basic::{Compression as Codec, ZstdLevel};
use ::parquet::file::metadata::{KeyValue, SortingColumn};
use ::parquet::file::properties::{EnabledStatistics, WriterProperties, WriterPropertiesBuilder};
use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema as ArrowSchema, SchemaRef, TimeUnit};
use typhos_core::columns::{is_nested, map_field};
use typhos_core::schema::{Compression, Scalar, Schema, SortKey, code_type};

use super::encoding;
use super::recast::stored_array;
use typhos_load::SORTED_ROW_GROUP;

/// The key under which a file says what its rows are sorted by: a JSON list of columns, as the schema
/// file has it. The sorting columns of Parquet cannot say that a text is sorted by its rank.
pub const SORT_KEY: &str = "typhos.sort";

/// The key under which a file says in which order the values of its ranked categories stand: a JSON object of
/// lists by column, the lowest value first.
pub const RANKED_KEY: &str = "typhos.ranked";

/// The most distinct values that make a difference to the width of codes.
const MOST_VALUES: usize = 0x1_0000;

/// What a type is called in a Parquet file, in a few words.
pub(super) fn stored_name(field: &Field) -> String {
    match field.data_type() {
        DataType::Dictionary(..) => "string, as codes".into(),
        DataType::Utf8 => "string".into(),
        DataType::Boolean => "boolean".into(),
        DataType::FixedSizeBinary(16) => "16 bytes".into(),
        DataType::List(item) => format!("list of {}", stored_name(item)),
        DataType::Struct(fields) if is_nested(field) => {
            let each =
                fields.iter().map(|field| format!("{} {}", field.name(), stored_name(field)));
            format!("struct of {}", each.collect::<Vec<_>>().join(", "))
        }
        DataType::Struct(_) => "lat and lon".into(),
        DataType::Decimal32(p, s) | DataType::Decimal64(p, s) | DataType::Decimal128(p, s) => {
            format!("decimal({p},{s})")
        }
        DataType::Date32 => "date".into(),
        DataType::Duration(_) => "int64".into(),
        DataType::Time32(_) => "time(ms)".into(),
        DataType::Time64(unit) => format!("time({})", unit_name(*unit)),
        DataType::Timestamp(unit, zone) => {
            let unit = if *unit == TimeUnit::Second { TimeUnit::Millisecond } else { *unit };
            format!("timestamp({}{})", unit_name(unit), if zone.is_some() { ", utc" } else { "" })
        }
        other => other.to_string().to_lowercase(),
    }
}

fn unit_name(unit: TimeUnit) -> &'static str {
    match unit {
        TimeUnit::Second => "s",
        TimeUnit::Millisecond => "ms",
        TimeUnit::Microsecond => "us",
        TimeUnit::Nanosecond => "ns",
    }
}

pub(crate) fn unit_words(unit: TimeUnit) -> &'static str {
    match unit {
        TimeUnit::Second => "seconds",
        TimeUnit::Millisecond => "milliseconds",
        TimeUnit::Microsecond => "microseconds",
        TimeUnit::Nanosecond => "nanoseconds",
    }
}

/// How a column of a row group is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    /// As codes for a dictionary.
    AsCodes,
    /// Value by value.
    Direct,
    /// Value by value, and not compressed, which would make it no smaller.
    Bare,
    /// Value by value, and without statistics.
    Huge,
}

/// How many kinds there are.
pub(super) const KINDS: usize = 4;

/// How files are written.
#[derive(Debug, Clone)]
pub struct Form {
    /// The columns as they are stored.
    pub(super) stored: SchemaRef,
    /// The most rows of a row group.
    pub(super) row_group: Option<u64>,
    properties: WriterProperties,
    /// What every column is written with, before its own is said.
    column: WriterPropertiesBuilder,
    /// Whether columns have dictionaries, where that is declared.
    dictionary: Option<bool>,
    /// Whether compression is declared: then all columns have it.
    is_compression_declared: bool,
    /// Rows that a row group is expected to have.
    expected: u64,
    sort: Vec<String>,
    /// The values of ranked categories, the lowest first.
    ranked: BTreeMap<String, Vec<String>>,
    /// Which columns have codes for an open set of values.
    open_sets: Vec<usize>,
    /// For each column with a closed list how long that is.
    lists: Vec<Option<usize>>,
    /// Whether a file says which arrays a reader should make of it.
    says_arrow: bool,
}

impl Form {
    /// As the layout of a schema says, and as usual where it says nothing.
    pub fn of(schema: &Schema, rows: &ArrowSchema) -> Form {
        Form::stored_as(stored_schema(rows), true, schema, rows)
    }

    /// As the columns of a table of the lake are stored, which says itself what they are.
    pub fn in_table(stored: SchemaRef, schema: &Schema, rows: &ArrowSchema) -> Form {
        Form::stored_as(stored, false, schema, rows)
    }

    fn stored_as(stored: SchemaRef, says_arrow: bool, schema: &Schema, rows: &ArrowSchema) -> Form {
        let layout = &schema.layout;
        let codec = match layout.compression.unwrap_or_default() {
            Compression::None => Codec::UNCOMPRESSED,
            Compression::Snappy => Codec::SNAPPY,
            Compression::Zstd(level) => {
                let level =
                    ZstdLevel::try_new(i32::from(level)).expect("levels are checked when read");
                Codec::ZSTD(level)
            }
        };
        // Statistics of every page, and indexes of them, are what the writer does by itself.
        let mut builder: WriterPropertiesBuilder = WriterProperties::builder()
            .set_compression(codec)
            .set_created_by(concat!("typhos ", env!("CARGO_PKG_VERSION")).to_owned());
        if let Some(bytes) = layout.page {
            builder = builder.set_data_page_size_limit(bytes);
        }
        let column = builder.clone();
        let sorting = sorting_columns(schema, rows);
        if !sorting.is_empty() {
            builder = builder.set_sorting_columns(Some(sorting));
        }
        let open_sets = schema.columns.iter().enumerate();
        let lists = schema.columns.iter();
        Form {
            says_arrow,
            column,
            dictionary: layout.dictionary,
            is_compression_declared: layout.compression.is_some(),
            expected: layout.row_group.unwrap_or(SORTED_ROW_GROUP),
            stored,
            row_group: layout.row_group,
            properties: builder.build(),
            sort: layout.sort.iter().map(ToString::to_string).collect(),
            ranked: schema
                .columns
                .iter()
                .filter(|column| column.ranked)
                .map(|column| (column.name.clone(), column.values.clone()))
                .collect(),
            lists: lists
                .map(|c| (c.scalar() == Scalar::Category).then_some(c.values.len()))
                .collect(),
            open_sets: open_sets
                .filter(|(_, c)| c.scalar() == Scalar::Lowcard)
                .map(|(at, _)| at)
                .collect(),
        }
    }

    pub(super) fn properties(&self) -> WriterProperties {
        self.properties.clone()
    }

    /// A column by itself, and what it is written with.
    pub(super) fn alone(&self, column: usize, kind: Kind) -> (SchemaRef, WriterProperties) {
        let field = self.stored.field(column).clone();
        let schema = Arc::new(ArrowSchema::new(vec![field]));
        let builder = self.column.clone();
        let properties = match kind {
            Kind::AsCodes => builder,
            Kind::Direct => encoding::direct(builder, &schema),
            Kind::Bare => encoding::direct(builder, &schema).set_compression(Codec::UNCOMPRESSED),
            Kind::Huge => builder
                .set_dictionary_enabled(false)
                .set_statistics_enabled(EnabledStatistics::None),
        };
        (schema, properties.build())
    }

    /// Takes note of how many rows a row group will have.
    pub(super) fn expect_rows(&mut self, rows: u64) {
        self.expected = rows.min(self.row_group.unwrap_or(u64::MAX)).max(1);
    }

    /// How a column of a row group is written that starts like this.
    pub(super) fn kind(&self, field: &Field, array: &ArrayRef) -> Kind {
        match self.dictionary {
            Some(true) => Kind::AsCodes,
            Some(false) => Kind::Direct,
            None => {
                let sample = array.slice(0, array.len().min(encoding::sample(self.expected)));
                let sample = stored_array(&sample, field);
                match encoding::best(field, &sample, self.expected) {
                    Kind::Bare if self.is_compression_declared => Kind::Direct,
                    best => best,
                }
            }
        }
    }

    /// What a file says of itself, once all its rows are known.
    pub(super) fn metadata(&self, values: &Values) -> Vec<KeyValue> {
        if !self.says_arrow {
            return Vec::new();
        }
        let fields = self.stored.fields().iter().enumerate().map(|(at, field)| {
            map_field(field, &|leaf, is_inside| match leaf.data_type() {
                // How many values nested ones have nobody counts.
                DataType::Dictionary(_, words) if is_inside => {
                    DataType::Dictionary(Box::new(DataType::UInt32), words.clone())
                }
                DataType::Dictionary(_, words) => {
                    let count = self.lists[at].unwrap_or_else(|| values.count(at));
                    // One more: some readers cannot use the largest code of a width.
                    let codes = code_type(count as u64 + 1);
                    DataType::Dictionary(Box::new(codes), words.clone())
                }
                DataType::Decimal32(precision, scale) | DataType::Decimal64(precision, scale) => {
                    DataType::Decimal128(*precision, *scale)
                }
                other => other.clone(),
            })
        });
        let schema = encode_arrow_schema(&ArrowSchema::new(fields.collect::<Vec<_>>()));
        let mut metadata = vec![KeyValue::new(ARROW_SCHEMA_META_KEY.to_owned(), schema)];
        if !self.sort.is_empty() {
            let columns = serde_json::json!(self.sort).to_string();
            metadata.push(KeyValue::new(SORT_KEY.to_owned(), columns));
        }
        if !self.ranked.is_empty() {
            let columns = serde_json::json!(self.ranked).to_string();
            metadata.push(KeyValue::new(RANKED_KEY.to_owned(), columns));
        }
        metadata
    }

    /// The distinct values of columns with an open set that a batch brings along.
    pub(super) fn values_of(&self, batch: &RecordBatch) -> Vec<(usize, StringArray)> {
        let of = |at: &usize| {
            let words = batch.column(*at).as_any_dictionary().values();
            (*at, words.as_string::<i32>().clone())
        };
        self.open_sets.iter().map(of).collect()
    }
}

/// The distinct values of columns with an open set, as far as they decide how wide the codes are.
#[derive(Debug, Default)]
pub(super) struct Values(HashMap<usize, HashSet<Box<str>, foldhash::fast::RandomState>>);

impl Values {
    pub fn add(&mut self, column: usize, words: &StringArray) {
        let known = self.0.entry(column).or_default();
        for word in words.iter().flatten() {
            if known.len() > MOST_VALUES {
                return;
            }
            if !known.contains(word) {
                known.insert(word.into());
            }
        }
    }

    fn count(&self, column: usize) -> usize {
        self.0.get(&column).map_or(0, HashSet::len)
    }
}

/// The keys that rows are sorted by in an order that readers of files know too: as far as the first that is
/// sorted by the rank of a list, since readers compare such a column by its texts.
pub(crate) fn sorted_by_value(schema: &Schema) -> impl Iterator<Item = &SortKey> {
    schema.layout.sort.iter().take_while(|key| {
        let column = schema.columns.iter().find(|column| column.name == key.column);
        // Of points and of floats with NaN readers think differently.
        column.is_some_and(|column| {
            !column.ranked
                && !matches!(column.scalar(), Scalar::Geopoint | Scalar::Float32 | Scalar::Float64)
        })
    })
}

/// The same, as Parquet says it.
fn sorting_columns(schema: &Schema, rows: &ArrowSchema) -> Vec<SortingColumn> {
    let place = |name: &str| schema.columns.iter().position(|column| column.name == name);
    let by_value = sorted_by_value(schema).filter_map(|key| Some((key, place(&key.column)?)));
    let sorting = by_value.map(|(key, at)| {
        let leaves: usize = rows.fields()[..at].iter().map(|field| leaves(field.data_type())).sum();
        SortingColumn { column_idx: leaves as i32, descending: key.descending, nulls_first: false }
    });
    sorting.collect()
}

/// Columns of Parquet that a column becomes.
pub(super) fn leaves(data_type: &DataType) -> usize {
    match data_type {
        DataType::List(item) => leaves(item.data_type()),
        DataType::Struct(fields) => fields.iter().map(|field| leaves(field.data_type())).sum(),
        _ => 1,
    }
}

/// The schema as Parquet can hold it: no times in whole seconds.
pub(super) fn stored_schema(schema: &ArrowSchema) -> SchemaRef {
    let stored = |leaf: &Field, _| match leaf.data_type() {
        DataType::Timestamp(TimeUnit::Second, zone) => {
            DataType::Timestamp(TimeUnit::Millisecond, zone.clone())
        }
        DataType::Time32(TimeUnit::Second) => DataType::Time32(TimeUnit::Millisecond),
        other => other.clone(),
    };
    let fields = schema.fields().iter().map(|field| map_field(field, &stored));
    Arc::new(ArrowSchema::new(fields.collect::<Vec<_>>()))
}

/// What is stored otherwise than declared, a sentence each.
pub fn fidelity_notes(schema: &ArrowSchema) -> Vec<String> {
    let stored = stored_schema(schema);
    let columns = schema.fields().iter().zip(stored.fields());
    let mut notes = Vec::new();
    columns.for_each(|(ours, theirs)| add_notes(ours.name().clone(), ours, theirs, &mut notes));
    notes
}

/// What is stored otherwise of a column, or of what is nested in it.
fn add_notes(path: String, ours: &Field, theirs: &Field, notes: &mut Vec<String>) {
    match (ours.data_type(), theirs.data_type()) {
        (DataType::List(ours), DataType::List(theirs)) => {
            add_notes(format!("{path}[]"), ours, theirs, notes);
        }
        (DataType::Struct(our), DataType::Struct(their)) if is_nested(ours) => {
            for (ours, theirs) in our.iter().zip(their) {
                add_notes(format!("{path}.{}", ours.name()), ours, theirs, notes);
            }
        }
        (DataType::Duration(unit), _) => notes.push(format!(
            "'{path}' is stored as a whole number of {}: Parquet has no type for lengths of time",
            unit_words(*unit)
        )),
        (ours, theirs) if ours != theirs => {
            notes.push(format!("'{path}' is stored in milliseconds: Parquet has no whole seconds"))
        }
        _ => {}
    }
}
