//! Documents on their way: bulk requests over several connections at once, and what became of each document.

use std::borrow::Cow;
use std::collections::BinaryHeap;
use std::io::{BufRead, BufReader, Seek, SeekFrom, Write};
use std::sync::mpsc::{Receiver, SyncSender, TrySendError, sync_channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use arrow_array::BooleanArray;
use arrow_select::filter::filter_record_batch;
use serde::Deserialize;
use serde::de::IgnoredAny;
use serde_json::{Value, json};
use typhos_core::columns::{MisfitValue, Reason, SetAside};
use typhos_core::run::Monitor;
use typhos_core::text::LineRef;
use typhos_load::proof::SentFacts;
use typhos_load::{Moved, Seen, TargetError};

use super::client::{Client, part, words};
use super::documents::Documents;

/// Bytes of a request at most, but for a single document that is longer.
const REQUEST_BYTES: usize = 4 << 20;

/// Connections at most.
const MOST_CONNECTIONS: usize = 4;

/// Documents that are asked for again by their ids, at most, and their bytes each.
const SAMPLE: usize = 200;
const SAMPLED_BYTES: usize = 1 << 16;

/// How long a full queue is left alone before it is looked at again.
const FULL: Duration = Duration::from_millis(1);

/// How often an item is sent again that the server has no room for.
const MOST_TRIES: u32 = 12;

/// What is known of the documents that went over.
pub struct Arrived {
    /// Facts of the rows that are new.
    pub facts: SentFacts,
    /// What became of all.
    pub moved: Moved,
    /// Documents to ask for again: those whose ids have the smallest hashes.
    pub sample: BinaryHeap<(u64, Box<str>, Box<[u8]>)>,
    refused: Vec<SetAside>,
    seen: Vec<Box<str>>,
    failed: Option<TargetError>,
    /// Ids of new documents, where they are to go again if the load fails.
    written: Option<std::fs::File>,
}

/// How documents are sent.
#[derive(Debug, Clone)]
pub struct Sending {
    /// The index, by the name that it has for now.
    pub index: String,
    /// What happens to those that are there already; where nothing is said, the ids say that they are the same.
    pub seen: Option<Seen>,
    /// Whether new documents are to go again if the load fails.
    pub is_remembered: bool,
    /// Whether documents are asked for again.
    pub is_proven: bool,
}

/// Sends documents.
pub struct Bulk {
    queue: Option<SyncSender<Documents>>,
    workers: Vec<JoinHandle<()>>,
    client: Client,
    sending: Arc<Sending>,
    arrived: Arc<Mutex<Arrived>>,
}

fn lock(arrived: &Mutex<Arrived>) -> MutexGuard<'_, Arrived> {
    arrived.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Bulk {
    /// Opens the connections.
    ///
    /// # Errors
    /// A system that gives no thread, or no temporary file.
    pub fn start(client: Client, sending: Sending, columns: usize) -> Result<Bulk, TargetError> {
        let connections = std::thread::available_parallelism()
            .map_or(1, |cores| cores.get().clamp(2, MOST_CONNECTIONS));
        let written = match sending.is_remembered {
            true => {
                let file = tempfile::tempfile();
                Some(file.map_err(TargetError::io(&std::env::temp_dir()))?)
            }
            false => None,
        };
        let arrived = Arrived {
            facts: SentFacts::new(columns),
            moved: Moved::default(),
            sample: BinaryHeap::new(),
            refused: Vec::new(),
            seen: Vec::new(),
            failed: None,
            written,
        };
        let arrived = Arc::new(Mutex::new(arrived));
        let (queue, waiting) = sync_channel::<Documents>(connections);
        let waiting = Arc::new(Mutex::new(waiting));
        let sending = Arc::new(sending);
        let mut workers = Vec::new();
        for _ in 0..connections {
            let courier = Courier {
                client: client.clone(),
                sending: sending.clone(),
                arrived: arrived.clone(),
            };
            let waiting = waiting.clone();
            let worker = std::thread::Builder::new().spawn(move || courier.work(&waiting));
            workers.push(worker.map_err(TargetError::Thread)?);
        }
        Ok(Bulk { queue: Some(queue), workers, client, sending, arrived })
    }

    /// Hands over the documents of a block as soon as there is room.
    ///
    /// # Errors
    /// What a connection failed with.
    pub fn append(
        &self,
        mut documents: Documents,
        monitor: &dyn Monitor,
    ) -> Result<(), TargetError> {
        let queue = self.queue.as_ref().ok_or(TargetError::GivenUp)?;
        loop {
            self.check()?;
            match queue.try_send(documents) {
                Ok(()) => return Ok(()),
                Err(TrySendError::Full(unsent)) if !monitor.stopped() => {
                    documents = unsent;
                    std::thread::sleep(FULL);
                }
                Err(TrySendError::Full(_)) => return Err(TargetError::Interrupted),
                Err(TrySendError::Disconnected(_)) => {
                    self.check()?;
                    return Err(TargetError::GivenUp);
                }
            }
        }
    }

    fn check(&self) -> Result<(), TargetError> {
        lock(&self.arrived).failed.take().map_or(Ok(()), Err)
    }

    /// Waits until all documents are over.
    ///
    /// # Errors
    /// What a connection failed with, and rows that are there already where the load stops at them.
    pub fn settle(&mut self, monitor: &dyn Monitor) -> Result<(), TargetError> {
        self.queue = None;
        while self.workers.iter().any(|worker| !worker.is_finished()) {
            if monitor.stopped() {
                return Err(TargetError::Interrupted);
            }
            std::thread::sleep(FULL);
        }
        self.join();
        self.check()
    }

    fn join(&mut self) {
        for worker in self.workers.drain(..) {
            if let Err(panic) = worker.join() {
                std::panic::resume_unwind(panic);
            }
        }
    }

    /// Documents that the server refused, since this was asked last.
    pub fn refused(&self) -> Vec<SetAside> {
        std::mem::take(&mut lock(&self.arrived).refused)
    }

    /// What arrived; nothing arrives after that.
    pub fn arrived(&self) -> MutexGuard<'_, Arrived> {
        lock(&self.arrived)
    }

    /// Ends all connections, finished or not, and takes back what is known to be ours. Returns how many documents could
    /// not be taken back.
    pub fn undo(&mut self) -> u64 {
        self.client.is_over.store(true, std::sync::atomic::Ordering::SeqCst);
        self.queue = None;
        self.join();
        self.client.is_over.store(false, std::sync::atomic::Ordering::SeqCst);
        let Some(mut written) = lock(&self.arrived).written.take() else { return 0 };
        let (mut left, mut body, mut count) = (0, Vec::new(), 0);
        let path = format!("{}/_bulk", part(&self.sending.index));
        let mut send = |body: &mut Vec<u8>, count: &mut u64| {
            let sent = self.client.send("POST", &path, Some(body));
            if !sent.is_ok_and(|(answer, _)| answer.is_fine()) {
                left += *count;
            }
            body.clear();
            *count = 0;
        };
        if written.seek(SeekFrom::Start(0)).is_ok() {
            for line in BufReader::new(written).lines().map_while(Result::ok) {
                body.extend_from_slice(format!("{{\"delete\":{{\"_id\":{line}}}}}\n").as_bytes());
                count += 1;
                if body.len() > REQUEST_BYTES {
                    send(&mut body, &mut count);
                }
            }
        }
        if count > 0 {
            send(&mut body, &mut count);
        }
        left
    }
}

