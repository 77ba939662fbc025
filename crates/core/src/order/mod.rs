//! The load order of a lineup.
//!
//! What is needed comes before what needs it; that is hard. Everything else is soft and gives way where it would close a
//! circle, and the result says so: first what the administrator asked for, then what contents welcome, then what they say
//! with `after` and `before`. The game definition's groups come next, then the previous order, and newcomers follow by
//! name.
//!
//! Relations are taken in one by one, and a line of all contents is kept that agrees with them. Only the stretch between
//! the two ends of a relation is looked at, and only where the line does not agree with it yet (the scheme of Pearce and
//! Kelly, "A dynamic topological sort algorithm for directed acyclic graphs", 2006).

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet, BinaryHeap, HashMap},
};

use serde::{Deserialize, Serialize};

use crate::{catalogue::Release, id::ContentId};

/// Why one content is loaded before another. The order of the variants is the order in which they count.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Bond {
    /// The later one needs the earlier one.
    Needs,
    /// The administrator asked for it.
    Asked,
    /// The later one welcomes the earlier one.
    Welcomes,
    /// One of them wishes so.
    Wishes,
}

/// What the administrator asked of one content's place.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AskedPlace {
    /// It is loaded after these.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub after: Vec<ContentId>,
    /// It is loaded before these.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<ContentId>,
}

/// What the order depends on besides the lineup.
#[derive(Clone, Copy)]
pub struct Leaning<'a> {
    /// The order that stood before.
    pub previous: &'a [ContentId],
    /// What the administrator asked for.
    pub asked: &'a BTreeMap<ContentId, AskedPlace>,
    /// The game definition's group of a content: a lower one is loaded earlier.
    pub group: &'a dyn Fn(&ContentId) -> usize,
    /// Whether a content keeps its place among those that keep theirs, though a relation says otherwise: somebody made that
    /// order. What the administrator asks for now still counts.
    pub stays: &'a dyn Fn(&ContentId) -> bool,
    /// Whether a content is loaded after all that have an entry of their own, since it has none.
    pub is_last: &'a dyn Fn(&ContentId) -> bool,
}

impl<'a> Leaning<'a> {
    /// A leaning by which every relation counts.
    pub fn strict(
        previous: &'a [ContentId],
        asked: &'a BTreeMap<ContentId, AskedPlace>,
        group: &'a dyn Fn(&ContentId) -> usize,
    ) -> Self {
        Self { previous, asked, group, stays: &|_| false, is_last: &|_| false }
    }
}

/// A relation between two contents of a lineup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Relation {
    /// What comes first.
    pub first: ContentId,
    /// What comes later.
    pub later: ContentId,
    /// Whose relation it is.
    pub by: ContentId,
    /// Why.
    pub bond: Bond,
}

/// A soft relation that could not be kept, since it would close a circle.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct GaveWay {
    /// The relation.
    #[serde(flatten)]
    pub relation: Relation,
    /// What stands against it: a chain of relations from its later content to its first one.
    pub against: Vec<Relation>,
}

impl GaveWay {
    /// Returns the circle's contents, the relation's first one at both ends.
    pub fn circle(&self) -> Vec<&ContentId> {
        std::iter::once(&self.relation.first)
            .chain(self.against.iter().map(|against| &against.first))
            .chain([&self.relation.first])
            .collect()
    }

    /// Returns the relation against it that is the weakest: where the administrator overrides that one, this one is kept.
    /// Nothing where needs alone stand against it.
    pub fn to_override(&self) -> Option<&Relation> {
        self.against
            .iter()
            .filter(|against| against.bond > Bond::Asked)
            .min_by_key(|against| Reverse(against.bond))
    }
}

/// An order.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct LoadOrder {
    /// The contents, first loaded first.
    pub ids: Vec<ContentId>,
    /// The relations that are kept.
    pub kept: Vec<Relation>,
    /// Soft relations that gave way.
    pub gave_way: Vec<GaveWay>,
    /// Circles of needs: such contents cannot all be loaded after what they need.
    pub circles: Vec<Vec<ContentId>>,
    /// Relations against which the order stands, since that is how it was found.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub out_of_order: Vec<Relation>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Edge {
    bond: Bond,
    first: usize,
    later: usize,
    by: usize,
}

