//! The host on real files in temporary folders, and against a catalogue host on loopback.

mod archives;
mod catalogues;
mod clones;
mod fetching;
mod ftp;
mod remote;
mod settling;
mod ssh;
mod stores;
mod surveys;
mod trees;
mod unpacking;

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

/// Says that a test was skipped, since something real is missing.
#[expect(clippy::print_stderr, reason = "the test's runner shows it")]
#[expect(clippy::unnecessary_wraps, reason = "it is what such a test returns")]
pub(crate) fn skipped(what: &str) -> Done {
    eprintln!("skipped: {what} is missing");
    Ok(())
}
