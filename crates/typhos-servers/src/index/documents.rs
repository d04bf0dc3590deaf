//! Rows as documents: the lines of a bulk request, with an id each, and what is needed to tell of one that is refused.
//!
//! With a key, an id is made of it. Without one it is made of the file, the line and the document itself: the same record
//! of the same file has the same id in every run, and another one has another.

use std::sync::Arc;

use arrow_array::{ArrayRef, RecordBatch};
use arrow_schema::{DataType, Field};
use serde_json::json;
use typhos_core::columns::{Places, cell_text};
use typhos_core::schema::{Scalar, Schema};
use typhos_load::proof::SentFacts;
use typhos_load::view::{Ints, Nested, NestedKind, View};
use typhos_load::{EncodeUnit, Encoder, TargetError};

/// Bytes of an id at most, as the protocol has it.
const MOST_ID_BYTES: usize = 512;

/// Bytes of the name of a file that stand in an id.
const MOST_NAME_BYTES: usize = 200;

/// What is done with a document.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operation {
    /// It is written, whether it is there or not.
    Index,
    /// It is written, and must not be there.
    Create,
}

impl Operation {
    /// The line that says so, up to the id.
    fn start(self) -> &'static [u8] {
        match self {
            Operation::Index => b"{\"index\":{\"_id\":",
            Operation::Create => b"{\"create\":{\"_id\":",
        }
    }
}

/// Rows of a block as documents.
#[derive(Default)]
pub struct Documents {
    /// The two lines of each.
    pub lines: Vec<u8>,
    /// Where each ends in them.
    pub ends: Vec<usize>,
    /// Where the second line of each starts.
    pub sources: Vec<usize>,
    /// Their ids.
    pub ids: Vec<Box<str>>,
    /// The file and the line that each is from.
    pub places: Vec<(u32, u64)>,
    /// The records they are made of, word for word.
    records: Vec<u8>,
    /// Where each record ends in them, and how many fields it leaves out.
    record_ends: Vec<(usize, usize)>,
    /// The rows.
    pub batches: Vec<RecordBatch>,
    /// What is known of them.
    pub facts: SentFacts,
}

impl Documents {
    /// How many there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// The two lines of one.
    pub fn of(&self, at: usize) -> &[u8] {
        &self.lines[self.start(at)..self.ends[at]]
    }

    /// Where the lines of one start.
    pub fn start(&self, at: usize) -> usize {
        if at == 0 { 0 } else { self.ends[at - 1] }
    }

    /// The document itself.
    pub fn source(&self, at: usize) -> &[u8] {
        &self.lines[self.sources[at]..self.ends[at] - 1]
    }

    /// The record of one word for word, and how many fields it leaves out.
    pub fn record(&self, at: usize) -> (Vec<u8>, usize) {
        let start = if at == 0 { 0 } else { self.record_ends[at - 1].0 };
        let (end, missing) = self.record_ends[at];
        (self.records[start..end].to_vec(), missing)
    }
}

/// Makes documents of rows.
pub struct DocumentEncoder {
    /// Names of files, as they stand in ids.
    files: Arc<[String]>,
    /// The columns of the key.
    key: Vec<usize>,
    operation: Operation,
    columns: usize,
    /// How each column is written.
    forms: Vec<Form>,
    keeps_facts: bool,
}

impl DocumentEncoder {
    /// For a schema and the files that rows are from.
    pub fn new(
        schema: &Schema,
        files: impl Iterator<Item = String>,
        operation: Operation,
        keeps_facts: bool,
    ) -> DocumentEncoder {
        let known = |name: &String| schema.columns.iter().position(|column| column.name == *name);
        DocumentEncoder {
            files: files.map(name_in_ids).collect(),
            key: schema.layout.key.iter().filter_map(known).collect(),
            operation,
            columns: schema.columns.len(),
            forms: schema.columns.iter().map(|column| Form::of_type(&column.ty)).collect(),
            keeps_facts,
        }
    }
}

