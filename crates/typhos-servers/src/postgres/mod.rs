//! PostgreSQL: rows by binary `COPY`, everything in one transaction.
//!
//! A transaction covers definitions of tables and types too, so a load that ends in any way but well
//! leaves nothing at all behind.

mod catalog;
pub mod lake;
mod reading;
mod rights;
mod rows;
mod types;

use std::io::Write;
use std::time::Duration;

use postgres::config::Host;
use postgres::{Client, Config, NoTls, SimpleQueryMessage};
use typhos_core::schema::Schema;

use crate::server_table;
use crate::server_url::ServerUrl;
use typhos_load::feed::{Abandoned, Canceller, Feed};
use typhos_load::proof::SentFacts;
use typhos_load::table::{
    Answers, Ask, Define, Intent, MoveRows, Objections, RowOrder, UNFINISHED,
};
use typhos_load::{Onlooker, TargetError, TargetKind, Timeouts};
use typhos_sql::held::Existing;
use typhos_sql::{self as sql, Definitions, Language, NamedType, Postgres};

use rows::PostgresRows;
use types::Found;

/// A table of a PostgreSQL server.
pub const KIND: TargetKind = server_table::kind(&["postgres", "postgresql"], |address| {
    server_table::open(address, PostgresSession::connect)
});

/// How long a connection is silent until the machine at its other end is asked whether it is there, and how long until it
/// is asked again.
const KEEP_ALIVE: Duration = Duration::from_secs(30);

/// How often it is asked until it is taken for gone.
const KEEP_ALIVE_TRIES: u32 = 4;

/// The first half of the number of a lock on the keys of a table; the other half is that of the table.
const KEYS_LOCK: u32 = 0x7479_7068;

/// A session with a PostgreSQL server.
pub struct PostgresSession {
    client: Client,
    url: ServerUrl,
    version: String,
    /// Types of the table that is replaced, under other names.
    old_types: Vec<String>,
}

impl PostgresSession {
    /// Connects.
    ///
    /// # Errors
    /// A server that cannot be reached, or does not let the user in.
    pub fn connect(url: &ServerUrl) -> Result<PostgresSession, TargetError> {
        let mut config = Config::new();
        config
            .user(&url.user)
            .dbname(&url.database)
            .port(url.port)
            .application_name("typhos")
            // A machine that is gone says nothing.
            .keepalives_idle(KEEP_ALIVE)
            .keepalives_interval(KEEP_ALIVE)
            .keepalives_retries(KEEP_ALIVE_TRIES);
        if !url.timeouts.connect.is_zero() {
            config.connect_timeout(url.timeouts.connect);
        }
        if url.host.starts_with('/') {
            config.host_path(&url.host);
            debug_assert!(matches!(config.get_hosts(), [Host::Unix(_)]));
        } else {
            config.host(&url.host);
        }
        if let Some(password) = &url.password {
            config.password(password.reveal());
        }
        let connected = if url.encrypted {
            config.ssl_mode(postgres::config::SslMode::Require);
            config.connect(tokio_postgres_rustls::MakeRustlsConnect::new(
                crate::tls::client_config(url)?,
            ))
        } else {
            config.ssl_mode(postgres::config::SslMode::Disable);
            config.connect(NoTls)
        };
        let client = connected.map_err(|error| refused(url, error))?;
        let mut session = PostgresSession {
            client,
            url: url.clone(),
            version: String::new(),
            old_types: Vec::new(),
        };
        // Answers are to be read alike, whatever the server is set to. The questions of a proof have many
        // small parts, and compiling them takes longer than asking.
        session.execute("SET datestyle = 'ISO, MDY'; SET timezone = 'UTC'; SET extra_float_digits = 1; SET standard_conforming_strings = on; SET client_encoding = 'UTF8'; SET jit = off; SET synchronize_seqscans = off")?;
        let Timeouts { lock, statement, .. } = url.timeouts;
        let limits = [("lock_timeout", lock), ("statement_timeout", statement)];
        for (name, time) in limits.into_iter().filter(|(_, time)| !time.is_zero()) {
            session.execute(&format!("SET {name} = {}", time.as_millis()))?;
        }
        if let Some(schema) = &url.schema {
            // Types are made beside their table.
            let schema = Postgres.identifier(schema);
            session.execute(&format!("SET search_path = {schema}"))?;
        }
        session.version = session.one("SHOW server_version")?.unwrap_or_default();
        Ok(session)
    }

