mod explaining;
mod straight;

use proptest::prelude::*;

use super::*;
use crate::catalogue::{Content, Release};

fn id(text: &str) -> ContentId {
    ContentId::new(text).unwrap()
}
fn range(text: &str) -> VersionRange {
    VersionRange::parse(text).unwrap()
}
fn version(text: &str) -> ReleaseVersion {
    ReleaseVersion::parse(text).unwrap()
}

/// A small language for catalogues: `tidebell 1.4 needs core >=2; refuses x *; engine >=3`.
fn universe(lines: &[&str]) -> Universe {
    let mut universe = Universe::default();
    for line in lines {
        let (head, rest) = line.split_once(" | ").unwrap_or((line, ""));
        let (name, number) = head.split_once(' ').unwrap();
        let mut release = Release::new(version(number), "plugin");
        for clause in rest.split("; ").filter(|clause| !clause.is_empty()) {
            let (verb, object) = clause.split_once(' ').unwrap_or((clause, ""));
            if verb == "engine" {
                // One set may ask for several parts: `engine >=3 & pontoon >=2`.
                let parts = clause.split(" & ").map(|part| {
                    let (part, object) = part.split_once(' ').unwrap();
                    (part.to_string(), range(object))
                });
                release.platforms.push(parts.collect());
                continue;
            }
            let pairs: Vec<_> = object
                .split(" or ")
                .filter(|pair| !pair.is_empty())
                .map(|pair| {
                    let (name, text) = pair.split_once(' ').unwrap_or((pair, "*"));
                    (id(name), range(text))
                })
                .collect();
            match verb {
                "needs" if pairs.len() > 1 => release.needs_any.push(pairs.into_iter().collect()),
                "needs" => release.needs.extend(pairs),
                "welcomes" => release.welcomes.extend(pairs),
                "refuses" => release.refuses.extend(pairs),
                "provides" => {
                    let versions = pairs.iter().map(|(_, range)| version(range.as_str()));
                    release.provides.insert(pairs[0].0.clone(), versions.collect());
                }
                _ => release.withdrawn = true,
            }
        }
        universe.add_release(&id(name), "test", release);
    }
    universe
}

fn platform() -> Platform {
    let mut platform = Platform::default();
    platform.parts.insert("engine".into(), version("2.4"));
    platform.provides.insert(id("default"), None);
    platform
}

fn ask(lines: &[&str], wants: &[&str], locked: &[&str]) -> Resolution {
    let universe = universe(lines);
    let wants = pairs(wants, range);
    let locked = pairs(locked, version);
    solve(&Question { universe: &universe, platform: &platform(), wants: &wants, locked: &locked })
}

fn pairs<T>(texts: &[&str], read: fn(&str) -> T) -> BTreeMap<ContentId, T> {
    texts
        .iter()
        .map(|text| {
            let (name, rest) = text.split_once(' ').unwrap_or((text, "*"));
            (id(name), read(rest))
        })
        .collect()
}

fn lineup(answer: &Resolution) -> String {
    match answer {
        Resolution::Unread(ids) => format!("unread: {ids:?}"),
        Resolution::Lineup(chosen) => {
            chosen.iter().map(|(id, version)| format!("{id} {version}")).collect::<Vec<_>>().join(", ")
        }
        Resolution::None(why) => format!("none: {}", sentences(why)),
        Resolution::Defect { breaches, .. } => format!("defect: {breaches:?}"),
    }
}

fn sentences(why: &Explanation) -> String {
    why.because.iter().map(|statement| statement.text.clone()).collect::<Vec<_>>().join("; ")
}

