//! What is told where there is no lineup: few sentences, only what is needed to see it, and ways that really lead out.

use super::*;

fn why(lines: &[&str], wants: &[&str]) -> Explanation {
    match ask(lines, wants, &[]) {
        Resolution::None(why) => why,
        other => panic!("{other:?}"),
    }
}

fn ways(why: &Explanation) -> Vec<&str> {
    why.ways_out.iter().map(|way| way.change.as_str()).collect()
}

#[test]
fn a_chain_of_needs_is_one_sentence() {
    let mut lines: Vec<String> = Vec::new();
    for half in ["l", "r"] {
        for i in 1..6 {
            lines.extend((1..4).map(|v| format!("{half}{i} {v} | needs {half}{} *", i - 1)));
        }
    }
    lines.extend((1..4).map(|v| format!("l0 {v} | needs base <3")));
    lines.extend((1..4).map(|v| format!("r0 {v} | needs base >=3")));
    lines.extend((1..5).map(|v| format!("base {v}")));
    lines.push("bystander 1 | needs base".into());
    let why = why(&refs(&lines), &["bystander", "l5", "r5"]);
    let chain = |half: &str, range: &str| {
        format!(
            "every known {half}5 needs {half}4, which needs {half}3, which needs {half}2, which needs {half}1, \
             which needs {half}0, which needs base {range}"
        )
    };
    let told: Vec<&str> = why.because.iter().map(|statement| statement.text.as_str()).collect();
    assert_eq!(
        told,
        ["yalotheca.toml asks for l5 and r5", &chain("l", "below 3"), &chain("r", "3 or newer")]
    );
    assert_eq!(why.because[1].contents.len(), 6);
    assert_eq!((ways(&why), why.left_out), (vec!["do without l5", "do without r5"], 0));
}

#[test]
fn a_want_that_cannot_be_had_alone_is_told_alone() {
    let lines =
        ["a 1 | needs b 2; needs c 2", "b 1", "b 2 | engine >=3", "c 1 | engine >=3", "d 1 | needs b 1"];
    let why = why(&lines, &["a", "d"]);
    assert!(!sentences(&why).contains(" d "), "{}", sentences(&why));
    assert_eq!(why.because[0].text, "yalotheca.toml asks for a");
}

#[test]
fn where_no_single_change_helps_wants_are_given_up_together() {
    let lines = ["a 1 | refuses b; refuses c", "b 1 | refuses c", "c 1", "d 1 | refuses e", "e 1", "f 1"];
    let why = why(&lines, &["a", "b", "c", "d", "e", "f"]);
    assert_eq!(ways(&why), ["do without b, c and e"]);
    let dropped =
        why.ways_out[0].act.as_ref().map(|act| act.drop.iter().map(ContentId::as_str).collect::<Vec<_>>());
    assert_eq!(dropped, Some(vec!["b", "c", "e"]));
    let left: Vec<&str> = ["a", "d", "f"].to_vec();
    assert_eq!(lineup(&ask(&lines, &left, &[])), "a 1, d 1, f 1");
}

#[test]
fn many_needs_of_one_content_are_told_together() {
    let mut lines: Vec<String> = (1..7).map(|v| format!("many {v} | needs base {}", v + 10)).collect();
    lines.extend((1..7).map(|v| format!("base {v}")));
    let why = why(&refs(&lines), &["many"]);
    assert_eq!(
        sentences(&why),
        "yalotheca.toml asks for many; every known many needs base, each release other versions"
    );
}

#[test]
fn releases_are_named_as_people_would() {
    let base = ["base 1", "base 2 | engine >=3", "base 3 | engine >=3"];
    for (lines, wants, expected) in [
        (vec!["a 1 | needs base 9", "a 2"], vec!["a 1"], "a 1 needs base 9"),
        (vec!["a 1 | needs base 9", "a 2 | needs base 9", "a 3"], vec!["a <3"], "a 1 to 2 need base 9"),
        (vec!["a 1", "a 2 | needs base 9", "a 3 | needs base 9"], vec!["a >=2"], "a from 2 on need base 9"),
        (vec!["a 1 | needs base 9", "a 2", "a 3 | needs base 9"], vec!["a 1 || 3"], "a 1, 3 need base 9"),
        (vec!["a 1 | needs base >=2"], vec!["a"], "a 1 needs base 2 or newer, which needs engine 3 or newer"),
        (vec!["a 1 | withdrawn"], vec!["a"], "a 1 was withdrawn by the author"),
        (vec!["a 1 | needs b or c"], vec!["a"], "a 1 needs b or c, and no catalogue has it"),
        (vec!["a 1 | welcomes base 9"], vec!["a", "base"], "a 1 goes with base 9 only"),
    ] {
        let all: Vec<&str> = lines.iter().chain(&base).copied().collect();
        let told = sentences(&why(&all, &wants));
        assert!(told.contains(expected), "{told:?} does not tell {expected:?}");
    }
}

