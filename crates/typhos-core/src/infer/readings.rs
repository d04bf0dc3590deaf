//! The readings of a column: each of the ways in which its values could be typed other than as text, how
//! many values it takes, which stand in its way, and what type it would give.
//!
//! A type is decided by the first reading that takes every value. The others are what blockers and
//! `--tolerate` are made of, and what a person is shown who asks why a column is text.

use super::dates::{self, Context, Marks, NoDate};
use super::{
    About, BOOL_PAIRS, Blocker, Choice, Clause, Decision, Extreme, Fractions, Misfit, Question,
    Rules, Strings, number, same,
};
use crate::dates::{DateOrder, Separator, Shape, TimeShape};
use crate::readings::{Length, Mark, NumberStyle, Side};
use crate::schema::{Scalar, TimeUnit};
use crate::survey::{CLASSES, Class, ColumnFacts, Facts, Tally};

/// A way to read values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Reading {
    Bool,
    Integer,
    Number,
    /// Numbers in any clothes, with this mark.
    Written(Mark),
    Date,
    /// Lengths of time, some of which are no times of day.
    Length,
    /// Dates in this order, where no order reads all of them.
    DateIn(DateOrder),
    Uuid,
    Ip,
    Geopoint,
    Json,
}

/// All readings, the narrower ones first.
pub(super) const READINGS: [Reading; 14] = [
    Reading::Bool,
    Reading::Integer,
    Reading::Number,
    Reading::Written(Mark::Point),
    Reading::Written(Mark::Comma),
    Reading::Date,
    Reading::Length,
    Reading::DateIn(DateOrder::Ymd),
    Reading::DateIn(DateOrder::Dmy),
    Reading::DateIn(DateOrder::Mdy),
    Reading::Uuid,
    Reading::Ip,
    Reading::Geopoint,
    Reading::Json,
];

/// What a reading makes of a column if the values it does not take are left out.
#[derive(Debug)]
pub(super) enum Outcome {
    /// A type.
    Type(Box<Decision>),
    /// None, for this reason.
    None(Clause),
    /// More than one, and nothing tells which.
    Asked(Question),
}

