//! A schema bound to an input: everything conversion needs to know, worked out once.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_schema::{DataType, Field, FieldRef, Fields, Schema as ArrowSchema, SchemaRef};

use crate::records::{NodeId, Paths, Step, path_of};
use crate::schema::{ColumnDecl, ColumnSource, Diagnostic, Scalar, Schema, Type};
use crate::text::{Blocks, FileLayout, Input, InputFile, QuotedEmpty};

/// The key under which an Arrow field says which type was declared: several types share an array.
pub const TYPE_KEY: &str = "typhos.type";

/// The key under which an Arrow field of a ranked category lists its values, the lowest first, as JSON.
pub const RANKED_KEY: &str = "typhos.ranked";

/// The same of a category whose order has no meaning.
pub const VALUES_KEY: &str = "typhos.values";

/// What conversion does, column by column.
#[derive(Debug, Clone)]
pub struct Plan {
    schema: Schema,
    /// For each declared column, where it comes from.
    sources: Vec<ColumnSource>,
    source_columns: usize,
    /// How each file of the input is laid out.
    layouts: Vec<FileLayout>,
    /// The names of those files.
    files: Vec<String>,
    keeps_empty: bool,
    /// Columns of the input that nothing is made of, and that are not left out by a comment.
    undeclared: Vec<String>,
    arrow: SchemaRef,
}

impl Plan {
    /// Binds `schema` to `input`.
    ///
    /// # Errors
    /// Every declared column whose source is not in the input.
    pub fn new(schema: Schema, input: &Input) -> Result<Plan, Vec<Diagnostic>> {
        let sources = schema.bind(input)?;
        let others = schema.undeclared(&sources, input.names());
        let mut undeclared: Vec<_> =
            others.into_iter().map(|at| input.names()[at].clone()).collect();
        for (column, source) in schema.columns.iter().zip(&sources) {
            if let (Some(paths), Some(at)) = (input.paths(), source.column()) {
                add_undeclared(
                    paths,
                    paths.node(at),
                    &column.ty,
                    &input.names()[at],
                    &mut undeclared,
                );
            }
        }
        let arrow = Arc::new(ArrowSchema::new(arrow_fields(&schema.columns)));
        Ok(Plan {
            schema,
            sources,
            source_columns: input.names().len(),
            layouts: input.files().iter().map(|file| file.layout().clone()).collect(),
            files: input.files().iter().map(InputFile::name).collect(),
            keeps_empty: input.quoted_empty() == QuotedEmpty::Text,
            undeclared,
            arrow,
        })
    }

    /// The same plan with some of its columns only, by their position, in this order.
    ///
    /// # Panics
    /// If it has no such column.
    pub fn of_columns(&self, columns: &[usize]) -> Plan {
        let of = |at: &usize| (self.schema.columns[*at].clone(), self.sources[*at].clone());
        let (declared, sources) = columns.iter().map(of).unzip();
        let schema = Schema { columns: declared, ..self.schema.clone() };
        let arrow = Arc::new(self.arrow.project(columns).expect("columns of the plan"));
        Plan { schema, sources, arrow, ..self.clone() }
    }

    /// The blocks of the input that the plan was made for, as its columns want them.
    pub fn blocks<'i>(&self, input: &'i Input) -> Blocks<'i> {
        if self.numbers_records() { Blocks::counted(input) } else { input.into() }
    }

    /// Whether a column wants the numbers of records.
    pub(super) fn numbers_records(&self) -> bool {
        self.sources.iter().any(|source| matches!(source, ColumnSource::RowNumber(_)))
    }

    /// What stands between the values that a declared column is joined of.
    pub(super) fn glue(&self, column: usize) -> &str {
        self.glue_of(&self.schema.columns[column])
    }

    pub(super) fn glue_of<'c>(&self, column: &'c ColumnDecl) -> &'c str {
        match &column.glue {
            Some(glue) => glue,
            None if column.scalar() == Scalar::Geopoint => ",",
            None => "",
        }
    }

    /// The declaration.
    pub fn schema(&self) -> &Schema {
        &self.schema
    }

    /// The Arrow schema of the batches.
    pub fn arrow(&self) -> SchemaRef {
        self.arrow.clone()
    }

    /// Columns of the input that nothing is made of, and that are not left out by a comment.
    pub fn undeclared(&self) -> &[String] {
        &self.undeclared
    }

    /// The names of the files of the input.
    pub(super) fn files(&self) -> &[String] {
        &self.files
    }

    /// How a file of the input is laid out.
    pub fn layout(&self, file: u32) -> &FileLayout {
        &self.layouts[file as usize]
    }

    /// Whether the records of the input are objects of JSON.
    pub fn is_json(&self) -> bool {
        self.layouts.first().is_some_and(|layout| layout.paths.is_some())
    }

    /// Whether a blank field in quotes is a value.
    pub fn keeps_empty(&self) -> bool {
        self.keeps_empty
    }

    /// Columns of the input.
    pub fn source_columns(&self) -> usize {
        self.source_columns
    }

    /// The path in the records that a declared column comes from, where they are objects of JSON.
    pub fn path<'i>(&self, column: usize, input: &'i Input) -> Option<&'i str> {
        let at = self.sources[column].column().filter(|_| input.is_json())?;
        input.names().get(at).map(String::as_str)
    }

    /// Where each declared column comes from.
    pub fn sources(&self) -> &[ColumnSource] {
        &self.sources
    }
}

