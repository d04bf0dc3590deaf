//! What a date or time looks like before its pattern is known.
//!
//! A shape keeps what can be seen in one value: how long the three fields of the date are and what
//! stands between them, whether there is a time, and how an offset is written. The numbers in the
//! fields are kept apart, so that a survey can count per shape which orders of year, month and day
//! read every value. Values are found by shape alone, not by trying patterns in turn.

use serde::{Deserialize, Serialize};

use super::days_in_month;

/// The order of the fields in a date.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Order {
    /// Year, month, day.
    Ymd,
    /// Day, month, year.
    Dmy,
    /// Month, day, year.
    Mdy,
}

impl Order {
    /// All orders; facts per order are kept in this sequence.
    pub const ALL: [Order; 3] = [Order::Ymd, Order::Dmy, Order::Mdy];

    /// Its spelling on the command line.
    pub fn name(self) -> &'static str {
        match self {
            Order::Ymd => "ymd",
            Order::Dmy => "dmy",
            Order::Mdy => "mdy",
        }
    }

    /// Reads its spelling.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Order, String> {
        let found = Order::ALL.into_iter().find(|order| order.name() == word);
        found.ok_or_else(|| {
            format!("'{}' is no order of dates: use ymd, dmy or mdy", word.escape_debug())
        })
    }
}

/// The date part of a shape: digits of the three fields, and the byte between them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct DateShape {
    /// Digits of each field.
    pub digits: [u8; 3],
    /// The byte between them: `-`, `/` or `.`.
    pub separator: u8,
}

/// What stands between date and time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Glue {
    /// A space.
    Space,
    /// The letter `T`.
    T,
}

/// The time part of a shape.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct TimeShape {
    /// Digits of the hour, 1 or 2.
    pub hour_digits: u8,
    /// Whether there are seconds.
    pub seconds: bool,
    /// The mark before a fraction of a second, where there is one.
    pub fraction: Option<u8>,
}

/// How an offset from UTC is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct ZoneShape {
    /// Whether a space stands before it.
    pub space: bool,
    /// Letters of the `X` pattern: 1 for `+01`, 2 for `+0100`, 3 for `+01:00`; 0 for a lone `Z`,
    /// which all of them read.
    pub letters: u8,
}

/// The look of a date, a time, or both.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Shape {
    /// The date, where there is one.
    pub date: Option<(DateShape, Option<Glue>)>,
    /// The time, where there is one.
    pub time: Option<TimeShape>,
    /// The offset, where there is one.
    pub zone: Option<ZoneShape>,
}

/// A value taken apart by its shape.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Shaped {
    /// How it looks.
    pub shape: Shape,
    /// The three numbers of the date, in the order they are written.
    pub fields: [u16; 3],
    /// Time of day in nanoseconds.
    pub nanos: i64,
    /// Digits of the fraction, 0 to 9.
    pub fraction_digits: u8,
    /// Offset from UTC in seconds.
    pub offset: i32,
}

impl Shape {
    /// Whether the fields can stand in this order, judged by their number of digits.
    pub fn allows(&self, order: Order) -> bool {
        let Some((date, _)) = self.date else { return false };
        match (date.digits, order) {
            ([4, _, _], Order::Ymd) | ([_, _, 4], Order::Dmy | Order::Mdy) => true,
            ([4, _, _], _) | ([_, _, 4], _) => false,
            ([2, 2, 2], _) => true,
            ([_, _, 2], Order::Dmy | Order::Mdy) => true,
            _ => false,
        }
    }

    /// The pattern that reads values of this shape in an order of the date fields.
    ///
    /// `loose` reads days, months and hours of one digit as well as of two; `fraction_digits` is the
    /// most that were seen.
    pub fn pattern(
        &self,
        order: Order,
        loose: bool,
        fraction_digits: u8,
        zone_letters: u8,
    ) -> String {
        let mut pattern = String::new();
        if let Some((date, glue)) = self.date {
            let separator = char::from(date.separator);
            let (month, day) = if loose { ("M", "d") } else { ("MM", "dd") };
            let year = if date.digits.contains(&4) { "yyyy" } else { "yy" };
            let fields = match order {
                Order::Ymd => [year, month, day],
                Order::Dmy => [day, month, year],
                Order::Mdy => [month, day, year],
            };
            pattern.push_str(&fields.join(separator.encode_utf8(&mut [0; 4])));
            match glue {
                Some(Glue::T) => pattern.push_str("'T'"),
                Some(Glue::Space) => pattern.push(' '),
                None => {}
            }
        }
        if let Some(time) = self.time {
            pattern.push_str(if loose { "H:mm" } else { "HH:mm" });
            if time.seconds {
                pattern.push_str(":ss");
            }
            if let Some(mark) = time.fraction {
                pattern.push(char::from(mark));
                pattern.extend(std::iter::repeat_n('S', usize::from(fraction_digits.max(1))));
            }
        }
        if let Some(zone) = self.zone {
            if zone.space {
                pattern.push(' ');
            }
            pattern.extend(std::iter::repeat_n('X', usize::from(zone_letters.max(1))));
        }
        pattern
    }

