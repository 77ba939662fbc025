//! Takes out what no want leads to (an alternative that became needless after it was chosen).

use std::collections::BTreeSet;

use super::{
    Question, Selection,
    verify::{self, Chosen},
};
use crate::{id::ContentId, version::VersionRange};

/// Returns a part of a selection that the wants lead to, and of which nothing can be left out. A need that several meet
/// keeps one of them: one that is kept anyway, else one that is locked, else one that bears the very name.
///
/// What is kept for one need may meet another that was looked at before, so this goes on until nothing more comes out;
/// and last the lock is not asked, so that the result, once it is locked, stays as it is.
pub(super) fn trim(question: &Question<'_>, selection: Selection) -> Selection {
    let mut selection = selection;
    for by_lock in [true, false] {
        loop {
            let before = selection.len();
            selection = reached(question, selection, by_lock);
            if let Some(needless) = needless(question, &selection, by_lock) {
                selection.remove(&needless);
            }
            if selection.len() == before {
                break;
            }
        }
    }
    selection
}

/// A content without which every need of the others is met all the same.
fn needless(question: &Question<'_>, selection: &Selection, by_lock: bool) -> Option<ContentId> {
    let chosen = Chosen::new(question.universe, selection);
    let (mut sole, mut optional) = (BTreeSet::new(), BTreeSet::new());
    for id in selection.keys() {
        for group in open_groups(question, &chosen, id) {
            match meeting(&chosen, &group)[..] {
                [only] => drop(sole.insert(only)),
                ref several => optional.extend(several),
            }
        }
    }
    let is_free = |other: &&ContentId| !sole.contains(other) && !question.wants.contains_key(*other);
    let is_locked = |other: &ContentId| by_lock && question.locked.get(other) == selection.get(other);
    optional.into_iter().rev().filter(is_free).min_by_key(|other| is_locked(other)).cloned()
}

type Group<'a> = Vec<(&'a ContentId, &'a VersionRange)>;

/// The needs of a chosen release that others have to meet.
fn open_groups<'a>(question: &Question<'_>, chosen: &Chosen<'a>, id: &ContentId) -> Vec<Group<'a>> {
    let Some(release) = chosen.releases.get(id) else { return Vec::new() };
    let groups = release
        .needs
        .iter()
        .map(|(id, range)| vec![(id, range)])
        .chain(release.needs_any.iter().map(|group| group.iter().collect()));
    groups
        .filter(|group: &Group<'a>| {
            !group.iter().any(|(named, range)| {
                verify::platform_provides(question.platform, named, range) || release.meets(id, named, range)
            })
        })
        .collect()
}

fn reached(question: &Question<'_>, selection: Selection, by_lock: bool) -> Selection {
    let kept: BTreeSet<ContentId> = {
        let chosen = Chosen::new(question.universe, &selection);
        reached_ids(question, &selection, &chosen, by_lock).into_iter().cloned().collect()
    };
    selection.into_iter().filter(|(id, _)| kept.contains(id)).collect()
}

fn reached_ids<'a>(
    question: &Question<'a>,
    selection: &'a Selection,
    chosen: &Chosen<'a>,
    by_lock: bool,
) -> BTreeSet<&'a ContentId> {
    let mut kept: BTreeSet<&ContentId> = question.wants.keys().collect();
    let mut next: Vec<&ContentId> = kept.iter().copied().collect();
    let mut open: Vec<(Group<'_>, Vec<&ContentId>)> = Vec::new();
    loop {
        // First all that has no alternative; then one need that has, and again.
        while let Some(id) = next.pop() {
            for group in open_groups(question, chosen, id) {
                let meeting = meeting(chosen, &group);
                if let [only] = meeting[..] {
                    if kept.insert(only) {
                        next.push(only);
                    }
                } else if !meeting.is_empty() {
                    open.push((group, meeting));
                }
            }
        }
        open.retain(|(_, meeting)| !meeting.iter().any(|other| kept.contains(other)));
        let Some((group, meeting)) = open.first() else { break };
        let is_locked = |other: &ContentId| by_lock && question.locked.get(other) == selection.get(other);
        let best = meeting
            .iter()
            .min_by_key(|other| (!is_locked(other), !group.iter().any(|(named, _)| *named == **other)));
        if let Some(best) = best {
            kept.insert(best);
            next.push(best);
        }
    }
    kept
}

/// The chosen contents that meet one of a group of needs, each once.
fn meeting<'a>(chosen: &Chosen<'a>, group: &Group<'_>) -> Vec<&'a ContentId> {
    let mut meeting: Vec<&ContentId> = Vec::new();
    for (named, range) in group {
        for other in chosen.meeting(named, range) {
            if !meeting.contains(&other) {
                meeting.push(other);
            }
        }
    }
    meeting
}
