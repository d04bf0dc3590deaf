//! A server for tests: PostgreSQL, MariaDB or ClickHouse in a temporary folder, on a free port. A server
//! that is not installed is a failure where `CI` is set, and skipped with a word elsewhere.

use std::fs;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, OnceLock};
use std::time::{Duration, Instant};

use mysql::prelude::Queryable;

use super::certificate;
use crate::small_disk::SmallDisk;
use crate::world::tool_that_answers;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    Postgres,
    Mariadb,
    ClickHouse,
}

impl Kind {
    pub const ALL: [Kind; 3] = [Kind::Postgres, Kind::Mariadb, Kind::ClickHouse];

    fn program(self) -> Option<PathBuf> {
        let found = |paths: &[PathBuf]| paths.iter().find(|path| path.exists()).cloned();
        match self {
            Kind::Postgres => {
                let mut versions: Vec<_> =
                    fs::read_dir("/usr/lib/postgresql").ok()?.flatten().collect();
                versions.sort_by_key(|entry| entry.file_name());
                found(&[versions.last()?.path().join("bin/postgres")])
            }
            Kind::Mariadb => found(&["/usr/sbin/mariadbd".into(), "/usr/bin/mariadbd".into()]),
            Kind::ClickHouse => {
                found(&["/usr/sbin/clickhouse-server".into(), "/usr/bin/clickhouse-server".into()])
            }
        }
    }
}

/// A running server. It ends with the tests.
pub struct Server {
    pub kind: Kind,
    pub port: u16,
    /// Where it takes encrypted connections.
    pub encrypted_port: u16,
    program: PathBuf,
    folder: PathBuf,
    child: Mutex<Child>,
}

static DATABASES: AtomicU32 = AtomicU32::new(0);

impl Server {
    /// The server that tests share; each has its own database there.
    pub fn shared(kind: Kind) -> Option<&'static Server> {
        static SERVERS: [OnceLock<Option<Server>>; 3] = [const { OnceLock::new() }; 3];
        SERVERS[kind as usize].get_or_init(|| Server::start(kind)).as_ref()
    }

    /// A server of a test's own.
    pub fn start(kind: Kind) -> Option<Server> {
        let Some(program) = kind.program() else {
            assert!(
                std::env::var_os("CI").is_none(),
                "{kind:?} is not installed, and must be where CI is set"
            );
            eprintln!("skipped: {kind:?} is not installed");
            return None;
        };
        if !tool_that_answers("openssl", "version") {
            return None;
        }
        let folder = folder();
        let port = free_port();
        let encrypted_port = if kind == Kind::ClickHouse { free_port() } else { port };
        certificate::make(&folder.join("tls"), user_of(kind));
        prepare(kind, &program, &folder, [port, encrypted_port]);
        let child = Mutex::new(run(kind, &program, &folder, port));
        let server = Server { kind, program, port, encrypted_port, folder, child };
        server.wait();
        Some(server)
    }

    /// Waits until it answers.
    fn wait(&self) {
        let end = Instant::now() + Duration::from_secs(60);
        while !self.answers() {
            let log = fs::read_to_string(self.folder.join("log")).unwrap_or_default();
            assert!(Instant::now() < end, "{:?} does not start:\n{log}", self.kind);
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    /// Starts it again on the data it has.
    pub fn start_again(&self) {
        *self.child.lock().unwrap() = run(self.kind, &self.program, &self.folder, self.port);
        self.wait();
    }

    fn answers(&self) -> bool {
        match self.kind {
            Kind::Postgres => self.postgres("postgres").is_ok(),
            Kind::Mariadb => self.mariadb("").is_ok(),
            Kind::ClickHouse => {
                ureq::get(format!("http://127.0.0.1:{}/", self.port)).call().is_ok()
            }
        }
    }

    fn postgres(&self, database: &str) -> Result<postgres::Client, postgres::Error> {
        postgres::Config::new()
            .host("127.0.0.1")
            .port(self.port)
            .user("tester")
            .dbname(database)
            .connect(postgres::NoTls)
    }

    fn mariadb(&self, database: &str) -> mysql::Result<mysql::Conn> {
        let options = mysql::OptsBuilder::new()
            .ip_or_hostname(Some("127.0.0.1"))
            .tcp_port(self.port)
            .user(Some("tester"))
            .db_name((!database.is_empty()).then_some(database))
            .prefer_socket(false);
        mysql::Conn::new(options)
    }

    /// A database of its own for a test.
    pub fn database(&self) -> Database<'_> {
        let name = format!("ferry_{}", DATABASES.fetch_add(1, Ordering::Relaxed));
        let outside = match self.kind {
            Kind::Postgres => "postgres",
            Kind::Mariadb => "",
            Kind::ClickHouse => "default",
        };
        Database { server: self, name: outside.into() }.run(&format!("CREATE DATABASE {name}"));
        Database { server: self, name }
    }

    /// The certificate of the authority that vouches for it.
    pub fn authority(&self) -> PathBuf {
        self.folder.join("tls/authority.pem")
    }

    /// Stops it at once.
    pub fn kill(&self) {
        let mut child = self.child.lock().unwrap();
        let _ = child.kill();
        let _ = child.wait();
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.kill();
        let _ = fs::remove_dir_all(&self.folder);
    }
}

