//! The rejects file: records that were set aside, word for word, with the reason behind each.
//!
//! It is laid out as the source is, with four more columns at the end, so that a mended copy of it
//! can be loaded with the same schema. It appears together with what was loaded, and never in place of an earlier one.

use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use serde_json::json;
use typhos_core::columns::{MisfitValue, Plan, Reason, SetAside};
use typhos_core::json::REJECTED_TEXT;
use typhos_core::schema::REJECTED_COLUMNS;
use typhos_core::text::{Escape, Input};

use crate::error::TargetError;
use crate::whole::WholeFile;
use crate::whole::pending::Pending;

/// Says that the file is UTF-8, where the source was something else: records are kept as they were
/// decoded.
const BOM: &[u8] = b"\xef\xbb\xbf";

/// Opened when the first record is set aside; without one there is no file.
pub struct Rejects<'i> {
    path: PathBuf,
    input: &'i Input,
    columns: Vec<String>,
    open: Option<(WholeFile, BufWriter<std::fs::File>)>,
    /// Bytes before the first record.
    head: u64,
}

impl<'i> Rejects<'i> {
    pub fn new(path: &Path, input: &'i Input, plan: &Plan) -> Rejects<'i> {
        let columns = plan.schema().columns.iter().enumerate();
        let columns = columns
            .map(|(at, column)| {
                plan.path(at, input).map_or_else(|| column.name.clone(), str::to_owned)
            })
            .collect();
        Rejects { path: path.to_path_buf(), input, columns, open: None, head: 0 }
    }

    pub fn write(&mut self, set_aside: &[SetAside]) -> Result<(), TargetError> {
        if set_aside.is_empty() {
            return Ok(());
        }
        if self.input.is_json() {
            return self.write_json(set_aside);
        }
        let dialect = self.input.dialect();
        if self.open.is_none() {
            let file = WholeFile::aside(&self.path)?;
            let mut writer = BufWriter::new(file.writer()?);
            let mut head = Vec::new();
            if self.input.encoding() != "UTF-8" {
                head.extend_from_slice(BOM);
            }
            // A schema that says how many lines to skip skips them here as well.
            head.extend_from_slice(self.input.files().first().map_or(&b""[..], |f| f.preamble()));
            if dialect.header {
                let names = self.input.names().iter().map(String::as_str).chain(REJECTED_COLUMNS);
                let line: Vec<_> = names.map(|name| self.field(name)).collect();
                let line = line.join(&char::from(dialect.delimiter).to_string());
                head.extend_from_slice(line.as_bytes());
                head.push(b'\n');
                head.extend_from_slice(self.input.files().first().map_or(&b""[..], |f| f.below()));
            }
            writer.write_all(&head).map_err(TargetError::io(&self.path))?;
            self.head = head.len() as u64;
            self.open = Some((file, writer));
        }
        let delimiter = char::from(dialect.delimiter);
        let mut lines = Vec::new();
        for aside in set_aside {
            let misfit = &aside.misfit;
            let file = self.input.files()[misfit.place.part as usize].name();
            let behind = [
                file,
                misfit.place.line.to_string(),
                self.column(misfit),
                misfit.reason.to_string(),
            ];
            lines.extend_from_slice(&aside.record);
            // What it leaves out stands here as nothing, so that the columns behind are where they belong.
            lines.extend(std::iter::repeat_n(dialect.delimiter, aside.missing));
            for text in behind {
                lines.extend_from_slice(format!("{delimiter}{}", self.field(&text)).as_bytes());
            }
            lines.push(b'\n');
        }
        let (_, writer) = self.open.as_mut().expect("opened above");
        writer.write_all(&lines).map_err(TargetError::io(&self.path))
    }

    /// Objects word for word, with what is to be known of them as their last members; what is no object as a text. A text
    /// that was not mended is set aside again, and an object is loaded without what stands behind it.
    fn write_json(&mut self, set_aside: &[SetAside]) -> Result<(), TargetError> {
        if self.open.is_none() {
            let file = WholeFile::aside(&self.path)?;
            let writer = BufWriter::new(file.writer()?);
            self.open = Some((file, writer));
        }
        let mut lines = Vec::new();
        for aside in set_aside {
            let misfit = &aside.misfit;
            let file = self.input.files()[misfit.place.part as usize].name();
            let behind = [
                json!(file),
                json!(misfit.place.line),
                json!(self.column(misfit)),
                json!(misfit.reason.to_string()),
            ];
            let is_object = misfit.column.is_some() || matches!(misfit.reason, Reason::Refused(_));
            match is_object.then(|| members_of(&aside.record)).flatten() {
                Some(members) => lines.extend_from_slice(members),
                None => {
                    let text = String::from_utf8_lossy(&aside.record);
                    lines.extend_from_slice(
                        format!("{{\"{REJECTED_TEXT}\":{}", json!(text)).as_bytes(),
                    );
                }
            }
            for (name, value) in REJECTED_COLUMNS.iter().zip(behind) {
                let comma = if lines.ends_with(b"{") { "" } else { "," };
                lines.extend_from_slice(format!("{comma}\"{name}\":{value}").as_bytes());
            }
            lines.extend_from_slice(b"}\n");
        }
        let (_, writer) = self.open.as_mut().expect("opened above");
        writer.write_all(&lines).map_err(TargetError::io(&self.path))
    }

    /// The column of a misfit, and where in its value that is.
    fn column(&self, misfit: &MisfitValue) -> String {
        let column = misfit.column.map_or("", |column| &self.columns[column]);
        format!("{column}{}", misfit.path)
    }

    /// A text as a field of the source's dialect. Where nothing can be quoted or escaped, what would
    /// need it becomes a space: these are words of ours, not data.
    fn field(&self, text: &str) -> String {
        let dialect = self.input.dialect();
        let has_escape = dialect.escape == Escape::Backslash;
        let is_special =
            |letter: char| letter == char::from(dialect.delimiter) || matches!(letter, '\n' | '\r');
        let text = if has_escape { text.replace('\\', "\\\\") } else { text.to_owned() };
        match dialect.quote.map(char::from) {
            Some(quote) => {
                let needs_quotes = |letter| is_special(letter) || letter == quote;
                let is_comment = dialect.comment.is_some_and(|c| text.starts_with(char::from(c)));
                if is_comment || text.contains(needs_quotes) {
                    format!("{quote}{}{quote}", text.replace(quote, &format!("{quote}{quote}")))
                } else {
                    text
                }
            }
            None => text.replace(is_special, " "),
        }
    }

    /// Bytes before the first record in the file, and behind the last.
    pub fn frame(&self) -> (u64, u64) {
        (self.head, u64::from(self.input.choice().skip_end.unwrap_or(0)))
    }

    /// The whole file, if there is one, which waits for the load to become visible.
    pub fn seal(self) -> Result<Option<Pending>, TargetError> {
        // A schema that says how many lines to skip at the end skips these.
        let (_, skipped) = self.frame();
        let Some((file, mut writer)) = self.open else { return Ok(None) };
        writer.write_all(&vec![b'\n'; skipped as usize]).map_err(TargetError::io(&self.path))?;
        writer.flush().map_err(TargetError::io(&self.path))?;
        drop(writer);
        file.into_pending().map(Some)
    }
}

/// An object up to its last brace, without what a rejects file said of it before.
fn members_of(record: &[u8]) -> Option<&[u8]> {
    let inside = record.trim_ascii().strip_suffix(b"}")?.trim_ascii_end();
    let said = format!("\"{}\":", REJECTED_COLUMNS[0]);
    let at = memchr::memmem::rfind(inside, said.as_bytes());
    let inside = at.map_or(inside, |at| inside[..at].trim_ascii_end());
    Some(inside.strip_suffix(b",").unwrap_or(inside))
}
