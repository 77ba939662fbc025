//! Whole-program tests: the built program on files in temporary folders.

mod adopt;
mod advice;
mod arriving;
mod broken_starts;
mod changes;
mod check;
mod console;
mod crash;
mod demo;
mod downloads;
mod errors;
mod everyday;
mod game;
mod guide;
mod handout;
mod harness;
mod isolate;
mod laws;
mod looks;
mod losing_nothing;
mod maps;
mod mirror;
mod moor;
mod moor_maps;
mod ninety;
mod ordering;
mod other_definitions;
mod packs;
mod players;
mod published;
mod real_bzfs;
mod real_far;
mod real_luanti;
mod real_states;
mod real_teeworlds;
mod rehearse;
mod remote;
mod remote_life;
mod round_trip;
mod runtimes;
mod safety;
mod settings;
mod telling;
mod transfers;
mod trial;
mod tweaks;
mod where_is;

/// A test file that no `mod` line names would never run.
#[test]
fn no_test_file_is_forgotten() -> std::io::Result<()> {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/all");
    let main = std::fs::read_to_string(format!("{folder}/main.rs"))?;
    for entry in std::fs::read_dir(folder)? {
        let name = entry?.file_name().to_string_lossy().into_owned();
        let stem = name.trim_end_matches(".rs");
        assert!(stem == "main" || main.contains(&format!("mod {stem};")), "{name} is in no mod line");
    }
    Ok(())
}

/// What can be done is typed, and only the command line words it: no crate below it names a command or a flag.
#[test]
fn only_the_command_line_names_commands() -> Result<(), Box<dyn std::error::Error>> {
    let help = std::process::Command::new(env!("CARGO_BIN_EXE_yalotheca")).arg("--help").output()?;
    let help = String::from_utf8(help.stdout)?;
    let commands: Vec<&str> =
        help.lines().filter_map(|line| line.strip_prefix("  ")?.split(' ').next()).collect();
    assert!(commands.contains(&"settle") && commands.contains(&"adopt"), "{help}");
    let names_one = |text: &str| {
        let after = |mark: &str| text.split(mark).skip(1).map(str::to_owned).collect::<Vec<_>>();
        let word = |rest: &String| rest.split(|c: char| !c.is_ascii_lowercase()).next().map(str::to_owned);
        let command =
            after("yalotheca ").iter().filter_map(word).any(|word| commands.contains(&word.as_str()));
        command
            || after(" --")
                .iter()
                .chain(&after("\"--"))
                .any(|rest| rest.starts_with(|c: char| c.is_ascii_lowercase()))
    };
    let mut folders: Vec<std::path::PathBuf> = ["core", "host", "app"]
        .iter()
        .map(|name| format!("{}/../{name}/src", env!("CARGO_MANIFEST_DIR")).into())
        .collect();
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder)? {
            let path = entry?.path();
            if path.is_dir() {
                if !path.ends_with("tests") {
                    folders.push(path);
                }
                continue;
            }
            let text = std::fs::read_to_string(&path)?;
            let text = text.split("#[cfg(test)]").next().unwrap_or_default();
            let lines = text.lines().filter(|line| !line.trim_start().starts_with("//"));
            for line in lines.filter(|line| line.contains('"') && !path.ends_with("tests.rs")) {
                assert!(!names_one(line), "{}: {line}", path.display());
            }
        }
    }
    Ok(())
}
