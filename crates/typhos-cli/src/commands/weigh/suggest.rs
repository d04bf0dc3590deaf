//! `typhos weigh --suggest-sort`: which sort keys make a question cheapest, found by trying them.

use serde_json::json;
use typhos_core::columns::Plan;
use typhos_core::filter::Filter;
use typhos_core::infer::{counted, grouped};
use typhos_core::schema::{Schema, SortKey};
use typhos_files::{WeighAs, Weighed};

use super::json::footprint_json;
use super::{bind, factor, filter, matching, title, weigh, weighing};
use crate::args::{Common, Weigh};
use crate::console::{BOLD, Console, DIM, FOUND, GOOD, paint, safe};
use crate::outcome::Failure;
use crate::report::InputReport;
use crate::table::{Heading, Look, render};

/// Lists of keys of a question of more columns than this are of two at most: there are too many others.
const MANY: usize = 3;

/// Lists that are tried at most.
const MOST_TRIALS: usize = 40;

/// A list of sort keys, and what came of it.
struct Trial {
    sort: Vec<SortKey>,
    weighed: Weighed,
}

impl Trial {
    fn name(&self) -> String {
        let keys: Vec<String> = self.sort.iter().map(ToString::to_string).collect();
        if keys.is_empty() { "not sorted".into() } else { keys.join(", ") }
    }

    fn bytes(&self) -> u64 {
        self.weighed.footprint.map_or(u64::MAX, |footprint| footprint.bytes.0)
    }
}

pub fn run(args: &Weigh, common: &Common, console: &mut Console) -> Result<u64, Failure> {
    let (plan, input) =
        super::super::plan(&args.schema, &args.inputs, &args.input, common, console)?;
    if input.is_stream() {
        return Err(Failure::Usage(
            "a stream is read only once, and sort keys are tried one after the other; give a file"
                .into(),
        ));
    }
    let Some(filter) = filter(args, &plan)? else { unreachable!("clap asks for a question") };
    let mut lists = candidates(&filter, plan.schema());
    lists.insert(0, Vec::new());
    let declared = &plan.schema().layout.sort;
    if !lists.contains(declared) {
        lists.push(declared.clone());
    }
    let left_out = lists.len().saturating_sub(MOST_TRIALS);
    lists.truncate(MOST_TRIALS);
    let mut trials = Vec::new();
    for sort in lists {
        let plan = with_sort(&plan, &input, sort.clone());
        // Which rows match, and what does not fit, is the same in any order.
        let wanted = if trials.is_empty() { WeighAs::Time } else { WeighAs::File };
        let what = weighing(args, &plan, &[], Some(&filter), common, &input, wanted);
        trials.push(Trial { sort, weighed: weigh(&what, common, "trying sort keys")? });
    }
    let (unsorted, matched) = (trials[0].bytes(), trials[0].weighed.matched);
    // The shorter list wins where both read as much.
    trials.sort_by_key(|trial| (trial.bytes(), trial.sort.len(), trial.weighed.declared.file));
    let misfits = trials[0].weighed.account.misfits();
    if args.json {
        let tried = trials.iter().map(|trial| {
            json!({
                "sort": trial.sort.iter().map(ToString::to_string).collect::<Vec<_>>(),
                "reads": trial.weighed.footprint.map(footprint_json),
                "file": trial.weighed.declared.file,
                "seconds": trial.weighed.took.as_secs_f64(),
            })
        });
        console.json(&json!({
            "typhos": 1,
            "schema": args.schema.display().to_string(),
            "input": InputReport::of(&input).json(),
            "where": args.filter,
            "rows": matched,
            "tried": tried.collect::<Vec<_>>(),
        }))?;
        return Ok(misfits);
    }
    console.say(title(&input, &args.schema.display().to_string()))?;
    let question = args.filter.as_deref().unwrap_or_default();
    console.say(format!(
        "{}  {}",
        paint(FOUND, safe(question)),
        paint(
            DIM,
            format!("{} of {}", matching(matched), grouped(trials[0].weighed.account.loaded))
        )
    ))?;
    console.say("")?;
    show(&trials, declared, console)?;
    if left_out > 0 {
        let lists = counted(left_out as u64, "more list");
        console.note(paint(DIM, format!("{lists} of sort keys not tried")))?;
    }
    console.say("")?;
    let best = &trials[0];
    if best.sort.is_empty() || best.bytes() == unsorted {
        console.say("  no order lets this filter read less.")?;
        return Ok(misfits);
    }
    let keys: Vec<String> =
        best.sort.iter().map(|key| typhos_core::schema::quoted(&key.to_string())).collect();
    console.say(format!(
        "  {} reads {} fewer bytes than rows as they come: add to the schema",
        paint(BOLD, safe(&best.name())),
        paint(GOOD, factor(unsorted, best.bytes())),
    ))?;
    console.say("    [layout]")?;
    console.say(format!("    sort = [{}]", safe(&keys.join(", "))))?;
    Ok(misfits)
}

/// Lists of the columns of a question that might help: each alone, and in any order.
fn candidates(filter: &Filter, schema: &Schema) -> Vec<Vec<SortKey>> {
    let columns: Vec<SortKey> = filter
        .columns()
        .into_iter()
        .map(|column| SortKey::ascending(&schema.columns[column].name))
        .collect();
    let longest = if columns.len() > MANY { 2 } else { columns.len() };
    let mut all: Vec<Vec<SortKey>> = Vec::new();
    let mut last: Vec<Vec<SortKey>> = vec![Vec::new()];
    for _ in 0..longest {
        let longer = |list: &Vec<SortKey>| {
            let others = columns.iter().filter(|key| !list.contains(key));
            others.map(|key| [&list[..], std::slice::from_ref(key)].concat()).collect::<Vec<_>>()
        };
        last = last.iter().flat_map(longer).collect();
        all.extend(last.iter().cloned());
    }
    all
}

fn with_sort(plan: &Plan, input: &typhos_core::text::Input, sort: Vec<SortKey>) -> Plan {
    let mut schema = plan.schema().clone();
    schema.layout.sort = sort;
    bind(schema, input)
}

fn show(trials: &[Trial], declared: &[SortKey], console: &mut Console) -> std::io::Result<()> {
    let headings = [
        Heading::left("sorted by").most(48),
        Heading::right("bytes to read"),
        Heading::right("of all"),
        Heading::right("rows"),
        Heading::right("row groups"),
        Heading::right("bytes of the file"),
        Heading::right("load"),
        Heading::left(""),
    ];
    let rows = trials.iter().enumerate().map(|(at, trial)| {
        let footprint = trial.weighed.footprint.unwrap_or_default();
        let (read, all) = footprint.bytes;
        let look = if at == 0 { Look::Type } else { Look::Plain };
        vec![
            (trial.name(), look),
            (grouped(read), look),
            (format!("{:.1} %", read as f64 / all.max(1) as f64 * 100.0), Look::Plain),
            (grouped(footprint.rows.0), Look::Plain),
            (format!("{} of {}", footprint.groups.0, footprint.groups.1), Look::Plain),
            (grouped(trial.weighed.declared.file), Look::Plain),
            (format!("{:.2} s", trial.weighed.took.as_secs_f64()), Look::Dim),
            (if trial.sort == declared { "as declared" } else { "" }.into(), Look::Dim),
        ]
    });
    let rows = rows.collect();
    console.say(render(console, &headings, rows, false))
}