/// Orders a lineup. An order that was there stays even where relations say otherwise (see [`Leaning::stays`]); the result
/// names those.
pub fn order(lineup: &BTreeMap<ContentId, &Release>, leaning: &Leaning<'_>) -> LoadOrder {
    let right = arrange(lineup, leaning, |_| false);
    let rank = ranks(leaning.previous);
    let staying = |id: &&ContentId| rank.contains_key(id) && (leaning.stays)(id);
    let places: Vec<usize> = right.ids.iter().filter(staying).map(|id| rank[id]).collect();
    if places.is_sorted() {
        return right;
    }
    let gave_way: BTreeSet<(&ContentId, &ContentId)> =
        right.gave_way.iter().map(|note| (&note.relation.first, &note.relation.later)).collect();
    let mut as_found = arrange(lineup, leaning, |relation| {
        let Relation { first, later, bond, .. } = relation;
        let both_stay = [first, later].iter().all(staying);
        *bond != Bond::Asked && both_stay && rank[first] > rank[later] && !gave_way.contains(&(first, later))
    });
    as_found.gave_way.clone_from(&right.gave_way);
    as_found
}

fn ranks(previous: &[ContentId]) -> HashMap<&ContentId, usize> {
    previous.iter().enumerate().map(|(at, id)| (id, at)).collect()
}

/// Orders a lineup by all relations but some.
fn arrange(
    lineup: &BTreeMap<ContentId, &Release>,
    leaning: &Leaning<'_>,
    is_left_out: impl Fn(&Relation) -> bool,
) -> LoadOrder {
    let ids: Vec<&ContentId> = lineup.keys().collect();
    let mut edges = edges(lineup, leaning.asked);
    edges.sort_unstable();
    edges.dedup_by_key(|edge| (edge.first, edge.later));
    let mut taken: BTreeSet<(usize, usize)> = BTreeSet::new();
    let mut line = Line::new(ids.len());
    let mut result = LoadOrder { kept: Vec::with_capacity(edges.len()), ..LoadOrder::default() };
    let told = |edge: &Edge| Relation {
        first: ids[edge.first].clone(),
        later: ids[edge.later].clone(),
        by: ids[edge.by].clone(),
        bond: edge.bond,
    };
    for edge in edges {
        if edge.first == edge.later || !taken.insert((edge.first, edge.later)) {
            continue;
        }
        let relation = told(&edge);
        if is_left_out(&relation) {
            result.out_of_order.push(relation);
            continue;
        }
        match line.take(edge) {
            Ok(()) => result.kept.push(relation),
            Err(against) if edge.bond == Bond::Needs => {
                let circle = against.iter().map(|edge| ids[edge.first].clone());
                result.circles.push(circle.chain([ids[edge.first].clone()]).collect());
            }
            Err(against) => {
                result.gave_way.push(GaveWay { relation, against: against.iter().map(told).collect() });
            }
        }
    }
    let mut keys = keys(&ids, leaning);
    // What must come before something of an early group belongs to that group as well.
    for at in line.order.iter().rev() {
        let earliest = line.later[*at].iter().map(|edge| keys[edge.later].0).min();
        keys[*at].0 = keys[*at].0.min(earliest.unwrap_or(usize::MAX));
    }
    result.ids = line.arranged(&keys).into_iter().map(|at| ids[at].clone()).collect();
    result
}

/// What decides where no relation does: the group, and the place before.
fn keys(ids: &[&ContentId], leaning: &Leaning<'_>) -> Vec<(usize, usize)> {
    let rank = ranks(leaning.previous);
    let mut keys: Vec<(usize, usize)> = ids
        .iter()
        .map(|id| {
            let group = if (leaning.is_last)(id) { usize::MAX } else { (leaning.group)(id) };
            (group, rank.get(id).copied().unwrap_or(usize::MAX))
        })
        .collect();
    // What stays is not moved for its group either: it counts to the group of what stands before it.
    let mut staying: Vec<usize> =
        (0..ids.len()).filter(|at| keys[*at].1 != usize::MAX && (leaning.stays)(ids[*at])).collect();
    staying.sort_by_key(|at| keys[*at].1);
    let mut highest = 0;
    for at in staying {
        highest = highest.max(keys[at].0);
        keys[at].0 = highest;
    }
    keys
}

/// Who in a lineup goes by each name: the content itself, else those that provide it.
fn bearers<'a>(lineup: &'a BTreeMap<ContentId, &'a Release>) -> HashMap<&'a ContentId, Vec<usize>> {
    let mut bearers: HashMap<&ContentId, Vec<usize>> = HashMap::new();
    for (at, (_, release)) in lineup.iter().enumerate() {
        for name in release.provides.keys().filter(|name| !lineup.contains_key(*name)) {
            bearers.entry(name).or_default().push(at);
        }
    }
    bearers.extend(lineup.keys().enumerate().map(|(at, id)| (id, vec![at])));
    bearers
}

