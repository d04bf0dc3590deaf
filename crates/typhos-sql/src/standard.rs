//! Standard SQL, for a database that is none of the others: only types of ISO/IEC 9075 that are widely
//! understood.

use typhos_core::schema::{ColumnDecl, IntType, Scalar, TimeUnit};

use super::definitions::{Definitions, Stored, as_json, carried};
use super::quoting::{list_check, range_check, unicode_escaped};

/// Standard SQL.
#[derive(Debug, Clone, Copy)]
pub struct Standard;

impl Definitions for Standard {
    fn name(&self) -> &'static str {
        "standard SQL"
    }

    fn identifier(&self, name: &str) -> String {
        unicode_escaped(name, '"')
    }

    fn literal(&self, text: &str) -> String {
        unicode_escaped(text, '\'')
    }

    fn longest_name(&self) -> Option<(usize, bool)> {
        None
    }

    fn stored(&self, table: &str, column: &ColumnDecl) -> Stored {
        let quoted = self.identifier(&column.name);
        let bounded = |ty: &str, int: IntType| {
            Stored::new(ty)
                .check(range_check(&quoted, int))
                .note(format!("as {ty} with a check: there is no {}", int.name()))
        };
        let widest = |values: &[String]| {
            values.iter().map(|value| value.chars().count()).max().unwrap_or(1).max(1)
        };
        if column.ty.is_nested() {
            return as_json(Stored::new("character large object"), self, column);
        }
        match column.scalar() {
            Scalar::Bool => Stored::new("boolean"),
            Scalar::Int(int) => match int {
                IntType::Int8 | IntType::UInt8 => bounded("smallint", int),
                IntType::Int16 => Stored::new("smallint"),
                IntType::UInt16 => bounded("integer", int),
                IntType::Int32 => Stored::new("integer"),
                IntType::UInt32 => bounded("bigint", int),
                IntType::Int64 => Stored::new("bigint"),
                IntType::UInt64 => bounded("decimal(20,0)", int),
            },
            Scalar::Float32 => Stored::new("real"),
            Scalar::Float64 => Stored::new("double precision"),
            Scalar::Decimal { precision, scale } => {
                Stored::new(format!("decimal({precision},{scale})"))
            }
            Scalar::Text { most: Some(most) } => Stored::new(format!("varchar({most})")),
            Scalar::Text { most: None } => Stored::new("character large object"),
            Scalar::Lowcard => Stored::new("character large object")
                .note("as character large object: there is no dictionary type"),
            Scalar::Category => Stored::new(format!("varchar({})", widest(&column.values)))
                .check(list_check(self, &quoted, &column.values))
                .note("as varchar with a check: there are no enumerations"),
            Scalar::Date => Stored::new("date"),
            Scalar::Time(unit) => timed("time", unit, ""),
            Scalar::Timestamp { unit, utc: false } => timed("timestamp", unit, ""),
            Scalar::Timestamp { unit, utc: true } => timed("timestamp", unit, " with time zone"),
            Scalar::Uuid => Stored::new("char(36)").note("as char(36): there are no UUIDs"),
            Scalar::Ip => Stored::new("varchar(45)").note("as varchar(45): there are no addresses"),
            Scalar::Json => Stored::new("character large object")
                .note("as character large object: JSON is not everywhere a type"),
            Scalar::Geopoint => Stored::new("varchar(50)")
                .note("as varchar(50), latitude before longitude: there are no points"),
            _ => carried(self, table, column),
        }
    }
}

/// A type with digits of a second: the standard leaves to each database how many there may be.
fn timed(name: &str, unit: TimeUnit, zone: &str) -> Stored {
    let stored = Stored::new(format!("{name}({}){zone}", unit.digits()));
    match unit {
        TimeUnit::Nano => {
            stored.note("with nine digits of a second, which many databases do not have")
        }
        _ => stored,
    }
}
