//! One or more files read as one table.
//!
//! Opening an input reads the head of every file: the dialect and the header come from the first,
//! and the others must have the same columns. Nothing else is read until blocks are asked for.

use std::io::{Cursor, Read};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use encoding_rs::Encoding;
use thiserror::Error;

use super::sniff::{self, Finding};
use super::source::{self, Bytes, Format, Opened, Packing, Source};
use super::{Dialect, DialectChoice, PlainRecords};

/// Bytes at the head of a file that its dialect is found from.
const HEAD_BYTES: usize = 1 << 20;

/// Why an input cannot be read.
#[derive(Debug, Error)]
pub enum InputError {
    /// A file cannot be opened or read.
    #[error("{file}: {source}")]
    Io {
        /// The file, as it was given.
        file: String,
        /// What the operating system said.
        source: std::io::Error,
    },
    /// Nothing was given to read.
    #[error("no input file was given")]
    NoFiles,
    /// A file without a single record.
    #[error("{file} is empty: there is not even a header in it")]
    Empty {
        /// The file, as it was given.
        file: String,
    },
    /// A record longer than [`MAX_RECORD_BYTES`](super::MAX_RECORD_BYTES).
    #[error(
        "{file}, line {line}: the record that starts here does not end within 16 MiB; most likely a quote in it \
         is opened and never closed (if quotes mean nothing in this file, say --quote none)"
    )]
    RecordTooLong {
        /// The file, as it was given.
        file: String,
        /// Line on which the record starts.
        line: u64,
    },
    /// A file whose columns are not those of the first.
    #[error("{file} does not have the columns of {first}: {difference}")]
    OtherColumns {
        /// The file, as it was given.
        file: String,
        /// The first file of the input.
        first: String,
        /// What differs.
        difference: String,
    },
    /// Bytes that are not the UTF-8 they have to be.
    #[error(
        "{file}, line {line}: the header is not valid UTF-8 (byte 0x{byte:02x}); say what it is, for example \
         --encoding windows-1252"
    )]
    HeaderNotUtf8 {
        /// The file, as it was given.
        file: String,
        /// Line of the header.
        line: u64,
        /// The first byte that is not valid.
        byte: u8,
    },
    /// Something other than delimited text.
    #[error("{file} cannot be read as delimited text: {reason}")]
    NotText {
        /// The file, as it was given.
        file: String,
        /// What was seen.
        reason: &'static str,
    },
}

/// One file of an input.
#[derive(Debug, Clone)]
pub struct InputFile {
    source: Source,
    format: Option<Format>,
    /// Size in bytes as it is stored; 0 where it is not known, as of a stream.
    pub bytes: u64,
    /// Offset in the text of the first record below the header.
    pub data_start: u64,
    /// Line of that record, from 1.
    pub first_line: u64,
    /// What has been read of a stream already: its head, and the rest.
    held: Held,
}

/// A stream between the time its head is read and the time its records are.
#[derive(Clone, Default)]
struct Held(Arc<Mutex<Option<ReadAhead>>>);

/// The head of a text, and what comes after it.
struct ReadAhead {
    head: Vec<u8>,
    rest: Opened,
}

impl std::fmt::Debug for Held {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Held")
    }
}

impl InputFile {
    fn new(source: Source) -> InputFile {
        let bytes = match &source {
            Source::Memory(_, bytes) => bytes.len() as u64,
            Source::File(_) | Source::Stream(..) => 0,
        };
        InputFile {
            source,
            format: None,
            bytes,
            data_start: 0,
            first_line: 1,
            held: Held::default(),
        }
    }

    /// The file as it was given.
    pub fn name(&self) -> String {
        self.source.name()
    }

    /// How the file is packed.
    pub fn packing(&self) -> Packing {
        self.format.as_ref().map_or(Packing::None, |format| format.packing)
    }

