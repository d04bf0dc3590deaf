//! A schema file → a schema, or everything that is wrong with it.
//!
//! Mistakes are collected, not thrown at the first: a person who mends a file at night wants to mend
//! it once. Unknown words are met with the nearest right one.

use std::ops::Range;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::{ColumnDecl, Diagnostic, FORMAT_VERSION, Misfit, Scalar, Schema};

const TOP_KEYS: [&str; 5] = ["typhos", "table", "input", "columns", "layout"];

/// Reads a schema. `values` reads the bounds and defaults in it.
///
/// # Errors
/// All mistakes that can be found in one run, in the order of the file.
pub fn read(source: &str, values: &dyn ReadValues) -> Result<Schema, Vec<Diagnostic>> {
    let (table, errors) = DeTable::parse_recoverable(source);
    let mut reader = Reader { source, values, wrong: Vec::new() };
    for error in errors {
        let span = error.span().unwrap_or(0..0);
        reader.syntax(span, error.message());
    }
    let schema = reader.schema(table.get_ref());
    let mut wrong = reader.wrong;
    if wrong.is_empty() {
        let left_out = commented_out(source, values);
        let left_out = left_out.into_iter().map(|(column, _)| column).collect();
        return Ok(Schema { left_out, ..schema });
    }
    wrong.sort_by_key(|diagnostic| diagnostic.span.start);
    wrong.dedup();
    Err(wrong)
}

/// How values are read, which a schema asks and does not know: bounds and defaults have to be some.
pub trait ReadValues {
    /// Whether a text is a value of a type, as a bound in a schema file must be.
    ///
    /// # Errors
    /// A sentence that says why it is not.
    fn is_bound(&self, ty: Scalar, text: &str) -> Result<(), String>;

    /// Whether a column takes a text for a value.
    ///
    /// # Errors
    /// A clause that says why it does not.
    fn is_value(&self, column: &ColumnDecl, text: &str) -> Result<(), String>;
}

/// Takes every text for a value: for files in which none stand.
struct Unread;

impl ReadValues for Unread {
    fn is_bound(&self, _: Scalar, _: &str) -> Result<(), String> {
        Ok(())
    }

    fn is_value(&self, _: &ColumnDecl, _: &str) -> Result<(), String> {
        Ok(())
    }
}

/// Columns whose line is there as a comment, and where the line behind each starts.
pub(super) fn commented_out(source: &str, values: &dyn ReadValues) -> Vec<(ColumnDecl, usize)> {
    let mut columns = Vec::new();
    let mut at = 0;
    for line in source.split_inclusive('\n') {
        at += line.len();
        let Some(inner) = line.trim().strip_prefix('#') else { continue };
        let inner = inner.trim_start_matches('#').trim();
        if !inner.contains('=') || !inner.contains('{') {
            continue;
        }
        let text = format!("typhos = {}\n[columns]\n{inner}\n", FORMAT_VERSION);
        if let Ok(schema) = read(&text, values) {
            columns.extend(schema.columns.into_iter().map(|column| (column, at)));
        }
    }
    columns
}

pub(crate) type Value<'i> = Spanned<DeValue<'i>>;

/// What the columns that are read are in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Within {
    /// A record of the input.
    Record,
    /// A struct whose misfits have this policy, which its fields have too where they say none.
    Struct(Misfit),
}

impl Within {
    /// What one of them is called.
    fn what(self) -> &'static str {
        match self {
            Within::Record => "column",
            Within::Struct(_) => "field",
        }
    }
}

/// Collects what is wrong with a file while it is read.
pub(crate) struct Reader<'s> {
    pub(super) source: &'s str,
    pub(super) values: &'s dyn ReadValues,
    pub(crate) wrong: Vec<Diagnostic>,
}

impl<'s> Reader<'s> {
    pub(crate) fn new(source: &'s str) -> Reader<'s> {
        Reader { source, values: &Unread, wrong: Vec::new() }
    }
}

impl Reader<'_> {
    pub(crate) fn wrong(
        &mut self,
        span: Range<usize>,
        message: impl Into<String>,
        help: impl Into<String>,
    ) {
        self.wrong.push(Diagnostic::new(span, message).help(help));
    }

    pub(crate) fn syntax(&mut self, span: Range<usize>, message: &str) {
        if message.starts_with("duplicate key") {
            let name = self.source.get(span.clone()).unwrap_or_default().to_owned();
            let help = "every column has one line: give one of them another name, and say where it comes from with 'from'";
            let before = &self.source[..span.start];
            let section = before
                .lines()
                .rev()
                .find_map(|line| line.trim().strip_prefix('['))
                .unwrap_or_default();
            let line_start = before.rfind('\n').map_or(0, |at| at + 1);
            if section.starts_with("columns") && before[line_start..].trim().is_empty() {
                self.wrong(span, format!("column {name} is declared twice"), help);
            } else {
                self.wrong(span, format!("{name} is set twice"), "keep one of them");
            }
            return;
        }
        let diagnostic = Diagnostic::new(span, format!("this is not TOML: {message}"));
        self.wrong.push(diagnostic.help("a column is one line: name = { type = \"text\" }"));
    }

