//! The page of a check: what of an input does not fit its schema, and what its columns take.

use std::path::{Path, PathBuf};

use maud::{Markup, html};
use typhos_core::columns::Account;
use typhos_core::infer::{counted, grouped};
use typhos_load::{Repeats, keep_apart};

use super::super::{check, weigh};
use super::{Page, meter, plain, short, tile};
use crate::args::{Common, InputArgs};
use crate::console::{Console, bytes as size};
use crate::outcome::Failure;
use crate::report::{InputReport, account_line, fate, misfit_line};

/// The page, and whether anything does not fit.
pub fn page(
    schema: &Path,
    inputs: &[PathBuf],
    typed: &InputArgs,
    written: &Path,
    common: &Common,
    console: &mut Console,
) -> Result<(Page, bool), Failure> {
    let ledger = weigh::ledger_of(schema, inputs, typed, common, console)?;
    let (plan, input) = (&ledger.plan, &ledger.input);
    let read: Vec<_> = input.files().iter().filter_map(|file| file.path()).collect();
    let read: Vec<_> = read.iter().map(|path| ("an input", &**path)).collect();
    keep_apart(&[&read[..], &[("the schema", schema)]].concat(), &[("the page", written)])?;
    // What was weighed was read already; only a key has to be looked for.
    let (account, repeats) = match plan.schema().layout.key.is_empty() {
        true => (ledger.weighed.account.clone(), Repeats::default()),
        false => check::account(plan, input, None, common)?,
    };
    let misfits = account.misfits();
    let mut tiles = vec![
        tile(account.read, "record read", "records read"),
        tile(account.loaded, "would be loaded", "would be loaded"),
        tile(account.set_aside, "does not fit", "do not fit"),
        tile(misfits, "misfit", "misfits"),
    ];
    if repeats.count > 0 {
        tiles.push(tile(repeats.count, "duplicate key", "duplicate keys"));
    }
    let fits = html! {
        p { (plain(&account_line(&account, true))) }
        @if misfits == 0 { p { "Every value fits." } } @else { (misfit_list(&ledger, &account)) }
    };
    let mut warnings = Vec::new();
    for (first, again) in &repeats.examples {
        warnings.push(format!("The key in {again} is that in {first}."));
    }
    let page = Page {
        title: plain(&InputReport::of(input).line()),
        about: format!("Held against {}, and weighed.", schema.display()),
        tiles,
        warnings,
        sections: vec![
            ("fits", "What does not fit".into(), fits),
            ("bytes", "What it takes".into(), bytes(&ledger)),
        ],
    };
    Ok((page, misfits > 0 || repeats.count > 0))
}

fn misfit_list(ledger: &weigh::Ledger, account: &Account) -> Markup {
    let (plan, input) = (&ledger.plan, &ledger.input);
    let columns = plan.schema().columns.iter().zip(&account.columns);
    let columns: Vec<_> = columns.filter(|(_, misfits)| misfits.count > 0).collect();
    let paths = input.is_json().then_some(plan);
    let line = |misfit| short(&plain(&misfit_line(misfit, input, paths)));
    html! {
        div.cols {
            @for (column, misfits) in columns {
                article.col {
                    div {
                        h3 { (short(&column.name)) }
                        p.ty.mono { (column.ty) }
                    }
                    div {
                        p { b { (counted(misfits.count, "misfit")) } }
                        p.soft {
                            (fate(column.misfit))
                        }
                        (meter(misfits.count, account.read, "", &counted(misfits.count, "misfit")))
                    }
                    div { @for misfit in &misfits.examples { p.mono { (line(misfit)) } } }
                }
            }
            @if account.broken.count > 0 {
                article.col {
                    div { h3 { "Records that cannot be split" } }
                    div { p { b { (grouped(account.broken.count)) } } }
                    div { @for misfit in &account.broken.examples { p.mono { (line(misfit)) } } }
                }
            }
        }
    }
}

fn bytes(ledger: &weigh::Ledger) -> Markup {
    let lines = weigh::lines(ledger);
    let ([text, wide, declared], [file_text, _, file]) = weigh::totals(&lines);
    let most = lines.iter().map(|line| line.memory[0].max(line.memory[2])).max().unwrap_or(1);
    html! {
        p {
            "In memory " b { (size(declared)) } " as declared, " (size(text)) " as text, " (size(wide)) " with wide types; in a Parquet file "
            b { (size(file)) } ", " (size(file_text)) " as text."
        }
        div.scroll { table {
            caption { "Bytes of each column in memory: as text above, as declared below" }
            thead { tr {
                th scope="col" { "column" } th scope="col" { "type" }
                th.num scope="col" { "as text" } th.num scope="col" { "declared" } th.num scope="col" { "in a file" }
                th scope="col" { "" }
            } }
            tbody {
                @for line in &lines {
                    tr {
                        th scope="row" { (short(&line.name)) }
                        td.mono { (line.shown) }
                        td.num { (size(line.memory[0])) }
                        td.num { (size(line.memory[2])) }
                        td.num { (size(line.disk[2])) }
                        td.wide {
                            (meter(line.memory[0], most, "absent", &size(line.memory[0])))
                            (meter(line.memory[2], most, "", &size(line.memory[2])))
                        }
                    }
                }
            }
        } }
    }
}
