//! A pattern as people write it → steps, or what is wrong with it and what was likely meant.

use super::counts::Count;
use super::names::{DEFAULT_LOCALE, Form, Named, names};
use super::pattern::{Pattern, Program};
use super::posix;
use super::quick::Quick;
use super::step::{Calendar, Step, StepKind};
use super::symbols::{COUNTS, Field, Kind, symbol};
use super::token::{PatternError, Token, error};

/// The most bytes of a pattern.
const MOST_BYTES: usize = 1_000;

impl Pattern {
    /// Compiles a pattern; names are those of the English language.
    ///
    /// # Errors
    /// A symbol that does not exist, one that stands twice, a date that is not whole.
    pub fn compile(source: &str) -> Result<Pattern, PatternError> {
        compile(source, DEFAULT_LOCALE)
    }

    /// Compiles a pattern whose names are those of a language.
    ///
    /// # Errors
    /// As [`compile`](Self::compile), and a language that there are no names for.
    pub fn compile_in(source: &str, locale: &str) -> Result<Pattern, PatternError> {
        compile(source, locale)
    }
}

/// Compiles a pattern whose names are those of a language.
fn compile(source: &str, locale: &str) -> Result<Pattern, PatternError> {
    let whole = (0, source.len());
    if source.trim().is_empty() {
        return Err(error(whole, "the pattern is empty; write for example yyyy-MM-dd"));
    }
    if source.len() > MOST_BYTES {
        let cut = source.floor_char_boundary(MOST_BYTES);
        let message = format!("the pattern is longer than {MOST_BYTES} bytes, and no date is");
        return Err(error((cut, cut), &message));
    }
    if let Some(count) = Count::named(source) {
        return Ok(Pattern {
            source: source.to_owned(),
            symbols: None,
            has_date: true,
            has_time: count.has_time(),
            has_offset: count.has_offset(),
            fraction_digits: count.fraction_digits(),
            program: Program::Count(count),
        });
    }
    if source.starts_with("epoch") || source.starts_with("sheet") {
        let known = COUNTS.map(|(word, _)| word).join(", ");
        return Err(error(whole, &format!("the words that count are {known}")));
    }
    let mut compiler = Compiler { source, locale, steps: Vec::new(), seen: Vec::new() };
    let symbols = if source.contains('%') {
        let translated = posix::translate(source)?;
        for (token, place) in &translated.tokens {
            compiler.token(*token, *place)?;
        }
        Some(translated.symbols)
    } else {
        compiler.read()?;
        None
    };
    compiler.finish(whole, symbols)
}

/// What was said, by its name, and where in the pattern.
type Seen = (&'static str, (usize, usize));

struct Compiler<'s> {
    source: &'s str,
    locale: &'s str,
    steps: Vec<Step>,
    seen: Vec<Seen>,
}

