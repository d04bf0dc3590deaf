//! Surveys as files: facts that outlive the run, travel between machines and are pooled.
//!
//! A survey file is a line that says what it is and in which version, and then lines of JSON packed
//! with zstd: a head, and each column. `docs/survey-file.md` describes them. What a survey is of can so be read without the
//! rest. Nothing unknown is passed over: a key or a version that this program does not know is an error, since a fact
//! that is not understood cannot be merged.

use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::marker::PhantomData;
use std::sync::Arc;

use serde::de::{SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize};
use thiserror::Error;

use super::saved::SavedColumn;
use super::{BrokenRecord, ColumnFacts, PartOf, SourceFile, Survey, SurveySource};
use crate::schema::{InputDecl, Schema, read_input, write_input};

/// The version of the format that is written and read.
pub const SURVEY_VERSION: u32 = 4;

/// What every survey file starts with, before its version.
const MAGIC: &str = "typhos survey ";

/// The most bytes of all lines, unpacked: a survey of five thousand columns takes a tenth of that.
const MOST_BYTES: u64 = 512 << 20;

/// The most columns, and the most files.
const MOST_COLUMNS: usize = 1_000_000;

/// The most texts that mean "no value", and the most examples of records.
const MOST_WORDS: usize = 10_000;

/// More records than any survey is of: sums of a few thousand counts up to here do not overflow.
const MOST_RECORDS: u64 = 1 << 48;

/// A survey file that cannot be read.
#[derive(Debug, Error)]
pub enum SurveyFileError {
    /// It does not start as one.
    #[error("is not a saved survey")]
    NotOne,
    /// Its version is another one.
    #[error("has version {0} of the format; this program reads version {SURVEY_VERSION}")]
    Version(String),
    /// Its document is not as it should be.
    #[error("is damaged: {0}")]
    Damaged(String),
    /// It cannot be read at all.
    #[error(transparent)]
    Io(#[from] io::Error),
}

/// Whether a file that starts with these bytes is a saved survey.
pub fn is_survey(head: &[u8]) -> bool {
    head.starts_with(MAGIC.as_bytes())
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SavedHead {
    #[serde(deserialize_with = "at_most::<MOST_COLUMNS, _, _>")]
    files: Vec<SavedFile>,
    #[serde(deserialize_with = "at_most::<MOST_COLUMNS, _, _>")]
    names: Vec<String>,
    named: bool,
    /// The table `[input]` of a draft.
    input: String,
    records: u64,
    broken: u64,
    #[serde(deserialize_with = "at_most::<MOST_WORDS, _, _>")]
    broken_examples: Vec<BrokenRecord>,
    sample: bool,
    quoted: bool,
    /// Of a part of an input only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    part: Option<PartOf>,
    #[serde(deserialize_with = "at_most::<MOST_WORDS, _, _>")]
    absent: Vec<String>,
}

/// Reads a list that has no more than so many entries: a few bytes of a packed document can be very many.
fn at_most<'d, const MOST: usize, D, T>(deserializer: D) -> Result<Vec<T>, D::Error>
where
    D: Deserializer<'d>,
    T: Deserialize<'d>,
{
    struct AtMost<const MOST: usize, T>(PhantomData<T>);

    impl<'d, const MOST: usize, T: Deserialize<'d>> Visitor<'d> for AtMost<MOST, T> {
        type Value = Vec<T>;

        fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
            write!(f, "a list of at most {MOST} entries")
        }

        fn visit_seq<A: SeqAccess<'d>>(self, mut entries: A) -> Result<Vec<T>, A::Error> {
            let mut list = Vec::new();
            while let Some(entry) = entries.next_element()? {
                if list.len() == MOST {
                    return Err(serde::de::Error::invalid_length(MOST + 1, &self));
                }
                list.push(entry);
            }
            Ok(list)
        }
    }
    deserializer.deserialize_seq(AtMost::<MOST, T>(PhantomData))
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SavedFile {
    name: String,
    bytes: u64,
}

