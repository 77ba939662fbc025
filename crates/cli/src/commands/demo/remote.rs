//! The harbour on another machine: this one, over the loopback.

use std::{
    fs,
    path::Path,
    process::{Child, Command, ExitCode, Stdio},
    thread::{self, JoinHandle},
    time::Duration,
};

use yalotheca_app::AppError;
use yalotheca_standin::{
    catalogue_host::CatalogueHost,
    ftp_host::{FtpHost, Manners},
    ssh_host::SshHost,
};

use super::{DemoReport, World, act, finish, stories::FAR};
use crate::ui::Ui;

/// How the host is called in the story.
const NAME: &str = "quay";

/// A server that somebody started; it ends with this.
#[derive(Debug)]
pub(super) struct Started(Child);

impl Drop for Started {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

/// What shows the server's folder.
enum Host {
    Ssh(SshHost),
    Ftp(FtpHost),
}

/// Starts the server a moment later, as an administrator would in its panel.
pub(super) fn start_soon(world: &World) -> JoinHandle<Option<Started>> {
    let mut command = Command::new(&world.program);
    command
        .arg(&world.server)
        .current_dir(&world.server)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    thread::spawn(move || {
        thread::sleep(Duration::from_millis(1_500));
        command.spawn().ok().map(Started)
    })
}

/// Plays the story over SFTP, or over FTP where this machine has no SSH server.
pub(super) fn play(root: &Path, mut world: World, ui: &Ui) -> Result<ExitCode, AppError> {
    let failed = |source| AppError::Io { what: "building the demo's world".into(), source };
    let desk = root.join("desk");
    fs::create_dir_all(&desk).map_err(failed)?;
    let host = match SshHost::start(&root.join("keys"), Some(root), "") {
        Ok(Some(host)) => Host::Ssh(host),
        Ok(None) | Err(_) => Host::Ftp(FtpHost::start(root, &Manners::default()).map_err(failed)?),
    };
    match &host {
        Host::Ssh(host) => {
            host.make_known(NAME).map_err(failed)?;
            let mut options = host.client_options("user");
            let named = [
                "HostName=127.0.0.1".into(),
                format!("Port={}", host.port()),
                format!("HostKeyAlias={NAME}"),
            ];
            options.extend(named);
            world.environment.push(("YALOTHECA_SSH_OPTIONS".into(), options.join("\n")));
            world.address = Some(format!("sftp://{NAME}/~/harbour"));
            ui.note("The server's machine is this one, reached through its own SSH server, which ends with the demo.");
        }
        Host::Ftp(host) => {
            world.address = Some(format!("ftp://127.0.0.1:{}/~/harbour", host.port()));
            ui.note("This machine has no SSH server (openssh-server), so the demo uses FTP, with a host of its own.");
        }
    }
    let catalogue = CatalogueHost::start(root.join("quayside")).map_err(failed)?;
    world.catalogue = catalogue.address();
    world.desk = Some(desk);
    let mut report = DemoReport::default();
    for one in FAR {
        if one.does.is_undo() {
            // Somebody has stopped it in its panel.
            world.running.replace(None);
        }
        report.acts.push(act(&world, one, ui)?);
    }
    finish(&report, None, ui)
}