/// The name of a file as it stands in ids.
fn name_in_ids(name: String) -> String {
    match name.len() > MOST_NAME_BYTES {
        true => fingerprint(&name),
        false => name,
    }
}

/// 128 bits that tell one text from another.
fn fingerprint(text: &str) -> String {
    let half = |seed| twox_hash::XxHash3_64::oneshot_with_seed(seed, text.as_bytes());
    format!("{:016x}{:016x}", half(0), half(1))
}

impl Encoder for DocumentEncoder {
    type Encoded = Documents;
    type Unit<'e> = DocumentUnit<'e>;

    fn begin(&self, _share: f64) -> Result<DocumentUnit<'_>, TargetError> {
        let facts = SentFacts::new(self.columns);
        let documents = Documents { facts, ..Documents::default() };
        Ok(DocumentUnit { encoder: self, documents, last: None, text: Vec::new() })
    }

    fn wants_places(&self) -> bool {
        true
    }
}

/// A block that becomes documents.
pub struct DocumentUnit<'e> {
    encoder: &'e DocumentEncoder,
    documents: Documents,
    /// The line of the last row, and how many rows of it came before.
    last: Option<(u64, usize)>,
    text: Vec<u8>,
}

impl EncodeUnit for DocumentUnit<'_> {
    type Encoded = Documents;

    fn push(&mut self, _batch: RecordBatch) -> Result<(), TargetError> {
        unreachable!("documents are made of rows whose places are known")
    }

    fn push_placed(&mut self, batch: RecordBatch, places: &Places<'_>) -> Result<(), TargetError> {
        typhos_load::view::refuse_floats(&batch, "an index", true)?;
        let fields = batch.schema_ref().fields().clone();
        let names: Vec<Vec<u8>> =
            fields.iter().map(|field| format!("{}:", json!(field.name())).into_bytes()).collect();
        let views: Vec<Nested<'_>> = fields
            .iter()
            .zip(batch.columns())
            .map(|(field, array)| Nested::of(field, array))
            .collect();
        for (row, line) in places.lines.iter().enumerate() {
            self.text.clear();
            self.text.push(b'{');
            for (at, view) in views.iter().enumerate() {
                if view.is_null(row) {
                    continue;
                }
                if self.text.len() > 1 {
                    self.text.push(b',');
                }
                self.text.extend_from_slice(&names[at]);
                let cell = Cell { field: &fields[at], array: batch.column(at), view };
                write_value(&cell, &self.encoder.forms[at], row, &mut self.text)?;
            }
            self.text.extend_from_slice(b"}\n");
            let nth = match self.last {
                Some((last, nth)) if last == *line => nth + 1,
                _ => 0,
            };
            self.last = Some((*line, nth));
            let id = self.id(&batch, row, (places.file, *line, nth));
            let Documents { lines, ends, sources, ids, .. } = &mut self.documents;
            lines.extend_from_slice(self.encoder.operation.start());
            write_text(&id, lines);
            lines.extend_from_slice(b"}}\n");
            sources.push(lines.len());
            lines.extend_from_slice(&self.text);
            ends.push(lines.len());
            ids.push(id.into());
            let (record, missing) = places.record(row);
            let documents = &mut self.documents;
            documents.places.push((places.file, *line));
            documents.records.extend_from_slice(&record);
            documents.record_ends.push((documents.records.len(), missing));
        }
        if self.encoder.keeps_facts {
            self.documents.facts.add(&batch);
        } else {
            self.documents.facts.rows += batch.num_rows() as u64;
        }
        self.documents.batches.push(batch);
        Ok(())
    }

    fn finish(self) -> Result<Documents, TargetError> {
        Ok(self.documents)
    }
}

