//! Facts → types, with evidence and blockers; a survey becomes a draft.
//!
//! An [`Examined`] survey holds the [facts](crate::survey) of all columns and says for each which type holds
//! every value, why, and what stands in the way of a narrower one. It never looks at the data again.
//! [`draft`] turns the decisions into a [`Schema`](crate::schema::Schema) with comments.
//!
//! The order of the rules is that of [`number`], [`dates`] and [`text`] below: the narrowest type
//! whose readings take *every* value wins, and text is what remains. One odd value makes a column
//! text, and is named as its blocker.

mod auto;
mod clause;
mod dates;
mod declare;
mod draft;
mod examined;
mod extreme;
mod house;
mod ladders;
mod names;
mod nesting;
mod number;
mod outgrown;
mod profile;
mod readings;
mod rules;
mod same;
mod text;

use std::collections::HashSet;

use crate::dates::DateOrder;
use crate::readings::{BOOL_PAIRS, Mark, NumberStyle, TOKENS, token, trim};
use crate::records::PathKind;
use crate::schema::{Misfit, Scalar};
use crate::survey::{ColumnFacts, DistinctCount, ESTIMATE_ERROR, Example, Facts};
use crate::text::LineRef;

pub use crate::wording::{counted, grouped, shown};
pub use auto::{settle, survey_for};
pub use clause::{Asked, Cited, Clause, Line};
pub use dates::DateFindings;
pub(crate) use declare::declare;
pub use draft::{Draft, DraftOptions, Objects, draft};
pub use examined::{Examined, decide};
pub use extreme::Extreme;
pub use house::{HOUSE_KEYS, House, Orders, parse_headroom, parse_quoted, parse_share, share_name};
pub use names::{Naming, snake_case};
pub use outgrown::outgrown;
pub use profile::{Bin, Profile, ReadingFacts};
pub use rules::{DEFAULT_HEADROOM, Fractions, Never, Rules, Strings};

/// Share of values that must allow a narrower type before the others are called blockers.
const BLOCKED_SHARE: f64 = 0.9;

/// Whether so many values are few enough to be blockers.
fn is_blocked(count: u64, facts: &Facts) -> bool {
    count as f64 <= facts.plain_count() as f64 * (1.0 - BLOCKED_SHARE) + 1e-9
}

/// Values that rule out a narrower type.
#[derive(Debug, Clone, PartialEq)]
pub struct Blocker {
    /// The type that the other values allow.
    pub ty: Scalar,
    /// How many values are in the way.
    pub count: u64,
    /// The first of them.
    pub examples: Vec<Example>,
}

/// A question that the data cannot answer.
#[derive(Debug, Clone, PartialEq)]
pub struct Question {
    /// What is asked.
    pub about: About,
    /// The ways that read every value.
    pub choices: Vec<Choice>,
}

/// What a question is about.
#[derive(Debug, Clone, PartialEq)]
pub enum About {
    /// In which order year, month and day stand.
    Dates,
    /// Which mark stands before a fraction.
    Marks,
    /// Which side of an account is negative.
    Sides,
    /// Whether two texts are one number, as `2.1` and `2.10` are, or two versions.
    SameNumber([Example; 2]),
}

/// One way to read all values of a column, where there are several.
#[derive(Debug, Clone, PartialEq)]
pub enum Choice {
    /// As dates in an order, by these patterns, with names of this language where it is not English.
    Dates(DateOrder, Vec<String>, Option<String>),
    /// As numbers written like this, of this type.
    Numbers(NumberStyle, Scalar),
    /// As numbers, of this type.
    Number(Scalar),
    /// As texts.
    Text,
}

impl Choice {
    /// The key and value of a schema that choose this.
    pub fn line(&self) -> String {
        match self {
            Choice::Dates(_, patterns, locale) => {
                let locale = locale.iter().map(|locale| format!(", locale = \"{locale}\""));
                let patterns = format!("patterns = [\"{}\"]", patterns.join("\", \""));
                patterns + &locale.collect::<String>()
            }
            Choice::Numbers(style, ty) => {
                let mut parts = vec![format!("type = \"{ty}\"")];
                parts.extend(crate::schema::style_parts(style));
                if style.mark == Mark::Point && style.negative.is_none() {
                    parts.insert(1, "decimal_mark = \".\"".into());
                }
                parts.join(", ")
            }
            Choice::Number(ty) => format!("type = \"{ty}\""),
            Choice::Text => "type = \"text\"".into(),
        }
    }
}

/// What was decided about a column, and why.
#[derive(Debug, Clone)]
pub struct Decision {
    /// The type.
    pub ty: Scalar,
    /// Whether no value is absent.
    pub required: bool,
    /// Values that are absent: blank ones, and the tokens where they count as such.
    pub absent: u64,
    /// The tokens that count as absent here, with how often they stand there; the empty text for
    /// blank fields.
    pub absent_tokens: Vec<(String, u64)>,
    /// Distinct values that are not absent.
    pub distinct: DistinctCount,
    /// Smallest and largest value.
    pub range: Option<(Extreme, Extreme)>,
    /// Most characters of a value.
    pub max_chars: u64,
    /// Patterns that together read every value, with how many each reads.
    pub patterns: Vec<(String, u64)>,
    /// The language of names in the patterns, where it is not English.
    pub locale: Option<String>,
    /// How its numbers are written.
    pub style: NumberStyle,
    /// What is to happen to values that do not fit; not to stop where some were tolerated.
    pub misfit: Misfit,
    /// The values of a category.
    pub values: Vec<String>,
    /// Why this type; the first clause says the most.
    pub evidence: Vec<Clause>,
    /// What rules out narrower types.
    pub blockers: Vec<Blocker>,
    /// Things to know that decide nothing.
    pub notes: Vec<Clause>,
    /// What only a person can say.
    pub question: Option<Question>,
}

