//! Rows that come into a table as whole partitions of another one, and what becomes of them where that breaks off half-way.
//!
//! Each partition is attached at once, and one after the other. Where they are several, a table beside lists them first, with
//! how many rows each had in the table before: by that whoever comes next knows which of them are there already, and
//! attaches the others.

use super::ClickHouseSession;
use crate::maker::Maker;
use typhos_load::TargetError;
use typhos_load::table::{Ask, Define, Finished, MoveRows};
use typhos_sql::Definitions;

/// What lists of partitions are called, before letters of their own.
const ATTACHING: &str = "typhos_attaching_";

/// A partition on its way.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Partition {
    id: String,
    /// Its rows.
    rows: u64,
    /// The rows that the table had in it before.
    before: u64,
    /// The rows that the table has in it now.
    now: u64,
}

/// Those of the partitions, which are attached in this order, that are not there yet. What others added meanwhile does not
/// make a partition one that is there, where one before it is not.
fn missing(partitions: &[Partition]) -> &[Partition] {
    let is_there = |partition: &Partition| partition.now >= partition.before + partition.rows;
    let there = partitions.iter().take_while(|partition| is_there(partition)).count();
    &partitions[there..]
}

impl ClickHouseSession {
    /// Adds the rows of a query by way of a table that is made as the one is that they go to.
    pub(super) fn add_by_parts(
        &mut self,
        table: &str,
        columns: &str,
        select: &str,
        rows: (u64, &str),
    ) -> Result<(), TargetError> {
        let name = self.unfinished_name()?;
        let side = self.language.identifier(&name);
        self.make_alike(&side, table)?;
        let fill = format!("INSERT INTO {side} ({columns}) {select}");
        if let Err(error) = self.execute(&fill) {
            // Where the server is gone, the next load sweeps.
            let _ = self.execute(&format!("DROP TABLE IF EXISTS {side}"));
            return Err(error);
        }
        self.attach_all(&side, table, rows)
    }

    /// Attaches all partitions of a table to one that it was made as, and removes it; also where that fails, unless some of them
    /// are there already.
    pub(super) fn attach_all(
        &mut self,
        side: &str,
        table: &str,
        rows: (u64, &str),
    ) -> Result<(), TargetError> {
        let name = unquoted(side);
        let ready = self.filled_partitions(&name, rows).and_then(|partitions| {
            Ok((self.list_partitions(table, &name, &partitions)?, partitions))
        });
        let (list, attached) = match ready {
            Ok((list, partitions)) => {
                let mut ids = partitions.iter().map(|(id, _)| id);
                (list, ids.try_for_each(|id| self.attach(table, side, id)))
            }
            Err(error) => (None, Err(error)),
        };
        if let (Err(TargetError::Server { target, message, .. }), Some(_)) = (&attached, &list) {
            // What is there cannot be taken back, and what is missing is listed.
            let help = "some of its partitions may be there; the next load into this database adds the others, and says so";
            let (target, message) = (target.clone(), message.clone());
            return Err(TargetError::Server { target, message, help: help.into() });
        }
        if attached.is_err() {
            // Where the server is gone, the next load sweeps.
            let _ = self.execute(&format!("DROP TABLE IF EXISTS {side}"));
            return attached;
        }
        for done in list.as_deref().into_iter().chain([side]) {
            self.execute(&format!("DROP TABLE IF EXISTS {done}"))?;
        }
        Ok(())
    }

    /// The partitions of a table beside that was filled with so many rows; the table they go to has this engine.
    fn filled_partitions(
        &mut self,
        side: &str,
        (rows, engine): (u64, &str),
    ) -> Result<Vec<(String, u64)>, TargetError> {
        let partitions = self.partitions(side)?;
        let there: u64 = partitions.iter().map(|(_, rows)| rows).sum();
        // Other engines may make one row of several; none makes more.
        if there > rows || engine == "MergeTree" && there != rows {
            let message = format!("{rows} rows were to be added, {there} were made of them");
            return Err(self.server_error(message, ""));
        }
        Ok(partitions)
    }

    /// The partitions of a table, in their order, with their rows.
    fn partitions(&mut self, table: &str) -> Result<Vec<(String, u64)>, TargetError> {
        let (database, table) =
            (self.language.literal(&self.url.database), self.language.literal(table));
        let found = self.query(&format!(
            "SELECT partition_id, sum(rows) FROM system.parts \
             WHERE active AND database = {database} AND table = {table} GROUP BY partition_id ORDER BY partition_id"
        ))?;
        let partition = |row: Vec<Option<String>>| match <[_; 2]>::try_from(row) {
            Ok([Some(id), Some(rows)]) => Some((id, rows.parse().ok()?)),
            _ => None,
        };
        Ok(found.into_iter().filter_map(partition).collect())
    }

