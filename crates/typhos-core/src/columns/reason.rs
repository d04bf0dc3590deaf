//! Misfits: what does not fit, where, and why; and the account of a run.

use std::fmt;

use crate::dates::{Misread, Pattern};
use crate::readings::NumberStyle;
use crate::records::JsonFault;
use crate::schema::{Misfit, Scalar};
use crate::text::LineRef;

/// Why a value does not fit.
#[derive(Debug, Clone, PartialEq)]
pub enum Reason {
    /// It is not a value of the type at all.
    NotA(Scalar),
    /// It is not a number written as the column declares its numbers to be.
    NotWritten {
        /// The type.
        ty: Scalar,
        /// How its numbers are written.
        style: NumberStyle,
    },
    /// It is a number, and not one that the type holds.
    OutOfRange(Scalar),
    /// It is a number with a fraction, and the type holds integers.
    NotWhole(Scalar),
    /// It is finer than the type keeps.
    TooPrecise(Scalar),
    /// It is absent in a required column.
    Absent,
    /// It is longer than the text may be.
    TooLong {
        /// Its length in characters.
        chars: usize,
        /// The most there may be.
        most: u32,
    },
    /// It is not one of the values of a category.
    NotListed {
        /// The value that was most likely meant.
        near: Option<String>,
    },
    /// It is below or above the declared bound.
    Beyond {
        /// `low` or `high`.
        key: &'static str,
        /// The bound, as declared.
        bound: String,
    },
    /// No pattern reads it. The reason given is that of the pattern that came furthest.
    Date(String),
    /// It lies outside of what the unit can hold.
    OutOfTime(Scalar),
    /// Its bytes are not valid UTF-8.
    NotUtf8 {
        /// The first byte that is not.
        byte: u8,
    },
    /// Of the columns that it is joined of some are absent, and others are not.
    Incomplete {
        /// The columns that are absent, in the order they are joined, from 1.
        lacks: Vec<usize>,
    },
    /// It is not the text of a JSON array or object, as the type has it.
    NotNested(JsonFault),
    /// It nests, and something inside of it does not fit.
    Within(Box<Within>),
    /// The record could not be split.
    Broken(String),
    /// The target refused the row that was made of the record, with words of its own.
    Refused(String),
}

/// What does not fit inside of a value.
#[derive(Debug, Clone, PartialEq)]
pub struct Within {
    /// Where it is, from the name of the column on: `[2].rpm`. Elements count from 0, as in a path of JSON.
    pub path: String,
    /// It, as text; long ones are cut.
    pub value: String,
    /// Why it does not fit.
    pub reason: Reason,
    /// What happens to it.
    pub policy: Misfit,
}

impl Within {
    /// A misfit that is the value itself, under the policy of its field; one that is inside of it stays what it is.
    pub(super) fn of(reason: Reason, value: &[u8], policy: Misfit) -> Within {
        match reason {
            Reason::Within(within) => *within,
            reason => Within { path: String::new(), value: shown(value), reason, policy },
        }
    }
}

impl Reason {
    /// The same reason, seen from around what it is inside of.
    pub(super) fn inside(mut self, step: &str) -> Reason {
        if let Reason::Within(within) = &mut self {
            within.path.insert_str(0, step);
        }
        self
    }

