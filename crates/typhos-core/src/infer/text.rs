//! What remains: text, and whether it is smaller as codes.

use super::dates::Context;
use super::readings::{self, Outcome, READINGS, Reading};
use super::{Clause, Decision, Extreme, Rules};
use crate::dates::DateOrder;
use crate::readings::Length;
use crate::schema::Scalar;
use crate::survey::{Class, ColumnFacts, Facts, MAX_DISTINCT};

/// A lowcard saves at least so many percent of the bytes of the text.
const MIN_SAVING_PERCENT: u64 = 30;

/// A category has at most so many values, of at most so many characters, in so many times more rows.
const MAX_CATEGORY: u64 = 16;
const MAX_CATEGORY_CHARS: u64 = 32;
const MIN_CATEGORY_ROWS: u64 = 20;

/// Tables of fewer values are those whose texts people take for categories: they are told why not.
const SMALL_TABLE: u64 = 1000;

/// Bytes that one text costs beside its own: the offset.
const TEXT_OVERHEAD: u64 = 4;

pub(super) fn decide(
    column: &ColumnFacts,
    facts: &Facts,
    records: u64,
    rules: &Rules,
    context: &Context,
) -> Decision {
    let mut decision = by_bytes(column, facts, records, rules);
    if facts.text.count > 0 {
        let text = |bytes: &[u8]| Extreme::Text(crate::lossless(bytes));
        decision.range = Some((text(&facts.text.min), text(&facts.text.max)));
    }
    let malformed = facts.count(Class::Malformed);
    if malformed > 0 {
        let first = context.line(facts.tally(&[Class::Malformed]).examples[0].place);
        decision.evidence.insert(0, Clause::NotUtf8 { count: malformed, first });
    }
    if facts.plain_count() == 0 {
        if facts.text.count == 0 && records > 0 {
            decision.evidence.insert(0, Clause::NeverAValue);
        }
        return decision;
    }
    why_not_narrower(column, facts, rules, context, &mut decision);
    decision
}

/// Plain, lowcard or category, by the bytes each would take.
fn by_bytes(column: &ColumnFacts, facts: &Facts, records: u64, rules: &Rules) -> Decision {
    let longest = facts.text.max_chars;
    // A code has one length; of other texts the next month's may be longer.
    let fixed = facts.text.bytes_range == Some((longest, longest)) && facts.text.count > 1;
    let plain = |clause: Vec<Clause>| {
        let most = if fixed { longest.into() } else { rules.stretch(longest.into()) };
        let most = u32::try_from(most).ok().filter(|most| *most > 0);
        let mut decision = Decision::new(Scalar::Text { most });
        decision.evidence.extend(clause);
        decision
    };
    if facts.text.count == 0 {
        return Decision::new(Scalar::Text { most: None });
    }
    let length = if fixed { Clause::OneLength(longest) } else { Clause::Longest(longest) };
    let Some(bytes) = column.distinct_bytes() else { return plain(vec![length]) };
    let distinct = column.distinct().count;
    if facts.count(Class::Malformed) > 0 || distinct > MAX_DISTINCT as u64 {
        return plain(vec![length]);
    }
    let text_cost = facts.text.bytes + TEXT_OVERHEAD * records;
    let code = if distinct <= 1 << 8 { 1 } else { 2 };
    let coded_cost = code * records + bytes + TEXT_OVERHEAD * distinct;
    if distinct * 2 > facts.text.count || coded_cost * 100 > text_cost * (100 - MIN_SAVING_PERCENT)
    {
        let figures = Clause::CodesAgainstText { codes: coded_cost, text: text_cost };
        let is_small = (2..SMALL_TABLE).contains(&facts.text.count);
        let is_trap = coded_cost >= text_cost && is_small;
        return plain(std::iter::once(length).chain(is_trap.then_some(figures)).collect());
    }
    let factor = text_cost as f64 / coded_cost as f64;
    let clause = Clause::Saving { distinct, factor };
    if distinct <= MAX_CATEGORY
        && longest <= MAX_CATEGORY_CHARS
        && records >= distinct * MIN_CATEGORY_ROWS
        && rules.never.allows(Scalar::Category)
    {
        let mut decision = Decision::new(Scalar::Category);
        decision.values = column
            .distinct_values()
            .iter()
            .map(|found| String::from_utf8_lossy(found.value).into_owned())
            .collect();
        decision.values.sort();
        decision.evidence.push(clause);
        if let Some(ladder) = super::ladders::ladder(&decision.values) {
            decision.notes.push(Clause::Ladder(ladder));
        }
        return decision;
    }
    if !rules.never.allows(Scalar::Lowcard) {
        return plain(vec![length]);
    }
    let mut decision = Decision::new(Scalar::Lowcard);
    decision.evidence.push(clause);
    decision
}

