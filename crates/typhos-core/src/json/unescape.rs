//! Texts of JSON as they are meant.

/// Adds the text that stands between the quotes of a JSON text, which is sound, to `to`.
pub(super) fn unescape(inside: &[u8], to: &mut Vec<u8>) {
    let mut rest = inside;
    while let Some(at) = memchr::memchr(b'\\', rest) {
        to.extend_from_slice(&rest[..at]);
        let escaped = rest.get(at + 1).copied().unwrap_or(b'\\');
        rest = rest.get(at + 2..).unwrap_or_default();
        match escaped {
            b'b' => to.push(8),
            b'f' => to.push(12),
            b'n' => to.push(b'\n'),
            b'r' => to.push(b'\r'),
            b't' => to.push(b'\t'),
            b'u' => {
                let mut unit = take_unit(&mut rest);
                if (0xd800..0xdc00).contains(&unit) && rest.starts_with(b"\\u") {
                    rest = &rest[2..];
                    let low = take_unit(&mut rest);
                    unit = 0x1_0000 + ((unit - 0xd800) << 10) + (low.wrapping_sub(0xdc00) & 0x3ff);
                }
                let letter = char::from_u32(unit).unwrap_or(char::REPLACEMENT_CHARACTER);
                to.extend_from_slice(letter.encode_utf8(&mut [0; 4]).as_bytes());
            }
            other => to.push(other),
        }
    }
    to.extend_from_slice(rest);
}

/// The unit that four digits are, which are taken off.
fn take_unit(rest: &mut &[u8]) -> u32 {
    let (digits, behind) = rest.split_at_checked(4).unwrap_or((rest, b""));
    *rest = behind;
    digits.iter().fold(0, |unit, digit| unit << 4 | char::from(*digit).to_digit(16).unwrap_or(0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn texts_come_back(text in any::<String>(), is_ascii: bool) {
            let mut written = serde_json::to_string(&text).unwrap();
            if is_ascii {
                let escaped = |c: char| -> String {
                    let mut units = [0; 2];
                    c.encode_utf16(&mut units).iter().map(|unit| format!("\\u{unit:04x}")).collect()
                };
                written = written.chars().map(|c| if c.is_ascii() { c.to_string() } else { escaped(c) }).collect();
            }
            let mut meant = Vec::new();
            unescape(&written.as_bytes()[1..written.len() - 1], &mut meant);
            prop_assert_eq!(String::from_utf8(meant).unwrap(), text);
        }
    }
}
