//! Pieces that several reports share: the input, the account, misfits.

use serde_json::{Value, json};
use typhos_core::columns::{Account, ColumnMisfits, MisfitValue, Plan};
use typhos_core::infer::{counted, grouped, shown};
use typhos_core::schema::{ColumnDecl, Scalar};
use typhos_core::survey::Source;
use typhos_core::text::{
    Charset, Dialect, Escape, Input, InputFile, Packing, ShortRecords, Undeclared, delimiter_name,
};
use typhos_core::wording::listed;

use crate::console::{self, BOLD, DIM, FOUND, GOOD, WARN, paint, safe};

/// The files of an input in a few words.
pub fn input_line(input: &Input) -> String {
    let files = input.files();
    let name = match files {
        [one] => one.name(),
        [first, .., last] => format!("{} … {} ({} files)", first.name(), last.name(), files.len()),
        [] => String::new(),
    };
    let size = match (input.bytes(), files.first().map_or(Packing::None, InputFile::packing)) {
        (0, _) => String::new(),
        (bytes, Packing::None) => console::bytes(bytes),
        (bytes, Packing::Gzip) => format!("{} of gzip", console::bytes(bytes)),
        (bytes, Packing::Zstd) => format!("{} of zstd", console::bytes(bytes)),
    };
    format!("{}  {}", paint(BOLD, safe(&name)), paint(DIM, size))
}

/// What is to be known of an input beside what it holds: files that were passed over or given twice, lines that were
/// skipped without anybody having said so, and lines at an end that may have to be.
pub fn input_notes(input: &Input) -> Vec<String> {
    let mut notes: Vec<String> = input.notes().iter().map(|note| safe(note)).collect();
    if input.finding().encoding.starts_with(LIKELY) {
        let encoding = input.encoding().to_lowercase();
        notes.push(format!("read as {encoding}, which is {}", safe(&input.finding().encoding)));
    }
    notes.extend(skipped_note(input));
    let below =
        |file: &&InputFile| file.dialect().skip_below > 0 && input.choice().skip_below.is_none();
    if let Some(file) = input.files().iter().find(below) {
        let lines = counted(u64::from(file.dialect().skip_below), "line");
        notes.push(format!("skipped {lines} below the header of {}", safe(&file.name())));
    }
    notes.extend(end_note(input));
    notes
}

/// What to say of lines at the end of files that look like no records.
fn end_note(input: &Input) -> Option<String> {
    let ends: Vec<_> =
        input.files().iter().filter_map(|file| Some((file.name(), file.end()?))).collect();
    let (name, (lines, why)) = ends.first()?;
    let others = match ends.len() - 1 {
        0 => String::new(),
        more => format!(" (and those of {})", counted(more as u64, "more file")),
    };
    Some(format!(
        "{}: {}{others}; to leave them out, say --skip-end {lines}",
        safe(name),
        safe(why)
    ))
}

/// Says which columns of an input a schema does not declare, and which of single files are left out.
pub fn undeclared(plan: &Plan, input: &Input) -> String {
    let count = counted(plan.undeclared().len() as u64, "column");
    let are = if plan.undeclared().len() == 1 { "is" } else { "are" };
    let name = input.files().first().map_or(String::new(), InputFile::name);
    format!("{count} of {} {are} not declared: {}", safe(&name), safe(&some(plan.undeclared())))
}

/// What to do about undeclared columns.
pub const UNDECLARED_HELP: &str =
    "declare them, put their lines into comments, or say undeclared = \"ignore\"";

/// The first few of many names.
fn some(names: &[String]) -> String {
    match names.len().saturating_sub(SHOWN_NAMES) {
        0 => listed(names),
        more => format!("{} and {more} more", listed(&names[..SHOWN_NAMES])),
    }
}

/// Names that are shown on the screen; a JSON report has them all.
const SHOWN_NAMES: usize = 8;

/// A note about columns that are left out without anybody having said so.
pub fn undeclared_note(plan: &Plan, input: &Input) -> Vec<String> {
    // What stops a run is told where it does.
    if input.choice().undeclared.unwrap_or_default() != Undeclared::Note {
        return Vec::new();
    }
    let mut notes = Vec::new();
    if !plan.undeclared().is_empty() {
        notes.push(format!("{}; left out", undeclared(plan, input)));
    }
    let others = input.differences().into_iter().filter(|found| !found.left_out.is_empty());
    let others: Vec<_> = others.collect();
    for found in others.iter().take(SHOWN_DIFFERENCES) {
        let name = input.files()[found.file].name();
        notes.push(format!(
            "{} has {} besides; left out",
            safe(&name),
            safe(&some(&found.left_out))
        ));
    }
    if let more @ 1.. = others.len().saturating_sub(SHOWN_DIFFERENCES) {
        notes.push(format!(
            "… and {} with columns that are left out",
            counted(more as u64, "more file")
        ));
    }
    notes
}

