//! Numbers: integers at their narrowest, decimals of one scale, floats that keep every value.

use std::collections::BTreeSet;

use super::{Blocker, Clause, Decision, Extreme, Fractions, Rules};
use crate::dates::{DAY_NANOS, days_from_civil};
use crate::readings::{Decimal, Grouping, Mark, NumberStyle, Side, wider};
use crate::schema::{IntType, MAX_PRECISION, Scalar, TimeUnit};
use crate::survey::{
    Class, ColumnFacts, Example, Facts, MOST_LOSSES, NumberFacts, Tally, ViewFacts, WIDTHS,
    WrittenFacts,
};

/// Digits after the mark up to which a column of one scale is a decimal; a longer fraction is more
/// likely a measurement.
const MAX_DECIMAL_SCALE: u8 = 9;

/// Decimals with fractions of unequal length have at most so many digits behind the mark, and so many in
/// all: they take eight bytes then, as a float does.
const MAX_SHORT_SCALE: u8 = 6;
const MAX_SHORT_PRECISION: u8 = 18;

/// Eight-digit days must show as many distinct values before they are taken for dates.
const MIN_COMPACT_DAYS: u64 = 5;

/// Epochs that are pointed out: seconds, and milliseconds, from 2001-09-09 to 2100-01-01.
const EPOCH_SECONDS: (i128, i128) = (1_000_000_000, 4_102_444_800);

/// Integers beyond this may not survive float32.
const FLOAT32_SURE: i128 = 1 << 24;

/// Grouped integers of one length with at least so many digits are more likely telephone numbers.
const MIN_CODE_DIGITS: u8 = 7;

/// What is known of the numbers of a column under one way of reading them.
struct Numbers<'f> {
    /// Smallest and largest of those written exactly.
    exact: Option<(Decimal, Decimal)>,
    /// Smallest and largest of those with an exponent, and infinities.
    floats: Option<(f64, f64)>,
    /// How many digits fractions have, each number of them once.
    scales: BTreeSet<u8>,
    exponents: u64,
    infinities: u64,
    /// Whether any number has a mark.
    marked: bool,
    float32_loses: Option<&'f Example>,
    float64_loses: Option<&'f Example>,
}

impl<'f> Numbers<'f> {
    /// Those written plainly.
    fn plain(facts: &'f Facts) -> Numbers<'f> {
        let numbers = &facts.numbers;
        Numbers {
            exact: numbers.range(),
            floats: numbers.floats,
            scales: numbers.scales.keys().copied().filter(|scale| *scale > 0).collect(),
            exponents: facts.count(Class::Exponent),
            infinities: facts.count(Class::Infinite),
            marked: facts.count(Class::Decimal) > 0,
            float32_loses: numbers.float32_loses.as_ref(),
            float64_loses: numbers.float64_loses.as_ref(),
        }
    }

    /// Adds those written in other ways, read by a mark.
    fn with_written(mut self, facts: &'f Facts, mark: Mark, view: &'f ViewFacts) -> Numbers<'f> {
        if mark == Mark::Comma {
            // What looked like decimals are integers in groups.
            self.exact = facts.numbers.range().filter(|_| facts.count(Class::Decimal) == 0);
            self.exact = join(self.exact, facts.numbers.small_range());
            let whole = |n: i128| Decimal { mantissa: n, scale: 0 };
            let groups = facts.numbers.as_groups.map(|(_, low, high)| (whole(low), whole(high)));
            self.exact = join(self.exact, groups);
            self.scales.clear();
            self.marked = false;
        }
        self.exact = join(self.exact, view.range);
        let scales = view.scales.keys().copied().filter(|scale| *scale > 0);
        self.scales.extend(scales);
        self.marked |= !self.scales.is_empty();
        self.float32_loses = first(self.float32_loses, view.float32_loses.as_ref());
        self.float64_loses = first(self.float64_loses, view.float64_loses.as_ref());
        self
    }
}

