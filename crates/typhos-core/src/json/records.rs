//! Lines of JSON → the leaves of their objects.

use std::ops::Range;

use super::cursor::Cursor;
use super::gaps::Gaps;
use super::insides::count_insides;
use super::learn::learned;
use super::trace::{KnowsPaths, Told, walk_and_remember};
use super::twice::check_names;
use super::unescape::unescape;
use super::walk::{Fault, Listen, Name, Span, Walk};
use crate::records::{
    Bounds, Broken, BrokenKind, Guess, JsonFault, Leaf, LeafKind, LineRef, NodeId, PathKind, Paths,
    Presence, Records, ScopeId, Seen, Split, Values,
};
use crate::text::Block;

/// Some records of a block of JSON lines: where the leaves stand that are columns.
///
/// A text stands without its quotes, if nothing in it is escaped and it is not empty; otherwise with them, and
/// [`JsonValues`] says what it means. What is missing and what is null has no bytes.
#[derive(Debug, Default)]
pub struct JsonRecords {
    starts: Vec<u32>,
    ends: Vec<u32>,
    lines: Vec<u32>,
    broken: Vec<Broken>,
    columns: Vec<Leaves>,
    /// For each scope but the record, the record of each of its elements.
    scopes: Vec<Vec<u32>>,
    /// Where elements are rows: which element of its record each row is, from 0; nothing where a record has none.
    positions: Vec<Option<u32>>,
    /// Records that are no row, since they have no elements.
    dropped: u64,
}

/// Elements of arrays in a slice, beyond which it ends.
const MOST_ELEMENTS: usize = 1 << 17;

/// The leaves of one column.
#[derive(Debug, Default)]
struct Leaves {
    scope: ScopeId,
    bounds: Vec<Bounds>,
    kinds: Vec<Found>,
}

/// What was found of a leaf.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Found {
    Missing,
    Null,
    Text,
    Other,
}

impl Leaves {
    /// Takes the value of an element, or of the record, of a line that starts at a place.
    #[inline]
    fn take(&mut self, at: u32, value: Span, line: u32) {
        if self.bounds.len() < at as usize {
            self.fill(at as usize);
        }
        let Span { kind, mut start, mut end, is_escaped } = value;
        let found = match kind {
            PathKind::Null => Found::Null,
            PathKind::Text => Found::Text,
            _ => Found::Other,
        };
        match kind {
            PathKind::Null => end = start,
            // Those in quotes are looked at again, and so are texts that would look like them, or like nothing.
            PathKind::Text if !is_escaped && end - start > 2 => (start, end) = (start + 1, end - 1),
            _ => {}
        }
        self.bounds.push((line + start, line + end));
        self.kinds.push(found);
    }

    /// Lacks the column in every row before this one that has no leaf yet.
    fn fill(&mut self, rows: usize) {
        self.bounds.resize(rows, (0, 0));
        self.kinds.resize(rows, Found::Missing);
    }
}

impl JsonRecords {
    fn clear(&mut self, columns: usize, paths: &Paths) {
        self.starts.clear();
        self.ends.clear();
        self.lines.clear();
        self.broken.clear();
        self.columns.resize_with(columns, Leaves::default);
        for (at, column) in self.columns.iter_mut().enumerate() {
            column.scope = paths.scope_of(at);
            column.fill(0);
        }
        self.scopes.resize_with(paths.scopes() - 1, Vec::new);
        self.scopes.iter_mut().for_each(Vec::clear);
        self.positions.clear();
        self.dropped = 0;
    }

