//! The steps of a load into a table, whatever the database is.

use tempfile::tempdir;
use typhos_core::schema::Held;
use typhos_load::{Action, LoadError, Mode, Moved, Proof, Seen, TargetError};
use typhos_sql::held::{Existing, ExistingColumn, Filled};

use crate::database::{Database, short};
use crate::{Case, SCHEMA, names};

/// A table of boats and their lengths, with a key.
fn boats() -> Existing {
    let column = |name: &str, ty: &str, held, nullable| ExistingColumn {
        name: name.into(),
        ty: ty.into(),
        held,
        nullable,
        filled: Filled::Nobody,
        letters: None,
    };
    let length = column("length", "integer", Held::Int(-2_147_483_648..=2_147_483_647), true);
    Existing {
        columns: vec![column("boat", "text", Held::Text(None), false), length],
        key: vec!["boat".into()],
    }
}

fn case(mode: Mode, seen: Seen, key: bool, folder: &std::path::Path) -> Case {
    let key = if key { "[layout]\nkey = ['boat']\n" } else { "" };
    let text = "boat,length\nHolm,31\nTårn,28\nVik,40\n";
    let mut case = Case::new(text, &format!("{SCHEMA}{key}"), folder);
    (case.options.mode, case.options.seen) = (mode, seen);
    case
}

/// Answers to what is asked of the three boats: their number, and of each column what a proof asks.
const PROOF: [&str; 7] = ["3", "Holm", "Vik", "12", "3", "28", "40"];

fn answers(database: Database) -> Database {
    let whole = PROOF.iter().copied().chain(["99"]).collect::<Vec<_>>();
    database.answer("count(*), min(", &whole)
}

#[test]
fn a_table_is_made_filled_and_proven_in_one_transaction() {
    let folder = tempdir().unwrap();
    let case = case(Mode::Create, Seen::Stop, false, folder.path());
    let database = answers(Database::default());
    let report = case.load(&database).unwrap();
    assert_eq!(
        short(&database.said()),
        ["sweep", "BEGIN", "CREATE TABLE", "rows: 3", "SELECT", "COMMIT", "close"]
    );
    assert_eq!(report.done.moved, Moved { inserted: 3, ..Moved::default() });
    assert!(matches!(report.done.proof, Proof::Proven { rows: 3, is_before_move: false, .. }));
    assert_eq!(report.plan.action, Action::Create);
}

#[test]
fn without_transactions_a_table_is_made_beside_and_renamed() {
    for (mode, there) in [(Mode::Create, None), (Mode::Replace, Some(boats()))] {
        let folder = tempdir().unwrap();
        let case = case(mode, Seen::Stop, false, folder.path());
        let database =
            answers(Database { existing: there, has_no_transactions: true, ..Database::default() });
        case.load(&database).unwrap();
        let said = database.said();
        let placed = if mode == Mode::Replace { "replace" } else { "rename" };
        assert_eq!(
            short(&said),
            ["sweep", "CREATE TABLE", "rows: 3", "SELECT", placed, "COMMIT", "close"]
        );
        assert!(said[1].contains("typhos_unfinished_"), "{said:?}");
    }
}

#[test]
fn a_table_that_differs_from_what_was_sent_is_undone() {
    for at in 0..=PROOF.len() {
        for has_no_transactions in [false, true] {
            let folder = tempdir().unwrap();
            let case = case(Mode::Create, Seen::Stop, false, folder.path());
            let mut other: Vec<_> = PROOF.iter().copied().chain(["99"]).collect();
            other[at] = "7";
            let database = Database { has_no_transactions, ..Database::default() };
            let database = database.answer("count(*), min(", &other);
            let error = case.load(&database).unwrap_err();
            let LoadError::Target(TargetError::Unproven { target, differences }) = error else {
                panic!("{at}: {error}");
            };
            assert_eq!(target, "a quiet database table 'boats'");
            assert!(differences.len() == 1 && differences[0].contains('7'), "{differences:?}");
            assert_eq!(database.said().last().unwrap(), "undo", "and nothing was committed");
            assert!(!short(&database.said()).contains(&"COMMIT".to_owned()));
        }
    }
}

