//! What a table that exists is made of.

use typhos_core::schema::Held;

/// A table that exists.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Existing {
    /// Its columns, in their order.
    pub columns: Vec<ExistingColumn>,
    /// Its primary key.
    pub key: Vec<String>,
}

/// A column that exists.
#[derive(Debug, Clone, PartialEq)]
pub struct ExistingColumn {
    /// Its name.
    pub name: String,
    /// Its type, as the database spells it.
    pub ty: String,
    /// What it can hold.
    pub held: Held,
    /// Whether it may be null.
    pub nullable: bool,
    /// Who fills it where a load does not.
    pub filled: Filled,
    /// How its texts are compared, where that is not by their bytes.
    pub letters: Option<Letters>,
}

/// How texts are compared.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Letters {
    /// The letters there are.
    pub character_set: String,
    /// What is the same among them, and in which order.
    pub collation: String,
}

/// Who fills a column where a load does not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Filled {
    /// Nobody: it is null.
    Nobody,
    /// Its default, as the database writes it.
    Default(String),
    /// The database, with numbers of its own; a load may bring them along.
    Numbered,
    /// The database, by an expression; a load cannot.
    Computed,
}
