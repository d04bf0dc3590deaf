//! A file of Arrow's IPC format as a table.

use std::fs::File;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use arrow_array::RecordBatch;
use arrow_ipc::reader::FileReader;
use arrow_schema::{ArrowError, SchemaRef};
use typhos_core::table::{Passed, Sieve, Table, TableError, plain_schema};
use typhos_load::TargetError;

use super::of_table;
use crate::damaged::{guarded, verify_arrow};

/// An Arrow file.
#[derive(Debug)]
pub struct ArrowTable {
    path: PathBuf,
    schema: SchemaRef,
    rows: u64,
}

impl ArrowTable {
    /// Opens a file.
    ///
    /// # Errors
    /// A file that cannot be read or is none of Arrow's.
    pub fn open(path: &Path) -> Result<ArrowTable, TargetError> {
        let rows = verify_arrow(path)?;
        guarded(path, || {
            let schema = plain_schema(&open(path, None)?.schema());
            Ok(ArrowTable { path: path.to_path_buf(), schema, rows })
        })
    }
}

fn open(path: &Path, columns: Option<Vec<usize>>) -> Result<Reader, TargetError> {
    let file = File::open(path).map_err(TargetError::io(path))?;
    FileReader::try_new_buffered(file, columns).map_err(failed(path))
}

type Reader = FileReader<std::io::BufReader<File>>;

fn failed(path: &Path) -> impl Fn(ArrowError) -> TargetError {
    move |source| TargetError::Format { path: path.to_path_buf(), source: source.into() }
}

impl Table for ArrowTable {
    fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    fn rows(&self) -> Option<u64> {
        Some(self.rows)
    }

    fn read_through(
        &mut self,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<Passed, TableError> {
        let read = guarded(&self.path, || {
            let mut reader = open(&self.path, Some(sieve.columns().to_vec()))?;
            while !sieve.is_done() {
                let Some(batch) = reader.next() else { break };
                let batch = batch.map_err(failed(&self.path))?;
                if each(sieve.pass(&batch)).is_break() {
                    break;
                }
            }
            Ok(())
        });
        read.map_err(of_table)?;
        Ok(Passed::default())
    }
}
