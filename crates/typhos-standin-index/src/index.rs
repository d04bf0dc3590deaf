//! One index: its documents on an embedded index, its log, and what is told of both.
//!
//! The log has every change before it is acknowledged, so that a server that is killed has all of them again. The embedded
//! index is made of it again whenever a server starts. Documents can be found once the index was refreshed, and can be got
//! by their ids at once.

use std::collections::HashMap;
use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::{Duration, Instant};

use serde_json::{Map, Value, json};
use tantivy::collector::TopDocs;
use tantivy::query::TermQuery;
use tantivy::schema::{
    Field, IndexRecordOption, JsonObjectOptions, STORED, STRING, Schema, TextFieldIndexing,
    Value as _,
};
use tantivy::{IndexReader, IndexWriter, ReloadPolicy, Searcher, TantivyDocument, Term};

use crate::error::{Error, Result};
use crate::mapping::Mapping;
use crate::values::{Kept, Looked, Values, look};

/// Bytes of documents that are not refreshed yet at most.
const MOST_PENDING_BYTES: usize = 128 << 20;

/// Bytes that the threads of an index gather before they write a segment.
const WRITER_BYTES: usize = 64 << 20;

/// How old what a search finds may be.
const REFRESH_INTERVAL: Duration = Duration::from_secs(1);

/// The fields of the embedded index: all values of documents are inside of two of them, by the numbers of their fields.
#[derive(Debug, Clone, Copy)]
pub struct Inner {
    /// The id of a document.
    pub id: Field,
    /// The document as it was sent.
    pub source: Field,
    /// Values that are asked for as they are.
    pub exact: Field,
    /// Texts that are asked for by their words.
    pub words: Field,
    /// The numbers of fields that have a value.
    pub exists: Field,
}

/// What a document is known by.
#[derive(Debug, Clone, Copy)]
pub struct Version {
    /// How often it was written.
    pub version: u64,
    /// When, among all changes of the index.
    pub seq: u64,
}

/// What became of a change.
#[derive(Debug, Clone, Copy)]
pub struct Changed {
    /// The document after it.
    pub version: Version,
    /// Whether it was there before.
    pub was_there: bool,
}

/// A change of a document.
#[derive(Debug)]
pub enum Change {
    /// It gets this source; one that is there is refused where `true`.
    Write(Map<String, Value>, Box<[u8]>, bool),
    /// It goes.
    Delete,
}

struct State {
    writer: IndexWriter,
    versions: HashMap<Box<str>, Version>,
    /// Documents that cannot be found yet.
    pending: HashMap<Box<str>, Option<Box<[u8]>>>,
    pending_bytes: usize,
    next: u64,
    log: BufWriter<File>,
    refreshed: Instant,
}

/// One index.
pub struct Index {
    /// Its name.
    pub name: String,
    /// What it is told apart by from others of the name.
    pub uuid: String,
    /// When it was made, in milliseconds.
    pub created: i64,
    /// What it was made with.
    pub settings: Value,
    /// Its fields in the embedded index.
    pub inner: Inner,
    folder: PathBuf,
    mapping: RwLock<Arc<Mapping>>,
    reader: IndexReader,
    state: Mutex<State>,
}

const ABOUT: &str = "about.json";
const LOG: &str = "log";
const OLD_LOG: &str = "log.old";
const EMBEDDED: &str = "embedded";

/// A file that is not there need not be removed.
fn missing(error: std::io::Error) -> std::io::Result<()> {
    if error.kind() == std::io::ErrorKind::NotFound { Ok(()) } else { Err(error) }
}

impl Index {
    /// Makes a new index in a folder.
    ///
    /// # Errors
    /// A folder that cannot be written to.
    pub fn create(
        folder: PathBuf,
        name: &str,
        uuid: &str,
        settings: Value,
        mapping: Mapping,
    ) -> Result<Index> {
        std::fs::create_dir_all(&folder)?;
        let created = jiff::Timestamp::now().as_millisecond();
        let index = Index::over(folder, (name, uuid, created), settings, mapping)?;
        index.save()?;
        Ok(index)
    }

