//! Sorting end to end in the core: arrays in, arrays out, whatever the limits.

use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;
use arrow_select::concat::concat_batches;
use proptest::prelude::*;

use super::*;
use crate::columns::{Converter, MisfitValue, OnMisfit, Plan, cell_text};
use crate::read_schema as read;
use crate::spilling::testing::Memory;
use crate::text::{Block, BlockReader, Dialect, Input};

const COLUMNS: &str = "typhos = 1\n[columns]\nn = { type = 'int8' }\nroute = { type = 'lowcard' }\n\
    cabin = { type = 'category', values = ['deck', 'saloon', 'cabin'], ranked = true }\n\
    fare = { type = 'decimal(6,2)' }\non = { type = 'date', patterns = ['yyyy-MM-dd'] }\nrow = { type = 'uint32' }\n";

/// The batches of a text, a block at a time, and the plan they follow.
fn batches(schema: &str, text: &str, block_bytes: usize) -> (Plan, Vec<RecordBatch>) {
    let input = Input::from_bytes("t.csv", text.as_bytes().to_vec(), &Dialect::RFC_4180.into());
    let plan = Plan::new(read(schema).unwrap(), &input).unwrap();
    let mut reader = BlockReader::new(&input, block_bytes);
    let (mut block, mut batches) = (Block::default(), Vec::new());
    let mut converter = Converter::new(&plan, OnMisfit::AsDeclared).in_one_batch();
    while reader.next(&mut block).unwrap() {
        let mut push = |batch| {
            batches.push(batch);
            Ok::<(), MisfitValue>(())
        };
        converter.convert::<MisfitValue>(&block, &mut push).unwrap();
    }
    (plan, batches)
}

fn rows(batches: &[RecordBatch]) -> Vec<Vec<Option<String>>> {
    let cells = |batch: &RecordBatch, row| {
        batch.columns().iter().map(|column| cell_text(column, row)).collect()
    };
    batches.iter().flat_map(|b| (0..b.num_rows()).map(move |row| cells(b, row))).collect()
}

/// Sorts through runs of a block each, of which a few are merged at a time.
fn sorted(plan: &Plan, batches: &[RecordBatch], memory: usize, stretch: usize) -> Vec<RecordBatch> {
    let schema: SchemaRef = plan.arrow();
    let order = Arc::new(SortOrder::of(plan.schema(), &schema, None).unwrap());
    let scratch = Memory::default();
    let mut runs = SortedRuns::new(order.clone(), schema, memory, Arc::new(scratch.clone()));
    batches.iter().for_each(|batch| runs.push(order.sort(batch)).unwrap());
    let count = runs.rows();
    let mut merge = runs.merge().unwrap();
    let mut merged = Vec::new();
    while let Some(batch) = merge.next(stretch).unwrap() {
        assert!(batch.num_rows() <= stretch);
        merged.push(batch);
    }
    assert_eq!(count, merged.iter().map(|batch| batch.num_rows() as u64).sum::<u64>());
    drop(merge);
    assert_eq!(scratch.held(), 0, "nothing is left over");
    merged
}

#[test]
fn each_type_has_its_order_and_absent_comes_last() {
    let text = "n,route,cabin,fare,on,row\n7,Sund,cabin,10.00,2024-03-01,0\n-8,Holm,deck,9.50,2023-12-31,1\n\
        ,,,,,2\n10,Ærø,saloon,-1.00,1969-01-01,3\n";
    for (sort, want) in [
        ("n", [1, 0, 3, 2]),
        ("n desc", [3, 0, 1, 2]),
        ("route", [1, 0, 3, 2]),
        ("cabin", [1, 3, 0, 2]),
        ("cabin desc", [0, 3, 1, 2]),
        ("fare", [3, 1, 0, 2]),
        ("on desc", [0, 1, 3, 2]),
    ] {
        let schema = format!("{COLUMNS}[layout]\nsort = ['{sort}']\n");
        let (plan, batches) = batches(&schema, text, 40);
        assert!(batches.len() > 1);
        let found = rows(&sorted(&plan, &batches, 0, 3));
        let order: Vec<_> = found.iter().map(|row| row[5].clone().unwrap()).collect();
        assert_eq!(order, want.map(|row| row.to_string()), "{sort}");
    }
}

#[test]
fn codes_of_a_closed_list_stay_those_of_the_list() {
    let text: String =
        (0..300).map(|n| format!("1,R{},{},1,,{n}\n", n % 7, ["cabin", "deck"][n % 2])).collect();
    let text = format!("n,route,cabin,fare,on,row\n{text}");
    let (plan, batches) = batches(&format!("{COLUMNS}[layout]\nsort = 'route'\n"), &text, 64);
    for batch in sorted(&plan, &batches, 0, 50) {
        use arrow_array::cast::AsArray;
        let cabin = batch.column(2).as_any_dictionary();
        let values: Vec<_> = cabin.values().as_string::<i32>().iter().flatten().collect();
        assert_eq!(values, ["deck", "saloon", "cabin"]);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    /// The law: the rows, sorted by their keys, equal ones in the order of the input; whatever the
    /// blocks, the memory and the stretches.
    #[test]
    fn any_rows_are_sorted_whatever_the_limits(
        picks in proptest::collection::vec((-3i8..3, 0usize..4, 0usize..4, any::<bool>()), 0..400),
        block_bytes in 16usize..400, memory in prop_oneof![Just(0usize), Just(40_000), Just(1 << 30)],
        stretch in 1usize..100, descending: bool,
    ) {
        let cabins = ["deck", "saloon", "cabin", ""];
        let lines: String = picks
            .iter()
            .enumerate()
            .map(|(row, (n, route, cabin, has_n))| {
                let n = if *has_n { n.to_string() } else { String::new() };
                format!("{n},R{route},{},1.50,,{row}\n", cabins[*cabin])
            })
            .collect();
        let direction = if descending { " desc" } else { "" };
        let schema = format!("{COLUMNS}[layout]\nsort = ['cabin', 'n{direction}']\n");
        let (plan, batches) = batches(&schema, &format!("n,route,cabin,fare,on,row\n{lines}"), block_bytes);
        let mut want: Vec<usize> = (0..picks.len()).collect();
        want.sort_by_key(|row| {
            let (n, _, cabin, has_n) = picks[*row];
            (cabin, if has_n { i32::from(if descending { -n } else { n }) } else { 100 })
        });
        let all = concat_batches(&plan.arrow(), &batches).unwrap();
        let all = rows(&[all]);
        let want: Vec<_> = want.into_iter().map(|row| all[row].clone()).collect();
        prop_assert_eq!(rows(&sorted(&plan, &batches, memory, stretch)), want);
    }
}
