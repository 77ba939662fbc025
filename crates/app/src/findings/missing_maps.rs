//! Maps that are named and not there.

use yalotheca_core::{
    check::{Finding, Remedy},
    hint::{Advice, MapsInstead},
};
use yalotheca_host::survey::{self, SurveyError};

use crate::{
    AppError, Server,
    maps::{self, MapLine, MapSource},
};

/// Maps that are to be played and are nowhere.
pub(super) fn missing_maps(server: &Server) -> Result<Vec<Finding>, AppError> {
    let Some(rule) = &server.game.maps else { return Ok(Vec::new()) };
    let (gone, there): (Vec<MapLine>, Vec<MapLine>) =
        maps::list(server, rule, false)?.into_iter().partition(|map| map.origin == MapSource::Nowhere);
    let mut in_turn: Vec<&MapLine> = there.iter().filter(|map| map.turn.is_some()).collect();
    in_turn.sort_by_key(|map| map.turn);
    let names_of = |maps: &[&MapLine]| maps.iter().map(|map| map.name.clone()).collect::<Vec<_>>();
    let can_play = |map: &&MapLine| map.problems.is_empty();
    let offered: Vec<&MapLine> = there.iter().filter(|map| map.offered).collect();
    let finding = |map: MapLine| {
        let how = match (map.plays, map.turn) {
            (true, _) => "the server starts with it",
            (false, Some(_)) => "it is in the rotation",
            (false, None) => "players may choose it",
        };
        let says = format!("there is no map {}, and {how}", map.name);
        let instead = match (map.plays, map.turn) {
            (true, _) => {
                let another = in_turn.iter().copied().chain(&there).find(can_play);
                MapsInstead::Play(another.map(|map| map.name.clone()))
            }
            (false, Some(_)) => MapsInstead::Rotate(names_of(&in_turn)),
            (false, None) => MapsInstead::Offer(names_of(&offered)),
        };
        let fix = Advice::AddMapOr { map: map.name.clone(), instead };
        Finding::trouble("missing-map", &map.name, says, Some(fix))
    };
    let mut findings: Vec<Finding> = gone.into_iter().map(finding).collect();
    let named = survey::played(&*server.tree, &server.game, &server.survey.scope)?.play;
    if let (Some(map), Some(with)) = (named, &rule.with)
        && let Some(lacks) = survey::missing_with(&*server.tree, &server.game, &server.survey.scope, &map)?
    {
        let place = with.list.place.file.render(&server.survey.scope).map_err(SurveyError::Render)?;
        let says = format!("{map} is played, but {place} does not list {lacks}");
        findings.push(
            Finding::trouble("map-without", &map, says, Some(Advice::Fix))
                .with_remedy(Remedy::Play(map.clone())),
        );
    }
    Ok(findings)
}
