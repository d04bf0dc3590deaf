//! What stands between the values of records, remembered.
//!
//! Records are written by programs, and a program writes the same names in the same order, with the same spaces. So what
//! stands between two values (the comma, the name, the colon, the brackets that close and open) is one of a few texts, and
//! which one it is says which value comes next. A record that is made of such gaps alone is split by comparing them and
//! finding where each value ends; any other record is walked over member by member, and its gaps are [remembered](super::trace).
//!
//! That is the same as walking, since a gap was walked over once, behind the same value: it has the same names there,
//! opens and closes the same objects, and what a record has is told by its gaps. Only whether a name comes twice in an
//! object depends on more than two values: a name can come again only if the gaps lead from it, by way of others, back to
//! it. So a gap that would close such a circle is not remembered. A value is held against RFC 8259 by the walk in both ways.
//!
//! Gaps belong to [`Paths`](crate::records::Paths) and to what listens: they are forgotten with them.

use super::follow::{Entry, Step, Table};
use super::records::Record;
use super::twice::check_names;
use super::walk::{Span, Walk};
use crate::records::{NodeId, PathKind, ScopeId};

/// Gaps that are remembered.
const MOST_GAPS: usize = 1024;
/// Gaps behind one value that are remembered.
const MOST_BEHIND_ONE: usize = 24;
/// Records that are made of known gaps, for one that is not, so that it is worth looking.
const WORTH: i32 = 2;
/// Records that are not, with which it begins.
const PATIENCE: i32 = 64;

/// The most values of a record that is followed.
pub(super) const MOST_STEPS: usize = 2048;
/// The end of a record, among the values that a gap leads to.
const END: u32 = 0;

/// The value of a member or an element that is told of as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Place {
    pub node: NodeId,
    /// The column it is, if it is one: what is in it is its own then, even in an object or array.
    pub column: Option<u32>,
    /// Objects and arrays within each other that may be in it.
    pub depth: u32,
}

/// A gap as it was walked over.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Walked {
    /// Where it starts and ends in the record.
    pub start: usize,
    pub end: usize,
    /// The value behind it; none where the record ends.
    pub to: Option<Place>,
    /// The objects and arrays that are opened in it, also those that are closed again.
    pub opened: Vec<(NodeId, PathKind)>,
    /// The scopes of which an element begins in it.
    pub elements: Vec<ScopeId>,
    /// Each member that comes in it behind another one of its object, and that one before it.
    pub follow: Vec<(NodeId, NodeId)>,
}

/// What stands behind a value, or at the start of a record.
#[derive(Debug, Default)]
struct Stop {
    place: Option<Place>,
    /// The gaps behind it, by their numbers.
    behind: Vec<u32>,
}

/// A gap that is remembered.
#[derive(Debug)]
struct Gap {
    written: Box<[u8]>,
    /// The stop that it leads to.
    to: u32,
    walked: Walked,
}

/// What a gap leads to.
#[derive(Debug, Clone, Copy)]
struct Landing {
    /// The column of the value behind it, or [`NO_COLUMN`].
    column: u32,
    has_elements: bool,
}

/// The column of values that are none.
const NO_COLUMN: u32 = u32::MAX;

/// How many values of one kind there are behind a gap, and on which line of the block the first.
type Counted = (u32, u32);

/// The gaps of the records of a block.
#[derive(Debug)]
pub(super) struct Gaps {
    /// The start of a record, which is its end too, and all values.
    stops: Vec<Stop>,
    /// All of them, by their numbers.
    gaps: Vec<Gap>,
    /// The same, to be followed.
    table: Table,
    /// For each gap what it leads to.
    landings: Vec<Landing>,
    /// For each gap what is counted of each kind of value behind it.
    counts: Vec<[Counted; 8]>,
    /// For each node the stop that it is.
    of_node: Vec<u32>,
    /// For each node those members of its object that come right behind it in a gap.
    after: Vec<Vec<NodeId>>,
    /// The gaps of the record at hand, and the values behind them.
    trail: Vec<Step>,
    /// How many there are.
    steps: usize,
    /// The objects and arrays in it that are values of columns.
    nested: Vec<(NodeId, Span)>,
    /// How many more records may be other than those before them.
    patience: i32,
    #[cfg(test)]
    followed: u32,
}

