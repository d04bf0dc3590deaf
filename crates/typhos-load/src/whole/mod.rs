//! Outputs that appear whole or not at all: written aside, synced, put in place by one step of the file
//! system.
//!
//! What is being written stands in the same directory as the output, under a name of its own, so that putting
//! it in place stays within one file system. It is locked while its writer lives and removed when that is
//! dropped, which is also what happens after an error or an interruption; what a killed writer left is
//! [swept](sweep) by the next one.
//!
//! [`file`] and [`directory`] are the two kinds of output, [`manifest`] says which files of a directory are
//! ours, [`pending`] makes a second file appear together with an output, and [`guard`] keeps outputs apart from
//! what is read. What is written, and in which format, is the business of each target.

mod directory;
mod file;
pub mod guard;
mod manifest;
pub mod pending;
mod places;
mod sweep;

pub use directory::{WholeDirectory, foreign_file, forget_list};
pub use file::{WholeFile, write_file};
pub use places::{followed, locked_folder, parent, refuse_existing, writable};
pub use sweep::sweep;

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::places::{PREFIX, rename_new};
    use super::*;
    use crate::error::TargetError;

    pub(super) fn names(folder: &Path) -> Vec<String> {
        let mut names: Vec<_> = std::fs::read_dir(folder)
            .unwrap()
            .map(|e| e.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
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
        sweep(folder.path(), &[]);
        assert!(alive.side_path().exists() && living.side_path().exists());
        assert_eq!(names(folder.path()).len(), 3);
        drop((alive, living));
        assert_eq!(names(folder.path()), ["other"]);
    }

    #[test]
    fn a_pipe_named_like_ours_holds_nobody_up() {
        let folder = tempfile::tempdir().unwrap();
        let pipe = folder.path().join(format!("{PREFIX}pipe"));
        // Not by another process: between its fork and its start it would hold the locks of other tests.
        let (kind, mode) = (rustix::fs::FileType::Fifo, rustix::fs::Mode::RWXU);
        rustix::fs::mknodat(rustix::fs::CWD, &pipe, kind, mode, 0).unwrap();
        std::os::unix::fs::symlink("/nowhere", folder.path().join(format!("{PREFIX}link")))
            .unwrap();
        sweep(folder.path(), &[]);
        assert_eq!(names(folder.path()).len(), 2, "neither is ours");
    }

    #[test]
    fn a_name_that_is_taken_is_not_given_again() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("a"), "a").unwrap();
        std::fs::write(at("b"), "b").unwrap();
        std::fs::create_dir(at("c")).unwrap();
        std::fs::create_dir(at("d")).unwrap();
        assert!(matches!(rename_new(&at("a"), &at("b")), Err(TargetError::Exists(_))));
        assert!(matches!(rename_new(&at("c"), &at("d")), Err(TargetError::Exists(_))));
        rename_new(&at("a"), &at("e")).unwrap();
        rename_new(&at("c"), &at("f")).unwrap();
        assert_eq!(names(folder.path()), ["b", "d", "e", "f"]);
    }
}
