//! Settings: each is judged before anything is written.

use yalotheca_core::{
    control::ControlFile,
    document::{Pointer, Value},
    game::{ConfigPlace, ValueTemplate},
    hint::{Advice, Amendment, Listing},
    id::TreePath,
    settings::JudgeSettingError,
    suggest,
};

use super::{change::Change, maps::play_in};
use crate::{
    AppError, Server,
    plan::{OpenSettings, open_settings},
    words::count,
};

/// Which settings of an owner are changed.
#[derive(Debug, Clone, Default)]
pub struct SettingsRequest {
    /// A content, or `server`.
    pub owner: String,
    /// The file that is meant, where several have that place.
    pub file: Option<String>,
    /// Places with their values, as `/place=value`.
    pub set: Vec<String>,
    /// Places that are no longer set.
    pub reset: Vec<String>,
    /// Whether a value is set that is not known or does not fit.
    pub force: bool,
}

/// Changes settings.
///
/// # Errors
/// Where there is no such owner, file or place, or a value does not fit.
pub fn change_settings(server: &Server, request: &SettingsRequest) -> Result<Change, AppError> {
    let all = open_settings(server)?;
    let own = settings_of(server, &all, (&request.owner, request.file.as_deref()))?;
    let mut wants = server.control.wants.clone();
    let mut changes = Changes::default();
    for text in &request.set {
        let (at, value) = split(text)?;
        if names_the_map(server, &own, &at) {
            changes.noted.push(play_in(server, &value.plain(), &mut wants)?);
            continue;
        }
        if let Some(noted) = must_of_pack(server, &own, (&at, &value), &mut wants) {
            changes.noted.push(noted);
            continue;
        }
        changes.set((&own, &all), (&at, &value), request.force, &mut wants)?;
    }
    for text in &request.reset {
        let at = place(text)?;
        if names_the_map(server, &own, &at) && wants.maps.play.is_some() {
            wants.play(None);
            changes.noted.push(format!("{at} no longer set"));
            continue;
        }
        changes.reset(&own, &at, &mut wants)?;
    }
    let mut change = Change::to(wants, changes.noted);
    change.extras.notes = changes.notes;
    Ok(change)
}

/// Returns whether a place names the played map, which `maps play` manages.
fn names_the_map(server: &Server, files: &[&OpenSettings], at: &Pointer) -> bool {
    server.game.maps.as_ref().is_some_and(|rule| is_at(&rule.play, server, files, at))
}

/// Returns whether a place of the definition is this one in one of these files.
fn is_at(place: &ConfigPlace, server: &Server, files: &[&OpenSettings], at: &Pointer) -> bool {
    place.spot(&server.survey.scope).is_ok_and(|(file, pointer)| {
        pointer == *at && files.iter().any(|one| one.path.as_ref() == Some(&file))
    })
}

/// Moves a setting that makes the pack required into `[pack]`.
fn must_of_pack(
    server: &Server,
    files: &[&OpenSettings],
    (at, value): (&Pointer, &Value),
    wants: &mut ControlFile,
) -> Option<String> {
    let rule = server.game.pack.as_ref()?.must.as_ref()?;
    let mut pack = wants.pack.clone().filter(|_| is_at(&rule.place, server, files, at))?;
    let scope = &server.survey.scope;
    let is = |template: &ValueTemplate| template.render(scope).is_ok_and(|own| own.plain() == value.plain());
    pack.must = Some(if is(&rule.yes) { true } else { is(&rule.no).then_some(false)? });
    wants.offer_pack(Some(&pack));
    Some(format!("{at} = {value}"))
}

/// Returns the settings files of an owner, or the one that is meant.
///
/// # Errors
/// Where there is no such owner or file.
pub fn settings_of<'a>(
    server: &Server,
    all: &'a [OpenSettings],
    (owner, file): (&str, Option<&str>),
) -> Result<Vec<&'a OpenSettings>, AppError> {
    let mut own: Vec<&OpenSettings> = all.iter().filter(|one| one.owner == owner).collect();
    if own.is_empty() {
        return Err(nothing_of(server, all, owner));
    }
    if let Some(file) = file {
        let names: Vec<String> = own.iter().map(|one| one.short.clone()).collect();
        own.retain(|one| one.short == file || one.path.as_ref().is_some_and(|path| path.as_str() == file));
        if own.is_empty() {
            let hint = suggest::did_you_mean(file, names.iter().map(String::as_str));
            let hint = hint.or_else(|| Some(format!("it has {}", names.join(", "))));
            return Err(AppError::Usage {
                what: format!("{owner} has no settings file {file}"),
                hint: hint.map(Advice::Say),
            });
        }
    }
    Ok(own)
}

/// What was noted.
#[derive(Default)]
struct Changes {
    /// Each place with its value.
    noted: Vec<String>,
    /// What is worth knowing.
    notes: Vec<String>,
}

