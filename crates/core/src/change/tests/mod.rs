mod manifest;
mod verbs;

use proptest::prelude::*;

use super::*;
use crate::document::{Pointer, Value};

fn path(text: &str) -> TreePath {
    TreePath::new(text).unwrap()
}

fn id(text: &str) -> ContentId {
    ContentId::new(text).unwrap()
}

/// A server in memory, on which steps can be carried out.
#[derive(Clone, Default, PartialEq, Debug)]
struct Server {
    files: BTreeMap<TreePath, Vec<u8>>,
    folders: BTreeSet<TreePath>,
}

impl Server {
    fn with(files: &[(&str, &str)]) -> Self {
        let mut server = Self::default();
        for (name, text) in files {
            server.folders.extend(folders_above([path(name)].iter()));
            server.files.insert(path(name), text.as_bytes().to_vec());
        }
        server
    }

    fn present(&self) -> Present {
        let text = |bytes: &Vec<u8>| String::from_utf8(bytes.clone()).unwrap();
        Present {
            files: self.files.iter().map(|(p, b)| (p.clone(), (Digest::of(b), b.len() as u64))).collect(),
            texts: self.files.iter().map(|(p, b)| (p.clone(), text(b).as_str().into())).collect(),
            folders: self.folders.clone(),
            ..Present::default()
        }
    }

    fn carry_out(&mut self, change: &ChangeSet, payloads: &BTreeMap<Digest, Vec<u8>>) {
        for step in &change.steps {
            match step {
                Step::MakeFolder { path } => assert!(self.folders.insert(path.clone())),
                Step::Put { path, source, before, after, .. } => {
                    let bytes = match source {
                        Source::Text(file) => file.bytes(),
                        _ => payloads[after].clone(),
                    };
                    assert_eq!(Digest::of(&bytes), *after);
                    assert!(path.parent().is_none_or(|p| p.is_root() || self.folders.contains(&p)));
                    assert_eq!(self.files.insert(path.clone(), bytes).map(|b| Digest::of(&b)), *before);
                }
                Step::SetAside { path, before } => {
                    assert_eq!(Digest::of(&self.files.remove(path).unwrap()), *before);
                }
                Step::RemoveFolder { path } => {
                    if !self.files.keys().any(|file| file.is_within(path)) {
                        self.folders.remove(path);
                    }
                }
            }
        }
    }
}

fn desired(contents: &[&str]) -> (Desired, BTreeMap<Digest, Vec<u8>>) {
    let mut desired = Desired::default();
    let mut payloads = BTreeMap::new();
    for name in contents {
        let bytes = format!("the bytes of {name}").into_bytes();
        let digest = Digest::of(&bytes);
        let placement = Placement { content: id(name), size: bytes.len() as u64, digest };
        desired.placements.insert(path(&format!("plugins/{name}.swp")), placement);
        payloads.insert(digest, bytes);
        let base = Registration {
            content: id(name),
            file: path("plugins/order.txt"),
            format: Format::Lines,
            pointer: Pointer::root(),
            create: String::new(),
            waits: false,
            exclusive: false,
            enables: false,
            entry: Entry::Item {
                item: (*name).into(),
                ordered: true,
                separator: None,
                alone: false,
                last: None,
                seen_as: None,
                anywhere: false,
            },
        };
        let world = Registration {
            file: path("world/world.mt"),
            format: Format::Properties,
            pointer: Pointer::parse(&format!("/load_{name}")).unwrap(),
            entry: Entry::Set(Value::Text("true".into())),
            ..base.clone()
        };
        let packs = Registration {
            file: path("packs.json"),
            format: Format::Json,
            pointer: Pointer::parse("/on/list").unwrap(),
            create: "{}\n".into(),
            ..base.clone()
        };
        desired.registrations.extend([base, world, packs]);
    }
    (desired, payloads)
}

fn settle(server: &mut Server, receipt: &mut Receipt, contents: &[&str]) -> ChangeSet {
    let (desired, payloads) = desired(contents);
    let change = plan(&desired, BTreeMap::new(), receipt, &server.present()).unwrap();
    server.carry_out(&change, &payloads);
    *receipt = change.receipt.clone();
    change
}

const LIVED_IN: &[(&str, &str)] = &[
    ("plugins/order.txt", "# ours\ngull-chat\n"),
    ("world/world.mt", "gameid = minetest\nload_a = false\n"),
    ("readme.txt", "hello"),
];