/// The columns that a schema does not declare, for a JSON report.
pub fn undeclared_json(plan: &Plan, input: &Input) -> Value {
    let policy = input.choice().undeclared.unwrap_or_default();
    json!({ "policy": policy.name(), "columns": plan.undeclared() })
}

/// What to say of lines that were passed over without anybody having said so.
fn skipped_note(input: &Input) -> Option<String> {
    let skips = |file: &&InputFile| file.dialect().skip > 0 && input.choice().skip.is_none();
    let file = input.files().iter().find(skips)?;
    let lines = counted(u64::from(file.dialect().skip), "line");
    let others = input.files().iter().filter(skips).count() - 1;
    let others = if others > 0 {
        format!(" (and of {})", counted(others as u64, "more file"))
    } else {
        String::new()
    };
    Some(format!("skipped {lines} above the table of {}{others}", safe(&file.name())))
}

/// How the input is laid out and why, a line for each part; what is as usual goes without saying.
pub fn layout_lines(input: &Input) -> Vec<String> {
    let (dialect, finding) = (input.dialect(), input.finding());
    let letter = |byte: Option<u8>| byte.map_or("none".into(), |byte| char::from(byte).to_string());
    let escaped = dialect.escape == Escape::Backslash;
    let parts = [
        (true, "delimiter", delimiter_name(dialect.delimiter), &finding.delimiter),
        (true, "quote", letter(dialect.quote), &finding.quote),
        (escaped, "escape", dialect.escape.name().into(), &finding.escape),
        (true, "header", if dialect.header { "yes" } else { "no" }.into(), &finding.header),
        (dialect.skip > 0, "skip", grouped(u64::from(dialect.skip)), &finding.skip),
        (
            dialect.skip_below > 0,
            "skip below",
            grouped(u64::from(dialect.skip_below)),
            &finding.skip_below,
        ),
        (dialect.short_records, "short", "absent".into(), &finding.short_records),
        (dialect.comment.is_some(), "comment", letter(dialect.comment), &finding.comment),
        (
            dialect.trailing_delimiter,
            "trailing",
            delimiter_name(dialect.delimiter),
            &finding.trailing_delimiter,
        ),
        (true, "line ends", dialect.line_ends.name().into(), &finding.line_ends),
        (true, "encoding", input.encoding().to_lowercase(), &finding.encoding),
    ];
    let shown: Vec<_> = parts.into_iter().filter(|(is_shown, ..)| *is_shown).collect();
    let width = shown.iter().map(|(_, _, found, _)| found.len()).max().unwrap_or(0) + 1;
    let mut lines: Vec<String> = shown
        .into_iter()
        .map(|(_, part, found, why)| {
            let part = format!("  {part:<11}");
            let found = format!("{found:<width$}");
            // What is only likely is not said like what is known.
            let style = if why.starts_with(LIKELY) { WARN } else { FOUND };
            let line =
                format!("{}{} {}", paint(DIM, part), paint(style, found), paint(DIM, safe(why)));
            line.trim_end().to_owned()
        })
        .collect();
    let notes = input.notes().iter().map(|note| safe(note)).chain(end_note(input));
    lines.extend(notes.map(|note| paint(WARN, format!("  {note}"))));
    let differences = input.differences();
    for difference in differences.iter().take(SHOWN_DIFFERENCES) {
        let file = input.files()[difference.file].name();
        let mut clauses = Vec::new();
        if !difference.lacks.is_empty() {
            clauses.push(format!("lacks {}: absent there", listed(&difference.lacks)));
        }
        if !difference.left_out.is_empty() {
            clauses.push(format!("has {} besides: left out", listed(&difference.left_out)));
        }
        lines.push(paint(WARN, format!("  {} {}", safe(&file), safe(&clauses.join("; ")))));
    }
    let more = differences.len().saturating_sub(SHOWN_DIFFERENCES);
    if more > 0 {
        lines.push(paint(
            WARN,
            format!("  … and {} with other columns", counted(more as u64, "more file")),
        ));
    }
    lines
}

/// How the reason for an encoding starts that was judged.
const LIKELY: &str = "likely: not UTF-8";

/// What a draft says of an input above the schema: what is likely, and what is asked.
pub fn draft_notes(input: &Input) -> Vec<String> {
    let encoding = Some(&input.finding().encoding).filter(|why| why.starts_with(LIKELY));
    let encoding = encoding.map(|why| format!("The encoding is {why}."));
    encoding.into_iter().chain(end_note(input)).collect()
}

/// Files with other columns that are named on the screen; a JSON report has them all.
const SHOWN_DIFFERENCES: usize = 5;

