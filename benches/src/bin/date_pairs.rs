//! Random pairs of a date pattern and a value, and what Typhos makes of each, for another implementation
//! of the same symbols to judge: `scripts/judge-dates`.
//!
//! Usage: `date_pairs [COUNT] [SEED]`. A line is a language tag, a pattern, a value, and `no` or days since
//! 1970, nanoseconds of the day and seconds of the offset (`-` for none), with tabs between them. Where the
//! documents say that Typhos deviates from the standard, no pair is made: fractions are as long as their
//! letters, numbers have as many digits as their symbol, loose ones are not followed by digits, names are
//! those within a date, without a point.

use std::io::{BufWriter, Write};

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};
use typhos_core::dates::{Form, Named, Pattern, ReadOptions, names};

struct Dice(ChaCha8Rng);

impl Dice {
    fn below(&mut self, end: usize) -> usize {
        ((u64::from(self.0.next_u32()) * end as u64) >> 32) as usize
    }

    fn pick<'t>(&mut self, things: &[&'t str]) -> &'t str {
        things[self.below(things.len())]
    }

    /// A number below `end`, in at least so many digits.
    fn number(&mut self, end: usize, digits: usize) -> String {
        format!("{:0digits$}", self.below(end))
    }
}

/// Parts that together say a day, in an order.
const DAYS: [&[&str]; 12] = [
    &["yyyy", "MM", "dd"],
    &["dd", "MM", "yyyy"],
    &["MM", "dd", "yy"],
    &["d", "M", "uuuu"],
    &["M", "d", "y"],
    &["d", "MMM", "yyyy"],
    &["MMMM", "d", "yyyy"],
    &["EEE", "dd", "MMM", "yyyy"],
    &["EEEE", "MMMM", "dd", "u"],
    &["uuuu", "DDD"],
    &["YYYY", "ww", "e"],
    &["QQQ", "yyyy"],
];

const TIMES: [&[&str]; 9] = [
    &[],
    &["HH", "mm"],
    &["HH", "mm", "ss"],
    &["H", "mm", "ss", "S"],
    &["hh", "mm", "a"],
    &["h", "mm", "ss", "a"],
    &["KK", "mm", "a"],
    &["kk", "mm", "ss"],
    &["HH", "a"],
];

const OFFSETS: [&str; 13] =
    ["", "", "", "X", "XX", "XXX", "x", "xx", "xxx", "Z", "ZZZ", "ZZZZZ", "VV"];

const ZONES: [&str; 4] = ["Europe/Oslo", "Asia/Tokyo", "America/New_York", "UTC"];

#[expect(clippy::print_stderr, reason = "a tool tells what is wrong")]
fn main() -> std::io::Result<()> {
    let mut numbers = std::env::args().skip(1).filter_map(|word| word.parse::<u64>().ok());
    let count = numbers.next().unwrap_or(200_000);
    let mut dice = Dice(ChaCha8Rng::seed_from_u64(numbers.next().unwrap_or(1)));
    let mut out = BufWriter::new(std::io::stdout().lock());
    let options = ReadOptions { pivot: 2000, ..ReadOptions::default() };
    for _ in 0..count {
        let (locale, source, value) = pair(&mut dice);
        let Ok(pattern) = Pattern::compile_in(&source, locale) else {
            eprintln!("'{source}' is not a pattern");
            std::process::exit(1);
        };
        let read = match pattern.read(value.as_bytes(), &options) {
            Ok(moment) => {
                let offset = moment.offset.map_or("-".to_owned(), |offset| offset.to_string());
                format!("{} {} {offset}", moment.days, moment.nanos)
            }
            Err(_) => "no".to_owned(),
        };
        writeln!(out, "{locale}\t{source}\t{value}\t{read}")?;
    }
    out.flush()
}

fn pair(dice: &mut Dice) -> (&'static str, String, String) {
    let day = DAYS[dice.below(DAYS.len())];
    let time = TIMES[dice.below(TIMES.len())];
    // Weeks are those of ISO where Britain counts them.
    let locale = if day.contains(&"ww") { "en-GB" } else { "en" };
    let (mut source, mut value) =
        parts(dice, day, &["-", "/", ".", " ", ", ", "'of'", "_"], locale);
    if !time.is_empty() {
        let glue = dice.pick(&["'T'", " ", ", ", " 'at' "]);
        let (pattern, text) = parts(dice, time, &[":", ".", "'h'"], locale);
        source.extend([glue, &pattern]);
        value.extend([&*glue.replace('\'', ""), &text]);
        let offset = dice.pick(&OFFSETS);
        if !offset.is_empty() {
            source.push(' ');
            value.push(' ');
            source.push_str(offset);
            value.push_str(&written(dice, offset, 1, locale));
        }
    }
    if dice.below(3) == 0 && !source.contains("VV") {
        // Where fewer digits or more of them would be a deviation, no digit is added or taken away.
        let is_exact = source.split(|c: char| !c.is_ascii_alphabetic()).all(|symbol| {
            symbol.len() > 1 && !symbol.starts_with('S') || matches!(symbol, "" | "e" | "T")
        });
        spoil(dice, &mut value, is_exact);
    }
    (locale, source, value)
}

