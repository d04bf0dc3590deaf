//! What differs between two schemas, or between a schema and a delivery: one model, rendered as lines, as JSON and as a page.

use serde_json::{Value, json};
use typhos_core::infer::counted;
use typhos_core::schema::{Schema, Subject, differences};

/// Two things that were compared.
pub struct Comparison {
    /// What was there before, as it is called.
    pub old: String,
    /// What is there now.
    pub new: String,
    /// What differs.
    pub found: Vec<Found>,
}

/// A difference, in words.
pub struct Found {
    /// A column, or a section of the schema file in brackets.
    pub of: String,
    /// What became of it.
    pub what: String,
    /// Why that breaks what was there before; `None` where it does not.
    pub why: Option<String>,
}

impl Comparison {
    /// Compares two schemas.
    pub fn of_schemas((old, was): (String, &Schema), (new, is): (String, &Schema)) -> Comparison {
        let found = differences(was, is).into_iter().map(|found| Found {
            of: match found.subject {
                Subject::Column(name) => name,
                Subject::Section("table") => "table".into(),
                Subject::Section(section) => format!("[{section}]"),
            },
            what: found.change.what(),
            why: found.change.why(),
        });
        Comparison { old, new, found: found.collect() }
    }

    /// How many of the differences break something.
    pub fn breaking(&self) -> usize {
        self.found.iter().filter(|found| found.why.is_some()).count()
    }

    /// How many there are, in a sentence without its end.
    pub fn summary(&self) -> String {
        let count = counted(self.found.len() as u64, "difference");
        match (self.found.len(), self.breaking()) {
            (0, _) => "nothing differs".into(),
            (_, 0) => format!("{count}, none of which breaks anything"),
            (1, 1) => format!("{count}, which breaks something"),
            (all, breaking) if all == breaking => format!("{count}, all of which break something"),
            (_, 1) => format!("{count}, one of which breaks something"),
            (_, breaking) => format!("{count}, {breaking} of which break something"),
        }
    }

    /// All of it, for programs.
    pub fn json(&self) -> Value {
        let found = self.found.iter().map(|found| {
            json!({ "of": found.of, "what": found.what, "breaks": found.why.is_some(), "why": found.why })
        });
        json!({
            "typhos": 1,
            "old": self.old,
            "new": self.new,
            "differences": found.collect::<Vec<_>>(),
            "breaking": self.breaking(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn compared(breaks: &[bool]) -> Comparison {
        let found = |breaks: &bool| Found {
            of: "fare".into(),
            what: "gone".into(),
            why: breaks.then(|| "what reads it does not find it".into()),
        };
        Comparison { old: "a".into(), new: "b".into(), found: breaks.iter().map(found).collect() }
    }

    #[test]
    fn how_much_differs_is_said_in_a_sentence() {
        for (breaks, want) in [
            (&[][..], "nothing differs"),
            (&[false], "1 difference, none of which breaks anything"),
            (&[true], "1 difference, which breaks something"),
            (&[true, true], "2 differences, all of which break something"),
            (&[true, false], "2 differences, one of which breaks something"),
            (&[true, false, true], "3 differences, 2 of which break something"),
        ] {
            assert_eq!(compared(breaks).summary(), want);
        }
        let json = compared(&[true, false]).json();
        assert_eq!(json["breaking"], 1);
        assert_eq!(json["differences"][1]["why"], Value::Null);
    }
}
