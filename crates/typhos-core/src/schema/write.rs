//! A schema as TOML, one line a column, with its evidence as comments.

use toml_writer::{ToTomlKey as _, ToTomlValue as _, TomlKeyBuilder, TomlStringBuilder};

use super::layout::layout_table;
use super::{
    ColumnDecl, ColumnFrom, FORMAT_VERSION, Generate, GlueAbsent, Misfit, Rounding, Schema,
};
use crate::dates::DEFAULT_PIVOT;
use crate::readings::{Mark, NumberStyle};
use crate::text::{delimiter_word, size_name};

/// Writes a schema. `heading` stands above it as a comment, and each of `comments` behind the column
/// at the same place.
///
/// What is written [reads](super::read) back as the same schema.
pub fn write(schema: &Schema, heading: &[String], comments: &[String]) -> String {
    write_with(schema, heading, comments, &[])
}

/// As [`write`], with columns that are left out as comments, each before the column at its place: whoever drafts
/// again is to see that somebody decided to leave them out.
pub(crate) fn write_with(
    schema: &Schema,
    heading: &[String],
    comments: &[String],
    left_out: &[(usize, ColumnDecl)],
) -> String {
    let mut left_out = left_out.iter().peekable();
    let mut text: String = heading.iter().map(|line| format!("# {}\n", one_line(line))).collect();
    text.push_str(&format!("typhos = {FORMAT_VERSION}\n"));
    if let Some(table) = &schema.table {
        text.push_str(&format!("table = {}\n", quoted(table)));
    }
    text.push_str(&input_table(schema));
    text.push_str("\n[columns]\n");
    let lines: Vec<(String, String)> = schema
        .columns
        .iter()
        .map(|c| (key(&c.name), declaration_lines(c, Misfit::Stop, 0)))
        .collect();
    // Names and comments are aligned as far as ordinary ones reach; a giant stands out by itself.
    let width = |texts: &mut dyn Iterator<Item = &String>, most: usize| {
        // One of several lines ends where it ends.
        let widths = texts.filter(|text| !text.contains('\n')).map(|text| text.chars().count());
        widths.filter(|width| *width <= most).max().unwrap_or(0)
    };
    let names = width(&mut lines.iter().map(|(name, _)| name), 24);
    let declarations = width(&mut lines.iter().map(|(_, declaration)| declaration), 64);
    for (at, (name, declaration)) in lines.iter().enumerate() {
        while let Some((_, column)) = left_out.next_if(|(place, _)| *place <= at) {
            text.push_str(&format!("# {}\n", column_line(column, "")));
        }
        let comment = comments.get(at).map_or("", String::as_str);
        if comment.is_empty() {
            text.push_str(&format!("{name:names$} = {declaration}\n"));
        } else if declaration.contains('\n') {
            text.push_str(&format!("{name:names$} = {declaration}  # {}\n", one_line(comment)));
        } else {
            text.push_str(&format!(
                "{name:names$} = {declaration:declarations$}  # {}\n",
                one_line(comment)
            ));
        }
    }
    for (_, column) in left_out {
        text.push_str(&format!("# {}\n", column_line(column, "")));
    }
    text.push_str(&layout_table(schema));
    text
}

/// The line of one column, with its comment behind it.
pub fn column_line(column: &ColumnDecl, comment: &str) -> String {
    let line = format!("{} = {}", key(&column.name), declaration(column));
    if comment.is_empty() { line } else { format!("{line}  # {}", one_line(comment)) }
}

/// The same, with a line for each field of a struct.
pub fn column_lines(column: &ColumnDecl, comment: &str) -> String {
    let line = format!("{} = {}", key(&column.name), declaration_lines(column, Misfit::Stop, 0));
    if comment.is_empty() { line } else { format!("{line}  # {}", one_line(comment)) }
}

