//! Values that are texts and cannot be anything else, told by the bytes that are in them.
//!
//! A value that no reading knows is the dearest one: every reading has to refuse it first. Most texts of a column can be told from
//! what they are made of: a mark that no number, date or other form has, or letters without any digit. The law, which a property test
//! holds: nothing but a text is told to be one. Others are texts as well; those have to be looked at.

/// The longest value that is looked at.
const MOST_BYTES: usize = 64;

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
            b'@' | b'_' | b'=' | b'<' | b'>' | b'*' | b'~' | b'^' | b'`' | b'|' | b'!' | b'?'
            | b';' | b'\\' | b'&' => 1 << 8,
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
        && (!first.is_ascii_alphabetic() && *first < 0x80
            || matches!(first | 0x20, b'f' | b'i' | b'n' | b'o' | b't' | b'y'));
    let is_text = has(1) || !has(0) && has(2);
    (is_text && !may_be_known).then(|| value.len() as u64 - u64::from(counts >> 24))
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
        ] {
            assert_eq!(chars_of_sure_text(value.as_bytes()), Some(chars), "{value}");
        }
        for value in [
            "",
            "NULL",
            "yes",
            "infinity",
            "BK-17",
            " Holm",
            "+4716041999",
            "+47 160 419",
            "(47)",
            "+ 47",
            "{\"a\":\"xyzxyzxyz\"}",
            "5 kr",
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
                "[+(-]{1,2}[0-9]{1,4}(\\)?[ -]?\\(?[0-9]{0,4}){0,3}\\)?",
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