    /// Whether a field has one digit where two are usual, so that only a loose pattern reads it.
    pub fn is_short(&self) -> bool {
        self.date.is_some_and(|(date, _)| date.digits.contains(&1))
            || self.time.is_some_and(|time| time.hour_digits == 1)
    }

    /// This shape with every short field made two digits long: what it has in common with the others
    /// of its style.
    pub fn widened(mut self) -> Shape {
        if let Some((date, _)) = &mut self.date {
            for digits in &mut date.digits {
                *digits = (*digits).max(2);
            }
        }
        if let Some(time) = &mut self.time {
            time.hour_digits = 2;
        }
        self
    }
}

impl Shaped {
    /// Year, month and day in an order, if that day exists. Two-digit years fall in the hundred years
    /// from `pivot` on.
    #[inline]
    pub fn date(&self, order: Order, pivot: i32) -> Option<(i32, u32, u32)> {
        let (shape, _) = self.shape.date?;
        let [a, b, c] = self.fields;
        let ((year, digits), month, day) = match order {
            Order::Ymd => ((a, shape.digits[0]), b, c),
            Order::Dmy => ((c, shape.digits[2]), b, a),
            Order::Mdy => ((c, shape.digits[2]), a, b),
        };
        let year = match digits {
            2 => pivot + (i32::from(year) - pivot).rem_euclid(100),
            _ => i32::from(year),
        };
        let (month, day) = (u32::from(month), u32::from(day));
        let exists =
            year >= 1 && (1..=12).contains(&month) && day >= 1 && day <= days_in_month(year, month);
        exists.then_some((year, month, day))
    }
}

/// One or two digits, then what follows.
#[inline]
fn short_number(bytes: &[u8]) -> Option<(u16, u8, &[u8])> {
    match bytes {
        [a @ b'0'..=b'9', b @ b'0'..=b'9', rest @ ..] => {
            Some((u16::from(a - b'0') * 10 + u16::from(b - b'0'), 2, rest))
        }
        [a @ b'0'..=b'9', rest @ ..] => Some((u16::from(a - b'0'), 1, rest)),
        _ => None,
    }
}

/// Two or four digits, or one, as long as the run of digits is.
#[inline]
fn field(bytes: &[u8]) -> Option<(u16, u8, &[u8])> {
    if let [a @ b'0'..=b'9', b @ b'0'..=b'9', c @ b'0'..=b'9', d @ b'0'..=b'9', rest @ ..] = bytes {
        let digit = |byte: &u8| u16::from(byte - b'0');
        return Some((digit(a) * 1000 + digit(b) * 100 + digit(c) * 10 + digit(d), 4, rest));
    }
    short_number(bytes)
}

/// Looks at a value as a date, a time, or both. `None` where it has no such shape, or where a time of
/// day does not exist; whether the *day* exists depends on the order and is not judged here.
pub fn read_shape(value: &[u8]) -> Option<Shaped> {
    if !value.first()?.is_ascii_digit() || value.len() < 4 || value.len() > 48 {
        return None;
    }
    let mut shaped = Shaped {
        shape: Shape { date: None, time: None, zone: None },
        fields: [0; 3],
        nanos: 0,
        fraction_digits: 0,
        offset: 0,
    };
    let (first, digits, rest) = field(value)?;
    let mut rest = match rest {
        [separator @ (b'-' | b'/' | b'.'), rest @ ..] => {
            let (second, second_digits, rest) = short_number(rest)?;
            let (found, rest) = rest.split_first()?;
            if found != separator {
                return None;
            }
            let (third, third_digits, rest) = field(rest)?;
            shaped.fields = [first, second, third];
            let digits = [digits, second_digits, third_digits];
            let date = DateShape { digits, separator: *separator };
            let (glue, rest) = match rest {
                [] => (None, rest),
                [b'T', rest @ ..] => (Some(Glue::T), rest),
                [b' ', rest @ ..] => (Some(Glue::Space), rest),
                _ => return None,
            };
            shaped.shape.date = Some((date, glue));
            if !Order::ALL.iter().any(|order| shaped.shape.allows(*order)) {
                return None;
            }
            if glue.is_none() {
                return Some(shaped);
            }
            rest
        }
        _ => value,
    };
    rest = read_time(rest, &mut shaped)?;
    read_zone(rest, &mut shaped)?;
    Some(shaped)
}