/// What the server says of a bulk request.
#[derive(Deserialize)]
struct Told {
    errors: bool,
    #[serde(default)]
    items: Vec<std::collections::HashMap<String, Item>>,
}

#[derive(Deserialize)]
struct Item {
    status: u16,
    error: Option<Value>,
}

/// The same, where nothing went wrong and all documents are new.
#[derive(Deserialize)]
struct AllWell {
    errors: bool,
    #[serde(rename = "items", default)]
    _items: IgnoredAny,
}

/// What became of a document.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fate {
    /// Nobody knows: its request has not come to an end.
    Open,
    Inserted,
    Updated,
    There,
    Refused,
}

/// One connection.
struct Courier {
    client: Client,
    sending: Arc<Sending>,
    arrived: Arc<Mutex<Arrived>>,
}

impl Courier {
    fn work(&self, waiting: &Mutex<Receiver<Documents>>) {
        loop {
            let next = waiting.lock().unwrap_or_else(PoisonError::into_inner).recv();
            let Ok(documents) = next else { return };
            if let Err(error) = self.deliver(&documents) {
                lock(&self.arrived).failed.get_or_insert(error);
                return;
            }
        }
    }

    /// Sends the documents of a block, a few MiB at a time.
    fn deliver(&self, documents: &Documents) -> Result<(), TargetError> {
        let mut fates = vec![Fate::Open; documents.len()];
        let mut refused = Vec::new();
        let mut sent = Ok(());
        let mut from = 0;
        while from < documents.len() && sent.is_ok() {
            let start = documents.start(from);
            let most = documents.ends[from..].partition_point(|end| end - start <= REQUEST_BYTES);
            let to = from + most.max(1);
            sent = self.send(documents, (from..to).collect(), &mut fates, &mut refused);
            from = to;
        }
        // What went over before a failure is to be taken out again.
        self.note(documents, &fates, refused)?;
        sent
    }

