//! `typhos peek`: typed rows, of an input or of what was loaded; the columns, rows and order that are wanted.

use std::collections::VecDeque;
use std::ops::ControlFlow;
use std::sync::Arc;

use arrow_array::RecordBatch;
use serde_json::{Value, json};
use typhos_core::infer::{counted, grouped};
use typhos_core::schema::SortKey;
use typhos_core::table::{Codes, Declared, sorted_rows};
use typhos_load::TempFiles;

use super::shape::Printer;
use super::typed::{self, Named, Opened};
use crate::args::{Common, Peek, Rows, Shape};
use crate::console::{Console, DIM, paint, safe};
use crate::outcome::{Failure, Outcome};
use crate::progress::Progress;

/// Bytes that sorting may take.
const SORT_MEMORY: usize = 128 << 20;

/// Rows that are taken out of a merge at once.
const MERGED_ROWS: usize = 4_096;

pub fn run(args: &Peek, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    let needs_all = args.filter.is_some() || args.sort.is_some() || args.last.is_some();
    let most = match args.rows {
        Rows::All => None,
        Rows::Some(rows) => Some(rows.saturating_add(args.skip_rows)),
    };
    let named = Named {
        what: &args.what,
        table: args.table.as_deref(),
        input: &args.input,
        command: "peek",
        documents: most.filter(|_| !needs_all).map(|most| most as usize),
    };
    named.open(common, console, &mut |opened, console| show(args, opened, common, console))
}

fn show(
    args: &Peek,
    opened: Opened<'_>,
    common: &Common,
    console: &mut Console,
) -> Result<Outcome, Failure> {
    let Opened { title, table, bytes, .. } = opened;
    let schema = table.schema();
    let declared = Declared::of(&schema);
    let shown = match &args.columns[..] {
        [] => (0..schema.fields().len()).collect(),
        names => typed::columns(names, &declared)?,
    };
    let mut selection =
        typed::selection(args.filter.as_deref(), Some(shown.clone()), &declared, table)?;
    let shown_schema = Arc::new(schema.project(&shown).expect("columns of the table"));
    let (skip, most) = match (args.last, args.rows) {
        (Some(last), _) => (0, last),
        (None, Rows::Some(rows)) => (args.skip_rows, rows),
        (None, Rows::All) => (args.skip_rows, u64::MAX),
    };
    let keys = match &args.sort {
        Some(sort) => sorted_by(sort, &declared)?,
        None => Vec::new(),
    };
    let total = table.rows().filter(|_| args.filter.is_none());
    let shape = args.shape.unwrap_or(Shape::Table);
    let codes = args.codes.then(|| Codes::of(&shown_schema));
    let shown_schema = codes.as_ref().map_or(shown_schema, Codes::schema);
    let mut printer = Printer::new(console, shown_schema, shape, args.json, args.upright);
    printer.begin(&title, total)?;
    let mut failed = None;
    let mut window = Window { skip, left: most };
    let mut push = |batch: &RecordBatch, window: &mut Window| match window.pass(batch) {
        Some(batch) => {
            match printer.push(&codes.as_ref().map_or_else(|| batch.clone(), |it| it.batch(&batch)))
            {
                Ok(()) if window.left > 0 && !printer.is_closed() => ControlFlow::Continue(()),
                Ok(()) => ControlFlow::Break(()),
                Err(error) => {
                    failed = Some(error);
                    ControlFlow::Break(())
                }
            }
        }
        None => ControlFlow::Continue(()),
    };
    let misfits = if !keys.is_empty() {
        let progress = Progress::of_unknown("sorting", common.quiet);
        selection.limit = if args.last.is_some() { None } else { most.checked_add(skip) };
        let scratch = TempFiles::inside(&std::env::temp_dir());
        let (runs, passed) =
            sorted_rows(table, &selection, &keys, SORT_MEMORY, scratch, &progress)?;
        if let Some(last) = args.last {
            window.skip = runs.rows().saturating_sub(last);
        }
        let mut merge = runs.merge().map_err(|error| Failure::Machine(error.to_string()))?;
        while window.left > 0 && !crate::interrupt::is_asked() {
            let next = merge.next(MERGED_ROWS);
            let Some(batch) = next.map_err(|error| Failure::Machine(error.to_string()))? else {
                break;
            };
            let batch =
                batch.project(&(0..shown.len()).collect::<Vec<_>>()).expect("the first ones");
            if push(&batch, &mut window).is_break() {
                break;
            }
        }
        passed.misfits
    } else if let Some(last) = args.last {
        let mut tail = Tail { batches: VecDeque::new(), rows: 0, most: last };
        let passed = table.read(&selection, &mut |batch| match crate::interrupt::is_asked() {
            true => ControlFlow::Break(()),
            false => tail.push(batch),
        })?;
        window.skip = tail.rows.saturating_sub(last);
        for batch in &tail.batches {
            if push(batch, &mut window).is_break() {
                break;
            }
        }
        passed.misfits
    } else {
        selection.limit = most.checked_add(skip);
        let passed = table.read(&selection, &mut |batch| match crate::interrupt::is_asked() {
            true => ControlFlow::Break(()),
            false => push(&batch, &mut window),
        })?;
        passed.misfits
    };
    if let Some(error) = failed {
        return Err(error.into());
    }
    if crate::interrupt::is_asked() {
        return Err(Failure::Interrupted);
    }
    printer.end(total, &codes.as_ref().map_or(json!({}), dictionaries))?;
    let rows = printer.rows;
    if shape == Shape::Table && !args.json {
        match total {
            Some(total) if total > rows => {
                console
                    .say(paint(DIM, format!("  {} of {}", grouped(rows), counted(total, "row"))))?;
            }
            _ if rows == 0 => console.say(paint(DIM, "  no rows"))?,
            _ => {}
        }
    }
    if let Some(codes) = codes.filter(|_| !args.json) {
        legend(&codes, shape == Shape::Table, console)?;
    }
    typed::ended(misfits, bytes.is_some(), console)
}

