//! The paths of nested records: a tree of names, and which of them are columns.
//!
//! Records have as many values at a path as they have, in the arrays that it leads through. So a path has a scope: the
//! record, or the innermost of those arrays, whose elements it has one value for each of.

use std::collections::HashMap;
use std::sync::Arc;

use super::LineRef;
use super::path_kind::{Guess, PATH_KINDS, PathKind};
use super::provisional::Provisional;
use super::steps::{Step, path_of, steps};

/// Objects and arrays within each other that are read where nothing else is said, and at most.
pub const DEFAULT_DEPTH_LIMIT: usize = 128;

/// The number of a node of the tree; 0 is the record itself.
pub type NodeId = u32;

/// Names of one object that are searched one by one; of more they are looked up.
const FEW_NAMES: usize = 12;

/// Where a path appears: the record, and how many names come before it there.
pub(crate) type Appearance = (LineRef, u32);

/// Behind all places.
const NOWHERE: Appearance = (LineRef { part: u32::MAX, line: u64::MAX }, 0);

/// What is known of one path.
#[derive(Debug, Clone, Default)]
struct Node {
    name: Box<[u8]>,
    guess: Option<Box<Guess>>,
    parent: NodeId,
    /// Its place among the children of its parent.
    at: u32,
    children: Vec<NodeId>,
    by_name: HashMap<Box<[u8]>, NodeId>,
    /// How many values there are of each kind, and where the first stands.
    kinds: [(u64, Option<LineRef>); PATH_KINDS],
    /// Where it appeared first: the record, and how many names came before it there. Nothing, where that was in broken
    /// records alone.
    first: Option<Appearance>,
    column: Option<u32>,
    /// The node of the elements of its arrays, if it has any.
    items: Option<NodeId>,
    /// Whether it is that of elements.
    is_items: bool,
    /// The scope that its elements are, where columns are among them.
    scope: Option<u32>,
}

/// The number of a scope; 0 is the record.
pub type ScopeId = u32;

/// The paths of nested records.
#[derive(Debug, Clone)]
pub struct Paths {
    nodes: Vec<Node>,
    /// The nodes that are columns, in their order, and the scope of each.
    columns: Vec<(NodeId, ScopeId)>,
    /// How many scopes have columns.
    scopes: u32,
    /// The list whose elements are rows.
    unnest: Option<Unnest>,
    /// The most objects and arrays within each other in a record.
    pub(crate) depth_limit: usize,
    /// The most paths that are learned.
    pub(crate) field_limit: usize,
    /// What all records show, where these paths are those of the first ones only.
    provisional: Option<Arc<Provisional>>,
}

/// A list whose elements are rows, with what its record has beside it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Unnest {
    /// The node of its elements.
    items: NodeId,
    /// Whether a record without elements is no row.
    pub drops_empty: bool,
}

impl Default for Paths {
    fn default() -> Paths {
        Paths {
            nodes: vec![Node::default()],
            columns: Vec::new(),
            scopes: 1,
            unnest: None,
            depth_limit: DEFAULT_DEPTH_LIMIT,
            field_limit: usize::MAX,
            provisional: None,
        }
    }
}

impl Paths {
    /// How many paths there are, that of the record itself among them.
    pub fn len(&self) -> usize {
        self.nodes.len()
    }

    /// Whether there is no path but that of the record.
    pub fn is_empty(&self) -> bool {
        self.nodes.len() == 1
    }

    /// The child of a node by its name, which is guessed to be the one at `guess` among its children.
    #[inline]
    pub fn child(&self, parent: NodeId, guess: usize, name: &[u8]) -> Option<(NodeId, usize)> {
        let node = &self.nodes[parent as usize];
        if let Some(child) = node.children.get(guess)
            && *self.nodes[*child as usize].name == *name
        {
            return Some((*child, guess));
        }
        self.other_child(node, name)
    }

    /// The child at a place among the children of a node, where there is one.
    #[inline]
    pub fn child_at(&self, parent: NodeId, at: usize) -> Option<NodeId> {
        self.nodes[parent as usize].children.get(at).copied()
    }

    /// How the name of a node is usually written.
    #[inline]
    pub fn guess(&self, node: NodeId) -> Option<&Guess> {
        self.nodes[node as usize].guess.as_deref()
    }