    /// Opens the index of a folder, with every change that was acknowledged.
    ///
    /// # Errors
    /// A folder that has none.
    pub fn open(folder: PathBuf) -> Result<Index> {
        let about: Value = serde_json::from_slice(&std::fs::read(folder.join(ABOUT))?)
            .map_err(|error| Error::parsing(error.to_string()))?;
        let mut mapping = Mapping::default();
        mapping.put(&about["mapping"])?;
        let text = |key: &str| about[key].as_str().unwrap_or_default().to_owned();
        let created = about["created"].as_i64().unwrap_or(0);
        let (name, uuid) = (text("name"), text("uuid"));
        // What is read is not what is written to: it is put aside, and is the one that counts until all of it is written again.
        let (log, old) = (folder.join(LOG), folder.join(OLD_LOG));
        match old.exists() {
            true => std::fs::remove_file(&log).or_else(missing)?,
            false => std::fs::rename(&log, &old)?,
        }
        let mut log = BufReader::new(File::open(&old)?);
        let index =
            Index::over(folder, (&name, &uuid, created), about["settings"].clone(), mapping)?;
        let mut state = index.state();
        while let Some((id, source)) = read_entry(&mut log) {
            let change = match source {
                Some(source) => match serde_json::from_slice(&source) {
                    Ok(document) => Change::Write(document, source, false),
                    Err(_) => continue,
                },
                None => Change::Delete,
            };
            let values = match &change {
                Change::Write(document, ..) => match look(&index.mapping(), &id, document)? {
                    Looked::Values(values) => values,
                    Looked::Grows(_) => continue,
                },
                Change::Delete => Values::default(),
            };
            // What was acknowledged once is not refused now.
            let _ = index.apply(&mut state, &id, change, values);
        }
        index.commit(&mut state)?;
        state.log.flush()?;
        drop(state);
        std::fs::remove_file(&old)?;
        Ok(index)
    }

