//! The ledger of one declaration, for a person.

use std::collections::BTreeMap;

use typhos_core::infer::{counted, grouped};
use typhos_core::ledger::{Advice, ColumnBytes, Step};
use typhos_core::schema::{ColumnDecl, Scalar};

use super::{Ledger, change, matching, reads, title};
use crate::args::Weigh;
use crate::console::{self, BOLD, Console, DIM, FOUND, GOOD, WARN, paint, safe};
use crate::table::{Heading, Look, render};

/// Characters of the longest bar, at least and at most.
const BAR: (usize, usize) = (8, 36);

/// Terminals narrower than this show of files only what is declared.
const WIDE: usize = 120;

/// A column of the input, or one that is declared, and what it takes in each way.
pub struct Line {
    pub name: String,
    /// Its declared type where nothing nests; `None` where it is left out.
    pub ty: Option<Scalar>,
    /// What its type is called.
    pub shown: String,
    /// In memory as text, with wide types, and as declared.
    pub memory: [u64; 3],
    /// In a file, the same.
    pub disk: [u64; 3],
    /// What is nested in it: path, type, and bytes as declared in memory and in a file.
    pub leaves: Vec<(String, Scalar, u64, u64)>,
}

/// The lines of a ledger: declared columns as they are declared, then those that are left out.
pub fn lines(ledger: &Ledger) -> Vec<Line> {
    let schema = ledger.plan.schema();
    let [text, wide] = &ledger.weighed.others[..] else { unreachable!("two ways beside") };
    let declared = &ledger.weighed.declared;
    let source = |at: usize| ledger.faces.declared.iter().position(|of| *of == Some(at));
    let columns = schema.columns.iter().enumerate().map(|(at, column)| {
        // A column made of one that another is made of has no text of its own.
        let as_is = source(at).map_or([0; 4], |source| {
            [
                text.memory[source].total(),
                wide.memory[source].total(),
                text.disk[source],
                wide.disk[source],
            ]
        });
        Line {
            name: column.name.clone(),
            ty: Some(column.scalar()),
            shown: column.ty.to_string(),
            memory: [as_is[0], as_is[1], declared.memory[at].total()],
            disk: [as_is[2], as_is[3], declared.disk[at]],
            leaves: leaves(column, &declared.leaves[at], &declared.disk_leaves[at]),
        }
    });
    let left_out = ledger.faces.declared.iter().enumerate().filter(|(_, of)| of.is_none());
    let left_out = left_out.map(|(source, _)| Line {
        name: ledger.input.names()[source].clone(),
        ty: None,
        shown: "left out".into(),
        memory: [text.memory[source].total(), wide.memory[source].total(), 0],
        disk: [text.disk[source], wide.disk[source], 0],
        leaves: Vec::new(),
    });
    columns.chain(left_out).collect()
}

/// The leaves of a column that nests, and what each of them takes.
fn leaves(
    column: &ColumnDecl,
    memory: &[ColumnBytes],
    disk: &[u64],
) -> Vec<(String, Scalar, u64, u64)> {
    if memory.is_empty() {
        return Vec::new();
    }
    let mut disk = disk.iter();
    let leaves = column.leaves().into_iter().zip(memory).map(|(leaf, memory)| {
        // A point is two columns of a file.
        let parts = if leaf.scalar == Scalar::Geopoint { 2 } else { 1 };
        let disk = disk.by_ref().take(parts).sum();
        let path = leaf.path[column.name.len()..].trim_start_matches('.').to_owned();
        (path, leaf.scalar, memory.total(), disk)
    });
    leaves.collect()
}

/// Sums of the lines.
pub fn totals(lines: &[Line]) -> ([u64; 3], [u64; 3]) {
    let sum = |of: fn(&Line) -> [u64; 3]| {
        lines.iter().map(of).fold([0; 3], |a, b| [a[0] + b[0], a[1] + b[1], a[2] + b[2]])
    };
    (sum(|line| line.memory), sum(|line| line.disk))
}

/// The bytes that each step saved in memory.
pub fn steps(lines: &[Line]) -> BTreeMap<Step, i64> {
    let mut steps = BTreeMap::new();
    for line in lines {
        let [text, wide, declared] = line.memory;
        let taken = match line.ty {
            Some(ty) => Step::of(ty, text, wide, declared),
            None => vec![(Step::Dropped, text as i64)],
        };
        taken.into_iter().for_each(|(step, bytes)| *steps.entry(step).or_default() += bytes);
    }
    steps
}

