//! Loads demo tickets into servers, with Typhos and with each server's own client, in turn, and prints how
//! they compare. Both load the same CSV into a table of the same types. Beside the tickets there are a narrow file and a wide
//! one of plain values, which are also added to tables that exist, and grow with every round.
//!
//! Both go into SQLite as well, against its shell, where that is installed.
//!
//! Usage: `servers [ROWS] [ROUNDS]`; `scripts/bench load` starts the servers and says where they are, in
//! `BENCH_POSTGRES`, `BENCH_MARIADB` and `BENCH_CLICKHOUSE` (ports). The rounds are interleaved, and the best time
//! of each command counts. Peak memory is what the kernel saw of the process.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::process::{Command, ExitCode};

use typhos_benches::{Case, Tickets, numbers};

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let [rows, rounds] = numbers([1_000_000, 5]);
    let run = || -> Result<(), String> {
        let made = Tickets::make(rows)?;
        let path = |name: &str| made.beside(name);
        let Tickets { typhos, file: tickets, schema, .. } = &made;
        let port = |server: &str| std::env::var(format!("BENCH_{server}")).ok();
        let mut pairs: Vec<Pair> = Vec::new();
        let target = path("t.parquet");
        let script = path("own.sh");
        std::fs::write(&script, CLIENT).map_err(|error| error.to_string())?;
        let load = |into: &str, more: &[&str]| {
            let mut line =
                vec!["load", schema, tickets, "--mode", "replace", "--into", into, "--quiet"];
            line.extend(more);
            line.iter().map(ToString::to_string).collect::<Vec<_>>()
        };
        let case = |name: &'static str, line: Vec<String>| {
            Case::new(name, typhos, &line.iter().map(String::as_str).collect::<Vec<_>>())
        };
        let scout = || Case::new("scout", typhos, &["scout", tickets]);
        pairs.push(("Parquet against scout".into(), 1.3, [case("", load(&target, &[])), scout()]));
        let parquet = (
            "Parquet without proof".into(),
            1.3,
            [case("", load(&target, &["--no-proof"])), scout()],
        );
        pairs.push(parquet);
        for (server, url, most) in [
            (
                "PostgreSQL",
                port("POSTGRES").map(|port| format!("postgres://bench@127.0.0.1:{port}/bench")),
                0.75,
            ),
            (
                "MariaDB",
                port("MARIADB").map(|port| format!("mysql://bench@127.0.0.1:{port}/bench")),
                1.0,
            ),
            (
                "ClickHouse",
                port("CLICKHOUSE").map(|port| format!("clickhouse://127.0.0.1:{port}/default")),
                1.0,
            ),
        ] {
            let Some(url) = url else { continue };
            // The table for the client is that of Typhos, emptied.
            case("", load(&url, &["--table", "own"])).run()?;
            let client = || Case::new("its client", "bash", &[&script, server, tickets]);
            if server == "ClickHouse" {
                Case::new("plain file", "bash", &["-c", PLAIN, "", tickets]).run()?;
            }
            pairs.push((server.into(), most, [case("", load(&url, &[])), client()]));
            pairs.push((
                format!("{server} without proof"),
                most,
                [case("", load(&url, &["--no-proof"])), client()],
            ));
            for shape in &SHAPES {
                let (file, schema) = shape.made(&made)?;
                let own = format!("own_{}", shape.name);
                let line = |mode: &str, table: &str| {
                    let line = [
                        "load", &schema, &file, "--into", &url, "--quiet", "--mode", mode,
                        "--table", table,
                    ];
                    case("", line.map(String::from).to_vec())
                };
                let client = |how: &str| {
                    Case::new("its client", "bash", &[&script, server, &file, &own, how])
                };
                let kept = format!("kept_{}", shape.name);
                for table in [&own, &kept] {
                    line("replace", table).run()?;
                }
                let ours =
                    [line("replace", &format!("made_{}", shape.name)), line("append", &kept)];
                pairs.extend(shape.pairs(server, ours, client));
            }
        }
        if Command::new("sqlite3").arg("--version").output().is_ok() {
            let program = typhos.to_string_lossy();
            for shape in &SHAPES {
                let (file, schema) = shape.made(&made)?;
                let [own, new, kept] =
                    ["own", "made", "kept"].map(|of| path(&format!("{of}_{}.sqlite", shape.name)));
                let into = |database: &str| {
                    ["load", &schema, &file, "-q", "--into", database].map(String::from)
                };
                for database in [&own, &kept] {
                    let _ = std::fs::remove_file(database);
                    case("", into(database).to_vec()).run()?;
                }
                // A new database, not one in which a table is replaced.
                let line = into(&new);
                let anew = ["-c", "rm -f \"$0\"; exec \"$@\"", &new, &program];
                let anew: Vec<_> =
                    anew.into_iter().chain(line.iter().map(String::as_str)).collect();
                let append = into(&kept).into_iter().chain(["--mode", "append"].map(String::from));
                let ours = [Case::new("", "bash", &anew), case("", append.collect())];
                let client = |how: &str| {
                    let line = [&script, "SQLite", &file, shape.name, how, &own];
                    Case::new("its shell", "bash", &line)
                };
                pairs.extend(shape.pairs("SQLite", ours, client));
            }
        }
        for _ in 0..rounds {
            for (_, _, [ours, theirs]) in &mut pairs {
                ours.run()?;
                theirs.run()?;
            }
        }
        println!("{rows} tickets, best of {rounds}\n");
        println!(
            "| load into | seconds | the other | ratio | target | memory |\n|---|---:|---:|---:|---:|---:|"
        );
        for (name, most, [ours, theirs]) in &pairs {
            println!(
                "| {name} | {:.2} | {:.2} | {:.2} | {most:.2} | {} MiB |",
                ours.best.as_secs_f64(),
                theirs.best.as_secs_f64(),
                ours.best.as_secs_f64() / theirs.best.as_secs_f64(),
                ours.peak_kib >> 10
            );
        }
        Ok(())
    };
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            eprintln!("servers: {message}");
            ExitCode::FAILURE
        }
    }
}

