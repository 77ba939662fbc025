//! What became of a change that was interrupted, and what going on with it would do.

use yalotheca_core::{change::Step, id::TreePath};
use yalotheca_host::settle::Outcome;

/// Says what became of a change that was interrupted.
pub(crate) fn recovered(outcome: &Outcome) -> String {
    match outcome {
        Outcome::Finished(origin) => {
            format!("An earlier change was interrupted ({}); it has now been finished.", origin.command)
        }
        Outcome::Lost(origin) => format!(
            "The machine went down during an earlier change ({}); it has been taken back, and everything is as before.",
            origin.command
        ),
        Outcome::RolledBack(origin) => format!(
            "An earlier change had failed ({}); it has now been taken back, and everything is as before.",
            origin.command
        ),
        Outcome::Damaged(origin, files) => {
            let first = files.first().map_or("", TreePath::as_str);
            let (which, pattern) = if files.len() == 1 {
                (format!("{first} is damaged"), first.to_owned())
            } else {
                (format!("{} files are damaged, the first is {first}", files.len()), "**".to_owned())
            };
            format!(
                "The machine went down before an earlier change was wholly on the disk ({}): {which}. \
                 yalotheca settle --replace '{pattern}' puts the right files there again.",
                origin.command
            )
        }
        Outcome::TakenBack(origin) => format!(
            "An earlier change was interrupted before it touched the server ({}); it has been taken back.",
            origin.command
        ),
    }
}

/// Says what a step does.
pub(crate) fn step_in_words(step: &Step) -> String {
    match step {
        Step::MakeFolder { path } => format!("make the folder {path}"),
        Step::RemoveFolder { path } => format!("remove the folder {path} where it is empty"),
        Step::Put { path, before: None, .. } => format!("put {path}"),
        Step::Put { path, .. } => format!("replace {path}"),
        Step::SetAside { path, .. } => format!("set {path} aside"),
    }
}
