//! One column of a schema file: its keys one by one. Whether they go together is asked by
//! [`agree`](super::agree).

use std::collections::HashSet;
use std::ops::Range;

use toml::de::{DeTable, DeValue};

use super::agree::agree;
use super::read::{Reader, Value, Within};
use super::{
    ColumnDecl, ColumnFrom, Diagnostic, Generate, GlueAbsent, IntType, Rounding, Scalar, Search,
    TimeUnit, Type,
};
use crate::dates::{DEFAULT_LOCALE, Form, Named, Overlap, Pattern, Zone, names};
use crate::readings::{Grouping, Mark, Side};

/// The keys of a column, in the order they are written.
pub const COLUMN_KEYS: [&str; 29] = [
    "type",
    "fields",
    "from",
    "glue",
    "glue_absent",
    "generate",
    "start",
    "patterns",
    "pivot",
    "locale",
    "zone",
    "overlap",
    "decimal_mark",
    "grouping",
    "strip",
    "accounting",
    "negative",
    "rounding",
    "clip",
    "required",
    "absent",
    "default",
    "misfit",
    "low",
    "high",
    "values",
    "ranked",
    "search",
    "comment",
];

/// The patterns of a date or time that does not say how its values are written: those of ISO 8601 that have
/// separators, with a `T` between date and time or a space, as RFC 3339 allows.
pub(crate) fn iso_8601(ty: Scalar, has_zone: bool) -> Vec<Pattern> {
    const TIMES: [&str; 3] = ["HH:mm:ss", "HH:mm:ss.SSSSSSSSS", "HH:mm"];
    let timestamps = |offset: &'static str| {
        let of =
            move |glue: &'static str| TIMES.map(|time| format!("yyyy-MM-dd{glue}{time}{offset}"));
        ["'T'", " "].into_iter().flat_map(of)
    };
    let sources: Vec<String> = match ty {
        Scalar::Date => vec!["yyyy-MM-dd".into()],
        Scalar::Time(_) => TIMES.map(str::to_owned).to_vec(),
        Scalar::Timestamp { utc: true, .. } if has_zone => {
            timestamps("").chain(timestamps("XXX")).collect()
        }
        Scalar::Timestamp { utc: true, .. } => timestamps("XXX").collect(),
        _ => timestamps("").collect(),
    };
    let compiled = sources.iter().map(|source| Pattern::compile(source));
    compiled.map(|pattern| pattern.expect("patterns of ours are patterns")).collect()
}