impl Compiler<'_> {
    /// Reads the pattern as symbols.
    fn read(&mut self) -> Result<(), PatternError> {
        let mut at = 0;
        while let Some(letter) = self.source[at..].chars().next() {
            let rest = &self.source[at..];
            if letter == '\'' {
                at = self.quoted(at)?;
            } else if letter.is_ascii_alphabetic() {
                let run = rest.len() - rest.trim_start_matches(letter).len();
                self.token(Token::Symbol(letter, run), (at, at + run))?;
                at += run;
            } else {
                self.token(Token::Literal(letter), (at, at + letter.len_utf8()))?;
                at += letter.len_utf8();
            }
        }
        Ok(())
    }

    fn quoted(&mut self, start: usize) -> Result<usize, PatternError> {
        if self.source[start..].starts_with("''") {
            self.literal('\'', (start, start + 2));
            return Ok(start + 2);
        }
        let mut chars = self.source[start + 1..].char_indices().peekable();
        while let Some((offset, letter)) = chars.next() {
            let at = start + 1 + offset;
            if letter != '\'' {
                self.literal(letter, (at, at + letter.len_utf8()));
            } else if chars.next_if(|(_, next)| *next == '\'').is_some() {
                self.literal('\'', (at, at + 2));
            } else {
                return Ok(at + 1);
            }
        }
        Err(error((start, self.source.len()), "the quote that opens here is never closed"))
    }

    /// Adds a literal to the one before, if there is one.
    fn literal(&mut self, letter: char, place: (usize, usize)) {
        match self.steps.last_mut() {
            Some(Step { kind: StepKind::Literal(text), place: known }) => {
                *text = format!("{text}{letter}").into();
                known.1 = place.1;
            }
            _ => {
                let kind = StepKind::Literal(letter.to_string().into());
                self.steps.push(Step { kind, place });
            }
        }
    }

    fn token(&mut self, token: Token, place: (usize, usize)) -> Result<(), PatternError> {
        let (letter, run) = match token {
            Token::Literal(letter) => {
                self.literal(letter, place);
                return Ok(());
            }
            Token::Symbol(letter, run) => (letter, run),
            Token::AnyName(field) => {
                self.see(field.name(), place, ' ')?;
                let named = if field == Field::Month { Named::Month } else { Named::Weekday };
                return self.name(field, named, Form::Any, place);
            }
        };
        let Some(symbol) = symbol(letter, run) else {
            return Err(error(place, &advice(letter, run)));
        };
        let number = |field, least, most| StepKind::Number { field, least, most, reserve: 0 };
        let (name, kind) = match symbol.kind {
            Kind::Number(field, least, most) => (field.name(), number(field, least, most)),
            Kind::Name(field, named, form) => {
                self.see(field.name(), place, letter)?;
                return self.name(field, named, form, place);
            }
            Kind::QuarterWord => {
                self.literal('Q', place);
                (Field::Quarter.name(), number(Field::Quarter, 1, 1))
            }
            Kind::Fraction => ("fraction", StepKind::Fraction { most: run as u8 }),
            Kind::Offset(form) => ("offset", StepKind::Offset(form)),
            Kind::ZoneId => ("offset", StepKind::ZoneId),
            Kind::ZoneName => ("offset", StepKind::ZoneName),
        };
        self.see(name, place, letter)?;
        self.steps.push(Step { kind, place });
        Ok(())
    }

    fn name(
        &mut self,
        field: Field,
        named: Named,
        form: Form,
        place: (usize, usize),
    ) -> Result<(), PatternError> {
        let names = names(self.locale, named, form).map_err(|message| error(place, &message))?;
        self.steps.push(Step { kind: StepKind::Name { field, names, point: true }, place });
        Ok(())
    }

    /// Notes that something is said, which it may be once.
    fn see(
        &mut self,
        name: &'static str,
        place: (usize, usize),
        letter: char,
    ) -> Result<(), PatternError> {
        if let Some((_, first)) = self.seen.iter().find(|(seen, _)| *seen == name) {
            let hint = match letter {
                'm' => "; months are 'MM'",
                'M' => "; minutes are 'mm'",
                _ => "",
            };
            let first = self.source[..first.0].chars().count() + 1;
            let message =
                format!("the {name} stands here a second time, first at character {first}{hint}");
            return Err(error(place, &message));
        }
        self.seen.push((name, place));
        Ok(())
    }

    fn place(&self, name: &str) -> Option<(usize, usize)> {
        self.seen.iter().find(|(seen, _)| *seen == name).map(|(_, at)| *at)
    }

    fn finish(
        mut self,
        whole: (usize, usize),
        symbols: Option<String>,
    ) -> Result<Pattern, PatternError> {
        let calendar = self.calendar(whole)?;
        let hour = self.place("hour");
        let [minute, second, fraction, offset] =
            ["minute", "second", "fraction", "offset"].map(|name| self.place(name));
        if calendar == Calendar::None && hour.is_none() {
            return Err(error(whole, "there is neither a date nor an hour in this pattern"));
        }
        for (part, at, needs, needed) in [
            ("minute", minute, hour, "hour"),
            ("second", second, minute, "minute"),
            ("fraction", fraction, second, "second"),
            ("offset", offset, hour, "hour"),
        ] {
            if let (Some(at), None) = (at, needs) {
                return Err(error(at, &format!("a {part} without the {needed} says nothing")));
            }
        }
        self.halves(hour)?;
        self.neighbours();
        let fraction = self.steps.iter().find_map(|step| match step.kind {
            StepKind::Fraction { most } => Some(most),
            _ => None,
        });
        let quick = match calendar {
            Calendar::None | Calendar::Civil => Quick::of(&self.steps),
            _ => None,
        };
        Ok(Pattern {
            source: self.source.to_owned(),
            symbols,
            has_date: calendar != Calendar::None,
            has_time: hour.is_some(),
            has_offset: offset.is_some(),
            fraction_digits: fraction.unwrap_or(0),
            program: Program::Steps { steps: self.steps, calendar, quick },
        })
    }

    /// By which numbers the day is said.
    fn calendar(&self, whole: (usize, usize)) -> Result<Calendar, PatternError> {
        let [year, month, day, ordinal, quarter, week_year, week, weekday] = [
            "year",
            "month",
            "day",
            "day of the year",
            "quarter",
            "year of the week",
            "week",
            "weekday",
        ]
        .map(|name| self.place(name));
        let (minute, hour) = (self.place("minute"), self.place("hour"));
        if let (Some(_), None, Some(minute), None, None) = (year, month, minute, hour, ordinal) {
            return Err(error(minute, "'mm' are minutes; did you mean 'MM' for the month?"));
        }
        let ways = [
            (month.or(day), Calendar::Civil, "month and day"),
            (ordinal, Calendar::Ordinal, "the day of the year"),
            (quarter, Calendar::Quarter, "the quarter"),
            (week, Calendar::Week, "the week"),
        ];
        let mut said = ways.iter().filter_map(|(at, way, name)| Some(((*at)?, *way, *name)));
        let first = said.next();
        if let (Some((_, _, first)), Some((at, _, second))) = (first, said.next()) {
            return Err(error(at, &format!("the day is set twice: by {first} and by {second}")));
        }
        let missing = |parts: &str| {
            Err(error(whole, &format!("this is not a whole date: the {parts} is missing")))
        };
        match first {
            Some((_, Calendar::Week, _)) => match (week_year, year) {
                (Some(_), None) => Ok(Calendar::Week),
                (_, Some(year)) => Err(error(
                    year,
                    "a week belongs to the year that weeks are counted in: write YYYY",
                )),
                (None, None) => missing("year of the week (YYYY)"),
            },
            _ if week_year.is_some() => {
                let at = week_year.unwrap_or(whole);
                Err(error(
                    at,
                    "'Y' is the year that ISO weeks are counted in; write yyyy or yy for the year",
                ))
            }
            Some((_, Calendar::Civil, _)) => {
                let parts = [("year", year), ("month", month)];
                let gaps: Vec<_> =
                    parts.iter().filter(|(_, at)| at.is_none()).map(|(name, _)| *name).collect();
                if gaps.is_empty() { Ok(Calendar::Civil) } else { missing(&gaps.join(" and the ")) }
            }
            Some(_) if year.is_none() => missing("year"),
            Some((_, way, _)) => Ok(way),
            None if year.is_some() => Ok(Calendar::Civil),
            None => match weekday {
                Some(at) => Err(error(at, "a weekday without the day says nothing")),
                None => Ok(Calendar::None),
            },
        }
    }

    /// Hours from 1 to 12 need AM or PM.
    fn halves(&self, hour: Option<(usize, usize)>) -> Result<(), PatternError> {
        let half = self.place("AM or PM");
        let is_half = |step: &Step| {
            let of_half = [Field::HourTo12, Field::HourTo11];
            matches!(step.kind, StepKind::Number { field, .. } if of_half.contains(&field))
        };
        match (hour, half) {
            (Some(hour), None) if self.steps.iter().any(is_half) => Err(error(
                hour,
                "an hour of half a day needs 'a' for AM or PM; did you mean HH, from 0 to 23?",
            )),
            (None, Some(half)) => Err(error(half, "AM or PM without the hour says nothing")),
            _ => Ok(()),
        }
    }

    /// What a step has to know of those behind it: digits that are not its own, a point that is not.
    fn neighbours(&mut self) {
        for at in 0..self.steps.len() {
            let (step, behind) = self.steps[at..].split_first_mut().expect("there is a step");
            let is_point = |step: &Step| matches!(&step.kind, StepKind::Literal(text) if text.starts_with('.'));
            match &mut step.kind {
                StepKind::Name { point, .. } => *point = !behind.first().is_some_and(is_point),
                StepKind::Number { reserve, .. } => {
                    let fixed = behind.iter().map_while(|step| match step.kind {
                        StepKind::Number { least, most, .. } if least == most => Some(most),
                        _ => None,
                    });
                    *reserve = fixed.sum();
                }
                _ => {}
            }
        }
    }
}

