//! What scouting and drafting have in common: an input or saved surveys, looked at under the rules of
//! the house.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

use typhos_core::infer::Examined;
use typhos_core::records::Holds;
use typhos_core::schema::Schema;
use typhos_core::survey::{
    Absent, ColumnFacts, PoolError, Pooling, Survey, SurveyHead, SurveyOptions, is_survey,
};
use typhos_core::text::{Input, InputChoice, Part};
use typhos_core::wording::listed;
use typhos_files::store;
use typhos_load::{Named, keep_apart};

use super::first;
use crate::args::{Common, InputArgs, RuleArgs};
use crate::outcome::Failure;
use crate::report::InputReport;
use crate::settings::Settings;

/// A survey, examined under the rules of the house.
pub struct Looked {
    pub examined: Examined,
    /// The input; `None` where the survey was saved.
    pub input: Option<Input>,
    pub settings: Settings,
    /// The columns that are wanted, by their position.
    pub columns: Vec<usize>,
}

impl Looked {
    /// What reports tell of the input, be it at hand or what a saved survey was of.
    pub fn report(&self) -> InputReport {
        match &self.input {
            Some(input) => InputReport::of(input),
            None => InputReport::of_saved(&self.examined.survey.source),
        }
    }
}

/// Which columns are looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Extent {
    /// All of them: a survey that is saved, or one column that is seen in the light of the others.
    All,
    /// Those that are wanted. The others cost splitting only, and prove nothing.
    Wanted,
    /// The same, where nothing is to be declared of them.
    Shown,
    /// All of them, in one part of the input, which may be said to begin at this byte of its file.
    Part(Part, Option<u64>),
}

/// Surveys an input, or reads surveys of one. What a schema that is to be kept says of its input holds
/// where nothing is typed. What will be written must be none of what is read.
pub fn look(
    inputs: &[PathBuf],
    typed: &InputArgs,
    rules: &RuleArgs,
    kept: Option<&Schema>,
    written: Option<&Path>,
    extent: Extent,
    common: &Common,
) -> Result<Looked, Failure> {
    let written: Vec<Named<'_>> = written.iter().map(|path| ("the output", *path)).collect();
    let first = inputs.first().map(PathBuf::as_path).filter(|path| path.as_os_str() != "-");
    let settings = Settings::gather(rules, first)?;
    let (survey, input) = if first.is_some_and(is_survey_file) {
        if typed.choice() != InputChoice::default() || rules.rows.is_some() {
            return Err(Failure::Usage(
                "a saved survey is not read again: options about the input go with 'scout --save'"
                    .into(),
            ));
        }
        keep_apart(&named(inputs, "a survey"), &written)?;
        let survey = read_surveys(inputs)?;
        agree(&survey, &settings)?;
        (survey, None)
    } else {
        let choice = match kept {
            Some(schema) => typed.choice().or(&schema.input_choice()),
            None => typed.choice(),
        };
        // Columns can be named, and a sample be taken, where all names are known.
        let is_part = matches!(extent, Extent::Part(..));
        let is_first =
            rules.only.is_empty() && rules.without.is_empty() && rules.rows.is_none() && !is_part;
        let mut input = match extent {
            Extent::Part(part, begin) => {
                let mut input = super::open_part(inputs, &choice, part, begin)?;
                super::learn(&mut input, kept, common)?;
                input
            }
            _ if is_first => first::open(inputs, &choice, kept, Holds::All, common)?,
            _ => super::open(inputs, &choice, kept, common)?,
        };
        let read: Vec<_> = input.files().iter().filter_map(|file| file.path()).collect();
        keep_apart(&named(&read, "an input"), &written)?;
        let declared = kept.and_then(|schema| schema.input.absent.clone());
        let absent = settings.house.absent.clone().or(declared).unwrap_or_default();
        let wanted = wanted(input.names(), rules)?;
        let all = 0..input.names().len();
        let unseen = match extent {
            Extent::All | Extent::Part(..) => Vec::new(),
            Extent::Wanted | Extent::Shown => {
                all.filter(|at| wanted.binary_search(at).is_err()).collect()
            }
        };
        let options = SurveyOptions {
            absent: Absent::Everywhere(absent),
            unseen,
            quoted: settings.rules().quoted_text,
            rows: rules.rows,
            only_shown: extent == Extent::Shown,
        };
        let mut survey = match is_first {
            true => first::survey(&mut input, kept, &options, common)?,
            false => super::survey(&input, &options, common)?,
        };
        if is_malformed(&survey)
            && let Some(mut likely) = input.in_likely_encoding()?
        {
            if let Some((part, _)) = input.part() {
                return Err(Failure::Refused(format!(
                    "part {part} has bytes that are not valid UTF-8, and all parts have to be read in one encoding: say which \
                     with --encoding, most likely {}",
                    likely.encoding().to_lowercase()
                )));
            }
            super::learn(&mut likely, kept, common)?;
            survey = super::survey(&likely, &options, common)?;
            input = likely;
        }
        (survey, Some(input))
    };
    let rules_of_house = settings.rules();
    for (name, _) in &rules_of_house.date_orders {
        find(name, &survey)?;
    }
    let columns = wanted(&survey.source.names, rules)?;
    let threads = common.run_options().threads;
    let examined = Examined::of(survey, rules_of_house, threads);
    Ok(Looked { examined, input, settings, columns })
}

/// Whether values are not valid in the encoding that was read.
fn is_malformed(survey: &Survey) -> bool {
    survey.columns.iter().any(ColumnFacts::is_malformed)
}

