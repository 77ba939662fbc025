//! The load order of a lineup.
//!
//! What is needed comes before what needs it; that is hard. What is welcomed, and what `after` and `before` say, is
//! wished: such a wish gives way where it would close a circle, and the result says so. Among the free the previous
//! order is kept, and newcomers follow by name.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use crate::{catalogue::Release, id::ContentId};

/// Why one content is loaded before another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Bond {
    /// The later one needs the earlier one.
    Needs,
    /// The later one welcomes the earlier one.
    Welcomes,
    /// One of them wishes so.
    Wishes,
}

/// A wish that could not be granted, since it would close a circle.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct GaveWay {
    /// What would have come first.
    pub first: ContentId,
    /// What would have come later.
    pub later: ContentId,
    /// Whose wish it was.
    pub by: ContentId,
    /// The way back from `later` to `first` along what stands, both ends included.
    pub circle: Vec<ContentId>,
}

/// An order.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Order {
    /// The contents, first loaded first.
    pub ids: Vec<ContentId>,
    /// Wishes that gave way.
    pub gave_way: Vec<GaveWay>,
    /// Circles of needs: such contents cannot all be loaded after what they need.
    pub circles: Vec<Vec<ContentId>>,
}

struct Edge<'a> {
    first: &'a ContentId,
    later: &'a ContentId,
    by: &'a ContentId,
    bond: Bond,
}

/// Orders a lineup. `previous` is the order that stood before.
pub fn order(lineup: &BTreeMap<ContentId, &Release>, previous: &[ContentId]) -> Order {
    let mut result = Order::default();
    let mut later_of: BTreeMap<&ContentId, BTreeSet<&ContentId>> = BTreeMap::new();
    let mut edges = edges(lineup);
    edges.sort_by(|a, b| (a.bond, a.first, a.later).cmp(&(b.bond, b.first, b.later)));
    for edge in edges {
        if edge.first == edge.later || later_of.get(edge.first).is_some_and(|set| set.contains(edge.later)) {
            continue;
        }
        match way(&later_of, edge.later, edge.first) {
            None => {
                later_of.entry(edge.first).or_default().insert(edge.later);
            }
            Some(circle) if edge.bond == Bond::Needs => result.circles.push(circle),
            Some(circle) => result.gave_way.push(GaveWay {
                first: edge.first.clone(),
                later: edge.later.clone(),
                by: edge.by.clone(),
                circle,
            }),
        }
    }
    let rank: BTreeMap<&ContentId, usize> = previous.iter().enumerate().map(|(at, id)| (id, at)).collect();
    result.ids = arrange(lineup, &later_of, &rank);
    result
}

/// Returns who in the lineup goes by a name: the content itself, or those that provide it.
fn bearers<'a>(lineup: &'a BTreeMap<ContentId, &Release>, name: &ContentId) -> Vec<&'a ContentId> {
    match lineup.get_key_value(name) {
        Some((id, _)) => vec![id],
        None => lineup
            .iter()
            .filter(|(_, release)| release.provides.contains_key(name))
            .map(|(id, _)| id)
            .collect(),
    }
}

fn edges<'a>(lineup: &'a BTreeMap<ContentId, &Release>) -> Vec<Edge<'a>> {
    let mut edges = Vec::new();
    for (id, release) in lineup {
        let mut follow = |names: &mut dyn Iterator<Item = &ContentId>, bond| {
            for first in names.flat_map(|name| bearers(lineup, name)) {
                edges.push(Edge { first, later: id, by: id, bond });
            }
        };
        follow(&mut release.needed_ids(), Bond::Needs);
        follow(&mut release.welcomes.keys(), Bond::Welcomes);
        follow(&mut release.after.iter(), Bond::Wishes);
        for later in release.before.iter().flat_map(|name| bearers(lineup, name)) {
            edges.push(Edge { first: id, later, by: id, bond: Bond::Wishes });
        }
    }
    edges
}

/// Finds a way along the edges.
fn way<'a>(
    later_of: &BTreeMap<&'a ContentId, BTreeSet<&'a ContentId>>,
    from: &'a ContentId,
    to: &ContentId,
) -> Option<Vec<ContentId>> {
    let mut came: BTreeMap<&ContentId, &ContentId> = BTreeMap::new();
    let mut next = vec![from];
    while let Some(at) = next.pop() {
        if at == to {
            let mut path = vec![at.clone()];
            let mut here = at;
            while here != from {
                here = came[here];
                path.push(here.clone());
            }
            path.reverse();
            return Some(path);
        }
        for later in later_of.get(at).into_iter().flatten().rev() {
            if *later != from && !came.contains_key(*later) {
                came.insert(later, at);
                next.push(later);
            }
        }
    }
    None
}

