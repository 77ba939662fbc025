//! Archives made by other programs, and archives made to do harm.

use std::{
    fs,
    io::Write,
    path::{Path, PathBuf},
    process::Command,
};

use yalotheca_host::{
    store::Store,
    unpack::{Limits, UnpackError, UnpackOptions, Unpacked, unpack},
};

use crate::Done;

type Found = Result<Unpacked, Box<dyn std::error::Error>>;

fn store(folder: &Path) -> Store {
    Store::at(&folder.join("cache"))
}

fn unpacked(folder: &Path, path: &Path, options: &UnpackOptions) -> Result<Option<Unpacked>, UnpackError> {
    let name = path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
    unpack(path, &name, &store(folder), options)
}

fn good(folder: &Path, path: &Path, options: &UnpackOptions) -> Found {
    Ok(unpacked(folder, path, options)?.ok_or_else(|| format!("{} is no archive", path.display()))?)
}

fn paths(unpacked: &Unpacked) -> Vec<&str> {
    unpacked.members.iter().map(|member| member.path.as_str()).collect()
}

/// A program of the system; where it is missing the test says so, and fails where real programs are asked for.
fn has(program: &str) -> bool {
    let there = Command::new(program).arg("--help").output().is_ok();
    if !there {
        assert!(std::env::var_os("YALOTHECA_REAL").is_none(), "{program} is missing");
        writeln!(std::io::stderr(), "skipped: {program} is missing").ok();
    }
    there
}

fn run(folder: &Path, words: &[&str]) -> Done {
    let output = Command::new(words[0]).args(&words[1..]).current_dir(folder).output()?;
    if output.status.success() {
        Ok(())
    } else {
        Err(format!(
            "{words:?}: {}{}",
            String::from_utf8_lossy(&output.stdout),
            String::from_utf8_lossy(&output.stderr)
        )
        .into())
    }
}

/// A folder with some files in it, one larger than what is read at once.
fn things(folder: &Path) -> Done {
    for (name, text) in [
        ("lamps/mod.conf", "name = lamps\n"),
        ("lamps/init.lua", "-- light"),
        ("lamps/deep/nächte.txt", "dunkel"),
    ] {
        let path = folder.join("in").join(name);
        path.parent().map_or(Ok(()), fs::create_dir_all)?;
        fs::write(path, text)?;
    }
    let mut large = vec![0; 5 << 20];
    blake3::Hasher::new().update(b"large").finalize_xof().fill(&mut large);
    Ok(fs::write(folder.join("in/lamps/large.bin"), large)?)
}

const ALL: [&str; 4] = ["lamps/deep/nächte.txt", "lamps/init.lua", "lamps/large.bin", "lamps/mod.conf"];

fn same(folder: &Path, archive: &str, options: &UnpackOptions) -> Done {
    let found = good(folder, &folder.join(archive), options)?;
    assert_eq!(paths(&found), ALL, "{archive}");
    for member in &found.members {
        let kept = store(folder).file(&member.digest).ok_or("it is in the cache")?;
        assert_eq!(
            fs::read(kept)?,
            fs::read(folder.join("in").join(&member.path))?,
            "{archive}: {}",
            member.path
        );
    }
    // The second time it is only looked up.
    assert_eq!(good(folder, &folder.join(archive), &UnpackOptions::default())?, found);
    Ok(())
}

/// No program at hand writes zips with zstd inside; this one is made with the library, members and all.
#[test]
fn a_zip_with_zstd_inside() -> Done {
    let folder = tempfile::tempdir()?;
    things(folder.path())?;
    let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Zstd);
    let mut archive = zip::ZipWriter::new(fs::File::create(folder.path().join("zstd.zip"))?);
    for name in ALL {
        archive.start_file(name, options)?;
        archive.write_all(&fs::read(folder.path().join("in").join(name))?)?;
    }
    archive.finish()?;
    same(folder.path(), "zstd.zip", &UnpackOptions::default())
}

