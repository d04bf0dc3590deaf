//! A load into a table of a lake. Files are written and proven where no reader looks, and become part of the table when the
//! catalog says so.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::Value;
use typhos_core::columns::Plan;
use typhos_core::run::{Monitor, RunOptions};
use typhos_core::wording::counted;
use typhos_load::proof::Proof;
use typhos_load::stage::{PartFile, Published, Publishing, TakesParts, link_all};
use typhos_load::whole::{WholeDirectory, forget_list};
use typhos_load::witness::Witness;
use typhos_load::{
    Action, Awaited, DataFile, Destination, Done, Gate, Job, LoadError, LoadPlan, LoadReport,
    LoadRun, Mode, Moved, Parts, Problem, Seen, Sink, Target, TargetError, key_problems,
    plain_name, plan_of, planned_columns,
};
use uuid::Uuid;

use super::catalog::{Catalog, Loaded, TableName};
use super::facts::file_at;
use super::place;
use super::shape::{Shape, shape};
use super::snapshot::{AddError, Addition, has_load};
use crate::parquet::{InTable, ParquetSink, ParquetTarget, PartitionedEncoder, rows_of};
use crate::scratch::ScratchFolder;

/// Bytes after which a data file is followed by another, where nobody says: as is usual in lakes.
const FILE_BYTES: u64 = 512 << 20;

/// A table of a catalog.
#[derive(Debug, Clone)]
pub struct LakeTable {
    pub(super) catalog: Arc<dyn Catalog>,
    pub(super) table: TableName,
    pub(super) parts: Option<Parts>,
}

impl Destination for LakeTable {
    fn rejects(&self) -> PathBuf {
        PathBuf::from(format!("{}.rejects.csv", plain_name(&self.table.name)))
    }

    fn awaited(&self) -> Awaited {
        Awaited::Unseen
    }

    fn takes_parts(&self) -> Option<&dyn TakesParts> {
        Some(self)
    }

    fn plan(&self, job: &Job<'_>) -> Result<LoadPlan, LoadError> {
        plan_of(self.clone(), job)
    }

    fn load(&self, run: LoadRun<'_>) -> Result<LoadReport, LoadError> {
        run.into(self.clone())
    }
}

impl LakeTable {
    /// The table as it is, or as it is about to be made.
    fn base(&self, is_planned: bool) -> Result<(Loaded, bool), TargetError> {
        Ok(match self.catalog.load(&self.table)? {
            Some(loaded) => (loaded, true),
            None => {
                let metadata = self.catalog.prepare(&self.table, is_planned)?;
                (Loaded { metadata, file: String::new() }, false)
            }
        })
    }

    fn failed(&self, message: String, help: &str) -> TargetError {
        TargetError::Server { target: self.catalog.shown(), message, help: help.into() }
    }

    /// What a load makes of the table, once its plan was looked at.
    fn shape(
        &self,
        plan: &Plan,
        base: &Loaded,
        exists: bool,
        mode: Mode,
    ) -> Result<(Shape, InTable), TargetError> {
        if exists && mode == Mode::Create {
            return Err(TargetError::Exists(PathBuf::from(self.table.to_string())));
        }
        let shaped = shape(plan, &self.table, base, mode).map_err(|problems| {
            let what: Vec<_> = problems.into_iter().map(|problem| problem.what).collect();
            self.failed(format!("{}: {}", self.table, what.join("; ")), "")
        });
        shaped.map(|(shape, files, _)| (shape, files))
    }

    /// How a directory of files is shared out.
    fn sharing(&self, is_partitioned: bool) -> Parts {
        match self.parts {
            _ if is_partitioned => Parts::Partitions,
            Some(parts @ (Parts::Count(_) | Parts::Bytes(_))) => parts,
            _ => Parts::Bytes(FILE_BYTES),
        }
    }

