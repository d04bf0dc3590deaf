//! Schema languages: what a declaration becomes in the language of each database.
//!
//! A [`Language`] knows how names and texts are quoted, which type holds a declared column, and how a
//! table is defined; [`define`] puts a definition together. [`held`] reads the other way: what a column
//! that exists can hold. Nothing here talks to a server.

#![warn(missing_docs)]

mod asked;
mod clickhouse;
pub mod held;
mod mariadb;
mod postgres;
mod sqlite;
mod standard;
#[cfg(test)]
mod tests;

use thiserror::Error;
use typhos_core::columns::plain_text;
use typhos_core::schema::{ColumnDecl, IntType, Schema, SortKey, TimeUnit, Type};

use held::ExistingColumn;

pub use asked::{Asked, Of, PART};
pub use clickhouse::ClickHouse;
pub use mariadb::Mariadb;
pub use postgres::Postgres;
pub use sqlite::REAL_DIGITS;
pub use sqlite::Sqlite;
pub use standard::Standard;

/// How a declared column is stored.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Stored {
    /// The type, as the language spells it.
    pub ty: String,
    /// What every value has to meet, as an expression; the type alone would let more in.
    pub check: Option<String>,
    /// What is stored otherwise than declared.
    pub note: Option<String>,
    /// The type, where it is one of its own and has to be made first.
    pub named_type: Option<NamedType>,
}

/// A type of a column's own: a name for a list of values.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedType {
    /// Its name, plainly.
    pub name: String,
    /// Its values, in their order.
    pub values: Vec<String>,
    /// The statement that makes it.
    pub statement: String,
}

impl Stored {
    fn new(ty: impl Into<String>) -> Stored {
        Stored { ty: ty.into(), ..Stored::default() }
    }

    fn check(mut self, check: impl Into<String>) -> Stored {
        self.check = Some(check.into());
        self
    }

    fn note(mut self, note: impl Into<String>) -> Stored {
        self.note = Some(note.into());
        self
    }
}

/// A column as part of a key or an index.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Indexed {
    /// Its name in quotes, with what the language wants behind it.
    pub name: String,
    /// What is compared otherwise than by the whole value.
    pub note: Option<String>,
}

/// The SQL of a database.
pub trait Language: Send + Sync {
    /// What the database is called.
    fn name(&self) -> &'static str;

    /// A name in quotes, so that no name can be anything else.
    fn identifier(&self, name: &str) -> String;

    /// A text as a literal, so that no text can be anything else.
    fn literal(&self, text: &str) -> String;

    /// The most that a name may have: characters or, where `bytes` says so, bytes.
    fn longest_name(&self) -> Option<(usize, bool)>;

    /// Whether names that differ in letter case only are the same.
    fn ignores_case(&self) -> bool {
        false
    }

    /// How a column of the table is stored.
    fn stored(&self, table: &str, column: &ColumnDecl) -> Stored;

    /// What the check of a column is called, where it is not to be named after a table beside.
    fn check_name(&self, _table: &str, _column: &str) -> Option<String> {
        None
    }

    /// The type of a column in a definition: with what the language says of nulls.
    fn nullable(&self, ty: &str, is_nullable: bool) -> String {
        format!("{ty}{}", if is_nullable { "" } else { " NOT NULL" })
    }

    /// What stands behind a column for its comment, where the language has such a place.
    fn column_comment(&self, _comment: &str) -> Option<String> {
        None
    }

    /// A statement that comments on a column, where the language has one.
    fn comment_statement(&self, _table: &str, _column: &str, _comment: &str) -> Option<String> {
        None
    }

    /// A column as part of a key or an index.
    fn indexed(&self, column: &ColumnDecl) -> Indexed {
        Indexed { name: self.identifier(&column.name), note: None }
    }

    /// The key, as a line of a definition.
    fn key(&self, columns: &[String]) -> Option<String> {
        Some(format!("PRIMARY KEY ({})", columns.join(", ")))
    }

    /// What stands behind the columns of a definition.
    fn tail(&self, _order: &Order) -> String {
        String::new()
    }

    /// Whether rows stay in the order of [`tail`](Self::tail).
    fn keeps_order(&self) -> bool {
        false
    }

    /// A value of a declared type as one of the type of an existing column. What does not fit is never cut:
    /// the insertion fails instead.
    fn cast(&self, value: &str, _ty: Type, _there: &ExistingColumn) -> String {
        value.to_owned()
    }

    /// What becomes of a value on its way into an existing column, where that is worth knowing.
    fn remark(&self, _ty: Type, _there: &ExistingColumn) -> Option<String> {
        None
    }

