//! MariaDB: rows by `LOAD DATA LOCAL`, fed from memory, over several connections.
//!
//! Definitions of tables are never undone there. So rows go to a table beside, which gets its name, or
//! gives up its rows, when all is proven. While a load runs it holds a lock of the server that is named as
//! that table; a table beside whose lock is free was left behind by a load that was killed.

mod behind;
mod catalog;
mod holds;
mod reading;
mod rows;

use std::io::{Read, Write};
use std::sync::Mutex;
use std::time::Duration;

use mysql::prelude::Queryable;
use mysql::{ClientIdentity, Conn, LocalInfileHandler, OptsBuilder, SslOpts, Value};
use typhos_core::schema::{Scalar, Schema};

use crate::server_table;
use crate::server_url::ServerUrl;
use typhos_load::at_once::{ask_at_once, at_once};
use typhos_load::feed::{Canceller, Feed, SharedFeed};
use typhos_load::proof::SentFacts;
use typhos_load::table::{
    Answers, Ask, Define, Finished, Intent, MoveRows, Objections, RowOrder, UNFINISHED,
};
use typhos_load::{Onlooker, TargetError, TargetKind, Timeouts};
use typhos_sql::held::Existing;
use typhos_sql::{Definitions, Language, Mariadb};

use behind::Behind;
use holds::Holds;
use rows::MariadbRows;

/// A table of a MariaDB server.
pub const KIND: TargetKind = server_table::kind(&["mysql", "mariadb"], |address| {
    server_table::open(address, MariadbSession::connect)
});

/// Milliseconds of silence until the machine at the other end of a connection is asked whether it is there.
const KEEP_ALIVE_MS: u32 = 30_000;

/// Seconds that a lock is waited for where there is no end: a year.
const MOST_WAIT: u64 = 31_536_000;

/// A session with a MariaDB server.
pub struct MariadbSession {
    conn: Conn,
    url: ServerUrl,
    version: String,
    /// What it holds of values that are valid elsewhere.
    holds: Holds,
    /// Whether rows that are added to the table of the load stand behind all that are there, in the order in which all of it is
    /// read.
    adds_behind: bool,
    /// What is known of the table once they are.
    behind: Option<Behind>,
}

impl MariadbSession {
    /// Connects.
    ///
    /// # Errors
    /// A server that cannot be reached, or does not let the user in.
    pub fn connect(url: &ServerUrl) -> Result<MariadbSession, TargetError> {
        let is_socket = url.host.starts_with('/');
        let mut options = OptsBuilder::new()
            .user(Some(&url.user))
            .pass(url.password.as_ref().map(|word| word.reveal()))
            .db_name(Some(&url.database))
            .tcp_connect_timeout(Some(url.timeouts.connect).filter(|most| !most.is_zero()))
            // A machine that is gone says nothing.
            .tcp_keepalive_time_ms(Some(KEEP_ALIVE_MS))
            .prefer_socket(false);
        options = match is_socket {
            true => options.socket(Some(&url.host)),
            false => options.ip_or_hostname(Some(&url.host)).tcp_port(url.port),
        };
        // The file is read while the connection is made.
        let trusted = url.encrypted.then(|| crate::tls::trusted_file(url)).transpose()?;
        if let Some(trusted) = &trusted {
            let path = trusted.path().to_path_buf();
            // What cannot be used is better named here.
            crate::tls::identity(url)?;
            let shown = url.identity.clone();
            let shown = shown.map(|(certificate, key)| ClientIdentity::new(certificate, key));
            let encryption = SslOpts::default().with_root_cert_path(Some(path));
            options = options.ssl_opts(Some(encryption.with_client_identity(shown)));
        }
        let conn = Conn::new(options).map_err(|error| refused(url, &error))?;
        let mut session = MariadbSession {
            conn,
            url: url.clone(),
            version: String::new(),
            holds: Holds::ALL,
            adds_behind: false,
            behind: None,
        };
        session.execute(
            "SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION,NO_AUTO_VALUE_ON_ZERO', time_zone = '+00:00', \
             foreign_key_checks = 1, unique_checks = 1",
        )?;
        session.execute("SET NAMES utf8mb4 COLLATE utf8mb4_nopad_bin")?;
        // What a load reads of a table is of one moment, also where the server is set to something else.
        session.execute("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")?;
        let Timeouts { lock, statement, .. } = url.timeouts;
        // Without an end these are a year, the most that they can be.
        let lock = if lock.is_zero() { MOST_WAIT } else { lock.as_secs().clamp(1, MOST_WAIT) };
        session.execute(&format!(
            "SET SESSION lock_wait_timeout = {lock}, innodb_lock_wait_timeout = {lock}"
        ))?;
        if !statement.is_zero() {
            let seconds = statement.as_secs_f64();
            session.execute(&format!("SET SESSION max_statement_time = {seconds}"))?;
        }
        (session.version, session.holds) = Holds::of(session.query(Holds::QUESTION)?);
        Ok(session)
    }
}

