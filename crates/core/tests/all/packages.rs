//! The solver on real metadata: the package lists that a Debian machine has after its index was updated. Skipped, and said so,
//! where there are none.
//!
//! Each package is a content with one release; its dependencies, alternatives, conflicts and provided names are needs, needs of
//! any, refusals and provided names. Versions and their ranges are left out: this is about names. What is asked for is chosen at
//! random; each lineup is checked by a checker that is written here, nothing in it may be needless, and each way out must lead out.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    fs,
    process::Command,
};

use yalotheca_core::{
    catalogue::{AnyOf, Content, Platform, Release, Universe},
    id::ContentId,
    solve::{Answer, Question, Selection, solve},
    version::{ReleaseVersion, VersionRange},
};

use crate::Done;

/// One package as the list says it: names only.
#[derive(Debug, Default, Clone)]
struct Package {
    depends: Vec<Vec<String>>,
    conflicts: Vec<String>,
    provides: Vec<String>,
}

/// Reads the lists; of a package that is listed more than once the first counts.
fn packages() -> BTreeMap<String, Package> {
    let mut found = BTreeMap::new();
    let Ok(entries) = fs::read_dir("/var/lib/apt/lists") else { return found };
    for path in entries.flatten().map(|entry| entry.path()) {
        let name = path.to_string_lossy();
        let text = if name.ends_with("_Packages") {
            fs::read_to_string(&path).ok()
        } else if name.contains("_Packages.") {
            // The lists are mostly compressed; the package manager's own helper reads them.
            let helper = Command::new("/usr/lib/apt/apt-helper").arg("cat-file").arg(&path).output();
            helper.ok().and_then(|output| String::from_utf8(output.stdout).ok())
        } else {
            continue;
        };
        let Some(text) = text else { continue };
        for paragraph in text.split("\n\n") {
            if let Some((name, package)) = read(paragraph) {
                found.entry(name).or_insert(package);
            }
        }
    }
    found
}

fn read(paragraph: &str) -> Option<(String, Package)> {
    let field = |name: &str| {
        paragraph.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(": ")).unwrap_or_default()
    };
    // Drops the range and the architecture.
    let bare = |text: &str| -> String {
        text.trim().split([' ', '(', ':']).next().unwrap_or_default().to_ascii_lowercase()
    };
    let list = |text: &str| -> Vec<String> {
        text.split(',')
            .filter(|part| !part.trim().is_empty())
            .map(bare)
            .filter(|name| ContentId::new(name).is_ok())
            .collect()
    };
    let depends = [field("Pre-Depends"), field("Depends")].join(", ");
    let groups = depends.split(',').filter(|group| !group.trim().is_empty());
    let depends = groups
        .map(|group| {
            let mut names: Vec<String> =
                group.split('|').map(bare).filter(|name| ContentId::new(name).is_ok()).collect();
            names.dedup();
            names
        })
        .filter(|group: &Vec<String>| !group.is_empty());
    // A conflict with a range mostly is about old versions, which are not here.
    let conflicts =
        field("Conflicts").split(',').filter(|part| !part.contains('(')).collect::<Vec<_>>().join(",");
    let name = bare(field("Package"));
    let package = Package {
        depends: depends.collect(),
        conflicts: list(&conflicts),
        provides: list(field("Provides")),
    };
    ContentId::new(&name).is_ok().then_some((name, package))
}

fn universe(packages: &BTreeMap<String, Package>) -> Result<Universe, Box<dyn std::error::Error>> {
    let mut universe = Universe::default();
    let any = VersionRange::any;
    for (name, package) in packages {
        let mut release = Release::new(ReleaseVersion::parse("1")?, "package");
        for group in &package.depends {
            match &group[..] {
                [one] => drop(release.needs.insert(ContentId::new(one)?, any())),
                several => {
                    let ids: Vec<ContentId> =
                        several.iter().map(|id| ContentId::new(id)).collect::<Result<_, _>>()?;
                    release.needs_any.push(ids.into_iter().map(|id| (id, any())).collect::<AnyOf>());
                }
            }
        }
        for other in package.conflicts.iter().filter(|other| *other != name) {
            release.refuses.insert(ContentId::new(other)?, any());
        }
        for other in package.provides.iter().filter(|other| *other != name) {
            release.provides.insert(ContentId::new(other)?, None.into());
        }
        universe.add(Content {
            id: ContentId::new(name)?,
            title: name.clone(),
            about: String::new(),
            catalogue: "lists".into(),
            releases: vec![release],
        });
    }
    Ok(universe)
}

