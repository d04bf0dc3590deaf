//! The stand-in as a server of tests: one in this process, or one in a process of its own that can be killed.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::time::Duration;

use serde_json::{Value, json};

/// A server, and what it is asked beside the program.
pub struct Server {
    pub address: String,
    kind: Kind,
}

enum Kind {
    Here { _server: typhos_standin_index::Server, _folder: tempfile::TempDir },
    Apart(Child),
}

impl Server {
    /// A server with nothing in it.
    pub fn start() -> Server {
        Server::with_authorization(None)
    }

    /// One that lets in who has this in the head of a request.
    pub fn with_authorization(authorization: Option<&str>) -> Server {
        let folder = tempfile::tempdir().unwrap();
        let authorization = authorization.map(str::to_owned);
        let server = typhos_standin_index::Server::start(folder.path(), 0, authorization).unwrap();
        Server {
            address: server.address().to_string(),
            kind: Kind::Here { _server: server, _folder: folder },
        }
    }

    /// One in a process of its own, over a folder, on a port (0 for a free one).
    pub fn apart(folder: &Path, port: u16) -> Server {
        let mut child = Command::new(program())
            .args(["--port", &port.to_string(), "--data"])
            .arg(folder)
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let address =
            line.trim().strip_prefix("index+http://").expect("where it listens").to_owned();
        Server { address, kind: Kind::Apart(child) }
    }

    pub fn port(&self) -> u16 {
        self.address.rsplit(':').next().unwrap().parse().unwrap()
    }

    /// Ends it as `kill -9` does.
    pub fn kill(&mut self) {
        let Kind::Apart(child) = &mut self.kind else { panic!("it is in this process") };
        child.kill().unwrap();
        child.wait().unwrap();
    }

    pub fn url(&self, index: &str) -> String {
        format!("index+http://{}/{index}", self.address)
    }

    /// Asks; the status and the body.
    pub fn ask(&self, method: &str, path: &str, body: &Value) -> (u16, Value) {
        let agent: ureq::Agent = ureq::Agent::config_builder()
            .http_status_as_error(false)
            .timeout_global(Some(Duration::from_secs(120)))
            .build()
            .into();
        let request = ureq::http::Request::builder()
            .method(method)
            .uri(format!("http://{}/{path}", self.address))
            .header("content-type", "application/json")
            .body(if body.is_null() { String::new() } else { body.to_string() })
            .unwrap();
        let mut answer = agent.run(request).unwrap();
        let text = answer.body_mut().read_to_string().unwrap();
        let body =
            if text.is_empty() { Value::Null } else { serde_json::from_str(&text).expect("JSON") };
        (answer.status().as_u16(), body)
    }

    /// How many documents there are.
    pub fn count(&self, index: &str) -> u64 {
        self.ask("POST", &format!("{index}/_refresh"), &Value::Null);
        self.ask("GET", &format!("{index}/_count"), &Value::Null).1["count"]
            .as_u64()
            .unwrap_or(u64::MAX)
    }

    /// The names of all indexes.
    pub fn indexes(&self) -> Vec<String> {
        let (_, all) = self.ask("GET", "_all/_mapping", &Value::Null);
        all.as_object().unwrap().keys().cloned().collect()
    }

    pub fn misbehave(&self, how: Value) {
        assert_eq!(self.ask("POST", "_standin/misbehave", &how).0, 200);
    }

    pub fn behave(&self) {
        self.ask("DELETE", "_standin/misbehave", &json!(null));
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if let Kind::Apart(child) = &mut self.kind {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// The stand-in as a program, which is built where nobody has yet.
fn program() -> PathBuf {
    static PROGRAM: OnceLock<PathBuf> = OnceLock::new();
    let find = || {
        let folder = Path::new(env!("CARGO_BIN_EXE_typhos")).parent().unwrap();
        let program = folder.join("typhos-standin-index");
        let mut build = Command::new(env!("CARGO"));
        build.args(["build", "-q", "-p", "typhos-standin-index"]);
        build.current_dir(env!("CARGO_MANIFEST_DIR"));
        assert!(program.exists() || build.status().unwrap().success());
        program
    };
    PROGRAM.get_or_init(find).clone()
}
