//! A pattern as people write it → steps, or what is wrong with it and what was likely meant.

use super::fixed::Fixed;
use super::pattern::{Part, Pattern, PatternError, Step};

/// Compiles a pattern.
pub(super) fn compile(source: &str) -> Result<Pattern, PatternError> {
    Compiler { source, steps: Vec::new(), seen: Vec::new() }.run()
}

struct Compiler<'s> {
    source: &'s str,
    steps: Vec<Step>,
    /// Names of the parts seen, with their place.
    seen: Vec<(&'static str, (usize, usize))>,
}

impl Compiler<'_> {
    fn run(mut self) -> Result<Pattern, PatternError> {
        let whole = (0, self.source.len());
        if self.source.trim().is_empty() {
            return Err(error(whole, "the pattern is empty; write for example yyyy-MM-dd"));
        }
        if let Some(at) = self.source.find('%') {
            let hint = "patterns are written in letters: yyyy for %Y, MM for %m, dd for %d, HH:mm:ss for %H:%M:%S";
            return Err(error((at, at + 1), hint));
        }
        let mut at = 0;
        while let Some(letter) = self.source[at..].chars().next() {
            let rest = &self.source[at..];
            if letter == '\'' {
                at = self.quoted(at)?;
            } else if letter.is_ascii_alphabetic() {
                let run = rest.len() - rest.trim_start_matches(letter).len();
                self.symbol(letter, run, (at, at + run))?;
                at += run;
            } else {
                self.steps.push(Step::Literal(letter));
                at += letter.len_utf8();
            }
        }
        self.finish(whole)
    }

    fn quoted(&mut self, start: usize) -> Result<usize, PatternError> {
        if self.source[start..].starts_with("''") {
            self.steps.push(Step::Literal('\''));
            return Ok(start + 2);
        }
        let mut chars = self.source[start + 1..].char_indices().peekable();
        while let Some((offset, letter)) = chars.next() {
            if letter != '\'' {
                self.steps.push(Step::Literal(letter));
            } else if chars.next_if(|(_, next)| *next == '\'').is_some() {
                self.steps.push(Step::Literal('\''));
            } else {
                return Ok(start + 1 + offset + 1);
            }
        }
        Err(error((start, self.source.len()), "the quote that opens here is never closed"))
    }

    fn symbol(&mut self, letter: char, run: usize, at: (usize, usize)) -> Result<(), PatternError> {
        let number = |part: Part| Step::Number { part, loose: run == 1 };
        let (name, step) = match (letter, run) {
            ('y' | 'u', 4) => ("year", Step::Year),
            ('y', 2) => ("year", Step::ShortYear),
            ('y' | 'u', _) => return Err(error(at, "a year is 'yyyy' or 'yy'")),
            ('M', 1 | 2) => ("month", number(Part::Month)),
            ('d', 1 | 2) => ("day", number(Part::Day)),
            ('H', 1 | 2) => ("hour", number(Part::Hour)),
            ('m', 1 | 2) => ("minute", number(Part::Minute)),
            ('s', 1 | 2) => ("second", number(Part::Second)),
            ('S', 1..=9) => ("fraction", Step::Fraction { most: run as u8 }),
            ('X' | 'x', 1..=3) => {
                ("offset", Step::Offset { letters: run as u8, zulu: letter == 'X' })
            }
            _ => return Err(error(at, &self.advice(letter, run))),
        };
        if let Some((_, first)) = self.seen.iter().find(|(seen, _)| *seen == name) {
            let hint = match letter {
                'm' => "; months are 'MM'",
                'M' => "; minutes are 'mm'",
                _ => "",
            };
            let message = format!(
                "the {name} stands here a second time, first at character {}{hint}",
                first.0 + 1
            );
            return Err(error(at, &message));
        }
        self.seen.push((name, at));
        self.steps.push(step);
        Ok(())
    }

    fn advice(&self, letter: char, run: usize) -> String {
        let written: String = std::iter::repeat_n(letter, run).collect();
        let meant = match letter {
            'Y' => "yyyy or yy for the year",
            'D' => "dd for the day of the month",
            'h' | 'k' | 'K' => "HH for an hour from 0 to 23",
            'T' => "'T' in quotes for the letter itself",
            'Z' | 'z' => "XXX for an offset such as +01:00, or 'Z' in quotes for the letter itself",
            'f' | 'F' => "S for each digit of a fraction",
            'M' | 'd' | 'H' | 'm' | 's' => "one or two of this letter",
            'S' => "at most nine S",
            'n' | 'i' => "mm for minutes",
            _ => "letters that stand for themselves in 'quotes'",
        };
        format!("'{written}' is no symbol that is read; write {meant}")
    }

    fn place(&self, name: &str) -> Option<(usize, usize)> {
        self.seen.iter().find(|(seen, _)| *seen == name).map(|(_, at)| *at)
    }

    fn finish(self, whole: (usize, usize)) -> Result<Pattern, PatternError> {
        let [year, month, day, hour, minute, second, fraction, offset] =
            ["year", "month", "day", "hour", "minute", "second", "fraction", "offset"]
                .map(|name| self.place(name));
        let has_date = year.is_some() || month.is_some() || day.is_some();
        if let (Some(year), None, Some(minute), None) = (year, month, minute, hour) {
            let _ = year;
            return Err(error(minute, "'mm' are minutes; did you mean 'MM' for the month?"));
        }
        if has_date && (year.is_none() || month.is_none() || day.is_none()) {
            let missing: Vec<_> = [("year", year), ("month", month), ("day", day)]
                .into_iter()
                .filter_map(|(name, at)| at.is_none().then_some(name))
                .collect();
            return Err(error(
                whole,
                &format!("this is no whole date: the {} is missing", missing.join(" and the ")),
            ));
        }
        if !has_date && hour.is_none() {
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
        let fraction_digits = self
            .steps
            .iter()
            .find_map(|s| if let Step::Fraction { most } = s { Some(*most) } else { None });
        Ok(Pattern {
            source: self.source.to_owned(),
            has_date,
            has_time: hour.is_some(),
            has_offset: offset.is_some(),
            fraction_digits: fraction_digits.unwrap_or(0),
            fixed: Fixed::of(&self.steps),
            steps: self.steps,
        })
    }
}

fn error(at: (usize, usize), message: &str) -> PatternError {
    PatternError { at, message: message.to_owned() }
}