#[test]
fn add_and_drop_leave_the_server_as_it_was() {
    let start = Server::with(LIVED_IN);
    let mut server = start.clone();
    let mut receipt = Receipt::empty();
    let change = settle(&mut server, &mut receipt, &["a", "b"]);
    assert_eq!(change.files.len(), 2);
    let text = |name: &str| String::from_utf8(server.files[&path(name)].clone()).unwrap();
    assert_eq!(text("plugins/order.txt"), "# ours\ngull-chat\na\nb\n");
    assert_eq!(text("world/world.mt"), "gameid = minetest\nload_a = true\nload_b = true\n");
    assert_eq!(text("packs.json"), "{\"on\": {\"list\": [\"a\", \"b\"]}}\n");
    assert!(settle(&mut server, &mut receipt, &["a", "b"]).is_empty());
    settle(&mut server, &mut receipt, &["b"]);
    settle(&mut server, &mut receipt, &[]);
    assert_eq!(server, start);
    assert_eq!(receipt, Receipt::empty());
}

#[test]
fn what_others_wrote_stays() {
    let mut server = Server::with(&[("plugins/order.txt", "a\n"), ("world/world.mt", "load_a = true\n")]);
    let mut receipt = Receipt::empty();
    let change = settle(&mut server, &mut receipt, &["a"]);
    assert!(change.config.iter().all(|line| line.path.as_str() == "packs.json"));
    // The server writes a line of its own, and somebody changes ours.
    let world = server.files.get_mut(&path("world/world.mt")).unwrap();
    world.extend_from_slice(b"load_zzz = false\n");
    assert!(settle(&mut server, &mut receipt, &["a"]).is_empty(), "no drift");
    settle(&mut server, &mut receipt, &[]);
    // An entry that enables a content is removed with it, even if it was written by hand.
    assert_eq!(server.files[&path("plugins/order.txt")], b"");
    assert_eq!(server.files[&path("world/world.mt")], b"load_a = true\nload_zzz = false\n");
}

#[test]
fn drift_is_told_and_mended() {
    let mut server = Server::default();
    let mut receipt = Receipt::empty();
    settle(&mut server, &mut receipt, &["a", "b"]);
    let settled = server.clone();
    server.files.remove(&path("plugins/a.swp"));
    server.files.insert(path("plugins/b.swp"), b"altered".to_vec());
    server.files.insert(path("plugins/order.txt"), b"b\na\n".to_vec());
    server.files.insert(path("world/world.mt"), b"load_a = true\nload_b = false\n".to_vec());
    let change = settle(&mut server, &mut receipt, &["a", "b"]);
    assert!(change.files.iter().all(|line| line.act == FileAct::Restore));
    let kept: Vec<_> = change.kept.iter().map(|kept| kept.path.as_str()).collect();
    assert_eq!(kept, ["plugins/b.swp"], "what somebody has changed is not missing");
    assert_eq!(
        server.files.insert(path("plugins/b.swp"), settled.files[&path("plugins/b.swp")].clone()).unwrap(),
        b"altered"
    );
    let acts: Vec<_> = change.config.iter().map(|line| (line.path.as_str(), line.entries[0].act)).collect();
    assert_eq!(acts, [("plugins/order.txt", EntryAct::Move), ("world/world.mt", EntryAct::Set)]);
    assert_eq!(server, settled);
}

#[test]
fn a_file_in_the_wrong_place_is_moved() {
    let mut server = Server::with(&[("plugins/plugins/a.swp", "the bytes of a")]);
    let mut receipt = Receipt::empty();
    let digest = Digest::of(b"the bytes of a");
    Arc::make_mut(&mut receipt.placed)
        .insert(path("plugins/plugins/a.swp"), Placed { content: id("a"), size: 14, digest });
    let change = settle(&mut server, &mut receipt, &["a"]);
    assert_eq!((change.files.len(), change.files[0].act), (1, FileAct::Move));
    assert!(server.files.contains_key(&path("plugins/a.swp")));
    assert!(!server.files.contains_key(&path("plugins/plugins/a.swp")));
}

