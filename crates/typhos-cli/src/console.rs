//! Where results and notes go, and what the terminal can show.
//!
//! Results go to standard output, notes to standard error. What a person reads goes through one [`door`], which lets
//! letters and our own styles through and escapes everything else; colour is stripped where it cannot be shown or
//! is not wanted. What a program reads (SQL, TOML, JSON) goes past both, byte for byte.

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
    /// Whether who read the results has seen enough: long ones need not be made to their end.
    pub is_closed: bool,
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
            is_closed: false,
        }
    }

    /// Writes a line of results for a person.
    ///
    /// # Errors
    /// A standard output that cannot be written to. One that is closed is none: whoever read it has seen enough, and
    /// what the command found decides how it ends.
    pub fn say(&mut self, line: impl AsRef<str>) -> io::Result<()> {
        let written = writeln!(self.out, "{}", door(line.as_ref()));
        self.unless_closed(written)
    }

    /// Writes a line beside the results.
    ///
    /// # Errors
    /// As [`say`](Self::say).
    pub fn note(&mut self, line: impl AsRef<str>) -> io::Result<()> {
        if self.tone.quiet {
            return Ok(());
        }
        unless_closed(writeln!(self.err, "{}", door(line.as_ref())))
    }

    /// Writes a text that another program reads, byte for byte: no colours are put in, and nothing is taken out. Only
    /// a terminal is shown it with its control characters escaped.
    ///
    /// # Errors
    /// As [`say`](Self::say).
    pub fn machine(&mut self, text: &str) -> io::Result<()> {
        let text = if self.is_terminal() { safe_lines(text) } else { text.to_owned() };
        let mut out = io::stdout().lock();
        let written = writeln!(out, "{text}").and_then(|()| out.flush());
        self.unless_closed(written)
    }

    /// Writes a JSON document as a result. Control characters are in it as escapes only.
    ///
    /// # Errors
    /// As [`say`](Self::say).
    pub fn json(&mut self, value: &serde_json::Value) -> io::Result<()> {
        self.machine(&escaped_json(value))
    }

    /// Writes a JSON document with a long list in it, which is empty in `head` and never held as a whole.
    ///
    /// # Errors
    /// As [`say`](Self::say).
    pub fn json_list(
        &mut self,
        head: &serde_json::Value,
        key: &str,
        entries: impl Iterator<Item = serde_json::Value>,
    ) -> io::Result<()> {
        let head = escaped_json(head);
        let empty = format!("\"{key}\": []");
        let (before, behind) = head.split_once(&empty).expect("the list is empty in the head");
        let mut out = io::BufWriter::new(io::stdout().lock());
        let written = (|| {
            write!(out, "{before}\"{key}\": [")?;
            let mut has_entries = false;
            for entry in entries {
                let comma = if has_entries { "," } else { "" };
                let entry = escaped_json(&entry).replace('\n', "\n    ");
                write!(out, "{comma}\n    {entry}")?;
                has_entries = true;
            }
            writeln!(out, "{}]{behind}", if has_entries { "\n  " } else { "" })?;
            out.flush()
        })();
        unless_closed(written)
    }

    /// As [`unless_closed`], of results.
    fn unless_closed(&mut self, written: io::Result<()>) -> io::Result<()> {
        let kind = written.as_ref().err().map(io::Error::kind);
        self.is_closed |= kind == Some(io::ErrorKind::BrokenPipe);
        unless_closed(written)
    }

    /// Whether results are shown on a terminal.
    pub fn is_terminal(&self) -> bool {
        self.width.is_some()
    }

    /// Sends what is written on its way.
    ///
    /// # Errors
    /// As [`say`](Self::say).
    pub fn flush(&mut self) -> io::Result<()> {
        unless_closed(self.out.flush())?;
        unless_closed(self.err.flush())
    }
}

fn unless_closed(written: io::Result<()>) -> io::Result<()> {
    match written {
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(()),
        written => written,
    }
}