    /// Makes a row of each element of a scope, with what its record has beside it.
    fn unnest(&mut self, scope: ScopeId, drops_empty: bool) {
        let elements = std::mem::take(&mut self.scopes[scope as usize - 1]);
        // Each row: its record, and its element.
        let mut rows: Vec<(u32, Option<u32>)> = Vec::with_capacity(elements.len());
        // For each record the first of its rows, and where that would be.
        let mut firsts = Vec::with_capacity(self.starts.len() + 1);
        let mut next = 0;
        for record in 0..self.starts.len() as u32 {
            firsts.push(rows.len() as u32);
            let first = next;
            while elements.get(next) == Some(&record) {
                rows.push((record, Some(next as u32)));
                self.positions.push(Some((next - first) as u32));
                next += 1;
            }
            if next == first && drops_empty {
                self.dropped += 1;
            } else if next == first {
                rows.push((record, None));
                self.positions.push(None);
            }
        }
        firsts.push(rows.len() as u32);
        let records = rows.iter().map(|(record, _)| *record as usize);
        fn gather<T: Copy>(values: &mut Vec<T>, from: impl Iterator<Item = usize>) {
            *values = from.map(|at| values[at]).collect();
        }
        for column in &mut self.columns {
            if column.scope == 0 {
                gather(&mut column.bounds, records.clone());
                gather(&mut column.kinds, records.clone());
            } else if column.scope == scope {
                let of = |at: &(u32, Option<u32>)| at.1.map(|at| at as usize);
                let bounds = rows.iter().map(|row| of(row).map_or((0, 0), |at| column.bounds[at]));
                let kinds =
                    rows.iter().map(|row| of(row).map_or(Found::Missing, |at| column.kinds[at]));
                (column.bounds, column.kinds) = (bounds.collect(), kinds.collect());
                column.scope = 0;
            }
        }
        gather(&mut self.starts, records.clone());
        gather(&mut self.ends, records.clone());
        gather(&mut self.lines, records);
        for broken in &mut self.broken {
            broken.row = firsts[broken.row as usize];
        }
        for (at, of) in self.scopes.iter_mut().enumerate() {
            // Other lists are in the first row of their record.
            let kept: Vec<bool> =
                of.iter().map(|r| firsts[*r as usize] < firsts[*r as usize + 1]).collect();
            for column in self.columns.iter_mut().filter(|c| c.scope as usize == at + 1) {
                let mut keep = kept.iter();
                column.bounds.retain(|_| *keep.next().unwrap_or(&true));
                let mut keep = kept.iter();
                column.kinds.retain(|_| *keep.next().unwrap_or(&true));
            }
            let mut keep = kept.iter();
            of.retain(|_| *keep.next().unwrap_or(&true));
            of.iter_mut().for_each(|record| *record = firsts[*record as usize]);
        }
    }

    /// Ends a record, which is on a line of the block.
    #[inline]
    fn end_row(&mut self, start: u32, end: u32, line: u32) {
        self.starts.push(start);
        self.ends.push(end);
        self.lines.push(line);
    }

    /// How many elements a scope has.
    fn elements(&self, scope: ScopeId) -> usize {
        match scope.checked_sub(1) {
            None => self.starts.len(),
            Some(scope) => self.scopes[scope as usize].len(),
        }
    }

    /// Forgets what the record in this row has shown.
    #[cold]
    fn forget(&mut self, row: usize) {
        for elements in &mut self.scopes {
            elements.truncate(elements.partition_point(|of| (*of as usize) < row));
        }
        for at in 0..self.columns.len() {
            let known = match self.columns[at].scope {
                0 => row,
                scope => self.elements(scope),
            };
            let column = &mut self.columns[at];
            if column.bounds.len() > known {
                column.fill(known);
            }
        }
    }
}

impl Records for JsonRecords {
    type Values = JsonValues;

    const TELLS_TEXTS: bool = true;

    fn len(&self) -> usize {
        self.starts.len()
    }

    fn line(&self, row: usize) -> u32 {
        self.lines[row]
    }

    fn record(&self, row: usize) -> (usize, usize) {
        (self.starts[row] as usize, self.ends[row] as usize)
    }

    fn leaf(&self, row: usize, field: usize) -> Leaf {
        let Leaves { bounds, kinds, .. } = &self.columns[field];
        let (presence, kind) = match kinds[row] {
            Found::Missing => (Presence::Missing, LeafKind::Other),
            Found::Null => (Presence::Null, LeafKind::Other),
            Found::Text => (Presence::Value, LeafKind::Text),
            Found::Other => (Presence::Value, LeafKind::Other),
        };
        Leaf { presence, kind, bounds: bounds[row] }
    }

    fn texts(&self, field: usize) -> u64 {
        // By parts of which a byte can count the texts, so that many are counted at once.
        let texts = |kinds: &[Found]| {
            kinds.iter().map(|kind| u8::from(*kind == Found::Text)).fold(0, u8::wrapping_add)
        };
        self.columns[field].kinds.chunks(255).map(|kinds| u64::from(texts(kinds))).sum()
    }

    fn left_out(&self, _: usize) -> usize {
        0
    }

    fn column_into(&self, field: usize, bounds: &mut Vec<Bounds>) {
        bounds.extend_from_slice(&self.columns[field].bounds);
    }

    fn column(
        &self,
        field: usize,
        rows: Range<usize>,
    ) -> impl Iterator<Item = (usize, usize)> + Clone {
        self.columns[field].bounds[rows].iter().map(|(start, end)| (*start as usize, *end as usize))
    }

