//! A server's folder behind a real SSH server, on the loopback.

use std::{
    collections::BTreeMap, fs, net::TcpListener, os::unix::fs::symlink, path::Path, process::Command,
    sync::Arc, time::Duration,
};

use yalotheca_core::{
    change::Step,
    id::{Digest, TreePath},
};
use yalotheca_host::settle;
use yalotheca_host::tree::{
    EntryKind, LocalTree, RemoteTree, Tree,
    sftp::{Answers, ConnectError, NoQuestions, SftpServer, SshOptions},
};

use yalotheca_standin::{
    relay::{Line, Relay},
    ssh_host::SshHost,
};

use crate::{
    Done,
    remote::carry_out,
    settling::{bells, key, path, text_step},
};

/// An SSH server, and a client's folder with its keys and known hosts.
pub(crate) struct Ssh {
    host: SshHost,
    pub(crate) port: u16,
    pub(crate) folder: tempfile::TempDir,
}

impl Ssh {
    /// Starts one; nothing where there is none on this machine.
    #[expect(clippy::print_stderr, reason = "the test's runner shows it")]
    pub(crate) fn start() -> Result<Option<Self>, Box<dyn std::error::Error>> {
        let folder = tempfile::tempdir()?;
        let Some(host) = SshHost::start(folder.path(), None, "")? else {
            if std::env::var_os("YALOTHECA_REAL").is_some() {
                return Err("sshd and ssh must be there (YALOTHECA_REAL)".into());
            }
            eprintln!("skipped: there is no sshd here");
            return Ok(None);
        };
        Ok(Some(Self { port: host.port(), host, folder }))
    }

    pub(crate) fn options(&self) -> SshOptions {
        SshOptions {
            host: "127.0.0.1".into(),
            user: None,
            port: Some(self.port),
            helper: None,
            options: self.host.client_options("user"),
            answers: Answers::default(),
        }
    }

    pub(crate) fn tree(&self, root: &Path) -> Result<RemoteTree, ConnectError> {
        let server = SftpServer::connect(self.options(), &mut NoQuestions)?;
        let root = root.display().to_string();
        let location = format!("sftp://127.0.0.1:{}{root}", self.port);
        Ok(RemoteTree::new(Arc::new(server), &root, location))
    }
}

#[test]
fn a_folder_over_ssh_is_as_it_is_here() -> Done {
    let Some(ssh) = Ssh::start()? else { return Ok(()) };
    let folder = tempfile::tempdir()?;
    let root = folder.path();
    for at in 0..700 {
        fs::create_dir_all(root.join(format!("many/{}", at % 3)))?;
        fs::write(root.join(format!("many/{}/ä file {at}", at % 3)), format!("{at}"))?;
    }
    let large: Vec<u8> = (0..5_000_000_u32).map(|at| at.to_le_bytes()[0] ^ at.to_le_bytes()[1]).collect();
    fs::write(root.join("large"), &large)?;
    fs::write(root.join("empty"), "")?;
    symlink("many/0", root.join("link"))?;
    symlink("/etc", root.join("out"))?;
    symlink(root.join("many"), root.join("absolute"))?;
    fs::write(root.join(std::ffi::OsStr::new("odd")), "")?;
    let (local, remote) = (LocalTree::new(root), ssh.tree(root)?);
    for one in [
        "",
        "many",
        "many/0",
        "many/2/ä file 5",
        "link",
        "out",
        "out/passwd",
        "absolute/1",
        "large",
        "empty",
        "no",
        "no/x",
        "large/x",
    ] {
        let both = |tree: &dyn Tree| {
            let one = path(one);
            let read = tree.read_file(&one).map_err(|error| error.refusal().is_some());
            let digest = tree.digest_file(&one).map_err(|error| error.refusal().is_some());
            let list = tree.list_folder(&one).map_err(|error| error.refusal().is_some());
            (tree.kind_of(&one).ok(), read, digest, list)
        };
        assert_eq!(both(&remote), both(&local), "{one}");
    }
    // Written over there, read here.
    remote.create_folder(&path("new/deep"))?;
    remote.replace(&path("new/deep/file"), &large)?;
    remote.replace(&path("new/deep/file"), b"small")?;
    remote.rename(&[(&path("new/deep"), &path("moved"))])?;
    remote.duplicate(&path("moved/file"), &path("kept"))?;
    assert_eq!(local.read_file(&path("moved/file"))?.as_deref(), Some(&b"small"[..]));
    assert_eq!(local.digest_file(&path("kept"))?, Some((Digest::of(b"small"), 5)));
    assert_eq!(remote.kind_of(&path("new/deep"))?, None);
    assert!(!remote.remove_empty_folder(&path("moved"))? && remote.remove_empty_folder(&path("new"))?);
    assert!(remote.create_exclusively(&path("lock"))? && !remote.create_exclusively(&path("lock"))?);
    remote.remove_all(&path("many"))?;
    assert_eq!(local.kind_of(&path("many"))?, None);
    assert_eq!(remote.kind_of(&path("large"))?, Some(EntryKind::File(5_000_000)));
    Ok(())
}