#[test]
#[expect(clippy::too_many_lines, reason = "one row a case")]
fn the_table() {
    for (what, lines, wants, locked, expected) in [
        ("newest first", vec!["a 1", "a 2", "a 1.5"], vec!["a"], vec![], "a 2"),
        ("ranges", vec!["a 1", "a 2"], vec!["a <2"], vec![], "a 1"),
        (
            "needs come along",
            vec!["a 1 | needs b >=2 <3", "b 1", "b 2.5", "b 3"],
            vec!["a"],
            vec![],
            "a 1, b 2.5",
        ),
        ("nothing needless", vec!["a 1 | welcomes b", "b 1"], vec!["a"], vec![], "a 1"),
        (
            "a companion in another version",
            vec!["a 1 | welcomes b <2", "b 1", "b 2"],
            vec!["a", "b"],
            vec![],
            "a 1, b 1",
        ),
        (
            "refuses, from either side",
            vec!["a 1", "a 2 | refuses b *", "b 1"],
            vec!["a", "b"],
            vec![],
            "a 1, b 1",
        ),
        ("platform", vec!["a 1 | engine <3", "a 2 | engine >=3"], vec!["a"], vec![], "a 1"),
        ("platform, several sets", vec!["a 2 | engine >=3; engine 2.*"], vec!["a"], vec![], "a 2"),
        ("base game", vec!["a 1 | needs default >=9"], vec!["a"], vec![], "a 1"),
        ("locked stays", vec!["a 1", "a 2", "b 1 | needs a"], vec!["a", "b"], vec!["a 1"], "a 1, b 1"),
        (
            "locked stays against a newer want",
            vec!["l 1", "l 2", "y 1 | needs l", "x 1 | needs l 1", "x 2 | needs l 2"],
            vec!["x", "y"],
            vec!["l 1", "y 1"],
            "l 1, x 1, y 1",
        ),
        (
            "a want before its dependencies",
            vec!["a 1 | needs l", "a 2 | needs l <2", "l 1", "l 2"],
            vec!["a"],
            vec![],
            "a 2, l 1",
        ),
        (
            "back out",
            vec!["a 2 | needs b; needs c", "a 1", "b 1 | needs d 1", "c 1 | needs d 2", "d 1", "d 2"],
            vec!["a"],
            vec![],
            "a 1",
        ),
        (
            "any of, where what is locked would have to move",
            vec!["d 1 | needs e * or c >=2", "e 3 | needs c <2", "c 1", "c 2"],
            vec!["d"],
            vec!["c 1", "d 1", "e 3"],
            "c 1, d 1, e 3",
        ),
        ("any of", vec!["a 1 | needs b or c", "c 1"], vec!["a"], vec![], "a 1, c 1"),
        (
            "any of, one is there",
            vec!["a 1 | needs b or c", "b 1", "c 1"],
            vec!["a", "c"],
            vec![],
            "a 1, c 1",
        ),
        ("stand-in", vec!["a 1 | needs b >=2", "z 1 | provides b 2.1", "b 1"], vec!["a"], vec![], "a 1, z 1"),
        (
            "stand-in too old",
            vec!["a 1 | needs b >=2", "z 1 | provides b 1", "b 2"],
            vec!["a"],
            vec![],
            "a 1, b 2",
        ),
        (
            "one release provides what the other one needs",
            vec!["b 2 | needs a; provides a 1; needs d", "b 1 | needs a", "d 1 | needs x", "a 1"],
            vec!["b"],
            vec![],
            "a 1, b 1",
        ),
        (
            "what is locked stays, and the alternatives follow it",
            vec!["a 1 | needs x or y", "x 1", "y 1", "c 2 | refuses y", "c 1"],
            vec!["a", "c"],
            vec!["a 1", "y 1"],
            "a 1, c 1, y 1",
        ),
        (
            "a need that a locked stand-in and a locked name meet",
            vec!["a 1 | provides c 2", "d 2 | needs e 3 or c 2", "e 3 | needs c 2"],
            vec!["d"],
            vec!["a 1", "d 2", "e 3"],
            "a 1, d 2",
        ),
        (
            "no alternative beside one that is there anyway",
            vec!["a 1 | needs b or c", "z 1 | needs c", "b 1", "c 1"],
            vec!["a", "z"],
            vec![],
            "a 1, c 1, z 1",
        ),
        (
            "the author's order among alternatives",
            vec!["a 1 | needs c or b", "b 1", "c 1"],
            vec!["a"],
            vec![],
            "a 1, c 1",
        ),
        (
            "what is locked comes before the author's order",
            vec!["a 1 | needs c or b", "b 1", "c 1"],
            vec!["a"],
            vec!["a 1", "b 1"],
            "a 1, b 1",
        ),
        (
            "several versions provided",
            vec!["a 1 | needs b 3", "z 1 | provides b 1 or b 3"],
            vec!["a"],
            vec![],
            "a 1, z 1",
        ),
        (
            "a pre-release of another version",
            vec!["a 1.0", "a 1.1-rc1", "a 1.2-beta"],
            vec!["a >=1.1-alpha"],
            vec![],
            "a 1.1-rc1",
        ),
        ("a pack that holds what it needs", vec!["p 1 | needs m; provides m 1"], vec!["p"], vec![], "p 1"),
        ("pre-releases last", vec!["a 1", "a 2-beta"], vec!["a"], vec![], "a 1"),
        ("a pre-release where nothing else fits", vec!["a 2-beta"], vec!["a"], vec![], "a 2-beta"),
        ("a pre-release where asked for", vec!["a 1", "a 2-beta"], vec!["a >=2-alpha"], vec![], "a 2-beta"),
        ("withdrawn", vec!["a 1", "a 2 | withdrawn"], vec!["a"], vec![], "a 1"),
        ("withdrawn but locked", vec!["a 1", "a 2 | withdrawn"], vec!["a"], vec!["a 2"], "a 2"),
        ("a circle of needs", vec!["a 1 | needs b", "b 1 | needs a"], vec!["a"], vec![], "a 1, b 1"),
        (
            "refused by a stand-in",
            vec!["a 1 | refuses b", "z 1 | provides b 1"],
            vec!["a", "z"],
            vec![],
            "none: yalotheca.toml asks for a and z; a 1 refuses to run beside b, and z provides b 1",
        ),
        (
            "missing",
            vec!["a 1 | needs ghost"],
            vec!["a"],
            vec![],
            "none: yalotheca.toml asks for a; a 1 needs ghost, and no catalogue has it",
        ),
    ] {
        assert_eq!(lineup(&ask(&lines, &wants, &locked)), expected, "{what}");
    }
}

