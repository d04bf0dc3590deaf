//! The computation of Typhos: delimited text in, facts, schemas and typed Arrow arrays out.
//!
//! The rooms follow the flow of the data. Each depends only on the ones above it:
//!
//! * [`records`]: records of any format: where their leaves stand, and what a format says of them.
//! * [`text`]: bytes → blocks → records → fields. Dialects, and nothing about what a field means.
//! * [`readings`]: one field → what it can be read as (number, word, absent token).
//! * [`dates`]: date patterns: the language, its compiled form, and the shapes dates are found by.
//! * [`survey`]: mergeable facts per column, gathered over every record.
//! * [`schema`]: types and the declaration a person keeps: the model, TOML in and out.
//! * [`infer`]: facts → types with reasons; a survey becomes a draft.
//! * [`columns`]: text → typed Arrow arrays under a declaration, with every misfit named.
//! * [`sorting`]: typed rows in an order, in little memory.
//! * [`terms`]: a column, or what is worked out of one, such as the year of a date.
//! * [`filter`]: a question such as `route = 'Holm'`, answered by rows and by statistics.
//! * [`table`]: typed rows, wherever they are, with the columns and rows that are wanted of them.
//! * [`tally`]: groups of typed rows, counted and measured.
//! * [`ledger`]: bytes per column, before and after, and what would save more.
//! * [`spilling`]: what does not fit into memory, put aside and read again in order.
//! * [`remedy`]: what to do about a problem, for the program to word.
//! * [`run`]: the one loop that feeds blocks to all cores and puts results back in order.
//!
//! Nothing here prints, reads the command line, ends the process or opens a connection. Progress is
//! told to a [`run::Monitor`], which can also ask for the work to stop.
#![warn(missing_docs)]

mod bytewise;
pub mod columns;
pub mod dates;
pub mod filter;
pub mod infer;
mod intern;
pub mod json;
pub mod ledger;
pub mod readings;
pub mod records;
pub mod remedy;
pub mod run;
pub mod schema;
pub mod sorting;
pub mod spilling;
pub mod survey;
pub mod table;
pub mod tally;
pub mod terms;
pub mod text;
pub mod wording;

#[cfg(test)]
mod laws;

/// Reads a schema file, with the values that stand in it.
///
/// # Errors
/// All mistakes that can be found in one run, in the order of the file.
pub fn read_schema(source: &str) -> Result<schema::Schema, Vec<schema::Diagnostic>> {
    schema::read(source, &columns::PlainValues)
}

/// The nearest of `known` to `given`, where it is near enough to be what was meant.
///
/// Used by every message that refuses a word, so that they all suggest by the same measure
/// (Damerau-Levenshtein, at most a third of the letters changed and never all of them, letter case ignored).
pub fn nearest<'a>(given: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let given = given.to_lowercase();
    // One letter that is another one has nothing in common with it.
    let letters = given.chars().count();
    let most = (letters / 3).max(1).min(letters.saturating_sub(1));
    known
        .into_iter()
        .map(|word| (strsim::damerau_levenshtein(&given, &word.to_lowercase()), word))
        .filter(|(distance, _)| *distance <= most)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, word)| word)
}

/// Bytes as text for a person, nothing of them lost: what is not UTF-8 is shown escaped.
pub fn lossless(bytes: &[u8]) -> String {
    match std::str::from_utf8(bytes) {
        Ok(text) => text.to_owned(),
        Err(error) if error.error_len().is_none() => lossless(&bytes[..error.valid_up_to()]),
        Err(_) => bytes.escape_ascii().to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::nearest;

    #[test]
    fn bytes_that_are_no_text_are_shown_escaped() {
        assert_eq!(super::lossless("Tårnvik".as_bytes()), "Tårnvik");
        assert_eq!(super::lossless(b"T\xe5rnvik"), "T\\xe5rnvik");
        assert_eq!(super::lossless(&"Tå".as_bytes()[..2]), "T", "a cut character is left out");
    }

    #[test]
    fn nearest_suggests_only_what_is_near() {
        let words = ["delimiter", "header", "misfit"];
        assert_eq!(nearest("delimeter", words), Some("delimiter"));
        assert_eq!(nearest("HEADER", words), Some("header"));
        assert_eq!(nearest("mistfi", words), Some("misfit"));
        assert_eq!(nearest("encoding", words), None);
        assert_eq!(nearest("c", ["a", "b"]), None);
        assert_eq!(nearest("aa", ["a", "b"]), Some("a"));
    }
}
