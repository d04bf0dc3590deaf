//! A file of Arrow's IPC format: the arrays as they are in memory, for programs that map them.
//!
//! Codes are those of the whole file: its dictionaries only grow from batch to batch, which the format
//! calls deltas. All words of a dictionary are in memory as long as the file is written. So a column of which there
//! are too many becomes plain text, and what was written of it before is written again.

use std::collections::HashMap;
use std::fs::File;
use std::io::BufWriter;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::UInt32Type;
use arrow_array::{Array, ArrayRef, DictionaryArray, RecordBatch, StringArray, UInt32Array};
use arrow_ipc::reader::FileReader;
use arrow_ipc::writer::{DictionaryHandling, FileWriter, IpcWriteOptions};
use arrow_schema::{ArrowError, DataType, Field, Schema as ArrowSchema, SchemaRef};
use typhos_core::columns::{TYPE_KEY, is_nested, map_array, map_field};
use typhos_core::run::{Monitor, RunOptions};
use typhos_core::schema::{Scalar, Schema};

use typhos_load::budget::threads_within;
use typhos_load::proof::{Proof, SentFacts};
use typhos_load::whole::WholeFile;
use typhos_load::witness::{Witness, prove_file};
use typhos_load::{
    DataFile, Done, EncodeUnit, Encoder, Gate, Job, LoadPlan, Mode, Moved, Sink, Target,
    TargetError, TargetKind, Written, plan_file,
};

/// Bytes of input that become one batch of the file.
const BATCH_INPUT_BYTES: usize = 8 << 20;

/// The most words that a dictionary may have, and the most bytes of them.
const MOST_WORDS: usize = 1 << 18;
const MOST_WORD_BYTES: usize = 16 << 20;

/// A file of Arrow's IPC format.
pub const KIND: TargetKind = TargetKind {
    name: "an Arrow file",
    schemes: &[],
    extensions: &["arrow"],
    has_parts: false,
    open: |address| Ok(Box::new(ArrowTarget { path: address.into.into() })),
    probe: None,
};

/// A file to be written.
#[derive(Debug, Clone)]
pub(crate) struct ArrowTarget {
    pub path: PathBuf,
}

impl Written for ArrowTarget {
    fn output(&self) -> &Path {
        &self.path
    }
}

/// Batches go to the file as they are.
pub struct BatchEncoder;

impl Encoder for BatchEncoder {
    type Encoded = Vec<RecordBatch>;
    type Unit<'e> = BatchUnit;

    fn begin(&self, _share: f64) -> Result<BatchUnit, TargetError> {
        Ok(BatchUnit(Vec::new()))
    }
}

/// The batches of a block.
pub struct BatchUnit(Vec<RecordBatch>);

impl EncodeUnit for BatchUnit {
    type Encoded = Vec<RecordBatch>;

    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError> {
        self.0.push(batch);
        Ok(())
    }

    fn finish(self) -> Result<Vec<RecordBatch>, TargetError> {
        Ok(self.0)
    }
}

/// How a column is held in a file, in a few words.
fn stored_name(field: &Field) -> String {
    match stored_type(field, false) {
        DataType::Dictionary(codes, _) => format!("{codes} codes of Utf8"),
        DataType::FixedSizeBinary(_) => "16 bytes".into(),
        DataType::List(item) => format!("list of {}", stored_name(&item)),
        DataType::Struct(fields) if is_nested(field) => {
            let each =
                fields.iter().map(|field| format!("{} {}", field.name(), stored_name(field)));
            format!("struct of {}", each.collect::<Vec<_>>().join(", "))
        }
        DataType::Struct(_) => "lat and lon".into(),
        other => other.to_string(),
    }
}

/// How a leaf is held in a file. A file has one dictionary for each column, and one that grows inside of other values
/// would have to be known before the first of them.
fn stored_type(leaf: &Field, is_inside: bool) -> DataType {
    let is_open = leaf.metadata().get(TYPE_KEY).is_some_and(|declared| declared == "lowcard");
    match leaf.data_type() {
        DataType::Dictionary(_, words) if is_inside && is_open => words.as_ref().clone(),
        other => other.clone(),
    }
}

impl Target for ArrowTarget {
    type Encoder = Witness<BatchEncoder>;
    type Sink = ArrowSink;

    fn plan(&mut self, job: &Job<'_>) -> Result<LoadPlan, TargetError> {
        Ok(plan_file(job, &self.path, false, "an Arrow file", Vec::new(), &stored_name))
    }

