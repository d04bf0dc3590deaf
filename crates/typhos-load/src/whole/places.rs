//! Folders and names: what the file system is asked for by all that is written whole.

use std::fs::{File, Permissions};
use std::path::{Path, PathBuf};

use crate::error::TargetError;

/// What is unfinished is called, before a few random letters.
pub(super) const PREFIX: &str = ".typhos-unfinished-";

/// The directory an output is to stand in.
pub fn parent(path: &Path) -> &Path {
    match path.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent,
        _ => Path::new("."),
    }
}

/// Where an output really stands: a symbolic link is followed, so that what it points to is replaced and the link
/// stays.
///
/// # Errors
/// A link that leads nowhere.
pub fn followed(path: &Path) -> Result<PathBuf, TargetError> {
    match path.symlink_metadata() {
        Ok(about) if about.is_symlink() => path.canonicalize().map_err(|_| TargetError::NotThat {
            path: path.to_path_buf(),
            what: "is a symbolic link to a file that does not exist; remove the link, or name the file".into(),
        }),
        _ => Ok(path.to_path_buf()),
    }
}

/// Asks the system whether files can be made in a folder.
///
/// # Errors
/// What it says where they cannot.
pub fn writable(folder: &Path) -> std::io::Result<()> {
    use rustix::fs::Access;
    Ok(rustix::fs::access(folder, Access::WRITE_OK | Access::EXEC_OK)?)
}

/// Names of a directory are kept only once the directory itself is synced.
pub(super) fn sync_directory(path: &Path) -> Result<(), TargetError> {
    File::open(path).and_then(|directory| directory.sync_all()).map_err(TargetError::io(path))
}

/// The permissions of what is replaced, which its successor gets.
pub(super) fn permissions_of(path: &Path) -> Option<Permissions> {
    path.metadata().ok().map(|about| about.permissions())
}

/// The number by which the file system knows what stands at a path: it stays the same when it is renamed.
pub(super) fn identity(path: &Path) -> Option<(u64, u64)> {
    use std::os::unix::fs::MetadataExt;
    path.symlink_metadata().ok().map(|about| (about.dev(), about.ino()))
}

/// How one name is given to what has another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Renaming {
    /// Only where nothing has the name.
    New,
    /// The two names are exchanged.
    Exchange,
}

/// Gives a name to what has another, unless the name is taken.
///
/// # Errors
/// [`TargetError::Exists`], and whatever keeps it from renaming.
pub(super) fn rename_new(from: &Path, to: &Path) -> Result<(), TargetError> {
    let taken = |error: std::io::Error| match error.kind() {
        std::io::ErrorKind::AlreadyExists | std::io::ErrorKind::DirectoryNotEmpty => {
            TargetError::Exists(to.to_path_buf())
        }
        _ => TargetError::Io { path: to.to_path_buf(), source: error },
    };
    match rename_at_once(from, to, Renaming::New) {
        Ok(true) => Ok(()),
        Err(error) => Err(taken(error)),
        // A link fails where the name is taken; directories have none, but none is overwritten that has files.
        Ok(false) if from.is_file() => {
            std::fs::hard_link(from, to).map_err(taken)?;
            std::fs::remove_file(from).map_err(TargetError::io(from))
        }
        Ok(false) if to.symlink_metadata().is_ok() => Err(TargetError::Exists(to.to_path_buf())),
        Ok(false) => std::fs::rename(from, to).map_err(taken),
    }
}

/// Opens a journal, and reads what was written of it so far; `None` where there is no such file.
pub(super) fn read_journal(journal: &Path) -> Option<(File, serde_json::Value)> {
    // Opening a pipe would wait for somebody to write into it.
    journal.symlink_metadata().ok().filter(std::fs::Metadata::is_file)?;
    let held = File::open(journal).ok()?;
    let text = std::fs::read(journal).unwrap_or_default();
    Some((held, serde_json::from_slice(&text).unwrap_or_default()))
}

