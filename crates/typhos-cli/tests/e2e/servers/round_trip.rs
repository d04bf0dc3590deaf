//! Every type at its extremes and absent, through each server and back.

use super::{Kind, for_each_server};
use crate::world::World;

/// A column: its declaration, its smallest and its largest value, and what a server shows for them where
/// that is written in another way.
pub struct Case {
    pub keys: &'static str,
    pub values: [&'static str; 2],
    pub shown: &'static [(Kind, [&'static str; 2])],
}

const fn case(keys: &'static str, values: [&'static str; 2]) -> Case {
    Case { keys, values, shown: &[] }
}

const fn other(
    keys: &'static str,
    values: [&'static str; 2],
    shown: &'static [(Kind, [&'static str; 2])],
) -> Case {
    Case { keys, values, shown }
}

use Kind::{ClickHouse, Mariadb, Postgres};

pub const CASES: [Case; 38] = [
    other(
        "type = 'bool'",
        ["false", "true"],
        &[(Postgres, ["f", "t"]), (Mariadb, ["0", "1"]), (ClickHouse, ["0", "1"])],
    ),
    case("type = 'int8'", ["-128", "127"]),
    case("type = 'int16'", ["-32768", "32767"]),
    case("type = 'int32'", ["-2147483648", "2147483647"]),
    case("type = 'int64'", ["-9223372036854775808", "9223372036854775807"]),
    case("type = 'uint8'", ["0", "255"]),
    case("type = 'uint16'", ["0", "65535"]),
    case("type = 'uint32'", ["0", "4294967295"]),
    case("type = 'uint64'", ["0", "18446744073709551615"]),
    case("type = 'decimal(5,2)'", ["-999.99", "999.99"]),
    case("type = 'decimal(9,0)'", ["-999999999", "999999999"]),
    case("type = 'decimal(18,4)'", ["-99999999999999.9999", "99999999999999.9999"]),
    case(
        "type = 'decimal(38,0)'",
        ["-99999999999999999999999999999999999999", "99999999999999999999999999999999999999"],
    ),
    case(
        "type = 'decimal(38,10)'",
        ["-9999999999999999999999999999.9999999999", "9999999999999999999999999999.9999999999"],
    ),
    other("type = 'float32'", ["-1.5", "0.1"], &[]),
    other(
        "type = 'float64'",
        ["-1.7976931348623157e308", "5e-324"],
        &[(Postgres, ["-1.7976931348623157e+308", "5e-324"])],
    ),
    case("type = 'text'", ["", "it's; \"DROP\" `x` \\ \\N \u{1f6a2} Tårnvik, %s \u{1}"]),
    case("type = 'text(8)'", ["é", "Tårnvikå"]),
    case("type = 'lowcard'", ["Holm ", "Sund\\'"]),
    case("type = 'category', values = ['deck', \"it's\", 'a, b']", ["a, b", "it's"]),
    case("type = 'category', values = ['', 'x ']", ["x ", "x "]),
    case("type = 'date', patterns = ['yyyy-MM-dd']", ["1970-01-01", "2105-12-31"]),
    other(
        "type = 'duration(ms)'",
        ["-0:00:00.001", "25:51:00"],
        &[
            (Postgres, ["-1", "93060000"]),
            (Mariadb, ["-1", "93060000"]),
            (ClickHouse, ["-1", "93060000"]),
        ],
    ),
    case("type = 'time(s)', patterns = ['HH:mm:ss']", ["00:00:00", "23:59:59"]),
    case("type = 'time(ms)', patterns = ['HH:mm:ss.SSS']", ["00:00:00.001", "23:59:59.999"]),
    case(
        "type = 'time(us)', patterns = ['HH:mm:ss.SSSSSS']",
        ["00:00:00.000001", "23:59:59.999999"],
    ),
    other(
        "type = 'time(ns)', patterns = ['HH:mm:ss.SSSSSSSSS']",
        ["00:00:00.000000001", "23:59:59.999999999"],
        &[
            (Postgres, ["1", "86399999999999"]),
            (Mariadb, ["1", "86399999999999"]),
            (ClickHouse, ["1", "86399999999999"]),
        ],
    ),
    case(
        "type = 'timestamp(s)', patterns = ['yyyy-MM-dd HH:mm:ss']",
        ["1970-01-01 00:00:01", "2105-12-31 23:59:59"],
    ),
    case(
        "type = 'timestamp(ms)', patterns = ['yyyy-MM-dd HH:mm:ss.SSS']",
        ["1969-12-31 23:59:59.999", "9999-12-31 23:59:59.999"],
    ),
    case(
        "type = 'timestamp(us)', patterns = ['yyyy-MM-dd HH:mm:ss.SSSSSS']",
        ["0001-01-01 00:00:00.000001", "9999-12-31 23:59:59.999999"],
    ),
    other(
        "type = 'timestamp(ns)', patterns = ['yyyy-MM-dd HH:mm:ss.SSSSSSSSS']",
        ["1969-12-31 23:59:59.999999999", "2262-04-11 23:47:16.854775807"],
        &[
            (Postgres, ["-1", "9223372036854775807"]),
            (Mariadb, ["-1", "9223372036854775807"]),
            (ClickHouse, ["-1", "9223372036854775807"]),
        ],
    ),
    other(
        "type = 'timestamp(s, utc)', patterns = ['yyyy-MM-dd HH:mm:ssX']",
        ["1970-01-01 00:00:01Z", "2105-12-31 23:59:59Z"],
        &[
            (Postgres, ["1970-01-01 00:00:01+00", "2105-12-31 23:59:59+00"]),
            (Mariadb, ["1970-01-01 00:00:01", "2105-12-31 23:59:59"]),
            (ClickHouse, ["1970-01-01 00:00:01", "2105-12-31 23:59:59"]),
        ],
    ),
    other(
        "type = 'timestamp(us, utc)', patterns = ['yyyy-MM-dd HH:mm:ss.SSSSSSX']",
        ["0001-01-01 00:00:00.000001Z", "9999-12-31 23:59:59.999999Z"],
        &[
            (Postgres, ["0001-01-01 00:00:00.000001+00", "9999-12-31 23:59:59.999999+00"]),
            (Mariadb, ["0001-01-01 00:00:00.000001", "9999-12-31 23:59:59.999999"]),
        ],
    ),
    case(
        "type = 'uuid'",
        ["00000000-0000-0000-0000-000000000000", "6f9619ff-8b86-d011-b42d-00cf4fc964ff"],
    ),
    case("type = 'ip'", ["192.0.2.1", "2001:db8::1"]),
    case("type = 'json'", ["{}", "{\"a\": [1, \"\\u00e5\"]}"]),
    other(
        "type = 'geopoint'",
        ["-90,180", "59.91,-10.75"],
        &[
            (Postgres, ["(180,-90)", "(-10.75,59.91)"]),
            (Mariadb, ["POINT(180 -90)", "POINT(-10.75 59.91)"]),
        ],
    ),
    case("type = 'int32', default = '7'", ["-1", "1"]),
];

