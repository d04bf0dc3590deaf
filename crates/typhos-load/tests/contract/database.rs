//! A database that talks to nobody: it writes down what it is told, and answers as it is told to.

use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use arrow_array::RecordBatch;
use typhos_core::schema::Schema;
use typhos_load::feed::{Feed, RowEncoder};
use typhos_load::proof::SentFacts;
use typhos_load::table::{
    Answers, Ask, Define, Finished, Intent, MoveRows, Objections, TableTarget, UNFINISHED,
};
use typhos_load::{
    Awaited, Destination, Job, LoadError, LoadPlan, LoadReport, LoadRun, TargetError, plan_of,
};
use typhos_sql::held::Existing;
use typhos_sql::{Language, Postgres};

/// A database, and how it behaves.
#[derive(Debug, Clone, Default)]
pub struct Database {
    /// The table that is there.
    pub existing: Option<Existing>,
    /// Definitions of tables are there at once.
    pub has_no_transactions: bool,
    /// The beginning of a statement that fails.
    pub refuses: Option<&'static str>,
    /// What it answers to questions with some words.
    pub answers: Vec<(&'static str, Vec<String>)>,
    /// What it says of statements with some beginning.
    pub changes: Vec<(&'static str, u64)>,
    /// What it was told.
    pub said: Arc<Mutex<Vec<String>>>,
}

impl Database {
    /// Answers every question that has these words with one row; the last one that is known counts.
    pub fn answer(mut self, words: &'static str, row: &[&str]) -> Database {
        self.answers.push((words, row.iter().map(|&value| value.to_owned()).collect()));
        self
    }

    /// Says that a statement that begins so changed so many rows.
    pub fn changes(mut self, statement: &'static str, rows: u64) -> Database {
        self.changes.push((statement, rows));
        self
    }

    /// What it was told.
    pub fn said(&self) -> Vec<String> {
        self.said.lock().unwrap().clone()
    }

    fn note(&self, what: impl Into<String>) {
        self.said.lock().unwrap().push(what.into());
    }

    fn target(&self) -> TableTarget<Database> {
        TableTarget { session: self.clone(), table: "boats".into() }
    }
}

/// Statements by their first words.
pub fn short(said: &[String]) -> Vec<String> {
    let known = ["CREATE TABLE", "CREATE TEMPORARY TABLE", "INSERT", "UPDATE", "SELECT"];
    let short = |what: &String| known.iter().find(|words| what.starts_with(**words)).copied();
    said.iter().map(|what| short(what).unwrap_or(what).to_owned()).collect()
}

impl Destination for Database {
    fn rejects(&self) -> PathBuf {
        "boats.rejects.csv".into()
    }

    fn awaited(&self) -> Awaited {
        Awaited::Unseen
    }

    fn plan(&self, job: &Job<'_>) -> Result<LoadPlan, LoadError> {
        plan_of(self.target(), job)
    }

    fn load(&self, run: LoadRun<'_>) -> Result<LoadReport, LoadError> {
        run.into(self.target())
    }
}

impl Ask for Database {
    fn language(&self) -> &dyn Language {
        &Postgres
    }

    fn target(&self) -> String {
        "a quiet database".into()
    }

    fn server(&self) -> Option<String> {
        None
    }

    fn query(&mut self, sql: &str) -> Result<Answers, TargetError> {
        self.note(sql);
        let known = self.answers.iter().rev().find(|(words, _)| sql.contains(words));
        let (_, row) = known.unwrap_or_else(|| panic!("nobody said how to answer: {sql}"));
        Ok(vec![row.iter().cloned().map(Some).collect()])
    }

    fn existing(&mut self, table: &str) -> Result<Option<Existing>, TargetError> {
        assert_eq!(table, "boats");
        Ok(self.existing.clone())
    }

    fn objections(&mut self, _intent: &Intent<'_>) -> Result<Objections, TargetError> {
        Ok(Objections::default())
    }
}

impl Define for Database {
    fn execute(&mut self, sql: &str) -> Result<Option<u64>, TargetError> {
        self.note(sql);
        if self.refuses.is_some_and(|refused| sql.starts_with(refused)) {
            let full = std::io::Error::other("the disk of the server is full");
            return Err(TargetError::io("database".as_ref())(full));
        }
        let changed = self.changes.iter().find(|(statement, _)| sql.starts_with(statement));
        Ok(changed.map(|(_, rows)| *rows))
    }

    fn is_transactional(&self) -> bool {
        !self.has_no_transactions
    }

    fn sweep(&mut self) -> Result<Vec<Finished>, TargetError> {
        self.note("sweep");
        Ok(Vec::new())
    }

    fn unfinished_name(&mut self) -> Result<String, TargetError> {
        Ok(format!("{UNFINISHED}abc"))
    }

    fn put_in_place(
        &mut self,
        stage: &str,
        _table: &str,
        replaces: bool,
    ) -> Result<(), TargetError> {
        assert!(stage.contains(UNFINISHED), "{stage}");
        self.note(if replaces { "replace" } else { "rename" });
        Ok(())
    }

    fn commit(&mut self) -> Result<(), TargetError> {
        self.execute("COMMIT").map(|_| ())
    }

    fn undo(&mut self, _stage: Option<&str>) {
        self.note("undo");
    }

    fn close(self) -> Result<(), TargetError> {
        self.note("close");
        Ok(())
    }
}

/// Counts rows.
pub struct Counted;

impl RowEncoder for Counted {
    type Block = usize;

    fn start(&self) -> usize {
        0
    }

    fn encode(&self, batch: &RecordBatch, block: &mut usize) -> Result<(), TargetError> {
        *block += batch.num_rows();
        Ok(())
    }
}

impl MoveRows for Database {
    type Rows = Counted;

    fn rows(&self, _schema: &Schema) -> Counted {
        Counted
    }

    fn bulk(
        &mut self,
        _table: &str,
        _schema: &Schema,
        mut feed: Feed<usize>,
    ) -> Result<SentFacts, TargetError> {
        let mut rows = 0;
        while let Some(block) = feed.take().map_err(|_| TargetError::GivenUp)? {
            rows += block;
        }
        self.note(format!("rows: {rows}"));
        feed.into_sent()
    }

    fn lock_keys(&mut self, table: &str) -> Result<(), TargetError> {
        self.note(format!("lock the keys of {table}"));
        Ok(())
    }
}
