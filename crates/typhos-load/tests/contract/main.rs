//! The contract of a load, held by targets that write everything down and talk to nobody: what is planned, in which
//! order rows go, what is told of them, and what is left where something fails.

mod database;
mod shelf;
mod steps;
mod tables;

use std::num::NonZeroUsize;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};

use typhos_core::columns::Plan;
use typhos_core::run::{Monitor, NoMonitor, RunOptions};
use typhos_core::text::{Dialect, Input};
use typhos_load::{
    Destination, LoadError, LoadOptions, LoadPlan, LoadReport, MisfitLimit, load, plan,
};

/// Boats with their lengths; the one in the third line does not fit.
pub const BOATS: &str = "boat,length\nHolm,31\nSund,long\nTårn,28\nVik,40\n";

/// Their schema.
pub const SCHEMA: &str = "typhos = 1\n\
    [columns]\n\
    boat = { type = 'text', required = true }\n\
    length = { type = 'int32', misfit = 'reject' }\n";

/// An input, its declaration, and how it is loaded.
pub struct Case {
    pub input: Input,
    pub schema: Plan,
    pub options: LoadOptions,
}

impl Case {
    /// Text under a schema, loaded by two threads with a block for every few records.
    pub fn new(text: &str, schema: &str, folder: &Path) -> Case {
        let input = Input::from_bytes("boats.csv", text.into(), &Dialect::RFC_4180.into());
        let schema = typhos_core::read_schema(schema).expect("a schema");
        let schema = Plan::new(schema, &input).expect("columns of the input");
        let options = LoadOptions {
            run: RunOptions { threads: NonZeroUsize::new(2).unwrap(), block_bytes: 64 },
            memory: 64 << 20,
            sort_memory: 1 << 20,
            ..LoadOptions::new(folder.join("boats.rejects.csv"))
        };
        Case { input, schema, options }
    }

    /// The boats.
    pub fn boats(folder: &Path) -> Case {
        Case::new(BOATS, SCHEMA, folder)
    }

    pub fn limited(mut self, limit: MisfitLimit) -> Case {
        self.options.misfit_limit = Some(limit);
        self
    }

    pub fn plan(&self, into: &dyn Destination) -> Result<LoadPlan, LoadError> {
        plan(&self.input, &self.schema, into, &self.options, &NoMonitor)
    }

    pub fn load(&self, into: &dyn Destination) -> Result<LoadReport, LoadError> {
        self.load_watched(into, &NoMonitor)
    }

    pub fn load_watched(
        &self,
        into: &dyn Destination,
        monitor: &dyn Monitor,
    ) -> Result<LoadReport, LoadError> {
        load(&self.input, &self.schema, into, &self.options, monitor)
    }
}

/// Asks for a stop once so many bytes are done.
pub struct StopAfter {
    most: u64,
    done: AtomicU64,
}

impl StopAfter {
    pub fn bytes(most: u64) -> StopAfter {
        StopAfter { most, done: AtomicU64::new(0) }
    }
}

impl Monitor for StopAfter {
    fn advance(&self, bytes: u64) {
        self.done.fetch_add(bytes, Ordering::SeqCst);
    }

    fn stopped(&self) -> bool {
        self.done.load(Ordering::SeqCst) >= self.most
    }
}

/// Names in a folder, in order.
pub fn names(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).expect("a folder");
    let name = |entry: std::io::Result<std::fs::DirEntry>| entry.unwrap().file_name();
    let mut names: Vec<_> = entries.map(|it| name(it).into_string().unwrap()).collect();
    names.sort();
    names
}
