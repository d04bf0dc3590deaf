//! Typed rows that a command looks at: what was named, opened as a table. A schema and its files, files alone (typed by a draft that
//! is made on the spot), Parquet, Arrow, SQLite, an index, a table of a server.

use std::path::{Path, PathBuf};

use typhos_core::columns::Plan;
use typhos_core::infer::{DraftOptions, counted, draft};
use typhos_core::schema::SortKey;
use typhos_core::table::{Declared, InputTable, Selection, Table};
use typhos_files::embedded::EmbeddedTable;
use typhos_files::sqlite;
use typhos_files::tables::{ArrowTable, FileForm, ParquetTable, SqliteTable};
use typhos_load::{Secret, TargetError};
use typhos_servers::index::IndexTable;
use typhos_servers::reading::ServerTable;

use super::look::{Extent, Looked, look};
use crate::args::{Common, InputArgs, RuleArgs};
use crate::console::{Console, DIM, WARN, paint, safe};
use crate::diagnose;
use crate::outcome::{Failure, Outcome};
use crate::report::undeclared_note;

/// What was named.
#[derive(Clone, Copy)]
pub struct Named<'n> {
    pub what: &'n [PathBuf],
    /// The table of a database.
    pub table: Option<&'n str>,
    pub input: &'n InputArgs,
    /// The command, for what to type instead.
    pub command: &'static str,
    /// How many documents of a server are wanted, where its first ones are enough.
    pub documents: Option<usize>,
}

/// A table, and what it is called.
pub struct Opened<'t> {
    pub title: String,
    /// What the rows are called as a table.
    pub name: String,
    pub table: &'t mut dyn Table,
    /// Bytes of text that are read on several threads, where it is text.
    pub bytes: Option<u64>,
}

/// What is done with a table.
type Work<'w, R> = &'w mut dyn FnMut(Opened<'_>, &mut Console) -> Result<R, Failure>;

impl Named<'_> {
    /// Opens it, and does something with it.
    pub fn open<R>(
        self,
        common: &Common,
        console: &mut Console,
        work: Work<'_, R>,
    ) -> Result<R, Failure> {
        let first = &self.what[0];
        let is_toml = super::compare::is_schema(first);
        let url =
            first.to_str().filter(|text| IndexTable::is_url(text) || ServerTable::is_url(text));
        if let Some(url) = url {
            super::warn_of_password(url, console)?;
        }
        let form = match url {
            None if !is_toml && first.as_os_str() != "-" && !is_pattern(first) => {
                FileForm::of(first)?
            }
            _ => None,
        };
        if let (Some(another), true) = (self.what.get(1), url.is_some() || form.is_some()) {
            return Err(Failure::Usage(format!(
                "more than one thing to look at: '{}' follows '{}', which is not a schema file (NAME.typhos.toml)",
                another.display(),
                first.display()
            )));
        }
        let path = first.display();
        let mut typed = |title: String, table: &mut dyn Table, console: &mut Console| {
            let name = match self.table {
                Some(name) => name.to_owned(),
                None => super::table_name([&title[..]]),
            };
            work(Opened { title, name, table, bytes: None }, console)
        };
        match (url, form) {
            (Some(url), _) if ServerTable::is_url(url) => {
                let mut table = logged_in(|word| ServerTable::open(url, self.table, word))?;
                let title = format!("{} table {}", table.target, table.name);
                let name = table.name.clone();
                work(Opened { title, name, table: &mut table, bytes: None }, console)
            }
            (Some(url), _) => {
                let mut table = self.index(url)?;
                typed(table.target.clone(), &mut table, console)
            }
            (None, Some(FileForm::Index)) => {
                typed(path.to_string(), &mut EmbeddedTable::open(first)?, console)
            }
            (None, Some(FileForm::Parquet)) if !is_folder_of_text(first) => {
                typed(path.to_string(), &mut ParquetTable::open(first)?, console)
            }
            (None, Some(FileForm::Arrow)) => {
                typed(path.to_string(), &mut ArrowTable::open(first)?, console)
            }
            (None, Some(FileForm::Sqlite)) => {
                let name = chosen(first, self.table)?;
                let title = format!("{path} table {name}");
                typed(title, &mut SqliteTable::open(first, &name)?, console)
            }
            _ if is_toml => self.under_schema(common, console, work),
            _ => self.under_draft(common, console, work),
        }
    }

    /// An input under a schema, of which no more is read than is wanted.
    fn under_schema<R>(
        self,
        common: &Common,
        console: &mut Console,
        work: Work<'_, R>,
    ) -> Result<R, Failure> {
        let [schema, inputs @ ..] = self.what else { unreachable!("clap asks for one at least") };
        if inputs.is_empty() {
            return Err(Failure::Usage(format!(
                "give the files to look at: typhos {} {} INPUT",
                self.command,
                schema.display()
            )));
        }
        let (plan, input) = super::plan(schema, inputs, self.input, common, console)?;
        let title = format!("{} under {}", input.files()[0].name(), schema.display());
        let files: Vec<String> = input.files().iter().map(|file| file.name()).collect();
        let declared = plan.schema().table.clone();
        let name = declared.unwrap_or_else(|| super::table_name(files.iter().map(String::as_str)));
        let (table, bytes) = (&mut InputTable::new(&input, &plan), Some(input.bytes()));
        work(Opened { title, name, table, bytes }, console)
    }

    /// Files alone, under a draft of all their rows.
    fn under_draft<R>(
        self,
        common: &Common,
        console: &mut Console,
        work: Work<'_, R>,
    ) -> Result<R, Failure> {
        if self.what.iter().any(|path| path.as_os_str() == "-") {
            return Err(Failure::Usage(format!(
                "a stream is read only once, and to find its types it would be read twice: give its schema first, as in \
                 typhos {} SCHEMA -",
                self.command
            )));
        }
        let rules = RuleArgs::default();
        let looked = look(self.what, self.input, &rules, None, None, Extent::All, common)?;
        let questions = super::scout::questions(&looked);
        let Looked { examined, input, settings, .. } = looked;
        let mut input = input.ok_or_else(|| {
            Failure::Usage("a saved survey has no rows; name the files that it is of".into())
        })?;
        let files: Vec<String> = input.files().iter().map(|file| file.name()).collect();
        let wanted = DraftOptions {
            table: super::table_name(files.iter().map(String::as_str)),
            naming: settings.house.naming.unwrap_or_default(),
            columns: None,
            objects: settings.house.nested.unwrap_or_default(),
        };
        let drafted = draft(&examined.survey, &examined.decisions, &wanted);
        super::learn(&mut input, Some(&drafted.schema), common)?;
        let plan = Plan::new(drafted.schema, &input)
            .map_err(|wrong| Failure::Fault(wrong.iter().map(|it| it.message.clone()).collect()))?;
        let note = format!(
            "typed by a draft of all rows, made on the spot; 'typhos draft {} -o {}.typhos.toml' keeps it to be read and edited",
            safe(&self.what[0].display().to_string()),
            wanted.table
        );
        console.note(paint(DIM, note))?;
        for question in &questions {
            console.note(paint(WARN, question))?;
        }
        for note in undeclared_note(&plan, &input) {
            console.note(paint(WARN, note))?;
        }
        let (title, name) = (input.files()[0].name().to_owned(), wanted.table);
        let (table, bytes) = (&mut InputTable::new(&input, &plan), Some(input.bytes()));
        work(Opened { title, name, table, bytes }, console)
    }

    /// The first documents of an index.
    fn index(self, url: &str) -> Result<IndexTable, Failure> {
        let Some(documents) = self.documents else {
            return Err(Failure::Usage(
                "an index gives its first documents only: ask it itself, or look at the files that were loaded".into(),
            ));
        };
        logged_in(|word| IndexTable::open(url, documents, word))
    }
}

