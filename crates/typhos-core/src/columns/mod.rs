//! Text → typed Arrow arrays under a declaration, with every misfit named.
//!
//! A [`Plan`] is a schema bound to an input. Each thread makes a [`Converter`] of it and feeds it
//! blocks; out come record batches and a [`BlockReport`]: what was read, what was loaded, what was set
//! aside and why. Nothing is dropped without a line in the report, and nothing is loaded that does not
//! fit: a value is either read exactly as declared, or it is a misfit.

mod absent;
mod cells;
mod codes;
mod convert;
mod display;
mod durations;
mod fill;
mod float32;
mod foreign;
mod instants;
mod json_text;
mod leaves;
mod moments;
mod nested;
mod numbers;
mod plain;
mod plan;
mod reason;
mod rows;
mod runs;
mod scalars;
mod texts;
mod values;
pub(crate) mod whole;

#[cfg(test)]
mod tests;

pub use convert::{BlockReport, Converter, DEFAULT_BATCH_RECORDS, OnMisfit, Places};
pub use display::{cell_text, push_cell};
pub use float32::{Float32Change, float32_change};
pub use json_text::{flat_batch, is_nested, write_json};
pub use leaves::{map_array, map_field};
pub use plain::{PlainValues, plain_text};
pub(crate) use plan::arrow_fields;
pub use plan::{Plan, RANKED_KEY, TYPE_KEY, VALUES_KEY};
pub use reason::{
    Account, ColumnMisfits, MAX_MISFIT_EXAMPLES, MisfitValue, Reason, SetAside, Within,
};
pub use rows::TextRows;
