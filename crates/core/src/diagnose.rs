//! What a server's log says: ready or not, what failed and why, and what became of each content.

use std::collections::BTreeMap;

use regex::Regex;
use serde::Serialize;

use crate::{
    catalogue::Side,
    control::Locked,
    game::{Game, Kind, Scope, Template},
    id::ContentId,
    route::scope_of,
};

/// How a trial ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// Ready, and no problems.
    Ready,
    /// Ready, but something is wrong.
    ReadyWithTrouble,
    /// Not ready.
    Failed,
}

/// What became of a content.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "state")]
pub enum ContentState {
    /// The log says that it is loaded.
    Loaded,
    /// The log says that it failed.
    Failed {
        /// Why.
        why: String,
    },
    /// The log does not speak of it, or of these members of it.
    NotSeen {
        /// Members that were not seen, where it is a pack.
        members: Vec<ContentId>,
    },
    /// The server says nothing of such contents, as long as they are well.
    Untold,
}

/// One thing that is wrong.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Trouble {
    /// The line of the log.
    pub line: String,
    /// Whether the server cannot run because of it.
    pub fatal: bool,
    /// Its meaning in two or three words, where the definition knows it.
    pub means: Option<String>,
    /// Its meaning in a sentence.
    pub says: String,
    /// What can be done.
    pub advice: Option<String>,
    /// How often the log says so.
    pub times: usize,
}

/// A pattern that could not be made of a definition's template.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the game definition's pattern {pattern:?} is wrong: {why}")]
pub struct PatternError {
    /// The pattern.
    pub pattern: String,
    /// What is wrong with it.
    pub why: String,
}

impl crate::hint::Hint for PatternError {
    fn hint(&self) -> Option<crate::hint::Advice> {
        Some(crate::hint::Advice::TestDefinition)
    }
}

/// A log may be full of them; the first ones tell most.
const MOST_TROUBLES: usize = 500;

/// One name that the log may speak of: a content or a member of one.
struct Watched {
    name: ContentId,
    loaded: Option<Regex>,
    failed: Option<Regex>,
    seen: bool,
    why: Option<String>,
}

/// Reads a log line by line.
pub struct LogReader<'a> {
    game: &'a Game,
    scope: Scope,
    watched: Vec<(ContentId, bool, Vec<Watched>)>,
    ready: bool,
    troubles: Vec<Trouble>,
    may_be_brief: bool,
}

impl<'a> LogReader<'a> {
    /// Returns a reader for a server with that lineup, which plays the map `plays`. A map that is not played yet is not loaded yet,
    /// so its name is not expected in the log.
    ///
    /// # Errors
    /// Where a pattern of the definition does not become a regular expression.
    pub fn new(
        game: &'a Game,
        scope: &Scope,
        lineup: &[Locked],
        plays: Option<&str>,
    ) -> Result<Self, PatternError> {
        let is_map = |locked: &Locked| {
            game.maps.as_ref().is_some_and(|maps| maps.kind() == Some(&locked.release.kind))
        };
        let is_played = |kind: &Kind, locked: &Locked| {
            let stems = locked.release.files.iter().map(|file| kind.stem(&file.name));
            plays.is_some_and(|plays| stems.chain([locked.id.as_str()]).any(|name| name == plays))
        };
        let mut watched = Vec::new();
        for locked in lineup.iter().filter(|locked| locked.release.side != Side::Player) {
            let Some(kind) = game.kinds.get(&locked.release.kind) else { continue };
            let names: Vec<ContentId> = if locked.release.members.is_empty() {
                vec![locked.id.clone()]
            } else {
                locked.release.members.iter().map(|member| member.id.clone()).collect()
            };
            let pack = !locked.release.members.is_empty();
            let loads = !is_map(locked) || is_played(kind, locked);
            let mut own = Vec::new();
            for name in names {
                let scope = escaped(scope, locked, &name);
                own.push(Watched {
                    loaded: kind
                        .loaded
                        .as_ref()
                        .filter(|_| loads)
                        .map(|template| pattern(template, &scope))
                        .transpose()?,
                    failed: kind.failed.as_ref().map(|template| pattern(template, &scope)).transpose()?,
                    seen: false,
                    why: None,
                    name,
                });
            }
            watched.push((locked.id.clone(), pack, own));
        }
        Ok(Self {
            game,
            scope: scope.clone(),
            watched,
            ready: false,
            may_be_brief: false,
            troubles: Vec::new(),
        })
    }