impl Reading {
    /// What it is called.
    pub fn name(self) -> &'static str {
        match self {
            Reading::Bool => "bool",
            Reading::Integer => "integer",
            Reading::Number => "number",
            Reading::Written(Mark::Point) => "number with a decimal point",
            Reading::Written(Mark::Comma) => "number with a decimal comma",
            Reading::Date => "date or time",
            Reading::Length => "length of time",
            Reading::DateIn(DateOrder::Ymd) => "date, year first",
            Reading::DateIn(DateOrder::Dmy) => "date, day first",
            Reading::DateIn(DateOrder::Mdy) => "date, month first",
            Reading::Uuid => "uuid",
            Reading::Ip => "ip",
            Reading::Geopoint => "geopoint",
            Reading::Json => "json",
        }
    }

    /// Whether it reads numbers.
    pub fn is_number(self) -> bool {
        matches!(self, Reading::Integer | Reading::Number | Reading::Written(_))
    }

    /// The classes of values that it takes; of numbers in other clothes some.
    fn classes(self) -> &'static [Class] {
        use Class::*;
        match self {
            Reading::Bool => &[Bool],
            Reading::Integer => &[Integer, Signed],
            Reading::Number => &[Integer, Signed, Decimal, Exponent, Infinite],
            Reading::Written(_) => &[Integer, Signed, Decimal, Written],
            Reading::Date | Reading::DateIn(_) => &[Date],
            Reading::Length => &[Length],
            Reading::Uuid => &[Uuid],
            Reading::Ip => &[Ip],
            Reading::Geopoint => &[Geopoint],
            Reading::Json => &[Json],
        }
    }

    /// Values that it takes.
    pub fn read(self, facts: &Facts) -> u64 {
        match self {
            Reading::Written(mark) if facts.written.is_none() => match mark {
                Mark::Comma if number::may_be_groups(facts) => number::read_by(facts, mark),
                _ => 0,
            },
            Reading::Written(mark) => number::read_by(facts, mark),
            Reading::DateIn(order) => dates::read_in(facts, order),
            // Of times of day alone nothing says that they are lengths.
            Reading::Length if facts.count(Class::Length) == 0 => 0,
            Reading::Length => facts.count(Class::Length) + clock_times(facts),
            Reading::Geopoint => facts.count(Class::Geopoint) + facts.written_points,
            Reading::Ip => facts.count(Class::Ip) + facts.written_ips,
            Reading::Uuid => facts.count(Class::Uuid) + facts.digit_uuids,
            _ => self.classes().iter().map(|class| facts.count(*class)).sum(),
        }
    }

    /// Values that it does not take, and the first of them.
    pub fn refused(self, facts: &Facts) -> Tally {
        let taken = self.classes();
        // Classes whose values it takes all the same.
        let digits = [Class::Integer, Class::Code, Class::Exponent];
        let of = |classes: &[Class]| classes.iter().map(|class| facts.count(*class)).sum::<u64>();
        let besides: &[Class] = match self {
            Reading::Length if clock_times(facts) == of(&[Class::Date]) => &[Class::Date],
            Reading::Ip if facts.written_ips == of(&[Class::Written]) => &[Class::Written],
            Reading::Geopoint if facts.written_points == of(&[Class::Written]) => &[Class::Written],
            Reading::Uuid if facts.digit_uuids == of(&digits) => &digits,
            _ => &[],
        };
        let others = CLASSES
            .into_iter()
            .filter(|c| *c != Class::Token && !taken.contains(c) && !besides.contains(c));
        let mut tally = facts.tally(&others.collect::<Vec<_>>());
        if let (Reading::Written(mark), Some(written)) = (self, &facts.written) {
            let view = &written.views[mark as usize];
            let first = Tally { count: 0, examples: view.refused.iter().cloned().collect() };
            // With a decimal comma a point groups digits, and fractions of another length are none.
            let scales = facts.numbers.scales.iter();
            let others = scales.filter(|(scale, _)| mark == Mark::Comma && **scale != 3);
            let others = others.map(|(_, tally)| tally);
            tally = Tally::first_of(others.chain([&tally, &first]));
        }
        if let Reading::DateIn(order) = self {
            tally = Tally::first_of([&tally, &dates::refused_in(facts, order)]);
        }
        tally.count = facts.plain_count() - self.read(facts).min(facts.plain_count());
        tally
    }

    /// The type that holds the values it takes.
    pub fn outcome(
        self,
        column: &ColumnFacts,
        facts: &Facts,
        rules: &Rules,
        context: &Context,
    ) -> Outcome {
        let form = |ty: Scalar| {
            let mut decision = Decision::new(ty);
            decision.range = text_range(column, facts);
            decision.evidence.push(Clause::AllAre(ty));
            Ok(decision)
        };
        let is_number = matches!(self, Reading::Integer | Reading::Number | Reading::Written(_));
        let codes = facts.count(Class::Code);
        let found = match self {
            _ if is_number && codes > 0 => Err(if codes == facts.plain_count() {
                Clause::AllLeadingZeros
            } else {
                let first = context.cite(&facts.tally(&[Class::Code]).examples[0]);
                Clause::LeadingZeros { count: codes, first }
            }),
            Reading::Bool => boolean(facts),
            Reading::Integer => number::integers(column, facts, rules),
            Reading::Number => return numbers(column, facts, rules, context),
            Reading::Written(_) if Reading::Ip.read(facts) == facts.plain_count() => {
                Err(Clause::AllAre(Scalar::Ip))
            }
            Reading::Written(mark) => return by_mark(mark, facts, rules, context),
            Reading::Date => match dates::decide(facts, rules, context) {
                Ok(decision) => Ok(decision),
                Err(NoDate::Ambiguous(question)) => return Outcome::Asked(question),
                Err(NoDate::Unfit(reason)) => Err(reason),
            },
            Reading::Length => lengths(facts),
            Reading::DateIn(order) => dates::decide_in(facts, order),
            Reading::Uuid
                if facts.bare_uuids > 0 && column.distinct().count < FEWEST_BARE_UUIDS =>
            {
                Err(Clause::ChecksumsOrUuids)
            }
            Reading::Uuid => form(Scalar::Uuid),
            Reading::Ip => form(Scalar::Ip),
            Reading::Geopoint => form(Scalar::Geopoint),
            Reading::Json => form(Scalar::Json),
        };
        match found {
            Ok(decision) => allowed(decision, rules),
            Err(reason) => Outcome::None(reason),
        }
    }
}

/// Times of day that may be lengths of time as well: those that a clock of 24 hours shows, without a zone.
fn clock_times(facts: &Facts) -> u64 {
    let clocks = facts.dates.shapes().into_iter().filter(|facts| is_clock(&facts.shape));
    clocks.map(|facts| facts.count).sum()
}

