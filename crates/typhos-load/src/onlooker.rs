//! What a session waits for, asked of its server by somebody who does not wait: locks that others hold, and whether the
//! server answers at all.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use typhos_core::run::Monitor;

use crate::error::TargetError;

/// Asks a server, over a connection of its own, what a session of it waits for; `None` where it is at work. What is
/// returned goes on from "waiting for".
pub type Onlooker = Box<dyn FnMut() -> Result<Option<String>, TargetError> + Send>;

/// How long a session may be at something before anybody asks what it waits for.
const PATIENCE: Duration = Duration::from_secs(2);

/// How long it takes until somebody asks again.
const AGAIN: Duration = Duration::from_secs(2);

/// How often the thread looks whether it is wanted.
const STEP: Duration = Duration::from_millis(50);

/// What was heard of a server.
#[derive(Default)]
struct Heard {
    /// What the session waits for.
    waiting: Option<String>,
    /// Since when a question has not been answered.
    asked: Option<Instant>,
}

#[derive(Default)]
struct Shared {
    heard: Mutex<Heard>,
    is_wanted: AtomicBool,
    is_over: AtomicBool,
}

impl Shared {
    fn heard(&self) -> MutexGuard<'_, Heard> {
        self.heard.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Waits for so long, or until nobody wants to know any more, which is `false`.
    fn sleep(&self, time: Duration) -> bool {
        let since = Instant::now();
        while since.elapsed() < time {
            if self.is_over.load(Ordering::Relaxed) {
                return false;
            }
            std::thread::sleep(STEP);
        }
        true
    }

    /// Asks for as long as anybody wants to know, and the server has an answer.
    fn ask(&self, mut onlooker: Onlooker) {
        while self.sleep(STEP) {
            if !self.is_wanted.swap(false, Ordering::Relaxed) {
                continue;
            }
            self.heard().asked = Some(Instant::now());
            let answer = onlooker();
            let mut heard = self.heard();
            heard.asked = None;
            match answer {
                Ok(waiting) => heard.waiting = waiting,
                // Whoever may not ask, or asks a server that is gone, learns nothing by asking again.
                Err(_) => return,
            }
            drop(heard);
            if !self.sleep(AGAIN) {
                return;
            }
        }
    }
}

/// Tells of a session that waits, and of a server that is mute.
pub(crate) struct Watch {
    shared: Arc<Shared>,
    onlooker: Mutex<Option<Onlooker>>,
    /// How long a server may take to answer; for ever where it is zero.
    most: Duration,
    told: Mutex<Option<String>>,
    target: String,
}

impl Watch {
    /// Watches a session at a server.
    pub fn new(onlooker: Option<Onlooker>, most: Duration, target: String) -> Watch {
        let (shared, onlooker) = (Arc::default(), Mutex::new(onlooker));
        Watch { shared, onlooker, most, told: Mutex::default(), target }
    }

    /// Is told that the session has been at something for so long. Tells the monitor what it waits for, once.
    ///
    /// # Errors
    /// A server that has not answered in its time.
    pub fn look(&self, since: Instant, monitor: &dyn Monitor) -> Result<(), TargetError> {
        if since.elapsed() < PATIENCE {
            return Ok(());
        }
        let onlooker = self.onlooker.lock().unwrap_or_else(PoisonError::into_inner).take();
        if let Some(onlooker) = onlooker {
            let shared = self.shared.clone();
            // Without a thread nobody looks, and the load goes on.
            let _ = std::thread::Builder::new().spawn(move || shared.ask(onlooker));
        }
        self.shared.is_wanted.store(true, Ordering::Relaxed);
        let heard = self.shared.heard();
        // A session that gets on is answered, however long a connection beside it takes.
        if let Some(asked) = heard.asked
            && !self.most.is_zero()
            && asked.elapsed().min(since.elapsed()) > self.most
        {
            return Err(TargetError::Mute {
                target: self.target.clone(),
                seconds: self.most.as_secs(),
            });
        }
        let mut told = self.told.lock().unwrap_or_else(PoisonError::into_inner);
        if heard.waiting.is_some() && *told != heard.waiting {
            told.clone_from(&heard.waiting);
            monitor.waiting(heard.waiting.as_deref().unwrap_or_default());
        }
        Ok(())
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        self.shared.is_over.store(true, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Default)]
    struct Told(Mutex<Vec<String>>);

    impl Monitor for Told {
        fn advance(&self, _: u64) {}

        fn waiting(&self, what: &str) {
            self.0.lock().unwrap().push(what.to_owned());
        }
    }

    /// An instant so long ago that somebody asks.
    fn long_ago() -> Instant {
        Instant::now().checked_sub(PATIENCE * 2).unwrap()
    }

    /// Looks until something is so, or the test has waited for too long.
    fn until(watch: &Watch, told: &Told, mut is_so: impl FnMut(&Result<(), TargetError>) -> bool) {
        let since = Instant::now();
        while !is_so(&watch.look(long_ago(), told)) {
            assert!(since.elapsed() < Duration::from_secs(20), "nothing was heard");
            std::thread::sleep(STEP);
        }
    }

    #[test]
    fn what_a_session_waits_for_is_told_once() {
        let told = Told::default();
        let asked: Onlooker = Box::new(|| Ok(Some("a lock".into())));
        let watch = Watch::new(Some(asked), Duration::ZERO, "db".into());
        watch.look(Instant::now(), &told).unwrap();
        assert!(told.0.lock().unwrap().is_empty(), "nobody asks at once");
        until(&watch, &told, |_| !told.0.lock().unwrap().is_empty());
        (0..5).for_each(|_| watch.look(long_ago(), &told).unwrap());
        assert_eq!(*told.0.lock().unwrap(), ["a lock"]);
    }

    #[test]
    fn a_server_that_does_not_answer_ends_the_wait() {
        let told = Told::default();
        let asked: Onlooker = Box::new(|| {
            std::thread::sleep(Duration::from_secs(60));
            Ok(None)
        });
        let watch = Watch::new(Some(asked), Duration::from_millis(200), "db".into());
        until(&watch, &told, Result::is_err);
        let error = watch.look(long_ago(), &told).unwrap_err();
        assert!(matches!(error, TargetError::Mute { .. }), "{error}");
    }

    #[test]
    fn who_may_not_ask_waits_on() {
        let told = Told::default();
        let refused: Onlooker = Box::new(|| Err(TargetError::Interrupted));
        let watch = Watch::new(Some(refused), Duration::from_millis(1), "db".into());
        let since = Instant::now();
        while since.elapsed() < STEP * 6 {
            watch.look(long_ago(), &told).unwrap();
            std::thread::sleep(STEP);
        }
        assert!(told.0.lock().unwrap().is_empty());
    }
}
