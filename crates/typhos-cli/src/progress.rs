//! A progress bar for work that takes longer than a second, and Ctrl-C.

use std::io::IsTerminal;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use typhos_core::run::Monitor;

/// Work that is done sooner shows no bar.
const PATIENCE: Duration = Duration::from_secs(1);

static INTERRUPTED: AtomicBool = AtomicBool::new(false);

/// From now on the first Ctrl-C asks the work to stop, and a second one ends the process.
pub fn catch_interrupts() {
    // Where there is no way to catch it, the default is to end at once: side files are left over then.
    let _ = ctrlc::set_handler(|| {
        if INTERRUPTED.swap(true, Ordering::SeqCst) {
            std::process::exit(3);
        }
    });
}

/// Whether Ctrl-C was pressed.
pub fn interrupted() -> bool {
    INTERRUPTED.load(Ordering::Relaxed)
}

/// Watches one piece of work.
pub struct Progress {
    what: &'static str,
    total: u64,
    done: AtomicU64,
    started: Instant,
    bar: OnceLock<ProgressBar>,
    shown: bool,
}

impl Progress {
    /// Watches work on `total` bytes. `what` is what is being done, in a word.
    pub fn new(what: &'static str, total: u64, quiet: bool) -> Progress {
        let shown = !quiet && std::io::stderr().is_terminal();
        Progress {
            what,
            total,
            done: AtomicU64::new(0),
            started: Instant::now(),
            bar: OnceLock::new(),
            shown,
        }
    }

    fn bar(&self) -> &ProgressBar {
        self.bar.get_or_init(|| {
            let target = ProgressDrawTarget::stderr_with_hz(8);
            let bar = ProgressBar::with_draw_target(Some(self.total), target);
            let template = "{msg} {wide_bar} {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left";
            let style = ProgressStyle::with_template(template).expect("a sound template");
            bar.set_style(style.progress_chars("━╸ "));
            bar.set_message(self.what);
            bar
        })
    }
}

impl Monitor for Progress {
    fn advance(&self, bytes: u64) {
        let done = self.done.fetch_add(bytes, Ordering::Relaxed) + bytes;
        if self.shown && (self.bar.get().is_some() || self.started.elapsed() > PATIENCE) {
            self.bar().set_position(done);
        }
    }

    fn stopped(&self) -> bool {
        interrupted()
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if let Some(bar) = self.bar.get() {
            bar.finish_and_clear();
        }
    }
}