    fn over(
        folder: PathBuf,
        (name, uuid, created): (&str, &str, i64),
        settings: Value,
        mapping: Mapping,
    ) -> Result<Index> {
        let (schema, inner) = embedded_schema();
        let embedded = folder.join(EMBEDDED);
        let _ = std::fs::remove_dir_all(&embedded);
        std::fs::create_dir_all(&embedded)?;
        let index = tantivy::Index::create_in_dir(&embedded, schema)?;
        let writer = index.writer_with_num_threads(2, WRITER_BYTES)?;
        let reader = index.reader_builder().reload_policy(ReloadPolicy::Manual).try_into()?;
        let log = File::options().create(true).append(true).open(folder.join(LOG))?;
        let state = State {
            writer,
            versions: HashMap::new(),
            pending: HashMap::new(),
            pending_bytes: 0,
            next: 0,
            log: BufWriter::new(log),
            refreshed: Instant::now(),
        };
        Ok(Index {
            name: name.to_owned(),
            uuid: uuid.to_owned(),
            created,
            settings,
            inner,
            folder,
            mapping: RwLock::new(Arc::new(mapping)),
            reader,
            state: Mutex::new(state),
        })
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Its mapping as it is now.
    pub fn mapping(&self) -> Arc<Mapping> {
        self.mapping.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Where it lies.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Adds to its mapping.
    ///
    /// # Errors
    /// What cannot be changed.
    pub fn put_mapping(&self, body: &Value) -> Result<()> {
        {
            let mut mapping = self.mapping.write().unwrap_or_else(PoisonError::into_inner);
            let mut changed = Mapping::clone(&mapping);
            changed.put(body)?;
            *mapping = Arc::new(changed);
        }
        self.save()
    }

    fn save(&self) -> Result<()> {
        let about = json!({
            "name": self.name, "uuid": self.uuid, "created": self.created, "settings": self.settings,
            "mapping": self.mapping().body(),
        });
        let aside = self.folder.join("about.new");
        std::fs::write(&aside, about.to_string())?;
        Ok(std::fs::rename(aside, self.folder.join(ABOUT))?)
    }

    /// Changes documents, in their order. All of it is in the log before this returns.
    ///
    /// # Errors
    /// A log that cannot be written; what is wrong with a document is told with it.
    pub fn change(&self, changes: Vec<(String, Change)>) -> Result<Vec<Result<Changed>>> {
        let looked: Vec<_> = changes
            .into_iter()
            .map(|(id, change)| {
                let values = match &change {
                    Change::Write(document, ..) => self.values(&id, document),
                    Change::Delete => Ok(Values::default()),
                };
                (id, change, values)
            })
            .collect();
        let mut state = self.state();
        let done = looked
            .into_iter()
            .map(|(id, change, values)| self.apply(&mut state, &id, change, values?))
            .collect();
        state.log.flush()?;
        if state.pending_bytes > MOST_PENDING_BYTES {
            self.commit(&mut state)?;
        }
        Ok(done)
    }

    /// What a document becomes; the mapping grows where it may.
    fn values(&self, id: &str, document: &Map<String, Value>) -> Result<Values> {
        match look(&self.mapping(), id, document)? {
            Looked::Values(values) => Ok(values),
            Looked::Grows(new) => {
                self.put_mapping(&new)?;
                match look(&self.mapping(), id, document)? {
                    Looked::Values(values) => Ok(values),
                    Looked::Grows(_) => Ok(Values::default()),
                }
            }
        }
    }

    fn apply(
        &self,
        state: &mut State,
        id: &str,
        change: Change,
        values: Values,
    ) -> Result<Changed> {
        let known = state.versions.get(id).copied();
        if let (Change::Write(_, _, true), Some(known)) = (&change, known) {
            let reason = format!(
                "[{id}]: version conflict, document already exists (current version [{}])",
                known.version
            );
            let conflict = Error::new(409, "version_conflict_engine_exception", reason);
            let mut conflict = conflict.about(&self.name, &self.uuid);
            conflict.more.insert("shard".into(), json!("0"));
            return Err(conflict);
        }
        let version =
            Version { version: known.map_or(1, |known| known.version + 1), seq: state.next };
        state.next += 1;
        if known.is_some() {
            state.writer.delete_term(Term::from_field_text(self.inner.id, id));
        }
        let source = match change {
            Change::Write(_, source, _) => Some(source),
            Change::Delete => None,
        };
        write_entry(&mut state.log, id, source.as_deref())?;
        match source {
            Some(source) => {
                state.writer.add_document(self.document(id, &source, values))?;
                state.pending_bytes += source.len() + id.len();
                state.versions.insert(id.into(), version);
                state.pending.insert(id.into(), Some(source));
            }
            None => {
                state.versions.remove(id);
                state.pending.insert(id.into(), None);
            }
        }
        Ok(Changed { version, was_there: known.is_some() })
    }

    fn document(&self, id: &str, source: &[u8], values: Values) -> TantivyDocument {
        let mut document = TantivyDocument::new();
        document.add_text(self.inner.id, id);
        document.add_bytes(self.inner.source, source);
        let (mut exact, mut words) = (Vec::new(), Vec::new());
        for (number, kept) in values.values {
            let is_text = matches!(kept[0], Kept::Words(_));
            let inside = if is_text { &mut words } else { &mut exact };
            let kept: Vec<_> = kept.into_iter().map(owned).collect();
            inside.push((key(number), tantivy::schema::OwnedValue::Array(kept)));
        }
        for (number, count) in values.nested {
            exact.push((key(number), tantivy::schema::OwnedValue::I64(count)));
        }
        for number in values.exists {
            document.add_text(self.inner.exists, key(number));
        }
        document.add_object(self.inner.exact, exact.into_iter().collect());
        document.add_object(self.inner.words, words.into_iter().collect());
        document
    }

    fn commit(&self, state: &mut State) -> Result<()> {
        if !state.pending.is_empty() {
            state.writer.commit()?;
            self.reader.reload()?;
            state.pending.clear();
            state.pending_bytes = 0;
        }
        state.refreshed = Instant::now();
        Ok(())
    }

    /// Lets everything be found.
    ///
    /// # Errors
    /// A folder that cannot be written to.
    pub fn refresh(&self) -> Result<()> {
        self.commit(&mut self.state())
    }

    /// What can be found: as it was a second ago, or later.
    ///
    /// # Errors
    /// A folder that cannot be written to.
    pub fn searcher(&self) -> Result<Searcher> {
        let mut state = self.state();
        if state.refreshed.elapsed() > REFRESH_INTERVAL {
            self.commit(&mut state)?;
        }
        Ok(self.reader.searcher())
    }

    /// How texts are cut into words.
    pub fn words_of(&self, text: &str) -> Vec<String> {
        let tokenizers = self.reader.searcher().index().tokenizers().clone();
        let mut words = Vec::new();
        if let Some(mut tokenizer) = tokenizers.get("default") {
            tokenizer.token_stream(text).process(&mut |token| words.push(token.text.clone()));
        }
        words
    }

    /// A document by its id, as it was written last.
    ///
    /// # Errors
    /// A folder that cannot be read.
    pub fn get(&self, id: &str) -> Result<Option<(Version, Vec<u8>)>> {
        let state = self.state();
        let Some(version) = state.versions.get(id).copied() else { return Ok(None) };
        if let Some(pending) = state.pending.get(id) {
            return Ok(pending.as_ref().map(|source| (version, source.to_vec())));
        }
        drop(state);
        let searcher = self.reader.searcher();
        let term = Term::from_field_text(self.inner.id, id);
        let query = TermQuery::new(term, IndexRecordOption::Basic);
        let found = searcher.search(&query, &TopDocs::with_limit(1).order_by_score())?;
        let Some((_, at)) = found.first() else { return Ok(None) };
        let document: TantivyDocument = searcher.doc(*at)?;
        Ok(Some((version, self.source(&document).to_vec())))
    }

    /// The version of a document that is there.
    pub fn version(&self, id: &str) -> Option<Version> {
        self.state().versions.get(id).copied()
    }

    /// The documents that are there, found yet or not.
    pub fn count(&self) -> usize {
        self.state().versions.len()
    }

    /// The source of a document of the embedded index.
    pub fn source<'d>(&self, document: &'d TantivyDocument) -> &'d [u8] {
        document.get_first(self.inner.source).and_then(|value| value.as_bytes()).unwrap_or_default()
    }

