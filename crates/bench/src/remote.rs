//! A server on another machine: 5,000 files sent and 50,000 compared over SFTP and FTP, beside `rsync`, `tar` and `lftp`, on the loopback
//! and through a relay that delays each direction by 25 ms.

use std::{
    fs,
    io::{self, Write},
    net::{TcpListener, TcpStream},
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    thread,
    time::{Duration, Instant},
};

use yalotheca_standin::{
    kites::zipped,
    relay::{Line, Relay},
    ssh_host::SshHost,
};

/// How many files are sent, and how many are compared.
const SENT: usize = 5_000;
const COMPARED: usize = 50_000;
const LENGTH: usize = 8_192;
const DELAY: Duration = Duration::from_millis(25);

/// A program that ends with this.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

fn quietly(command: &mut Command) -> &mut Command {
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null())
}

fn done(command: &mut Command) -> io::Result<Duration> {
    let started = Instant::now();
    let output = command.stdin(Stdio::null()).output()?;
    if !output.status.success() {
        return Err(io::Error::other(format!("{command:?}: {}", String::from_utf8_lossy(&output.stderr))));
    }
    Ok(started.elapsed())
}

fn free_port() -> io::Result<u16> {
    Ok(TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}

fn started(command: &mut Command, port: u16) -> io::Result<Running> {
    let running = Running(quietly(command).spawn()?);
    for _ in 0..200 {
        if TcpStream::connect(("127.0.0.1", port)).is_ok() {
            return Ok(running);
        }
        thread::sleep(Duration::from_millis(25));
    }
    Err(io::Error::other("the file server does not listen"))
}

fn write_server(folder: &Path) -> io::Result<()> {
    fs::create_dir_all(folder.join("world"))?;
    fs::create_dir_all(folder.join("home/.minetest/mods"))?;
    fs::write(folder.join("minetest.conf"), "port = 1\n")?;
    fs::write(folder.join("world/world.mt"), "gameid = minetest\n")
}

fn write_mod(folder: &Path, name: &str, files: usize) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    fs::write(folder.join("mod.conf"), format!("name = {name}\n"))?;
    fs::write(folder.join("init.lua"), "-- nothing\n")?;
    for file in 0..files {
        let part = folder.join(format!("part{}", file % (files / 100).max(1)));
        fs::create_dir_all(&part)?;
        fs::write(part.join(format!("f{file}")), super::files::noise(file, LENGTH))?;
    }
    Ok(())
}

/// The file servers, and how they are reached.
struct Hosts {
    root: PathBuf,
    ssh_port: u16,
    relay_port: u16,
    ftp_port: u16,
    ssh: SshHost,
    _ftp: Running,
}

impl Hosts {
    fn start(root: &Path) -> io::Result<Self> {
        let keys = root.join("keys");
        let ssh = SshHost::start(&keys, None, "")?.ok_or(io::ErrorKind::NotFound)?;
        let (ssh_port, ftp_port) = (ssh.port(), free_port()?);
        fs::write(
            keys.join("vsftpd.conf"),
            format!(
                "listen=YES\nlisten_address=127.0.0.1\nlisten_port={ftp_port}\nrun_as_launching_user=YES\nanonymous_enable=YES\n\
                 write_enable=YES\nanon_upload_enable=YES\nanon_mkdir_write_enable=YES\nanon_other_write_enable=YES\n\
                 anon_umask=022\nanon_root={}\nno_anon_password=YES\nbackground=NO\nseccomp_sandbox=NO\n\
                 anon_world_readable_only=NO\n",
                root.display()
            ),
        )?;
        let ftp = started(Command::new("/usr/sbin/vsftpd").arg(keys.join("vsftpd.conf")), ftp_port)?;
        let relay = Relay::start(([127, 0, 0, 1], ssh_port).into(), Line { delay: DELAY, cuts: Vec::new() })?;
        ssh.make_known(&format!("[127.0.0.1]:{}", relay.port()))?;
        Ok(Self { root: root.to_owned(), ssh_port, relay_port: relay.port(), ftp_port, ssh, _ftp: ftp })
    }

    fn options(&self) -> Vec<String> {
        self.ssh.client_options("user")
    }

    fn shell(&self, port: u16) -> String {
        let options =
            self.options().iter().map(|option| format!("-o {option}")).collect::<Vec<_>>().join(" ");
        format!("ssh -p {port} {options}")
    }

    fn ours(&self, program: &str, control: &Path, words: &[&str]) -> io::Result<Duration> {
        done(&mut self.command(program, control, words))
    }

    fn command(&self, program: &str, control: &Path, words: &[&str]) -> Command {
        let cache = self.root.join("cache");
        let mut command = Command::new(program);
        command.args(words).arg("--at").arg(control).env("HOME", &cache).env("XDG_CACHE_HOME", &cache);
        command.env("XDG_STATE_HOME", &cache).env("XDG_CONFIG_HOME", &cache);
        command.env("YALOTHECA_SSH_OPTIONS", self.options().join("\n"));
        command
    }

