//! Dates: which patterns together read every value, and in which order of day and month.
//!
//! An order is proven by a value that rules the others out, or by another column of the same input
//! written the same way, or it is said by a person. Otherwise it is a question.

use std::collections::BTreeMap;

use super::{About, Choice, Cited, Clause, Decision, Extreme, Line, Question, Rules, number};
use crate::dates::{
    DAY_NANOS, DEFAULT_LOCALE, DateOrder, Form, Named, Separator, Shape, Wording, ZoneShape,
    civil_from_days, form_of, language_of,
};
use crate::readings::Mark;
use crate::schema::{Scalar, TimeUnit};
use crate::survey::{Class, Example, Facts, NameCounts, ShapeFacts, Tally};
use crate::text::LineRef;

/// Why a column of date shapes is not a date column.
#[derive(Debug)]
pub(super) enum NoDate {
    /// More than one order reads every value.
    Ambiguous(Question),
    /// No type holds all of them, for this reason.
    Unfit(Clause),
}

/// Shapes that differ only in how many digits a day, month or hour has: one pattern reads them all.
struct Style<'f> {
    shapes: Vec<&'f ShapeFacts>,
}

impl Style<'_> {
    fn of(facts: &Facts) -> Vec<Style<'_>> {
        let mut styles: BTreeMap<Shape, Style<'_>> = BTreeMap::new();
        for shape in facts.dates.shapes() {
            let key = shape.shape.widened();
            styles.entry(key).or_insert_with(|| Style { shapes: Vec::new() }).shapes.push(shape);
        }
        // A lone Z is read by the pattern of any other offset.
        for key in styles.keys().copied().collect::<Vec<_>>() {
            let Some(zone) = key.zone.filter(|zone| zone.letters == 0) else { continue };
            let with = |letters| Shape { zone: Some(ZoneShape { letters, ..zone }), ..key };
            let other = [3, 2, 1].into_iter().map(with).find(|other| styles.contains_key(other));
            if let Some(other) = other
                && let Some(alone) = styles.remove(&key)
            {
                styles.entry(other).and_modify(|style| style.shapes.extend(alone.shapes));
            }
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
    fn orders(&self) -> Vec<DateOrder> {
        let reads_all = |order: &DateOrder| {
            self.shapes.iter().all(|shape| {
                shape.shape.allows(*order) && shape.orders[*order as usize].valid == shape.count
            })
        };
        if self.look().date.is_none() {
            vec![DateOrder::Ymd]
        } else {
            DateOrder::ALL.into_iter().filter(reads_all).collect()
        }
    }

    /// Values that are existing days in an order, or in the one that reads them all.
    fn valid_in(&self, order: DateOrder) -> u64 {
        if self.orders().is_empty() {
            self.shapes.iter().map(|shape| shape.orders[order as usize].valid).sum()
        } else {
            self.count()
        }
    }

    /// The patterns that read its values in an order, with how many each: one, unless some names are
    /// abbreviated and others written out.
    fn patterns(&self, order: DateOrder, locale: &str) -> Vec<(String, u64)> {
        let months = Forms::of(locale, Named::Month, self.shapes.iter().map(|s| &s.months));
        let weekdays = Forms::of(locale, Named::Weekday, self.shapes.iter().map(|s| &s.weekdays));
        let wording = Wording {
            loose: self.shapes.iter().any(|shape| shape.shape.is_short()),
            fraction_digits: self.shapes.iter().map(|s| s.fraction_digits).max().unwrap_or(0),
            zone_letters: self
                .shapes
                .iter()
                .filter_map(|shape| shape.shape.zone)
                .map(|zone| zone.letters)
                .max()
                .unwrap_or(0),
            long_month: months.long > 0 && months.short == 0,
            long_weekday: weekdays.long > 0 && weekdays.short == 0,
        };
        let pattern = |wording| self.look().pattern(order, &wording);
        if months.short > 0 && months.long > 0 {
            let long = pattern(Wording { long_month: true, ..wording });
            return vec![(pattern(wording), self.count() - months.long), (long, months.long)];
        }
        vec![(pattern(wording), self.count())]
    }

    /// Whether some weekdays are abbreviated and others written out, beside months of which the same
    /// could be true: more patterns than anybody would want to read.
    fn mixes_weekdays(&self, locale: &str) -> bool {
        let forms = Forms::of(locale, Named::Weekday, self.shapes.iter().map(|s| &s.weekdays));
        forms.short > 0 && forms.long > 0
    }

    /// What tells styles apart that people would read alike: the separator and the length of the year.
    fn hand(&self) -> Option<Hand> {
        let date = self.look().date?;
        (!date.digits.contains(&0)).then(|| (date.between[0], date.digits.contains(&4)))
    }

    /// The clause that says which value proves the order.
    fn proof(&self, order: DateOrder, context: &Context) -> Option<Clause> {
        let refused = self.shapes.iter().flat_map(|shape| {
            DateOrder::ALL
                .into_iter()
                .filter(|other| *other != order)
                .filter_map(|other| shape.orders[other as usize].refused.examples.first())
        });
        let example = refused.min_by_key(|example| example.place)?;
        Some(Clause::OrderProven { order, by: context.cite(example) })
    }
}

