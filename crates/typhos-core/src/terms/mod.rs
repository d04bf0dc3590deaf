//! Values worked out of a column: the year of a date, the bucket of a number.
//!
//! A [`Term`] is a column or a function of one, with the declaration of what comes of it. Questions about rows
//! ([`filter`](crate::filter)) and groups of them ([`tally`](crate::tally)) are made of terms, in one language:
//!
//! ```text
//! term     = column | part "(" column ")" | "bucket" "(" column "," number ")"
//! part     = "year" | "quarter" | "month" | "week" | "weekday" | "day" | "hour"
//! column   = a name, in double quotes where it has more than letters, digits and underscores
//! ```
//!
//! Weeks are those of ISO 8601; a weekday is a ranked category that begins with `Mon`. A time that is a point in time has the
//! parts that it has in UTC. A bucket is called by its lower end: `bucket(fare, 10)` of 17.50 is 10, and of -1 it is -10.

mod phrase;

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Float32Type, Float64Type};
use arrow_array::{Array, ArrayRef, Float64Array};
use arrow_schema::{DataType, TimeUnit};

use crate::columns::whole::{dictionary_array, each_whole, whole_array};
use crate::dates::{civil_from_days, days_from_civil, weekday};
use crate::readings::parse_number;
use crate::schema::{ColumnDecl, IntType, MAX_PRECISION, Scalar, Schema};

pub use phrase::PhraseError;
pub(crate) use phrase::{Phrase, Spoken, Token, Word};

