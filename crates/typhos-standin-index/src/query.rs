//! The questions of a search, as queries of the embedded index: all, none, `term`, `terms`, `match`, `match_phrase`,
//! `range`, `exists`, `ids`, `bool`, `constant_score` and `nested`. Others are refused.
//!
//! Objects inside of lists are not documents of their own here: a question about several fields of one of them is one about
//! all of them.

use std::ops::Bound;

use serde_json::{Map, Value, json};
use tantivy::Term;
use tantivy::query::{
    AllQuery, BooleanQuery, ConstScoreQuery, EmptyQuery, Occur, PhraseQuery, Query, RangeQuery,
    TermQuery,
};
use tantivy::schema::IndexRecordOption;

use crate::error::{Error, Result};
use crate::index::{Index, key};
use crate::mapping::{Field, Kind, Mapping};
use crate::values::{Kept, kept_of};

/// A question.
pub type Question = Box<dyn Query>;

/// Turns a question into a query.
///
/// # Errors
/// A question that is not there, or is not written as it should be.
pub fn query(index: &Index, mapping: &Mapping, body: &Value) -> Result<Question> {
    let Some(object) = body.as_object() else {
        return Err(Error::parsing("[_na] query malformed, must start with start_object"));
    };
    let Some((name, inside)) = object.iter().next() else {
        return Err(Error::argument("query malformed, empty clause found"));
    };
    if object.len() > 1 {
        let reason =
            format!("[{name}] malformed query, expected [END_OBJECT] but found [FIELD_NAME]");
        return Err(Error::parsing(reason));
    }
    let asker = Asker { index, mapping };
    match &name[..] {
        "match_all" => Ok(Box::new(AllQuery)),
        "match_none" => Ok(Box::new(EmptyQuery)),
        "term" => asker.term(inside),
        "terms" => asker.terms(inside),
        "match" => asker.words(inside, false),
        "match_phrase" => asker.words(inside, true),
        "range" => asker.range(inside),
        "exists" => {
            let path = inside["field"].as_str().unwrap_or_default();
            Ok(exists(index, mapping, path))
        }
        "ids" => Ok(any(strings(&inside["values"]).into_iter().map(|id| asker.id(&id)).collect())),
        "bool" => asker.boolean(inside),
        "constant_score" => query(index, mapping, &inside["filter"]),
        "nested" => query(index, mapping, &inside["query"]),
        other => Err(Error::parsing(format!("unknown query [{other}]"))),
    }
}

/// Documents that have a value at a path.
pub fn exists(index: &Index, mapping: &Mapping, path: &str) -> Question {
    let numbers = mapping.find(path).map_or(Vec::new(), Field::numbers);
    let each = numbers.into_iter().map(|number| {
        let term = Term::from_field_text(index.inner.exists, &key(number));
        Box::new(TermQuery::new(term, IndexRecordOption::Basic)) as Question
    });
    any(each.collect())
}

/// Documents that both find.
pub fn both(one: &dyn Query, other: Question) -> Question {
    Box::new(BooleanQuery::new(vec![(Occur::Must, one.box_clone()), (Occur::Must, other)]))
}

/// Documents that a question does not find.
pub fn not(question: Question) -> Question {
    let all: Question = Box::new(AllQuery);
    Box::new(BooleanQuery::new(vec![(Occur::Must, all), (Occur::MustNot, question)]))
}

fn any(each: Vec<Question>) -> Question {
    match each.is_empty() {
        true => Box::new(EmptyQuery),
        false => Box::new(BooleanQuery::union(each)),
    }
}

fn strings(value: &Value) -> Vec<String> {
    let text = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    match value {
        Value::Array(values) => values.iter().map(text).collect(),
        Value::Null => Vec::new(),
        one => vec![text(one)],
    }
}

/// The one field of a question, and what it says of it.
fn field_of(inside: &Value) -> Result<(&String, &Value)> {
    let found =
        inside.as_object().and_then(|object| object.iter().find(|(key, _)| *key != "boost"));
    found.ok_or_else(|| Error::parsing("field name is null or empty"))
}

struct Asker<'a> {
    index: &'a Index,
    mapping: &'a Mapping,
}

