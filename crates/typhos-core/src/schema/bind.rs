//! A schema meets an input: which column comes from where.

use std::collections::{HashMap, HashSet};

use super::keep::places;
use super::{ColumnDecl, ColumnFrom, Diagnostic, Generate, Scalar, Schema};
use crate::records::Paths;
use crate::text::Input;
use crate::wording::listed;

impl Schema {
    /// Where each declared column comes from.
    ///
    /// # Errors
    /// Every column whose source is not in the input, or is there more than once.
    pub fn bind(&self, input: &Input) -> Result<Vec<ColumnSource>, Vec<Diagnostic>> {
        let mut wrong = Vec::new();
        let mut sources = Vec::new();
        let mut headers: Places<'_> = HashMap::new();
        for (at, name) in input.names().iter().enumerate() {
            headers
                .entry(name)
                .and_modify(|(_, second)| *second = second.or(Some(at)))
                .or_insert((at, None));
        }
        let now = jiff::Timestamp::now();
        for column in &self.columns {
            let mut found = |from: Option<&ColumnFrom>| match find(column, from, input, &headers)
                .and_then(|at| outside_lists(column, at, input))
            {
                Ok(at) => at,
                Err(diagnostic) => {
                    wrong.push(diagnostic);
                    0
                }
            };
            sources.push(match (&column.generate, &column.from) {
                (Some(Generate::RowNumber { start }), _) => ColumnSource::RowNumber(*start),
                (Some(Generate::File), _) => ColumnSource::File,
                (Some(Generate::Line), _) => ColumnSource::Line,
                (Some(Generate::LoadedAt), _) => ColumnSource::LoadedAt(instant(now, column)),
                (Some(Generate::Position { start }), _) => {
                    if input.paths().and_then(Paths::unnested).is_none() {
                        let help = "say which list in [input]: unnest = \"readings\"";
                        let message = "a position is that of an element, and no elements are rows";
                        let span = column.spans.keys.clone();
                        wrong.push(Diagnostic::new(span, message).help(help));
                    }
                    ColumnSource::Position(*start)
                }
                (None, Some(ColumnFrom::Several(several))) => {
                    ColumnSource::Joined(several.iter().map(|one| found(Some(one))).collect())
                }
                (None, one) => ColumnSource::Column(found(one.as_ref())),
            });
        }
        if wrong.is_empty() { Ok(sources) } else { Err(wrong) }
    }
}

impl Schema {
    /// The names in an input that columns are made of, and of those that are left out by a comment.
    pub fn source_names(&self) -> Vec<String> {
        fn add(column: &ColumnDecl, from: Option<&ColumnFrom>, names: &mut Vec<String>) {
            match from {
                _ if column.generate.is_some() => {}
                Some(ColumnFrom::Position(_)) => {}
                Some(ColumnFrom::Name(name)) => names.push(name.clone()),
                Some(ColumnFrom::Several(several)) => {
                    several.iter().for_each(|one| add(column, Some(one), names));
                }
                None => names.push(column.name.clone()),
            }
        }
        let mut names = Vec::new();
        for column in self.columns.iter().chain(&self.left_out) {
            add(column, column.from.as_ref(), &mut names);
        }
        names
    }

    /// The places of the columns of an input, of which these are the names, that nothing is made of and that are not
    /// left out by a comment.
    pub fn undeclared(&self, sources: &[ColumnSource], names: &[String]) -> Vec<usize> {
        let mut used: HashSet<usize> =
            sources.iter().flat_map(ColumnSource::columns).copied().collect();
        let left_out = self.left_out.iter().flat_map(|column| places(column, names));
        used.extend(left_out.flatten());
        // A file of rejected records is the input with these behind it.
        let own = names.len().saturating_sub(REJECTED_COLUMNS.len());
        let most = if names[own..] == REJECTED_COLUMNS { own } else { names.len() };
        (0..most).filter(|at| !used.contains(at)).collect()
    }
}

/// Names of the columns that a file of rejected records has behind those of the input.
pub const REJECTED_COLUMNS: [&str; 4] =
    ["rejected_file", "rejected_line", "rejected_column", "rejected_reason"];