    /// Whether a float of 32 bits waits as one of 64 bits in a table beside, since there its text is lost otherwise.
    fn widens_floats(&self) -> bool {
        false
    }

    /// A value to be compared with those of an existing column.
    fn comparable(&self, value: &str, ty: Type, there: &ExistingColumn) -> String {
        self.cast(value, ty, there)
    }

    /// Whether an existing column gives back what it was given to the letter.
    fn keeps_letters(&self, _there: &ExistingColumn) -> bool {
        true
    }

    /// A condition under which a value of a declared type would become another one in an existing column,
    /// where the database changes such values without a word.
    fn beyond(&self, _value: &str, _ty: Type, _there: &ExistingColumn) -> Option<String> {
        None
    }

    /// A statement that adds rows and asks about those that were added, by pairs of a column and the type that it
    /// is asked about as; `None` where the database has no such statement.
    fn insert_and_ask(
        &self,
        _insert: &str,
        _columns: &[(String, String)],
        _selected: &str,
    ) -> Option<String> {
        None
    }

    /// The statement that begins a transaction.
    fn begin(&self) -> &'static str {
        "BEGIN"
    }

    /// Whether a row of a staged table `s` is in a table, by pairs of a key column there and a value here.
    fn is_there(&self, table: &str, key: &[(String, String)]) -> String {
        let equal: Vec<_> =
            key.iter().map(|(column, value)| format!("t.{column} = {value}")).collect();
        format!("EXISTS (SELECT 1 FROM {table} t WHERE {})", equal.join(" AND "))
    }

    /// The beginning of a statement that adds rows.
    fn insert(&self, table: &str, columns: &str) -> String {
        format!("INSERT INTO {table} ({columns})")
    }

    /// The statement that gives rows of a table the values of the rows of a staged one that have their key;
    /// `None` where the database has no such statement.
    fn update(
        &self,
        table: &str,
        stage: &str,
        changed: &[(String, String)],
        key: &[(String, String)],
    ) -> Option<String> {
        let set: Vec<_> =
            changed.iter().map(|(column, value)| format!("{column} = {value}")).collect();
        let equal: Vec<_> =
            key.iter().map(|(column, value)| format!("t.{column} = {value}")).collect();
        Some(format!(
            "UPDATE {table} AS t SET {} FROM {stage} s WHERE {}",
            set.join(", "),
            equal.join(" AND ")
        ))
    }

    /// The question how many values of a column are not null; `column` is its name in quotes.
    fn counted(&self, _ty: Type, column: &str) -> String {
        format!("count({column})")
    }

    /// What can be asked about the values of a column that is stored as this language stores it;
    /// `column` is its name in quotes.
    fn asked(&self, declared: &ColumnDecl, column: &str) -> Asked;
}

/// By what rows are ordered and found.
#[derive(Debug, Clone, Default)]
pub struct Order {
    /// The key, as it is [indexed](Language::indexed).
    pub key: Vec<String>,
    /// Columns that rows are sorted by, as long as they are ascending and never null.
    pub sort: Vec<String>,
}

impl Order {
    /// The order a schema declares.
    pub fn of(schema: &Schema, language: &dyn Language) -> Order {
        let layout = &schema.layout;
        let is_plain = |key: &&SortKey| {
            let column = schema.columns.iter().find(|column| column.name == key.column);
            !key.descending && column.is_some_and(|column| column.required)
        };
        let indexed = |name: &String| match schema.columns.iter().find(|c| c.name == *name) {
            Some(column) => language.indexed(column).name,
            None => language.identifier(name),
        };
        Order {
            key: layout.key.iter().map(indexed).collect(),
            sort: layout.sort.iter().take_while(is_plain).map(|key| indexed(&key.column)).collect(),
        }
    }
}

/// The languages that a table can be defined in.
pub const LANGUAGES: [&str; 5] = ["postgres", "mariadb", "clickhouse", "sqlite", "sql"];

/// The language of a name.
pub fn language(name: &str) -> Option<Box<dyn Language>> {
    Some(match name {
        "postgres" => Box::new(Postgres),
        "mariadb" => Box::new(Mariadb),
        "clickhouse" => Box::new(ClickHouse::newest()),
        "sqlite" => Box::new(Sqlite),
        "sql" => Box::new(Standard),
        _ => return None,
    })
}

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
pub fn qualified(language: &dyn Language, schema: Option<&str>, table: &str) -> String {
    let table = language.identifier(table);
    match schema {
        Some(schema) => format!("{}.{table}", language.identifier(schema)),
        None => table,
    }
}

