//! What is special about a server on another machine: large archives, and that somebody else starts it.

use std::{
    fs,
    os::unix::fs::PermissionsExt,
    path::Path,
    process::{Child, Command, Stdio},
    thread,
    time::{Duration, SystemTime},
};

use yalotheca_standin::{
    kites::{self, zipped},
    relay::{Line, Relay},
};

use crate::{
    harness::{Done, World, free_port, program},
    remote::{Far, Ssh, encoded},
};

/// A plugin as large as some are: what is in it cannot be made smaller.
fn large_plugin(id: &str, version: &str) -> Result<Vec<u8>, std::io::Error> {
    let descriptor =
        format!(r#"{{"id": "{id}", "title": "{id}", "version": "{version}", "engine": ">=2.2 <3"}}"#);
    let mut state =
        id.bytes().fold(88_172_645_463_325_252_u64, |sum, byte| sum.wrapping_mul(31) + u64::from(byte));
    let noise = (0..1_500_000).map(|_| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state.to_le_bytes()[3]
    });
    zipped(&[("plugin.json".into(), descriptor.into_bytes()), ("code/main.tide".into(), noise.collect())])
}

fn modified(path: &Path) -> Result<SystemTime, std::io::Error> {
    fs::metadata(path)?.modified()
}

/// A server that is reached by SSH.
struct Reached {
    far: Far,
    address: String,
    _ssh: Ssh,
}

/// Returns one, or nothing where there is no SSH server.
fn reached() -> Result<Option<Reached>, Box<dyn std::error::Error>> {
    let Some(ssh) = Ssh::start(None)? else { return Ok(None) };
    let mut far = Far::new()?;
    far.env.push(("YALOTHECA_SSH_OPTIONS".into(), ssh.options("user")));
    let address = format!("sftp://127.0.0.1:{}{}", ssh.port(), encoded(&far.world.server()));
    Ok(Some(Reached { far, address, _ssh: ssh }))
}

#[test]
fn one_edit_far_away_costs_few_round_trips() -> Done {
    let Some(ssh) = Ssh::start(None)? else { return Ok(()) };
    let mut far = Far::new()?;
    let delay = Duration::from_millis(10);
    let relay = Relay::start(([127, 0, 0, 1], ssh.port()).into(), Line { delay, cuts: Vec::new() })?;
    ssh.host.make_known(&format!("[127.0.0.1]:{}", relay.port()))?;
    far.env.push(("YALOTHECA_SSH_OPTIONS".into(), ssh.options("user")));
    // What it takes to get in.
    let mut login = Command::new("ssh");
    for option in ssh.host.client_options("user") {
        login.args(["-o", &option]);
    }
    login.args(["-p", &relay.port().to_string(), "127.0.0.1", "true"]);
    assert!(login.stdin(Stdio::null()).status()?.success());
    let login = relay.turns();
    assert!((4..20).contains(&login), "{login}");
    far.adopt(&format!("sftp://127.0.0.1:{}{}", relay.port(), encoded(&far.world.server()))).code(0);
    far.run(&["settings", "server", "name=Larkspur", "--yes"]).code(0);
    far.run(&["settings", "server", "name=Lark", "--yes"]).code(0);
    let before = relay.turns();
    let edit = far.run(&["-v", "settings", "server", "name=Larks", "--yes"]).code(0).says(&["Settled"]);
    // A busy machine may cut one answer into two.
    let turns = relay.turns() - before - login;
    assert!((15..=60).contains(&turns), "{turns} round trips");
    // From the lock to its end: what has to be opened first takes two.
    let asked: Vec<&str> =
        edit.err.lines().filter_map(|line| line.strip_prefix("sftp: ")?.split(" × ").nth(1)).collect();
    let lock = asked.iter().position(|what| what.starts_with("make folder")).ok_or("it is locked")?;
    let trips = |what: &&str| if what.starts_with("open") || what.starts_with("list") { 2 } else { 1 };
    let trips: usize = asked[lock..].iter().map(trips).sum();
    assert!((10..=25).contains(&trips), "{trips} round trips: {asked:#?}");
    assert!(far.world.read("saltwick.conf")?.contains("name = Larks\n"));
    Ok(())
}