impl Asker<'_> {
    fn id(&self, id: &str) -> Question {
        let term = Term::from_field_text(self.index.inner.id, id);
        Box::new(TermQuery::new(term, IndexRecordOption::Basic))
    }

    fn term(&self, inside: &Value) -> Result<Question> {
        let (path, value) = field_of(inside)?;
        let value = value.get("value").unwrap_or(value);
        self.exactly(path, value)
    }

    fn terms(&self, inside: &Value) -> Result<Question> {
        let (path, values) = field_of(inside)?;
        let values = values.as_array().cloned().unwrap_or_default();
        let each = values.iter().map(|value| self.exactly(path, value));
        Ok(any(each.collect::<Result<_>>()?))
    }

    fn exactly(&self, path: &str, value: &Value) -> Result<Question> {
        if path == "_id" {
            return Ok(any(strings(value).iter().map(|id| self.id(id)).collect()));
        }
        let Some(field) = self.mapping.find(path) else { return Ok(Box::new(EmptyQuery)) };
        self.askable(field, path)?;
        if field.kind == Kind::Text {
            // A word as it is, which is not cut.
            let word = strings(value).concat();
            return Ok(self.word(field, &word));
        }
        let kept = kept_of(field, value).map_err(|reason| {
            Error::new(400, "query_shard_exception", format!("failed to create query: {reason}"))
                .about(&self.index.name, &self.index.uuid)
        })?;
        let Some(kept) = kept else { return Ok(Box::new(EmptyQuery)) };
        let term = self.exact_term(field, &kept);
        Ok(Box::new(TermQuery::new(term, IndexRecordOption::Basic)))
    }

    fn askable(&self, field: &Field, path: &str) -> Result<()> {
        match field.is_indexed {
            true => Ok(()),
            false => {
                let reason = format!(
                    "failed to create query: Cannot search on field [{path}] since it is not indexed."
                );
                Err(Error::new(400, "query_shard_exception", reason)
                    .about(&self.index.name, &self.index.uuid))
            }
        }
    }

    fn exact_term(&self, field: &Field, kept: &Kept) -> Term {
        let mut term =
            Term::from_field_json_path(self.index.inner.exact, &key(field.number), false);
        match kept {
            Kept::Signed(value) => term.append_type_and_fast_value(*value),
            Kept::Unsigned(value) => term.append_type_and_fast_value(*value),
            Kept::Float(value) => term.append_type_and_fast_value(*value),
            Kept::Bool(value) => term.append_type_and_fast_value(*value),
            Kept::Exact(text) | Kept::Words(text) => term.append_type_and_str(text),
        }
        term
    }

    fn word_term(&self, field: &Field, word: &str) -> Term {
        let mut term =
            Term::from_field_json_path(self.index.inner.words, &key(field.number), false);
        term.append_type_and_str(word);
        term
    }

    fn word(&self, field: &Field, word: &str) -> Question {
        let term = self.word_term(field, word);
        Box::new(TermQuery::new(term, IndexRecordOption::WithFreqs))
    }

    fn words(&self, inside: &Value, is_phrase: bool) -> Result<Question> {
        let (path, said) = field_of(inside)?;
        let value = said.get("query").unwrap_or(said);
        let Some(field) = self.mapping.find(path) else { return Ok(Box::new(EmptyQuery)) };
        if field.kind != Kind::Text {
            return self.exactly(path, value);
        }
        let words = self.index.words_of(&strings(value).join(" "));
        if is_phrase && words.len() > 1 {
            let terms = words.iter().map(|word| self.word_term(field, word)).collect();
            return Ok(Box::new(PhraseQuery::new(terms)));
        }
        let each: Vec<_> = words.iter().map(|word| self.word(field, word)).collect();
        let all = said["operator"].as_str().is_some_and(|said| said.eq_ignore_ascii_case("and"));
        match all && !each.is_empty() {
            true => Ok(Box::new(BooleanQuery::intersection(each))),
            false => Ok(any(each)),
        }
    }

    fn range(&self, inside: &Value) -> Result<Question> {
        let (path, said) = field_of(inside)?;
        let Some(field) = self.mapping.find(path) else { return Ok(Box::new(EmptyQuery)) };
        self.askable(field, path)?;
        let said = said.as_object().cloned().unwrap_or_default();
        let bound = |included: &str, excluded: &str| -> Result<Bound<Term>> {
            let given = |key: &str| said.get(key).filter(|value| !value.is_null());
            let (value, is_included) = match (given(included), given(excluded)) {
                (Some(value), _) => (value, true),
                (None, Some(value)) => (value, false),
                (None, None) => return Ok(Bound::Unbounded),
            };
            let kept = kept_of(field, value);
            let kept =
                kept.map_err(|reason| Error::parsing(format!("failed to parse range: {reason}")))?;
            let kept = kept.ok_or_else(|| Error::parsing("failed to parse range"))?;
            let term = self.exact_term(field, &kept);
            Ok(if is_included { Bound::Included(term) } else { Bound::Excluded(term) })
        };
        let (low, high) = (bound("gte", "gt")?, bound("lte", "lt")?);
        if (&low, &high) == (&Bound::Unbounded, &Bound::Unbounded) {
            return Ok(exists(self.index, self.mapping, path));
        }
        Ok(Box::new(RangeQuery::new(low, high)))
    }

    fn boolean(&self, inside: &Value) -> Result<Question> {
        let clauses = |name: &str| -> Result<Vec<Question>> {
            let said = match &inside[name] {
                Value::Null => return Ok(Vec::new()),
                Value::Array(each) => each.clone(),
                one => vec![one.clone()],
            };
            said.iter().map(|one| query(self.index, self.mapping, one)).collect()
        };
        let mut all: Vec<(Occur, Question)> = Vec::new();
        all.extend(clauses("must")?.into_iter().map(|it| (Occur::Must, it)));
        let filters = clauses("filter")?.into_iter();
        all.extend(filters.map(|it| (Occur::Must, Box::new(ConstScoreQuery::new(it, 0.0)) as _)));
        let should = clauses("should")?;
        // One of them is enough where nothing else is asked, and none is needed beside other questions.
        if !should.is_empty() && all.is_empty() {
            all.push((Occur::Must, any(should)));
        } else {
            all.extend(should.into_iter().map(|it| (Occur::Should, it)));
        }
        if all.is_empty() {
            all.push((Occur::Must, Box::new(AllQuery)));
        }
        all.extend(clauses("must_not")?.into_iter().map(|it| (Occur::MustNot, it)));
        Ok(Box::new(BooleanQuery::new(all)))
    }
}

/// The question of a body, or all documents.
///
/// # Errors
/// As [`query`].
pub fn of_body(index: &Index, mapping: &Mapping, body: &Map<String, Value>) -> Result<Question> {
    let all = json!({ "match_all": {} });
    query(index, mapping, body.get("query").unwrap_or(&all))
}
