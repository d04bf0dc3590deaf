//! Paths as they are typed → the files they stand for.

use std::path::{Path, PathBuf};

use typhos_core::text::InputError;
use typhos_core::wording::counted;

/// The files that paths stand for, and what is to be known of them.
#[derive(Debug, Default)]
pub(super) struct Expanded {
    pub files: Vec<PathBuf>,
    /// Files that were passed over, and files that were given twice.
    pub notes: Vec<String>,
}

/// The files that the paths of a command line stand for: a directory stands for the files in it, and
/// a pattern with `*`, `?` or `[` for those it matches, in order of their names; hidden ones and
/// directories are left out, and empty ones and those whose name starts with `_`, as programs leave
/// behind to say that they are done, are left out and told. A file whose name has such marks in it is that
/// file.
pub(super) fn expand(paths: &[impl AsRef<Path>]) -> Result<Expanded, InputError> {
    let mut found = Expanded::default();
    for path in paths.iter().map(AsRef::as_ref) {
        let several = if path.is_dir() {
            inside(path)?
        } else if let Some(pattern) = pattern(path) {
            matching(path, pattern)?
        } else {
            found.files.push(path.to_path_buf());
            continue;
        };
        let (passed, mut files): (Vec<PathBuf>, Vec<PathBuf>) =
            several.into_iter().partition(|file| is_passed_over(file));
        if files.is_empty() {
            let what = format!("there is nothing in it to read: {}", names(&passed));
            return Err(failed(path, std::io::Error::other(what)));
        }
        if !passed.is_empty() {
            let are = if passed.len() == 1 { "is" } else { "are" };
            found.notes.push(format!(
                "{} {are} passed over: empty, or left by a program to say that it is done",
                names(&passed)
            ));
        }
        found.files.append(&mut files);
    }
    let mut seen = std::collections::HashSet::new();
    for file in &found.files {
        let whole = std::fs::canonicalize(file).unwrap_or_else(|_| file.clone());
        if !seen.insert(whole) {
            let name = file.display();
            found.notes.push(format!("{name} is given twice: its records count twice"));
        }
    }
    Ok(found)
}

fn failed(path: &Path, source: std::io::Error) -> InputError {
    InputError::Io { file: path.display().to_string(), source }
}

/// Names of files, the first few of many.
fn names(files: &[PathBuf]) -> String {
    let name = |file: &PathBuf| file.display().to_string();
    let shown: Vec<String> = files.iter().take(3).map(name).collect();
    match files.len().saturating_sub(shown.len()) {
        0 => shown.join(", "),
        more => format!("{} and {}", shown.join(", "), counted(more as u64, "more file")),
    }
}

/// Whether a file among others has no records by the looks of it.
fn is_passed_over(file: &Path) -> bool {
    let is_mark = file.file_name().is_some_and(|name| name.to_string_lossy().starts_with('_'));
    is_mark || file.metadata().is_ok_and(|about| about.is_file() && about.len() == 0)
}

fn inside(folder: &Path) -> Result<Vec<PathBuf>, InputError> {
    let failed = |source| failed(folder, source);
    let mut files = Vec::new();
    for entry in std::fs::read_dir(folder).map_err(failed)? {
        let entry = entry.map_err(failed)?;
        if !entry.file_name().to_string_lossy().starts_with('.') && entry.path().is_file() {
            files.push(entry.path());
        }
    }
    if files.is_empty() {
        return Err(failed(std::io::Error::other("there are no files in this directory")));
    }
    files.sort();
    Ok(files)
}

/// The pattern that a path is, where there is no such file.
fn pattern(path: &Path) -> Option<&str> {
    path.to_str().filter(|text| text.contains(['*', '?', '[']) && !path.exists())
}

fn matching(path: &Path, pattern: &str) -> Result<Vec<PathBuf>, InputError> {
    let failed = |what: String| InputError::Io {
        file: path.display().to_string(),
        source: std::io::Error::other(what),
    };
    let options =
        glob::MatchOptions { require_literal_leading_dot: true, ..glob::MatchOptions::new() };
    let found = glob::glob_with(pattern, options)
        .map_err(|error| failed(format!("this is not a pattern for files: {}", error.msg)))?;
    let mut files = Vec::new();
    for file in found {
        let file = file.map_err(|error| InputError::Io {
            file: error.path().display().to_string(),
            source: error.into(),
        })?;
        if !file.is_dir() {
            files.push(file);
        }
    }
    if files.is_empty() {
        return Err(failed("no file matches this pattern".into()));
    }
    files.sort();
    Ok(files)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn directories_and_patterns_stand_for_files_in_order() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("c.csv")).unwrap();
        for name in ["b.csv", "a.csv", "a.txt", ".d.csv", "e[1].csv", "_SUCCESS", "empty.csv"] {
            let text = if name == "empty.csv" { "" } else { "a" };
            std::fs::write(folder.path().join(name), text).unwrap();
        }
        std::fs::create_dir(folder.path().join("done")).unwrap();
        std::fs::write(folder.path().join("done/_SUCCESS"), "").unwrap();
        let names = |path: &str| {
            let found = expand(&[folder.path().join(path)]).map_err(|error| error.to_string())?;
            let name = |file: &PathBuf| file.file_name().unwrap().to_str().unwrap().to_owned();
            Ok(found.files.iter().map(name).collect::<Vec<_>>().join(" "))
        };
        assert_eq!(names(""), Ok("a.csv a.txt b.csv e[1].csv".into()));
        assert_eq!(names("*.csv"), Ok("a.csv b.csv e[1].csv".into()));
        assert_eq!(names("?.csv"), Ok("a.csv b.csv".into()));
        assert_eq!(names("e[1].csv"), Ok("e[1].csv".into()));
        assert_eq!(names("missing.csv"), Ok("missing.csv".into()), "opening it says so");
        let none: Result<String, String> = names("*.tsv");
        assert!(none.unwrap_err().ends_with("*.tsv: no file matches this pattern"));
        assert!(names("done").unwrap_err().contains("nothing in it to read"));
        let twice = [folder.path().join("a.csv"), folder.path().join("./a.csv")];
        let found = expand(&twice).unwrap();
        assert!(found.notes[0].ends_with("a.csv is given twice: its records count twice"));
        let passed = expand(&[folder.path()]).unwrap().notes;
        assert!(passed.len() == 1 && passed[0].contains("_SUCCESS, "), "{passed:?}");
        assert!(names("c.csv").unwrap_err().ends_with("there are no files in this directory"));
    }
}
