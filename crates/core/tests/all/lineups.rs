//! From a lineup to a desired state, and from that to steps: the whole way on values.

use std::collections::BTreeMap;

use yalotheca_core::{
    catalogue::{Member, Release, Side},
    change::{FileAct, Present, Receipt, Settled, Step, paths_of_interest, plan},
    control::{AsFound, Locked, MapsSection},
    desire::{Asked, DesireError, Desired, Entry, LineupEntry, desire},
    document::Value,
    game::{BUILT_IN, Game, Scope, load},
    id::{ContentId, Digest, TreePath},
    route::{Payload, PayloadFile},
    settings::Settings,
    version::ReleaseVersion,
};

use crate::Done;

type Whatever = Box<dyn std::error::Error>;

fn game(name: &str) -> Result<Game, Whatever> {
    let (name, text) = BUILT_IN.iter().find(|(known, _)| *known == name).ok_or("a built-in game")?;
    Ok(load(name, text)?)
}

fn scope(values: &[(&str, &str)]) -> Scope {
    Scope {
        folder: "/srv/harbour".into(),
        values: values.iter().map(|(name, text)| ((*name).into(), (*text).into())).collect(),
        ..Scope::default()
    }
}

fn locked(id: &str, kind: &str) -> Result<Locked, Whatever> {
    let release = Release::new(ReleaseVersion::parse("1.4")?, kind);
    Ok(Locked {
        id: ContentId::new(id)?,
        title: id.into(),
        catalogue: "q".into(),
        off: false,
        release,
        given: None,
        found: AsFound::default(),
    })
}

fn payload(names: &[&str]) -> Payload {
    let file = |name: &&str| PayloadFile {
        path: (*name).into(),
        size: 3,
        digest: Digest::of(name.as_bytes()),
        to: None,
    };
    Payload { files: names.iter().map(file).collect() }
}

fn state(game: &Game, scope: &Scope, lineup: &[(Locked, Payload)]) -> Result<Desired, DesireError> {
    let entries: Vec<LineupEntry<'_>> =
        lineup.iter().map(|(locked, payload)| LineupEntry { locked, payload }).collect();
    let (maps, settings, off) = (MapsSection::default(), Settings::new(), BTreeMap::new());
    desire(
        game,
        scope,
        &entries,
        Asked { maps: &maps, settings: &settings, off: &off, keep: &BTreeMap::new(), pack: None },
    )
}

#[test]
fn plugins_and_data_packs_have_their_places() -> Done {
    let game = game("saltwick")?;
    let lineup = [
        (locked("tidebell", "plugin")?, payload(&["tidebell-1.4.swp"])),
        (locked("cobbles", "datapack")?, payload(&["cobbles.zip"])),
    ];
    let desired = state(&game, &scope(&[("town", "gullhaven")]), &lineup)?;
    let paths: Vec<&str> = desired.placements.keys().map(TreePath::as_str).collect();
    assert_eq!(paths, ["plugins/tidebell-1.4.swp", "towns/gullhaven/packs/cobbles.zip"]);
    let entries: Vec<String> = desired
        .registrations
        .iter()
        .map(|r| match &r.entry {
            Entry::Item { item, ordered: true, .. } => format!("{} has {item} in its order", r.file),
            other => format!("{} has {other:?}", r.file),
        })
        .collect();
    assert_eq!(
        entries,
        [
            "plugins/order.txt has tidebell in its order",
            "towns/gullhaven/packs.json has cobbles in its order"
        ]
    );
    assert_eq!(desired.registrations[1].create, "[]\n");
    Ok(())
}

#[test]
fn each_member_of_a_pack_is_registered() -> Done {
    let game = game("luanti")?;
    let mut pack = locked("mesecons", "modpack")?;
    for name in ["mesecons", "mesecons_lamp"] {
        let (id, folder) = (ContentId::new(name)?, name.into());
        pack.release.members.push(Member {
            id,
            kind: "mod".into(),
            folder,
            needs: yalotheca_core::catalogue::Relations::new(),
        });
    }
    let lineup = [(pack, payload(&["modpack.txt", "mesecons/init.lua"]))];
    let desired = state(&game, &scope(&[("world", "worlds/quay"), ("game", "minetest")]), &lineup)?;
    let paths: Vec<&str> = desired.placements.keys().map(TreePath::as_str).collect();
    assert_eq!(
        paths,
        ["home/.minetest/mods/mesecons/mesecons/init.lua", "home/.minetest/mods/mesecons/modpack.txt"]
    );
    let places: Vec<String> =
        desired.registrations.iter().map(|r| format!("{}#{}", r.file, r.pointer)).collect();
    assert_eq!(
        places,
        ["worlds/quay/world.mt#/load_mod_mesecons", "worlds/quay/world.mt#/load_mod_mesecons_lamp"]
    );
    assert!(desired.registrations.iter().all(|r| r.entry == Entry::Set(Value::Text("true".into()))));
    Ok(())
}

#[test]
fn what_is_for_players_stays_off_the_server() -> Done {
    let mut look = locked("look", "plugin")?;
    look.release.side = Side::Player;
    let desired = state(&game("saltwick")?, &scope(&[("town", "b")]), &[(look, payload(&["look.swp"]))])?;
    assert_eq!(desired, Desired::default());
    Ok(())
}

