//! Decisions → a schema, with the evidence as comments.

use std::collections::HashSet;

use super::{Decision, counted};
use crate::dates::Pattern;
use crate::schema::{ColumnDecl, From, Schema, write};
use crate::survey::Survey;
use crate::text::{Dialect, Input, InputChoice, InputFile, parse_encoding};

/// A proposed schema, and what to say about it.
#[derive(Debug, Clone)]
pub struct Draft {
    /// The schema.
    pub schema: Schema,
    /// Lines that stand above it.
    pub heading: Vec<String>,
    /// A comment for every column; may be empty.
    pub comments: Vec<String>,
}

impl Draft {
    /// The draft as the text of a schema file.
    pub fn to_toml(&self) -> String {
        write(&self.schema, &self.heading, &self.comments)
    }
}

/// Drafts the schema of an input from what was decided about its columns.
pub fn draft(input: &Input, survey: &Survey, decisions: &[Decision], table: &str) -> Draft {
    let mut schema = Schema { table: Some(table.to_owned()), ..Schema::default() };
    schema.input.choice = layout(input);
    let mut taken = HashSet::new();
    let mut comments = Vec::new();
    for (position, (header, decision)) in input.names().iter().zip(decisions).enumerate() {
        let repeated = input.names().iter().filter(|name| *name == header).count() > 1;
        let name = unused(header, &mut taken);
        let mut column = ColumnDecl::new(name, decision.ty);
        if !input.is_named() || repeated {
            column.from = Some(From::Position(position + 1));
        }
        let compiled = decision.patterns.iter().map(|(pattern, _)| Pattern::compile(pattern));
        column.patterns =
            compiled.map(|pattern| pattern.expect("patterns found are patterns read")).collect();
        column.required = decision.required;
        column.values = decision.values.clone();
        let tokens: Vec<_> =
            decision.absent_tokens.iter().map(|(token, _)| (*token).to_owned()).collect();
        if tokens.iter().any(|token| !token.is_empty()) {
            let mut absent = vec![String::new()];
            absent.extend(tokens.into_iter().filter(|token| !token.is_empty()));
            column.absent = Some(absent);
        }
        schema.columns.push(column);
        comments.push(decision.clauses().join("; "));
    }
    let names: Vec<_> = input.files().iter().map(|file| base_name(&file.name())).collect();
    let files = match &names[..] {
        [one] => one.clone(),
        [first, .., last] => format!("{} files, {first} to {last}", names.len()),
        [] => String::new(),
    };
    let mut heading =
        vec![format!("Drafted by typhos from {files}: {}.", counted(survey.records, "record"))];
    if survey.broken > 0 {
        let first = survey.broken_examples.first();
        let example = first
            .map(|b| format!(": {} {}", super::line_of(b.place, &survey.files), b.reason))
            .unwrap_or_default();
        heading.push(format!(
            "{} cannot be split into columns{example}.",
            counted(survey.broken, "more record")
        ));
        heading.push("To load the others, add misfit = \"reject\" to [input].".into());
    }
    Draft { schema, heading, comments }
}

/// What a schema says of its input: what was said, and what was found that is not as usual. What may
/// differ from file to file is left to be found again.
fn layout(input: &Input) -> InputChoice {
    let dialect = input.dialect();
    let alike = |same: &dyn Fn(&InputFile) -> bool| input.files().iter().all(same);
    let usual = Dialect::RFC_4180;
    let found = InputChoice {
        delimiter: Some(dialect.delimiter),
        quote: Some(dialect.quote).filter(|quote| *quote != usual.quote),
        escape: Some(dialect.escape).filter(|escape| *escape != usual.escape),
        line_ends: Some(dialect.line_ends)
            .filter(|ends| ends.has_cr() && alike(&|file| file.dialect().line_ends == *ends)),
        comment: dialect.comment.map(Some),
        trailing_delimiter: Some(true).filter(|_| alike(&|file| file.dialect().trailing_delimiter)),
        header: Some(dialect.header),
        skip: Some(dialect.skip)
            .filter(|skip| *skip > 0 && alike(&|file| file.dialect().skip == *skip)),
        encoding: parse_encoding(input.encoding()).ok().filter(|encoding| {
            encoding.name() != "UTF-8" && alike(&|file| file.encoding_name() == encoding.name())
        }),
        ..InputChoice::default()
    };
    input.choice().or(&found)
}

fn base_name(path: &str) -> String {
    path.rsplit(['/', '\\']).next().unwrap_or(path).to_owned()
}

/// `name`, or `name_2`, `name_3`… where it is taken.
fn unused(name: &str, taken: &mut HashSet<String>) -> String {
    let mut unused = name.to_owned();
    let mut count = 1;
    while !taken.insert(unused.clone()) {
        count += 1;
        unused = format!("{name}_{count}");
    }
    unused
}
