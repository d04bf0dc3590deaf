//! What a column holds: a scalar, a list, or a struct of further columns; and the one recursion over what nests.

use std::fmt;

use super::{ColumnDecl, ColumnFrom, Scalar, Schema, TypeError};
use crate::records::{Step, steps};

/// What a column holds.
#[derive(Debug, Clone)]
pub enum Type {
    /// One value.
    Scalar(Scalar),
    /// Any number of values of one type. What is said of them is said of the column.
    List(Box<Type>),
    /// Values by name, each declared like a column.
    Struct(Vec<ColumnDecl>),
}

impl Type {
    /// Reads the spelling of a type; a struct has no fields yet.
    ///
    /// # Errors
    /// A type that does not exist or whose numbers make no sense, with the nearest right word.
    pub fn parse(spelling: &str) -> Result<Type, TypeError> {
        let spelling = spelling.trim();
        let items = spelling.strip_prefix("list(").and_then(|rest| rest.strip_suffix(')'));
        match items {
            Some(items) => Ok(Type::List(Box::new(Type::parse(items)?))),
            None if spelling == "struct" => Ok(Type::Struct(Vec::new())),
            None => Scalar::parse(spelling).map(Type::Scalar),
        }
    }

    /// What it is where nothing nests: itself, or JSON, which any nested value can be written as.
    pub fn scalar(&self) -> Scalar {
        match self {
            Type::Scalar(scalar) => *scalar,
            Type::List(_) | Type::Struct(_) => Scalar::Json,
        }
    }

    /// What is innermost in it, inside of any lists; nothing where that is a struct.
    pub fn leaf(&self) -> Option<Scalar> {
        match self {
            Type::Scalar(scalar) => Some(*scalar),
            Type::List(items) => items.leaf(),
            Type::Struct(_) => None,
        }
    }

    /// The fields of the struct that is innermost in it, inside of any lists.
    pub fn fields(&self) -> Option<&[ColumnDecl]> {
        match self {
            Type::Scalar(_) => None,
            Type::List(items) => items.fields(),
            Type::Struct(fields) => Some(fields),
        }
    }

    /// The same, to be changed.
    pub fn fields_mut(&mut self) -> Option<&mut Vec<ColumnDecl>> {
        match self {
            Type::Scalar(_) => None,
            Type::List(items) => items.fields_mut(),
            Type::Struct(fields) => Some(fields),
        }
    }

    /// Whether there are values inside its values.
    pub fn is_nested(&self) -> bool {
        !matches!(self, Type::Scalar(_))
    }
}

impl From<Scalar> for Type {
    fn from(scalar: Scalar) -> Type {
        Type::Scalar(scalar)
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Type::Scalar(scalar) => scalar.fmt(f),
            Type::List(items) => write!(f, "list({items})"),
            Type::Struct(_) => f.write_str("struct"),
        }
    }
}

/// What is innermost in a column: the place where values are.
#[derive(Debug, Clone)]
pub struct Leaf<'s> {
    /// Where it is, from the name of the column on: `engines[].readings[].at`.
    pub path: String,
    /// What its values are.
    pub scalar: Scalar,
    /// What is declared of them.
    pub declared: &'s ColumnDecl,
    /// How many lists it is inside of.
    pub lists: usize,
}

impl ColumnDecl {
    /// The names that lead to a field from the object that it is in: its own, or those that `from` says.
    pub fn path_within(&self) -> Vec<String> {
        match &self.from {
            Some(ColumnFrom::Name(path)) => {
                let names = |steps: Vec<Step>| {
                    let name = |step| match step {
                        Step::Member(name) => Some(name),
                        Step::Items => None,
                    };
                    steps.into_iter().map(name).collect()
                };
                steps(path).and_then(names).unwrap_or_else(|| vec![path.clone()])
            }
            _ => vec![self.name.clone()],
        }
    }

    /// Its leaves, in their order; of a column that does not nest that is itself.
    pub fn leaves(&self) -> Vec<Leaf<'_>> {
        let mut leaves = Vec::new();
        self.add_leaves(&self.ty, self.name.clone(), 0, &mut leaves);
        leaves
    }

    fn add_leaves<'s>(
        &'s self,
        ty: &'s Type,
        path: String,
        lists: usize,
        leaves: &mut Vec<Leaf<'s>>,
    ) {
        match ty {
            Type::Scalar(scalar) => {
                leaves.push(Leaf { path, scalar: *scalar, declared: self, lists });
            }
            Type::List(items) => self.add_leaves(items, format!("{path}[]"), lists + 1, leaves),
            Type::Struct(fields) => {
                for field in fields {
                    let path = format!("{path}.{}", field.name);
                    field.add_leaves(&field.ty, path, lists, leaves);
                }
            }
        }
    }
}

impl Schema {
    /// The leaves of all columns, in their order.
    pub fn leaves(&self) -> Vec<Leaf<'_>> {
        self.columns.iter().flat_map(ColumnDecl::leaves).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nested_types_read_back_and_have_leaves() {
        for spelling in ["uint8", "list(date)", "list(list(decimal(9,2)))", "struct"] {
            assert_eq!(Type::parse(spelling).unwrap().to_string(), spelling);
        }
        assert!(Type::parse("list(unit8)").unwrap_err().help.unwrap().contains("uint8"));
        let field = |name: &str, ty: &str| ColumnDecl::new(name, Type::parse(ty).unwrap());
        let reading = Type::Struct(vec![field("at", "timestamp(s)"), field("rpm", "list(uint16)")]);
        let engine = ColumnDecl::new("engines", Type::List(Box::new(reading)));
        let schema = Schema { columns: vec![field("ship", "text"), engine], ..Schema::default() };
        let leaves: Vec<_> = schema
            .leaves()
            .iter()
            .map(|leaf| format!("{} {} {}", leaf.path, leaf.scalar, leaf.lists))
            .collect();
        assert_eq!(
            leaves,
            ["ship text 0", "engines[].at timestamp(s) 1", "engines[].rpm[] uint16 2"]
        );
        assert_eq!(schema.columns[1].scalar(), Scalar::Json, "where nothing nests");
    }
}