fn is_clock(shape: &Shape) -> bool {
    let is_plain = |time: TimeShape| {
        time.half.is_none() && time.between.text() == ":" && time.words == [Separator::default(); 3]
    };
    shape.date.is_none() && shape.zone.is_none() && shape.time.is_some_and(is_plain)
}

/// Lengths of time, in the coarsest unit that keeps all their digits.
fn lengths(facts: &Facts) -> Result<Decision, Clause> {
    let found = &facts.lengths;
    if found.unfixed > 0 {
        return Err(Clause::UnfixedLengths);
    }
    let shapes = facts.dates.shapes();
    let clocks = || shapes.iter().filter(|facts| is_clock(&facts.shape));
    let digits = clocks().map(|facts| facts.fraction_digits).fold(found.digits, u8::max);
    let times = clocks().filter_map(|facts| facts.orders[0].range);
    let ranges: Vec<_> = found.range.into_iter().chain(times).collect();
    let low = ranges.iter().map(|range| range.0).min().unwrap_or(0);
    let high = ranges.iter().map(|range| range.1).max().unwrap_or(0);
    let unit = TimeUnit::for_digits(digits);
    let fits = |nanos: i128| i64::try_from(nanos / i128::from(unit.nanos())).is_ok();
    if !fits(low) || !fits(high) {
        return Err(Clause::LengthsBeyond(unit));
    }
    let mut decision = Decision::new(Scalar::Duration(unit));
    decision.range = Some((Extreme::Length(low), Extreme::Length(high)));
    let kinds = Length::ALL.into_iter().filter(|kind| found.kinds[*kind as usize] > 0);
    decision.evidence.push(Clause::Lengths { kinds: kinds.collect(), others: 0, first: None });
    Ok(decision)
}

/// UUIDs without hyphens, of which one in eight of other digits look like one, must show so many values.
const FEWEST_BARE_UUIDS: u64 = 4;

/// Numbers that are written plainly. It is a question if different texts of them are one number, as `2.1`
/// and `2.10` are, which are two versions.
fn numbers(column: &ColumnFacts, facts: &Facts, rules: &Rules, context: &Context) -> Outcome {
    let decision = match number::plain(facts, rules) {
        Ok(decision) => decision,
        Err(reason) => return Outcome::None(reason),
    };
    // Where the format says that all of them are numbers, they are no codes and no versions, and the mark is a point.
    if column.tells_numbers() {
        return allowed(decision, rules);
    }
    if let Some(code) = number::exponent_code(facts) {
        let first = context.cite(&code);
        return Outcome::None(Clause::ExponentCodes { ty: decision.ty, first });
    }
    if facts.written.is_none() && number::may_be_groups(facts) {
        return of_marks(Mark::Point, decision, facts, rules, context);
    }
    if rules.fractions == Fractions::Usual
        && let Some(pair) = same::versions(column, facts)
    {
        let choices = vec![Choice::Text, Choice::Number(decision.ty)];
        return Outcome::Asked(Question { about: About::SameNumber(pair), choices });
    }
    allowed(decision, rules)
}

/// Numbers in any clothes. It is a question if the two sides of an account are marked.
fn by_mark(mark: Mark, facts: &Facts, rules: &Rules, context: &Context) -> Outcome {
    let decision = match number::written(facts, mark, rules) {
        Ok(decision) => decision,
        Err(reason) => return Outcome::None(reason),
    };
    match of_marks(mark, decision, facts, rules, context) {
        Outcome::Type(decision) if number::has_sides(facts) && rules.negative.is_none() => {
            let choice = |side| {
                let style = NumberStyle { negative: Some(side), ..decision.style.clone() };
                Choice::Numbers(style, decision.ty)
            };
            let choices = Side::ALL.into_iter().map(choice).collect();
            Outcome::Asked(Question { about: About::Sides, choices })
        }
        outcome => outcome,
    }
}