/// Values by the form of their names: abbreviated only, written out only.
struct Forms {
    short: u64,
    long: u64,
}

impl Forms {
    fn of<'n>(locale: &str, named: Named, names: impl Iterator<Item = &'n NameCounts>) -> Forms {
        let mut forms = Forms { short: 0, long: 0 };
        for (name, count) in names.flat_map(NameCounts::iter) {
            match form_of(locale, named, name) {
                Form::Short => forms.short += count,
                Form::Long => forms.long += count,
                Form::Any => {}
            }
        }
        forms
    }
}

/// A separator, and whether years have four digits.
type Hand = (Separator, bool);

/// What the whole input has to say to a column: its files, and what other columns prove about how dates
/// are written.
#[derive(Debug)]
pub(super) struct Context {
    /// The names of the files.
    files: Vec<String>,
    by_hand: BTreeMap<Hand, Vec<(DateOrder, String)>>,
    /// Columns that only one decimal mark reads.
    by_mark: Vec<(Mark, String)>,
}

/// What the columns of an input prove about its decimal mark.
pub(super) enum Marks<'c> {
    /// Nothing.
    Unknown,
    /// All that prove one prove this; the first of them.
    Proven(Mark, &'c str),
    /// Some prove one, and some the other.
    Both,
}

impl Context {
    pub fn collect(
        files: Vec<String>,
        names: &[String],
        columns: impl IntoIterator<Item = impl std::borrow::Borrow<Facts>>,
        rules: &Rules,
    ) -> Context {
        let mut by_hand: BTreeMap<_, Vec<(DateOrder, String)>> = BTreeMap::new();
        let mut by_mark = Vec::new();
        for (name, facts) in names.iter().zip(columns) {
            let facts: &Facts = facts.borrow();
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
            } else if plain > 0
                && facts.count(Class::Decimal) > 0
                && !number::may_be_groups(facts)
                && [Class::Integer, Class::Signed, Class::Decimal, Class::Exponent]
                    .iter()
                    .map(|class| facts.count(*class))
                    .sum::<u64>()
                    == plain
            {
                by_mark.push((Mark::Point, name.clone()));
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
    pub fn mark(&self) -> Marks<'_> {
        match self.by_mark.first() {
            None => Marks::Unknown,
            Some((mark, name)) if self.by_mark.iter().all(|(other, _)| other == mark) => {
                Marks::Proven(*mark, name)
            }
            Some(_) => Marks::Both,
        }
    }

    /// The files, for clauses that name lines.
    pub fn files(&self) -> &[String] {
        &self.files
    }

    /// An example and where it stands.
    pub fn cite(&self, example: &Example) -> Cited {
        Cited::of(example, &self.files)
    }

    /// A line, and the file it is of where there are several.
    pub fn line(&self, place: LineRef) -> Line {
        Line::of(place, &self.files)
    }

    /// The order that all proofs of a hand agree on, and the first column that shows it.
    fn of(&self, hand: Option<Hand>) -> Option<(DateOrder, &str)> {
        let proofs = self.by_hand.get(&hand?)?;
        let (order, name) = proofs.first()?;
        proofs.iter().all(|(other, _)| other == order).then_some((*order, name))
    }
}

/// What the dates of one column come to, whatever else is in it.
#[derive(Debug)]
pub enum DateFindings {
    /// These patterns read all of them.
    Patterns(Box<Decision>),
    /// More than one order reads all of them.
    Asked(Question),
    /// No type holds all of them, for this reason.
    None(Clause),
}

/// The date type of a column whose values all have date shapes.
pub(super) fn decide(facts: &Facts, rules: &Rules, context: &Context) -> Result<Decision, NoDate> {
    let styles = styles_of(facts).map_err(NoDate::Unfit)?;
    let mut evidence = Vec::new();
    let mut chosen = Vec::new();
    let mut open = Vec::new();
    let locale = language(&styles).map_err(NoDate::Unfit)?;
    for style in &styles {
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
                    evidence.push(Clause::OrderSaid(order));
                    chosen.push(order);
                }
                (_, Some((order, name))) if orders.contains(&order) => {
                    evidence.push(Clause::OrderOfColumn { order, column: name.to_owned() });
                    chosen.push(order);
                }
                _ => open = orders,
            },
        }
    }
    let said = (locale != DEFAULT_LOCALE).then(|| locale.to_owned());
    if !open.is_empty() {
        let patterns = |order: DateOrder| {
            // Those that are written in one order only keep it.
            let all = styles.iter().flat_map(|style| {
                let own = style.orders();
                let order = if own.contains(&order) { order } else { own[0] };
                style.patterns(order, locale)
            });
            all.map(|(pattern, _)| pattern).collect()
        };
        let choices =
            open.into_iter().map(|order| Choice::Dates(order, patterns(order), said.clone()));
        let choices = choices.collect();
        return Err(NoDate::Ambiguous(Question { about: About::Dates, choices }));
    }
    let (ty, range, latest) = type_of(&styles, &chosen)?;
    let mut decision = Decision::new(ty);
    decision.evidence = evidence;
    decision.range = Some(range);
    decision.notes.extend(said.clone().map(Clause::Language));
    let has_short_years =
        |style: &&Style<'_>| style.look().date.is_some_and(|d| !d.digits.contains(&4));
    if styles.iter().any(|style| has_short_years(&style)) {
        decision.notes.extend(still_to_come(latest, rules));
    }
    decision.locale = said;
    for (style, order) in styles.iter().zip(&chosen) {
        decision.patterns.extend(style.patterns(*order, locale));
    }
    decision.patterns.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    Ok(decision)
}

