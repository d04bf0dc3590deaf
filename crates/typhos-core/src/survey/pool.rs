//! Surveys of several inputs, or of the parts of one, merged into the survey of all.
//!
//! A [`Pooling`] is planned from what surveys say of themselves: in which order they are added, which number each of
//! their files has in the end, and for parts whether they fit together. Then they are added one at a time, so that no
//! more than two are held, each is renumbered once, and the time is that of adding up what they know.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::ops::Bound;
use std::sync::Arc;

use thiserror::Error;

use super::{ColumnFacts, SourceFile, Survey, SurveyHead, SurveySource, parts};
use crate::records::PathKind;
use crate::text::{InputFormat, LineRef, Part};
use crate::wording::listed;

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
    /// Some are of parts of an input, and others are not.
    #[error(
        "some of the surveys are of parts of an input, and others are not: pool the parts by themselves first"
    )]
    PartsAndWholes,
    /// They are of parts of different inputs.
    #[error(
        "part {one} and part {other} are not parts of one input: the number of parts, the files, their sizes, their order and how they are \
         read have to be the same"
    )]
    OtherWhole {
        /// The first part.
        one: Part,
        /// The other one.
        other: Part,
    },
    /// Not all parts are there.
    #[error("{} missing", are_parts(.0))]
    Missing(Vec<Part>),
    /// A part begins elsewhere than the one before it ends.
    #[error(
        "part {part} took for granted that a record of {file} starts at byte {began}, and {}",
        before.map_or("nothing of that file comes before".to_owned(), |(part, ended)| format!("part {part} ends at byte {ended}"))
    )]
    Begin {
        /// The part, which has to be read again.
        part: Part,
        /// The file.
        file: String,
        /// Where it began.
        began: u64,
        /// The part before, and where that ended: where this one begins.
        before: Option<(Part, u64)>,
    },
    /// A path of JSON has values in one part and fields in another.
    #[error(
        "'{name}' has values in {file}, and fields of its own in another part: name it in a schema, and survey with that"
    )]
    FieldsAndValues {
        /// The path.
        name: String,
        /// A file of the part in which it has values.
        file: String,
    },
    /// All parts fit together, and something is left over all the same.
    #[error(
        "the parts fit together, and are not all of the input: it changed between them, or a survey was altered"
    )]
    NotTheWhole,
}

/// Parts in words, with their verb.
fn are_parts(parts: &[Part]) -> String {
    /// More are counted.
    const MOST: usize = 20;
    let named: Vec<String> = parts.iter().take(MOST).map(Part::to_string).collect();
    let more = parts.len().saturating_sub(MOST);
    match (&named[..], more) {
        ([one], 0) => format!("part {one} is"),
        ([firsts @ .., last], 0) => format!("parts {} and {last} are", firsts.join(", ")),
        _ => format!("parts {} and {more} more are", named.join(", ")),
    }
}

/// How one survey is added to the others.
pub(super) struct Step {
    /// The number that each of its files has among all.
    ranks: Vec<u32>,
    /// The lines that come before those it counts of one of its files, by the place of that.
    behind: Option<(u32, u64)>,
}

/// Surveys that are being merged.
pub struct Pooling {
    /// Which survey comes when, by its place among those that were planned.
    order: Vec<usize>,
    /// By the same place.
    steps: Vec<Option<Step>>,
    files: Vec<SourceFile>,
    /// Whether they are the parts of one input, in their order.
    in_order: bool,
    /// The columns of all, where those of parts may differ: each knows the names of its own objects of JSON.
    names: Option<Vec<String>>,
    whole: Option<Survey>,
}

impl Pooling {
    /// Plans how surveys are pooled, from their heads. Whatever the order they come in, the result is the same: files are
    /// ordered by their names, parts by their number, and columns are matched by their names.
    ///
    /// # Errors
    /// Parts that do not fit together, or are not all there.
    pub fn plan(heads: &[SurveyHead]) -> Result<Pooling, PoolError> {
        let in_order = heads.iter().any(|head| head.part.is_some());
        let order: Vec<(usize, u64)> = if in_order {
            parts::chain(heads)?
        } else {
            let mut order: Vec<usize> = (0..heads.len()).collect();
            order.sort_by(|a, b| heads[*a].source.files.cmp(&heads[*b].source.files));
            order.into_iter().map(|at| (at, 0)).collect()
        };
        // A file that parts share is one; two that are called alike and are no parts are two.
        let mut files: Vec<(&SourceFile, usize, usize)> = Vec::new();
        for (at, _) in &order {
            let of_survey = heads[*at].source.files.iter().enumerate();
            files.extend(of_survey.map(|(place, file)| (file, *at, place)));
        }
        files.sort_by_key(|(file, ..)| *file);
        let mut steps: Vec<Option<Step>> = heads.iter().map(|_| None).collect();
        for (at, lines) in &order {
            let ranks = vec![0; heads[*at].source.files.len()];
            steps[*at] = Some(Step { ranks, behind: Step::behind(&heads[*at], *lines) });
        }
        let mut all: Vec<SourceFile> = Vec::new();
        for (file, at, place) in files {
            if !(in_order && all.last() == Some(file)) {
                all.push(file.clone());
            }
            if let Some(step) = &mut steps[at] {
                step.ranks[place] = all.len() as u32 - 1;
            }
        }
        let order: Vec<usize> = order.into_iter().map(|(at, _)| at).collect();
        let is_json = |head: &SurveyHead| head.source.layout.format == Some(InputFormat::Json);
        let names = (in_order && heads.iter().all(is_json))
            .then(|| all_names(order.iter().map(|at| &heads[*at].source.names[..])));
        Ok(Pooling { order, steps, files: all, in_order, names, whole: None })
    }