    #[cold]
    pub(super) fn date(value: &[u8], tried: &[(&Pattern, Misread)]) -> Reason {
        let described = tried.iter().map(|(pattern, misread)| {
            format!("'{}': {}", pattern.source(), misread.describe(value, pattern))
        });
        Reason::Date(described.collect::<Vec<_>>().join("; "))
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Reason::NotA(ty) => match ty {
                Scalar::Int(_) => write!(f, "is not an integer"),
                Scalar::Bool => {
                    write!(f, "is not a bool: true/false, t/f, yes/no, y/n, on/off, 1/0")
                }
                _ if ty.is_number() => write!(f, "is not a number"),
                Scalar::Ip => write!(f, "is not an IPv4 or IPv6 address"),
                Scalar::Uuid => {
                    write!(f, "is not a UUID: 32 hexadecimal digits in groups of 8-4-4-4-12")
                }
                Scalar::Geopoint => {
                    write!(f, "is not a point: latitude, comma, longitude in degrees")
                }
                Scalar::Json => write!(f, "is not a JSON object or array"),
                _ => write!(f, "is not a valid {ty}"),
            },
            Reason::NotWritten { ty, style } => {
                let what = if matches!(ty, Scalar::Int(_)) { "an integer" } else { "a number" };
                write!(f, "is not {what} with the decimal mark '{}'", style.mark.letter())?;
                match style.grouping {
                    Some(grouping) => write!(f, " and digits grouped by '{}'", grouping.letter()),
                    None => write!(f, " and no groups"),
                }
            }
            Reason::OutOfRange(Scalar::Int(int)) => {
                let (low, high) = int.range();
                write!(f, "is outside of {}: {low} to {high}", int.name())
            }
            Reason::OutOfRange(ty) => write!(f, "is outside of what {ty} holds"),
            Reason::NotWhole(ty) => {
                write!(
                    f,
                    "has a fraction, and {ty} has none; rounding = \"half-even\" would round it"
                )
            }
            Reason::TooPrecise(ty) => match ty {
                Scalar::Decimal { scale, .. } => {
                    write!(f, "has more than {scale} digits after the mark")
                }
                Scalar::Float32 | Scalar::Float64 => write!(
                    f,
                    "is another number as {ty}; rounding = \"half-even\" would take the nearest"
                ),
                Scalar::Date => write!(
                    f,
                    "has a time of day, and a date keeps midnight only; rounding = \"down\" would drop it"
                ),
                _ => write!(f, "is finer than {ty} keeps; rounding = \"down\" would cut it"),
            },
            Reason::Absent => write!(f, "is absent, and the column is required"),
            Reason::TooLong { chars, most } => {
                write!(f, "has {chars} characters, {most} are allowed; text({chars}) would do")
            }
            Reason::NotListed { near: Some(near) } => {
                write!(f, "is not in the list of values; did you mean '{near}'?")
            }
            Reason::NotListed { near: None } => write!(f, "is not in the list of values"),
            Reason::Beyond { key: "low", bound } => {
                write!(f, "is below the declared low of {bound}")
            }
            Reason::Beyond { bound, .. } => write!(f, "is above the declared high of {bound}"),
            Reason::Date(tried) => write!(f, "is not read by {tried}"),
            Reason::OutOfTime(ty) => write!(f, "lies outside of what {ty} holds"),
            Reason::NotUtf8 { byte } => write!(f, "is not valid UTF-8 (byte 0x{byte:02x})"),
            Reason::Incomplete { lacks } => {
                let lacks: Vec<_> = lacks.iter().map(ToString::to_string).collect();
                write!(f, "has some source columns that are absent: number {}", lacks.join(", "))
            }
            Reason::NotNested(fault @ JsonFault::Other { .. }) => fault.fmt(f),
            Reason::NotNested(fault) => write!(f, "is not JSON: it {fault}"),
            Reason::Within(within) => within.reason.fmt(f),
            Reason::Broken(what) => f.write_str(what),
            Reason::Refused(words) => write!(f, "is refused: {words}"),
        }
    }
}

/// A value that does not fit.
#[derive(Debug, Clone, PartialEq)]
pub struct MisfitValue {
    /// Where its record starts.
    pub place: LineRef,
    /// The declared column, by its position in the schema; `None` for a record that could not be split.
    pub column: Option<usize>,
    /// Where in the value of that column it is; empty for the value itself.
    pub path: Box<str>,
    /// The value, or the broken record; long ones are cut.
    pub value: String,
    /// Why it does not fit.
    pub reason: Reason,
}

/// Most bytes of a value that are kept for messages.
const SHOWN: usize = 120;

/// A value as it is kept for messages.
fn shown(value: &[u8]) -> String {
    let cut = &value[..value.len().min(SHOWN)];
    let mut text = crate::lossless(cut);
    if cut.len() < value.len() {
        text.push('…');
    }
    text
}

impl MisfitValue {
    /// A misfit, of which no more is kept than is shown.
    pub fn new(place: LineRef, column: Option<usize>, value: &[u8], reason: Reason) -> MisfitValue {
        match reason {
            Reason::Within(within) => {
                let Within { path, value, reason, .. } = *within;
                MisfitValue { place, column, path: path.into(), value, reason }
            }
            reason => MisfitValue { place, column, path: "".into(), value: shown(value), reason },
        }
    }
}

