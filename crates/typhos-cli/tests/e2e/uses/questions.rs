//! Questions asked of typed files, whose pages and row groups are passed over where their extremes say so, against the same
//! questions asked of the text, where every row is looked at.

use crate::world::World;

const ROWS: u64 = 1200;

/// A declared type, what else its column says, and the value of a row: later rows have greater values.
type Column = (&'static str, &'static str, fn(u64) -> String);

/// A number that grows with the row, from `low` to `high`.
fn between(row: u64, low: i128, high: i128) -> i128 {
    low + (high - low) * i128::from(row) / i128::from(ROWS - 1)
}

fn decimal(row: u64, most: i128, scale: usize) -> String {
    let number = between(row, -most, most);
    let digits = format!("{:0width$}", number.unsigned_abs(), width = scale + 1);
    let (whole, fraction) = digits.split_at(digits.len() - scale);
    format!("{}{whole}.{fraction}", if number < 0 { "-" } else { "" })
}

/// A time of day, and a day and a time, in which everything counts on.
fn time(row: u64, digits: usize) -> String {
    let seconds = between(row, 0, 86_399);
    let fraction = if digits == 0 { String::new() } else { format!(".{:0digits$}", row % 1000) };
    format!("{:02}:{:02}:{:02}{fraction}", seconds / 3600, seconds / 60 % 60, seconds % 60)
}

fn moment(row: u64, digits: usize) -> String {
    let (year, month, day) = (1905 + row / 9, 1 + row % 9, 1 + row % 28);
    format!("{year}-{month:02}-{day:02} {}", time(row, digits))
}

fn columns() -> Vec<Column> {
    vec![
        ("bool", "", |row| (row > ROWS / 2).to_string()),
        ("int8", "", |row| between(row, -128, 127).to_string()),
        ("int32", "", |row| between(row, i32::MIN.into(), i32::MAX.into()).to_string()),
        ("int64", "", |row| between(row, i64::MIN.into(), i64::MAX.into()).to_string()),
        ("uint16", "", |row| between(row, 0, 65_535).to_string()),
        ("uint64", "", |row| between(row, 0, u64::MAX.into()).to_string()),
        ("float32", "", |row| (between(row, -9000, 9000) as f32 / 8.0).to_string()),
        ("float64", "", |row| (between(row, -(1 << 50), 1 << 50) as f64 / 7.0).to_string()),
        ("decimal(5,2)", "", |row| decimal(row, 99_999, 2)),
        ("decimal(15,3)", "", |row| decimal(row, 10i128.pow(14), 3)),
        ("decimal(30,4)", "", |row| decimal(row, 10i128.pow(29), 4)),
        ("text", "", |row| format!("w{row:05}")),
        ("lowcard", "", |row| format!("k{:02}", row / 20)),
        (
            "category",
            ", values = [\"tug\", \"ferry\", \"barge\", \"launch\"], ranked = true",
            |row| ["tug", "ferry", "barge", "launch"][(row * 4 / ROWS) as usize].into(),
        ),
        ("date", "", |row| moment(row, 0)[..10].into()),
        ("time(s)", "", |row| time(row, 0)),
        ("time(us)", "", |row| time(row, 6)),
        ("timestamp(s)", "", |row| moment(row, 0)),
        ("timestamp(us)", "", |row| moment(row, 6)),
        ("timestamp(ms, utc)", "", |row| moment(row, 3) + "Z"),
        ("duration(ms)", "", |row| format!("{}:30:00.250", between(row, 0, 4000))),
        ("uuid", "", |row| format!("{row:08x}-0000-4000-8000-000000000000")),
        ("ip", "", |row| format!("10.0.{}.{}", row / 256, row % 256)),
    ]
}

