//! A run that is being read.

use std::io::{BufReader, Read};

use arrow_array::RecordBatch;
use arrow_ipc::reader::StreamReader;
use arrow_schema::ArrowError;

use super::SortError;
use crate::spilling::Spilled;

/// An error of the place where runs are put aside.
pub(super) fn arrow_failed(place: &str, source: ArrowError) -> SortError {
    let place = place.to_owned();
    match source {
        ArrowError::IoError(_, source) => SortError::Io { place, source },
        source => SortError::Arrow { place, source },
    }
}

/// A run that is being read, a stretch at a time.
pub(super) enum RowSource {
    Memory(Box<dyn Iterator<Item = RecordBatch> + Send>),
    /// What was put aside; and that itself, as long as it is read.
    Spilled {
        reader: Box<StreamReader<BufReader<Box<dyn Read + Send>>>>,
        _spilled: Box<dyn Spilled>,
    },
}

impl RowSource {
    pub fn next(&mut self) -> Option<Result<RecordBatch, ArrowError>> {
        match self {
            RowSource::Memory(stretches) => stretches.next().map(Ok),
            RowSource::Spilled { reader, .. } => reader.next(),
        }
    }
}