/// What `decision` by a mark comes to: if both marks read all numbers, and make others of them, one that is
/// said or proven decides, and nothing of the kind is a question.
fn of_marks(
    mark: Mark,
    decision: Decision,
    facts: &Facts,
    rules: &Rules,
    context: &Context,
) -> Outcome {
    let plain = facts.plain_count();
    let is_open = number::marks_differ(facts)
        && Mark::ALL.iter().all(|mark| number::read_by(facts, *mark) == plain);
    let by = |mark: Mark| match mark {
        Mark::Point if facts.written.is_none() => number::plain(facts, rules),
        mark => number::written(facts, mark, rules),
    };
    let other = if mark == Mark::Point { Mark::Comma } else { Mark::Point };
    let otherwise = match by(other) {
        Ok(otherwise) if is_open => otherwise,
        _ => return allowed(decision, rules),
    };
    match (rules.decimal_mark, context.mark()) {
        (Some(said), _) if said == mark => allowed(decision, rules),
        (Some(said), _) => Outcome::None(Clause::MarkSaid(said)),
        (None, Marks::Proven(proven, name)) if proven == mark => {
            let mut decision = decision;
            // A point goes without saying where all is written plainly.
            if facts.written.is_some() || mark == Mark::Comma {
                decision.evidence.push(Clause::MarkProven { mark, column: name.to_owned() });
            }
            allowed(decision, rules)
        }
        (None, Marks::Proven(mark, name)) => {
            Outcome::None(Clause::MarkProven { mark, column: name.to_owned() })
        }
        // Nothing but plain numbers, and no comma in sight.
        (None, Marks::Unknown) if facts.written.is_none() => match mark {
            Mark::Point => allowed(decision, rules),
            Mark::Comma => Outcome::None(Clause::NoComma),
        },
        (None, Marks::Unknown | Marks::Both) => {
            let of = |decision: Decision| Choice::Numbers(decision.style, decision.ty);
            let mut choices = vec![of(decision), of(otherwise)];
            choices.sort_by_key(|choice| match choice {
                Choice::Numbers(style, _) => style.mark,
                _ => Mark::Point,
            });
            Outcome::Asked(Question { about: About::Marks, choices })
        }
    }
}

/// Smallest and largest value as texts, what is absent left out; `None` where that is not known.
fn text_range(column: &ColumnFacts, facts: &Facts) -> Option<(Extreme, Extreme)> {
    let is_absent = |value: &[u8]| {
        let value = crate::readings::trim(value);
        crate::readings::token(value).is_some()
            || facts.said.iter().any(|(text, _)| text.as_bytes() == value)
    };
    let text = |value: &[u8]| Extreme::Text(crate::lossless(value));
    if facts.count(Class::Token) == 0 {
        return Some((text(&facts.text.min), text(&facts.text.max)));
    }
    let values = column.distinct_values();
    let present = || values.iter().map(|found| found.value).filter(|value| !is_absent(value));
    present().min().zip(present().max()).map(|(low, high)| (text(low), text(high)))
}

fn allowed(decision: Decision, rules: &Rules) -> Outcome {
    if rules.never.allows(decision.ty) {
        Outcome::Type(Box::new(decision))
    } else {
        Outcome::None(Clause::Excluded(decision.ty))
    }
}

/// The narrowest type other than text that takes every value, or of those that nearly all values allow
/// the one that most do.
pub(super) fn decide(
    column: &ColumnFacts,
    facts: &Facts,
    rules: &Rules,
    context: &Context,
) -> Option<Decision> {
    let plain = facts.plain_count();
    if plain == 0 || is_quoted_text(column, rules) {
        return None;
    }
    let numbers_are_texts = has_numbers_in_texts(column, facts, rules);
    let whole = READINGS.into_iter().filter(|reading| reading.read(facts) == plain);
    let whole = whole.filter(|reading| !(numbers_are_texts && reading.is_number()));
    for reading in whole {
        if let Outcome::Type(mut decision) = reading.outcome(column, facts, rules, context) {
            let mut blockers = wider(reading, column, facts, rules, context);
            blockers.extend(number::narrower(&decision, facts, rules));
            if decision.ty.is_number()
                && !column.tells_numbers()
                && let Some(pair) = same::pair(column, facts)
            {
                let pair = pair.map(|example| context.cite(&example));
                decision.notes.push(Clause::OneNumber(Box::new(pair)));
            }
            for blocker in blockers.iter().filter(|blocker| blocker.is_few()) {
                decision.notes.push(blocker.clause(context));
            }
            decision.blockers = blockers;
            return Some(*decision);
        }
    }
    tolerated(column, facts, rules, context)
}

/// Whether the column is text because of what it is written in.
pub(super) fn is_quoted_text(column: &ColumnFacts, rules: &Rules) -> bool {
    (rules.quoted_text || rules.strings == Strings::Text) && column.quoted().count > 0
}

