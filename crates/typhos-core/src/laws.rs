//! Laws that hold over the whole workflow, on whatever bytes: tests only.

use std::num::NonZeroUsize;
use std::sync::Arc;

use proptest::prelude::*;

use crate::columns::{Converter, MisfitValue, OnMisfit, Plan, Reason, cell_text};
use crate::dates::DateOrder;
use crate::infer::{DraftOptions, Rules, decide, draft};
use crate::read_schema as read;
use crate::readings::{Decimal, parse_number};
use crate::run::{NoMonitor, RunOptions};
use crate::schema::{ColumnDecl, IntType, Scalar};
use crate::survey::{Absent, Survey, SurveyOptions};
use crate::text::{Block, BlockReader, Dialect, Input, InputChoice, Memory, Origin, QuotedEmpty};

/// Values of every kind a reading knows, and near misses.
pub(crate) fn value() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => any::<i64>().prop_map(|n| n.to_string()),
        3 => (any::<i32>(), 0u32..12).prop_map(|(n, scale)| format!("{}.{:0w$}", n / 1000, n.unsigned_abs() % 1000, w = scale as usize)),
        1 => "[+-]?[0-9]{1,40}(\\.[0-9]{0,40})?(e[+-]?[0-9]{1,3})?",
        3 => (0u32..14, 0u32..33, 0u32..100).prop_map(|(a, b, y)| format!("{a:02}/{b:02}/{y:02}")),
        2 => (1u32..32, 1u32..13, 1600u32..2300).prop_map(|(d, m, y)| format!("{d}.{m}.{y}")),
        2 => (1u32..13, 1u32..29, 0u32..25, "[.,][0-9]{1,9}", "( ?[+-][0-9]{2}(:?[0-9]{2})?|Z|)")
            .prop_map(|(m, d, h, f, z)| format!("2024-{m:02}-{d:02}T{h:02}:00:00{f}{z}")),
        // Numbers that are equal and written otherwise.
        1 => (0u32..3, 0usize..3, "[$]?").prop_map(|(n, zeros, sign)| format!("{sign}{n}.5{}", "0".repeat(zeros))),
        1 => "[12][0-9]{3}[01][0-9][0-3][0-9]",
        1 => "(19|20)[0-9]{2}[01][0-9][0-3][0-9][012][0-9][0-5][0-9][0-5][0-9]",
        2 => (1u32..32, prop_oneof!["(Jan|March|may|OKT|Dez)\\.?", "(janvier|mars|mai|août)"], 1960u32..2040, "( |, |-)", "( [0-9]{1,2}:[0-5][0-9]( ?[AaPp]\\.?[Mm]\\.?)?)?")
            .prop_map(|(d, m, y, s, t)| format!("{d}{s}{m}{s}{y}{t}")),
        1 => ("(Mon|Tue|Friday|So|lun\\.), ", 1u32..29, 2020u32..2026).prop_map(|(w, d, y)| format!("{w}{d:02} Apr {y} 10:20 GMT")),
        2 => prop_oneof![Just("NA"), Just("-"), Just("NaN"), Just("true"), Just("N"), Just("y"), Just(" "), Just(""), Just("\\N")].prop_map(str::to_owned),
        2 => "[ -~]{0,12}",
        2 => ("[-+]?[$€(]?", "[0-9]{1,3}", "([.,' \u{a0}][0-9]{3}){0,2}", "([.,][0-9]{1,3})?", "[)%-]?( €| kr)?")
            .prop_map(|(a, b, c, d, e)| format!("{a}{b}{c}{d}{e}")),
        1 => ("[ \u{a0}\u{202f}]?", "[0-9]{1,6}", "([.,]|'[0-9]{3}|)", "[ \u{a0}]?").prop_map(|(a, b, c, d)| format!("{a}{b}{c}{d}")),
        1 => "[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}",
        1 => (any::<std::net::IpAddr>(), -95.0..95.0f64).prop_map(|(ip, lat)| if lat > 0.0 { ip.to_string() } else { format!("{lat:.3},10.5") }),
        1 => prop_oneof![Just("{}"), Just("[1,2]"), Just("{\"a\": [true]}"), Just("[1"), Just("inf"), Just("-Infinity"), Just("\u{2212}5"), Just("- 5"), Just("+ 0"), Just("+ 1.5")].prop_map(str::to_owned),
        1 => any::<String>(),
    ]
}

