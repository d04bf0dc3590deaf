//! `typhos demo`: made-up data, and every step of the work on it.
//!
//! The steps are run as they are shown: each command line is parsed again and taken like any other.

use std::path::Path;

use clap::Parser;
use serde_json::json;
use typhos_core::infer::counted;

use crate::args::{Args, Common, Demo};
use crate::console::{self, BOLD, Console, DIM, FOUND, GOOD, paint};
use crate::outcome::{Failure, Outcome};
use crate::world;

/// What the columns of the crossings are.
const CROSSINGS: &str = "sailed_on,vessel,port,departs,arrives,wind,passengers,remark";

/// Marks a folder as one that the demo made and may write into again.
const MARKER: &str = ".typhos-demo";

pub fn run(args: &Demo, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    prepare(&args.folder)?;
    let files = world::write(&args.folder, args.rows, args.seed)
        .map_err(|(path, error)| Failure::Machine(format!("{}: {error}", path.display())))?;
    let bytes: u64 =
        files.iter().filter_map(|file| file.metadata().ok()).map(|about| about.len()).sum();
    let folder = args.folder.display();
    console.say(format!(
        "{} {folder}: {} of Skerrow Ferries, a line that never was  {}",
        paint(GOOD, "wrote"),
        counted(files.len() as u64, "file"),
        paint(DIM, format!("{}, {}", console::bytes(bytes), counted(args.rows, "ticket")))
    ))?;
    if args.data_only {
        return Ok(Outcome::Clean);
    }
    let path = |name: &str| args.folder.join(name).display().to_string();
    let (tickets, schema, refused) =
        (path("tickets.csv"), path("tickets.typhos.toml"), path("refused.csv"));
    let (lake, database) = (path("tickets.parquet"), path("ferry.sqlite"));
    let (crossings, sailings, index) =
        (path("crossings"), path("crossings.typhos.toml"), path("crossings.index"));
    // The server of the last steps: a stand-in, for as long as the demo runs.
    let data = tempfile::tempdir().map_err(|error| Failure::Machine(error.to_string()))?;
    let server = typhos_standin_index::Server::start(data.path(), 0, None)
        .map_err(|error| Failure::Machine(error.reason))?;
    let url = format!("index+http://{}/crossings", server.address());
    let lines: [(&str, Vec<&str>); 13] = [
        ("Look at the raw file: its layout, and what every column holds.", vec!["scout", &tickets]),
        (
            "Draft a schema from all of its rows, with the evidence as comments.",
            vec!["draft", &tickets, "-o", &schema, "--replace"],
        ),
        ("Hold the file against it.", vec!["check", &schema, &tickets]),
        (
            "Hold another file against it, one with everything wrong.",
            vec!["check", &schema, &refused],
        ),
        (
            "Weigh it: what each column takes as text, with wide types, and as declared.",
            vec!["weigh", &schema, &tickets],
        ),
        (
            "Load typed rows into a directory of Parquet.",
            vec!["load", &schema, &tickets, "--into", &lake, "--parts", "2", "--mode", "replace"],
        ),
        (
            "And into a table of a SQLite database.",
            vec!["load", &schema, &tickets, "--into", &database, "--mode", "replace"],
        ),
        ("Read back what was loaded.", vec!["peek", &lake, "--rows", "5"]),
        ("From the database too.", vec!["peek", &database, "--rows", "5"]),
        (
            "Draft a schema of the crossings: twelve files without a header, in an encoding of their own.",
            vec![
                "draft",
                &crossings,
                "--encoding",
                "windows-1252",
                "--names",
                CROSSINGS,
                "-o",
                &sailings,
                "--replace",
            ],
        ),
        (
            "Load them into a search index; a stand-in for its server runs as long as this demo.",
            vec!["load", &sailings, &crossings, "--into", &url],
        ),
        (
            "And into an index in a directory, which needs no server.",
            vec!["load", &sailings, &crossings, "--into", &index, "--mode", "replace"],
        ),
        (
            "Read the documents of the server, typed by its mapping.",
            vec!["peek", &url, "--rows", "5"],
        ),
    ];
    for (at, (why, line)) in lines.iter().enumerate() {
        tell(at + 1, why, line, common, console)?;
        if line.contains(&&schema[..]) && line[0] == "draft" {
            let text = std::fs::read_to_string(&schema)
                .map_err(|error| Failure::Machine(format!("{schema}: {error}")))?;
            console.say(text.trim_end())?;
        }
    }
    search(&url, lines.len() + 1, console)?;
    let page = path("tickets.html");
    let uses: [(&str, Vec<&str>); 3] = [
        (
            "Use the types: fares by cabin and year.",
            vec![
                "tally",
                &lake,
                "--by",
                "cabin, year(departs_at)",
                "--show",
                "count, mean(fare), sum(fare), median(fare)",
            ],
        ),
        (
            "Departures by month, drawn.",
            vec!["tally", &lake, "--by", "month(departs_at)", "--chart", "bar"],
        ),
        (
            "And a page of the raw file, to be sent.",
            vec!["report", &tickets, "-o", &page, "--replace"],
        ),
    ];
    for (at, (why, line)) in uses.iter().enumerate() {
        tell(lines.len() + 2 + at, why, line, common, console)?;
    }
    console.say("")?;
    console.say(format!(
        "{} Everything is in {}. Try next:",
        paint(GOOD, "Done."),
        paint(BOLD, folder.to_string())
    ))?;
    for (line, why) in [
        (format!("typhos scout {tickets} --column booking"), "why is this column text?"),
        (format!("typhos scout {}", path("gauges.tsv")), "tabs, offsets, seven digits of a second"),
        (
            format!("typhos peek {schema} {tickets} --where \"fare > 80\" --sort 'fare desc'"),
            "typed rows straight from the text",
        ),
        (
            format!("typhos ask {tickets} \"select route, max(fare) from tickets group by route\""),
            "SQL, without a schema or a database",
        ),
    ] {
        console.say(format!("  {}  {}", paint(FOUND, line), paint(DIM, format!("# {why}"))))?;
    }
    Ok(Outcome::Clean)
}

