//! Where passwords are kept: the environment, and the files in which the clients of each server keep them.
//! Nothing here is ever printed.

use std::path::{Path, PathBuf};

use typhos_load::{PASSWORD_VARIABLE, Secret};

use crate::server_url::{ServerKind, ServerUrl};

/// Looks up the password of a server, where its URL has none: in the environment or in the usual file of its clients.
///
/// # Errors
/// A sentence about a file with the password that others may read.
pub fn look_up(url: &mut ServerUrl) -> Result<(), String> {
    if url.password.is_none() {
        url.password = find(url)?.map(Secret::new);
    }
    Ok(())
}

/// The password for a URL, if one is kept.
fn find(url: &ServerUrl) -> Result<Option<String>, String> {
    let variable = match url.kind {
        ServerKind::Postgres => "PGPASSWORD",
        ServerKind::Mariadb => "MYSQL_PWD",
        ServerKind::ClickHouse => "CLICKHOUSE_PASSWORD",
        ServerKind::Index => PASSWORD_VARIABLE,
    };
    let said = [PASSWORD_VARIABLE, variable].into_iter().find_map(|key| std::env::var(key).ok());
    if said.is_some() {
        return Ok(said);
    }
    let home = std::env::var_os("HOME").map(PathBuf::from);
    let file = match url.kind {
        ServerKind::Postgres => std::env::var_os("PGPASSFILE")
            .map(PathBuf::from)
            .or(home.map(|home| home.join(".pgpass"))),
        ServerKind::Mariadb => home.map(|home| home.join(".my.cnf")),
        ServerKind::ClickHouse => home.map(|home| home.join(".clickhouse-client/config.xml")),
        ServerKind::Index => None,
    };
    let Some(file) = file else { return Ok(None) };
    let Ok(text) = std::fs::read_to_string(&file) else { return Ok(None) };
    let found = match url.kind {
        ServerKind::Postgres => of_lines(&text, url),
        ServerKind::Mariadb => of_options(&text),
        ServerKind::ClickHouse => of_elements(&text),
        ServerKind::Index => None,
    };
    match found {
        Some(_) if is_open(&file) => Err(format!(
            "{0} has the password, and others may read it: chmod 600 {0}",
            file.display()
        )),
        found => Ok(found),
    }
}

/// Whether others than its owner may read a file.
#[cfg(unix)]
fn is_open(file: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    file.metadata().is_ok_and(|about| about.mode() & 0o077 != 0)
}

#[cfg(not(unix))]
fn is_open(_: &Path) -> bool {
    false
}

/// Lines of `host:port:database:user:password`, where `*` is anything and a backslash escapes.
fn of_lines(text: &str, url: &ServerUrl) -> Option<String> {
    let fields = |line: &str| {
        let mut fields = vec![String::new()];
        let mut letters = line.chars();
        while let Some(letter) = letters.next() {
            let count = fields.len();
            let last = fields.last_mut().expect("there is always one");
            match letter {
                '\\' => last.extend(letters.next()),
                ':' if count < 5 => fields.push(String::new()),
                _ => last.push(letter),
            }
        }
        fields
    };
    // A socket is in the file as the machine itself.
    let host = if url.host.starts_with('/') { "localhost" } else { &url.host };
    let wanted = [host, &url.port.to_string(), &url.database, &url.user];
    text.lines().filter(|line| !line.starts_with('#')).map(fields).find_map(|fields| {
        let [patterns @ .., password] = &fields[..] else { return None };
        let is_here = patterns.len() == 4
            && patterns
                .iter()
                .zip(wanted)
                .all(|(pattern, value)| pattern == "*" || pattern == value);
        is_here.then(|| password.clone())
    })
}

/// `password = …` in the section `[client]`.
fn of_options(text: &str) -> Option<String> {
    let mut in_section = false;
    for line in text.lines().map(str::trim) {
        if line.starts_with('[') {
            in_section = ["[client]", "[client-mariadb]", "[mariadb-client]"].contains(&line);
        } else if in_section
            && let Some((key, value)) = line.split_once('=')
            && key.trim() == "password"
        {
            let value = value.trim();
            let inner = ['"', '\''].into_iter().find_map(|quote| {
                let (inner, _) = value.strip_prefix(quote)?.split_once(quote)?;
                Some(inner)
            });
            // Outside of quotes a comment may stand behind it.
            let plain = || value.split('#').next().unwrap_or_default().trim();
            return Some(inner.unwrap_or_else(plain).to_owned());
        }
    }
    None
}

/// `<password>…</password>`.
fn of_elements(text: &str) -> Option<String> {
    let (_, rest) = text.split_once("<password>")?;
    let (password, _) = rest.split_once("</password>")?;
    let entities =
        [("&lt;", "<"), ("&gt;", ">"), ("&quot;", "\""), ("&apos;", "'"), ("&amp;", "&")];
    Some(
        entities.iter().fold(password.trim().to_owned(), |text, (from, to)| text.replace(from, to)),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_of_passwords_are_read_as_their_clients_read_them() {
        let url = ServerUrl::parse("postgres://anna@db:5433/ferry").unwrap().unwrap();
        let file =
            "# old\nother:*:*:*:no\ndb:5432:*:anna:no\ndb:*:ferry:anna:a\\:b:c\n*:*:*:*:last\n";
        assert_eq!(of_lines(file, &url).as_deref(), Some("a:b:c"));
        assert_eq!(of_lines("db:1:x:y:z\nshort\n", &url), None);
        let socket = ServerUrl::parse("postgres://anna@%2Frun/ferry").unwrap().unwrap();
        assert_eq!(of_lines("localhost:*:*:anna:word", &socket).as_deref(), Some("word"));
        let options = "[mysqld]\npassword=no\n[client]\nuser = anna\npassword = \"a b\"\n";
        assert_eq!(of_options(options).as_deref(), Some("a b"));
        for (line, want) in [
            ("password=word # of the test server", "word"),
            ("password = 'a # b' # c", "a # b"),
            ("#password = old\n; password = older\npassword=new", "new"),
        ] {
            assert_eq!(of_options(&format!("[client]\n{line}\n")).as_deref(), Some(want), "{line}");
        }
        assert_eq!(of_elements("<config><password> a&amp;b </password>").as_deref(), Some("a&b"));
    }
}
