//! All indexes of a server, and the other names they have.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use serde_json::{Map, Value, json};

use crate::error::{Error, Result};
use crate::index::Index;
use crate::mapping::Mapping;

/// Bytes of the name of an index at most.
const MOST_NAME_BYTES: usize = 255;

#[derive(Default)]
struct Names {
    indexes: BTreeMap<String, Arc<Index>>,
    /// Of each alias, the indexes it stands for.
    aliases: BTreeMap<String, BTreeSet<String>>,
}

/// All indexes.
pub struct Shelf {
    folder: PathBuf,
    names: RwLock<Names>,
}

const ALIASES: &str = "aliases.json";

impl Shelf {
    /// Opens what a folder has.
    ///
    /// # Errors
    /// A folder that cannot be read.
    pub fn open(folder: &Path) -> Result<Shelf> {
        std::fs::create_dir_all(folder)?;
        let mut names = Names::default();
        for entry in std::fs::read_dir(folder)? {
            let path = entry?.path();
            if path.join("about.json").exists() {
                let index = Index::open(path)?;
                names.indexes.insert(index.name.clone(), Arc::new(index));
            }
        }
        if let Ok(text) = std::fs::read(folder.join(ALIASES)) {
            let known: Map<String, Value> = serde_json::from_slice(&text).unwrap_or_default();
            for (alias, indexes) in known {
                let indexes = indexes.as_array().into_iter().flatten();
                let indexes = indexes.filter_map(|it| it.as_str().map(str::to_owned));
                let indexes: BTreeSet<_> =
                    indexes.filter(|name| names.indexes.contains_key(name)).collect();
                if !indexes.is_empty() {
                    names.aliases.insert(alias, indexes);
                }
            }
        }
        Ok(Shelf { folder: folder.to_path_buf(), names: RwLock::new(names) })
    }

    fn names(&self) -> RwLockReadGuard<'_, Names> {
        self.names.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn names_mut(&self) -> RwLockWriteGuard<'_, Names> {
        self.names.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// Makes an index.
    ///
    /// # Errors
    /// A name that is taken or cannot be one, and a body that declares what is not there.
    pub fn create(&self, name: &str, body: &Value) -> Result<()> {
        check_name(name)?;
        let mut names = self.names_mut();
        if let Some(known) = names.indexes.get(name) {
            let reason = format!("index [{name}/{}] already exists", known.uuid);
            return Err(Error::new(400, "resource_already_exists_exception", reason)
                .about(name, &known.uuid));
        }
        if names.aliases.contains_key(name) {
            let reason = format!("Invalid index name [{name}], already exists as alias");
            return Err(Error::new(400, "invalid_index_name_exception", reason).about(name, "_na_"));
        }
        for key in body.as_object().into_iter().flatten().map(|(key, _)| key) {
            if !["mappings", "settings", "aliases"].contains(&&key[..]) {
                return Err(Error::parsing(format!("unknown key [{key}] for create index")));
            }
        }
        let mut mapping = Mapping::default();
        if let Some(said) = body.get("mappings") {
            mapping.put(said)?;
        }
        let uuid = format!("{:020x}", fresh());
        let settings = body.get("settings").cloned().unwrap_or(json!({}));
        let index = Index::create(self.folder.join(&uuid), name, &uuid, settings, mapping)?;
        names.indexes.insert(name.to_owned(), Arc::new(index));
        for alias in body["aliases"].as_object().into_iter().flatten().map(|(alias, _)| alias) {
            names.aliases.entry(alias.clone()).or_default().insert(name.to_owned());
        }
        self.save(&names)
    }

    /// Deletes indexes, by name only: an alias is refused.
    ///
    /// # Errors
    /// A name that is none.
    pub fn delete(&self, name: &str) -> Result<()> {
        let mut names = self.names_mut();
        if names.aliases.contains_key(name) {
            let reason = format!(
                "The provided expression [{name}] matches an alias, specify the corresponding concrete indices instead."
            );
            return Err(Error::argument(reason));
        }
        let found: Vec<_> = expanded(&names, name)?.into_iter().map(|it| it.name.clone()).collect();
        for name in found {
            remove(&mut names, &name);
        }
        self.save(&names)
    }

    fn save(&self, names: &Names) -> Result<()> {
        let aside = self.folder.join("aliases.new");
        std::fs::write(&aside, json!(names.aliases).to_string())?;
        Ok(std::fs::rename(aside, self.folder.join(ALIASES))?)
    }

