//! Pages: whole in themselves, small, and never moved by what stands in the data.

use crate::world::World;

/// Headers and values that would be something else if a page took them for its own.
const HOSTILE: &str = "<script>alert(1)</script>,\"a\"\"onmouseover=\"\"x\",\"</style><img src=x onerror=alert(2)>\",javascript:alert(3)\n\"<svg onload=alert(4)>\",&amp;,\"--><b>\",\"'\"\"><iframe>\"\n\"<svg onload=alert(4)>\",2,\u{202e}x,y\n";

#[test]
fn what_stands_in_the_data_is_shown_and_not_done() {
    let world = World::new();
    world.write("h.csv", HOSTILE);
    world.ok("report h.csv -o h.html");
    let page = world.read("h.html");
    for never in
        ["<script", "<img", "<iframe", "<svg onload", "</style><img", "\"onmouseover", "<b>alert"]
    {
        let found = page.match_indices(never).count();
        assert_eq!(found, 0, "{never}");
    }
    assert!(page.contains("&lt;script&gt;alert(1)"), "it is shown all the same");
    assert!(page.contains("Content-Security-Policy"));
    // Nothing is fetched: no address of anything but of this page itself.
    for attribute in [" src=\"", "http://", "https://", "url(", "@import"] {
        assert!(!page.contains(attribute), "{attribute}");
    }
    assert!(
        page.matches("href=\"").count() == page.matches("href=\"#").count() + 1,
        "and one icon"
    );
}

#[test]
fn a_page_of_many_columns_stays_small() {
    let world = World::new();
    let names: Vec<String> = (0..200).map(|at| format!("column_{at}")).collect();
    let mut text = names.join(",") + "\n";
    for row in 0..300 {
        let cells: Vec<String> = (0..200).map(|at| (row * at % 97).to_string()).collect();
        text.push_str(&(cells.join(",") + "\n"));
    }
    world.write("w.csv", text);
    world.ok("report w.csv");
    let page = world.read("w.html");
    assert!(page.len() < 2_000_000, "{} bytes", page.len());
    assert!(page.contains("column_199") && page.matches("<article").count() == 200);
    // Once more only where that is said.
    world.run("report w.csv").status(2).complains("exists already");
    world.ok("report w.csv --replace");
}

#[test]
fn a_check_and_its_ledger_are_a_page() {
    let world = World::demo(400);
    world.ok("draft tickets.csv -o tickets.typhos.toml");
    world.run("report tickets.typhos.toml refused.csv -o r.html").status(1);
    let page = world.read("r.html");
    for part in
        ["57 read = 42 would load + 15 would not", "refused.csv:5", "What it takes", "Held against"]
    {
        assert!(page.contains(part), "{part}");
    }
    world.ok("report tickets.typhos.toml tickets.csv");
    assert!(world.read("tickets.html").contains("Every value fits."));
    world.run("report tickets.typhos.toml").status(2).complains("give the files to report on");
    world.run("report tickets.csv -o tickets.csv --replace").status(2);
    assert!(world.read("tickets.csv").starts_with("ticket_no,"), "an input is never written over");
}

/// What a column holds, as a picture of its own.
#[test]
fn a_column_is_drawn_where_a_picture_is_named() {
    let world = World::demo(300);
    world.ok("scout tickets.csv --column fare --save fare.svg");
    let drawn = world.read("fare.svg");
    assert!(drawn.contains("fare (decimal(5,2)) in tickets.csv"), "{drawn}");
    assert!(drawn.matches("<rect").count() >= 8, "a bar for each range");
    world.ok("scout tickets.csv --column cabin --save cabin.svg");
    let drawn = world.read("cabin.svg");
    assert!(drawn.contains("saloon") && drawn.contains("deck"), "{drawn}");
    world
        .run("scout tickets.csv --column cabin --save cabin.svg")
        .status(2)
        .complains("exists already");
    world.run("scout tickets.csv --save all.png").status(2).complains("say --column NAME");
    world.ok("scout tickets.csv --column cabin --save survey");
    world.ok("scout survey");
}

/// Records that cannot be split have a section of their own, with where they stand.
#[test]
fn a_page_says_what_cannot_be_split_and_what_has_to_be_asked() {
    let world = World::new();
    world.write(
        "b.csv",
        "id,on,x\n1,03/04/24,a\n2,\"05/06/24,b\n3,01/02/24\n4,02/02/24,c,d\n5,02/03/24,e\n",
    );
    let ran = world.run("report b.csv -o b.html");
    assert!([0, 1].contains(&ran.status), "{}", ran.err);
    let page = world.read("b.html");
    for want in [
        "<b>2</b>records",
        "<b>1</b>broken record<",
        "<b>1</b>column with a question<",
        "Records that cannot be split into columns",
        "1 record, of which the first:",
        "<code>b.csv:3</code>",
        "has a quote, opened in line 3, that is never closed",
        "--date-order dmy",
    ] {
        assert!(page.contains(want), "{want}\n{page}");
    }
}
