//! What `typhos load` is asked.

use std::path::PathBuf;
use std::time::Duration;

use clap::Args as ClapArgs;
use typhos_core::text::Part;
use typhos_load::{MisfitLimit, Mode, Seen, Statements, Timeouts};

use super::input::InputArgs;
use super::values::{
    parse_memory, parse_misfit_limit, parse_mode, parse_part_size, parse_seconds, parse_seen,
};

#[derive(Debug, ClapArgs)]
pub struct Load {
    /// The schema file
    pub schema: PathBuf,

    /// Files, directories or patterns to load; '-' is standard input
    #[arg(required = true, value_name = "INPUT")]
    pub inputs: Vec<PathBuf>,

    /// Where to: a file.parquet, file.arrow or database.sqlite; a directory, with --parts, --part-size or
    /// partitions; s3://BUCKET/KEY.parquet in an object store (also gs:// and az://); NAME.index for an embedded search index; an
    /// Iceberg table: iceberg+sqlite:CATALOG.db, iceberg+postgresql://USER@HOST/DATABASE or iceberg+https://HOST; or a server:
    /// postgres://, mysql:// or clickhouse:// USER@HOST/DATABASE, index+http:// or index+https:// USER@HOST/INDEX
    #[arg(long, value_name = "TARGET")]
    pub into: String,

    /// Show what would happen, and what the problems are; change nothing
    #[arg(long)]
    pub plan: bool,

    /// Read the rows for the plan, too: how many would be new, there already, updated and set aside. A database is asked about
    /// their keys, and is as it was afterwards
    #[arg(long, requires = "plan")]
    pub count: bool,

    /// What happens to what is there: create refuses it, append adds to it, refill exchanges the rows of a table and keeps the
    /// table, replace takes its place
    #[arg(long, value_name = "HOW", value_parser = parse_mode, default_value = "create")]
    pub mode: Mode,

    /// What happens to rows whose key is in the table already: stop, skip or update
    #[arg(long, value_name = "WHAT", value_parser = parse_seen, default_value = "stop")]
    pub seen: Seen,

    /// Stop when more than N values and records do not fit: 10, or 0.1% of the records
    #[arg(long, value_name = "N", value_parser = parse_misfit_limit)]
    pub misfit_limit: Option<MisfitLimit>,

    /// Do not ask the target whether it has what was sent
    #[arg(long)]
    pub no_proof: bool,

    /// Write a directory of N Parquet files
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1_000))]
    pub parts: Option<u32>,

    /// Write a directory of Parquet files of about SIZE bytes each
    #[arg(long, value_name = "SIZE", value_parser = parse_part_size, conflicts_with = "parts")]
    pub part_size: Option<u64>,

    /// Load one of so many parts of the input only, 3/16, into a stage: 'commit' publishes the directory of Parquet files once
    /// all parts are there
    #[arg(long, value_name = "N/COUNT", conflicts_with_all = ["plan", "seen_file", "history"], value_parser = Part::parse)]
    pub part: Option<Part>,

    /// The byte of its file at which the first record of the part starts, where that is known
    #[arg(long, value_name = "BYTE", requires = "part")]
    pub begin: Option<u64>,

    /// The folder in which parts wait, which all of them see [default: TARGET.stage]
    #[arg(long, value_name = "DIR", requires = "part")]
    pub stage: Option<PathBuf>,

    /// Name of the table in a database; on a server, also SCHEMA.TABLE or DATABASE.TABLE, each part in double quotes where it has
    /// a point in it; in a catalog of Iceberg tables, NAMESPACE.TABLE [default: the schema's, or the name of the first file]
    #[arg(long, value_name = "NAME")]
    pub table: Option<String>,

    /// The most memory: fewer threads work at once where it is short, and what does not fit goes into temporary files
    /// [default: 256 MiB]
    #[arg(long, value_name = "SIZE", value_parser = parse_memory)]
    pub memory: Option<usize>,

    /// The most memory that sorting takes of it, where [layout] says what rows are sorted by [default: all of it]
    #[arg(long, value_name = "SIZE", value_parser = parse_memory)]
    pub sort_memory: Option<usize>,

    /// Where records go that are set aside [default: beside the target]
    #[arg(long, value_name = "FILE")]
    pub rejects: Option<PathBuf>,

    /// Print the account as JSON
    #[arg(long)]
    pub json: bool,

    #[command(flatten)]
    pub server: ServerArgs,

    #[command(flatten)]
    pub input: InputArgs,
}

/// What is asked of a database.
#[derive(Debug, ClapArgs)]
#[command(next_help_heading = "Databases")]
pub struct ServerArgs {
    /// A statement that the session executes before anything else, in the transaction of the load where there is one; repeatable
    #[arg(long, value_name = "SQL")]
    pub before: Vec<String>,

    /// A statement that it executes behind everything else, in the same transaction; repeatable
    #[arg(long, value_name = "SQL")]
    pub after: Vec<String>,

    /// Write down in the table typhos_loads of the database which files were loaded: name, bytes, hash, rows, time
    #[arg(long)]
    pub history: bool,

    /// What happens to a file whose contents the history has for this table: stop, skip (leave it out) or load; with it, a
    /// history is kept [default: stop where rows are added, load where others go]
    #[arg(long, value_name = "WHAT", value_parser = parse_seen_file)]
    pub seen_file: Option<SeenFile>,

    /// How long a connection may take to come about; 0 for as long as it takes
    #[arg(long, value_name = "SECONDS", value_parser = parse_seconds, default_value = "20")]
    pub connect_timeout: Duration,

    /// How long a server may be mute while a load is at work there
    #[arg(long, value_name = "SECONDS", value_parser = parse_seconds, default_value = "60")]
    pub answer_timeout: Duration,

    /// How long a lock is waited for that somebody else holds
    #[arg(long, value_name = "SECONDS", value_parser = parse_seconds, default_value = "600")]
    pub lock_timeout: Duration,

    /// How long a statement may take; 0 for as long as it takes
    #[arg(long, value_name = "SECONDS", value_parser = parse_seconds, default_value = "0")]
    pub statement_timeout: Duration,
}

/// What happens to a file that was loaded before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SeenFile {
    /// The load stops.
    Stop,
    /// It is left out.
    Skip,
    /// It is loaded again.
    Load,
}

fn parse_seen_file(word: &str) -> Result<SeenFile, String> {
    Ok(match word {
        "stop" => SeenFile::Stop,
        "skip" => SeenFile::Skip,
        "load" => SeenFile::Load,
        _ => return Err("use stop, skip or load".into()),
    })
}

impl ServerArgs {
    /// Whether a history is kept, and what happens to files that are in it.
    pub fn seen_file(&self, mode: Mode) -> Option<SeenFile> {
        // Rows that take the place of others are no second time.
        let usual = if mode == Mode::Append { SeenFile::Stop } else { SeenFile::Load };
        self.seen_file.or(self.history.then_some(usual))
    }

    /// How long servers are waited for.
    pub fn timeouts(&self) -> Timeouts {
        Timeouts {
            connect: self.connect_timeout,
            answer: self.answer_timeout,
            lock: self.lock_timeout,
            statement: self.statement_timeout,
        }
    }

    /// What is executed beside the load.
    pub fn statements(&self) -> Statements {
        Statements { before: self.before.clone(), after: self.after.clone() }
    }
}