    /// The surveys in the order in which they have to be [added](Self::add), by their places among those that were
    /// planned. Of a part that was surveyed more than once, one is left out.
    pub fn order(&self) -> &[usize] {
        &self.order
    }

    /// Adds the survey that was planned at a place.
    ///
    /// # Errors
    /// One of other columns than those before, or taken with other settings.
    ///
    /// # Panics
    /// If it was added before, or is not in the [order](Self::order).
    pub fn add(&mut self, at: usize, mut survey: Survey) -> Result<(), PoolError> {
        let Step { ranks, behind } = self.steps[at].take().expect("every survey is added once");
        if let Some((file, lines)) = behind {
            survey.move_places(&|place: LineRef| match place.part == file {
                true => LineRef { line: place.line.saturating_add(lines), ..place },
                false => place,
            });
        }
        survey.renumber(&ranks);
        survey.part = None;
        if let Some(names) = &self.names {
            survey.take_names(names)?;
        }
        let Some(whole) = &mut self.whole else {
            self.whole = Some(survey);
            return Ok(());
        };
        let order = whole.same_columns(&survey)?;
        whole.source.layout = whole.source.layout.shared(&survey.source.layout);
        whole.add_records(&mut survey);
        // What is told of a difference are files of both.
        if whole.source.files.is_empty() {
            whole.source.files = std::mem::take(&mut survey.source.files);
        }
        let mut theirs: Vec<Option<ColumnFacts>> = survey.columns.into_iter().map(Some).collect();
        for (column, at) in whole.columns.iter_mut().zip(order) {
            let more = theirs[at].take().expect("every column is matched once");
            column.pool(more, self.in_order);
        }
        Ok(())
    }

    /// The survey of all.
    ///
    /// # Panics
    /// If none was added.
    pub fn finish(self) -> Survey {
        let mut whole = self.whole.expect("there is at least one survey");
        whole.source.files = self.files;
        whole
    }
}

impl Survey {
    /// Merges surveys of several files, or of the parts of an input, into the survey of all of them.
    ///
    /// # Errors
    /// Surveys of other columns, or taken with other settings; parts that do not fit together, or are not all there.
    ///
    /// # Panics
    /// If there are no surveys.
    pub fn pool(surveys: Vec<Survey>) -> Result<Survey, PoolError> {
        let heads: Vec<SurveyHead> = surveys.iter().map(SurveyHead::of).collect();
        let mut pooling = Pooling::plan(&heads)?;
        let mut surveys: Vec<Option<Survey>> = surveys.into_iter().map(Some).collect();
        for at in pooling.order().to_vec() {
            let survey = surveys[at].take().expect("every survey is added once");
            pooling.add(at, survey)?;
        }
        Ok(pooling.finish())
    }

    /// For each column, its place in the other survey, which was taken with the same settings.
    fn same_columns(&self, other: &Survey) -> Result<Vec<usize>, PoolError> {
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

    /// Gives a survey of JSON the columns of all parts: those that it lacks are absent in all of its records.
    fn take_names(&mut self, names: &[String]) -> Result<(), PoolError> {
        if self.source.names == names {
            return Ok(());
        }
        let known = std::mem::replace(&mut self.source.names, names.to_vec());
        let known = known.into_iter().zip(std::mem::take(&mut self.columns));
        let mut known: HashMap<String, ColumnFacts> = known.collect();
        let none = Arc::new(ColumnFacts::none(names.len(), &self.absent, false));
        for name in names {
            self.columns.push(known.remove(name).unwrap_or_else(|| {
                let mut lacking = ColumnFacts::new(names.len(), none.clone());
                // Of a list that a record lacks there are no elements.
                match name.contains("[]") {
                    true => lacking.elements = Some(0),
                    false => lacking.observe_empty(self.records),
                }
                lacking.kinds = Some(Box::default());
                lacking
            }));
        }
        // What has fields in another part has to be null in this one.
        let is_null = |facts: &ColumnFacts| {
            facts.kinds.as_ref().is_some_and(|kinds| kinds.count() == kinds.of(PathKind::Null).0)
        };
        match known.into_iter().find(|(_, facts)| !is_null(facts)) {
            None => Ok(()),
            Some((name, _)) => {
                let file = self.source.files.first().map_or_else(String::new, |f| f.name.clone());
                Err(PoolError::FieldsAndValues { name, file })
            }
        }
    }

    /// Gives all values other places in the same files.
    fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        self.broken_examples.iter_mut().for_each(|broken| broken.place = new(broken.place));
        self.columns.iter_mut().for_each(|column| column.move_places(new));
    }

    fn renumber(&mut self, new: &[u32]) {
        if new.iter().enumerate().all(|(file, rank)| file as u32 == *rank) {
            return;
        }
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

/// The names of all parts in the order of their first appearance, without those that have others below them.
fn all_names<'n>(parts: impl Iterator<Item = &'n [String]>) -> Vec<String> {
    let (mut seen, mut names) = (HashSet::new(), Vec::new());
    for name in parts.flatten() {
        if seen.insert(name) {
            names.push(name.clone());
        }
    }
    let sorted: BTreeSet<&str> = names.iter().map(String::as_str).collect();
    let has_below = |name: &String| {
        ['.', '['].iter().any(|mark| {
            let below = format!("{name}{mark}");
            let from = (Bound::Included(&below[..]), Bound::Unbounded);
            sorted.range::<str, _>(from).next().is_some_and(|next| next.starts_with(&below))
        })
    };
    names.iter().filter(|name| !has_below(name)).cloned().collect()
}
