//! Names of months and weekdays in every language at once: how a survey finds dates with words in them
//! before anyone said a language.
//!
//! A word that two of these languages use for different months is left out: who has such dates says the
//! `locale`.

use std::collections::HashMap;
use std::sync::LazyLock;

use super::names::{Form, Named, Names, names};

/// Languages whose names are found, those first that are preferred where several know all names of a
/// column.
pub const FOUND_LOCALES: [&str; 30] = [
    "en", "de", "fr", "es", "pt", "it", "nl", "nb", "da", "sv", "fi", "is", "pl", "cs", "sk", "hu",
    "ro", "tr", "el", "ru", "uk", "bg", "hr", "sl", "et", "lv", "lt", "ca", "id", "vi",
];

/// The longest name that is looked for, in bytes.
pub const MOST_BYTES: usize = 32;

/// What a name stands for, by the name in small letters.
type Table = foldhash::HashMap<Box<str>, u8>;

static MONTHS: LazyLock<Table> = LazyLock::new(|| table(Named::Month));
static WEEKDAYS: LazyLock<Table> = LazyLock::new(|| table(Named::Weekday));

fn table(named: Named) -> Table {
    let mut found: HashMap<Box<str>, Option<u8>> = HashMap::new();
    for locale in FOUND_LOCALES {
        let Ok(names) = names(locale, named, Form::Any) else { continue };
        for (name, number) in names.iter().filter(|(name, _)| is_word(name)) {
            let known = found.entry(name.into()).or_insert(Some(number));
            *known = known.filter(|known| *known == number);
        }
    }
    found.into_iter().filter_map(|(name, number)| Some((name, number?))).collect()
}

/// How names start and end, as sets of numbers that the words of a value are looked for in.
struct Looks {
    /// The first letters of names that start with letters of ASCII, see [`start_of`].
    starts: Box<[u64; 512]>,
    /// Those together with the length and the last letter of names that are of ASCII, see [`end_of`].
    ends: Box<[u64; 1024]>,
    /// The first two letters of names in every case in which the first is beyond ASCII, see [`pair_of`].
    pairs: Box<[u64; 256]>,
}

static LOOKS: LazyLock<Looks> = LazyLock::new(|| {
    let mut looks =
        Looks { starts: Box::new([0; 512]), ends: Box::new([0; 1024]), pairs: Box::new([0; 256]) };
    let names = || MONTHS.keys().chain(WEEKDAYS.keys());
    let cases = cases(names().flat_map(|name| name.chars().take(2)));
    let of = |small: char| cases.get(&small).map_or(&[][..], Vec::as_slice);
    for name in names() {
        if let Some(start) = start_of(name.as_bytes()) {
            put(&mut *looks.starts, start);
            if name.is_ascii() {
                put(&mut *looks.ends, end_of(start, name.as_bytes()));
            }
        }
        let mut letters = name.chars();
        let (Some(first), Some(second)) = (letters.next(), letters.next()) else { continue };
        for first in of(first).iter().filter(|first| !first.is_ascii()) {
            for second in of(second) {
                put(&mut *looks.pairs, pair_of(format!("{first}{second}").as_bytes()));
            }
        }
    }
    looks
});

/// The letters that some small letters may be written in, as far as names go: up to those that look like letters.
fn cases(small: impl Iterator<Item = char>) -> HashMap<char, Vec<char>> {
    let mut cases: HashMap<char, Vec<char>> = small.map(|small| (small, Vec::new())).collect();
    for letter in ('A'..='\u{2200}').filter(|letter| letter.is_alphabetic()) {
        let small = letter.to_lowercase().next();
        if let Some(known) = small.and_then(|small| cases.get_mut(&small)) {
            known.push(letter);
        }
    }
    cases
}

/// Puts a number into a set.
fn put(set: &mut [u64], number: usize) {
    set[number / 64] |= 1 << (number % 64);
}

/// Whether a number is in a set.
#[inline]
fn has_number(set: &[u64], number: usize) -> bool {
    set[number / 64] >> (number % 64) & 1 == 1
}

