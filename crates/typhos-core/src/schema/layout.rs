//! How rows are laid out where they go: the table `[layout]` of a schema file.
//!
//! Nothing here changes a value. A layout decides in which order rows stand and how files are written,
//! and so what a reader has to read of them.

use std::fmt;
use std::ops::Range;

use toml::de::{DeTable, DeValue};

use super::read::{Reader, Value};
use super::{ColumnDecl, Scalar, Schema};
use crate::text::{parse_size, size_name};
use crate::wording::listed;

/// The keys of `[layout]`, in the order they are written.
pub const LAYOUT_KEYS: [&str; 8] =
    ["key", "sort", "partition", "compression", "row_group", "page", "dictionary", "dynamic"];

/// Rows of a row group, at least and at most.
const ROW_GROUP_ROWS: std::ops::RangeInclusive<i64> = 1..=100_000_000;

/// How rows are laid out. What is not said is as usual in the target.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Layout {
    /// The columns whose values together name a row.
    pub key: Vec<String>,
    /// The columns that rows are sorted by, the first one first.
    pub sort: Vec<SortKey>,
    /// What decides which directory a row goes to, the outer one first.
    pub partition: Vec<Partition>,
    /// How pages are compressed.
    pub compression: Option<Compression>,
    /// The most rows of a row group.
    pub row_group: Option<u64>,
    /// About how many bytes a page has, before compression.
    pub page: Option<usize>,
    /// Whether values that come again are written once, with codes for them.
    pub dictionary: Option<bool>,
    /// Whether an index takes fields that are not declared, and guesses their types.
    pub dynamic: bool,
}

/// A column that rows are sorted by.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct SortKey {
    /// The declared column.
    pub column: String,
    /// Whether the largest value comes first. What is absent comes last either way.
    pub descending: bool,
}

impl SortKey {
    /// A column, the smallest value first.
    pub fn ascending(column: impl Into<String>) -> SortKey {
        SortKey { column: column.into(), descending: false }
    }

    /// Reads a key: a column, with ` desc` behind it where the largest value is to come first.
    ///
    /// # Errors
    /// A sentence that says which columns there are.
    pub fn parse(word: &str, columns: &[ColumnDecl]) -> Result<SortKey, String> {
        let known = |name: &str| columns.iter().find(|column| column.name == name);
        // A column may be called "price desc".
        if let Some(column) = known(word) {
            return match column.ty.is_nested() {
                false => Ok(SortKey::ascending(word)),
                true => Err(no_order(column)),
            };
        }
        let (name, descending) = match word.trim_end().strip_suffix(" desc") {
            Some(name) => (name.trim_end(), true),
            None => (word.trim_end().strip_suffix(" asc").unwrap_or(word).trim_end(), false),
        };
        match known(name) {
            Some(column) if column.ty.is_nested() => Err(no_order(column)),
            Some(_) => Ok(SortKey { column: name.to_owned(), descending }),
            None => Err(unknown_column(name, columns)),
        }
    }
}

impl fmt::Display for SortKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.column, if self.descending { " desc" } else { "" })
    }
}

/// What decides which directory a row goes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Partition {
    /// The declared column.
    pub column: String,
    /// What is taken of its value.
    pub by: PartitionBy,
}

/// What a partition takes of a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PartitionBy {
    /// All of it.
    Value,
    /// The year of a day or time.
    Year,
    /// The year and month.
    Month,
    /// The day.
    Day,
    /// The day and hour of a time.
    Hour,
    /// One of so many groups of about the same size, by a hash.
    Bucket(u32),
    /// So many of the first characters of a text; the next lower number that so many divide.
    Truncate(u32),
}

impl PartitionBy {
    const PARTS: [(&'static str, PartitionBy); 4] = [
        ("year", PartitionBy::Year),
        ("month", PartitionBy::Month),
        ("day", PartitionBy::Day),
        ("hour", PartitionBy::Hour),
    ];

    fn word(self) -> Option<&'static str> {
        match self {
            PartitionBy::Bucket(_) => Some("bucket"),
            PartitionBy::Truncate(_) => Some("truncate"),
            _ => PartitionBy::PARTS.into_iter().find(|(_, by)| *by == self).map(|(word, _)| word),
        }
    }

