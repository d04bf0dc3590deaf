//! Where results and notes go, and what the terminal can show.
//!
//! Results go to standard output, notes to standard error. On a terminal, control characters of data
//! are escaped; colour is stripped where it cannot be shown or is not wanted.

use std::io::{self, IsTerminal, Write};

use anstyle::{AnsiColor, Style};

/// Words of little weight.
pub const DIM: Style = Style::new().dimmed();
/// Headings.
pub const BOLD: Style = Style::new().bold();
/// Types, and what was found.
pub const FOUND: Style = AnsiColor::Cyan.on_default();
/// Things that went well.
pub const GOOD: Style = AnsiColor::Green.on_default();
/// Things to look at.
pub const WARN: Style = AnsiColor::Yellow.on_default();

/// Columns assumed where the terminal does not say.
const USUAL_WIDTH: usize = 100;

/// What was asked of the output as a whole.
#[derive(Debug, Clone, Copy, Default)]
pub struct Tone {
    /// Results only: no notes, no progress.
    pub quiet: bool,
}

/// The two streams.
pub struct Console {
    out: Box<dyn Write>,
    err: Box<dyn Write>,
    /// Columns of the terminal; `None` where results go elsewhere and may be as wide as they are.
    pub width: Option<usize>,
    pub tone: Tone,
}

impl Console {
    /// The streams of the process.
    pub fn of_process(tone: Tone) -> Console {
        let width = io::stdout().is_terminal().then(|| {
            terminal_size::terminal_size()
                .map_or(USUAL_WIDTH, |(width, _)| usize::from(width.0).max(40))
        });
        Console {
            out: Box::new(anstream::AutoStream::auto(io::stdout())),
            err: Box::new(anstream::AutoStream::auto(io::stderr())),
            width,
            tone,
        }
    }

    /// Writes a line of results.
    pub fn say(&mut self, line: impl AsRef<str>) -> io::Result<()> {
        writeln!(self.out, "{}", line.as_ref())
    }

    /// Writes a line beside the results.
    pub fn note(&mut self, line: impl AsRef<str>) -> io::Result<()> {
        if self.tone.quiet { Ok(()) } else { writeln!(self.err, "{}", line.as_ref()) }
    }

    /// Writes a JSON document as a result.
    pub fn json(&mut self, value: &serde_json::Value) -> io::Result<()> {
        writeln!(self.out, "{value:#}")
    }

    /// Whether results are shown on a terminal.
    pub fn is_terminal(&self) -> bool {
        self.width.is_some()
    }

    /// Sends what is written on its way.
    pub fn flush(&mut self) -> io::Result<()> {
        self.out.flush()?;
        self.err.flush()
    }
}

/// Data for a terminal: control characters escaped, so that no file can move the cursor.
pub fn safe(text: &str) -> String {
    if !text.chars().any(|letter| letter.is_control()) {
        return text.to_owned();
    }
    text.chars().fold(String::new(), |mut safe, letter| {
        if letter.is_control() {
            safe.extend(letter.escape_default())
        } else {
            safe.push(letter)
        }
        safe
    })
}

/// `text`, styled.
pub fn paint(style: Style, text: impl AsRef<str>) -> String {
    format!("{style}{}{style:#}", text.as_ref())
}

/// A number of bytes for a person, by thousands.
pub fn bytes(count: u64) -> String {
    let mut size = count as f64;
    for unit in ["bytes", "kB", "MB", "GB"] {
        if size < 1000.0 || unit == "GB" {
            let digits = usize::from(unit != "bytes" && size < 100.0);
            return format!("{size:.digits$} {unit}");
        }
        size /= 1000.0;
    }
    unreachable!("the last unit takes any size")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_told_by_thousands() {
        for (count, want) in [
            (0, "0 bytes"),
            (999, "999 bytes"),
            (1000, "1.0 kB"),
            (123_456, "123 kB"),
            (5_000_000_000_000, "5000 GB"),
        ] {
            assert_eq!(bytes(count), want);
        }
    }

    #[test]
    fn control_characters_of_data_do_not_reach_the_terminal() {
        assert_eq!(safe("a\u{1b}[2Jb\n"), "a\\u{1b}[2Jb\\n");
        assert_eq!(safe("Tårnvik"), "Tårnvik");
    }
}
