//! Which row a server refuses: found by adding fewer and fewer rows.

use super::session::{RowOrder, Session};
use super::steps::Steps;
use crate::error::{RefusedRow, TargetError};
use crate::refusals::MOST_REFUSED;

/// The savepoint before rows that may be refused.
const ROWS: &str = "typhos_rows";

/// Values that a row is known by.
const SHOWN_VALUES: usize = 4;

/// Letters of each that are shown.
const SHOWN_LETTERS: usize = 40;

/// A statement that adds rows of a table beside.
pub(super) struct Adds<'a> {
    /// Its beginning, up to the columns.
    pub insert: String,
    /// What each column gets.
    pub values: String,
    /// The table beside.
    pub stage: &'a str,
    /// What follows it: which rows are left out.
    pub rest: &'a str,
    /// How many rows there are.
    pub rows: u64,
}

impl Adds<'_> {
    /// The statement for all rows.
    pub fn all(&self) -> String {
        format!("{} {}", self.insert, self.select())
    }

    /// The rows of it.
    pub fn select(&self) -> String {
        format!("SELECT {} FROM {} s{}", self.values, self.stage, self.rest)
    }

    /// The statement for so many rows behind some.
    fn some(&self, from: u64, count: u64) -> String {
        format!(
            "{} SELECT {} FROM (SELECT * FROM {} LIMIT {count} OFFSET {from}) s{}",
            self.insert, self.values, self.stage, self.rest
        )
    }
}

impl Steps {
    /// Does something that a server may refuse for one row of many, and finds out which one it is.
    pub(super) fn or_refused<S: Session, T>(
        &self,
        session: &mut S,
        adds: &Adds<'_>,
        add: impl FnOnce(&mut S) -> Result<T, TargetError>,
    ) -> Result<T, TargetError> {
        if session.row_order() == RowOrder::Any {
            return add(session);
        }
        session.execute(&format!("SAVEPOINT {ROWS}"))?;
        match add(session) {
            Ok(added) => Ok(added),
            // Whoever called the load off does not want to know.
            Err(error @ TargetError::Violation { .. }) if self.gate.check().is_ok() => {
                Err(self.refused_row(session, adds).ok().flatten().unwrap_or(error))
            }
            Err(error) => Err(error),
        }
    }

    /// Adds halves until one row is left that is refused; and goes on behind it, where rows that are refused are set aside. Those
    /// before it stay, since they are added only once that way; all of it is undone with the load.
    fn refused_row<S: Session>(
        &self,
        session: &mut S,
        adds: &Adds<'_>,
    ) -> Result<Option<TargetError>, TargetError> {
        session.execute(&format!("ROLLBACK TO SAVEPOINT {ROWS}"))?;
        let (mut from, mut to) = (0, adds.rows);
        let mut said = None;
        let mut refused = Vec::new();
        let is_known = self.in_order || session.row_order() == RowOrder::AsSent;
        while from < to {
            self.gate.check()?;
            let count = (to - from).div_ceil(2);
            session.execute(&format!("SAVEPOINT {ROWS}"))?;
            match session.execute(&adds.some(from, count)) {
                Ok(_) => {
                    from += count;
                    // What is behind what was looked at.
                    if from == to {
                        to = adds.rows;
                    }
                }
                Err(TargetError::Violation { target, message }) => {
                    session.execute(&format!("ROLLBACK TO SAVEPOINT {ROWS}"))?;
                    said = Some(target);
                    to = from + count;
                    if count > 1 {
                        continue;
                    }
                    refused.push(RefusedRow { row: from, message, at: None });
                    let is_all = !self.sets_refused_aside || refused.len() > MOST_REFUSED;
                    if is_all || !is_known {
                        break;
                    }
                    (from, to) = (to, adds.rows);
                }
                Err(other) => return Err(other),
            }
        }
        let Some(target) = said.filter(|_| !refused.is_empty()) else { return Ok(None) };
        let place = (!is_known).then(|| self.row_shown(session, adds, from)).transpose()?;
        Ok(Some(TargetError::Refused { target, rows: refused, place }))
    }

    /// A row by its first values.
    fn row_shown<S: Session>(
        &self,
        session: &mut S,
        adds: &Adds<'_>,
        row: u64,
    ) -> Result<String, TargetError> {
        let columns = self.schema.columns.iter().filter(|column| !column.ty.is_nested());
        let columns: Vec<_> =
            columns.map(|column| column.name.as_str()).take(SHOWN_VALUES).collect();
        let names: Vec<_> =
            columns.iter().map(|name| session.language().identifier(name)).collect();
        let sql = format!("SELECT {} FROM {} LIMIT 1 OFFSET {row}", names.join(", "), adds.stage);
        let values = session.query(&sql)?.into_iter().next().unwrap_or_default();
        let shown = columns.iter().zip(values).map(|(name, value)| match value {
            Some(value) => {
                let value: String = value.chars().take(SHOWN_LETTERS).collect();
                format!("'{name}' is '{}'", value.escape_debug())
            }
            None => format!("'{name}' is absent"),
        });
        Ok(format!("the row whose {}", shown.collect::<Vec<_>>().join(" and ")))
    }
}
