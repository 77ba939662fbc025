//! Catalogues of one shape each, in which a solver easily loses its way.

use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};

use yalotheca_core::{
    catalogue::{Content, Platform, Release, Universe},
    id::ContentId,
    solve::{Question, Resolution, Selection, solve},
    version::{ReleaseVersion, VersionRange},
};

use crate::generator::{Catalogue, Release as Generated, Window};

/// Returns the shapes by name.
pub(crate) fn shapes(seed: u64) -> Vec<(&'static str, Catalogue)> {
    vec![
        ("missing", missing(5_000)),
        ("chain", chain(200, 500)),
        ("one base", one_base(300, 200)),
        ("colouring", colouring(250, seed)),
    ]
}

fn any(on: u32) -> Window {
    Window { on, lo: 1, hi: 1_000 }
}

fn only(on: u32, number: u32) -> Window {
    // A number above 500 would read as "or newer".
    Window { on, lo: number, hi: number }
}

fn named(packages: Vec<Vec<Generated>>, roots: Vec<Window>) -> Catalogue {
    let names = (0..packages.len()).map(|number| format!("pkg{number:05}")).collect();
    Catalogue { names, packages, roots }
}

fn release(number: u32, needs: Vec<Window>) -> Generated {
    Generated { number, needs, refuses: Vec::new() }
}

/// One content with very many releases, each of which needs something that there is not.
fn missing(releases: u32) -> Catalogue {
    let mut packages = vec![vec![release(1, Vec::new())]; 50];
    // Each asks for another release of one of fifty others, none of which has it.
    packages.push((1..=releases).map(|n| release(n, vec![only(n % 50, 2 + n % 400)])).collect());
    let root = any(50);
    named(packages, vec![Window { hi: 10_000, ..root }])
}

/// A chain in which each release needs its like, and the newest at its end all fail.
fn chain(links: u32, releases: u32) -> Catalogue {
    let mut packages = vec![vec![release(1, Vec::new())]];
    packages.push(
        (1..=releases).map(|n| release(n, if n == 1 { Vec::new() } else { vec![only(0, 2)] })).collect(),
    );
    for link in 2..=links {
        packages.push((1..=releases).map(|n| release(n, vec![only(link - 1, n)])).collect());
    }
    named(packages, vec![any(links)])
}

/// Many contents of which each release needs its like of one base, and one content that is only there in its oldest.
fn one_base(contents: u32, releases: u32) -> Catalogue {
    let mut packages = vec![(1..=releases).map(|n| release(n, Vec::new())).collect::<Vec<_>>()];
    for content in 1..=contents {
        let most = if content == contents { 1 } else { releases };
        packages.push((1..=most).map(|n| release(n, vec![only(0, n)])).collect());
    }
    named(packages, (1..=contents).map(any).collect())
}

/// Contents with three releases each, of which neighbours must not have the same.
fn colouring(contents: u32, seed: u64) -> Catalogue {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    let mut below = |bound: u32| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        u32::try_from((state >> 33) % u64::from(bound)).unwrap_or(0)
    };
    let mut neighbours = vec![Vec::new(); contents as usize];
    for _ in 0..contents * 23 / 10 {
        let (a, b) = (below(contents), below(contents));
        if a != b {
            neighbours[a as usize].push(b);
        }
    }
    let packages = neighbours.iter().map(|others| {
        (1..=3)
            .map(|colour| Generated {
                number: colour,
                needs: Vec::new(),
                refuses: others.iter().map(|other| only(*other, colour)).collect(),
            })
            .collect()
    });
    named(packages.collect(), (0..contents).map(any).collect())
}

/// Times our solver on a name with very many providers and as many contents that need it. The other solvers have no provided
/// names. Returns the time and the number of contents in the lineup.
pub(crate) fn stand_ins(count: usize) -> Option<(Duration, usize)> {
    let id = |text: String| ContentId::new(&text).ok();
    let one = ReleaseVersion::parse("1").ok()?;
    let (mut universe, mut wants) = (Universe::default(), BTreeMap::new());
    let mut add = |id: &ContentId, release: Release| {
        universe.add(Content {
            id: id.clone(),
            title: id.to_string(),
            about: String::new(),
            catalogue: "bench".into(),
            releases: vec![release],
        });
    };
    let name = id("name".into())?;
    for number in 0..count {
        let mut release = Release::new(one.clone(), "plugin");
        release.provides.insert(name.clone(), Some(one.clone()).into());
        add(&id(format!("bearer{number:05}"))?, release);
        let mut release = Release::new(one.clone(), "plugin");
        release.needs.insert(name.clone(), VersionRange::any());
        let needing = id(format!("needing{number:05}"))?;
        add(&needing, release);
        wants.insert(needing, VersionRange::any());
    }
    let (platform, locked) = (Platform::default(), Selection::new());
    let question = Question { universe: &universe, platform: &platform, wants: &wants, locked: &locked };
    let begun = Instant::now();
    let answer = solve(&question);
    let took = begun.elapsed();
    if let Resolution::Lineup(chosen) = answer { Some((took, chosen.len())) } else { None }
}
