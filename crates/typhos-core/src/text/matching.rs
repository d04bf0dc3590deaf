//! The columns of several files, matched by the names in their headers.

use super::{ColumnsDiffer, InputChoice, InputError, InputFile};
use crate::wording::listed;

/// How the columns of one file differ from those of the input.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// Which file of the input, from 0.
    pub file: usize,
    /// Columns of the input that it lacks: they are absent in its records.
    pub lacks: Vec<String>,
    /// Columns of its own that are left out.
    pub left_out: Vec<String>,
}

/// Finds which fields of each file are the columns of the input. Returns the names of those.
pub(super) fn match_columns(
    files: &mut [InputFile],
    choice: &InputChoice,
) -> Result<Vec<String>, InputError> {
    let first = &files[0];
    let mut names = first.names().to_vec();
    if !first.dialect().header || choice.names.is_some() {
        let (expected, first) = (names.len(), first.name());
        return match files.iter().find(|file| file.layout().fields != expected) {
            None => Ok(names),
            Some(file) => {
                let (file, fields) = (file.name(), file.layout().fields);
                Err(InputError::OtherCount { file, first, fields, expected })
            }
        };
    }
    let policy = choice.columns_differ.unwrap_or_default();
    if policy == ColumnsDiffer::Union {
        for file in &files[1..] {
            let places = places(&names, file.names());
            let used: std::collections::HashSet<usize> = places.into_iter().flatten().collect();
            let more = file.names().iter().enumerate().filter(|(at, _)| !used.contains(at));
            let more: Vec<String> = more.map(|(_, name)| name.clone()).collect();
            names.extend(more);
        }
    }
    let first = files[0].name();
    for file in files {
        let places = places(&names, file.names());
        if policy == ColumnsDiffer::Stop
            && let Some(difference) = difference(&names, file.names(), &places)
        {
            return Err(InputError::OtherColumns { file: file.name(), first, difference });
        }
        file.take_places(places);
    }
    Ok(names)
}

/// Where each of `names` stands among `theirs`; of repeated names the first goes with the first.
fn places(names: &[String], theirs: &[String]) -> Vec<Option<usize>> {
    if names == theirs {
        return (0..names.len()).map(Some).collect();
    }
    let mut by_name: std::collections::HashMap<&str, std::collections::VecDeque<usize>> =
        std::collections::HashMap::new();
    for (at, name) in theirs.iter().enumerate() {
        by_name.entry(name).or_default().push_back(at);
    }
    let mut next = |name: &String| by_name.get_mut(name.as_str())?.pop_front();
    names.iter().map(&mut next).collect()
}

/// How the columns of a file differ, for a person; `None` where they are the same in some order.
fn difference(names: &[String], theirs: &[String], places: &[Option<usize>]) -> Option<String> {
    let lacks: Vec<&String> =
        names.iter().zip(places).filter(|(_, place)| place.is_none()).map(|(n, _)| n).collect();
    let used: std::collections::HashSet<usize> = places.iter().flatten().copied().collect();
    let more = theirs.iter().enumerate().filter(|(at, _)| !used.contains(at));
    let more: Vec<&String> = more.map(|(_, name)| name).collect();
    match (lacks.is_empty(), more.is_empty()) {
        (true, true) => None,
        (false, true) => Some(format!("it lacks {}", listed(lacks))),
        (true, false) => Some(format!("it has {} besides", listed(more))),
        (false, false) => {
            Some(format!("it lacks {}, and has {} besides", listed(lacks), listed(more)))
        }
    }
}
