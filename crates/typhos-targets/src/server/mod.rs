//! A load into a table, step by step, the same for every database.
//!
//! A [`Session`] knows how to talk to one kind of database. The steps: a table beside, or where a
//! transaction covers definitions the table itself; rows into it; the proof; and only then the move to
//! where readers see them. Whatever fails before that is undone, and what a killed program left behind is
//! swept by the next load.

mod moving;
mod proving;

use std::sync::Arc;

use typhos_core::run::RunOptions;
use typhos_core::schema::{Layout, Schema, Type};

use crate::feed::{Canceller, Feed, FeedEncoder, FeedSink, RowEncoder};
use crate::preflight::{Action, LoadPlan, Problem, Wanted, plan_table};
use crate::proof::{Facts, Proof};
use crate::sql::held::{Existing, Filled};
use crate::sql::{self, Language, NamedType};
use crate::{Done, Gate, Job, Moved, Seen, Target, TargetError};

/// What tables are called that are not finished, before letters of their own.
pub(crate) const UNFINISHED: &str = "typhos_unfinished_";

/// Rows of a query, as text.
pub(crate) type Answers = Vec<Vec<Option<String>>>;

/// A connection to a database.
pub(crate) trait Session: Send + Sized + 'static {
    type Rows: RowEncoder;

    fn language(&self) -> &dyn Language;

    /// Where it is, without a password.
    fn target(&self) -> String;

    /// The server and its version.
    fn server(&self) -> Option<String>;

    fn rows(&self, schema: &Schema) -> Self::Rows;

    fn query(&mut self, sql: &str) -> Result<Answers, TargetError>;

    /// The first value of the first row of an answer.
    fn one(&mut self, sql: &str) -> Result<Option<String>, TargetError> {
        Ok(self.query(sql)?.into_iter().next().and_then(|row| row.into_iter().next()?))
    }

    /// The first value of every row of an answer; those that are null are left out.
    fn names(&mut self, sql: &str) -> Result<Vec<String>, TargetError> {
        Ok(self.query(sql)?.into_iter().filter_map(|row| row.into_iter().next()?).collect())
    }

    /// The first row of an answer, as counts.
    fn counts(&mut self, sql: &str) -> Result<Vec<u64>, TargetError> {
        let row = self.query(sql)?.into_iter().next().unwrap_or_default();
        let count = |value: Option<String>| value.and_then(|count| count.parse().ok());
        Ok(row.into_iter().map(|value| count(value).unwrap_or(0)).collect())
    }

    /// Asks several questions, at once where that is faster.
    fn query_all(&mut self, questions: &[String]) -> Result<Vec<Answers>, TargetError> {
        questions.iter().map(|sql| self.query(sql)).collect()
    }

    /// How many questions are best asked at once.
    fn askers(&self) -> usize {
        1
    }

    /// Executes a statement; returns how many rows it changed, where the server says so.
    fn execute(&mut self, sql: &str) -> Result<Option<u64>, TargetError>;

    /// The table as it is.
    fn existing(&mut self, table: &str) -> Result<Option<Existing>, TargetError>;

    /// What the server has against a load: rights that the user lacks, and what else is in its way there.
    fn objections(&mut self, intent: &Intent<'_>) -> Result<Objections, TargetError>;

    fn qualified(&self, table: &str) -> String {
        sql::qualified(self.language(), None, table)
    }

    /// Whether a transaction undoes definitions of tables too.
    fn is_transactional(&self) -> bool;

    /// Removes what loads left behind that were killed.
    fn sweep(&mut self) -> Result<(), TargetError> {
        Ok(())
    }

    /// A name for a table that is not finished.
    fn unfinished_name(&mut self) -> Result<String, TargetError>;

    /// Makes types, which may be there already. Few databases have types of a column's own.
    fn make_types(&mut self, _types: &[NamedType], _table: &str) -> Result<(), TargetError> {
        Ok(())
    }

    /// Sends rows to a table, given by its qualified name. Returns what was sent.
    fn bulk(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<<Self::Rows as RowEncoder>::Block>,
    ) -> Result<Facts, TargetError>;

    /// Adds the rows of a query to a table that exists, all or none; returns how many, where the server says
    /// so. `rows` of them are expected.
    fn insert(
        &mut self,
        table: &str,
        columns: &str,
        select: &str,
        _rows: u64,
    ) -> Result<Option<u64>, TargetError> {
        let insert = self.language().insert(table, columns);
        self.execute(&format!("{insert} {select}"))
    }

    /// Gives a table its name, in place of another one where there is one.
    fn put_in_place(&mut self, stage: &str, table: &str, replaces: bool)
    -> Result<(), TargetError>;

    /// Numbers that the server gives go on behind those that were loaded.
    fn advance_numbers(&mut self, _table: &str, _column: &str) -> Result<(), TargetError> {
        Ok(())
    }

    /// Whether rows that are added to a table appear with the commit, rather than by being added.
    fn adds_by_commit(&self) -> bool {
        self.is_transactional()
    }

    /// Ends the statement that this session waits for, at the server, when it is called on another thread.
    fn canceller(&self) -> Canceller {
        Box::new(|| ())
    }

    /// Ends a load that went well.
    fn commit(&mut self) -> Result<(), TargetError>;

    /// Undoes what was done, as far as that is possible.
    fn undo(&mut self, stage: Option<&str>);

    /// Closes the database.
    fn close(self) -> Result<(), TargetError> {
        Ok(())
    }
}