    fn rows_of(&self, field: usize) -> Option<&[u32]> {
        let scope = self.columns[field].scope.checked_sub(1)?;
        Some(&self.scopes[scope as usize])
    }

    fn position(&self, row: usize) -> Option<u32> {
        self.positions.get(row).copied().flatten()
    }

    fn dropped(&self) -> u64 {
        self.dropped
    }

    fn broken(&self) -> &[Broken] {
        &self.broken
    }

    fn retain(&mut self, keep: impl Fn(usize) -> bool) {
        fn kept<T>(values: &mut Vec<T>, keep: impl Fn(usize) -> bool) {
            let mut row = 0;
            values.retain(|_| {
                row += 1;
                keep(row - 1)
            });
        }
        kept(&mut self.positions, &keep);
        kept(&mut self.starts, &keep);
        kept(&mut self.ends, &keep);
        kept(&mut self.lines, &keep);
        for column in &mut self.columns {
            let rows = column.scope.checked_sub(1).map(|scope| &self.scopes[scope as usize]);
            let keep = |at: usize| keep(rows.map_or(at, |rows| rows[at] as usize));
            kept(&mut column.bounds, keep);
            kept(&mut column.kinds, keep);
        }
        if self.scopes.is_empty() {
            return;
        }
        // Records that are kept move up.
        let most = self.scopes.iter().filter_map(|rows| rows.last()).max().map_or(0, |row| row + 1);
        let mut next = 0;
        let moved: Vec<Option<u32>> = (0..most)
            .map(|row| {
                keep(row as usize).then(|| {
                    next += 1;
                    next - 1
                })
            })
            .collect();
        for rows in &mut self.scopes {
            *rows = rows.iter().filter_map(|row| moved[*row as usize]).collect();
        }
    }
}

/// How the leaves of [`JsonRecords`] become values.
#[derive(Debug, Clone, Copy)]
pub struct JsonValues;

impl Values for JsonValues {
    fn value<'a>(&self, raw: &'a [u8], scratch: &'a mut Vec<u8>) -> &'a [u8] {
        match raw {
            [b'"', inside @ .., b'"'] => {
                scratch.clear();
                unescape(inside, scratch);
                scratch
            }
            plain => plain,
        }
    }

    fn is_plain(&self, raw: &[u8]) -> bool {
        raw.first() != Some(&b'"')
    }

    fn is_quoted(&self, raw: &[u8]) -> bool {
        raw.first() == Some(&b'"')
    }

    fn odd_starts(&self) -> [bool; 256] {
        let mut odd = [false; 256];
        odd[usize::from(b'"')] = true;
        odd
    }

    fn inner<'a>(&self, raw: &'a [u8]) -> Option<&'a [u8]> {
        let [b'"', inside @ .., b'"'] = raw else { return None };
        memchr::memchr(b'\\', inside).is_none().then_some(inside)
    }
}

/// Splits the lines of a block.
pub struct JsonSplit<'b> {
    block: &'b Block,
    text: &'b [u8],
    paths: &'b Paths,
    columns: usize,
    damage: Option<BrokenKind>,
    at: usize,
    line: u32,
    cursor: Cursor,
    /// What stands between the values of its records.
    gaps: Gaps,
    /// What the records show, where their paths are provisional.
    seen: Option<Seen>,
}

