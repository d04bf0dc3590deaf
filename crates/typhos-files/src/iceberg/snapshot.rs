//! A snapshot: the data files of a load become part of a table, in one step of its catalog. Who loses a race against another
//! writer looks at the table again, and tries again.

use std::time::Duration;

use serde_json::{Map, Value, json};
use typhos_core::run::Monitor;
use typhos_load::{Mode, TargetError};
use uuid::Uuid;

use super::avro::Wrong;
use super::catalog::{Catalog, CatalogError, Change, Loaded, TableName};
use super::list::{list_of, read_list};
use super::manifest::{Manifest, NewFile, deleting, manifest_of};
use super::metadata::{MAIN, Snapshot, Update};
use super::place;
use super::shape::{Shape, requirements};

/// How often a lost race is run again.
const TRIES: u32 = 30;

/// How often a catalog is asked again that did not say what became of it.
const UNKNOWN_TRIES: u32 = 5;

/// The first wait after a lost race, about.
const FIRST_WAIT: Duration = Duration::from_millis(50);

/// The longest wait.
const LONGEST_WAIT: Duration = Duration::from_secs(2);

/// What is to become part of a table.
pub struct Addition<'a> {
    /// Who knows the table.
    pub catalog: &'a dyn Catalog,
    /// The table.
    pub table: &'a TableName,
    /// The table as it was when the load began.
    pub base: Loaded,
    /// What the load makes of it.
    pub shape: &'a Shape,
    /// What happens to the rows that are there.
    pub mode: Mode,
    /// The files.
    pub files: Vec<NewFile>,
    /// What tells the load from all others, which the snapshot keeps.
    pub id: &'a str,
}

/// Under which key a snapshot keeps that.
const ID: &str = "typhos.load";

/// Whether a table has a snapshot of a load.
pub fn has_load(table: &Loaded, id: &str) -> bool {
    table.metadata.snapshots.iter().any(|it| it.summary.get(ID).is_some_and(|known| known == id))
}

/// What became of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Added {
    /// The snapshot.
    pub snapshot: i64,
    /// How many races were lost before.
    pub lost: u32,
}

/// Why files did not become part of a table.
pub enum AddError {
    /// They are no part of it.
    Not(TargetError),
    /// Nobody knows: they must stay where they are.
    Unknown(TargetError),
}

impl From<TargetError> for AddError {
    fn from(error: TargetError) -> AddError {
        AddError::Not(error)
    }
}

