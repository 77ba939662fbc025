//! A server's folder on this machine.

use std::{
    fs,
    os::unix::fs::{MetadataExt, PermissionsExt, symlink},
    path::Path,
};

use yalotheca_core::id::{Digest, TreePath};
use yalotheca_host::tree::{
    Access, EntryKind, Flush, LocalTree, Refusal, Tree, TreeError, Upload, UploadError, UploadSource,
};

use crate::Done;

fn path(text: &str) -> TreePath {
    TreePath::new(text).unwrap_or_else(|_| TreePath::root())
}

fn tree() -> Result<(tempfile::TempDir, LocalTree), std::io::Error> {
    let folder = tempfile::Builder::new().prefix("bäume und wege ").tempdir()?;
    let tree = LocalTree::new(folder.path());
    Ok((folder, tree))
}

#[test]
fn what_is_not_there_is_nothing_and_no_error() -> Done {
    let (_folder, tree) = tree()?;
    for name in ["gone", "gone/deeper", "a b/ü"] {
        assert_eq!(tree.kind_of(&path(name))?, None);
        assert_eq!(tree.read_file(&path(name))?, None);
        assert_eq!(tree.digest_file(&path(name))?, None);
        assert!(tree.list_folder(&path(name))?.is_empty());
        assert!(tree.remove_empty_folder(&path(name))?, "it is gone already");
        tree.remove_all(&path(name))?;
    }
    tree.replace(&path("file"), b"x")?;
    assert_eq!(tree.kind_of(&path("file/below"))?, None, "a file has nothing below it");
    assert!(tree.list_folder(&path("file"))?.is_empty());
    Ok(())
}

#[test]
fn files_are_written_whole_and_listed_by_name() -> Done {
    let (folder, tree) = tree()?;
    tree.create_folder(&path("plugins/tidebell"))?;
    tree.replace(&path("plugins/b.swp"), b"two")?;
    tree.replace(&path("plugins/a.swp"), b"one")?;
    assert_eq!(
        tree.list_folder(&path("plugins"))?,
        [
            ("a.swp".into(), EntryKind::File(3)),
            ("b.swp".into(), EntryKind::File(3)),
            ("tidebell".into(), EntryKind::Folder)
        ]
    );
    assert_eq!(tree.read_file(&path("plugins/a.swp"))?.as_deref(), Some(&b"one"[..]));
    assert_eq!(tree.digest_file(&path("plugins/a.swp"))?, Some((Digest::of(b"one"), 3)));
    tree.replace(&path("plugins/a.swp"), b"longer than before")?;
    assert_eq!(tree.kind_of(&path("plugins/a.swp"))?, Some(EntryKind::File(18)));
    let litter = fs::read_dir(folder.path().join("plugins"))?
        .flatten()
        .filter(|entry| entry.file_name().to_string_lossy().starts_with('.'));
    assert_eq!(litter.count(), 0, "no temporary file is left");
    Ok(())
}

#[test]
fn a_write_that_fails_leaves_nothing_behind() -> Done {
    let (folder, tree) = tree()?;
    tree.create_folder(&path("in the way/inside"))?;
    let error = tree.replace(&path("in the way"), b"x").err().ok_or("there is a folder")?;
    assert!(error.to_string().starts_with("writing ") && error.to_string().contains("in the way"), "{error}");
    assert!(tree.replace(&path("no/such/folder"), b"x").is_err());
    assert_eq!(fs::read_dir(folder.path())?.count(), 1);
    Ok(())
}

#[test]
fn permissions_are_kept_and_copied() -> Done {
    let (folder, tree) = tree()?;
    tree.replace(&path("old"), b"old")?;
    fs::set_permissions(folder.path().join("old"), fs::Permissions::from_mode(0o640))?;
    tree.replace(&path("old"), b"new")?;
    let mode =
        |name: &str| fs::metadata(folder.path().join(name)).map(|data| data.permissions().mode() & 0o777);
    assert_eq!(mode("old")?, 0o640);
    tree.replace(&path("other"), b"x")?;
    tree.write_new(&path("other"), b"y", Access::Like(&path("old")))?;
    assert_eq!(mode("other")?, 0o640);
    Ok(())
}