/// A column, or what is worked out of one.
#[derive(Debug, Clone)]
pub struct Term {
    /// The column, by its place.
    pub column: usize,
    part: Part,
    /// What comes of it, under the name that it is asked for by.
    pub result: ColumnDecl,
    data_type: DataType,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Part {
    Itself,
    Of(Calendar),
    /// Of whole numbers: how they become those of the result, and the width there.
    Bucket {
        factor: i128,
        width: i128,
    },
    FloatBucket {
        width: f64,
    },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Calendar {
    Year,
    Quarter,
    Month,
    Week,
    Weekday,
    Day,
    Hour,
}

/// The functions of columns.
pub(crate) const FUNCTIONS: [&str; 8] =
    ["year", "quarter", "month", "week", "weekday", "day", "hour", "bucket"];

const WEEKDAYS: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

const DAY_SECONDS: i128 = 24 * 60 * 60;

impl Term {
    /// What is meant by words, of a schema whose columns are held as `data_type` says.
    pub(crate) fn of<'a>(
        spoken: &Spoken,
        schema: &Schema,
        data_type: impl Fn(usize) -> &'a DataType,
    ) -> Result<Term, PhraseError> {
        let (word, call) = match spoken {
            Spoken::Column(word) => (word, None),
            Spoken::Call { function, of, with } => match of.as_deref() {
                Some(Spoken::Column(word)) => (word, Some((function, with.as_ref()))),
                _ => return Err(function.wrong(format!("'{}' is of a column", function.text))),
            },
        };
        let column = find(word, schema)?;
        let (declared, data_type) = (&schema.columns[column], data_type(column));
        let Some((function, with)) = call else {
            let result = ColumnDecl { name: declared.name.clone(), ..declared.clone() };
            return Ok(Term { column, part: Part::Itself, result, data_type: data_type.clone() });
        };
        let name = spoken.name();
        if function.text == "bucket" {
            let width = with.ok_or_else(|| {
                function.wrong(format!("how wide are they? bucket({}, 10)", word.text))
            })?;
            let (part, scalar) = bucket(declared, word, width)?;
            let data_type = scalar.arrow(0);
            return Ok(Term { column, part, result: ColumnDecl::new(name, scalar), data_type });
        }
        if let Some(with) = with {
            return Err(with.wrong(format!("'{}' is of a column alone", function.text)));
        }
        let calendar = match &function.text[..] {
            "year" => Calendar::Year,
            "quarter" => Calendar::Quarter,
            "month" => Calendar::Month,
            "week" => Calendar::Week,
            "weekday" => Calendar::Weekday,
            "day" => Calendar::Day,
            "hour" => Calendar::Hour,
            other => {
                return Err(function.wrong(match crate::nearest(other, FUNCTIONS) {
                    Some(near) => format!("there is no function '{other}'; did you mean '{near}'?"),
                    None => format!(
                        "there is no function '{other}'; there are {}",
                        FUNCTIONS.join(", ")
                    ),
                }));
            }
        };
        let has_it = match declared.scalar() {
            _ if declared.ty.is_nested() => false,
            Scalar::Date => calendar != Calendar::Hour,
            Scalar::Timestamp { .. } => true,
            Scalar::Time(_) => calendar == Calendar::Hour,
            _ => false,
        };
        if !has_it {
            return Err(word.wrong(format!(
                "'{}' is of type {}, which has no {}",
                word.text, declared.ty, function.text
            )));
        }
        let mut result = ColumnDecl::new(name, calendar.scalar());
        if calendar == Calendar::Weekday {
            result.values = WEEKDAYS.map(str::to_owned).to_vec();
            result.ranked = true;
        }
        let data_type = calendar.scalar().arrow(WEEKDAYS.len());
        Ok(Term { column, part: Part::Of(calendar), result, data_type })
    }

    /// How what comes of it is held.
    pub fn data_type(&self) -> &DataType {
        &self.data_type
    }

    /// Whether it is the column as it is.
    pub(crate) fn is_column(&self) -> bool {
        self.part == Part::Itself
    }

    /// The units of a day where it is the year of a column that is held as `data_type` says, days or instants: what is said of
    /// years can then be said of ranges of the column.
    pub(crate) fn units_of_years(&self, data_type: &DataType) -> Option<i128> {
        match data_type {
            _ if self.part != Part::Of(Calendar::Year) => None,
            DataType::Date32 => Some(1),
            DataType::Timestamp(unit, _) => Some(DAY_SECONDS * per_second(*unit)),
            _ => None,
        }
    }

    /// The column that it is worked out of, as it is, of a schema whose columns are held as `data_type` says.
    pub(crate) fn inner(&self, declared: &ColumnDecl, data_type: &DataType) -> Term {
        let (result, data_type) = (declared.clone(), data_type.clone());
        Term { column: self.column, part: Part::Itself, result, data_type }
    }

    /// The same of rows whose columns stand elsewhere.
    pub(crate) fn at(&self, column: usize) -> Term {
        Term { column, ..self.clone() }
    }

    /// Works it out of the values of its column.
    pub(crate) fn values(&self, array: &ArrayRef) -> ArrayRef {
        match self.part {
            Part::Itself => array.clone(),
            Part::Of(calendar) => calendar.values(array, &self.data_type),
            Part::Bucket { factor, width } => {
                let mut buckets = Vec::with_capacity(array.len());
                each_whole(array, |value| {
                    buckets.push(value.map(|value| (value * factor).div_euclid(width) * width));
                });
                whole_array(&self.data_type, buckets.into_iter())
            }
            Part::FloatBucket { width } => {
                let floor = |value: f64| (value / width).floor() * width;
                Arc::new(Float64Array::from_iter(match array.data_type() {
                    DataType::Float32 => {
                        let values = array.as_primitive::<Float32Type>().iter();
                        values.map(|v| v.map(|v| floor(v.into()))).collect::<Vec<_>>()
                    }
                    _ => {
                        let values = array.as_primitive::<Float64Type>().iter();
                        values.map(|v| v.map(floor)).collect()
                    }
                }))
            }
        }
    }
}

/// The column of a name.
pub(crate) fn find(word: &Word, schema: &Schema) -> Result<usize, PhraseError> {
    let found = schema.columns.iter().position(|known| known.name == word.text);
    found.ok_or_else(|| word.wrong(crate::schema::unknown_column(&word.text, &schema.columns)))
}

/// Buckets of a column of numbers, and what they are.
fn bucket(declared: &ColumnDecl, word: &Word, width: &Word) -> Result<(Part, Scalar), PhraseError> {
    let number = parse_number(width.text.as_bytes());
    let number = number.filter(|number| number.mantissa > 0 && number.exponent.is_none());
    let number = number.ok_or_else(|| {
        width.wrong(format!("'{}' is not a width: a number above 0", width.text.escape_debug()))
    })?;
    let (digits, scale) = match declared.scalar() {
        _ if declared.ty.is_nested() => return Err(no_number(declared, word)),
        Scalar::Float32 | Scalar::Float64 => {
            let width = width.text.parse().expect("a plain number");
            return Ok((Part::FloatBucket { width }, Scalar::Float64));
        }
        Scalar::Int(int) => (int.range().1.ilog10() as u8 + 1, 0),
        Scalar::Decimal { precision, scale } => (precision, scale),
        _ => return Err(no_number(declared, word)),
    };
    let common = scale.max(number.scale);
    // A bucket below the least value may have a digit more.
    let needed = digits - scale + common + 1;
    let power = |scale: u8| 10i128.checked_pow(u32::from(common - scale));
    let width_there = power(number.scale).and_then(|power| number.mantissa.checked_mul(power));
    match (power(scale), width_there) {
        (Some(factor), Some(width)) if needed <= MAX_PRECISION => {
            let scalar = match common {
                0 if needed <= 18 => Scalar::Int(IntType::Int64),
                _ => Scalar::Decimal { precision: MAX_PRECISION, scale: common },
            };
            Ok((Part::Bucket { factor, width }, scalar))
        }
        _ => Err(width.wrong("buckets of this width have more digits than a number holds")),
    }
}

fn no_number(declared: &ColumnDecl, word: &Word) -> PhraseError {
    word.wrong(format!("'{}' is of type {}, and buckets are of numbers", word.text, declared.ty))
}

impl Calendar {
    fn scalar(self) -> Scalar {
        match self {
            Calendar::Year => Scalar::Int(IntType::Int32),
            Calendar::Weekday => Scalar::Category,
            _ => Scalar::Int(IntType::UInt8),
        }
    }