/// Defines a table `name`, which is said as [`qualified`] says it, for the columns of a schema.
/// `table` is the plain name that types are named after.
pub fn define(language: &dyn Language, schema: &Schema, name: &str, table: &str) -> Definition {
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
    let order = Order::of(schema, language);
    if !order.key.is_empty() {
        lines.extend(language.key(&order.key).map(|key| format!("  {key}")));
    }
    definition.table =
        format!("CREATE TABLE {name} (\n{}\n){}", lines.join(",\n"), language.tail(&order));
    definition
}

fn default_literal(language: &dyn Language, column: &ColumnDecl) -> Option<String> {
    let text = plain_text(column, column.default.as_deref()?)?;
    let is_bare = column.ty.is_number();
    Some(if is_bare { text } else { language.literal(&text) })
}

/// What is stored otherwise than declared, a sentence for each such column.
pub fn notes(language: &dyn Language, schema: &Schema, table: &str) -> Vec<String> {
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
pub fn script(language: &dyn Language, schema: &Schema, table: &str) -> Result<String, Unwritable> {
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

fn written(language: &dyn Language, schema: &Schema, table: &str) -> String {
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

/// Literals as a list in parentheses, on several lines where they are many.
fn literals(language: &dyn Language, values: &[String]) -> String {
    const WIDTH: usize = 90;
    let mut lines = vec![String::new()];
    for (at, value) in values.iter().enumerate() {
        let mut literal = language.literal(value).trim_start().to_owned();
        if at + 1 < values.len() {
            literal.push(',');
        }
        let last = lines.last_mut().expect("there is always one");
        if last.is_empty() {
            *last = literal;
        } else if last.chars().count() + literal.chars().count() < WIDTH {
            last.push(' ');
            last.push_str(&literal);
        } else {
            lines.push(literal);
        }
    }
    match &lines[..] {
        [line] => format!("({line})"),
        lines => format!("(\n  {}\n)", lines.join("\n  ")),
    }
}

/// A text that cannot end the comment it stands in.
fn one_line(text: &str) -> String {
    text.split(|c: char| c.is_control() || matches!(c, '\u{85}' | '\u{2028}' | '\u{2029}'))
        .collect::<Vec<_>>()
        .join(" ")
}

/// A text in quotes, those inside doubled.
fn doubled(text: &str, quote: char) -> String {
    let quoted = text.replace(quote, &format!("{quote}{quote}"));
    format!("{quote}{quoted}{quote}")
}

/// A text in quotes as standard SQL has it: with an escape for every control character, where it has any.
fn unicode_escaped(text: &str, quote: char) -> String {
    if !text.contains(char::is_control) {
        return doubled(text, quote);
    }
    format!("U&{}", doubled(&backslashed(text, "\\"), quote))
}

/// A text with backslashes doubled, and with a number of four digits behind `before` for every control character.
fn backslashed(text: &str, before: &str) -> String {
    text.chars().fold(String::new(), |mut escaped, letter| {
        match letter {
            '\\' => escaped.push_str("\\\\"),
            letter if letter.is_control() => {
                escaped.push_str(&format!("{before}{:04X}", u32::from(letter)));
            }
            letter => escaped.push(letter),
        }
        escaped
    })
}

/// The check that keeps an integer in its range.
fn range_check(column: &str, int: IntType) -> String {
    let (low, high) = int.range();
    format!("{column} BETWEEN {low} AND {high}")
}

/// The check that keeps a text in its list.
fn list_check(language: &dyn Language, column: &str, values: &[String]) -> String {
    let values: Vec<_> = values.iter().map(|value| language.literal(value)).collect();
    format!("{column} IN ({})", values.join(", "))
}

/// Digits of a second that a unit has.
pub fn digits(unit: TimeUnit) -> u8 {
    match unit {
        TimeUnit::Second => 0,
        TimeUnit::Milli => 3,
        TimeUnit::Micro => 6,
        TimeUnit::Nano => 9,
    }
}

/// Why whole numbers stand for times of a unit that has no type.
fn counted_in(unit: TimeUnit, since: &str, name: &str) -> String {
    let unit = match unit {
        TimeUnit::Second => "seconds",
        TimeUnit::Milli => "milliseconds",
        TimeUnit::Micro => "microseconds",
        TimeUnit::Nano => "nanoseconds",
    };
    format!("as a whole number of {unit} since {since}: {name} has no type for them")
}

/// The power of ten that makes seconds units.
fn per_second(unit: TimeUnit) -> u64 {
    10u64.pow(u32::from(digits(unit)))
}
