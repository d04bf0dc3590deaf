//! One or more files read as one table.
//!
//! Opening an input reads the head of every file. The dialect is found from the first, and the others
//! are expected to be laid out alike; lines above the table and line ends are each file's own. Columns
//! are matched by the names in the headers. Nothing else is read until blocks are asked for.

use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use thiserror::Error;

use super::expand::{Expanded, expand, source_at};
use super::guess::guess;
use super::sniff::Finding;
use super::source::{Bytes, Source, Sure, foreign_lines};
use super::{
    Charset, ColumnsDiffer, DEFAULT_RECORD_LIMIT, Dialect, Escape, InputChoice, InputFile,
    QuotedEmpty,
};
use crate::wording::listed;

/// Why an input cannot be read.
#[derive(Debug, Error)]
pub enum InputError {
    /// A file changed while it was read.
    #[error("{file} changed while it was read: {what}; run this again once nothing writes to it")]
    Changed {
        /// The file.
        file: String,
        /// What changed.
        what: String,
    },
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
    #[error(
        "{file} is empty: there is not even a header in it, or none below the lines that are skipped"
    )]
    Empty {
        /// The file, as it was given.
        file: String,
    },
    /// A header that goes on and on.
    #[error(
        "{file}, line {line}: the header that starts here does not end within 1 MiB; most likely a quote in it \
         is opened and never closed (if quotes mean nothing in this file, say --quote none)"
    )]
    HeaderTooLong {
        /// The file, as it was given.
        file: String,
        /// Line on which the header starts.
        line: u64,
    },
    /// A header whose quotes do not end where they should.
    #[error(
        "{file}, line {line}: the header that starts here {what}; close the quote, or say --header false if it is not a \
         header, or --quote none if quotes mean nothing in this file"
    )]
    HeaderTorn {
        /// The file, as it was given.
        file: String,
        /// Line on which the header starts.
        line: u64,
        /// What is wrong with it.
        what: &'static str,
    },
    /// A file whose columns are not those of the others.
    #[error(
        "{file} does not have the columns of {first}: {difference}; to read them together, say --columns-differ \
         union (every column of any file) or first (those of the first file)"
    )]
    OtherColumns {
        /// The file, as it was given.
        file: String,
        /// The first file of the input.
        first: String,
        /// What differs.
        difference: String,
    },
    /// A file without a header that has another number of columns than the first.
    #[error(
        "{file} has {fields} columns and {first} has {expected}; without a header nothing tells which of them are \
         the same"
    )]
    OtherCount {
        /// The file, as it was given.
        file: String,
        /// The first file of the input.
        first: String,
        /// Columns of the file.
        fields: usize,
        /// Columns of the first file.
        expected: usize,
    },
    /// Names were said, and not as many as there are columns.
    #[error("{said} names given for {file}, and it has {fields} columns")]
    OtherNames {
        /// The file, as it was given.
        file: String,
        /// Its columns.
        fields: usize,
        /// How many names were said.
        said: usize,
    },
    /// Two parts of a dialect that cannot be the same byte.
    #[error("'{byte}' cannot be {one} and {other}")]
    Contradiction {
        /// The byte.
        byte: char,
        /// What it was said to be.
        one: &'static str,
        /// What it is as well.
        other: &'static str,
    },
    /// Bytes that are not the UTF-8 they have to be.
    #[error(
        "{file}, line {line}: the header is not valid UTF-8 (byte 0x{byte:02x}); say what it is: {advice}"
    )]
    HeaderNotUtf8 {
        /// The file, as it was given.
        file: String,
        /// Line of the header.
        line: u64,
        /// The first byte that is not valid.
        byte: u8,
        /// Encodings that it may have, as they are said.
        advice: String,
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

/// How the columns of one file differ from those of the input.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// Which file of the input, from 0.
    pub file: usize,
    /// Columns of the input that it lacks: they are absent in its records.
    pub lacks: Vec<String>,
    /// Columns of its own that are left out.
    pub left_out: Vec<String>,
}