    fn attach(&mut self, table: &str, side: &str, partition: &str) -> Result<(), TargetError> {
        let partition = self.language.literal(partition);
        self.execute(&format!("ALTER TABLE {table} ATTACH PARTITION ID {partition} FROM {side}"))
            .map(|_| ())
    }

    /// Lists the partitions that are about to be attached, where they are several. Returns the name of the list, in quotes.
    fn list_partitions(
        &mut self,
        table: &str,
        side: &str,
        partitions: &[(String, u64)],
    ) -> Result<Option<String>, TargetError> {
        if partitions.len() < 2 {
            return Ok(None);
        }
        let before = self.partitions(&unquoted(table))?;
        let list = self.language.identifier(&format!("{ATTACHING}{}", Maker::this()));
        self.execute(&format!(
            "CREATE TABLE {list} (place String, side String, id String, rows UInt64, before UInt64) ENGINE = TinyLog"
        ))?;
        let (place, side) = (self.language.literal(table), self.language.literal(side));
        let lines = partitions.iter().map(|(id, rows)| {
            let before = before.iter().find(|(known, _)| known == id).map_or(0, |(_, rows)| *rows);
            format!("({place}, {side}, {}, {rows}, {before})", self.language.literal(id))
        });
        let lines: Vec<_> = lines.collect();
        self.execute(&format!("INSERT INTO {list} VALUES {}", lines.join(", ")))?;
        Ok(Some(list))
    }

    /// Attaches what loads did not come to that were killed while they did.
    pub(super) fn finish_attaching(&mut self) -> Result<Vec<Finished>, TargetError> {
        let database = self.language.literal(&self.url.database);
        let lists = self.names(&format!(
            "SELECT name FROM system.tables WHERE database = {database} AND name LIKE '{ATTACHING}%'"
        ))?;
        let mut finished = Vec::new();
        for list in lists {
            let maker = Maker::parse(&list[ATTACHING.len()..]);
            if !maker.is_some_and(|maker| maker.is_gone()) || self.is_at_work(&list)? {
                continue;
            }
            let quoted = self.language.identifier(&list);
            let rows = self.query(&format!(
                "SELECT place, side, id, rows, before FROM {quoted} ORDER BY id"
            ))?;
            let places: Vec<(String, String)> =
                rows.iter().filter_map(|row| Some((row[0].clone()?, row[1].clone()?))).collect();
            if let Some((table, side)) = places.first() {
                let there = self.partitions(&unquoted(table))?;
                let partition = |row: &Vec<Option<String>>| {
                    let id = row[2].clone()?;
                    let now = there.iter().find(|(known, _)| *known == id);
                    let [rows, before] = [3, 4].map(|at| row[at].as_ref()?.parse().ok());
                    Some(Partition {
                        id,
                        rows: rows?,
                        before: before?,
                        now: now.map_or(0, |(_, rows)| *rows),
                    })
                };
                let all: Vec<Partition> = rows.iter().filter_map(partition).collect();
                let quoted_side = self.language.identifier(side);
                for partition in missing(&all) {
                    self.attach(table, &quoted_side, &partition.id)?;
                }
                self.execute(&format!("DROP TABLE IF EXISTS {quoted_side}"))?;
                let rows = all.iter().map(|partition| partition.rows).sum();
                finished.push(Finished { table: unquoted(table), rows });
            }
            self.execute(&format!("DROP TABLE IF EXISTS {quoted}"))?;
        }
        Ok(finished)
    }
}

/// A name without its quotes.
fn unquoted(name: &str) -> String {
    let inner = name.strip_prefix('`').and_then(|name| name.strip_suffix('`')).unwrap_or(name);
    inner.replace("\\`", "`").replace("\\\\", "\\")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_missing_comes_behind_what_is_there() {
        let of = |id: &str, before, now| Partition { id: id.into(), rows: 10, before, now };
        let ids = |all: &[Partition]| -> Vec<String> {
            missing(all).iter().map(|partition| partition.id.clone()).collect()
        };
        assert_eq!(ids(&[of("a", 0, 10), of("b", 5, 15), of("c", 0, 0)]), ["c"]);
        assert_eq!(ids(&[of("a", 0, 0), of("b", 0, 0)]), ["a", "b"]);
        assert!(ids(&[of("a", 0, 10), of("b", 1, 12)]).is_empty());
        // Somebody else added rows to a partition whose turn had not come.
        assert_eq!(ids(&[of("a", 0, 10), of("b", 0, 3), of("c", 0, 40)]), ["b", "c"]);
    }

    #[test]
    fn names_come_out_of_their_quotes() {
        let language = typhos_sql::ClickHouse::newest();
        for name in ["t", "a`b", "a\\b"] {
            assert_eq!(unquoted(&language.identifier(name)), name);
        }
    }
}