#[test]
fn what_is_passed_over_in_a_file_has_no_row_that_is_asked_for() {
    let world = World::new();
    let columns = columns();
    let names: Vec<String> = (0..columns.len()).map(|at| format!("c{at}")).collect();
    let declared: Vec<String> = (names.iter().zip(&columns))
        .map(|(name, (ty, more, _))| format!("{name} = {{ type = \"{ty}\"{more} }}\n"))
        .collect();
    world.write(
        "s.typhos.toml",
        format!(
            "typhos = 1\n[columns]\nid = {{ type = \"uint32\" }}\n{}[layout]\nrow_group = 300\n",
            declared.concat()
        ),
    );
    let mut text = format!("id,{}\n", names.join(","));
    for row in 0..ROWS {
        // Every column has rows without a value.
        let cell = |(at, (.., value)): (usize, &Column)| match (row + at as u64) % 40 {
            0 => String::new(),
            _ => value(row),
        };
        let cells: Vec<String> = columns.iter().enumerate().map(cell).collect();
        text += &format!("{row},{}\n", cells.join(","));
    }
    world.write("t.csv", text);
    world
        .ok("load s.typhos.toml t.csv --into t.parquet")
        .says(&format!("{} read = {} loaded + 0 set aside", "1,200", "1,200"));
    world.ok("load s.typhos.toml t.csv --into t.arrow");
    let ask = |what: &[&str], question: &str| {
        let show = ["--show", "count, min(id), max(id), sum(id)", "--as", "csv", "-q"];
        let line = [&["tally"], what, &["--where", question], &show[..]].concat();
        world.run_args(&line).status(0).out
    };
    for (at, (name, (ty, _, value))) in names.iter().zip(&columns).enumerate() {
        let has_order = !matches!(*ty, "uuid" | "ip");
        for (nth, row) in [3, 299, 300, 641, 1199].into_iter().enumerate() {
            let row = row - u64::from((row + at as u64).is_multiple_of(40));
            let sign = match has_order {
                true => ["<", ">=", "=", ">", "<="][(nth + at) % 5],
                false => ["=", "!="][nth % 2],
            };
            let question = format!("{name} {sign} '{}'", value(row));
            let of_text = ask(&["s.typhos.toml", "t.csv"], &question);
            assert_eq!(ask(&["t.parquet"], &question), of_text, "{ty}: {question}");
            if nth == 1 {
                assert_eq!(ask(&["t.arrow"], &question), of_text, "{ty}: {question}");
            }
            // Values grow with the rows, so how many there are is known without any program.
            let has_value = |row: &u64| !(row + at as u64).is_multiple_of(40);
            let of_row = value(row);
            let count = |range: std::ops::Range<u64>| range.filter(has_value).count();
            let same = (0..ROWS).filter(has_value).filter(|other| value(*other) == of_row).count();
            let less = (0..row).filter(has_value).filter(|other| value(*other) != of_row).count();
            let all = count(0..ROWS);
            let want = match sign {
                "=" => same,
                "!=" => all - same,
                "<" => less,
                "<=" => less + same,
                ">=" => all - less,
                _ => all - less - same,
            };
            let counted = of_text.lines().nth(1).and_then(|line| line.split(',').next());
            assert_eq!(counted, Some(&*want.to_string()), "{ty}: {question}");
        }
    }
    // Numbers beyond all that a column can hold, and between two of its values.
    for (ty, question, want) in [
        ("decimal(30,4)", "> -99999999999999999999999999999999999", 1170),
        ("decimal(30,4)", "< 1e60", 1170),
        ("decimal(5,2)", ">= 0.00001", 585),
        ("decimal(5,2)", "< -1e-30", 585),
        ("int8", "< 1e40", 1170),
        ("uint64", ">= -0.5", 1170),
        ("float32", "<= 1e300", 1170),
        ("float64", "< -1e300", 0),
    ] {
        let at = columns.iter().position(|column| column.0 == ty).unwrap();
        let question = format!("c{at} {question}");
        for what in [&["s.typhos.toml", "t.csv"][..], &["t.parquet"]] {
            let count = ask(what, &question);
            assert_eq!(
                count.lines().nth(1).unwrap().split(',').next(),
                Some(&*want.to_string()),
                "{ty}: {question}"
            );
        }
    }
}
