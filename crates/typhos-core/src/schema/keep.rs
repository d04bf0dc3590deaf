//! A schema file that a person wrote, with lines for the columns it does not speak of put in between.
//!
//! Not a byte of the file is changed. A column whose line is commented out counts as spoken of: somebody
//! decided to leave it out.

use std::collections::BTreeMap;

use super::read::{ReadValues, commented_out};
use super::{ColumnDecl, ColumnFrom, Schema, column_lines, column_table};

/// What a file and a draft make together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kept {
    /// The text of the file.
    pub text: String,
    /// The columns that were put in: their places in the draft, and what they are called.
    pub added: Vec<(usize, String)>,
    /// The names of declared columns whose source is not in the input.
    pub gone: Vec<String>,
    /// Declared columns and the drafted ones at the same place of the input, by their places in either
    /// schema.
    pub both: Vec<(usize, usize)>,
}

/// Puts the drafted columns into the file `source`, which reads as `schema`, where it has none for them.
///
/// `values` reads the values in it. `names` are the columns of the input, and `positions` says which of them each drafted column is.
pub fn keep(
    schema: &Schema,
    source: &str,
    names: &[String],
    drafted: (&Schema, &[String], &[usize]),
    values: &dyn ReadValues,
) -> Kept {
    let (draft, comments, positions) = drafted;
    let places = |column: &ColumnDecl| places(column, names);
    // Where lines that speak of a column of the input end, by the place of that column.
    let mut spoken: BTreeMap<usize, usize> = BTreeMap::new();
    let (mut gone, mut both) = (Vec::new(), Vec::new());
    for (at, column) in schema.columns.iter().enumerate() {
        let end = column.spans.keys.end.max(column.spans.name.end);
        let places = places(column);
        if places.contains(&None) {
            gone.push(column.name.clone());
        }
        for position in places.iter().flatten() {
            spoken.insert(*position, line_end(source, end));
        }
        if let [Some(position)] = places[..] {
            let drafted = positions.iter().position(|known| *known == position);
            both.extend(drafted.map(|drafted| (at, drafted)));
        }
    }
    for (column, end) in commented_out(source, values) {
        for position in places(&column).into_iter().flatten() {
            spoken.entry(position).or_insert(end);
        }
    }
    let starts =
        schema.columns.iter().map(|column| above_comments(source, column.spans.name.start));
    let first = starts.min().unwrap_or(source.len());
    let has_headings = schema.columns.iter().any(|column| {
        source[line_start(source, column.spans.name.start)..].trim_start().starts_with('[')
    });
    let mut taken: Vec<String> = schema.columns.iter().map(|column| column.name.clone()).collect();
    // New lines by where they go: behind the nearest column before them.
    let mut inserted: BTreeMap<usize, String> = BTreeMap::new();
    let mut added = Vec::new();
    let drafted = draft.columns.iter().zip(comments).zip(positions).enumerate();
    for (at, ((column, comment), position)) in drafted {
        if spoken.contains_key(position) {
            continue;
        }
        let mut column = column.clone();
        if taken.contains(&column.name) {
            column.from.get_or_insert_with(|| ColumnFrom::Name(names[*position].clone()));
            let free = (2..).map(|n| format!("{}_{n}", column.name));
            let free = free.into_iter().find(|name| !taken.contains(name));
            column.name = free.expect("there are more numbers than names");
        }
        taken.push(column.name.clone());
        added.push((at, column.name.clone()));
        if has_headings {
            let text = format!("\n{}", column_table(&column, comment));
            inserted.entry(source.len()).or_default().push_str(&text);
        } else {
            let before = spoken.range(..position).next_back().map_or(first, |(_, end)| *end);
            let line = format!("{}\n", column_lines(&column, comment));
            inserted.entry(before).or_default().push_str(&line);
        }
    }
    let mut text = String::new();
    let mut copied = 0;
    for (at, lines) in inserted {
        text.push_str(&source[copied..at]);
        if !text.is_empty() && !text.ends_with('\n') {
            text.push('\n');
        }
        text.push_str(&lines);
        copied = at;
    }
    text.push_str(&source[copied..]);
    Kept { text, added, gone, both }
}

/// The places among `names` of the columns that one is made of; `None` where there is no such column. Of several
/// sources each is spoken of; a generated column speaks of none.
pub(super) fn places(column: &ColumnDecl, names: &[String]) -> Vec<Option<usize>> {
    let place_of = |from: &ColumnFrom| match from {
        ColumnFrom::Position(position) => position.checked_sub(1).filter(|at| *at < names.len()),
        ColumnFrom::Name(name) => place_of_name(column, name, names),
        ColumnFrom::Several(_) => None,
    };
    match &column.from {
        _ if column.generate.is_some() => Vec::new(),
        Some(ColumnFrom::Several(several)) => several.iter().map(place_of).collect(),
        Some(one) => vec![place_of(one)],
        None => vec![place_of_name(column, &column.name, names)],
    }
}

