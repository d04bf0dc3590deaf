//! Where rows go, before anybody has looked: known by the scheme of a URL or the extension of a file.
//!
//! A [`TargetKind`] is registered once, in the crate that implements it; [`Kinds`] finds the one that is meant.

use std::fmt::Debug;
use std::path::{Path, PathBuf};
use std::time::Duration;

use crate::contract::{Job, Target};
use crate::error::LoadError;
use crate::load_plan::LoadPlan;
use crate::run::{LoadReport, LoadRun};
use crate::secret::Secret;
use crate::stage::TakesParts;
use crate::table::{FileMark, LoadedBefore};
use crate::whole::pending::{Awaited, Probe};

/// A place that rows are to go to. Nothing is opened or asked before a load is planned.
pub trait Destination: Debug {
    /// The file or directory that is written, where it is one.
    fn path(&self) -> Option<&Path> {
        None
    }

    /// Where records go that are set aside, where nobody says: no two targets share the file.
    fn rejects(&self) -> PathBuf;

    /// Whose appearance records wait for that were set aside.
    fn awaited(&self) -> Awaited;

    /// Whether it speaks SQL, so that statements can be given to go before and after the rows.
    fn speaks_sql(&self) -> bool {
        false
    }

    /// The same place for a load in parts, where it takes any.
    fn takes_parts(&self) -> Option<&dyn TakesParts> {
        None
    }

    /// For each file, a load of its contents that the target knows of; see [`Target::loaded_before`].
    ///
    /// # Errors
    /// A target that cannot be asked.
    fn loaded_before(
        &self,
        _files: &[FileMark],
    ) -> Result<Option<Vec<Option<LoadedBefore>>>, LoadError> {
        Ok(None)
    }

    /// Takes the password that a server asked for.
    fn log_in(&mut self, _password: Secret) {}

    /// What a load would do; see [`Target::plan`].
    ///
    /// # Errors
    /// A target that cannot be asked.
    fn plan(&self, job: &Job<'_>) -> Result<LoadPlan, LoadError>;

    /// Loads; see [`LoadRun::into`].
    ///
    /// # Errors
    /// As [`load`](crate::load()).
    fn load(&self, run: LoadRun<'_>) -> Result<LoadReport, LoadError>;
}

/// A target that is a file or a directory of its own, and nothing but its path and how it is written: a destination
/// as it is.
pub trait Written: Target + Clone + Debug {
    /// The file or directory.
    fn output(&self) -> &Path;

    /// See [`Destination::takes_parts`].
    fn parted(&self) -> Option<&dyn TakesParts> {
        None
    }
}

impl<T: Written> Destination for T {
    fn path(&self) -> Option<&Path> {
        Some(self.output())
    }

    fn rejects(&self) -> PathBuf {
        rejects_beside(self.output(), "")
    }

    fn awaited(&self) -> Awaited {
        Awaited::output(self.output())
    }

    fn takes_parts(&self) -> Option<&dyn TakesParts> {
        self.parted()
    }

    fn plan(&self, job: &Job<'_>) -> Result<LoadPlan, LoadError> {
        plan_of(self.clone(), job)
    }

    fn load(&self, run: LoadRun<'_>) -> Result<LoadReport, LoadError> {
        run.into(self.clone())
    }
}

/// The plan of a load into a target.
///
/// # Errors
/// A target that cannot be asked.
pub fn plan_of<T: Target>(mut target: T, job: &Job<'_>) -> Result<LoadPlan, LoadError> {
    Ok(target.plan(job)?)
}

/// A file name for records that are set aside, from one that is written and more.
pub fn rejects_beside(path: &Path, more: &str) -> PathBuf {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(more);
    name.push(".rejects.csv");
    path.with_file_name(name)
}

/// A name as part of a file name: letters, digits, `-` and `_`.
pub fn plain_name(name: &str) -> String {
    let is_plain = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_');
    name.chars().map(|c| if is_plain(c) { c } else { '_' }).collect()
}

/// How a directory is shared out to files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Parts {
    /// So many files of about as many rows.
    Count(u32),
    /// A new file once one has so many bytes.
    Bytes(u64),
    /// One file for each partition.
    Partitions,
}

/// How long servers are waited for. What is zero has no end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Timeouts {
    /// Until a connection has come about.
    pub connect: Duration,
    /// For an answer to a question that needs no lock, while a load is at work there.
    pub answer: Duration,
    /// For a lock that somebody else holds.
    pub lock: Duration,
    /// For each statement of a load.
    pub statement: Duration,
}

