//! Files that a database knows to have been loaded into it, before a load of them.

use std::path::PathBuf;

use typhos_core::infer::counted;
use typhos_core::text::Input;
use typhos_load::Destination;
use typhos_load::table::{FileMark, LoadedBefore};

use super::load::with_password;
use crate::args::SeenFile;
use crate::console::{Console, DIM, paint, safe};
use crate::outcome::Failure;

/// What is left to load of an input.
pub enum Left {
    /// All of it.
    All(Vec<FileMark>),
    /// Some of its files.
    Some(Vec<PathBuf>, Vec<FileMark>),
    /// Nothing.
    Nothing,
}

/// Asks a database which files of an input it knows, and does with those as is said.
pub fn sort_out(
    fate: SeenFile,
    destination: &mut dyn Destination,
    (into, input): (&str, &Input),
    console: &mut Console,
) -> Result<Left, Failure> {
    if input.is_stream() {
        return Err(Failure::Usage(
            "a stream cannot be known again: load files, or leave --history and --seen-file out"
                .into(),
        ));
    }
    let marks = FileMark::all(input)?;
    let known = with_password(destination, |destination| destination.loaded_before(&marks));
    let known = known.map_err(|error| Failure::Machine(error.to_string()))?;
    let Some(known) = known else {
        return Err(Failure::Usage(format!(
            "{} keeps no history of what was loaded into it: a database does",
            safe(into)
        )));
    };
    let mut left = (Vec::new(), Vec::new());
    for ((file, mark), before) in input.files().iter().zip(marks).zip(known) {
        let Some(before) = before.filter(|_| fate != SeenFile::Load) else {
            left.0.extend(file.path().map(PathBuf::from));
            left.1.push(mark);
            continue;
        };
        let told = told(&mark, &before);
        if fate == SeenFile::Stop {
            return Err(Failure::Refused(format!(
                "{told}; nothing was loaded: --seen-file skip leaves it out, --seen-file load loads it again"
            )));
        }
        console.note(paint(DIM, format!("left out: {told}")))?;
    }
    Ok(match left {
        (paths, _) if paths.is_empty() => Left::Nothing,
        (paths, marks) if paths.len() < input.files().len() => Left::Some(paths, marks),
        (_, marks) => Left::All(marks),
    })
}

/// When a file was loaded, and what it was called then.
fn told(mark: &FileMark, before: &LoadedBefore) -> String {
    let name = match before.name == mark.name {
        true => String::new(),
        false => format!(" as {}", safe(&before.name)),
    };
    let rows = counted(before.rows, "row");
    format!("{} was loaded on {}{name}, {rows} in all", safe(&mark.name), safe(&before.at))
}
