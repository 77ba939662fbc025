use globset::Glob;
use proptest::prelude::*;

use super::*;
use crate::game::load;

/// A game with a kind of each shape.
fn game() -> Game {
    let text = r#"
format = 1
name = "x"
title = "X"
[recognise]
all = ["x.conf"]
[kind.mod]
shape = "folder"
marker = ["mod.conf"]
describe = [{ file = "mod.conf", id = "/name" }]
place = [{ take = "keys/**", into = "" }, { into = "mods/{{ content.id }}/" }]
[kind.map]
shape = "file"
suffix = ".kmap"
magic = "KMAP"
length = { at = 4, plus = 8 }
companions = ["{{ name }}.lanes"]
describe = [{ file = "{{ name }}.lanes", as = "lines", welcomes = { item = '^sky: (?<id>\w+)$' } }]
place = [{ take = "*.lanes", into = "bots/" }, { into = "maps/" }]
[[leave-out]]
files = ["**/*.bak"]
why = "an old copy"
[run]
command = ["x"]
stop = "TERM"
ready = "ready"
"#;
    load("x.toml", text).unwrap()
}

fn bundle(files: &[(&str, &[u8])]) -> MemoryBundle {
    MemoryBundle { files: files.iter().map(|(path, bytes)| ((*path).to_owned(), bytes.to_vec())).collect() }
}

fn sorted(files: &[(&str, &[u8])], asked: &Asked) -> Sorted {
    sort_out(&game(), "download", &mut bundle(files), asked).unwrap()
}

const MAP: &[u8] = b"KMAP\x02\0\0\0ab";

fn found(sorted: &Sorted) -> Vec<(String, String, Vec<String>)> {
    let names = |found: &SortedContent| found.files.iter().map(|file| file.path.clone()).collect();
    sorted
        .contents
        .iter()
        .map(|found| (found.content.id.to_string(), found.root.clone(), names(found)))
        .collect()
}

#[test]
fn folders_keep_what_is_theirs_and_wrappers_fall_away() {
    let lamps = [
        ("w/lamps-main/mod.conf", &b"name = lamps"[..]),
        ("w/lamps-main/README.md", b""),
        ("w/lamps-main/a/b.png", b""),
    ];
    let mut files = lamps.to_vec();
    files.extend([
        ("w/oil/mod.conf", &b"name = oil"[..]),
        ("w/README.txt", b""),
        ("w/start.sh", b""),
        ("w/.DS_Store", b""),
    ]);
    let sorted = sorted(&files, &Asked::default());
    assert_eq!(
        found(&sorted),
        [
            (
                "lamps".into(),
                "w/lamps-main".into(),
                vec!["README.md".into(), "a/b.png".into(), "mod.conf".into()]
            ),
            ("oil".into(), "w/oil".into(), vec!["mod.conf".into()]),
        ]
    );
    let left: Vec<(&str, &str)> =
        sorted.left_out.iter().map(|left| (left.path.as_str(), left.why.as_str())).collect();
    assert_eq!(
        left,
        [
            ("w/.DS_Store", "system litter"),
            ("w/README.txt", "for people to read"),
            ("w/start.sh", "a start script; yours stays")
        ]
    );
    assert!(sorted.unrouted.is_empty());
}

#[test]
fn files_take_their_companions_along_wherever_they_lie() {
    let files = [
        ("a/gull.kmap", MAP),
        ("b/gull.lanes", b"sky: dusk"),
        ("a/pier.kmap", MAP),
        ("a/pier.lanes", b""),
        ("a/pier.kmap.bak", b"x"),
        ("a/lost.lanes", b""),
    ];
    let sorted = sorted(&files, &Asked::default());
    let names: Vec<Vec<String>> = found(&sorted).into_iter().map(|(_, _, names)| names).collect();
    assert_eq!(names, [["gull.kmap", "gull.lanes"], ["pier.kmap", "pier.lanes"]]);
    assert!(sorted.contents[0].content.release.welcomes.keys().any(|id| id.as_str() == "dusk"));
    assert_eq!(sorted.unrouted, ["a/lost.lanes"], "what belongs to nobody is named");
    assert_eq!(sorted.left_out[0].why, "an old copy");
}

