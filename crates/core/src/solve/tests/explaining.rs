//! What is told where there is no lineup: few sentences, only what is needed to see it, and ways that really lead out.

use super::*;

fn why(lines: &[&str], wants: &[&str]) -> Explanation {
    match ask(lines, wants, &[]) {
        Answer::None(why) => why,
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
    assert_eq!(told, ["you want l5 and r5", &chain("l", "below 3"), &chain("r", "3 or newer")]);
    assert_eq!(why.because[1].contents.len(), 6);
    assert_eq!((ways(&why), why.left_out), (vec!["do without l5", "do without r5"], 0));
}

#[test]
fn a_want_that_cannot_be_had_alone_is_told_alone() {
    let lines =
        ["a 1 | needs b 2; needs c 2", "b 1", "b 2 | engine >=3", "c 1 | engine >=3", "d 1 | needs b 1"];
    let why = why(&lines, &["a", "d"]);
    assert!(!sentences(&why).contains(" d "), "{}", sentences(&why));
    assert_eq!(why.because[0].text, "you want a");
}

#[test]
fn where_no_single_change_helps_wants_are_given_up_together() {
    let lines = ["a 1 | refuses b; refuses c", "b 1 | refuses c", "c 1", "d 1 | refuses e", "e 1", "f 1"];
    let why = why(&lines, &["a", "b", "c", "d", "e", "f"]);
    assert_eq!(ways(&why), ["do without b, c and e"]);
    assert_eq!(why.ways_out[0].command.as_deref(), Some("yalotheca drop b c e"));
    let left: Vec<&str> = ["a", "d", "f"].to_vec();
    assert_eq!(lineup(&ask(&lines, &left, &[])), "a 1, d 1, f 1");
}

#[test]
fn many_needs_of_one_content_are_told_together() {
    let mut lines: Vec<String> = (1..7).map(|v| format!("many {v} | needs base {}", v + 10)).collect();
    lines.extend((1..7).map(|v| format!("base {v}")));
    let why = why(&refs(&lines), &["many"]);
    assert_eq!(sentences(&why), "you want many; every known many needs base, each release other versions");
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
fn a_long_explanation_is_cut_and_says_so() {
    let mut lines: Vec<String> = (0..40).map(|i| format!("w{i} 1 | needs p{i}")).collect();
    for i in 0..40 {
        // Each pigeon needs one hole of 39, and no two the same.
        lines.extend((0..39).map(|hole| format!("p{i} {hole} | refuses h{hole} *; provides x{i} 1")));
    }
    lines.truncate(60);
    let wants: Vec<String> = (0..40).map(|i| format!("w{i}")).collect();
    let why = why(&refs(&lines), &refs(&wants));
    assert!(why.because.len() <= 30 && !why.because.is_empty());
}
