//! Blocks on their way to a thread that talks to a server.
//!
//! Clients of servers want to be given bytes from inside a call that lasts for the whole load. So a
//! session runs on a thread of its own, and takes blocks from a short queue. A queue whose sender goes
//! away without saying that it was the end is an abandoned load: the session then undoes what it did.

use std::io::Read;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;

use arrow_array::RecordBatch;

use crate::proof::Facts;
use crate::{Done, EncodeUnit, Encoder, Sink, TargetError};

/// Blocks that wait: two for each of the ends.
const WAITING: usize = 4;

enum Message<B> {
    Block(B),
    End(Box<Facts>),
}

/// The end of the queue that the session reads.
pub(crate) struct Feed<B> {
    receiver: Receiver<Message<B>>,
    sent: Option<Facts>,
}

/// The load was given up: nobody will send the rest.
#[derive(Debug)]
pub(crate) struct Abandoned;

impl<B> Feed<B> {
    /// The next block; `None` at the end.
    pub fn next(&mut self) -> Result<Option<B>, Abandoned> {
        if self.sent.is_some() {
            return Ok(None);
        }
        match self.receiver.recv() {
            Ok(Message::Block(block)) => Ok(Some(block)),
            Ok(Message::End(facts)) => {
                self.sent = Some(*facts);
                Ok(None)
            }
            Err(_) => Err(Abandoned),
        }
    }

    /// What was sent, once all of it was taken.
    ///
    /// # Errors
    /// A feed that has not come to its end.
    pub fn into_sent(self) -> Result<Facts, TargetError> {
        self.sent.ok_or(TargetError::GivenUp)
    }
}

/// A feed of bytes that several connections share: each block, which is whole rows, goes to one of them.
#[derive(Clone)]
pub(crate) struct SharedFeed(Arc<Mutex<Feed<Vec<u8>>>>);

impl SharedFeed {
    pub fn new(feed: Feed<Vec<u8>>) -> SharedFeed {
        SharedFeed(Arc::new(Mutex::new(feed)))
    }

    fn next(&self) -> Result<Option<Vec<u8>>, Abandoned> {
        self.0.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).next()
    }

    /// The share of one connection as a reader.
    pub fn reader(&self) -> FeedReader {
        FeedReader { feed: self.clone(), block: Vec::new(), at: 0 }
    }

    /// What was sent, once all of it was taken.
    ///
    /// # Errors
    /// A feed that has not come to its end.
    pub fn sent(&self) -> Result<Facts, TargetError> {
        let feed = self.0.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        feed.sent.clone().ok_or(TargetError::GivenUp)
    }
}

/// A share of a feed of bytes as a reader.
pub(crate) struct FeedReader {
    feed: SharedFeed,
    block: Vec<u8>,
    at: usize,
}

impl Read for FeedReader {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        while self.at == self.block.len() {
            match self.feed.next() {
                Ok(Some(block)) => (self.block, self.at) = (block, 0),
                Ok(None) => return Ok(0),
                Err(Abandoned) => return Err(std::io::Error::other("the load was given up")),
            }
        }
        let rest = &self.block[self.at..];
        let count = rest.len().min(buffer.len());
        buffer[..count].copy_from_slice(&rest[..count]);
        self.at += count;
        Ok(count)
    }
}

/// Turns batches into what a session sends.
pub(crate) trait RowEncoder: Send + Sync {
    /// What a block becomes.
    type Block: Send + 'static;

    /// A block without rows.
    fn start(&self) -> Self::Block;

    /// Adds the rows of a batch to a block.
    ///
    /// # Errors
    /// A value that the target cannot hold.
    fn encode(&self, batch: &RecordBatch, block: &mut Self::Block) -> Result<(), TargetError>;
}

/// An encoder for a session, which keeps facts about what it encodes.
pub(crate) struct FeedEncoder<R> {
    rows: R,
    columns: usize,
    keeps_facts: bool,
}

impl<R: RowEncoder> FeedEncoder<R> {
    pub fn new(rows: R, columns: usize, keeps_facts: bool) -> FeedEncoder<R> {
        FeedEncoder { rows, columns, keeps_facts }
    }
}

impl<R: RowEncoder> Encoder for FeedEncoder<R> {
    type Encoded = (R::Block, Facts);
    type Unit<'e>
        = FeedUnit<'e, R>
    where
        R: 'e;

    fn begin(&self, _share: f64) -> Result<FeedUnit<'_, R>, TargetError> {
        Ok(FeedUnit { encoder: self, block: self.rows.start(), facts: Facts::new(self.columns) })
    }
}

/// One block being encoded.
pub(crate) struct FeedUnit<'e, R: RowEncoder> {
    encoder: &'e FeedEncoder<R>,
    block: R::Block,
    facts: Facts,
}

impl<R: RowEncoder> EncodeUnit for FeedUnit<'_, R> {
    type Encoded = (R::Block, Facts);

    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError> {
        if self.encoder.keeps_facts {
            self.facts.add(&batch);
        } else {
            self.facts.rows += batch.num_rows() as u64;
        }
        self.encoder.rows.encode(&batch, &mut self.block)
    }

    fn finish(self) -> Result<Self::Encoded, TargetError> {
        Ok((self.block, self.facts))
    }
}

/// Hands blocks to a session.
pub(crate) struct FeedSink<B> {
    sender: Option<SyncSender<Message<B>>>,
    session: Option<JoinHandle<Result<Done, TargetError>>>,
    sent: Facts,
}

impl<B: Send + 'static> FeedSink<B> {
    /// Runs a session on a thread of its own.
    pub fn start(
        columns: usize,
        session: impl FnOnce(Feed<B>) -> Result<Done, TargetError> + Send + 'static,
    ) -> FeedSink<B> {
        let (sender, receiver) = sync_channel(WAITING);
        let session = std::thread::spawn(move || session(Feed { receiver, sent: None }));
        FeedSink { sender: Some(sender), session: Some(session), sent: Facts::new(columns) }
    }

    /// What the session ended with.
    fn end(&mut self) -> Result<Done, TargetError> {
        self.sender = None;
        match self.session.take().expect("a session ends once").join() {
            Ok(result) => result,
            Err(panic) => std::panic::resume_unwind(panic),
        }
    }
}

impl<B: Send + 'static> Sink for FeedSink<B> {
    type Encoded = (B, Facts);

    fn append(&mut self, (block, facts): Self::Encoded) -> Result<(), TargetError> {
        self.sent.merge(facts);
        let sender = self.sender.as_ref().expect("nothing follows the end");
        if sender.send(Message::Block(block)).is_err() {
            // The session is gone before its time, and says why.
            return self.end().and(Err(TargetError::GivenUp));
        }
        Ok(())
    }

    fn finish(mut self) -> Result<Done, TargetError> {
        let facts = Box::new(std::mem::take(&mut self.sent));
        let sender = self.sender.take().expect("nothing follows the end");
        // Where the session is gone, its own words are the ones that count.
        let _ = sender.send(Message::End(facts));
        drop(sender);
        self.end()
    }
}

impl<B> Drop for FeedSink<B> {
    fn drop(&mut self) {
        self.sender = None;
        if let Some(session) = self.session.take() {
            // An abandoned session undoes its work; the error that led here is known already.
            let _ = session.join();
        }
    }
}