/// Opens something on a server; a password that it lacks is asked for where a person sits.
fn logged_in<T>(open: impl Fn(Option<Secret>) -> Result<T, TargetError>) -> Result<T, Failure> {
    let opened = open(None);
    let Err(TargetError::PasswordNeeded { target, user }) = &opened else {
        return Ok(opened?);
    };
    let question = format!("Password of {} at {}: ", safe(user), safe(target));
    match crate::prompt::password(&question) {
        Some(word) => Ok(open(Some(Secret::new(word)))?),
        None => Ok(opened?),
    }
}

/// Whether a path stands for files by a pattern.
fn is_pattern(path: &Path) -> bool {
    !path.exists() && path.to_string_lossy().contains(['*', '?', '['])
}

/// Whether a folder has files and nothing else, and none of them is Parquet; what is hidden is not looked at.
fn is_folder_of_text(path: &Path) -> bool {
    let Ok(entries) = std::fs::read_dir(path) else { return false };
    let is_shown = |path: &PathBuf| {
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        !name.starts_with(['.', '_'])
    };
    let inside: Vec<PathBuf> =
        entries.flatten().map(|entry| entry.path()).filter(is_shown).collect();
    let is_text = |path: &PathBuf| path.is_file() && matches!(FileForm::of(path), Ok(None));
    !inside.is_empty() && inside.iter().all(is_text)
}

/// The table of a database that is meant.
fn chosen(path: &Path, wanted: Option<&str>) -> Result<String, Failure> {
    let tables = sqlite::tables(path)?;
    match (wanted, &tables[..]) {
        (Some(wanted), _) if tables.iter().any(|table| table == wanted) => Ok(wanted.to_owned()),
        (None, [only]) => Ok(only.clone()),
        (None, []) => Err(Failure::Usage(format!("{} has no tables", path.display()))),
        (wanted, _) => {
            let list = tables.join(", ");
            let missing = wanted.map_or(String::new(), |table| format!("no table '{table}', but "));
            Err(Failure::Usage(format!(
                "{} has {missing}the tables {list}; pass --table NAME",
                path.display()
            )))
        }
    }
}