    /// Copies rows to a table; returns what was sent, and how many rows the table took.
    fn copy(
        &mut self,
        table: &str,
        schema: &Schema,
        options: &str,
        mut feed: Feed<Vec<u8>>,
    ) -> Result<(SentFacts, u64), TargetError> {
        let columns: Vec<_> =
            schema.columns.iter().map(|column| Postgres.identifier(&column.name)).collect();
        let columns = columns.join(", ");
        let sql = format!("COPY {table} ({columns}) FROM STDIN (FORMAT binary{options})");
        let url = &self.url;
        let failed = |error: std::io::Error| match error.into_inner() {
            Some(inner) => match inner.downcast::<postgres::Error>() {
                Ok(error) => server_error(url, *error),
                Err(other) => broken(url, &other.to_string()),
            },
            None => broken(url, "the connection broke"),
        };
        let mut copy = self.client.copy_in(&sql).map_err(|error| server_error(url, error))?;
        copy.write_all(rows::HEADER).map_err(failed)?;
        loop {
            match feed.take() {
                Ok(Some(block)) => copy.write_all(&block).map_err(failed)?,
                Ok(None) => break,
                // Dropped before it is finished, it tells the server that it failed.
                Err(Abandoned) => return Err(TargetError::GivenUp),
            }
        }
        copy.write_all(rows::TRAILER).map_err(failed)?;
        let taken = copy.finish().map_err(|error| server_error(url, error))?;
        Ok((feed.into_sent()?, taken))
    }

    /// The number of the transaction, for names that nothing else has.
    fn transaction(&mut self) -> Result<String, TargetError> {
        Ok(self.one("SELECT txid_current()")?.unwrap_or_default())
    }

    /// The schema that tables are made in, as an expression.
    fn schema(&self) -> String {
        match &self.url.schema {
            Some(schema) => Postgres.literal(schema),
            None => "current_schema()".into(),
        }
    }
}

/// Asks what the session of a number waits for: the lock, and who holds it.
fn waiting_question(number: &str) -> String {
    format!(
        "SELECT 'a lock' || coalesce((SELECT ' on ' || min(relation::regclass::text) FROM pg_locks WHERE pid = {number} AND NOT granted), '') \
         || ' held by ' || string_agg('session ' || h.pid || coalesce(' (' || concat_ws(', ', a.usename, nullif(a.application_name, ''), \
         a.state || coalesce(' since ' || to_char(a.state_change, 'HH24:MI:SS \"UTC\"'), '')) || ')', ''), ', ' ORDER BY h.pid) \
         FROM (SELECT DISTINCT unnest(pg_blocking_pids({number})) AS pid) h LEFT JOIN pg_stat_activity a ON a.pid = h.pid \
         HAVING count(*) > 0"
    )
}

/// A connection that did not come about.
fn refused(url: &ServerUrl, error: postgres::Error) -> TargetError {
    let message = words(&error);
    let code = error.code().map(|code| code.code().to_owned());
    let lacks_password = url.password.is_none()
        && (code.as_deref() == Some("28P01") || message.contains("password missing"));
    if lacks_password {
        return TargetError::PasswordNeeded { target: url.to_string(), user: url.user.clone() };
    }
    let help = match code.as_deref() {
        Some("28P01") => {
            "the password is taken from the URL, TYPHOS_PASSWORD, PGPASSWORD or ~/.pgpass".into()
        }
        Some("3D000") => {
            format!("make the database '{}', or name another in the URL", url.database)
        }
        _ if error.code().is_none() => crate::tls::connection_help(&message).to_owned(),
        _ => String::new(),
    };
    TargetError::Server { target: url.to_string(), message, help }
}

/// How many rows stand before the one that was copied when something failed: `COPY tickets, line 3`.
fn copied_row(context: &str) -> Option<u64> {
    let (_, behind) = context.strip_prefix("COPY ")?.split_once(", line ")?;
    let number = behind.split(|letter: char| !letter.is_ascii_digit()).next()?;
    number.parse::<u64>().ok()?.checked_sub(1)
}

/// The classes of errors that are about values: data exceptions, constraints, what triggers raise, the checks of views.
const OF_VALUES: [&str; 4] = ["22", "23", "P0", "44"];

fn server_error(url: &ServerUrl, error: postgres::Error) -> TargetError {
    let class = error.code().map(|code| code.code()[..2].to_owned());
    if class.is_some_and(|class| OF_VALUES.contains(&&class[..])) {
        if let Some(row) = error.as_db_error().and_then(|said| copied_row(said.where_()?)) {
            let (target, message) = (url.to_string(), words(&error));
            return TargetError::refused_row(target, message, row);
        }
        return TargetError::Violation { target: url.to_string(), message: words(&error) };
    }
    TargetError::Server { target: url.to_string(), message: words(&error), help: String::new() }
}

