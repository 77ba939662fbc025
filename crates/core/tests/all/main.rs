//! The core through its public face: whole computations on values, and golden files for configuration edits.

#![expect(clippy::disallowed_methods, reason = "the core does no I/O; its tests read golden files")]

mod corpus;
mod definition_law;
mod definitions;
mod findings;
mod golden;
mod lineups;
mod packages;
mod suites;
mod undoing;

pub(crate) type Done = Result<(), Box<dyn std::error::Error>>;

/// A test file that no `mod` line names would never run.
#[test]
fn no_test_file_is_forgotten() -> Done {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/all");
    let main = std::fs::read_to_string(format!("{folder}/main.rs"))?;
    for entry in std::fs::read_dir(folder)? {
        let name = entry?.file_name().to_string_lossy().into_owned();
        let stem = name.trim_end_matches(".rs");
        assert!(stem == "main" || main.contains(&format!("mod {stem};")), "{name} is in no mod line");
    }
    Ok(())
}
