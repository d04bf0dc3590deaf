//! Values that are texts and cannot be anything else, told by the bytes that are in them.
//!
//! A value that no reading knows is the dearest one: every reading has to refuse it first. Most texts of a column can be told from
//! what they are made of: a mark that no number, date or other form has, or letters without any digit. The law, which a property test
//! holds: nothing but a text is told to be one. Others are texts as well; those have to be looked at.

use super::facts::is_only_text;
use crate::dates::{is_word_of_time, may_be_name};
use crate::readings::{self, is_word_of_number, may_start_number};

/// The longest value that is looked at: sums over it are in eight bits.
const MOST_BYTES: usize = 255;

/// The longest value without a digit that may be something else: "-infinity".
const LONGEST_WORD: usize = 9;

/// Of each byte, what a sum over a value counts it as, in fields of eight bits: digits, marks that only texts have, letters that only
/// texts without digits have, and bytes behind the first of a character.
const COUNTS: [u32; 256] = {
    let mut counts = [0; 256];
    let mut byte = 0;
    while byte < counts.len() {
        counts[byte] = match byte as u8 {
            b'0'..=b'9' => 1,
            // Not those that may stand between the parts of a date.
            b'=' | b'<' | b'>' | b'*' | b'~' | b'^' | b'`' | b'|' | b'!' | b'?' | b'\\' | b'&' => {
                1 << 8
            }
            0x80..=0xbf => 1 << 24,
            0xc0.. => 1 << 16,
            // Not those of hexadecimal digits and of `urn:uuid:`.
            letter if letter.is_ascii_alphabetic() => match letter | 0x20 {
                b'a'..=b'f' | b'u' | b'r' | b'n' | b'i' => 0,
                _ => 1 << 16,
            },
            _ => 0,
        };
        byte += 1;
    }
    counts
};

/// The number of characters of a value that cannot be anything but a text without spaces around it. `None` says only that it has to
/// be looked at. The value is valid UTF-8.
#[inline]
pub(super) fn chars_of_sure_text(value: &[u8]) -> Option<u64> {
    let ([first, ..], [.., last]) = (value, value) else { return None };
    let is_json = matches!(first, b'{' | b'[');
    if value.len() > MOST_BYTES || is_json || is_space(*first) || is_space(*last) {
        return None;
    }
    if matches!(first, b'+' | b'(') && is_telephone_number(value) {
        return Some(value.len() as u64);
    }
    let counts = value.iter().fold(0, |counts, byte| counts + COUNTS[usize::from(*byte)]);
    let has = |field: u32| counts >> (8 * field) & 0xff > 0;
    // Tokens, words for true and false and infinities start with these.
    let may_be_known = value.len() <= LONGEST_WORD
        && match first {
            b'#' | b'<' | b'?' | b'\\' => readings::token(value).is_some(),
            _ if is_only_text(*first) => false,
            0x80.. | b'0'..=b'9' => false,
            _ if !first.is_ascii_alphabetic() => true,
            _ => matches!(first | 0x20, b'f' | b'i' | b'n' | b'o' | b't' | b'y'),
        };
    let is_text = has(1)
        || is_only_text(*first)
        || match has(2) {
            true => !has(0) || is_code(value),
            false => {
                is_code_of_digits(value)
                    || is_checksum(value)
                    || is_hardware_address(value)
                    || is_short_of_hexadecimal(value) && is_code(value)
            }
        };
    (is_text && !may_be_known).then(|| value.len() as u64 - u64::from(counts >> 24))
}

/// Whether a value is neither long enough for a UUID nor has what stands between the groups of an address, so that hexadecimal
/// digits in it are letters like all others.
#[inline]
fn is_short_of_hexadecimal(value: &[u8]) -> bool {
    value.len() < 32 && !value.contains(&b':')
}

/// Whether a value, which has digits and letters and is no address or UUID, starts with letters like a code
/// (`HOF-633`): no date starts with such a word, no number has it before it, and no length of time starts with it. Or with
/// digits, and the first word behind them is one that neither dates nor numbers know (`253.98 kg`); hexadecimal numbers in
/// programs are such.
#[inline]
fn is_code(value: &[u8]) -> bool {
    match value {
        [b'P', ..] => false,
        [b'0'..=b'9', ..] => {
            let from = value.iter().position(u8::is_ascii_alphabetic).unwrap_or(value.len());
            let rest = &value[from..];
            let letters = rest.iter().take_while(|byte| byte.is_ascii_alphabetic()).count();
            let word = &rest[..letters];
            let is_digits = word.iter().all(u8::is_ascii_hexdigit) && may_be_digits(value, word);
            let is_any = is_digits
                || matches!(rest.get(letters), Some(b'$' | 0x80..))
                || may_be_name(rest)
                || is_word_of_time(word)
                || is_word_of_number(word)
                || DAYS.contains(&word);
            !is_any
        }
        // Signs of currencies and spaces that do not break start with these.
        [0xc2 | 0xe2, ..] => false,
        [first, ..] => {
            (first.is_ascii_alphabetic() || *first >= 0x80)
                && !may_be_name(value)
                && !may_start_number(value)
        }
        [] => false,
    }
}

