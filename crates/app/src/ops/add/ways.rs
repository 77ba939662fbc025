//! The ways in: a name in a catalogue, a link, an item's number, a file, a folder.

use std::{collections::HashMap, path::Path};

use regex::Regex;
use yalotheca_core::{
    catalogue::NEEDS_FACT,
    control::Given,
    game::{LinkWay, PACK_KIND},
    hint::{Advice, Amendment},
    id::{ContentId, TreePath},
    link::{rewritten, switched, without_user},
    route::LeftOut,
    version::{ReleaseVersion, VersionRange},
};
use yalotheca_host::{
    arrival::{Arrival, Arrived, Once},
    catalogue::look_at,
    fetch::{Downloaded, FetchError, Wanted},
    survey::{FoundContent, SurveyError},
};

use super::{
    AddRequest, queue,
    typed::{Facts, Typed, rule_for},
};
use crate::{Answer, AppError, Front, OpenCatalogues, Server, plan::reserved};

/// One thing that was asked for.
pub(crate) enum ResolvedWant {
    /// A name, in a range of versions.
    Name(ContentId, VersionRange),
    /// Something that was given, with its id.
    Given(ContentId, Box<Given>),
    /// An unmanaged content on the server.
    Here(Box<FoundContent>),
}

impl ResolvedWant {
    /// Returns the content's id.
    pub(crate) fn id(&self) -> &ContentId {
        match self {
            Self::Name(id, _) | Self::Given(id, _) => id,
            Self::Here(here) => &here.content.id,
        }
    }
}

/// What was found out on the way.
#[derive(Default)]
pub(crate) struct Resolved {
    pub(crate) ways: Vec<ResolvedWant>,
    pub(crate) left_out: Vec<LeftOut>,
    pub(crate) notes: Vec<String>,
    /// Files that are put where there are none yet, and the pack that brings them.
    pub(crate) once: Vec<(Option<ContentId>, Once)>,
    /// What packs bring along that were given.
    pub(crate) bundled: Vec<ContentId>,
}

/// Finds out what was asked for.
pub(crate) fn resolve_names(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    request: &AddRequest,
    front: &dyn Front,
) -> Result<Resolved, AppError> {
    let mut found = Resolved::default();
    let is_one = request.names.len() == 1;
    let mut names = request.names.clone();
    let mut all = Vec::new();
    while let Some(text) = names.get(all.len()).cloned() {
        let mut what = typed(server, catalogues, &text)?;
        let needs = match &what {
            Typed::Link(..) => needs_by_game(server, &text)?,
            // The file is here, so an unreachable host does no harm.
            Typed::Numbered(_) => needs_by_game(server, &text).unwrap_or_else(|error| {
                found.notes.push(format!("could not look up what {text} needs: {error}"));
                Vec::new()
            }),
            Typed::Name(..) | Typed::Path(_) | Typed::Here(_) => Vec::new(),
        };
        if let Typed::Link(_, facts) = &mut what
            && !needs.is_empty()
        {
            facts.push((NEEDS_FACT.to_owned(), needs.join("\n")));
        }
        for need in needs.into_iter().filter(|need| !is_there(server, need)) {
            if !names.contains(&need) {
                found.notes.push(format!("{text} needs {need}, which is installed with it"));
                names.push(need);
            }
        }
        all.push(what);
    }
    let mut brought = bring(server, &all);
    for (text, what) in names.iter().zip(all) {
        match what {
            Typed::Name(id, range) => found.ways.push(ResolvedWant::Name(id, range)),
            Typed::Here(here) => found.ways.push(ResolvedWant::Here(here)),
            Typed::Numbered(id) => found.ways.push(ResolvedWant::Name(id, VersionRange::any())),
            Typed::Link(link, facts) => {
                let mut given = settings(request)?;
                given.facts = facts.into_iter().collect();
                let (link, name) = resolve_link(server, &link, &mut brought, &mut found)?;
                given.blake3 = Some(link.1);
                given.link = Some(link.0);
                given.name = name;
                take(server, request, (text, is_one), &given, (&mut found, front))?;
            }
            Typed::Path(path) => {
                let given =
                    Given { file: Some(relative(&path, &server.control.folder)?), ..settings(request)? };
                take(server, request, (text, is_one), &given, (&mut found, front))?;
            }
        }
    }
    Ok(found)
}

