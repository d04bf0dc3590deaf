//! Parts of an input: shares of its bytes, each read by itself, which together are the whole.
//!
//! The files of an input are laid end to end and cut into shares of equal size. A record belongs to the part in whose
//! share the line starts that it starts on. Where a share starts inside of a file, the first record in it is looked for
//! by how the text splits ([`begin`](super::begin)): that is taken for granted, and noted. A part is read up to the first
//! end of a record at or behind the end of its share, and that is noted too. So the parts of a file are proven from the
//! first to the last: where one ended, the next has to have begun.
//!
//! Packed text, text in other encodings than UTF-8 and an array of JSON cannot be entered in the middle: such a file
//! belongs, as a whole, to the part in whose share it starts.

use std::fmt;
use std::hash::Hasher;
use std::io::Read;
use std::sync::{Arc, Mutex, PoisonError};

use serde::{Deserialize, Serialize};
use twox_hash::XxHash3_64;

use super::begin::find_begin;
use super::{ColumnsDiffer, Input, InputChoice, InputError, InputFile, Origin};

/// Which share of an input is meant: the `number`-th of `count`, from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Part {
    number: u32,
    count: u32,
}

/// The most parts of one input.
pub const MOST_PARTS: u32 = 1_000_000;

impl Part {
    /// The `number`-th of `count` parts; `None` where there is no such part, or there would be too many.
    pub fn new(number: u32, count: u32) -> Option<Part> {
        let is_one = (1..=MOST_PARTS).contains(&count) && (1..=count).contains(&number);
        is_one.then_some(Part { number, count })
    }

    /// Reads a part as it is written, `3/16`.
    ///
    /// # Errors
    /// What is wrong with it, as a clause.
    pub fn parse(word: &str) -> Result<Part, String> {
        let numbers = word.split_once('/').and_then(|(number, count)| {
            Some((number.trim().parse().ok()?, count.trim().parse().ok()?))
        });
        let (number, count) =
            numbers.ok_or("is not a part: write 3/16 for the third of sixteen")?;
        Part::new(number, count).ok_or_else(|| match count {
            0 => "is not a part: there is at least one".into(),
            1..=MOST_PARTS => format!("is not a part: they go from 1/{count} to {count}/{count}"),
            _ => "is a part of more than 1,000,000".into(),
        })
    }

    /// Which one it is, from 1.
    pub fn number(self) -> u32 {
        self.number
    }

    /// How many there are.
    pub fn count(self) -> u32 {
        self.count
    }

    /// Its share of so many bytes: from where to before where.
    pub fn share(self, bytes: u64) -> (u64, u64) {
        let at =
            |number: u32| (u128::from(bytes) * u128::from(number) / u128::from(self.count)) as u64;
        (at(self.number - 1), at(self.number))
    }
}

impl fmt::Display for Part {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.number, self.count)
    }
}

impl TryFrom<String> for Part {
    type Error = String;

    fn try_from(word: String) -> Result<Part, String> {
        Part::parse(&word)
    }
}

impl From<Part> for String {
    fn from(part: Part) -> String {
        part.to_string()
    }
}

/// What of a file is read as a part of it.
#[derive(Debug, Clone)]
pub(super) struct Piece {
    /// Where reading begins, at the start of a line between records; `None` at the first record of the file.
    pub from: Option<u64>,
    /// No record is read whose line starts here or further on; `None` to the end of the file.
    pub to: Option<u64>,
    /// The line on which reading begins, where that is not the first record of the file: its first, where it was not
    /// counted.
    pub line: u64,
    /// Where reading ended.
    reached: Arc<Mutex<Option<Reached>>>,
}

impl Piece {
    fn new(from: Option<u64>, to: Option<u64>) -> Piece {
        Piece { from, to, line: 1, reached: Arc::default() }
    }

    pub fn reach(&self, reached: Reached) {
        *self.reached.lock().unwrap_or_else(PoisonError::into_inner) = Some(reached);
    }
}

/// Where the reading of a piece of a file ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Reached {
    /// The end of the last record, comment or blank line.
    pub at: u64,
    /// Line ends before that: in the file, or in the piece, where that begins in the middle.
    pub lines: u64,
    /// Whether it is the end of the file.
    pub is_end: bool,
}