/// Whether a word that could be hexadecimal digits may be such in a value, or an exponent.
#[inline]
fn may_be_digits(value: &[u8], word: &[u8]) -> bool {
    matches!(word, [] | [b'e' | b'E']) || !is_short_of_hexadecimal(value)
}

/// Words behind the days of a length of time.
const DAYS: [&[u8]; 2] = [b"day", b"days"];

/// Whether a value is groups of digits with hyphens, slashes or single spaces between, the first two of which have not as many
/// digits as those of dates and of numbers in groups (`074-73-2540`, `69/383`, `4929 1834 0012 7758`), or two with a colon that
/// have not as many as those of times (`49:3545`).
#[inline]
fn is_code_of_digits(value: &[u8]) -> bool {
    let run = |text: &[u8]| text.iter().take_while(|byte| byte.is_ascii_digit()).count();
    let first = run(value);
    let Some((mark, rest)) = value[first..].split_first() else { return false };
    let second = run(rest);
    let is_group = match (mark, first, second) {
        // Eight may be a whole day, with a time behind it.
        (b':', 1..=7, 3..) => return second == rest.len(),
        (b' ', 1..=5, 4..) => second < rest.len(),
        (b'-' | b'/', 1 | 2 | 4, 3 | 5..) => true,
        // Six and more may be a whole date, without anything between.
        (b'-' | b'/', 3 | 5, _) => true,
        _ => false,
    };
    let is_other = |byte: &u8| !byte.is_ascii_digit();
    let is_mark = |byte: &u8| match mark {
        b' ' => byte == mark,
        _ => matches!(byte, b'-' | b'/'),
    };
    is_group
        && rest.iter().all(|byte| byte.is_ascii_digit() || is_mark(byte))
        && !(*mark == b' ' && rest.windows(2).any(|pair| pair.iter().all(is_other)))
        && rest.last().is_some_and(u8::is_ascii_digit)
}

/// The fewest letters among the hexadecimal digits of a checksum. A date has at most the name of a month and of an era.
const LETTERS_OF_CHECKSUM: u32 = 8;

/// Whether a value is as many hexadecimal digits as a checksum has, and no UUID.
#[inline]
fn is_checksum(value: &[u8]) -> bool {
    if value.len() < 32 {
        return false;
    }
    let counts = value.iter().fold(0, |counts, byte| counts + HEXADECIMAL[usize::from(*byte)]);
    counts >> 8 == 0 && counts >= LETTERS_OF_CHECKSUM && !readings::is_bare_uuid(value)
}

/// Of each byte, what a sum over a value counts it as: hexadecimal digits that are letters, and what is no digit.
const HEXADECIMAL: [u32; 256] = {
    let mut counts = [1 << 8; 256];
    let mut byte = 0;
    while byte < counts.len() {
        let digit = byte as u8;
        if digit.is_ascii_hexdigit() {
            counts[byte] = digit.is_ascii_alphabetic() as u32;
        }
        byte += 1;
    }
    counts
};

/// Whether a value is six pairs of hexadecimal digits, some of them letters, with the same mark between: `54:87:8d:67:f7:46`.
#[inline]
fn is_hardware_address(value: &[u8]) -> bool {
    let &[a, b, mark, ref rest @ ..] = value else { return false };
    if rest.len() != 14 || !matches!(mark, b':' | b'-') {
        return false;
    }
    let is_group =
        |group: &[u8; 3]| group[2] == mark && group[..2].iter().all(u8::is_ascii_hexdigit);
    let last = [rest[12], rest[13], mark];
    [[a, b, mark], last].iter().chain(rest.as_chunks().0).all(is_group)
        && value.iter().any(u8::is_ascii_alphabetic)
}

/// Of each byte, what a sum over a value counts it as: digits, what stands between those of a telephone number, and anything else.
const PARTS: [u32; 256] = {
    let mut counts = [1 << 16; 256];
    let mut byte = 0;
    while byte < counts.len() {
        match byte as u8 {
            b'0'..=b'9' => counts[byte] = 1,
            b' ' | b'-' | b'(' | b')' => counts[byte] = 1 << 8,
            _ => {}
        }
        byte += 1;
    }
    counts
};

