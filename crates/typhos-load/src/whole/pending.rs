//! A file that appears together with an output: records that were set aside, beside what was loaded.
//!
//! No file system gives two names in one step. So the second file is whole and synced before the output gets its
//! name, and a journal says whose appearance it waits for. A load that is killed between the two leaves the
//! journal, and the next one looks whether the output appeared: then the file gets its name, and otherwise it goes.
//! A file that was there is never overwritten: the next one gets a number.

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

use crate::unfinished::{self, Listed};
use serde_json::{Value, json};
use tempfile::{NamedTempFile, TempPath};

use super::places::{
    beside, followed, identity, locked_file, parent, read_journal, rename_new, sync_directory,
};
use crate::error::TargetError;

/// What a journal is called, before a few random letters.
const JOURNAL: &str = ".typhos-unfinished-pending-";

/// Whether a file is the journal of one that waits for an output.
pub(super) fn is_journal(name: &str) -> bool {
    name.starts_with(JOURNAL)
}

/// How a database in a file tells whether a transaction was finished.
#[derive(Debug)]
pub struct Probe {
    /// The kind of database.
    pub kind: &'static str,
    /// How many transactions were finished; `None` where that cannot be known.
    pub count: fn(&Path) -> Option<u32>,
    /// The same, with what a killed program left of one undone before.
    pub recovered: fn(&Path) -> Option<u32>,
}

/// Whose appearance a file waits for.
#[derive(Debug, Clone)]
pub enum Awaited {
    /// A file or directory that gets its name when it is whole; and what has the name before.
    Path(PathBuf, Option<(u64, u64)>),
    /// A transaction in a database file, which counts them.
    Transaction(PathBuf, &'static Probe),
    /// Something that cannot be looked at afterwards: a transaction of a server.
    Unseen,
}

impl Awaited {
    /// Waits for an output; where that is a symbolic link, for what it leads to.
    pub fn output(path: &Path) -> Awaited {
        Awaited::path(&followed(path).unwrap_or_else(|_| path.to_path_buf()))
    }

    /// Waits for a file or directory.
    pub fn path(path: &Path) -> Awaited {
        let path = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
        let path = path.canonicalize().unwrap_or(path);
        let was = identity(&path);
        Awaited::Path(path, was)
    }

    fn json(&self) -> Value {
        match self {
            Awaited::Path(path, was) => json!({ "path": path.to_str(), "was": was }),
            // Asked now, with the transaction open: nobody else can end one before.
            Awaited::Transaction(path, probe) => {
                let path = std::path::absolute(path).unwrap_or_else(|_| path.clone());
                let was = (probe.count)(&path);
                json!({ "database": path.to_str(), "kind": probe.kind, "was": was })
            }
            Awaited::Unseen => Value::Null,
        }
    }

    /// Whether what a journal waits for has appeared; what cannot be looked at is taken to have, since records that
    /// are nowhere would be worse than records that are in two places.
    /// `None` where a database is to be looked into by somebody who knows how.
    fn has_appeared(entry: &Value, probes: &[&Probe]) -> Option<bool> {
        if let Some(path) = entry["database"].as_str() {
            // Looking into it undoes what was not finished.
            let probe = probes.iter().find(|probe| entry["kind"] == probe.kind)?;
            let now = (probe.recovered)(Path::new(path));
            return Some(now.is_none() || json!(now) != entry["was"]);
        }
        let Some(path) = entry["path"].as_str() else { return Some(true) };
        let now = identity(Path::new(path));
        Some(now.is_some() && json!(now) != entry["was"])
    }
}

/// A whole file that waits for an output.
pub struct Pending {
    side: TempPath,
    /// Locked, so that nobody takes it for one that was left behind.
    _held: File,
    listed: Listed,
    wanted: PathBuf,
    journal: Option<NamedTempFile>,
}

impl Pending {
    pub(super) fn new(held: File, side: TempPath, listed: Listed, wanted: PathBuf) -> Pending {
        Pending { side, _held: held, listed, wanted, journal: None }
    }