/// Takes again and again the free content that stood first before.
fn arrange(
    lineup: &BTreeMap<ContentId, &Release>,
    later_of: &BTreeMap<&ContentId, BTreeSet<&ContentId>>,
    rank: &BTreeMap<&ContentId, usize>,
) -> Vec<ContentId> {
    let mut waiting: BTreeMap<&ContentId, usize> = lineup.keys().map(|id| (id, 0)).collect();
    for later in later_of.values().flatten() {
        *waiting.entry(later).or_default() += 1;
    }
    let key = |id: &ContentId| rank.get(id).copied().unwrap_or(usize::MAX);
    let mut free: BTreeSet<(usize, &ContentId)> =
        waiting.iter().filter(|(_, count)| **count == 0).map(|(id, _)| (key(id), *id)).collect();
    let mut done = Vec::with_capacity(lineup.len());
    while let Some((_, id)) = free.pop_first() {
        done.push(id.clone());
        for later in later_of.get(id).into_iter().flatten() {
            if let Some(count) = waiting.get_mut(later) {
                *count -= 1;
                if *count == 0 {
                    free.insert((key(later), later));
                }
            }
        }
    }
    done
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::version::{ReleaseVersion, VersionRange};

    fn id(text: &str) -> ContentId {
        ContentId::new(text).unwrap()
    }

    /// `b needs a, c` and the like, one content a line.
    fn run(lines: &[&str], previous: &[&str]) -> Order {
        let releases: Vec<(ContentId, Release)> = lines
            .iter()
            .map(|line| {
                let mut words = line.split(' ');
                let name = id(words.next().unwrap());
                let mut release = Release::new(ReleaseVersion::parse("1").unwrap(), "plugin");
                let words: Vec<&str> = words.collect();
                for pair in words.chunks(2) {
                    match pair[0] {
                        "needs" => drop(release.needs.insert(id(pair[1]), VersionRange::any())),
                        "welcomes" => drop(release.welcomes.insert(id(pair[1]), VersionRange::any())),
                        "provides" => drop(release.provides.insert(id(pair[1]), None)),
                        "after" => release.after.push(id(pair[1])),
                        _ => release.before.push(id(pair[1])),
                    }
                }
                (name, release)
            })
            .collect();
        let lineup = releases.iter().map(|(id, release)| (id.clone(), release)).collect();
        order(&lineup, &previous.iter().map(|text| id(text)).collect::<Vec<_>>())
    }

    fn names(order: &Order) -> String {
        order.ids.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn the_table() {
        for (lines, previous, expected) in [
            (vec!["a needs b", "b"], vec![], "b a"),
            (vec!["a", "b", "c"], vec!["c", "a"], "c a b"),
            (vec!["a needs c", "b", "c"], vec!["a", "b", "c"], "b c a"),
            (vec!["a after b", "b"], vec![], "b a"),
            (vec!["a", "b before a"], vec![], "b a"),
            (vec!["a welcomes b", "b welcomes a", "c"], vec![], "a b c"),
            (vec!["a needs m", "p provides m"], vec![], "p a"),
            (vec!["a needs gone after gone"], vec![], "a"),
        ] {
            assert_eq!(names(&run(&lines, &previous)), expected, "{lines:?}");
        }
    }

    #[test]
    fn circles_are_told() {
        let wished = run(&["a after b", "b after c", "c after a"], &[]);
        assert_eq!(wished.gave_way.len(), 1);
        let gave = &wished.gave_way[0];
        assert_eq!((gave.first.as_str(), gave.later.as_str(), gave.by.as_str()), ("c", "b", "b"));
        assert_eq!(gave.circle.len(), 3);
        let hard = run(&["a needs b", "b needs a"], &[]);
        assert_eq!((hard.circles.len(), hard.ids.len()), (1, 2));
        // A wish never wins over a need.
        assert_eq!(names(&run(&["a needs b after c", "b", "c after a"], &[])), "b a c");
    }

    proptest! {
        #[test]
        fn ordering_again_changes_nothing(lines in proptest::collection::vec("[a-f]( (needs|after|before|welcomes) [a-f]){0,3}", 1..7)) {
            let mut lines = lines;
            lines.sort();
            lines.dedup_by_key(|line| line[..1].to_string());
            let refs: Vec<&str> = lines.iter().map(String::as_str).collect();
            let first = run(&refs, &[]);
            prop_assert_eq!(first.ids.len(), lines.len());
            let previous: Vec<&str> = first.ids.iter().map(ContentId::as_str).collect();
            prop_assert_eq!(&run(&refs, &previous).ids, &first.ids);
        }
    }
}
