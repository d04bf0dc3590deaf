//! A load into a table of a lake. Files are written and proven where no reader looks, and become part of the table when the
//! catalog says so.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use typhos_core::run::{Monitor, RunOptions};
use typhos_core::wording::counted;
use typhos_load::proof::Proof;
use typhos_load::whole::forget_list;
use typhos_load::witness::Witness;
use typhos_load::{
    Action, Awaited, DataFile, Destination, Done, Gate, Job, LoadError, LoadPlan, LoadReport,
    LoadRun, Mode, Moved, Parts, PlannedColumn, Problem, Seen, Sink, Target, TargetError,
    default_words, key_problems, plain_name, plan_of, source_words,
};
use uuid::Uuid;

use super::catalog::{Catalog, Loaded, TableName};
use super::facts::file_at;
use super::place;
use super::shape::{Shape, shape};
use super::snapshot::{AddError, Addition};
use crate::parquet::{ParquetSink, ParquetTarget, PartitionedEncoder};

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

    fn plan(&self, job: &Job<'_>) -> Result<LoadPlan, LoadError> {
        plan_of(self.clone(), job)
    }

    fn load(&self, run: LoadRun<'_>) -> Result<LoadReport, LoadError> {
        run.into(self.clone())
    }
}

impl LakeTable {
    /// The table as it is, or as it is about to be made.
    fn base(&self) -> Result<(Loaded, bool), TargetError> {
        Ok(match self.catalog.load(&self.table)? {
            Some(loaded) => (loaded, true),
            None => {
                let metadata = self.catalog.prepare(&self.table)?;
                (Loaded { metadata, file: String::new() }, false)
            }
        })
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
                "rows of such a table are not looked at one by one",
                typhos_core::remedy::Remedy::of("drop {seen}"),
            ));
        }
        if job.mode == Mode::Append && exists && !job.plan.schema().layout.key.is_empty() {
            problems.push(Problem::new(
                "whether a key is in the table already is not looked for: such tables have no index",
                "take 'key' out of [layout] for this load, and look for repeats with another program",
            ));
        }
        problems
    }
}

impl Target for LakeTable {
    type Encoder = Witness<PartitionedEncoder>;
    type Sink = LakeSink;

    fn plan(&mut self, job: &Job<'_>) -> Result<LoadPlan, TargetError> {
        let (base, exists) = self.base()?;
        let mut problems = self.problems(job, exists);
        let shaped = shape(job.plan, &self.table, &base, job.mode);
        let schema = job.plan.schema();
        let mut notes = Vec::new();
        let shape = match shaped {
            Ok((shape, told)) => {
                notes = told;
                Some(shape)
            }
            Err(more) => {
                problems.extend(more);
                None
            }
        };
        let columns = schema.columns.iter().enumerate().map(|(at, column)| {
            let stored = shape.as_ref().and_then(|shape| shape.schema.column(&column.name));
            PlannedColumn {
                name: column.name.clone(),
                source: source_words(column, at, job.plan, job.input.names()),
                declared: column.ty.to_string(),
                stored: stored.map_or("?".into(), |stored| stored.ty.words()),
                nullable: !column.required,
                is_key: schema.layout.key.contains(&column.name),
                remark: default_words(column),
            }
        });
        let by: Vec<String> = shape
            .iter()
            .flat_map(|shape| &shape.spec.fields)
            .map(|field| field.name.clone())
            .collect();
        let mut what = format!("Parquet files in {}", base.metadata.location);
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
            columns: columns.collect(),
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
        let (base, exists) = self.base()?;
        let again = |what: String| TargetError::Server {
            target: self.catalog.shown(),
            message: what,
            help: "load again".into(),
        };
        if exists && job.mode == Mode::Create {
            return Err(again(format!("{} was made by somebody else in the meantime", self.table)));
        }
        let (shape, _) = shape(job.plan, &self.table, &base, job.mode).map_err(|problems| {
            let what: Vec<_> = problems.into_iter().map(|problem| problem.what).collect();
            again(format!("{} changed in the meantime: {}", self.table, what.join("; ")))
        })?;
        let aside = Aside::at(&base.metadata.location)?;
        let files = ParquetTarget {
            path: aside.path.clone(),
            parts: Some(self.sharing(!shape.files.partition.is_empty())),
            within: Some(shape.files.clone()),
        };
        let (encoder, sink) = files.stage(job, run)?;
        let publication =
            Publication { catalog: self.catalog, table: self.table, base, shape, mode: job.mode };
        Ok((encoder, LakeSink { files: sink, aside, publication, gate: job.gate.clone() }))
    }
}