fn first<'f>(a: Option<&'f Example>, b: Option<&'f Example>) -> Option<&'f Example> {
    a.into_iter().chain(b).min_by_key(|example| example.place)
}

fn join(
    a: Option<(Decimal, Decimal)>,
    b: Option<(Decimal, Decimal)>,
) -> Option<(Decimal, Decimal)> {
    match (a, b) {
        (Some(a), Some(b)) => Some(wider(a, b)),
        (one, None) | (None, one) => one,
    }
}

/// The type of the integers of a column, whatever else is in it.
pub(super) fn integers(
    column: &ColumnFacts,
    facts: &Facts,
    rules: &Rules,
) -> Result<Decision, Clause> {
    // A plus on every value is how codes are written (calling codes, for one).
    if facts.count(Class::Signed) > 0 && facts.count(Class::Integer) == 0 {
        return Err(Clause::AllWithPlus);
    }
    let numbers = Numbers::plain(facts);
    match compact_days(column, facts, &numbers, rules) {
        Some(decision) => Ok(decision),
        // Where no integer type may be drafted, a float may hold them.
        None => {
            integer(&numbers, rules).or_else(|reason| fraction(&numbers, rules).or(Err(reason)))
        }
    }
}

/// The type of all plain numbers of a column, whatever else is in it.
pub(super) fn plain(facts: &Facts, rules: &Rules) -> Result<Decision, Clause> {
    if facts.count(Class::Signed) == facts.plain_count() {
        return Err(Clause::AllWithPlus);
    }
    let fractions = [Class::Decimal, Class::Exponent, Class::Infinite];
    if fractions.iter().all(|class| facts.count(*class) == 0) {
        return Err(Clause::AllIntegers);
    }
    fraction(&Numbers::plain(facts), rules)
}

/// The first number with an exponent, where none of them has a mark or a sign, nor has any other number:
/// codes are written like that.
pub(super) fn exponent_code(facts: &Facts) -> Option<Example> {
    let exponents = facts.count(Class::Exponent);
    let marks = [Class::Decimal, Class::Signed, Class::Infinite];
    let is_bare = facts.bare_exponents == exponents
        && marks.iter().all(|class| facts.count(*class) == 0)
        && facts.numbers.range().is_none_or(|(low, _)| low.mantissa >= 0);
    let tally = facts.tally(&[Class::Exponent]);
    tally.examples.into_iter().next().filter(|_| is_bare)
}

/// Whether every number that has a mark is an integer in groups if the mark is a comma: `1.234`.
pub(super) fn may_be_groups(facts: &Facts) -> bool {
    let decimals = facts.count(Class::Decimal);
    let exponents = facts.count(Class::Exponent) + facts.count(Class::Infinite);
    let groups = facts.numbers.as_groups.map_or(0, |(count, ..)| count);
    decimals > 0 && groups == decimals && exponents == 0
}

/// Why numbers that are written in other ways than plainly are not read by a mark, or how they are.
pub(super) fn written(facts: &Facts, mark: Mark, rules: &Rules) -> Result<Decision, Clause> {
    let none;
    let written = match &facts.written {
        Some(written) => written,
        None if mark == Mark::Comma && may_be_groups(facts) => {
            none = WrittenFacts::default();
            &none
        }
        None => return Err(Clause::AllPlain),
    };
    let view = &written.views[mark as usize];
    let mut style = style(facts, written, view, mark)?;
    let mut numbers = Numbers::plain(facts).with_written(facts, mark, view);
    if has_sides(facts) {
        // Which of them are negative is not known here: both ways have to fit.
        style.negative = rules.negative;
        let negated = |n: Decimal| Decimal { mantissa: -n.mantissa, scale: n.scale };
        numbers.exact =
            numbers.exact.map(|(low, high)| (low.min(negated(high)), high.max(negated(low))));
    }
    let signed = style.strip.is_empty() && style.grouping.is_some();
    if let Some((fewest, most)) = view.whole_digits
        && (signed && numbers.scales.is_empty() && fewest == most && most >= MIN_CODE_DIGITS)
        && view.read == facts.plain_count()
    {
        return Err(Clause::GroupsOfOneLength(most));
    }
    let mut decision =
        if numbers.marked { fraction(&numbers, rules)? } else { integer(&numbers, rules)? };
    let mut how = Vec::new();
    if !style.strip.is_empty() {
        how.push(Clause::SignAround(style.strip[0].clone()));
    }
    if let Some(grouping) = style.grouping {
        how.push(Clause::GroupedBy(grouping));
    }
    if mark == Mark::Comma && numbers.marked {
        how.push(Clause::DecimalCommas);
    }
    if style.accounting {
        how.push(Clause::AccountingNegatives(written.accounting));
    }
    if let Some(side) = style.negative {
        how.push(Clause::NegativeSide { count: written.sides[side as usize], side });
    }
    decision.evidence.splice(0..0, how);
    decision.style = style;
    Ok(decision)
}

