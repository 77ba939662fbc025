//! Why there is no lineup, in sentences, and the ways out, each found by really solving it.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use super::{
    Question,
    engine::{self, DeadEnd},
    is_solvable,
    problem::{Candidate, Cause},
    sets::Set,
    verify::with_range,
};
use crate::{
    catalogue::Platform,
    id::ContentId,
    version::{ReleaseVersion, VersionRange},
};

/// Why there is no lineup.
#[derive(Debug, Clone, Serialize)]
pub struct Explanation {
    /// The sentences, what was asked for first.
    pub because: Vec<Statement>,
    /// What would help, the smallest change first.
    pub ways_out: Vec<WayOut>,
}

/// One sentence of an explanation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Statement {
    /// Which sort: `want`, `need`, `missing`, `welcome`, `refuse`, `platform` or `withdrawn`.
    pub sort: &'static str,
    /// Which content it is about.
    pub content: ContentId,
    /// The sentence.
    pub text: String,
}

/// A change after which there is a lineup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct WayOut {
    /// What to change.
    pub change: String,
    /// The want to change, and the version it would get; no version means to do without it. Nothing where it is the
    /// platform that would have to change.
    pub want: Option<(ContentId, Option<ReleaseVersion>)>,
    /// The command that does it, where one does.
    pub command: Option<String>,
}

/// Builds the explanation from the rules that leave nothing.
pub(super) fn explain(question: &Question<'_>, end: &DeadEnd<'_>) -> Explanation {
    let mut because: Vec<Statement> = Vec::new();
    let candidates = &end.problem.candidates;
    let mut reached: BTreeSet<&ContentId> = question.wants.keys().collect();
    let mut waiting: Vec<&Cause<'_>> = end.causes.iter().collect();
    // From the wants along the needs, so that each sentence speaks of something that was mentioned before.
    while !waiting.is_empty() {
        let (now, later): (Vec<&Cause<'_>>, Vec<&Cause<'_>>) =
            waiting.into_iter().partition(|cause| reached.contains(candidates[subject(cause)].id));
        let stuck = now.is_empty();
        let now = if stuck { later.clone() } else { now };
        for cause in &now {
            let statement = state(question, candidates, cause);
            if !because.contains(&statement) {
                because.push(statement);
            }
            if let Cause::Need { group, .. } = cause {
                let ids = group.iter().map(|(id, _)| id);
                reached
                    .extend(ids.filter_map(|id| candidates.iter().map(|c| c.id).find(|known| *known == id)));
            }
        }
        waiting = if stuck { Vec::new() } else { later };
    }
    because.sort_by_key(|statement| statement.sort != "want");
    Explanation { ways_out: ways_out(question, end, candidates), because }
}

fn subject(cause: &Cause<'_>) -> usize {
    match cause {
        Cause::Want { content }
        | Cause::Platform { content, .. }
        | Cause::Withdrawn { content, .. }
        | Cause::Need { content, .. }
        | Cause::Welcome { content, .. }
        | Cause::Refuse { content, .. } => *content,
        Cause::Learned(_) => 0,
    }
}

fn state(question: &Question<'_>, candidates: &[Candidate<'_>], cause: &Cause<'_>) -> Statement {
    let id = candidates[subject(cause)].id;
    let who = |releases: &Set| name_releases(&candidates[subject(cause)], releases);
    let (sort, text) = match cause {
        Cause::Want { .. } => {
            let range = question.wants.get(id);
            (
                "want",
                format!("you want {}", range.map_or_else(|| id.to_string(), |range| with_range(id, range))),
            )
        }
        Cause::Platform { releases, miss, .. } => {
            let (who, many) = who(releases);
            let runs = if many { "need" } else { "needs" };
            let range =
                if miss.range.is_any() { String::new() } else { format!(" {}", miss.range.in_words()) };
            ("platform", format!("{who} {runs} {}{range}, and {}", miss.part, miss.what_is_there()))
        }
        Cause::Withdrawn { releases, .. } => {
            let (who, many) = who(releases);
            ("withdrawn", format!("{who} {} withdrawn by the author", if many { "were" } else { "was" }))
        }
        Cause::Need { releases, group, .. } => {
            let (who, many) = who(releases);
            let wanted: Vec<String> = group.iter().map(|(id, range)| with_range(id, range)).collect();
            let verb = if many { "need" } else { "needs" };
            let known = group.iter().any(|(id, _)| question.universe.get(id).is_some());
            if known {
                ("need", format!("{who} {verb} {}", wanted.join(" or ")))
            } else {
                ("missing", format!("{who} {verb} {}, and no catalogue has it", wanted.join(" or ")))
            }
        }
        Cause::Welcome { releases, other, range, .. } => {
            let (who, many) = who(releases);
            (
                "welcome",
                format!("{who} {} with {} only", if many { "go" } else { "goes" }, with_range(other, range)),
            )
        }
        Cause::Refuse { releases, other, range, .. } => {
            let (who, many) = who(releases);
            let verb = if many { "refuse" } else { "refuses" };
            ("refuse", format!("{who} {verb} to run beside {}", with_range(other, range)))
        }
        Cause::Learned(_) => ("need", String::new()),
    };
    Statement { sort, content: id.clone(), text }
}

