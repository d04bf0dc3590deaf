//! What a part of a load says of itself.

use std::path::Path;

use serde::{Deserialize, Serialize};
use serde_json::Value;
use typhos_core::survey::PartOf;

use crate::contract::Mode;
use crate::error::TargetError;
use crate::misfit_limit::MisfitLimit;

/// The version of manifests.
const VERSION: u32 = 2;

/// The most bytes of a manifest: of a part of very many partitions.
const MOST_BYTES: u64 = 256 << 20;

/// What a part of a load says of itself.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartManifest {
    /// The version of the format.
    pub typhos: u32,
    /// What was read: which part, of what, from where to where.
    pub read: PartOf,
    /// A hash of the schema under which it was loaded.
    pub schema: String,
    /// Its declared columns.
    pub columns: u64,
    /// Where all parts will be, as it was named.
    pub target: String,
    /// The table in it; empty where it has none.
    pub table: String,
    /// What happens to what is there.
    pub mode: Mode,
    /// What the target wants to be told again when all parts are published.
    pub note: Value,
    /// Where records that are set aside will be.
    pub rejects_to: String,
    /// The folder of the stage that has its files.
    pub folder: String,
    /// Its files.
    pub files: Vec<StagedFile>,
    /// Records that were set aside.
    pub rejects: Option<StagedRejects>,
    /// What became of every record.
    pub account: PartAccount,
    /// Values and records that do not fit.
    pub misfits: Vec<PartMisfits>,
    /// How many of them the whole load may have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub misfit_limit: Option<MisfitLimit>,
    /// Facts about its rows that were found in the files again; `None` where nobody asked.
    pub proven: Option<u64>,
}

/// A data file of a part.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StagedFile {
    /// Where it is in the folder.
    pub path: String,
    /// Its rows.
    pub rows: u64,
    /// Its bytes.
    pub bytes: u64,
}

/// The records that a part set aside.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StagedRejects {
    /// The name of their file in the stage.
    pub name: String,
    /// Its bytes.
    pub bytes: u64,
    /// Bytes before its first record, as every such file has them.
    pub head: u64,
    /// Bytes behind its last record.
    pub tail: u64,
}

/// What became of every record.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartAccount {
    /// Records read.
    pub read: u64,
    /// Records that are rows now.
    pub loaded: u64,
    /// Records kept out.
    pub set_aside: u64,
    /// Records that are no row, as declared.
    pub without_elements: u64,
    /// Values made null because they did not fit.
    pub nulled: u64,
}

impl PartAccount {
    /// Adds that of another part.
    pub fn add(&mut self, other: &PartAccount) {
        self.read += other.read;
        self.loaded += other.loaded;
        self.set_aside += other.set_aside;
        self.without_elements += other.without_elements;
        self.nulled += other.nulled;
    }

    /// Whether nothing is lost.
    pub fn is_balanced(&self) -> bool {
        self.read == self.loaded + self.set_aside + self.without_elements
    }
}

/// Misfits of one column.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartMisfits {
    /// The column; `None` of records that could not be split.
    pub column: Option<String>,
    /// How many.
    pub count: u64,
    /// The first of them.
    pub examples: Vec<PartExample>,
}

/// A misfit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartExample {
    /// Its file.
    pub file: String,
    /// The line of its record.
    pub line: u64,
    /// The value, or the record.
    pub value: String,
    /// Why it does not fit.
    pub reason: String,
}

impl PartManifest {
    /// Its version.
    pub const VERSION: u32 = VERSION;

    /// Misfits in all.
    pub fn count_misfits(&self) -> u64 {
        self.misfits.iter().map(|misfits| misfits.count).sum()
    }

    /// It as a text.
    pub(super) fn text(&self) -> String {
        let mut text = serde_json::to_string_pretty(self).expect("a manifest is JSON");
        text.push('\n');
        text
    }
}

/// Reads a manifest.
pub(super) fn read(path: &Path) -> Result<PartManifest, TargetError> {
    let about = path.metadata().map_err(TargetError::io(path))?;
    let wrong = |what: String| TargetError::NotThat { path: path.to_path_buf(), what };
    if about.len() > MOST_BYTES {
        return Err(wrong("is too large to be the manifest of a part".into()));
    }
    let text = std::fs::read(path).map_err(TargetError::io(path))?;
    let manifest: PartManifest = serde_json::from_slice(&text)
        .map_err(|error| wrong(format!("is not the manifest of a part: {error}")))?;
    if manifest.typhos != VERSION {
        let version = manifest.typhos;
        return Err(wrong(format!(
            "has version {version} of manifests; this program reads {VERSION}"
        )));
    }
    // What is named stays inside of the stage.
    let is_name = |name: &str| {
        let mut parts = Path::new(name).components();
        let is_plain = |part| matches!(part, Some(std::path::Component::Normal(_)));
        is_plain(parts.next()) && parts.all(|part| is_plain(Some(part)))
    };
    let files = manifest.files.iter().map(|file| &file.path);
    let rejects = manifest.rejects.iter().map(|rejects| &rejects.name);
    let is_inside = files.chain(rejects).chain([&manifest.folder]).all(|name| is_name(name));
    if !is_inside {
        return Err(wrong("names a file outside of its stage".into()));
    }
    Ok(manifest)
}
