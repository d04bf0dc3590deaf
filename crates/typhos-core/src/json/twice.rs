//! Names that are none or come twice in an object, inside of values that are taken as they are.

use std::borrow::Cow;
use std::collections::HashSet;

use super::unescape::unescape;
use super::walk::{Fault, Listen, Name, Span, Walk};
use crate::records::{JsonFault, PathKind};

/// The names of the objects of one value.
struct Names<'t> {
    text: &'t [u8],
    /// Each name with the number of the object that it is in.
    seen: HashSet<(u32, Cow<'t, [u8]>), foldhash::fast::FixedState>,
    /// The objects and arrays that are open, by their numbers.
    open: Vec<u32>,
    objects: u32,
}

/// Looks for a name that comes twice in one object of a value, which is an object or array, and sound.
///
/// # Errors
/// The first such name.
pub(super) fn check_names(text: &[u8]) -> Result<(), Fault> {
    if memchr::memchr(b'{', text).is_none() {
        return Ok(());
    }
    let (seen, open) = (HashSet::default(), Vec::new());
    let mut names = Names { text, seen, open, objects: 0 };
    names.enter();
    Walk::new(text).any(&mut names)
}

impl Names<'_> {
    fn enter(&mut self) {
        self.objects += 1;
        self.open.push(self.objects);
    }
}

impl Listen for Names<'_> {
    fn member(&mut self, name: Name, kind: PathKind) -> Result<bool, Fault> {
        let written = &self.text[name.start..name.end];
        let meant = match name.is_escaped {
            true => {
                let mut meant = Vec::new();
                unescape(written, &mut meant);
                Cow::Owned(meant)
            }
            false => Cow::Borrowed(written),
        };
        if std::str::from_utf8(&meant).is_err() {
            return Err(JsonFault::Name { byte: name.start - 1 }.into());
        }
        let object = self.open.last().copied().unwrap_or_default();
        if !self.seen.insert((object, meant)) {
            return Err(JsonFault::Repeated { byte: name.start - 1 }.into());
        }
        Ok(self.element(kind))
    }

    fn element(&mut self, kind: PathKind) -> bool {
        let is_nested = matches!(kind, PathKind::Object | PathKind::Array);
        if is_nested {
            self.enter();
        }
        is_nested
    }

    fn value(&mut self, _: Span) {}

    fn leave(&mut self) {
        self.open.pop();
    }
}

#[cfg(test)]
mod tests {
    use super::check_names;

    #[test]
    fn names_may_come_again_in_other_objects_alone() {
        for (text, byte) in [
            (r#"{"a":{"a":1},"b":[{"a":1},{"a":2}]}"#, None),
            (r#"[1,[2,"{"]]"#, None),
            (r#"{"a":1,"a":2}"#, Some(8)),
            (r#"[{"x":{"b":1,"c":[],"\u0062":2}}]"#, Some(21)),
        ] {
            let found = check_names(text.as_bytes()).err().map(|fault| fault.to_string());
            let want = byte.map(|byte| format!("has a name twice in one object, at byte {byte}"));
            assert_eq!(found, want, "{text}");
        }
    }
}