impl Decision {
    fn new(ty: Scalar) -> Decision {
        Decision {
            ty,
            required: false,
            absent: 0,
            absent_tokens: Vec::new(),
            distinct: DistinctCount { count: 0, is_exact: true },
            range: None,
            max_chars: 0,
            patterns: Vec::new(),
            locale: None,
            style: NumberStyle::default(),
            misfit: Misfit::Stop,
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
        let text = |value: &Extreme| match self.ty {
            Scalar::Int(_) => value.shown(),
            _ => value.to_string(),
        };
        Some((text(low), text(high)))
    }

    /// The range as a clause, for types whose range says something: "1 to 20,000".
    pub fn range_clause(&self) -> Option<String> {
        let (low, high) =
            self.shown_range().filter(|_| !self.ty.is_text() && self.ty != Scalar::Bool)?;
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
        let evidence = self.evidence.iter().map(Clause::to_string);
        let notes = self.notes.iter().map(Clause::to_string);
        let all = self.range_clause().into_iter().chain(evidence);
        all.chain(self.absent_clause()).chain(notes).collect()
    }
}

fn one(
    column: &ColumnFacts,
    facts: &Facts,
    records: u64,
    rules: &Rules,
    context: &dates::Context,
) -> Decision {
    let mut decision = readings::decide(column, facts, rules, context)
        .unwrap_or_else(|| text::decide(column, facts, records, rules, context));
    absent(&mut decision, column, facts, records);
    decision.required = decision.absent == 0 && records > 0;
    decision.max_chars = facts.text.max_chars;
    let present = records - decision.absent.min(records);
    match decision.distinct {
        DistinctCount { count: 1, .. } if present > 1 => {
            decision.evidence.push(Clause::AlwaysTheSame)
        }
        DistinctCount { count, is_exact: true } if count == present && present > 1 => {
            decision.evidence.push(Clause::AllDistinct)
        }
        _ => {}
    }
    decision.notes.extend(mixed_kinds(column, context));
    if facts.text.padded > 0 {
        decision.notes.push(Clause::Padded(facts.text.padded));
    }
    decision
}

/// The kinds of values at the path of a column, where they have not one type in common.
fn mixed_kinds(column: &ColumnFacts, context: &dates::Context) -> Option<Clause> {
    let kinds = column.kinds()?;
    let found: Vec<_> = PathKind::ALL
        .into_iter()
        .filter(|kind| *kind != PathKind::Null)
        .filter_map(|kind| {
            let (count, first) = kinds.of(kind);
            Some((kind, count, context.line(first?)))
        })
        .collect();
    // A number may stand in a text, and an array beside an object.
    let is_nested = |kind: PathKind| matches!(kind, PathKind::Array | PathKind::Object);
    let nested = found.iter().filter(|(kind, ..)| is_nested(*kind)).count();
    (nested > 0 && nested < found.len()).then_some(Clause::MixedKinds(found))
}

/// Counts what is absent: blank fields, what was said to mean "no value", and well-known tokens where
/// the type is not text.
fn absent(decision: &mut Decision, column: &ColumnFacts, facts: &Facts, records: u64) {
    let mut kinds = 0;
    let mut note = |token: &str, count: u64, decision: &mut Decision| {
        decision.absent += count;
        decision.absent_tokens.push((token.to_owned(), count));
        kinds += u64::from(!token.is_empty());
    };
    if facts.blank > 0 {
        note("", facts.blank, decision);
    }
    for (text, count) in facts.said.iter().filter(|(_, count)| *count > 0) {
        note(text, *count, decision);
    }
    for (token, count) in TOKENS.iter().zip(facts.tokens).filter(|(_, count)| *count > 0) {
        if decision.ty.is_text() {
            decision.notes.push(Clause::TokenIsValue { token, count });
        } else {
            note(token, count, decision);
        }
    }
    let DistinctCount { count, is_exact } = column.distinct();
    // No estimate says that there are more values than there are.
    let present = records - decision.absent.min(records);
    let count = if facts.text.padded > 0 && column.has_values() && !decision.ty.is_text() {
        // A value is the same one with white space around it and without.
        let values = column.distinct_values();
        let trimmed: HashSet<_> = values.iter().map(|found| trim(found.value)).collect();
        let is_absent = |value: &&&[u8]| {
            token(value).is_some() || facts.said.iter().any(|(text, _)| text.as_bytes() == **value)
        };
        trimmed.iter().filter(|value| !is_absent(value)).count() as u64
    } else {
        count.saturating_sub(kinds)
    };
    decision.distinct = DistinctCount { count: count.min(present), is_exact };
}

/// A count of distinct values for a person: estimates are marked, with their error.
pub fn distinct_clause(distinct: DistinctCount) -> String {
    match distinct {
        DistinctCount { count, is_exact: true } => grouped(count),
        DistinctCount { count, is_exact: false } => {
            // As many digits as an estimate has.
            let step = 10u64.pow(count.max(1).ilog10().saturating_sub(2));
            format!("~{}", grouped((count + step / 2) / step * step))
        }
    }
}

/// How far off an estimate may be, in percent: two standard errors.
pub fn estimate_error_percent() -> f64 {
    (2.0 * ESTIMATE_ERROR * 1000.0).round() / 10.0
}

/// A line for a person, and its file where there are several: "line 59 of 2024-01.csv".
pub fn line_of(place: LineRef, files: &[String]) -> String {
    Line::of(place, files).to_string()
}

#[cfg(test)]
mod oracle;
#[cfg(test)]
mod tests;
