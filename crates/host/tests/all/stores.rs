//! The cache: what goes in, what comes out, and what is not believed.

use std::{
    fs,
    io::Cursor,
    os::unix::fs::{MetadataExt, PermissionsExt},
    thread,
    time::{Duration, SystemTime},
};

use yalotheca_core::id::{Digest, TreePath};
use yalotheca_host::{
    store::Store,
    tree::{Access, LocalTree, Tree, Upload, UploadError, UploadSource},
};

use crate::Done;

fn noise(length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(b"store").finalize_xof().fill(&mut bytes);
    bytes
}

#[test]
fn small_and_large_files_are_kept_by_digest() -> Done {
    let folder = tempfile::tempdir()?;
    let store = Store::at(folder.path());
    for length in [0, 1, 4 << 20, (4 << 20) + 1, 9 << 20] {
        let bytes = noise(length);
        let (digest, size) = store.insert_from(&mut Cursor::new(&bytes))??;
        assert_eq!((digest, size), (Digest::of(&bytes), length as u64));
        let path = store.file(&digest).ok_or("it is there")?;
        assert_eq!(fs::read(&path)?, bytes);
        assert!(store.has(&digest, size, None) && !store.has(&digest, size + 1, None));
        assert_eq!(fs::metadata(&path)?.permissions().mode() & 0o444, 0o444, "a server's user can read it");
        assert_eq!(store.insert_from(&mut Cursor::new(&bytes))??.0, digest, "again is no error");
    }
    Ok(())
}

#[test]
fn a_file_that_was_never_finished_is_written_again() -> Done {
    let folder = tempfile::tempdir()?;
    let digest = Store::at(folder.path()).insert_bytes(b"whole")?;
    let path = Store::at(folder.path()).file(&digest).ok_or("it is there")?;
    fs::write(&path, "wh")?;
    let store = Store::at(folder.path());
    assert!(!store.has(&digest, 5, None), "its size tells");
    store.insert_bytes(b"whole")?;
    assert_eq!(fs::read(&path)?, b"whole");
    Ok(())
}

#[test]
fn a_shared_file_is_looked_at_before_it_is_used_again() -> Done {
    let folder = tempfile::tempdir()?;
    let (cache, server) = (folder.path().join("cache"), folder.path().join("server"));
    fs::create_dir(&server)?;
    let digest = Store::at(&cache).insert_bytes(b"map")?;
    let kept = Store::at(&cache).file(&digest).ok_or("it is there")?;
    let tree = LocalTree::new(&server);
    let (first, second) = (TreePath::new("a.kmap")?, TreePath::new("b.kmap")?);
    // Only a file that has the right owner and mode already can be shared by a second name.
    let (same, other) = (TreePath::new("same")?, TreePath::new("other")?);
    fs::write(server.join("same"), "")?;
    fs::set_permissions(server.join("same"), fs::metadata(&kept)?.permissions())?;
    fs::write(server.join("other"), "")?;
    fs::set_permissions(server.join("other"), fs::Permissions::from_mode(0o604))?;
    let put = |path: &TreePath, like: &TreePath| -> Result<bool, UploadError> {
        let source = UploadSource::Cached(&kept);
        let access = Access::Like(like);
        tree.upload(&[Upload { path, source, access, digest, size: 3, may_share: true }])?;
        let (kept, put) = (fs::metadata(&kept).ok(), fs::metadata(server.join(path.as_str())).ok());
        Ok(kept.zip(put).is_some_and(|(kept, put)| kept.ino() == put.ino()))
    };
    let failed = |error: UploadError| format!("{error:?}");
    assert!(!put(&first, &other).map_err(failed)?, "a clone or a copy");
    tree.remove_files(std::slice::from_ref(&first))?;
    let is_link = put(&first, &same).map_err(failed)?;
    assert!(Store::at(&cache).file(&digest).is_some(), "nobody changed it");
    if is_link {
        assert!(!put(&second, &same).map_err(failed)?, "one server shares it, and no second one");
        let then = fs::metadata(&kept)?.modified()?;
        let has = |then| Store::at(&cache).has(&digest, 3, then);
        assert!(has(Some(then)) && has(None), "its date tells, or its bytes");
        fs::write(server.join("a.kmap"), "MAP")?;
        let later = then + Duration::from_secs(9);
        fs::File::open(&kept)?.set_modified(later)?;
        assert!(has(Some(later)), "only whoever uses it learns more");
        assert!(!has(Some(then)), "it was changed since, and is another one");
        assert!(Store::at(&cache).file(&digest).is_none(), "it is another one now");
        assert_eq!(fs::read(server.join("a.kmap"))?, b"MAP", "and the server keeps it");
    }
    Ok(())
}