/// Whether amounts stand on sides of an account.
pub(super) fn has_sides(facts: &Facts) -> bool {
    facts.written.as_ref().is_some_and(|written| written.sides != [0; Side::ALL.len()])
}

/// How the numbers are written, where they are all written alike.
fn style(
    facts: &Facts,
    written: &WrittenFacts,
    view: &ViewFacts,
    mark: Mark,
) -> Result<NumberStyle, Clause> {
    let plain = [Class::Integer, Class::Signed, Class::Decimal];
    let plain: u64 = plain.iter().map(|class| facts.count(*class)).sum();
    let mut signs = written.signs.keys();
    let strip = match (signs.next(), signs.next()) {
        _ if written.many_signs => return Err(Clause::TooManySigns),
        (None, _) => Vec::new(),
        (Some(sign), None) if sign.is_empty() => Vec::new(),
        (Some(sign), None) if plain == 0 => vec![String::from_utf8_lossy(sign).into_owned()],
        (Some(sign), None) => {
            return Err(Clause::SignAroundSome(String::from_utf8_lossy(sign).into_owned()));
        }
        _ => {
            let signs = written.signs.iter();
            let signs = signs.map(|(sign, n)| (String::from_utf8_lossy(sign).into_owned(), *n));
            return Err(Clause::ManySigns(signs.collect()));
        }
    };
    let mut groupings = view.groupings;
    if mark == Mark::Comma {
        groupings[Grouping::Point as usize] += facts.count(Class::Decimal);
    }
    let mut used = Grouping::ALL.into_iter().filter(|grouping| groupings[*grouping as usize] > 0);
    match (used.next(), used.next()) {
        (Some(Grouping::Comma), None) if written.in_twos > 0 && written.in_threes > 0 => {
            Err(Clause::GroupsOfTwoAndThree)
        }
        (Some(_), Some(_)) => Err(Clause::ManyGroupings),
        (grouping, _) => {
            let has_fraction = view.scales.keys().any(|scale| *scale > 0);
            // Where there is no fraction the mark says nothing, unless it is the other one that groups.
            let is_needed = has_fraction || grouping.is_some_and(|g| g.letter() == '.');
            let mark = if is_needed { mark } else { Mark::Point };
            let accounting = written.accounting > 0;
            Ok(NumberStyle { mark, grouping, strip, accounting, negative: None })
        }
    }
}

/// Values that a mark reads: those in other clothes, and the plain ones without an exponent.
pub(super) fn read_by(facts: &Facts, mark: Mark) -> u64 {
    let written = facts.written.as_ref().map_or(0, |written| written.views[mark as usize].read);
    let both = [Class::Integer, Class::Signed].map(|class| facts.count(class));
    let others = match mark {
        Mark::Point => facts.count(Class::Decimal),
        Mark::Comma => facts.numbers.as_groups.map_or(0, |(count, ..)| count),
    };
    written + both.iter().sum::<u64>() + others
}

