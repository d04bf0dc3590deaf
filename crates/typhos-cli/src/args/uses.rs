//! What can be typed of commands that use typed rows: to look at them, to group them, to ask, to tell of them.

use std::path::PathBuf;

use clap::Args as ClapArgs;

use super::InputArgs;
use super::values::{Rows, Shape, parse_memory, parse_rows};
use crate::chart::ChartKind;

#[derive(Debug, ClapArgs)]
pub struct Peek {
    /// A schema and the files it declares, files alone (typed by a draft made on the spot), a Parquet file or directory, an Arrow
    /// file, a SQLite database, an embedded search index, the URL of a database on a server or of an index
    #[arg(required = true, value_name = "WHAT")]
    pub what: Vec<PathBuf>,

    /// The columns to show, in this order [default: all]
    #[arg(long, value_name = "COL,…", value_delimiter = ',')]
    pub columns: Vec<String>,

    /// Rows of which a question is true: "cabin > 'saloon' and year(sold_on) = 2025"
    #[arg(long = "where", value_name = "QUESTION")]
    pub filter: Option<String>,

    /// Sort by columns: 'fare desc, sold_on'. Ranked categories by rank, absent values last
    #[arg(long, value_name = "COL,…")]
    pub sort: Option<String>,

    /// Leave out so many rows first
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub skip_rows: u64,

    /// Number of rows to show, or 'all'
    #[arg(long, value_name = "N", default_value = "10", value_parser = parse_rows)]
    pub rows: Rows,

    /// Show the last N rows instead of the first
    #[arg(long, value_name = "N", conflicts_with_all = ["rows", "skip_rows"])]
    pub last: Option<u64>,

    /// Show each row as a block of lines, a column a line
    #[arg(long, conflicts_with = "json")]
    pub upright: bool,

    /// Show the codes of categories in place of their values, and which stands for what
    #[arg(long)]
    pub codes: bool,

    /// How to print the rows
    #[arg(long = "as", value_name = "SHAPE", conflicts_with_all = ["json", "upright"])]
    pub shape: Option<Shape>,

    /// The table of a database, where it has more than one
    #[arg(long, value_name = "NAME")]
    pub table: Option<String>,

    /// Print the rows as one JSON document, numbers as numbers
    #[arg(long)]
    pub json: bool,

    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Debug, ClapArgs)]
pub struct Tally {
    /// A schema and the files it declares, files alone (typed by a draft made on the spot), a Parquet file or directory, an Arrow
    /// file, a SQLite database, an embedded search index or the URL of a database on a server
    #[arg(required = true, value_name = "WHAT")]
    pub what: Vec<PathBuf>,

    /// What rows are grouped by: columns, parts of dates and buckets of numbers, such as "cabin, year(sold_on), bucket(fare, 10)"
    /// [default: nothing; all rows are one group]
    #[arg(long, value_name = "TERM,…", default_value = "", hide_default_value = true)]
    pub by: String,

    /// What is shown of each group: count, share, and count, sum, mean, min, max, median, distinct and share of a column, and
    /// quantile(COL, 0.9)
    #[arg(long, value_name = "MEASURE,…", default_value = "count")]
    pub show: String,

    /// Count only rows of which a question is true: "cabin > 'saloon' and year(sold_on) = 2025"
    #[arg(long = "where", value_name = "QUESTION")]
    pub filter: Option<String>,

    /// Sort the groups by what is shown: 'count desc' [default: by what they are grouped by]
    #[arg(long, value_name = "COL,…")]
    pub sort: Option<String>,

    /// Show the first N groups only
    #[arg(long, value_name = "N")]
    pub top: Option<u64>,

    /// Draw the first measure of each group
    #[arg(long, value_name = "KIND", conflicts_with_all = ["json", "shape"])]
    pub chart: Option<ChartKind>,

    /// Save the chart as a picture, a FILE.svg, instead of drawing it here
    #[arg(long, value_name = "FILE", requires = "chart")]
    pub save: Option<PathBuf>,

    /// Replace that file if it exists
    #[arg(long, requires = "save")]
    pub replace: bool,

    /// How to print the groups
    #[arg(long = "as", value_name = "SHAPE", conflicts_with = "json")]
    pub shape: Option<Shape>,

    /// The table of a database, where it has more than one
    #[arg(long, value_name = "NAME")]
    pub table: Option<String>,

    /// Print the groups as one JSON document
    #[arg(long)]
    pub json: bool,

    /// The most memory that groups take; what does not fit goes into temporary files
    #[arg(long, value_name = "SIZE", value_parser = parse_memory)]
    pub memory: Option<usize>,

    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Debug, ClapArgs)]
pub struct Ask {
    /// What is asked, as for 'typhos peek', and the question: one SELECT over a table of the name that the schema gives, or the file.
    /// Dates are texts as in ISO 8601 there; decimals are exact up to 15 digits, and sums of them are those of floats
    #[arg(required = true, num_args = 2.., value_names = ["WHAT", "SELECT"])]
    pub words: Vec<PathBuf>,

    /// The table of a database, where it has more than one
    #[arg(long, value_name = "NAME")]
    pub table: Option<String>,

    /// Show each row as a block of lines, a column a line
    #[arg(long, conflicts_with = "json")]
    pub upright: bool,

    /// How to print the rows
    #[arg(long = "as", value_name = "SHAPE", conflicts_with_all = ["json", "upright"])]
    pub shape: Option<Shape>,

    /// Print the rows as one JSON document, numbers as numbers
    #[arg(long)]
    pub json: bool,

    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Debug, ClapArgs)]
pub struct Report {
    /// Files to tell of; a schema and the files to hold against it; or two schemas to compare
    #[arg(required = true, value_name = "WHAT")]
    pub what: Vec<PathBuf>,

    /// Where to write the page [default: the name of the file, with .html]
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,

    /// Replace the file if it exists
    #[arg(long)]
    pub replace: bool,

    #[command(flatten)]
    pub input: InputArgs,
}