/// A connection that is gone.
fn broken(url: &ServerUrl, message: &str) -> TargetError {
    TargetError::Server { target: url.to_string(), message: message.into(), help: String::new() }
}

/// What the server said, with the detail that names the row.
fn words(error: &postgres::Error) -> String {
    if let Some(said) = error.as_db_error() {
        let parts = [Some(said.message()), said.detail(), said.hint()];
        return parts.into_iter().flatten().collect::<Vec<_>>().join("; ");
    }
    let mut words = error.to_string();
    let mut source = std::error::Error::source(error);
    while let Some(cause) = source {
        let cause_words = cause.to_string();
        if !words.contains(&cause_words) {
            words = format!("{words}: {cause_words}");
        }
        source = cause.source();
    }
    words
}

impl Ask for PostgresSession {
    fn language(&self) -> &dyn Language {
        &Postgres
    }

    fn target(&self) -> String {
        self.url.to_string()
    }

    fn server(&self) -> Option<String> {
        Some(format!("PostgreSQL {}", self.version))
    }

    fn query(&mut self, sql: &str) -> Result<Answers, TargetError> {
        let messages =
            self.client.simple_query(sql).map_err(|error| server_error(&self.url, error))?;
        let rows = messages.into_iter().filter_map(|message| match message {
            SimpleQueryMessage::Row(row) => {
                Some((0..row.len()).map(|at| row.get(at).map(str::to_owned)).collect())
            }
            _ => None,
        });
        Ok(rows.collect())
    }

    fn query_all(&mut self, questions: &[String]) -> Result<Vec<Answers>, TargetError> {
        // These go over all rows of a table that nobody has analysed: what a second process costs is little beside that.
        self.execute("SET parallel_setup_cost = 0; SET parallel_tuple_cost = 0")?;
        let answers: Result<_, _> = questions.iter().map(|sql| self.query(sql)).collect();
        if answers.is_ok() {
            self.execute("RESET parallel_setup_cost; RESET parallel_tuple_cost")?;
        }
        answers
    }

    fn existing(&mut self, table: &str) -> Result<Option<Existing>, TargetError> {
        catalog::existing(self, table)
    }

    fn objections(&mut self, intent: &Intent<'_>) -> Result<Objections, TargetError> {
        rights::objections(self, intent)
    }

    fn qualified(&self, table: &str) -> String {
        sql::qualified(&Postgres, self.url.schema.as_deref(), table)
    }
}

impl Define for PostgresSession {
    fn execute(&mut self, sql: &str) -> Result<Option<u64>, TargetError> {
        let messages =
            self.client.simple_query(sql).map_err(|error| server_error(&self.url, error))?;
        Ok(messages.into_iter().rev().find_map(|message| match message {
            SimpleQueryMessage::CommandComplete(count) => Some(count),
            _ => None,
        }))
    }

    fn is_transactional(&self) -> bool {
        true
    }

    fn unfinished_name(&mut self) -> Result<String, TargetError> {
        let number = self.transaction()?;
        Ok(format!("{UNFINISHED}{number}"))
    }

    fn make_types(&mut self, types: &[NamedType], table: &str) -> Result<(), TargetError> {
        for named in types {
            let quoted = Postgres.identifier(&named.name);
            match types::look(self, named, table)? {
                Found::Same => continue,
                Found::Nothing => {}
                // The table that still has it goes away later, and it goes with that.
                Found::OfThisTable => {
                    let number = self.transaction()?;
                    let old = format!("typhos_old_{number}_{}", self.old_types.len());
                    let old = Postgres.identifier(&old);
                    self.execute(&format!("ALTER TYPE {quoted} RENAME TO {old}"))?;
                    self.old_types.push(old);
                }
                Found::Unused => self.execute(&format!("DROP TYPE {quoted}")).map(|_| ())?,
                // What the preflight objects to, and what has come up since then, the server refuses.
                Found::Foreign(_) => {}
            }
            self.execute(&named.statement)?;
        }
        Ok(())
    }

    fn put_in_place(
        &mut self,
        stage: &str,
        table: &str,
        replaces: bool,
    ) -> Result<(), TargetError> {
        if replaces {
            self.execute(&format!("DROP TABLE {}", self.qualified(table)))?;
            for old in std::mem::take(&mut self.old_types) {
                self.execute(&format!("DROP TYPE {old}"))?;
            }
        }
        self.execute(&format!("ALTER TABLE {stage} RENAME TO {}", Postgres.identifier(table)))?;
        // Named after a table that it no longer is.
        catalog::rename_key(self, table)
    }

    fn commit(&mut self) -> Result<(), TargetError> {
        self.execute("COMMIT").map(|_| ())
    }