/// Columns, by their names as they were typed.
pub fn columns(names: &[String], declared: &Declared) -> Result<Vec<usize>, Failure> {
    names.iter().map(|name| declared.place(name).map_err(Failure::Usage)).collect()
}

/// How a command ends that has read rows, of text or elsewhere: what of them did not fit is told.
pub fn ended(misfits: u64, is_text: bool, console: &mut Console) -> Result<Outcome, Failure> {
    if misfits > 0 {
        let text = match is_text {
            true => {
                let misfits = counted(misfits, "misfit");
                format!("{misfits} in the rows read; 'typhos check' lists them")
            }
            false => {
                let values = counted(misfits, "value");
                format!(
                    "{values} in the rows read have no place in the type of their column, and are shown as absent"
                )
            }
        };
        console.note(paint(WARN, text))?;
    }
    Ok(Outcome::objecting_if(misfits > 0))
}

/// The rows that a question is about.
pub fn selection(
    question: Option<&str>,
    columns: Option<Vec<usize>>,
    declared: &Declared,
    table: &dyn Table,
) -> Result<Selection, Failure> {
    let filter = question.map(|question| {
        declared
            .filter(question, &table.schema())
            .map_err(|error| Failure::Schema(diagnose::phrase(question, "--where", &error)))
    });
    Ok(Selection { columns, filter: filter.transpose()?, limit: None })
}

/// What rows are sorted by, as it was typed: columns with commas between, each with `desc` behind it or not.
pub fn sort_keys(
    text: &str,
    columns: &[typhos_core::schema::ColumnDecl],
) -> Result<Vec<SortKey>, Failure> {
    // A column may have a comma in its name, as the measures of groups do.
    let mut keys = Vec::new();
    let mut rest = text.trim();
    while !rest.is_empty() {
        let ends = rest.match_indices(',').map(|(at, _)| at).chain([rest.len()]);
        let read: Vec<_> =
            ends.map(|end| (end, SortKey::parse(rest[..end].trim(), columns))).collect();
        match read.iter().rev().find(|(_, key)| key.is_ok()) {
            Some((end, Ok(key))) => {
                keys.push(key.clone());
                rest = rest.get(end + 1..).unwrap_or_default().trim();
            }
            _ => {
                let (_, first) = read.into_iter().next().expect("there is an end");
                return Err(Failure::Usage(format!("--sort: {}", first.unwrap_err())));
            }
        }
    }
    if keys.is_empty() {
        return Err(Failure::Usage("--sort: name a column, as in --sort 'fare desc'".into()));
    }
    Ok(keys)
}

#[cfg(test)]
mod tests {
    use super::*;
    use typhos_core::schema::{ColumnDecl, Scalar};

    fn keys(text: &str) -> Result<Vec<(String, bool)>, String> {
        let names = ["fare", "sold_on", "bucket(fare, 10)", "price desc"];
        let columns = names.map(|name| ColumnDecl::new(name, Scalar::Date));
        let keys = sort_keys(text, &columns).map_err(|failure| failure.to_string())?;
        Ok(keys.into_iter().map(|key| (key.column, key.descending)).collect())
    }

    /// A comma is between columns, unless it is in the name of one.
    #[test]
    fn columns_to_sort_by_may_have_commas_in_their_names() {
        for (text, want) in [
            ("fare", &[("fare", false)][..]),
            ("fare desc, sold_on", &[("fare", true), ("sold_on", false)]),
            ("bucket(fare, 10) desc,fare asc", &[("bucket(fare, 10)", true), ("fare", false)]),
            ("price desc, price desc desc", &[("price desc", false), ("price desc", true)]),
        ] {
            let want: Vec<_> = want.iter().map(|(name, down)| (name.to_string(), *down)).collect();
            assert_eq!(keys(text).unwrap(), want, "{text}");
        }
        assert!(keys("fair, fare").unwrap_err().starts_with("--sort: there is no column 'fair'"));
        assert!(keys(" ").unwrap_err().contains("name a column"));
    }

    #[test]
    fn a_folder_of_text_is_one_of_files_that_are_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        let inside = |name: &str| folder.path().join(name);
        assert!(!is_folder_of_text(folder.path()), "there is nothing in it");
        std::fs::write(inside("_SUCCESS"), "").unwrap();
        assert!(!is_folder_of_text(folder.path()));
        std::fs::write(inside("a.csv"), "a,b\n").unwrap();
        assert!(is_folder_of_text(folder.path()));
        std::fs::create_dir(inside("year=2024")).unwrap();
        assert!(!is_folder_of_text(folder.path()), "parts are in folders");
        std::fs::remove_dir(inside("year=2024")).unwrap();
        std::fs::write(inside("b.parquet"), "PAR1").unwrap();
        assert!(!is_folder_of_text(folder.path()));
        assert!(is_pattern(&inside("*.csv")) && !is_pattern(&inside("a.csv")));
    }
}
