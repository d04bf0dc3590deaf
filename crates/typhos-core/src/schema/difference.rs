//! What differs between two schemas, column by column and key by key, and whether what was loaded under the old one still
//! fits under the new one.

use toml::Table;

use super::relation::{Held, Relation, Shortfall, nests_alike, relation};
use super::write::write;
use super::{ColumnDecl, Scalar, Schema, Type};
use crate::wording::listed;

/// A difference between two schemas.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SchemaDifference {
    /// What differs.
    pub subject: Subject,
    /// What became of it.
    pub change: Change,
}

/// What two schemas differ in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Subject {
    /// A column, by its name in the target.
    Column(String),
    /// What is said of the whole: `table`, `[input]` or `[layout]`.
    Section(&'static str),
}

/// What became of a column, or of a key that is said of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// It is new.
    Added {
        /// Its type.
        ty: String,
        /// Whether it may not be absent.
        required: bool,
    },
    /// It is gone.
    Dropped {
        /// The type that it had.
        ty: String,
    },
    /// It has another type.
    Retyped {
        /// The old type.
        old: String,
        /// The new type.
        new: String,
        /// How the new one relates to the values of the old one.
        relation: Relation,
        /// Whether it is of another kind: a text that was a number, a day that was a time.
        is_other: bool,
    },
    /// It must be there now, or need not be any more.
    Required(bool),
    /// Its closed list has other values.
    Listed {
        /// Values that are new in it.
        added: Vec<String>,
        /// Values that are gone from it.
        dropped: Vec<String>,
    },
    /// It is part of the key now, or not any more.
    Key(bool),
    /// Something else is said of it in another way.
    Said {
        /// The key of the schema file.
        key: String,
        /// What was said, as the file has it; nothing, where the key was not there.
        old: Option<String>,
        /// What is said now.
        new: Option<String>,
    },
}

/// Keys that change neither which values fit nor what they mean.
const HARMLESS: [&str; 5] = ["search", "default", "misfit", "sort", "table"];

/// Keys without which more values fit.
const BOUNDS: [&str; 2] = ["low", "high"];

impl Change {
    /// Whether rows that fit before may not fit any more or mean something else, or what reads them may not find what it
    /// knows.
    pub fn breaks(&self) -> bool {
        match self {
            Change::Added { required, .. } => *required,
            Change::Dropped { .. } | Change::Key(_) => true,
            Change::Retyped { relation, is_other, .. } => {
                *is_other || !matches!(relation, Relation::Same | Relation::Wider)
            }
            Change::Required(now) => *now,
            Change::Listed { dropped, .. } => !dropped.is_empty(),
            Change::Said { key, new, .. } => {
                let is_freed = BOUNDS.contains(&&key[..]) && new.is_none();
                !is_freed && !HARMLESS.contains(&&key[..])
            }
        }
    }

    /// What became of it, in a few words.
    pub fn what(&self) -> String {
        match self {
            Change::Added { ty, .. } => format!("new: {ty}"),
            Change::Dropped { ty } => format!("gone: it was {ty}"),
            Change::Retyped { old, new, .. } => format!("{old} → {new}"),
            Change::Required(true) => "required now".into(),
            Change::Required(false) => "may be absent now".into(),
            Change::Listed { added, dropped } => {
                let part = |values: &[String], what: &str| {
                    (!values.is_empty()).then(|| format!("{what} {}", listed(values)))
                };
                let parts = [part(added, "takes"), part(dropped, "takes no more")];
                parts.into_iter().flatten().collect::<Vec<_>>().join("; ")
            }
            Change::Key(true) => "part of the key now".into(),
            Change::Key(false) => "not part of the key any more".into(),
            Change::Said { key, old: Some(old), new: Some(new) } => {
                format!("{key} = {old} → {new}")
            }
            Change::Said { key, old: None, new: Some(new) } => format!("{key} = {new} is new"),
            Change::Said { key, old, .. } => {
                format!("{key} = {} is gone", old.as_deref().unwrap_or_default())
            }
        }
    }

    /// Why it breaks what was there before; `None` where it does not.
    pub fn why(&self) -> Option<String> {
        let shortfall =
            |relation: &Relation| -> Option<Shortfall> { relation.clone().is_lossless().err() };
        let why = match self {
            Change::Added { .. } => "rows from before have no value for it".into(),
            Change::Dropped { .. } => "what reads it does not find it".into(),
            Change::Key(_) => {
                "rows that were told apart need not be now, or the other way round".into()
            }
            Change::Retyped { relation, .. } => match shortfall(relation) {
                Some(shortfall) => shortfall.to_string(),
                None => "what reads it does not expect that".into(),
            },
            Change::Required(_) => "rows without a value do not fit".into(),
            Change::Listed { .. } => "rows with a value that is gone do not fit".into(),
            Change::Said { key, .. } if BOUNDS.contains(&&key[..]) => {
                "values beyond the new bound do not fit".into()
            }
            Change::Said { key, .. } if key == "from" => {
                "files from before do not have it under that name".into()
            }
            Change::Said { .. } => {
                "the same text may be read as another value, or not at all".into()
            }
        };
        self.breaks().then_some(why)
    }
}

