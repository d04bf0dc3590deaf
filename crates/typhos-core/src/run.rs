//! The one loop that feeds blocks to all cores, and the one that puts results back in order.
//!
//! Blocks are read under a lock by whichever thread needs one: reading is a small part of the work,
//! and no thread is kept for it. Threads own their scratch. What they learn is merged at the end
//! ([`fold_blocks`]) or handed on in the order of the input ([`map_blocks`]).

use std::collections::BTreeMap;
use std::num::NonZeroUsize;
use std::sync::{Condvar, Mutex, MutexGuard};

use thiserror::Error;

use crate::text::{Block, BlockReader, Blocks, DEFAULT_BLOCK_BYTES, InputError};

/// Told how the work goes, and asked whether to go on.
pub trait Monitor: Sync {
    /// Another step begins: what it does, in a few words, and how many bytes of the input it goes over. `None`
    /// where nobody can tell how far it is.
    fn begin(&self, _what: &'static str, _bytes: Option<u64>) {}

    /// `bytes` more of the input are done.
    fn advance(&self, bytes: u64);

    /// The work cannot go on before somebody else does something: what it waits for, as in "waiting for …".
    fn waiting(&self, _for_what: &str) {}

    /// Whether the work is to stop.
    fn stopped(&self) -> bool {
        false
    }
}

/// A monitor that does not care.
#[derive(Debug, Clone, Copy)]
pub struct NoMonitor;

impl Monitor for NoMonitor {
    fn advance(&self, _bytes: u64) {}
}

/// How work is spread. None of it changes a result.
#[derive(Debug, Clone, Copy)]
pub struct RunOptions {
    /// Threads that work on blocks.
    pub threads: NonZeroUsize,
    /// Bytes of a block.
    pub block_bytes: usize,
}

impl Default for RunOptions {
    fn default() -> Self {
        let threads = std::thread::available_parallelism().unwrap_or(NonZeroUsize::MIN);
        RunOptions { threads, block_bytes: DEFAULT_BLOCK_BYTES }
    }
}

/// Why a run ended early.
#[derive(Debug, Error)]
pub enum RunError {
    /// The input cannot be read.
    #[error(transparent)]
    Input(#[from] InputError),
    /// The monitor asked to stop.
    #[error("interrupted; nothing was written")]
    Interrupted,
}

/// Works on every block, on any thread, and returns what each thread kept.
///
/// # Errors
/// The first error in reading, or [`RunError::Interrupted`].
pub fn fold_blocks<'i, S: Send>(
    blocks: impl Into<Blocks<'i>>,
    options: &RunOptions,
    monitor: &dyn Monitor,
    start: impl Fn() -> S + Sync,
    work: impl Fn(&mut S, &Block) + Sync,
) -> Result<Vec<S>, RunError> {
    let reader = Mutex::new(BlockReader::new(blocks, options.block_bytes));
    let worker = || {
        let mut state = start();
        let mut block = Block::default();
        loop {
            if monitor.stopped() {
                return Err(RunError::Interrupted);
            }
            if !lock(&reader).next(&mut block)? {
                return Ok(state);
            }
            work(&mut state, &block);
            monitor.advance(block.bytes);
        }
    };
    on_threads(options.threads, worker).into_iter().collect()
}

/// Works on every block, on any thread, and hands the results to `sink` in the order of the input.
///
/// At most four results per thread wait for their turn, so memory stays flat.
///
/// # Errors
/// The first error of reading, of `work` or of `sink`, by the order of the input.
pub fn map_blocks<'i, S, T: Send, E: Send + From<RunError>>(
    blocks: impl Into<Blocks<'i>>,
    options: &RunOptions,
    monitor: &dyn Monitor,
    start: impl Fn() -> S + Sync,
    work: impl Fn(&mut S, &Block) -> Result<T, E> + Sync,
    sink: impl FnMut(T) -> Result<(), E> + Send,
) -> Result<(), E> {
    let mut reader = BlockReader::new(blocks, options.block_bytes);
    let next = |block: &mut Block| Ok(reader.next(block).map_err(RunError::from)?);
    let work = |state: &mut S, block: &Block| {
        let result = work(state, block);
        monitor.advance(block.bytes);
        result
    };
    map_items(next, options, monitor, start, work, sink)
}

