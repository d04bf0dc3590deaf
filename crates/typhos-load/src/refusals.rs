//! Records whose rows a table refused, or that have values which it cannot hold: a load that sets aside what does not fit is done once
//! more without them, and keeps them with what was said of them.
//!
//! Which rows are refused is found by the steps of a load into a table, and where their records stand by reading the input once
//! more ([`located`](crate::located)); which values cannot be held, by encoding it once more ([`beyond`](crate::beyond)).

use std::collections::BTreeMap;

use arrow_array::{BooleanArray, RecordBatch};
use arrow_select::filter::filter_record_batch;
use typhos_core::columns::{BlockReport, MisfitValue, Places, Reason, SetAside};
use typhos_core::schema::{ColumnDecl, Misfit, Schema};
use typhos_core::text::{Input, LineRef};

use crate::error::{LoadError, TargetError};

/// Records that are set aside because a table refuses them; of more the load says that something is wrong with all of it.
pub const MOST_REFUSED: usize = 1_000;

/// How often a load is done again. A server that tells of one row at a time may have more to say each time.
const MOST_TIMES: u32 = 20;

/// The records that a table refused so far, with what was said of each.
#[derive(Debug, Clone, Default)]
pub struct Refusals {
    said: BTreeMap<LineRef, String>,
    times: u32,
}

/// Whether rows that a table refuses are set aside: records that are no rows are, and it can be done.
pub fn are_set_aside(schema: &Schema, input: &Input) -> bool {
    schema.input.misfit == Misfit::Reject && can_be_set_aside(schema, input)
}

/// Whether rows that a table refuses could be set aside: a record is known by its row, and the input can be read again.
pub fn can_be_set_aside(schema: &Schema, input: &Input) -> bool {
    schema.input.choice.unnest.is_none() && schema.layout.sort.is_empty() && !input.is_stream()
}

/// Whether records are set aside that have a value in this column, or in one inside of it, which the target cannot hold: what does not fit in
/// it is.
pub(crate) fn sets_values_aside(schema: &Schema, input: &Input, column: &str) -> bool {
    let is_it = |declared: &&ColumnDecl| {
        let rest = column.strip_prefix(&declared.name[..]);
        rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(['.', '[']))
    };
    let declared = schema.columns.iter().find(is_it);
    let policies = declared.map(|column| column.misfit).into_iter().chain([schema.input.misfit]);
    policies.into_iter().any(|policy| policy == Misfit::Reject) && can_be_set_aside(schema, input)
}

/// Nothing was refused.
pub static NO_REFUSALS: Refusals = Refusals { said: BTreeMap::new(), times: 0 };

impl Refusals {
    /// Whether no record is left out.
    pub fn is_empty(&self) -> bool {
        self.said.is_empty()
    }

    /// Whether a row was refused before: all that are is what is to be known now, rather than how soon the rows are there.
    pub fn is_again(&self) -> bool {
        self.times > 0
    }

    /// Takes in what a load failed with; of rows that a table refuses, where they are set aside.
    ///
    /// # Errors
    /// The same, where it is something else, where nobody knows which record is meant, and where it happens too often.
    pub fn take(&mut self, error: LoadError, are_set_aside: bool) -> Result<(), LoadError> {
        let before = self.said.len();
        match &error {
            LoadError::Target(TargetError::Refused { rows, .. }) if are_set_aside => {
                let said = rows.iter().filter_map(|row| Some((row.at?, row.message.clone())));
                self.said.extend(said);
            }
            // They are looked for only where they are set aside.
            LoadError::Target(TargetError::CannotHold { rows, .. }) if !rows.is_empty() => {
                self.said.extend(rows.iter().cloned());
            }
            _ => return Err(error),
        }
        self.times += 1;
        // Where rows are in no order, they are sent in theirs the next time.
        let is_more = self.said.len() > before || self.times == 1;
        match is_more && self.said.len() <= MOST_REFUSED && self.times <= MOST_TIMES {
            true => Ok(()),
            false => Err(error),
        }
    }

    /// Whether the record on a line is one of them.
    pub fn has(&self, place: LineRef) -> bool {
        self.said.contains_key(&place)
    }

    /// Which rows of a batch are left; `None` where all of them are.
    pub fn left(&self, places: &Places<'_>) -> Option<Vec<usize>> {
        let at = |line: u64| LineRef { part: places.file, line };
        let (first, last) = (places.lines.first()?, places.lines.last()?);
        self.said.range(at(*first)..=at(*last)).next()?;
        let is_left = |(_, line): &(usize, &u64)| !self.has(at(**line));
        Some(places.lines.iter().enumerate().filter(is_left).map(|(row, _)| row).collect())
    }

    /// The rows of a batch that are left, with the records of those that are not.
    pub fn leave_out(
        &self,
        batch: RecordBatch,
        places: &Places<'_>,
    ) -> (RecordBatch, Vec<SetAside>) {
        if self.left(places).is_none() {
            return (batch, Vec::new());
        }
        let at = |line: u64| LineRef { part: places.file, line };
        let mut aside = Vec::new();
        let kept = places.lines.iter().enumerate().map(|(row, line)| {
            let Some(said) = self.said.get(&at(*line)) else { return true };
            let (record, missing) = places.record(row);
            let reason = Reason::Refused(said.clone());
            let misfit = MisfitValue::new(at(*line), None, &record, reason);
            aside.push(SetAside { misfit, record, missing });
            false
        });
        let kept: BooleanArray = kept.collect::<Vec<_>>().into();
        let left = filter_record_batch(&batch, &kept).expect("there is a word for every row");
        (left, aside)
    }
}

/// Adds records that were left out to the report of their block.
pub fn add_to(report: &mut BlockReport, aside: Vec<SetAside>) {
    if aside.is_empty() {
        return;
    }
    aside.iter().for_each(|aside| report.account.refuse(aside));
    report.set_aside.extend(aside);
    report.set_aside.sort_by_key(|aside| aside.misfit.place);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::RefusedRow;

    fn refused(at: impl IntoIterator<Item = Option<u64>>) -> LoadError {
        let row = |line: Option<u64>| RefusedRow {
            row: 7,
            message: "no".into(),
            at: line.map(|line| LineRef { part: 0, line }),
        };
        let rows = at.into_iter().map(row).collect();
        LoadError::Target(TargetError::Refused { target: "t".into(), rows, place: None })
    }

    #[test]
    fn a_load_is_done_again_as_long_as_more_is_known() {
        let mut refusals = Refusals::default();
        assert!(refusals.is_empty() && !refusals.is_again());
        // The second time rows are sent in their order.
        refusals.take(refused([None]), true).unwrap();
        assert!(refusals.is_empty() && refusals.is_again());
        refusals.take(refused([Some(3), Some(5)]), true).unwrap();
        assert!(refusals.has(LineRef { part: 0, line: 5 }) && !refusals.is_empty());
        assert!(!refusals.has(LineRef { part: 1, line: 5 }));
        assert!(refusals.take(refused([Some(3)]), true).is_err(), "nothing new");
        assert!(refusals.take(refused([None]), true).is_err(), "nobody knows which");
        assert!(refusals.take(LoadError::Target(TargetError::GivenUp), true).is_err());
    }

    #[test]
    fn too_many_records_end_it_and_too_many_times() {
        let many = (1..=MOST_REFUSED as u64 + 1).map(Some);
        assert!(Refusals::default().take(refused(many), true).is_err());
        let mut refusals = Refusals::default();
        let done =
            (1..).take_while(|line| refusals.take(refused([Some(*line)]), true).is_ok()).count();
        assert_eq!(done, MOST_TIMES as usize);
    }
}