impl Addition<'_> {
    fn failed(&self, message: impl Into<String>, help: &str) -> TargetError {
        let (target, help) = (self.catalog.shown(), help.to_owned());
        TargetError::Server { target, message: message.into(), help }
    }

    fn avro(&self, error: Wrong) -> TargetError {
        self.failed(format!("the lists of {}: {error}", self.table), "")
    }

    /// The URL of a file of the table's metadata.
    fn within(&self, name: &str) -> String {
        place::inside(&self.base.metadata.location, &format!("metadata/{name}"))
    }

    /// Adds the files, all of them or none.
    ///
    /// # Errors
    /// See [`AddError`].
    pub fn publish(mut self, monitor: &dyn Monitor) -> Result<Added, AddError> {
        let load = Uuid::new_v4();
        let snapshot = drawn();
        let path = self.within(&format!("{load}-m0.avro"));
        let of = (&self.shape.spec, &self.shape.schema);
        let made = manifest_of(&self.files, of, snapshot, &path).map_err(|e| self.avro(e))?;
        let (bytes, manifest) = made;
        if !self.files.is_empty() {
            place::write(&path, bytes)?;
        }
        // Once an answer is lost the change may still come to be made: then nothing is removed that it names, and whoever looks at
        // the table again looks for its snapshot.
        let (mut lost, mut unsure) = (0, 0);
        let result = loop {
            let mut written = Vec::new();
            let tried = self.attempt(snapshot, &manifest, (load, lost), &mut written);
            let message = match tried {
                Ok(()) => return Ok(Added { snapshot, lost }),
                Err(CatalogError::Unknown(message)) => {
                    unsure += 1;
                    message
                }
                Err(CatalogError::Lost(message)) => {
                    written.iter().for_each(|url| place::remove(url));
                    message
                }
                Err(CatalogError::Failed(error)) => {
                    written.iter().for_each(|url| place::remove(url));
                    break error;
                }
            };
            let now = match self.catalog.load(self.table) {
                Ok(now) => now,
                Err(error) => break error.into(),
            };
            if has(now.as_ref(), snapshot) {
                return Ok(Added { snapshot, lost });
            }
            lost += 1;
            if unsure >= UNKNOWN_TRIES {
                break self.failed(message, "");
            }
            if lost >= TRIES {
                let what = format!(
                    "others changed {} {TRIES} times while this was to become part of it",
                    self.table
                );
                break self.failed(what, "load again once fewer write to it at once");
            }
            if let Err(error) = self.go_on_from(now, &message) {
                break error;
            }
            if monitor.stopped() {
                break TargetError::Interrupted;
            }
            std::thread::sleep(wait(lost));
        };
        if unsure > 0 {
            let help = format!(
                "look whether {} has snapshot {snapshot}, and load again if it has not",
                self.table
            );
            let what = format!("{result}; whether the rows became visible nobody knows");
            return Err(AddError::Unknown(self.failed(what, &help)));
        }
        place::remove(&path);
        Err(AddError::Not(result))
    }

    /// Takes the table as somebody else left it for the one that is added to.
    fn go_on_from(&mut self, now: Option<Loaded>, message: &str) -> Result<(), TargetError> {
        let was = &self.base;
        let now = match now {
            None if was.file.is_empty() => return Ok(()),
            Some(_) if was.file.is_empty() => {
                let what =
                    format!("{} was made by somebody else in the meantime ({message})", self.table);
                return Err(self.failed(what, "pass --mode append to add these rows to it"));
            }
            Some(now) => now,
            None => {
                return Err(self.failed(format!("{} is no longer there", self.table), ""));
            }
        };
        let is_same = now.metadata.table_uuid == was.metadata.table_uuid
            && now.metadata.current_schema_id == was.metadata.current_schema_id
            && now.metadata.default_spec_id == was.metadata.default_spec_id;
        if !is_same {
            let what =
                format!("the columns or partitions of {} changed during the load", self.table);
            return Err(self.failed(what, "load again"));
        }
        self.base = now;
        Ok(())
    }

    /// Tries once. `written` is told which files it made.
    fn attempt(
        &self,
        snapshot_id: i64,
        manifest: &Manifest,
        (load, attempt): (Uuid, u32),
        written: &mut Vec<String>,
    ) -> Result<(), CatalogError> {
        let metadata = &self.base.metadata;
        let sequence_number = metadata.last_sequence_number + 1;
        let before = metadata.snapshot();
        let mut manifests = Vec::new();
        if !self.files.is_empty() {
            manifests.push(manifest.clone().under(sequence_number));
        }
        let mut there = Vec::new();
        if let Some(before) = before {
            let list = place::read(&before.manifest_list)?;
            there = read_list(&list).map_err(|why| self.failed(why, ""))?;
        }
        let mut deleted = (0, 0);
        for (at, old) in there.into_iter().filter(Manifest::is_alive).enumerate() {
            if self.mode == Mode::Append {
                manifests.push(old);
                continue;
            }
            let path = self.within(&format!("{load}-d{attempt}-{at}.avro"));
            let bytes = place::read(&old.path)?;
            let made = deleting(&bytes, &old, snapshot_id, &path).map_err(|e| self.avro(e))?;
            if let Some((bytes, made)) = made {
                place::write(&path, bytes)?;
                written.push(path);
                deleted.0 += made.files[2];
                deleted.1 += made.rows[2];
                manifests.push(made.under_own(sequence_number));
            }
        }
        let parent_snapshot_id = before.map(|before| before.snapshot_id);
        let list = list_of(&manifests, (snapshot_id, parent_snapshot_id, sequence_number))
            .map_err(|error| self.avro(error))?;
        let manifest_list = self.within(&format!("snap-{snapshot_id}-{attempt}-{load}.avro"));
        place::write(&manifest_list, list)?;
        written.push(manifest_list.clone());
        let snapshot = Snapshot {
            snapshot_id,
            parent_snapshot_id,
            sequence_number,
            timestamp_ms: super::now().max(metadata.last_updated_ms),
            manifest_list,
            summary: self.summary(before, deleted),
            schema_id: Some(self.shape.schema.schema_id),
            more: Map::new(),
        };
        let mut updates = self.shape.updates.clone();
        updates.push(Update::AddSnapshot { snapshot: Box::new(snapshot) });
        updates.push(Update::SetSnapshotRef {
            ref_name: MAIN.into(),
            kind: "branch".into(),
            snapshot_id,
        });
        let change = Change { requirements: requirements(&self.base), updates };
        self.catalog.commit(self.table, &self.base, &change)
    }

    /// What was done, and how much of it: numbers are written as text.
    fn summary(&self, before: Option<&Snapshot>, (files, rows): (i32, i64)) -> Map<String, Value> {
        let (added_files, added_rows, added_bytes) = (
            self.files.len() as u64,
            self.files.iter().map(|file| file.rows).sum::<u64>(),
            self.files.iter().map(|file| file.bytes).sum::<u64>(),
        );
        let is_append = self.mode == Mode::Append || before.is_none();
        let total = |key: &str, more: u64| {
            let was = match before.filter(|_| is_append) {
                Some(before) => before.summary.get(key)?.as_str()?.parse::<u64>().ok()?,
                None => 0,
            };
            Some(was + more)
        };
        let mut summary = Map::new();
        let mut say = |key: &str, value: Option<String>| {
            if let Some(value) = value {
                summary.insert(key.to_owned(), json!(value));
            }
        };
        let text = |number: u64| Some(number.to_string());
        say("operation", Some(if is_append { "append" } else { "overwrite" }.to_owned()));
        say("added-data-files", text(added_files));
        say("added-records", text(added_rows));
        say("added-files-size", text(added_bytes));
        if !is_append {
            say("deleted-data-files", Some(files.to_string()));
            say("deleted-records", Some(rows.to_string()));
        }
        say(ID, Some(self.id.to_owned()));
        for (key, more) in [
            ("total-data-files", added_files),
            ("total-records", added_rows),
            ("total-files-size", added_bytes),
            ("total-delete-files", 0),
            ("total-position-deletes", 0),
            ("total-equality-deletes", 0),
        ] {
            say(key, total(key, more).and_then(text));
        }
        summary
    }
}

