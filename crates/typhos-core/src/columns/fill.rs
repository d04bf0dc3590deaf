//! The columns of a slice of records, filled one by one: from a field, from several fields that are joined,
//! from a default, from the numbers of records. What happens to records that do not fit is decided in
//! [`convert`](super::convert).

use std::marker::PhantomData;
use std::ops::Range;

use arrow_array::ArrayRef;

use super::absent::Absent;
use super::cells::{Cells, Visit};
use super::reason::Reason;
use super::runs::{CLOSER, Run};
use crate::readings::trim;
use crate::records::{Bounds, LineRef, Records, Values};
use crate::schema::{ColumnDecl, ColumnSource, GlueAbsent};
use crate::text::{Block, FileLayout};

/// What a column needs to know of the block it is filled from.
#[derive(Clone, Copy)]
pub(super) struct Slice<'b> {
    pub block: &'b Block,
    pub layout: &'b FileLayout,
    /// The names of the files of the input.
    pub files: &'b [String],
    /// Whether a blank field in quotes is a value.
    pub keeps_empty: bool,
    pub is_utf8: bool,
    /// Whether some leaf may not be its value as it stands.
    pub has_odd: bool,
}

impl Slice<'_> {
    pub fn place(&self, line: u32) -> LineRef {
        LineRef { part: self.block.file, line: self.block.first_line + u64::from(line) }
    }
}

/// The records of a slice that columns are filled from.
pub(super) struct Rows<'r, R: Records> {
    pub slice: Slice<'r>,
    pub records: &'r R,
    pub numbers: Option<&'r [u64]>,
    /// How leaves become values.
    pub values: R::Values,
    /// The rows that are filled from at a time: a strip of them.
    pub strip: (usize, usize),
}

impl<R: Records> Clone for Rows<'_, R> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<R: Records> Copy for Rows<'_, R> {}

impl<'r, R: Records> Rows<'r, R> {
    /// The rows that are filled from.
    fn strip(&self) -> Range<usize> {
        self.strip.0..self.strip.1
    }

    /// A field as it was meant; nothing where the file lacks it.
    fn field<'s>(&self, row: usize, column: usize, scratch: &'s mut Vec<u8>) -> &'s [u8]
    where
        'r: 's,
    {
        let Some(field) = self.slice.layout.place(column) else { return &[] };
        let (start, end) = self.records.leaf(row, field).bounds;
        self.values.value(&self.slice.block.text()[start as usize..end as usize], scratch)
    }

    /// What a column is made of in a row, for messages.
    pub fn value(&self, source: &ColumnSource, glue: &str, row: usize) -> Vec<u8> {
        if let Some(generated) = self.generated(source, row) {
            return generated.into_bytes();
        }
        let mut value = Vec::new();
        for (at, column) in source.columns().iter().enumerate() {
            if at > 0 {
                value.extend_from_slice(glue.as_bytes());
            }
            value.extend_from_slice(self.field(row, *column, &mut Vec::new()));
        }
        value
    }

    /// A value that does not come from the input.
    fn generated(&self, source: &ColumnSource, row: usize) -> Option<String> {
        let slice = self.slice;
        Some(match source {
            ColumnSource::RowNumber(start) => row_number(*start, self.number(row)).to_string(),
            ColumnSource::File => slice.files[slice.block.file as usize].clone(),
            ColumnSource::Line => slice.place(self.records.line(row)).line.to_string(),
            ColumnSource::LoadedAt(now) => now.clone(),
            ColumnSource::Position(start) => {
                let position = self.records.position(row);
                position.map_or(String::new(), |at| row_number(*start, at.into()).to_string())
            }
            ColumnSource::Column(_) | ColumnSource::Joined(_) => return None,
        })
    }

    /// How many records of the input stand before the one in this row.
    fn number(&self, row: usize) -> u64 {
        self.numbers.expect("records are numbered where a column wants it")[row]
    }
}

fn row_number(start: i64, before: u64) -> i128 {
    i128::from(start) + i128::from(before)
}

/// Numbers the records of a slice; those that could not be split count too.
pub(super) fn number(records: &impl Records, before: u64, numbers: &mut Vec<u64>) {
    let mut broken = records.broken().iter().peekable();
    let mut next = before;
    numbers.clear();
    for row in 0..records.len() {
        while broken.next_if(|broken| broken.row as usize <= row).is_some() {
            next += 1;
        }
        numbers.push(next);
        next += 1;
    }
}