/// The lists of categories, for programs.
fn dictionaries(codes: &Codes) -> Value {
    let lists = codes.lists().map(|(name, list)| (name.to_owned(), json!(list)));
    json!({ "dictionaries": Value::Object(lists.collect()) })
}

/// What codes stand for: below a table, and otherwise beside what another program reads.
fn legend(codes: &Codes, is_table: bool, console: &mut Console) -> Result<(), Failure> {
    let mut lines: Vec<String> = Vec::new();
    for (name, list) in codes.lists() {
        let values = list.iter().enumerate().map(|(code, value)| format!("{code} {}", safe(value)));
        lines.push(format!("{}: {}", safe(name), values.collect::<Vec<_>>().join(", ")));
    }
    if lines.is_empty() {
        lines.push("none of these columns is a category whose list is known".into());
    }
    for line in lines {
        let line = paint(DIM, format!("  {line}"));
        if is_table { console.say(line)? } else { console.note(line)? }
    }
    Ok(())
}

/// The columns that rows are sorted by.
fn sorted_by(sort: &str, declared: &Declared) -> Result<Vec<SortKey>, Failure> {
    let keys = typed::sort_keys(sort, &declared.schema().columns)?;
    for key in &keys {
        let at = declared.place(&key.column).map_err(Failure::Usage)?;
        declared.refuse_foreign([at], sort).map_err(|error| Failure::Usage(error.message))?;
    }
    Ok(keys)
}

/// The rows from one place on, and how many.
struct Window {
    skip: u64,
    left: u64,
}

impl Window {
    /// What is in it of the next rows.
    fn pass(&mut self, batch: &RecordBatch) -> Option<RecordBatch> {
        let rows = batch.num_rows() as u64;
        let from = self.skip.min(rows);
        self.skip -= from;
        let count = (rows - from).min(self.left);
        self.left -= count;
        (count > 0).then(|| batch.slice(from as usize, count as usize))
    }
}

/// The last rows.
struct Tail {
    batches: VecDeque<RecordBatch>,
    rows: u64,
    most: u64,
}

impl Tail {
    fn push(&mut self, batch: RecordBatch) -> ControlFlow<()> {
        self.rows += batch.num_rows() as u64;
        self.batches.push_back(batch);
        while let Some(first) = self.batches.front().map(|batch| batch.num_rows() as u64)
            && self.rows - first >= self.most
        {
            self.rows -= first;
            self.batches.pop_front();
        }
        ControlFlow::Continue(())
    }
}
