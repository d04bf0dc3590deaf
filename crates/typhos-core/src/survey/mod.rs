//! Mergeable facts per column, gathered over every record.
//!
//! A [`Survey`] says what *is* in an input: counts per [`Class`] of value, extremes, lengths, distinct
//! values, date shapes. It decides nothing; that is the room of `infer`.
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

mod broken;
mod class;
mod clothes;
mod column;
mod cut;
mod dates;
mod digits;
mod direct;
mod distinct;
mod dressed;
mod estimate;
mod example;
mod facts;
mod file;
mod fold;
mod fractions;
mod group;
mod grouped;
mod habit;
mod hash_set;
mod integers;
mod kinds;
mod lengths;
mod log;
mod long_hash;
mod names;
mod numbers;
mod order;
mod parts;
mod pool;
mod saved;
mod saved_column;
mod small;
mod source;
mod spread;
mod sure_text;
mod text;
mod told;
mod watch;
mod written;

use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex, PoisonError};

pub use broken::BrokenRecord;
pub use class::{CLASSES, Class};
pub use column::{ColumnFacts, DistinctCount};
pub use dates::{DateFacts, OrderFacts, ShapeFacts};
pub use distinct::{DistinctValue, MAX_DISTINCT};
pub use estimate::ESTIMATE_ERROR;
pub use example::{Example, MAX_EXAMPLES, Tally};
pub use facts::Facts;
pub use file::{SURVEY_VERSION, SurveyFileError, SurveyHead, is_survey};
pub use kinds::KindFacts;
pub use lengths::LengthFacts;
use log::Prospect;
pub use names::NameCounts;
pub use numbers::{MOST_LOSSES, NumberFacts, WIDTHS};
use order::OrderedRuns;
pub use order::{Sequence, Trend};
pub use parts::PartOf;
pub use pool::{PoolError, Pooling};
pub use source::{SourceFile, SurveySource};
pub use spread::{Cell, Spread};
pub use text::TextFacts;
use watch::Watcher;
pub use written::{ViewFacts, WrittenFacts};

use crate::json;
use crate::records::Paths;
use crate::run::{self, Monitor, RunError, RunOptions};
use crate::text::{Block, BlockReader, Blocks, DEFAULT_BLOCK_BYTES, Input, LineRef};

/// Most broken records that a survey shows.
pub const MAX_BROKEN_EXAMPLES: usize = 5;

/// What a survey is to look for beside the usual.
#[derive(Debug, Clone, Default)]
pub struct SurveyOptions {
    /// Texts that mean "no value", beside the blank field: in every column, or one list a column.
    pub absent: Absent,
    /// Columns that are split and not looked at, by their position, in order.
    pub unseen: Vec<usize>,
    /// Whether to look for values in quotes.
    pub quoted: bool,
    /// The most records to look at, from the start: a sample.
    pub rows: Option<u64>,
    /// Whether no schema will come of it: [`SurveySource::layout`] is then what was said, without what was found.
    pub only_shown: bool,
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
    pub source: SurveySource,
    /// Records that could be split.
    pub records: u64,
    /// Records that could not.
    pub broken: u64,
    /// The first of those.
    pub broken_examples: Vec<BrokenRecord>,
    /// Whether there was more that was not looked at.
    pub is_sample: bool,
    /// Columns that were not looked at, by their position, in order: their facts are those of no values.
    pub unseen: Vec<usize>,
    /// Whether values in quotes were looked for.
    pub quoted: bool,
    /// What has to be known to put it together with others, where it is of a part of an input.
    pub part: Option<PartOf>,
    /// Texts that were said to mean "no value" in every column.
    pub absent: Vec<String>,
    /// Facts per column, in the order of the input.
    pub columns: Vec<ColumnFacts>,
}