#[test]
fn much_is_sent_far_away_over_several_channels_where_the_host_has_them() -> Done {
    for (more, has_several) in [("", true), ("MaxSessions 1\n", false)] {
        let Some(ssh) = Ssh::start_with(tempfile::tempdir()?, more)? else { return Ok(()) };
        let mut far = Far::new()?;
        let delay = Duration::from_millis(10);
        let relay = Relay::start(([127, 0, 0, 1], ssh.port()).into(), Line { delay, cuts: Vec::new() })?;
        ssh.host.make_known(&format!("[127.0.0.1]:{}", relay.port()))?;
        far.env.push(("YALOTHECA_SSH_OPTIONS".into(), ssh.options("user")));
        far.adopt(&format!("sftp://127.0.0.1:{}{}", relay.port(), encoded(&far.world.server()))).code(0);
        far.run(&["fix", "--yes"]).code(0);
        let before = far.world.digests()?;
        let mut paths = Vec::new();
        for at in 0..5 {
            let path = far.world.root().join(format!("chart-{at}-1.0.swp"));
            fs::write(&path, large_plugin(&format!("chart-{at}"), "1.0")?)?;
            paths.push(path.display().to_string());
        }
        let mut words = vec!["-v", "add", "--yes"];
        words.extend(paths.iter().map(String::as_str));
        let sent = far.run(&words).code(0);
        assert_eq!(sent.err.contains("another channel is open"), has_several, "{more}: {}", sent.err);
        for (at, path) in paths.iter().enumerate() {
            let there = fs::read(far.world.path(&format!("plugins/chart-{at}-1.0.swp")))?;
            assert_eq!(there, fs::read(path)?, "{more}: {path}");
        }
        far.run(&["check"]).code(0);
        far.run(&["undo", "--yes"]).code(0);
        assert_eq!(far.world.digests()?, before);
    }
    Ok(())
}

/// A server with many large plugins, reached through a relay; nothing where there is no SSH server.
struct Charted {
    far: Far,
    relay: Relay,
    address: String,
    _ssh: Ssh,
}

fn charted(many: usize) -> Result<Option<Charted>, Box<dyn std::error::Error>> {
    let Some(ssh) = Ssh::start(None)? else { return Ok(None) };
    let mut far = Far::new()?;
    let mut order = far.world.read("plugins/order.txt")?;
    for at in 0..many {
        let id = format!("chart-{at}");
        fs::write(far.world.path(&format!("plugins/{id}-1.0.swp")), large_plugin(&id, "1.0")?)?;
        order = format!("{order}{id}\n");
    }
    far.world.write("plugins/order.txt", &order)?;
    // As old as files on a server are.
    for entry in fs::read_dir(far.world.path("plugins"))?.flatten() {
        let file = fs::File::options().append(true).open(entry.path());
        if entry.path().is_file() {
            file?.set_modified(SystemTime::now() - Duration::from_secs(100_000))?;
        }
    }
    let relay = Relay::start(([127, 0, 0, 1], ssh.port()).into(), Line::default())?;
    ssh.host.make_known(&format!("[127.0.0.1]:{}", relay.port()))?;
    far.env.push(("YALOTHECA_SSH_OPTIONS".into(), ssh.options("user")));
    let address = format!("sftp://127.0.0.1:{}{}", relay.port(), encoded(&far.world.server()));
    Ok(Some(Charted { far, relay, address, _ssh: ssh }))
}

