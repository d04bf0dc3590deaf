//! A table as a target: planned, filled where no reader sees it, proven, moved to where readers see it.

use typhos_core::remedy::Remedy;
use typhos_core::run::RunOptions;
use typhos_core::schema::{ColumnDecl, Held, Scalar, Schema};
use typhos_core::wording::listed;
use typhos_sql as sql;
use typhos_sql::held::{Existing, Filled};

use super::history::{self, FileMark, LoadedBefore};
use super::preflight::{TableRequest, plan_table};
use super::session::{Adding, Finished, Intent, MoveRows, Objections, Session};
use super::steps::Steps;
use crate::contract::{Done, Job, Moved, Seen, Target};
use crate::error::TargetError;
use crate::feed::{Abandoned, Feed, FeedEncoder, FeedSink, Release, RowEncoder};
use crate::load_plan::{Action, LoadPlan, Problem};
use crate::onlooker::Watch;
use crate::proof::Proof;
use crate::refusals;
use crate::witness::Witness;

/// What is known before a load begins.
struct Preflight {
    plan: LoadPlan,
    existing: Option<Existing>,
    adding: Adding,
}

/// Plans a load into a table and asks the catalog whether it can be done.
fn preflight<S: Session>(
    session: &mut S,
    job: &Job<'_>,
    table: &str,
) -> Result<Preflight, TargetError> {
    let existing = session.existing(table)?;
    let qualified = session.qualified(table);
    let wanted = TableRequest {
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
    if plan.action == Action::Refill && job.seen != Seen::Stop {
        plan.problems.push(Problem::new(
            "rows that are there go away, so that none of them is skipped or updated",
            Remedy::of("drop {seen}, or pass {mode = append}"),
        ));
    }
    if plan.action == Action::Append
        && job.seen == Seen::Update
        && session.language().update("", "", &[], &[]).is_none()
    {
        plan.problems.push(Problem::new(
            format!("{} updates no rows", session.language().name()),
            Remedy::of("pass {seen = skip}, or {mode = replace}"),
        ));
    }
    if job.seen != Seen::Stop && !has_key {
        plan.problems.push(Problem::new(
            "no key is declared, so no row is known to be there already",
            Remedy::of("declare it under [layout]: key = [\"…\"], or drop {seen}"),
        ));
    }
    let schema = job.plan.schema();
    let intent = Intent { action: plan.action, table, schema, seen: job.seen };
    let Objections { problems, notes, mut adding } = session.objections(&intent)?;
    if let Adding::Straight { least_input } = adding
        && (job.input.bytes() < least_input
            || !goes_straight(session, job, table, existing.as_ref()))
    {
        adding = Adding::ByInsertion;
    }
    if let Adding::ByParts { as_sent, .. } = &mut adding {
        // Some of the rows stay behind where there is a key, and all of them where they are only counted.
        *as_sent &= !has_key && !job.is_counted;
    }
    plan.problems.extend(problems);
    plan.notes.extend(notes);
    if adding == Adding::Directly {
        let others = other_types(session, schema, table, existing.as_ref());
        if !others.is_empty() {
            plan.problems.push(Problem::outside(
                format!(
                    "without the rights to make a table beside and to drop it rows go into columns of the same types only; {} {}",
                    listed(&others),
                    if others.len() == 1 { "is of another" } else { "are of others" },
                ),
                "GRANT CREATE, DROP ON … TO …, or declare the types that are there",
            ));
        }
    }
    Ok(Preflight { plan, existing, adding })
}

/// The columns whose type in a table that exists is not the one that a new table would have.
fn other_types<S: Session>(
    session: &S,
    schema: &Schema,
    table: &str,
    existing: Option<&Existing>,
) -> Vec<String> {
    let is_other = |column: &&ColumnDecl| {
        let there = existing.and_then(|it| it.columns.iter().find(|it| it.name == column.name));
        let stored = session.language().stored(table, column).ty;
        !there.is_some_and(|there| match &there.held {
            _ if column.ty.is_nested() => false,
            // In the same order, too.
            Held::Listed(values) if column.scalar() == Scalar::Category => *values == column.values,
            _ => session.language().is_same_type(&stored, &there.ty),
        })
    };
    schema.columns.iter().filter(is_other).map(|column| column.name.clone()).collect()
}

/// Whether rows go straight into a table: what is sent is what its columns take as it is.
fn goes_straight<S: Session>(
    session: &S,
    job: &Job<'_>,
    table: &str,
    existing: Option<&Existing>,
) -> bool {
    let schema = job.plan.schema();
    schema.layout.key.is_empty()
        && !job.is_counted
        // Where one was refused, all are looked for, which is done in a table beside.
        && !job.refusals.is_again()
        // They may add rows of their own.
        && job.statements.before.is_empty()
        && other_types(session, schema, table, existing).is_empty()
}

/// A table that rows can go to.
pub struct TableTarget<S> {
    /// The connection to its database.
    pub session: S,
    /// Its name, plainly.
    pub table: String,
}

impl<S: Session> Target for TableTarget<S> {
    type Encoder = Witness<FeedEncoder<S::Rows>>;
    type Sink = FeedSink<<S::Rows as RowEncoder>::Block>;

    fn plan(&mut self, job: &Job<'_>) -> Result<LoadPlan, TargetError> {
        preflight(&mut self.session, job, &self.table).map(|found| found.plan)
    }

    fn counts_rows(&self) -> bool {
        true
    }

    fn loaded_before(
        &mut self,
        files: &[FileMark],
    ) -> Result<Option<Vec<Option<LoadedBefore>>>, TargetError> {
        history::look_up(&mut self.session, &self.table, files).map(Some)
    }

    fn stage(
        self,
        job: &Job<'_>,
        _run: &mut RunOptions,
    ) -> Result<(Self::Encoder, Self::Sink), TargetError> {
        open(self.session, job, &self.table)
    }
}

/// The encoder and the sink of a session.
type Halves<S> = (
    Witness<FeedEncoder<<S as MoveRows>::Rows>>,
    FeedSink<<<S as MoveRows>::Rows as RowEncoder>::Block>,
);

/// Opens a load into a table that the preflight found nothing against.
///
/// # Errors
/// What the preflight found.
fn open<S: Session>(mut session: S, job: &Job<'_>, table: &str) -> Result<Halves<S>, TargetError> {
    let Preflight { plan, existing, adding } = preflight(&mut session, job, table)?;
    if !plan.problems.is_empty() {
        return Err(TargetError::Preflight(Box::new(plan)));
    }
    let finished = session.sweep()?;
    if let Some(Finished { table, rows }) = finished.into_iter().next() {
        return Err(TargetError::Finished { table, rows });
    }
    let mut schema = job.plan.schema().clone();
    // Tables beside have no key, and what is part of it is never null all the same.
    let Schema { columns, layout, .. } = &mut schema;
    for column in columns.iter_mut().filter(|column| layout.key.contains(&column.name)) {
        column.required = true;
    }
    let steps = Steps {
        action: plan.action,
        schema,
        table: table.to_owned(),
        seen: job.seen,
        is_proven: job.is_proven,
        existing,
        adding,
        statements: job.statements.clone(),
        sets_refused_aside: refusals::are_set_aside(job.plan.schema(), job.input),
        in_order: job.refusals.is_again(),
        is_counted: job.is_counted,
        history: if job.is_counted { Vec::new() } else { job.history.to_vec() },
        gate: job.gate.clone(),
    };
    let language = session.language();
    let sent = steps.sent_schema(language);
    let columns = sent.columns.len();
    let flat = |column: &ColumnDecl| column.ty.is_nested() && !language.nests(column);
    let flat = sent.columns.iter().map(flat).collect();
    let encoder = FeedEncoder(session.rows(&sent));
    let encoder = Witness { encoder, columns, keeps_facts: job.is_proven, flat };
    let watch = Watch::new(session.onlooker()?, session.answers_within(), session.target());
    let others = (session.canceller(), watch);
    let sink = FeedSink::start(columns, job.gate.clone(), others, move |feed, release| {
        let mut stage = None;
        let result = steps.run(&mut session, feed, &release, &mut stage);
        match result {
            Ok(done) if steps.is_counted => {
                // All of it was for the count.
                steps.gate.begin_undo();
                session.undo(stage.as_deref());
                Ok(done)
            }
            Ok(done) => session.close().map(|()| done),
            Err(error) => {
                let was_called_off = steps.gate.check();
                steps.gate.begin_undo();
                session.undo(stage.as_deref());
                if matches!(steps.adding, Adding::Straight { .. }) {
                    let table = session.qualified(&steps.table);
                    session.tidy(&table);
                }
                // What a server says of a statement that was ended is nobody's question.
                was_called_off.and(Err(error))
            }
        }
    })?;
    Ok((encoder, sink))
}

impl Steps {
    /// Whether rows appear with the end of a transaction.
    pub(super) fn appears_by_commit<S: Session>(&self, session: &S) -> bool {
        match self.action {
            Action::Append => session.adds_by_commit(),
            Action::Refill => session.refills_by_commit(),
            _ => session.is_transactional(),
        }
    }

    /// Executes what somebody wants to go before the rows.
    pub(super) fn execute_before<S: Session>(&self, session: &mut S) -> Result<(), TargetError> {
        self.statements.before.iter().try_for_each(|sql| session.execute(sql).map(|_| ()))
    }

    /// Makes the table that rows go to first.
    fn define_stage<S: Session>(
        &self,
        session: &mut S,
        stage: &str,
        staged: &Schema,
    ) -> Result<(), TargetError> {
        let mut defined = staged.clone();
        if self.action.keeps_table() && session.language().widens_floats() {
            let floats =
                defined.columns.iter_mut().filter(|column| column.scalar() == Scalar::Float32);
            floats.for_each(|column| column.ty = Scalar::Float64.into());
        }
        let mut definition = sql::define(session.language(), &defined, stage, &self.table);
        if session.is_transactional() && self.action.keeps_table() {
            definition.table =
                definition.table.replacen("CREATE TABLE", "CREATE TEMPORARY TABLE", 1);
        }
        session.make_types(&definition.types, &self.table)?;
        session.execute(&definition.table)?;
        for comment in &definition.comments {
            session.execute(comment)?;
        }
        Ok(())
    }

    /// Numbers that the database gives go on behind those that were loaded.
    fn advance_numbers<S: Session>(&self, session: &mut S) -> Result<(), TargetError> {
        let numbered = self.existing.iter().flat_map(|existing| &existing.columns);
        for column in numbered.filter(|column| column.filled == Filled::Numbered) {
            if self.schema.columns.iter().any(|declared| declared.name == column.name) {
                session.advance_numbers(&self.table, &column.name)?;
            }
        }
        Ok(())
    }

    /// Writes the load down, and executes what somebody wants behind it.
    fn follow<S: Session>(&self, session: &mut S, rows: u64) -> Result<(), TargetError> {
        history::record(session, (&self.table, &self.schema), &self.history, rows)?;
        self.statements.after.iter().try_for_each(|sql| session.execute(sql).map(|_| ()))
    }

    /// Adds rows straight to a table, in one transaction.
    fn run_directly<S: Session>(
        &self,
        session: &mut S,
        table: &str,
        feed: Feed<<S::Rows as RowEncoder>::Block>,
        release: &Release,
    ) -> Result<Done, TargetError> {
        let begin = session.language().begin();
        let whole = session.is_transactional();
        if whole {
            session.execute(begin)?;
        }
        if !self.history.is_empty() {
            history::prepare(session)?;
        }
        if !whole {
            session.execute(begin)?;
        }
        self.execute_before(session)?;
        let (sent, taken) = session.bulk_alone(table, &self.schema, feed)?;
        if taken != sent.rows {
            let said = format!("{} rows were sent, {taken} were added", sent.rows);
            return Err(self.unproven(session, vec![said]));
        }
        self.gate.check()?;
        let own = if self.is_proven { session.own_rows(table)? } else { None };
        let proof = match own {
            Some(own) => self.prove(session, &own, &self.schema, &sent)?,
            None => Proof::Skipped,
        };
        release.proven(&proof)?;
        self.advance_numbers(session)?;
        self.follow(session, sent.rows)?;
        self.gate.pass()?;
        session.commit()?;
        let moved = Moved { inserted: sent.rows, ..Moved::default() };
        Ok(Done { proof, moved, files: Vec::new(), note: None })
    }

    fn run<S: Session>(
        &self,
        session: &mut S,
        feed: Feed<<S::Rows as RowEncoder>::Block>,
        release: &Release,
        undo: &mut Option<String>,
    ) -> Result<Done, TargetError> {
        let table = session.qualified(&self.table);
        match self.adding {
            // Without a key there is nothing to ask.
            Adding::Directly if self.is_counted => {
                let mut feed = feed;
                while feed.take().map_err(|Abandoned| TargetError::GivenUp)?.is_some() {}
                let moved = Moved { inserted: feed.into_sent()?.rows, ..Moved::default() };
                release.proven(&Proof::Skipped)?;
                return Ok(Done { proof: Proof::Skipped, moved, files: Vec::new(), note: None });
            }
            Adding::Directly | Adding::Straight { .. } => {
                return self.run_directly(session, &table, feed, release);
            }
            _ => {}
        }
        let whole = session.is_transactional();
        if whole {
            let begin = session.language().begin();
            session.execute(begin)?;
        }
        if !self.history.is_empty() {
            history::prepare(session)?;
        }
        // Where making a table ends a transaction, that of the load begins when its rows are moved.
        if !self.is_counted && (whole || !self.appears_by_commit(session)) {
            self.execute_before(session)?;
        }
        let is_direct = whole && self.action == Action::Create;
        let stage = if is_direct {
            table.clone()
        } else {
            let name = session.unfinished_name()?;
            match (whole, self.action) {
                // A temporary table is in no schema.
                (true, action) if action.keeps_table() => session.language().identifier(&name),
                _ => session.qualified(&name),
            }
        };
        if !whole {
            *undo = Some(stage.clone());
        }
        let staged = self.sent_schema(session.language());
        match self.given_parts() {
            Some(_) => session.make_alike(&stage, &table)?,
            None => self.define_stage(session, &stage, &staged)?,
        }
        let sent = match self.in_order {
            true => session.bulk_in_order(&stage, &staged, feed)?,
            false => session.bulk(&stage, &staged, feed)?,
        };
        self.gate.check()?;
        let proof = self.prove(session, &stage, &staged, &sent)?;
        release.proven(&proof)?;
        if self.is_counted {
            let (moved, note) = self.count_rows(session, &stage, &table, &sent)?;
            return Ok(Done { proof, moved, files: Vec::new(), note });
        }
        let appears_by_commit = self.appears_by_commit(session);
        if appears_by_commit {
            self.gate.check()?;
        } else {
            self.gate.pass()?;
        }
        let mut proof = proof;
        let moved = match self.action {
            _ if let Some(engine) = self.given_parts() => {
                *undo = None;
                session.give_parts(&stage, &table, (sent.rows, engine))?;
                if let Proof::Proven { is_before_move, .. } = &mut proof {
                    *is_before_move = true;
                }
                Moved { inserted: sent.rows, ..Moved::default() }
            }
            Action::Append | Action::Refill => {
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
        if self.action.keeps_table() {
            self.advance_numbers(session)?;
        }
        self.follow(session, moved.inserted + moved.updated).map_err(|error| {
            match appears_by_commit {
                true => error,
                false => TargetError::Behind(error.to_string()),
            }
        })?;
        if appears_by_commit {
            self.gate.pass()?;
        }
        session.commit()?;
        if !whole && self.action.keeps_table() && self.given_parts().is_none() {
            session.execute(&format!("DROP TABLE {stage}"))?;
            *undo = None;
        }
        Ok(Done { proof, moved, files: Vec::new(), note: None })
    }
}
