//! What a declaration no longer holds: values of a category that are not listed, and extremes beyond its type
//! or its bounds.

use super::{Decision, Extreme, counted, grouped, shown};
use crate::columns::PlainValues;
use crate::readings::{NumberStyle, token, trim};
use crate::schema::{ColumnDecl, ReadValues, Scalar, iso_8601};
use crate::survey::ColumnFacts;

/// Values that are named.
const SHOWN: usize = 5;

/// Says what of the data a declaration does not hold, as far as a survey of the column tells; `None` where
/// nothing is known that it does not.
pub fn outgrown(
    declared: &ColumnDecl,
    column: &ColumnFacts,
    decision: &Decision,
) -> Option<String> {
    match declared.scalar() {
        _ if declared.auto => None,
        Scalar::Category => unlisted(declared, column),
        Scalar::Text { most: Some(most) } if decision.max_chars > u64::from(most) => {
            let longest = counted(decision.max_chars, "character");
            Some(format!("the longest value has {longest}"))
        }
        ty if ty.is_number() || ty.takes_patterns() => beyond(declared, decision),
        _ => None,
    }
}

/// Values that a category does not list.
fn unlisted(declared: &ColumnDecl, column: &ColumnFacts) -> Option<String> {
    if !column.has_values() {
        let count = grouped(column.distinct().count);
        return Some(format!(
            "there are about {count} values, and {} are listed",
            declared.values.len()
        ));
    }
    let is_absent = |value: &[u8]| {
        let text = trim(value);
        let said = declared.absent.iter().flatten().any(|absent| absent.as_bytes() == text);
        text.is_empty() || said || declared.absent.is_none() && token(text).is_some()
    };
    let is_listed = |value: &[u8]| {
        let listed = |text: &[u8]| declared.values.iter().any(|known| known.as_bytes() == text);
        listed(value) || listed(trim(value))
    };
    let values = column.distinct_values();
    let new: Vec<_> =
        values.iter().filter(|found| !is_listed(found.value) && !is_absent(found.value)).collect();
    if new.is_empty() {
        return None;
    }
    let records: u64 = new.iter().map(|found| found.count).sum();
    let mut named: Vec<String> =
        new.iter().take(SHOWN).map(|found| shown(&crate::lossless(found.value))).collect();
    if new.len() > SHOWN {
        named.push(format!("and {} more", grouped((new.len() - SHOWN) as u64)));
    }
    Some(format!(
        "{} in {} not listed: {}",
        counted(new.len() as u64, "value"),
        counted(records, "record") + if new.len() == 1 { " is" } else { " are" },
        named.join(", ")
    ))
}

/// Extremes that the type or the bounds do not hold.
fn beyond(declared: &ColumnDecl, decision: &Decision) -> Option<String> {
    let is_alike = decision.ty.is_number() == declared.scalar().is_number()
        && decision.ty.takes_patterns() == declared.scalar().takes_patterns();
    let (low, high) = decision.range.as_ref().filter(|_| is_alike)?;
    // The range is told as people read it, whatever the input has.
    let mut plain = declared.clone();
    plain.style = NumberStyle::default();
    if declared.scalar().takes_patterns() {
        plain.patterns = iso_8601(declared.scalar(), false);
    }
    let refused = |value: &Extreme| {
        let value = value.to_string();
        PlainValues.is_value(&plain, &value).err().map(|why| format!("{} {why}", shown(&value)))
    };
    refused(low).or_else(|| refused(high))
}
