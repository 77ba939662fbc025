//! What a server's log says: ready or not, what failed and why, and what became of each content.

mod general;
mod noise;

use std::collections::BTreeMap;

pub use general::{is_frame, meaning, place};
pub use noise::{KnownLines, LogLines, NewLine, Noise};

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
    /// In which line of the log it is said first, from 1; 0 where no line tells it.
    #[serde(skip)]
    pub at: usize,
    /// The contents that the line names, or whose files it names.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub contents: Vec<ContentId>,
    /// The place in a file of the server that the line names.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<FilePlace>,
    /// The lines of a stack trace that follow it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub trace: Vec<String>,
    /// Whether no good start has logged such a line; nothing where there was none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub is_new: Option<bool>,
    /// Whether somebody has said that this is no reason to call a start a bad one.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub accepted: bool,
}

/// A line of a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FilePlace {
    /// The file, as the log names it, or its path on the server once that is known.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// What is in that line, if the file is there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}

impl Trouble {
    /// Returns what a line of a log tells, in the words of that line.
    pub fn of_line(line: &str, says: &str, fatal: bool) -> Self {
        let place = place(line).map(|(file, line)| FilePlace { file, line, text: None });
        Self {
            line: line.into(),
            fatal,
            means: None,
            says: says.trim().into(),
            advice: None,
            times: 1,
            at: 0,
            contents: Vec::new(),
            place,
            trace: Vec::new(),
            is_new: None,
            accepted: false,
        }
    }

    /// Returns something that no line of a log tells.
    pub fn told(means: &str, says: impl Into<String>, advice: Option<&str>) -> Self {
        let advice = advice.map(str::to_owned);
        Self { means: Some(means.into()), advice, ..Self::of_line("", &says.into(), true) }
    }

    /// Says what the line means for any server, if it does not say more yet.
    pub fn generalise(&mut self) {
        if self.means.is_none()
            && let Some(meaning) = meaning(&self.line)
        {
            self.means = Some(meaning.means.into());
            self.advice = self.advice.take().or_else(|| Some(meaning.advice.into()));
            // What the log says in its own words may say more.
            if self.says.len() < meaning.says.len() || is_frame(&self.line) {
                self.says = meaning.says;
            }
        }
    }
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
    lines: LogLines,
    /// Lines that look like problems and that the definition does not know.
    suspects: Vec<Trouble>,
    /// The trouble in the line before, to which a stack trace belongs.
    traced: Option<usize>,
    /// How many lines were read.
    read: usize,
    /// The line before.
    last: String,
    /// The trouble that it tells.
    touched: Option<usize>,
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
            lines: LogLines::new(&scope.folder),
            suspects: Vec::new(),
            traced: None,
            read: 0,
            last: String::new(),
            touched: None,
        })
    }

    /// Reads one line.
    pub fn feed(&mut self, line: &str) {
        let line = line.trim_end();
        self.read += 1;
        // A flood mostly says the same.
        if self.read > 1 && line == self.last {
            self.lines.repeat();
            if let Some(trouble) = self.touched.and_then(|at| self.troubles.get_mut(at)) {
                trouble.times += 1;
            }
            return;
        }
        line.clone_into(&mut self.last);
        self.touched = None;
        self.read_new(line);
    }

    /// Reads a line that is not the one before.
    fn read_new(&mut self, line: &str) {
        let is_first = self.lines.feed(line);
        let game = self.game;
        let run = &game.run;
        if run.ready.is_match(line) {
            self.ready = true;
        }
        for watched in self.watched.iter_mut().flat_map(|(_, _, own)| own) {
            watched.seen |= watched.loaded.as_ref().is_some_and(|pattern| pattern.is_match(line));
        }
        // A log puts a time and a level before it.
        let is_in_trace =
            || is_frame(line) || line.match_indices(": ").take(3).any(|(at, _)| is_frame(&line[at + 2..]));
        if self.traced.is_some() && is_in_trace() {
            self.take_frame(line);
            return;
        }
        if self.take_continuation(line) {
            return;
        }
        self.traced = None;
        self.hear_failures(line);
        let fatal = run.fatal.iter().find_map(|pattern| pattern.captures(line));
        let wrong = fatal.is_some();
        if let Some(groups) = fatal.or_else(|| run.trouble.iter().find_map(|pattern| pattern.captures(line)))
        {
            let what = groups.name("what").or_else(|| groups.get(0)).map_or(line, |group| group.as_str());
            let trouble = Trouble { at: self.read, ..self.explain(line, what, wrong) };
            let known = self.troubles.iter().position(|known| known.says == trouble.says);
            self.touched = known.or(Some(self.troubles.len()));
            if let Some(known) = known.and_then(|at| self.troubles.get_mut(at)) {
                known.times += 1;
                known.fatal |= trouble.fatal;
            } else {
                if self.troubles.len() < MOST_TROUBLES || trouble.fatal {
                    self.traced = Some(self.troubles.len());
                    self.troubles.push(trouble);
                }
                self.troubles.truncate(MOST_TROUBLES + 1);
            }
        } else if is_first
            && self.suspects.len() < MOST_TROUBLES
            && !is_frame(line)
            && let Some(meaning) = meaning(line)
        {
            let mut suspect = Trouble { at: self.read, ..Trouble::of_line(line, &meaning.says, false) };
            suspect.generalise();
            match self.suspects.iter_mut().find(|known| known.says == suspect.says) {
                Some(known) => known.times += 1,
                None => self.suspects.push(suspect),
            }
        }
    }

    /// Takes a line for the rest of the trouble before it, if that ends with a colon.
    fn take_continuation(&mut self, line: &str) -> bool {
        let game = self.game;
        let Some(trouble) = self.traced.and_then(|at| self.troubles.get_mut(at)) else { return false };
        if !trouble.line.ends_with(':') || !trouble.trace.is_empty() || game.run.ready.is_match(line) {
            return false;
        }
        let groups =
            game.run.fatal.iter().chain(&game.run.trouble).find_map(|pattern| pattern.captures(line));
        let what = groups.and_then(|groups| Some(groups.name("what")?.as_str().trim().to_owned()));
        let what = what.unwrap_or_else(|| line.trim().to_owned());
        trouble.says = format!("{}: {what}", trouble.says.trim_end_matches(':'));
        trouble.place = place(line).map(|(file, line)| FilePlace { file, line, text: None });
        trouble.trace.push(line.to_owned());
        true
    }

    /// Adds a line of a stack trace to the trouble before it.
    fn take_frame(&mut self, line: &str) {
        const MOST: usize = 60;
        if let Some(trouble) = self.traced.and_then(|at| self.troubles.get_mut(at))
            && trouble.trace.len() < MOST
        {
            trouble.trace.push(line.to_owned());
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
            let means = Some(symptom.means.clone());
            return Trouble { means, advice, ..Trouble::of_line(line, &says, fatal) };
        }
        let mut trouble = Trouble::of_line(line, what, fatal);
        trouble.generalise();
        trouble
    }

    /// Returns whether the log said that the server is ready.
    pub fn is_ready(&self) -> bool {
        self.ready
    }

    /// Returns whether the log said that the server cannot run.
    pub fn is_fatal(&self) -> bool {
        self.troubles.iter().any(|trouble| trouble.fatal)
    }

    /// Returns the different lines of the log.
    pub fn lines(&self) -> &LogLines {
        &self.lines
    }

    /// Returns what lines that the definition does not know may mean; worth a look if the start failed.
    pub fn suspects(&self) -> &[Trouble] {
        &self.suspects
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
mod tests;
