//! Surveys of parts of an input, put together to the survey of the whole.
//!
//! A part that begins in the middle of a file counts lines from there, and took for granted where its first record
//! starts ([`Part`]). In the order of the parts both are settled: each has to have begun where the one before
//! ended, and its lines come behind those of that. Where one did not, it is said which has to be surveyed again, and from
//! which byte.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use super::SurveyHead;
use super::pool::{PoolError, Step};
use crate::text::{Input, Part, ReadPiece, Whole};

/// What part of an input a survey is of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartOf {
    /// Which one.
    pub part: Part,
    /// Of what.
    pub whole: Whole,
    /// What was read, in the order of the input.
    pub pieces: Vec<ReadPiece>,
}

impl PartOf {
    /// The part that an input is narrowed to, once it was read.
    pub fn read(input: &Input) -> Option<PartOf> {
        let (part, whole) = input.part()?;
        Some(PartOf { part, whole: whole.clone(), pieces: input.read_pieces() })
    }
}

/// How far a file is covered by the parts so far.
#[derive(Clone, Copy)]
struct Covered {
    to: u64,
    lines: u64,
    is_end: bool,
    by: Part,
}

/// What is known of a whole from its parts, one after another.
#[derive(Default)]
struct Chain {
    files: HashMap<u64, Covered>,
}

impl Chain {
    /// Adds a part; returns the lines before what it has of its first file. Nothing is added of one that does not fit.
    fn add(&mut self, read: &PartOf) -> Result<u64, PoolError> {
        for piece in &read.pieces {
            let known = self.files.get(&piece.file);
            let fits = match known {
                // Lines that are held back at the end of a file may be the share of several parts.
                Some(covered) if covered.is_end => piece.began == piece.ended,
                Some(covered) => piece.began == covered.to,
                None => piece.is_start,
            };
            if !fits {
                return Err(PoolError::Begin {
                    part: read.part,
                    file: piece.name.clone(),
                    began: piece.began,
                    before: known.map(|covered| (covered.by, covered.to)),
                });
            }
        }
        let mut before = 0;
        for piece in &read.pieces {
            let known = self.files.get(&piece.file);
            let lines = known.filter(|_| !piece.is_start).map_or(0, |covered| covered.lines);
            // Only the first piece of a part can begin in the middle of a file.
            before += lines;
            if known.is_none_or(|covered| !covered.is_end) {
                let covered = Covered {
                    to: piece.ended,
                    lines: lines.saturating_add(piece.lines),
                    is_end: piece.is_end,
                    by: read.part,
                };
                self.files.insert(piece.file, covered);
            }
        }
        Ok(before)
    }
}

impl PartOf {
    /// The order of parts, from the first to the last, and the lines before each of them. Where a part was read more
    /// than once, the one that fits is taken.
    ///
    /// # Errors
    /// Parts of different wholes, parts that are missing, and parts that begin elsewhere than the ones before them end.
    pub fn chain(parts: &[&PartOf]) -> Result<Vec<(usize, u64)>, PoolError> {
        let first = parts.first().ok_or(PoolError::NotTheWhole)?;
        let is_other =
            |of: &&&PartOf| (of.part.count(), &of.whole) != (first.part.count(), &first.whole);
        if let Some(other) = parts.iter().find(is_other) {
            return Err(PoolError::OtherWhole { one: first.part, other: other.part });
        }
        let mut by_number: HashMap<u32, Vec<usize>> = HashMap::new();
        for (at, of) in parts.iter().enumerate() {
            by_number.entry(of.part.number()).or_default().push(at);
        }
        let count = first.part.count();
        let missing = (1..=count).filter(|number| !by_number.contains_key(number));
        let missing: Vec<Part> = missing.filter_map(|number| Part::new(number, count)).collect();
        if !missing.is_empty() {
            return Err(PoolError::Missing(missing));
        }
        let mut chain = Chain::default();
        let mut order = Vec::new();
        for number in 1..=count {
            let mut failed = None;
            let fits = by_number[&number].iter().find_map(|at| match chain.add(parts[*at]) {
                Ok(lines) => Some((*at, lines)),
                Err(error) => {
                    failed = Some(error);
                    None
                }
            });
            order.push(fits.ok_or_else(|| failed.expect("there is one, and it does not fit"))?);
        }
        // In the order of the input, every file to its end.
        let pieces = order.iter().flat_map(|(at, _)| &parts[*at].pieces);
        let mut files: Vec<(u64, &str, u64)> =
            pieces.map(|piece| (piece.file, &piece.name[..], piece.bytes)).collect();
        files.sort_unstable();
        files.dedup();
        let whole = Whole::of_files(files.iter().map(|(_, name, bytes)| (*name, *bytes)));
        let is_all = whole == first.whole && chain.files.values().all(|covered| covered.is_end);
        is_all.then_some(order).ok_or(PoolError::NotTheWhole)
    }
}

