//! A server's folder behind a file server: in memory, so that every call can fail.

use std::{collections::BTreeMap, fs, os::unix::fs::symlink, path::Path, sync::Arc};

use yalotheca_core::{
    change::{ChangeSet, Receipt, Source, Step},
    id::{Digest, TreePath},
};
use yalotheca_host::{
    settle::{self, ControlTexts, SettleError, SettleOrder},
    sources::{ByteSource, Sources},
    tree::{EntryKind, Faults, Foresight, LocalTree, MemoryServer, RemoteTree, Tree, file_server::Features},
};

use crate::{
    Done,
    settling::{Steps, bells, key, origin, path, text_step},
};

/// The file servers that there are: one that can do everything, one that cannot replace, one that has no second names.
const KINDS: [Features; 3] = [
    Features { replaces: true, hard_links: true, ordered: true, tick: 120 },
    Features { replaces: false, hard_links: false, ordered: false, tick: 3600 },
    Features { replaces: true, hard_links: false, ordered: true, tick: 120 },
];

fn tree(server: &Arc<MemoryServer>) -> RemoteTree {
    RemoteTree::new(server.clone(), "/srv", "memory://srv".into())
}

#[test]
fn a_remote_tree_answers_as_a_local_one() -> Done {
    let folder = tempfile::tempdir()?;
    let (root, out) = (folder.path().join("srv"), folder.path().join("out"));
    fs::create_dir_all(&out)?;
    fs::write(out.join("secret"), "theirs")?;
    let server = MemoryServer::new(KINDS[0]);
    for (name, text) in [
        ("mods/bells/init.lua", "ring"),
        ("mods/bells/sounds/bell.ogg", "dong"),
        ("world/world.mt", "gameid = minetest"),
        ("empty/.keep", ""),
        ("big", &"x".repeat(3_000_000)),
    ] {
        fs::create_dir_all(root.join(name).parent().ok_or("it lies in a folder")?)?;
        fs::write(root.join(name), text)?;
        server.put(&format!("/srv/{name}"), text.as_bytes());
    }
    for (name, target) in [
        ("to-mods", "mods"),
        ("mods/bells/up", "../../world"),
        ("mods/round", "../mods"),
        ("dangling", "nowhere"),
        ("again", "to-mods"),
        ("out", "../out"),
        ("mods/out", "../../out/secret"),
    ] {
        symlink(target, root.join(name))?;
        server.put_link(&format!("/srv/{name}"), target);
    }
    symlink(root.join("world"), root.join("absolute"))?;
    server.put_link("/srv/absolute", "/srv/world");
    symlink(&out, root.join("far"))?;
    server.put_link("/srv/far", "/out");
    let (local, remote) = (LocalTree::new(&root), tree(&server));
    let paths: Vec<TreePath> = [
        "",
        "mods",
        "mods/bells",
        "mods/bells/init.lua",
        "to-mods/bells/init.lua",
        "mods/bells/up/world.mt",
        "again/bells/sounds/bell.ogg",
        "mods/round",
        "mods/round/bells",
        "dangling",
        "absolute/world.mt",
        "out",
        "out/secret",
        "mods/out",
        "far",
        "far/secret",
        "nothing",
        "mods/nothing/deep",
        "mods/bells/init.lua/x",
        "big",
        "empty",
    ]
    .map(path)
    .to_vec();
    for one in &paths {
        let both = |tree: &dyn Tree| {
            let kind = tree.kind_of(one).ok();
            let read = tree.read_file(one).map_err(|error| error.refusal().is_some());
            let digest = tree.digest_file(one).map_err(|error| error.refusal().is_some());
            let list = tree.list_folder(one).map_err(|error| error.refusal().is_some());
            (kind, read, digest, list)
        };
        assert_eq!(both(&remote), both(&local), "{one}");
    }
    assert_eq!(remote.metadata(&paths)?, local.metadata(&paths)?);
    let files: Vec<TreePath> = ["big", "nothing", "mods/bells/init.lua"].map(path).to_vec();
    assert_eq!(remote.digest(&files)?, local.digest(&files)?);
    assert_eq!(remote.link_target(&path("out")), local.link_target(&path("out")));
    let mut reader = remote.open(&path("big"))?.ok_or("it is there")?;
    let mut text = String::new();
    std::io::Seek::seek(&mut reader, std::io::SeekFrom::End(-100_000))?;
    std::io::Read::read_to_string(&mut reader, &mut text)?;
    assert_eq!(text.len(), 100_000);
    Ok(())
}

