//! What to do about a problem, said without knowing how the program is asked: settings are named, and whoever shows the
//! remedy spells them as its options.

use std::fmt;

/// What to do about a problem.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Remedy(Vec<Part>);

/// A part of a remedy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// Words for a person.
    Words(String),
    /// A setting, by its name, and what to set it to.
    Setting(&'static str, Option<String>),
}

impl Remedy {
    /// A text in which settings stand in braces: `pass {mode = append} to add to it, or {table} for another`.
    pub fn of(text: &'static str) -> Remedy {
        let mut parts = Vec::new();
        let mut rest = text;
        while let Some((before, setting, behind)) = next_setting(rest) {
            if !before.is_empty() {
                parts.push(Part::Words(before.to_owned()));
            }
            let (name, value) = match setting.split_once(" = ") {
                Some((name, value)) => (name, Some(value.to_owned())),
                None => (setting, None),
            };
            parts.push(Part::Setting(name, value));
            rest = behind;
        }
        if !rest.is_empty() {
            parts.push(Part::Words(rest.to_owned()));
        }
        Remedy(parts)
    }

    /// The same, with one more setting and what to set it to.
    pub fn set(mut self, name: &'static str, value: impl Into<String>) -> Remedy {
        self.0.push(Part::Setting(name, Some(value.into())));
        self
    }

    /// The same, with more words.
    pub fn say(mut self, words: impl Into<String>) -> Remedy {
        self.0.push(Part::Words(words.into()));
        self
    }

    /// Its parts, in their order.
    pub fn parts(&self) -> &[Part] {
        &self.0
    }
}

/// The first setting of a text, with what stands before and behind it.
fn next_setting(text: &'static str) -> Option<(&'static str, &'static str, &'static str)> {
    let (before, rest) = text.split_once('{')?;
    let (setting, behind) = rest.split_once('}')?;
    Some((before, setting, behind))
}

impl From<String> for Remedy {
    fn from(words: String) -> Remedy {
        Remedy::default().say(words)
    }
}

impl From<&str> for Remedy {
    fn from(words: &str) -> Remedy {
        Remedy::default().say(words)
    }
}

impl fmt::Display for Remedy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|part| match part {
            Part::Words(words) => f.write_str(words),
            Part::Setting(name, None) => f.write_str(name),
            Part::Setting(name, Some(value)) => write!(f, "{name} = {value}"),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_stand_in_braces() {
        let remedy = Remedy::of("pass {mode = append} to add to it, or {table} for another");
        assert_eq!(remedy.parts().len(), 5);
        assert_eq!(remedy.to_string(), "pass mode = append to add to it, or table for another");
        assert_eq!(remedy.parts()[1], Part::Setting("mode", Some("append".into())));
        // What comes from data is never taken for a setting.
        assert_eq!(Remedy::from("declare {a}").parts(), [Part::Words("declare {a}".into())]);
        assert_eq!(
            Remedy::from("say ").set("encoding", "cp850").to_string(),
            "say encoding = cp850"
        );
    }
}