/// The same of surveys, which have to be of files that are read in the same way, too.
pub(super) fn chain(heads: &[SurveyHead]) -> Result<Vec<(usize, u64)>, PoolError> {
    let parts: Option<Vec<&PartOf>> = heads.iter().map(|head| head.part.as_ref()).collect();
    let parts = parts.ok_or(PoolError::PartsAndWholes)?;
    let layout = &heads[0].source.layout;
    let is_other = |head: &SurveyHead| !head.source.layout.is_of_one_input(layout);
    let other = parts.iter().zip(heads).find(|(_, head)| is_other(head));
    if let Some((other, _)) = other {
        return Err(PoolError::OtherWhole { one: parts[0].part, other: other.part });
    }
    PartOf::chain(&parts)
}

impl SurveyHead {
    /// The place of a file among those of the survey.
    fn place_of(&self, name: &str) -> Option<usize> {
        self.source.files.binary_search_by(|file| file.name.as_str().cmp(name)).ok()
    }
}

impl Step {
    /// The lines before what a survey has of its first file, by the place of that among its files.
    pub(super) fn behind(head: &SurveyHead, lines: u64) -> Option<(u32, u64)> {
        let first = head.part.as_ref()?.pieces.first().filter(|_| lines > 0)?;
        Some((head.place_of(&first.name)? as u32, lines))
    }
}

#[cfg(test)]
mod tests {
    use std::num::NonZeroUsize;
    use std::sync::Arc;

    use proptest::option::of;
    use proptest::prelude::*;

    use super::super::{Survey, SurveyOptions};
    use super::*;
    use crate::laws::{quoted, value};
    use crate::run::{NoMonitor, RunOptions};
    use crate::text::{Dialect, InputChoice, LineEnds, Memory, Origin};

    fn open(files: &[(String, Vec<u8>)], choice: &InputChoice) -> Option<Input> {
        let origin = |(name, bytes): &(String, Vec<u8>)| -> Arc<dyn Origin> {
            Arc::new(Memory::new(name.clone(), bytes.clone()))
        };
        Input::of(files.iter().map(origin).collect(), Vec::new(), choice).ok()
    }

    fn survey(input: &Input, block_bytes: usize) -> Survey {
        let run = RunOptions { threads: NonZeroUsize::new(2).unwrap(), block_bytes };
        Survey::take(input, &SurveyOptions::default(), &run, &NoMonitor).unwrap()
    }

    fn learn(input: &mut Input) {
        if input.is_json() {
            crate::json::learn(input, &[], &RunOptions::default(), &NoMonitor).unwrap();
        }
    }

    fn saved(survey: &Survey) -> Vec<u8> {
        let mut saved = Vec::new();
        survey.save(&mut saved).unwrap();
        saved
    }

    /// The lines of a saved survey.
    fn lines(survey: &Survey) -> Vec<String> {
        let saved = saved(survey);
        let start = saved.iter().position(|byte| *byte == b'\n').unwrap() + 1;
        let text = String::from_utf8(zstd::decode_all(&saved[start..]).unwrap()).unwrap();
        text.lines().map(str::to_owned).collect()
    }

    fn part(whole: &Input, part: Part, begin: Option<u64>, block_bytes: usize) -> Survey {
        let origins = whole.files().iter().map(|file| file.origin().clone()).collect();
        let mut input = Input::of_part(origins, Vec::new(), whole.choice(), part).unwrap();
        input.take_part(part, begin).unwrap();
        learn(&mut input);
        let taken = survey(&input, block_bytes);
        Survey::load(&saved(&taken)[..]).unwrap()
    }

    /// Surveys all parts, pools them, and surveys those again that the pool asks for.
    fn pooled(whole: &Input, count: u32, block_bytes: usize, turn: usize) -> (Survey, u32) {
        let of = |number| Part::new(number, count).unwrap();
        let mut parts: Vec<Survey> =
            (1..=count).map(|number| part(whole, of(number), None, block_bytes)).collect();
        parts.rotate_left(turn % count as usize);
        for again in 0..=count {
            match Survey::pool(parts.clone()) {
                Ok(survey) => return (survey, again),
                Err(PoolError::Begin { part: wrong, before: Some((_, at)), .. }) => {
                    parts.push(part(whole, wrong, Some(at), block_bytes));
                }
                Err(other) => panic!("{other}"),
            }
        }
        panic!("parts that were begun as they should still do not fit");
    }

