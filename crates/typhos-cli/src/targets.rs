//! The targets that this program loads into.

use typhos_load::Kinds;

/// All of them.
pub fn kinds() -> Kinds {
    Kinds::new(typhos_files::KINDS.iter().chain(typhos_servers::KINDS))
}