/// A JSON document with the control characters escaped that the format would let stand: those beyond ASCII.
fn escaped_json(value: &serde_json::Value) -> String {
    let text = format!("{value:#}");
    if !text.contains(|letter: char| letter.is_control() && letter != '\n') {
        return text;
    }
    // Outside of texts there are no control characters but line ends, and inside there are no line ends.
    text.chars().fold(String::with_capacity(text.len()), |mut escaped, letter| {
        if letter.is_control() && letter != '\n' {
            escaped.push_str(&format!("\\u{:04x}", u32::from(letter)));
        } else {
            escaped.push(letter);
        }
        escaped
    })
}

/// Whether a terminal would do something else with a letter than show it: move its cursor, change how it looks, or
/// turn the direction of what follows.
fn is_unsafe(letter: char) -> bool {
    letter.is_control()
        || matches!(letter, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

/// Data for a terminal: control characters escaped, so that no file can move the cursor.
pub fn safe(text: &str) -> String {
    if !text.contains(is_unsafe) {
        return text.to_owned();
    }
    text.chars().fold(String::new(), |mut safe, letter| {
        if is_unsafe(letter) {
            // Short where there is a short one: \t, \n, \r.
            if letter.is_control() {
                safe.extend(letter.escape_default());
            } else {
                safe.extend(letter.escape_unicode());
            }
        } else {
            safe.push(letter)
        }
        safe
    })
}

/// A text of several lines for a terminal: as [`safe`], and its lines stay lines.
pub fn safe_lines(text: &str) -> String {
    text.split('\n').map(safe).collect::<Vec<_>>().join("\n")
}

/// A path for a terminal.
pub fn path(path: &std::path::Path) -> String {
    safe(&path.display().to_string())
}

/// What our own styles are made of.
const STYLES: [&str; 14] = [
    "\x1b[0m",
    "\x1b[1m",
    "\x1b[2m",
    "\x1b[22m",
    "\x1b[31m",
    "\x1b[32m",
    "\x1b[33m",
    "\x1b[36m",
    "\x1b[39m",
    "\x1b[38;5;3m",
    "\x1b[38;5;6m",
    "\x1b[91m",
    "\x1b[94m",
    "\x1b[96m",
];

/// The one door to a terminal: nothing passes but letters, line ends and our own styles. Whatever was forgotten to be
/// made [`safe`] is made so here.
pub fn door(text: &str) -> String {
    if !text.contains(|letter: char| is_unsafe(letter) && letter != '\n') {
        return text.to_owned();
    }
    let mut passed = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(letter) = rest.chars().next() {
        let style =
            (letter == '\x1b').then(|| STYLES.iter().find(|style| rest.starts_with(**style)));
        let length = match style.flatten() {
            Some(style) => {
                passed.push_str(style);
                style.len()
            }
            None if is_unsafe(letter) && letter != '\n' => {
                passed.push_str(&safe(letter.encode_utf8(&mut [0; 4])));
                letter.len_utf8()
            }
            None => {
                passed.push(letter);
                letter.len_utf8()
            }
        };
        rest = &rest[length..];
    }
    passed
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
        assert_eq!(safe("a\u{9b}b\u{7f}\u{202e}"), "a\\u{9b}b\\u{7f}\\u{202e}");
        assert_eq!(safe_lines("a\x1b[2J\nb\r"), "a\\u{1b}[2J\nb\\r");
    }

    #[test]
    fn nothing_but_letters_and_our_styles_passes_the_door() {
        let line = format!("{}  {}", paint(BOLD, "Tårnvik"), paint(WARN, "x"));
        assert_eq!(door(&line), line);
        for style in [DIM, BOLD, FOUND, GOOD, WARN] {
            assert_eq!(door(&paint(style, "x")), paint(style, "x"));
        }
        assert_eq!(door("a\x1b]0;title\x07b"), "a\\u{1b}]0;title\\u{7}b");
        assert_eq!(door("a\x1b[2Jb\u{9b}31m\nc"), "a\\u{1b}[2Jb\\u{9b}31m\nc");
    }

    #[test]
    fn control_characters_are_in_json_as_escapes_only() {
        let value = serde_json::json!({ "a\u{9b}": "b\u{7f}\x1b\n" });
        let text = escaped_json(&value);
        assert!(!text.contains(|c: char| c.is_control() && c != '\n'), "{text}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&text).unwrap(), value);
    }
}
