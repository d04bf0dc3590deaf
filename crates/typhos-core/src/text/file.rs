//! One file of an input: how it is laid out, and where its records start.

use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};
use std::io::{Cursor, Read};
use std::path::Path;
use std::sync::{Arc, Mutex};

use super::file_layout::FileLayout;
use super::format::{self, Format, Opened, Packing, Sure};
use super::guess::guess;
use super::held_back::HeldBack;
use super::json_lines::{JsonLines, JsonShape};
use super::origin::{Origin, Stamp};
use super::other_formats::{is_binary, is_json, other_format};
use super::part::Piece;
use super::sniff::{self, Finding};
use super::{Charset, Dialect, InputChoice, InputError, InputFormat, LineEnds, PlainRecords};
use crate::records::Paths;

/// Bytes at the head of a file that its dialect is found from.
pub(super) const HEAD_BYTES: usize = 1 << 20;

/// Bytes at the end of a file in which totals and remarks are looked for.
const TAIL_BYTES: u64 = 16 << 10;

const BOM: &[u8] = b"\xef\xbb\xbf";

/// One file of an input.
#[derive(Debug, Clone)]
pub struct InputFile {
    origin: Arc<dyn Origin>,
    format: Option<Format>,
    /// Size in bytes as it is stored; 0 where it is not known, as of a stream.
    pub bytes: u64,
    /// Offset in the text of the first record below the header.
    pub data_start: u64,
    /// Line of that record, from 1.
    pub first_line: u64,
    layout: FileLayout,
    /// The names of its columns, where it has a header.
    names: Vec<String>,
    /// The lines above its table, and those between its header and the first record.
    preamble: Vec<u8>,
    below: Vec<u8>,
    /// Lines below its last record.
    skip_end: u32,
    /// Columns behind those that its header names.
    unnamed: usize,
    /// Lines at its end that look like totals or remarks, and what they look like.
    end: Option<(u32, String)>,
    /// What has been read of a stream already: its head, and the rest.
    held: Held,
    /// How its records stand in its text, where they are objects of JSON.
    json: Option<JsonShape>,
    /// What it was when it was opened; `None` of a stream, and before it is.
    stamp: Option<Stamp>,
    /// What of it is read, where only a part of the input is: nothing, or a piece.
    share: Option<Option<Piece>>,
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
    pub(super) fn new(origin: Arc<dyn Origin>) -> InputFile {
        InputFile {
            origin,
            format: None,
            bytes: 0,
            data_start: 0,
            first_line: 1,
            layout: FileLayout { dialect: Dialect::RFC_4180, fields: 0, paths: None, places: None },
            names: Vec::new(),
            preamble: Vec::new(),
            below: Vec::new(),
            skip_end: 0,
            unnamed: 0,
            end: None,
            held: Held::default(),
            json: None,
            stamp: None,
            share: None,
        }
    }

    /// A file of which nothing is read, and nothing was looked at.
    pub(super) fn unread(origin: Arc<dyn Origin>, bytes: u64) -> InputFile {
        let stamp = Some(Stamp { bytes, version: String::new() });
        InputFile { bytes, stamp, share: Some(None), ..InputFile::new(origin) }
    }

    /// Whether it was looked at: how it is laid out is known.
    pub(crate) fn is_looked_at(&self) -> bool {
        self.format.is_some()
    }

    /// The file as it was given.
    pub fn name(&self) -> String {
        self.origin.name()
    }

    /// Its bytes, as it is stored; 0 for a stream.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// Bytes of it that are read, about, where only a part of the input is.
    pub fn bytes_read(&self) -> u64 {
        match &self.share {
            None => self.bytes,
            Some(None) => 0,
            Some(Some(piece)) => {
                piece.to.unwrap_or(self.bytes).saturating_sub(piece.from.unwrap_or(0))
            }
        }
    }

    /// Whether anything of it is read.
    pub(crate) fn is_read(&self) -> bool {
        !matches!(self.share, Some(None))
    }

    /// What of it is read, where only a part of the input is.
    pub(super) fn piece(&self) -> Option<&Piece> {
        self.share.as_ref()?.as_ref()
    }