/// What a load is about to do to a table.
pub(crate) struct Intent<'i> {
    pub action: Action,
    pub table: &'i str,
    pub schema: &'i Schema,
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

/// What a server has against a load.
#[derive(Default)]
pub(crate) struct Objections {
    pub problems: Vec<Problem>,
    /// What is worth knowing and stands in nobody's way.
    pub notes: Vec<String>,
}

/// Plans a load into a table and asks the catalog whether it can be done.
fn preflight<S: Session>(
    session: &mut S,
    job: &Job<'_>,
    table: &str,
) -> Result<(LoadPlan, Option<Existing>), TargetError> {
    let existing = session.existing(table)?;
    let qualified = session.qualified(table);
    let wanted = Wanted {
        plan: job.plan,
        names: job.input.names(),
        mode: job.mode,
        seen: job.seen,
        table,
        qualified,
    };
    let (target, server) = (session.target(), session.server());
    let mut plan = plan_table(&wanted, session.language(), existing.as_ref(), target, server);
    let has_key = !job.plan.schema().layout.key.is_empty();
    if plan.action == Action::Append
        && job.seen == Seen::Update
        && session.language().update("", "", &[], &[]).is_none()
    {
        plan.problems.push(Problem::new(
            format!("{} updates no rows", session.language().name()),
            "pass --seen skip, or --mode replace",
        ));
    }
    if job.seen != Seen::Stop && !has_key {
        plan.problems.push(Problem::new(
            "no key is declared, so no row is known to be there already",
            "declare it under [layout]: key = [\"…\"], or drop --seen",
        ));
    }
    let schema = job.plan.schema();
    let intent = Intent { action: plan.action, table, schema, seen: job.seen };
    let Objections { problems, notes } = session.objections(&intent)?;
    plan.problems.extend(problems);
    plan.notes.extend(notes);
    Ok((plan, existing))
}

/// A table that rows can go to.
pub(crate) struct TableTarget<S> {
    pub session: S,
    pub table: String,
}

impl<S: Session> Target for TableTarget<S> {
    type Encoder = FeedEncoder<S::Rows>;
    type Sink = FeedSink<<S::Rows as RowEncoder>::Block>;

    fn plan(&mut self, job: &Job<'_>) -> Result<LoadPlan, TargetError> {
        preflight(&mut self.session, job, &self.table).map(|(plan, _)| plan)
    }

    fn open(
        self,
        job: &Job<'_>,
        _run: &mut RunOptions,
    ) -> Result<(Self::Encoder, Self::Sink), TargetError> {
        open(self.session, job, &self.table)
    }
}

/// Everything that a load into a table needs, and that outlives the caller's borrows.
struct Steps {
    action: Action,
    schema: Schema,
    table: String,
    seen: Seen,
    is_proven: bool,
    existing: Option<Existing>,
    gate: Arc<Gate>,
}

/// The encoder and the sink of a session.
type Halves<S> =
    (FeedEncoder<<S as Session>::Rows>, FeedSink<<<S as Session>::Rows as RowEncoder>::Block>);

