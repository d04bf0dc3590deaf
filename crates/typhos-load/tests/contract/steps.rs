//! The steps of a load, whatever the target is.

use tempfile::tempdir;
use typhos_core::run::RunError;
use typhos_load::{LoadError, MisfitLimit, Proof, TargetError};

use crate::shelf::{Fault, Shelf};
use crate::{BOATS, Case, SCHEMA, StopAfter, names};

const WHOLE: [&str; 5] = ["plan", "stage", "append", "prove", "publish"];

#[test]
fn rows_are_proven_before_they_are_published() {
    let folder = tempdir().unwrap();
    let case = Case::boats(folder.path());
    let shelf = Shelf::new(case.options.rejects.clone());
    let report = case.load(&shelf).unwrap();
    assert_eq!(shelf.steps(), WHOLE);
    assert_eq!(shelf.rows(), ["Holm 31", "Tårn 28", "Vik 40"]);
    let account = &report.account;
    assert_eq!((account.read, account.loaded, account.set_aside), (4, 3, 1));
    assert_eq!(report.done.moved.inserted, 3);
    let Proof::Proven { facts, rows: 3, is_before_move: false } = report.done.proof else {
        panic!("{:?}", report.done.proof);
    };
    assert_eq!(facts, 9, "the rows, and four facts about each of two columns");
    assert_eq!(report.plan.notes, ["mind the cloth"], "what the end of a load has to say");
}

#[test]
fn records_that_are_set_aside_appear_with_the_load() {
    let folder = tempdir().unwrap();
    let case = Case::boats(folder.path());
    let shelf = Shelf::new(case.options.rejects.clone());
    let report = case.load(&shelf).unwrap();
    let rejects = report.rejects.expect("a rejects file");
    assert_eq!(rejects, case.options.rejects);
    let text = std::fs::read_to_string(&rejects).unwrap();
    let lines: Vec<_> = text.lines().collect();
    assert_eq!(lines.len(), 2, "{text}");
    assert!(lines[0].starts_with("boat,length,"), "{text}");
    assert!(lines[1].starts_with("Sund,long,boats.csv,3,length,"), "{text}");
    assert_eq!(names(folder.path()), ["boats.rejects.csv"], "and nothing else is left");
    // Another load never takes the place of what was set aside before.
    let second = case.load(&shelf).unwrap().rejects.expect("a rejects file");
    assert_ne!(second, rejects);
    assert_eq!(std::fs::read_to_string(&rejects).unwrap(), text);
}

#[test]
fn nothing_is_staged_that_was_refused() {
    let folder = tempdir().unwrap();
    let case = Case::boats(folder.path());
    let shelf = Shelf::new(case.options.rejects.clone()).with(Fault::Planning);
    let planned = case.plan(&shelf).unwrap();
    assert_eq!(planned.problems[0].what, "the shelf is out of reach");
    let refused = case.load(&shelf).unwrap_err();
    assert!(
        matches!(refused, LoadError::Target(TargetError::Preflight(plan)) if plan == planned.into())
    );
    assert_eq!(shelf.steps(), ["plan"]);
}

#[test]
fn duplicate_keys_are_found_before_anything_is_sent() {
    let folder = tempdir().unwrap();
    let text = "boat,length\nHolm,31\nSund,28\nHolm,40\n";
    let schema = format!("{SCHEMA}[layout]\nkey = ['boat']\n");
    let case = Case::new(text, &schema, folder.path());
    let shelf = Shelf::new(case.options.rejects.clone());
    let planned = case.plan(&shelf).unwrap();
    assert!(planned.problems[0].what.contains("1 duplicate key"), "{planned:?}");
    let Err(LoadError::Target(TargetError::Repeated { count: 1, repeats, .. })) = case.load(&shelf)
    else {
        panic!("a key that comes twice was loaded");
    };
    assert_eq!(repeats, ["boats.csv:2 and boats.csv:4"]);
    assert_eq!(shelf.steps(), ["plan"]);
}

#[test]
fn whatever_fails_is_undone_and_says_why() {
    use Fault::{Appending, Encoding, Losing, Publishing, Staging};
    let lines: String = (0..60).map(|at| format!("boat {at},{at}\n")).collect();
    let text = format!("{BOATS}{lines}");
    let cases: [(Fault, &[&str], &str); 5] = [
        (Staging, &["plan", "stage"], "the shelf broke"),
        (Appending, &["plan", "stage", "append", "undo"], "the shelf broke"),
        (Losing, &["plan", "stage", "append", "prove", "undo"], "63 rows were sent, 62 are there"),
        (Publishing, &["plan", "stage", "append", "prove", "undo"], "the shelf broke"),
        (Encoding("boat 59"), &["plan", "stage", "append", "undo"], "is too long for the shelf"),
    ];
    for (fault, steps, said) in cases {
        let folder = tempdir().unwrap();
        let case = Case::new(&text, SCHEMA, folder.path());
        let shelf = Shelf::new(case.options.rejects.clone()).with(fault);
        let error = case.load(&shelf).unwrap_err().to_string();
        assert!(error.contains(said), "{fault:?}: {error}");
        assert_eq!(shelf.steps(), steps, "{fault:?}");
        assert_eq!(shelf.rows(), [""; 0], "{fault:?}");
        assert_eq!(names(folder.path()), [""; 0], "{fault:?}: nothing was set aside for good");
    }
}

