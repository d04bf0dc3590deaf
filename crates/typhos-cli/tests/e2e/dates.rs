//! Dates in any clothes: found, asked for, declared, and tried on the bench.

use crate::world::World;

/// A column for each way of writing the same five days, and one that cannot be told.
const ODD: &str = "row,german,mixed,mail,half,unix,compact,open,far\n\
    1,5. März 2024,2024-03-05,\"Tue, 05 Mar 2024 10:20:30 +0100\",3/5/2024 3:04 PM,1709630430,20240305102030,03-04-24,1/31/60\n\
    2,12. Mai 2024,12.05.2024,\"Sun, 12 May 2024 10:20:30 +0200\",5/12/2024 11:04 AM,1715502030,20240512102030,05-06-24,2/14/24\n\
    3,1. Okt. 2024,2024-10-01,\"Tue, 01 Oct 2024 10:20:30 +0200\",10/1/2024 12:04 PM,1727770830,20241001102030,07-08-24,3/15/24\n\
    4,24. Dez. 2024,24.12.2024,\"Tue, 24 Dec 2024 10:20:30 +0100\",12/24/2024 12:04 AM,1735032030,20241224102030,09-10-24,3/16/24\n\
    5,1. Januar 2025,2025-01-01,\"Wed, 01 Jan 2025 10:20:30 +0100\",1/1/2025 3:04 PM,1735723230,20250101102030,11-12-24,3/17/24\n";

#[test]
fn dates_are_found_in_the_shapes_they_have_and_loaded() {
    let world = World::new();
    world.write("odd.csv", ODD);
    world
        .run("draft odd.csv -o odd.typhos.toml")
        .status(1)
        .complains("'open' holds dates that read as yy-MM-dd (--date-order ymd) or as");
    let drafted = world.read("odd.typhos.toml");
    for line in [
        r#"german  = { type = "date", patterns = ["d. MMM yyyy", "d. MMMM yyyy"], locale = "de","#,
        r#"mixed   = { type = "date", patterns = ["yyyy-MM-dd", "dd.MM.yyyy"],"#,
        r#"mail    = { type = "timestamp(s, utc)", patterns = ["EEE, dd MMM yyyy HH:mm:ss XX"],"#,
        r#"half    = { type = "timestamp(s)", patterns = ["M/d/yyyy h:mm a"],"#,
        r#"unix    = { type = "uint32","#,
        r#"could be seconds since 1970: patterns = ["epoch-s"] would read them"#,
        r#"compact = { type = "timestamp(s)", patterns = ["yyyyMMddHHmmss"],"#,
        r#"open    = { type = "text(8)","#,
        r#"far     = { type = "date", patterns = ["M/d/yy"],"#,
        "two-digit years reach 2060-01-31, which is still to come; pivot = ",
    ] {
        assert!(drafted.contains(line), "{line}\n{drafted}");
    }
    world.ok("check odd.typhos.toml odd.csv").says("every value fits");
    let rows = world.json("peek odd.typhos.toml odd.csv --json");
    let cells = |column: usize| -> Vec<&str> {
        let rows = rows["rows"].as_array().unwrap();
        rows.iter().map(|row| row[column].as_str().unwrap()).collect()
    };
    let days = ["2024-03-05", "2024-05-12", "2024-10-01", "2024-12-24", "2025-01-01"];
    assert_eq!(cells(1), days);
    assert_eq!(cells(2), days);
    assert_eq!(cells(3)[1], "2024-05-12 08:20:30Z");
    assert_eq!(cells(4)[3], "2024-12-24 00:04:00");
    assert_eq!(cells(6)[4], "2025-01-01 10:20:30");
}

#[test]
fn clocks_of_a_zone_make_instants_or_misfits() {
    let world = World::new();
    world.write(
        "t.csv",
        "at\n2024-01-05 12:00\n2024-03-31 02:30\n2024-10-27 02:30\n05.07.2024 12:00 +05:00\n",
    );
    let schema = |overlap: &str| {
        format!(
            "typhos = 1\n[columns]\nat = {{ type = \"timestamp(s, utc)\", patterns = [\"yyyy-MM-dd HH:mm\", \"dd.MM.yyyy HH:mm XXX\"], zone = \"Europe/Oslo\"{overlap}, misfit = \"reject\" }}\n"
        )
    };
    world.write("t.typhos.toml", schema(""));
    world
        .run("check t.typhos.toml t.csv")
        .status(1)
        .says("t.csv:3  '2024-03-31 02:30'")
        .says("the clocks of the zone were turned on over this time")
        .says("t.csv:4  '2024-10-27 02:30'")
        .says("overlap = \"earlier\" or \"later\"");
    for (overlap, hour) in [("earlier", "00:30:00Z"), ("later", "01:30:00Z")] {
        world.write("t.typhos.toml", schema(&format!(", overlap = \"{overlap}\"")));
        world
            .run("check t.typhos.toml t.csv")
            .status(1)
            .says("4 read = 3 would load + 1 would not");
        let rows = world.run("peek t.typhos.toml t.csv --json").out;
        assert!(rows.contains("2024-01-05 11:00:00Z"), "{rows}");
        assert!(rows.contains(&format!("2024-10-27 {hour}")), "{rows}");
        assert!(rows.contains("2024-07-05 07:00:00Z"), "an offset of its own: {rows}");
    }
}