#[test]
fn a_broken_file_and_a_dispute_change_nothing() {
    let server = Server::with(&[("packs.json", "{oops")]);
    let (desired, _) = desired(&["a"]);
    let error = plan(&desired, BTreeMap::new(), &Receipt::empty(), &server.present()).unwrap_err();
    assert!(error.to_string().starts_with("packs.json: line 1, column 2"), "{error}");
    let mut twice = desired.clone();
    let mut other = twice.registrations[1].clone();
    (other.content, other.entry) = (id("z"), Entry::Set(Value::Text("false".into())));
    twice.registrations.push(other);
    let error = plan(&twice, BTreeMap::new(), &Receipt::empty(), &Server::default().present()).unwrap_err();
    assert_eq!(error.to_string(), "a and z both write world/world.mt#/load_a");
}

proptest! {
    #[test]
    fn any_way_back_to_nothing_gives_the_same_bytes(
        ways in proptest::collection::vec(proptest::sample::subsequence(vec!["a", "b", "c", "d"], 0..=4), 1..5),
        order in prop_oneof![Just("x\ny"), Just("x\n"), Just("# c\n"), Just("")],
        packs in prop_oneof![Just("{}"), Just("{\"on\": {\"list\": [\"q\"]}}"), Just("{\n  \"on\": {\n    \"list\": [\n      \"q\"\n    ]\n  }\n}\n")],
    ) {
        let start = Server::with(&[("plugins/order.txt", order), ("packs.json", packs), ("world/world.mt", "a = 1\r\n")]);
        let mut server = start.clone();
        let mut receipt = Receipt::empty();
        for way in ways {
            settle(&mut server, &mut receipt, &way);
            prop_assert!(settle(&mut server, &mut receipt, &way).is_empty());
        }
        settle(&mut server, &mut receipt, &[]);
        prop_assert_eq!(server, start);
    }
}

/// What plays in turn, as one text or one line each: the list is the administrator's as a whole.
fn in_turn(names: &[&str], separator: Option<&str>) -> Desired {
    let (file, format, pointer) = match separator {
        Some(_) => ("server.cfg", Format::Keywords, "/sv_maprotation"),
        None => ("rotation.list", Format::Lines, ""),
    };
    let registration = |name: &&str| Registration {
        content: id(name),
        file: path(file),
        format,
        pointer: Pointer::parse(pointer).unwrap(),
        create: String::new(),
        waits: false,
        exclusive: false,
        enables: false,
        entry: Entry::Item {
            item: (*name).into(),
            ordered: true,
            separator: separator.map(str::to_owned),
            alone: true,
            last: None,
            seen_as: None,
            anywhere: false,
        },
    };
    Desired { registrations: names.iter().map(registration).collect(), ..Desired::default() }
}

#[test]
fn a_list_that_is_decided_whole_holds_nothing_else() {
    for (separator, file, before, after) in [
        (
            Some(" "),
            "server.cfg",
            "sv_map dm1\nsv_maprotation x dm1 # ours\n",
            "sv_map dm1\nsv_maprotation quay dm1 # ours\n",
        ),
        (None, "rotation.list", "# ours\nx\ndm1\n", "# ours\nquay\ndm1\n"),
    ] {
        let mut server = Server::with(&[(file, before)]);
        let change = plan(
            &in_turn(&["quay", "dm1"], separator),
            BTreeMap::new(),
            &Receipt::empty(),
            &server.present(),
        )
        .unwrap();
        server.carry_out(&change, &BTreeMap::new());
        assert_eq!(server.files[&path(file)], after.as_bytes(), "{file}");
        let acts: Vec<(EntryAct, &str)> =
            change.config[0].entries.iter().map(|entry| (entry.act, entry.what.as_str())).collect();
        assert_eq!(acts, [(EntryAct::Remove, "x"), (EntryAct::Add, "quay")]);
        // Again there is nothing to do; another order is another list.
        let receipt = change.receipt;
        let again = plan(&in_turn(&["quay", "dm1"], separator), BTreeMap::new(), &receipt, &server.present())
            .unwrap();
        assert!(again.steps.is_empty(), "{:?}", again.steps);
        let turned =
            plan(&in_turn(&["dm1", "quay"], separator), BTreeMap::new(), &receipt, &server.present())
                .unwrap();
        server.carry_out(&turned, &BTreeMap::new());
        let text = String::from_utf8(server.files[&path(file)].clone()).unwrap();
        assert!(text.find("dm1").unwrap() < text.rfind("quay").unwrap(), "{text}");
        // Left alone, what stood there before us stays.
        let left = plan(&Desired::default(), BTreeMap::new(), &turned.receipt, &server.present()).unwrap();
        server.carry_out(&left, &BTreeMap::new());
        let text = String::from_utf8(server.files[&path(file)].clone()).unwrap();
        assert!(text.contains("dm1") && !text.contains("quay"), "{text}");
    }
}