/// A database of a server.
pub struct Database<'s> {
    pub server: &'s Server,
    pub name: String,
}

impl Database<'_> {
    /// The URL that a load takes.
    pub fn url(&self) -> String {
        let (scheme, user) = match self.server.kind {
            Kind::Postgres => ("postgres", "tester@"),
            Kind::Mariadb => ("mysql", "tester@"),
            Kind::ClickHouse => ("clickhouse", ""),
        };
        format!("{scheme}://{user}127.0.0.1:{}/{}", self.server.port, self.name)
    }

    /// The rows of an answer, as text; `null` where a value is none.
    pub fn rows(&self, sql: &str) -> Vec<Vec<String>> {
        let null = || "null".to_owned();
        match self.server.kind {
            Kind::Postgres => {
                let mut client = self.server.postgres(&self.name).unwrap();
                let messages =
                    client.simple_query(sql).unwrap_or_else(|error| panic!("{sql}: {error:?}"));
                let rows = messages.into_iter().filter_map(|message| match message {
                    postgres::SimpleQueryMessage::Row(row) => Some(
                        (0..row.len())
                            .map(|at| row.get(at).map_or_else(null, str::to_owned))
                            .collect(),
                    ),
                    _ => None,
                });
                rows.collect()
            }
            Kind::Mariadb => {
                let mut conn = self.server.mariadb(&self.name).unwrap();
                let rows: Vec<mysql::Row> =
                    conn.query(sql).unwrap_or_else(|error| panic!("{sql}: {error}"));
                let text = |value: mysql::Value| match value {
                    mysql::Value::NULL => null(),
                    mysql::Value::Bytes(bytes) => String::from_utf8(bytes).unwrap(),
                    other => panic!("{other:?}"),
                };
                rows.into_iter().map(|row| row.unwrap().into_iter().map(text).collect()).collect()
            }
            Kind::ClickHouse => {
                let text = self.http(sql);
                let field = |field: &str| match field {
                    "\\N" => null(),
                    field => field.replace("\\t", "\t").replace("\\'", "'").replace("\\\\", "\\"),
                };
                text.lines().map(|line| line.split('\t').map(field).collect()).collect()
            }
        }
    }

    fn http(&self, sql: &str) -> String {
        let agent: ureq::Agent =
            ureq::Agent::config_builder().http_status_as_error(false).build().into();
        // Dictionaries were an experiment in older versions.
        let settings = "allow_experimental_low_cardinality_type=1";
        let url =
            format!("http://127.0.0.1:{}/?database={}&{settings}", self.server.port, self.name);
        let mut answer = agent.post(url).send(sql).unwrap();
        let text = answer.body_mut().read_to_string().unwrap();
        assert!(answer.status().is_success(), "{sql}: {text}");
        text
    }

    /// Executes a statement.
    pub fn run(&self, sql: &str) -> &Self {
        self.rows(sql);
        self
    }

    /// Keeps a lock on a table, which nobody else can read or write, while something is done.
    pub fn locked(&self, table: &str, during: impl FnOnce()) {
        match self.server.kind {
            Kind::Postgres => {
                let mut client = self.server.postgres(&self.name).unwrap();
                client.batch_execute(&format!("BEGIN; LOCK TABLE {table}")).unwrap();
                during();
            }
            Kind::Mariadb => {
                let mut conn = self.server.mariadb(&self.name).unwrap();
                conn.query_drop(format!("LOCK TABLES {table} WRITE")).unwrap();
                during();
            }
            Kind::ClickHouse => unreachable!("it has no locks that a client could hold"),
        }
    }

    /// How many connections wait for a lock that another one has.
    pub fn waiting(&self) -> String {
        self.one(match self.server.kind {
            Kind::Postgres => {
                "SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND datname = current_database()"
            }
            Kind::Mariadb => {
                "SELECT count(*) FROM information_schema.processlist WHERE state LIKE 'Waiting for %lock' AND db = database()"
            }
            Kind::ClickHouse => "SELECT 0",
        })
    }

    /// Puts what the database has on a disk of so many megabytes; `None` where none can be mounted.
    pub fn on_small_disk(&self, megabytes: u32) -> Option<SmallDisk> {
        let folder = &self.server.folder;
        let path = match self.server.kind {
            Kind::Postgres => folder.join(format!("small-{}", self.name)),
            Kind::Mariadb => folder.join("data").join(&self.name),
            Kind::ClickHouse => folder.join("data/data").join(&self.name),
        };
        let disk = SmallDisk::mount(&path, megabytes)?;
        let owned = Command::new("chown").arg(user_of(self.server.kind)).arg(&path).status();
        assert!(owned.unwrap().success());
        if self.server.kind == Kind::Postgres {
            let (name, path) = (&self.name, path.display());
            self.run(&format!("CREATE TABLESPACE small_{name} LOCATION '{path}'"));
            for setting in ["default_tablespace", "temp_tablespaces"] {
                self.run(&format!("ALTER DATABASE {name} SET {setting} = 'small_{name}'"));
            }
        }
        Some(disk)
    }

    /// The first value of an answer.
    pub fn one(&self, sql: &str) -> String {
        self.rows(sql)
            .first()
            .and_then(|row| row.first().cloned())
            .unwrap_or_else(|| panic!("{sql}: nothing"))
    }

    /// The tables and types there are, in order.
    pub fn objects(&self) -> Vec<String> {
        let sql = match self.server.kind {
            Kind::Postgres => {
                "SELECT relname FROM pg_class WHERE relkind IN ('r', 'v') AND relnamespace = 'public'::regnamespace \
                 UNION ALL SELECT 'type ' || typname FROM pg_type WHERE typtype = 'e' ORDER BY 1"
            }
            Kind::Mariadb => {
                "SELECT table_name FROM information_schema.tables WHERE table_schema = database() ORDER BY 1"
            }
            Kind::ClickHouse => {
                "SELECT name FROM system.tables WHERE database = currentDatabase() ORDER BY name"
            }
        };
        self.rows(sql).into_iter().map(|row| row.concat()).collect()
    }

    /// A name in quotes.
    pub fn quoted(&self, name: &str) -> String {
        match self.server.kind {
            Kind::Postgres => format!("\"{}\"", name.replace('"', "\"\"")),
            Kind::Mariadb => format!("`{}`", name.replace('`', "``")),
            Kind::ClickHouse => format!("`{}`", name.replace('\\', "\\\\").replace('`', "\\`")),
        }
    }
}

