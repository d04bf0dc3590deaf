//! Learning the paths of an input from every record.

use super::cursor::Cursor;
use super::gaps::{Gaps, line_length};
use super::trace::{KnowsPaths, Told, walk_and_remember};
use super::walk::{Fault, Listen, Name, Span, Walk};
use crate::records::{Appearance, Guess, Holds, LineRef, NodeId, PathKind, Paths, Provisional};
use crate::run::{self, Monitor, RunError, RunOptions};
use crate::schema::REJECTED_COLUMNS;
use crate::text::{
    Block, BlockReader, DEFAULT_DEPTH_LIMIT, DEFAULT_FIELD_LIMIT, Input, InputError,
    WithoutElements,
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
    let limits = Limits::of(input);
    let begin = || Learner { limits, ..Learner::default() };
    let parts = run::fold_blocks(&*input, run, monitor, begin, |learner, block| {
        learner.block(block);
    })?;
    let paths = parts.into_iter().map(|part| part.paths).reduce(|mut whole, part| {
        whole.merge(&part);
        whole
    });
    take(input, paths.unwrap_or_default(), wanted)
}

/// Learns the paths of the first records only. Whoever reads all of them under these takes note of what others have, and
/// then [asks](confirm) whether they made other columns. Where everything was read, or elements are to be rows, the paths
/// are those of all records.
///
/// # Errors
/// Those of [`learn`].
pub fn learn_first(
    input: &mut Input,
    wanted: &[String],
    holds: Holds,
    run: &RunOptions,
    monitor: &dyn Monitor,
) -> Result<(), RunError> {
    learn_some(input, wanted, holds, FIRST_BYTES, run, monitor)
}

/// The same of so many bytes of text.
pub(super) fn learn_some(
    input: &mut Input,
    wanted: &[String],
    holds: Holds,
    first_bytes: usize,
    run: &RunOptions,
    monitor: &dyn Monitor,
) -> Result<(), RunError> {
    if !input.is_json() || input.is_stream() || input.choice().unnest.is_some() {
        return learn(input, wanted, run, monitor);
    }
    let limits = Limits::of(input);
    let mut learner = Learner { limits, ..Learner::default() };
    let mut reader = BlockReader::new(&*input, run.block_bytes);
    let mut block = Block::default();
    let mut bytes = 0;
    let is_whole = loop {
        if monitor.stopped() {
            return Err(RunError::Interrupted);
        }
        if bytes >= first_bytes {
            break false;
        }
        if !reader.next(&mut block)? {
            break true;
        }
        learner.block(&block);
        bytes += block.text().len();
    };
    drop(reader);
    let mut paths = learner.paths;
    (paths.depth_limit, paths.field_limit) = (limits.depth, limits.names);
    if is_whole || paths.len() > limits.names {
        return take(input, paths, wanted);
    }
    let provisional = Provisional::new(&paths, wanted, &REJECTED_COLUMNS, holds);
    take(input, paths.until_seen(provisional), wanted)
}

/// Bytes of text from which the first paths are learned.
const FIRST_BYTES: usize = 4 << 20;

/// Says of an input whose first records were [looked at](learn_first), and under which all of them were read once since,
/// what all of them have. Returns whether the columns are what they were; if not, what was made of them has to be made
/// again.
///
/// # Errors
/// More paths than are allowed.
pub fn confirm(input: &mut Input, wanted: &[String]) -> Result<bool, RunError> {
    let Some(provisional) = input.paths().and_then(Paths::provisional) else { return Ok(true) };
    let (paths, is_same) = provisional.finish();
    take(input, paths, wanted)?;
    Ok(is_same)
}

/// What the records of one block have, and how many of them are broken; as much is learned as of other paths.
pub(crate) fn learned(block: &Block, like: &Paths) -> (Paths, u64) {
    let limits = Limits { names: like.field_limit, depth: like.depth_limit };
    let mut learner = Learner { limits, ..Learner::default() };
    learner.block(block);
    (learner.paths, learner.broken)
}

