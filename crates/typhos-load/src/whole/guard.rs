//! Keeps outputs apart from what the same run reads, and from each other.
//!
//! Files are compared by the device and number that the file system knows them by, links followed; those that do
//! not exist yet by where they would stand.

use std::path::{Path, PathBuf};

use crate::error::TargetError;

/// A path, and what it is to the run, in a word or two.
pub type Named<'p> = (&'p str, &'p Path);

/// Where a path really leads.
struct Located {
    identity: Option<(u64, u64)>,
    path: PathBuf,
}

impl Located {
    fn of(path: &Path) -> Located {
        use std::os::unix::fs::MetadataExt;
        let identity = path.metadata().ok().map(|about| (about.dev(), about.ino()));
        // As much of it as there is, and the rest as it is written.
        let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
        let found =
            absolute.ancestors().find_map(|there| Some((there, there.canonicalize().ok()?)));
        let path = match found {
            Some((there, canonical)) => match absolute.strip_prefix(there) {
                Ok(rest) if rest.as_os_str().is_empty() => canonical,
                Ok(rest) => canonical.join(rest),
                Err(_) => absolute.clone(),
            },
            None => absolute.clone(),
        };
        Located { identity, path }
    }

    fn is(&self, other: &Located) -> bool {
        self.path == other.path || self.identity.is_some() && self.identity == other.identity
    }

    /// Whether it stands somewhere in a directory.
    fn is_in(&self, directory: &Located) -> bool {
        self.path.ancestors().skip(1).any(|ancestor| {
            ancestor == directory.path
                || directory.identity.is_some()
                    && super::places::identity(ancestor) == directory.identity
        })
    }
}

/// Refuses outputs that are something that is read, hold something that is read, or are one another.
///
/// # Errors
/// [`TargetError::SameFile`], which says which two they are.
pub fn keep_apart(read: &[Named<'_>], written: &[Named<'_>]) -> Result<(), TargetError> {
    let located =
        |(what, path): &Named<'_>| (what.to_string(), path.to_path_buf(), Located::of(path));
    let read: Vec<_> = read.iter().map(located).collect();
    let written: Vec<_> = written.iter().map(located).collect();
    for (at, (what, path, output)) in written.iter().enumerate() {
        let clash = read
            .iter()
            .chain(&written[..at])
            .find(|(_, _, other)| output.is(other) || other.is_in(output));
        // Nothing is written into a directory that appears as a whole, either.
        let clash =
            clash.or_else(|| written[..at].iter().find(|(_, _, other)| output.is_in(other)));
        if let Some((other, other_path, _)) = clash {
            return Err(TargetError::SameFile {
                path: path.clone(),
                what: what.clone(),
                other: other.clone(),
                other_path: other_path.clone(),
            });
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn outputs_are_kept_apart_from_inputs_and_from_each_other() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::create_dir_all(at("in/deep")).unwrap();
        std::fs::write(at("in/deep/a.csv"), "a").unwrap();
        std::fs::write(at("b.csv"), "b").unwrap();
        std::os::unix::fs::symlink("in", at("link")).unwrap();
        std::fs::hard_link(at("b.csv"), at("c.csv")).unwrap();
        let clash = |read: &[&str], written: &[&str]| {
            let all = |names: &[&str]| names.iter().map(|name| at(name)).collect::<Vec<_>>();
            let (read, written) = (all(read), all(written));
            let named = |all: &'_ [PathBuf]| all.to_vec();
            let (read, written) = (named(&read), named(&written));
            let read: Vec<Named<'_>> = read.iter().map(|path| ("the input", &**path)).collect();
            let written: Vec<Named<'_>> =
                written.iter().map(|path| ("the output", &**path)).collect();
            keep_apart(&read, &written).is_err()
        };
        for (read, written, want) in [
            (&["b.csv"][..], &["b.csv"][..], true),
            (&["b.csv"], &["in/../b.csv"], true),
            (&["b.csv"], &["c.csv"], true),
            (&["in/deep/a.csv"], &["in"], true),
            (&["in/deep/a.csv"], &["link"], true),
            (&["link/deep/a.csv"], &["in/deep"], true),
            (&["in/deep/a.csv"], &["in/deep/new.parquet"], false),
            (&["b.csv"], &["b.parquet", "b.rejects.csv"], false),
            (&[], &["new", "new"], true),
            (&[], &["new", "./new"], true),
            (&[], &["in", "in/rejects.csv"], true),
            (&[], &["in/rejects.csv", "in"], true),
            (&[], &["lake", "lake/rejects.csv"], true),
            (&[], &["link/new/r.csv", "in/new"], true),
            (&[], &["in2", "in"], false),
        ] {
            assert_eq!(clash(read, written), want, "{read:?} {written:?}");
        }
    }
}