impl Reader<'_> {
    pub(super) fn column(&mut self, column: &mut ColumnDecl, table: &DeTable<'_>, within: Within) {
        let mut ty = None;
        let mut fields = None;
        let mut spans: Vec<(&str, Range<usize>)> = Vec::new();
        let before = self.wrong.len();
        let mut start = None;
        column.locale = table.get("locale").and_then(|value| self.locale(value));
        // Read first too, since fields have it where they say none.
        if let Some(value) = table.get("misfit") {
            column.misfit = self.misfit(value).unwrap_or_default();
        }
        for (key, value) in table.iter() {
            let span = value.span();
            let word = key.get_ref().as_ref();
            if let Some(known) = COLUMN_KEYS.iter().find(|known| **known == word) {
                spans.push((known, span.clone()));
            }
            match word {
                "type" if value.get_ref().as_str() == Some("auto") => {
                    column.auto = true;
                    ty = Some(column.ty.clone());
                }
                "type" => ty = self.ty(value),
                "from" => {
                    column.spans.from = Some(span);
                    column.from = self.from(value);
                }
                "glue" => column.glue = self.text(value, "what stands between values"),
                "glue_absent" => {
                    let what = "what an absent part of joined values does";
                    column.glue_absent =
                        self.word(value, what, GlueAbsent::parse, "\"skip\"").unwrap_or_default();
                }
                "generate" => {
                    column.generate =
                        self.word(value, "what is generated", Generate::parse, "\"row-number\"");
                }
                "comment" => column.comment = self.text(value, "what is said of the column"),
                "start" => start = self.integer(value, i64::MIN..=i64::MAX, "start"),
                // Read first, since patterns are compiled in its language.
                "locale" | "misfit" => {}
                "fields" => {
                    if let Some(table) = self.table(value, "'fields'") {
                        fields = Some(self.columns(table, Within::Struct(column.misfit)));
                    }
                }
                "patterns" => column.patterns = self.patterns(value, column.locale.as_deref()),
                "pivot" => {
                    if let Some(year) = self.integer(value, 1..=9900, "pivot") {
                        column.dates.pivot = year as i32;
                    }
                }
                "zone" => {
                    column.dates.zone =
                        self.word(value, "a time zone", Zone::named, "\"Europe/Oslo\"");
                }
                "overlap" => {
                    column.dates.overlap =
                        self.word(value, "one of two instants", Overlap::parse, "\"earlier\"");
                }
                "decimal_mark" => {
                    let mark = self.word(value, "a mark", Mark::parse, "\",\"");
                    column.style.mark = mark.unwrap_or_default();
                    column.auto_mark = mark;
                }
                "negative" => {
                    let what = "a side of an account";
                    column.style.negative = self.word(value, what, Side::parse, "\"DR\"");
                }
                "grouping" => {
                    column.style.grouping =
                        self.word(value, "what groups digits", Grouping::parse, "\".\"");
                }
                "strip" => column.style.strip = self.strip(value),
                "accounting" => {
                    column.style.accounting = self.truth(value, "accounting").unwrap_or_default()
                }
                "rounding" => {
                    column.rounding = self
                        .word(value, "a way to round", Rounding::parse, "\"half-even\"")
                        .unwrap_or_default();
                }
                "clip" => column.clip = self.truth(value, "clip").unwrap_or_default(),
                "required" => column.required = self.truth(value, "required").unwrap_or_default(),
                "default" => column.default = self.bound(value, "default"),
                "absent" => column.absent = self.texts(value, "absent"),
                "low" => column.low = self.bound(value, "low"),
                "high" => column.high = self.bound(value, "high"),
                "values" => column.values = self.values(value),
                "search" => {
                    let what = "how a column is searched";
                    column.search = self.word(value, what, Search::parse, "\"both\"");
                }
                "ranked" => column.ranked = self.truth(value, "ranked").unwrap_or_default(),
                _ => self.unknown_key(key, "a column", &COLUMN_KEYS),
            }
        }
        if let (
            Some(Generate::RowNumber { start: from } | Generate::Position { start: from }),
            Some(start),
        ) = (&mut column.generate, start)
        {
            *from = start;
        }
        column.auto_mark = column.auto_mark.filter(|_| column.auto);
        let has_type = spans.iter().any(|(key, _)| *key == "type");
        if let (Some(generate), false) = (column.generate, has_type) {
            ty = Some(match generate {
                Generate::File => Scalar::Lowcard.into(),
                Generate::LoadedAt => Scalar::Timestamp { unit: TimeUnit::Milli, utc: true }.into(),
                Generate::RowNumber { .. } | Generate::Line | Generate::Position { .. } => {
                    Scalar::Int(IntType::Int64).into()
                }
            });
        } else if !has_type {
            let help = "add a type, for example type = \"text\"";
            self.wrong(
                column.spans.name.clone(),
                format!("column '{}' has no type", column.name),
                help,
            );
        }
        if let Some(ty) = ty {
            column.ty = ty;
            if let (Some(slot), Some(fields)) = (column.ty.fields_mut(), fields) {
                *slot = fields;
            }
            if let Some(leaf) = column.ty.leaf()
                && leaf.takes_patterns()
                && !column.auto
                && !spans.iter().any(|(key, _)| *key == "patterns")
            {
                column.patterns = iso_8601(leaf, column.dates.zone.is_some());
            }
            // What follows is about keys that do not go together; it makes sense of sound ones only.
            if self.wrong.len() == before {
                self.wrong.extend(agree(column, &spans, self.values, within));
            }
        }
    }

    fn ty(&mut self, value: &Value<'_>) -> Option<Type> {
        let spelling = self.text(value, "a type")?;
        match Type::parse(&spelling) {
            Ok(ty) => Some(ty),
            Err(error) => {
                let diagnostic = Diagnostic::new(value.span(), error.message);
                self.wrong.push(Diagnostic { help: error.help, ..diagnostic });
                None
            }
        }
    }

    fn from(&mut self, value: &Value<'_>) -> Option<ColumnFrom> {
        if value.get_ref().is_integer() {
            return self
                .integer(value, 1..=i64::from(u32::MAX), "from")
                .map(|position| ColumnFrom::Position(position as usize));
        }
        if let Some(several) = value.get_ref().as_array() {
            let each: Option<Vec<ColumnFrom>> =
                several.iter().map(|one| self.one_source(one)).collect();
            let each = each?;
            if each.len() < 2 {
                let help = "name two columns at least, or one without the brackets";
                self.wrong(value.span(), "one column is not several", help);
                return None;
            }
            return Some(ColumnFrom::Several(each));
        }
        self.one_source(value)
    }

    fn one_source(&mut self, value: &Value<'_>) -> Option<ColumnFrom> {
        if value.get_ref().is_integer() {
            return self
                .integer(value, 1..=i64::from(u32::MAX), "from")
                .map(|position| ColumnFrom::Position(position as usize));
        }
        self.text(value, "a header, or a position from 1").map(ColumnFrom::Name)
    }

    /// A language that there are names for.
    fn locale(&mut self, value: &Value<'_>) -> Option<String> {
        let known = |tag: &str| names(tag, Named::Month, Form::Short).map(|_| tag.to_owned());
        self.word(value, "a language", known, "\"de\"")
    }

    fn patterns(&mut self, value: &Value<'_>, locale: Option<&str>) -> Vec<Pattern> {
        let locale = locale.unwrap_or(DEFAULT_LOCALE);
        let mut patterns = Vec::new();
        for (span, source) in self.spanned_texts(value, "patterns").unwrap_or_default() {
            match Pattern::compile_in(&source, locale) {
                Ok(pattern) => patterns.push(pattern),
                Err(error) => {
                    // The place inside the pattern holds where it is written without escapes.
                    let inner = self.source.get(span.start + 1..span.end.saturating_sub(1))
                        == Some(&source);
                    let start = span.start + 1;
                    let at = if inner { start + error.at.0..start + error.at.1 } else { span };
                    self.wrong.push(Diagnostic::new(at, error.message));
                }
            }
        }
        patterns
    }

    /// A text to take off numbers, or several.
    fn strip(&mut self, value: &Value<'_>) -> Vec<String> {
        let texts = match value.get_ref().as_str() {
            Some(text) => vec![(value.span(), text.to_owned())],
            None => self.spanned_texts(value, "strip").unwrap_or_default(),
        };
        for (span, text) in &texts {
            let is_number = text.trim().is_empty() || text.bytes().any(|b| b.is_ascii_digit());
            if is_number {
                self.wrong(
                    span.clone(),
                    "what is stripped is a text without digits",
                    "write strip = \"€\"",
                );
            }
        }
        texts.into_iter().map(|(_, text)| text.trim().to_owned()).collect()
    }

    fn values(&mut self, value: &Value<'_>) -> Vec<String> {
        let mut seen = HashSet::new();
        let mut values = Vec::new();
        for (span, text) in self.spanned_texts(value, "values").unwrap_or_default() {
            if seen.insert(text.clone()) {
                values.push(text);
            } else {
                self.wrong(
                    span,
                    format!("'{}' is listed twice", text.escape_debug()),
                    "list every value once",
                );
            }
        }
        values
    }

    /// A bound: a text, or a number for those who write it so.
    fn bound(&mut self, value: &Value<'_>, key: &str) -> Option<String> {
        match value.get_ref() {
            DeValue::Integer(_) | DeValue::Float(_) => {
                self.source.get(value.span()).map(|text| text.replace('_', ""))
            }
            _ => self.text(value, &format!("the value of '{key}'")),
        }
    }
}
