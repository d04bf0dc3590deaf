//! An input as reports tell of it: which files, how they are laid out and why, what is to be known of them.
//!
//! The model is made of an input at hand or of what a saved survey says of its own, and every renderer takes it
//! from here.

use serde_json::{Map, Value, json};
use typhos_core::infer::{counted, grouped};
use typhos_core::survey::SurveySource;
use typhos_core::text::sniff::Finding;
use typhos_core::text::{
    Charset, Dialect, Difference, Escape, Input, InputFile, InputFormat, JsonShape, Packing,
    ShortRecords, delimiter_name,
};
use typhos_core::wording::listed;

use crate::console::{self, BOLD, DIM, FOUND, WARN, paint, safe};

/// Files with other columns that are named on the screen; a JSON report has them all.
const SHOWN_DIFFERENCES: usize = 5;

/// What there is to say of an input.
pub struct InputReport {
    /// The names of the files.
    files: Vec<String>,
    /// Bytes as they are stored; 0 for a stream.
    bytes: u64,
    packing: Packing,
    dialect: Dialect,
    /// What its text is, where that is no delimited text: of it, nothing of the dialect holds.
    format: Option<&'static str>,
    /// The encoding; none, where a saved survey says nothing of it.
    encoding: Option<String>,
    /// Whether lines at the ends of files are left out, and how many.
    skip_end: u32,
    /// Why it is laid out like this; nothing, where that was not saved.
    finding: Finding,
    notes: Vec<String>,
    /// Files whose last lines look like no records, how many, and why.
    ends: Vec<(String, u32, String)>,
    differences: Vec<(String, Difference)>,
    /// Files with lines above the table that nobody said to skip.
    skipped: Vec<(String, u32)>,
    /// Files with lines below the header that nobody said to skip.
    skipped_below: Vec<(String, u32)>,
    /// Whether it is that of a saved survey, which has not looked at everything.
    is_saved: bool,
}

impl InputReport {
    /// The report of an input at hand.
    pub fn of(input: &Input) -> InputReport {
        let (files, choice) = (input.files(), input.choice());
        let skips = |said: Option<u32>, lines: &dyn Fn(&Dialect) -> u32| -> Vec<(String, u32)> {
            let of = |file: &InputFile| (file.name(), lines(&file.dialect()));
            let found = files.iter().map(of).filter(|(_, lines)| *lines > 0);
            if said.is_none() { found.collect() } else { Vec::new() }
        };
        let end = |file: &InputFile| {
            let (lines, why) = file.end()?;
            Some((file.name(), lines, why.to_owned()))
        };
        let differences = input.differences().into_iter();
        InputReport {
            files: files.iter().map(InputFile::name).collect(),
            bytes: input.bytes(),
            packing: files.first().map_or(Packing::None, InputFile::packing),
            dialect: input.dialect(),
            format: files.first().and_then(InputFile::json_shape).map(|shape| match shape {
                JsonShape::Lines => "JSON lines",
                JsonShape::Objects => "JSON objects over several lines",
                JsonShape::Array => "JSON array",
            }),
            encoding: Some(input.encoding().to_lowercase()),
            skip_end: choice.skip_end.unwrap_or(0),
            finding: input.finding().clone(),
            notes: input.notes().to_vec(),
            ends: files.iter().filter_map(end).collect(),
            differences: differences.map(|found| (files[found.file].name(), found)).collect(),
            skipped: skips(choice.skip, &|dialect| dialect.skip),
            skipped_below: skips(choice.skip_below, &|dialect| dialect.skip_below),
            is_saved: false,
        }
    }

    /// The report of what a saved survey was of: the dialect as far as all its files share one.
    pub fn of_saved(source: &SurveySource) -> InputReport {
        let (said, usual) = (&source.layout, Dialect::RFC_4180);
        InputReport {
            files: source.files.iter().map(|file| file.name.clone()).collect(),
            bytes: source.files.iter().map(|file| file.bytes).sum(),
            packing: Packing::None,
            dialect: Dialect {
                delimiter: said.delimiter.unwrap_or(usual.delimiter),
                quote: said.quote.unwrap_or(usual.quote),
                escape: said.escape.unwrap_or(usual.escape),
                line_ends: said.line_ends.unwrap_or(usual.line_ends),
                comment: said.comment.unwrap_or(usual.comment),
                trailing_delimiter: said.trailing_delimiter.unwrap_or(usual.trailing_delimiter),
                header: said.header.unwrap_or(usual.header),
                skip: said.skip.unwrap_or(usual.skip),
                skip_below: said.skip_below.unwrap_or(usual.skip_below),
                short_records: said.short_records == Some(ShortRecords::Absent),
            },
            format: (said.format == Some(InputFormat::Json)).then_some("JSON"),
            encoding: said.encoding.map(Charset::label),
            skip_end: said.skip_end.unwrap_or(0),
            finding: Finding::default(),
            notes: Vec::new(),
            ends: Vec::new(),
            differences: Vec::new(),
            skipped: Vec::new(),
            skipped_below: Vec::new(),
            is_saved: true,
        }
    }