    /// Adopts a fresh server under a name, and returns its control folder.
    fn adopted(&self, program: &str, name: &str, scheme: (&str, u16)) -> io::Result<PathBuf> {
        let (server, control) = (self.root.join(name), self.root.join(format!("{name}-control")));
        write_server(&server)?;
        fs::create_dir_all(&control)?;
        let path = if scheme.0 == "ftp" { format!("/~/{name}") } else { server.display().to_string() };
        let address = format!("{}://127.0.0.1:{}{path}", scheme.0, scheme.1);
        self.ours(program, &control, &["adopt", &address, "--game", "luanti"])?;
        Ok(control)
    }
}

fn row(out: &mut impl Write, name: &str, times: &mut [Duration]) -> io::Result<()> {
    times.sort();
    let median = times.get(times.len() / 2).map_or(0.0, Duration::as_secs_f64);
    writeln!(out, "{name:<52} {median:>8.2} s")?;
    out.flush()
}

/// Measures all of it.
pub(crate) fn measure(
    program: &str,
    runs: usize,
    part: Option<&str>,
    out: &mut impl Write,
) -> io::Result<()> {
    let folder = std::env::temp_dir().join(format!("yalotheca-remote-{}", std::process::id()));
    fs::create_dir_all(&folder)?;
    let measured = match part {
        Some("far") => far_only(&folder, program, runs, out),
        _ => measure_in(&folder, program, runs, out),
    };
    fs::remove_dir_all(&folder)?;
    measured
}

/// Uploads files to the far server repeatedly, printing the time of each run.
fn far_only(folder: &Path, program: &str, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let hosts = Hosts::start(folder)?;
    let sent = folder.join("sent/big");
    write_mod(&sent, "big", SENT)?;
    let shown = sent.display().to_string();
    for run in 0..runs {
        let control = hosts.adopted(program, &format!("far{run}"), ("sftp", hosts.relay_port))?;
        let started = std::time::Instant::now();
        let told = hosts.command(program, &control, &["-v", "add", &shown, "--yes"]).output()?;
        row(out, "5,000 files, 25 ms each way: yalotheca add over SFTP", &mut [started.elapsed()])?;
        if std::env::var_os("TELL").is_some() {
            let told = String::from_utf8_lossy(&told.stderr).into_owned();
            for line in told.lines().filter(|line| line.starts_with("sftp:") || line.contains(" ms")) {
                writeln!(out, "    {line}")?;
            }
        }
    }
    Ok(())
}

fn measure_in(folder: &Path, program: &str, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let hosts = Hosts::start(folder)?;
    let sent = folder.join("sent/big");
    write_mod(&sent, "big", SENT)?;
    let shown = sent.display().to_string();
    let near = hosts.shell(hosts.ssh_port);
    let far = hosts.shell(hosts.relay_port);
    let mut rows: Vec<(&str, Vec<Duration>)> = [
        "5,000 files: rsync over ssh",
        "5,000 files: yalotheca add over SFTP",
        "5,000 files: lftp, four connections",
        "5,000 files: yalotheca add over FTP",
        "5,000 files, 25 ms each way: tar over ssh",
        "5,000 files, 25 ms each way: yalotheca add over SFTP",
    ]
    .map(|name| (name, Vec::new()))
    .into();
    for run in 0..runs {
        let fresh = |name: &str| -> io::Result<PathBuf> {
            let folder = folder.join(format!("{name}{run}"));
            fs::create_dir_all(&folder)?;
            Ok(folder)
        };
        let to = format!("127.0.0.1:{}/", fresh("rsync")?.display());
        rows[0].1.push(done(Command::new("rsync").args(["-a", "-e", &near, &shown, &to]))?);
        let control = hosts.adopted(program, &format!("sftp{run}"), ("sftp", hosts.ssh_port))?;
        rows[1].1.push(hosts.ours(program, &control, &["add", &shown, "--yes"])?);
        fresh("lftp")?;
        let script = format!(
            "set net:max-retries 1; open 127.0.0.1:{}; mirror -R -P4 {shown} lftp{run}/big; bye",
            hosts.ftp_port
        );
        rows[2].1.push(done(Command::new("lftp").args(["-c", &script]))?);
        let control = hosts.adopted(program, &format!("ftp{run}"), ("ftp", hosts.ftp_port))?;
        rows[3].1.push(hosts.ours(program, &control, &["add", &shown, "--yes"])?);
        let into = fresh("tar")?;
        let pipe = format!(
            "tar -C {} -cf - big | {far} 127.0.0.1 'tar -C {} -xf -'",
            folder.join("sent").display(),
            into.display()
        );
        rows[4].1.push(done(Command::new("sh").args(["-c", &pipe]))?);
        let control = hosts.adopted(program, &format!("far{run}"), ("sftp", hosts.relay_port))?;
        rows[5].1.push(hosts.ours(program, &control, &["add", &shown, "--yes"])?);
    }
    for (name, times) in &mut rows {
        row(out, name, times)?;
    }
    compare(&hosts, program, runs, out)?;
    archives(&hosts, program, out)
}