/// What a survey is of, and how it was taken: all that has to be known to plan how it is pooled.
#[derive(Debug, Clone)]
pub struct SurveyHead {
    /// Files, names, layout.
    pub source: SurveySource,
    /// The part of its input that it is of; `None` where it is of all.
    pub part: Option<PartOf>,
}

impl SurveyHead {
    /// That of a survey.
    pub fn of(survey: &Survey) -> SurveyHead {
        SurveyHead { source: survey.source.clone(), part: survey.part.clone() }
    }

    /// Reads that of a survey that was saved.
    ///
    /// # Errors
    /// As [`Survey::load`], but for what stands in the facts of columns.
    pub fn load(from: impl Read) -> Result<SurveyHead, SurveyFileError> {
        let saved = Lines::open(from)?.next::<SavedHead>()?;
        let saved = saved.ok_or_else(|| damaged(&"it ends before it begins"))?;
        Ok(SurveyHead::of(&saved.restore().map_err(|what| damaged(&what))?))
    }
}

fn damaged(error: &dyn std::fmt::Display) -> SurveyFileError {
    SurveyFileError::Damaged(error.to_string())
}

/// The lines of a survey file.
struct Lines<R: BufRead> {
    unpacked: BufReader<io::Take<zstd::Decoder<'static, R>>>,
    line: Vec<u8>,
}

impl<R: Read> Lines<BufReader<R>> {
    /// Opens a file of the version that is read.
    fn open(from: R) -> Result<Self, SurveyFileError> {
        let mut from = BufReader::new(from);
        let mut first = Vec::new();
        from.by_ref().take(MAGIC.len() as u64 + 20).read_until(b'\n', &mut first)?;
        let version = String::from_utf8(first).ok();
        let version = version.as_deref().and_then(|line| line.strip_prefix(MAGIC));
        let version = version.ok_or(SurveyFileError::NotOne)?.trim_end();
        if version != SURVEY_VERSION.to_string() {
            return Err(SurveyFileError::Version(version.to_owned()));
        }
        let unpacked = zstd::Decoder::with_buffer(from).map_err(|e| damaged(&e))?;
        Ok(Lines { unpacked: BufReader::new(unpacked.take(MOST_BYTES)), line: Vec::new() })
    }

    /// Reads the next line; `None` behind the last.
    fn next<T: for<'d> Deserialize<'d>>(&mut self) -> Result<Option<T>, SurveyFileError> {
        self.line.clear();
        self.unpacked.read_until(b'\n', &mut self.line).map_err(|error| damaged(&error))?;
        if self.line.is_empty() {
            return Ok(None);
        }
        serde_json::from_slice(&self.line).map(Some).map_err(|error| damaged(&error))
    }
}

impl SavedHead {
    fn of(survey: &Survey) -> SavedHead {
        let layout = InputDecl { choice: survey.source.layout.clone(), ..InputDecl::default() };
        let files = survey.source.files.iter();
        let files = files.map(|file| SavedFile { name: file.name.clone(), bytes: file.bytes });
        SavedHead {
            files: files.collect(),
            names: survey.source.names.clone(),
            named: survey.source.is_named,
            input: write_input(&Schema { input: layout, ..Schema::default() }),
            records: survey.records,
            broken: survey.broken,
            broken_examples: survey.broken_examples.clone(),
            sample: survey.is_sample,
            quoted: survey.quoted,
            part: survey.part.clone(),
            absent: survey.absent.clone(),
        }
    }