impl Default for Timeouts {
    fn default() -> Timeouts {
        Timeouts {
            connect: Duration::from_secs(20),
            answer: Duration::from_secs(60),
            lock: Duration::from_secs(600),
            statement: Duration::ZERO,
        }
    }
}

/// What was asked for.
#[derive(Debug, Clone, Copy, Default)]
pub struct Address<'a> {
    /// A path or a URL.
    pub into: &'a str,
    /// The table, where the target has any.
    pub table: &'a str,
    /// Whether the table was named for this load, so that the name may say where in the target it is.
    pub is_named: bool,
    /// How a directory is shared out to files; `None` for a single file.
    pub parts: Option<Parts>,
    /// How long a server is waited for.
    pub timeouts: Timeouts,
}

/// A kind of target.
pub struct TargetKind {
    /// What it is called, as in "an Arrow file has no parts".
    pub name: &'static str,
    /// The schemes of its URLs, the usual one first; none for a file.
    pub schemes: &'static [&'static str],
    /// The extensions of its files, in lower case.
    pub extensions: &'static [&'static str],
    /// Whether it can be a directory of parts.
    pub has_parts: bool,
    /// Makes a destination of what was asked for.
    pub open: fn(&Address<'_>) -> Result<Box<dyn Destination>, String>,
    /// How a database of this kind tells whether a load appeared in it.
    pub probe: Option<&'static Probe>,
}

/// Why nothing was found that is meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KindError {
    /// A URL of a scheme that no kind has.
    Scheme(String),
    /// A path that does not say what to write.
    Extension,
    /// Parts were asked for, and the kind, which is named, has none.
    NoParts(&'static str),
    /// What is wrong with the address, as a sentence.
    Address(String),
}

/// The kinds of targets that there are.
#[derive(Clone)]
pub struct Kinds(Vec<&'static TargetKind>);

impl Kinds {
    /// Some kinds; of those that claim the same, the first one gets it.
    pub fn new(kinds: impl IntoIterator<Item = &'static TargetKind>) -> Kinds {
        Kinds(kinds.into_iter().collect())
    }

    /// Their usual schemes.
    pub fn schemes(&self) -> Vec<&'static str> {
        self.0.iter().filter_map(|kind| kind.schemes.first().copied()).collect()
    }

    /// How databases in files are looked into.
    pub fn probes(&self) -> Vec<&'static Probe> {
        self.0.iter().filter_map(|kind| kind.probe).collect()
    }

    /// Whether something is, or is meant to be, the URL of a kind.
    pub fn is_url(&self, text: &str) -> bool {
        self.of_scheme(text).is_some()
    }

    fn of_scheme(&self, text: &str) -> Option<&'static TargetKind> {
        let (scheme, _) = text.split_once(':')?;
        let scheme = scheme.to_ascii_lowercase();
        self.0.iter().copied().find(|kind| kind.schemes.contains(&&scheme[..]))
    }

    /// Makes a destination of what was asked for. `wants_parts` says that parts were asked for by somebody, and are
    /// not just what the schema has.
    ///
    /// # Errors
    /// Why nothing is found, or what is wrong with the address.
    pub fn open(
        &self,
        address: &Address<'_>,
        wants_parts: bool,
    ) -> Result<Box<dyn Destination>, KindError> {
        let kind = match self.of_scheme(address.into) {
            Some(kind) => kind,
            None => self.of_path(address)?,
        };
        if wants_parts && !kind.has_parts {
            return Err(KindError::NoParts(kind.name));
        }
        (kind.open)(address).map_err(KindError::Address)
    }

    fn of_path(&self, address: &Address<'_>) -> Result<&'static TargetKind, KindError> {
        if let Some((scheme, _)) = address.into.split_once("://") {
            return Err(KindError::Scheme(scheme.to_owned()));
        }
        let extension = Path::new(address.into).extension();
        let extension = extension.map(|it| it.to_string_lossy().to_lowercase()).unwrap_or_default();
        let known = self.0.iter().find(|kind| kind.extensions.contains(&&extension[..]));
        // A directory has no extension that says what is in it: parts are what only one kind has.
        let parted = || self.0.iter().find(|kind| kind.has_parts && address.parts.is_some());
        known.or_else(parted).copied().ok_or(KindError::Extension)
    }
}