    /// The same, to count its lines.
    pub(super) fn piece_mut(&mut self) -> Option<&mut Piece> {
        self.share.as_mut()?.as_mut()
    }

    /// Says what of it is read.
    pub(super) fn take_piece(&mut self, piece: Option<Piece>) {
        self.share = Some(piece);
    }

    /// Whether a record at this place is behind what of it is read.
    pub(super) fn ends_before(&self, place: u64) -> bool {
        self.piece().and_then(|piece| piece.to).is_some_and(|to| place >= to)
    }

    /// Whether reading can begin in the middle of it.
    pub(super) fn can_be_entered(&self) -> bool {
        matches!(self.json, None | Some(JsonShape::Lines))
            && self.format.as_ref().is_some_and(Format::is_plain)
    }

    /// Where reading begins, and the line that this is: of the file, or the first, where lines before it are not known.
    pub(super) fn start(&self) -> (u64, u64) {
        match self.piece().and_then(|piece| Some((piece.from?, piece.line))) {
            Some((from, line)) => (from, line),
            None => (self.data_start, self.first_line),
        }
    }

    /// Whether it can be read only once.
    pub fn is_stream(&self) -> bool {
        self.stamp.is_none()
    }

    /// How the file is packed.
    pub fn packing(&self) -> Packing {
        self.format.as_ref().map_or(Packing::None, |format| format.packing)
    }

    /// How its text is laid out.
    pub fn dialect(&self) -> Dialect {
        self.layout.dialect
    }

    /// How its records are laid out.
    pub fn layout(&self) -> &FileLayout {
        &self.layout
    }

    /// The lines above its table, word for word.
    pub fn preamble(&self) -> &[u8] {
        &self.preamble
    }

    /// The lines between its header and the first record, word for word.
    pub fn below(&self) -> &[u8] {
        &self.below
    }