#[test]
fn no_link_leads_out_of_a_remote_tree() -> Done {
    for features in KINDS {
        let server = MemoryServer::new(features);
        server.put("/out/x", b"theirs");
        server.put("/srv/source", b"ours");
        for (name, target) in
            [("absolute", "/out"), ("relative", "../out"), ("file", "/out/x"), ("chain", "relative")]
        {
            server.put_link(&format!("/srv/{name}"), target);
        }
        server.put_link("/srv/.yalotheca", "/out");
        let before = server.tree("/out");
        for at in
            ["absolute", "relative", "file", "chain", "absolute/x", "chain/x", ".yalotheca", ".yalotheca/x"]
        {
            let tree = tree(&server);
            let (at, source) = (path(at), path("source"));
            let below = at.join("x")?;
            assert!(tree.read_file(&below).map_or(true, |read| read.is_none()), "{at}");
            tree.replace(&at, b"ours").err().ok_or_else(|| format!("{at} was written"))?;
            tree.replace(&below, b"ours").err().ok_or_else(|| format!("{below} was written"))?;
            assert!(tree.rename(&[(&source, &below)]).is_err() && tree.rename(&[(&below, &source)]).is_err());
            assert!(
                tree.duplicate(&below, &path("kept")).is_err() && tree.duplicate(&source, &below).is_err()
            );
            assert!(tree.create_folder(&below).is_err());
            tree.remove_all(&below)?;
            tree.remove_files(std::slice::from_ref(&below)).ok();
            tree.remove_empty_folder(&at).ok();
        }
        assert_eq!(server.tree("/out"), before);
    }
    Ok(())
}

#[test]
fn what_is_unchanged_is_read_once() -> Done {
    let (server, cache) = (MemoryServer::new(KINDS[0]), tempfile::tempdir()?);
    for at in 0..300 {
        server.put(&format!("/srv/mods/{}/f{at}", at % 7), &vec![b'x'; 5_000 + at]);
    }
    let paths: Vec<TreePath> = (0..300).map(|at| path(&format!("mods/{}/f{at}", at % 7))).collect();
    let file = cache.path().join("inventory");
    let first = tree(&server).with_inventory(Some(&file)).digest(&paths)?;
    server.fault(Faults::default());
    let again = tree(&server).with_inventory(Some(&file)).digest(&paths)?;
    assert_eq!(again, first);
    assert_eq!(server.calls(), 9, "two folders above, and seven");
    server.put("/srv/mods/0/f0", &vec![b'y'; 5_000]);
    let changed = tree(&server).with_inventory(Some(&file)).digest(&paths)?;
    assert!(changed[0] != first[0] && changed[1..] == first[1..]);
    Ok(())
}

/// A server with everything that a change may touch.
/// A tree whose server is asked ahead for what the tree before it asked.
fn foreseeing(server: &Arc<MemoryServer>, asked: &Path) -> RemoteTree {
    let server = Foresight::of(server.clone(), asked.to_owned());
    RemoteTree::new(server, "/srv", "memory://srv".into())
}

#[test]
fn what_was_asked_last_time_is_asked_at_once_and_used_while_it_is_fresh() -> Done {
    let server = MemoryServer::new(KINDS[0]);
    server.put("/srv/mods/bells/mod.conf", b"name = bells");
    server.put("/srv/mods/old/mod.conf", b"name = old");
    let folder = tempfile::tempdir()?;
    let asked = folder.path().join("cache/asked");
    let (mods, conf) = (path("mods"), path("mods/bells/mod.conf"));
    let look = |tree: &RemoteTree| -> Result<String, Box<dyn std::error::Error>> {
        tree.list(&[mods.clone(), path("nowhere")], false)?;
        Ok(String::from_utf8(tree.read(std::slice::from_ref(&conf))?.remove(0).unwrap_or_default())?)
    };
    assert_eq!(look(&foreseeing(&server, &asked))?, "name = bells");
    assert!(std::fs::read_to_string(&asked)?.contains("/srv/nowhere"));
    // Nothing is asked a second time: what was asked ahead is all that there is.
    let tree = foreseeing(&server, &asked);
    assert_eq!(look(&tree)?, "name = bells");
    let calls = server.calls();
    assert_eq!(look(&foreseeing(&server, &asked))?, "name = bells");
    // The root, mods, bells and nowhere, and one file.
    assert_eq!(server.calls() - calls, 5);
    // What is asked once more is asked of the server, and so is everything after a change.
    server.put("/srv/mods/bells/mod.conf", b"name = other");
    tree.forget_seen();
    assert_eq!(look(&tree)?, "name = other");
    let tree = foreseeing(&server, &asked);
    tree.replace(&path("mods/old/mod.conf"), b"name = mine")?;
    server.put("/srv/mods/bells/mod.conf", b"name = third");
    assert_eq!(look(&tree)?, "name = third");
    // A file that was read before its folder was listed is read again: its date could be newer than its bytes.
    let parts: serde_json::Value = serde_json::from_slice(&std::fs::read(&asked)?)?;
    let only_files = serde_json::json!({ "folders": {}, "files": parts["files"] });
    std::fs::write(&asked, only_files.to_string())?;
    let tree = foreseeing(&server, &asked);
    std::thread::sleep(std::time::Duration::from_millis(50));
    server.put("/srv/mods/bells/mod.conf", b"name = fifth");
    assert_eq!(look(&tree)?, "name = fifth");
    // Notes that make no sense are none.
    std::fs::write(&asked, "{")?;
    assert_eq!(look(&foreseeing(&server, &asked))?, "name = fifth");
    Ok(())
}