    /// The problems of a load that the shape of the table is not about.
    fn problems(&self, job: &Job<'_>, exists: bool) -> Vec<Problem> {
        let mut problems = key_problems(job.plan.schema());
        if exists && job.mode == Mode::Create {
            problems.push(Problem::new(
                "it exists already",
                typhos_core::remedy::Remedy::of(
                    "pass {mode = append} to add rows to it, or {mode = replace} to put these in their place",
                ),
            ));
        }
        if !exists && matches!(job.mode, Mode::Append | Mode::Refill) {
            problems.push(Problem::new("there is no such table", "drop --mode, and it is made"));
        }
        if job.seen != Seen::Stop {
            problems.push(Problem::new(
                "rows of an Iceberg table cannot be skipped or updated",
                typhos_core::remedy::Remedy::of("drop {seen}"),
            ));
        }
        if job.mode == Mode::Append && exists && !job.plan.schema().layout.key.is_empty() {
            problems.push(Problem::new(
                "Iceberg tables have no index: rows whose key is in the table already would not be found",
                "take 'key' out of [layout] for this load",
            ));
        }
        problems
    }
}

impl Target for LakeTable {
    type Encoder = Witness<PartitionedEncoder>;
    type Sink = LakeSink;

    fn plan(&mut self, job: &Job<'_>) -> Result<LoadPlan, TargetError> {
        let (base, exists) = self.base(true)?;
        let mut problems = self.problems(job, exists);
        let shaped = shape(job.plan, &self.table, &base, job.mode);
        let mut notes = Vec::new();
        let shape = match shaped {
            Ok((shape, _, told)) => {
                notes = told;
                Some(shape)
            }
            Err(more) => {
                problems.extend(more);
                None
            }
        };
        let columns = planned_columns(job, |at| {
            let name = &job.plan.schema().columns[at].name;
            let stored = shape.as_ref().and_then(|shape| shape.schema.column(name));
            stored.map_or("?".into(), |stored| stored.ty.words())
        });
        let by: Vec<String> = shape
            .iter()
            .flat_map(|shape| &shape.spec.fields)
            .map(|field| field.name.clone())
            .collect();
        let mut what = match &base.metadata.location[..] {
            "" => "Parquet files where the catalog puts them".to_owned(),
            location => format!("Parquet files in {location}"),
        };
        if !by.is_empty() {
            what.push_str(&format!(", by {}", typhos_core::wording::listed(&by)));
        }
        Ok(LoadPlan {
            target: self.catalog.shown(),
            server: Some(what),
            table: Some(self.table.to_string()),
            action: match job.mode {
                Mode::Create => Action::Create,
                Mode::Append => Action::Append,
                Mode::Replace if exists => Action::Replace,
                Mode::Replace => Action::Create,
                Mode::Refill => Action::Refill,
            },
            exists,
            columns,
            left: Vec::new(),
            notes,
            problems,
            statements: Vec::new(),
        })
    }

    fn stage(
        self,
        job: &Job<'_>,
        run: &mut RunOptions,
    ) -> Result<(Self::Encoder, LakeSink), TargetError> {
        let (base, exists) = self.base(false)?;
        let (shape, files) = self.shape(job.plan, &base, exists, job.mode)?;
        let aside = Aside::at(&base.metadata.location)?;
        let files = ParquetTarget {
            path: aside.path.clone(),
            parts: Some(self.sharing(!files.partition.is_empty())),
            within: Some(files),
        };
        let (encoder, sink) = files.stage(job, run)?;
        let publication = Publication { table: self, base, shape, mode: job.mode };
        Ok((encoder, LakeSink { files: sink, aside, publication, gate: job.gate.clone() }))
    }
}

/// Where the files of a load are until they are part of a table.
struct Aside {
    /// Its name, which tells the load from all others.
    id: String,
    /// The directory that is written, on this machine.
    path: PathBuf,
    /// Its URL, once all of it is where it belongs.
    url: String,
    /// The folder that is only there for a while, where files go to a store.
    scratch: Option<ScratchFolder>,
    /// Whether the files are part of a table, or may be.
    is_kept: bool,
    /// What was sent to a store.
    sent: Vec<String>,
}

impl Aside {
    fn at(location: &str) -> Result<Aside, TargetError> {
        Aside::named(location, Uuid::new_v4().to_string())
    }

    /// The same, under a name of its own.
    fn named(location: &str, name: String) -> Result<Aside, TargetError> {
        let url = place::inside(location, &format!("data/{name}"));
        let local = place::local(&place::reached(location))
            .map_err(|why| TargetError::io(Path::new(location))(std::io::Error::other(why)))?;
        let (path, scratch) = match local {
            Some(location) => {
                let folder = location.join("data");
                std::fs::create_dir_all(&folder).map_err(TargetError::io(&folder))?;
                (folder.join(&name), None)
            }
            None => {
                let scratch = ScratchFolder::new()?;
                (scratch.path().join(&name), Some(scratch))
            }
        };
        Ok(Aside { id: name, path, url, scratch, is_kept: false, sent: Vec::new() })
    }

