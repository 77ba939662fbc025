//! What became of a change that was interrupted.

use yalotheca_core::id::TreePath;
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
