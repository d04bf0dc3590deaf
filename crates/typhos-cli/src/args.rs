//! What can be typed. Nothing here decides anything: [`commands`](crate::commands) resolve it.

mod input;
mod load;
mod rules;
mod uses;
mod values;

use std::num::NonZeroUsize;
use std::path::{Path, PathBuf};

use clap::builder::styling::{Style, Styles};
use clap::{Args as ClapArgs, Parser, Subcommand};
use typhos_core::dates::{Overlap, Zone};
use typhos_core::infer::Orders;
use typhos_core::run::RunOptions;
use typhos_core::text::{MOST_PARTS, Part};

use crate::world;
pub use input::InputArgs;
pub use load::{Load, SeenFile};
pub use rules::RuleArgs;
pub use uses::{Ask, Peek, Report, Tally};
pub use values::{Rows, Shape};
use values::{parse_language, parse_memory, parse_threads};

/// How help and mistakes of the command line are styled: as everything else here, without lines under words.
const STYLES: Styles = Styles::styled().header(Style::new().bold()).usage(Style::new().bold());

/// Delimited text into typed tables, with reasons and nothing lost.
///
/// Look at a file with 'scout', let 'draft' propose a schema from all of its rows, edit that,
/// check files against it with 'check', and 'load' them. 'typhos demo' shows all of it on made-up data.
#[derive(Debug, Parser)]
#[command(name = "typhos", version, propagate_version = true, max_term_width = 100, styles = STYLES)]
#[command(
    after_help = "Exit status: 0 done; 1 done, and misfits or differences were found; 2 the command line or the schema \
                        file is wrong; 3 a file, a target or the machine failed; 4 the data was refused, \
                        and nothing was done."
)]
pub struct Args {
    #[command(subcommand)]
    pub command: Command,

    #[command(flatten)]
    pub common: Common,
}

/// Options of every command.
#[derive(Debug, Clone, Copy, ClapArgs)]
pub struct Common {
    /// Print results only: no notes, no progress
    #[arg(short, long, global = true, display_order = 100)]
    pub quiet: bool,

    /// Say more: where every setting comes from
    #[arg(short, long, global = true, display_order = 100, conflicts_with = "quiet")]
    pub verbose: bool,

    /// Number of threads [default: one for each core]
    #[arg(long, global = true, value_name = "N", display_order = 101, value_parser = parse_threads)]
    pub threads: Option<NonZeroUsize>,
}

impl Common {
    pub fn run_options(&self) -> RunOptions {
        let usual = RunOptions::default();
        RunOptions { threads: self.threads.unwrap_or(usual.threads), ..usual }
    }
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Look at raw files: how they are laid out, and what every column holds
    Scout(Scout),
    /// Propose a schema from all rows, with the evidence for each type
    Draft(Draft),
    /// Merge surveys that 'scout --save' wrote, of files here or on other machines
    Pool(Pool),
    /// Check files against a schema: every value that does not fit, where, and why
    Check(Check),
    /// Compare two schemas, or a schema with a delivery: what changed, and what that breaks
    Compare(Compare),
    /// Weigh a table: bytes per column as text, with wide types, and as declared, in memory and in a file
    Weigh(Weigh),
    /// Convert files under a schema and load them; all of it or nothing
    Load(Load),
    /// Publish a load that was done in parts: all of them, or none
    Commit(Commit),
    /// Write what a shell, Slurm or Kubernetes has to run to survey or load an input in parts
    PlanParts(PlanParts),
    /// Write a schema in another language: the SQL of a database, or the mapping of a search index
    Emit(Emit),
    /// Show the first typed rows, of an input or of what was loaded
    Peek(Peek),
    /// Group typed rows and count, sum up and measure each group, as a table or a chart
    Tally(Tally),
    /// Ask typed rows in SQL
    Ask(Ask),
    /// Write one HTML page of an input, or of a check and its ledger, to be sent and printed
    Report(Report),
    /// Try date patterns: which read a value, what a pattern makes of it, what a column holds
    Dates(Dates),
    /// Write the demo data and run the whole example on it
    Demo(Demo),
}

