//! Paths that were learned from the first records only, and what all records show of them.
//!
//! To learn the paths of nested records every record is walked over, and to do something with its values it is walked
//! over again. Most inputs have shown after a few thousand records what they have. So work begins under what these
//! show, takes note on the way of what others have, and is worth something if that makes the same columns of them.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::LineRef;
use super::path_kind::{PATH_KINDS, PathKind};
use super::paths::{NodeId, Paths};

/// Which columns have to stay what they are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Holds {
    /// All, in their order, and no others.
    All,
    /// Those that are wanted: nobody looks at the values of others.
    Wanted,
}

/// What the records seen so far have, and whether that makes the columns that the first of them made.
#[derive(Debug)]
pub struct Provisional {
    /// What the first records make.
    made: Made,
    wanted: Vec<String>,
    /// Columns that come behind the others.
    last: Vec<String>,
    holds: Holds,
    state: Mutex<State>,
    is_off: AtomicBool,
}

/// What paths make.
#[derive(Debug, PartialEq, Eq)]
struct Made {
    /// The columns, where all of them matter.
    columns: Vec<String>,
    /// Of each name that is wanted, whether it is a column, and whether it leads to or through one.
    wanted: Vec<(bool, bool)>,
}

#[derive(Debug)]
struct State {
    /// What the records have, those that were seen before and are walked over again not counted twice.
    paths: Paths,
    /// For each node, the kinds that some record has, the first ones among them.
    shown: Vec<[bool; PATH_KINDS]>,
}

/// What the records of one block show.
#[derive(Debug, Default)]
pub struct Seen {
    /// For each node and kind how many values there are, and on which line of the block the first stands.
    counts: Vec<(u32, u32)>,
    /// Whether there is anything that cannot be counted here: a name that is none of the paths, a broken record. Somebody
    /// has to learn the block.
    pub is_odd: bool,
    /// Records that were found to be broken.
    pub broken: u64,
}

impl Seen {
    /// Nothing seen yet of so many nodes.
    pub fn new(nodes: usize) -> Seen {
        Seen { counts: vec![(0, 0); nodes * PATH_KINDS], ..Seen::default() }
    }

    /// Takes note of a value.
    #[inline]
    pub fn note(&mut self, node: NodeId, kind: PathKind, line: u32) {
        let (count, first) = &mut self.counts[node as usize * PATH_KINDS + kind as usize];
        if *count == 0 {
            *first = line;
        }
        *count += 1;
    }

    /// Takes note of so many values, the first of which is on a line.
    pub fn note_all(&mut self, node: NodeId, kind: PathKind, line: u32, values: u32) {
        let (count, first) = &mut self.counts[node as usize * PATH_KINDS + kind as usize];
        *first = if *count == 0 { line } else { line.min(*first) };
        *count += values;
    }
}