/// A column of any type: one call for many rows, so that the loop inside knows its type.
pub(super) trait FillColumn<R: Records>: Send {
    /// Adds the rows of a strip.
    fn fill(
        &mut self,
        rows: Rows<'_, R>,
        source: &ColumnSource,
        scratch: &mut Vec<u8>,
        note: &mut dyn FnMut(usize, Reason),
    );

    /// The array of all rows since the last time.
    fn finish(&mut self) -> ArrayRef;

    /// How many values the last filling changed, as declared.
    fn changed(&mut self) -> u64;

    fn reset(&mut self);
}

pub(super) struct MakeColumn<'s, R> {
    /// What it is filled from.
    pub records: PhantomData<R>,
    pub absent: Absent,
    pub column: &'s ColumnDecl,
    pub glue: &'s str,
}

impl<R: Records> Visit for MakeColumn<'_, R> {
    type Out = Box<dyn FillColumn<R>>;

    fn visit<C: Cells + 'static>(self, cells: C) -> Self::Out {
        let runs = !self.absent.tokens().any(|token| cells.may_take(token));
        Box::new(Column {
            cells,
            runs,
            fields: Vec::new(),
            absent: self.absent,
            required: self.column.required,
            keeps_space: self.column.scalar().is_text(),
            default: self.column.default.as_ref().map(|text| text.clone().into_bytes()),
            glue: self.glue.as_bytes().to_vec(),
            glue_absent: self.column.glue_absent,
        })
    }
}

/// Whether a field is blank and stands in quotes.
fn is_quoted_blank(values: &impl Values, raw: &[u8], value: &[u8]) -> bool {
    values.is_quoted(raw) && trim(value).is_empty()
}

struct Column<C> {
    cells: C,
    /// Whether nothing that the cells read the short way means "no value".
    runs: bool,
    /// Where the values of a strip stand.
    fields: Vec<Bounds>,
    absent: Absent,
    required: bool,
    /// Text keeps the white space around it; everything else is read without.
    keeps_space: bool,
    /// What stands for what is absent.
    default: Option<Vec<u8>>,
    /// What stands between values that are joined.
    glue: Vec<u8>,
    glue_absent: GlueAbsent,
}

impl<C: Cells> Column<C> {
    /// Fills in what a file does not have.
    #[cold]
    fn fill_lacking(&mut self, rows: Range<usize>, note: &mut dyn FnMut(usize, Reason)) {
        for row in rows {
            let result = self.absent();
            self.take(row, result, note);
        }
    }

    /// What becomes of an absent value: whether it is one after all.
    #[inline]
    fn absent(&mut self) -> Result<bool, Reason> {
        match &self.default {
            Some(default) => self.cells.push(default).map(|()| true),
            None if self.required => Err(Reason::Absent),
            None => Ok(false),
        }
    }

    /// Adds a value, or what stands for it where it is absent.
    #[inline]
    fn push<R: Records>(
        &mut self,
        slice: &Slice<'_>,
        raw: &[u8],
        value: &[u8],
        values: &R::Values,
    ) -> Result<bool, Reason> {
        if slice.keeps_empty && is_quoted_blank(values, raw, value) {
            self.cells.push(value).map(|()| true)
        } else if R::TELLS_TEXTS && raw.is_empty() || self.absent.is(value) {
            // What is null or not there is no empty text where texts have quotes.
            self.absent()
        } else if !slice.is_utf8
            && let Err(error) = std::str::from_utf8(value)
        {
            Err(Reason::NotUtf8 { byte: value[error.valid_up_to()] })
        } else {
            self.cells.push(if self.keeps_space { value } else { trim(value) }).map(|()| true)
        }
    }

    #[inline]
    fn take(
        &mut self,
        row: usize,
        result: Result<bool, Reason>,
        note: &mut dyn FnMut(usize, Reason),
    ) {
        match result {
            Ok(true) => self.cells.hand_on_nulled(&mut |reason| note(row, reason)),
            Ok(false) => self.cells.push_null(),
            Err(reason) => {
                self.cells.push_null();
                note(row, reason);
            }
        }
    }

    /// Fills in what does not come from the input.
    fn fill_generated(
        &mut self,
        rows: Rows<'_, impl Records>,
        source: &ColumnSource,
        note: &mut dyn FnMut(usize, Reason),
    ) {
        for row in rows.strip() {
            let value = rows.generated(source, row).unwrap_or_default();
            let result = match (source, value.is_empty()) {
                // A record without elements has no position.
                (ColumnSource::Position(_), true) => self.absent(),
                _ => self.cells.push(value.as_bytes()).map(|()| true),
            };
            self.take(row, result, note);
        }
    }