/// Works on every item that `next` makes, on any thread, and hands the results to `sink` in the order in
/// which the items were made. One item is made at a time, by whichever thread needs one; `false` is the
/// end. Nothing is told to the monitor of how the work goes: only the caller knows what an item is.
///
/// At most four results per thread wait for their turn.
///
/// # Errors
/// The first error of `next`, of `work` or of `sink`, by the order of the items.
pub fn map_items<I: Default, S, T: Send, E: Send + From<RunError>>(
    next: impl FnMut(&mut I) -> Result<bool, E> + Send,
    options: &RunOptions,
    monitor: &dyn Monitor,
    start: impl Fn() -> S + Sync,
    work: impl Fn(&mut S, &I) -> Result<T, E> + Sync,
    sink: impl FnMut(T) -> Result<(), E> + Send,
) -> Result<(), E> {
    let source = Mutex::new((0, next));
    let order = InOrder {
        state: Mutex::new(OrderState {
            next: 0,
            waiting: BTreeMap::new(),
            sink,
            failed: None,
            abandoned: false,
        }),
        moved: Condvar::new(),
        ahead: 4 * options.threads.get() as u64,
    };
    let worker = || {
        let _release = ReleaseOnPanic(&order);
        let mut state = start();
        let mut item = I::default();
        loop {
            let more = if monitor.stopped() {
                Err(RunError::Interrupted.into())
            } else {
                let (count, next) = &mut *lock(&source);
                next(&mut item).map(|more| {
                    *count += 1;
                    more.then_some(*count - 1)
                })
            };
            let sequence = match more {
                Ok(Some(sequence)) => sequence,
                Ok(None) => return,
                Err(error) => return order.fail(error),
            };
            if !order.hand_in(sequence, work(&mut state, &item)) {
                return;
            }
        }
    };
    on_threads(options.threads, worker);
    match order.state.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner()).failed {
        Some(error) => Err(error),
        None => Ok(()),
    }
}

struct OrderState<T, F, E> {
    next: u64,
    waiting: BTreeMap<u64, Result<T, E>>,
    sink: F,
    failed: Option<E>,
    /// A thread panicked: its block will never come.
    abandoned: bool,
}

impl<T, F, E> OrderState<T, F, E> {
    fn goes_on(&self) -> bool {
        self.failed.is_none() && !self.abandoned
    }
}

struct InOrder<T, F, E> {
    state: Mutex<OrderState<T, F, E>>,
    moved: Condvar,
    ahead: u64,
}

impl<T, F: FnMut(T) -> Result<(), E>, E> InOrder<T, F, E> {
    /// Takes the result of a block; passes on what is next in order. `false` once anything failed.
    fn hand_in(&self, sequence: u64, result: Result<T, E>) -> bool {
        let mut state = lock(&self.state);
        // The thread with the next block in order never waits, so the others always get on.
        while state.goes_on() && sequence >= state.next + self.ahead {
            state = self.moved.wait(state).unwrap_or_else(|poisoned| poisoned.into_inner());
        }
        state.waiting.insert(sequence, result);
        while state.goes_on() {
            let next = state.next;
            let Some(result) = state.waiting.remove(&next) else { break };
            match result.and_then(|result| (state.sink)(result)) {
                Ok(()) => state.next += 1,
                Err(error) => state.failed = Some(error),
            }
        }
        self.moved.notify_all();
        state.goes_on()
    }

    fn fail(&self, error: E) {
        let mut state = lock(&self.state);
        state.failed.get_or_insert(error);
        self.moved.notify_all();
    }
}

/// Lets the other threads end when one panics, instead of waiting for a block that never comes.
struct ReleaseOnPanic<'o, T, F, E>(&'o InOrder<T, F, E>);

impl<T, F, E> Drop for ReleaseOnPanic<'_, T, F, E> {
    fn drop(&mut self) {
        if std::thread::panicking() {
            lock(&self.0.state).abandoned = true;
            self.0.moved.notify_all();
        }
    }
}

/// A thread that panicked has poisoned nothing that is used afterwards: the panic is passed on.
fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
}