/// Paths that are all the same to a run.
pub fn named<'p>(paths: &'p [impl AsRef<Path>], what: &'static str) -> Vec<Named<'p>> {
    paths.iter().map(|path| (what, path.as_ref())).collect()
}

/// Whether a file is a saved survey. What cannot be read is none, and the error comes when it is opened.
fn is_survey_file(path: &Path) -> bool {
    if store::is_url(path) {
        // An object is not looked into before it is known to be wanted.
        return path.extension().is_some_and(|extension| extension == "survey");
    }
    let mut head = [0; 32];
    let is_file = path.metadata().is_ok_and(|about| about.is_file());
    is_file
        && File::open(path)
            .and_then(|mut file| file.read(&mut head))
            .is_ok_and(|_| is_survey(&head))
}

/// Paths with those that are patterns or folders of a store replaced by the objects they stand for.
pub fn expanded(paths: &[PathBuf]) -> Result<Vec<PathBuf>, Failure> {
    let mut found = Vec::new();
    for path in paths {
        match path.to_str().filter(|url| store::is_object(path) && store::is_several(url)) {
            Some(url) => {
                let names = store::names(url).map_err(of_file(path))?;
                found.extend(names.into_iter().map(PathBuf::from));
            }
            None => found.push(path.clone()),
        }
    }
    Ok(found)
}

/// What saved surveys say of themselves.
pub fn read_heads(paths: &[PathBuf]) -> Result<Vec<SurveyHead>, Failure> {
    paths.iter().map(|path| SurveyHead::load(open_survey(path)?).map_err(of_file(path))).collect()
}

/// Reads saved surveys, one at a time, and pools them.
pub fn read_surveys(paths: &[PathBuf]) -> Result<Survey, Failure> {
    let pooling = Pooling::plan(&read_heads(paths)?).map_err(|error| not_pooled(&error))?;
    pool(pooling, |at| read_survey(&paths[at]))
}

/// Reads surveys, one at a time, and pools them as it was planned.
pub fn pool(
    mut pooling: Pooling,
    read: impl Fn(usize) -> Result<Survey, Failure>,
) -> Result<Survey, Failure> {
    for at in pooling.order().to_vec() {
        pooling.add(at, read(at)?).map_err(|error| not_pooled(&error))?;
    }
    Ok(pooling.finish())
}

/// Why surveys cannot be pooled, and what to do about it.
pub fn not_pooled(error: &PoolError) -> Failure {
    match error {
        PoolError::Begin { part, before: Some((_, ended)), .. } => {
            Failure::Refused(format!("{error}; scout part {part} again, with --begin {ended}"))
        }
        PoolError::Missing(_) => {
            Failure::Refused(format!("{error}: a survey of parts is pooled from all of them"))
        }
        PoolError::Begin { .. } | PoolError::NotTheWhole => Failure::Refused(error.to_string()),
        _ => Failure::Usage(error.to_string()),
    }
}

/// Reads one saved survey.
pub fn read_survey(path: &Path) -> Result<Survey, Failure> {
    Survey::load(open_survey(path)?).map_err(of_file(path))
}

fn open_survey(path: &Path) -> Result<Box<dyn Read>, Failure> {
    match path.to_str().filter(|_| store::is_url(path)) {
        Some(url) => match store::open_object(url) {
            Ok(bytes) => Ok(Box::new(bytes)),
            Err(error) => Err(of_file(path)(error)),
        },
        None => Ok(Box::new(File::open(path).map_err(of_file(path))?)),
    }
}

fn of_file<E: std::fmt::Display>(path: &Path) -> impl Fn(E) -> Failure {
    move |error| Failure::Machine(format!("{}: {error}", path.display()))
}

/// A survey has to have been taken under the settings that it is now used with.
fn agree(survey: &Survey, settings: &Settings) -> Result<(), Failure> {
    let said = settings.house.absent.clone().unwrap_or_default();
    if said != survey.absent && !said.is_empty() {
        let taken = match &survey.absent[..] {
            [] => "only blank fields".to_owned(),
            texts => listed(texts),
        };
        return Err(Failure::Usage(format!(
            "the survey was taken with {taken} for absent values, not {}; scout again with the same \
             --absent",
            listed(&said)
        )));
    }
    if settings.rules().quoted_text && !survey.quoted {
        return Err(Failure::Usage(
            "the survey did not look for values in quotes; scout again with --quoted text".into(),
        ));
    }
    Ok(())
}

/// The columns that are wanted, in their order.
fn wanted(names: &[String], rules: &RuleArgs) -> Result<Vec<usize>, Failure> {
    let all = 0..names.len();
    let named = if rules.only.is_empty() { &rules.without } else { &rules.only };
    let places: Vec<usize> =
        named.iter().map(|name| find_in(name, names)).collect::<Result<_, _>>()?;
    Ok(match (rules.only.is_empty(), rules.without.is_empty()) {
        (true, true) => all.collect(),
        (false, _) => all.filter(|at| places.contains(at)).collect(),
        (true, false) => all.filter(|at| !places.contains(at)).collect(),
    })
}

/// The place of a column.
pub fn find(name: &str, survey: &Survey) -> Result<usize, Failure> {
    find_in(name, &survey.source.names)
}

/// The place of a name.
fn find_in(name: &str, names: &[String]) -> Result<usize, Failure> {
    names.iter().position(|known| known == name).ok_or_else(|| {
        let near = match typhos_core::nearest(name, names.iter().map(String::as_str)) {
            Some(near) => format!("; did you mean '{near}'?"),
            None => format!("; its columns are {}", listed(names)),
        };
        Failure::Usage(format!("there is no column '{name}'{near}"))
    })
}