fn lived_in(features: Features) -> Arc<MemoryServer> {
    let server = MemoryServer::new(features);
    for (name, text) in [
        ("order.txt", "old"),
        ("mods/old/a.lua", "one"),
        ("mods/old/b.lua", "two"),
        ("goes/x", "x"),
        ("goes/deeper/y", "y"),
    ] {
        server.put(&format!("/srv/{name}"), text.as_bytes());
    }
    server
}

/// The steps that touch it.
fn steps(files: &Path) -> Result<Steps, Box<dyn std::error::Error>> {
    let (mut steps, mut sources) = bells(files)?;
    let newer = files.join("newer");
    fs::write(&newer, "newer")?;
    sources.insert(Digest::of(b"newer"), ByteSource::File(newer));
    sources.insert(Digest::of(b"x"), ByteSource::Server(path("goes/x")));
    steps.extend([
        Step::Put {
            path: path("mods/old/a.lua"),
            source: Source::Payload,
            before: Some(Digest::of(b"one")),
            after: Digest::of(b"newer"),
            size: 5,
        },
        Step::Put {
            path: path("copy"),
            source: Source::Payload,
            before: None,
            after: Digest::of(b"x"),
            size: 1,
        },
        text_step("order.txt", Some("old"), "new"),
        text_step("mods/made.txt", None, "made"),
        Step::SetAside { path: path("mods/old/b.lua"), before: Digest::of(b"two") },
        Step::SetAside { path: path("goes/x"), before: Digest::of(b"x") },
        Step::SetAside { path: path("goes/deeper/y"), before: Digest::of(b"y") },
        Step::RemoveFolder { path: path("goes/deeper") },
        Step::RemoveFolder { path: path("goes") },
    ]);
    Ok((steps, sources))
}

pub(crate) fn carry_out(
    tree: &dyn Tree,
    control: &Path,
    (steps, sources): (Vec<Step>, &Sources),
) -> Result<Result<u32, SettleError>, Box<dyn std::error::Error>> {
    let Ok((_, receipt_digest)) = settle::read_receipt(tree) else { return Ok(Ok(0)) };
    let change = ChangeSet { steps, receipt: Receipt::empty(), ..ChangeSet::default() };
    let now = |name: &str| fs::read_to_string(control.join(name)).ok();
    let order = SettleOrder {
        change: &change,
        receipt_digest,
        before: ControlTexts { wants: now("yalotheca.toml"), lock: now("yalotheca.lock") },
        after: ControlTexts { wants: Some("wants".into()), lock: Some("lock".into()) },
        control: control.to_owned(),
        origin: origin("yalotheca settle"),
        key: &key()?,
    };
    Ok(settle::settle(tree, &order, sources))
}

/// Everything on a server but Yalotheca's own, and what is in the control folder.
fn everything(server: &MemoryServer, control: &Path) -> BTreeMap<String, Option<Vec<u8>>> {
    let mut all = server.tree("/srv");
    all.retain(|name, _| name.split('/').next() != Some(".yalotheca"));
    for name in ["yalotheca.toml", "yalotheca.lock"] {
        if let Ok(text) = fs::read(control.join(name)) {
            all.insert(format!("control: {name}"), Some(text));
        }
    }
    all
}

