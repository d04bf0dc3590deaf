//! What a language needs so that rows can be moved from one table to another.

use typhos_core::schema::Scalar;

use super::definitions::Definitions;
use super::held::ExistingColumn;

/// The SQL of a database, as far as rows are moved in it.
pub trait Movements: Definitions {
    /// A value of a declared type as one of the type of an existing column. What does not fit is never cut:
    /// the insertion fails instead.
    fn cast(&self, value: &str, _ty: Scalar, _there: &ExistingColumn) -> String {
        value.to_owned()
    }

    /// Whether what nests in a table beside becomes text on its way into an existing column of text.
    fn writes_nested_text(&self) -> bool {
        true
    }

    /// What becomes of a value on its way into an existing column, where that is worth knowing.
    fn remark(&self, _ty: Scalar, _there: &ExistingColumn) -> Option<String> {
        None
    }

    /// Whether a float of 32 bits waits as one of 64 bits in a table beside, since there its text is lost otherwise.
    fn widens_floats(&self) -> bool {
        false
    }

    /// A value to be compared with those of an existing column.
    fn comparable(&self, value: &str, ty: Scalar, there: &ExistingColumn) -> String {
        self.cast(value, ty, there)
    }

    /// Whether a type as it is defined here is one as the catalog spells it.
    fn is_same_type(&self, defined: &str, there: &str) -> bool {
        defined.eq_ignore_ascii_case(there)
    }

    /// Whether an existing column gives back what it was given to the letter.
    fn keeps_letters(&self, _there: &ExistingColumn) -> bool {
        true
    }

    /// A condition under which a value of a declared type would become another one in an existing column,
    /// where the database changes such values without a word.
    fn beyond(&self, _value: &str, _ty: Scalar, _there: &ExistingColumn) -> Option<String> {
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
        format!("EXISTS (SELECT 1 FROM {table} t WHERE {})", each_is("t.", key, " AND "))
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
        let (set, equal) = (each_is("", changed, ", "), each_is("t.", key, " AND "));
        Some(format!("UPDATE {table} AS t SET {set} FROM {stage} s WHERE {equal}"))
    }
}

/// Columns and the values that they have or get, with something before each column and something between two.
pub(crate) fn each_is(prefix: &str, pairs: &[(String, String)], between: &str) -> String {
    let each = pairs.iter().map(|(column, value)| format!("{prefix}{column} = {value}"));
    each.collect::<Vec<_>>().join(between)
}
