//! Publishing a load that was done in parts.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use serde_json::json;
use thiserror::Error;
use typhos_core::infer::counted;
use typhos_core::run::Monitor;
use typhos_core::survey::{PartOf, PoolError};
use typhos_core::text::Part;

use super::manifest::{PartAccount, PartManifest, PartMisfits};
use super::taker::{PartFile, Publishing};
use super::{COMMITTED, Stage, id_of};
use crate::contract::DataFile;
use crate::destination::Destination;
use crate::error::TargetError;
use crate::gate::Gate;
use crate::misfit_limit::MisfitLimit;
use crate::whole::{WholeFile, followed, write_file};

/// Why a load in parts was not published.
#[derive(Debug, Error)]
pub enum CommitError {
    /// Parts are missing, or do not fit together.
    #[error(transparent)]
    Parts(#[from] PoolError),
    /// A part began where no record starts. It was taken back, and has to be loaded again.
    #[error(
        "{why}; part {part} is taken back, and has to be loaded again: it begins at the right place then"
    )]
    Again {
        /// The part.
        part: Part,
        /// Why.
        why: PoolError,
    },
    /// They were published before: there is nothing to do.
    #[error("the parts in {0} were published before")]
    Before(PathBuf),
    /// There is nothing to publish.
    #[error("{0} has no parts in it")]
    Nothing(PathBuf),
    /// Parts were loaded under different schemas, or into different targets.
    #[error("part {one} and part {other} were loaded {what}; load them again, all in one way")]
    Differ {
        /// A part.
        one: Part,
        /// Another one.
        other: Part,
        /// How.
        what: &'static str,
    },
    /// A file of a part is not as it was written.
    #[error("part {part}: {path} {what}; the part is taken back, and has to be loaded again")]
    Damaged {
        /// The part.
        part: Part,
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        what: String,
    },
    /// The parts together have more misfits than the load may have.
    #[error(
        "{} in {}, and no more than {limit} are let through; mend them, or load the parts with a higher limit",
        counted(*misfits, "misfit"),
        counted(*read, "record")
    )]
    TooManyMisfits {
        /// Misfits.
        misfits: u64,
        /// Records.
        read: u64,
        /// The limit.
        limit: MisfitLimit,
    },
    /// The target cannot be opened; a sentence.
    #[error("{0}")]
    Address(String),
    /// Somebody else is at it.
    #[error("{0} is being published by another process")]
    Busy(PathBuf),
    /// A file, or the target.
    #[error(transparent)]
    Target(#[from] TargetError),
}

/// What was published.
#[derive(Debug, Clone, PartialEq)]
pub struct Committed {
    /// The target, as it was named.
    pub target: String,
    /// The table in it; empty where it has none.
    pub table: String,
    /// Its files.
    pub files: Vec<DataFile>,
    /// What became of every record.
    pub account: PartAccount,
    /// Misfits by column, those of records as wholes last.
    pub misfits: Vec<PartMisfits>,
    /// Records that were set aside.
    pub rejects: Option<PathBuf>,
    /// How many parts there were, and columns.
    pub parts: u32,
    /// Declared columns.
    pub columns: u64,
    /// Facts that were compared when the parts were loaded; `None` where nobody asked.
    pub proven: Option<u64>,
    /// Whether it was all published before, by a process that did not come to say so.
    pub was_there: bool,
    /// What else there is to say.
    pub note: Option<String>,
}

/// Misfits that are kept for each column.
const MOST_EXAMPLES: usize = 5;

/// Opens the target that a manifest names, by what was typed for it and its table.
pub type OpenTarget<'o> = dyn Fn(&str, &str) -> Result<Box<dyn Destination>, String> + 'o;

/// Publishes the parts in a stage: all of them, or none.
///
/// # Errors
/// Parts that are missing, do not fit together or are not as they were written, and whatever keeps the target from
/// being written. Nothing is visible then.
pub fn commit(
    stage: &Stage,
    open: &OpenTarget<'_>,
    monitor: &dyn Monitor,
) -> Result<Committed, CommitError> {
    let Some(_lock) = stage.lock()? else {
        return Err(CommitError::Busy(stage.path().to_path_buf()));
    };
    let manifests = in_order(stage)?;
    let first = &manifests[0];
    let target = open(&first.target, &first.table).map_err(CommitError::Address)?;
    let Some(taker) = target.takes_parts() else {
        return Err(CommitError::Address(format!("{} takes no loads in parts", first.target)));
    };
    let mut committed = sum(&manifests)?;
    verify(stage, &manifests, &|path| taker.rows_of(path), monitor)?;
    let gate = Gate::default();
    if let Some(rejects) = rejects(stage, &manifests)? {
        gate.hold(rejects, target.awaited());
    }
    let parts = Publishing {
        id: id_of_attempts(&manifests),
        note: &first.note,
        mode: first.mode,
        files: names(stage, &manifests),
        gate: &gate,
    };
    let published = taker.publish(&parts, monitor)?;
    committed.files = published.files;
    committed.was_there = published.was_there;
    committed.note = published.note;
    if !published.was_there {
        committed.rejects = gate.publish()?;
    }
    let note = json!({
        "typhos": 1, "whole": first.read.whole.id, "schema": first.schema,
        "target": first.target, "rows": committed.account.loaded,
    });
    write_file(&stage.path().join(COMMITTED), true, format!("{note:#}\n").as_bytes())?;
    // It is visible, whatever becomes of what it was made of.
    for manifest in &manifests {
        let _ = stage.remove(manifest);
    }
    stage.tidy();
    Ok(committed)
}

