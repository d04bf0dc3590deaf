//! Records made of known gaps are what they are when they are walked over.

use proptest::prelude::*;

use super::gaps::Gaps;
use super::learn::Learner;
use super::records::JsonRecords;
use super::split::JsonSplit;
use crate::records::{Holds, Paths, Provisional, Split};
use crate::text::{Block, BlockReader, Input, InputChoice, InputFormat};

/// What a program writes at a place.
#[derive(Debug, Clone)]
enum Shape {
    Number,
    Text,
    Bool,
    Object(Vec<(u8, Shape)>),
    List(Box<Shape>),
}

fn shape() -> impl Strategy<Value = Shape> {
    let leaf =
        prop_oneof![3 => Just(Shape::Number), 3 => Just(Shape::Text), 1 => Just(Shape::Bool)];
    leaf.prop_recursive(3, 14, 5, |inner| {
        let members = proptest::collection::vec((0u8..6, inner.clone()), 0..5);
        prop_oneof![
            2 => members.prop_map(Shape::Object),
            1 => inner.prop_map(|shape| Shape::List(Box::new(shape))),
        ]
    })
}

/// A die whose rolls are those of its seed.
struct Die(u64);

impl Die {
    fn roll(&mut self, sides: u64) -> u64 {
        // The multiplier of Knuth's MMIX; the upper bits are the random ones.
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        (self.0 >> 33) % sides
    }

    /// One of these.
    fn pick<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of[self.roll(of.len() as u64) as usize]
    }
}

/// A value of a shape as the program writes it, with a slip now and then.
fn write(shape: &Shape, die: &mut Die, space: &str, slips: bool, out: &mut String) {
    if slips && die.roll(15) == 0 {
        return out.push_str(die.pick(&[
            "null",
            "{}",
            "[]",
            "7",
            "\"\"",
            "{\"a\":[1]}",
            "tru",
            "01",
        ]));
    }
    match shape {
        Shape::Number => out.push_str(die.pick(&["0", "-1", "12.50", "1e5", "123456789012345678"])),
        Shape::Text => {
            out.push_str(die.pick(&["\"\"", "\"a\"", "\"},\"", "\"q\\\"\"", "\"\\u00e9 é\""]))
        }
        Shape::Bool => out.push_str(die.pick(&["true", "false", "null"])),
        Shape::Object(members) => {
            out.push('{');
            let mut comma = "";
            for (at, (name, shape)) in members.iter().enumerate() {
                // Most programs write a name once; one that does not breaks its records.
                let is_first = members[..at].iter().all(|(other, _)| other != name);
                if !is_first && (!slips || die.roll(20) > 0) || die.roll(5) == 0 {
                    continue;
                }
                let name = if slips && die.roll(40) == 0 { 7 } else { *name };
                out.push_str(comma);
                out.push_str(&format!("{space}\"n{name}\":{space}"));
                write(shape, die, space, slips, out);
                comma = ",";
            }
            out.push('}');
        }
        Shape::List(shape) => {
            out.push('[');
            for at in 0..die.roll(4) {
                out.push_str(if at > 0 { "," } else { "" });
                write(shape, die, space, slips, out);
            }
            out.push(']');
        }
    }
}

/// The lines of a program, some of them damaged on the way.
fn lines(shape: &Shape, seed: u64, most: u64, slips: bool) -> Vec<u8> {
    let mut die = Die(seed);
    let space = die.pick(&["", "", " "]);
    let mut text = Vec::new();
    for _ in 0..die.roll(most) {
        let mut line = String::new();
        write(shape, &mut die, space, slips, &mut line);
        let mut line = line.into_bytes();
        if slips && die.roll(12) == 0 {
            let at = die.roll(line.len() as u64) as usize;
            line[at] = die.pick(&["\"", "}", "{", ",", "0", "\\", "\u{1}", " "]).as_bytes()[0];
        }
        text.extend_from_slice(&line);
        text.extend_from_slice(die.pick(&["\n", "\n", "\r\n", "\n\n"]).as_bytes());
    }
    text
}

fn block_of(text: &[u8]) -> Option<Block> {
    let choice = InputChoice { format: Some(InputFormat::Json), ..InputChoice::default() };
    let input = Input::from_bytes("t.ndjson", text.to_vec(), &choice);
    let mut block = Block::default();
    BlockReader::new(&input, usize::MAX / 2).next(&mut block).unwrap().then_some(block)
}

/// What something is, but for maps: those are in no order.
fn shown(of: &impl std::fmt::Debug) -> String {
    let told = format!("{of:?}");
    let mut parts = told.split("by_name: {");
    let first = parts.next().unwrap_or_default().to_owned();
    parts.fold(first, |all, part| all + part.split_once('}').map_or("", |(_, behind)| behind))
}

