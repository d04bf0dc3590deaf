use super::*;
use crate::text::Escape;

fn sniff(head: &[u8], choice: &InputChoice, whole: bool) -> Found {
    super::sniff(head, choice, whole, &Known::default())
}

fn sniffed(text: &str) -> Found {
    sniff(text.as_bytes(), &InputChoice::default(), true)
}

fn rows(head: &str, row: &str, count: usize) -> String {
    let rows = (1..=count).map(|n| row.replace('#', &n.to_string()));
    head.to_owned() + &rows.collect::<String>()
}

#[test]
fn delimiters_and_headers() {
    for (text, delimiter, header) in [
        ("a,b\n1,2\n", b',', true),
        ("a;b\n1,5;2,5\n3,5;4,5\n", b';', true),
        ("1,5;2,5\n3,5;4,5\n", b';', false),
        ("a\tb\n1,2\t3\n", b'\t', true),
        ("a|b\n1|2\n", b'|', true),
        ("a\u{1f}b\n1,2\u{1f}2\n", 0x1f, true),
        ("a\u{1e}b\n1,2\u{1e}2\n", 0x1e, true),
        ("a\u{1}b\n1,2\u{1}2\n", 0x01, true),
        ("a^b\n1^2\n", b'^', true),
        ("a~b\n1~2\n", b'~', true),
        ("a:b:c\nx:1:2\ny:3:4\n", b':', true),
        ("port depth\nHolm 12\nTang 7\nSker 9\n", b' ', true),
        ("12 7.5 3\n11 7.25 4\n9 6.5 1\n", b' ', false),
        ("name,town\nAda,Skerrow\nBo,Holm\n", b',', true),
        ("Ada,Skerrow\nBo,Holm\nCy,Holm\nAda,Skerrow\n", b',', false),
        ("2024-01-01,a\n2024-01-02,b\n", b',', false),
        ("word\nother words, and more\nlast\n", b',', true),
        ("a,b\n\"x,\n;;;\",1\n\"y;;;\",2\n", b',', true),
        ("n,t\n1,x\n", b',', true),
        ("t,x\nf,x\n", b',', false),
        ("paid,x\nf,y\n", b',', true),
        // A list in a column, apart by another mark, separates nothing.
        ("id,tags\n1,x;y\n2,z;w\n3,v;u\n", b',', true),
        ("1,x;y\n2,z;w\n3,v;u\n", b',', false),
        ("id,when\n1,10:30|x\n2,11:45|y\n", b',', true),
        ("port\nTang 1\nSker 2\nHolm 3\n", b',', true),
        ("\"\",\"1\",\"2\"\n\"a\",5,6\n\"b\",7,8\n", b',', true),
        ("what,1940,1945,1950\nfood,22.2,44.5,59.6\nfuel,3.1,4.5,5.6\n", b',', true),
        ("y,week\nn,1\ny,2\n", b',', true),
        // Lines that are values as they stand are not cut up.
        ("10:30\n11:45\n12:00\n", b',', false),
        ("at\n2024-01-01 10:30\n2024-01-02 11:30\n2024-01-03 11:30\n", b',', true),
        ("who\nAda Holm\nBo Tang\nCy Skerry\n", b',', true),
        ("::1\nfe80::2:3\n", b',', false),
        // Years above figures are names; figures above their like are not.
        ("port,2019,2020,2021\nHolm,1,2,5\nTang,3,4,1\n", b',', true),
        ("2019,2020,2021\n1,2,5\n3,4,1\n", b',', false),
        ("port,lat,1/22/20,1/23/20\nHolm,60.1,0,3\nTang,61.5,2,4\n", b',', true),
        ("5,NA\n6,1.5\n7,2.5\n", b',', false),
        ("?,5\n1,6\n2,7\n", b',', false),
        ("Berth,Town\nNorth,Skerrow\nSouth,Holm\n", b',', true),
        ("AB-12,Skerrow\nCD-34,Holm\nEF-56,Tang\n", b',', false),
    ] {
        let found = sniffed(text);
        assert_eq!(
            (found.dialect.delimiter, found.dialect.header),
            (delimiter, header),
            "{text:?} {:?}",
            found.finding
        );
    }
}

#[test]
fn quotes_and_escapes() {
    let double = Some(b'"');
    for (text, quote, escape) in [
        ("a,b\n1,2\n".to_owned(), double, Escape::Doubled),
        ("a,b\n'x,y',1\n'z,w',2\n".to_owned(), Some(b'\''), Escape::Doubled),
        ("a,b\n'tis,1\n'twas,2\n".to_owned(), double, Escape::Doubled),
        ("a,b\n\"it's\",1\n\"'x'\",2\n".to_owned(), double, Escape::Doubled),
        (rows("a,b\n", "\"say \\\"#\\\", then\",2\n", 9), double, Escape::Backslash),
        (rows("a,b\n", "\"C:\\\\tmp\",#\n", 9), double, Escape::Doubled),
        (rows("a,b\n", "\"x\"\"#\",2\n", 9), double, Escape::Doubled),
        // A quote that opens and is not meant to.
        (rows("a\tb\n", "\"twas #\tx\n", 9), None, Escape::Doubled),
        (rows("a\tb\n", "#\tx\n", 9) + "10\t\"x\n11\ty\"\n", None, Escape::Doubled),
        (rows("a,b\n", "#,x\n", 9) + "10,\"x\n11,y\n", double, Escape::Doubled),
        (rows("a,b,c\n", "#,\"x\",\"y\"\n", 9), double, Escape::Doubled),
        (rows("a|b|c\n", "x\\|y|#|z\n", 9), double, Escape::Doubled),
    ] {
        let found = sniffed(&text).dialect;
        assert_eq!((found.quote, found.escape), (quote, escape), "{text:?}");
    }
}

