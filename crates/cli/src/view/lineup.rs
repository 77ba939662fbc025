//! Why there is no lineup, as text.

use yalotheca_core::solve::Explanation;

use super::{Cell, Page, Role};

/// With more sentences than this only the first few are shown.
const MOST: usize = 8;
const FEW: usize = 5;

/// Puts an explanation on a page.
pub(crate) fn explain(page: &mut Page, explanation: &Explanation) {
    page.head("Why");
    sentences(page, explanation);
    if explanation.ways_out.is_empty() {
        return;
    }
    page.head("Ways out");
    let rows: Vec<Vec<Cell>> = explanation
        .ways_out
        .iter()
        .map(|way| {
            let command = way.command.clone().unwrap_or_default();
            vec![Cell::plain(way.change.clone()), Cell::new(Role::Name, command)]
        })
        .collect();
    page.table(&rows);
}

/// Puts the reasons on a page.
pub(crate) fn sentences(page: &mut Page, explanation: &Explanation) {
    let all = &explanation.because;
    let shown = if all.len() + explanation.left_out.min(1) > MOST { FEW } else { all.len() };
    for statement in all.iter().take(shown) {
        page.item(Role::Plain, &statement.text);
    }
    let more = all.len() - shown + explanation.left_out;
    if more > 0 {
        page.item(Role::Dim, &format!("and {more} more reasons (--json tells more of them)"));
    }
}
