//! Why there is no lineup, as text.

use yalotheca_core::{
    id::ContentId,
    solve::{Explanation, Statement, WayAct},
    version::VersionRange,
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
            let command = way.act.as_ref().map(command).unwrap_or_default();
            vec![Cell::plain(way.change.clone()), Cell::new(Role::Name, command)]
        })
        .collect();
    page.table(&rows);
}

/// Returns the commands that take a way out.
fn command(act: &WayAct) -> String {
    let names: Vec<&str> = act.drop.iter().map(ContentId::as_str).collect();
    let word = |(id, range): &(ContentId, VersionRange)| match range.only_version() {
        _ if range.is_any() => id.to_string(),
        Some(version) => format!("{id}@={version}"),
        None => format!("'{id}@{range}'"),
    };
    let words: Vec<String> = act.add.iter().map(word).collect();
    let drop = (!names.is_empty()).then(|| format!("yalotheca drop {}", names.join(" ")));
    let add = (!words.is_empty()).then(|| format!("yalotheca add {}", words.join(" ")));
    let names: Vec<&str> = act.switch_on.iter().map(ContentId::as_str).collect();
    let on = (!names.is_empty()).then(|| format!("yalotheca on {}", names.join(" ")));
    drop.into_iter().chain(add).chain(on).collect::<Vec<_>>().join("; ")
}

/// Returns an explanation as JSON, with the command of each way out.
pub(crate) fn as_json(explanation: &Explanation) -> serde_json::Value {
    let mut value = serde_json::json!(explanation);
    for (at, way) in explanation.ways_out.iter().enumerate() {
        value["ways_out"][at]["command"] = serde_json::json!(way.act.as_ref().map(command));
    }
    value
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
