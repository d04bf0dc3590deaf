//! Where bytes come from. The core opens no files: it is given origins, and opens those.

use std::fmt;
use std::io::{self, Cursor, Read};
use std::path::Path;
use std::sync::Arc;

/// A reader of any kind that can go to another thread.
pub type Bytes = Box<dyn Read + Send>;

/// A named thing that is read: a file, standard input, an object in a store.
pub trait Origin: fmt::Debug + Send + Sync {
    /// What a person calls it.
    fn name(&self) -> String;

    /// Opens it so many bytes behind its start.
    ///
    /// # Errors
    /// What the system says; a stream that was opened before, or is to be opened elsewhere than at its start.
    fn open(&self, offset: u64) -> io::Result<Bytes>;

    /// What it is now; `None` of a stream, which can be opened only once and ends when it does.
    ///
    /// # Errors
    /// What the system says.
    fn stamp(&self) -> io::Result<Option<Stamp>>;

    /// Its size in bytes, as far as that is known without asking, or by asking; `None` of a stream.
    ///
    /// # Errors
    /// What the system says.
    fn size(&self) -> io::Result<Option<u64>> {
        Ok(self.stamp()?.map(|stamp| stamp.bytes))
    }

    /// Where it is, if it is a file of this machine that outputs have to be kept apart from.
    fn path(&self) -> Option<&Path> {
        None
    }
}

/// By what something is known to be what was opened, unchanged.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stamp {
    /// Its size in bytes.
    pub bytes: u64,
    /// What is another once it is written to or replaced, in words of the origin's own.
    pub version: String,
}

/// Bytes that are held in memory.
#[derive(Clone)]
pub struct Memory {
    name: String,
    bytes: Arc<[u8]>,
}

impl Memory {
    /// Bytes, under a name.
    pub fn new(name: impl Into<String>, bytes: impl Into<Arc<[u8]>>) -> Memory {
        Memory { name: name.into(), bytes: bytes.into() }
    }
}

impl fmt::Debug for Memory {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ({} bytes)", self.name, self.bytes.len())
    }
}

impl Origin for Memory {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn open(&self, offset: u64) -> io::Result<Bytes> {
        let mut bytes = Cursor::new(self.bytes.clone());
        bytes.set_position(offset);
        Ok(Box::new(bytes))
    }

    fn stamp(&self) -> io::Result<Option<Stamp>> {
        Ok(Some(Stamp { bytes: self.bytes.len() as u64, version: String::new() }))
    }
}
