//! The SQL of PostgreSQL.

use typhos_core::schema::{ColumnDecl, IntType, Scalar, TimeUnit, Type};

use super::definitions::{Definitions, NamedType, Stored, as_json, carried};
use super::held::ExistingColumn;
use super::movements::Movements;
use super::nested::{Leaf, Nest, Part};
use super::questions::{Asked, Of, Questions, carried_asked};
use super::quoting::{backslashed, doubled, list_check, literals, range_check, unicode_escaped};
use super::units::{counted_in, per_second};
use typhos_core::schema::Held;

/// PostgreSQL, version 12 and later.
#[derive(Debug, Clone, Copy)]
pub struct Postgres;

/// Most bytes of a name, and of a value of an enumeration.
const NAME_BYTES: usize = 63;

/// Most characters of `varchar(N)`; longer texts are of no declared length.
pub const MOST_CHARACTERS: u32 = 10_485_760;

impl Postgres {
    /// The name of the type that holds the values of a category.
    fn type_name(table: &str, column: &str) -> String {
        let mut name = format!("{table}_{column}");
        if name.len() > NAME_BYTES {
            // Cut, with a few letters that depend on all of it, so that two such names differ.
            let tail = format!("_{:08x}", twox_hash::XxHash3_64::oneshot(name.as_bytes()) as u32);
            let most = NAME_BYTES - tail.len();
            let end = (0..=most).rev().find(|at| name.is_char_boundary(*at));
            name.truncate(end.unwrap_or(0));
            name.push_str(&tail);
        }
        name
    }
}

impl Postgres {
    /// What the elements of a list are, where it is an array; lists of others, and structs, are JSON.
    pub fn array_of(column: &ColumnDecl) -> Option<ColumnDecl> {
        let Type::List(items) = &column.ty else { return None };
        let scalar = match **items {
            // An enumeration has no number that is known before it is made.
            Type::Scalar(Scalar::Category) => Scalar::Text { most: None },
            Type::Scalar(Scalar::Json) => return None,
            Type::Scalar(scalar) => scalar,
            Type::List(_) | Type::Struct(_) => return None,
        };
        Some(ColumnDecl { ty: scalar.into(), ..column.clone() })
    }

    /// How a list or struct is stored.
    fn stored_nested(&self, table: &str, column: &ColumnDecl) -> Stored {
        let Some(items) = Postgres::array_of(column) else {
            return as_json(Stored::new("jsonb"), self, column);
        };
        let stored = self.stored(table, &items);
        let quoted = self.identifier(&column.name);
        let mut array = Stored { ty: format!("{}[]", stored.ty), ..Stored::default() };
        // A check of a value is one of all elements.
        array.check = match (items.scalar(), column.ty.leaf()) {
            (_, Some(Scalar::Category)) => {
                let values: Vec<_> =
                    column.values.iter().map(|value| self.literal(value)).collect();
                // Of an element that is null nothing is known to be in a list.
                let values = values.join(", ");
                Some(format!("array_remove({quoted}, NULL) <@ ARRAY[{values}]::text[]"))
            }
            (Scalar::Int(int), _) if stored.check.is_some() => {
                let (low, high) = int.range();
                Some(format!("{low} <= ALL ({quoted}) AND {high} >= ALL ({quoted})"))
            }
            _ => None,
        };
        array.note = stored.note.map(|note| format!("in an array, {note}"));
        array
    }

    /// What of JSON is asked as: the type of a leaf, where its text reads as one.
    fn read_as(&self, leaf: &ColumnDecl) -> Option<String> {
        match leaf.scalar() {
            Scalar::Json | Scalar::Geopoint | Scalar::Duration(_) => None,
            Scalar::Time(TimeUnit::Nano) | Scalar::Timestamp { unit: TimeUnit::Nano, .. } => None,
            Scalar::Category => Some("text".into()),
            _ => Some(self.stored("", leaf).ty),
        }
    }
}