    /// Sends some documents until each has its fate.
    fn send(
        &self,
        documents: &Documents,
        mut some: Vec<usize>,
        fates: &mut [Fate],
        refused: &mut Vec<SetAside>,
    ) -> Result<(), TargetError> {
        let path = format!("{}/_bulk", part(&self.sending.index));
        let mut tries = 0;
        while !some.is_empty() {
            let is_whole = some.len() == some[some.len() - 1] - some[0] + 1;
            let body = match is_whole {
                true => {
                    let (first, last) = (some[0], some[some.len() - 1]);
                    Cow::Borrowed(&documents.lines[documents.start(first)..documents.ends[last]])
                }
                false => some.iter().flat_map(|at| documents.of(*at)).copied().collect(),
            };
            let (answer, is_again) = self.client.send("POST", &path, Some(&body))?;
            let is_again = is_again || tries > 0;
            let answer = self.client.checked(answer)?;
            let strange = || self.client.error("the answer to a bulk request cannot be read", "");
            let is_update = self.sending.seen == Some(Seen::Update);
            if !is_update {
                let all: AllWell = serde_json::from_slice(&answer.body).map_err(|_| strange())?;
                if !all.errors {
                    some.iter().for_each(|at| fates[*at] = Fate::Inserted);
                    return Ok(());
                }
            }
            let told: Told = serde_json::from_slice(&answer.body).map_err(|_| strange())?;
            if told.items.len() != some.len() && (told.errors || is_update) {
                return Err(strange());
            }
            let mut again = Vec::new();
            let mut there = Vec::new();
            for (at, item) in some.iter().zip(told.items) {
                let item = item.into_values().next().ok_or_else(strange)?;
                match (item.status, item.error) {
                    (200, None) if is_update => fates[*at] = Fate::Updated,
                    (_, None) => fates[*at] = Fate::Inserted,
                    (409, Some(_)) => there.push(*at),
                    (429 | 503, Some(_)) if tries < MOST_TRIES => again.push(*at),
                    (_, Some(error)) => {
                        fates[*at] = Fate::Refused;
                        refused.push(aside(documents, *at, &words(&error)));
                    }
                }
            }
            self.meet(documents, there, is_again, fates)?;
            if !again.is_empty() {
                tries += 1;
                self.client.pause(Duration::from_millis(100 << tries.min(7)))?;
            }
            some = again;
        }
        Ok(())
    }

    /// Documents whose ids are there already. Where the request was sent before, they may be its own.
    fn meet(
        &self,
        documents: &Documents,
        there: Vec<usize>,
        is_again: bool,
        fates: &mut [Fate],
    ) -> Result<(), TargetError> {
        if there.is_empty() {
            return Ok(());
        }
        let own = match is_again {
            true => self.are_same(documents, &there)?,
            false => vec![false; there.len()],
        };
        for (at, is_own) in there.into_iter().zip(own) {
            fates[at] = if is_own { Fate::Inserted } else { Fate::There };
            if is_own {
                continue;
            }
            if self.sending.seen == Some(Seen::Stop) {
                lock(&self.arrived).seen.push(documents.ids[at].clone());
            }
        }
        Ok(())
    }

