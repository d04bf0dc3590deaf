//! ClickHouse: rows in blocks of its own format `Native` over HTTP.
//!
//! There are no transactions: rows go to a table beside, which gets its name when all is proven. Where they
//! are added to a table that exists, they go through a second one, which is made as that table is and whose
//! partitions are attached to it: each is there whole or not at all, which an insertion of many rows is not.
//! Tables beside are called after when, where and by which process they were made; one of a process of this
//! machine that is gone, or one of yesterday, was left behind by a load that was killed.

mod attaching;
mod catalog;
mod reading;
mod rows;

use std::io::Read;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use typhos_core::schema::Schema;
use ureq::http::Response;
use ureq::{Agent, Body, SendBody};

use crate::maker::Maker;
use crate::reading::unescape;
use crate::server_table;
use crate::server_url::ServerUrl;
use typhos_load::at_once::at_once;
use typhos_load::feed::{Canceller, Feed, SharedFeed};
use typhos_load::proof::SentFacts;
use typhos_load::table::{
    Adding, Answers, Ask, Define, Finished, Intent, MoveRows, Objections, UNFINISHED,
};
use typhos_load::{Onlooker, TargetError, TargetKind};
use typhos_sql::held::Existing;
use typhos_sql::{ClickHouse, Definitions, Language, Movements};

use rows::ClickHouseRows;

/// A table of a ClickHouse server.
pub const KIND: TargetKind = server_table::kind(&["clickhouse", "clickhouses"], |address| {
    server_table::open(address, ClickHouseSession::connect)
});

/// A session with a ClickHouse server.
pub struct ClickHouseSession {
    agent: Agent,
    url: ServerUrl,
    language: ClickHouse,
    version: String,
    /// Settings that requests carry which write: who may only read may set none.
    settings: String,
    made: u32,
    /// What the numbers of this session's requests begin with, by which the server knows them.
    session: String,
    requests: AtomicU32,
    /// The table that keeps others from looking for keys, by its name in quotes.
    lock: Option<String>,
}

impl ClickHouseSession {
    /// Asks the server for its version.
    ///
    /// # Errors
    /// A server that cannot be reached, or does not let the user in.
    pub fn connect(url: &ServerUrl) -> Result<ClickHouseSession, TargetError> {
        let mut session = ClickHouseSession {
            agent: crate::http::agent(url)?,
            url: url.clone(),
            language: ClickHouse::newest(),
            version: String::new(),
            settings: String::new(),
            made: 0,
            session: session_name(),
            requests: AtomicU32::new(0),
            lock: None,
        };
        session.version = session.one("SELECT version()")?.unwrap_or_default();
        let mut numbers = session.version.split('.').filter_map(|part| part.parse().ok());
        let version = (numbers.next().unwrap_or(0), numbers.next().unwrap_or(0));
        session.language = ClickHouse { version };
        // What later versions have for good was an experiment before.
        if version < (19, 14) {
            session.settings.push_str("&allow_experimental_low_cardinality_type=1");
        }
        if !url.timeouts.statement.is_zero() {
            let seconds = url.timeouts.statement.as_secs().max(1);
            session.settings.push_str(&format!("&max_execution_time={seconds}"));
        }
        let text = session.language.literal(&url.database);
        let known =
            session.one(&format!("SELECT count() FROM system.databases WHERE name = {text}"))?;
        if known.as_deref() == Some("0") {
            let message = format!("there is no database '{}'", url.database);
            return Err(session.server_error(message, "make it, or name another in the URL"));
        }
        Ok(session)
    }

    fn request_url(&self, query: &str, settings: &str) -> String {
        let encode = |text: &str| utf8_percent_encode(text, NON_ALPHANUMERIC).to_string();
        // The catalog is asked before it is known whether the database exists.
        let database = if self.version.is_empty() { "" } else { &self.url.database };
        let database = if database.is_empty() {
            String::new()
        } else {
            format!("&database={}", encode(database))
        };
        let number = self.requests.fetch_add(1, Ordering::Relaxed);
        format!(
            "{}/?query={}{database}{settings}&query_id={}-{number}",
            crate::http::base(&self.url),
            encode(query),
            self.session,
        )
    }

    fn server_error(&self, message: impl Into<String>, help: &str) -> TargetError {
        TargetError::Server {
            target: self.url.to_string(),
            message: message.into(),
            help: help.into(),
        }
    }

