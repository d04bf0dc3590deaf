//! Lines of JSON → the leaves of their objects.

use super::cursor::Cursor;
use super::gaps::{Gaps, line_length};
use super::insides::count_insides;
use super::learn::learned;
use super::members::Members;
use super::records::{JsonRecords, Record};
use super::trace::walk_and_remember;
use super::walk::{Span, Walk};
use crate::records::{Broken, BrokenKind, LineRef, Paths, Records, Seen, Split};
use crate::text::Block;

/// Elements of arrays in a slice, beyond which it ends.
const MOST_ELEMENTS: usize = 1 << 17;

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
    /// Whether they are looked for.
    is_tried: bool,
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
            is_tried: false,
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
        if self.gaps.are_worth_it() && self.damage.is_none() && self.follow(records) {
            return;
        }
        let rest = &self.text[self.at..];
        let length = line_length(rest);
        let whole = &rest[..length];
        let line = whole.strip_suffix(b"\r").unwrap_or(whole);
        let (start, number) = (self.at, self.line);
        self.at += (length + 1).min(rest.len());
        self.line += 1;
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
            last: Span::NOTHING,
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
    fn follow(&mut self, records: &mut JsonRecords) -> bool {
        let (text, start, line) = (&self.text[self.at..], self.at as u32, self.line);
        let Some((end, next)) = self.gaps.follow(text) else { return false };
        let row = records.starts.len() as u32;
        let JsonRecords { columns, scopes, .. } = records;
        self.gaps.hand_on(&mut Record { row, text, start, columns, scopes });
        if let Some(seen) = &mut self.seen {
            for (node, value) in self.gaps.count(line) {
                let value = &text[value.start as usize..value.end as usize];
                count_insides(self.paths, *node, value, line, seen);
            }
        }
        records.end_row(start, start + end as u32, line);
        self.at += next;
        self.line += 1;
        true
    }
}

impl Split for JsonSplit<'_> {
    type Records = JsonRecords;

    fn refill(&mut self, records: &mut JsonRecords, most: usize) -> bool {
        records.clear(self.columns, self.paths, most);
        if self.at == 0 && self.gaps.are_worth_it() {
            self.is_tried = records.hope.begin();
            if !self.is_tried {
                self.gaps.give_up();
            }
        }
        while self.at < self.text.len()
            && records.len() + records.broken.len() < most
            && records.scopes.iter().all(|elements| elements.len() < MOST_ELEMENTS)
        {
            self.take_line(records);
        }
        if self.at == self.text.len() {
            self.hand_on();
            if std::mem::take(&mut self.is_tried) {
                records.hope.end(!self.gaps.are_worth_it());
            }
        }
        records.end();
        let is_any = records.len() + records.broken.len() > 0;
        if let Some((scope, unnest)) = self.paths.unnested() {
            records.unnest(scope, unnest.drops_empty);
        }
        is_any
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
