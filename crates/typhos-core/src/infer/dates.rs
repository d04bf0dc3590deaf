//! Dates: which patterns together read every value, and in which order of day and month.
//!
//! An order is proven by a value that rules the others out, or by another column of the same input
//! written the same way, or it is said by a person. Otherwise it is a question.

use std::collections::BTreeMap;

use super::{Choice, Decision, Question, Rules, number, shown};
use crate::dates::{DAY_NANOS, Order, Shape, format_days, format_nanos};
use crate::readings::Mark;
use crate::schema::{TimeUnit, Type};
use crate::survey::{Class, Example, Facts, Place, ShapeFacts};

/// Why a column of date shapes is no date column.
#[derive(Debug)]
pub(super) enum NoDate {
    /// More than one order reads every value.
    Ambiguous(Question),
    /// No type holds all of them, for this reason.
    Unfit(String),
}

/// Shapes that differ only in how many digits a day, month or hour has: one pattern reads them all.
struct Style<'f> {
    shapes: Vec<&'f ShapeFacts>,
}

impl Style<'_> {
    fn of(facts: &Facts) -> Vec<Style<'_>> {
        let mut styles: BTreeMap<Shape, Style<'_>> = BTreeMap::new();
        for shape in facts.dates.shapes() {
            let mut key = shape.shape.widened();
            if let Some(zone) = &mut key.zone {
                // A lone Z is read by every offset pattern.
                zone.letters = 0;
            }
            styles.entry(key).or_insert_with(|| Style { shapes: Vec::new() }).shapes.push(shape);
        }
        let mut styles: Vec<_> = styles.into_values().collect();
        styles.sort_by_key(|style| std::cmp::Reverse(style.count()));
        styles
    }

    fn count(&self) -> u64 {
        self.shapes.iter().map(|shape| shape.count).sum()
    }

    fn look(&self) -> Shape {
        self.shapes[0].shape
    }

    /// The orders in which every value is a day that exists.
    fn orders(&self) -> Vec<Order> {
        let reads_all = |order: &Order| {
            self.shapes.iter().all(|shape| {
                shape.shape.allows(*order) && shape.orders[*order as usize].valid == shape.count
            })
        };
        if self.look().date.is_none() {
            vec![Order::Ymd]
        } else {
            Order::ALL.into_iter().filter(reads_all).collect()
        }
    }

    fn pattern(&self, order: Order) -> String {
        let loose = self.shapes.iter().any(|shape| shape.shape.is_short());
        let fraction = self.shapes.iter().map(|shape| shape.fraction_digits).max().unwrap_or(0);
        let letters =
            self.shapes.iter().filter_map(|shape| shape.shape.zone).map(|zone| zone.letters).max();
        self.look().pattern(order, loose, fraction, letters.unwrap_or(0))
    }

    /// Whether more than one way of writing an offset is mixed, which one pattern does not read.
    fn mixes_offsets(&self) -> bool {
        let mut letters: Vec<_> = self
            .shapes
            .iter()
            .filter_map(|s| s.shape.zone)
            .map(|z| z.letters)
            .filter(|n| *n > 0)
            .collect();
        letters.sort_unstable();
        letters.dedup();
        letters.len() > 1
    }

    /// What tells styles apart that people would read alike: the separator and the length of the year.
    fn hand(&self) -> Option<(u8, bool)> {
        let (date, _) = self.look().date?;
        Some((date.separator, date.digits.contains(&4)))
    }

    /// The clause that says which value proves the order.
    fn proof(&self, order: Order, context: &Context<'_>) -> Option<String> {
        let refused = self.shapes.iter().flat_map(|shape| {
            Order::ALL
                .into_iter()
                .filter(|other| *other != order)
                .filter_map(|other| shape.orders[other as usize].refused.as_ref())
        });
        let example = refused.min_by_key(|example| example.place)?;
        Some(format!("{}: {}", order_words(order), context.example(example)))
    }
}