impl Definitions for Postgres {
    fn name(&self) -> &'static str {
        "PostgreSQL"
    }

    fn identifier(&self, name: &str) -> String {
        unicode_escaped(name, '"')
    }

    fn literal(&self, text: &str) -> String {
        // With an E in front a backslash means itself when doubled, whatever the server is set to.
        if text.contains(|letter: char| letter == '\\' || letter.is_control()) {
            format!(" E{}", doubled(&backslashed(text, "\\u"), '\''))
        } else {
            doubled(text, '\'')
        }
    }

    fn longest_name(&self) -> Option<(usize, bool)> {
        Some((NAME_BYTES, true))
    }

    fn most_columns(&self) -> Option<usize> {
        Some(1_600)
    }

    fn stored(&self, table: &str, column: &ColumnDecl) -> Stored {
        let quoted = self.identifier(&column.name);
        if column.ty.is_nested() {
            return self.stored_nested(table, column);
        }
        let bounded = |ty: &str, int: IntType, note: &str| {
            Stored::new(ty).check(range_check(&quoted, int)).note(note)
        };
        match column.scalar() {
            Scalar::Bool => Stored::new("boolean"),
            Scalar::Int(int) => match int {
                IntType::Int8 => {
                    bounded("smallint", int, "as smallint with a check: 8 bits have no type")
                }
                IntType::UInt8 => {
                    bounded("smallint", int, "as smallint with a check: 8 bits have no type")
                }
                IntType::Int16 => Stored::new("smallint"),
                IntType::UInt16 => {
                    bounded("integer", int, "as integer with a check: integers have signs")
                }
                IntType::Int32 => Stored::new("integer"),
                IntType::UInt32 => {
                    bounded("bigint", int, "as bigint with a check: integers have signs")
                }
                IntType::Int64 => Stored::new("bigint"),
                IntType::UInt64 => bounded(
                    "numeric(20,0)",
                    int,
                    "as numeric(20,0) with a check: integers have signs",
                ),
            },
            Scalar::Float32 => Stored::new("real"),
            Scalar::Float64 => Stored::new("double precision"),
            Scalar::Decimal { precision, scale } => {
                Stored::new(format!("numeric({precision},{scale})"))
            }
            Scalar::Text { most: Some(most) } if most <= MOST_CHARACTERS => {
                Stored::new(format!("varchar({most})"))
            }
            Scalar::Text { most: Some(most) } => {
                Stored::new("text").check(format!("char_length({quoted}) <= {most}"))
            }
            Scalar::Text { most: None } => Stored::new("text"),
            Scalar::Lowcard => Stored::new("text").note("as text: there is no dictionary type"),
            Scalar::Category if column.values.iter().all(|value| value.len() <= NAME_BYTES) => {
                let name = Postgres::type_name(table, &column.name);
                let quoted = self.identifier(&name);
                let statement =
                    format!("CREATE TYPE {quoted} AS ENUM {}", literals(self, &column.values));
                let values = column.values.clone();
                Stored {
                    named_type: Some(NamedType { name, values, statement }),
                    ..Stored::new(quoted)
                }
            }
            Scalar::Category => Stored::new("text")
                .check(list_check(self, &quoted, &column.values))
                .note("as text with a check: a value of an enumeration has at most 63 bytes"),
            Scalar::Date => Stored::new("date"),
            Scalar::Time(TimeUnit::Nano) => {
                Stored::new("bigint").note(counted_in(TimeUnit::Nano, "midnight", self.name()))
            }
            Scalar::Time(unit) => Stored::new(format!("time({})", unit.digits())),
            Scalar::Timestamp { unit: TimeUnit::Nano, .. } => Stored::new("bigint").note(format!(
                "{}; with timestamp(us) and rounding = \"down\" it would be a timestamp",
                counted_in(TimeUnit::Nano, "1970", self.name())
            )),
            Scalar::Timestamp { unit, utc: false } => {
                Stored::new(format!("timestamp({})", unit.digits()))
            }
            Scalar::Timestamp { unit, utc: true } => {
                Stored::new(format!("timestamptz({})", unit.digits()))
            }
            Scalar::Uuid => Stored::new("uuid"),
            Scalar::Ip => Stored::new("inet"),
            Scalar::Json => Stored::new("json"),
            Scalar::Geopoint => Stored::new("point")
                .note("as a point whose x is the longitude and whose y is the latitude"),
            _ => carried(self, table, column),
        }
    }

    fn nests(&self, column: &ColumnDecl) -> bool {
        column.ty.is_nested()
    }

    fn check_name(&self, table: &str, column: &str) -> Option<String> {
        Some(self.identifier(&Postgres::type_name(table, &format!("{column}_check"))))
    }

    fn comment_statement(&self, table: &str, column: &str, comment: &str) -> Option<String> {
        Some(format!(
            "COMMENT ON COLUMN {table}.{column} IS {}",
            self.literal(comment).trim_start()
        ))
    }
}

impl Movements for Postgres {
    fn cast(&self, value: &str, ty: Scalar, there: &ExistingColumn) -> String {
        // A cast to a type with a length cuts; an assignment does not.
        match (ty, &there.held) {
            // As a text it would have its mask behind it.
            (Scalar::Ip, Held::Text(_)) => format!("host({value})"),
            // JSON stays as it is written; an array becomes some.
            (Scalar::Json, Held::Text(_)) => format!("to_json({value})::text"),
            (Scalar::Json, Held::Json) => format!("to_json({value})::{}", there.ty),
            (_, Held::Text(_)) => format!("{value}::text"),
            // By its shortest text, or it would be the double of the float and not that of the number.
            (Scalar::Float32, Held::Float(64)) => format!("{value}::text::float8"),
            // Truth becomes a number of one type only.
            (Scalar::Bool, Held::Int(_) | Held::Decimal(_)) => {
                format!("{value}::integer::{}", there.ty)
            }
            _ => format!("{value}::{}", there.ty),
        }
    }