impl DocumentUnit<'_> {
    fn id(&self, batch: &RecordBatch, row: usize, (file, line, nth): (u32, u64, usize)) -> String {
        let DocumentEncoder { files, key, .. } = self.encoder;
        if key.is_empty() {
            let print = twox_hash::XxHash3_64::oneshot(&self.text);
            let file = &files[file as usize];
            return match nth {
                0 => format!("{file}:{line}:{print:016x}"),
                nth => format!("{file}:{line}.{nth}:{print:016x}"),
            };
        }
        let mut id = String::new();
        for (at, column) in key.iter().enumerate() {
            if at > 0 {
                id.push('|');
            }
            let cell = cell_text(batch.column(*column), row).unwrap_or_default();
            for letter in cell.chars() {
                match letter {
                    '%' | '|' => id.push_str(&format!("%{:02X}", letter as u32)),
                    letter if letter.is_control() => {
                        id.push_str(&format!("%{:02X}", letter as u32))
                    }
                    letter => id.push(letter),
                }
            }
        }
        match id.len() {
            0 => "%".into(),
            1..=MOST_ID_BYTES => id,
            // Longer ones are told apart by 128 bits.
            _ => format!("%{}", fingerprint(&id)),
        }
    }
}

/// How a value is written in a document.
#[derive(Debug, Clone)]
enum Form {
    /// As a number or a bool, as it is.
    Bare,
    /// As a text.
    Quoted,
    /// As a text, with `T` between day and time.
    Instant,
    /// As JSON already.
    Json,
    /// As an object with a latitude and a longitude.
    Point,
    /// As a list.
    List(Box<Form>),
    /// As an object.
    Object(Vec<Form>),
}

impl Form {
    fn of_type(ty: &typhos_core::schema::Type) -> Form {
        use typhos_core::schema::Type;
        match ty {
            Type::List(items) => Form::List(Box::new(Form::of_type(items))),
            Type::Struct(fields) => {
                Form::Object(fields.iter().map(|field| Form::of_type(&field.ty)).collect())
            }
            Type::Scalar(scalar) => match scalar {
                Scalar::Bool | Scalar::Int(_) | Scalar::Float32 | Scalar::Float64 => Form::Bare,
                Scalar::Decimal { .. } => match typhos_sql::is_number_in_mapping(*scalar) {
                    true => Form::Bare,
                    false => Form::Quoted,
                },
                Scalar::Timestamp { .. } => Form::Instant,
                Scalar::Json => Form::Json,
                Scalar::Geopoint => Form::Point,
                scalar if scalar.counts().is_some() => Form::Bare,
                _ => Form::Quoted,
            },
        }
    }
}

/// A column, or what is inside of one.
struct Cell<'c> {
    field: &'c Field,
    array: &'c ArrayRef,
    view: &'c Nested<'c>,
}

fn write_value(
    cell: &Cell<'_>,
    form: &Form,
    row: usize,
    out: &mut Vec<u8>,
) -> Result<(), TargetError> {
    match (&cell.view.kind, form) {
        (NestedKind::List(offsets, items), Form::List(form)) => {
            let DataType::List(item) = cell.field.data_type() else {
                unreachable!("a list is one")
            };
            let values = list_values(cell.array);
            let inner = Cell { field: item, array: &values, view: items };
            out.push(b'[');
            let (start, end) = (offsets[row] as usize, offsets[row + 1] as usize);
            for at in start..end {
                if at > start {
                    out.push(b',');
                }
                write_or_null(&inner, form, at, out)?;
            }
            out.push(b']');
        }
        (NestedKind::Struct(members), Form::Object(forms)) => {
            let DataType::Struct(fields) = cell.field.data_type() else {
                unreachable!("a struct is one")
            };
            let columns = struct_columns(cell.array);
            out.push(b'{');
            let start = out.len();
            for (at, view) in members.iter().enumerate() {
                if view.is_null(row) {
                    continue;
                }
                if out.len() > start {
                    out.push(b',');
                }
                write_text(fields[at].name(), out);
                out.push(b':');
                let inner = Cell { field: &fields[at], array: &columns[at], view };
                write_value(&inner, &forms[at], row, out)?;
            }
            out.push(b'}');
        }
        (NestedKind::Leaf(view), form) => write_leaf(cell, view, form, row, out)?,
        _ => unreachable!("arrays are as their types"),
    }
    Ok(())
}