    /// The indexes that a name, an alias or a pattern stands for.
    ///
    /// # Errors
    /// One that stands for none.
    pub fn all(&self, name: &str) -> Result<Vec<Arc<Index>>> {
        expanded(&self.names(), name)
    }

    /// The one index that documents of a name go to or come from.
    ///
    /// # Errors
    /// A name of none or of several.
    pub fn one(&self, name: &str) -> Result<Arc<Index>> {
        let mut found = self.all(name)?;
        match found.len() {
            1 => Ok(found.remove(0)),
            0 => Err(Error::no_index(name)),
            _ => Err(Error::argument(format!(
                "no write index is defined for alias [{name}]. The write index may be explicitly disabled using is_write_index=false or the alias points to multiple indices without one being designated as a write index"
            ))),
        }
    }

    /// The same, which is made where it is not there.
    ///
    /// # Errors
    /// A name that cannot be one.
    pub fn one_or_new(&self, name: &str) -> Result<Arc<Index>> {
        match self.one(name) {
            Err(error) if error.status == 404 => {
                self.create(name, &json!({}))?;
                self.one(name)
            }
            other => other,
        }
    }

    /// Changes aliases, all at once.
    ///
    /// # Errors
    /// An index or alias that is not there; then nothing is changed.
    pub fn change_aliases(&self, actions: &[Value]) -> Result<()> {
        let mut names = self.names_mut();
        let mut aliases = names.aliases.clone();
        let mut removed = Vec::new();
        for action in actions {
            let (word, said) = action
                .as_object()
                .and_then(|it| it.iter().next())
                .ok_or_else(|| Error::parsing("an action is an object"))?;
            let several = |one: &str, many: &str| -> Vec<String> {
                let one = said[one].as_str().map(str::to_owned).into_iter();
                let many = said[many].as_array().into_iter().flatten();
                one.chain(many.filter_map(|it| it.as_str().map(str::to_owned))).collect()
            };
            let indexes = several("index", "indices");
            let mut found = Vec::new();
            for name in &indexes {
                if word == "remove_index" && names.aliases.contains_key(name) {
                    return Err(Error::argument(format!(
                        "The provided expression [{name}] matches an alias, specify the corresponding concrete indices instead."
                    )));
                }
                found.extend(expanded(&names, name)?.into_iter().map(|it| it.name.clone()));
            }
            match &word[..] {
                "remove_index" => removed.extend(found),
                "add" => {
                    for alias in several("alias", "aliases") {
                        let is_index = names.indexes.contains_key(&alias);
                        let goes =
                            actions.iter().any(|it| it["remove_index"]["index"] == json!(alias));
                        if is_index && !goes {
                            let reason = format!(
                                "Invalid alias name [{alias}]: an index or data stream exists with the same name as the alias"
                            );
                            return Err(Error::new(400, "invalid_alias_name_exception", reason)
                                .about(&alias, "_na_"));
                        }
                        aliases.entry(alias).or_default().extend(found.iter().cloned());
                    }
                }
                "remove" => {
                    for alias in several("alias", "aliases") {
                        let known = aliases
                            .get_mut(&alias)
                            .filter(|known| found.iter().any(|it| known.contains(it)));
                        let Some(known) = known else {
                            return Err(Error::new(
                                404,
                                "aliases_not_found_exception",
                                format!("aliases [{alias}] missing"),
                            ));
                        };
                        known.retain(|name| !found.contains(name));
                    }
                }
                other => {
                    return Err(Error::parsing(format!("[alias_action] unknown field [{other}]")));
                }
            }
        }
        aliases.retain(|_, indexes| !indexes.is_empty());
        names.aliases = aliases;
        for name in removed {
            remove(&mut names, &name);
        }
        self.save(&names)
    }

    /// The aliases of an index, as they are told.
    pub fn aliases_of(&self, index: &str) -> Value {
        let names = self.names();
        let its = names.aliases.iter().filter(|(_, indexes)| indexes.contains(index));
        Value::Object(its.map(|(alias, _)| (alias.clone(), json!({}))).collect())
    }
}

fn remove(names: &mut Names, name: &str) {
    if let Some(index) = names.indexes.remove(name) {
        // Whoever still reads it has its files open.
        let _ = std::fs::remove_dir_all(index.folder());
    }
    names.aliases.values_mut().for_each(|indexes| {
        indexes.remove(name);
    });
    names.aliases.retain(|_, indexes| !indexes.is_empty());
}

