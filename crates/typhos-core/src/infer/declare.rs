//! A decision → the declaration of its column.

use super::Decision;
use crate::dates::{DEFAULT_LOCALE, Pattern};
use crate::schema::ColumnDecl;

/// The declaration of a column as it was decided. `everywhere` are the texts that mean "no value" in all
/// columns.
pub(crate) fn declare(name: String, decision: &Decision, everywhere: &[String]) -> ColumnDecl {
    let mut column = ColumnDecl::new(name, decision.ty);
    let locale = decision.locale.as_deref().unwrap_or(DEFAULT_LOCALE);
    let compiled =
        decision.patterns.iter().map(|(pattern, _)| Pattern::compile_in(pattern, locale));
    column.patterns =
        compiled.map(|pattern| pattern.expect("patterns found are patterns read")).collect();
    column.locale = decision.locale.clone();
    column.style = decision.style.clone();
    column.required = decision.required;
    column.misfit = decision.misfit;
    column.values = decision.values.clone();
    let tokens = decision.absent_tokens.iter().map(|(token, _)| token);
    let own: Vec<String> =
        tokens.filter(|token| !token.is_empty() && !everywhere.contains(token)).cloned().collect();
    if !own.is_empty() {
        // A list of its own replaces that of the input.
        let all: Vec<String> = everywhere.iter().cloned().chain(own).collect();
        column.absent = Some(with_blank(&all));
    }
    column
}

/// Texts that mean "no value", the empty one before all others.
pub(super) fn with_blank(texts: &[String]) -> Vec<String> {
    let others = texts.iter().filter(|text| !text.is_empty()).cloned();
    std::iter::once(String::new()).chain(others).collect()
}
