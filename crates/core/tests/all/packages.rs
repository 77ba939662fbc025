//! The solver on real metadata: the package lists that a Debian machine has after its index was updated. Skipped, and said so,
//! where there are none.
//!
//! Each package is a content, and each of its listed versions a release; dependencies, alternatives, conflicts and provided names
//! are needs, needs of any, refusals and provided names. For the solver each version is its rank among all versions that are
//! named for that package. What is asked for is chosen at random; each lineup is checked by a checker that is written here and
//! compares the versions themselves, nothing in it may be needless, and each way out must lead out.

use std::{
    cmp::Ordering,
    collections::{BTreeMap, HashMap},
    fs,
    process::Command,
};

use yalotheca_core::{
    catalogue::{AnyOf, Content, Platform, Provided, Relations, Release, Universe},
    id::ContentId,
    solve::{Question, Resolution, Selection, solve},
    version::{ReleaseVersion, VersionRange},
};

use crate::Done;

type Failure = Box<dyn std::error::Error>;

/// A package by name, and which of its versions.
#[derive(Debug, Clone)]
struct Named {
    name: String,
    /// The comparison and the version; all versions where there is none.
    range: Option<(String, String)>,
}

/// One version of a package as the list describes it.
#[derive(Debug, Default, Clone)]
struct Package {
    version: String,
    depends: Vec<Vec<Named>>,
    conflicts: Vec<Named>,
    /// Names with the version that is provided, if the list says one.
    provides: Vec<(String, Option<String>)>,
}

/// Packages by name, each with its versions.
type Packages = BTreeMap<String, Vec<Package>>;

/// Reads the lists; of a version that is listed more than once the first counts.
fn packages() -> Packages {
    let mut found = Packages::new();
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
        for (name, package) in text.split("\n\n").filter_map(read) {
            let versions: &mut Vec<Package> = found.entry(name).or_default();
            if !versions.iter().any(|other| compare(&other.version, &package.version).is_eq()) {
                versions.push(package);
            }
        }
    }
    found
}

fn read(paragraph: &str) -> Option<(String, Package)> {
    let field = |name: &str| {
        paragraph.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(": ")).unwrap_or_default()
    };
    let named = |text: &str| -> Option<Named> {
        let (name, range) = text.split_once('(').unwrap_or((text, ""));
        // The architecture is dropped.
        let name = name.trim().split(':').next().unwrap_or_default().to_ascii_lowercase();
        let range = range.trim_end().trim_end_matches(')');
        let at = range.find(|letter: char| !"<>=".contains(letter));
        let range = at.map(|at| (range[..at].to_owned(), range[at..].trim().to_owned()));
        ContentId::new(&name).is_ok().then_some(Named { name, range })
    };
    let list = |text: &str| text.split(',').filter_map(named).collect::<Vec<_>>();
    let depends = [field("Pre-Depends"), field("Depends")].join(",");
    let groups = depends.split(',').map(|group| group.split('|').filter_map(named).collect::<Vec<_>>());
    let name = named(field("Package"))?.name;
    let package = Package {
        version: field("Version").to_owned(),
        depends: groups.filter(|group| !group.is_empty()).collect(),
        conflicts: list(&[field("Conflicts"), field("Breaks")].join(",")),
        provides: list(field("Provides"))
            .into_iter()
            .map(|named| (named.name, named.range.map(|(_, version)| version)))
            .collect(),
    };
    (!package.version.is_empty()).then_some((name, package))
}

/// Compares two package versions, as the packaging policy says.
fn compare(a: &str, b: &str) -> Ordering {
    let parts = |text: &str| {
        let (epoch, rest) = text.split_once(':').unwrap_or(("0", text));
        let (upstream, revision) = rest.rsplit_once('-').unwrap_or((rest, "0"));
        (epoch.parse::<u32>().unwrap_or(0), upstream.to_owned(), revision.to_owned())
    };
    let (a, b) = (parts(a), parts(b));
    a.0.cmp(&b.0).then_with(|| compare_part(&a.1, &b.1)).then_with(|| compare_part(&a.2, &b.2))
}

