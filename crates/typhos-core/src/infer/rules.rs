//! The rules of a house: what is preferred, allowed and assumed where the data leaves a choice.

use std::borrow::Cow;

use crate::dates::DateOrder;
use crate::readings::{Mark, Side};
use crate::schema::{IntType, Scalar, TYPE_NAMES};

/// How far beyond the extremes seen a narrowed type reaches, where nothing else is said.
pub const DEFAULT_HEADROOM: f64 = 2.0;

/// What numbers with a fraction become.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Fractions {
    /// Decimals where all fractions are equally long, floats where they are not.
    #[default]
    Usual,
    /// Decimals wherever 38 digits are enough.
    Exact,
    /// Floats wherever no value is changed.
    Float,
}

impl Fractions {
    /// Reads the word of a command line or a settings file.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Fractions, String> {
        match word {
            "exact" => Ok(Fractions::Exact),
            "float" => Ok(Fractions::Float),
            _ => Err(format!("'{}' is neither exact nor float", word.escape_debug())),
        }
    }

    /// Its spelling, where it has one.
    pub fn name(self) -> Option<&'static str> {
        match self {
            Fractions::Usual => None,
            Fractions::Exact => Some("exact"),
            Fractions::Float => Some("float"),
        }
    }
}

/// What texts are, in a format that tells them from numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Strings {
    /// Dates, addresses and all other forms are found in them, and numbers are texts.
    #[default]
    Read,
    /// Numbers are found in them as well: they are read as fields of delimited text are.
    Numbers,
    /// Texts, whatever they say.
    Text,
}

impl Strings {
    /// Reads the word of a command line or a settings file.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Strings, String> {
        let all = [Strings::Read, Strings::Numbers, Strings::Text];
        let found = all.into_iter().find(|strings| strings.name() == word);
        found.ok_or_else(|| format!("'{}' is not read, numbers or text", word.escape_debug()))
    }

    /// Its spelling.
    pub fn name(self) -> &'static str {
        match self {
            Strings::Read => "read",
            Strings::Numbers => "numbers",
            Strings::Text => "text",
        }
    }
}

/// Types that are not drafted, by their names without what stands in parentheses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Never(u32);

/// The types by their bare names; text is among them, and is never added.
fn families() -> impl Iterator<Item = &'static str> + Clone {
    TYPE_NAMES.into_iter().map(|spelling| spelling.split('(').next().unwrap_or(spelling))
}

/// Words for several types at once.
const GROUPS: [(&str, &[&str]); 2] =
    [("unsigned", &["uint8", "uint16", "uint32", "uint64"]), ("float", &["float32", "float64"])];

impl Never {
    /// Adds a type, or a group of them, by its word.
    ///
    /// # Errors
    /// A sentence that says what is wrong with the word.
    pub fn add(&mut self, word: &str) -> Result<(), String> {
        let group = GROUPS.iter().find(|(name, _)| *name == word);
        let members = match group {
            Some((_, members)) => members.to_vec(),
            None => vec![word],
        };
        for member in members {
            if member == "text" {
                return Err("text is what remains where no other type holds every value".into());
            }
            let Some(at) = families().position(|family| family == member) else {
                let known = families().chain(GROUPS.iter().map(|(name, _)| *name));
                let help = match crate::nearest(member, known) {
                    Some(near) => format!("did you mean '{near}'?"),
                    None => "give a type without parentheses, 'unsigned' or 'float'".into(),
                };
                return Err(format!("unknown type '{}': {help}", member.escape_debug()));
            };
            self.0 |= 1 << at;
        }
        Ok(())
    }

    /// The types of both.
    pub fn and(self, other: Never) -> Never {
        Never(self.0 | other.0)
    }

    /// Whether a type may be drafted.
    pub fn allows(self, ty: Scalar) -> bool {
        let spelling = ty.to_string();
        let name = spelling.split('(').next().unwrap_or_default();
        families().position(|family| family == name).is_none_or(|at| self.0 & 1 << at == 0)
    }

    /// The types, by their words.
    pub fn names(self) -> Vec<&'static str> {
        let all = families().enumerate();
        all.filter(|(at, _)| self.0 & 1 << at != 0).map(|(_, family)| family).collect()
    }
}