#[test]
fn whoever_cannot_get_in_learns_why() -> Done {
    let Some(ssh) = Ssh::start()? else { return Ok(()) };
    let connect = |options: SshOptions| match SftpServer::connect(options, &mut NoQuestions) {
        Ok(_) => Err("it was let in".to_owned()),
        Err(error) => Ok(error),
    };
    let at = |name: &str| ssh.folder.path().join(name);
    // A key that is not allowed.
    fs::write(at("authorized"), "")?;
    assert!(matches!(connect(ssh.options())?, ConnectError::Denied { .. }));
    fs::copy(at("user.pub"), at("authorized"))?;
    // A host that is not known, and one with another key.
    let known = fs::read_to_string(at("known"))?;
    fs::write(at("known"), "")?;
    assert!(matches!(connect(ssh.options())?, ConnectError::UnknownKey { .. }));
    let user_key = fs::read_to_string(at("user.pub"))?;
    fs::write(at("known"), format!("[127.0.0.1]:{} {user_key}", ssh.port))?;
    let error = connect(ssh.options())?;
    assert!(matches!(error, ConnectError::OtherKey { .. }), "{error}");
    fs::write(at("known"), known)?;
    // No server there.
    let port = TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let error = connect(SshOptions { port: Some(port), ..ssh.options() })?;
    assert!(matches!(&error, ConnectError::Unreachable { why, .. } if why.contains("refused")), "{error}");
    let error = connect(SshOptions { host: "nowhere.invalid".into(), ..ssh.options() })?;
    assert!(matches!(error, ConnectError::Unreachable { .. }), "{error}");
    Ok(())
}

#[test]
fn a_connection_that_is_cut_is_opened_again() -> Done {
    let Some(ssh) = Ssh::start()? else { return Ok(()) };
    let folder = tempfile::tempdir()?;
    fs::write(folder.path().join("file"), "text")?;
    let tree = ssh.tree(folder.path())?;
    assert_eq!(tree.kind_of(&path("file"))?, Some(EntryKind::File(4)));
    // Only the process of this connection.
    let children =
        Command::new("pkill").args(["-KILL", "-f", &format!("^ssh .*-p {} ", ssh.port)]).status()?;
    assert!(children.success());
    tree.forget_seen();
    assert_eq!(tree.read_file(&path("file"))?.as_deref(), Some(&b"text"[..]));
    tree.replace(&path("file"), b"other")?;
    assert_eq!(fs::read(folder.path().join("file"))?, b"other");
    let none: Vec<TreePath> = Vec::new();
    assert!(tree.metadata(&none)?.is_empty());
    Ok(())
}

#[test]
fn a_line_that_is_cut_anywhere_loses_nothing() -> Done {
    let Some(ssh) = Ssh::start()? else { return Ok(()) };
    let runs: u64 = std::env::var("YALOTHECA_TEARS").ok().and_then(|runs| runs.parse().ok()).unwrap_or(10);
    let files = tempfile::tempdir()?;
    let (mut finished, mut cut) = (0, 0);
    for run in 0..runs {
        let (folder, control) = (tempfile::tempdir()?, tempfile::tempdir()?);
        fs::create_dir_all(folder.path().join("mods/old"))?;
        for (name, text) in [("order.txt", "old"), ("mods/old/a.lua", "one"), ("mods/old/b.lua", "two")] {
            fs::write(folder.path().join(name), text)?;
        }
        let everything = || -> Result<BTreeMap<String, Vec<u8>>, Box<dyn std::error::Error>> {
            let mut all = BTreeMap::new();
            for entry in walkdir::WalkDir::new(folder.path()) {
                let entry = entry?;
                let name = entry.path().strip_prefix(folder.path())?.to_string_lossy().into_owned();
                if !name.starts_with(".yalotheca") && entry.file_type().is_file() {
                    all.insert(name, fs::read(entry.path())?);
                }
            }
            Ok(all)
        };
        let before = everything()?;
        // The greeting of both sides takes some thousand bytes. The line is cut once, or again and again.
        let at = 3_500 + run * 7_919 % 17_000;
        let cuts = if run % 4 == 3 { vec![at; 3] } else { vec![at] };
        let relay = Relay::start(([127, 0, 0, 1], ssh.port).into(), Line { delay: Duration::ZERO, cuts })?;
        let mut options = ssh.options();
        options.port = Some(relay.port());
        options.options.push(format!("HostKeyAlias=[127.0.0.1]:{}", ssh.port));
        let root = folder.path().display().to_string();
        let connect = |options: SshOptions| -> Result<RemoteTree, ConnectError> {
            let server = SftpServer::connect(options, &mut NoQuestions)?;
            Ok(RemoteTree::new(Arc::new(server), &root, "sftp://relay".into()))
        };
        let settled = match connect(options) {
            Ok(tree) => {
                let (mut steps, sources) = bells(files.path())?;
                steps.push(text_step("order.txt", Some("old"), "new"));
                steps.push(Step::SetAside { path: path("mods/old/b.lua"), before: Digest::of(b"two") });
                carry_out(&tree, control.path(), (steps, &sources))?.is_ok_and(|number| number == 1)
            }
            Err(_) => false,
        };
        cut += usize::from(relay.connections() > 1);
        let after = everything()?;
        if settled {
            finished += 1;
            assert!(
                after.contains_key("mods/bells/ring.lua") && !after.contains_key("mods/old/b.lua"),
                "{at}: {after:?}"
            );
        }
        let tree = ssh.tree(folder.path())?;
        settle::recover(&tree, control.path(), &key()?, false)
            .map_err(|error| format!("cut at {at}: {error}"))?;
        let now = everything()?;
        let is_after = now.contains_key("mods/bells/ring.lua");
        assert!(is_after || now == before, "cut at {at}: neither before nor after: {now:?}");
        assert!(!settled || is_after, "cut at {at}: it said done");
        assert!(!is_after || now.get("order.txt").is_some_and(|text| text == b"new"), "cut at {at}: {now:?}");
    }
    assert!(finished > 0 && cut > 0, "{finished} were finished, {cut} were cut");
    Ok(())
}
