//! The SQL of SQLite.

use typhos_core::schema::{ColumnDecl, IntType, Scalar, TimeUnit};

use super::definitions::{Definitions, Stored, TableOrder, carried};
use super::movements::Movements;
use super::questions::{Asked, PART, Questions, carried_asked};
use super::quoting::{doubled, list_check, range_check};
use super::units::per_second;

/// SQLite with strict tables: version 3.37 and later.
#[derive(Debug, Clone, Copy)]
pub struct Sqlite;

/// The most digits of a decimal that a double keeps: those are stored as `REAL`.
pub const REAL_DIGITS: u8 = 15;

/// As many zeros as the largest integer has digits.
const ZEROS: &str = "00000000000000000000";

impl Definitions for Sqlite {
    fn name(&self) -> &'static str {
        "SQLite"
    }

    fn identifier(&self, name: &str) -> String {
        doubled(name, '"')
    }

    fn literal(&self, text: &str) -> String {
        doubled(text, '\'')
    }

    fn longest_name(&self) -> Option<(usize, bool)> {
        None
    }

    fn ignores_case(&self) -> bool {
        true
    }

    fn most_columns(&self) -> Option<usize> {
        Some(2_000)
    }

    fn stored(&self, table: &str, column: &ColumnDecl) -> Stored {
        let quoted = self.identifier(&column.name);
        let text = |note: &str| Stored::new("TEXT").note(note);
        if column.ty.is_nested() {
            let stored = Stored::new("TEXT").check(format!("json_valid({quoted})"));
            return stored.note(format!("as JSON text: SQLite has no type for {}", column.ty));
        }
        match column.scalar() {
            Scalar::Bool => Stored::new("INTEGER")
                .check(format!("{quoted} IN (0, 1)"))
                .note("as 0 and 1: SQLite has no booleans"),
            Scalar::Int(IntType::Int64) => Stored::new("INTEGER"),
            Scalar::Int(IntType::UInt64) => Stored::new("ANY")
                // No value has a type of its own, and is to pass as it does elsewhere.
                .check(format!(
                    "{quoted} IS NULL OR typeof({quoted}) = 'integer' AND {quoted} >= 0 OR typeof({quoted}) = 'text' AND {quoted} NOT GLOB '*[^0-9]*' \
                     AND length({quoted}) BETWEEN 1 AND 20 AND substr('{ZEROS}' || {quoted}, -20) <= '{}'",
                    u64::MAX
                ))
                .note("as an integer, and above 9223372036854775807 as a text: SQLite's integers have signs"),
            Scalar::Int(int) => Stored::new("INTEGER").check(range_check(&quoted, int)),
            Scalar::Float32 | Scalar::Float64 => Stored::new("REAL"),
            Scalar::Decimal { precision, scale: 0 } if precision <= 18 => Stored::new("INTEGER"),
            Scalar::Decimal { precision, .. } if precision <= REAL_DIGITS => {
                Stored::new("REAL").note("as REAL, which keeps its digits: SQLite has no decimals")
            }
            Scalar::Decimal { .. } => text("as TEXT, exactly: SQLite has no decimals"),
            Scalar::Text { most: None } => Stored::new("TEXT"),
            Scalar::Text { most: Some(most) } => {
                Stored::new("TEXT").check(format!("length({quoted}) <= {most}"))
            }
            Scalar::Lowcard => Stored::new("TEXT"),
            Scalar::Category => Stored::new("TEXT").check(list_check(self, &quoted, &column.values)),
            Scalar::Date | Scalar::Time(_) | Scalar::Timestamp { .. } => {
                text("as TEXT in ISO 8601: SQLite has no dates")
            }
            Scalar::Uuid => text("as TEXT with hyphens: SQLite has no UUIDs"),
            Scalar::Ip | Scalar::Json => Stored::new("TEXT"),
            Scalar::Geopoint => text("as TEXT, latitude before longitude: SQLite has no points"),
            _ => carried(self, table, column),
        }
    }

    fn tail(&self, _order: &TableOrder) -> String {
        " STRICT".into()
    }
}

impl Movements for Sqlite {
    fn begin(&self) -> &'static str {
        "BEGIN IMMEDIATE"
    }
}

impl Questions for Sqlite {
    fn asked(&self, declared: &ColumnDecl, column: &str) -> Asked {
        let ty = declared.scalar();
        let extremes = |value: &str| Asked::extremes(|fold| format!("{fold}({value})"));
        match ty {
            // A text where it is too large for an integer; with zeros before them all have one order.
            Scalar::Int(IntType::UInt64) => {
                let digits = format!("substr('{ZEROS}' || {column}, -20)");
                extremes(&digits).sum(format!(
                    "sum(cast(substr({digits}, 1, 11) AS integer)) || ':' || sum(cast(substr({digits}, 12) AS integer))"
                ))
            }
            // A sum beyond 64 bits is an error there.
            Scalar::Int(IntType::Int64) => extremes(column)
                .sum(format!("sum({column} / {PART}) || ':' || sum({column} % {PART})")),
            Scalar::Bool | Scalar::Int(_) | Scalar::Float32 | Scalar::Float64 => {
                extremes(column).sum(format!("sum({column})"))
            }
            Scalar::Decimal { precision, scale } if precision <= REAL_DIGITS && scale > 0 => {
                // Doubles, shown with as many digits as were declared.
                Asked::extremes(|fold| format!("printf('%.{scale}f', {fold}({column}))"))
            }
            Scalar::Decimal { precision, scale: 0 } if precision <= 18 => extremes(column),
            // Numbers as texts have another order.
            Scalar::Decimal { .. } => Asked::default(),
            Scalar::Text { .. }
            | Scalar::Lowcard
            | Scalar::Category
            | Scalar::Ip
            | Scalar::Json => extremes(column).sum(format!("sum(octet_length({column}))")),
            Scalar::Date => Asked::extremes(|fold| {
                format!("cast(julianday({fold}({column})) - 2440587.5 as integer)")
            }),
            Scalar::Time(unit) => {
                units(&format!("substr({column}, 1, 8)"), DAY_OF_TIMES, unit, column)
            }
            Scalar::Timestamp { unit, .. } => {
                units(&format!("substr({column}, 1, 19)"), 0, unit, column)
            }
            Scalar::Geopoint => Asked::default(),
            Scalar::Uuid => extremes(column),
            _ => carried_asked(self, declared, column),
        }
    }
}

/// The day that a time without one is on in SQLite, in seconds since 1970.
const DAY_OF_TIMES: u32 = 946_684_800;

/// The questions about times in ISO 8601, asked in their units. Texts of other lengths are in another order, so
/// units are made first; and whole seconds apart from their parts, which would be rounded.
fn units(whole: &str, day: u32, unit: TimeUnit, column: &str) -> Asked {
    let seconds = format!("(cast(strftime('%s', {whole}) AS integer) - {day})");
    let units = match unit.digits() {
        0 => seconds,
        digits => {
            let per = per_second(unit);
            let part = format!(
                "cast(substr(rtrim(substr({column}, instr({column} || '.', '.') + 1), 'Z') || '000000000', 1, {digits}) AS integer)"
            );
            // The first second that 64 bits of nanoseconds reach begins beyond them.
            format!(
                "CASE WHEN {seconds} < 0 THEN ({seconds} + 1) * {per} + ({part} - {per}) ELSE {seconds} * {per} + {part} END"
            )
        }
    };
    Asked::extremes(|fold| format!("{fold}({units})"))
}