/// An input for a JSON report.
pub fn input_json(input: &Input) -> Value {
    let (dialect, finding) = (input.dialect(), input.finding());
    let reasons = [
        ("delimiter", &finding.delimiter),
        ("quote", &finding.quote),
        ("escape", &finding.escape),
        ("line_ends", &finding.line_ends),
        ("comment", &finding.comment),
        ("trailing_delimiter", &finding.trailing_delimiter),
        ("header", &finding.header),
        ("skip", &finding.skip),
        ("skip_below", &finding.skip_below),
        ("short_records", &finding.short_records),
        ("encoding", &finding.encoding),
    ];
    let reasons = reasons.into_iter().filter(|(_, why)| !why.is_empty());
    let differences = input.differences();
    let differences = differences.iter().map(|difference| {
        let file = input.files()[difference.file].name();
        json!({ "file": file, "lacks": difference.lacks, "left_out": difference.left_out })
    });
    let mut json = dialect_json(&dialect);
    json["files"] = input.files().iter().map(|file| json!(file.name())).collect();
    json["bytes"] = json!(input.bytes());
    json["encoding"] = json!(input.encoding().to_lowercase());
    json["reasons"] =
        Value::Object(reasons.map(|(part, why)| (part.to_owned(), json!(why))).collect());
    json["columns_differ"] = differences.collect();
    json["notes"] = json!(input.notes());
    json["skip_end"] = json!(input.choice().skip_end.unwrap_or(0));
    let ends = input.files().iter().filter_map(|file| {
        let (lines, why) = file.end()?;
        Some(json!({ "file": file.name(), "lines": lines, "why": why }))
    });
    json["end"] = ends.collect();
    json
}

/// How the text was laid out that a saved survey is of.
pub fn saved_layout_lines(source: &Source) -> Vec<String> {
    let dialect = saved_dialect(source);
    let letter = |byte: Option<u8>| byte.map_or("none".into(), |byte| char::from(byte).to_string());
    let line = |part: &str, found: String| {
        format!("{}{}", paint(DIM, format!("  {part:<11}")), paint(FOUND, found))
    };
    vec![
        line("delimiter", delimiter_name(dialect.delimiter)),
        line("quote", letter(dialect.quote)),
        line("header", if dialect.header { "yes" } else { "no" }.into()),
    ]
}

/// The dialect of a saved survey, as far as all its files share one.
fn saved_dialect(source: &Source) -> Dialect {
    let (said, usual) = (&source.layout, Dialect::RFC_4180);
    Dialect {
        delimiter: said.delimiter.unwrap_or(usual.delimiter),
        quote: said.quote.unwrap_or(usual.quote),
        escape: said.escape.unwrap_or(usual.escape),
        line_ends: said.line_ends.unwrap_or(usual.line_ends),
        comment: said.comment.unwrap_or(usual.comment),
        trailing_delimiter: said.trailing_delimiter.unwrap_or(usual.trailing_delimiter),
        header: said.header.unwrap_or(usual.header),
        skip: said.skip.unwrap_or(usual.skip),
        skip_below: said.skip_below.unwrap_or(usual.skip_below),
        short_records: said.short_records == Some(ShortRecords::Absent),
    }
}

/// The input of a saved survey for a JSON report.
pub fn saved_input_json(source: &Source) -> Value {
    let files = source.files.iter();
    let mut json = dialect_json(&saved_dialect(source));
    json["files"] = files.clone().map(|file| json!(file.name)).collect();
    json["bytes"] = json!(files.map(|file| file.bytes).sum::<u64>());
    let encoding = source.layout.encoding.map_or("utf-8".into(), Charset::label);
    json["encoding"] = json!(encoding);
    json
}

fn dialect_json(dialect: &Dialect) -> Value {
    let letter = |byte: Option<u8>| byte.map(|byte| char::from(byte).to_string());
    json!({
        "files": [],
        "bytes": 0,
        "delimiter": delimiter_name(dialect.delimiter),
        "quote": letter(dialect.quote),
        "escape": dialect.escape.name(),
        "line_ends": dialect.line_ends.name(),
        "comment": letter(dialect.comment),
        "trailing_delimiter": dialect.trailing_delimiter,
        "header": dialect.header,
        "skip": dialect.skip,
        "skip_below": dialect.skip_below,
        "short_records": if dialect.short_records { "absent" } else { "reject" },
    })
}

/// Where a misfit stands, as editors understand it.
fn place(misfit: &MisfitValue, input: &Input) -> String {
    let file = input.files()[misfit.place.part as usize].name();
    format!("{}:{}", safe(&file), misfit.place.line)
}

/// What a column is called in a message about a misfit.
fn column_name(misfit: &MisfitValue, plan: &Plan) -> Option<String> {
    misfit.column.map(|column| plan.schema().columns[column].name.clone())
}

