//! What speaks for a type, against a narrower one, or is worth knowing, as typed clauses.
//!
//! A [`Clause`] carries what it is about: counts, types, values with their places. What it says to a person is
//! its `Display`, in [`words`] and nowhere else, so that a report, a comment in a draft and a reason why a
//! reading fails cannot drift apart, and nothing has to be read out of a sentence again.

mod words;

use super::{About, Choice};
use crate::dates::DateOrder;
use crate::readings::{BoolPair, Grouping, Length, Mark, Side};
use crate::records::PathKind;
use crate::schema::{IntType, Scalar, TimeUnit};
use crate::survey::Example;
use crate::text::LineRef;

/// A line of an input, with the name of its file where there are several: "line 59 of 2024-01.csv".
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// The part and the line.
    pub place: LineRef,
    /// The name of the file without its directory, where there are several.
    pub file: Option<String>,
}

impl Line {
    /// A line of one of these files.
    pub fn of(place: LineRef, files: &[String]) -> Line {
        let file = files.get(place.part as usize).filter(|_| files.len() > 1);
        let file = file.map(|file| file.rsplit(['/', '\\']).next().unwrap_or(file).to_owned());
        Line { place, file }
    }
}

/// A value and where it stands: "'n/k' in line 7".
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cited {
    /// The value, as a person may read it.
    pub value: String,
    /// Where it was first seen.
    pub line: Line,
}

impl Cited {
    /// An example out of one of these files.
    pub fn of(example: &Example, files: &[String]) -> Cited {
        Cited { value: example.text(), line: Line::of(example.place, files) }
    }
}

