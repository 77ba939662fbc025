//! What each verb of registration does to files of a server that others write as well: put in, found again, taken out.

use proptest::prelude::*;

use crate::{
    change::*,
    document::{Pointer, Value},
};

type Texts = BTreeMap<TreePath, String>;

fn path(text: &str) -> TreePath {
    TreePath::new(text).unwrap()
}

fn registration(content: &str, file: &str, format: Format, at: &str, entry: Entry) -> Registration {
    Registration {
        content: ContentId::new(content).unwrap(),
        file: path(file),
        format,
        pointer: Pointer::parse(at).unwrap(),
        create: format.head().into(),
        waits: false,
        exclusive: false,
        enables: false,
        entry,
    }
}

fn item(text: &str, separator: Option<&str>, last: Option<&str>) -> Entry {
    Entry::Item {
        item: text.into(),
        ordered: true,
        separator: separator.map(str::to_owned),
        alone: false,
        last: last.map(str::to_owned),
        seen_as: None,
        anywhere: false,
    }
}

/// What a region and a carried content mean on a moor.
fn region(name: &str) -> Vec<Registration> {
    let row = serde_json::json!({ "weight": 10, "points": format!("regions/{name}/spawn.pts") });
    let number = Entry::Number { item: name.into(), consecutive: true };
    let text = format!("on_{name}: true");
    vec![
        registration(name, "regions.index", Format::Pairs, "", number),
        registration(
            name,
            "spawn.tbl",
            Format::Table,
            &format!("/spawn/{name}"),
            Entry::Set(Value::Compound(row)),
        ),
        registration(
            name,
            "garrow.ini",
            Format::Ini,
            "/Hosting/ground",
            item(name, Some("; "), Some("Basemarsh")),
        ),
        registration(name, "garrow.ini", Format::Ini, "/Hosting/carried", item(name, Some("; "), None)),
        registration(name, "launch.args", Format::Arguments, "/carry", item(name, None, None)),
        registration(name, "rules.yml", Format::Yaml, "", Entry::Block { name: name.into(), text }),
    ]
}

fn settle(texts: &mut Texts, receipt: &mut Receipt, names: &[&str]) -> ChangeSet {
    let registrations = names.iter().flat_map(|name| region(name)).collect();
    let desired = Desired { registrations, ..Desired::default() };
    let present = Present {
        texts: texts.iter().map(|(path, text)| (path.clone(), text.as_str().into())).collect(),
        ..Present::default()
    };
    let change = plan(&desired, BTreeMap::new(), receipt, &present).unwrap();
    for step in &change.steps {
        match step {
            Step::Put { path, source: Source::Text(file), .. } => {
                texts.insert(path.clone(), file.text().to_owned());
            }
            Step::SetAside { path, .. } => drop(texts.remove(path)),
            _ => {}
        }
    }
    *receipt = change.receipt.clone();
    change
}

fn moor() -> Texts {
    [
        ("regions.index", "# ours\n1: Basemarsh\n"),
        ("spawn.tbl", "spawn = {\n    [\"Basemarsh\"] = { weight = 10, points = \"x\" },\n}\n"),
        ("garrow.ini", "# moor\n[Hosting]\ncarried =\nground = Basemarsh\n"),
        ("launch.args", "--port 2410 --saves main\n"),
        ("rules.yml", "mist: 30\n"),
    ]
    .map(|(name, text)| (path(name), text.to_owned()))
    .into()
}

#[test]
fn each_verb_writes_what_it_should() {
    let (mut texts, mut receipt) = (moor(), Receipt::empty());
    settle(&mut texts, &mut receipt, &["Reedfen", "Heronry"]);
    let expected = [
        ("regions.index", "# ours\n1: Basemarsh\n2: Reedfen\n3: Heronry\n"),
        (
            "spawn.tbl",
            "spawn = {\n    [\"Basemarsh\"] = { weight = 10, points = \"x\" },\n    \
             [\"Reedfen\"] = { weight = 10, points = \"regions/Reedfen/spawn.pts\" },\n    \
             [\"Heronry\"] = { weight = 10, points = \"regions/Heronry/spawn.pts\" },\n}\n",
        ),
        (
            "garrow.ini",
            "# moor\n[Hosting]\ncarried = Reedfen; Heronry\nground = Reedfen; Heronry; Basemarsh\n",
        ),
        ("launch.args", "--port 2410 --saves main --carry Reedfen --carry Heronry\n"),
        (
            "rules.yml",
            "mist: 30\n# yalotheca: Reedfen\non_Reedfen: true\n# yalotheca: end of Reedfen\n\
             # yalotheca: Heronry\non_Heronry: true\n# yalotheca: end of Heronry\n",
        ),
    ];
    for (name, text) in expected {
        assert_eq!(texts[&path(name)], text, "{name}");
    }
    assert!(
        settle(&mut texts, &mut receipt, &["Reedfen", "Heronry"]).is_empty(),
        "again there is nothing to do"
    );
}

