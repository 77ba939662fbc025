//! Bounds on the sizes of files that the server sends to players.

use yalotheca_core::{
    change::{FileAct, FileLine},
    check::Finding,
    game::{ConfigPlace, Limit, LimitRule},
    hint::Advice,
    id::TreePath,
    mirror::glob,
};
use yalotheca_host::{survey::value_at, tree::EntryKind};

use crate::{AppError, Server, words::size};

/// Compares the sizes of files that the server sends to players with its limits.
pub(crate) fn findings(server: &Server) -> Result<Vec<Finding>, AppError> {
    let mut findings = Vec::new();
    for rule in &server.game.limits {
        findings.extend(limit(server, rule)?);
    }
    Ok(findings)
}

/// The bound of a rule as it is now, and the place of its value with the value's unit.
type Bound<'a> = (u64, Option<(&'a ConfigPlace, u64)>);

/// Returns the bound of a rule, unless nothing is bounded.
fn bound<'a>(server: &Server, rule: &'a LimitRule) -> Result<Option<Bound<'a>>, AppError> {
    let scope = &server.survey.scope;
    if let Some(unless) = &rule.unless
        && value_at(&*server.tree, unless, scope)?.is_some_and(|value| !value.trim().is_empty())
    {
        return Ok(None);
    }
    Ok(match &rule.most {
        Limit::Bytes(bytes) => Some((*bytes, None)),
        Limit::At(place, unit) => {
            let value = value_at(&*server.tree, place, scope)?;
            let value = value.and_then(|value| value.trim().parse::<u64>().ok());
            value.and_then(|value| value.checked_mul(*unit)).map(|most| (most, Some((place, *unit))))
        }
    })
}

fn way_out(server: &Server, place: Option<(&ConfigPlace, u64)>, bytes: u64) -> Advice {
    let setting = place.and_then(|(place, unit)| setting(server, place, bytes.div_ceil(unit)));
    Advice::RaiseLimit { setting, or_mirror: server.game.mirror.is_some() }
}

/// Returns how large a file may be that the server sends to players, and what can be done if it is larger.
pub(crate) fn limit_of(server: &Server, path: &TreePath) -> Result<Option<(u64, Advice)>, AppError> {
    for rule in &server.game.limits {
        let Some((most, place)) = bound(server, rule)? else { continue };
        if glob(&rule.take, &server.survey.scope).is_ok_and(|glob| glob.is_match(path.as_str())) {
            let bytes = server.tree.digest_file(path)?.map_or(0, |(_, bytes)| bytes);
            return Ok(Some((most, way_out(server, place, bytes))));
        }
    }
    Ok(None)
}

/// Says which files of a change are larger than what the server sends to players.
pub(crate) fn too_large(server: &Server, files: &[FileLine]) -> Result<Vec<String>, AppError> {
    let mut notes = Vec::new();
    for rule in &server.game.limits {
        let Some((most, _)) = bound(server, rule)? else { continue };
        let Ok(glob) = glob(&rule.take, &server.survey.scope) else { continue };
        let stays = |line: &&FileLine| line.act != FileAct::Aside;
        for line in files.iter().filter(stays).filter(|line| glob.is_match(line.path.as_str())) {
            if line.size > most {
                let (has, most) = (size(line.size), size(most));
                notes.push(format!(
                    "{} has {has}, but the server sends players at most {most}: players who lack it are turned away.",
                    line.path
                ));
            }
        }
    }
    Ok(notes)
}

fn limit(server: &Server, rule: &LimitRule) -> Result<Vec<Finding>, AppError> {
    let Some((most, place)) = bound(server, rule)? else { return Ok(Vec::new()) };
    let Ok(glob) = glob(&rule.take, &server.survey.scope) else { return Ok(Vec::new()) };
    let index = server.tree.names(&server.fetcher.store().names_of(&*server.tree));
    let paths = index.files_and_links(|path| glob.is_match(path));
    let mut findings = Vec::new();
    for (path, there) in paths.iter().zip(server.tree.metadata(&paths)?) {
        let Some(EntryKind::File(bytes)) = there else { continue };
        if bytes > most {
            let says =
                format!("{path} has {}, but the server sends players at most {}", size(bytes), size(most));
            let fix = Some(way_out(server, place, bytes));
            findings.push(Finding::trouble("too-large", path.as_str(), says, fix));
        }
    }
    Ok(findings)
}

/// Returns the setting that raises a limit, if it can be raised so far.
fn setting(server: &Server, place: &ConfigPlace, to: u64) -> Option<String> {
    let (file, pointer) = place.spot(&server.survey.scope).ok()?;
    let scope = &server.survey.scope;
    let rule = server
        .game
        .settings
        .iter()
        .find(|one| one.file.render(scope).is_ok_and(|path| path == file.as_str()))?;
    let key = rule.keys.iter().find(|(known, _)| *known == pointer);
    let is_possible = key.is_none_or(|(_, key)| {
        key.most.is_none_or(|most| u32::try_from(to).is_ok_and(|to| f64::from(to) <= most))
    });
    is_possible.then(|| format!("{}={to}", pointer.to_string().trim_start_matches('/')))
}