    pub(crate) fn unknown_key(
        &mut self,
        key: &Spanned<std::borrow::Cow<'_, str>>,
        place: &str,
        known: &[&str],
    ) {
        let help = match crate::nearest(key.get_ref(), known.iter().copied()) {
            Some(near) => format!("did you mean '{near}'?"),
            None => format!("the keys are {}", known.join(", ")),
        };
        self.wrong(
            key.span(),
            format!("unknown key '{}' in {place}", key.get_ref().escape_debug()),
            help,
        );
    }

    fn schema(&mut self, table: &DeTable<'_>) -> Schema {
        let mut schema = Schema::default();
        let mut version = false;
        let mut columns = false;
        let mut layout = None;
        for (key, value) in table.iter() {
            match key.get_ref().as_ref() {
                "typhos" => {
                    version = true;
                    self.version(value);
                }
                "table" => schema.table = self.text(value, "the name of a table"),
                "input" => {
                    if let Some(table) = self.table(value, "'input'") {
                        schema.input = self.input(table);
                    }
                }
                "columns" => {
                    columns = true;
                    if let Some(table) = self.table(value, "'columns'") {
                        schema.columns = self.columns(table, Within::Record);
                    }
                }
                "layout" => layout = self.table(value, "'layout'"),
                _ => self.unknown_key(key, "a schema file", &TOP_KEYS),
            }
        }
        // It names columns, and may stand above them.
        if let Some(table) = layout {
            schema.layout = self.layout(table, &schema.columns);
        }
        if !version {
            self.wrong(
                0..0,
                "the version of the format is missing",
                format!("begin with the line: typhos = {FORMAT_VERSION}"),
            );
        }
        let end = self.source.len();
        if !columns {
            self.wrong(
                end..end,
                "there are no columns",
                "add a table [columns] with a line for each",
            );
        } else if schema.columns.is_empty() && self.wrong.is_empty() {
            self.wrong(
                end..end,
                "[columns] is empty",
                "declare at least one column: name = { type = \"text\" }",
            );
        }
        schema
    }

    fn version(&mut self, value: &Value<'_>) {
        let number = value
            .get_ref()
            .as_integer()
            .and_then(|n| i64::from_str_radix(n.as_str(), n.radix()).ok());
        match number {
            Some(FORMAT_VERSION) => {}
            Some(other) => {
                let message = format!(
                    "this program reads version {FORMAT_VERSION} of the format, not {other}"
                );
                self.wrong(value.span(), message, "use a newer typhos, or draft the schema anew");
            }
            None => self.wrong(
                value.span(),
                "the version is a whole number",
                format!("write: typhos = {FORMAT_VERSION}"),
            ),
        }
    }

    /// The columns of a schema, or the fields of a struct.
    pub(super) fn columns(&mut self, table: &DeTable<'_>, within: Within) -> Vec<ColumnDecl> {
        let mut columns = Vec::new();
        let what = within.what();
        for (key, value) in table.iter() {
            let name = key.get_ref().as_ref();
            if let DeValue::String(spelling) = value.get_ref() {
                let help = format!("write {name} = {{ type = {} }}", super::quoted(spelling));
                self.wrong(value.span(), format!("a {what} is a table of keys"), help);
            } else if let Some(table) = self.table(value, &format!("{what} '{name}'")) {
                let mut column = ColumnDecl::new(name, Scalar::Text { most: None });
                column.spans.name = key.span();
                column.spans.keys = value.span();
                if let Within::Struct(misfit) = within {
                    column.misfit = misfit;
                }
                self.column(&mut column, table, within);
                columns.push(column);
            }
        }
        columns
    }

    pub(crate) fn misfit(&mut self, value: &Value<'_>) -> Option<Misfit> {
        let word = self.text(value, "a policy")?;
        let found = Misfit::ALL.into_iter().find(|misfit| misfit.name() == word);
        if found.is_none() {
            let help = match crate::nearest(&word, Misfit::ALL.map(Misfit::name)) {
                Some(near) => format!("did you mean \"{near}\"?"),
                None => "use \"stop\", \"null\" or \"reject\"".into(),
            };
            self.wrong(
                value.span(),
                format!("'{}' is not a policy for misfits", word.escape_debug()),
                help,
            );
        }
        found
    }

