//! JSON lines: any text, in any blocks. Each case learns the names of a text and surveys it in blocks of two sizes, which
//! must find the same; what is then drafted must read back, and convert every record or set it aside.

use std::num::NonZeroUsize;

use typhos_core::columns::{Converter, MisfitValue, OnMisfit, Plan};
use typhos_core::infer::{DraftOptions, Objects, Rules, Strings, decide, draft};
use typhos_core::json::learn;
use typhos_core::run::{NoMonitor, RunError, RunOptions, fold_blocks};
use typhos_core::survey::{Survey, SurveyOptions};
use typhos_core::text::{
    Input, InputChoice, InputError, InputFormat, QuotedEmpty, WithoutElements,
};

use crate::Dice;

impl Dice {
    /// A JSON value, as a program would write it.
    fn json(&mut self, depth: usize, text: &mut Vec<u8>) {
        let plain: [&[u8]; 16] = [
            b"null",
            b"true",
            b"0",
            b"-7",
            b"12.50",
            b"1e5",
            b"9007199254740993",
            b"123456789012345678901234567890",
            b"\"Holm\"",
            b"\"\"",
            b"\"5\"",
            b"\"2024-02-29\"",
            b"\"T\\u00e5rnvik \\ud83d\\ude00\"",
            b"\"a \\\"word\\\"\\n\"",
            b"\"T\xc3\xa5rnvik\"",
            b"\" x \"",
        ];
        match self.below(if depth == 0 { 8 } else { 12 }) {
            0..8 => text.extend_from_slice(self.pick(&plain)),
            8..10 => self.object(depth - 1, text),
            _ => {
                text.push(b'[');
                for at in 0..self.below(4) {
                    text.extend_from_slice(if at > 0 { b", " } else { b"" });
                    self.json(depth - 1, text);
                }
                text.push(b']');
            }
        }
    }

    fn object(&mut self, depth: usize, text: &mut Vec<u8>) {
        let names: [&[u8]; 8] =
            [b"id", b"at", b"a", b"A", b"x.y", b"", b"\\u0061t", b"rejected_line"];
        text.push(b'{');
        for at in 0..self.below(5) {
            text.extend_from_slice(if at > 0 { b"," } else { b"" });
            text.push(b'"');
            text.extend_from_slice(self.pick(&names));
            text.extend_from_slice(self.pick(&[&b"\":"[..], b"\": ", b"\" :"]));
            self.json(depth, text);
        }
        text.push(b'}');
    }

    fn lines(&mut self) -> Vec<u8> {
        let mut text = Vec::new();
        let is_array = self.chance(15);
        text.extend_from_slice(if is_array { b"[\n" } else { b"" });
        for at in 0..self.below(10) {
            text.extend_from_slice(if is_array && at > 0 { b",\n" } else { b"" });
            self.object(3, &mut text);
            let end = self.pick(&[&b"\n"[..], b"\n", b"\r\n", b"\n\n"]);
            text.extend_from_slice(if is_array { b"" } else { end });
        }
        text.extend_from_slice(if is_array { b"]\n" } else { b"" });
        if self.chance(60) { self.damaged(&text) } else { text }
    }
}

/// One case.
pub fn case(number: u64) {
    let mut dice = Dice::of(number);
    let text = dice.lines();
    let choice = InputChoice {
        format: Some(InputFormat::Json),
        quoted_empty: dice.maybe(30, QuotedEmpty::ALL),
        unnest: dice.chance(20).then(|| dice.pick(&["a", "id", "at"]).to_owned()),
        without_elements: dice.maybe(30, WithoutElements::ALL),
        ..InputChoice::default()
    };
    let run = |block_bytes: usize| RunOptions { threads: NonZeroUsize::MIN, block_bytes };
    let surveyed = |block_bytes: usize| {
        let mut input = Input::from_bytes("t", text.clone(), &choice);
        if input.files().is_empty() {
            return None;
        }
        let run = run(block_bytes);
        match learn(&mut input, &[], &run, &NoMonitor) {
            Err(RunError::Input(InputError::NotAList { .. })) => return None,
            learned => learned.expect("memory can be read"),
        }
        let survey = Survey::take(&input, &SurveyOptions::default(), &run, &NoMonitor);
        Some((input, survey.expect("memory can be read")))
    };
    let (Some((mut input, survey)), Some((other_input, other))) =
        (surveyed(1 << 20), surveyed(1 + dice.below(80)))
    else {
        return;
    };
    assert_eq!(input.names(), other_input.names(), "names do not depend on blocks");
    assert_eq!((survey.records, survey.broken), (other.records, other.broken));
    for (column, other) in survey.columns.iter().zip(&other.columns) {
        assert_eq!(column.facts(), other.facts());
        assert_eq!(column.kinds(), other.kinds());
    }
    let rules = Rules {
        strings: dice.pick(&[Strings::Read, Strings::Numbers, Strings::Text]),
        ..Rules::default()
    };
    let decisions = decide(&survey, &rules);
    let objects = dice.pick(&[Objects::Flat, Objects::Keep]);
    let wanted = DraftOptions { objects, ..DraftOptions::default() };
    let drafted = draft(&survey, &decisions, &wanted).to_toml();
    let Ok(schema) = typhos_core::read_schema(&drafted) else {
        assert!(input.names().is_empty(), "a draft reads back:\n{}", drafted);
        return;
    };
    let names = schema.source_names();
    learn(&mut input, &names, &run(1 << 20), &NoMonitor).expect("it was learned before");
    let plan = Plan::new(schema, &input).unwrap_or_else(|wrong| {
        panic!("a draft has the columns of its input: {}\n{drafted}", wrong[0].message)
    });
    assert!(plan.undeclared().is_empty(), "{:?} is not in\n{drafted}", plan.undeclared());
    let accounts = fold_blocks(
        &input,
        &run(64),
        &NoMonitor,
        || (0, 0, String::new()),
        |(read, kept, first), block| {
            let mut converter = Converter::new(&plan, OnMisfit::NoteAll);
            let report = converter.convert(block, |_| Ok::<(), MisfitValue>(()));
            let account = report.unwrap_or_else(|_| panic!("misfits are noted")).account;
            *read += account.read;
            *kept += account.loaded;
            let misfits = account.columns.iter().chain([&account.broken]);
            if let Some(misfit) = misfits.flat_map(|column| &column.examples).next() {
                *first = format!("{misfit:?}");
            }
        },
    );
    let (read, kept, first) = &accounts.expect("memory can be read")[0];
    assert_eq!(*read, survey.records + survey.broken, "what is read is what was surveyed");
    // What is no UTF-8 is a misfit of any column.
    let is_malformed = std::str::from_utf8(&text).is_err();
    assert!(
        *kept == survey.records || is_malformed,
        "what was drafted fits: {kept} of {}: {first}\n{}\n{:?}",
        survey.records,
        drafted,
        String::from_utf8_lossy(&text)
    );
}