    /// One that takes a number, `bucket` or `truncate`, by its word.
    fn numbered(word: &str, number: u32) -> Option<PartitionBy> {
        match word {
            "bucket" => Some(PartitionBy::Bucket(number)),
            "truncate" => Some(PartitionBy::Truncate(number)),
            _ => None,
        }
    }

    /// The number that stands before the column.
    fn number(self) -> Option<u32> {
        match self {
            PartitionBy::Bucket(number) | PartitionBy::Truncate(number) => Some(number),
            _ => None,
        }
    }

    /// Why a column of a type has no such part; a word for it.
    fn refuses(self, scalar: Scalar) -> Option<&'static str> {
        let is_timestamp = matches!(scalar, Scalar::Timestamp { .. });
        let is_float = matches!(scalar, Scalar::Float32 | Scalar::Float64);
        match self {
            PartitionBy::Value => None,
            PartitionBy::Year | PartitionBy::Month | PartitionBy::Day => {
                let has = is_timestamp || scalar == Scalar::Date;
                (!has).then(|| self.word().unwrap_or_default())
            }
            PartitionBy::Hour => (!is_timestamp).then_some("hour"),
            PartitionBy::Bucket(_) => {
                let has_none = is_float || matches!(scalar, Scalar::Bool | Scalar::Geopoint);
                has_none.then_some("buckets")
            }
            PartitionBy::Truncate(_) => {
                let has =
                    scalar.is_text() || matches!(scalar, Scalar::Int(_) | Scalar::Decimal { .. });
                (!has).then_some("beginning")
            }
        }
    }

    /// The part of a value that is taken, where the value is written as ISO 8601 has it; `None` where it is no part of how it is
    /// written.
    pub fn part_of(self, value: &str) -> Option<&str> {
        // A year may have more than four digits, and a sign.
        let (sign, digits) = match value.strip_prefix(['-', '+']) {
            Some(digits) => (1, digits),
            None => (0, value),
        };
        let year = sign + digits.find('-').unwrap_or(digits.len());
        let end = match self {
            PartitionBy::Value => value.len(),
            PartitionBy::Year => year,
            PartitionBy::Month => year + 3,
            PartitionBy::Day => year + 6,
            PartitionBy::Hour => year + 9,
            PartitionBy::Bucket(_) | PartitionBy::Truncate(_) => return None,
        };
        Some(value.get(..end).unwrap_or(value))
    }
}

impl Partition {
    /// Reads a partition: a column, `year(column)`, `month(column)`, `day(column)`, `hour(column)`, or `bucket(16, column)`,
    /// `truncate(4, column)`.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str, columns: &[ColumnDecl]) -> Result<Partition, String> {
        let known = |name: &str| columns.iter().find(|column| column.name == name);
        match known(word) {
            Some(column) if column.ty.is_nested() => return Err(no_order(column)),
            Some(_) => {
                return Ok(Partition { column: word.to_owned(), by: PartitionBy::Value });
            }
            None => {}
        }
        let call = word.strip_suffix(')').and_then(|rest| rest.split_once('('));
        let Some((function, name)) = call else { return Err(unknown_column(word, columns)) };
        let function = function.trim();
        let (by, name) = match PartitionBy::PARTS.into_iter().find(|(word, _)| *word == function) {
            Some((_, by)) => (by, name.trim()),
            None if PartitionBy::numbered(function, 1).is_some() => {
                let number = name.split_once(',').and_then(|(number, name)| {
                    let number =
                        number.trim().parse().ok().filter(|it| (1..=1 << 30).contains(it))?;
                    Some((PartitionBy::numbered(function, number)?, name.trim()))
                });
                number.ok_or_else(|| {
                    format!("'{function}' takes a number and a column: {function}(16, COLUMN)")
                })?
            }
            None => {
                let function = function.escape_debug();
                return Err(format!(
                    "nothing takes '{function}' of a value: use year, month, day, hour, bucket or truncate"
                ));
            }
        };
        match known(name) {
            None => Err(unknown_column(name, columns)),
            Some(column) if column.ty.is_nested() => Err(no_order(column)),
            Some(column) => match by.refuses(column.scalar()).filter(|_| !column.auto) {
                None => Ok(Partition { column: name.to_owned(), by }),
                Some(what) => Err(format!("'{name}' is {}, which has no {what}", column.scalar())),
            },
        }
    }

    /// The name in `name=value`.
    pub fn label(&self) -> String {
        match self.by.word() {
            None => self.column.clone(),
            Some(word) => format!("{}_{word}", self.column),
        }
    }
}

