//! Taking note of the gaps of a record while it is walked over.

use super::gaps::{Gaps, MOST_STEPS, Place, Walked};
use super::walk::{Fault, Listen, Name, Span, Walk};
use crate::records::{Guess, NodeId, PathKind, ScopeId};

/// What a listener knows of the member or element that it was told of last.
#[derive(Debug, Clone, Copy)]
pub(super) struct Told {
    pub node: NodeId,
    /// The column it is.
    pub column: Option<u32>,
    /// The scope that it is an element of, if it begins one.
    pub element_of: Option<ScopeId>,
}

/// A listener that knows of which path it was told.
pub(super) trait KnowsPaths: Listen {
    /// Of the member or element that it was told of last; `None` where that is none of the paths.
    fn told(&self) -> Option<Told>;
}

/// A listener, and what is noted beside it.
struct Traced<'l, L> {
    listen: &'l mut L,
    depth: usize,
    /// Where the gap at hand begins.
    start: usize,
    opened: Vec<(NodeId, PathKind)>,
    elements: Vec<ScopeId>,
    /// Each member that comes in the gap at hand behind another one of its object, and that one before it.
    follow: Vec<(NodeId, NodeId)>,
    /// Of each object and array that is open the member that came last.
    last: Vec<Option<NodeId>>,
    /// The value that comes next.
    place: Option<Place>,
    walked: Vec<Walked>,
    /// Whether all that it has is among the paths.
    is_known: bool,
}

/// Walks over a record, and remembers its gaps, if it is sound and all of its names are among the paths.
///
/// # Errors
/// Those of the walk.
pub(super) fn walk_and_remember<L: KnowsPaths>(
    text: &[u8],
    depth: usize,
    listen: &mut L,
    gaps: &mut Gaps,
) -> Result<(), Fault> {
    let mut traced = Traced {
        listen,
        depth,
        start: 0,
        opened: Vec::new(),
        elements: Vec::new(),
        follow: Vec::new(),
        last: vec![None],
        place: None,
        walked: Vec::new(),
        is_known: true,
    };
    Walk::new(text).within(depth).record(&mut traced)?;
    traced.end_gap(text.len(), None);
    if traced.is_known {
        gaps.remember(text, &traced.walked);
    }
    Ok(())
}

impl<L: KnowsPaths> Traced<'_, L> {
    /// Takes note of where the gap at hand ends; of a record that has more than can be followed only the first ones are noted, so
    /// that a list of millions takes no memory for each of its elements.
    fn end_gap(&mut self, end: usize, to: Option<Place>) {
        if self.walked.len() >= MOST_STEPS {
            self.opened.clear();
            self.elements.clear();
            self.follow.clear();
            return;
        }
        self.walked.push(Walked {
            start: self.start,
            end,
            to,
            opened: std::mem::take(&mut self.opened),
            elements: std::mem::take(&mut self.elements),
            follow: std::mem::take(&mut self.follow),
        });
    }

    /// Takes note of the member or element that the listener was told of.
    fn note(&mut self, is_member: bool, kind: PathKind, goes_in: bool) {
        let Some(told) = self.listen.told() else {
            self.is_known = false;
            return;
        };
        if is_member && let Some(last) = self.last.last_mut() {
            self.follow.extend(last.replace(told.node).map(|last| (last, told.node)));
        }
        self.elements.extend(told.element_of);
        if goes_in {
            self.opened.push((told.node, kind));
            self.last.push(None);
        } else {
            let depth = self.depth.saturating_sub(self.last.len()) as u32;
            self.place = Some(Place { node: told.node, column: told.column, depth });
        }
    }
}

impl<L: KnowsPaths> Listen for Traced<'_, L> {
    fn guess(&self) -> Option<&Guess> {
        self.listen.guess()
    }

    fn member(&mut self, name: Name, kind: PathKind) -> Result<bool, Fault> {
        let goes_in = self.listen.member(name, kind)?;
        self.note(true, kind, goes_in);
        Ok(goes_in)
    }

    fn element(&mut self, kind: PathKind) -> bool {
        let goes_in = self.listen.element(kind);
        self.note(false, kind, goes_in);
        goes_in
    }

    fn value(&mut self, value: Span) {
        self.listen.value(value);
        let place = self.place.take();
        self.is_known &= place.is_some();
        self.end_gap(value.start as usize, place);
        self.start = value.end as usize;
    }

    fn check(&mut self) -> Result<(), Fault> {
        self.listen.check()
    }

    fn leave(&mut self) {
        self.listen.leave();
        self.last.pop();
    }
}