    fn is_same_type(&self, defined: &str, there: &str) -> bool {
        let (name, rest) = defined.split_at(defined.find('(').unwrap_or(defined.len()));
        match name {
            "varchar" => there == format!("character varying{rest}"),
            "time" | "timestamp" => there == format!("{name}{rest} without time zone"),
            "timestamptz" => there == format!("timestamp{rest} with time zone"),
            _ => there == defined,
        }
    }

    fn keeps_letters(&self, there: &ExistingColumn) -> bool {
        there.ty != "jsonb"
    }

    fn insert_and_ask(
        &self,
        insert: &str,
        columns: &[(String, String)],
        selected: &str,
    ) -> Option<String> {
        // Few numbers are cast to truth; all of their texts are.
        let returned = columns.iter().map(|(name, ty)| match &ty[..] {
            "boolean" => format!("{name}::text::boolean AS {name}"),
            _ => format!("{name}::{ty} AS {name}"),
        });
        let returned = returned.collect::<Vec<_>>().join(", ");
        Some(format!("WITH added AS ({insert} RETURNING {returned}) SELECT {selected} FROM added"))
    }

    fn insert(&self, table: &str, columns: &str) -> String {
        // Numbers that the server would give are those of the input, where it has them.
        format!("INSERT INTO {table} ({columns}) OVERRIDING SYSTEM VALUE")
    }
}

impl Nest for Postgres {
    fn elements(&self, from: &str, list: &str, name: &str, is_inside: bool) -> String {
        match is_inside {
            false => format!("{from} CROSS JOIN LATERAL unnest({list}) AS {name}"),
            // What is null in JSON is a value there, and has no elements.
            true => format!(
                "{from} CROSS JOIN LATERAL jsonb_array_elements(CASE WHEN jsonb_typeof({list}) = 'array' THEN {list} END) AS {name}"
            ),
        }
    }

    fn member(&self, value: &str, name: &str, _at: usize) -> String {
        format!("({value} -> {})", self.literal(name).trim_start())
    }

    fn leaf(&self, value: &str, leaf: &ColumnDecl) -> Option<Leaf> {
        let ty = self.read_as(leaf)?;
        let plain = match leaf.scalar() {
            Scalar::Category => {
                ColumnDecl { ty: Scalar::Text { most: None }.into(), ..leaf.clone() }
            }
            _ => leaf.clone(),
        };
        // As a text and not as JSON.
        Some(Leaf { declared: plain, value: format!("(({value} #>> '{{}}')::{ty})") })
    }
}

impl Questions for Postgres {
    fn parts(&self, column: &ColumnDecl, quoted: &str, table: &str) -> Vec<Part> {
        let inner = Postgres::array_of(column);
        super::nested::parts(self, column, inner, quoted, table)
    }

    fn asked(&self, declared: &ColumnDecl, column: &str) -> Asked {
        if declared.ty.is_nested() {
            return Asked::default();
        }
        let ty = declared.scalar();
        let extremes = |value: &str| Asked::extremes(|fold| format!("{fold}({value})"));
        let numbers = || extremes(column).sum(format!("sum({column})"));
        match ty {
            Scalar::Bool => Asked::total(format!("sum({column}::int)")),
            Scalar::Int(_) | Scalar::Decimal { .. } | Scalar::Float64 => numbers(),
            Scalar::Float32 => extremes(column).sum(format!("sum({column}::double precision)")),
            Scalar::Time(TimeUnit::Nano) | Scalar::Timestamp { unit: TimeUnit::Nano, .. } => {
                numbers()
            }
            Scalar::Text { .. } | Scalar::Lowcard => extremes(&format!("{column} COLLATE \"C\""))
                .sum(format!("sum(octet_length({column}))")),
            // Lengths of an enumeration are dear: each value is looked up in the catalog.
            Scalar::Category if self.stored("", declared).named_type.is_some() => {
                Asked { of: Of::ListOrder, ..extremes(column) }
            }
            Scalar::Category => Asked::total(format!("sum(octet_length({column}))")),
            Scalar::Json => Asked::total(format!("sum(octet_length({column}::text))")),
            Scalar::Date => Asked::extremes(|fold| format!("{fold}({column}) - date '1970-01-01'"))
                .sum(format!("sum({column} - date '1970-01-01')")),
            Scalar::Time(unit) | Scalar::Timestamp { unit, .. } => {
                // Whole seconds apart from their parts: before version 14 both together are a double.
                let (per, part) = (per_second(unit), 1_000_000 / per_second(unit));
                Asked::extremes(|fold| {
                    format!(
                        "extract(epoch from date_trunc('second', {fold}({column})))::bigint * {per} \
                         + extract(microseconds from {fold}({column}))::bigint % 1000000 / {part}"
                    )
                })
            }
            Scalar::Uuid => extremes(&format!("{column}::text COLLATE \"C\"")),
            // Addresses are written in one way of several.
            Scalar::Ip => Asked::default(),
            Scalar::Geopoint => extremes(&format!("{column}[1]")).sum(format!("sum({column}[1])")),
            _ => carried_asked(self, declared, column),
        }
    }
}
