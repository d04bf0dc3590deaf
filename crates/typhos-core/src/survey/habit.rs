//! Values of the kind that their column is in the habit of, one after the other, in loops that do nothing else.
//!
//! A column without a table of its values has nothing left to learn from most values but counts, extremes, how they are
//! spread, how many are distinct and whether they are still in an order. Such values are passed over here, straight from where they
//! stand; the first one that is anything else ends the pass, and is looked at with its neighbours in
//! [`grouped`](super::grouped). The law is that of [`add_group`](Facts::add_group).

use super::clothes::DressedGroup;
use super::digits::{DigitGroup, ShortDigits};
use super::estimate::HashSink;
use super::fractions::FractionGroup;
use super::integers::IntegerGroup;
use super::order::Adding;
use super::{Class, Facts};
use crate::readings::{ShortNumber, trim};
use crate::records::Bounds;
use crate::text::LineRef;

/// What was passed over.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Passed {
    /// Fields, from the first.
    pub fields: usize,
    /// Those of them with nothing in them.
    pub empty: u64,
}

/// When to try again whether values can be passed over: after more groups each time that none could.
#[derive(Debug, Default)]
pub(super) struct Patience {
    wait: usize,
    waited: usize,
}

impl Patience {
    /// Whether it is time, of one group after the other.
    #[inline]
    pub fn is_over(&mut self) -> bool {
        let is_over = self.waited >= self.wait;
        self.waited += usize::from(!is_over);
        is_over
    }

    /// Notes whether any were.
    #[inline]
    pub fn note(&mut self, were_passed: bool) {
        (self.wait, self.waited) = (if were_passed { 0 } else { 2 * self.wait + 1 }, 0);
    }
}

/// Fields that are to be passed over.
#[derive(Debug, Clone, Copy)]
pub(super) struct Fields<'f, 't> {
    pub text: &'t [u8],
    /// Where each starts and ends.
    pub bounds: &'f [Bounds],
    /// For each byte, whether a field that starts with it may not be its value as it stands.
    pub odd: &'f [bool; 256],
}

/// No field is anything but its value.
pub(super) const NONE_ODD: [bool; 256] = [false; 256];

impl Facts {
    /// Passes over the first of some fields of a valid text: those that are what others before them were, or empty, and a few others among
    /// them. `place` says where the record of a field stands; none of them stands before the first.
    #[inline(always)]
    pub(super) fn pass_habit<'t>(
        &mut self,
        fields: Fields<'_, 't>,
        place: impl Fn(u32) -> LineRef,
        hashes: &mut HashSink<'_>,
        adding: &mut Adding<'_, 't>,
    ) -> Passed {
        let (first, text) = (place(0), fields.text);
        let mut pass = Pass { fields, place: &place, hashes, adding };
        let mut fractions = FractionGroup::of(self, first);
        if fractions.is_open() {
            let passed = pass.over(self, |facts, _, start, end| {
                let fraction = ShortNumber::read_fraction(text, start, end)?;
                let is_added = fractions.add(facts, fraction, (text, start, end), 1);
                is_added.then_some(Added::Other)
            });
            fractions.finish(self);
            if passed.fields > 0 {
                return passed;
            }
        }
        let mut integers = IntegerGroup::of(self, first);
        if integers.is_open(self) {
            let passed = pass.over(self, |facts, _, start, end| {
                integers.add(facts, text, start, end).map(Added::Digits)
            });
            integers.finish(self);
            if passed.fields > 0 {
                return passed;
            }
        }
        let mut digits = DigitGroup::of(self, first);
        if digits.is_open() {
            let passed = pass.over(self, |facts, _, start, end| {
                let short = ShortDigits::read(text, start, end)?;
                let number = short.number();
                digits.add(facts, short, 1).then_some(Added::Digits(number))
            });
            digits.finish(self);
            if passed.fields > 0 {
                return passed;
            }
        }
        // Some addresses are numbers in groups, too.
        let has_addresses = self.count(Class::Ip) > 0;
        let mut dressed = DressedGroup::of(self, first);
        if has_addresses || dressed.is_open() {
            let passed = pass.over(self, |facts, at, start, end| {
                let is_added = has_addresses && facts.add_address(&text[start..end], 1, place(at))
                    || dressed.is_open() && dressed.add(facts, (text, start, end), 1);
                is_added.then_some(Added::Other)
            });
            dressed.finish(self);
            if passed.fields > 0 {
                return passed;
            }
        }
        if self.count(Class::Uuid) > 0 {
            let passed = pass.over(self, |facts, at, start, end| {
                facts.add_uuid(&text[start..end], 1, place(at)).then_some(Added::Other)
            });
            if passed.fields > 0 {
                return passed;
            }
        }
        if self.count(Class::Geopoint) > 0 {
            let passed = pass.over(self, |facts, at, start, end| {
                facts.add_point(&text[start..end], 1, place(at)).then_some(Added::Other)
            });
            if passed.fields > 0 {
                return passed;
            }
        }
        // Lengths of time below a day are times of day as well, until all of a column are known.
        let has_lengths = self.count(Class::Length) > 0;
        if has_lengths || self.dates.has_moulds() {
            let passed = pass.over(self, |facts, at, start, end| {
                let is_added = has_lengths && facts.add_length(&text[start..end], 1, place(at))
                    || facts.add_cast(text, start, end, 1, place(at));
                is_added.then_some(Added::Other)
            });
            if passed.fields > 0 {
                return passed;
            }
        }
        if self.count(Class::Text) > 0 {
            return pass.over(self, |facts, at, start, end| {
                facts.add_text(&text[start..end], 1, place(at)).then_some(Added::Other)
            });
        }
        Passed::default()
    }
}