#[test]
fn a_change_and_its_undo_leave_a_remote_server_as_it_was() -> Done {
    for features in KINDS {
        let (files, control) = (tempfile::tempdir()?, tempfile::tempdir()?);
        let server = lived_in(features);
        let before = everything(&server, control.path());
        let (steps, sources) = steps(files.path())?;
        carry_out(&tree(&server), control.path(), (steps, &sources))??;
        let after = everything(&server, control.path());
        assert_eq!(
            after.get("mods/bells/ring.lua").cloned().flatten().as_deref(),
            Some(&b"ring"[..]),
            "{after:?}"
        );
        assert_eq!(after.get("copy").cloned().flatten().as_deref(), Some(&b"x"[..]));
        assert!(!after.contains_key("goes") && before != after);
        // Taken back by steps that bring what lies in the attic.
        let back = vec![
            Step::MakeFolder { path: path("goes") },
            Step::Put {
                path: path("goes/x"),
                source: Source::Attic { settle: 1, step: step_of(&server, b"x")? },
                before: None,
                after: Digest::of(b"x"),
                size: 1,
            },
        ];
        carry_out(&tree(&server), control.path(), (back, &Sources::default()))??;
        assert_eq!(
            everything(&server, control.path()).get("goes/x").cloned().flatten().as_deref(),
            Some(&b"x"[..])
        );
        assert_eq!(settle::history(&tree(&server))?.len(), 2);
    }
    Ok(())
}

/// The step whose attic holds these bytes.
fn step_of(server: &MemoryServer, bytes: &[u8]) -> Result<usize, Box<dyn std::error::Error>> {
    let attic = server.tree("/srv/.yalotheca/journal/0001/attic");
    let found = attic.iter().find(|(_, kept)| kept.as_deref() == Some(bytes));
    Ok(found.ok_or("it is in the attic")?.0.parse()?)
}

/// One settle with faults, recoveries with others, and one without; what came of it.
fn one_run(
    base: &MemoryServer,
    files: &Path,
    worlds: &[BTreeMap<String, Option<Vec<u8>>>; 2],
    faults: &[Faults],
) -> Result<(u64, bool), Box<dyn std::error::Error>> {
    // In memory, if the system has such a folder, so that no run waits for the disk.
    let control = tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir())?;
    let server = base.copy(faults[0]);
    let (steps, sources) = steps(files)?;
    let settled = carry_out(&tree(&server), control.path(), (steps, &sources))?;
    let told = format!("{settled:?}");
    let settled = settled.is_ok_and(|number| number == 1);
    let calls = server.calls();
    if faults[0].dies_at.is_none_or(|dies| calls < dies) {
        assert_eq!(&everything(&server, control.path()), &worlds[usize::from(settled)], "{faults:?}: {told}");
    }
    let recover = || settle::recover(&tree(&server), control.path(), &key().ok()?, false).ok();
    for one in &faults[1..] {
        server.fault(*one);
        recover();
    }
    server.fault(Faults::default());
    settle::recover(&tree(&server), control.path(), &key()?, false)
        .map_err(|error| format!("{faults:?}: {error}"))?;
    let after = everything(&server, control.path());
    let which = worlds.iter().position(|world| *world == after);
    let which = which.ok_or_else(|| format!("{faults:?}: neither before nor after: {after:?}"))?;
    assert!(which == 1 || !settled, "{faults:?}: it said done, and everything was taken back");
    assert!(settle::recover(&tree(&server), control.path(), &key()?, false)?.is_none());
    Ok((calls, which == 1))
}

#[test]
fn whatever_call_fails_tears_or_is_the_last_a_remote_server_is_as_before_or_as_after() -> Done {
    let mut runs = 0;
    for features in KINDS {
        let files = tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir())?;
        let control = tempfile::tempdir()?;
        let base = lived_in(features);
        let done = base.copy(Faults::default());
        let (all, sources) = steps(files.path())?;
        let before = everything(&base, control.path());
        carry_out(&tree(&done), control.path(), (all, &sources))??;
        let worlds = [before, everything(&done, control.path())];
        let (calls, _) = one_run(&base, files.path(), &worlds, &[Faults::default()])?;
        assert!(calls > 60, "only {calls} calls");
        let mut seen = [false; 2];
        for call in 1..=calls {
            let dies = |dies_at: u64| Faults { dies_at: Some(dies_at), ..Faults::default() };
            let fails = Faults { fails_at: Some(call), ..Faults::default() };
            seen[usize::from(one_run(&base, files.path(), &worlds, &[dies(call)])?.1)] = true;
            let (all, _) = one_run(&base, files.path(), &worlds, &[fails])?;
            // A lost answer costs another connection, and nothing else.
            let torn = Faults { tears_at: Some(call), ..Faults::default() };
            let (_, is_done) = one_run(&base, files.path(), &worlds, &[torn])?;
            assert!(is_done, "{features:?}: torn at {call}");
            runs += 3;
            for later in (call + 1..=all).filter(|later| (call + later) % 5 == 0) {
                one_run(&base, files.path(), &worlds, &[Faults { dies_at: Some(later), ..fails }])?;
                runs += 1;
            }
            for again in (1..=60).filter(|again| (call + again) % 9 == 0) {
                one_run(&base, files.path(), &worlds, &[dies(call), dies(again)])?;
                one_run(
                    &base,
                    files.path(),
                    &worlds,
                    &[dies(call), Faults { fails_at: Some(again), ..Faults::default() }],
                )?;
                runs += 2;
            }
        }
        assert_eq!(seen, [true, true], "both outcomes must have been seen");
    }
    assert!(runs > 3_000, "only {runs} runs");
    Ok(())
}