#[test]
fn an_explanation_names_the_wants_the_reasons_and_the_ways_out() {
    let Resolution::None(why) = ask(
        &[
            "tidebell 1.2",
            "tidebell 1.4 | needs harbour-core >=2.1",
            "harbour-core 1.9",
            "harbour-core 2.0 | engine >=3",
            "harbour-core 2.1 | engine >=3",
        ],
        &["tidebell >=1.3"],
        &[],
    ) else {
        panic!("there is no lineup")
    };
    assert_eq!(
        sentences(&why),
        "yalotheca.toml asks for tidebell 1.3 or newer; tidebell 1.4 needs harbour-core 2.1 or newer, which needs engine 3 or newer, \
         and this server has engine 2.4"
    );
    let ways: Vec<_> = why.ways_out.iter().map(|way| way.change.as_str()).collect();
    assert_eq!(ways, ["take tidebell 1.2", "give the server engine 3 or newer", "do without tidebell"]);
}

/// Small random catalogues in which everything can happen.
fn catalogue() -> impl Strategy<Value = (Vec<String>, Vec<String>, Vec<String>)> {
    let range = prop_oneof![Just("*"), Just(">=2"), Just("<2"), Just("2"), Just(">=2 <3"), Just("1 || 3")];
    let name = proptest::sample::select(vec!["a", "b", "c", "d", "e"]);
    let object = (name.clone(), range.clone()).prop_map(|(name, range)| format!("{name} {range}"));
    let clause = prop_oneof![
        5 => object.clone().prop_map(|object| format!("needs {object}")),
        2 => (object.clone(), object.clone()).prop_map(|(a, b)| format!("needs {a} or {b}")),
        1 => object.clone().prop_map(|object| format!("welcomes {object}")),
        1 => object.clone().prop_map(|object| format!("refuses {object}")),
        2 => (name.clone(), 1..4).prop_map(|(name, v)| format!("provides {name} {v}")),
        1 => (name.clone(), 1..3, 3..5).prop_map(|(name, v, w)| format!("provides {name} {v} or {name} {w}")),
        // A release that provides what it needs itself.
        1 => (object.clone(), 1..4).prop_map(|(object, v)| {
            format!("needs {object}; provides {} {v}", object.split(' ').next().unwrap_or_default())
        }),
        1 => Just("engine >=3".to_string()),
        1 => Just("withdrawn".to_string()),
    ];
    let release = (name.clone(), 1..4, proptest::collection::vec(clause, 0..3))
        .prop_map(|(name, v, clauses)| format!("{name} {v} | {}", clauses.join("; ")));
    let want = (name.clone(), range).prop_map(|(name, range)| format!("{name} {range}"));
    let lock = (name, 1..4).prop_map(|(name, v)| format!("{name} {v}"));
    (
        proptest::collection::vec(release, 1..13),
        proptest::collection::vec(want, 1..3),
        proptest::collection::vec(lock, 0..4),
    )
}

/// A question about a random catalogue. Only what it knows is wanted.
struct Case {
    universe: Universe,
    wants: BTreeMap<ContentId, VersionRange>,
    locked: Selection,
    platform: Platform,
}