impl Default for Gaps {
    fn default() -> Gaps {
        Gaps {
            stops: vec![Stop::default()],
            gaps: Vec::new(),
            table: Table::default(),
            landings: Vec::new(),
            counts: Vec::new(),
            of_node: Vec::new(),
            after: Vec::new(),
            trail: Vec::new(),
            steps: 0,
            nested: Vec::new(),
            patience: PATIENCE,
            #[cfg(test)]
            followed: 0,
        }
    }
}

impl Gaps {
    /// Whether it is worth looking for known gaps, and remembering others.
    #[inline]
    pub fn are_worth_it(&self) -> bool {
        self.patience > 0
    }

    /// Looks for none, and remembers none.
    pub fn give_up(&mut self) {
        self.patience = 0;
    }

    /// Splits the record that a text starts with, if it is made of known gaps, its values are in order, and its line ends
    /// behind it. Says where it ends, and where the next line starts.
    #[inline]
    pub fn follow(&mut self, text: &[u8]) -> Option<(usize, usize)> {
        self.steps = 0;
        self.nested.clear();
        let Gaps { gaps, table, trail, nested, .. } = self;
        let walk = |start, kind, gap: u32| {
            walk_over(text, start, kind, gaps[gap as usize].walked.to?, nested)
        };
        let followed = table.follow(text, trail, walk);
        let patience = self.patience + if followed.is_some() { 1 } else { -WORTH };
        self.patience = patience.min(PATIENCE);
        #[cfg(test)]
        (self.followed += u32::from(followed.is_some()));
        let (steps, end, next) = followed?;
        self.steps = steps;
        Some((end, next))
    }

    /// Hands on what the record that was followed last is made of.
    #[inline]
    pub fn hand_on(&self, record: &mut Record<'_>) {
        for step in &self.trail[..self.steps] {
            let Landing { column, has_elements } = self.landings[step.gap()];
            if has_elements {
                let elements = &self.gaps[step.gap()].walked.elements;
                elements.iter().for_each(|scope| record.element(*scope));
            }
            if column != NO_COLUMN
                && let Some(value) = step.value()
            {
                record.value(column as usize, value);
            }
        }
    }

    /// Takes note of the record that was followed last, which is on this line of the block. Hands on the objects and arrays
    /// in it that are values of columns.
    #[inline]
    pub fn count(&mut self, line: u32) -> &[(NodeId, Span)] {
        for step in &self.trail[..self.steps] {
            let (count, first) = &mut self.counts[step.gap()][step.kind()];
            *first = if *count == 0 { line } else { *first };
            *count += 1;
        }
        &self.nested
    }

    /// Hands on of each node how many values of each kind were counted, and the line of the first, and begins to count anew.
    pub fn take_counts(&mut self, mut each: impl FnMut(NodeId, PathKind, u32, u32)) {
        for (gap, counts) in self.gaps.iter().zip(&mut self.counts) {
            let walked = &gap.walked;
            let counts = std::mem::take(counts);
            let all: u32 = counts.iter().map(|(count, _)| count).sum();
            if all == 0 {
                continue;
            }
            let lines = counts.iter().filter(|(count, _)| *count > 0).map(|(_, line)| *line);
            let first = lines.min().unwrap_or_default();
            for (node, kind) in &walked.opened {
                each(*node, *kind, first, all);
            }
            let Some(place) = walked.to else { continue };
            for (kind, (count, line)) in PathKind::ALL.into_iter().zip(counts) {
                if count > 0 {
                    each(place.node, kind, line, count);
                }
            }
        }
    }

