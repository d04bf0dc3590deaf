//! `typhos peek`: the first typed rows.

use std::io::Read;
use std::path::Path;

use arrow_array::RecordBatch;
use arrow_schema::{DataType, Field, Schema as ArrowSchema, TimeUnit};
use serde_json::{Value, json};
use typhos_core::columns::{Converter, MisfitValue, OnMisfit, TYPE_KEY, cell_text};
use typhos_core::infer::{counted, grouped};
use typhos_core::run::RunOptions;
use typhos_core::text::{Block, BlockReader};
use typhos_files::{arrow_file, parquet, sqlite};

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
    match kind(first)? {
        Kind::Parquet => {
            let (schema, batches, total) = parquet::head(first, args.rows)?;
            Ok(Shown {
                total: Some(total),
                ..of_batches(first.display().to_string(), &schema, &batches)
            })
        }
        Kind::Arrow => {
            let (schema, batches, total) = arrow_file::head(first, args.rows)?;
            Ok(Shown { total, ..of_batches(first.display().to_string(), &schema, &batches) })
        }
        Kind::Sqlite => of_database(first, args),
        Kind::Other => Err(Failure::Usage(format!(
            "{} is not a Parquet or Arrow file, nor a SQLite database. To see delimited text with types, give its schema first: \
             typhos peek SCHEMA {}; to see how it is laid out: typhos scout {}",
            first.display(),
            first.display(),
            first.display()
        ))),
    }
}

enum Kind {
    Parquet,
    Arrow,
    Sqlite,
    Other,
}

/// What a path holds, by its first bytes.
fn kind(path: &Path) -> Result<Kind, Failure> {
    if path.is_dir() {
        return Ok(Kind::Parquet);
    }
    let mut head = Vec::new();
    std::fs::File::open(path)
        .and_then(|file| file.take(16).read_to_end(&mut head))
        .map_err(|error| Failure::Machine(format!("{}: {error}", path.display())))?;
    Ok(match &head[..] {
        [b'P', b'A', b'R', b'1', ..] => Kind::Parquet,
        [b'A', b'R', b'R', b'O', b'W', b'1', ..] => Kind::Arrow,
        b"SQLite format 3\0" => Kind::Sqlite,
        _ => Kind::Other,
    })
}

fn of_database(path: &Path, args: &Peek) -> Result<Shown, Failure> {
    let tables = sqlite::tables(path)?;
    let table = match (&args.table, &tables[..]) {
        (Some(table), _) if tables.contains(table) => table,
        (None, [only]) => only,
        (None, []) => return Err(Failure::Usage(format!("{} has no tables", path.display()))),
        (wanted, _) => {
            let list = tables.join(", ");
            let missing =
                wanted.as_ref().map_or(String::new(), |table| format!("no table '{table}', but "));
            return Err(Failure::Usage(format!(
                "{} has {missing}the tables {list}; pass --table NAME",
                path.display()
            )));
        }
    };
    let head = sqlite::head(path, table, args.rows)?;
    Ok(Shown {
        title: format!("{} table {table}", path.display()),
        columns: head.columns,
        rows: head.rows,
        total: Some(head.total),
        misfits: 0,
    })
}

/// Reads no more blocks than the rows need.
fn under_schema(args: &Peek, common: &Common, console: &mut Console) -> Result<Shown, Failure> {
    let [schema, inputs @ ..] = &args.what[..] else { unreachable!("clap asks for one at least") };
    if inputs.is_empty() {
        return Err(Failure::Usage(format!(
            "give the files to look at: typhos peek {} INPUT",
            schema.display()
        )));
    }
    let (plan, input) = super::plan(schema, inputs, &args.input, common, console)?;
    let mut reader = BlockReader::new(&input, RunOptions::default().block_bytes);
    let mut converter = Converter::new(&plan, OnMisfit::NoteAll);
    let (mut block, mut batches, mut rows, mut misfits) = (Block::default(), Vec::new(), 0, 0);
    while rows < args.rows && reader.next(&mut block)? {
        let report = converter.convert::<MisfitFailure>(&block, |batch: RecordBatch| {
            if rows < args.rows {
                let batch = batch.slice(0, batch.num_rows().min(args.rows - rows));
                rows += batch.num_rows();
                batches.push(batch);
            }
            Ok(())
        });
        misfits +=
            report.map_err(|MisfitFailure(reason)| Failure::Machine(reason))?.account.misfits();
    }
    let title = format!("{} under {}", input.files()[0].name(), schema.display());
    Ok(Shown { misfits, ..of_batches(title, &plan.arrow(), &batches) })
}

/// Under [`OnMisfit::NoteAll`] no misfit ends a conversion; the type only says what one would be.
struct MisfitFailure(String);

impl From<MisfitValue> for MisfitFailure {
    fn from(misfit: MisfitValue) -> Self {
        MisfitFailure(misfit.reason.to_string())
    }
}

fn of_batches(title: String, schema: &ArrowSchema, batches: &[RecordBatch]) -> Shown {
    let declared = |field: &Field| match field.metadata().get(TYPE_KEY) {
        Some(spelling) => spelling.clone(),
        None => type_name(field.data_type()),
    };
    let columns =
        schema.fields().iter().map(|field| (field.name().clone(), declared(field))).collect();
    let rows = batches.iter().flat_map(|batch| {
        (0..batch.num_rows())
            .map(|row| batch.columns().iter().map(|column| cell_text(column, row)).collect())
    });
    Shown { title, columns, rows: rows.collect(), total: None, misfits: 0 }
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
