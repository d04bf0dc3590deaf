//! Rows that a load adds to a table in its own transaction, behind all that are there.
//!
//! A table of InnoDB without a key of its own stands in the order of numbers that the server gives to rows as they come, and is read
//! in that order where no index is used. What others add at the same time is not seen by the transaction of the load. So once it is
//! known how many rows stood there when it began, the others are those that it added, and can be asked about by
//! themselves. Whether a table is one of these the [catalog](super::catalog) says.
//!
//! Other connections help, since the server works on each with one thread: one counts the rows that were there while new ones are
//! sent, and in the end they are asked beside the one of the load. They see the table at another moment, or what others have not
//! committed; so where their answers are not the expected ones, the connection of the load is asked once more.

use std::thread;

use typhos_core::schema::Schema;
use typhos_load::TargetError;
use typhos_load::at_once::ask_at_once;
use typhos_load::feed::{Feed, SharedFeed};
use typhos_load::proof::SentFacts;
use typhos_load::table::{Answers, Ask, Define};

use super::{MariadbSession, OF_VALUES, catalog, load_statement};
use crate::server_url::ServerUrl;

/// Seconds that a connection which helps waits for a lock. Who wants to change the table waits for the load, and others
/// behind that one.
const HELPERS_WAIT: u32 = 1;

/// What is known of a table that rows were added to.
pub(super) struct Behind {
    /// The table, qualified.
    table: String,
    /// Rows that stood there.
    before: Option<u64>,
    /// Rows that were added.
    added: u64,
    /// Whether the rows before were counted by the transaction itself.
    is_exact: bool,
}

impl Behind {
    /// The rows that were added, as something to select from. How many stand before them each connection
    /// has been told.
    pub(super) fn rows(&self) -> String {
        format!(
            "{} USE INDEX (), (SELECT @typhos_row := 0) typhos_start \
             WHERE (@typhos_row := @typhos_row + 1) > @typhos_before",
            self.table
        )
    }
}

/// The statement that counts all rows of a table.
fn counting(table: &str) -> String {
    format!("SELECT count(*) FROM {table} USE INDEX ()")
}

/// Another connection, which soon gives up where it would have to wait.
fn helper(url: &ServerUrl) -> Result<MariadbSession, TargetError> {
    let mut session = MariadbSession::connect(url)?;
    session.execute(&format!("SET SESSION lock_wait_timeout = {HELPERS_WAIT}"))?;
    Ok(session)
}

impl MariadbSession {
    /// Sends rows over this connection alone; returns what was sent, and how many the table took.
    pub(super) fn load_alone(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<Vec<u8>>,
    ) -> Result<(SentFacts, u64), TargetError> {
        let feed = SharedFeed::new(feed);
        let sql = load_statement(table, schema);
        let (loaded, before) = match self.adds_behind {
            false => (self.load(&sql, feed.clone()), None),
            true => {
                // With this question the transaction sees the table as it is now, and its own rows.
                self.query(&format!("SELECT 1 FROM {table} LIMIT 1"))?;
                let url = self.url.clone();
                thread::scope(|scope| {
                    let counts = scope.spawn(|| helper(&url)?.one(&counting(table)));
                    let loaded = self.load(&sql, feed.clone());
                    // Who cannot help is not needed.
                    let count = counts.join().ok().and_then(|count| count.ok().flatten());
                    (loaded, count.and_then(|count| count.parse().ok()))
                })
            }
        };
        // What was given up is that, whatever the connection says of it.
        let sent = feed.sent();
        let added = match loaded {
            Ok(added) => added,
            Err(error) => {
                let is_known = sent.is_ok() && catalog::says_rows(&self.version);
                let refused = is_known.then(|| self.refused_row().ok().flatten()).flatten();
                return Err(refused.unwrap_or(error));
            }
        };
        if self.adds_behind {
            let table = table.to_owned();
            self.behind = Some(Behind { table, before, added, is_exact: false });
        }
        Ok((sent?, added))
    }

    /// The first row that the server had something to say about, of those that were sent over this connection alone; nothing
    /// where what it said is not about values.
    fn refused_row(&mut self) -> Result<Option<TargetError>, TargetError> {
        self.execute(
            "GET DIAGNOSTICS CONDITION 1 @typhos_row = ROW_NUMBER, @typhos_state = RETURNED_SQLSTATE, \
             @typhos_said = MESSAGE_TEXT",
        )?;
        let said = self.query("SELECT @typhos_row, @typhos_state, @typhos_said")?;
        let Some([Some(row), Some(state), Some(message)]) =
            said.into_iter().next().and_then(|row| <[Option<String>; 3]>::try_from(row).ok())
        else {
            return Ok(None);
        };
        let row = row.parse().ok().and_then(|row: u64| row.checked_sub(1));
        let is_of_value = OF_VALUES.iter().any(|class| state.starts_with(class));
        let target = self.url.to_string();
        let row = row.filter(|_| is_of_value);
        Ok(row.map(|row| TargetError::refused_row(target, message, row)))
    }

    /// Asks about rows that were added, also over connections that see what is not committed.
    pub(super) fn query_added(
        &mut self,
        questions: &[String],
    ) -> Result<Vec<Answers>, TargetError> {
        let Some(before) = self.behind.as_ref().and_then(|behind| behind.before) else {
            return questions.iter().map(|sql| self.query_alone(sql)).collect();
        };
        let (url, told) = (self.url.clone(), format!("SET @typhos_before = {before}"));
        let own = |sql: &str| {
            self.execute(&told)?;
            self.query(sql)
        };
        let answers = ask_at_once(questions, own, |sql| {
            let mut other = helper(&url)?;
            other.execute("SET SESSION TRANSACTION ISOLATION LEVEL READ UNCOMMITTED")?;
            other.execute(&told)?;
            other.query(sql)
        });
        let asked = answers.into_iter().zip(questions);
        asked.map(|(answers, sql)| answers.or_else(|_| self.query_alone(sql))).collect()
    }

    /// Asks once more, over the connection of the load alone.
    pub(super) fn query_alone(&mut self, sql: &str) -> Result<Answers, TargetError> {
        if let Some(behind) = &self.behind
            && !behind.is_exact
        {
            let (counting, added) = (counting(&behind.table), behind.added);
            let all = self.counts(&counting)?.first().copied().unwrap_or(0);
            let before = all.saturating_sub(added);
            self.execute(&format!("SET @typhos_before = {before}"))?;
            if let Some(behind) = &mut self.behind {
                (behind.before, behind.is_exact) = (Some(before), true);
            }
        }
        self.query(sql)
    }
}