    /// Whether the documents that are there are those that were sent.
    fn are_same(&self, documents: &Documents, some: &[usize]) -> Result<Vec<bool>, TargetError> {
        let ids: Vec<&str> = some.iter().map(|at| &*documents.ids[*at]).collect();
        let found = get(&self.client, &self.sending.index, &ids)?;
        Ok(some
            .iter()
            .zip(found)
            .map(|(at, found)| is_same(documents.source(*at), &found))
            .collect())
    }

    /// Notes what became of a block.
    fn note(
        &self,
        documents: &Documents,
        fates: &[Fate],
        refused: Vec<SetAside>,
    ) -> Result<(), TargetError> {
        let count = |fate| fates.iter().filter(|known| **known == fate).count() as u64;
        let all_new = count(Fate::Inserted) == fates.len() as u64;
        let facts = if all_new { documents.facts.clone() } else { new_facts(documents, fates) };
        let mut arrived = lock(&self.arrived);
        arrived.facts.merge(facts);
        arrived.moved.inserted += count(Fate::Inserted);
        arrived.moved.updated += count(Fate::Updated);
        arrived.moved.skipped += count(Fate::There);
        arrived.refused.extend(refused);
        if let Some(written) = &mut arrived.written {
            let new = fates.iter().zip(&documents.ids).filter(|(fate, _)| **fate == Fate::Inserted);
            let lines: String = new.map(|(_, id)| format!("{}\n", json!(id))).collect();
            written.write_all(lines.as_bytes()).map_err(TargetError::io(&std::env::temp_dir()))?;
        }
        if self.sending.is_proven {
            for (at, fate) in fates.iter().enumerate() {
                let source = documents.source(at);
                let is_sent = matches!(fate, Fate::Inserted | Fate::Updated);
                if !is_sent || source.len() > SAMPLED_BYTES {
                    continue;
                }
                let hash = twox_hash::XxHash3_64::oneshot(documents.ids[at].as_bytes());
                let is_full = arrived.sample.len() == SAMPLE;
                if is_full && arrived.sample.peek().is_some_and(|(most, ..)| hash >= *most) {
                    continue;
                }
                if is_full {
                    arrived.sample.pop();
                }
                arrived.sample.push((hash, documents.ids[at].clone(), source.into()));
            }
        }
        if !arrived.seen.is_empty() {
            let (count, keys) = (arrived.seen.len() as u64, arrived.seen.iter().take(5));
            let keys = keys.map(|key| key.to_string()).collect();
            let columns = "their ids".to_owned();
            return Err(TargetError::Seen {
                table: self.client.index().into(),
                columns,
                count,
                keys,
            });
        }
        Ok(())
    }
}

/// What is known of the rows that are new.
fn new_facts(documents: &Documents, fates: &[Fate]) -> SentFacts {
    let mut facts = SentFacts::new(documents.facts.columns.len());
    let mut from = 0;
    for batch in &documents.batches {
        let of_batch = &fates[from..from + batch.num_rows()];
        from += batch.num_rows();
        let new: BooleanArray = of_batch.iter().map(|fate| Some(*fate == Fate::Inserted)).collect();
        let kept = filter_record_batch(batch, &new).expect("a verdict for every row");
        facts.add(&kept);
    }
    facts
}

/// A record whose document the server refused.
fn aside(documents: &Documents, at: usize, said: &str) -> SetAside {
    let (part, line) = documents.places[at];
    let (record, missing) = documents.record(at);
    let reason = Reason::Refused(said.to_owned());
    let misfit = MisfitValue::new(LineRef { part, line }, None, &record, reason);
    SetAside { misfit, record, missing }
}

/// Documents by their ids; null where one is not there.
///
/// # Errors
/// A server that cannot be asked.
pub fn get(client: &Client, index: &str, ids: &[&str]) -> Result<Vec<Value>, TargetError> {
    let mut found = Vec::new();
    for some in ids.chunks(100) {
        let answer =
            client.ask("POST", &format!("{}/_mget", part(index)), Some(&json!({ "ids": some })))?;
        let documents = answer["docs"].as_array().cloned().unwrap_or_default();
        found.extend((0..some.len()).map(|at| {
            documents.get(at).map_or(Value::Null, |document| document["_source"].clone())
        }));
    }
    Ok(found)
}

/// Whether a document is the one that was sent.
pub fn is_same(sent: &[u8], found: &Value) -> bool {
    serde_json::from_slice::<Value>(sent).is_ok_and(|sent| sent == *found)
}
