//! `typhos dates`: a bench for date patterns.

use std::path::Path;

use typhos_core::dates::{
    COUNTS, DEFAULT_LOCALE, DEFAULT_PIVOT, DateOrder, Misread, Moment, Pattern, ReadOptions,
    SYMBOLS, deciders, format_days, format_nanos, no_such_day, ways, weekday_name,
};
use typhos_core::infer::{DateFindings, counted, grouped, line_of, shown};
use typhos_core::schema::Diagnostic;
use typhos_core::survey::{CLASSES, Class, ShapeFacts, Survey};
use unicode_width::UnicodeWidthStr;

use super::look::{Extent, find, look};
use crate::args::{Common, Dates, RuleArgs};
use crate::console::{BOLD, Console, DIM, FOUND, GOOD, WARN, paint, safe};
use crate::diagnose;
use crate::outcome::{Failure, Outcome};
use crate::table::{Heading, Look, render};

pub fn run(args: &Dates, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    if args.symbols {
        symbols(console)?;
        return Ok(Outcome::objecting_if(false));
    }
    match (&args.column, &args.pattern) {
        (Some(column), _) => of_column(column, args, common, console),
        (None, Some(pattern)) => by_pattern(pattern, args, console),
        (None, None) => by_any(&args.values, console),
    }
}

/// What a value says, as far as its pattern goes.
fn told(pattern: &Pattern, moment: &Moment) -> String {
    let mut text = String::new();
    if pattern.has_date() {
        text.push_str(&format_days(moment.days));
    }
    if pattern.has_time() {
        text.push_str(if pattern.has_date() { " " } else { "" });
        text.push_str(&format_nanos(moment.nanos));
    }
    if let Some(offset) = moment.offset {
        let (sign, minutes) = (if offset < 0 { '-' } else { '+' }, offset.abs() / 60);
        text.push_str(&format!(" {sign}{:02}:{:02}", minutes / 60, minutes % 60));
    }
    if pattern.has_date() {
        text.push_str(&format!("  {}", weekday_name(moment.days)));
    }
    text
}

/// Each value by every pattern that reads it.
fn by_any(values: &[String], console: &mut Console) -> Result<Outcome, Failure> {
    let mut unread = 0;
    let mut patterns: Vec<Pattern> = Vec::new();
    for (at, value) in values.iter().enumerate() {
        let found = ways(value);
        if at > 0 {
            console.say("")?;
        }
        let orders: Vec<DateOrder> = found.iter().filter_map(|way| way.order).collect();
        let summary = match (found.len(), orders.len() > 1) {
            (0, _) => paint(
                WARN,
                match no_such_day(value) {
                    Some(why) => format!("is not a day: {why}"),
                    None => "matches no known pattern".to_owned(),
                },
            ),
            (_, true) => paint(WARN, "is ambiguous"),
            _ => String::new(),
        };
        let gap = if summary.is_empty() { "" } else { "  " };
        console.say(format!("{}{gap}{summary}", paint(BOLD, safe(value))))?;
        unread += usize::from(found.is_empty());
        let widest = found.iter().map(|way| way.pattern.source().width()).max().unwrap_or(0);
        let longest =
            found.iter().map(|way| told(&way.pattern, &way.moment).len()).max().unwrap_or(0);
        for way in &found {
            let pad = " ".repeat(widest - way.pattern.source().width());
            let order = way.order.filter(|_| orders.len() > 1).map_or("", DateOrder::words);
            let locale =
                way.locale.as_ref().map_or(String::new(), |tag| format!("locale = \"{tag}\""));
            let told = told(&way.pattern, &way.moment);
            let line = format!("  {}{pad}  {told}", paint(FOUND, way.pattern.source()));
            let beside = format!("{order}{locale}");
            if beside.is_empty() {
                console.say(line)?;
            } else {
                let pad = " ".repeat(longest - told.len());
                console.say(format!("{line}{pad}  {}", paint(DIM, beside)))?;
            }
        }
        let deciding: Vec<String> = deciders(value, &orders)
            .into_iter()
            .map(|(order, text)| format!("{} would prove {}", shown(&text), order.words()))
            .collect();
        if !deciding.is_empty() {
            console.say(format!(
                "  {}",
                paint(DIM, format!("one value decides: {}", deciding.join(", ")))
            ))?;
        }
        patterns.extend(found.into_iter().map(|way| way.pattern));
    }
    if values.len() > 1 {
        console.say("")?;
        // The pattern that one value shows may read another: that of '1/5' reads '12/25', not the other way.
        let options = ReadOptions::default();
        let reads_all = |pattern: &Pattern| {
            values.iter().all(|value| pattern.read_if(value.as_bytes(), &options).is_some())
        };
        let all = patterns.iter().filter(|pattern| reads_all(pattern)).map(Pattern::source);
        let mut common: Vec<&str> = all.collect();
        common.sort_unstable();
        common.dedup();
        match &common[..] {
            [only] => console.say(format!("{} reads all {}", paint(FOUND, only), values.len()))?,
            [] => console.say(format!("no one pattern reads all {}", values.len()))?,
            several => {
                let several: Vec<_> = several.iter().map(|pattern| paint(FOUND, pattern)).collect();
                console.say(format!("{} read all {}", several.join(" and "), values.len()))?;
            }
        }
    }
    Ok(Outcome::objecting_if(unread > 0))
}

