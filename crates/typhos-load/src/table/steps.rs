//! What a load into a table carries from one of its steps to the next.

use std::sync::Arc;

use typhos_core::schema::{Layout, Scalar, Schema};
use typhos_sql::Language;
use typhos_sql::held::Existing;

use super::history::FileMark;
use super::session::Adding;
use crate::contract::{Seen, Statements};
use crate::gate::Gate;
use crate::load_plan::Action;

/// Everything that a load into a table needs, and that outlives the caller's borrows.
pub(super) struct Steps {
    pub action: Action,
    pub schema: Schema,
    pub table: String,
    pub seen: Seen,
    pub is_proven: bool,
    pub existing: Option<Existing>,
    pub adding: Adding,
    pub statements: Statements,
    /// The files that are written down.
    pub history: Vec<FileMark>,
    /// Whether rows that the table refuses are set aside: all of them are looked for then.
    pub sets_refused_aside: bool,
    /// Whether rows are handed out by the table beside as they are sent, whatever that costs.
    pub in_order: bool,
    /// Whether rows are only counted, and go nowhere.
    pub is_counted: bool,
    pub gate: Arc<Gate>,
}

impl Steps {
    /// The engine of a table that is given the rows of the table beside as they are.
    pub fn given_parts(&self) -> Option<&str> {
        match &self.adding {
            Adding::ByParts { engine, as_sent: true } => Some(engine),
            _ => None,
        }
    }

    /// What the table is made of that rows are sent to.
    pub fn sent_schema(&self, language: &dyn Language) -> Schema {
        let mut schema = self.schema.clone();
        let is_straight = matches!(self.adding, Adding::Directly | Adding::Straight { .. });
        if !self.action.keeps_table() || is_straight || self.given_parts().is_some() {
            return schema;
        }
        schema.layout = Layout::default();
        for column in &mut schema.columns {
            column.default = None;
            column.comment = None;
            // No type and no dictionary is made for a table that goes away.
            let has_type = language.stored(&self.table, column).named_type.is_some();
            if has_type || column.scalar() == Scalar::Lowcard {
                column.ty = Scalar::Text { most: None }.into();
            }
        }
        schema
    }
}