/// Does the same work on several threads, this one included; fewer where the system gives no more. A panic on any of
/// them is passed on when all have ended.
pub fn on_threads<T: Send>(threads: NonZeroUsize, work: impl Fn() -> T + Sync) -> Vec<T> {
    let work = &work;
    std::thread::scope(|scope| {
        let more = (1..threads.get())
            .map_while(|_| std::thread::Builder::new().spawn_scoped(scope, work).ok());
        let others: Vec<_> = more.collect();
        let own = std::panic::catch_unwind(std::panic::AssertUnwindSafe(work));
        let others = others.into_iter().map(std::thread::ScopedJoinHandle::join);
        let all: Vec<_> = std::iter::once(own).chain(others).collect();
        all.into_iter()
            .map(|result| result.unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
            .collect()
    })
}

/// Does the same with each of some things, on several threads, this one included: results are in the order of the things.
pub fn each<I: Iterator<Item: Send> + Send, T: Send>(
    threads: NonZeroUsize,
    things: I,
    work: impl Fn(I::Item) -> T + Sync,
) -> Vec<T> {
    let waiting = Mutex::new(things.enumerate());
    let done = on_threads(threads, || {
        let mut done = Vec::new();
        loop {
            let next = lock(&waiting).next();
            let Some((at, thing)) = next else { return done };
            done.push((at, work(thing)));
        }
    });
    let mut done: Vec<_> = done.into_iter().flatten().collect();
    done.sort_unstable_by_key(|(at, _)| *at);
    done.into_iter().map(|(_, result)| result).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::Dialect;
    use crate::text::Input;

    fn input(lines: usize) -> Input {
        let text: String = (0..lines).map(|n| format!("{n},x\n")).collect();
        Input::from_bytes(
            "t",
            text.into_bytes(),
            &Dialect { header: false, ..Dialect::RFC_4180 }.into(),
        )
    }

    fn options(threads: usize, block_bytes: usize) -> RunOptions {
        RunOptions { threads: NonZeroUsize::new(threads).unwrap(), block_bytes }
    }

    #[test]
    fn results_come_in_order_on_any_number_of_threads() {
        let input = input(500);
        for threads in 1..6 {
            let mut text = Vec::new();
            map_blocks::<_, _, RunError>(
                &input,
                &options(threads, 16),
                &NoMonitor,
                || (),
                |(), block| Ok(block.text().to_vec()),
                |part| {
                    text.extend(part);
                    Ok(())
                },
            )
            .unwrap();
            assert!(
                text.starts_with(b"0,x\n1,x\n") && text.ends_with(b"499,x\n"),
                "{threads} threads"
            );
            assert_eq!(text.len(), 2890);
        }
    }

    #[test]
    fn things_keep_their_order_on_any_number_of_threads() {
        for threads in 1..6 {
            let threads = NonZeroUsize::new(threads).unwrap();
            let squares = each(threads, 0..1_000u64, |n| n * n);
            assert!(squares.into_iter().eq((0..1_000).map(|n| n * n)), "{threads} threads");
            assert!(each(threads, std::iter::empty::<u8>(), |n| n).is_empty());
        }
    }

    #[test]
    fn the_first_error_in_order_is_the_one_reported() {
        #[derive(Debug, PartialEq)]
        struct Failed(u64);
        impl From<RunError> for Failed {
            fn from(_: RunError) -> Self {
                Failed(u64::MAX)
            }
        }
        let input = input(500);
        for threads in 1..6 {
            let mut seen = 0;
            let result = map_blocks(
                &input,
                &options(threads, 16),
                &NoMonitor,
                || (),
                |(), block| {
                    if block.sequence % 10 == 7 { Err(Failed(block.sequence)) } else { Ok(()) }
                },
                |()| {
                    seen += 1;
                    Ok(())
                },
            );
            assert_eq!((result, seen), (Err(Failed(7)), 7), "{threads} threads");
        }
    }

    #[test]
    #[should_panic(expected = "block 3")]
    fn a_panic_is_passed_on_and_hangs_no_thread() {
        let work = |(): &mut (), block: &Block| {
            assert!(block.sequence != 3, "block 3");
            Ok::<_, RunError>(())
        };
        let _ = map_blocks(&input(500), &options(3, 16), &NoMonitor, || (), work, |()| Ok(()));
    }

    #[test]
    fn a_monitor_can_stop_the_work() {
        struct Stop;
        impl Monitor for Stop {
            fn advance(&self, _: u64) {}
            fn stopped(&self) -> bool {
                true
            }
        }
        let result = fold_blocks(&input(5), &options(2, 4), &Stop, || (), |(), _| {});
        assert!(matches!(result, Err(RunError::Interrupted)));
    }
}
