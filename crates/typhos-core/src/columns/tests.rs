//! Conversion end to end in the core: a schema and a text in, arrays and an account out.

use super::*;
use crate::read_schema as read;
use crate::run::{self, NoMonitor, RunError, RunOptions};
use crate::schema::Scalar;
use crate::text::{Block, BlockReader, Charset, Dialect, Input, InputChoice};
use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, RecordBatch};
use proptest::prelude::*;
use std::num::NonZeroUsize;

/// The first misfit under `stop`, or the reason a run failed.
#[derive(Debug)]
enum Stopped {
    Misfit(Box<MisfitValue>),
    Run(RunError),
}

impl From<MisfitValue> for Stopped {
    fn from(misfit: MisfitValue) -> Self {
        Stopped::Misfit(Box::new(misfit))
    }
}

impl From<RunError> for Stopped {
    fn from(error: RunError) -> Self {
        Stopped::Run(error)
    }
}

type Loaded = (Vec<Vec<String>>, Account, Vec<SetAside>);

fn convert_with(
    schema: &str,
    text: &str,
    threads: usize,
    block_bytes: usize,
    mode: OnMisfit,
) -> Result<Loaded, Stopped> {
    let schema = read(schema).unwrap_or_else(|wrong| panic!("{wrong:?}"));
    let input = Input::from_bytes("t.csv", text.as_bytes().to_vec(), &Dialect::RFC_4180.into());
    let plan = Plan::new(schema, &input).unwrap_or_else(|wrong| panic!("{wrong:?}"));
    let options = RunOptions { threads: NonZeroUsize::new(threads).unwrap(), block_bytes };
    let mut rows = Vec::new();
    let mut account = Account::new(plan.schema().columns.len());
    let mut aside = Vec::new();
    run::map_blocks::<_, _, Stopped>(
        plan.blocks(&input),
        &options,
        &NoMonitor,
        || Converter::new(&plan, mode),
        |converter, block| {
            let mut batches = Vec::new();
            let report = converter.convert::<Stopped>(block, |batch| {
                batches.push(batch);
                Ok(())
            })?;
            Ok((batches, report))
        },
        |(batches, report): (Vec<RecordBatch>, BlockReport)| {
            account.add(&report.account);
            aside.extend(report.set_aside);
            for batch in &batches {
                for row in 0..batch.num_rows() {
                    rows.push(batch.columns().iter().map(|column| cell(column, row)).collect());
                }
            }
            Ok(())
        },
    )?;
    Ok((rows, account, aside))
}

/// Whatever the bytes; nothing stops it.
fn convert_bytes(schema: &str, text: Vec<u8>, mode: OnMisfit) -> Loaded {
    let schema = read(schema).unwrap_or_else(|wrong| panic!("{wrong:?}"));
    let choice = InputChoice { encoding: Some(Charset::UTF_8), ..Dialect::RFC_4180.into() };
    let input = Input::from_bytes("t.csv", text, &choice);
    let plan = Plan::new(schema, &input).unwrap_or_else(|wrong| panic!("{wrong:?}"));
    let mut converter = Converter::new(&plan, mode);
    let (mut rows, mut aside) = (Vec::new(), Vec::new());
    let mut account = Account::new(plan.schema().columns.len());
    let mut reader = BlockReader::new(&input, 1 << 20);
    let mut block = Block::default();
    while reader.next(&mut block).unwrap() {
        let report = converter.convert::<Stopped>(&block, |batch| {
            let cells = |row| {
                batch
                    .columns()
                    .iter()
                    .map(|of| cell_text(of, row).unwrap_or_else(|| "null".into()))
                    .collect()
            };
            rows.extend((0..batch.num_rows()).map(cells));
            Ok(())
        });
        let report = report.unwrap();
        account.add(&report.account);
        aside.extend(report.set_aside);
    }
    (rows, account, aside)
}

fn convert(columns: &str, text: &str) -> Result<Loaded, Stopped> {
    let schema = format!("typhos = 1\n[columns]\n{columns}\n");
    convert_with(&schema, text, 2, 1 << 20, OnMisfit::AsDeclared)
}

