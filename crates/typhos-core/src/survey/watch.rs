//! Watching the columns of block after block: which way each value takes, and nothing of what it is.

use std::sync::PoisonError;

use super::distinct::DistinctTable;
use super::group::Group;
use super::habit::{Fields, Patience};
use super::order::{Adding, BlockRun, OrderedRuns};
use super::small::{PassEnd, SmallCounts};
use super::{BrokenRecord, ColumnFacts, MAX_BROKEN_EXAMPLES, Shared, Survey};
use crate::intern::Counter;
use crate::json::{self, JsonRecords, JsonSplit, JsonValues};
use crate::readings::trim;
use crate::records::{Bounds, LeafKind, LineRef, Records, Split, Values, bounds_inside};
use crate::text::{Block, FileLayout, QuotedEmpty, Splitter, TextRecords};

/// What one thread keeps while it surveys block after block.
pub(super) struct Watcher {
    pub survey: Survey,
    text: TextRecords,
    json: JsonRecords,
    scratch: Vec<u8>,
    /// Where the values of the column at hand stand.
    bounds: Vec<Bounds>,
    /// How the values of the block at hand stand, by column.
    runs: Vec<BlockRun>,
    /// Whether each column is looked at.
    seen: Vec<bool>,
}

/// Records that are split before their columns are looked at, one by one: few enough that their text
/// and bounds stay in the second level of cache.
const SLICE_RECORDS: usize = 1024;

/// Fields of a slice of long records, for the same.
const SLICE_FIELDS: usize = 65_536;

/// The fewest records of a slice, so that what a column does once for each is not felt.
const FEWEST_SLICE_RECORDS: usize = 64;

