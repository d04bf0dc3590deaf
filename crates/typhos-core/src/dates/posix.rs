//! Patterns of POSIX `strptime`, as symbols.
//!
//! As there, numbers may have leading zeros or not, and names be abbreviated or written out. Other than
//! there, white space in a pattern is one space, and stands for nothing more.

use super::symbols::Field;
use super::token::{PatternError, Token, error};

/// A translated pattern.
pub(super) struct Translated {
    /// What it consists of, and where that stands in the source.
    pub tokens: Vec<(Token, (usize, usize))>,
    /// The same as a pattern of symbols, as near as it comes.
    pub symbols: String,
}

/// Conversions as symbols. `%f`, `%z` and `%s` are not of POSIX, and common all the same.
const CONVERSIONS: [(char, &str); 26] = [
    ('Y', "yyyy"),
    ('y', "yy"),
    ('m', "M"),
    ('d', "d"),
    ('e', "d"),
    ('j', "D"),
    ('H', "H"),
    ('k', "H"),
    ('I', "h"),
    ('l', "h"),
    ('M', "m"),
    ('S', "s"),
    ('f', "SSSSSSSSS"),
    ('p', "a"),
    ('z', "X"),
    ('Z', "z"),
    ('G', "YYYY"),
    ('V', "w"),
    ('u', "e"),
    ('D', "M/d/yy"),
    ('F', "yyyy-M-d"),
    ('T', "H:m:s"),
    ('R', "H:m"),
    ('r', "h:m:s a"),
    ('n', " "),
    ('t', " "),
];

/// Conversions that stand for names of either length.
const NAMES: [(char, Field, &str); 5] = [
    ('b', Field::Month, "MMM"),
    ('B', Field::Month, "MMMM"),
    ('h', Field::Month, "MMM"),
    ('a', Field::Weekday, "EEE"),
    ('A', Field::Weekday, "EEEE"),
];

pub(super) fn translate(source: &str) -> Result<Translated, PatternError> {
    let mut translated = Translated { tokens: Vec::new(), symbols: String::new() };
    let mut chars = source.char_indices().peekable();
    while let Some((at, letter)) = chars.next() {
        if letter != '%' {
            translated.literal(letter, (at, at + letter.len_utf8()));
            continue;
        }
        let Some((second, conversion)) = chars.next() else {
            return Err(error(
                (at, at + 1),
                "a letter belongs behind '%'; '%%' stands for the sign",
            ));
        };
        let place = (at, second + conversion.len_utf8());
        if conversion == '%' {
            translated.literal('%', place);
        } else if let Some((_, field, symbols)) =
            NAMES.iter().find(|(name, ..)| *name == conversion)
        {
            translated.tokens.push((Token::AnyName(*field), place));
            translated.symbols.push_str(symbols);
        } else if let Some((_, symbols)) = CONVERSIONS.iter().find(|(name, _)| *name == conversion)
        {
            translated.symbols_of(symbols, place);
        } else {
            let hint = match conversion {
                's' => "seconds since 1970 are the pattern epoch-s",
                'c' | 'x' | 'X' | 'E' | 'O' => {
                    "what it means depends on the machine; write the parts"
                }
                'U' | 'W' => "weeks are those of ISO 8601: %G and %V",
                'C' => "a century without its years is not a date",
                'w' => "weekdays are those of ISO 8601: %u",
                _ => "there is no such conversion",
            };
            return Err(error(place, &format!("'%{conversion}' is not read: {hint}")));
        }
    }
    Ok(translated)
}

impl Translated {
    fn literal(&mut self, letter: char, place: (usize, usize)) {
        self.tokens.push((Token::Literal(letter), place));
        if letter.is_ascii_alphabetic() {
            // Quotes that meet are one text.
            match self.symbols.strip_suffix('\'') {
                Some(text) if text.contains('\'') => self.symbols.truncate(text.len()),
                _ => self.symbols.push('\''),
            }
            self.symbols.push(letter);
            self.symbols.push('\'');
        } else if letter == '\'' {
            self.symbols.push_str("''");
        } else {
            self.symbols.push(letter);
        }
    }

    fn symbols_of(&mut self, symbols: &str, place: (usize, usize)) {
        let mut rest = symbols;
        while let Some(letter) = rest.chars().next() {
            let run = rest.len() - rest.trim_start_matches(letter).len();
            if letter.is_ascii_alphabetic() {
                self.tokens.push((Token::Symbol(letter, run), place));
            } else {
                self.tokens.push((Token::Literal(letter), place));
            }
            rest = &rest[run..];
        }
        self.symbols.push_str(symbols);
    }
}