/// A cell for a comparison, whatever its type.
fn cell(column: &ArrayRef, row: usize) -> String {
    use arrow_array::types::*;
    use arrow_schema::DataType as D;
    if column.is_null(row) {
        return "null".into();
    }
    match column.data_type() {
        D::Utf8 => column.as_string::<i32>().value(row).into(),
        D::UInt8 => column.as_primitive::<UInt8Type>().value(row).to_string(),
        D::Int32 => column.as_primitive::<Int32Type>().value(row).to_string(),
        D::Date32 => column.as_primitive::<Date32Type>().value(row).to_string(),
        D::Boolean => column.as_boolean().value(row).to_string(),
        D::Decimal32(..) => column.as_primitive::<Decimal32Type>().value_as_string(row),
        D::Dictionary(keys, _) if **keys == D::UInt8 => {
            let dictionary = column.as_dictionary::<UInt8Type>();
            dictionary.values().as_string::<i32>().value(dictionary.key(row).unwrap()).into()
        }
        D::Dictionary(..) => {
            let dictionary = column.as_dictionary::<UInt32Type>();
            dictionary.values().as_string::<i32>().value(dictionary.key(row).unwrap()).into()
        }
        other => panic!("{other}"),
    }
}

fn misfit_of(columns: &str, text: &str) -> String {
    match convert(columns, text) {
        Err(Stopped::Misfit(misfit)) => format!(
            "{} {:?} '{}' {}",
            misfit.place.line, misfit.column, misfit.value, misfit.reason
        ),
        Err(Stopped::Run(error)) => panic!("{error}"),
        Ok((rows, ..)) => panic!("loaded {rows:?}"),
    }
}

#[test]
fn every_kind_of_column_converts() {
    let columns = r#"
n = { type = "uint8" }
t = { type = "text", from = "x" }
d = { type = "date", patterns = ["MM/dd/yy", "yyyy-MM-dd"] }
b = { type = "bool" }
m = { type = "decimal(5,2)" }
l = { type = "lowcard" }
c = { type = "category", values = ["deck", "saloon"] }"#;
    let text = "x,n,d,b,m,l,c\n\"a\"\"b,\n\",7,01/02/70,yes,1.5,v,saloon\n,,,,,,\n z , 8 ,1970-01-03,F,-2.00,w,deck\n";
    let (rows, account, _) = convert(columns, text).unwrap();
    assert_eq!(
        rows,
        [
            ["7", "a\"b,\n", "1", "true", "1.50", "v", "saloon"],
            ["null", "null", "null", "null", "null", "null", "null"],
            ["8", " z ", "2", "false", "-2.00", "w", "deck"],
        ]
    );
    assert_eq!((account.read, account.loaded, account.set_aside, account.misfits()), (3, 3, 0, 0));
}

#[test]
fn stop_names_the_first_misfit() {
    let columns = "a = { type = \"uint8\" }\nb = { type = \"uint8\" }";
    assert_eq!(misfit_of(columns, "a,b\n1,2\n3,x\ny,4\n"), "3 Some(1) 'x' is not an integer");
    assert_eq!(
        misfit_of(columns, "a,b\n1,2\n256,4\n"),
        "3 Some(0) '256' is outside of uint8: 0 to 255"
    );
    assert_eq!(misfit_of(columns, "a,b\n\"1\",2\n3\n"), "3 None '3' has 1 field instead of 2");
    assert_eq!(
        misfit_of(columns, "a,b\n1,2\n\"3,4\n"),
        "3 None '\"3,4' has a quote, opened in line 3, that is never closed"
    );
    let required = "a = { type = \"text\", required = true }";
    assert_eq!(
        misfit_of(required, "a,b\n1,2\n,4\n"),
        "3 Some(0) '' is absent, and the column is required"
    );
    let short = "a = { type = \"text(3)\" }";
    assert_eq!(
        misfit_of(short, "a,b\näöü,2\näöüx,4\n"),
        "3 Some(0) 'äöüx' has 4 characters, 3 are allowed; text(4) would do"
    );
    let listed = "a = { type = \"category\", values = [\"deck\"] }";
    assert_eq!(
        misfit_of(listed, "a,b\ndekc,2\n"),
        "2 Some(0) 'dekc' is not in the list of values; did you mean 'deck'?"
    );
    let bounded = "a = { type = \"decimal(6,2)\", low = \"0\", high = \"9.5\" }";
    assert_eq!(
        misfit_of(bounded, "a,b\n-0.01,2\n"),
        "2 Some(0) '-0.01' is below the declared low of 0"
    );
    assert_eq!(
        misfit_of(bounded, "a,b\n9.51,2\n"),
        "2 Some(0) '9.51' is above the declared high of 9.5"
    );
    let dated = "a = { type = \"date\", patterns = [\"dd.MM.yy\"], low = \"2020-01-01\" }";
    assert_eq!(
        misfit_of(dated, "a,b\n31.06.24,2\n"),
        "2 Some(0) '31.06.24' is not read by 'dd.MM.yy': day 31 in a month of 30"
    );
    assert_eq!(
        misfit_of(dated, "a,b\n31.12.19,2\n"),
        "2 Some(0) '31.12.19' is below the declared low of 2020-01-01"
    );
}