fn edges(lineup: &BTreeMap<ContentId, &Release>, asked: &BTreeMap<ContentId, AskedPlace>) -> Vec<Edge> {
    let bearers = bearers(lineup);
    let named = |name: &ContentId| bearers.get(name).into_iter().flatten().copied();
    let mut edges = Vec::new();
    for (by, (id, release)) in lineup.iter().enumerate() {
        let mut after = |names: &mut dyn Iterator<Item = &ContentId>, bond| {
            edges.extend(names.flat_map(named).map(|first| Edge { bond, first, later: by, by }));
        };
        after(&mut release.needed_ids(), Bond::Needs);
        after(&mut release.welcomes.keys(), Bond::Welcomes);
        after(&mut release.after.iter(), Bond::Wishes);
        let place = asked.get(id);
        after(&mut place.iter().flat_map(|place| &place.after), Bond::Asked);
        let mut before = |names: &mut dyn Iterator<Item = &ContentId>, bond| {
            edges.extend(names.flat_map(named).map(|later| Edge { bond, first: by, later, by }));
        };
        before(&mut release.before.iter(), Bond::Wishes);
        before(&mut place.iter().flat_map(|place| &place.before), Bond::Asked);
    }
    edges
}

/// All contents in a line that agrees with the relations so far.
struct Line {
    order: Vec<usize>,
    /// Where in the line each stands.
    place: Vec<usize>,
    later: Vec<Vec<Edge>>,
    earlier: Vec<Vec<Edge>>,
}

impl Line {
    fn new(length: usize) -> Self {
        let order: Vec<usize> = (0..length).collect();
        Self {
            place: order.clone(),
            order,
            later: vec![Vec::new(); length],
            earlier: vec![Vec::new(); length],
        }
    }

    /// Takes a relation in, or returns the chain that stands against it.
    fn take(&mut self, edge: Edge) -> Result<(), Vec<Edge>> {
        let (from, to) = (self.place[edge.later], self.place[edge.first]);
        if from < to {
            // Between the two: what must follow the later one, and what must precede the first one, changes places.
            let (mut following, came) =
                reach(edge.later, |at| self.place[at] <= to, &self.later, |e| e.later);
            if came.contains_key(&edge.first) {
                return Err(chain(&came, edge));
            }
            let (mut preceding, _) =
                reach(edge.first, |at| self.place[at] >= from, &self.earlier, |e| e.first);
            following.sort_by_key(|at| self.place[*at]);
            preceding.sort_by_key(|at| self.place[*at]);
            preceding.append(&mut following);
            let mut places: Vec<usize> = preceding.iter().map(|at| self.place[*at]).collect();
            places.sort_unstable();
            for (at, place) in preceding.into_iter().zip(places) {
                self.place[at] = place;
                self.order[place] = at;
            }
        }
        self.later[edge.first].push(edge);
        self.earlier[edge.later].push(edge);
        Ok(())
    }

    /// Takes again and again the free content with the lowest key.
    fn arranged(&self, keys: &[(usize, usize)]) -> Vec<usize> {
        let mut waiting: Vec<usize> = self.earlier.iter().map(Vec::len).collect();
        let mut free: BinaryHeap<Reverse<((usize, usize), usize)>> = BinaryHeap::new();
        free.extend((0..keys.len()).filter(|at| waiting[*at] == 0).map(|at| Reverse((keys[at], at))));
        let mut done = Vec::with_capacity(keys.len());
        while let Some(Reverse((_, at))) = free.pop() {
            done.push(at);
            for edge in &self.later[at] {
                waiting[edge.later] -= 1;
                if waiting[edge.later] == 0 {
                    free.push(Reverse((keys[edge.later], edge.later)));
                }
            }
        }
        done
    }
}

/// Everything that relations lead to from a content, within bounds, and by which relation each was reached.
fn reach(
    from: usize,
    is_within: impl Fn(usize) -> bool,
    edges: &[Vec<Edge>],
    to: impl Fn(&Edge) -> usize,
) -> (Vec<usize>, HashMap<usize, Edge>) {
    let (mut found, mut came, mut next) = (vec![from], HashMap::new(), vec![from]);
    while let Some(at) = next.pop() {
        for edge in &edges[at] {
            let other = to(edge);
            if other != from && is_within(other) && !came.contains_key(&other) {
                came.insert(other, *edge);
                found.push(other);
                next.push(other);
            }
        }
    }
    (found, came)
}

/// The relations that lead from a relation's later content to its first one.
fn chain(came: &HashMap<usize, Edge>, edge: Edge) -> Vec<Edge> {
    let mut chain = Vec::new();
    let mut at = edge.first;
    while at != edge.later {
        let step = came[&at];
        chain.push(step);
        at = step.first;
    }
    chain.reverse();
    chain
}

#[cfg(test)]
mod tests;
