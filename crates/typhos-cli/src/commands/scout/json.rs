//! `typhos scout --json`: the findings for programs. `docs/scout-json.md` describes the document; it is
//! added to, and nothing in it is renamed or taken away.

use serde_json::{Map, Value, json};
use typhos_core::infer::{
    About, Blocker, Choice, Clause, Decision, Profile, Question, estimate_error_percent,
};
use typhos_core::readings::Side;
use typhos_core::records::PathKind;
use typhos_core::survey::{Example, Survey};

use super::super::look::Looked;

/// The whole report, or that of one column, which has its profile too: all but the columns, and those, one by one.
pub fn report(
    looked: &Looked,
    one: Option<usize>,
) -> (Value, impl Iterator<Item = Value> + use<'_>) {
    let survey = &looked.examined.survey;
    let broken = survey.broken_examples.iter().map(|broken| {
        let file = &survey.source.files[broken.place.part as usize].name;
        json!({ "file": file, "line": broken.place.line, "reason": broken.reason() })
    });
    let columns: Vec<usize> = match one {
        Some(at) => vec![at],
        None => looked.columns.clone(),
    };
    let columns = columns.into_iter().map(move |at| {
        let mut entry = column(survey, at, &looked.examined.decisions[at]);
        if one.is_some() {
            entry["profile"] = profile_json(survey, at, &looked.examined.profile(at));
        }
        entry
    });
    let head = json!({
        "typhos": 1,
        "input": looked.report().json(),
        "sample": survey.is_sample,
        "records": survey.records,
        "broken_records": { "count": survey.broken, "examples": broken.collect::<Vec<_>>() },
        "columns": [],
    });
    (head, columns)
}

fn column(survey: &Survey, at: usize, decision: &Decision) -> Value {
    let tokens: Map<_, _> =
        decision.absent_tokens.iter().map(|(token, count)| (token.clone(), json!(count))).collect();
    let patterns = decision.patterns.iter();
    let patterns = patterns.map(|(pattern, count)| json!({ "pattern": pattern, "count": count }));
    let blockers = decision.blockers.iter().map(|blocker| blocker_json(blocker, survey));
    let distinct = decision.distinct;
    let kinds = survey.columns[at].kinds().map(|kinds| {
        let of = |kind| kinds.of(kind).0;
        json!({
            "missing": survey.records_of(at).saturating_sub(kinds.count()),
            "null": of(PathKind::Null),
            "bool": of(PathKind::Bool),
            "number": of(PathKind::Number),
            "text": of(PathKind::Text),
            "array": of(PathKind::Array),
            "object": of(PathKind::Object),
        })
    });
    json!({
        "name": survey.source.names[at],
        "position": at + 1,
        "type": decision.ty.to_string(),
        "required": decision.required,
        "absent": decision.absent,
        "absent_tokens": tokens,
        "kinds": kinds,
        "distinct": distinct.count,
        "distinct_exact": distinct.is_exact,
        "distinct_error_percent": if distinct.is_exact { 0.0 } else { estimate_error_percent() },
        "min": decision.range.as_ref().map(|(low, _)| low.to_string()),
        "max": decision.range.as_ref().map(|(_, high)| high.to_string()),
        "max_chars": decision.max_chars,
        "patterns": patterns.collect::<Vec<_>>(),
        "locale": decision.locale,
        "values": decision.values,
        "evidence": words(&decision.evidence),
        "blockers": blockers.collect::<Vec<_>>(),
        "notes": words(&decision.notes),
        "question": decision.question.as_ref().map(question_json),
    })
}

fn words(clauses: &[Clause]) -> Vec<String> {
    clauses.iter().map(Clause::to_string).collect()
}

fn question_json(question: &Question) -> Value {
    let choice = |choice: &Choice| match choice {
        Choice::Text => json!({ "type": "text" }),
        Choice::Number(ty) => json!({ "type": ty.to_string() }),
        Choice::Dates(order, patterns, locale) => {
            json!({ "date_order": order.name(), "patterns": patterns, "locale": locale })
        }
        Choice::Numbers(style, ty) => json!({
            "decimal_mark": style.mark.letter().to_string(),
            "grouping": style.grouping.map(|grouping| grouping.letter().to_string()),
            "negative": style.negative.map(Side::name),
            "type": ty.to_string(),
        }),
    };
    let about = match question.about {
        About::Dates => "date_order",
        About::Marks => "decimal_mark",
        About::Sides => "negative",
        About::SameNumber(_) => "same_number",
    };
    let lines = question.choices.iter().map(Choice::line).collect::<Vec<_>>();
    let choices = question.choices.iter().map(choice).collect::<Vec<_>>();
    json!({ "about": about, "choices": choices, "lines": lines })
}

fn examples_json(examples: &[Example], survey: &Survey) -> Value {
    let example = |example: &Example| {
        let file = &survey.source.files[example.place.part as usize].name;
        json!({ "value": example.text(), "file": file, "line": example.place.line })
    };
    examples.iter().map(example).collect()
}

fn blocker_json(blocker: &Blocker, survey: &Survey) -> Value {
    json!({
        "type": blocker.ty.to_string(),
        "count": blocker.count,
        "examples": examples_json(&blocker.examples, survey),
    })
}

/// The most frequent values that are listed.
const MOST_VALUES: usize = 100;

fn profile_json(survey: &Survey, at: usize, profile: &Profile) -> Value {
    let readings = profile.readings.iter().map(|reading| {
        json!({
            "reading": reading.name,
            "reads": reading.read,
            "does_not_read": reading.refused,
            "type": reading.ty.map(|ty| ty.to_string()),
            "reason": reading.reason.as_ref().map(Clause::to_string),
            "examples": examples_json(&reading.examples, survey),
        })
    });
    let quantiles = profile.quantiles.iter();
    let quantiles = quantiles.map(|(share, value)| json!({ "share": share, "value": value }));
    let bins = profile.histogram.iter();
    let bins = bins.map(|bin| json!({ "low": bin.low, "high": bin.high, "count": bin.count }));
    let column = &survey.columns[at];
    let values = column.distinct_values();
    let values = values.iter().take(MOST_VALUES).map(
        |found| json!({ "value": String::from_utf8_lossy(found.value), "count": found.count }),
    );
    let trend = |rises: bool, falls: bool| match (rises, falls) {
        (true, _) => json!("rising"),
        (_, true) => json!("falling"),
        _ => Value::Null,
    };
    json!({
        "readings": readings.collect::<Vec<_>>(),
        "quantiles": quantiles.collect::<Vec<_>>(),
        "quantiles_exact": profile.is_exact,
        "histogram": bins.collect::<Vec<_>>(),
        "frequent": if column.has_values() { json!(values.collect::<Vec<_>>()) } else { Value::Null },
        "min_bytes": profile.bytes.map(|(fewest, _)| fewest),
        "max_bytes": profile.bytes.map(|(_, most)| most),
        "mean_bytes": profile.mean_bytes,
        "sorted_as_text": profile.trends.map_or(Value::Null, |(t, _)| trend(t.rises, t.falls)),
        "sorted_as_number": profile.trends.map_or(Value::Null, |(_, n)| trend(n.rises, n.falls)),
    })
}