pub(crate) fn quoted(value: &str) -> String {
    format!("\"{}\"", value.replace('"', "\"\""))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    /// Pooling any split of an input into its files, in any order, through saved surveys, is scouting it
    /// whole.
    #[test]
    fn pooled_surveys_are_the_survey_of_all(
        kinds in proptest::collection::vec(value(), 1..6),
        files in proptest::collection::vec(proptest::collection::vec(0usize..6, 1..40), 1..6),
        groups in proptest::collection::vec(0usize..3, 6), turn in 0usize..6, order in proptest::option::of(Just(DateOrder::Dmy)),
    ) {
        let choice = InputChoice { names: Some(vec!["c".into(), "d".into()]), header: Some(false), ..Dialect::RFC_4180.into() };
        let origins: Vec<Arc<dyn Origin>> = files.iter().enumerate().map(|(at, picks)| {
            let rows: String = picks.iter().map(|at| format!("{},x\n", quoted(&kinds[at % kinds.len()]))).collect();
            Arc::new(Memory::new(format!("{at}.csv"), rows.into_bytes())) as Arc<dyn Origin>
        }).collect();
        let options = SurveyOptions { absent: Absent::Everywhere(vec!["-".into()]), ..SurveyOptions::default() };
        let survey = |origins: &[Arc<dyn Origin>]| {
            let input = Input::of(origins.to_vec(), Vec::new(), &choice).unwrap();
            Survey::take(&input, &options, &RunOptions::default(), &NoMonitor).unwrap()
        };
        let rules = Rules { date_order: order, ..Rules::default() };
        let told = |survey: &Survey| {
            let decisions = decide(survey, &rules);
            (draft(survey, &decisions, &DraftOptions::default()).to_toml(), format!("{decisions:#?}"))
        };
        let mut parts = Vec::new();
        for group in 0..3 {
            let members: Vec<_> = origins.iter().zip(&groups).filter(|(_, g)| **g == group).map(|(origin, _)| origin.clone()).collect();
            if !members.is_empty() {
                let mut saved = Vec::new();
                survey(&members).save(&mut saved).unwrap();
                parts.push(Survey::load(&saved[..]).unwrap());
            }
        }
        let parts_count = parts.len();
        parts.rotate_left(turn % parts_count);
        prop_assert_eq!(told(&Survey::pool(parts).unwrap()), told(&survey(&origins)));
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// A draft fits the data it was drafted from: every value reads under it as the number or text that was
    /// written, nothing that was present becomes absent or the other way round, and without headroom no
    /// narrower type would do.
    #[test]
    fn a_draft_fits_the_data_it_was_drafted_from(
        kinds in proptest::collection::vec(value(), 1..6),
        picks in proptest::collection::vec(0usize..6, 1..60),
        headroom in prop_oneof![Just(1.0), Just(2.0)],
        order in proptest::option::of(prop_oneof![Just(DateOrder::Dmy), Just(DateOrder::Mdy), Just(DateOrder::Ymd)]),
    ) {
        let rows: String = picks.iter().map(|at| format!("{},x\n", quoted(&kinds[at % kinds.len()]))).collect();
        let text = format!("c,d\n{rows}");
        let input = Input::from_bytes("t.csv", text.clone().into_bytes(), &Dialect::RFC_4180.into());
        let survey = Survey::take(&input, &SurveyOptions::default(), &RunOptions::default(), &NoMonitor).unwrap();
        let rules = Rules { headroom, date_order: order, ..Rules::default() };
        let decisions = decide(&survey, &rules);
        let drafted = draft(&survey, &decisions, &DraftOptions::default()).to_toml();
        let schema = read(&drafted).unwrap_or_else(|wrong| panic!("{drafted}\n{wrong:?}"));
        let plan = Plan::new(schema, &input).unwrap();
        let mut reader = BlockReader::new(&input, 1 << 20);
        let mut block = Block::default();
        let (mut nulls, mut rows) = (0, 0);
        let mut cells = Vec::new();
        while reader.next(&mut block).unwrap() {
            let converted = Converter::new(&plan, OnMisfit::AsDeclared).convert::<MisfitValue>(&block, |batch| {
                nulls += batch.column(0).null_count() as u64;
                rows += batch.num_rows() as u64;
                cells.extend((0..batch.num_rows()).map(|row| cell_text(batch.column(0), row)));
                Ok(())
            });
            prop_assert!(converted.is_ok(), "{:?} under\n{drafted}\nof\n{text}", converted.err());
            prop_assert!(converted.unwrap().account.changed.iter().all(|count| *count == 0));
        }
        prop_assert_eq!(rows, survey.records);
        // Records that cannot be split are not among the rows; without them each row is its pick.
        if survey.broken == 0 && cells.len() == picks.len() {
            let column = &plan.schema().columns[0];
            let written = picks.iter().map(|at| &kinds[at % kinds.len()]);
            for (cell, written) in cells.iter().zip(written) {
                let Some(cell) = cell else { continue };
                prop_assert!(is_the_same(cell, written, column), "{written:?} became {cell:?} under\n{drafted}");
            }
            if headroom == 1.0 {
                is_narrowest(&cells, column)?;
            }
        }
        prop_assert_eq!(nulls, decisions[0].absent, "{}\n{}", drafted, text);
    }

    /// Any bytes whatever give an answer or an error, and every record is accounted for.
    #[test]
    fn any_bytes_are_answered(
        bytes in proptest::collection::vec(
            prop_oneof![3 => Just(b','), 3 => Just(b'\n'), 2 => Just(b'"'), 1 => Just(b'\r'), 1 => Just(b';'), 3 => b'0'..=b'9', 1 => Just(b'/'), 1 => Just(b'\\'), 1 => Just(b'#'), 1 => Just(b' '), 2 => any::<u8>()],
            0..300),
        threads in 1usize..5, block_bytes in 1usize..400, quoted_empty in proptest::option::of(Just(QuotedEmpty::Text)),
    ) {
        let origin: Arc<dyn Origin> = Arc::new(Memory::new("t", bytes));
        let choice = InputChoice { quoted_empty, ..InputChoice::default() };
        let Ok(mut input) = Input::of(vec![origin.clone()], Vec::new(), &choice) else { return Ok(()) };
        let options = RunOptions { threads: NonZeroUsize::new(threads).unwrap(), block_bytes };
        crate::json::learn(&mut input, &[], &options, &NoMonitor).unwrap();
        let survey = Survey::take(&input, &SurveyOptions::default(), &options, &NoMonitor).unwrap();
        let decisions = decide(&survey, &Rules::default());
        let drafted = draft(&survey, &decisions, &DraftOptions::default()).to_toml();
        // Of JSON in which no record is sound no name is known.
        if survey.source.names.is_empty() {
            prop_assert!(input.is_json(), "{}", drafted);
            return Ok(());
        }
        let schema = read(&drafted).unwrap_or_else(|wrong| panic!("{drafted}\n{wrong:?}"));
        // Neither threads nor blocks change what is found.
        let alone = RunOptions { threads: NonZeroUsize::MIN, block_bytes: 1 << 20 };
        let survey_alone = Survey::take(&input, &SurveyOptions::default(), &alone, &NoMonitor).unwrap();
        let decisions = decide(&survey_alone, &Rules::default());
        prop_assert_eq!(&draft(&survey_alone, &decisions, &DraftOptions::default()).to_toml(), &drafted);
        prop_assert_eq!(survey_alone.broken_examples, survey.broken_examples);
        // The draft says how the file is laid out, so that it is found the same way again.
        let again = Input::of(vec![origin], Vec::new(), &schema.input_choice());
        let mut input = again.unwrap_or_else(|error| panic!("{error} under\n{drafted}"));
        crate::json::learn(&mut input, &schema.source_names(), &options, &NoMonitor).unwrap();
        let plan = Plan::new(schema, &input).unwrap_or_else(|wrong| panic!("{wrong:?} under\n{drafted}"));
        let mut reader = BlockReader::new(&input, block_bytes);
        let (mut block, mut read, mut loaded) = (Block::default(), 0, 0);
        while reader.next(&mut block).unwrap() {
            let mut converter = Converter::new(&plan, OnMisfit::NoteAll);
            let report = converter.convert::<MisfitValue>(&block, |batch| {
                loaded += batch.num_rows() as u64;
                Ok(())
            });
            let account = report.unwrap().account;
            read += account.read;
            // What was drafted from this very data can only be broken, or not in the encoding.
            for misfit in account.columns.iter().flat_map(|column| &column.examples) {
                prop_assert!(matches!(misfit.reason, Reason::NotUtf8 { .. }), "{misfit:?} under\n{drafted}");
            }
        }
        prop_assert_eq!(read, survey.records + survey.broken, "under\n{}", drafted);
        prop_assert!(loaded <= survey.records);
    }
}

/// Whether a cell says what was written: as a text, or as a number where it was written plainly.
fn is_the_same(cell: &str, written: &str, column: &ColumnDecl) -> bool {
    let plain = |text: &str| parse_number(text.trim().as_bytes()).filter(|n| n.exponent.is_none());
    let decimal =
        |text: &str| plain(text).map(|n| Decimal { mantissa: n.mantissa, scale: n.scale });
    match column.scalar() {
        Scalar::Text { .. } | Scalar::Lowcard | Scalar::Category => cell == written,
        Scalar::Int(_) | Scalar::Decimal { .. } if column.style.is_plain() => {
            decimal(written).is_none_or(|written| decimal(cell) == Some(written))
        }
        Scalar::Float32 if column.style.is_plain() => {
            written.trim().parse::<f32>().is_ok_and(|w| Ok(w) == cell.parse())
                || plain(written).is_none()
        }
        Scalar::Float64 if column.style.is_plain() => {
            written.trim().parse::<f64>().is_ok_and(|w| Ok(w) == cell.parse())
                || plain(written).is_none()
        }
        Scalar::Bool => {
            let is_yes = ["true", "t", "yes", "y", "on"].contains(&&*written.trim().to_lowercase());
            cell == if is_yes { "true" } else { "false" }
        }
        Scalar::Uuid => {
            let digits = |text: &str| -> String {
                let digits = text.chars().filter(char::is_ascii_hexdigit);
                digits.map(|digit| digit.to_ascii_lowercase()).collect()
            };
            digits(cell) == digits(written)
        }
        Scalar::Date | Scalar::Timestamp { utc: false, .. } => is_the_day(cell, written),
        _ => true,
    }
}

/// Whether a day in ISO 8601, or the day of an instant, is made of the numbers and names that were written.
fn is_the_day(cell: &str, written: &str) -> bool {
    let day: Vec<u32> = cell[..10].split('-').map(|part| part.parse().unwrap()).collect();
    let runs = written.split(|letter: char| !letter.is_ascii_digit());
    let runs: Vec<&str> = runs.filter(|run| !run.is_empty()).collect();
    if let Some(compact) = runs.first().filter(|run| run.len() >= 8) {
        return compact.starts_with(&cell[..10].replace('-', ""));
    }
    let numbers: Vec<u32> = runs.iter().filter_map(|run| run.parse().ok()).collect();
    let is_there = |number: u32| numbers.contains(&number);
    // The names of months that values have.
    let names: &[&str] = match day[1] {
        1 => &["jan"],
        3 => &["mar"],
        4 => &["apr"],
        5 => &["may", "mai"],
        8 => &["août"],
        10 => &["okt"],
        12 => &["dez"],
        _ => &[],
    };
    let text = written.to_lowercase();
    let has_month = is_there(day[1]) || names.iter().any(|name| text.contains(name));
    has_month && is_there(day[2]) && (is_there(day[0]) || is_there(day[0] % 100))
}

/// The narrowest integers, and texts of no more characters than there are.
fn is_narrowest(cells: &[Option<String>], column: &ColumnDecl) -> Result<(), TestCaseError> {
    let values = || cells.iter().flatten();
    match column.scalar() {
        Scalar::Int(ty) => {
            let number = |cell: &String| cell.parse::<i128>().unwrap_or_default();
            let (low, high) = (values().map(number).min(), values().map(number).max());
            let narrowest = low.zip(high).and_then(|(low, high)| IntType::narrowest(low, high));
            prop_assert!(
                narrowest.is_none_or(|narrowest| narrowest == ty),
                "{narrowest:?}, not {ty:?}"
            );
        }
        Scalar::Text { most: Some(most) } => {
            let longest = values().map(|cell| cell.chars().count()).max().unwrap_or(0);
            prop_assert_eq!(most as usize, longest);
        }
        _ => {}
    }
    Ok(())
}

/// Texts of white space and absent fields of the same bytes are told apart, wherever blocks end.
#[test]
fn blank_texts_and_blank_fields_are_counted_apart() {
    let rows = "\" \"\n \n9\n \n\" \"\n \n\n\"\"\n".repeat(40);
    let choice = InputChoice {
        quoted_empty: Some(QuotedEmpty::Text),
        header: Some(false),
        ..Dialect::RFC_4180.into()
    };
    let input = Input::from_bytes("t", rows.into_bytes(), &choice);
    for block_bytes in [1, 7, 30, 1 << 20] {
        let options = RunOptions { threads: NonZeroUsize::MIN, block_bytes };
        let survey = Survey::take(&input, &SurveyOptions::default(), &options, &NoMonitor).unwrap();
        let column = &survey.columns[0];
        assert_eq!(column.facts().blank, 160, "blocks of {block_bytes} bytes");
        let values = column.distinct_values();
        let counts: Vec<_> = values.iter().map(|found| (found.value, found.count)).collect();
        assert_eq!(counts, [(&b" "[..], 80), (b"9", 40), (b"", 40)], "of {block_bytes} bytes");
    }
}
