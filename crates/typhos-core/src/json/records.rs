//! Records of JSON lines: where the leaves of their objects stand.

use std::ops::Range;

use super::unescape::unescape;
use super::walk::Span;
use crate::readings::trim;
use crate::records::{
    Bounds, Broken, Leaf, LeafKind, PathKind, Paths, Presence, Records, ScopeId, Values,
};

/// Some records of a block of JSON lines: where the leaves stand that are columns.
///
/// A text stands without its quotes, if nothing in it is escaped and it is not blank; otherwise with them, and
/// [`JsonValues`] says what it means. What is missing and what is null has no bytes.
#[derive(Debug, Default)]
pub struct JsonRecords {
    pub(super) starts: Vec<u32>,
    pub(super) ends: Vec<u32>,
    pub(super) lines: Vec<u32>,
    pub(super) broken: Vec<Broken>,
    pub(super) columns: Vec<Leaves>,
    /// For each scope but the record, the record of each of its elements.
    pub(super) scopes: Vec<Vec<u32>>,
    /// Where elements are rows: which element of its record each row is, from 0; nothing where a record has none.
    positions: Vec<Option<u32>>,
    /// Records that are no row, since they have no elements.
    dropped: u64,
    /// Whether it is worth looking for known gaps in the next blocks.
    pub(super) hope: Hope,
}

/// Blocks whose records are walked over at once, since those of the blocks before were too different to be followed.
#[derive(Default)]
pub(super) struct Hope {
    /// How many more.
    wait: u32,
    /// How many blocks were given up, one after the other.
    given_up: u32,
}

impl Hope {
    /// Whether it is worth trying in the block that begins.
    pub fn begin(&mut self) -> bool {
        let is_over = self.wait == 0;
        self.wait -= u32::from(!is_over);
        is_over
    }

    /// Takes note of whether a block that was tried was given up: the more of them, the longer is the wait.
    pub fn end(&mut self, is_given_up: bool) {
        self.given_up = if is_given_up { self.given_up + 1 } else { 0 };
        self.wait = if is_given_up { 1 << self.given_up.min(MOST_GIVEN_UP) } else { 0 };
    }
}

/// Blocks that are given up in a row and make the wait longer.
const MOST_GIVEN_UP: u32 = 5;

impl std::fmt::Debug for Hope {
    /// It is nothing of the records.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Hope")
    }
}

/// The leaves of one column.
#[derive(Debug, Default)]
pub(super) struct Leaves {
    pub scope: ScopeId,
    bounds: Vec<Bounds>,
    kinds: Vec<Found>,
    /// Whether some may stand in quotes.
    may_be_quoted: bool,
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
    /// Begins anew, with room for so many values.
    fn begin(&mut self, scope: ScopeId, room: usize) {
        self.scope = scope;
        self.bounds.clear();
        self.kinds.clear();
        self.may_be_quoted = false;
        self.resize(room);
    }

    /// Takes the value of an element, or of the record, of a line with this text that starts at a place.
    #[inline(always)]
    pub fn take(&mut self, at: u32, value: Span, (text, line): (&[u8], u32)) {
        let at = at as usize;
        if self.bounds.len() <= at {
            self.resize(2 * at + 1);
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
            PathKind::Text
                if !is_escaped
                    && end - start > 2
                    && (text.get(start as usize + 1) != Some(&b' ')
                        || !is_blank(text, start, end)) =>
            {
                (start, end) = (start + 1, end - 1);
            }
            PathKind::Text => self.may_be_quoted = true,
            _ => {}
        }
        (self.bounds[at], self.kinds[at]) = ((line + start, line + end), found);
    }

    /// Has so many values; lacks those that were not taken.
    #[inline(never)]
    fn resize(&mut self, values: usize) {
        self.bounds.resize(values, NOTHING.0);
        self.kinds.resize(values, NOTHING.1);
    }

    /// Forgets the values from one to before another.
    fn forget(&mut self, from: usize, to: usize) {
        for at in from..to.min(self.bounds.len()) {
            (self.bounds[at], self.kinds[at]) = NOTHING;
        }
    }
}

/// A record whose values are taken one after the other.
pub(super) struct Record<'r> {
    pub row: u32,
    /// The text that it starts.
    pub text: &'r [u8],
    /// Where that is in the block.
    pub start: u32,
    pub columns: &'r mut [Leaves],
    pub scopes: &'r mut [Vec<u32>],
}

impl Record<'_> {
    /// An element of a scope begins.
    #[inline]
    pub fn element(&mut self, scope: ScopeId) {
        self.scopes[scope as usize - 1].push(self.row);
    }

    /// Takes the value of a column.
    #[inline]
    pub fn value(&mut self, column: usize, value: Span) {
        let leaves = &mut self.columns[column];
        let at = match leaves.scope.checked_sub(1) {
            None => self.row,
            Some(scope) => self.scopes[scope as usize].len() as u32 - 1,
        };
        leaves.take(at, value, (self.text, self.start));
    }
}

/// Whether a text has nothing in its quotes but spaces.
#[cold]
fn is_blank(text: &[u8], start: u32, end: u32) -> bool {
    text.get(start as usize + 1..end as usize - 1).is_some_and(|inside| trim(inside).is_empty())
}

/// What stands where there is no value.
const NOTHING: (Bounds, Found) = ((0, 0), Found::Missing);

/// Records for which there is room from the start.
const ROOM: usize = 1024;

impl JsonRecords {
    pub(super) fn clear(&mut self, columns: usize, paths: &Paths, most: usize) {
        self.starts.clear();
        self.ends.clear();
        self.lines.clear();
        self.broken.clear();
        self.columns.resize_with(columns, Leaves::default);
        for (at, column) in self.columns.iter_mut().enumerate() {
            let scope = paths.scope_of(at);
            column.begin(scope, if scope == 0 { most.min(ROOM) } else { 0 });
        }
        self.scopes.resize_with(paths.scopes() - 1, Vec::new);
        self.scopes.iter_mut().for_each(Vec::clear);
        self.positions.clear();
        self.dropped = 0;
    }

    /// Makes a row of each element of a scope, with what its record has beside it.
    pub(super) fn unnest(&mut self, scope: ScopeId, drops_empty: bool) {
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
    pub(super) fn end_row(&mut self, start: u32, end: u32, line: u32) {
        self.starts.push(start);
        self.ends.push(end);
        self.lines.push(line);
    }

    /// Lacks what the last records and elements lack.
    pub(super) fn end(&mut self) {
        for at in 0..self.columns.len() {
            let elements = self.elements(self.columns[at].scope);
            self.columns[at].resize(elements);
        }
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
    pub(super) fn forget(&mut self, row: usize) {
        let elements = |scopes: &[Vec<u32>]| -> Vec<usize> {
            std::iter::once(row).chain(scopes.iter().map(Vec::len)).collect()
        };
        let mut ends = elements(&self.scopes);
        ends[0] += 1;
        for elements in &mut self.scopes {
            elements.truncate(elements.partition_point(|of| (*of as usize) < row));
        }
        let starts = elements(&self.scopes);
        for column in &mut self.columns {
            let scope = column.scope as usize;
            column.forget(starts[scope], ends[scope]);
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

    fn may_be_quoted(&self, field: usize) -> bool {
        self.columns[field].may_be_quoted
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

    fn marks(&self) -> Option<(u8, u8)> {
        Some((b'"', b'\\'))
    }
}
