//! What a check says of a change set and of what a lineup breaks.

use yalotheca_core::{
    catalogue::{AnyOf, Platform, Release, Universe},
    change::{ChangeSet, ConfigLine, EntryAct, EntryLine, FileAct, FileLine, KeptLine},
    check::{Finding, MEANINGS, Weight, of_breaches, of_change},
    id::{ContentId, Digest, TreePath},
    solve::{Selection, verify},
    version::{ReleaseVersion, VersionRange},
};

use crate::Done;

type Whatever = Box<dyn std::error::Error>;

fn file(act: FileAct, name: &str, content: &str) -> Result<FileLine, Whatever> {
    Ok(FileLine { act, path: TreePath::new(name)?, from: None, size: 3, content: ContentId::new(content)? })
}

fn says(findings: &[Finding]) -> Vec<String> {
    findings.iter().map(|finding| format!("{}: {}", finding.code, finding.says)).collect()
}

#[test]
fn each_act_on_a_file_is_a_finding() -> Done {
    let mut moved = file(FileAct::Move, "plugins/a.swp", "a")?;
    moved.from = Some(TreePath::new("plugins/plugins/a.swp")?);
    let change = ChangeSet {
        files: vec![
            moved,
            file(FileAct::Put, "plugins/b.swp", "b")?,
            file(FileAct::Restore, "plugins/c.swp", "c")?,
            file(FileAct::Displace, "plugins/e.swp", "e")?,
            file(FileAct::Aside, "plugins/f.swp", "f")?,
        ],
        kept: vec![KeptLine {
            path: TreePath::new("plugins/d.swp")?,
            content: Some(ContentId::new("d")?),
            put: Digest::of(b"d"),
            beside: None,
        }],
        ..ChangeSet::default()
    };
    assert_eq!(
        says(&of_change(&change)),
        [
            "wrong-folder: a lies at plugins/plugins/a.swp, where the server does not look; it belongs at plugins/a.swp",
            "missing-file: plugins/b.swp of b is not there",
            "missing-file: plugins/c.swp of c is gone",
            "other-file: plugins/e.swp is not the file of e that belongs there",
            "left-over: plugins/f.swp belongs to nothing that is installed",
            "altered-file: plugins/d.swp of d was edited since Yalotheca installed it",
        ]
    );
    Ok(())
}

#[test]
fn many_files_of_one_content_are_one_finding() -> Done {
    let files = (0..40).map(|number| file(FileAct::Restore, &format!("mods/a/{number}"), "a"));
    let change = ChangeSet { files: files.collect::<Result<_, _>>()?, ..ChangeSet::default() };
    let findings = of_change(&change);
    assert_eq!(says(&findings), ["missing-file: 40 files of a are gone, the first is mods/a/0"]);
    assert!(findings.iter().all(|finding| finding.weight == Weight::Trouble));
    Ok(())
}

#[test]
fn each_act_on_an_entry_is_a_finding() -> Done {
    let acts = [
        (EntryAct::Add, "not-registered: order.txt lacks a"),
        (EntryAct::Set, "registered-wrong: order.txt should say a"),
        (EntryAct::Move, "order: order.txt has a in the wrong place of the order"),
        (EntryAct::Remove, "left-over: order.txt still has a"),
        (EntryAct::Restore, "left-over: order.txt still has a"),
        (EntryAct::Leave, "changed-by-hand: order.txt has a"),
    ];
    for (act, expected) in acts {
        let entry = EntryLine { act, what: "a".into(), content: ContentId::new("a")? };
        let path = TreePath::new("order.txt")?;
        let config = vec![ConfigLine::new(&path, false, false, vec![entry])];
        let change = ChangeSet { config, ..ChangeSet::default() };
        assert_eq!(says(&of_change(&change)), [expected]);
    }
    Ok(())
}

struct World {
    universe: Universe,
    platform: Platform,
    selection: Selection,
}

impl World {
    fn new() -> Self {
        Self { universe: Universe::default(), platform: Platform::default(), selection: Selection::new() }
    }