#[test]
fn zips_of_other_programs() -> Done {
    let folder = tempfile::tempdir()?;
    things(folder.path())?;
    let secret = UnpackOptions { password: Some("larkspur".into()), ..UnpackOptions::default() };
    if has("zip") {
        run(&folder.path().join("in"), &["zip", "-qr", "../deflated.zip", "lamps"])?;
        run(&folder.path().join("in"), &["zip", "-qr0", "../stored.zip", "lamps"])?;
        run(&folder.path().join("in"), &["zip", "-qr", "-Z", "bzip2", "../bzip2.zip", "lamps"])?;
        run(&folder.path().join("in"), &["zip", "-qr", "-P", "larkspur", "../old-password.zip", "lamps"])?;
        for name in ["deflated.zip", "stored.zip", "bzip2.zip"] {
            same(folder.path(), name, &UnpackOptions::default())?;
        }
        let path = folder.path().join("old-password.zip");
        let error =
            unpacked(folder.path(), &path, &UnpackOptions::default()).err().ok_or("it has a password")?;
        assert!(matches!(error, UnpackError::Password { wrong: false, .. }), "{error}");
        let wrong = UnpackOptions { password: Some("foxglove".into()), ..UnpackOptions::default() };
        let error = unpacked(folder.path(), &path, &wrong).err().ok_or("it is the wrong one")?;
        assert!(matches!(error, UnpackError::Password { wrong: true, .. }), "{error}");
        same(folder.path(), "old-password.zip", &secret)?;
    }
    if has("7z") {
        run(
            &folder.path().join("in"),
            &["7z", "a", "-tzip", "-mem=AES256", "-plarkspur", "../aes.zip", "lamps"],
        )?;
        let path = folder.path().join("aes.zip");
        let error =
            unpacked(folder.path(), &path, &UnpackOptions::default()).err().ok_or("it has a password")?;
        assert!(matches!(error, UnpackError::Password { wrong: false, .. }), "{error}");
        same(folder.path(), "aes.zip", &secret)?;
    }
    if has("bsdtar") {
        run(&folder.path().join("in"), &["bsdtar", "--format", "zip", "-cf", "../streamed.zip", "lamps"])?;
        same(folder.path(), "streamed.zip", &UnpackOptions::default())?;
    }
    Ok(())
}

#[test]
fn tars_and_single_files_of_other_programs() -> Done {
    let folder = tempfile::tempdir()?;
    things(folder.path())?;
    let inside = folder.path().join("in");
    for (name, how) in
        [("plain.tar", "-cf"), ("a.tar.gz", "-czf"), ("a.tar.bz2", "-cjf"), ("a.tar.xz", "-cJf")]
    {
        run(&inside, &["tar", how, &format!("../{name}"), "lamps"])?;
        same(folder.path(), name, &UnpackOptions::default())?;
    }
    run(&inside, &["tar", "--zstd", "-cf", "../a.tar.zst", "./lamps"])?;
    same(folder.path(), "a.tar.zst", &UnpackOptions::default())?;
    if has("bsdtar") {
        run(&inside, &["bsdtar", "-cf", "../b.tar", "lamps"])?;
        same(folder.path(), "b.tar", &UnpackOptions::default())?;
    }
    fs::write(folder.path().join("gull_cliffs.kmap"), "KMAP and more")?;
    for (words, suffix) in [
        (&["gzip", "-k"] as &[&str], "gz"),
        (&["bzip2", "-k"], "bz2"),
        (&["xz", "-k"], "xz"),
        (&["zstd", "-q", "-k"], "zst"),
    ] {
        run(folder.path(), &[words, &["gull_cliffs.kmap"]].concat())?;
        let found = good(
            folder.path(),
            &folder.path().join(format!("gull_cliffs.kmap.{suffix}")),
            &UnpackOptions::default(),
        )?;
        assert_eq!(paths(&found), ["gull_cliffs.kmap"]);
        assert_eq!(found.members[0].size, 13);
    }
    Ok(())
}