#[test]
fn a_remote_server_is_claimed_by_one_at_a_time() -> Done {
    for features in KINDS {
        let server = MemoryServer::new(features);
        let shared: Arc<dyn Tree> = Arc::new(tree(&server));
        let claim = settle::claim(&shared)?;
        let other: Arc<dyn Tree> = Arc::new(tree(&server));
        let refused = settle::claim(&other).err().ok_or("it is claimed")?;
        assert!(matches!(refused, SettleError::Busy { .. }), "{refused}");
        drop(claim);
        drop(settle::claim(&other)?);
        // An owner that died while it wrote its name is waited for, and then its lock is taken over.
        server.put("/srv/.yalotheca/lock/owner-0123", b"{\"who\": \"wr");
        drop(settle::claim(&other)?);
        shared.forget_seen();
        assert_eq!(shared.kind_of(&path(".yalotheca/lock"))?, None);
        // Many at once: each has it alone.
        let holds = std::sync::atomic::AtomicU32::new(0);
        let got = std::sync::atomic::AtomicU32::new(0);
        std::thread::scope(|scope| {
            for _ in 0..6 {
                scope.spawn(|| {
                    let tree: Arc<dyn Tree> = Arc::new(tree(&server));
                    // On a busy machine one thread may use up its tries while another one holds the lock.
                    let mut own = 0;
                    for _ in 0..5_000 {
                        if own == 3 {
                            break;
                        }
                        if let Ok(claim) = settle::claim(&tree) {
                            own += 1;
                            assert_eq!(
                                holds.fetch_add(1, std::sync::atomic::Ordering::SeqCst),
                                0,
                                "two have it"
                            );
                            got.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
                            std::thread::yield_now();
                            holds.fetch_sub(1, std::sync::atomic::Ordering::SeqCst);
                            drop(claim);
                        } else {
                            std::thread::sleep(std::time::Duration::from_millis(1));
                        }
                    }
                });
            }
        });
        assert_eq!(got.load(std::sync::atomic::Ordering::SeqCst), 18, "each thread three times");
    }
    Ok(())
}

#[test]
fn folders_and_files_of_ours_go_and_kinds_are_told() -> Done {
    for features in KINDS {
        let server = MemoryServer::new(features);
        let tree = tree(&server);
        tree.create_folder(&path("a/b/c"))?;
        tree.replace(&path("a/b/c/file"), b"one")?;
        tree.replace(&path("a/b/c/file"), b"two!")?;
        assert_eq!(tree.read_file(&path("a/b/c/file"))?.as_deref(), Some(&b"two!"[..]));
        assert_eq!(tree.kind_of(&path("a/b/c/file"))?, Some(EntryKind::File(4)));
        tree.rename(&[(&path("a/b"), &path("moved"))])?;
        assert_eq!(tree.digest_file(&path("moved/c/file"))?, Some((Digest::of(b"two!"), 4)));
        assert!(!tree.remove_empty_folder(&path("moved/c"))? && tree.remove_empty_folder(&path("a"))?);
        tree.duplicate(&path("moved/c/file"), &path("kept"))?;
        tree.remove_all(&path("moved"))?;
        // Killed between the two renames of a replacement, the old one is still known by its own name.
        if !features.replaces {
            server.put("/srv/.yalotheca-old-state", b"old");
            tree.forget_seen();
            assert_eq!(tree.read_file(&path("state"))?.as_deref(), Some(&b"old"[..]));
            tree.replace(&path("state"), b"new")?;
            server.put("/srv/.yalotheca-old-kept", b"left");
            tree.forget_seen();
            tree.sweep_temporary(&[TreePath::root()])?;
            assert_eq!(tree.read_file(&path("kept"))?.as_deref(), Some(&b"two!"[..]));
        }
        let left = server.tree("/srv");
        let names: Vec<&str> = left.keys().map(String::as_str).collect();
        let expected = if features.replaces { vec!["kept"] } else { vec!["kept", "state"] };
        assert_eq!(names, expected);
    }
    Ok(())
}
