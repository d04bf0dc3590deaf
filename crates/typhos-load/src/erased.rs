//! Encoders and sinks behind pointers, so that the steps of a load are compiled once and not once more for every target. What that
//! costs is one call a batch and one a block.

use std::any::Any;

use arrow_array::RecordBatch;
use typhos_core::columns::{Places, SetAside};
use typhos_core::run::Monitor;
use typhos_core::sorting::Grouping;

use crate::contract::{Done, EncodeUnit, Encoder, Sink};
use crate::error::TargetError;
use crate::proof::Proof;

/// What one block became, whatever that is.
pub(crate) type Encoded = Box<dyn Any + Send>;

/// An encoder.
pub(crate) struct ErasedEncoder<'e>(Box<dyn AnyEncoder + 'e>);

/// A block being encoded.
pub(crate) struct ErasedUnit<'u>(Box<dyn AnyUnit + 'u>);

/// A sink.
pub(crate) struct ErasedSink<'s>(Box<dyn AnySink + 's>);

impl<'e> ErasedEncoder<'e> {
    pub(crate) fn new(encoder: impl Encoder + 'e) -> ErasedEncoder<'e> {
        ErasedEncoder(Box::new(encoder))
    }
}

impl<'s> ErasedSink<'s> {
    pub(crate) fn new(sink: impl Sink<Encoded: 'static> + 's) -> ErasedSink<'s> {
        ErasedSink(Box::new(sink))
    }

    pub(crate) fn publish(self, proof: Proof, monitor: &dyn Monitor) -> Result<Done, TargetError> {
        self.0.publish(proof, monitor)
    }
}

impl<'s> std::ops::Deref for ErasedSink<'s> {
    type Target = dyn AnySink + 's;

    fn deref(&self) -> &Self::Target {
        &*self.0
    }
}

impl std::ops::DerefMut for ErasedSink<'_> {
    fn deref_mut(&mut self) -> &mut Self::Target {
        &mut *self.0
    }
}

trait AnyEncoder: Sync {
    fn begin(&self, share: f64) -> Result<Box<dyn AnyUnit + '_>, TargetError>;
    fn parts(&self) -> usize;
    fn grouping(&self) -> Option<Grouping>;
    fn wants_places(&self) -> bool;
}

trait AnyUnit {
    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError>;
    fn push_placed(&mut self, batch: RecordBatch, places: &Places<'_>) -> Result<(), TargetError>;
    fn finish(self: Box<Self>) -> Result<Encoded, TargetError>;
}

/// See [`Sink`].
pub(crate) trait AnySink: Send {
    fn append(&mut self, encoded: Encoded, monitor: &dyn Monitor) -> Result<(), TargetError>;
    fn settle(&mut self, monitor: &dyn Monitor) -> Result<(), TargetError>;
    fn refused(&mut self) -> Vec<SetAside>;
    fn prove(&mut self, monitor: &dyn Monitor) -> Result<Proof, TargetError>;
    fn publish(self: Box<Self>, proof: Proof, monitor: &dyn Monitor) -> Result<Done, TargetError>;
}

impl<E: Encoder> AnyEncoder for E {
    fn begin(&self, share: f64) -> Result<Box<dyn AnyUnit + '_>, TargetError> {
        Ok(Box::new(Encoder::begin(self, share)?))
    }

    fn parts(&self) -> usize {
        Encoder::parts(self)
    }

    fn grouping(&self) -> Option<Grouping> {
        Encoder::grouping(self)
    }

    fn wants_places(&self) -> bool {
        Encoder::wants_places(self)
    }
}

impl<U: EncodeUnit<Encoded: Send + 'static>> AnyUnit for U {
    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError> {
        EncodeUnit::push(self, batch)
    }

    fn push_placed(&mut self, batch: RecordBatch, places: &Places<'_>) -> Result<(), TargetError> {
        EncodeUnit::push_placed(self, batch, places)
    }

    fn finish(self: Box<Self>) -> Result<Encoded, TargetError> {
        Ok(Box::new(EncodeUnit::finish(*self)?))
    }
}

impl<S: Sink<Encoded: 'static>> AnySink for S {
    fn append(&mut self, encoded: Encoded, monitor: &dyn Monitor) -> Result<(), TargetError> {
        let encoded = encoded.downcast().expect("of the encoder that came with this sink");
        Sink::append(self, *encoded, monitor)
    }

    fn settle(&mut self, monitor: &dyn Monitor) -> Result<(), TargetError> {
        Sink::settle(self, monitor)
    }

    fn refused(&mut self) -> Vec<SetAside> {
        Sink::refused(self)
    }

    fn prove(&mut self, monitor: &dyn Monitor) -> Result<Proof, TargetError> {
        Sink::prove(self, monitor)
    }

    fn publish(self: Box<Self>, proof: Proof, monitor: &dyn Monitor) -> Result<Done, TargetError> {
        Sink::publish(*self, proof, monitor)
    }
}

impl Encoder for ErasedEncoder<'_> {
    type Encoded = Encoded;
    type Unit<'u>
        = ErasedUnit<'u>
    where
        Self: 'u;

    fn begin(&self, share: f64) -> Result<ErasedUnit<'_>, TargetError> {
        Ok(ErasedUnit(self.0.begin(share)?))
    }

    fn parts(&self) -> usize {
        self.0.parts()
    }

    fn grouping(&self) -> Option<Grouping> {
        self.0.grouping()
    }

    fn wants_places(&self) -> bool {
        self.0.wants_places()
    }
}

impl EncodeUnit for ErasedUnit<'_> {
    type Encoded = Encoded;

    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError> {
        self.0.push(batch)
    }

    fn push_placed(&mut self, batch: RecordBatch, places: &Places<'_>) -> Result<(), TargetError> {
        self.0.push_placed(batch, places)
    }

    fn finish(self) -> Result<Encoded, TargetError> {
        self.0.finish()
    }
}
