//! Split records: the bounds of their fields, and nothing else.

use super::broken::Broken;

/// Some records of a block: the bounds of their fields, and nothing else.
///
/// Every record in it has the number of columns expected; the others are in
/// [`broken`](Self::broken).
#[derive(Debug, Default)]
pub struct Records {
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

impl Records {
    /// How many whole records there are.
    pub fn len(&self) -> usize {
        self.starts.len()
    }

    /// Whether there is no whole record.
    pub fn is_empty(&self) -> bool {
        self.starts.is_empty()
    }

    /// Start and end of a field in the block, quotes included.
    #[inline]
    pub fn bounds(&self, row: usize, column: usize) -> (usize, usize) {
        let at = row * self.columns + column;
        let end = self.ends[at];
        let start = if column == 0 { self.starts[row] } else { behind(self.ends[at - 1], end) };
        (start as usize, end as usize)
    }

    /// Fields that a record leaves out at its end.
    pub fn missing(&self, row: usize) -> usize {
        let ends = &self.ends[row * self.columns..(row + 1) * self.columns];
        ends.windows(2).rev().take_while(|pair| pair[0] == pair[1]).count()
    }

    /// All fields of a column in the order of the records, as [`bounds`](Self::bounds) has them.
    #[inline]
    pub fn column(&self, column: usize) -> impl Iterator<Item = (usize, usize)> + Clone {
        let rows = self.ends.chunks_exact(self.columns.max(1)).enumerate();
        rows.map(move |(row, ends)| {
            let end = ends[column];
            let start = if column == 0 { self.starts[row] } else { behind(ends[column - 1], end) };
            (start as usize, end as usize)
        })
    }

    /// As [`column`](Self::column), added to `bounds`.
    pub fn column_into(&self, column: usize, bounds: &mut Vec<Bounds>) {
        let rows = self.ends.chunks_exact(self.columns.max(1));
        match column.checked_sub(1) {
            Some(before) => {
                bounds.extend(rows.map(|ends| (behind(ends[before], ends[column]), ends[column])))
            }
            None => {
                bounds.extend(self.starts.iter().zip(rows).map(|(start, ends)| (*start, ends[0])))
            }
        }
    }

    /// Start and end of a whole record in the block, its line end not included.
    pub fn record(&self, row: usize) -> (usize, usize) {
        (self.starts[row] as usize, self.ends[(row + 1) * self.columns - 1] as usize)
    }

    /// Line ends between the start of the block and the record.
    #[inline]
    pub fn line(&self, row: usize) -> u32 {
        self.lines[row]
    }

    /// The records that could not be split, in order.
    pub fn broken(&self) -> &[Broken] {
        &self.broken
    }

    /// Drops the records for which `keep` says no, given their row.
    pub fn retain(&mut self, keep: impl Fn(usize) -> bool) {
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

    pub(super) fn clear(&mut self, columns: usize) {
        self.columns = columns;
        self.starts.clear();
        self.lines.clear();
        self.ends.clear();
        self.broken.clear();
    }
}

/// Where a field starts that ends at `end`: one byte after the end of the one before it, or where both end
/// if the record leaves it out.
#[inline(always)]
pub(super) fn behind(before: u32, end: u32) -> u32 {
    (before + 1).min(end)
}

/// Where a field starts and ends in its block.
pub type Bounds = (u32, u32);
