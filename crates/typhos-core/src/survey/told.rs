//! Values that are told to be of a class by a look at them alone, in columns that have shown to be of it.
//!
//! The law of all of these: what is added here has nothing to be noted but what is noted here, and
//! [`add_trimmed`](Facts::add_trimmed) would have noted the same. Whatever else a value is, it is not added.

use super::sure_text::chars_of_sure_text;
use super::{Class, Facts};
use crate::readings::{self, Length};
use crate::text::LineRef;

impl Facts {
    /// Adds the value `text[start..end]`, seen `count` times, if it is a date cut as others before it, and nothing is to be noted of it but
    /// what all of them have; says whether that is so.
    #[inline]
    pub(super) fn add_cast(
        &mut self,
        text: &[u8],
        start: usize,
        end: usize,
        count: u64,
        place: LineRef,
    ) -> bool {
        let tally = Class::Date as usize;
        if !self.said.is_empty() || !self.tallies[tally].is_settled(place) {
            return false;
        }
        let Some(bytes) = text.get(start..).and_then(<[u8]>::first_chunk) else { return false };
        let value = &text[start..end];
        if !self.dates.add_cast(value, bytes, count, place) {
            return false;
        }
        self.text.add(value, count);
        self.tallies[tally].count += count;
        true
    }

    /// Adds a value, seen `count` times, if it is an address of which nothing is to be noted but what others before it have;
    /// says whether that is so.
    #[inline]
    pub(super) fn add_address(&mut self, value: &[u8], count: u64, place: LineRef) -> bool {
        self.add_one_of(Class::Ip, readings::is_only_ip, (value, count, place))
    }

    /// The same of a point.
    #[inline]
    pub(super) fn add_point(&mut self, value: &[u8], count: u64, place: LineRef) -> bool {
        self.add_one_of(Class::Geopoint, readings::is_only_point, (value, count, place))
    }

    /// The same of a length of time.
    #[inline]
    pub(super) fn add_length(&mut self, value: &[u8], count: u64, place: LineRef) -> bool {
        let is_added =
            self.add_one_of(Class::Length, readings::is_only_length, (value, count, place));
        if is_added {
            self.lengths.add(Length::Clock, value, count);
        }
        is_added
    }

    /// The same of a UUID with hyphens.
    #[inline]
    pub(super) fn add_uuid(&mut self, value: &[u8], count: u64, place: LineRef) -> bool {
        self.add_one_of(Class::Uuid, readings::is_plain_uuid, (value, count, place))
    }

    /// Adds a well-known token, seen `count` times, if it is one of which nothing is to be noted but what is known of it; says
    /// whether that is so.
    #[inline]
    pub(super) fn add_token(&mut self, value: &[u8], count: u64, place: LineRef) -> bool {
        if self.said_all || !self.said.is_empty() {
            return false;
        }
        let Some(token) = readings::token(value) else { return false };
        let tally = &mut self.tallies[Class::Token as usize];
        let is_added = tally.is_settled(place) || tally.is_known(value, place);
        if is_added {
            tally.count += count;
            self.tokens[token] += count;
            self.text.add(value, count);
        }
        is_added
    }

    /// The same of what is of a class by a look at it alone.
    #[inline(always)]
    fn add_one_of(
        &mut self,
        class: Class,
        is_one: impl Fn(&[u8]) -> bool,
        (value, count, place): (&[u8], u64, LineRef),
    ) -> bool {
        let tally = &mut self.tallies[class as usize];
        let is_added = self.said.is_empty() && tally.is_settled(place) && is_one(value);
        if is_added {
            tally.count += count;
            self.text.add(value, count);
        }
        is_added
    }

    /// Adds a value, seen `count` times, if it is [surely a text](chars_of_sure_text) and nothing is to be noted of it but what others
    /// before it have; says whether that is so.
    #[inline]
    pub(super) fn add_text(&mut self, value: &[u8], count: u64, place: LineRef) -> bool {
        let tally = Class::Text as usize;
        if !self.said.is_empty() || !self.tallies[tally].is_settled(place) {
            return false;
        }
        let Some(chars) = chars_of_sure_text(value) else { return false };
        self.text.add_counted(value, chars, count);
        self.tallies[tally].count += count;
        true
    }
}