#[test]
fn numbers_stay_without_a_gap() {
    let (mut texts, mut receipt) = (moor(), Receipt::empty());
    settle(&mut texts, &mut receipt, &["Reedfen", "Heronry", "Sedge"]);
    let change = settle(&mut texts, &mut receipt, &["Heronry", "Sedge"]);
    assert_eq!(texts[&path("regions.index")], "# ours\n1: Basemarsh\n2: Heronry\n3: Sedge\n");
    let line = change.config.iter().find(|line| line.path == path("regions.index")).unwrap();
    assert_eq!(line.entries[0].what, "2: Reedfen");
    // Somebody wrote it twice: once is enough.
    texts.insert(path("regions.index"), "1: Basemarsh\n2: Heronry\n3: Sedge\n4: Heronry\n".into());
    settle(&mut texts, &mut receipt, &["Heronry", "Sedge"]);
    assert_eq!(texts[&path("regions.index")], "1: Basemarsh\n2: Heronry\n3: Sedge\n");
}

#[test]
fn a_server_that_writes_its_files_anew_loses_and_doubles_nothing() {
    let (mut texts, mut receipt) = (moor(), Receipt::empty());
    settle(&mut texts, &mut receipt, &["Reedfen", "Heronry"]);
    // Sorted, without comments, with defaults added.
    texts.insert(
        path("garrow.ini"),
        "[Hosting]\ncarried = Reedfen;Heronry\ngame_port = 2410\nground = Reedfen;Heronry;Basemarsh\n".into(),
    );
    texts.insert(
        path("spawn.tbl"),
        "spawn = { Basemarsh = { weight = 10, points = 'x' }, Heronry = { points = 'regions/Heronry/spawn.pts', weight = 10.0 }, \
         Reedfen = { points = 'regions/Reedfen/spawn.pts', weight = 10 } }\n"
            .into(),
    );
    assert!(settle(&mut texts, &mut receipt, &["Reedfen", "Heronry"]).is_empty(), "no drift");
    settle(&mut texts, &mut receipt, &[]);
    assert_eq!(texts[&path("garrow.ini")], "[Hosting]\ncarried =\ngame_port = 2410\nground = Basemarsh\n");
    assert_eq!(texts[&path("spawn.tbl")], "spawn = { Basemarsh = { weight = 10, points = 'x' } }\n");
}

#[test]
fn what_stands_behind_an_item_is_no_second_one() {
    let entry = |name: &str| Entry::Item {
        item: Value::Text(format!("plugins/{name}.so")),
        ordered: true,
        separator: None,
        alone: false,
        last: None,
        seen_as: Some("^(?<item>[^,]+)".into()),
        anywhere: false,
    };
    let loads = |names: &[&str]| Desired {
        registrations: names
            .iter()
            .map(|name| registration(name, "server.conf", Format::Options, "/-loadplugin", entry(name)))
            .collect(),
        ..Desired::default()
    };
    let plan_on = |text: &str, names: &[&str], receipt: &Receipt| {
        let texts = [(path("server.conf"), text.into())].into();
        plan(&loads(names), BTreeMap::new(), receipt, &Present { texts, ..Present::default() }).unwrap()
    };
    let text_of = |change: &ChangeSet| match change.steps.first() {
        Some(Step::Put { source: Source::Text(file), .. }) => file.text().to_owned(),
        other => panic!("{other:?}"),
    };
    let there = "-p 5154\n-loadplugin plugins/b.so,10\n-loadplugin Mine\n";
    let change = plan_on(there, &["a", "b"], &Receipt::empty());
    assert_eq!(
        text_of(&change),
        "-p 5154\n-loadplugin plugins/a.so\n-loadplugin plugins/b.so,10\n-loadplugin Mine\n"
    );
    // Turned around, the arguments go along.
    let turned = plan_on(&text_of(&change), &["b", "a"], &change.receipt);
    let text = text_of(&turned);
    assert!(text.find("b.so,10") < text.find("a.so"), "{text}");
    // Other entries stay. One that loads a dropped content is removed, even if it was written by hand.
    let left = plan_on(&text, &[], &turned.receipt);
    assert_eq!(text_of(&left), "-p 5154\n-loadplugin Mine\n");
}

