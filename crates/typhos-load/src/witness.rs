//! An encoder that keeps facts about what it encodes, for the proof of files.

use arrow_array::RecordBatch;

use crate::contract::{EncodeUnit, Encoder};
use crate::error::TargetError;
use crate::proof::{Proof, SentFacts};
use typhos_core::columns::flat_batch;
use typhos_core::schema::Schema;
use typhos_core::sorting::Grouping;

/// Another encoder, and facts about what it is given.
pub struct Witness<E> {
    /// The other encoder.
    pub encoder: E,
    /// Columns of what it is given.
    pub columns: usize,
    /// Whether more than the rows are counted.
    pub keeps_facts: bool,
    /// Which columns become JSON text before anybody sees them; none where it is empty.
    pub flat: Vec<bool>,
}

/// A block of another encoder.
pub struct WitnessUnit<'e, U> {
    unit: U,
    facts: SentFacts,
    keeps_facts: bool,
    flat: &'e [bool],
}

impl<E: Encoder> Encoder for Witness<E> {
    type Encoded = (E::Encoded, SentFacts);
    type Unit<'e>
        = WitnessUnit<'e, E::Unit<'e>>
    where
        E: 'e;

    fn begin(&self, share: f64) -> Result<Self::Unit<'_>, TargetError> {
        Ok(WitnessUnit {
            unit: self.encoder.begin(share)?,
            facts: SentFacts::new(self.columns),
            keeps_facts: self.keeps_facts,
            flat: &self.flat,
        })
    }

    fn parts(&self) -> usize {
        self.encoder.parts()
    }

    fn grouping(&self) -> Option<Grouping> {
        self.encoder.grouping()
    }
}

impl<U: EncodeUnit> EncodeUnit for WitnessUnit<'_, U> {
    type Encoded = (U::Encoded, SentFacts);

    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError> {
        let batch = if self.flat.contains(&true) { flat_batch(&batch, self.flat) } else { batch };
        if self.keeps_facts {
            self.facts.add(&batch);
        } else {
            self.facts.rows += batch.num_rows() as u64;
        }
        self.unit.push(batch)
    }

    fn finish(self) -> Result<Self::Encoded, TargetError> {
        Ok((self.unit.finish()?, self.facts))
    }
}

/// Holds what was sent against what was read back.
///
/// # Errors
/// What differs.
pub fn prove_file(
    target: String,
    schema: &Schema,
    sent: &SentFacts,
    found: &SentFacts,
) -> Result<Proof, TargetError> {
    let mut facts = 1;
    let mut wrong = Vec::new();
    if sent.rows != found.rows {
        wrong.push(format!("{} rows were sent, {} are there", sent.rows, found.rows));
    }
    for ((column, sent), found) in schema.columns.iter().zip(&sent.columns).zip(&found.columns) {
        sent.differences(found, &column.name, &mut facts, &mut wrong);
    }
    if wrong.is_empty() {
        Ok(Proof::Proven { facts, rows: sent.rows, is_before_move: false })
    } else {
        Err(TargetError::Unproven { target, differences: wrong })
    }
}
