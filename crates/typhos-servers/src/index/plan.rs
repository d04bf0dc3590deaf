//! The plan of a load into an index: the fields it would have, or whether the fields that are there can take what is
//! declared. A field never changes its type, so what does not fit is told before anything is sent.

use serde_json::{Map, Value, json};
use typhos_core::remedy::Remedy;
use typhos_core::schema::{ColumnDecl, IntType, Scalar, Type};
use typhos_load::{
    Action, Job, LeftColumn, LoadPlan, Mode, PlannedColumn, Problem, Seen, TargetError,
    default_words, key_problems, source_words,
};
use typhos_sql::{Mapping, mapping};

use super::client::{Client, part};

/// An index that is there.
#[derive(Debug, Clone)]
pub struct There {
    /// Its own name, which is not the one that was asked for where that is an alias.
    pub name: String,
    /// All its other names, with what they are made with.
    pub aliases: Map<String, Value>,
    /// Its mapping.
    pub mapping: Value,
    /// How many parts and copies it has.
    pub parts: Value,
}

/// The indexes that a name stands for.
///
/// # Errors
/// A server that cannot be asked.
pub fn look_up(client: &Client, name: &str) -> Result<Vec<There>, TargetError> {
    let Some(found) = client.ask_of(&part(name))? else { return Ok(Vec::new()) };
    let found = found.as_object().into_iter().flatten();
    let there = found.map(|(name, about)| {
        let index = &about["settings"]["index"];
        let parts = ["number_of_shards", "number_of_replicas"];
        let parts = parts.iter().filter_map(|key| Some((key.to_string(), index.get(key)?.clone())));
        There {
            name: name.clone(),
            aliases: about["aliases"].as_object().cloned().unwrap_or_default(),
            mapping: about["mappings"].clone(),
            parts: Value::Object(parts.collect()),
        }
    });
    Ok(there.collect())
}

/// What is known before a load begins.
pub struct Preflight {
    /// What would happen.
    pub plan: LoadPlan,
    /// The index that is there.
    pub there: Vec<There>,
    /// The mapping that is declared; none where it has problems.
    pub mapping: Option<Mapping>,
    /// Fields that the index that is there lacks.
    pub missing: Map<String, Value>,
}