    /// The files in a few words.
    pub fn line(&self) -> String {
        let name = match &self.files[..] {
            [one] => one.clone(),
            [first, .., last] => format!("{first} … {last} ({} files)", self.files.len()),
            [] => String::new(),
        };
        let size = match (self.bytes, self.packing) {
            (0, _) => String::new(),
            (bytes, Packing::None) => console::bytes(bytes),
            (bytes, Packing::Gzip) => format!("{} of gzip", console::bytes(bytes)),
            (bytes, Packing::Zstd) => format!("{} of zstd", console::bytes(bytes)),
        };
        let saved = if self.is_saved { "surveyed before" } else { "" };
        let parts: Vec<_> =
            [&size[..], saved].into_iter().filter(|part| !part.is_empty()).collect();
        format!("{}  {}", paint(BOLD, safe(&name)), paint(DIM, parts.join(", ")))
    }

    /// What is to be known beside what it holds: files that were passed over or given twice, lines that were skipped
    /// without anybody having said so, and lines at an end that may have to be.
    pub fn notes(&self) -> Vec<String> {
        let mut notes: Vec<String> = self.notes.iter().map(|note| safe(note)).collect();
        if let Some(encoding) = self.encoding.as_ref().filter(|_| self.finding.is_likely_encoding) {
            notes.push(format!("read as {encoding}, which is {}", safe(&self.finding.encoding)));
        }
        if let Some((file, lines)) = self.skipped.first() {
            let lines = counted(u64::from(*lines), "line");
            let others = match self.skipped.len() - 1 {
                0 => String::new(),
                more => format!(" (and of {})", counted(more as u64, "more file")),
            };
            notes.push(format!("skipped {lines} above the table of {}{others}", safe(file)));
        }
        if let Some((file, lines)) = self.skipped_below.first() {
            let lines = counted(u64::from(*lines), "line");
            notes.push(format!("skipped {lines} below the header of {}", safe(file)));
        }
        notes.extend(self.end_note());
        notes
    }

    /// What a draft says above the schema: what is likely, and what is asked.
    pub fn draft_notes(&self) -> Vec<String> {
        let encoding = Some(&self.finding.encoding).filter(|_| self.finding.is_likely_encoding);
        let encoding = encoding.map(|why| format!("The encoding is {why}."));
        encoding.into_iter().chain(self.end_note()).collect()
    }

    /// What to say of lines at the end of files that look like no records.
    fn end_note(&self) -> Option<String> {
        let (name, lines, why) = self.ends.first()?;
        let others = match self.ends.len() - 1 {
            0 => String::new(),
            more => format!(" (and those of {})", counted(more as u64, "more file")),
        };
        Some(format!(
            "{}: {}{others}; to leave them out, say --skip-end {lines}",
            safe(name),
            safe(why)
        ))
    }

    /// How it is laid out and why, a line for each part; what is as usual goes without saying.
    pub fn layout_lines(&self) -> Vec<String> {
        let shown = self.parts();
        let width = shown.iter().map(|(_, found, _)| found.len()).max().unwrap_or(0) + 1;
        let mut lines: Vec<String> = shown
            .into_iter()
            .map(|(part, found, why)| {
                let part_label = format!("  {part:<11}");
                let found = format!("{found:<width$}");
                // What is only likely is not said like what is known.
                let is_likely = part == "encoding" && self.finding.is_likely_encoding;
                let style = if is_likely { WARN } else { FOUND };
                let line = format!(
                    "{}{} {}",
                    paint(DIM, part_label),
                    paint(style, found),
                    paint(DIM, safe(why))
                );
                line.trim_end().to_owned()
            })
            .collect();
        let notes = self.notes.iter().map(|note| safe(note)).chain(self.end_note());
        lines.extend(notes.map(|note| paint(WARN, format!("  {note}"))));
        for (file, difference) in self.differences.iter().take(SHOWN_DIFFERENCES) {
            let mut clauses = Vec::new();
            if !difference.lacks.is_empty() {
                clauses.push(format!("lacks {}: absent there", listed(&difference.lacks)));
            }
            if !difference.left_out.is_empty() {
                clauses.push(format!("has {} besides: left out", listed(&difference.left_out)));
            }
            lines.push(paint(WARN, format!("  {} {}", safe(file), safe(&clauses.join("; ")))));
        }
        let more = self.differences.len().saturating_sub(SHOWN_DIFFERENCES);
        if more > 0 {
            let more = counted(more as u64, "more file");
            lines.push(paint(WARN, format!("  … and {more} with other columns")));
        }
        lines
    }