    fn undo(&mut self, _stage: Option<&str>) {
        // Where the connection is gone, the server has done it already.
        let _ = self.execute("ROLLBACK");
    }

    fn close(self) -> Result<(), TargetError> {
        let url = self.url;
        self.client.close().map_err(|error| server_error(&url, error))
    }
}

impl MoveRows for PostgresSession {
    type Rows = PostgresRows;

    fn rows(&self, schema: &Schema) -> PostgresRows {
        PostgresRows::new(schema)
    }

    fn bulk(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<Vec<u8>>,
    ) -> Result<SentFacts, TargetError> {
        // The table is one of this transaction, so its rows can be written as if they were old: nobody has to
        // write to them again when they are first read.
        self.copy(table, schema, ", FREEZE true", feed).map(|(sent, _)| sent)
    }

    fn bulk_alone(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<Vec<u8>>,
    ) -> Result<(SentFacts, u64), TargetError> {
        self.copy(table, schema, "", feed)
    }

    fn tidy(&mut self, table: &str) {
        // Whoever may not, and a connection that is gone, leave it to the server.
        let _ = self.execute(&format!("VACUUM {table}"));
    }

    fn own_rows(&mut self, table: &str) -> Result<Option<String>, TargetError> {
        let number = self.one("SELECT txid_current() % (1::bigint << 32)")?.unwrap_or_default();
        Ok(Some(format!("(SELECT * FROM {table} WHERE xmin = '{number}'::xid) added")))
    }

    fn row_order(&self) -> RowOrder {
        RowOrder::AsSent
    }

    fn lock_keys(&mut self, table: &str) -> Result<(), TargetError> {
        let here = catalog::condition(self, table);
        // It is given back with the end of the transaction.
        self.execute(&format!(
            "SELECT pg_advisory_xact_lock({KEYS_LOCK}::bigint << 32 | c.oid::bigint) FROM pg_class c WHERE {here}"
        ))
        .map(|_| ())
    }

    fn advance_numbers(&mut self, table: &str, column: &str) -> Result<(), TargetError> {
        let name = self.qualified(table);
        let quoted = Postgres.identifier(column);
        let (name_text, column_text) = (Postgres.literal(&name), Postgres.literal(column));
        self.execute(&format!(
            "SELECT setval(pg_get_serial_sequence({name_text}, {column_text}), (SELECT max({quoted}) FROM {name})) \
             WHERE pg_get_serial_sequence({name_text}, {column_text}) IS NOT NULL AND (SELECT max({quoted}) FROM {name}) > 0"
        ))?;
        Ok(())
    }

    fn answers_within(&self) -> Duration {
        self.url.timeouts.answer
    }

    fn onlooker(&mut self) -> Result<Option<Onlooker>, TargetError> {
        let Some(number) = self.one("SELECT pg_backend_pid()")? else { return Ok(None) };
        let question = waiting_question(&number);
        let ask = move |other: &mut PostgresSession| other.one(&question);
        Ok(Some(server_table::onlooker(&self.url, PostgresSession::connect, ask)))
    }

    fn canceller(&self) -> Canceller {
        let (token, url) = (self.client.cancel_token(), self.url.clone());
        Box::new(move || {
            // Where nobody answers any more, there is nothing to end.
            let _ = match url.encrypted.then(|| crate::tls::client_config(&url)) {
                Some(Ok(config)) => {
                    token.cancel_query(tokio_postgres_rustls::MakeRustlsConnect::new(config))
                }
                Some(Err(_)) => return,
                None => token.cancel_query(NoTls),
            };
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_row_that_was_copied_is_known_by_its_context() {
        for (context, row) in [
            ("COPY tickets, line 1", Some(0)),
            ("COPY tickets, line 5003, column fare", Some(5002)),
            ("SQL statement \"SELECT 1\"", None),
            ("COPY tickets, line 0", None),
        ] {
            assert_eq!(copied_row(context), row, "{context}");
        }
    }

    #[test]
    fn types_are_those_of_the_catalog() {
        use typhos_sql::Movements;
        for (defined, there, is_same) in [
            ("integer", "integer", true),
            ("varchar(8)", "character varying(8)", true),
            ("varchar(8)", "character varying(9)", false),
            ("varchar(8)", "text", false),
            ("numeric(6,2)", "numeric(8,2)", false),
            ("timestamp(3)", "timestamp(3) without time zone", true),
            ("timestamp(3)", "timestamp(0) without time zone", false),
            ("timestamptz(0)", "timestamp(0) with time zone", true),
            ("time(6)", "time(6) without time zone", true),
        ] {
            assert_eq!(Postgres.is_same_type(defined, there), is_same, "{defined} {there}");
        }
    }
}
