//! Text of any encoding as UTF-8, as it is read.

use std::io::{self, Read};

use super::Charset;
use super::charset::TextDecoder;

/// Bytes that are decoded at a time.
pub(super) const CHUNK_BYTES: usize = 64 << 10;

/// Decodes to UTF-8 as it is read.
pub(super) struct Transcoder<R> {
    inner: R,
    decoder: TextDecoder,
    encoded: Vec<u8>,
    /// What of `encoded` is still to be decoded.
    from: usize,
    decoded: Vec<u8>,
    /// What of `decoded` is still to be handed out.
    at: usize,
    ended: bool,
}

impl<R: Read> Transcoder<R> {
    pub fn new(inner: R, encoding: Charset) -> Self {
        let decoder = encoding.decoder();
        Transcoder {
            inner,
            decoder,
            encoded: Vec::new(),
            from: 0,
            decoded: Vec::new(),
            at: 0,
            ended: false,
        }
    }

    /// Decodes some more; leaves `decoded` empty only at the end.
    fn fill(&mut self) -> io::Result<()> {
        self.decoded.clear();
        self.at = 0;
        while self.decoded.is_empty() && !self.ended {
            if self.from == self.encoded.len() {
                self.encoded.clear();
                self.from = 0;
                (&mut self.inner).take(CHUNK_BYTES as u64).read_to_end(&mut self.encoded)?;
            }
            let last = self.encoded.is_empty();
            let (read, ended) =
                self.decoder.decode(&self.encoded[self.from..], &mut self.decoded, last);
            self.from += read;
            self.ended = ended;
        }
        Ok(())
    }
}

impl<R: Read> Read for Transcoder<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at == self.decoded.len() {
            self.fill()?;
        }
        let ready = &self.decoded[self.at..];
        let count = ready.len().min(buffer.len());
        buffer[..count].copy_from_slice(&ready[..count]);
        self.at += count;
        Ok(count)
    }
}
