//! What a column of a server is declared as: the type that holds all that it can hold, or text.

use typhos_core::schema::{ColumnDecl, Held, IntType, Rounding, Scalar, TimeUnit, Type};
use typhos_sql::held::ExistingColumn;

const TEXT: Scalar = Scalar::Text { most: None };

/// A column of a server, declared.
pub(super) fn declared(column: &ExistingColumn) -> ColumnDecl {
    let mut declared = ColumnDecl::new(&column.name, type_of(&column.held));
    if let Held::Listed(values) = &column.held {
        // Databases have them in the order of their list.
        declared.values = values.clone();
        declared.ranked = true;
    }
    if matches!(column.held, Held::Float(_)) {
        // More digits than a float has, as some write it, are that float.
        declared.rounding = Rounding::HalfEven;
    }
    declared
}

fn type_of(held: &Held) -> Type {
    Type::Scalar(match held {
        Held::Bool => Scalar::Bool,
        Held::Int(range) => {
            IntType::narrowest(*range.start(), *range.end()).map_or(TEXT, Scalar::Int)
        }
        Held::Decimal(Some((precision, scale))) if *precision <= 38 && scale <= precision => {
            Scalar::Decimal { precision: *precision as u8, scale: *scale as u8 }
        }
        Held::Float(32) => Scalar::Float32,
        Held::Float(_) => Scalar::Float64,
        Held::Listed(_) => Scalar::Category,
        Held::Date => Scalar::Date,
        Held::Time(digits) => Scalar::Time(unit(*digits)),
        Held::Timestamp(digits, utc) => {
            Scalar::Timestamp { unit: unit(*digits), utc: *utc == Some(true) }
        }
        Held::Uuid => Scalar::Uuid,
        Held::Json => Scalar::Json,
        Held::List(items) => {
            let is_plain = matches!(
                **items,
                Held::Bool
                    | Held::Int(_)
                    | Held::Float(_)
                    | Held::Decimal(Some(_))
                    | Held::Date
                    | Held::Uuid
            );
            return Type::List(Box::new(if is_plain { type_of(items) } else { TEXT.into() }));
        }
        // Digits without end; networks among addresses; points, which each server writes in its own way.
        Held::Decimal(_) | Held::Text(_) | Held::Ip | Held::Point | Held::Other => TEXT,
    })
}

/// The unit that has so many digits of a second.
fn unit(digits: u8) -> TimeUnit {
    match digits {
        0 => TimeUnit::Second,
        1..=3 => TimeUnit::Milli,
        4..=6 => TimeUnit::Micro,
        _ => TimeUnit::Nano,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_have_the_type_that_holds_what_they_hold() {
        for (held, want) in [
            (Held::bits(8, true), "int8"),
            (Held::bits(24, true), "int32"),
            (Held::bits(24, false), "uint32"),
            (Held::bits(64, false), "uint64"),
            (Held::Int(0..=i128::from(u64::MAX) + 1), "text"),
            (Held::Decimal(Some((6, 2))), "decimal(6,2)"),
            (Held::Decimal(Some((65, 2))), "text"),
            (Held::Decimal(None), "text"),
            (Held::Float(32), "float32"),
            (Held::Time(0), "time(s)"),
            (Held::Timestamp(3, None), "timestamp(ms)"),
            (Held::Timestamp(6, Some(true)), "timestamp(us, utc)"),
            (Held::List(Box::new(Held::bits(32, true))), "list(int32)"),
            (Held::List(Box::new(Held::Timestamp(6, None))), "list(text)"),
            (Held::Point, "text"),
        ] {
            assert_eq!(type_of(&held).to_string(), want, "{held:?}");
        }
    }
}