    /// Opens the file at its first record.
    pub(super) fn open(&self) -> Result<Opened, InputError> {
        let failed = |source| self.failed(source);
        let held = self.held.0.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).take();
        if let Some(ReadAhead { head, rest }) = held {
            let mut head = Cursor::new(head);
            head.set_position(self.data_start);
            return Ok(Opened { text: Box::new(head.chain(rest.text)), ..rest });
        }
        if let (Source::File(path), true) =
            (&self.source, self.format.as_ref().is_none_or(Format::is_plain))
        {
            use std::io::{Seek, SeekFrom};
            let mut file = std::fs::File::open(path).map_err(failed)?;
            file.seek(SeekFrom::Start(self.data_start)).map_err(failed)?;
            // Read without a wrapper, so that the standard library need not zero what it reads into.
            return Ok(Opened { text: Box::new(file), consumed: None });
        }
        let (mut opened, _) =
            source::open(&self.source, self.format.as_ref(), None).map_err(failed)?;
        std::io::copy(&mut (&mut opened.text).take(self.data_start), &mut std::io::sink())
            .map_err(failed)?;
        Ok(opened)
    }

    pub(super) fn failed(&self, source: std::io::Error) -> InputError {
        InputError::Io { file: self.name(), source }
    }

    /// The head of the text; finds size and format on the way.
    fn head(&mut self, said: Option<&'static Encoding>) -> Result<Vec<u8>, InputError> {
        if let Source::File(path) = &self.source {
            let about = path.metadata().map_err(|source| self.failed(source))?;
            self.bytes = about.len();
        }
        let (mut opened, format) =
            source::open(&self.source, None, said).map_err(|source| self.failed(source))?;
        let mut head = Vec::new();
        (&mut opened.text)
            .take(HEAD_BYTES as u64)
            .read_to_end(&mut head)
            .map_err(|source| self.failed(source))?;
        self.format = Some(format);
        if matches!(self.source, Source::Stream(..)) {
            *self.held.0.lock().unwrap_or_else(|poisoned| poisoned.into_inner()) =
                Some(ReadAhead { head: head.clone(), rest: opened });
        }
        Ok(head)
    }
}

/// What stands at a path: a file, or a pipe that must not be opened twice.
fn source_at(path: PathBuf) -> Result<Source, InputError> {
    let failed = |source| InputError::Io { file: path.display().to_string(), source };
    if path.metadata().map_err(failed)?.is_file() {
        return Ok(Source::File(path));
    }
    let stream: Bytes = Box::new(std::fs::File::open(&path).map_err(failed)?);
    Ok(Source::Stream(path.display().to_string(), Arc::new(Mutex::new(Some(stream)))))
}

/// The files that the paths of a command line stand for: a directory stands for the files in it, in
/// order of their names, hidden ones and directories left out.
fn expand(paths: &[impl AsRef<Path>]) -> Result<Vec<PathBuf>, InputError> {
    let mut files = Vec::new();
    for path in paths.iter().map(AsRef::as_ref) {
        if !path.is_dir() {
            files.push(path.to_path_buf());
            continue;
        }
        let failed = |source| InputError::Io { file: path.display().to_string(), source };
        let mut inside = Vec::new();
        for entry in std::fs::read_dir(path).map_err(failed)? {
            let entry = entry.map_err(failed)?;
            if !entry.file_name().to_string_lossy().starts_with('.') && entry.path().is_file() {
                inside.push(entry.path());
            }
        }
        if inside.is_empty() {
            return Err(failed(std::io::Error::other("there are no files in this directory")));
        }
        inside.sort();
        files.append(&mut inside);
    }
    Ok(files)
}

/// One or more files read as one table, with their dialect and the names of their columns.
#[derive(Debug, Clone)]
pub struct Input {
    files: Vec<InputFile>,
    dialect: Dialect,
    names: Vec<String>,
    finding: Finding,
    encoding: &'static Encoding,
}

impl Input {
    /// Opens files: finds what `choice` leaves open of their dialect, and reads their headers. A
    /// directory stands for the files in it.
    ///
    /// # Errors
    /// A file that cannot be read, is empty or is not text, and files of different columns.
    pub fn open<P: AsRef<Path>>(paths: &[P], choice: &DialectChoice) -> Result<Input, InputError> {
        let sources = expand(paths)?.into_iter().map(source_at).collect::<Result<_, _>>()?;
        Self::of_sources(sources, choice)
    }

