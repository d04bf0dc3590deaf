//! Lengths of time, in whole units: hours without an end, and the durations of ISO 8601.

use super::Reason;
use super::values::{Loss, ReadValue};
use crate::readings::{NoLength, read_length};
use crate::schema::{Scalar, TimeUnit};

/// Lengths of time in units.
pub(super) struct DurationRead {
    pub unit: TimeUnit,
    pub loss: Loss,
}

impl ReadValue for DurationRead {
    type Native = i64;

    fn read(&self, value: &[u8]) -> Result<i64, Reason> {
        let ty = Scalar::Duration(self.unit);
        let read = read_length(value).map_err(|why| match why {
            NoLength::Unwritten => Reason::NotA(ty),
            NoLength::Calendar => Reason::OutOfRange(ty),
        })?;
        let unit = i128::from(self.unit.nanos());
        if read.nanos % unit != 0 && !self.loss.change() {
            return Err(Reason::TooPrecise(ty));
        }
        i64::try_from(read.nanos.div_euclid(unit)).map_err(|_| Reason::OutOfRange(ty))
    }

    fn loss(&self) -> &Loss {
        &self.loss
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_keep_every_digit_or_say_so() {
        let read =
            |unit, value: &str| DurationRead { unit, loss: Loss::default() }.read(value.as_bytes());
        assert_eq!(read(TimeUnit::Second, "25:51:00"), Ok(93_060));
        assert_eq!(read(TimeUnit::Milli, "-PT0.25S"), Ok(-250));
        assert_eq!(read(TimeUnit::Second, "P1DT2H"), Ok(93_600));
        for (unit, value) in [(TimeUnit::Second, "0:00:00.5"), (TimeUnit::Milli, "PT0.0001S")] {
            assert!(matches!(read(unit, value), Err(Reason::TooPrecise(_))), "{value}");
        }
        assert!(matches!(read(TimeUnit::Second, "P1Y"), Err(Reason::OutOfRange(_))));
        assert!(matches!(read(TimeUnit::Nano, "9000000:00:00"), Err(Reason::OutOfRange(_))));
        assert!(matches!(read(TimeUnit::Second, "soon"), Err(Reason::NotA(_))));
    }
}