    fn row() -> impl Strategy<Value = String> {
        prop_oneof![
            6 => (value(), value()).prop_map(|(a, b)| format!("{},{}", quoted(&a), quoted(&b))),
            3 => (any::<i16>(), any::<i16>()).prop_map(|(a, b)| format!("{a},{b}")),
            2 => proptest::collection::vec("[a-c1-3 ]{0,4}[,\"]?[a-c]{0,2}", 1..7)
                .prop_map(|lines| format!("7,{}", quoted(&lines.join("\n")))),
            1 => Just("# it's a \"comment\", is it".to_owned()),
            1 => Just(String::new()),
            1 => "[a-c,\"\\n]{0,8}",
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(100))]

        /// Any files, cut into any number of parts: pooled they are the whole, to the byte.
        #[test]
        fn parts_pooled_are_the_whole(
            files in proptest::collection::vec(proptest::collection::vec(row(), 1..40), 1..4),
            (above, header, comments, crlf) in any::<(bool, bool, bool, bool)>(),
            (count, turn) in (1u32..9, 0usize..9), block_bytes in 16usize..300, cut in any::<bool>(), skip_end in 0u32..3,
        ) {
            let dialect = Dialect {
                header,
                skip: u32::from(above),
                comment: comments.then_some(b'#'),
                line_ends: if crlf { LineEnds::Mixed } else { LineEnds::Lf },
                ..Dialect::RFC_4180
            };
            let choice = InputChoice {
                names: Some(vec!["a".into(), "b".into()]),
                skip_end: Some(skip_end),
                ..InputChoice::from(dialect)
            };
            let files: Vec<(String, Vec<u8>)> = files.iter().enumerate().map(|(at, rows)| {
                let head = if above { "Skerrow \"Ferries\n" } else { "" };
                let names = if header { "x,y\n" } else { "" };
                let mut text = format!("{head}{names}1,2\n{}\n", rows.join("\n"));
                if crlf {
                    text = text.replace('\n', "\r\n");
                }
                if cut {
                    text.truncate(text.trim_end().len());
                }
                (format!("{}.csv", (at + 1) % 3), text.into_bytes())
            }).collect();
            let Some(whole) = open(&files, &choice) else { return Ok(()) };
            let (pooled, _) = pooled(&whole, count, block_bytes, turn);
            let all = survey(&whole, 1 << 20);
            prop_assert_eq!(pooled.records, all.records);
            prop_assert_eq!(lines(&pooled), lines(&all));
        }
    }

    /// An object with some of a few fields, nested ones among them.
    fn object() -> impl Strategy<Value = String> {
        let fields = (
            of(any::<i16>()),
            of("[a-z]{1,3}"),
            of(of("[ab]")),
            of(0u8..3),
            of("[d-h]"),
            any::<bool>(),
        );
        fields.prop_map(|(number, text, inner, list, name, turned)| {
            let inner =
                inner.map(|key| key.map_or("null".to_owned(), |key| format!("{{\"{key}\": 1}}")));
            let list = list
                .map(|length| (0..length).map(|n| n.to_string()).collect::<Vec<_>>().join(", "));
            let fields = [
                number.map(|n| format!("\"n\": {n}")),
                text.map(|text| format!("\"t\": \"{text}\"")),
                inner.map(|inner| format!("\"inner\": {inner}")),
                list.map(|list| format!("\"list\": [{list}]")),
                name.map(|name| format!("\"{name}\": true")),
            ];
            let mut fields: Vec<String> = fields.into_iter().flatten().collect();
            if turned {
                fields.reverse();
            }
            format!("{{{}}}", fields.join(", "))
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(100))]

        /// Each part knows the names of its own objects only.
        #[test]
        fn parts_of_json_pooled_are_the_whole(
            files in proptest::collection::vec(proptest::collection::vec(object(), 1..30), 1..3), count in 1u32..7, turn in 0usize..7,
        ) {
            let files: Vec<(String, Vec<u8>)> = files.iter().enumerate()
                .map(|(at, lines)| (format!("{at}.ndjson"), (lines.join("\n") + "\n").into_bytes())).collect();
            let choice = InputChoice { format: Some(crate::text::InputFormat::Json), ..InputChoice::default() };
            let Some(mut whole) = open(&files, &choice) else { return Ok(()) };
            let (pooled, again) = pooled(&whole, count, 200, turn);
            prop_assert_eq!(again, 0);
            learn(&mut whole);
            let all = survey(&whole, 1 << 20);
            prop_assert_eq!(&pooled.source.names, &all.source.names);
            prop_assert_eq!(lines(&pooled), lines(&all));
        }
    }

    #[test]
    fn lines_of_text_in_quotes_are_entered_without_a_second_try() {
        let text: String = (0..2000)
            .map(|n| format!("{n},\"it said:\n{n}, and\n\"\"more\"\" of it\n\n{n}\",x\n"))
            .collect();
        let files = [("t.csv".to_owned(), format!("n,text,c\n{text}").into_bytes())];
        let whole = open(&files, &Dialect::RFC_4180.into()).unwrap();
        for count in [1, 2, 3, 7, 16, 100] {
            let (pooled, again) = pooled(&whole, count, 4096, 3);
            assert_eq!((pooled.records, again), (2000, 0), "{count}");
            assert!(saved(&pooled) == saved(&survey(&whole, 4096)));
        }
    }

    #[test]
    fn what_parts_lack_is_said() {
        let text: String = (0..100).map(|n| format!("{n},x\n")).collect();
        let files = |text: &str| [("t.csv".to_owned(), format!("n,c\n{text}").into_bytes())];
        let whole = open(&files(&text), &Dialect::RFC_4180.into()).unwrap();
        let parts = |input: &Input, count: u32| -> Vec<Survey> {
            let of = |number| part(input, Part::new(number, count).unwrap(), None, 100);
            (1..=count).map(of).collect()
        };
        let told = |parts: Vec<Survey>| Survey::pool(parts).unwrap_err().to_string();
        let mut some = parts(&whole, 5);
        some.remove(3);
        some.remove(1);
        assert_eq!(told(some), "parts 2/5 and 4/5 are missing");
        let twice = [parts(&whole, 3), parts(&whole, 3)].concat();
        assert_eq!(Survey::pool(twice).unwrap().records, 100);
        let other = open(&files(&text[..text.len() - 3]), &Dialect::RFC_4180.into()).unwrap();
        let mixed = [parts(&whole, 2).remove(0), parts(&other, 2).remove(1)];
        assert!(
            told(mixed.to_vec()).starts_with("part 1/2 and part 2/2 are not parts of one input")
        );
        let mixed = [parts(&whole, 2).remove(0), survey(&whole, 100)];
        assert!(told(mixed.to_vec()).starts_with("some of the surveys are of parts"));
        let mut wrong = parts(&whole, 2);
        wrong[1].part.as_mut().unwrap().pieces[0].began += 4;
        let message = told(wrong);
        assert!(
            message.starts_with("part 2/2 took for granted that a record of t.csv starts at"),
            "{message}"
        );
    }

    #[test]
    fn what_cannot_be_entered_is_read_as_a_whole() {
        let json = b"[{\"a\": 1},\n{\"a\": 2}]".to_vec();
        let mut packed = Vec::new();
        std::io::Write::write_all(
            &mut zstd::Encoder::new(&mut packed, 1).unwrap().auto_finish(),
            b"a\n1\n2\n",
        )
        .unwrap();
        for (bytes, format) in
            [(json, crate::text::InputFormat::Json), (packed, crate::text::InputFormat::Delimited)]
        {
            let choice = InputChoice { format: Some(format), ..InputChoice::default() };
            let whole = open(&[("t".to_owned(), bytes)], &choice).unwrap();
            let (pooled, again) = pooled(&whole, 4, 100, 1);
            assert_eq!((pooled.records, again), (2, 0));
        }
    }

    #[test]
    fn a_beginning_that_cannot_be_is_refused() {
        let whole =
            open(&[("t.csv".into(), b"a,b\n1,2\n3,4\n5,6\n".to_vec())], &Dialect::RFC_4180.into())
                .unwrap();
        let begin = |part: &str, at| whole.clone().take_part(Part::parse(part).unwrap(), Some(at));
        assert!(begin("2/2", 12).is_ok());
        let message = begin("2/2", 4).unwrap_err().to_string();
        assert_eq!(
            message,
            "byte 4 of t.csv is outside of this part, which begins at byte 8 or behind it"
        );
        assert!(begin("2/2", 17).is_err() && begin("1/2", 4).is_err());
        for wrong in ["0/3", "4/3", "1", "a/b", "1/0", "-1/2", "1/2000000"] {
            assert!(Part::parse(wrong).is_err(), "{wrong}");
        }
    }
}