/// For each database the most that making a table and adding to one may take, as a multiple of its client.
const TARGETS: [(&str, [f64; 2]); 4] = [
    ("PostgreSQL", [0.65, 0.9]),
    ("MariaDB", [0.95, 1.1]),
    ("ClickHouse", [0.8, 1.0]),
    ("SQLite", [0.7, 0.8]),
];

/// A file of plain values.
struct Shape {
    name: &'static str,
    rows: u64,
    columns: usize,
}

const SHAPES: [Shape; 2] = [
    Shape { name: "narrow", rows: 400_000, columns: 4 },
    Shape { name: "wide", rows: 60_000, columns: 60 },
];

/// A name, the most that the first may take as a multiple of the second, and the two.
type Pair = (String, f64, [Case; 2]);

impl Shape {
    /// The file and its schema, which are made where they are not there.
    fn made(&self, tickets: &Tickets) -> Result<(String, String), String> {
        let file = tickets.beside(&format!("{}.csv", self.name));
        let schema = tickets.beside(&format!("{}.typhos.toml", self.name));
        if !Path::new(&schema).exists() {
            write(&file, self.rows, self.columns).map_err(|error| error.to_string())?;
            Case::new("", &tickets.typhos, &["draft", &file, "-o", &schema]).run()?;
        }
        Ok((file, schema))
    }

    /// What makes a table and what adds to one, each against the client of a database.
    fn pairs(
        &self,
        database: &str,
        ours: [Case; 2],
        client: impl Fn(&str) -> Case,
    ) -> impl Iterator<Item = Pair> {
        let targets = TARGETS.iter().find(|(known, _)| *known == database);
        let (_, targets) = targets.expect("every database has targets");
        let pairs = ["create", "append"].into_iter().zip(ours).zip(*targets);
        pairs.map(move |((how, ours), most)| {
            (format!("{database}, {}, {how}", self.name), most, [ours, client(how)])
        })
    }
}