    /// Writes down whose appearance the file waits for: said right before that appears.
    ///
    /// # Errors
    /// A folder that cannot be written to.
    pub fn announce(&mut self, awaited: &Awaited) -> Result<(), TargetError> {
        let folder = parent(&self.wanted);
        let failed = || TargetError::io(&self.wanted);
        let journal = locked_file(folder, tempfile::Builder::new().prefix(JOURNAL));
        let mut journal = journal.map_err(failed())?;
        let name = |path: &Path| path.file_name().and_then(|name| name.to_str().map(str::to_owned));
        let entry = json!({
            "side": name(&self.side), "wanted": name(&self.wanted), "awaited": awaited.json(),
        });
        writeln!(journal, "{entry}").map_err(failed())?;
        journal.as_file().sync_all().map_err(failed())?;
        sync_directory(folder)?;
        // From now on a process that ends leaves it, and the next one looks whether the output appeared.
        unfinished::publish(&self.listed, || {
            self.journal = Some(journal);
            Ok(())
        })
    }

    /// Gives the file the first name that is free, and returns it.
    ///
    /// # Errors
    /// A folder that cannot be written to; the file then stays aside, and its name is in the error.
    pub fn publish(self) -> Result<PathBuf, TargetError> {
        let published = publish(&self.side, &self.wanted);
        match published {
            Ok(path) => {
                // It has another name now, and is not to be removed.
                let _ = self.side.keep();
                Ok(path)
            }
            Err(error) => {
                if let Ok(side) = self.side.keep() {
                    let _ = self.journal.map(NamedTempFile::keep);
                    let what = format!(
                        "could not be named ({error}); the records are in {}",
                        side.display()
                    );
                    return Err(TargetError::NotThat { path: self.wanted, what });
                }
                Err(error)
            }
        }
    }
}

/// The names a file may get: the wanted one, and then with a number before its last part.
fn numbered(wanted: &Path) -> impl Iterator<Item = PathBuf> + '_ {
    let stem = wanted.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let extension =
        wanted.extension().map_or(String::new(), |e| format!(".{}", e.to_string_lossy()));
    let more = (2..u64::MAX).map(move |n| wanted.with_file_name(format!("{stem}-{n}{extension}")));
    std::iter::once(wanted.to_path_buf()).chain(more)
}

fn publish(side: &Path, wanted: &Path) -> Result<PathBuf, TargetError> {
    for name in numbered(wanted) {
        match rename_new(side, &name) {
            Ok(()) => return sync_directory(parent(&name)).map(|()| name),
            Err(TargetError::Exists(_)) => {}
            Err(error) => return Err(error),
        }
    }
    unreachable!("there are always more numbers")
}

/// Settles what a journal tells of, where whoever wrote it is dead. Returns what must not be removed.
pub(super) fn settle(journal: &Path, probes: &[&Probe]) -> Vec<PathBuf> {
    let Some((held, entry)) = read_journal(journal) else { return Vec::new() };
    let at = |key: &str| beside(journal, &entry[key]);
    let side = at("side").filter(|side| {
        side.file_name()
            .is_some_and(|name| name.to_string_lossy().starts_with(super::places::PREFIX))
    });
    if held.try_lock().is_err() {
        return side.into_iter().collect();
    }
    if let (Some(side), Some(wanted)) = (side, at("wanted"))
        && side.exists()
    {
        let done = match Awaited::has_appeared(&entry["awaited"], probes) {
            Some(true) => publish(&side, &wanted).is_ok(),
            Some(false) => std::fs::remove_file(&side).is_ok(),
            None => false,
        };
        if !done {
            return vec![side];
        }
    }
    let _ = std::fs::remove_file(journal);
    Vec::new()
}