/// Each value by one pattern: what it says, or where it fails.
fn by_pattern(source: &str, args: &Dates, console: &mut Console) -> Result<Outcome, Failure> {
    let locale = args.locale.as_deref().unwrap_or(DEFAULT_LOCALE);
    let pattern = Pattern::compile_in(source, locale).map_err(|error| {
        let wrong = Diagnostic::new(error.at.0..error.at.1, error.message);
        Failure::Schema(diagnose::show(&[wrong], source, Path::new("--pattern")))
    })?;
    let options = ReadOptions {
        pivot: args.pivot.unwrap_or(DEFAULT_PIVOT),
        zone: args.zone.clone(),
        overlap: args.overlap,
    };
    if let Some(symbols) = pattern.in_symbols() {
        console.say(format!("{}  is  {}", paint(BOLD, safe(source)), paint(FOUND, symbols)))?;
    }
    let widest = args.values.iter().map(|value| safe(value).width()).max().unwrap_or(0);
    let mut misread = 0;
    for value in &args.values {
        let pad = " ".repeat(widest - safe(value).width());
        match pattern.read(value.as_bytes(), &options) {
            Ok(moment) => {
                let told = told(&pattern, &moment);
                console.say(format!("{} {}{pad}  {told}", paint(GOOD, "✓"), safe(value)))?;
            }
            Err(reason) => {
                misread += 1;
                let what = reason.describe(value.as_bytes(), &pattern);
                console.say(format!(
                    "{} {}{}",
                    paint(WARN, "✗"),
                    safe(value),
                    beside(&reason, &pad, &what)
                ))?;
                if let Some(at) = reason.at() {
                    let before = safe(&String::from_utf8_lossy(&value.as_bytes()[..at])).width();
                    console.say(format!(
                        "  {}{} {}",
                        " ".repeat(before),
                        paint(WARN, "^"),
                        safe(&what)
                    ))?;
                }
            }
        }
    }
    Ok(Outcome::objecting_if(misread > 0))
}

/// A reason that is not about one place of the value stands beside it.
fn beside(reason: &Misread, pad: &str, what: &str) -> String {
    if reason.at().is_some() { String::new() } else { format!("{pad}  {}", safe(what)) }
}

fn symbols(console: &mut Console) -> Result<(), Failure> {
    let headings = [Heading::left("symbol"), Heading::left("example"), Heading::left("reads")];
    let rows = SYMBOLS.iter().map(|symbol| {
        vec![
            (symbol.letters.to_owned(), Look::Type),
            (symbol.example.to_owned(), Look::Plain),
            (symbol.reads.to_owned(), Look::Plain),
        ]
    });
    let literals =
        [("'text'", "text", "the text itself"), ("''", "'", "a quote")].map(|(a, b, c)| {
            vec![
                (a.to_owned(), Look::Type),
                (b.to_owned(), Look::Plain),
                (c.to_owned(), Look::Plain),
            ]
        });
    console.say(render(console, &headings, rows.chain(literals).collect(), true))?;
    console.say("")?;
    console.say(format!("  {}", paint(BOLD, "or one of the words")))?;
    for (word, counts) in COUNTS {
        console.say(format!("  {}  {counts}", paint(FOUND, format!("{word:<10}"))))?;
    }
    console.say("")?;
    console.say(paint(DIM, "  What is not a letter stands for itself. A pattern with a '%' in it is one of POSIX strptime."))?;
    Ok(())
}

