//! Rows of MariaDB as texts, as its protocol has them.

use mysql::Value;
use mysql::prelude::Queryable;
use typhos_core::schema::Held;
use typhos_load::TargetError;
use typhos_load::table::{Ask, MoveRows};
use typhos_sql::held::ExistingColumn;
use typhos_sql::{Definitions, Mariadb};

use super::{MariadbSession, server_error};
use crate::reading::{ReadRows, TakeRow};

impl ReadRows for MariadbSession {
    fn tables(&mut self) -> Result<Vec<String>, TargetError> {
        self.names(
            "SELECT table_name FROM information_schema.tables WHERE table_schema = database() ORDER BY 1",
        )
    }

    fn as_text(&self, column: &ExistingColumn) -> String {
        let name = Mariadb.identifier(&column.name);
        let is = |word: &str| column.ty.starts_with(word);
        match column.held {
            Held::Timestamp(_, Some(true)) => format!("concat({name}, 'Z')"),
            // As a text it would have six digits.
            Held::Float(32) => format!("CAST({name} AS DOUBLE)"),
            Held::Point => format!("ST_AsText({name})"),
            Held::Other if is("bit") => format!("CAST({name} AS UNSIGNED)"),
            Held::Other if column.ty.contains("blob") || column.ty.contains("binary") => {
                format!("hex({name})")
            }
            _ => name,
        }
    }

    fn read_rows(&mut self, sql: &str, _: usize, each: TakeRow<'_>) -> Result<(), TargetError> {
        let cancel = self.canceller();
        let url = &self.url;
        let rows = self.conn.query_iter(sql).map_err(|error| server_error(url, &error))?;
        for row in rows {
            let values = row.map_err(|error| server_error(url, &error))?.unwrap();
            let texts: Vec<Option<Vec<u8>>> = values.into_iter().map(text).collect();
            let texts: Vec<Option<&[u8]>> = texts.iter().map(|text| text.as_deref()).collect();
            if each(&texts).is_break() {
                // What is still to come would have to be waited for.
                cancel();
                break;
            }
        }
        Ok(())
    }
}

fn text(value: Value) -> Option<Vec<u8>> {
    match value {
        Value::NULL => None,
        Value::Bytes(bytes) => Some(bytes),
        other => Some(super::plainly(&other).into_bytes()),
    }
}
