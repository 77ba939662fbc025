//! A server's folder behind FTP servers that behave badly.

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
    sync::Arc,
};

use yalotheca_core::{change::Step, id::Digest};
use yalotheca_host::{
    settle,
    tree::{
        EntryKind, LocalTree, Pins, Protocol, RemoteTree, Tree,
        ftp::{ConnectFtpError, FtpOptions, FtpServer},
    },
};
use yalotheca_standin::ftp_host::{FtpHost, Manners};

use crate::{
    Done,
    remote::carry_out,
    settling::{bells, key, path, text_step},
};

fn connect(host: &FtpHost, password: &str) -> Result<RemoteTree, ConnectFtpError> {
    connect_knowing(host, password, None)
}

/// Connects, with a file in which it is kept what the host can do.
fn connect_knowing(
    host: &FtpHost,
    password: &str,
    capabilities: Option<PathBuf>,
) -> Result<RemoteTree, ConnectFtpError> {
    let options = FtpOptions {
        protocol: Protocol::Ftp,
        host: "127.0.0.1".into(),
        port: host.port(),
        user: "wren".into(),
        pins: Pins::default(),
        capabilities,
    };
    let server = FtpServer::connect(options, password.into())?;
    Ok(RemoteTree::new(Arc::new(server), "/srv", "ftp://quay/srv".into()))
}

/// Servers with one or another fault.
fn kinds() -> Vec<(&'static str, Manners)> {
    let usual = Manners::default;
    vec![
        ("usual", usual()),
        ("MLSD only", Manners { is_plain: true, ..usual() }),
        ("plain lists only", Manners { is_plain: true, has_mlsd: false, ..usual() }),
        ("no MLSD", Manners { has_mlsd: false, ..usual() }),
        ("hides", Manners { has_mlsd: false, hides: true, ..usual() }),
        ("two connections", Manners { connections: 2, ..usual() }),
        ("one connection", Manners { connections: 1, has_mlsd: false, ..usual() }),
        ("replaces nothing", Manners { replaces: false, ..usual() }),
        ("ignores case", Manners { ignores_case: true, ..usual() }),
        ("tears", Manners { tears: true, replaces: false, ..usual() }),
        ("tears lists", Manners { tears: true, has_mlsd: false, hides: true, ..usual() }),
    ]
}

fn everything(folder: &Path) -> Result<BTreeMap<String, Vec<u8>>, Box<dyn std::error::Error>> {
    let mut all = BTreeMap::new();
    for entry in walkdir::WalkDir::new(folder) {
        let entry = entry?;
        let name = entry.path().strip_prefix(folder)?.to_string_lossy().into_owned();
        if !name.starts_with(".yalotheca") && entry.file_type().is_file() {
            all.insert(name, fs::read(entry.path())?);
        }
    }
    Ok(all)
}

#[test]
fn whatever_an_ftp_server_lacks_a_change_is_whole_or_not_at_all() -> Done {
    for (name, manners) in kinds() {
        let (root, files, control) = (tempfile::tempdir()?, tempfile::tempdir()?, tempfile::tempdir()?);
        let srv = root.path().join("srv");
        fs::create_dir_all(srv.join("mods/old"))?;
        for (file, text) in
            [("order.txt", "old"), ("mods/old/a b.lua", "one"), ("mods/old/b.lua", "two"), (".hidden", "x")]
        {
            fs::write(srv.join(file), text)?;
        }
        let large = vec![7; 300_000];
        fs::write(srv.join("large"), &large)?;
        let host = FtpHost::start(root.path(), &manners)?;
        let before = everything(&srv)?;
        // The second time, what was found out is known.
        let known = Some(files.path().join("hosts/quay"));
        drop(connect_knowing(&host, "herring", known.clone()));
        let tree = connect_knowing(&host, "herring", known).map_err(|error| format!("{name}: {error}"))?;
        let local = LocalTree::new(&srv);
        for one in [
            "",
            "mods",
            "mods/old",
            "mods/old/a b.lua",
            "order.txt",
            ".hidden",
            "nothing",
            "nothing/x",
            "order.txt/x",
        ] {
            let one = path(one);
            let both = |tree: &dyn Tree| (tree.kind_of(&one).ok(), tree.list_folder(&one).ok());
            assert_eq!(both(&tree), both(&local), "{name}: {one}");
        }
        assert_eq!(tree.read_file(&path("large"))?, Some(large), "{name}");
        let mut reader = tree.open(&path("large"))?.ok_or("it is there")?;
        std::io::Seek::seek(&mut reader, std::io::SeekFrom::Start(200_000))?;
        let mut bytes = [0; 100];
        std::io::Read::read_exact(&mut reader, &mut bytes)?;
        let (mut steps, sources) = bells(files.path())?;
        steps.push(text_step("order.txt", Some("old"), "new"));
        steps.push(Step::SetAside { path: path("mods/old/b.lua"), before: Digest::of(b"two") });
        let settled = carry_out(&tree, control.path(), (steps, &sources))?;
        let told = format!("{name}: {settled:?}");
        drop((reader, tree));
        settle::recover(&connect(&host, "herring")?, control.path(), &key()?, false)
            .map_err(|error| format!("{told}: {error}"))?;
        let after = everything(&srv)?;
        if manners.tears {
            let is_after = after.contains_key("mods/bells/ring.lua");
            assert!(is_after || after == before, "{told}: {after:?}");
            continue;
        }
        assert!(settled.is_ok(), "{told}");
        assert_eq!(after.get("order.txt").map(Vec::as_slice), Some(&b"new"[..]), "{told}");
        assert!(
            after.contains_key("mods/bells/deep/rope.lua") && !after.contains_key("mods/old/b.lua"),
            "{told}"
        );
        assert!(host.most_connections() <= manners.connections, "{told}");
    }
    Ok(())
}