impl Manifest {
    /// The same, written anew by a snapshot with a number; its files keep theirs.
    fn under_own(mut self, sequence: i64) -> Manifest {
        self.sequence = sequence;
        self
    }
}

fn has(table: Option<&Loaded>, snapshot: i64) -> bool {
    table.is_some_and(|it| it.metadata.snapshots.iter().any(|it| it.snapshot_id == snapshot))
}

/// A number for a snapshot, which nobody else draws.
fn drawn() -> i64 {
    let (high, low) = Uuid::new_v4().as_u64_pair();
    ((high ^ low) & i64::MAX.unsigned_abs()).cast_signed().max(1)
}

/// How long to wait after so many lost races: twice as long each time, and never the same for two writers.
fn wait(lost: u32) -> Duration {
    let longest = FIRST_WAIT.saturating_mul(1 << lost.min(10)).min(LONGEST_WAIT);
    let share = (Uuid::new_v4().as_u128() % 1000) as f64 / 1000.0;
    longest.mul_f64(0.5 + share / 2.0)
}

#[cfg(test)]
mod tests {
    use std::path::Path;
    use std::sync::Mutex;

    use arrow_schema::{DataType, Field, Schema};
    use typhos_core::run::NoMonitor;

    use super::super::metadata::{PartitionSpec, TableMetadata};
    use super::super::types::TableSchema;
    use super::*;