#[test]
fn seven_z_with_and_without_a_password() -> Done {
    let folder = tempfile::tempdir()?;
    things(folder.path())?;
    if !has("7z") {
        return Ok(());
    }
    let inside = folder.path().join("in");
    run(&inside, &["7z", "a", "../plain.7z", "lamps"])?;
    same(folder.path(), "plain.7z", &UnpackOptions::default())?;
    for (name, how) in [("secret.7z", "-mhe=off"), ("hidden.7z", "-mhe=on")] {
        run(&inside, &["7z", "a", "-plarkspur", how, &format!("../{name}"), "lamps"])?;
        let path = folder.path().join(name);
        let error =
            unpacked(folder.path(), &path, &UnpackOptions::default()).err().ok_or("it has a password")?;
        assert!(matches!(error, UnpackError::Password { wrong: false, .. }), "{name}: {error}");
        let wrong = UnpackOptions { password: Some("foxglove".into()), ..UnpackOptions::default() };
        let error = unpacked(folder.path(), &path, &wrong).err().ok_or("it is the wrong one")?;
        assert!(matches!(error, UnpackError::Password { wrong: true, .. }), "{name}: {error}");
        same(
            folder.path(),
            name,
            &UnpackOptions { password: Some("larkspur".into()), ..UnpackOptions::default() },
        )?;
    }
    Ok(())
}

fn zip(path: &Path, files: &[(&str, &[u8])]) -> Done {
    let mut zip = zip::ZipWriter::new(fs::File::create(path)?);
    for (name, bytes) in files {
        zip.start_file(*name, zip::write::SimpleFileOptions::default())?;
        zip.write_all(bytes)?;
    }
    zip.finish()?;
    Ok(())
}

/// A tar with one member whose header is as the attack wants it.
fn tar(path: &Path, name: &str, sort: tar::EntryType, link: Option<&str>) -> Done {
    let mut header = tar::Header::new_ustar();
    header.set_entry_type(sort);
    header.set_mode(0o644);
    header.set_size(u64::from(sort == tar::EntryType::Regular));
    // The library refuses such names itself, so they are written past it.
    header.as_old_mut().name[..name.len()].copy_from_slice(name.as_bytes());
    if let Some(link) = link {
        header.as_old_mut().linkname[..link.len()].copy_from_slice(link.as_bytes());
    }
    header.set_cksum();
    let mut builder = tar::Builder::new(fs::File::create(path)?);
    builder.append(&header, if sort == tar::EntryType::Regular { &b"x"[..] } else { &b""[..] })?;
    Ok(builder.finish()?)
}

fn refused(folder: &Path, path: &Path) -> Result<UnpackError, Box<dyn std::error::Error>> {
    let error = unpacked(folder, path, &UnpackOptions::default()).err();
    error.ok_or_else(|| format!("{} was unpacked", path.display()).into())
}

#[test]
fn nothing_leads_out_of_an_archive() -> Done {
    use tar::EntryType::{Block, Char, Fifo, Link, Regular, Symlink};
    let folder = tempfile::tempdir()?;
    let root = folder.path();
    let mut bad: Vec<PathBuf> = Vec::new();
    for (at, name) in
        ["../outside", "/etc/absolute", "a/../../b", "..\\b", "C:\\windows\\x", "a\nb"].iter().enumerate()
    {
        let path = root.join(format!("name-{at}.zip"));
        zip(&path, &[("good", b"y"), (name, b"x")])?;
        bad.push(path);
        let path = root.join(format!("name-{at}.tar"));
        tar(&path, name, Regular, None)?;
        bad.push(path);
    }
    for (at, (sort, link)) in [
        (Symlink, Some("/etc/passwd")),
        (Symlink, Some("../../outside")),
        (Link, Some("/etc/passwd")),
        (Link, Some("../outside")),
        (Block, None),
        (Char, None),
        (Fifo, None),
    ]
    .into_iter()
    .enumerate()
    {
        let path = root.join(format!("sort-{at}.tar"));
        tar(&path, "inner/thing", sort, link)?;
        bad.push(path);
    }
    for path in bad {
        let error = refused(root, &path)?;
        assert!(matches!(error, UnpackError::Unsafe { .. }), "{}: {error}", path.display());
        assert!(!error.to_string().contains('\n'), "no control characters reach the terminal");
    }
    let outside = fs::read_dir(root)?.flatten().filter(|entry| entry.file_name() == "outside").count();
    assert_eq!(outside, 0);
    Ok(())
}