/// Uploads a file of this machine.
fn upload(tree: &LocalTree, source: UploadSource<'_>, to: &str, bytes: &[u8]) -> Result<(), UploadError> {
    let (path, digest, size) = (path(to), Digest::of(bytes), bytes.len() as u64);
    tree.upload(&[Upload { path: &path, source, access: Access::Own, digest, size, may_share: false }])
}

#[test]
fn an_upload_has_the_bytes_that_were_promised_or_fails() -> Done {
    let (folder, tree) = tree()?;
    let source = folder.path().join("source");
    for (size, promised) in
        [(2_000_000, 2_000_000), (30_000, 30_000), (0, 0), (30_000, 29_999), (100, 30_000)]
    {
        let bytes: Vec<u8> = (0..size).map(|at: u32| at.to_le_bytes()[0]).collect();
        let expected: Vec<u8> = (0..promised).map(|at: u32| at.to_le_bytes()[0]).collect();
        fs::write(&source, &bytes)?;
        for from in
            [UploadSource::File(&source), UploadSource::Verified(&source), UploadSource::Tree(path("source"))]
        {
            let done = upload(&tree, from, "copy", &expected);
            assert_eq!(done.is_ok(), size == promised, "{size} bytes, {promised} promised: {done:?}");
            if size == promised {
                assert_eq!(tree.read_file(&path("copy"))?.as_deref(), Some(bytes.as_slice()));
            }
            // What failed its digest in the cache is removed from there.
            fs::write(&source, &bytes)?;
        }
    }
    assert!(upload(&tree, UploadSource::File(&source), "gone/copy", b"x").is_err());
    assert!(upload(&tree, UploadSource::File(Path::new("/nowhere")), "copy", b"x").is_err());
    Ok(())
}

#[test]
fn keeping_twice_is_keeping_once() -> Done {
    let (folder, tree) = tree()?;
    tree.create_folder(&path("attic"))?;
    tree.replace(&path("order.txt"), b"first")?;
    tree.duplicate(&path("order.txt"), &path("attic/0"))?;
    tree.duplicate(&path("order.txt"), &path("attic/0"))?;
    let links = fs::metadata(folder.path().join("order.txt"))?.nlink();
    assert_eq!(links, 2, "no copy where a second name will do");
    tree.replace(&path("staged"), b"second")?;
    tree.rename(&[(&path("staged"), &path("order.txt"))])?;
    assert_eq!(tree.read_file(&path("attic/0"))?.as_deref(), Some(&b"first"[..]));
    assert_eq!(tree.read_file(&path("order.txt"))?.as_deref(), Some(&b"second"[..]));
    Ok(())
}

#[test]
fn links_lead_to_what_is_changed() -> Done {
    let (folder, tree) = tree()?;
    tree.create_folder(&path("real"))?;
    tree.replace(&path("real/order.txt"), b"one")?;
    symlink("real/order.txt", folder.path().join("order.txt"))?;
    tree.duplicate(&path("order.txt"), &path("kept"))?;
    tree.replace(&path("order.txt"), b"two")?;
    assert!(fs::symlink_metadata(folder.path().join("order.txt"))?.is_symlink());
    assert_eq!(tree.read_file(&path("real/order.txt"))?.as_deref(), Some(&b"two"[..]));
    assert_eq!(
        tree.read_file(&path("kept"))?.as_deref(),
        Some(&b"one"[..]),
        "a copy of what was there, not of the link"
    );
    symlink("nowhere", folder.path().join("broken"))?;
    assert_eq!(tree.kind_of(&path("broken"))?, None);
    assert!(tree.list_folder(&TreePath::root())?.contains(&("broken".into(), EntryKind::Other)));
    Ok(())
}

