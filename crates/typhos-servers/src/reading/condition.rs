//! What a server is asked for in place of a question, as a condition of SQL.

use typhos_core::filter::Superset;
use typhos_sql::Definitions;

/// A condition for rows that hold all those that are meant; `None` where there is nothing to ask. `name` gives the name of a
/// column, in quotes, and whether its values are numbers.
pub(super) fn written(
    superset: &Superset,
    language: &(impl Definitions + ?Sized),
    name: &dyn Fn(usize) -> (String, bool),
) -> Option<String> {
    let join = |parts: &[Superset], word: &str| {
        let parts: Option<Vec<String>> =
            parts.iter().map(|part| written(part, language, name)).collect();
        parts.map(|parts| format!("({})", parts.join(word)))
    };
    let never = || "1 = 0".to_owned();
    Some(match superset {
        Superset::Anything => return None,
        Superset::All(parts) => return join(parts, " AND "),
        Superset::Any(parts) if parts.is_empty() => never(),
        Superset::Any(parts) => return join(parts, " OR "),
        Superset::Absent(column) => format!("{} IS NULL", name(*column).0),
        Superset::Present(column) => format!("{} IS NOT NULL", name(*column).0),
        Superset::OneOf(_, texts) if texts.is_empty() => never(),
        Superset::OneOf(column, texts) => {
            let texts: Vec<_> = texts.iter().map(|text| language.literal(text)).collect();
            format!("{} IN ({})", name(*column).0, texts.join(", "))
        }
        Superset::Within(_, ranges) if ranges.is_empty() => never(),
        Superset::Within(column, ranges) => {
            let (name, is_number) = name(*column);
            let value = |text: &String| {
                // Sessions are in UTC, and not all servers know its sign.
                let plain = text.strip_suffix('Z').unwrap_or(text);
                if is_number { plain.to_owned() } else { language.literal(plain) }
            };
            let range = |(low, high): &(Option<String>, Option<String>)| match (low, high) {
                (None, None) => format!("{name} IS NOT NULL"),
                (Some(low), None) => format!("{name} >= {}", value(low)),
                (None, Some(high)) => format!("{name} <= {}", value(high)),
                (Some(low), Some(high)) if low == high => format!("{name} = {}", value(low)),
                (Some(low), Some(high)) => {
                    format!("{name} BETWEEN {} AND {}", value(low), value(high))
                }
            };
            let ranges: Vec<_> = ranges.iter().map(range).collect();
            match &ranges[..] {
                [one] => one.clone(),
                many => format!("({})", many.join(" OR ")),
            }
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use typhos_sql::Standard;

    fn sql(superset: &Superset) -> Option<String> {
        let names = ["fare", "route", "sold \"on\""];
        written(superset, &Standard, &|column| (Standard.identifier(names[column]), column == 0))
    }

    #[test]
    fn conditions_say_what_is_meant() {
        let end = |text: &str| Some(text.to_owned());
        let fares = Superset::Within(0, vec![(end("1.00"), end("2.50")), (end("9"), None)]);
        let day = Superset::Within(2, vec![(end("2024-02-29"), end("2024-02-29"))]);
        let route = Superset::OneOf(1, vec!["Holm".into(), "it's".into()]);
        let all = Superset::All(vec![fares, Superset::Any(vec![day, route]), Superset::Absent(1)]);
        assert_eq!(
            sql(&all).unwrap(),
            "((\"fare\" BETWEEN 1.00 AND 2.50 OR \"fare\" >= 9) AND \
             (\"sold \"\"on\"\"\" = '2024-02-29' OR \"route\" IN ('Holm', 'it''s')) AND \"route\" IS NULL)"
        );
        let since = Superset::Within(2, vec![(end("2024-02-29 06:15:00Z"), None)]);
        assert_eq!(sql(&since).unwrap(), "\"sold \"\"on\"\"\" >= '2024-02-29 06:15:00'");
        let open = Superset::Within(0, vec![(None, None)]);
        assert_eq!(sql(&open).unwrap(), "\"fare\" IS NOT NULL");
        for nothing in [
            Superset::Within(0, Vec::new()),
            Superset::OneOf(1, Vec::new()),
            Superset::Any(Vec::new()),
        ] {
            assert_eq!(sql(&nothing).unwrap(), "1 = 0");
        }
        assert_eq!(sql(&Superset::Anything), None);
        // Half a condition would leave out what is meant, where any of its parts would do.
        assert_eq!(sql(&Superset::Any(vec![Superset::Anything, Superset::Absent(0)])), None);
    }
}