#[test]
fn links_that_stay_inside_become_copies() -> Done {
    let folder = tempfile::tempdir()?;
    let root = folder.path();
    fs::create_dir_all(root.join("in/a"))?;
    fs::write(root.join("in/a/real.txt"), "x")?;
    std::os::unix::fs::symlink("real.txt", root.join("in/a/soft.txt"))?;
    std::os::unix::fs::symlink("gone.txt", root.join("in/a/dangling.txt"))?;
    fs::hard_link(root.join("in/a/real.txt"), root.join("in/hard.txt"))?;
    run(&root.join("in"), &["tar", "-cf", "../links.tar", "a", "hard.txt"])?;
    let found = good(root, &root.join("links.tar"), &UnpackOptions::default())?;
    assert_eq!(paths(&found), ["a/real.txt", "a/soft.txt", "hard.txt"]);
    assert!(found.members.iter().all(|member| member.size == 1));
    assert_eq!(found.notes, ["a/dangling.txt is a link to a/gone.txt, which is no file in it"]);
    if has("zip") {
        run(&root.join("in"), &["zip", "-qry", "../links.zip", "a"])?;
        let found = good(root, &root.join("links.zip"), &UnpackOptions::default())?;
        assert_eq!(paths(&found), ["a/real.txt", "a/soft.txt"]);
    }
    Ok(())
}

#[test]
fn bounds_hold_against_bombs() -> Done {
    let folder = tempfile::tempdir()?;
    let root = folder.path();
    let limits = |limits: Limits| UnpackOptions { limits, ..UnpackOptions::default() };
    let usual = Limits::default();
    zip(&root.join("many.zip"), &[("a", b"1"), ("b", b"2"), ("c", b"3")])?;
    let error = unpacked(root, &root.join("many.zip"), &limits(Limits { entries: 2, ..usual }));
    assert!(matches!(error, Err(UnpackError::TooMuch { .. })), "{error:?}");
    let zeros = vec![0_u8; 80 << 20];
    zip(&root.join("bomb.zip"), &[("zeros", &zeros)])?;
    let mut gzip =
        flate2::write::GzEncoder::new(fs::File::create(root.join("bomb.gz"))?, flate2::Compression::best());
    gzip.write_all(&zeros)?;
    gzip.finish()?;
    for name in ["bomb.zip", "bomb.gz"] {
        let path = root.join(name);
        let error = refused(root, &path)?;
        assert!(matches!(error, UnpackError::TooMuch { .. }), "{name}: {error}");
        let error = unpacked(root, &path, &limits(Limits { bytes: 1 << 20, ratio: 100_000, ..usual }));
        assert!(matches!(error, Err(UnpackError::TooMuch { .. })), "{name}: {error:?}");
        let found = good(root, &path, &limits(Limits { ratio: 100_000, ..usual }))?;
        assert_eq!(found.members[0].size, 80 << 20, "whoever raises the bound gets it");
    }
    Ok(())
}

