//! Why there is no lineup, as text.

use yalotheca_core::{
    id::ContentId,
    solve::{Explanation, Statement},
};

use super::{Cell, Page, Role};

/// With more sentences than this only the first few are shown.
const MOST: usize = 8;
const FEW: usize = 5;

/// Puts an explanation on a page.
pub(crate) fn explain(page: &mut Page, explanation: &Explanation) {
    page.head("Why");
    sentences(page, explanation, None);
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

/// Puts the reasons on a page. That somebody wants `asked` is clear where that is what the page is about.
pub(crate) fn sentences(page: &mut Page, explanation: &Explanation, asked: Option<&ContentId>) {
    let is_clear = |statement: &&Statement| {
        statement.sort == "want"
            && asked.is_some_and(|asked| statement.contents == std::slice::from_ref(asked))
    };
    let all: Vec<&Statement> = explanation.because.iter().filter(|told| !is_clear(told)).collect();
    let shown = if all.len() + explanation.left_out.min(1) > MOST { FEW } else { all.len() };
    for statement in all.iter().take(shown) {
        page.item(Role::Plain, &statement.text);
    }
    let more = all.len() - shown + explanation.left_out;
    if more > 0 {
        page.item(Role::Dim, &format!("and {more} more reasons (--json lists more of them)"));
    }
}
