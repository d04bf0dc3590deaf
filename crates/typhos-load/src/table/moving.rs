//! The last step of a load into a table that exists: rows that were proven go from the table beside to
//! where they belong, but for those that are there already.

use typhos_core::schema::{ColumnDecl, Schema};
use typhos_core::wording::listed;

use super::proving::{ASKED_COLUMNS, Questions};
use super::refused::Adds;
use super::session::Session;
use super::steps::Steps;
use crate::contract::{Moved, Seen};
use crate::error::TargetError;
use crate::load_plan::Action;
use crate::proof::SentFacts;
use typhos_sql::Language;

/// Keys that are named where rows are there already.
const SHOWN_KEYS: usize = 5;

/// A column on its way.
struct Move<'m> {
    column: &'m ColumnDecl,
    /// Its name in quotes.
    name: String,
    /// Its value in the table beside, as one of the type it gets.
    value: String,
    /// The same, to be compared with values that are there.
    comparable: String,
    is_key: bool,
    /// A condition under which the value would become another one.
    beyond: Option<String>,
    keeps_letters: bool,
}

impl Steps {
    fn moves(&self, language: &dyn Language) -> Vec<Move<'_>> {
        let there = self.existing.as_ref().map_or(&[][..], |existing| &existing.columns);
        let columns = self.schema.columns.iter().map(|column| {
            let name = language.identifier(&column.name);
            let there = there.iter().find(|there| there.name == column.name);
            let staged = format!("s.{name}");
            let there = there.expect("the preflight found every column");
            Move {
                column,
                value: language.cast(&staged, column.scalar(), there),
                comparable: language.comparable(&staged, column.scalar(), there),
                is_key: self.schema.layout.key.contains(&column.name),
                beyond: language.beyond(&staged, column.scalar(), there),
                keeps_letters: language.keeps_letters(there),
                name,
            }
        });
        columns.collect()
    }

    /// Rows that were proven go to where they belong. Says also whether they were proven there once more.
    pub(super) fn move_rows<S: Session>(
        &self,
        session: &mut S,
        stage: &str,
        table: &str,
        staged: &Schema,
        sent: &SentFacts,
    ) -> Result<(Moved, bool), TargetError> {
        // Before anything is read of what others may be about to change.
        if !self.schema.layout.key.is_empty() && self.action == Action::Append {
            session.lock_keys(&self.table)?;
        }
        let moves = self.moves(session.language());
        if !session.is_transactional() {
            let begin = session.language().begin();
            session.execute(begin)?;
            if self.appears_by_commit(session) {
                self.execute_before(session)?;
            }
        }
        for column in &moves {
            let Some(beyond) = &column.beyond else { continue };
            let sql = format!("SELECT count(*) FROM {stage} s WHERE {beyond}");
            let count = session.counts(&sql)?.first().copied().unwrap_or(0);
            if count > 0 {
                return Err(TargetError::cannot_hold(
                    &column.column.name,
                    typhos_core::wording::counted(count, "value"),
                    "cannot be held by the column that is there",
                ));
            }
        }
        let pairs = |of_key: bool| {
            let columns = moves.iter().filter(move |column| column.is_key == of_key);
            columns.map(move |column| {
                let value = if of_key { &column.comparable } else { &column.value };
                (column.name.clone(), value.clone())
            })
        };
        let (key, changed): (Vec<_>, Vec<_>) = (pairs(true).collect(), pairs(false).collect());
        let mut moved = Moved::default();
        let mut rest = String::new();
        if self.action == Action::Refill {
            session.clear(table, &self.adding)?;
        } else if !key.is_empty() {
            let is_there = session.language().is_there(table, &key);
            let sql = format!("SELECT count(*) FROM {stage} s WHERE {is_there}");
            let known = session.counts(&sql)?.first().copied().unwrap_or(0);
            match self.seen {
                Seen::Stop if known > 0 => {
                    return Err(self.seen_keys(session, stage, &is_there, known)?);
                }
                Seen::Stop => {}
                Seen::Skip => moved.skipped = known,
                Seen::Update => {
                    let update = session.language().update(table, stage, &changed, &key);
                    if let (true, false, Some(update)) = (known > 0, changed.is_empty(), update) {
                        session.execute(&update)?;
                    }
                    moved.updated = known;
                }
            }
            if known > 0 {
                rest = format!(" WHERE NOT ({is_there})");
            }
        }
        moved.inserted = sent.rows - moved.skipped - moved.updated;
        let names: Vec<_> = moves.iter().map(|column| column.name.as_str()).collect();
        let names = names.join(", ");
        let values: Vec<_> = moves.iter().map(|column| column.value.as_str()).collect();
        let adds = Adds {
            insert: session.language().insert(table, &names),
            values: values.join(", "),
            stage,
            rest: &rest,
            rows: sent.rows,
        };
        // What became of all that was sent can be asked on the way, where that is what is moved.
        let has_plain = staged.columns.iter().any(|column| !column.ty.is_nested());
        let is_small = has_plain && moves.len() <= ASKED_COLUMNS;
        let is_asked = self.is_proven && rest.is_empty() && is_small;
        let columns = staged.columns.iter().zip(&sent.columns).zip(&moves);
        let columns = columns.map(|((column, sent), moved)| (column, sent, moved));
        let questions = is_asked.then(|| {
            let is_exact = |(column, _, moved): &(&ColumnDecl, &_, &Move<'_>)| {
                moved.keeps_letters && !column.ty.is_nested()
            };
            let exact = columns.clone().filter(is_exact);
            let columns = exact.map(|(column, sent, _)| (column, sent));
            Questions::new(session.language(), sent.rows, columns)
        });
        let asking = questions.as_ref().and_then(|questions| {
            let language = session.language();
            // A list may be in a column that holds JSON or text there; the table beside was asked about it.
            let returned = columns.filter(|(column, ..)| !column.ty.is_nested());
            let returned = returned.map(|(column, _, moved)| {
                (moved.name.clone(), language.stored(&self.table, column).ty)
            });
            language.insert_and_ask(&adds.all(), &returned.collect::<Vec<_>>(), &questions.selected)
        });
        let mut is_asked = false;
        let wrong = match (asking, questions) {
            (Some(asking), Some(questions)) => {
                is_asked = true;
                let answers = self.or_refused(session, &adds, |session| session.query(&asking))?;
                questions.compare(answers).1
            }
            _ => {
                let (select, rows) = (adds.select(), moved.inserted);
                let inserted = self.or_refused(session, &adds, |session| {
                    session.insert(table, &names, &select, rows, &self.adding)
                })?;
                let other = inserted.filter(|inserted| *inserted != moved.inserted);
                let said = other.map(|inserted| {
                    format!("{} rows were to be added, {inserted} were added", moved.inserted)
                });
                said.into_iter().collect()
            }
        };
        match wrong.is_empty() {
            true => Ok((moved, is_asked)),
            false => Err(self.unproven(session, wrong)),
        }
    }

    /// What would become of rows that stand in a table beside: how many are new, and how many are there already.
    pub(super) fn count_rows<S: Session>(
        &self,
        session: &mut S,
        stage: &str,
        table: &str,
        sent: &SentFacts,
    ) -> Result<(Moved, Option<String>), TargetError> {
        let moves = match self.action.keeps_table() {
            true => self.moves(session.language()),
            false => Vec::new(),
        };
        let key = moves.iter().filter(|column| column.is_key);
        let key: Vec<_> =
            key.map(|column| (column.name.clone(), column.comparable.clone())).collect();
        let mut moved = Moved { inserted: sent.rows, ..Moved::default() };
        if self.action != Action::Append || key.is_empty() {
            return Ok((moved, None));
        }
        let is_there = session.language().is_there(table, &key);
        let sql = format!("SELECT count(*) FROM {stage} s WHERE {is_there}");
        let known = session.counts(&sql)?.first().copied().unwrap_or(0);
        let mut note = None;
        match self.seen {
            Seen::Update => moved.updated = known,
            Seen::Skip | Seen::Stop => moved.skipped = known,
        }
        if self.seen == Seen::Stop && known > 0 {
            note = Some(self.seen_keys(session, stage, &is_there, known)?.to_string());
        }
        moved.inserted -= known;
        Ok((moved, note))
    }

    /// Names the first keys that are in the table already.
    fn seen_keys<S: Session>(
        &self,
        session: &mut S,
        stage: &str,
        is_there: &str,
        count: u64,
    ) -> Result<TargetError, TargetError> {
        let key = &self.schema.layout.key;
        let columns: Vec<_> =
            key.iter().map(|name| format!("s.{}", session.language().identifier(name))).collect();
        let columns = columns.join(", ");
        let sql = format!(
            "SELECT {columns} FROM {stage} s WHERE {is_there} ORDER BY {columns} LIMIT {SHOWN_KEYS}"
        );
        let keys = session.query(&sql)?.into_iter().map(key_text).collect();
        Ok(TargetError::Seen { table: self.table.clone(), columns: listed(key), count, keys })
    }
}

/// A key as it is named in a message.
fn key_text(key: Vec<Option<String>>) -> String {
    key.into_iter().map(Option::unwrap_or_default).collect::<Vec<_>>().join(", ")
}
