//! `typhos draft`: a schema from all rows, with its evidence.

use typhos_core::infer::{DraftOptions, Examined, counted, draft};

use super::keep;
use super::look::{Extent, Looked, look};
use crate::args::{Common, Draft};
use crate::console::{self, Console, GOOD, WARN, paint};
use crate::diagnose;
use crate::outcome::{Failure, Outcome};

pub fn run(args: &Draft, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    if let Some(path) = &args.output {
        typhos_load::refuse_existing(path, args.replace)?;
    }
    let kept = args.keep.as_deref().map(diagnose::read_schema).transpose()?;
    let under = kept.as_ref().map(|(schema, _)| schema);
    let extent = if kept.is_some() { Extent::All } else { Extent::Wanted };
    let looked = look(
        &args.inputs,
        &args.input,
        &args.rules,
        under,
        args.output.as_deref(),
        extent,
        common,
    )?;
    let Looked { examined, settings, columns, .. } = &looked;
    let Examined { survey, decisions, .. } = examined;
    let files = survey.source.files.iter().map(|file| &file.name[..]);
    let wanted = DraftOptions {
        table: args.table.clone().unwrap_or_else(|| super::table_name(files)),
        naming: settings.house.naming.unwrap_or_default(),
        columns: Some(columns.clone()),
        objects: settings.house.nested.unwrap_or_default(),
    };
    let mut drafted = draft(survey, decisions, &wanted);
    if drafted.schema.columns.is_empty() && survey.source.names.is_empty() {
        let broken = counted(survey.broken, "record");
        return Err(Failure::Refused(format!(
            "there are no columns to declare: {broken} cannot be read, and no other has a name; 'typhos scout' shows the first"
        )));
    }
    drafted.heading.extend(looked.report().draft_notes());
    let mut changes = Vec::new();
    let text = match &kept {
        None => drafted.to_toml(),
        Some((schema, source)) => {
            let merged = keep::merge(schema, source, &drafted, survey, decisions);
            changes = merged.changes;
            merged.text
        }
    };
    match &args.output {
        None => console.machine(text.trim_end())?,
        Some(path) => {
            typhos_load::write_file(path, args.replace, text.as_bytes())?;
            let count = match &kept {
                Some((schema, _)) => format!(
                    "{} kept, {} drafted",
                    counted(schema.columns.len() as u64, "column"),
                    changes.iter().filter(|change| change.is_new).count()
                ),
                None => counted(drafted.schema.columns.len() as u64, "column"),
            };
            let from = counted(survey.records, "record");
            let sample = if survey.is_sample { "a sample: the first " } else { "" };
            console.note(format!(
                "{} {}: {count}, drafted from {sample}{from}",
                paint(GOOD, "wrote"),
                console::path(path)
            ))?;
        }
    }
    for note in looked.report().notes() {
        console.note(paint(WARN, note))?;
    }
    for change in &changes {
        console.note(change.line())?;
    }
    if survey.broken > 0 {
        let text = format!(
            "{} cannot be split into columns; 'typhos scout' shows the first",
            counted(survey.broken, "more record")
        );
        console.note(paint(WARN, text))?;
    }
    let questions = super::scout::questions(&looked);
    for question in &questions {
        console.note(paint(WARN, question))?;
    }
    Ok(Outcome::objecting_if(survey.broken > 0 || !questions.is_empty()))
}