    fn stage(
        self,
        job: &Job<'_>,
        run: &mut RunOptions,
    ) -> Result<(Self::Encoder, Self::Sink), TargetError> {
        run.block_bytes = BATCH_INPUT_BYTES;
        // A block, its arrays, and arrays that wait for their turn.
        run.threads = threads_within(run.threads, job.memory, 2 * BATCH_INPUT_BYTES);
        let schema = job.plan.schema();
        let side = WholeFile::create(&self.path, job.mode == Mode::Replace)?;
        let failed = |source: ArrowError| TargetError::Format {
            path: self.path.clone(),
            source: source.into(),
        };
        let rows = job.plan.arrow();
        let fields = rows.fields().iter().map(|field| map_field(field, &stored_type));
        let rows = Arc::new(ArrowSchema::new(fields.collect::<Vec<_>>()));
        let writer = writer(&side, &rows)?.map_err(failed)?;
        let open_sets = schema.columns.iter().enumerate();
        let open_sets = open_sets.filter(|(_, column)| column.scalar() == Scalar::Lowcard);
        let sink = ArrowSink {
            side,
            writer,
            rows,
            replace: job.mode == Mode::Replace,
            path: self.path,
            open_sets: schema.columns.iter().map(|c| c.scalar() == Scalar::Lowcard).collect(),
            words: open_sets.map(|(at, _)| (at, Words::default())).collect(),
            sent: SentFacts::new(schema.columns.len()),
            schema: job.is_proven.then(|| schema.clone()),
            gate: job.gate.clone(),
        };
        let columns = schema.columns.len();
        Ok((
            Witness {
                encoder: BatchEncoder,
                columns,
                keeps_facts: job.is_proven,
                flat: Vec::new(),
            },
            sink,
        ))
    }
}

/// The texts of a column with an open set, and their codes in the file.
#[derive(Default)]
struct Words {
    codes: HashMap<String, u32>,
    texts: Vec<String>,
    bytes: usize,
    array: Option<Arc<StringArray>>,
}

impl Words {
    /// Whether there are more of them than are to be held.
    fn are_too_many(&self) -> bool {
        self.texts.len() > MOST_WORDS || self.bytes > MOST_WORD_BYTES
    }

    /// The same values with the codes of the file.
    fn recode(&mut self, array: &ArrayRef) -> ArrayRef {
        let codes = array.as_dictionary::<UInt32Type>();
        let texts = codes.values().as_string::<i32>();
        let known = self.texts.len();
        // Texts that no row uses get no code: what a block knows does not depend on others.
        let mut new: Vec<Option<u32>> = vec![None; texts.len()];
        let keys: UInt32Array = codes
            .keys()
            .iter()
            .map(|code| {
                let code = code? as usize;
                Some(*new[code].get_or_insert_with(|| {
                    let text = texts.value(code);
                    if let Some(code) = self.codes.get(text) {
                        return *code;
                    }
                    let code = self.texts.len() as u32;
                    self.codes.insert(text.to_owned(), code);
                    self.texts.push(text.to_owned());
                    self.bytes += text.len();
                    code
                }))
            })
            .collect();
        if self.array.is_none() || self.texts.len() > known {
            self.array = Some(Arc::new(StringArray::from_iter_values(&self.texts)));
        }
        let values = self.array.clone().expect("made above");
        Arc::new(DictionaryArray::new(keys, values))
    }
}

/// Begins a file of batches.
fn writer(
    side: &WholeFile,
    rows: &SchemaRef,
) -> Result<Result<FileWriter<BufWriter<File>>, ArrowError>, TargetError> {
    let options = IpcWriteOptions::default().with_dictionary_handling(DictionaryHandling::Delta);
    Ok(FileWriter::try_new_with_options(BufWriter::new(side.writer()?), rows, options))
}

/// The texts of a column with codes, row by row.
fn plain(array: &ArrayRef) -> ArrayRef {
    match array.data_type() {
        DataType::Dictionary(..) => {
            let codes = array.as_dictionary::<UInt32Type>();
            let words = codes.values().as_string::<i32>();
            let texts = codes.keys().iter().map(|code| Some(words.value(code? as usize)));
            Arc::new(texts.collect::<StringArray>())
        }
        _ => array.clone(),
    }
}

/// Writes batches, and names the file when it is whole.
pub struct ArrowSink {
    side: WholeFile,
    writer: FileWriter<BufWriter<File>>,
    /// The columns as they are written.
    rows: SchemaRef,
    replace: bool,
    path: PathBuf,
    words: Vec<(usize, Words)>,
    /// Which columns are declared with an open set of values.
    open_sets: Vec<bool>,
    sent: SentFacts,
    schema: Option<Schema>,
    gate: Arc<Gate>,
}

impl ArrowSink {
    fn failed(&self, source: ArrowError) -> TargetError {
        TargetError::Format { path: self.path.clone(), source: source.into() }
    }

