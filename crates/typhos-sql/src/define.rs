//! A schema as the statements that make a table.

use typhos_core::columns::plain_text;
use typhos_core::schema::{ColumnDecl, Schema};

use super::definitions::{Definitions, NamedType, TableOrder};

/// The statements that make a table.
#[derive(Debug, Clone, Default)]
pub struct Definition {
    /// Types to be made, one for each column that needs one.
    pub types: Vec<NamedType>,
    /// The statement that makes the table.
    pub table: String,
    /// Statements that comment on columns.
    pub comments: Vec<String>,
}

impl Definition {
    /// All statements in the order they are to be executed.
    pub fn statements(&self) -> impl Iterator<Item = &String> {
        let types = self.types.iter().map(|named| &named.statement);
        types.chain([&self.table]).chain(&self.comments)
    }
}

/// How a table is named: in quotes, and perhaps inside a schema of the database.
pub fn qualified(language: &dyn Definitions, schema: Option<&str>, table: &str) -> String {
    let table = language.identifier(table);
    match schema {
        Some(schema) => format!("{}.{table}", language.identifier(schema)),
        None => table,
    }
}

/// Defines a table `name`, which is said as [`qualified`] says it, for the columns of a schema.
/// `table` is the plain name that types are named after.
pub fn define(language: &dyn Definitions, schema: &Schema, name: &str, table: &str) -> Definition {
    let mut definition = Definition::default();
    let mut lines = Vec::new();
    for column in &schema.columns {
        let stored = language.stored(table, column);
        let quoted = language.identifier(&column.name);
        let is_nullable = !column.required && !schema.layout.key.contains(&column.name);
        let mut line = format!("  {quoted} {}", language.nullable(&stored.ty, is_nullable));
        if let Some(default) = default_literal(language, column) {
            line.push_str(&format!(" DEFAULT {default}"));
        }
        // Before the check: MariaDB takes it nowhere else.
        let comment = column.comment.as_deref();
        line.extend(comment.and_then(|comment| language.column_comment(comment)));
        if let Some(check) = &stored.check {
            if let Some(name) = language.check_name(table, &column.name) {
                line.push_str(&format!(" CONSTRAINT {name}"));
            }
            line.push_str(&format!(" CHECK ({check})"));
        }
        lines.push(line);
        definition.types.extend(stored.named_type);
        let statement = |comment| language.comment_statement(name, &quoted, comment);
        definition.comments.extend(comment.and_then(statement));
    }
    let order = TableOrder::of(schema, language);
    if !order.key.is_empty() {
        lines.extend(language.key(&order.key).map(|key| format!("  {key}")));
    }
    definition.table =
        format!("CREATE TABLE {name} (\n{}\n){}", lines.join(",\n"), language.tail(&order));
    definition
}

fn default_literal(language: &dyn Definitions, column: &ColumnDecl) -> Option<String> {
    let text = plain_text(column, column.default.as_deref()?)?;
    let is_bare = column.scalar().is_number();
    Some(if is_bare { text } else { language.literal(&text) })
}

/// What is stored otherwise than declared, a sentence for each such column.
pub fn notes(language: &dyn Definitions, schema: &Schema, table: &str) -> Vec<String> {
    let note = |column: &ColumnDecl| {
        let note = language.stored(table, column).note?;
        Some(format!("'{}' is stored {note}", column.name))
    };
    let order = |column: &ColumnDecl| {
        // An enumeration compares its values by their places in the list.
        let stored = language.stored(table, column);
        let is_listed =
            stored.named_type.is_some() || stored.ty.to_ascii_lowercase().starts_with("enum");
        let name = &column.name;
        (column.ranked && !is_listed).then(|| {
            format!("the order of the values of '{name}' is kept in the schema file alone")
        })
    };
    let keyed = schema.columns.iter().filter(|column| schema.layout.key.contains(&column.name));
    let of_key = keyed.filter_map(|column| {
        let note = language.indexed(column).note?;
        Some(format!("the key compares {note} of '{}'", column.name))
    });
    let of_order = schema.columns.iter().filter_map(order);
    schema.columns.iter().filter_map(note).chain(of_order).chain(of_key).collect()
}