#[test]
fn a_table_that_is_not_proven_is_counted_all_the_same() {
    let folder = tempdir().unwrap();
    let mut case = case(Mode::Create, Seen::Stop, false, folder.path());
    case.options.is_proven = false;
    let database = Database::default().answer("SELECT count(*)", &["3"]);
    assert_eq!(case.load(&database).unwrap().done.proof, Proof::Skipped);
    let database = Database::default().answer("SELECT count(*)", &["2"]);
    let error = case.load(&database).unwrap_err().to_string();
    assert!(error.contains("3 rows were sent, 2 are there"), "{error}");
    assert_eq!(database.said().last().unwrap(), "undo");
}

#[test]
fn rows_with_a_key_that_is_there_stop_are_skipped_or_update() {
    for (seen, steps, moved) in [
        (Seen::Stop, &["undo"][..], None),
        (Seen::Skip, &["INSERT", "COMMIT", "close"], Some((1, 0, 2))),
        (Seen::Update, &["UPDATE", "INSERT", "COMMIT", "close"], Some((1, 2, 0))),
    ] {
        let folder = tempdir().unwrap();
        let case = case(Mode::Append, seen, true, folder.path());
        let database = answers(Database { existing: Some(boats()), ..Database::default() })
            .answer(" s WHERE ", &["2"])
            .answer("ORDER BY", &["Holm"])
            .changes("INSERT", 1);
        let result = case.load(&database);
        let said = database.said();
        assert!(said[2].starts_with("CREATE TEMPORARY TABLE"), "{said:?}");
        assert!(short(&said).ends_with(&steps.iter().map(|&it| it.to_owned()).collect::<Vec<_>>()));
        match (result, moved) {
            (Ok(report), Some((inserted, updated, skipped))) => {
                assert_eq!(report.done.moved, Moved { inserted, updated, skipped });
                assert_eq!(
                    report.account.loaded + report.account.there_already,
                    report.account.read
                );
                assert_eq!(report.account.there_already, skipped);
            }
            (Err(LoadError::Target(TargetError::Seen { count: 2, keys, .. })), None) => {
                assert_eq!(keys, ["Holm"]);
            }
            (other, _) => panic!("{seen:?}: {other:?}"),
        }
    }
}

#[test]
fn a_server_that_adds_another_number_of_rows_is_not_believed() {
    let folder = tempdir().unwrap();
    let case = case(Mode::Append, Seen::Skip, true, folder.path());
    let database = answers(Database { existing: Some(boats()), ..Database::default() })
        .answer(" s WHERE ", &["1"])
        .changes("INSERT", 3);
    let error = case.load(&database).unwrap_err().to_string();
    assert!(error.contains("2 rows were to be added, 3 were added"), "{error}");
    assert_eq!(database.said().last().unwrap(), "undo");
}

#[test]
fn what_a_server_says_against_a_statement_is_the_error() {
    let steps =
        [("CREATE TABLE", "sweep BEGIN"), ("COMMIT", "sweep BEGIN CREATE TABLE rows: 3 SELECT")];
    for (statement, before) in steps {
        let folder = tempdir().unwrap();
        let case = case(Mode::Create, Seen::Stop, false, folder.path());
        let database = answers(Database { refuses: Some(statement), ..Database::default() });
        let error = case.load(&database).unwrap_err().to_string();
        assert!(error.contains("the disk of the server is full"), "{error}");
        assert_eq!(short(&database.said()).join(" "), format!("{before} {statement} undo"));
        assert_eq!(names(folder.path()), [""; 0]);
    }
}

