//! A folder to work in, and the program to run there.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

use serde_json::Value;
use tempfile::TempDir;

/// The longest that any one line may take: a program that hangs is a test that fails, not tests that never end.
const PATIENCE: Duration = Duration::from_secs(600);

/// A temporary folder with files in it.
pub struct World {
    folder: TempDir,
}

/// What a run of the program did.
pub struct Ran {
    pub status: i32,
    pub out: String,
    pub err: String,
    told: String,
}

impl World {
    pub fn new() -> World {
        World { folder: tempfile::tempdir().unwrap() }
    }

    /// A folder with the demo data of so many tickets.
    pub fn demo(rows: u64) -> World {
        let world = World::new();
        world.ok(&format!("demo . --data-only --rows {rows}"));
        world
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn write(&self, name: &str, content: impl AsRef<[u8]>) -> &World {
        std::fs::write(self.path(name), content).unwrap();
        self
    }

    pub fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap()
    }

    /// The name of the only rejects file in the folder.
    pub fn rejects(&self) -> String {
        let mut names = self.names();
        names.retain(|name| name.contains(".rejects"));
        assert_eq!(names.len(), 1, "{names:?}");
        names.remove(0)
    }

    /// The files and folders in the folder, in order; those of the demo's data are left out.
    pub fn names(&self) -> Vec<String> {
        let entries = std::fs::read_dir(self.folder.path()).unwrap();
        let mut names: Vec<_> =
            entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
        names.retain(|name| {
            ![
                ".typhos-demo",
                "crossings",
                "engines.ndjson",
                "gauges.tsv",
                "refused.csv",
                "vessels.csv",
            ]
            .contains(&name.as_str())
        });
        names.sort();
        names
    }

    /// The program in this folder. `line` is split at spaces; `'` quotes nothing.
    pub fn command(&self, line: &str) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_typhos"));
        command
            .args(line.split_whitespace())
            .current_dir(self.folder.path())
            .stdin(Stdio::null())
            .env("NO_COLOR", "1");
        command
    }

    pub fn run(&self, line: &str) -> Ran {
        ran(line, self.folder.path(), output(self.command(line)))
    }

    /// Runs a command that was made of [`command`](Self::command), under what it is called in messages.
    pub fn run_command(&self, line: &str, command: Command) -> Ran {
        ran(line, self.folder.path(), output(command))
    }

    /// Runs the program with arguments that have spaces in them.
    pub fn run_args(&self, args: &[&str]) -> Ran {
        let mut command = self.command("");
        command.args(args);
        ran(&args.join(" "), self.folder.path(), output(command))
    }

    /// Runs a line that reads a text from standard input.
    pub fn run_with(&self, line: &str, text: &str) -> Ran {
        let mut command = self.command(line);
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = command.spawn().unwrap();
        // Who refuses to read closes the pipe, and that is an answer too.
        let _ = child.stdin.take().unwrap().write_all(text.as_bytes());
        ran(line, self.folder.path(), ended(child))
    }

    /// Runs a line that must end with 0.
    pub fn ok(&self, line: &str) -> Ran {
        self.run(line).status(0)
    }

    /// Runs a line whose result is JSON. The cells of rows are texts here, numbers with all the digits that are printed.
    pub fn json(&self, line: &str) -> Value {
        let mut ran = self.run(line);
        if line.starts_with("peek ") {
            ran.out = with_text_cells(&ran.out);
        }
        ran.parsed()
    }
}

/// A document whose rows have numbers, true and false in quotes, and what nests as one text.
fn with_text_cells(document: &str) -> String {
    let Some((before, rows)) = document.split_once("\"rows\": [\n") else { return document.into() };
    let Some((rows, behind)) = rows.split_once("\n  ]") else { return document.into() };
    let row = |line: &str| -> String {
        let line = line.trim();
        let (line, comma) = line.strip_suffix(',').map_or((line, ""), |line| (line, ","));
        let mut left =
            line.strip_prefix('[').and_then(|line| line.strip_suffix(']')).expect("a row");
        let mut cells = Vec::new();
        while !left.is_empty() {
            let mut values = serde_json::Deserializer::from_str(left).into_iter::<Value>();
            values.next().expect("a cell").expect("JSON");
            let (cell, rest) = left.split_at(values.byte_offset());
            cells.push(match cell.trim() {
                text if text.starts_with('"') || text == "null" => text.to_owned(),
                other => Value::from(other).to_string(),
            });
            left = rest.trim_start_matches([',', ' ']);
        }
        format!("[{}]{comma}", cells.join(", "))
    };
    let rows: Vec<String> = rows.lines().map(row).collect();
    format!("{before}\"rows\": [\n{}\n  ]{behind}", rows.join("\n"))
}

/// Runs a command to its end.
fn output(mut command: Command) -> Output {
    ended(command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap())
}

/// What a child said, once it has ended; one that takes longer than [`PATIENCE`] is killed.
pub fn ended(child: Child) -> Output {
    let id = child.id().to_string();
    let (done, waits) = channel::<()>();
    let watch = std::thread::spawn(move || {
        if waits.recv_timeout(PATIENCE) == Err(RecvTimeoutError::Timeout) {
            eprintln!("process {id} has not ended within {PATIENCE:?} and is killed");
            let _ = Command::new("kill").args(["-9", &id]).status();
        }
    });
    let output = child.wait_with_output().unwrap();
    drop(done);
    let _ = watch.join();
    output
}

fn ran(line: &str, folder: &Path, output: Output) -> Ran {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let (out, err) = (text(&output.stdout), text(&output.stderr));
    let status = output.status.code().unwrap_or(-1);
    let told = format!(
        "$ typhos {line}\nin {}\nended with {status}\n--- out\n{out}\n--- err\n{err}",
        folder.display()
    );
    Ran { status, out, err, told }
}

impl Ran {
    pub fn status(self, want: i32) -> Ran {
        assert_eq!(self.status, want, "{}", self.told);
        self
    }

    /// Standard output has this text.
    pub fn says(self, text: &str) -> Ran {
        assert!(self.out.contains(text), "standard output lacks: {text}\n{}", self.told);
        self
    }

    /// Standard output is JSON.
    pub fn parsed(&self) -> Value {
        serde_json::from_str(&self.out).unwrap_or_else(|error| panic!("{error}\n{}", self.told))
    }

    /// Standard error has this text.
    pub fn complains(self, text: &str) -> Ran {
        assert!(self.err.contains(text), "standard error lacks: {text}\n{}", self.told);
        self
    }
}

/// A program the tests ask for its opinion. Under `CI=true` it must be there; elsewhere a test
/// without it says that it was skipped.
pub fn tool(name: &str) -> bool {
    tool_that_answers(name, "--version")
}

/// The same of a program that says its version when it is asked in another way.
pub fn tool_that_answers(name: &str, question: &str) -> bool {
    let there =
        Command::new(name).arg(question).output().is_ok_and(|output| output.status.success());
    if !there {
        assert!(
            std::env::var("CI").as_deref() != Ok("true"),
            "'{name}' is missing; scripts/test installs it"
        );
        eprintln!("skipped: '{name}' is missing");
    }
    there
}
