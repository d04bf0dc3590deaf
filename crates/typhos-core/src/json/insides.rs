//! What is in values that are taken as they are, counted for paths that are provisional.

use super::cursor::Cursor;
use super::walk::{Fault, Listen, Name, Span, Walk};
use crate::records::{Guess, NodeId, PathKind, Paths, Seen};

/// What is in the value of a column, as it is walked over.
struct Insides<'s> {
    paths: &'s Paths,
    text: &'s [u8],
    cursor: Cursor,
    seen: &'s mut Seen,
    line: u32,
}

/// Counts what is in a value, an object or array whose names were found to be in order: the one at a node, in the record
/// on this line of the block.
pub(super) fn count_insides(paths: &Paths, value: NodeId, text: &[u8], line: u32, seen: &mut Seen) {
    let mut cursor = Cursor::in_values();
    cursor.begin(0);
    let is_array = text.first() == Some(&b'[');
    let mut insides = Insides { paths, text, cursor, seen, line };
    insides.enter(value, if is_array { PathKind::Array } else { PathKind::Object });
    if Walk::new(text).any(&mut insides).is_err() {
        insides.seen.is_odd = true;
    }
}

impl Insides<'_> {
    fn enter(&mut self, id: NodeId, kind: PathKind) {
        // Even an empty array shows that there is one.
        self.seen.is_odd |= kind == PathKind::Array && self.paths.items(id).is_none();
        self.cursor.enter(id);
    }

    /// Counts a value, and says whether what is in it is looked at.
    fn count(&mut self, id: NodeId, kind: PathKind) -> bool {
        self.seen.note(id, kind, self.line);
        matches!(kind, PathKind::Object | PathKind::Array)
    }
}

impl Listen for Insides<'_> {
    fn guess(&self) -> Option<&Guess> {
        self.cursor.guess(self.paths)
    }

    fn member(&mut self, name: Name, kind: PathKind) -> Result<bool, Fault> {
        let Some(id) = self.cursor.find(self.paths, self.text, name)? else {
            self.seen.is_odd = true;
            return Ok(false);
        };
        let is_nested = self.count(id, kind);
        if is_nested {
            self.enter(id, kind);
        }
        Ok(is_nested)
    }

    fn element(&mut self, kind: PathKind) -> bool {
        let Some(id) = self.paths.items(self.cursor.node()) else { return false };
        let is_nested = self.count(id, kind);
        if is_nested {
            self.enter(id, kind);
        }
        is_nested
    }

    fn value(&mut self, _: Span) {}

    fn leave(&mut self) {
        self.cursor.leave();
    }
}
