//! The SQL of MariaDB.

use typhos_core::schema::{ColumnDecl, IntType, Scalar, TimeUnit};

use super::definitions::{Definitions, Indexed, RowBytes, Stored, TableOrder, as_json, carried};
use super::held::ExistingColumn;
use super::movements::{Movements, each_is};
use super::questions::{Asked, Of, Questions, carried_asked};
use super::quoting::{doubled, one_line};
use super::units::{counted_in, per_second};
use typhos_core::schema::Held;

/// MariaDB, version 10.7 and later.
#[derive(Debug, Clone, Copy)]
pub struct Mariadb;

/// Most characters of a name.
const NAME_CHARACTERS: usize = 64;

/// Most characters of `varchar(N)`: a row of them stays within 65,535 bytes.
const MOST_CHARACTERS: u32 = 4_000;

/// Characters of a long text that an index compares: an index has 3,072 bytes, room for three such columns.
const INDEXED_CHARACTERS: u32 = 250;

/// Most values of an enumeration.
const MOST_VALUES: usize = 65_535;

/// Most columns of a table of InnoDB.
const MOST_COLUMNS: usize = 1_017;

/// Most bytes of a row, texts of no declared length not counted.
const MOST_ROW_BYTES: u64 = 65_535;

/// Bytes that a type takes in a row at most: characters take four bytes, and a number of them is kept; texts of no declared
/// length are elsewhere.
fn bytes_in_row(ty: &str) -> u64 {
    let number = || ty.split(['(', ')']).nth(1).and_then(|number| number.parse::<u64>().ok());
    match ty.split(['(', ' ']).next().unwrap_or_default() {
        "varchar" => number().unwrap_or(0) * 4 + 2,
        "longtext" | "json" | "point" => 12,
        "uuid" => 16,
        "decimal" => 17,
        _ => 8,
    }
}

/// Whether a text can be a value of an enumeration. Blanks at its end would be lost, there is no empty one, and the
/// catalog does not tell letters beyond the first plane of Unicode from each other.
fn can_be_listed(value: &str) -> bool {
    !value.is_empty()
        && !value.ends_with(' ')
        && !value.chars().any(|letter| letter == '\\' || letter.is_control() || letter > '\u{ffff}')
}

/// Says of a column of floats that infinities have no place there, where they are not ruled out by bounds.
fn finite(stored: Stored, column: &ColumnDecl) -> Stored {
    if column.low.is_some() && column.high.is_some() {
        return stored;
    }
    let ty = stored.ty.clone();
    stored.note(format!(
        "as {ty}, which has no infinities: with low and high declared, such a value is a misfit of its line"
    ))
}

