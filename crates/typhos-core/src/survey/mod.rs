//! Mergeable facts per column, gathered over every record.
//!
//! A [`Survey`] says what *is* in an input: counts per [`Class`] of value, extremes, lengths, distinct
//! values, date shapes. It decides nothing; that is the room of [`infer`](crate::infer).
//!
//! The law of this room: surveying any split of an input and [merging](Survey::merge) the parts, in
//! any order, gives the same facts as surveying it whole. It is what lets blocks go to any thread.
//!
//! # How a column is watched
//!
//! Until a column has shown more distinct values than [`MAX_DISTINCT`], each value costs one look-up
//! in a table that counts it and remembers where it was first seen; what the values *are* is worked
//! out once per distinct value. After that the table is folded into plain facts and dropped, and
//! every value is classified as it comes.

mod column;
mod dates;
mod distinct;
mod facts;

pub use column::ColumnFacts;
use column::Group;
pub use dates::{DateFacts, OrderFacts, ShapeFacts};
pub use distinct::{DistinctValue, MAX_DISTINCT};
pub use facts::{CLASSES, Class, Example, Facts, MAX_EXAMPLES, TextFacts};

use crate::intern::Key;
use crate::readings::trim;
use crate::run::{self, Monitor, RunError, RunOptions};
use crate::text::{Block, Dialect, Escape, Input, QuotedEmpty, Records, Splitter};

/// Where a value stands: ordered as the input is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// Which file of the input, from 0.
    pub file: u32,
    /// Line of the file on which the record starts, from 1.
    pub line: u64,
}

/// A record that could not be split into the columns of the input.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BrokenRecord {
    /// Where it stands.
    pub place: Place,
    /// What is wrong with it, as a clause.
    pub reason: String,
}

/// Most broken records that a survey shows.
pub const MAX_BROKEN_EXAMPLES: usize = 5;

/// Facts about an input.
#[derive(Debug, Clone)]
pub struct Survey {
    /// The files it is of, as they were given; empty for parts of an input.
    pub files: Vec<String>,
    /// Records that could be split.
    pub records: u64,
    /// Records that could not.
    pub broken: u64,
    /// The first of those.
    pub broken_examples: Vec<BrokenRecord>,
    /// Facts per column, in the order of the input.
    pub columns: Vec<ColumnFacts>,
}

impl Survey {
    /// A survey of nothing yet.
    pub fn new(columns: usize) -> Survey {
        let columns = (0..columns).map(|_| ColumnFacts::new(columns)).collect();
        Survey { files: Vec::new(), records: 0, broken: 0, broken_examples: Vec::new(), columns }
    }

    /// Surveys a whole input on all threads of `options`.
    ///
    /// # Errors
    /// An input that cannot be read, or a monitor that asks to stop.
    pub fn take(
        input: &Input,
        options: &RunOptions,
        monitor: &dyn Monitor,
    ) -> Result<Survey, RunError> {
        let columns = input.names().len();
        let parts = run::fold_blocks(
            input,
            options,
            monitor,
            || Watcher::new(columns),
            |watcher, block| {
                watcher.watch(block, input);
            },
        )?;
        // The first part is added to, and each other one dropped as it is added: no third copy of the
        // distinct values comes up.
        let whole = parts.into_iter().map(|part| part.survey).reduce(|mut whole, part| {
            whole.merge(part);
            whole
        });
        let mut survey = whole.unwrap_or_else(|| Survey::new(columns));
        survey.files = input.files().iter().map(|file| file.name()).collect();
        Ok(survey)
    }

    /// Adds the facts of another survey of the same columns.
    pub fn merge(&mut self, other: Survey) {
        assert_eq!(self.columns.len(), other.columns.len(), "surveys of the same columns");
        self.records += other.records;
        self.broken += other.broken;
        self.broken_examples.extend(other.broken_examples);
        self.broken_examples.sort_by_key(|broken| broken.place);
        self.broken_examples.truncate(MAX_BROKEN_EXAMPLES);
        for (ours, theirs) in self.columns.iter_mut().zip(other.columns) {
            ours.merge(theirs);
        }
    }
}

/// What one thread keeps while it surveys block after block.
struct Watcher {
    survey: Survey,
    records: Records,
    scratch: Vec<u8>,
}

/// Records that are split before their columns are looked at, one by one: few enough that their text
/// and bounds stay in the second level of cache.
const SLICE_RECORDS: usize = 1024;

impl Watcher {
    fn new(columns: usize) -> Watcher {
        Watcher { survey: Survey::new(columns), records: Records::default(), scratch: Vec::new() }
    }

