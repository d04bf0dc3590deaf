//! Texts and names in quotes, and expressions made of them.

use typhos_core::schema::IntType;

use super::definitions::Definitions;

/// Literals as a list in parentheses, on several lines where they are many.
pub(crate) fn literals(language: &dyn Definitions, values: &[String]) -> String {
    const WIDTH: usize = 90;
    let mut lines = vec![String::new()];
    for (at, value) in values.iter().enumerate() {
        let mut literal = language.literal(value).trim_start().to_owned();
        if at + 1 < values.len() {
            literal.push(',');
        }
        let last = lines.last_mut().expect("there is always one");
        if last.is_empty() {
            *last = literal;
        } else if last.chars().count() + literal.chars().count() < WIDTH {
            last.push(' ');
            last.push_str(&literal);
        } else {
            lines.push(literal);
        }
    }
    match &lines[..] {
        [line] => format!("({line})"),
        lines => format!("(\n  {}\n)", lines.join("\n  ")),
    }
}

/// A text that cannot end the comment it stands in.
pub(crate) fn one_line(text: &str) -> String {
    text.split(|c: char| c.is_control() || matches!(c, '\u{85}' | '\u{2028}' | '\u{2029}'))
        .collect::<Vec<_>>()
        .join(" ")
}

/// A text in quotes, those inside doubled.
pub(crate) fn doubled(text: &str, quote: char) -> String {
    let quoted = text.replace(quote, &format!("{quote}{quote}"));
    format!("{quote}{quoted}{quote}")
}

/// A text in quotes as standard SQL has it: with an escape for every control character, where it has any.
pub(crate) fn unicode_escaped(text: &str, quote: char) -> String {
    if !text.contains(char::is_control) {
        return doubled(text, quote);
    }
    format!("U&{}", doubled(&backslashed(text, "\\"), quote))
}

/// A text with backslashes doubled, and with a number of four digits behind `before` for every control character.
pub(crate) fn backslashed(text: &str, before: &str) -> String {
    text.chars().fold(String::new(), |mut escaped, letter| {
        match letter {
            '\\' => escaped.push_str("\\\\"),
            letter if letter.is_control() => {
                escaped.push_str(&format!("{before}{:04X}", u32::from(letter)));
            }
            letter => escaped.push(letter),
        }
        escaped
    })
}

/// The check that keeps an integer in its range.
pub(crate) fn range_check(column: &str, int: IntType) -> String {
    let (low, high) = int.range();
    format!("{column} BETWEEN {low} AND {high}")
}

/// The check that keeps a text in its list.
pub(crate) fn list_check(language: &dyn Definitions, column: &str, values: &[String]) -> String {
    let values: Vec<_> = values.iter().map(|value| language.literal(value)).collect();
    format!("{column} IN ({})", values.join(", "))
}
