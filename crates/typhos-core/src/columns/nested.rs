//! The cells of a column of any type, and of those that nest: lists and structs, each over the cells of what is in it.
//!
//! A value is the text of a JSON array or object, wherever it comes from. What is inside of it is read as the leaves
//! of JSON lines are: a null and a member that is not there are absent, a text means its contents, everything else its
//! digits or letters. A misfit inside is one of the whole value, and says where in it ([`Within`]); where its field
//! declares `misfit = "null"`, that field alone is null.

use std::sync::Arc;

use arrow_array::{ArrayRef, ListArray, StructArray};
use arrow_buffer::{NullBufferBuilder, OffsetBuffer, ScalarBuffer};
use arrow_schema::{FieldRef, Fields};

use super::absent::{Absent, Around};
use super::cells::{Boxed, Cells, Visit};
use super::plan::{arrow_fields, item_field};
use super::reason::{Reason, Within};
use super::scalars::with_scalars;
use crate::json::{Inner, MemberReader, each_item};
use crate::readings::trim;
use crate::records::{JsonFault, PathKind};
use crate::schema::{ColumnDecl, Misfit, Rounding, Type};

/// Makes the cells of a declared column and hands them to `visitor`.
///
/// # Errors
/// A bound that is not a value of the type.
pub(super) fn with_cells<V: Visit>(
    column: &ColumnDecl,
    around: &Around<'_>,
    visitor: V,
) -> Result<V::Out, String> {
    match &column.ty {
        Type::Scalar(scalar) => with_scalars(column, *scalar, visitor),
        Type::List(items) => Ok(visitor.visit(Lists::new(column, items, around)?)),
        Type::Struct(fields) => Ok(visitor.visit(Structs::new(fields, around)?)),
    }
}

/// What is inside of a column: the elements of a list, or a field of a struct.
struct Nested {
    cells: Box<dyn Cells>,
    absent: Absent,
    keeps_empty: bool,
    keeps_space: bool,
    required: bool,
    default: Option<Vec<u8>>,
    misfit: Misfit,
    /// Whether reading may change values, as declared.
    changes: bool,
}

impl Nested {
    fn new(column: &ColumnDecl, around: &Around<'_>) -> Result<Nested, String> {
        Ok(Nested {
            cells: with_cells(column, around, Boxed)?,
            absent: around.absent_of(column),
            keeps_empty: around.keeps_empty,
            keeps_space: column.ty.leaf().is_some_and(|leaf| leaf.is_text()),
            required: column.required,
            default: column.default.as_ref().map(|text| text.clone().into_bytes()),
            misfit: column.misfit,
            changes: changes(column),
        })
    }

    /// Adds a value, or none. On an error nothing is appended.
    fn push(&mut self, inner: Option<Inner<'_>>, nulled: &mut Vec<Reason>) -> Result<(), Reason> {
        let (value, is_null, is_text) = match inner {
            None => (&b""[..], true, false),
            Some(Inner { kind, value }) => (value, kind == PathKind::Null, kind == PathKind::Text),
        };
        let result = if !is_null && self.keeps_empty && is_text && trim(value).is_empty() {
            self.cells.push(value)
        } else if is_null || self.absent.is(value) {
            match &self.default {
                Some(default) => self.cells.push(default),
                None if self.required => Err(Reason::Absent),
                None => {
                    self.cells.push_null();
                    Ok(())
                }
            }
        } else {
            self.cells.push(if self.keeps_space { value } else { trim(value) })
        };
        self.cells.hand_on_nulled(&mut |reason| nulled.push(reason));
        let reason = match result {
            Ok(()) => return Ok(()),
            Err(reason) => Within::of(reason, value, self.misfit),
        };
        match self.misfit {
            Misfit::Null if reason.policy == Misfit::Null => {
                self.cells.push_null();
                nulled.push(Reason::Within(Box::new(reason)));
                Ok(())
            }
            _ => Err(Reason::Within(Box::new(reason))),
        }
    }
}

/// Whether values of a column may be changed, as declared.
fn changes(column: &ColumnDecl) -> bool {
    let is_here = column.rounding != Rounding::Exact || column.clip;
    is_here || column.ty.fields().is_some_and(|fields| fields.iter().any(changes))
}

/// Lists of values of one type.
pub(super) struct Lists {
    items: Nested,
    field: FieldRef,
    offsets: Vec<i32>,
    validity: NullBufferBuilder,
    nulled: Vec<Reason>,
    changed: u64,
    scratch: Vec<u8>,
}

impl Lists {
    pub fn new(column: &ColumnDecl, items: &Type, around: &Around<'_>) -> Result<Lists, String> {
        // What is said of a list is said of its elements, but for whether it is there.
        let declared =
            ColumnDecl { ty: items.clone(), required: false, default: None, ..column.clone() };
        Ok(Lists {
            items: Nested::new(&declared, around)?,
            field: item_field(items, column.values.len()),
            offsets: vec![0],
            validity: NullBufferBuilder::new(0),
            nulled: Vec::new(),
            changed: 0,
            scratch: Vec::new(),
        })
    }

    fn last(&self) -> i32 {
        self.offsets.last().copied().unwrap_or_default()
    }
}

