//! Surveys as files: facts that outlive the run, travel between machines and are pooled.
//!
//! A survey file is a line that says what it is and in which version, and then one JSON document packed
//! with zstd. `docs/survey-file.md` describes the document. Nothing unknown is passed over: a key or a
//! version that this program does not know is an error, since a fact that is not understood cannot be
//! merged.

use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::marker::PhantomData;

use serde::de::{SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize};
use thiserror::Error;

use super::saved::SavedColumn;
use super::{BrokenRecord, ColumnFacts, SourceFile, Stretch, Survey, SurveySource};
use crate::schema::{InputDecl, Schema, read_input, write_input};
use crate::text::LineRef;
use crate::wording::listed;

/// The version of the format that is written and read.
pub const SURVEY_VERSION: u32 = 3;

/// What every survey file starts with, before its version.
const MAGIC: &str = "typhos survey ";

/// The most bytes of a document: a survey of five thousand columns takes a tenth of that.
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

/// Surveys that cannot be pooled.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PoolError {
    /// Their columns differ.
    #[error("{one} and {other} have other columns: {how}")]
    Columns {
        /// A file of one survey.
        one: String,
        /// A file of the other.
        other: String,
        /// What differs.
        how: String,
    },
    /// They were taken under other rules about absent values or quotes.
    #[error("{one} and {other} were scouted with other settings: {what}")]
    Settings {
        /// A file of one survey.
        one: String,
        /// A file of the other.
        other: String,
        /// Which setting.
        what: &'static str,
    },
}

/// Whether a file that starts with these bytes is a saved survey.
pub fn is_survey(head: &[u8]) -> bool {
    head.starts_with(MAGIC.as_bytes())
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SavedSurvey {
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
    /// Of a stretch of a file only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    stretch: Option<Stretch>,
    #[serde(deserialize_with = "at_most::<MOST_WORDS, _, _>")]
    absent: Vec<String>,
    #[serde(deserialize_with = "at_most::<MOST_COLUMNS, _, _>")]
    columns: Vec<SavedColumn>,
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

impl Survey {
    /// Writes the survey as a file.
    ///
    /// # Errors
    /// Those of `to`.
    pub fn save(&self, to: impl Write) -> io::Result<()> {
        let mut to = BufWriter::new(to);
        writeln!(to, "{MAGIC}{SURVEY_VERSION}")?;
        let mut packed = zstd::Encoder::new(to, 3)?;
        let layout = InputDecl { choice: self.source.layout.clone(), ..InputDecl::default() };
        let files = self.source.files.iter();
        let files = files.map(|file| SavedFile { name: file.name.clone(), bytes: file.bytes });
        let saved = SavedSurvey {
            files: files.collect(),
            names: self.source.names.clone(),
            named: self.source.is_named,
            input: write_input(&Schema { input: layout, ..Schema::default() }),
            records: self.records,
            broken: self.broken,
            broken_examples: self.broken_examples.clone(),
            sample: self.is_sample,
            quoted: self.quoted,
            stretch: self.stretch,
            absent: self.absent.clone(),
            columns: self.columns.iter().map(ColumnFacts::save).collect(),
        };
        serde_json::to_writer(&mut packed, &saved)?;
        packed.finish()?.flush()
    }

    /// Reads a survey that was saved.
    ///
    /// # Errors
    /// A file that is not a survey, one of another version, or one whose facts do not add up.
    pub fn load(from: impl Read) -> Result<Survey, SurveyFileError> {
        let mut from = BufReader::new(from);
        let mut first = Vec::new();
        from.by_ref().take(MAGIC.len() as u64 + 20).read_until(b'\n', &mut first)?;
        let version = String::from_utf8(first).ok();
        let version = version.as_deref().and_then(|line| line.strip_prefix(MAGIC));
        let version = version.ok_or(SurveyFileError::NotOne)?.trim_end();
        if version != SURVEY_VERSION.to_string() {
            return Err(SurveyFileError::Version(version.to_owned()));
        }
        let damaged = |error: &dyn std::fmt::Display| SurveyFileError::Damaged(error.to_string());
        let unpacked = zstd::Decoder::with_buffer(from).map_err(|e| damaged(&e))?;
        let unpacked = BufReader::new(unpacked.take(MOST_BYTES));
        let saved: SavedSurvey = serde_json::from_reader(unpacked).map_err(|e| damaged(&e))?;
        Survey::restore(saved).map_err(|what| damaged(&what))
    }

    fn restore(saved: SavedSurvey) -> Result<Survey, &'static str> {
        let (columns, records) = (saved.names.len(), saved.records);
        if saved.columns.len() != columns {
            return Err("it has not as many columns as names");
        }
        if records.max(saved.broken) > MOST_RECORDS {
            return Err("it counts more records than there can be");
        }
        let layout =
            read_input(&saved.input).map_err(|_| "its layout is no [input] of a schema")?;
        let files = saved.files.len() as u32;
        let mut restored = Vec::new();
        for column in saved.columns {
            let mut column = ColumnFacts::restore(column, columns, records)
                .ok_or("the values of a column do not add up to the records")?;
            if !column.places_are_below(files) {
                return Err("a value stands in a file that is not listed");
            }
            restored.push(column);
        }
        let sorted = saved.files.is_sorted_by(|a, b| a.name <= b.name);
        let broken = &saved.broken_examples;
        if !sorted || broken.iter().any(|broken| broken.place.part >= files) {
            return Err("its files are not listed in order, or not all");
        }
        let files = saved.files.into_iter();
        let source = SurveySource {
            files: files.map(|file| SourceFile { name: file.name, bytes: file.bytes }).collect(),
            names: saved.names,
            is_named: saved.named,
            layout: layout.choice,
        };
        Ok(Survey {
            source,
            records,
            broken: saved.broken,
            broken_examples: saved.broken_examples,
            is_sample: saved.sample,
            unseen: Vec::new(),
            quoted: saved.quoted,
            stretch: saved.stretch,
            absent: saved.absent,
            columns: restored,
        })
    }

    /// Merges surveys of several files into the survey of all of them. Whatever the order they come in,
    /// it is the same: files are ordered by their names, and columns are matched by theirs.
    ///
    /// # Errors
    /// Surveys of other columns, or taken with other settings.
    ///
    /// # Panics
    /// If there are no surveys.
    pub fn pool(mut surveys: Vec<Survey>) -> Result<Survey, PoolError> {
        surveys.sort_by(|a, b| a.source.files.cmp(&b.source.files));
        let mut rest = surveys.into_iter();
        let first = rest.next().expect("there is at least one survey");
        rest.try_fold(first, Survey::pooled_with)
    }

    /// For each column, its place in the other survey, which was taken with the same settings.
    pub(super) fn same_columns(&self, other: &Survey) -> Result<Vec<usize>, PoolError> {
        let name = |survey: &Survey| {
            survey.source.files.first().map_or("a survey".into(), |file| file.name.clone())
        };
        let (one, two) = (name(self), name(other));
        let settings = |what| PoolError::Settings { one: one.clone(), other: two.clone(), what };
        if self.absent != other.absent {
            return Err(settings("which texts mean that a value is absent"));
        }
        if self.quoted != other.quoted {
            return Err(settings("whether values in quotes are text"));
        }
        let how = match_names(&self.source, &other.source);
        how.map_err(|how| PoolError::Columns { one: one.clone(), other: two.clone(), how })
    }

    fn pooled_with(mut self, mut other: Survey) -> Result<Survey, PoolError> {
        let order = self.same_columns(&other)?;
        let ours = std::mem::take(&mut self.source.files);
        let (files, [of_ours, of_theirs]) =
            interleave(ours, std::mem::take(&mut other.source.files));
        self.source.files = files;
        self.source.layout = self.source.layout.shared(&other.source.layout);
        // What is of several files is no stretch of one.
        self.stretch = None;
        self.renumber(&of_ours);
        other.renumber(&of_theirs);
        self.add_records(&mut other);
        let mut theirs: Vec<Option<ColumnFacts>> = other.columns.into_iter().map(Some).collect();
        for (column, at) in self.columns.iter_mut().zip(order) {
            column.pool(theirs[at].take().expect("every column is matched once"));
        }
        Ok(self)
    }

    /// Gives all values other places in the same files.
    pub(super) fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        self.broken_examples.iter_mut().for_each(|broken| broken.place = new(broken.place));
        self.columns.iter_mut().for_each(|column| column.move_places(new));
    }

    fn renumber(&mut self, new: &[u32]) {
        let new = |file: u32| new[file as usize];
        self.broken_examples.iter_mut().for_each(|b| b.place.part = new(b.place.part));
        self.columns.iter_mut().for_each(|column| column.renumber(&new));
    }
}

