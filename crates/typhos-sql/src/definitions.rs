//! What a language needs so that tables can be defined in it.

use typhos_core::schema::{ColumnDecl, Schema, SortKey};

/// How many bytes a row has at most.
#[derive(Debug, Clone, Copy)]
pub struct RowBytes {
    /// In all.
    pub most: u64,
    /// How many of them a stored type takes, by its spelling.
    pub of: fn(&str) -> u64,
}

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
    pub(crate) fn new(ty: impl Into<String>) -> Stored {
        Stored { ty: ty.into(), ..Stored::default() }
    }

    pub(crate) fn check(mut self, check: impl Into<String>) -> Stored {
        self.check = Some(check.into());
        self
    }

    pub(crate) fn note(mut self, note: impl Into<String>) -> Stored {
        self.note = Some(note.into());
        self
    }
}

/// How a column is stored that the language has no type for: as what carries it, and with a note that says so.
pub(crate) fn carried(language: &dyn Definitions, table: &str, column: &ColumnDecl) -> Stored {
    let Some(carrier) = column.scalar().carrier() else {
        return Stored::new("text").note(format!("as text: there is no {}", column.scalar()));
    };
    let stored = language.stored(table, &ColumnDecl { ty: carrier.into(), ..column.clone() });
    let how = match column.scalar().counts() {
        Some(unit) => format!("as a whole number of {unit}"),
        None => format!("as {}", stored.ty),
    };
    let name = language.name();
    stored.note(format!("{how}: {name} has no type for {}", column.scalar().what()))
}

/// What a column that nests is called in a note: the database has no type for it.
pub(crate) fn as_json(stored: Stored, language: &dyn Definitions, column: &ColumnDecl) -> Stored {
    let note = format!("as {}: {} has no type for {}", stored.ty, language.name(), column.ty);
    stored.note(note)
}

/// A column as part of a key or an index.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Indexed {
    /// Its name in quotes, with what the language wants behind it.
    pub name: String,
    /// What is compared otherwise than by the whole value.
    pub note: Option<String>,
}

/// The SQL of a database, as far as tables are defined in it.
pub trait Definitions: Send + Sync {
    /// What the database is called.
    fn name(&self) -> &'static str;

    /// A name in quotes, so that no name can be anything else.
    fn identifier(&self, name: &str) -> String;

    /// A text as a literal, so that no text can be anything else.
    fn literal(&self, text: &str) -> String;

    /// The most that a name may have: characters or, where `bytes` says so, bytes.
    fn longest_name(&self) -> Option<(usize, bool)>;

    /// The most columns of a table; `None` where there is no limit.
    fn most_columns(&self) -> Option<usize> {
        None
    }

    /// How many bytes a row has at most; `None` where there is no limit.
    fn row_bytes(&self) -> Option<RowBytes> {
        None
    }

    /// Whether names that differ in letter case only are the same.
    fn ignores_case(&self) -> bool {
        false
    }

    /// Whether it has a type for what nests in a column; otherwise that goes as JSON text.
    fn nests(&self, _column: &ColumnDecl) -> bool {
        false
    }

    /// Whether a column that may be null can be null there; otherwise null becomes what is nearest to it.
    fn has_null(&self, _column: &ColumnDecl) -> bool {
        true
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

    /// A statement that a script needs before all others, so that its texts are taken for what they are.
    fn opening(&self) -> Option<&'static str> {
        None
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
    fn tail(&self, _order: &TableOrder) -> String {
        String::new()
    }

    /// Whether rows stay in the order of [`tail`](Self::tail).
    fn keeps_order(&self) -> bool {
        false
    }
}

/// By what rows are ordered and found.
#[derive(Debug, Clone, Default)]
pub struct TableOrder {
    /// The key, as it is [indexed](Definitions::indexed).
    pub key: Vec<String>,
    /// Columns that rows are sorted by, as long as they are ascending and never null.
    pub sort: Vec<String>,
}

impl TableOrder {
    /// The order a schema declares.
    pub fn of(schema: &Schema, language: &dyn Definitions) -> TableOrder {
        let layout = &schema.layout;
        let is_plain = |key: &&SortKey| {
            let column = schema.columns.iter().find(|column| column.name == key.column);
            !key.descending && column.is_some_and(|column| column.required)
        };
        let indexed = |name: &String| match schema.columns.iter().find(|c| c.name == *name) {
            Some(column) => language.indexed(column).name,
            None => language.identifier(name),
        };
        TableOrder {
            key: layout.key.iter().map(indexed).collect(),
            sort: layout.sort.iter().take_while(is_plain).map(|key| indexed(&key.column)).collect(),
        }
    }
}
