//! SQL over typed rows: they are put into a temporary database, of which a statement may read and nothing else. Only the columns
//! that the statement names are put there.

use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::builder::StringBuilder;
use arrow_array::cast::AsArray;
use arrow_array::types::UInt64Type;
use arrow_array::{Array, ArrayRef, Float64Array, Int64Array, RecordBatch, RecordBatchOptions};
use arrow_schema::{DataType, Field, Schema as ArrowSchema};
use rusqlite::Connection;
use rusqlite::hooks::{AuthAction, Authorization};
use rusqlite::types::Value;
use thiserror::Error;
use typhos_core::columns::{cell_text, flat_batch, is_nested};

use super::read::{identifier, shown};
use super::rows::{Inserts, StoredBatch, stored_batch};

/// Rows of an answer that are handed on at once.
const BATCH_ROWS: usize = 4_096;

/// Steps of the engine between two looks at whether it is to stop.
const STEPS: i32 = 100_000;

/// A statement that is not answered.
#[derive(Debug, Error)]
pub enum AskError {
    /// The statement is wrong; the bytes that are, where they are known.
    #[error("{message}")]
    Statement {
        /// What is wrong.
        message: String,
        /// Where.
        span: Option<Range<usize>>,
    },
    /// The work was to stop.
    #[error("interrupted")]
    Stopped,
    /// The temporary database failed.
    #[error("the temporary database: {0}")]
    Database(String),
}

/// The most columns of a table there.
const MOST_COLUMNS: usize = 2_000;

/// A column in place of those that a statement does not name, where there are too many: who reads it wants all of them.
const OTHERS: &str = "columns of typhos that are not named";

/// Whether the work is to stop.
type Stopped = fn() -> bool;

/// Typed rows that are asked.
pub struct Asking {
    connection: Connection,
    table: String,
    columns: Vec<Field>,
    stopped: Stopped,
}

impl Asking {
    /// Makes a temporary database with an empty table of some columns; of very many, with those whose names stand in the
    /// statement.
    ///
    /// # Errors
    /// A database that cannot be made, and columns that cannot be in one table.
    pub fn new(
        table: &str,
        schema: &ArrowSchema,
        statement: &str,
        stopped: Stopped,
    ) -> Result<Asking, AskError> {
        let database = |error: rusqlite::Error| AskError::Database(error.to_string());
        // One without a name is in a file that nobody sees, and in memory as long as it is small.
        let mut connection = Connection::open("").map_err(database)?;
        let settings = "PRAGMA journal_mode = off; PRAGMA synchronous = off; PRAGMA cache_size = -65536; \
                        PRAGMA temp_store = file;";
        connection.execute_batch(settings).map_err(database)?;
        let columns: Vec<Field> = schema.fields().iter().map(|it| it.as_ref().clone()).collect();
        let names: Vec<String> = match columns.len() <= MOST_COLUMNS {
            true => columns.iter().map(|column| identifier(column.name())).collect(),
            false => {
                let said = statement.to_lowercase();
                // Rows are counted by the first.
                let is_said =
                    |(at, name): &(usize, &String)| *at == 0 || said.contains(&name.to_lowercase());
                let named = columns.iter().map(Field::name).enumerate().filter(is_said);
                named.map(|(_, name)| identifier(name)).chain([identifier(OTHERS)]).collect()
            }
        };
        let create = format!("CREATE TABLE {} ({})", identifier(table), names.join(", "));
        connection.execute(&create, []).map_err(|error| AskError::Statement {
            message: format!("the columns cannot be those of one table here: {error}"),
            span: None,
        })?;
        let handler = Some(stopped);
        connection.progress_handler(STEPS, handler).map_err(database)?;
        Ok(Asking { connection, table: table.to_owned(), columns, stopped })
    }

