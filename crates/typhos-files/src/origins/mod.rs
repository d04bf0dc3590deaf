//! What is read: files of this machine, streams such as standard input, and objects in [stores](crate::store).

mod expand;

use std::fmt;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use crate::store;
use expand::{Expanded, expand};
use typhos_core::text::{Bytes, Input, InputChoice, InputError, Origin, Part, Stamp};

/// Something that can be read.
pub(crate) type Found = Arc<dyn Origin>;

/// Opens files as one input: finds what `choice` leaves open of their dialect, and reads their headers. A directory
/// stands for the files in it, and a pattern with `*`, `?` or `[` for those it matches.
///
/// # Errors
/// A file that cannot be read, is empty or is not text, and files of different columns.
pub fn open<P: AsRef<Path>>(paths: &[P], choice: &InputChoice) -> Result<Input, InputError> {
    let (origins, notes) = origins_of(paths)?;
    spooled(Input::of(origins, notes, choice)?)
}

/// Opens the files that one part of an input has something of, and knows of the others.
///
/// # Errors
/// As [`open`], and a stream, which has no parts.
pub fn open_part<P: AsRef<Path>>(
    paths: &[P],
    choice: &InputChoice,
    part: Part,
) -> Result<Input, InputError> {
    let (origins, notes) = origins_of(paths)?;
    Input::of_part(origins, notes, choice, part)
}

/// The origins that paths stand for, and what is to be known of them.
fn origins_of<P: AsRef<Path>>(paths: &[P]) -> Result<(Vec<Found>, Vec<String>), InputError> {
    let (mut origins, mut notes) = (Vec::new(), Vec::new());
    // Paths that stand side by side are looked at together.
    for paths in paths.chunk_by(|a, b| store::is_url(a.as_ref()) == store::is_url(b.as_ref())) {
        if store::is_url(paths[0].as_ref()) {
            for url in paths.iter().map(|path| path.as_ref().to_string_lossy()) {
                let failed = |source| InputError::Io { file: store::shown(&url), source };
                let (more, passed) = store::origins(&url).map_err(failed)?;
                origins.extend(more);
                notes.extend(passed);
            }
        } else {
            let Expanded { files, notes: more } = expand(paths)?;
            notes.extend(more);
            for file in files {
                origins.push(origin_at(file)?);
            }
        }
    }
    Ok((origins, notes))
}

/// Opens a stream as an input, as [`open`] does files.
///
/// # Errors
/// The same.
pub fn open_stream(stream: Stream, choice: &InputChoice) -> Result<Input, InputError> {
    spooled(Input::of(vec![Arc::new(stream)], Vec::new(), choice)?)
}

/// The same input, where its records are objects of JSON and it has streams: those are written to files, since records
/// whose names are not known before all of them were read are read more than once.
fn spooled(input: Input) -> Result<Input, InputError> {
    if !input.is_json() || !input.is_stream() {
        return Ok(input);
    }
    let mut origins: Vec<Arc<dyn Origin>> = Vec::new();
    for (at, file) in input.files().iter().enumerate() {
        if file.is_stream() {
            let failed = |source| InputError::Io { file: file.name(), source };
            let text = input.text_of(at)?;
            origins.push(Arc::new(Spooled::of(file.name(), text).map_err(failed)?));
        } else {
            origins.push(file.origin().clone());
        }
    }
    // What was written is decoded already.
    let choice = InputChoice { encoding: None, ..input.choice().clone() };
    Input::of(origins, input.notes().to_vec(), &choice)
}

/// A stream that was written to a file without a name, which is gone with the process.
#[derive(Debug)]
struct Spooled {
    name: String,
    file: Arc<File>,
    bytes: u64,
}

impl Spooled {
    fn of(name: String, mut text: Bytes) -> io::Result<Spooled> {
        let mut file = tempfile::tempfile()?;
        let bytes = io::copy(&mut text, &mut file)?;
        Ok(Spooled { name, file: Arc::new(file), bytes })
    }
}

