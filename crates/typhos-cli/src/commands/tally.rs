//! `typhos tally`: groups of typed rows, counted and measured; as a table, for other programs, or drawn.

use std::ops::ControlFlow;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::cast::AsArray;
use arrow_array::types::{Float64Type, UInt64Type};
use arrow_array::{Array, RecordBatch};
use arrow_schema::DataType;
use serde_json::json;
use typhos_core::columns::cell_text;
use typhos_core::infer::counted;
use typhos_core::run::Monitor;
use typhos_core::sorting::{Merge, SortOrder, SortedRuns};
use typhos_core::table::Declared;
use typhos_core::tally::{
    DEFAULT_TALLY_MEMORY, Groups, Measured, Said, Tally as Tallying, TallyError, TallySpec,
};
use typhos_load::TempFiles;

use super::shape::Printer;
use super::typed::{self, Named, Opened};
use crate::args::{Common, Shape, Tally};
use crate::chart::{ChartKind, Point, draw};
use crate::console::{self, BOLD, Console, DIM, GOOD, paint, safe};
use crate::diagnose;
use crate::outcome::{Failure, Outcome};
use crate::picture::{self, PictureForm};
use crate::progress::Progress;

/// Groups that are worked out at once.
const BATCH_GROUPS: usize = 4_096;

/// Groups that a terminal is given where nothing is said.
const MOST_SHOWN: u64 = 50;

/// Groups that are drawn at most.
const MOST_DRAWN: u64 = 5_000;

/// Bytes that sorting groups may take.
const SORT_MEMORY: usize = 64 << 20;

pub fn run(args: &Tally, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    if let Some(path) = &args.save {
        typhos_load::refuse_existing(path, args.replace)?;
        if PictureForm::of(path).is_none() {
            return Err(Failure::Usage(format!(
                "'{}' is not a picture that is drawn here: name a FILE.svg or a FILE.png",
                path.display()
            )));
        }
    }
    let named = Named {
        what: &args.what,
        table: args.table.as_deref(),
        input: &args.input,
        command: "tally",
        documents: None,
    };
    named.open(common, console, &mut |opened, console| tally(args, opened, common, console))
}

fn tally(
    args: &Tally,
    opened: Opened<'_>,
    common: &Common,
    console: &mut Console,
) -> Result<Outcome, Failure> {
    let Opened { title, table, bytes, .. } = opened;
    let arrow = table.schema();
    let declared = Declared::of(&arrow);
    let spec = spec(args, &declared, &arrow)?;
    let columns = Some(spec.columns().to_vec());
    let selection = typed::selection(args.filter.as_deref(), columns, &declared, table)?;
    let run = common.run_options();
    let memory = args.memory.map_or(DEFAULT_TALLY_MEMORY, |memory| memory / 2);
    let scratch = TempFiles::inside(&std::env::temp_dir());
    let progress = match bytes {
        Some(bytes) => Progress::new("grouping", bytes, common.quiet),
        None => Progress::of_unknown("grouping", common.quiet),
    };
    let tally = Tallying::new(spec.clone(), run.threads.get(), memory, scratch.clone());
    let failed: Mutex<Option<TallyError>> = Mutex::new(None);
    let passed = table.read_spread(&selection, &run, &progress, &|thread, batch| match tally
        .take(thread, &batch)
    {
        Ok(()) => ControlFlow::Continue(()),
        Err(error) => {
            failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
            ControlFlow::Break(())
        }
    })?;
    if let Some(error) = failed.into_inner().unwrap_or_else(PoisonError::into_inner) {
        return Err(failure(error));
    }
    let groups = tally.finish().map_err(failure)?;
    let rows = groups.rows();
    let mut ordered = match &args.sort {
        None => Ordered::AsTheyCome(groups),
        Some(sort) => {
            let keys = typed::sort_keys(sort, spec.results())?;
            let order =
                SortOrder::by(&keys, spec.results(), &spec.arrow()).expect("there is a key");
            Ordered::Sorted(sorted(groups, Arc::new(order), scratch, &progress)?)
        }
    };
    drop(progress);
    let shown = Shown { title: &title, rows, spec: &spec };
    match args.chart {
        Some(kind) => shown.chart(kind, args, &mut ordered, console)?,
        None => shown.print(args, &mut ordered, console)?,
    }
    typed::ended(passed.misfits, bytes.is_some(), console)
}

/// What is to be counted, by what.
fn spec(
    args: &Tally,
    declared: &Declared,
    arrow: &arrow_schema::Schema,
) -> Result<TallySpec, Failure> {
    let show = &args.show[..];
    let wrong = |said, error| match said {
        Said::By => Failure::Schema(diagnose::phrase(&args.by, "--by", &error)),
        Said::Show => Failure::Schema(diagnose::phrase(show, "--show", &error)),
    };
    let spec = TallySpec::parse(&args.by, show, declared.schema(), arrow)
        .map_err(|(said, error)| wrong(said, error))?;
    declared
        .refuse_foreign(spec.columns().iter().copied(), &args.by)
        .map_err(|error| Failure::Usage(error.message))?;
    Ok(spec)
}

fn failure(error: TallyError) -> Failure {
    match error {
        TallyError::Io { .. } => Failure::Machine(error.to_string()),
        TallyError::TooLarge { .. } | TallyError::NotRanked { .. } => {
            Failure::Refused(error.to_string())
        }
    }
}

/// Groups in the order that is wanted.
enum Ordered {
    AsTheyCome(Groups),
    Sorted(Merge),
}

impl Ordered {
    fn next(&mut self) -> Result<Option<RecordBatch>, Failure> {
        if crate::interrupt::is_asked() {
            return Err(Failure::Interrupted);
        }
        match self {
            Ordered::AsTheyCome(groups) => groups.next(BATCH_GROUPS).map_err(failure),
            Ordered::Sorted(merge) => {
                merge.next(BATCH_GROUPS).map_err(|error| Failure::Machine(error.to_string()))
            }
        }
    }
}

