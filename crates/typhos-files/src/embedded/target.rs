//! An embedded index as a target: written aside by the library's own writer, read back whole, and given its name.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv6Addr};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::RecordBatch;
use tantivy::schema::{OwnedValue, TantivyDocument};
use tantivy::{DateTime, Index, IndexWriter, TantivyError};
use typhos_core::columns::{MisfitValue, Places, Reason, SetAside, cell_text, write_json};
use typhos_core::run::{Monitor, RunOptions};
use typhos_core::text::LineRef;
use typhos_load::budget::threads_within;
use typhos_load::proof::Proof;
use typhos_load::view::{Nested, NestedKind, View, units_per_second};
use typhos_load::whole::WholeDirectory;
use typhos_load::{
    DataFile, Done, EncodeUnit, Encoder, Gate, Job, LoadPlan, Mode, Moved, Sink, Target,
    TargetError, TargetKind, Written, plan_file,
};

use super::form::{Form, Forms, Kept};
use super::tally::Tally;

/// Bytes of input that become the documents of one block.
const BLOCK_BYTES: usize = 1 << 20;

/// Threads of the library, and the bytes that they gather before they write.
const WRITER: (usize, usize) = (2, 60 << 20);

/// Nanoseconds since 1970 that a date of the library holds.
const MOST_DATES: (i128, i128) = (i64::MIN as i128, i64::MAX as i128);

/// An embedded index.
pub const KIND: TargetKind = TargetKind {
    name: "an embedded index",
    schemes: &[],
    extensions: &["index"],
    has_parts: false,
    open: |address| Ok(Box::new(EmbeddedTarget { path: address.into.into() })),
    probe: None,
};

/// A directory to be written.
#[derive(Debug, Clone)]
struct EmbeddedTarget {
    path: PathBuf,
}

impl Written for EmbeddedTarget {
    fn output(&self) -> &Path {
        &self.path
    }
}

impl Target for EmbeddedTarget {
    type Encoder = EmbeddedEncoder;
    type Sink = EmbeddedSink;

    fn plan(&mut self, job: &Job<'_>) -> Result<LoadPlan, TargetError> {
        let forms = Forms::of(job.plan.schema());
        let stored = |_: &arrow_schema::Field| String::new();
        let mut plan =
            plan_file(job, &self.path, true, "an embedded index (tantivy)", forms.notes, &stored);
        plan.problems.extend(forms.problems);
        for (planned, form) in plan.columns.iter_mut().zip(&forms.columns) {
            planned.stored = form.stored.clone();
        }
        if !job.plan.schema().layout.sort.is_empty() {
            plan.notes.push(
                "documents are in no order: sort under [layout] does not apply to an index".into(),
            );
        }
        Ok(plan)
    }

    fn stage(
        self,
        job: &Job<'_>,
        run: &mut RunOptions,
    ) -> Result<(EmbeddedEncoder, EmbeddedSink), TargetError> {
        run.block_bytes = BLOCK_BYTES;
        let left = job.memory.saturating_sub(WRITER.1);
        run.threads = threads_within(run.threads, left, 16 * BLOCK_BYTES);
        let forms = Forms::of(job.plan.schema());
        let names = job.plan.schema().columns.iter().map(|column| column.name.clone()).collect();
        let side = WholeDirectory::create(&self.path, job.mode == Mode::Replace)?;
        let failed = failed(&self.path);
        let index =
            Index::create_in_dir(side.side_path(), forms.schema.clone()).map_err(&failed)?;
        let writer = index.writer_with_num_threads(WRITER.0, WRITER.1).map_err(&failed)?;
        let sink = EmbeddedSink {
            side,
            index,
            writer: Some(writer),
            path: self.path.clone(),
            sent: Tally::default(),
            refused: Vec::new(),
            is_proven: job.is_proven,
            gate: job.gate.clone(),
        };
        Ok((EmbeddedEncoder { forms, names, keeps_tally: job.is_proven }, sink))
    }
}

fn failed(path: &Path) -> impl Fn(TantivyError) -> TargetError {
    let path = path.to_path_buf();
    move |source| TargetError::Format { path: path.clone(), source: source.into() }
}

/// Makes documents of rows.
pub struct EmbeddedEncoder {
    forms: Forms,
    names: Vec<String>,
    keeps_tally: bool,
}

impl Encoder for EmbeddedEncoder {
    type Encoded = EmbeddedBlock;
    type Unit<'e> = EmbeddedUnit<'e>;

