use proptest::prelude::*;

use super::*;
use crate::version::{ReleaseVersion, VersionRange};

fn id(text: &str) -> ContentId {
    ContentId::new(text).unwrap()
}

/// `b needs a needs c` and the like, one content a line; `asks` is what the administrator asked for.
fn run(lines: &[&str], previous: &[&str]) -> LoadOrder {
    run_in(lines, previous, |_| 0)
}

fn run_in(lines: &[&str], previous: &[&str], group: fn(&ContentId) -> usize) -> LoadOrder {
    let (releases, asked) = read(lines);
    let lineup = releases.iter().map(|(id, release)| (id.clone(), release)).collect();
    let previous: Vec<ContentId> = previous.iter().map(|text| id(text)).collect();
    order(&lineup, &Leaning::strict(&previous, &asked, &group))
}

type Lines = (Vec<(ContentId, Release)>, BTreeMap<ContentId, AskedPlace>);

fn read(lines: &[&str]) -> Lines {
    let mut asked: BTreeMap<ContentId, AskedPlace> = BTreeMap::new();
    let releases = lines
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
                    "provides" => drop(release.provides.insert(id(pair[1]), None.into())),
                    "after" => release.after.push(id(pair[1])),
                    "asks" => asked.entry(name.clone()).or_default().after.push(id(pair[1])),
                    _ => release.before.push(id(pair[1])),
                }
            }
            (name, release)
        })
        .collect();
    (releases, asked)
}

fn names(order: &LoadOrder) -> String {
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
        (vec!["a", "b", "c before a"], vec!["a", "b", "c"], "b c a"),
        (vec!["a asks b", "b after a"], vec![], "b a"),
        (vec!["a asks b", "b needs a"], vec![], "a b"),
    ] {
        assert_eq!(names(&run(&lines, &previous)), expected, "{lines:?}");
    }
}

#[test]
fn circles_are_told() {
    let wished = run(&["a after b", "b after c", "c after a"], &[]);
    assert_eq!(wished.gave_way.len(), 1);
    let gave = &wished.gave_way[0];
    let relation = &gave.relation;
    assert_eq!((relation.first.as_str(), relation.later.as_str(), relation.by.as_str()), ("c", "b", "b"));
    assert_eq!(gave.circle().iter().map(|id| id.as_str()).collect::<Vec<_>>(), ["c", "b", "a", "c"]);
    assert_eq!(gave.to_override().map(|relation| relation.by.as_str()), Some("a"));
    let hard = run(&["a needs b", "b needs a"], &[]);
    assert_eq!((hard.circles.len(), hard.ids.len()), (1, 2));
    // A wish never wins over a need.
    assert_eq!(names(&run(&["a needs b after c", "b", "c after a"], &[])), "b a c");
}

#[test]
fn groups_come_first_with_what_they_need() {
    let early = |id: &ContentId| usize::from(!id.as_str().starts_with('z'));
    assert_eq!(names(&run_in(&["a", "m", "zz needs m"], &["a", "m", "zz"], early)), "m zz a");
    assert_eq!(names(&run_in(&["a", "zz needs a"], &[], early)), "a zz");
}

#[test]
fn what_was_asked_against_a_need_gives_way_and_nothing_can_be_overridden() {
    let order = run(&["a asks b", "b needs a"], &[]);
    assert_eq!(order.gave_way.len(), 1);
    assert!(order.gave_way[0].to_override().is_none());
}

proptest! {
    #[test]
    fn kept_relations_hold_and_others_close_a_circle(lines in proptest::collection::vec("[a-h]( (needs|after|before|welcomes|asks) [a-h]){0,4}", 1..9)) {
        let mut lines = lines;
        lines.sort();
        lines.dedup_by_key(|line| line[..1].to_string());
        let order = run(&lines.iter().map(String::as_str).collect::<Vec<_>>(), &[]);
        let at = |id: &ContentId| order.ids.iter().position(|other| other == id).unwrap();
        for relation in &order.kept {
            prop_assert!(at(&relation.first) < at(&relation.later), "{relation:?} in {:?}", order.ids);
        }
        for gave in &order.gave_way {
            prop_assert!(gave.against.iter().all(|against| order.kept.contains(against) && against.bond <= gave.relation.bond));
            prop_assert_eq!(&gave.against[0].first, &gave.relation.later);
            prop_assert_eq!(&gave.against.last().unwrap().later, &gave.relation.first);
            prop_assert!(gave.against.windows(2).all(|pair| pair[0].later == pair[1].first));
        }
    }

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

/// The order of contents that all stay, where they do.
fn as_found(lines: &[&str], previous: &[&str], last: &str) -> LoadOrder {
    let (releases, asked) = read(lines);
    let lineup = releases.iter().map(|(id, release)| (id.clone(), release)).collect();
    let previous: Vec<ContentId> = previous.iter().map(|text| id(text)).collect();
    let group = |id: &ContentId| usize::from(id.as_str() != "early");
    let leaning = Leaning {
        stays: &|id| previous.contains(id),
        is_last: &|id| id.as_str() == last,
        ..Leaning::strict(&previous, &asked, &group)
    };
    order(&lineup, &leaning)
}

#[test]
fn an_order_that_somebody_made_stays() {
    for (lines, previous, last, expected, out_of_order) in [
        // What is needed later stays there, and is told.
        (vec!["a needs b", "b", "c"], vec!["a", "c", "b"], "", "a c b", 1),
        // A newcomer goes where its needs let it, and what was there does not move for it.
        (vec!["a needs b", "b", "c needs a"], vec!["a", "b"], "", "a b c", 1),
        (vec!["a", "b", "c", "x needs a"], vec!["c", "b", "a"], "", "c b a x", 0),
        // Nor does it for its group.
        (vec!["a", "early"], vec!["a", "early"], "", "a early", 0),
        (vec!["a", "b", "early"], vec!["b", "a"], "", "early b a", 0),
        // What is asked for now counts all the same.
        (vec!["a asks b", "b"], vec!["a", "b"], "", "b a", 0),
        // What has no entry comes after a newcomer, unless that needs it.
        (vec!["a", "z", "m"], vec!["a", "z"], "z", "a m z", 0),
        (vec!["a", "z", "m needs z"], vec!["a", "z"], "z", "a z m", 0),
    ] {
        let order = as_found(&lines, &previous, last);
        assert_eq!(names(&order), expected, "{lines:?}");
        assert_eq!(order.out_of_order.len(), out_of_order, "{lines:?}");
    }
}