fn advice(letter: char, run: usize) -> String {
    let written: String = std::iter::repeat_n(letter, run).collect();
    let meant = match letter {
        'y' | 'u' => "a year is 'yyyy' or 'yy'",
        'Y' => "the year that weeks are counted in is 'YYYY'",
        'T' => "write 'T' in quotes for the letter itself",
        'Z' => "write XXX for an offset such as +01:00, or 'Z' in quotes for the letter itself",
        'z' | 'v' | 'V' | 'O' => {
            "write VV for the name of a zone, z for its abbreviation, XXX for an offset"
        }
        'X' | 'x' => "an offset has one to three letters",
        'f' | 'F' | 'A' | 'n' | 'N' => "write S for each digit of a fraction",
        'M' | 'L' => "a month is M, MM, MMM or MMMM; one letter would mean several months",
        'E' | 'c' => "a weekday is EEE or EEEE, and e as a number",
        'e' => "a weekday is e as a number, EEE or EEEE as a name",
        'D' => "a day of the year is D or DDD, a day of the month d or dd",
        'Q' | 'q' => "a quarter is Q, QQ or QQQ",
        'd' | 'H' | 'h' | 'k' | 'K' | 'm' | 's' | 'w' => "write one or two of this letter",
        'S' => "write at most nine S",
        'a' | 'b' | 'B' => "AM and PM are 'a'",
        'i' | 'I' => "write mm for minutes",
        'G' => "years are those of the common era, and no era is read",
        _ => "letters that stand for themselves are written in 'quotes'",
    };
    format!("'{written}' is not a supported symbol: {meant}")
}
