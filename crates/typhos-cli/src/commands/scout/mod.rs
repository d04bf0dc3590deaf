//! `typhos scout`: how files are laid out, and what every column holds.

mod column;
mod drawn;
mod json;
mod key;

use std::path::Path;

use typhos_core::infer::{
    About, Choice, Decision, Naming, Question, counted, distinct_clause, estimate_error_percent,
    grouped, line_of, shown, snake_case,
};
use typhos_core::survey::Survey;
use typhos_core::text::Input;

pub use column::frequent;

use typhos_files::store;
use typhos_load::TargetError;

use super::look::{Extent, Looked, find, look};
use crate::args::{Common, Scout};
use crate::console::{self, BOLD, Console, DIM, GOOD, WARN, paint, safe};
use crate::outcome::{Failure, Outcome};
use crate::picture::PictureForm;
use crate::table::{Heading, Look, render};

/// Rows of a table before its headings come again.
const MOST_ROWS: usize = 2_000;

/// Terminals narrower than this show ranges among the reasons, not in columns of their own.
const WIDE: usize = 120;

pub fn run(args: &Scout, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    if let Some(path) = &args.save {
        refuse_existing(path, args.replace)?;
    }
    let picture = args.save.as_ref().filter(|path| PictureForm::of(path).is_some());
    if let (Some(path), None) = (picture, &args.column) {
        return Err(Failure::Usage(format!(
            "'{}' is a picture, which is of one column: say --column NAME; a survey is saved under any other name",
            path.display()
        )));
    }
    let needs_all = args.save.is_some() || args.column.is_some() || !args.key.is_empty();
    let extent = match args.part {
        Some(part) => Extent::Part(part, args.begin),
        None if needs_all => Extent::All,
        None => Extent::Shown,
    };
    let written = args.save.as_deref();
    let looked = look(&args.inputs, &args.input, &args.rules, None, written, extent, common)?;
    let survey = &looked.examined.survey;
    let one = args.column.as_ref().map(|name| find(name, survey)).transpose()?;
    let key = match args.key.is_empty() {
        true => None,
        false => Some(key::look(&looked, &args.key, common)?),
    };
    if args.json {
        let (mut head, columns) = json::report(&looked, one);
        if let Some(key) = &key {
            head["key"] = key.json();
        }
        console.json_list(&head, "columns", columns)?;
    } else if let Some(at) = one {
        let float32 = column::float32(&looked, at, common)?;
        column::show(&looked, at, float32, console)?;
    } else {
        whole(&looked, common, console)?;
    }
    if let Some(key) = key.as_ref().filter(|_| !args.json) {
        key.show(survey.records, console)?;
    }
    if let (Some(path), Some(at)) = (picture, one) {
        drawn::save(&looked, at, path, args.replace)?;
        console.note(format!("{} {}", paint(GOOD, "wrote"), console::path(path)))?;
    } else if let Some(path) = &args.save {
        save(survey, path, args.replace)?;
        console.note(format!("{} {}", paint(GOOD, "saved the survey in"), console::path(path)))?;
    }
    let is_no_key = key.is_some_and(|key| !key.is_key());
    let outcome = Outcome::objecting_if(survey.broken > 0 || is_no_key);
    // The process ends here, and all its memory with it: to free what is known of each of 400 columns took three hundredths of
    // the run.
    std::mem::forget(looked);
    Ok(outcome)
}

/// Refuses to save a survey where something is that is not to be replaced.
pub fn refuse_existing(path: &Path, replace: bool) -> Result<(), Failure> {
    match path.to_str().filter(|_| store::is_object(path)) {
        Some(url) if replace || !store::exists(url).map_err(TargetError::io(path))? => Ok(()),
        Some(_) => Err(TargetError::Exists(path.to_path_buf()).into()),
        None => Ok(typhos_load::refuse_existing(path, replace)?),
    }
}

/// Saves a survey, whole or not at all: in a file, or in a store.
pub fn save(survey: &Survey, path: &Path, replace: bool) -> Result<(), Failure> {
    let mut content = Vec::new();
    survey.save(&mut content)?;
    match path.to_str().filter(|_| store::is_object(path)) {
        Some(url) => {
            refuse_existing(path, replace)?;
            Ok(store::write(url, content).map_err(TargetError::io(path))?)
        }
        None => Ok(typhos_load::write_file(path, replace, &content)?),
    }
}

/// What the survey is of, in a few words.
pub fn source_line(looked: &Looked) -> String {
    let survey = &looked.examined.survey;
    let what = match looked.input.as_ref().and_then(Input::part) {
        Some((part, _)) => format!("part {part} of {}", looked.report().line()),
        None => looked.report().line(),
    };
    let records = counted(survey.records, "record");
    let records = if survey.is_sample {
        format!("{} {}", paint(BOLD, records), paint(WARN, "a sample: the first ones only"))
    } else {
        paint(BOLD, records)
    };
    format!("{what}  {records}")
}

fn whole(looked: &Looked, common: &Common, console: &mut Console) -> std::io::Result<()> {
    console.say(source_line(looked))?;
    for line in looked.report().layout_lines() {
        console.say(line)?;
    }
    if common.verbose {
        looked.settings.tell(console)?;
    }
    console.say("")?;

    let wide = console.width.is_none_or(|width| width >= WIDE);
    let mut headings = vec![
        Heading::left("column").most(28),
        Heading::left("type"),
        Heading::right("absent"),
        Heading::right("distinct"),
    ];
    if wide {
        headings.extend([
            Heading::left("smallest").most(22),
            Heading::left("largest").most(22),
            Heading::right("longest"),
        ]);
    }
    headings.push(Heading::left("why"));
    // A table of very many columns is several, so that it need not be held as a whole.
    for columns in looked.columns.chunks(MOST_ROWS) {
        let rows = columns.iter().map(|at| row(looked, *at, wide)).collect();
        console.say(render(console, &headings, rows, true))?;
    }
    closing(looked, console)
}

