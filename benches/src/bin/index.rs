//! Loads demo tickets into the stand-in for an index server, with Typhos and with a bare client that posts the same bulk bodies, prepared, over as
//! many connections, in turn, and prints how they compare.
//!
//! Usage: `index [ROWS] [ROUNDS]`. The bare client makes the same index and refreshes it at the end; it proves nothing. The best time of each
//! counts. Peak memory is what the kernel saw of Typhos.

use std::io::{BufRead, BufReader, Read};
use std::path::Path;
use std::process::{Child, Command, ExitCode, Stdio};
use std::sync::Mutex;
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use typhos_benches::{Case, Tickets, binaries, numbers};

/// Bytes of a request, as Typhos has them at most.
const REQUEST_BYTES: usize = 4 << 20;

/// Connections, as Typhos has them on two cores.
const CONNECTIONS: usize = 2;

/// A server, which ends with this.
struct Server {
    child: Child,
    address: String,
}

impl Server {
    fn start(program: &Path, folder: &Path) -> Result<Server, String> {
        let mut command = Command::new(program);
        let child = command.arg("--data").arg(folder).stdout(Stdio::piped()).spawn();
        let mut child = child.map_err(|error| error.to_string())?;
        let mut line = String::new();
        let out = child.stdout.take().ok_or("no output")?;
        BufReader::new(out).read_line(&mut line).map_err(|error| error.to_string())?;
        Ok(Server { child, address: line.trim().replacen("index+", "", 1) })
    }

    fn ask(&self, method: &str, path: &str, body: &[u8]) -> Result<Value, String> {
        let request = ureq::http::Request::builder()
            .method(method)
            .uri(format!("{}/{path}", self.address))
            .header("content-type", "application/x-ndjson")
            .body(body)
            .map_err(|error| error.to_string())?;
        let mut answer = ureq::run(request).map_err(|error| error.to_string())?;
        let text = answer.body_mut().with_config().limit(1 << 30).read_to_string();
        serde_json::from_str(&text.map_err(|error| error.to_string())?)
            .map_err(|error| error.to_string())
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The bodies of bulk requests that would make an index of what a log of the stand-in has.
fn bodies(folder: &Path) -> Result<Vec<Vec<u8>>, String> {
    let mut bodies = vec![Vec::new()];
    for entry in std::fs::read_dir(folder).map_err(|error| error.to_string())? {
        let log = entry.map_err(|error| error.to_string())?.path().join("log");
        let Ok(log) = std::fs::File::open(log) else { continue };
        let mut log = BufReader::new(log);
        let mut part = || -> Option<Vec<u8>> {
            let mut length = [0; 4];
            log.read_exact(&mut length).ok()?;
            let mut bytes = vec![0; u32::from_le_bytes(length) as usize];
            log.read_exact(&mut bytes).ok()?;
            Some(bytes)
        };
        while let (Some(id), Some(source)) = (part(), part()) {
            let id = String::from_utf8_lossy(&id).into_owned();
            let body = bodies.last_mut().expect("there is always one");
            body.extend_from_slice(json!({ "index": { "_id": id } }).to_string().as_bytes());
            body.push(b'\n');
            body.extend_from_slice(&source);
            body.push(b'\n');
            if body.len() > REQUEST_BYTES {
                bodies.push(Vec::new());
            }
        }
    }
    bodies.retain(|body| !body.is_empty());
    Ok(bodies)
}

/// Posts all bodies; how long that takes.
fn bare(server: &Server, mapping: &Value, bodies: &[Vec<u8>]) -> Result<Duration, String> {
    let since = Instant::now();
    server.ask("PUT", "bare", json!({ "mappings": mapping }).to_string().as_bytes())?;
    let next = Mutex::new(bodies.iter());
    let post = || -> Result<(), String> {
        loop {
            let body = next.lock().map_err(|error| error.to_string())?.next();
            let Some(body) = body else { return Ok(()) };
            let told = server.ask("POST", "bare/_bulk", body)?;
            if told["errors"] != json!(false) {
                return Err("the server refused documents".into());
            }
        }
    };
    std::thread::scope(|scope| {
        let couriers: Vec<_> = (0..CONNECTIONS).map(|_| scope.spawn(post)).collect();
        couriers
            .into_iter()
            .try_for_each(|it| it.join().map_err(|_| "a thread ended".to_owned())?)
    })?;
    server.ask("POST", "bare/_refresh", b"")?;
    let time = since.elapsed();
    server.ask("DELETE", "bare", b"")?;
    Ok(time)
}

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let [rows, rounds] = numbers([1_000_000, 3]);
    let run = || -> Result<(), String> {
        let Tickets { typhos, file: tickets, schema, .. } = Tickets::make(rows)?;
        let folder = tempfile::tempdir().map_err(|error| error.to_string())?;
        let server = Server::start(&binaries()?.join("typhos-standin-index"), folder.path())?;
        let url = format!("index+{}/tickets", server.address);
        let line = ["load", &schema, &tickets, "--mode", "replace", "--into", &url, "--quiet"];
        let mut with = Case::new("load", &typhos, &line);
        let mut without = Case::new("load", &typhos, &[&line[..], &["--no-proof"]].concat());
        Case::new("load", &typhos, &line).run()?;
        let mappings = server.ask("GET", "tickets/_mapping", b"")?;
        let (name, about) =
            mappings.as_object().and_then(|it| it.iter().next()).ok_or("no index")?;
        let (mapping, bodies) = (about["mappings"].clone(), bodies(folder.path())?);
        server.ask("DELETE", name, b"")?;
        let mut best = Duration::MAX;
        for _ in 0..rounds {
            best = best.min(bare(&server, &mapping, &bodies)?);
            for case in [&mut with, &mut without] {
                case.run()?;
                let made = server.ask("GET", "tickets/_mapping", b"")?;
                for name in made.as_object().into_iter().flatten().map(|(name, _)| name) {
                    server.ask("DELETE", name, b"")?;
                }
            }
        }
        println!(
            "{rows} tickets, best of {rounds}; a bare client that posts the same bodies takes {:.2} s\n",
            best.as_secs_f64()
        );
        println!(
            "| load into an index | seconds | ratio | target | memory |\n|---|---:|---:|---:|---:|"
        );
        for (name, case) in [("proven", &with), ("without proof", &without)] {
            let (seconds, floor) = (case.best.as_secs_f64(), best.as_secs_f64());
            println!(
                "| {name} | {seconds:.2} | {:.2} | 1.30 | {} MiB |",
                seconds / floor,
                case.peak_kib >> 10
            );
        }
        Ok(())
    };
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            eprintln!("index: {message}");
            ExitCode::FAILURE
        }
    }
}