fn expanded(names: &Names, wanted: &str) -> Result<Vec<Arc<Index>>> {
    let mut found: BTreeMap<String, Arc<Index>> = BTreeMap::new();
    let mut add = |name: &str| {
        if let Some(index) = names.indexes.get(name) {
            found.insert(name.to_owned(), index.clone());
        }
    };
    for part in wanted.split(',') {
        if part == "_all" || part.contains('*') {
            let pattern = if part == "_all" { "*" } else { part };
            names.indexes.keys().filter(|name| matches(pattern, name)).for_each(|name| add(name));
            let aliases = names.aliases.iter().filter(|(alias, _)| matches(pattern, alias));
            aliases.flat_map(|(_, indexes)| indexes).for_each(|name| add(name));
        } else if let Some(indexes) = names.aliases.get(part) {
            indexes.iter().for_each(|name| add(name));
        } else if names.indexes.contains_key(part) {
            add(part);
        } else {
            return Err(Error::no_index(part));
        }
    }
    Ok(found.into_values().collect())
}

/// Whether a name is one of a pattern, in which `*` stands for anything.
pub fn matches(pattern: &str, name: &str) -> bool {
    let Some((start, rest)) = pattern.split_once('*') else { return pattern == name };
    let Some(left) = name.strip_prefix(start) else { return false };
    let ends = (0..=left.len()).filter(|at| left.is_char_boundary(*at));
    ends.into_iter().any(|at| matches(rest, &left[at..]))
}

fn check_name(name: &str) -> Result<()> {
    let wrong = |what: String| {
        let reason = format!("Invalid index name [{name}], {what}");
        Err(Error::new(400, "invalid_index_name_exception", reason).about(name, "_na_"))
    };
    if name.chars().any(|letter| " \"*\\<|,>/?#:".contains(letter) || letter.is_control()) {
        return wrong("must not contain the following characters [' ','\"','*','\\\\','<','|',',','>','/','?']".into());
    }
    if name.starts_with(['_', '-', '+']) {
        return wrong("must not start with '_', '-', or '+'".into());
    }
    if name == "." || name == ".." {
        return wrong("must not be '.' or '..'".into());
    }
    if name.chars().any(char::is_uppercase) {
        return wrong("must be lowercase".into());
    }
    if name.len() > MOST_NAME_BYTES {
        return wrong(format!("index name is too long, ({} > {MOST_NAME_BYTES})", name.len()));
    }
    Ok(())
}

fn fresh() -> u128 {
    use std::hash::{BuildHasher, Hasher};
    let half = || std::collections::hash_map::RandomState::new().build_hasher().finish();
    u128::from(half()) << 16 ^ u128::from(half())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_alias_moves_in_one_step_or_not_at_all() {
        let folder = tempfile::tempdir().unwrap();
        let shelf = Shelf::open(folder.path()).unwrap();
        for name in ["x-1", "x-2"] {
            shelf.create(name, &json!({})).unwrap();
        }
        let add = |index: &str| json!({ "add": { "index": index, "alias": "x" } });
        shelf.change_aliases(&[add("x-1")]).unwrap();
        let remove = json!({ "remove": { "index": "x-1", "alias": "x" } });
        let gone = shelf.change_aliases(&[remove.clone(), add("x-3")]);
        assert_eq!(gone.unwrap_err().status, 404);
        assert_eq!(shelf.one("x").unwrap().name, "x-1");
        shelf.change_aliases(&[remove, add("x-2")]).unwrap();
        assert_eq!(shelf.one("x").unwrap().name, "x-2");
        assert_eq!(Shelf::open(folder.path()).unwrap().one("x").unwrap().name, "x-2");
        shelf.delete("x-2").unwrap();
        assert!(shelf.one("x").is_err() && shelf.all("x-*").unwrap().len() == 1);
    }

    #[test]
    fn names_have_rules() {
        for name in ["A", "_x", "a/b", "a b", "..", "a*"] {
            assert_eq!(
                check_name(name).unwrap_err().kind,
                "invalid_index_name_exception",
                "{name}"
            );
        }
        assert!(check_name("fähre-2024.11").is_ok());
        assert!(matches("a*c", "abc") && !matches("a*c", "abd") && matches("*", ""));
    }
}
