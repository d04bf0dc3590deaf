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

use super::twice::check_names;
use super::walk::{Span, Walk};
use crate::records::{Guess, NodeId, PATH_KINDS, PathKind, ScopeId};

/// Gaps that are remembered.
const MOST_GAPS: usize = 1024;
/// Gaps behind one value that are remembered.
const MOST_BEHIND_ONE: usize = 24;
/// Records that are made of known gaps, for one that is not, so that it is worth looking.
const WORTH: i32 = 2;
/// Records that are not, with which it begins.
const PATIENCE: i32 = 64;

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

/// A gap that is remembered.
#[derive(Debug)]
struct Gap {
    /// The stop that it leads to.
    to: u32,
    /// Whether elements begin in it.
    has_elements: bool,
    /// For each kind of value behind it how many there were, and on which line of the block the first.
    counts: [(u32, u32); PATH_KINDS],
    walked: Walked,
}

/// What has to be known of a gap to find it.
#[derive(Debug)]
struct Known {
    written: Guess,
    gap: u32,
    to: u32,
    /// How often it came.
    times: u32,
    /// Whether what is in an object or array behind it is told of by other gaps.
    is_inner: bool,
}

/// A gap and the value behind it.
#[derive(Debug, Clone, Copy)]
struct Step {
    gap: u32,
    value: Span,
}

/// What stands behind a value, or at the start of a record.
#[derive(Debug)]
struct Stop {
    place: Option<Place>,
    /// The gaps behind it, those that come often first.
    behind: Vec<Known>,
}

/// The gaps of the records of a block.
#[derive(Debug)]
pub(super) struct Gaps {
    gaps: Vec<Gap>,
    /// The start of a record, which is its end too, and all values.
    stops: Vec<Stop>,
    /// For each node the stop that it is.
    of_node: Vec<u32>,
    /// For each node those members of its object that come right behind it in a gap.
    after: Vec<Vec<NodeId>>,
    /// What the record at hand is made of.
    steps: Vec<Step>,
    /// How many more records may be other than those before them.
    patience: i32,
}

impl Default for Gaps {
    fn default() -> Gaps {
        Gaps {
            gaps: Vec::new(),
            stops: vec![Stop { place: None, behind: Vec::new() }],
            of_node: Vec::new(),
            after: Vec::new(),
            steps: Vec::new(),
            patience: PATIENCE,
        }
    }
}

impl Gaps {
    /// Whether it is worth looking for known gaps, and remembering others.
    #[inline]
    pub fn are_worth_it(&self) -> bool {
        self.patience > 0
    }

    /// Splits the record that is the first `end` bytes of a text, if it is made of known gaps and its values are in order.
    /// If not, nothing has happened. What stands behind it is read for speed alone.
    #[inline]
    pub fn follow(&mut self, text: &[u8], end: usize) -> bool {
        let is_followed = self.try_to_follow(text, end).is_some();
        let patience = self.patience + if is_followed { 1 } else { -WORTH };
        self.patience = patience.min(PATIENCE);
        is_followed
    }

    fn try_to_follow(&mut self, text: &[u8], end: usize) -> Option<()> {
        self.steps.clear();
        let (mut stop, mut at) = (END, 0);
        loop {
            let rest = text.get(at..)?;
            let behind = &mut self.stops[stop as usize].behind;
            // A record has no line end in it, and no gap has one: what starts with a gap has it before its end.
            let rank = behind.iter().position(|known| {
                known.written.starts(rest).is_some_and(|length| {
                    let kind = rest.get(length).and_then(|byte| PathKind::starting_with(*byte));
                    match kind {
                        _ if known.to == END => at + length == end,
                        Some(kind) => !kind.is_nested() || !known.is_inner,
                        None => false,
                    }
                })
            })?;
            let known = &mut behind[rank];
            known.times = known.times.saturating_add(1);
            let Known { gap, to, times, .. } = *known;
            let start = at + known.written.len();
            if rank > 0 && behind[rank - 1].times < times {
                behind.swap(rank, rank - 1);
            }
            if to == END {
                self.steps.push(Step { gap, value: Span::NOTHING });
                return Some(());
            }
            let value = match Span::of_plain(text, start) {
                Some(value) => value,
                None => self.walk_over(text.get(..end)?, start, to)?,
            };
            self.steps.push(Step { gap, value });
            (stop, at) = (to, value.end as usize);
        }
    }