/// Says of an input which paths all its records have.
fn take(input: &mut Input, mut paths: Paths, wanted: &[String]) -> Result<(), RunError> {
    let Limits { names, depth } = Limits::of(input);
    if paths.len() > names {
        return Err(InputError::TooManyFields { limit: names }.into());
    }
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

/// What is learned at most.
#[derive(Debug, Clone, Copy)]
struct Limits {
    /// Paths.
    names: usize,
    /// Objects and arrays within each other.
    depth: usize,
}

impl Default for Limits {
    fn default() -> Limits {
        Limits { names: DEFAULT_FIELD_LIMIT, depth: DEFAULT_DEPTH_LIMIT }
    }
}

impl Limits {
    fn of(input: &Input) -> Limits {
        let choice = input.choice();
        Limits {
            names: choice.field_limit.unwrap_or(DEFAULT_FIELD_LIMIT),
            depth: choice.depth_limit.unwrap_or(DEFAULT_DEPTH_LIMIT),
        }
    }
}

/// What one thread has learned.
#[derive(Default)]
pub(super) struct Learner {
    paths: Paths,
    cursor: Cursor,
    place: LineRef,
    /// Names of the record at hand.
    names: u32,
    /// What the record at hand shows, until it is known to be sound, and how often in a row.
    shown: Vec<(NodeId, PathKind, u64)>,
    /// What it has that only broken records had before, and where.
    found: Vec<(NodeId, Appearance)>,
    /// The node of the member or element that came last; none where there are too many.
    node: Option<NodeId>,
    /// What stands between the values of records.
    gaps: Gaps,
    limits: Limits,
    /// Records that are no objects, or whose names are not in order.
    broken: u64,
}

impl Learner {
    fn block(&mut self, block: &Block) {
        let mut rest = block.text();
        for line in block.first_line.. {
            if rest.is_empty() {
                break;
            }
            let is_worth_it = self.gaps.are_worth_it();
            if is_worth_it && let Some((_, next)) = self.gaps.follow(rest) {
                self.gaps.count((line - block.first_line) as u32);
                rest = &rest[next..];
                continue;
            }
            let (text, behind) = rest.split_at(line_length(rest));
            rest = behind.get(1..).unwrap_or_default();
            if text.trim_ascii().is_empty() {
                continue;
            }
            self.place = LineRef { part: block.file, line };
            self.names = 0;
            self.cursor.begin(0);
            self.shown.clear();
            self.found.clear();
            let depth = self.limits.depth;
            let known = self.paths.len();
            let result = if is_worth_it {
                let mut gaps = std::mem::take(&mut self.gaps);
                let listen = &mut Names { learner: self, text };
                let result = walk_and_remember(text, depth, listen, &mut gaps);
                self.gaps = gaps;
                result
            } else {
                Walk::new(text).within(depth).record(&mut Names { learner: self, text })
            };
            if result.is_err() {
                self.broken += 1;
                // Their order is that of sound records.
                (known..self.paths.len()).for_each(|node| self.paths.put(node as NodeId, None));
                continue;
            }
            // Of several places of one the first counts.
            self.found.drain(..).rev().for_each(|(node, first)| self.paths.put(node, Some(first)));
            let place = self.place;
            for (node, kind, values) in self.shown.drain(..) {
                self.paths.note(node, kind, place, values);
            }
        }
        self.gaps.take_counts(|node, kind, line, values| {
            let line = block.first_line + u64::from(line);
            self.paths.note(node, kind, LineRef { part: block.file, line }, u64::from(values));
        });
    }
}

/// A learner that is told of one record.
struct Names<'l, 't> {
    learner: &'l mut Learner,
    text: &'t [u8],
}

impl Names<'_, '_> {
    fn enter_array(&mut self, id: NodeId) {
        let Learner { paths, cursor, place, names, found, .. } = &mut *self.learner;
        let items = paths.items_or_add(id, (*place, *names));
        if paths.is_nowhere(items) {
            found.push((items, (*place, *names)));
        }
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
    fn member(&mut self, name: Name, kind: PathKind) -> Result<bool, Fault> {
        let Learner { paths, cursor, place, names, shown, found, limits, node, .. } =
            &mut *self.learner;
        *node = None;
        let id = match cursor.find(paths, self.text, name)? {
            Some(id) if paths.is_nowhere(id) => {
                found.push((id, (*place, *names)));
                id
            }
            Some(id) => id,
            // There are too many already, which is an error in the end.
            None if paths.len() > limits.names => return Ok(false),
            None => {
                cursor.check_name(self.text, name)?;
                paths.add(cursor.node(), cursor.meant(self.text, name), (*place, *names))
            }
        };
        *names += 1;
        cursor.see(id, name.start)?;
        shown.push((id, kind, 1));
        *node = Some(id);
        match kind {
            PathKind::Object => cursor.enter(id),
            PathKind::Array => self.enter_array(id),
            _ => return Ok(false),
        }
        Ok(true)
    }

    #[inline]
    fn element(&mut self, kind: PathKind) -> bool {
        let Learner { paths, cursor, shown, node, .. } = &mut *self.learner;
        *node = paths.items(cursor.node());
        // The node was added when the array was entered.
        let Some(id) = *node else { return false };
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

impl KnowsPaths for Names<'_, '_> {
    fn told(&self) -> Option<Told> {
        Some(Told { node: self.learner.node?, column: None, element_of: None })
    }
}

#[cfg(test)]
impl Learner {
    /// What the records of a block have, with gaps or without them.
    pub(super) fn of_block(block: &Block, gaps: Gaps) -> (Paths, u64) {
        let mut learner = Learner { gaps, ..Learner::default() };
        learner.block(block);
        (learner.paths, learner.broken)
    }
}