#[test]
fn large_archives_are_known_by_their_ends() -> Done {
    let Some(Charted { far, relay, address, _ssh }) = charted(20)? else { return Ok(()) };
    let before = far.world.digests()?;
    far.adopt(&address).code(0).says(&["chart-7 1.0 on"]);
    // A whole server is 30 MB; of each archive the ends are read.
    let read = relay.bytes();
    assert!(read < 3_000_000, "{read} bytes");
    far.run(&["preview"]).code(0).says(&["nothing to do"]);
    far.run(&["fix", "--yes"]).code(0);
    far.run(&["check"]).code(0);
    let read = relay.bytes() - read;
    assert!(read < 3_000_000, "{read} bytes");
    // Out of the server and in again: it is moved, not sent.
    far.run(&["drop", "chart-3", "--yes"]).code(0);
    assert!(!far.world.path("plugins/chart-3-1.0.swp").exists());
    far.run(&["undo", "--yes"]).code(0);
    far.run(&["preview"]).code(0).says(&["nothing to do"]);
    assert!(relay.bytes() < 9_000_000, "{} bytes", relay.bytes());
    // Another one in its place is noticed, and kept.
    let path = far.world.path("plugins/chart-4-1.0.swp");
    let whole = fs::read(&path)?;
    fs::write(&path, large_plugin("chart-4", "1.0.1")?)?;
    far.run(&["check"]).code(0).says(&["chart-4-1.0.swp of chart-4 was edited"]);
    far.run(&["where", "chart-4"]).code(0).says(&["edited"]);
    fs::write(&path, &whole)?;
    far.run(&["check"]).code(0);
    // A byte that went bad on the disk is found by who reads every byte.
    let path = far.world.path("plugins/chart-5-1.0.swp");
    let (mut bytes, date) = (fs::read(&path)?, modified(&path)?);
    bytes[700_000] ^= 1;
    fs::write(&path, &bytes)?;
    fs::File::options().append(true).open(&path)?.set_modified(date)?;
    far.run(&["check"]).code(0);
    far.run(&["check", "--deep"])
        .code(1)
        .says(&["Reading every byte over the network", "chart-5-1.0.swp is damaged"]);
    bytes[700_000] ^= 1;
    fs::write(&path, &bytes)?;
    fs::File::options().append(true).open(&path)?.set_modified(date)?;
    far.run(&["check", "--deep"]).code(0);
    // The same server, looked after from its own machine from now on.
    let wants = far.control.join("yalotheca.toml");
    let text = fs::read_to_string(&wants)?;
    let here = text.replace(&address, &far.world.server().display().to_string());
    assert_ne!(here, text);
    fs::write(&wants, here)?;
    far.run(&["preview"]).code(0).says(&["nothing to do"]);
    far.run(&["drop", "chart-6", "--yes"]).code(0);
    for _ in 0..2 {
        far.run(&["undo", "--yes"]).code(0);
    }
    far.run(&["undo", "--yes"]).code(2);
    assert_eq!(far.world.digests()?, before, "byte for byte");
    Ok(())
}

#[test]
fn an_archive_known_by_its_end_is_updated_as_any_other() -> Done {
    let Some(Charted { far, address, relay: _relay, _ssh }) = charted(2)? else { return Ok(()) };
    far.adopt(&address).code(0);
    far.run(&["fix", "--yes"]).code(0);
    // A catalogue has the same release and a newer one: the first changes nothing, the second is an update as any other.
    let charts = far.world.root().join("charts");
    fs::create_dir_all(&charts)?;
    for version in ["1.0", "1.1"] {
        fs::write(charts.join(format!("chart-0-{version}.swp")), large_plugin("chart-0", version)?)?;
    }
    far.run(&["catalogue", "add", "charts", &charts.display().to_string()]).code(0);
    far.run(&["preview"]).code(0).says(&["nothing to do"]);
    far.run(&["update", "chart-0", "--yes"]).code(0).says(&["chart-0"]);
    assert!(far.world.path("plugins/chart-0-1.1.swp").exists());
    assert!(!far.world.path("plugins/chart-0-1.0.swp").exists());
    // A second copy of what was installed here is recognised as one, though it is known by its end only.
    let copy = far.world.path("plugins/chart-0-1.1 (copy).swp");
    fs::copy(far.world.path("plugins/chart-0-1.1.swp"), &copy)?;
    far.run(&["check"]).code(1).says(&["is a second chart-0"]);
    far.run(&["fix", "--yes"]).code(0).says(&["set aside"]);
    assert!(!copy.exists());
    far.run(&["undo", "--yes"]).code(0);
    fs::remove_file(&copy)?;
    far.run(&["check"]).code(0);
    far.run(&["undo", "--yes"]).code(0);
    far.run(&["preview"]).code(0).says(&["nothing to do"]);
    Ok(())
}