/// A record kept out of the load.
#[derive(Debug, Clone, PartialEq)]
pub struct SetAside {
    /// Why, by its first misfit.
    pub misfit: MisfitValue,
    /// Its bytes, as they stand in the file, without the line end.
    pub record: Vec<u8>,
    /// Fields that it leaves out at its end.
    pub missing: usize,
}

/// Most misfits of a column that are shown.
pub const MAX_MISFIT_EXAMPLES: usize = 5;

/// The misfits of one column.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ColumnMisfits {
    /// How many values do not fit.
    pub count: u64,
    /// The first of them.
    pub examples: Vec<MisfitValue>,
    /// Characters of the longest text that was too long; 0 where none was.
    pub longest: usize,
}

impl ColumnMisfits {
    pub(super) fn note(&mut self, reason: &Reason, misfit: impl FnOnce() -> MisfitValue) {
        self.count += 1;
        if let Reason::TooLong { chars, .. } = reason {
            self.longest = self.longest.max(*chars);
        }
        if self.examples.len() < MAX_MISFIT_EXAMPLES {
            self.examples.push(misfit());
        }
    }

    fn add(&mut self, later: &ColumnMisfits) {
        self.count += later.count;
        self.longest = self.longest.max(later.longest);
        let room = MAX_MISFIT_EXAMPLES - self.examples.len();
        self.examples.extend(later.examples.iter().take(room).cloned());
    }
}

/// What became of every record of a run.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Account {
    /// Records read.
    pub read: u64,
    /// Records converted.
    pub loaded: u64,
    /// Records kept out.
    pub set_aside: u64,
    /// Records that were converted, and whose rows the target had already.
    pub there_already: u64,
    /// Records that are no row, since their list has no elements and that was declared.
    pub without_elements: u64,
    /// Values made null because they did not fit.
    pub nulled: u64,
    /// Misfits per declared column.
    pub columns: Vec<ColumnMisfits>,
    /// Values of each declared column that were rounded or cut, as it declares, in records loaded.
    pub changed: Vec<u64>,
    /// Records that could not be split, and those whose rows the target refused.
    pub broken: ColumnMisfits,
}

impl Account {
    /// An account of nothing yet.
    pub fn new(columns: usize) -> Account {
        Account {
            columns: vec![ColumnMisfits::default(); columns],
            changed: vec![0; columns],
            ..Account::default()
        }
    }

    /// Adds the account of what follows in the input.
    pub fn add(&mut self, later: &Account) {
        self.read += later.read;
        self.loaded += later.loaded;
        self.set_aside += later.set_aside;
        self.there_already += later.there_already;
        self.nulled += later.nulled;
        self.without_elements += later.without_elements;
        self.broken.add(&later.broken);
        for (ours, theirs) in self.columns.iter_mut().zip(&later.columns) {
            ours.add(theirs);
        }
        for (ours, theirs) in self.changed.iter_mut().zip(&later.changed) {
            *ours += theirs;
        }
        self.assert_balance();
    }

    /// Nothing is lost: every record read was loaded, there already, or set aside.
    ///
    /// # Panics
    /// If that does not hold. It is the promise of the program, so a run that broke it must not end
    /// as if it were well.
    pub fn assert_balance(&self) {
        let kept = self.loaded + self.there_already;
        assert_eq!(self.read, kept + self.set_aside, "records read = loaded + set aside");
    }

    /// Notes that the target had the rows of some converted records already, and did not take them.
    pub fn leave_out(&mut self, records: u64) {
        self.loaded -= records;
        self.there_already += records;
    }

    /// Notes that the target refused the row of a record that was converted: it is set aside.
    pub fn refuse(&mut self, aside: &SetAside) {
        self.loaded -= 1;
        self.set_aside += 1;
        self.broken.note(&aside.misfit.reason, || aside.misfit.clone());
    }

    /// Values and records that do not fit.
    pub fn misfits(&self) -> u64 {
        self.broken.count + self.columns.iter().map(|column| column.count).sum::<u64>()
    }
}
