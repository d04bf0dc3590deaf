//! A scratch in memory, for tests of what is put aside.

use std::io::{self, Cursor, Read, Write};
use std::sync::Arc;

use super::{Scratch, Spilled};

/// Puts everything into memory, and knows how much of it is still wanted.
#[derive(Debug, Default, Clone)]
pub(crate) struct Memory(Arc<()>);

impl Memory {
    /// Things that were put aside and are not dropped yet.
    pub fn held(&self) -> usize {
        Arc::strong_count(&self.0) - 1
    }
}

#[derive(Debug)]
struct Held(Vec<u8>, #[expect(dead_code, reason = "counted")] Arc<()>);

impl Scratch for Memory {
    fn write(
        &self,
        fill: &mut dyn FnMut(&mut dyn Write) -> io::Result<()>,
    ) -> io::Result<Box<dyn Spilled>> {
        let mut bytes = Vec::new();
        fill(&mut bytes)?;
        Ok(Box::new(Held(bytes, self.0.clone())))
    }

    fn place(&self) -> String {
        "memory".into()
    }
}

impl Spilled for Held {
    fn open(&self) -> io::Result<Box<dyn Read + Send>> {
        Ok(Box::new(Cursor::new(self.0.clone())))
    }
}