impl Changes {
    /// Notes a value for every place that is meant.
    fn set(
        &mut self,
        (files, all): (&[&OpenSettings], &[OpenSettings]),
        (pattern, value): (&Pointer, &Value),
        force: bool,
        wants: &mut ControlFile,
    ) -> Result<(), AppError> {
        let file = match choose(files, pattern) {
            // A server's own file also has the settings of its contents.
            Err(_) if pattern.is_pattern() && files.iter().any(|file| file.open) => {
                files.iter().find(|file| file.open).copied().unwrap_or(files[0])
            }
            file => file?,
        };
        if let Some(Err(error)) = &file.now {
            let path = file.path.as_ref().map_or("", TreePath::as_str);
            return Err(AppError::Refused {
                what: format!("{path} cannot be read: {error}"),
                hint: Some(Advice::Say(format!("correct line {} of it; nothing was changed", error.line))),
            });
        }
        let known = file.known();
        let mut places = known.meant(pattern);
        if file.open && pattern.is_pattern() {
            let others = all.iter().filter(|other| other.path.is_some() && other.path == file.path);
            let theirs = others.flat_map(|other| other.known().meant(pattern)).collect::<Vec<_>>();
            places.extend(theirs);
            places.sort();
            places.dedup();
        }
        if places.is_empty() {
            return Err(AppError::Usage {
                what: format!("no setting of {} fits {pattern}", file.short),
                hint: Some(Advice::List(Listing::SettingsOf(file.owner.clone()))),
            });
        }
        for at in &places {
            let other = all.iter().find(|other| other.path == file.path && other.known().rule(at).is_some());
            let judging = other.map_or_else(|| file.known(), OpenSettings::known);
            let value = match judging.judge(&file.short, at, value) {
                Ok(value) => value,
                Err(error) if force && !matches!(error, JudgeSettingError::Secret { .. }) => {
                    guess(file, at, value)
                }
                Err(error) => return Err(error.into()),
            };
            if let Some(near) = known.near(at).filter(|_| file.open) {
                self.notes.push(format!("{} has had no setting {at} so far; {near}", file.short));
            }
            wants.ask_setting(&file.owner, &file.short, at, Some(&value));
            self.noted.push(format!("{at} = {value}"));
        }
        if places.len() > 1 {
            self.notes.push(format!("{pattern} means {} in {}", count(places.len(), "place"), file.short));
        }
        Ok(())
    }

    /// Forgets every place that is meant.
    fn reset(
        &mut self,
        files: &[&OpenSettings],
        pattern: &Pointer,
        wants: &mut ControlFile,
    ) -> Result<(), AppError> {
        let mut done = 0;
        for file in files {
            let asked = wants.settings.get(&file.owner).and_then(|all| all.get(&file.short));
            let fits = |at: &&Pointer| at.fits(pattern);
            let places: Vec<Pointer> =
                asked.into_iter().flatten().map(|(at, _)| at).filter(fits).cloned().collect();
            for at in &places {
                wants.ask_setting(&file.owner, &file.short, at, None);
                self.noted.push(format!("{at} no longer set"));
            }
            done += places.len();
        }
        if done > 0 {
            return Ok(());
        }
        Err(AppError::Usage {
            what: format!("{pattern} is not set in yalotheca.toml"),
            hint: files.first().map(|file| Advice::List(Listing::OwnSettings(file.owner.clone()))),
        })
    }
}

/// Returns the value in the type of the present one, or in the type it looks like.
fn guess(file: &OpenSettings, at: &Pointer, value: &Value) -> Value {
    match file.known().now.and_then(|document| document.get(at)) {
        Some(there) => value.like(&there),
        None => serde_json::from_str::<serde_json::Value>(&value.plain())
            .map_or_else(|_| value.clone(), Value::from),
    }
}

/// Returns the file that a place is in: the only one, or the only one that knows it.
fn choose<'a>(files: &[&'a OpenSettings], pattern: &Pointer) -> Result<&'a OpenSettings, AppError> {
    if let [only] = files {
        return Ok(only);
    }
    let knows = |file: &&&OpenSettings| file.known().places().iter().any(|at| at.fits(pattern));
    let knowing: Vec<&&OpenSettings> = files.iter().filter(knows).collect();
    let names =
        |files: &[&&OpenSettings]| files.iter().map(|file| file.short.clone()).collect::<Vec<_>>().join(", ");
    match knowing.as_slice() {
        [only] => Ok(**only),
        [] => {
            let places: Vec<String> =
                files.iter().flat_map(|file| file.known().places()).map(|at| at.to_string()).collect();
            let near = suggest::did_you_mean(&pattern.to_string(), places.iter().map(String::as_str));
            Err(AppError::Usage {
                what: format!("none of {} has a setting {pattern}", names(&files.iter().collect::<Vec<_>>())),
                hint: Some(near.map_or(Advice::Amend(Amendment::NameSettingsFile(None)), Advice::Say)),
            })
        }
        several => Err(AppError::Usage {
            what: format!("{pattern} is in {}", names(several)),
            hint: Some(Advice::Amend(Amendment::NameSettingsFile(Some(several[0].short.clone())))),
        }),
    }
}

/// Reads a place: `/volume/default`; the first stroke may be left out.
fn place(text: &str) -> Result<Pointer, AppError> {
    let whole = if text.starts_with('/') { text.to_owned() } else { format!("/{text}") };
    Pointer::parse(&whole).map_err(|error| AppError::Usage { what: error.to_string(), hint: None })
}

fn split(text: &str) -> Result<(Pointer, Value), AppError> {
    let Some((at, value)) = text.split_once('=') else {
        return Err(AppError::Usage {
            what: format!("{text:?} is not a place and a value"),
            hint: Some(Advice::Amend(Amendment::SetOrReset(text.to_owned()))),
        });
    };
    Ok((place(at.trim())?, Value::Text(value.trim().to_owned())))
}

fn nothing_of(server: &Server, all: &[OpenSettings], name: &str) -> AppError {
    let owners = all.iter().map(|one| one.owner.as_str());
    let here = server.control.lock.contents.iter().any(|locked| locked.id.as_str() == name);
    if here {
        let what = format!("{name} has no settings that Yalotheca knows of");
        return AppError::Usage { what, hint: Some(Advice::List(Listing::Settings)) };
    }
    let near = suggest::did_you_mean(name, owners);
    AppError::Usage {
        what: format!("{name} is not on this server"),
        hint: Some(near.map_or(Advice::List(Listing::Settings), Advice::Say)),
    }
}
