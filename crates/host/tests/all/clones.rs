//! A disk that can clone files: XFS in a file of its own, where this machine lets us mount one.

use std::{
    fs::{self, File},
    os::unix::fs::MetadataExt,
    path::Path,
    process::{Command, Stdio},
};

use yalotheca_core::{
    change::{Source, Step},
    id::{Digest, TreePath},
};
use yalotheca_host::{
    sources::{ByteSource, Sources},
    store::Store,
};

use crate::{Done, settling::carry_out};

/// A disk of its own; gone when this is dropped.
struct Disk(tempfile::TempDir);

impl Disk {
    /// Nothing where the machine does not let us.
    fn new() -> Result<Option<Self>, Box<dyn std::error::Error>> {
        let folder = tempfile::tempdir()?;
        let (image, at) = (folder.path().join("image"), folder.path().join("disk"));
        fs::create_dir(&at)?;
        File::create(&image)?.set_len(400 << 20)?;
        let run = |program: &str, words: &[&str], path: &Path| {
            let mut command = Command::new(program);
            command.args(words).arg(path).stdout(Stdio::null()).stderr(Stdio::null());
            command.status().is_ok_and(|status| status.success())
        };
        let image_text = image.display().to_string();
        let is_there = run("mkfs.xfs", &["-q"], &image) && run("mount", &["-o", "loop", &image_text], &at);
        Ok(is_there.then_some(Self(folder)))
    }

    fn path(&self, name: &str) -> std::path::PathBuf {
        self.0.path().join("disk").join(name)
    }

    /// How many bytes are free on it.
    fn free(&self) -> Result<u64, Box<dyn std::error::Error>> {
        rustix::fs::syncfs(File::open(self.path(""))?)?;
        let disk = rustix::fs::statvfs(self.path(""))?;
        Ok(disk.f_bfree * disk.f_frsize)
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        // What lies on it goes with it.
        Command::new("umount").arg(self.path("")).status().ok();
    }
}

#[test]
fn each_server_has_a_clone_of_its_own_that_takes_no_room() -> Done {
    let Some(disk) = Disk::new()? else {
        println!("skipped: no XFS can be made or mounted here");
        return Ok(());
    };
    let store = Store::at(&disk.path("cache"));
    let large = vec![7; 24 << 20];
    let texts: [&[u8]; 3] = [&large, b"a small one", b""];
    let (mut steps, mut sources) = (Vec::new(), Sources::default());
    for (at, bytes) in texts.iter().enumerate() {
        let digest = store.insert_bytes(bytes)?;
        let kept = store.file(&digest).ok_or("it was just put in")?;
        // One is known to be whole, the others are looked at.
        let source = if at == 1 { ByteSource::Fresh(kept) } else { ByteSource::Cached(kept) };
        sources.insert(digest, source);
        let (path, size) = (TreePath::new(&format!("f{at}"))?, bytes.len() as u64);
        steps.push(Step::Put { path, source: Source::Payload, before: None, after: digest, size });
    }
    let before = disk.free()?;
    for server in ["one", "two", "three"] {
        fs::create_dir(disk.path(server))?;
        carry_out(&disk.path(server), steps.clone(), &sources)?;
    }
    let taken = before.saturating_sub(disk.free()?);
    assert!(taken < large.len() as u64 / 2, "three servers take {taken} bytes");
    for (at, bytes) in texts.iter().enumerate() {
        let path = disk.path("two").join(format!("f{at}"));
        assert_eq!((fs::read(&path)? == *bytes, fs::metadata(&path)?.nlink()), (true, 1), "f{at}");
    }
    // What one server does to its file reaches nobody else.
    fs::write(disk.path("one/f1"), "changed")?;
    assert_eq!(fs::read(disk.path("two/f1"))?, b"a small one");
    assert!(Store::at(&disk.path("cache")).file(&Digest::of(b"a small one")).is_some());
    Ok(())
}
