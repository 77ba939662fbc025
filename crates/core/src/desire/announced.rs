//! Entries that belong to no content: the maps that a server plays and the resource pack that it announces.

use super::{DesireError, Entry, Registration};
use crate::{
    control::{LockedPack, MapsSection, PackSection},
    document::Value,
    game::{ConfigPlace, Maps, PackRule, RenderError, Scope, WithMap},
    id::ContentId,
};

/// Adds the entries that name the played map, those played in turn and those that players may choose.
pub(super) fn play(
    rule: &Maps,
    server: &Scope,
    maps: &MapsSection,
    into: &mut Vec<Registration>,
) -> Result<(), DesireError> {
    let mut put = |name: &str, place: &ConfigPlace, create: &str, entry: Entry| {
        into.push(entry_at(place, create, server, (&owner_of(name), entry))?);
        Ok(())
    };
    if let Some(name) = &maps.play {
        put(name, &rule.play, "", Entry::Set(Value::Text(name.clone())))?;
        if let Some(with) = &rule.with {
            put(name, &with.list.place, &with.list.create, goes_with(rule, with, server, name)?)?;
        }
    }
    for (names, list) in [(&maps.rotate, &rule.rotate), (&maps.offer, &rule.offer)] {
        let (Some(names), Some(list)) = (names, list) else { continue };
        for name in names {
            let separator = list.separator.clone();
            if let Some(between) =
                separator.as_deref().filter(|between| !name.is_empty() && name.contains(*between))
            {
                let why = format!(
                    "the list there has {between:?} between its names, so a name with that in it cannot be listed"
                );
                return Err(DesireError::Map { name: name.clone(), why });
            }
            let entry = Entry::Item {
                item: Value::Text(name.clone()),
                ordered: true,
                separator,
                alone: true,
                last: None,
                seen_as: None,
                anywhere: false,
            };
            put(name, &list.place, &list.create, entry)?;
        }
    }
    Ok(())
}

/// Returns the item that a list must have while a map is played.
fn goes_with(rule: &Maps, with: &WithMap, server: &Scope, name: &str) -> Result<Entry, DesireError> {
    let wrong = |why: String| DesireError::Map { name: name.into(), why };
    let scope = rule.scope(server, name).ok_or_else(|| {
        let parts = rule.folders().and_then(|folders| folders.parts.as_ref());
        wrong(format!("map names must match {}", parts.map_or("", |parts| parts.as_str())))
    })?;
    let item = with.item.render(&scope).map_err(|error| wrong(error.to_string()))?;
    Ok(Entry::Item {
        item: Value::Text(item),
        ordered: false,
        separator: with.list.separator.clone(),
        alone: false,
        last: with.last.clone(),
        seen_as: None,
        anywhere: true,
    })
}

/// The owner named in entries about the resource pack.
pub const PACK_OWNER: &str = "players-pack";

/// Adds the entries that announce the resource pack.
pub(super) fn offer(
    rule: &PackRule,
    server: &Scope,
    (asked, pack): (&PackSection, &LockedPack),
    into: &mut Vec<Registration>,
) -> Result<(), DesireError> {
    let Ok(content) = ContentId::new(PACK_OWNER) else { return Ok(()) };
    let mut put = |place: &ConfigPlace, value: Value| {
        let entry = (&content, Entry::Set(value));
        into.push(entry_at(place, place.format.head(), server, entry)?);
        Ok(())
    };
    put(&rule.link, Value::Text(pack.link.clone()))?;
    if let Some(((place, _), digest)) = rule.digest.as_ref().zip(pack.digest.as_ref()) {
        put(place, Value::Text(digest.clone()))?;
    }
    if let Some((must, wanted)) = rule.must.as_ref().zip(asked.must) {
        let value = if wanted { &must.yes } else { &must.no };
        let failed =
            |error: RenderError| DesireError::Register { content: content.clone(), why: error.to_string() };
        put(&must.place, value.render(server).map_err(failed)?)?;
    }
    Ok(())
}

/// Returns an entry at a place of the server's own configuration.
fn entry_at(
    place: &ConfigPlace,
    create: &str,
    server: &Scope,
    (content, entry): (&ContentId, Entry),
) -> Result<Registration, DesireError> {
    let failed = |why| DesireError::Register { content: content.clone(), why };
    let (file, pointer) = place.spot(server).map_err(failed)?;
    Ok(Registration {
        file,
        format: place.format,
        pointer,
        create: create.into(),
        waits: false,
        exclusive: false,
        enables: false,
        entry,
        content: content.clone(),
    })
}

/// Returns the id under which a map's entries are noted. A map that somebody added by hand may have a name that is no id.
fn owner_of(map: &str) -> ContentId {
    ContentId::new(map).unwrap_or_else(|_| {
        let plain = |c: char| if c.is_ascii_alphanumeric() || "-_.+".contains(c) { c } else { '_' };
        let id: String = std::iter::once('_').chain(map.chars().map(plain)).take(100).collect();
        ContentId::new(&id).expect("it begins with '_' and holds nothing but what ids hold")
    })
}
