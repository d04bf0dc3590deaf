//! The rules of a house as a person says them: in a settings file or on the command line.
//!
//! Both say the same things in the same words, and anything may be left unsaid: what is typed wins over
//! what a file says, and that over what is usual. The file is TOML:
//!
//! ```toml
//! headroom = 1.5
//! tolerate = "0.1%"
//! date_order = "dmy"
//! never = ["unsigned", "category"]
//! ```

use toml::de::{DeTable, DeValue};

use super::{DEFAULT_HEADROOM, Fractions, Naming, Never, Objects, Rules, Strings};
use crate::dates::DateOrder;
use crate::readings::{Mark, Side};
use crate::schema::Diagnostic;
use crate::schema::read::{Reader, Value};

/// The keys of a settings file, in the order they are told.
pub const HOUSE_KEYS: [&str; 12] = [
    "headroom",
    "tolerate",
    "date_order",
    "decimal_mark",
    "negative",
    "absent",
    "fractions",
    "never",
    "quoted",
    "strings",
    "nested",
    "naming",
];

/// What is said of the rules.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct House {
    /// See [`Rules::headroom`].
    pub headroom: Option<f64>,
    /// See [`Rules::tolerate`].
    pub tolerate: Option<f64>,
    /// See [`Rules::date_order`] and [`Rules::date_orders`].
    pub date_order: Option<Orders>,
    /// See [`Rules::decimal_mark`].
    pub decimal_mark: Option<Mark>,
    /// See [`Rules::negative`].
    pub negative: Option<Side>,
    /// Texts that mean "no value", beside the blank field.
    pub absent: Option<Vec<String>>,
    /// See [`Rules::fractions`].
    pub fractions: Option<Fractions>,
    /// See [`Rules::never`].
    pub never: Option<Never>,
    /// See [`Rules::quoted_text`].
    pub quoted_text: Option<bool>,
    /// See [`Rules::strings`].
    pub strings: Option<Strings>,
    /// What objects become.
    pub nested: Option<Objects>,
    /// What the columns of a draft are called.
    pub naming: Option<Naming>,
}

/// Orders of dates: for all columns, and for some by their names.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Orders {
    /// The order of columns that are not named.
    pub everywhere: Option<DateOrder>,
    /// The orders of those that are.
    pub columns: Vec<(String, DateOrder)>,
}

impl Orders {
    /// Reads `dmy`, or `ordered:dmy` for the column `ordered`.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Orders, String> {
        let (column, order) = match word.rsplit_once(':') {
            Some((column, order)) => (Some(column), order),
            None => (None, word),
        };
        let order = DateOrder::parse(order)?;
        Ok(match column {
            Some(column) => Orders { everywhere: None, columns: vec![(column.to_owned(), order)] },
            None => Orders { everywhere: Some(order), columns: Vec::new() },
        })
    }

    /// Adds what others say; of two orders for the same columns the later one holds.
    pub fn add(&mut self, other: Orders) {
        self.everywhere = other.everywhere.or(self.everywhere);
        for (column, order) in other.columns {
            self.columns.retain(|(known, _)| *known != column);
            self.columns.push((column, order));
        }
    }

    fn words(&self) -> String {
        let everywhere = self.everywhere.map(|order| order.name().to_owned());
        let columns = self.columns.iter().map(|(name, order)| format!("{name}:{}", order.name()));
        everywhere.into_iter().chain(columns).collect::<Vec<_>>().join(", ")
    }
}

impl House {
    /// What is said here, and where nothing is, what `other` says.
    pub fn or(&self, other: &House) -> House {
        House {
            headroom: self.headroom.or(other.headroom),
            tolerate: self.tolerate.or(other.tolerate),
            date_order: self.date_order.clone().or_else(|| other.date_order.clone()),
            decimal_mark: self.decimal_mark.or(other.decimal_mark),
            negative: self.negative.or(other.negative),
            absent: self.absent.clone().or_else(|| other.absent.clone()),
            fractions: self.fractions.or(other.fractions),
            never: self.never.or(other.never),
            quoted_text: self.quoted_text.or(other.quoted_text),
            strings: self.strings.or(other.strings),
            nested: self.nested.or(other.nested),
            naming: self.naming.or(other.naming),
        }
    }

    /// The rules, with what is usual where nothing is said.
    pub fn rules(&self) -> Rules {
        let usual = Rules::default();
        Rules {
            headroom: self.headroom.unwrap_or(usual.headroom),
            tolerate: self.tolerate.unwrap_or(usual.tolerate),
            date_order: self.date_order.as_ref().and_then(|orders| orders.everywhere),
            date_orders: self.date_order.clone().unwrap_or_default().columns,
            decimal_mark: self.decimal_mark,
            negative: self.negative,
            fractions: self.fractions.unwrap_or_default(),
            never: self.never.unwrap_or_default(),
            quoted_text: self.quoted_text.unwrap_or_default(),
            strings: self.strings.unwrap_or_default(),
            today: None,
        }
    }