impl Command {
    /// All paths that were typed: what is read as rows, and the others.
    pub fn paths(&self) -> (Vec<&Path>, Vec<&Path>) {
        let (several, single): (&[PathBuf], Vec<Option<&PathBuf>>) = match self {
            Command::Scout(args) => (&args.inputs, vec![args.save.as_ref()]),
            Command::Draft(args) => (&args.inputs, vec![args.output.as_ref(), args.keep.as_ref()]),
            Command::Dates(args) => (&args.inputs, vec![]),
            Command::Pool(args) => (&args.surveys, vec![Some(&args.output)]),
            Command::Check(args) => (&args.inputs, vec![Some(&args.schema), args.misfits.as_ref()]),
            Command::Compare(args) => (&args.new, vec![Some(&args.old)]),
            Command::Weigh(args) => (&args.inputs, vec![Some(&args.schema)]),
            Command::Load(args) => (&args.inputs, vec![Some(&args.schema), args.rejects.as_ref()]),
            Command::Commit(args) => (&[], vec![Some(&args.stage)]),
            Command::PlanParts(args) => (
                &args.inputs,
                // Where rows go may be a table of a lake.
                vec![args.output.as_ref(), args.save.as_ref(), args.load.as_ref()],
            ),
            Command::Emit(args) => (&[], vec![Some(&args.schema), args.output.as_ref()]),
            Command::Peek(args) => (&args.what, vec![]),
            Command::Tally(args) => (&args.what, vec![args.save.as_ref()]),
            Command::Report(args) => (&args.what, vec![args.output.as_ref()]),
            // The last one is a question.
            Command::Ask(args) => (&args.words[..args.words.len() - 1], vec![]),
            Command::Demo(args) => (&[], vec![Some(&args.folder)]),
        };
        let paths = several.iter().map(PathBuf::as_path).collect();
        (paths, single.into_iter().flatten().map(PathBuf::as_path).collect())
    }
}

#[derive(Debug, ClapArgs)]
pub struct Scout {
    /// Files, directories or patterns such as 'data/*.csv', read as one table, or saved surveys; '-' is
    /// standard input
    #[arg(required = true, value_name = "INPUT")]
    pub inputs: Vec<PathBuf>,

    /// Show everything about one column
    #[arg(long, value_name = "NAME")]
    pub column: Option<String>,

    /// Whether these columns together are a key: no two records have the same values in them. Exact, by a
    /// pass of its own, however many values there are
    #[arg(long, value_name = "COL,…", value_delimiter = ',')]
    pub key: Vec<String>,

    /// Save the survey to a file, to draft from later or to pool with others; with --column and a FILE.svg or FILE.png,
    /// draw how its values are spread
    #[arg(long, value_name = "FILE")]
    pub save: Option<PathBuf>,

    /// Replace that file if it exists
    #[arg(long, requires = "save")]
    pub replace: bool,

    /// Look at one of so many parts of the input only, 3/16: saved, 'pool' makes the survey of the whole of all of them
    #[arg(long, value_name = "N/COUNT", requires = "save", conflicts_with_all = ["rows", "key", "column"], value_parser = Part::parse)]
    pub part: Option<Part>,

    /// The byte of its file at which the first record of the part starts, where 'pool' says that it is not where it
    /// was taken to be
    #[arg(long, value_name = "BYTE", requires = "part")]
    pub begin: Option<u64>,

    /// Print the findings as JSON
    #[arg(long)]
    pub json: bool,

    #[command(flatten)]
    pub input: InputArgs,

    #[command(flatten)]
    pub rules: RuleArgs,
}

#[derive(Debug, ClapArgs)]
pub struct Draft {
    /// Files, directories or patterns such as 'data/*.csv', read as one table, or saved surveys; '-' is
    /// standard input
    #[arg(required = true, value_name = "INPUT")]
    pub inputs: Vec<PathBuf>,

    /// Write the schema to a file instead of standard output
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,

    /// Replace the file if it exists
    #[arg(long, requires = "output")]
    pub replace: bool,

    /// Name of the table [default: the name of the first file]
    #[arg(long, value_name = "NAME")]
    pub table: Option<String>,

    /// Keep every line of this schema file, and draft only the columns that are not in it
    #[arg(long, value_name = "SCHEMA", conflicts_with = "table")]
    pub keep: Option<PathBuf>,

    #[command(flatten)]
    pub input: InputArgs,

