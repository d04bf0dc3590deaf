//! An index as a target: filled under a name beside, proven, and given its name in one call, as an alias; or added to.
//!
//! An index that is made gets a name of its own, which says who made it, and readers know it by its alias. So a new one takes the
//! place of another at once, and nobody sees one that is half full. What is added to an index is seen as it arrives; where the load
//! fails, documents that are known to be new are taken out again.

use serde_json::{Value, json};
use std::sync::Arc;
use typhos_core::columns::SetAside;
use typhos_core::run::{Monitor, RunOptions};
use typhos_load::budget::threads_within;
use typhos_load::proof::Proof;
use typhos_load::unfinished::Undoing;
use typhos_load::{Action, Done, Gate, Job, LoadPlan, Seen, Sink, Target, TargetError};

use super::bulk::{Arrived, Bulk, Sending, get, is_same};
use super::client::{Client, part};
use super::documents::{DocumentEncoder, Documents, Operation};
use super::plan::{Preflight, There, look_up, preflight};
use super::proof::{Answers, Questions};
use crate::maker::Maker;

/// Bytes of input that become the documents of one or a few requests.
const BLOCK_BYTES: usize = 1 << 20;

/// Bytes that a block may take on its way, for each byte of it.
const WEIGHT: usize = 12;

/// What stands between the name of an index and who made it.
const MADE_BY: &str = "-typhos-";

/// An index that rows can go to.
pub struct IndexTarget {
    /// The connection to its server.
    pub client: Client,
}

impl Target for IndexTarget {
    type Encoder = DocumentEncoder;
    type Sink = IndexSink;

    fn plan(&mut self, job: &Job<'_>) -> Result<LoadPlan, TargetError> {
        preflight(&self.client, job).map(|found| found.plan)
    }

    fn stage(
        self,
        job: &Job<'_>,
        run: &mut RunOptions,
    ) -> Result<(DocumentEncoder, IndexSink), TargetError> {
        run.block_bytes = BLOCK_BYTES;
        run.threads = threads_within(run.threads, job.memory, WEIGHT * BLOCK_BYTES);
        let client = self.client;
        let Preflight { plan, mut there, mapping, missing } = preflight(&client, job)?;
        let Some(mapping) = mapping.filter(|_| plan.problems.is_empty()) else {
            return Err(TargetError::Preflight(Box::new(plan)));
        };
        sweep(&client)?;
        let schema = job.plan.schema();
        let has_key = !schema.layout.key.is_empty();
        let action = plan.action;
        let there = there.pop();
        let mut body = mapping.body;
        let (index, fields) = match (action, &there) {
            (Action::Append, Some(there)) => {
                let path = format!("{}/_mapping", part(&there.name));
                if !missing.is_empty() {
                    client.ask("PUT", &path, Some(&json!({ "properties": missing })))?;
                }
                let mut told = client.ask("GET", &path, None)?;
                (there.name.clone(), told[&there.name]["mappings"].take())
            }
            _ => {
                let index = format!("{}{MADE_BY}{}", client.index(), Maker::this());
                let mut settings = there.as_ref().map_or(json!({}), |there| there.parts.clone());
                settings["refresh_interval"] = json!("-1");
                body["settings"] = json!({ "index": settings });
                body["mappings"]["_meta"]["typhos"]["state"] = json!("loading");
                create(&client, &index, &body)?;
                (index, body["mappings"].take())
            }
        };
        let (operation, seen) = match (action, has_key, job.seen) {
            (Action::Append, false, _) => (Operation::Create, None),
            (Action::Append, true, Seen::Update) => (Operation::Index, Some(Seen::Update)),
            (Action::Append, true, seen) => (Operation::Create, Some(seen)),
            _ => (Operation::Index, None),
        };
        // From here on there is something to undo.
        let questions = Questions::new(&schema.columns, &fields);
        let sending = Sending {
            index: index.clone(),
            seen,
            is_remembered: action == Action::Append,
            is_proven: job.is_proven,
        };
        let bulk = Bulk::start(client.clone(), sending, schema.columns.len())?;
        let mut sink = IndexSink {
            client,
            bulk,
            index,
            there,
            action,
            meta: fields["_meta"].clone(),
            before: Answers::default(),
            questions: job.is_proven.then_some(questions),
            gate: job.gate.clone(),
            is_done: false,
            _undoing: Undoing::begin(),
        };
        if let (Action::Append, Some(questions)) = (action, &sink.questions) {
            sink.before = questions.ask(&sink.client, &sink.index)?;
        }
        let files = job.input.files().iter().map(|file| file.name());
        Ok((DocumentEncoder::new(schema, files, operation, job.is_proven), sink))
    }
}