fn typed(server: &Server, catalogues: &OpenCatalogues<'_>, text: &str) -> Result<Typed, AppError> {
    if let Some((rule, facts, _)) = rule_for(server, text) {
        if let LinkWay::Queue(_) = &rule.way {
            return queue::fetched(server, text, &facts);
        }
        let catalogues = catalogues.get()?;
        if let Some(id) = facts.iter().find_map(|(_, fact)| catalogues.known_as(fact)) {
            return Ok(Typed::Numbered(id));
        }
    }
    if let Some((link, facts)) = by_game(server, text)? {
        return Ok(Typed::Link(link, facts));
    }
    if text.starts_with("http://") || text.starts_with("https://") {
        // Who asks is never noted with what is asked for.
        server.fetcher.log_in(text);
        return Ok(Typed::Link(without_user(text), Vec::new()));
    }
    let path = Path::new(text);
    let looks_like_a_path = text.contains(['/', '\\']) || text.starts_with('.');
    let named = || -> Result<(ContentId, VersionRange), AppError> {
        let (name, range) = text.split_once('@').map_or((text, "*"), |(name, range)| (name, range));
        Ok((ContentId::new(name.trim())?, VersionRange::parse(range)?))
    };
    if !looks_like_a_path {
        let is_there = path.exists();
        match named() {
            Ok((id, range)) => {
                let known =
                    server.control.lock.get(&id).is_some() || catalogues.get()?.content(&id)?.is_some();
                if known {
                    return Ok(Typed::Name(id, range));
                }
                if !is_there {
                    return Err(catalogues.unknown(&id)?);
                }
            }
            Err(error) if !is_there => return Err(error),
            Err(_) => {}
        }
    }
    if path.exists() {
        return Ok(Typed::Path(path.to_owned()));
    }
    Err(AppError::Usage {
        what: format!("there is no file or folder {text}"),
        hint: Some("check the spelling; to add something from a catalogue, give its name alone".into()),
    })
}

/// The address that the game's own hosts have for a number or a page, and what is known by it.
fn by_game(server: &Server, text: &str) -> Result<Option<(String, Facts)>, AppError> {
    let Some((rule, facts, scope)) = rule_for(server, text) else { return Ok(None) };
    let LinkWay::Direct(direct) = &rule.way else { return Ok(None) };
    let link = direct.render(&scope).map_err(SurveyError::Render)?;
    if !link.contains("://") {
        let game = &server.game.name;
        return Err(AppError::Usage {
            what: format!("{text}: the server's settings do not name the host to download it from"),
            hint: Some(format!("set it there (the definition {game} makes {link} of it), or give a link, a file or a folder").into()),
        });
    }
    Ok(Some((link, facts)))
}

/// What the game's own host says that something needs, as people have it.
fn needs_by_game(server: &Server, text: &str) -> Result<Vec<String>, AppError> {
    /// So large such a document may be.
    const MOST: u64 = 1 << 20;
    let Some((rule, _, scope)) = rule_for(server, text) else { return Ok(Vec::new()) };
    let (Some(about), Some(needs)) = (&rule.about, &rule.needs) else { return Ok(Vec::new()) };
    let about = about.render(&scope).map_err(SurveyError::Render)?;
    if !about.contains("://") {
        return Ok(Vec::new());
    }
    let told = server.fetcher.get(&about, MOST)?.unwrap_or_default();
    let told: serde_json::Value = serde_json::from_slice(&told).unwrap_or_default();
    let needs = told.pointer(&needs.to_string()).and_then(serde_json::Value::as_array);
    Ok(needs.into_iter().flatten().map(|need| need.to_string().trim_matches('"').to_owned()).collect())
}

/// Whether something that people have by a number, say, is on the server.
fn is_there(server: &Server, text: &str) -> bool {
    server.control.lock.contents.iter().any(|locked| locked.release.is_known_as(text))
}

/// What was said about all that is given.
fn settings(request: &AddRequest) -> Result<Given, AppError> {
    let mut given = Given { kind: request.kind.clone(), leave: request.leave.clone(), ..Given::default() };
    given.version =
        request.version.as_ref().map(|text| ReleaseVersion::parse(text)).transpose().map_err(|error| {
            AppError::Usage { what: error.to_string(), hint: Some("write it as 1.4 or 2024.03".into()) }
        })?;
    for text in &request.place {
        let wrong = || AppError::Usage {
            what: format!("the place {text:?} has no '='"),
            hint: Some(Advice::Amend(Amendment::WritePlace)),
        };
        let (pattern, folder) = text.split_once('=').ok_or_else(wrong)?;
        TreePath::new(folder.trim_end_matches('/'))?;
        given.place.insert(pattern.to_owned(), folder.to_owned());
    }
    Ok(given)
}

fn wanted(url: &str) -> Wanted {
    let name = yalotheca_core::link::name_in_address(url).unwrap_or_else(|| url.to_owned());
    Wanted { name, url: url.to_owned(), ..Wanted::default() }
}

