//! The page of a comparison: what differs between two schemas, and what that breaks.

use maud::html;

use super::{Page, short, tile};
use crate::report::comparison::Comparison;

/// The page.
pub fn page(compared: &Comparison) -> Page {
    let (all, breaking) = (compared.found.len(), compared.breaking());
    let of =
        |breaks: bool| compared.found.iter().filter(move |found| found.why.is_some() == breaks);
    let list = |breaks: bool| {
        html! {
            div.scroll { table {
                caption { (if breaks { "Differences that break something" } else { "Other differences" }) }
                thead { tr {
                    th scope="col" { "of" } th scope="col" { "what changed" }
                    @if breaks { th scope="col" { "what that breaks" } }
                } }
                tbody {
                    @for found in of(breaks) {
                        tr {
                            th scope="row" { (short(&found.of)) }
                            td { (short(&found.what)) }
                            @if let Some(why) = &found.why { td.soft { (short(why)) } }
                        }
                    }
                }
            } }
        }
    };
    let mut sections = Vec::new();
    if breaking > 0 {
        sections.push(("breaks", "What breaks".into(), list(true)));
    }
    if all > breaking {
        sections.push(("others", "What else differs".into(), list(false)));
    }
    if all == 0 {
        sections.push(("same", "What differs".into(), html! { p { "Nothing differs." } }));
    }
    Page {
        title: format!("{} → {}", compared.old, compared.new),
        about: "What is said of the columns and of the table, from the first to the second.".into(),
        tiles: vec![
            tile(all as u64, "difference", "differences"),
            tile(breaking as u64, "breaks something", "break something"),
        ],
        warnings: Vec::new(),
        sections,
    }
}