/// Where the files of a load are until they are part of a table.
struct Aside {
    /// The directory that is written, on this machine.
    path: PathBuf,
    /// Its URL, once all of it is where it belongs.
    url: String,
    /// The folder that is only there for a while, where files go to a store.
    scratch: Option<tempfile::TempDir>,
    /// Whether the files are part of a table, or may be.
    is_kept: bool,
    /// What was sent to a store.
    sent: Vec<String>,
}

impl Aside {
    fn at(location: &str) -> Result<Aside, TargetError> {
        let name = Uuid::new_v4().to_string();
        let url = place::inside(location, &format!("data/{name}"));
        let local = place::local(&place::reached(location))
            .map_err(|why| TargetError::io(Path::new(location))(std::io::Error::other(why)))?;
        let (path, scratch) = match local {
            Some(location) => {
                let folder = location.join("data");
                std::fs::create_dir_all(&folder).map_err(TargetError::io(&folder))?;
                (folder.join(name), None)
            }
            None => {
                let scratch = tempfile::Builder::new().prefix("typhos-").tempdir();
                let scratch = scratch.map_err(TargetError::io(&std::env::temp_dir()))?;
                (scratch.path().join(name), Some(scratch))
            }
        };
        Ok(Aside { path, url, scratch, is_kept: false, sent: Vec::new() })
    }

    /// The URL of one of its files.
    fn url_of(&self, path: &Path) -> String {
        let name = path.strip_prefix(&self.path).unwrap_or(path);
        let name: Vec<_> =
            name.components().map(|part| part.as_os_str().to_string_lossy().into_owned()).collect();
        place::inside(&self.url, &name.join("/"))
    }

    /// Sends files to where they belong, where that is a store.
    fn send(&mut self, files: &[DataFile], monitor: &dyn Monitor) -> Result<(), TargetError> {
        if self.scratch.is_none() {
            return Ok(());
        }
        monitor.begin("uploading", Some(files.iter().map(|file| file.bytes).sum()));
        for file in files {
            let url = self.url_of(&file.path);
            let upload = place::upload(&file.path, &url, &mut |bytes| {
                monitor.advance(bytes);
                !monitor.stopped()
            })?;
            self.sent.push(url.clone());
            upload.complete().map_err(TargetError::io(Path::new(&url)))?;
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
    catalog: Arc<dyn Catalog>,
    table: TableName,
    base: Loaded,
    shape: Shape,
    mode: Mode,
}

impl Publication {
    /// Makes files part of the table. Returns what there is to say of it.
    fn publish(
        self,
        files: &[DataFile],
        aside: &mut Aside,
        gate: &Gate,
        monitor: &dyn Monitor,
    ) -> Result<Option<String>, TargetError> {
        let Publication { catalog, table, base, shape, mode } = self;
        aside.send(files, monitor)?;
        let known = files.iter().filter(|file| file.rows > 0).map(|file| {
            let of = (&shape.spec, &shape.schema);
            file_at(&file.path, &aside.url_of(&file.path), of, shape.order)
        });
        let files = known.collect::<Result<Vec<_>, _>>()?;
        gate.pass()?;
        let addition =
            Addition { catalog: &*catalog, table: &table, base, shape: &shape, mode, files };
        match addition.publish(monitor) {
            Ok(added) => {
                aside.is_kept = true;
                Ok((added.lost > 0).then(|| {
                    let times = counted(added.lost.into(), "time");
                    format!("others changed {table} meanwhile, {times}; this came behind them")
                }))
            }
            Err(AddError::Not(error)) => Err(error),
            Err(AddError::Unknown(error)) => {
                aside.is_kept = true;
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
        let note = self.publication.publish(&files, &mut self.aside, &self.gate, monitor)?;
        let moved = Moved { inserted: rows, ..Moved::default() };
        let files = files.into_iter().filter(|file| file.rows > 0);
        let files =
            files.map(|file| DataFile { path: self.aside.url_of(&file.path).into(), ..file });
        Ok(Done { proof, moved, files: files.collect(), note })
    }
}