#[test]
fn a_plan_tells_everything_that_is_in_the_way_at_once() {
    let folder = tempdir().unwrap();
    let case = case(Mode::Append, Seen::Stop, true, folder.path());
    let mut there = boats();
    there.columns[1].held = Held::Int(-128..=127);
    there.columns[1].ty = "smallest".into();
    there.columns.push(ExistingColumn {
        name: "harbour".into(),
        nullable: false,
        ..there.columns[0].clone()
    });
    there.columns[0].name = "boot".into();
    let database = Database { existing: Some(there), ..Database::default() };
    let plan = case.plan(&database).unwrap();
    let problems: Vec<_> = plan.problems.iter().map(|problem| &problem.what[..]).collect();
    assert_eq!(problems.len(), 4, "{problems:#?}");
    assert!(problems[0].contains("the table has no column 'boat'"), "{problems:#?}");
    assert!(plan.problems[0].help.to_string().contains("did you mean 'boot'?"));
    assert!(problems[1].contains("'length', which is smallest"), "{problems:#?}");
    assert!(problems[2].contains("'boot' must not be null"), "{problems:#?}");
    assert!(problems[3].contains("'harbour' must not be null"), "{problems:#?}");
    assert!(database.said().is_empty(), "a plan changes nothing");
    assert!(matches!(case.load(&database), Err(LoadError::Target(TargetError::Preflight(_)))));
    assert!(database.said().is_empty(), "and neither does a load that was refused");
}

#[test]
fn a_plan_of_a_table_that_is_there_says_what_to_pass() {
    let folder = tempdir().unwrap();
    let case = case(Mode::Create, Seen::Skip, false, folder.path());
    let database = Database { existing: Some(boats()), ..Database::default() };
    let problems = case.plan(&database).unwrap().problems;
    let whats: Vec<_> = problems.iter().map(|problem| &problem.what[..]).collect();
    assert_eq!(
        whats,
        [
            "there is a table 'boats' already",
            "no key is declared, so no row is known to be there already"
        ]
    );
}

/// Nobody else looks for keys between the look at what is there and the commit; where nothing is looked for, nobody waits.
#[test]
fn keys_are_locked_before_they_are_looked_for() {
    for (mode, has_key, is_locked) in
        [(Mode::Append, true, true), (Mode::Append, false, false), (Mode::Refill, true, false)]
    {
        let folder = tempdir().unwrap();
        let case = case(mode, Seen::Stop, has_key, folder.path());
        let database = answers(Database { existing: Some(boats()), ..Database::default() })
            .answer(" s WHERE ", &["0"])
            .changes("INSERT", 3);
        case.load(&database).unwrap();
        let said = database.said();
        let at = |words: &str| said.iter().position(|said| said.contains(words));
        assert_eq!(at("lock the keys of boats").is_some(), is_locked, "{mode:?}: {said:?}");
        if let Some(locked) = at("lock the keys") {
            assert!(
                locked < at(" s WHERE ").unwrap() && locked > at("rows: 3").unwrap(),
                "{said:?}"
            );
        }
    }
}

/// The old rows go when the new ones are proven, in the transaction in which those come.
#[test]
fn rows_are_exchanged_in_one_transaction() {
    for (fails, last) in [(None, "close"), (Some("DELETE"), "undo"), (Some("COMMIT"), "undo")] {
        let folder = tempdir().unwrap();
        let case = case(Mode::Refill, Seen::Stop, true, folder.path());
        let mut database = answers(Database { existing: Some(boats()), ..Database::default() });
        database.refuses = fails;
        assert_eq!(case.load(&database).is_ok(), fails.is_none());
        let said = database.said();
        let at = |words: &str| said.iter().position(|said| said.contains(words));
        let steps =
            ["BEGIN", "rows: 3", "DELETE FROM \"boats\"", "INSERT INTO \"boats\"", "COMMIT"];
        let places: Vec<usize> = steps.into_iter().filter_map(at).collect();
        assert!(places.is_sorted(), "{said:?}");
        assert_eq!(places.len(), if fails == Some("DELETE") { 3 } else { 5 }, "{said:?}");
        assert_eq!(said.last().unwrap(), last);
    }
    let folder = tempdir().unwrap();
    let case = case(Mode::Refill, Seen::Skip, true, folder.path());
    let database = answers(Database { existing: Some(boats()), ..Database::default() });
    let error = case.load(&database).unwrap_err().to_string();
    assert!(error.contains("cannot be loaded"), "{error}");
    assert!(!short(&database.said()).contains(&"BEGIN".to_owned()), "nothing was begun");
}