/// Where the values of a declared column come from in an input; columns count from 0.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ColumnSource {
    /// A column.
    Column(usize),
    /// Several columns, in the order their values are joined.
    Joined(Vec<usize>),
    /// The numbers of the records, the first of which has this one.
    RowNumber(i64),
    /// The names of the files that the records stand in.
    File,
    /// The lines on which they start.
    Line,
    /// When they were bound, as a text that is read as the type of the column.
    LoadedAt(String),
    /// The positions of elements in the list of their record, the first of which has this number.
    Position(i64),
}

impl ColumnSource {
    /// The column, where there is exactly one.
    pub fn column(&self) -> Option<usize> {
        match self {
            ColumnSource::Column(at) => Some(*at),
            ColumnSource::Joined(_)
            | ColumnSource::RowNumber(_)
            | ColumnSource::File
            | ColumnSource::Line
            | ColumnSource::LoadedAt(_)
            | ColumnSource::Position(_) => None,
        }
    }

    /// All columns that values come from.
    pub fn columns(&self) -> &[usize] {
        match self {
            ColumnSource::Column(at) => std::slice::from_ref(at),
            ColumnSource::Joined(several) => several,
            ColumnSource::RowNumber(_)
            | ColumnSource::File
            | ColumnSource::Line
            | ColumnSource::LoadedAt(_)
            | ColumnSource::Position(_) => &[],
        }
    }
}

/// An instant as a text of as many digits as the unit of a column has.
fn instant(now: jiff::Timestamp, column: &ColumnDecl) -> String {
    let digits = match column.scalar() {
        Scalar::Timestamp { unit, .. } => usize::from(unit.digits()),
        _ => 0,
    };
    format!("{now:.digits$}")
}

/// Where each header stands first, and where once more.
type Places<'n> = HashMap<&'n str, (usize, Option<usize>)>;

/// Columns of an input that are looked through for the nearest one to a name that is none of them.
const MOST_COMPARED: usize = 1_000;

fn find(
    column: &ColumnDecl,
    from: Option<&ColumnFrom>,
    input: &Input,
    places: &Places<'_>,
) -> Result<usize, Diagnostic> {
    let span = column.spans.from.clone().unwrap_or_else(|| column.spans.name.clone());
    let names = input.names();
    let file = input.files().first().map_or(String::new(), |file| file.name());
    let wanted = match from {
        Some(ColumnFrom::Several(_)) => unreachable!("sources are found one by one"),
        Some(ColumnFrom::Position(position)) => {
            let message =
                format!("column {position} does not exist: {file} has {} columns", names.len());
            return position
                .checked_sub(1)
                .filter(|at| *at < names.len())
                .ok_or_else(|| Diagnostic::new(span, message).help("positions count from 1"));
        }
        Some(ColumnFrom::Name(name)) => name,
        None => &column.name,
    };
    let Some((first, second)) = places.get(wanted.as_str()).copied() else {
        let shown = wanted.escape_debug();
        if !input.is_named() {
            let message = format!("{file} has no header, so there is no column '{shown}' in it");
            return Err(Diagnostic::new(span, message)
                .help("say which column it is by its position: from = 1"));
        }
        let message = format!("{file} has no column '{shown}'");
        let compared = if names.len() <= MOST_COMPARED { names } else { &[] };
        let help = match crate::nearest(wanted, compared.iter().map(String::as_str)) {
            Some(near) => format!("did you mean '{}'?", near.escape_debug()),
            None if compared.is_empty() => format!("it has {} others", names.len()),
            None => format!("its columns are {}", listed(names)),
        };
        return Err(Diagnostic::new(span, message).help(help));
    };
    match second {
        None => Ok(first),
        Some(second) => {
            let message = format!(
                "'{}' is the header of column {} and of column {}",
                wanted.escape_debug(),
                first + 1,
                second + 1
            );
            Err(Diagnostic::new(span, message).help(format!("say which one: from = {}", first + 1)))
        }
    }
}