#[test]
fn folders_go_only_when_empty() -> Done {
    let (_folder, tree) = tree()?;
    tree.create_folder(&path("a/b"))?;
    tree.replace(&path("a/b/file"), b"x")?;
    assert!(!tree.remove_empty_folder(&path("a/b"))?);
    tree.remove_all(&path("a/b"))?;
    assert!(tree.remove_empty_folder(&path("a"))?);
    assert_eq!(tree.kind_of(&path("a"))?, None);
    tree.flush(Flush::All)?;
    Ok(())
}

/// Every way of reading and writing, at one path.
fn each_way(tree: &LocalTree, at: &str) -> Vec<(&'static str, Result<(), TreeError>)> {
    let at = path(at);
    let below = at.join("x").unwrap_or_else(|_| TreePath::root());
    let source = path("source");
    vec![
        ("read", tree.read_file(&at).map(drop)),
        ("digest", tree.digest_file(&at).map(drop)),
        ("list", tree.list_folder(&at).map(drop)),
        ("write", tree.replace(&at, b"ours")),
        ("write below", tree.replace(&below, b"ours")),
        ("put below", tree.write_new(&below, b"ours", Access::Own)),
        ("make a folder below", tree.create_folder(&below)),
        ("remove a folder below", tree.remove_empty_folder(&below).map(drop)),
        ("remove below", tree.remove_all(&below)),
        ("rename to it", tree.rename(&[(&source, &at)])),
        ("rename below it", tree.rename(&[(&source, &below)])),
        ("rename from below it", tree.rename(&[(&below, &source)])),
        ("keep it", tree.duplicate(&at, &path("kept"))),
        ("keep below it", tree.duplicate(&below, &path("kept"))),
    ]
}

#[test]
fn no_link_leads_out_whatever_is_done() -> Done {
    let (outside, inside) = (tempfile::tempdir()?, tempfile::tempdir()?);
    fs::write(outside.path().join("x"), "theirs")?;
    fs::write(outside.path().join("file"), "theirs")?;
    let all = || -> Result<Vec<(String, String)>, std::io::Error> {
        let mut all = Vec::new();
        for entry in fs::read_dir(outside.path())? {
            let entry = entry?;
            all.push((entry.file_name().to_string_lossy().into_owned(), fs::read_to_string(entry.path())?));
        }
        all.sort();
        Ok(all)
    };
    let before = all()?;
    let root = inside.path();
    let up = format!("../{}", outside.path().file_name().unwrap_or_default().to_string_lossy());
    symlink(outside.path(), root.join("absolute"))?;
    symlink(&up, root.join("relative"))?;
    symlink(format!("{up}/file"), root.join("to a file"))?;
    symlink("absolute", root.join("by another link"))?;
    fs::create_dir(root.join("deep"))?;
    symlink(format!("../{up}"), root.join("deep/climbing"))?;
    for at in ["absolute", "relative", "to a file", "by another link", "deep/climbing"] {
        fs::write(root.join("source"), "ours")?;
        let tree = LocalTree::new(root);
        for (way, result) in each_way(&tree, at) {
            let Err(error) = result else {
                let harmless = way.starts_with("remove") || at == "to a file" && way.contains("below");
                assert!(harmless, "{way} through {at} was done");
                continue;
            };
            if !(at == "to a file" && (way.contains("below") || way == "list")) {
                assert!(
                    matches!(error.refusal(), Some(Refusal::LeadsOut { .. })),
                    "{way} through {at}: {error}"
                );
            }
        }
        assert_eq!(tree.kind_of(&path(at))?, Some(EntryKind::Other), "{at}");
        assert_eq!(all()?, before, "{at}");
    }
    let tree = LocalTree::new(root);
    let error = tree.read_file(&path("deep/climbing/x")).err().ok_or("it leads out")?;
    assert!(error.to_string().contains("deep/climbing is a symbolic link that leads out"), "{error}");
    Ok(())
}

