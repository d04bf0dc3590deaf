//! `typhos-standin-index`: a small index server on the loopback address, until it is stopped.
//!
//! `--port N` (a free one without it), `--data FOLDER` (a temporary one without it), `--authorization TEXT`.

use std::io::Write;
use std::path::PathBuf;
use std::process::ExitCode;

use typhos_standin_index::Server;

fn main() -> ExitCode {
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(what) => {
            let _ = writeln!(std::io::stderr(), "{what}");
            ExitCode::from(2)
        }
    }
}

fn run() -> Result<(), String> {
    let (mut port, mut data, mut authorization) = (0, None, None);
    let mut words = std::env::args().skip(1);
    while let Some(word) = words.next() {
        let mut value = || words.next().ok_or(format!("{word} needs a value"));
        match &word[..] {
            "--port" => port = value()?.parse().map_err(|_| "--port takes a number up to 65535")?,
            "--data" => data = Some(PathBuf::from(value()?)),
            "--authorization" => authorization = Some(value()?),
            other => {
                return Err(format!(
                    "unknown option {other}; there are --port N, --data FOLDER and --authorization TEXT, which every request \
                     has to have in its head (Basic … or ApiKey …)"
                ));
            }
        }
    }
    let temporary = tempfile::tempdir().map_err(|error| error.to_string())?;
    let folder = data.unwrap_or_else(|| temporary.path().to_path_buf());
    let server = Server::start(&folder, port, authorization).map_err(|error| error.reason)?;
    let mut out = std::io::stdout();
    let _ = writeln!(out, "index+http://{}", server.address());
    let _ = out.flush();
    server.wait();
    Ok(())
}