impl fmt::Display for Partition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.by.word() {
            None => f.write_str(&self.column),
            Some(word) => match self.by.number() {
                Some(number) => write!(f, "{word}({number}, {})", self.column),
                None => write!(f, "{word}({})", self.column),
            },
        }
    }
}

/// How pages are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compression {
    /// Not at all.
    None,
    /// Snappy: fast, and larger.
    Snappy,
    /// Zstandard at a level from 1 to 22: the higher the smaller, and the slower to write.
    Zstd(u8),
}

impl Compression {
    /// The level of zstd where none is said: the fastest.
    pub const USUAL_LEVEL: u8 = 1;

    /// Reads the word of a schema file.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Compression, String> {
        let level = |word: &str| word.strip_prefix("zstd(")?.strip_suffix(')')?.parse::<u8>().ok();
        match word {
            "none" => Ok(Compression::None),
            "snappy" => Ok(Compression::Snappy),
            "zstd" => Ok(Compression::Zstd(Compression::USUAL_LEVEL)),
            _ => match level(word) {
                Some(level @ 1..=22) => Ok(Compression::Zstd(level)),
                _ => Err(format!(
                    "'{}' is not a compression: use zstd, zstd(1) to zstd(22), snappy or none",
                    word.escape_debug()
                )),
            },
        }
    }
}

impl Default for Compression {
    fn default() -> Self {
        Compression::Zstd(Compression::USUAL_LEVEL)
    }
}

impl fmt::Display for Compression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Compression::None => f.write_str("none"),
            Compression::Snappy => f.write_str("snappy"),
            Compression::Zstd(Compression::USUAL_LEVEL) => f.write_str("zstd"),
            Compression::Zstd(level) => write!(f, "zstd({level})"),
        }
    }
}

/// Says that a column nests, so that rows cannot be told apart or laid out by it.
fn no_order(column: &ColumnDecl) -> String {
    format!("'{}' is a {}, and rows have no order by it", column.name.escape_debug(), column.ty)
}

/// Says that there is no such column, and which was meant.
pub(crate) fn unknown_column(name: &str, columns: &[ColumnDecl]) -> String {
    let names: Vec<String> = columns.iter().map(|column| column.name.clone()).collect();
    let message = format!("there is no column '{}'", name.escape_debug());
    match crate::nearest(name, names.iter().map(String::as_str)) {
        Some(near) => format!("{message}; did you mean '{}'?", near.escape_debug()),
        None => format!("{message}; the columns are {}", listed(&names)),
    }
}

