//! Ledgers as JSON.

use serde_json::{Value, json};
use typhos_files::parquet::Footprint;

use super::Ledger;
use super::ledger::{lines, steps, totals};
use crate::args::Weigh;
use crate::report::{InputReport, account_json};

/// The ledger of one declaration.
pub fn one(ledger: &Ledger, args: &Weigh) -> Value {
    let lines = lines(ledger);
    let (memory, disk) = totals(&lines);
    let figures = |[text, wide, declared]: [u64; 3]| json!({ "text": text, "wide": wide, "declared": declared });
    let columns = lines.iter().map(|line| {
        let mut entry = json!({
            "name": line.name,
            "type": line.ty.map(|_| &line.shown),
            "memory": figures(line.memory),
            "file": figures(line.disk),
        });
        if !line.leaves.is_empty() {
            let leaves = line.leaves.iter().map(|(path, ty, memory, file)| {
                json!({ "path": path, "type": ty.to_string(), "memory": memory, "file": file })
            });
            entry["leaves"] = leaves.collect();
        }
        entry
    });
    let weighed = &ledger.weighed;
    let files = [weighed.others[0].file, weighed.others[1].file, weighed.declared.file];
    let steps = steps(&lines)
        .into_iter()
        .map(|(step, bytes)| json!({ "step": step.name(), "saves": bytes }));
    let mut report = json!({
        "typhos": 1,
        "schema": args.schema.display().to_string(),
        "input": InputReport::of(&ledger.input).json(),
        "rows": weighed.account.loaded,
        "columns": columns.collect::<Vec<_>>(),
        "memory": figures(memory),
        "pages": figures(disk),
        "file": figures(files),
        "steps": steps.collect::<Vec<_>>(),
        "account": account_json(&weighed.account, &ledger.plan, &ledger.input),
    });
    if let Some(footprint) = weighed.footprint {
        report["where"] = json!({
            "question": args.filter,
            "rows": weighed.matched,
            "reads": footprint_json(footprint),
        });
    }
    if let Some(advice) = &ledger.advice {
        let advice = advice.iter().map(|advice| {
            json!({
                "column": advice.column,
                "from": advice.change.0,
                "to": advice.change.1,
                "saves": advice.saves,
                "line": advice.line,
                "risk": advice.risk,
            })
        });
        report["advice"] = advice.collect();
    }
    report
}

/// What a reader has to read.
pub fn footprint_json(footprint: Footprint) -> Value {
    let part = |(part, all): (u64, u64)| json!({ "read": part, "all": all });
    json!({
        "row_groups": part(footprint.groups),
        "rows": part(footprint.rows),
        "bytes": part(footprint.bytes),
    })
}