/// What was taken note of.
enum Added {
    /// An integer, and nothing but its digits and the sign of a negative one.
    Digits(i64),
    /// Anything else that is neither blank nor a well-known token.
    Other,
}

/// Of so many values one may be another than those that are passed over.
const OTHERS: usize = 4;

/// Passing over fields.
struct Pass<'p, 'f, 't, 'h, 'a, P> {
    fields: Fields<'f, 't>,
    place: &'p P,
    hashes: &'p mut HashSink<'h>,
    adding: &'p mut Adding<'a, 't>,
}

impl<P: Fn(u32) -> LineRef> Pass<'_, '_, '_, '_, '_, P> {
    /// Passes over fields as long as `add` takes nearly all of them.
    #[inline(always)]
    fn over(
        &mut self,
        facts: &mut Facts,
        mut add: impl FnMut(&mut Facts, u32, usize, usize) -> Option<Added>,
    ) -> Passed {
        let Pass { fields: Fields { text, bounds, odd }, place, hashes, adding } = self;
        let (mut passed, mut others) = (Passed::default(), 0);
        loop {
            let rest = Fields { text, bounds: &bounds[passed.fields..], odd };
            let more = pass(facts, (rest, passed.fields), hashes, adding, &mut add);
            passed.fields += more.fields;
            passed.empty += more.empty;
            let Some((start, end)) = bounds.get(passed.fields) else { return passed };
            let (start, end) = (*start as usize, *end as usize);
            let at = passed.fields;
            let is_odd = odd[usize::from(text[start])];
            let place = place(at as u32);
            // Tokens stand among values of any kind, and in no order with them.
            if !is_odd && facts.add_token(&text[start..end], 1, place) {
                hashes.add(text, start, end);
                passed.fields += 1;
                continue;
            }
            others += OTHERS;
            if others > at || is_odd || !add_other(facts, (text, start, end), place, adding) {
                return passed;
            }
            hashes.add(text, start, end);
            passed.fields += 1;
        }
    }
}

/// Passes over fields as long as `add` takes them; so many others stand before them.
#[inline(always)]
fn pass<'t>(
    facts: &mut Facts,
    (Fields { text, bounds, odd }, before): (Fields<'_, 't>, usize),
    hashes: &mut HashSink<'_>,
    adding: &mut Adding<'_, 't>,
    add: &mut impl FnMut(&mut Facts, u32, usize, usize) -> Option<Added>,
) -> Passed {
    let mut empty = 0;
    for (at, (start, end)) in bounds.iter().enumerate() {
        let (start, end) = (*start as usize, *end as usize);
        if start == end {
            empty += 1;
            continue;
        }
        // What has something escaped in it is not its value as it stands.
        if odd[usize::from(text[start])] {
            return Passed { fields: at, empty };
        }
        match add(facts, (before + at) as u32, start, end) {
            Some(Added::Digits(number)) => adding.push_digits(&text[start..end], number),
            Some(Added::Other) => adding.push_value(&text[start..end]),
            None => return Passed { fields: at, empty },
        }
        hashes.add(text, start, end);
    }
    Passed { fields: bounds.len(), empty }
}

