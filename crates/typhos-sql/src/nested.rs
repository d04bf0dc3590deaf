//! Questions about values inside of values: each list is a table of its elements, of which the leaves are columns.

use typhos_core::schema::{ColumnDecl, Type};

/// What can be asked about at once: the leaves of structs in one table, which are rows of a column or elements of a
/// list.
#[derive(Debug, Clone, Default)]
pub struct Part {
    /// What is selected from.
    pub from: String,
    /// Where the list is among the facts of its column, whose elements the rows are; nothing for the rows themselves.
    pub list: Option<Vec<usize>>,
    /// The leaves.
    pub leaves: Vec<PartLeaf>,
}

/// A leaf of a part.
#[derive(Debug, Clone)]
pub struct PartLeaf {
    /// What it is asked as.
    pub declared: ColumnDecl,
    /// Its value, as an expression.
    pub value: String,
    /// Where it is among the facts of its column.
    pub facts: Vec<usize>,
}

/// A leaf of JSON as it is asked about.
#[derive(Debug, Clone)]
pub struct Leaf {
    /// As what.
    pub declared: ColumnDecl,
    /// Its value, as an expression.
    pub value: String,
}

/// How a language gets at what is inside of values.
pub(crate) trait Nest {
    /// A table of the elements of a list, with what they stand beside, and their name there. `is_inside` says that the
    /// list is of the kind that holds what is nested deeper.
    fn elements(&self, from: &str, list: &str, name: &str, is_inside: bool) -> String;

    /// The field of a struct, by its name and place.
    fn member(&self, value: &str, name: &str, at: usize) -> String;

    /// A value as one that is asked about; `None` where it cannot be.
    fn leaf(&self, value: &str, leaf: &ColumnDecl) -> Option<Leaf>;
}

/// The parts of a column that nests. `native` is what the elements are, where it is a list of plain values.
pub(crate) fn parts(
    nest: &dyn Nest,
    column: &ColumnDecl,
    native: Option<ColumnDecl>,
    quoted: &str,
    table: &str,
) -> Vec<Part> {
    let mut parts = vec![Part { from: table.to_owned(), ..Part::default() }];
    let mut walk = Walk { nest, parts: &mut parts, native: native.as_ref(), names: 0 };
    walk.value((column, &column.name), &column.ty, quoted, Vec::new(), 0);
    // Where there is no leaf there is nothing to ask, but for how many elements a list has.
    parts.retain(|part| part.list.is_some() || !part.leaves.is_empty());
    parts
}

struct Walk<'w> {
    nest: &'w dyn Nest,
    parts: &'w mut Vec<Part>,
    native: Option<&'w ColumnDecl>,
    names: usize,
}

impl Walk<'_> {
    /// A value of the rows of a part, at a path from the name of the column on.
    fn value(
        &mut self,
        (column, path): (&ColumnDecl, &str),
        ty: &Type,
        value: &str,
        facts: Vec<usize>,
        part: usize,
    ) {
        match ty {
            Type::Scalar(_) => {
                let leaf = match self.native {
                    Some(items) if part > 0 => {
                        Some(Leaf { declared: items.clone(), value: value.to_owned() })
                    }
                    _ => self.nest.leaf(value, column),
                };
                if let Some(Leaf { declared, value }) = leaf {
                    let name = path.to_owned();
                    let declared = ColumnDecl { name, required: false, ..declared };
                    self.parts[part].leaves.push(PartLeaf { declared, value, facts });
                }
            }
            Type::List(items) => {
                self.names += 1;
                let name = format!("v{}", self.names);
                let is_inside = self.native.is_none() || part > 0;
                let from = self.nest.elements(&self.parts[part].from, value, &name, is_inside);
                self.parts.push(Part { from, list: Some(facts.clone()), leaves: Vec::new() });
                let inner = ColumnDecl { ty: (**items).clone(), ..column.clone() };
                let (at, path) = (self.parts.len() - 1, format!("{path}[]"));
                self.value((&inner, &path), items, &name, below(&facts, 0), at);
            }
            Type::Struct(fields) => {
                for (at, field) in fields.iter().enumerate() {
                    let value = self.nest.member(value, &field.name, at);
                    let path = format!("{path}.{}", field.name);
                    self.value((field, &path), &field.ty, &value, below(&facts, at), part);
                }
            }
        }
    }
}

fn below(facts: &[usize], at: usize) -> Vec<usize> {
    facts.iter().copied().chain([at]).collect()
}
