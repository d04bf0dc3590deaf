//! Paths as they are typed → the files they stand for.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use super::InputError;
use super::source::{Bytes, Source};

/// The files that the paths of a command line stand for: a directory stands for the files in it, and
/// a pattern with `*`, `?` or `[` for those it matches, in order of their names; hidden ones and
/// directories are left out. A file whose name has such marks in it is that file.
pub(super) fn expand(paths: &[impl AsRef<Path>]) -> Result<Vec<PathBuf>, InputError> {
    let mut files = Vec::new();
    for path in paths.iter().map(AsRef::as_ref) {
        if path.is_dir() {
            files.append(&mut inside(path)?);
        } else if let Some(pattern) = pattern(path) {
            files.append(&mut matching(path, pattern)?);
        } else {
            files.push(path.to_path_buf());
        }
    }
    Ok(files)
}

fn inside(folder: &Path) -> Result<Vec<PathBuf>, InputError> {
    let failed = |source| InputError::Io { file: folder.display().to_string(), source };
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
        .map_err(|error| failed(format!("this is no pattern for files: {}", error.msg)))?;
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

/// What stands at a path: a file, or a pipe that must not be opened twice.
pub(super) fn source_at(path: PathBuf) -> Result<Source, InputError> {
    let failed = |source| InputError::Io { file: path.display().to_string(), source };
    if path.metadata().map_err(failed)?.is_file() {
        return Ok(Source::File(path));
    }
    let stream: Bytes = Box::new(std::fs::File::open(&path).map_err(failed)?);
    Ok(Source::Stream(path.display().to_string(), Arc::new(Mutex::new(Some(stream)))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn directories_and_patterns_stand_for_files_in_order() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("c.csv")).unwrap();
        for name in ["b.csv", "a.csv", "a.txt", ".d.csv", "e[1].csv"] {
            std::fs::write(folder.path().join(name), "").unwrap();
        }
        let names = |path: &str| {
            let files = expand(&[folder.path().join(path)]).map_err(|error| error.to_string())?;
            let name = |file: &PathBuf| file.file_name().unwrap().to_str().unwrap().to_owned();
            Ok(files.iter().map(name).collect::<Vec<_>>().join(" "))
        };
        assert_eq!(names(""), Ok("a.csv a.txt b.csv e[1].csv".into()));
        assert_eq!(names("*.csv"), Ok("a.csv b.csv e[1].csv".into()));
        assert_eq!(names("?.csv"), Ok("a.csv b.csv".into()));
        assert_eq!(names("e[1].csv"), Ok("e[1].csv".into()));
        assert_eq!(names("missing.csv"), Ok("missing.csv".into()), "opening it says so");
        let none: Result<String, String> = names("*.tsv");
        assert!(none.unwrap_err().ends_with("*.tsv: no file matches this pattern"));
        assert!(names("c.csv").unwrap_err().ends_with("there are no files in this directory"));
    }
}
