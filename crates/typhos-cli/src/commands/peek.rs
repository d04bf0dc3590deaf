//! `typhos peek`: the first typed rows.

use std::path::Path;

use arrow_array::{Array, ArrayRef};
use arrow_schema::{DataType, Field, TimeUnit};
use serde_json::{Value, json};
use typhos_core::columns::{TYPE_KEY, cell_text, is_nested, write_json};
use typhos_core::infer::{counted, grouped};
use typhos_core::table::{InputTable, Selection, Table, selected_rows};
use typhos_files::embedded::EmbeddedTable;
use typhos_files::sqlite;
use typhos_files::tables::{ArrowTable, FileForm, ParquetTable, SqliteTable};
use typhos_load::{Secret, TargetError};
use typhos_servers::index::IndexTable;

use crate::args::{Common, Peek};
use crate::console::{BOLD, Console, DIM, WARN, paint, safe};
use crate::outcome::{Failure, Outcome};
use crate::table::{Heading, Look, columns_that_fit, render};

/// What is shown, wherever it is from.
struct Shown {
    title: String,
    columns: Vec<(String, String)>,
    rows: Vec<Vec<Option<String>>>,
    /// Rows in all, where that is known without reading everything.
    total: Option<u64>,
    /// Misfits that were met on the way.
    misfits: u64,
}

/// Characters of a cell that a terminal is given.
const MOST_CELL: usize = 32;

pub fn run(args: &Peek, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    let shown = look(args, common, console)?;
    if args.json {
        let columns = shown.columns.iter().map(|(name, ty)| json!({ "name": name, "type": ty }));
        let rows =
            shown.rows.iter().map(|row| row.iter().map(|cell| json!(cell)).collect::<Value>());
        console.json(&json!({
            "typhos": 1,
            "columns": columns.collect::<Vec<_>>(),
            "rows": rows.collect::<Vec<_>>(),
            "total": shown.total,
        }))?;
    } else {
        show(&shown, console)?;
    }
    Ok(Outcome::objecting_if(shown.misfits > 0))
}

fn look(args: &Peek, common: &Common, console: &mut Console) -> Result<Shown, Failure> {
    let first = &args.what[0];
    if first.extension().is_some_and(|extension| extension == "toml") {
        return under_schema(args, common, console);
    }
    if let [_, more, ..] = &args.what[..] {
        let message = format!(
            "more than one thing to look at: '{}' follows '{}', which is not a schema file (NAME.typhos.toml)",
            more.display(),
            first.display()
        );
        return Err(Failure::Usage(message));
    }
    let path = first.display();
    if let Some(url) = first.to_str().filter(|text| IndexTable::is_url(text)) {
        let mut table = index(url, args)?;
        return of_table(table.target.clone(), &mut table, args);
    }
    match FileForm::of(first)? {
        Some(FileForm::Index) => of_table(path.to_string(), &mut EmbeddedTable::open(first)?, args),
        Some(FileForm::Parquet) => {
            of_table(path.to_string(), &mut ParquetTable::open(first)?, args)
        }
        Some(FileForm::Arrow) => of_table(path.to_string(), &mut ArrowTable::open(first)?, args),
        Some(FileForm::Sqlite) => {
            let name = chosen(first, args.table.as_deref())?;
            let title = format!("{path} table {name}");
            of_table(title, &mut SqliteTable::open(first, &name)?, args)
        }
        None => Err(Failure::Usage(format!(
            "{path} is not a Parquet or Arrow file, a SQLite database or an index. To see delimited text with types, give its \
             schema first: typhos peek SCHEMA {path}; to see how it is laid out: typhos scout {path}"
        ))),
    }
}

/// The first documents of an index; the password is asked for where a person sits.
fn index(url: &str, args: &Peek) -> Result<IndexTable, Failure> {
    let opened = IndexTable::open(url, args.rows, None);
    let Err(TargetError::PasswordNeeded { target, user }) = &opened else { return Ok(opened?) };
    let question = format!("Password of {} at {}: ", safe(user), safe(target));
    match crate::prompt::password(&question) {
        Some(word) => Ok(IndexTable::open(url, args.rows, Some(Secret::new(word)))?),
        None => Ok(opened?),
    }
}

/// The table of a database that is meant.
fn chosen(path: &Path, wanted: Option<&str>) -> Result<String, Failure> {
    let tables = sqlite::tables(path)?;
    match (wanted, &tables[..]) {
        (Some(wanted), _) if tables.iter().any(|table| table == wanted) => Ok(wanted.to_owned()),
        (None, [only]) => Ok(only.clone()),
        (None, []) => Err(Failure::Usage(format!("{} has no tables", path.display()))),
        (wanted, _) => {
            let list = tables.join(", ");
            let missing = wanted.map_or(String::new(), |table| format!("no table '{table}', but "));
            Err(Failure::Usage(format!(
                "{} has {missing}the tables {list}; pass --table NAME",
                path.display()
            )))
        }
    }
}

