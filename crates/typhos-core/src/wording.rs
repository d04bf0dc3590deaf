//! Counts, values and lists of names as messages have them.

/// A number with its thousands apart: 1,234,567.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut grouped = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            grouped.push(',');
        }
        grouped.push(digit);
    }
    grouped
}

/// A count with its noun: "1 value", "2,000 values".
pub fn counted(number: u64, noun: &str) -> String {
    format!("{} {noun}{}", grouped(number), if number == 1 { "" } else { "s" })
}

/// A number of bytes with its unit: `16 MiB`.
pub fn size_name(bytes: usize) -> String {
    for (unit, shift) in [("GiB", 30), ("MiB", 20), ("KiB", 10)] {
        if bytes >= 1 << shift && bytes.is_multiple_of(1 << shift) {
            return format!("{} {unit}", bytes >> shift);
        }
    }
    format!("{bytes} bytes")
}

/// A value for a message: in quotes, control characters escaped, cut where it is long.
pub fn shown(value: &str) -> String {
    const MOST: usize = 40;
    let mut text = String::new();
    for letter in value.chars() {
        if letter.is_control() {
            text.extend(letter.escape_default());
        } else {
            text.push(letter);
        }
    }
    if text.chars().count() > MOST {
        text = text.chars().take(MOST - 1).collect();
        text.push('…');
    }
    format!("'{text}'")
}

/// The first names of a list, for a message.
pub fn listed<'n>(names: impl IntoIterator<Item = &'n String>) -> String {
    const SHOWN: usize = 20;
    let names: Vec<&String> = names.into_iter().collect();
    let shown: Vec<_> =
        names.iter().take(SHOWN).map(|name| format!("'{}'", name.escape_debug())).collect();
    let more = names.len().saturating_sub(SHOWN);
    if more > 0 { format!("{} and {more} more", shown.join(", ")) } else { shown.join(", ") }
}
