//! Whether the keys of a column go with its type and with each other.

use std::ops::Range;

use super::read::{ReadValues, Within};
use super::{
    ColumnDecl, ColumnFrom, Diagnostic, Generate, GlueAbsent, Misfit, Rounding, Scalar, Search,
};

/// The mistakes of a column whose keys are sound one by one. `spans` says where each of them stands.
pub(super) fn agree(
    column: &ColumnDecl,
    spans: &[(&str, Range<usize>)],
    values: &dyn ReadValues,
    within: Within,
) -> Vec<Diagnostic> {
    let mut agreement = Agreement { values, wrong: Vec::new() };
    agreement.keys(column, spans);
    agreement.nesting(column, spans, within);
    agreement.wrong
}

struct Agreement<'v> {
    values: &'v dyn ReadValues,
    wrong: Vec<Diagnostic>,
}

impl Agreement<'_> {
    fn wrong(&mut self, span: Range<usize>, message: impl Into<String>, help: impl Into<String>) {
        self.wrong.push(Diagnostic::new(span, message).help(help));
    }

    fn keys(&mut self, column: &ColumnDecl, spans: &[(&str, Range<usize>)]) {
        let at =
            |key: &str| spans.iter().find(|(known, _)| *known == key).map(|(_, span)| span.clone());
        // What is said of a list is said of its elements; of a struct nothing of the kind can be said.
        let ty = column.ty.leaf().unwrap_or(Scalar::Json);
        let type_span = at("type").unwrap_or_default();
        let is_instant = matches!(ty, Scalar::Timestamp { utc: true, .. });
        for (key, fits, hint) in [
            ("patterns", ty.takes_patterns(), "patterns belong to date, time and timestamp"),
            ("pivot", ty.takes_patterns(), "a pivot belongs to date and timestamp"),
            ("locale", ty.takes_patterns(), "a language is that of names in date patterns"),
            ("zone", is_instant, "a zone belongs to timestamp(UNIT, utc)"),
            (
                "overlap",
                is_instant,
                "times repeated at a clock change are those of timestamp(UNIT, utc)",
            ),
            ("decimal_mark", ty.is_number(), "a decimal mark belongs to numbers"),
            ("grouping", ty.is_number(), "grouping belongs to numbers"),
            ("strip", ty.is_number(), "what is stripped stands around numbers"),
            ("accounting", ty.is_number(), "accounting negatives are for numbers"),
            ("negative", ty.is_number(), "only numbers stand on a side of an account"),
            (
                "rounding",
                ty.is_number() || ty.takes_patterns(),
                "what is rounded are numbers, dates and times",
            ),
            (
                "clip",
                matches!(ty, Scalar::Text { most: Some(_) }),
                "say how many characters are kept: type = \"text(40)\"",
            ),
            ("values", ty == Scalar::Category, "a closed list of values belongs to category"),
            ("ranked", ty == Scalar::Category, "only a category can be ranked"),
            ("low", ty.is_ordered(), "bounds belong to numbers, dates and times"),
            ("high", ty.is_ordered(), "bounds belong to numbers, dates and times"),
        ] {
            if let (Some(span), false, false) = (at(key), fits, column.auto) {
                self.wrong(span, format!("'{key}' does not apply to {}", column.ty), hint);
            }
        }
        let words = matches!(column.search, Some(Search::Full | Search::Both));
        if let (Some(span), true, false) = (at("search"), words && !ty.is_text(), column.auto) {
            let message = format!("a {} is not searched by the words in it", column.ty);
            self.wrong(span, message, "use \"exact\" or \"none\", or leave it out");
        }
        self.source_agrees(column, &at);
        if let (Some(default), Some(span), false) = (&column.default, at("default"), column.auto)
            && let Err(reason) = self.values.is_value(column, default)
        {
            let shown = default.escape_debug();
            let help =
                format!("write it as the values of the input are written, for {}", column.ty);
            self.wrong(span, format!("the default '{shown}' {reason}"), help);
        }
        if ty == Scalar::Category && column.values.is_empty() {
            let help = "add values = [\"…\", \"…\"], or use lowcard for an open set";
            self.wrong(type_span.clone(), "a category lists its values", help);
        }
        if let Some(grouping) = column.style.grouping
            && grouping.letter() == column.style.mark.letter()
        {
            self.wrong(
                at("grouping").unwrap_or_default(),
                format!("'{}' is the decimal mark as well", grouping.letter()),
                "say the other one: decimal_mark = \",\" or decimal_mark = \".\"",
            );
        }
        if column.auto {
            self.auto_agrees(column, &at);
        }
        self.rounding_agrees(column, &at);
        if column.required && column.misfit == Misfit::Null {
            let span = at("misfit").unwrap_or_default();
            let help = "drop 'required', or use \"stop\" or \"reject\"";
            self.wrong(span, "a required column cannot turn misfits into null", help);
        }
        if ty.takes_patterns() {
            self.patterns_agree(column, at("patterns"));
        }
        for (key, bound) in [("low", &column.low), ("high", &column.high)] {
            // What a bound of an undecided type is worth is known once the type is.
            if !column.auto
                && let (Some(bound), Some(span)) = (bound, at(key))
                && let Err(message) = self.values.is_bound(ty, bound)
            {
                self.wrong(span, message, format!("write it as a value of {ty}"));
            }
        }
    }

    /// Whether what is said of where values come from goes together.
    fn source_agrees(&mut self, column: &ColumnDecl, at: &dyn Fn(&str) -> Option<Range<usize>>) {
        let is_point = column.scalar() == Scalar::Geopoint;
        let several = match &column.from {
            Some(ColumnFrom::Several(several)) => several.len(),
            _ => 1,
        };
        if let (Some(span), true) = (at("glue"), several == 1) {
            self.wrong(
                span,
                "'glue' needs several columns",
                "name several columns: from = [\"a\", \"b\"]",
            );
        }
        if let (true, None, false) = (several > 1, &column.glue, is_point) {
            let help =
                "say what stands between the values: glue = \"-\", or glue = \"\" for nothing";
            self.wrong(at("from").unwrap_or_default(), "several columns need a glue", help);
        }
        if is_point && several > 2 {
            let help = "name the column of latitudes, then that of longitudes";
            self.wrong(at("from").unwrap_or_default(), "a point is made of two columns", help);
        }
        if let (true, Some(span)) = (is_point && several > 1, at("glue")) {
            self.wrong(span, "'glue' does not apply to a point", "leave it out");
        }
        if let (true, Some(span)) = (column.auto && several > 1, at("type")) {
            let help = "say the type: the joined values are looked at by nobody before";
            self.wrong(span, "the type of joined columns is not found by itself", help);
        }
        if let (Some(span), true) = (at("glue_absent"), several == 1) {
            self.wrong(span, "'glue' needs several columns", "name several columns with 'from'");
        }
        if let (true, GlueAbsent::Skip, Some(span)) =
            (is_point, column.glue_absent, at("glue_absent"))
        {
            let help = "use \"null\" or \"misfit\"";
            self.wrong(span, "a point needs both of its columns", help);
        }
        let is_number =
            matches!(column.generate, Some(Generate::RowNumber { .. } | Generate::Position { .. }));
        if let (Some(span), false) = (at("start"), is_number) {
            self.wrong(
                span,
                "'start' belongs to generated numbers",
                "add generate = \"row-number\"",
            );
        }
        let Some(generate) = column.generate else { return };
        let (fits, what, help) = match generate {
            Generate::RowNumber { .. } => (
                matches!(column.scalar(), Scalar::Int(_)),
                "row numbers are integers",
                "write type = \"int64\", or leave it out",
            ),
            Generate::Position { .. } => (
                matches!(column.scalar(), Scalar::Int(_)),
                "positions are integers",
                "write type = \"int64\", or leave it out",
            ),
            Generate::Line => (
                matches!(column.scalar(), Scalar::Int(_)),
                "line numbers are integers",
                "write type = \"int64\", or leave it out",
            ),
            Generate::LoadedAt => (
                matches!(column.scalar(), Scalar::Timestamp { utc: true, .. }),
                "when a load began is a point in time",
                "write type = \"timestamp(ms, utc)\", or leave it out",
            ),
            Generate::File => (
                column.scalar().is_text(),
                "names of files are texts",
                "write type = \"lowcard\", or leave it out",
            ),
        };
        if !fits || column.auto {
            self.wrong(at("type").unwrap_or_default(), what, help);
        }
        const ALONE: [&str; 14] = [
            "from",
            "patterns",
            "pivot",
            "zone",
            "locale",
            "absent",
            "default",
            "decimal_mark",
            "grouping",
            "strip",
            "accounting",
            "negative",
            "rounding",
            "clip",
        ];
        for key in ALONE {
            if let Some(span) = at(key) {
                let message = format!("'{key}' does not apply to values that are generated");
                self.wrong(span, message, "leave it out");
            }
        }
    }

    /// Whether what is said of values inside of values goes together.
    fn nesting(&mut self, column: &ColumnDecl, spans: &[(&str, Range<usize>)], within: Within) {
        let at = |key: &str| spans.iter().find(|(known, _)| *known == key).map(|(_, s)| s.clone());
        let type_span = at("type").unwrap_or_default();
        match (column.ty.fields(), at("fields")) {
            (None, Some(span)) => {
                let help = "fields belong to struct and list(struct)";
                self.wrong(span, format!("'fields' does not apply to {}", column.ty), help);
            }
            (Some([]), _) => {
                let help = "add fields = { name = { type = \"text\" } }";
                self.wrong(type_span.clone(), format!("a {} lists its fields", column.ty), help);
            }
            _ => {}
        }
        let is_joined = matches!(column.from, Some(ColumnFrom::Several(_)));
        if column.ty.is_nested() && is_joined {
            let help = "name one column that holds JSON";
            self.wrong(at("from").unwrap_or_default(), "values that nest are not joined", help);
        }
        if let Within::Struct(_) = within {
            if column.auto {
                let help = "say the type: a draft of the input says which it could be";
                self.wrong(type_span, "the type of a field is not found by itself", help);
            }
            for key in ["generate", "start", "glue", "glue_absent"] {
                if let Some(span) = at(key) {
                    let message = format!("'{key}' does not apply to a field of a struct");
                    self.wrong(span, message, "leave it out");
                }
            }
            let is_name = matches!(column.from, None | Some(ColumnFrom::Name(_)));
            if let (false, Some(span)) = (is_name, at("from")) {
                let help = "write from = \"name\", or from = \"name.within\"";
                self.wrong(span, "a field comes from one member of the object", help);
            }
        }
        let paths: Vec<_> =
            column.ty.fields().unwrap_or_default().iter().map(|f| (f, f.path_within())).collect();
        for (field, path) in &paths {
            let around =
                paths.iter().find(|(_, other)| other.len() < path.len() && path.starts_with(other));
            if let Some((around, _)) = around {
                let span = field.spans.from.clone().unwrap_or_else(|| field.spans.name.clone());
                let message =
                    format!("'{}' is inside of what '{}' comes from", field.name, around.name);
                self.wrong(span, message, "declare one of them, or a struct that has both");
            }
        }
    }

    /// Floats have one way to be rounded, and so have dates and times.
    fn rounding_agrees(&mut self, column: &ColumnDecl, at: &dyn Fn(&str) -> Option<Range<usize>>) {
        let ty = column.ty.leaf().unwrap_or(Scalar::Json);
        let (way, only) = match ty {
            Scalar::Float32 | Scalar::Float64 => ("to the nearest", Rounding::HalfEven),
            _ if ty.takes_patterns() => ("to the one before", Rounding::Down),
            _ => return,
        };
        if column.rounding != Rounding::Exact && column.rounding != only {
            let span = at("rounding").unwrap_or_default();
            let help = format!("write rounding = \"{}\"", only.name());
            self.wrong(span, format!("a {ty} is rounded {way}"), help);
        }
    }

    /// A column whose type is to be decided says at most one kind of thing about its values.
    fn auto_agrees(&mut self, column: &ColumnDecl, at: &dyn Fn(&str) -> Option<Range<usize>>) {
        let kinds = [
            (!column.patterns.is_empty(), "patterns", "dates"),
            (!column.style.is_plain(), "decimal_mark", "numbers"),
            (!column.values.is_empty(), "values", "a category"),
        ];
        let mut said = kinds.iter().filter(|(is_said, ..)| *is_said);
        if let (Some((_, _, first)), Some((_, key, second))) = (said.next(), said.next()) {
            let span = at(key).or_else(|| at("type")).unwrap_or_default();
            let message = format!("one key says that the column holds {first}, another {second}");
            self.wrong(span, message, "keep one of them, or say the type");
        }
    }

    fn patterns_agree(&mut self, column: &ColumnDecl, span: Option<Range<usize>>) {
        let ty = column.ty.leaf().unwrap_or(Scalar::Json);
        let Some(span) = span else { return };
        if column.patterns.is_empty() {
            let help = "leave it out for those of ISO 8601, or say how the values are written";
            return self.wrong(span, format!("a {ty} column has a pattern"), help);
        }
        for pattern in &column.patterns {
            let shown = pattern.source();
            let problem = match ty {
                Scalar::Date if pattern.has_offset() => Some((
                    "reads an offset, and the day depends on it",
                    "use timestamp(UNIT, utc), or timestamp(UNIT) without the offset",
                )),
                Scalar::Time(_) if pattern.has_date() => {
                    Some(("reads a date, which a time cannot hold", "use timestamp(s)"))
                }
                Scalar::Date | Scalar::Timestamp { .. } if !pattern.has_date() => {
                    Some(("reads no date", "use time(s) for times of day"))
                }
                Scalar::Timestamp { utc: true, .. }
                    if !pattern.has_offset() && column.dates.zone.is_none() =>
                {
                    Some((
                        "reads no offset, so it names no point in time",
                        "add XXX to the pattern, say the zone of the clocks (zone = \"Europe/Oslo\"), or drop ', utc' from the type",
                    ))
                }
                Scalar::Timestamp { utc: false, .. } | Scalar::Time(_) if pattern.has_offset() => {
                    Some((
                        "reads an offset, which this type cannot hold",
                        "use timestamp(UNIT, utc)",
                    ))
                }
                _ => None,
            };
            if let Some((message, help)) = problem {
                self.wrong(span.clone(), format!("'{shown}' {message}"), help);
            }
        }
    }
}