/// One thing to say about a column: evidence, a note, or the reason why a reading gives no type.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub enum Clause {
    /// No record has a value.
    NeverAValue,
    /// Every value is the same one.
    AlwaysTheSame,
    /// No value stands twice.
    AllDistinct,
    /// So many values have white space around them.
    Padded(u64),
    /// So many values are not valid UTF-8.
    NotUtf8 {
        /// How many.
        count: u64,
        /// The first.
        first: Line,
    },
    /// A well-known token for "no value" that is a value here.
    TokenIsValue {
        /// The token.
        token: &'static str,
        /// How often it stands here.
        count: u64,
    },
    /// A type that rules exclude.
    Excluded(Scalar),
    /// A narrower type that all but a few values allow.
    ButFor {
        /// The narrower type.
        ty: Scalar,
        /// How many values rule it out.
        count: u64,
        /// The first of them.
        first: Option<Cited>,
    },
    /// Misfits of a type that were tolerated.
    Tolerated {
        /// How many.
        count: u64,
        /// The first.
        first: Option<Cited>,
    },
    /// Values in quotes, where those are said to be text.
    Quoted {
        /// How many.
        count: u64,
        /// The first.
        first: Option<Cited>,
    },
    /// Values of several kinds at one path: each kind, how many, and where the first stands.
    MixedKinds(Vec<(PathKind, u64, Line)>),
    /// Numbers that stand in texts of a format that tells both apart.
    NumbersInTexts {
        /// How many texts there are.
        count: u64,
        /// The first.
        first: Option<Cited>,
    },
    /// A question that the data does not answer.
    Asked {
        /// What is asked.
        about: Asked,
        /// The lines of a schema that would answer it.
        lines: Vec<String>,
    },
    /// More than one way to read the values, each as a line of a schema.
    ManyWays(Vec<String>),

    /// Every value is of this form.
    AllAre(Scalar),
    /// Hexadecimal digits that may be checksums.
    ChecksumsOrUuids,

    /// How often each word of a pair stands.
    BoolCounts {
        /// The words.
        pair: &'static BoolPair,
        /// How often the word for true.
        yes: u64,
        /// How often the word for false.
        no: u64,
    },
    /// Words of several pairs in one column.
    ManyBoolPairs(Vec<&'static BoolPair>),
    /// One word of a pair of single letters.
    HalfOfPair(&'static BoolPair),

    /// Numbers that are codes, since all of them start with 0.
    AllLeadingZeros,
    /// Some numbers start with 0.
    LeadingZeros {
        /// How many.
        count: u64,
        /// The first.
        first: Cited,
    },
    /// Numbers that are codes, since all of them have a plus.
    AllWithPlus,
    /// Digits, an E and digits.
    ExponentCodes {
        /// The type that would read them as numbers.
        ty: Scalar,
        /// The first.
        first: Cited,
    },
    /// Grouped digits, all of one length.
    GroupsOfOneLength(u8),
    /// Nothing but integers.
    AllIntegers,
    /// Nothing that is an integer.
    NoIntegers,
    /// Nothing in other clothes than plain ones.
    AllPlain,
    /// More than 64 bits.
    Over64Bits,
    /// A narrower integer would hold what was seen.
    FitsWithoutHeadroom(IntType),
    /// Nothing but 0 and 1.
    OnlyZeroAndOne,
    /// Integers in the range of an epoch, with the pattern that would read them.
    Epoch {
        /// What they would count since 1970.
        unit: &'static str,
        /// The pattern.
        pattern: &'static str,
    },
    /// All are days in eight digits.
    CompactDays,
    /// All are days and times in fourteen digits.
    CompactTimes,
    /// No type that rules allow holds the integers.
    NoIntegerType,
    /// No type that rules allow holds the numbers.
    NoNumberType,
    /// Numbers of more digits than any number type holds.
    Giants {
        /// How many; all, where nothing is said.
        count: Option<u64>,
        /// The first.
        first: Cited,
    },
    /// A value that a float would change.
    WouldNotSurvive {
        /// The value.
        value: String,
        /// The float.
        ty: Scalar,
    },
    /// Every value survives a float.
    Survives(Scalar),
    /// Numbers with a mark and no digit behind it.
    MarkWithoutFraction,
    /// All fractions have so many digits.
    FractionsOf(u8),
    /// Fractions have at most so many digits.
    FractionsUpTo(u8),
    /// So many values are infinite.
    Infinite(u64),
    /// Two texts that are one number.
    OneNumber(Box<[Cited; 2]>),

    /// The decimal mark that a person said.
    MarkSaid(Mark),
    /// The decimal mark that another column proves.
    MarkProven {
        /// The mark.
        mark: Mark,
        /// The column.
        column: String,
    },
    /// Nothing says that the decimal mark is a comma.
    NoComma,
    /// Decimal commas.
    DecimalCommas,
    /// A sign around every value.
    SignAround(String),
    /// A sign around some values and not around others.
    SignAroundSome(String),
    /// Several signs around values, with how often; the empty one is none.
    ManySigns(Vec<(String, u64)>),
    /// More signs than are told apart.
    TooManySigns,
    /// Digits in groups.
    GroupedBy(Grouping),
    /// Digits in groups of two and of three.
    GroupsOfTwoAndThree,
    /// Digits grouped by more than one mark.
    ManyGroupings,
    /// So many numbers are accounting negatives.
    AccountingNegatives(u64),
    /// So many amounts are on the side that was said to be negative.
    NegativeSide {
        /// How many.
        count: u64,
        /// Which side.
        side: Side,
    },

    /// The order of a date's fields.
    DateOrder(DateOrder),
    /// The order that a value proves.
    OrderProven {
        /// The order.
        order: DateOrder,
        /// The value.
        by: Cited,
    },
    /// The order that a person said.
    OrderSaid(DateOrder),
    /// The order that another column proves.
    OrderOfColumn {
        /// The order.
        order: DateOrder,
        /// The column.
        column: String,
    },
    /// Another order reads as many.
    OtherOrder,
    /// More than one order reads them.
    ManyOrders,
    /// Dates but for days that do not exist.
    NoSuchDay(Cited),
    /// Dates that no one order reads.
    NoOrder(Vec<Cited>),
    /// More ways of writing a date than are told apart.
    TooManyShapes,
    /// No language has all the names.
    NoLanguage,
    /// The language of names.
    Language(String),
    /// Some weekdays are abbreviated.
    MixedWeekdays,
    /// Dates and times of day in one column.
    DatesAndTimes,
    /// Offsets on some of the times only.
    SomeOffsets,
    /// Years that nanoseconds do not reach.
    BeyondNanoseconds,
    /// Nothing that could be a date.
    NoDates,
    /// Years of two digits that end in the future.
    StillToCome {
        /// The latest day, in days since 1970-01-01.
        latest: i32,
        /// The year it is.
        this_year: i32,
        /// The pivot that makes past years of them.
        pivot: i32,
    },
    /// How lengths of time are written.
    Lengths {
        /// The ways.
        kinds: Vec<Length>,
        /// Values that are none.
        others: u64,
        /// The first length, where it is to be named.
        first: Option<Cited>,
    },
    /// Lengths in years or months.
    UnfixedLengths,
    /// Lengths beyond what a duration of this unit holds.
    LengthsBeyond(TimeUnit),

    /// The longest text.
    Longest(u64),
    /// All texts have so many characters.
    OneLength(u64),
    /// What codes and texts would take.
    CodesAgainstText {
        /// Bytes as codes.
        codes: u64,
        /// Bytes as text.
        text: u64,
    },
    /// Distinct values, and by which factor codes are smaller.
    Saving {
        /// Distinct values.
        distinct: u64,
        /// Bytes as text, divided by bytes as codes.
        factor: f64,
    },
    /// Values that may have an order, from low to high.
    Ladder(Vec<String>),
}

/// What an open question is about, as a clause names it.
#[derive(Debug, Clone, PartialEq)]
pub enum Asked {
    /// The order of dates.
    Dates,
    /// The decimal mark.
    Marks,
    /// Which side of an account is negative.
    Sides,
    /// Whether two texts are one number.
    SameNumber(Box<[Cited; 2]>),
}

impl Clause {
    /// The clause of a question, its examples out of one of these files.
    pub(super) fn asked(about: &About, choices: &[Choice], files: &[String]) -> Clause {
        let about = match about {
            About::Dates => Asked::Dates,
            About::Marks => Asked::Marks,
            About::Sides => Asked::Sides,
            About::SameNumber(pair) => Asked::SameNumber(Box::new(
                pair.each_ref().map(|example| Cited::of(example, files)),
            )),
        };
        Clause::Asked { about, lines: choices.iter().map(Choice::line).collect() }
    }
}