#[cfg(test)]
mod tests {
    use super::super::tests::names;
    use super::super::{WholeFile, sweep, write_file};
    use super::*;

    fn pending(wanted: &Path) -> Pending {
        let file = WholeFile::aside(wanted).unwrap();
        file.file().write_all(b"set aside").unwrap();
        file.into_pending().unwrap()
    }

    #[test]
    fn a_file_that_is_there_is_never_overwritten() {
        let folder = tempfile::tempdir().unwrap();
        let wanted = folder.path().join("t.parquet.rejects.csv");
        for name in ["t.parquet.rejects.csv", "t.parquet.rejects-2.csv", "t.parquet.rejects-3.csv"]
        {
            let mut file = pending(&wanted);
            file.announce(&Awaited::Unseen).unwrap();
            assert_eq!(file.publish().unwrap(), folder.path().join(name));
        }
        assert_eq!(names(folder.path()).len(), 3);
    }

    #[test]
    fn without_its_output_it_does_not_appear() {
        let folder = tempfile::tempdir().unwrap();
        let mut file = pending(&folder.path().join("r.csv"));
        file.announce(&Awaited::Unseen).unwrap();
        drop(file);
        assert!(names(folder.path()).is_empty());
    }

    /// A load that is killed leaves what it had, with its locks gone.
    #[test]
    fn after_a_kill_it_appears_if_its_output_did() {
        for (existed, appears) in [(false, false), (false, true), (true, false), (true, true)] {
            let folder = tempfile::tempdir().unwrap();
            let target = folder.path().join("t.parquet");
            if existed {
                write_file(&target, false, b"old").unwrap();
            }
            let mut file = pending(&folder.path().join("t.parquet.rejects.csv"));
            file.announce(&Awaited::path(&target)).unwrap();
            if appears {
                write_file(&target, true, b"new").unwrap();
            }
            let Pending { side, journal, .. } = file;
            let _ = (side.keep().unwrap(), journal.unwrap().keep().unwrap());
            sweep(folder.path(), &[]);
            let mut want = Vec::new();
            want.extend((existed || appears).then_some("t.parquet"));
            want.extend(appears.then_some("t.parquet.rejects.csv"));
            assert_eq!(names(folder.path()), want, "{existed} {appears}");
        }
    }

    /// The same of a transaction, which a database counts; who cannot look into it leaves all as it is.
    #[test]
    fn after_a_kill_it_appears_if_its_transaction_was_committed() {
        fn count(path: &Path) -> Option<u32> {
            std::fs::read_to_string(path).ok()?.parse().ok()
        }
        static COUNTER: Probe = Probe { kind: "counter", count, recovered: count };
        for is_committed in [false, true] {
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("d");
            std::fs::write(&path, "7").unwrap();
            let mut file = pending(&folder.path().join("r.csv"));
            file.announce(&Awaited::Transaction(path.clone(), &COUNTER)).unwrap();
            std::fs::write(&path, if is_committed { "8" } else { "7" }).unwrap();
            let Pending { side, journal, _held, .. } = file;
            drop(_held);
            let _ = (side.keep().unwrap(), journal.unwrap().keep().unwrap());
            sweep(folder.path(), &[]);
            assert_eq!(names(folder.path()).len(), 3, "nobody knows yet");
            sweep(folder.path(), &[&COUNTER]);
            let want = if is_committed { vec!["d", "r.csv"] } else { vec!["d"] };
            assert_eq!(names(folder.path()), want);
        }
    }

    #[test]
    fn the_file_of_a_living_load_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let mut file = pending(&folder.path().join("r.csv"));
        file.announce(&Awaited::Unseen).unwrap();
        sweep(folder.path(), &[]);
        assert_eq!(names(folder.path()).len(), 2);
        assert_eq!(file.publish().unwrap(), folder.path().join("r.csv"));
        assert_eq!(names(folder.path()), ["r.csv"]);
    }
}
