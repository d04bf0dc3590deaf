//! Dates and times: the pattern language, its compiled form, and the shapes dates are found by.
//!
//! A [`Pattern`] is compiled once and then reads bytes into a [`Moment`], strictly: to the last byte,
//! and only days that exist. A [`Shape`] is what a value looks like before anyone knows its pattern:
//! `03/31/24` is two digits, two digits, two digits with slashes, and three patterns may read it.
//! Which of them is right is not decided here but over a whole column, by [`infer`](crate::infer).

mod calendar;
mod compile;
mod counts;
mod fixed;
mod look;
mod names;
mod offsets;
mod pattern;
mod posix;
mod read;
mod shape;
mod symbols;
mod ways;
mod words;

pub use calendar::{
    civil_from_days, days_from_civil, days_in_month, days_of_year, format_days, format_nanos,
    weekday, weekday_name, weeks_of_year,
};
pub use look::read_shape;
pub use names::{DEFAULT_LOCALE, Form, Named, Names, names};
pub use offsets::{Overlap, Zone};
pub use pattern::{DEFAULT_PIVOT, Misread, Moment, Pattern, PatternError, ReadOptions};
pub use shape::{DateShape, Order, Separator, Shape, Shaped, TimeShape, Wording, ZoneShape};
pub use symbols::{COUNTS, SYMBOLS, Symbol};
pub use ways::{Way, deciders, no_such_day, ways};
pub use words::{form_of, language_of};

/// Nanoseconds of a day.
pub const DAY_NANOS: i64 = 86_400_000_000_000;

#[cfg(test)]
mod tests;