/// How many bytes it costs to take charge of many large archives.
fn archives(hosts: &Hosts, program: &str, out: &mut impl Write) -> io::Result<()> {
    const MANY: usize = 300;
    const LARGE: usize = 5 << 20;
    let server = hosts.root.join("archives");
    fs::create_dir_all(server.join("plugins"))?;
    fs::write(server.join("saltwick.conf"), "town = brinewick\n")?;
    fs::write(server.join("boot.json"), "{\"engine\": \"\", \"runtime\": 6}\n")?;
    let mut order = String::new();
    for at in 0..MANY {
        let id = format!("chart-{at}");
        let descriptor = format!("{{\"id\": \"{id}\", \"title\": \"{id}\", \"version\": \"1.0\"}}");
        let code = super::files::noise(at, LARGE);
        let zip =
            zipped(&[("plugin.json".into(), descriptor.into_bytes()), ("code/main.tide".into(), code)])?;
        fs::write(server.join(format!("plugins/{id}-1.0.swp")), zip)?;
        order = order + &id + "\n";
    }
    fs::write(server.join("plugins/order.txt"), order)?;
    let relay = Relay::start(([127, 0, 0, 1], hosts.ssh_port).into(), Line::default())?;
    hosts.ssh.make_known(&format!("[127.0.0.1]:{}", relay.port()))?;
    let control = hosts.root.join("archives-control");
    fs::create_dir_all(&control)?;
    let address = format!("sftp://127.0.0.1:{}{}", relay.port(), server.display());
    let time = hosts.ours(program, &control, &["adopt", &address, "--game", "saltwick"])?;
    row(out, "300 archives of 5 MB: yalotheca adopt", &mut [time])?;
    let passed = relay.bytes() / 100_000;
    writeln!(out, "{:<52} {:>6}.{} MB", "the same: bytes over the network", passed / 10, passed % 10)
}

/// Nothing to do on many files, and one edit far away.
fn compare(hosts: &Hosts, program: &str, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let folder = hosts.root.as_path();
    let near = hosts.shell(hosts.ssh_port);
    let far = hosts.shell(hosts.relay_port);
    let name = "many";
    write_server(&folder.join(name))?;
    for content in 0..100 {
        let at = folder.join(format!("{name}/home/.minetest/mods/m{content:02}"));
        write_mod(&at, &format!("m{content:02}"), COMPARED / 100)?;
    }
    // What was changed a moment ago may be changed again within the same second.
    done(Command::new("find").arg(folder.join(name)).args([
        "-exec",
        "touch",
        "-h",
        "-d",
        "2 days ago",
        "{}",
        "+",
    ]))?;
    let control = hosts.adopted(program, name, ("sftp", hosts.ssh_port))?;
    hosts.ours(program, &control, &["preview"])?;
    let far_control = folder.join("many-far");
    fs::create_dir_all(&far_control)?;
    for file in ["yalotheca.toml", "yalotheca.lock"] {
        let text = fs::read_to_string(control.join(file))?;
        fs::write(
            far_control.join(file),
            text.replace(&format!(":{}", hosts.ssh_port), &format!(":{}", hosts.relay_port)),
        )?;
    }
    hosts.ours(program, &far_control, &["preview"])?;
    let to = format!("127.0.0.1:{}/", folder.join("many-copy").display());
    let from = folder.join("many/home").display().to_string();
    done(Command::new("rsync").args(["-a", "-e", &near, &from, &to]))?;
    let mut compared: [Vec<Duration>; 5] = Default::default();
    for run in 0..runs {
        compared[0].push(done(Command::new("rsync").args(["-a", "-e", &near, &from, &to]))?);
        compared[1].push(hosts.ours(program, &control, &["preview"])?);
        compared[2].push(hosts.ours(program, &far_control, &["preview"])?);
        let mut ssh = Command::new("sh");
        compared[3].push(done(ssh.args(["-c", &format!("{far} 127.0.0.1 true")]))?);
        let value = format!("port={}", 20 + run);
        compared[4].push(hosts.ours(program, &far_control, &["settings", "server", &value, "--yes"])?);
    }
    let names = [
        "50,000 files, nothing to do: rsync over ssh",
        "50,000 files, nothing to do: yalotheca preview",
        "the same, 25 ms each way: yalotheca preview",
        "25 ms each way: ssh true",
        "25 ms each way: yalotheca settings, one edit",
    ];
    for (name, times) in names.iter().zip(&mut compared) {
        row(out, name, times)?;
    }
    Ok(())
}
