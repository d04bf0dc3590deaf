//! Groups of typed rows against a bare walk over the text that they came from.
//!
//! Usage: `uses [ROWS] [ROUNDS]`; `scripts/bench uses` builds everything and calls it. Commands are run in turn, and the best time
//! of each counts. Peak memory is what the kernel saw of the process.

use std::path::Path;
use std::process::ExitCode;

use typhos_benches::{Case, Tickets, binaries, numbers};

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let [rows, rounds] = numbers([5_000_000, 3]);
    let run = || -> Result<(), String> {
        let made = Tickets::make(rows)?;
        let parquet = made.beside("uses.parquet");
        let Tickets { typhos, file: tickets, schema, .. } = made;
        if !Path::new(&parquet).exists() {
            Case::new("load", &typhos, &["load", &schema, &tickets, "--into", &parquet]).run()?;
        }
        let by_month = ["--by", "route, month(departs_at)"];
        let by_ticket = ["--by", "ticket_no, booking", "--show", "count, mean(fare)", "--top", "3"];
        let text = ["tally", &schema, &tickets];
        let file = ["tally", &parquet];
        let case = |name: &'static str, what: &[&str], more: &[&str]| {
            Case::new(name, &typhos, &[what, more].concat())
        };
        let question = "departs_at < '2024-02-01'";
        let mut cases = [
            Case::new("csv crate, byte records", binaries()?.join("csv_walk"), &[&tickets]),
            case("by route and month, from Parquet", &file, &by_month),
            case("by route and month, from text", &text, &by_month),
            case(
                "sums, means and quantiles by cabin, from Parquet",
                &file,
                &[
                    "--by",
                    "cabin",
                    "--show",
                    "count, sum(fare), mean(fare), median(fare), distinct(route)",
                ],
            ),
            case("as many groups as rows, from Parquet", &file, &by_ticket),
            case("as many groups as rows, from text", &text, &by_ticket),
            Case::new(
                "peek, sorted by fare, the first 10, from Parquet",
                &typhos,
                &["peek", &parquet, "--sort", "fare desc, ticket_no"],
            ),
            Case::new(
                "peek, all rows of a question, from Parquet",
                &typhos,
                &["peek", &parquet, "--where", question, "--rows", "all", "--as", "csv"],
            ),
            Case::new(
                "SQL by route, from Parquet",
                &typhos,
                &["ask", &parquet, "select route, count(*), max(fare) from uses group by route"],
            ),
        ];
        for _ in 0..rounds {
            for case in &mut cases {
                case.run()?;
            }
        }
        let unit = cases[0].best.as_secs_f64();
        println!("{rows} tickets, best of {rounds}\n");
        println!("| work | seconds | ratio | peak memory |\n|---|---:|---:|---:|");
        for case in &cases {
            let seconds = case.best.as_secs_f64();
            let peak = case.peak_kib as f64 / 1024.0;
            println!("| {} | {seconds:.2} | {:.2} | {peak:.0} MiB |", case.name, seconds / unit);
        }
        Ok(())
    };
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("bench: {error}");
            ExitCode::FAILURE
        }
    }
}