/// What tells these attempts at all parts from others: their folders have names that nobody else has.
fn id_of_attempts(manifests: &[PartManifest]) -> String {
    let mut all = String::new();
    for manifest in manifests {
        all.push_str(&format!(
            "{}\n{}\n{}\n",
            manifest.folder, manifest.read.whole.id, manifest.schema
        ));
    }
    id_of(&all)
}

/// The parts of a load, from the first to the last.
fn in_order(stage: &Stage) -> Result<Vec<PartManifest>, CommitError> {
    let manifests = stage.manifests()?;
    let path = || stage.path().to_path_buf();
    let Some(first) = manifests.first() else {
        let was_here = path().join(COMMITTED).exists();
        return Err(if was_here {
            CommitError::Before(path())
        } else {
            CommitError::Nothing(path())
        });
    };
    if stage.committed(&first.read.whole, &first.schema)? {
        // Of parts that came late, or that a commit did not come to remove.
        manifests.iter().try_for_each(|manifest| stage.remove(manifest))?;
        stage.tidy();
        return Err(CommitError::Before(path()));
    }
    for other in &manifests {
        let differ =
            |what| CommitError::Differ { one: first.read.part, other: other.read.part, what };
        if (&other.target, &other.table, other.mode) != (&first.target, &first.table, first.mode) {
            return Err(differ("into different targets"));
        }
        // It has the target in it, too.
        if other.schema != first.schema {
            return Err(differ("under different schemas or settings"));
        }
        if other.misfit_limit != first.misfit_limit {
            return Err(differ("with different limits of misfits"));
        }
        if other.note != first.note {
            return Err(differ("into a target that changed in between"));
        }
    }
    let parts: Vec<&PartOf> = manifests.iter().map(|manifest| &manifest.read).collect();
    let order = match PartOf::chain(&parts) {
        Ok(order) => order,
        Err(why @ PoolError::Begin { part, before: Some(_), .. }) => {
            if let Some(wrong) = manifests.iter().find(|manifest| manifest.read.part == part) {
                stage.remove(wrong)?;
            }
            return Err(CommitError::Again { part, why });
        }
        Err(other) => return Err(other.into()),
    };
    let mut manifests: Vec<Option<PartManifest>> = manifests.into_iter().map(Some).collect();
    Ok(order.into_iter().filter_map(|(at, _)| manifests[at].take()).collect())
}

/// What all parts come to.
fn sum(manifests: &[PartManifest]) -> Result<Committed, CommitError> {
    let mut account = PartAccount::default();
    let mut misfits: BTreeMap<(bool, String), PartMisfits> = BTreeMap::new();
    let mut proven = Some(0);
    for manifest in manifests {
        let rows: u64 = manifest.files.iter().map(|file| file.rows).sum();
        if !manifest.account.is_balanced() || rows != manifest.account.loaded {
            return Err(CommitError::Damaged {
                part: manifest.read.part,
                path: PathBuf::from(&manifest.folder),
                what: "has a manifest that does not add up".into(),
            });
        }
        account.add(&manifest.account);
        proven = proven.zip(manifest.proven).map(|(all, more)| all + more);
        for theirs in &manifest.misfits {
            let key = (theirs.column.is_none(), theirs.column.clone().unwrap_or_default());
            let ours = misfits.entry(key).or_insert_with(|| PartMisfits {
                column: theirs.column.clone(),
                count: 0,
                examples: Vec::new(),
            });
            ours.count += theirs.count;
            let room = MOST_EXAMPLES.saturating_sub(ours.examples.len());
            ours.examples.extend(theirs.examples.iter().take(room).cloned());
        }
    }
    let misfits: Vec<PartMisfits> = misfits.into_values().collect();
    let count = misfits.iter().map(|misfits| misfits.count).sum();
    if let Some(limit) = manifests[0].misfit_limit
        && limit.is_exceeded(count, account.read)
    {
        return Err(CommitError::TooManyMisfits { misfits: count, read: account.read, limit });
    }
    Ok(Committed {
        target: manifests[0].target.clone(),
        table: manifests[0].table.clone(),
        note: None,
        files: Vec::new(),
        account,
        misfits,
        rejects: None,
        parts: manifests[0].read.part.count(),
        columns: manifests[0].columns,
        proven,
        was_there: false,
    })
}