fn refused(url: &ServerUrl, error: &mysql::Error) -> TargetError {
    let code = match error {
        mysql::Error::MySqlError(error) => error.code,
        _ => 0,
    };
    if code == 1045 && url.password.is_none() {
        return TargetError::PasswordNeeded { target: url.to_string(), user: url.user.clone() };
    }
    let help = match code {
        1045 => "the password is taken from the URL, TYPHOS_PASSWORD, MYSQL_PWD or ~/.my.cnf",
        1049 => "make the database, or name another in the URL",
        0 => crate::tls::connection_help(&error.to_string()),
        _ => "",
    };
    TargetError::Server { target: url.to_string(), message: words(error), help: help.into() }
}

fn words(error: &mysql::Error) -> String {
    match error {
        mysql::Error::MySqlError(error) => error.message.clone(),
        mysql::Error::IoError(error) => error.to_string(),
        // Without the name that the driver has for its kind.
        mysql::Error::DriverError(error) => error.to_string(),
        mysql::Error::TlsError(error) => error.to_string(),
        other => other.to_string(),
    }
}

/// The classes of errors that are about values: data exceptions, constraints, what triggers raise.
const OF_VALUES: [&str; 3] = ["22", "23", "45"];

fn server_error(url: &ServerUrl, error: &mysql::Error) -> TargetError {
    if let mysql::Error::MySqlError(said) = error
        && OF_VALUES.iter().any(|class| said.state.starts_with(class))
    {
        return TargetError::Violation { target: url.to_string(), message: words(error) };
    }
    TargetError::Server { target: url.to_string(), message: words(error), help: String::new() }
}

/// A value that does not come as a text, as one.
fn plainly(value: &Value) -> String {
    value.as_sql(true).trim_matches('\'').to_owned()
}

impl MariadbSession {
    /// What the session of a number waits for, and who may hold it: the server says that of rows only.
    fn waits_for(&mut self, number: u32) -> Result<Option<String>, TargetError> {
        let state = self.one(&format!(
            "SELECT CASE WHEN state LIKE 'Waiting for %lock%' OR state = 'User lock' THEN state END \
             FROM information_schema.processlist WHERE id = {number}"
        ))?;
        let who = "concat('connection ', p.id, ' (', p.user, ')')";
        // Who may not look at the transactions of others learns that it waits, and not for whom.
        let holders = self.names(&format!(
            "SELECT DISTINCT {who} FROM information_schema.innodb_lock_waits w \
             JOIN information_schema.innodb_trx r ON r.trx_id = w.requesting_trx_id AND r.trx_mysql_thread_id = {number} \
             JOIN information_schema.innodb_trx b ON b.trx_id = w.blocking_trx_id \
             JOIN information_schema.processlist p ON p.id = b.trx_mysql_thread_id ORDER BY 1"
        ));
        let holders = holders.unwrap_or_default();
        if !holders.is_empty() {
            return Ok(Some(format!("a lock on rows held by {}", holders.join(", "))));
        }
        let Some(state) = state else { return Ok(None) };
        let others = self.names(&format!(
            "SELECT {who} FROM information_schema.processlist p WHERE p.id NOT IN ({number}, connection_id()) \
             AND p.db = database() ORDER BY p.id LIMIT 3"
        ))?;
        let what = match state.as_str() {
            "User lock" => "another load that looks for keys in the same table".to_owned(),
            state => state.replacen("Waiting for ", "a lock (", 1) + ")",
        };
        Ok(Some(match others.is_empty() {
            true => what,
            false => format!("{what}; others at work there are {}", others.join(", ")),
        }))
    }

    /// Sends a share of the rows; returns how many the table took.
    fn load(&mut self, sql: &str, feed: SharedFeed) -> Result<u64, TargetError> {
        let reader = Mutex::new(feed.reader());
        self.conn.set_local_infile_handler(Some(LocalInfileHandler::new(move |name, to| {
            // A server that asks for anything else gets nothing.
            if name != b"rows" {
                return Err(std::io::Error::other("there is no such file"));
            }
            let mut reader = reader.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
            let mut buffer = vec![0; 1 << 16];
            loop {
                match reader.read(&mut buffer)? {
                    0 => return Ok(()),
                    count => to.write_all(&buffer[..count])?,
                }
            }
        })));
        let loaded = self.conn.query_drop(sql);
        self.conn.set_local_infile_handler(None);
        let (warnings, taken) = (self.conn.warnings(), self.conn.affected_rows());
        loaded.map_err(|error| server_error(&self.url, &error))?;
        if warnings > 0 {
            // A file from a client is loaded with warnings where others are refused.
            let said = self.query("SHOW WARNINGS LIMIT 3")?;
            let said = said.into_iter().filter_map(|row| row.into_iter().nth(2)?);
            return Err(TargetError::Server {
                target: self.url.to_string(),
                message: format!(
                    "the server changed values: {}",
                    said.collect::<Vec<_>>().join("; ")
                ),
                help: "nothing was loaded".into(),
            });
        }
        Ok(taken)
    }
}