    pub(super) fn table<'v, 'i>(
        &mut self,
        value: &'v Value<'i>,
        what: &str,
    ) -> Option<&'v DeTable<'i>> {
        let table = value.get_ref().as_table();
        if table.is_none() {
            self.wrong(
                value.span(),
                format!("{what} is a table of keys"),
                "write { key = value, … }",
            );
        }
        table
    }

    pub(crate) fn text(&mut self, value: &Value<'_>, what: &str) -> Option<String> {
        let text = value.get_ref().as_str().map(str::to_owned);
        if text.is_none() {
            let found = self.source.get(value.span()).unwrap_or_default().to_owned();
            self.wrong(
                value.span(),
                format!("{what} is a text"),
                format!("write it in quotes: \"{found}\""),
            );
        }
        text
    }

    pub(crate) fn truth(&mut self, value: &Value<'_>, key: &str) -> Option<bool> {
        let truth = value.get_ref().as_bool();
        if truth.is_none() {
            self.wrong(
                value.span(),
                format!("'{key}' is true or false"),
                format!("write {key} = true"),
            );
        }
        truth
    }

    pub(crate) fn integer(
        &mut self,
        value: &Value<'_>,
        range: std::ops::RangeInclusive<i64>,
        key: &str,
    ) -> Option<i64> {
        let number = value
            .get_ref()
            .as_integer()
            .and_then(|n| i64::from_str_radix(n.as_str(), n.radix()).ok());
        let number = number.filter(|number| range.contains(number));
        if number.is_none() {
            let message =
                format!("'{key}' is a whole number from {} to {}", range.start(), range.end());
            self.wrong(value.span(), message, format!("write {key} = {}", range.start()));
        }
        number
    }

    pub(crate) fn texts(&mut self, value: &Value<'_>, key: &str) -> Option<Vec<String>> {
        Some(self.spanned_texts(value, key)?.into_iter().map(|(_, text)| text).collect())
    }

