//! Where rows of a load are from, when only their numbers are known: found by reading the input once more.

use typhos_core::columns::{Converter, MisfitValue, OnMisfit};
use typhos_core::run::{Monitor, RunError, RunOptions};
use typhos_core::text::{Block, BlockReader, LineRef};

use crate::contract::Job;
use crate::error::{RefusedRow, TargetError};

/// Ends a look at the input beside the load, which tells of misfits that stop it in its own words.
pub(crate) struct LookEnded;

impl From<MisfitValue> for LookEnded {
    fn from(_: MisfitValue) -> LookEnded {
        LookEnded
    }
}

/// Finds the records of the rows that a server refused; of rows that were sorted on the way their numbers say nothing.
pub(crate) fn located(
    error: TargetError,
    job: &Job<'_>,
    run: &RunOptions,
    monitor: &dyn Monitor,
) -> TargetError {
    match error {
        TargetError::Refused { target, mut rows, place: None }
            if job.plan.schema().layout.sort.is_empty() && !job.input.is_stream() =>
        {
            let found = find(&mut rows, job, run, monitor);
            let first = rows.first().and_then(|row| row.at).filter(|_| found.is_ok());
            let place = first.map(|place| {
                format!("{}:{}", job.input.files()[place.part as usize].name(), place.line)
            });
            TargetError::Refused { target, rows, place }
        }
        other => other,
    }
}

/// Finds the records of rows, which are in the order of their numbers. Those that were set aside because they had been refused
/// before were not counted.
fn find(
    rows: &mut [RefusedRow],
    job: &Job<'_>,
    run: &RunOptions,
    monitor: &dyn Monitor,
) -> Result<(), RunError> {
    let mut reader = BlockReader::new(job.plan.blocks(job.input), run.block_bytes);
    let mut converter = Converter::new(job.plan, OnMisfit::AsDeclared);
    let mut block = Block::default();
    let mut left = rows.iter_mut().peekable();
    let mut before = 0;
    while left.peek().is_some() && reader.next(&mut block)? {
        if monitor.stopped() {
            return Err(RunError::Interrupted);
        }
        let converted = converter.convert_with_places::<LookEnded>(&block, |_, places| {
            for line in places.lines {
                let place = LineRef { part: places.file, line: *line };
                if job.refusals.has(place) {
                    continue;
                }
                if let Some(row) = left.next_if(|row| row.row == before) {
                    row.at = Some(place);
                }
                before += 1;
            }
            Ok(())
        });
        if converted.is_err() {
            break;
        }
    }
    Ok(())
}