impl Provisional {
    /// Of the paths of the first records.
    pub fn new(paths: &Paths, wanted: &[String], last: &[&str], holds: Holds) -> Provisional {
        let shown = (0..paths.len()).map(|node| paths.shown(node as NodeId)).collect();
        let mut emptied = paths.clone();
        emptied.forget_values();
        let mut provisional = Provisional {
            made: Made { columns: Vec::new(), wanted: Vec::new() },
            wanted: wanted.to_vec(),
            last: last.iter().map(|name| (*name).to_owned()).collect(),
            holds,
            state: Mutex::new(State { paths: emptied, shown }),
            is_off: AtomicBool::new(false),
        };
        provisional.made = provisional.made_of(&mut paths.clone());
        provisional
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether other columns than those of the first records came up: what was done under these is worth nothing.
    pub fn is_off(&self) -> bool {
        self.is_off.load(Ordering::Relaxed)
    }

    /// Adds what a block has shown that starts at a place.
    pub fn add_seen(&self, seen: &Seen, start: LineRef) {
        let state = &mut *self.state();
        let mut is_new = false;
        for (node, counts) in seen.counts.chunks_exact(PATH_KINDS).enumerate() {
            for (kind, (count, line)) in PathKind::ALL.into_iter().zip(counts) {
                if *count == 0 {
                    continue;
                }
                let place = LineRef { line: start.line + u64::from(*line), ..start };
                state.paths.note(node as NodeId, kind, place, u64::from(*count));
                is_new |= !std::mem::replace(&mut state.shown[node][kind as usize], true);
            }
        }
        if is_new {
            self.look_again(state);
        }
    }

    /// Adds what was learned of a block, and whether that found the same records broken as work under the first paths.
    pub fn add_paths(&self, paths: &Paths, is_agreed: bool) {
        if !is_agreed {
            self.is_off.store(true, Ordering::Relaxed);
        }
        let state = &mut *self.state();
        if state.paths.len() > state.paths.field_limit {
            // There are too many already, which is an error in the end.
            return;
        }
        state.paths.merge(paths);
        let mut is_new = state.paths.len() > state.shown.len();
        state.shown.resize(state.paths.len(), [false; PATH_KINDS]);
        for (node, known) in state.shown.iter_mut().enumerate() {
            for (known, shown) in known.iter_mut().zip(state.paths.shown(node as NodeId)) {
                is_new |= shown && !*known;
                *known |= shown;
            }
        }
        if is_new {
            self.look_again(state);
        }
    }

    /// Asks again which columns the paths make.
    fn look_again(&self, state: &State) {
        let mut paths = state.paths.clone();
        paths.suppose_values(&state.shown);
        if self.made_of(&mut paths) != self.made {
            self.is_off.store(true, Ordering::Relaxed);
        }
    }

    /// Settles which columns paths make.
    fn made_of(&self, paths: &mut Paths) -> Made {
        let last: Vec<&str> = self.last.iter().map(String::as_str).collect();
        let columns = paths.settle(&self.wanted, &last);
        let wanted = self.wanted.iter().map(|name| (columns.contains(name), paths.leads_to(name)));
        let wanted = wanted.collect();
        match self.holds {
            Holds::All => Made { columns, wanted },
            Holds::Wanted => Made { columns: Vec::new(), wanted },
        }
    }

    /// What all records have that were seen, with its columns settled, and whether these are those of the first ones.
    pub fn finish(&self) -> (Paths, bool) {
        let mut paths = self.state().paths.clone();
        let made = self.made_of(&mut paths);
        (paths, !self.is_off() && made == self.made)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A path of one name with a value of a kind on some line.
    fn with(paths: &mut Paths, name: &str, kind: PathKind, line: u64) -> NodeId {
        let place = LineRef { part: 0, line };
        let node = match paths.child(0, 0, name.as_bytes()) {
            Some((node, _)) => node,
            None => paths.add(0, name.as_bytes(), (place, 0)),
        };
        paths.note(node, kind, place, 1);
        node
    }

    /// Paths of the first records, `a` with numbers and `o` with objects of nothing, and what is known of them.
    fn first(wanted: &[&str], holds: Holds) -> (Paths, Provisional) {
        let mut paths = Paths::default();
        with(&mut paths, "a", PathKind::Number, 1);
        with(&mut paths, "o", PathKind::Object, 1);
        let wanted: Vec<String> = wanted.iter().map(|name| (*name).to_owned()).collect();
        let provisional = Provisional::new(&paths, &wanted, &[], holds);
        (paths, provisional)
    }

    fn seen(paths: &Paths, values: &[(NodeId, PathKind, u32)]) -> Seen {
        let mut seen = Seen::new(paths.len());
        values.iter().for_each(|(node, kind, line)| seen.note(*node, *kind, *line));
        seen
    }

    #[test]
    fn values_are_counted_from_nothing_and_placed_by_their_block() {
        let (paths, provisional) = first(&[], Holds::All);
        let values = [
            (1, PathKind::Number, 0),
            (1, PathKind::Null, 3),
            (1, PathKind::Number, 4),
            (2, PathKind::Object, 4),
        ];
        provisional.add_seen(&seen(&paths, &values), LineRef { part: 2, line: 10 });
        provisional.add_seen(&seen(&paths, &values[..1]), LineRef { part: 1, line: 7 });
        let (all, is_same) = provisional.finish();
        let place = |part, line| Some(LineRef { part, line });
        assert!(is_same, "a null makes no other column");
        assert_eq!(all.kind(0, PathKind::Number), (3, place(1, 7)));
        assert_eq!(all.kind(0, PathKind::Null), (1, place(2, 13)));
    }

    #[test]
    fn another_column_matters_where_all_do() {
        for (holds, wanted, name, is_off) in [
            (Holds::All, &[][..], "late", true),
            (Holds::Wanted, &["a"][..], "late", false),
            (Holds::Wanted, &["late"][..], "late", true),
            // A name that was in no record led nowhere, and now leads through a column.
            (Holds::Wanted, &["late.x"][..], "late", true),
        ] {
            let (paths, provisional) = first(wanted, holds);
            let values = [(1, PathKind::Number, 0), (2, PathKind::Object, 0)];
            provisional.add_seen(&seen(&paths, &values), LineRef { part: 0, line: 1 });
            let mut learned = Paths::default();
            with(&mut learned, name, PathKind::Text, 99);
            provisional.add_paths(&learned, true);
            assert_eq!(provisional.is_off(), is_off, "{holds:?} {wanted:?}");
            assert_eq!(provisional.finish().1, !is_off, "{holds:?} {wanted:?}");
        }
    }

    #[test]
    fn a_record_that_only_one_reading_finds_broken_is_a_difference() {
        let (_, provisional) = first(&["a"], Holds::Wanted);
        provisional.add_paths(&Paths::default(), false);
        assert!(provisional.is_off());
    }
}