/// The file beside a journal that it names; `None` where that is a path which leads elsewhere.
pub(super) fn beside(journal: &Path, name: &serde_json::Value) -> Option<PathBuf> {
    let name = name.as_str().filter(|name| Path::new(name).file_name() == Some(name.as_ref()))?;
    Some(parent(journal).join(name))
}

/// Removes what nobody holds a lock on: whoever works on it has it locked, and the system takes the lock of the
/// dead away.
pub(super) fn remove_if_dead(path: &Path) {
    // Opening a pipe would wait for somebody to write into it, and following a link would leave the folder.
    let Ok(about) = path.symlink_metadata() else { return };
    if !about.is_dir() && !about.is_file() {
        return;
    }
    let Ok(held) = File::open(path) else { return };
    if held.try_lock().is_ok() {
        let _ =
            if about.is_dir() { std::fs::remove_dir_all(path) } else { std::fs::remove_file(path) };
    }
}

/// Makes a temporary file that nobody takes for one that was left behind.
///
/// # Errors
/// A folder that cannot be written to.
pub(super) fn locked_file(
    folder: &Path,
    builder: &tempfile::Builder<'_, '_>,
) -> std::io::Result<tempfile::NamedTempFile> {
    loop {
        let file = builder.tempfile_in(folder)?;
        file.as_file().lock()?;
        // Another load may have swept it before it was locked.
        if is_still_there(file.as_file(), file.path()) {
            return Ok(file);
        }
    }
}

/// The same for a folder, with the handle that keeps it locked.
///
/// # Errors
/// A folder that cannot be written to.
pub fn locked_folder(
    folder: &Path,
    builder: &tempfile::Builder<'_, '_>,
) -> std::io::Result<(tempfile::TempDir, File)> {
    loop {
        let made = builder.tempdir_in(folder)?;
        let held = match File::open(made.path()) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => continue,
            held => held?,
        };
        held.lock()?;
        if is_still_there(&held, made.path()) {
            return Ok((made, held));
        }
    }
}

/// Whether what was opened and locked still has a name: another load may have swept it just before.
pub(super) fn is_still_there(held: &File, path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    match (held.metadata(), path.metadata()) {
        (Ok(held), Ok(there)) => (held.dev(), held.ino()) == (there.dev(), there.ino()),
        _ => false,
    }
}

/// Renames in one step. `Ok(false)`: the system or the file system has no such step, and nothing was done.
///
/// # Errors
/// Whatever keeps it from renaming; `AlreadyExists` where the name is taken.
#[cfg(any(target_os = "linux", target_os = "android", target_vendor = "apple"))]
pub(super) fn rename_at_once(from: &Path, to: &Path, how: Renaming) -> std::io::Result<bool> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    use rustix::io::Errno;
    let flags = match how {
        Renaming::New => RenameFlags::NOREPLACE,
        Renaming::Exchange => RenameFlags::EXCHANGE,
    };
    match renameat_with(CWD, from, CWD, to, flags) {
        Ok(()) => Ok(true),
        Err(Errno::NOSYS | Errno::INVAL | Errno::OPNOTSUPP) => Ok(false),
        Err(error) => Err(error.into()),
    }
}

#[cfg(not(any(target_os = "linux", target_os = "android", target_vendor = "apple")))]
pub(super) fn rename_at_once(_from: &Path, _to: &Path, _how: Renaming) -> std::io::Result<bool> {
    Ok(false)
}

/// Refuses an output that exists, unless it is to be replaced: asked before the work begins.
///
/// # Errors
/// [`TargetError::Exists`].
pub fn refuse_existing(path: &Path, replace: bool) -> Result<(), TargetError> {
    match path.symlink_metadata() {
        Ok(_) if !replace => Err(TargetError::Exists(path.to_path_buf())),
        _ => Ok(()),
    }
}