/// One misfit as a line: place, column where a plan is given to name it by, value, reason.
pub fn misfit_line(misfit: &MisfitValue, input: &Input, plan: Option<&Plan>) -> String {
    let name = plan.and_then(|plan| column_name(misfit, plan));
    let name = name.map_or(String::new(), |name| format!("{}: ", safe(&name)));
    let what = match misfit.column {
        Some(_) => format!("{} {}", shown(&misfit.value), safe(&misfit.reason.to_string())),
        None => format!("the record {}", safe(&misfit.reason.to_string())),
    };
    format!("{}  {name}{what}", paint(DIM, place(misfit, input)))
}

/// The misfit that stopped a load, and what to do.
pub fn stopped_by(misfit: &MisfitValue, plan: &Plan, input: &Input) -> String {
    let column = column_name(misfit, plan);
    let (what, line) = match &column {
        Some(name) => {
            let what =
                format!("column '{}': {} {}", safe(name), shown(&misfit.value), misfit.reason);
            (what, format!("{name} = {{ …, misfit = \"reject\" }}"))
        }
        None => (format!("the record {}", misfit.reason), "[input] misfit = \"reject\"".to_owned()),
    };
    let null = match column {
        Some(_) => " (or \"null\" for null in their place)",
        None => "",
    };
    format!(
        "{}: {}\nNothing was loaded. 'typhos check' lists all misfits; to set such records aside and load the \
         rest, declare {}{null}.",
        place(misfit, input),
        safe(&what),
        safe(&line),
    )
}

fn misfits_json(misfits: &ColumnMisfits, input: &Input) -> Value {
    let examples = misfits.examples.iter().map(|misfit| {
        json!({
            "file": input.files()[misfit.place.part as usize].name(),
            "line": misfit.place.line,
            "value": misfit.value,
            "reason": misfit.reason.to_string(),
        })
    });
    json!({ "count": misfits.count, "examples": examples.collect::<Vec<_>>() })
}

/// The account for a JSON report.
pub fn account_json(account: &Account, plan: &Plan, input: &Input) -> Value {
    let columns =
        plan.schema().columns.iter().zip(&account.columns).filter(|(_, misfits)| misfits.count > 0);
    let columns = columns.map(|(column, misfits)| {
        let mut entry = misfits_json(misfits, input);
        entry["name"] = json!(column.name);
        entry
    });
    let changed = changed(account, plan).map(|(column, count)| {
        json!({ "name": column.name, "count": count, "how": how_changed(column) })
    });
    json!({
        "read": account.read,
        "loaded": account.loaded,
        "set_aside": account.set_aside,
        "nulled": account.nulled,
        "changed": changed.collect::<Vec<_>>(),
        "misfits": columns.collect::<Vec<_>>(),
        "broken_records": misfits_json(&account.broken, input),
    })
}

/// The columns that declare a loss, and how many values it changed.
fn changed<'p>(
    account: &'p Account,
    plan: &'p Plan,
) -> impl Iterator<Item = (&'p ColumnDecl, u64)> {
    let columns = plan.schema().columns.iter().zip(account.changed.iter().copied());
    columns.filter(|(_, count)| *count > 0)
}

/// What happened to values that a declared loss changed: "rounded (half-up)".
fn how_changed(column: &ColumnDecl) -> String {
    match column.scalar() {
        Scalar::Text { most: Some(most) } => {
            format!("cut to {}", counted(most.into(), "character"))
        }
        _ => format!("rounded ({})", column.rounding.name()),
    }
}

/// What a run changed, as declared: a line for each column.
pub fn changed_lines(account: &Account, plan: &Plan) -> Vec<String> {
    let line = |(column, count): (&ColumnDecl, u64)| {
        let what = format!("{} {}", counted(count, "value"), how_changed(column));
        format!("  {}: {} {}", safe(&column.name), paint(WARN, what), paint(DIM, "as declared"))
    };
    changed(account, plan).map(line).collect()
}

/// The line every run ends with.
pub fn account_line(account: &Account, would: bool) -> String {
    account.assert_balance();
    let (loaded, aside) = if would { ("would load", "would not") } else { ("loaded", "set aside") };
    let style = if account.set_aside == 0 { GOOD } else { WARN };
    let mut line = format!(
        "{} read = {} {loaded} + {} {aside}",
        paint(BOLD, grouped(account.read)),
        paint(style, grouped(account.loaded)),
        paint(style, grouped(account.set_aside)),
    );
    if account.there_already > 0 {
        let there = paint(WARN, grouped(account.there_already));
        line.push_str(&format!(" + {there} there already"));
    }
    if account.nulled > 0 {
        line.push_str(&format!("; {} made null", paint(WARN, counted(account.nulled, "value"))));
    }
    line
}