#[test]
fn damage_is_told_as_such() -> Done {
    let folder = tempfile::tempdir()?;
    let root = folder.path();
    things(root)?;
    let inside = root.join("in");
    run(&inside, &["tar", "-czf", "../whole.tar.gz", "lamps"])?;
    run(&inside, &["tar", "-cf", "../whole.tar", "lamps"])?;
    zip(&root.join("whole.zip"), &[("a", &vec![7; 100_000])])?;
    let mut names = vec!["whole.tar.gz", "whole.tar", "whole.zip"];
    if has("7z") {
        run(&inside, &["7z", "a", "../whole.7z", "lamps"])?;
        names.push("whole.7z");
    }
    for name in names {
        let bytes = fs::read(root.join(name))?;
        let path = root.join(format!("cut-{name}"));
        fs::write(&path, &bytes[..bytes.len() * 9 / 10 - 700.min(bytes.len() / 2)])?;
        let error = refused(root, &path)?;
        assert!(matches!(error, UnpackError::Damaged { .. }), "{name}: {error}");
    }
    fs::write(root.join("x.rar"), b"Rar!\x1a\x07\x01\x00 and so on")?;
    assert!(matches!(refused(root, &root.join("x.rar"))?, UnpackError::Rar { .. }));
    fs::write(root.join("page.zip"), "<html>")?;
    assert_eq!(unpacked(root, &root.join("page.zip"), &UnpackOptions::default())?, None);
    zip(&root.join("case.zip"), &[("Pier.tile", b"1"), ("pier.tile", b"2")])?;
    let found = good(root, &root.join("case.zip"), &UnpackOptions::default())?;
    assert_eq!(found.notes, ["Pier.tile and pier.tile are one name on some disks"]);
    Ok(())
}

/// The blocks of a tar: a header for a member, then what is given.
fn tar_block(name: &str, sort: u8, size: u64, data: &[u8]) -> Vec<u8> {
    let mut header = tar::Header::new_ustar();
    header.set_path(name).ok();
    header.set_mode(0o644);
    header.set_entry_type(tar::EntryType::new(sort));
    header.set_size(size);
    header.set_cksum();
    let mut bytes = header.as_bytes().to_vec();
    bytes.extend_from_slice(data);
    bytes.resize(bytes.len().div_ceil(512) * 512, 0);
    bytes
}

const END: [u8; 1024] = [0; 1024];

fn compressed(path: &Path, head: &[u8], zeros: u64, tail: &[u8]) -> Done {
    let file = fs::File::create(path)?;
    let mut writer = bzip2::write::BzEncoder::new(file, bzip2::Compression::best());
    writer.write_all(head)?;
    let block = vec![0; 1 << 20];
    for _ in 0..zeros >> 20 {
        writer.write_all(&block)?;
    }
    writer.write_all(tail)?;
    writer.finish()?;
    Ok(())
}

