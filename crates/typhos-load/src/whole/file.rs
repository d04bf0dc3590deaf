//! A file that is not there before it is whole.

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

use crate::unfinished::{self, Listed};
use tempfile::NamedTempFile;

use super::pending::Pending;
use super::places::{
    PREFIX, followed, locked_file, parent, permissions_of, refuse_existing, rename_new,
    sync_directory,
};
use super::sweep::sweep;
use crate::error::TargetError;

/// Writes a small file, whole or not at all.
///
/// # Errors
/// A file that is there and not to be replaced, a place that cannot be written to.
pub fn write_file(path: &Path, replace: bool, content: &[u8]) -> Result<(), TargetError> {
    sweep(parent(path), &[]);
    let whole = WholeFile::create(path, replace)?;
    whole.file().write_all(content).map_err(TargetError::io(path))?;
    whole.keep()
}

/// A file being written aside.
pub struct WholeFile {
    side: NamedTempFile,
    listed: Listed,
    /// Where it will stand, links followed.
    path: PathBuf,
    replace: bool,
}

impl WholeFile {
    /// Begins a file. One that is replaced hands its permissions on.
    ///
    /// # Errors
    /// A file that exists and is not to be replaced, something that is not a file, a folder that cannot be written to.
    pub fn create(path: &Path, replace: bool) -> Result<WholeFile, TargetError> {
        refuse_existing(path, replace)?;
        let path = followed(path)?;
        let old = path.metadata().ok();
        if let Some(old) = &old
            && !old.is_file()
        {
            let what = if old.is_dir() { "is a directory" } else { "is not a regular file" };
            let what = format!("{what}, and a file is to be written there; name another");
            return Err(TargetError::NotThat { path, what });
        }
        let file = WholeFile { replace, ..WholeFile::aside(&path)? };
        if let Some(permissions) = permissions_of(&path) {
            file.file().set_permissions(permissions).map_err(TargetError::io(&path))?;
        }
        Ok(file)
    }

    /// Begins a file without looking at what has its name.
    ///
    /// # Errors
    /// A folder that cannot be written to.
    pub fn aside(path: &Path) -> Result<WholeFile, TargetError> {
        let mut builder = tempfile::Builder::new();
        builder.prefix(PREFIX);
        #[cfg(unix)]
        {
            // As any program would make it: the umask takes off what it takes off.
            use std::os::unix::fs::PermissionsExt;
            builder.permissions(std::fs::Permissions::from_mode(0o666));
        }
        let side = locked_file(parent(path), &builder).map_err(TargetError::io(path))?;
        let listed = unfinished::list(side.path());
        Ok(WholeFile { side, listed, path: path.to_path_buf(), replace: false })
    }

    /// Syncs the file and lets it wait for an output to appear with.
    ///
    /// # Errors
    /// A file that cannot be written.
    pub fn into_pending(self) -> Result<Pending, TargetError> {
        self.file().sync_all().map_err(TargetError::io(&self.path))?;
        let (held, side) = self.side.into_parts();
        Ok(Pending::new(held, side, self.listed, self.path))
    }

    /// The file, to be written to.
    pub fn file(&self) -> &File {
        self.side.as_file()
    }

    /// Where it is written for now.
    pub fn side_path(&self) -> &Path {
        self.side.path()
    }

    /// A second handle on the side file.
    ///
    /// # Errors
    /// A system that gives none.
    pub fn writer(&self) -> Result<File, TargetError> {
        self.file().try_clone().map_err(TargetError::io(&self.path))
    }

    /// Syncs the file and gives it its name.
    ///
    /// # Errors
    /// [`TargetError::Exists`] where somebody else gave the name to another file, which stays.
    pub fn keep(self) -> Result<(), TargetError> {
        self.file().sync_all().map_err(TargetError::io(&self.path))?;
        let (held, side) = self.side.into_parts();
        unfinished::publish(&self.listed, || match self.replace {
            true => std::fs::rename(&side, &self.path).map_err(TargetError::io(&self.path)),
            false => rename_new(&side, &self.path),
        })?;
        // It has another name now, and is not to be removed.
        let _ = side.keep();
        drop(held);
        sync_directory(parent(&self.path))
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::super::tests::names;
    use super::*;

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
    fn permissions_of_what_is_replaced_stay() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("out");
        write_file(&path, false, b"old").unwrap();
        for mode in [0o600, 0o640, 0o664] {
            std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode)).unwrap();
            write_file(&path, true, b"new").unwrap();
            assert_eq!(path.metadata().unwrap().permissions().mode() & 0o777, mode);
        }
    }

    #[test]
    fn links_are_followed_and_stay() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        write_file(&at("real"), false, b"old").unwrap();
        std::os::unix::fs::symlink("real", at("link")).unwrap();
        assert!(matches!(write_file(&at("link"), false, b"x"), Err(TargetError::Exists(_))));
        write_file(&at("link"), true, b"new").unwrap();
        assert!(at("link").symlink_metadata().unwrap().is_symlink());
        assert_eq!(std::fs::read(at("real")).unwrap(), b"new");
        std::os::unix::fs::symlink("nowhere", at("broken")).unwrap();
        let error = write_file(&at("broken"), true, b"x").unwrap_err().to_string();
        assert!(error.contains("symbolic link to a file that does not exist"), "{error}");
    }

    #[test]
    fn what_is_no_file_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let error = write_file(folder.path(), true, b"x").unwrap_err().to_string();
        assert!(error.contains("is a directory"), "{error}");
        let error = write_file(Path::new("/dev/null"), true, b"x").unwrap_err().to_string();
        assert!(error.contains("is not a regular file"), "{error}");
    }
}