    /// Sends a request; returns the text of the answer.
    fn request(
        &self,
        query: &str,
        settings: &str,
        body: SendBody<'_>,
    ) -> Result<String, TargetError> {
        self.text(self.answer(query, settings, body)?)
    }

    /// Sends a request; returns the answer of a server that has done it.
    fn answer(
        &self,
        query: &str,
        settings: &str,
        body: SendBody<'_>,
    ) -> Result<Response<Body>, TargetError> {
        let mut request = self
            .agent
            .post(self.request_url(query, settings))
            .header("X-ClickHouse-User", &self.url.user);
        if let Some(password) = &self.url.password {
            request = request.header("X-ClickHouse-Key", password.reveal());
        }
        let answer = request.send(body).map_err(|error| {
            let message = error.to_string();
            let help = crate::tls::connection_help(&message);
            self.server_error(message, help)
        })?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let text = self.text(answer)?;
        let is_refused = ["Code: 192,", "Code: 193,", "Code: 194,", "Code: 516."]
            .iter()
            .any(|code| text.contains(code));
        if is_refused && self.url.password.is_none() {
            return Err(TargetError::PasswordNeeded {
                target: self.url.to_string(),
                user: self.url.user.clone(),
            });
        }
        let help = if is_refused {
            "the password is taken from the URL, TYPHOS_PASSWORD, CLICKHOUSE_PASSWORD or ~/.clickhouse-client/config.xml"
        } else {
            ""
        };
        Err(self.server_error(words(&text), help))
    }

    /// The text of an answer.
    fn text(&self, mut answer: Response<Body>) -> Result<String, TargetError> {
        let text = answer.body_mut().with_config().limit(64 << 20).read_to_string();
        text.map_err(|error| self.server_error(error.to_string(), ""))
    }

    /// Sends rows to a table, over as many requests as the server has use for.
    fn send(
        &self,
        table: &str,
        schema: &Schema,
        feed: Feed<Vec<u8>>,
    ) -> Result<SentFacts, TargetError> {
        let columns: Vec<_> =
            schema.columns.iter().map(|column| self.language.identifier(&column.name)).collect();
        // The statement goes before the rows and not into the address, for which the names of many columns are too long.
        let statement = format!("INSERT INTO {table} ({}) FORMAT Native\n", columns.join(", "));
        let feed = SharedFeed::new(feed);
        let load = || {
            let mut body = statement.as_bytes().chain(feed.reader());
            self.request("", &self.settings, SendBody::from_reader(&mut body)).map(|_| ())
        };
        // The server works on each request with one thread.
        let cores = std::thread::available_parallelism().map_or(1, |cores| cores.get().min(4));
        let loaded = at_once((0..cores).map(|_| load));
        // A load that was given up is that, whatever the server made of it.
        let sent = feed.sent();
        loaded.into_iter().collect::<Result<(), _>>()?;
        sent
    }

    /// Whether a statement is under way that names a table, whoever says that its maker is gone.
    fn is_at_work(&mut self, table: &str) -> Result<bool, TargetError> {
        let text = self.language.literal(table);
        let own = self.language.literal(&format!("{}%", self.session));
        let count = self.one(&format!(
            "SELECT count() FROM system.processes WHERE position(query, {text}) > 0 AND query_id NOT LIKE {own}"
        ))?;
        Ok(count.as_deref() != Some("0"))
    }

    /// Lets others look for keys again.
    fn unlock(&mut self) {
        if let Some(lock) = self.lock.take() {
            // Where the server is gone, the next load sees that this one is, too.
            let _ = self.execute(&format!("DROP TABLE IF EXISTS {lock}"));
        }
    }

    /// Fills a table that is made as another is, and gives it the name of that one.
    fn exchange(
        &mut self,
        table: &str,
        columns: &str,
        select: &str,
        rows: u64,
    ) -> Result<Option<u64>, TargetError> {
        let name = self.unfinished_name()?;
        let side = self.language.identifier(&name);
        self.make_alike(&side, table)?;
        let filled = self
            .execute(&format!("INSERT INTO {side} ({columns}) {select}"))
            .and_then(|_| self.one(&format!("SELECT count() FROM {side}")));
        let there = filled.as_ref().ok().and_then(|count| count.as_ref()?.parse::<u64>().ok());
        // Engines that make one row of several do that later.
        if there != Some(rows) {
            // Where the server is gone, the next load sweeps.
            let _ = self.execute(&format!("DROP TABLE IF EXISTS {side}"));
            filled?;
            let there = there.unwrap_or(0);
            let message = format!("{rows} rows were to take the place of others, {there} came");
            return Err(self.server_error(message, ""));
        }
        let old = self.unfinished_name()?;
        let old = self.language.identifier(&old);
        self.execute(&format!("RENAME TABLE {table} TO {old}, {side} TO {table}"))?;
        self.execute(&format!("DROP TABLE {old}"))?;
        Ok(Some(rows))
    }
}

