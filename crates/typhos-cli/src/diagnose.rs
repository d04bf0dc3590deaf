//! Mistakes in a schema file, shown as a compiler would: the line, a caret, and what to do.

use std::path::Path;

use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use typhos_core::filter::FilterError;
use typhos_core::schema::{Diagnostic, Schema, read};

use crate::outcome::Failure;

/// Reads a schema file.
pub fn read_schema(path: &Path) -> Result<(Schema, String), Failure> {
    let bytes = std::fs::read(path)
        .map_err(|error| Failure::Machine(format!("{}: {error}", path.display())))?;
    let source = String::from_utf8(bytes).map_err(|error| {
        let line = 1 + error.as_bytes()[..error.utf8_error().valid_up_to()]
            .iter()
            .filter(|b| **b == b'\n')
            .count();
        Failure::Schema(format!(
            "error: {}, line {line}: a schema file is written in UTF-8",
            path.display()
        ))
    })?;
    match read(&source) {
        Ok(schema) => Ok((schema, source)),
        Err(wrong) => Err(Failure::Schema(show(&wrong, &source, path))),
    }
}

/// A question that cannot be asked.
pub fn question(source: &str, error: &FilterError) -> String {
    let wrong = Diagnostic::new(error.span.clone(), &error.message);
    show(&[wrong], source, Path::new("--where"))
}

/// All mistakes, one after another, and how many there are.
pub fn show(wrong: &[Diagnostic], source: &str, path: &Path) -> String {
    let renderer = Renderer::styled();
    let path = path.display().to_string();
    let mut texts: Vec<String> = wrong
        .iter()
        .map(|diagnostic| {
            let start = diagnostic.span.start.min(source.len());
            let end = diagnostic.span.end.clamp(start, source.len());
            let mark = AnnotationKind::Primary.span(start..end);
            let snippet = Snippet::source(source).path(&path).annotation(mark);
            let mut group = Level::ERROR.primary_title(&diagnostic.message).element(snippet);
            if let Some(help) = &diagnostic.help {
                group = group.element(Level::HELP.message(help));
            }
            renderer.render(&[group])
        })
        .collect();
    if wrong.len() > 1 {
        texts.push(format!("{} mistakes in {path}", wrong.len()));
    }
    texts.join("\n\n")
}
