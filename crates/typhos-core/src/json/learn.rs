//! Learning the paths of an input from every record.

use super::REJECTED_TEXT;
use super::unescape::unescape;
use super::walk::{Listen, Name, Span, Walk};
use crate::records::{Guess, JsonFault, LineRef, NodeId, PathKind, Paths};
use crate::run::{self, Monitor, RunError, RunOptions};
use crate::schema::REJECTED_COLUMNS;
use crate::text::{Block, Input, InputError};

/// The most paths that are learned: of more the names are most likely data, and each would be a column.
pub const MOST_PATHS: usize = 10_000;

/// Learns the paths of all records of an input: they are its columns from then on, in the order in which they first
/// appear, and those that a declaration wants. An input that is no JSON is left alone.
///
/// # Errors
/// An input that cannot be read, or a monitor that asks to stop.
pub fn learn(
    input: &mut Input,
    wanted: &[String],
    run: &RunOptions,
    monitor: &dyn Monitor,
) -> Result<(), RunError> {
    if !input.is_json() {
        return Ok(());
    }
    let parts = run::fold_blocks(&*input, run, monitor, Learner::default, |learner, block| {
        learner.block(block);
    })?;
    let is_over = parts.iter().any(|part| part.is_over);
    let paths = parts.into_iter().map(|part| part.paths).reduce(|mut whole, part| {
        whole.merge(&part);
        whole
    });
    if is_over || paths.as_ref().is_some_and(|paths| paths.len() > MOST_PATHS) {
        return Err(InputError::TooManyFields { limit: MOST_PATHS }.into());
    }
    input.take_paths(paths.unwrap_or_default(), wanted, &REJECTED_COLUMNS);
    Ok(())
}

/// What one thread has learned.
#[derive(Default)]
struct Learner {
    paths: Paths,
    place: LineRef,
    /// Names of the record at hand.
    names: u32,
    /// Nodes of the objects that are open, and the child that is guessed to come next in each.
    open: Vec<(NodeId, usize)>,
    node: NodeId,
    guess: usize,
    /// For each node, the record that it was seen in last.
    seen: Vec<u64>,
    record: u64,
    /// What the record at hand shows, until it is known to be sound.
    shown: Vec<(NodeId, PathKind)>,
    name: Vec<u8>,
    /// Whether there were more paths than are learned.
    is_over: bool,
}

impl Learner {
    fn block(&mut self, block: &Block) {
        let mut rest = block.text();
        for line in block.first_line.. {
            if rest.is_empty() {
                break;
            }
            let end = memchr::memchr(b'\n', rest);
            let (text, behind) =
                end.map_or((rest, &b""[..]), |end| (&rest[..end], &rest[end + 1..]));
            rest = behind;
            if text.trim_ascii().is_empty() {
                continue;
            }
            self.place = LineRef { part: block.file, line };
            self.record += 1;
            (self.names, self.node, self.guess) = (0, 0, 0);
            self.open.clear();
            self.shown.clear();
            let mut listen = Names { learner: self, text };
            if Walk::new(text).record(&mut listen).is_ok() {
                let place = self.place;
                for (node, kind) in self.shown.drain(..) {
                    self.paths.note(node, kind, place);
                }
            }
        }
    }
}

impl Learner {
    /// Takes note of a member of this node, whose name starts at a place.
    #[inline]
    fn show(&mut self, id: NodeId, start: usize, kind: PathKind) -> Result<bool, JsonFault> {
        if self.seen.len() <= id as usize {
            self.seen.resize(id as usize + 1, 0);
        }
        if std::mem::replace(&mut self.seen[id as usize], self.record) == self.record {
            return Err(JsonFault::Repeated { byte: start - 1 });
        }
        self.shown.push((id, kind));
        let is_object = kind == PathKind::Object;
        if is_object {
            self.open.push((self.node, self.guess));
            (self.node, self.guess) = (id, 0);
        }
        Ok(is_object)
    }
}

/// A learner that is told of one record.
struct Names<'l, 't> {
    learner: &'l mut Learner,
    text: &'t [u8],
}

impl Listen for Names<'_, '_> {
    #[inline]
    fn guess(&self) -> Option<&Guess> {
        let Learner { paths, node, guess, .. } = &*self.learner;
        paths.guess(paths.child_at(*node, *guess)?)
    }

    #[inline]
    fn member(&mut self, name: Name, kind: PathKind) -> Result<bool, JsonFault> {
        let Name { start, end, is_escaped, is_guessed } = name;
        let learner = &mut *self.learner;
        if is_guessed && let Some(id) = learner.paths.child_at(learner.node, learner.guess) {
            learner.names += 1;
            learner.guess += 1;
            return learner.show(id, start, kind);
        }
        let mut name = &self.text[start..end];
        if is_escaped {
            learner.name.clear();
            unescape(name, &mut learner.name);
            name = &learner.name;
        }
        if learner.node == 0 && name == REJECTED_TEXT.as_bytes() {
            return Err(JsonFault::NotMended);
        }
        let order = learner.names;
        learner.names += 1;
        let id = match learner.paths.child(learner.node, learner.guess, name) {
            Some((id, at)) => {
                learner.guess = at + 1;
                id
            }
            None if learner.paths.len() >= MOST_PATHS => {
                learner.is_over = true;
                return Ok(false);
            }
            None => learner.paths.add(learner.node, name, (learner.place, order)),
        };
        learner.show(id, start, kind)
    }

    fn value(&mut self, _: Span) {}

    fn leave(&mut self) {
        if let Some(above) = self.learner.open.pop() {
            (self.learner.node, self.learner.guess) = above;
        }
    }
}