/// The place of a name; of a column that nests that of the first name which leads into it.
fn place_of_name(column: &ColumnDecl, name: &str, names: &[String]) -> Option<usize> {
    let leads_into = |known: &String| {
        let behind = known.strip_prefix(name);
        column.ty.is_nested() && behind.is_some_and(|behind| behind.starts_with(['.', '[']))
    };
    let is_it = names.iter().position(|known| known == name);
    is_it.or_else(|| names.iter().position(leads_into))
}

/// Where the line of a byte starts.
fn line_start(source: &str, at: usize) -> usize {
    source[..at].rfind('\n').map_or(0, |at| at + 1)
}

/// Where the comment lines right above the line of a byte start, or that line itself.
fn above_comments(source: &str, at: usize) -> usize {
    let mut start = line_start(source, at);
    while start > 0 {
        let above = line_start(source, start - 1);
        if !source[above..start].trim_start().starts_with('#') {
            break;
        }
        start = above;
    }
    start
}

/// Where the line behind that of a byte starts.
fn line_end(source: &str, at: usize) -> usize {
    source[at..].find('\n').map_or(source.len(), |more| at + more + 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::read_schema as read;
    use crate::schema::Scalar;

    fn kept(source: &str, names: &[&str], drafted: &[&str]) -> Kept {
        let schema = read(source).unwrap();
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        let positions: Vec<usize> = drafted
            .iter()
            .map(|name| names.iter().position(|known| known == name).unwrap())
            .collect();
        let columns = drafted
            .iter()
            .map(|name| ColumnDecl::new(*name, Scalar::Text { most: None }))
            .collect();
        let draft = Schema { columns, ..Schema::default() };
        let comments = vec!["new".to_owned(); drafted.len()];
        keep(&schema, source, &names, (&draft, &comments, &positions), &crate::columns::PlainValues)
    }

    const SOURCE: &str = "# House of Skerrow.\ntyphos = 1\n\n[columns]\n# The fare, before tax.\n\
        price = { type = \"decimal(9,2)\", from = \"fare\" }   # by hand\n# note = { type = \"text\" }  # left out\n\
        sold  = { type = \"date\", patterns = [\n  \"yyyy-MM-dd\",\n] }\nold = { type = \"text\" }\n";

    #[test]
    fn every_line_stays_and_new_columns_come_where_they_stand() {
        let names = ["id", "fare", "note", "sold", "deck", "price"];
        let kept = kept(SOURCE, &names, &names);
        assert_eq!(
            kept.text,
            "# House of Skerrow.\ntyphos = 1\n\n[columns]\n\
             id = { type = \"text\" }  # new\n\
             # The fare, before tax.\n\
             price = { type = \"decimal(9,2)\", from = \"fare\" }   # by hand\n# note = { type = \"text\" }  # left out\n\
             sold  = { type = \"date\", patterns = [\n  \"yyyy-MM-dd\",\n] }\n\
             deck = { type = \"text\" }  # new\nprice_2 = { type = \"text\", from = \"price\" }  # new\n\
             old = { type = \"text\" }\n"
        );
        let added: Vec<_> = kept.added.iter().map(|(at, name)| (*at, name.as_str())).collect();
        assert_eq!(added, [(0, "id"), (4, "deck"), (5, "price_2")]);
        assert_eq!(kept.gone, ["old"]);
        assert_eq!(kept.both, [(0, 1), (1, 3)]);
        assert!(read(&kept.text).is_ok());
    }

    #[test]
    fn nothing_new_changes_nothing() {
        let kept = kept(SOURCE, &["fare", "note", "sold", "old"], &["fare", "note", "sold", "old"]);
        assert_eq!(kept.text, SOURCE);
        assert!(kept.added.is_empty() && kept.gone.is_empty());
    }

    #[test]
    fn columns_under_headings_of_their_own_get_company() {
        let source = "typhos = 1\n\n[columns.a]\ntype = \"text\"\n\n[columns.b]\ntype = \"text\"";
        let kept = kept(source, &["a", "c", "b"], &["a", "c", "b"]);
        assert_eq!(kept.text, format!("{source}\n\n# new\n[columns.c]\ntype = \"text\"\n"));
        assert_eq!(read(&kept.text).unwrap().columns.len(), 3);
    }
}
