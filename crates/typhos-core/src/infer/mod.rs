//! Facts → types, with evidence and blockers; a survey becomes a draft.
//!
//! [`decide`] looks at the [facts](crate::survey) of all columns and says for each which type holds
//! every value, why, and what stands in the way of a narrower one. It never looks at the data again.
//! [`draft`] turns the decisions into a [`Schema`](crate::schema::Schema) with comments.
//!
//! The order of the rules is that of [`number`], [`dates`] and [`text`] below: the narrowest type
//! whose readings take *every* value wins, and text is what remains. One odd value makes a column
//! text, and is named as its blocker.

mod dates;
mod draft;
mod number;
mod text;

use crate::dates::Order;
use crate::readings::{BOOL_PAIRS, TOKENS};
use crate::schema::Type;
use crate::survey::{Class, ColumnFacts, Example, Facts, Place, Survey};

pub use crate::wording::{counted, grouped, shown};
pub use draft::{Draft, draft};

/// How far beyond the extremes seen a narrowed type reaches, where nothing else is said.
pub const DEFAULT_HEADROOM: f64 = 2.0;

/// The rules of a house, where they are not the usual ones.
#[derive(Debug, Clone, Copy)]
pub struct Rules {
    /// How far beyond the extremes seen a narrowed type must reach: 1 for the tightest.
    pub headroom: f64,
    /// The order of dates that could be read in more than one.
    pub date_order: Option<Order>,
}

impl Default for Rules {
    fn default() -> Self {
        Rules { headroom: DEFAULT_HEADROOM, date_order: None }
    }
}

/// Values that rule out a narrower type.
#[derive(Debug, Clone, PartialEq)]
pub struct Blocker {
    /// The type that the other values allow.
    pub ty: Type,
    /// How many values are in the way.
    pub count: u64,
    /// The first of them.
    pub examples: Vec<Example>,
}

/// A question that the data cannot answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// The orders that read every value, with the patterns each would take.
    pub choices: Vec<(Order, Vec<String>)>,
}

/// What was decided about a column, and why.
#[derive(Debug, Clone)]
pub struct Decision {
    /// The type.
    pub ty: Type,
    /// Whether no value is absent.
    pub required: bool,
    /// Values that are absent: blank ones, and the tokens where they count as such.
    pub absent: u64,
    /// The tokens that count as absent here, with how often they stand there; the empty text for
    /// blank fields.
    pub absent_tokens: Vec<(&'static str, u64)>,
    /// Distinct values that are not absent; `None` where there are too many to be counted exactly.
    pub distinct: Option<u64>,
    /// Smallest and largest value, as a person would write them.
    pub range: Option<(String, String)>,
    /// Most characters of a value.
    pub max_chars: u64,
    /// Patterns that together read every value, with how many each reads.
    pub patterns: Vec<(String, u64)>,
    /// The values of a category.
    pub values: Vec<String>,
    /// Why this type, in short clauses; the first says the most.
    pub evidence: Vec<String>,
    /// What rules out narrower types.
    pub blockers: Vec<Blocker>,
    /// Things to know that decide nothing.
    pub notes: Vec<String>,
    /// What only a person can say.
    pub question: Option<Question>,
}

impl Decision {
    fn new(ty: Type) -> Decision {
        Decision {
            ty,
            required: false,
            absent: 0,
            absent_tokens: Vec::new(),
            distinct: None,
            range: None,
            max_chars: 0,
            patterns: Vec::new(),
            values: Vec::new(),
            evidence: Vec::new(),
            blockers: Vec::new(),
            notes: Vec::new(),
            question: None,
        }
    }
}

impl Decision {
    /// Smallest and largest value for a person: integers with their thousands apart.
    pub fn shown_range(&self) -> Option<(String, String)> {
        let (low, high) = self.range.as_ref()?;
        // Four digits are often years, and read well without a comma.
        let text = |value: &str| match (self.ty, value.parse::<i64>()) {
            (Type::Int(_), Ok(number)) if number.unsigned_abs() < 10_000 => value.to_owned(),
            (Type::Int(_), Ok(number)) if number < 0 => {
                format!("-{}", grouped(number.unsigned_abs()))
            }
            (Type::Int(_), Ok(number)) => grouped(number.unsigned_abs()),
            _ => value.to_owned(),
        };
        Some((text(low), text(high)))
    }

    /// The range as a clause, for types whose range says something: "1 to 20,000".
    pub fn range_clause(&self) -> Option<String> {
        let (low, high) =
            self.shown_range().filter(|_| !self.ty.is_text() && self.ty != Type::Bool)?;
        Some(if low == high { low } else { format!("{low} to {high}") })
    }

    /// How many values are absent, and by which tokens: "870 absent (also 'NA')".
    pub fn absent_clause(&self) -> Option<String> {
        let tokens = self.absent_tokens.iter().filter(|(token, _)| !token.is_empty());
        let tokens: Vec<_> = tokens.map(|(token, _)| format!("'{token}'")).collect();
        let by = if tokens.is_empty() {
            String::new()
        } else {
            format!(" (also {})", tokens.join(", "))
        };
        (self.absent > 0).then(|| format!("{} absent{by}", grouped(self.absent)))
    }

