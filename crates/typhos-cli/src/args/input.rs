//! Options about how an input is laid out and read.

use clap::Args as ClapArgs;
use typhos_core::text::{
    Charset, ColumnsDiffer, DEFAULT_DEPTH_LIMIT, Escape, FIELD_LIMITS, InputChoice, InputFormat,
    LineEnds, QuotedEmpty, ShortRecords, Undeclared, WithoutElements, parse_comment,
    parse_delimiter, parse_lines, parse_quote, parse_record_limit,
};

/// How the input is laid out and read, where that is not to be found from the data. The words are those
/// of `[input]` in a schema file.
#[derive(Debug, Clone, Default, ClapArgs)]
#[command(next_help_heading = "Input")]
pub struct InputArgs {
    /// What the text is: delimited, or json (objects, one a line or in one array)
    #[arg(long, value_name = "WHAT", value_parser = InputFormat::parse)]
    pub format: Option<InputFormat>,

    /// Delimiter between fields: one character, or comma, semicolon, tab, pipe, space…
    #[arg(long, value_name = "CHAR", value_parser = parse_delimiter)]
    pub delimiter: Option<u8>,

    /// Quote character: '"', "'" or none
    #[arg(long, value_name = "CHAR", value_parser = parse_quote_arg)]
    pub quote: Option<ByteOrNone>,

    /// How a quote is written inside quotes: doubled or backslash
    #[arg(long, value_name = "HOW", value_parser = Escape::parse)]
    pub escape: Option<Escape>,

    /// What ends a line: lf, crlf, cr or mixed
    #[arg(long, value_name = "WHAT", value_parser = LineEnds::parse)]
    pub line_ends: Option<LineEnds>,

    /// Comment character: lines that start with it are not records: '#', or none
    #[arg(long, value_name = "CHAR", value_parser = parse_comment_arg)]
    pub comment: Option<ByteOrNone>,

    /// Whether records may end in a trailing delimiter
    #[arg(long, value_name = "true|false", hide_possible_values = true)]
    pub trailing_delimiter: Option<bool>,

    /// Whether the first record holds the names of the columns
    #[arg(long, value_name = "true|false", hide_possible_values = true)]
    pub header: Option<bool>,

    /// Lines above the table that are not part of it
    #[arg(long, value_name = "N")]
    pub skip: Option<u32>,

    /// Lines between the header and the first record, such as units
    #[arg(long, value_name = "N", value_parser = parse_lines)]
    pub skip_below: Option<u32>,

    /// Lines below the last record, such as totals and remarks
    #[arg(long, value_name = "N", value_parser = parse_lines)]
    pub skip_end: Option<u32>,

    /// How to take records that leave out fields at their end: reject (broken) or absent
    #[arg(long, value_name = "WHAT", value_parser = ShortRecords::parse)]
    pub short_records: Option<ShortRecords>,

    /// The names of the columns, in place of those in a header
    #[arg(long, value_name = "A,B,…", value_delimiter = ',')]
    pub names: Option<Vec<String>>,

    /// How the text is encoded: utf-8, utf-16le, windows-1252, cp850, shift_jis…
    #[arg(long, value_name = "LABEL", value_parser = Charset::parse)]
    pub encoding: Option<Charset>,

    /// What to do where files have other columns: stop, union (those of any file) or first (those of
    /// the first)
    #[arg(long, value_name = "WHAT", value_parser = ColumnsDiffer::parse)]
    pub columns_differ: Option<ColumnsDiffer>,

    /// What to do about columns that the schema does not have: note, stop or ignore
    #[arg(long, value_name = "WHAT", value_parser = Undeclared::parse)]
    pub undeclared: Option<Undeclared>,

    /// What an empty field in quotes is: absent, as one without quotes, or text
    #[arg(long, value_name = "WHAT", value_parser = QuotedEmpty::parse)]
    pub quoted_empty: Option<QuotedEmpty>,

    /// The most objects and arrays within each other in records of JSON [default: 128, which is the most]
    #[arg(long, value_name = "N", value_parser = parse_depth)]
    pub depth_limit: Option<usize>,

    /// The most columns, up to 1,000,000 [default: 30,000, and 10,000 different fields for JSON]
    #[arg(long, value_name = "N", value_parser = parse_fields)]
    pub field_limit: Option<usize>,

    /// The path of a list in records of JSON: each of its elements becomes a row
    #[arg(long, value_name = "PATH", value_parser = parse_unnest)]
    pub unnest: Option<String>,

    /// What becomes of records whose list has no elements: keep (one row) or drop
    #[arg(long, value_name = "WHAT", value_parser = WithoutElements::parse)]
    pub without_elements: Option<WithoutElements>,

    /// The most bytes a record may have, up to 1 GiB [default: 16 MiB]
    #[arg(long, value_name = "SIZE", value_parser = parse_record_limit)]
    pub record_limit: Option<usize>,
}

/// A byte as it was said, or that there is none.
#[derive(Debug, Clone, Copy)]
pub struct ByteOrNone(Option<u8>);

fn parse_quote_arg(word: &str) -> Result<ByteOrNone, String> {
    parse_quote(word).map(ByteOrNone)
}

fn parse_depth(word: &str) -> Result<usize, String> {
    let depth = word.parse().ok().filter(|depth| (1..=DEFAULT_DEPTH_LIMIT).contains(depth));
    depth.ok_or_else(|| format!("is not a depth: 1 to {DEFAULT_DEPTH_LIMIT}"))
}

fn parse_fields(word: &str) -> Result<usize, String> {
    let fields = word.parse().ok().filter(|fields| FIELD_LIMITS.contains(fields));
    fields.ok_or_else(|| "is not a number of fields: 1 to 1,000,000".into())
}

fn parse_unnest(path: &str) -> Result<String, String> {
    let path = path.strip_suffix("[]").unwrap_or(path);
    match typhos_core::schema::is_list_path(path) {
        true => Ok(path.to_owned()),
        false => Err("is not the path of a list, as in readings or engine.readings".into()),
    }
}

fn parse_comment_arg(word: &str) -> Result<ByteOrNone, String> {
    parse_comment(word).map(ByteOrNone)
}

impl InputArgs {
    pub fn choice(&self) -> InputChoice {
        InputChoice {
            format: self.format,
            delimiter: self.delimiter,
            quote: self.quote.map(|ByteOrNone(quote)| quote),
            escape: self.escape,
            line_ends: self.line_ends,
            comment: self.comment.map(|ByteOrNone(comment)| comment),
            trailing_delimiter: self.trailing_delimiter,
            header: self.header,
            skip: self.skip,
            skip_below: self.skip_below,
            skip_end: self.skip_end,
            short_records: self.short_records,
            undeclared: self.undeclared,
            names: self.names.clone(),
            encoding: self.encoding,
            columns_differ: self.columns_differ,
            quoted_empty: self.quoted_empty,
            record_limit: self.record_limit,
            depth_limit: self.depth_limit,
            field_limit: self.field_limit,
            unnest: self.unnest.clone(),
            without_elements: self.without_elements,
        }
    }
}
