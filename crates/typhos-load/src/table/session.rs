//! What a database has to be able to do so that a load into a table of it can be done: to be [asked](Ask), to have its
//! tables [defined](Define), and to take and [move rows](MoveRows).

use std::time::Duration;

use typhos_core::schema::Schema;
use typhos_sql::held::Existing;
use typhos_sql::{self as sql, Language, NamedType};

use crate::contract::Seen;
use crate::error::TargetError;
use crate::feed::{Canceller, Feed, RowEncoder};
use crate::load_plan::{Action, Problem};
use crate::onlooker::Onlooker;
use crate::proof::SentFacts;

/// What tables are called that are not finished, before letters of their own.
pub const UNFINISHED: &str = "typhos_unfinished_";

/// Rows of a query, as text.
pub type Answers = Vec<Vec<Option<String>>>;

/// A connection to a database that a load can be done with.
pub trait Session: Define + MoveRows + Send + 'static {}

impl<S: Define + MoveRows + Send + 'static> Session for S {}

/// A database that answers questions.
pub trait Ask {
    /// What it speaks.
    fn language(&self) -> &dyn Language;

    /// Where it is, without a password.
    fn target(&self) -> String;

    /// The server and its version.
    fn server(&self) -> Option<String>;

    /// Asks a question.
    ///
    /// # Errors
    /// What the database says.
    fn query(&mut self, sql: &str) -> Result<Answers, TargetError>;

    /// The first value of the first row of an answer.
    ///
    /// # Errors
    /// What the database says.
    fn one(&mut self, sql: &str) -> Result<Option<String>, TargetError> {
        Ok(self.query(sql)?.into_iter().next().and_then(|row| row.into_iter().next()?))
    }

    /// The first value of every row of an answer; those that are null are left out.
    ///
    /// # Errors
    /// What the database says.
    fn names(&mut self, sql: &str) -> Result<Vec<String>, TargetError> {
        Ok(self.query(sql)?.into_iter().filter_map(|row| row.into_iter().next()?).collect())
    }

    /// The first row of an answer, as counts.
    ///
    /// # Errors
    /// What the database says.
    fn counts(&mut self, sql: &str) -> Result<Vec<u64>, TargetError> {
        let row = self.query(sql)?.into_iter().next().unwrap_or_default();
        let count = |value: Option<String>| value.and_then(|count| count.parse().ok());
        Ok(row.into_iter().map(|value| count(value).unwrap_or(0)).collect())
    }

    /// Asks several questions, at once where that is faster.
    ///
    /// # Errors
    /// What the database says to the first that fails.
    fn query_all(&mut self, questions: &[String]) -> Result<Vec<Answers>, TargetError> {
        questions.iter().map(|sql| self.query(sql)).collect()
    }

    /// Asks once more what was [asked at once](Self::query_all), where the answer was not the expected one: of the connection of
    /// the load alone.
    ///
    /// # Errors
    /// What the database says.
    fn query_again(&mut self, sql: &str) -> Result<Answers, TargetError> {
        self.query(sql)
    }

    /// How many questions are best asked at once.
    fn askers(&self) -> usize {
        1
    }

    /// The table as it is.
    ///
    /// # Errors
    /// A catalog that cannot be read.
    fn existing(&mut self, table: &str) -> Result<Option<Existing>, TargetError>;

    /// What the server has against a load: rights that the user lacks, and what else is in its way there.
    ///
    /// # Errors
    /// A catalog that cannot be read.
    fn objections(&mut self, intent: &Intent<'_>) -> Result<Objections, TargetError>;

    /// How a table is named in a statement.
    fn qualified(&self, table: &str) -> String {
        sql::qualified(self.language(), None, table)
    }
}

/// A database whose tables can be made, named and removed.
pub trait Define: Ask {
    /// Executes a statement; returns how many rows it changed, where the server says so.
    ///
    /// # Errors
    /// What the database says.
    fn execute(&mut self, sql: &str) -> Result<Option<u64>, TargetError>;

    /// Whether a transaction undoes definitions of tables too.
    fn is_transactional(&self) -> bool;

    /// Removes what loads left behind that were killed. What could not be taken back is finished, and returned.
    ///
    /// # Errors
    /// What the database says.
    fn sweep(&mut self) -> Result<Vec<Finished>, TargetError> {
        Ok(Vec::new())
    }

