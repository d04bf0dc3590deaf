//! The SQL of ClickHouse.

use typhos_core::schema::{ColumnDecl, IntType, Scalar, TimeUnit, Type};

use super::definitions::{Definitions, Stored, TableOrder, carried};
use super::held::ExistingColumn;
use super::movements::Movements;
use super::nested::{Leaf, Nest, Part};
use super::questions::{Asked, Of, Questions, carried_asked};
use super::units::counted_in;
use typhos_core::schema::Held;

/// ClickHouse of some version; newer types are used only where it has them.
#[derive(Debug, Clone, Copy)]
pub struct ClickHouse {
    /// Year and number of the version.
    pub version: (u32, u32),
}

/// The versions that brought a type.
const BOOL: (u32, u32) = (22, 3);
const DATE32: (u32, u32) = (21, 9);
const DATETIME64: (u32, u32) = (20, 4);
const COLUMN_COMMENTS: (u32, u32) = (20, 1);
/// Before, a column of such arrays became several, and fields in there had no names.
const TUPLES_IN_ARRAYS: (u32, u32) = (21, 1);

impl ClickHouse {
    /// A version that has all types used here.
    pub fn newest() -> ClickHouse {
        ClickHouse { version: (24, 8) }
    }

    /// Whether it has a type of true and false.
    pub fn has_bool(self) -> bool {
        self.version >= BOOL
    }

    /// Whether it has days far from 1970.
    pub fn has_date32(self) -> bool {
        self.version >= DATE32
    }

    /// Whether it has times of less than a second.
    pub fn has_datetime64(self) -> bool {
        self.version >= DATETIME64
    }
}

fn escaped(text: &str, quote: char) -> String {
    let text = text.replace('\\', "\\\\").replace(quote, &format!("\\{quote}"));
    // Bytes by their number, where a letter could do something to a terminal or to whoever passes the text on.
    let mut escaped = String::new();
    for letter in text.chars() {
        match letter {
            letter if letter.is_control() => {
                for byte in letter.encode_utf8(&mut [0; 4]).bytes() {
                    escaped.push_str(&format!("\\x{byte:02X}"));
                }
            }
            letter => escaped.push(letter),
        }
    }
    format!("{quote}{escaped}{quote}")
}

/// The zone in which an existing column shows its times.
fn zone_of(there: &ExistingColumn) -> Option<&str> {
    let (_, behind) = there.ty.strip_prefix("DateTime")?.split_once('\'')?;
    behind.split_once('\'').map(|(zone, _)| zone)
}

fn is_utc(zone: &str) -> bool {
    ["UTC", "Etc/UTC", "Zulu", "Etc/Zulu", "UCT", "Universal", "GMT", "Etc/GMT"].contains(&zone)
}

impl ClickHouse {
    /// How a list or struct is stored.
    fn stored_nested(&self, table: &str, column: &ColumnDecl) -> Stored {
        let stored = Stored::new(self.inner_type(table, column, &column.ty));
        match (&column.ty, column.required) {
            (_, true) => stored,
            (Type::Struct(_), false) => {
                stored.note("as a tuple, which is never null: of a null all fields are")
            }
            (_, false) => stored.note("as an array, which is never null: a null is an empty one"),
        }
    }

    /// The type of what is inside of a value: plain values may always be null in there.
    fn inner_type(&self, table: &str, column: &ColumnDecl, ty: &Type) -> String {
        match ty {
            Type::Scalar(scalar) => {
                let column = ColumnDecl { ty: (*scalar).into(), ..column.clone() };
                match self.stored(table, &column).ty {
                    // Older versions have no dictionaries in there.
                    ty if ty.starts_with("LowCardinality(") => "Nullable(String)".into(),
                    ty => self.nullable(&ty, true),
                }
            }
            Type::List(items) => format!("Array({})", self.inner_type(table, column, items)),
            Type::Struct(fields) => {
                let each = fields.iter().map(|field| {
                    let ty = self.inner_type(table, field, &field.ty);
                    // As the server spells it back.
                    let is_word = |c: char| c.is_ascii_alphanumeric() || c == '_';
                    let is_plain = field.name.chars().all(is_word)
                        && !field.name.starts_with(|c: char| c.is_ascii_digit());
                    match is_plain && !field.name.is_empty() {
                        true => format!("{} {ty}", field.name),
                        false => format!("{} {ty}", self.identifier(&field.name)),
                    }
                });
                format!("Tuple({})", each.collect::<Vec<_>>().join(", "))
            }
        }
    }

