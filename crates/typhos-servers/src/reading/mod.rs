//! Tables of servers as tables of typed rows. A server hands its rows out as texts, of the columns that are wanted and, as far
//! as it can be asked, of the rows; they become values as those of a file do.

mod condition;
mod tab_text;
mod types;

use std::ops::ControlFlow;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_schema::{Schema as ArrowSchema, SchemaRef};
use typhos_core::columns::{TYPE_KEY, TextRows};
use typhos_core::schema::{ColumnDecl, Held};
use typhos_core::table::{Passed, Sieve, Table, TableError};
use typhos_load::table::Ask;
use typhos_load::{Secret, TargetError};
use typhos_sql::held::ExistingColumn;

use crate::server_table;
use crate::server_url::{ServerKind, ServerUrl};

use condition::Named;
pub(crate) use tab_text::{BadLine, TabText, unescape};

/// Rows of a batch.
const BATCH_ROWS: usize = 4096;

/// Who takes rows of texts, and says whether more are wanted.
pub(crate) type TakeRow<'t> = &'t mut dyn FnMut(&[Option<&[u8]>]) -> ControlFlow<()>;

/// A session whose server's tables can be read.
pub(crate) trait ReadRows: Ask {
    /// The names of the tables and views that are where a table without a name would be looked for, in their order.
    ///
    /// # Errors
    /// A catalog that cannot be read.
    fn tables(&mut self) -> Result<Vec<String>, TargetError>;

    /// An expression that has the values of a column as texts that its type is read from.
    fn as_text(&self, column: &ExistingColumn) -> String {
        self.language().identifier(&column.name)
    }

    /// Whether rows may be asked for by values of a column that holds this, compared with them as literals.
    fn may_ask(&self, held: &Held) -> bool {
        matches!(
            held,
            Held::Int(_)
                | Held::Decimal(_)
                | Held::Float(_)
                | Held::Text(_)
                | Held::Listed(_)
                | Held::Date
                | Held::Timestamp(..)
        )
    }

    /// Whether a column of texts may hold bytes that are no text.
    fn has_any_bytes(&self) -> bool {
        false
    }

    /// Hands the rows of an answer of so many columns to `each`, as they come, until it has seen enough.
    ///
    /// # Errors
    /// What the server says, and an answer that breaks off.
    fn read_rows(
        &mut self,
        sql: &str,
        columns: usize,
        each: TakeRow<'_>,
    ) -> Result<(), TargetError>;
}

/// A column, and how the server is asked for it.
struct Column {
    declared: ColumnDecl,
    name: String,
    text: String,
    may_ask: bool,
    /// Whether it holds numbers, which stand in a question without quotes.
    is_number: bool,
    /// Whether all that it can hold has a place in its type here.
    is_total: bool,
}

/// A table of a server.
pub struct ServerTable {
    session: Box<dyn ReadRows + Send>,
    qualified: String,
    columns: Vec<Column>,
    schema: SchemaRef,
    /// Where it is, without a password.
    pub target: String,
    /// Its name.
    pub name: String,
}

impl ServerTable {
    /// Whether a text is the URL of a server that has tables, or is meant to be one.
    pub fn is_url(text: &str) -> bool {
        let kind = ServerUrl::kind_of(text);
        kind.is_some_and(|kind| kind != ServerKind::Index)
    }

    /// Connects, and looks up a table: the only one there is, where none is named.
    ///
    /// # Errors
    /// A URL that is none, a server that cannot be asked, a table that is not there, or several where none is named.
    pub fn open(
        url: &str,
        table: Option<&str>,
        password: Option<Secret>,
    ) -> Result<ServerTable, TargetError> {
        let mut url = server_table::parsed(url).map_err(TargetError::Address)?;
        url.password = password.or(url.password);
        let table =
            table.map(|typed| url.go_to(typed)).transpose().map_err(TargetError::Address)?;
        let mut session = server_table::in_time(&url, connect)?;
        let target = session.target();
        let name = match table {
            Some(name) => name,
            None => only(session.tables()?).map_err(|message| refused(&target, message))?,
        };
        let Some(existing) = session.existing(&name)? else {
            return Err(refused(&target, missing(&name, &session.tables()?)));
        };
        let column = |column: &ExistingColumn| {
            let declared = types::declared(column);
            // What is read as a text and is none there is compared in another way.
            let is_text = declared.ty.leaf().is_some_and(|leaf| leaf.is_text());
            let is_same = is_text == matches!(column.held, Held::Text(_) | Held::Listed(_));
            Column {
                name: column.name.clone(),
                text: session.as_text(column),
                may_ask: is_same && session.may_ask(&column.held),
                is_number: matches!(column.held, Held::Int(_) | Held::Decimal(_) | Held::Float(_)),
                is_total: match column.held {
                    Held::Int(_) | Held::Float(_) | Held::Listed(_) => true,
                    Held::Text(_) => !session.has_any_bytes(),
                    _ => false,
                },
                declared,
            }
        };
        let columns: Vec<Column> = existing.columns.iter().map(column).collect();
        let rows = text_rows(columns.iter().map(|column| column.declared.clone()), &target)?;
        // What is not ours says what it is there.
        let read = rows.schema();
        let said = read.fields().iter().zip(&existing.columns).map(|(field, column)| {
            let mut field = field.as_ref().clone();
            if matches!(column.held, Held::Other) {
                field.metadata_mut().insert(TYPE_KEY.to_owned(), column.ty.clone());
            }
            field
        });
        let schema = Arc::new(ArrowSchema::new(said.collect::<Vec<_>>()));
        let qualified = session.qualified(&name);
        Ok(ServerTable { session, qualified, columns, schema, target, name })
    }
}