fn write_or_null(
    cell: &Cell<'_>,
    form: &Form,
    row: usize,
    out: &mut Vec<u8>,
) -> Result<(), TargetError> {
    if cell.view.is_null(row) {
        out.extend_from_slice(b"null");
        return Ok(());
    }
    write_value(cell, form, row, out)
}

fn list_values(array: &ArrayRef) -> ArrayRef {
    use arrow_array::cast::AsArray;
    array.as_list::<i32>().values().clone()
}

fn struct_columns(array: &ArrayRef) -> &[ArrayRef] {
    use arrow_array::cast::AsArray;
    array.as_struct().columns()
}

fn write_leaf(
    cell: &Cell<'_>,
    view: &View<'_>,
    form: &Form,
    row: usize,
    out: &mut Vec<u8>,
) -> Result<(), TargetError> {
    match (view, form) {
        (View::Text(texts), Form::Json) => {
            // Line ends are between the tokens of JSON, and would end the line of the document.
            let text = texts.value(row).bytes();
            out.extend(text.map(|byte| if matches!(byte, b'\n' | b'\r') { b' ' } else { byte }));
        }
        (View::Text(texts), _) => write_text(texts.value(row), out),
        (View::Coded(codes, texts), _) => write_text(texts.value(codes.narrow(row) as usize), out),
        (View::Bool(values), _) => {
            out.extend_from_slice(if values.value(row) { b"true" } else { b"false" })
        }
        (View::Int(ints), _) => write_int(ints, row, out),
        (View::Point(lats, lons), _) => {
            let point = json!({ "lat": lats[row], "lon": lons[row] });
            out.extend_from_slice(point.to_string().as_bytes());
        }
        (_, form) => {
            let text = cell_text(cell.array, row).unwrap_or_default();
            match form {
                Form::Bare
                    if text
                        .contains(|letter: char| letter.is_ascii_alphabetic() && letter != 'e') =>
                {
                    return Err(TargetError::cannot_hold(
                        cell.field.name(),
                        format!("'{text}'"),
                        "is a float that an index cannot hold",
                    ));
                }
                Form::Bare => out.extend_from_slice(text.as_bytes()),
                Form::Instant => write_text(&text.replacen(' ', "T", 1), out),
                _ => write_text(&text, out),
            }
        }
    }
    Ok(())
}

fn write_int(ints: &Ints<'_>, row: usize, out: &mut Vec<u8>) {
    let mut buffer = itoa::Buffer::new();
    let text = match ints {
        Ints::U64(values) => buffer.format(values[row]),
        Ints::I128(values) => buffer.format(values[row]),
        narrow => buffer.format(narrow.narrow(row)),
    };
    out.extend_from_slice(text.as_bytes());
}