    /// The names of its columns; where it has no header `column_1`, `column_2`…
    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// Its encoding, by its name in the Encoding Standard.
    pub fn encoding_name(&self) -> &'static str {
        self.encoding().0.name()
    }

    /// Its encoding, and why.
    pub(super) fn encoding(&self) -> (Charset, String) {
        match &self.format {
            Some(format) => (format.encoding, format.why.clone()),
            None => (Charset::UTF_8, String::new()),
        }
    }

    /// How sure its encoding is.
    pub(super) fn sure(&self) -> Sure {
        self.format.as_ref().map_or(Sure::Certain, |format| format.sure)
    }

    /// Says which of its fields are the columns of the input.
    pub(super) fn take_places(&mut self, places: Vec<Option<usize>>) {
        let in_order = places.len() == self.layout.fields
            && places.iter().enumerate().all(|(column, place)| *place == Some(column));
        self.layout.places = (!in_order).then_some(places);
    }

    /// Opens the file at its first record; what is to be skipped at its end is left out.
    pub(super) fn open(&self) -> Result<Opened, InputError> {
        let opened = self.open_to_the_end()?;
        match self.json {
            Some(JsonShape::Array) => {
                return Ok(Opened { text: Box::new(JsonLines::of_array(opened.text)), ..opened });
            }
            Some(JsonShape::Objects) => {
                return Ok(Opened { text: Box::new(JsonLines::of_objects(opened.text)), ..opened });
            }
            Some(JsonShape::Lines) | None => {}
        }
        if self.skip_end == 0 {
            return Ok(opened);
        }
        let text = HeldBack::new(opened.text, self.skip_end, self.layout.dialect.line_ends);
        Ok(Opened { text: Box::new(text), ..opened })
    }

    fn open_to_the_end(&self) -> Result<Opened, InputError> {
        let failed = |source| self.failed(source);
        let held = self.held.0.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).take();
        if let Some(ReadAhead { head, rest }) = held {
            let mut head = Cursor::new(head);
            head.set_position(self.data_start);
            return Ok(Opened { text: Box::new(head.chain(rest.text)), ..rest });
        }
        if self.format.as_ref().is_none_or(Format::is_plain) {
            let text = self.origin.open(self.start().0).map_err(failed)?;
            return Ok(Opened { text, consumed: None });
        }
        let (mut opened, _) =
            format::open(&*self.origin, self.format.as_ref(), None).map_err(failed)?;
        std::io::copy(&mut (&mut opened.text).take(self.data_start), &mut std::io::sink())
            .map_err(failed)?;
        Ok(opened)
    }

    /// Fails where the file is no longer what it was when it was opened: then not all of it was read, or not all of
    /// it at one time.
    ///
    /// # Errors
    /// [`InputError::Changed`], and a file that is gone.
    pub(super) fn verify_unchanged(&self) -> Result<(), InputError> {
        let Some(stamp) = &self.stamp else { return Ok(()) };
        let now = self.origin.stamp().map_err(|source| self.failed(source))?;
        let Some(now) = now.filter(|now| now != stamp) else { return Ok(()) };
        let what = match now.bytes.cmp(&stamp.bytes) {
            Ordering::Less => format!("it shrank from {} to {} bytes", stamp.bytes, now.bytes),
            Ordering::Greater => format!("it grew from {} to {} bytes", stamp.bytes, now.bytes),
            Ordering::Equal => "it was written to, or replaced by another".to_owned(),
        };
        Err(InputError::Changed { file: self.name(), what })
    }

    /// Where it comes from.
    pub fn origin(&self) -> &Arc<dyn Origin> {
        &self.origin
    }

    /// Whether records are found in both at the same places.
    pub(super) fn is_laid_out_as(&self, other: &InputFile) -> bool {
        let of = |file: &InputFile| {
            let format = file.format.as_ref().map(|format| (format.packing, format.encoding));
            (file.layout.dialect, file.layout.fields, file.data_start, file.first_line, format)
        };
        of(self) == of(other)
    }

    /// Where the file is, if it is one.
    pub fn path(&self) -> Option<&Path> {
        self.origin.path()
    }

    pub(super) fn failed(&self, source: std::io::Error) -> InputError {
        InputError::Io { file: self.name(), source }
    }

    /// Fails where there are more columns than are read, those of this file and of others before it.
    pub(super) fn expect_columns(&self, columns: usize, limit: usize) -> Result<(), InputError> {
        match columns <= limit {
            true => Ok(()),
            false => Err(InputError::TooManyColumns { file: self.name(), columns, limit }),
        }
    }

    /// Reads the head of the file: finds what `choice` leaves open, reads the header, and notes where the
    /// records start.
    pub(super) fn look(&mut self, choice: &InputChoice) -> Result<Finding, InputError> {
        let head = self.head(choice.encoding)?;
        let text = self.text_of(&head)?;
        let format = choice.format.unwrap_or(match is_json(text) {
            true => InputFormat::Json,
            false => InputFormat::Delimited,
        });
        if format == InputFormat::Json {
            return self.look_at_json(head.len() - text.len(), text);
        }
        let whole = head.len() < HEAD_BYTES;
        // What is said to be no part of the table tells nothing of it.
        let above_end = match choice.skip_end {
            Some(lines @ 1..) if whole => {
                let mut kept = Vec::new();
                let ends = choice.line_ends.unwrap_or(LineEnds::Mixed);
                HeldBack::new(text, lines, ends)
                    .read_to_end(&mut kept)
                    .map_err(|source| self.failed(source))?;
                kept.len()
            }
            _ => text.len(),
        };
        let (above, known) = (&text[..above_end], sniff::Known::default());
        let found = sniff::sniff(above, choice, whole, &known);
        self.layout.dialect = found.dialect;
        // How many fields there are is what it would be if all of that were said: a declaration says all of it.
        let said = choice.or(&found.dialect.into());
        let settled = sniff::sniff(above, &said, whole, &known);
        self.skip_end = choice.skip_end.unwrap_or(0);
        self.read_header(&head, text, settled.fields, settled.has_short_header, choice)?;
        if self.skip_end == 0 && choice.skip_end.is_none() {
            let tail = if whole { text[self.preamble.len()..].to_vec() } else { self.tail()? };
            self.end = sniff::find_end(&tail, &self.layout.dialect, self.layout.fields);
        }
        let (_, why) = self.encoding();
        let is_likely_encoding = self.sure() == Sure::Likely;
        let mut finding = Finding { encoding: why, is_likely_encoding, ..found.finding };
        if self.unnamed > 0 {
            let columns = self.names.len();
            let named = columns - self.unnamed;
            finding.header.push_str(&format!("; it names {named} of {columns} columns"));
        }
        Ok(finding)
    }

    /// Takes the text, which starts behind a byte order mark of so many bytes, for objects of JSON. What their columns are
    /// is not known before all of them were read.
    fn look_at_json(&mut self, mark: usize, text: &[u8]) -> Result<Finding, InputError> {
        if text.trim_ascii_start().is_empty() {
            return Err(InputError::Empty { file: self.name() });
        }
        self.json = Some(JsonShape::of(text, mark + text.len() < HEAD_BYTES));
        self.layout.dialect = Dialect::LINES;
        self.layout.paths = Some(Arc::default());
        (self.data_start, self.first_line) = (mark as u64, 1);
        let (_, why) = self.encoding();
        let is_likely_encoding = self.sure() == Sure::Likely;
        Ok(Finding { encoding: why, is_likely_encoding, ..Finding::default() })
    }

    /// How its records stand in its text, where they are objects of JSON.
    pub fn json_shape(&self) -> Option<JsonShape> {
        self.json
    }

    /// Says which paths its records have, and how many of them are columns.
    pub(super) fn take_paths(&mut self, paths: Arc<Paths>, columns: usize) {
        self.layout.paths = Some(paths);
        self.layout.fields = columns;
    }

    /// Lines at its end that look like totals or remarks: how many, and what they look like.
    pub fn end(&self) -> Option<(u32, &str)> {
        self.end.as_ref().map(|(lines, why)| (*lines, &why[..]))
    }

    /// The last lines of a file that is text as it is stored; nothing of any other.
    fn tail(&self) -> Result<Vec<u8>, InputError> {
        if self.is_stream() || !self.format.as_ref().is_some_and(Format::is_plain) {
            return Ok(Vec::new());
        }
        let failed = |source| self.failed(source);
        let from = self.bytes.saturating_sub(TAIL_BYTES);
        let file = self.origin.open(from).map_err(failed)?;
        let mut tail = Vec::new();
        file.take(TAIL_BYTES).read_to_end(&mut tail).map_err(failed)?;
        let start = self.layout.dialect.line_ends.after_first(&tail);
        tail.drain(..start);
        Ok(tail)
    }

    /// The head of the text; finds size and format on the way.
    fn head(&mut self, said: Option<Charset>) -> Result<Vec<u8>, InputError> {
        self.stamp = self.origin.stamp().map_err(|source| self.failed(source))?;
        self.bytes = self.stamp.as_ref().map_or(0, |stamp| stamp.bytes);
        let (mut opened, format) =
            format::open(&*self.origin, None, said).map_err(|source| self.failed(source))?;
        // Room for all of it: growing would touch twice as much memory, and that costs more than reading.
        let mut head = Vec::with_capacity(self.bytes.min(HEAD_BYTES as u64) as usize);
        (&mut opened.text)
            .take(HEAD_BYTES as u64)
            .read_to_end(&mut head)
            .map_err(|source| self.failed(source))?;
        self.format = Some(format);
        if self.is_stream() {
            *self.held.0.lock().unwrap_or_else(|poisoned| poisoned.into_inner()) =
                Some(ReadAhead { head: head.clone(), rest: opened });
        }
        Ok(head)
    }

    /// The text of a head, without a byte order mark.
    fn text_of<'h>(&self, head: &'h [u8]) -> Result<&'h [u8], InputError> {
        let refuse = |reason| Err(InputError::NotText { file: self.name(), reason });
        match head {
            _ if let Some(what) = other_format(head) => refuse(what),
            _ if is_binary(head, self.sure() == Sure::Likely) => {
                refuse("it is full of bytes that are not text")
            }
            _ => Ok(head.strip_prefix(BOM).unwrap_or(head)),
        }
    }

    /// Reads the names of the columns and sets where the records start. `most` is the number of fields of
    /// most records.
    fn read_header(
        &mut self,
        head: &[u8],
        text: &[u8],
        most: usize,
        is_short: bool,
        choice: &InputChoice,
    ) -> Result<(), InputError> {
        let dialect = self.layout.dialect;
        let bom = head.len() - text.len();
        // Lines are those an editor shows.
        let above = sniff::after_lines(text, dialect.skip, LineEnds::Mixed);
        self.preamble = text[..above].to_vec();
        let table = &text[above..];
        let lines_above = dialect.line_ends.count(&text[..above]) as u64;
        let start = |file: &mut InputFile, at: usize| {
            file.data_start = (bom + above + at) as u64;
            file.first_line = 1 + lines_above + dialect.line_ends.count(&table[..at]) as u64;
        };
        start(self, 0);
        let Some(record) = PlainRecords::new(table, dialect).find(|r| !r.is_blank(table)) else {
            return Err(InputError::Empty { file: self.name() });
        };
        let line = lines_above + record.line as u64 + 1;
        let is_cut = !record.complete && head.len() >= HEAD_BYTES;
        if dialect.header && is_cut {
            return Err(InputError::HeaderTooLong { file: self.name(), line });
        }
        if dialect.header {
            let is_torn =
                record.line < dialect.line_ends.count(&table[..record.next]).saturating_sub(1);
            let what = match record.broken {
                Some(kind) if kind.is_never_closed() => Some("has a quote that is never closed"),
                Some(_) if is_torn => Some("goes over several lines and has text behind a quote"),
                _ => None,
            };
            if let Some(what) = what {
                return Err(InputError::HeaderTorn { file: self.name(), line, what });
            }
        }
        // Where only the header ends in a delimiter, that names no column either.
        let is_one_more = dialect.header && record.fields.len() == most + 1 && most > 1;
        let is_trailing = (dialect.trailing_delimiter || is_one_more) && record.ends_in_delimiter();
        // Without a header most records tell, since the first may be broken.
        let mut fields =
            if dialect.header { record.fields.len() - usize::from(is_trailing) } else { most };
        self.names = positional(fields);
        if dialect.header {
            let bytes = &table[record.start..record.next];
            if let Err(error) = std::str::from_utf8(bytes) {
                let byte = bytes[error.valid_up_to()];
                let likely =
                    guess(bytes).map_or(vec!["windows-1252".to_owned()], |guess| guess.labels());
                return Err(InputError::HeaderNotUtf8 { file: self.name(), line, byte, likely });
            }
            let mut below = record.next;
            for _ in 0..dialect.skip_below {
                below += dialect.line_ends.after_first(&table[below..]);
            }
            self.below = table[record.next..below].to_vec();
            start(self, below);
            let header = record.texts(table, &dialect);
            fields += usize::from(is_short);
            self.unnamed = if is_short { 0 } else { most.saturating_sub(fields) };
            fields += self.unnamed;
            self.names = positional(fields);
            for (name, header) in self.names.iter_mut().skip(usize::from(is_short)).zip(header) {
                if !header.trim().is_empty() {
                    *name = header.into_owned();
                }
            }
            tell_apart(&mut self.names);
        }
        if let Some(names) = &choice.names {
            if names.len() != fields {
                let (file, said) = (self.name(), names.len());
                return Err(InputError::OtherNames { file, fields, said });
            }
            self.names = names.clone();
        }
        self.layout.fields = fields;
        Ok(())
    }
}

/// Makes names of repeated ones that tell them apart: the second `port` is `port_2`, wherever it stands.
fn tell_apart(names: &mut [String]) {
    let seen: HashSet<String> = names.iter().cloned().collect();
    if seen.len() == names.len() {
        return;
    }
    let mut counts: HashMap<String, u32> = HashMap::new();
    let mut given: HashSet<String> = HashSet::new();
    for name in names {
        if given.insert(name.clone()) {
            continue;
        }
        let count = counts.entry(name.clone()).or_insert(1);
        loop {
            *count += 1;
            let apart = format!("{name}_{count}");
            // Not a name that another column has by itself.
            if !seen.contains(&apart) && given.insert(apart.clone()) {
                *name = apart;
                break;
            }
        }
    }
}

fn positional(fields: usize) -> Vec<String> {
    (1..=fields).map(|position| format!("column_{position}")).collect()
}
