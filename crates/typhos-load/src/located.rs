//! Where a row of a load is from, when only its number is known: found by reading the input once more.

use typhos_core::columns::{Converter, MisfitValue, OnMisfit};
use typhos_core::run::{Monitor, RunError, RunOptions};
use typhos_core::text::{Block, BlockReader};

use crate::contract::Job;
use crate::error::TargetError;

/// No misfit ends the search: those that would have stopped the load did.
struct Never;

impl From<MisfitValue> for Never {
    fn from(_: MisfitValue) -> Never {
        Never
    }
}

/// Names the line of the row that a server refused; of rows that were sorted on the way the number says nothing.
pub(crate) fn located(
    error: TargetError,
    job: &Job<'_>,
    run: &RunOptions,
    monitor: &dyn Monitor,
) -> TargetError {
    match error {
        TargetError::Refused { target, message, row, place: None }
            if job.plan.schema().layout.sort.is_empty() && !job.input.is_stream() =>
        {
            let place = place_of(row, job, run, monitor).ok().flatten();
            TargetError::Refused { target, message, row, place }
        }
        other => other,
    }
}

/// The file and line of the row that so many others are loaded before.
fn place_of(
    row: u64,
    job: &Job<'_>,
    run: &RunOptions,
    monitor: &dyn Monitor,
) -> Result<Option<String>, RunError> {
    let mut reader = BlockReader::new(job.plan.blocks(job.input), run.block_bytes);
    let mut converter = Converter::new(job.plan, OnMisfit::AsDeclared);
    let mut block = Block::default();
    let (mut before, mut place) = (0, None);
    while place.is_none() && reader.next(&mut block)? {
        if monitor.stopped() {
            return Err(RunError::Interrupted);
        }
        let converted = converter.convert_with_places::<Never>(&block, |batch, places| {
            let at = row.checked_sub(before).and_then(|at| usize::try_from(at).ok());
            if let Some(line) = at.and_then(|at| places.lines.get(at)) {
                let file = job.input.files()[places.file as usize].name();
                place = Some(format!("{file}:{line}"));
            }
            before += batch.num_rows() as u64;
            Ok(())
        });
        if converted.is_err() {
            break;
        }
    }
    Ok(place)
}
