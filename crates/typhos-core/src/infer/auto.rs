//! Columns whose type is left to the data: decided under everything else that is declared of them.

use super::{Decision, Rules, decide, declare};
use crate::dates::Pattern;
use crate::readings::NumberStyle;
use crate::schema::{ColumnDecl, ColumnSource, Diagnostic, Scalar, Schema, TimeUnit};
use crate::survey::{Absent, Survey, SurveyOptions};

/// What a survey has to know to decide about the columns of a schema whose types are left open.
/// `sources` says which column of the input each of them is, of `columns` there.
pub fn survey_for(schema: &Schema, sources: &[ColumnSource], columns: usize) -> SurveyOptions {
    let mut lists = vec![None; columns];
    for (column, source) in schema.columns.iter().zip(sources) {
        let texts = column.absent.as_ref().or(schema.input.absent.as_ref());
        if let (Some(texts), Some(source)) = (texts, source.column()) {
            lists[source] = Some(texts.clone());
        }
    }
    SurveyOptions { absent: Absent::ByColumn(lists), ..SurveyOptions::default() }
}

/// Decides about the columns whose types are left open, and says for each what was decided.
///
/// # Errors
/// Every column whose type the data does not tell, or tells otherwise than it is declared.
pub fn settle(
    schema: &mut Schema,
    sources: &[ColumnSource],
    survey: &Survey,
    rules: &Rules,
) -> Result<Vec<(String, Decision)>, Vec<Diagnostic>> {
    let (mut told, mut wrong) = (Vec::new(), Vec::new());
    let usual = decide(survey, rules);
    for (column, source) in schema.columns.iter_mut().zip(sources).filter(|(c, _)| c.auto) {
        let Some(source) = source.column() else { continue };
        let mark = column.auto_mark.or((!column.style.is_plain()).then_some(column.style.mark));
        let decision = if mark.is_none() && column.style.negative.is_none() {
            usual[source].clone()
        } else {
            // What is declared is a rule for this column alone.
            let negative = column.style.negative.or(rules.negative);
            let rules = Rules { decimal_mark: mark, negative, ..rules.clone() };
            decide(survey, &rules)[source].clone()
        };
        match settled(column, &decision, rules) {
            Ok(settled) => {
                told.push((column.name.clone(), Decision { ty: settled.scalar(), ..decision }));
                *column = settled;
            }
            Err((message, help)) => {
                let span = column.spans.name.clone();
                wrong.push(Diagnostic::new(span, message).help(help));
            }
        }
    }
    if wrong.is_empty() { Ok(told) } else { Err(wrong) }
}

fn settled(
    declared: &ColumnDecl,
    decision: &Decision,
    rules: &Rules,
) -> Result<ColumnDecl, (String, String)> {
    let mut column = declared.clone();
    column.auto = false;
    if !declared.values.is_empty() {
        column.ty = Scalar::Category.into();
        return Ok(column);
    }
    if let Some(first) = declared.patterns.first() {
        column.ty = type_of_patterns(first, declared).into();
        return Ok(column);
    }
    let name = &declared.name;
    let why = || decision.evidence.first().map(ToString::to_string).unwrap_or_default();
    if decision.question.is_some() {
        let message = format!("the data does not tell what '{name}' is: {}", why());
        return Err((message, "declare one of these in place of type = \"auto\"".into()));
    }
    let says_number =
        !declared.style.is_plain() || declared.low.is_some() || declared.high.is_some();
    if says_number && !decision.ty.is_number() {
        let message =
            format!("'{name}' is declared as numbers, and its values are {}", decision.ty);
        return Err((message, format!("in the data: {}", why())));
    }
    let declared_mark = declared
        .auto_mark
        .or((!declared.style.is_plain()).then_some(declared.style.mark))
        .filter(|_| decision.ty.is_number() && !matches!(decision.ty, Scalar::Int(_)));
    if let Some(mark) = declared_mark.filter(|mark| *mark != decision.style.mark) {
        let message = format!(
            "'{name}' is declared with the decimal mark '{}', and its values have '{}'",
            mark.letter(),
            decision.style.mark.letter()
        );
        return Err((message, format!("in the data: {}", why())));
    }
    let drafted = declare(name.clone(), decision, &[]);
    column.ty = (match (decision.ty, bounds(declared, decision, rules)) {
        // Who says what is possible needs no headroom.
        (Scalar::Int(seen), Some((low, high))) => {
            rules.narrowest(low, high).map_or(Scalar::Int(seen), Scalar::Int)
        }
        (ty, _) => ty,
    })
    .into();
    column.patterns = drafted.patterns;
    if declared.locale.is_none() {
        column.locale = drafted.locale;
    }
    column.values = drafted.values;
    // What is said of how numbers are written holds, and the rest is found.
    let (said, found) = (&declared.style, drafted.style);
    column.style = NumberStyle {
        mark: declared_mark.unwrap_or(if said.is_plain() { found.mark } else { said.mark }),
        grouping: said.grouping.or(found.grouping),
        strip: if said.strip.is_empty() { found.strip } else { said.strip.clone() },
        accounting: said.accounting || found.accounting,
        negative: said.negative.or(found.negative),
    };
    if declared.absent.is_none() {
        column.absent = drafted.absent;
    }
    Ok(column)
}

/// The integers that are possible, where a bound is declared: from one bound to the other, or as far
/// beyond the extreme seen as the headroom goes.
fn bounds(declared: &ColumnDecl, decision: &Decision, rules: &Rules) -> Option<(i128, i128)> {
    let number = |text: &Option<String>| text.as_deref().and_then(|text| text.parse::<i128>().ok());
    let (low, high) = (number(&declared.low), number(&declared.high));
    if low.is_none() && high.is_none() {
        return None;
    }
    let (least, most) = decision.range.as_ref()?;
    let (least, most) = (least.integer()?, most.integer()?);
    let low = low.unwrap_or(if least < 0 { rules.stretch(least) } else { 0 });
    let high = high.unwrap_or(rules.stretch(most));
    (low <= high).then_some((low, high))
}

/// The type whose values the patterns read.
fn type_of_patterns(first: &Pattern, declared: &ColumnDecl) -> Scalar {
    let digits = declared.patterns.iter().map(Pattern::fraction_digits).max().unwrap_or(0);
    let unit = TimeUnit::for_digits(digits);
    match (first.has_date(), first.has_time()) {
        (true, true) => {
            let utc = first.has_offset() || declared.dates.zone.is_some();
            Scalar::Timestamp { unit, utc }
        }
        (false, true) => Scalar::Time(unit),
        _ => Scalar::Date,
    }
}
