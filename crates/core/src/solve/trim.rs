//! Takes out what no want leads to (an alternative that became needless after it was chosen).

use std::collections::BTreeSet;

use super::{Question, Selection, verify};
use crate::id::ContentId;

/// Returns the part of a selection that the wants lead to.
pub(super) fn trim(question: &Question<'_>, selection: Selection) -> Selection {
    let mut kept: BTreeSet<&ContentId> = question.wants.keys().collect();
    let mut next: Vec<&ContentId> = kept.iter().copied().collect();
    while let Some(id) = next.pop() {
        let Some(release) = selection.get(id).and_then(|version| question.universe.release(id, version))
        else {
            continue;
        };
        let groups = release
            .needs
            .iter()
            .map(|(id, range)| vec![(id, range)])
            .chain(release.needs_any.iter().map(|group| group.iter().collect()));
        for group in groups {
            let by_platform =
                group.iter().any(|(id, range)| verify::platform_provides(question.platform, id, range));
            if by_platform || verify::meets_any(question.universe, id, &selection[id], &group) {
                continue;
            }
            let bearers = group
                .iter()
                .flat_map(|(named, _)| std::iter::once(*named).chain(question.universe.providers(named)));
            let mut meeting: Vec<&ContentId> = bearers
                .filter_map(|other| selection.get_key_value(other))
                .filter(|(other, version)| verify::meets_any(question.universe, other, version, &group))
                .map(|(other, _)| other)
                .collect();
            // What is kept anyway, or bears the very name that is needed, comes before stand-ins.
            meeting
                .sort_by_key(|other| (!kept.contains(other), !group.iter().any(|(named, _)| named == other)));
            if let Some(first) = meeting.first()
                && kept.insert(first)
            {
                next.push(first);
            }
        }
    }
    let kept: BTreeSet<ContentId> = kept.into_iter().cloned().collect();
    selection.into_iter().filter(|(id, _)| kept.contains(id)).collect()
}
