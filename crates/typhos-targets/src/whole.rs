//! Outputs that appear whole or not at all: written aside, synced, renamed.
//!
//! The side file stands in the same directory, so that renaming stays within one file system. It is
//! removed when it is dropped, which is also what happens after an error or an interruption.

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

use tempfile::{NamedTempFile, TempDir};

use crate::TargetError;

/// What side files are called, before a few random letters.
const PREFIX: &str = ".typhos-unfinished-";

/// The directory an output is to stand in.
pub(crate) fn parent(path: &Path) -> &Path {
    match path.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent,
        _ => Path::new("."),
    }
}

/// Refuses an output that is there, unless it is to be replaced: asked before the work begins.
///
/// # Errors
/// [`TargetError::Exists`].
pub fn refuse_existing(path: &Path, replace: bool) -> Result<(), TargetError> {
    match path.symlink_metadata() {
        Ok(_) if !replace => Err(TargetError::Exists(path.to_path_buf())),
        _ => Ok(()),
    }
}

/// Names of a directory are kept only once the directory itself is synced.
fn sync_directory(path: &Path) -> Result<(), TargetError> {
    File::open(path).and_then(|directory| directory.sync_all()).map_err(TargetError::io(path))
}

/// Writes a small file, whole or not at all.
///
/// # Errors
/// A file that is there and not to be replaced, a place that cannot be written to.
pub fn write_file(path: &Path, replace: bool, content: &[u8]) -> Result<(), TargetError> {
    let whole = WholeFile::create(path, replace)?;
    whole.file().write_all(content).map_err(TargetError::io(path))?;
    whole.keep()
}

/// Removes from a directory what loads left behind that were killed: side files and directories that
/// nobody holds a lock on. Nothing that is not ours to remove is an error.
pub(crate) fn sweep(directory: &Path) {
    let Ok(entries) = std::fs::read_dir(directory) else { return };
    for entry in entries.filter_map(Result::ok) {
        if !entry.file_name().to_string_lossy().starts_with(PREFIX) {
            continue;
        }
        let path = entry.path();
        let Ok(held) = File::open(&path) else { continue };
        // Whoever works on it has it locked, and the system takes the lock of the dead away.
        if held.try_lock().is_ok() {
            let _ = if path.is_dir() {
                std::fs::remove_dir_all(&path)
            } else {
                std::fs::remove_file(&path)
            };
        }
    }
}

/// Whether what was opened and locked still has a name: another load may have swept it just before.
fn is_still_there(held: &File, path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    match (held.metadata(), path.metadata()) {
        (Ok(held), Ok(there)) => held.ino() == there.ino(),
        _ => false,
    }
}

/// A file that is not there before it is whole.
pub(crate) struct WholeFile {
    side: NamedTempFile,
    path: PathBuf,
    replace: bool,
}

impl WholeFile {
    pub fn create(path: &Path, replace: bool) -> Result<WholeFile, TargetError> {
        refuse_existing(path, replace)?;
        if path.is_dir() {
            let what = "is a directory, and a file is to be written there".into();
            return Err(TargetError::NotThat { path: path.to_path_buf(), what });
        }
        let mut builder = tempfile::Builder::new();
        builder.prefix(PREFIX);
        #[cfg(unix)]
        {
            // As any program would make it: the umask takes off what it takes off.
            use std::os::unix::fs::PermissionsExt;
            builder.permissions(std::fs::Permissions::from_mode(0o666));
        }
        sweep(parent(path));
        loop {
            let side = builder.tempfile_in(parent(path)).map_err(TargetError::io(path))?;
            side.as_file().lock().map_err(TargetError::io(path))?;
            if is_still_there(side.as_file(), side.path()) {
                return Ok(WholeFile { side, path: path.to_path_buf(), replace });
            }
        }
    }

    pub fn file(&self) -> &File {
        self.side.as_file()
    }

    /// Where it is written for now.
    pub fn side_path(&self) -> &Path {
        self.side.path()
    }

    /// A second handle on the side file.
    pub fn writer(&self) -> Result<File, TargetError> {
        self.file().try_clone().map_err(TargetError::io(&self.path))
    }

    /// Syncs the file and gives it its name.
    pub fn keep(self) -> Result<(), TargetError> {
        self.file().sync_all().map_err(TargetError::io(&self.path))?;
        let kept = if self.replace {
            self.side.persist(&self.path)
        } else {
            self.side.persist_noclobber(&self.path)
        };
        kept.map_err(|error| match error.error.kind() {
            std::io::ErrorKind::AlreadyExists => TargetError::Exists(self.path.clone()),
            _ => TargetError::Io { path: self.path.clone(), source: error.error },
        })?;
        sync_directory(parent(&self.path))
    }
}

/// A directory that is not there before all its files are whole.
pub(crate) struct WholeDirectory {
    side: TempDir,
    /// Locked as long as it is not whole.
    _held: File,
    path: PathBuf,
    replace: bool,
}

