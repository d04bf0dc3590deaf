//! A directory that is not there before all its files are whole.
//!
//! One that replaces another is exchanged with it in a single step, so that a reader finds the old one or the new
//! one. Where the system has no such step there are two renames, and a journal beside them from which the next
//! load completes what a killed one began.

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

use crate::unfinished::{self, Listed};
use serde_json::json;
use tempfile::TempDir;

use super::manifest;
use super::places::{
    PREFIX, Renaming, beside, followed, locked_file, locked_folder, parent, permissions_of,
    read_journal, refuse_existing, rename_at_once, rename_new, sync_directory,
};
use crate::error::TargetError;

/// What a journal is called, before a few random letters.
const JOURNAL: &str = ".typhos-unfinished-replacing-";

/// Whether a file is the journal of a directory that is being replaced.
pub(super) fn is_journal(name: &str) -> bool {
    name.starts_with(JOURNAL)
}

/// A directory being written aside.
pub struct WholeDirectory {
    side: TempDir,
    /// Locked as long as it is not whole.
    _held: File,
    listed: Listed,
    /// Where it will stand, links followed.
    path: PathBuf,
    replace: bool,
}

/// The first file of a directory that no load of ours wrote; `None` where all of them are ours.
///
/// # Errors
/// A path that is not a directory, or cannot be read.
pub fn foreign_file(path: &Path) -> Result<Option<PathBuf>, TargetError> {
    if path.metadata().is_ok_and(|about| !about.is_dir()) {
        let what = "is a file, and a directory is to be written there; name another".into();
        return Err(TargetError::NotThat { path: path.to_path_buf(), what });
    }
    manifest::foreign(path).map_err(TargetError::io(path))
}

/// Removes the list of its files from a directory that has its name: files that are part of a table have a list there, and
/// nobody replaces such a directory.
pub fn forget_list(path: &Path) {
    let _ = std::fs::remove_file(path.join(manifest::NAME));
}

/// Refuses to replace a directory that holds something that is not ours.
fn refuse_foreign(path: &Path, shown: &Path) -> Result<(), TargetError> {
    match foreign_file(path)? {
        None => Ok(()),
        Some(file) => Err(TargetError::Foreign { directory: shown.to_path_buf(), file }),
    }
}

impl WholeDirectory {
    /// Begins a directory. One that is replaced hands its permissions on.
    ///
    /// # Errors
    /// Something that exists and is not to be replaced or not ours, a folder that cannot be written to.
    pub fn create(path: &Path, replace: bool) -> Result<WholeDirectory, TargetError> {
        refuse_existing(path, replace)?;
        let path = followed(path)?;
        if path.exists() {
            refuse_foreign(&path, &path)?;
        }
        let mut builder = tempfile::Builder::new();
        builder.prefix(PREFIX);
        #[cfg(unix)]
        {
            // As any program would make it: the umask takes off what it takes off.
            use std::os::unix::fs::PermissionsExt;
            builder.permissions(std::fs::Permissions::from_mode(0o777));
        }
        let (side, held) =
            locked_folder(parent(&path), &builder).map_err(TargetError::io(&path))?;
        if let Some(permissions) = permissions_of(&path) {
            std::fs::set_permissions(side.path(), permissions).map_err(TargetError::io(&path))?;
        }
        let listed = unfinished::list(side.path());
        Ok(WholeDirectory { side, _held: held, listed, path, replace })
    }

    /// Where the files are written for now.
    pub fn side_path(&self) -> &Path {
        self.side.path()
    }

    /// Gives the directory its name. The files in it have been synced by whoever wrote them.
    ///
    /// # Errors
    /// [`TargetError::Exists`] where somebody else gave the name to something, and [`TargetError::Foreign`] where
    /// what is replaced is no longer ours alone; either stays as it is.
    pub fn keep(self) -> Result<(), TargetError> {
        self.keep_by(&|from, to| rename_at_once(from, to, Renaming::Exchange))
    }

