//! Texts that people and programs write for us: schema files, questions, saved surveys.

use std::num::NonZeroUsize;

use typhos_core::columns::Plan;
use typhos_core::filter::Filter;
use typhos_core::infer::{Rules, decide};
use typhos_core::read_schema as read;
use typhos_core::run::{NoMonitor, RunOptions};
use typhos_core::survey::{Survey, SurveyOptions};
use typhos_core::text::{Input, InputChoice};

use crate::Dice;

/// A schema in which every kind of key is said once.
const SCHEMA: &str = r#"typhos = 1
table = "tickets"
[input]
delimiter = ","
header = true
encoding = "utf-8"
absent = ["", "NA"]
misfit = "reject"
[columns]
no = { type = "uint32", required = true }
day = { type = "date", patterns = ["MM/dd/yy", "d MMM yyyy"], pivot = 1950, locale = "de" }
at = { type = "timestamp(ms, utc)", patterns = ["yyyy-MM-dd'T'HH:mm:ss.SSSXXX"], zone = "Europe/Oslo" }
cabin = { type = "category", values = ["deck", "saloon"], ranked = true }
fare = { type = "decimal(6,2)", low = "0", high = "99.5", decimal_mark = ",", grouping = ".", strip = ["€"] }
both = { type = "text(20)", from = ["a", "b"], glue = " " }
n = { type = "int64", generate = "row-number", start = 5 }
# note = { type = "text" }
[layout]
key = ["no"]
sort = ["cabin", "day desc"]
compression = "zstd(3)"
"#;

/// Questions of every kind.
const QUESTIONS: [&str; 6] = [
    "cabin > 'deck' and fare between 1.5 and 20",
    "day >= '2024-01-01' or not (no in (1, 2, 3))",
    "year(day) = 2024 and at < '2024-06-01 12:00:00Z'",
    "fare is null or cabin = 'saloon' and no <> 7",
    "\"no\" = 5",
    "((((no = 1))))",
];

const ROWS: &str = "no,day,at,cabin,fare,a,b\n1,01/31/24,2024-01-31T10:00:00.000+01:00,deck,\"1.234,50\",x,y\n\
                    2,02/01/24,,saloon,,\"q \"\"z\"\"\",\n3,NA,2024-02-01T10:00:00.123Z,deck,7,,\n";

/// What is damaged.
pub struct Texts {
    survey: Vec<u8>,
    /// The document inside of it.
    document: Vec<u8>,
    input: Input,
}

impl Texts {
    pub fn new() -> Texts {
        let input = Input::from_bytes("t.csv", ROWS.into(), &InputChoice::default());
        let run = RunOptions { threads: NonZeroUsize::MIN, ..RunOptions::default() };
        let survey = Survey::take(&input, &SurveyOptions::default(), &run, &NoMonitor)
            .expect("nothing stops it");
        let mut saved = Vec::new();
        survey.save(&mut saved).expect("memory can be written to");
        let at = 1 + saved.iter().position(|byte| *byte == b'\n').expect("a first line");
        let document = zstd::decode_all(&saved[at..]).expect("packed by ourselves");
        Texts { survey: saved, document, input }
    }

    /// A schema that reads is bound to an input, and whatever comes of that is an answer.
    pub fn schema(&self, number: u64) {
        let mut dice = Dice::of(number);
        let text = String::from_utf8_lossy(&dice.damaged(SCHEMA.as_bytes())).into_owned();
        match read(&text) {
            Ok(schema) => _ = Plan::new(schema, &self.input),
            Err(wrong) => {
                assert!(!wrong.is_empty(), "refused without a reason");
                for diagnostic in wrong {
                    assert!(diagnostic.span.start <= diagnostic.span.end, "{diagnostic:?}");
                }
            }
        }
    }

    /// A survey that loads can be decided about.
    pub fn survey(&self, number: u64) {
        let mut dice = Dice::of(number);
        let bytes = if dice.chance(30) {
            dice.damaged(&self.survey)
        } else {
            // Inside of the packing, or most of what is damaged does not even unpack.
            let document = dice.damaged(&self.document);
            let packed = zstd::encode_all(&document[..], 1).expect("memory can be packed");
            [&b"typhos survey 1\n"[..], &packed].concat()
        };
        if let Ok(survey) = Survey::load(&bytes[..]) {
            decide(&survey, &Rules::default());
            let again = Survey::load(&bytes[..]).expect("it loaded before");
            let _ = Survey::pool(vec![survey, again]);
        }
    }

    pub fn filter(&self, number: u64) {
        let mut dice = Dice::of(number);
        let question = dice.pick(&QUESTIONS);
        let text = String::from_utf8_lossy(&dice.damaged(question.as_bytes())).into_owned();
        let schema = read(SCHEMA).expect("a schema of ours");
        let plan = Plan::new(schema, &self.input).expect("it fits its input");
        match Filter::parse(&text, plan.schema(), &plan.arrow()) {
            Ok(_) => {}
            Err(error) => assert!(error.span.start <= error.span.end, "{error:?}"),
        }
    }
}
