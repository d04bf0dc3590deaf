//! Remedies in the words of the command line.

use typhos_core::remedy::{Part, Remedy};

/// A remedy, with its settings as options.
pub fn words(remedy: &Remedy) -> String {
    let part = |part: &Part| match part {
        Part::Words(words) => words.clone(),
        Part::Setting(name, None) => option(name),
        Part::Setting(name, Some(value)) => format!("{} {value}", option(name)),
    };
    remedy.parts().iter().map(part).collect()
}

/// An error, and what to do about it.
pub fn with_remedy(error: impl std::fmt::Display, before: &str, remedy: Option<Remedy>) -> String {
    match remedy {
        Some(remedy) => format!("{error}{before}{}", words(&remedy)),
        None => error.to_string(),
    }
}

/// The option of a setting.
fn option(name: &str) -> String {
    format!("--{}", name.replace('_', "-"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_are_options() {
        let remedy = Remedy::of("say {columns_differ = union}, or drop {seen}");
        assert_eq!(words(&remedy), "say --columns-differ union, or drop --seen");
        assert_eq!(
            with_remedy("no", "; ", Some(remedy)),
            "no; say --columns-differ union, or drop --seen"
        );
        assert_eq!(with_remedy("no", "; ", None), "no");
    }
}