/// The table of one column under a heading of its own, as some people write them.
pub fn column_table(column: &ColumnDecl, comment: &str) -> String {
    let comment =
        if comment.is_empty() { String::new() } else { format!("# {}\n", one_line(comment)) };
    format!(
        "{comment}[columns.{}]\n{}\n",
        key(&column.name),
        parts(column, Misfit::Stop).join("\n")
    )
}

/// The table `[input]` by itself; nothing where it would be empty.
pub fn write_input(schema: &Schema) -> String {
    input_table(schema)
}

fn input_table(schema: &Schema) -> String {
    let input = &schema.input;
    let choice = &input.choice;
    let mut lines = Vec::new();
    let mut say = |key: &str, value: Option<String>| {
        lines.extend(value.map(|value| format!("{key} = {value}")));
    };
    say("format", choice.format.map(|format| quoted(format.name())));
    say("delimiter", choice.delimiter.map(|byte| quoted(&delimiter_word(byte))));
    let byte_or_none = |byte: Option<u8>| {
        byte.map_or("\"none\"".to_owned(), |byte| quoted(&char::from(byte).to_string()))
    };
    say("quote", choice.quote.map(byte_or_none));
    say("escape", choice.escape.map(|escape| quoted(escape.name())));
    say("line_ends", choice.line_ends.map(|ends| quoted(ends.name())));
    say("comment", choice.comment.map(byte_or_none));
    say("trailing_delimiter", choice.trailing_delimiter.map(|is_so| is_so.to_string()));
    say("header", choice.header.map(|header| header.to_string()));
    say("skip", choice.skip.map(|lines| lines.to_string()));
    say("skip_below", choice.skip_below.map(|lines| lines.to_string()));
    say("skip_end", choice.skip_end.map(|lines| lines.to_string()));
    say("short_records", choice.short_records.map(|short| quoted(short.name())));
    say("depth_limit", choice.depth_limit.map(|depth| depth.to_string()));
    say("field_limit", choice.field_limit.map(|fields| fields.to_string()));
    say("unnest", choice.unnest.as_deref().map(quoted));
    say("without_elements", choice.without_elements.map(|what| quoted(what.name())));
    say("names", choice.names.as_deref().map(list));
    say("encoding", choice.encoding.map(|encoding| quoted(&encoding.label())));
    say("columns_differ", choice.columns_differ.map(|policy| quoted(policy.name())));
    say("undeclared", choice.undeclared.map(|policy| quoted(policy.name())));
    say("quoted_empty", choice.quoted_empty.map(|empty| quoted(empty.name())));
    say("record_limit", choice.record_limit.map(|bytes| quoted(&size_name(bytes))));
    if let Some(absent) = &input.absent {
        lines.push(format!("absent = {}", list(absent)));
    }
    if input.misfit != Misfit::Stop {
        lines.push(format!("misfit = {}", quoted(input.misfit.name())));
    }
    if lines.is_empty() { String::new() } else { format!("\n[input]\n{}\n", lines.join("\n")) }
}

fn declaration(column: &ColumnDecl) -> String {
    declaration_within(column, Misfit::Stop)
}

/// The same with a line for each field of a struct, and what is said of it behind.
fn declaration_lines(column: &ColumnDecl, misfit: Misfit, indent: usize) -> String {
    let Some(fields) = column.ty.fields() else { return declaration_within(column, misfit) };
    let inner = " ".repeat(indent + 2);
    let mut parts = parts(column, misfit);
    // They are the last of them.
    parts.pop();
    let lines: Vec<(String, String)> = fields
        .iter()
        .map(|field| (key(&field.name), declaration_lines(field, column.misfit, indent + 2)))
        .collect();
    let names = lines.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
    let mut text = format!("{{ {}, fields = {{\n", parts.join(", "));
    for (field, (name, declaration)) in fields.iter().zip(&lines) {
        let comment = field.evidence.as_deref().unwrap_or_default();
        text.push_str(&format!("{inner}{name:names$} = {declaration},"));
        if !comment.is_empty() {
            text.push_str(&format!("  # {}", one_line(comment)));
        }
        text.push('\n');
    }
    text.push_str(&" ".repeat(indent));
    text + "} }"
}