fn write_text(text: &str, out: &mut Vec<u8>) {
    serde_json::to_writer(out, text).expect("memory takes what is written");
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::Value;
    use typhos_core::columns::{Converter, MisfitValue, OnMisfit, Plan};
    use typhos_core::run::RunOptions;
    use typhos_core::text::{Block, BlockReader, Dialect, Input, InputChoice};

    /// The documents of a text under a schema.
    fn documents(schema: &str, text: &str, operation: Operation) -> Documents {
        #[derive(Debug)]
        struct Never(#[expect(dead_code, reason = "told by a test that fails")] String);
        impl From<MisfitValue> for Never {
            fn from(misfit: MisfitValue) -> Never {
                Never(misfit.reason.to_string())
            }
        }
        let choice = InputChoice::from(Dialect::RFC_4180);
        let input = Input::from_bytes("t.csv", text.as_bytes().to_vec(), &choice);
        let schema = typhos_core::read_schema(&format!("typhos = 1\n{schema}")).unwrap();
        let plan = Plan::new(schema, &input).unwrap();
        let names = ["t.csv".to_owned()].into_iter();
        let encoder = DocumentEncoder::new(plan.schema(), names, operation, true);
        let mut unit = encoder.begin(0.0).unwrap();
        let mut reader = BlockReader::new(plan.blocks(&input), RunOptions::default().block_bytes);
        let mut block = Block::default();
        while reader.next(&mut block).unwrap() {
            let mut converter = Converter::new(&plan, OnMisfit::AsDeclared);
            let each = |batch: RecordBatch, places: &Places<'_>| {
                unit.push_placed(batch, places).map_err(|error| Never(error.to_string()))
            };
            converter.convert_with_places(&block, each).unwrap();
        }
        unit.finish().unwrap()
    }

    #[test]
    fn a_document_is_two_lines_that_say_where_it_goes_and_what_it_is() {
        let schema = "[columns]\nroute = { type = 'lowcard' }\nfare = { type = 'decimal(4,2)' }\nat = { type = 'timestamp(s)' }\n";
        let documents = documents(
            schema,
            "route,fare,at\nHolm,1.50,2025-01-02 03:04:05\n,2.00,\n",
            Operation::Create,
        );
        let lines = String::from_utf8(documents.lines.clone()).unwrap();
        let lines: Vec<_> = lines.lines().collect();
        assert!(lines[0].starts_with("{\"create\":{\"_id\":\"t.csv:2:"), "{}", lines[0]);
        assert_eq!(lines[1], "{\"route\":\"Holm\",\"fare\":1.50,\"at\":\"2025-01-02T03:04:05\"}");
        assert_eq!(lines[3], "{\"fare\":2.00}");
        assert_eq!(documents.source(1), lines[3].as_bytes());
        assert_eq!(documents.record(1), (b",2.00,".to_vec(), 0));
        assert_eq!((documents.len(), documents.places[1], documents.facts.rows), (2, (0, 3), 2));
    }

    #[test]
    fn ids_of_keys_tell_every_key_from_every_other() {
        let schema = "[columns]\na = { type = 'text', required = true, absent = [] }\nb = { type = 'text', required = true, absent = [] }\n[layout]\nkey = ['a', 'b']\n";
        let long = "x".repeat(600);
        let text = format!("a,b\nx|,y\nx,|y\n%7C,\n|,\n,\n{long},1\n{long},2\n");
        let documents = documents(schema, &text, Operation::Index);
        let ids: std::collections::HashSet<_> = documents.ids.iter().collect();
        assert_eq!(ids.len(), 7, "{ids:?}");
        assert!(ids.iter().all(|id| !id.is_empty() && id.len() <= MOST_ID_BYTES));
        assert_eq!(&*documents.ids[0], "x%7C|y");
    }

    proptest! {
        /// Whatever stands in a text, a document is one line of JSON that has it, and its id is that of the record.
        #[test]
        fn every_text_is_kept_to_the_letter(texts in proptest::collection::vec("\\PC{0,12}|[\"\\\\\n\r\t,\u{1}\u{2028}]{0,6}", 1..8)) {
            let quoted = |text: &String| format!("\"{}\"\n", text.replace('"', "\"\""));
            let text = format!("v\n{}", texts.iter().map(quoted).collect::<String>());
            let schema = "[columns]\nv = { type = 'text', absent = [] }\n";
            let documents = documents(schema, &text, Operation::Create);
            prop_assert_eq!(documents.len(), texts.len());
            for (at, text) in texts.iter().enumerate() {
                let document: Value = serde_json::from_slice(documents.source(at)).unwrap();
                prop_assert_eq!(&document["v"], text);
                prop_assert_eq!(documents.of(at).iter().filter(|byte| **byte == b'\n').count(), 2);
            }
        }
    }
}