    #[inline(never)]
    fn other_child(&self, node: &Node, name: &[u8]) -> Option<(NodeId, usize)> {
        if node.children.len() > FEW_NAMES {
            let child = *node.by_name.get(name)?;
            return Some((child, self.nodes[child as usize].at as usize));
        }
        let is = |child: &NodeId| *self.nodes[*child as usize].name == *name;
        let at = node.children.iter().position(is)?;
        Some((node.children[at], at))
    }

    /// Adds a child to a node.
    pub fn add(&mut self, parent: NodeId, name: &[u8], first: (LineRef, u32)) -> NodeId {
        let id = self.nodes.len() as NodeId;
        let guess = Guess::of(name).map(Box::new);
        let at = self.nodes[parent as usize].children.len() as u32;
        let first = Some(first);
        let node = Node { name: name.into(), guess, parent, at, first, ..Node::default() };
        self.nodes.push(node);
        let node = &mut self.nodes[parent as usize];
        node.children.push(id);
        node.by_name.insert(name.into(), id);
        id
    }

    /// The node of the elements of the arrays at a node.
    #[inline]
    pub fn items(&self, node: NodeId) -> Option<NodeId> {
        self.nodes[node as usize].items
    }

    /// The same, which is added where there is none yet.
    pub fn items_or_add(&mut self, parent: NodeId, first: (LineRef, u32)) -> NodeId {
        if let Some(items) = self.nodes[parent as usize].items {
            return items;
        }
        let id = self.nodes.len() as NodeId;
        self.nodes.push(Node { parent, first: Some(first), is_items: true, ..Node::default() });
        self.nodes[parent as usize].items = Some(id);
        id
    }

    /// Whether a path appeared in broken records alone so far.
    #[inline]
    pub(crate) fn is_nowhere(&self, node: NodeId) -> bool {
        self.nodes[node as usize].first.is_none()
    }

    /// Takes note of where a path appeared first; nowhere, if that was in a broken record.
    pub(crate) fn put(&mut self, node: NodeId, first: Option<Appearance>) {
        self.nodes[node as usize].first = first;
    }

    /// Takes note of so many values.
    #[inline]
    pub fn note(&mut self, node: NodeId, kind: PathKind, place: LineRef, values: u64) {
        let (count, first) = &mut self.nodes[node as usize].kinds[kind as usize];
        *count += values;
        if first.is_none_or(|first| place < first) {
            *first = Some(place);
        }
    }

    /// Which kinds of values a node has.
    pub(super) fn shown(&self, node: NodeId) -> [bool; PATH_KINDS] {
        self.nodes[node as usize].kinds.map(|(count, _)| count > 0)
    }

    /// Forgets all values, and no path.
    pub(super) fn forget_values(&mut self) {
        self.nodes.iter_mut().for_each(|node| node.kinds = Default::default());
    }

    /// Supposes a value of each kind that a node has.
    pub(super) fn suppose_values(&mut self, shown: &[[bool; PATH_KINDS]]) {
        for (node, shown) in self.nodes.iter_mut().zip(shown) {
            node.kinds = shown.map(|shown| (u64::from(shown), None));
        }
    }

    /// What all records show, where these paths are those of the first ones only.
    #[inline]
    pub fn provisional(&self) -> Option<&Provisional> {
        self.provisional.as_deref()
    }

    /// The same paths, of the first records only.
    pub fn until_seen(self, provisional: Provisional) -> Paths {
        Paths { provisional: Some(Arc::new(provisional)), ..self }
    }

    /// Adds what is known from other records.
    pub fn merge(&mut self, other: &Paths) {
        let mut ours = vec![0; other.nodes.len()];
        for (at, node) in other.nodes.iter().enumerate().skip(1) {
            let parent = ours[node.parent as usize];
            let first = node.first.unwrap_or(NOWHERE);
            let id = match self.child(parent, 0, &node.name) {
                _ if node.is_items => self.items_or_add(parent, first),
                Some((id, _)) => id,
                None => self.add(parent, &node.name, first),
            };
            ours[at] = id;
            let known = &mut self.nodes[id as usize];
            known.first = Some(known.first.map_or(first, |known| known.min(first)));
            for ((count, place), (more, theirs)) in known.kinds.iter_mut().zip(node.kinds) {
                *count += more;
                *place = match (*place, theirs) {
                    (Some(a), Some(b)) => Some(a.min(b)),
                    (a, b) => a.or(b),
                };
            }
        }
    }