impl Watcher {
    /// Looks at the records of a block, or at the first `most` of them; `splitter` splits it into `records`, `values`
    /// says how a leaf becomes its value.
    fn watch_records<R: Records>(
        &mut self,
        block: &Block,
        records: &mut R,
        (mut splitter, values, layout): (impl Split<Records = R>, &impl Values, &FileLayout),
        shared: &Shared<'_>,
        mut most: u64,
    ) {
        let input = shared.input;
        let file = shared.ranks[block.file as usize];
        let keeps_empty = input.quoted_empty() == QuotedEmpty::Text;
        let is_utf8 = simdutf8::basic::from_utf8(block.text()).is_ok();
        let context = Context::new(block.text(), values, keeps_empty, is_utf8);
        self.begin_runs(shared);
        let slice = SLICE_FIELDS / self.seen.len().max(1);
        let slice = slice.clamp(FEWEST_SLICE_RECORDS, SLICE_RECORDS) as u64;
        while splitter.refill(records, most.clamp(1, slice) as usize) {
            if most == 0 {
                self.survey.is_sample = true;
                break;
            }
            // Records come a little more than asked for; what stands behind the last one is left alone.
            let end = usize::try_from(most).ok().filter(|most| *most < records.len());
            let end_line = end.map_or(u32::MAX, |end| records.line(end));
            if let Some(end) = end {
                records.retain(|row| row < end);
                self.survey.is_sample = true;
            }
            most -= (records.len() as u64).min(most);
            self.survey.records += records.len() as u64;
            let place =
                |line: u32| LineRef { part: file, line: block.first_line + u64::from(line) };
            for broken in records.broken().iter().filter(|broken| broken.line < end_line) {
                self.survey.broken += 1;
                if self.survey.broken_examples.len() < MAX_BROKEN_EXAMPLES {
                    let place = place(broken.line);
                    let broken = BrokenRecord::new(place, broken.kind, block.first_line);
                    self.survey.broken_examples.push(broken);
                }
            }
            let columns = self.survey.columns.iter_mut().enumerate();
            for (column, facts) in columns.filter(|(column, _)| self.seen[*column]) {
                match layout.place(column) {
                    None => facts.observe_empty(records.len() as u64),
                    Some(field) => {
                        self.bounds.clear();
                        records.column_into(field, &mut self.bounds);
                        if !shared.options.quoted && records.may_be_quoted(field) {
                            context.take_off_quotes(&mut self.bounds);
                        }
                        let values = &self.bounds[..];
                        let rows = records.rows_of(field);
                        let row_of = |at: u32| rows.map_or(at, |rows| rows[at as usize]);
                        let place = |at: u32| place(records.line(row_of(at) as usize));
                        let run = &mut self.runs[column];
                        if rows.is_some() {
                            // Elements are in the order of their lists.
                            *run = BlockRun::None;
                            *facts.elements.get_or_insert(0) += values.len() as u64;
                        }
                        // Where values are looked at one by one, their order is seen to on the way.
                        let empty = facts.empty();
                        let (mut over, at_once) = (BlockRun::None, !facts.has_values());
                        let on_the_way = if at_once { &mut *run } else { &mut over };
                        context.watch_column(facts, values, place, on_the_way, &mut self.scratch);
                        if !at_once && !run.is_over() {
                            context.watch_order(run, values, &mut self.scratch);
                        }
                        if R::TELLS_TEXTS {
                            let scratch = &mut self.scratch;
                            let of = (field, empty);
                            context.watch_texts(facts, values, &*records, of, place, scratch);
                        } else if shared.options.quoted {
                            context.watch_quotes(facts, values, place, &mut self.scratch);
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
        self.runs.extend(orders.iter().map(OrderedRuns::next));
    }

    fn end_runs(&mut self, shared: &Shared<'_>, block: &Block) {
        let mut orders = shared.orders.lock().unwrap_or_else(PoisonError::into_inner);
        let file = shared.ranks[block.file as usize];
        for (runs, run) in orders.iter_mut().zip(self.runs.drain(..)) {
            runs.add(file, block.sequence, run);
        }
    }
}

impl Watcher {
    /// A watcher that has seen nothing.
    pub fn new(shared: &Shared<'_>) -> Watcher {
        let columns = shared.input.names().len();
        let mut survey = Survey::new(columns, shared.options);
        for (column, prospect) in survey.columns.iter_mut().zip(&shared.prospects) {
            column.prospect = prospect.clone();
        }
        Watcher {
            survey,
            text: TextRecords::default(),
            json: JsonRecords::default(),
            scratch: Vec::new(),
            bounds: Vec::new(),
            runs: Vec::new(),
            seen: (0..columns)
                .map(|column| shared.options.unseen.binary_search(&column).is_err())
                .collect(),
        }
    }

    /// Looks at a block, or at its first `most` records.
    pub fn watch(&mut self, block: &Block, shared: &Shared<'_>, most: u64) {
        let layout = shared.input.files()[block.file as usize].layout();
        if let Some(paths) = &layout.paths {
            if let Some(provisional) = paths.provisional().filter(|known| known.is_off()) {
                // The survey has to be taken again: all that is left to find out is of which columns.
                return provisional.add_paths(&json::learned(block, paths).0, false);
            }
            let mut records = std::mem::take(&mut self.json);
            let how = (JsonSplit::new(block, paths, layout.fields), &JsonValues, layout);
            self.watch_records(block, &mut records, how, shared, most);
            self.json = records;
        } else {
            let mut records = std::mem::take(&mut self.text);
            let splitter = Splitter::new(block, &layout.dialect, layout.fields);
            self.watch_records(
                block,
                &mut records,
                (splitter, &layout.dialect, layout),
                shared,
                most,
            );
            self.text = records;
        }
    }
}

/// What has to be known of a block to look at its values.
struct Context<'b, V> {
    text: &'b [u8],
    /// How a leaf becomes its value.
    values: &'b V,
    /// Whether a blank field in quotes is a text.
    keeps_empty: bool,
    /// Whether the whole text is valid.
    is_utf8: bool,
    /// Whether that is so, and some of its fields may have quotes.
    has_quotes: bool,
    /// For each byte, whether a field that starts with it may not be its value as it stands.
    odd: [bool; 256],
}

/// What comes behind the values of a group.
enum Then {
    /// Others.
    More,
    /// A value that does not stand in the text as it is: its row, and where its field starts and ends.
    Odd(u32, usize, usize),
    /// Nothing.
    End,
}

impl<'b, V: Values> Context<'b, V> {
    fn new(text: &'b [u8], values: &'b V, keeps_empty: bool, is_utf8: bool) -> Context<'b, V> {
        // Where a blank text may be in a table, a blank field must not be taken for it.
        let is_simple = is_utf8 && !keeps_empty;
        let odd = if is_simple { values.odd_starts() } else { [true; 256] };
        let has_quotes = is_utf8 && values.may_have_odd(text);
        Context { text, values, keeps_empty, is_utf8, has_quotes, odd }
    }

    /// Gives fields in quotes the bounds of their values, where those stand in the text as they are. Nobody is to ask then
    /// which of them had quotes.
    fn take_off_quotes(&self, fields: &mut [Bounds]) {
        if !self.has_quotes {
            return;
        }
        let Some(marks) = self.values.marks() else { return };
        for field in fields {
            *field = bounds_inside(self.text, *field, marks).unwrap_or(*field);
        }
    }

    /// Takes note of the values of one column; `place` says where the record of a row stands. Those of a
    /// column without a table are added to `run` as well.
    fn watch_column(
        &self,
        facts: &mut ColumnFacts,
        values: &[Bounds],
        place: impl Fn(u32) -> LineRef,
        run: &mut BlockRun,
        scratch: &mut Vec<u8>,
    ) {
        let text = self.text;
        let mut rest = Rest { values, at: 0, empty: 0 };
        // In a column of few values most were seen before, and that is all there is to do.
        while let Some(table) = facts.few() {
            if rest.pass(text, &self.odd, table, &place) {
                if table.is_over() {
                    facts.fold();
                }
                continue;
            }
            let Some((row, start, end)) = rest.next() else { break };
            // What stands as it is was looked up on the way.
            let is_new = !self.odd[usize::from(text[start])];
            match self.plain(start, end) {
                Some((start, end)) => {
                    if is_new || !table.values_mut().counter().count(text, start, end) {
                        facts.observe(&text[start..end], true, place(row));
                    }
                }
                None => self.observe_closely(facts, start, end, place(row), scratch),
            }
        }
        // In one of many they are looked up in groups, until there are too many for a table.
        let mut group = Group::new();
        while facts.wants_groups() {
            let then = self.fill(&mut group, &mut rest);
            facts.observe_group(&mut group, text, &place);
            match then {
                Then::More => {}
                Then::Odd(row, start, end) => {
                    self.observe_closely(facts, start, end, place(row), scratch);
                }
                Then::End => return facts.observe_empty(rest.empty),
            }
        }
        if let Some((start, end)) = rest.values[rest.at..].last()
            && let Some((start, end)) = self.plain(*start as usize, *end as usize)
        {
            facts.expect(&text[start..end]);
        }
        let mut adding = Adding::to(run);
        let mut patience = Patience::default();
        loop {
            if !rest.values[rest.at..].is_empty() && patience.is_over() {
                let (at, values) = (rest.at as u32, &rest.values[rest.at..]);
                let place = |row| place(at + row);
                let fields = Fields { text, bounds: values, odd: &self.odd };
                let passed = facts.pass_habit(fields, place, &mut adding);
                rest.at += passed.fields;
                rest.empty += passed.empty;
                patience.note(passed.fields > 0);
            }
            let then = self.fill(&mut group, &mut rest);
            facts.observe_directly(&mut group, text, &place, &mut adding);
            match then {
                Then::More => {}
                Then::Odd(row, start, end) => {
                    self.observe_closely(facts, start, end, place(row), scratch);
                    // A value that does not stand in the text as it is goes by itself.
                    drop(adding);
                    let value = self.values.value(&text[start..end], scratch);
                    Adding::to(run).push(value);
                    adding = Adding::to(run);
                }
                Then::End => break,
            }
        }
        drop(adding);
        facts.observe_empty(rest.empty);
    }

    /// Fills an empty group with values that are not empty, up to one that does not stand in the text as
    /// it is.
    #[inline(never)]
    fn fill(&self, group: &mut Group, rest: &mut Rest<'_>) -> Then {
        let mut places = group.places();
        let Rest { values, mut at, mut empty } = *rest;
        let then = loop {
            let Some(&(start, end)) = values.get(at) else { break Then::End };
            let row = at as u32;
            at += 1;
            if start == end {
                empty += 1;
                continue;
            }
            let (mut start, mut end) = (start as usize, end as usize);
            if self.odd[usize::from(self.text[start])] {
                match self.plain(start, end) {
                    Some(plain) => (start, end) = plain,
                    None => break Then::Odd(row, start, end),
                }
            }
            if places.put(start, end, row) {
                break Then::More;
            }
        };
        places.finish();
        *rest = Rest { values, at, empty };
        then
    }

    /// Takes note of how the values stand.
    fn watch_order(&self, run: &mut BlockRun, values: &[Bounds], scratch: &mut Vec<u8>) {
        let mut adding = Adding::to(run);
        for (start, end) in values.iter().map(|(start, end)| (*start as usize, *end as usize)) {
            let goes_on = match self.plain(start, end) {
                Some((start, end)) => adding.push(&self.text[start..end]),
                None => {
                    // A value that does not stand in the text as it is goes by itself.
                    drop(adding);
                    let value = self.values.value(&self.text[start..end], scratch);
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

    /// Takes note of texts, where the format tells them from numbers. So many fields of the column had nothing in them, or
    /// were blank, before its values were observed.
    fn watch_texts(
        &self,
        facts: &mut ColumnFacts,
        values: &[Bounds],
        records: &impl Records,
        (field, empty): (usize, u64),
        place: impl Fn(u32) -> LineRef,
        scratch: &mut Vec<u8>,
    ) {
        if values.is_empty() {
            return;
        }
        // The first ones are shown; of all others their number is enough.
        let first = place(0);
        let lacking = || values.iter().filter(|(start, end)| start == end).count() as u64;
        if facts.quoted.is_settled(first)
            || facts.has_quoted_all(first) && facts.empty() - empty == lacking()
        {
            facts.quoted.count += records.texts(field);
            return;
        }
        for (row, (start, end)) in (0..).zip(values) {
            if start < end && records.leaf(row as usize, field).kind == LeafKind::Text {
                let raw = &self.text[*start as usize..*end as usize];
                facts.quoted.add(self.values.value(raw, scratch), 1, place(row));
            }
        }
    }

    /// Takes note of values in quotes.
    fn watch_quotes(
        &self,
        facts: &mut ColumnFacts,
        values: &[Bounds],
        place: impl Fn(u32) -> LineRef,
        scratch: &mut Vec<u8>,
    ) {
        for (row, (start, end)) in (0..).zip(values) {
            let raw = &self.text[*start as usize..*end as usize];
            if self.values.is_quoted(raw) {
                let value = self.values.value(raw, scratch);
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
        place: LineRef,
        scratch: &mut Vec<u8>,
    ) {
        let raw = &self.text[start..end];
        let value = self.values.value(raw, scratch);
        if self.keeps_empty && trim(value).is_empty() && self.values.is_quoted(raw) {
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
        if self.is_utf8 && self.values.is_plain(raw) {
            if !self.keeps_empty {
                return Some((start, end));
            }
            return (!trim(raw).is_empty()).then_some((start, end));
        }
        self.inner(start, end)
    }

    /// Where the value of a field stands in the text that is quoted and has nothing escaped in it.
    #[inline(never)]
    fn inner(&self, start: usize, end: usize) -> Option<(usize, usize)> {
        let bounds = (start as u32, end as u32);
        let (start, end) = self.values.inner_bounds(self.text, bounds).filter(|_| self.is_utf8)?;
        Some((start as usize, end as usize))
    }
}

/// Values of a column that are still to be looked at.
struct Rest<'v> {
    values: &'v [Bounds],
    /// How many are behind.
    at: usize,
    /// How many of those were empty.
    empty: u64,
}

impl Rest<'_> {
    /// The next value: its row, and where its field starts and ends.
    fn next(&mut self) -> Option<(u32, usize, usize)> {
        let (start, end) = *self.values.get(self.at)?;
        self.at += 1;
        Some((self.at as u32 - 1, start as usize, end as usize))
    }

    /// Passes over empty fields and those that are known, which are counted, and over a new small integer behind them, where
    /// those are counted beside the table; says whether there was one.
    ///
    /// Most of the time of a survey goes by in here. What it needs is therefore little enough for the
    /// registers, and nothing is inlined around it.
    fn pass(
        &mut self,
        text: &[u8],
        odd: &[bool; 256],
        table: &mut DistinctTable,
        place: impl Fn(u32) -> LineRef,
    ) -> bool {
        let (known, small) = table.counters();
        // Values of one word are looked up by it alone.
        let is_short = known.is_short();
        let counter = known.counter();
        let rest = &self.values[self.at..];
        // Digits that may be quotes are looked at more closely.
        let has_odd_digits = odd[usize::from(b'0')..=usize::from(b'9')].contains(&true);
        let mut is_new = false;
        let (passed, empty) = match small.filter(|_| !has_odd_digits) {
            Some(small) => {
                if self.at == 0 {
                    small.touch(rest.len());
                }
                let (passed, empty, end) = pass_small(rest, text, odd, (counter, is_short), small);
                if let PassEnd::New(number) = end {
                    is_new = true;
                    small.add_new(number, place((self.at + passed) as u32));
                }
                (passed + usize::from(is_new), empty)
            }
            None if is_short => pass_short(rest, text, odd, counter),
            None => pass_any(rest, text, odd, counter),
        };
        self.at += passed;
        self.empty += empty;
        is_new
    }
}

#[inline(never)]
fn pass_small(
    values: &[Bounds],
    text: &[u8],
    odd: &[bool; 256],
    (mut known, is_short): (Counter<'_>, bool),
    small: &mut SmallCounts,
) -> (usize, u64, PassEnd) {
    let (mut at, mut empty) = (0, 0);
    loop {
        let (passed, were_empty, end) = small.pass(text, &values[at..]);
        (at, empty) = (at + passed, empty + were_empty);
        if end != PassEnd::Other {
            return (at, empty, end);
        }
        let (start, end) = (values[at].0 as usize, values[at].1 as usize);
        let is_odd = odd[usize::from(text[start])];
        let mut is_known = || match is_short {
            true => known.count_short(text, start, end),
            false => known.count(text, start, end),
        };
        if is_odd || !is_known() {
            return (at, empty, PassEnd::Other);
        }
        at += 1;
    }
}

#[inline(never)]
fn pass_short(
    values: &[Bounds],
    text: &[u8],
    odd: &[bool; 256],
    mut known: Counter<'_>,
) -> (usize, u64) {
    pass(values, text, odd, |start, end| known.count_short(text, start, end))
}

#[inline(never)]
fn pass_any(
    values: &[Bounds],
    text: &[u8],
    odd: &[bool; 256],
    mut known: Counter<'_>,
) -> (usize, u64) {
    pass(values, text, odd, |start, end| known.count(text, start, end))
}

/// How many values can be passed over, and how many of those are empty.
#[inline(always)]
fn pass(
    values: &[Bounds],
    text: &[u8],
    odd: &[bool; 256],
    mut is_known: impl FnMut(usize, usize) -> bool,
) -> (usize, u64) {
    let mut empty = 0;
    for (at, (start, end)) in values.iter().enumerate() {
        if start == end {
            empty += 1;
            continue;
        }
        let (start, end) = (*start as usize, *end as usize);
        if odd[usize::from(text[start])] || !is_known(start, end) {
            return (at, empty);
        }
    }
    (values.len(), empty)
}