    /// A time that is written as a text, in the zone of an existing column.
    fn in_zone(&self, text: &str, there: &ExistingColumn, zone: &str) -> String {
        let zone = self.literal(zone);
        match &there.held {
            Held::Timestamp(digits, _) if there.ty.starts_with("DateTime64") => {
                format!("toDateTime64({text}, {digits}, {zone})")
            }
            _ => format!("toDateTime({text}, {zone})"),
        }
    }
}

impl Definitions for ClickHouse {
    fn name(&self) -> &'static str {
        "ClickHouse"
    }

    fn identifier(&self, name: &str) -> String {
        escaped(name, '`')
    }

    fn literal(&self, text: &str) -> String {
        escaped(text, '\'')
    }

    fn longest_name(&self) -> Option<(usize, bool)> {
        None
    }

    fn nests(&self, column: &ColumnDecl) -> bool {
        let has_type = self.version >= TUPLES_IN_ARRAYS || !has_structs_in_lists(&column.ty, false);
        column.ty.is_nested() && has_type
    }

    fn has_null(&self, column: &ColumnDecl) -> bool {
        !self.nests(column)
    }

    fn stored(&self, table: &str, column: &ColumnDecl) -> Stored {
        if self.nests(column) {
            return self.stored_nested(table, column);
        }
        if column.ty.is_nested() {
            return Stored::new("String")
                .note("as JSON text: this version has no arrays of tuples as one column");
        }
        match column.scalar() {
            Scalar::Bool if self.has_bool() => Stored::new("Bool"),
            Scalar::Bool => Stored::new("UInt8").note("as 0 and 1: this version has no booleans"),
            Scalar::Int(int) => Stored::new(match int {
                IntType::Int8 => "Int8",
                IntType::Int16 => "Int16",
                IntType::Int32 => "Int32",
                IntType::Int64 => "Int64",
                IntType::UInt8 => "UInt8",
                IntType::UInt16 => "UInt16",
                IntType::UInt32 => "UInt32",
                IntType::UInt64 => "UInt64",
            }),
            Scalar::Float32 => Stored::new("Float32"),
            Scalar::Float64 => Stored::new("Float64"),
            Scalar::Decimal { precision, scale } => {
                Stored::new(format!("Decimal({precision},{scale})"))
            }
            Scalar::Text { most: None } => Stored::new("String"),
            Scalar::Text { most: Some(_) } => {
                Stored::new("String").note("as String, which has no most characters")
            }
            Scalar::Lowcard => Stored::new("LowCardinality(String)"),
            Scalar::Category if fits_enum(&column.values) => {
                let width = if column.values.len() <= 127 { 8 } else { 16 };
                let values = column.values.iter().enumerate();
                let values: Vec<_> = values
                    .map(|(at, value)| format!("{} = {}", self.literal(value), at + 1))
                    .collect();
                Stored::new(format!("Enum{width}({})", values.join(", ")))
            }
            Scalar::Category => Stored::new("LowCardinality(String)")
                .note("as LowCardinality(String): an enumeration cannot hold all of its values"),
            Scalar::Date if self.has_date32() => Stored::new("Date32")
                .note("as Date32; a day before 1900 or after 2299 stops the load"),
            Scalar::Date => {
                // Such versions have no word for day 0.
                let shown = if self.has_datetime64() {
                    ""
                } else {
                    ", where 1970-01-01 shows as 0000-00-00"
                };
                Stored::new("Date")
                    .note(format!("as Date{shown}; a day before 1970 or after 2105 stops the load"))
            }
            Scalar::Time(unit) => {
                let ty = match unit {
                    TimeUnit::Second | TimeUnit::Milli => "UInt32",
                    TimeUnit::Micro | TimeUnit::Nano => "UInt64",
                };
                Stored::new(ty).note(counted_in(unit, "midnight", self.name()))
            }
            Scalar::Timestamp { unit, utc } => {
                let zoneless =
                    if utc { "" } else { ": wall-clock times are kept as if they were in UTC" };
                if self.has_datetime64() {
                    let ty = format!("DateTime64({}, 'UTC')", unit.digits());
                    return Stored::new(ty).note(format!(
                        "as DateTime64, where a time before 1900 or after 2299 stops the load{zoneless}"
                    ));
                }
                match unit {
                    TimeUnit::Second => Stored::new("DateTime('UTC')").note(format!(
                        "as DateTime, where a time before 1970 or after 2105 stops the load{zoneless}"
                    )),
                    _ => Stored::new("Int64").note(counted_in(unit, "1970", self.name())),
                }
            }
            Scalar::Uuid => Stored::new("UUID"),
            Scalar::Ip => Stored::new("String").note("as String, as it was written"),
            Scalar::Json => Stored::new("String").note("as String, as it was written"),
            Scalar::Geopoint => Stored::new("String").note("as String: latitude, comma, longitude"),
            _ => carried(self, table, column),
        }
    }

    fn nullable(&self, ty: &str, is_nullable: bool) -> String {
        if ty.starts_with("Array(") || ty.starts_with("Tuple(") {
            return ty.to_owned();
        }
        match (is_nullable, ty.strip_prefix("LowCardinality(").and_then(|ty| ty.strip_suffix(')')))
        {
            (false, _) => ty.to_owned(),
            (true, Some(inner)) => format!("LowCardinality(Nullable({inner}))"),
            (true, None) => format!("Nullable({ty})"),
        }
    }

    fn column_comment(&self, comment: &str) -> Option<String> {
        (self.version >= COLUMN_COMMENTS).then(|| format!(" COMMENT {}", self.literal(comment)))
    }

    fn key(&self, _columns: &[String]) -> Option<String> {
        // It is part of the order below, and promises nothing.
        None
    }

    fn keeps_order(&self) -> bool {
        true
    }

    fn tail(&self, order: &TableOrder) -> String {
        let columns = if order.sort.is_empty() { &order.key } else { &order.sort };
        if columns.is_empty() {
            " ENGINE = MergeTree() ORDER BY tuple()".into()
        } else {
            format!(" ENGINE = MergeTree() ORDER BY ({})", columns.join(", "))
        }
    }
}

