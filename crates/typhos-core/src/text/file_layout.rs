//! How the records of one file are laid out.

use std::sync::Arc;

use super::Dialect;
use crate::records::Paths;

/// How the records of one file are laid out, and which of its fields are the columns of the input.
#[derive(Debug, Clone)]
pub struct FileLayout {
    /// The dialect of the file.
    pub dialect: Dialect,
    /// Fields of a record of the file.
    pub fields: usize,
    /// The paths of its records, where they are objects of JSON: the columns are their fields.
    pub paths: Option<Arc<Paths>>,
    /// For each column of the input, its field; `None` where all are in their places.
    pub(super) places: Option<Vec<Option<usize>>>,
}

impl FileLayout {
    /// The field of a record (from 0) that holds a column of the input; `None` where the file lacks it.
    pub fn place(&self, column: usize) -> Option<usize> {
        match &self.places {
            None => Some(column),
            Some(places) => places[column],
        }
    }

    /// Whether a record stands in the file as it stands in the input, field by field.
    pub fn is_in_order(&self) -> bool {
        self.places.is_none()
    }
}
