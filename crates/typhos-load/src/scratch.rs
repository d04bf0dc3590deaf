//! Temporary files: a folder of them that nobody else touches, and that is gone when nothing in it is needed.

use std::fs::File;
use std::io::{self, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use tempfile::TempDir;
use typhos_core::spilling::{Scratch, Spilled};

use crate::unfinished::{self, Listed};
use crate::whole::locked_folder;

/// The name of such a folder, before a few random letters.
const PREFIX: &str = ".typhos-unfinished-aside-";

/// Puts things aside in a folder of temporary files, made where it is first needed.
#[derive(Debug)]
pub struct TempFiles {
    parent: PathBuf,
    made: Mutex<Option<Arc<Folder>>>,
}

/// The folder; dropped with the last file in it.
#[derive(Debug)]
struct Folder {
    files: TempDir,
    /// Locked, so that nobody takes the folder for one that was left behind.
    _lock: File,
    _listed: Listed,
    made: Mutex<u64>,
}

#[derive(Debug)]
struct TempFile {
    path: PathBuf,
    _folder: Arc<Folder>,
}

impl TempFiles {
    /// Temporary files in a folder of their own inside `parent`.
    pub fn inside(parent: &Path) -> Arc<dyn Scratch> {
        Arc::new(TempFiles { parent: parent.to_path_buf(), made: Mutex::default() })
    }

    fn folder(&self) -> io::Result<Arc<Folder>> {
        let mut made = self.made.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(folder) = &*made {
            return Ok(folder.clone());
        }
        let folder = Arc::new(Folder::make(&self.parent)?);
        *made = Some(folder.clone());
        Ok(folder)
    }
}

impl Folder {
    fn make(parent: &Path) -> io::Result<Folder> {
        let mut builder = tempfile::Builder::new();
        builder.prefix(PREFIX);
        let (files, lock) = locked_folder(parent, &builder)?;
        let listed = unfinished::list(files.path());
        Ok(Folder { files, _lock: lock, _listed: listed, made: Mutex::default() })
    }

    fn next_path(&self) -> PathBuf {
        let mut made = self.made.lock().unwrap_or_else(PoisonError::into_inner);
        *made += 1;
        self.files.path().join(format!("run-{made}"))
    }
}

impl Scratch for TempFiles {
    fn write(
        &self,
        fill: &mut dyn FnMut(&mut dyn Write) -> io::Result<()>,
    ) -> io::Result<Box<dyn Spilled>> {
        let folder = self.folder()?;
        let path = folder.next_path();
        let file = File::create_new(&path)?;
        // From here on it is removed, whatever happens.
        let spilled = TempFile { path, _folder: folder };
        let mut writer = BufWriter::with_capacity(1 << 16, file);
        fill(&mut writer)?;
        writer.flush()?;
        Ok(Box::new(spilled))
    }

    fn place(&self) -> String {
        self.parent.display().to_string()
    }
}

impl Spilled for TempFile {
    fn open(&self) -> io::Result<Box<dyn Read + Send>> {
        Ok(Box::new(File::open(&self.path)?))
    }
}

impl Drop for TempFile {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.path);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_go_one_by_one_and_the_folder_with_the_last() {
        let parent = tempfile::tempdir().unwrap();
        let entries = |folder: &Path| std::fs::read_dir(folder).unwrap().count();
        let scratch = TempFiles::inside(parent.path());
        assert_eq!(entries(parent.path()), 0, "nothing is made before it is needed");
        let put = |text: &'static [u8]| scratch.write(&mut |to| to.write_all(text)).unwrap();
        let (first, second) = (put(b"first"), put(b"second"));
        let folder = std::fs::read_dir(parent.path()).unwrap().next().unwrap().unwrap().path();
        for _ in 0..2 {
            let mut text = String::new();
            first.open().unwrap().read_to_string(&mut text).unwrap();
            assert_eq!(text, "first", "it is read as often as wanted");
        }
        assert!(scratch.write(&mut |_| Err(io::Error::other("stopped"))).is_err());
        assert_eq!(entries(&folder), 2, "what failed is not kept");
        drop(first);
        assert_eq!(entries(&folder), 1);
        drop(scratch);
        assert!(folder.exists(), "one file is still wanted");
        drop(second);
        assert_eq!(entries(parent.path()), 0);
    }
}
