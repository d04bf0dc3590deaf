//! `typhos draft --keep`: what a redraft leaves alone, and what has changed since.

use typhos_core::columns::PlainValues;
use typhos_core::infer::{Decision, Draft, outgrown};
use typhos_core::schema::{Schema, keep};
use typhos_core::survey::Survey;

use crate::console::{DIM, FOUND, GOOD, WARN, paint, safe};

/// A kept schema with what was drafted beside it.
pub struct Merged {
    pub text: String,
    pub changes: Vec<Change>,
}

/// Something that is not as the kept schema has it.
pub struct Change {
    /// Whether it is a column that was drafted.
    pub is_new: bool,
    style: anstyle::Style,
    word: &'static str,
    what: String,
    why: String,
}

impl Change {
    pub fn line(&self) -> String {
        let word = paint(self.style, format!("{:<8}", self.word));
        format!("  {word} {}  {}", safe(&self.what), paint(DIM, safe(&self.why)))
    }
}

/// Puts what was drafted between the lines that are kept.
pub fn merge(
    schema: &Schema,
    source: &str,
    drafted: &Draft,
    survey: &Survey,
    decisions: &[Decision],
) -> Merged {
    let parts = (&drafted.schema, &drafted.comments[..], &drafted.positions[..]);
    let kept = keep(schema, source, &survey.source.names, parts, &PlainValues);
    let mut changes = Vec::new();
    for (at, name) in &kept.added {
        changes.push(Change {
            is_new: true,
            style: GOOD,
            word: "new",
            what: format!("{name}: {}", drafted.schema.columns[*at].ty),
            why: drafted.comments[*at].clone(),
        });
    }
    for name in &kept.gone {
        changes.push(Change {
            is_new: false,
            style: WARN,
            word: "gone",
            what: name.clone(),
            why: "it is declared, and not in the data".into(),
        });
    }
    for (declared, at) in kept.both {
        let (ours, theirs) = (&schema.columns[declared], &drafted.schema.columns[at]);
        let position = drafted.positions[at];
        let decision = &decisions[position];
        if let Some(why) = outgrown(ours, &survey.columns[position], decision) {
            changes.push(Change {
                is_new: false,
                style: WARN,
                word: "outgrown",
                what: format!("{}: {}", ours.name, ours.ty),
                why,
            });
        }
        let longest = decision.max_chars;
        if ours.auto || ours.scalar().is_drafted_as(theirs.scalar(), longest) {
            continue;
        }
        changes.push(Change {
            is_new: false,
            style: FOUND,
            word: "kept",
            what: format!("{}: {}, where a draft would say {}", ours.name, ours.ty, theirs.ty),
            why: drafted.comments[at].clone(),
        });
    }
    Merged { text: kept.text, changes }
}