    /// Reads one line.
    pub fn feed(&mut self, line: &str) {
        let line = line.trim_end();
        let game = self.game;
        let run = &game.run;
        if run.ready.is_match(line) {
            self.ready = true;
        }
        for watched in self.watched.iter_mut().flat_map(|(_, _, own)| own) {
            watched.seen |= watched.loaded.as_ref().is_some_and(|pattern| pattern.is_match(line));
        }
        self.hear_failures(line);
        let fatal = run.fatal.iter().find_map(|pattern| pattern.captures(line));
        let wrong = fatal.is_some();
        if let Some(groups) = fatal.or_else(|| run.trouble.iter().find_map(|pattern| pattern.captures(line)))
        {
            let what = groups.name("what").or_else(|| groups.get(0)).map_or(line, |group| group.as_str());
            let trouble = self.explain(line, what, wrong);
            if let Some(known) = self.troubles.iter_mut().find(|known| known.says == trouble.says) {
                known.times += 1;
                known.fatal |= trouble.fatal;
            } else {
                if self.troubles.len() < MOST_TROUBLES || trouble.fatal {
                    self.troubles.push(trouble);
                }
                self.troubles.truncate(MOST_TROUBLES + 1);
            }
        }
    }

    /// Lines that say of a content that it failed; told in the definition's words where it knows the line.
    fn hear_failures(&mut self, line: &str) {
        let mut heard = Vec::new();
        for (content, (_, _, own)) in self.watched.iter().enumerate() {
            for (name, watched) in own.iter().enumerate().filter(|(_, watched)| watched.why.is_none()) {
                let Some(groups) = watched.failed.as_ref().and_then(|pattern| pattern.captures(line)) else {
                    continue;
                };
                let said = groups.name("why").or_else(|| groups.get(0)).map_or("", |group| group.as_str());
                let told = self.explain(line, said, false);
                // A name may begin another one.
                let rest = told.says.strip_prefix(watched.name.as_str());
                let rest = rest.filter(|rest| rest.starts_with([' ', ':']));
                let says = rest.map_or(told.says.as_str(), |rest| rest.trim_start_matches(':'));
                heard.push((content, name, says.trim().to_owned()));
            }
        }
        for (content, name, why) in heard {
            self.watched[content].2[name].why = Some(why);
        }
    }

    fn explain(&self, line: &str, what: &str, fatal: bool) -> Trouble {
        for symptom in &self.game.symptoms {
            let Some(groups) = symptom.pattern.captures(line) else { continue };
            let mut scope = self.scope.clone();
            for name in symptom.pattern.capture_names().flatten() {
                let text = groups.name(name).map_or("", |group| group.as_str());
                scope.found.insert(name.into(), text.trim().replace('"', ""));
            }
            let says = symptom.say.render(&scope).unwrap_or_else(|_| what.to_owned());
            let advice = symptom.advice.as_ref().and_then(|advice| advice.render(&scope).ok());
            return Trouble {
                line: line.into(),
                fatal,
                means: Some(symptom.means.clone()),
                says,
                advice,
                times: 1,
            };
        }
        Trouble { line: line.into(), fatal, means: None, says: what.trim().into(), advice: None, times: 1 }
    }

    /// Returns whether the log said that the server is ready.
    pub fn is_ready(&self) -> bool {
        self.ready
    }

