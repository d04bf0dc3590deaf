//! What a target can be asked about a column, in its own words: the questions of the proof.

use typhos_core::schema::{ColumnDecl, Scalar};

use super::definitions::Definitions;
use super::nested::Part;

/// The questions about a column that a target can answer, in its own words.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Asked {
    /// How many values there are.
    pub count: Option<String>,
    /// The smallest value.
    pub low: Option<String>,
    /// The largest value.
    pub high: Option<String>,
    /// The sum of numbers, or of lengths in bytes. Where it may be too large for the target, two sums with a
    /// colon between them: that of [`PART`]s, rounded towards zero, and that of the rest.
    pub sum: Option<String>,
    /// Whether that sum has 64 bits, and begins again where they end.
    pub goes_round: bool,
    /// Whether the target is asked for codes and not for texts.
    pub of: Of,
}

/// What is asked for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Of {
    /// The values.
    #[default]
    Values,
    /// The numbers of the values in their list, from 1.
    Codes,
    /// The values, in the order of their list; there is no sum of them.
    ListOrder,
}

/// What sums are taken apart by.
pub const PART: i128 = 1_000_000_000;

impl Asked {
    /// Questions about the smallest and the largest value; `of` makes one of the name of an aggregate.
    pub fn extremes(of: impl Fn(&str) -> String) -> Asked {
        Asked { low: Some(of("min")), high: Some(of("max")), ..Asked::default() }
    }

    /// The question about a sum alone.
    pub fn total(sum: String) -> Asked {
        Asked::default().sum(sum)
    }

    /// A question about the sum as well.
    pub fn sum(self, sum: String) -> Asked {
        Asked { sum: Some(sum), ..self }
    }

    /// The questions there are.
    pub fn questions(&self) -> impl Iterator<Item = &String> {
        [&self.count, &self.low, &self.high, &self.sum].into_iter().flatten()
    }
}

/// The SQL of a database, as far as it is asked about its rows.
pub trait Questions: Definitions {
    /// The question how many values of a column are not null; `column` is its name in quotes.
    fn counted(&self, _ty: Scalar, column: &str) -> String {
        format!("count({column})")
    }

    /// What can be asked about the values of a column that is stored as this language stores it;
    /// `column` is its name in quotes.
    fn asked(&self, declared: &ColumnDecl, column: &str) -> Asked;

    /// What can be asked about what is nested in a column, where the language [nests](Definitions::nests); `quoted` is
    /// its name in quotes, and `table` where it is.
    fn parts(&self, _column: &ColumnDecl, _quoted: &str, _table: &str) -> Vec<Part> {
        Vec::new()
    }
}

/// What can be asked about a column that is stored as what carries it.
pub(crate) fn carried_asked(language: &dyn Questions, column: &ColumnDecl, name: &str) -> Asked {
    match column.scalar().carrier() {
        Some(carrier) => language.asked(&ColumnDecl { ty: carrier.into(), ..column.clone() }, name),
        None => Asked::default(),
    }
}