/// Writes rows of integers, decimals, words and days, none of them absent.
fn write(path: &str, rows: u64, columns: usize) -> std::io::Result<()> {
    let mut file = BufWriter::new(File::create(path)?);
    let names: Vec<String> = (0..columns).map(|at| format!("c{at}")).collect();
    writeln!(file, "{}", names.join(","))?;
    for row in 0..rows {
        for at in 0..columns {
            let separator = if at == 0 { "" } else { "," };
            // Numbers that look like chance, and are the same in every run.
            let number = (row + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(at as u32) >> 40;
            match at % 4 {
                0 => write!(file, "{separator}{number}")?,
                1 => write!(file, "{separator}{}.{:02}", number % 9_000, number % 100)?,
                2 => write!(file, "{separator}w{:x}", number)?,
                _ => write!(file, "{separator}2024-{:02}-{:02}", 1 + number % 12, 1 + number % 28)?,
            }
        }
        writeln!(file)?;
    }
    file.flush()
}

/// A file as the client of ClickHouse reads it.
const PLAIN: &str = r"sed -E '1d; s#^([0-9]+,[0-9]+,)([0-9]{2})/([0-9]{2})/([0-9]{2}),#\120\4-\2-\3,#; s#^([0-9]+,([^,]*,){6}),#\1\\N,#; s#,$#,\\N#' $1 > $1.plain";

/// What each server's own client does: `bash own.sh SERVER CSV` for tickets, and `… TABLE create|append` for plain values.
const CLIENT: &str = r#"set -euo pipefail
csv=$2
if [ $# -gt 2 ]; then
  table=$3
  case $1 in
    PostgreSQL)
      export PGHOST=127.0.0.1 PGPORT=$BENCH_POSTGRES PGUSER=bench PGDATABASE=bench
      case $4 in
        create) psql -q -v ON_ERROR_STOP=1 -c 'BEGIN' -c "CREATE TABLE client_$table (LIKE $table)" -c "\copy client_$table from '$csv' csv header" -c 'COMMIT' -c "DROP TABLE client_$table" ;;
        append) psql -q -v ON_ERROR_STOP=1 -c "\copy $table from '$csv' csv header" ;;
      esac
      ;;
    MariaDB)
      into="LOAD DATA LOCAL INFILE '$csv' INTO TABLE"
      how="CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' LINES TERMINATED BY '\n' IGNORE 1 LINES"
      case $4 in
        create) sql="CREATE TABLE client_$table LIKE $table; $into client_$table $how; DROP TABLE client_$table" ;;
        append) sql="$into $table $how" ;;
      esac
      mariadb --local-infile=1 -h 127.0.0.1 -P "$BENCH_MARIADB" -u bench bench -e "$sql"
      ;;
    ClickHouse)
      ask() { clickhouse-client --port "$BENCH_CLICKHOUSE_TCP" --allow_experimental_low_cardinality_type=1 -q "$@"; }
      case $4 in
        create) ask "CREATE TABLE client_$table AS $table"; ask "INSERT INTO client_$table FORMAT CSVWithNames" < "$csv"; ask "DROP TABLE client_$table" ;;
        append) ask "INSERT INTO $table FORMAT CSVWithNames" < "$csv" ;;
      esac
      ;;
    SQLite)
      own=$5
      case $4 in
        create) client=$own.client; rm -f "$client"; sqlite3 "$client" "$(sqlite3 "$own" ".schema $table")" ;;
        append) client=$own ;;
      esac
      sqlite3 "$client" -cmd '.mode csv' ".import --skip 1 '$csv' $table"
      ;;
  esac
  exit
fi
case $1 in
  PostgreSQL)
    export PGHOST=127.0.0.1 PGPORT=$BENCH_POSTGRES PGUSER=bench PGDATABASE=bench PGOPTIONS='-c datestyle=iso,mdy'
    psql -q -v ON_ERROR_STOP=1 -c 'BEGIN' -c 'TRUNCATE own' -c "\copy own from '$csv' csv header" -c 'COMMIT'
    ;;
  MariaDB)
    mariadb --local-infile=1 -h 127.0.0.1 -P "$BENCH_MARIADB" -u bench bench -e "TRUNCATE own; LOAD DATA LOCAL INFILE '$csv' INTO TABLE own CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"' ESCAPED BY '' LINES TERMINATED BY '\n' IGNORE 1 LINES (ticket_no, booking, @d, departs_at, route, cabin, fare, @p, \`Sold by (agent)\`, @n) SET sold_on = str_to_date(@d, '%m/%d/%y'), party = nullif(@p, ''), note = nullif(@n, '')"
    ;;
  ClickHouse)
    clickhouse-client --port "$BENCH_CLICKHOUSE_TCP" -q 'DROP TABLE IF EXISTS own_raw'
    clickhouse-client --port "$BENCH_CLICKHOUSE_TCP" --allow_experimental_low_cardinality_type=1 -q 'CREATE TABLE own_raw AS own'
    # Its client reads no dates of this kind, and no blanks as null: a file that has them was made before.
    clickhouse-client --port "$BENCH_CLICKHOUSE_TCP" --allow_experimental_low_cardinality_type=1 -q 'INSERT INTO own_raw FORMAT CSV' < "$csv.plain"
    ;;
esac
"#;