impl<'b> JsonSplit<'b> {
    /// Splits a block whose records have these paths, so many of which are columns.
    pub fn new(block: &'b Block, paths: &'b Paths, columns: usize) -> JsonSplit<'b> {
        JsonSplit {
            block,
            text: block.text(),
            paths,
            columns,
            damage: block.damage(),
            at: 0,
            line: 0,
            cursor: Cursor::default(),
            gaps: Gaps::default(),
            seen: paths.provisional().map(|_| Seen::new(paths.len())),
        }
    }

    /// Hands on what the records of the block have shown, once.
    fn hand_on(&mut self) {
        let (Some(mut seen), Some(provisional)) = (self.seen.take(), self.paths.provisional())
        else {
            return;
        };
        self.gaps.take_counts(|node, kind, line, values| seen.note_all(node, kind, line, values));
        if seen.is_odd {
            let (paths, broken) = learned(self.block, self.paths);
            // A name that is none of the paths may come twice unseen.
            provisional.add_paths(&paths, broken == seen.broken);
        } else {
            let start = LineRef { part: self.block.file, line: self.block.first_line };
            provisional.add_seen(&seen, start);
        }
    }

    fn take_line(&mut self, records: &mut JsonRecords) {
        let rest = &self.text[self.at..];
        let length = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
        let whole = &rest[..length];
        let line = whole.strip_suffix(b"\r").unwrap_or(whole);
        let (start, number) = (self.at, self.line);
        self.at += (length + 1).min(rest.len());
        self.line += 1;
        if self.gaps.are_worth_it()
            && self.damage.is_none()
            && self.follow(start, line.len(), records)
        {
            return;
        }
        if line.trim_ascii().is_empty() {
            return;
        }
        let row = records.starts.len();
        self.cursor.begin(row as u32);
        let mut listen = Members {
            paths: self.paths,
            text: line,
            start: start as u32,
            row: row as u32,
            columns: &mut records.columns,
            scopes: &mut records.scopes,
            cursor: &mut self.cursor,
            column: None,
            is_element: false,
            element_of: None,
            seen: self.seen.as_mut(),
            node: None,
            line: number,
        };
        let depth = self.paths.depth_limit;
        let result = match self.damage {
            Some(damage) => Err(damage),
            None if self.gaps.are_worth_it() => {
                walk_and_remember(line, depth, &mut listen, &mut self.gaps)
                    .map_err(|fault| BrokenKind::Json(*fault))
            }
            None => Walk::new(line)
                .within(depth)
                .record(&mut listen)
                .map_err(|fault| BrokenKind::Json(*fault)),
        };
        let (start, end) = (start as u32, (start + line.len()) as u32);
        match result {
            Ok(()) => records.end_row(start, end, number),
            Err(kind) => {
                // What was counted of it is not there.
                if let Some(seen) = &mut self.seen {
                    (seen.is_odd, seen.broken) = (true, seen.broken + 1);
                }
                records.forget(row);
                let row = row as u32;
                records.broken.push(Broken { start, end, missing: 0, line: number, row, kind });
            }
        }
    }

    /// Takes a record that is made of known gaps; what is on any other line is left to be walked over.
    #[inline]
    fn follow(&mut self, start: usize, length: usize, records: &mut JsonRecords) -> bool {
        let text = &self.text[start..];
        if !self.gaps.follow(text, length) {
            return false;
        }
        let (row, line) = (records.starts.len() as u32, self.line - 1);
        let JsonRecords { columns, scopes, .. } = records;
        let seen = self.seen.as_mut();
        self.gaps.hand_on(
            line,
            &mut (scopes, columns, seen),
            |(scopes, ..), scope| scopes[scope as usize - 1].push(row),
            |(scopes, columns, seen), place, value| {
                let Some(column) = place.column else { return };
                let leaves = &mut columns[column as usize];
                let at = match leaves.scope.checked_sub(1) {
                    None => row,
                    Some(scope) => scopes[scope as usize].len() as u32 - 1,
                };
                leaves.take(at, value, start as u32);
                if value.kind.is_nested()
                    && let Some(seen) = seen
                {
                    let value = &text[value.start as usize..value.end as usize];
                    count_insides(self.paths, place.node, value, line, seen);
                }
            },
        );
        records.end_row(start as u32, (start + length) as u32, line);
        true
    }
}

impl Split for JsonSplit<'_> {
    type Records = JsonRecords;

    fn refill(&mut self, records: &mut JsonRecords, most: usize) -> bool {
        records.clear(self.columns, self.paths);
        while self.at < self.text.len()
            && records.len() + records.broken.len() < most
            && records.scopes.iter().all(|elements| elements.len() < MOST_ELEMENTS)
        {
            self.take_line(records);
        }
        if self.at == self.text.len() {
            self.hand_on();
        }
        for at in 0..records.columns.len() {
            let elements = records.elements(records.columns[at].scope);
            records.columns[at].fill(elements);
        }
        let is_any = records.len() + records.broken.len() > 0;
        if let Some((scope, unnest)) = self.paths.unnested() {
            records.unnest(scope, unnest.drops_empty);
        }
        is_any
    }
}

/// The members of one record as they come.
struct Members<'r> {
    paths: &'r Paths,
    text: &'r [u8],
    start: u32,
    row: u32,
    columns: &'r mut [Leaves],
    scopes: &'r mut [Vec<u32>],
    cursor: &'r mut Cursor,
    /// The column of the member or element whose value comes next.
    column: Option<usize>,
    /// Whether that is an element.
    is_element: bool,
    /// The scope that it is an element of, if it begins one.
    element_of: Option<ScopeId>,
    /// What was seen of all records of the block, where that is asked for.
    seen: Option<&'r mut Seen>,
    /// The node of the member or element that came last; none where that is none of the paths.
    node: Option<NodeId>,
    /// The line of the block that the record is on.
    line: u32,
}

