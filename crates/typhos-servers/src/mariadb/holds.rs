//! What a server of MariaDB holds of values that are valid elsewhere: UUIDs of versions to come, and JSON. Versions differ, so each
//! is asked for its own rules.

use typhos_load::table::Answers;

/// What a server holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Holds {
    /// Every UUID there is, also those that have [two places](has_two_places).
    pub all_uuids: bool,
    /// JSON that nests [deep](MOST_NESTED).
    pub deep_json: bool,
    /// JSON with half of a surrogate pair in it.
    pub half_pairs: bool,
}

/// Levels of JSON that every server holds.
const MOST_NESTED: u32 = 31;

impl Holds {
    /// A server that nobody has asked.
    pub const ALL: Holds = Holds { all_uuids: true, deep_json: true, half_pairs: true };

    /// The question: the version, and whether a value of each kind is held. Who does not know a type yet takes what is asked
    /// about it for a comment.
    pub const QUESTION: &str = "SELECT version() \
        /*M!100203 , json_valid(concat(repeat('[', 32), repeat(']', 32))), json_valid('[\"\\\\ud800\"]') */ \
        /*M!100700 , cast('00000000-0000-8000-0100-000000000000' AS uuid) IS NOT NULL */";

    /// What the server answered: its version, and what it holds.
    pub fn of(answers: Answers) -> (String, Holds) {
        let mut answer = answers.into_iter().next().unwrap_or_default().into_iter().map(|cell| {
            // What was not answered was not asked, and nothing of that kind is sent.
            cell.unwrap_or_default()
        });
        let version = answer.next().unwrap_or_default();
        let mut held = || answer.next().is_none_or(|held| held == "1");
        let (deep_json, half_pairs, all_uuids) = (held(), held(), held());
        (version, Holds { all_uuids, deep_json, half_pairs })
    }

    /// Why a UUID is not held.
    #[inline]
    pub fn refuses_uuid(self, uuid: &[u8; 16]) -> Option<&'static str> {
        (!self.all_uuids && has_two_places(uuid)).then_some(
            "has a version and a variant that uuid does not hold in MariaDB; text(36) would",
        )
    }

    /// Why a text that is valid JSON is not held.
    pub fn refuses_json(self, text: &str) -> Option<&'static str> {
        if self.deep_json && self.half_pairs {
            return None;
        }
        let JsonFacts { depth, has_half_pair } = JsonFacts::of(text.as_bytes());
        if !self.deep_json && depth > MOST_NESTED {
            return Some(
                "nests more than 31 levels deep, which json does not hold in MariaDB; text would",
            );
        }
        (!self.half_pairs && has_half_pair).then_some(
            "has half of a surrogate pair in it, which json does not hold in MariaDB; text would",
        )
    }
}

/// Whether a UUID is one that MariaDB refuses from 10.11 on. It keeps those of time in another order of bytes, so that they are
/// sorted by it, and tells by the bytes of version and variant which ones it has turned round; of these it could not tell.
fn has_two_places(uuid: &[u8; 16]) -> bool {
    uuid[6] >= 0x80 && (0x01..=0x80).contains(&uuid[8])
}

/// What is to be known of a text that is valid JSON.
#[derive(Debug, Default, PartialEq, Eq)]
struct JsonFacts {
    /// The most arrays and objects that are within each other.
    depth: u32,
    /// Whether an escape is one half of a surrogate pair, without the other.
    has_half_pair: bool,
}

impl JsonFacts {
    fn of(text: &[u8]) -> JsonFacts {
        let mut facts = JsonFacts::default();
        let (mut depth, mut at) = (0, 0);
        while let Some(byte) = text.get(at) {
            at += 1;
            match byte {
                b'[' | b'{' => {
                    depth += 1;
                    facts.depth = facts.depth.max(depth);
                }
                b']' | b'}' => depth -= 1,
                b'"' => at = facts.string(text, at),
                _ => {}
            }
        }
        facts
    }

    /// Goes over a string from behind its first quote; returns where it ends.
    fn string(&mut self, text: &[u8], mut at: usize) -> usize {
        // The first half, directly before.
        let mut is_open = false;
        loop {
            let (letter, length) = match text.get(at..) {
                Some([b'\\', b'u', digits @ ..]) => (unit(digits), 6),
                Some([b'\\', ..]) => (None, 2),
                Some([b'"', ..]) | Some([]) | None => {
                    self.has_half_pair |= is_open;
                    return at + 1;
                }
                Some(_) => (None, 1),
            };
            let is_second = matches!(letter, Some(0xdc00..=0xdfff));
            self.has_half_pair |= is_open != is_second;
            is_open = matches!(letter, Some(0xd800..=0xdbff));
            at += length;
        }
    }
}

/// The number that the first four hexadecimal digits are.
fn unit(digits: &[u8]) -> Option<u16> {
    u16::from_str_radix(std::str::from_utf8(digits.get(..4)?).ok()?, 16).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    const NONE: Holds = Holds { all_uuids: false, deep_json: false, half_pairs: false };

    #[test]
    fn json_is_refused_for_its_depth_and_for_halves() {
        let deep = |levels: usize| format!("{}{}", "[".repeat(levels), "]".repeat(levels));
        assert_eq!(NONE.refuses_json(&deep(31)), None);
        assert!(NONE.refuses_json(&deep(32)).unwrap().starts_with("nests more than 31 levels"));
        // What stands in a string nests nothing.
        assert_eq!(NONE.refuses_json(&format!("[\"\\\"{}\"]", deep(40))), None);
        assert_eq!(NONE.refuses_json(&"[1, {\"a\": []}], ".repeat(50)), None);
        for (string, is_half) in [
            (r"\ud83d\ude00", false),
            (r"\uDBFF\uDFFF", false),
            (r"\u00e9\n\\ud800", false),
            (r"\ud800", true),
            (r"\udc00", true),
            (r"\ud800x\udc00", true),
            (r"\ud800\ud800\udc00", true),
            (r"\ud83d\ude00\ude00", true),
            (r"\ud800\\udc00", true),
        ] {
            let refused = NONE.refuses_json(&format!("{{\"{string}\":\"a\"}}"));
            assert_eq!(refused.is_some(), is_half, "{string}");
            let refused = NONE.refuses_json(&format!("[\"a\",\"{string}\"]"));
            assert_eq!(refused.is_some(), is_half, "{string}");
        }
        assert_eq!(Holds::ALL.refuses_json(&deep(99)), None);
    }

    #[test]
    fn a_server_says_what_it_holds() {
        let answer = |cells: &[&str]| {
            Holds::of(vec![cells.iter().map(|cell| Some((*cell).to_owned())).collect()])
        };
        let (version, holds) = answer(&["10.11.6-MariaDB", "0", "0", "0"]);
        assert_eq!((version.as_str(), holds), ("10.11.6-MariaDB", NONE));
        assert_eq!(answer(&["12.3.1-MariaDB", "1", "1", "1"]).1, Holds::ALL);
        // It has no UUIDs, and nobody sends it any.
        assert_eq!(answer(&["10.5.2-MariaDB", "0", "0"]).1, Holds { all_uuids: true, ..NONE });
    }
}