    /// The id of a document of the embedded index.
    pub fn id<'d>(&self, document: &'d TantivyDocument) -> &'d str {
        document.get_first(self.inner.id).and_then(|value| value.as_str()).unwrap_or_default()
    }
}

/// What a field is called inside.
pub fn key(number: u32) -> String {
    format!("f{number}")
}

fn owned(kept: Kept) -> tantivy::schema::OwnedValue {
    use tantivy::schema::OwnedValue;
    match kept {
        Kept::Signed(value) => OwnedValue::I64(value),
        Kept::Unsigned(value) => OwnedValue::U64(value),
        Kept::Float(value) => OwnedValue::F64(value),
        Kept::Bool(value) => OwnedValue::Bool(value),
        Kept::Exact(text) | Kept::Words(text) => OwnedValue::Str(text),
    }
}

fn embedded_schema() -> (Schema, Inner) {
    let mut schema = Schema::builder();
    let by = |tokenizer: &str, option| {
        TextFieldIndexing::default().set_tokenizer(tokenizer).set_index_option(option)
    };
    let exact = JsonObjectOptions::default()
        .set_indexing_options(by("raw", IndexRecordOption::Basic))
        .set_fast("raw");
    let words = JsonObjectOptions::default()
        .set_indexing_options(by("default", IndexRecordOption::WithFreqsAndPositions));
    let inner = Inner {
        id: schema.add_text_field("id", STRING | STORED),
        source: schema.add_bytes_field("source", STORED),
        exact: schema.add_json_field("exact", exact),
        words: schema.add_json_field("words", words),
        exists: schema.add_text_field("exists", STRING),
    };
    (schema.build(), inner)
}

/// An entry of the log: the length of an id and the id, the length of a source and the source. A document that goes has the
/// largest length, and no source.
fn write_entry(log: &mut impl Write, id: &str, source: Option<&[u8]>) -> std::io::Result<()> {
    log.write_all(&(id.len() as u32).to_le_bytes())?;
    log.write_all(id.as_bytes())?;
    log.write_all(&source.map_or(u32::MAX, |source| source.len() as u32).to_le_bytes())?;
    log.write_all(source.unwrap_or_default())
}

/// The next entry; `None` at the end, and where the last one was not written to its end.
fn read_entry(log: &mut impl Read) -> Option<(String, Option<Box<[u8]>>)> {
    let mut part = |length: Option<usize>| {
        let mut bytes = vec![0; length?];
        log.read_exact(&mut bytes).ok()?;
        Some(bytes)
    };
    let length = |bytes: Option<Vec<u8>>| Some(u32::from_le_bytes(bytes?.try_into().ok()?));
    let id = length(part(Some(4)))?;
    let id = String::from_utf8(part(Some(id as usize))?).ok()?;
    match length(part(Some(4)))? {
        u32::MAX => Some((id, None)),
        source => Some((id, Some(part(Some(source as usize))?.into_boxed_slice()))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn write(source: &str, is_new: bool) -> Change {
        Change::Write(serde_json::from_str(source).unwrap(), source.as_bytes().into(), is_new)
    }

    #[test]
    fn what_was_acknowledged_is_there_again() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("x");
        {
            let index =
                Index::create(path.clone(), "x", "u", json!({}), Mapping::default()).unwrap();
            let changes = [
                ("1", write("{\"n\": 1}", true)),
                ("1", write("{\"n\": 2}", true)),
                ("2", write("{\"n\": 2}", false)),
            ];
            let changes = changes.map(|(id, change)| (id.to_owned(), change));
            let done = index.change(changes.into_iter().collect()).unwrap();
            assert_eq!(done[1].as_ref().unwrap_err().status, 409);
            index.refresh().unwrap();
            index
                .change(vec![("2".into(), Change::Delete), ("3".into(), write("{\"n\":3}", false))])
                .unwrap();
            assert!(index.get("2").unwrap().is_none());
        }
        // A server that was killed in the middle of an entry.
        File::options().append(true).open(path.join(LOG)).unwrap().write_all(&[9, 0, 0]).unwrap();
        let index = Index::open(path).unwrap();
        assert_eq!(index.count(), 2);
        assert_eq!(index.get("1").unwrap().unwrap().1, b"{\"n\": 1}");
        assert_eq!(index.get("3").unwrap().unwrap().0.version, 1);
        assert_eq!(index.mapping().find("n").unwrap().name, "long");
    }
}