fn compare_part(a: &str, b: &str) -> Ordering {
    // `~` sorts before the end, letters before everything else.
    let weight = |byte: u8| match byte {
        b'~' => -1,
        letter if letter.is_ascii_alphabetic() => i32::from(letter),
        other => i32::from(other) + 256,
    };
    let (mut a, mut b) = (a.as_bytes(), b.as_bytes());
    while !(a.is_empty() && b.is_empty()) {
        let split = |text: &[u8]| text.iter().position(u8::is_ascii_digit).unwrap_or(text.len());
        let ((words, rest_a), (other, rest_b)) = (a.split_at(split(a)), b.split_at(split(b)));
        for at in 0..words.len().max(other.len()) {
            let at = |text: &[u8]| text.get(at).map_or(0, |byte| weight(*byte));
            match at(words).cmp(&at(other)) {
                Ordering::Equal => {}
                unequal => return unequal,
            }
        }
        let digits = |text: &[u8]| text.iter().position(|byte| !byte.is_ascii_digit()).unwrap_or(text.len());
        let ((one, rest_a), (two, rest_b)) =
            (rest_a.split_at(digits(rest_a)), rest_b.split_at(digits(rest_b)));
        let number = |text: &[u8]| String::from_utf8_lossy(text).trim_start_matches('0').to_owned();
        let (one, two) = (number(one), number(two));
        match one.len().cmp(&two.len()).then_with(|| one.cmp(&two)) {
            Ordering::Equal => (a, b) = (rest_a, rest_b),
            unequal => return unequal,
        }
    }
    Ordering::Equal
}

/// Ranks all versions that the lists name, by package: 1 is the oldest.
fn ranks(packages: &Packages) -> HashMap<&str, Vec<&str>> {
    let mut ranks: HashMap<&str, Vec<&str>> = HashMap::new();
    for (name, versions) in packages {
        for package in versions {
            ranks.entry(name).or_default().push(&package.version);
            for named in package.depends.iter().flatten().chain(&package.conflicts) {
                let versions = named.range.iter().map(|(_, version)| version.as_str());
                ranks.entry(&named.name).or_default().extend(versions);
            }
            for (name, version) in &package.provides {
                ranks.entry(name).or_default().extend(version.as_deref());
            }
        }
    }
    for versions in ranks.values_mut() {
        versions.sort_by(|a, b| compare(a, b));
        versions.dedup_by(|a, b| compare(a, b).is_eq());
    }
    ranks
}