#[test]
fn null_and_reject_follow_the_declaration() {
    let columns = "a = { type = \"uint8\", misfit = \"null\" }\nb = { type = \"uint8\", misfit = \"reject\" }";
    let (rows, account, aside) = convert(columns, "a,b\nx,1\n2,y\nz,\"w,\"\n4,4\n").unwrap();
    assert_eq!(rows, [["null", "1"], ["4", "4"]]);
    assert_eq!((account.read, account.loaded, account.set_aside, account.nulled), (4, 2, 2, 1));
    assert_eq!((account.columns[0].count, account.columns[1].count), (2, 2));
    let kept: Vec<_> = aside
        .iter()
        .map(|aside| (aside.misfit.place.line, aside.misfit.column, &aside.record[..]))
        .collect();
    assert_eq!(kept, [(3, Some(1), &b"2,y"[..]), (4, Some(1), b"z,\"w,\"")]);
}

#[test]
fn broken_records_are_set_aside_where_that_is_declared() {
    let schema = "typhos = 1\n[input]\nmisfit = \"reject\"\n[columns]\na = { type = \"uint8\" }\n";
    let text = "a,b\n1,2\n3\n\"4\"x,5\n6,7\n";
    let (rows, account, aside) = convert_with(schema, text, 1, 64, OnMisfit::AsDeclared).unwrap();
    assert_eq!(rows, [["1"], ["6"]]);
    assert_eq!(
        (account.read, account.loaded, account.set_aside, account.broken.count),
        (4, 2, 2, 2)
    );
    assert_eq!(aside[1].record, b"\"4\"x,5");
    assert_eq!(aside[1].misfit.reason.to_string(), "has text after the closing quote of field 1");
}

#[test]
fn bytes_that_are_not_utf8_are_misfits_and_not_replaced() {
    let schema =
        read("typhos = 1\n[columns]\na = { type = \"text\", misfit = \"reject\" }").unwrap();
    let input = Input::from_bytes(
        "t.csv",
        b"a,b\ncaf\xe9,\xff\nok,1\n".to_vec(),
        &InputChoice { encoding: Some(Charset::UTF_8), ..Dialect::RFC_4180.into() },
    );
    let plan = Plan::new(schema, &input).unwrap();
    let mut reader = crate::text::BlockReader::new(&input, 1 << 20);
    let mut block = crate::text::Block::default();
    reader.next(&mut block).unwrap();
    let report =
        Converter::new(&plan, OnMisfit::AsDeclared).convert::<Stopped>(&block, |_| Ok(())).unwrap();
    assert_eq!(report.set_aside.len(), 1);
    assert_eq!(report.set_aside[0].record, b"caf\xe9,\xff");
    assert_eq!(report.set_aside[0].misfit.reason.to_string(), "is not valid UTF-8 (byte 0xe9)");
}

#[test]
fn absent_texts_are_those_declared() {
    let columns = "a = { type = \"uint8\", absent = [\"NA\", \"-\"] }\nb = { type = \"text\", absent = [\"NA\"] }";
    let (rows, ..) = convert(columns, "a,b\nNA,NA\n-,\n5,x\n").unwrap();
    assert_eq!(rows, [["null", "null"], ["null", ""], ["5", "x"]]);
    assert_eq!(
        misfit_of("a = { type = \"uint8\", absent = [\"NA\"] }", "a,b\n,x\n"),
        "2 Some(0) '' is not an integer"
    );
}