/// What differs from an old schema to a new one: first in what is said of the whole, then in the columns of the old one, in
/// their order, then those that are new. Columns are the same where their names are.
pub fn differences(old: &Schema, new: &Schema) -> Vec<SchemaDifference> {
    let find = |schema: &'_ Schema, name: &str| {
        schema.columns.iter().position(|column| column.name == name)
    };
    let [was_said, is_said] = [old, new].map(said);
    let mut found = of_sections(&was_said, &is_said);
    for column in &old.columns {
        let mut note = |change| {
            let subject = Subject::Column(column.name.clone());
            found.push(SchemaDifference { subject, change });
        };
        let Some(at) = find(new, &column.name) else {
            note(Change::Dropped { ty: column.ty.to_string() });
            continue;
        };
        let now = &new.columns[at];
        let retyped = of_types(column, now);
        let is_retyped = retyped.as_ref().is_some_and(|it| matches!(it, Change::Retyped { .. }));
        retyped.into_iter().for_each(&mut note);
        if column.required != now.required {
            note(Change::Required(now.required));
        }
        let [was_key, is_key] = [old, new].map(|schema| schema.layout.key.contains(&column.name));
        if was_key != is_key {
            note(Change::Key(is_key));
        }
        let known = |key: &str| {
            ["type", "required", "values"].contains(&key) || is_retyped && key == "fields"
        };
        let [was, is] =
            [&was_said, &is_said].map(|said| inner(inner(Some(said), "columns"), &column.name));
        // What belongs to the old type goes with it.
        let goes_along = |change: &Change| {
            is_retyped
                && matches!(change, Change::Said { key, new: None, .. } if !BOUNDS.contains(&&key[..]))
        };
        of_keys(was, is, &known).into_iter().filter(|it| !goes_along(it)).for_each(note);
    }
    for column in new.columns.iter().filter(|column| find(old, &column.name).is_none()) {
        let change = Change::Added { ty: column.ty.to_string(), required: column.required };
        found.push(SchemaDifference { subject: Subject::Column(column.name.clone()), change });
    }
    found
}

/// A schema as its file says it: what goes without saying is not said.
fn said(schema: &Schema) -> Table {
    write(schema, &[], &[]).parse().expect("what is written is TOML")
}

/// A table in a table.
fn inner<'t>(table: Option<&'t Table>, key: &str) -> Option<&'t Table> {
    table?.get(key)?.as_table()
}

fn of_sections(old: &Table, new: &Table) -> Vec<SchemaDifference> {
    let whole = of_keys(Some(old), Some(new), &|key| key != "table");
    let whole = whole.into_iter().map(|change| (Subject::Section("table"), change));
    // What the key is, is said of its columns.
    let sections = ["input", "layout"].into_iter().flat_map(|section| {
        let known = |key: &str| section == "layout" && key == "key";
        let changes = of_keys(inner(Some(old), section), inner(Some(new), section), &known);
        changes.into_iter().map(move |change| (Subject::Section(section), change))
    });
    whole.chain(sections).map(|(subject, change)| SchemaDifference { subject, change }).collect()
}

/// What is said in two tables in different ways, but for what is known otherwise: first what the old one has.
fn of_keys(old: Option<&Table>, new: Option<&Table>, known: &dyn Fn(&str) -> bool) -> Vec<Change> {
    let (none, said) =
        (Table::new(), |table: &Table, key: &str| table.get(key).map(ToString::to_string));
    let (old, new) = (old.unwrap_or(&none), new.unwrap_or(&none));
    let keys = old.keys().chain(new.keys().filter(|key| !old.contains_key(*key)));
    let differing = keys.filter(|key| !known(key) && old.get(*key) != new.get(*key));
    differing
        .map(|key| Change::Said { key: key.clone(), old: said(old, key), new: said(new, key) })
        .collect()
}

/// What whoever reads values of a type has to expect: types of one kind are read alike.
fn kind(ty: &Type) -> &'static str {
    match ty {
        Type::List(_) => "list",
        Type::Struct(_) => "struct",
        Type::Scalar(scalar) if scalar.is_number() => "number",
        Type::Scalar(scalar) => match scalar {
            Scalar::Text { .. } | Scalar::Lowcard | Scalar::Category => "text",
            Scalar::Time(_) => "time",
            Scalar::Timestamp { utc: true, .. } => "instant",
            Scalar::Timestamp { .. } => "timestamp",
            Scalar::Duration(_) => "duration",
            Scalar::Bool => "bool",
            Scalar::Date => "date",
            Scalar::Uuid => "uuid",
            Scalar::Ip => "ip",
            Scalar::Geopoint => "geopoint",
            _ => "json",
        },
    }
}

