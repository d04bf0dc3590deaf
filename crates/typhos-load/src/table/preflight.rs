//! The plan of a load into a table: what would happen to which column, and what is wrong with that.

use typhos_core::columns::Plan;
use typhos_core::infer::{counted, grouped};
use typhos_core::remedy::Remedy;
use typhos_core::schema::{ColumnDecl, Scalar, Schema, Type};

use crate::contract::{Mode, Seen};
use crate::load_plan::{
    Action, LeftColumn, LoadPlan, PlannedColumn, Problem, default_words, key_problems, source_words,
};
use typhos_core::schema::Held;
use typhos_core::schema::relation;
use typhos_sql::held::{Existing, ExistingColumn, Filled};
use typhos_sql::{self as sql, Language};

/// Characters from which on a limit is not one that somebody chose.
const LONG_TEXT: u64 = 16_383;

/// A load into a table, as far as a plan needs to know it.
pub struct TableRequest<'w> {
    pub plan: &'w Plan,
    pub names: &'w [String],
    pub mode: Mode,
    pub seen: Seen,
    pub table: &'w str,
    pub qualified: String,
}

/// Makes the plan of a load into a table of a database.
pub fn plan_table(
    wanted: &TableRequest<'_>,
    language: &dyn Language,
    existing: Option<&Existing>,
    target: String,
    server: Option<String>,
) -> LoadPlan {
    let schema = wanted.plan.schema();
    let action = match (wanted.mode, existing) {
        (Mode::Create, _) | (_, None) => Action::Create,
        (Mode::Append, Some(_)) => Action::Append,
        (Mode::Replace, Some(_)) => Action::Replace,
        (Mode::Refill, Some(_)) => Action::Refill,
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
            Remedy::of("pass {mode = append} to add to it, {mode = refill} to exchange its rows, {mode = replace} to put this in its place, or {table} for another"),
        ));
    }
    names_fit(language, schema, wanted.table, &mut plan.problems);
    plan.problems.extend(key_problems(schema));
    match (action, existing) {
        (Action::Append | Action::Refill, Some(existing)) => {
            append(wanted, language, existing, &mut plan)
        }
        _ => create(wanted, language, &mut plan),
    }
    plan
}

fn create(wanted: &TableRequest<'_>, language: &dyn Language, plan: &mut LoadPlan) {
    let schema = wanted.plan.schema();
    plan.notes = sql::notes(language, schema, wanted.table);
    width_fits(language, schema, wanted.table, &mut plan.problems);
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

/// Tables that are too wide for a database: it would say so when the first of them is made.
fn width_fits(language: &dyn Language, schema: &Schema, table: &str, problems: &mut Vec<Problem>) {
    let name = language.name();
    if let Some(most) = language.most_columns().filter(|most| schema.columns.len() > *most) {
        let count = counted(schema.columns.len() as u64, "column");
        let what = format!("there are {count}, and a table of {name} has at most {most}");
        problems.push(Problem::new(what, "leave some of them out, by a # before their lines"));
    }
    let Some(sql::RowBytes { most, of }) = language.row_bytes() else { return };
    let bytes = schema.columns.iter().map(|column| of(&language.stored(table, column).ty));
    let bytes: u64 = bytes.sum();
    if bytes > most {
        problems.push(Problem::new(
            format!("a row may have {} bytes, and one of {name} has at most {}", grouped(bytes), grouped(most)),
            "declare the longest texts without a limit: type = \"text\"; they are kept apart from the rows",
        ));
    }
}

fn append(
    wanted: &TableRequest<'_>,
    language: &dyn Language,
    existing: &Existing,
    plan: &mut LoadPlan,
) {
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
        column_fits(column, there, (&same, language.has_null(column)), plan);
        let is_text = matches!(there.held, Held::Text(_) | Held::Json);
        if is_text && language.nests(column) && !language.writes_nested_text() {
            let what = format!(
                "'{}', which is {}, takes no {}: {} does not write it as text",
                column.name,
                there.ty,
                column.ty,
                language.name()
            );
            let help = format!("declare {} = {{ type = \"json\", … }}", column.name);
            plan.problems.push(Problem::new(what, help));
        }
        let mut remarks: Vec<String> = default_words(column).into_iter().collect();
        if there.filled == Filled::Numbered {
            remarks.push("numbered by the database, kept from the input".into());
        }
        if matches!(there.held, Held::Text(_)) && !column.scalar().is_text() {
            remarks.push("as text".into());
        }
        remarks.extend(language.remark(column.scalar(), there));
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
/// Whether an existing column takes a declared one. `same` is how the database would store that, and whether it would
/// be null there.
fn column_fits(
    column: &ColumnDecl,
    there: &ExistingColumn,
    (same, has_null): (&str, bool),
    plan: &mut LoadPlan,
) {
    let name = &column.name;
    if there.filled == Filled::Computed {
        plan.problems.push(Problem::new(
            format!("'{name}' is computed by the server, and cannot be loaded"),
            "drop it from the schema",
        ));
        return;
    }
    let is_same = there.ty.replace(' ', "").eq_ignore_ascii_case(&same.replace(' ', ""));
    let longest = match there.held {
        Held::Text(most) => most,
        _ => None,
    };
    // A type for texts without a limit that has one all the same, which few texts come near: the server sees to it.
    let is_long = matches!(column.ty, Type::Scalar(Scalar::Text { most: None }))
        && longest.is_some_and(|most| most >= LONG_TEXT);
    // A day has ten characters, but for those after the year 9999.
    let is_day =
        column.scalar() == Scalar::Date && longest.is_some_and(|most| (10..13).contains(&most));
    let fits = is_same || is_long || is_day;
    if let (Err(lacks), false) = (relation(column, &there.held).is_lossless(), fits) {
        let help = lacks.instead.unwrap_or_else(|| {
            format!("declare a type that {} holds, or change the table", there.ty)
        });
        let what = format!("'{name}', which is {}, {}", there.ty, lacks.what);
        plan.problems.push(Problem::new(what, help));
    }
    let may_be_absent = !column.required && column.default.is_none() && column.generate.is_none();
    if !there.nullable && has_null && may_be_absent {
        plan.problems.push(Problem::new(
            format!("'{name}' must not be null, and the schema declares it optional"),
            format!("declare {name} = {{ …, required = true }}, or a default for it"),
        ));
    }
    if is_day && !is_same {
        let note = format!("'{name}' is {}: a day after the year 9999 stops the load", there.ty);
        plan.notes.push(note);
    }
    if is_long && !is_same || longest.is_some() && column.scalar() == Scalar::Lowcard {
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