/// The line of one column.
fn row(looked: &Looked, at: usize, wide: bool) -> Vec<(String, Look)> {
    let decision = &looked.examined.decisions[at];
    let header = &looked.examined.survey.source.names[at];
    let name = match looked.settings.house.naming {
        Some(Naming::Snake) => snake_case(header),
        _ => header.clone(),
    };
    let ty = if decision.question.is_some() { Look::Warn } else { Look::Type };
    let mut row = vec![
        (name, Look::Plain),
        (decision.ty.to_string(), ty),
        absent(decision),
        (distinct_clause(decision.distinct), Look::Plain),
    ];
    let why = if wide {
        let (low, high) = decision.shown_range().unwrap_or_default();
        let longest = match decision.max_chars {
            0 => ("–".into(), Look::Dim),
            chars => (grouped(chars), Look::Plain),
        };
        row.extend([(low, Look::Plain), (high, Look::Plain), longest]);
        let clauses = decision.evidence.iter().chain(&decision.notes);
        clauses.map(ToString::to_string).collect::<Vec<_>>()
    } else {
        decision.clauses()
    };
    let patterns = decision.patterns.iter().map(|(pattern, _)| pattern.clone());
    let why: Vec<_> = patterns.chain(why).collect();
    row.push((why.join("; "), Look::Dim));
    row
}

/// How many values are absent, and by which texts beside the blank field.
fn absent(decision: &Decision) -> (String, Look) {
    let tokens = decision.absent_tokens.iter().map(|(token, _)| token.as_str());
    let tokens: Vec<_> = tokens.filter(|token| !token.is_empty()).collect();
    match (decision.absent, &tokens[..]) {
        (0, _) => ("–".into(), Look::Dim),
        (some, []) => (grouped(some), Look::Plain),
        (some, tokens) => (format!("{} {}", tokens.join(" "), grouped(some)), Look::Plain),
    }
}

/// What has to be looked at: broken records, and questions.
fn closing(looked: &Looked, console: &mut Console) -> std::io::Result<()> {
    let survey = &looked.examined.survey;
    if survey.broken > 0 {
        console.say("")?;
        console.say(paint(
            WARN,
            format!("{} cannot be split into columns:", counted(survey.broken, "more record")),
        ))?;
        for broken in &survey.broken_examples {
            let file = &survey.source.files[broken.place.part as usize].name;
            console.say(format!(
                "  {}  {}",
                paint(DIM, format!("{}:{}", safe(file), broken.place.line)),
                broken.reason()
            ))?;
        }
    }
    let is_estimate = |at: &usize| !looked.examined.decisions[*at].distinct.is_exact;
    if looked.columns.iter().any(is_estimate) {
        let most = grouped(typhos_core::survey::MAX_DISTINCT as u64);
        let error = estimate_error_percent();
        console.say("")?;
        console.say(paint(
            DIM,
            format!(
                "~ estimates, within {error} % nearly always: exact up to {most} distinct values"
            ),
        ))?;
    }
    for line in questions(looked) {
        console.say("")?;
        console.say(paint(WARN, line))?;
    }
    Ok(())
}

/// A sentence for each column whose values could be read in more than one way.
pub fn questions(looked: &Looked) -> Vec<String> {
    let asked = looked.columns.iter().filter_map(|at| {
        let question = looked.examined.decisions[*at].question.as_ref()?;
        Some((&looked.examined.survey.source.names[*at], question))
    });
    let files = looked.examined.survey.files();
    asked.map(|(name, question)| asking(name, question, &files)).collect()
}

fn asking(name: &str, question: &Question, files: &[String]) -> String {
    let name = safe(name);
    let way = |choice: &Choice| match choice {
        Choice::Dates(order, patterns, _) => {
            format!("{} (--date-order {})", patterns.join(" and "), order.name())
        }
        Choice::Numbers(style, ty) => match style.negative {
            Some(side) => format!("{} (--negative {})", side.name(), side.name()),
            None => format!("{ty} (--decimal-mark '{}')", style.mark.letter()),
        },
        Choice::Number(ty) => format!("{ty} (--fractions exact)"),
        Choice::Text => "text (as drafted)".to_owned(),
    };
    let ways: Vec<_> = question.choices.iter().map(way).collect();
    match &question.about {
        About::Dates | About::Marks => format!(
            "'{name}' holds {} that read as {}. Nothing in the data tells which.",
            if question.about == About::Dates { "dates" } else { "numbers" },
            ways.join(" or as ")
        ),
        About::Sides => format!(
            "'{name}' holds amounts marked DR and CR. Nothing in the data tells which are negative: {}.",
            ways.join(" or ")
        ),
        About::SameNumber(pair) => {
            let [one, other] = pair.each_ref().map(|example| {
                format!("{} in {}", shown(&example.text()), line_of(example.place, files))
            });
            format!(
                "'{name}' has {one} and {other}, which are two versions or one number. Nothing in the data tells \
                 which: {}.",
                ways.join(" or ")
            )
        }
    }
}
