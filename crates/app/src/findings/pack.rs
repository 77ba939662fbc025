//! Whether players get the resource pack that the server offers them.

use yalotheca_core::{
    check::{Finding, Remedy},
    hint::Advice,
    link::{user_of, without_user},
};

use crate::{
    AppError, Server,
    pack::{self, AtLink},
    reading::Reading,
    words::size,
};

/// Asks the pack's link what it gives, and compares that with what players are told. Without a network nothing is said.
pub(super) fn look(server: &Server, reading: Reading) -> Result<Vec<Finding>, AppError> {
    let Some(rule) = &server.game.pack else { return Ok(Vec::new()) };
    let told = pack::as_told(&*server.tree, &server.game, &server.survey.scope)?;
    let Some(link) = &told.link else { return Ok(Vec::new()) };
    if user_of(link).is_some() {
        let says = format!(
            "the pack's link ({}) has a user and a password in it, which every player is told",
            without_user(link)
        );
        return Ok(vec![Finding::trouble("pack-link", "pack", says, Some(Advice::OfferPack))]);
    }
    if server.fetcher.is_offline() {
        return Ok(Vec::new());
    }
    let every_byte = reading == Reading::Everything;
    Ok(match pack::at_link(server, rule, link, every_byte) {
        AtLink::Wrong(why) => {
            let says = format!("players do not get the pack: {link}: {why}");
            vec![Finding::trouble("pack-link", "pack", says, Some(Advice::OfferPack))]
        }
        AtLink::Silent(why) => {
            let says = format!("whether players get the pack could not be found out: {why}");
            vec![Finding::note("pack-silent", "pack", says, Some("check again when the host answers".into()))]
        }
        AtLink::NotRead(bytes) => {
            let locked = server.control.lock.pack.as_ref().filter(|pack| pack.link == *link);
            if locked.and_then(|pack| pack.bytes).is_some_and(|known| known != bytes) {
                let says = format!(
                    "the pack at {link} has {} now, and had another size when it was offered",
                    size(bytes)
                );
                vec![
                    Finding::trouble("pack-digest", "pack", says, Some(Advice::Fix))
                        .with_remedy(Remedy::RefreshPack),
                ]
            } else {
                Vec::new()
            }
        }
        AtLink::Pack(file) => {
            let kind = rule.digest.as_ref().map(|(_, kind)| *kind);
            let Some(why) = kind.and_then(|kind| pack::difference(&told, &file, kind)) else {
                return Ok(Vec::new());
            };
            let says = format!("players' games refuse the pack: {why}");
            vec![
                Finding::trouble("pack-digest", "pack", says, Some(Advice::Fix))
                    .with_remedy(Remedy::RefreshPack),
            ]
        }
    })
}
