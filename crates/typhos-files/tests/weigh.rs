//! Ledgers against the accounting of Arrow and the sizes of files, and files in an order.

use std::collections::HashSet;
use std::num::NonZeroUsize;
use std::path::Path;

use arrow_array::cast::AsArray;
use arrow_array::types::{UInt8Type, UInt16Type, UInt32Type};
use arrow_array::{Array, ArrayRef, DictionaryArray, RecordBatch};
use arrow_schema::DataType;
use parquet::file::reader::{FileReader, SerializedFileReader};
use typhos_core::columns::{Converter, MisfitValue, OnMisfit, Plan, cell_text};
use typhos_core::filter::Filter;
use typhos_core::ledger::faces;
use typhos_core::read_schema as read;
use typhos_core::run::{NoMonitor, RunOptions};
use typhos_core::sorting::DEFAULT_SORT_MEMORY;
use typhos_core::table::{Selection, Table, selected_rows};
use typhos_core::text::{Block, BlockReader, Dialect, Input};
use typhos_files::parquet::SORT_KEY;
use typhos_files::tables::ParquetTable;
use typhos_files::{WeighAs, Weighed, Weighing, weigh};
use typhos_load::{Address, Destination, LoadOptions, Parts, load};

/// A file or directory as a destination.
fn into(path: &Path, table: &str, parts: Option<Parts>) -> Box<dyn Destination> {
    let address = Address { into: path.to_str().unwrap(), table, parts, ..Address::default() };
    typhos_files::destination(&address).unwrap()
}

const COLUMNS: &str = "typhos = 1\n[columns]\nn = { type = 'uint8' }\nwide = { type = 'int64', required = true }\n\
    ok = { type = 'bool' }\nfare = { type = 'decimal(6,2)' }\nsum = { type = 'decimal(15,2)' }\n\
    huge = { type = 'decimal(30,2)' }\nx = { type = 'float32' }\nroute = { type = 'lowcard' }\n\
    cabin = { type = 'category', values = ['deck', 'saloon', 'cabin', 'never'], ranked = true }\n\
    on = { type = 'date', patterns = ['yyyy-MM-dd'] }\nat = { type = 'timestamp(s)', patterns = ['yyyy-MM-dd HH:mm'] }\n\
    t = { type = 'time(s)', patterns = ['HH:mm'] }\nid = { type = 'uuid' }\nplace = { type = 'geopoint' }\n\
    note = { type = 'text' }\n";

/// So many rows of every type, every seventh without a value but in `wide`.
fn text(rows: usize) -> String {
    let row = |n: usize| match n % 7 {
        6 => format!(",{n},,,,,,,,,,,,,,left out\n"),
        _ => format!(
            "{},{n},{},{}.25,{n}.50,{n}00000000000000000000.25,{}.5,route {},{},2024-01-{:02},2024-01-01 {:02}:30,{:02}:15,\
             6f9619ff-8b86-d011-b42d-{n:012x},\"1.5,{}\",\"{}\",left out\n",
            n % 200,
            n.is_multiple_of(2),
            n % 100,
            n % 50,
            n % 300,
            ["deck", "saloon", "cabin"][n % 3],
            n % 28 + 1,
            n % 24,
            n % 24,
            n % 90,
            "ø".repeat(n % 20),
        ),
    };
    let header = "n,wide,ok,fare,sum,huge,x,route,cabin,on,at,t,id,place,note,gone\n";
    format!("{header}{}", (0..rows).map(row).collect::<String>())
}

fn bound(schema: &str, text: &str) -> (Plan, Input) {
    let input = Input::from_bytes("t.csv", text.as_bytes().to_vec(), &Dialect::RFC_4180.into());
    let plan = Plan::new(read(schema).unwrap_or_else(|wrong| panic!("{wrong:?}")), &input).unwrap();
    (plan, input)
}

fn weighed(
    plan: &Plan,
    input: &Input,
    others: &[Plan],
    question: Option<&str>,
    threads: usize,
) -> Weighed {
    let folder = tempfile::tempdir().unwrap();
    let filter = question.map(|q| Filter::parse(q, plan.schema(), &plan.arrow()).unwrap());
    let threads = NonZeroUsize::new(threads).unwrap();
    let weighing = Weighing {
        input,
        plan,
        others,
        filter: filter.as_ref(),
        run: RunOptions { threads, ..RunOptions::default() },
        memory: typhos_load::DEFAULT_MEMORY,
        sort_memory: DEFAULT_SORT_MEMORY,
        folder: folder.path().to_path_buf(),
        wanted: WeighAs::Ledger,
    };
    weigh(&weighing, &NoMonitor).unwrap()
}

fn load_into(path: &Path, plan: &Plan, input: &Input) {
    let options = LoadOptions {
        mode: typhos_load::Mode::Replace,
        ..LoadOptions::new(path.with_extension("rejects.csv"))
    };
    let destination = into(path, "t", None);
    load(input, plan, &*destination, &options, &NoMonitor).unwrap();
}

