//! The ways out of a contradiction: small changes, each found by really solving it.

use std::collections::BTreeSet;

use super::{
    Question, Selection, WayAct, WayOut,
    blame::{Blame, Effort},
    engine::{self, End},
    go_straight,
    naming::listed,
};
use crate::{
    catalogue::Platform,
    id::ContentId,
    version::{ReleaseVersion, VersionRange},
};

/// How many wants are tried one by one.
const MOST_TRIED: usize = 12;

/// Tries small changes to the wants that are to blame, and to the platform; where no single one helps, finds wants that
/// can be had together and names the others.
pub(super) fn ways_out(question: &Question<'_>, core: &BTreeSet<Blame>, effort: &mut Effort) -> Vec<WayOut> {
    let universe = question.universe;
    let wanted = core.iter().filter_map(|blame| match blame {
        Blame::Want(number) => Some(universe.id(*number)),
        _ => None,
    });
    let mut wanted: Vec<&ContentId> = wanted.collect();
    wanted.sort();
    let single: &[&ContentId] = if wanted.len() <= MOST_TRIED { &wanted } else { &[] };
    let mut found = Vec::new();
    for id in single.iter().filter(|id| !question.wants[**id].is_any()) {
        found.extend(other_version(question, id, effort));
    }
    for blame in core {
        let Blame::Platform(number, ground) = blame else { continue };
        let way = other_platform(question, *number, *ground, effort);
        if let Some(way) = way.filter(|way| found.iter().all(|known: &WayOut| known.change != way.change)) {
            found.push(way);
        }
    }
    for id in single {
        let mut wants = question.wants.clone();
        wants.remove(*id);
        if is_solvable(&Question { wants: &wants, ..*question }, effort) {
            found.push(without(&[id]));
        }
    }
    if found.is_empty() {
        match engine::give_up_wants(question, effort.conflicts) {
            Ok(Some(given_up)) if !given_up.is_empty() => {
                found.push(without(&given_up.iter().collect::<Vec<_>>()));
            }
            Ok(_) => {}
            Err(unread) => effort.unread.extend(unread),
        }
    }
    found
}

fn other_version(question: &Question<'_>, id: &ContentId, effort: &mut Effort) -> Option<WayOut> {
    let mut wants = question.wants.clone();
    wants.insert(id.clone(), VersionRange::any());
    let selection = solved(&Question { wants: &wants, ..*question }, effort)?;
    let version = selection.get(id)?;
    Some(WayOut {
        change: format!("take {id} {version}"),
        wants: vec![(id.clone(), Some(version.clone()))],
        act: Some(WayAct { add: vec![(id.clone(), VersionRange::exactly(version))], ..WayAct::default() }),
    })
}

fn other_platform(question: &Question<'_>, number: u32, ground: u32, effort: &mut Effort) -> Option<WayOut> {
    let (_, release) = question.universe.gathered(number).rare()?.grounds.get(ground as usize)?;
    let release = question.universe.content(number)?.releases.get(*release as usize)?;
    let misses = question.platform.misses(release);
    let mut platform: Platform = question.platform.clone();
    for miss in &misses {
        platform.parts.insert(miss.part.clone(), lowest_in(&miss.range)?);
    }
    let parts: Vec<String> =
        misses.iter().map(|miss| format!("{} {}", miss.part, miss.range.in_words())).collect();
    let helps = is_solvable(&Question { platform: &platform, ..*question }, effort);
    helps.then(|| WayOut {
        change: format!("give the server {}", listed(&parts)),
        wants: Vec::new(),
        act: None,
    })
}

fn without(ids: &[&ContentId]) -> WayOut {
    let names: Vec<&str> = ids.iter().map(|id| id.as_str()).collect();
    WayOut {
        change: format!("do without {}", listed(&names)),
        wants: ids.iter().map(|id| ((*id).clone(), None)).collect(),
        act: Some(WayAct { drop: ids.iter().copied().cloned().collect(), ..WayAct::default() }),
    }
}

fn is_solvable(question: &Question<'_>, effort: &mut Effort) -> bool {
    solved(question, effort).is_some()
}

fn solved(question: &Question<'_>, effort: &mut Effort) -> Option<Selection> {
    match go_straight(question) {
        Some(Ok(selection)) => return Some(selection),
        Some(Err(unread)) => {
            effort.unread.extend(unread);
            return None;
        }
        None => {}
    }
    match engine::run(question, effort.conflicts) {
        End::Found(found) => {
            effort.spend(found.conflicts);
            return Some(found.selection);
        }
        End::Dead(end) => effort.spend(end.conflicts),
        End::GaveUp => effort.conflicts = 0,
        End::Unread(unread) => effort.unread.extend(unread),
    }
    None
}

/// Finds a version that a range takes, among the versions that the range itself names.
fn lowest_in(range: &VersionRange) -> Option<ReleaseVersion> {
    range
        .as_str()
        .split([',', ' ', '|', '[', ']', '(', ')'])
        .map(|word| word.trim_start_matches(['<', '>', '=', '^', '~']).trim_end_matches(['*', 'x', '+', '.']))
        .filter_map(|word| ReleaseVersion::parse(word).ok())
        .find(|version| range.matches(version))
}