/// A column of which nothing has to be said of misfits where this is what happens to them.
fn declaration_within(column: &ColumnDecl, misfit: Misfit) -> String {
    format!("{{ {} }}", parts(column, misfit).join(", "))
}

/// The keys of a column with their values.
fn parts(column: &ColumnDecl, misfit: Misfit) -> Vec<String> {
    let ty = if column.auto { "auto".to_owned() } else { column.ty.to_string() };
    let mut parts = vec![format!("type = {}", quoted(&ty))];
    match &column.from {
        Some(ColumnFrom::Name(name)) => parts.push(format!("from = {}", quoted(name))),
        Some(ColumnFrom::Position(position)) => parts.push(format!("from = {position}")),
        Some(ColumnFrom::Several(several)) => {
            let each = several.iter().map(|one| match one {
                ColumnFrom::Name(name) => quoted(name),
                ColumnFrom::Position(position) => position.to_string(),
                ColumnFrom::Several(_) => unreachable!("sources are not nested"),
            });
            parts.push(format!("from = [{}]", each.collect::<Vec<_>>().join(", ")));
        }
        None => {}
    }
    if let Some(glue) = &column.glue {
        parts.push(format!("glue = {}", quoted(glue)));
    }
    if column.glue_absent != GlueAbsent::default() {
        parts.push(format!("glue_absent = {}", quoted(column.glue_absent.name())));
    }
    if let Some(generate) = column.generate {
        parts.push(format!("generate = {}", quoted(generate.name())));
        if let Generate::RowNumber { start } | Generate::Position { start } = generate
            && start != 1
        {
            parts.push(format!("start = {start}"));
        }
    }
    if !column.patterns.is_empty() {
        let patterns: Vec<_> =
            column.patterns.iter().map(|pattern| pattern.source().to_owned()).collect();
        parts.push(format!("patterns = {}", list(&patterns)));
    }
    if column.dates.pivot != DEFAULT_PIVOT {
        parts.push(format!("pivot = {}", column.dates.pivot));
    }
    if let Some(locale) = &column.locale {
        parts.push(format!("locale = {}", quoted(locale)));
    }
    if let Some(zone) = &column.dates.zone {
        parts.push(format!("zone = {}", quoted(zone.name())));
    }
    if let Some(overlap) = column.dates.overlap {
        parts.push(format!("overlap = {}", quoted(overlap.word())));
    }
    if column.auto_mark == Some(Mark::Point) {
        parts.push("decimal_mark = \".\"".into());
    }
    parts.extend(style_parts(&column.style));
    if column.rounding != Rounding::Exact {
        parts.push(format!("rounding = {}", quoted(column.rounding.name())));
    }
    if column.clip {
        parts.push("clip = true".into());
    }
    if column.required {
        parts.push("required = true".into());
    }
    if let Some(absent) = &column.absent {
        parts.push(format!("absent = {}", list(absent)));
    }
    if let Some(default) = &column.default {
        parts.push(format!("default = {}", quoted(default)));
    }
    if column.misfit != misfit {
        parts.push(format!("misfit = {}", quoted(column.misfit.name())));
    }
    for (key, bound) in [("low", &column.low), ("high", &column.high)] {
        if let Some(bound) = bound {
            parts.push(format!("{key} = {}", quoted(bound)));
        }
    }
    if !column.values.is_empty() {
        parts.push(format!("values = {}", list(&column.values)));
    }
    if column.ranked {
        parts.push("ranked = true".into());
    }
    if let Some(search) = column.search {
        parts.push(format!("search = {}", quoted(search.name())));
    }
    if let Some(comment) = &column.comment {
        parts.push(format!("comment = {}", quoted(comment)));
    }
    if let Some(fields) = column.ty.fields() {
        let each = fields.iter().map(|field| {
            format!("{} = {}", key(&field.name), declaration_within(field, column.misfit))
        });
        parts.push(format!("fields = {{ {} }}", each.collect::<Vec<_>>().join(", ")));
    }
    parts
}

