//! Split records: the bounds of their fields, and nothing else.

use std::ops::Range;

use super::Dialect;
use crate::records::{Bounds, Broken, Leaf, LeafKind, Presence, Records};

/// Some records of a block: the bounds of their fields, and nothing else.
///
/// Every record in it has the number of columns expected; the others are in
/// [`broken`](Records::broken).
#[derive(Debug, Default)]
pub struct TextRecords {
    pub(super) columns: usize,
    /// Start of each record.
    pub(super) starts: Vec<u32>,
    /// Line ends before each record, counted from the start of the block.
    pub(super) lines: Vec<u32>,
    /// End of each field, `columns` to a record. A field starts one byte after the end of the one
    /// before it; one that the record leaves out ends where that ends.
    pub(super) ends: Vec<u32>,
    pub(super) broken: Vec<Broken>,
}

impl TextRecords {
    /// Start and end of a field in the block, quotes included.
    #[inline]
    pub fn bounds(&self, row: usize, column: usize) -> (usize, usize) {
        let at = row * self.columns + column;
        let end = self.ends[at];
        let start = if column == 0 { self.starts[row] } else { behind(self.ends[at - 1], end) };
        (start as usize, end as usize)
    }

    pub(super) fn clear(&mut self, columns: usize) {
        self.columns = columns;
        self.starts.clear();
        self.lines.clear();
        self.ends.clear();
        self.broken.clear();
    }
}

impl Records for TextRecords {
    type Values = Dialect;

    const TELLS_TEXTS: bool = false;

    fn len(&self) -> usize {
        self.starts.len()
    }

    #[inline]
    fn line(&self, row: usize) -> u32 {
        self.lines[row]
    }

    fn record(&self, row: usize) -> (usize, usize) {
        (self.starts[row] as usize, self.ends[(row + 1) * self.columns - 1] as usize)
    }

    fn leaf(&self, row: usize, field: usize) -> Leaf {
        let at = row * self.columns + field;
        // Fields left out end where the one before them does, which no field that is there can.
        let is_left_out = field > 0 && self.ends[at] == self.ends[at - 1];
        let presence = if is_left_out { Presence::Missing } else { Presence::Value };
        let (start, end) = self.bounds(row, field);
        Leaf { presence, kind: LeafKind::Field, bounds: (start as u32, end as u32) }
    }

    fn left_out(&self, row: usize) -> usize {
        let ends = &self.ends[row * self.columns..(row + 1) * self.columns];
        ends.windows(2).rev().take_while(|pair| pair[0] == pair[1]).count()
    }

    fn column_into(&self, field: usize, bounds: &mut Vec<Bounds>) {
        let rows = self.ends.chunks_exact(self.columns.max(1));
        match field.checked_sub(1) {
            Some(before) => {
                bounds.extend(rows.map(|ends| (behind(ends[before], ends[field]), ends[field])))
            }
            None => {
                bounds.extend(self.starts.iter().zip(rows).map(|(start, ends)| (*start, ends[0])))
            }
        }
    }

    #[inline]
    fn column(
        &self,
        field: usize,
        rows: Range<usize>,
    ) -> impl Iterator<Item = (usize, usize)> + Clone {
        let ends = &self.ends[rows.start * self.columns..rows.end * self.columns];
        let starts = &self.starts[rows];
        starts.iter().zip(ends.chunks_exact(self.columns.max(1))).map(move |(start, ends)| {
            let end = ends[field];
            let start = if field == 0 { *start } else { behind(ends[field - 1], end) };
            (start as usize, end as usize)
        })
    }

    fn broken(&self) -> &[Broken] {
        &self.broken
    }

    fn retain(&mut self, keep: impl Fn(usize) -> bool) {
        let columns = self.columns;
        let mut to = 0;
        for row in 0..self.len() {
            if keep(row) {
                self.starts[to] = self.starts[row];
                self.lines[to] = self.lines[row];
                self.ends.copy_within(row * columns..(row + 1) * columns, to * columns);
                to += 1;
            }
        }
        self.starts.truncate(to);
        self.lines.truncate(to);
        self.ends.truncate(to * columns);
    }
}

/// Where a field starts that ends at `end`: one byte after the end of the one before it, or where both end
/// if the record leaves it out.
#[inline(always)]
pub(super) fn behind(before: u32, end: u32) -> u32 {
    (before + 1).min(end)
}
