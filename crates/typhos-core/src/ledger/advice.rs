//! What would save more: for each column the narrower types that the data allows, with the line to change
//! and what it risks.

use super::ColumnBytes;
use super::measure::{bits, code_bytes, text_bytes};
use crate::columns::PlainValues;
use crate::infer::{Decision, Examined, counted, declare, grouped, shown};
use crate::schema::{
    ColumnDecl, ColumnFrom, ColumnSource, ReadValues, Rounding, Scalar, Schema, column_line,
};

/// A change to one column that saves memory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Advice {
    /// The declared column.
    pub column: String,
    /// The column of the input that it is made of.
    pub source: String,
    /// What it is, and what it could be: types, or that it is left out.
    pub change: (String, String),
    /// Bytes that it saves in memory.
    pub saves: u64,
    /// The line of the schema as it would be; a comment where the column is left out.
    pub line: String,
    /// What speaks against it.
    pub risk: String,
}

/// What would make columns smaller, the largest saving first.
///
/// `sources` says of which column of the survey each declared column is made, and `weights` what the declared columns take of `rows` rows. No rows are no reason for
/// anything.
pub fn advise(
    schema: &Schema,
    sources: &[ColumnSource],
    examined: &Examined,
    weights: &[ColumnBytes],
    rows: u64,
) -> Vec<Advice> {
    let mut all = Vec::new();
    if rows == 0 {
        return all;
    }
    for ((column, source), weight) in schema.columns.iter().zip(sources).zip(weights) {
        // What is made of several columns, or of none, was not looked at.
        let Some(source) = source.column() else { continue };
        let decision = &examined.decisions[source];
        let known = Known { column, decision, examined, source, rows };
        all.extend(known.advise(*weight));
    }
    all.sort_by(|a, b| b.saves.cmp(&a.saves).then_with(|| a.column.cmp(&b.column)));
    all
}

/// All there is to know of a column.
struct Known<'k> {
    column: &'k ColumnDecl,
    decision: &'k Decision,
    examined: &'k Examined,
    source: usize,
    rows: u64,
}

impl Known<'_> {
    fn advise(&self, weight: ColumnBytes) -> Option<Advice> {
        let (column, decision) = (self.column, self.decision);
        let records = self.examined.survey.records;
        if column.ty.is_nested() {
            // What is in it was not looked at.
            return None;
        }
        let present = records - decision.absent.min(records);
        if present == 0
            || decision.distinct.is_exact && decision.distinct.count == 1 && decision.absent == 0
        {
            let risk = match (present, &decision.range) {
                (0, _) => "it has no value at all".to_owned(),
                (_, Some((value, _))) => format!("every value is {}", shown(&value.to_string())),
                _ => "every value is the same".to_owned(),
            };
            return Some(Advice {
                column: column.name.clone(),
                source: self.source_name().to_owned(),
                change: (column.ty.to_string(), "left out".into()),
                saves: weight.total(),
                line: format!("# {}", column_line(column, "")),
                risk,
            });
        }
        let narrower = self.narrower().or_else(|| self.float32())?;
        let (changed, risk) = narrower;
        let saves = weight.values.checked_sub(self.values(&changed)?).filter(|saves| *saves > 0)?;
        Some(Advice {
            column: column.name.clone(),
            source: self.source_name().to_owned(),
            change: (column.ty.to_string(), changed.ty.to_string()),
            saves,
            line: column_line(&changed, ""),
            risk,
        })
    }

    /// The column as the data would have it drafted, where that is another type.
    fn narrower(&self) -> Option<(ColumnDecl, String)> {
        let (column, decision) = (self.column, self.decision);
        if decision.ty == column.scalar() || decision.question.is_some() {
            return None;
        }
        let drafted = declare(column.name.clone(), decision, &self.examined.survey.absent);
        let scalar = drafted.scalar();
        let mut changed = ColumnDecl {
            ty: drafted.ty,
            patterns: drafted.patterns,
            locale: drafted.locale,
            style: drafted.style,
            values: drafted.values,
            ranked: false,
            clip: false,
            rounding: Rounding::Exact,
            ..column.clone()
        };
        if changed.absent.is_none() {
            changed.absent = drafted.absent;
        }
        // Bounds that the type could not have stand for values that may still come.
        let holds = |bound: &Option<String>| {
            bound.as_ref().is_none_or(|bound| PlainValues.is_bound(changed.scalar(), bound).is_ok())
        };
        if !holds(&column.low) || !holds(&column.high) {
            return None;
        }
        Some((changed, self.risk(scalar)))
    }

    /// A float64 that float32 would change.
    fn float32(&self) -> Option<(ColumnDecl, String)> {
        let is_both = |ty| self.column.scalar() == ty && self.decision.ty == ty;
        if !is_both(Scalar::Float64) {
            return None;
        }
        let facts = self.examined.facts(self.source);
        let losses = facts.numbers.float32_losses.count.max(1);
        let changed = ColumnDecl {
            ty: Scalar::Float32.into(),
            rounding: Rounding::HalfEven,
            ..self.column.clone()
        };
        Some((changed, format!("at least {} would change", counted(losses, "value"))))
    }

    fn source_name(&self) -> &str {
        match &self.column.from {
            Some(ColumnFrom::Name(name)) => name,
            _ => &self.column.name,
        }
    }

    fn risk(&self, ty: Scalar) -> String {
        let decision = self.decision;
        let range = decision.shown_range();
        let is_negative = decision.range.as_ref().is_some_and(|(low, _)| low.is_negative());
        match ty {
            Scalar::Category => {
                format!(
                    "a value that is not among the {} is a misfit",
                    grouped(decision.distinct.count)
                )
            }
            Scalar::Lowcard => format!(
                "{} seen; with many more it would pay less",
                counted(decision.distinct.count, "value")
            ),
            _ if ty.is_number() => match range {
                Some((low, high)) if is_negative => {
                    format!("values seen from {low} to {high}")
                }
                Some((_, high)) => format!("largest value seen {high}"),
                None => "no value seen".into(),
            },
            _ if ty.takes_patterns() => {
                let patterns: Vec<&str> =
                    decision.patterns.iter().map(|(pattern, _)| pattern.as_str()).collect();
                format!("a value not written as {} is a misfit", patterns.join(" or "))
            }
            Scalar::Text { most: Some(most) } => {
                format!("texts of more than {most} characters are misfits")
            }
            Scalar::Text { most: None } => "none".into(),
            _ => format!("a value that is not a valid {ty} is a misfit"),
        }
    }

    /// Bytes of the values of a column as it is declared; `None` where that takes counting again.
    fn values(&self, column: &ColumnDecl) -> Option<u64> {
        let facts = &self.examined.survey.columns[self.source];
        Some(match column.scalar() {
            Scalar::Lowcard | Scalar::Category => {
                let bytes = facts.distinct_bytes()?;
                let count = self.decision.distinct.count;
                code_bytes(count) * self.rows + text_bytes(count, bytes)
            }
            Scalar::Text { .. } | Scalar::Ip | Scalar::Json => {
                text_bytes(self.rows, self.examined.facts(self.source).text.bytes)
            }
            ty => (bits(&ty.arrow(0)) * self.rows).div_ceil(8),
        })
    }
}
