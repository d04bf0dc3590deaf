//! What the benches share: running a command and seeing how long it took and what memory it held.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// What is measured: a name, the program and its arguments, and whether its time is the unit.
pub struct Case {
    /// What it is called.
    pub name: &'static str,
    program: PathBuf,
    arguments: Vec<String>,
    /// The best time of all runs.
    pub best: Duration,
    /// The most memory held in any, beside the page cache.
    pub peak_kib: u64,
}

impl Case {
    /// A case that was not run yet.
    pub fn new(name: &'static str, program: impl AsRef<Path>, arguments: &[&str]) -> Case {
        Case {
            name,
            program: program.as_ref().to_path_buf(),
            arguments: arguments.iter().map(|word| (*word).to_owned()).collect(),
            best: Duration::MAX,
            peak_kib: 0,
        }
    }

    /// Runs it once.
    ///
    /// # Errors
    /// A command that cannot be run, or fails.
    pub fn run(&mut self) -> Result<(), String> {
        let failed = |what: String| {
            format!("{} {}: {what}", self.program.display(), self.arguments.join(" "))
        };
        let started = Instant::now();
        let mut child = Command::new(&self.program)
            .args(&self.arguments)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .map_err(|error| failed(error.to_string()))?;
        let status = format!("/proc/{}/status", child.id());
        let ended = loop {
            if let Some(peak) = peak_kib(&status) {
                self.peak_kib = self.peak_kib.max(peak);
            }
            if let Some(ended) = child.try_wait().map_err(|error| failed(error.to_string()))? {
                break ended;
            }
            std::thread::sleep(Duration::from_millis(2));
        };
        self.best = self.best.min(started.elapsed());
        if ended.success() { Ok(()) } else { Err(failed(ended.to_string())) }
    }
}

/// The most memory the process has held, beside the page cache.
fn peak_kib(status: &str) -> Option<u64> {
    let text = std::fs::read_to_string(status).ok()?;
    let line = text.lines().find(|line| line.starts_with("VmHWM:"))?;
    line.split_whitespace().nth(1)?.parse().ok()
}

/// The folder that the benches and the program were built into.
///
/// # Errors
/// Where the system does not say.
pub fn binaries() -> Result<PathBuf, String> {
    let program = std::env::current_exe().map_err(|error| error.to_string())?;
    Ok(program.parent().ok_or("the program has no folder")?.to_path_buf())
}