    fn begin(&self, _share: f64) -> Result<EmbeddedUnit<'_>, TargetError> {
        Ok(EmbeddedUnit { encoder: self, block: EmbeddedBlock::default() })
    }

    fn wants_places(&self) -> bool {
        true
    }
}

/// Rows as documents.
#[derive(Default)]
pub struct EmbeddedBlock {
    documents: Vec<TantivyDocument>,
    refused: Vec<SetAside>,
    tally: Tally,
}

/// A block that becomes documents.
pub struct EmbeddedUnit<'e> {
    encoder: &'e EmbeddedEncoder,
    block: EmbeddedBlock,
}

impl EncodeUnit for EmbeddedUnit<'_> {
    type Encoded = EmbeddedBlock;

    fn push(&mut self, _batch: RecordBatch) -> Result<(), TargetError> {
        unreachable!("documents are made of rows whose places are known")
    }

    fn push_placed(&mut self, batch: RecordBatch, places: &Places<'_>) -> Result<(), TargetError> {
        let EmbeddedEncoder { forms, names, keeps_tally } = self.encoder;
        let fields = batch.schema_ref().fields();
        let views: Vec<Nested<'_>> = fields
            .iter()
            .zip(batch.columns())
            .map(|(field, array)| Nested::of(field, array))
            .collect();
        for row in 0..batch.num_rows() {
            let mut document = TantivyDocument::new();
            let mut wrong = None;
            for (at, view) in views.iter().enumerate() {
                if view.is_null(row) {
                    continue;
                }
                let cell = (&*fields[at], batch.column(at), view);
                if let Err(what) = add(&mut document, &forms.columns[at], cell, row) {
                    wrong.get_or_insert(format!("'{}' {what}", names[at]));
                }
            }
            match wrong {
                None => {
                    if *keeps_tally {
                        self.block.tally.add(&document);
                    }
                    self.block.documents.push(document);
                }
                Some(what) => {
                    let (record, missing) = places.record(row);
                    let place = LineRef { part: places.file, line: places.lines[row] };
                    let misfit = MisfitValue::new(place, None, &record, Reason::Refused(what));
                    self.block.refused.push(SetAside { misfit, record, missing });
                }
            }
        }
        Ok(())
    }

    fn finish(self) -> Result<EmbeddedBlock, TargetError> {
        Ok(self.block)
    }
}

type Cell<'c> = (&'c arrow_schema::Field, &'c arrow_array::ArrayRef, &'c Nested<'c>);

/// Adds the value of a row to a document; says what keeps it from being there.
fn add(
    document: &mut TantivyDocument,
    form: &Form,
    (field, array, view): Cell<'_>,
    row: usize,
) -> Result<(), String> {
    match (&view.kind, form.kept) {
        (_, Kept::Json) => {
            let mut text = String::new();
            write_json(field, array, row, &mut text);
            document.add_text(form.fields[0], text);
            Ok(())
        }
        (_, Kept::Object) => {
            let mut text = String::new();
            write_json(field, array, row, &mut text);
            let value: serde_json::Value =
                serde_json::from_str(&text).map_err(|error| error.to_string())?;
            let each = match value {
                serde_json::Value::Array(each) => each,
                one => vec![one],
            };
            for one in each.into_iter().filter(|one| !one.is_null()) {
                let OwnedValue::Object(members) = OwnedValue::from(one) else { continue };
                document
                    .add_object(form.fields[0], members.into_iter().collect::<BTreeMap<_, _>>());
            }
            Ok(())
        }
        (NestedKind::List(offsets, items), _) => {
            use arrow_array::cast::AsArray;
            let values = array.as_list::<i32>().values();
            for at in offsets[row] as usize..offsets[row + 1] as usize {
                if !items.is_null(at) {
                    add_leaf(document, form, values, &items.kind, at)?;
                }
            }
            Ok(())
        }
        (kind, _) => add_leaf(document, form, array, kind, row),
    }
}

