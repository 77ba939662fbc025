//! What `settle --clean-first` sets aside: everything that is not part of the lineup, except for worlds, saves, settings,
//! and what the administrator names.

use std::collections::BTreeSet;

use globset::{Glob, GlobMatcher};
use yalotheca_core::{
    change::{FileAct, FileLine, Step},
    game::{Agree, Place, PlatformRule, Template},
    id::{ContentId, TreePath},
};
use yalotheca_host::{
    settle::OWN,
    survey,
    tree::{Found, Tree},
};

use crate::{error::CommandError, plan::Planned, session::Session};

/// Adds the steps that set aside what is left over.
pub(super) fn set_aside(
    session: &Session,
    planned: &mut Planned,
    spare: &[String],
) -> Result<(), CommandError> {
    let glob = |text: &String| -> Result<GlobMatcher, CommandError> {
        let wrong = |error: globset::Error| CommandError::Usage {
            what: format!("--spare {text:?}: {}", error.kind()),
            hint: Some("write a pattern as in 'plugins/*/settings.yml' or '**/*.yml'".into()),
        };
        Glob::new(text).map(|glob| glob.compile_matcher()).map_err(wrong)
    };
    let spare = spare.iter().map(glob).collect::<Result<Vec<_>, _>>()?;
    let protected = survey::protected(&session.game, &session.survey.scope)?;
    let kept = kept(session, planned);
    let mut changed: BTreeSet<TreePath> = BTreeSet::new();
    for step in &planned.change.steps {
        if let Step::Put { path, .. } | Step::SetAside { path, .. } = step {
            changed.insert(path.clone());
        }
    }
    let content = ContentId::new(&session.game.name)?;
    let (mut steps, mut emptied) = (Vec::new(), BTreeSet::new());
    let mut next = vec![TreePath::root()];
    while let Some(folder) = next.pop() {
        for (name, found) in session.tree.list(&folder)? {
            let path = folder.join(&name)?;
            if name == OWN || protected.is_match(path.as_str()) {
                continue;
            }
            let stays = kept.contains(&path)
                || changed.contains(&path)
                || spare.iter().any(|glob| glob.is_match(path.as_str()));
            match found {
                Found::Folder => next.push(path),
                Found::File(size) if !stays => {
                    let Some((before, _)) = session.tree.digest(&path)? else { continue };
                    emptied.insert(folder.clone());
                    let line = FileLine {
                        act: FileAct::Aside,
                        path: path.clone(),
                        from: None,
                        size,
                        content: content.clone(),
                    };
                    planned.change.files.push(line);
                    steps.push(Step::SetAside { path, before });
                }
                Found::File(_) | Found::Other => {}
            }
        }
    }
    // Inner folders first; one that is not empty stays.
    let mut folders: BTreeSet<TreePath> = BTreeSet::new();
    for folder in emptied {
        let mut next = Some(folder);
        while let Some(folder) = next.filter(|folder| !folder.is_root()) {
            next = folder.parent();
            folders.insert(folder);
        }
    }
    steps.extend(folders.into_iter().rev().map(|path| Step::RemoveFolder { path }));
    steps.append(&mut planned.change.steps);
    planned.change.steps = steps;
    Ok(())
}

/// What the lineup places and writes, and every file that the game definition reads.
fn kept(session: &Session, planned: &Planned) -> BTreeSet<TreePath> {
    let (game, scope) = (&session.game, &session.survey.scope);
    let mut kept: BTreeSet<TreePath> = planned.desired.placements.keys().cloned().collect();
    kept.extend(planned.desired.registrations.iter().map(|registration| registration.file.clone()));
    let mut templates: Vec<&Template> = game.recognise_all.iter().chain(&game.recognise_any).collect();
    let mut places: Vec<&Place> = game.values.iter().filter_map(|(_, rule)| rule.from.as_ref()).collect();
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
        lists.chain([&maps.play]).chain(&maps.cap)
    }));
    let files = places.into_iter().map(|place| &place.file).chain(templates);
    kept.extend(files.filter_map(|file| TreePath::new(&file.render(scope).ok()?).ok()));
    for name in [yalotheca_core::control::WANTS_FILE, yalotheca_core::control::LOCK_FILE] {
        kept.extend(TreePath::new(name).ok());
    }
    kept.remove(&TreePath::root());
    kept
}
