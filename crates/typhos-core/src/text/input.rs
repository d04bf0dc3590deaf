//! One or more files read as one table.
//!
//! Opening an input reads the head of every file. The dialect is found from the first, and the others
//! are expected to be laid out alike; lines above the table and line ends are each file's own. Columns
//! are matched by the names in the headers. Nothing else is read until blocks are asked for.

use std::sync::Arc;

use super::format::{Sure, foreign_lines};
use super::guess::guess;
use super::matching::{Difference, match_columns};
use super::origin::{Bytes, Memory, Origin};
use super::sniff::Finding;
use super::{
    Charset, DEFAULT_COLUMN_LIMIT, DEFAULT_RECORD_LIMIT, Dialect, Escape, InputChoice, InputError,
    InputFile, InputFormat, Part, QuotedEmpty, Whole,
};
use crate::records::Paths;

/// One or more files read as one table, with their dialect and the names of their columns.
#[derive(Debug, Clone)]
pub struct Input {
    files: Vec<InputFile>,
    names: Vec<String>,
    finding: Finding,
    choice: InputChoice,
    /// What is to be known of the files that were given.
    notes: Vec<String>,
    /// The part of a whole that it was narrowed to.
    pub(super) narrowed: Option<(Part, Whole)>,
}

impl Input {
    /// Opens origins: finds what `choice` leaves open of their dialect, and reads their headers. `notes` is what is to
    /// be known of how they were found.
    ///
    /// # Errors
    /// One that cannot be read, is empty or is not text, and files of different columns.
    pub fn of(
        origins: Vec<Arc<dyn Origin>>,
        notes: Vec<String>,
        choice: &InputChoice,
    ) -> Result<Input, InputError> {
        let mut files: Vec<InputFile> = origins.into_iter().map(InputFile::new).collect();
        let (first, others) = files.split_first_mut().ok_or(InputError::NoFiles)?;
        let mut finding = first.look(choice)?;
        if first.layout().paths.is_some() {
            let alike = InputChoice { format: Some(InputFormat::Json), ..choice.clone() };
            others.iter_mut().try_for_each(|file| file.look(&alike).map(|_| ()))?;
            if choice.encoding.is_none() {
                one_encoding(&mut files, &alike, &alike, &mut finding)?;
            }
            let (names, choice) = (Vec::new(), choice.clone());
            return Ok(Input { files, names, finding, choice, notes, narrowed: None });
        }
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
        let limit = choice.field_limit.unwrap_or(DEFAULT_COLUMN_LIMIT);
        files.iter().try_for_each(|file| file.expect_columns(file.layout().fields, limit))?;
        let names = match_columns(&mut files, choice)?;
        // All files together may have more than each of them.
        files.iter().last().map_or(Ok(()), |last| last.expect_columns(names.len(), limit))?;
        Ok(Input { files, names, finding, choice: choice.clone(), notes, narrowed: None })
    }

    /// An input of one file that is held in memory; of no file, where it cannot be read as one.
    pub fn from_bytes(name: &str, bytes: Vec<u8>, choice: &InputChoice) -> Input {
        let origin: Arc<dyn Origin> = Arc::new(Memory::new(name, bytes));
        Self::of(vec![origin], Vec::new(), choice).unwrap_or_else(|_| Input {
            files: Vec::new(),
            names: Vec::new(),
            finding: Finding::default(),
            choice: choice.clone(),
            notes: Vec::new(),
            narrowed: None,
        })
    }

    /// The same input, where its text turned out not to be UTF-8 only behind the heads of its files, read in the
    /// encoding that is likely. `None` where one is said, where there is none, and of a stream.
    ///
    /// # Errors
    /// As [`of`](Self::of).
    pub fn in_likely_encoding(&self) -> Result<Option<Input>, InputError> {
        let is_open = |file: &&InputFile| file.encoding().0 == Charset::UTF_8;
        if self.choice.encoding.is_some() || self.is_stream() {
            return Ok(None);
        }
        let mut lines = Vec::new();
        for file in self.files.iter().filter(|file| file.is_read() && is_open(file)) {
            let more = foreign_lines(&**file.origin()).map_err(|source| file.failed(source))?;
            lines.extend(more);
        }
        let Some(guess) = guess(&lines) else { return Ok(None) };
        let origins = self.files.iter().map(|file| file.origin().clone()).collect();
        let choice = InputChoice { encoding: Some(guess.charset), ..self.choice.clone() };
        let mut input = Self::of(origins, self.notes.clone(), &choice)?;
        (input.finding.encoding, input.finding.is_likely_encoding) = (guess.why(), true);
        Ok(Some(input))
    }

    /// What is to be known of the files that were given: those that were passed over, those that were given twice.
    pub fn notes(&self) -> &[String] {
        &self.notes
    }
    /// The files, in the order they were given.
    pub fn files(&self) -> &[InputFile] {
        &self.files
    }

    pub(super) fn files_mut(&mut self) -> &mut [InputFile] {
        &mut self.files
    }

    pub(super) fn take_files(&mut self) -> Vec<InputFile> {
        std::mem::take(&mut self.files)
    }