impl Case {
    fn new(lines: &[String], wants: &[String], locked: &[String]) -> Self {
        let universe = universe(&refs(lines));
        let mut wants = pairs(&refs(wants), range);
        wants.retain(|id, _| universe.get(id).is_some());
        Self { universe, wants, locked: pairs(&refs(locked), version), platform: platform() }
    }
}

fn refs(texts: &[String]) -> Vec<&str> {
    texts.iter().map(String::as_str).collect()
}

/// Tries every combination; returns whether a good one passes.
fn oracle(
    universe: &Universe,
    wants: &BTreeMap<ContentId, VersionRange>,
    locked: &Selection,
    passes: impl Fn(&Selection) -> bool,
) -> bool {
    let contents: Vec<&Content> = universe.iter().collect();
    let mut counters = vec![0_usize; contents.len()];
    loop {
        let selection: Selection = contents
            .iter()
            .zip(&counters)
            .filter_map(|(content, at)| {
                at.checked_sub(1).map(|at| (content.id.clone(), content.releases[at].version.clone()))
            })
            .collect();
        if passes(&selection) && good(universe, wants, locked, &selection) {
            return true;
        }
        let Some(place) = (0..counters.len()).find(|at| counters[*at] < contents[*at].releases.len()) else {
            return false;
        };
        counters[place] += 1;
        counters[..place].fill(0);
    }
}

