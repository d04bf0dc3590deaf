//! Ctrl-C and its like: the work is asked to stop, and what cannot be asked is ended.
//!
//! Work asks between blocks whether it is to go on, and then undoes what it did. What waits for a pipe, a prompt or
//! a single endless record asks nothing; so a while after the first signal the process is ended by it, with what
//! is unfinished removed. Either way it ends by the signal, as whoever sent it expects.

use std::sync::atomic::{AtomicI32, Ordering};
use std::time::{Duration, Instant};

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use typhos_load::unfinished::{self, Undoing};

/// How long work has to stop by itself.
const PATIENCE: Duration = Duration::from_millis(350);

/// How long a load into a server has to undo what it did.
const UNDOING: Duration = Duration::from_secs(20);

/// The signal that asked for an end; 0 where none did.
static SIGNAL: AtomicI32 = AtomicI32::new(0);

/// From now on a signal asks the work to stop, and a second one ends the process, with some last words.
pub fn catch(last_words: fn()) {
    // Where there is no way to catch it, the default is to end at once: what is unfinished is swept by the next run.
    let Ok(mut signals) = Signals::new([SIGINT, SIGTERM, SIGHUP]) else { return };
    let _ = std::thread::Builder::new().spawn(move || {
        let handle = signals.handle();
        let Some(signal) = signals.forever().next() else { return };
        SIGNAL.store(signal, Ordering::SeqCst);
        let _ = std::thread::Builder::new().spawn(move || {
            wait();
            handle.close();
        });
        // Either a second signal, or the end of patience.
        let _ = signals.forever().next();
        unfinished::clear();
        crate::prompt::restore_terminal();
        last_words();
        end(signal);
    });
}

/// Gives the work time to stop.
fn wait() {
    let since = Instant::now();
    while since.elapsed() < if Undoing::is_any() { UNDOING } else { PATIENCE } {
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// Whether a signal asked for an end.
pub fn is_asked() -> bool {
    SIGNAL.load(Ordering::Relaxed) != 0
}

/// Ends the process by the signal that asked for it, where one did.
pub fn end_if_asked() {
    match SIGNAL.load(Ordering::SeqCst) {
        0 => {}
        signal => end(signal),
    }
}

fn end(signal: i32) {
    let _ = signal_hook::low_level::emulate_default_handler(signal);
    // Only where the system does not end it.
    std::process::exit(128 + signal);
}