/// Opens a load into a table that the preflight found nothing against.
///
/// # Errors
/// What the preflight found.
fn open<S: Session>(mut session: S, job: &Job<'_>, table: &str) -> Result<Halves<S>, TargetError> {
    let (plan, existing) = preflight(&mut session, job, table)?;
    if !plan.problems.is_empty() {
        return Err(TargetError::Preflight(Box::new(plan)));
    }
    session.sweep()?;
    let mut schema = job.plan.schema().clone();
    // Tables beside have no key, and what is part of it is never null all the same.
    let Schema { columns, layout, .. } = &mut schema;
    for column in columns.iter_mut().filter(|column| layout.key.contains(&column.name)) {
        column.required = true;
    }
    let columns = schema.columns.len();
    let encoder = FeedEncoder::new(session.rows(&schema), columns, job.is_proven);
    let steps = Steps {
        action: plan.action,
        schema,
        table: table.to_owned(),
        seen: job.seen,
        is_proven: job.is_proven,
        existing,
        gate: job.gate.clone(),
    };
    let cancel = session.canceller();
    let sink = FeedSink::start(columns, job.gate.clone(), cancel, move |feed| {
        let mut stage = None;
        let result = steps.run(&mut session, feed, &mut stage);
        match result {
            Ok(done) => session.close().map(|()| done),
            Err(error) => {
                let was_called_off = steps.gate.check();
                steps.gate.begin_undo();
                session.undo(stage.as_deref());
                // What a server says of a statement that was ended is nobody's question.
                was_called_off.and(Err(error))
            }
        }
    })?;
    Ok((encoder, sink))
}

impl Steps {
    fn run<S: Session>(
        &self,
        session: &mut S,
        feed: Feed<<S::Rows as RowEncoder>::Block>,
        undo: &mut Option<String>,
    ) -> Result<Done, TargetError> {
        let table = session.qualified(&self.table);
        let whole = session.is_transactional();
        if whole {
            let begin = session.language().begin();
            session.execute(begin)?;
        }
        let is_direct = whole && self.action == Action::Create;
        let stage = if is_direct {
            table.clone()
        } else {
            let name = session.unfinished_name()?;
            match (whole, self.action) {
                // A temporary table is in no schema.
                (true, Action::Append) => session.language().identifier(&name),
                _ => session.qualified(&name),
            }
        };
        if !whole {
            *undo = Some(stage.clone());
        }
        let staged = self.staged_schema(session.language());
        let mut defined = staged.clone();
        if self.action == Action::Append && session.language().widens_floats() {
            let floats = defined.columns.iter_mut().filter(|column| column.ty == Type::Float32);
            floats.for_each(|column| column.ty = Type::Float64);
        }
        let mut definition = sql::define(session.language(), &defined, &stage, &self.table);
        if whole && self.action == Action::Append {
            definition.table =
                definition.table.replacen("CREATE TABLE", "CREATE TEMPORARY TABLE", 1);
        }
        session.make_types(&definition.types, &self.table)?;
        session.execute(&definition.table)?;
        for comment in &definition.comments {
            session.execute(comment)?;
        }
        let sent = session.bulk(&stage, &staged, feed)?;
        self.gate.check()?;
        let proof = self.prove(session, &stage, &staged, &sent)?;
        let appears_by_commit = match self.action {
            Action::Append => session.adds_by_commit(),
            _ => whole,
        };
        if appears_by_commit {
            self.gate.check()?;
        } else {
            self.gate.pass()?;
        }
        let mut proof = proof;
        let moved = match self.action {
            Action::Append => {
                let (moved, is_asked) = self.move_rows(session, &stage, &table, &staged, &sent)?;
                if let Proof::Proven { is_before_move, .. } = &mut proof {
                    *is_before_move = !is_asked;
                }
                moved
            }
            action => {
                if !is_direct {
                    session.put_in_place(&stage, &self.table, action == Action::Replace)?;
                    *undo = None;
                }
                Moved { inserted: sent.rows, ..Moved::default() }
            }
        };
        if self.action == Action::Append {
            let numbered = self.existing.iter().flat_map(|existing| &existing.columns);
            for column in numbered.filter(|column| column.filled == Filled::Numbered) {
                if self.schema.columns.iter().any(|declared| declared.name == column.name) {
                    session.advance_numbers(&self.table, &column.name)?;
                }
            }
        }
        if appears_by_commit {
            self.gate.pass()?;
        }
        session.commit()?;
        if !whole && self.action == Action::Append {
            session.execute(&format!("DROP TABLE {stage}"))?;
            *undo = None;
        }
        Ok(Done { proof, moved, note: None })
    }

    /// What the table is made of that rows go to first.
    fn staged_schema(&self, language: &dyn Language) -> Schema {
        let mut schema = self.schema.clone();
        if self.action != Action::Append {
            return schema;
        }
        schema.layout = Layout::default();
        for column in &mut schema.columns {
            column.default = None;
            column.comment = None;
            // No type and no dictionary is made for a table that goes away.
            let has_type = language.stored(&self.table, column).named_type.is_some();
            if has_type || column.ty == Type::Lowcard {
                column.ty = Type::Text { most: None };
            }
        }
        schema
    }
}
