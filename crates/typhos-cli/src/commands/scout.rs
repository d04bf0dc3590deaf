//! `typhos scout`: how files are laid out, and what every column holds.

use serde_json::{Value, json};
use typhos_core::dates::Order;
use typhos_core::infer::{Blocker, Decision, counted, decide, grouped, line_of, shown};
use typhos_core::survey::Survey;
use typhos_core::text::Input;

use crate::args::{Common, Scout};
use crate::console::{BOLD, Console, DIM, FOUND, WARN, paint, safe};
use crate::outcome::{Failure, Outcome};
use crate::report::{input_json, input_line, layout_lines};
use crate::table::{Heading, Look, cut, render};

/// Terminals narrower than this show ranges among the reasons, not in columns of their own.
const WIDE: usize = 120;

/// Distinct values listed for one column.
const SHOWN_VALUES: usize = 12;

pub fn run(args: &Scout, common: &Common, console: &mut Console) -> Result<Outcome, Failure> {
    let input = super::open(&args.inputs, &args.input.choice())?;
    let survey = super::survey(&input, common)?;
    let decisions = decide(&survey, input.names(), &args.rules.rules());
    if args.json {
        console.json(&report_json(&input, &survey, &decisions))?;
    } else if let Some(name) = &args.column {
        let at = find(name, &input)?;
        one_column(name, &survey, at, &decisions[at], console)?;
    } else {
        whole(&input, &survey, &decisions, console)?;
    }
    Ok(Outcome::objecting_if(survey.broken > 0))
}

fn find(name: &str, input: &Input) -> Result<usize, Failure> {
    input.names().iter().position(|known| known == name).ok_or_else(|| {
        let near = match typhos_core::nearest(name, input.names().iter().map(String::as_str)) {
            Some(near) => format!("; did you mean '{near}'?"),
            None => format!("; its columns are {}", cut(&input.names().join(", "), 300)),
        };
        Failure::Usage(format!("there is no column '{name}'{near}"))
    })
}

fn whole(
    input: &Input,
    survey: &Survey,
    decisions: &[Decision],
    console: &mut Console,
) -> std::io::Result<()> {
    console.say(format!(
        "{}  {}",
        input_line(input),
        paint(BOLD, counted(survey.records, "record"))
    ))?;
    for line in layout_lines(input) {
        console.say(line)?;
    }
    console.say("")?;

    let wide = console.width.is_none_or(|width| width >= WIDE);
    let mut headings = vec![
        Heading::left("column").most(28),
        Heading::left("type"),
        Heading::right("absent"),
        Heading::right("distinct"),
    ];
    if wide {
        headings.extend([Heading::left("smallest").most(22), Heading::left("largest").most(22)]);
    }
    headings.push(Heading::left("why"));
    let rows = input.names().iter().zip(decisions).map(|(name, decision)| {
        let absent = match decision.absent {
            0 => ("–".into(), Look::Dim),
            some => (grouped(some), Look::Plain),
        };
        let distinct = decision.distinct.map_or("many".into(), grouped);
        let ty = if decision.question.is_some() { Look::Warn } else { Look::Type };
        let mut row = vec![
            (name.clone(), Look::Plain),
            (decision.ty.to_string(), ty),
            absent,
            (distinct, Look::Plain),
        ];
        let why = if wide {
            let (low, high) = decision.shown_range().unwrap_or_default();
            row.extend([(low, Look::Plain), (high, Look::Plain)]);
            decision.evidence.iter().chain(&decision.notes).cloned().collect::<Vec<_>>()
        } else {
            decision.clauses()
        };
        let patterns = decision.patterns.iter().map(|(pattern, _)| pattern.clone());
        let why: Vec<_> = patterns.chain(why).collect();
        row.push((why.join("; "), Look::Dim));
        row
    });
    let rows = rows.collect();
    console.say(render(console, &headings, rows, true))?;
    closing(input, survey, decisions, console)
}

/// What has to be looked at: broken records, and questions.
fn closing(
    input: &Input,
    survey: &Survey,
    decisions: &[Decision],
    console: &mut Console,
) -> std::io::Result<()> {
    if survey.broken > 0 {
        console.say("")?;
        console.say(paint(
            WARN,
            format!("{} cannot be split into columns:", counted(survey.broken, "more record")),
        ))?;
        for broken in &survey.broken_examples {
            let file = input.files()[broken.place.file as usize].name();
            console.say(format!(
                "  {}  {}",
                paint(DIM, format!("{}:{}", safe(&file), broken.place.line)),
                broken.reason
            ))?;
        }
    }
    for line in questions(input.names(), decisions) {
        console.say("")?;
        console.say(paint(WARN, line))?;
    }
    Ok(())
}

/// A sentence for each column whose dates could be read in more than one order.
pub fn questions(names: &[String], decisions: &[Decision]) -> Vec<String> {
    let asked = names
        .iter()
        .zip(decisions)
        .filter_map(|(name, decision)| Some((name, decision.question.as_ref()?)));
    asked
        .map(|(name, question)| {
            let ways: Vec<_> = question
                .choices
                .iter()
                .map(|(order, patterns)| {
                    format!("{} (--date-order {})", patterns.join(" and "), order_word(*order))
                })
                .collect();
            format!(
                "'{}' holds dates that read as {}. Nothing in the data tells which.",
                safe(name),
                ways.join(" or as ")
            )
        })
        .collect()
}