/// Plans a load.
///
/// # Errors
/// A server that cannot be asked.
pub fn preflight(client: &Client, job: &Job<'_>) -> Result<Preflight, TargetError> {
    let name = client.index();
    let schema = job.plan.schema();
    let mut problems: Vec<Problem> = name_problem(name).into_iter().collect();
    let there = match problems.is_empty() {
        true => look_up(client, name)?,
        false => Vec::new(),
    };
    let exists = !there.is_empty();
    let action = match (job.mode, exists) {
        (Mode::Create, _) | (_, false) => Action::Create,
        (Mode::Append, true) => Action::Append,
        (Mode::Replace | Mode::Refill, true) => Action::Replace,
    };
    if job.mode == Mode::Create && exists {
        let help = "pass {mode = append} to add to it, or {mode = replace} to put a new index in its place";
        problems
            .push(Problem::new(format!("there is an index '{name}' already"), Remedy::of(help)));
    }
    if job.mode == Mode::Refill {
        problems.push(Problem::new(
            "only the rows of a table are exchanged",
            Remedy::of("pass {mode = replace}: a new index is filled and takes the name"),
        ));
    }
    if there.len() > 1 {
        let names = typhos_core::wording::listed(there.iter().map(|there| &there.name));
        problems.push(Problem::new(
            format!("'{name}' stands for several indexes: {names}"),
            "name one of them, or let the alias stand for one",
        ));
    }
    problems.extend(key_problems(schema));
    if job.seen != Seen::Stop && schema.layout.key.is_empty() {
        problems.push(Problem::new(
            "no key is declared, so no document is known to be there already",
            Remedy::of("declare it under [layout]: key = [\"…\"], or drop {seen}"),
        ));
    }
    let mut notes = Vec::new();
    let mapping = match mapping(schema) {
        Ok(mapping) => Some(mapping),
        Err(unfit) => {
            problems.push(Problem::new(unfit.to_string(), "rename it in the schema"));
            None
        }
    };
    let mut plan = LoadPlan {
        target: client.target(),
        server: Some(format!("index server {}", client.version)),
        table: None,
        action,
        exists,
        columns: Vec::new(),
        left: Vec::new(),
        notes: Vec::new(),
        problems,
        statements: Vec::new(),
    };
    let mut missing = Map::new();
    if let Some(mapping) = &mapping {
        notes.extend(mapping.notes.clone());
        let properties = &mapping.body["mappings"]["properties"];
        match (action, &there[..]) {
            (Action::Append, [there]) => {
                let known = &there.mapping["properties"];
                plan_columns(job, properties, known, &mut plan);
                plan.left = left(&schema.columns, known);
                missing = lacking(properties, known);
            }
            _ => {
                plan_columns(job, properties, &Value::Null, &mut plan);
                let body = serde_json::to_string_pretty(&mapping.body).unwrap_or_default();
                plan.statements.push(format!("PUT /{name} {body}"));
            }
        }
    }
    if !schema.layout.sort.is_empty() {
        notes.push(
            "documents are in no order: sort under [layout] does not apply to an index".into(),
        );
    }
    notes.push(match schema.layout.key.is_empty() {
        true => "the id of a document is made of its file, its line and what is in it".to_owned(),
        false => format!(
            "the id of a document is made of {}",
            typhos_core::wording::listed(&schema.layout.key)
        ),
    });
    if let (Action::Replace, [there]) = (action, &there[..]) {
        notes.push(format!(
            "the index {} goes once the new one is in its place; other aliases of it come along",
            there.name
        ));
    }
    plan.notes = notes;
    Ok(Preflight { plan, there, mapping, missing })
}

/// Plans each column: the field that it gets, or the one that it has among those that are known, and what keeps it from that.
fn plan_columns(job: &Job<'_>, properties: &Value, known: &Value, plan: &mut LoadPlan) {
    let schema = job.plan.schema();
    for (at, column) in schema.columns.iter().enumerate() {
        let field = find(properties, &column.name);
        let there = find(known, &column.name);
        let mut remark = default_words(column);
        if !there.is_null() {
            match fits(column, field, there) {
                Fit::Same => {}
                Fit::Wider => {
                    remark.get_or_insert("as it is there".into());
                }
                Fit::Not(why) => plan.problems.push(conflict(&column.name, field, there, &why)),
            }
        } else if !known.is_null() {
            remark.get_or_insert("a new field".into());
        }
        let is_key = schema.layout.key.contains(&column.name);
        plan.columns.push(PlannedColumn {
            name: column.name.clone(),
            source: source_words(column, at, job.plan, job.input.names()),
            declared: column.ty.to_string(),
            stored: field_words(if there.is_null() { field } else { there }),
            nullable: !column.required && !is_key,
            is_key,
            remark,
        });
    }
}

/// Of the fields that are wanted, those that are not known, inside of objects too.
fn lacking(wanted: &Value, known: &Value) -> Map<String, Value> {
    let wanted = wanted.as_object().into_iter().flatten();
    let each = wanted.filter_map(|(name, field)| {
        let there = &known[name];
        if there.is_null() {
            return Some((name.clone(), field.clone()));
        }
        let inside = lacking(&field["properties"], &there["properties"]);
        let mut of_object = json!({ "properties": inside });
        if let Some(name) = there.get("type") {
            of_object["type"] = name.clone();
        }
        (!inside.is_empty()).then(|| (name.clone(), of_object))
    });
    each.collect()
}