    /// Fills in values that are joined of several fields. A value is absent where all of them are; where some
    /// are, the declaration says what it is.
    fn fill_joined(
        &mut self,
        rows: Rows<'_, impl Records>,
        sources: &[usize],
        scratch: &mut Vec<u8>,
        note: &mut dyn FnMut(usize, Reason),
    ) {
        let mut joined = Vec::new();
        for row in rows.strip() {
            joined.clear();
            let (mut lacks, mut placed) = (Vec::new(), 0);
            for (at, source) in sources.iter().enumerate() {
                let value = rows.field(row, *source, scratch);
                let is_absent = self.absent.is(value);
                if is_absent {
                    lacks.push(at + 1);
                }
                if is_absent && self.glue_absent == GlueAbsent::Skip {
                    continue;
                }
                if placed > 0 {
                    joined.extend_from_slice(&self.glue);
                }
                placed += 1;
                joined.extend_from_slice(trim(value));
            }
            let is_null = self.glue_absent == GlueAbsent::Null && !lacks.is_empty();
            let is_whole = lacks.is_empty() || self.glue_absent == GlueAbsent::Skip;
            let result = if lacks.len() == sources.len() || is_null {
                self.absent()
            } else if !is_whole {
                Err(Reason::Incomplete { lacks })
            } else if let Err(error) = std::str::from_utf8(&joined) {
                Err(Reason::NotUtf8 { byte: joined[error.valid_up_to()] })
            } else {
                self.cells.push(&joined).map(|()| true)
            };
            self.take(row, result, note);
        }
    }
}

impl<R: Records, C: Cells> FillColumn<R> for Column<C> {
    fn fill(
        &mut self,
        rows: Rows<'_, R>,
        source: &ColumnSource,
        scratch: &mut Vec<u8>,
        note: &mut dyn FnMut(usize, Reason),
    ) {
        let Rows { slice, records, values, .. } = rows;
        let column = match source {
            ColumnSource::Column(column) => *column,
            ColumnSource::Joined(columns) => return self.fill_joined(rows, columns, scratch, note),
            ColumnSource::RowNumber(_)
            | ColumnSource::File
            | ColumnSource::Line
            | ColumnSource::LoadedAt(_)
            | ColumnSource::Position(_) => {
                return self.fill_generated(rows, source, note);
            }
        };
        let text = slice.block.text();
        let Some(field) = slice.layout.place(column) else {
            return self.fill_lacking(rows.strip(), note);
        };
        let odd = values.odd_starts();
        let is_odd = |start: usize, end: usize| start < end && odd[usize::from(text[start])];
        let mut take = |column: &mut Self, row, (start, end)| {
            let raw = &text[start..end];
            let value = if is_odd(start, end) { values.value(raw, scratch) } else { raw };
            let result = column.push::<R>(&slice, raw, value, &values);
            column.take(row, result, note);
        };
        if !self.runs || !slice.is_utf8 {
            for (row, field) in rows.strip().zip(records.column(field, rows.strip())) {
                take(self, row, field);
            }
            return;
        }
        let mut fields = std::mem::take(&mut self.fields);
        fields.clear();
        let column = records.column(field, rows.strip());
        if slice.has_odd {
            fields.extend(column.map(|(start, end)| {
                let bounds = (start as u32, end as u32);
                let is_plain = !is_odd(start, end);
                if is_plain { bounds } else { values.inner_bounds(text, bounds).unwrap_or(CLOSER) }
            }));
        } else {
            fields.extend(column.map(|(start, end)| (start as u32, end as u32)));
        }
        let takes_empty = self.default.is_none() && !self.required;
        let takes_empty = takes_empty && (R::TELLS_TEXTS || self.absent.is(b""));
        let mut at = 0;
        while at < fields.len() {
            at += self.cells.push_run(Run { text, fields: &fields[at..], takes_empty });
            let row = rows.strip().start + at;
            for bounds in records.column(field, row..rows.strip().end.min(row + 1)) {
                take(self, row, bounds);
                at += 1;
            }
        }
        self.fields = fields;
    }

    fn finish(&mut self) -> ArrayRef {
        self.cells.finish()
    }

    fn changed(&mut self) -> u64 {
        self.cells.changed()
    }

    fn reset(&mut self) {
        self.cells.reset();
    }
}
