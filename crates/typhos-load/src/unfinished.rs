//! What this process has on disk that is not finished, so that a process which has to end at once leaves nothing
//! of it behind.
//!
//! Everything that is unfinished removes itself when it is dropped. That is enough after an error, a panic and an
//! interruption that is noticed. A process that waits for a pipe notices nothing: it is ended by somebody else, who
//! [clears](clear) first. What becomes visible does so while it [holds](publish) the list, so that nothing is
//! cleared that is visible.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

static PATHS: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());

/// Loads that need a moment to undo what they did on a server.
static UNDOING: AtomicUsize = AtomicUsize::new(0);

fn lock() -> MutexGuard<'static, BTreeSet<PathBuf>> {
    PATHS.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A file or directory on the list; dropping this takes it off.
#[derive(Debug)]
pub struct Listed(PathBuf);

/// Puts a file or directory on the list.
pub fn list(path: &Path) -> Listed {
    let path = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    lock().insert(path.clone());
    Listed(path)
}

impl Drop for Listed {
    fn drop(&mut self) {
        lock().remove(&self.0);
    }
}

/// Makes something visible that is on the list, and takes it off where that went well.
///
/// # Errors
/// Whatever `rename` fails with.
pub fn publish<E>(listed: &Listed, rename: impl FnOnce() -> Result<(), E>) -> Result<(), E> {
    let mut paths = lock();
    rename()?;
    paths.remove(&listed.0);
    Ok(())
}

/// Something that undoes what it did on a server before the process ends.
#[derive(Debug)]
pub struct Undoing(());

impl Undoing {
    /// From now on the process is given a while to end.
    pub fn begin() -> Undoing {
        UNDOING.fetch_add(1, Ordering::SeqCst);
        Undoing(())
    }

    /// Whether anything undoes what it did on a server.
    pub fn is_any() -> bool {
        UNDOING.load(Ordering::SeqCst) > 0
    }
}

impl Drop for Undoing {
    fn drop(&mut self) {
        UNDOING.fetch_sub(1, Ordering::SeqCst);
    }
}

/// Removes all that is on the list. Nothing becomes visible after this: the process has to end. What cannot be removed
/// is left for the next run to sweep.
pub fn clear() {
    let paths = lock();
    for path in paths.iter() {
        let _ =
            if path.is_dir() { std::fs::remove_dir_all(path) } else { std::fs::remove_file(path) };
    }
    std::mem::forget(paths);
}

#[cfg(test)]
mod tests {
    use super::*;

    // One test: the list is one for the whole process, and once it is cleared nothing can be listed any more.
    #[test]
    fn what_is_published_is_off_the_list() {
        let folder = tempfile::tempdir().unwrap();
        let (side, path) = (folder.path().join("side"), folder.path().join("path"));
        std::fs::write(&side, "x").unwrap();
        let listed = list(&side);
        assert!(lock().contains(&side));
        assert!(publish(&listed, || Err(())).is_err());
        assert!(lock().contains(&side), "it is not visible");
        publish(&listed, || std::fs::rename(&side, &path)).unwrap();
        assert!(!lock().contains(&side));
        let undoing = Undoing::begin();
        assert!(Undoing::is_any());
        drop((listed, undoing));
        assert_eq!(std::fs::read(&path).unwrap(), b"x");
    }
}