/// A server that somebody has started; it ends with this.
struct Started(Child);

impl Drop for Started {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

#[test]
fn a_server_that_others_start_is_watched_from_afar() -> Done {
    let Some(Reached { far, address, _ssh }) = reached()? else { return Ok(()) };
    far.adopt(&address).code(0);
    far.run(&["fix", "--yes"]).code(0);
    far.run(&["trial"]).code(5).says(&[
        "runs on another machine",
        "yalotheca trial --watch",
        "[server.process]",
    ]);
    far.run(&["trial", "--watch", "--log", "../out.log"]).code(2);
    let server = far.world.server();
    let start = |after: u64| {
        let server = server.clone();
        thread::spawn(move || {
            thread::sleep(Duration::from_millis(after));
            let mut command = Command::new(program());
            command.args(["stand-in", "saltwick"]).arg(&server).stdin(Stdio::null());
            command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().map(Started)
        })
    };
    let starting = start(1_500);
    far.run(&["trial", "--watch"]).code(0).says(&["ready", "no problems", "night-lamps 1.2.0 loaded"]);
    let running = starting.join().map_err(|_| "starting")??;
    far.run(&["stop"]).code(5).says(&["it answers at port", "[server.process]"]);
    // Nothing is changed under it.
    far.run(&["settings", "server", "name=By night", "--yes"])
        .code(5)
        .says(&["it answers at port", "--restart"]);
    far.run(&["settings", "server", "name=By night", "--yes", "--restart"])
        .code(5)
        .says(&["there is no one here to stop it", "[server.process]"]);
    assert!(!far.world.read("saltwick.conf")?.contains("By night"));
    drop(running);
    // Problems are reported as for a local server.
    fs::remove_file(far.world.path("plugins/lamp-oil-1.0.2.swp"))?;
    let starting = start(1_500);
    far.run(&["trial", "--watch"]).code(1).says(&["something is wrong", "night-lamps 1.2.0 failed"]);
    drop(starting.join());
    Ok(())
}

#[test]
fn a_server_with_commands_of_its_own_is_stopped_for_a_change_and_started_again() -> Done {
    let Some(Reached { far, address, _ssh }) = reached()? else { return Ok(()) };
    far.adopt(&address).code(0);
    far.run(&["fix", "--yes"]).code(0);
    // What a panel's own command line would be.
    let panel = far.control.join("panel");
    let script = format!(
        "#!/bin/sh\npid='{2}'\ncase $1 in\n\
         start) '{0}' stand-in saltwick '{1}' >/dev/null 2>&1 & echo $! > \"$pid\"; sleep 0.3;;\n\
         stop) kill $(cat \"$pid\"); while kill -0 $(cat \"$pid\") 2>/dev/null; do sleep 0.05; done; rm \"$pid\";;\n\
         status) test -f \"$pid\";;\nesac\n",
        program().display(),
        far.world.server().display(),
        panel.with_extension("pid").display(),
    );
    fs::write(&panel, script)?;
    fs::set_permissions(&panel, fs::Permissions::from_mode(0o755))?;
    let wants = far.control.join("yalotheca.toml");
    let text = fs::read_to_string(&wants)?;
    let commands = "[server.process]\nstart = [\"./panel\", \"start\"]\nstop = [\"./panel\", \"stop\"]\nstatus = [\"./panel\", \"status\"]\n";
    let at = text.find("[[catalogue]]").ok_or("no catalogue")?;
    fs::write(&wants, format!("{}{commands}\n{}", &text[..at], &text[at..]))?;
    // These commands were not allowed yet, and --yes does not allow them.
    let refused = far.run(&["settings", "server", "name=One", "--yes"]).code(5);
    refused.says(&["which this account has not allowed yet", "panel' status"]);
    // In a terminal, it is asked once for each.
    far.agree(&["trial", "--keep"]).code(0).says(&["Allow it from now on?", "ready", "no problems"]);
    far.run(&["settings", "server", "name=One", "--yes"])
        .code(5)
        .says(&["as its status command says", "--restart"]);
    far.agree(&["settings", "server", "name=One", "--yes", "--restart"])
        .code(0)
        .says(&["Settled as change", "The server was started again: ready"]);
    assert!(far.world.read("saltwick.conf")?.contains("name = One"));
    // Once allowed, they run without a question.
    let pid = fs::read_to_string(panel.with_extension("pid"))?;
    far.run(&["settings", "server", "name=Two", "--yes", "--restart"]).code(0);
    assert_ne!(fs::read_to_string(panel.with_extension("pid"))?, pid);
    far.run(&["undo", "--yes", "--restart"]).code(0).says(&["The server was started again: ready"]);
    assert!(far.world.read("saltwick.conf")?.contains("name = One"));
    far.run(&["trial"]).code(5).says(&["as its status command says"]);
    far.run(&["stop"]).code(0).says(&["stopped, by", "panel' stop"]);
    far.run(&["stop"]).code(0).says(&["it was not running"]);
    far.run(&["trial"]).code(0).says(&["ready", "no problems"]);
    assert!(!panel.with_extension("pid").exists(), "it was stopped again");
    // Another program under the same name was not agreed to.
    fs::write(&panel, "#!/bin/sh\nexit 0\n")?;
    far.run(&["settings", "server", "name=Three", "--yes"]).code(5).says(&["not allowed yet"]);
    Ok(())
}

#[test]
fn what_another_administrator_added_is_not_taken_back_by_an_older_lock() -> Done {
    let Some(Reached { mut far, address, _ssh }) = reached()? else { return Ok(()) };
    let (mine, theirs) = (far.control.clone(), far.world.root().join("theirs"));
    fs::create_dir_all(&theirs)?;
    far.adopt(&address).code(0);
    far.run(&["fix", "--yes"]).code(0).says(&["change 1"]);
    far.control.clone_from(&theirs);
    far.adopt(&address).code(0);
    far.run(&["add", "tidebell", "--yes"]).code(0).says(&["change 2"]);
    let with_theirs = far.world.digests()?;
    let before = [fs::read(mine.join("yalotheca.toml"))?, fs::read(mine.join("yalotheca.lock"))?];
    far.control.clone_from(&mine);
    let ways: [&[&str]; 6] = [
        &["preview"],
        &["settle", "--yes"],
        &["add", "coin-purse", "--yes"],
        &["drop", "night-lamps", "--yes"],
        &["settings", "server", "name=Mine", "--yes"],
        &["update", "--yes"],
    ];
    for words in ways {
        let answer = far.run(words);
        assert_eq!(answer.code, 5, "{words:?}: {}{}", answer.out, answer.err);
        answer.says(&[
            "change 2 (yalotheca add tidebell",
            "would undo it",
            "yalotheca.lock from that folder",
        ]);
    }
    far.run(&["check", "--json"]).code(1).says(&["lock-outdated", "would undo it"]);
    far.run(&["fix", "--yes"]).code(1).says(&["1 problem that fix cannot put right", "would undo it"]);
    assert_eq!(far.world.digests()?, with_theirs);
    assert_eq!([fs::read(mine.join("yalotheca.toml"))?, fs::read(mine.join("yalotheca.lock"))?], before);
    // Once the control files were brought from there, both go on, by turns.
    for name in ["yalotheca.toml", "yalotheca.lock"] {
        fs::copy(theirs.join(name), mine.join(name))?;
    }
    far.run(&["preview"]).code(0).says(&["nothing to do"]);
    far.run(&["add", "coin-purse", "--yes"]).code(0).says(&["change 3"]);
    far.control.clone_from(&theirs);
    far.run(&["drop", "tidebell", "--yes"]).code(5).says(&["change 3"]);
    // Taking it back is no going back to an older lock.
    far.run(&["undo", "--yes"]).code(0);
    assert_eq!(far.world.digests()?, with_theirs);
    far.run(&["preview"]).code(0).says(&["nothing to do"]);
    // An older lock of one's own, from version control say, is on purpose.
    far.run(&["drop", "tidebell", "--yes"]).code(0);
    for name in ["yalotheca.toml", "yalotheca.lock"] {
        fs::copy(mine.join(name), theirs.join(name))?;
    }
    far.run(&["settle", "--yes"]).code(0);
    assert!(far.world.read("plugins/order.txt")?.contains("coin-purse"));
    // A control folder that has lost the server can be made again by adopting it.
    let third = far.world.root().join("third");
    fs::create_dir_all(&third)?;
    far.control.clone_from(&third);
    far.adopt(&address).code(0);
    far.run(&["preview"]).code(0).says(&["nothing to do"]);
    Ok(())
}

#[test]
fn a_map_is_tried_from_afar_by_the_commands_that_start_and_stop_the_server() -> Done {
    let Some(ssh) = Ssh::start(None)? else { return Ok(()) };
    let world = World::empty()?;
    kites::write_server(&world.server(), free_port()?, free_port()?)?;
    kites::write_downloads(&world.files())?;
    let mut far = Far::around(world)?;
    far.env.push(("YALOTHECA_SSH_OPTIONS".into(), ssh.options("user")));
    // The panel has the server's output in a file.
    let games = far.control.join("games");
    fs::create_dir_all(&games)?;
    let definition = include_str!("../../../core/games/kitehollow.toml");
    let definition = definition.replacen("name   = \"kitehollow\"", "name   = \"kites\"", 1);
    fs::write(games.join("kites.toml"), definition.replacen("[run]\n", "[run]\nlog = \"out.log\"\n", 1))?;
    let panel = far.control.join("panel");
    let script = format!(
        "#!/bin/sh\npid='{2}'\ncase $1 in\n\
         start) cd '{1}'; '{0}' stand-in kitehollow . >>out.log 2>&1 & echo $! > \"$pid\"; sleep 0.3;;\n\
         stop) kill -INT $(cat \"$pid\") 2>/dev/null; while kill -0 $(cat \"$pid\") 2>/dev/null; do sleep 0.05; done;;\nesac\n",
        program().display(),
        far.world.server().display(),
        panel.with_extension("pid").display(),
    );
    fs::write(&panel, script)?;
    fs::set_permissions(&panel, fs::Permissions::from_mode(0o755))?;
    let address = format!("sftp://127.0.0.1:{}{}", ssh.port(), encoded(&far.world.server()));
    far.run(&["game", "trust", "kites", "--yes"]).code(0);
    far.run(&["adopt", &address, "--name", "Larkspur Kites", "--game", "kites"]).code(0);
    let windmill = far.world.files().join("windmill.zip").display().to_string();
    far.run(&["maps", "try", &windmill, "--yes"]).code(2).says(&["[server.process]"]);
    let wants = far.control.join("yalotheca.toml");
    let text = fs::read_to_string(&wants)?;
    let commands =
        "[server.process]\nstart = [\"./panel\", \"start\"]\nstop = [\"./panel\", \"stop\"]\n\n[maps]";
    fs::write(&wants, text.replacen("[maps]", commands, 1))?;
    let before = far.world.read("host.cfg")?;
    far.agree(&["maps", "try", &windmill, "--yes"])
        .code(0)
        .says(&["windmill_row works", "pier_lights still plays"]);
    assert!(far.world.path("maps/windmill_row.kmap").exists());
    assert_eq!(far.world.read("host.cfg")?, before);
    far.run(&["undo", "--yes"]).code(0);
    let mut bytes = kites::map("rope_walk")[0].1.clone();
    bytes[500] ^= 1;
    let broken = far.world.files().join("rope_walk.kmap");
    fs::write(&broken, &bytes)?;
    far.run(&["maps", "try", &broken.display().to_string(), "--yes"])
        .code(1)
        .says(&["The fault is rope_walk's", "Everything is as it was before"]);
    assert!(!far.world.path("maps/rope_walk.kmap").exists());
    assert_eq!(far.world.read("host.cfg")?, before);
    Ok(())
}
