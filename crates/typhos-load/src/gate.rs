//! The moment at which a load becomes visible, and how it is called off before.
//!
//! A sink passes the gate once everything is proven, right before the step that readers see. From then on records
//! that were set aside belong to what is there. A load that was interrupted does not pass.

use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::error::TargetError;
use crate::whole::pending::{Awaited, Pending};

/// What stands between a load that is whole and its readers.
#[derive(Default)]
pub struct Gate {
    is_closed: AtomicBool,
    is_undoing: AtomicBool,
    /// Records that were set aside, and what they appear with.
    waiting: Mutex<Option<(Pending, Awaited)>>,
}

impl std::fmt::Debug for Gate {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Gate").field("is_closed", &self.is_closed).finish_non_exhaustive()
    }
}

impl Gate {
    /// Lets a file wait for the load to become visible.
    pub fn hold(&self, file: Pending, awaited: Awaited) {
        *self.waiting.lock().unwrap_or_else(PoisonError::into_inner) = Some((file, awaited));
    }

    /// Calls the load off.
    pub fn close(&self) {
        self.is_closed.store(true, Ordering::SeqCst);
    }

    /// Ends a load that was called off, between two of its steps.
    ///
    /// # Errors
    /// [`TargetError::Interrupted`].
    pub fn check(&self) -> Result<(), TargetError> {
        match self.is_closed.load(Ordering::SeqCst) {
            true => Err(TargetError::Interrupted),
            false => Ok(()),
        }
    }

    /// Said right before the load becomes visible.
    ///
    /// # Errors
    /// [`TargetError::Interrupted`], and a folder that cannot be written to.
    pub fn pass(&self) -> Result<(), TargetError> {
        self.check()?;
        match &mut *self.waiting.lock().unwrap_or_else(PoisonError::into_inner) {
            Some((file, awaited)) => file.announce(awaited),
            None => Ok(()),
        }
    }

    /// Names the file that waited: the load is visible.
    ///
    /// # Errors
    /// A folder that cannot be written to.
    pub fn publish(&self) -> Result<Option<PathBuf>, TargetError> {
        let waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner).take();
        waiting.map(|(file, _)| file.publish()).transpose()
    }

    /// From now on the load undoes what it did, which is not to be interrupted.
    pub fn begin_undo(&self) {
        self.is_undoing.store(true, Ordering::SeqCst);
    }

    /// Whether the load undoes what it did.
    pub fn is_undoing(&self) -> bool {
        self.is_undoing.load(Ordering::SeqCst)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_load_that_was_called_off_does_not_pass() {
        let gate = Gate::default();
        assert!(gate.pass().is_ok() && gate.publish().unwrap().is_none());
        gate.close();
        assert!(matches!(gate.pass(), Err(TargetError::Interrupted)));
    }
}
