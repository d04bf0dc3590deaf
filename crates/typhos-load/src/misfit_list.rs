//! All misfits of an input in a file: a line each, for whoever has to go through them.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use serde_json::json;
use typhos_core::columns::{MisfitValue, Plan};
use typhos_core::text::Input;

use crate::error::TargetError;
use crate::whole::WholeFile;

/// What stands in each line.
const COLUMNS: [&str; 5] = ["file", "line", "column", "value", "reason"];

/// A list of misfits that is being written: CSV, or JSON lines where the name of its file says so. It appears whole or not at all.
pub struct MisfitList {
    path: PathBuf,
    is_json: bool,
    files: Vec<String>,
    columns: Vec<String>,
    file: WholeFile,
    writer: BufWriter<File>,
    /// Misfits in it.
    pub count: u64,
}

impl MisfitList {
    /// Begins a list, which takes the place of a file that is there where that is said.
    ///
    /// # Errors
    /// A file that is there, or cannot be written.
    pub fn create(
        path: &Path,
        replace: bool,
        input: &Input,
        plan: &Plan,
    ) -> Result<MisfitList, TargetError> {
        let columns = plan.schema().columns.iter().enumerate().map(|(at, column)| {
            let path = plan.path(at, input).filter(|_| input.is_json());
            path.map_or_else(|| column.name.clone(), str::to_owned)
        });
        let extension = path.extension().and_then(|extension| extension.to_str());
        let is_json = extension
            .is_some_and(|it| ["ndjson", "jsonl", "json"].contains(&&it.to_lowercase()[..]));
        let file = WholeFile::create(path, replace)?;
        let mut writer = BufWriter::new(file.writer()?);
        if !is_json {
            writeln!(writer, "{}", COLUMNS.join(",")).map_err(TargetError::io(path))?;
        }
        Ok(MisfitList {
            path: path.to_path_buf(),
            is_json,
            files: input.files().iter().map(|file| file.name()).collect(),
            columns: columns.collect(),
            file,
            writer,
            count: 0,
        })
    }

    /// Adds misfits.
    ///
    /// # Errors
    /// A file that takes no more.
    pub fn write(&mut self, misfits: &[MisfitValue]) -> Result<(), TargetError> {
        for misfit in misfits {
            let column = match misfit.column {
                Some(column) => format!("{}{}", self.columns[column], misfit.path),
                None => String::new(),
            };
            let file = &self.files[misfit.place.part as usize];
            let (line, reason) = (misfit.place.line, misfit.reason.to_string());
            let line = match self.is_json {
                true => json!({
                    "file": file, "line": line, "column": column, "value": misfit.value, "reason": reason,
                })
                .to_string(),
                false => {
                    let line = line.to_string();
                    [file, &line, &column, &misfit.value, &reason].map(|text| csv_field(text)).join(",")
                }
            };
            writeln!(self.writer, "{line}").map_err(TargetError::io(&self.path))?;
        }
        self.count += misfits.len() as u64;
        Ok(())
    }

    /// Gives the file its name.
    ///
    /// # Errors
    /// A file that cannot be written to its end or be renamed.
    pub fn keep(mut self) -> Result<u64, TargetError> {
        self.writer.flush().map_err(TargetError::io(&self.path))?;
        drop(self.writer);
        self.file.keep()?;
        Ok(self.count)
    }
}

/// A text as a field of CSV, in quotes where RFC 4180 wants them or some reader would lose a blank at an end.
pub fn csv_field(text: &str) -> String {
    match text.contains([',', '"', '\n', '\r']) || text.trim() != text {
        true => format!("\"{}\"", text.replace('"', "\"\"")),
        false => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_in_quotes_where_a_reader_would_take_them_for_something_else() {
        for (text, want) in [
            ("", ""),
            ("a b", "a b"),
            ("a,b", "\"a,b\""),
            ("say \"so\"", "\"say \"\"so\"\"\""),
            ("a\r\nb", "\"a\r\nb\""),
            ("a ", "\"a \""),
        ] {
            assert_eq!(csv_field(text), want);
        }
    }
}