fn refused(target: &str, message: String) -> TargetError {
    TargetError::Server { target: target.to_owned(), message, help: String::new() }
}

fn connect(url: &ServerUrl) -> Result<Box<dyn ReadRows + Send>, TargetError> {
    Ok(match url.kind {
        #[cfg(feature = "postgres")]
        ServerKind::Postgres => Box::new(crate::postgres::PostgresSession::connect(url)?),
        #[cfg(feature = "mariadb")]
        ServerKind::Mariadb => Box::new(crate::mariadb::MariadbSession::connect(url)?),
        #[cfg(feature = "clickhouse")]
        ServerKind::ClickHouse => Box::new(crate::clickhouse::ClickHouseSession::connect(url)?),
        _ => return Err(refused(&url.to_string(), "it has no tables that are read here".into())),
    })
}

/// What to say where a table is not there.
fn missing(name: &str, tables: &[String]) -> String {
    let name = name.escape_debug();
    match typhos_core::nearest(&name.to_string(), tables.iter().map(String::as_str)) {
        Some(near) => format!("there is no table '{name}'; did you mean '{near}'?"),
        None if tables.is_empty() => format!("there is no table '{name}', and no other one"),
        None => {
            let tables = typhos_core::wording::listed(tables);
            format!("there is no table '{name}'; it has {tables}")
        }
    }
}

/// The only table there is.
fn only(mut tables: Vec<String>) -> Result<String, String> {
    match tables.len() {
        0 => Err("there are no tables".into()),
        1 => Ok(tables.remove(0)),
        _ => Err(format!(
            "it has the tables {}; pass --table NAME",
            typhos_core::wording::listed(&tables)
        )),
    }
}

fn text_rows(
    columns: impl Iterator<Item = ColumnDecl>,
    target: &str,
) -> Result<TextRows, TargetError> {
    let columns: Vec<_> = columns.collect();
    TextRows::new(&columns).map_err(|message| refused(target, message))
}

impl Table for ServerTable {
    fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    fn rows(&self) -> Option<u64> {
        None
    }

    fn read_through(
        &mut self,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<Passed, TableError> {
        self.read_wanted(sieve, each).map_err(|error| TableError::Source(Box::new(error)))
    }
}

impl ServerTable {
    fn read_wanted(
        &mut self,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<Passed, TargetError> {
        let wanted: Vec<&Column> = sieve.columns().iter().map(|at| &self.columns[*at]).collect();
        let schema = self.schema.project(sieve.columns()).expect("columns of the table");
        let mut rows =
            text_rows(wanted.iter().map(|column| column.declared.clone()), &self.target)?;
        let superset = sieve.superset(&schema, &|at| wanted[at].may_ask);
        let language = self.session.language();
        let condition = condition::written(&superset, language, &|at| Named {
            name: language.identifier(&wanted[at].name),
            is_number: wanted[at].is_number,
            is_total: wanted[at].is_total,
        });
        // Without columns there are still rows; and what is behind the last column shows that a row is whole.
        let mut texts: Vec<&str> = wanted.iter().map(|column| &column.text[..]).collect();
        texts.push("1");
        let columns = texts.len();
        let mut sql = format!("SELECT {} FROM {}", texts.join(", "), self.qualified);
        if let Some(condition) = condition {
            sql.push_str(&format!(" WHERE {condition}"));
        }
        if let Some(most) = sieve.most() {
            sql.push_str(&format!(" LIMIT {most}"));
        }
        let mut is_over = false;
        self.session.read_rows(&sql, columns, &mut |row| {
            rows.push(row.iter().copied());
            if rows.rows() == BATCH_ROWS {
                is_over = each(sieve.pass(&rows.finish())).is_break() || sieve.is_done();
            }
            if is_over { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })?;
        if !is_over && rows.rows() > 0 {
            let _ = each(sieve.pass(&rows.finish()));
        }
        Ok(Passed { misfits: rows.misfits() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_need_not_be_named_where_there_is_but_one() {
        let tables = |names: &[&str]| names.iter().map(|name| name.to_string()).collect();
        assert_eq!(only(tables(&["tickets"])), Ok("tickets".into()));
        assert_eq!(only(tables(&[])), Err("there are no tables".into()));
        let several = only(tables(&["gauges", "tickets"])).unwrap_err();
        assert_eq!(several, "it has the tables 'gauges', 'tickets'; pass --table NAME");
    }

    #[test]
    fn a_table_that_is_not_there_is_answered_with_those_that_are() {
        let tables = ["tickets".to_owned(), "gauges".to_owned()];
        assert_eq!(
            missing("tickts", &tables),
            "there is no table 'tickts'; did you mean 'tickets'?"
        );
        assert_eq!(
            missing("fares", &tables),
            "there is no table 'fares'; it has 'tickets', 'gauges'"
        );
        assert_eq!(missing("fares", &[]), "there is no table 'fares', and no other one");
    }

    #[test]
    fn urls_of_tables_are_told_from_others() {
        assert!(ServerTable::is_url("postgres://localhost/ferry"));
        assert!(ServerTable::is_url("MariaDB://localhost/ferry"));
        assert!(!ServerTable::is_url("index+http://localhost/ferry"));
        assert!(!ServerTable::is_url("tickets.csv") && !ServerTable::is_url("c:\\tickets.csv"));
    }
}
