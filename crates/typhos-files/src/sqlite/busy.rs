//! Databases that another program writes to.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// How long a database is waited for that another program writes to.
const BUSY: Duration = Duration::from_secs(5);

/// How long that is at a time: a load that is called off waits no longer.
pub(super) const BUSY_STEP: Duration = Duration::from_millis(100);

/// Does something again as long as another program writes to the database, but not for ever.
pub(super) fn patiently<T>(
    is_called_off: &AtomicBool,
    mut run: impl FnMut() -> rusqlite::Result<T>,
) -> rusqlite::Result<T> {
    let since = Instant::now();
    loop {
        match run() {
            Err(error)
                if error.sqlite_error_code() == Some(rusqlite::ErrorCode::DatabaseBusy)
                    && since.elapsed() < BUSY
                    && !is_called_off.load(Ordering::SeqCst) => {}
            result => return result,
        }
    }
}