/// Symbols with one separator between them, and something that they read, or nearly.
fn parts(dice: &mut Dice, symbols: &[&str], separators: &[&str], locale: &str) -> (String, String) {
    let (mut pattern, mut text) = (String::new(), String::new());
    let separator = dice.pick(separators);
    for (at, symbol) in symbols.iter().enumerate() {
        // A fraction stands behind its mark, and AM and PM behind a space.
        let between = match *symbol {
            _ if at == 0 => "",
            "S" => ".",
            "a" => " ",
            _ => separator,
        };
        let letters = if *symbol == "S" { 1 + dice.below(9) } else { 1 };
        pattern.push_str(between);
        text.push_str(&between.replace('\'', ""));
        pattern.push_str(&symbol.repeat(letters));
        text.push_str(&written(dice, symbol, letters, locale));
    }
    (pattern, text)
}

/// Something that a symbol reads, or nearly.
fn written(dice: &mut Dice, symbol: &str, letters: usize, locale: &str) -> String {
    match symbol {
        "yyyy" | "uuuu" | "YYYY" => format!("{:04}", 1 + dice.below(9999)),
        "y" | "u" => (1 + dice.below(9999)).to_string(),
        "yy" => dice.number(100, 2),
        "MM" => dice.number(14, 2),
        "M" => dice.number(14, 1),
        "dd" => dice.number(33, 2),
        "d" => dice.number(33, 1),
        "DDD" => dice.number(368, 3),
        "ww" => dice.number(55, 2),
        "e" => dice.number(9, 1),
        "QQQ" => format!("Q{}", dice.below(6)),
        "HH" | "kk" => dice.number(26, 2),
        "H" => dice.number(26, 1),
        "hh" | "KK" => dice.number(14, 2),
        "h" => dice.number(14, 1),
        "mm" | "ss" => dice.number(62, 2),
        "S" => (0..letters).map(|_| char::from(b'0' + dice.below(10) as u8)).collect(),
        "a" => dice.pick(&["AM", "PM", "am", "pm"]).to_owned(),
        "MMM" => name(dice, Named::Month, Form::Short, locale),
        "MMMM" => name(dice, Named::Month, Form::Long, locale),
        "EEE" => name(dice, Named::Weekday, Form::Short, locale),
        "EEEE" => name(dice, Named::Weekday, Form::Long, locale),
        "VV" => dice.pick(&ZONES).to_owned(),
        _ => {
            let zulu = symbol.starts_with('X') || symbol == "ZZZZZ";
            if zulu && dice.below(4) == 0 {
                return "Z".to_owned();
            }
            let sign = dice.pick(&["+", "-"]);
            let minutes = dice.number(62, 2);
            // That library reads no minutes behind the two zeros of an 'x'.
            let hours = match symbol {
                "x" => format!("{:02}", 1 + dice.below(19)),
                _ => dice.number(20, 2),
            };
            match symbol {
                "XXX" | "xxx" | "ZZZZZ" => format!("{sign}{hours}:{minutes}"),
                "X" | "x" if dice.below(2) == 0 => format!("{sign}{hours}"),
                _ => format!("{sign}{hours}{minutes}"),
            }
        }
    }
}

fn name(dice: &mut Dice, named: Named, form: Form, locale: &str) -> String {
    let Ok(names) = names(locale, named, form) else { return String::new() };
    // 'Sept' beside 'Sep' is a deviation that is listed.
    let all: Vec<&str> =
        names.iter().map(|(name, _)| name).filter(|name| *name != "sept").collect();
    let name = dice.pick(&all);
    match dice.below(3) {
        0 => name.to_owned(),
        1 => name.to_uppercase(),
        _ => name[..1].to_uppercase() + &name[1..],
    }
}

/// Changes, drops or adds a letter.
fn spoil(dice: &mut Dice, value: &mut String, is_exact: bool) {
    let letters: &[&str] =
        if is_exact { &["0", "1", "9", "x", " ", "-", ":", "3"] } else { &["x", ":", "%"] };
    let letter = dice.pick(letters);
    let at = dice.below(value.len());
    match if is_exact { dice.below(3) } else { 0 } {
        0 => value.replace_range(at..=at, letter),
        1 => value.replace_range(at..=at, ""),
        _ => value.insert_str(at, letter),
    }
}
