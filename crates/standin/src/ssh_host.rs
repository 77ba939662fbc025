//! The machine's own SSH server on the loopback, with keys of its own: for the demo, the tests and the benches.

use std::{
    fs,
    io::{self, Write},
    net::{TcpListener, TcpStream},
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    thread,
    time::{Duration, Instant},
};

/// How long it may take until it listens.
const PATIENCE: Duration = Duration::from_secs(10);

/// An SSH server that ends with this. Its folder holds the keys `user` and `locked` (with the passphrase `a long phrase`), which it
/// lets in, and `known`, the hosts that a client is to know.
#[derive(Debug)]
pub struct SshHost {
    process: Child,
    folder: PathBuf,
    port: u16,
}

impl Drop for SshHost {
    fn drop(&mut self) {
        self.process.kill().ok();
        self.process.wait().ok();
    }
}

/// Returns where a program lies, if it is installed.
pub fn program(name: &str) -> Option<PathBuf> {
    let folders = ["/usr/sbin", "/usr/bin", "/usr/local/sbin", "/usr/local/bin"];
    folders.iter().map(|folder| Path::new(folder).join(name)).find(|at| at.exists())
}

impl SshHost {
    /// Starts a server whose keys are in a folder. Logins begin in `start`, if there is one; `more` are further lines of its
    /// configuration. Returns nothing where no such server is installed.
    ///
    /// # Errors
    /// Where the keys cannot be made, or it does not listen.
    pub fn start(folder: &Path, start: Option<&Path>, more: &str) -> io::Result<Option<Self>> {
        let (Some(server), Some(keygen), Some(_)) = (program("sshd"), program("ssh-keygen"), program("ssh"))
        else {
            return Ok(None);
        };
        // Where it runs as root it wants this folder.
        fs::create_dir_all("/run/sshd").ok();
        fs::create_dir_all(folder)?;
        fs::set_permissions(folder, fs::Permissions::from_mode(0o700))?;
        let at = |name: &str| folder.join(name);
        for (key, phrase) in [("host", ""), ("user", ""), ("locked", "a long phrase")] {
            let mut make = Command::new(&keygen);
            make.args(["-q", "-t", "ed25519", "-N", phrase, "-f"]).arg(at(key));
            if !silently(&mut make)?.wait()?.success() {
                return Err(io::Error::other("ssh-keygen failed"));
            }
        }
        let keys = fs::read_to_string(at("user.pub"))? + &fs::read_to_string(at("locked.pub"))?;
        fs::write(at("authorized"), keys)?;
        let port = TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
        let begins = start.map(|folder| format!(" -d \"{}\"", folder.display())).unwrap_or_default();
        let config = format!(
            "Port {port}\nListenAddress 127.0.0.1\nHostKey \"{0}/host\"\nAuthorizedKeysFile \"{0}/authorized\"\nPidFile none\n\
             Subsystem sftp internal-sftp{begins}\nStrictModes no\nUsePAM no\nPasswordAuthentication no\nMaxStartups 50\n{more}",
            folder.display()
        );
        fs::write(at("sshd_config"), config)?;
        let process = silently(Command::new(server).args(["-D", "-f"]).arg(at("sshd_config")))?;
        let host = Self { process, folder: folder.to_owned(), port };
        host.make_known(&format!("[127.0.0.1]:{port}"))?;
        let until = Instant::now() + PATIENCE;
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            if Instant::now() > until {
                return Err(io::Error::new(io::ErrorKind::TimedOut, "sshd does not listen"));
            }
            thread::sleep(Duration::from_millis(20));
        }
        Ok(Some(host))
    }

    /// Returns its port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Has clients know it by another name: `[127.0.0.1]:2022`, or the name that a client's configuration gives it.
    ///
    /// # Errors
    /// Where that cannot be written.
    pub fn make_known(&self, name: &str) -> io::Result<()> {
        let key = fs::read_to_string(self.folder.join("host.pub"))?;
        let mut known = fs::File::options().create(true).append(true).open(self.folder.join("known"))?;
        writeln!(known, "{name} {}", key.trim())
    }

    /// Returns the options of a client that comes with one of its keys and knows this host.
    pub fn client_options(&self, key: &str) -> Vec<String> {
        let at = |name: &str| self.folder.join(name).display().to_string();
        vec![
            format!("IdentityFile={}", at(key)),
            "IdentitiesOnly=yes".into(),
            format!("UserKnownHostsFile={}", at("known")),
            "GlobalKnownHostsFile=none".into(),
        ]
    }
}

fn silently(command: &mut Command) -> io::Result<Child> {
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn()
}