fn universe(packages: &Packages) -> Result<Universe, Failure> {
    let ranks = ranks(packages);
    let rank = |name: &str, version: &str| -> usize {
        let versions = ranks.get(name).map_or(&[][..], Vec::as_slice);
        1 + versions.partition_point(|other| compare(other, version).is_lt())
    };
    let version = |rank: usize| ReleaseVersion::parse(&rank.to_string());
    // What is provided without a version has rank 0: no range with a version takes it.
    let range = |named: &Named| match &named.range {
        None => "*".to_owned(),
        Some((comparison, version)) => {
            let rank = rank(&named.name, version);
            match comparison.as_str() {
                "<<" | "<" => format!(">=1, <{rank}"),
                "<=" => format!(">=1, <={rank}"),
                ">>" | ">" => format!(">{rank}"),
                ">=" => format!(">={rank}"),
                _ => format!("={rank}"),
            }
        }
    };
    // A range that holds nothing is an error to us; no version has this rank.
    let parsed = |text: &str| VersionRange::parse(text).or_else(|_| VersionRange::parse("=1000000"));
    let mut universe = Universe::default();
    for (name, versions) in packages {
        let mut releases = Vec::new();
        for package in versions {
            let mut release = Release::new(version(rank(name, &package.version))?, "package");
            let mut needs: BTreeMap<&str, Vec<String>> = BTreeMap::new();
            for group in &package.depends {
                if let [one] = &group[..] {
                    needs.entry(&one.name).or_default().push(range(one));
                    continue;
                }
                let mut any: Vec<(&str, Vec<String>)> = Vec::new();
                for named in group {
                    match any.iter_mut().find(|(name, _)| *name == named.name) {
                        Some((_, ranges)) => ranges.push(range(named)),
                        None => any.push((&named.name, vec![range(named)])),
                    }
                }
                let any = any
                    .into_iter()
                    .map(|(name, ranges)| Ok((ContentId::new(name)?, parsed(&ranges.join(" || "))?)));
                release.needs_any.push(any.collect::<Result<AnyOf, Failure>>()?);
            }
            for (name, mut ranges) in needs {
                if ranges.len() > 1 {
                    ranges.retain(|range| range != "*");
                }
                release.needs.insert(ContentId::new(name)?, parsed(&ranges.join(", "))?);
            }
            release.refuses = refusals(name, package, &range)?;
            let mut provides: BTreeMap<&str, Vec<ReleaseVersion>> = BTreeMap::new();
            for (other, provided) in package.provides.iter().filter(|(other, _)| other != name) {
                let rank = provided.as_ref().map_or(0, |provided| rank(other, provided));
                provides.entry(other).or_default().push(version(rank)?);
            }
            for (name, versions) in provides {
                release.provides.insert(ContentId::new(name)?, versions.into_iter().collect::<Provided>());
            }
            releases.push(release);
        }
        universe.add(Content {
            id: ContentId::new(name)?,
            title: name.clone(),
            about: String::new(),
            catalogue: "lists".into(),
            releases,
        });
    }
    Ok(universe)
}

fn refusals(name: &str, package: &Package, range: &dyn Fn(&Named) -> String) -> Result<Relations, Failure> {
    let mut refused: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for other in package.conflicts.iter().filter(|other| other.name != name) {
        let range = range(other);
        // One that holds nothing refuses nothing.
        if VersionRange::parse(&range).is_ok() {
            refused.entry(&other.name).or_default().push(range);
        }
    }
    let pair = |(name, ranges): (&str, Vec<String>)| {
        Ok((ContentId::new(name)?, VersionRange::parse(&ranges.join(" || "))?))
    };
    refused.into_iter().map(pair).collect()
}

/// Checks a set of packages by what the list says of them: a checker that knows nothing of the solver, nor of ranks.
fn breaks(chosen: &BTreeMap<&str, &Package>) -> Option<String> {
    let mut bearers: HashMap<&str, Vec<(&str, Option<&str>)>> = HashMap::new();
    for (name, package) in chosen {
        bearers.entry(name).or_default().push((name, Some(&package.version)));
        for (provided, version) in package.provides.iter().filter(|(provided, _)| provided != name) {
            bearers.entry(provided).or_default().push((name, version.as_deref()));
        }
    }
    let takes = |named: &Named, version: Option<&str>| match (&named.range, version) {
        (None, _) => true,
        (Some(_), None) => false,
        (Some((comparison, bound)), Some(version)) => {
            let order = compare(version, bound);
            match comparison.as_str() {
                "<<" | "<" => order.is_lt(),
                "<=" => order.is_le(),
                ">>" | ">" => order.is_gt(),
                ">=" => order.is_ge(),
                _ => order.is_eq(),
            }
        }
    };
    let bearers_of = |named: &Named| bearers.get(named.name.as_str()).map_or(&[][..], Vec::as_slice);
    for (name, package) in chosen {
        let is_met = |named: &Named| bearers_of(named).iter().any(|(_, version)| takes(named, *version));
        if let Some(group) = package.depends.iter().find(|group| !group.iter().any(is_met)) {
            return Some(format!("{name} needs {group:?}"));
        }
        let is_refused = |named: &&Named| {
            named.name != **name
                && bearers_of(named).iter().any(|(who, version)| who != name && takes(named, *version))
        };
        if let Some(other) = package.conflicts.iter().find(is_refused) {
            return Some(format!("{name} refuses {other:?}"));
        }
    }
    None
}

