//! What somebody else may be asked in place of a question, so that they hand out no less than is meant: a database, which
//! compares texts in ways of its own. What it is given is said again of every row afterwards.

use std::ops::Bound;
use std::sync::Arc;

use arrow_array::{ArrayRef, Float64Array};
use arrow_schema::{DataType, Schema as ArrowSchema};

use super::allowed::{Allowed, ByteRange};
use super::{Filter, Fits, Node, Test};
use crate::columns::cell_text;
use crate::columns::whole::whole_array;

/// Ranges that are more than anybody should be asked about.
const MOST_RANGES: usize = 1_000;

/// Rows that hold all those that a question is about. Columns are given by their places, values as plain texts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Superset {
    /// Whatever there is.
    Anything,
    /// What is in all of these.
    All(Vec<Superset>),
    /// What is in any of these.
    Any(Vec<Superset>),
    /// Where a column is absent.
    Absent(usize),
    /// Where a column is not absent.
    Present(usize),
    /// Where a column of numbers, days or instants is from one value to another, both in, for one of these; an end that is
    /// not there is open.
    Within(usize, Vec<(Option<String>, Option<String>)>),
    /// Where a column of texts is one of these.
    OneOf(usize, Vec<String>),
}

impl Filter {
    /// What may be asked in place of this question about rows that are held as `arrow` says, of the columns that `may_ask`
    /// takes.
    pub fn superset(&self, arrow: &ArrowSchema, may_ask: &dyn Fn(usize) -> bool) -> Superset {
        self.root.superset(arrow, may_ask)
    }
}

impl Node {
    fn superset(&self, arrow: &ArrowSchema, may_ask: &dyn Fn(usize) -> bool) -> Superset {
        let all = |parts: &[Node]| -> Vec<Superset> {
            parts.iter().map(|part| part.superset(arrow, may_ask)).collect()
        };
        match self {
            Node::All(parts) => {
                let mut parts = all(parts);
                parts.retain(|part| *part != Superset::Anything);
                match parts.len() {
                    0 => Superset::Anything,
                    1 => parts.remove(0),
                    _ => Superset::All(parts),
                }
            }
            Node::Any(parts) => {
                let parts = all(parts);
                match parts.contains(&Superset::Anything) {
                    true => Superset::Anything,
                    false => Superset::Any(parts),
                }
            }
            Node::Test(test) => test.superset(arrow, may_ask),
        }
    }
}

impl Test {
    fn superset(&self, arrow: &ArrowSchema, may_ask: &dyn Fn(usize) -> bool) -> Superset {
        let column = self.term.column;
        if !may_ask(column) {
            return Superset::Anything;
        }
        let allowed = match &self.fits {
            Fits::Absent if self.term.is_column() => return Superset::Absent(column),
            // What is worked out of a value is there where that is.
            Fits::Present => return Superset::Present(column),
            Fits::Values(allowed) if self.term.is_column() => allowed,
            Fits::Values(_) => return Superset::Present(column),
            Fits::Absent => return Superset::Anything,
        };
        let data_type = arrow.field(column).data_type();
        let asked = match allowed {
            Allowed::Ints(ranges) => within(column, ranges, |value| {
                let array = whole_array(data_type, std::iter::once(Some(value)));
                cell_text(&array, 0)
            }),
            Allowed::Floats(ranges) => within(column, ranges, |value| {
                let array: ArrayRef = Arc::new(Float64Array::from(vec![value]));
                cell_text(&array, 0).filter(|_| value.is_finite())
            }),
            Allowed::Bytes(ranges) if is_text(data_type) => one_of(column, ranges),
            Allowed::Bytes(_) => None,
            Allowed::Listed(values) => {
                let meant = values.iter().filter(|(_, is_meant)| *is_meant);
                Some(Superset::OneOf(column, meant.map(|(text, _)| text.clone()).collect()))
            }
        };
        asked.unwrap_or(Superset::Present(column))
    }
}

fn is_text(data_type: &DataType) -> bool {
    match data_type {
        DataType::Utf8 => true,
        DataType::Dictionary(_, values) => **values == DataType::Utf8,
        _ => false,
    }
}

/// Ranges of values; an end that the type cannot have is open.
fn within<T: Copy>(
    column: usize,
    ranges: &[(T, T)],
    text: impl Fn(T) -> Option<String>,
) -> Option<Superset> {
    let ends = ranges.iter().map(|(low, high)| (text(*low), text(*high)));
    (ranges.len() <= MOST_RANGES).then(|| Superset::Within(column, ends.collect()))
}

/// Texts that are equal to some. Which are above or below one, others see otherwise.
fn one_of(column: usize, ranges: &[ByteRange]) -> Option<Superset> {
    let single = |(low, high): &ByteRange| match (low, high) {
        (Bound::Included(low), Bound::Included(high)) if low == high => {
            String::from_utf8(low.clone()).ok()
        }
        _ => None,
    };
    let texts: Vec<String> = ranges.iter().map(single).collect::<Option<_>>()?;
    (texts.len() <= MOST_RANGES).then_some(Superset::OneOf(column, texts))
}
