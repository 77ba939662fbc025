//! The console: every kind of channel, what goes wrong with it, and changes that a running server takes.

use std::{fs, net::UdpSocket, os::unix::fs::PermissionsExt, path::Path, thread, time::Duration};

use crate::{
    harness::{Done, World, free_port},
    real_teeworlds::arena,
};
use yalotheca_standin::kitehollow::maps;

/// Stops the server of a world, whatever became of the test.
struct Kept<'w>(&'w World);

impl Drop for Kept<'_> {
    fn drop(&mut self) {
        self.0.run(&["stop"]);
    }
}

/// Starts the world's server and leaves it running.
fn kept(world: &World) -> Kept<'_> {
    world.run(&["trial", "--keep"]).code(0);
    Kept(world)
}

#[test]
fn lines_over_tcp_are_answered_and_what_is_wrong_is_told() -> Done {
    let world = World::kites()?;
    world.run(&["console", "maps"]).code(4).says(&["nothing answers", "trial --keep"]);
    let kept = kept(&world);
    world.run(&["status"]).code(0).says(&["running (process", "left by a trial", "answers at its port"]);
    world.run(&["console", "maps"]).code(0).says(&["pier_lights"]);
    let json = world.run(&["console", "--json", "show start_map", "nonsense"]).code(0).json()?;
    assert_eq!(json["commands"][0]["answer"][0], "start_map = \"pier_lights\"", "{json}");
    assert_eq!(json["commands"][1]["answer"][0], "unknown command: nonsense", "{json}");
    // Lines from a script; the secret is not shown.
    world
        .run_with_input(&["console"], "show fetch_cap_mb\n\nshow console_pass\n")
        .code(0)
        .says(&["> show fetch_cap_mb fetch_cap_mb = \"24\"", "(a secret)"]);
    world.run(&["console", "one\ntwo"]).code(2).says(&["one line of text"]);
    let typed = world.run_in_terminal(&["console"], "show start_map\n", &[("TERM", "dumb")]);
    assert!(typed.out.contains("start_map = \"pier_lights\""), "{typed:?}");
    // The server reads its secret when it starts.
    let config = world.read("host.cfg")?;
    world.write("host.cfg", &config.replace("\"larkspur\"", "\"other\""))?;
    world.run(&["console", "maps"]).code(5).says(&["does not take", "host.cfg#/console_pass"]);
    world.write("host.cfg", &config.replace("\"larkspur\"", "\"\""))?;
    world.run(&["console", "maps"]).code(5).says(&["console is off: host.cfg#/console_pass is empty"]);
    world.write("host.cfg", &config)?;
    world.run(&["console", "land"]).code(0);
    drop(kept);
    world.run(&["status"]).code(1).says(&["not running"]);
    Ok(())
}

#[test]
fn packets_and_datagrams_are_answered() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    world.run(&["settle", "--accept-terms", "--yes"]);
    let port = free_port()?;
    let set = [format!("console.port={port}"), "console.secret=tern".to_owned()];
    let conf = world.read("saltwick.conf").unwrap_or_default();
    let conf: Vec<&str> = conf.lines().filter(|line| !line.starts_with("console.")).collect();
    let conf = conf.join("\n") + "\n";
    world.write("saltwick.conf", &format!("{conf}{}\n", set.join("\n").replace('=', " = ")))?;
    {
        let _kept = kept(&world);
        world
            .run(&["console", "plugins", "nonsense"])
            .code(0)
            .says(&["tidebell 1.", "unknown command: nonsense"]);
        // A content's settings, while it runs.
        let live = world.run(&["settings", "tidebell", "/volume=7", "--live", "--yes"]).code(0);
        live.says(&["volume: the server took the change."]);
        assert!(world.read("plugins/tidebell/settings.yml")?.contains('7'));
        // What the server reads when it starts is not set while it runs.
        world
            .run(&["settings", "server", "name=Quay", "--live", "--yes"])
            .code(5)
            .says(&["does not take these changes: saltwick.conf#/name", "--restart"]);
        world.write("saltwick.conf", &world.read("saltwick.conf")?.replace("tern", "gull"))?;
        world.run(&["console", "plugins"]).code(5).says(&["does not take the console's secret"]);
    }
    let moor = World::moor()?;
    let port = free_port()?;
    let ini = moor.read("garrow.ini")?;
    moor.write(
        "garrow.ini",
        &ini.replace("[Hosting]\n", &format!("[Hosting]\nwatch_port = {port}\nwatch_word = reed\n")),
    )?;
    let _kept = kept(&moor);
    moor.run(&["console", "ground", "tell good evening"]).code(0).says(&["Basemarsh"]);
    moor.write("garrow.ini", &moor.read("garrow.ini")?.replace("watch_word = reed", "watch_word = rush"))?;
    moor.run(&["console", "ground"]).code(5).says(&["garrow.ini#/Hosting/watch_word"]);
    Ok(())
}

