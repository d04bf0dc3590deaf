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

/// The numbers that a bench was called with, or the usual ones.
pub fn numbers<const N: usize>(usual: [u64; N]) -> [u64; N] {
    let mut arguments = std::env::args().skip(1);
    usual.map(|usual| arguments.next().and_then(|word| word.parse().ok()).unwrap_or(usual))
}

/// Demo tickets, with a draft of them beside, made where they are not there yet.
pub struct Tickets {
    folder: PathBuf,
    /// The program.
    pub typhos: PathBuf,
    /// The file.
    pub file: String,
    /// Its schema.
    pub schema: String,
}

impl Tickets {
    /// So many of them.
    ///
    /// # Errors
    /// A command that fails.
    pub fn make(rows: u64) -> Result<Tickets, String> {
        let binaries = binaries()?;
        let folder = binaries.join(format!("bench-data-{rows}"));
        let path = |name: &str| folder.join(name).display().to_string();
        let (file, schema) = (path("tickets.csv"), path("t.typhos.toml"));
        let typhos = binaries.join("typhos");
        if !Path::new(&schema).exists() {
            let (folder, rows) = (folder.display().to_string(), rows.to_string());
            let demo = ["demo", &folder, "--data-only", "--rows", &rows];
            Case::new("demo", &typhos, &demo).run()?;
            Case::new("draft", &typhos, &["draft", &file, "-o", &schema]).run()?;
        }
        Ok(Tickets { folder, typhos, file, schema })
    }

    /// The path of another file beside them.
    pub fn beside(&self, name: &str) -> String {
        self.folder.join(name).display().to_string()
    }
}
