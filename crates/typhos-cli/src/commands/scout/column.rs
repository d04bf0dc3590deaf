//! `typhos scout --column`: everything about one column.

use typhos_core::columns::{Float32Change, float32_change};
use typhos_core::infer::{
    Bin, Blocker, Decision, DraftOptions, Profile, ReadingFacts, counted, distinct_clause, draft,
    estimate_error_percent, grouped, line_of, shown,
};
use typhos_core::records::PathKind;
use typhos_core::schema::Scalar;
use typhos_core::survey::{ColumnFacts, DistinctValue, Survey, Trend};

use super::super::look::Looked;
use crate::args::Common;
use crate::console::{BOLD, Console, DIM, FOUND, WARN, paint, safe};
use crate::outcome::Failure;
use crate::progress::Progress;
use crate::table::{Heading, Look, cut, render};

/// Distinct values listed.
const SHOWN_VALUES: usize = 8;

/// Characters of the longest bar.
const BAR: f64 = 40.0;

/// What the column would lose as float32, where that is the question and the data is at hand.
pub fn float32(
    looked: &Looked,
    at: usize,
    common: &Common,
) -> Result<Option<Float32Change>, Failure> {
    let Some(input) = looked.input.as_ref().filter(|input| !input.is_stream()) else {
        return Ok(None);
    };
    let (survey, decisions) = (&looked.examined.survey, &looked.examined.decisions);
    if decisions[at].ty != Scalar::Float64 || survey.is_sample {
        return Ok(None);
    }
    let wanted = DraftOptions { columns: Some(vec![at]), ..DraftOptions::default() };
    let drafted = draft(survey, decisions, &wanted).schema;
    let progress = Progress::new("comparing floats", input.bytes(), common.quiet);
    let options = common.run_options();
    Ok(Some(float32_change(input, &drafted.columns[0], &options, &progress)?))
}

pub fn show(
    looked: &Looked,
    at: usize,
    float32: Option<Float32Change>,
    console: &mut Console,
) -> std::io::Result<()> {
    let (survey, decision) = (&looked.examined.survey, &looked.examined.decisions[at]);
    let profile = looked.examined.profile(at);
    let name = &survey.source.names[at];
    let look = if decision.question.is_some() { WARN } else { FOUND };
    console.say(
        format!(
            "{}  {}  {}",
            paint(BOLD, safe(name)),
            paint(look, decision.ty.to_string()),
            paint(DIM, format!("column {} of", at + 1)),
        ) + " "
            + &super::source_line(looked),
    )?;
    for clause in decision.clauses() {
        console.say(format!("  {}", safe(&clause)))?;
    }
    console.say("")?;
    facts((survey, at), decision, &profile, console)?;
    if let Some(change) = float32 {
        console.say(format!("  {} {}", paint(DIM, "float32   "), float32_line(change)))?;
    }
    readings(survey, &profile, console)?;
    for blocker in &decision.blockers {
        in_the_way(blocker, survey, console)?;
    }
    quantiles(decision, &profile, console)?;
    histogram(decision, &profile.histogram, console)?;
    values(survey, decision, at, console)
}

/// A heading, and a line of air above it.
fn heading(text: &str, beside: &str, console: &mut Console) -> std::io::Result<()> {
    console.say("")?;
    if beside.is_empty() {
        return console.say(paint(BOLD, text));
    }
    console.say(format!("{}  {}", paint(BOLD, text), paint(DIM, beside)))
}

fn percent(part: u64, whole: u64) -> String {
    format!("{:.1} %", part as f64 / whole.max(1) as f64 * 100.0)
}

/// The facts that are one line each.
fn facts(
    (survey, at): (&Survey, usize),
    decision: &Decision,
    profile: &Profile,
    console: &mut Console,
) -> std::io::Result<()> {
    let records = survey.records_of(at);
    let mut line = |name: &str, what: String| {
        console.say(format!("  {} {}", paint(DIM, format!("{name:<10}")), safe(&what)))
    };
    if let Some((low, high)) = decision.shown_range().filter(|_| decision.ty.is_text()) {
        line("smallest", shown(&low))?;
        line("largest", shown(&high))?;
    }
    let tokens = decision.absent_tokens.iter().map(|(token, count)| {
        let what = if token.is_empty() { "blank".to_owned() } else { shown(token) };
        format!("{what} {}", grouped(*count))
    });
    let tokens: Vec<_> = tokens.collect();
    line(
        "absent",
        match decision.absent {
            0 => "none".to_owned(),
            some => {
                format!("{} ({}): {}", grouped(some), percent(some, records), tokens.join(", "))
            }
        },
    )?;
    if let Some(kinds) = survey.columns[at].kinds() {
        let missing = records.saturating_sub(kinds.count());
        let kinds = PathKind::ALL.into_iter().map(|kind| (kind.plural(), kinds.of(kind).0));
        let all = kinds.chain([("missing", missing)]).filter(|(_, count)| *count > 0);
        let all: Vec<_> = all.map(|(kind, count)| format!("{kind} {}", grouped(count))).collect();
        line("kinds", all.join(", "))?;
    }
    let distinct = decision.distinct;
    let present = records - decision.absent.min(records);
    let error = if distinct.is_exact {
        String::new()
    } else {
        format!(", an estimate within {} % nearly always", estimate_error_percent())
    };
    let role = match distinct.count {
        1 if present > 1 => ": constant",
        count if distinct.is_exact && count == present && present > 1 => {
            ": no value stands twice, so it could be a key"
        }
        _ => "",
    };
    line("distinct", format!("{}{error}{role}", distinct_clause(distinct)))?;
    for (pattern, count) in &decision.patterns {
        line("pattern", format!("{pattern} reads {}", counted(*count, "value")))?;
    }
    if let Some((fewest, most)) = profile.bytes {
        let bytes = if fewest == most {
            format!("{} each", counted(fewest, "byte"))
        } else {
            format!(
                "{} to {} bytes, {:.1} on average",
                grouped(fewest),
                grouped(most),
                profile.mean_bytes
            )
        };
        let chars = counted(decision.max_chars, "character");
        line("length", format!("{bytes}; at most {chars}"))?;
    }
    line("order", order(decision, profile))
}