pub fn show(ledger: &Ledger, args: &Weigh, console: &mut Console) -> std::io::Result<()> {
    let weighed = &ledger.weighed;
    let rows = counted(weighed.account.loaded, "row");
    console.say(format!(
        "{}  {}",
        title(&ledger.input, &args.schema.display().to_string()),
        paint(BOLD, rows)
    ))?;
    console.say("")?;
    let lines = lines(ledger);
    let (memory, disk) = totals(&lines);
    table(ledger, &lines, memory, disk, console)?;
    console.say("")?;
    console.say(format!(
        "  in memory {}: {} as declared; {} with wide types, {} as text",
        than_text(memory[0], memory[2]),
        paint(BOLD, console::bytes(memory[2])),
        console::bytes(memory[1]),
        console::bytes(memory[0]),
    ))?;
    let source = ledger.input.bytes();
    let share = if source > 0 {
        format!("; {:.1} % of the input", weighed.declared.file as f64 / source as f64 * 100.0)
    } else {
        String::new()
    };
    console.say(format!(
        "  in a file {}: {} as declared{share}",
        than_text(weighed.others[0].file, weighed.declared.file),
        paint(BOLD, console::bytes(weighed.declared.file)),
    ))?;
    show_steps(&lines, memory, console)?;
    traps(&lines, console)?;
    if let (Some(footprint), Some(question)) = (weighed.footprint, &args.filter) {
        console.say("")?;
        let matches = matching(weighed.matched);
        console.say(format!("{}  {}", paint(BOLD, safe(question)), paint(DIM, matches)))?;
        for (what, (part, all)) in
            [("row groups", footprint.groups), ("rows", footprint.rows), ("bytes", footprint.bytes)]
        {
            console.say(format!("  reads {}", reads(what, part, all)))?;
        }
    }
    if let Some(advice) = &ledger.advice {
        show_advice(advice, console)?;
    }
    Ok(())
}

/// How a figure stands to that of all columns as text.
fn than_text(text: u64, declared: u64) -> String {
    let style = if declared > text { WARN } else { GOOD };
    match change(text, declared) {
        same if text == declared => format!("the {same} as text"),
        change => paint(style, format!("{change} than text")),
    }
}

fn table(
    ledger: &Ledger,
    lines: &[Line],
    memory: [u64; 3],
    disk: [u64; 3],
    console: &mut Console,
) -> std::io::Result<()> {
    let wide = console.width.is_none_or(|width| width >= WIDE);
    let mut headings = vec![
        Heading::left("column").most(24),
        Heading::left("type").most(20),
        Heading::right("as text"),
        Heading::right("wide"),
        Heading::right("declared"),
        Heading::right("change"),
    ];
    if wide {
        headings.extend(["file: text", "wide", "declared"].map(Heading::right));
    } else {
        headings.push(Heading::right("in a file"));
    }
    let files = |disk: [u64; 3], look: Look| {
        let figures = if wide { &disk[..] } else { &disk[2..] };
        figures.iter().map(|bytes| (grouped(*bytes), look)).collect::<Vec<_>>()
    };
    let row = |line: &Line| {
        let [text, of_wide, declared] = line.memory;
        let (ty, look) =
            (line.shown.clone(), if line.ty.is_some() { Look::Type } else { Look::Dim });
        let larger = if declared > text { Look::Warn } else { Look::Plain };
        let mut cells = vec![
            (line.name.clone(), Look::Plain),
            (ty, look),
            (grouped(text), Look::Dim),
            (grouped(of_wide), Look::Dim),
            (grouped(declared), larger),
            (if line.ty.is_some() { change(text, declared) } else { String::new() }, larger),
        ];
        cells.extend(files(line.disk, Look::Dim));
        cells
    };
    let leaf_row = |(path, ty, memory, disk): &(String, Scalar, u64, u64)| {
        let mut cells = vec![(format!("  {path}"), Look::Dim), (ty.to_string(), Look::Dim)];
        cells.extend(std::iter::repeat_n((String::new(), Look::Dim), 2));
        cells.push((grouped(*memory), Look::Dim));
        cells.push((String::new(), Look::Dim));
        cells.extend(std::iter::repeat_n((String::new(), Look::Dim), if wide { 2 } else { 0 }));
        cells.push((grouped(*disk), Look::Dim));
        cells
    };
    // Each row and the line that it is of; rows of leaves are of none.
    let (mut rows, mut of_rows) = (Vec::new(), Vec::new());
    for line in lines {
        rows.push(row(line));
        of_rows.push(Some(line));
        rows.extend(line.leaves.iter().map(leaf_row));
        of_rows.extend(line.leaves.iter().map(|_| None));
    }
    let sizes = [&ledger.weighed.others[0], &ledger.weighed.others[1], &ledger.weighed.declared];
    let frames = [0, 1, 2].map(|at| sizes[at].file - disk[at]);
    // What belongs to no column: the schema, the indexes, the ends of the files.
    let mut frame = vec![("indexes and footer".into(), Look::Dim)];
    frame.extend(std::iter::repeat_n((String::new(), Look::Dim), 5));
    frame.extend(files(frames, Look::Dim));
    rows.push(frame);
    let [text, of_wide, declared] = memory;
    let mut total = vec![
        ("total".into(), Look::Plain),
        (String::new(), Look::Plain),
        (grouped(text), Look::Plain),
        (grouped(of_wide), Look::Plain),
        (grouped(declared), Look::Plain),
        (change(text, declared), Look::Plain),
    ];
    total.extend(files([0, 1, 2].map(|at| sizes[at].file), Look::Plain));
    rows.push(total);
    let drawn = render(console, &headings, rows, false);
    let drawn: Vec<&str> = drawn.lines().collect();
    let used = drawn.iter().map(|line| visible_width(line)).max().unwrap_or(0);
    let room = console.width.map_or(BAR.1, |width| width.saturating_sub(used + 3));
    if room < BAR.0 {
        return console.say(drawn.join("\n"));
    }
    let most = lines.iter().map(|line| line.memory[0].max(line.memory[2])).max().unwrap_or(0);
    for (at, line) in drawn.iter().enumerate() {
        match at.checked_sub(1).and_then(|at| of_rows.get(at).copied().flatten()) {
            Some(of) => {
                let pad = " ".repeat(used - visible_width(line));
                console.say(format!("{line}{pad}  {}", bar(of, most, room.min(BAR.1))))?;
            }
            None => console.say(line)?,
        }
    }
    console.say(paint(
        DIM,
        "  bytes; bars: in memory as declared (solid), and what text would take more",
    ))
}

