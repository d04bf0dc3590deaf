//! `typhos check`: every value that does not fit, where, and why.

use serde_json::json;
use typhos_core::columns::{Account, Converter, MisfitValue, OnMisfit, Plan};
use typhos_core::infer::{counted, grouped};
use typhos_core::run::{self, RunError};
use typhos_core::text::{Input, Undeclared};
use typhos_core::wording::listed;
use typhos_load::{KeyWatch, MisfitList, Repeats, TargetError, TempFiles, keep_apart};

use super::first;
use crate::args::{Check, Common};
use crate::console::{self, BOLD, Console, DIM, GOOD, WARN, paint, safe};
use crate::outcome::{Failure, Outcome};
use crate::progress::Progress;
use crate::remedies::words;
use crate::report::{
    InputReport, UNDECLARED_HELP, account_json, account_line, changed_lines, fate, misfit_line,
    undeclared, undeclared_json,
};

pub fn run(args: &Check, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    let (mut plan, mut input) =
        first::plan(&args.schema, &args.inputs, &args.input, common, console)?;
    let checked = |plan: &Plan, input: &Input| {
        let mut list = match &args.misfits {
            Some(path) => {
                let read: Vec<_> = input.files().iter().filter_map(|file| file.path()).collect();
                let read: Vec<_> = read.iter().map(|path| ("an input", &**path)).collect();
                let read = [&read[..], &[("the schema", &args.schema)]].concat();
                keep_apart(&read, &[("the list of misfits", path)])?;
                Some(MisfitList::create(path, args.replace, input, plan)?)
            }
            None => None,
        };
        let (account, repeats) = account(plan, input, list.as_mut(), common)?;
        Ok((account, repeats, list.map(MisfitList::keep).transpose()?))
    };
    let (account, repeats, listed) =
        first::confirmed((&mut plan, &args.schema), &mut input, common, console, checked)?;
    if let (Some(misfits), Some(path)) = (listed, &args.misfits) {
        let count = counted(misfits, "misfit");
        console.note(format!("{} {}: {count}", paint(GOOD, "wrote"), console::path(path)))?;
    }
    let problems = problems(&plan, &input);
    if args.json {
        let mut report = json!({ "typhos": 1, "schema": args.schema.display().to_string(), "input": InputReport::of(&input).json() });
        report["undeclared"] = undeclared_json(&plan, &input);
        report["account"] = account_json(&account, &plan, &input);
        let examples = repeats.examples.iter().map(|(first, again)| json!([first, again]));
        let problems = problems.iter().map(|(what, help)| json!({ "what": what, "help": help }));
        report["problems"] = problems.collect();
        report["duplicate_keys"] =
            json!({ "count": repeats.count, "examples": examples.collect::<Vec<_>>() });
        console.json(&report)?;
    } else {
        show(&args.schema, &account, &repeats, (&problems, &plan, &input), console)?;
    }
    Ok(Outcome::objecting_if(account.misfits() > 0 || repeats.count > 0 || !problems.is_empty()))
}

/// What is not about a value and would stop every load, with what to do about it.
fn problems(plan: &Plan, input: &Input) -> Vec<(String, String)> {
    let mut problems: Vec<_> = typhos_load::key_problems(plan.schema())
        .into_iter()
        .map(|problem| (safe(&problem.what), safe(&words(&problem.help))))
        .collect();
    if input.choice().undeclared == Some(Undeclared::Stop) && !plan.undeclared().is_empty() {
        problems.push((undeclared(plan, input), UNDECLARED_HELP.to_owned()));
    }
    problems
}

