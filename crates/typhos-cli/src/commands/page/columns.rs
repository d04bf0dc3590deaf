//! The page of an input: how it is laid out, and what every column holds, with a small histogram and the reasons.

use maud::{Markup, html};
use typhos_core::infer::{
    Bin, Decision, Profile, counted, distinct_clause, grouped, line_of, shown,
};
use typhos_core::survey::Survey;

use super::super::look::Looked;
use super::{Page, meter, plain, short, tile};

/// Frequent values that are listed of a column.
const MOST_VALUES: usize = 8;

/// Values that are drawn, where there are no more of them: the most frequent of many say nothing.
const MOST_BARS: u64 = 24;

/// Columns of which everything is shown; of those behind them the reasons only, so that a page stays small.
const MOST_DETAILED: usize = 400;

pub fn page(looked: &Looked) -> Page {
    let survey = &looked.examined.survey;
    let report = looked.report();
    let [record, records] = match survey.is_sample {
        true => ["record, the first one only", "records, the first ones only"],
        false => ["record", "records"],
    };
    let mut tiles = vec![
        tile(survey.records, record, records),
        tile(looked.columns.len() as u64, "column", "columns"),
    ];
    if survey.broken > 0 {
        tiles.push(tile(survey.broken, "broken record", "broken records"));
    }
    let asked =
        looked.columns.iter().filter(|at| looked.examined.decisions[**at].question.is_some());
    let asked = asked.count();
    if asked > 0 {
        tiles.push(tile(asked as u64, "column with a question", "columns with a question"));
    }
    let layout = html! {
        @for line in report.layout_lines() { p.mono.lines { (plain(&line).trim()) } }
    };
    let columns = html! {
        div.cols {
            @for (nth, at) in looked.columns.iter().enumerate() { (column(looked, *at, nth < MOST_DETAILED)) }
        }
    };
    let mut sections = vec![
        ("layout", "How it is laid out".to_owned(), layout),
        ("columns", "Columns".to_owned(), columns),
    ];
    if survey.broken > 0 {
        sections.push((
            "broken",
            "Records that cannot be split into columns".into(),
            broken(survey),
        ));
    }
    Page {
        title: plain(&report.line()),
        about: "What is in it, column by column, learned from all of its records.".into(),
        tiles,
        warnings: super::super::scout::questions(looked).iter().map(|text| plain(text)).collect(),
        sections,
    }
}

fn broken(survey: &Survey) -> Markup {
    html! {
        p { (counted(survey.broken, "record")) ", of which the first:" }
        ul {
            @for broken in &survey.broken_examples {
                @let file = &survey.source.files[broken.place.part as usize].name;
                li { code { (file) ":" (broken.place.line) } " " (broken.reason()) }
            }
        }
    }
}

fn column(looked: &Looked, at: usize, is_detailed: bool) -> Markup {
    let survey = &looked.examined.survey;
    let decision = &looked.examined.decisions[at];
    let name = &survey.source.names[at];
    let records = survey.records_of(at);
    let profile = looked.examined.profile(at);
    let absent_share = decision.absent as f64 / records.max(1) as f64 * 100.0;
    let absent = match decision.absent {
        0 => "none absent".to_owned(),
        some => format!("{} absent ({absent_share:.1} %)", grouped(some)),
    };
    let why: Vec<String> = decision
        .patterns
        .iter()
        .map(|(pattern, _)| pattern.clone())
        .chain(decision.clauses())
        .collect();
    html! {
        article.col {
            div {
                h3 { (short(name)) }
                p class=(if decision.question.is_some() { "ty mono ask" } else { "ty mono" }) { (decision.ty) }
            }
            div {
                @if profile.histogram.is_empty() {
                    @if decision.distinct.count <= MOST_BARS { (frequent_bars(looked, at, decision)) }
                } @else {
                    (histogram(&profile.histogram, decision))
                }
            }
            div {
                p.why { (short_list(&why)) }
                p.facts {
                    span { (distinct_clause(decision.distinct)) " distinct" }
                    span { (absent) }
                    @if let Some((low, high)) = decision.shown_range().filter(|(low, _)| !why.iter().any(|clause| clause.contains(low))) {
                        span { (short(&low)) " to " (short(&high)) }
                    }
                }
                @if decision.absent > 0 { (meter(decision.absent, records, "absent", &absent)) }
            }
            @if is_detailed { (details(looked, at, decision, &profile)) }
        }
    }
}

fn short_list(clauses: &[String]) -> String {
    clauses.iter().map(|clause| short(clause)).collect::<Vec<_>>().join("; ")
}

