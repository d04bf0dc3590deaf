//! Where the files of a table are: folders of this machine by `file://` URLs or paths, and objects of stores.

use std::io;
use std::path::{Path, PathBuf};

use typhos_load::TargetError;
use typhos_load::whole::write_file;

use crate::store::{self, Upload};

/// The path of a URL that leads to this machine.
///
/// # Errors
/// A URL of a scheme that nothing here reads; a sentence.
pub fn local(url: &str) -> Result<Option<PathBuf>, String> {
    if let Some(rest) = url.strip_prefix("file:") {
        // `file:///a`, `file:/a` and, as some write it, `file://a`.
        // Nobody who writes or reads tables escapes anything in them.
        return Ok(Some(PathBuf::from(rest.strip_prefix("//").unwrap_or(rest))));
    }
    match url.split_once("://") {
        None => Ok(Some(PathBuf::from(url))),
        Some(("s3" | "gs" | "az", _)) => Ok(None),
        Some((scheme, _)) => Err(format!("its files are at {scheme}://, which cannot be reached")),
    }
}

/// An object as this program reaches it: Hadoop's names of schemes are others of the same stores.
pub fn reached(url: &str) -> String {
    for (theirs, ours) in [("s3a://", "s3://"), ("s3n://", "s3://"), ("gcs://", "gs://")] {
        if let Some(rest) = url.strip_prefix(theirs) {
            return format!("{ours}{rest}");
        }
    }
    url.to_owned()
}

fn failed(url: &str) -> impl FnOnce(io::Error) -> TargetError {
    TargetError::io(Path::new(url))
}

/// Where a URL leads, as an error of a target where it leads nowhere.
fn place(url: &str) -> Result<Option<PathBuf>, TargetError> {
    local(&reached(url)).map_err(|why| failed(url)(io::Error::other(why)))
}

/// Reads a small file.
///
/// # Errors
/// One that is not there or cannot be read.
pub fn read(url: &str) -> Result<Vec<u8>, TargetError> {
    match place(url)? {
        Some(path) => std::fs::read(&path).map_err(TargetError::io(&path)),
        None => store::read(&reached(url)).map_err(failed(url)),
    }
}

/// Writes a small file that is not there.
///
/// # Errors
/// A place that cannot be written to.
pub fn write(url: &str, bytes: Vec<u8>) -> Result<(), TargetError> {
    match place(url)? {
        Some(path) => {
            let folder = path.parent().unwrap_or(Path::new("/"));
            std::fs::create_dir_all(folder).map_err(TargetError::io(folder))?;
            write_file(&path, false, &bytes)
        }
        None => store::write(&reached(url), bytes).map_err(failed(url)),
    }
}

/// Removes a file that nobody refers to. That it cannot be is no reason to fail.
pub fn remove(url: &str) {
    let _ = match place(url) {
        Ok(Some(path)) => std::fs::remove_file(path),
        Ok(None) => store::remove(&reached(url)),
        Err(_) => Ok(()),
    };
}

/// Sends a file to a store, as far as that can be done unseen.
///
/// # Errors
/// A file that cannot be read, a store that cannot be written to.
pub fn upload(
    from: &Path,
    url: &str,
    goes_on: &mut dyn FnMut(u64) -> bool,
) -> Result<Upload, TargetError> {
    Upload::begin(from, &reached(url), goes_on).map_err(|error| match error.kind() {
        io::ErrorKind::Interrupted => TargetError::Interrupted,
        _ => failed(url)(error),
    })
}

/// A URL inside of another.
pub fn inside(url: &str, name: &str) -> String {
    format!("{}/{name}", url.trim_end_matches('/'))
}

/// The URL of a folder of this machine.
pub fn url_of(path: &Path) -> String {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    format!("file://{}", absolute.display())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn urls_of_this_machine_are_paths() {
        for url in ["file:///lake/t", "file:/lake/t", "/lake/t"] {
            assert_eq!(local(url), Ok(Some(PathBuf::from("/lake/t"))), "{url}");
        }
        assert_eq!(local("file:///a b%2F"), Ok(Some(PathBuf::from("/a b%2F"))));
        assert_eq!(local(&reached("s3a://bucket/t")), Ok(None));
        assert!(local("hdfs://name/t").unwrap_err().contains("hdfs://"));
        assert_eq!(inside("s3://b/t/", "data"), "s3://b/t/data");
    }
}
