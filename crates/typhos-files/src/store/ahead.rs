//! Reading an object in pieces, several of which are on their way at once.

use std::collections::VecDeque;
use std::io::{self, Read};
use std::ops::Range;
use std::sync::Arc;
use std::thread::JoinHandle;

/// Bytes of the first piece: enough to see how a file is laid out, and no more is asked for before it is read.
const FIRST_BYTES: u64 = 1 << 20;

/// Bytes of every other piece: a request costs the wait for its first byte, some tens of milliseconds.
const PIECE_BYTES: u64 = 8 << 20;

/// Pieces that are on their way at once.
const AHEAD: usize = 4;

/// Fetches the bytes of a range.
pub(super) type Fetch = dyn Fn(Range<u64>) -> io::Result<Vec<u8>> + Send + Sync;

/// Reads an object from a place to its end.
pub(super) struct Ahead {
    fetch: Arc<Fetch>,
    /// The next byte that is to be asked for, and the end.
    next: u64,
    end: u64,
    coming: VecDeque<JoinHandle<io::Result<Vec<u8>>>>,
    piece: Vec<u8>,
    at: usize,
    is_first: bool,
}

impl Ahead {
    pub fn new(fetch: Arc<Fetch>, from: u64, end: u64) -> Ahead {
        let coming = VecDeque::new();
        Ahead { fetch, next: from, end, coming, piece: Vec::new(), at: 0, is_first: true }
    }

    /// Sends for pieces until enough are on their way.
    fn send(&mut self) -> io::Result<()> {
        let (most, bytes) = if self.is_first { (1, FIRST_BYTES) } else { (AHEAD, PIECE_BYTES) };
        while self.coming.len() < most && self.next < self.end {
            let range = self.next..(self.next + bytes).min(self.end);
            self.next = range.end;
            let fetch = self.fetch.clone();
            let thread = std::thread::Builder::new().spawn(move || {
                let length = range.end - range.start;
                let bytes = fetch(range)?;
                match bytes.len() as u64 == length {
                    true => Ok(bytes),
                    false => Err(io::Error::new(
                        io::ErrorKind::UnexpectedEof,
                        format!("{} bytes came where {length} were asked for", bytes.len()),
                    )),
                }
            });
            self.coming.push_back(thread?);
        }
        self.is_first = false;
        Ok(())
    }
}

impl Read for Ahead {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.piece.len() {
            if self.coming.is_empty() {
                self.send()?;
            }
            let Some(piece) = self.coming.pop_front() else { return Ok(0) };
            let was_first = self.piece.is_empty() && self.at == 0;
            self.piece = piece.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
            self.at = 0;
            // Who has read the first piece wants the others.
            if !was_first {
                self.send()?;
            }
        }
        let rest = &self.piece[self.at..];
        let count = rest.len().min(buffer.len());
        buffer[..count].copy_from_slice(&rest[..count]);
        self.at += count;
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU64, Ordering};

    use super::*;

    #[test]
    fn pieces_come_in_order_and_no_more_than_are_read() {
        let bytes: Arc<Vec<u8>> = Arc::new((0..20_000_000_u32).map(|n| (n % 251) as u8).collect());
        let asked = Arc::new(AtomicU64::new(0));
        let (of, count) = (bytes.clone(), asked.clone());
        let fetch: Arc<Fetch> = Arc::new(move |range: Range<u64>| {
            count.fetch_add(range.end - range.start, Ordering::Relaxed);
            std::thread::sleep(std::time::Duration::from_millis(range.start % 3));
            Ok(of[range.start as usize..range.end as usize].to_vec())
        });
        let mut head = vec![0; 1 << 20];
        Ahead::new(fetch.clone(), 5, 20_000_000).read_exact(&mut head).unwrap();
        assert!(head[..] == bytes[5..5 + (1 << 20)]);
        assert_eq!(asked.load(Ordering::Relaxed), 1 << 20, "a look at the head costs the head");
        let mut all = Vec::new();
        Ahead::new(fetch, 17, 20_000_000).read_to_end(&mut all).unwrap();
        assert!(all == bytes[17..]);
    }

    #[test]
    fn a_piece_that_is_short_is_an_error() {
        let fetch: Arc<Fetch> = Arc::new(|_| Ok(vec![1, 2]));
        let error = Ahead::new(fetch, 0, 10).read_to_end(&mut Vec::new()).unwrap_err();
        assert_eq!(error.to_string(), "2 bytes came where 10 were asked for");
    }
}
