//! `typhos pool`: saved surveys into one.

use typhos_core::infer::counted;

use crate::args::Pool;
use crate::console::{self, Console, GOOD, WARN, paint, safe};
use crate::outcome::{Failure, Outcome};

pub fn run(args: &Pool, console: &mut Console) -> Result<Outcome, Failure> {
    typhos_load::refuse_existing(&args.output, args.replace)?;
    let read = super::look::named(&args.surveys, "a survey");
    typhos_load::keep_apart(&read, &[("the output", &args.output)])?;
    let survey = super::look::read_surveys(&args.surveys)?;
    let files = &survey.source.files;
    let twice = files.windows(2).find(|pair| pair[0] == pair[1]);
    if let Some([file, _]) = twice {
        let text = format!(
            "{} is in more than one of the surveys, with as many bytes: was it scouted twice?",
            safe(&file.name)
        );
        console.note(paint(WARN, text))?;
    }
    super::scout::save(&survey, &args.output, args.replace)?;
    console.note(format!(
        "{} {}: {} of {}, from {}",
        paint(GOOD, "wrote"),
        console::path(&args.output),
        counted(survey.records, "record"),
        counted(files.len() as u64, "file"),
        counted(args.surveys.len() as u64, "survey"),
    ))?;
    Ok(Outcome::objecting_if(twice.is_some()))
}