impl Listen for Members<'_> {
    #[inline]
    fn guess(&self) -> Option<&Guess> {
        self.cursor.guess(self.paths)
    }

    #[inline]
    fn member(&mut self, name: Name, kind: PathKind) -> Result<bool, Fault> {
        (self.column, self.is_element, self.element_of, self.node) = (None, false, None, None);
        // What was never learned of is no column, and nothing in it is.
        let Some(id) = self.cursor.find(self.paths, self.text, name)? else {
            self.cursor.check_name(self.text, name)?;
            self.seen.iter_mut().for_each(|seen| seen.is_odd = true);
            return Ok(false);
        };
        self.cursor.see(id, name.start)?;
        self.note(id, kind);
        self.column = self.paths.column(id);
        Ok(self.goes_in(id, kind))
    }

    #[inline]
    fn element(&mut self, kind: PathKind) -> bool {
        (self.element_of, self.node) = (None, None);
        let Some(id) = self.paths.items(self.cursor.node()) else { return false };
        self.note(id, kind);
        self.column = self.paths.column(id);
        self.is_element = self.column.is_some();
        let is_row = self.paths.is_unnested(id);
        if !self.is_element && kind != PathKind::Object && !is_row {
            // An element that is null has no members, and one that is an array has elements of its own.
            return self.goes_in(id, kind);
        }
        let is_nested = matches!(kind, PathKind::Object | PathKind::Array);
        self.element_of = self.paths.scope(id);
        let scope = match self.element_of {
            Some(scope) => {
                let elements = &mut self.scopes[scope as usize - 1];
                elements.push(self.row);
                (scope, elements.len() as u32 - 1)
            }
            // What is in it is in arrays again.
            None => self.cursor.scope(),
        };
        if self.is_element || is_nested {
            self.cursor.enter_element(id, scope);
        }
        // The value of a column is the one that comes next.
        !self.is_element && is_nested
    }

    #[inline]
    fn value(&mut self, value: Span) {
        let Some(column) = self.column else { return };
        let (_, at) = self.cursor.scope();
        self.columns[column].take(at, value, self.start);
        if self.is_element {
            self.cursor.leave();
        }
    }

    fn check(&mut self) -> Result<(), Fault> {
        // What is not looked into is held to the same rule as what is.
        let Some(column) = self.column else { return Ok(()) };
        let Some((start, end)) = self.columns[column].bounds.last().copied() else { return Ok(()) };
        let (start, end) = ((start - self.start) as usize, (end - self.start) as usize);
        let value = &self.text[start..end];
        check_names(value).map_err(|fault| -> Fault {
            match *fault {
                JsonFault::Repeated { byte } => JsonFault::Repeated { byte: start + byte }.into(),
                JsonFault::Name { byte } => JsonFault::Name { byte: start + byte }.into(),
                other => other.into(),
            }
        })?;
        if let (Some(seen), Some(node)) = (&mut self.seen, self.node) {
            count_insides(self.paths, node, value, self.line, seen);
        }
        Ok(())
    }

    fn leave(&mut self) {
        self.cursor.leave();
    }
}

impl KnowsPaths for Members<'_> {
    fn told(&self) -> Option<Told> {
        let (node, element_of) = (self.node?, self.element_of);
        Some(Told { node, column: self.column.map(|column| column as u32), element_of })
    }
}

impl Members<'_> {
    /// Takes note of a value, where that is asked for.
    #[inline]
    fn note(&mut self, id: NodeId, kind: PathKind) {
        self.node = Some(id);
        if let Some(seen) = &mut self.seen {
            seen.note(id, kind, self.line);
            // Even an empty array shows that there is one.
            seen.is_odd |= kind == PathKind::Array && self.paths.items(id).is_none();
        }
    }

    /// Whether what is in a value is looked at; goes in there. That is so even where no column is in it: a name that
    /// comes twice breaks a record wherever it is.
    #[inline]
    fn goes_in(&mut self, id: NodeId, kind: PathKind) -> bool {
        let is_nested = matches!(kind, PathKind::Object | PathKind::Array);
        let goes_in = is_nested && self.column.is_none();
        if goes_in {
            self.cursor.enter(id);
        }
        goes_in
    }
}

#[cfg(test)]
impl JsonSplit<'_> {
    /// The same, and every record is walked over.
    pub(super) fn without_gaps(self) -> Self {
        JsonSplit { gaps: Gaps::off(), ..self }
    }

    /// How many records were made of known gaps.
    pub(super) fn followed(&self) -> u32 {
        self.gaps.followed()
    }
}