#[test]
fn two_contents_cannot_place_one_file_and_kinds_must_be_known() -> Done {
    let game = game("saltwick")?;
    let scope = scope(&[("town", "b")]);
    let twice =
        [(locked("a", "plugin")?, payload(&["same.swp"])), (locked("b", "plugin")?, payload(&["same.swp"]))];
    let error = state(&game, &scope, &twice).err().ok_or("they clash")?;
    assert_eq!(error.to_string(), "a and b both place plugins/same.swp");
    let odd = [(locked("a", "hull")?, payload(&["a.swp"]))];
    let error = state(&game, &scope, &odd).err().ok_or("no such kind")?;
    assert_eq!(error.to_string(), "a: the game saltwick has no content kind \"hull\"");
    let leaving = [(locked("a", "plugin")?, payload(&["../../etc/passwd"]))];
    let error = state(&game, &scope, &leaving).err().ok_or("it leaves the server")?;
    assert!(error.to_string().contains("it leaves the folder"), "{error}");
    Ok(())
}

fn settled(lineup: &[(Locked, Payload)]) -> BTreeMap<ContentId, Settled> {
    lineup.iter().map(|(locked, payload)| (locked.id.clone(), Settled::new(payload.clone()))).collect()
}

#[test]
fn steps_come_in_the_order_in_which_a_server_can_bear_them() -> Done {
    let game = game("saltwick")?;
    let scope = scope(&[("town", "brinewick")]);
    let old = [(locked("gull-chat", "plugin")?, payload(&["gull-chat-1.0.swp"]))];
    let new = [(locked("gull-chat", "plugin")?, payload(&["gull-chat-1.1.swp"]))];
    let before = state(&game, &scope, &old)?;
    let first = plan(&before, settled(&old), &Receipt::empty(), &Present::default())?;
    let kinds: Vec<&str> = first.steps.iter().map(kind).collect();
    assert_eq!(kinds, ["make plugins", "put plugins/gull-chat-1.0.swp", "put plugins/order.txt"]);
    assert_eq!(first.receipt.created.len(), 1);

    let mut present = Present::default();
    present.files.insert(TreePath::new("plugins/gull-chat-1.0.swp")?, (Digest::of(b"gull-chat-1.0.swp"), 3));
    present.texts.insert(TreePath::new("plugins/order.txt")?, "gull-chat\n".into());
    present.folders.insert(TreePath::new("plugins")?);
    let desired = state(&game, &scope, &new)?;
    let second = plan(&desired, settled(&new), &first.receipt, &present)?;
    let kinds: Vec<&str> = second.steps.iter().map(kind).collect();
    assert_eq!(kinds, ["put plugins/gull-chat-1.1.swp", "aside plugins/gull-chat-1.0.swp"]);
    let acts: Vec<FileAct> = second.files.iter().map(|line| line.act).collect();
    assert_eq!(acts, [FileAct::Put, FileAct::Aside]);
    let (files, texts, folders) = paths_of_interest(&desired, &first.receipt);
    assert_eq!((files.len(), texts.len(), folders.len()), (2, 1, 1));

    let third = plan(&Desired::default(), BTreeMap::new(), &first.receipt, &present)?;
    let kinds: Vec<&str> = third.steps.iter().map(kind).collect();
    assert_eq!(kinds, ["aside plugins/order.txt", "aside plugins/gull-chat-1.0.swp", "remove plugins"]);
    assert!(third.config[0].removed);
    Ok(())
}

fn kind(step: &Step) -> &'static str {
    match step {
        Step::MakeFolder { .. } => "make plugins",
        Step::RemoveFolder { .. } => "remove plugins",
        Step::Put { path, .. } if path.name() == "order.txt" => "put plugins/order.txt",
        Step::Put { path, .. } if path.name().contains("1.1") => "put plugins/gull-chat-1.1.swp",
        Step::Put { .. } => "put plugins/gull-chat-1.0.swp",
        Step::SetAside { path, .. } if path.name() == "order.txt" => "aside plugins/order.txt",
        Step::SetAside { .. } => "aside plugins/gull-chat-1.0.swp",
    }
}

#[test]
fn a_file_of_somebody_else_in_the_way_is_kept_and_named() -> Done {
    let game = game("saltwick")?;
    let lineup = [(locked("tidebell", "plugin")?, payload(&["tidebell.swp"]))];
    let desired = state(&game, &scope(&[("town", "b")]), &lineup)?;
    let mut present = Present::default();
    present.files.insert(TreePath::new("plugins/tidebell.swp")?, (Digest::of(b"another"), 7));
    present.folders.insert(TreePath::new("plugins")?);
    let change = plan(&desired, settled(&lineup), &Receipt::empty(), &present)?;
    assert_eq!(change.files[0].act, FileAct::Displace);
    // The very same file is simply taken over.
    present.files.insert(TreePath::new("plugins/tidebell.swp")?, (Digest::of(b"tidebell.swp"), 3));
    let change = plan(&desired, settled(&lineup), &Receipt::empty(), &present)?;
    assert!(change.files.is_empty());
    assert_eq!(change.receipt.placed.len(), 1);
    Ok(())
}

#[test]
fn receipts_read_as_they_were_written() -> Done {
    let lineup = [(locked("tidebell", "plugin")?, payload(&["tidebell.swp"]))];
    let desired = state(&game("saltwick")?, &scope(&[("town", "b")]), &lineup)?;
    let receipt = plan(&desired, settled(&lineup), &Receipt::empty(), &Present::default())?.receipt;
    assert_eq!(Receipt::parse("r", &receipt.text())?, receipt);
    let error = Receipt::parse("receipt.json", "{").err().ok_or("it is broken")?;
    assert!(error.to_string().starts_with("receipt.json: EOF"), "{error}");
    Ok(())
}
