//! The use cases through their public face, without a command line: another front end could do the same.
//!
//! They use the user's own folders (cache, state, configuration), which come from the environment. So the stories are tests that are
//! ignored, and one test runs them all in a process with folders of its own.

mod far;
mod front;
mod stories;

use std::process::Command;

type Done = Result<(), Box<dyn std::error::Error>>;

#[test]
fn the_stories_hold() -> Done {
    let folders = tempfile::tempdir()?;
    let mut child = Command::new(std::env::current_exe()?);
    child.args(["--ignored", "--test-threads=2"]);
    for name in ["XDG_CACHE_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"] {
        child.env(name, folders.path().join(name));
    }
    let output = child.env("YALOTHECA_APP_STORIES", "1").output()?;
    let told = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success(), "{told}\n{}", String::from_utf8_lossy(&output.stderr));
    let count = told.lines().filter(|line| line.starts_with("test ") && line.ends_with("... ok")).count();
    assert!(count >= 8, "{told}");
    Ok(())
}