/// One or more files read as one table, with their dialect and the names of their columns.
#[derive(Debug, Clone)]
pub struct Input {
    files: Vec<InputFile>,
    names: Vec<String>,
    finding: Finding,
    choice: InputChoice,
    /// What is to be known of the files that were given.
    notes: Vec<String>,
    /// Whether blocks are told which records they have.
    numbered: Arc<AtomicBool>,
}

impl Input {
    /// Opens files: finds what `choice` leaves open of their dialect, and reads their headers. A
    /// directory stands for the files in it, a pattern for those it matches.
    ///
    /// # Errors
    /// A file that cannot be read, is empty or is not text, and files of different columns.
    pub fn open<P: AsRef<Path>>(paths: &[P], choice: &InputChoice) -> Result<Input, InputError> {
        let Expanded { files, notes } = expand(paths)?;
        let sources = files.into_iter().map(source_at).collect::<Result<_, _>>()?;
        let input = Self::of_sources(sources, choice)?;
        Ok(Input { notes, ..input })
    }

    /// Opens a stream, such as standard input, that can be read only once.
    ///
    /// # Errors
    /// As [`open`](Self::open).
    pub fn of_stream(name: &str, stream: Bytes, choice: &InputChoice) -> Result<Input, InputError> {
        let source = Source::Stream(name.to_owned(), Arc::new(Mutex::new(Some(stream))));
        Self::of_sources(vec![source], choice)
    }

    /// An input of one file that is held in memory; of no file, where it cannot be read as one.
    pub fn from_bytes(name: &str, bytes: Vec<u8>, choice: &InputChoice) -> Input {
        let source = Source::Memory(name.to_owned(), bytes.into());
        Self::of_sources(vec![source], choice).unwrap_or_else(|_| Input {
            files: Vec::new(),
            names: Vec::new(),
            finding: Finding::default(),
            choice: choice.clone(),
            notes: Vec::new(),
            numbered: Arc::default(),
        })
    }

    fn of_sources(sources: Vec<Source>, choice: &InputChoice) -> Result<Input, InputError> {
        let mut files: Vec<InputFile> = sources.into_iter().map(InputFile::new).collect();
        let (first, others) = files.split_first_mut().ok_or(InputError::NoFiles)?;
        let mut finding = first.look(choice)?;
        let dialect = first.dialect();
        agree(&dialect)?;
        // What was found of the first file holds for all; where the table starts and what ends its lines
        // may be each one's own.
        let alike = InputChoice {
            skip: choice.skip,
            line_ends: choice.line_ends,
            trailing_delimiter: choice.trailing_delimiter,
            ..choice.or(&dialect.into())
        };
        for file in others {
            file.look(&alike)?;
        }
        if choice.encoding.is_none() {
            one_encoding(&mut files, choice, &alike, &mut finding)?;
        }
        let names = match_columns(&mut files, choice)?;
        let (choice, notes) = (choice.clone(), Vec::new());
        Ok(Input { files, names, finding, choice, notes, numbered: Arc::default() })
    }

    /// The same input, where its text turned out not to be UTF-8 only behind the heads of its files, read in the
    /// encoding that is likely. `None` where one is said, where there is none, and of a stream.
    ///
    /// # Errors
    /// As [`open`](Self::open).
    pub fn in_likely_encoding(&self) -> Result<Option<Input>, InputError> {
        let is_open = |file: &&InputFile| file.encoding().0 == Charset::UTF_8;
        if self.choice.encoding.is_some() || self.is_stream() {
            return Ok(None);
        }
        let mut lines = Vec::new();
        for file in self.files.iter().filter(is_open) {
            let more = foreign_lines(file.source()).map_err(|source| file.failed(source))?;
            lines.extend(more);
        }
        let Some(guess) = guess(&lines) else { return Ok(None) };
        let sources = self.files.iter().map(|file| file.source().clone()).collect();
        let choice = InputChoice { encoding: Some(guess.charset), ..self.choice.clone() };
        let mut input = Self::of_sources(sources, &choice)?;
        input.finding.encoding = guess.why();
        input.notes.clone_from(&self.notes);
        Ok(Some(input))
    }