#[test]
fn a_changed_setting_and_another_map_are_taken_while_the_server_runs() -> Done {
    let world = World::kites()?;
    let _kept = kept(&world);
    world.run(&["settings", "server", "fetch_cap_mb=48", "--yes"]).code(5).says(&["is running"]);
    world
        .run(&["settings", "server", "fetch_cap_mb=48", "--live", "--yes"])
        .code(0)
        .says(&["Settled", "fetch_cap_mb is 48, as the server says."]);
    world.run(&["console", "show fetch_cap_mb"]).code(0).says(&["\"48\""]);
    // A map that is new, and is then flown.
    world.run(&["add", "../files/gull-cliffs-2.zip", "--live", "--yes"]).code(0).says(&["Settled"]);
    let json = world.run(&["maps", "play", "gull_cliffs", "--live", "--yes", "--json"]).code(0).json()?;
    assert_eq!(json["live"][0]["state"], "taken", "{json}");
    // A map that the server cannot load: the file is changed, and its answer is shown.
    let mut torn = maps::build("torn", 20_000);
    torn[5_000] ^= 1;
    fs::write(world.path("maps/torn.kmap"), torn)?;
    world
        .run(&["maps", "play", "torn", "--live", "--yes"])
        .code(1)
        .says(&["The map: the server did not take the change; it answered: torn.kmap:"]);
    // A setting that is reset is sent as well.
    world.run(&["undo", "--yes"]).code(5).says(&["is running"]);
    world
        .run(&["settings", "server", "--reset", "fetch_cap_mb", "--live", "--yes"])
        .code(0)
        .says(&["fetch_cap_mb is 24"]);
    // What the server reads again by itself needs no command.
    world
        .run(&["maps", "rotate", "gull_cliffs", "pier_lights", "--live", "--yes"])
        .code(0)
        .says(&["rotation.list: the server reads it again by itself"]);
    // Without the server there is nothing to tell.
    world.run(&["stop"]).code(0);
    let json =
        world.run(&["settings", "server", "fetch_cap_mb=30", "--live", "--yes", "--json"]).code(0).json()?;
    assert_eq!(json["live"], serde_json::Value::Null, "{json}");
    Ok(())
}

/// A definition whose server is a shell script, with this console.
fn scripted(console: &str, body: &str) -> Result<World, Box<dyn std::error::Error>> {
    let world = World::empty()?;
    let program = world.root().join("echo-server");
    fs::write(&program, format!("#!/bin/sh\n{body}\n"))?;
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755))?;
    let definition = format!(
        "format = 1\nname = \"echoes\"\ntitle = \"Echoes\"\n[recognise]\nall = [\"echo.conf\"]\n\
         [console]\n{console}\n[run]\ncommand = [\"{}\", \"{{{{ folder }}}}\"]\nstop = {{ line = \"quit\", else = \"TERM\" }}\n\
         ready = 'ready'\nquiet = \"100ms\"\n",
        program.display()
    );
    let games = world.root().join(".config/yalotheca/games");
    fs::create_dir_all(&games)?;
    fs::write(games.join("echoes.toml"), definition)?;
    world.write("echo.conf", "a = 1\n")?;
    world.run(&["adopt", "--game", "echoes"]).code(0);
    world.run(&["game", "trust", "echoes", "--yes"]).code(0);
    Ok(world)
}

const ECHO: &str = "echo ready\nwhile read -r line; do\n  case \"$line\" in quit) exit 0;; *) echo \"heard $line\";; esac\ndone\n";

#[test]
fn standard_input_reaches_a_server_that_was_left_running() -> Done {
    let world = scripted("input = true", ECHO)?;
    world.run(&["console", "hello"]).code(5).says(&["not started by a trial"]);
    let kept = kept(&world);
    world.run(&["console", "good evening", "again"]).code(0).says(&["heard good evening", "heard again"]);
    // It is stopped by its console's line, and a plain trial too.
    drop(kept);
    world.run(&["status"]).code(1);
    let json = world.run(&["trial", "--json"]).code(0).json()?;
    assert_eq!(json["verdict"], "ready", "{json}");
    Ok(())
}

#[test]
fn a_pipe_and_a_command_for_each_line() -> Done {
    let body = "mkfifo \"$1/in\" 2>/dev/null\necho ready\nwhile true; do read -r line < \"$1/in\" && { echo \"$line\" >> \"$1/heard\"; \
                [ \"$line\" = quit ] && exit 0; }; done\n";
    let world = scripted("pipe = \"in\"", body)?;
    let _kept = kept(&world);
    world.run(&["console", "hello there"]).code(0).says(&["(no answer)"]);
    thread::sleep(Duration::from_millis(300));
    assert_eq!(world.read("heard")?, "hello there\n");
    // The line is one argument, whatever is in it.
    let told = world.root().join("told");
    let teller = world.root().join("teller");
    fs::write(
        &teller,
        format!("#!/bin/sh\necho \"got $1\" | tee -a '{}'\n[ \"$1\" != fail ]\n", told.display()),
    )?;
    fs::set_permissions(&teller, fs::Permissions::from_mode(0o755))?;
    let console = format!("run = [\"{}\", \"{{{{ line }}}}\"]", teller.display());
    let by_command = scripted(&console, "echo ready\nexec sleep 1000")?;
    by_command.run(&["console", "say $(touch x); 'quotes'"]).code(0).says(&["got say $(touch x); 'quotes'"]);
    assert!(!by_command.path("x").exists());
    by_command.run(&["console", "fail"]).code(4).says(&["exit code 1"]);
    // Another program under its name was not agreed to.
    fs::write(&teller, "#!/bin/sh\ntouch run\n")?;
    by_command.run(&["console", "hello"]).code(5).says(&["to reach the server's console", "not allowed yet"]);
    assert!(!by_command.path("run").exists());
    Ok(())
}