impl Movements for ClickHouse {
    fn begin(&self) -> &'static str {
        // There are no transactions; a single insertion is the last step.
        "SELECT 1"
    }

    fn writes_nested_text(&self) -> bool {
        false
    }

    fn is_there(&self, table: &str, key: &[(String, String)]) -> String {
        let columns: Vec<_> = key.iter().map(|(column, _)| column.as_str()).collect();
        let values: Vec<_> = key.iter().map(|(_, value)| value.replace("s.`", "`")).collect();
        format!("({}) IN (SELECT {} FROM {table})", values.join(", "), columns.join(", "))
    }

    fn cast(&self, value: &str, ty: Scalar, there: &ExistingColumn) -> String {
        match (ty, zone_of(there)) {
            // A wall-clock time, or the midnight of a day, is that in the zone of the column.
            (Scalar::Timestamp { utc: false, .. }, Some(zone)) if !is_utc(zone) => {
                self.in_zone(&format!("toString({value})"), there, zone)
            }
            (Scalar::Date, Some(zone)) => {
                self.in_zone(&format!("concat(toString({value}), ' 00:00:00')"), there, zone)
            }
            // By its shortest text, or it would be the double of the float and not that of the number.
            (Scalar::Float32, _) if matches!(there.held, Held::Float(64)) => {
                format!("toFloat64(toString({value}))")
            }
            _ => value.to_owned(),
        }
    }

    fn remark(&self, ty: Scalar, there: &ExistingColumn) -> Option<String> {
        let zone = zone_of(there).filter(|zone| !is_utc(zone))?;
        match ty {
            Scalar::Timestamp { utc: false, .. } => {
                Some(format!("as that wall-clock time in {zone}"))
            }
            Scalar::Date => Some(format!("as midnight in {zone}")),
            _ => None,
        }
    }

    fn beyond(&self, value: &str, ty: Scalar, there: &ExistingColumn) -> Option<String> {
        if let (Scalar::Timestamp { utc: false, .. }, Some(zone)) = (ty, zone_of(there))
            && !is_utc(zone)
        {
            // Clocks that are set forward leave an hour out.
            let cast = self.cast(value, ty, there);
            return Some(format!("toString({cast}) <> toString({value})"));
        }
        // Types of later versions reach further than the older ones, which go round.
        let (units, most) = match (ty, there.ty.split('(').next()) {
            (Scalar::Date, Some("Date")) if self.has_date32() => ("toInt32", u32::from(u16::MAX)),
            (Scalar::Timestamp { .. }, Some("DateTime")) if self.has_datetime64() => {
                ("toInt64", u32::MAX)
            }
            _ => return None,
        };
        Some(format!("{units}({value}) < 0 OR {units}({value}) > {most}"))
    }

    fn update(
        &self,
        _table: &str,
        _stage: &str,
        _changed: &[(String, String)],
        _key: &[(String, String)],
    ) -> Option<String> {
        None
    }
}

