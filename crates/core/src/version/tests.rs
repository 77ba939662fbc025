use proptest::prelude::*;

use super::*;

fn v(text: &str) -> ReleaseVersion {
    ReleaseVersion::parse(text).unwrap()
}

fn r(text: &str) -> VersionRange {
    VersionRange::parse(text).unwrap()
}

/// The table of docs/versions.md, oldest first.
const RISING: &[&str] = &[
    "unversioned",
    "0-beta",
    "0",
    "0.9",
    "1.0-dev",
    "1.0-snapshot.3",
    "1.0-alpha",
    "1.0a2",
    "1.0-beta.2",
    "1.0b3",
    "1.0-beta.11",
    "1.0-pre1",
    "1.0-rc1",
    "1.0",
    "1.0c",
    "1.0.1-beta",
    "1.0.1",
    "1.2.3",
    "1.2.3+harbour",
    "v3",
    "r4",
    "5",
    "5e",
    "5.1",
    "b6",
    "1.16.5",
    "2024.03.1",
    "2024.3.2",
    "r20240",
];

#[test]
fn the_table_rises() {
    let sorted = {
        let mut list: Vec<_> = RISING.iter().map(|text| v(text)).collect();
        list.sort();
        list.iter().map(ToString::to_string).collect::<Vec<_>>()
    };
    let at = |text: &str| sorted.iter().position(|s| s == text).unwrap();
    for pair in [
        ("unversioned", "0-beta"),
        ("0-beta", "0"),
        ("1.0-dev", "1.0-snapshot.3"),
        ("1.0a2", "1.0-beta.2"),
        ("1.0-beta.2", "1.0b3"),
        ("1.0b3", "1.0-beta.11"),
        ("1.0-rc1", "1.0"),
        ("1.0", "1.0c"),
        ("1.0c", "1.0.1-beta"),
        ("1.0.1-beta", "1.0.1"),
        ("1.2.3", "1.2.3+harbour"),
        ("v3", "r4"),
        ("5", "5e"),
        ("5e", "5.1"),
        ("5.1", "b6"),
        ("2024.03.1", "2024.3.2"),
    ] {
        assert!(at(pair.0) < at(pair.1), "{pair:?} in {sorted:?}");
    }
}

#[test]
fn zeros_at_the_end_are_equal_in_ranges_and_told_apart_by_text() {
    assert_eq!(v("1.0").compare_precedence(&v("1.0.0")), Ordering::Equal);
    assert_ne!(v("1.0"), v("1.0.0"));
    assert!(r("=1.0").matches(&v("1.0.0")));
    assert!(v("1.0.0-beta").compare_precedence(&v("1.0-beta")).is_eq());
}

#[test]
fn what_cannot_be_a_version_shows_where() {
    for (text, at) in
        [("", 1), ("beta", 5), ("1.0 ", 4), ("a:1", 2), ("1.ä", 3), ("99999999999999999999999", 1)]
    {
        assert_eq!(ReleaseVersion::parse(text).unwrap_err().at, at, "{text}");
    }
}

#[test]
fn ranges_take_what_they_say() {
    for (range, inside, outside) in [
        (">=1.2, <2", vec!["1.2", "1.9.9", "1.2.0"], vec!["1.1", "2.0", "2.0-beta"]),
        (">=2.1 <3", vec!["2.1", "2.9"], vec!["2.0", "3"]),
        (">= 2.1 < 3", vec!["2.1"], vec!["3"]),
        ("1.4.*", vec!["1.4", "1.4.7", "1.4-beta"], vec!["1.5", "1.3.9", "1.5-alpha"]),
        ("1.0.*", vec!["1.0", "1", "1.0.3"], vec!["1.1", "0.9"]),
        ("^1.2", vec!["1.2", "1.99"], vec!["1.1", "2", "2-rc1", "1.2-beta"]),
        ("^0.3", vec!["0.3.5"], vec!["0.4", "0.2"]),
        ("=1.0", vec!["1.0"], vec!["1.0.1"]),
        ("1.0", vec!["1.0"], vec!["1.0.1"]),
        ("*", vec!["0", "1.0-beta", "unversioned"], vec![]),
        ("1.2 || >=2", vec!["1.2", "2", "3"], vec!["1.3"]),
        (">1.0", vec!["1.0.1"], vec!["1.0", "unversioned"]),
        ("<=1.0", vec!["1.0", "0.1"], vec!["1.1"]),
        ("<2-beta", vec!["2-alpha"], vec!["2-beta", "2"]),
    ] {
        for text in inside {
            assert!(r(range).matches(&v(text)), "{range} takes {text}");
        }
        for text in outside {
            assert!(!r(range).matches(&v(text)), "{range} leaves {text}");
        }
    }
}

#[test]
fn bad_ranges_say_why() {
    for text in ["||", ">=", "a.*", ">=x", "1.2 -", "[1.0", "(1.0", "1..", ">>1", "[2,1]"] {
        assert!(VersionRange::parse(text).is_err(), "{text}");
    }
}

#[test]
fn ranges_speak() {
    assert_eq!(r(">=2.1, <3").in_words(), "2.1 or newer, below 3");
    assert_eq!(r("1.2 || >=2").in_words(), "1.2, or 2 or newer");
    assert!(r("=1.0").is_exact() && !r("^1.0").is_exact());
    assert!(r(">=1.0-beta").names_prerelease() && !r("<2").names_prerelease());
}

