//! The resolution of times.

/// The resolution of a time or timestamp.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum TimeUnit {
    /// Seconds.
    Second,
    /// Milliseconds.
    Milli,
    /// Microseconds.
    Micro,
    /// Nanoseconds.
    Nano,
}

impl TimeUnit {
    /// All units, the coarsest first.
    pub const ALL: [TimeUnit; 4] =
        [TimeUnit::Second, TimeUnit::Milli, TimeUnit::Micro, TimeUnit::Nano];

    /// Its spelling.
    pub fn name(self) -> &'static str {
        match self {
            TimeUnit::Second => "s",
            TimeUnit::Milli => "ms",
            TimeUnit::Micro => "us",
            TimeUnit::Nano => "ns",
        }
    }

    /// Nanoseconds in one unit.
    pub fn nanos(self) -> i64 {
        match self {
            TimeUnit::Second => 1_000_000_000,
            TimeUnit::Milli => 1_000_000,
            TimeUnit::Micro => 1_000,
            TimeUnit::Nano => 1,
        }
    }

    /// The coarsest unit that keeps so many digits after the second.
    pub fn for_digits(digits: u8) -> TimeUnit {
        match digits {
            0 => TimeUnit::Second,
            1..=3 => TimeUnit::Milli,
            4..=6 => TimeUnit::Micro,
            _ => TimeUnit::Nano,
        }
    }
}