/// A port that nobody listens on.
fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// A folder for a server. Those of tests that are over are removed.
fn folder() -> PathBuf {
    static COUNT: AtomicU32 = AtomicU32::new(0);
    const PREFIX: &str = "typhos-test-server-";
    let parent = std::env::temp_dir();
    for entry in fs::read_dir(&parent).unwrap().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let process =
            name.strip_prefix(PREFIX).and_then(|rest| rest.split('-').next()?.parse::<u32>().ok());
        if process.is_some_and(|process| !Path::new(&format!("/proc/{process}")).exists()) {
            let _ = fs::remove_dir_all(entry.path());
        }
    }
    let count = COUNT.fetch_add(1, Ordering::Relaxed);
    let folder = parent.join(format!("{PREFIX}{}-{count}", std::process::id()));
    fs::create_dir(&folder).unwrap();
    folder
}

pub fn is_root() -> bool {
    fs::read_to_string("/proc/self/status").unwrap_or_default().contains("Uid:\t0\t")
}

/// A command as another user, where this one is root: the servers refuse to run as root. It dies with the
/// thread that starts it.
fn command_as(user: &str, program: &Path) -> Command {
    let mut command = Command::new("setpriv");
    if is_root() && user != "root" {
        command.args(["--reuid", user, "--regid", user, "--clear-groups"]);
    }
    command.args(["--pdeathsig", "KILL"]).arg(program);
    command
}

/// Who a server runs as.
fn user_of(kind: Kind) -> &'static str {
    match kind {
        Kind::Postgres => "postgres",
        Kind::Mariadb => "mysql",
        Kind::ClickHouse => "root",
    }
}

