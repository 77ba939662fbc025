//! Why there is no lineup, as text.

use yalotheca_core::solve::Explanation;

use super::{Cell, Page, Role};

/// Puts an explanation on a page.
pub(crate) fn explain(page: &mut Page, explanation: &Explanation) {
    page.head("Why");
    for statement in &explanation.because {
        page.item(Role::Plain, &statement.text);
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
