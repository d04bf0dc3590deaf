//! A load in parts: each part of an input is loaded into a folder of a staging place, by any process on any machine
//! that sees it, and all of them are published at once.
//!
//! A part is there when its [manifest](PartManifest) is: that is written last, whole or not at all, and says which folder
//! has the files, how many rows and bytes those have, what was read and what became of every record. A part that ran
//! twice has two folders and one manifest; one that died half-way has none. [`commit`] takes the manifests alone at
//! their word, and only after it has looked: whether they are parts of one input that fit together, whether every file
//! is as it was written. Then all files appear under the target in one step, or none does.

mod commit;
mod manifest;
mod taker;

use std::fs::File;
use std::path::{Path, PathBuf};

pub use commit::{CommitError, Committed, OpenTarget, commit};
pub use manifest::{
    PartAccount, PartExample, PartManifest, PartMisfits, StagedFile, StagedRejects,
};
pub use taker::{PartFile, Published, Publishing, TakesParts, link_all, publish_directory};
use twox_hash::XxHash3_64;
use typhos_core::text::{Part, Whole};

use crate::error::TargetError;
use crate::whole::write_file;

/// What the file is called that says that all parts were published.
const COMMITTED: &str = "committed.json";

/// The end of the name of a manifest.
const MANIFEST: &str = ".json";

/// What tells one schema and one way of reading from another: a hash (XXH3, hexadecimal).
pub fn id_of(text: &str) -> String {
    format!("{:016x}", XxHash3_64::oneshot(text.as_bytes()))
}

/// The staging place of a load in parts.
#[derive(Debug, Clone)]
pub struct Stage {
    path: PathBuf,
}

impl Stage {
    /// The place that a load into a target has where no other is named: beside it.
    pub fn beside(target: &Path) -> PathBuf {
        let mut name = target.file_name().unwrap_or_default().to_owned();
        name.push(".stage");
        target.with_file_name(name)
    }

    /// A place that is made if it is not there.
    ///
    /// # Errors
    /// One that cannot be made.
    pub fn open(path: &Path) -> Result<Stage, TargetError> {
        std::fs::create_dir_all(path).map_err(TargetError::io(path))?;
        Ok(Stage { path: path.to_path_buf() })
    }

    /// A place that is there.
    ///
    /// # Errors
    /// One that is not.
    pub fn existing(path: &Path) -> Result<Stage, TargetError> {
        std::fs::read_dir(path).map_err(TargetError::io(path))?;
        Ok(Stage { path: path.to_path_buf() })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The name of a part: of its manifest, and the start of that of its folders.
    fn name(part: Part) -> String {
        format!("part-{:05}-of-{:05}", part.number(), part.count())
    }

    /// A folder for an attempt at a part, which nobody else has.
    ///
    /// # Errors
    /// A place that cannot be written to.
    pub fn folder(&self, part: Part) -> Result<PathBuf, TargetError> {
        let prefix = format!("{}-", Self::name(part));
        let named = tempfile::Builder::new().prefix(&prefix).rand_bytes(8).tempdir_in(&self.path);
        let named = named.map_err(TargetError::io(&self.path))?;
        // Only the name is wanted: a load makes its folder itself, in one step.
        Ok(named.path().to_path_buf())
    }

    /// The manifest of a part, where the part is there.
    ///
    /// # Errors
    /// One that cannot be read.
    pub fn find(&self, part: Part) -> Result<Option<PartManifest>, TargetError> {
        let path = self.path.join(Self::name(part)).with_extension(&MANIFEST[1..]);
        match path.exists() {
            true => manifest::read(&path).map(Some),
            false => Ok(None),
        }
    }

    /// Where a part begins, where the one before it is there and says so: the byte of its file.
    ///
    /// # Errors
    /// A manifest that cannot be read.
    pub fn begin_of(
        &self,
        part: Part,
        whole: &Whole,
    ) -> Result<Option<(String, u64)>, TargetError> {
        let before = Part::new(part.number() - 1, part.count());
        let Some(before) = before.map(|before| self.find(before)).transpose()?.flatten() else {
            return Ok(None);
        };
        let last = before.read.pieces.last().filter(|_| before.read.whole == *whole);
        Ok(last.filter(|piece| !piece.is_end).map(|piece| (piece.name.clone(), piece.ended)))
    }

    /// Says that a part is there. What another attempt at it left is removed.
    ///
    /// # Errors
    /// A place that cannot be written to.
    pub fn add(&self, manifest: &PartManifest) -> Result<(), TargetError> {
        let before = self.find(manifest.read.part).ok().flatten();
        let path = self.path.join(Self::name(manifest.read.part)).with_extension(&MANIFEST[1..]);
        write_file(&path, true, manifest.text().as_bytes())?;
        if let Some(before) = before {
            self.remove_files(&before);
        }
        Ok(())
    }

    /// Takes back that a part is there.
    ///
    /// # Errors
    /// A place that cannot be written to.
    fn remove(&self, manifest: &PartManifest) -> Result<(), TargetError> {
        let path = self.path.join(Self::name(manifest.read.part)).with_extension(&MANIFEST[1..]);
        std::fs::remove_file(&path).map_err(TargetError::io(&path))?;
        self.remove_files(manifest);
        Ok(())
    }

    /// Removes the files of an attempt, as well as that goes: without a manifest they are nothing.
    fn remove_files(&self, manifest: &PartManifest) {
        let _ = std::fs::remove_dir_all(self.path.join(&manifest.folder));
        if let Some(rejects) = &manifest.rejects {
            let _ = std::fs::remove_file(self.path.join(&rejects.name));
        }
    }

    /// Whether what was published from here is a load of this whole under this schema.
    ///
    /// # Errors
    /// A note of that which cannot be read.
    pub fn committed(&self, whole: &Whole, schema: &str) -> Result<bool, TargetError> {
        let path = self.path.join(COMMITTED);
        let text = match std::fs::read_to_string(&path) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(false),
            Err(error) => return Err(TargetError::io(&path)(error)),
        };
        let noted: Option<serde_json::Value> = serde_json::from_str(&text).ok();
        Ok(noted.is_some_and(|noted| noted["whole"] == whole.id && noted["schema"] == schema))
    }

    /// Forgets what was published from here: another load begins.
    ///
    /// # Errors
    /// A place that cannot be written to.
    pub fn forget_committed(&self) -> Result<(), TargetError> {
        let path = self.path.join(COMMITTED);
        match std::fs::remove_file(&path) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                Err(TargetError::io(&path)(error))
            }
            _ => Ok(()),
        }
    }

    /// All parts that are there.
    fn manifests(&self) -> Result<Vec<PartManifest>, TargetError> {
        let failed = || TargetError::io(&self.path);
        let mut paths = Vec::new();
        for entry in std::fs::read_dir(&self.path).map_err(failed())? {
            let path = entry.map_err(failed())?.path();
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            if name.starts_with("part-") && name.ends_with(MANIFEST) {
                paths.push(path);
            }
        }
        paths.sort();
        paths.iter().map(|path| manifest::read(path)).collect()
    }

    /// Keeps others from publishing at the same time, as long as it is held.
    fn lock(&self) -> Result<Option<File>, TargetError> {
        let path = self.path.join(".lock");
        let file = File::options().create(true).append(true).open(&path);
        let file = file.map_err(TargetError::io(&path))?;
        Ok(file.try_lock().is_ok().then_some(file))
    }
}