/// Whether the marks make different numbers of the values.
pub(super) fn marks_differ(facts: &Facts) -> bool {
    facts.count(Class::Decimal) > 0
        || facts.written.as_ref().is_some_and(|written| {
            let [point, comma] = &written.views;
            point.scales != comma.scales
        })
}

/// Integers that are all days, or days with a time, written as digits alone.
fn compact_days(
    column: &ColumnFacts,
    facts: &Facts,
    numbers: &Numbers<'_>,
    rules: &Rules,
) -> Option<Decision> {
    let (low, high) = numbers.exact?;
    let all = facts.plain_count();
    let ways = [
        (facts.compact_days, Scalar::Date, "yyyyMMdd"),
        (
            facts.compact_times,
            Scalar::Timestamp { unit: TimeUnit::Second, utc: false },
            "yyyyMMddHHmmss",
        ),
    ];
    let found = ways.into_iter().find(|(count, ty, _)| *count == all && rules.never.allows(*ty));
    let (count, ty, pattern) = found.filter(|(count, ..)| *count > 0)?;
    if column.distinct().count < MIN_COMPACT_DAYS {
        return None;
    }
    let mut decision = Decision::new(ty);
    decision.patterns.push((pattern.into(), count));
    let moment = |number: i128| {
        let is_day = ty == Scalar::Date;
        let (day, time) =
            if is_day { (number, 0) } else { (number / 1_000_000, number % 1_000_000) };
        let days =
            days_from_civil((day / 10_000) as i32, (day / 100 % 100) as u32, (day % 100) as u32);
        let seconds = time / 10_000 * 3600 + time / 100 % 100 * 60 + time % 100;
        let nanos = i128::from(days) * i128::from(DAY_NANOS) + seconds * 1_000_000_000;
        if is_day { Extreme::Date(days) } else { Extreme::Instant { nanos, utc: false } }
    };
    decision.range = Some((moment(low.mantissa), moment(high.mantissa)));
    decision.evidence.push(match ty {
        Scalar::Date => Clause::CompactDays,
        _ => Clause::CompactTimes,
    });
    Some(decision)
}

fn integer(numbers: &Numbers<'_>, rules: &Rules) -> Result<Decision, Clause> {
    let (low, high) = numbers.exact.ok_or(Clause::NoIntegers)?;
    let (least, most) = (low.mantissa, high.mantissa);
    let seen = rules.narrowest(least, most);
    let stretched = rules.narrowest(rules.stretch(least).min(least), rules.stretch(most).max(most));
    // Headroom is for comfort: where only it asks for more than 64 bits, do without.
    let int = stretched.or(seen);
    let decimal = Scalar::Decimal { precision: digits(least).max(digits(most)), scale: 0 };
    let mut decision = match int {
        Some(int) => Decision::new(Scalar::Int(int)),
        None if rules.never.allows(decimal) => Decision::new(decimal),
        None => return Err(Clause::NoIntegerType),
    };
    if int.is_none() {
        decision.evidence.push(Clause::Over64Bits);
    }
    if let (Some(int), Some(seen)) = (int, seen)
        && bytes(seen) < bytes(int)
    {
        decision.notes.push(Clause::FitsWithoutHeadroom(seen));
    }
    decision.range = Some((Extreme::Number(low), Extreme::Number(high)));
    if (least, most) == (0, 1) {
        decision.notes.push(Clause::OnlyZeroAndOne);
    }
    for (scale, unit, pattern) in [(1, "seconds", "epoch-s"), (1000, "milliseconds", "epoch-ms")] {
        if least >= EPOCH_SECONDS.0 * scale && most <= EPOCH_SECONDS.1 * scale {
            decision.notes.push(Clause::Epoch { unit, pattern });
        }
    }
    Ok(decision)
}

/// Bytes of an integer of a type.
fn bytes(ty: IntType) -> u32 {
    let (low, high) = ty.range();
    (high - low).ilog2().div_ceil(8)
}

