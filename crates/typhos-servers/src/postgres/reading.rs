//! Rows of PostgreSQL as texts, by `COPY`.

use typhos_core::schema::Held;
use typhos_load::TargetError;
use typhos_load::table::{Ask, MoveRows};
use typhos_sql::held::ExistingColumn;
use typhos_sql::{Definitions, Postgres};

use super::{PostgresSession, server_error};
use crate::reading::{BadLine, ReadRows, TabText, TakeRow};

impl ReadRows for PostgresSession {
    fn tables(&mut self) -> Result<Vec<String>, TargetError> {
        let schema = self.schema();
        self.names(&format!(
            "SELECT c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
             WHERE n.nspname = {schema} AND c.relkind IN ('r', 'p', 'f', 'v', 'm') ORDER BY 1"
        ))
    }

    fn as_text(&self, column: &ExistingColumn) -> String {
        let name = Postgres.identifier(&column.name);
        match column.held {
            Held::Timestamp(_, Some(true)) => format!("({name} AT TIME ZONE 'UTC')::text || 'Z'"),
            Held::List(_) => format!("to_json({name})::text"),
            _ => name,
        }
    }

    fn read_rows(
        &mut self,
        sql: &str,
        columns: usize,
        each: TakeRow<'_>,
    ) -> Result<(), TargetError> {
        let cancel = self.canceller();
        let url = &self.url;
        let copied = self.client.copy_out(&format!("COPY ({sql}) TO STDOUT"));
        let rows =
            TabText::new(copied.map_err(|error| server_error(url, error))?).rows(columns, each);
        match rows {
            Ok(ended) => {
                // What is still to come is not waited for.
                if ended.is_break() {
                    cancel();
                }
                Ok(())
            }
            Err(BadLine::Io(error)) => match error.into_inner().map(|inner| inner.downcast()) {
                Some(Ok(error)) => Err(server_error(url, *error)),
                Some(Err(other)) => Err(super::broken(url, &other.to_string())),
                None => Err(super::broken(url, "the connection broke")),
            },
            Err(BadLine::Broken(line)) => Err(super::broken(url, &line)),
        }
    }
}