/// A column of an input, unless it has as many values in a row as a list has elements.
fn outside_lists(column: &ColumnDecl, at: usize, input: &Input) -> Result<usize, Diagnostic> {
    if !input.paths().is_some_and(|paths| paths.is_inside_list(at)) {
        return Ok(at);
    }
    let name = &input.names()[at];
    let list = name.split("[]").next().unwrap_or_default();
    let span = column.spans.from.clone().unwrap_or_else(|| column.spans.name.clone());
    let message = format!(
        "'{}' has as many values in a record as its list has elements",
        name.escape_debug()
    );
    let help = format!(
        "declare {list} = {{ type = \"list(…)\" }}, or a list(struct) with it among the fields"
    );
    Err(Diagnostic::new(span, message).help(help))
}

#[cfg(test)]
mod tests {
    use super::ColumnSource;
    use crate::read_schema as read;
    use crate::text::{Dialect, Input};

    fn bind(schema: &str, data: &str, header: bool) -> Result<Vec<usize>, Vec<String>> {
        let schema = read(&format!("typhos = 1\n[columns]\n{schema}")).unwrap();
        let input = Input::from_bytes(
            "d.csv",
            data.into(),
            &Dialect { header, ..Dialect::RFC_4180 }.into(),
        );
        let text = |wrong: super::Diagnostic| {
            format!("{} / {}", wrong.message, wrong.help.unwrap_or_default())
        };
        let columns =
            |sources: Vec<ColumnSource>| sources.iter().filter_map(ColumnSource::column).collect();
        schema.bind(&input).map(columns).map_err(|wrong| wrong.into_iter().map(text).collect())
    }

    #[test]
    fn columns_find_their_source() {
        let schema = "b = { type = 'text' }\nx = { type = 'text', from = 'a' }\ny = { type = 'text', from = 3 }";
        assert_eq!(bind(schema, "a,b,c\n1,2,3\n", true), Ok(vec![1, 0, 2]));
    }

    #[test]
    fn repeated_headers_are_told_apart_wherever_they_stand() {
        let schema = "first = { type = 'text', from = 'd' }\nd_2 = { type = 'text' }";
        assert_eq!(bind(schema, "d,x,d\na,b,c\n", true), Ok(vec![0, 2]));
        assert_eq!(bind(schema, "x,d,d,d_2\na,b,c,d\n", true), Ok(vec![1, 3]), "its own name wins");
    }

    #[test]
    fn columns_that_nobody_declares_are_known() {
        let undeclared = |schema: &str| {
            let schema = read(&format!("typhos = 1\n[columns]\n{schema}")).unwrap();
            let names = ["a", "b", "c"].map(str::to_owned);
            let input = Input::from_bytes("d.csv", b"a,b,c\n1,2,3\n".to_vec(), &Default::default());
            let sources = schema.bind(&input).unwrap();
            schema.undeclared(&sources, &names)
        };
        assert_eq!(undeclared("a = { type = 'text' }"), [1, 2]);
        assert_eq!(undeclared("a = { type = 'text' }\n# b = { type = 'uint8' }  # left out"), [2]);
        assert_eq!(undeclared("x = { type = 'text', from = ['a', 'c'], glue = '' }"), [1]);
        assert_eq!(
            undeclared("x = { type = 'text', from = 2 }\nn = { generate = 'line' }"),
            [0, 2]
        );
        let rejects = read("typhos = 1\n[columns]\na = { type = 'text' }").unwrap();
        let names: Vec<String> =
            ["a", "b"].iter().chain(&super::REJECTED_COLUMNS).map(|name| (*name).into()).collect();
        assert_eq!(rejects.undeclared(&[ColumnSource::Column(0)], &names), [1]);
    }

    #[test]
    fn sources_that_are_not_there_are_all_named() {
        let schema =
            "fares = { type = 'text' }\nzz = { type = 'text' }\nx = { type = 'text', from = 9 }";
        let wrong = bind(schema, "fare,d,d\n1,2,3\n", true).unwrap_err();
        assert_eq!(
            wrong,
            [
                "d.csv has no column 'fares' / did you mean 'fare'?",
                "d.csv has no column 'zz' / its columns are 'fare', 'd', 'd_2'",
                "column 9 does not exist: d.csv has 3 columns / positions count from 1",
            ]
        );
        let wrong = bind("fare = { type = 'text' }", "1,2\n", false).unwrap_err();
        assert_eq!(
            wrong,
            [
                "d.csv has no header, so there is no column 'fare' in it / say which column it is by its position: from = 1"
            ]
        );
    }
}