/// The dates of a column: how they look, which patterns read them, and what none reads.
fn of_column(
    name: &str,
    args: &Dates,
    common: &Common,
    console: &mut Console,
) -> Result<Outcome, Failure> {
    let rules =
        RuleArgs { date_order: args.date_order.iter().cloned().collect(), ..RuleArgs::default() };
    let looked = look(&args.inputs, &args.input, &rules, None, None, Extent::All, common)?;
    let survey = &looked.examined.survey;
    let at = find(name, survey)?;
    let facts = looked.examined.facts(at);
    let shapes = facts.dates.shapes();
    let dates = facts.count(Class::Date);
    let values = facts.plain_count();
    console.say(format!(
        "{}  {}",
        paint(BOLD, safe(name)),
        paint(
            DIM,
            format!(
                "{} of {} look like a date or a time",
                grouped(dates),
                counted(values, "value")
            )
        ),
    ))?;
    if !shapes.is_empty() {
        console.say("")?;
        let headings = [
            Heading::right("values"),
            Heading::left("such as"),
            Heading::left("in"),
            Heading::left("can be read"),
        ];
        let rows = shapes.iter().map(|shape| shape_row(shape, survey)).collect();
        console.say(render(console, &headings, rows, true))?;
    }
    let findings = looked.examined.dates(at);
    match &findings {
        DateFindings::Patterns(decision) => {
            console.say("")?;
            let ty = paint(FOUND, decision.ty.to_string());
            console.say(format!("  {}  {ty}", paint(BOLD, "patterns")))?;
            for (pattern, count) in &decision.patterns {
                console.say(format!(
                    "  {:>12}  {}",
                    grouped(*count),
                    paint(FOUND, safe(pattern))
                ))?;
            }
            for clause in decision.evidence.iter().chain(&decision.notes) {
                console.say(format!("  {}", paint(DIM, safe(&clause.to_string()))))?;
            }
        }
        DateFindings::Asked(question) => {
            console.say("")?;
            console.say(format!(
                "  {}",
                paint(WARN, "Nothing in the data tells which of these is meant:")
            ))?;
            for choice in &question.choices {
                console.say(format!("  {}", paint(FOUND, choice.line())))?;
            }
        }
        DateFindings::None(reason) if dates > 0 => {
            console.say("")?;
            console.say(format!(
                "  {} {}",
                paint(WARN, "no patterns:"),
                safe(&reason.to_string())
            ))?;
        }
        DateFindings::None(_) => {}
    }
    let others: Vec<Class> = CLASSES.into_iter().filter(|class| *class != Class::Date).collect();
    let unread = facts.tally(&others);
    if unread.count > 0 {
        console.say("")?;
        console.say(format!(
            "  {}  {}",
            paint(BOLD, "no dates"),
            counted(unread.count, "value")
        ))?;
        for example in &unread.examples {
            let line = line_of(example.place, &survey.files());
            console.say(format!("  {}  {}", safe(&shown(&example.text())), paint(DIM, line)))?;
        }
    }
    let is_open = !matches!(findings, DateFindings::Patterns(_));
    Ok(Outcome::objecting_if(is_open || unread.count > 0))
}

fn shape_row(shape: &ShapeFacts, survey: &Survey) -> Vec<(String, Look)> {
    let (example, line) = shape.first.as_ref().map_or_else(Default::default, |first| {
        (shown(&first.text()), line_of(first.place, &survey.files()))
    });
    // The orders that read the most first; of those that do not read all, by how many and why.
    let mut orders: Vec<DateOrder> =
        DateOrder::ALL.into_iter().filter(|order| shape.shape.allows(*order)).collect();
    orders.sort_by_key(|order| std::cmp::Reverse(shape.orders[*order as usize].valid));
    let reads_all = |order: &DateOrder| shape.orders[*order as usize].refused.count == 0;
    let all: Vec<&str> = orders.iter().copied().filter(reads_all).map(DateOrder::words).collect();
    let some = orders.iter().filter(|order| !reads_all(order)).map(|order| {
        let facts = &shape.orders[*order as usize];
        let why = facts.refused.examples.first().map_or_else(String::new, |refused| {
            let line = line_of(refused.place, &survey.files());
            format!("not {} in {line}", shown(&refused.text()))
        });
        match facts.valid {
            0 => format!("none {}: {why}", order.words()),
            valid => format!("{} {}: {why}", grouped(valid), order.words()),
        }
    });
    let all = match shape.shape.date {
        None => Some("as a time".to_owned()),
        Some(_) => Some(all.join(" or ")).filter(|all| !all.is_empty()),
    };
    let clauses: Vec<String> = all.into_iter().chain(some).collect();
    vec![
        (grouped(shape.count), Look::Plain),
        (example, Look::Type),
        (line, Look::Dim),
        (clauses.join("; "), Look::Plain),
    ]
}