impl Survey {
    /// A survey of nothing yet.
    fn new(columns: usize, options: &SurveyOptions) -> Survey {
        // Columns that are told alike share what they are told.
        let mut last: Option<(&[String], bool, Arc<Facts>)> = None;
        let facts = |column| {
            let (said, is_all) = options.absent.of(column);
            let known = last.take().filter(|(words, all, _)| (*words, *all) == (said, is_all));
            let (.., none) = last.insert(known.unwrap_or_else(|| {
                (said, is_all, Arc::new(ColumnFacts::none(columns, said, is_all)))
            }));
            ColumnFacts::new(columns, none.clone())
        };
        Survey {
            source: SurveySource::default(),
            records: 0,
            broken: 0,
            broken_examples: Vec::new(),
            is_sample: false,
            unseen: options.unseen.clone(),
            quoted: options.quoted,
            part: None,
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
        let (source, ranks, order) = SurveySource::of(input, options.only_shown);
        let columns = input.names().len();
        let threads = match options.rows {
            Some(_) => NonZeroUsize::MIN,
            None => threads(run.threads, columns),
        };
        let prospect = || Arc::new(Prospect::of_threads(threads));
        let shared = Shared {
            input,
            options,
            ranks,
            orders: Mutex::new(vec![OrderedRuns::default(); columns]),
            prospects: std::iter::repeat_with(prospect).take(columns).collect(),
        };
        let parts = match options.rows {
            Some(rows) => vec![shared.sample(rows, run, monitor)?],
            // In the order of their places, a value is first seen where the first of it stands.
            None => run::fold_blocks(
                Blocks::of_files(input, &order),
                &RunOptions { threads, block_bytes: block_bytes(run.block_bytes, columns) },
                monitor,
                || Watcher::new(&shared),
                |watcher, block| watcher.watch(block, &shared, u64::MAX),
            )?,
        };
        let parts: Vec<Survey> = parts.into_iter().map(|part| part.survey).collect();
        let mut survey =
            Survey::gathered(parts, run.threads).unwrap_or_else(|| Survey::new(columns, options));
        survey.source = source;
        survey.part = PartOf::read(input);
        let orders = shared.orders.into_inner().unwrap_or_else(PoisonError::into_inner);
        for (column, runs) in survey.columns.iter_mut().zip(orders) {
            column.sequence = runs.finish();
        }
        let whole = input.paths().and_then(Paths::provisional).map(|known| known.finish().0);
        if let Some(paths) = whole.as_ref().or(input.paths()) {
            let ranked =
                |place: LineRef| LineRef { part: shared.ranks[place.part as usize], ..place };
            for (at, column) in survey.columns.iter_mut().enumerate() {
                let kind = |kind| {
                    let (count, first) = paths.kind(at, kind);
                    (count, first.map(ranked))
                };
                column.kinds = Some(Box::new(KindFacts::new(kind)));
            }
        }
        Ok(survey)
    }

    /// The same of an input of which only the first records were [looked at](json::learn_first), under the names that are
    /// wanted. Where all of them have other columns than those, it is taken again.
    ///
    /// # Errors
    /// Those of [`take`](Self::take), and of [`json::confirm`].
    pub fn take_confirmed(
        input: &mut Input,
        wanted: &[String],
        options: &SurveyOptions,
        run: &RunOptions,
        monitor: &dyn Monitor,
    ) -> Result<Survey, RunError> {
        let survey = Survey::take(input, options, run, monitor)?;
        if json::confirm(input, wanted)? {
            return Ok(survey);
        }
        drop(survey);
        monitor.begin("surveying again, with all names", Some(input.bytes()));
        Survey::take(input, options, run, monitor)
    }

    /// What parts of the same input know together, in their order. Each thread sees to a column at a time: where there are
    /// hundreds of columns, all of which have distinct values, one alone would be longer at it than at a tenth of the input.
    fn gathered(parts: Vec<Survey>, threads: NonZeroUsize) -> Option<Survey> {
        let mut parts = parts.into_iter();
        let mut whole = parts.next()?;
        let mut columns: Vec<_> = std::mem::take(&mut whole.columns)
            .into_iter()
            .map(|column| (column, Vec::with_capacity(parts.len())))
            .collect();
        for mut part in parts {
            assert_eq!(columns.len(), part.columns.len(), "surveys of the same columns");
            whole.add_records(&mut part);
            columns
                .iter_mut()
                .zip(part.columns)
                .for_each(|((_, others), other)| others.push(other));
        }
        whole.columns = run::each(threads, columns.into_iter(), |(mut column, others)| {
            // Each is dropped as it is added: no third copy of the distinct values comes up.
            others.into_iter().for_each(|other| column.merge(other));
            column.settle();
            column
        });
        Some(whole)
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

    /// How many values a column may have, absent ones included: one for each record, or for each element where its values
    /// are those of lists.
    pub fn records_of(&self, column: usize) -> u64 {
        self.columns[column].elements.unwrap_or(self.records)
    }

    /// The names of the files, as places count them.
    pub fn files(&self) -> Vec<String> {
        self.source.files.iter().map(|file| file.name.clone()).collect()
    }
}

/// Bytes that what all threads know of the columns may take.
const MOST_BYTES: usize = 200 << 20;

/// Bytes that the distinct values of a column take in each thread, about, until there are too many of them.
const VALUES_BYTES: usize = 5 << 19;

/// Bytes that those of all columns take in each thread, about.
const MOST_VALUES_BYTES: usize = 80 << 20;

/// Bytes that the facts of a column take in each thread, about.
const FACTS_BYTES: usize = 12 << 10;

/// How many threads survey so many columns: each knows all of them.
fn threads(wanted: NonZeroUsize, columns: usize) -> NonZeroUsize {
    let values = columns.saturating_mul(VALUES_BYTES).min(MOST_VALUES_BYTES);
    let most = MOST_BYTES / (values + columns.saturating_mul(FACTS_BYTES)).max(1);
    wanted.min(NonZeroUsize::new(most).unwrap_or(NonZeroUsize::MIN))
}

/// Records that a block has room for at least, so that what a column does once for each block is not felt.
const FEWEST_RECORDS: usize = 32;

/// Bytes of a field, about.
const FIELD_BYTES: usize = 8;

/// The most bytes of a block for the sake of that.
const MOST_BLOCK_BYTES: usize = 8 << 20;

/// How large blocks of so many columns are where nobody said how large they are to be.
fn block_bytes(wanted: usize, columns: usize) -> usize {
    if wanted != DEFAULT_BLOCK_BYTES {
        return wanted;
    }
    let least = columns.saturating_mul(FEWEST_RECORDS * FIELD_BYTES);
    least.clamp(DEFAULT_BLOCK_BYTES, MOST_BLOCK_BYTES)
}

/// What all threads of a survey know.
struct Shared<'s> {
    input: &'s Input,
    options: &'s SurveyOptions,
    /// The place of each file of the input among those of the survey.
    ranks: Vec<u32>,
    /// How values stand, by column.
    orders: Mutex<Vec<OrderedRuns>>,
    /// What is known of the distinct values of each column before there are too many of them.
    prospects: Vec<Arc<Prospect>>,
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
