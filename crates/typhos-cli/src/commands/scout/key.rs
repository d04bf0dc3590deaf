//! Whether columns are a key: an exact pass over the input, in memory that does not grow with it.

use serde_json::{Value, json};
use typhos_core::columns::Plan;
use typhos_core::infer::{counted, grouped};
use typhos_core::schema::{ColumnDecl, ColumnFrom, Scalar, Schema};
use typhos_core::wording::listed;
use typhos_load::Repeats;

use super::super::check;
use super::super::look::{Looked, find};
use crate::args::Common;
use crate::console::{BOLD, Console, DIM, GOOD, WARN, paint, safe};
use crate::outcome::Failure;

/// What a pass found.
pub struct Found {
    columns: Vec<String>,
    /// Records without a value in one of the columns.
    absent: u64,
    repeats: Repeats,
}

impl Found {
    /// Whether the columns are a key.
    pub fn is_key(&self) -> bool {
        self.absent == 0 && self.repeats.count == 0
    }

    /// What was found, for a JSON report.
    pub fn json(&self) -> Value {
        let examples = self.repeats.examples.iter().map(|(first, again)| json!([first, again]));
        json!({
            "columns": self.columns,
            "is_key": self.is_key(),
            "absent": self.absent,
            "duplicates": self.repeats.count,
            "examples": examples.collect::<Vec<_>>(),
        })
    }

    /// What was found, for a person.
    pub fn show(&self, records: u64, console: &mut Console) -> std::io::Result<()> {
        let names = safe(&listed(&self.columns));
        console.say("")?;
        if self.is_key() {
            let are = if self.columns.len() == 1 { "is a key" } else { "are a key together" };
            let all = counted(records, "record");
            return console.say(format!(
                "{} {} {are}: all {all} differ in it.",
                paint(GOOD, "✓"),
                paint(BOLD, names)
            ));
        }
        let are = if self.columns.len() == 1 { "is not a key" } else { "are not a key together" };
        let mut why = Vec::new();
        if self.repeats.count > 0 {
            let repeat = if self.repeats.count == 1 { "repeats" } else { "repeat" };
            let records = counted(self.repeats.count, "record");
            why.push(format!("{records} {repeat} what another has"));
        }
        if self.absent > 0 {
            why.push(format!("{} absent", grouped(self.absent)));
        }
        console.say(format!(
            "{} {}",
            paint(BOLD, names),
            paint(WARN, format!("{are}: {}", why.join("; ")))
        ))?;
        for (first, again) in &self.repeats.examples {
            console.say(format!("  {}  as in {}", paint(DIM, safe(again)), safe(first)))?;
        }
        Ok(())
    }
}

/// Looks at every record.
pub fn look(looked: &Looked, names: &[String], common: &Common) -> Result<Found, Failure> {
    let Some(input) = looked.input.as_ref().filter(|input| !input.is_stream()) else {
        return Err(Failure::Usage(
            "--key reads the input a second time: give files, not a saved survey or a stream"
                .into(),
        ));
    };
    let (mut schema, mut absent) = (Schema::default(), 0);
    for name in names {
        let at = find(name, &looked.examined.survey)?;
        if input.paths().is_some_and(|paths| paths.is_inside_list(at)) {
            return Err(Failure::Usage(format!(
                "'{name}' is inside of a list, and names no record"
            )));
        }
        let decision = &looked.examined.decisions[at];
        let mut column = ColumnDecl::new(name, Scalar::Text { most: None });
        column.from = Some(ColumnFrom::Position(at + 1));
        column.absent =
            Some(decision.absent_tokens.iter().map(|(token, _)| token.clone()).collect());
        schema.columns.push(column);
        absent = absent.max(decision.absent);
    }
    schema.layout.key = names.to_vec();
    schema.input.choice = input.choice().clone();
    let plan = Plan::new(schema, input).expect("columns that were found before");
    let (_, repeats) = check::account(&plan, input, None, common)?;
    Ok(Found { columns: names.to_vec(), absent, repeats })
}