#[test]
fn records_with_values_that_the_target_cannot_hold_are_set_aside_where_misfits_are() {
    let names_of = |count: usize| (0..count).map(|at| format!("boat {},{at}\n", at % 3));
    let text = format!("{BOATS}{}", names_of(9).collect::<String>());
    for schema in [
        SCHEMA.replace("'text'", "'text', misfit = 'reject'"),
        SCHEMA.replace("[columns]", "[input]\nmisfit = 'reject'\n[columns]"),
    ] {
        let folder = tempdir().unwrap();
        let case = Case::new(&text, &schema, folder.path());
        let shelf = Shelf::new(case.options.rejects.clone()).with(Fault::Encoding("boat 1"));
        let report = case.load(&shelf).unwrap();
        let account = &report.account;
        assert_eq!((account.read, account.loaded, account.set_aside), (13, 9, 4), "{schema}");
        assert!(shelf.rows().iter().all(|row| !row.starts_with("boat 1")), "{schema}");
        let aside = std::fs::read_to_string(report.rejects.expect("a rejects file")).unwrap();
        let aside: Vec<&str> = aside.lines().skip(1).collect();
        assert!(aside[0].starts_with("Sund,long,"), "in the order of the input: {aside:?}");
        for (line, kept) in [(7, aside[1]), (10, aside[2]), (13, aside[3])] {
            assert!(kept.starts_with(&format!("boat 1,{},boats.csv,{line}", line - 6)), "{kept}");
            assert!(kept.contains("column 'boat': 'boat 1' is too long for the shelf"), "{kept}");
        }
        assert_eq!(
            shelf.steps(),
            ["plan", "stage", "undo", "plan", "stage", "append", "prove", "publish"]
        );
    }
}

#[test]
fn too_many_values_that_the_target_cannot_hold_end_a_load() {
    let text = format!("boat,length\n{}", "boat 1,7\n".repeat(1_002));
    let schema = SCHEMA.replace("'text'", "'text', misfit = 'reject'");
    let folder = tempdir().unwrap();
    let case = Case::new(&text, &schema, folder.path());
    let shelf = Shelf::new(case.options.rejects.clone()).with(Fault::Encoding("boat 1"));
    let said = case.load(&shelf).unwrap_err().to_string();
    assert!(said.starts_with("boats.csv:2  column 'boat': 'boat 1' is too long"), "{said}");
    assert!(said.contains("at least 1,000 records more"), "{said}");
    assert_eq!(names(folder.path()), [""; 0]);
}

#[test]
fn too_many_misfits_end_a_load() {
    for (limit, fits) in [
        (MisfitLimit::Count(0), false),
        (MisfitLimit::Count(1), true),
        (MisfitLimit::Percent(24.0), false),
        (MisfitLimit::Percent(25.0), true),
    ] {
        let folder = tempdir().unwrap();
        let case = Case::boats(folder.path()).limited(limit);
        let shelf = Shelf::new(case.options.rejects.clone());
        match case.load(&shelf) {
            Ok(report) => {
                assert!(fits, "{limit}");
                assert_eq!(report.account.set_aside, 1);
            }
            Err(LoadError::TooManyMisfits { misfits: 1, first, .. }) => {
                assert!(!fits, "{limit}");
                assert!(first.starts_with("boats.csv:3: column 'length': 'long'"), "{first}");
                assert_eq!(shelf.steps().last(), Some(&"undo"));
                assert_eq!(names(folder.path()), [""; 0]);
            }
            Err(other) => panic!("{limit}: {other}"),
        }
    }
}

#[test]
fn a_load_that_is_interrupted_leaves_nothing() {
    let lines: String = (0..500).map(|at| format!("boat {at},{at}\n")).collect();
    let text = format!("{BOATS}{lines}");
    for bytes in [1, 2_000, text.len() as u64 - 12] {
        let folder = tempdir().unwrap();
        let case = Case::new(&text, SCHEMA, folder.path());
        let shelf = Shelf::new(case.options.rejects.clone());
        let result = case.load_watched(&shelf, &StopAfter::bytes(bytes));
        assert!(
            matches!(
                result,
                Err(LoadError::Run(RunError::Interrupted)
                    | LoadError::Target(TargetError::Interrupted))
            ),
            "{bytes}: {result:?}"
        );
        assert_eq!(shelf.steps().last(), Some(&"undo"));
        assert_eq!(shelf.rows(), [""; 0]);
        assert_eq!(names(folder.path()), [""; 0]);
    }
}

#[test]
fn rows_arrive_in_the_order_of_the_input() {
    let folder = tempdir().unwrap();
    let numbers = 0..2_000;
    let lines: String = numbers.clone().map(|at| format!("boat {at},{at}\n")).collect();
    let case = Case::new(&format!("boat,length\n{lines}"), SCHEMA, folder.path());
    let shelf = Shelf::new(case.options.rejects.clone());
    case.load(&shelf).unwrap();
    assert!(shelf.blocks() > 100, "{}", shelf.blocks());
    assert_eq!(shelf.rows(), numbers.map(|at| format!("boat {at} {at}")).collect::<Vec<_>>());
}

#[test]
fn rows_arrive_in_the_order_that_is_declared() {
    let folder = tempdir().unwrap();
    let schema = format!("{SCHEMA}[layout]\nsort = ['length']\nrow_group = 100\n");
    let lines: String = (0..2_000).map(|at| format!("boat,{}\n", at * 7919 % 2_000)).collect();
    let mut case = Case::new(&format!("boat,length\n{lines}"), &schema, folder.path());
    // So little that sorted runs are put aside and merged.
    case.options.sort_memory = 1;
    let shelf = Shelf::new(case.options.rejects.clone());
    let report = case.load(&shelf).unwrap();
    assert_eq!(report.account.loaded, 2_000);
    assert_eq!(shelf.blocks(), 20, "a block for each row group");
    assert_eq!(shelf.rows(), (0..2_000).map(|at| format!("boat {at}")).collect::<Vec<_>>());
    assert_eq!(names(folder.path()), [""; 0], "what was put aside is gone");
}