    #[command(flatten)]
    pub rules: RuleArgs,
}

#[derive(Debug, ClapArgs)]
#[command(group = clap::ArgGroup::new("what").required(true).args(["values", "inputs", "symbols"]))]
pub struct Dates {
    /// Values to read
    #[arg(value_name = "VALUE", allow_negative_numbers = true)]
    pub values: Vec<String>,

    /// Read them by this pattern alone, and say where it fails
    #[arg(long, value_name = "PATTERN", requires = "values")]
    pub pattern: Option<String>,

    /// Language of the names in the pattern, as a tag: de, nb, pt-BR [default: en]
    #[arg(long, value_name = "TAG", requires = "pattern")]
    pub locale: Option<String>,

    /// First of the hundred years that two-digit years fall in [default: 1969]
    #[arg(long, value_name = "YEAR", requires = "pattern", value_parser = clap::value_parser!(i32).range(1..=9900))]
    pub pivot: Option<i32>,

    /// Time zone of values without an offset: Europe/Oslo
    #[arg(long, value_name = "NAME", requires = "pattern", value_parser = Zone::named)]
    pub zone: Option<Zone>,

    /// Which of the two instants to take for a time repeated at a clock change: earlier or later
    #[arg(long, value_name = "WHICH", requires = "pattern", value_parser = Overlap::parse)]
    pub overlap: Option<Overlap>,

    /// Print the symbols of patterns
    #[arg(long)]
    pub symbols: bool,

    /// Look at the dates of a column of these files instead
    #[arg(long = "input", value_name = "INPUT", num_args = 1.., requires = "column")]
    pub inputs: Vec<PathBuf>,

    /// The column
    #[arg(long, value_name = "NAME", requires = "inputs")]
    pub column: Option<String>,

    /// Order of dates that could be read in more than one: dmy, mdy or ymd
    #[arg(long, value_name = "ORDER", requires = "inputs", value_parser = Orders::parse)]
    pub date_order: Option<Orders>,

    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Debug, ClapArgs)]
pub struct Pool {
    /// The surveys
    #[arg(required = true, value_name = "SURVEY")]
    pub surveys: Vec<PathBuf>,

    /// Where the survey of all of them goes
    #[arg(short, long, value_name = "FILE", required = true)]
    pub output: PathBuf,

    /// Replace the file if it exists
    #[arg(long)]
    pub replace: bool,
}

/// Who runs parts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Scheduler {
    /// A shell, in a loop.
    Shell,
    /// Slurm, as an array of tasks.
    Slurm,
    /// Kubernetes, as an Indexed Job.
    Kubernetes,
}

#[derive(Debug, ClapArgs)]
pub struct PlanParts {
    /// Files, directories or patterns: the whole input, under names that hold wherever parts run
    #[arg(required = true, value_name = "INPUT")]
    pub inputs: Vec<PathBuf>,

    /// How many parts
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=i64::from(MOST_PARTS)))]
    pub count: u32,

    /// Who runs them: shell (a script with a loop), slurm (an array of tasks) or kubernetes (an Indexed Job)
    #[arg(long = "for", value_name = "WHAT", value_enum, hide_possible_values = true)]
    pub scheduler: Scheduler,

    /// Survey the input, and save what all parts know in this file
    #[arg(long, value_name = "FILE", conflicts_with_all = ["load", "into"])]
    pub save: Option<PathBuf>,

    /// Load the input under this schema
    #[arg(long, value_name = "SCHEMA", requires = "into")]
    pub load: Option<PathBuf>,

    /// The directory of Parquet files that it is loaded into
    #[arg(long, value_name = "DIR", requires = "load")]
    pub into: Option<PathBuf>,

    /// The folder in which loaded parts wait, which all of them see [default: DIR.stage]
    #[arg(long, value_name = "DIR", requires = "load")]
    pub stage: Option<PathBuf>,

    /// The image of containers, with typhos in it [default: typhos:latest]
    #[arg(long, value_name = "IMAGE")]
    pub image: Option<String>,

    /// The PersistentVolumeClaim that all containers mount [default: data]
    #[arg(long, value_name = "CLAIM")]
    pub volume: Option<String>,

    /// Where they mount it, and work
    #[arg(long, value_name = "DIR", default_value = "/data")]
    pub mount: PathBuf,

    /// Write to a file instead of standard output
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,

    /// Replace the file if it exists
    #[arg(long, requires = "output")]
    pub replace: bool,

    /// Options of 'scout' or 'load' that every part gets, behind '--'
    #[arg(last = true, value_name = "OPTION")]
    pub options: Vec<String>,
}