/// Names some of a content's releases, and says whether they are several: `tidebell 1.4`, `tidebell 1.2 to 1.4`,
/// `every known tidebell`.
fn name_releases(candidate: &Candidate<'_>, releases: &Set) -> (String, bool) {
    let mut all: Vec<_> = candidate.releases.iter().map(|release| &release.version).collect();
    all.sort();
    let mut named: Vec<_> = releases
        .iter()
        .filter_map(|bit| candidate.releases.get(bit))
        .map(|release| &release.version)
        .collect();
    named.sort();
    let id = candidate.id;
    match named.as_slice() {
        [] => (id.to_string(), false),
        [only] if only.is_unversioned() => (id.to_string(), false),
        [only] => (format!("{id} {only}"), false),
        [first, .., last] => {
            let from = all.iter().position(|version| version == first).unwrap_or(0);
            let in_a_row = all[from..].iter().zip(&named).all(|(a, b)| a == b);
            let text = if named.len() == all.len() {
                format!("every known {id}")
            } else if in_a_row && all.last() == Some(last) {
                format!("{id} from {first} on")
            } else if in_a_row {
                format!("{id} {first} to {last}")
            } else if named.len() <= 4 {
                let texts: Vec<String> = named.iter().map(ToString::to_string).collect();
                format!("{id} {}", texts.join(", "))
            } else {
                format!("{} releases of {id} between {first} and {last}", named.len())
            };
            let many = !text.starts_with("every");
            (text, many)
        }
    }
}

/// Tries small changes to the wants that take part, and to the platform.
fn ways_out(question: &Question<'_>, end: &DeadEnd<'_>, candidates: &[Candidate<'_>]) -> Vec<WayOut> {
    const MOST_TRIED: usize = 12;
    let wanted: Vec<&ContentId> = end
        .causes
        .iter()
        .filter(|cause| matches!(cause, Cause::Want { .. }))
        .map(|cause| candidates[subject(cause)].id)
        .take(MOST_TRIED)
        .collect();
    let mut found = Vec::new();
    let solvable = |wants: &BTreeMap<ContentId, VersionRange>, platform: &Platform| {
        is_solvable(&Question { platform, wants, ..*question })
    };
    for id in &wanted {
        if question.wants[*id].is_any() {
            continue;
        }
        let mut wants = question.wants.clone();
        wants.insert((*id).clone(), VersionRange::any());
        if let Ok(selection) = engine::run(&Question { wants: &wants, ..*question })
            && let Some(version) = selection.get(*id)
        {
            found.push(WayOut {
                change: format!("take {id} {version}"),
                want: Some(((*id).clone(), Some(version.clone()))),
                command: Some(format!("yalotheca add {id}@={version}")),
            });
        }
    }
    for miss in end.causes.iter().filter_map(|cause| match cause {
        Cause::Platform { miss, .. } => Some(miss),
        _ => None,
    }) {
        let Some(version) = lowest_in(&miss.range) else { continue };
        let mut platform = question.platform.clone();
        platform.parts.insert(miss.part.clone(), version.clone());
        let change = format!("give the server {} {}", miss.part, miss.range.in_words());
        if found.iter().all(|way: &WayOut| way.change != change) && solvable(question.wants, &platform) {
            found.push(WayOut { change, want: None, command: None });
        }
    }
    for id in &wanted {
        let mut wants = question.wants.clone();
        wants.remove(*id);
        if solvable(&wants, question.platform) {
            found.push(WayOut {
                change: format!("do without {id}"),
                want: Some(((*id).clone(), None)),
                command: Some(format!("yalotheca drop {id}")),
            });
        }
    }
    found
}

/// Finds a version that a range takes, among the versions that the range itself names.
fn lowest_in(range: &VersionRange) -> Option<ReleaseVersion> {
    range
        .as_str()
        .split([',', ' ', '|'])
        .map(|word| word.trim_start_matches(['<', '>', '=', '^']).trim_end_matches(".*"))
        .filter_map(|word| ReleaseVersion::parse(word).ok())
        .find(|version| range.matches(version))
}