    /// What is to be known of the files that were given: those that were passed over, those that were given twice.
    pub fn notes(&self) -> &[String] {
        &self.notes
    }

    /// Asks that from now on every block knows the number of its first record: records are then split once
    /// more, to be counted.
    pub fn number_records(&self) {
        self.numbered.store(true, Ordering::Relaxed);
    }

    pub(super) fn is_numbered(&self) -> bool {
        self.numbered.load(Ordering::Relaxed)
    }

    /// The files, in the order they were given.
    pub fn files(&self) -> &[InputFile] {
        &self.files
    }

    /// How the text of the first file is laid out; the others are laid out alike, but for what stands
    /// above their tables and what ends their lines.
    pub fn dialect(&self) -> Dialect {
        self.files.first().map_or(Dialect::RFC_4180, InputFile::dialect)
    }

    /// The encoding of the first file, by its name in the Encoding Standard.
    pub fn encoding(&self) -> &'static str {
        self.files.first().map_or("UTF-8", InputFile::encoding_name)
    }

    /// What was found of the dialect, and why.
    pub fn finding(&self) -> &Finding {
        &self.finding
    }

    /// What was said of the input.
    pub fn choice(&self) -> &InputChoice {
        &self.choice
    }

    /// The names of the columns: as they were said, from the headers, or `column_1`, `column_2`…
    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// Whether names were said or stand in a header.
    pub fn is_named(&self) -> bool {
        self.dialect().header || self.choice.names.is_some()
    }

    /// Whether the files would be read in the same way if this were said of them, as it is meant in a declaration. Of a
    /// stream, which can be opened only once, nobody knows.
    pub(crate) fn is_found_again(&self, choice: &InputChoice) -> Option<bool> {
        if self.is_stream() {
            return None;
        }
        let sources = self.files.iter().map(|file| file.source().clone()).collect();
        let again = Input::of_sources(sources, &choice.as_declared());
        Some(again.is_ok_and(|again| {
            again.names == self.names
                && again
                    .files
                    .iter()
                    .zip(&self.files)
                    .all(|(again, file)| again.is_laid_out_as(file))
        }))
    }

    /// Fails where a file is no longer what it was when it was opened: asked behind the last record by whoever must
    /// have read all of it.
    ///
    /// # Errors
    /// [`InputError::Changed`], and a file that is gone.
    pub fn verify_unchanged(&self) -> Result<(), InputError> {
        self.files.iter().try_for_each(InputFile::verify_unchanged)
    }

    /// Whether it is a stream, which can be read only once.
    pub fn is_stream(&self) -> bool {
        self.files.iter().any(InputFile::is_stream)
    }

    /// Size of all files in bytes.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|file| file.bytes).sum()
    }

    /// The most bytes a record may have.
    pub fn record_limit(&self) -> usize {
        self.choice.record_limit.unwrap_or(DEFAULT_RECORD_LIMIT)
    }

    /// What a blank field in quotes means.
    pub fn quoted_empty(&self) -> QuotedEmpty {
        self.choice.quoted_empty.unwrap_or_default()
    }

    /// The files whose columns are not all of those of the input, or more.
    pub fn differences(&self) -> Vec<Difference> {
        let mut differences = Vec::new();
        for (index, file) in
            self.files.iter().enumerate().filter(|(_, f)| !f.layout().is_in_order())
        {
            let layout = file.layout();
            let place = |column: usize| layout.place(column);
            let lacks: Vec<String> = (0..self.names.len())
                .filter(|column| place(*column).is_none())
                .map(|column| self.names[column].clone())
                .collect();
            let used: Vec<usize> = (0..self.names.len()).filter_map(place).collect();
            let left_out: Vec<String> = (0..layout.fields)
                .filter(|field| !used.contains(field))
                .map(|field| file.names()[field].clone())
                .collect();
            if !lacks.is_empty() || !left_out.is_empty() {
                differences.push(Difference { file: index, lacks, left_out });
            }
        }
        differences
    }
}