/// Values that are something, all of them, and that no type holds.
fn unheld(facts: &Facts, context: &Context) -> Option<Clause> {
    let plain = facts.plain_count();
    let of = |classes: &[Class]| classes.iter().map(|class| facts.count(*class)).sum::<u64>();
    let giants = facts.giants.count;
    if giants > 0 && giants + of(&[Class::Integer, Class::Signed, Class::Decimal]) == plain {
        let first = facts.giants.examples.first()?;
        let count = Some(giants).filter(|giants| *giants < plain);
        return Some(Clause::Giants { count, first: context.cite(first) });
    }
    let lengths = of(&[Class::Length]);
    let is_time = facts.dates.shapes().iter().all(|shape| shape.shape.date.is_none());
    let times = if is_time { of(&[Class::Date]) } else { 0 };
    if lengths == 0 || !super::is_blocked(plain - lengths - times, facts) {
        return None;
    }
    let first = facts.tally(&[Class::Length]).examples.into_iter().next()?;
    let kinds = Length::ALL.into_iter().filter(|kind| facts.lengths.kinds[*kind as usize] > 0);
    Some(Clause::Lengths {
        kinds: kinds.collect(),
        others: plain - lengths - times,
        first: Some(context.cite(&first)),
    })
}

/// Says what kept the column from a narrower type, where most of its values allow one.
fn why_not_narrower(
    column: &ColumnFacts,
    facts: &Facts,
    rules: &Rules,
    context: &Context,
    decision: &mut Decision,
) {
    if readings::is_quoted_text(column, rules) {
        let quoted = column.quoted();
        let first = quoted.examples.first().map(|example| context.cite(example));
        return decision.evidence.insert(0, Clause::Quoted { count: quoted.count, first });
    }
    if readings::has_numbers_in_texts(column, facts, rules) {
        let quoted = column.quoted();
        let first = quoted.examples.first().map(|example| context.cite(example));
        let clause = Clause::NumbersInTexts { count: quoted.count, first };
        return decision.evidence.insert(0, clause);
    }
    if let Some(reason) = unheld(facts, context) {
        return decision.evidence.insert(0, reason);
    }
    let plain = facts.plain_count();
    let codes = facts.count(Class::Code);
    // A reading that takes every value, and is none all the same, has a reason.
    for reading in READINGS {
        let is_coded =
            reading == Reading::Integer && codes > 0 && reading.read(facts) + codes == plain;
        if reading.read(facts) != plain && !is_coded {
            continue;
        }
        match reading.outcome(column, facts, rules, context) {
            Outcome::Type(_) => {}
            Outcome::None(reason) => {
                decision.evidence.insert(0, reason);
                if is_coded {
                    let blocker = readings::blocker(reading, column, facts, rules, context);
                    decision.blockers.extend(blocker);
                }
                if reading == Reading::Date {
                    // Dates in one order, but for a few: it says more than that there is none.
                    for order in DateOrder::ALL.map(Reading::DateIn) {
                        let blocker = readings::blocker(order, column, facts, rules, context);
                        decision.evidence.splice(0..0, blocker.iter().map(|b| b.clause(context)));
                        decision.blockers.extend(blocker);
                    }
                }
                return;
            }
            Outcome::Asked(question) => {
                let clause = Clause::asked(&question.about, &question.choices, context.files());
                decision.evidence.insert(0, clause);
                decision.question = Some(question);
                return;
            }
        }
    }
    for reading in READINGS {
        if let Some(blocker) = readings::blocker(reading, column, facts, rules, context) {
            // The integers of a column are numbers too: the same values stand in the way of both.
            if decision.blockers.iter().any(|known| known.ty == blocker.ty) {
                continue;
            }
            decision.evidence.insert(0, blocker.clause(context));
            decision.blockers.push(blocker);
        }
    }
}
