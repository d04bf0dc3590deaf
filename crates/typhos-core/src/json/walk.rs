//! Walking one JSON value: every byte of it is held against RFC 8259, and whoever listens is told of its parts.
//!
//! Nothing is built and nothing is converted. A number is a span of digits, a text a span between quotes; what they
//! mean is read later, by the readings that read fields of delimited text.
//!
//! What is refused, each with the byte where it shows: text behind the value, a comma too many, a name without a
//! value, control characters in a text, escapes that do not exist, lone surrogates, words such as `NaN`, leading zeros,
//! comments, and objects or arrays within each other beyond a limit.

use crate::bytewise::{self, ZEROS};
use crate::records::{DEFAULT_DEPTH_LIMIT, Guess, JsonFault, PathKind};
use crate::text::{digits_among, ends_of_plain};

/// What is wrong, in a box: what is right is handed on for every value, and fits into registers then.
pub(super) type Fault = Box<JsonFault>;

/// Objects and arrays within each other that can be read; of more a record is broken.
const MOST_DEPTH: usize = DEFAULT_DEPTH_LIMIT;

/// A value that was walked over: where it stands, and what it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    /// What it is.
    pub kind: PathKind,
    /// Where it starts; of a text, at its quote. A line is shorter than 4 GiB, and a small span fits into registers.
    pub start: u32,
    /// Where it ends; of a text, behind its quote.
    pub end: u32,
    /// Whether it is a text with an escape in it.
    pub is_escaped: bool,
}

impl Span {
    /// That of no value.
    pub const NOTHING: Span = Span { kind: PathKind::Null, start: 0, end: 0, is_escaped: false };
}

/// The name of a member.
#[derive(Debug, Clone, Copy)]
pub struct Name {
    /// Where it starts, behind its quote.
    pub start: usize,
    /// Where it ends.
    pub end: usize,
    /// Whether something in it is escaped.
    pub is_escaped: bool,
    /// Whether it is the one that was guessed.
    pub is_guessed: bool,
}

/// Who is told of the members of an object.
pub trait Listen {
    /// The name that most likely comes next in the object at hand, as it is usually written: in quotes, with a colon.
    fn guess(&self) -> Option<&Guess> {
        None
    }

    /// A member's name. Says whether what is in its value is to be told of, if that is an object or array;
    /// [`leave`](Self::leave) comes behind it then.
    ///
    /// # Errors
    /// Whatever is wrong with the name.
    fn member(&mut self, name: Name, kind: PathKind) -> Result<bool, Fault>;

    /// An element of an array that is told of. Says the same.
    fn element(&mut self, _kind: PathKind) -> bool {
        false
    }

    /// The value of the last member or element, if what is in it was not to be told of.
    fn value(&mut self, value: Span);

    /// What is wrong with a value that the listener was told of last, beyond its form.
    ///
    /// # Errors
    /// Whatever it is.
    fn check(&mut self) -> Result<(), Fault> {
        Ok(())
    }

    /// The end of an object or array of which was told.
    fn leave(&mut self);
}

/// Walks over the object that starts at a place of a text.
pub(super) struct Walk<'t> {
    text: &'t [u8],
    at: usize,
    /// Objects and arrays within each other that are read.
    depth: usize,
}

/// Whether a byte ends the plain part of a text: quotes, escapes and control characters do.
fn ends_plain(byte: u8) -> bool {
    byte < b' ' || byte == b'"' || byte == b'\\'
}

/// Where the number ends that starts at a place, if it has no exponent; 0 where it has one, or none starts there.
#[inline(always)]
pub(super) fn plain_number_end(text: &[u8], start: usize) -> usize {
    let sixteen = text.get(start..).and_then(<[u8]>::first_chunk::<16>);
    match sixteen.and_then(number_length) {
        Some(0) => 0,
        Some(length) => start + length,
        None => long_number_end(text, start),
    }
}

