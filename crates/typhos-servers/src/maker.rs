//! Who made something beside a table or an index, written into its name: when, on which machine, in which process. What
//! belongs to nobody any more was left behind by a load that was killed.

use std::fmt;
use std::path::Path;
use std::time::{SystemTime, UNIX_EPOCH};

/// Seconds after which something beside is old, whoever made it.
const OLD: u64 = 24 * 60 * 60;

/// Who made something.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Maker {
    /// When, in seconds since 1970.
    seconds: u64,
    /// A number for the machine.
    machine: u64,
    /// The process on it.
    process: u64,
}

impl Maker {
    /// This process, now.
    pub fn this() -> Maker {
        let process = std::process::id().into();
        Maker { seconds: now(), machine: machine().into(), process }
    }

    /// Reads a maker as it is written, with anything behind it.
    pub fn parse(text: &str) -> Option<Maker> {
        let mut parts = text.split('_').map(|part| u64::from_str_radix(part, 16).ok());
        let mut part = || parts.next().flatten();
        Some(Maker { seconds: part()?, machine: part()?, process: part()? })
    }

    /// Whether it belongs to nobody any more.
    pub fn is_gone(self) -> bool {
        self.is_gone_at(now())
    }

    fn is_gone_at(self, now: u64) -> bool {
        let is_here = self.machine == u64::from(machine());
        let is_over = Path::new("/proc/self").exists()
            && !Path::new(&format!("/proc/{}", self.process)).exists();
        now.saturating_sub(self.seconds) > OLD || is_here && is_over
    }
}

impl fmt::Display for Maker {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:x}_{:08x}_{:x}", self.seconds, self.machine, self.process)
    }
}

fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs())
}

/// A number for this machine, as far as its processes see each other: in containers the same number of a process is of
/// another one, and images may have the same names.
fn machine() -> u32 {
    let name = std::fs::read_to_string("/etc/machine-id")
        .or_else(|_| std::fs::read_to_string("/proc/sys/kernel/hostname"))
        .or_else(|_| std::env::var("HOSTNAME"));
    let started = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default();
    let seen = std::fs::read_link("/proc/self/ns/pid").unwrap_or_default();
    number_of(&name.unwrap_or_default(), &started, &seen.to_string_lossy())
}

fn number_of(name: &str, started: &str, seen: &str) -> u32 {
    let all = [name.trim(), started.trim(), seen].join(" ");
    twox_hash::XxHash3_64::oneshot(all.as_bytes()) as u32
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_dead_made_is_left_behind() {
        let (here, this) = (u64::from(machine()), u64::from(std::process::id()));
        let at = 2_000_000_000;
        let gone = |seconds, machine, process| Maker { seconds, machine, process }.is_gone_at(at);
        assert!(!gone(at, here, this));
        assert!(gone(at, here, 0x3fff_fff1));
        assert!(!gone(at, here ^ 1, 0x3fff_fff1));
        assert!(gone(at - OLD - 1, here ^ 1, 1));
        // The same image in two containers, and a machine that was started again.
        let numbers = [
            ("a", "1", "pid:[1]"),
            ("a", "1", "pid:[2]"),
            ("a", "2", "pid:[1]"),
            ("b", "1", "pid:[1]"),
        ];
        let mut numbers =
            numbers.map(|(name, started, seen)| number_of(name, started, seen)).to_vec();
        numbers.dedup();
        assert_eq!(numbers.len(), 4);
        let maker = Maker::this();
        assert_eq!(Maker::parse(&format!("{maker}_1")), Some(maker));
        assert_eq!(Maker::parse("mine"), None);
    }
}