impl Reader<'_> {
    /// The columns are read before, wherever they stand in the file.
    pub(super) fn layout(&mut self, table: &DeTable<'_>, columns: &[ColumnDecl]) -> Layout {
        let mut layout = Layout::default();
        for (key, value) in table.iter() {
            match key.get_ref().as_ref() {
                "key" => {
                    let parse = |word: &str| match columns.iter().find(|c| c.name == word) {
                        Some(column) if column.ty.is_nested() => Err(no_order(column)),
                        Some(_) => Ok(word.to_owned()),
                        None => Err(unknown_column(word, columns)),
                    };
                    layout.key = self.columns_of(value, "key", parse, |name| name);
                }
                "sort" => {
                    let parse = |word: &str| SortKey::parse(word, columns);
                    layout.sort = self.columns_of(value, "sort", parse, |key| &key.column);
                }
                "partition" => {
                    let parse = |word: &str| Partition::parse(word, columns);
                    layout.partition = self.columns_of(value, "partition", parse, |p| &p.column);
                }
                "compression" => {
                    layout.compression =
                        self.word(value, "a compression", Compression::parse, "\"zstd\"");
                }
                "row_group" => {
                    let rows = self.integer(value, ROW_GROUP_ROWS, "row_group");
                    layout.row_group = rows.map(i64::unsigned_abs);
                }
                "page" => {
                    layout.page = self.word(value, "the size of a page", parse_page, "\"1 MiB\"");
                }
                "dictionary" => layout.dictionary = self.truth(value, "dictionary"),
                "dynamic" => layout.dynamic = self.truth(value, "dynamic").unwrap_or_default(),
                _ => self.unknown_key(key, "[layout]", &LAYOUT_KEYS),
            }
        }
        layout
    }

    /// A list of columns, each of them once.
    fn columns_of<T>(
        &mut self,
        value: &Value<'_>,
        key: &str,
        parse: impl Fn(&str) -> Result<T, String>,
        name: impl Fn(&T) -> &String,
    ) -> Vec<T> {
        let mut found: Vec<T> = Vec::new();
        let texts: Vec<(Range<usize>, String)> = match value.get_ref() {
            // One column needs no list.
            DeValue::String(word) => vec![(value.span(), word.clone().into_owned())],
            _ => self.spanned_texts(value, key).unwrap_or_default(),
        };
        for (span, text) in texts {
            match parse(&text) {
                Ok(column) if found.iter().any(|known| name(known) == name(&column)) => {
                    let message = format!("'{}' is listed twice", name(&column).escape_debug());
                    self.wrong(span, message, "list every column once");
                }
                Ok(column) => found.push(column),
                Err(message) => {
                    self.wrong(span, message, "name columns as they are called under [columns]");
                }
            }
        }
        found
    }
}

/// The least and the most bytes of a page.
const PAGE_BYTES: std::ops::RangeInclusive<usize> = 1 << 10..=1 << 30;

fn parse_page(word: &str) -> Result<usize, String> {
    parse_size(word).filter(|bytes| PAGE_BYTES.contains(bytes)).ok_or_else(|| {
        format!("'{}' is not a size of a page: from 1 KiB to 1 GiB", word.escape_debug())
    })
}