/// Characters that a styled line takes on a terminal.
fn visible_width(line: &str) -> usize {
    let plain = anstream::adapter::strip_str(line).to_string();
    unicode_width::UnicodeWidthStr::width(&plain[..])
}

/// A bar as long as the text is, solid as far as the declared column goes.
fn bar(line: &Line, most: u64, room: usize) -> String {
    let length = |bytes: u64| (bytes as f64 / most.max(1) as f64 * room as f64).ceil() as usize;
    let [text, _, declared] = line.memory;
    let solid = length(declared);
    let rest = length(text).saturating_sub(solid);
    let style = if declared > text { WARN } else { FOUND };
    format!("{}{}", paint(style, "█".repeat(solid)), paint(DIM, "░".repeat(rest)))
}

fn show_steps(lines: &[Line], memory: [u64; 3], console: &mut Console) -> std::io::Result<()> {
    let steps = steps(lines);
    console.say("")?;
    console.say(paint(BOLD, "what made it smaller, in memory"))?;
    let most = steps.values().map(|bytes| bytes.unsigned_abs()).max().unwrap_or(0);
    for (step, bytes) in &steps {
        if *bytes == 0 {
            continue;
        }
        let sign = if *bytes > 0 { "-" } else { "+" };
        let figure = format!("{sign}{}", grouped(bytes.unsigned_abs()));
        let length = bytes.unsigned_abs() as f64 / most.max(1) as f64 * 30.0;
        let style = if *bytes > 0 { GOOD } else { WARN };
        let share = bytes.unsigned_abs() as f64 / memory[0].max(1) as f64 * 100.0;
        let share = format!("{sign}{share:.1} %");
        console.say(format!(
            "  {:<28} {figure:>15} {} {}",
            step.name(),
            paint(DIM, format!("{share:>7}")),
            paint(style, "█".repeat(length.ceil() as usize)),
        ))?;
    }
    Ok(())
}

/// Columns that codes made larger: they are obeyed, and told.
fn traps(lines: &[Line], console: &mut Console) -> std::io::Result<()> {
    let coded = |ty: Option<Scalar>| matches!(ty, Some(Scalar::Lowcard | Scalar::Category));
    for line in lines.iter().filter(|line| coded(line.ty) && line.memory[2] > line.memory[0]) {
        let text = format!(
            "'{}' takes {} as codes with their dictionary, and {} as text: declare it as text",
            safe(&line.name),
            counted(line.memory[2], "byte"),
            counted(line.memory[0], "byte"),
        );
        console.note(paint(WARN, text))?;
    }
    Ok(())
}

fn show_advice(advice: &[Advice], console: &mut Console) -> std::io::Result<()> {
    console.say("")?;
    if advice.is_empty() {
        return console
            .say(format!("{} nothing would be smaller in another type.", paint(GOOD, "✓")));
    }
    let sum: u64 = advice.iter().map(|advice| advice.saves).sum();
    console.say(format!(
        "{}  {}",
        paint(BOLD, "what would save more, in memory"),
        paint(DIM, format!("{} in all", console::bytes(sum)))
    ))?;
    for Advice { column, source, change: (from, to), saves, line, risk } in advice {
        let more = if (&from[..], &to[..]) == ("float64", "float32") {
            format!("; 'typhos scout --column {source}' says by how much")
        } else {
            String::new()
        };
        console.say(format!(
            "  {}: {from} → {} saves {}; {}",
            paint(BOLD, safe(column)),
            paint(FOUND, to),
            paint(GOOD, console::bytes(*saves)),
            paint(DIM, safe(&format!("{risk}{more}")))
        ))?;
        console.say(format!("    {}", safe(line)))?;
    }
    Ok(())
}