/// What parts are of: the files of an input, their sizes, and the order in which they were given.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Whole {
    /// How many files.
    pub files: u64,
    /// Bytes of all of them, as they are stored.
    pub bytes: u64,
    /// A hash (XXH3, hexadecimal) of their names and sizes, in their order.
    pub id: String,
}

impl Whole {
    fn of(input: &Input) -> Whole {
        let files: Vec<_> = input.files().iter().map(|file| (file.name(), file.bytes())).collect();
        Whole::of_files(files.iter().map(|(name, bytes)| (&name[..], *bytes)))
    }

    /// That of files with these names and sizes.
    pub fn of_files<'f>(files: impl IntoIterator<Item = (&'f str, u64)>) -> Whole {
        let mut hasher = XxHash3_64::default();
        let mut whole = Whole { files: 0, bytes: 0, id: String::new() };
        for (name, bytes) in files {
            hasher.write_u64(name.len() as u64);
            hasher.write(name.as_bytes());
            hasher.write_u64(bytes);
            whole.files += 1;
            whole.bytes += bytes;
        }
        whole.id = format!("{:016x}", hasher.finish());
        whole
    }
}

/// What was read of a file: what has to be known to put what was read of the rest behind it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ReadPiece {
    /// Which file of the input, from 0.
    pub file: u64,
    /// The name of the file, as it was given.
    pub name: String,
    /// Its bytes, as it is stored.
    pub bytes: u64,
    /// Byte of the file at which reading began: the start of a line between records.
    pub began: u64,
    /// Whether that is where the records of the file begin; else it was taken for granted, and lines are counted from there.
    pub is_start: bool,
    /// Byte of the file behind the last record that was read.
    pub ended: u64,
    /// Line ends before that: in the file, or from where reading began.
    pub lines: u64,
    /// Whether nothing of the file is left.
    pub is_end: bool,
}

/// Line ends of a file before a place; `None` where `goes_on`, which is told of bytes, says that it is enough.
fn lines_before(
    file: &InputFile,
    from: u64,
    goes_on: &mut dyn FnMut(u64) -> bool,
) -> Result<Option<u64>, InputError> {
    /// Bytes that are read at a time.
    const CHUNK_BYTES: usize = 1 << 20;
    let failed = |source| file.failed(source);
    let mut before = file.origin().open(0).map_err(failed)?.take(from);
    let (mut chunk, mut lines) = (Vec::with_capacity(CHUNK_BYTES), 0);
    loop {
        // A CR at the end belongs to the LF behind it, if there is one.
        let held = usize::from(chunk.last() == Some(&b'\r'));
        chunk.drain(..chunk.len() - held);
        let read =
            (&mut before).take(CHUNK_BYTES as u64).read_to_end(&mut chunk).map_err(failed)?;
        let counted = chunk.len() - usize::from(read > 0 && chunk.last() == Some(&b'\r'));
        lines += file.dialect().line_ends.count(&chunk[..counted]) as u64;
        if read == 0 {
            return Ok(Some(lines));
        }
        if !goes_on(read as u64) {
            return Ok(None);
        }
    }
}

impl Input {
    /// Opens origins for one [part](Self::take_part) of them. Only those that it has something of are looked at, and the
    /// first, from which is known how all are laid out.
    ///
    /// # Errors
    /// As [`Input::of`], and a stream, which has no parts.
    pub fn of_part(
        origins: Vec<Arc<dyn Origin>>,
        notes: Vec<String>,
        choice: &InputChoice,
        part: Part,
    ) -> Result<Input, InputError> {
        if choice.columns_differ == Some(ColumnsDiffer::Union) {
            return Input::of(origins, notes, choice);
        }
        let mut sizes = Vec::with_capacity(origins.len());
        for origin in &origins {
            let failed = |source| InputError::Io { file: origin.name(), source };
            sizes.push(origin.size().map_err(failed)?.ok_or(InputError::NoParts)?);
        }
        let (from, to) = part.share(sizes.iter().sum());
        let mut start = 0;
        let is_needed: Vec<bool> = sizes
            .iter()
            .enumerate()
            .map(|(at, bytes)| {
                let end = start + bytes;
                let is_needed = at == 0 || end > from && start < to;
                start = end;
                is_needed
            })
            .collect();
        let needed = origins.iter().zip(&is_needed).filter(|(_, is_needed)| **is_needed);
        let needed = needed.map(|(origin, _)| origin.clone()).collect();
        let mut input = Input::of(needed, notes, choice)?;
        let mut looked_at = input.take_files().into_iter();
        let all = origins.into_iter().zip(sizes).zip(is_needed);
        let all = all.map(|((origin, bytes), is_needed)| {
            let known = is_needed.then(|| looked_at.next()).flatten();
            known.unwrap_or_else(|| InputFile::unread(origin, bytes))
        });
        input.set_files(all.collect());
        Ok(input)
    }