/// The table `[layout]` as it is written; nothing where it would be empty.
pub(super) fn layout_table(schema: &Schema) -> String {
    let layout = &schema.layout;
    let mut lines = Vec::new();
    let list = |texts: Vec<String>| {
        let quoted: Vec<_> = texts.iter().map(|text| super::quoted(text)).collect();
        format!("[{}]", quoted.join(", "))
    };
    if !layout.key.is_empty() {
        lines.push(format!("key = {}", list(layout.key.clone())));
    }
    if !layout.sort.is_empty() {
        lines
            .push(format!("sort = {}", list(layout.sort.iter().map(SortKey::to_string).collect())));
    }
    if !layout.partition.is_empty() {
        let partitions = layout.partition.iter().map(Partition::to_string).collect();
        lines.push(format!("partition = {}", list(partitions)));
    }
    let mut say = |key: &str, value: Option<String>| {
        lines.extend(value.map(|value| format!("{key} = {value}")));
    };
    say("compression", layout.compression.map(|c| super::quoted(&c.to_string())));
    say("row_group", layout.row_group.map(|rows| rows.to_string()));
    say("page", layout.page.map(|bytes| super::quoted(&size_name(bytes))));
    say("dictionary", layout.dictionary.map(|is_used| is_used.to_string()));
    say("dynamic", layout.dynamic.then(|| "true".to_owned()));
    if lines.is_empty() { String::new() } else { format!("\n[layout]\n{}\n", lines.join("\n")) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::read_schema as read;
    use crate::schema::write;

    fn layout(lines: &str) -> Result<Layout, Vec<String>> {
        let columns = "[columns]\nroute = { type = 'text' }\n'price desc' = { type = 'text' }\nfare = { type = 'float64' }\n";
        // The table may stand above the columns that it names.
        let source = format!("typhos = 1\n[layout]\n{lines}\n{columns}");
        let schema = read(&source).map_err(|wrong| {
            let text = |w: crate::schema::Diagnostic| {
                let (line, column) = w.line_and_column(&source);
                format!("{line}:{column} {} / {}", w.message, w.help.unwrap_or_default())
            };
            wrong.into_iter().map(text).collect::<Vec<_>>()
        })?;
        let back = read(&write(&schema, &[], &[])).unwrap_or_else(|wrong| panic!("{wrong:?}"));
        assert_eq!(back.layout, schema.layout, "what is written reads back");
        Ok(schema.layout)
    }

    #[test]
    fn every_key_reads_back() {
        let found = layout(
            "key = 'route'\nsort = ['route', 'price desc', 'fare desc']\npartition = ['route']\ncompression = 'zstd(7)'\nrow_group = 1000\n\
             page = '64 KiB'\ndictionary = false",
        );
        let sort = [("route", false), ("price desc", false), ("fare", true)];
        let sort = sort.map(|(column, descending)| SortKey { column: column.into(), descending });
        assert_eq!(
            found,
            Ok(Layout {
                key: vec!["route".into()],
                sort: sort.into(),
                partition: vec![Partition { column: "route".into(), by: PartitionBy::Value }],
                compression: Some(Compression::Zstd(7)),
                row_group: Some(1000),
                page: Some(65_536),
                dictionary: Some(false),
                dynamic: false,
            })
        );
        assert_eq!(layout(""), Ok(Layout::default()));
        assert_eq!(layout("sort = 'fare asc'").unwrap().sort, [SortKey::ascending("fare")]);
    }

    #[test]
    fn partitions_take_parts_of_dates() {
        for (by, value, want) in [
            (PartitionBy::Year, "2025-03-07", "2025"),
            (PartitionBy::Month, "2025-03-07 12:00:00", "2025-03"),
            (PartitionBy::Day, "-0044-03-15 12:00:00Z", "-0044-03-15"),
            (PartitionBy::Hour, "2025-03-07 12:00:00Z", "2025-03-07 12"),
            (PartitionBy::Value, "a-b", "a-b"),
        ] {
            assert_eq!(by.part_of(value), Some(want));
        }
        assert_eq!(PartitionBy::Bucket(4).part_of("a"), None);
    }

    #[test]
    fn partitions_read_back_and_take_columns_that_have_such_a_part() {
        let found =
            layout("partition = ['bucket(16, route)', 'truncate( 3 , price desc)']").unwrap();
        let shown: Vec<_> = found.partition.iter().map(ToString::to_string).collect();
        assert_eq!(shown, ["bucket(16, route)", "truncate(3, price desc)"]);
        let labels: Vec<_> = found.partition.iter().map(Partition::label).collect();
        assert_eq!(labels, ["route_bucket", "price desc_truncate"]);
        for (wrong, why) in [
            ("bucket(4, fare)", "'fare' is float64, which has no buckets"),
            ("hour(route)", "'route' is text, which has no hour"),
            ("truncate(2, fare)", "'fare' is float64, which has no beginning"),
            ("bucket(route)", "'bucket' takes a number and a column: bucket(16, COLUMN)"),
            ("bucket(0, route)", "'bucket' takes a number and a column: bucket(16, COLUMN)"),
            ("week(route)", "nothing takes 'week' of a value"),
        ] {
            let found = layout(&format!("partition = ['{wrong}']")).unwrap_err();
            assert!(found[0].contains(why), "{wrong}: {found:?}");
        }
    }

    #[test]
    fn mistakes_have_their_words() {
        for (line, want) in [
            ("sort = ['rout']", "3:9 there is no column 'rout'; did you mean 'route'?"),
            ("partition = ['year(fare)']", "3:14 'fare' is float64, which has no year"),
            ("partition = ['week(fare)']", "nothing takes 'week' of a value"),
            ("sort = ['fare', 'fare desc']", "3:17 'fare' is listed twice"),
            ("key = ['x y z']", "3:8 there is no column 'x y z'; the columns are"),
            ("compression = 'zstd(23)'", "3:15 'zstd(23)' is not a compression: use zstd, zstd(1)"),
            ("row_group = 0", "'row_group' is a whole number from 1"),
            ("page = '4'", "'4' is not a size of a page: from 1 KiB to 1 GiB"),
            ("sorted = []", "3:1 unknown key 'sorted' in [layout] / did you mean 'sort'?"),
        ] {
            let wrong = layout(line).unwrap_err();
            assert!(wrong.len() == 1 && wrong[0].contains(want), "{line}: {wrong:?}");
        }
    }
}
