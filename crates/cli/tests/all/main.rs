//! Whole-program tests: the built program on files in temporary folders.

mod adopt;
mod arriving;
mod changes;
mod check;
mod crash;
mod demo;
mod downloads;
mod errors;
mod everyday;
mod game;
mod guide;
mod harness;
mod laws;
mod looks;
mod losing_nothing;
mod maps;
mod ordering;
mod other_definitions;
mod packs;
mod published;
mod real_bzfs;
mod real_far;
mod real_luanti;
mod real_states;
mod real_teeworlds;
mod remote;
mod remote_life;
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