/// Takes note of the value `text[start..end]`, which is not what the others are, if it is not blank; says whether that is so.
#[cold]
#[inline(never)]
fn add_other<'t>(
    facts: &mut Facts,
    (text, start, end): (&'t [u8], usize, usize),
    place: LineRef,
    adding: &mut Adding<'_, 't>,
) -> bool {
    let value = &text[start..end];
    if facts.count(Class::Ip) > 0 && facts.add_address(value, 1, place)
        || facts.count(Class::Geopoint) > 0 && facts.add_point(value, 1, place)
        || facts.count(Class::Length) > 0 && facts.add_length(value, 1, place)
        || facts.dates.has_moulds() && facts.add_cast(text, start, end, 1, place)
        || facts.count(Class::Text) > 0 && facts.add_text(value, 1, place)
    {
        adding.push_value(value);
        return true;
    }
    let trimmed = trim(value);
    if trimmed.is_empty() {
        return false;
    }
    facts.add_trimmed(value, trimmed, 1, place);
    if !adding.is_over() && !adding.push_integer(value, facts.last_integer) {
        adding.push(value);
    }
    true
}

#[cfg(test)]
mod tests {
    use super::super::ColumnFacts;
    use super::super::group::{GROUP, Group};
    use super::super::order::{Adding, BlockRun, OrderedRuns};
    use super::*;
    use proptest::prelude::*;
    use std::sync::Arc;

    /// Kinds of values, and how often each is among values of any kind.
    fn kinds_of_values() -> Vec<(u32, BoxedStrategy<String>)> {
        let fraction = (any::<i32>(), 0u32..7).prop_map(|(n, scale)| {
            let fraction = n.unsigned_abs() % 10u32.pow(scale);
            format!("{}.{fraction:0width$}", n / 1000, width = scale.max(1) as usize)
        });
        let instant = (1u32..32, 1u32..14, 0u32..26, "(\\.[0-9]{1,3})?Z?")
            .prop_map(|(d, m, h, f)| format!("2024-{m:02}-{d:02}T{h:02}:05:07{f}"));
        let half_day =
            (1u32..32, 1u32..14, 0u32..14).prop_map(|(d, m, h)| format!("{m}/{d}/24 {h}:05 PM"));
        let name = || {
            let names =
                vec!["Mar", "mar", "MAY", "mai", "August", "Mon", "dom", "jue", "März", "crate"];
            proptest::sample::select(names)
        };
        let fields = (1u32..32, 0u32..26, name(), name(), 0usize..4);
        let named_day = fields.prop_map(|(d, h, name, other, style)| match style {
            0 => format!("{d:02}/{name}/2024:{h:02}:05:07 +0000"),
            1 => format!("{other}, {d} {name} 2024"),
            2 => format!("{other} {name} {d:2} {h:02}:05:07 2024"),
            _ => format!("{name} {d}, 2024"),
        });
        let uuid = any::<u128>().prop_map(|bits| {
            let text = crate::readings::uuid_text(&bits.to_be_bytes());
            if bits % 3 == 0 { text.to_uppercase() } else { text }
        });
        vec![
            (4, fraction.boxed()),
            (4, "[0-9]{1,9}".boxed()),
            (4, "-?[1-9][0-9]{0,18}".boxed()),
            (1, any::<i64>().prop_map(|n| n.to_string()).boxed()),
            (2, (1i64 << 26..1 << 31).prop_map(|n| n.to_string()).boxed()),
            (1, (18_990_000u64..21_020_000).prop_map(|n| n.to_string()).boxed()),
            (1, (18_990_000_000_000u64..21_020_000_000_000).prop_map(|n| n.to_string()).boxed()),
            (2, "[0-9]{1,3}\\.[0-9]{1,12}".boxed()),
            (1, "-?[0-9]{1,6}\\.[0-9]{2}".boxed()),
            (3, "[$]?-?[0-9]{1,3}([.,][0-9]{3}){0,2}([.,][0-9]{1,4})?%?".boxed()),
            (4, instant.boxed()),
            (2, half_day.boxed()),
            (3, named_day.boxed()),
            (1, Just(String::new()).boxed()),
            (3, uuid.boxed()),
            (1, "[0-9a-fA-F]{8}(-[0-9a-fA-G]{4}){3}-[0-9a-f]{12}".boxed()),
            (2, any::<std::net::Ipv6Addr>().prop_map(|address| address.to_string()).boxed()),
            (3, "[0-9]{1,3}:[0-6][0-9](:[0-5][0-9]([.][0-9]{1,3})?)?".boxed()),
            (3, "-?[0-9]{1,3}[.][0-9]{2,9}, ?-?[0-9]{1,3}[.][0-9]{2,9}".boxed()),
            (1, "-?[0-9]{1,3}([.][0-9]{1,2} ?€|,[0-9]{1,2} €)|[€£][0-9]{1,3}[.][0-9]{2}".boxed()),
            (2, "(kr |EUR|NOK )?-?[0-9]{1,3}([.][0-9]{2}|,[0-9]{1,2})?( kr| zł| USD)?".boxed()),
            (1, "[0-9a-f]{2}(:[0-9a-f]{2}){5}|[0-9a-f]{40}|0x[0-9a-f]{4,8}".boxed()),
            (1, "[(]?[€$]? ?-?[0-9]{1,3}(,[0-9]{3}){0,2}([.][0-9]{2})? ?[€%]?[)]?".boxed()),
            (3, any::<std::net::Ipv4Addr>().prop_map(|address| address.to_string()).boxed()),
            (3, "[A-Za-zæ]{1,12}|[a-z0-9]{3,9}@[a-z]{3}\\.org".boxed()),
            (1, "[1-9]?[0-9]{1,2}(\\.[0-9]{3}){2,3}".boxed()),
            (1, Just("NA".to_owned()).boxed()),
            (2, "NULL|-|nan|N/A|[.]".boxed()),
        ]
    }