impl Definitions for Mariadb {
    fn name(&self) -> &'static str {
        "MariaDB"
    }

    fn identifier(&self, name: &str) -> String {
        doubled(name, '`')
    }

    fn opening(&self) -> Option<&'static str> {
        Some("SET NAMES utf8mb4")
    }

    fn literal(&self, text: &str) -> String {
        // Right where a backslash escapes and where it does not: it never stands in the text itself.
        if !text.contains('\\') {
            return doubled(text, '\'');
        }
        let parts = text.split('\\').map(|part| doubled(part, '\''));
        format!("concat({})", parts.collect::<Vec<_>>().join(", char(92), "))
    }

    fn longest_name(&self) -> Option<(usize, bool)> {
        Some((NAME_CHARACTERS, false))
    }

    fn ignores_case(&self) -> bool {
        true
    }

    fn most_columns(&self) -> Option<usize> {
        Some(MOST_COLUMNS)
    }

    fn row_bytes(&self) -> Option<RowBytes> {
        Some(RowBytes { most: MOST_ROW_BYTES, of: bytes_in_row })
    }

    fn stored(&self, table: &str, column: &ColumnDecl) -> Stored {
        let quoted = self.identifier(&column.name);
        if column.ty.is_nested() {
            return as_json(Stored::new("json"), self, column);
        }
        match column.scalar() {
            Scalar::Bool => Stored::new("boolean"),
            Scalar::Int(int) => Stored::new(match int {
                IntType::Int8 => "tinyint",
                IntType::Int16 => "smallint",
                IntType::Int32 => "int",
                IntType::Int64 => "bigint",
                IntType::UInt8 => "tinyint unsigned",
                IntType::UInt16 => "smallint unsigned",
                IntType::UInt32 => "int unsigned",
                IntType::UInt64 => "bigint unsigned",
            }),
            Scalar::Float32 => finite(Stored::new("float"), column),
            Scalar::Float64 => finite(Stored::new("double"), column),
            Scalar::Decimal { precision, scale } => {
                Stored::new(format!("decimal({precision},{scale})"))
            }
            Scalar::Text { most: Some(most) } if most <= MOST_CHARACTERS => {
                Stored::new(format!("varchar({most})"))
            }
            Scalar::Text { most: Some(most) } => {
                Stored::new("longtext").check(format!("char_length({quoted}) <= {most}"))
            }
            Scalar::Text { most: None } => Stored::new("longtext"),
            Scalar::Lowcard => {
                Stored::new("longtext").note("as longtext: there is no dictionary type")
            }
            Scalar::Category
                if column.values.len() <= MOST_VALUES
                    && column.values.iter().all(|value| can_be_listed(value)) =>
            {
                let values: Vec<_> =
                    column.values.iter().map(|value| self.literal(value)).collect();
                Stored::new(format!("enum({})", values.join(", ")))
            }
            Scalar::Category => Stored::new("longtext")
                .check(crate::quoting::list_check(self, &quoted, &column.values))
                .note("as longtext with a check: an enumeration cannot hold all of its values"),
            Scalar::Date => Stored::new("date"),
            Scalar::Time(TimeUnit::Nano) => {
                Stored::new("bigint").note(counted_in(TimeUnit::Nano, "midnight", self.name()))
            }
            Scalar::Time(unit) => Stored::new(format!("time({})", unit.digits())),
            Scalar::Timestamp { unit: TimeUnit::Nano, .. } => Stored::new("bigint").note(format!(
                "{}; with timestamp(us) and rounding = \"down\" it would be a datetime",
                counted_in(TimeUnit::Nano, "1970", self.name())
            )),
            Scalar::Timestamp { unit, utc: false } => {
                Stored::new(format!("datetime({})", unit.digits()))
            }
            Scalar::Timestamp { unit, utc: true } => {
                Stored::new(format!("datetime({})", unit.digits()))
                    .note("as datetime in UTC: timestamps with a zone end in 2038")
            }
            Scalar::Uuid => Stored::new("uuid"),
            Scalar::Ip => Stored::new("varchar(45)").note("as varchar(45), as it was written"),
            Scalar::Json => Stored::new("json"),
            Scalar::Geopoint => Stored::new("point")
                .note("as a point whose x is the longitude and whose y is the latitude"),
            _ => carried(self, table, column),
        }
    }

    fn indexed(&self, column: &ColumnDecl) -> Indexed {
        let quoted = self.identifier(&column.name);
        let is_long = match column.scalar() {
            Scalar::Text { most } => most.is_none_or(|most| most > INDEXED_CHARACTERS),
            Scalar::Category => self.stored("", column).ty == "longtext",
            Scalar::Lowcard | Scalar::Json => true,
            _ => false,
        };
        match is_long {
            true => Indexed {
                name: format!("{quoted}({INDEXED_CHARACTERS})"),
                note: Some(format!("the first {INDEXED_CHARACTERS} characters")),
            },
            false => Indexed { name: quoted, note: None },
        }
    }

    fn column_comment(&self, comment: &str) -> Option<String> {
        // It has no expressions there, and at most 1,024 characters.
        let comment: String = one_line(comment).replace('\\', "/").chars().take(1000).collect();
        Some(format!(" COMMENT {}", doubled(&comment, '\'')))
    }

    fn keeps_order(&self) -> bool {
        false
    }

    fn tail(&self, _order: &TableOrder) -> String {
        // Texts are told apart by every byte, as in the file.
        " ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin".into()
    }
}