    /// A catalog that loses every answer. What it was asked for first it makes late, when it is asked the second time, or never.
    #[derive(Debug)]
    struct Forgetful {
        table: Mutex<Loaded>,
        late: Mutex<Option<Change>>,
        makes_any: bool,
    }

    impl Catalog for Forgetful {
        fn shown(&self) -> String {
            "a catalog".into()
        }

        fn load(&self, _: &TableName) -> Result<Option<Loaded>, CatalogError> {
            Ok(Some(self.table.lock().unwrap().clone()))
        }

        fn prepare(&self, _: &TableName, _: bool) -> Result<TableMetadata, CatalogError> {
            unreachable!("the table is there")
        }

        fn commit(&self, _: &TableName, _: &Loaded, change: &Change) -> Result<(), CatalogError> {
            let mut table = self.table.lock().unwrap();
            let late = self.late.lock().unwrap().replace(change.clone());
            if let Some(late) = late.filter(|_| self.makes_any) {
                table.metadata = table.metadata.after(&late.updates, 1);
            }
            match change.requirements.iter().all(|it| it.holds(Some(&table.metadata))) {
                true => Err(CatalogError::Unknown("no answer".into())),
                false => Err(CatalogError::Lost("it changed".into())),
            }
        }
    }

    /// Adds a file to a table of such a catalog.
    fn add(folder: &Path, makes_any: bool) -> (Result<Added, AddError>, TableMetadata) {
        let rows = Schema::new(vec![Field::new("id", DataType::Int32, false)]);
        let shape = Shape {
            schema: TableSchema::of(&rows, &[]).unwrap(),
            spec: PartitionSpec { spec_id: 0, fields: Vec::new() },
            order: 0,
            updates: Vec::new(),
        };
        let metadata = TableMetadata::empty("u", &place::url_of(folder));
        let base = Loaded { metadata, file: "somewhere".into() };
        let catalog =
            Forgetful { table: Mutex::new(base.clone()), late: Mutex::new(None), makes_any };
        let file = NewFile {
            path: "a.parquet".into(),
            bytes: 1,
            rows: 2,
            partition: Vec::new(),
            columns: Default::default(),
            offsets: Vec::new(),
            order: 0,
        };
        let table = TableName::parse("ferry.t").unwrap();
        let addition = Addition {
            catalog: &catalog,
            table: &table,
            base,
            shape: &shape,
            mode: Mode::Append,
            files: vec![file],
            id: "load",
        };
        let added = addition.publish(&NoMonitor);
        let table = catalog.table.lock().unwrap().metadata.clone();
        (added, table)
    }

    #[test]
    fn a_change_that_is_made_late_is_made_once_and_all_that_it_names_is_there() {
        let folder = tempfile::tempdir().unwrap();
        let (added, table) = add(folder.path(), true);
        assert!(added.is_ok_and(|added| added.lost == 1));
        assert_eq!(table.snapshots.len(), 1);
        let list = place::read(&table.snapshots[0].manifest_list).unwrap();
        let manifests = read_list(&list).unwrap();
        assert_eq!(manifests.len(), 1);
        assert!(place::read(&manifests[0].path).is_ok());
    }

    #[test]
    fn what_may_still_be_made_is_not_removed() {
        let folder = tempfile::tempdir().unwrap();
        let (added, table) = add(folder.path(), false);
        let Err(AddError::Unknown(error)) = added else { panic!("nobody knows") };
        assert!(error.to_string().contains("whether the rows became visible nobody knows"));
        assert_eq!(table.snapshots.len(), 0);
        let left = std::fs::read_dir(folder.path().join("metadata")).unwrap().count();
        // A manifest, and a list for each attempt.
        assert_eq!(left, 1 + UNKNOWN_TRIES as usize);
    }
}