#[test]
fn links_that_lead_out_are_seen_over_ftp() -> Done {
    let (root, out) = (tempfile::tempdir()?, tempfile::tempdir()?);
    fs::create_dir_all(root.path().join("srv/mods"))?;
    fs::write(out.path().join("x"), "theirs")?;
    std::os::unix::fs::symlink(out.path(), root.path().join("srv/mods/out"))?;
    // It has MLSD, which would show a folder.
    let host = FtpHost::start(root.path(), &Manners::default())?;
    let tree = connect(&host, "herring")?;
    assert_eq!(tree.kind_of(&path("mods/out"))?, Some(EntryKind::Other));
    assert!(
        tree.read_file(&path("mods/out/x")).is_err() && tree.replace(&path("mods/out/x"), b"ours").is_err()
    );
    assert_eq!(fs::read(out.path().join("x"))?, b"theirs");
    Ok(())
}

#[test]
fn whoever_cannot_get_in_over_ftp_learns_why() -> Done {
    let root = tempfile::tempdir()?;
    fs::create_dir_all(root.path().join("srv"))?;
    let host = FtpHost::start(root.path(), &Manners::default())?;
    let error = connect(&host, "wrong").err().ok_or("it was let in")?;
    assert!(
        matches!(&error, ConnectFtpError::Denied { why, .. } if why.contains("Login incorrect")),
        "{error}"
    );
    let options = FtpOptions {
        protocol: Protocol::Ftps,
        host: "127.0.0.1".into(),
        port: host.port(),
        user: "wren".into(),
        pins: Pins::default(),
        capabilities: None,
    };
    let error = FtpServer::connect(options, "herring".into()).err().ok_or("it does not encrypt")?;
    assert!(matches!(error, ConnectFtpError::NoEncryption { .. }), "{error}");
    Ok(())
}

#[test]
fn names_in_another_case_and_names_that_are_no_text() -> Done {
    use std::os::unix::ffi::OsStrExt;

    for ignores_case in [true, false] {
        let (root, files, control) = (tempfile::tempdir()?, tempfile::tempdir()?, tempfile::tempdir()?);
        let srv = root.path().join("srv");
        fs::create_dir_all(srv.join("Mods/Old"))?;
        fs::write(srv.join("Order.TXT"), "old")?;
        fs::write(srv.join("Mods").join(std::ffi::OsStr::from_bytes(b"gl\xf6ckchen.lua")), "")?;
        let host = FtpHost::start(root.path(), &Manners { ignores_case, ..Manners::default() })?;
        let tree = connect(&host, "herring")?;
        assert_eq!(tree.read_file(&path("order.txt"))?.is_some(), ignores_case);
        assert_eq!(tree.kind_of(&path("mods/old"))?.is_some(), ignores_case);
        assert_eq!(tree.kind_of(&path("mods/new"))?, None);
        assert_eq!(tree.list_folder(&path("Mods"))?, [("Old".to_owned(), EntryKind::Folder)]);
        assert_eq!(tree.odd_names(), ["Mods/gl\u{fffd}ckchen.lua"]);
        let local = LocalTree::new(&srv);
        assert_eq!(local.list_folder(&path("Mods"))?.len(), 1);
        assert_eq!(local.odd_names(), ["Mods/glöckchen.lua"]);
        // Where case does not count, what is there is written to, under its own name.
        let (mut steps, sources) = bells(files.path())?;
        let before = ignores_case.then_some("old");
        steps.push(text_step("order.txt", before, "new"));
        carry_out(&tree, control.path(), (steps, &sources))??;
        let (upper, lower) = (srv.join("Order.TXT"), srv.join("order.txt"));
        // This disk knows two names; where they are one, the file has one of them.
        let there: Vec<String> = [upper, lower].iter().flat_map(fs::read_to_string).collect();
        assert_eq!(there, if ignores_case { vec!["new"] } else { vec!["old", "new"] });
        let bells = if ignores_case { "Mods/bells/ring.lua" } else { "mods/bells/ring.lua" };
        assert!(srv.join(bells).exists(), "{bells}");
    }
    Ok(())
}