/// Values that are days if those dates that no one order reads are read in this one; 0 where orders that
/// read all are there.
pub(super) fn read_in(facts: &Facts, order: DateOrder) -> u64 {
    let styles = Style::of(facts);
    if styles.iter().all(|style| !style.orders().is_empty()) {
        return 0;
    }
    styles.iter().map(|style| style.valid_in(order)).sum()
}

/// The first values that are no days then.
pub(super) fn refused_in(facts: &Facts, order: DateOrder) -> Tally {
    let styles = Style::of(facts);
    let open = styles.iter().filter(|style| style.orders().is_empty());
    let shapes = open.flat_map(|style| &style.shapes);
    Tally::first_of(shapes.map(|shape| &shape.orders[order as usize].refused))
}

/// The type of the values that an order reads, where it reads more than any other.
pub(super) fn decide_in(facts: &Facts, order: DateOrder) -> Result<Decision, Clause> {
    let read = read_in(facts, order);
    let others = DateOrder::ALL.into_iter().filter(|other| *other != order);
    if others.into_iter().any(|other| read_in(facts, other) >= read) {
        return Err(Clause::OtherOrder);
    }
    let styles = styles_of(facts)?;
    let own = |style: &Style<'_>| style.orders().first().copied().unwrap_or(order);
    let chosen: Vec<DateOrder> = styles.iter().map(own).collect();
    let locale = language(&styles)?;
    let (ty, range, _) = type_of(&styles, &chosen).map_err(|reason| match reason {
        NoDate::Unfit(reason) => reason,
        NoDate::Ambiguous(_) => Clause::ManyOrders,
    })?;
    let mut decision = Decision::new(ty);
    decision.range = Some(range);
    decision.locale = (locale != DEFAULT_LOCALE).then(|| locale.to_owned());
    decision.evidence.push(Clause::DateOrder(order));
    for (style, order) in styles.iter().zip(&chosen) {
        let mut patterns = style.patterns(*order, locale);
        if let Some((_, count)) = patterns.first_mut() {
            *count -= (style.count() - style.valid_in(*order)).min(*count);
        }
        decision.patterns.extend(patterns.into_iter().filter(|(_, count)| *count > 0));
    }
    decision.patterns.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    Ok(decision)
}