    /// The parts of the layout that say something: what each is called, what was found, and why.
    fn parts(&self) -> Vec<(&'static str, String, &str)> {
        let (dialect, finding) = (self.dialect, &self.finding);
        let letter =
            |byte: Option<u8>| byte.map_or("none".into(), |byte| char::from(byte).to_string());
        let lines = |lines: u32| grouped(u64::from(lines));
        let delimiter = || delimiter_name(dialect.delimiter);
        let header = if dialect.header { "yes" } else { "no" };
        let is_known = !self.is_saved;
        if let Some(format) = self.format {
            let encoding = self.encoding.clone().unwrap_or_default();
            return vec![
                ("format", format.to_owned(), ""),
                ("encoding", encoding, &finding.encoding),
            ];
        }
        let parts: [(bool, &'static str, String, &str); 11] = [
            (true, "delimiter", delimiter(), &finding.delimiter),
            (true, "quote", letter(dialect.quote), &finding.quote),
            (
                dialect.escape == Escape::Backslash,
                "escape",
                dialect.escape.name().into(),
                &finding.escape,
            ),
            (true, "header", header.into(), &finding.header),
            (dialect.skip > 0, "skip", lines(dialect.skip), &finding.skip),
            (dialect.skip_below > 0, "skip below", lines(dialect.skip_below), &finding.skip_below),
            (dialect.short_records, "short", "absent".into(), &finding.short_records),
            (dialect.comment.is_some(), "comment", letter(dialect.comment), &finding.comment),
            (dialect.trailing_delimiter, "trailing", delimiter(), &finding.trailing_delimiter),
            (is_known, "line ends", dialect.line_ends.name().into(), &finding.line_ends),
            (
                self.encoding.is_some(),
                "encoding",
                self.encoding.clone().unwrap_or_default(),
                &finding.encoding,
            ),
        ];
        let shown = parts.into_iter().filter(|(is_shown, ..)| *is_shown);
        shown.map(|(_, part, found, why)| (part, found, why)).collect()
    }

    /// The input for a JSON report.
    pub fn json(&self) -> Value {
        let (dialect, finding) = (self.dialect, &self.finding);
        let reasons = [
            ("delimiter", &finding.delimiter),
            ("quote", &finding.quote),
            ("escape", &finding.escape),
            ("line_ends", &finding.line_ends),
            ("comment", &finding.comment),
            ("trailing_delimiter", &finding.trailing_delimiter),
            ("header", &finding.header),
            ("skip", &finding.skip),
            ("skip_below", &finding.skip_below),
            ("short_records", &finding.short_records),
            ("encoding", &finding.encoding),
        ];
        let reasons = reasons.into_iter().filter(|(_, why)| !why.is_empty());
        let reasons: Map<_, _> = reasons.map(|(part, why)| (part.to_owned(), json!(why))).collect();
        let differences = self.differences.iter().map(|(file, found)| {
            json!({ "file": file, "lacks": found.lacks, "left_out": found.left_out })
        });
        let ends = self
            .ends
            .iter()
            .map(|(file, lines, why)| json!({ "file": file, "lines": lines, "why": why }));
        let letter = |byte: Option<u8>| byte.map(|byte| char::from(byte).to_string());
        json!({
            "files": self.files,
            "bytes": self.bytes,
            "format": if self.format.is_some() { "json" } else { "delimited" },
            "delimiter": delimiter_name(dialect.delimiter),
            "quote": letter(dialect.quote),
            "escape": dialect.escape.name(),
            "line_ends": dialect.line_ends.name(),
            "comment": letter(dialect.comment),
            "trailing_delimiter": dialect.trailing_delimiter,
            "header": dialect.header,
            "skip": dialect.skip,
            "skip_below": dialect.skip_below,
            "short_records": if dialect.short_records { "absent" } else { "reject" },
            "encoding": self.encoding.as_deref().unwrap_or("utf-8"),
            "reasons": reasons,
            "columns_differ": differences.collect::<Vec<_>>(),
            "notes": self.notes,
            "skip_end": self.skip_end,
            "end": ends.collect::<Vec<_>>(),
        })
    }
}
