//! How a server was started, or came up again that was stopped for a change.

use yalotheca_app::pause::{Restart, RestartedBy};
use yalotheca_core::diagnose::Verdict;

use crate::view::{Page, Role, count};

/// How a start is described.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Told {
    /// Whether it ran before.
    pub(crate) is_again: bool,
    /// The change that can be taken back if it did not come up well.
    pub(crate) undoes: Option<u32>,
}

/// Tells how a server was started.
pub(crate) fn tell(page: &mut Page, restart: &Restart, told: Told) {
    let again = if told.is_again { " again" } else { "" };
    let after = |ms: Option<u128>| match ms {
        Some(ms @ 1..1000) => format!(" after {ms} ms"),
        Some(ms @ 1000..) => format!(" after {}.{} s", ms / 1000, ms / 100 % 10),
        _ => String::new(),
    };
    match (restart.is_good, &restart.trial) {
        (None, _) if restart.by == RestartedBy::Hand => {
            return page.line(Role::Warn, "Start the server now, in its panel say.");
        }
        (None, _) => {
            return page.line(
                Role::Warn,
                &format!("The server was started{again}; nothing here can tell whether it is well (its log and its port are not known)."),
            );
        }
        (Some(true), Some(trial)) => {
            let problems = match trial.accepted.len() {
                0 => String::new(),
                many => format!(", with {} that you accepted", count(many, "problem")),
            };
            let ready = after(trial.ready_after_ms);
            page.line(Role::Good, &format!("The server was started{again}: ready{ready}{problems}."));
            if let (RestartedBy::Trial, Some(_)) = (restart.by, trial.left_running) {
                page.line(Role::Plain, "yalotheca stop ends it.");
            }
            return;
        }
        (Some(true), None) => {
            return page.line(Role::Good, &format!("The server was started{again}, and runs."));
        }
        (Some(false), _) => {}
    }
    let why = match (&restart.error, &restart.trial) {
        (Some(error), _) => format!("The server could not be started{again}: {error}."),
        (None, Some(trial)) => {
            let cause = trial.troubles.iter().find(|trouble| !trouble.accepted);
            let cause =
                cause.map(|cause| format!(": {}", cause.says.trim_end_matches('.'))).unwrap_or_default();
            match trial.verdict {
                Verdict::Failed => format!("The server was started{again}, and failed{cause}."),
                Verdict::Ready | Verdict::ReadyWithTrouble => {
                    format!("The server was started{again} and is ready, but something is wrong{cause}.")
                }
            }
        }
        (None, None) => {
            format!("The server was started{again}, and does not run or does not answer at its port.")
        }
    };
    page.line(Role::Bad, &why);
    if let Some(number) = told.undoes {
        page.label(
            Role::Head,
            "To do",
            &format!("yalotheca undo {number} --restart takes the change back and starts the server; yalotheca trial shows what is wrong"),
        );
    }
}