    /// The columns that a statement reads, by their places, in their order.
    ///
    /// # Errors
    /// A statement that is wrong, or does more than to read.
    pub fn columns(&mut self, statement: &str) -> Result<Vec<usize>, AskError> {
        let read: Arc<Mutex<Vec<String>>> = Arc::default();
        let noted = read.clone();
        let table = self.table.clone();
        self.allow(move |action| {
            if let AuthAction::Read { table_name, column_name } = *action
                && table_name.eq_ignore_ascii_case(&table)
            {
                let mut noted = noted.lock().unwrap_or_else(PoisonError::into_inner);
                noted.push(column_name.to_owned());
            }
        })?;
        self.prepared(statement).map(drop)?;
        let read = read.lock().unwrap_or_else(PoisonError::into_inner);
        if read.iter().any(|name| name == OTHERS) {
            let count = typhos_core::wording::grouped(self.columns.len() as u64);
            let message = format!(
                "the table has {count} columns, and at most {MOST_COLUMNS} are read at once: name those that are wanted in place of *"
            );
            let span = statement.find('*').map(|at| at..at + 1);
            return Err(AskError::Statement { message, span });
        }
        let is_read =
            |field: &Field| read.iter().any(|name| name.eq_ignore_ascii_case(field.name()));
        let columns = self.columns.iter().enumerate();
        let mut columns: Vec<usize> =
            columns.filter(|(_, field)| is_read(field)).map(|(at, _)| at).collect();
        if columns.is_empty() {
            // Rows are counted all the same.
            columns.extend((!self.columns.is_empty()).then_some(0));
        }
        Ok(columns)
    }

    /// What of some columns is not as exact here as it was, a sentence each.
    pub fn notes(&self, columns: &[usize]) -> Vec<String> {
        let notes = columns.iter().filter_map(|at| {
            let column = &self.columns[*at];
            let (DataType::Decimal128(digits, _) | DataType::Decimal64(digits, _)) =
                column.data_type()
            else {
                return None;
            };
            (number_of(column.data_type()) == Some(Number::Rounded)).then(|| {
                format!(
                    "'{}' has up to {digits} digits, of which SQL keeps {} here; 'typhos tally' sums them exactly",
                    column.name(),
                    typhos_sql::REAL_DIGITS
                )
            })
        });
        notes.collect()
    }