/// The keys that say how numbers are written.
pub(crate) fn style_parts(style: &NumberStyle) -> Vec<String> {
    let mut parts = Vec::new();
    if style.mark != Mark::default() {
        parts.push(format!("decimal_mark = {}", quoted(&style.mark.letter().to_string())));
    }
    if let Some(grouping) = style.grouping {
        parts.push(format!("grouping = {}", quoted(&grouping.letter().to_string())));
    }
    match &style.strip[..] {
        [] => {}
        [one] => parts.push(format!("strip = {}", quoted(one))),
        several => parts.push(format!("strip = {}", list(several))),
    }
    if style.accounting {
        parts.push("accounting = true".into());
    }
    if let Some(side) = style.negative {
        parts.push(format!("negative = {}", quoted(side.name())));
    }
    parts
}

fn list(texts: &[String]) -> String {
    let texts: Vec<_> = texts.iter().map(|text| quoted(text)).collect();
    format!("[{}]", texts.join(", "))
}

/// A key as TOML: bare where that is allowed.
fn key(name: &str) -> String {
    let key = TomlKeyBuilder::new(name);
    let key = key.as_unquoted().unwrap_or_else(|| key.as_basic());
    visible(key.to_toml_key())
}

/// A text as a basic string of TOML.
pub fn quoted(text: &str) -> String {
    visible(TomlStringBuilder::new(text).as_basic().to_toml_value())
}

/// The same string with the control characters beyond ASCII escaped too: TOML lets them stand, and a terminal acts on
/// some.
fn visible(toml: String) -> String {
    if !toml.contains(char::is_control) {
        return toml;
    }
    let escaped = toml.chars().map(|letter| match letter.is_control() {
        true => format!("\\u{:04X}", u32::from(letter)),
        false => letter.to_string(),
    });
    escaped.collect()
}