    /// Writes columns as plain text from now on, and what was written so far once more.
    fn give_up_words(
        &mut self,
        columns: &[usize],
        monitor: &dyn Monitor,
    ) -> Result<(), TargetError> {
        self.words.retain(|(at, _)| !columns.contains(at));
        let fields = self.rows.fields().iter().enumerate().map(|(at, field)| {
            let field = field.as_ref().clone();
            if columns.contains(&at) { field.with_data_type(DataType::Utf8) } else { field }
        });
        let fields: Vec<_> = fields.collect();
        self.rows = Arc::new(ArrowSchema::new_with_metadata(fields, self.rows.metadata().clone()));
        self.writer.finish().map_err(|error| self.failed(error))?;
        let before = File::open(self.side.side_path()).map_err(TargetError::io(&self.path))?;
        let side = WholeFile::create(&self.path, self.replace)?;
        let begun = writer(&side, &self.rows)?.map_err(|error| self.failed(error))?;
        (self.side, self.writer) = (side, begun);
        let before =
            FileReader::try_new_buffered(before, None).map_err(|error| self.failed(error))?;
        // Their words are those of the end already, so their codes stay.
        for batch in before {
            if monitor.stopped() {
                return Err(TargetError::Interrupted);
            }
            let batch = batch.map_err(|error| self.failed(error))?;
            let mut arrays = batch.columns().to_vec();
            for at in columns {
                arrays[*at] = plain(&arrays[*at]);
            }
            self.write(arrays)?;
        }
        Ok(())
    }

    fn write(&mut self, columns: Vec<ArrayRef>) -> Result<(), TargetError> {
        let batch =
            RecordBatch::try_new(self.rows.clone(), columns).expect("columns as they are written");
        self.writer.write(&batch).map_err(|error| self.failed(error))
    }
}

impl Sink for ArrowSink {
    type Encoded = (Vec<RecordBatch>, SentFacts);

    fn append(
        &mut self,
        (batches, facts): Self::Encoded,
        monitor: &dyn Monitor,
    ) -> Result<(), TargetError> {
        self.sent.merge(facts);
        for batch in batches {
            let mut columns = batch.columns().to_vec();
            let mut given_up = Vec::new();
            for (at, words) in &mut self.words {
                let recoded = words.recode(&columns[*at]);
                if words.are_too_many() {
                    given_up.push(*at);
                } else {
                    columns[*at] = recoded;
                }
            }
            if !given_up.is_empty() {
                self.give_up_words(&given_up, monitor)?;
            }
            for (at, field) in self.rows.fields().iter().enumerate() {
                columns[at] = map_array(&columns[at], field, &|leaf, to| match to.data_type() {
                    DataType::Utf8 => plain(leaf),
                    _ => leaf.clone(),
                });
            }
            self.write(columns)?;
        }
        Ok(())
    }

    fn prove(&mut self, monitor: &dyn Monitor) -> Result<Proof, TargetError> {
        self.writer.finish().map_err(|error| self.failed(error))?;
        match &self.schema {
            None => Ok(Proof::Skipped),
            Some(schema) => {
                let open =
                    File::open(self.side.side_path()).map_err(TargetError::io(&self.path))?;
                let reader =
                    FileReader::try_new_buffered(open, None).map_err(|e| self.failed(e))?;
                let mut found = SentFacts::new(schema.columns.len());
                for batch in reader {
                    if monitor.stopped() {
                        return Err(TargetError::Interrupted);
                    }
                    found.add(&batch.map_err(|error| self.failed(error))?);
                }
                prove_file(self.path.display().to_string(), schema, &self.sent, &found)
            }
        }
    }

    fn publish(self, proof: Proof, _monitor: &dyn Monitor) -> Result<Done, TargetError> {
        let given_up = self.rows.fields().iter().zip(&self.open_sets);
        let given_up =
            given_up.filter(|(field, is_open)| **is_open && *field.data_type() == DataType::Utf8);
        let names: Vec<_> = given_up.map(|(field, _)| field.name()).collect();
        let note = (!names.is_empty()).then(|| {
            format!(
                "too many distinct values for a dictionary in {}: stored as text",
                typhos_core::wording::listed(names)
            )
        });
        let inserted = self.sent.rows;
        self.gate.pass()?;
        let bytes = self.side.side_path().metadata().map_err(TargetError::io(&self.path))?.len();
        self.side.keep()?;
        let moved = Moved { inserted, ..Moved::default() };
        let files = vec![DataFile { path: self.path, rows: inserted, bytes }];
        Ok(Done { proof, moved, files, note })
    }
}