    /// Puts rows of some columns into the table, as many as `next` gives.
    ///
    /// # Errors
    /// A temporary database that takes no more, and those of `next`.
    pub fn fill<E: From<AskError>>(
        &mut self,
        columns: &[usize],
        feed: impl FnOnce(&mut dyn FnMut(&RecordBatch) -> Result<(), AskError>) -> Result<(), E>,
    ) -> Result<(), E> {
        let database = |error: rusqlite::Error| AskError::Database(error.to_string());
        self.connection
            .authorizer(None::<fn(rusqlite::hooks::AuthContext<'_>) -> Authorization>)
            .map_err(database)?;
        let transaction = self.connection.unchecked_transaction().map_err(database)?;
        {
            let names: Vec<String> =
                columns.iter().map(|at| identifier(self.columns[*at].name())).collect();
            let mut inserts = Inserts::prepare(&transaction, &identifier(&self.table), &names)
                .map_err(database)?;
            let flat: Vec<bool> = columns.iter().map(|at| is_nested(&self.columns[*at])).collect();
            feed(&mut |batch| {
                let batch = flat_batch(batch, &flat);
                let stored: StoredBatch = stored_batch(&comparable(&batch));
                stored.insert(&mut inserts).map(|_| ()).map_err(|refusal| database(refusal.error))
            })?;
        }
        transaction.commit().map_err(database)?;
        Ok(())
    }

    /// Answers a statement: the names of its columns, then its rows in batches. A column of a batch is of whole numbers, of numbers or
    /// of texts, as its values are.
    ///
    /// # Errors
    /// A statement that is wrong or fails, and those of `each`.
    pub fn answer<E: From<AskError>>(
        &mut self,
        statement: &str,
        each: &mut dyn FnMut(&RecordBatch) -> Result<(), E>,
    ) -> Result<(), E> {
        self.allow(|_| {})?;
        let stopped = self.stopped;
        let told = |error| told(error, statement, stopped);
        let mut prepared = self.prepared(statement)?;
        let names: Vec<String> = prepared.column_names().map(str::to_owned).collect();
        let mut rows = prepared.query([]).map_err(told)?;
        let (mut held, mut handed) = (Vec::new(), false);
        loop {
            let row = rows.next().map_err(told)?;
            let is_over = row.is_none();
            if let Some(row) = row {
                let cells = (0..names.len()).map(|at| row.get::<_, Value>(at));
                held.push(cells.collect::<Result<Vec<_>, _>>().map_err(told)?);
            }
            if held.len() == BATCH_ROWS || is_over && !(held.is_empty() && handed) {
                each(&batch(&names, std::mem::take(&mut held)))?;
                handed = true;
            }
            if is_over {
                return Ok(());
            }
        }
    }

    /// From now on a statement may read, and `note` is told of all that it does.
    fn allow(
        &mut self,
        mut note: impl FnMut(&AuthAction<'_>) + Send + 'static,
    ) -> Result<(), AskError> {
        let hook = move |context: rusqlite::hooks::AuthContext<'_>| {
            note(&context.action);
            match context.action {
                AuthAction::Select | AuthAction::Read { .. } | AuthAction::Recursive => {
                    Authorization::Allow
                }
                AuthAction::Function { function_name }
                    if !function_name.eq_ignore_ascii_case("load_extension") =>
                {
                    Authorization::Allow
                }
                _ => Authorization::Deny,
            }
        };
        let set = self.connection.authorizer(Some(hook));
        set.map_err(|error| AskError::Database(error.to_string()))
    }

    fn prepared(&self, statement: &str) -> Result<rusqlite::Statement<'_>, AskError> {
        let prepared = self.connection.prepare(statement);
        let prepared = prepared.map_err(|error| match told(error, statement, self.stopped) {
            AskError::Statement { message, span } => {
                AskError::Statement { message: self.worded(&message), span }
            }
            other => other,
        })?;
        match prepared.column_count() {
            0 => Err(AskError::Statement {
                message: "this is not a question: begin it with SELECT".into(),
                span: None,
            }),
            _ => Ok(prepared),
        }
    }

    /// A message of the engine, with what to do about it.
    fn worded(&self, message: &str) -> String {
        if let Some(missing) = message.strip_prefix("no such column: ") {
            let bare = missing.rsplit('.').next().unwrap_or(missing);
            let names = self.columns.iter().map(|column| &column.name()[..]);
            return match typhos_core::nearest(bare, names) {
                Some(near) => format!("there is no column '{missing}'; did you mean '{near}'?"),
                None => format!("there is no column '{missing}'; 'typhos peek' shows all"),
            };
        }
        match message {
            _ if message.starts_with("no such table") => {
                format!("{message}; the rows are the table {}", identifier(&self.table))
            }
            "not authorized" => {
                "a question may only read: begin it with SELECT or WITH, and change nothing".into()
            }
            other => other.to_owned(),
        }
    }
}

/// How exact numbers are to the engine, which knows whole numbers of 64 bits and floats.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Number {
    Whole,
    /// A float that keeps all digits.
    Float,
    /// A float that does not.
    Rounded,
}

fn number_of(data_type: &DataType) -> Option<Number> {
    let (digits, scale) = match data_type {
        DataType::Decimal32(digits, scale)
        | DataType::Decimal64(digits, scale)
        | DataType::Decimal128(digits, scale) => (*digits, *scale),
        DataType::UInt64 => (20, 0),
        _ => return None,
    };
    Some(match scale {
        0 if digits <= 18 => Number::Whole,
        _ if digits <= typhos_sql::REAL_DIGITS => Number::Float,
        _ => Number::Rounded,
    })
}

/// A batch whose numbers compare as numbers: the engine would compare those that it has no type for as texts.
fn comparable(batch: &RecordBatch) -> RecordBatch {
    let as_number = |column: &ArrayRef| -> ArrayRef {
        let Some(number) = number_of(column.data_type()) else { return column.clone() };
        if let Some(large) = column.as_primitive_opt::<UInt64Type>() {
            let is_small = large.iter().flatten().all(|value| i64::try_from(value).is_ok());
            return match is_small {
                true => column.clone(),
                false => Arc::new(Float64Array::from_iter(
                    large.iter().map(|value| value.map(|value| value as f64)),
                )),
            };
        }
        let texts = (0..column.len()).map(|row| cell_text(column, row));
        match number {
            Number::Whole => Arc::new(Int64Array::from_iter(
                texts.map(|text| text.and_then(|text| text.parse::<i64>().ok())),
            )),
            // The float that is nearest to the digits.
            _ => Arc::new(Float64Array::from_iter(
                texts.map(|text| text.and_then(|text| text.parse::<f64>().ok())),
            )),
        }
    };
    let columns: Vec<ArrayRef> = batch.columns().iter().map(as_number).collect();
    let fields = batch.schema_ref().fields().iter().zip(&columns);
    let fields: Vec<Field> = fields
        .map(|(field, column)| Field::new(field.name(), column.data_type().clone(), true))
        .collect();
    let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
    RecordBatch::try_new_with_options(Arc::new(ArrowSchema::new(fields)), columns, &options)
        .expect("as many values in every column")
}