    /// What is said, by its key and as it is written; nothing where it is not said.
    pub fn said(&self) -> [(&'static str, Option<String>); 12] {
        let listed = |texts: &[String]| {
            let quoted: Vec<_> = texts.iter().map(|text| crate::wording::shown(text)).collect();
            quoted.join(", ")
        };
        let values = [
            self.headroom.map(|factor| factor.to_string()),
            self.tolerate.map(share_name),
            self.date_order.as_ref().map(Orders::words),
            self.decimal_mark.map(|mark| mark.letter().to_string()),
            self.negative.map(|side| side.name().to_owned()),
            self.absent.as_deref().map(listed),
            self.fractions.and_then(|fractions| fractions.name()).map(str::to_owned),
            self.never.map(|never| never.names().join(", ")),
            self.quoted_text.map(|is_text| if is_text { "text" } else { "any" }.to_owned()),
            self.strings.map(|strings| strings.name().to_owned()),
            self.nested.map(|objects| objects.name().to_owned()),
            self.naming.map(|naming| naming.name().to_owned()),
        ];
        let mut values = values.into_iter();
        HOUSE_KEYS.map(|key| (key, values.next().flatten()))
    }

    /// What goes without saying, by its key.
    pub fn usual() -> [(&'static str, &'static str); 12] {
        let values = [
            "2",
            "0%",
            "proven",
            "proven",
            "asked",
            "blank fields",
            "by length",
            "",
            "any",
            "read",
            "flat",
            "keep",
        ];
        let mut values = values.into_iter();
        HOUSE_KEYS.map(|key| (key, values.next().unwrap_or_default()))
    }

    /// Reads a settings file.
    ///
    /// # Errors
    /// All mistakes in it.
    pub fn read(source: &str) -> Result<House, Vec<Diagnostic>> {
        let (table, errors) = DeTable::parse_recoverable(source);
        let mut reader = Reader::new(source);
        for error in errors {
            reader.syntax(error.span().unwrap_or(0..0), error.message());
        }
        let mut house = House::default();
        for (key, value) in table.get_ref().iter() {
            match key.get_ref().as_ref() {
                "headroom" => house.headroom = number(&mut reader, value, parse_headroom, "1.5"),
                "tolerate" => house.tolerate = number(&mut reader, value, parse_share, "\"0.1%\""),
                "date_order" => house.date_order = orders(&mut reader, value),
                "negative" => {
                    let what = "a side of accounts";
                    house.negative = reader.word(value, what, Side::parse, "\"DR\"")
                }
                "decimal_mark" => {
                    house.decimal_mark = reader.word(value, "a mark", Mark::parse, "\",\"")
                }
                "absent" => house.absent = reader.texts(value, "absent"),
                "fractions" => {
                    let what = "what fractions become";
                    house.fractions = reader.word(value, what, Fractions::parse, "\"exact\"")
                }
                "never" => house.never = never(&mut reader, value),
                "quoted" => {
                    let what = "what values in quotes are";
                    house.quoted_text = reader.word(value, what, parse_quoted, "\"text\"")
                }
                "strings" => {
                    let what = "what texts are";
                    house.strings = reader.word(value, what, Strings::parse, "\"numbers\"")
                }
                "nested" => {
                    house.nested =
                        reader.word(value, "what objects become", Objects::parse, "\"keep\"")
                }
                "naming" => {
                    house.naming = reader.word(value, "a way of naming", Naming::parse, "\"snake\"")
                }
                _ => reader.unknown_key(key, "a settings file", &HOUSE_KEYS),
            }
        }
        let mut wrong = reader.wrong;
        wrong.sort_by_key(|diagnostic| diagnostic.span.start);
        if wrong.is_empty() { Ok(house) } else { Err(wrong) }
    }
}

/// A number, with or without quotes.
fn number(
    reader: &mut Reader<'_>,
    value: &Value<'_>,
    parse: fn(&str) -> Result<f64, String>,
    example: &str,
) -> Option<f64> {
    let parsed = match value.get_ref() {
        DeValue::Integer(number) => parse(number.as_str()),
        DeValue::Float(number) => parse(number.as_str()),
        _ => return reader.word(value, "a number", parse, example),
    };
    parsed
        .map_err(|message| reader.wrong(value.span(), message, format!("for example {example}")))
        .ok()
}

/// One order of dates, or a list of them.
fn orders(reader: &mut Reader<'_>, value: &Value<'_>) -> Option<Orders> {
    let texts = match value.get_ref().as_array() {
        Some(_) => reader.spanned_texts(value, "date_order")?,
        None => vec![(value.span(), reader.text(value, "an order")?)],
    };
    let mut orders = Orders::default();
    for (span, word) in texts {
        match Orders::parse(&word) {
            Ok(one) => orders.add(one),
            Err(message) => reader.wrong(span, message, "for example \"dmy\" or \"ordered:dmy\""),
        }
    }
    Some(orders)
}

fn never(reader: &mut Reader<'_>, value: &Value<'_>) -> Option<Never> {
    let mut never = Never::default();
    for (span, word) in reader.spanned_texts(value, "never")? {
        if let Err(message) = never.add(&word) {
            reader.wrong(span, message, "for example [\"unsigned\", \"category\"]");
        }
    }
    Some(never)
}

/// Reads what values in quotes are: text, or any type.
///
/// # Errors
/// A sentence that says what there is.
pub fn parse_quoted(word: &str) -> Result<bool, String> {
    match word {
        "text" => Ok(true),
        "any" => Ok(false),
        _ => Err(format!("'{}' is neither text nor any", word.escape_debug())),
    }
}

/// Reads a headroom: a factor from 1 to 1000.
///
/// # Errors
/// A sentence that says what it is.
pub fn parse_headroom(word: &str) -> Result<f64, String> {
    let factor: Option<f64> = word.parse().ok();
    factor.filter(|factor| (1.0..=1000.0).contains(factor)).ok_or_else(|| {
        let usual = DEFAULT_HEADROOM;
        format!(
            "'{}' is not a headroom: a factor from 1 to 1000, usually {usual}",
            word.escape_debug()
        )
    })
}

/// Reads a share: `0.1%`, or the same as `0.001`; at most a half.
///
/// # Errors
/// A sentence that says what it is.
pub fn parse_share(word: &str) -> Result<f64, String> {
    let (digits, whole) = match word.trim().strip_suffix('%') {
        Some(digits) => (digits.trim_end(), 100.0),
        None => (word.trim(), 1.0),
    };
    let share = digits.parse::<f64>().ok().map(|number| number / whole);
    share.filter(|share| (0.0..=0.5).contains(share)).ok_or_else(|| {
        format!("'{}' is not a share of values: as in 0.1%, at most 50%", word.escape_debug())
    })
}

/// A share as people write it: `0.1%`.
pub fn share_name(share: f64) -> String {
    // Ten digits are more than anybody types, and end the noise of binary fractions.
    let percent = (share * 100.0 * 1e10).round() / 1e10;
    format!("{percent}%")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_settings_file_says_the_rules_of_a_house() {
        let source = "headroom = 1\ntolerate = '0.1%'\ndate_order = ['dmy', 'a:b:ymd']\n\
                      decimal_mark = ','\nnegative = 'cr'\nabsent = ['n/k']\nfractions = 'exact'\nnever = ['unsigned']\nquoted = 'text'\n\
                      nested = 'keep'\nnaming = 'snake'\n";
        let house = House::read(source).unwrap();
        let said: Vec<String> = house.said().into_iter().filter_map(|(_, value)| value).collect();
        let unsigned = "uint8, uint16, uint32, uint64";
        let orders = "dmy, a:b:ymd";
        assert_eq!(
            said,
            ["1", "0.1%", orders, ",", "CR", "'n/k'", "exact", unsigned, "text", "keep", "snake"]
        );
        assert_eq!(house.rules().of("a:b").date_order, Some(DateOrder::Ymd));
        assert_eq!(house.rules().of("a").date_order, Some(DateOrder::Dmy));
        let typed = House { headroom: Some(3.0), ..House::default() };
        let both = typed.or(&house);
        assert_eq!((both.rules().headroom, both.rules().tolerate), (3.0, 0.001));
        assert_eq!(House::default().rules(), Rules::default());
    }

    #[test]
    fn every_mistake_is_told_with_its_place() {
        let source = "headrom = 2\nheadroom = 0.5\ntolerate = 0.9\ndate_order = 'ddmm'\n\
                      absent = 'NA'\nnever = ['uint']\n";
        let wrong = House::read(source).unwrap_err();
        let told: Vec<String> = wrong
            .iter()
            .map(|d| {
                let (line, column) = d.line_and_column(source);
                format!("{line}:{column} {} / {}", d.message, d.help.clone().unwrap_or_default())
            })
            .collect();
        assert_eq!(
            told,
            [
                "1:1 unknown key 'headrom' in a settings file / did you mean 'headroom'?",
                "2:12 '0.5' is not a headroom: a factor from 1 to 1000, usually 2 / for example 1.5",
                "3:12 '0.9' is not a share of values: as in 0.1%, at most 50% / for example \"0.1%\"",
                "4:14 'ddmm' is not an order of dates: use ymd, dmy or mdy / for example \"dmy\" or \"ordered:dmy\"",
                "5:10 'absent' is a list / write absent = ['NA']",
                "6:10 unknown type 'uint': did you mean 'uint8'? / for example [\"unsigned\", \"category\"]",
            ]
        );
    }
}
