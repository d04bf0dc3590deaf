//! Values that fit their columns, and that a target cannot hold: where they stand. An encoder only knows that there is one, so blocks are
//! converted and encoded once more.
//!
//! Where such a value stops the load, the first one of its block is looked for; where its record is set aside, all of the input.
//! What becomes of those records is decided in [`refusals`](crate::refusals).

use typhos_core::columns::{Converter, cell_text};
use typhos_core::run::{self, Monitor, RunError};
use typhos_core::text::{Block, LineRef};
use typhos_core::wording::shown;

use crate::contract::{EncodeUnit, Encoder};
use crate::error::{LoadError, TargetError};
use crate::located::LookEnded;
use crate::refusals::{MOST_REFUSED, sets_values_aside};
use crate::work::Work;

/// A value that a target cannot hold.
struct Beyond {
    at: LineRef,
    column: String,
    value: String,
    reason: String,
}

/// Says of an error of a block where its value stands, unless all such values are to be looked for.
pub(crate) fn placed<E: Encoder>(
    work: &Work<'_>,
    error: LoadError,
    block: &Block,
    encoder: &E,
) -> LoadError {
    match stops(work, &error) {
        Some(true) => {
            let mut converter = Converter::new(work.plan, work.mode);
            told(work, look(work, &mut converter, block, encoder, 1), error)
        }
        _ => error,
    }
}

/// Looks for all values that a target cannot hold, where that is the error and their records are set aside.
pub(crate) fn all<E: Encoder>(
    work: &Work<'_>,
    error: LoadError,
    encoder: &E,
    monitor: &dyn Monitor,
) -> LoadError {
    if stops(work, &error) != Some(false) {
        return error;
    }
    monitor.begin("looking for what the target cannot hold", Some(work.input.bytes()));
    let mut all = Vec::new();
    let looked = run::map_blocks::<_, _, NotAll>(
        work.plan.blocks(work.input),
        &work.run,
        monitor,
        || Converter::new(work.plan, work.mode),
        |converter, block| Ok(look(work, converter, block, encoder, MOST_REFUSED + 1)),
        |found| {
            all.extend(found);
            if all.len() > MOST_REFUSED { Err(NotAll::TooMany) } else { Ok(()) }
        },
    );
    match looked {
        Err(NotAll::Failed(other)) => other,
        Ok(()) | Err(NotAll::TooMany) => told(work, all, error),
    }
}

/// Why not all values were looked for.
enum NotAll {
    /// Of more nothing else is to be known than that there are too many.
    TooMany,
    Failed(LoadError),
}

impl From<RunError> for NotAll {
    fn from(error: RunError) -> NotAll {
        NotAll::Failed(error.into())
    }
}

/// Whether an error is a value that the target cannot hold, and one that stops the load.
fn stops(work: &Work<'_>, error: &LoadError) -> Option<bool> {
    match error {
        LoadError::Target(TargetError::CannotHold { column, place: None, .. }) => {
            Some(!sets_values_aside(work.plan.schema(), work.input, column))
        }
        _ => None,
    }
}

/// The values of a block that the target cannot hold, at most so many, those of records that are left out not among them.
fn look<E: Encoder>(
    work: &Work<'_>,
    converter: &mut Converter<'_>,
    block: &Block,
    encoder: &E,
    most: usize,
) -> Vec<Beyond> {
    let mut found = Vec::new();
    let is_placed = encoder.wants_places();
    // What else ends a load ends it in its own words.
    let begin = || encoder.begin(0.0).map_err(|_| LookEnded);
    let _ = converter.convert_with_places(block, |batch, places| {
        if work.push_left(&mut begin()?, is_placed, batch.clone(), places).is_ok() {
            return Ok(());
        }
        let mut unit = begin()?;
        for row in work.refusals.left(places).unwrap_or_else(|| (0..places.lines.len()).collect()) {
            let one = batch.slice(row, 1);
            let pushed = match is_placed {
                true => places.of_rows(&[row], |places| unit.push_placed(one, places)),
                false => unit.push(one),
            };
            match pushed {
                Ok(()) => {}
                Err(TargetError::CannotHold { column, value, reason, .. }) => {
                    let at = LineRef { part: places.file, line: places.lines[row] };
                    let cell =
                        batch.column_by_name(&column).and_then(|array| cell_text(array, row));
                    let value = cell.map_or(value, |cell| shown(&cell));
                    found.push(Beyond { at, column, value, reason });
                    if found.len() == most {
                        return Err(LookEnded);
                    }
                    unit = begin()?;
                }
                Err(_) => return Err(LookEnded),
            }
        }
        Ok(())
    });
    found
}

/// The error of all values that were found: that one of them stops the load, or which records are set aside.
fn told(work: &Work<'_>, found: Vec<Beyond>, error: LoadError) -> LoadError {
    let schema = work.plan.schema();
    let stops = |value: &&Beyond| !sets_values_aside(schema, work.input, &value.column);
    let stop = found.iter().find(stops);
    let Some(Beyond { at, column, value, reason }) = stop.or(found.first()) else { return error };
    let file = work.input.files()[at.part as usize].name();
    let said = |value: &Beyond| {
        (value.at, format!("column '{}': {} {}", value.column, value.value, value.reason))
    };
    LoadError::Target(TargetError::CannotHold {
        place: Some(format!("{file}:{}", at.line)),
        rows: if stop.is_some() { Vec::new() } else { found.iter().map(said).collect() },
        column: column.clone(),
        value: value.clone(),
        reason: reason.clone(),
    })
}