#[test]
fn the_decisive_fact_is_told() {
    for (lines, wants, expected) in [
        (
            vec!["a 1 | needs b >=4", "b 3", "b 2"],
            vec!["a"],
            "yalotheca.toml asks for a; a 1 needs b 4 or newer, and the newest b is 3",
        ),
        (
            vec!["a 1 | needs b <2", "b 3", "b 2"],
            vec!["a"],
            "yalotheca.toml asks for a; a 1 needs b below 2, and the oldest b is 2",
        ),
        (
            vec!["a 1 | needs b 4", "b 3"],
            vec!["a"],
            "yalotheca.toml asks for a; a 1 needs b 4, and the only b is 3",
        ),
        (
            vec!["a 1 | needs b 2", "b 1", "b 3", "b 4"],
            vec!["a"],
            "yalotheca.toml asks for a; a 1 needs b 2, and none of the 3 releases of b from 1 to 4 is that",
        ),
        (vec!["b 1", "b 3"], vec!["b >=4"], "yalotheca.toml asks for b 4 or newer, and the newest b is 3"),
        (
            vec!["a 1 | needs b >=4", "z 1 | provides b 1 or b 2"],
            vec!["a"],
            "yalotheca.toml asks for a; a 1 needs b 4 or newer, and z only provides b 1 and 2",
        ),
        (
            vec!["a 1 | needs b or c or d", "b 1 | needs ghost", "c 1 | needs ghost", "d 1 | needs ghost"],
            vec!["a"],
            "yalotheca.toml asks for a; a 1 needs b, c or d; b, c and d need ghost, and no catalogue has it",
        ),
        (
            vec!["a 1 | engine >=3 & pontoon >=2"],
            vec!["a"],
            "yalotheca.toml asks for a; a 1 needs engine 3 or newer, and this server has engine 2.4; \
             a 1 needs pontoon 2 or newer, and this server has no pontoon",
        ),
    ] {
        assert_eq!(sentences(&why(&lines, &wants)), expected);
    }
    let both = why(&["a 1 | engine >=3 & pontoon >=2"], &["a"]);
    assert_eq!(ways(&both), ["give the server engine 3 or newer and pontoon 2 or newer", "do without a"]);
}

#[test]
fn of_a_long_chain_the_middle_is_counted() {
    let mut lines: Vec<String> = (1..30).map(|i| format!("c{i} 1 | needs c{} 1", i - 1)).collect();
    lines.push("c0 1 | needs z >=4".into());
    lines.push("z 3".into());
    let why = why(&refs(&lines), &["c29"]);
    assert_eq!(
        why.because[1].text,
        "c29 1 needs c28 1, which needs c27 1 … (27 more) … which needs z 4 or newer, and the only z is 3"
    );
}

/// So many pigeons, each of which takes one of so many holes, and no two the same.
fn pigeons(count: usize, holes: usize) -> (Vec<String>, Vec<String>) {
    let mut lines = Vec::new();
    for pigeon in 0..count {
        for hole in 1..=holes {
            let others: Vec<String> =
                (pigeon + 1..count).map(|other| format!("refuses p{other} {hole}")).collect();
            lines.push(format!("p{pigeon} {hole} | {}", others.join("; ")));
        }
    }
    (lines, (0..count).map(|pigeon| format!("p{pigeon}")).collect())
}

#[test]
fn a_search_that_takes_very_many_conflicts_comes_to_its_end() {
    // There is no short proof of this, so the search leaves the order of preference for a while.
    let (lines, wants) = pigeons(8, 7);
    let why = why(&refs(&lines), &refs(&wants));
    assert!(why.because.len() <= 30 && why.because[0].text.starts_with("yalotheca.toml asks for p0, p1"));
    // With room for all of them, the first gets the best place and so on.
    let (lines, wants) = pigeons(8, 8);
    let best = lineup(&ask(&refs(&lines), &refs(&wants), &[]));
    assert_eq!(best, "p0 8, p1 7, p2 6, p3 5, p4 4, p5 3, p6 2, p7 1");
}

#[test]
fn a_hidden_lineup_is_found_however_many_dead_ends_lead_away_from_it() {
    let mut state = 7_u64;
    let mut below = |bound: u64| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % bound
    };
    for _ in 0..40 {
        let hidden: Vec<u64> = (0..40).map(|_| 1 + below(2)).collect();
        let mut lines = Vec::new();
        for content in 0..40_u64 {
            for release in 1..=6_u64 {
                let mut needs = Vec::new();
                for _ in 0..if content == 0 { 0 } else { 3 } {
                    let on = below(content);
                    let at = usize::try_from(on).unwrap();
                    let is_hidden = release == hidden[usize::try_from(content).unwrap()];
                    let from = if is_hidden { hidden[at] } else { 1 + below(6) };
                    needs.push(format!("needs c{on} >={from} <={}", from + 1));
                }
                lines.push(format!("c{content} {release} | {}", needs.join("; ")));
            }
        }
        let universe = universe(&refs(&lines));
        let names: Vec<String> = (0..40).map(|content| format!("c{content}")).collect();
        let (wants, locked, platform) = (pairs(&refs(&names), range), Selection::new(), platform());
        let question = Question { universe: &universe, platform: &platform, wants: &wants, locked: &locked };
        let Resolution::Lineup(chosen) = solve(&question) else { panic!("there is one") };
        assert!(good(&universe, &wants, &locked, &chosen));
        assert_eq!(chosen.len(), 40);
    }
}
