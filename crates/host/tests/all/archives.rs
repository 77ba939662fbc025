//! Archives and folders as bundles.

use std::{
    fs::{self, File},
    io::Write,
    path::Path,
};

use yalotheca_core::id::TreePath;
use yalotheca_core::route::Bundle;
use yalotheca_host::{
    archive::{FolderBundle, ZipBundle, folder_payload},
    tree::LocalTree,
};
use zip::{ZipWriter, write::SimpleFileOptions};

use crate::Done;

fn zip(path: &Path, files: &[(&str, &[u8])]) -> Done {
    let mut zip = ZipWriter::new(File::create(path)?);
    for (name, bytes) in files {
        zip.start_file(*name, SimpleFileOptions::default())?;
        zip.write_all(bytes)?;
    }
    zip.finish()?;
    Ok(())
}

fn open(path: &Path) -> Result<ZipBundle, Box<dyn std::error::Error>> {
    Ok(ZipBundle::open(path)?.ok_or("it is an archive")?)
}

#[test]
fn a_zip_is_known_by_its_bytes_and_not_by_its_name() -> Done {
    let folder = tempfile::tempdir()?;
    let path = folder.path().join("tidebell.swp");
    zip(&path, &[("plugin.json", b"{}")])?;
    assert!(ZipBundle::open(&path)?.is_some());
    for (name, bytes) in [("page.zip", &b"<html>"[..]), ("empty.zip", b""), ("short.zip", b"PK")] {
        fs::write(folder.path().join(name), bytes)?;
        assert!(ZipBundle::open(&folder.path().join(name))?.is_none(), "{name}");
    }
    fs::write(folder.path().join("cut.zip"), &fs::read(&path)?[..40])?;
    assert!(ZipBundle::open(&folder.path().join("cut.zip")).is_err(), "a damaged archive is an error");
    assert!(ZipBundle::open(&folder.path().join("gone.zip")).is_err());
    Ok(())
}

#[test]
fn members_are_read_and_folders_listed() -> Done {
    let folder = tempfile::tempdir()?;
    let path = folder.path().join("pack.zip");
    zip(&path, &[("pack.conf", b"x"), ("one/init.lua", b"1"), ("one/deep/a", b"2"), ("two/init.lua", b"3")])?;
    let mut bundle = open(&path)?;
    assert!(bundle.has("pack.conf") && !bundle.has("one") && !bundle.has("init.lua"));
    assert_eq!(bundle.read("one/init.lua")?.as_deref(), Some(&b"1"[..]));
    assert_eq!(bundle.read("gone")?, None);
    assert_eq!(bundle.folders(""), ["one", "two"]);
    assert_eq!(bundle.folders("one"), ["deep"]);
    assert_eq!(bundle.wrapper(), None);
    let mut inner = open(&path)?.inside("one");
    assert!(inner.has("init.lua") && !inner.has("pack.conf"));
    assert_eq!(inner.read("deep/a")?.as_deref(), Some(&b"2"[..]));
    let mut names: Vec<String> = inner.files().into_iter().map(|(path, _)| path).collect();
    names.sort();
    assert_eq!(names, ["deep/a", "init.lua"]);
    Ok(())
}

#[test]
fn one_folder_around_everything_is_a_wrapper() -> Done {
    let folder = tempfile::tempdir()?;
    let path = folder.path().join("x.zip");
    zip(&path, &[("bells-main/mod.conf", b""), ("bells-main/init.lua", b"")])?;
    assert_eq!(open(&path)?.wrapper().as_deref(), Some("bells-main"));
    zip(&path, &[("bells-main/mod.conf", b""), ("readme", b"")])?;
    assert_eq!(open(&path)?.wrapper(), None);
    Ok(())
}

#[test]
fn a_folder_is_a_bundle_too_and_hidden_files_stay_out() -> Done {
    let folder = tempfile::tempdir()?;
    for (name, text) in
        [("mod.conf", "name = a"), ("textures/b.png", "pixels"), (".git/config", "x"), (".hidden", "y")]
    {
        let path = folder.path().join(name);
        path.parent().map_or(Ok(()), fs::create_dir_all)?;
        fs::write(path, text)?;
    }
    let mut bundle = FolderBundle::new(folder.path());
    assert!(bundle.has("mod.conf") && !bundle.has("textures"));
    assert_eq!(bundle.read("mod.conf")?.as_deref(), Some(&b"name = a"[..]));
    assert_eq!(bundle.read("mod.conf/below")?, None);
    assert_eq!(bundle.folders(""), [".git", "textures"]);
    let payload = folder_payload(&LocalTree::new(folder.path()), &TreePath::root())?;
    let names: Vec<&str> = payload.files.iter().map(|file| file.path.as_str()).collect();
    assert_eq!(names, ["mod.conf", "textures/b.png"]);
    assert_eq!(payload.size(), 14);
    let before = payload.digest();
    fs::write(folder.path().join("textures/b.png"), "pixelz")?;
    assert_ne!(folder_payload(&LocalTree::new(folder.path()), &TreePath::root())?.digest(), before);
    fs::rename(folder.path().join("textures/b.png"), folder.path().join("textures/c.png"))?;
    assert_ne!(
        folder_payload(&LocalTree::new(folder.path()), &TreePath::root())?.digest(),
        before,
        "names count as well"
    );
    Ok(())
}
