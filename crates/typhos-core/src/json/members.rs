//! The members of one record that is walked over, as they come.

use super::cursor::Cursor;
use super::insides::count_insides;
use super::records::Leaves;
use super::trace::{KnowsPaths, Told};
use super::twice::check_names;
use super::walk::{Fault, Listen, Name, Span};
use crate::records::{Guess, JsonFault, NodeId, PathKind, Paths, ScopeId, Seen};

/// The members of one record as they come.
pub(super) struct Members<'r> {
    pub paths: &'r Paths,
    pub text: &'r [u8],
    pub start: u32,
    pub row: u32,
    pub columns: &'r mut [Leaves],
    pub scopes: &'r mut [Vec<u32>],
    pub cursor: &'r mut Cursor,
    /// The column of the member or element whose value comes next.
    pub column: Option<usize>,
    /// The value of a column that came last.
    pub last: Span,
    /// Whether that is an element.
    pub is_element: bool,
    /// The scope that it is an element of, if it begins one.
    pub element_of: Option<ScopeId>,
    /// What was seen of all records of the block, where that is asked for.
    pub seen: Option<&'r mut Seen>,
    /// The node of the member or element that came last; none where that is none of the paths.
    pub node: Option<NodeId>,
    /// The line of the block that the record is on.
    pub line: u32,
}

impl Listen for Members<'_> {
    #[inline]
    fn guess(&self) -> Option<&Guess> {
        self.cursor.guess(self.paths)
    }

    #[inline]
    fn member(&mut self, name: Name, kind: PathKind) -> Result<bool, Fault> {
        (self.column, self.is_element, self.element_of, self.node) = (None, false, None, None);
        // What was never learned of is no column, and nothing in it is.
        let Some(id) = self.cursor.find(self.paths, self.text, name)? else {
            self.cursor.check_name(self.text, name)?;
            self.seen.iter_mut().for_each(|seen| seen.is_odd = true);
            return Ok(false);
        };
        self.cursor.see(id, name.start)?;
        self.note(id, kind);
        self.column = self.paths.column(id);
        Ok(self.goes_in(id, kind))
    }

    #[inline]
    fn element(&mut self, kind: PathKind) -> bool {
        (self.element_of, self.node) = (None, None);
        let Some(id) = self.paths.items(self.cursor.node()) else { return false };
        self.note(id, kind);
        self.column = self.paths.column(id);
        self.is_element = self.column.is_some();
        let is_row = self.paths.is_unnested(id);
        if !self.is_element && kind != PathKind::Object && !is_row {
            // An element that is null has no members, and one that is an array has elements of its own.
            return self.goes_in(id, kind);
        }
        let is_nested = matches!(kind, PathKind::Object | PathKind::Array);
        self.element_of = self.paths.scope(id);
        let scope = match self.element_of {
            Some(scope) => {
                let elements = &mut self.scopes[scope as usize - 1];
                elements.push(self.row);
                (scope, elements.len() as u32 - 1)
            }
            // What is in it is in arrays again.
            None => self.cursor.scope(),
        };
        if self.is_element || is_nested {
            self.cursor.enter_element(id, scope);
        }
        // The value of a column is the one that comes next.
        !self.is_element && is_nested
    }

    #[inline]
    fn value(&mut self, value: Span) {
        let Some(column) = self.column else { return };
        let (_, at) = self.cursor.scope();
        self.columns[column].take(at, value, (self.text, self.start));
        self.last = value;
        if self.is_element {
            self.cursor.leave();
        }
    }

    fn check(&mut self) -> Result<(), Fault> {
        // What is not looked into is held to the same rule as what is.
        if self.column.is_none() {
            return Ok(());
        }
        let start = self.last.start as usize;
        let value = &self.text[start..self.last.end as usize];
        check_names(value).map_err(|fault| -> Fault {
            match *fault {
                JsonFault::Repeated { byte } => JsonFault::Repeated { byte: start + byte }.into(),
                JsonFault::Name { byte } => JsonFault::Name { byte: start + byte }.into(),
                other => other.into(),
            }
        })?;
        if let (Some(seen), Some(node)) = (&mut self.seen, self.node) {
            count_insides(self.paths, node, value, self.line, seen);
        }
        Ok(())
    }

    fn leave(&mut self) {
        self.cursor.leave();
    }
}

impl KnowsPaths for Members<'_> {
    fn told(&self) -> Option<Told> {
        let (node, element_of) = (self.node?, self.element_of);
        Some(Told { node, column: self.column.map(|column| column as u32), element_of })
    }
}

impl Members<'_> {
    /// Takes note of a value, where that is asked for.
    #[inline]
    fn note(&mut self, id: NodeId, kind: PathKind) {
        self.node = Some(id);
        if let Some(seen) = &mut self.seen {
            seen.note(id, kind, self.line);
            // Even an empty array shows that there is one.
            seen.is_odd |= kind == PathKind::Array && self.paths.items(id).is_none();
        }
    }

    /// Whether what is in a value is looked at; goes in there. That is so even where no column is in it: a name that
    /// comes twice breaks a record wherever it is.
    #[inline]
    fn goes_in(&mut self, id: NodeId, kind: PathKind) -> bool {
        let is_nested = matches!(kind, PathKind::Object | PathKind::Array);
        let goes_in = is_nested && self.column.is_none();
        if goes_in {
            self.cursor.enter(id);
        }
        goes_in
    }
}