    /// `exchange` gives two names to each other, or says that it cannot.
    fn keep_by(
        self,
        exchange: &dyn Fn(&Path, &Path) -> std::io::Result<bool>,
    ) -> Result<(), TargetError> {
        manifest::write(self.side.path())?;
        sync_directory(self.side.path())?;
        let folder = parent(&self.path);
        if !self.replace || self.path.symlink_metadata().is_err() {
            unfinished::publish(&self.listed, || rename_new(self.side.path(), &self.path))?;
            // It has another name now, and is not to be removed.
            let _ = self.side.keep();
            return sync_directory(folder);
        }
        refuse_foreign(&self.path, &self.path)?;
        let side = self.side.path();
        let mut is_exchanged = false;
        unfinished::publish(&self.listed, || {
            is_exchanged = exchange(side, &self.path).map_err(TargetError::io(&self.path))?;
            // Somebody may have put a file in it since it was looked at.
            match is_exchanged.then(|| refuse_foreign(side, &self.path)) {
                Some(Err(foreign)) => {
                    exchange(side, &self.path).map_err(TargetError::io(&self.path))?;
                    Err(foreign)
                }
                Some(Ok(())) | None => Ok(()),
            }
        })?;
        match is_exchanged {
            true => sync_directory(folder),
            false => self.replace_by_journal(),
        }
    }

    /// Two renames, with a journal beside them.
    fn replace_by_journal(self) -> Result<(), TargetError> {
        let folder = parent(&self.path);
        let old = locked_folder(folder, tempfile::Builder::new().prefix(PREFIX));
        let (old, _held) = old.map_err(TargetError::io(folder))?;
        let journal = locked_file(folder, tempfile::Builder::new().prefix(JOURNAL));
        let mut journal = journal.map_err(TargetError::io(folder))?;
        let name = |path: &Path| path.file_name().and_then(|name| name.to_str().map(str::to_owned));
        let entry = json!({
            "name": name(&self.path), "new": name(self.side.path()), "old": name(old.path()),
        });
        writeln!(journal, "{entry}").map_err(TargetError::io(journal.path()))?;
        journal.as_file().sync_all().map_err(TargetError::io(journal.path()))?;
        sync_directory(folder)?;
        // An empty directory is replaced by the renaming itself.
        std::fs::rename(&self.path, old.path()).map_err(TargetError::io(&self.path))?;
        if let Err(source) = std::fs::rename(self.side.path(), &self.path) {
            // The old one back, as well as that goes: the error that counts is the one above.
            if std::fs::rename(old.path(), &self.path).is_err() {
                let _ = (old.keep(), journal.keep());
            }
            return Err(TargetError::Io { path: self.path.clone(), source });
        }
        let _ = self.side.keep();
        sync_directory(folder)?;
        // The journal last: as long as the old one is there, it says what that is.
        drop(old);
        drop(journal);
        Ok(())
    }
}

/// Completes the replacement that a journal tells of, where whoever began it is dead. Returns what must not be
/// removed.
pub(super) fn settle(journal: &Path) -> Vec<PathBuf> {
    let folder = parent(journal);
    let Some((held, entry)) = read_journal(journal) else { return Vec::new() };
    let at = |key: &str| beside(journal, &entry[key]);
    let (name, new, old) = (at("name"), at("new"), at("old"));
    let is_dead = held.try_lock().is_ok();
    let (Some(name), Some(new), Some(old)) = (name, new, old) else {
        // Written in part: nothing was renamed yet.
        if is_dead {
            let _ = std::fs::remove_file(journal);
        }
        return Vec::new();
    };
    let has_files = |path: &Path| std::fs::read_dir(path).is_ok_and(|mut all| all.next().is_some());
    if !is_dead {
        return vec![new, old];
    }
    if name.symlink_metadata().is_err() {
        let left = if new.exists() { &new } else { &old };
        if rename_new(left, &name).and_then(|()| sync_directory(folder)).is_err() {
            return vec![new, old];
        }
    } else if has_files(&old) && new.exists() {
        // Another program has taken the name: both stay for a person to look at.
        return vec![new, old];
    }
    let _ = std::fs::remove_dir_all(&old);
    let _ = std::fs::remove_file(journal);
    Vec::new()
}

#[cfg(test)]
mod tests {
    use super::super::sweep::sweep;
    use std::os::unix::fs::PermissionsExt;

    use super::super::tests::names;
    use super::*;

    fn parts(path: &Path, replace: bool, part: &str) -> WholeDirectory {
        let parts = WholeDirectory::create(path, replace).unwrap();
        std::fs::write(parts.side_path().join(part), part).unwrap();
        parts
    }

    /// Exchanging is one way, the journal the other.
    fn each_way(test: impl Fn(&Path, &dyn Fn(WholeDirectory) -> Result<(), TargetError>)) {
        for has_exchange in [true, false] {
            let folder = tempfile::tempdir().unwrap();
            test(folder.path(), &|parts: WholeDirectory| {
                parts.keep_by(&|from, to| {
                    if has_exchange {
                        rename_at_once(from, to, Renaming::Exchange)
                    } else {
                        Ok(false)
                    }
                })
            });
        }
    }

