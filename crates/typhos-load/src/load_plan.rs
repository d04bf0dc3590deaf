//! The plan of a load, made before the first byte is sent: what would happen to which table and column, and what
//! the problems are.

use typhos_core::columns::Plan;
use typhos_core::infer::counted;
use typhos_core::remedy::Remedy;
use typhos_core::schema::{ColumnDecl, ColumnFrom, Generate, Schema};

/// What would happen to a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// It is made.
    Create,
    /// Rows are added to what is there.
    Append,
    /// What is there is replaced.
    Replace,
    /// The rows that are there are replaced, and nothing else.
    Refill,
}

impl Action {
    /// Whether rows go into a table that stays what it is.
    pub fn keeps_table(self) -> bool {
        matches!(self, Action::Append | Action::Refill)
    }
}

/// One column of the plan.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedColumn {
    /// Its name in the target.
    pub name: String,
    /// Where its values come from.
    pub source: String,
    /// The declared type.
    pub declared: String,
    /// The type in the target.
    pub stored: String,
    /// Whether it may be null there.
    pub nullable: bool,
    /// Whether it is part of the key.
    pub is_key: bool,
    /// What else there is to say.
    pub remark: Option<String>,
}

/// A column of the target that the load does not fill.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftColumn {
    /// Its name.
    pub name: String,
    /// Its type.
    pub ty: String,
    /// What it gets instead.
    pub gets: String,
}

/// Something that stands in the way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// What is wrong.
    pub what: String,
    /// What to do about it.
    pub help: Remedy,
    /// Whether it is a matter of rights and places, and not of what was asked for.
    pub is_outside: bool,
}

impl Problem {
    /// A problem of what was asked for.
    pub fn new(what: impl Into<String>, help: impl Into<Remedy>) -> Problem {
        Problem { what: what.into(), help: help.into(), is_outside: false }
    }

    /// A problem of rights and places.
    pub fn outside(what: impl Into<String>, help: impl Into<Remedy>) -> Problem {
        Problem { is_outside: true, ..Problem::new(what, help) }
    }
}

/// The problem of rows of other tables that would be removed or changed along with those of a table.
pub fn rows_go_along(table: &str, others: &[String]) -> Option<Problem> {
    let help = "pass {mode = append}, or let the foreign keys refuse that (ON DELETE RESTRICT) while rows are exchanged";
    (!others.is_empty()).then(|| {
        let verb = if others.len() == 1 { "refers" } else { "refer" };
        let what = format!(
            "{} {verb} to '{table}', and rows there would be removed or changed along with its own",
            typhos_core::wording::listed(others)
        );
        Problem::new(what, Remedy::of(help))
    })
}

/// A note on columns of a table that is replaced which the schema does not have.
pub fn columns_go_along<'c>(
    there: impl IntoIterator<Item = String>,
    declared: impl Iterator<Item = &'c str>,
) -> Option<String> {
    let declared: Vec<&str> = declared.collect();
    let lost: Vec<String> =
        there.into_iter().filter(|name| !declared.contains(&&name[..])).collect();
    let what = if lost.len() == 1 { "the column" } else { "the columns" };
    (!lost.is_empty()).then(|| {
        format!(
            "{what} {} would be gone, which the schema does not have; they stay where only the rows are exchanged",
            typhos_core::wording::listed(&lost)
        )
    })
}

/// A note on what a table that is replaced takes along, where there is any of it.
pub fn goes_along<const N: usize>(counts: Vec<u64>, things: [&'static str; N]) -> Option<String> {
    let some = counts.into_iter().zip(things).filter(|(count, _)| *count > 0);
    let some = some.map(|(count, thing)| {
        let plural = if thing.ends_with('x') && count > 1 { "e" } else { "" };
        counted(count, &format!("{thing}{plural}"))
    });
    let some = some.collect::<Vec<_>>();
    let some = match &some[..] {
        [others @ .., last] if !others.is_empty() => format!("{} and {last}", others.join(", ")),
        one => one.concat(),
    };
    (!some.is_empty())
        .then(|| format!("{some} of the table that is replaced will be dropped with it"))
}

/// What a load would do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoadPlan {
    /// Where to, without a password.
    pub target: String,
    /// The server and its version, where there is one.
    pub server: Option<String>,
    /// The table, where the target has tables.
    pub table: Option<String>,
    /// What happens to it.
    pub action: Action,
    /// Whether it is there now.
    pub exists: bool,
    /// Its columns that are filled.
    pub columns: Vec<PlannedColumn>,
    /// Its columns that are not.
    pub left: Vec<LeftColumn>,
    /// What is stored otherwise than declared, and what else is worth knowing.
    pub notes: Vec<String>,
    /// What stands in the way.
    pub problems: Vec<Problem>,
    /// The statements that would make it.
    pub statements: Vec<String>,
}

/// Where the values of a column come from, in words.
pub fn source_words(column: &ColumnDecl, at: usize, plan: &Plan, names: &[String]) -> String {
    if let Some(Generate::RowNumber { start }) = column.generate {
        return format!("row number from {start}");
    }
    let name = |at: &usize| names.get(*at).cloned().unwrap_or_else(|| format!("column {}", at + 1));
    let sources: Vec<String> = plan.sources()[at].columns().iter().map(name).collect();
    match &column.from {
        Some(ColumnFrom::Several(_)) => {
            let glue =
                column.glue.as_deref().map(|glue| format!(" '{glue}' ")).unwrap_or(", ".into());
            sources.join(&glue)
        }
        _ => sources.concat(),
    }
}

/// Words for a default.
pub fn default_words(column: &ColumnDecl) -> Option<String> {
    let default = column.default.as_ref()?;
    Some(format!("'{default}' where absent"))
}

/// What of a declared key stands in the way of every load: a key names rows, so it is never absent.
pub fn key_problems(schema: &Schema) -> Vec<Problem> {
    let mut problems = Vec::new();
    for name in &schema.layout.key {
        let column = schema.columns.iter().find(|column| column.name == *name);
        let is_known =
            column.is_some_and(|c| c.required || c.default.is_some() || c.generate.is_some());
        if !is_known {
            problems.push(Problem::new(
                format!("'{name}' is part of the key, and may be absent"),
                format!("declare {name} = {{ …, required = true }}"),
            ));
        }
    }
    problems
}