#[test]
fn a_server_that_says_nothing_or_never_stops_is_not_waited_for_forever() -> Done {
    // Nothing listens there at all.
    let world = scripted(&format!("datagrams = \"{}\"", free_port()?), ECHO)?;
    world.run(&["console", "hello"]).code(4).says(&["nothing answers at the console's address"]);
    // A server that logs all the time.
    let chatty = "echo ready\n(while :; do echo gull; sleep 0.05; done) &\nwhile read -r line; do echo \"heard $line\"; done\n";
    let world = scripted("input = true", chatty)?;
    {
        let _kept = kept(&world);
        let began = std::time::Instant::now();
        world.run(&["console", "hello"]).code(0).says(&["heard hello"]);
        assert!(began.elapsed() < Duration::from_secs(30), "{:?}", began.elapsed());
    }
    let port = free_port()?;
    let _silent = UdpSocket::bind(("127.0.0.1", port))?;
    let world = scripted(&format!("datagrams = \"{port}\""), ECHO)?;
    world.run(&["console", "hello"]).code(4).says(&["took no notice of \"hello\""]);
    Ok(())
}

#[test]
fn a_copy_lacks_what_the_definition_leaves_empty_and_has_what_it_sets() -> Done {
    let body = "[ -e \"$1/big/map\" ] && [ \"$1\" != \"$HOME/harbour\" ] && echo 'the copy has the world'\n\
                grep -q 'a = 7' \"$1/echo.conf\" && echo 'the copy is not announced'\n";
    let console = "input = true\n[copy]\nempty = [\"big/**\"]\nset = [{ at = \"echo.conf#/a\", to = \"7\" }]";
    let world = scripted(console, &format!("{body}{ECHO}"))?;
    world.write("big/map", "much")?;
    let heard = world.run(&["trial", "--on-copy", "--verbose"]).code(0).says(&["the copy is not announced"]);
    assert!(!heard.err.contains("the copy has the world"), "{heard:?}");
    assert_eq!(world.read("echo.conf")?, "a = 1\n");
    Ok(())
}

#[test]
fn players_are_told_before_a_stop() -> Done {
    let body = "echo ready\nwhile read -r line; do\n  case \"$line\" in quit) exit 0;; who) echo 'player wren'; echo 'player tern';; \
                *) echo \"$line\" >> \"$1/heard\"; echo ok;; esac\ndone\n";
    let console = "input = true\nannounce = \"say {{ text }}\"\nplayers = { send = \"who\", each = '^player (?<name>.*)$' }\n\
                   [[settings]]\nfile = \"echo.conf\"\nas = \"properties\"\ntitle = \"the server\"\nopen = true";
    let world = scripted(console, body)?;
    let _kept = kept(&world);
    world.run(&["status"]).code(0).says(&["2 players: wren, tern"]);
    world
        .run(&[
            "settings",
            "server",
            "a=2",
            "--restart",
            "--announce",
            "back in a minute",
            "--in",
            "1s",
            "--yes",
        ])
        .code(0)
        .says(&["Players were told: back in a minute", "stopped in 1 s", "started again"]);
    assert_eq!(world.read("heard")?, "say back in a minute\n");
    world
        .run(&["settings", "server", "a=3", "--restart", "--announce", "x", "--in", "soon", "--yes"])
        .code(2);
    Ok(())
}

#[test]
fn the_real_arena_takes_maps_and_settings_while_it_runs() -> Done {
    let Some(world) = arena()? else { return Ok(()) };
    let _kept = kept(&world);
    world
        .run(&["settings", "server", "sv_max_clients=12", "--live", "--yes"])
        .code(0)
        .says(&["sv_max_clients is 12, as the server says."]);
    world.run(&["add", "quay", "--live", "--yes"]).code(0);
    world
        .run(&["maps", "play", "quay", "--live", "--yes"])
        .code(0)
        .says(&["The map is quay, as the server says."]);
    world.run(&["console", "sv_map"]).code(0).says(&["Value: quay"]);
    // What would end the command's quotes is for the next start.
    world
        .run(&["settings", "server", "sv_name=a;b", "--live", "--yes"])
        .code(5)
        .says(&["server.cfg#/sv_name"]);
    assert!(Path::new(&world.path("maps/quay.map")).exists());
    Ok(())
}
