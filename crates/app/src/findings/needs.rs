//! Needs stated without versions, which the solver therefore cannot use.

use yalotheca_core::{check::Finding, hint::Advice, id::ContentId};

use crate::Server;

/// Returns findings for needs stated by the game's own host that no enabled content meets.
pub(super) fn stated_by_hosts(server: &Server) -> Vec<Finding> {
    let lock = &server.control.lock;
    let needs = lock.on().flat_map(|locked| locked.release.needed_facts().map(|need| (&locked.id, need)));
    let is_met = |need: &str| lock.on().any(|other| other.release.is_known_as(need));
    let finding = |(id, need): (&ContentId, &str)| {
        let off = lock.contents.iter().find(|other| other.release.is_known_as(need));
        let (says, fix) = match off {
            Some(off) => (
                format!("{id} needs {need} ({}), which is switched off", off.id),
                Advice::SwitchOn(off.id.to_string()),
            ),
            None => (format!("{id} needs {need}, which is not installed"), Advice::Install(need.to_owned())),
        };
        Finding::trouble("needs", id.as_str(), says, Some(fix))
    };
    needs.filter(|(_, need)| !is_met(need)).map(finding).collect()
}
