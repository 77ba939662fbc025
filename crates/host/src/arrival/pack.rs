//! A pack in our own format: what it brings along, and the settings in it.

use std::collections::BTreeMap;

use yalotheca_core::{
    catalogue::Side,
    game::DescribeError,
    id::Digest,
    pack::{PACK_FILE, PACK_KIND},
    route::Payload,
    version::VersionRange,
};

use super::{ArrivalError, Arrived, LookOptions, Looking, Once, below, look};
use crate::{catalogue::ByteSource, unpack::UnpackedBundle};

impl Looking<'_> {
    /// A pack in our own format: what it brings along is looked into, and needed by it.
    pub(super) fn open_packs(
        &mut self,
        bundle: &mut UnpackedBundle<'_>,
        members: &BTreeMap<&str, (u64, Digest)>,
    ) -> Result<(), ArrivalError> {
        let is_pack = |arrived: &&mut Arrived| {
            arrived.content.release.kind == PACK_KIND && arrived.payload != Payload::default()
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
        let place = |file: &str| {
            let (size, digest) = members.get(file).copied()?;
            Some((size, digest, self.store.file(&digest)?))
        };
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
            arrived.once.push(Once { to: setting.to.clone(), size, digest, source: ByteSource::Cached(at) });
        }
        // Nothing of the pack itself is placed by rule.
        arrived.payload = Payload::default();
        arrived.content.release.payload = Some(arrived.payload.digest());
        Ok(())
    }
}
