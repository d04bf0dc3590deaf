//! The loop that follows known gaps, and the table it looks them up in.
//!
//! All gaps behind a value stand side by side, and each says where those behind its own value begin: a step is a
//! comparison of sixteen bytes, a look at the byte behind them, and finding where the value ends. What is found is put down step by
//! step, and nothing else is done with it here: a loop that also handed values on had no registers left for its own.

use super::gaps::Place;
use super::walk::{Span, plain_end, plain_number_end};
use crate::records::PathKind;
use crate::text::places_alike;

/// Where the gaps behind the end of a record would be.
const END: u32 = u32::MAX;
/// How often a gap comes behind others until it is looked for before the one before it.
const TIMES: u8 = 16;
/// A bit for each of sixteen bytes.
const ALL_PLACES: u32 = 0xffff;

/// A gap of a record that was followed, and the value behind it.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Step {
    /// The number of the gap, whether the value is a text with an escape in it, and its kind; at the end of a record the
    /// kind is the first one.
    gap: u32,
    start: u32,
    end: u32,
}

/// Bits of a kind.
const KIND_BITS: u32 = 3;

impl Step {
    /// Of the value that starts and ends at these places.
    #[inline(always)]
    fn to(gap: u32, kind: u8, start: u32, end: u32) -> Step {
        Step { gap: gap << (KIND_BITS + 1) | u32::from(kind), start, end }
    }

    /// The number of the gap.
    #[inline(always)]
    pub fn gap(self) -> usize {
        (self.gap >> (KIND_BITS + 1)) as usize
    }

    /// The number of the kind of the value.
    #[inline(always)]
    pub fn kind(self) -> usize {
        (self.gap & ((1 << KIND_BITS) - 1)) as usize
    }

    /// The value, where there is one.
    #[inline(always)]
    pub fn value(self) -> Option<Span> {
        let kind = *PathKind::ALL.get(self.kind())?;
        let is_escaped = self.gap >> KIND_BITS & 1 == 1;
        Some(Span { kind, start: self.start, end: self.end, is_escaped })
    }
}

/// A gap to be entered into the table.
#[derive(Debug)]
pub(super) struct Entry<'g> {
    pub written: &'g [u8],
    pub id: u32,
    /// The stop that it leads to, by its number; none where the record ends.
    pub to: Option<u32>,
    pub place: Option<Place>,
}

/// A gap as it is looked for.
#[derive(Debug, Clone, Copy)]
struct Known {
    /// Its first bytes, and a bit for each of sixteen that it does not have.
    first: [u8; 16],
    beyond: u32,
    /// How many bytes it has.
    length: u32,
    /// Where the gaps behind its value begin, or [`END`].
    next: u32,
    id: u32,
    /// A bit for each kind of value that may stand behind it.
    kinds: u8,
    times: u8,
    /// Whether it is the last one behind its value.
    is_last: bool,
}

/// The gaps of all stops.
#[derive(Debug, Default)]
pub(super) struct Table {
    known: Vec<Known>,
    /// Those bytes of each gap, by its number, that are not among its words.
    long: Vec<Box<[u8]>>,
}

impl Known {
    fn of(entry: &Entry<'_>, starts: &[u32]) -> Known {
        let mut first = [0; 16];
        let bytes = entry.written.len().min(16);
        first[..bytes].copy_from_slice(&entry.written[..bytes]);
        let mut known = Known {
            first,
            beyond: ALL_PLACES & ALL_PLACES << bytes,
            length: entry.written.len() as u32,
            next: entry.to.map_or(END, |to| starts[to as usize]),
            id: entry.id,
            kinds: 0,
            times: 0,
            is_last: false,
        };
        if let Some(place) = entry.place {
            // What is in an object or array of no column is told of by other gaps.
            let is_taken = |kind: &PathKind| !kind.is_nested() || place.column.is_some();
            let kinds = PathKind::ALL.into_iter().filter(is_taken);
            known.kinds = kinds.fold(0, |kinds, kind| kinds | 1 << kind as u8);
        }
        known
    }

    /// One that no text has.
    const NOTHING: Known = Known {
        first: [u8::MAX; 16],
        beyond: 0,
        length: 0,
        next: 0,
        id: 0,
        kinds: 0,
        times: 0,
        is_last: true,
    };
}