    pub(super) fn set_files(&mut self, files: Vec<InputFile>) {
        self.files = files;
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

    /// Whether its records are objects of JSON, whose columns have to be [learned](crate::json::learn).
    pub fn is_json(&self) -> bool {
        self.files.first().is_some_and(|file| file.layout().paths.is_some())
    }

    /// The paths of its records, where they are objects of JSON.
    pub fn paths(&self) -> Option<&Paths> {
        self.files.first()?.layout().paths.as_deref()
    }

    /// The text of a file from its first record on, as lines: what a stream has left, which can be had once.
    ///
    /// # Errors
    /// A file that cannot be read.
    pub fn text_of(&self, file: usize) -> Result<Bytes, InputError> {
        Ok(self.files[file].open()?.text)
    }

    /// Says which paths the records of all its files have: they are the columns, those that are `wanted` among them. A
    /// path that no record has is a column as well if it is wanted, and absent everywhere.
    pub(crate) fn take_paths(&mut self, mut paths: Paths, wanted: &[String], last: &[&str]) {
        self.names = paths.settle(wanted, last);
        let fields = self.names.len();
        for path in wanted {
            if !self.names.contains(path) && !paths.leads_to(path) {
                self.names.push(path.clone());
            }
        }
        let places = (0..self.names.len()).map(|at| Some(at).filter(|at| *at < fields));
        let places: Vec<_> = places.collect();
        let paths = Arc::new(paths);
        for file in &mut self.files {
            file.take_paths(paths.clone(), fields);
            file.take_places(places.clone());
        }
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
        let looked_at = || self.files.iter().filter(|file| file.is_looked_at());
        let origins = looked_at().map(|file| file.origin().clone()).collect();
        let again = Input::of(origins, Vec::new(), &choice.as_declared());
        Some(again.is_ok_and(|again| {
            again.names == self.names
                && again
                    .files
                    .iter()
                    .zip(looked_at())
                    .all(|(again, file)| again.is_laid_out_as(file))
        }))
    }

    /// Fails where a file is no longer what it was when it was opened: asked behind the last record by whoever must
    /// have read all of it.
    ///
    /// # Errors
    /// [`InputError::Changed`], and a file that is gone.
    pub fn verify_unchanged(&self) -> Result<(), InputError> {
        self.files.iter().filter(|file| file.is_read()).try_for_each(InputFile::verify_unchanged)
    }

    /// Whether it is a stream, which can be read only once.
    pub fn is_stream(&self) -> bool {
        self.files.iter().any(InputFile::is_stream)
    }

    /// Bytes of all files that are read.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(InputFile::bytes_read).sum()
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
    (finding.encoding, finding.is_likely_encoding) = (why, true);
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::ColumnsDiffer;

    fn open_with(files: &[(&str, &[u8])], choice: &InputChoice) -> Result<Input, String> {
        let origin = |(name, bytes): &(&str, &[u8])| -> Arc<dyn Origin> {
            Arc::new(Memory::new(*name, *bytes))
        };
        let origins = files.iter().map(origin).collect();
        let told = |error: InputError| {
            let remedy = error.remedy().map_or(String::new(), |remedy| format!("; {remedy}"));
            format!("{error}{remedy}")
        };
        Input::of(origins, Vec::new(), choice).map_err(told)
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
        let want = "a.csv, line 1: the header is not valid UTF-8 (byte 0xe9); say what it is: encoding = windows-1252";
        assert!(message.starts_with(want), "{message}");
        let two = InputChoice {
            delimiter: Some(b'\''),
            quote: Some(Some(b'\'')),
            ..InputChoice::default()
        };
        let message = open_with(&[("a.csv", b"a'b\n")], &two).unwrap_err();
        assert_eq!(message, "''' cannot be the delimiter and the quote");
    }

    #[test]
    fn more_columns_than_are_read_are_refused() {
        let choice = |limit| InputChoice {
            field_limit: Some(limit),
            columns_differ: Some(ColumnsDiffer::Union),
            ..InputChoice::default()
        };
        let files: [(&str, &[u8]); 2] = [("a.csv", b"a,b\n1,2\n"), ("b.csv", b"b,c\n1,2\n")];
        assert!(open_with(&files, &choice(3)).is_ok());
        // Of all files together.
        assert_eq!(
            open_with(&files, &choice(2)).unwrap_err(),
            "b.csv has 3 columns, and no more than 2 are read; most likely something else separates them: say delimiter; to read them all, say field_limit = 3"
        );
        assert!(open_with(&files[..1], &choice(1)).unwrap_err().starts_with("a.csv has 2 columns"));
        let wide = [",".repeat(DEFAULT_COLUMN_LIMIT).into_bytes(), b"\n".to_vec()].concat();
        let wide: [(&str, &[u8]); 1] = [("w.csv", &wide)];
        let told = open_with(&wide, &InputChoice::default()).unwrap_err();
        assert!(
            told.starts_with("w.csv has 30,001 columns, and no more than 30,000 are"),
            "{told}"
        );
        assert!(open_with(&wide, &choice(30_001)).is_ok());
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