/// The statement that takes rows as texts into a table.
fn load_statement(table: &str, schema: &Schema) -> String {
    let mut columns = Vec::new();
    let mut set = Vec::new();
    for (at, column) in schema.columns.iter().enumerate() {
        let name = Mariadb.identifier(&column.name);
        if column.scalar() == Scalar::Geopoint {
            columns.push(format!("@p{at}"));
            set.push(format!("{name} = ST_GeomFromText(@p{at})"));
        } else {
            columns.push(name);
        }
    }
    // Texts are UTF-8 already, and are taken byte for byte; but UUIDs would then be those bytes.
    let has_uuid = schema.columns.iter().any(|column| column.scalar() == Scalar::Uuid);
    let letters = if has_uuid { "utf8mb4" } else { "binary" };
    let set = if set.is_empty() { String::new() } else { format!(" SET {}", set.join(", ")) };
    format!(
        "LOAD DATA LOCAL INFILE 'rows' INTO TABLE {table} CHARACTER SET {letters} \
         FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' ({}){set}",
        columns.join(", ")
    )
}

/// Connections that a load uses at once: the server works on each with one thread.
fn connections() -> usize {
    std::thread::available_parallelism().map_or(1, |cores| cores.get().min(4))
}

impl Ask for MariadbSession {
    fn language(&self) -> &dyn Language {
        &Mariadb
    }

    fn target(&self) -> String {
        self.url.to_string()
    }

    fn server(&self) -> Option<String> {
        Some(format!("MariaDB {}", self.version.split('-').next().unwrap_or_default()))
    }

    fn query(&mut self, sql: &str) -> Result<Answers, TargetError> {
        let rows: Vec<mysql::Row> =
            self.conn.query(sql).map_err(|error| server_error(&self.url, &error))?;
        let text = |value: Value| match value {
            Value::NULL => None,
            Value::Bytes(bytes) => Some(String::from_utf8_lossy(&bytes).into_owned()),
            other => Some(plainly(&other)),
        };
        Ok(rows.into_iter().map(|row| row.unwrap().into_iter().map(text).collect()).collect())
    }

    fn query_all(&mut self, questions: &[String]) -> Result<Vec<Answers>, TargetError> {
        if self.behind.is_some() {
            return self.query_added(questions);
        }
        let url = self.url.clone();
        let other = |sql: &str| MariadbSession::connect(&url)?.query(sql);
        ask_at_once(questions, |sql| self.query(sql), other).into_iter().collect()
    }

    fn query_again(&mut self, sql: &str) -> Result<Answers, TargetError> {
        self.query_alone(sql)
    }

    fn askers(&self) -> usize {
        connections()
    }

    fn existing(&mut self, table: &str) -> Result<Option<Existing>, TargetError> {
        catalog::existing(self, table)
    }

    fn objections(&mut self, intent: &Intent<'_>) -> Result<Objections, TargetError> {
        catalog::objections(self, intent)
    }
}

impl Define for MariadbSession {
    fn execute(&mut self, sql: &str) -> Result<Option<u64>, TargetError> {
        self.conn.query_drop(sql).map_err(|error| server_error(&self.url, &error))?;
        Ok(Some(self.conn.affected_rows()))
    }

    fn is_transactional(&self) -> bool {
        false
    }

    fn sweep(&mut self) -> Result<Vec<Finished>, TargetError> {
        let found = self.names(&format!(
            "SELECT table_name FROM information_schema.tables WHERE table_schema = database() \
             AND table_name LIKE '{}%'",
            UNFINISHED.replace('_', "\\_")
        ))?;
        for name in found {
            let is_left = self.one(&format!("SELECT is_free_lock({})", Mariadb.literal(&name)))?;
            if is_left.as_deref() == Some("1") {
                self.execute(&format!("DROP TABLE IF EXISTS {}", Mariadb.identifier(&name)))?;
            }
        }
        Ok(Vec::new())
    }

    fn unfinished_name(&mut self) -> Result<String, TargetError> {
        let unique = self.one("SELECT hex(uuid_short())")?.unwrap_or_default().to_lowercase();
        let name = format!("{UNFINISHED}{unique}");
        self.execute(&format!("DO get_lock({}, 0)", Mariadb.literal(&name)))?;
        Ok(name)
    }

