//! The proof of a load into an index: how many documents there are and, of each field, how many have it, its extremes and its
//! sum, held against what was sent; and some documents, got by their ids and held against those that were sent.
//!
//! An index adds up in doubles, so extremes and sums are held against each other as doubles. Where documents were there before,
//! the same is asked before, and what was sent is to be the difference. What stands in a list without being a number is counted once a
//! document by an index, and is proven by the sample alone.

use serde_json::{Map, Value, json};
use typhos_core::schema::{ColumnDecl, Scalar, TimeUnit, Type};
use typhos_core::tally::scaled;
use typhos_load::TargetError;
use typhos_load::proof::{ColumnFacts, End, SentFacts};

use super::client::{Client, part};

/// Fields that one request asks about.
const ASKED_FIELDS: usize = 50;

/// How far two sums of doubles may be apart, as a share of the larger one.
const TOLERANCE: f64 = 1e-9;

/// How a field is asked about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Question {
    /// Its numbers: count, extremes, sum.
    Numbers,
    /// The same, of points in time, whose sum says nothing.
    Times,
    /// How many values it has.
    Count,
    /// How many documents have it.
    Exists,
    /// How many documents say true, and how many have it.
    Bools,
    /// How many objects there are.
    Objects,
}

/// What a field has, or is to have.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
struct Sum {
    count: f64,
    low: Option<f64>,
    high: Option<f64>,
    sum: Option<f64>,
    /// The sum of all numbers without their signs: what a sum may be off by is a share of it.
    size: f64,
}

/// A field that is asked about.
#[derive(Debug, Clone)]
struct Asked {
    path: String,
    /// The nested field that it is in.
    nested: Option<String>,
    question: Question,
    scalar: Scalar,
    /// Where its facts are: the column, and the places in it.
    facts: Vec<usize>,
}

/// What is asked about an index.
pub struct Questions {
    asked: Vec<Asked>,
}

/// What an index has.
#[derive(Debug, Clone, Default)]
pub struct Answers {
    /// Documents.
    pub documents: u64,
    fields: Vec<Sum>,
}

impl Questions {
    /// About the columns of a schema, whose fields have these types.
    pub fn new(columns: &[ColumnDecl], mapping: &Value) -> Questions {
        let mut asked = Vec::new();
        for (at, column) in columns.iter().enumerate() {
            let place = Place { path: column.name.clone(), nested: None, is_many: false };
            collect(&column.ty, place, &mut vec![at], mapping, &mut asked);
        }
        Questions { asked }
    }

    /// Asks.
    ///
    /// # Errors
    /// A server that cannot be asked.
    pub fn ask(&self, client: &Client, index: &str) -> Result<Answers, TargetError> {
        client.ask("POST", &format!("{}/_refresh", part(index)), None)?;
        let count = client.ask("GET", &format!("{}/_count", part(index)), None)?;
        let documents = count["count"].as_u64().unwrap_or(0);
        let mut fields = Vec::new();
        for some in self.asked.chunks(ASKED_FIELDS) {
            let each =
                some.iter().enumerate().map(|(at, asked)| (format!("q{at}"), asked.request()));
            let body = json!({ "size": 0, "aggs": each.collect::<Map<_, _>>() });
            let answer = client.ask("POST", &format!("{}/_search", part(index)), Some(&body))?;
            let found = &answer["aggregations"];
            fields.extend(
                some.iter().enumerate().map(|(at, asked)| asked.read(&found[format!("q{at}")])),
            );
        }
        Ok(Answers { documents, fields })
    }

    /// Holds what an index has against what it had and what was sent. Returns how many facts were compared, or what
    /// differs.
    pub fn compare(
        &self,
        before: &Answers,
        after: &Answers,
        sent: &SentFacts,
    ) -> Result<usize, Vec<String>> {
        let (mut compared, mut wrong) = (1, Vec::new());
        if after.documents != before.documents + sent.rows {
            wrong.push(format!(
                "{} documents were sent, and {} are there that were not",
                sent.rows,
                after.documents as i128 - i128::from(before.documents)
            ));
        }
        let none = Sum::default();
        for (at, asked) in self.asked.iter().enumerate() {
            let Some(sum) = asked.sent(sent) else { continue };
            let (before, after) =
                (before.fields.get(at).unwrap_or(&none), after.fields.get(at).unwrap_or(&none));
            let path = &asked.path;
            compared += 1;
            if after.count != before.count + sum.count {
                let there = after.count - before.count;
                wrong.push(format!("'{path}': {} values were sent, {there} are there", sum.count));
            }
            let ends = [
                ("smallest", before.low, sum.low, after.low, f64::min as fn(f64, f64) -> f64),
                ("largest", before.high, sum.high, after.high, f64::max),
            ];
            for (what, known, sent, found, of) in ends {
                let Some(sent) = sent else { continue };
                compared += 1;
                let want = known.map_or(sent, |known| of(known, sent));
                if !found.is_some_and(|found| is_near(found, want, want.abs())) {
                    let found = found.map_or("nothing".into(), |found| found.to_string());
                    wrong.push(format!(
                        "'{path}': the {what} value was {want}, there it is {found}"
                    ));
                }
            }
            if let Some(sent) = sum.sum {
                compared += 1;
                let want = before.sum.unwrap_or(0.0) + sent;
                let found = after.sum.unwrap_or(0.0);
                if !is_near(found, want, sum.size.max(before.size).max(found.abs())) {
                    wrong.push(format!("'{path}': the sum was {want}, there it is {found}"));
                }
            }
        }
        if wrong.is_empty() { Ok(compared) } else { Err(wrong) }
    }
}