/// What keeps a name from being one of an index.
fn name_problem(name: &str) -> Option<Problem> {
    let what = if name.chars().any(char::is_uppercase) {
        "has upper-case letters".to_owned()
    } else if let Some(letter) =
        name.chars().find(|it| " \"*\\<|,>/?#:".contains(*it) || it.is_control())
    {
        format!("has {letter:?}")
    } else if name.starts_with(['_', '-', '+']) || name == "." || name == ".." {
        "starts with a letter that no name of an index starts with".to_owned()
    } else if name.len() > 200 {
        "is too long".to_owned()
    } else {
        return None;
    };
    let what = format!("'{}' cannot be the name of an index: it {what}", name.escape_debug());
    Some(Problem::new(what, "name it in lower case, without spaces and punctuation but - _ and ."))
}

/// The field of a column, whose name may lead through objects.
fn find<'v>(properties: &'v Value, name: &str) -> &'v Value {
    let mut parts = name.split('.');
    let first = &properties[parts.next().unwrap_or_default()];
    parts.fold(first, |field, part| &field["properties"][part])
}

/// Whether a field that is there takes what is declared.
#[derive(Debug, PartialEq, Eq)]
enum Fit {
    Same,
    Wider,
    Not(String),
}

/// The type of a value, or of the elements of a list of values.
fn leaf(ty: &Type) -> Scalar {
    match ty {
        Type::Scalar(scalar) => *scalar,
        Type::List(items) => leaf(items),
        Type::Struct(_) => Scalar::Json,
    }
}

fn type_of(field: &Value) -> &str {
    field["type"].as_str().unwrap_or("object")
}

fn fits(column: &ColumnDecl, wanted: &Value, there: &Value) -> Fit {
    let (want, known) = (type_of(wanted), type_of(there));
    let is_object = |name: &str| matches!(name, "object" | "nested");
    if is_object(want) || is_object(known) {
        if want != known || wanted.get("enabled") != there.get("enabled") {
            return Fit::Not(String::new());
        }
        let empty = Map::new();
        let inside = wanted["properties"].as_object().unwrap_or(&empty);
        let mut fit = Fit::Same;
        for (name, field) in inside {
            let known = &there["properties"][name];
            if known.is_null() {
                fit = Fit::Wider;
                continue;
            }
            match fits(column, field, known) {
                Fit::Same => {}
                Fit::Wider => fit = Fit::Wider,
                Fit::Not(why) => return Fit::Not(format!(" inside, in '{name}'{why}")),
            }
        }
        return fit;
    }
    let wider: &[&str] = match want {
        "byte" => &["byte", "short", "integer", "long", "float", "double"],
        "short" => &["short", "integer", "long", "float", "double"],
        "integer" => &["integer", "long", "double"],
        "long" if leaf(&column.ty) == Scalar::Int(IntType::UInt32) => &["long", "double"],
        "float" => &["float", "double"],
        "scaled_float" => &["scaled_float", "double"],
        "keyword" | "text" => &["keyword", "text", "wildcard"],
        "date" => &["date", "date_nanos"],
        other => &[other],
    };
    if !wider.contains(&known) {
        return Fit::Not(String::new());
    }
    if want == "scaled_float" && known == want {
        let factor = |field: &Value| field["scaling_factor"].as_f64().unwrap_or(1.0);
        if factor(there) % factor(wanted) != 0.0 {
            return Fit::Not(format!(" with the factor {}", factor(there)));
        }
    }
    if matches!(known, "date" | "date_nanos") {
        let reads_iso = there["format"].as_str().is_none_or(|format| {
            format.split("||").any(|it| {
                it.starts_with("strict_date")
                    || it.starts_with("date_optional_time")
                    || it == "iso8601"
            })
        });
        if !reads_iso {
            return Fit::Not(format!(" that reads {} alone", there["format"]));
        }
    }
    if want == known { Fit::Same } else { Fit::Wider }
}

