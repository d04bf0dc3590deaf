//! What a server is asked for in place of a question, as a condition of SQL.

use typhos_core::filter::Superset;
use typhos_sql::Definitions;

/// A column, as it stands in a condition.
#[derive(Debug, Clone)]
pub(super) struct Named {
    /// Its name, in quotes.
    pub name: String,
    /// Whether its values are numbers, which stand there without quotes.
    pub is_number: bool,
    /// Whether all that it can hold has a place in its type here. What has none is absent here, and not there.
    pub is_total: bool,
}

/// A condition for rows that hold all those that are meant; `None` where there is nothing to ask. `name` gives a column by its
/// place.
pub(super) fn written(
    superset: &Superset,
    language: &(impl Definitions + ?Sized),
    name: &dyn Fn(usize) -> Named,
) -> Option<String> {
    let parts = |parts: &[Superset]| -> Vec<Option<String>> {
        parts.iter().map(|part| written(part, language, name)).collect()
    };
    let joined = |parts: Vec<String>, word: &str| format!("({})", parts.join(word));
    let never = || "1 = 0".to_owned();
    Some(match superset {
        Superset::Anything => return None,
        Superset::All(all) => {
            // What cannot be asked is left out, and more rows come.
            let asked: Vec<String> = parts(all).into_iter().flatten().collect();
            match asked.is_empty() {
                true => return None,
                false => joined(asked, " AND "),
            }
        }
        Superset::Any(any) if any.is_empty() => never(),
        Superset::Any(any) => joined(parts(any).into_iter().collect::<Option<_>>()?, " OR "),
        Superset::Absent(column) => {
            let Named { name, is_total, .. } = name(*column);
            return is_total.then(|| format!("{name} IS NULL"));
        }
        Superset::Present(column) => format!("{} IS NOT NULL", name(*column).name),
        Superset::OneOf(_, texts) if texts.is_empty() => never(),
        Superset::OneOf(column, texts) => {
            let texts: Vec<_> = texts.iter().map(|text| language.literal(text)).collect();
            format!("{} IN ({})", name(*column).name, texts.join(", "))
        }
        Superset::Within(_, ranges) if ranges.is_empty() => never(),
        Superset::Within(column, ranges) => {
            let Named { name, is_number, .. } = name(*column);
            let value = |text: &String| {
                // Sessions are in UTC, and not all servers know its sign.
                let plain = text.strip_suffix('Z').unwrap_or(text);
                if is_number { plain.to_owned() } else { language.literal(plain) }
            };
            // Years that not every server knows bound nothing there.
            let known =
                |end: &Option<String>| end.clone().filter(|it| is_number || has_usual_year(it));
            let ranges = ranges.iter().map(|(low, high)| (known(low), known(high)));
            let range = |(low, high): (Option<String>, Option<String>)| match (&low, &high) {
                (None, None) => format!("{name} IS NOT NULL"),
                (Some(low), None) => format!("{name} >= {}", value(low)),
                (None, Some(high)) => format!("{name} <= {}", value(high)),
                (Some(low), Some(high)) if low == high => format!("{name} = {}", value(low)),
                (Some(low), Some(high)) => {
                    format!("{name} BETWEEN {} AND {}", value(low), value(high))
                }
            };
            let ranges: Vec<_> = ranges.map(range).collect();
            match &ranges[..] {
                [one] => one.clone(),
                many => format!("({})", many.join(" OR ")),
            }
        }
    })
}

/// Whether a day or an instant is in one of the years 1 to 9999.
fn has_usual_year(text: &str) -> bool {
    let year = text.split_once('-').map_or("", |(year, _)| year);
    year.len() == 4 && year != "0000" && year.bytes().all(|byte| byte.is_ascii_digit())
}

#[cfg(test)]
mod tests {
    use super::*;
    use typhos_sql::Standard;

    fn sql(superset: &Superset) -> Option<String> {
        let names = ["fare", "route", "sold \"on\""];
        written(superset, &Standard, &|column| Named {
            name: Standard.identifier(names[column]),
            is_number: column == 0,
            is_total: column < 2,
        })
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
        for (low, high, want) in [
            (
                "0001-01-01",
                "9999-12-31",
                "\"sold \"\"on\"\"\" BETWEEN '0001-01-01' AND '9999-12-31'",
            ),
            ("0000-12-31", "2024-02-29", "\"sold \"\"on\"\"\" <= '2024-02-29'"),
            ("-0044-03-15", "12024-01-01", "\"sold \"\"on\"\"\" IS NOT NULL"),
        ] {
            assert_eq!(sql(&Superset::Within(2, vec![(end(low), end(high))])).unwrap(), want);
        }
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
        // A day at infinity is absent here, and not there.
        assert_eq!(sql(&Superset::Absent(2)), None);
        assert_eq!(sql(&Superset::Absent(0)).unwrap(), "\"fare\" IS NULL");
        // Half a condition would leave out what is meant, where any of its parts would do.
        assert_eq!(sql(&Superset::Any(vec![Superset::Anything, Superset::Absent(0)])), None);
    }
}