/// Makes an index of a name that nobody else gives. Where the answer to a first request was lost, it is there already.
fn create(client: &Client, index: &str, body: &Value) -> Result<(), TargetError> {
    let body = body.to_string();
    let (answer, is_again) = client.send("PUT", &part(index), Some(body.as_bytes()))?;
    let is_there = is_again && !answer.is_fine() && !look_up(client, index)?.is_empty();
    if is_there { Ok(()) } else { client.checked(answer).map(|_| ()) }
}

/// Removes indexes that loads left behind which were killed, and which nobody reads.
fn sweep(client: &Client) -> Result<(), TargetError> {
    let ours = format!("{}{MADE_BY}", client.index());
    for there in look_up(client, &format!("{ours}*")).unwrap_or_default() {
        let maker = there.name.strip_prefix(&ours).and_then(Maker::parse);
        let is_left = there.mapping["_meta"]["typhos"]["state"].is_string();
        if is_left && there.aliases.is_empty() && maker.is_some_and(Maker::is_gone) {
            client.ask("DELETE", &part(&there.name), None)?;
        }
    }
    Ok(())
}

/// Takes documents, and gives the index its name.
pub struct IndexSink {
    client: Client,
    bulk: Bulk,
    /// The index by its own name.
    index: String,
    there: Option<There>,
    action: Action,
    meta: Value,
    before: Answers,
    questions: Option<Questions>,
    gate: Arc<Gate>,
    is_done: bool,
    _undoing: Undoing,
}

impl IndexSink {
    /// Undoes the load at once; what cannot be undone is said with the error.
    fn failed(&mut self, error: TargetError) -> TargetError {
        let (left, updated) = self.undo();
        let mut said = Vec::new();
        if left > 0 {
            said.push(format!(
                "{} could not be taken out again",
                typhos_core::infer::counted(left, "document")
            ));
        }
        if updated > 0 {
            said.push(format!(
                "{} have their new values",
                typhos_core::infer::counted(updated, "document")
            ));
        }
        match said.is_empty() {
            true => error,
            false => TargetError::Server {
                target: self.client.target(),
                message: error.to_string(),
                help: format!("the index was changed all the same: {}", said.join("; ")),
            },
        }
    }

    /// What is left of an undone load: documents that are still there, and documents that have other values.
    fn undo(&mut self) -> (u64, u64) {
        if self.is_done {
            return (0, 0);
        }
        self.is_done = true;
        self.gate.begin_undo();
        let left = self.bulk.undo();
        if self.action == Action::Append {
            return (left, self.bulk.arrived().moved.updated);
        }
        // Where the server is gone, the next load sweeps.
        let _ = self.client.ask("DELETE", &part(&self.index), None);
        (0, 0)
    }

    fn mark(&self, index: &str, meta: &Value, state: Option<&str>) -> Result<(), TargetError> {
        let mut meta = meta.clone();
        match state {
            Some(state) => meta["typhos"]["state"] = json!(state),
            None => {
                meta["typhos"].as_object_mut().and_then(|typhos| typhos.shift_remove("state"));
            }
        }
        let path = format!("{}/_mapping", part(index));
        self.client.ask("PUT", &path, Some(&json!({ "_meta": meta }))).map(|_| ())
    }

    /// Holds what arrived against what is there.
    fn hold(&self) -> Result<Proof, TargetError> {
        let arrived = self.bulk.arrived();
        let Arrived { facts, moved, .. } = &*arrived;
        let Some(questions) = &self.questions else {
            self.client.ask("POST", &format!("{}/_refresh", part(&self.index)), None)?;
            return Ok(Proof::Skipped);
        };
        let after = questions.ask(&self.client, &self.index)?;
        let compared = match moved.updated {
            0 => questions.compare(&self.before, &after, facts),
            // What the documents had before is not known any more.
            _ if after.documents == self.before.documents + moved.inserted => Ok(1),
            _ => Err(vec![format!(
                "{} new documents were sent, and {} are there that were not",
                moved.inserted,
                after.documents as i128 - i128::from(self.before.documents)
            )]),
        };
        let sample: Vec<_> = arrived.sample.iter().collect();
        let ids: Vec<&str> = sample.iter().map(|(_, id, _)| &**id).collect();
        let found = get(&self.client, &self.index, &ids)?;
        let mut wrong = compared.as_ref().err().cloned().unwrap_or_default();
        for ((_, id, sent), found) in sample.iter().zip(&found) {
            if !is_same(sent, found) {
                wrong.push(match found {
                    Value::Null => format!("the document '{id}' is not there"),
                    _ => format!("the document '{id}' is another one than was sent"),
                });
            }
        }
        match compared {
            Ok(compared) if wrong.is_empty() => Ok(Proof::Proven {
                facts: compared + sample.len(),
                rows: facts.rows + moved.updated,
                is_before_move: false,
            }),
            _ => Err(TargetError::Unproven { target: self.client.target(), differences: wrong }),
        }
    }

