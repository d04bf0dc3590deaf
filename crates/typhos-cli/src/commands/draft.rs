//! `typhos draft`: a schema from all rows, with its evidence.

use typhos_core::infer::{counted, decide, draft};

use crate::args::{Common, Draft};
use crate::console::{Console, GOOD, WARN, paint};
use crate::outcome::{Failure, Outcome};

pub fn run(args: &Draft, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    if let Some(path) = &args.output {
        typhos_targets::refuse_existing(path, args.replace)?;
    }
    let input = super::open(&args.inputs, &args.input.choice())?;
    let survey = super::survey(&input, common)?;
    let decisions = decide(&survey, input.names(), &args.rules.rules());
    let table = args.table.clone().unwrap_or_else(|| super::table_name(&input));
    let draft = draft(&input, &survey, &decisions, &table);
    let text = draft.to_toml();
    match &args.output {
        None => console.say(text.trim_end())?,
        Some(path) => {
            typhos_targets::write_file(path, args.replace, text.as_bytes())?;
            let columns = counted(draft.schema.columns.len() as u64, "column");
            let from = counted(survey.records, "record");
            console.note(format!(
                "{} {}: {columns}, drafted from {from}",
                paint(GOOD, "wrote"),
                path.display()
            ))?;
        }
    }
    if survey.broken > 0 {
        let text = format!(
            "{} cannot be split into columns; 'typhos scout' shows the first",
            counted(survey.broken, "more record")
        );
        console.note(paint(WARN, text))?;
    }
    let questions = super::scout::questions(input.names(), &decisions);
    for question in &questions {
        console.note(paint(WARN, question))?;
    }
    Ok(Outcome::objecting_if(survey.broken > 0 || !questions.is_empty()))
}