#[test]
fn a_link_inside_is_followed_even_where_it_is_absolute() -> Done {
    let (folder, tree) = tree()?;
    tree.create_folder(&path("shared/plugins"))?;
    tree.replace(&path("shared/plugins/a"), b"a")?;
    symlink("shared/plugins", folder.path().join("relative"))?;
    symlink(folder.path().join("shared/plugins"), folder.path().join("absolute"))?;
    for at in ["relative", "absolute"] {
        assert_eq!(tree.kind_of(&path(at))?, Some(EntryKind::Folder));
        assert_eq!(tree.read_file(&path(&format!("{at}/a")))?.as_deref(), Some(&b"a"[..]), "{at}");
        tree.replace(&path(&format!("{at}/b")), at.as_bytes())?;
        assert_eq!(tree.read_file(&path("shared/plugins/b"))?.as_deref(), Some(at.as_bytes()));
        tree.rename(&[(&path(&format!("{at}/b")), &path(&format!("{at}/c")))])?;
        assert!(fs::symlink_metadata(folder.path().join(at))?.is_symlink());
    }
    // One that leads to where it lies would have no end.
    symlink(".", folder.path().join("shared/loop"))?;
    assert!(tree.list_folder(&path("shared"))?.contains(&("loop".into(), EntryKind::Other)));
    symlink("ring-b", folder.path().join("ring-a"))?;
    symlink("ring-a", folder.path().join("ring-b"))?;
    assert!(tree.read_file(&path("ring-a")).is_err());
    Ok(())
}

#[test]
fn our_own_folder_is_never_a_link() -> Done {
    let (folder, tree) = tree()?;
    tree.create_folder(&path("real"))?;
    symlink("real", folder.path().join(".yalotheca"))?;
    for result in [
        tree.read_file(&path(".yalotheca/receipt.json")).map(drop),
        tree.replace(&path(".yalotheca/receipt.json"), b"x"),
        tree.create_folder(&path(".yalotheca/journal")),
    ] {
        let error = result.err().ok_or("it is a link")?;
        assert!(matches!(error.refusal(), Some(Refusal::OwnIsLink)), "{error}");
    }
    fs::remove_file(folder.path().join(".yalotheca"))?;
    tree.create_folder(&path(".yalotheca"))?;
    symlink("../real/x", folder.path().join(".yalotheca/receipt.json"))?;
    assert!(tree.replace(&path(".yalotheca/receipt.json"), b"x").is_err());
    assert!(!folder.path().join("real/x").exists());
    Ok(())
}

#[test]
fn pipes_and_devices_are_told_and_not_opened() -> Done {
    let (folder, tree) = tree()?;
    let made = std::process::Command::new("mkfifo").arg(folder.path().join("pipe")).status()?;
    assert!(made.success());
    let _socket = std::os::unix::net::UnixListener::bind(folder.path().join("socket"))?;
    for (name, what) in [("pipe", "a pipe"), ("socket", "a socket")] {
        for result in [tree.read_file(&path(name)).map(drop), tree.digest_file(&path(name)).map(drop)] {
            let error = result.err().ok_or("it is no file")?;
            assert!(error.to_string().contains(what), "{error}");
        }
        assert_eq!(tree.kind_of(&path(name))?, Some(EntryKind::Other));
    }
    symlink("/dev/zero", folder.path().join("zero"))?;
    assert!(tree.read_file(&path("zero")).is_err());
    Ok(())
}

#[test]
fn ours_are_read_by_nobody_else() -> Done {
    let (folder, tree) = tree()?;
    let mode =
        |name: &str| fs::metadata(folder.path().join(name)).map(|data| data.permissions().mode() & 0o777);
    for (server, own_folder, own_file) in
        [(0o755, 0o750, 0o640), (0o700, 0o700, 0o600), (0o711, 0o700, 0o600)]
    {
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(server))?;
        tree.create_folder(&path(".yalotheca"))?;
        tree.replace(&path(".yalotheca/receipt.json"), b"{}")?;
        assert_eq!(
            (mode(".yalotheca")?, mode(".yalotheca/receipt.json")?),
            (own_folder, own_file),
            "{server:o}"
        );
        tree.remove_all(&path(".yalotheca"))?;
    }
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o750))?;
    tree.create_folder(&path("made"))?;
    tree.replace(&path("made/file"), b"x")?;
    assert_eq!((mode("made")?, mode("made/file")?), (0o750, 0o640), "as the folder in which they lie");
    Ok(())
}