    /// Whether the index has the name that it is loaded for.
    fn has_name(&self, name: &str) -> Result<bool, TargetError> {
        Ok(look_up(&self.client, name)?.iter().any(|there| there.name == self.index))
    }

    /// Gives the index its name, in one call.
    fn take_name(&mut self) -> Result<(), TargetError> {
        let name = self.client.index().to_owned();
        let add = |alias: &str, about: &Value| {
            let mut add = json!({ "index": self.index, "alias": alias });
            for (key, value) in about.as_object().into_iter().flatten() {
                add[key] = value.clone();
            }
            json!({ "add": add })
        };
        let mut actions = vec![add(&name, &json!({}))];
        let mut old = None;
        if let Some(there) = &self.there {
            for (alias, about) in there.aliases.iter().filter(|(alias, _)| **alias != name) {
                actions.push(add(alias, about));
            }
            // An index that has the name itself goes in the same call.
            if there.name == name {
                actions.push(json!({ "remove_index": { "index": name } }));
            } else {
                for alias in there.aliases.keys() {
                    actions.push(json!({ "remove": { "index": there.name, "alias": alias } }));
                }
                if there.name.contains(MADE_BY) {
                    self.mark(&there.name, &there.mapping["_meta"], Some("replaced"))?;
                }
                old = Some(there.name.clone());
            }
        }
        if self.action == Action::Create && !look_up(&self.client, &name)?.is_empty() {
            let what = format!("there is an index '{name}' by now, which somebody else made");
            return Err(self.client.error(what, "nothing was loaded"));
        }
        self.gate.pass()?;
        if let Err(error) = self.client.change_aliases(actions, &|| self.has_name(&name)) {
            // Also the last answer may have been lost.
            match self.has_name(&name) {
                Ok(true) => {}
                Ok(false) => return Err(error),
                Err(_) => {
                    // What readers may see is not removed.
                    let help = format!(
                        "the index {} is whole; whether it has the name '{name}' is not known",
                        self.index
                    );
                    self.is_done = true;
                    return Err(self.client.error(error.to_string(), &help));
                }
            }
        }
        self.is_done = true;
        // It is in its place; the rest is tidying, which the next load does where this one cannot.
        let _ = self.mark(&self.index, &self.meta, None);
        if let Some(old) = old {
            let _ = self.client.ask("DELETE", &part(&old), None);
        }
        Ok(())
    }
}

impl Sink for IndexSink {
    type Encoded = Documents;

    fn append(&mut self, documents: Documents, monitor: &dyn Monitor) -> Result<(), TargetError> {
        let sent = self.bulk.append(documents, monitor);
        sent.map_err(|error| self.failed(error))
    }

    fn settle(&mut self, monitor: &dyn Monitor) -> Result<(), TargetError> {
        let settled = self.bulk.settle(monitor);
        settled.map_err(|error| self.failed(error))
    }

    fn refused(&mut self) -> Vec<SetAside> {
        self.bulk.refused()
    }

    fn prove(&mut self, _monitor: &dyn Monitor) -> Result<Proof, TargetError> {
        if self.action != Action::Append {
            let usual = json!({ "index": { "refresh_interval": null } });
            let path = format!("{}/_settings", part(&self.index));
            let set = self.client.ask("PUT", &path, Some(&usual));
            set.map_err(|error| self.failed(error))?;
        }
        self.hold().map_err(|error| self.failed(error))
    }

    fn publish(mut self, proof: Proof, _monitor: &dyn Monitor) -> Result<Done, TargetError> {
        let published = match self.action {
            Action::Append => self.gate.pass(),
            _ => self.take_name(),
        };
        published.map_err(|error| self.failed(error))?;
        self.is_done = true;
        let moved = self.bulk.arrived().moved;
        let note = (moved.skipped > 0 && self.action == Action::Append).then(|| {
            format!(
                "{} were there already, by their ids",
                typhos_core::infer::counted(moved.skipped, "document")
            )
        });
        Ok(Done { proof, moved, files: Vec::new(), note })
    }
}

impl Drop for IndexSink {
    fn drop(&mut self) {
        self.undo();
    }
}