/// Makes the data folder of a server.
fn prepare(kind: Kind, program: &Path, folder: &Path, [port, encrypted]: [u16; 2]) {
    let (data, user) = (folder.join("data"), user_of(kind));
    if is_root() {
        let owned = Command::new("chown").arg(user).arg(folder).status().unwrap();
        assert!(owned.success());
    }
    let run = |mut command: Command| {
        let output = command.output().unwrap();
        assert!(
            output.status.success(),
            "{command:?}\n{}",
            String::from_utf8_lossy(&output.stderr)
        );
    };
    match kind {
        Kind::Postgres => {
            let mut init = command_as(user, &program.with_file_name("initdb"));
            init.arg("-D").arg(&data).args([
                "-A",
                "trust",
                "-U",
                "tester",
                "--no-sync",
                "-E",
                "UTF8",
                "--locale",
                "C",
            ]);
            run(init);
        }
        Kind::Mariadb => {
            let init_file = folder.join("init.sql");
            fs::write(&init_file, "CREATE USER IF NOT EXISTS tester@'127.0.0.1';\nGRANT ALL ON *.* TO tester@'127.0.0.1' WITH GRANT OPTION;\n").unwrap();
            let mut init = command_as(user, Path::new("mariadb-install-db"));
            init.arg("--no-defaults")
                .arg(format!("--datadir={}", data.display()))
                .args(["--skip-test-db", "--auth-root-authentication-method=normal"]);
            run(init);
        }
        Kind::ClickHouse => {
            let (tmp, users) = (folder.join("tmp"), folder.join("users.xml"));
            fs::create_dir_all(&data).unwrap();
            fs::create_dir_all(&tmp).unwrap();
            let tcp = free_port();
            let tls = folder.join("tls");
            let config = folder.join("config.xml");
            fs::write(
                &config,
                format!(
                    "<yandex><logger><level>warning</level><console>1</console></logger><http_port>{port}</http_port>\
                     <https_port>{encrypted}</https_port><openSSL><server><certificateFile>{0}/certificate.pem</certificateFile>\
                     <privateKeyFile>{0}/key.pem</privateKeyFile><verificationMode>none</verificationMode></server></openSSL>\
                     <tcp_port>{tcp}</tcp_port><listen_host>127.0.0.1</listen_host><path>{1}/</path><tmp_path>{2}/</tmp_path>\
                     <users_config>{3}</users_config><default_profile>default</default_profile>\
                     <default_database>default</default_database><mark_cache_size>100000000</mark_cache_size></yandex>",
                    tls.display(), data.display(), tmp.display(), users.display()
                ),
            )
            .unwrap();
            let user = |name: &str, profile: &str| {
                format!(
                    "<{name}><password></password><networks><ip>::/0</ip></networks><profile>{profile}</profile><quota>default</quota></{name}>"
                )
            };
            fs::write(
                &users,
                format!(
                    "<yandex><profiles><default></default><reader><readonly>1</readonly></reader></profiles>\
                     <users>{}{}</users><quotas><default></default></quotas></yandex>",
                    user("default", "default"),
                    user("reader", "reader")
                ),
            )
            .unwrap();
        }
    }
}

/// Starts a server.
fn run(kind: Kind, program: &Path, folder: &Path, port: u16) -> Child {
    let data = folder.join("data");
    let mut command = command_as(user_of(kind), program);
    match kind {
        Kind::Postgres => {
            let port = port.to_string();
            command.arg("-D").arg(&data).arg("-k").arg(folder);
            command.args(["-p", &port, "-c", "fsync=off", "-c", "ssl=on"]);
            for (setting, file) in [("cert", "certificate"), ("key", "key")] {
                let path = folder.join("tls").join(file).with_extension("pem");
                command.args(["-c", &format!("ssl_{setting}_file={}", path.display())]);
            }
        }
        Kind::Mariadb => {
            command
                .arg("--no-defaults")
                .arg(format!("--datadir={}", data.display()))
                .arg(format!("--socket={}", folder.join("s").display()))
                .arg(format!("--port={port}"))
                .arg(format!("--ssl-ca={}", folder.join("tls/authority.pem").display()))
                .arg(format!("--ssl-cert={}", folder.join("tls/certificate.pem").display()))
                .arg(format!("--ssl-key={}", folder.join("tls/key.pem").display()))
                .arg(format!("--init-file={}", folder.join("init.sql").display()))
                .args([
                    "--bind-address=127.0.0.1",
                    "--innodb-flush-log-at-trx-commit=0",
                    "--skip-log-bin",
                ]);
        }
        Kind::ClickHouse => {
            let config = folder.join("config.xml");
            command.arg(format!("--config-file={}", config.display()));
        }
    }
    let log = fs::File::create(folder.join("log")).unwrap();
    command.stdin(Stdio::null()).stdout(log.try_clone().unwrap()).stderr(log);
    spawn(command)
}

/// Starts a server from a thread that never ends, so that it ends with the process and not with a test.
fn spawn(mut command: Command) -> Child {
    let (sender, receiver) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        sender.send(command.spawn().unwrap()).unwrap();
        loop {
            std::thread::park();
        }
    });
    receiver.recv().unwrap()
}