    fn values(self, array: &ArrayRef, data_type: &DataType) -> ArrayRef {
        // Units of what is held in a day; none of a day itself.
        let unit = match array.data_type() {
            DataType::Timestamp(unit, _) | DataType::Time32(unit) | DataType::Time64(unit) => {
                Some(DAY_SECONDS * per_second(*unit))
            }
            _ => None,
        };
        let mut parts = Vec::with_capacity(array.len());
        // Rows that follow one another are often of one day.
        let mut last = (i128::MIN, 0);
        each_whole(array, |value| {
            parts.push(value.map(|value| {
                let (day, within) = match unit {
                    Some(unit) => (value.div_euclid(unit), value.rem_euclid(unit)),
                    None => (value, 0),
                };
                if self == Calendar::Hour {
                    return within / (unit.unwrap_or(DAY_SECONDS) / 24);
                }
                if last.0 != day {
                    last = (day, i128::from(self.of_day(day as i32)));
                }
                last.1
            }));
        });
        if self != Calendar::Weekday {
            return whole_array(data_type, parts.into_iter());
        }
        dictionary_array(data_type, parts.into_iter(), &WEEKDAYS.map(str::to_owned))
    }

    /// The part of a day, counted from 1970.
    fn of_day(self, day: i32) -> i32 {
        let (year, month, of_month) = civil_from_days(day);
        let weekday = weekday(day) as i32 - 1;
        match self {
            Calendar::Year => year,
            Calendar::Quarter => (month as i32 - 1) / 3 + 1,
            Calendar::Month => month as i32,
            Calendar::Day => of_month as i32,
            Calendar::Weekday => weekday,
            Calendar::Week => {
                // A week is of the year that its Thursday is in.
                let thursday = day - weekday + 3;
                let (year, ..) = civil_from_days(thursday);
                (thursday - days_from_civil(year, 1, 1)) / 7 + 1
            }
            Calendar::Hour => 0,
        }
    }
}

fn per_second(unit: TimeUnit) -> i128 {
    match unit {
        TimeUnit::Second => 1,
        TimeUnit::Millisecond => 1_000,
        TimeUnit::Microsecond => 1_000_000,
        TimeUnit::Nanosecond => 1_000_000_000,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::columns::cell_text;
    use proptest::prelude::*;

    fn schema() -> (Schema, Vec<DataType>) {
        let text = "typhos = 1\n[columns]\non = { type = \"date\", patterns = [\"yyyy-MM-dd\"] }\nat = { type = \"timestamp(ms, utc)\", patterns = [\"yyyy-MM-dd HH:mm:ssX\"] }\nclock = { type = \"time(s)\", patterns = [\"HH:mm:ss\"] }\nfare = { type = \"decimal(6,2)\" }\nparty = { type = \"int16\" }\nlevel = { type = \"float64\" }\nid = { type = \"uint64\" }\nname = { type = \"text\" }\n";
        let schema = crate::read_schema(text).unwrap();
        let types = schema.columns.iter().map(|column| column.scalar().arrow(0)).collect();
        (schema, types)
    }

    fn term(words: &str) -> Result<Term, String> {
        let (schema, types) = schema();
        let spoken = Phrase::of(words).unwrap().spoken().unwrap();
        Term::of(&spoken, &schema, |at| &types[at]).map_err(|error| error.message)
    }

    fn worked_out(words: &str, values: &[Option<i128>]) -> Vec<String> {
        let term = term(words).unwrap();
        let (_, types) = schema();
        let array = whole_array(&types[term.column], values.iter().copied());
        let found = term.values(&array);
        assert_eq!(found.data_type(), term.data_type(), "{words}");
        assert_eq!(term.result.name, words);
        (0..found.len()).map(|row| cell_text(&found, row).unwrap_or_default()).collect()
    }

    #[test]
    fn parts_of_dates() {
        // 2024-12-30, 1969-12-31, absent.
        let days = [Some(20_087), Some(-1), None];
        for (part, want) in [
            ("year", ["2024", "1969", ""]),
            ("quarter", ["4", "4", ""]),
            ("month", ["12", "12", ""]),
            ("week", ["1", "1", ""]),
            ("weekday", ["Mon", "Wed", ""]),
            ("day", ["30", "31", ""]),
        ] {
            assert_eq!(worked_out(&format!("{part}(on)"), &days), want);
        }
        assert_eq!(worked_out("hour(at)", &[Some(-1), Some(3_600_000)]), ["23", "1"]);
        assert_eq!(worked_out("day(at)", &[Some(-1), Some(0)]), ["31", "1"]);
        assert_eq!(worked_out("hour(clock)", &[Some(86_399)]), ["23"]);
    }

    #[test]
    fn buckets_are_called_by_their_lower_ends() {
        let fares = [Some(1750), Some(-1), Some(0), None];
        assert_eq!(worked_out("bucket(fare, 10)", &fares), ["10.00", "-10.00", "0.00", ""]);
        assert_eq!(worked_out("bucket(party, 2.5)", &[Some(6), Some(-3)]), ["5.0", "-5.0"]);
        assert_eq!(worked_out("bucket(party, 4)", &[Some(7), Some(-1)]), ["4", "-4"]);
        let most = Some(i128::from(u64::MAX));
        assert_eq!(worked_out("bucket(id, 10)", &[most]), ["18446744073709551610"]);
        let levels: ArrayRef = Arc::new(Float64Array::from(vec![Some(2.75), Some(-0.1), None]));
        let found = term("bucket(level, 0.5)").unwrap().values(&levels);
        assert_eq!(
            found.as_primitive::<Float64Type>().iter().collect::<Vec<_>>(),
            [Some(2.5), Some(-0.5), None]
        );
    }

    #[test]
    fn what_has_no_such_part_is_said() {
        for (words, want) in [
            ("year(fare)", "'fare' is of type decimal(6,2), which has no year"),
            ("hour(on)", "'on' is of type date, which has no hour"),
            ("yaer(on)", "there is no function 'yaer'; did you mean 'year'?"),
            ("bucket(name, 2)", "'name' is of type text, and buckets are of numbers"),
            ("bucket(fare)", "how wide are they? bucket(fare, 10)"),
            ("bucket(fare, 0)", "'0' is not a width: a number above 0"),
            ("year(on, 2)", "'year' is of a column alone"),
            ("year()", "'year' is of a column"),
            ("bucket(fare, 0.00000000000000000000000000000000001)", "buckets of this width"),
        ] {
            let error = term(words).unwrap_err();
            assert!(error.starts_with(want), "{words}: {error}");
        }
    }

    proptest! {
        /// The law: weeks are those that a calendar of its own makes, over all years there are.
        #[test]
        fn weeks_are_those_of_iso_8601(day in -719_162i32..2_932_896) {
            let (year, month, of_month) = civil_from_days(day);
            let date = jiff::civil::date(year as i16, month as i8, of_month as i8);
            let week = date.iso_week_date();
            prop_assert_eq!(Calendar::Week.of_day(day), i32::from(week.week()));
            prop_assert_eq!(
                Calendar::Weekday.of_day(day) + 1,
                i32::from(date.weekday().to_monday_one_offset())
            );
        }
    }
}