/// What float32 would change, in words.
fn float32_line(change: Float32Change) -> String {
    let mut line = format!("{} would change", counted(change.changed, "value"));
    if let Some((difference, value)) = change.most {
        // Two digits of a difference say all there is to say.
        let difference = format!("{difference:.1e}").parse::<f64>().unwrap_or(difference);
        line += &format!(", by at most {difference} ({value})");
    }
    if change.too_large > 0 {
        line += &format!("; {} too large for it", counted(change.too_large, "value"));
    }
    line
}

/// How the values stand, in words.
fn order(decision: &Decision, profile: &Profile) -> String {
    let way = |trend: Trend| match trend {
        Trend { rises: true, .. } => Some("rising"),
        Trend { falls: true, .. } => Some("falling"),
        _ => None,
    };
    let Some((as_text, as_number)) = profile.trends else {
        return if decision.distinct.count > 1 { "not sorted" } else { "nothing to sort" }.into();
    };
    match (way(as_text), way(as_number)) {
        (_, Some(number)) if decision.ty.is_number() => format!("sorted, {number}"),
        (Some(text), _) if !decision.ty.is_number() => format!("sorted as text, {text}"),
        (_, Some(number)) => format!("sorted as numbers, {number}"),
        _ => "not sorted".into(),
    }
}

/// What every reading made of the values.
fn readings(survey: &Survey, profile: &Profile, console: &mut Console) -> std::io::Result<()> {
    if profile.readings.is_empty() {
        heading("Readings", "no value reads as anything but text", console)?;
        return Ok(());
    }
    heading("Readings", "", console)?;
    let files = survey.files();
    let row = |reading: &ReadingFacts| {
        let example = reading.examples.first().map(|example| {
            let value = cut(&example.text(), 24);
            format!("{} in {}", shown(&value), line_of(example.place, &files))
        });
        let what = match (&reading.ty, reading.refused) {
            (Some(ty), 0) => (ty.to_string(), Look::Type),
            (Some(ty), _) => (ty.to_string(), Look::Dim),
            (None, _) => ("none".to_owned(), Look::Dim),
        };
        let why = match (&reading.reason, example) {
            (Some(reason), _) => reason.to_string(),
            (None, Some(example)) => format!("ruled out first by {example}"),
            (None, None) => "reads every value".to_owned(),
        };
        vec![
            (reading.name.to_owned(), if reading.survives() { Look::Plain } else { Look::Dim }),
            (grouped(reading.read), Look::Plain),
            (if reading.refused == 0 { "–".into() } else { grouped(reading.refused) }, Look::Plain),
            what,
            (why, Look::Dim),
        ]
    };
    let headings = [
        Heading::left("as"),
        Heading::right("reads"),
        Heading::right("does not"),
        Heading::left("type"),
        Heading::left(""),
    ];
    let rows = profile.readings.iter().map(row).collect();
    console.say(render(console, &headings, rows, true))
}

fn in_the_way(blocker: &Blocker, survey: &Survey, console: &mut Console) -> std::io::Result<()> {
    console.say("")?;
    console.say(paint(
        WARN,
        format!("{} ruled out {}:", counted(blocker.count, "value"), blocker.ty),
    ))?;
    let files = survey.files();
    for example in &blocker.examples {
        let line = line_of(example.place, &files);
        console.say(format!("  {line}  {}", safe(&shown(&example.text()))))?;
    }
    let more = blocker.count.saturating_sub(blocker.examples.len() as u64);
    if more > 0 {
        console.say(paint(DIM, format!("  … and {} more", grouped(more))))?;
    }
    Ok(())
}

