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
mod estimate;
mod example;
mod facts;
mod file;
mod numbers;
mod order;
mod saved;
mod source;
mod spread;
mod text;
mod written;

use std::sync::{Mutex, PoisonError};

use serde::{Deserialize, Serialize};

use column::Group;
pub use column::{ColumnFacts, DistinctCount};
pub use dates::{DateFacts, OrderFacts, ShapeFacts};
pub use distinct::{DistinctValue, MAX_DISTINCT};
pub use estimate::ESTIMATE_ERROR;
pub use example::{Example, MAX_EXAMPLES, Tally};
pub use facts::{CLASSES, Class, Facts};
pub use file::{PoolError, SURVEY_VERSION, SurveyFileError, is_survey};
pub use numbers::{NumberFacts, WIDTHS};
use order::{Adding, BlockRun, Runs};
pub use order::{Sequence, Trend};
pub use source::{Source, SourceFile};
pub use spread::{Cell, Spread};
pub use text::TextFacts;
pub use written::{ViewFacts, WrittenFacts};

use crate::intern::Key;
use crate::readings::trim;
use crate::run::{self, Monitor, RunError, RunOptions};
use crate::text::{Block, BlockReader, Dialect, Escape, Input, QuotedEmpty, Records, Splitter};

/// Where a value stands: ordered as the files of a survey are, by their names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Place {
    /// Which file of the survey, from 0.
    pub file: u32,
    /// Line of the file on which the record starts, from 1.
    pub line: u64,
}

/// A record that could not be split into the columns of the input.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BrokenRecord {
    /// Where it stands.
    pub place: Place,
    /// What is wrong with it, as a clause.
    pub reason: String,
}

/// Most broken records that a survey shows.
pub const MAX_BROKEN_EXAMPLES: usize = 5;

/// What a survey is to look for beside the usual.
#[derive(Debug, Clone, Default)]
pub struct SurveyOptions {
    /// Texts that mean "no value", beside the blank field: in every column, or one list a column.
    pub absent: Absent,
    /// Whether to look for values in quotes.
    pub quoted: bool,
    /// The most records to look at, from the start: a sample.
    pub rows: Option<u64>,
}

/// Texts that mean "no value".
#[derive(Debug, Clone)]
pub enum Absent {
    /// In every column.
    Everywhere(Vec<String>),
    /// In each column, by its position; where there is a list, well-known tokens that are not in it are
    /// values like any other.
    ByColumn(Vec<Option<Vec<String>>>),
}

impl Default for Absent {
    fn default() -> Self {
        Absent::Everywhere(Vec::new())
    }
}

impl Absent {
    /// The texts of a column, and whether there are no others.
    fn of(&self, column: usize) -> (&[String], bool) {
        match self {
            Absent::Everywhere(texts) => (texts, false),
            Absent::ByColumn(lists) => match lists.get(column) {
                Some(Some(texts)) => (texts, true),
                _ => (&[], false),
            },
        }
    }
}

/// Facts about an input.
#[derive(Debug, Clone)]
pub struct Survey {
    /// What it is of: files, names, layout.
    pub source: Source,
    /// Records that could be split.
    pub records: u64,
    /// Records that could not.
    pub broken: u64,
    /// The first of those.
    pub broken_examples: Vec<BrokenRecord>,
    /// Whether there was more that was not looked at.
    pub is_sample: bool,
    /// Whether values in quotes were looked for.
    pub quoted: bool,
    /// Texts that were said to mean "no value" in every column.
    pub absent: Vec<String>,
    /// Facts per column, in the order of the input.
    pub columns: Vec<ColumnFacts>,
}

impl Survey {
    /// A survey of nothing yet.
    fn new(columns: usize, options: &SurveyOptions) -> Survey {
        let facts = |column| {
            let (said, is_all) = options.absent.of(column);
            ColumnFacts::new(columns, said, is_all)
        };
        Survey {
            source: Source::default(),
            records: 0,
            broken: 0,
            broken_examples: Vec::new(),
            is_sample: false,
            quoted: options.quoted,
            absent: match &options.absent {
                Absent::Everywhere(texts) => texts.clone(),
                Absent::ByColumn(_) => Vec::new(),
            },
            columns: (0..columns).map(facts).collect(),
        }
    }

