//! Learning the paths of an input from every record.

use super::cursor::Cursor;
use super::walk::{Listen, Name, Span, Walk};
use crate::records::{Guess, JsonFault, LineRef, NodeId, PathKind, Paths};
use crate::run::{self, Monitor, RunError, RunOptions};
use crate::schema::REJECTED_COLUMNS;
use crate::text::{
    Block, DEFAULT_DEPTH_LIMIT, DEFAULT_FIELD_LIMIT, Input, InputError, WithoutElements,
};

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
    let most = input.choice().field_limit.unwrap_or(DEFAULT_FIELD_LIMIT);
    let depth = input.choice().depth_limit.unwrap_or(DEFAULT_DEPTH_LIMIT);
    let begin = || Learner { most, depth, ..Learner::default() };
    let parts = run::fold_blocks(&*input, run, monitor, begin, |learner, block| {
        learner.block(block);
    })?;
    let is_over = parts.iter().any(|part| part.is_over);
    let paths = parts.into_iter().map(|part| part.paths).reduce(|mut whole, part| {
        whole.merge(&part);
        whole
    });
    if is_over || paths.as_ref().is_some_and(|paths| paths.len() > most) {
        return Err(InputError::TooManyFields { limit: most }.into());
    }
    let mut paths = paths.unwrap_or_default();
    paths.depth_limit = depth;
    if let Some(path) = &input.choice().unnest {
        let drops = input.choice().without_elements == Some(WithoutElements::Drop);
        paths.unnest(path, drops).map_err(|other| InputError::NotAList {
            path: path.clone(),
            other: other.map(|(kind, line)| {
                let file = input.files()[line.part as usize].name();
                format!("{file}:{} has {} there", line.line, kind.name())
            }),
        })?;
    }
    input.take_paths(paths, wanted, &REJECTED_COLUMNS);
    Ok(())
}

/// What one thread has learned.
#[derive(Default)]
struct Learner {
    paths: Paths,
    cursor: Cursor,
    place: LineRef,
    /// Names of the record at hand.
    names: u32,
    /// What the record at hand shows, until it is known to be sound, and how often in a row.
    shown: Vec<(NodeId, PathKind, u64)>,
    /// Whether there were more paths than are learned.
    is_over: bool,
    /// The most paths that are learned.
    most: usize,
    /// Objects and arrays within each other that are read.
    depth: usize,
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
            self.names = 0;
            self.cursor.begin(0);
            self.shown.clear();
            let depth = self.depth;
            let mut listen = Names { learner: self, text };
            if Walk::new(text).within(depth).record(&mut listen).is_ok() {
                let place = self.place;
                for (node, kind, values) in self.shown.drain(..) {
                    self.paths.note(node, kind, place, values);
                }
            }
        }
    }
}

/// A learner that is told of one record.
struct Names<'l, 't> {
    learner: &'l mut Learner,
    text: &'t [u8],
}

impl Names<'_, '_> {
    fn enter_array(&mut self, id: NodeId) {
        let Learner { paths, cursor, place, names, .. } = &mut *self.learner;
        paths.items_or_add(id, (*place, *names));
        *names += 1;
        cursor.enter(id);
    }
}

impl Listen for Names<'_, '_> {
    #[inline]
    fn guess(&self) -> Option<&Guess> {
        self.learner.cursor.guess(&self.learner.paths)
    }

    #[inline]
    fn member(&mut self, name: Name, kind: PathKind) -> Result<bool, JsonFault> {
        let Learner { paths, cursor, place, names, shown, is_over, most, .. } = &mut *self.learner;
        let id = match cursor.find(paths, self.text, name)? {
            Some(id) => id,
            None if paths.len() > *most => {
                *is_over = true;
                return Ok(false);
            }
            None => {
                cursor.check_name(self.text, name)?;
                paths.add(cursor.node(), cursor.meant(self.text, name), (*place, *names))
            }
        };
        *names += 1;
        cursor.see(id, name.start)?;
        shown.push((id, kind, 1));
        match kind {
            PathKind::Object => cursor.enter(id),
            PathKind::Array => self.enter_array(id),
            _ => return Ok(false),
        }
        Ok(true)
    }

    #[inline]
    fn element(&mut self, kind: PathKind) -> bool {
        let Learner { paths, cursor, shown, .. } = &mut *self.learner;
        // The node was added when the array was entered.
        let Some(id) = paths.items(cursor.node()) else { return false };
        match shown.last_mut() {
            Some((node, known, values)) if (*node, *known) == (id, kind) => *values += 1,
            _ => shown.push((id, kind, 1)),
        }
        match kind {
            PathKind::Object => cursor.enter_element(id, (0, 0)),
            PathKind::Array => self.enter_array(id),
            _ => return false,
        }
        true
    }

    fn value(&mut self, _: Span) {}

    fn leave(&mut self) {
        self.learner.cursor.leave();
    }
}