fn order_word(order: Order) -> &'static str {
    match order {
        Order::Ymd => "ymd",
        Order::Dmy => "dmy",
        Order::Mdy => "mdy",
    }
}

fn one_column(
    name: &str,
    survey: &Survey,
    at: usize,
    decision: &Decision,
    console: &mut Console,
) -> std::io::Result<()> {
    console.say(format!(
        "{}  {}",
        paint(BOLD, safe(name)),
        paint(FOUND, decision.ty.to_string())
    ))?;
    for clause in decision.clauses() {
        console.say(format!("  {}", safe(&clause)))?;
    }
    if decision.ty.is_text()
        && let Some((low, high)) = &decision.range
    {
        console.say(format!("  {} to {}", shown(low), shown(high)))?;
    }
    for (pattern, count) in &decision.patterns {
        console.say(format!("  {} reads {}", paint(FOUND, pattern), counted(*count, "value")))?;
    }
    for (token, count) in &decision.absent_tokens {
        let what = if token.is_empty() { "blank".to_owned() } else { shown(token) };
        console.say(format!("  absent: {what}, {}", counted(*count, "time")))?;
    }
    for blocker in &decision.blockers {
        console.say("")?;
        console.say(paint(
            WARN,
            format!("{} in the way of {}:", counted(blocker.count, "value"), blocker.ty),
        ))?;
        for example in &blocker.examples {
            let line = line_of(example.place, &survey.files);
            console.say(format!("  {line}  {}", shown(&example.text())))?;
        }
    }
    let (facts, records) = (&survey.columns[at], survey.records);
    let values = facts.distinct_values();
    if !values.is_empty() {
        console.say("")?;
        console.say(paint(
            BOLD,
            format!(
                "{} of {}",
                counted(values.len() as u64, "distinct value"),
                counted(records, "record")
            ),
        ))?;
        let rows = values.iter().take(SHOWN_VALUES).map(|found| {
            let share = found.count as f64 / records.max(1) as f64;
            let bar = "█".repeat((share * 40.0).round() as usize);
            vec![
                (cut(&String::from_utf8_lossy(found.value), 40), Look::Plain),
                (grouped(found.count), Look::Plain),
                (format!("{:.1} %", share * 100.0), Look::Dim),
                (bar, Look::Type),
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
            console.say(paint(
                DIM,
                format!("  and {} more", grouped((values.len() - SHOWN_VALUES) as u64)),
            ))?;
        }
    }
    Ok(())
}

fn report_json(input: &Input, survey: &Survey, decisions: &[Decision]) -> Value {
    let columns = input.names().iter().zip(decisions).enumerate().map(|(at, (name, decision))| {
        let tokens: serde_json::Map<_, _> =
            decision.absent_tokens.iter().map(|(token, count)| ((*token).to_owned(), json!(count))).collect();
        let patterns = decision.patterns.iter().map(|(pattern, count)| json!({ "pattern": pattern, "count": count }));
        json!({
            "name": name,
            "position": at + 1,
            "type": decision.ty.to_string(),
            "required": decision.required,
            "absent": decision.absent,
            "absent_tokens": tokens,
            "distinct": decision.distinct,
            "distinct_exact": decision.distinct.is_some(),
            "min": decision.range.as_ref().map(|(low, _)| low),
            "max": decision.range.as_ref().map(|(_, high)| high),
            "max_chars": decision.max_chars,
            "patterns": patterns.collect::<Vec<_>>(),
            "values": decision.values,
            "evidence": decision.evidence,
            "blockers": decision.blockers.iter().map(|blocker| blocker_json(blocker, input)).collect::<Vec<_>>(),
            "notes": decision.notes,
            "question": decision.question.as_ref().map(|question| {
                let choices = question.choices.iter().map(|(order, patterns)| {
                    json!({ "date_order": order_word(*order), "patterns": patterns })
                });
                json!({ "choices": choices.collect::<Vec<_>>() })
            }),
        })
    });
    let broken = survey.broken_examples.iter().map(|broken| {
        let file = input.files()[broken.place.file as usize].name();
        json!({ "file": file, "line": broken.place.line, "reason": broken.reason })
    });
    json!({
        "typhos": 1,
        "input": input_json(input),
        "records": survey.records,
        "broken_records": { "count": survey.broken, "examples": broken.collect::<Vec<_>>() },
        "columns": columns.collect::<Vec<_>>(),
    })
}

fn blocker_json(blocker: &Blocker, input: &Input) -> Value {
    let examples = blocker.examples.iter().map(|example| {
        let file = input.files()[example.place.file as usize].name();
        json!({ "value": example.text(), "file": file, "line": example.place.line })
    });
    json!({ "type": blocker.ty.to_string(), "count": blocker.count, "examples": examples.collect::<Vec<_>>() })
}