    /// The URL of one of its files.
    fn url_of(&self, path: &Path) -> String {
        let name = path.strip_prefix(&self.path).unwrap_or(path);
        let name: Vec<_> =
            name.components().map(|part| part.as_os_str().to_string_lossy().into_owned()).collect();
        place::inside(&self.url, &name.join("/"))
    }

    /// Sends files to where they belong, where that is a store.
    fn send(&mut self, files: &[Placed<'_>], monitor: &dyn Monitor) -> Result<(), TargetError> {
        if self.scratch.is_none() {
            return Ok(());
        }
        for file in files {
            let upload = place::upload(file.from, &file.url, &mut |bytes| {
                monitor.advance(bytes);
                !monitor.stopped()
            })?;
            self.sent.push(file.url.clone());
            upload.complete().map_err(TargetError::io(Path::new(&file.url)))?;
        }
        Ok(())
    }
}

impl Drop for Aside {
    fn drop(&mut self) {
        if self.is_kept {
            return;
        }
        self.sent.iter().for_each(|url| place::remove(url));
        if self.scratch.is_none() {
            let _ = std::fs::remove_dir_all(&self.path);
            // Of a table that was not made nothing stays.
            let data = self.path.parent();
            for folder in data.into_iter().chain(data.and_then(Path::parent)) {
                let _ = std::fs::remove_dir(folder);
            }
        }
    }
}

/// What files are to become part of.
struct Publication {
    table: LakeTable,
    base: Loaded,
    shape: Shape,
    mode: Mode,
}

/// A data file, where it can be read and where it is going to be.
struct Placed<'f> {
    from: &'f Path,
    url: String,
    rows: u64,
}

impl Publication {
    /// Makes files part of the table that are where they belong. `is_kept` is told that they are part of it, or may be.
    /// Returns what there is to say of it.
    fn publish(
        self,
        files: &[Placed<'_>],
        (id, gate): (&str, &Gate),
        is_kept: &mut bool,
        monitor: &dyn Monitor,
    ) -> Result<Option<String>, TargetError> {
        let Publication { table: LakeTable { catalog, table, .. }, base, shape, mode } = self;
        let known = files
            .iter()
            .filter(|file| file.rows > 0)
            .map(|file| file_at(file.from, &file.url, (&shape.spec, &shape.schema), shape.order));
        let files = known.collect::<Result<Vec<_>, _>>()?;
        gate.pass()?;
        let (catalog, table, shape) = (&*catalog, &table, &shape);
        let addition = Addition { catalog, table, base, shape, mode, files, id };
        match addition.publish(monitor) {
            Ok(added) => {
                *is_kept = true;
                Ok((added.lost > 0).then(|| {
                    let times = counted(added.lost.into(), "time");
                    format!("others changed {table} meanwhile, {times}; this came behind them")
                }))
            }
            Err(AddError::Not(error)) => Err(error),
            Err(AddError::Unknown(error)) => {
                *is_kept = true;
                Err(error)
            }
        }
    }
}

/// Writes the files of a load, and makes them part of a table.
pub struct LakeSink {
    files: ParquetSink,
    aside: Aside,
    publication: Publication,
    gate: Arc<Gate>,
}

impl Sink for LakeSink {
    type Encoded = <ParquetSink as Sink>::Encoded;

    fn append(&mut self, encoded: Self::Encoded, monitor: &dyn Monitor) -> Result<(), TargetError> {
        self.files.append(encoded, monitor)
    }

    fn prove(&mut self, monitor: &dyn Monitor) -> Result<Proof, TargetError> {
        self.files.prove(monitor)
    }