#[test]
fn one_place_has_one_writer() {
    let row = |content: &str, at: &str, exclusive: bool| Registration {
        exclusive,
        enables: false,
        ..registration(content, "x.json", Format::Json, at, Entry::Set(Value::Whole(1)))
    };
    let disputed = |one: Registration, two: Registration| {
        let desired = Desired { registrations: vec![one, two], ..Desired::default() };
        plan(&desired, BTreeMap::new(), &Receipt::empty(), &Present::default()).is_err()
    };
    assert!(!disputed(row("a", "/x", false), row("b", "/x", false)), "the same value is no dispute");
    assert!(disputed(row("a", "/x", true), row("b", "/x", true)), "but of two tweaks it is");
    assert!(disputed(row("a", "/x", false), row("b", "/x/y", false)), "one within the other");
    assert!(!disputed(row("a", "/x", true), row("b", "/xy", true)));
}

proptest! {
    #[test]
    fn any_way_back_to_nothing_gives_the_same_bytes(
        ways in proptest::collection::vec(proptest::sample::subsequence(vec!["Reedfen", "Heronry", "Sedge", "Tarn"], 0..=4), 1..5),
    ) {
        let (start, mut texts, mut receipt) = (moor(), moor(), Receipt::empty());
        for way in ways {
            settle(&mut texts, &mut receipt, &way);
            prop_assert!(settle(&mut texts, &mut receipt, &way).is_empty(), "{:?}", texts);
            for text in texts.values() {
                for name in &way {
                    prop_assert!(text.contains(name), "{name} is not in {text}");
                }
            }
        }
        settle(&mut texts, &mut receipt, &[]);
        prop_assert_eq!(texts, start);
    }
}

#[test]
fn a_list_in_a_section_that_is_not_there_makes_the_section() {
    let entry = Entry::Item {
        item: Value::Text("heron".into()),
        ordered: false,
        separator: None,
        alone: false,
        last: None,
        seen_as: None,
        anywhere: false,
    };
    let wanted = Desired {
        registrations: vec![registration("heron", "garrow.ini", Format::Ini, "/Mods/carried", entry)],
        ..Desired::default()
    };
    let plan_on = |text: &str, desired: &Desired, receipt: &Receipt| {
        let texts = [(path("garrow.ini"), text.into())].into();
        plan(desired, BTreeMap::new(), receipt, &Present { texts, ..Present::default() }).unwrap()
    };
    let before = "[Hosting]\ntitle = Moor\n";
    let change = plan_on(before, &wanted, &Receipt::empty());
    let Some(Step::Put { source: Source::Text(file), .. }) = change.steps.first() else {
        panic!("{change:?}")
    };
    assert_eq!(file.text(), "[Hosting]\ntitle = Moor\n\n[Mods]\ncarried = heron\n");
    let gone = plan_on(file.text(), &Desired::default(), &change.receipt);
    let Some(Step::Put { source: Source::Text(file), .. }) = gone.steps.first() else { panic!("{gone:?}") };
    assert_eq!(file.text(), before);
}

#[test]
fn what_stays_at_the_end_and_was_not_there_goes_with_the_last_item() {
    let entry = |item: &str| Entry::Item {
        item: Value::Text(item.into()),
        ordered: false,
        separator: Some("; ".into()),
        alone: false,
        last: Some("Basemarsh".into()),
        seen_as: None,
        anywhere: false,
    };
    let wanted = Desired {
        registrations: vec![registration("fen", "garrow.ini", Format::Ini, "/Hosting/ground", entry("Fen"))],
        ..Desired::default()
    };
    let plan_on = |text: &str, desired: &Desired, receipt: &Receipt| {
        let texts = [(path("garrow.ini"), text.into())].into();
        plan(desired, BTreeMap::new(), receipt, &Present { texts, ..Present::default() }).unwrap()
    };
    let before = "[Hosting]\nground = Upland\n";
    let change = plan_on(before, &wanted, &Receipt::empty());
    let Some(Step::Put { source: Source::Text(file), .. }) = change.steps.first() else {
        panic!("{change:?}")
    };
    assert_eq!(file.text(), "[Hosting]\nground = Upland; Fen; Basemarsh\n");
    let gone = plan_on(file.text(), &Desired::default(), &change.receipt);
    let Some(Step::Put { source: Source::Text(file), .. }) = gone.steps.first() else { panic!("{gone:?}") };
    assert_eq!(file.text(), before);
}