/// What is behind a column: values in the way with their lines, quantiles, frequent values.
fn details(looked: &Looked, at: usize, decision: &Decision, profile: &Profile) -> Markup {
    let survey = &looked.examined.survey;
    let files = survey.files();
    let values = survey.columns[at].distinct_values();
    let has_values = survey.columns[at].has_values() && !values.is_empty();
    if decision.blockers.is_empty() && profile.quantiles.is_empty() && !has_values {
        return html! {};
    }
    html! {
        details {
            summary { "More of " (short(&survey.source.names[at])) }
            @for blocker in &decision.blockers {
                p {
                    (counted(blocker.count, "value")) " in the way of " code { (blocker.ty) } ": "
                    @for (nth, example) in blocker.examples.iter().enumerate() {
                        @if nth > 0 { ", " }
                        code { (short(&shown(&example.text()))) } " in " (line_of(example.place, &files))
                    }
                }
            }
            @if !profile.quantiles.is_empty() {
                div.scroll { table {
                    caption { "Shares of the values that are not larger" }
                    thead { tr { @for (share, _) in &profile.quantiles { th.num scope="col" { (format!("{:.0} %", share * 100.0)) } } } }
                    tbody { tr { @for (_, value) in &profile.quantiles { td.num { (super::super::shape::few_digits(*value)) } } } }
                } }
            }
            @if has_values {
                @let most = values.iter().map(|value| value.count).max().unwrap_or(1);
                div.scroll { table {
                    caption { "The most frequent values" }
                    tbody {
                        @for value in values.iter().take(MOST_VALUES) {
                            @let text = String::from_utf8_lossy(value.value);
                            tr {
                                td { code { (short(&shown(&text))) } }
                                td.num { (grouped(value.count)) }
                                td.wide { (meter(value.count, most, "", &grouped(value.count))) }
                            }
                        }
                    }
                } }
            }
        }
    }
}

const WIDTH: usize = 208;
const HEIGHT: usize = 44;

fn histogram(bins: &[Bin], decision: &Decision) -> Markup {
    let most = bins.iter().map(|bin| bin.count).max().unwrap_or(1).max(1);
    let step = WIDTH / bins.len().max(1);
    let what = format!(
        "Histogram of {} of {} ranges; most values from {} to {}",
        decision.ty,
        bins.len(),
        bins.iter().max_by_key(|bin| bin.count).map_or(0.0, |bin| bin.low),
        bins.iter().max_by_key(|bin| bin.count).map_or(0.0, |bin| bin.high),
    );
    html! {
        svg viewBox=(format!("0 0 {WIDTH} {HEIGHT}")) width=(WIDTH) height=(HEIGHT) role="img" aria-label=(what) {
            @for (at, bin) in bins.iter().enumerate() {
                // Something is not nothing.
                @let high = (bin.count as f64 / most as f64 * HEIGHT as f64).max(if bin.count > 0 { 1.5 } else { 0.5 });
                rect class=(if bin.count > 0 { "bar" } else { "none" }) x=(at * step) width=(step.saturating_sub(2).max(1))
                    y=(format!("{:.1}", HEIGHT as f64 - high)) height=(format!("{high:.1}")) {
                    title { (few(bin.low)) " to " (few(bin.high)) ": " (grouped(bin.count)) }
                }
            }
        }
    }
}

fn few(value: f64) -> String {
    super::super::shape::few_digits(value)
}

/// The shares of the most frequent values, where there are no numbers.
fn frequent_bars(looked: &Looked, at: usize, decision: &Decision) -> Markup {
    let values = super::super::scout::frequent(&looked.examined.survey.columns[at], decision);
    let Some(most) = values.first().map(|value| value.count).filter(|count| *count > 1) else {
        return html! {};
    };
    let shown: Vec<_> = values.iter().take(MOST_BARS as usize).collect();
    let step = WIDTH / shown.len().max(6);
    let what = format!("Frequency of the {} most frequent values", shown.len());
    html! {
        svg viewBox=(format!("0 0 {WIDTH} {HEIGHT}")) width=(WIDTH) height=(HEIGHT) role="img" aria-label=(what) {
            @for (nth, value) in shown.iter().enumerate() {
                @let high = (value.count as f64 / most as f64 * HEIGHT as f64).max(1.5);
                rect.bar x=(nth * step) width=(step.saturating_sub(4).max(1)) y=(format!("{:.1}", HEIGHT as f64 - high))
                    height=(format!("{high:.1}")) {
                    title { (short(&String::from_utf8_lossy(value.value))) ": " (grouped(value.count)) }
                }
            }
        }
    }
}
