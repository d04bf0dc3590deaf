//! `typhos weigh OLD NEW INPUT…`: what two declarations make of the same data.

use serde_json::json;
use typhos_core::columns::Plan;
use typhos_core::infer::grouped;
use typhos_files::{WeighAs, Weighed};

use super::json::footprint_json;
use super::{change, filter, matching, title, weigh, weighing};
use crate::args::{Common, Weigh};
use crate::console::{BOLD, Console, DIM, FOUND, GOOD, WARN, paint, safe};
use crate::outcome::Failure;
use crate::report::{InputReport, account_json};
use crate::table::{Heading, Look, render};

/// One of the two.
struct Side {
    name: String,
    plan: Plan,
    weighed: Weighed,
}

pub fn run(args: &Weigh, common: &Common, console: &mut Console) -> Result<u64, Failure> {
    let [new, inputs @ ..] = &args.inputs[..] else { unreachable!("asked for by the caller") };
    let mut sides = Vec::new();
    let mut about = None;
    for schema in [&args.schema, new] {
        let (plan, input) = super::super::plan(schema, inputs, &args.input, common, console)?;
        if input.is_stream() {
            return Err(Failure::Usage(
                "a stream is read only once, and two declarations are compared by reading it four \
                 times; give a file"
                    .into(),
            ));
        }
        let question = filter(args, &plan)?;
        let what = weighing(args, &plan, &[], question.as_ref(), common, &input, WeighAs::Time);
        let weighed = weigh(&what, common, "weighing")?;
        sides.push(Side { name: schema.display().to_string(), plan, weighed });
        about.get_or_insert(input);
    }
    let (Some(input), Ok([old, new])) = (about, <[Side; 2]>::try_from(sides)) else {
        unreachable!("two sides were made")
    };
    if args.json {
        let side = |side: &Side| {
            let columns = side.plan.schema().columns.iter().enumerate().map(|(at, column)| {
                let declared = &side.weighed.declared;
                json!({
                    "name": column.name,
                    "type": column.ty.to_string(),
                    "memory": declared.memory[at].total(),
                    "file": declared.disk[at],
                })
            });
            json!({
                "schema": side.name,
                "columns": columns.collect::<Vec<_>>(),
                "memory": memory(&side.weighed),
                "file": side.weighed.declared.file,
                "seconds": side.weighed.took.as_secs_f64(),
                "rows_meant": args.filter.as_ref().map(|_| side.weighed.matched),
                "reads": side.weighed.footprint.map(footprint_json),
                "account": account_json(&side.weighed.account, &side.plan, &input),
            })
        };
        console.json(&json!({
            "typhos": 1,
            "input": InputReport::of(&input).json(),
            "where": args.filter,
            "old": side(&old),
            "new": side(&new),
        }))?;
    } else {
        let under = format!("{} and {}", old.name, new.name);
        console.say(title(&input, &under))?;
        console.say("")?;
        columns(&old, &new, console)?;
        console.say("")?;
        whole(&old, &new, args, console)?;
    }
    Ok(old.weighed.account.misfits().max(new.weighed.account.misfits()))
}

fn memory(weighed: &Weighed) -> u64 {
    weighed.declared.memory.iter().map(|bytes| bytes.total()).sum()
}

/// The columns of both, those of the new one first.
fn columns(old: &Side, new: &Side, console: &mut Console) -> std::io::Result<()> {
    let headings = [
        Heading::left("column").most(24),
        Heading::left("old").most(20),
        Heading::left("new").most(20),
        Heading::right("old, in memory"),
        Heading::right("new"),
        Heading::right("change"),
        Heading::right("old, in a file"),
        Heading::right("new"),
        Heading::right("change"),
    ];
    let names = |side: &Side| -> Vec<String> {
        side.plan.schema().columns.iter().map(|column| column.name.clone()).collect()
    };
    let (ours, theirs) = (names(new), names(old));
    let gone = theirs.iter().filter(|name| !ours.contains(name));
    let rows = ours.iter().chain(gone).map(|name| {
        let of = |side: &Side, names: &[String]| {
            let at = names.iter().position(|known| known == name)?;
            let declared = &side.weighed.declared;
            let ty = side.plan.schema().columns[at].ty.to_string();
            Some((ty, declared.memory[at].total(), declared.disk[at]))
        };
        let (before, after) = (of(old, &theirs), of(new, &ours));
        let changes = before.as_ref().map(|(ty, ..)| ty) != after.as_ref().map(|(ty, ..)| ty);
        let ty = |side: &Option<(String, u64, u64)>| match side {
            Some((ty, ..)) => (ty.clone(), if changes { Look::Type } else { Look::Dim }),
            None => ("-".into(), Look::Dim),
        };
        let mut cells = vec![(name.clone(), Look::Plain), ty(&before), ty(&after)];
        for pick in [|side: &(String, u64, u64)| side.1, |side: &(String, u64, u64)| side.2] {
            let (a, b) = (before.as_ref().map(pick), after.as_ref().map(pick));
            let look = match (a, b) {
                (Some(a), Some(b)) if b > a + a / 50 => Look::Warn,
                _ if changes => Look::Plain,
                _ => Look::Dim,
            };
            let figure = |bytes: Option<u64>| bytes.map_or("-".into(), grouped);
            cells.extend([(figure(a), Look::Dim), (figure(b), look)]);
            let ratio = a.zip(b).map_or(String::new(), |(a, b)| change(a, b));
            cells.push((ratio, look));
        }
        cells
    });
    let rows = rows.collect();
    console.say(render(console, &headings, rows, false))
}

/// What the whole tables take, and what a question reads of them.
fn whole(old: &Side, new: &Side, args: &Weigh, console: &mut Console) -> std::io::Result<()> {
    let mut line = |what: &str, a: u64, b: u64, show: &dyn Fn(u64) -> String| {
        let style = if b > a { WARN } else { GOOD };
        console.say(format!(
            "  {what:<24} {:>16} {} {:>16}  {}",
            show(a),
            paint(DIM, "→"),
            show(b),
            paint(style, change(a, b))
        ))
    };
    let bytes = |bytes: u64| grouped(bytes);
    line("bytes in memory", memory(&old.weighed), memory(&new.weighed), &bytes)?;
    line("bytes in a file", old.weighed.declared.file, new.weighed.declared.file, &bytes)?;
    let millis = |side: &Side| u64::try_from(side.weighed.took.as_millis()).unwrap_or(u64::MAX);
    line("time to load", millis(old), millis(new), &|ms| format!("{:.2} s", ms as f64 / 1000.0))?;
    let (Some(a), Some(b)) = (old.weighed.footprint, new.weighed.footprint) else { return Ok(()) };
    let question = args.filter.as_deref().unwrap_or_default();
    for (what, a, b) in [
        ("row groups to read", a.groups.0, b.groups.0),
        ("rows to read", a.rows.0, b.rows.0),
        ("bytes to read", a.bytes.0, b.bytes.0),
    ] {
        line(what, a, b, &bytes)?;
    }
    let meant = if old.weighed.matched == new.weighed.matched {
        matching(new.weighed.matched)
    } else {
        let both = [&old.weighed, &new.weighed].map(|weighed| grouped(weighed.matched));
        format!("{} rows match in one, {} in the other", both[0], both[1])
    };
    console.say("")?;
    console.say(format!(
        "  {} {}  {}",
        paint(DIM, "to read: for"),
        paint(FOUND, safe(question)),
        paint(BOLD, meant)
    ))
}