#[derive(Debug, ClapArgs)]
pub struct Commit {
    /// The stage, as 'load --part' says it
    #[arg(value_name = "STAGE")]
    pub stage: PathBuf,

    /// Print the account as JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Check {
    /// The schema file
    pub schema: PathBuf,

    /// Files, directories or patterns to check; '-' is standard input
    #[arg(required = true, value_name = "INPUT")]
    pub inputs: Vec<PathBuf>,

    /// List every misfit in a file: CSV, or JSON lines in a FILE.ndjson
    #[arg(long, value_name = "FILE")]
    pub misfits: Option<PathBuf>,

    /// Replace that file if it exists
    #[arg(long, requires = "misfits")]
    pub replace: bool,

    /// Print the findings as JSON
    #[arg(long)]
    pub json: bool,

    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Debug, ClapArgs)]
pub struct Compare {
    /// What was there before: a schema, or files (by a draft of them)
    #[arg(value_name = "OLD")]
    pub old: PathBuf,

    /// What is there now: another schema, or the files of a delivery, which are held against the old one
    #[arg(required = true, value_name = "NEW")]
    pub new: Vec<PathBuf>,

    /// Print what was found as JSON
    #[arg(long)]
    pub json: bool,

    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Debug, ClapArgs)]
pub struct Weigh {
    /// The schema file; or two, to compare what they make of the same data
    #[arg(required = true, value_name = "SCHEMA")]
    pub schema: PathBuf,

    /// Files, directories or patterns to weigh; '-' is standard input
    #[arg(required = true, value_name = "INPUT")]
    pub inputs: Vec<PathBuf>,

    /// Say what would save more, with the line to change and what it risks
    #[arg(long)]
    pub advice: bool,

    /// A question such as "route = 'Holm' and cabin > 'deck'": how much of a file has to be read for it
    #[arg(long = "where", value_name = "QUESTION")]
    pub filter: Option<String>,

    /// Try the sort keys that could let the filter read less, and rank them
    #[arg(long, requires = "filter")]
    pub suggest_sort: bool,

    /// The most memory: fewer threads work at once where it is short, and what does not fit goes into temporary files
    /// [default: 256 MiB]
    #[arg(long, value_name = "SIZE", value_parser = parse_memory)]
    pub memory: Option<usize>,

    /// The most memory that sorting takes of it, where [layout] says what rows are sorted by [default: all of it]
    #[arg(long, value_name = "SIZE", value_parser = parse_memory)]
    pub sort_memory: Option<usize>,

    /// Print the ledger as JSON
    #[arg(long)]
    pub json: bool,

    #[command(flatten)]
    pub input: InputArgs,
}

#[derive(Debug, ClapArgs)]
pub struct Emit {
    /// The schema file
    pub schema: PathBuf,

    /// The language: postgres, mariadb, clickhouse (or clickhouse@18.16 for one of that version), sqlite, sql for the standard,
    /// mapping for a search index, or json-schema for rows as JSON
    #[arg(long = "as", value_name = "LANGUAGE", value_parser = parse_language)]
    pub language: String,

    /// Name of the table [default: the schema's, or the name of the schema file]
    #[arg(long, value_name = "NAME")]
    pub table: Option<String>,

    /// Write to a file instead of standard output
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,

    /// Replace the file if it exists
    #[arg(long, requires = "output")]
    pub replace: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Demo {
    /// The folder to write into
    #[arg(default_value = "typhos-demo", value_name = "DIR")]
    pub folder: PathBuf,

    /// How many tickets to make
    #[arg(long, value_name = "N", default_value_t = world::DEFAULT_ROWS)]
    pub rows: u64,

    /// The same seed gives the same data
    #[arg(long, value_name = "S", default_value_t = world::DEFAULT_SEED)]
    pub seed: u64,

    /// Write the data and run nothing on it
    #[arg(long)]
    pub data_only: bool,
}
