//! The name of a table as a person types it: plainly, or behind the schema or database that it is in.

use crate::server_url::{ServerKind, ServerUrl};

/// The parts of a name between points. A part with a point in it stands in double quotes or backticks, and a quote in
/// those is doubled.
///
/// # Errors
/// What is wrong with it.
fn parts(text: &str) -> Result<Vec<String>, String> {
    let wrong = |what: &str| format!("the name of the table, {text}, {what}");
    let mut parts = Vec::new();
    let mut letters = text.chars().peekable();
    loop {
        let mut part = String::new();
        match letters.next_if(|letter| matches!(letter, '"' | '`')) {
            Some(quote) => loop {
                match letters.next() {
                    Some(letter) if letter != quote => part.push(letter),
                    Some(_) if letters.next_if_eq(&quote).is_some() => part.push(quote),
                    Some(_) => break,
                    None => return Err(wrong("has a quote that nothing closes")),
                }
            },
            None => part.extend(std::iter::from_fn(|| letters.next_if(|letter| *letter != '.'))),
        }
        if part.is_empty() {
            return Err(wrong("has nothing where a name should be"));
        }
        parts.push(part);
        match letters.next() {
            None => return Ok(parts),
            Some('.') => {}
            Some(_) => return Err(wrong("goes on behind a closing quote without a point")),
        }
    }
}

impl ServerUrl {
    /// Goes to where a table is, whose name was typed: the schema of PostgreSQL, or the database of another server,
    /// that is said before it. Returns its plain name.
    ///
    /// # Errors
    /// What is wrong with the name.
    pub fn go_to(&mut self, typed: &str) -> Result<String, String> {
        let parts = parts(typed)?;
        let is_postgres = self.kind == ServerKind::Postgres;
        match &parts[..] {
            [table] => return Ok(table.clone()),
            [schema, table] if is_postgres => {
                self.schema = Some(schema.clone());
                return Ok(table.clone());
            }
            [database, schema, table] if is_postgres && *database == self.database => {
                self.schema = Some(schema.clone());
                return Ok(table.clone());
            }
            [database, table] if !is_postgres => {
                self.database = database.clone();
                return Ok(table.clone());
            }
            _ => {}
        }
        let (want, others) = match is_postgres {
            true => ("SCHEMA.TABLE", "; another database is named in the URL"),
            false => ("DATABASE.TABLE", ""),
        };
        Err(format!(
            "the name of the table, {typed}, has too many parts: it is TABLE or {want}, and a part with a point in it stands in \
             double quotes{others}"
        ))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn gone(url: &str, typed: &str) -> Result<(String, Option<String>, String), String> {
        let mut url = ServerUrl::parse(url).unwrap().unwrap();
        let table = url.go_to(typed)?;
        Ok((url.database, url.schema, table))
    }

    #[test]
    fn names_lead_to_schemas_and_databases() {
        let of = |database: &str, schema: Option<&str>, table: &str| {
            Ok((database.to_owned(), schema.map(str::to_owned), table.to_owned()))
        };
        let postgres = "postgres://h/ferry?schema=raw";
        assert_eq!(gone(postgres, "tickets"), of("ferry", Some("raw"), "tickets"));
        assert_eq!(gone(postgres, "mart.tickets"), of("ferry", Some("mart"), "tickets"));
        assert_eq!(gone(postgres, "ferry.mart.tickets"), of("ferry", Some("mart"), "tickets"));
        assert_eq!(gone(postgres, r#""a.b"."say ""it""""#), of("ferry", Some("a.b"), "say \"it\""));
        let mariadb = "mysql://h/ferry";
        assert_eq!(gone(mariadb, "`mart`.my tickets"), of("mart", None, "my tickets"));
        assert_eq!(gone(mariadb, "\"a.b\""), of("ferry", None, "a.b"));
    }

    #[test]
    fn names_that_are_none_are_told() {
        for (url, typed, want) in [
            ("postgres://h/ferry", "other.mart.tickets", "too many parts"),
            ("mysql://h/ferry", "a.b.c", "DATABASE.TABLE"),
            ("mysql://h/ferry", "a.", "has nothing"),
            ("mysql://h/ferry", "", "has nothing"),
            ("mysql://h/ferry", "\"a", "nothing closes"),
            ("mysql://h/ferry", "\"a\"b", "without a point"),
        ] {
            let wrong = gone(url, typed).unwrap_err();
            assert!(wrong.contains(want), "{typed}: {wrong}");
        }
    }
}