/// Tells of a step, shows its command line, and takes it.
fn tell(
    number: usize,
    why: &str,
    line: &[&str],
    common: &Common,
    console: &mut Console,
) -> Result<(), Failure> {
    console.say("")?;
    console.say(paint(BOLD, format!("{number}. {why}")))?;
    // As a shell takes it.
    let words = line.iter().map(|word| match word.contains([' ', '(']) {
        true => format!("'{word}'"),
        false => word.to_string(),
    });
    let line_shown = words.collect::<Vec<_>>().join(" ");
    console.say(format!("{} {}", paint(DIM, "$"), paint(FOUND, format!("typhos {line_shown}"))))?;
    step(line, common, console)
}

/// Asks the index something that needs one, as any client of it would.
fn search(url: &str, number: usize, console: &mut Console) -> Result<(), Failure> {
    let body = json!({
        "query": { "bool": { "must": { "term": { "remark": "fog" } }, "filter": { "range": { "wind": { "gte": 20 } } } } },
        "sort": [{ "passengers": "desc" }], "size": 3,
    });
    console.say("")?;
    console.say(paint(
        BOLD,
        format!("{number}. Search it: the fullest crossings in fog and a strong wind."),
    ))?;
    let address = url.trim_start_matches("index+");
    let line = format!("curl -s {address}/_search -H 'content-type: application/json' -d '{body}'");
    console.say(format!("{} {}", paint(DIM, "$"), paint(FOUND, line)))?;
    let found = typhos_servers::index::search(url, &body)?;
    let hits = &found["hits"];
    console.say(format!(
        "{} found; the first of them:",
        counted(hits["total"]["value"].as_u64().unwrap_or(0), "document")
    ))?;
    for hit in hits["hits"].as_array().into_iter().flatten() {
        console.say(format!("  {}", console::safe(&hit["_source"].to_string())))?;
    }
    Ok(())
}

/// Makes the folder, or makes sure that it is one the demo may write into.
fn prepare(folder: &Path) -> Result<(), Failure> {
    let failed = |error: std::io::Error| Failure::Machine(format!("{}: {error}", folder.display()));
    let marker = folder.join(MARKER);
    if folder.exists() && !marker.exists() {
        let mut entries = std::fs::read_dir(folder).map_err(failed)?;
        if entries.next().is_some() {
            let message = format!(
                "{} is there and not empty, and no demo made it; name another folder",
                folder.display()
            );
            return Err(Failure::Usage(message));
        }
    }
    std::fs::create_dir_all(folder).map_err(failed)?;
    std::fs::write(
        &marker,
        "The files in this folder were made by 'typhos demo' and may be made again.\n",
    )
    .map_err(failed)
}

/// Runs one command line of the story. Misfits are part of it; failures are not.
fn step(line: &[&str], common: &Common, console: &mut Console) -> Result<(), Failure> {
    let mut args = Args::try_parse_from(std::iter::once(&"typhos").chain(line))
        .map_err(Failure::CommandLine)?;
    args.common = *common;
    super::run(args, console)?;
    console.flush()?;
    Ok(())
}
