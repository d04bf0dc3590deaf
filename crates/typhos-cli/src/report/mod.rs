//! Pieces that several reports share: the input, the account, misfits.

pub mod comparison;
mod input;

use serde_json::{Value, json};
use typhos_core::columns::{Account, ColumnMisfits, MisfitValue, Plan};
use typhos_core::infer::{counted, grouped, shown};
use typhos_core::schema::{ColumnDecl, Misfit, Scalar};
use typhos_core::text::{Input, InputFile, Undeclared};
use typhos_core::wording::listed;

pub use self::input::InputReport;
use crate::console::{BOLD, DIM, GOOD, WARN, paint, safe};

/// Says which columns of an input a schema does not declare, and which of single files are left out.
pub fn undeclared(plan: &Plan, input: &Input) -> String {
    let count = counted(plan.undeclared().len() as u64, "column");
    let are = if plan.undeclared().len() == 1 { "is" } else { "are" };
    let name = input.files().first().map_or(String::new(), InputFile::name);
    format!("{count} of {} {are} not declared: {}", safe(&name), safe(&some(plan.undeclared())))
}

/// What to do about undeclared columns.
pub const UNDECLARED_HELP: &str =
    "declare them, put their lines into comments, or say undeclared = \"ignore\"";

/// The first few of many names.
fn some(names: &[String]) -> String {
    match names.len().saturating_sub(SHOWN_NAMES) {
        0 => listed(names),
        more => format!("{} and {more} more", listed(&names[..SHOWN_NAMES])),
    }
}

/// Names that are shown on the screen; a JSON report has them all.
const SHOWN_NAMES: usize = 8;

/// Files with columns that are left out that are named on the screen.
const SHOWN_DIFFERENCES: usize = 5;

/// A note about columns that are left out without anybody having said so.
pub fn undeclared_note(plan: &Plan, input: &Input) -> Vec<String> {
    // What stops a run is told where it does.
    if input.choice().undeclared.unwrap_or_default() != Undeclared::Note {
        return Vec::new();
    }
    let mut notes = Vec::new();
    if !plan.undeclared().is_empty() {
        notes.push(format!("{}; left out", undeclared(plan, input)));
    }
    let others = input.differences().into_iter().filter(|found| !found.left_out.is_empty());
    let others: Vec<_> = others.collect();
    for found in others.iter().take(SHOWN_DIFFERENCES) {
        let name = input.files()[found.file].name();
        notes.push(format!(
            "{} has {} besides; left out",
            safe(&name),
            safe(&some(&found.left_out))
        ));
    }
    if let more @ 1.. = others.len().saturating_sub(SHOWN_DIFFERENCES) {
        notes.push(format!(
            "… and {} with columns that are left out",
            counted(more as u64, "more file")
        ));
    }
    notes
}

/// The columns that a schema does not declare, for a JSON report.
pub fn undeclared_json(plan: &Plan, input: &Input) -> Value {
    let policy = input.choice().undeclared.unwrap_or_default();
    json!({ "policy": policy.name(), "columns": plan.undeclared() })
}

/// Where a misfit stands, as editors understand it.
fn place(misfit: &MisfitValue, input: &Input) -> String {
    let file = input.files()[misfit.place.part as usize].name();
    format!("{}:{}", safe(&file), misfit.place.line)
}

/// What a column is called in a message about a misfit.
fn column_name(misfit: &MisfitValue, plan: &Plan) -> Option<String> {
    misfit.column.map(|column| plan.schema().columns[column].name.clone())
}

/// One misfit as a line: place, column where a plan is given to name it by, value, reason.
pub fn misfit_line(misfit: &MisfitValue, input: &Input, plan: Option<&Plan>) -> String {
    // In JSON a value is found by its path, whatever its column is called.
    let name = plan.and_then(|plan| {
        let path = misfit.column.and_then(|column| plan.path(column, input));
        path.map(str::to_owned).or_else(|| column_name(misfit, plan))
    });
    let place_in = match name {
        Some(name) => format!("{name}{}", misfit.path),
        // Which column it is stands above.
        None => misfit.path.trim_start_matches('.').to_owned(),
    };
    let name = if place_in.is_empty() { place_in } else { format!("{}: ", safe(&place_in)) };
    let what = match misfit.column {
        Some(_) => format!("{} {}", shown(&misfit.value), safe(&misfit.reason.to_string())),
        None => format!("the record {}", safe(&misfit.reason.to_string())),
    };
    format!("{}  {name}{what}", paint(DIM, place(misfit, input)))
}