/// All rows of an input as one batch.
fn whole(plan: &Plan, input: &Input) -> RecordBatch {
    let mut block = Block::default();
    assert!(BlockReader::new(input, 1 << 30).next(&mut block).unwrap());
    let mut all = None;
    let mut keep = |batch| {
        all = Some(batch);
        Ok::<(), MisfitValue>(())
    };
    let mut converter = Converter::new(plan, OnMisfit::AsDeclared).in_one_batch();
    converter.convert::<MisfitValue>(&block, &mut keep).unwrap();
    all.unwrap()
}

/// A column as it would be held in memory: codes of an open set as narrow as they can be.
fn held(array: &ArrayRef, is_open: bool) -> ArrayRef {
    if !is_open {
        return array.clone();
    }
    let dictionary = array.as_dictionary::<UInt32Type>();
    let words = dictionary.values().as_string::<i32>();
    let texts = dictionary.keys().iter().map(|code| code.map(|code| words.value(code as usize)));
    match words.len() {
        ..=256 => std::sync::Arc::new(texts.collect::<DictionaryArray<UInt8Type>>()),
        257..=65_536 => std::sync::Arc::new(texts.collect::<DictionaryArray<UInt16Type>>()),
        _ => array.clone(),
    }
}

#[test]
fn a_ledger_is_what_arrow_counts() {
    for rows in [1, 9, 1000, 20_000] {
        let (plan, input) = bound(COLUMNS, &text(rows));
        let faces = faces(plan.schema(), plan.sources(), input.names(), None);
        let others = [faces.text, faces.wide].map(|face| Plan::new(face, &input).unwrap());
        let weighed = weighed(&plan, &input, &others, None, 2);
        let all =
            std::iter::once((&plan, &weighed.declared)).chain(others.iter().zip(&weighed.others));
        for (plan, weight) in all {
            let batch = whole(plan, &input);
            for (at, column) in plan.schema().columns.iter().enumerate() {
                let is_open = column.scalar().to_string() == "lowcard";
                let array = held(batch.column(at), is_open);
                let counted = array.to_data().get_slice_memory_size().unwrap() as u64;
                assert_eq!(weight.memory[at].total(), counted, "{} of {rows} rows", column.name);
            }
        }
        assert_eq!(weighed.account.loaded, rows as u64);
    }
}

#[test]
fn a_ledger_is_the_size_of_the_file() {
    let folder = tempfile::tempdir().unwrap();
    for layout in
        ["", "[layout]\nsort = ['cabin', 'wide desc']\ncompression = 'snappy'\nrow_group = 6000\n"]
    {
        let (plan, input) = bound(&format!("{COLUMNS}{layout}"), &text(20_000));
        let path = folder.path().join("t.parquet");
        load_into(&path, &plan, &input);
        let size = path.metadata().unwrap().len();
        for threads in [1, 3] {
            let weight = weighed(&plan, &input, &[], None, threads).declared;
            assert_eq!(weight.file, size, "{layout}");
            let reader = SerializedFileReader::new(std::fs::File::open(&path).unwrap()).unwrap();
            let groups = reader.metadata().row_groups();
            let pages: i64 = groups.iter().map(|group| group.compressed_size()).sum();
            assert_eq!(weight.disk.iter().sum::<u64>(), pages.unsigned_abs());
        }
    }
}

#[test]
fn codes_are_as_narrow_as_the_values_allow() {
    let folder = tempfile::tempdir().unwrap();
    // What is held, and what a file tells its readers: they have one code less than there are.
    for (values, held, told) in [
        (255, DataType::UInt8, DataType::UInt8),
        (256, DataType::UInt8, DataType::UInt16),
        (257, DataType::UInt16, DataType::UInt16),
        (65_535, DataType::UInt16, DataType::UInt16),
        (65_536, DataType::UInt16, DataType::UInt32),
        (65_537, DataType::UInt32, DataType::UInt32),
    ] {
        // Two rounds, the second one backwards, in row groups of their own.
        let texts = (0..values).chain((0..values).rev()).map(|n| format!("v{n}"));
        let lines: Vec<String> = texts.collect();
        let schema = format!(
            "typhos = 1\n[columns]\na = {{ type = 'lowcard' }}\n[layout]\nrow_group = {values}\n"
        );
        let (plan, input) = bound(
            &schema,
            &format!("a,b\n{}", lines.iter().map(|l| format!("{l},\n")).collect::<String>()),
        );
        let path = folder.path().join("t.parquet");
        load_into(&path, &plan, &input);
        let mut table = ParquetTable::open(&path).unwrap();
        let (schema, total) = (table.schema(), table.rows().unwrap());
        let (batches, _) = selected_rows(&mut table, &Selection::first(lines.len())).unwrap();
        let DataType::Dictionary(codes, _) = schema.field(0).data_type() else {
            panic!("{schema}")
        };
        assert_eq!((**codes).clone(), told, "{values} values");
        assert_eq!(total, lines.len() as u64);
        let cells = |batch: &RecordBatch| {
            let column = batch.column(0).clone();
            (0..column.len()).map(move |row| cell_text(&column, row).unwrap()).collect::<Vec<_>>()
        };
        assert_eq!(batches.iter().flat_map(cells).collect::<Vec<_>>(), lines);
        // In memory each row takes a code, and each value its text with an offset.
        let weight = weighed(&plan, &input, &[], None, 2).declared.memory[0];
        let words: usize = (0..values).map(|n| format!("v{n}").len()).sum();
        let code = held.primitive_width().unwrap();
        assert_eq!(weight.total(), (lines.len() * code + words + 4 * (values + 1)) as u64);
        // A closed list is the same.
        let list: Vec<String> = (0..values).map(|n| format!("'v{n}'")).collect();
        let schema = format!(
            "typhos = 1\n[columns]\na = {{ type = 'category', values = [{}] }}",
            list.join(",")
        );
        let (plan, _) = bound(&schema, "a,b\nv1,\n");
        assert_eq!(
            plan.arrow().field(0).data_type(),
            &DataType::Dictionary(Box::new(held), Box::new(DataType::Utf8))
        );
    }
}