fn good(
    universe: &Universe,
    wants: &BTreeMap<ContentId, VersionRange>,
    locked: &Selection,
    selection: &Selection,
) -> bool {
    wants.iter().all(|(id, range)| selection.get(id).is_some_and(|version| range.matches(version)))
        && selection.iter().all(|(id, version)| {
            !universe.release(id, version).is_some_and(|release| release.withdrawn)
                || locked.get(id) == Some(version)
        })
        && verify(universe, &platform(), selection).is_empty()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(20_000))]

    #[test]
    fn the_same_verdict_as_trying_everything((lines, wants, locked) in catalogue()) {
        let case = Case::new(&lines, &wants, &locked);
        let (universe, wants, locked, platform) = (&case.universe, &case.wants, &case.locked, &case.platform);
        let question = Question { universe, platform, wants, locked };
        match solve(&question) {
            Resolution::Lineup(chosen) => {
                prop_assert!(good(universe, wants, locked, &chosen), "{:?} breaks {:?}", chosen, verify(universe, platform, &chosen));
                // Solving again with the result locked gives the same.
                let Resolution::Lineup(again) = solve(&Question { locked: &chosen, ..question }) else { panic!("solvable before") };
                prop_assert_eq!(&again, &chosen);
                // Dropping a want never makes the rest unsolvable.
                let mut fewer = wants.clone();
                fewer.pop_first();
                let rest = solve(&Question { wants: &fewer, ..question });
                prop_assert!(matches!(rest, Resolution::Lineup(_)), "{:?}", rest);
            }
            answer @ (Resolution::Unread(_) | Resolution::Defect { .. }) => prop_assert!(false, "{:?}", answer),
            Resolution::None(why) => {
                prop_assert!(!oracle(universe, wants, locked, |_| true), "there is a lineup");
                prop_assert!(!why.because.is_empty());
                for way in why.ways_out.iter().filter(|way| !way.wants.is_empty()) {
                    let mut changed = wants.clone();
                    for (id, version) in &way.wants {
                        changed.remove(id);
                        changed.extend(version.iter().map(|version| (id.clone(), VersionRange::exactly(version))));
                    }
                    let after = solve(&Question { wants: &changed, ..question });
                    prop_assert!(matches!(after, Resolution::Lineup(_)), "{} does not help", way.change);
                }
            }
        }
    }

}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3_000))]

    #[test]
    fn contents_with_very_many_releases_change_nothing((lines, wants, locked) in catalogue()) {
        // One content too wide for a word has the search use the other sort of sets.
        let narrow = universe(&refs(&lines));
        let mut lines = lines;
        lines.extend((0..70).map(|v| format!("wide {v} | refuses nobody")));
        let wide = universe(&refs(&lines));
        let mut wants = pairs(&refs(&wants), range);
        wants.retain(|id, _| narrow.get(id).is_some());
        let locked = pairs(&refs(&locked), version);
        let platform = platform();
        let question = Question { universe: &narrow, platform: &platform, wants: &wants, locked: &locked };
        match (solve(&question), solve(&Question { universe: &wide, ..question })) {
            (Resolution::Lineup(a), Resolution::Lineup(b)) => prop_assert_eq!(a, b),
            (Resolution::None(a), Resolution::None(b)) => prop_assert_eq!(sentences(&a), sentences(&b)),
            (a, b) => prop_assert!(false, "{:?} and {:?}", a, b),
        }
    }

    #[test]
    fn what_is_locked_stays_where_it_can((lines, wants, _) in catalogue(), at in 0..3_usize) {
        // A lineup, and then one more want (the first one or another).
        let case = Case::new(&lines, &wants, &[]);
        let (universe, all, platform) = (&case.universe, &case.wants, &case.platform);
        let mut before = all.clone();
        if let Some(more) = all.keys().nth(at % all.len().max(1)) {
            before.remove(more);
        }
        let nothing = Selection::new();
        let question = Question { universe, platform, wants: &before, locked: &nothing };
        let Resolution::Lineup(locked) = solve(&question) else { return Ok(()) };
        if let Resolution::Lineup(chosen) = solve(&Question { wants: all, locked: &locked, ..question }) {
            let keeps = |selection: &Selection| locked.iter().all(|(id, version)| selection.get(id) == Some(version));
            // Where what is new makes a locked alternative needless, it may go.
            let goes = locked.keys().any(|id| !chosen.contains_key(id)) && {
                let both: Selection = chosen.iter().chain(&locked).map(|(id, v)| (id.clone(), v.clone())).collect();
                keeps(&both) && chosen.iter().all(|(id, version)| both.get(id) == Some(version))
            };
            prop_assert!(
                keeps(&chosen) || goes || !oracle(universe, all, &locked, keeps),
                "{:?} does not keep {:?}", chosen, locked
            );
        }
    }

    #[test]
    fn nothing_is_in_a_lineup_that_nothing_needs((lines, wants, locked) in catalogue()) {
        let case = Case::new(&lines, &wants, &locked);
        let (universe, wants, locked, platform) = (&case.universe, &case.wants, &case.locked, &case.platform);
        if let Resolution::Lineup(chosen) = solve(&Question { universe, platform, wants, locked }) {
            for id in chosen.keys() {
                let mut less = chosen.clone();
                less.remove(id);
                prop_assert!(!good(universe, wants, locked, &less), "{:?} goes without {}", chosen, id);
            }
        }
    }

    #[test]
    fn reading_only_what_is_asked_for_gives_the_same((lines, wants, locked) in catalogue()) {
        let case = Case::new(&lines, &wants, &locked);
        let (universe, wants, locked, platform) = (&case.universe, &case.wants, &case.locked, &case.platform);
        let question = Question { universe, platform, wants, locked };
        let mut partly = Universe::open();
        let read = |partly: &mut Universe, id: &ContentId| {
            for provider in universe.providers(id) {
                partly.note_provider(id, provider);
            }
            match universe.get(id) {
                Some(content) => partly.add(content.clone()),
                None => partly.close(id),
            }
        };
        for id in wants.keys() {
            read(&mut partly, id);
        }
        let answer = loop {
            match solve(&Question { universe: &partly, ..question }) {
                Resolution::Unread(ids) => {
                    prop_assert!(!ids.is_empty() && ids.iter().all(|id| partly.is_unread(id)));
                    for id in &ids {
                        read(&mut partly, id);
                    }
                }
                answer => break answer,
            }
        };
        match (solve(&question), answer) {
            (Resolution::Lineup(all), Resolution::Lineup(part)) => prop_assert_eq!(all, part),
            (Resolution::None(_), Resolution::None(_)) => {}
            (all, part) => prop_assert!(false, "{:?} and {:?}", all, part),
        }
    }

    #[test]
    fn an_unrelated_want_changes_no_other_version((lines, wants, _) in catalogue()) {
        let mut lines = lines;
        lines.push("unrelated 1 | needs alone".into());
        lines.push("alone 1".into());
        let case = Case::new(&lines, &wants, &[]);
        let (universe, wants, locked, platform) = (&case.universe, &case.wants, &case.locked, &case.platform);
        let question = Question { universe, platform, wants, locked };
        if let Resolution::Lineup(before) = solve(&question) {
            let mut more = wants.clone();
            more.insert(id("unrelated"), VersionRange::any());
            let Resolution::Lineup(mut after) = solve(&Question { wants: &more, ..question }) else { panic!("unrelated") };
            prop_assert!(after.remove("unrelated").is_some() && after.remove("alone").is_some());
            prop_assert_eq!(after, before);
        }
    }
}