/// What the server said, without what stands around it.
fn words(text: &str) -> String {
    let text = text.trim();
    let text = text.split_once("DB::Exception: ").map_or(text, |(_, rest)| rest);
    let text = text.split_once(", e.what() =").map_or(text, |(text, _)| text);
    text.split_once(" (version ").map_or(text, |(text, _)| text).to_owned()
}

/// A field of a tab-separated answer.
fn field(text: &str) -> Option<String> {
    if text == "\\N" {
        return None;
    }
    let mut plain = Vec::new();
    unescape(text.as_bytes(), &mut plain);
    Some(String::from_utf8_lossy(&plain).into_owned())
}

impl Ask for ClickHouseSession {
    fn language(&self) -> &dyn Language {
        &self.language
    }

    fn target(&self) -> String {
        self.url.to_string()
    }

    fn server(&self) -> Option<String> {
        Some(format!("ClickHouse {}", self.version))
    }

    fn query(&mut self, sql: &str) -> Result<Answers, TargetError> {
        let text = self.request(
            "",
            "",
            SendBody::from_reader(&mut format!("{sql} FORMAT TabSeparated").as_bytes()),
        )?;
        let rows = text.split_terminator('\n').map(|line| line.split('\t').map(field).collect());
        Ok(rows.collect())
    }

    fn existing(&mut self, table: &str) -> Result<Option<Existing>, TargetError> {
        catalog::existing(self, table)
    }

    fn objections(&mut self, intent: &Intent<'_>) -> Result<Objections, TargetError> {
        catalog::objections(self, intent)
    }
}

impl Define for ClickHouseSession {
    fn execute(&mut self, sql: &str) -> Result<Option<u64>, TargetError> {
        self.request("", &self.settings, SendBody::from_reader(&mut sql.as_bytes()))?;
        Ok(None)
    }

    fn is_transactional(&self) -> bool {
        false
    }

    fn sweep(&mut self) -> Result<Vec<Finished>, TargetError> {
        let finished = self.finish_attaching()?;
        let database = self.language.literal(&self.url.database);
        let tables = self.names(&format!(
            "SELECT name FROM system.tables WHERE database = {database} AND name LIKE '{UNFINISHED}%'"
        ))?;
        for name in tables {
            let maker = Maker::parse(&name[UNFINISHED.len()..]);
            if maker.is_some_and(|maker| maker.is_gone()) && !self.is_at_work(&name)? {
                self.execute(&format!("DROP TABLE IF EXISTS {}", self.language.identifier(&name)))?;
            }
        }
        Ok(finished)
    }

    fn unfinished_name(&mut self) -> Result<String, TargetError> {
        self.made += 1;
        Ok(format!("{UNFINISHED}{}_{}", Maker::this(), self.made))
    }

    fn put_in_place(
        &mut self,
        stage: &str,
        table: &str,
        replaces: bool,
    ) -> Result<(), TargetError> {
        let table = self.language.identifier(table);
        if !replaces {
            return self.execute(&format!("RENAME TABLE {stage} TO {table}")).map(|_| ());
        }
        // Both in one statement; what was there goes away under the name that is swept.
        let old = self.unfinished_name()?;
        let old = self.language.identifier(&old);
        self.execute(&format!("RENAME TABLE {table} TO {old}, {stage} TO {table}"))?;
        self.execute(&format!("DROP TABLE {old}")).map(|_| ())
    }

    fn commit(&mut self) -> Result<(), TargetError> {
        self.unlock();
        Ok(())
    }

    fn undo(&mut self, stage: Option<&str>) {
        self.unlock();
        if let Some(stage) = stage {
            // Where the server is gone, the next load sweeps.
            let _ = self.execute(&format!("DROP TABLE IF EXISTS {stage}"));
        }
    }
}

impl MoveRows for ClickHouseSession {
    type Rows = ClickHouseRows;

    fn rows(&self, schema: &Schema) -> ClickHouseRows {
        ClickHouseRows::new(schema, self.language)
    }

