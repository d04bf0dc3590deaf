//! Units of time, as languages without a type for them count.

use typhos_core::schema::TimeUnit;

/// Why whole numbers stand for times of a unit that has no type.
pub(crate) fn counted_in(unit: TimeUnit, since: &str, name: &str) -> String {
    let unit = match unit {
        TimeUnit::Second => "seconds",
        TimeUnit::Milli => "milliseconds",
        TimeUnit::Micro => "microseconds",
        TimeUnit::Nano => "nanoseconds",
    };
    format!("as a whole number of {unit} since {since}: {name} has no type for them")
}

/// The power of ten that makes seconds units.
pub(crate) fn per_second(unit: TimeUnit) -> u64 {
    10u64.pow(u32::from(unit.digits()))
}
