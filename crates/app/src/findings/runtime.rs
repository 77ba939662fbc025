//! What the engine runs on: which version it needs, which are installed, and which one the launch settings name.

use std::collections::BTreeMap;

use yalotheca_core::{
    check::{Finding, Remedy},
    game::{ConfigPlace, RuntimeRule},
    hint::Advice,
    id::TreePath,
};
use yalotheca_host::{
    runtimes::{self, InstalledRuntime},
    survey::{self, SurveyError, value_at, value_inside},
    trust::Invocation,
};

use crate::{AppError, Server, server::trust};

/// Returns what is wrong with what the engine runs on. Only a server of this machine can be looked at.
pub(crate) fn runtimes(server: &Server) -> Result<Vec<Finding>, AppError> {
    if server.tree.local().is_none() {
        return Ok(Vec::new());
    }
    let mut findings = Vec::new();
    for rule in &server.game.runtimes {
        findings.extend(runtime(server, rule)?);
    }
    Ok(findings)
}

fn runtime(server: &Server, rule: &RuntimeRule) -> Result<Option<Finding>, AppError> {
    let (tree, scope) = (&*server.tree, &server.survey.scope);
    let render = |error| AppError::Survey(SurveyError::Render(error));
    let needed = match &rule.inside {
        Some(archive) => value_inside(tree, archive, &rule.needs, scope)?,
        None => value_at(tree, &rule.needs, scope)?,
    };
    let Some(needed) = needed.filter(|needed| !needed.is_empty()) else { return Ok(None) };
    // Checking runs no command that has not been agreed to.
    let foreign = survey::foreign_values(&server.game, scope, &BTreeMap::new());
    let command = Invocation::of(&rule.command, &BTreeMap::new(), scope).map_err(render)?;
    let command = match command {
        Some(command) if trust()?.may_run(&command, &foreign) => Some(command),
        Some(_) if rule.paths.is_empty() => return Ok(None),
        _ => None,
    };
    let installed = runtimes::installed(rule, scope, command.as_ref()).map_err(render)?;
    let fits = |runtime: &&InstalledRuntime| is_version(&runtime.version, &needed);
    let title = &rule.title;
    let place = rule.setting.file.render(scope).map_err(render)?;
    let Some(fitting) = installed.iter().find(fits) else {
        let mut versions: Vec<&str> = installed.iter().map(|runtime| runtime.version.as_str()).collect();
        versions.dedup();
        let here = match versions.as_slice() {
            [] => "none is".into(),
            [one] => format!("only {one} is"),
            [others @ .., last] => format!("only {} and {last} are", others.join(", ")),
        };
        let says = format!("the server needs {title} {needed}, and {here} installed here");
        let fix = Some(Advice::Say(format!("install {title} {needed}")));
        return Ok(Some(Finding::trouble("runtime", &place, says, fix)));
    };
    // That a version is the right one is said by [[agree]].
    let Some(path) = fitting.path.as_ref().filter(|_| rule.by_path) else { return Ok(None) };
    let named = value_at(tree, &rule.setting, scope)?.unwrap_or_default();
    let is_in = |runtime: &InstalledRuntime| {
        runtime.path.as_ref().is_some_and(|path| std::path::Path::new(&named).starts_with(path))
    };
    if installed.iter().filter(fits).any(is_in) {
        return Ok(None);
    }
    let wanted = path.display().to_string();
    let now = if named.is_empty() { "none".into() } else { named };
    let says = format!("the server needs {title} {needed}, which is {wanted}, and {place} names {now}");
    let finding = Finding::trouble("runtime", &place, says, Some(Advice::FixThis(place.clone())));
    Ok(Some(match remedy(server, &rule.setting, wanted) {
        Some(remedy) => finding.with_remedy(remedy),
        None => finding,
    }))
}

/// Returns the remedy that sets one of the server's own settings; nothing where the place is none.
pub(super) fn remedy(server: &Server, place: &ConfigPlace, value: String) -> Option<Remedy> {
    let scope = &server.survey.scope;
    let (file, at) = place.spot(scope).ok()?;
    let is_it = |rule: &&yalotheca_core::game::SettingsFile| {
        rule.file.render(scope).ok().and_then(|path| TreePath::new(&path).ok()).as_ref() == Some(&file)
    };
    let short = server.game.settings.iter().find(is_it)?.short.render(scope).ok()?;
    Some(Remedy::Set { file: short, at, value })
}

/// Returns whether a version is the needed one, or a finer one of it: 6.2 where 6 is needed.
fn is_version(version: &str, needed: &str) -> bool {
    version.strip_prefix(needed).is_some_and(|rest| rest.is_empty() || rest.starts_with(['.', '-', '+', '_']))
}

#[cfg(test)]
mod tests {
    use super::is_version;

    #[test]
    fn a_finer_version_fits() {
        assert!(is_version("6", "6") && is_version("6.2.1", "6") && is_version("17.0.2+8", "17"));
        assert!(!is_version("60", "6") && !is_version("1.6", "6"));
    }
}