/// What should lie there: files of one content.
fn files_of_a(files: &[(&str, &str)]) -> (Desired, BTreeMap<Digest, Vec<u8>>) {
    let (mut desired, mut payloads) = (Desired::default(), BTreeMap::new());
    for (name, text) in files {
        let digest = Digest::of(text.as_bytes());
        let placement = Placement { content: id("a"), size: text.len() as u64, digest };
        desired.placements.insert(path(name), placement);
        payloads.insert(digest, text.as_bytes().to_vec());
    }
    (desired, payloads)
}

#[test]
fn of_equal_files_each_is_moved() {
    let mut server = Server::with(&[("old/x.txt", "same"), ("old/y.txt", "same")]);
    let mut receipt = Receipt::empty();
    for name in ["old/x.txt", "old/y.txt"] {
        let placed = Placed { content: id("a"), size: 4, digest: Digest::of(b"same") };
        Arc::make_mut(&mut receipt.placed).insert(path(name), placed);
    }
    let (desired, payloads) =
        files_of_a(&[("new/x.txt", "same"), ("new/y.txt", "same"), ("new/z.txt", "same")]);
    let change = plan(&desired, BTreeMap::new(), &receipt, &server.present()).unwrap();
    let lines: Vec<_> = change
        .files
        .iter()
        .map(|line| (line.act, line.path.as_str(), line.from.as_ref().map(TreePath::as_str)))
        .collect();
    assert_eq!(
        lines,
        [
            (FileAct::Move, "new/x.txt", Some("old/x.txt")),
            (FileAct::Move, "new/y.txt", Some("old/y.txt")),
            (FileAct::Put, "new/z.txt", None),
        ]
    );
    server.carry_out(&change, &payloads);
    assert_eq!(
        server.files.keys().map(TreePath::as_str).collect::<Vec<_>>(),
        ["new/x.txt", "new/y.txt", "new/z.txt"]
    );
}

#[test]
fn what_lies_beside_a_changed_file_is_the_newest_and_goes_with_it() {
    let mut server = Server::with(&[("mods/a.lua", "first")]);
    let mut receipt = Receipt::empty();
    let mut go_on = |server: &mut Server, text: Option<&str>, replace: bool| {
        let files: Vec<_> = text.map(|text| ("mods/a.lua", text)).into_iter().collect();
        let (desired, payloads) = files_of_a(&files);
        let mut present = server.present();
        if replace {
            let all =
                globset::GlobSetBuilder::new().add(globset::Glob::new("mods/**").unwrap()).build().unwrap();
            present.replace = Some(all);
        }
        let change = plan(&desired, BTreeMap::new(), &receipt, &present).unwrap();
        server.carry_out(&change, &payloads);
        receipt = change.receipt.clone();
        let texts: Vec<_> = server
            .files
            .iter()
            .map(|(path, bytes)| (path.as_str().to_owned(), String::from_utf8(bytes.clone()).unwrap()))
            .collect();
        (change.steps.len(), texts)
    };
    let file = |name: &str, text: &str| (name.to_owned(), text.to_owned());
    go_on(&mut server, Some("first"), false);
    server.files.insert(path("mods/a.lua"), b"patched".to_vec());
    let patched = file("mods/a.lua", "patched");
    assert_eq!(
        go_on(&mut server, Some("second"), false).1,
        [patched.clone(), file("mods/a.lua.newer", "second")]
    );
    assert_eq!(go_on(&mut server, Some("second"), false).0, 0, "there is nothing to do then");
    assert_eq!(
        go_on(&mut server, Some("third"), false).1,
        [patched.clone(), file("mods/a.lua.newer", "third")]
    );
    let kept = server.clone();
    server.files.remove(&path("mods/a.lua.newer"));
    assert_eq!(go_on(&mut server, Some("third"), false), (0, vec![patched]), "somebody removed it");
    server = kept;
    assert_eq!(go_on(&mut server, Some("fourth"), false).1.len(), 2);
    assert_eq!(go_on(&mut server, Some("fourth"), true).1, [file("mods/a.lua", "fourth")]);
    assert_eq!(go_on(&mut server, None, false).1, []);
}