#[test]
fn line_ends() {
    for (text, want) in [
        ("a,b\n1,2\n", LineEnds::Lf),
        ("a,b\r\n1,2\r\n\"x\n\",2\r\n", LineEnds::CrLf),
        ("a,b\r1,2\r3,4\r", LineEnds::Cr),
        ("a,b\n1,2\r\n3,4\n", LineEnds::Mixed),
        ("a,b\r1,2\n3,4\r\n5,6\r7,8", LineEnds::Mixed),
        ("a,b\n\"x\ry\",2\n3,4\n", LineEnds::Lf),
        ("a,b\nx\ry,2\n3,4\nz,5\n", LineEnds::Lf),
        ("a,b", LineEnds::Lf),
    ] {
        assert_eq!(sniffed(text).dialect.line_ends, want, "{text:?}");
    }
}

#[test]
fn what_stands_above_and_between_and_behind() {
    let skip = |text: &str| sniffed(text).dialect.skip;
    assert_eq!(skip("a,b\n1,2\n"), 0);
    assert_eq!(skip("Sailings\n\nAll of them, by port\nport,day,n\nHolm,1,2\nTang,3,4\n"), 3);
    assert_eq!(skip("Sailings,,\n,,\nport,day,n\nHolm,1,2\nTang,3,4\n"), 2);
    assert_eq!(skip("sep=;\na;b\n1;2\n"), 1);
    assert_eq!(sniffed("sep=;\na,x;b\n1,y;2\n").dialect.delimiter, b';');
    assert_eq!(skip("5,,\n6,7,8\n9,1,2\n"), 0, "a sparse record is a record");
    let lone = "a,b\n1,2,3\n4,5,6\n7,8,9\n";
    assert_eq!(skip(lone), 0, "what may be a header is not a title");

    let comment = |text: &str| sniffed(text).dialect.comment;
    assert_eq!(comment("# made by hand\na,b\n1,2\n# so far\n3,4\n"), Some(b'#'));
    assert_eq!(comment("#a,b\n1,2\n"), None, "it is the header");
    assert_eq!(comment("tag,n\n#x,1\n#y,2\n"), None);
    assert_eq!(comment("tag,n\n#x,1\n#y,2\n#z\n"), None, "one of them is broken");
    assert_eq!(comment("# ports, by day\n# as told\na,b\n1,2\n3,4\n"), Some(b'#'));
    assert_eq!(comment("# all ports\nport\nHolm\nTang\n"), Some(b'#'));
    assert_eq!(comment("tag\n#holm\n#tang\n"), None);

    let trailing = |text: &str| {
        let found = sniffed(text);
        (found.dialect.trailing_delimiter, found.fields)
    };
    assert_eq!(trailing("a,b,\n1,2,\n3,4,\n"), (true, 2));
    assert_eq!(trailing("a,b\n1,2,\n3,4,\n"), (true, 2));
    assert_eq!(trailing("a,b,c\n1,2,\n3,4,\n5,6,x\n"), (false, 3));
    assert_eq!(trailing("a,b,c\n1,2,\n3,4,\n"), (false, 3), "the column has a name");

    let short = sniffed("depth salt\nHolm 12 3.5\nTang 7 3.25\nSker 9 3.0\n");
    let quoted = sniffed("\"w\",\"t\"\n\"1\",26.5,1\n\"2\",27.5,2\n");
    assert!(quoted.has_short_header && quoted.dialect.header);
    assert!(short.has_short_header && short.dialect.header && short.dialect.skip == 0);
}

#[test]
fn what_was_said_is_not_looked_for() {
    let choice = InputChoice {
        delimiter: Some(b';'),
        header: Some(false),
        quote: Some(None),
        skip: Some(1),
        line_ends: Some(LineEnds::Lf),
        ..InputChoice::default()
    };
    let found = sniff(b"a,b\r\n1,2\n", &choice, true);
    let want =
        Dialect { delimiter: b';', quote: None, header: false, skip: 1, ..Dialect::RFC_4180 };
    assert_eq!(found.dialect, want);
    assert_eq!((&found.finding.delimiter[..], &found.finding.skip[..]), (SAID, SAID));
}

#[test]
fn any_bytes_are_answered() {
    proptest::proptest!(|(bytes in crate::text::testing::structural_text(400), whole: bool)| {
        let found = sniff(&bytes, &InputChoice::default(), whole);
        let above = after_lines(&bytes, found.dialect.skip, found.dialect.line_ends);
        proptest::prop_assert!(found.fields >= 1 && above <= bytes.len());
    });
}