/// Adds the paths of members of objects at a node that nothing is made of under a type.
fn add_undeclared(
    paths: &Paths,
    node: Option<NodeId>,
    ty: &Type,
    path: &str,
    undeclared: &mut Vec<String>,
) {
    let Some(node) = node else { return };
    match ty {
        // Who takes the text as it is takes all that is in it.
        Type::Scalar(_) => {}
        Type::List(items) => {
            add_undeclared(paths, paths.items(node), items, &format!("{path}[]"), undeclared);
        }
        Type::Struct(fields) => {
            let fields: Vec<_> = fields.iter().map(|field| (field.path_within(), field)).collect();
            add_undeclared_members(paths, node, (&fields, 0), path, undeclared);
        }
    }
}

/// A field, and the names that lead to it.
type FieldPath<'f> = (Vec<String>, &'f ColumnDecl);

/// The same of an object that so many names of these fields have led to.
fn add_undeclared_members(
    paths: &Paths,
    node: NodeId,
    (fields, depth): (&[FieldPath<'_>], usize),
    path: &str,
    undeclared: &mut Vec<String>,
) {
    for (name, member) in paths.members(node) {
        let path = format!("{path}.{}", path_of(&[Step::Member(name.clone())]));
        let leads = |field: &&FieldPath<'_>| field.0.get(depth) == Some(&name);
        let through: Vec<_> = fields.iter().filter(leads).cloned().collect();
        match through.iter().find(|(names, _)| names.len() == depth + 1) {
            Some((_, field)) => {
                add_undeclared(paths, Some(member), &field.ty, &path, undeclared);
            }
            None if through.is_empty() => undeclared.push(path),
            None => add_undeclared_members(paths, member, (&through, depth + 1), &path, undeclared),
        }
    }
}

/// The Arrow fields of columns, or of the fields of a struct.
pub(crate) fn arrow_fields(columns: &[ColumnDecl]) -> Fields {
    columns.iter().map(arrow_field).collect()
}

/// The Arrow field of a column, and of all that nests in it.
fn arrow_field(column: &ColumnDecl) -> Field {
    let data_type = arrow_type(&column.ty, column.values.len());
    let mut field = Field::new(&column.name, data_type, !column.required)
        .with_metadata(declared(&column.ty))
        .with_dict_is_ordered(column.ranked);
    if !column.values.is_empty() && column.ty.leaf() == Some(Scalar::Category) {
        let key = if column.ranked { RANKED_KEY } else { VALUES_KEY };
        let values = serde_json::json!(column.values).to_string();
        field.metadata_mut().insert(key.to_owned(), values);
    }
    field
}

/// What a field says of the type that is declared.
fn declared(ty: &Type) -> HashMap<String, String> {
    HashMap::from([(TYPE_KEY.to_owned(), ty.to_string())])
}

/// The Arrow field of the elements of a list. `values` is the length of a category's list.
pub(super) fn item_field(items: &Type, values: usize) -> FieldRef {
    // As the specification of Parquet has it, so that what is in a file is called the same.
    let field = Field::new("element", arrow_type(items, values), true);
    Arc::new(field.with_metadata(declared(items)))
}

/// The Arrow type that holds a type. `values` is the length of a category's list.
fn arrow_type(ty: &Type, values: usize) -> DataType {
    match ty {
        Type::Scalar(scalar) => scalar.arrow(values),
        Type::List(items) => DataType::List(item_field(items, values)),
        Type::Struct(fields) => DataType::Struct(arrow_fields(fields)),
    }
}
