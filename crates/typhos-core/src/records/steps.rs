//! How paths are written, and taken apart.
//!
//! A path is written as its names with points between them: `bearing.temp`; what is in an array has brackets behind the
//! name of that: `readings[].rpm`. A name that is empty, or has a point, a quote, a bracket or white space at an end,
//! stands in quotes, as JSON writes it: `meta."a.b"`.

/// A step of a path.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Step {
    /// To the member of an object that has this name.
    Member(String),
    /// To the elements of an array.
    Items,
}

/// The steps that a path is made of; `None` where it is not written as one.
pub fn steps(path: &str) -> Option<Vec<Step>> {
    let mut steps = Vec::new();
    let mut rest = path;
    loop {
        let (name, behind) = if rest.starts_with('"') {
            let mut texts = serde_json::Deserializer::from_str(rest).into_iter::<String>();
            let name = texts.next()?.ok()?;
            (name, &rest[texts.byte_offset()..])
        } else {
            let end = rest.find(['.', '[']).unwrap_or(rest.len());
            (rest[..end].to_owned(), &rest[end..])
        };
        steps.push(Step::Member(name));
        rest = behind;
        while let Some(behind) = rest.strip_prefix("[]") {
            steps.push(Step::Items);
            rest = behind;
        }
        match rest.strip_prefix('.') {
            Some(more) => rest = more,
            None if rest.is_empty() => return Some(steps),
            None => return None,
        }
    }
}

/// Steps as a path, which [`steps`] takes apart again.
pub fn path_of(steps: &[Step]) -> String {
    let mut path = String::new();
    for step in steps {
        match step {
            Step::Items => path.push_str("[]"),
            Step::Member(name) => {
                if !path.is_empty() {
                    path.push('.');
                }
                path.push_str(&member_step(name));
            }
        }
    }
    path
}

/// A name as it stands in a path.
fn member_step(name: &str) -> String {
    let is_odd = |c: char| matches!(c, '.' | '"' | '[' | ']' | '\\') || c.is_control();
    if name.is_empty() || name.trim() != name || name.contains(is_odd) {
        return serde_json::Value::from(name).to_string();
    }
    name.to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn paths_lead_back(names in proptest::collection::vec(("[a.\"\\[\\] é]{0,4}", 0usize..3), 1..4)) {
            let mut all = Vec::new();
            for (name, items) in names {
                all.push(Step::Member(name));
                all.extend(std::iter::repeat_n(Step::Items, items));
            }
            let path = path_of(&all);
            prop_assert_eq!(steps(&path), Some(all), "{}", path);
        }
    }
}