    /// Values of a column, distinct ones: of one kind, so that it comes to be in the habit of it, and some of any.
    fn column() -> impl Strategy<Value = Vec<String>> {
        let of_one = kinds_of_values().into_iter().map(|(_, kind)| kind).collect::<Vec<_>>();
        let of_one = proptest::sample::select(of_one)
            .prop_flat_map(|kind| proptest::collection::vec(kind, 0..16));
        let of_any = proptest::strategy::Union::new_weighted(kinds_of_values());
        (of_one, proptest::collection::vec(of_any, 1..6)).prop_map(|(one, any)| [one, any].concat())
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(1500))]

        /// Passed over or looked at in groups or one by one: the same facts.
        #[test]
        fn what_is_passed_over_gives_the_same_facts(
            kinds in column(),
            picks in proptest::collection::vec(any::<prop::sample::Index>(), 1..300), line in 0u64..24,
            ordered in 0u8..4, condensed: bool,
        ) {
            let mut values: Vec<&String> = picks.iter().map(|pick| pick.get(&kinds)).collect();
            match ordered {
                0 => values.sort(),
                1 => values.sort_by_key(|value| (value.len(), *value)),
                2 => values.sort_by_key(|value| std::cmp::Reverse(value.parse::<i64>().ok())),
                _ => {}
            }
            // What is known already may stand behind the others.
            let place = |row: u32| LineRef { part: 0, line: 2 + line * 3 + u64::from(row) };
            let none = Arc::new(ColumnFacts::none(1, &[], false));
            let observed = || {
                let mut column = ColumnFacts::new(1, none.clone());
                for (line, value) in (1..).zip(kinds.iter().filter(|value| !value.is_empty())) {
                    column.observe(value.as_bytes(), true, LineRef { part: 0, line });
                }
                column.fold();
                if condensed {
                    column.condense();
                }
                column
            };
            let (mut passing, mut singly) = (observed(), observed());
            let mut text = Vec::new();
            let fields: Vec<Bounds> = values.iter().map(|value| {
                let start = text.len() as u32;
                text.extend_from_slice(value.as_bytes());
                text.push(b'\n');
                (start, start + value.len() as u32)
            }).collect();
            text.extend([b'x'; 20]);
            let mut run = OrderedRuns::default().next();
            passing.expect(values.last().map_or(&[], |value| value.as_bytes()));
            let (mut at, mut empty) = (0, 0);
            while at < fields.len() {
                let mut adding = Adding::to(&mut run);
                let rest = &fields[at..];
                let passed =
                    passing.pass_habit(
                        Fields { text: &text, bounds: rest, odd: &NONE_ODD },
                        |row| place(at as u32 + row),
                        &mut adding,
                    );
                (at, empty) = (at + passed.fields, empty + passed.empty);
                let mut group = Group::new();
                let mut places = group.places();
                let rest = &fields[at..fields.len().min(at + GROUP / 4)];
                for (row, (start, end)) in (at as u32..).zip(rest) {
                    if start < end {
                        places.put(*start as usize, *end as usize, row);
                    } else {
                        empty += 1;
                    }
                }
                places.finish();
                at += rest.len();
                passing.observe_directly(&mut group, &text, place, &mut adding);
            }
            let mut run_of_each = OrderedRuns::default().next();
            let mut adding = Adding::to(&mut run_of_each);
            values.iter().all(|value| adding.push(value.as_bytes()));
            drop(adding);
            let sequence = |run: BlockRun| {
                let mut runs = OrderedRuns::default();
                runs.add(0, 0, run);
                runs.finish()
            };
            prop_assert_eq!(sequence(run), sequence(run_of_each));
            passing.observe_empty(empty);
            for (row, value) in (0..).zip(&values) {
                singly.observe(value.as_bytes(), true, place(row));
            }
            prop_assert_eq!(passing.facts_with_spread(), singly.facts_with_spread());
            prop_assert_eq!(passing.distinct(), singly.distinct());
        }
    }
}