/// The misfit that stopped a load, and what to do.
pub fn stopped_by(misfit: &MisfitValue, plan: &Plan, input: &Input) -> String {
    let column = column_name(misfit, plan);
    let (what, line) = match &column {
        Some(name) => {
            let what = format!(
                "column '{}{}': {} {}",
                safe(name),
                safe(&misfit.path),
                shown(&misfit.value),
                misfit.reason
            );
            (what, format!("{name} = {{ …, misfit = \"reject\" }}"))
        }
        None => (format!("the record {}", misfit.reason), "[input] misfit = \"reject\"".to_owned()),
    };
    let null = match column {
        Some(_) => " (or \"null\" for null in their place)",
        None => "",
    };
    format!(
        "{}: {}\nNothing was loaded. 'typhos check' lists all misfits; to set such records aside and load the \
         rest, declare {}{null}.",
        place(misfit, input),
        safe(&what),
        safe(&line),
    )
}

fn misfits_json(misfits: &ColumnMisfits, input: &Input) -> Value {
    let examples = misfits.examples.iter().map(|misfit| {
        let mut entry = json!({
            "file": input.files()[misfit.place.part as usize].name(),
            "line": misfit.place.line,
            "path": misfit.path,
            "value": misfit.value,
            "reason": misfit.reason.to_string(),
        });
        // Of a value that does not nest there is none.
        if misfit.path.is_empty()
            && let Some(entry) = entry.as_object_mut()
        {
            entry.remove("path");
        }
        entry
    });
    json!({ "count": misfits.count, "examples": examples.collect::<Vec<_>>() })
}

/// The account for a JSON report.
pub fn account_json(account: &Account, plan: &Plan, input: &Input) -> Value {
    let columns =
        plan.schema().columns.iter().zip(&account.columns).filter(|(_, misfits)| misfits.count > 0);
    let columns = columns.map(|(column, misfits)| {
        let mut entry = misfits_json(misfits, input);
        entry["name"] = json!(column.name);
        entry
    });
    let changed = changed(account, plan).map(|(column, count)| {
        json!({ "name": column.name, "count": count, "how": how_changed(column) })
    });
    json!({
        "read": account.read,
        "loaded": account.loaded,
        "set_aside": account.set_aside,
        "nulled": account.nulled,
        "without_elements": account.without_elements,
        "changed": changed.collect::<Vec<_>>(),
        "misfits": columns.collect::<Vec<_>>(),
        "broken_records": misfits_json(&account.broken, input),
    })
}

/// The columns that declare a loss, and how many values it changed.
fn changed<'p>(
    account: &'p Account,
    plan: &'p Plan,
) -> impl Iterator<Item = (&'p ColumnDecl, u64)> {
    let columns = plan.schema().columns.iter().zip(account.changed.iter().copied());
    columns.filter(|(_, count)| *count > 0)
}

/// What happened to values that a declared loss changed: "rounded (half-up)".
fn how_changed(column: &ColumnDecl) -> String {
    match column.scalar() {
        Scalar::Text { most: Some(most) } => {
            format!("cut to {}", counted(most.into(), "character"))
        }
        _ => format!("rounded ({})", column.rounding.name()),
    }
}

/// What a run changed, as declared: a line for each column.
pub fn changed_lines(account: &Account, plan: &Plan) -> Vec<String> {
    let line = |(column, count): (&ColumnDecl, u64)| {
        let what = format!("{} {}", counted(count, "value"), how_changed(column));
        format!("  {}: {} {}", safe(&column.name), paint(WARN, what), paint(DIM, "as declared"))
    };
    changed(account, plan).map(line).collect()
}

/// The line every run ends with.
pub fn account_line(account: &Account, would: bool) -> String {
    account.assert_balance();
    let (loaded, aside) = if would { ("would load", "would not") } else { ("loaded", "set aside") };
    let style = if account.set_aside == 0 { GOOD } else { WARN };
    let mut line = format!(
        "{} read = {} {loaded} + {} {aside}",
        paint(BOLD, grouped(account.read)),
        paint(style, grouped(account.loaded)),
        paint(style, grouped(account.set_aside)),
    );
    if account.there_already > 0 {
        let there = paint(WARN, grouped(account.there_already));
        line.push_str(&format!(" + {there} there already"));
    }
    if account.without_elements > 0 {
        let records = counted(account.without_elements, "record");
        line.push_str(&format!("; {records} without elements left out, as declared"));
    }
    if account.nulled > 0 {
        line.push_str(&format!("; {} made null", paint(WARN, counted(account.nulled, "value"))));
    }
    line
}

/// What a load would do with a misfit of a column, or with a record that cannot be split.
pub fn fate(misfit: Misfit) -> &'static str {
    match misfit {
        Misfit::Stop => "would stop a load",
        Misfit::Null => "would become null",
        Misfit::Reject => "would be set aside",
    }
}
