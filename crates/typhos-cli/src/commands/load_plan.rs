//! The plan of a load, as a person reads it.

use serde_json::{Value, json};
use typhos_core::columns::Plan;
use typhos_core::infer::{counted, grouped};
use typhos_core::wording::listed;
use typhos_load::{Action, LoadPlan, LoadReport, Moved};

use crate::console::{BOLD, Console, DIM, FOUND, GOOD, WARN, paint, safe};
use crate::outcome::Failure;
use crate::remedies::words;
use crate::table::{Heading, Look, render};

/// What would become of rows that were counted.
pub fn counted_line(counted: &LoadReport, plan: &Plan) -> String {
    let Moved { inserted, updated, skipped } = counted.done.moved;
    let mut parts = vec![format!("{} new", paint(BOLD, grouped(inserted)))];
    if updated > 0 {
        parts.push(format!("{} there already, updated", paint(WARN, grouped(updated))));
    }
    if skipped > 0 {
        // Where they stop a load, a note says which they are.
        let fate = if counted.done.note.is_some() { "which stops a load" } else { "skipped" };
        parts.push(format!("{} there already, {fate}", paint(WARN, grouped(skipped))));
    }
    let key = &plan.schema().layout.key;
    let keys = match key.is_empty() {
        true => "no key is declared".to_owned(),
        false => format!("no two rows have the same {}", listed(key)),
    };
    format!("  {}; {}; nothing was written", parts.join(", "), safe(&keys))
}

/// Shows a plan.
pub fn show(plan: &LoadPlan, console: &mut Console) -> Result<(), Failure> {
    let server = plan
        .server
        .as_ref()
        .map_or(String::new(), |server| format!("  {}", paint(DIM, safe(server))));
    console.say(format!("{}{server}", paint(BOLD, safe(&plan.target))))?;
    let what = match (plan.action, plan.exists) {
        (Action::Create, _) => "would be made",
        (Action::Append, _) => "exists, and rows would be added",
        (Action::Replace, _) => "exists, and would be replaced",
        (Action::Refill, _) => "exists, and would be kept with these rows in place of its own",
    };
    let subject = plan
        .table
        .as_ref()
        .map_or("it".into(), |table| format!("table {}", paint(BOLD, safe(table))));
    console.say(format!(
        "  {subject} {what}: {} filled",
        counted(plan.columns.len() as u64, "column")
    ))?;
    console.say("")?;
    let headings = [
        Heading::left("column"),
        Heading::left("from").most(28),
        Heading::left("declared"),
        Heading::left(if plan.exists && plan.action.keeps_table() { "there" } else { "stored as" })
            .most(34),
        Heading::left("null"),
        Heading::left(""),
    ];
    let row = |column: &typhos_load::PlannedColumn| {
        let key = if column.is_key { "key" } else { "" };
        let remarks: Vec<&str> = [key, column.remark.as_deref().unwrap_or("")]
            .into_iter()
            .filter(|t| !t.is_empty())
            .collect();
        vec![
            (column.name.clone(), Look::Plain),
            (column.source.clone(), Look::Dim),
            (column.declared.clone(), Look::Type),
            (column.stored.clone(), Look::Type),
            (if column.nullable { "yes" } else { "no" }.into(), Look::Dim),
            (remarks.join("; "), Look::Warn),
        ]
    };
    console
        .say(render(console, &headings, plan.columns.iter().map(row).collect(), true).trim_end())?;
    if !plan.left.is_empty() {
        console.say("")?;
        console.say(format!(
            "  {} that the load does not fill:",
            counted(plan.left.len() as u64, "column")
        ))?;
        for left in &plan.left {
            let line = format!(
                "    {} {} gets {}",
                safe(&left.name),
                paint(DIM, safe(&left.ty)),
                safe(&left.gets)
            );
            console.say(line)?;
        }
    }
    if !plan.notes.is_empty() {
        console.say("")?;
        for note in &plan.notes {
            console.say(format!("  {} {}", paint(DIM, "note:"), safe(note)))?;
        }
    }
    console.say("")?;
    for problem in &plan.problems {
        console.say(format!("  {} {}", paint(WARN, "problem:"), safe(&problem.what)))?;
        console.say(format!("           {}", paint(FOUND, safe(&words(&problem.help)))))?;
    }
    console.say(match plan.problems.len() {
        0 => paint(GOOD, "No problems found. Nothing was changed."),
        several => {
            paint(WARN, format!("{}. Nothing was changed.", counted(several as u64, "problem")))
        }
    })?;
    Ok(())
}

/// A plan for a JSON report.
pub fn json(plan: &LoadPlan) -> Value {
    let columns = plan.columns.iter().map(|column| {
        json!({
            "name": column.name,
            "from": column.source,
            "declared": column.declared,
            "stored": column.stored,
            "nullable": column.nullable,
            "key": column.is_key,
            "remark": column.remark,
        })
    });
    let left = plan
        .left
        .iter()
        .map(|left| json!({ "name": left.name, "type": left.ty, "gets": left.gets }));
    let problems = plan.problems.iter().map(|p| json!({ "what": p.what, "help": words(&p.help) }));
    json!({
        "target": plan.target,
        "server": plan.server,
        "table": plan.table,
        "action": match plan.action {
            Action::Create => "create",
            Action::Append => "append",
            Action::Replace => "replace",
            Action::Refill => "refill",
        },
        "exists": plan.exists,
        "columns": columns.collect::<Vec<_>>(),
        "left": left.collect::<Vec<_>>(),
        "notes": plan.notes,
        "problems": problems.collect::<Vec<_>>(),
        "statements": plan.statements,
    })
}
