//! Values of schema files and of questions, read as those of a column are.

use super::Reason;
use super::absent::Around;
use super::cells::{Cells, Visit};
use super::nested::with_cells;
use crate::schema::{ColumnDecl, ReadValues, Scalar};

/// Values of schema files and of questions: those that are read here alone.
#[derive(Debug, Clone, Copy)]
pub struct PlainValues;

impl PlainValues {
    /// A day, time or instant, as a bound in a schema file says it, in the units of its type.
    ///
    /// # Errors
    /// A sentence that says why it is none.
    pub(crate) fn units(ty: Scalar, text: &str) -> Result<Option<i64>, String> {
        struct Low;
        impl Visit for Low {
            type Out = Option<i64>;
            fn visit<C: Cells + 'static>(self, cells: C) -> Option<i64> {
                cells.low()
            }
        }
        let mut column = ColumnDecl::new("", ty);
        column.low = Some(text.to_owned());
        with_cells(&column, &Around::default(), Low)
    }
}

impl ReadValues for PlainValues {
    fn is_bound(&self, ty: Scalar, text: &str) -> Result<(), String> {
        PlainValues::units(ty, text).map(|_| ())
    }

    fn is_value(&self, column: &ColumnDecl, text: &str) -> Result<(), String> {
        struct Take<'t>(&'t str);
        impl Visit for Take<'_> {
            type Out = Result<(), Reason>;
            fn visit<C: Cells + 'static>(self, mut cells: C) -> Self::Out {
                cells.push(self.0.as_bytes())
            }
        }
        let taken = with_cells(column, &Around::default(), Take(text))?;
        taken.map_err(|reason| reason.to_string())
    }
}

/// A text as a value of a column, written plainly, as [`cell_text`](super::cell_text) writes it; `None` where
/// the column does not take it.
pub fn plain_text(column: &ColumnDecl, text: &str) -> Option<String> {
    struct Take<'t>(&'t str);
    impl Visit for Take<'_> {
        type Out = Option<String>;
        fn visit<C: Cells + 'static>(self, mut cells: C) -> Self::Out {
            cells.push(self.0.as_bytes()).ok()?;
            super::cell_text(&cells.finish(), 0)
        }
    }
    with_cells(column, &Around::default(), Take(text)).ok()?
}
