//! Decisions → a schema, with the evidence as comments.

use std::collections::{HashMap, HashSet};

use super::declare::{declare, with_blank};
use super::names::{Names, Naming};
use super::nesting::{Nested, Nesting, Tree};
use super::{Decision, counted, line_of};
use crate::records::{Step, steps};
use crate::schema::{ColumnDecl, ColumnFrom, Scalar, Schema, write_with};
use crate::survey::Survey;
use crate::text::InputFormat;
use crate::wording::listed;

/// What the objects of a format with nested values become, outside of lists: in there they are structs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Objects {
    /// Each of their members is a column.
    #[default]
    Flat,
    /// Structs.
    Keep,
}

impl Objects {
    /// Reads the word of a command line or a settings file.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Objects, String> {
        let all = [Objects::Flat, Objects::Keep];
        let found = all.into_iter().find(|objects| objects.name() == word);
        found.ok_or_else(|| format!("'{}' is neither flat nor keep", word.escape_debug()))
    }

    /// Its spelling.
    pub fn name(self) -> &'static str {
        match self {
            Objects::Flat => "flat",
            Objects::Keep => "keep",
        }
    }
}

/// What a draft is to be like.
#[derive(Debug, Clone, Default)]
pub struct DraftOptions {
    /// The name of the table.
    pub table: String,
    /// What the columns are called.
    pub naming: Naming,
    /// Which columns there are, by their position; all, where nothing is said.
    pub columns: Option<Vec<usize>>,
    /// What objects become.
    pub objects: Objects,
}

/// A proposed schema, and what to say about it.
#[derive(Debug, Clone)]
pub struct Draft {
    /// The schema.
    pub schema: Schema,
    /// Columns that are left out, as they would be declared, each with the place of the next one that is not.
    pub left_out: Vec<(usize, ColumnDecl)>,
    /// The position in the input of each of its columns.
    pub positions: Vec<usize>,
    /// Lines that stand above it.
    pub heading: Vec<String>,
    /// A comment for every column; may be empty.
    pub comments: Vec<String>,
}

impl Draft {
    /// The draft as the text of a schema file.
    pub fn to_toml(&self) -> String {
        write_with(&self.schema, &self.heading, &self.comments, &self.left_out)
    }
}

/// Drafts the schema of an input from what was decided about its columns.
pub fn draft(survey: &Survey, decisions: &[Decision], wanted: &DraftOptions) -> Draft {
    let source = &survey.source;
    let mut schema = Schema { table: Some(wanted.table.clone()), ..Schema::default() };
    schema.input.choice = source.layout.clone();
    if !survey.absent.is_empty() {
        schema.input.absent = Some(with_blank(&survey.absent));
    }
    let columns = wanted.columns.as_ref();
    let columns = columns.map(|columns| columns.iter().copied().collect::<HashSet<_>>());
    let is_wanted = |at: usize| columns.as_ref().is_none_or(|columns| columns.contains(&at));
    let found = match source.layout.format {
        Some(InputFormat::Json) => nested(survey, decisions, wanted, &is_wanted),
        _ => flat(survey, decisions),
    };
    let mut names = Names::default();
    let mut headers: HashMap<String, u32> = HashMap::new();
    found.iter().for_each(|found| *headers.entry(found.source.clone()).or_default() += 1);
    let (mut comments, mut positions, mut left_out) = (Vec::new(), Vec::new(), Vec::new());
    for Nested { mut column, source: from, comment, position } in found {
        column.name = names.unused(&wanted.naming.name_of(&column.name));
        if !source.is_named || headers[&from] > 1 {
            column.from = Some(ColumnFrom::Position(position + 1));
        } else if column.name != from {
            column.from = Some(ColumnFrom::Name(from));
        }
        if !is_wanted(position) {
            // What was not looked at is decided about by who takes it in again.
            if survey.unseen.binary_search(&position).is_ok() {
                column = ColumnDecl {
                    from: column.from,
                    auto: true,
                    ..ColumnDecl::new(column.name, TEXT)
                };
            }
            // Of very many nobody reads who left them out.
            if left_out.len() < MOST_LEFT_OUT {
                left_out.push((schema.columns.len(), column));
            }
            continue;
        }
        schema.columns.push(column);
        comments.push(comment);
        positions.push(position);
    }
    Draft { heading: heading(survey, &is_wanted), schema, left_out, positions, comments }
}

/// Each column of the input as it was decided.
fn flat(survey: &Survey, decisions: &[Decision]) -> Vec<Nested> {
    let columns = survey.source.names.iter().zip(decisions).enumerate();
    let column = |(position, (name, decision)): (usize, (&String, &Decision))| Nested {
        column: declare(name.clone(), decision, &survey.absent),
        source: name.clone(),
        comment: decision.clauses().join("; "),
        position,
    };
    columns.map(column).collect()
}

/// The columns that the leaves of objects make: those that are wanted, and those that are not.
fn nested(
    survey: &Survey,
    decisions: &[Decision],
    wanted: &DraftOptions,
    is_wanted: &dyn Fn(usize) -> bool,
) -> Vec<Nested> {
    let nesting = Nesting {
        decisions,
        absent: &survey.absent,
        naming: wanted.naming,
        keeps_objects: wanted.objects == Objects::Keep,
        unnest: survey.source.layout.unnest.as_deref().and_then(steps),
    };
    let (mut trees, mut leaves) = ([Tree::default(), Tree::default()], survey.source.names.iter());
    for at in 0..decisions.len() {
        let Some(name) = leaves.next() else { break };
        let path = steps(name).unwrap_or_else(|| vec![Step::Member(name.clone())]);
        trees[usize::from(!is_wanted(at))].add(&path, at);
    }
    let mut found: Vec<_> = trees.iter().flat_map(|tree| nesting.columns(tree)).collect();
    found.sort_by_key(|found| found.position);
    found
}

/// What a column is that nobody looked at.
const TEXT: Scalar = Scalar::Text { most: None };

/// Columns that are left out and still written down, as comments.
const MOST_LEFT_OUT: usize = 1_000;

fn heading(survey: &Survey, is_wanted: &dyn Fn(usize) -> bool) -> Vec<String> {
    let names: Vec<_> = survey.source.files.iter().map(|file| base_name(&file.name)).collect();
    let files = match &names[..] {
        [one] => one.clone(),
        [first, .., last] => format!("{} files, {first} to {last}", names.len()),
        [] => String::new(),
    };
    let records = counted(survey.records, "record");
    let mut heading = vec![if survey.is_sample {
        format!("Drafted by typhos from a sample of {files}: only the first {records}.")
    } else {
        format!("Drafted by typhos from {files}: {records}.")
    }];
    let all = survey.source.names.iter().enumerate();
    let left_out: Vec<String> =
        all.filter(|(at, _)| !is_wanted(*at)).map(|(_, name)| name.clone()).collect();
    if !left_out.is_empty() {
        heading.push(format!("Left out, as wanted: {}.", listed(&left_out)));
    }
    if survey.broken > 0 {
        let first = survey.broken_examples.first();
        let example = first
            .map(|b| format!(": {} {}", line_of(b.place, &survey.files()), b.reason()))
            .unwrap_or_default();
        heading.push(format!(
            "{} cannot be split into columns{example}.",
            counted(survey.broken, "more record")
        ));
        heading.push("To load the others, add misfit = \"reject\" to [input].".into());
    }
    heading
}

fn base_name(path: &str) -> String {
    path.rsplit(['/', '\\']).next().unwrap_or(path).to_owned()
}