fn digits(number: i128) -> u8 {
    number.unsigned_abs().checked_ilog10().map_or(1, |log| log as u8 + 1)
}

/// The smallest decimal of a scale that holds the range with headroom; without it, where 38 digits are
/// not enough for both; `None` where they are not enough at all.
fn decimal(low: Decimal, high: Decimal, scale: u8, rules: &Rules) -> Option<Scalar> {
    let of = |value: Decimal, stretch: &dyn Fn(i128) -> i128| {
        let unscaled = value.at_scale(scale)?;
        let precision = digits(stretch(unscaled)).max(scale);
        (precision <= MAX_PRECISION).then_some(precision)
    };
    let with = |stretch: &dyn Fn(i128) -> i128| Some(of(low, stretch)?.max(of(high, stretch)?));
    let precision = with(&|value| rules.stretch(value)).or_else(|| with(&|value| value))?;
    let ty = Scalar::Decimal { precision: precision.max(1), scale };
    rules.never.allows(ty).then_some(ty)
}

fn fraction(numbers: &Numbers<'_>, rules: &Rules) -> Result<Decision, Clause> {
    let is_exact = numbers.exponents + numbers.infinities == 0;
    let longest = numbers.scales.last().copied().unwrap_or(0);
    let exact = || {
        let (low, high) = numbers.exact.filter(|_| is_exact)?;
        decimal(low, high, longest, rules)
    };
    let is_even = numbers.scales.len() <= 1 && longest <= MAX_DECIMAL_SCALE;
    let is_short = longest <= MAX_SHORT_SCALE
        && matches!(exact(), Some(Scalar::Decimal { precision, .. }) if precision <= MAX_SHORT_PRECISION);
    let would_not = |example: Option<&Example>, ty: Scalar| {
        example.map(|e| Clause::WouldNotSurvive { value: e.text(), ty })
    };
    let as_decimal = |clause: Option<Clause>| {
        let mut decision = Decision::new(exact()?);
        decision.evidence.extend(clause);
        Some(decision)
    };
    let as_float = || {
        let fits =
            [(Scalar::Float32, numbers.float32_loses), (Scalar::Float64, numbers.float64_loses)];
        let ty = fits.iter().find(|(ty, loses)| loses.is_none() && rules.never.allows(*ty))?.0;
        let mut decision = Decision::new(ty);
        decision.evidence.push(match would_not(numbers.float32_loses, Scalar::Float32) {
            Some(clause) => clause,
            None => Clause::Survives(ty),
        });
        Some(decision)
    };
    let even = || {
        Some(match longest {
            0 => Clause::MarkWithoutFraction,
            _ => Clause::FractionsOf(longest),
        })
    };
    let uneven = || would_not(numbers.float64_loses, Scalar::Float64);
    let clause = || if is_even { even() } else { uneven() };
    let lengths = || match is_even {
        true => even(),
        false => Some(Clause::FractionsUpTo(longest)),
    };
    let found = match rules.fractions {
        Fractions::Usual if is_even || is_short => as_decimal(lengths()).or_else(as_float),
        Fractions::Usual | Fractions::Float => as_float().or_else(|| as_decimal(clause())),
        Fractions::Exact => as_decimal(lengths()).or_else(as_float),
    };
    let Some(mut decision) = found else {
        return Err(match uneven() {
            Some(clause) => clause,
            None => Clause::NoNumberType,
        });
    };
    if numbers.infinities > 0 {
        decision.notes.push(Clause::Infinite(numbers.infinities));
    }
    decision.range = range(numbers);
    Ok(decision)
}