/// Brings what several links hold, all at once.
fn bring(server: &Server, all: &[Typed]) -> HashMap<String, Result<Downloaded, FetchError>> {
    let links = all.iter().filter_map(|typed| match typed {
        Typed::Link(link, _) => Some(link.clone()),
        Typed::Path(_) | Typed::Name(..) | Typed::Numbered(_) | Typed::Here(_) => None,
    });
    let links: Vec<String> = links.collect();
    if links.len() < 2 {
        return HashMap::new();
    }
    let results = server.fetcher.download_all(links.iter().map(|link| wanted(link)).collect());
    links.into_iter().zip(results).collect()
}

/// Finds the file that is behind a link, and brings it to this machine. What is found out is what is recorded.
fn resolve_link(
    server: &Server,
    link: &str,
    brought: &mut HashMap<String, Result<Downloaded, FetchError>>,
    found: &mut Resolved,
) -> Result<((String, yalotheca_core::id::Digest), Option<String>), AppError> {
    let mut candidates = Vec::new();
    for rule in &server.control.wants.links {
        let pattern = Regex::new(&rule.pattern).map_err(|error| AppError::Usage {
            what: format!("[[link]] in yalotheca.toml: {error}"),
            hint: Some("correct the pattern".into()),
        })?;
        candidates.extend(rewritten(link, &pattern, &rule.direct));
    }
    candidates.push(link.to_owned());
    let mut first_error: Option<FetchError> = None;
    let mut at = 0;
    while at < candidates.len() {
        let url = candidates[at].clone();
        at += 1;
        let name = yalotheca_core::link::name_in_address(&url);
        let result = brought.remove(&url).unwrap_or_else(|| server.fetcher.download(wanted(&url)));
        match result {
            Ok(brought) => {
                if url != *link {
                    let note = match &first_error {
                        Some(FetchError::Page { .. }) => {
                            format!("{link} is a page; the file behind it is {url}")
                        }
                        _ => format!("the file of {link} is {url}"),
                    };
                    found.notes.push(note);
                }
                let name = brought.name.clone().or(name);
                let own = yalotheca_core::link::name_in_address(&url);
                return Ok(((url, brought.digest), name.filter(|name| own.as_ref() != Some(name))));
            }
            Err(error @ FetchError::Page { .. }) => {
                for other in switched(&url) {
                    if !candidates.contains(&other) {
                        candidates.push(other);
                    }
                }
                first_error.get_or_insert(error);
            }
            Err(error) if at == candidates.len() || first_error.is_none() && candidates.len() == 1 => {
                return Err(first_error.unwrap_or(error).into());
            }
            Err(error) => drop(first_error.get_or_insert(error)),
        }
    }
    Err(first_error.unwrap_or(FetchError::Offline { url: link.into() }).into())
}

/// A path as the control file keeps it: relative where it lies in the control folder, so that both can move together.
fn relative(path: &Path, base: &Path) -> Result<String, AppError> {
    let failed = |source| AppError::Io { what: path.display().to_string(), source };
    let whole = path.canonicalize().map_err(failed)?;
    let base = base.canonicalize().unwrap_or_else(|_| base.to_owned());
    let kept = whole.strip_prefix(&base).map_or(whole.clone(), Path::to_path_buf);
    kept.to_str().map(str::to_owned).ok_or_else(|| AppError::Usage {
        what: format!("the path {} is not UTF-8", path.display()),
        hint: Some("rename it".into()),
    })
}