    /// Remembers the gaps of a sound record that was walked over.
    pub fn remember(&mut self, text: &[u8], walked: &[Walked]) {
        let known = self.gaps.len();
        self.trail.resize(MOST_STEPS, Step::default());
        self.add(text, walked);
        if self.gaps.len() > known {
            let entry = |id: &u32| {
                let gap = &self.gaps[*id as usize];
                let to = gap.walked.to.map(|_| gap.to);
                Entry { written: &gap.written, id: *id, to, place: gap.walked.to }
            };
            let stops = self.stops.iter().map(|stop| stop.behind.iter().map(entry).collect());
            self.table = Table::of(stops, self.gaps.len());
        }
    }

    /// Adds gaps, up to the first one that cannot be remembered.
    fn add(&mut self, text: &[u8], walked: &[Walked]) {
        let mut from = END;
        for gap in walked {
            let Some(to) = self.stop_at(gap.to) else { return };
            let written = &text[gap.start..gap.end];
            let behind = &self.stops[from as usize].behind;
            let is_it = |id: &u32| {
                let known = &self.gaps[*id as usize];
                known.to == to && *known.written == *written
            };
            if !behind.iter().any(is_it) {
                if self.gaps.len() >= MOST_GAPS
                    || behind.len() >= MOST_BEHIND_ONE
                    || !self.put_in_order(&gap.follow)
                {
                    return;
                }
                self.stops[from as usize].behind.push(self.gaps.len() as u32);
                self.gaps.push(Gap { written: written.into(), to, walked: gap.clone() });
                self.counts.push(Default::default());
                self.landings.push(Landing {
                    column: gap.to.and_then(|place| place.column).unwrap_or(NO_COLUMN),
                    has_elements: !gap.elements.is_empty(),
                });
            }
            from = to;
        }
    }

    /// Takes note of which members follow each other, if none of them can come again then.
    fn put_in_order(&mut self, follow: &[(NodeId, NodeId)]) -> bool {
        for (before, behind) in follow {
            let most = *before.max(behind) as usize;
            if self.after.len() <= most {
                self.after.resize(most + 1, Vec::new());
            }
            let mut open = vec![*behind];
            let mut is_met = vec![false; self.after.len()];
            while let Some(node) = open.pop() {
                if node == *before {
                    return false;
                }
                if !std::mem::replace(&mut is_met[node as usize], true) {
                    open.extend(&self.after[node as usize]);
                }
            }
            let known = &mut self.after[*before as usize];
            if !known.contains(behind) {
                known.push(*behind);
            }
        }
        true
    }

    /// The stop that a value is; `None` where it was met as another one.
    fn stop_at(&mut self, place: Option<Place>) -> Option<u32> {
        let Some(place) = place else { return Some(END) };
        let node = place.node as usize;
        if self.of_node.len() <= node {
            self.of_node.resize(node + 1, END);
        }
        if self.of_node[node] == END {
            self.of_node[node] = self.stops.len() as u32;
            self.stops.push(Stop { place: Some(place), ..Stop::default() });
        }
        let stop = self.of_node[node];
        (self.stops[stop as usize].place == Some(place)).then_some(stop)
    }
}

/// Walks over the value of a place that starts somewhere in a text; `None` where something is wrong with it. Notes it if it
/// nests.
#[inline(never)]
fn walk_over(
    text: &[u8],
    start: usize,
    kind: PathKind,
    Place { node, depth, .. }: Place,
    nested: &mut Vec<(NodeId, Span)>,
) -> Option<Span> {
    let text = match kind.is_nested() {
        // White space in it may be a line end, which ends a record.
        true => &text[..start + line_length(&text[start..])],
        false => text,
    };
    let value = Walk::from(text, start).value_of(kind, depth as usize).ok()?;
    if kind.is_nested() {
        check_names(&text[start..value.end as usize]).ok()?;
        nested.push((node, value));
    }
    Some(value)
}

/// How many bytes the first line of a text has, its end not counted.
pub(super) fn line_length(text: &[u8]) -> usize {
    memchr::memchr(b'\n', text).unwrap_or(text.len())
}

#[cfg(test)]
impl Gaps {
    /// None, and none is ever remembered.
    pub fn off() -> Gaps {
        let mut gaps = Gaps::default();
        gaps.give_up();
        gaps
    }

    /// How many records were made of known gaps.
    pub fn followed(&self) -> u32 {
        self.followed
    }
}