impl Movements for Mariadb {
    fn cast(&self, value: &str, ty: Scalar, there: &ExistingColumn) -> String {
        match (ty, &there.held) {
            (Scalar::Bool, Held::Text(_)) => format!("elt({value} + 1, 'false', 'true')"),
            // As a text a point is its bytes.
            (Scalar::Geopoint, Held::Text(_)) => {
                format!("concat(ST_Y({value}), ',', ST_X({value}))")
            }
            _ => value.to_owned(),
        }
    }

    fn widens_floats(&self) -> bool {
        // Rows come as texts, so the double is the one of the text.
        true
    }

    fn beyond(&self, value: &str, _ty: Scalar, there: &ExistingColumn) -> Option<String> {
        // Blanks at the end of such a column are not given back.
        there.ty.starts_with("char(").then(|| format!("{value} LIKE '% '"))
    }

    fn is_there(&self, table: &str, key: &[(String, String)]) -> String {
        // Not one row after the other: where no index helps, the server makes one of what is within the parentheses.
        let there: Vec<_> = key.iter().map(|(column, _)| column.as_str()).collect();
        let values: Vec<_> = key.iter().map(|(_, value)| value.as_str()).collect();
        let known: Vec<_> = there.iter().map(|column| format!("{column} IS NOT NULL")).collect();
        format!(
            "({}) IN (SELECT {} FROM {table} WHERE {})",
            values.join(", "),
            there.join(", "),
            known.join(" AND ")
        )
    }

    fn comparable(&self, value: &str, ty: Scalar, there: &ExistingColumn) -> String {
        let value = self.cast(value, ty, there);
        match &there.letters {
            // As the column compares, or its index would be of no use.
            Some(letters) => format!(
                "convert({value} USING {}) COLLATE {}",
                letters.character_set, letters.collation
            ),
            None => value,
        }
    }

    fn update(
        &self,
        table: &str,
        stage: &str,
        changed: &[(String, String)],
        key: &[(String, String)],
    ) -> Option<String> {
        let (set, equal) = (each_is("t.", changed, ", "), each_is("t.", key, " AND "));
        Some(format!("UPDATE {table} t JOIN {stage} s ON {equal} SET {set}"))
    }
}

impl Questions for Mariadb {
    fn asked(&self, declared: &ColumnDecl, column: &str) -> Asked {
        let ty = declared.scalar();
        let extremes = |value: &str| Asked::extremes(|fold| format!("{fold}({value})"));
        let numbers = |value: &str| extremes(value).sum(format!("sum({value})"));
        let bytes = format!("sum(length({column}))");
        match ty {
            // A float is shown with six digits unless it is made a double.
            Scalar::Float32 => numbers(&format!("{column} + 0e0")),
            Scalar::Bool | Scalar::Int(_) | Scalar::Decimal { .. } | Scalar::Float64 => {
                numbers(column)
            }
            Scalar::Time(TimeUnit::Nano) | Scalar::Timestamp { unit: TimeUnit::Nano, .. } => {
                numbers(column)
            }
            Scalar::Text { .. } | Scalar::Lowcard | Scalar::Ip | Scalar::Json => {
                extremes(column).sum(bytes)
            }
            Scalar::Category if self.stored("", declared).ty.starts_with("enum(") => {
                Asked { of: Of::Codes, ..numbers(&format!("{column} + 0")) }
            }
            Scalar::Category => Asked::total(bytes),
            Scalar::Date => Asked::extremes(|fold| format!("to_days({fold}({column})) - 719528")),
            Scalar::Time(unit) => {
                let per = per_second(unit);
                Asked::extremes(|fold| format!("time_to_sec({fold}({column})) * {per}"))
            }
            Scalar::Timestamp { unit, .. } => {
                let unit_name = if unit == TimeUnit::Second { "SECOND" } else { "MICROSECOND" };
                let over = if unit == TimeUnit::Milli { " DIV 1000" } else { "" };
                Asked::extremes(|fold| {
                    format!("timestampdiff({unit_name}, '1970-01-01', {fold}({column})){over}")
                })
            }
            // Its own order is that of no text.
            Scalar::Uuid => extremes(&format!("cast({column} AS char(36))")),
            Scalar::Geopoint => numbers(&format!("ST_Y({column})")),
            _ => carried_asked(self, declared, column),
        }
    }
}