#[test]
fn a_check_notes_every_misfit_and_goes_on() {
    let schema = "typhos = 1\n[columns]\na = { type = \"uint8\" }\nb = { type = \"uint8\", misfit = \"null\" }\n";
    let text: String = std::iter::once("a,b\n".to_owned())
        .chain((0..400).map(|n| format!("{n},{}\n", n * 2)))
        .collect();
    let (rows, account, _) = convert_with(schema, &text, 3, 100, OnMisfit::NoteAll).unwrap();
    assert_eq!(rows.len(), 256);
    assert_eq!((account.columns[0].count, account.columns[1].count), (144, 272));
    let lines: Vec<_> =
        account.columns[0].examples.iter().map(|misfit| misfit.place.line).collect();
    assert_eq!(lines, [258, 259, 260, 261, 262]);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    /// Whatever the text, the account balances, and neither blocks nor threads change the outcome.
    #[test]
    fn nothing_is_lost_however_the_work_is_split(
        text in "[a0-9,\"\n\r]{0,200}", block_bytes in 1usize..100, threads in 1usize..4,
        policies in proptest::array::uniform3(0usize..3),
    ) {
        let [a, b, broken] = policies.map(|at| ["stop", "null", "reject"][at]);
        let broken = if broken == "null" { "reject" } else { broken };
        let schema = format!(
            "typhos = 1\n[input]\nmisfit = \"{broken}\"\n[columns]\na = {{ type = \"uint8\", misfit = \"{a}\" }}\nb = {{ type = \"int32\", misfit = \"{b}\" }}\n"
        );
        let text = format!("a,b\n{text}");
        let outcome = |threads, block_bytes| match convert_with(&schema, &text, threads, block_bytes, OnMisfit::AsDeclared) {
            Ok((rows, account, aside)) => {
                assert_eq!(account.read as usize, rows.len() + aside.len());
                Ok((rows, account, aside))
            }
            Err(Stopped::Misfit(misfit)) => Err(misfit),
            Err(Stopped::Run(error)) => panic!("{error}"),
        };
        prop_assert_eq!(outcome(threads, block_bytes), outcome(1, 1 << 20));
    }

    #[test]
    fn text_comes_out_as_it_went_in(values in proptest::collection::vec("[^\r\u{0}]{1,20}", 1..20)) {
        let rows: String = values.iter().map(|value| format!("\"{}\",x\n", value.replace('"', "\"\""))).collect();
        let (loaded, ..) = convert("a = { type = \"text\", absent = [] }", &format!("a,b\n{rows}")).unwrap();
        let loaded: Vec<_> = loaded.into_iter().map(|row| row[0].clone()).collect();
        prop_assert_eq!(loaded, values);
    }
}

/// Types and what else is said of a column, for [`runs_take_what_the_usual_way_takes`].
const DECLARED: [&str; 18] = [
    "type = \"uint8\"",
    "type = \"int16\", low = \"-50\", high = \"500\"",
    "type = \"int64\", absent = [\"7\", \"\"]",
    "type = \"uint64\", required = true",
    "type = \"decimal(6,2)\"",
    "type = \"decimal(18,3)\", default = \"1.5\"",
    "type = \"decimal(30,0)\"",
    "type = \"float32\"",
    "type = \"float64\", absent = []",
    "type = \"date\", patterns = [\"dd/MM/yy\", \"d.M.yyyy\"]",
    "type = \"text\", absent = [\"NA\"]",
    "type = \"text(3)\"",
    "type = \"lowcard\"",
    "type = \"category\", values = [\"1\", \"true\", \"NA\", \"-5\"]",
    "type = \"uuid\"",
    "type = \"decimal(8,2)\", decimal_mark = \",\", grouping = \".\", strip = [\"€\", \"kr\"]",
    "type = \"float64\", grouping = \",\", strip = \"$\", accounting = true",
    "type = \"ip\"",
];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]
    /// Runs are taken in texts that are valid UTF-8 as a whole. With a byte in another column that is not, every value goes
    /// the usual way, and what comes out of it is the same.
    #[test]
    fn runs_take_what_the_usual_way_takes(
        kinds in proptest::collection::vec(crate::laws::value(), 1..8),
        near in proptest::collection::vec("-?[0-9]{1,20}|-?[0-9]{1,9}\\.[0-9]{1,9}|[0-9]{2}/[0-9]{2}/[0-9]{2}", 1..8),
        picks in proptest::collection::vec((0usize..16, any::<bool>()), 1..60), declared in 0..DECLARED.len(), reject: bool,
    ) {
        let kinds: Vec<&String> = kinds.iter().chain(&near).collect();
        let rows: String = picks.iter().map(|(at, in_quotes)| {
            let value = kinds[at % kinds.len()];
            let is_plain = !in_quotes && !value.contains(['"', ',', '\n', '\r']);
            if is_plain { format!("{value},x\n") } else { format!("{},x\n", crate::laws::quoted(value)) }
        }).collect();
        let column = DECLARED[declared];
        let misfit = if reject || column.contains("required") { "reject" } else { "null" };
        let schema = format!("typhos = 1\n[columns]\na = {{ {column}, misfit = \"{misfit}\" }}\nb = {{ type = \"text\", misfit = \"null\" }}\n");
        let outcome = |last: &[u8]| {
            let text = [b"a,b\n", rows.as_bytes(), b"1,", last, b"\n"].concat();
            let (rows, account, aside) = convert_bytes(&schema, text, OnMisfit::AsDeclared);
            let first: Vec<String> = rows.into_iter().map(|mut row| row.remove(0)).collect();
            let aside: Vec<MisfitValue> = aside.into_iter().map(|aside| aside.misfit).collect();
            (first, account.columns[0].clone(), account.set_aside, aside)
        };
        prop_assert_eq!(outcome(b"x"), outcome(b"\xff"));
    }
}