impl Table {
    /// The table of the gaps behind each stop; the first stop is the start of a record.
    pub fn of<'g>(stops: impl Iterator<Item = Vec<Entry<'g>>>, gaps: usize) -> Table {
        let stops: Vec<Vec<Entry<'_>>> = stops.collect();
        let mut starts = Vec::with_capacity(stops.len());
        let mut next = 0;
        for entries in &stops {
            starts.push(next);
            next += entries.len().max(1) as u32;
        }
        let mut table = Table { known: Vec::new(), long: vec![Box::default(); gaps] };
        for entries in &stops {
            table.known.extend(entries.iter().map(|entry| Known::of(entry, &starts)));
            match table.known.last_mut().filter(|_| !entries.is_empty()) {
                Some(last) => last.is_last = true,
                None => table.known.push(Known::NOTHING),
            }
            for entry in entries {
                table.long[entry.id as usize] = entry.written.get(16..).unwrap_or_default().into();
            }
        }
        table
    }

    /// Follows the record that a text starts with, and puts down each step in `trail`. `walk` finds the end of a value that is
    /// neither a plain text nor a plain number. Returns how many steps there were, where the record ends, and where the next
    /// line starts.
    #[inline(never)]
    pub fn follow(
        &mut self,
        text: &[u8],
        trail: &mut [Step],
        mut walk: impl FnMut(usize, PathKind, u32) -> Option<Span>,
    ) -> Option<(usize, usize, usize)> {
        let (mut next, mut at) = (0, 0);
        for (steps, step) in trail.iter_mut().enumerate() {
            let few;
            let first = match text.get(at..)?.first_chunk() {
                Some(first) => first,
                None => {
                    few = with_zeros(&text[at..]);
                    &few
                }
            };
            let first_behind = next;
            // Neither a gap nor a value has a line end in it.
            let (gap, start, kind) = loop {
                let known = self.known.get(next as usize)?;
                if places_alike(first, &known.first) | known.beyond == ALL_PLACES {
                    let start = at + known.length as usize;
                    let byte = text.get(start).copied().unwrap_or_default();
                    let kind = KINDS[usize::from(byte)];
                    if known.kinds >> kind & 1 == 1
                        && (known.length <= 16 || self.goes_on(known.id, &text[at..]))
                    {
                        break (known, start, kind);
                    }
                    if known.next == END
                        && self.goes_on(known.id, &text[at..])
                        && let Some(line_end) = text.get(start..).and_then(next_line)
                    {
                        *step = Step::to(known.id, 0, 0, 0);
                        return Some((steps + 1, start, start + line_end));
                    }
                }
                if known.is_last {
                    return None;
                }
                next += 1;
            };
            let Known { id, next: behind_value, .. } = *gap;
            if next != first_behind {
                self.move_up(next as usize);
            }
            next = behind_value;
            let mut end = plain_value_end(text, start, kind);
            if end == 0 {
                let value = walk(start, PathKind::ALL[usize::from(kind)], id)?;
                let escaped = u8::from(value.is_escaped) << KIND_BITS;
                end = value.end as usize;
                *step = Step::to(id, kind | escaped, start as u32, end as u32);
            } else {
                *step = Step::to(id, kind, start as u32, end as u32);
            }
            at = end;
        }
        None
    }

    /// Whether a text has all of a gap, whose first sixteen bytes it starts with.
    #[inline(never)]
    fn goes_on(&self, id: u32, text: &[u8]) -> bool {
        let long = &self.long[id as usize];
        long.is_empty() || text.get(16..).is_some_and(|text| text.starts_with(long))
    }

    /// Moves a gap up among those behind a value, now and then.
    #[inline(never)]
    fn move_up(&mut self, place: usize) {
        let known = &mut self.known[place];
        known.times += 1;
        if known.times == TIMES {
            known.times = 0;
            let is_last = std::mem::take(&mut known.is_last);
            self.known.swap(place, place - 1);
            self.known[place].is_last = is_last;
        }
    }
}

/// Where the value of a kind ends that starts at a place, if it is a plain text or number; 0 otherwise.
#[inline(always)]
fn plain_value_end(text: &[u8], start: usize, kind: u8) -> usize {
    if kind == PathKind::Text as u8 {
        let end = plain_end(text, start + 1);
        if text.get(end) == Some(&b'"') { end + 1 } else { 0 }
    } else if kind == PathKind::Number as u8 {
        plain_number_end(text, start)
    } else {
        0
    }
}

/// The number of the kind of the values that start with each byte; 7 where none does.
static KINDS: [u8; 256] = {
    let mut kinds = [7; 256];
    let mut byte = 0;
    while byte < 256 {
        if let Some(kind) = PathKind::starting_with(byte as u8) {
            kinds[byte] = kind as u8;
        }
        byte += 1;
    }
    kinds
};

/// The first sixteen bytes of a text that has fewer, and zeros.
#[cold]
fn with_zeros(text: &[u8]) -> [u8; 16] {
    let mut bytes = [0; 16];
    bytes[..text.len()].copy_from_slice(text);
    bytes
}

/// How many bytes the line end has that a text starts with, which may be the end of the text.
fn next_line(text: &[u8]) -> Option<usize> {
    match text {
        [] => Some(0),
        [b'\n', ..] | [b'\r'] => Some(1),
        [b'\r', b'\n', ..] => Some(2),
        _ => None,
    }
}