/// A comment must not end before its time.
fn one_line(comment: &str) -> String {
    comment.chars().map(|letter| if letter.is_control() { ' ' } else { letter }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dates::Pattern;
    use crate::read_schema as read;
    use crate::schema::{IntType, Scalar};
    use crate::text::{
        Charset, ColumnsDiffer, Escape, InputChoice, LineEnds, QuotedEmpty, ShortRecords,
        Undeclared,
    };
    use proptest::prelude::*;

    #[test]
    fn a_schema_as_it_is_written() {
        let mut schema = Schema { table: Some("tickets".into()), ..Schema::default() };
        schema.input.choice = InputChoice {
            delimiter: Some(b'\t'),
            header: Some(true),
            quote: Some(None),
            ..InputChoice::default()
        };
        let mut ticket = ColumnDecl::new("ticket_no", Scalar::Int(IntType::UInt32));
        ticket.required = true;
        let mut sold = ColumnDecl::new("sold on", Scalar::Date);
        sold.patterns = vec![Pattern::compile("MM/dd/yy").unwrap()];
        sold.from = Some(ColumnFrom::Name("Sold \"on\"".into()));
        schema.columns = vec![ticket, sold];
        let text = write(&schema, &["Drafted.".into()], &["1 to 9".into(), "a\nb".into()]);
        assert_eq!(
            text,
            r#"# Drafted.
typhos = 1
table = "tickets"

[input]
delimiter = "tab"
quote = "none"
header = true

[columns]
ticket_no = { type = "uint32", required = true }                              # 1 to 9
"sold on" = { type = "date", from = "Sold \"on\"", patterns = ["MM/dd/yy"] }  # a b
"#
        );
    }

    /// Every key there is, as it is written.
    const EVERY_KEY: &str = r#"typhos = 1
table = "landings"

[input]
format = "json"
depth_limit = 12
field_limit = 300
unnest = "landings"
without_elements = "drop"
absent = ["", "NA"]
misfit = "reject"

[columns]
catch  = { type = "decimal(9,2)", from = "Catch (t)", decimal_mark = ",", grouping = ".", strip = ["t", "ca."], accounting = true, rounding = "half-even", default = "0,00", misfit = "null", low = "-5", high = "100000" }
debt   = { type = "float64", strip = "€", negative = "CR" }
moored = { type = "timestamp(s, utc)", from = ["day", 4], glue = " ", glue_absent = "null", patterns = ["d. MMM yy HH:mm"], pivot = 1990, locale = "de", zone = "Europe/Oslo", overlap = "later" }
remark = { type = "text(40)", clip = true, absent = ["-"], search = "full", comment = "As the mate wrote it." }
berth  = { type = "category", required = true, values = ["north", "south"], ranked = true }
size   = { type = "auto", decimal_mark = "." }
line   = { type = "uint64", generate = "row-number", start = 100 }
engine = { type = "struct", misfit = "null", fields = {
  temp  = { type = "float32", misfit = "stop" },
  codes = { type = "list(uint8)" },
} }
"#;

    #[test]
    fn every_key_reads_back_as_it_was_written() {
        let schema = read(EVERY_KEY).unwrap_or_else(|wrong| panic!("{wrong:?}"));
        assert_eq!(write(&schema, &[], &[]), EVERY_KEY);
    }

    proptest! {
        #[test]
        fn what_is_written_reads_back(
            names in proptest::collection::hash_set(any::<String>(), 1..6),
            from: Option<String>, required: bool, absent in proptest::option::of(proptest::collection::vec(any::<String>(), 0..3)),
            misfit in 0usize..3, values in proptest::collection::hash_set(any::<String>(), 1..4), ranked: bool, delimiter in 1u8..128,
        ) {
            prop_assume!(!matches!(delimiter, b'"' | b'\n' | b'\r'));
            let mut schema = Schema { table: from.clone(), ..Schema::default() };
            schema.input.choice = InputChoice {
                delimiter: Some(delimiter),
                quote: ranked.then_some(None),
                escape: ranked.then_some(Escape::Backslash),
                line_ends: required.then_some(LineEnds::Mixed),
                comment: required.then_some(Some(b'#')),
                trailing_delimiter: Some(ranked),
                skip: ranked.then_some(u32::from(delimiter)),
                skip_below: required.then_some(2),
                skip_end: ranked.then_some(3),
                short_records: ranked.then_some(ShortRecords::Absent),
                undeclared: required.then_some(Undeclared::Stop),
                encoding: ranked.then_some(Charset::parse("cp850").unwrap()),
                names: absent.clone(),
                columns_differ: required.then_some(ColumnsDiffer::Union),
                quoted_empty: ranked.then_some(QuotedEmpty::Text),
                record_limit: required.then_some(2000 + usize::from(delimiter)),
                ..InputChoice::default()
            };
            for name in names {
                let mut column = ColumnDecl::new(name, Scalar::Category);
                column.from = from.clone().map(ColumnFrom::Name);
                column.required = required;
                column.absent = absent.clone();
                column.misfit = Misfit::ALL[misfit];
                column.values = values.iter().cloned().collect();
                column.ranked = ranked;
                // A required column has no null to fall back to, and reading says so.
                column.required &= column.misfit != Misfit::Null;
                schema.columns.push(column);
            }
            let text = write(&schema, &[], &[]);
            let back = read(&text).unwrap_or_else(|wrong| panic!("{text}\n{wrong:?}"));
            prop_assert_eq!(write(&back, &[], &[]), text);
            prop_assert_eq!(back.table, schema.table);
            prop_assert_eq!(&back.input.choice, &schema.input.choice);
            for (back, column) in back.columns.iter().zip(&schema.columns) {
                prop_assert_eq!(&back.name, &column.name);
                prop_assert_eq!(&back.values, &column.values);
                prop_assert_eq!(&back.absent, &column.absent);
            }
        }
    }
}