    fn add(&mut self, name: &str, version: &str, change: impl FnOnce(&mut Release) -> Done) -> Done {
        let (id, version) = (ContentId::new(name)?, ReleaseVersion::parse(version)?);
        let mut release = Release::new(version.clone(), "plugin");
        change(&mut release)?;
        self.universe.add_release(&id, "test", release);
        self.selection.insert(id, version);
        Ok(())
    }

    fn findings(&self) -> Vec<String> {
        says(&of_breaches(&verify(&self.universe, &self.platform, &self.selection)))
    }
}

fn relation(name: &str, range: &str) -> Result<(ContentId, VersionRange), Whatever> {
    Ok((ContentId::new(name)?, VersionRange::parse(range)?))
}

#[test]
fn each_breach_is_told_in_a_sentence() -> Done {
    let mut world = World::new();
    world.platform.parts.insert("engine".into(), ReleaseVersion::parse("2.4")?);
    world.add("tidebell", "1.4", |release| {
        release.needs.extend([relation("harbour-core", ">=2.1 <3")?, relation("lamp-oil", "*")?]);
        release.welcomes.extend([relation("gull-chat", ">=2")?]);
        release.refuses.extend([relation("quiet-bells", "*")?]);
        release.platforms.push([("engine".to_string(), VersionRange::parse(">=3")?)].into());
        Ok(())
    })?;
    world.add("harbour-core", "1.9", |_| Ok(()))?;
    world.add("gull-chat", "1.0", |_| Ok(()))?;
    world.add("quiet-bells", "1.0", |_| Ok(()))?;
    world.selection.insert(ContentId::new("forgotten")?, ReleaseVersion::parse("1")?);
    assert_eq!(
        world.findings(),
        [
            "unknown: nothing is known of the release of forgotten that is locked",
            "platform: tidebell 1.4 needs engine 3 or newer, and this server has engine 2.4",
            "needs: tidebell 1.4 needs harbour-core 2.1 or newer, below 3, and 1.9 is installed",
            "needs: tidebell 1.4 needs lamp-oil, which is not installed",
            "goes-with: tidebell goes with gull-chat 2 or newer, and 1.0 is there",
            "refuses: tidebell does not go together with quiet-bells",
        ]
    );
    Ok(())
}

#[test]
fn stand_ins_and_the_base_game_count() -> Done {
    let mut world = World::new();
    world.platform.provides.insert(ContentId::new("default")?, None);
    world.add("lamps", "1", |release| {
        release.needs.extend([relation("default", "*")?, relation("oil", ">=1")?]);
        release.needs_any.push(AnyOf::from_iter([relation("bells", "*")?, relation("horns", "*")?]));
        Ok(())
    })?;
    assert_eq!(
        world.findings(),
        [
            "needs: lamps 1 needs oil 1 or newer, which is not installed",
            "needs: lamps 1 needs bells or horns, which is not installed",
        ]
    );
    world.add("pack", "1", |release| {
        release.provides.insert(ContentId::new("oil")?, Some(ReleaseVersion::parse("1.2")?).into());
        release.provides.insert(ContentId::new("horns")?, None.into());
        Ok(())
    })?;
    assert!(world.findings().is_empty());
    Ok(())
}

/// Every code that is used has a meaning, and the guide has all of them.
#[test]
fn every_code_is_explained() -> Done {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
    let guide = std::fs::read_to_string(format!("{root}/docs/findings.md"))?;
    for (code, means) in MEANINGS {
        assert!(guide.contains(&format!("| `{code}` | {means} |")), "{code} in docs/findings.md");
    }
    let mut used = std::collections::BTreeSet::new();
    let pattern = regex::Regex::new(r#"Finding::(?:trouble|note)\(\s*"([a-z-]+)"|code = "([a-z-]+)""#)?;
    for file in ["core/src/check/mod.rs", "app/src/findings/mod.rs", "app/src/findings/strangers.rs"] {
        let text = std::fs::read_to_string(format!("{root}/crates/{file}"))?;
        used.extend(
            pattern
                .captures_iter(&text)
                .filter_map(|groups| Some(groups.get(1).or(groups.get(2))?.as_str().to_owned())),
        );
    }
    assert!(used.len() > 20, "{used:?}");
    for code in used {
        assert!(MEANINGS.iter().any(|(known, _)| *known == code), "{code} is not explained");
    }
    Ok(())
}
