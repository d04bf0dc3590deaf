//! A file system that is soon full.

use std::path::{Path, PathBuf};
use std::process::Command;

/// A small file system in memory; gone when it is dropped.
pub struct SmallDisk(PathBuf);

impl SmallDisk {
    /// Mounts one of so many megabytes. Where that is not allowed, as in a container, says that the test is
    /// skipped.
    pub fn mount(path: &Path, megabytes: u32) -> Option<SmallDisk> {
        std::fs::create_dir_all(path).unwrap();
        let mounted = Command::new("mount")
            .args(["-t", "tmpfs", "-o", &format!("size={megabytes}m"), "tmpfs"])
            .arg(path)
            .output();
        if mounted.is_ok_and(|mounted| mounted.status.success()) {
            return Some(SmallDisk(path.to_path_buf()));
        }
        eprintln!("skipped: no small disk can be mounted here");
        None
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        // A server may still have files of it open.
        let _ = Command::new("umount").arg("--lazy").arg(&self.0).status();
    }
}
