//! Columns that nest: the leaves of a draft, put back into the lists and structs that they were found in.

use super::Decision;
use super::declare::declare;
use super::names::{Names, Naming};
use crate::records::{Step, path_of};
use crate::schema::{ColumnDecl, ColumnFrom, Type};

/// Leaves by their paths.
#[derive(Debug, Default)]
pub(super) struct Tree {
    /// The leaf that it is: its place among the columns of the input.
    leaf: Option<usize>,
    /// The members of objects, in the order in which they came.
    members: Vec<(String, Tree)>,
    /// The elements of arrays.
    items: Option<Box<Tree>>,
}

/// A column of a draft, and what to say of it.
pub(super) struct Nested {
    /// Its declaration, under the name that it is known by where nothing else is wished.
    pub column: ColumnDecl,
    /// What it comes from.
    pub source: String,
    /// What to say of it.
    pub comment: String,
    /// The place of its first leaf.
    pub position: usize,
}

/// How leaves become columns.
pub(super) struct Nesting<'d> {
    /// What was decided about each leaf.
    pub decisions: &'d [Decision],
    /// Texts that mean "no value" in all columns.
    pub absent: &'d [String],
    /// What fields are called.
    pub naming: Naming,
    /// Whether objects outside of lists are columns too, and not what is in them.
    pub keeps_objects: bool,
    /// The list whose elements are rows, where there is one.
    pub unnest: Option<Vec<Step>>,
}

impl Tree {
    /// Adds a leaf.
    pub fn add(&mut self, path: &[Step], leaf: usize) {
        let Some((step, rest)) = path.split_first() else {
            self.leaf = Some(leaf);
            return;
        };
        let next = match step {
            Step::Items => self.items.get_or_insert_default(),
            Step::Member(name) => {
                let at = self.members.iter().position(|(known, _)| known == name);
                let at = at.unwrap_or_else(|| {
                    self.members.push((name.clone(), Tree::default()));
                    self.members.len() - 1
                });
                &mut self.members[at].1
            }
        };
        next.add(rest, leaf);
    }

    fn first_leaf(&self) -> Option<usize> {
        let inner = self.members.iter().map(|(_, tree)| tree);
        let inner = inner.chain(self.items.as_deref()).filter_map(Tree::first_leaf);
        self.leaf.into_iter().chain(inner).min()
    }
}

impl Nesting<'_> {
    /// The columns that leaves make, in the order of their first ones.
    pub fn columns(&self, tree: &Tree) -> Vec<Nested> {
        let mut columns = Vec::new();
        self.add_columns(tree, &mut Vec::new(), &mut columns);
        columns.sort_by_key(|nested| nested.position);
        columns
    }

    fn add_columns(&self, tree: &Tree, path: &mut Vec<Step>, columns: &mut Vec<Nested>) {
        for (name, inner) in &tree.members {
            path.push(Step::Member(name.clone()));
            match &inner.items {
                Some(items) if self.unnest.as_ref() == Some(path) => {
                    path.push(Step::Items);
                    self.add_column(items, path, columns);
                    path.pop();
                }
                _ => self.add_column(inner, path, columns),
            }
            path.pop();
        }
    }

    /// Adds what is at a path: the members of an object, or a column.
    fn add_column(&self, tree: &Tree, path: &mut Vec<Step>, columns: &mut Vec<Nested>) {
        let is_object = tree.leaf.is_none() && tree.items.is_none();
        // What leads to rows is none of them.
        let leads = self.unnest.as_ref().is_some_and(|list| list.starts_with(path));
        if is_object && (!self.keeps_objects || leads) {
            self.add_columns(tree, path, columns);
        } else if let Some(position) = tree.first_leaf() {
            let known = path.iter().filter(|step| **step != Step::Items).cloned();
            let name = path_of(&known.collect::<Vec<_>>());
            let (column, comment) = self.column(name, tree);
            columns.push(Nested { column, source: path_of(path), comment, position });
        }
    }

    /// What is at one path, under a name.
    fn column(&self, name: String, tree: &Tree) -> (ColumnDecl, String) {
        if let Some(leaf) = tree.leaf {
            let decision = &self.decisions[leaf];
            let comment = decision.clauses().join("; ");
            return (declare(name, decision, self.absent), comment);
        }
        if let Some(items) = &tree.items {
            let (items, comment) = self.column(name, items);
            let comment = match comment.is_empty() || items.ty.fields().is_some() {
                true => comment,
                false => format!("elements: {comment}"),
            };
            // Whether there is a list nobody counted.
            let ty = Type::List(Box::new(items.ty.clone()));
            return (ColumnDecl { ty, required: false, ..items }, comment);
        }
        let mut names = Names::default();
        let mut fields = Vec::new();
        for (member, inner) in &tree.members {
            let name = names.unused(&self.naming.name_of(member));
            let (mut field, comment) = self.column(name, inner);
            if field.name != *member {
                field.from = Some(ColumnFrom::Name(path_of(&[Step::Member(member.clone())])));
            }
            field.evidence = Some(comment).filter(|comment| !comment.is_empty());
            fields.push(field);
        }
        // What is always there stands in something that is.
        let required = fields.iter().any(|field| field.required);
        let column = ColumnDecl { required, ..ColumnDecl::new(name, Type::Struct(fields)) };
        (column, String::new())
    }
}
