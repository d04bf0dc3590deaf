//! Files that are loaded into a store: written and proven on this machine, sent unseen, and then seen at once.
//!
//! An object appears whole. The objects of a folder appear one after the other once all of them are there; what has to
//! appear at once is a table of a lake ([`crate::iceberg`]).

use std::path::{Path, PathBuf};
use std::sync::Arc;

use typhos_core::remedy::Remedy;
use typhos_core::run::{Monitor, RunOptions};
use typhos_load::proof::Proof;
use typhos_load::{
    Action, Awaited, DataFile, Destination, Done, Gate, Job, LoadError, LoadPlan, LoadReport,
    LoadRun, Mode, Parts, Problem, Sink, Target, TargetError, TargetKind, plain_name, plan_of,
};

use crate::arrow_file::ArrowTarget;
use crate::parquet::ParquetTarget;
use crate::scratch::ScratchFolder;
use crate::store::{self, Upload};

/// Parquet and Arrow files in stores.
pub const KIND: TargetKind = TargetKind {
    name: "an object of a store",
    schemes: &["s3", "gs", "az"],
    extensions: &[],
    has_parts: true,
    open: |address| {
        let url = address.into.trim_end_matches('/').to_owned();
        let extension = Path::new(&url).extension().unwrap_or_default().to_ascii_lowercase();
        match (extension.to_str(), address.parts) {
            (Some("arrow"), None) => Ok(Box::new(InStore {
                url,
                is_folder: false,
                within: |path, _| ArrowTarget { path },
                parts: None,
            })),
            (Some("arrow"), Some(_)) => Err("an Arrow file has no parts".into()),
            (Some("parquet"), None) | (_, Some(_)) => Ok(Box::new(InStore {
                url,
                is_folder: address.parts.is_some(),
                within: |path, parts| ParquetTarget { path, parts, within: None },
                parts: address.parts,
            })),
            _ => Err(format!(
                "'{url}' does not say what to write: name an object.parquet or object.arrow, or pass --parts N for a folder of Parquet \
                 files"
            )),
        }
    },
    probe: None,
};

/// A target of this machine whose files go to a store.
#[derive(Debug, Clone)]
struct InStore<T> {
    url: String,
    is_folder: bool,
    /// The target at a path of this machine.
    within: fn(PathBuf, Option<Parts>) -> T,
    parts: Option<Parts>,
}

impl<T: Target> InStore<T> {
    fn failed(&self) -> impl FnOnce(std::io::Error) -> TargetError + '_ {
        TargetError::io(Path::new(&self.url))
    }

    /// Whether something is there.
    fn exists(&self) -> Result<bool, TargetError> {
        match self.is_folder {
            true => store::has_any(&self.url),
            false => store::exists(&self.url),
        }
        .map_err(self.failed())
    }

    /// A folder of this machine, and the target in it.
    fn scratch(&self) -> Result<(ScratchFolder, PathBuf), TargetError> {
        let folder = ScratchFolder::new()?;
        let path = folder.path().join("output");
        Ok((folder, path))
    }
}

impl<T: Target + std::fmt::Debug + 'static> Destination for InStore<T> {
    fn rejects(&self) -> PathBuf {
        let name = self.url.rsplit('/').next().unwrap_or_default();
        let (stem, extension) = name.rsplit_once('.').unwrap_or((name, ""));
        let dot = if extension.is_empty() { "" } else { "." };
        PathBuf::from(format!("{}{dot}{extension}.rejects.csv", plain_name(stem)))
    }

    fn awaited(&self) -> Awaited {
        Awaited::Unseen
    }

    fn plan(&self, job: &Job<'_>) -> Result<LoadPlan, LoadError> {
        plan_of(InStore { url: self.url.clone(), ..*self }, job)
    }

    fn load(&self, run: LoadRun<'_>) -> Result<LoadReport, LoadError> {
        run.into(InStore { url: self.url.clone(), ..*self })
    }
}

impl<T: Target> Target for InStore<T> {
    type Encoder = T::Encoder;
    type Sink = InStoreSink<T::Sink>;