fn order_words(order: Order) -> &'static str {
    match order {
        Order::Ymd => "year first",
        Order::Dmy => "day first",
        Order::Mdy => "month first",
    }
}

/// What the whole input has to say to a column: its files, and what other columns prove about how dates
/// are written.
pub(super) struct Context<'s> {
    /// The files, where there are several.
    files: &'s [String],
    by_hand: BTreeMap<(u8, bool), Vec<(Order, String)>>,
    /// Columns that only one decimal mark reads.
    by_mark: Vec<(Mark, String)>,
}

impl<'s> Context<'s> {
    pub fn collect(
        files: &'s [String],
        names: &[String],
        columns: &[Facts],
        rules: &Rules,
    ) -> Context<'s> {
        let mut by_hand: BTreeMap<_, Vec<(Order, String)>> = BTreeMap::new();
        let mut by_mark = Vec::new();
        for (name, facts) in names.iter().zip(columns) {
            let plain = facts.plain_count();
            if facts.written.is_some() && facts.count(Class::Code) == 0 {
                let reads = |mark: &Mark| {
                    number::read_by(facts, *mark) == plain
                        && number::written(facts, *mark, rules).is_ok()
                };
                let marks: Vec<Mark> = Mark::ALL.into_iter().filter(reads).collect();
                if let [mark] = marks[..] {
                    by_mark.push((mark, name.clone()));
                }
            }
            if facts.count(Class::Date) == 0 || facts.count(Class::Date) != facts.plain_count() {
                continue;
            }
            for style in Style::of(facts) {
                if let (Some(hand), [order]) = (style.hand(), style.orders().as_slice()) {
                    by_hand.entry(hand).or_default().push((*order, name.clone()));
                }
            }
        }
        Context { files, by_hand, by_mark }
    }

    /// The decimal mark that all proofs agree on, and the first column that shows it.
    pub fn mark(&self) -> Option<(Mark, &str)> {
        let (mark, name) = self.by_mark.first()?;
        self.by_mark.iter().all(|(other, _)| other == mark).then_some((*mark, name))
    }

    /// An example and where it stands: "'n/k' in line 7".
    pub fn example(&self, example: &Example) -> String {
        format!("{} in {}", shown(&example.text()), self.line(example.place))
    }

    /// A line, and the file it is of where there are several.
    pub fn line(&self, place: Place) -> String {
        super::line_of(place, self.files)
    }

    /// The order that all proofs of a hand agree on, and the first column that shows it.
    fn of(&self, hand: Option<(u8, bool)>) -> Option<(Order, &str)> {
        let proofs = self.by_hand.get(&hand?)?;
        let (order, name) = proofs.first()?;
        proofs.iter().all(|(other, _)| other == order).then_some((*order, name))
    }
}

/// The date type of a column whose values all have date shapes.
pub(super) fn decide(
    facts: &Facts,
    rules: &Rules,
    context: &Context<'_>,
) -> Result<Decision, NoDate> {
    if facts.dates.too_many {
        return Err(NoDate::Unfit("too many ways of writing a date".into()));
    }
    let styles = Style::of(facts);
    let mut evidence = Vec::new();
    let mut chosen = Vec::new();
    let mut open = Vec::new();
    for style in &styles {
        if style.mixes_offsets() {
            return Err(NoDate::Unfit("offsets are written in more than one way".into()));
        }
        let orders = style.orders();
        match orders[..] {
            [] => return Err(NoDate::Unfit(no_order(style, context))),
            [order] => {
                if style.look().allows_many() {
                    evidence.extend(style.proof(order, context));
                }
                chosen.push(order);
            }
            _ => match (rules.date_order, context.of(style.hand())) {
                (Some(order), _) if orders.contains(&order) => {
                    evidence.push(format!("{}, as said", order_words(order)));
                    chosen.push(order);
                }
                (_, Some((order, name))) if orders.contains(&order) => {
                    evidence.push(format!("{}, as column '{name}' proves", order_words(order)));
                    chosen.push(order);
                }
                _ => open = orders,
            },
        }
    }
    if !open.is_empty() {
        let patterns = |order: Order| styles.iter().map(|style| style.pattern(order)).collect();
        let choices = open.into_iter().map(|order| Choice::Dates(order, patterns(order))).collect();
        return Err(NoDate::Ambiguous(Question { choices }));
    }
    let (ty, range) = type_of(&styles, &chosen)?;
    let mut decision = Decision::new(ty);
    decision.evidence = evidence;
    decision.range = Some(range);
    for (style, order) in styles.iter().zip(&chosen) {
        decision.patterns.push((style.pattern(*order), style.count()));
    }
    Ok(decision)
}