    /// Opens a stream, such as standard input, that can be read only once.
    ///
    /// # Errors
    /// As [`open`](Self::open).
    pub fn of_stream(
        name: &str,
        stream: Bytes,
        choice: &DialectChoice,
    ) -> Result<Input, InputError> {
        let source = Source::Stream(name.to_owned(), Arc::new(Mutex::new(Some(stream))));
        Self::of_sources(vec![source], choice)
    }

    /// An input of one file that is held in memory.
    pub fn from_bytes(name: &str, bytes: Vec<u8>, dialect: Dialect) -> Input {
        let source = Source::Memory(name.to_owned(), bytes.into());
        Self::of_sources(vec![source.clone()], &dialect.into()).unwrap_or_else(|_| Input {
            files: vec![InputFile::new(source)],
            dialect,
            names: Vec::new(),
            finding: Finding::default(),
            encoding: encoding_rs::UTF_8,
        })
    }

    fn of_sources(sources: Vec<Source>, choice: &DialectChoice) -> Result<Input, InputError> {
        let mut files: Vec<InputFile> = sources.into_iter().map(InputFile::new).collect();
        let (first, others) = files.split_first_mut().ok_or(InputError::NoFiles)?;
        let head = first.head(choice.encoding)?;
        let (dialect, mut finding) = {
            let text = after_bom(first, &head)?;
            sniff::sniff(text, choice, head.len() < HEAD_BYTES)
        };
        let format = first.format.clone();
        finding.encoding = format.as_ref().map_or(String::new(), |format| format.why.clone());
        let names = read_header(first, &head, &dialect)?;
        let first_name = first.name();
        for file in others {
            let head = file.head(choice.encoding)?;
            let theirs = read_header(file, &head, &dialect)?;
            if let Some(difference) = difference(&names, &theirs, dialect.header) {
                return Err(InputError::OtherColumns {
                    file: file.name(),
                    first: first_name,
                    difference,
                });
            }
        }
        let encoding = format.map_or(encoding_rs::UTF_8, |format| format.encoding);
        Ok(Input { files, dialect, names, finding, encoding })
    }

    /// The files, in the order they were given.
    pub fn files(&self) -> &[InputFile] {
        &self.files
    }

    /// How the text is laid out.
    pub fn dialect(&self) -> Dialect {
        self.dialect
    }

    /// The encoding of the first file, by its name in the Encoding Standard.
    pub fn encoding(&self) -> &'static str {
        self.encoding.name()
    }

    /// What was found of the dialect, and why.
    pub fn finding(&self) -> &Finding {
        &self.finding
    }

    /// The names in the header, or `column_1`, `column_2`… where there is none.
    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// Size of all files in bytes.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|file| file.bytes).sum()
    }
}

const BOM: &[u8] = b"\xef\xbb\xbf";

fn after_bom<'h>(file: &InputFile, head: &'h [u8]) -> Result<&'h [u8], InputError> {
    let refuse = |reason| Err(InputError::NotText { file: file.name(), reason });
    match head {
        [b'P', b'A', b'R', b'1', ..] => refuse("it is a Parquet file; 'typhos peek' shows those"),
        [b'{', b'"', ..] if is_json_object(head) => {
            refuse("its lines are JSON objects, which are not read yet")
        }
        _ if memchr::memchr(0, &head[..head.len().min(512)]).is_some() => {
            refuse("there are NUL bytes near its start")
        }
        _ => Ok(head.strip_prefix(BOM).unwrap_or(head)),
    }
}

/// Whether the first line is a JSON object by its ends.
fn is_json_object(head: &[u8]) -> bool {
    let line = head.split(|byte| *byte == b'\n').next().unwrap_or_default().trim_ascii();
    line.starts_with(b"{\"") && line.ends_with(b"}")
}