/// All that is split of a block, slice after slice, and what all of it shows where the paths are provisional.
fn split(mut split: JsonSplit<'_>, paths: &Paths, most: usize) -> String {
    let (mut records, mut all) = (JsonRecords::default(), String::new());
    while split.refill(&mut records, most) {
        all += &format!("{records:?}\n");
    }
    all + &shown(&paths.provisional().map(Provisional::finish))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    /// Known gaps or not, what is learned and what is split is the same.
    #[test]
    fn what_is_followed_is_what_is_walked_over(
        members in proptest::collection::vec((0u8..6, shape()), 0..6), seed: u64, wanted in "n[0-3]([.]n[0-3])?",
        most in 1usize..70, drops: bool,
    ) {
        let shape = Shape::Object(members);
        let first = lines(&shape, seed, 30, false);
        let text = [first.clone(), lines(&shape, seed ^ 1, 60, true)].concat();
        let Some(block) = block_of(&text) else { return Ok(()) };
        let (mut paths, broken) = Learner::of_block(&block, Gaps::default());
        let walked = Learner::of_block(&block, Gaps::off());
        prop_assert_eq!((shown(&paths), broken), (shown(&walked.0), walked.1));

        let held = |paths: &dyn Fn() -> Paths, columns| {
            let (ours, theirs) = (paths(), paths());
            let followed = split(JsonSplit::new(&block, &ours, columns), &ours, most);
            let walked = split(JsonSplit::new(&block, &theirs, columns).without_gaps(), &theirs, most);
            prop_assert_eq!(followed, walked, "{}", String::from_utf8_lossy(&text));
            Ok(())
        };
        let wanted = [wanted];
        let columns = paths.settle(&wanted, &[]).len();
        held(&|| paths.clone(), columns)?;
        if paths.unnest("n1", drops).is_ok() {
            let columns = paths.settle(&[], &[]).len();
            held(&|| paths.clone(), columns)?;
        }
        // Under the paths of the first records, whatever the others have.
        let Some(first) = block_of(&first) else { return Ok(()) };
        let (mut paths, _) = Learner::of_block(&first, Gaps::default());
        let learned = paths.clone();
        let columns = paths.settle(&wanted, &[]).len();
        held(&|| {
            let provisional = Provisional::new(&learned, &wanted, &[], Holds::All);
            paths.clone().until_seen(provisional)
        }, columns)?;
    }
}

/// Records of a program are followed, those with other gaps are remembered, and a name that comes again by way of other
/// records is found.
#[test]
fn a_name_that_comes_again_by_way_of_others_breaks_its_record() {
    let text = b"{\"a\":1,\"b\":2}\n{\"b\":1,\"c\":2}\n{\"c\":1,\"a\":2}\n{\"a\":1,\"b\":2,\"c\":3,\"a\":4}\n{\"a\":5,\"b\":6,\"c\":7}\n";
    let block = block_of(text).unwrap();
    let (mut paths, _) = Learner::of_block(&block, Gaps::default());
    assert_eq!(paths.settle(&[], &[]), ["a", "b", "c"]);
    let mut split = JsonSplit::new(&block, &paths, 3);
    let mut records = JsonRecords::default();
    split.refill(&mut records, 100);
    let told = format!("{records:?}");
    assert!(told.contains("lines: [0, 1, 2, 4]"), "{told}");
    assert!(told.contains("line: 3") && told.contains("Repeated { byte: 19 }"), "{told}");
    assert_eq!(split.followed(), 1);
}

/// Records that are too different are walked over in the next blocks at once, and looked at again later.
#[test]
fn records_without_a_habit_are_tried_less_often() {
    let names = ["a", "b", "c", "d", "e", "f", "g"];
    let mut die = Die(7);
    let mut line = |_| {
        let first = die.roll(7) as usize;
        let by = 1 + die.roll(6) as usize;
        let members = (0..7).map(|at| format!("\"{}\":{at}", names[(first + at * by) % 7]));
        format!("{{{}}}\n", members.collect::<Vec<_>>().join(","))
    };
    let shuffled = block_of((0..400).map(&mut line).collect::<String>().as_bytes()).unwrap();
    let same = block_of("{\"a\":1,\"b\":2}\n".repeat(400).as_bytes()).unwrap();
    let (mut paths, _) = Learner::of_block(&shuffled, Gaps::default());
    let columns = paths.settle(&[], &[]).len();
    let mut records = JsonRecords::default();
    let mut followed = |block: &Block| {
        let mut split = JsonSplit::new(block, &paths, columns);
        while split.refill(&mut records, 100) {}
        split.followed()
    };
    assert!(followed(&same) > 390);
    assert!(followed(&shuffled) < 100);
    // Two blocks are not looked at, and the third one is.
    let next: Vec<u32> = (0..4).map(|_| followed(&same)).collect();
    assert!(next[0] == 0 && next[1] == 0 && next[2] > 390 && next[3] > 390, "{next:?}");
}