impl WholeDirectory {
    pub fn create(path: &Path, replace: bool) -> Result<WholeDirectory, TargetError> {
        refuse_existing(path, replace)?;
        sweep(parent(path));
        let (side, held) = loop {
            let side = tempfile::Builder::new()
                .prefix(PREFIX)
                .tempdir_in(parent(path))
                .map_err(TargetError::io(path))?;
            let held = File::open(side.path()).map_err(TargetError::io(path))?;
            held.lock().map_err(TargetError::io(path))?;
            if is_still_there(&held, side.path()) {
                break (side, held);
            }
        };
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            let open = std::fs::Permissions::from_mode(0o755);
            std::fs::set_permissions(side.path(), open).map_err(TargetError::io(path))?;
        }
        Ok(WholeDirectory { side, _held: held, path: path.to_path_buf(), replace })
    }

    /// Where the files are written for now.
    pub fn side_path(&self) -> &Path {
        self.side.path()
    }

    /// Gives the directory its name. The files in it have been synced by whoever wrote them.
    pub fn keep(self) -> Result<(), TargetError> {
        sync_directory(self.side.path())?;
        let parent = parent(&self.path);
        // What is replaced goes into a side directory first, and away only when the new one stands.
        let old = if self.replace && self.path.symlink_metadata().is_ok() {
            let aside = tempfile::Builder::new()
                .prefix(PREFIX)
                .tempdir_in(parent)
                .map_err(TargetError::io(parent))?;
            std::fs::rename(&self.path, aside.path().join("old"))
                .map_err(TargetError::io(&self.path))?;
            Some(aside)
        } else {
            None
        };
        if let Err(source) = std::fs::rename(self.side.path(), &self.path) {
            if let Some(aside) = &old {
                // Best effort: the error that counts is the one above.
                let _ = std::fs::rename(aside.path().join("old"), &self.path);
            }
            return Err(TargetError::Io { path: self.path.clone(), source });
        }
        let _ = self.side.keep();
        sync_directory(parent)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(folder: &Path) -> Vec<String> {
        let mut names: Vec<_> = std::fs::read_dir(folder)
            .unwrap()
            .map(|e| e.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
    }

    #[test]
    fn a_file_appears_whole_or_not_at_all() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("out");
        let dropped = WholeFile::create(&path, false).unwrap();
        dropped.file().write_all(b"half").unwrap();
        drop(dropped);
        assert!(names(folder.path()).is_empty());

        let kept = WholeFile::create(&path, false).unwrap();
        kept.file().write_all(b"whole").unwrap();
        assert!(!path.exists());
        kept.keep().unwrap();
        assert_eq!(std::fs::read(&path).unwrap(), b"whole");
        assert!(matches!(WholeFile::create(&path, false), Err(TargetError::Exists(_))));

        let replaced = WholeFile::create(&path, true).unwrap();
        replaced.file().write_all(b"new").unwrap();
        assert_eq!(std::fs::read(&path).unwrap(), b"whole");
        replaced.keep().unwrap();
        assert_eq!(std::fs::read(&path).unwrap(), b"new");
        assert_eq!(names(folder.path()), ["out"]);
    }

    #[test]
    fn a_file_that_came_between_is_not_overwritten() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("out");
        let file = WholeFile::create(&path, false).unwrap();
        std::fs::write(&path, "theirs").unwrap();
        assert!(matches!(file.keep(), Err(TargetError::Exists(_))));
        assert_eq!(std::fs::read(&path).unwrap(), b"theirs");
        assert_eq!(names(folder.path()), ["out"]);
    }

    #[test]
    fn what_the_dead_left_behind_is_swept_and_what_lives_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let alive = WholeFile::create(&folder.path().join("a"), false).unwrap();
        let living = WholeDirectory::create(&folder.path().join("b"), false).unwrap();
        std::fs::write(folder.path().join(format!("{PREFIX}dead")), "half").unwrap();
        std::fs::create_dir(folder.path().join(format!("{PREFIX}sort-dead"))).unwrap();
        std::fs::write(folder.path().join(format!("{PREFIX}sort-dead/run")), "run").unwrap();
        std::fs::write(folder.path().join("other"), "theirs").unwrap();
        sweep(folder.path());
        assert!(alive.side_path().exists() && living.side_path().exists());
        assert_eq!(names(folder.path()).len(), 3);
        drop((alive, living));
        assert_eq!(names(folder.path()), ["other"]);
    }

    #[test]
    fn a_directory_replaces_another() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("parts");
        for (round, replace) in [("1", false), ("2", true)] {
            let parts = WholeDirectory::create(&path, replace).unwrap();
            std::fs::write(parts.side_path().join(round), round).unwrap();
            parts.keep().unwrap();
            assert_eq!(names(&path), [round]);
        }
        assert_eq!(names(folder.path()), ["parts"]);
    }
}