/// An input under a schema, of which no more is read than the rows need.
fn under_schema(args: &Peek, common: &Common, console: &mut Console) -> Result<Shown, Failure> {
    let [schema, inputs @ ..] = &args.what[..] else { unreachable!("clap asks for one at least") };
    if inputs.is_empty() {
        return Err(Failure::Usage(format!(
            "give the files to look at: typhos peek {} INPUT",
            schema.display()
        )));
    }
    let (plan, input) = super::plan(schema, inputs, &args.input, common, console)?;
    let title = format!("{} under {}", input.files()[0].name(), schema.display());
    of_table(title, &mut InputTable::new(&input, &plan), args)
}

/// The first rows of a table.
fn of_table(title: String, table: &mut dyn Table, args: &Peek) -> Result<Shown, Failure> {
    let (batches, passed) = selected_rows(table, &Selection::first(args.rows))?;
    let declared = |field: &Field| match field.metadata().get(TYPE_KEY) {
        Some(spelling) => spelling.clone(),
        None => type_name(field.data_type()),
    };
    let schema = table.schema();
    let columns = schema.fields().iter().map(|field| (field.name().clone(), declared(field)));
    // What nests is JSON for whoever reads JSON.
    let cell = |field: &Field, column: &ArrayRef, row: usize| {
        if !args.json || !is_nested(field) || column.is_null(row) {
            return cell_text(column, row);
        }
        let mut text = String::new();
        write_json(field, column, row, &mut text);
        Some(text)
    };
    let rows = batches.iter().flat_map(|batch| {
        let fields = batch.schema_ref().fields();
        let cells = move |row| {
            let columns = fields.iter().zip(batch.columns());
            columns.map(|(field, column)| cell(field, column, row)).collect()
        };
        (0..batch.num_rows()).map(cells)
    });
    Ok(Shown {
        title,
        columns: columns.collect(),
        rows: rows.collect(),
        total: table.rows(),
        misfits: passed.misfits,
    })
}

/// An Arrow type in the words of the schema file, for files that other programs wrote.
fn type_name(data_type: &DataType) -> String {
    let unit = |unit: &TimeUnit| match unit {
        TimeUnit::Second => "s",
        TimeUnit::Millisecond => "ms",
        TimeUnit::Microsecond => "us",
        TimeUnit::Nanosecond => "ns",
    };
    match data_type {
        DataType::Boolean => "bool".into(),
        DataType::Utf8 => "text".into(),
        DataType::Dictionary(..) => "lowcard".into(),
        DataType::Date32 => "date".into(),
        DataType::Decimal32(precision, scale)
        | DataType::Decimal64(precision, scale)
        | DataType::Decimal128(precision, scale) => format!("decimal({precision},{scale})"),
        DataType::Time32(resolution) | DataType::Time64(resolution) => {
            format!("time({})", unit(resolution))
        }
        DataType::Timestamp(resolution, None) => format!("timestamp({})", unit(resolution)),
        DataType::Timestamp(resolution, Some(_)) => format!("timestamp({}, utc)", unit(resolution)),
        other => other.to_string().to_lowercase(),
    }
}

fn show(shown: &Shown, console: &mut Console) -> std::io::Result<()> {
    let total = shown.total.map_or(String::new(), |total| format!("  {}", counted(total, "row")));
    console.say(format!("{}{}", paint(BOLD, safe(&shown.title)), paint(DIM, total)))?;
    let is_number = |ty: &str| {
        let ty = ty.to_lowercase();
        ["int", "uint", "float", "decimal", "real", "integer"]
            .iter()
            .any(|number| ty.starts_with(number))
    };
    let headings: Vec<_> = shown
        .columns
        .iter()
        .map(|(name, ty)| {
            let heading = if is_number(ty) { Heading::right(name) } else { Heading::left(name) };
            heading.most(MOST_CELL)
        })
        .collect();
    let types = shown.columns.iter().map(|(_, ty)| (ty.clone(), Look::Type)).collect();
    let rows = shown.rows.iter().map(|row| {
        let cells = row.iter().map(|cell| match cell {
            Some(text) => (text.clone(), Look::Plain),
            None => ("·".into(), Look::Dim),
        });
        cells.collect()
    });
    let mut rows: Vec<Vec<_>> = std::iter::once(types).chain(rows).collect();
    let fits = columns_that_fit(console, &headings, &rows);
    rows.iter_mut().for_each(|row| row.truncate(fits));
    console.say(render(console, &headings[..fits], rows, false))?;
    if fits < headings.len() {
        let columns = counted(headings.len() as u64, "column");
        console.say(paint(
            DIM,
            format!("  {fits} of {columns} fit this terminal; a pipe or --json gets all"),
        ))?;
    }
    let count = shown.rows.len() as u64;
    match shown.total {
        Some(total) if total > count => {
            console
                .say(paint(DIM, format!("  {} of {}", grouped(count), counted(total, "row"))))?;
        }
        _ => {}
    }
    if shown.misfits > 0 {
        let text = format!(
            "{} in the rows read; 'typhos check' lists them",
            counted(shown.misfits, "misfit")
        );
        console.note(paint(WARN, text))?;
    }
    Ok(())
}