impl Nest for ClickHouse {
    fn elements(&self, from: &str, list: &str, name: &str, _is_inside: bool) -> String {
        format!("(SELECT arrayJoin({list}) AS {name} FROM {from})")
    }

    fn member(&self, value: &str, _name: &str, at: usize) -> String {
        format!("tupleElement({value}, {})", at + 1)
    }

    fn leaf(&self, value: &str, leaf: &ColumnDecl) -> Option<Leaf> {
        // As it is stored in there.
        let declared = match leaf.scalar() {
            Scalar::Lowcard => {
                ColumnDecl { ty: Scalar::Text { most: None }.into(), ..leaf.clone() }
            }
            Scalar::Category if !fits_enum(&leaf.values) => return None,
            _ => leaf.clone(),
        };
        Some(Leaf { declared, value: value.to_owned() })
    }
}

impl Questions for ClickHouse {
    fn parts(&self, column: &ColumnDecl, quoted: &str, table: &str) -> Vec<Part> {
        if !self.nests(column) {
            return Vec::new();
        }
        super::nested::parts(self, column, None, quoted, table)
    }

    fn counted(&self, ty: Scalar, column: &str) -> String {
        match ty {
            // Older versions count the nulls of a dictionary too.
            Scalar::Lowcard | Scalar::Category => format!("countIf(isNotNull({column}))"),
            _ => format!("count({column})"),
        }
    }

    fn asked(&self, declared: &ColumnDecl, column: &str) -> Asked {
        if self.nests(declared) {
            return Asked::default();
        }
        let ty = declared.scalar();
        let extremes = |value: &str| Asked::extremes(|fold| format!("{fold}({value})"));
        let units = |name: &str| Asked::extremes(|fold| format!("{name}({fold}({column}))"));
        match ty {
            Scalar::Bool => Asked::total(format!("sum(toUInt8({column}))")),
            Scalar::Int(_) => {
                Asked { goes_round: true, ..extremes(column).sum(format!("sum({column})")) }
            }
            // Those of decimals have 38 digits.
            Scalar::Decimal { .. } => extremes(column).sum(format!("sum({column})")),
            Scalar::Float32 | Scalar::Float64 => {
                extremes(column).sum(format!("sum(toFloat64({column}))"))
            }
            Scalar::Text { .. } | Scalar::Ip | Scalar::Json => {
                extremes(column).sum(format!("sum(length({column}))"))
            }
            // Aggregates of older versions do not take every dictionary of texts that may be null.
            Scalar::Lowcard => {
                let text = format!("CAST({column} AS Nullable(String))");
                extremes(&text).sum(format!("sum(length({text}))"))
            }
            Scalar::Category if fits_enum(&declared.values) => {
                let code = format!("toInt16({column})");
                Asked { of: Of::Codes, ..extremes(&code).sum(format!("sum({code})")) }
            }
            Scalar::Category => Asked::total(format!("sum(length(toString({column})))")),
            Scalar::Date => units("toInt32"),
            Scalar::Time(_) => extremes(column),
            Scalar::Timestamp { unit, .. } if self.has_datetime64() => units(match unit {
                TimeUnit::Second => "toInt64",
                TimeUnit::Milli => "toUnixTimestamp64Milli",
                TimeUnit::Micro => "toUnixTimestamp64Micro",
                TimeUnit::Nano => "toUnixTimestamp64Nano",
            }),
            Scalar::Timestamp { .. } => units("toInt64"),
            // Its own order is that of no text.
            Scalar::Uuid => extremes(&format!("toString({column})")),
            Scalar::Geopoint => Asked::default(),
            _ => carried_asked(self, declared, column),
        }
    }
}

/// Whether a type has structs inside of lists.
fn has_structs_in_lists(ty: &Type, is_inside: bool) -> bool {
    match ty {
        Type::Scalar(_) => false,
        Type::List(items) => has_structs_in_lists(items, true),
        Type::Struct(fields) => {
            is_inside || fields.iter().any(|field| has_structs_in_lists(&field.ty, false))
        }
    }
}

/// Whether an enumeration has room for the values.
fn fits_enum(values: &[String]) -> bool {
    values.len() <= 32_767
}