/// Columns without nulls say nothing of them: what writes them need not ask.
#[test]
fn columns_of_values_alone_have_no_validity() {
    let schema = "typhos = 1\n[columns]\na = { type = \"uint8\" }\nb = { type = \"text\" }\nc = { type = \"lowcard\" }\nd = { type = \"uint8\" }\n";
    let text = "a,b,c,d\n1,x,é,1\n2,é,z,\n3,z,z,3\n";
    let input = Input::from_bytes("t.csv", text.into(), &Dialect::RFC_4180.into());
    let plan = Plan::new(read(schema).unwrap(), &input).unwrap();
    let mut blocks = BlockReader::new(&input, 1 << 20);
    let mut block = Block::default();
    assert!(blocks.next(&mut block).unwrap());
    let mut counts = Vec::new();
    let report = Converter::new(&plan, OnMisfit::AsDeclared).convert::<Stopped>(&block, |batch| {
        counts.extend(
            batch.columns().iter().map(|column| column.nulls().map(|nulls| nulls.null_count())),
        );
        Ok(())
    });
    assert_eq!((report.unwrap().account.loaded, counts), (3, vec![None, None, None, Some(1)]));
}

#[test]
fn arrow_types_of_all_types() {
    use arrow_schema::DataType as D;
    for (spelling, want) in [
        ("bool", D::Boolean),
        ("uint16", D::UInt16),
        ("decimal(6,2)", D::Decimal32(6, 2)),
        ("decimal(9,2)", D::Decimal32(9, 2)),
        ("decimal(10,2)", D::Decimal64(10, 2)),
        ("decimal(18,0)", D::Decimal64(18, 0)),
        ("decimal(19,0)", D::Decimal128(19, 0)),
        ("time(s)", D::Time32(arrow_schema::TimeUnit::Second)),
        ("duration(ms)", D::Duration(arrow_schema::TimeUnit::Millisecond)),
        ("time(ns)", D::Time64(arrow_schema::TimeUnit::Nanosecond)),
        (
            "timestamp(us, utc)",
            D::Timestamp(arrow_schema::TimeUnit::Microsecond, Some("UTC".into())),
        ),
    ] {
        assert_eq!(Scalar::parse(spelling).unwrap().arrow(0), want);
    }
}

/// Rows as lines, for short comparisons.
fn lines(rows: &[Vec<String>]) -> Vec<String> {
    rows.iter().map(|row| row.join("|")).collect()
}

#[test]
fn columns_are_joined_of_several() {
    let columns = r#"
sailing = { type = "text", from = ["vessel", "no"], glue = "-", misfit = "null" }
day = { type = "date", from = [3, "month", "day"], glue = "/", patterns = ["y/M/d"] }
"#;
    let text = "vessel,no,year,month,day\n\"Eider\",7,1970,1,3\n,,1970,1,1\nTern,,1970,2,1\n";
    let (rows, account, _) = convert(columns, text).unwrap();
    assert_eq!(lines(&rows), ["Eider-7|2", "null|0", "null|31"]);
    let misfit = &account.columns[0].examples[0];
    assert_eq!((misfit.place.line, misfit.value.as_str()), (4, "Tern-"));
    assert!(
        misfit.reason.to_string().contains("some source columns that are absent: number 2"),
        "{}",
        misfit.reason
    );
}