    /// Returns whether the log said that the server cannot run.
    pub fn is_fatal(&self) -> bool {
        self.troubles.iter().any(|trouble| trouble.fatal)
    }

    /// Returns what is wrong, in the log's order.
    pub fn troubles(&self) -> &[Trouble] {
        &self.troubles
    }

    /// Takes a log that speaks of no content at all for one that is kept brief.
    #[must_use]
    pub fn of_brief_log(self) -> Self {
        Self { may_be_brief: true, ..self }
    }

    /// Returns what became of each content.
    pub fn contents(&self) -> BTreeMap<ContentId, ContentState> {
        let mut watched = self.watched.iter().flat_map(|(.., own)| own);
        let says_nothing = self.may_be_brief && !watched.any(|one| one.seen);
        let state = |own: &[Watched], pack: bool| {
            if let Some(bad) = own.iter().find(|watched| watched.why.is_some()) {
                let why = bad.why.clone().unwrap_or_default();
                return ContentState::Failed { why: if pack { format!("{}: {why}", bad.name) } else { why } };
            }
            if own.iter().all(|watched| watched.loaded.is_none()) {
                return ContentState::Untold;
            }
            let missing: Vec<ContentId> =
                own.iter().filter(|watched| !watched.seen).map(|watched| watched.name.clone()).collect();
            if missing.is_empty() {
                ContentState::Loaded
            } else if says_nothing {
                ContentState::Untold
            } else {
                ContentState::NotSeen { members: if pack { missing } else { Vec::new() } }
            }
        };
        self.watched.iter().map(|(id, pack, own)| (id.clone(), state(own, *pack))).collect()
    }

    /// Returns the verdict. `answers` says whether the port answered (none where there is nothing to ask).
    pub fn verdict(&self, answers: Option<bool>) -> Verdict {
        if !self.ready || self.is_fatal() || answers == Some(false) {
            return Verdict::Failed;
        }
        let good = |state: &ContentState| matches!(state, ContentState::Loaded | ContentState::Untold);
        let all_loaded = self.contents().values().all(good);
        if self.troubles.is_empty() && all_loaded { Verdict::Ready } else { Verdict::ReadyWithTrouble }
    }
}

/// A scope in which every text stands for itself in a regular expression.
fn escaped(server: &Scope, locked: &Locked, member: &ContentId) -> Scope {
    let mut scope = scope_of(server, &locked.id, &locked.title, &locked.release);
    scope.member.insert("id".into(), member.to_string());
    for map in [&mut scope.values, &mut scope.content, &mut scope.release, &mut scope.member, &mut scope.fact]
    {
        for text in map.values_mut() {
            *text = regex::escape(text);
        }
    }
    scope
}