fn is_near(found: f64, want: f64, size: f64) -> bool {
    found == want || (found - want).abs() <= TOLERANCE * size.max(f64::MIN_POSITIVE)
}

/// Where a field is.
struct Place {
    path: String,
    nested: Option<String>,
    is_many: bool,
}

fn collect(
    ty: &Type,
    place: Place,
    facts: &mut Vec<usize>,
    mapping: &Value,
    asked: &mut Vec<Asked>,
) {
    match ty {
        Type::Struct(fields) => {
            for (at, field) in fields.iter().enumerate() {
                facts.push(at);
                let path = format!("{}.{}", place.path, field.name);
                let inside = Place { path, nested: place.nested.clone(), is_many: place.is_many };
                collect(&field.ty, inside, facts, mapping, asked);
                facts.pop();
            }
        }
        Type::List(items) => {
            facts.push(0);
            let mut inside = Place { is_many: true, ..place };
            if matches!(**items, Type::Struct(_)) {
                asked.push(Asked {
                    path: inside.path.clone(),
                    nested: None,
                    question: Question::Objects,
                    scalar: Scalar::Json,
                    facts: facts.clone(),
                });
                inside.nested = Some(inside.path.clone());
                // Each object is a document of its own.
                inside.is_many = false;
            }
            collect(items, inside, facts, mapping, asked);
            facts.pop();
        }
        Type::Scalar(scalar) => {
            let Some(question) = question_of(
                &field_type(mapping, &place.path),
                place.is_many,
                place.nested.is_some(),
            ) else {
                return;
            };
            let Place { path, nested, .. } = place;
            asked.push(Asked { path, nested, question, scalar: *scalar, facts: facts.clone() });
        }
    }
}

/// The type of the field at a path of a mapping.
pub fn field_type(mapping: &Value, path: &str) -> String {
    let found = path.split('.').fold(mapping, |at, part| &at["properties"][part]);
    match found["enabled"] == json!(false) {
        true => "none".into(),
        false => found["type"].as_str().unwrap_or("object").to_owned(),
    }
}

fn question_of(field: &str, is_many: bool, is_nested: bool) -> Option<Question> {
    Some(match field {
        "byte" | "short" | "integer" | "long" | "unsigned_long" | "float" | "half_float"
        | "double" | "scaled_float" => Question::Numbers,
        "date" | "date_nanos" => Question::Times,
        _ if is_many => return None,
        // Of documents inside of others, values are counted, and not documents.
        "boolean" if is_nested => Question::Count,
        "text" | "geo_point" if is_nested => return None,
        "boolean" => Question::Bools,
        "keyword" | "ip" => Question::Count,
        "text" | "geo_point" => Question::Exists,
        _ => return None,
    })
}

impl Asked {
    fn request(&self) -> Value {
        let field = json!({ "field": self.path });
        let plain = match self.question {
            Question::Numbers | Question::Times => json!({ "stats": field }),
            Question::Count => json!({ "value_count": field }),
            Question::Exists => json!({ "filter": { "exists": field } }),
            Question::Bools => {
                let yes = json!({ "filter": { "term": { &self.path: true } } });
                json!({ "filter": { "exists": field }, "aggs": { "yes": yes } })
            }
            Question::Objects => return json!({ "nested": { "path": self.path } }),
        };
        match &self.nested {
            Some(path) => json!({ "nested": { "path": path }, "aggs": { "in": plain } }),
            None => plain,
        }
    }

    fn read(&self, answer: &Value) -> Sum {
        let answer = if self.nested.is_some() { &answer["in"] } else { answer };
        let number = |key: &str| answer[key].as_f64();
        match self.question {
            Question::Numbers | Question::Times => {
                let count = number("count").unwrap_or(0.0);
                let is_some = count > 0.0;
                let of = |key: &str| number(key).filter(|_| is_some);
                Sum { count, low: of("min"), high: of("max"), sum: of("sum"), size: 0.0 }
            }
            Question::Count => Sum { count: number("value").unwrap_or(0.0), ..Sum::default() },
            Question::Exists | Question::Objects => {
                Sum { count: number("doc_count").unwrap_or(0.0), ..Sum::default() }
            }
            Question::Bools => Sum {
                count: number("doc_count").unwrap_or(0.0),
                sum: answer["yes"]["doc_count"].as_f64(),
                ..Sum::default()
            },
        }
    }

