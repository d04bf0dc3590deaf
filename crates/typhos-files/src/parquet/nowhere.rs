//! A file that keeps nothing of what is written to it but how much that was.

use std::io::{self, Write};

/// Takes bytes, and keeps only how many they were.
#[derive(Debug, Default)]
pub struct Nowhere(pub u64);

impl Write for Nowhere {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0 += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
