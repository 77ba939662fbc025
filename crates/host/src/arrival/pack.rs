//! A pack in our own format: what it brings along, and the settings in it.

use std::sync::Arc;

use yalotheca_core::{
    catalogue::Side,
    game::{DescribeError, PACK_FILE, PACK_KIND},
    route::{Bundle, Payload},
    version::VersionRange,
};

use super::{ArrivalError, Arrived, Locate, LookOptions, Looking, Once, below, look, source_at};

impl Looking<'_> {
    /// A pack in our own format: what it brings along is looked into, and needed by it.
    pub(super) fn open_packs(
        &mut self,
        bundle: &mut dyn Bundle,
        place: Locate<'_>,
    ) -> Result<(), ArrivalError> {
        let is_pack = |arrived: &&mut Arrived| {
            arrived.content.release.kind == PACK_KIND && *arrived.payload != Payload::default()
        };
        let Some(arrived) = self.arrival.contents.iter_mut().find(is_pack) else { return Ok(()) };
        let wrong = |file: &str, why: String| ArrivalError::Describe {
            path: PACK_FILE.into(),
            source: DescribeError { file: file.into(), why },
        };
        let pack = yalotheca_core::route::pack("the pack", bundle)
            .map_err(|source| ArrivalError::Describe { path: "the pack".into(), source })?;
        if pack.game != self.game.name {
            return Err(wrong("game", format!("it is for {}, and this is a {}", pack.game, self.game.title)));
        }
        for member in pack.members.iter().filter(|member| member.side != Side::Player) {
            let (_, _, at) =
                place(&member.file).ok_or_else(|| wrong(&member.file, "it is not in the pack".into()))?;
            let name = member.file.rsplit('/').next().map(str::to_owned);
            let options = LookOptions { name, ..self.options.clone() };
            let inner = look(&at, self.game, self.store, &options)?;
            for mut one in inner.contents {
                one.inside = below(&member.file, &one.inside);
                let version = VersionRange::exactly(&one.content.release.version);
                let any = one.content.release.version.is_unversioned();
                let range = if any { VersionRange::any() } else { version };
                arrived.content.release.needs.insert(one.content.id.clone(), range);
                arrived.bundled.push(one);
            }
        }
        for setting in &pack.settings {
            let (size, digest, at) =
                place(&setting.file).ok_or_else(|| wrong(&setting.file, "it is not in the pack".into()))?;
            let source = source_at(self.store, &digest, at);
            arrived.once.push(Once { to: setting.to.clone(), size, digest, source });
        }
        // Nothing of the pack itself is placed by rule.
        arrived.payload = Arc::default();
        arrived.content.release.payload = Some(arrived.payload.digest());
        Ok(())
    }
}
