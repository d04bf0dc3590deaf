//! Where a walk stands in the tree of paths, record after record.

use super::REJECTED_TEXT;
use super::unescape::unescape;
use super::walk::{Fault, Name};
use crate::records::{Guess, JsonFault, NodeId, Paths, ScopeId};

/// Where a walk stands in one object or array.
#[derive(Debug, Clone, Copy, Default)]
struct Position {
    node: NodeId,
    /// The child of the node that is guessed to come next.
    guess: usize,
    /// The object whose names are not to come twice.
    object: u64,
    /// The innermost scope, and which of its elements it is.
    scope: (ScopeId, u32),
}

/// Where a walk stands: in which object, and what was seen of the record at hand.
#[derive(Debug, Default)]
pub(super) struct Cursor {
    at: Position,
    /// The objects and arrays that are open above it.
    open: Vec<Position>,
    /// For each node, the object that it was seen in last.
    seen: Vec<u64>,
    /// How many objects there were whose names are their own: records, and elements of arrays.
    objects: u64,
    /// The last name with an escape in it, as it is meant.
    unescaped: Vec<u8>,
    /// Whether it walks over values and not over records.
    is_in_value: bool,
}

impl Cursor {
    /// One that walks over values inside of records, where no name stands for a record that was set aside.
    pub fn in_values() -> Cursor {
        Cursor { is_in_value: true, ..Cursor::default() }
    }

    /// Begins a record, which is at this place among those of the slice.
    pub fn begin(&mut self, row: u32) {
        self.open.clear();
        self.objects += 1;
        self.at = Position { node: 0, guess: 0, object: self.objects, scope: (0, row) };
    }

    /// The object or array that is walked over.
    pub fn node(&self) -> NodeId {
        self.at.node
    }

    /// The innermost scope, and which of its elements is walked over.
    #[inline]
    pub fn scope(&self) -> (ScopeId, u32) {
        self.at.scope
    }

    /// How the name is usually written that most likely comes next.
    #[inline]
    pub fn guess<'p>(&self, paths: &'p Paths) -> Option<&'p Guess> {
        paths.guess(paths.child_at(self.at.node, self.at.guess)?)
    }

    /// The node of a name in the object at hand; `None` where it is not among the paths.
    ///
    /// # Errors
    /// The name of a record that was set aside and was not mended.
    #[inline]
    pub fn find(
        &mut self,
        paths: &Paths,
        text: &[u8],
        name: Name,
    ) -> Result<Option<NodeId>, Fault> {
        if name.is_guessed
            && let Some(id) = paths.child_at(self.at.node, self.at.guess)
        {
            self.at.guess += 1;
            return Ok(Some(id));
        }
        if name.is_escaped {
            self.unescaped.clear();
            unescape(&text[name.start..name.end], &mut self.unescaped);
        }
        let meant = self.meant(text, name);
        if self.at.node == 0 && !self.is_in_value && meant == REJECTED_TEXT.as_bytes() {
            return Err(JsonFault::NotMended.into());
        }
        let found = paths.child(self.at.node, self.at.guess, meant);
        if let Some((_, at)) = found {
            self.at.guess = at + 1;
        }
        Ok(found.map(|(id, _)| id))
    }

    /// Whether a name that was not found can be one.
    ///
    /// # Errors
    /// One that is not valid UTF-8: it could not be asked for.
    #[cold]
    pub fn check_name(&self, text: &[u8], name: Name) -> Result<(), Fault> {
        match std::str::from_utf8(self.meant(text, name)) {
            Ok(_) => Ok(()),
            Err(_) => Err(JsonFault::Name { byte: name.start - 1 }.into()),
        }
    }

    /// The name that was looked for last, as it is meant.
    pub fn meant<'a>(&'a self, text: &'a [u8], name: Name) -> &'a [u8] {
        if name.is_escaped { &self.unescaped } else { &text[name.start..name.end] }
    }

    /// Takes note that the record has a node, whose name starts at a place.
    ///
    /// # Errors
    /// A node that the record has already.
    #[inline]
    pub fn see(&mut self, id: NodeId, start: usize) -> Result<(), Fault> {
        if self.seen.len() <= id as usize {
            self.seen.resize(id as usize + 1, 0);
        }
        if std::mem::replace(&mut self.seen[id as usize], self.at.object) == self.at.object {
            return Err(JsonFault::Repeated { byte: start - 1 }.into());
        }
        Ok(())
    }

    /// Goes into the object or array that a node is.
    #[inline]
    pub fn enter(&mut self, id: NodeId) {
        self.open.push(self.at);
        (self.at.node, self.at.guess) = (id, 0);
    }

    /// Goes into an element of an array, the one at a place of a scope, whose names are its own.
    #[inline]
    pub fn enter_element(&mut self, id: NodeId, scope: (ScopeId, u32)) {
        self.open.push(self.at);
        self.objects += 1;
        self.at = Position { node: id, guess: 0, object: self.objects, scope };
    }

    /// Comes out of it.
    #[inline]
    pub fn leave(&mut self) {
        if let Some(above) = self.open.pop() {
            self.at = above;
        }
    }
}
