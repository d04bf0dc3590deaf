//! The table `[input]` of a schema file: how the input is laid out, in the words of the command line.

use toml::de::DeTable;

use super::read::{Reader, Value};
use super::{Diagnostic, InputDecl, Misfit};
use crate::records::{Step, steps};
use crate::text::{
    Charset, ColumnsDiffer, DEFAULT_DEPTH_LIMIT, Escape, FIELD_LIMITS, InputFormat, LineEnds,
    MOST_SKIPPED, QuotedEmpty, ShortRecords, Undeclared, WithoutElements, parse_comment,
    parse_delimiter, parse_quote, parse_record_limit,
};

/// The keys of `[input]`, in the order they are written.
pub const INPUT_KEYS: [&str; 24] = [
    "format",
    "delimiter",
    "quote",
    "escape",
    "line_ends",
    "comment",
    "trailing_delimiter",
    "header",
    "skip",
    "skip_below",
    "skip_end",
    "short_records",
    "depth_limit",
    "field_limit",
    "unnest",
    "without_elements",
    "names",
    "encoding",
    "columns_differ",
    "undeclared",
    "quoted_empty",
    "record_limit",
    "absent",
    "misfit",
];

/// Reads a text that is nothing but the table `[input]`.
///
/// # Errors
/// All mistakes in it.
pub fn read_input(source: &str) -> Result<InputDecl, Vec<Diagnostic>> {
    let (table, errors) = DeTable::parse_recoverable(source);
    let mut reader = Reader::new(source);
    errors.iter().for_each(|error| {
        let span = error.span().unwrap_or(0..0);
        reader.wrong.push(Diagnostic::new(span, error.message()));
    });
    let mut input = InputDecl::default();
    for (key, value) in table.get_ref().iter() {
        match (key.get_ref().as_ref(), value.get_ref().as_table()) {
            ("input", Some(table)) => input = reader.input(table),
            _ => reader.unknown_key(key, "this text", &["input"]),
        }
    }
    if reader.wrong.is_empty() { Ok(input) } else { Err(reader.wrong) }
}

/// Whether a text is the path of a list that objects alone lead to.
pub fn is_list_path(path: &str) -> bool {
    steps(path).is_some_and(|steps| steps.iter().all(|step| *step != Step::Items))
}

impl Reader<'_> {
    pub(super) fn input(&mut self, table: &DeTable<'_>) -> InputDecl {
        let mut input = InputDecl::default();
        let choice = &mut input.choice;
        for (key, value) in table.iter() {
            match key.get_ref().as_ref() {
                "format" => {
                    choice.format = self.word(value, "a format", InputFormat::parse, "\"json\"");
                }
                "delimiter" => {
                    choice.delimiter = self.word(value, "a delimiter", parse_delimiter, "\",\"");
                }
                "quote" => choice.quote = self.word(value, "a quote", parse_quote, "'\"'"),
                "escape" => {
                    choice.escape = self.word(value, "an escape", Escape::parse, "\"doubled\"");
                }
                "line_ends" => {
                    choice.line_ends = self.word(value, "line ends", LineEnds::parse, "\"lf\"");
                }
                "comment" => {
                    choice.comment =
                        self.word(value, "the start of a comment", parse_comment, "\"#\"");
                }
                "trailing_delimiter" => {
                    choice.trailing_delimiter = self.truth(value, "trailing_delimiter");
                }
                "header" => choice.header = self.truth(value, "header"),
                "skip" => {
                    let lines = self.integer(value, 0..=1_000_000, "skip");
                    choice.skip = lines.map(|lines| lines as u32);
                }
                "skip_below" => {
                    let lines = self.integer(value, 0..=i64::from(MOST_SKIPPED), "skip_below");
                    choice.skip_below = lines.map(|lines| lines as u32);
                }
                "skip_end" => {
                    let lines = self.integer(value, 0..=i64::from(MOST_SKIPPED), "skip_end");
                    choice.skip_end = lines.map(|lines| lines as u32);
                }
                "short_records" => {
                    let what = "what short records are";
                    choice.short_records =
                        self.word(value, what, ShortRecords::parse, "\"absent\"");
                }
                "undeclared" => {
                    let what = "what to do about undeclared columns";
                    choice.undeclared = self.word(value, what, Undeclared::parse, "\"stop\"");
                }
                "names" => choice.names = self.texts(value, "names"),
                "encoding" => {
                    choice.encoding = self.word(value, "an encoding", Charset::parse, "\"utf-8\"");
                }
                "columns_differ" => {
                    let what = "what to do where columns differ";
                    choice.columns_differ =
                        self.word(value, what, ColumnsDiffer::parse, "\"union\"");
                }
                "quoted_empty" => {
                    let what = "what an empty field in quotes is";
                    choice.quoted_empty = self.word(value, what, QuotedEmpty::parse, "\"text\"");
                }
                "record_limit" => {
                    let what = "a record limit";
                    choice.record_limit = self.word(value, what, parse_record_limit, "\"64 MiB\"");
                }
                "depth_limit" => {
                    let most = 1..=DEFAULT_DEPTH_LIMIT as i64;
                    let depth = self.integer(value, most, "depth_limit");
                    choice.depth_limit = depth.map(|depth| depth as usize);
                }
                "field_limit" => {
                    let most = *FIELD_LIMITS.start() as i64..=*FIELD_LIMITS.end() as i64;
                    let fields = self.integer(value, most, "field_limit");
                    choice.field_limit = fields.map(|fields| fields as usize);
                }
                "unnest" => {
                    let parse = |path: &str| match is_list_path(path) {
                        true => Ok(path.to_owned()),
                        false => {
                            Err(format!("'{}' is not the path of a list", path.escape_debug()))
                        }
                    };
                    choice.unnest = self.word(value, "the path of a list", parse, "\"readings\"");
                }
                "without_elements" => {
                    let what = "what becomes of records without elements";
                    choice.without_elements =
                        self.word(value, what, WithoutElements::parse, "\"drop\"");
                }
                "absent" => input.absent = self.texts(value, "absent"),
                "misfit" => {
                    if let Some(misfit) = self.misfit(value) {
                        input.misfit = misfit;
                        if misfit == Misfit::Null {
                            let message =
                                "a record that cannot be split has no values to make null";
                            self.wrong(value.span(), message, "use \"stop\" or \"reject\" here");
                        }
                    }
                }
                _ => self.unknown_key(key, "[input]", &INPUT_KEYS),
            }
        }
        input
    }

    /// A value that is a word of a small language. `example` is one, as it is written.
    pub(crate) fn word<T>(
        &mut self,
        value: &Value<'_>,
        what: &str,
        parse: impl Fn(&str) -> Result<T, String>,
        example: &str,
    ) -> Option<T> {
        let word = self.text(value, what)?;
        match parse(&word) {
            Ok(found) => Some(found),
            Err(message) => {
                self.wrong(value.span(), message, format!("for example {example}"));
                None
            }
        }
    }
}
