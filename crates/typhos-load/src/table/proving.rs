//! The proof of a load: the database is asked about the rows that it has, and its answers are held
//! against what was sent.

use std::borrow::Cow;

use typhos_core::schema::{ColumnDecl, Schema};

use super::session::{Answers, Session};
use super::steps::Steps;
use crate::error::TargetError;
use crate::proof::{ColumnFacts, Proof, SentFacts, compare};
use typhos_sql::{Asked, Language, Part};

/// Columns that are asked about at once.
pub(super) const ASKED_COLUMNS: usize = 100;

/// A column, what was sent of it, and what is asked about it.
struct Question<'q> {
    column: Cow<'q, ColumnDecl>,
    sent: Cow<'q, ColumnFacts>,
    asked: Asked,
}

/// One question about several columns.
pub(super) struct Questions<'q> {
    rows: u64,
    columns: Vec<Question<'q>>,
    /// What is selected: how many rows there are, and then what is asked of each column.
    pub selected: String,
}

impl<'q> Questions<'q> {
    /// Questions about columns that are stored as the language stores them.
    pub fn new(
        language: &dyn Language,
        rows: u64,
        columns: impl IntoIterator<Item = (&'q ColumnDecl, &'q ColumnFacts)>,
    ) -> Questions<'q> {
        let mut selected = vec!["count(*)".to_owned()];
        let columns = columns.into_iter().map(|(column, sent)| {
            let quoted = language.identifier(&column.name);
            let mut asked = answerable(language.asked(column, &quoted), sent);
            // Where nothing may be null, there are as many values as rows; and where nothing can be, too.
            let is_counted = !column.required && language.has_null(column);
            asked.count = is_counted.then(|| language.counted(column.scalar(), &quoted));
            selected.extend(asked.questions().cloned());
            Question { column: Cow::Borrowed(column), sent: Cow::Borrowed(sent), asked }
        });
        let columns = columns.collect();
        Questions { rows, columns, selected: selected.join(", ") }
    }

    /// Questions about what is nested in a column of so many rows.
    fn about_part(
        language: &dyn Language,
        rows: u64,
        sent: &ColumnFacts,
        part: &Part,
    ) -> Questions<'q> {
        let mut selected = vec!["count(*)".to_owned()];
        let rows = match &part.list {
            None => rows,
            Some(list) => {
                let elements = sent.inside(list).and_then(|facts| facts.sum?.to_i128());
                elements.and_then(|sum| u64::try_from(sum).ok()).unwrap_or(0)
            }
        };
        let columns = part.leaves.iter().map(|leaf| {
            let sent = sent.inside(&leaf.facts).cloned().unwrap_or_default();
            let mut asked = answerable(language.asked(&leaf.declared, &leaf.value), &sent);
            asked.count = Some(language.counted(leaf.declared.scalar(), &leaf.value));
            selected.extend(asked.questions().cloned());
            Question { column: Cow::Owned(leaf.declared.clone()), sent: Cow::Owned(sent), asked }
        });
        let columns = columns.collect();
        Questions { rows, columns, selected: selected.join(", ") }
    }

    /// Holds the answer against what was sent: how many facts agree, and what differs.
    pub fn compare(&self, answers: Answers) -> (usize, Vec<String>) {
        let mut wrong = Vec::new();
        let mut facts = 0;
        let mut answers = answers.into_iter().next().unwrap_or_default().into_iter();
        wrong.extend(other_count(self.rows, answers.next().flatten()));
        for Question { column, sent, asked } in &self.columns {
            match compare(column, sent, asked, &mut answers) {
                Ok(compared) => facts += compared,
                Err(differences) => wrong.extend(differences),
            }
        }
        (facts, wrong)
    }
}

/// What of some questions can be answered about what was sent. Where doubles may add up to more than the largest one on the
/// way, there is no sum to hold anything against, and PostgreSQL ends the transaction that asks for it.
fn answerable(asked: Asked, sent: &ColumnFacts) -> Asked {
    let has_sum = sent.float_size < f64::MAX / 2.0;
    Asked { sum: asked.sum.filter(|_| has_sum), ..asked }
}

/// What is to be said where another number of rows is there than was sent.
fn other_count(sent: u64, answer: Option<String>) -> Option<String> {
    let there = answer.and_then(|count| count.parse::<u64>().ok());
    (there != Some(sent)).then(|| {
        let there = there.map_or("an unknown number".into(), |rows| rows.to_string());
        format!("{sent} rows were sent, {there} are there")
    })
}

impl Steps {
    /// Asks a table about its rows, which are all that was sent.
    pub(super) fn prove<S: Session>(
        &self,
        session: &mut S,
        stage: &str,
        staged: &Schema,
        sent: &SentFacts,
    ) -> Result<Proof, TargetError> {
        if !self.is_proven {
            let count = session.one(&format!("SELECT count(*) FROM {stage}"))?;
            return match other_count(sent.rows, count) {
                None => Ok(Proof::Skipped),
                Some(other) => Err(self.unproven(session, vec![other])),
            };
        }
        // Dealt out like cards, since columns that are alike stand side by side and cost alike.
        let columns = staged.columns.iter().zip(&sent.columns);
        let shares = session.askers().max(columns.len().div_ceil(ASKED_COLUMNS));
        let share = |at| columns.clone().skip(at).step_by(shares);
        let mut questions: Vec<_> = (0..shares.min(columns.len()))
            .map(|at| Questions::new(session.language(), sent.rows, share(at)))
            .collect();
        let mut from = vec![stage.to_owned(); questions.len()];
        let language = session.language();
        for (column, facts) in columns.clone().filter(|(column, _)| column.ty.is_nested()) {
            let quoted = language.identifier(&column.name);
            for part in language.parts(column, &quoted, stage) {
                questions.push(Questions::about_part(language, sent.rows, facts, &part));
                from.push(part.from);
            }
        }
        let asked: Vec<_> = questions
            .iter()
            .zip(&from)
            .map(|(questions, from)| format!("SELECT {} FROM {from}", questions.selected))
            .collect();
        let mut facts = 1;
        let mut wrong = Vec::new();
        let answers = session.query_all(&asked)?;
        for ((questions, sql), answers) in questions.iter().zip(&asked).zip(answers) {
            let (mut agree, mut differ) = questions.compare(answers);
            if !differ.is_empty() {
                (agree, differ) = questions.compare(session.query_again(sql)?);
            }
            facts += agree;
            wrong.extend(differ);
        }
        match wrong.is_empty() {
            true => Ok(Proof::Proven { facts, rows: sent.rows, is_before_move: false }),
            false => Err(self.unproven(session, wrong)),
        }
    }

    pub(super) fn unproven<S: Session>(
        &self,
        session: &S,
        mut differences: Vec<String>,
    ) -> TargetError {
        // Several questions count the same rows.
        differences.dedup();
        TargetError::Unproven {
            target: format!("{} table '{}'", session.target(), self.table),
            differences,
        }
    }
}
