//! `[maps]`: the maps of a server.

use globset::Glob;

use super::{Checked, Loader, pattern, template, with};
use crate::game::{
    ListPlace, MapFolders, MapForm, Maps, Pattern, WithMap,
    raw::{RawMaps, RawSpot, RawWithMap},
};

impl Loader {
    pub(super) fn maps(&self, raw: RawMaps, kinds: &[String]) -> Checked<Maps> {
        let spot = |spot: &RawSpot| self.place(&spot.at, spot.form.as_ref(), &self.server);
        let list = |raw: RawSpot| {
            let place = spot(&raw)?;
            let create = raw.create.unwrap_or_else(|| place.format.head().into());
            Ok(ListPlace { place, separator: raw.separator, create })
        };
        let form = map_form(&raw, kinds)?;
        let groups: Vec<&str> = match &form {
            MapForm::Folders(folders) => folders.parts.iter().flat_map(Pattern::groups).collect(),
            MapForm::Kind(_) => Vec::new(),
        };
        let allowed = with(&with(&self.server, &["it"]), &groups);
        Ok(Maps {
            play: spot(&raw.play)?,
            with: raw.with_map.map(|raw| self.with_map(&raw, &allowed)).transpose()?,
            rotate: raw.rotate.map(list).transpose()?,
            offer: raw.offer.map(list).transpose()?,
            cap: raw.cap.as_ref().map(spot).transpose()?,
            live: raw.live.as_ref().map(|live| self.live(live, &allowed, &[])).transpose()?,
            saves: raw.saves.as_ref().map(|text| template(text, &allowed)).transpose()?,
            form,
        })
    }

    fn with_map(&self, raw: &RawWithMap, allowed: &[String]) -> Checked<WithMap> {
        let place = self.place(&raw.list, raw.form.as_ref(), &self.server)?;
        let create = place.format.head().into();
        Ok(WithMap {
            list: ListPlace { place, separator: raw.separator.clone(), create },
            item: template(&raw.item, allowed)?,
            last: raw.last.clone(),
        })
    }
}

fn map_form(raw: &RawMaps, kinds: &[String]) -> Checked<MapForm> {
    match (&raw.kind, &raw.folders) {
        (Some(kind), None) => {
            if !kinds.contains(kind.as_ref()) {
                return Err((kind.span(), format!("there is no kind {:?}", kind.as_ref())));
            }
            if let Some(parts) = &raw.parts {
                return Err((parts.span(), "\"parts\" goes with \"folders\"".into()));
            }
            Ok(MapForm::Kind(kind.as_ref().clone()))
        }
        (None, Some(folders)) => {
            let text = folders.as_ref();
            let wrong = |why: &str| (folders.span(), why.to_owned());
            Glob::new(text).map_err(|error| wrong(&error.kind().to_string()))?;
            if !text.contains(['*', '?', '[', '{']) || text.contains("**") || text.ends_with('/') {
                return Err(wrong("write it like \"campaigns/*/*\": each folder that fits is a map"));
            }
            let parts = raw.parts.as_ref().map(pattern).transpose()?;
            Ok(MapForm::Folders(MapFolders { pattern: text.clone(), parts }))
        }
        (Some(both), Some(_)) => {
            Err((both.span(), "maps are contents of a \"kind\" or \"folders\", not both".into()))
        }
        (None, None) => Err((raw.play.at.span(), "[maps] needs \"kind\" or \"folders\"".into())),
    }
}