    /// Surveys an input on all threads of `run`, or its first records on one.
    ///
    /// # Errors
    /// An input that cannot be read, or a monitor that asks to stop.
    pub fn take(
        input: &Input,
        options: &SurveyOptions,
        run: &RunOptions,
        monitor: &dyn Monitor,
    ) -> Result<Survey, RunError> {
        let (source, ranks) = Source::of(input);
        let shared = Shared {
            input,
            options,
            ranks,
            orders: Mutex::new(vec![Runs::default(); input.names().len()]),
        };
        let parts = match options.rows {
            Some(rows) => vec![shared.sample(rows, run, monitor)?],
            None => run::fold_blocks(
                input,
                run,
                monitor,
                || Watcher::new(&shared),
                |watcher, block| watcher.watch(block, &shared, u64::MAX),
            )?,
        };
        // The first part is added to, and each other one dropped as it is added: no third copy of the
        // distinct values comes up.
        let whole = parts.into_iter().map(|part| part.survey).reduce(|mut whole, part| {
            whole.merge(part);
            whole
        });
        let mut survey = whole.unwrap_or_else(|| Survey::new(input.names().len(), options));
        survey.source = source;
        let orders = shared.orders.into_inner().unwrap_or_else(PoisonError::into_inner);
        for (column, runs) in survey.columns.iter_mut().zip(orders) {
            column.settle();
            column.sequence = runs.finish();
        }
        Ok(survey)
    }

    /// Adds the facts of another part of the same input.
    fn merge(&mut self, mut other: Survey) {
        assert_eq!(self.columns.len(), other.columns.len(), "surveys of the same columns");
        self.add_records(&mut other);
        for (ours, theirs) in self.columns.iter_mut().zip(other.columns) {
            ours.merge(theirs);
        }
    }

    /// Adds what another survey knows of its records as wholes.
    fn add_records(&mut self, other: &mut Survey) {
        self.records += other.records;
        self.broken += other.broken;
        self.is_sample |= other.is_sample;
        self.broken_examples.append(&mut other.broken_examples);
        self.broken_examples.sort_by_key(|broken| broken.place);
        self.broken_examples.truncate(MAX_BROKEN_EXAMPLES);
    }

    /// The names of the files, as places count them.
    pub fn files(&self) -> Vec<String> {
        self.source.files.iter().map(|file| file.name.clone()).collect()
    }
}

/// What all threads of a survey know.
struct Shared<'s> {
    input: &'s Input,
    options: &'s SurveyOptions,
    /// The place of each file of the input among those of the survey.
    ranks: Vec<u32>,
    /// How values stand, by column.
    orders: Mutex<Vec<Runs>>,
}

impl Shared<'_> {
    /// Looks at the first records only.
    fn sample(
        &self,
        rows: u64,
        run: &RunOptions,
        monitor: &dyn Monitor,
    ) -> Result<Watcher, RunError> {
        let mut watcher = Watcher::new(self);
        let mut reader = BlockReader::new(self.input, run.block_bytes);
        let mut block = Block::default();
        while reader.next(&mut block)? {
            if monitor.stopped() {
                return Err(RunError::Interrupted);
            }
            let seen = watcher.survey.records;
            watcher.watch(&block, self, rows.saturating_sub(seen));
            monitor.advance(block.bytes);
            if watcher.survey.is_sample {
                break;
            }
        }
        Ok(watcher)
    }
}

/// What one thread keeps while it surveys block after block.
struct Watcher {
    survey: Survey,
    records: Records,
    scratch: Vec<u8>,
    /// How the values of the block at hand stand, by column.
    runs: Vec<BlockRun>,
}

/// Records that are split before their columns are looked at, one by one: few enough that their text
/// and bounds stay in the second level of cache.
const SLICE_RECORDS: usize = 1024;

impl Watcher {
    fn new(shared: &Shared<'_>) -> Watcher {
        let columns = shared.input.names().len();
        Watcher {
            survey: Survey::new(columns, shared.options),
            records: Records::default(),
            scratch: Vec::new(),
            runs: Vec::new(),
        }
    }