#[test]
fn a_default_stands_for_what_is_absent() {
    let columns = r#"
party = { type = "uint8", default = 1, required = true }
cabin = { type = "category", values = ["deck", "berth"], default = "deck", absent = ["", "-"] }
sold = { type = "date", patterns = ["d.M.yyyy"], default = "2.1.1970" }
"#;
    let (rows, ..) = convert(columns, "party,cabin,sold\n,-,\n4,berth,5.1.1970\n").unwrap();
    assert_eq!(lines(&rows), ["1|deck|1", "4|berth|4"]);
}

#[test]
fn rows_have_the_numbers_of_their_records() {
    let schema = "typhos = 1\n[input]\nmisfit = 'reject'\n[columns]\nid = { type = 'int32', generate = 'row-number', start = 10 }\n\
                  n = { type = 'uint8', misfit = 'reject' }\nt = { type = 'text' }\n";
    let text: String = (0..200)
        .map(|i| match i % 7 {
            2 => "one field\n".into(),
            5 => "999,too large\n".into(),
            _ => format!("{},\"two\nlines\"\n", i % 200),
        })
        .collect();
    let text = format!("n,t\n{text}");
    let want: Vec<String> = (0..200)
        .filter(|i| i % 7 != 2 && i % 7 != 5)
        .map(|i| format!("{}|{i}|two\nlines", i + 10))
        .collect();
    for (threads, block_bytes) in [(1, 1 << 20), (2, 100), (3, 17)] {
        let (rows, account, _) =
            convert_with(schema, &text, threads, block_bytes, OnMisfit::AsDeclared).unwrap();
        assert_eq!(lines(&rows), want, "{threads} threads, blocks of {block_bytes}");
        assert_eq!((account.read, account.loaded), (200, want.len() as u64));
    }
    let stopped =
        misfit_of("id = { type = 'uint8', generate = 'row-number', start = 255 }", "a\n1\n2\n");
    assert_eq!(stopped, "3 Some(0) '256' is outside of uint8: 0 to 255");
}

#[test]
fn mistakes_about_sources_have_their_words() {
    for (column, want) in [
        ("{ type = 'text', from = ['a', 'b'] }", "several columns need a glue"),
        ("{ type = 'text', from = ['a'], glue = '-' }", "one column is not several"),
        ("{ type = 'text', glue = '-' }", "'glue' needs several columns"),
        ("{ type = 'geopoint', from = ['a', 'b', 'c'] }", "a point is made of two columns"),
        ("{ type = 'text', generate = 'row-number' }", "row numbers are integers"),
        (
            "{ generate = 'row-number', from = 'a' }",
            "'from' does not apply to values that are generated",
        ),
        ("{ generate = 'serial' }", "nothing generates 'serial'"),
        ("{ type = 'uint8', start = 3 }", "'start' belongs to generated numbers"),
        ("{ type = 'uint8', default = 300 }", "the default '300' is outside of uint8: 0 to 255"),
        (
            "{ type = 'category', values = ['a'], default = 'b' }",
            "the default 'b' is not in the list",
        ),
    ] {
        let wrong = read(&format!("typhos = 1\n[columns]\nx = {column}\n")).unwrap_err();
        assert!(wrong.iter().any(|w| w.message.contains(want)), "{column}: {wrong:?}");
    }
    let schema = "typhos = 1\n[columns]\n\"p\" = { type = \"geopoint\", from = [\"lat\", 2], comment = \"where it lies\" } # drafted\n\
                  id = { generate = \"row-number\" }\n";
    let schema = read(schema).unwrap();
    assert_eq!(schema.columns[0].comment.as_deref(), Some("where it lies"));
    let again = read(&crate::schema::write(&schema, &[], &[])).unwrap();
    assert_eq!(again.columns[0].comment, schema.columns[0].comment);
    assert_eq!(again.columns[0].from, schema.columns[0].from);
    assert_eq!(again.columns[1].generate, schema.columns[1].generate);
    assert_eq!(again.columns[1].scalar(), schema.columns[1].scalar());
}
