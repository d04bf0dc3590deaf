//! Where a walk stands in the tree of paths, record after record.

use super::REJECTED_TEXT;
use super::unescape::unescape;
use super::walk::Name;
use crate::records::{Guess, JsonFault, NodeId, Paths};

/// Where a walk stands: in which object, and what was seen of the record at hand.
#[derive(Debug, Default)]
pub(super) struct Cursor {
    node: NodeId,
    /// The child of the node that is guessed to come next.
    guess: usize,
    /// The objects that are open above it, each with its own guess.
    open: Vec<(NodeId, usize)>,
    /// For each node, the record that it was seen in last.
    seen: Vec<u64>,
    record: u64,
    /// The last name with an escape in it, as it is meant.
    unescaped: Vec<u8>,
}

impl Cursor {
    /// Begins the next record.
    pub fn begin(&mut self) {
        (self.node, self.guess) = (0, 0);
        self.open.clear();
        self.record += 1;
    }

    /// The object that is walked over.
    pub fn node(&self) -> NodeId {
        self.node
    }

    /// How the name is usually written that most likely comes next.
    #[inline]
    pub fn guess<'p>(&self, paths: &'p Paths) -> Option<&'p Guess> {
        paths.guess(paths.child_at(self.node, self.guess)?)
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
    ) -> Result<Option<NodeId>, JsonFault> {
        if name.is_guessed
            && let Some(id) = paths.child_at(self.node, self.guess)
        {
            self.guess += 1;
            return Ok(Some(id));
        }
        if name.is_escaped {
            self.unescaped.clear();
            unescape(&text[name.start..name.end], &mut self.unescaped);
        }
        let meant = self.meant(text, name);
        if self.node == 0 && meant == REJECTED_TEXT.as_bytes() {
            return Err(JsonFault::NotMended);
        }
        let found = paths.child(self.node, self.guess, meant);
        if let Some((_, at)) = found {
            self.guess = at + 1;
        }
        Ok(found.map(|(id, _)| id))
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
    pub fn see(&mut self, id: NodeId, start: usize) -> Result<(), JsonFault> {
        if self.seen.len() <= id as usize {
            self.seen.resize(id as usize + 1, 0);
        }
        if std::mem::replace(&mut self.seen[id as usize], self.record) == self.record {
            return Err(JsonFault::Repeated { byte: start - 1 });
        }
        Ok(())
    }

    /// Goes into the object that a node is.
    #[inline]
    pub fn enter(&mut self, id: NodeId) {
        self.open.push((self.node, self.guess));
        (self.node, self.guess) = (id, 0);
    }

    /// Comes out of it.
    #[inline]
    pub fn leave(&mut self) {
        if let Some(above) = self.open.pop() {
            (self.node, self.guess) = above;
        }
    }
}