    /// Narrows the input to a part of it, whatever it was narrowed to before. `begin` says at which byte of its file the
    /// first record of the part starts, where that is known: else it is looked for.
    ///
    /// # Errors
    /// A stream, which has no parts; a `begin` that is outside of the share of the part, or of a part that begins
    /// with a file; a file that cannot be read.
    pub fn take_part(&mut self, part: Part, begin: Option<u64>) -> Result<(), InputError> {
        if self.is_stream() {
            return Err(InputError::NoParts);
        }
        let (whole, limit) = (Whole::of(self), self.record_limit());
        let (from, to) = part.share(whole.bytes);
        self.narrowed = Some((part, whole));
        let (mut start, mut begin) = (0, begin);
        for file in self.files_mut() {
            let end = start + file.bytes();
            let is_begun = start < from;
            let piece = if !file.can_be_entered() {
                (from..to).contains(&start).then(|| Piece::new(None, None))
            } else if end <= from || start >= to {
                None
            } else {
                let from = match begin.take_if(|_| is_begun) {
                    _ if !is_begun => None,
                    None => find_begin(file, from - start, limit)?,
                    Some(said) if (from - start..=file.bytes()).contains(&said) => Some(said),
                    Some(said) => {
                        let (file, least) = (file.name(), from - start);
                        return Err(InputError::BeginOutside { file, said, least });
                    }
                };
                Some(Piece::new(from, (to < end).then(|| to - start)))
            };
            file.take_piece(piece);
            start = end;
        }
        match begin {
            Some(_) => Err(InputError::BeginsWithFile),
            None => Ok(()),
        }
    }

    /// Counts the lines before a part that begins in the middle of a file, so that its records stand on the lines of the
    /// file: all bytes before it are read. `goes_on` is told of them, and asked whether to go on; `false` is returned
    /// where it said no.
    ///
    /// # Errors
    /// A file that cannot be read.
    pub fn count_lines_before(
        &mut self,
        mut goes_on: impl FnMut(u64) -> bool,
    ) -> Result<bool, InputError> {
        for file in self.files_mut() {
            let Some(from) = file.piece().and_then(|piece| piece.from) else { continue };
            let Some(lines) = lines_before(file, from, &mut goes_on)? else { return Ok(false) };
            if let Some(piece) = file.piece_mut() {
                piece.line = lines + 1;
            }
        }
        Ok(true)
    }

    /// What was read of each file of which there is something in this part, in the order of the input. Where not all of
    /// it was read, only what was.
    pub fn read_pieces(&self) -> Vec<ReadPiece> {
        let read = |(at, file): (usize, &InputFile)| {
            let piece = file.piece()?;
            let reached = *piece.reached.lock().unwrap_or_else(PoisonError::into_inner);
            let Reached { at: ended, lines, is_end } = reached?;
            Some(ReadPiece {
                file: at as u64,
                name: file.name(),
                bytes: file.bytes(),
                began: file.start().0,
                is_start: piece.from.is_none(),
                ended,
                lines,
                is_end,
            })
        };
        self.files().iter().enumerate().filter_map(read).collect()
    }

    /// Whether it was [narrowed](Self::take_part) to a part.
    pub fn is_part(&self) -> bool {
        self.narrowed.is_some()
    }

    /// The part that it was narrowed to, and of what; `None` where it is whole.
    pub fn part(&self) -> Option<(Part, &Whole)> {
        self.narrowed.as_ref().map(|(part, whole)| (*part, whole))
    }
}
