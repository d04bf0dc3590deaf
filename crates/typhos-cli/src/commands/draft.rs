//! `typhos draft`: a schema from all rows, with its evidence.

use std::io::Write;

use typhos_core::infer::{counted, decide, draft};

use crate::args::{Common, Draft};
use crate::console::{Console, GOOD, WARN, paint};
use crate::outcome::{Failure, Outcome};

pub fn run(args: &Draft, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    if let Some(path) = &args.output
        && path.symlink_metadata().is_ok()
        && !args.replace
    {
        let message = format!(
            "{} exists already; nothing was written (pass --replace to replace it)",
            path.display()
        );
        return Err(Failure::Usage(message));
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
            write_whole(path, &text)
                .map_err(|error| Failure::Machine(format!("{}: {error}", path.display())))?;
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

/// Writes aside and renames, so that a schema is never half there.
fn write_whole(path: &std::path::Path, text: &str) -> std::io::Result<()> {
    let folder = path
        .parent()
        .filter(|parent| !parent.as_os_str().is_empty())
        .unwrap_or(std::path::Path::new("."));
    let mut builder = tempfile::Builder::new();
    builder.prefix(".typhos-unfinished-");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        builder.permissions(std::fs::Permissions::from_mode(0o666));
    }
    let mut file = builder.tempfile_in(folder)?;
    file.write_all(text.as_bytes())?;
    file.as_file().sync_all()?;
    file.persist(path).map_err(|error| error.error)?;
    Ok(())
}
