//! Small made-up files, each with one trait that real files have, and the one right answer or question; and
//! beside each what must not be taken for it.
//!
//! An answer is one line: how the file is laid out, and for each column its name, its type and what is
//! asked about it.

mod dates;
mod encodings;
mod files;
mod values;

use std::sync::Arc;

use typhos_core::infer::{About, Rules, decide};
use typhos_core::run::{NoMonitor, RunOptions};
use typhos_core::survey::{Survey, SurveyOptions};
use typhos_core::text::{Input, InputChoice, Memory, delimiter_name};

/// A file, and what is right about it.
pub struct Trait {
    pub name: &'static str,
    pub text: Vec<u8>,
    pub want: &'static str,
}

/// A trait of a file in UTF-8.
pub fn text(name: &'static str, text: &str, want: &'static str) -> Trait {
    Trait { name, text: text.as_bytes().to_vec(), want }
}

/// A trait of the values of one column, `v`, which stand in quotes beside the numbers of their rows.
pub fn column(name: &'static str, values: &[&str], want: &'static str) -> Trait {
    let quoted = |value: &&str| format!("\"{}\"", value.replace('"', "\"\""));
    let rows = values
        .iter()
        .enumerate()
        .map(|(at, value)| format!("{},{}\n", 100 + at * 7, quoted(value)));
    Trait { name, text: format!("n,v\n{}", rows.collect::<String>()).into_bytes(), want }
}

/// The same rows many times, with their number in place of `#`.
pub fn times(count: usize, rows: &str) -> String {
    (0..count).map(|at| rows.replace('#', &(at + 11).to_string())).collect()
}

/// What is found of a text.
pub fn answer(bytes: &[u8], rules: &Rules) -> String {
    let origin = Arc::new(Memory::new("FILE", bytes));
    let mut input = match Input::of(vec![origin], Vec::new(), &InputChoice::default()) {
        Ok(input) => input,
        Err(error) => {
            let remedy = error.remedy().map_or(String::new(), |remedy| format!("; {remedy}"));
            return format!("{error}{remedy}");
        }
    };
    let survey = |input: &Input| {
        Survey::take(input, &SurveyOptions::default(), &RunOptions::default(), &NoMonitor)
            .expect("a survey")
    };
    let mut found = survey(&input);
    if found.columns.iter().any(|column| column.is_malformed())
        && let Some(likely) = input.in_likely_encoding().expect("a file")
    {
        found = survey(&likely);
        input = likely;
    }
    let dialect = input.dialect();
    let mut layout = vec![delimiter_name(dialect.delimiter)];
    let mut say = |is_so: bool, what: String| layout.extend(is_so.then_some(what));
    say(!dialect.header, "headless".into());
    say(dialect.skip > 0, format!("skip {}", dialect.skip));
    say(dialect.skip_below > 0, format!("below {}", dialect.skip_below));
    say(dialect.short_records, "short".into());
    say(dialect.quote != Some(b'"'), "no quotes".into());
    say(dialect.comment.is_some(), "comments".into());
    let end = input.files()[0].end();
    say(end.is_some(), format!("end {}", end.map_or(0, |(lines, _)| lines)));
    let encoding = input.encoding().to_lowercase();
    say(encoding != "utf-8", encoding);
    say(input.finding().encoding.starts_with("likely"), "likely".into());
    say(found.broken > 0, format!("broken {}", found.broken));
    let columns =
        decide(&found, rules).into_iter().zip(&found.source.names).map(|(decision, name)| {
            let ty = decision.ty.to_string();
            // How long a text may be is no matter here.
            let ty = if ty.starts_with("text(") { "text" } else { &ty };
            let about = decision.question.map_or("", |question| match question.about {
                About::Dates => " order?",
                About::Marks => " mark?",
                About::Sides => " side?",
                About::SameNumber(_) => " versions?",
            });
            let patterns: Vec<_> =
                decision.patterns.iter().map(|(pattern, _)| pattern.clone()).collect();
            let patterns = if patterns.is_empty() {
                String::new()
            } else {
                format!(" {}", patterns.join(" + "))
            };
            format!("{name}: {ty}{patterns}{about}")
        });
    format!("{} | {}", layout.join(" "), columns.collect::<Vec<_>>().join(" | "))
}

/// Every trait of a table that is not answered rightly.
pub fn wrong(traits: Vec<Trait>) -> Vec<String> {
    let rules = Rules { headroom: 1.0, ..Rules::default() };
    let told = |one: &Trait| {
        let found = answer(&one.text, &rules);
        let want = if one.want.contains('|') || one.want.starts_with("FILE") {
            one.want.to_owned()
        } else {
            format!("comma | n: uint8 | v: {}", one.want)
        };
        (found != want).then(|| format!("{}:\n  found {found}\n  want  {want}", one.name))
    };
    traits.iter().filter_map(told).collect()
}

#[test]
fn every_value_is_read_as_what_it_is() {
    let wrong = wrong(values::traits());
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn every_date_is_read_as_what_it_is() {
    let wrong = wrong(dates::traits());
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn every_file_is_split_as_it_is_written() {
    let wrong = wrong(files::traits());
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn every_encoding_is_found_or_told() {
    let wrong = wrong(encodings::traits());
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn there_are_traits_enough() {
    let all = values::traits().len()
        + dates::traits().len()
        + files::traits().len()
        + encodings::traits().len();
    assert!(all >= 120, "{all}");
}