/// For each column of one survey, its place in the other.
fn match_names(ours: &SurveySource, theirs: &SurveySource) -> Result<Vec<usize>, String> {
    if ours.names.len() == theirs.names.len()
        && (ours.names == theirs.names || !ours.is_named || !theirs.is_named)
    {
        return Ok((0..ours.names.len()).collect());
    }
    let lacking = |a: &SurveySource, b: &SurveySource| -> Vec<String> {
        a.names.iter().filter(|name| !b.names.contains(name)).cloned().collect()
    };
    let (only_ours, only_theirs) = (lacking(ours, theirs), lacking(theirs, ours));
    let mut how = Vec::new();
    if !only_ours.is_empty() {
        how.push(format!("only the first has {}", listed(&only_ours)));
    }
    if !only_theirs.is_empty() {
        how.push(format!("only the second has {}", listed(&only_theirs)));
    }
    if !how.is_empty() {
        return Err(how.join("; "));
    }
    let place = |name: &String| theirs.names.iter().position(|other| other == name);
    let order: Vec<usize> = ours.names.iter().filter_map(place).collect();
    let mut once = order.clone();
    once.sort_unstable();
    once.dedup();
    if once.len() == theirs.names.len() && order.len() == once.len() {
        Ok(order)
    } else {
        Err("a name stands more than once, in another order".into())
    }
}

/// Two sorted lists of files as one, and the place in it of each file of either.
fn interleave(ours: Vec<SourceFile>, theirs: Vec<SourceFile>) -> (Vec<SourceFile>, [Vec<u32>; 2]) {
    let count = ours.len();
    let mut all: Vec<(SourceFile, usize)> =
        ours.into_iter().chain(theirs).enumerate().map(|(at, file)| (file, at)).collect();
    all.sort();
    let mut places = vec![0; all.len()];
    all.iter().enumerate().for_each(|(place, (_, at))| places[*at] = place as u32);
    let of_theirs = places.split_off(count);
    (all.into_iter().map(|(file, _)| file).collect(), [places, of_theirs])
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
