//! The plan of a load, made before the first byte is sent: what would happen to which table and column,
//! and what stands in the way.

use std::path::Path;

use arrow_schema::DataType;
use typhos_core::columns::Plan;
use typhos_core::infer::counted;
use typhos_core::schema::{ColumnDecl, From, Generate, Schema, Type};

use crate::sql::held::{Existing, ExistingColumn, Filled, Held, fits};
use crate::sql::{self, Language};
use crate::whole::foreign_file;
use crate::{Job, Mode, Seen};

/// What would happen to a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// It is made.
    Create,
    /// Rows are added to what is there.
    Append,
    /// What is there is replaced.
    Replace,
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
    pub help: String,
    /// Whether it is a matter of rights and places, and not of what was asked for.
    pub is_outside: bool,
}

impl Problem {
    pub(crate) fn new(what: impl Into<String>, help: impl Into<String>) -> Problem {
        Problem { what: what.into(), help: help.into(), is_outside: false }
    }

    pub(crate) fn outside(what: impl Into<String>, help: impl Into<String>) -> Problem {
        Problem { is_outside: true, ..Problem::new(what, help) }
    }
}

/// A note on what a table that is replaced takes along, where there is any of it.
pub(crate) fn goes_along<const N: usize>(
    counts: Vec<u64>,
    things: [&'static str; N],
) -> Option<String> {
    let some = counts.into_iter().zip(things).filter(|(count, _)| *count > 0);
    let some = some.map(|(count, thing)| {
        let plural = if thing.ends_with('x') && count > 1 { "e" } else { "" };
        counted(count, &format!("{thing}{plural}"))
    });
    let some = some.collect::<Vec<_>>().join(" and ");
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

/// A load into a table, as far as a plan needs to know it.
pub(crate) struct Wanted<'w> {
    pub plan: &'w Plan,
    pub names: &'w [String],
    pub mode: Mode,
    pub seen: Seen,
    pub table: &'w str,
    pub qualified: String,
}

/// Where the values of a column come from, in words.
pub(crate) fn source_words(
    column: &ColumnDecl,
    at: usize,
    plan: &Plan,
    names: &[String],
) -> String {
    if let Some(Generate::RowNumber { start }) = column.generate {
        return format!("row number from {start}");
    }
    let name = |at: &usize| names.get(*at).cloned().unwrap_or_else(|| format!("column {}", at + 1));
    let sources: Vec<String> = plan.sources()[at].columns().iter().map(name).collect();
    match &column.from {
        Some(From::Several(_)) => {
            let glue =
                column.glue.as_deref().map(|glue| format!(" '{glue}' ")).unwrap_or(", ".into());
            sources.join(&glue)
        }
        _ => sources.concat(),
    }
}

/// Words for a default.
fn default_words(column: &ColumnDecl) -> Option<String> {
    let default = column.default.as_ref()?;
    Some(format!("'{default}' where absent"))
}

/// Makes the plan of a load into a table of a database.
pub(crate) fn plan_table(
    wanted: &Wanted<'_>,
    language: &dyn Language,
    existing: Option<&Existing>,
    target: String,
    server: Option<String>,
) -> LoadPlan {
    let schema = wanted.plan.schema();
    let action = match (wanted.mode, existing) {
        (Mode::Create, _) | (Mode::Replace, None) | (Mode::Append, None) => Action::Create,
        (Mode::Append, Some(_)) => Action::Append,
        (Mode::Replace, Some(_)) => Action::Replace,
    };
    let mut plan = LoadPlan {
        target,
        server,
        table: Some(wanted.table.to_owned()),
        action,
        exists: existing.is_some(),
        columns: Vec::new(),
        left: Vec::new(),
        notes: Vec::new(),
        problems: Vec::new(),
        statements: Vec::new(),
    };
    if let (Mode::Create, Some(_)) = (wanted.mode, existing) {
        plan.problems.push(Problem::new(
            format!("there is a table '{}' already", wanted.table),
            "pass --mode append to add to it, --mode replace to put this in its place, or --table for another",
        ));
    }
    names_fit(language, schema, wanted.table, &mut plan.problems);
    plan.problems.extend(key_problems(schema));
    match (action, existing) {
        (Action::Append, Some(existing)) => append(wanted, language, existing, &mut plan),
        _ => create(wanted, language, &mut plan),
    }
    plan
}

fn create(wanted: &Wanted<'_>, language: &dyn Language, plan: &mut LoadPlan) {
    let schema = wanted.plan.schema();
    plan.notes = sql::notes(language, schema, wanted.table);
    let definition = sql::define(language, schema, &wanted.qualified, wanted.table);
    plan.statements = definition.statements().cloned().collect();
    for (at, column) in schema.columns.iter().enumerate() {
        let is_key = schema.layout.key.contains(&column.name);
        plan.columns.push(PlannedColumn {
            name: column.name.clone(),
            source: source_words(column, at, wanted.plan, wanted.names),
            declared: column.ty.to_string(),
            stored: language.stored(wanted.table, column).ty,
            nullable: !column.required && !is_key,
            is_key,
            remark: default_words(column),
        });
    }
}

fn append(wanted: &Wanted<'_>, language: &dyn Language, existing: &Existing, plan: &mut LoadPlan) {
    let schema = wanted.plan.schema();
    let names: Vec<&str> = existing.columns.iter().map(|column| column.name.as_str()).collect();
    for (at, column) in schema.columns.iter().enumerate() {
        let Some(there) = existing.columns.iter().find(|there| there.name == column.name) else {
            let help = match typhos_core::nearest(&column.name, names.iter().copied()) {
                Some(near) => format!(
                    "did you mean '{near}'? A column is renamed with: {near} = {{ …, from = \"{}\" }}",
                    column.name
                ),
                None => "drop it from the schema, or add it to the table".into(),
            };
            plan.problems
                .push(Problem::new(format!("the table has no column '{}'", column.name), help));
            continue;
        };
        let is_key = schema.layout.key.contains(&column.name);
        let same = language.stored(wanted.table, column).ty;
        column_fits(column, there, &same, plan);
        let mut remarks: Vec<String> = default_words(column).into_iter().collect();
        if there.filled == Filled::Numbered {
            remarks.push("numbered by the server, kept from the input".into());
        }
        if matches!(there.held, Held::Text(_)) && !column.ty.is_text() {
            remarks.push("as text".into());
        }
        remarks.extend(language.remark(column.ty, there));
        plan.columns.push(PlannedColumn {
            name: column.name.clone(),
            source: source_words(column, at, wanted.plan, wanted.names),
            declared: column.ty.to_string(),
            stored: there.ty.clone(),
            nullable: there.nullable,
            is_key,
            remark: (!remarks.is_empty()).then(|| remarks.join("; ")),
        });
    }
    for there in &existing.columns {
        if schema.columns.iter().any(|column| column.name == there.name) {
            continue;
        }
        let gets = match &there.filled {
            Filled::Default(default) => format!("its default, {default}"),
            Filled::Numbered => "a number from the server".into(),
            Filled::Computed => "what the server computes".into(),
            Filled::Nobody if there.nullable => "null".into(),
            Filled::Nobody => {
                plan.problems.push(Problem::new(
                    format!(
                        "'{}' must not be null, has no default, and the schema does not fill it",
                        there.name
                    ),
                    format!(
                        "declare it, for example: {} = {{ type = …, from = \"…\" }}",
                        there.name
                    ),
                ));
                continue;
            }
        };
        plan.left.push(LeftColumn { name: there.name.clone(), ty: there.ty.clone(), gets });
    }
    let key = &schema.layout.key;
    if key.is_empty() && !existing.key.is_empty() {
        let filled = existing.key.iter().all(|name| schema.columns.iter().any(|c| &c.name == name));
        if filled {
            plan.notes.push(format!(
                "the table has the key {}; declare it as [layout] key, and rows that are there already can be skipped or updated",
                typhos_core::wording::listed(&existing.key)
            ));
        }
    }
    if !key.is_empty() {
        let what = match wanted.seen {
            Seen::Stop => "stops the load",
            Seen::Skip => "is skipped",
            Seen::Update => "updates the row there",
        };
        plan.notes.push(format!(
            "a row whose {} is in the table already {what}",
            typhos_core::wording::listed(key)
        ));
    }
}

/// `same` is the type that a new table would have there: it fits, whatever it holds.
fn column_fits(column: &ColumnDecl, there: &ExistingColumn, same: &str, plan: &mut LoadPlan) {
    let name = &column.name;
    if there.filled == Filled::Computed {
        plan.problems.push(Problem::new(
            format!("'{name}' is computed by the server, and cannot be loaded"),
            "drop it from the schema",
        ));
        return;
    }
    let is_same = there.ty.replace(' ', "").eq_ignore_ascii_case(&same.replace(' ', ""));
    if let (Err(why), false) = (fits(column, &there.held), is_same) {
        let (what, help) =
            why.split_once("; ").map(|(what, help)| (what.to_owned(), help.to_owned())).unwrap_or(
                (why, format!("declare a type that {} holds, or change the table", there.ty)),
            );
        plan.problems.push(Problem::new(format!("'{name}', which is {}, {what}", there.ty), help));
    }
    let may_be_absent = !column.required && column.default.is_none() && column.generate.is_none();
    if !there.nullable && may_be_absent {
        plan.problems.push(Problem::new(
            format!("'{name}' must not be null, and the schema declares it optional"),
            format!("declare {name} = {{ …, required = true }}, or a default for it"),
        ));
    }
    if matches!(there.held, Held::Text(Some(_))) && column.ty == Type::Lowcard {
        plan.notes.push(format!("'{name}' is {}: a longer value stops the load", there.ty));
    }
}

/// Names that a database would cut or take for the same.
fn names_fit(language: &dyn Language, schema: &Schema, table: &str, problems: &mut Vec<Problem>) {
    let columns = schema.columns.iter().map(|column| ("column", column.name.as_str()));
    for (what, name) in columns.chain([("table", table)]) {
        let shown = name.escape_debug();
        if name.contains('\0') || name.is_empty() {
            problems.push(Problem::new(format!("no {what} can be called '{shown}'"), "rename it"));
        }
        if let Some((most, in_bytes)) = language.longest_name() {
            let length = if in_bytes { name.len() } else { name.chars().count() };
            if length > most {
                let unit = if in_bytes { "byte" } else { "character" };
                problems.push(Problem::new(
                    format!(
                        "the name of the {what} '{shown}' has {}",
                        counted(length as u64, unit)
                    ),
                    format!(
                        "names in {} have at most {most}; rename it in the schema",
                        language.name()
                    ),
                ));
            }
        }
    }
    if language.ignores_case() {
        let mut names = std::collections::HashSet::new();
        for column in &schema.columns {
            if !names.insert(column.name.to_lowercase()) {
                problems.push(Problem::new(
                    format!(
                        "'{}' stands beside a column whose name differs only in letter case",
                        column.name
                    ),
                    format!("{} takes them for the same; rename one of them", language.name()),
                ));
            }
        }
    }
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

/// Makes the plan of a load into a file or directory.
pub(crate) fn plan_file(
    job: &Job<'_>,
    path: &Path,
    is_directory: bool,
    what: &str,
    notes: Vec<String>,
    stored: &dyn Fn(&DataType) -> String,
) -> LoadPlan {
    let schema = job.plan.schema();
    let exists = path.symlink_metadata().is_ok();
    let mut problems = key_problems(schema);
    if exists && job.mode == Mode::Create {
        problems.push(Problem::new(
            "it exists already",
            "pass --mode replace to put this in its place",
        ));
    }
    if exists && job.mode == Mode::Replace {
        let what = if is_directory {
            match foreign_file(path) {
                Ok(None) => None,
                Ok(Some(file)) => {
                    Some(format!("it holds {}, which typhos did not write there", file.display()))
                }
                Err(error) => Some(error.to_string()),
            }
        } else {
            path.is_dir().then(|| "it is a directory, and a file is to be written there".to_owned())
        };
        let help = "move it away, or name another place";
        problems.extend(what.map(|what| Problem::new(what, help)));
    }
    if job.mode == Mode::Append {
        problems.push(Problem::new(
            "files are written once, and nothing is added to them",
            "pass --mode replace, or load into another file of the same directory",
        ));
    }
    if job.seen != Seen::Stop {
        problems.push(Problem::new("a file has no rows to be skipped or updated", "drop --seen"));
    }
    let folder = crate::whole::parent(path);
    if !folder.is_dir() {
        problems
            .push(Problem::outside(format!("there is no folder {}", folder.display()), "make it"));
    } else if let Err(error) = crate::whole::writable(folder) {
        problems.push(Problem::outside(
            format!("the folder {} cannot be written to ({error})", folder.display()),
            "change its permissions, or name another place",
        ));
    }
    let arrow = job.plan.arrow();
    let columns =
        schema.columns.iter().zip(arrow.fields()).enumerate().map(|(at, (column, field))| {
            PlannedColumn {
                name: column.name.clone(),
                source: source_words(column, at, job.plan, job.input.names()),
                declared: column.ty.to_string(),
                stored: stored(field.data_type()),
                nullable: !column.required,
                is_key: schema.layout.key.contains(&column.name),
                remark: default_words(column),
            }
        });
    LoadPlan {
        target: path.display().to_string(),
        server: Some(what.to_owned()),
        table: None,
        action: if exists && job.mode == Mode::Replace { Action::Replace } else { Action::Create },
        exists,
        columns: columns.collect(),
        left: Vec::new(),
        notes,
        problems,
        statements: Vec::new(),
    }
}
