//! What remains: text, and whether it is smaller as codes.

use super::dates::{Context, NoDate};
use super::{Blocker, Decision, Rules, counted, first_examples, grouped, number};
use crate::schema::Type;
use crate::survey::{CLASSES, Class, ColumnFacts, Facts, MAX_DISTINCT};

/// A lowcard saves at least this share of the bytes of the text.
const MIN_SAVING: f64 = 0.30;

/// A category has at most so many values, of at most so many characters, in so many times more rows.
const MAX_CATEGORY: u64 = 16;
const MAX_CATEGORY_CHARS: u64 = 32;
const MIN_CATEGORY_ROWS: u64 = 20;

/// Bytes that one text costs beside its own: the offset.
const TEXT_OVERHEAD: u64 = 4;

/// Share of values that must allow a narrower type before the others are called blockers.
const BLOCKED_SHARE: f64 = 0.9;

pub(super) fn decide(
    column: &ColumnFacts,
    facts: &Facts,
    records: u64,
    rules: &Rules,
    context: &Context<'_>,
) -> Decision {
    let mut decision = by_bytes(column, facts, records);
    if facts.text.count > 0 {
        decision.range = Some((crate::lossless(&facts.text.min), crate::lossless(&facts.text.max)));
    }
    let malformed = facts.count(Class::Malformed);
    if malformed > 0 {
        let first = &facts.examples(Class::Malformed)[0];
        let note = format!(
            "{} not valid UTF-8, first in {}",
            counted(malformed, "value"),
            context.line(first.place)
        );
        decision.evidence.insert(0, note);
    }
    if facts.plain_count() == 0 {
        if facts.text.count == 0 && records > 0 {
            decision.evidence.insert(0, "never a value".into());
        }
        return decision;
    }
    why_not_narrower(column, facts, rules, context, &mut decision);
    decision
}

/// Plain, lowcard or category, by the bytes each would take.
fn by_bytes(column: &ColumnFacts, facts: &Facts, records: u64) -> Decision {
    let longest = facts.text.max_chars;
    // A code has one length; a bound on anything else would be a guess about next month.
    let fixed = facts.text.bytes_range == Some((longest, longest)) && facts.text.count > 1;
    let plain = |clause: String| {
        let most = u32::try_from(longest).ok().filter(|_| fixed);
        let mut decision = Decision::new(Type::Text { most });
        decision.evidence.push(clause);
        decision
    };
    if facts.text.count == 0 {
        return Decision::new(Type::Text { most: None });
    }
    let length =
        format!("{} {}", if fixed { "all have" } else { "longest" }, counted(longest, "character"));
    let (Some(distinct), Some(bytes)) = (column.distinct(), column.distinct_bytes()) else {
        return plain(length);
    };
    if facts.count(Class::Malformed) > 0
        || distinct * 2 > facts.text.count
        || distinct > MAX_DISTINCT as u64
    {
        return plain(length);
    }
    let text_cost = facts.text.bytes + TEXT_OVERHEAD * records;
    let code = if distinct <= 1 << 8 { 1 } else { 2 };
    let coded_cost = code * records + bytes + TEXT_OVERHEAD * distinct;
    if coded_cost as f64 > text_cost as f64 * (1.0 - MIN_SAVING) {
        return plain(length);
    }
    let factor = text_cost as f64 / coded_cost as f64;
    let clause = format!("{}; {factor:.1}x smaller than text", counted(distinct, "value"));
    if distinct <= MAX_CATEGORY
        && longest <= MAX_CATEGORY_CHARS
        && records >= distinct * MIN_CATEGORY_ROWS
    {
        let mut decision = Decision::new(Type::Category);
        decision.values = column
            .distinct_values()
            .iter()
            .map(|found| String::from_utf8_lossy(found.value).into_owned())
            .collect();
        decision.values.sort();
        decision.evidence.push(clause);
        return decision;
    }
    let mut decision = Decision::new(Type::Lowcard);
    decision.evidence.push(clause);
    decision
}

/// Says what kept the column from a narrower type, where most of its values allow one.
fn why_not_narrower(
    column: &ColumnFacts,
    facts: &Facts,
    rules: &Rules,
    context: &Context<'_>,
    decision: &mut Decision,
) {
    let plain = facts.plain_count();
    let (codes, numbers) = (facts.count(Class::Code), number::count(facts));
    if codes > 0
        && codes + numbers == plain
        && facts.count(Class::Decimal) + facts.count(Class::Exponent) == 0
    {
        let first = &facts.examples(Class::Code)[0];
        let value = context.example(first);
        let clause = if codes == plain {
            "digits, all start with 0".to_owned()
        } else {
            format!("digits, but {} start with 0: {value}", grouped(codes))
        };
        decision.evidence.insert(0, clause);
        return;
    }
    if facts.count(Class::Signed) == plain {
        decision.evidence.insert(0, "digits, all with a plus".into());
        return;
    }
    if facts.count(Class::Date) == plain {
        match super::dates::decide(facts, rules, context) {
            Err(NoDate::Ambiguous(question)) => {
                let lines: Vec<_> =
                    question.choices.iter().map(|(_, patterns)| patterns.join("\", \"")).collect();
                decision.evidence.insert(
                    0,
                    format!("a date, but which? patterns = [\"{}\"]", lines.join("\"] or [\"")),
                );
                decision.question = Some(question);
            }
            Err(NoDate::Unfit(reason)) => decision.evidence.insert(0, reason),
            Ok(_) => {}
        }
        return;
    }
    let narrower = [
        (numbers, &[Class::Integer, Class::Signed, Class::Decimal, Class::Exponent][..]),
        (facts.count(Class::Date), &[Class::Date][..]),
        (facts.count(Class::Bool), &[Class::Bool][..]),
    ];
    for (allowed, classes) in narrower {
        if (allowed as f64) < plain as f64 * BLOCKED_SHARE || allowed == plain {
            continue;
        }
        let ty = match classes[0] {
            Class::Integer => number::decide(column, facts, rules).map(|decision| decision.ty),
            Class::Date => {
                super::dates::decide(facts, rules, context).ok().map(|decision| decision.ty)
            }
            _ => Some(Type::Bool),
        };
        let Some(ty) = ty else { continue };
        let others: Vec<Class> = CLASSES
            .into_iter()
            .filter(|class| *class != Class::Token && !classes.contains(class))
            .collect();
        let blocker =
            Blocker { ty, count: plain - allowed, examples: first_examples(facts, &others) };
        decision.evidence.insert(0, blocker_clause(&blocker, context));
        decision.blockers.push(blocker);
    }
}

fn blocker_clause(blocker: &Blocker, context: &Context<'_>) -> String {
    let first = blocker.examples.first();
    let example = first.map(|e| format!(": {}", context.example(e))).unwrap_or_default();
    format!("would be {} but for {}{example}", blocker.ty, counted(blocker.count, "value"))
}
