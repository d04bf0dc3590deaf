//! Which files of a directory of parts are ours: a list of them with their sizes, kept in the directory.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde_json::{Value, json};

use crate::error::TargetError;

/// The name of the list. Readers of such directories leave out names that start with a dot.
pub(super) const NAME: &str = ".typhos-parts.json";

/// The most bytes that a list is read of.
const MOST_BYTES: u64 = 64 << 20;

/// The files in a directory and below it, by their path in it, with their sizes; and the directories. Links are
/// not followed.
fn walk(
    directory: &Path,
    within: &Path,
    files: &mut BTreeMap<PathBuf, Option<u64>>,
    folders: &mut Vec<PathBuf>,
) -> std::io::Result<()> {
    for entry in std::fs::read_dir(directory.join(within))? {
        let entry = entry?;
        let path = within.join(entry.file_name());
        let about = entry.metadata()?;
        if about.is_dir() {
            walk(directory, &path, files, folders)?;
            folders.push(path);
        } else {
            // What is not a regular file has no size that a list could have.
            files.insert(path, about.is_file().then_some(about.len()));
        }
    }
    Ok(())
}

/// Writes the list of all files in a directory, and syncs the directories below it.
pub(super) fn write(directory: &Path) -> Result<(), TargetError> {
    let (mut files, mut folders) = (BTreeMap::new(), Vec::new());
    walk(directory, Path::new(""), &mut files, &mut folders).map_err(TargetError::io(directory))?;
    let part =
        |(path, bytes): (&PathBuf, &Option<u64>)| json!({ "path": path.to_str(), "bytes": bytes });
    let list = json!({ "typhos": 1, "parts": files.iter().map(part).collect::<Vec<_>>() });
    let path = directory.join(NAME);
    let written = std::fs::File::create_new(&path).and_then(|mut file| {
        use std::io::Write;
        writeln!(file, "{list:#}")?;
        file.sync_all()
    });
    written.map_err(TargetError::io(&path))?;
    folders.iter().try_for_each(|folder| super::places::sync_directory(&directory.join(folder)))
}

/// The sizes in the list of a directory, by path; `None` where there is no list, or none that can be read.
fn read(directory: &Path) -> Option<BTreeMap<PathBuf, Option<u64>>> {
    let path = directory.join(NAME);
    let about = path.symlink_metadata().ok()?;
    if !about.is_file() || about.len() > MOST_BYTES {
        return None;
    }
    let list: Value = serde_json::from_slice(&std::fs::read(path).ok()?).ok()?;
    let part = |part: &Value| Some((PathBuf::from(part["path"].as_str()?), part["bytes"].as_u64()));
    list["parts"].as_array()?.iter().map(part).collect()
}

/// The first file or directory in a directory that we did not put there, by its path in it; `None` where everything
/// is ours, or there is nothing.
pub(super) fn foreign(directory: &Path) -> std::io::Result<Option<PathBuf>> {
    let (mut files, mut folders) = (BTreeMap::new(), Vec::new());
    walk(directory, Path::new(""), &mut files, &mut folders)?;
    let listed = read(directory).unwrap_or_default();
    let is_list = |path: &Path| path == Path::new(NAME) && !listed.is_empty();
    let is_ours = |path: &PathBuf, bytes: &Option<u64>| {
        is_list(path) || bytes.is_some() && listed.get(path) == Some(bytes)
    };
    if let Some((path, _)) = files.iter().find(|(path, bytes)| !is_ours(path, bytes)) {
        return Ok(Some(path.clone()));
    }
    folders.sort();
    let has_parts = |folder: &PathBuf| listed.keys().any(|part| part.starts_with(folder));
    Ok(folders.into_iter().find(|folder| !has_parts(folder)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_ours_is_known_from_what_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let foreign = || foreign(folder.path()).unwrap().map(|path| path.display().to_string());
        assert_eq!(foreign(), None, "nothing is in it");
        std::fs::create_dir_all(at("year=2024")).unwrap();
        std::fs::write(at("year=2024/part-00001.parquet"), "12345").unwrap();
        std::fs::write(at("part-00001.parquet"), "123").unwrap();
        assert_eq!(foreign(), Some("part-00001.parquet".into()), "there is no list");
        write(folder.path()).unwrap();
        assert_eq!(foreign(), None);

        std::fs::write(at("year=2024/notes.txt"), "mine").unwrap();
        assert_eq!(foreign(), Some("year=2024/notes.txt".into()));
        std::fs::remove_file(at("year=2024/notes.txt")).unwrap();
        std::fs::create_dir(at("mine")).unwrap();
        assert_eq!(foreign(), Some("mine".into()));
        std::fs::remove_dir(at("mine")).unwrap();
        std::fs::write(at("part-00001.parquet"), "1234").unwrap();
        assert_eq!(foreign(), Some("part-00001.parquet".into()), "somebody wrote into it");
        std::fs::remove_file(at("part-00001.parquet")).unwrap();
        assert_eq!(foreign(), None, "a part that is gone is nothing to lose");
        std::os::unix::fs::symlink("/etc/hostname", at("part-00001.parquet")).unwrap();
        assert_eq!(foreign(), Some("part-00001.parquet".into()));
        std::fs::remove_file(at("part-00001.parquet")).unwrap();
        std::fs::write(at(NAME), "[]").unwrap();
        assert!(foreign().is_some(), "a list that cannot be read lists nothing");
    }
}