/// The rows of the tables of docs/versions.md whose heads begin so, what is between backticks in each cell.
fn rows(head: &str) -> Vec<Vec<Vec<String>>> {
    let page = include_str!("../../../../docs/versions.md").replace("\\|", "\u{1}");
    let lines = page.lines().skip_while(|line| !line.starts_with(head)).skip(2);
    let rows = lines.take_while(|line| line.starts_with('|')).map(|line| {
        let cells = line.trim_matches('|').split('|');
        cells
            .map(|cell| {
                let parts = cell.trim().split('`').enumerate();
                parts.filter(|(at, _)| at % 2 == 1).map(|(_, part)| part.replace('\u{1}', "|")).collect()
            })
            .collect()
    });
    rows.collect()
}

#[test]
fn the_page_about_versions_is_true() {
    let order = rows("| older");
    for row in &order {
        let (first, second) = (v(&row[0][0]), v(&row[1][0]));
        assert!(first < second, "{first} before {second}");
    }
    let equal = rows("| one");
    for row in &equal {
        assert!(v(&row[0][0]).compare_precedence(&v(&row[1][0])).is_eq(), "{row:?}");
    }
    let ranges = rows("| range | takes");
    for row in &ranges {
        let range = r(row[0].first().map_or("", String::as_str));
        for text in &row[1] {
            assert!(range.matches(&v(text)), "{range} takes {text}");
        }
        for text in &row[2] {
            assert!(!range.matches(&v(text)), "{range} leaves {text}");
        }
        // What is printed can be typed.
        assert_eq!(r(range.as_str()).in_words(), range.in_words());
    }
    let page = include_str!("../../../../docs/versions.md").replace("\\|", "|");
    let wrong = rows("| range | why");
    for row in &wrong {
        let error = VersionRange::parse(&row[0][0]).unwrap_err();
        let line = page.lines().find(|line| line.starts_with(&format!("| `{}` |", row[0][0]))).unwrap();
        let why = line.rsplit_once("` | ").unwrap().1.trim_end_matches(" |");
        assert!(error.why.contains(why), "{:?}: {} and not {why}", row[0][0], error.why);
    }
    assert!(order.len() > 25 && equal.len() > 6 && ranges.len() > 30 && wrong.len() > 5);
}

#[test]
fn the_short_forms_that_are_shown_can_be_typed() {
    for text in ["1.4.*", "1.x", "v2.*"] {
        let shown = r(text).in_words();
        assert_eq!(r(&shown).in_words(), shown, "{text}");
    }
}

fn written() -> impl Strategy<Value = String> {
    "[vrb]?[0-9]{1,4}([._-]?[0-9]{1,3}){0,3}([-.]?(alpha|beta|rc|dev|e|harbour)[.]?[0-9]{0,2})?([+][a-z]{1,4})?"
}

proptest! {
    #[test]
    fn parse_of_print_is_the_same(text in written()) {
        let version = v(&text);
        prop_assert_eq!(version.to_string(), text.clone());
        prop_assert_eq!(v(&version.to_string()), version);
    }

    #[test]
    fn the_order_is_total(a in written(), b in written(), c in written()) {
        let (a, b, c) = (v(&a), v(&b), v(&c));
        prop_assert_eq!(a.cmp(&b), b.cmp(&a).reverse());
        prop_assert_eq!(a.cmp(&b).is_eq(), a == b);
        if a <= b && b <= c {
            prop_assert!(a <= c);
        }
        if a.compare_precedence(&b).is_le() && b.compare_precedence(&c).is_le() {
            prop_assert!(a.compare_precedence(&c).is_le());
        }
    }

    #[test]
    fn nothing_panics(text in "\\PC{0,40}") {
        if let Ok(version) = ReleaseVersion::parse(&text) { prop_assert_eq!(version.as_str(), text.as_str()); }
        if let Ok(range) = VersionRange::parse(&text) { prop_assert!(!range.in_words().is_empty()); }
    }

    #[test]
    fn bounds_agree_with_the_order(a in written(), b in written()) {
        let (a, b) = (v(&a), v(&b));
        prop_assert_eq!(r(&format!(">={b}")).matches(&a), a.compare_precedence(&b).is_ge());
        prop_assert_eq!(r(&format!(">{b}")).matches(&a), a.compare_precedence(&b).is_gt());
        prop_assert_eq!(r(&format!("<={b}")).matches(&a), a.compare_precedence(&b).is_le());
    }
}

#[test]
fn contents_without_a_version_are_told_apart_by_their_bytes() {
    let (one, two) = (Digest::of(b"one"), Digest::of(b"two"));
    let (a, b) = (ReleaseVersion::edition(&one), ReleaseVersion::edition(&two));
    let none = ReleaseVersion::unversioned();
    assert!(a != b && a != none && a == ReleaseVersion::edition(&one));
    assert!(a.is_unversioned() && !a.is_prerelease() && a < v("0.0.1"));
    assert!(b.follows(&a) && a.follows(&b) && !a.follows(&a) && !none.follows(&a) && v("1.0").follows(&a));
    assert!(v("1.1").follows(&v("1.0")) && !a.follows(&v("1.0")));
    // Files have it whole, people see its first digits.
    assert_eq!(v(a.as_str()), a);
    assert_eq!((a.to_string(), a.shown()), (one.to_string()[..6].to_owned(), &one.to_string()[..6]));
    assert_eq!((none.shown(), none.to_string().as_str()), ("", "unversioned"));
    assert_eq!(a.named(&"bell"), "bell");
    let exactly = VersionRange::exactly(&a);
    assert!(exactly.matches(&a) && !exactly.matches(&b) && !exactly.matches(&v("1.0")));
    assert!(
        VersionRange::exactly(&none).matches(&a) && VersionRange::any().matches(&a) && !r(">=1").matches(&a)
    );
    for wrong in ["unversioned+12", "unversioned+zzzzzzzzzzzzzzzz", "unversioned+"] {
        assert!(ReleaseVersion::parse(wrong).is_err(), "{wrong}");
    }
}