    /// Walks over the value of a stop that starts at a place of a record; `None` where something is wrong with it.
    #[inline(never)]
    fn walk_over(&self, text: &[u8], start: usize, stop: u32) -> Option<Span> {
        let depth = self.stops[stop as usize].place?.depth;
        let kind = PathKind::starting_with(*text.get(start)?)?;
        let value = Walk::from(text, start).value_of(kind, depth as usize).ok()?;
        let within = &text[start..value.end as usize];
        (!kind.is_nested() || check_names(within).is_ok()).then_some(value)
    }

    /// Hands on what the record is made of that was followed last, on a line of the block: the elements that begin, and
    /// each value.
    #[inline]
    pub fn hand_on<T>(
        &mut self,
        line: u32,
        to: &mut T,
        element: impl Fn(&mut T, ScopeId),
        value: impl Fn(&mut T, Place, Span),
    ) {
        for step in &self.steps {
            let gap = &mut self.gaps[step.gap as usize];
            let (count, first) = &mut gap.counts[step.value.kind as usize];
            *first = if *count == 0 { line } else { *first };
            *count += 1;
            if gap.has_elements {
                gap.walked.elements.iter().for_each(|scope| element(to, *scope));
            }
            if let Some(place) = gap.walked.to {
                value(to, place, step.value);
            }
        }
    }

    /// Hands on of each node how many values of each kind were followed, and the line of the first, and begins to
    /// count anew.
    pub fn take_counts(&mut self, mut each: impl FnMut(NodeId, PathKind, u32, u32)) {
        for gap in &mut self.gaps {
            let counts = std::mem::take(&mut gap.counts);
            let all: u32 = counts.iter().map(|(count, _)| count).sum();
            if all == 0 {
                continue;
            }
            let lines = counts.iter().filter(|(count, _)| *count > 0).map(|(_, line)| *line);
            let first = lines.min().unwrap_or_default();
            for (node, kind) in &gap.walked.opened {
                each(*node, *kind, first, all);
            }
            let Some(place) = gap.walked.to else { continue };
            for (kind, (count, line)) in PathKind::ALL.into_iter().zip(counts) {
                if count > 0 {
                    each(place.node, kind, line, count);
                }
            }
        }
    }

    /// Remembers the gaps of a sound record that was walked over.
    pub fn remember(&mut self, text: &[u8], walked: &[Walked]) {
        let mut from = END;
        for gap in walked {
            let Some(to) = self.stop_at(gap.to) else { return };
            let written = &text[gap.start..gap.end];
            let behind = &self.stops[from as usize].behind;
            if !behind.iter().any(|known| known.to == to && known.written.is(written)) {
                if self.gaps.len() >= MOST_GAPS
                    || behind.len() >= MOST_BEHIND_ONE
                    || !self.put_in_order(&gap.follow)
                {
                    return;
                }
                self.stops[from as usize].behind.push(Known {
                    written: Guess::written(written),
                    gap: self.gaps.len() as u32,
                    to,
                    times: 0,
                    is_inner: gap.to.is_some_and(|place| place.column.is_none()),
                });
                self.gaps.push(Gap {
                    to,
                    has_elements: !gap.elements.is_empty(),
                    counts: Default::default(),
                    walked: gap.clone(),
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
            self.stops.push(Stop { place: Some(place), behind: Vec::new() });
        }
        let stop = self.of_node[node];
        (self.stops[stop as usize].place == Some(place)).then_some(stop)
    }
}

#[cfg(test)]
impl Gaps {
    /// None, and none is ever remembered.
    pub fn off() -> Gaps {
        Gaps { patience: 0, ..Gaps::default() }
    }

    /// How many records were made of known gaps since the counts were taken.
    pub fn followed(&self) -> u32 {
        let ends = self.gaps.iter().filter(|gap| gap.to == END);
        ends.flat_map(|gap| gap.counts).map(|(count, _)| count).sum()
    }
}
