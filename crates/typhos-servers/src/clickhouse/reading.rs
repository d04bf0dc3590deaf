//! Rows of ClickHouse as texts, over HTTP.

use typhos_core::schema::Held;
use typhos_load::TargetError;
use typhos_load::table::Ask;
use typhos_sql::Definitions;
use typhos_sql::held::ExistingColumn;
use ureq::SendBody;

use super::{ClickHouseSession, words};
use crate::reading::{BadLine, ReadRows, TabText, TakeRow};

impl ReadRows for ClickHouseSession {
    fn tables(&mut self) -> Result<Vec<String>, TargetError> {
        let database = self.language.literal(&self.url.database);
        self.names(&format!(
            "SELECT name FROM system.tables WHERE database = {database} ORDER BY name"
        ))
    }

    fn as_text(&self, column: &ExistingColumn) -> String {
        let name = self.language.identifier(&column.name);
        // As a text of its own, so that what is escaped inside of it stays so.
        match ["Array(", "Tuple("].iter().any(|nested| column.ty.starts_with(nested)) {
            true => format!("toString({name})"),
            false => name,
        }
    }

    /// Days and instants before 1970, and decimals beside other numbers, are not what they are elsewhere.
    fn may_ask(&self, held: &Held) -> bool {
        matches!(held, Held::Int(_) | Held::Float(_) | Held::Text(_) | Held::Listed(_))
    }

    fn has_any_bytes(&self) -> bool {
        true
    }

    fn read_rows(
        &mut self,
        sql: &str,
        columns: usize,
        each: TakeRow<'_>,
    ) -> Result<(), TargetError> {
        let query = format!("{sql} FORMAT TabSeparated");
        let mut query = query.as_bytes();
        let mut answer = self.answer("", "", SendBody::from_reader(&mut query))?;
        let rows = TabText::new(answer.body_mut().as_reader()).rows(columns, each);
        match rows {
            Ok(_) => Ok(()),
            Err(BadLine::Io(error)) => Err(self.server_error(error.to_string(), "")),
            Err(BadLine::Broken(line)) => Err(self.server_error(words(&line), "")),
        }
    }
}