/// Converts everything and keeps nothing but the account, and duplicate keys.
/// With a list, all misfits are listed there.
pub fn account(
    plan: &Plan,
    input: &Input,
    mut list: Option<&mut MisfitList>,
    common: &Common,
) -> Result<(Account, Repeats), Failure> {
    /// No misfit stops a check; that it does is never made.
    enum Never {
        Run(RunError),
        Target(TargetError),
    }
    impl From<RunError> for Never {
        fn from(error: RunError) -> Self {
            Never::Run(error)
        }
    }
    impl From<MisfitValue> for Never {
        fn from(_: MisfitValue) -> Self {
            unreachable!("a check notes misfits and goes on")
        }
    }
    let on_misfit = if list.is_some() { OnMisfit::ListAll } else { OnMisfit::NoteAll };
    let progress = Progress::new("checking", input.bytes(), common.quiet);
    let watched = first::Watched { progress: &progress, input };
    let mut account = Account::new(plan.schema().columns.len());
    let keys = KeyWatch::new(plan, &TempFiles::inside(&std::env::temp_dir()));
    run::map_blocks::<_, _, Never>(
        plan.blocks(input),
        &common.run_options(),
        &watched,
        || Converter::new(plan, on_misfit),
        |converter, block| {
            let Some(keys) = &keys else { return converter.convert(block, |_| Ok(())) };
            converter.convert_with_places(block, |batch, places| {
                keys.note(&batch, places.file, places.lines).map_err(Never::Target)
            })
        },
        |part| {
            account.add(&part.account);
            match &mut list {
                Some(list) => list.write(&part.misfits).map_err(Never::Target),
                None => Ok(()),
            }
        },
    )
    .map_err(|error| match error {
        Never::Run(error) => Failure::from(error),
        Never::Target(error) => error.into(),
    })?;
    input.verify_unchanged()?;
    let repeats = keys.map(|keys| keys.finish(input)).transpose()?.unwrap_or_default();
    Ok((account, repeats))
}

fn show(
    schema: &std::path::Path,
    account: &Account,
    repeats: &Repeats,
    (problems, plan, input): (&[(String, String)], &Plan, &Input),
    console: &mut Console,
) -> std::io::Result<()> {
    console.say(format!(
        "{}  {}",
        InputReport::of(input).line(),
        paint(DIM, format!("under {}", console::path(schema)))
    ))?;
    let columns =
        plan.schema().columns.iter().zip(&account.columns).filter(|(_, misfits)| misfits.count > 0);
    for (column, misfits) in columns {
        let fate = fate(column.misfit);
        console.say("")?;
        let count = counted(misfits.count, "misfit");
        console.say(format!(
            "{}  {}  {} {}",
            paint(BOLD, safe(&column.name)),
            column.ty,
            paint(WARN, count),
            paint(DIM, format!("({fate})"))
        ))?;
        for misfit in &misfits.examples {
            let paths = input.is_json().then_some(plan);
            console.say(format!("  {}", misfit_line(misfit, input, paths)))?;
        }
        more(misfits.count, misfits.examples.len(), console)?;
        if misfits.longest > 0 {
            let longest = format!("  text({}) would hold the longest", misfits.longest);
            console.say(paint(DIM, longest))?;
        }
    }
    if account.broken.count > 0 {
        console.say("")?;
        let fate = fate(plan.schema().input.misfit);
        let count = counted(account.broken.count, "record");
        console.say(format!(
            "{} {}",
            paint(WARN, format!("{count} cannot be split into columns")),
            paint(DIM, format!("({fate})"))
        ))?;
        for misfit in &account.broken.examples {
            console.say(format!("  {}", misfit_line(misfit, input, None)))?;
        }
        more(account.broken.count, account.broken.examples.len(), console)?;
    }
    if repeats.count > 0 {
        console.say("")?;
        let key = listed(&plan.schema().layout.key);
        console.say(format!(
            "{} {}",
            paint(WARN, format!("{}, by {}", counted(repeats.count, "duplicate key"), safe(&key))),
            paint(DIM, "(would stop a load)")
        ))?;
        for (first, again) in &repeats.examples {
            console.say(format!("  {}  as in {}", paint(DIM, safe(again)), safe(first)))?;
        }
        more(repeats.count, repeats.examples.len(), console)?;
    }
    for (what, help) in problems {
        console.say("")?;
        console.say(format!("{} {}", paint(WARN, what), paint(DIM, "(would stop a load)")))?;
        console.say(paint(DIM, format!("  {help}")))?;
    }
    console.say("")?;
    if account.misfits() == 0 && repeats.count == 0 && problems.is_empty() {
        console.say(format!("{} every value fits.", paint(GOOD, "✓")))?;
    }
    for line in changed_lines(account, plan) {
        console.say(line)?;
    }
    console.say(account_line(account, true))
}

fn more(count: u64, shown: usize, console: &mut Console) -> std::io::Result<()> {
    let rest = count - shown as u64;
    if rest == 0 {
        Ok(())
    } else {
        console.say(paint(DIM, format!("  … and {} more", grouped(rest))))
    }
}
