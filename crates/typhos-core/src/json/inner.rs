//! Values inside of one value: the elements of a text that is an array, and the members of one that is an object.
//!
//! Columns that nest are read by these, whatever the format of the input: a value of JSON lines and a field of
//! delimited text that holds JSON are the same text here.

use super::cursor::Cursor;
use super::unescape::unescape;
use super::walk::{Fault, Listen, Name, Span, Walk};
use crate::records::{Guess, JsonFault, PathKind, Paths};

/// A value inside of another one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Inner<'t> {
    /// What it is.
    pub kind: PathKind,
    /// Its text; that of a text as it is meant, without its quotes.
    pub value: &'t [u8],
}

impl Span {
    /// The value that stands in a span of a text.
    #[inline]
    fn inner<'a>(&self, text: &'a [u8], scratch: &'a mut Vec<u8>) -> Inner<'a> {
        let Span { kind, start, end, is_escaped } = *self;
        let (start, end) = (start as usize, end as usize);
        let value = match kind {
            PathKind::Text if is_escaped => {
                scratch.clear();
                unescape(&text[start + 1..end - 1], scratch);
                scratch
            }
            PathKind::Text => &text[start + 1..end - 1],
            _ => &text[start..end],
        };
        Inner { kind, value }
    }
}

/// Hands each element of a text that is an array to `each`, in their order.
///
/// # Errors
/// A text that is no array, and whatever `each` returns.
pub fn each_item<E: From<JsonFault>>(
    text: &[u8],
    scratch: &mut Vec<u8>,
    mut each: impl FnMut(Inner<'_>) -> Result<(), E>,
) -> Result<(), E> {
    Walk::new(text).items(|span| each(span.inner(text, scratch)))
}

/// Finds members of objects by their paths.
#[derive(Debug)]
pub struct MemberReader {
    paths: Paths,
    cursor: Cursor,
    found: Vec<Option<Span>>,
    scratch: Vec<u8>,
}

impl MemberReader {
    /// One that finds the members at these paths, none of which is inside of another or is another.
    pub fn new(paths: &[Vec<String>]) -> MemberReader {
        MemberReader {
            paths: Paths::of(paths),
            cursor: Cursor::in_values(),
            found: vec![None; paths.len()],
            scratch: Vec::new(),
        }
    }

    /// Reads a text that is an object.
    ///
    /// # Errors
    /// A text that is none.
    pub fn read(&mut self, text: &[u8]) -> Result<(), JsonFault> {
        let MemberReader { paths, cursor, found, .. } = self;
        found.fill(None);
        cursor.begin(0);
        Walk::new(text)
            .record(&mut Members { paths, cursor, found, text, column: None })
            .map_err(|fault| *fault)
    }

    /// The member at a path of the object that was read last, which stands in `text`; `None` where it has none.
    #[inline]
    pub fn member<'a>(&'a mut self, path: usize, text: &'a [u8]) -> Option<Inner<'a>> {
        Some(self.found[path]?.inner(text, &mut self.scratch))
    }
}

struct Members<'r> {
    paths: &'r Paths,
    cursor: &'r mut Cursor,
    found: &'r mut [Option<Span>],
    text: &'r [u8],
    /// The column of the member whose value comes next.
    column: Option<usize>,
}

impl Listen for Members<'_> {
    #[inline]
    fn guess(&self) -> Option<&Guess> {
        self.cursor.guess(self.paths)
    }

    #[inline]
    fn member(&mut self, name: Name, kind: PathKind) -> Result<bool, Fault> {
        self.column = None;
        let Some(id) = self.cursor.find(self.paths, self.text, name)? else { return Ok(false) };
        self.cursor.see(id, name.start)?;
        self.column = self.paths.column(id);
        let goes_in = kind == PathKind::Object && self.column.is_none();
        if goes_in {
            self.cursor.enter(id);
        }
        Ok(goes_in)
    }

    #[inline]
    fn value(&mut self, value: Span) {
        if let Some(column) = self.column {
            self.found[column] = Some(value);
        }
    }

    fn leave(&mut self) {
        self.cursor.leave();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn members_and_elements_are_found_wherever_they_stand() {
        let path = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect();
        let mut reader = MemberReader::new(&[path(&["at", "lat"]), path(&["é"]), path(&["no"])]);
        let text =
            r#" {"x": [{"é": 1}], "\u00e9": "a\nb", "at": {"lon": 1, "lat": -1.50}} "#.as_bytes();
        reader.read(text).unwrap();
        let mut found = |path| reader.member(path, text).map(|m| (m.kind, m.value.to_vec()));
        assert_eq!(found(0), Some((PathKind::Number, b"-1.50".to_vec())));
        assert_eq!(found(1), Some((PathKind::Text, b"a\nb".to_vec())));
        assert_eq!(found(2), None);
        assert!(reader.read(b"{}").is_ok() && reader.member(0, b"{}").is_none());

        let items = |text: &str| {
            let mut items = Vec::new();
            let mut each = |item: Inner<'_>| {
                items.push(String::from_utf8(item.value.to_vec()).unwrap());
                Ok(())
            };
            each_item::<JsonFault>(text.as_bytes(), &mut Vec::new(), &mut each)
                .map(|()| items)
                .map_err(|fault| fault.to_string())
        };
        assert_eq!(items(" [ ] "), Ok(vec![]));
        let want = ["1e5", "a\"b", "[2, [3]]", "null"].map(str::to_owned).to_vec();
        assert_eq!(items(r#"[1e5, "a\"b", [2, [3]], null]"#), Ok(want));
        assert_eq!(items("[1] 2"), Err("has something behind its end, at byte 5".into()));
        assert_eq!(items("{\"a\": 1}"), Err("is an object, and not an array".into()));
        assert_eq!(items("[1,]"), Err("has ']' at byte 4 where a value was expected".into()));
    }
}