    /// The survey, without its columns.
    fn restore(self) -> Result<Survey, &'static str> {
        if self.records.max(self.broken) > MOST_RECORDS {
            return Err("it counts more records than there can be");
        }
        let layout = read_input(&self.input).map_err(|_| "its layout is no [input] of a schema")?;
        let files = self.files.len() as u32;
        let sorted = self.files.is_sorted_by(|a, b| a.name <= b.name);
        let broken = &self.broken_examples;
        if !sorted || broken.iter().any(|broken| broken.place.part >= files) {
            return Err("its files are not listed in order, or not all");
        }
        let is_listed =
            |name: &String| self.files.binary_search_by(|file| file.name.cmp(name)).is_ok();
        let pieces = self.part.iter().flat_map(|part| &part.pieces);
        if pieces.into_iter().any(|piece| !is_listed(&piece.name)) {
            return Err("it is of a part of a file that is not listed");
        }
        let files = self.files.into_iter();
        let source = SurveySource {
            files: files.map(|file| SourceFile { name: file.name, bytes: file.bytes }).collect(),
            names: self.names,
            is_named: self.named,
            layout: layout.choice,
        };
        Ok(Survey {
            source,
            records: self.records,
            broken: self.broken,
            broken_examples: self.broken_examples,
            is_sample: self.sample,
            unseen: Vec::new(),
            quoted: self.quoted,
            part: self.part,
            absent: self.absent,
            columns: Vec::new(),
        })
    }
}

impl Survey {
    /// Writes the survey as a file.
    ///
    /// # Errors
    /// Those of `to`.
    pub fn save(&self, to: impl Write) -> io::Result<()> {
        let mut to = BufWriter::new(to);
        writeln!(to, "{MAGIC}{SURVEY_VERSION}")?;
        let mut packed = zstd::Encoder::new(to, 3)?;
        serde_json::to_writer(&mut packed, &SavedHead::of(self))?;
        let none = ColumnFacts::none(self.columns.len(), &self.absent, false);
        for column in &self.columns {
            packed.write_all(b"\n")?;
            serde_json::to_writer(&mut packed, &column.save(&none))?;
        }
        packed.finish()?.flush()
    }

    /// Reads a survey that was saved.
    ///
    /// # Errors
    /// A file that is not a survey, one of another version, or one whose facts do not add up.
    pub fn load(from: impl Read) -> Result<Survey, SurveyFileError> {
        let mut lines = Lines::open(from)?;
        let head = lines.next::<SavedHead>()?;
        let head = head.ok_or_else(|| damaged(&"it ends before it begins"))?;
        let mut survey = head.restore().map_err(|what| damaged(&what))?;
        let (columns, files) = (survey.source.names.len(), survey.source.files.len() as u32);
        let none = Arc::new(ColumnFacts::none(columns, &survey.absent, false));
        while let Some(column) = lines.next::<SavedColumn>()? {
            let column = ColumnFacts::restore(column, &none, columns, survey.records);
            let mut column = column
                .ok_or_else(|| damaged(&"the values of a column do not add up to the records"))?;
            if !column.places_are_below(files) {
                return Err(damaged(&"a value stands in a file that is not listed"));
            }
            survey.columns.push(column);
            if survey.columns.len() > columns {
                break;
            }
        }
        match survey.columns.len() == columns {
            true => Ok(survey),
            false => Err(damaged(&"it has not as many columns as names")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A few kilobytes of it would be gigabytes of memory.
    #[test]
    fn a_packed_list_without_an_end_is_refused() {
        let names = "\"\",".repeat(4 * MOST_COLUMNS);
        let document = format!("{{\"files\":[],\"names\":[{names}\"\"],\"named\":true}}");
        let packed = zstd::encode_all(document.as_bytes(), 3).unwrap();
        assert!(packed.len() < 10_000, "{}", packed.len());
        let file = [format!("{MAGIC}{SURVEY_VERSION}\n").as_bytes(), &packed].concat();
        match Survey::load(&file[..]) {
            Err(SurveyFileError::Damaged(why)) => assert!(why.contains("at most 1000000"), "{why}"),
            other => panic!("{:?}", other.map(|survey| survey.records)),
        }
    }
}
