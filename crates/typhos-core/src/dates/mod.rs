//! Dates and times: the pattern language, its compiled form, and the shapes dates are found by.
//!
//! A [`Pattern`] is compiled once and then reads bytes into a [`Moment`], strictly: to the last byte,
//! and only days that exist. A [`Shape`] is what a value looks like before anyone knows its pattern:
//! `03/31/24` is two digits, two digits, two digits with slashes, and three patterns may read it.
//! Which of them is right is not decided here but over a whole column, by `infer`.

mod calendar;
mod compile;
mod counts;
mod fixed;
mod look;
#[cfg(test)]
mod look_tests;
mod look_time;
mod loose;
mod moment;
mod mould;
mod names;
mod offsets;
mod pattern;
mod posix;
mod quick;
mod read;
mod shape;
mod step;
mod sure;
mod symbols;
mod token;
mod ways;
mod words;

pub use calendar::{
    DAY_NANOS, civil_from_days, days_from_civil, days_in_month, days_of_year, format_days,
    format_nanos, push_days, push_nanos, weekday, weekday_name, weeks_of_year,
};
pub use look::read_shape;
pub use look_time::is_word_of_time;
pub use moment::{Misread, Moment};
pub use mould::{MOULD_BYTES, Mould, padded};
pub use names::{DEFAULT_LOCALE, Form, Named, Names, names};
pub use offsets::{Overlap, Zone};
pub use pattern::Pattern;
pub use read::{DEFAULT_PIVOT, ReadOptions};
pub use shape::{DateOrder, DateShape, Separator, Shape, Shaped, TimeShape, Wording, ZoneShape};
pub use sure::Bounded;
pub use symbols::{COUNTS, SYMBOLS, Symbol};
pub use token::PatternError;
pub use ways::{Way, deciders, no_such_day, ways};
pub use words::{MOST_BYTES as LONGEST_NAME, form_of, in_small_letters, language_of, may_be_name};

#[cfg(test)]
mod tests;