#[test]
fn a_file_says_what_its_rows_are_sorted_by() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("t.parquet");
    for (sort, columns) in [
        ("['place', 'on']", &[][..]),
        ("['on desc', 'note', 'cabin', 'n']", &[(9, true), (15, false)]),
        ("['cabin']", &[]),
    ] {
        let (plan, input) = bound(&format!("{COLUMNS}[layout]\nsort = {sort}\n"), &text(500));
        load_into(&path, &plan, &input);
        let reader = SerializedFileReader::new(std::fs::File::open(&path).unwrap()).unwrap();
        let about = reader.metadata();
        let said = about.file_metadata().key_value_metadata().unwrap();
        let said =
            said.iter().find(|entry| entry.key == SORT_KEY).and_then(|entry| entry.value.clone());
        assert_eq!(said.unwrap(), sort.replace('\'', "\"").replace(", ", ","));
        let sorting = about.row_group(0).sorting_columns().cloned().unwrap_or_default();
        let found: Vec<_> = sorting.iter().map(|key| (key.column_idx, key.descending)).collect();
        assert_eq!(found, columns, "{sort}: Parquet knows no ranks");
    }
}

/// The law of footprints: what a reader finds in the pages it reads is all that is meant.
#[test]
fn sorted_rows_are_found_in_fewer_bytes() {
    let rows = text(30_000);
    let question = "cabin > 'deck' and fare between 10 and 12.5";
    let layout = "[layout]\nrow_group = 10000\npage = '4 KiB'\n";
    let footprint = |layout: &str| {
        let (plan, input) = bound(&format!("{COLUMNS}{layout}"), &rows);
        let weighed = weighed(&plan, &input, &[], Some(question), 2);
        (weighed.matched, weighed.footprint.unwrap())
    };
    let (matched, plain) = footprint(layout);
    let (same, sorted) = footprint(&format!("{layout}sort = ['cabin', 'fare']\n"));
    assert_eq!(matched, same);
    assert!(matched > 0 && sorted.rows.0 >= matched && plain.rows.0 >= matched);
    assert_eq!((plain.rows.1, sorted.rows.1), (30_000, 30_000));
    assert!(sorted.rows.0 * 2 < plain.rows.0, "{sorted:?} against {plain:?}");
    assert!(sorted.bytes.0 * 5 < plain.bytes.0 * 4, "{sorted:?} against {plain:?}");
    assert!(sorted.groups.0 < sorted.groups.1, "{sorted:?}");
}

#[test]
fn sorted_files_hold_the_same_rows() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("t.parquet");
    let rows = text(5000);
    let of = |layout: &str| {
        let (plan, input) = bound(&format!("{COLUMNS}{layout}"), &rows);
        load_into(&path, &plan, &input);
        let mut table = ParquetTable::open(&path).unwrap();
        let (batches, _) = selected_rows(&mut table, &Selection::first(5000)).unwrap();
        let row = |batch: &RecordBatch, at: usize| {
            batch.columns().iter().map(|column| cell_text(column, at)).collect::<Vec<_>>()
        };
        batches
            .iter()
            .flat_map(|batch| (0..batch.num_rows()).map(|at| row(batch, at)).collect::<Vec<_>>())
            .collect::<Vec<_>>()
    };
    let plain = of("");
    let sorted = of("[layout]\nsort = ['on', 'x desc']\n");
    assert_ne!(plain, sorted);
    let keys: Vec<_> =
        sorted.iter().map(|row| row[9].clone()).take_while(Option::is_some).collect();
    assert!(keys.is_sorted());
    assert_eq!(
        keys.len(),
        sorted.iter().filter(|row| row[9].is_some()).count(),
        "absent comes last"
    );
    let set = |rows: &[Vec<Option<String>>]| rows.iter().cloned().collect::<HashSet<_>>();
    assert_eq!((set(&plain), plain.len()), (set(&sorted), sorted.len()));
}