    /// These paths alone, each of them the column at its place. None may be inside of another, or be another.
    pub fn of(paths: &[Vec<String>]) -> Paths {
        let mut tree = Paths::default();
        let first = (LineRef { part: 0, line: 0 }, 0);
        for (column, names) in paths.iter().enumerate() {
            let mut node = 0;
            for name in names {
                node = match tree.child(node, 0, name.as_bytes()) {
                    Some((known, _)) => known,
                    None => tree.add(node, name.as_bytes(), first),
                };
            }
            tree.nodes[node as usize].column = Some(column as u32);
            tree.columns.push((node, 0));
        }
        tree
    }

    /// Decides which paths are columns, in the order in which they first appeared, and says what these are called.
    ///
    /// A path with values that are neither objects nor arrays is a column, and what is below it is part of its values. One
    /// with nothing but objects is none, unless all of them are empty, nor is one with nothing but arrays: what is in them
    /// is looked at alike. A path in `wanted` is a column whatever it has, if nothing below it is wanted. Those in `last`,
    /// where all of them are there, come behind the others.
    pub fn settle(&mut self, wanted: &[String], last: &[&str]) -> Vec<String> {
        let wanted: Vec<NodeId> = wanted.iter().filter_map(|path| self.node_at(path)).collect();
        let mut is_above = vec![false; self.nodes.len()];
        for id in &wanted {
            let mut above = *id;
            while above != 0 {
                above = self.nodes[above as usize].parent;
                is_above[above as usize] = true;
            }
        }
        let mut columns = Vec::new();
        let mut open: Vec<NodeId> = self.nodes[0].children.clone();
        while let Some(id) = open.pop() {
            let node = &self.nodes[id as usize];
            let count = |kind: PathKind| node.kinds[kind as usize].0;
            let plain = [PathKind::Bool, PathKind::Number, PathKind::Text];
            let is_plain = plain.into_iter().any(|kind| count(kind) > 0);
            let nested = [PathKind::Object, PathKind::Array].map(|kind| count(kind) > 0);
            let is_empty = node.kinds.iter().all(|(count, _)| *count == 0);
            let [has_objects, has_arrays] = nested;
            // What stands in broken records alone is not there.
            let is_live = |child: &NodeId| {
                self.nodes[*child as usize].kinds.iter().any(|(count, _)| *count > 0)
            };
            let has_below = has_arrays || has_objects && node.children.iter().any(is_live);
            let open_inner = |open: &mut Vec<NodeId>| {
                open.extend(node.children.iter().filter(|_| has_objects));
                open.extend(node.items.filter(|_| has_arrays));
            };
            if is_empty && !node.is_items {
                // It stands in broken records alone.
            } else if is_above[id as usize] {
                open_inner(&mut open);
            } else if is_plain
                || is_empty
                || wanted.contains(&id)
                || has_objects && has_arrays
                || !has_below
            {
                columns.push(id);
            } else {
                open_inner(&mut open);
            }
        }
        let rank = |id: NodeId| {
            let node = &self.nodes[id as usize];
            let is_last = |name: &&str| node.parent == 0 && *node.name == *name.as_bytes();
            last.iter().position(is_last).map_or(0, |at| at + 1)
        };
        let has_all = columns.iter().filter(|id| rank(**id) > 0).count() == last.len();
        let rank = |id: NodeId| if has_all { rank(id) } else { 0 };
        let first = |id: NodeId| self.nodes[id as usize].first.unwrap_or(NOWHERE);
        columns.sort_by_key(|id| (rank(*id), first(*id), *id));
        self.mark(&columns);
        columns.iter().map(|id| self.path(*id)).collect()
    }