/// The rules of a house, where they are not the usual ones.
#[derive(Debug, Clone, PartialEq)]
pub struct Rules {
    /// How many times further than the extremes seen a narrowed type must reach: 1 for the tightest.
    pub headroom: f64,
    /// The share of values, from 0 to 1, that may be misfits of the type drafted, where the column would
    /// be text otherwise.
    pub tolerate: f64,
    /// The order of dates that could be read in more than one.
    pub date_order: Option<DateOrder>,
    /// The same for some columns, by their names; these win.
    pub date_orders: Vec<(String, DateOrder)>,
    /// The mark of numbers that could be read with either.
    pub decimal_mark: Option<Mark>,
    /// The side of accounts whose amounts are negative.
    pub negative: Option<Side>,
    /// What numbers with a fraction become.
    pub fractions: Fractions,
    /// Types that are not drafted.
    pub never: Never,
    /// Whether a column with values in quotes is text, whatever they are. The survey has to have
    /// [looked for them](crate::survey::SurveyOptions::quoted).
    pub quoted_text: bool,
    /// What texts are, in a format that tells them from numbers; in others there is nothing to tell.
    pub strings: Strings,
    /// The day of today, since 1970-01-01, where dates still to come are to be pointed out.
    pub today: Option<i32>,
}

impl Default for Rules {
    fn default() -> Self {
        Rules {
            headroom: DEFAULT_HEADROOM,
            tolerate: 0.0,
            date_order: None,
            date_orders: Vec::new(),
            decimal_mark: None,
            negative: None,
            fractions: Fractions::Usual,
            never: Never::default(),
            quoted_text: false,
            strings: Strings::Read,
            today: None,
        }
    }
}

impl Rules {
    /// The rules for a column, by its name.
    pub(super) fn of(&self, column: &str) -> Cow<'_, Rules> {
        match self.date_orders.iter().find(|(name, _)| name == column) {
            Some((_, order)) => Cow::Owned(Rules { date_order: Some(*order), ..self.clone() }),
            None => Cow::Borrowed(self),
        }
    }

    /// The narrowest integer type that may be drafted and holds every integer from `low` to `high`.
    pub(super) fn narrowest(&self, low: i128, high: i128) -> Option<IntType> {
        let holds = |ty: &IntType| {
            let (least, most) = ty.range();
            least <= low && high <= most && self.never.allows(Scalar::Int(*ty))
        };
        // Of each sign the narrowest first; where unsigned ones are out, signed ones remain.
        let signed = |ty: &IntType| ty.range().0 < 0;
        let mut fitting = IntType::ALL.into_iter().filter(holds);
        if low < 0 { fitting.find(signed) } else { fitting.next() }
    }

    /// `value` moved away from zero by the headroom.
    pub(super) fn stretch(&self, value: i128) -> i128 {
        // In thousandths, so that the product is exact for every integer that matters.
        let thousandths = (self.headroom * 1000.0).round() as i128;
        let round_away = if value < 0 { -999 } else { 999 };
        value.checked_mul(thousandths).map_or(value, |product| (product + round_away) / 1000)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_type_but_text_can_be_done_without() {
        for spelling in TYPE_NAMES {
            let bare = spelling.split('(').next().unwrap();
            let example = match bare {
                "decimal" => "decimal(9,2)",
                "time" => "time(s)",
                "duration" => "duration(s)",
                "timestamp" => "timestamp(ms, utc)",
                other => other,
            };
            let ty = Scalar::parse(example).unwrap();
            let mut never = Never::default();
            assert!(never.allows(ty));
            assert_eq!(never.add(bare).is_ok(), bare != "text", "{bare}");
            assert_eq!(never.allows(ty), bare == "text", "{bare}");
        }
        let mut never = Never::default();
        never.add("unsigned").unwrap();
        assert_eq!(never.names(), ["uint8", "uint16", "uint32", "uint64"]);
        assert!(never.add("uint").unwrap_err().contains("did you mean 'uint8'?"));
    }

    #[test]
    fn integers_do_without_unsigned_types() {
        let mut rules = Rules { headroom: 1.0, ..Rules::default() };
        assert_eq!(rules.narrowest(0, 255), Some(IntType::UInt8));
        rules.never.add("unsigned").unwrap();
        assert_eq!(rules.narrowest(0, 127), Some(IntType::Int8));
        assert_eq!(rules.narrowest(0, 255), Some(IntType::Int16));
        assert_eq!(rules.narrowest(0, i128::from(u64::MAX)), None);
        rules.never.add("int8").unwrap();
        assert_eq!(rules.narrowest(-1, 1), Some(IntType::Int16));
    }
}
