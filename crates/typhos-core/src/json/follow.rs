//! The loop that follows known gaps, and the table it looks them up in.
//!
//! All gaps behind a value stand side by side, and each says where those behind its own value begin: a step is a
//! comparison of two words, a look at the byte behind them, and finding where the value ends.

use super::gaps::Place;
use super::walk::{Span, plain_end, plain_number_end};
use crate::records::{PathKind, ScopeId, first_words};

/// The column of values that are none.
const NO_COLUMN: u32 = u32::MAX;
/// Where the gaps behind the end of a record would be.
const END: u32 = u32::MAX;
/// How often a gap comes behind others until it is looked for before the one before it.
const TIMES: u8 = 16;

/// Who takes what a record is made of. It may be found late that it is not made of known gaps: then nothing of it counts.
pub(super) trait Take {
    /// An element of a scope, which begins.
    fn element(&mut self, scope: ScopeId);

    /// The value of a column.
    fn value(&mut self, column: usize, value: Span);
}

/// A gap to be entered into the table.
#[derive(Debug)]
pub(super) struct Entry<'g> {
    pub written: &'g [u8],
    pub id: u32,
    /// The stop that it leads to, by its number; none where the record ends.
    pub to: Option<u32>,
    pub place: Option<Place>,
    pub has_elements: bool,
}

/// A gap as it is looked for.
#[derive(Debug, Clone, Copy)]
struct Known {
    /// Its first bytes, and which of them there are.
    words: [u64; 2],
    masks: [u64; 2],
    /// How many bytes it has.
    length: u32,
    /// Where the gaps behind its value begin, or [`END`].
    next: u32,
    column: u32,
    id: u32,
    /// A bit for each kind of value that may stand behind it.
    kinds: u8,
    times: u8,
    /// Whether it is the last one behind its value.
    is_last: bool,
    has_elements: bool,
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
        let (words, masks) = first_words(entry.written);
        let mut known = Known {
            words,
            masks,
            length: entry.written.len() as u32,
            next: entry.to.map_or(END, |to| starts[to as usize]),
            column: entry.place.and_then(|place| place.column).unwrap_or(NO_COLUMN),
            id: entry.id,
            kinds: 0,
            times: 0,
            is_last: false,
            has_elements: entry.has_elements,
        };
        // What is in an object or array of no column is told of by other gaps.
        let is_taken = |kind: &PathKind| !kind.is_nested() || known.column != NO_COLUMN;
        if entry.place.is_some() {
            let kinds = PathKind::ALL.into_iter().filter(is_taken);
            known.kinds = kinds.fold(0, |kinds, kind| kinds | 1 << kind as u8);
        }
        known
    }

    /// One that no text has.
    const NOTHING: Known = Known {
        words: [u64::MAX; 2],
        masks: [u64::MAX; 2],
        length: 0,
        next: 0,
        column: NO_COLUMN,
        id: 0,
        kinds: 0,
        times: 0,
        is_last: true,
        has_elements: false,
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

    /// Follows the record that a text starts with, and notes in `trail` each gap by its number, with the kind of the value
    /// behind it in the lowest three bits. `elements` says of a gap in which elements begin of which scopes, and `walk` finds
    /// the end of a value that is neither a plain text nor a plain number. Returns how many steps there were, where the
    /// record ends, and where the next line starts.
    #[inline(never)]
    pub fn follow<T: Take>(
        &mut self,
        text: &[u8],
        take: &mut T,
        trail: &mut [u32],
        elements: impl Fn(u32, &mut T),
        mut walk: impl FnMut(usize, PathKind, u32) -> Option<Span>,
    ) -> Option<(usize, usize, usize)> {
        let (mut next, mut at) = (0, 0);
        for (steps, step) in trail.iter_mut().enumerate() {
            let padded;
            let first = match text.get(at..)?.first_chunk::<16>() {
                Some(first) => first,
                None => {
                    padded = with_zeros(&text[at..]);
                    &padded
                }
            };
            let both = u128::from_le_bytes(*first);
            let (a, b) = (both as u64, (both >> 64) as u64);
            let first_behind = next;
            // Neither a gap nor a value has a line end in it.
            let (gap, start, kind) = loop {
                let known = self.known.get(next as usize)?;
                let [p, q] = known.words;
                let [m, n] = known.masks;
                if (a ^ p) & m | (b ^ q) & n == 0 {
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
                        *step = known.id << 3;
                        elements(known.id, take);
                        return Some((steps + 1, start, start + line_end));
                    }
                }
                if known.is_last {
                    return None;
                }
                next += 1;
            };
            let Known { id, column, has_elements, next: behind_value, .. } = *gap;
            *step = id << 3 | u32::from(kind);
            if next != first_behind {
                self.move_up(next as usize);
            }
            next = behind_value;
            if has_elements {
                elements(id, take);
            }
            let value = match plain_value(text, start, kind) {
                Some(value) => value,
                None => walk(start, PathKind::ALL[usize::from(kind)], id)?,
            };
            if column != NO_COLUMN {
                take.value(column as usize, value);
            }
            at = value.end as usize;
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

/// The value of a kind that starts at a place, if it is a plain text or number.
#[inline(always)]
fn plain_value(text: &[u8], start: usize, kind: u8) -> Option<Span> {
    let (kind, end) = if kind == PathKind::Text as u8 {
        let end = plain_end(text, start + 1);
        (PathKind::Text, if text.get(end) == Some(&b'"') { end + 1 } else { 0 })
    } else if kind == PathKind::Number as u8 {
        (PathKind::Number, plain_number_end(text, start))
    } else {
        return None;
    };
    let value = Span { kind, start: start as u32, end: end as u32, is_escaped: false };
    (end > 0).then_some(value)
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

/// The first bytes of a text that has fewer, and zeros.
#[inline(never)]
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