    /// Makes the elements of the lists at a path rows.
    ///
    /// # Errors
    /// A path that no record has, or where other values than lists are: the kind of the first of them, and where it is.
    pub fn unnest(
        &mut self,
        path: &str,
        drops_empty: bool,
    ) -> Result<(), Option<(PathKind, LineRef)>> {
        let node = self.node_at(path).ok_or(None)?;
        let others = [PathKind::Bool, PathKind::Number, PathKind::Text, PathKind::Object];
        let others = others.into_iter().filter_map(|kind| {
            let (_, first) = self.nodes[node as usize].kinds[kind as usize];
            first.map(|first| (kind, first))
        });
        if let Some(other) = others.min_by_key(|(_, first)| *first) {
            return Err(Some(other));
        }
        let items = self.items(node).ok_or(None)?;
        self.unnest = Some(Unnest { items, drops_empty });
        Ok(())
    }

    /// Whether a node is that of elements that are rows.
    #[inline]
    pub fn is_unnested(&self, items: NodeId) -> bool {
        self.unnest.is_some_and(|unnest| unnest.items == items)
    }

    /// The scope whose elements are rows, and what becomes of records that have none.
    pub fn unnested(&self) -> Option<(ScopeId, Unnest)> {
        let unnest = self.unnest?;
        Some((self.scope(unnest.items)?, unnest))
    }

    /// Takes note of which nodes are columns, and of their scopes.
    fn mark(&mut self, columns: &[NodeId]) {
        for node in &mut self.nodes {
            (node.column, node.scope) = (None, None);
        }
        (self.columns, self.scopes) = (Vec::new(), 1);
        if let Some(unnest) = self.unnest {
            // There are rows of elements even where no column is of them.
            self.nodes[unnest.items as usize].scope = Some(1);
            self.scopes = 2;
        }
        for (at, id) in columns.iter().enumerate() {
            self.nodes[*id as usize].column = Some(at as u32);
            let (mut above, mut scope) = (*id, None);
            while above != 0 {
                let node = &mut self.nodes[above as usize];
                if node.is_items && scope.is_none() {
                    let scopes = &mut self.scopes;
                    scope = Some(*node.scope.get_or_insert_with(|| {
                        *scopes += 1;
                        *scopes - 1
                    }));
                }
                above = node.parent;
            }
            self.columns.push((*id, scope.unwrap_or(0)));
        }
    }

    /// The node of a column; `None` where no record has it.
    pub fn node(&self, column: usize) -> Option<NodeId> {
        self.columns.get(column).map(|(node, _)| *node)
    }

    /// The members of the objects at a node that sound records have, by their names.
    pub fn members(&self, node: NodeId) -> impl Iterator<Item = (String, NodeId)> {
        let children = self.nodes[node as usize].children.iter().copied();
        children.filter_map(|id| {
            let node = &self.nodes[id as usize];
            let is_there = node.kinds.iter().any(|(count, _)| *count > 0);
            is_there.then(|| (String::from_utf8_lossy(&node.name).into_owned(), id))
        })
    }

    /// How many scopes have columns.
    pub fn scopes(&self) -> usize {
        self.scopes as usize
    }

    /// Whether a column has as many values in a row as a list has elements.
    pub fn is_inside_list(&self, column: usize) -> bool {
        let scope = self.scope_of(column);
        scope > 0 && self.unnested().is_none_or(|(unnested, _)| scope != unnested)
    }

    /// The scope of a column.
    pub fn scope_of(&self, column: usize) -> ScopeId {
        // A column that is wanted, and that no record has, is one of the record.
        self.columns.get(column).map_or(0, |(_, scope)| *scope)
    }

    /// The scope that the elements of a node are, where columns are among them.
    #[inline]
    pub fn scope(&self, items: NodeId) -> Option<ScopeId> {
        self.nodes[items as usize].scope
    }

    /// Whether a path is one of these, or leads through the values of a column.
    pub fn leads_to(&self, path: &str) -> bool {
        let Some(steps) = steps(path) else { return false };
        let mut node = 0;
        for step in &steps {
            if self.nodes[node as usize].column.is_some() {
                return true;
            }
            match self.step(node, step) {
                Some(next) => node = next,
                None => return false,
            }
        }
        true
    }

    /// Where a step leads to from a node.
    fn step(&self, node: NodeId, step: &Step) -> Option<NodeId> {
        match step {
            Step::Member(name) => self.child(node, 0, name.as_bytes()).map(|(child, _)| child),
            Step::Items => self.items(node),
        }
    }