/// Looks whether every file of every part is as it was written. A part of which one is not is taken back.
fn verify(
    stage: &Stage,
    manifests: &[PartManifest],
    rows_of: &dyn Fn(&Path) -> Result<u64, TargetError>,
    monitor: &dyn Monitor,
) -> Result<(), CommitError> {
    let bytes = manifests.iter().flat_map(|manifest| &manifest.files).map(|file| file.bytes);
    monitor.begin("looking at the parts", Some(bytes.sum()));
    for manifest in manifests {
        let damaged = |path: PathBuf, what: String| {
            let _ = stage.remove(manifest);
            CommitError::Damaged { part: manifest.read.part, path, what }
        };
        let rejects = manifest
            .rejects
            .iter()
            .map(|rejects| (stage.path().join(&rejects.name), rejects.bytes, None));
        let files = manifest.files.iter().map(|file| {
            (stage.path().join(&manifest.folder).join(&file.path), file.bytes, Some(file.rows))
        });
        for (path, bytes, rows) in files.chain(rejects) {
            if monitor.stopped() {
                return Err(TargetError::Interrupted.into());
            }
            match path.metadata() {
                Ok(about) if about.len() == bytes => {}
                Ok(about) => {
                    return Err(damaged(
                        path,
                        format!("has {} bytes, and had {bytes}", about.len()),
                    ));
                }
                Err(error) if error.kind() == io::ErrorKind::NotFound => {
                    return Err(damaged(path, "is not there".into()));
                }
                Err(error) => return Err(TargetError::io(&path)(error).into()),
            }
            if let Some(rows) = rows {
                match rows_of(&path) {
                    Ok(found) if found == rows => {}
                    Ok(found) => {
                        return Err(damaged(path, format!("has {found} rows, and had {rows}")));
                    }
                    Err(error) => return Err(damaged(path, format!("cannot be read: {error}"))),
                }
            }
            monitor.advance(bytes);
        }
    }
    Ok(())
}

/// Every data file: where it is, and the name that it gets in the target.
fn names(stage: &Stage, manifests: &[PartManifest]) -> Vec<PartFile> {
    let mut named = Vec::new();
    for manifest in manifests {
        let part = manifest.read.part.number();
        // A part without rows has nothing to add, unless no part has any.
        let has_rows = manifest.files.iter().any(|file| file.rows > 0);
        let is_needed = has_rows || named.is_empty() && part == manifest.read.part.count();
        for file in manifest.files.iter().filter(|_| is_needed) {
            let path = Path::new(&file.path);
            let within = path.parent().unwrap_or(Path::new(""));
            let own = path.file_name().unwrap_or_default().to_string_lossy();
            let own = own.strip_prefix("part-").unwrap_or(&own);
            named.push(PartFile {
                from: stage.path().join(&manifest.folder).join(path),
                name: within.join(format!("part-{part:05}-{own}")),
                rows: file.rows,
                bytes: file.bytes,
            });
        }
    }
    named
}

/// The records that all parts set aside, in one file that waits for the target.
fn rejects(
    stage: &Stage,
    manifests: &[PartManifest],
) -> Result<Option<crate::whole::pending::Pending>, TargetError> {
    let all: Vec<_> = manifests.iter().filter_map(|manifest| manifest.rejects.as_ref()).collect();
    let Some(last) = all.last() else { return Ok(None) };
    let path = followed(Path::new(&manifests[0].rejects_to))?;
    let whole = WholeFile::aside(&path)?;
    let mut to = io::BufWriter::new(whole.writer()?);
    for (at, part) in all.iter().enumerate() {
        let from = stage.path().join(&part.name);
        let failed = || TargetError::io(&from);
        let mut file = File::open(&from).map_err(failed())?;
        let start = if at == 0 { 0 } else { part.head };
        let end = if std::ptr::eq(*part, *last) {
            part.bytes
        } else {
            part.bytes - part.tail.min(part.bytes)
        };
        file.seek(SeekFrom::Start(start)).map_err(failed())?;
        io::copy(&mut file.take(end.saturating_sub(start)), &mut to)
            .map_err(TargetError::io(&path))?;
    }
    to.flush().map_err(TargetError::io(&path))?;
    drop(to);
    whole.into_pending().map(Some)
}

impl Stage {
    /// Removes what attempts left that came to nothing, as well as that goes.
    fn tidy(&self) {
        let Ok(entries) = std::fs::read_dir(&self.path) else { return };
        for entry in entries.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if name.starts_with("part-") && entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                let _ = std::fs::remove_dir_all(entry.path());
            } else if name.starts_with("part-") && name.contains(".rejects") {
                let _ = std::fs::remove_file(entry.path());
            }
        }
    }
}