    /// A name for a table that is not finished.
    ///
    /// # Errors
    /// A database that cannot be asked which are free.
    fn unfinished_name(&mut self) -> Result<String, TargetError>;

    /// Makes types, which may be there already. Few databases have types of a column's own.
    ///
    /// # Errors
    /// A type of the name that is another one.
    fn make_types(&mut self, _types: &[NamedType], _table: &str) -> Result<(), TargetError> {
        Ok(())
    }

    /// Gives a table its name, in place of another one where there is one.
    ///
    /// # Errors
    /// What the database says.
    fn put_in_place(&mut self, stage: &str, table: &str, replaces: bool)
    -> Result<(), TargetError>;

    /// Ends a load that went well.
    ///
    /// # Errors
    /// What the database says.
    fn commit(&mut self) -> Result<(), TargetError>;

    /// Undoes what was done, as far as that is possible.
    fn undo(&mut self, stage: Option<&str>);

    /// Closes the database.
    ///
    /// # Errors
    /// A database that cannot be finished.
    fn close(self) -> Result<(), TargetError>
    where
        Self: Sized,
    {
        Ok(())
    }
}

/// A database that takes rows, and moves them from one table to another.
pub trait MoveRows: Define + Sized {
    /// What makes of batches what is sent.
    type Rows: RowEncoder;

    /// The encoder for a table.
    fn rows(&self, schema: &Schema) -> Self::Rows;

    /// Sends rows to a table, given by its qualified name. Returns what was sent.
    ///
    /// # Errors
    /// What the database says, and a feed that was given up.
    fn bulk(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<<Self::Rows as RowEncoder>::Block>,
    ) -> Result<SentFacts, TargetError>;

    /// Sends rows to a table over this connection alone, in its transaction. Returns what was sent, and how many rows the table
    /// took.
    ///
    /// # Errors
    /// Those of [`bulk`](Self::bulk).
    fn bulk_alone(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<<Self::Rows as RowEncoder>::Block>,
    ) -> Result<(SentFacts, u64), TargetError> {
        self.bulk(table, schema, feed).map(|sent| (sent.clone(), sent.rows))
    }

    /// Sends rows to a table beside so that it hands them out [as they were sent](RowOrder::AsSent), where it can.
    ///
    /// # Errors
    /// Those of [`bulk`](Self::bulk).
    fn bulk_in_order(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<<Self::Rows as RowEncoder>::Block>,
    ) -> Result<SentFacts, TargetError> {
        self.bulk(table, schema, feed)
    }

    /// The rows of a table that this transaction added, as something to select from; nothing where they are not known.
    ///
    /// # Errors
    /// What the database says.
    fn own_rows(&mut self, _table: &str) -> Result<Option<String>, TargetError> {
        Ok(None)
    }

    /// Gives back the room that rows took in a table which went [straight](Adding::Straight) into it and were undone.
    fn tidy(&mut self, _table: &str) {}

    /// Adds the rows of a query to a table that exists, all or none; returns how many, where the server says
    /// so. `rows` of them are expected, and `adding` is what the catalog said of the table.
    ///
    /// # Errors
    /// What the database says.
    fn insert(
        &mut self,
        table: &str,
        columns: &str,
        select: &str,
        _rows: u64,
        _adding: &Adding,
    ) -> Result<Option<u64>, TargetError> {
        let insert = self.language().insert(table, columns);
        self.execute(&format!("{insert} {select}"))
    }

    /// Makes a table beside one that takes rows in [parts](Adding::ByParts), by its qualified name: one as it is.
    ///
    /// # Errors
    /// What the database says; there are no parts in most.
    fn make_alike(&mut self, _stage: &str, table: &str) -> Result<(), TargetError> {
        Err(has_no_parts(self, table))
    }

    /// Gives the rows of a table that was [made alike](Self::make_alike) over to the one that it is like, and removes it, also
    /// where that fails, unless some of them are there already.
    ///
    /// # Errors
    /// What the database says.
    fn give_parts(
        &mut self,
        _stage: &str,
        table: &str,
        _rows: (u64, &str),
    ) -> Result<(), TargetError> {
        Err(has_no_parts(self, table))
    }

    /// Keeps other loads that look for keys in a table from doing so until this one ends: each would find that none of its keys
    /// is there, and add all of them.
    ///
    /// # Errors
    /// What the database says, and a load that is at work, where nobody waits for it.
    fn lock_keys(&mut self, table: &str) -> Result<(), TargetError>;