/// An error of the engine.
fn told(error: rusqlite::Error, statement: &str, stopped: Stopped) -> AskError {
    match error {
        rusqlite::Error::SqlInputError { msg, offset, .. } => {
            let start = usize::try_from(offset).ok().filter(|start| *start <= statement.len());
            let length = |start: usize| {
                let rest = statement.get(start..).unwrap_or_default();
                let word = |letter: char| letter.is_alphanumeric() || letter == '_';
                rest.find(|letter| !word(letter)).unwrap_or(rest.len()).max(1)
            };
            let span = start.map(|start| start..(start + length(start)).min(statement.len()));
            AskError::Statement { message: msg, span }
        }
        rusqlite::Error::SqliteFailure(error, _)
            if error.code == rusqlite::ErrorCode::OperationInterrupted || stopped() =>
        {
            AskError::Stopped
        }
        rusqlite::Error::SqliteFailure(_, Some(message)) => {
            AskError::Statement { message, span: None }
        }
        rusqlite::Error::MultipleStatement => AskError::Statement {
            message: "there is more than one statement; ask one question".into(),
            span: None,
        },
        other => AskError::Statement { message: other.to_string(), span: None },
    }
}

/// Rows of an answer as arrays.
fn batch(names: &[String], rows: Vec<Vec<Value>>) -> RecordBatch {
    let column = |at: usize| -> ArrayRef {
        let cells = || rows.iter().map(|row| &row[at]);
        let is_integer = |cell: &Value| matches!(cell, Value::Integer(_) | Value::Null);
        let is_number = |cell: &Value| is_integer(cell) || matches!(cell, Value::Real(_));
        if cells().all(|cell| *cell == Value::Null) || !cells().all(is_number) {
            let mut texts = StringBuilder::new();
            cells().for_each(|cell| texts.append_option(shown(cell.into())));
            return Arc::new(texts.finish());
        }
        if cells().all(is_integer) {
            let integer = |cell: &Value| match cell {
                Value::Integer(value) => Some(*value),
                _ => None,
            };
            return Arc::new(Int64Array::from_iter(cells().map(integer)));
        }
        let float = |cell: &Value| match cell {
            Value::Integer(value) => Some(*value as f64),
            Value::Real(value) => Some(*value),
            _ => None,
        };
        Arc::new(Float64Array::from_iter(cells().map(float)))
    };
    let columns: Vec<ArrayRef> = (0..names.len()).map(column).collect();
    let fields = names.iter().zip(&columns);
    let fields: Vec<Field> =
        fields.map(|(name, column)| Field::new(name, column.data_type().clone(), true)).collect();
    RecordBatch::try_new(Arc::new(ArrowSchema::new(fields)), columns)
        .expect("as many values in every column")
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{Date32Array, StringArray, UInt64Array};
    use arrow_schema::DataType;

    fn decimals(values: Vec<i128>, digits: u8) -> ArrayRef {
        let array = arrow_array::Decimal128Array::from(values);
        Arc::new(array.with_precision_and_scale(digits, 2).unwrap())
    }

    /// The places of the columns that a statement reads, of a table of very many.
    #[test]
    fn of_very_many_columns_those_are_read_that_are_named() {
        let fields: Vec<_> =
            (0..2_500).map(|at| Field::new(format!("c{at}"), DataType::Utf8, true)).collect();
        let schema = ArrowSchema::new(fields);
        let read =
            |statement: &str| Asking::new("wide", &schema, statement, || false)?.columns(statement);
        assert_eq!(read("select C2499, max(c7) from wide group by 1").unwrap(), [7, 2499]);
        assert_eq!(read("select count(*) from wide").unwrap(), [0]);
        let error = read("select * from wide").unwrap_err();
        let AskError::Statement { message, span } = error else { panic!("{error}") };
        assert!(
            message.starts_with("the table has 2,500 columns, and at most 2000 are read"),
            "{message}"
        );
        assert_eq!(span, Some(7..8));
    }

    fn asked(statement: &str) -> Result<Vec<String>, AskError> {
        let fields = vec![
            Field::new("route", DataType::Utf8, true),
            Field::new("sold on", DataType::Date32, true),
            Field::new("id", DataType::UInt64, true),
            Field::new("fare", DataType::Decimal128(5, 2), true),
            Field::new("sum", DataType::Decimal128(30, 2), true),
        ];
        let schema = Arc::new(ArrowSchema::new(fields));
        let columns: Vec<ArrayRef> = vec![
            Arc::new(StringArray::from(vec![Some("Holm"), None, Some("Auk")])),
            Arc::new(Date32Array::from(vec![Some(0), Some(1), None])),
            Arc::new(UInt64Array::from(vec![1, 2, 1 << 60])),
            decimals(vec![950, 1750, 12000], 5),
            decimals(vec![950, 1750, 12000], 30),
        ];
        let rows = RecordBatch::try_new(schema.clone(), columns).unwrap();
        let mut asking = Asking::new("tickets", &schema, statement, || false)?;
        let columns = asking.columns(statement)?;
        asking.fill::<AskError>(&columns, |put| put(&rows.project(&columns).unwrap()))?;
        let mut found = vec![format!("{columns:?}")];
        asking.answer::<AskError>(statement, &mut |batch| {
            for row in 0..batch.num_rows() {
                let cells = batch.columns().iter();
                let cells = cells.map(|it| {
                    typhos_core::columns::cell_text(it, row).unwrap_or_else(|| "-".into())
                });
                found.push(cells.collect::<Vec<_>>().join("|"));
            }
            Ok(())
        })?;
        Ok(found)
    }

    #[test]
    fn statements_read_the_columns_that_they_name() {
        for (statement, want) in [
            ("select count(*) from tickets", &["[0]", "3"][..]),
            ("select route from tickets order by route", &["[0]", "-", "Auk", "Holm"]),
            (
                "select \"sold on\", id + 1 from tickets where ID < 3",
                &["[1, 2]", "1970-01-01|2", "1970-01-02|3"],
            ),
            ("select id from tickets where route = 'Auk'", &["[0, 2]", "1152921504606846976"]),
            // By their sizes, and not by their digits.
            ("select fare from tickets where fare > 10 order by fare", &["[3]", "17.5", "120"]),
            ("select max(sum), sum(sum) from tickets", &["[4]", "120|147"]),
            (
                "with t as (select * from Tickets) select max(route) from t",
                &["[0, 1, 2, 3, 4]", "Holm"],
            ),
            ("select 1.5 union all select null", &["[0]", "1.5", "-"]),
        ] {
            assert_eq!(asked(statement).unwrap(), want, "{statement}");
        }
    }

    #[test]
    fn statements_that_do_more_than_to_read_are_refused() {
        for statement in [
            "delete from tickets",
            "drop table tickets",
            "insert into tickets values (1, 2, 3)",
            "attach 'x.db' as x",
            "pragma writable_schema = 1",
            "create table x (y)",
            "select load_extension('x')",
        ] {
            let error = asked(statement).unwrap_err().to_string();
            assert!(
                error.contains("only read") || error.contains("not authorized"),
                "{statement}: {error}"
            );
        }
        let error = asked("select routes from tickets").unwrap_err();
        let AskError::Statement { message, span } = error else { panic!("{error}") };
        assert_eq!(message, "there is no column 'routes'; did you mean 'route'?");
        assert_eq!(span, Some(7..13));
        for (statement, want) in [
            ("select 1 from trips", "no such table: trips; the rows are the table \"tickets\""),
            ("select 1; select 2", "there is more than one statement; ask one question"),
            ("selekt 1", "near \"selekt\": syntax error"),
            ("", "this is not a question: begin it with SELECT"),
        ] {
            assert_eq!(asked(statement).unwrap_err().to_string(), want, "{statement}");
        }
    }
}