/// The styles of a column that can be told apart.
fn styles_of(facts: &Facts) -> Result<Vec<Style<'_>>, Clause> {
    if facts.dates.too_many {
        return Err(Clause::TooManyShapes);
    }
    Ok(Style::of(facts))
}

/// The language that has all names of a column.
fn language(styles: &[Style<'_>]) -> Result<&'static str, Clause> {
    let shapes = || styles.iter().flat_map(|style| &style.shapes);
    let months = shapes().flat_map(|shape| shape.months.iter()).map(|(name, _)| name);
    let weekdays = shapes().flat_map(|shape| shape.weekdays.iter()).map(|(name, _)| name);
    let locale = language_of(months, weekdays).ok_or(Clause::NoLanguage)?;
    if styles.iter().any(|style| style.mixes_weekdays(locale)) {
        return Err(Clause::MixedWeekdays);
    }
    Ok(locale)
}

/// What to know where years of two digits end in the future.
fn still_to_come(latest: i32, rules: &Rules) -> Option<Clause> {
    let today = rules.today.filter(|today| latest > *today)?;
    let (this_year, ..) = civil_from_days(today);
    Some(Clause::StillToCome { latest, this_year, pivot: this_year - 99 })
}

fn no_order(style: &Style<'_>, context: &Context) -> Clause {
    let mut refused: Vec<_> = style
        .shapes
        .iter()
        .flat_map(|shape| {
            DateOrder::ALL
                .into_iter()
                .filter(|o| shape.shape.allows(*o))
                .filter_map(|o| shape.orders[o as usize].refused.examples.first())
        })
        .collect();
    refused.sort_by_key(|example| example.place);
    refused.dedup_by_key(|example| example.place);
    let mut cited: Vec<_> = refused.iter().take(2).map(|example| context.cite(example)).collect();
    match cited.len() {
        1 => Clause::NoSuchDay(cited.remove(0)),
        _ => Clause::NoOrder(cited),
    }
}

/// The type that holds the values, the smallest and largest of them, and the day of the largest.
fn type_of(
    styles: &[Style<'_>],
    orders: &[DateOrder],
) -> Result<(Scalar, (Extreme, Extreme), i32), NoDate> {
    let unfit = |reason: Clause| Err(NoDate::Unfit(reason));
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
    let Some(first) = ranges.next() else { return unfit(Clause::NoDates) };
    let (low, high) = ranges.fold(first, |(low, high), (a, b)| (low.min(a), high.max(b)));
    let day = i128::from(DAY_NANOS);
    let latest = high.div_euclid(day) as i32;
    let date = |nanos: i128| Extreme::Date(nanos.div_euclid(day) as i32);
    let time = |nanos: i128| Extreme::Time(nanos.rem_euclid(day) as i64);
    if all(&|shape| shape.date.is_none()) {
        return Ok((Scalar::Time(unit), (time(low), time(high)), 0));
    }
    if any(&|shape| shape.date.is_none()) {
        return unfit(Clause::DatesAndTimes);
    }
    if all(&|shape| shape.time.is_none()) {
        return Ok((Scalar::Date, (date(low), date(high)), latest));
    }
    let utc = all(&|shape| shape.zone.is_some());
    if !utc && any(&|shape| shape.zone.is_some()) {
        return unfit(Clause::SomeOffsets);
    }
    if unit == TimeUnit::Nano && (i64::try_from(low).is_err() || i64::try_from(high).is_err()) {
        return unfit(Clause::BeyondNanoseconds);
    }
    let instant = |nanos: i128| Extreme::Instant { nanos, utc };
    Ok((Scalar::Timestamp { unit, utc }, (instant(low), instant(high)), latest))
}

impl Shape {
    /// Whether more than one order is possible by the lengths of the fields alone.
    fn allows_many(&self) -> bool {
        DateOrder::ALL.iter().filter(|order| self.allows(**order)).count() > 1
    }
}
