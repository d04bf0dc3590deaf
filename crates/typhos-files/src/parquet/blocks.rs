//! How much of an input becomes one row group.

use typhos_core::text::{Input, InputError, mean_record_bytes};

use super::form::Form;

/// Bytes of input that become one row group.
pub const ROW_GROUP_INPUT_BYTES: usize = 32 << 20;

/// Row groups that a file has at least, where they are not too small for it.
const LEAST_ROW_GROUPS: u64 = 12;

/// Bytes of input that are worth a row group.
const LEAST_ROW_GROUP_INPUT_BYTES: usize = 4 << 20;

/// The most bytes of input that are held for one row group, whatever is declared: four of them may be at
/// hand for each thread.
const MOST_BLOCK_BYTES: usize = 64 << 20;

/// Bytes of input that become one row group where rows are not sorted: about as many as the form asks
/// for, and little enough that each of some parts gets one. The form learns how many rows that will be.
///
/// # Errors
/// An input that cannot be read.
pub fn block_bytes(
    form: &mut Form,
    input: &Input,
    parts: Option<u32>,
) -> Result<usize, InputError> {
    let record = mean_record_bytes(input)?;
    let whole = match form.row_group {
        Some(rows) => {
            let wanted = match record {
                // A little less, so that the rest of a block is not a row group of its own.
                Some(bytes) => bytes * rows as f64 * 0.98,
                None => ROW_GROUP_INPUT_BYTES as f64,
            };
            (wanted as usize).clamp(1 << 16, MOST_BLOCK_BYTES)
        }
        // Enough of them that all threads have work to the end; how many threads there are makes no
        // difference to the file.
        None => ((input.bytes() / LEAST_ROW_GROUPS) as usize)
            .clamp(LEAST_ROW_GROUP_INPUT_BYTES, ROW_GROUP_INPUT_BYTES),
    };
    let whole = if input.bytes() == 0 { ROW_GROUP_INPUT_BYTES } else { whole };
    if let Some(record) = record {
        form.expect_rows((input.bytes().min(whole as u64) as f64 / record) as u64);
    }
    // Each part gets at least one block, where the input is large enough to be shared out; of a stream
    // nobody knows.
    Ok(match parts {
        Some(parts) if input.bytes() > 0 => {
            whole.min((input.bytes() / u64::from(parts)).max(1) as usize)
        }
        _ => whole,
    })
}