fn no_order(style: &Style<'_>, context: &Context<'_>) -> String {
    let mut refused: Vec<_> = style
        .shapes
        .iter()
        .flat_map(|shape| {
            Order::ALL
                .into_iter()
                .filter(|o| shape.shape.allows(*o))
                .map(|o| &shape.orders[o as usize].refused)
        })
        .flatten()
        .collect();
    refused.sort_by_key(|example| example.place);
    refused.dedup_by_key(|example| example.place);
    let examples: Vec<_> = refused.iter().take(2).map(|example| context.example(example)).collect();
    match examples.len() {
        1 => format!("dates but for days that do not exist: {}", examples[0]),
        _ => format!("dates, but no order of day and month reads all: {}", examples.join(", ")),
    }
}

fn type_of(styles: &[Style<'_>], orders: &[Order]) -> Result<(Type, (String, String)), NoDate> {
    let unfit = |reason: &str| Err(NoDate::Unfit(reason.into()));
    let all = |test: &dyn Fn(Shape) -> bool| styles.iter().all(|style| test(style.look()));
    let any = |test: &dyn Fn(Shape) -> bool| styles.iter().any(|style| test(style.look()));
    let digits = styles
        .iter()
        .flat_map(|style| &style.shapes)
        .map(|shape| shape.fraction_digits)
        .max()
        .unwrap_or(0);
    let unit = TimeUnit::for_digits(digits);
    let mut ranges = styles.iter().zip(orders).flat_map(|(style, order)| {
        style.shapes.iter().filter_map(|shape| shape.orders[*order as usize].range)
    });
    let Some(first) = ranges.next() else { return unfit("no values") };
    let (low, high) = ranges.fold(first, |(low, high), (a, b)| (low.min(a), high.max(b)));
    let day = i128::from(DAY_NANOS);
    let date = |nanos: i128| format_days(nanos.div_euclid(day) as i32);
    let time = |nanos: i128| format_nanos(nanos.rem_euclid(day) as i64);
    if all(&|shape| shape.date.is_none()) {
        return Ok((Type::Time(unit), (time(low), time(high))));
    }
    if any(&|shape| shape.date.is_none()) {
        return unfit("dates and times of day are mixed");
    }
    if all(&|shape| shape.time.is_none()) {
        return Ok((Type::Date, (date(low), date(high))));
    }
    let utc = all(&|shape| shape.zone.is_some());
    if !utc && any(&|shape| shape.zone.is_some()) {
        return unfit("some of the times have an offset and some have none");
    }
    if unit == TimeUnit::Nano && (i64::try_from(low).is_err() || i64::try_from(high).is_err()) {
        return unfit("nanoseconds do not reach these years");
    }
    let zone = if utc { "Z" } else { "" };
    let text = |nanos: i128| format!("{} {}{zone}", date(nanos), time(nanos));
    Ok((Type::Timestamp { unit, utc }, (text(low), text(high))))
}

impl Shape {
    /// Whether more than one order is possible by the lengths of the fields alone.
    fn allows_many(&self) -> bool {
        Order::ALL.iter().filter(|order| self.allows(**order)).count() > 1
    }
}
