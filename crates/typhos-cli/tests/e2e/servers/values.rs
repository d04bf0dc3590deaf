//! Values on their way into tables that somebody else made: what readers see there is what was written.

use super::{Database, Kind, for_each_server};
use crate::world::World;

fn world(database: &Database<'_>, columns: &str, rows: &str) -> (World, String) {
    let world = World::new();
    world
        .write("t.typhos.toml", format!("typhos = 1\ntable = 't'\n[columns]\n{columns}\n"))
        .write("t.csv", rows);
    let line = format!("load t.typhos.toml t.csv --into {} --mode append", database.url());
    (world, line)
}

fn of(kind: Kind, test: impl Fn(&Database<'_>)) {
    for_each_server(|server| {
        if server.kind == kind {
            test(&server.database());
        }
    });
}

#[test]
fn wall_clock_times_are_those_of_the_zone_of_a_column() {
    of(Kind::ClickHouse, |database| {
        database.run(
            "CREATE TABLE t (at DateTime('Europe/Oslo'), day DateTime('Europe/Oslo'), point DateTime('Europe/Oslo'), \
             plain DateTime('UTC')) ENGINE = MergeTree() ORDER BY tuple()",
        );
        let columns = "at = { type = 'timestamp(s)', patterns = ['yyyy-MM-dd HH:mm:ss'], required = true }\n\
             day = { type = 'date', patterns = ['yyyy-MM-dd'], required = true }\n\
             point = { type = 'timestamp(s, utc)', patterns = ['yyyy-MM-dd HH:mm:ssX'], required = true }\n\
             plain = { type = 'timestamp(s)', patterns = ['yyyy-MM-dd HH:mm:ss'], required = true }";
        let row = "2024-07-01 12:00:00,2024-07-01,2024-07-01 12:00:00Z,2024-07-01 12:00:00\n";
        let (world, line) = world(database, columns, &format!("at,day,point,plain\n{row}"));
        world
            .ok(&format!("{line} --plan"))
            .says("as that wall-clock time in Europe/Oslo")
            .says("as midnight in Europe/Oslo");
        world.ok(&line).says("proven");
        let seen = database
            .rows("SELECT toString(at), toString(day), toString(point), toString(plain) FROM t");
        assert_eq!(
            seen,
            [[
                "2024-07-01 12:00:00",
                "2024-07-01 00:00:00",
                "2024-07-01 14:00:00",
                "2024-07-01 12:00:00"
            ]]
        );
        // Clocks that are set forward leave an hour out.
        world.write(
            "t.csv",
            format!("at,day,point,plain\n{}", row.replacen("2024-07-01 12", "2024-03-31 02", 1)),
        );
        world.run(&line).status(4).complains("1 value cannot be held by the column that is there");
        assert_eq!(database.one("SELECT count() FROM t"), "1");
    });
    of(Kind::Postgres, |database| {
        database.run("CREATE TABLE t (day timestamptz)");
        let columns = "day = { type = 'date', patterns = ['yyyy-MM-dd'] }";
        let (world, line) = world(database, columns, "day\n2024-07-01\n");
        world.run(&line).status(2).complains("it holds points in time, and a day has no zone");
    });
}

#[test]
fn a_float_in_a_wider_column_is_the_number_that_was_written() {
    for_each_server(|server| {
        let database = server.database();
        let (double, rest) = match server.kind {
            Kind::Postgres => ("double precision", ""),
            Kind::Mariadb => ("double", ""),
            Kind::ClickHouse => ("Float64", " ENGINE = MergeTree() ORDER BY tuple()"),
        };
        database.run(&format!("CREATE TABLE t (temp {double}){rest}"));
        let columns = "temp = { type = 'float32', required = true }";
        let (world, line) = world(&database, columns, "temp\n36.6\n0.1\n-7\n16777216\n1e-7\n");
        world.ok(&line).says("proven");
        for number in ["36.6", "0.1", "-7", "16777216", "0.0000001"] {
            let sql = format!("SELECT count(*) FROM t WHERE temp = {number}");
            assert_eq!(database.one(&sql), "1", "{number}");
        }
    });
}

#[test]
fn floats_that_are_no_numbers_go_where_they_can() {
    for_each_server(|server| {
        let database = server.database();
        let (world, line) = world(&database, "x = { type = 'float64' }", "x\n1.5\nNaN\n2.5\n");
        let line = line.replace("append", "create");
        if server.kind == Kind::Mariadb {
            world
                .run(&line)
                .status(4)
                .complains("column 'x': 'NaN' is a float that MariaDB cannot hold");
            assert_eq!(database.objects(), Vec::<String>::new());
        } else {
            world.ok(&line).says("proven");
            assert_eq!(database.one("SELECT count(*) FROM t"), "3");
        }
    });
}

#[test]
fn what_a_table_would_change_is_refused() {
    of(Kind::Mariadb, |database| {
        database
            .run("CREATE TABLE t (c char(8), d double(10,2), n int AUTO_INCREMENT PRIMARY KEY)");
        let n = "n = { type = 'int32', required = true }";
        let (world, line) =
            world(database, &format!("c = {{ type = 'text(8)' }}\n{n}"), "c,n\nab,0\ncd,5\n");
        world.ok(&line).says("proven").says("in a table beside; those added from it were counted");
        assert_eq!(
            database.rows("SELECT n FROM t ORDER BY n"),
            [["0"], ["5"]],
            "0 is no call for a number"
        );
        let before = || database.one("SELECT count(*) FROM t");
        world.write("t.csv", "c,n\n\"ab \",7\n");
        world.run(&line).status(4).complains("1 value cannot be held");
        world.write(
            "t.typhos.toml",
            format!("typhos = 1\ntable = 't'\n[columns]\nd = {{ type = 'float64' }}\n{n}\n"),
        );
        world.write("t.csv", "d,n\n1.005,9\n");
        world.run(&line).status(2).complains("'d'");
        assert_eq!(before(), "2");
    });
}

/// A sum is a question of the proof, not of the data: rows whose sum the server, or anybody, cannot hold are loaded as others are.
#[test]
fn numbers_that_no_type_holds_the_sum_of_are_loaded() {
    for_each_server(|server| {
        let database = server.database();
        let (nines, most) = ("9".repeat(38), "1.7976931348623157e+308");
        let rows: String = (0..30)
            .map(|row| match row % 5 {
                0 => format!("{row},-{nines},-{most}\n"),
                _ => format!("{row},{nines},{most}\n"),
            })
            .collect();
        let columns = "n = { type = 'int32', required = true }\n\
             wide = { type = 'decimal(38,0)', required = true }\n\
             large = { type = 'float64', required = true }";
        let (world, line) = world(&database, columns, &format!("n,wide,large\n{rows}"));
        for (mode, rows) in [("replace", "30"), ("append", "60")] {
            let line = line.replace("--mode append", &format!("--mode {mode}"));
            world.ok(&line).says("30 read = 30 loaded").says("proven");
            assert_eq!(database.one("SELECT count(*) FROM t"), rows, "{:?} {mode}", server.kind);
        }
        let above = database.one("SELECT count(*) FROM t WHERE wide > 0 AND large > 1e308");
        assert_eq!(above, "48", "{:?}", server.kind);
    });
}

#[test]
fn a_value_that_a_server_cannot_hold_is_named_with_its_line_or_its_record_is_set_aside() {
    for_each_server(|server| {
        let (column, good, bad, said) = match server.kind {
            Kind::Postgres => ("x = { type = 'lowcard' }", "Holm", "Su\0nd", "has a zero byte"),
            Kind::Mariadb => ("x = { type = 'float64' }", "1.5", "inf", "is a float that MariaDB"),
            Kind::ClickHouse => (
                "x = { type = 'timestamp(s)', patterns = ['yyyy-MM-dd HH:mm:ss'] }",
                "2024-12-31 10:00:00",
                "0007-01-01 10:00:00",
                "is outside of",
            ),
        };
        let rows: String = (2..9_000)
            .map(|line| format!("{line},{}\n", if line % 4_000 == 0 { bad } else { good }))
            .collect();
        let database = server.database();
        let key = "n = { type = 'int32', required = true }";
        let columns = format!("{key}\n{column}");
        let (world, line) = world(&database, &columns, &format!("n,x\n{rows}"));
        let shown = bad.replace('\0', "\\u{0}");
        world
            .run(&line.replace("--mode append", "--mode replace"))
            .status(4)
            .complains(&format!("t.csv:4000  column 'x': '{shown}' {said}"))
            .complains("declare the column with misfit = \"reject\"");
        assert_eq!(database.objects(), Vec::<String>::new(), "{:?}", server.kind);
        let schema = world.read("t.typhos.toml");
        let column = column.replace(" }", ", misfit = 'reject' }");
        world.write("t.typhos.toml", schema.replace(&columns, &format!("{key}\n{column}")));
        for mode in ["replace", "append"] {
            world
                .run(&line.replace("--mode append", &format!("--mode {mode} --rejects r.csv")))
                .status(1)
                .says("8,998 read = 8,996 loaded + 2 set aside")
                .says("proven");
            let kept = world.read("r.csv");
            assert!(kept.contains(",t.csv,4000,") && kept.contains(",t.csv,8000,"), "{kept}");
            assert!(kept.contains(said), "{kept}");
            std::fs::remove_file(world.path("r.csv")).unwrap();
        }
        assert_eq!(database.one("SELECT count(*) FROM t"), "17992", "{:?}", server.kind);
    });
}

/// MariaDB has no place for some UUIDs of versions to come. Which ones those are, it is asked itself.
#[test]
fn uuids_that_a_server_has_no_place_for_are_named_or_set_aside() {
    of(Kind::Mariadb, |database| {
        let uuid = |version: u32, variant: u32| {
            format!("0195f3a0-7c1e-{version:x}fff-{variant:02x}00-00000000beef")
        };
        let variants = [0x00, 0x01, 0x0f, 0x40, 0x7f, 0x80, 0x81, 0x8f, 0xbf, 0xc0, 0xff];
        let all: Vec<String> =
            (0..16).flat_map(|version| variants.map(|variant| uuid(version, variant))).collect();
        let asked = all.iter().map(|uuid| format!("SELECT cast('{uuid}' AS uuid) IS NULL"));
        let refused = database.rows(&asked.collect::<Vec<_>>().join(" UNION ALL "));
        let refused: Vec<bool> = refused.iter().map(|row| row[0] == "1").collect();
        let count = refused.iter().filter(|is_refused| **is_refused).count();
        let rows: String = all.iter().map(|uuid| format!("{uuid}\n")).collect();
        let (world, line) =
            world(database, "u = { type = 'uuid', misfit = 'reject' }", &format!("u\n{rows}"));
        let ran = world.run(&format!("{} --rejects r.csv", line.replace("--mode append", "")));
        let account = format!("176 read = {} loaded + {count} set aside", 176 - count);
        ran.status(i32::from(count > 0)).says(&account).says("proven");
        assert_eq!(database.one("SELECT count(*) FROM t"), (176 - count).to_string());
        if count == 0 {
            return;
        }
        let kept = world.read("r.csv");
        for (uuid, is_refused) in all.iter().zip(&refused) {
            assert_eq!(kept.contains(&format!("\n{uuid},")), *is_refused, "{uuid}");
        }
        let at = refused.iter().position(|is_refused| *is_refused).unwrap();
        let schema = world.read("t.typhos.toml").replace(", misfit = 'reject'", "");
        world.write("t.typhos.toml", schema);
        world
            .run(&line.replace("--mode append", "--mode replace"))
            .status(4)
            .complains(&format!("t.csv:{}  column 'u': '{}' has a version", at + 2, all[at]))
            .complains("text(36) would");
        world.write("t.typhos.toml", world.read("t.typhos.toml").replace("'uuid'", "'text(36)'"));
        world
            .run(&line.replace("--mode append", "--mode replace"))
            .status(0)
            .says("176 read = 176 loaded");
    });
}

/// JSON that is valid and that MariaDB does not take for it: what nests deep, and halves of surrogate pairs.
#[test]
fn json_that_a_server_does_not_hold_is_named_or_set_aside() {
    of(Kind::Mariadb, |database| {
        let deep = |levels: usize| format!("{}{}", "[".repeat(levels), "]".repeat(levels));
        let all = [
            deep(31),
            deep(32),
            deep(90),
            format!("{{\"a\":\"{}\"}}", deep(40)),
            r#"{"a":"\ud83d\ude00"}"#.into(),
            r#"{"a":"\ud800"}"#.into(),
            r#"{"\udc00":1}"#.into(),
            r#"["\\ud800\n","\u0000"]"#.into(),
            r#"["\ud800\u0041"]"#.into(),
            "[1e400, -0.0, 123456789012345678901234567890]".into(),
        ];
        let literal = |text: &str| format!("'{}'", text.replace('\\', "\\\\").replace('\'', "''"));
        let asked = all.iter().map(|text| format!("SELECT json_valid({})", literal(text)));
        let held = database.rows(&asked.collect::<Vec<_>>().join(" UNION ALL "));
        let held: Vec<bool> = held.iter().map(|row| row[0] == "1").collect();
        let count = held.iter().filter(|is_held| **is_held).count();
        let rows: String =
            all.iter().map(|text| format!("\"{}\"\n", text.replace('"', "\"\""))).collect();
        let (world, line) =
            world(database, "j = { type = 'json', misfit = 'reject' }", &format!("j\n{rows}"));
        let ran = world.run(&format!("{} --rejects r.csv", line.replace("--mode append", "")));
        let account = format!("10 read = {count} loaded + {} set aside", 10 - count);
        ran.status(i32::from(count < 10)).says(&account).says("proven");
        assert_eq!(database.one("SELECT count(*) FROM t"), count.to_string());
        let kept = world.read("r.csv");
        for (line, is_held) in (2..).zip(&held) {
            assert_eq!(!kept.contains(&format!(",t.csv,{line},")), *is_held, "{}", all[line - 2]);
        }
        let at = held.iter().position(|is_held| !is_held).unwrap();
        world
            .write("t.typhos.toml", world.read("t.typhos.toml").replace(", misfit = 'reject'", ""));
        world
            .run(&line.replace("--mode append", "--mode replace"))
            .status(4)
            .complains(&format!("t.csv:{}  column 'j': '", at + 2))
            .complains("which json does not hold in MariaDB; text would");
    });
}