    /// What was sent of the field; `None` where nothing can be said.
    fn sent(&self, sent: &SentFacts) -> Option<Sum> {
        let (column, path) = self.facts.split_first()?;
        let mut facts = sent.columns.get(*column)?;
        for at in path {
            match facts.inner.get(*at) {
                Some(inner) => facts = inner,
                None => return Some(Sum::default()),
            }
        }
        Some(self.sum_of(facts))
    }

    fn sum_of(&self, facts: &ColumnFacts) -> Sum {
        let count = facts.values as f64;
        let digits = match self.scalar {
            Scalar::Decimal { scale, .. } => scale,
            _ => 0,
        };
        let scale = 10f64.powi(digits.into());
        let end = |end: &Option<End>| match end {
            Some(End::Int(value)) => Some(self.in_index(*value, scale)),
            Some(End::Float(value)) => Some(*value),
            _ => None,
        };
        match self.question {
            Question::Count | Question::Exists | Question::Objects => {
                Sum { count, ..Sum::default() }
            }
            Question::Bools => {
                let yes = facts.sum.map_or(0.0, |sum| scaled(sum, 0));
                Sum { count, sum: (count > 0.0).then_some(yes), ..Sum::default() }
            }
            Question::Times => {
                Sum { count, low: end(&facts.low), high: end(&facts.high), ..Sum::default() }
            }
            Question::Numbers => {
                let (low, high) = (end(&facts.low), end(&facts.high));
                let (sum, size) = match facts.sum {
                    Some(sum) => {
                        let most = low.unwrap_or(0.0).abs().max(high.unwrap_or(0.0).abs());
                        (scaled(sum, digits), most * count)
                    }
                    None => (facts.float_sum, facts.float_size),
                };
                Sum { count, low, high, sum: (count > 0.0).then_some(sum), size }
            }
        }
    }

    /// A value as the index tells it: points in time in whole milliseconds.
    fn in_index(&self, value: i128, scale: f64) -> f64 {
        let of_unit = |unit: TimeUnit| match unit {
            TimeUnit::Second => value * 1000,
            TimeUnit::Milli => value,
            TimeUnit::Micro => value.div_euclid(1000),
            TimeUnit::Nano => value.div_euclid(1_000_000),
        };
        match self.scalar {
            Scalar::Date => value as f64 * 86_400_000.0,
            Scalar::Timestamp { unit, .. } => of_unit(unit) as f64,
            _ => value as f64 / scale,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_buffer::i256;

    fn facts(values: u64, low: i128, high: i128, sum: i128) -> SentFacts {
        let mut facts = SentFacts::new(1);
        facts.rows = values;
        facts.columns[0] = ColumnFacts {
            values,
            low: Some(End::Int(low)),
            high: Some(End::Int(high)),
            sum: Some(i256::from_i128(sum)),
            ..ColumnFacts::default()
        };
        facts
    }

    fn answers(documents: u64, (count, low, high, sum): (f64, f64, f64, f64)) -> Answers {
        let field = Sum { count, low: Some(low), high: Some(high), sum: Some(sum), size: 0.0 };
        Answers { documents, fields: vec![field] }
    }

    #[test]
    fn what_was_sent_is_the_difference() {
        let fare = ColumnDecl::new("fare", Scalar::Decimal { precision: 6, scale: 2 });
        let mapping = json!({ "properties": { "fare": { "type": "scaled_float" } } });
        let questions = Questions::new(&[fare], &mapping);
        let sent = facts(2, 150, 1000, 1150);
        let none = Answers::default();
        let right = answers(2, (2.0, 1.5, 10.0, 11.5));
        assert_eq!(questions.compare(&none, &right, &sent), Ok(5));
        let before = answers(3, (3.0, 0.5, 9.0, 12.0));
        assert_eq!(questions.compare(&before, &answers(5, (5.0, 0.5, 10.0, 23.5)), &sent), Ok(5));
        let wrong =
            questions.compare(&none, &answers(2, (2.0, 1.5, 10.0, 11.49)), &sent).unwrap_err();
        assert_eq!(wrong, ["'fare': the sum was 11.5, there it is 11.49"]);
        let lost =
            questions.compare(&before, &answers(4, (4.0, 0.5, 9.0, 13.5)), &sent).unwrap_err();
        assert!(
            lost[0].contains("2 documents were sent, and 1 are there") && lost.len() == 4,
            "{lost:?}"
        );
    }
}