#[test]
fn files_that_only_bear_the_name_are_told() {
    let files = [
        ("cut.kmap", &MAP[..9]),
        ("zip.kmap", b"PK\x03\x04"),
        ("page.kmap", b"<html>"),
        ("empty.kmap", b""),
        ("odd.kmap", b"odd"),
    ];
    let sorted = sorted(&files, &Asked::default());
    let told: BTreeMap<&str, &str> =
        sorted.broken.iter().map(|(path, why)| (path.as_str(), why.as_str())).collect();
    assert_eq!(told["cut.kmap"], "it is truncated: 9 of 10 bytes");
    assert_eq!(told["zip.kmap"], "it is a zip archive under another name");
    assert_eq!(told["page.kmap"], "it is a web page, not the file");
    assert_eq!(
        [told["empty.kmap"], told["odd.kmap"]],
        ["it is empty", "it does not begin as such a file does"]
    );
    assert!(sorted.contents.is_empty());
}

#[test]
fn the_administrator_has_the_last_word() {
    let files = [("pier.kmap", MAP), ("extra/wind.dat", b"w"), ("extra/notes.dat", b"n")];
    let glob = |text: &str| Glob::new(text).unwrap().compile_matcher();
    let asked = Asked {
        place: vec![(glob("extra/wind.*"), TreePath::new("weather").unwrap())],
        leave: vec![glob("**/notes.*")],
        ..Asked::default()
    };
    let sorted = sorted(&files, &asked);
    let to = sorted.contents[0].files[1].to.as_ref().map(ToString::to_string);
    assert_eq!(to.as_deref(), Some("weather/wind.dat"));
    assert_eq!(sorted.left_out[0].why, "you said so");
    assert!(sorted.unrouted.is_empty());
}

#[test]
fn each_rule_of_placing_takes_its_files() {
    let game = game();
    let file = |path: &str, to: Option<&str>| PayloadFile {
        path: path.into(),
        size: 1,
        digest: Digest::of(b""),
        to: to.map(|to| TreePath::new(to).unwrap()),
    };
    let mut scope = Scope::default();
    scope.content.insert("id".into(), "lamps".into());
    for (kind, path, to, expected) in [
        ("map", "gull.kmap", None, "maps/gull.kmap"),
        ("map", "gull.lanes", None, "bots/gull.lanes"),
        ("map", "x.dat", Some("weather/x.dat"), "weather/x.dat"),
        ("mod", "a/b.png", None, "mods/lamps/a/b.png"),
        ("mod", "keys/a.key", None, "keys/a.key"),
    ] {
        assert_eq!(destination(&game.kinds[kind], &scope, &file(path, to)).unwrap().as_str(), expected);
    }
    assert!(destination(&game.kinds["map"], &scope, &file("../x.kmap", None)).is_err());
}

#[test]
fn names_without_a_descriptor_tell_the_version() {
    for (stem, name, version) in [
        ("night-lamps-1.2", "night-lamps", Some("1.2")),
        ("night_lamps_v2.0.1", "night_lamps", Some("2.0.1")),
        ("pier-7", "pier-7", None),
        ("night-lamps", "night-lamps", None),
        ("-1.2", "-1.2", None),
    ] {
        let (found, told) = split_version(stem);
        assert_eq!((found, told.map(|version| version.to_string()).as_deref()), (name, version), "{stem}");
    }
}

fn a_path() -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        Just("mod.conf"),
        Just("a.kmap"),
        Just("a.lanes"),
        Just("README.md"),
        Just("x.bak"),
        Just("install.sh"),
        Just("__MACOSX"),
        Just("deep"),
        Just("keys"),
        Just("b.dat"),
        Just("inner.zip")
    ];
    proptest::collection::vec(piece, 1..4).prop_map(|pieces| pieces.join("/"))
}

proptest! {
    #[test]
    fn every_file_is_in_exactly_one_place(paths in proptest::collection::btree_set(a_path(), 0..14)) {
        let files: Vec<(&str, &[u8])> = paths
            .iter()
            .map(|path| {
                let bytes: &[u8] = if path.ends_with("mod.conf") { b"name = m" } else if path.ends_with("a.kmap") { MAP } else { b"x" };
                (path.as_str(), bytes)
            })
            .collect();
        let sorted = sorted(&files, &Asked::default());
        let mut seen: Vec<&str> = sorted.contents.iter().flat_map(|found| &found.files).map(|file| file.from.as_str()).collect();
        seen.extend(sorted.left_out.iter().map(|left| left.path.as_str()));
        seen.extend(sorted.inner.iter().chain(&sorted.unrouted).map(String::as_str));
        seen.extend(sorted.broken.iter().map(|(path, _)| path.as_str()));
        seen.sort_unstable();
        let all: Vec<&str> = paths.iter().map(String::as_str).collect();
        prop_assert_eq!(seen, all);
    }
}
