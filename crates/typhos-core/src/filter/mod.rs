//! A question about rows, such as `route = 'Holm' and cabin > 'deck'`: typed, and answered twice.
//!
//! [`Filter::matches`] says of each row whether it is meant. [`Filter::candidates`] says which rows of a
//! file could be, as far as the smallest and largest values of its pages tell: what a reader cannot skip.
//!
//! Comparisons are those of the declared types: numbers as numbers, dates as dates, ranked categories by
//! their rank, other texts by their bytes. What is absent fits no comparison, neither `=` nor `!=`; only
//! `is absent` finds it. A float that is not a number fits none either.
//!
//! The grammar, with words in any letter case:
//!
//! ```text
//! question = all { "or" all }          all  = part { "and" part }
//! part     = "not" part | "(" question ")" | test
//! test     = term ( "=" | "!=" | "<>" | "<" | "<=" | ">" | ">=" ) value
//!          | term [ "not" ] "in" "(" value { "," value } ")"
//!          | term [ "not" ] "between" value "and" value
//!          | term "is" [ "not" ] ( "absent" | "null" )
//! value    = a text in single quotes, or a number, true or false
//! ```
//!
//! What a term is, [`terms`](crate::terms) says: a column, or a function of one such as `year(sold_on)`.

mod allowed;
mod parse;
mod rows;
mod superset;

#[cfg(test)]
mod tests;

use arrow_schema::Schema as ArrowSchema;

use crate::dates::days_from_civil;
use crate::schema::Schema;
use crate::terms::{PhraseError, Spoken, Term};
use allowed::Allowed;
use parse::Expr;
pub use rows::{Extremes, Page};
pub use superset::Superset;

/// A question about the rows of a schema.
#[derive(Debug, Clone)]
pub struct Filter {
    root: Node,
}

/// A part of a question. There is no "not": it is turned around where it stands.
#[derive(Debug, Clone)]
enum Node {
    All(Vec<Node>),
    Any(Vec<Node>),
    Test(Box<Test>),
}

#[derive(Debug, Clone)]
struct Test {
    term: Term,
    fits: Fits,
}

#[derive(Debug, Clone)]
enum Fits {
    Absent,
    Present,
    Values(Allowed),
}

impl Filter {
    /// Reads a question about the rows of `schema`, which are held as `arrow` says.
    ///
    /// # Errors
    /// A question that is not understood, a column that is not there, a value that its type cannot have.
    pub fn parse(
        question: &str,
        schema: &Schema,
        arrow: &ArrowSchema,
    ) -> Result<Filter, PhraseError> {
        let expr = parse::parse(question)?;
        Ok(Filter { root: node(&expr, true, schema, arrow)? })
    }

    /// The columns that are asked about, each once, in the order of the question.
    pub fn columns(&self) -> Vec<usize> {
        fn collect(node: &Node, columns: &mut Vec<usize>) {
            match node {
                Node::All(parts) | Node::Any(parts) => {
                    parts.iter().for_each(|part| collect(part, columns));
                }
                Node::Test(test) if !columns.contains(&test.term.column) => {
                    columns.push(test.term.column);
                }
                Node::Test(_) => {}
            }
        }
        let mut columns = Vec::new();
        collect(&self.root, &mut columns);
        columns
    }
}

impl Filter {
    /// The same question about rows whose columns stand elsewhere, as `place` says.
    pub fn of_columns(&self, place: &dyn Fn(&usize) -> usize) -> Filter {
        fn moved(node: &Node, place: &dyn Fn(&usize) -> usize) -> Node {
            let all = |parts: &[Node]| parts.iter().map(|part| moved(part, place)).collect();
            match node {
                Node::All(parts) => Node::All(all(parts)),
                Node::Any(parts) => Node::Any(all(parts)),
                Node::Test(test) => {
                    let term = test.term.at(place(&test.term.column));
                    Node::Test(Box::new(Test { term, fits: test.fits.clone() }))
                }
            }
        }
        Filter { root: moved(&self.root, place) }
    }
}

/// Makes a node of a part that is meant as it stands, or turned around.
fn node(
    expr: &Expr,
    meant: bool,
    schema: &Schema,
    arrow: &ArrowSchema,
) -> Result<Node, PhraseError> {
    Ok(match expr {
        Expr::Not(part) => node(part, !meant, schema, arrow)?,
        Expr::All(parts) | Expr::Any(parts) => {
            let parts: Vec<Node> = parts
                .iter()
                .map(|part| node(part, meant, schema, arrow))
                .collect::<Result<_, _>>()?;
            // Of "not (a and b)" one of the two is not so.
            if matches!(expr, Expr::All(_)) == meant { Node::All(parts) } else { Node::Any(parts) }
        }
        Expr::Absent(spoken) => {
            let fits = if meant { Fits::Absent } else { Fits::Present };
            Node::Test(Box::new(Test { term: term(spoken, schema, arrow)?, fits }))
        }
        Expr::Compare(spoken, comparison) => {
            let term = term(spoken, schema, arrow)?;
            let allowed = Allowed::by(comparison, &term.result, term.data_type())?;
            let allowed = if meant { allowed } else { allowed.complement() };
            let data_type = arrow.field(term.column).data_type();
            let (term, allowed) = match (term.units_of_years(data_type), allowed) {
                // Ranges of the column itself tell of pages, and whoever else is asked knows them.
                (Some(units), Allowed::Ints(years)) => {
                    let declared = &schema.columns[term.column];
                    (term.inner(declared, data_type), Allowed::Ints(of_years(&years, units)))
                }
                (_, allowed) => (term, allowed),
            };
            Node::Test(Box::new(Test { term, fits: Fits::Values(allowed) }))
        }
    })
}

/// Ranges of years as ranges of units since 1970, so many in a day.
fn of_years(years: &[(i128, i128)], units: i128) -> Vec<(i128, i128)> {
    // Farther off there are no days here.
    const MOST: i128 = 1_000_000;
    let start = |year: i128| i128::from(days_from_civil(year as i32, 1, 1)) * units;
    let range = |(low, high): &(i128, i128)| {
        let low = if *low < -MOST { i128::MIN } else { start((*low).min(MOST)) };
        let high = if *high > MOST { i128::MAX } else { start((*high).max(-MOST) + 1) - 1 };
        (low, high)
    };
    years.iter().map(range).collect()
}

fn term(spoken: &Spoken, schema: &Schema, arrow: &ArrowSchema) -> Result<Term, PhraseError> {
    Term::of(spoken, schema, |column| arrow.field(column).data_type())
}