    fn plan(&mut self, job: &Job<'_>) -> Result<LoadPlan, TargetError> {
        let exists = self.exists()?;
        let (_folder, path) = self.scratch()?;
        let new = Job {
            mode: if job.mode == Mode::Replace { Mode::Create } else { job.mode },
            ..job.clone()
        };
        let mut plan = (self.within)(path, self.parts).plan(&new)?;
        plan.target.clone_from(&self.url);
        plan.exists = exists;
        if exists && job.mode == Mode::Create {
            plan.problems.push(Problem::new(
                "it exists already",
                Remedy::of("pass {mode = replace} to put this in its place"),
            ));
        }
        if exists && job.mode == Mode::Replace {
            plan.action = Action::Replace;
            if self.is_folder {
                plan.problems.push(Problem::new(
                    "a folder of objects cannot be replaced in one step",
                    "load into another folder, or into an Iceberg table",
                ));
            }
        }
        if self.is_folder {
            plan.notes.push(
                "the files of a folder appear one after the other, once all of them are in the store".into(),
            );
        }
        Ok(plan)
    }

    fn stage(
        self,
        job: &Job<'_>,
        run: &mut RunOptions,
    ) -> Result<(T::Encoder, Self::Sink), TargetError> {
        let (folder, path) = self.scratch()?;
        // What is on this machine is seen by nobody: only the objects wait for the gate.
        let aside = Job { mode: Mode::Create, gate: Arc::new(Gate::default()), ..job.clone() };
        let (encoder, sink) = (self.within)(path.clone(), self.parts).stage(&aside, run)?;
        let sink = InStoreSink {
            sink,
            _folder: folder,
            path,
            url: self.url,
            is_new: job.mode == Mode::Create && !self.is_folder,
            gate: job.gate.clone(),
        };
        Ok((encoder, sink))
    }
}

/// Sends files to a store that another sink wrote.
pub struct InStoreSink<S> {
    sink: S,
    _folder: ScratchFolder,
    /// What the other sink writes.
    path: PathBuf,
    url: String,
    /// Whether the object must not be there before.
    is_new: bool,
    gate: Arc<Gate>,
}

impl<S: Sink> Sink for InStoreSink<S> {
    type Encoded = S::Encoded;

    fn append(&mut self, encoded: S::Encoded, monitor: &dyn Monitor) -> Result<(), TargetError> {
        self.sink.append(encoded, monitor)
    }

    fn settle(&mut self, monitor: &dyn Monitor) -> Result<(), TargetError> {
        self.sink.settle(monitor)
    }

    fn prove(&mut self, monitor: &dyn Monitor) -> Result<Proof, TargetError> {
        self.sink.prove(monitor)
    }

    fn publish(self, proof: Proof, monitor: &dyn Monitor) -> Result<Done, TargetError> {
        let InStoreSink { sink, path, url, is_new, gate, _folder } = self;
        let done = sink.publish(proof, monitor)?;
        let files = match &done.files[..] {
            // A single file that says nothing of itself.
            [] => {
                let bytes = path.metadata().map_err(TargetError::io(&path))?.len();
                vec![DataFile { path: path.clone(), rows: done.moved.inserted, bytes }]
            }
            files => files.to_vec(),
        };
        monitor.begin("uploading", Some(files.iter().map(|file| file.bytes).sum()));
        let mut sent = Vec::new();
        for file in &files {
            let object = match file.path.strip_prefix(&path) {
                Ok(name) if !name.as_os_str().is_empty() => format!("{url}/{}", name.display()),
                _ => url.clone(),
            };
            let upload = Upload::begin(&file.path, &object, &mut |bytes| {
                monitor.advance(bytes);
                !monitor.stopped()
            });
            let upload = upload.map_err(|error| match error.kind() {
                std::io::ErrorKind::Interrupted => TargetError::Interrupted,
                _ => TargetError::io(Path::new(&object))(error),
            })?;
            sent.push((object, upload));
        }
        if is_new && store::exists(&url).map_err(TargetError::io(Path::new(&url)))? {
            return Err(TargetError::Exists(url.into()));
        }
        gate.pass()?;
        let mut seen: Vec<String> = Vec::new();
        for (object, upload) in sent {
            if let Err(error) = upload.complete() {
                // All of them, or none.
                seen.iter().for_each(|object| {
                    let _ = store::remove(object);
                });
                return Err(TargetError::io(Path::new(&object))(error));
            }
            seen.push(object);
        }
        let there = files
            .into_iter()
            .zip(seen)
            .map(|(file, object)| DataFile { path: object.into(), ..file });
        Ok(Done { files: there.collect(), ..done })
    }
}
