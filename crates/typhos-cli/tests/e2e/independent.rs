//! Programs that are not ours, which what is made here is held against.

use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;

/// The Python that scripts/test gives the libraries to; none where it did not.
pub fn python() -> Option<PathBuf> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let python = root.join("target/python/bin/python");
    assert!(
        python.exists() || std::env::var("CI").is_err(),
        "scripts/test installs the independent clients"
    );
    if !python.exists() {
        eprintln!("skipped: scripts/test installs the independent clients");
    }
    python.exists().then_some(python)
}

/// The path of a script.
pub fn script(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/independent/python").join(name)
}

/// What a script prints, as JSON.
pub fn run(name: &str, args: &[&str]) -> Option<Value> {
    run_with(name, args, &[])
}

/// The same, with variables of the environment.
pub fn run_with(name: &str, args: &[&str], variables: &[(&str, &str)]) -> Option<Value> {
    let mut command = Command::new(python()?);
    command.arg(script(name)).args(args).envs(variables.iter().copied());
    let output = command.output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    Some(serde_json::from_slice(&output.stdout).unwrap())
}
