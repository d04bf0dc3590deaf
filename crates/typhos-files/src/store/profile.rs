//! Credentials in the files that clients of S3 keep them in: profiles with a key and a secret.
//!
//! What stands in the environment comes first; then the profile that `AWS_PROFILE` names, or `default`, of the files
//! `credentials` and `config` in `~/.aws`, or where `AWS_SHARED_CREDENTIALS_FILE` and `AWS_CONFIG_FILE` say.

use std::collections::HashMap;
use std::path::PathBuf;

/// What a profile says.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Profile {
    values: HashMap<String, String>,
}

impl Profile {
    /// The profile of this process; an empty one, where there is none.
    pub fn of_process() -> Profile {
        let variable = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
        let name = variable("AWS_PROFILE").unwrap_or_else(|| "default".into());
        let home = variable("HOME").map(PathBuf::from);
        let file = |said: &str, usual: &str| {
            let usual = home.as_ref().map(|home| home.join(".aws").join(usual));
            variable(said).map(PathBuf::from).or(usual)
        };
        let mut profile = Profile::default();
        for (said, usual) in
            [("AWS_CONFIG_FILE", "config"), ("AWS_SHARED_CREDENTIALS_FILE", "credentials")]
        {
            if let Some(text) =
                file(said, usual).and_then(|path| std::fs::read_to_string(path).ok())
            {
                profile.add(&text, &name);
            }
        }
        profile
    }

    /// Adds what a file says of a profile; what was known before gives way.
    fn add(&mut self, text: &str, name: &str) {
        let mut is_it = false;
        for line in text.lines().map(str::trim) {
            if line.starts_with(['#', ';']) {
                continue;
            }
            if let Some(section) = line.strip_prefix('[').and_then(|line| line.strip_suffix(']')) {
                let section = section.trim();
                is_it = section.strip_prefix("profile ").unwrap_or(section).trim() == name;
            } else if is_it && let Some((key, value)) = line.split_once('=') {
                self.values.insert(key.trim().to_lowercase(), value.trim().to_owned());
            }
        }
    }

    pub fn get(&self, key: &str) -> Option<&str> {
        self.values.get(key).map(String::as_str)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_profile_that_is_named_is_read() {
        let mut profile = Profile::default();
        profile.add(
            "[default]\nregion = north\n[profile ferry]\nregion=south\n; no = more\n",
            "ferry",
        );
        profile.add("# keys\n[ferry]\naws_access_key_id = A\nAWS_SECRET_ACCESS_KEY = b=c\n[other]\naws_access_key_id = X\n", "ferry");
        assert_eq!(profile.get("region"), Some("south"));
        assert_eq!(profile.get("aws_access_key_id"), Some("A"));
        assert_eq!(profile.get("aws_secret_access_key"), Some("b=c"));
        assert_eq!(profile.get("no"), None);
    }
}