    fn watch(&mut self, block: &Block, input: &Input) {
        let layout = input.files()[block.file as usize].layout();
        let dialect = layout.dialect;
        let keeps_empty = input.quoted_empty() == QuotedEmpty::Text;
        let mut splitter = Splitter::new(block, &dialect, layout.fields);
        let is_utf8 = std::str::from_utf8(block.text()).is_ok();
        while splitter.fill(&mut self.records, SLICE_RECORDS) {
            self.survey.records += self.records.len() as u64;
            let place =
                |line: u32| Place { file: block.file, line: block.first_line + u64::from(line) };
            for broken in self.records.broken() {
                self.survey.broken += 1;
                if self.survey.broken_examples.len() < MAX_BROKEN_EXAMPLES {
                    let reason = broken.kind.describe(block.first_line).into_owned();
                    self.survey
                        .broken_examples
                        .push(BrokenRecord { place: place(broken.line), reason });
                }
            }
            let text = block.text();
            let columns = self.survey.columns.iter_mut().enumerate();
            for (column, facts) in columns {
                match layout.place(column) {
                    None => facts.observe_empty(self.records.len() as u64),
                    Some(field) => {
                        let values = self.records.column(field);
                        let context = Context { text, dialect: &dialect, keeps_empty, is_utf8 };
                        let place = |row: u32| place(self.records.line(row as usize));
                        context.watch_column(facts, values, place, &mut self.scratch);
                    }
                }
            }
        }
    }
}

/// What has to be known of a block to look at its values.
struct Context<'b> {
    text: &'b [u8],
    dialect: &'b Dialect,
    /// Whether a blank field in quotes is a text.
    keeps_empty: bool,
    /// Whether the whole text is valid.
    is_utf8: bool,
}

impl Context<'_> {
    /// Takes note of the values of one column, given as places in the text; `place` says where the
    /// record of a row stands.
    fn watch_column(
        &self,
        facts: &mut ColumnFacts,
        values: impl Iterator<Item = (usize, usize)>,
        place: impl Fn(u32) -> Place,
        scratch: &mut Vec<u8>,
    ) {
        let text = self.text;
        // What a value starts with that is not what it says; 256 is no byte.
        let quote = self.dialect.quote.map_or(256, u16::from);
        let is_simple = self.is_utf8 && self.dialect.escape == Escape::Doubled;
        let mut group = Group::new();
        let mut empty = 0;
        let mut values = (0..).zip(values);
        // In a column of few values most were seen before, and that is all there is to do.
        while let Some(table) = facts.few() {
            let unknown = values.find_map(|(row, (start, end))| {
                if start == end {
                    empty += 1;
                    return None;
                }
                let raw = &text[start..end];
                let is_known = is_simple
                    && u16::from(raw[0]) != quote
                    && table.count_known(Key::within(text, start, end), raw);
                (!is_known).then_some((row, start, end))
            });
            let Some((row, start, end)) = unknown else { break };
            match self.plain(start, end) {
                Some((start, end)) => {
                    let key = Key::within(text, start, end);
                    if !table.count_known(key, &text[start..end]) {
                        facts.observe(&text[start..end], true, place(row));
                    }
                }
                None => self.observe_closely(facts, start, end, place(row), scratch),
            }
        }
        // In one of many they are looked up in groups, until there are too many for a table.
        while facts.wants_groups() {
            let Some((row, (start, end))) = values.next() else { break };
            if start == end {
                empty += 1;
                continue;
            }
            match self.plain(start, end) {
                Some((start, end)) => {
                    if group.push(start, end, row) {
                        facts.observe_group(&mut group, text, &place);
                    }
                }
                None => {
                    // Values are observed in their order.
                    facts.observe_group(&mut group, text, &place);
                    self.observe_closely(facts, start, end, place(row), scratch);
                }
            }
        }
        facts.observe_group(&mut group, text, &place);
        for (row, (start, end)) in values {
            if start == end {
                empty += 1;
                continue;
            }
            match self.plain(start, end) {
                Some((start, end)) => facts.observe_directly(&text[start..end], place(row)),
                None => self.observe_closely(facts, start, end, place(row), scratch),
            }
        }
        facts.observe_empty(empty);
    }

    /// Takes note of a field that is more than its bytes.
    #[cold]
    fn observe_closely(
        &self,
        facts: &mut ColumnFacts,
        start: usize,
        end: usize,
        place: Place,
        scratch: &mut Vec<u8>,
    ) {
        let raw = &self.text[start..end];
        let value = self.dialect.value(raw, scratch);
        if self.keeps_empty && trim(value).is_empty() && self.dialect.is_quoted(raw) {
            facts.observe_text(value, place);
        } else {
            facts.observe(value, self.is_utf8, place);
        }
    }

    /// Where the value of a field stands in the text, if it stands there as it is.
    #[inline]
    fn plain(&self, start: usize, end: usize) -> Option<(usize, usize)> {
        if self.is_utf8 && self.dialect.is_plain(&self.text[start..end]) {
            return Some((start, end));
        }
        self.inner(start, end)
    }

    /// Where the value of a field stands in the text that is quoted and has nothing escaped in it.
    fn inner(&self, start: usize, end: usize) -> Option<(usize, usize)> {
        let quote = self.dialect.quote?;
        let inner = self.text[start..end].strip_prefix(&[quote])?.strip_suffix(&[quote])?;
        let is_simple = self.is_utf8
            && self.dialect.escape == Escape::Doubled
            && !trim(inner).is_empty()
            && memchr::memchr(quote, inner).is_none();
        is_simple.then_some((start + 1, end - 1))
    }
}