#[test]
fn a_tar_says_little_before_its_members_and_ends_with_a_mark() -> Done {
    let folder = tempfile::tempdir()?;
    let root = folder.path();
    let refuse = |name: &str, bytes: &[u8], says: &str| -> Done {
        let path = root.join(name);
        fs::write(&path, bytes)?;
        let error = unpacked(root, &path, &UnpackOptions::default())
            .err()
            .ok_or_else(|| format!("{name} was taken"))?;
        assert!(error.to_string().contains(says), "{name}: {error}");
        Ok(())
    };
    // A long name, a long link and an extended header that are longer than any.
    for (sort, name) in [(b'L', "name"), (b'K', "link"), (b'x', "header")] {
        let size: u64 = 3 << 30;
        let path = root.join(format!("{name}.tar.bz2"));
        compressed(&path, &tar_block("././@LongLink", sort, size, b""), 64 << 20, &[])?;
        let error = unpacked(root, &path, &UnpackOptions::default()).err().ok_or("it was taken")?;
        assert!(matches!(error, UnpackError::TooMuch { .. }), "{name}: {error}");
    }
    // A folder, or something else that is skipped, of many bytes: they count as well.
    let limits = Limits { entries: 10, bytes: 100 << 20, ratio: 1_000_000 };
    let options = UnpackOptions { limits, ..UnpackOptions::default() };
    for sort in [b'5', b'g'] {
        let path = root.join("skipped.tar.bz2");
        compressed(&path, &tar_block("folder/", sort, 8 << 30, b""), 300 << 20, &END)?;
        let error = unpacked(root, &path, &options).err().ok_or("it was taken")?;
        assert!(matches!(error, UnpackError::TooMuch { .. }), "{error}");
    }
    // Cut at the end of a member, and within the mark.
    let whole = [tar_block("a.txt", b'0', 3, b"abc"), tar_block("b.txt", b'0', 3, b"def")].concat();
    refuse("cut.tar", &whole[..1024], "without a tar archive's end mark")?;
    refuse("cut2.tar", &whole, "without a tar archive's end mark")?;
    refuse("cut3.tar", &[&whole[..], &END[..200]].concat(), "")?;
    fs::write(root.join("whole.tar"), [&whole[..], &END].concat())?;
    assert_eq!(paths(&good(root, &root.join("whole.tar"), &UnpackOptions::default())?), ["a.txt", "b.txt"]);
    // Names that are longer than a header holds, in both ways, as other programs write them.
    let long = format!("{}/{}.lua", "n".repeat(150), "o".repeat(120));
    let record = format!("path={long}\n");
    let length = (0..1000).find(|length| format!("{length} {record}").len() == *length).ok_or("a length")?;
    for (sort, text) in [(b'L', format!("{long}\0")), (b'x', format!("{length} {record}"))] {
        let head = tar_block("long", sort, text.len() as u64, text.as_bytes());
        fs::write(root.join("long.tar"), [head, tar_block("short", b'0', 3, b"abc"), END.to_vec()].concat())?;
        assert_eq!(paths(&good(root, &root.join("long.tar"), &UnpackOptions::default())?), [long.as_str()]);
    }
    let climbs = "../../out";
    let head = tar_block("long", b'L', climbs.len() as u64, climbs.as_bytes());
    refuse("climbs.tar", &[head, tar_block("short", b'0', 3, b"abc"), END.to_vec()].concat(), "not safe")?;
    let sizes = "12 size=600\n";
    let head = tar_block("long", b'x', sizes.len() as u64, sizes.as_bytes());
    refuse("sizes.tar", &[head, tar_block("short", b'0', 3, b"abc"), END.to_vec()].concat(), "two sizes")?;
    Ok(())
}

#[test]
fn a_7z_that_asks_for_too_much_memory_is_not_opened() -> Done {
    if !has("7z") {
        return Ok(());
    }
    let folder = tempfile::tempdir()?;
    let root = folder.path();
    fs::write(root.join("a.txt"), "abc".repeat(1000))?;
    run(root, &["7z", "a", "-mhc=off", "-m0=lzma2", "a.7z", "a.txt"])?;
    let mut bytes = fs::read(root.join("a.7z"))?;
    let crc = |bytes: &[u8]| {
        let mut crc = flate2::Crc::new();
        crc.update(bytes);
        crc.sum().to_le_bytes()
    };
    let word = |at: usize| -> Result<usize, Box<dyn std::error::Error>> {
        Ok(usize::try_from(u64::from_le_bytes(bytes[at..at + 8].try_into()?))?)
    };
    let (start, size) = (32 + word(12)?, word(20)?);
    // The dictionary's size stands behind the method's id; the checksums above it are made right again.
    let at =
        bytes[start..].windows(3).position(|three| three == [0x21, 0x21, 0x01]).ok_or("LZMA2 is named")?;
    bytes[start + at + 3] = 40;
    let header = crc(&bytes[start..start + size]);
    bytes[28..32].copy_from_slice(&header);
    let head = crc(&bytes[12..32]);
    bytes[8..12].copy_from_slice(&head);
    fs::write(root.join("b.7z"), bytes)?;
    let error = unpacked(root, &root.join("b.7z"), &UnpackOptions::default()).err().ok_or("it was opened")?;
    assert!(error.to_string().contains("4095 MB of memory"), "{error}");
    Ok(())
}
