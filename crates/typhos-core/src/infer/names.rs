//! What the columns of a draft are called: as they were found or in snake case, and each name once.

use std::collections::{HashMap, HashSet};

/// What the columns of a draft are called.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Naming {
    /// As in the header.
    #[default]
    Keep,
    /// In lower case, with underscores between words.
    Snake,
}

impl Naming {
    /// Reads the word of a command line or a settings file.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Naming, String> {
        match word {
            "keep" => Ok(Naming::Keep),
            "snake" => Ok(Naming::Snake),
            _ => Err(format!("'{}' is neither keep nor snake", word.escape_debug())),
        }
    }

    /// Its spelling.
    pub fn name(self) -> &'static str {
        match self {
            Naming::Keep => "keep",
            Naming::Snake => "snake",
        }
    }

    /// What a column is called that is found under a name.
    pub(super) fn name_of(self, found: &str) -> String {
        match self {
            Naming::Keep => found.to_owned(),
            Naming::Snake => snake_case(found),
        }
    }
}

/// Names that are given, each once.
#[derive(Default)]
pub(super) struct Names {
    taken: HashSet<String>,
    /// The last number that was put behind a name.
    counts: HashMap<String, u32>,
}

impl Names {
    /// A name that is not taken yet: the wished one, or that with a number.
    pub fn unused(&mut self, wished: &str) -> String {
        let mut unused = wished.to_owned();
        while !self.taken.insert(unused.clone()) {
            let count = self.counts.entry(wished.to_owned()).or_insert(1);
            *count += 1;
            unused = format!("{wished}_{count}");
        }
        unused
    }
}

/// A header in lower case, with underscores between words: `Sold by (agent)` and `soldByAgent` both
/// become `sold_by_agent`. A word that starts with a digit gets an underscore before it, and what has no
/// letters at all becomes `column`.
pub fn snake_case(header: &str) -> String {
    let mut name = String::new();
    let letters: Vec<char> = header.chars().collect();
    for (at, letter) in letters.iter().enumerate() {
        if !letter.is_alphanumeric() {
            if !name.is_empty() && !name.ends_with('_') {
                name.push('_');
            }
            continue;
        }
        // A capital starts a word behind a small letter, and before one at the end of an abbreviation.
        let before = at.checked_sub(1).map(|at| letters[at]);
        let starts = letter.is_uppercase()
            && before.is_some_and(|before| {
                before.is_lowercase()
                    || before.is_numeric()
                    || before.is_uppercase()
                        && letters.get(at + 1).is_some_and(|next| next.is_lowercase())
            });
        if starts && !name.ends_with('_') {
            name.push('_');
        }
        name.extend(letter.to_lowercase());
    }
    let name = name.trim_end_matches('_');
    match name.chars().next() {
        None => "column".into(),
        Some(first) if first.is_numeric() => format!("_{name}"),
        Some(_) => name.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::snake_case;

    #[test]
    fn headers_become_names() {
        for (header, name) in [
            ("Sold by (agent)", "sold_by_agent"),
            ("soldByAgent", "sold_by_agent"),
            ("HTTPStatus", "http_status"),
            ("Fare €", "fare"),
            ("fare_2", "fare_2"),
            ("Line2Stop", "line2_stop"),
            ("2024", "_2024"),
            ("  ", "column"),
            ("Überfahrt-Nr.", "überfahrt_nr"),
        ] {
            assert_eq!(snake_case(header), name, "{header}");
        }
    }
}
