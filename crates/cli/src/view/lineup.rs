//! Why there is no lineup, as text.

use yalotheca_core::solve::Explanation;

use super::{Cell, Page, Role};

/// Puts an explanation on a page.
pub(crate) fn explain(page: &mut Page, explanation: &Explanation) {
    const MOST: usize = 12;
    page.head("Why");
    for statement in explanation.because.iter().take(MOST) {
        page.item(Role::Plain, &statement.text);
    }
    if explanation.because.len() > MOST {
        let more = explanation.because.len() - MOST;
        page.item(Role::Dim, &format!("and {more} more reasons (--json lists them)"));
    }
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