/// How long the number without an exponent is that some bytes start with; 0 where it has one, or none starts there. `None` where
/// it may be longer than they are.
#[inline(always)]
fn number_length(bytes: &[u8; 16]) -> Option<usize> {
    let digits = digits_among(bytes);
    let first = usize::from(bytes[0] == b'-');
    let whole = (digits >> first).trailing_ones() as usize;
    let mut end = first + whole;
    let mut byte = *bytes.get(end)?;
    if whole == 0 || bytes[first] == b'0' && whole > 1 {
        return Some(0);
    }
    if byte == b'.' {
        let fraction = (digits >> (end + 1)).trailing_ones() as usize;
        end += 1 + fraction;
        byte = *bytes.get(end)?;
        if fraction == 0 {
            return Some(0);
        }
    }
    Some(if byte | 0x20 == b'e' { 0 } else { end })
}

/// As [`plain_number_end`], of a number of any length.
#[inline(never)]
fn long_number_end(text: &[u8], start: usize) -> usize {
    let byte = |at: usize| text.get(at).copied().unwrap_or_default();
    let first = start + usize::from(byte(start) == b'-');
    let mut end = digits_end(text, first);
    if end == first || byte(first) == b'0' && end > first + 1 {
        return 0;
    }
    if byte(end) == b'.' {
        let point = end;
        end = digits_end(text, point + 1);
        if end == point + 1 {
            return 0;
        }
    }
    if matches!(byte(end), b'e' | b'E') { 0 } else { end }
}

/// Where the plain part of a text ends that starts at a place. Sixteen bytes at a time.
#[inline(always)]
pub(super) fn plain_end(text: &[u8], mut at: usize) -> usize {
    while let Some(bytes) = text.get(at..).and_then(<[u8]>::first_chunk::<16>) {
        let ends = ends_of_plain(bytes);
        if ends != 0 {
            return at + ends.trailing_zeros() as usize;
        }
        at += 16;
    }
    while text.get(at).is_some_and(|byte| !ends_plain(*byte)) {
        at += 1;
    }
    at
}

/// Where digits end that start at a place. Eight bytes at a time.
#[inline]
fn digits_end(text: &[u8], mut at: usize) -> usize {
    while let Some(bytes) = text.get(at..).and_then(<[u8]>::first_chunk::<8>) {
        let found = bytewise::ten_or_more(u64::from_le_bytes(*bytes) ^ ZEROS);
        if found != 0 {
            return at + bytewise::first(found);
        }
        at += 8;
    }
    while text.get(at).is_some_and(u8::is_ascii_digit) {
        at += 1;
    }
    at
}

