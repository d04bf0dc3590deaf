//! Targets that take a load in parts, and what they are told.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use serde_json::Value;
use typhos_core::columns::Plan;
use typhos_core::run::Monitor;

use crate::contract::{DataFile, Mode};
use crate::destination::Destination;
use crate::error::TargetError;
use crate::gate::Gate;
use crate::whole::{WholeDirectory, followed, parent, sweep};

/// A target that a load may go to in parts: each into files of its own, all of which become visible in one step.
pub trait TakesParts {
    /// Why it does not take parts in this way, as a sentence; `None` where it does.
    fn refuses(&self, mode: Mode) -> Option<&'static str>;

    /// Where the stage is, where no other place is named.
    fn stage(&self) -> PathBuf;

    /// Where a part goes, as files in a folder of the stage; and what the target wants to be told again when all parts are to be
    /// published, which has to be the same for all of them.
    ///
    /// # Errors
    /// What stands in the way of the load.
    fn part(
        &self,
        plan: &Plan,
        mode: Mode,
        folder: &Path,
    ) -> Result<(Box<dyn Destination>, Value), TargetError>;

    /// The rows of a data file of a part.
    ///
    /// # Errors
    /// A file that cannot be read.
    fn rows_of(&self, file: &Path) -> Result<u64, TargetError>;

    /// Makes the files of all parts visible in one step.
    ///
    /// # Errors
    /// Whatever keeps it from that; then nothing is visible.
    fn publish(
        &self,
        parts: &Publishing<'_>,
        monitor: &dyn Monitor,
    ) -> Result<Published, TargetError>;
}

/// What is to be published.
pub struct Publishing<'p> {
    /// What tells these attempts at these parts from all others.
    pub id: String,
    /// What the target wanted to be told.
    pub note: &'p Value,
    /// What happens to what is there.
    pub mode: Mode,
    /// The files, in the order of the input.
    pub files: Vec<PartFile>,
    /// Passed right before anything is visible.
    pub gate: &'p Gate,
}

/// A data file of a part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PartFile {
    /// Where it is.
    pub from: PathBuf,
    /// The name that it gets inside of the target.
    pub name: PathBuf,
    /// Its rows.
    pub rows: u64,
    /// Its bytes.
    pub bytes: u64,
}

/// What was published.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Published {
    /// The files, where they are now.
    pub files: Vec<DataFile>,
    /// Whether all of it was visible before, by a process that did not come to say so.
    pub was_there: bool,
    /// What else there is to say.
    pub note: Option<String>,
}

/// Publishes the files of all parts as a directory.
///
/// # Errors
/// A place that cannot be written to, or is taken.
pub fn publish_directory(
    target: &Path,
    parts: &Publishing<'_>,
    monitor: &dyn Monitor,
) -> Result<Published, TargetError> {
    // A publication that was killed may have left records that wait for the target.
    sweep(parent(&followed(target)?), &[]);
    let is_there = |file: &PartFile| is_same(&file.from, &target.join(&file.name));
    let was_there = !parts.files.is_empty() && target.is_dir() && parts.files.iter().all(is_there);
    if !was_there {
        let directory = WholeDirectory::create(target, parts.mode == Mode::Replace)?;
        link_all(&parts.files, directory.side_path(), monitor)?;
        parts.gate.pass()?;
        directory.keep()?;
    }
    let files = parts.files.iter().map(|file| DataFile {
        path: target.join(&file.name),
        rows: file.rows,
        bytes: file.bytes,
    });
    Ok(Published { files: files.collect(), was_there, note: None })
}

/// Gives all files names in a folder.
///
/// # Errors
/// A place that cannot be written to.
pub fn link_all(
    files: &[PartFile],
    folder: &Path,
    monitor: &dyn Monitor,
) -> Result<(), TargetError> {
    for file in files {
        if monitor.stopped() {
            return Err(TargetError::Interrupted);
        }
        link(&file.from, &folder.join(&file.name))?;
    }
    Ok(())
}

/// A second name for a file, or a copy of it where there can be none.
fn link(from: &Path, to: &Path) -> Result<(), TargetError> {
    let failed = || TargetError::io(to);
    if let Some(folder) = to.parent() {
        std::fs::create_dir_all(folder).map_err(failed())?;
    }
    if std::fs::hard_link(from, to).is_ok() {
        return Ok(());
    }
    std::fs::copy(from, to).map_err(failed())?;
    File::open(to).and_then(|file| file.sync_all()).map_err(failed())
}

/// Whether two names are of one file, or of files with the same bytes.
fn is_same(one: &Path, other: &Path) -> bool {
    let compare = || -> io::Result<bool> {
        let (a, b) = (one.metadata()?, other.metadata()?);
        #[cfg(unix)]
        {
            use std::os::unix::fs::MetadataExt;
            if (a.dev(), a.ino()) == (b.dev(), b.ino()) {
                return Ok(true);
            }
        }
        if a.len() != b.len() {
            return Ok(false);
        }
        let (mut a, mut b) =
            (io::BufReader::new(File::open(one)?), io::BufReader::new(File::open(other)?));
        let (mut left, mut right) = (vec![0; 1 << 16], vec![0; 1 << 16]);
        loop {
            let read = a.read(&mut left)?;
            if read == 0 {
                return Ok(true);
            }
            b.read_exact(&mut right[..read])?;
            if left[..read] != right[..read] {
                return Ok(false);
            }
        }
    };
    compare().unwrap_or(false)
}