#[test]
fn a_date_keeps_midnight_only_and_a_timestamp_starts_the_day() {
    let world = World::new();
    world
        .write("t.csv", "day,at\n2024-03-01 00:00,2024-03-01\n2024-03-02 10:20,2024-03-02 10:20\n");
    world.write(
        "t.typhos.toml",
        "typhos = 1\n[columns]\n\
         day = { type = \"date\", patterns = [\"yyyy-MM-dd HH:mm\"] }\n\
         at = { type = \"timestamp(s)\", patterns = [\"yyyy-MM-dd\", \"yyyy-MM-dd HH:mm\"] }\n",
    );
    world
        .run("check t.typhos.toml t.csv")
        .status(1)
        .says("t.csv:3  '2024-03-02 10:20' has a time of day, and a date keeps midnight only")
        .says("2 read = 1 would load + 1 would not");
}

#[test]
fn misfits_name_the_value_the_pattern_and_the_reason() {
    let world = World::new();
    world.write("t.csv", "day\n2024-13-01\n2024-06-31\n2024-06-3\n2024-06-301\nx\n");
    world.write(
        "t.typhos.toml",
        "typhos = 1\n[columns]\nday = { type = \"date\", patterns = [\"yyyy-MM-dd\"] }\n",
    );
    world
        .run("check t.typhos.toml t.csv")
        .status(1)
        .says("t.csv:2  '2024-13-01' is not read by 'yyyy-MM-dd': month 13 does not exist")
        .says("t.csv:3  '2024-06-31' is not read by 'yyyy-MM-dd': day 31 in a month of 30")
        .says("t.csv:4  '2024-06-3' is not read by 'yyyy-MM-dd': has '3' at character 9")
        .says(
            "t.csv:5  '2024-06-301' is not read by 'yyyy-MM-dd': ends after 'dd', 1 byte left: '1'",
        )
        .says("t.csv:6  'x' is not read by 'yyyy-MM-dd': has 'x' at character 1");
}

#[test]
fn the_bench_tells_every_way_to_read_a_value() {
    let world = World::new();
    let told = world.ok("dates 03/04/24 31.12.1999");
    told.says("03/04/24  is ambiguous")
        .says("  dd/MM/yy  2024-04-03  Wednesday  day first")
        .says("  MM/dd/yy  2024-03-04  Monday     month first")
        .says("  yy/MM/dd  2003-04-24  Thursday   year first")
        .says("'25/12/99' would prove day first")
        .says("  dd.MM.yyyy  1999-12-31  Friday")
        .says("no one pattern reads all 2");
    world.ok("dates 03/04/24 03/31/24").says("MM/dd/yy reads all 2");
    // Of any of the values, in the language of its names.
    world.ok("dates 12/25/2019 1/5/2019").says("M/d/yyyy reads all 2");
    world.ok("dates 5-Okt-24 6-Dez-24").says("d-MMM-yy reads all 2");
    world.run("dates crate").status(1).says("matches no known pattern");
    world.run("dates").status(2);
}

#[test]
fn the_bench_says_where_a_pattern_fails() {
    let world = World::new();
    world
        .run("dates --pattern dd-MMM-yy --locale nb 05-okt-24 31-feb-24 05-Oct-24")
        .status(1)
        .says("✓ 05-okt-24  2024-10-05  Saturday")
        .says("✗ 31-feb-24  day 31 in a month of 29")
        .says("✗ 05-Oct-24\n     ^ has 'O' at character 4 where the name of a month (MMM: jan, feb, mar");
    world
        .ok("dates --pattern %d.%m.%Y 3.12.2024")
        .says("%d.%m.%Y  is  d.M.yyyy")
        .says("2024-12-03");
    world
        .run("dates --pattern yyyy-mm-dd 2024-03-01")
        .status(2)
        .complains("'mm' are minutes; did you mean 'MM' for the month?")
        .complains("     ^^");
    world
        .run("dates --pattern yyyy-MM-dd --locale xx 2024-03-01")
        .status(0)
        .says("2024-03-01  Friday");
}

#[test]
fn the_bench_looks_at_a_column() {
    let world = World::new();
    world.write("odd.csv", ODD);
    world
        .ok("dates --input odd.csv --column mixed")
        .says("5 of 5 values look like a date or a time")
        .says("       3  '2024-03-05'  line 2  year first")
        .says(
            "       2  '12.05.2024'  line 3  day first; 1 month first: not '24.12.2024' in line 5",
        )
        .says("             3  yyyy-MM-dd")
        .says("             2  dd.MM.yyyy");
    world
        .run("dates --input odd.csv --column open")
        .status(1)
        .says("Nothing in the data tells which of these is meant:")
        .says("patterns = [\"MM-dd-yy\"]");
    world.ok("dates --input odd.csv --column open --date-order mdy").says("month first, as said");
    world
        .run("dates --input odd.csv --column unix")
        .status(1)
        .says("0 of 5 values look like a date or a time")
        .says("'1709630430'  line 2");
    world.run("dates --input odd.csv --column opne").status(2).complains("did you mean 'open'?");
}

#[test]
fn the_symbols_are_those_of_the_document() {
    let told = World::new().ok("dates --symbols").out;
    for symbol in typhos_core::dates::SYMBOLS {
        assert!(told.contains(symbol.letters) && told.contains(symbol.reads), "{}", symbol.letters);
    }
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/date-patterns.md");
    let document = std::fs::read_to_string(path).unwrap();
    for (word, _) in typhos_core::dates::COUNTS {
        assert!(told.contains(word) && document.contains(&format!("`{word}`")), "{word}");
    }
}
