//! What every clause says: the one place where evidence has words.

use std::fmt::{self, Display, Formatter};

use super::{Asked, Cited, Clause, Line};
use crate::dates::format_days;
use crate::readings::Length;
use crate::schema::{Scalar, quoted};
use crate::wording::{counted, grouped, shown};

impl Display for Line {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "line {}", grouped(self.place.line))?;
        match &self.file {
            Some(file) => write!(f, " of {file}"),
            None => Ok(()),
        }
    }
}

impl Display for Cited {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{} in {}", shown(&self.value), self.line)
    }
}

/// ": 'n/k' in line 7", where there is an example.
struct Behind<'c>(&'c Option<Cited>);

impl Display for Behind<'_> {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        self.0.as_ref().map_or(Ok(()), |cited| write!(f, ": {cited}"))
    }
}

impl Display for Clause {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Clause::NeverAValue => f.write_str("never a value"),
            Clause::AlwaysTheSame => f.write_str("always the same"),
            Clause::AllDistinct => f.write_str("all distinct"),
            Clause::Padded(count) => {
                write!(f, "{} with white space around", counted(*count, "value"))
            }
            Clause::NotUtf8 { count, first } => {
                write!(f, "{} not valid UTF-8, first in {first}", counted(*count, "value"))
            }
            Clause::TokenIsValue { token, count } => {
                write!(f, "'{token}' ({}) is a value here, not absent", counted(*count, "time"))
            }
            Clause::Excluded(ty) => write!(f, "{ty} is excluded by --never"),
            Clause::ButFor { ty, count, first } => {
                write!(f, "would be {ty} but for {}{}", counted(*count, "value"), Behind(first))
            }
            Clause::Tolerated { count, first } => {
                write!(f, "{} tolerated{}", counted(*count, "misfit"), Behind(first))
            }
            Clause::Quoted { count, first } => {
                write!(f, "{} in quotes{}", counted(*count, "value"), Behind(first))
            }
            Clause::MixedKinds(kinds) => {
                for (at, (kind, count, line)) in kinds.iter().enumerate() {
                    let before = if at == 0 { "" } else { ", " };
                    if *count == 1 {
                        write!(f, "{before}{} in {line}", kind.name())?;
                    } else {
                        write!(f, "{before}{} {} from {line} on", grouped(*count), kind.plural())?;
                    }
                }
                f.write_str(" at one path: all are kept as texts")
            }
            Clause::NumbersInTexts { count, first } => {
                let texts = counted(*count, "number");
                let verb = if *count == 1 { "is a text" } else { "are texts" };
                write!(f, "{texts} {verb} in quotes{}; strings = numbers reads them", Behind(first))
            }
            Clause::Asked { about, lines } => write!(f, "{about} {}", lines.join(" or ")),
            Clause::ManyWays(lines) => write!(f, "more than one way: {}", lines.join(" or ")),
            Clause::AllAre(ty) => write!(f, "all are {}", form(*ty)),
            Clause::ChecksumsOrUuids => f.write_str(
                "32 hexadecimal digits: checksums, or UUIDs? type = \"uuid\" would read them",
            ),
            Clause::BoolCounts { pair, yes, no } => {
                write!(f, "{} {}, {} {}", grouped(*yes), pair.yes, grouped(*no), pair.no)
            }
            Clause::ManyBoolPairs(pairs) => {
                let pairs: Vec<_> =
                    pairs.iter().map(|pair| format!("{}/{}", pair.yes, pair.no)).collect();
                write!(f, "words of more than one pair: {}", pairs.join(", "))
            }
            Clause::HalfOfPair(pair) => write!(f, "only one of {}/{}", pair.yes, pair.no),
            Clause::Longest(chars) => write!(f, "longest {}", counted(*chars, "character")),
            Clause::OneLength(chars) => write!(f, "all have {}", counted(*chars, "character")),
            Clause::CodesAgainstText { codes, text } => write!(
                f,
                "{} as codes, {} as text",
                counted(*codes, "byte"),
                counted(*text, "byte")
            ),
            Clause::Saving { distinct, factor } => {
                write!(f, "{}; {factor:.1}x smaller than text", counted(*distinct, "value"))
            }
            Clause::Ladder(values) => {
                let values: Vec<_> = values.iter().map(|value| quoted(value)).collect();
                write!(f, "a ladder? ranked = true, values = [{}]", values.join(", "))
            }
            Clause::AllLeadingZeros => f.write_str("digits, all start with 0"),
            Clause::LeadingZeros { count, first } => {
                let start = if *count == 1 { "starts" } else { "start" };
                write!(f, "digits, but {} {start} with 0: {first}", grouped(*count))
            }
            Clause::AllWithPlus => f.write_str("digits, all with a plus"),
            Clause::ExponentCodes { ty, first } => write!(
                f,
                "digits, an E and digits: codes? type = \"{ty}\" would read them as numbers: {first}"
            ),
            Clause::GroupsOfOneLength(digits) => {
                write!(f, "digits in groups, all of {digits}: numbers, or codes?")
            }
            Clause::AllIntegers => f.write_str("all are integers"),
            Clause::NoIntegers => f.write_str("no integers"),
            Clause::AllPlain => f.write_str("all are written plainly"),
            Clause::Over64Bits => f.write_str("more than 64 bits"),
            Clause::FitsWithoutHeadroom(ty) => {
                write!(f, "would fit {} without the headroom", ty.name())
            }
            Clause::OnlyZeroAndOne => f.write_str("only 0 and 1: could be bool"),
            Clause::Epoch { unit, pattern } => {
                write!(f, "could be {unit} since 1970: patterns = [\"{pattern}\"] would read them")
            }
            Clause::CompactDays => f.write_str("all are days in eight digits"),
            Clause::CompactTimes => f.write_str("all are days and times in fourteen digits"),
            Clause::NoIntegerType => f.write_str("no type that may be drafted holds the integers"),
            Clause::NoNumberType => f.write_str("no type that may be drafted holds the numbers"),
            Clause::Giants { count, first } => {
                let of = count.map_or("all".into(), grouped);
                write!(
                    f,
                    "numbers, {of} of more than 38 digits, which no number type holds: {first}"
                )
            }
            Clause::WouldNotSurvive { value, ty } => {
                write!(f, "{} would not survive {ty}", shown(value))
            }
            Clause::Survives(ty) => write!(f, "every value survives {ty}"),
            Clause::MarkWithoutFraction => f.write_str("a mark and no fraction"),
            Clause::FractionsOf(digits) => {
                write!(f, "all fractions have {}", counted((*digits).into(), "digit"))
            }
            Clause::FractionsUpTo(digits) => {
                write!(f, "fractions of up to {}", counted((*digits).into(), "digit"))
            }
            Clause::Infinite(count) => f.write_str(&counted(*count, "infinite value")),
            Clause::OneNumber(pair) => {
                let [one, other] = &**pair;
                write!(f, "two texts, one number: {one} and {other}")
            }
            Clause::MarkSaid(mark) => write!(f, "the decimal mark is '{}', as said", mark.letter()),
            Clause::MarkProven { mark, column } => {
                write!(f, "the decimal mark is '{}', as column '{column}' proves", mark.letter())
            }
            Clause::NoComma => f.write_str("nothing says that the decimal mark is a comma"),
            Clause::DecimalCommas => f.write_str("decimal commas"),
            Clause::SignAround(sign) => write!(f, "{} around every value", shown(sign)),
            Clause::SignAroundSome(sign) => {
                write!(f, "'{sign}' stands around some numbers, and not around others")
            }
            Clause::ManySigns(signs) => {
                let named = signs.iter().map(|(sign, count)| {
                    let what = if sign.is_empty() { "nothing".into() } else { format!("'{sign}'") };
                    format!("{what} {}", counted(*count, "time"))
                });
                let named: Vec<_> = named.collect();
                write!(f, "not one sign around every number: {}", named.join(", "))
            }
            Clause::TooManySigns => f.write_str("many kinds of signs around the numbers"),
            Clause::GroupedBy(grouping) => write!(f, "digits in groups by '{}'", grouping.letter()),
            Clause::GroupsOfTwoAndThree => f.write_str("digits are grouped by threes and by twos"),
            Clause::ManyGroupings => f.write_str("digits are grouped in more than one way"),
            Clause::AccountingNegatives(count) => {
                write!(f, "{} negative as in accounts", grouped(*count))
            }
            Clause::NegativeSide { count, side } => {
                write!(f, "{} marked {} and negative, as said", grouped(*count), side.name())
            }
            Clause::DateOrder(order) => f.write_str(order.words()),
            Clause::OrderProven { order, by } => write!(f, "{}: {by}", order.words()),
            Clause::OrderSaid(order) => write!(f, "{}, as said", order.words()),
            Clause::OrderOfColumn { order, column } => {
                write!(f, "{}, as column '{column}' proves", order.words())
            }
            Clause::OtherOrder => f.write_str("another order reads as many, or more"),
            Clause::ManyOrders => f.write_str("more than one order reads them"),
            Clause::NoSuchDay(cited) => write!(f, "dates but for days that do not exist: {cited}"),
            Clause::NoOrder(cited) => {
                let cited: Vec<_> = cited.iter().map(Cited::to_string).collect();
                write!(f, "dates, but no order of day and month reads all: {}", cited.join(", "))
            }
            Clause::TooManyShapes => f.write_str("too many ways of writing a date"),
            Clause::NoLanguage => f.write_str("no language has all the names in its dates"),
            Clause::Language(locale) => write!(f, "names in the language '{locale}'"),
            Clause::MixedWeekdays => {
                f.write_str("some weekdays are abbreviated and some written out")
            }
            Clause::DatesAndTimes => f.write_str("dates and times of day are mixed"),
            Clause::SomeOffsets => {
                f.write_str("some of the times have an offset and some have none")
            }
            Clause::BeyondNanoseconds => f.write_str("nanoseconds do not reach these years"),
            Clause::NoDates => f.write_str("no values"),
            Clause::StillToCome { latest, this_year, pivot } => write!(
                f,
                "two-digit years reach {}, which is still to come; pivot = {pivot} makes of them years from {pivot} to \
                 {this_year}",
                format_days(*latest)
            ),
            Clause::Lengths { kinds, others, first } => {
                let kinds: Vec<_> = kinds.iter().copied().map(Length::words).collect();
                f.write_str(&kinds.join(", "))?;
                if *others > 0 {
                    write!(f, " but for {}", counted(*others, "value"))?;
                }
                write!(f, "{}", Behind(first))
            }
            Clause::UnfixedLengths => f.write_str(
                "lengths of time, some of them in years or months, which have no fixed length",
            ),
            Clause::LengthsBeyond(unit) => {
                write!(f, "lengths of time that no duration({}) holds", unit.name())
            }
        }
    }
}

impl Display for Asked {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Asked::Dates => f.write_str("a date, but which?"),
            Asked::Marks => f.write_str("a number, but which?"),
            Asked::Sides => f.write_str("amounts on two sides, but which one is negative?"),
            Asked::SameNumber(pair) => {
                let [one, other] = &**pair;
                write!(f, "{one} and {other} are one number, or two versions?")
            }
        }
    }
}

/// What values of a form are called.
fn form(ty: Scalar) -> &'static str {
    match ty {
        Scalar::Uuid => "UUIDs",
        Scalar::Ip => "network addresses",
        Scalar::Geopoint => "latitude and longitude",
        Scalar::Json => "JSON objects or arrays",
        _ => "of one form",
    }
}