#[test]
fn what_nobody_has_touched_since_it_was_noted_need_not_be_read_again() -> Done {
    let folder = tempfile::tempdir()?;
    let cache = folder.path().join("cache");
    let digest = Store::at(&cache).insert_bytes(b"map")?;
    let kept = Store::at(&cache).file(&digest).ok_or("it is there")?;
    let is_known = |then: SystemTime| {
        let store = Store::at(&cache);
        assert!(store.has(&digest, 3, Some(then)));
        store.is_fresh(&digest)
    };
    let pause = || thread::sleep(Duration::from_millis(60));
    assert!(!is_known(SystemTime::now()), "it may have changed within the same tick of the clock");
    pause();
    let then = SystemTime::now();
    assert!(is_known(then));
    // Its bytes and its date are as before, and its entry tells that somebody was at it.
    pause();
    fs::hard_link(&kept, folder.path().join("shared"))?;
    assert!(!is_known(then));
    pause();
    assert!(is_known(SystemTime::now()));
    fs::remove_file(folder.path().join("shared"))?;
    pause();
    assert!(!is_known(then) && is_known(SystemTime::now()));
    Ok(())
}

#[test]
fn what_is_old_or_too_much_is_swept() -> Done {
    let folder = tempfile::tempdir()?;
    let store = Store::at(folder.path());
    for name in [&b"one"[..], b"two", b"three"] {
        store.insert_bytes(name)?;
    }
    let month = Duration::from_secs(30 * 24 * 60 * 60);
    assert_eq!(store.sweep(month, None)?, (0, 0));
    assert_eq!(store.sweep(month, Some(8))?.0, 1, "the longest unused goes first");
    let (files, bytes) = store.sweep(Duration::ZERO, None)?;
    assert_eq!(files, 2);
    assert!(bytes >= 6);
    assert_eq!(store.sweep(Duration::ZERO, None)?, (0, 0));
    Ok(())
}

#[test]
fn an_inventory_knows_unchanged_files_and_forgets_those_that_are_gone() -> Done {
    let (folder, cache) = (tempfile::tempdir()?, tempfile::tempdir()?);
    let file = cache.path().join("inventory");
    let tree = || LocalTree::new(folder.path()).with_inventory(Some(&file));
    let name = |at: usize| format!("part{}/f{at}", at % 7);
    for at in 0..4_000 {
        let path = folder.path().join(name(at));
        fs::create_dir_all(path.parent().ok_or("it lies in a folder")?)?;
        fs::write(path, format!("{at}"))?;
    }
    let mut paths: Vec<TreePath> = (0..4_000).map(|at| TreePath::new(&name(at))).collect::<Result<_, _>>()?;
    paths.sort();
    // What was written a moment ago is not noted.
    std::thread::sleep(std::time::Duration::from_millis(60));
    let expected = tree().digest(&paths)?;
    assert!(expected.iter().all(Option::is_some));
    let whole = fs::metadata(&file)?.len();
    fs::write(folder.path().join(name(7)), "other")?;
    for at in 1_000..2_000 {
        fs::remove_file(folder.path().join(name(at)))?;
    }
    let left = |path: &TreePath| fs::exists(folder.path().join(path.as_str())).unwrap_or(false);
    {
        // Missing files are not asked for.
        let tree = tree();
        tree.prefetch();
        tree.digest(&paths.iter().filter(|path| left(path)).cloned().collect::<Vec<_>>())?;
    }
    assert!(fs::metadata(&file)?.len() < whole * 4 / 5);
    for is_ahead in [true, false] {
        let tree = tree();
        if is_ahead {
            tree.prefetch();
        }
        for (path, (found, before)) in paths.iter().zip(tree.digest(&paths)?.into_iter().zip(&expected)) {
            let at: usize = path.name()[1..].parse()?;
            let wanted = match at {
                7 => Some((Digest::of(b"other"), 5)),
                1_000..2_000 => None,
                _ => *before,
            };
            assert_eq!(found, wanted, "{path}");
        }
    }
    Ok(())
}

#[test]
fn digests_of_files_are_read_once_as_long_as_they_stay() -> Done {
    let folder = tempfile::tempdir()?;
    let store = Store::at(&folder.path().join("cache"));
    let path = folder.path().join("x");
    fs::write(&path, "one")?;
    assert_eq!(store.digest_of(&path)?, (Digest::of(b"one"), 3));
    fs::write(&path, "three")?;
    assert_eq!(store.digest_of(&path)?, (Digest::of(b"three"), 5));
    assert!(store.digest_of(&folder.path().join("gone")).is_err());
    Ok(())
}