fn add_leaf(
    document: &mut TantivyDocument,
    form: &Form,
    array: &arrow_array::ArrayRef,
    kind: &NestedKind<'_>,
    row: usize,
) -> Result<(), String> {
    let NestedKind::Leaf(view) = kind else { unreachable!("what nests is an object or JSON") };
    let text = || cell_text(array, row).unwrap_or_default();
    let field = form.fields[0];
    match (form.kept, view) {
        (Kept::Bool, View::Bool(values)) => document.add_bool(field, values.value(row)),
        (Kept::Signed, View::Int(ints) | View::Decimal(ints, _)) => {
            document.add_i64(field, ints.get(row) as i64)
        }
        (Kept::Unsigned, View::Int(ints)) => document.add_u64(field, ints.get(row) as u64),
        (Kept::Float, View::Float32(values)) => document.add_f64(field, values[row].into()),
        (Kept::Float, View::Float64(values)) => document.add_f64(field, values[row]),
        (Kept::Float, _) => {
            document.add_f64(field, text().parse().map_err(|_| "is not a number".to_owned())?)
        }
        (Kept::Instant, view) => {
            let nanos = match view {
                View::Date(days) => i128::from(days[row]) * 86_400_000_000_000,
                View::Timestamp(units, unit) => {
                    i128::from(units[row]) * i128::from(1_000_000_000 / units_per_second(*unit))
                }
                _ => unreachable!("points in time are dates and timestamps"),
            };
            if nanos < MOST_DATES.0 || nanos > MOST_DATES.1 {
                return Err(format!(
                    "is {}, beyond what a date there can be (1677 to 2262)",
                    text()
                ));
            }
            document.add_date(field, DateTime::from_timestamp_nanos(nanos as i64));
        }
        (Kept::Ip, _) => {
            let address: IpAddr = text().parse().map_err(|_| "is not an address".to_owned())?;
            let address: Ipv6Addr = match address {
                IpAddr::V4(address) => address.to_ipv6_mapped(),
                IpAddr::V6(address) => address,
            };
            document.add_ip_addr(field, address);
        }
        (Kept::Point, View::Point(lats, lons)) => {
            document.add_f64(field, lats[row]);
            document.add_f64(form.fields[1], lons[row]);
        }
        (_, view) => {
            let text = match view {
                View::Text(texts) => texts.value(row).to_owned(),
                View::Coded(codes, texts) => texts.value(codes.narrow(row) as usize).to_owned(),
                _ => text(),
            };
            for field in &form.fields {
                document.add_text(*field, &text);
            }
        }
    }
    Ok(())
}

/// Writes documents, and names the directory when it is whole.
pub struct EmbeddedSink {
    side: WholeDirectory,
    index: Index,
    writer: Option<IndexWriter>,
    path: PathBuf,
    sent: Tally,
    refused: Vec<SetAside>,
    is_proven: bool,
    gate: Arc<Gate>,
}

impl Sink for EmbeddedSink {
    type Encoded = EmbeddedBlock;

    fn append(&mut self, block: EmbeddedBlock, _monitor: &dyn Monitor) -> Result<(), TargetError> {
        let EmbeddedBlock { documents, refused, tally } = block;
        self.sent.merge(&tally);
        if !self.is_proven {
            self.sent.documents += documents.len() as u64;
        }
        self.refused.extend(refused);
        let writer = self.writer.as_ref().ok_or(TargetError::GivenUp)?;
        for document in documents {
            writer.add_document(document).map_err(failed(&self.path))?;
        }
        Ok(())
    }

    fn refused(&mut self) -> Vec<SetAside> {
        std::mem::take(&mut self.refused)
    }

    fn prove(&mut self, monitor: &dyn Monitor) -> Result<Proof, TargetError> {
        let failed = failed(&self.path);
        let mut writer = self.writer.take().ok_or(TargetError::GivenUp)?;
        writer.commit().map_err(&failed)?;
        writer.wait_merging_threads().map_err(&failed)?;
        if !self.is_proven {
            return Ok(Proof::Skipped);
        }
        let stopped = || monitor.stopped();
        let found =
            Tally::of(&self.index, &stopped).map_err(&failed)?.ok_or(TargetError::Interrupted)?;
        let wrong = self.sent.differences(&found, &self.index.schema());
        match wrong.is_empty() {
            true => Ok(Proof::Proven {
                facts: found.facts(),
                rows: found.documents,
                is_before_move: false,
            }),
            false => Err(TargetError::Unproven {
                target: self.path.display().to_string(),
                differences: wrong,
            }),
        }
    }

    fn publish(self, proof: Proof, _monitor: &dyn Monitor) -> Result<Done, TargetError> {
        self.gate.pass()?;
        let mut bytes = 0;
        for entry in
            std::fs::read_dir(self.side.side_path()).map_err(TargetError::io(&self.path))?
        {
            bytes += entry
                .and_then(|entry| entry.metadata())
                .map_err(TargetError::io(&self.path))?
                .len();
        }
        drop(self.index);
        self.side.keep()?;
        let rows = self.sent.documents;
        let moved = Moved { inserted: rows, ..Moved::default() };
        Ok(Done {
            proof,
            moved,
            files: vec![DataFile { path: self.path, rows, bytes }],
            note: None,
        })
    }
}
