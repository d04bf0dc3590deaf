//! Asking for a password: on a terminal only, with nothing of it shown.

use std::io::IsTerminal;
use std::sync::{Mutex, PoisonError};

use rustix::termios::{OptionalActions, Termios, tcgetattr, tcsetattr};

/// How the terminal was before it was told to show nothing.
static BEFORE: Mutex<Option<Termios>> = Mutex::new(None);

/// Asks for a password; `None` where nobody sits, or nothing is said.
pub fn password(question: &str) -> Option<String> {
    if !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal() {
        return None;
    }
    let before = || BEFORE.lock().unwrap_or_else(PoisonError::into_inner);
    *before() = tcgetattr(std::io::stdin()).ok();
    let word = rpassword::prompt_password(question).ok();
    *before() = None;
    word
}

/// Makes the terminal show again what is typed, where a prompt is ended in the middle.
pub fn restore_terminal() {
    let before = BEFORE.lock().unwrap_or_else(PoisonError::into_inner).take();
    if let Some(before) = before {
        let _ = tcsetattr(std::io::stdin(), OptionalActions::Now, &before);
    }
}