    fn bulk(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<Vec<u8>>,
    ) -> Result<SentFacts, TargetError> {
        self.send(table, schema, feed)
    }

    fn insert(
        &mut self,
        table: &str,
        columns: &str,
        select: &str,
        rows: u64,
        adding: &Adding,
    ) -> Result<Option<u64>, TargetError> {
        let engine = match adding {
            Adding::ByParts { engine, .. } => engine,
            Adding::ByExchange => return self.exchange(table, columns, select, rows),
            Adding::ByInsertion | Adding::Directly | Adding::Straight { .. } => {
                let insert = self.language.insert(table, columns);
                return self.execute(&format!("{insert} {select}"));
            }
        };
        self.add_by_parts(table, columns, select, (rows, engine)).map(|()| Some(rows))
    }

    fn make_alike(&mut self, stage: &str, table: &str) -> Result<(), TargetError> {
        self.execute(&format!("CREATE TABLE {stage} AS {table}")).map(|_| ())
    }

    fn give_parts(
        &mut self,
        stage: &str,
        table: &str,
        rows: (u64, &str),
    ) -> Result<(), TargetError> {
        self.attach_all(stage, table, rows)
    }

    /// There are no locks: a table beside is one, since only one session can make it. Who made it stands in it.
    fn lock_keys(&mut self, table: &str) -> Result<(), TargetError> {
        let number = twox_hash::XxHash3_64::oneshot(table.as_bytes());
        let name = format!("{UNFINISHED}keys_{number:016x}");
        let (quoted, text) = (self.language.identifier(&name), self.language.literal(&name));
        let database = self.language.literal(&self.url.database);
        let make = format!("CREATE TABLE {quoted} (made_{} UInt8) ENGINE = Memory", Maker::this());
        if self.execute(&make).is_err() {
            let maker = self.one(&format!(
                "SELECT name FROM system.columns WHERE database = {database} AND table = {text}"
            ))?;
            let maker = maker.as_deref().and_then(|name| name.strip_prefix("made_"));
            if maker.and_then(Maker::parse).is_some_and(|maker| !maker.is_gone()) {
                let message = format!("another load looks for keys in '{table}' at this moment");
                let help = "load again when it has ended: neither knows of the other's keys";
                return Err(self.server_error(message, help));
            }
            self.execute(&format!("DROP TABLE IF EXISTS {quoted}"))?;
            self.execute(&make)?;
        }
        self.lock = Some(quoted);
        Ok(())
    }

    fn clear(&mut self, table: &str, adding: &Adding) -> Result<(), TargetError> {
        match adding {
            Adding::ByExchange => Ok(()),
            _ => Err(self.server_error(format!("the rows of {table} cannot be exchanged"), "")),
        }
    }

    fn answers_within(&self) -> Duration {
        self.url.timeouts.answer
    }

    fn onlooker(&mut self) -> Result<Option<Onlooker>, TargetError> {
        // Nobody holds locks there; but it may not answer.
        let ask = |other: &mut ClickHouseSession| other.one("SELECT 1").map(|_| None);
        Ok(Some(server_table::onlooker(&self.url, ClickHouseSession::connect, ask)))
    }

    fn canceller(&self) -> Canceller {
        let (url, session) = (self.url.clone(), self.session.clone());
        Box::new(move || {
            // Where nobody answers any more, there is nothing to end.
            if let Ok(mut other) = ClickHouseSession::connect(&url) {
                let _ =
                    other.execute(&format!("KILL QUERY WHERE query_id LIKE '{session}%' ASYNC"));
            }
        })
    }
}

/// A name that no other session has.
fn session_name() -> String {
    use std::hash::{BuildHasher, Hasher};
    let random = std::collections::hash_map::RandomState::new().build_hasher().finish();
    format!("typhos-{:x}-{random:016x}", std::process::id())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_are_those_of_the_server() {
        let said = "Code: 60, e.displayText() = DB::Exception: Table x doesn't exist., e.what() = DB::Exception";
        assert_eq!(words(said), "Table x doesn't exist.");
        assert_eq!(
            words("Code: 60. DB::Exception: No. (UNKNOWN_TABLE) (version 24.8.1)"),
            "No. (UNKNOWN_TABLE)"
        );
        assert_eq!(field("a\\tb\\\\N").as_deref(), Some("a\tb\\N"));
        assert_eq!(field("\\N"), None);
    }
}