    /// The node that a path leads to.
    fn node_at(&self, path: &str) -> Option<NodeId> {
        steps(path)?.iter().try_fold(0, |node, step| self.step(node, step))
    }

    /// The path of a node.
    fn path(&self, id: NodeId) -> String {
        let mut steps = Vec::new();
        let mut at = id;
        while at != 0 {
            let node = &self.nodes[at as usize];
            let name = || String::from_utf8_lossy(&node.name).into_owned();
            steps.push(if node.is_items { Step::Items } else { Step::Member(name()) });
            at = node.parent;
        }
        steps.reverse();
        path_of(&steps)
    }

    /// The column that a node is.
    #[inline]
    pub fn column(&self, node: NodeId) -> Option<usize> {
        self.nodes[node as usize].column.map(|column| column as usize)
    }

    /// How many values of a kind a column has, and where the first stands.
    pub fn kind(&self, column: usize, kind: PathKind) -> (u64, Option<LineRef>) {
        // A column that is wanted, and that no record has, is none of these.
        self.columns
            .get(column)
            .map_or((0, None), |(id, _)| self.nodes[*id as usize].kinds[kind as usize])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn place(line: u64) -> LineRef {
        LineRef { part: 0, line }
    }

    /// Adds a record that is one value at a path.
    fn learn(paths: &mut Paths, line: u64, path: &[&str], kind: PathKind) {
        let mut node = 0;
        for (at, name) in path.iter().enumerate() {
            node = match paths.child(node, 0, name.as_bytes()) {
                Some((node, _)) => node,
                None => paths.add(node, name.as_bytes(), (place(line), at as u32)),
            };
            let is_last = at + 1 == path.len();
            paths.note(node, if is_last { kind } else { PathKind::Object }, place(line), 1);
        }
    }

    #[test]
    fn what_has_values_is_a_column_and_names_are_written_without_doubt() {
        let mut paths = Paths::default();
        learn(&mut paths, 1, &["a", "b"], PathKind::Number);
        learn(&mut paths, 2, &["a"], PathKind::Null);
        learn(&mut paths, 3, &["x.y", ""], PathKind::Text);
        learn(&mut paths, 4, &["mixed", "in"], PathKind::Text);
        learn(&mut paths, 5, &["mixed"], PathKind::Number);
        learn(&mut paths, 6, &["empty"], PathKind::Object);
        assert_eq!(paths.settle(&[], &[]), ["a.b", "\"x.y\".\"\"", "mixed", "empty"]);
        assert_eq!(paths.kind(2, PathKind::Object), (1, Some(place(4))));
        assert_eq!(paths.kind(2, PathKind::Number), (1, Some(place(5))));
    }

    proptest! {
        /// Learned in parts, in any order: the same columns.
        #[test]
        fn parts_make_the_whole(
            records in proptest::collection::vec((proptest::collection::vec("[a-c]", 1..4), 0usize..6), 0..40),
            cut in 0usize..40,
        ) {
            let kinds = PathKind::ALL;
            let of = |records: &[(u64, &(Vec<String>, usize))]| {
                let mut paths = Paths::default();
                for (line, (path, kind)) in records {
                    let path: Vec<&str> = path.iter().map(String::as_str).collect();
                    learn(&mut paths, *line, &path, kinds[*kind]);
                }
                paths
            };
            let records: Vec<_> = (1..).zip(&records).collect();
            let (first, second) = records.split_at(cut.min(records.len()));
            let mut whole = of(&records);
            let (mut a, mut b) = (of(first), of(second));
            let later = b.clone();
            b.merge(&a);
            a.merge(&later);
            let names = whole.settle(&[], &[]);
            prop_assert_eq!(a.settle(&[], &[]), names.clone());
            prop_assert_eq!(b.settle(&[], &[]), names.clone());
            for column in 0..names.len() {
                for kind in kinds {
                    prop_assert_eq!(a.kind(column, kind), whole.kind(column, kind));
                    prop_assert_eq!(b.kind(column, kind), whole.kind(column, kind));
                }
            }
        }
    }
}
