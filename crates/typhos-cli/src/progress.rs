//! A progress bar for work that takes longer than a second.

use std::io::{IsTerminal, Write};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use typhos_core::run::Monitor;

use crate::console::{WARN, paint, safe};

/// Work that is done sooner shows no bar.
const PATIENCE: Duration = Duration::from_secs(1);

/// What is being done, and over how many bytes, where that is known.
type Step = (&'static str, Option<u64>);

/// Watches one piece of work, which may have several steps.
pub struct Progress {
    step: Mutex<Step>,
    done: AtomicU64,
    started: Instant,
    bar: OnceLock<ProgressBar>,
    shown: bool,
    is_quiet: bool,
}

impl Progress {
    /// Watches work on `total` bytes. `what` is what is being done, in a word.
    pub fn new(what: &'static str, total: u64, quiet: bool) -> Progress {
        let shown = !quiet && std::io::stderr().is_terminal();
        Progress {
            step: Mutex::new((what, Some(total))),
            done: AtomicU64::new(0),
            started: Instant::now(),
            bar: OnceLock::new(),
            shown,
            is_quiet: quiet,
        }
    }

    /// Watches work of which nobody can tell how far it is.
    pub fn of_unknown(what: &'static str, quiet: bool) -> Progress {
        let progress = Progress::new(what, 0, quiet);
        *progress.step.lock().unwrap_or_else(PoisonError::into_inner) = (what, None);
        progress
    }

    /// The bar, once the work has taken its time.
    fn bar(&self) -> Option<&ProgressBar> {
        if !self.shown || self.bar.get().is_none() && self.started.elapsed() < PATIENCE {
            return None;
        }
        Some(self.bar.get_or_init(|| {
            let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr_with_hz(8));
            dress(&bar, *self.step.lock().unwrap_or_else(PoisonError::into_inner));
            bar
        }))
    }
}

/// Shows a step from its beginning.
fn dress(bar: &ProgressBar, (what, bytes): Step) {
    let template = match bytes {
        Some(_) => "{msg} {wide_bar} {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left",
        None => "{msg} {spinner} {elapsed}",
    };
    let style = ProgressStyle::with_template(template).expect("a sound template");
    bar.set_style(style.progress_chars("━╸ "));
    bar.set_message(what);
    bar.reset();
    match bytes {
        Some(bytes) => {
            bar.disable_steady_tick();
            bar.set_length(bytes);
        }
        // Nobody will say that it goes on.
        None => bar.enable_steady_tick(Duration::from_millis(125)),
    }
}

impl Monitor for Progress {
    fn begin(&self, what: &'static str, bytes: Option<u64>) {
        *self.step.lock().unwrap_or_else(PoisonError::into_inner) = (what, bytes);
        self.done.store(0, Ordering::Relaxed);
        if let Some(bar) = self.bar() {
            dress(bar, (what, bytes));
        }
    }

    fn advance(&self, bytes: u64) {
        let done = self.done.fetch_add(bytes, Ordering::Relaxed) + bytes;
        if let Some(bar) = self.bar() {
            bar.set_position(done);
        }
    }

    fn waiting(&self, for_what: &str) {
        if self.is_quiet {
            return;
        }
        let line = format!("waiting for {}", safe(for_what));
        // Where nobody reads it, nobody misses it.
        let tell = || drop(writeln!(anstream::stderr(), "{}", paint(WARN, &line)));
        match self.bar.get() {
            Some(bar) => bar.suspend(tell),
            None => tell(),
        }
    }

    fn stopped(&self) -> bool {
        // Who asks is at work: where nobody says how far it is, this is what is heard of it.
        self.bar();
        crate::interrupt::is_asked()
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if let Some(bar) = self.bar.get() {
            bar.finish_and_clear();
        }
    }
}
