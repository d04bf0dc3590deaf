//! Mistakes in a schema file, shown as a compiler would: the line, a caret, and what to do.

use std::fs::File;
use std::io::Read;
use std::path::Path;

use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use typhos_core::infer::counted;
use typhos_core::read_schema as read;
use typhos_core::schema::{Diagnostic, Schema};
use typhos_core::terms::PhraseError;

use crate::console::{self, safe_lines};
use crate::outcome::Failure;

/// The most bytes of a schema file: a hundred thousand columns with a line each are about a tenth of it.
const MOST_BYTES: u64 = 64 << 20;

/// Reads a schema file.
pub fn read_schema(path: &Path) -> Result<(Schema, String), Failure> {
    let mut bytes = Vec::new();
    File::open(path)
        .and_then(|file| file.take(MOST_BYTES + 1).read_to_end(&mut bytes))
        .map_err(|error| Failure::Machine(format!("{}: {error}", path.display())))?;
    let is_schema = |line: &[u8]| {
        let line = line.trim_ascii_start();
        let line = line.strip_prefix(b"\"").or(line.strip_prefix(b"'")).unwrap_or(line);
        line.starts_with(b"typhos") || line.starts_with(b"[columns")
    };
    let why = match bytes.split(|byte| *byte == b'\n').any(is_schema) {
        true if bytes.len() as u64 > MOST_BYTES => Some("it has more than 64 MiB"),
        true => None,
        // Most likely it is the data, and the two were exchanged.
        false => Some("no line of it says typhos = 1"),
    };
    if let Some(why) = why {
        return Err(Failure::Schema(format!(
            "error: {} is not a schema file: {why}\n\
             The schema stands before the data; 'typhos draft' writes one from data.",
            console::path(path)
        )));
    }
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

/// Something typed that is not understood; `option` is where it was typed.
pub fn phrase(source: &str, option: &str, error: &PhraseError) -> String {
    let wrong = Diagnostic::new(error.span.clone(), &error.message);
    show(&[wrong], source, Path::new(option))
}

/// The most mistakes that are shown.
const MOST_SHOWN: usize = 20;

/// The most bytes of a line that are shown on each side of a mistake.
const MOST_BESIDE: usize = 200;

/// The first mistakes, one after another, and how many there are.
pub fn show(wrong: &[Diagnostic], source: &str, path: &Path) -> String {
    let renderer = Renderer::styled();
    let path = console::path(path);
    let mut texts: Vec<String> = wrong
        .iter()
        .take(MOST_SHOWN)
        .map(|diagnostic| {
            let Excerpt { text, line, start, end } = Excerpt::of(source, diagnostic);
            let mark = AnnotationKind::Primary.span(start..end);
            let snippet = Snippet::source(text).line_start(line).path(&path).annotation(mark);
            let message = safe_lines(&diagnostic.message);
            let mut group = Level::ERROR.primary_title(message).element(snippet);
            if let Some(help) = &diagnostic.help {
                group = group.element(Level::HELP.message(safe_lines(help)));
            }
            renderer.render(&[group])
        })
        .collect();
    let hidden = wrong.len().saturating_sub(MOST_SHOWN);
    if hidden > 0 {
        texts.push(format!("… and {}", counted(hidden as u64, "more mistake")));
    }
    if wrong.len() > 1 {
        texts.push(format!("{} in {path}", counted(wrong.len() as u64, "mistake")));
    }
    texts.join("\n\n")
}

/// The part of a source that a mistake is shown in: its lines, cut on both sides where they are long.
struct Excerpt {
    text: String,
    /// Number of its first line.
    line: usize,
    /// Where the mistake stands in it, in bytes.
    start: usize,
    end: usize,
}

impl Excerpt {
    fn of(source: &str, diagnostic: &Diagnostic) -> Excerpt {
        let start = source.floor_char_boundary(diagnostic.span.start.min(source.len()));
        let end = source.ceil_char_boundary(diagnostic.span.end.clamp(start, source.len()));
        // A mistake that goes on and on is marked where it begins.
        let end = end.min(source.floor_char_boundary(start + MOST_BESIDE)).max(start);
        let line_start = source[..start].rfind('\n').map_or(0, |at| at + 1);
        let line_end = source[end..].find('\n').map_or(source.len(), |at| end + at);
        let from = line_start.max(source.ceil_char_boundary(start.saturating_sub(MOST_BESIDE)));
        let to = line_end.min(source.floor_char_boundary(end + MOST_BESIDE));
        let ellipsis = |is_cut: bool| if is_cut { "…" } else { "" };
        let before = ellipsis(from > line_start);
        let text = format!("{before}{}{}", shown(&source[from..to]), ellipsis(to < line_end));
        let place = |at: usize| before.len() + shown(&source[from..at]).len();
        Excerpt {
            text,
            line: 1 + source[..line_start].matches('\n').count(),
            start: place(start),
            end: place(end),
        }
    }
}

/// A text with its control characters as one letter each, but for line ends and tabs.
fn shown(text: &str) -> String {
    text.replace(|letter: char| letter.is_control() && !matches!(letter, '\n' | '\t'), "\u{fffd}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_are_cut_around_a_mistake() {
        let source =
            format!("a = 1\nb = [{}Å, wrong, {}]\nc = 2\n", "x, ".repeat(900), "y, ".repeat(900));
        let at = source.find("wrong").unwrap();
        let excerpt = Excerpt::of(&source, &Diagnostic::new(at..at + 5, "m"));
        assert_eq!((excerpt.line, &excerpt.text[excerpt.start..excerpt.end]), (2, "wrong"));
        assert!(excerpt.text.len() < 3 * MOST_BESIDE && !excerpt.text.contains('\n'));
        let told = show(&[Diagnostic::new(at..at + 5, "m")], &source, Path::new("s.toml"));
        assert!(told.contains("s.toml:2:") || told.contains("s.toml"), "{told}");
    }

    #[test]
    fn of_many_mistakes_the_first_are_shown() {
        let wrong: Vec<_> = (0..1000).map(|_| Diagnostic::new(0..1, "m")).collect();
        let told = show(&wrong, "a = 1\n", Path::new("s.toml"));
        assert!(
            told.contains("… and 980 more mistakes") && told.ends_with("1,000 mistakes in s.toml"),
            "{told}"
        );
    }
}
