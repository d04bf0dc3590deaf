//! What is our fault: a panic, caught at the top and told as what it is.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Mutex, PoisonError};

use crate::outcome::{Failure, Outcome};

/// What the first panic said, and where.
static FIRST: Mutex<Option<String>> = Mutex::new(None);

/// Runs a command. A panic on any of its threads has undone what was unfinished on its way here.
pub fn caught(run: impl FnOnce() -> Result<Outcome, Failure>) -> Result<Outcome, Failure> {
    let first = || FIRST.lock().unwrap_or_else(PoisonError::into_inner);
    std::panic::set_hook(Box::new(move |panic| {
        let payload = panic.payload();
        let said = payload.downcast_ref::<String>().map(String::as_str);
        let said = said.or(payload.downcast_ref::<&str>().copied());
        let said = said.unwrap_or("it did not say why");
        let place = panic.location().map_or(String::new(), |place| format!(" ({place})"));
        first().get_or_insert_with(|| format!("{said}{place}"));
    }));
    catch_unwind(AssertUnwindSafe(run)).unwrap_or_else(|_| {
        let said = first().take().unwrap_or_default();
        Err(Failure::Fault(format!(
            "typhos failed, and that is its fault and not that of your data: {said}\n\
             What was unfinished has been removed. Please report this with the command line, the version \
             (typhos --version) and, if you can share it, the smallest input that shows it."
        )))
    })
}
