//! Blocks on their way to a thread that talks to a server.
//!
//! Clients of servers want to be given bytes from inside a call that lasts for the whole load. So a
//! session runs on a thread of its own, and takes blocks from a short queue. A queue whose sender goes
//! away without saying that it was the end is an abandoned load: the session then undoes what it did.

use std::io::Read;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{
    Receiver, RecvTimeoutError, Sender, SyncSender, TrySendError, channel, sync_channel,
};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use crate::unfinished::Undoing;
use arrow_array::RecordBatch;
use typhos_core::run::Monitor;

use crate::contract::{Done, EncodeUnit, Encoder, Sink};
use crate::error::TargetError;
use crate::gate::Gate;
use crate::onlooker::Watch;
use crate::proof::{Proof, SentFacts};

/// Blocks that wait: two for each of the ends.
const WAITING: usize = 4;

enum Message<B> {
    Block(B),
    End(Box<SentFacts>),
}

/// The end of the queue that the session reads.
pub struct Feed<B> {
    receiver: Receiver<Message<B>>,
    sent: Option<SentFacts>,
}

/// The load was given up: nobody will send the rest.
#[derive(Debug)]
pub struct Abandoned;

impl<B> Feed<B> {
    /// The next block; `None` at the end.
    ///
    /// # Errors
    /// A load that was given up.
    pub fn take(&mut self) -> Result<Option<B>, Abandoned> {
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
    pub fn into_sent(self) -> Result<SentFacts, TargetError> {
        self.sent.ok_or(TargetError::GivenUp)
    }
}

/// A feed of bytes that several connections share: each block, which is whole rows, goes to one of them.
#[derive(Clone)]
pub struct SharedFeed(Arc<Mutex<Feed<Vec<u8>>>>);

impl SharedFeed {
    /// Shares a feed.
    pub fn new(feed: Feed<Vec<u8>>) -> SharedFeed {
        SharedFeed(Arc::new(Mutex::new(feed)))
    }

    fn next(&self) -> Result<Option<Vec<u8>>, Abandoned> {
        self.0.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).take()
    }

    /// The share of one connection as a reader.
    pub fn reader(&self) -> FeedReader {
        FeedReader { feed: self.clone(), block: Vec::new(), at: 0 }
    }

    /// What was sent, once all of it was taken.
    ///
    /// # Errors
    /// A feed that has not come to its end.
    pub fn sent(&self) -> Result<SentFacts, TargetError> {
        let feed = self.0.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        feed.sent.clone().ok_or(TargetError::GivenUp)
    }
}

/// A share of a feed of bytes as a reader.
pub struct FeedReader {
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

/// What a session waits for between its proof and the step that makes rows visible.
pub struct Release {
    proven: Sender<Proof>,
    go: Receiver<()>,
}

impl Release {
    /// Says that all that was sent is there, and waits until it is to be published.
    ///
    /// # Errors
    /// [`TargetError::GivenUp`] where it is not.
    pub fn proven(&self, proof: &Proof) -> Result<(), TargetError> {
        let told = self.proven.send(proof.clone());
        told.map_err(|_| TargetError::GivenUp)?;
        self.go.recv().map_err(|_| TargetError::GivenUp)
    }
}

/// Turns batches into what a session sends.
pub trait RowEncoder: Send + Sync {
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

/// An encoder for a session.
pub struct FeedEncoder<R>(pub R);

impl<R: RowEncoder> Encoder for FeedEncoder<R> {
    type Encoded = R::Block;
    type Unit<'e>
        = FeedUnit<'e, R>
    where
        R: 'e;

    fn begin(&self, _share: f64) -> Result<FeedUnit<'_, R>, TargetError> {
        Ok(FeedUnit { rows: &self.0, block: self.0.start() })
    }
}

/// One block being encoded.
pub struct FeedUnit<'e, R: RowEncoder> {
    rows: &'e R,
    block: R::Block,
}

impl<R: RowEncoder> EncodeUnit for FeedUnit<'_, R> {
    type Encoded = R::Block;

    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError> {
        self.rows.encode(&batch, &mut self.block)
    }

    fn finish(self) -> Result<R::Block, TargetError> {
        Ok(self.block)
    }
}

/// Ends the statement that a session waits for, from another thread.
pub type Canceller = Box<dyn Fn() + Send>;

/// How long a full queue is left alone before it is looked at again.
const FULL: Duration = Duration::from_millis(1);

/// How long a session that was called off is given to end by itself, before its statement is ended once more: it may
/// have been between two of them.
const CANCEL_AGAIN: Duration = Duration::from_millis(300);

/// Hands blocks to a session.
pub struct FeedSink<B> {
    sender: Option<SyncSender<Message<B>>>,
    proven: Receiver<Proof>,
    go: Option<Sender<()>>,
    session: Option<JoinHandle<Result<Done, TargetError>>>,
    sent: SentFacts,
    gate: Arc<Gate>,
    cancel: Canceller,
    watch: Watch,
    /// Whether the server does not answer any more, so that nothing of it can be waited for.
    is_mute: AtomicBool,
    _undoing: Undoing,
}