fn read_time<'v>(bytes: &'v [u8], shaped: &mut Shaped) -> Option<&'v [u8]> {
    let (hour, hour_digits, rest) = short_number(bytes)?;
    let (minute, 2, mut rest) = short_number(rest.strip_prefix(b":")?)? else { return None };
    let mut time = TimeShape { hour_digits, seconds: false, fraction: None };
    let mut second = 0;
    let mut nanos = 0i64;
    if let Some(after) = rest.strip_prefix(b":") {
        let (value, 2, after) = short_number(after)? else { return None };
        second = value;
        time.seconds = true;
        rest = after;
        if let [mark @ (b'.' | b','), after @ ..] = rest {
            let digits = after.iter().take_while(|byte| byte.is_ascii_digit()).count();
            if digits == 0 || digits > 9 {
                return None;
            }
            let number = after[..digits].iter().fold(0, |n, byte| n * 10 + i64::from(byte - b'0'));
            nanos = number * 10i64.pow(9 - digits as u32);
            time.fraction = Some(*mark);
            shaped.fraction_digits = digits as u8;
            rest = &after[digits..];
        }
    }
    if hour > 23 || minute > 59 || second > 59 {
        return None;
    }
    shaped.shape.time = Some(time);
    shaped.nanos = (i64::from(hour) * 3600 + i64::from(minute) * 60 + i64::from(second))
        * 1_000_000_000
        + nanos;
    Some(rest)
}

fn read_zone(bytes: &[u8], shaped: &mut Shaped) -> Option<()> {
    if bytes.is_empty() {
        return Some(());
    }
    shaped.shape.date?;
    let (space, bytes) = match bytes {
        [b' ', rest @ ..] => (true, rest),
        _ => (false, bytes),
    };
    let (letters, offset) = match bytes {
        b"Z" => (0, 0),
        [sign @ (b'+' | b'-'), rest @ ..] => {
            let (hours, 2, rest) = short_number(rest)? else { return None };
            let (letters, minutes) = match rest {
                [] => (1, 0),
                [b':', rest @ ..] if rest.len() == 2 => (3, short_number(rest)?.0),
                _ if rest.len() == 2 => (2, short_number(rest)?.0),
                _ => return None,
            };
            if hours > 18 || minutes > 59 {
                return None;
            }
            let seconds = i32::from(hours) * 3600 + i32::from(minutes) * 60;
            (letters, if *sign == b'-' { -seconds } else { seconds })
        }
        _ => return None,
    };
    shaped.shape.zone = Some(ZoneShape { space, letters });
    shaped.offset = offset;
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shapes_and_the_patterns_that_read_them() {
        for (value, order, pattern) in [
            ("2024-03-01", Order::Ymd, "yyyy-MM-dd"),
            ("03/31/24", Order::Mdy, "MM/dd/yy"),
            ("31.03.2024", Order::Dmy, "dd.MM.yyyy"),
            ("3/1/2024", Order::Mdy, "M/d/yyyy"),
            ("2024-03-01T10:20:30Z", Order::Ymd, "yyyy-MM-dd'T'HH:mm:ssX"),
            ("2024-03-01 10:20:30.1234567 +01:00", Order::Ymd, "yyyy-MM-dd HH:mm:ss.SSSSSSS XXX"),
            ("01.03.2024 9:05", Order::Dmy, "d.M.yyyy H:mm"),
            ("23:59:59", Order::Ymd, "HH:mm:ss"),
            ("2024-03-01T10:20:30+0100", Order::Ymd, "yyyy-MM-dd'T'HH:mm:ssXX"),
        ] {
            let shaped = read_shape(value.as_bytes()).unwrap_or_else(|| panic!("{value}"));
            let shape = shaped.shape;
            let letters = shape.zone.map_or(0, |zone| zone.letters);
            assert_eq!(
                shape.pattern(order, shape.is_short(), shaped.fraction_digits, letters),
                pattern
            );
        }
    }

    #[test]
    fn what_is_no_date() {
        for value in [
            "",
            "2024",
            "2024-03",
            "20240301",
            "1.2.3",
            "192.168.1.1",
            "2024-03-01x",
            "2024-03-01T",
            "24:00",
            "12:60",
            "2024/03-01",
            "1-2-3",
            "123/45/678",
            "10:20+01:00",
            "1:2",
            "2024-03-01 10:20:30.",
        ] {
            assert_eq!(read_shape(value.as_bytes()), None, "{value}");
        }
    }

    #[test]
    fn two_digit_years_fall_in_the_hundred_years_from_the_pivot() {
        for (value, pivot, year) in [
            ("01/01/69", 1969, 1969),
            ("01/01/68", 1969, 2068),
            ("01/01/24", 1900, 1924),
            ("01/01/99", 2000, 2099),
        ] {
            let shaped = read_shape(value.as_bytes()).unwrap();
            assert_eq!(shaped.date(Order::Mdy, pivot), Some((year, 1, 1)), "{value} from {pivot}");
        }
    }

    #[test]
    fn days_that_do_not_exist_are_no_dates() {
        let date = |value: &str, order| read_shape(value.as_bytes()).unwrap().date(order, 1969);
        assert_eq!(date("31.06.2024", Order::Dmy), None);
        assert_eq!(date("29.02.2023", Order::Dmy), None);
        assert_eq!(date("29.02.2024", Order::Dmy), Some((2024, 2, 29)));
        assert_eq!(date("13/01/2024", Order::Mdy), None);
        assert_eq!(date("0000-01-01", Order::Ymd), None);
    }
}
