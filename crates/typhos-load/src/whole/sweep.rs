//! What loads left behind that were killed.

use std::path::Path;

use super::directory;
use super::pending::{self, Probe};
use super::places::{PREFIX, remove_if_dead};

/// Settles and removes what loads left in a directory that were killed: a directory that was being replaced gets
/// its name, a file that belongs to an output that appeared appears too, and what was never finished goes,
/// unless somebody holds a lock on it. `probes` are how databases tell whether something appeared in them. Nothing that is not ours to remove is an error.
pub fn sweep(folder: &Path, probes: &[&Probe]) {
    let Ok(entries) = std::fs::read_dir(folder) else { return };
    let ours = |name: &str| name.starts_with(PREFIX) || pending::is_journal(name);
    let names = entries.filter_map(Result::ok).filter_map(|e| e.file_name().into_string().ok());
    let names: Vec<String> = names.filter(|name| ours(name)).collect();
    // Journals first: they say what of the rest is the only copy of something.
    let mut needed = Vec::new();
    for name in names.iter().filter(|name| directory::is_journal(name)) {
        needed.extend(directory::settle(&folder.join(name)));
    }
    for name in names.iter().filter(|name| pending::is_journal(name)) {
        needed.extend(pending::settle(&folder.join(name), probes));
    }
    for name in &names {
        let path = folder.join(name);
        if directory::is_journal(name) || pending::is_journal(name) || needed.contains(&path) {
            continue;
        }
        remove_if_dead(&path);
    }
}