impl<B: Send + 'static> FeedSink<B> {
    /// Runs a session on a thread of its own.
    ///
    /// # Errors
    /// A system that gives no thread.
    pub(crate) fn start(
        columns: usize,
        gate: Arc<Gate>,
        (cancel, watch): (Canceller, Watch),
        session: impl FnOnce(Feed<B>, Release) -> Result<Done, TargetError> + Send + 'static,
    ) -> Result<FeedSink<B>, TargetError> {
        let (sender, receiver) = sync_channel(WAITING);
        let ((told, proven), (release, go)) = (channel(), channel());
        let released = Release { proven: told, go };
        let session = std::thread::Builder::new()
            .spawn(move || session(Feed { receiver, sent: None }, released))
            .map_err(TargetError::Thread)?;
        Ok(FeedSink {
            sender: Some(sender),
            proven,
            go: Some(release),
            session: Some(session),
            sent: SentFacts::new(columns),
            gate,
            cancel,
            watch,
            is_mute: AtomicBool::new(false),
            _undoing: Undoing::begin(),
        })
    }

    /// Hands over a message as soon as there is room. `false`: the session is gone before its time.
    fn send(&self, mut message: Message<B>, monitor: &dyn Monitor) -> Result<bool, TargetError> {
        let sender = self.sender.as_ref().expect("nothing follows the end");
        let since = Instant::now();
        loop {
            match sender.try_send(message) {
                Ok(()) => return Ok(true),
                Err(TrySendError::Disconnected(_)) => return Ok(false),
                Err(TrySendError::Full(unsent)) if !monitor.stopped() => {
                    message = unsent;
                    self.look(since, monitor)?;
                    std::thread::sleep(FULL);
                }
                // Dropping what is left calls the session off.
                Err(TrySendError::Full(_)) => return Err(TargetError::Interrupted),
            }
        }
    }

    /// Asks what the session waits for, where it takes long.
    fn look(&self, since: Instant, monitor: &dyn Monitor) -> Result<(), TargetError> {
        let heard = self.watch.look(since, monitor);
        if heard.is_err() {
            self.is_mute.store(true, Ordering::Relaxed);
        }
        heard
    }

    /// What the session ended with.
    fn end(&mut self, monitor: &dyn Monitor) -> Result<Done, TargetError> {
        (self.sender, self.go) = (None, None);
        let session = self.session.take().expect("a session ends once");
        let since = Instant::now();
        while !session.is_finished() {
            if monitor.stopped() {
                call_off(&session, &self.gate, &self.cancel);
                break;
            }
            self.look(since, monitor)?;
            std::thread::sleep(FULL);
        }
        match session.join() {
            Ok(result) => result,
            Err(panic) => std::panic::resume_unwind(panic),
        }
    }
}

/// Ends what a session waits for until it undoes what it did, or has ended.
fn call_off<T>(session: &JoinHandle<T>, gate: &Gate, cancel: &Canceller) {
    gate.close();
    while !session.is_finished() && !gate.is_undoing() {
        cancel();
        let since = Instant::now();
        while !session.is_finished() && !gate.is_undoing() && since.elapsed() < CANCEL_AGAIN {
            std::thread::sleep(FULL);
        }
    }
}

impl<B: Send + 'static> Sink for FeedSink<B> {
    type Encoded = (B, SentFacts);

    fn append(
        &mut self,
        (block, facts): Self::Encoded,
        monitor: &dyn Monitor,
    ) -> Result<(), TargetError> {
        self.sent.merge(facts);
        if !self.send(Message::Block(block), monitor)? {
            // The session is gone before its time, and says why.
            return self.end(monitor).and(Err(TargetError::GivenUp));
        }
        Ok(())
    }

    fn prove(&mut self, monitor: &dyn Monitor) -> Result<Proof, TargetError> {
        let facts = Box::new(std::mem::take(&mut self.sent));
        self.send(Message::End(facts), monitor)?;
        let since = Instant::now();
        loop {
            match self.proven.recv_timeout(FULL) {
                Ok(proof) => return Ok(proof),
                Err(RecvTimeoutError::Timeout) if !monitor.stopped() => {
                    self.look(since, monitor)?
                }
                // Where the session is gone, its own words are the ones that count.
                Err(_) => return self.end(monitor).and(Err(TargetError::GivenUp)),
            }
        }
    }

    fn publish(mut self, _proof: Proof, monitor: &dyn Monitor) -> Result<Done, TargetError> {
        // A session that is gone says why.
        let _ = self.go.take().map(|go| go.send(()));
        self.end(monitor)
    }
}

impl<B> Drop for FeedSink<B> {
    fn drop(&mut self) {
        (self.sender, self.go) = (None, None);
        if self.is_mute.load(Ordering::Relaxed) {
            // Nobody would hear that it is called off; the thread ends with the process.
            self.gate.close();
        } else if let Some(session) = self.session.take() {
            // An abandoned session undoes its work; the error that led here is known already.
            call_off(&session, &self.gate, &self.cancel);
            let _ = session.join();
        }
    }
}
