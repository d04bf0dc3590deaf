//! Every type at its extremes and absent, through each target and back.

use std::path::Path;

use typhos_core::columns::{Plan, cell_text};
use typhos_core::read_schema as read;
use typhos_core::run::{Monitor, NoMonitor};
use typhos_core::table::{Selection, Table, selected_rows};
use typhos_core::text::{Dialect, Input, InputChoice};
use typhos_files::sqlite;
use typhos_files::tables::{ParquetTable, SqliteTable};
use typhos_load::{
    Address, Destination, LoadError, LoadOptions, LoadReport, Parts, Proof, load, plan as plan_load,
};

/// A file or directory as a destination.
fn into(path: &Path, table: &str, parts: Option<Parts>) -> Box<dyn Destination> {
    let address = Address { into: path.to_str().unwrap(), table, parts, ..Address::default() };
    typhos_files::destination(&address).unwrap()
}

/// A declaration, and values as they are written and as SQLite gives them back where that differs.
type Case = (&'static str, [&'static str; 2], Option<[&'static str; 2]>);

const COLUMNS: [Case; 36] = [
    ("type = 'bool'", ["true", "false"], Some(["1", "0"])),
    ("type = 'int8'", ["-128", "127"], None),
    ("type = 'int16'", ["-32768", "32767"], None),
    ("type = 'int32'", ["-2147483648", "2147483647"], None),
    ("type = 'int64'", ["-9223372036854775808", "9223372036854775807"], None),
    ("type = 'uint8'", ["0", "255"], None),
    ("type = 'uint16'", ["0", "65535"], None),
    ("type = 'uint32'", ["0", "4294967295"], None),
    ("type = 'uint64'", ["0", "18446744073709551615"], None),
    ("type = 'float32'", ["0.1", "3.4028235e38"], None),
    ("type = 'float64'", ["0.1", "-1e-7"], None),
    ("type = 'decimal(9,0)'", ["-999999999", "999999999"], None),
    ("type = 'decimal(18,4)'", ["-99999999999999.9999", "99999999999999.9999"], None),
    ("type = 'decimal(15,2)'", ["-9999999999999.99", "0.01"], None),
    (
        "type = 'decimal(38,2)'",
        ["-999999999999999999999999999999999999.99", "999999999999999999999999999999999999.99"],
        None,
    ),
    ("type = 'text'", ["Tårnvik; \u{1f6a2}", "'; DROP TABLE t; --"], None),
    ("type = 'text(7)'", ["Tårnvik", "é"], None),
    ("type = 'lowcard'", ["Holm", "Sund"], None),
    ("type = 'category', values = ['deck', \"it's\", 'a, b']", ["a, b", "it's"], None),
    (
        "type = 'uuid'",
        ["00000000-0000-0000-0000-000000000000", "6f9619ff-8b86-d011-b42d-00cf4fc964ff"],
        None,
    ),
    ("type = 'ip'", ["192.0.2.1", "2001:db8::1"], None),
    ("type = 'geopoint'", ["-90,180", "59.91,-10.75"], None),
    ("type = 'json'", ["{}", "[1]"], None),
    ("type = 'float64', accounting = true", ["(2.5)", "2.25-"], Some(["-2.5", "-2.25"])),
    ("type = 'date', patterns = ['yyyy-MM-dd']", ["0001-01-01", "9999-12-31"], None),
    ("type = 'duration(s)'", ["25:51:00", "-0:10:00"], Some(["93060", "-600"])),
    (
        "type = 'duration(ns)'",
        ["2562047:47:16.854775807", "-0:00:00.000000001"],
        Some(["9223372036854775807", "-1"]),
    ),
    ("type = 'time(s)', patterns = ['HH:mm:ss']", ["00:00:00", "23:59:59"], None),
    ("type = 'time(ms)', patterns = ['HH:mm:ss.SSS']", ["00:00:00.001", "23:59:59.999"], None),
    (
        "type = 'time(us)', patterns = ['HH:mm:ss.SSSSSS']",
        ["00:00:00.000001", "23:59:59.999999"],
        None,
    ),
    (
        "type = 'time(ns)', patterns = ['HH:mm:ss.SSSSSSSSS']",
        ["00:00:00.000000001", "23:59:59.999999999"],
        None,
    ),
    (
        "type = 'timestamp(s)', patterns = ['yyyy-MM-dd HH:mm:ss']",
        ["0001-01-01 00:00:01", "9999-12-31 23:59:59"],
        None,
    ),
    (
        "type = 'timestamp(ms)', patterns = ['yyyy-MM-dd HH:mm:ss.SSS']",
        ["0001-01-01 00:00:00.001", "9999-12-31 23:59:59.999"],
        None,
    ),
    (
        "type = 'timestamp(ns)', patterns = ['yyyy-MM-dd HH:mm:ss.SSSSSSSSS']",
        ["1677-09-21 00:12:43.145224192", "2262-04-11 23:47:16.854775807"],
        None,
    ),
    (
        "type = 'timestamp(s, utc)', patterns = ['yyyy-MM-dd HH:mm:ssX']",
        ["0001-01-01 00:00:01Z", "9999-12-31 23:59:59Z"],
        None,
    ),
    (
        "type = 'timestamp(us, utc)', patterns = ['yyyy-MM-dd HH:mm:ss.SSSSSSX']",
        ["0001-01-01 00:00:00.000001Z", "9999-12-31 23:59:59.999999Z"],
        None,
    ),
];

fn world() -> (Plan, Input) {
    let lines: Vec<_> =
        COLUMNS.iter().enumerate().map(|(at, (ty, ..))| format!("c{at} = {{ {ty} }}")).collect();
    let schema = read(&format!("typhos = 1\n[columns]\n{}\n", lines.join("\n"))).unwrap();
    let names: Vec<_> = (0..COLUMNS.len()).map(|at| format!("c{at}")).collect();
    let row = |at: usize| {
        let values = COLUMNS.iter().map(|(_, values, _)| format!("\"{}\"", values[at]));
        values.collect::<Vec<_>>().join(",")
    };
    let absent = ",".repeat(COLUMNS.len() - 1);
    let text = format!("{}\n{}\n{absent}\n{}\n", names.join(","), row(0), row(1));
    let input = Input::from_bytes("t.csv", text.into_bytes(), &Dialect::RFC_4180.into());
    (Plan::new(schema, &input).unwrap(), input)
}

fn load_into(
    destination: &dyn Destination,
    plan: &Plan,
    input: &Input,
    folder: &Path,
) -> Result<LoadReport, LoadError> {
    load(input, plan, destination, &options(folder), &NoMonitor)
}

fn options(folder: &Path) -> LoadOptions {
    LoadOptions::new(folder.join("rejects.csv"))
}

#[test]
fn parquet_gives_back_what_it_was_given() {
    let folder = tempfile::tempdir().unwrap();
    let (plan, input) = world();
    for parts in [None, Some(Parts::Count(2)), Some(Parts::Bytes(1))] {
        let path = folder.path().join(format!("t{parts:?}.parquet"));
        let destination = into(&path, "t", parts);
        let report = load_into(&*destination, &plan, &input, folder.path()).unwrap();
        assert_eq!((report.account.read, report.account.loaded), (3, 3));
        assert!(matches!(report.done.proof, Proof::Proven { rows: 3, .. }), "{:?}", report.done);
        let mut table = ParquetTable::open(&path).unwrap();
        assert_eq!(table.rows(), Some(3));
        let (batches, _) = selected_rows(&mut table, &Selection::first(10)).unwrap();
        for (at, (ty, [first, last], stored)) in COLUMNS.iter().enumerate() {
            let column: Vec<_> = batches
                .iter()
                .flat_map(|batch| (0..batch.num_rows()).map(|row| cell_text(batch.column(at), row)))
                .collect();
            // What is written in its own way comes back plainly, from any target.
            let [first, last] = match stored {
                Some([first, last]) if ty.contains("accounting") => [first, last],
                _ => [first, last],
            };
            assert_eq!(column, [Some((*first).to_owned()), None, Some((*last).to_owned())], "{ty}");
        }
    }
}

#[test]
fn an_arrow_file_gives_back_what_it_was_given() {
    let folder = tempfile::tempdir().unwrap();
    let (plan, input) = world();
    let path = folder.path().join("t.arrow");
    let destination = into(&path, "t", None);
    let report = load_into(&*destination, &plan, &input, folder.path()).unwrap();
    assert!(matches!(report.done.proof, Proof::Proven { rows: 3, .. }), "{:?}", report.done);
    let file = std::fs::File::open(&path).unwrap();
    let reader = arrow_ipc::reader::FileReader::try_new(file, None).unwrap();
    assert_eq!(reader.schema(), plan.arrow());
    let batches: Vec<_> = reader.map(|batch| batch.unwrap()).collect();
    for (at, (ty, [first, last], stored)) in COLUMNS.iter().enumerate() {
        let [first, last] = match stored {
            Some([first, last]) if ty.contains("accounting") => [first, last],
            _ => [first, last],
        };
        let column: Vec<_> = batches
            .iter()
            .flat_map(|batch| (0..batch.num_rows()).map(|row| cell_text(batch.column(at), row)))
            .collect();
        assert_eq!(column, [Some((*first).to_owned()), None, Some((*last).to_owned())], "{ty}");
    }
}

/// Only of a ranked category do codes say which value is more than another.
#[test]
fn the_order_of_a_ranked_category_survives_in_arrow() {
    let folder = tempfile::tempdir().unwrap();
    let category = "{ type = 'category', values = ['saloon', 'deck'], from = 'cabin'";
    let schema = format!(
        "typhos = 1\n[columns]\nranked = {category}, ranked = true }}\nplain = {category} }}\n"
    );
    let text = b"cabin\ndeck\nsaloon\n".to_vec();
    let input = Input::from_bytes("t.csv", text, &Dialect::RFC_4180.into());
    let plan = Plan::new(read(&schema).unwrap(), &input).unwrap();
    let path = folder.path().join("t.arrow");
    load_into(&*into(&path, "t", None), &plan, &input, folder.path()).unwrap();
    let file = std::fs::File::open(&path).unwrap();
    let schema = arrow_ipc::reader::FileReader::try_new(file, None).unwrap().schema();
    let ordered: Vec<_> = schema.fields().iter().map(|field| field.dict_is_ordered()).collect();
    assert_eq!(ordered, [Some(true), Some(false)]);
    let ranks: Vec<_> = schema.fields().iter().map(|f| f.metadata().get("typhos.ranked")).collect();
    assert_eq!(ranks, [Some(&"[\"saloon\",\"deck\"]".to_owned()), None]);
}

/// Codes of an Arrow file are those of the whole file, however many blocks brought new texts along.
#[test]
fn dictionaries_of_an_arrow_file_grow() {
    let folder = tempfile::tempdir().unwrap();
    let words: Vec<_> = (0..300_000)
        .map(|n| format!("word {:05} of a long text", n * 7 % 5000 + n / 1000))
        .collect();
    let text = format!(
        "w,n\n{}",
        words.iter().enumerate().map(|(n, w)| format!("{w},{n}\n")).collect::<String>()
    );
    let input = Input::from_bytes("t.csv", text.into_bytes(), &Dialect::RFC_4180.into());
    let schema =
        "typhos = 1\n[columns]\nw = { type = 'lowcard' }\nid = { generate = 'row-number' }\n";
    let plan = Plan::new(read(schema).unwrap(), &input).unwrap();
    let path = folder.path().join("t.arrow");
    let destination = into(&path, "t", None);
    load_into(&*destination, &plan, &input, folder.path()).unwrap();
    let reader =
        arrow_ipc::reader::FileReader::try_new(std::fs::File::open(&path).unwrap(), None).unwrap();
    let mut row = 0;
    for batch in reader {
        let batch = batch.unwrap();
        for at in 0..batch.num_rows() {
            assert_eq!(cell_text(batch.column(0), at).as_ref(), Some(&words[row]), "row {row}");
            row += 1;
            assert_eq!(cell_text(batch.column(1), at), Some(row.to_string()));
        }
    }
    assert_eq!(row, words.len());
}

#[test]
fn sqlite_gives_back_what_it_was_given() {
    let folder = tempfile::tempdir().unwrap();
    let (plan, input) = world();
    let path = folder.path().join("t.sqlite");
    let destination = into(&path, "odd \"name\"", None);
    load_into(&*destination, &plan, &input, folder.path()).unwrap();
    assert_eq!(sqlite::tables(&path).unwrap(), ["odd \"name\""]);
    let mut table = SqliteTable::open(&path, "odd \"name\"").unwrap();
    assert_eq!(table.rows(), Some(3));
    let (batches, _) = selected_rows(&mut table, &Selection::first(10)).unwrap();
    for (at, (ty, values, stored)) in COLUMNS.iter().enumerate() {
        let column: Vec<_> = (0..3).map(|row| cell_text(batches[0].column(at), row)).collect();
        let [first, last] = stored.unwrap_or(*values);
        assert_eq!(column, [Some(first.to_owned()), None, Some(last.to_owned())], "{ty}");
    }
}

/// Sums of such numbers have more than 64 bits.
#[test]
fn sums_beyond_64_bits_are_proven() {
    let folder = tempfile::tempdir().unwrap();
    let schema = "typhos = 1\n[columns]\nn = { type = 'uint64' }\nx = { type = 'int64' }\ny = { type = 'int64' }\n";
    let schema = read(schema).unwrap();
    let row = format!("{},{},{}\n", u64::MAX - 1, i64::MAX, i64::MIN);
    let text = format!("n,x,y\n7,-5,5\n{}", row.repeat(3));
    let input = Input::from_bytes("t.csv", text.into_bytes(), &Dialect::RFC_4180.into());
    let plan = Plan::new(schema, &input).unwrap();
    for destination in [
        into(&folder.path().join("t.sqlite"), "t", None),
        into(&folder.path().join("t.parquet"), "t", None),
        into(&folder.path().join("t.arrow"), "t", None),
    ] {
        let planned =
            plan_load(&input, &plan, &*destination, &options(folder.path()), &NoMonitor).unwrap();
        assert!(planned.problems.is_empty(), "{:?}", planned.problems);
        let report = load_into(&*destination, &plan, &input, folder.path()).unwrap();
        assert_eq!(
            report.done.proof,
            Proof::Proven { facts: 13, rows: 4, is_before_move: false },
            "{destination:?}"
        );
    }
}

#[test]
fn names_that_differ_in_letter_case_only_are_refused_by_sqlite() {
    let folder = tempfile::tempdir().unwrap();
    let schema =
        read("typhos = 1\n[columns]\nn = { type = 'text' }\nN = { type = 'text' }\n").unwrap();
    let input = Input::from_bytes("t.csv", b"n,N\n1,1\n".to_vec(), &Dialect::RFC_4180.into());
    let plan = Plan::new(schema, &input).unwrap();
    let destination = into(&folder.path().join("t.sqlite"), "t", None);
    let error = load_into(&*destination, &plan, &input, folder.path()).unwrap_err().to_string();
    assert!(error.contains("differs only in letter case"), "{error}");
}

/// A stream has no size to be shared out by; it must not be cut into a row group a record.
#[test]
fn a_stream_is_loaded_in_large_row_groups() {
    use parquet::file::reader::{FileReader, SerializedFileReader};
    let folder = tempfile::tempdir().unwrap();
    let text = format!("n,t\n{}", "1,x\n".repeat(50_000));
    let stream = Box::new(std::io::Cursor::new(text.into_bytes()));
    let input = Input::of(
        vec![std::sync::Arc::new(typhos_files::origins::Stream::new("stream", stream))],
        Vec::new(),
        &InputChoice::default(),
    )
    .unwrap();
    let schema = read("typhos = 1\n[columns]\nn = { type = 'uint8' }\n").unwrap();
    let plan = Plan::new(schema, &input).unwrap();
    let path = folder.path().join("t.parquet");
    let destination = into(&path, "t", None);
    let report = load_into(&*destination, &plan, &input, folder.path()).unwrap();
    assert_eq!(report.account.loaded, 50_000);
    let reader = SerializedFileReader::new(std::fs::File::open(path).unwrap()).unwrap();
    assert_eq!(reader.metadata().num_row_groups(), 1);
}

/// Of random numbers compression leaves all, so that nothing is gained by it; a person may want it all the same.
#[test]
fn what_does_not_get_smaller_is_not_compressed_unless_that_is_declared() {
    use parquet::basic::Compression;
    use parquet::file::reader::{FileReader, SerializedFileReader};
    let (mut state, mut text) = (1u64, "at,key,name,often\n".to_owned());
    for at in 0..20_000 {
        // The generator of Knuth's MMIX.
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        text += &format!("{at},{},berth {at},{}\n", state >> 33, state >> 60);
    }
    let columns = "at = { type = 'uint32' }\nkey = { type = 'uint32' }\nname = { type = 'text' }\noften = { type = 'uint8' }";
    let codecs = |layout: &str| -> Vec<Compression> {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("t.parquet");
        let input =
            Input::from_bytes("t.csv", text.clone().into_bytes(), &Dialect::RFC_4180.into());
        let schema = format!("typhos = 1\n[columns]\n{columns}\n{layout}");
        let plan = Plan::new(read(&schema).unwrap(), &input).unwrap();
        let report = load_into(&*into(&path, "t", None), &plan, &input, folder.path()).unwrap();
        assert_eq!(report.account.loaded, 20_000);
        let reader = SerializedFileReader::new(std::fs::File::open(path).unwrap()).unwrap();
        let chunks = reader.metadata().row_group(0).columns();
        chunks.iter().map(parquet::file::metadata::ColumnChunkMetaData::compression).collect()
    };
    let zstd = Compression::ZSTD(Default::default());
    assert_eq!(codecs(""), [zstd, Compression::UNCOMPRESSED, zstd, zstd]);
    assert_eq!(codecs("[layout]\ncompression = 'zstd'\n"), [zstd; 4]);
}

/// Keeps the steps that it is told of.
#[derive(Default)]
struct Steps(std::sync::Mutex<Vec<(&'static str, Option<u64>)>>);

impl Monitor for Steps {
    fn begin(&self, what: &'static str, bytes: Option<u64>) {
        self.0.lock().unwrap().push((what, bytes));
    }

    fn advance(&self, _bytes: u64) {}
}

#[test]
fn a_load_tells_its_steps() {
    let folder = tempfile::tempdir().unwrap();
    let text = b"n\n2\n1\n".to_vec();
    let bytes = Some(text.len() as u64);
    let input = Input::from_bytes("t.csv", text, &Dialect::RFC_4180.into());
    let schema = "typhos = 1\n[columns]\nn = { type = 'uint8', required = true }\n[layout]\nkey = ['n']\nsort = ['n']\n";
    let plan = Plan::new(read(schema).unwrap(), &input).unwrap();
    let destination = into(&folder.path().join("t.arrow"), "t", None);
    let steps = Steps::default();
    load(&input, &plan, &*destination, &options(folder.path()), &steps).unwrap();
    let want = [
        ("looking for duplicate keys", bytes),
        ("loading", bytes),
        ("merging what was sorted", None),
        ("proving", None),
    ];
    assert_eq!(*steps.0.lock().unwrap(), want);
}