impl From<JsonFault> for Reason {
    fn from(fault: JsonFault) -> Reason {
        Reason::NotNested(fault)
    }
}

impl Cells for Lists {
    fn push(&mut self, value: &[u8]) -> Result<(), Reason> {
        let Lists { items, nulled, scratch, .. } = self;
        let mut count = 0;
        let result = each_item(value, scratch, |item| {
            let before = nulled.len();
            let result = items.push(Some(item), nulled);
            let place = |reason: Reason| reason.inside(&format!("[{count}]"));
            for reason in &mut nulled[before..] {
                *reason = place(std::mem::replace(reason, Reason::Absent));
            }
            result.map_err(place)?;
            count += 1;
            Ok(())
        });
        let changed = if items.changes { items.cells.changed() } else { 0 };
        if let Err(reason) = result {
            self.nulled.clear();
            let last = self.last();
            self.items.cells.truncate(last as usize);
            return Err(reason);
        }
        self.changed += changed;
        self.offsets.push(self.last() + count);
        self.validity.append_non_null();
        Ok(())
    }

    fn push_null(&mut self) {
        self.offsets.push(self.last());
        self.validity.append_null();
    }

    fn truncate(&mut self, rows: usize) {
        self.offsets.truncate(rows + 1);
        self.validity.truncate(rows);
        self.items.cells.truncate(self.offsets[rows] as usize);
    }

    fn finish(&mut self) -> ArrayRef {
        let offsets = std::mem::replace(&mut self.offsets, vec![0]);
        let offsets = OffsetBuffer::new(ScalarBuffer::from(offsets));
        let (values, validity) = (self.items.cells.finish(), self.validity.finish());
        Arc::new(ListArray::new(self.field.clone(), offsets, values, validity))
    }

    fn changed(&mut self) -> u64 {
        std::mem::take(&mut self.changed)
    }

    fn hand_on_nulled(&mut self, to: &mut dyn FnMut(Reason)) {
        self.nulled.drain(..).for_each(to);
    }

    fn reset(&mut self) {
        self.items.cells.reset();
    }
}

/// Structs of fields.
pub(super) struct Structs {
    members: MemberReader,
    fields: Fields,
    /// What is declared of each field, and which of the members it is.
    nested: Vec<(Nested, usize)>,
    rows: usize,
    validity: NullBufferBuilder,
    nulled: Vec<Reason>,
    changed: u64,
}

impl Structs {
    pub fn new(declared: &[ColumnDecl], around: &Around<'_>) -> Result<Structs, String> {
        let mut paths: Vec<Vec<String>> = Vec::new();
        let mut nested = Vec::new();
        for field in declared {
            let path = field.path_within();
            let at = paths.iter().position(|known| *known == path).unwrap_or_else(|| {
                paths.push(path);
                paths.len() - 1
            });
            nested.push((Nested::new(field, around)?, at));
        }
        Ok(Structs {
            members: MemberReader::new(&paths),
            fields: arrow_fields(declared),
            nested,
            rows: 0,
            validity: NullBufferBuilder::new(0),
            nulled: Vec::new(),
            changed: 0,
        })
    }
}

impl Cells for Structs {
    fn push(&mut self, value: &[u8]) -> Result<(), Reason> {
        self.members.read(value)?;
        let Structs { members, nested, nulled, fields, rows, .. } = self;
        let mut failed = None;
        for (at, (field, member)) in nested.iter_mut().enumerate() {
            let before = nulled.len();
            let result = field.push(members.member(*member, value), nulled);
            let place = |reason: Reason| reason.inside(&format!(".{}", fields[at].name()));
            for reason in &mut nulled[before..] {
                *reason = place(std::mem::replace(reason, Reason::Absent));
            }
            if let Err(reason) = result {
                failed = Some((at, place(reason)));
                break;
            }
        }
        let changing = nested.iter_mut().filter(|(field, _)| field.changes);
        let changed: u64 = changing.map(|(field, _)| field.cells.changed()).sum();
        if let Some((at, reason)) = failed {
            nested[..at].iter_mut().for_each(|(field, _)| field.cells.truncate(*rows));
            nulled.clear();
            return Err(reason);
        }
        self.changed += changed;
        self.rows += 1;
        self.validity.append_non_null();
        Ok(())
    }

    fn push_null(&mut self) {
        self.nested.iter_mut().for_each(|(field, _)| field.cells.push_null());
        self.rows += 1;
        self.validity.append_null();
    }

    fn truncate(&mut self, rows: usize) {
        self.nested.iter_mut().for_each(|(field, _)| field.cells.truncate(rows));
        self.rows = rows;
        self.validity.truncate(rows);
    }

    fn finish(&mut self) -> ArrayRef {
        let columns = self.nested.iter_mut().map(|(field, _)| field.cells.finish()).collect();
        self.rows = 0;
        Arc::new(StructArray::new(self.fields.clone(), columns, self.validity.finish()))
    }

    fn changed(&mut self) -> u64 {
        std::mem::take(&mut self.changed)
    }

    fn hand_on_nulled(&mut self, to: &mut dyn FnMut(Reason)) {
        self.nulled.drain(..).for_each(to);
    }

    fn reset(&mut self) {
        self.nested.iter_mut().for_each(|(field, _)| field.cells.reset());
    }
}