fn conflict(name: &str, wanted: &Value, there: &Value, why: &str) -> Problem {
    let (wanted, there) = (field_words(wanted), field_words(there));
    Problem::new(
        format!(
            "'{name}' is {there} there{why}, and {wanted} is declared: the type of a field never changes"
        ),
        Remedy::of(
            "declare it as it is there, or pass {mode = replace}: a new index is filled and takes the name",
        ),
    )
}

/// A field in a few words.
pub fn field_words(field: &Value) -> String {
    let mut words = type_of(field).to_owned();
    if let Some(factor) = field["scaling_factor"].as_f64() {
        words.push_str(&format!(" of 1/{factor}"));
    }
    for (name, inside) in field["fields"].as_object().into_iter().flatten() {
        words.push_str(&format!(", and {} as .{name}", type_of(inside)));
    }
    if field["index"] == json!(false) || field["enabled"] == json!(false) {
        words.push_str(", not searched");
    }
    words
}

/// Fields of the index that no column is.
fn left(columns: &[ColumnDecl], properties: &Value) -> Vec<LeftColumn> {
    let properties = properties.as_object().into_iter().flatten();
    let left = properties.filter(|(name, _)| {
        let inside = format!("{name}.");
        !columns.iter().any(|column| column.name == **name || column.name.starts_with(&inside))
    });
    left.map(|(name, field)| LeftColumn {
        name: name.clone(),
        ty: field_words(field),
        gets: "nothing".into(),
    })
    .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fit(scalar: Scalar, wanted: Value, there: Value) -> Fit {
        fits(&ColumnDecl::new("c", scalar), &wanted, &there)
    }

    #[test]
    fn fields_take_what_loses_nothing() {
        let of = |name: &str| json!({ "type": name });
        let small = Scalar::Int(IntType::UInt8);
        assert_eq!(fit(small, of("short"), of("short")), Fit::Same);
        assert_eq!(fit(small, of("short"), of("long")), Fit::Wider);
        assert!(matches!(fit(small, of("short"), of("byte")), Fit::Not(_)));
        assert!(matches!(fit(small, of("short"), of("keyword")), Fit::Not(_)));
        let factor = |factor: u32| json!({ "type": "scaled_float", "scaling_factor": factor });
        let money = Scalar::Decimal { precision: 6, scale: 2 };
        assert_eq!(fit(money, factor(100), factor(1000)), Fit::Same);
        assert!(matches!(fit(money, factor(100), factor(10)), Fit::Not(_)));
        let days = |format: &str| json!({ "type": "date", "format": format });
        assert_eq!(fit(Scalar::Date, days("strict_date"), of("date")), Fit::Same);
        assert!(matches!(fit(Scalar::Date, days("strict_date"), days("dd.MM.uuuu")), Fit::Not(_)));
        let object = |inside: Value| json!({ "properties": inside });
        let inside =
            fit(Scalar::Json, object(json!({ "a": of("ip") })), object(json!({ "a": of("long") })));
        assert_eq!(inside, Fit::Not(" inside, in 'a'".into()));
    }

    #[test]
    fn fields_that_are_lacking_are_found_inside_of_objects() {
        let of = |name: &str| json!({ "type": name });
        let wanted = json!({
            "a": of("long"), "b": of("ip"),
            "o": { "type": "nested", "properties": { "x": of("byte"), "y": of("byte") } },
        });
        let known = json!({ "a": of("double"), "o": { "type": "nested", "properties": { "x": of("byte") } } });
        let want =
            json!({ "b": of("ip"), "o": { "type": "nested", "properties": { "y": of("byte") } } });
        assert_eq!(Value::Object(lacking(&wanted, &known)), want);
        assert!(lacking(&wanted, &wanted).is_empty());
    }

    #[test]
    fn names_of_indexes_have_rules() {
        for name in ["Crossings", "a b", "_a", "a/b"] {
            assert!(name_problem(name).is_some(), "{name}");
        }
        assert!(name_problem("crossings-2025.01").is_none());
    }
}