    /// In which order rows of a table that was filled by [`bulk`](Self::bulk) are handed out where none is asked for.
    fn row_order(&self) -> RowOrder {
        RowOrder::Any
    }

    /// Removes the rows of a table whose place others take, unless that happens when those are
    /// [inserted](Self::insert).
    ///
    /// # Errors
    /// What the database says.
    fn clear(&mut self, table: &str, _adding: &Adding) -> Result<(), TargetError> {
        self.execute(&format!("DELETE FROM {table}")).map(|_| ())
    }

    /// Numbers that the server gives go on behind those that were loaded.
    ///
    /// # Errors
    /// What the database says.
    fn advance_numbers(&mut self, _table: &str, _column: &str) -> Result<(), TargetError> {
        Ok(())
    }

    /// Whether rows that are added to a table appear with the commit, rather than by being added.
    fn adds_by_commit(&self) -> bool {
        self.is_transactional()
    }

    /// Whether rows that take the place of others appear with the commit.
    fn refills_by_commit(&self) -> bool {
        self.adds_by_commit()
    }

    /// Ends the statement that this session waits for, at the server, when it is called on another thread.
    fn canceller(&self) -> Canceller {
        Box::new(|| ())
    }

    /// Who asks the server what this session waits for; nobody, where no server is asked.
    ///
    /// # Errors
    /// What the database says.
    fn onlooker(&mut self) -> Result<Option<Onlooker>, TargetError> {
        Ok(None)
    }

    /// How long the server may take to answer an onlooker.
    fn answers_within(&self) -> Duration {
        Duration::ZERO
    }
}

/// That a database has no tables which take rows in parts.
fn has_no_parts(session: &impl Ask, table: &str) -> TargetError {
    let message = format!("{table} takes no parts of another table");
    TargetError::Server { target: session.target(), message, help: String::new() }
}

/// What a load is about to do to a table.
pub struct Intent<'i> {
    /// What happens to it.
    pub action: Action,
    /// Its name, plainly.
    pub table: &'i str,
    /// What is loaded into it.
    pub schema: &'i Schema,
    /// What happens to rows that are there.
    pub seen: Seen,
}

impl Intent<'_> {
    /// Names of the columns that are filled.
    pub fn columns(&self) -> impl Iterator<Item = &str> {
        self.schema.columns.iter().map(|column| column.name.as_str())
    }

    /// Names of the columns whose values would be changed in rows that are there.
    pub fn updated(&self) -> impl Iterator<Item = &str> {
        let key = &self.schema.layout.key;
        let is_updating = self.seen == Seen::Update;
        self.columns().filter(move |name| is_updating && key.iter().all(|key| key != name))
    }
}

/// What a server has against a load, and how it would be done.
#[derive(Default)]
pub struct Objections {
    /// What keeps the load from being done.
    pub problems: Vec<Problem>,
    /// What is worth knowing and stands in nobody's way.
    pub notes: Vec<String>,
    /// How rows come into the table, where it exists.
    pub adding: Adding,
}

/// A load that was killed when its rows were about to become visible, and was finished since.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finished {
    /// The table.
    pub table: String,
    /// The rows of the load.
    pub rows: u64,
}

/// In which order rows are handed out where none is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RowOrder {
    /// As they were sent.
    AsSent,
    /// In one that stays the same as long as nothing is changed.
    Same,
    /// In any, or there are no savepoints in a transaction.
    Any,
}

/// How rows come into a table that exists.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Adding {
    /// By one statement that inserts them.
    #[default]
    ByInsertion,
    /// In parts of a table beside it that is made as it is, which are attached to it.
    ByParts {
        /// The engine of the table.
        engine: String,
        /// Whether the table beside takes rows as they are sent, so that they need not go through another one before.
        as_sent: bool,
    },
    /// In a table beside it that is made as it is, and gets its name.
    ByExchange,
    /// Straight into it, in a transaction: the user may make no table beside. Columns are those that a new table would
    /// have.
    Directly,
    /// The same, where that is faster, and the database can be asked about the rows of a transaction alone.
    Straight {
        /// The fewest bytes of an input for which it is faster: the rows of the table that are there may have to be passed over to
        /// find those.
        least_input: u64,
    },
}
