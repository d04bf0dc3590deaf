//! `typhos pool`: saved surveys into one.

use std::path::PathBuf;

use typhos_core::infer::{counted, grouped};
use typhos_core::survey::{Absent, PoolError, Pooling, Survey, SurveyHead, SurveyOptions};
use typhos_core::text::{Input, Part, Whole};

use super::look;
use crate::args::{Common, Pool};
use crate::console::{self, Console, GOOD, WARN, paint, safe};
use crate::outcome::{Failure, Outcome};

pub fn run(args: &Pool, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    super::scout::refuse_existing(&args.output, args.replace)?;
    let surveys = look::expanded(&args.surveys)?;
    let read = look::named(&surveys, "a survey");
    typhos_load::keep_apart(&read, &[("the output", &args.output)])?;
    let heads = look::read_heads(&surveys)?;
    let (survey, again) = pooled(&surveys, heads, common, console)?;
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
    let of = match again {
        0 => String::new(),
        again => format!(", {} of which surveyed again", counted(again, "part")),
    };
    console.note(format!(
        "{} {}: {} of {}, from {}{of}",
        paint(GOOD, "wrote"),
        console::path(&args.output),
        counted(survey.records, "record"),
        counted(files.len() as u64, "file"),
        counted(surveys.len() as u64, "survey"),
    ))?;
    Ok(Outcome::objecting_if(twice.is_some()))
}

/// Pools surveys. A part that began elsewhere than the one before it ended is surveyed again, where its input is at
/// hand. Returns how many were, too.
fn pooled(
    paths: &[PathBuf],
    mut heads: Vec<SurveyHead>,
    common: &Common,
    console: &mut Console,
) -> Result<(Survey, u64), Failure> {
    // Those that were surveyed again, as they would be saved.
    let mut again: Vec<Vec<u8>> = Vec::new();
    loop {
        let error = match Pooling::plan(&heads) {
            Ok(pooling) => {
                let read = |at: usize| match at.checked_sub(paths.len()) {
                    None => look::read_survey(&paths[at]),
                    Some(at) => Survey::load(&again[at][..])
                        .map_err(|error| Failure::Machine(error.to_string())),
                };
                return Ok((look::pool(pooling, read)?, again.len() as u64));
            }
            Err(error) => error,
        };
        let PoolError::Begin { part, file, before: Some((_, begin)), .. } = &error else {
            return Err(look::not_pooled(&error));
        };
        // Each part is surveyed again once at most: then it begins where it is said to.
        let is_left = again.len() < part.count() as usize;
        let Some(mut input) = at_hand(&heads).filter(|_| is_left) else {
            return Err(look::not_pooled(&error));
        };
        console.note(format!(
            "part {part} took a line within quotes of {} for a record: surveying it again, from byte {}",
            safe(file),
            grouped(*begin)
        ))?;
        let survey = survey_again(&mut input, *part, *begin, paths, &heads, common)?;
        let mut saved = Vec::new();
        survey.save(&mut saved)?;
        again.push(saved);
        heads.push(SurveyHead::of(&survey));
    }
}

/// The input that surveys are parts of, where all its files can be read here and are those that were read.
fn at_hand(heads: &[SurveyHead]) -> Option<Input> {
    let whole: &Whole = &heads[0].part.as_ref()?.whole;
    let pieces = heads.iter().filter_map(|head| head.part.as_ref()).flat_map(|of| &of.pieces);
    let mut files: Vec<(u64, &str)> = pieces.map(|piece| (piece.file, &piece.name[..])).collect();
    files.sort_unstable();
    files.dedup();
    let paths: Vec<PathBuf> = files.iter().map(|(_, name)| PathBuf::from(name)).collect();
    let input = super::open_untaught(&paths, &heads[0].source.layout).ok()?;
    let files: Vec<(String, u64)> =
        input.files().iter().map(|file| (file.name(), file.bytes())).collect();
    let found = Whole::of_files(files.iter().map(|(name, bytes)| (&name[..], *bytes)));
    (found == *whole).then_some(input)
}

/// Surveys a part as it was before, but from where it has to begin.
fn survey_again(
    input: &mut Input,
    part: Part,
    begin: u64,
    paths: &[PathBuf],
    heads: &[SurveyHead],
    common: &Common,
) -> Result<Survey, Failure> {
    let is_this = |head: &SurveyHead| head.part.as_ref().is_some_and(|of| of.part == part);
    let at = heads.iter().position(is_this).expect("a part that was surveyed");
    let before = look::read_survey(&paths[at])?;
    input.take_part(part, Some(begin))?;
    super::learn(input, None, common)?;
    let options = SurveyOptions {
        absent: Absent::Everywhere(before.absent),
        quoted: before.quoted,
        ..SurveyOptions::default()
    };
    super::survey(input, &options, common)
}