    fn put_in_place(
        &mut self,
        stage: &str,
        table: &str,
        replaces: bool,
    ) -> Result<(), TargetError> {
        let table = Mariadb.identifier(table);
        if !replaces {
            return self.execute(&format!("RENAME TABLE {stage} TO {table}")).map(|_| ());
        }
        // Both at once; what was there goes away under the name that is swept.
        let name = self.unfinished_name()?;
        let old = Mariadb.identifier(&name);
        self.execute(&format!("RENAME TABLE {table} TO {old}, {stage} TO {table}"))?;
        self.execute(&format!("DROP TABLE {old}")).map(|_| ())
    }

    fn commit(&mut self) -> Result<(), TargetError> {
        self.execute("COMMIT").map(|_| ())
    }

    fn undo(&mut self, stage: Option<&str>) {
        // Where the connection is gone, the next load sweeps.
        let _ = self.execute("ROLLBACK");
        if let Some(stage) = stage {
            let dropped = self.execute(&format!("DROP TABLE IF EXISTS {stage}"));
            if dropped.is_err()
                && let Ok(mut again) = MariadbSession::connect(&self.url)
            {
                let _ = again.execute(&format!("DROP TABLE IF EXISTS {stage}"));
            }
        }
    }
}

impl MoveRows for MariadbSession {
    type Rows = MariadbRows;

    fn rows(&self, schema: &Schema) -> MariadbRows {
        MariadbRows::new(schema, self.holds)
    }

    fn bulk(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<Vec<u8>>,
    ) -> Result<SentFacts, TargetError> {
        let sql = load_statement(table, schema);
        let feed = SharedFeed::new(feed);
        let url = &self.url.clone();
        let sql = &sql;
        type Load<'a> = Box<dyn FnOnce() -> Result<u64, TargetError> + Send + 'a>;
        let own_feed = feed.clone();
        let own: Load<'_> = Box::new(|| self.load(sql, own_feed));
        let others = (1..connections()).map(|_| -> Load<'_> {
            let feed = feed.clone();
            Box::new(move || MariadbSession::connect(url)?.load(sql, feed))
        });
        let loaded = at_once(std::iter::once(own).chain(others));
        // What was given up is that, whatever each connection says of it.
        let sent = feed.sent();
        loaded.into_iter().try_for_each(|loaded| loaded.map(|_| ()))?;
        sent
    }

    fn bulk_alone(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<Vec<u8>>,
    ) -> Result<(SentFacts, u64), TargetError> {
        self.load_alone(table, schema, feed)
    }

    /// A table without a key stands in the order in which one connection sent its rows.
    fn bulk_in_order(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<Vec<u8>>,
    ) -> Result<SentFacts, TargetError> {
        let feed = SharedFeed::new(feed);
        let loaded = self.load(&load_statement(table, schema), feed.clone());
        let sent = feed.sent();
        loaded.and(sent)
    }

    fn own_rows(&mut self, _table: &str) -> Result<Option<String>, TargetError> {
        Ok(self.behind.as_ref().map(Behind::rows))
    }

    fn row_order(&self) -> RowOrder {
        // Several connections send them.
        RowOrder::Same
    }

    fn lock_keys(&mut self, table: &str) -> Result<(), TargetError> {
        let name = format!("sha1(concat(database(), '.', {}))", Mariadb.literal(table));
        // It is given back with the connection. Who waits can be called off, since the server is.
        let most = match self.url.timeouts.lock.as_secs() {
            0 => MOST_WAIT,
            seconds => seconds,
        };
        let got = self.one(&format!("SELECT get_lock(concat('typhos_', {name}), {most})"))?;
        match got.as_deref() {
            Some("1") => Ok(()),
            _ => {
                let message = format!("another load looks for keys in '{table}', and does not end");
                Err(TargetError::Server {
                    target: self.url.to_string(),
                    message,
                    help: String::new(),
                })
            }
        }
    }

    fn adds_by_commit(&self) -> bool {
        true
    }

    fn answers_within(&self) -> Duration {
        self.url.timeouts.answer
    }

    fn onlooker(&mut self) -> Result<Option<Onlooker>, TargetError> {
        let number = self.conn.connection_id();
        let ask = move |other: &mut MariadbSession| other.waits_for(number);
        Ok(Some(server_table::onlooker(&self.url, MariadbSession::connect, ask)))
    }

    fn canceller(&self) -> Canceller {
        let (url, id) = (self.url.clone(), self.conn.connection_id());
        Box::new(move || {
            // Where nobody answers any more, there is nothing to end.
            if let Ok(mut other) = MariadbSession::connect(&url) {
                let _ = other.execute(&format!("KILL QUERY {id}"));
            }
        })
    }
}