impl<'t> Walk<'t> {
    pub fn new(text: &'t [u8]) -> Walk<'t> {
        Walk { text, at: 0, depth: MOST_DEPTH }
    }

    /// From a place on.
    pub fn from(text: &'t [u8], at: usize) -> Walk<'t> {
        Walk { at, ..Walk::new(text) }
    }

    /// The same, and reads so many objects and arrays within each other.
    pub fn within(self, depth: usize) -> Walk<'t> {
        Walk { depth: depth.min(MOST_DEPTH), ..self }
    }

    /// Walks over a text that is an object and nothing else but white space.
    pub fn record(&mut self, listen: &mut impl Listen) -> Result<(), Fault> {
        self.space();
        if self.peek() != Some(b'{') {
            return Err(self.other("an object"));
        }
        self.object(listen, self.depth)?;
        self.end()
    }

    /// Walks over a value, with nothing around it; the listener is told of all that is in it.
    pub fn any(&mut self, listen: &mut impl Listen) -> Result<(), Fault> {
        let kind = self.kind()?;
        self.told(listen, kind, true, MOST_DEPTH)
    }

    /// Walks over a text that is an array and nothing else but white space; `each` is told of its elements.
    pub fn items<E: From<JsonFault>>(
        &mut self,
        mut each: impl FnMut(Span) -> Result<(), E>,
    ) -> Result<(), E> {
        self.space();
        if self.peek() != Some(b'[') {
            return Err((*self.other("an array")).into());
        }
        self.at += 1;
        self.space();
        if self.peek() == Some(b']') {
            self.at += 1;
            return self.end().map_err(|fault| (*fault).into());
        }
        loop {
            each(self.value(MOST_DEPTH - 1).map_err(|fault| *fault)?)?;
            if !self.goes_on(b']').map_err(|fault| *fault)? {
                return self.end().map_err(|fault| (*fault).into());
            }
        }
    }

    /// What is wrong with a text that is another value than was wanted, or none.
    #[cold]
    fn other(&mut self, wanted: &'static str) -> Fault {
        let value = self.value(MOST_DEPTH);
        match value.and_then(|span| self.end().map(|()| span)) {
            Ok(span) => {
                JsonFault::Other { byte: span.start as usize, kind: span.kind.name(), wanted }
                    .into()
            }
            Err(fault) => fault,
        }
    }

    fn end(&mut self) -> Result<(), Fault> {
        self.space();
        if self.at < self.text.len() {
            Err(JsonFault::Behind { byte: self.at }.into())
        } else {
            Ok(())
        }
    }

    #[inline]
    fn peek(&self) -> Option<u8> {
        self.text.get(self.at).copied()
    }

    #[inline]
    fn space(&mut self) {
        while matches!(self.peek(), Some(b' ' | b'\t' | b'\n' | b'\r')) {
            self.at += 1;
        }
    }

    /// The members of an object, of which the listener is told.
    fn object(&mut self, listen: &mut impl Listen, depth: usize) -> Result<(), Fault> {
        let depth = depth.checked_sub(1).ok_or(JsonFault::TooDeep { byte: self.at })?;
        self.at += 1;
        self.space();
        if self.peek() == Some(b'}') {
            self.at += 1;
            return Ok(());
        }
        loop {
            let name = self.guessed(listen);
            let name = name.map_or_else(|| self.name(), Ok)?;
            let kind = self.kind()?;
            let is_told = listen.member(name, kind)?;
            self.told(listen, kind, is_told, depth)?;
            if !self.goes_on(b'}')? {
                return Ok(());
            }
        }
    }

    /// A value of a kind; where it is told of, and is an object or array, the listener is told of what is in it.
    #[inline(always)]
    fn told(
        &mut self,
        listen: &mut impl Listen,
        kind: PathKind,
        is_told: bool,
        depth: usize,
    ) -> Result<(), Fault> {
        match kind {
            PathKind::Object if is_told => {
                self.object(listen, depth)?;
                listen.leave();
            }
            PathKind::Array if is_told => {
                self.array(listen, depth)?;
                listen.leave();
            }
            _ => {
                let value = self.value_of(kind, depth)?;
                listen.value(value);
                if matches!(kind, PathKind::Object | PathKind::Array) {
                    listen.check()?;
                }
            }
        }
        Ok(())
    }

    /// The elements of an array, of which the listener is told.
    fn array(&mut self, listen: &mut impl Listen, depth: usize) -> Result<(), Fault> {
        let depth = depth.checked_sub(1).ok_or(JsonFault::TooDeep { byte: self.at })?;
        self.at += 1;
        self.space();
        if self.peek() == Some(b']') {
            self.at += 1;
            return Ok(());
        }
        loop {
            let kind = self.kind()?;
            let is_told = listen.element(kind);
            self.told(listen, kind, is_told, depth)?;
            if !self.goes_on(b']')? {
                return Ok(());
            }
        }
    }

    /// The name that was guessed, if it comes next.
    #[inline]
    fn guessed(&mut self, listen: &impl Listen) -> Option<Name> {
        let guess = listen.guess()?;
        let length = guess.starts(&self.text[self.at..])?;
        let start = self.at + 1;
        self.at += length;
        self.space();
        Some(Name { start, end: start + length - 3, is_escaped: false, is_guessed: true })
    }

    /// A name and the colon behind it.
    fn name(&mut self) -> Result<Name, Fault> {
        if self.peek() != Some(b'"') {
            return Err(self.unexpected("a name in quotes"));
        }
        let name = self.text_value()?;
        self.space();
        if self.peek() != Some(b':') {
            return Err(self.unexpected("a colon"));
        }
        self.at += 1;
        self.space();
        let Span { start, end, is_escaped, .. } = name;
        let (start, end) = (start as usize + 1, end as usize - 1);
        Ok(Name { start, end, is_escaped, is_guessed: false })
    }

    /// What stands behind a value within an object or array: whether another one comes.
    #[inline]
    fn goes_on(&mut self, end: u8) -> Result<bool, Fault> {
        self.space();
        match self.peek() {
            Some(b',') => {
                self.at += 1;
                self.space();
                Ok(true)
            }
            Some(byte) if byte == end => {
                self.at += 1;
                Ok(false)
            }
            _ => Err(self.unexpected(if end == b'}' { "a comma or }" } else { "a comma or ]" })),
        }
    }

    #[cold]
    fn unexpected(&self, wanted: &'static str) -> Fault {
        match self.peek() {
            Some(found) => JsonFault::Unexpected { byte: self.at, wanted, found }.into(),
            None => JsonFault::Cut { byte: self.at, wanted }.into(),
        }
    }

    /// What the value is that starts here, by its first byte.
    #[inline]
    fn kind(&self) -> Result<PathKind, Fault> {
        let kind = self.peek().and_then(PathKind::starting_with);
        kind.ok_or_else(|| self.unexpected("a value"))
    }

    /// A value of which nobody is told more.
    fn value(&mut self, depth: usize) -> Result<Span, Fault> {
        let kind = self.kind()?;
        self.value_of(kind, depth)
    }

    /// The same, where its kind is known by its first byte. So many objects and arrays within each other may be in it.
    ///
    /// # Errors
    /// Whatever is wrong with it.
    #[inline]
    pub fn value_of(&mut self, kind: PathKind, depth: usize) -> Result<Span, Fault> {
        let start = self.at as u32;
        match kind {
            PathKind::Text => return self.text_value(),
            PathKind::Number => self.number()?,
            PathKind::Bool if self.peek() == Some(b't') => self.word(b"true")?,
            PathKind::Bool => self.word(b"false")?,
            PathKind::Null => self.word(b"null")?,
            PathKind::Object | PathKind::Array => self.nested(depth)?,
        }
        Ok(Span { kind, start, end: self.at as u32, is_escaped: false })
    }

    fn word(&mut self, word: &'static [u8]) -> Result<(), Fault> {
        for byte in word {
            if self.peek() != Some(*byte) {
                return Err(self.unexpected("true, false or null"));
            }
            self.at += 1;
        }
        Ok(())
    }

    #[inline]
    fn digits(&mut self) -> Result<(), Fault> {
        let start = self.at;
        self.at = digits_end(self.text, start);
        if self.at == start { Err(self.unexpected("a digit")) } else { Ok(()) }
    }

    #[inline]
    fn number(&mut self) -> Result<(), Fault> {
        self.at += usize::from(self.peek() == Some(b'-'));
        if self.peek() == Some(b'0') {
            self.at += 1;
        } else {
            self.digits()?;
        }
        if self.peek() == Some(b'.') {
            self.at += 1;
            self.digits()?;
        }
        if let Some(b'e' | b'E') = self.peek() {
            self.at += 1;
            self.at += usize::from(matches!(self.peek(), Some(b'+' | b'-')));
            self.digits()?;
        }
        Ok(())
    }

    /// A text, quotes included.
    #[inline]
    fn text_value(&mut self) -> Result<Span, Fault> {
        let start = self.at as u32;
        self.at += 1;
        let mut is_escaped = false;
        loop {
            self.at = plain_end(self.text, self.at);
            match self.peek() {
                Some(b'"') => {
                    self.at += 1;
                    let end = self.at as u32;
                    return Ok(Span { kind: PathKind::Text, start, end, is_escaped });
                }
                Some(b'\\') => {
                    is_escaped = true;
                    self.escape()?;
                }
                Some(_) => return Err(JsonFault::Control { byte: self.at }.into()),
                None => {
                    return Err(JsonFault::Cut { byte: self.at, wanted: "a closing quote" }.into());
                }
            }
        }
    }

    fn escape(&mut self) -> Result<(), Fault> {
        let byte = self.at;
        self.at += 1;
        match self.peek() {
            Some(b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't') => self.at += 1,
            Some(b'u') => {
                let unit = self.unit().ok_or(JsonFault::Escape { byte })?;
                let is_low = |unit: u32| (0xdc00..0xe000).contains(&unit);
                if is_low(unit) {
                    return Err(JsonFault::Surrogate { byte }.into());
                }
                if (0xd800..0xdc00).contains(&unit) {
                    let is_pair = self.text[self.at..].starts_with(b"\\u");
                    self.at += usize::from(is_pair);
                    if !is_pair || !self.unit().is_some_and(is_low) {
                        return Err(JsonFault::Surrogate { byte }.into());
                    }
                }
            }
            _ => return Err(JsonFault::Escape { byte }.into()),
        }
        Ok(())
    }

    /// The four digits behind a `u`.
    fn unit(&mut self) -> Option<u32> {
        let digits = self.text.get(self.at + 1..self.at + 5)?;
        let unit = digits
            .iter()
            .try_fold(0, |unit, digit| Some(unit << 4 | char::from(*digit).to_digit(16)?))?;
        self.at += 5;
        Some(unit)
    }

    /// An object or array of which nobody is told more; by a list of what is open, so that depth costs no stack.
    fn nested(&mut self, depth: usize) -> Result<(), Fault> {
        let mut open = 0u128;
        let mut level = 0;
        loop {
            // Opening: an object or array starts here.
            let is_object = self.peek() == Some(b'{');
            if level >= depth.min(MOST_DEPTH) {
                return Err(JsonFault::TooDeep { byte: self.at }.into());
            }
            open = open << 1 | u128::from(is_object);
            level += 1;
            self.at += 1;
            self.space();
            let end = if is_object { b'}' } else { b']' };
            let mut is_first = true;
            let mut closes = self.peek() == Some(end);
            if closes {
                self.at += 1;
            }
            // Until another one starts.
            loop {
                if closes {
                    open >>= 1;
                    level -= 1;
                    if level == 0 {
                        return Ok(());
                    }
                    is_first = false;
                }
                let is_object = open & 1 == 1;
                if !is_first && !self.goes_on(if is_object { b'}' } else { b']' })? {
                    closes = true;
                    continue;
                }
                (is_first, closes) = (false, false);
                if is_object {
                    self.name()?;
                }
                if matches!(self.peek(), Some(b'{' | b'[')) {
                    break;
                }
                self.value(0)?;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn texts_end_where_a_byte_says(text in proptest::collection::vec(prop_oneof![8 => any::<u8>(), 1 => 0x1eu8..0x24], 0..40), at in 0usize..20) {
            let at = at.min(text.len());
            let end = text[at..].iter().position(|byte| ends_plain(*byte));
            prop_assert_eq!(plain_end(&text, at), end.map_or(text.len(), |end| at + end));
        }

        #[test]
        fn digits_end_where_a_byte_says(text in proptest::collection::vec(prop_oneof![1 => any::<u8>(), 2 => 0x2eu8..0x3b, 12 => 0x30u8..0x3a], 0..40), at in 0usize..20) {
            let at = at.min(text.len());
            let end = text[at..].iter().position(|byte| !byte.is_ascii_digit());
            prop_assert_eq!(digits_end(&text, at), end.map_or(text.len(), |end| at + end));
        }

        #[test]
        fn numbers_end_where_their_digits_say(number in "-?[0-9]{0,10}\\.?[0-9]{0,8}[eE+,}x.]?[0-9 ]{0,20}") {
            let text = number.as_bytes();
            prop_assert_eq!(plain_number_end(text, 0), long_number_end(text, 0), "{}", number);
        }
    }
}
