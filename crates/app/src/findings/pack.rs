//! Checks that players can download the resource pack the server offers.

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

/// Checks the pack's link against the digest that the server announces. Returns nothing when offline.
pub(super) fn look(server: &Server, reading: Reading) -> Result<Vec<Finding>, AppError> {
    let Some(rule) = &server.game.pack else { return Ok(Vec::new()) };
    let told = pack::as_told(&*server.tree, &server.game, &server.survey.scope)?;
    let Some(link) = &told.link else { return Ok(Vec::new()) };
    if user_of(link).is_some() {
        let says = format!(
            "the pack's link ({}) contains a user name and a password, which every player can see",
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
            let says = format!("players cannot download the pack from {link}: {why}");
            vec![Finding::trouble("pack-link", "pack", says, Some(Advice::OfferPack))]
        }
        AtLink::Silent(why) => {
            let says = format!("could not check whether players can download the pack: {why}");
            vec![Finding::note("pack-silent", "pack", says, Some("check again when the host answers".into()))]
        }
        AtLink::NotRead(bytes) => {
            let locked = server.control.lock.pack.as_ref().filter(|pack| pack.link == *link);
            if let Some(known) = locked.and_then(|pack| pack.bytes).filter(|known| *known != bytes) {
                let says = format!("the pack at {link} is {} now; it was {}", size(bytes), size(known));
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
            let says = format!("players' games will reject the pack: {why}");
            vec![
                Finding::trouble("pack-digest", "pack", says, Some(Advice::Fix))
                    .with_remedy(Remedy::RefreshPack),
            ]
        }
    })
}
