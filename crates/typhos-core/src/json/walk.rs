//! Walking one JSON value: every byte of it is held against RFC 8259, and whoever listens is told of its parts.
//!
//! Nothing is built and nothing is converted. A number is a span of digits, a text a span between quotes; what they
//! mean is read later, by the readings that read fields of delimited text.
//!
//! What is refused, each with the byte where it shows: text behind the value, a comma too many, a name without a
//! value, control characters in a text, escapes that do not exist, lone surrogates, words such as `NaN`, leading zeros,
//! comments, and objects or arrays within each other beyond a limit.

use crate::records::{DEFAULT_DEPTH_LIMIT, Guess, JsonFault, PathKind};

/// Objects and arrays within each other that can be read; of more a record is broken.
const MOST_DEPTH: usize = DEFAULT_DEPTH_LIMIT;

/// A value that was walked over: where it stands, and what it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    /// What it is.
    pub kind: PathKind,
    /// Where it starts; of a text, at its quote.
    pub start: usize,
    /// Where it ends; of a text, behind its quote.
    pub end: usize,
    /// Whether it is a text with an escape in it.
    pub is_escaped: bool,
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
    fn member(&mut self, name: Name, kind: PathKind) -> Result<bool, JsonFault>;

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
    fn check(&mut self) -> Result<(), JsonFault> {
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

/// Bytes that end the plain part of a text: quotes, escapes and control characters.
static ENDS_PLAIN: [bool; 256] = {
    let mut ends = [false; 256];
    let mut byte = 0;
    while byte < 0x20 {
        ends[byte] = true;
        byte += 1;
    }
    ends[b'"' as usize] = true;
    ends[b'\\' as usize] = true;
    ends
};

/// Where the plain part of a text ends that starts at a place. Eight bytes at a time.
#[inline]
fn plain_end(text: &[u8], mut at: usize) -> usize {
    const ONES: u64 = u64::MAX / 255;
    const HIGHS: u64 = ONES * 0x80;
    while let Some(bytes) = text.get(at..).and_then(<[u8]>::first_chunk::<8>) {
        let word = u64::from_le_bytes(*bytes);
        // In each term the lowest byte that is marked is what it says.
        let is = |byte: u8| {
            let other = word ^ (ONES * u64::from(byte));
            other.wrapping_sub(ONES) & !other
        };
        let is_control = word.wrapping_sub(ONES * 0x20) & !word;
        let found = (is(b'"') | is(b'\\') | is_control) & HIGHS;
        if found != 0 {
            return at + found.trailing_zeros() as usize / 8;
        }
        at += 8;
    }
    while text.get(at).is_some_and(|byte| !ENDS_PLAIN[usize::from(*byte)]) {
        at += 1;
    }
    at
}

impl<'t> Walk<'t> {
    pub fn new(text: &'t [u8]) -> Walk<'t> {
        Walk { text, at: 0, depth: MOST_DEPTH }
    }

    /// The same, and reads so many objects and arrays within each other.
    pub fn within(self, depth: usize) -> Walk<'t> {
        Walk { depth: depth.min(MOST_DEPTH), ..self }
    }

    /// Walks over a text that is an object and nothing else but white space.
    pub fn record(&mut self, listen: &mut impl Listen) -> Result<(), JsonFault> {
        self.space();
        if self.peek() != Some(b'{') {
            return Err(self.other("an object"));
        }
        self.object(listen, self.depth)?;
        self.end()
    }

    /// Walks over a value, with nothing around it; the listener is told of all that is in it.
    pub fn any(&mut self, listen: &mut impl Listen) -> Result<(), JsonFault> {
        let kind = self.kind()?;
        self.told(listen, Some(kind), MOST_DEPTH)
    }

    /// Walks over a text that is an array and nothing else but white space; `each` is told of its elements.
    pub fn items<E: From<JsonFault>>(
        &mut self,
        mut each: impl FnMut(Span) -> Result<(), E>,
    ) -> Result<(), E> {
        self.space();
        if self.peek() != Some(b'[') {
            return Err(self.other("an array").into());
        }
        self.at += 1;
        self.space();
        if self.peek() == Some(b']') {
            self.at += 1;
            return Ok(self.end()?);
        }
        loop {
            each(self.value(MOST_DEPTH - 1)?)?;
            if !self.goes_on(b']')? {
                return Ok(self.end()?);
            }
        }
    }

    /// What is wrong with a text that is another value than was wanted, or none.
    #[cold]
    fn other(&mut self, wanted: &'static str) -> JsonFault {
        let value = self.value(MOST_DEPTH);
        match value.and_then(|span| self.end().map(|()| span)) {
            Ok(span) => JsonFault::Other { byte: span.start, kind: span.kind.name(), wanted },
            Err(fault) => fault,
        }
    }

    fn end(&mut self) -> Result<(), JsonFault> {
        self.space();
        if self.at < self.text.len() { Err(JsonFault::Behind { byte: self.at }) } else { Ok(()) }
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
    fn object(&mut self, listen: &mut impl Listen, depth: usize) -> Result<(), JsonFault> {
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
            self.told(listen, is_told.then_some(kind), depth)?;
            if !self.goes_on(b'}')? {
                return Ok(());
            }
        }
    }

    /// A value; where a kind is given, and it is that of an object or array, the listener is told of what is in it.
    #[inline]
    fn told(
        &mut self,
        listen: &mut impl Listen,
        kind: Option<PathKind>,
        depth: usize,
    ) -> Result<(), JsonFault> {
        match kind {
            Some(PathKind::Object) => {
                self.object(listen, depth)?;
                listen.leave();
            }
            Some(PathKind::Array) => {
                self.array(listen, depth)?;
                listen.leave();
            }
            _ => {
                let value = self.value(depth)?;
                listen.value(value);
                if matches!(value.kind, PathKind::Object | PathKind::Array) {
                    listen.check()?;
                }
            }
        }
        Ok(())
    }

    /// The elements of an array, of which the listener is told.
    fn array(&mut self, listen: &mut impl Listen, depth: usize) -> Result<(), JsonFault> {
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
            self.told(listen, is_told.then_some(kind), depth)?;
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
    fn name(&mut self) -> Result<Name, JsonFault> {
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
        Ok(Name { start: start + 1, end: end - 1, is_escaped, is_guessed: false })
    }

    /// What stands behind a value within an object or array: whether another one comes.
    #[inline]
    fn goes_on(&mut self, end: u8) -> Result<bool, JsonFault> {
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
    fn unexpected(&self, wanted: &'static str) -> JsonFault {
        match self.peek() {
            Some(found) => JsonFault::Unexpected { byte: self.at, wanted, found },
            None => JsonFault::Cut { byte: self.at, wanted },
        }
    }

    /// What the value is that starts here, by its first byte.
    #[inline]
    fn kind(&self) -> Result<PathKind, JsonFault> {
        match self.peek() {
            Some(b'"') => Ok(PathKind::Text),
            Some(b'{') => Ok(PathKind::Object),
            Some(b'[') => Ok(PathKind::Array),
            Some(b'-' | b'0'..=b'9') => Ok(PathKind::Number),
            Some(b't' | b'f') => Ok(PathKind::Bool),
            Some(b'n') => Ok(PathKind::Null),
            _ => Err(self.unexpected("a value")),
        }
    }

    /// A value of which nobody is told more.
    fn value(&mut self, depth: usize) -> Result<Span, JsonFault> {
        let (kind, start) = (self.kind()?, self.at);
        match kind {
            PathKind::Text => return self.text_value(),
            PathKind::Number => self.number()?,
            PathKind::Bool if self.peek() == Some(b't') => self.word(b"true")?,
            PathKind::Bool => self.word(b"false")?,
            PathKind::Null => self.word(b"null")?,
            PathKind::Object | PathKind::Array => self.nested(depth)?,
        }
        Ok(Span { kind, start, end: self.at, is_escaped: false })
    }

    fn word(&mut self, word: &'static [u8]) -> Result<(), JsonFault> {
        for byte in word {
            if self.peek() != Some(*byte) {
                return Err(self.unexpected("true, false or null"));
            }
            self.at += 1;
        }
        Ok(())
    }

    #[inline]
    fn digits(&mut self) -> Result<(), JsonFault> {
        let start = self.at;
        while matches!(self.peek(), Some(b'0'..=b'9')) {
            self.at += 1;
        }
        if self.at == start { Err(self.unexpected("a digit")) } else { Ok(()) }
    }

    #[inline]
    fn number(&mut self) -> Result<(), JsonFault> {
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
    fn text_value(&mut self) -> Result<Span, JsonFault> {
        let start = self.at;
        self.at += 1;
        let mut is_escaped = false;
        loop {
            self.at = plain_end(self.text, self.at);
            match self.peek() {
                Some(b'"') => {
                    self.at += 1;
                    return Ok(Span { kind: PathKind::Text, start, end: self.at, is_escaped });
                }
                Some(b'\\') => {
                    is_escaped = true;
                    self.escape()?;
                }
                Some(_) => return Err(JsonFault::Control { byte: self.at }),
                None => return Err(JsonFault::Cut { byte: self.at, wanted: "a closing quote" }),
            }
        }
    }

    fn escape(&mut self) -> Result<(), JsonFault> {
        let byte = self.at;
        self.at += 1;
        match self.peek() {
            Some(b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't') => self.at += 1,
            Some(b'u') => {
                let unit = self.unit().ok_or(JsonFault::Escape { byte })?;
                let is_low = |unit: u32| (0xdc00..0xe000).contains(&unit);
                if is_low(unit) {
                    return Err(JsonFault::Surrogate { byte });
                }
                if (0xd800..0xdc00).contains(&unit) {
                    let is_pair = self.text[self.at..].starts_with(b"\\u");
                    self.at += usize::from(is_pair);
                    if !is_pair || !self.unit().is_some_and(is_low) {
                        return Err(JsonFault::Surrogate { byte });
                    }
                }
            }
            _ => return Err(JsonFault::Escape { byte }),
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
    fn nested(&mut self, depth: usize) -> Result<(), JsonFault> {
        let mut open = 0u128;
        let mut level = 0;
        loop {
            // Opening: an object or array starts here.
            let is_object = self.peek() == Some(b'{');
            if level >= depth.min(MOST_DEPTH) {
                return Err(JsonFault::TooDeep { byte: self.at });
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
            let end = text[at..].iter().position(|byte| ENDS_PLAIN[usize::from(*byte)]);
            prop_assert_eq!(plain_end(&text, at), end.map_or(text.len(), |end| at + end));
        }
    }
}
