//! The rules of a house, gathered: what was typed, what a settings file says, what is usual.

use std::path::{Path, PathBuf};

use typhos_core::infer::{House, Rules};

use crate::args::RuleArgs;
use crate::console::{self, Console, DIM, paint};
use crate::diagnose;
use crate::outcome::Failure;

/// The name of a settings file: it holds for the data beside it and below.
const FILE: &str = "typhos.toml";

/// Rules, and where each comes from.
pub struct Settings {
    typed: House,
    file: Option<(PathBuf, House)>,
    /// All of them together.
    pub house: House,
}

impl Settings {
    /// Gathers the rules for data at `input`; `None` stands for standard input, which has no place but
    /// the folder one works in.
    pub fn gather(typed: &RuleArgs, input: Option<&Path>) -> Result<Settings, Failure> {
        let typed = typed.house();
        let file = match find(input) {
            Some(path) => Some((path.clone(), read(&path)?)),
            None => None,
        };
        let house = match &file {
            Some((_, file)) => typed.or(file),
            None => typed.clone(),
        };
        Ok(Settings { typed, file, house })
    }

    pub fn rules(&self) -> Rules {
        let seconds = std::time::UNIX_EPOCH.elapsed().map_or(0, |since| since.as_secs());
        Rules { today: i32::try_from(seconds / 86_400).ok(), ..self.house.rules() }
    }

    /// Says where each setting comes from.
    pub fn tell(&self, console: &mut Console) -> std::io::Result<()> {
        let file = self.file.as_ref();
        match file {
            Some((path, _)) => console.say(format!("  settings    {}", console::path(path)))?,
            None => console.say(format!(
                "  settings    {}",
                paint(DIM, "no typhos.toml beside the data or above it")
            ))?,
        }
        let from_file = file.map(|(_, house)| house.said());
        let rows = self.typed.said().into_iter().zip(House::usual()).enumerate();
        for (at, ((key, typed), (_, usual))) in rows {
            let filed = from_file.as_ref().and_then(|said| said[at].1.clone());
            let (value, origin) = match (typed, filed) {
                (Some(value), _) => (value, format!("--{}", key.replace('_', "-"))),
                (None, Some(value)) => (value, FILE.to_owned()),
                (None, None) => (usual.to_owned(), "usual".to_owned()),
            };
            let value = if value.is_empty() { "nothing".to_owned() } else { value };
            console.say(format!("    {key:<13} {value:<14} {}", paint(DIM, origin)))?;
        }
        Ok(())
    }
}

/// The settings file beside the data, or the nearest one above.
fn find(input: Option<&Path>) -> Option<PathBuf> {
    let start = match input {
        Some(path) => std::path::absolute(path).ok()?,
        None => std::env::current_dir().ok()?.join("-"),
    };
    // A directory of data is looked into as well.
    start.ancestors().map(|folder| folder.join(FILE)).find(|path| path.is_file())
}

fn read(path: &Path) -> Result<House, Failure> {
    let source = std::fs::read_to_string(path)
        .map_err(|error| Failure::Machine(format!("{}: {error}", path.display())))?;
    House::read(&source).map_err(|wrong| Failure::Schema(diagnose::show(&wrong, &source, path)))
}