    /// Looks at a block, or at its first `most` records.
    fn watch(&mut self, block: &Block, shared: &Shared<'_>, mut most: u64) {
        let input = shared.input;
        let layout = input.files()[block.file as usize].layout();
        let file = shared.ranks[block.file as usize];
        let dialect = layout.dialect;
        let keeps_empty = input.quoted_empty() == QuotedEmpty::Text;
        let mut splitter = Splitter::new(block, &dialect, layout.fields);
        let is_utf8 = simdutf8::basic::from_utf8(block.text()).is_ok();
        self.begin_runs(shared);
        while splitter.fill(&mut self.records, most.clamp(1, SLICE_RECORDS as u64) as usize) {
            if most == 0 {
                self.survey.is_sample = true;
                break;
            }
            // Records come a little more than asked for; what stands behind the last one is left alone.
            let end = usize::try_from(most).ok().filter(|most| *most < self.records.len());
            let end_line = end.map_or(u32::MAX, |end| self.records.line(end));
            if let Some(end) = end {
                self.records.retain(|row| row < end);
                self.survey.is_sample = true;
            }
            most -= (self.records.len() as u64).min(most);
            self.survey.records += self.records.len() as u64;
            let place = |line: u32| Place { file, line: block.first_line + u64::from(line) };
            for broken in self.records.broken().iter().filter(|broken| broken.line < end_line) {
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
                        let run = &mut self.runs[column];
                        // Where values are looked at one by one, their order is seen to on the way.
                        let (mut over, at_once) = (BlockRun::None, !facts.has_values());
                        let on_the_way = if at_once { &mut *run } else { &mut over };
                        context.watch_column(facts, values, place, on_the_way, &mut self.scratch);
                        let values = || self.records.column(field);
                        if !at_once && !run.is_over() {
                            context.watch_order(run, values(), &mut self.scratch);
                        }
                        if shared.options.quoted {
                            context.watch_quotes(facts, values(), place, &mut self.scratch);
                        }
                    }
                }
            }
        }
        self.end_runs(shared, block);
    }

    /// Forgets how the values of the last block stood; columns in no order are not looked at again.
    fn begin_runs(&mut self, shared: &Shared<'_>) {
        let orders = shared.orders.lock().unwrap_or_else(PoisonError::into_inner);
        self.runs.clear();
        self.runs.extend(orders.iter().map(Runs::next));
    }

    fn end_runs(&mut self, shared: &Shared<'_>, block: &Block) {
        let mut orders = shared.orders.lock().unwrap_or_else(PoisonError::into_inner);
        let file = shared.ranks[block.file as usize];
        for (runs, run) in orders.iter_mut().zip(self.runs.drain(..)) {
            runs.add(file, block.sequence, run);
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
    /// record of a row stands. Those of a column without a table are added to `run` as well.
    fn watch_column(
        &self,
        facts: &mut ColumnFacts,
        values: impl Iterator<Item = (usize, usize)> + Clone,
        place: impl Fn(u32) -> Place,
        run: &mut BlockRun,
        scratch: &mut Vec<u8>,
    ) {
        let text = self.text;
        // What a value starts with that is not what it says; 256 is no byte.
        let quote = self.dialect.quote.map_or(256, u16::from);
        // Where a blank text may be in the table, a blank field must not be taken for it.
        let is_simple = self.is_utf8 && self.dialect.escape == Escape::Doubled && !self.keeps_empty;
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
        // Hashes in a loop of their own, in which nothing waits for anything.
        let plain =
            values.clone().filter_map(
                |(_, (start, end))| {
                    if start == end { None } else { self.plain(start, end) }
                },
            );
        facts.hash_all(plain.map(|(start, end)| &text[start..end]));
        let mut adding = Adding::to(run);
        for (row, (start, end)) in values {
            if start == end {
                empty += 1;
                continue;
            }
            match self.plain(start, end) {
                Some((start, end)) => {
                    let value = &text[start..end];
                    let integer = facts.observe_directly(value, place(row));
                    if !adding.push_integer(value, integer) {
                        adding.push(value);
                    }
                }
                None => {
                    self.observe_closely(facts, start, end, place(row), scratch);
                    // A value that does not stand in the text as it is goes by itself.
                    drop(adding);
                    let value = self.dialect.value(&text[start..end], scratch);
                    Adding::to(run).push(value);
                    adding = Adding::to(run);
                }
            }
        }
        drop(adding);
        facts.observe_empty(empty);
    }

    /// Takes note of how the values stand.
    fn watch_order(
        &self,
        run: &mut BlockRun,
        values: impl Iterator<Item = (usize, usize)>,
        scratch: &mut Vec<u8>,
    ) {
        let mut adding = Adding::to(run);
        for (start, end) in values {
            let goes_on = match self.plain(start, end) {
                Some((start, end)) => adding.push(&self.text[start..end]),
                None => {
                    // A value that does not stand in the text as it is goes by itself.
                    drop(adding);
                    let value = self.dialect.value(&self.text[start..end], scratch);
                    let goes_on = Adding::to(run).push(value);
                    adding = Adding::to(run);
                    goes_on
                }
            };
            if !goes_on {
                break;
            }
        }
    }

    /// Takes note of values in quotes.
    fn watch_quotes(
        &self,
        facts: &mut ColumnFacts,
        values: impl Iterator<Item = (usize, usize)>,
        place: impl Fn(u32) -> Place,
        scratch: &mut Vec<u8>,
    ) {
        for (row, (start, end)) in (0..).zip(values) {
            let raw = &self.text[start..end];
            if self.dialect.is_quoted(raw) {
                let value = self.dialect.value(raw, scratch);
                if !trim(value).is_empty() {
                    facts.quoted.add(value, 1, place(row));
                }
            }
        }
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

    /// Where the value of a field stands in the text, if it stands there as it is. A blank field does not
    /// where a blank text is a value.
    #[inline]
    fn plain(&self, start: usize, end: usize) -> Option<(usize, usize)> {
        let raw = &self.text[start..end];
        if self.is_utf8 && self.dialect.is_plain(raw) {
            let is_absent = self.keeps_empty && trim(raw).is_empty();
            return (!is_absent).then_some((start, end));
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
