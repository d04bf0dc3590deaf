//! A load into a table, step by step, the same for every database.
//!
//! A [`Session`] knows how to talk to one kind of database. The steps: a table beside, or where a
//! transaction covers definitions the table itself; rows into it; the proof; and only then the move to
//! where readers see them. Whatever fails before that is undone, and what a killed program left behind is
//! swept by the next load.

use typhos_core::run::RunOptions;
use typhos_core::schema::{ColumnDecl, Layout, Schema, Type};
use typhos_core::wording::listed;

use crate::feed::{Feed, FeedEncoder, FeedSink, RowEncoder};
use crate::preflight::{Action, LoadPlan, Problem, Wanted, plan_table};
use crate::proof::{Asked, Facts, Proof, compare};
use crate::sql::held::{Existing, Filled};
use crate::sql::{self, Definition, Language};
use crate::{Done, Job, Moved, Seen, Target, TargetError};

/// What tables are called that are not finished, before letters of their own.
pub(crate) const UNFINISHED: &str = "typhos_unfinished_";

/// Keys that are named where rows are there already.
const SHOWN_KEYS: usize = 5;

/// Columns that are asked about at once.
const ASKED_COLUMNS: usize = 100;

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

    /// What the user may not do, of what the action needs.
    fn rights(&mut self, action: Action, table: &str) -> Result<Vec<Problem>, TargetError>;

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

    /// Makes types, which may be there already.
    fn make_types(&mut self, definition: &Definition) -> Result<(), TargetError> {
        definition.types.iter().try_for_each(|sql| self.execute(sql).map(|_| ()))
    }

    /// Sends rows to a table, given by its qualified name. Returns what was sent.
    fn bulk(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<<Self::Rows as RowEncoder>::Block>,
    ) -> Result<Facts, TargetError>;

    /// Gives a table its name, in place of another one where there is one.
    fn put_in_place(&mut self, stage: &str, table: &str, replaces: bool)
    -> Result<(), TargetError>;

    /// Numbers that the server gives go on behind those that were loaded.
    fn advance_numbers(&mut self, _table: &str, _column: &str) -> Result<(), TargetError> {
        Ok(())
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
    let rights = session.rights(plan.action, table)?;
    plan.problems.extend(rights);
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
    /// Whether nobody has looked for keys that come twice.
    asks_for_repeats: bool,
    existing: Option<Existing>,
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
    let schema = job.plan.schema().clone();
    let columns = schema.columns.len();
    let encoder = FeedEncoder::new(session.rows(&schema), columns, job.is_proven);
    let steps = Steps {
        action: plan.action,
        schema,
        table: table.to_owned(),
        seen: job.seen,
        is_proven: job.is_proven,
        asks_for_repeats: job.input.is_stream(),
        existing,
    };
    let sink = FeedSink::start(columns, move |feed| {
        let mut stage = None;
        let result = steps.run(&mut session, feed, &mut stage);
        match result {
            Ok(done) => session.close().map(|()| done),
            Err(error) => {
                session.undo(stage.as_deref());
                Err(error)
            }
        }
    });
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
        let mut definition = sql::define(session.language(), &staged, &stage, &self.table);
        if whole && self.action == Action::Append {
            definition.table =
                definition.table.replacen("CREATE TABLE", "CREATE TEMPORARY TABLE", 1);
        }
        session.make_types(&definition)?;
        session.execute(&definition.table)?;
        for comment in &definition.comments {
            session.execute(comment)?;
        }
        let sent = session.bulk(&stage, &staged, feed)?;
        let proof = self.prove(session, &stage, &staged, &sent)?;
        if self.asks_for_repeats {
            self.find_repeats(session, &stage)?;
        }
        let moved = match self.action {
            Action::Append => self.move_rows(session, &stage, &table, &sent)?,
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
            // No type is made for a table that goes away.
            if language.stored(&self.table, column).type_definition.is_some() {
                column.ty = Type::Lowcard;
            }
        }
        schema
    }

    fn prove<S: Session>(
        &self,
        session: &mut S,
        stage: &str,
        staged: &Schema,
        sent: &Facts,
    ) -> Result<Proof, TargetError> {
        let mut wrong = Vec::new();
        let count_rows = |count: Option<String>, wrong: &mut Vec<String>| {
            let there = count.and_then(|count| count.parse::<u64>().ok());
            if there != Some(sent.rows) {
                let there = there.map_or("an unknown number".into(), |rows| rows.to_string());
                wrong.push(format!("{} rows were sent, {there} are there", sent.rows));
            }
        };
        if !self.is_proven {
            let count = session.query(&format!("SELECT count(*) FROM {stage}"))?;
            count_rows(
                count.into_iter().next().and_then(|row| row.into_iter().next()?),
                &mut wrong,
            );
            return match wrong.is_empty() {
                true => Ok(Proof::Skipped),
                false => Err(self.unproven(session, wrong)),
            };
        }
        let mut facts = 1;
        let columns: Vec<_> = staged.columns.iter().zip(&sent.columns).collect();
        let share = columns.len().div_ceil(session.askers()).clamp(1, ASKED_COLUMNS);
        let asked: Vec<Vec<Asked>> = columns
            .chunks(share)
            .map(|columns| {
                let ask = |(column, _): &(&ColumnDecl, _)| {
                    let quoted = session.language().identifier(&column.name);
                    session.language().asked(column.ty, &quoted)
                };
                columns.iter().map(ask).collect()
            })
            .collect();
        let questions = columns.chunks(share).zip(&asked).map(|(columns, asked)| {
            let mut questions = vec!["count(*)".to_owned()];
            for ((column, _), asked) in columns.iter().zip(asked) {
                let quoted = session.language().identifier(&column.name);
                questions.push(session.language().counted(column.ty, &quoted));
                questions.extend(asked.questions().cloned());
            }
            format!("SELECT {} FROM {stage}", questions.join(", "))
        });
        let questions: Vec<String> = questions.collect();
        let answers = session.query_all(&questions)?;
        for ((columns, asked), answers) in columns.chunks(share).zip(&asked).zip(answers) {
            let mut answers = answers.into_iter().next().unwrap_or_default().into_iter();
            count_rows(answers.next().flatten(), &mut wrong);
            for ((column, sent), asked) in columns.iter().zip(asked) {
                match compare(&column.name, column.ty, sent, asked, &mut answers) {
                    Ok(compared) => facts += compared,
                    Err(differences) => wrong.extend(differences),
                }
            }
        }
        if wrong.is_empty() {
            Ok(Proof::Proven { facts, rows: sent.rows })
        } else {
            Err(self.unproven(session, wrong))
        }
    }

    fn unproven<S: Session>(&self, session: &S, differences: Vec<String>) -> TargetError {
        TargetError::Unproven {
            target: format!("{} table '{}'", session.target(), self.table),
            differences,
        }
    }

    /// Keys that come twice in what was sent, where that was a stream: of it nobody knows the lines.
    fn find_repeats<S: Session>(&self, session: &mut S, stage: &str) -> Result<(), TargetError> {
        let key = &self.schema.layout.key;
        if key.is_empty() {
            return Ok(());
        }
        let columns: Vec<_> = key.iter().map(|name| session.language().identifier(name)).collect();
        let columns = columns.join(", ");
        let sql = format!(
            "SELECT {columns} FROM {stage} GROUP BY {columns} HAVING count(*) > 1 ORDER BY {columns} LIMIT {SHOWN_KEYS}"
        );
        let found = session.query(&sql)?;
        if found.is_empty() {
            return Ok(());
        }
        let keys: Vec<_> = found.into_iter().map(key_text).collect();
        Err(TargetError::RepeatedInStream { columns: listed(key), keys })
    }

    /// Rows that were proven go to where they belong.
    fn move_rows<S: Session>(
        &self,
        session: &mut S,
        stage: &str,
        table: &str,
        sent: &Facts,
    ) -> Result<Moved, TargetError> {
        let language = session.language();
        let there = self.existing.as_ref().map_or(&[][..], |existing| &existing.columns);
        let staged = |name: &String| {
            let ty =
                there.iter().find(|column| column.name == *name).map_or("", |column| &column.ty);
            language.cast(&format!("s.{}", language.identifier(name)), ty)
        };
        let names: Vec<_> = self.schema.columns.iter().map(|column| &column.name).collect();
        let quoted: Vec<_> = names.iter().map(|name| language.identifier(name)).collect();
        let values: Vec<_> = names.iter().map(|name| staged(name)).collect();
        let key = &self.schema.layout.key;
        let pairs: Vec<_> =
            key.iter().map(|name| (language.identifier(name), staged(name))).collect();
        let is_there = (!key.is_empty()).then(|| language.is_there(table, &pairs));
        let insert = language.insert(table, &quoted.join(", "));
        let select = format!("SELECT {} FROM {stage} s", values.join(", "));
        let changed: Vec<_> = names
            .iter()
            .filter(|name| !key.contains(name))
            .map(|name| (language.identifier(name), staged(name)))
            .collect();
        let update = language.update(table, stage, &changed, &pairs);
        let first = key.iter().map(|name| format!("s.{}", language.identifier(name)));
        let first = first.collect::<Vec<_>>().join(", ");

        if !session.is_transactional() {
            let begin = session.language().begin();
            session.execute(begin)?;
        }
        let mut moved = Moved::default();
        if let Some(is_there) = &is_there {
            let count =
                session.query(&format!("SELECT count(*) FROM {stage} s WHERE {is_there}"))?;
            let count =
                count.first().and_then(|row| row.first()?.as_ref()?.parse().ok()).unwrap_or(0);
            match self.seen {
                Seen::Stop if count > 0 => {
                    let sql = format!(
                        "SELECT {first} FROM {stage} s WHERE {is_there} ORDER BY {first} LIMIT {SHOWN_KEYS}"
                    );
                    let keys = session.query(&sql)?.into_iter().map(key_text).collect();
                    return Err(TargetError::Seen {
                        table: self.table.clone(),
                        columns: listed(key),
                        count,
                        keys,
                    });
                }
                Seen::Stop => {}
                Seen::Skip => moved.skipped = count,
                Seen::Update => {
                    if let (true, false, Some(update)) = (count > 0, changed.is_empty(), update) {
                        session.execute(&update)?;
                    }
                    moved.updated = count;
                }
            }
        }
        let rest = match &is_there {
            Some(is_there) if moved.skipped + moved.updated > 0 => {
                format!(" WHERE NOT ({is_there})")
            }
            _ => String::new(),
        };
        let wanted = sent.rows - moved.skipped - moved.updated;
        let inserted = session.execute(&format!("{insert} {select}{rest}"))?;
        moved.inserted = wanted;
        if inserted.is_some_and(|inserted| inserted != wanted) {
            let difference = format!(
                "{wanted} rows were to be added, the server added {}",
                inserted.unwrap_or(0)
            );
            return Err(self.unproven(session, vec![difference]));
        }
        Ok(moved)
    }
}

/// A key as it is named in a message.
fn key_text(key: Vec<Option<String>>) -> String {
    key.into_iter().map(Option::unwrap_or_default).collect::<Vec<_>>().join(", ")
}