#[test]
fn package_versions_compare_as_the_policy_says() {
    for (a, b) in [
        ("1.0~rc1", "1.0"),
        ("1.0", "1.0-1"),
        ("1.9", "1.10"),
        ("1:0", "2:0"),
        ("9", "1:0"),
        ("1.0", "1.0a"),
        ("1.0a", "1.0+b"),
    ] {
        assert!(compare(a, b).is_lt() && compare(b, a).is_gt(), "{a} < {b}");
    }
    assert!(compare("1.0", "0:1.00-0").is_eq());
}

/// Packages that refuse one that is listed: half of the questions ask for both, and often there is no answer.
fn quarrels(packages: &Packages) -> Vec<(&String, &String)> {
    packages
        .iter()
        .flat_map(|(name, versions)| versions.iter().map(move |package| (name, package)))
        .flat_map(|(name, package)| package.conflicts.iter().map(move |other| (name, other)))
        .filter(|(name, other)| {
            other.range.is_none() && packages.contains_key(&other.name) && **name != other.name
        })
        .map(|(name, other)| (name, &other.name))
        .collect()
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
    let quarrels = quarrels(&packages);
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
            Resolution::Lineup(chosen) => {
                solved += 1;
                largest = largest.max(chosen.len());
                let releases = chosen.iter().map(|(id, version)| {
                    // A release's place among the content's releases is that of its rank.
                    let mut versions: Vec<&Package> = packages[id.as_str()].iter().collect();
                    versions.sort_by(|a, b| compare(&b.version, &a.version));
                    let content = universe.get(id).map_or(&[][..], |content| &content.releases);
                    let at = content.iter().position(|release| release.version == *version);
                    Some((id.as_str(), *versions.get(at?)?))
                });
                let mut set: BTreeMap<&str, &Package> =
                    releases.collect::<Option<_>>().ok_or("an unknown release")?;
                assert_eq!(breaks(&set), None, "{wants:?}");
                for id in chosen.keys().filter(|id| !wants.contains_key(*id)) {
                    let Some(package) = set.remove(id.as_str()) else { continue };
                    assert!(breaks(&set).is_some(), "{id} is needless for {wants:?}");
                    set.insert(id.as_str(), package);
                    // Each is asked about on small lineups; on large ones some are.
                    if chosen.len() > 80 && below(10) > 0 {
                        break;
                    }
                }
                let Resolution::Lineup(again) = solve(&Question { locked: &chosen, ..question }) else {
                    return Err(format!("{wants:?} has no lineup any more once it is locked").into());
                };
                assert_eq!(again, chosen);
            }
            Resolution::None(why) => {
                refused += 1;
                assert!(!why.because.is_empty() && why.because.len() <= 30, "{wants:?}");
                for way in why.ways_out.iter().filter(|way| !way.wants.is_empty()) {
                    ways += 1;
                    let mut changed = wants.clone();
                    changed.retain(|id, _| !way.wants.iter().any(|(other, _)| other == id));
                    let after = solve(&Question { wants: &changed, ..question });
                    assert!(matches!(after, Resolution::Lineup(_)), "{} does not help {wants:?}", way.change);
                }
            }
            other => return Err(format!("{wants:?}: {other:?}").into()),
        }
    }
    println!(
        "{} packages ({} with several versions), {QUESTIONS} questions: {solved} lineups (the largest of {largest}), {refused} refused, {ways} ways out tried",
        packages.len(),
        packages.values().filter(|versions| versions.len() > 1).count()
    );
    Ok(())
}