/// Checks a set of packages by what the list says of them: a checker that knows nothing of the solver.
fn breaks(packages: &BTreeMap<String, Package>, chosen: &BTreeSet<&str>) -> Option<String> {
    let mut bearers: HashMap<&str, BTreeSet<&str>> = HashMap::new();
    for name in chosen {
        bearers.entry(name).or_default().insert(name);
        for provided in &packages[*name].provides {
            bearers.entry(provided).or_default().insert(name);
        }
    }
    for name in chosen {
        let package = &packages[*name];
        if let Some(group) =
            package.depends.iter().find(|group| !group.iter().any(|need| bearers.contains_key(need.as_str())))
        {
            return Some(format!("{name} needs {group:?}"));
        }
        let refused = |other: &&String| {
            bearers.get(other.as_str()).is_some_and(|who| who.iter().any(|who| who != name))
        };
        if let Some(other) = package.conflicts.iter().find(refused) {
            return Some(format!("{name} refuses {other}"));
        }
    }
    None
}

#[test]
fn real_packages_are_solved_and_every_way_out_leads_out() -> Done {
    const QUESTIONS: usize = 500;
    let packages = packages();
    if packages.len() < 1_000 {
        println!("skipped: this machine has no package lists");
        assert!(std::env::var_os("YALOTHECA_REAL").is_none(), "CI has package lists");
        return Ok(());
    }
    let universe = universe(&packages)?;
    let names: Vec<&String> = packages.keys().collect();
    let mut state = 20_261_128_u64;
    let mut below = |bound: usize| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from((state >> 33) % (bound as u64)).unwrap_or(0)
    };
    let (platform, locked) = (Platform::default(), Selection::new());
    let (mut solved, mut refused, mut ways, mut largest) = (0, 0, 0, 0);
    // Packages that refuse one that is listed: half of the questions ask for both, and often there is no answer.
    let quarrels: Vec<(&String, &String)> = packages
        .iter()
        .flat_map(|(name, package)| package.conflicts.iter().map(move |other| (name, other)))
        .filter(|(name, other)| packages.contains_key(*other) && name != other)
        .collect();
    for round in 0..QUESTIONS {
        let count = 1 + below(6);
        let mut wants: BTreeMap<ContentId, VersionRange> = (0..count)
            .map(|_| Ok((ContentId::new(names[below(names.len())])?, VersionRange::any())))
            .collect::<Result<_, Box<dyn std::error::Error>>>()?;
        if round % 2 == 1 && !quarrels.is_empty() {
            let (one, other) = quarrels[below(quarrels.len())];
            wants.extend([
                (ContentId::new(one)?, VersionRange::any()),
                (ContentId::new(other)?, VersionRange::any()),
            ]);
        }
        let question = Question { universe: &universe, platform: &platform, wants: &wants, locked: &locked };
        match solve(&question) {
            Answer::Lineup(chosen) => {
                solved += 1;
                largest = largest.max(chosen.len());
                let mut set: BTreeSet<&str> = chosen.keys().map(ContentId::as_str).collect();
                assert_eq!(breaks(&packages, &set), None, "{wants:?}");
                for id in chosen.keys().filter(|id| !wants.contains_key(*id)) {
                    set.remove(id.as_str());
                    assert!(breaks(&packages, &set).is_some(), "{id} is needless for {wants:?}");
                    set.insert(id.as_str());
                    // Each is asked about on small lineups; on large ones some are.
                    if chosen.len() > 80 && below(10) > 0 {
                        break;
                    }
                }
                let Answer::Lineup(again) = solve(&Question { locked: &chosen, ..question }) else {
                    return Err(format!("{wants:?} has no lineup any more once it is locked").into());
                };
                assert_eq!(again, chosen);
            }
            Answer::None(why) => {
                refused += 1;
                assert!(!why.because.is_empty() && why.because.len() <= 30, "{wants:?}");
                for way in why.ways_out.iter().filter(|way| !way.wants.is_empty()) {
                    ways += 1;
                    let mut changed = wants.clone();
                    changed.retain(|id, _| !way.wants.iter().any(|(other, _)| other == id));
                    let after = solve(&Question { wants: &changed, ..question });
                    assert!(matches!(after, Answer::Lineup(_)), "{} does not help {wants:?}", way.change);
                }
            }
            other => return Err(format!("{wants:?}: {other:?}").into()),
        }
    }
    println!(
        "{} packages, {QUESTIONS} questions: {solved} lineups (the largest of {largest}), {refused} refused, {ways} ways out tried",
        packages.len()
    );
    Ok(())
}