    /// All there is to say in short clauses: range, evidence, notes.
    pub fn clauses(&self) -> Vec<String> {
        let evidence = self
            .evidence
            .iter()
            .chain(&self.absent_clause())
            .chain(&self.notes)
            .cloned()
            .collect::<Vec<_>>();
        self.range_clause().into_iter().chain(evidence).collect()
    }
}

/// Decides about every column of a survey.
pub fn decide(survey: &Survey, names: &[String], rules: &Rules) -> Vec<Decision> {
    let facts: Vec<Facts> = survey.columns.iter().map(ColumnFacts::facts).collect();
    // What one column proves about the order of its dates holds for the others of the same style.
    let context = dates::Context::collect(&survey.files, names, &facts);
    let columns = survey.columns.iter().zip(&facts);
    columns.map(|(column, facts)| one(column, facts, survey.records, rules, &context)).collect()
}

fn one(
    column: &ColumnFacts,
    facts: &Facts,
    records: u64,
    rules: &Rules,
    context: &dates::Context<'_>,
) -> Decision {
    let tokens: u64 = facts.tokens.iter().sum();
    let mut decision = narrow(column, facts, rules, context)
        .unwrap_or_else(|| text::decide(column, facts, records, rules, context));
    let tokens_are_absent = !decision.ty.is_text();
    decision.absent = facts.blank + if tokens_are_absent { tokens } else { 0 };
    if facts.blank > 0 {
        decision.absent_tokens.push(("", facts.blank));
    }
    let seen = TOKENS.iter().zip(facts.tokens).filter(|(_, count)| *count > 0);
    if tokens_are_absent {
        decision.absent_tokens.extend(seen.clone().map(|(token, count)| (*token, count)));
    } else {
        for (token, count) in seen.clone() {
            decision.notes.push(format!(
                "'{token}' ({}) is a value here, not absent",
                counted(count, "time")
            ));
        }
    }
    let kinds_of_tokens = if tokens_are_absent { seen.count() as u64 } else { 0 };
    decision.distinct = column.distinct().map(|distinct| distinct - kinds_of_tokens.min(distinct));
    decision.required = decision.absent == 0 && records > 0;
    decision.max_chars = facts.text.max_chars;
    let present = records - decision.absent.min(records);
    match decision.distinct {
        Some(1) if present > 1 => decision.evidence.push("always the same".into()),
        Some(distinct) if distinct == present && present > 1 => {
            decision.evidence.push("all distinct".into())
        }
        _ => {}
    }
    if facts.text.padded > 0 {
        decision
            .notes
            .push(format!("{} with white space around", counted(facts.text.padded, "value")));
    }
    decision
}

/// The narrowest type other than text that takes every value, if there is one.
fn narrow(
    column: &ColumnFacts,
    facts: &Facts,
    rules: &Rules,
    context: &dates::Context<'_>,
) -> Option<Decision> {
    let plain = facts.plain_count();
    if plain == 0 {
        return None;
    }
    if facts.count(Class::Bool) == plain {
        return boolean(facts);
    }
    if facts.count(Class::Date) == plain {
        return dates::decide(facts, rules, context).ok();
    }
    number::decide(column, facts, rules).filter(|_| number::count(facts) == plain)
}

/// One pair of words in the whole column. A pair of single letters must show both, since a column of
/// nothing but `t` is more likely a code.
fn boolean(facts: &Facts) -> Option<Decision> {
    let mut used = facts.bools.iter().zip(&BOOL_PAIRS).filter(|([no, yes], _)| no + yes > 0);
    let (Some(([no, yes], pair)), None) = (used.next(), used.next()) else { return None };
    if pair.yes.len() == 1 && (*no == 0 || *yes == 0) {
        return None;
    }
    let mut decision = Decision::new(Type::Bool);
    decision.evidence.push(format!("{} {}, {} {}", grouped(*yes), pair.yes, grouped(*no), pair.no));
    let (low, high) =
        (if *no > 0 { "false" } else { "true" }, if *yes > 0 { "true" } else { "false" });
    decision.range = Some((low.into(), high.into()));
    Some(decision)
}

/// The first examples of some classes, by place.
fn first_examples(facts: &Facts, classes: &[Class]) -> Vec<Example> {
    let mut examples: Vec<Example> =
        classes.iter().flat_map(|class| facts.examples(*class)).cloned().collect();
    examples.sort_by_key(|example| example.place);
    examples.truncate(crate::survey::MAX_EXAMPLES);
    examples
}

/// A line for a person, and its file where there are several: "line 59 of 2024-01.csv".
pub fn line_of(place: Place, files: &[String]) -> String {
    let line = format!("line {}", grouped(place.line));
    match files.get(place.file as usize) {
        Some(file) if files.len() > 1 => {
            let name = file.rsplit(['/', '\\']).next().unwrap_or(file);
            format!("{line} of {name}")
        }
        _ => line,
    }
}

#[cfg(test)]
mod tests;
