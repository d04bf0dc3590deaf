//! A definition as a script for people and pipes.

use thiserror::Error;
use typhos_core::schema::{ColumnDecl, Schema};

use super::define::{define, notes};
use super::definitions::Definitions;
use super::quoting::one_line;

/// A text of a schema that a language has no escape for.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error(
    "{language} has no way to write the control character U+{:04X} in {}; name it otherwise, for example with from = \"…\"",
    u32::from(*letter), text.escape_debug()
)]
pub struct Unwritable {
    language: &'static str,
    letter: char,
    text: String,
}

/// A definition as a script: every statement with its end, notes and comments as comments. No control character is in
/// it but tabs and line ends: scripts go through pipes and terminals on their way.
///
/// # Errors
/// A name or a text that would need one, and none of which the language has an escape for.
pub fn script(
    language: &dyn Definitions,
    schema: &Schema,
    table: &str,
) -> Result<String, Unwritable> {
    let text = written(language, schema, table);
    let unsafe_letter = |text: &str| {
        text.chars().find(|letter| letter.is_control() && !matches!(letter, '\t' | '\n'))
    };
    // No database has a NUL in a name or a text, however it is written.
    let texts = || {
        let of_column = |column: &ColumnDecl| {
            let mut texts = vec![column.name.clone()];
            texts.extend(column.comment.clone());
            texts.extend(column.default.clone());
            texts.extend(column.values.iter().cloned());
            texts
        };
        std::iter::once(table.to_owned()).chain(schema.columns.iter().flat_map(of_column))
    };
    let nul = texts().find(|text| text.contains('\0')).map(|text| ('\0', text));
    let left = || {
        let letter = unsafe_letter(&text)?;
        Some((letter, texts().find(|text| text.contains(letter)).unwrap_or_default()))
    };
    match nul.or_else(left) {
        Some((letter, text)) => Err(Unwritable { language: language.name(), letter, text }),
        None => Ok(text),
    }
}

fn written(language: &dyn Definitions, schema: &Schema, table: &str) -> String {
    let name = language.identifier(table);
    let definition = define(language, schema, &name, table);
    let mut text = format!("-- Table {} for {}.\n", one_line(table), language.name());
    for note in notes(language, schema, table) {
        text.push_str(&format!("-- Note: {}.\n", one_line(&note)));
    }
    let inline = language.column_comment("x").is_some();
    let stated = language.comment_statement("t", "c", "x").is_some();
    if !inline && !stated {
        for column in &schema.columns {
            if let Some(comment) = &column.comment {
                text.push_str(&format!("-- {}: {}\n", one_line(&column.name), one_line(comment)));
            }
        }
    }
    text.push('\n');
    if let Some(statement) = language.opening() {
        text.push_str(&format!("{statement};\n"));
    }
    for statement in definition.statements() {
        text.push_str(&format!("{statement};\n"));
    }
    let sort = &schema.layout.sort;
    if !sort.is_empty() && !language.keeps_order() {
        let columns: Vec<_> = sort
            .iter()
            .map(|key| {
                let desc = if key.descending { " DESC" } else { "" };
                let column = schema.columns.iter().find(|column| column.name == key.column);
                let column = column.expect("sort keys name columns");
                format!("{}{desc}", language.indexed(column).name)
            })
            .collect();
        let columns = columns.join(", ");
        text.push_str(&format!(
            "-- Rows are loaded in the order of {}, which this database does not keep. An index serves it:\n",
            one_line(&columns)
        ));
        let index = language.identifier(&format!("{table}_sorted"));
        text.push_str(&format!("CREATE INDEX {index} ON {name} ({columns});\n"));
    }
    text
}
