//! The law between checking and loading, on random schemas and files: a check never passes what a load
//! refuses, and never objects to what a load takes whole.

use std::path::Path;

use proptest::prelude::*;
use typhos_core::columns::{Account, Converter, MisfitValue, OnMisfit, Plan};
use typhos_core::read_schema as read;
use typhos_core::run::NoMonitor;
use typhos_core::text::{Block, BlockReader, Input, InputChoice};
use typhos_load::{
    Address, Destination, KeyWatch, LoadOptions, Parts, TempFiles, key_problems, load,
};

/// A file or directory as a destination.
fn into(path: &Path, table: &str, parts: Option<Parts>) -> Box<dyn Destination> {
    let address = Address { into: path.to_str().unwrap(), table, parts, ..Address::default() };
    typhos_files::destination(&address).unwrap()
}

/// What a check says: nothing to object to.
fn passes(plan: &Plan, input: &Input) -> bool {
    let keys = KeyWatch::new(plan, &TempFiles::inside(&std::env::temp_dir()));
    let mut converter = Converter::new(plan, OnMisfit::NoteAll);
    let mut reader = BlockReader::new(plan.blocks(input), 64);
    let (mut block, mut account) = (Block::default(), Account::new(plan.schema().columns.len()));
    while reader.next(&mut block).unwrap() {
        let report = converter.convert_with_places::<MisfitValue>(&block, |batch, places| {
            let lines = places.lines;
            if let Some(keys) = &keys {
                keys.note(&batch, block.file, lines).unwrap();
            }
            Ok(())
        });
        account.add(&report.unwrap().account);
    }
    let repeats = keys.map_or(0, |keys| keys.finish(input).unwrap().count);
    account.misfits() == 0 && repeats == 0 && key_problems(plan.schema()).is_empty()
}

/// A declaration of a column: its keys.
fn keys() -> impl Strategy<Value = String> {
    let types = prop_oneof![
        Just("type = 'uint8'"),
        Just("type = 'int16', low = -5, high = 300"),
        Just("type = 'decimal(4,2)'"),
        Just("type = 'decimal(6,2)', decimal_mark = ',', grouping = '.'"),
        Just("type = 'decimal(6,2)', negative = 'DR', accounting = true"),
        Just("type = 'float32'"),
        Just("type = 'bool'"),
        Just("type = 'date'"),
        Just("type = 'timestamp(s)'"),
        Just("type = 'time(s)'"),
        Just("type = 'uuid'"),
        Just("type = 'ip'"),
        Just("type = 'text'"),
        Just("type = 'text(3)'"),
        Just("type = 'lowcard'"),
        Just("type = 'category', values = ['deck', 'saloon', ''], ranked = true"),
        Just("type = 'text', from = ['a', 'b'], glue = '-', glue_absent = 'skip'"),
        Just("type = 'text', from = ['a', 'b'], glue = '-', glue_absent = 'null'"),
        Just("type = 'text', from = ['a', 'b'], glue = '-'"),
        Just("generate = 'line', type = 'uint8'"),
        Just("generate = 'row-number'"),
        Just("generate = 'file'"),
    ];
    let more = prop_oneof![
        6 => Just(""),
        2 => Just(", required = true"),
        1 => Just(", misfit = 'reject'"),
        1 => Just(", misfit = 'null'"),
    ];
    (types, more).prop_map(|(ty, more)| format!("{{ {ty}{more} }}"))
}

fn value() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => (0u32..300).prop_map(|n| n.to_string()),
        1 => Just(String::new()),
        1 => Just("NA".to_owned()),
        2 => (0i32..999, 0u32..100).prop_map(|(a, b)| format!("{a}.{b:02}")),
        1 => Just("1.234,50".to_owned()),
        1 => Just("12.50 DR".to_owned()),
        1 => Just("(3)".to_owned()),
        1 => Just("true".to_owned()),
        2 => Just("2024-03-01".to_owned()),
        1 => Just("2024-02-30".to_owned()),
        1 => Just("2024-03-01 10:20".to_owned()),
        1 => Just("10:20:30".to_owned()),
        1 => Just("25:20:30".to_owned()),
        1 => Just("6f9619ff8b86d011b42d00cf4fc964ff".to_owned()),
        1 => Just("192.168.100.123".to_owned()),
        2 => Just("deck".to_owned()),
        1 => Just("\"sal\"\"oon\"".to_owned()),
        1 => Just("\"open".to_owned()),
        1 => Just("Tårnvik".to_owned()),
    ]
}

fn record() -> impl Strategy<Value = String> {
    let several = |count: usize| proptest::collection::vec(value(), count);
    prop_oneof![
        12 => several(3).prop_map(|values| values.join(",")),
        1 => several(2).prop_map(|values| values.join(",")),
        1 => several(4).prop_map(|values| values.join(",")),
    ]
}

fn loaded(plan: &Plan, input: &Input, folder: &Path, kind: usize) -> Result<Account, String> {
    let destination = match kind {
        0 => into(&folder.join("t.arrow"), "t", None),
        1 => into(&folder.join("t.parquet"), "t", None),
        _ => into(&folder.join("t.sqlite"), "t", None),
    };
    let options = LoadOptions::new(folder.join("rejects.csv"));
    let report = load(input, plan, &*destination, &options, &NoMonitor);
    report.map(|report| report.account).map_err(|error| error.to_string())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn a_check_and_a_load_agree(
        columns in proptest::collection::vec(keys(), 1..4),
        records in proptest::collection::vec(record(), 1..8),
        is_keyed in proptest::bool::weighted(0.2), is_sorted: bool, short in proptest::bool::weighted(0.3),
        end in 0usize..3, kind in 0usize..3,
    ) {
        let names = ["a", "b", "c"];
        let mut schema = format!(
            "typhos = 1\n[input]\ndelimiter = ','\nheader = true\nskip = 0\nencoding = 'utf-8'\nabsent = ['', 'NA']\nskip_end = {end}\n"
        );
        if short {
            schema.push_str("short_records = 'absent'\n");
        }
        schema.push_str("[columns]\n");
        for (name, keys) in names.iter().zip(&columns) {
            schema.push_str(&format!("{name} = {keys}\n"));
        }
        if is_keyed {
            schema.push_str("[layout]\nkey = ['a']\n");
        } else if is_sorted {
            schema.push_str("[layout]\nsort = ['a']\n");
        }
        // Keys that do not go together are refused before anything is read.
        let Ok(schema) = read(&schema) else { return Ok(()) };
        let text = format!("a,b,c\n{}\n", records.join("\n"));
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("in.csv");
        std::fs::write(&path, &text).unwrap();
        let choice = InputChoice { ..schema.input_choice() };
        let input = typhos_files::origins::open(&[&path], &choice).unwrap();
        let Ok(plan) = Plan::new(schema, &input) else { return Ok(()) };
        let is_fine = passes(&plan, &input);
        let account = loaded(&plan, &input, folder.path(), kind);
        match account {
            Err(why) => prop_assert!(!is_fine, "a check passes what a load refuses: {why}\n{text}\n{:#?}", plan.schema().columns),
            Ok(account) => {
                prop_assert_eq!(account.read, account.loaded + account.set_aside);
                let is_whole = account.misfits() == 0;
                prop_assert_eq!(is_fine, is_whole, "{}\n{:#?}", text, plan.schema().columns);
            }
        }
    }
}