/// Whether a value of at most [`MOST_BYTES`] is a telephone number as it is written for people: `+47 12345678`, `(555) 123-4567`. A
/// number in groups has three digits in the last of them, and nothing else starts like this.
fn is_telephone_number(value: &[u8]) -> bool {
    let ([_, rest @ ..], Some(last)) = (value, value.last_chunk::<4>()) else { return false };
    let counts = rest.iter().fold(0, |counts, byte| counts + PARTS[usize::from(*byte)]);
    let is_apart = counts >> 8 & 0xff > 0 && counts >> 16 == 0;
    let [first, others @ ..] = last.map(|byte| byte.is_ascii_digit());
    let is_group = !first && others == [true; 3];
    is_apart && rest[0].is_ascii_digit() && others[2] && !is_group
}

fn is_space(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t')
}

#[cfg(test)]
mod tests {
    use super::super::{Class, Facts};
    use super::*;
    use crate::text::LineRef;
    use proptest::prelude::*;

    #[test]
    fn ordinary_texts_are_told() {
        for (value, chars) in [
            ("Holm", 4),
            ("Ærø", 3),
            ("Kari Aas", 8),
            ("имя", 3),
            ("凟劥呐喞", 4),
            ("upcegx0@example.org", 19),
            ("Information", 11),
            ("/a/b?x=17&y=2024", 16),
            ("+47 16041999", 12),
            ("(555) 123-4567", 14),
            ("HOF-633", 7),
            ("BK-17", 5),
            ("Agent/14.8 (hao; vwm)", 21),
            ("0x95dbcc7d", 10),
            ("253.98 kg", 9),
            ("8742x6665", 9),
            ("959678-GD", 9),
            ("074-73-2540", 11),
            ("69/383", 6),
            ("7ae7d3e288c77bcf952ed1f2034337e7e1a0b3c4", 40),
            ("d41d8cd98f00b204e9800998ecf8427e", 32),
            ("54:87:8d:67:f7:46", 17),
            ("/dtjcensg/qv/0", 14),
            ("/a", 2),
            ("#653263", 7),
            ("@abc", 4),
            ("C988230", 7),
            ("DE64557387985007416721", 22),
            ("3307aeba9a", 10),
            ("Улица джбз, 55", 14),
            ("東京都76086", 8),
            ("49:3545", 7),
            ("4929 1834 0012 7758", 19),
            ("Monika 545", 10),
        ] {
            assert_eq!(chars_of_sure_text(value.as_bytes()), Some(chars), "{value}");
        }
        for value in [
            "",
            "NULL",
            "yes",
            "infinity",
            "May-17",
            "EUR 17",
            "17 EUR",
            "17 kr",
            "5e3",
            "5-May-24",
            "20240305T1200",
            "3 days, 10:00",
            "24-03-05",
            "240305-1200",
            "kr.17",
            "DR EUR 17",
            "PT17S",
            "6f9619ff8b864011b42d00cf4fc964ff",
            "54:87:81:67:17:46",
            " Holm",
            "+4716041999",
            "+47 160 419",
            "(47)",
            "+ 47",
            "{\"a\":\"xyzxyzxyz\"}",
            "5 kr",
            "#N/A",
            "<NA>",
            "\\N",
            "?",
            "5E3",
            "49:35",
            "20240305:0000",
            "12 345",
            "2024 03",
            "€5",
            "5 марта 2024",
            "янв. 5, 2024",
            "a:b",
            "fade::bad",
        ] {
            assert_eq!(chars_of_sure_text(value.as_bytes()), None, "{value}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(6000))]

        /// What is told to be a text is one, with as many characters.
        #[test]
        fn what_is_told_to_be_a_text_is_one(
            value in prop_oneof![
                "[ -~]{1,14}",
                "\\PC{1,24}",
                "(NA|N/A|null|None|nan|nil|[(]null[)]|<NA>|-|t|true|off|YES|-?inf|[+-]?[Ii]nfinity)[ -~æ]{0,2}",
                "[$€£]?-?[0-9]{0,5}([., ][0-9]{1,3}){0,3} ?(kr|EUR|USD|%|zł|Kč|CR|DR)?",
                "(P|PT)?([0-9]{0,3}[YMWDTHMS]){0,5}",
                "[0-9a-fA-F]{0,8}(-?[0-9a-fA-F]{4}){3}-?[0-9a-fA-F]{12}|urn:uuid:[a-f]{8}-[a-f]{4}-[a-f]{4}-[a-f]{4}-[a-f]{12}",
                "(Mon|Tuesday|Mar|May|September|mars|août|5|2024|am|T|Z|[:., -]|[0-9]{1,2}){1,8}",
                "[a-f:]{2,20}",
                "(Mon|dec|May)?[@_;]{0,2}[0-9]{1,4}[@_;][0-9]{1,2}[@_; -][0-9]{2,4}",
                "[+(-]{1,2}[0-9]{1,4}(\\)?[ -]?\\(?[0-9]{0,4}){0,3}\\)?",
                "[A-Za-z]{1,5}[ -]?[0-9]{1,5}( ?[A-Za-z]{1,3})?",
                "(DR|cr|EUR|kr|kr.|zł|US\\$|C\\$|R\\$)[ (-]{0,2}(EUR|NOK|[A-Z]{3})?[ -]?[0-9]{1,3}(,[0-9]{3})?([.][0-9]{2})?( ?(DR|CR|EUR|kr))?",
                "(so|mo|ma|ti|di|dec|feb|mar|Mai|x|AD|BC)[. -]{0,2}[0-9]{1,2}[. :-][0-9a-z]{1,4}",
                "[0-9a-fA-F]{30,64}|[0-9]{20,40}[a-fE][0-9]{1,3}",
                "[0-9a-f]{2}([:-][0-9a-f]{2}){5}|[0-9]{2}([:-][0-9]{2}){5}|([0-9a-f]{1,4}:){2,7}[0-9a-f]{1,4}",
                "0[xX][0-9A-Za-z .€%]{0,10}",
                "[a-z0-9 ]{60,260}",
                "[0-9]{1,9}([-/][0-9]{1,8}){1,4}-?",
                "[0-9]{1,4}[-/. ,]{0,2}(kg|KB|N|B|x|T|t|Z|at|um|am|PM|a|p|day|days|DR|cr|EUR|kr|kr.|zł|Kč|US[$]|UTC|CET|EST|GMT|mai|W|e|h|[A-Za-z]{1,4})[-/. ,]{0,2}[0-9]{0,6}( ?[a-zA-Z]{1,3})?",
                "(2024-0?3-05|5[./]3[./]24|20240305)( |T|t| at | um |:)?[0-2][0-9]:?[0-5][0-9](:[0-5][0-9])? ?([A-Za-z]{1,5}|[+-][0-9]{2,4})?",
                "[0-9]{1,3} days?,? ?[0-9]{0,2}:?[0-9]{0,2}",
                "[0-9]{0,6}[a-fA-F]{1,3}[0-9a-fA-F:.+-]{0,12}",
                "[0-9]{1,3}([.][0-9]{1,3})?[°ENSWensw]?[ ,]{1,2}-?[0-9]{1,3}([.][0-9]{1,3})?[ENSW]?",
                "[0-9]{1,5}([ :/-]{1,2}[0-9]{1,6}){1,4}",
                "(20[0-9]{2}|[0-9]{1,2}) [0-9]{1,4}( [0-9]{1,4}){0,2}( |T|:)?[0-9]{0,6}(:[0-9]{2})?",
                "(янв|Января|ПН|вт|März|août|Ιαν|září|ŞUB|Ç|şub|çar|é|ó|Å|å)[a-zа-я]{0,6}[., ]{0,2}[0-9]{1,2}[., ]{1,2}[0-9]{2,4}",
                "(zł|Kč|฿|₹|−|\u{a0}|\u{3000}|\u{2009}|₸|٫|٣)?[0-9]{1,3}([ \u{a0}\u{202f}][0-9]{3}){0,2}(,[0-9]{1,2})?(zł| Kč|฿|₹|−|\u{a0})?",
            ],
            mark in proptest::option::of((0usize..20, proptest::sample::select(b"@_=<>*~^`|!?;\\&".to_vec()))),
        ) {
            let mut value = value;
            if let Some((at, mark)) = mark {
                let at = (0..=at.min(value.len())).rev().find(|at| value.is_char_boundary(*at)).unwrap();
                value.insert(at, char::from(mark));
            }
            let Some(chars) = chars_of_sure_text(value.as_bytes()) else { return Ok(()) };
            prop_assert_eq!(chars, value.chars().count() as u64);
            let place = LineRef { part: 0, line: 2 };
            let mut facts = Facts::default();
            facts.add_valid(value.as_bytes(), 1, place);
            let mut known = Facts::default();
            known.text.add(value.as_bytes(), 1);
            known.tallies[Class::Text as usize].add(value.as_bytes(), 1, place);
            prop_assert_eq!(facts, known, "{}", value);
        }
    }
}