/// The first three letters of a word, or all where it has fewer, as a number below 2^15, in small letters; `None` where
/// they are not all of ASCII.
#[inline]
fn start_of(word: &[u8]) -> Option<usize> {
    let letters = word.iter().take(3).take_while(|byte| byte.is_ascii_alphabetic()).count();
    let is_cut = letters < 3 && matches!(word.get(letters), Some(0x80..));
    let letter = |at| word.get(at).filter(|_| at < letters).map_or(0, |byte| byte & 0x1f);
    let start = (0..3).fold(0, |start, at| start << 5 | usize::from(letter(at)));
    (!is_cut).then_some(start)
}

/// The start of a word of ASCII, its length and its last letter as a number below 2^16, which other words may have as well.
#[inline]
fn end_of(start: usize, word: &[u8]) -> usize {
    let last = word.last().map_or(0, |last| usize::from(last & 0x1f));
    mixed((start << 10 | last << 5 | word.len() & 0x1f) as u64, 16)
}

/// The first two characters of a text, the first of which is beyond ASCII, as a number below 2^14, which other pairs may have
/// as well.
#[inline]
fn pair_of(text: &[u8]) -> usize {
    let width = |at: usize| match text.get(at) {
        Some(0xc0..) => text[at].leading_ones() as usize,
        _ => 1,
    };
    let first = width(0);
    let bytes = text.get(..first + width(first)).unwrap_or(text);
    let word = bytes.iter().take(8).fold(0u64, |word, byte| word << 8 | u64::from(*byte));
    mixed(word, 14)
}

/// The upper bits of a product, which all bits of a number have part in.
#[inline]
fn mixed(number: u64, bits: u32) -> usize {
    const FACTOR: u64 = 0x9e37_79b9_7f4a_7c15;
    (number.wrapping_mul(FACTOR) >> (u64::BITS - bits)) as usize
}

/// Whether the word that a value starts with may be a name. It says so by a few letters and the length, of which nearly all
/// words have others.
#[inline]
pub fn may_be_name(value: &[u8]) -> bool {
    let looks = &*LOOKS;
    if let Some(0x80..) = value.first() {
        return has_number(&*looks.pairs, pair_of(value));
    }
    let Some(start) = start_of(value) else { return true };
    has_number(&*looks.starts, start) && may_end_as_name(looks, start, value)
}

/// Whether the word that a value starts with may be a name by how long it is and how it ends.
#[inline(never)]
fn may_end_as_name(looks: &Looks, start: usize, value: &[u8]) -> bool {
    let letters = value.iter().take(MOST_BYTES + 1).take_while(|byte| byte.is_ascii_alphabetic());
    let word = &value[..letters.count()];
    match value.get(word.len()) {
        Some(0x80..) => true,
        _ => has_number(&*looks.ends, end_of(start, word)),
    }
}

/// Whether a name is one word of letters.
fn is_word(name: &str) -> bool {
    name.len() <= MOST_BYTES && name.chars().all(char::is_alphabetic)
}

/// The letters that a value starts with, as bytes; nothing where there are too many for a name.
pub(super) fn word(value: &[u8]) -> Option<&[u8]> {
    let ascii =
        value.iter().take(MOST_BYTES + 1).take_while(|byte| byte.is_ascii_alphabetic()).count();
    let length = match value.get(ascii) {
        Some(0x80..) => {
            let longest = &value[..value.len().min(MOST_BYTES + 4)];
            let text = match std::str::from_utf8(longest) {
                Ok(text) => text,
                Err(error) => std::str::from_utf8(&longest[..error.valid_up_to()]).ok()?,
            };
            text.find(|letter: char| !letter.is_alphabetic()).unwrap_or(text.len())
        }
        _ => ascii,
    };
    (1..=MOST_BYTES).contains(&length).then(|| &value[..length])
}

/// A word of ASCII in small letters, put into `buffer`; `None` of any other, and of a longer one.
pub fn in_small_letters<'b>(word: &[u8], buffer: &'b mut [u8; MOST_BYTES]) -> Option<&'b str> {
    let small = buffer.get_mut(..word.len()).filter(|_| word.is_ascii())?;
    small.copy_from_slice(word);
    small.make_ascii_lowercase();
    std::str::from_utf8(small).ok()
}

/// What a word stands for, if it is a name of that kind in some language.
pub(super) fn number(named: Named, word: &[u8]) -> Option<u8> {
    let table = if named == Named::Month { &MONTHS } else { &WEEKDAYS };
    if word.len() < 2 {
        return None;
    }
    if word.is_ascii() {
        return table.get(in_small_letters(word, &mut [0; MOST_BYTES])?).copied();
    }
    table.get(&*std::str::from_utf8(word).ok()?.to_lowercase()).copied()
}