/// Looks into what was given, and takes the contents that are meant.
fn take(
    server: &Server,
    request: &AddRequest,
    (text, is_one): (&str, bool),
    given: &Given,
    (found, front): (&mut Resolved, &dyn Front),
) -> Result<(), AppError> {
    let Server { control, game, fetcher, inspector, .. } = server;
    let arrival = look_at(given, &control.folder, game, fetcher, inspector)?;
    refuse_unrouted(text, &arrival)?;
    let is_several = arrival.contents.len() > 1;
    let ids: Vec<String> = arrival.contents.iter().map(|one| one.content.id.to_string()).collect();
    if let Some(wrong) = request.only.iter().find(|only| is_one && !ids.contains(only)) {
        return Err(AppError::Usage {
            what: format!("{text} holds no {wrong}"),
            hint: Some(format!("it holds {}", ids.join(", ")).into()),
        });
    }
    let mut only = request.only.clone();
    if is_several && only.is_empty() && !request.all && !arrival.is_setup {
        only = which(text, &ids, front)?;
    }
    let chosen = |id: &ContentId| only.is_empty() || only.iter().any(|only| only == id.as_str());
    found.left_out.extend(arrival.left_out.iter().cloned());
    found.notes.extend(arrival.notes.iter().cloned());
    if arrival.is_setup {
        found.notes.push(format!(
            "{text} is a whole server's folder: its contents are wanted from now on, and its settings \
                                  are put where there are none yet"
        ));
        reserved::check_once(server, &arrival.once, true)?;
        found.once.extend(arrival.once.iter().cloned().map(|once| (None, once)));
    }
    for arrived in arrival.contents.iter().filter(|arrived| chosen(&arrived.content.id)) {
        let id = match (&request.id, is_several) {
            (Some(id), false) => ContentId::new(id)?,
            _ => arrived.content.id.clone(),
        };
        let id = name_that_fits(server, arrived, id, front)?;
        reserved::check_once(server, &arrived.once, false)?;
        found.once.extend(arrived.once.iter().cloned().map(|once| (Some(id.clone()), once)));
        found.bundled.extend(arrived.bundled.iter().map(|one| one.content.id.clone()));
        let is_pack = arrived.content.release.kind == PACK_KIND;
        let kind = if is_pack { Some(PACK_KIND.to_owned()) } else { given.kind.clone() };
        let inside = (is_several || !arrived.inside.is_empty()).then(|| arrived.inside.clone());
        found.ways.push(ResolvedWant::Given(id, Box::new(Given { inside, kind, ..given.clone() })));
    }
    Ok(())
}

/// Asks what a content is called, where its own name is none that the server takes.
fn name_that_fits(
    server: &Server,
    arrived: &Arrived,
    id: ContentId,
    front: &dyn Front,
) -> Result<ContentId, AppError> {
    let name = &arrived.content.release.kind;
    let Some(kind) = server.game.kinds.get(name).filter(|kind| !kind.takes_id(id.as_str())) else {
        return Ok(id);
    };
    let pattern = kind.id_pattern.as_ref().map_or("", |pattern| pattern.as_str());
    let what = format!("{id} is not a name that the server takes for a {name}: it must fit {pattern}");
    let likely = kind.likely_id(id.as_str());
    let shown = likely.as_ref().map_or_else(|| "NAME".to_owned(), ToString::to_string);
    let asked = front.text(&format!("{what}. What is it called (Enter for {shown})?"));
    let answer = match (asked, likely) {
        (Answer::Text(text), _) => Some(ContentId::new(&text)?),
        (Answer::Nothing, likely) => likely,
        (Answer::Nobody, _) => None,
    };
    answer
        .filter(|id| kind.takes_id(id.as_str()))
        .ok_or_else(|| AppError::Usage { what, hint: Some(Advice::Amend(Amendment::NameContent(shown))) })
}

/// Asks which of several contents are meant.
fn which(text: &str, ids: &[String], front: &dyn Front) -> Result<Vec<String>, AppError> {
    let holds = format!("{text} holds {} contents: {}", ids.len(), ids.join(", "));
    let Answer::Text(answer) = front.text(&format!("{holds}. Which of them (names, or all)?")) else {
        return Err(AppError::Usage {
            what: holds,
            hint: Some(Advice::Amend(Amendment::AllOrOnly(ids[0].clone()))),
        });
    };
    let names: Vec<String> =
        answer.split([',', ' ']).filter(|name| !name.is_empty()).map(str::to_owned).collect();
    if names == ["all"] {
        return Ok(ids.to_vec());
    }
    match names.iter().find(|name| !ids.contains(name)) {
        None => Ok(names),
        Some(wrong) => Err(AppError::Usage {
            what: format!("{text} holds no {wrong}"),
            hint: yalotheca_core::suggest::did_you_mean(wrong, ids.iter().map(String::as_str))
                .map(Advice::Say),
        }),
    }
}

/// What nobody knows a place for is never guessed.
fn refuse_unrouted(text: &str, arrival: &Arrival) -> Result<(), AppError> {
    const MOST: usize = 6;
    if let Some((file, why)) = arrival.broken.first() {
        return Err(AppError::Refused {
            what: format!("{text}: {file}: {why}"),
            hint: Some(Advice::Amend(Amendment::GetAgainOrLeave(file.clone()))),
        });
    }
    if arrival.unrouted.is_empty() {
        return Ok(());
    }
    let some: Vec<&str> = arrival.unrouted.iter().take(MOST).map(String::as_str).collect();
    let more = arrival.unrouted.len().saturating_sub(MOST);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    Err(AppError::Refused {
        what: format!("{text}: can't tell where these files go: {}{more}", some.join(", ")),
        hint: Some(Advice::Amend(Amendment::PlaceOrLeave(some[0].to_owned()))),
    })
}