/// Whether the column is text because numbers stand in texts.
pub(super) fn has_numbers_in_texts(column: &ColumnFacts, facts: &Facts, rules: &Rules) -> bool {
    let is_number =
        |reading: &Reading| reading.is_number() && reading.read(facts) == facts.plain_count();
    rules.strings == Strings::Read && column.quoted().count > 0 && READINGS.iter().any(is_number)
}

/// Narrower readings than the one that was chosen, with what stands in their way.
fn wider(
    chosen: Reading,
    column: &ColumnFacts,
    facts: &Facts,
    rules: &Rules,
    context: &Context,
) -> Vec<Blocker> {
    let narrower = READINGS.into_iter().take_while(|reading| *reading != chosen);
    narrower.filter_map(|reading| blocker(reading, column, facts, rules, context)).collect()
}

/// The blocker of a reading that nearly all values allow.
pub(super) fn blocker(
    reading: Reading,
    column: &ColumnFacts,
    facts: &Facts,
    rules: &Rules,
    context: &Context,
) -> Option<Blocker> {
    let (read, plain) = (reading.read(facts), facts.plain_count());
    if read == 0 || read == plain || !super::is_blocked(plain - read, facts) {
        return None;
    }
    // Codes stand in the way of numbers by what they are, not by what they can be read as.
    let codes = facts.count(Class::Code);
    let ty = match reading.outcome(column, facts, rules, context) {
        Outcome::Type(decision) => decision.ty,
        Outcome::None(_) if codes > 0 && codes == plain - read && reading == Reading::Integer => {
            number::integers(column, facts, rules).ok()?.ty
        }
        _ => return None,
    };
    let Tally { count, examples } = reading.refused(facts);
    Some(Blocker { ty, count, examples })
}

/// The type that all but a tolerated share of the values have.
fn tolerated(
    column: &ColumnFacts,
    facts: &Facts,
    rules: &Rules,
    context: &Context,
) -> Option<Decision> {
    let plain = facts.plain_count();
    let most = (plain as f64 * rules.tolerate + 1e-9).floor() as u64;
    let mut readings: Vec<_> = READINGS
        .into_iter()
        .map(|reading| (plain - reading.read(facts).min(plain), reading))
        .filter(|(refused, _)| (1..=most).contains(refused))
        // Numbers that stand in texts are texts; a few texts among numbers are misfits.
        .filter(|(refused, reading)| {
            let is_told = reading.is_number() && rules.strings == Strings::Read;
            !is_told || column.quoted().count <= *refused
        })
        .collect();
    // The one with the fewest misfits; of equals the narrowest.
    readings.sort_by_key(|(refused, _)| *refused);
    for (_, reading) in readings {
        if let Outcome::Type(decision) = reading.outcome(column, facts, rules, context) {
            let mut decision = *decision;
            let Tally { count, examples } = reading.refused(facts);
            let first = examples.first().map(|example| context.cite(example));
            decision.evidence.insert(0, Clause::Tolerated { count, first });
            decision.blockers.push(Blocker { ty: decision.ty, count, examples });
            decision.misfit = Misfit::Reject;
            return Some(decision);
        }
    }
    None
}

/// One pair of words in the whole column. A pair of single letters must show both, since a column of
/// nothing but `t` is more likely a code.
fn boolean(facts: &Facts) -> Result<Decision, Clause> {
    let used: Vec<_> =
        facts.bools.iter().zip(&BOOL_PAIRS).filter(|([no, yes], _)| no + yes > 0).collect();
    let [([no, yes], pair)] = used[..] else {
        return Err(Clause::ManyBoolPairs(used.iter().map(|(_, pair)| *pair).collect()));
    };
    if pair.yes.len() == 1 && (*no == 0 || *yes == 0) {
        return Err(Clause::HalfOfPair(pair));
    }
    let mut decision = Decision::new(Scalar::Bool);
    decision.evidence.push(Clause::BoolCounts { pair, yes: *yes, no: *no });
    decision.range = Some((Extreme::Bool(*no == 0), Extreme::Bool(*yes > 0)));
    Ok(decision)
}

/// Values in the way that are few enough to be said with the type: mistakes more likely than facts.
const FEW_IN_THE_WAY: u64 = 5;

impl Blocker {
    fn is_few(&self) -> bool {
        self.count <= FEW_IN_THE_WAY
    }

    /// What it is, as a clause.
    pub(super) fn clause(&self, context: &Context) -> Clause {
        let first = self.examples.first().map(|example| context.cite(example));
        Clause::ButFor { ty: self.ty, count: self.count, first }
    }
}
