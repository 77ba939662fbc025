//! Checks that players can download what they need from the mirror.

use crate::{
    AppError, Server,
    mirror::{address, status},
    reading::Reading,
};
use yalotheca_core::{check::Finding, hint::Advice};

/// How many files one finding names.
const NAMED: usize = 3;

/// Asks the mirror's address for what players need. Returns nothing when offline, or if the server announces no address.
pub(super) fn look(server: &Server, reading: Reading) -> Result<Vec<Finding>, AppError> {
    let Some(rule) = &server.game.mirror else { return Ok(Vec::new()) };
    if server.fetcher.is_offline() || address(server, rule)?.is_none() {
        return Ok(Vec::new());
    }
    let status = status(server, reading == Reading::Everything)?;
    let mut findings: Vec<Finding> = status
        .settings
        .iter()
        .map(|says| {
            let fix = status.address.clone().map(Advice::AnnounceMirror);
            Finding::trouble("mirror-setting", "mirror", says.clone(), fix)
        })
        .collect();
    if let Some(why) = status.silent {
        let says = format!("could not check whether players can download what they need: {why}");
        let fix = Some("check again when the host answers".into());
        findings.push(Finding::note("mirror-silent", "mirror", says, fix));
        return Ok(findings);
    }
    let Some(first) = status.problems.first() else { return Ok(findings) };
    let says = match status.problems.len() {
        1 => format!("players cannot download {} from {}: {}", first.path, first.link, first.why),
        all => {
            let named: Vec<&str> = status.problems.iter().take(NAMED).map(|one| one.path.name()).collect();
            let more = match all - named.len() {
                0 => String::new(),
                more => format!(" and {more} more"),
            };
            format!(
                "players cannot download {}{more} from {}: {}",
                named.join(", "),
                status.address.unwrap_or_default(),
                first.why
            )
        }
    };
    findings.push(Finding::trouble("mirror-behind", "mirror", says, Some(Advice::PublishMirror)));
    Ok(findings)
}