/// Smallest and largest number; exact unless numbers with an exponent are the extremes.
fn range(numbers: &Numbers<'_>) -> Option<(Extreme, Extreme)> {
    let exact = numbers.exact;
    let Some((float_low, float_high)) = numbers.floats else {
        return exact.map(|(low, high)| (Extreme::Number(low), Extreme::Number(high)));
    };
    let (mut low, mut high) = (Extreme::Float(float_low), Extreme::Float(float_high));
    if let Some((exact_low, exact_high)) = exact {
        if exact_low.to_f64() < float_low {
            low = Extreme::Number(exact_low);
        }
        if exact_high.to_f64() > float_high {
            high = Extreme::Number(exact_high);
        }
    }
    Some((low, high))
}

/// Values that keep a column of plain numbers from a narrower number type.
pub(super) fn narrower(decision: &Decision, facts: &Facts, rules: &Rules) -> Vec<Blocker> {
    match decision.ty {
        Scalar::Int(int) if facts.count(Class::Signed) == 0 => narrower_integers(int, facts, rules),
        Scalar::Float32 | Scalar::Float64 => narrower_fractions(decision.ty, facts, rules),
        _ => Vec::new(),
    }
}

fn narrower_integers(int: IntType, facts: &Facts, rules: &Rules) -> Vec<Blocker> {
    let tallies = facts.widths().iter().zip(WIDTHS);
    let mut blockers: Vec<Blocker> = Vec::new();
    for ty in IntType::ALL.into_iter().filter(|ty| bytes(*ty) < bytes(int)) {
        let (least, most) = ty.range();
        let outside = tallies
            .clone()
            .filter(|(_, (low, high))| *low < least || *high > most)
            .map(|(tally, _)| tally);
        let count: u64 = outside.clone().map(|tally| tally.count).sum();
        if count == 0 || !rules.never.allows(Scalar::Int(ty)) || !super::is_blocked(count, facts) {
            continue;
        }
        // Of the two types of a width, the one with fewer values in its way.
        let known = blockers.iter().position(|known| match known.ty {
            Scalar::Int(other) => bytes(other) == bytes(ty),
            _ => false,
        });
        match known {
            Some(at) if blockers[at].count <= count => continue,
            Some(at) => drop(blockers.remove(at)),
            None => {}
        }
        let Tally { examples, .. } = Tally::first_of(outside);
        blockers.push(Blocker { ty: Scalar::Int(ty), count, examples });
    }
    blockers
}

fn narrower_fractions(ty: Scalar, facts: &Facts, rules: &Rules) -> Vec<Blocker> {
    let numbers: &NumberFacts = &facts.numbers;
    let mut blockers = Vec::new();
    let exponents = facts.tally(&[Class::Exponent, Class::Infinite]);
    // A decimal of the scale that nearly all fractions have.
    if let Some((scale, usual)) = numbers.scales.iter().max_by_key(|(_, tally)| tally.count)
        && *scale <= MAX_DECIMAL_SCALE
    {
        let others = numbers.scales.iter().filter(|(other, _)| **other != *scale && **other > 0);
        let mut others = Tally::first_of(others.map(|(_, tally)| tally).chain([&exponents]));
        let fits = numbers.range().and_then(|(low, high)| {
            decimal(low.rounded_away(*scale)?, high.rounded_away(*scale)?, *scale, rules)
        });
        if let Some(ty) = fits
            && usual.count >= others.count
            && others.count > 0
            && super::is_blocked(others.count, facts)
        {
            let examples = std::mem::take(&mut others.examples);
            blockers.push(Blocker { ty, count: others.count, examples });
        }
    }
    let losses = &numbers.float32_losses;
    let integers_survive = numbers
        .small_range()
        .is_none_or(|(low, high)| low.mantissa >= -FLOAT32_SURE && high.mantissa <= FLOAT32_SURE);
    if ty == Scalar::Float64
        && integers_survive
        && losses.count > 0
        && losses.count < MOST_LOSSES
        && super::is_blocked(losses.count, facts)
        && rules.never.allows(Scalar::Float32)
    {
        let Tally { count, examples } = losses.clone();
        blockers.push(Blocker { ty: Scalar::Float32, count, examples });
    }
    blockers
}
