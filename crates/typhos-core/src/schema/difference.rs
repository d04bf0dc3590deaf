//! What differs between two schemas, column by column, and whether what was loaded under the old one still fits under
//! the new one.

use super::relation::{Held, Relation, nests_alike, relation};
use super::{ColumnDecl, Schema};

/// A difference between two schemas.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SchemaDifference {
    /// The column, by its name in the target.
    pub column: String,
    /// What became of it.
    pub change: Change,
}

/// What became of a column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// It is new.
    Added {
        /// Whether it may not be absent.
        required: bool,
    },
    /// It is gone.
    Dropped,
    /// It has another type.
    Retyped {
        /// The old type.
        old: String,
        /// The new type.
        new: String,
        /// How the new one relates to the values of the old one.
        relation: Relation,
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
}

impl Change {
    /// Whether rows that fit before may not fit any more, or what reads them may not find what it knows.
    pub fn breaks(&self) -> bool {
        match self {
            Change::Added { required } => *required,
            Change::Dropped | Change::Key(_) => true,
            Change::Retyped { relation, .. } => {
                !matches!(relation, Relation::Same | Relation::Wider)
            }
            Change::Required(now) => *now,
            Change::Listed { dropped, .. } => !dropped.is_empty(),
        }
    }
}

/// What differs from an old schema to a new one: first in the columns of the old one, in their order, then those that
/// are new. Columns are the same where their names are.
pub fn differences(old: &Schema, new: &Schema) -> Vec<SchemaDifference> {
    let find = |schema: &'_ Schema, name: &str| {
        schema.columns.iter().position(|column| column.name == name)
    };
    let mut found = Vec::new();
    for column in &old.columns {
        let mut note = |change| {
            found.push(SchemaDifference { column: column.name.clone(), change });
        };
        let Some(at) = find(new, &column.name) else {
            note(Change::Dropped);
            continue;
        };
        let now = &new.columns[at];
        of_types(column, now).into_iter().for_each(&mut note);
        if column.required != now.required {
            note(Change::Required(now.required));
        }
        let [was_key, is_key] = [old, new].map(|schema| schema.layout.key.contains(&column.name));
        if was_key != is_key {
            note(Change::Key(is_key));
        }
    }
    for column in new.columns.iter().filter(|column| find(old, &column.name).is_none()) {
        let change = Change::Added { required: column.required };
        found.push(SchemaDifference { column: column.name.clone(), change });
    }
    found
}

fn of_types(old: &ColumnDecl, new: &ColumnDecl) -> Option<Change> {
    let spelled = [old, new].map(|column| column.ty.to_string());
    if spelled[0] != spelled[1] || !nests_alike(&old.ty, &new.ty) {
        let [old_type, new_type] = spelled;
        let relation = relation(old, &Held::of(new));
        return Some(Change::Retyped { old: old_type, new: new_type, relation });
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
        let found: Vec<_> = differences(&old, &new)
            .into_iter()
            .map(|found| (found.column, found.change.breaks(), found.change))
            .collect();
        let narrower = "cannot hold every int16: it holds 0 to 255; declare uint8";
        let told: Vec<_> = found
            .iter()
            .map(|(column, breaks, change)| {
                let what = match change {
                    Change::Added { .. } => "added".to_owned(),
                    Change::Dropped => "dropped".to_owned(),
                    Change::Retyped { old, new, relation } => {
                        match relation.clone().is_lossless() {
                            Ok(()) => format!("{old} to {new}"),
                            Err(lacks) => format!("{old} to {new}: {lacks}"),
                        }
                    }
                    Change::Required(now) => format!("required {now}"),
                    Change::Listed { added, dropped } => format!("+{added:?} -{dropped:?}"),
                    Change::Key(now) => format!("key {now}"),
                };
                format!("{column} {what}{}", if *breaks { " !" } else { "" })
            })
            .collect();
        assert_eq!(
            told,
            [
                "id key false !".to_owned(),
                "fare decimal(6,2) to decimal(9,2)".into(),
                "cabin +[\"cabin\"] -[\"saloon\"] !".into(),
                "note dropped !".into(),
                format!("party int16 to uint8: {narrower} !"),
                "party required true !".into(),
                "port added".into(),
            ]
        );
    }
}