fn of_types(old: &ColumnDecl, new: &ColumnDecl) -> Option<Change> {
    let spelled = [old, new].map(|column| column.ty.to_string());
    if spelled[0] != spelled[1] || !nests_alike(&old.ty, &new.ty) {
        let [old_type, new_type] = spelled;
        let relation = relation(old, &Held::of(new));
        let is_other = kind(&old.ty) != kind(&new.ty);
        return Some(Change::Retyped { old: old_type, new: new_type, relation, is_other });
    }
    let missing = |from: &ColumnDecl, other: &ColumnDecl| -> Vec<String> {
        from.values.iter().filter(|value| !other.values.contains(value)).cloned().collect()
    };
    let (added, dropped) = (missing(new, old), missing(old, new));
    (!added.is_empty() || !dropped.is_empty()).then_some(Change::Listed { added, dropped })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::read_schema as read;

    #[test]
    fn every_change_is_found_and_judged() {
        let schema = |columns: &str, key: &str| {
            read(&format!("typhos = 1\n[columns]\n{columns}\n[layout]\nkey = [{key}]\n")).unwrap()
        };
        let old = schema(
            "id = { type = 'uint32', required = true }\nfare = { type = 'decimal(6,2)' }\n\
             cabin = { type = 'category', values = ['deck', 'saloon'] }\nnote = { type = 'text' }\n\
             party = { type = 'int16' }",
            "'id'",
        );
        assert_eq!(differences(&old, &old), []);
        let new = schema(
            "id = { type = 'uint32', required = true }\nfare = { type = 'decimal(9,2)' }\n\
             cabin = { type = 'category', values = ['deck', 'cabin'] }\n\
             party = { type = 'uint8', required = true }\nport = { type = 'text' }",
            "",
        );
        let told: Vec<_> = differences(&old, &new)
            .into_iter()
            .map(|found| {
                let why = found.change.why().map_or(String::new(), |why| format!(" ! {why}"));
                assert_eq!(found.change.breaks(), !why.is_empty());
                let Subject::Column(name) = found.subject else { panic!("{found:?}") };
                format!("{name} {}{why}", found.change.what())
            })
            .collect();
        assert_eq!(
            told,
            [
                "id not part of the key any more ! rows that were told apart need not be now, or the other way round",
                "fare decimal(6,2) → decimal(9,2)",
                "cabin takes 'cabin'; takes no more 'saloon' ! rows with a value that is gone do not fit",
                "note gone: it was text ! what reads it does not find it",
                "party int16 → uint8 ! cannot hold every int16: it holds 0 to 255; declare uint8",
                "party required now ! rows without a value do not fit",
                "port new: text",
            ]
        );
    }

    #[test]
    fn what_is_said_in_another_way_is_found() {
        let schema = |input: &str, columns: &str, layout: &str| {
            read(&format!("typhos = 1\n{input}\n[columns]\n{columns}\n[layout]\n{layout}\n"))
                .unwrap()
        };
        let old = schema(
            "table = 'sales'\n[input]\ndelimiter = ';'",
            "sold_on = { type = 'date', patterns = ['MM/dd/yy'], misfit = 'null' }\n\
             fare = { type = 'decimal(6,2)', low = '0', high = '90' }\n\
             kind = { type = 'date', patterns = ['dd.MM.yy'] }\n\
             trip = { type = 'struct', fields = { n = { type = 'int8' } } }",
            "sort = ['sold_on']",
        );
        let new = schema(
            "table = 'tickets'\n[input]\ndelimiter = ','",
            "sold_on = { type = 'date', patterns = ['dd/MM/yy'], from = 'Sold on' }\n\
             fare = { type = 'decimal(6,2)', high = '80' }\n\
             kind = { type = 'text' }\n\
             trip = { type = 'struct', fields = { n = { type = 'int8', required = true } } }",
            "sort = ['fare']",
        );
        let told: Vec<_> = differences(&old, &new)
            .into_iter()
            .map(|found| {
                let of = match found.subject {
                    Subject::Column(name) => name,
                    Subject::Section(name) => format!("[{name}]"),
                };
                format!(
                    "{of} {}{}",
                    found.change.what(),
                    if found.change.breaks() { " !" } else { "" }
                )
            })
            .collect();
        assert_eq!(
            told,
            [
                "[table] table = \"sales\" → \"tickets\"",
                "[input] delimiter = \";\" → \",\" !",
                "[layout] sort = [\"sold_on\"] → [\"fare\"]",
                "sold_on patterns = [\"MM/dd/yy\"] → [\"dd/MM/yy\"] !",
                "sold_on misfit = \"null\" is gone",
                "sold_on from = \"Sold on\" is new !",
                "fare low = \"0\" is gone",
                "fare high = \"90\" → \"80\" !",
                "kind date → text !",
                "trip fields = { n = { type = \"int8\" } } → { n = { type = \"int8\", required = true } } !",
            ]
        );
        assert_eq!(differences(&new, &new), []);
    }
}
