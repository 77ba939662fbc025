//! A server's folder on this machine.

use std::{
    fs,
    io::Cursor,
    os::unix::fs::{MetadataExt, PermissionsExt, symlink},
};

use yalotheca_core::id::{Digest, TreePath};
use yalotheca_host::tree::{Found, LocalTree, Tree};

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
        assert_eq!(tree.find(&path(name))?, None);
        assert_eq!(tree.read(&path(name))?, None);
        assert_eq!(tree.digest(&path(name))?, None);
        assert!(tree.list(&path(name))?.is_empty());
        assert!(tree.remove_folder(&path(name))?, "it is gone already");
        tree.remove_all(&path(name))?;
    }
    tree.write(&path("file"), b"x")?;
    assert_eq!(tree.find(&path("file/below"))?, None, "a file has nothing below it");
    assert!(tree.list(&path("file"))?.is_empty());
    Ok(())
}

#[test]
fn files_are_written_whole_and_listed_by_name() -> Done {
    let (folder, tree) = tree()?;
    tree.make_folder(&path("plugins/tidebell"))?;
    tree.write(&path("plugins/b.swp"), b"two")?;
    tree.write(&path("plugins/a.swp"), b"one")?;
    assert_eq!(
        tree.list(&path("plugins"))?,
        [
            ("a.swp".into(), Found::File(3)),
            ("b.swp".into(), Found::File(3)),
            ("tidebell".into(), Found::Folder)
        ]
    );
    assert_eq!(tree.read(&path("plugins/a.swp"))?.as_deref(), Some(&b"one"[..]));
    assert_eq!(tree.digest(&path("plugins/a.swp"))?, Some((Digest::of(b"one"), 3)));
    tree.write(&path("plugins/a.swp"), b"longer than before")?;
    assert_eq!(tree.find(&path("plugins/a.swp"))?, Some(Found::File(18)));
    let litter = fs::read_dir(folder.path().join("plugins"))?
        .flatten()
        .filter(|entry| entry.file_name().to_string_lossy().starts_with('.'));
    assert_eq!(litter.count(), 0, "no temporary file is left");
    Ok(())
}

#[test]
fn a_write_that_fails_leaves_nothing_behind() -> Done {
    let (folder, tree) = tree()?;
    tree.make_folder(&path("in the way/inside"))?;
    let error = tree.write(&path("in the way"), b"x").err().ok_or("a folder stands there")?;
    assert!(error.to_string().starts_with("writing ") && error.to_string().contains("in the way"), "{error}");
    assert!(tree.write(&path("no/such/folder"), b"x").is_err());
    assert_eq!(fs::read_dir(folder.path())?.count(), 1);
    Ok(())
}

#[test]
fn permissions_are_kept_and_copied() -> Done {
    let (folder, tree) = tree()?;
    tree.write(&path("old"), b"old")?;
    fs::set_permissions(folder.path().join("old"), fs::Permissions::from_mode(0o640))?;
    tree.write(&path("old"), b"new")?;
    let mode =
        |name: &str| fs::metadata(folder.path().join(name)).map(|data| data.permissions().mode() & 0o777);
    assert_eq!(mode("old")?, 0o640);
    tree.write(&path("other"), b"x")?;
    tree.like(&path("other"), &path("old"))?;
    assert_eq!(mode("other")?, 0o640);
    tree.like(&path("other"), &path("gone"))?;
    assert_eq!(mode("other")?, 0o640);
    Ok(())
}

#[test]
fn bringing_hashes_on_the_way() -> Done {
    let (_folder, tree) = tree()?;
    let bytes = vec![7; 300_000];
    assert_eq!(tree.bring(&mut Cursor::new(&bytes), &path("big"))?, Digest::of(&bytes));
    assert_eq!(tree.digest(&path("big"))?, Some((Digest::of(&bytes), 300_000)));
    Ok(())
}

#[test]
fn a_copy_tells_how_much_there_was() -> Done {
    let (folder, tree) = tree()?;
    let source = folder.path().join("source");
    for (bytes, promised) in [(30_000, 30_000), (0, 0), (30_000, 29_999), (30_000, 100), (100, 30_000)] {
        let bytes: Vec<u8> = (0..bytes).map(|at: u32| at.to_le_bytes()[0]).collect();
        fs::write(&source, &bytes)?;
        let told = tree.copy(&mut fs::File::open(&source)?, promised, &path("copy"))?;
        assert_eq!(told, bytes.len() as u64, "promised {promised}");
        assert_eq!(tree.read(&path("copy"))?, Some(bytes));
    }
    assert!(tree.copy(&mut fs::File::open(&source)?, 100, &path("gone/copy")).is_err());
    Ok(())
}

#[test]
fn keeping_twice_is_keeping_once() -> Done {
    let (folder, tree) = tree()?;
    tree.make_folder(&path("attic"))?;
    tree.write(&path("order.txt"), b"first")?;
    tree.keep(&path("order.txt"), &path("attic/0"))?;
    tree.keep(&path("order.txt"), &path("attic/0"))?;
    let links = fs::metadata(folder.path().join("order.txt"))?.nlink();
    assert_eq!(links, 2, "no copy where a second name will do");
    tree.write(&path("staged"), b"second")?;
    tree.rename(&path("staged"), &path("order.txt"))?;
    assert_eq!(tree.read(&path("attic/0"))?.as_deref(), Some(&b"first"[..]));
    assert_eq!(tree.read(&path("order.txt"))?.as_deref(), Some(&b"second"[..]));
    Ok(())
}

#[test]
fn links_lead_to_what_is_changed() -> Done {
    let (folder, tree) = tree()?;
    tree.make_folder(&path("real"))?;
    tree.write(&path("real/order.txt"), b"one")?;
    symlink("real/order.txt", folder.path().join("order.txt"))?;
    tree.keep(&path("order.txt"), &path("kept"))?;
    tree.write(&path("order.txt"), b"two")?;
    assert!(fs::symlink_metadata(folder.path().join("order.txt"))?.is_symlink());
    assert_eq!(tree.read(&path("real/order.txt"))?.as_deref(), Some(&b"two"[..]));
    assert_eq!(
        tree.read(&path("kept"))?.as_deref(),
        Some(&b"one"[..]),
        "a copy of what was there, not of the link"
    );
    symlink("nowhere", folder.path().join("broken"))?;
    assert_eq!(tree.find(&path("broken"))?, None);
    assert!(tree.list(&TreePath::root())?.contains(&("broken".into(), Found::Other)));
    Ok(())
}

#[test]
fn folders_go_only_when_empty() -> Done {
    let (_folder, tree) = tree()?;
    tree.make_folder(&path("a/b"))?;
    tree.write(&path("a/b/file"), b"x")?;
    assert!(!tree.remove_folder(&path("a/b"))?);
    tree.remove_all(&path("a/b"))?;
    assert!(tree.remove_folder(&path("a"))?);
    assert_eq!(tree.find(&path("a"))?, None);
    tree.sync()?;
    Ok(())
}