/// A number with no more digits than say something.
pub fn number(value: f64, ty: Scalar) -> String {
    match ty {
        Scalar::Int(_) if value.abs() < 1e15 => {
            let digits = grouped(value.abs().round() as u64);
            if value.round() < 0.0 { format!("-{digits}") } else { digits }
        }
        Scalar::Decimal { scale, .. } if value.abs() < 1e15 => {
            format!("{value:.digits$}", digits = usize::from(scale))
        }
        _ if value != 0.0 && !(1e-4..1e7).contains(&value.abs()) => format!("{value:.4e}"),
        _ => {
            let whole = value.abs().max(1.0).log10().floor() as usize;
            let text = format!("{value:.digits$}", digits = 6usize.saturating_sub(whole));
            let text = if text.contains('.') {
                text.trim_end_matches('0').trim_end_matches('.')
            } else {
                &text
            };
            text.to_owned()
        }
    }
}

fn quantiles(decision: &Decision, profile: &Profile, console: &mut Console) -> std::io::Result<()> {
    if profile.quantiles.is_empty() || decision.distinct.count < 2 {
        return Ok(());
    }
    let how = if profile.is_exact { "" } else { "to the nearest of a few hundred steps" };
    heading("Quantiles", how, console)?;
    let name = |share: f64| match share {
        0.0 => "smallest".to_owned(),
        0.5 => "median".to_owned(),
        1.0 => "largest".to_owned(),
        share => format!("{:.0} %", share * 100.0),
    };
    let headings: Vec<_> =
        profile.quantiles.iter().map(|(share, _)| Heading::right(name(*share))).collect();
    let cell = |value: f64| (number(value, decision.ty), Look::Plain);
    let row = profile.quantiles.iter().map(|(_, value)| cell(*value)).collect();
    console.say(render(console, &headings, vec![row], false))
}

fn bar(count: u64, most: u64) -> String {
    let length = count as f64 / most.max(1) as f64 * BAR;
    // What is there is seen, however little it is.
    let whole = if count > 0 { (length.round() as usize).max(1) } else { 0 };
    "█".repeat(whole)
}

fn histogram(decision: &Decision, bins: &[Bin], console: &mut Console) -> std::io::Result<()> {
    if bins.len() < 2 || decision.distinct.count < 3 {
        return Ok(());
    }
    heading("Histogram", "", console)?;
    let most = bins.iter().map(|bin| bin.count).max().unwrap_or(0);
    let is_whole = matches!(decision.ty, Scalar::Int(_));
    let row = |bin: &Bin| {
        // Bins of whole numbers end before the next starts.
        let high = if is_whole { bin.high - 1.0 } else { bin.high };
        let range = if is_whole && high <= bin.low {
            vec![number(bin.low, decision.ty), String::new()]
        } else {
            vec![number(bin.low, decision.ty), format!("to {}", number(high, decision.ty))]
        };
        let mut row: Vec<_> = range.into_iter().map(|text| (text, Look::Plain)).collect();
        row.push((grouped(bin.count), Look::Plain));
        row.push((bar(bin.count, most), Look::Type));
        row
    };
    let headings =
        [Heading::right("from"), Heading::left(""), Heading::right("values"), Heading::left("")];
    console.say(render(console, &headings, bins.iter().map(row).collect(), false))
}

/// The values that are counted one by one, the most frequent first, without those that are absent.
pub fn frequent<'f>(facts: &'f ColumnFacts, decision: &Decision) -> Vec<DistinctValue<'f>> {
    let is_absent = |value: &[u8]| {
        decision.absent_tokens.iter().any(|(token, _)| token.as_bytes() == value.trim_ascii())
    };
    let mut values = facts.distinct_values();
    values.retain(|found| !is_absent(found.value));
    values
}

/// The most frequent values.
fn values(
    survey: &Survey,
    decision: &Decision,
    at: usize,
    console: &mut Console,
) -> std::io::Result<()> {
    let (facts, records) = (&survey.columns[at], survey.records_of(at));
    if !facts.has_values() {
        let why = "more distinct values than are counted one by one";
        return heading("Most frequent", why, console);
    }
    let values = frequent(facts, decision);
    let Some(most) = values.first().map(|found| found.count) else { return Ok(()) };
    if most == 1 {
        heading("First values", "every value stands once", console)?;
        let texts: Vec<_> = values
            .iter()
            .take(SHOWN_VALUES)
            .map(|found| shown(&cut(&String::from_utf8_lossy(found.value), 40)))
            .collect();
        return console.say(format!("  {}", safe(&texts.join("  "))));
    }
    heading("Most frequent", "", console)?;
    let rows = values.iter().take(SHOWN_VALUES).map(|found| {
        vec![
            (cut(&String::from_utf8_lossy(found.value), 40), Look::Plain),
            (grouped(found.count), Look::Plain),
            (percent(found.count, records), Look::Dim),
            (bar(found.count, most), Look::Type),
        ]
    });
    let headings = [
        Heading::left("value"),
        Heading::right("count"),
        Heading::right("share"),
        Heading::left(""),
    ];
    let rows = rows.collect();
    console.say(render(console, &headings, rows, false))?;
    if values.len() > SHOWN_VALUES {
        let more = grouped((values.len() - SHOWN_VALUES) as u64);
        console.say(paint(DIM, format!("  and {more} more")))?;
    }
    Ok(())
}