    fn publish(mut self, proof: Proof, monitor: &dyn Monitor) -> Result<Done, TargetError> {
        let (files, rows) = self.files.keep()?;
        forget_list(&self.aside.path);
        let placed: Vec<Placed<'_>> = files
            .iter()
            .map(|file| Placed {
                from: &file.path,
                url: self.aside.url_of(&file.path),
                rows: file.rows,
            })
            .collect();
        monitor.begin("uploading", Some(files.iter().map(|file| file.bytes).sum()));
        self.aside.send(&placed, monitor)?;
        let id = self.aside.id.clone();
        let mut is_kept = false;
        let published = self.publication.publish(&placed, (&id, &self.gate), &mut is_kept, monitor);
        self.aside.is_kept = is_kept;
        let note = published?;
        let moved = Moved { inserted: rows, ..Moved::default() };
        let files = files.into_iter().filter(|file| file.rows > 0);
        let files =
            files.map(|file| DataFile { path: self.aside.url_of(&file.path).into(), ..file });
        Ok(Done { proof, moved, files: files.collect(), note })
    }
}

/// What a table wants to be told again when the parts of a load are published: what it was, and what they make of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Note {
    /// Which table it was; none where it is to be made.
    uuid: Option<String>,
    /// Its columns.
    schema_id: i32,
    /// Its partitions.
    spec_id: i32,
    /// What the parts make of it.
    shape: Shape,
}

impl Note {
    fn of(base: &Loaded, shape: Shape) -> Note {
        let Loaded { metadata, file } = base;
        Note {
            uuid: (!file.is_empty()).then(|| metadata.table_uuid.clone()),
            schema_id: metadata.current_schema_id,
            spec_id: metadata.default_spec_id,
            shape,
        }
    }
}

impl TakesParts for LakeTable {
    fn refuses(&self, _mode: Mode) -> Option<&'static str> {
        None
    }

    fn stage(&self) -> PathBuf {
        PathBuf::from(format!("{}.stage", plain_name(&self.table.to_string())))
    }

    fn part(
        &self,
        plan: &Plan,
        mode: Mode,
        folder: &Path,
    ) -> Result<(Box<dyn Destination>, Value), TargetError> {
        let (base, exists) = self.base(false)?;
        let (shape, files) = self.shape(plan, &base, exists, mode)?;
        let parts = Some(self.sharing(!files.partition.is_empty()));
        let note = serde_json::to_value(Note::of(&base, shape)).expect("plain values");
        let target = ParquetTarget { path: folder.to_path_buf(), parts, within: Some(files) };
        Ok((Box::new(target), note))
    }

    fn rows_of(&self, file: &Path) -> Result<u64, TargetError> {
        rows_of(file)
    }

    fn publish(
        &self,
        parts: &Publishing<'_>,
        monitor: &dyn Monitor,
    ) -> Result<Published, TargetError> {
        let note: Note = serde_json::from_value(parts.note.clone()).map_err(|error| {
            self.failed(
                format!("the parts do not say what they are parts of: {error}"),
                "load them again",
            )
        })?;
        let (base, exists) = self.base(false)?;
        let location = base.metadata.location.clone();
        let mut aside = Aside::named(&location, parts.id.clone())?;
        let url_of = |file: &PartFile| aside.url_of(&aside.path.join(&file.name));
        let files: Vec<(PartFile, String)> =
            parts.files.iter().map(|file| (file.clone(), url_of(file))).collect();
        let published = |was_there, note| {
            let there = files.iter().filter(|(file, _)| file.rows > 0).map(|(file, url)| {
                DataFile { path: PathBuf::from(url), rows: file.rows, bytes: file.bytes }
            });
            Published { files: there.collect(), was_there, note }
        };
        if exists && has_load(&base, &parts.id) {
            aside.is_kept = true;
            return Ok(published(true, None));
        }
        if Note::of(&base, note.shape.clone()) != note {
            return Err(self.failed(
                format!("{} is no longer what it was when the parts were loaded", self.table),
                "load them again",
            ));
        }
        monitor.begin("publishing", Some(files.iter().map(|(file, _)| file.bytes).sum()));
        if aside.scratch.is_none() {
            // Of an attempt that was killed: no snapshot has it.
            let _ = std::fs::remove_dir_all(&aside.path);
            let directory = WholeDirectory::create(&aside.path, false)?;
            link_all(&parts.files, directory.side_path(), monitor)?;
            directory.keep()?;
            forget_list(&aside.path);
        }
        let placed: Vec<Placed<'_>> = files
            .iter()
            .map(|(file, url)| Placed { from: &file.from, url: url.clone(), rows: file.rows })
            .collect();
        aside.send(&placed, monitor)?;
        let publication =
            Publication { table: self.clone(), base, shape: note.shape, mode: parts.mode };
        let mut is_kept = false;
        let told = publication.publish(&placed, (&parts.id, parts.gate), &mut is_kept, monitor);
        aside.is_kept = is_kept;
        Ok(published(false, told?))
    }
}
