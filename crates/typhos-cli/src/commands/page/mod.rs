//! `typhos report`: one page of HTML, of an input, of a check and its ledger, or of two schemas. It needs nothing beside itself: no script, no network,
//! and nothing in it is done by what stands in the data, which is escaped wherever it is shown.

mod checked;
mod columns;
mod compared;

use std::path::PathBuf;

use maud::{DOCTYPE, Markup, PreEscaped, html};

use typhos_core::infer::grouped;

use super::compare;
use super::look::{Extent, look};
use crate::args::{Common, Report, RuleArgs};
use crate::console::{self, Console, GOOD, WARN, paint};
use crate::outcome::{Failure, Outcome};

const STYLE: &str = include_str!("style.css");

/// Nothing is loaded, and nothing runs, whatever a page says.
const POLICY: &str =
    "default-src 'none'; style-src 'unsafe-inline'; base-uri 'none'; form-action 'none'";

/// What stands on a page.
struct Page {
    title: String,
    /// Below the title.
    about: String,
    /// The numbers that are to be seen first.
    tiles: Vec<(String, &'static str)>,
    /// What has to be looked at.
    warnings: Vec<String>,
    /// Headings, what they are called in links, and what is below them.
    sections: Vec<(&'static str, String, Markup)>,
}

pub fn run(args: &Report, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    let first = &args.what[0];
    if args.what.len() == 1 && compare::is_schema(first) {
        return Err(Failure::Usage(format!(
            "give the files to report on: typhos report {} INPUT",
            first.display()
        )));
    }
    let path = match &args.output {
        Some(path) => path.clone(),
        None => default_name(&args.what),
    };
    typhos_load::refuse_existing(&path, args.replace)?;
    let (page, has_misfits) = match compare::is_schema(first) {
        true if args.what.get(1).is_some_and(|second| compare::is_schema(second)) => {
            let compared = compare::compared(first, &args.what[1..], &args.input, common, console)?;
            (compared::page(&compared), !compared.found.is_empty())
        }
        true => checked::page(first, &args.what[1..], &args.input, &path, common, console)?,
        false => {
            let rules = RuleArgs::default();
            let written = Some(path.as_path());
            let looked = look(&args.what, &args.input, &rules, None, written, Extent::All, common)?;
            (columns::page(&looked), looked.examined.survey.broken > 0)
        }
    };
    let text = page.html().into_string();
    typhos_load::write_file(&path, args.replace, text.as_bytes())?;
    let size = console::bytes(text.len() as u64);
    console.note(format!("{} {}  {size}", paint(GOOD, "wrote"), console::path(&path)))?;
    for warning in &page.warnings {
        console.note(paint(WARN, console::safe(warning)))?;
    }
    Ok(Outcome::objecting_if(has_misfits))
}

/// The page of an input is called after it.
fn default_name(what: &[PathBuf]) -> PathBuf {
    let named = if what.len() == 2 { &what[1] } else { &what[0] };
    let stem = super::table_name([&*named.to_string_lossy()]);
    PathBuf::from(format!("{stem}.html"))
}

/// A figure and what it counts, of one and of several.
fn tile(number: u64, one: &'static str, several: &'static str) -> (String, &'static str) {
    (grouped(number), if number == 1 { one } else { several })
}

impl Page {
    fn html(&self) -> Markup {
        html! {
            (DOCTYPE)
            html lang="en" {
                head {
                    meta charset="utf-8";
                    meta http-equiv="Content-Security-Policy" content=(POLICY);
                    meta name="viewport" content="width=device-width, initial-scale=1";
                    meta name="referrer" content="no-referrer";
                    title { (self.title) }
                    link rel="icon" href="data:,";
                    style { (PreEscaped(STYLE)) }
                }
                body {
                    a.skip href="#main" { "To what was found" }
                    header {
                        h1 { (self.title) }
                        p.soft { (self.about) }
                        ul.tiles {
                            @for (number, what) in &self.tiles { li { b { (number) } (what) } }
                        }
                    }
                    main id="main" {
                        @for warning in &self.warnings { p.warn { (warning) } }
                        @if self.sections.len() > 1 {
                            nav aria-label="Parts of this page" {
                                p.soft {
                                    @for (at, (id, name, _)) in self.sections.iter().enumerate() {
                                        @if at > 0 { " · " }
                                        a href={ "#" (id) } { (name) }
                                    }
                                }
                            }
                        }
                        @for (id, name, inner) in &self.sections {
                            section aria-labelledby=(id) { h2 id=(id) { (name) } (inner) }
                        }
                    }
                    footer { "Made by typhos " (env!("CARGO_PKG_VERSION")) ". Nothing on this page is loaded from elsewhere." }
                }
            }
        }
    }
}

/// A text without the styles of a terminal.
fn plain(text: &str) -> String {
    anstream::adapter::strip_str(text).to_string()
}

/// A value that is shown, cut where it is longer than anybody reads.
fn short(text: &str) -> String {
    crate::table::cut(text, 160)
}

/// A part of a whole as a bar, with its number in words for who does not see it.
fn meter(part: u64, whole: u64, class: &str, what: &str) -> Markup {
    let share = part as f64 / whole.max(1) as f64 * 100.0;
    html! {
        span class={ "meter " (class) } role="img" aria-label=(what) {
            i style=(format!("width:{share:.2}%")) {}
        }
    }
}
