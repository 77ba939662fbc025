//! Making a server like the one of which a pack was made: its contents, what is off, settings, order, maps and whose assets count.

use std::path::PathBuf;

use yalotheca_core::{
    catalogue::Release,
    control::{CatalogueSource, ControlFile, Given},
    game::PACK_KIND,
    hint::Advice,
    id::ContentId,
    settings::{may_be_secret, names_a_secret},
};
use yalotheca_host::{
    catalogue::look_at,
    pack::{LaidOut, lay_out},
};

use super::{add::put_once, change::Change};
use crate::{AppError, Fresh, Server, apply::ChangeExtras};

/// A pack whose server is to be brought here.
#[derive(Debug)]
pub struct Import {
    /// The change that does it.
    pub change: Change,
    /// The files of the pack, beside the control file; they go again if the change is not made.
    pub files: LaidOut,
}

/// Plans to make this server like the one of which the pack was made. What is wanted here already stays.
///
/// # Errors
/// Where the pack cannot be read or is for another game.
pub fn import(server: &Server, file: &std::path::Path) -> Result<Import, AppError> {
    let given = Given {
        file: Some(absolute(file)?.display().to_string()),
        kind: Some(PACK_KIND.to_owned()),
        ..Given::default()
    };
    let Server { control, game, fetcher, inspector, .. } = server;
    let arrival = look_at(&given, &control.folder, game, fetcher, inspector)?;
    let is_pack = |release: &Release| release.kind == PACK_KIND;
    let own = arrival.contents.iter().find(|one| is_pack(&one.content.release));
    let not_ours = || AppError::Usage {
        what: format!("{} is not a pack that was made by modpack export", file.display()),
        hint: Some(Advice::Say("a pack of other people is added like any other file".into())),
    };
    let own = own.ok_or_else(not_ours)?;
    let folder = control.folder.join(".yalotheca/packs").join(own.content.id.as_str());
    let files = lay_out(file, fetcher.store(), &folder)
        .map_err(|source| AppError::Io { what: format!("unpacking {}", file.display()), source })?;
    let pack = files.pack.as_ref().ok_or_else(not_ours)?;
    let mut wants = control.wants.clone();
    if !pack.members.is_empty() {
        let name = own.content.id.to_string();
        wants.drop_catalogue(&name);
        let at = format!(".yalotheca/packs/{name}");
        wants.add_catalogue(&CatalogueSource { name, at, key: None, older: false });
    }
    match &pack.setup {
        Some(text) => {
            let from = ControlFile::parse("the pack", text)?;
            transfer(&from, &mut wants, |_, _| true);
        }
        // Made before packs had that: its contents are all that it says.
        None => {
            for id in own.content.release.needs.keys() {
                wants.want(id, &yalotheca_core::version::VersionRange::any());
            }
        }
    }
    let mut extras =
        ChangeExtras { asked: vec![format!("what {} has", own.content.id)], ..ChangeExtras::default() };
    // The very versions that the other server had, in its order, where these can be had.
    extras.plan.prefer.clone_from(&pack.lineup);
    let once: Vec<_> = own.once.iter().cloned().map(|once| (Some(own.content.id.clone()), once)).collect();
    put_once(server, &once, &mut extras)?;
    Ok(Import { change: Change { wants, fresh: Fresh::None, extras }, files })
}

fn absolute(file: &std::path::Path) -> Result<PathBuf, AppError> {
    file.canonicalize().map_err(|source| AppError::Io { what: file.display().to_string(), source })
}

/// Asks in one control file for what another one asks for. What is asked for there already stays.
pub(super) fn transfer(
    from: &ControlFile,
    to: &mut ControlFile,
    carries: impl Fn(&str, &yalotheca_core::document::Pointer) -> bool,
) {
    for catalogue in &from.catalogues {
        if to.catalogues.iter().all(|own| own.name != catalogue.name && own.at != catalogue.at) {
            to.add_catalogue(catalogue);
        }
    }
    let is_new = |to: &ControlFile, id: &ContentId| !to.wants.contains_key(id);
    for (id, range) in &from.wants {
        match from.given.get(id) {
            _ if !is_new(to, id) => {}
            Some(given) => to.give(id, given),
            None => to.want(id, range),
        }
    }
    for (id, why) in &from.off {
        if !to.off.contains_key(id) {
            to.switch_off(id, why);
        }
    }
    for (id, place) in &from.order {
        if !to.order.contains_key(id) {
            to.ask_place(id, place.clone());
        }
    }
    for (asset, content) in &from.keep {
        if !to.keep.contains_key(asset) {
            to.keep_asset(asset, Some(content));
        }
    }
    if let Some(play) = &from.maps.play {
        to.play(Some(play));
    }
    if let Some(rotate) = &from.maps.rotate {
        to.rotate(Some(rotate));
    }
    if let Some(offer) = &from.maps.offer {
        to.offer(Some(offer));
    }
    if to.pack.is_none() && from.pack.is_some() {
        to.offer_pack(from.pack.as_ref());
    }
    for (owner, files) in &from.settings {
        for (file, places) in files {
            for (at, value) in places.iter().filter(|(at, _)| carries(owner, at)) {
                let own = to.settings.get(owner).and_then(|files| files.get(file)?.get(at));
                if own.is_none() {
                    to.ask_setting(owner, file, at, Some(value));
                }
            }
        }
    }
}

/// Returns whether a setting is called like a password and may hold one.
pub(super) fn is_secret(
    at: &yalotheca_core::document::Pointer,
    value: &yalotheca_core::document::Value,
) -> bool {
    at.tokens().last().is_some_and(|key| names_a_secret(key)) && may_be_secret(value)
}
