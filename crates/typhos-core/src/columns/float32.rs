//! What a column of float64 would lose as float32: counted, and measured.

use arrow_array::Array;
use arrow_array::cast::AsArray;
use arrow_array::types::{Float32Type, Float64Type};

use super::{Converter, MisfitValue, OnMisfit, Plan};
use crate::run::{Monitor, RunError, RunOptions, fold_blocks};
use crate::schema::{self, ColumnDecl, Misfit, Rounding, Scalar, Schema};
use crate::text::Input;

/// What float32 would make of the values of a column.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Float32Change {
    /// Values that it holds, and that are another number in it.
    pub changed: u64,
    /// Values beyond what it can hold.
    pub too_large: u64,
    /// The largest difference between a value and what it would be, and that value.
    pub most: Option<(f64, f64)>,
}

impl Float32Change {
    fn merge(&mut self, other: Float32Change) {
        self.changed += other.changed;
        self.too_large += other.too_large;
        if let Some((difference, value)) = other.most {
            self.note(difference, value);
        }
    }

    fn note(&mut self, difference: f64, value: f64) {
        // Of two as large the smaller value, so that threads make no difference.
        let is_more = self
            .most
            .is_none_or(|(most, of)| difference > most || difference == most && value < of);
        if difference > 0.0 && is_more {
            self.most = Some((difference, value));
        }
    }
}

/// Reads all values of `column` as both floats. Values that are no numbers count for nothing.
///
/// # Errors
/// An input that cannot be read, and an interruption.
///
/// # Panics
/// If the column is none of the input.
pub fn float32_change(
    input: &Input,
    column: &ColumnDecl,
    options: &RunOptions,
    monitor: &dyn Monitor,
) -> Result<Float32Change, RunError> {
    let both =
        [("wide", Scalar::Float64), ("narrow", Scalar::Float32)].map(|(name, ty)| ColumnDecl {
            name: name.to_owned(),
            from: column
                .from
                .clone()
                .or_else(|| Some(schema::ColumnFrom::Name(column.name.clone()))),
            ty: ty.into(),
            auto: false,
            rounding: Rounding::HalfEven,
            misfit: Misfit::Null,
            required: false,
            low: None,
            high: None,
            ..column.clone()
        });
    let schema = Schema { columns: both.into(), ..Schema::default() };
    let plan = Plan::new(schema, input).expect("a column of this input");
    let found = fold_blocks(
        input,
        options,
        monitor,
        || (Converter::new(&plan, OnMisfit::NoteAll), Float32Change::default()),
        |(converter, change), block| {
            let report = converter.convert::<Noted>(block, |batch| {
                let wide = batch.column(0).as_primitive::<Float64Type>();
                let narrow = batch.column(1).as_primitive::<Float32Type>();
                for row in (0..batch.num_rows()).filter(|row| wide.is_valid(*row)) {
                    let value = wide.value(row);
                    if narrow.is_null(row) {
                        change.too_large += 1;
                    } else if value.is_finite() {
                        change.note((value - f64::from(narrow.value(row))).abs(), value);
                    }
                }
                Ok(())
            });
            if let Ok(report) = report {
                change.changed += report.account.changed[1];
            }
        },
    )?;
    let mut all = Float32Change::default();
    found.into_iter().for_each(|(_, change)| all.merge(change));
    // A float32 holds 0.1 as written, and still is not the number that float64 holds.
    if all.changed == 0 {
        all.most = None;
    }
    Ok(all)
}

/// Misfits are noted, and end nothing.
struct Noted;

impl From<MisfitValue> for Noted {
    fn from(_: MisfitValue) -> Self {
        Noted
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::run::NoMonitor;
    use crate::text::Dialect;
    use std::num::NonZeroUsize;

    #[test]
    fn what_changes_is_counted_and_measured() {
        let text = "a\n0.5\n16777217\n0.123456789\n1e39\nx\n0.1\n-33554433\n";
        let input = Input::from_bytes("t", text.into(), &Dialect::RFC_4180.into());
        let column = ColumnDecl::new("a", Scalar::Float64);
        for threads in 1..4 {
            let options =
                RunOptions { threads: NonZeroUsize::new(threads).unwrap(), block_bytes: 8 };
            let change = float32_change(&input, &column, &options, &NoMonitor).unwrap();
            assert_eq!((change.changed, change.too_large), (3, 1));
            assert_eq!(change.most, Some((1.0, -33_554_433.0)));
        }
    }
}