impl Origin for Spooled {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn open(&self, offset: u64) -> io::Result<Bytes> {
        Ok(Box::new(SpooledReader { file: self.file.clone(), at: offset }))
    }

    fn stamp(&self) -> io::Result<Option<Stamp>> {
        // Nobody else can write to it.
        Ok(Some(Stamp { bytes: self.bytes, version: String::new() }))
    }

    fn path(&self) -> Option<&Path> {
        None
    }
}

/// Reads a spooled stream from a place of its own.
struct SpooledReader {
    file: Arc<File>,
    at: u64,
}

impl io::Read for SpooledReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        use std::os::unix::fs::FileExt;
        let read = self.file.read_at(buffer, self.at)?;
        self.at += read as u64;
        Ok(read)
    }
}

/// What stands at a path: a file, or a pipe that must not be opened twice.
fn origin_at(path: PathBuf) -> Result<Arc<dyn Origin>, InputError> {
    let failed = |source| InputError::Io { file: path.display().to_string(), source };
    if path.metadata().map_err(failed)?.is_file() {
        return Ok(Arc::new(LocalFile(path)));
    }
    let stream = Box::new(File::open(&path).map_err(failed)?);
    Ok(Arc::new(Stream::new(path.display().to_string(), stream)))
}

/// A file of this machine.
#[derive(Debug, Clone)]
pub struct LocalFile(pub PathBuf);

impl Origin for LocalFile {
    fn name(&self) -> String {
        self.0.display().to_string()
    }

    fn open(&self, offset: u64) -> io::Result<Bytes> {
        use std::io::{Seek, SeekFrom};
        let mut file = File::open(&self.0)?;
        if offset > 0 {
            file.seek(SeekFrom::Start(offset))?;
        }
        // Read without a wrapper, so that the standard library need not zero what it reads into.
        Ok(Box::new(file))
    }

    fn stamp(&self) -> io::Result<Option<Stamp>> {
        use std::os::unix::fs::MetadataExt;
        let about = self.0.metadata()?;
        let modified = about.modified().ok();
        let version = format!("{:?} {} {}", modified, about.dev(), about.ino());
        Ok(Some(Stamp { bytes: about.len(), version }))
    }

    fn path(&self) -> Option<&Path> {
        Some(&self.0)
    }
}

/// Standard input, or any other stream: it can be opened once.
pub struct Stream {
    name: String,
    bytes: Mutex<Option<Bytes>>,
}

impl Stream {
    /// A stream, under a name.
    pub fn new(name: impl Into<String>, bytes: Bytes) -> Stream {
        Stream { name: name.into(), bytes: Mutex::new(Some(bytes)) }
    }
}

impl fmt::Debug for Stream {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.name)
    }
}

impl Origin for Stream {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn open(&self, offset: u64) -> io::Result<Bytes> {
        let mut bytes = self.bytes.lock().unwrap_or_else(PoisonError::into_inner);
        match bytes.take() {
            Some(bytes) if offset == 0 => Ok(bytes),
            _ => Err(io::Error::other("a stream can be read only once")),
        }
    }

    fn stamp(&self) -> io::Result<Option<Stamp>> {
        Ok(None)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stream_opens_once() {
        let stream = Stream::new("standard input", Box::new(io::Cursor::new(b"a,b\n".to_vec())));
        assert!(stream.open(0).is_ok());
        assert!(stream.open(0).is_err());
    }

    #[test]
    fn what_is_not_there_is_said() {
        let missing = open(&["/nowhere/a.csv"], &InputChoice::default()).unwrap_err();
        assert!(missing.to_string().starts_with("/nowhere/a.csv: No such file"), "{missing}");
    }

    #[test]
    fn a_file_that_is_replaced_has_another_stamp() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a");
        std::fs::write(&path, "one").unwrap();
        let file = LocalFile(path.clone());
        let before = file.stamp().unwrap();
        assert_eq!(before, file.stamp().unwrap());
        std::fs::write(folder.path().join("b"), "two").unwrap();
        std::fs::rename(folder.path().join("b"), path).unwrap();
        assert_ne!(before, file.stamp().unwrap());
    }
}