/// Reads all files in the encoding that is likely for one of them, where it is possible for the others: one delivery
/// has one encoding, and a file that has nothing but ASCII does not show it.
fn one_encoding(
    files: &mut [InputFile],
    choice: &InputChoice,
    alike: &InputChoice,
    finding: &mut Finding,
) -> Result<(), InputError> {
    let likely = files.iter().find(|file| file.sure() == Sure::Likely).map(InputFile::encoding);
    let Some((charset, why)) = likely.filter(|_| files.len() > 1) else { return Ok(()) };
    for (at, file) in files.iter_mut().enumerate() {
        let is_other = match file.sure() {
            Sure::Certain => false,
            Sure::Ascii => true,
            Sure::Likely => file.encoding().0 != charset,
        };
        if is_other {
            let choice = if at == 0 { choice } else { alike };
            file.look(&InputChoice { encoding: Some(charset), ..choice.clone() })?;
        }
    }
    finding.encoding = why;
    Ok(())
}

/// One byte cannot mean two things.
fn agree(dialect: &Dialect) -> Result<(), InputError> {
    let escape = (dialect.escape == Escape::Backslash).then_some(b'\\');
    let parts = [
        (Some(dialect.delimiter), "the delimiter"),
        (dialect.quote, "the quote"),
        (dialect.comment, "the start of a comment"),
        (escape, "the escape"),
    ];
    for (at, (byte, one)) in parts.iter().enumerate() {
        let other = parts[at + 1..].iter().find(|(other, _)| byte.is_some() && byte == other);
        if let (Some(byte), Some((_, other))) = (byte, other) {
            return Err(InputError::Contradiction { byte: char::from(*byte), one, other });
        }
    }
    Ok(())
}

/// Finds which fields of each file are the columns of the input. Returns the names of those.
fn match_columns(files: &mut [InputFile], choice: &InputChoice) -> Result<Vec<String>, InputError> {
    let first = &files[0];
    let mut names = first.names().to_vec();
    if !first.dialect().header || choice.names.is_some() {
        let (expected, first) = (names.len(), first.name());
        return match files.iter().find(|file| file.layout().fields != expected) {
            None => Ok(names),
            Some(file) => {
                let (file, fields) = (file.name(), file.layout().fields);
                Err(InputError::OtherCount { file, first, fields, expected })
            }
        };
    }
    let policy = choice.columns_differ.unwrap_or_default();
    if policy == ColumnsDiffer::Union {
        for file in &files[1..] {
            let places = places(&names, file.names());
            let used: std::collections::HashSet<usize> = places.into_iter().flatten().collect();
            let more = file.names().iter().enumerate().filter(|(at, _)| !used.contains(at));
            let more: Vec<String> = more.map(|(_, name)| name.clone()).collect();
            names.extend(more);
        }
    }
    let first = files[0].name();
    for file in files {
        let places = places(&names, file.names());
        if policy == ColumnsDiffer::Stop
            && let Some(difference) = difference(&names, file.names(), &places)
        {
            return Err(InputError::OtherColumns { file: file.name(), first, difference });
        }
        file.take_places(places);
    }
    Ok(names)
}

/// Where each of `names` stands among `theirs`; of repeated names the first goes with the first.
fn places(names: &[String], theirs: &[String]) -> Vec<Option<usize>> {
    if names == theirs {
        return (0..names.len()).map(Some).collect();
    }
    let mut by_name: std::collections::HashMap<&str, std::collections::VecDeque<usize>> =
        std::collections::HashMap::new();
    for (at, name) in theirs.iter().enumerate() {
        by_name.entry(name).or_default().push_back(at);
    }
    let mut next = |name: &String| by_name.get_mut(name.as_str())?.pop_front();
    names.iter().map(&mut next).collect()
}

