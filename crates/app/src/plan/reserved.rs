//! What nothing from outside is placed into or over, whichever way it came: checked here for all of them.

use yalotheca_core::{
    change::{ChangeSet, Reserved, Source, Step},
    control::LockFile,
    desire::Desired,
    game::{Agree, ConfigPlace, Game, PlatformRule, Scope, Template},
    hint::{Advice, Amendment},
    id::{ContentId, TreePath},
};
use yalotheca_host::arrival::Once;

use crate::{AppError, Server};

/// Returns the files that a game definition reads: configuration, engine, terms.
pub fn used(game: &Game, scope: &Scope) -> Vec<TreePath> {
    let mut templates: Vec<&Template> = game.recognise_all.iter().chain(&game.recognise_any).collect();
    let mut places: Vec<&ConfigPlace> =
        game.values.iter().filter_map(|(_, rule)| rule.from.as_ref()).collect();
    for rule in game.platform.values() {
        match rule {
            PlatformRule::File(place) => places.push(place),
            PlatformRule::Inside { archive, .. } => templates.push(archive),
            PlatformRule::Command { .. } => {}
        }
    }
    for agree in &game.agree {
        match agree {
            Agree::File { file, named, .. } => {
                templates.push(file);
                places.push(named);
            }
            Agree::Present { value, .. } => places.push(value),
            Agree::Value { value, is, inside, .. } => {
                places.push(value);
                match inside {
                    Some(inside) => templates.push(inside),
                    None => places.push(is),
                }
            }
        }
    }
    places.extend(game.terms.iter().map(|terms| &terms.place));
    places.extend(game.maps.iter().flat_map(|maps| {
        let lists = [&maps.rotate, &maps.offer].into_iter().flatten().map(|list| &list.place);
        lists.chain([&maps.play]).chain(&maps.cap).chain(maps.with.iter().map(|with| &with.list.place))
    }));
    let files = places.into_iter().map(|place| &place.file).chain(templates);
    let settings = game.settings.iter().map(|file| &file.file);
    let paths = files.chain(settings).filter_map(|file| TreePath::new(&file.render(scope).ok()?).ok());
    paths.filter(|path| !path.is_root()).collect()
}

/// Where the control folder lies in the server's folder, where it does.
fn control(server: &Server) -> Option<TreePath> {
    let root = server.tree.local()?.root().canonicalize().ok()?;
    let folder = server.control.folder.canonicalize().ok()?;
    TreePath::new(folder.strip_prefix(root).ok()?.to_str()?).ok()
}

fn refuse(who: &str, path: &TreePath, why: &str) -> AppError {
    AppError::Refused {
        what: format!("{who} would write {path}, {why}; nothing was changed"),
        hint: Some(Advice::Amend(Amendment::LeaveOutOrDoWithout)),
    }
}

/// Refuses a change that places files of contents, or writes entries, where none may.
pub fn check(
    server: &Server,
    (desired, lock): (&Desired, &LockFile),
    change: &ChangeSet,
) -> Result<(), AppError> {
    let own = Reserved::new(control(server).as_ref());
    let used = own.clone().with_used(used(&server.game, &server.survey.scope));
    let lineup = lock.by_id();
    let brings = |id| {
        let kind = lineup.get(id).and_then(|locked| server.game.kinds.get(&locked.release.kind));
        kind.is_some_and(|kind| kind.brings.is_some())
    };
    // Files of one content mostly follow one another.
    let mut last: Option<(&ContentId, bool)> = None;
    for (path, placement) in &desired.placements {
        let (_, is_brought) = last
            .filter(|(id, _)| **id == placement.content)
            .unwrap_or_else(|| (&placement.content, brings(&placement.content)));
        last = Some((&placement.content, is_brought));
        let reserved = if is_brought { &own } else { &used };
        if let Some(why) = reserved.why(path) {
            return Err(refuse(placement.content.as_str(), path, why));
        }
    }
    for registration in &desired.registrations {
        if let Some(why) = own.why(&registration.file) {
            return Err(refuse(registration.content.as_str(), &registration.file, why));
        }
    }
    for step in &change.steps {
        if let (Step::Put { source: Source::Text(_) | Source::Payload, .. }, Some(why)) =
            (step, own.why(step.path()))
        {
            return Err(refuse("this change", step.path(), why));
        }
    }
    Ok(())
}

/// Refuses files that a pack or a setup puts where there are none yet. A setup may bring the server's configuration, but never its
/// terms: accepting them is the administrator's own act.
pub fn check_once(server: &Server, once: &[Once], is_setup: bool) -> Result<(), AppError> {
    let (game, scope) = (&server.game, &server.survey.scope);
    let terms =
        game.terms.iter().filter_map(|terms| TreePath::new(&terms.place.file.render(scope).ok()?).ok());
    let used = if is_setup { terms.collect() } else { used(game, scope) };
    let reserved = Reserved::new(control(server).as_ref()).with_used(used);
    for one in once {
        if let Some(why) = reserved.why(&one.to) {
            return Err(refuse(if is_setup { "the setup" } else { "the pack" }, &one.to, why));
        }
    }
    Ok(())
}