    pub(crate) fn spanned_texts(
        &mut self,
        value: &Value<'_>,
        key: &str,
    ) -> Option<Vec<(Range<usize>, String)>> {
        let Some(list) = value.get_ref().as_array() else {
            let found = self.source.get(value.span()).unwrap_or_default().to_owned();
            self.wrong(
                value.span(),
                format!("'{key}' is a list"),
                format!("write {key} = [{found}]"),
            );
            return None;
        };
        let texts = list
            .iter()
            .filter_map(|item| Some((item.span(), self.text(item, &format!("each of '{key}'"))?)));
        Some(texts.collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every mistake as `line:column message / help`.
    fn mistakes(source: &str) -> Vec<String> {
        let wrong = crate::read_schema(source).err().unwrap_or_default();
        let text = |wrong: &Diagnostic| {
            let (line, column) = wrong.line_and_column(source);
            format!(
                "{line}:{column} {} / {}",
                wrong.message,
                wrong.help.clone().unwrap_or_default()
            )
        };
        wrong.iter().map(text).collect()
    }

    #[test]
    fn several_mistakes_in_one_run() {
        let source = r#"typhos = 1
colour = "red"
[input]
delimeter = ","
[columns]
ticket_no = { type = "unit32" }
fare = { type = "decimal(6,2)", hihg = "9" }
fare = { type = "text" }
sold_on = { type = "date", patterns = ["yyyy-mm-dd"] }
"#;
        assert_eq!(
            mistakes(source),
            [
                "2:1 unknown key 'colour' in a schema file / the keys are typhos, table, input, columns, layout",
                "4:1 unknown key 'delimeter' in [input] / did you mean 'delimiter'?",
                "6:22 unknown type 'unit32' / did you mean 'uint32'?",
                "7:33 unknown key 'hihg' in a column / did you mean 'high'?",
                "8:1 column fare is declared twice / every column has one line: give one of them another name, and say where it comes from with 'from'",
                "9:46 'mm' are minutes; did you mean 'MM' for the month? / ",
            ]
        );
    }

    #[test]
    fn each_mistake_has_its_words() {
        for (column, want) in [
            ("{ }", "1 column 'a' has no type / add a type"),
            ("\"text\"", "a column is a table of keys / write a = { type = \"text\" }"),
            ("7", "column 'a' is a table of keys"),
            ("{ type = 7 }", "a type is a text / write it in quotes: \"7\""),
            (
                "{ type = \"date\", patterns = [] }",
                "a date column has a pattern / leave it out for those of ISO 8601",
            ),
            (
                "{ type = \"date\", patterns = \"yyyy-MM-dd\" }",
                "'patterns' is a list / write patterns = [\"yyyy-MM-dd\"]",
            ),
            (
                "{ type = \"date\", patterns = [\"yyyy-MM-dd HH:mmX\"] }",
                "reads an offset, and the day depends on it / use timestamp(UNIT, utc)",
            ),
            (
                "{ type = \"timestamp(s, utc)\", patterns = [\"yyyy-MM-dd\"], zone = \"Europe/Olso\" }",
                "there is no time zone 'Europe/Olso'; did you mean 'Europe/Oslo'?",
            ),
            (
                "{ type = \"date\", patterns = [\"yyyy-MM-dd\"], zone = \"Europe/Oslo\" }",
                "'zone' does not apply to date / a zone belongs to timestamp(UNIT, utc)",
            ),
            (
                "{ type = \"date\", patterns = [\"d MMM yyyy\"], locale = \"xx\" }",
                "there are no names of months and weekdays for 'xx'",
            ),
            (
                "{ type = \"timestamp(s, utc)\", patterns = [\"epoch-s\"], overlap = \"both\" }",
                "'both' is neither of two instants: say earlier or later",
            ),
            (
                "{ type = \"timestamp(s, utc)\", patterns = [\"yyyy-MM-dd HH:mm\"] }",
                "names no point in time / add XXX",
            ),
            (
                "{ type = \"timestamp(s)\", patterns = [\"yyyy-MM-dd HH:mmX\"] }",
                "reads an offset, which this type cannot hold",
            ),
            (
                "{ type = \"time(s)\", patterns = [\"yyyy-MM-dd\"] }",
                "reads a date, which a time cannot hold",
            ),
            (
                "{ type = \"text\", patterns = [\"yyyy-MM-dd\"] }",
                "'patterns' does not apply to text",
            ),
            ("{ type = \"category\" }", "a category lists its values"),
            ("{ type = \"category\", values = [\"x\", \"x\"] }", "'x' is listed twice"),
            (
                "{ type = \"text\", misfit = \"rejct\" }",
                "'rejct' is not a policy for misfits / did you mean \"reject\"?",
            ),
            (
                "{ type = \"int8\", misfit = \"null\", required = true }",
                "cannot turn misfits into null",
            ),
            (
                "{ type = \"int8\", required = \"yes\" }",
                "'required' is true or false / write required = true",
            ),
            ("{ type = \"int8\", rounding = \"up\" }", "'up' is not a rounding: use half-even"),
            ("{ type = \"text\", rounding = \"down\" }", "'rounding' does not apply to text"),
            (
                "{ type = \"float32\", rounding = \"half-up\" }",
                "a float32 is rounded to the nearest / write rounding = \"half-even\"",
            ),
            (
                "{ type = \"date\", patterns = [\"yyyy-MM-dd HH:mm\"], rounding = \"half-even\" }",
                "a date is rounded to the one before / write rounding = \"down\"",
            ),
            ("{ type = \"text\", clip = true }", "'clip' does not apply to text / say how many"),
            ("{ type = \"int8\", low = \"x\" }", "'x' is not a valid int8"),
            ("{ type = \"int8\", high = 1000 }", "'1000' is not a valid int8"),
            ("{ type = \"text\", from = 0 }", "'from' is a whole number from 1"),
        ] {
            let source = format!("typhos = 1\n[columns]\na = {column}\n");
            let found = mistakes(&source);
            assert_eq!(found.len(), 1, "{column}: {found:?}");
            assert!(found[0].contains(want), "{column}: {found:?}");
            assert!(found[0].starts_with("3:"), "{column}: {found:?}");
        }
    }

    #[test]
    fn files_that_are_no_schema() {
        for (source, want) in [
            ("", "the version of the format is missing"),
            ("typhos = 1\n", "there are no columns"),
            ("typhos = 1\n[columns]\n", "[columns] is empty"),
            (
                "typhos = 2\n[columns]\na = { type = \"text\" }",
                "reads version 1 of the format, not 2",
            ),
            ("typhos = \n", "this is not TOML"),
            ("a,b\n1,2\n", "this is not TOML"),
            (
                "typhos = 1\n[input]\nmisfit = \"null\"\n[columns]\na = { type = \"text\" }",
                "use \"stop\" or \"reject\" here",
            ),
            (
                "typhos = 1\n[input]\nquote = \"x\"\n[columns]\na = { type = \"text\" }",
                "'x' is not a quote: use",
            ),
        ] {
            let found = mistakes(source);
            assert!(found.iter().any(|line| line.contains(want)), "{source}: {found:?}");
        }
    }

    #[test]
    fn any_text_is_answered_without_a_panic() {
        proptest::proptest!(|(text in "[\\[\\]{}=\",a-z0-9\n .'#]{0,80}")| {
            let _ = crate::read_schema(&text);
        });
    }
}