fn sorted(
    mut groups: Groups,
    order: Arc<SortOrder>,
    scratch: Arc<dyn typhos_core::spilling::Scratch>,
    progress: &Progress,
) -> Result<Merge, Failure> {
    let machine = |error: typhos_core::sorting::SortError| Failure::Machine(error.to_string());
    let mut runs = SortedRuns::new(order.clone(), groups.schema(), SORT_MEMORY, scratch);
    while let Some(batch) = groups.next(1 << 16).map_err(failure)? {
        if progress.stopped() {
            return Err(Failure::Interrupted);
        }
        runs.push(order.sort(&batch)).map_err(machine)?;
    }
    runs.merge().map_err(machine)
}

struct Shown<'s> {
    title: &'s str,
    rows: u64,
    spec: &'s TallySpec,
}

impl Shown<'_> {
    fn print(
        &self,
        args: &Tally,
        groups: &mut Ordered,
        console: &mut Console,
    ) -> Result<(), Failure> {
        let shape = args.shape.unwrap_or(Shape::Table);
        let is_table = shape == Shape::Table && !args.json;
        let usual = if is_table && console.is_terminal() { MOST_SHOWN } else { u64::MAX };
        let most = args.top.unwrap_or(usual);
        let mut printer = Printer::new(console, self.spec.arrow(), shape, args.json, false);
        for (at, measured) in self.spec.measured().enumerate() {
            let column = self.spec.group_columns() + at;
            match measured {
                Measured::Share => printer.as_percent(column),
                Measured::Mean | Measured::Quantile(_) => printer.in_few_digits(column),
                _ => {}
            }
        }
        printer.begin(self.title, Some(self.rows))?;
        let mut count = 0;
        while let Some(batch) = groups.next()? {
            let room = most.saturating_sub(count).min(batch.num_rows() as u64);
            count += batch.num_rows() as u64;
            printer.push(&batch.slice(0, room as usize))?;
            if printer.is_closed() {
                break;
            }
        }
        printer.end(Some(self.rows), &json!({ "groups": count }))?;
        let shown = printer.rows;
        if is_table && shown < count {
            let left = counted(count - shown, "more group");
            let how = if args.top.is_some() { "" } else { "; --top N shows as many as you like" };
            console.say(paint(DIM, format!("  … and {left}{how}")))?;
        } else if is_table && count == 0 {
            console.say(paint(DIM, "  no rows, and so no groups"))?;
        }
        Ok(())
    }

    fn chart(
        &self,
        kind: ChartKind,
        args: &Tally,
        groups: &mut Ordered,
        console: &mut Console,
    ) -> Result<(), Failure> {
        let by = self.spec.group_columns();
        let results = self.spec.results();
        if by == 0 || by == results.len() {
            return Err(Failure::Usage(
                "a chart has groups on one side and a measure on the other: say --by".into(),
            ));
        }
        let usual = if kind == ChartKind::Bar { MOST_SHOWN } else { MOST_DRAWN };
        let most = args.top.unwrap_or(usual);
        let (mut points, mut count) = (Vec::new(), 0);
        while let Some(batch) = groups.next()? {
            for row in 0..batch.num_rows() {
                count += 1;
                if count <= most {
                    points.push(self.point(&batch, row, by)?);
                }
            }
        }
        let names = results[..by].iter().map(|column| &column.name[..]).collect::<Vec<_>>();
        let (across, up) = (names.join(", "), &results[by].name);
        let what = format!("{up} by {across}");
        if let Some(path) = &args.save {
            let title = format!("{}: {what}", self.title);
            let names = picture::Names { title: &title, across: &across, up };
            picture::save(path, args.replace, kind, names, &points)?;
            console.note(format!("{} {}", paint(GOOD, "wrote"), console::path(path)))?;
            return Ok(());
        }
        let rows = paint(DIM, format!("  {}", counted(self.rows, "row")));
        console.say(format!("{}: {}{rows}", paint(BOLD, safe(self.title)), safe(&what)))?;
        console.say(draw(kind, &points, console.width))?;
        if count > most {
            let left = counted(count - most, "more group");
            console.say(paint(DIM, format!("  … and {left}")))?;
        }
        Ok(())
    }

    /// A group as it is drawn: its names, and its first measure.
    fn point(&self, batch: &RecordBatch, row: usize, by: usize) -> Result<Point, Failure> {
        let name =
            |column: usize| cell_text(batch.column(column), row).unwrap_or_else(|| "·".into());
        let label = (0..by).map(name).collect::<Vec<_>>().join(" ");
        let column = batch.column(by);
        let text = cell_text(column, row);
        let value = match column.data_type() {
            _ if column.is_null(row) => None,
            DataType::Float64 => Some(column.as_primitive::<Float64Type>().value(row)),
            DataType::UInt64 => Some(column.as_primitive::<UInt64Type>().value(row) as f64),
            other if other.is_numeric() => text.as_ref().and_then(|text| text.parse().ok()),
            _ => {
                let name = &self.spec.results()[by].name;
                return Err(Failure::Usage(format!(
                    "'{name}' is not a number, and only numbers are drawn: name a count, a sum or a mean first"
                )));
            }
        };
        let text = match (self.spec.measured().next(), value) {
            (Some(Measured::Share), Some(value)) => super::shape::percent(value),
            (Some(Measured::Mean | Measured::Quantile(_)), Some(value)) => {
                super::shape::few_digits(value)
            }
            _ => text.unwrap_or_else(|| "·".into()),
        };
        Ok(Point { label, text, value })
    }
}