/// What older versions of ClickHouse show otherwise; what they have no times for is held as numbers.
const OLD_CLICKHOUSE: [(&str, [&str; 2]); 7] = [
    // The first day there is has no other name there.
    ("type = 'date'", ["0000-00-00", "2105-12-31"]),
    ("type = 'time(s)'", ["0", "86399"]),
    ("type = 'time(ms)'", ["1", "86399999"]),
    ("type = 'time(us)'", ["1", "86399999999"]),
    ("type = 'timestamp(ms)'", ["-1", "253402300799999"]),
    ("type = 'timestamp(us)'", ["-62135596799999999", "253402300799999999"]),
    ("type = 'timestamp(us, utc)'", ["-62135596799999999", "253402300799999999"]),
];

#[test]
fn every_type_comes_back_as_it_was_sent() {
    for_each_server(|server| {
        let database = server.database();
        let world = World::new();
        let columns: Vec<_> = CASES
            .iter()
            .enumerate()
            .map(|(at, case)| format!("c{at} = {{ {} }}", case.keys))
            .collect();
        world.write(
            "t.typhos.toml",
            format!("typhos = 1\n[input]\nquoted_empty = 'text'\ndelimiter = ','\nheader = true\n[columns]\n{}\n", columns.join("\n")),
        );
        let line =
            |value: &dyn Fn(&Case) -> String| CASES.iter().map(value).collect::<Vec<_>>().join(",");
        let names: Vec<_> = (0..CASES.len()).map(|at| format!("c{at}")).collect();
        let quoted = |text: &str| format!("\"{}\"", text.replace('"', "\"\""));
        world.write(
            "t.csv",
            format!(
                "{}\n{}\n{}\n{}\n",
                names.join(","),
                line(&|case| quoted(case.values[0])),
                line(&|_| String::new()),
                line(&|case| quoted(case.values[1])),
            ),
        );
        let report =
            world.json(&format!("load t.typhos.toml t.csv --into {} --json", database.url()));
        assert_eq!(report["proof"]["proven"], true, "{report}");
        assert_eq!(report["account"]["loaded"], 3);
        // The same again, into the table that is now there.
        world.ok(&format!("load t.typhos.toml t.csv --into {} --mode append", database.url()));
        for (at, case) in CASES.iter().enumerate() {
            let column = match (server.kind, case.keys.contains("geopoint")) {
                (Mariadb, true) => format!("ST_AsText(c{at})"),
                _ => format!("c{at}"),
            };
            let old_form = OLD_CLICKHOUSE.iter().find(|(keys, _)| case.keys.starts_with(keys));
            let old =
                server.kind == ClickHouse && database.one("SELECT version()").starts_with("18.");
            let said = case.shown.iter().find(|(kind, _)| *kind == server.kind);
            let [low, high] = match (said, old_form) {
                (Some((_, shown)), _) => *shown,
                (None, Some((_, shown))) if old => *shown,
                _ => case.values,
            };
            let absent = if case.keys.contains("default") { "7" } else { "null" };
            let mut found: Vec<_> = database
                .rows(&format!("SELECT {column} FROM t"))
                .into_iter()
                .map(|row| row.concat())
                .collect();
            let mut want: Vec<_> =
                [low, absent, high].repeat(2).into_iter().map(str::to_owned).collect();
            // Nothing says in which order a server gives rows back.
            found.sort();
            want.sort();
            assert_eq!(found, want, "{:?} {}", server.kind, case.keys);
        }
        assert_eq!(
            database
                .objects()
                .into_iter()
                .filter(|name| name.contains("typhos"))
                .collect::<Vec<_>>(),
            Vec::<String>::new()
        );
    });
}