/// The first language that has all of some names, in small letters, with the form of each; `None` where
/// none has.
pub fn language_of<'w>(
    months: impl Iterator<Item = &'w str> + Clone,
    weekdays: impl Iterator<Item = &'w str> + Clone,
) -> Option<&'static str> {
    let knows = |locale: &str, named: Named, word: &str| {
        names(locale, named, Form::Any).is_ok_and(|names| has(&names, word))
    };
    FOUND_LOCALES.into_iter().find(|locale| {
        months.clone().all(|word| knows(locale, Named::Month, word))
            && weekdays.clone().all(|word| knows(locale, Named::Weekday, word))
    })
}

/// The shortest form in which a language has a name: abbreviated, or written out.
pub fn form_of(locale: &str, named: Named, word: &str) -> Form {
    let is = |form| names(locale, named, form).is_ok_and(|names| has(&names, word));
    match (is(Form::Short), is(Form::Long)) {
        (true, true) => Form::Any,
        (true, false) => Form::Short,
        _ => Form::Long,
    }
}

fn has(names: &Names, word: &str) -> bool {
    names.iter().any(|(name, _)| name == word)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_of_all_languages() {
        for (value, named, want) in [
            ("MARCH 5", Named::Month, Some(3)),
            ("März", Named::Month, Some(3)),
            ("août", Named::Month, Some(8)),
            ("okt", Named::Month, Some(10)),
            ("января", Named::Month, Some(1)),
            ("fri", Named::Weekday, Some(5)),
            ("Donnerstag", Named::Weekday, Some(4)),
            ("crates", Named::Month, None),
            ("m", Named::Month, None),
            // November in Poland, October in Croatia.
            ("listopad", Named::Month, None),
        ] {
            let found = word(value.as_bytes()).and_then(|word| number(named, word));
            assert_eq!(found, want, "{value}");
            assert!(want.is_none() || may_be_name(value.as_bytes()), "{value}");
        }
        for name in MONTHS.keys().chain(WEEKDAYS.keys()) {
            // In other letters it may be another word: `ARALIK` is none.
            let upper = name.to_uppercase();
            let is_name = |named| number(named, upper.as_bytes()).is_some();
            let is_any = is_name(Named::Month) || is_name(Named::Weekday);
            assert!(may_be_name(name.as_bytes()), "{name}");
            assert!(!is_any || may_be_name(upper.as_bytes()), "{upper}");
        }
        for other in ["crates", "upcegx", "BK-17", "a1", "x", "Monika 5", "Marken", "Улица", "京都"]
        {
            assert!(!may_be_name(other.as_bytes()), "{other}");
        }
        assert_eq!(word(b"5"), None);
        assert_eq!(word("é".repeat(40).as_bytes()), None);
    }

    /// Whichever letters there are that become those of a name: all of Unicode is tried.
    #[test]
    fn names_in_any_case_may_be_names() {
        let beyond =
            ('\u{80}'..=char::MAX).filter(|letter| letter.is_lowercase() || letter.is_uppercase());
        for letter in beyond {
            let small = letter.to_lowercase().to_string();
            for name in MONTHS.keys().chain(WEEKDAYS.keys()) {
                if let Some(rest) = name.strip_prefix(&small) {
                    assert!(may_be_name(format!("{letter}{rest}").as_bytes()), "{letter}{rest}");
                }
                let second = name.chars().next().map_or(0, char::len_utf8);
                if let Some(rest) = name[second..].strip_prefix(&small) {
                    let name = format!("{}{letter}{rest}", name[..second].to_uppercase());
                    assert!(may_be_name(name.as_bytes()), "{name}");
                }
            }
        }
    }

    #[test]
    fn a_language_is_found_by_all_its_names() {
        let of = |months: &[&'static str]| language_of(months.iter().copied(), [].into_iter());
        assert_eq!(of(&["mar", "apr"]), Some("en"));
        assert_eq!(of(&["mai", "des"]), Some("nb"));
        assert_eq!(of(&["märz", "okt"]), Some("de"));
        assert_eq!(of(&["märz", "octobre"]), None);
        assert_eq!(form_of("en", Named::Month, "may"), Form::Any);
        assert_eq!(form_of("en", Named::Month, "march"), Form::Long);
    }
}