    #[test]
    fn a_directory_replaces_another() {
        each_way(|folder, keep| {
            let path = folder.join("parts");
            for (round, replace) in [("1", false), ("2", true), ("3", true)] {
                keep(parts(&path, replace, round)).unwrap();
                assert_eq!(names(&path), [manifest::NAME, round]);
            }
            assert_eq!(names(folder), ["parts"]);
        });
    }

    #[test]
    fn what_is_not_ours_is_never_replaced() {
        each_way(|folder, keep| {
            let path = folder.join("parts");
            keep(parts(&path, false, "1")).unwrap();
            let begun = parts(&path, true, "2");
            std::fs::write(path.join("notes.txt"), "mine").unwrap();
            let foreign = |result: Result<(), TargetError>| {
                assert!(matches!(result, Err(TargetError::Foreign { .. })), "{result:?}");
            };
            foreign(keep(begun));
            foreign(WholeDirectory::create(&path, true).map(|_| ()));
            assert_eq!(names(&path), [manifest::NAME, "1", "notes.txt"]);
            assert_eq!(names(folder), ["parts"]);
        });
    }

    #[test]
    fn the_loser_of_a_race_is_told_that_it_exists() {
        each_way(|folder, keep| {
            let path = folder.join("parts");
            let (first, second) = (parts(&path, false, "1"), parts(&path, false, "2"));
            keep(first).unwrap();
            assert!(matches!(keep(second), Err(TargetError::Exists(_))));
            assert_eq!(names(&path), [manifest::NAME, "1"]);
            assert_eq!(names(folder), ["parts"]);
        });
    }

    #[test]
    fn permissions_of_what_is_replaced_stay() {
        each_way(|folder, keep| {
            let path = folder.join("parts");
            keep(parts(&path, false, "1")).unwrap();
            std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o700)).unwrap();
            keep(parts(&path, true, "2")).unwrap();
            assert_eq!(path.metadata().unwrap().permissions().mode() & 0o777, 0o700);
        });
    }

    /// The states a kill can leave behind, and what the next load makes of them.
    #[test]
    fn a_replacement_that_was_killed_is_completed() {
        for (has_target, has_new, want) in
            [(true, true, "old"), (false, true, "new"), (true, false, "new"), (false, false, "old")]
        {
            let folder = tempfile::tempdir().unwrap();
            let at = |name: &str| folder.path().join(name);
            let (new, old) = (format!("{PREFIX}new"), format!("{PREFIX}old"));
            let make = |name: &str, content: &str| {
                std::fs::create_dir(at(name)).unwrap();
                std::fs::write(at(name).join(content), "").unwrap();
            };
            match (has_target, has_new) {
                (true, true) => {
                    make("parts", "old");
                    make(&new, "new");
                    std::fs::create_dir(at(&old)).unwrap();
                }
                (false, true) => {
                    make(&old, "old");
                    make(&new, "new");
                }
                (true, false) => {
                    make(&old, "old");
                    make("parts", "new");
                }
                (false, false) => make(&old, "old"),
            }
            let entry = json!({ "name": "parts", "new": new, "old": old });
            std::fs::write(at(&format!("{JOURNAL}x")), entry.to_string()).unwrap();
            sweep(folder.path(), &[]);
            assert_eq!(names(folder.path()), ["parts"], "{has_target} {has_new}");
            assert_eq!(names(&at("parts")), [want], "{has_target} {has_new}");
        }
    }

    #[test]
    fn a_journal_of_a_living_load_or_of_somebody_else_harms_nobody() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let (new, old) = (format!("{PREFIX}new"), format!("{PREFIX}old"));
        std::fs::create_dir(at(&new)).unwrap();
        std::fs::create_dir(at(&old)).unwrap();
        let journal = at(&format!("{JOURNAL}x"));
        std::fs::write(&journal, json!({ "name": "p", "new": new, "old": old }).to_string())
            .unwrap();
        let held = File::open(&journal).unwrap();
        held.lock().unwrap();
        sweep(folder.path(), &[]);
        assert_eq!(names(folder.path()).len(), 3, "nothing was touched");
        drop(held);
        std::fs::write(&journal, r#"{"name":"../x","new":"a","old":"b"}"#).unwrap();
        sweep(folder.path(), &[]);
        assert!(names(folder.path()).is_empty());
    }
}