fn pattern(template: &Template, scope: &Scope) -> Result<Regex, PatternError> {
    let error = |why: String| PatternError { pattern: template.as_str().into(), why };
    let text = template.render(scope).map_err(|e| error(e.to_string()))?;
    Regex::new(&text).map_err(|e| error(e.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::control::AsFound;
    use crate::{
        catalogue::{Member, Release},
        game,
        version::ReleaseVersion,
    };

    fn locked(id: &str, kind: &str, members: &[&str]) -> Locked {
        let mut release = Release::new(ReleaseVersion::parse("1").unwrap(), kind);
        release.members = members
            .iter()
            .map(|name| Member {
                id: ContentId::new(name).unwrap(),
                kind: "mod".into(),
                folder: (*name).into(),
                needs: litemap::LiteMap::new(),
            })
            .collect();
        Locked {
            id: ContentId::new(id).unwrap(),
            title: id.into(),
            catalogue: String::new(),
            off: false,
            release,
            found: AsFound::default(),
        }
    }

    fn load(name: &str) -> Game {
        let (_, text) = game::BUILT_IN.iter().find(|(known, _)| *known == name).unwrap();
        game::load(name, text).unwrap()
    }

    fn read<'a>(game: &'a Game, lineup: &[Locked], log: &str) -> LogReader<'a> {
        let mut reader = LogReader::new(game, &Scope::default(), lineup, Some("pier")).unwrap();
        log.lines().for_each(|line| reader.feed(line));
        reader
    }

    #[test]
    fn a_good_start_a_bad_one_and_one_with_trouble() {
        let game = load("saltwick");
        let lineup = [locked("tidebell", "plugin", &[]), locked("gull-chat", "plugin", &[])];
        let good = "[1] info plugin tidebell 1.4.0 loaded\n[1] warn chart 3 has no tide table\n\
                    [1] info plugin gull-chat 1.0 loaded\n[1] info harbour open on port 7710";
        assert_eq!(read(&game, &lineup, good).verdict(Some(true)), Verdict::Ready);
        assert_eq!(read(&game, &lineup, good).verdict(Some(false)), Verdict::Failed);

        let trouble = good.replace(
            "info plugin tidebell 1.4.0 loaded",
            "error plugin tidebell: needs harbour-core >=2.1 <3, and none is loaded",
        );
        let reader = read(&game, &lineup, &trouble);
        assert_eq!(reader.verdict(Some(true)), Verdict::ReadyWithTrouble);
        assert_eq!(reader.troubles()[0].says, "tidebell needs harbour-core >=2.1 <3, which is not loaded");
        assert_eq!(reader.troubles()[0].means.as_deref(), Some("missing need"));
        assert!(matches!(reader.contents()["tidebell"], ContentState::Failed { .. }));

        let bad = "[1] error harbour closed: engine 2.4 needs runtime 6, started on 4";
        let reader = read(&game, &lineup, bad);
        assert_eq!(reader.verdict(None), Verdict::Failed);
        assert!(
            reader.is_fatal() && reader.troubles()[0].advice.as_ref().unwrap().contains("6 in boot.json")
        );
    }

    #[test]
    fn a_map_that_is_not_played_yet_is_not_expected() {
        let (_, text) = game::BUILT_IN.iter().find(|(known, _)| *known == "teeworlds").unwrap();
        let text = text.replace("[kind.map]", "[kind.map]\nloaded = 'map {{ content.id }} loaded'");
        let game = game::load("arena", &text).unwrap();
        let kind = game.maps.as_ref().unwrap().kind().unwrap().to_owned();
        let lineup = [locked("pier", &kind, &[]), locked("gulls", &kind, &[])];
        let reader = read(&game, &lineup, "ready");
        assert_eq!(reader.contents()["pier"], ContentState::NotSeen { members: Vec::new() });
        assert_eq!(reader.of_brief_log().contents()["pier"], ContentState::Untold);
        let reader = read(&game, &lineup, "ready");
        assert_eq!(reader.contents()["gulls"], ContentState::Untold);
    }

    #[test]
    fn members_of_a_pack_are_watched_one_by_one() {
        let game = load("luanti");
        let lineup = [locked("mesecons", "modpack", &["mesecons", "mesecons_lamp"]), locked("a", "mod", &[])];
        let reader = read(
            &game,
            &lineup,
            "INFO[Main]: Mod \"a\" loaded after 0 ms\nINFO[Main]: Mod \"mesecons\" loaded after 9 ms\n",
        );
        let lamp = ContentId::new("mesecons_lamp").unwrap();
        assert_eq!(reader.contents()["mesecons"], ContentState::NotSeen { members: vec![lamp] });
        assert_eq!(reader.contents()["a"], ContentState::Loaded);
        let log = "ERROR[Main]: mod \"mesecons_lamp\" has unsatisfied dependencies:  \"dye\"";
        let reader = read(&game, &lineup, log);
        assert!(
            matches!(&reader.contents()["mesecons"], ContentState::Failed { why } if why == "mesecons_lamp: needs dye, which is not enabled here")
        );
        assert_eq!(reader.troubles()[0].says, "mesecons_lamp needs dye, which is not enabled here");
    }
}
