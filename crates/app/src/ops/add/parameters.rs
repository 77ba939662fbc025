//! The parameters of tweaks that are added: given with `--set`, or asked for.

use yalotheca_core::{
    document::{Pointer, Value},
    game::TWEAK_SUFFIX,
    hint::{Advice, Amendment},
    id::ContentId,
    suggest,
    tweak::{TWEAK_FACT, Tweak},
};

use crate::{Answer, AppError, Front, OpenCatalogues, Server};

/// Returns what is set: the tweak, the place and the value.
pub(super) fn ask(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    ids: &[ContentId],
    given: &[String],
    front: &dyn Front,
) -> Result<Vec<(ContentId, Pointer, Value)>, AppError> {
    let mut tweaks = Vec::new();
    for id in ids {
        tweaks.extend(tweak(server, catalogues, id)?.map(|tweak| (id.clone(), tweak)));
    }
    let mut set = Vec::new();
    for text in given {
        let Some((name, value)) = text.split_once('=') else {
            let what = format!("{text:?} is not a parameter and a value");
            return Err(AppError::Usage {
                what,
                hint: Some(Advice::Amend(Amendment::WriteParameter(text.clone()))),
            });
        };
        let (name, value) = (name.trim(), Value::from(value.trim()));
        let known =
            |(_, tweak): &&(ContentId, Tweak)| tweak.parameters.iter().any(|(known, _)| known == name);
        let Some((id, tweak)) = tweaks.iter().find(known) else {
            let names =
                tweaks.iter().flat_map(|(_, tweak)| tweak.parameters.iter().map(|(name, _)| name.as_str()));
            let hint = suggest::did_you_mean(name, names.clone());
            let all: Vec<&str> = names.collect();
            let all = (!all.is_empty()).then(|| format!("there are {}", all.join(", ")));
            return Err(AppError::Usage {
                what: format!("there is no parameter {name}"),
                hint: hint.or(all).map(Advice::Say),
            });
        };
        for (_, rule) in tweak.parameters.iter().filter(|(known, _)| known == name) {
            let value = rule.check(&value).map_err(|why| AppError::Usage {
                what: format!("{id}: {name} cannot be {:?}", value.plain()),
                hint: Some(why.into()),
            })?;
            set.push((id.clone(), Pointer::root().join(name), value));
        }
    }
    for (id, tweak) in &tweaks {
        let noted = server.control.wants.settings.get(id.as_str()).and_then(|files| files.get(TWEAK_SUFFIX));
        for (name, rule) in tweak.parameters.iter().filter(|(_, rule)| rule.default.is_none()) {
            let at = Pointer::root().join(name);
            let has = set.iter().any(|(of, place, _)| of == id && *place == at);
            if has || noted.is_some_and(|noted| noted.contains_key(&at)) {
                continue;
            }
            let help = if rule.help.is_empty() { rule.takes() } else { rule.help.clone() };
            let Answer::Text(text) = front.text(&format!("{id}: {name} ({help})?")) else {
                return Err(AppError::Usage {
                    what: format!("{id} wants its parameter {name}: {help}"),
                    hint: Some(Advice::Amend(Amendment::GiveParameter {
                        name: name.clone(),
                        takes: rule.takes(),
                    })),
                });
            };
            let value = rule.check(&Value::Text(text.clone())).map_err(|why| AppError::Usage {
                what: format!("{id}: {name} cannot be {text:?}"),
                hint: Some(why.into()),
            })?;
            set.push((id.clone(), at, value));
        }
    }
    Ok(set)
}

/// The newest release of a tweak; nothing where the content is none.
fn tweak(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    id: &ContentId,
) -> Result<Option<Tweak>, AppError> {
    let Some(content) = catalogues.get()?.content(id)? else { return Ok(None) };
    let newest = content.releases.iter().max_by(|a, b| a.version.cmp(&b.version));
    let Some(text) = newest.and_then(|release| release.facts.get(TWEAK_FACT)) else { return Ok(None) };
    let values: Vec<String> = server.game.values.iter().map(|(name, _)| name.clone()).collect();
    Ok(Tweak::parse(TWEAK_SUFFIX, text, &values).ok())
}