/// How the columns of a file differ, for a person; `None` where they are the same in some order.
fn difference(names: &[String], theirs: &[String], places: &[Option<usize>]) -> Option<String> {
    let lacks: Vec<&String> =
        names.iter().zip(places).filter(|(_, place)| place.is_none()).map(|(n, _)| n).collect();
    let used: std::collections::HashSet<usize> = places.iter().flatten().copied().collect();
    let more = theirs.iter().enumerate().filter(|(at, _)| !used.contains(at));
    let more: Vec<&String> = more.map(|(_, name)| name).collect();
    match (lacks.is_empty(), more.is_empty()) {
        (true, true) => None,
        (false, true) => Some(format!("it lacks {}", listed(lacks))),
        (true, false) => Some(format!("it has {} besides", listed(more))),
        (false, false) => {
            Some(format!("it lacks {}, and has {} besides", listed(lacks), listed(more)))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn open_with(files: &[(&str, &[u8])], choice: &InputChoice) -> Result<Input, String> {
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
        Input::open(&paths, choice).map_err(|error| error.to_string().replace(&strip, ""))
    }

    fn open(files: &[(&str, &[u8])]) -> Result<Input, String> {
        open_with(files, &InputChoice::default())
    }

    fn named(names: &[&str]) -> InputChoice {
        let names = names.iter().map(|name| (*name).to_owned()).collect();
        InputChoice { names: Some(names), ..InputChoice::default() }
    }

    #[test]
    fn bom_blank_lines_and_quoted_line_breaks_in_the_header() {
        let input = open(&[("a.csv", b"\xef\xbb\xbf\n\"a\nb\",c,\n1,2,3\n")]).unwrap();
        assert_eq!(input.names(), ["a\nb", "c", "column_3"]);
        let file = &input.files()[0];
        assert_eq!((file.data_start, file.first_line), (3 + 1 + 9, 4));
    }

    #[test]
    fn a_header_may_end_in_a_delimiter_of_its_own() {
        let input = open(&[("a.csv", b"port,day,\nHolm,1\nTang,2\n")]).unwrap();
        assert_eq!(
            (input.names().join(" "), input.files()[0].layout().fields),
            ("port day".into(), 2)
        );
    }

    #[test]
    fn lines_above_the_table_are_kept_and_skipped() {
        let text =
            b"Skerrow Ferries\n\nAll sailings, by port\nport,day,count\nHolm,1,20\nTang,2,7\n";
        let input = open(&[("a.csv", text)]).unwrap();
        assert_eq!(input.names(), ["port", "day", "count"]);
        let file = &input.files()[0];
        assert_eq!((file.dialect().skip, file.first_line), (3, 5));
        assert_eq!(file.preamble(), b"Skerrow Ferries\n\nAll sailings, by port\n");
    }

    #[test]
    fn what_cannot_be_read_is_said() {
        let nul = [b"a\0\0\0".repeat(40), b"b,c\n".to_vec()].concat();
        for (files, want) in [
            (vec![("a.csv", &b""[..])], "a.csv is empty"),
            (vec![("a.csv", b"\n\n")], "a.csv is empty"),
            (vec![("a.csv", &nul[..])], "full of bytes that are not text"),
            (
                vec![("a.csv", b"a,b\n1,2\n"), ("b.csv", b"a,c\n1,2\n")],
                "b.csv does not have the columns of a.csv: it lacks 'b', and has 'c' besides",
            ),
            (vec![("a.csv", b"a,b\n1,2\n"), ("b.csv", b"a\n1\n")], "it lacks 'b'; to read"),
            (
                vec![("a.csv", b"1,2\n3,4\n"), ("b.csv", b"1,2,3\n3,4,5\n")],
                "b.csv has 3 columns and a.csv has 2",
            ),
        ] {
            let message = open(&files).unwrap_err();
            assert!(message.contains(want), "{message}");
        }
        let utf_8 = InputChoice { encoding: Some(Charset::UTF_8), ..InputChoice::default() };
        let message = open_with(&[("a.csv", b"caf\xe9,b\n1,2\n")], &utf_8).unwrap_err();
        let want = "a.csv, line 1: the header is not valid UTF-8 (byte 0xe9); say what it is: --encoding windows-1252";
        assert!(message.starts_with(want), "{message}");
        let missing = Input::open(&["/nowhere/a.csv"], &InputChoice::default()).unwrap_err();
        assert!(missing.to_string().starts_with("/nowhere/a.csv: No such file"), "{missing}");
        let two = InputChoice {
            delimiter: Some(b'\''),
            quote: Some(Some(b'\'')),
            ..InputChoice::default()
        };
        let message = open_with(&[("a.csv", b"a'b\n")], &two).unwrap_err();
        assert_eq!(message, "''' cannot be the delimiter and the quote");
    }

    #[test]
    fn columns_are_matched_by_name() {
        let files: [(&str, &[u8]); 3] = [
            ("a.csv", b"a,b,b\n1,2,3\n"),
            ("b.csv", b"b,a,b\r\n2,1,3\r\n"),
            ("c.csv", b"c;d\nb,a,b\n2,1,3\n"),
        ];
        let input = open(&files).unwrap();
        assert_eq!(input.names(), ["a", "b", "b_2"]);
        let places = |input: &Input, file: usize| {
            let layout = input.files()[file].layout().clone();
            (0..input.names().len()).map(|column| layout.place(column)).collect::<Vec<_>>()
        };
        assert!(input.files()[0].layout().is_in_order());
        assert_eq!(places(&input, 1), [Some(1), Some(0), Some(2)]);
        assert_eq!(places(&input, 2), [Some(1), Some(0), Some(2)]);
        assert_eq!(input.differences(), []);

        let files: [(&str, &[u8]); 2] = [("a.csv", b"a,b\n1,2\n"), ("b.csv", b"c,b\n5,6\n")];
        let differ =
            |policy| InputChoice { columns_differ: Some(policy), ..InputChoice::default() };
        let union = open_with(&files, &differ(ColumnsDiffer::Union)).unwrap();
        assert_eq!(union.names(), ["a", "b", "c"]);
        assert_eq!(places(&union, 0), [Some(0), Some(1), None]);
        assert_eq!(places(&union, 1), [None, Some(1), Some(0)]);
        let lacks = |name: &str| vec![name.to_owned()];
        assert_eq!(
            union.differences(),
            [
                Difference { file: 0, lacks: lacks("c"), left_out: vec![] },
                Difference { file: 1, lacks: lacks("a"), left_out: vec![] },
            ]
        );
        let first = open_with(&files, &differ(ColumnsDiffer::First)).unwrap();
        assert_eq!(first.names(), ["a", "b"]);
        assert_eq!(
            first.differences(),
            [Difference { file: 1, lacks: lacks("a"), left_out: lacks("c") }]
        );
    }

    #[test]
    fn names_can_be_said() {
        let input =
            open_with(&[("a.csv", b"Ada,Holm\nBo,Tang\n")], &named(&["who", "where"])).unwrap();
        assert_eq!((input.names().join(" "), input.dialect().header), ("who where".into(), false));
        let input = open_with(&[("a.csv", b"n,t\n1,Holm\n")], &named(&["who", "where"])).unwrap();
        assert_eq!((input.names().join(" "), input.files()[0].first_line), ("who where".into(), 2));
        let message = open_with(&[("a.csv", b"1,2\n3,4\n")], &named(&["who"])).unwrap_err();
        assert!(message.contains("1 names given"), "{message}");
    }
}
