//! A folder of this machine for files that go to a store: removed when it is dropped, and also where the process has to end at
//! once.

use std::path::Path;

use tempfile::TempDir;
use typhos_load::TargetError;
use typhos_load::unfinished::{self, Listed};

/// A folder that is there for a while.
#[derive(Debug)]
pub(crate) struct ScratchFolder {
    folder: TempDir,
    _listed: Listed,
}

impl ScratchFolder {
    /// A folder where the system keeps temporary files.
    ///
    /// # Errors
    /// A place that cannot be written to.
    pub fn new() -> Result<ScratchFolder, TargetError> {
        let folder = tempfile::Builder::new().prefix("typhos-").tempdir();
        let folder = folder.map_err(TargetError::io(&std::env::temp_dir()))?;
        let listed = unfinished::list(folder.path());
        Ok(ScratchFolder { folder, _listed: listed })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        self.folder.path()
    }
}