/// Reads the names of the columns and sets where the data start.
fn read_header(
    file: &mut InputFile,
    head: &[u8],
    dialect: &Dialect,
) -> Result<Vec<String>, InputError> {
    let text = after_bom(file, head)?;
    let bom = head.len() - text.len();
    file.data_start = bom as u64;
    let Some(record) = PlainRecords::new(text, *dialect).find(|record| !record.is_blank()) else {
        return Err(InputError::Empty { file: file.name() });
    };
    if record.broken.is_some_and(|broken| broken.is_never_closed()) && head.len() >= HEAD_BYTES {
        return Err(InputError::RecordTooLong { file: file.name(), line: record.line as u64 + 1 });
    }
    if !dialect.header {
        return Ok((1..=record.fields.len())
            .map(|position| format!("column_{position}"))
            .collect());
    }
    let bytes = &text[record.start..record.next];
    if let Err(error) = std::str::from_utf8(bytes) {
        let byte = bytes[error.valid_up_to()];
        return Err(InputError::HeaderNotUtf8 {
            file: file.name(),
            line: record.line as u64 + 1,
            byte,
        });
    }
    file.data_start = (bom + record.next) as u64;
    file.first_line = 1 + memchr::memchr_iter(b'\n', &text[..record.next]).count() as u64;
    let mut names = record.texts(text, dialect);
    for (position, name) in names.iter_mut().enumerate() {
        if name.trim().is_empty() {
            *name = format!("column_{}", position + 1);
        }
    }
    Ok(names)
}

fn difference(first: &[String], other: &[String], header: bool) -> Option<String> {
    if first.len() != other.len() {
        return Some(format!("it has {} of them instead of {}", other.len(), first.len()));
    }
    if !header {
        return None;
    }
    let (position, (ours, theirs)) =
        first.iter().zip(other).enumerate().find(|(_, (a, b))| a != b)?;
    Some(format!("column {} is '{theirs}' instead of '{ours}'", position + 1))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn open(files: &[(&str, &[u8])]) -> Result<Input, String> {
        let folder = tempfile::tempdir().unwrap();
        let paths: Vec<_> = files
            .iter()
            .map(|(name, bytes)| {
                let path = folder.path().join(name);
                std::fs::write(&path, bytes).unwrap();
                path
            })
            .collect();
        let strip = format!("{}/", folder.path().display());
        Input::open(&paths, &DialectChoice::default())
            .map_err(|error| error.to_string().replace(&strip, ""))
    }

    #[test]
    fn bom_blank_lines_and_quoted_line_breaks_in_the_header() {
        let input = open(&[("a.csv", b"\xef\xbb\xbf\n\"a\nb\",c,\n1,2,3\n")]).unwrap();
        assert_eq!(input.names(), ["a\nb", "c", "column_3"]);
        let file = &input.files()[0];
        assert_eq!((file.data_start, file.first_line), (3 + 1 + 9, 4));
    }

    #[test]
    fn what_cannot_be_read_is_said() {
        for (files, want) in [
            (vec![("a.csv", &b""[..])], "a.csv is empty"),
            (vec![("a.csv", b"\n\n")], "a.csv is empty"),
            (vec![("a.csv", b"a\0b,c\n")], "NUL bytes"),
            (
                vec![("a.csv", b"caf\xe9,b\n1,2\n")],
                "a.csv, line 1: the header is not valid UTF-8 (byte 0xe9)",
            ),
            (
                vec![("a.csv", b"a,b\n1,2\n"), ("b.csv", b"a,c\n1,2\n")],
                "column 2 is 'c' instead of 'b'",
            ),
            (vec![("a.csv", b"a,b\n1,2\n"), ("b.csv", b"a\n1\n")], "it has 1 of them instead of 2"),
        ] {
            let message = open(&files).unwrap_err();
            assert!(message.contains(want), "{message}");
        }
        let missing = Input::open(&["/nowhere/a.csv"], &DialectChoice::default()).unwrap_err();
        assert!(missing.to_string().starts_with("/nowhere/a.csv: No such file"), "{missing}");
    }
}
