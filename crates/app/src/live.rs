//! Changes that a running server applies at once: which they are, the console commands for them, and what the server answers.

use std::{
    collections::{BTreeMap, btree_map::Entry},
    sync::atomic::Ordering,
};

use serde::Serialize;
use yalotheca_core::{
    change::{FileAct, Source, Step},
    document::{Document, Format, Pointer, Value},
    game::{LiveRule, Scope, Told},
    id::TreePath,
    route::scope_of,
};
use yalotheca_host::console::{ConsoleError, ConsoleSession};

use crate::{
    AppError, Front, Server, WhileRunning,
    apply::Prepared,
    ops::console,
    process::{RunningBy, ServerState, how_to_stop},
};

/// One setting or map that a running server applies.
#[derive(Debug)]
struct LiveChange {
    /// The setting or the map.
    what: String,
    /// What it is to be.
    wanted: Option<String>,
    is_secret: bool,
    rule: LiveRule,
    scope: Scope,
}

/// Everything that is sent to a running server for a change.
#[derive(Debug, Default)]
pub struct LivePlan {
    changes: Vec<LiveChange>,
    /// Files that it reads again by itself.
    reread: Vec<TreePath>,
}

/// What became of one thing that a running server was told.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct LiveOutcome {
    /// The setting or the map.
    pub what: String,
    /// What it was to be.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wanted: Option<String>,
    /// What became of it.
    #[serde(flatten)]
    pub state: LiveState,
    /// What the server answered.
    pub answer: Vec<String>,
}

/// Whether a running server took a change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "state")]
pub enum LiveState {
    /// It says that it has this value now.
    Taken,
    /// It says that it took the change, and not which value it has.
    Accepted,
    /// It reads the file again by itself.
    Reread,
    /// It was told, and cannot be asked.
    Told,
    /// It says that it has another value.
    Differs {
        /// The value.
        value: String,
    },
    /// Its answer does not say that it took it.
    NotTaken,
    /// It could not be told or asked.
    Failed {
        /// Why.
        why: String,
    },
}

impl LiveOutcome {
    /// Returns whether the server has, as far as can be told, what it was to have.
    pub fn is_good(&self) -> bool {
        matches!(self.state, LiveState::Taken | LiveState::Accepted | LiveState::Reread | LiveState::Told)
    }
}

impl LivePlan {
    /// Returns what a running server is to be told of a change.
    ///
    /// # Errors
    /// If something of it is not taken before the next start.
    fn of(server: &Server, prepared: &Prepared, by: &RunningBy) -> Result<Self, AppError> {
        let change = &prepared.planned.change;
        let mut plan = Self::default();
        let mut waits: Vec<String> = Vec::new();
        let map_kind = server.game.maps.as_ref().filter(|maps| maps.live.is_some());
        let map_kind = map_kind.and_then(|maps| maps.kind());
        let contents = &prepared.planned.lock.contents;
        let is_map = |id| {
            contents.iter().any(|locked| &locked.id == id && Some(locked.release.kind.as_str()) == map_kind)
        };
        for line in &change.files {
            // The server reads a new map when it is to play it.
            if line.act != FileAct::Put || !is_map(&line.content) {
                waits.push(line.path.to_string());
            }
        }
        let texts: BTreeMap<&TreePath, &str> = (change.steps.iter())
            .filter_map(|step| match step {
                Step::Put { path, source: Source::Text(text), .. } => Some((path, text.text())),
                _ => None,
            })
            .collect();
        let rereads = server.game.run.rereads.iter().filter_map(|template| {
            Some(globset::Glob::new(&template.render(&server.survey.scope).ok()?).ok()?.compile_matcher())
        });
        let rereads: Vec<globset::GlobMatcher> = rereads.collect();
        for line in &change.config {
            if rereads.iter().any(|glob| glob.is_match(line.path.as_str())) {
                plan.reread.push(line.path.clone());
                continue;
            }
            let now = server.tree.read_file(&line.path)?;
            match (now, texts.get(&line.path)) {
                (Some(now), Some(text)) if !line.created && !line.removed => {
                    waits.extend(plan.config(server, &line.path, (now, text)));
                }
                _ => waits.push(line.path.to_string()),
            }
        }
        if waits.is_empty() {
            return Ok(plan);
        }
        let more = if waits.len() > 3 { format!(" and {} more", waits.len() - 3) } else { String::new() };
        waits.truncate(3);
        let what = format!("a running server does not take these changes: {}{more}", waits.join(", "));
        Err(AppError::Refused { what, hint: Some(how_to_stop(by)) })
    }

    /// Returns what a running server is to be told of a change, if it runs and the change was asked for that way.
    ///
    /// # Errors
    /// If something of the change is not taken before the next start.
    pub fn if_running(
        server: &Server,
        prepared: &Prepared,
        front: &dyn Front,
    ) -> Result<Option<Self>, AppError> {
        if server.options.while_running != WhileRunning::Tell {
            return Ok(None);
        }
        let ServerState::Running(by) = server.state(front)? else { return Ok(None) };
        let plan = Self::of(server, prepared, &by)?;
        if !plan.is_silent() {
            // A console that does not answer is better found before the change than after it.
            console::connect(server)?;
        }
        server.takes_live.store(true, Ordering::Relaxed);
        Ok(Some(plan))
    }

    /// Plans the changes of one configuration file, and returns those that a running server does not take.
    fn config(&mut self, server: &Server, path: &TreePath, (now, text): (Vec<u8>, &str)) -> Vec<String> {
        let own = (server.game.settings.iter()).map(|rule| (rule, server.survey.scope.clone()));
        let of_contents = server.control.lock.contents.iter().flat_map(|locked| {
            let rules =
                server.game.kinds.get(&locked.release.kind).into_iter().flat_map(|kind| &kind.settings);
            let scope = scope_of(&server.survey.scope, &locked.id, &locked.title, &locked.release);
            rules.map(move |rule| (rule, scope.clone()))
        });
        let at = |scope: &Scope, rule: &yalotheca_core::game::SettingsFile| {
            rule.file.render(scope).ok().and_then(|file| TreePath::new(&file).ok())
        };
        let found = own.chain(of_contents).find(|(rule, scope)| at(scope, rule).as_ref() == Some(path));
        let play = server.game.maps.as_ref().and_then(|maps| {
            let (file, pointer) = maps.play.spot(&server.survey.scope).ok()?;
            (file == *path).then(|| (pointer, maps.live.clone()))
        });
        let format = match (&found, &server.game.maps, &play) {
            (Some((rule, _)), ..) => rule.format,
            (None, Some(maps), Some(_)) => maps.play.format,
            _ => return vec![path.to_string()],
        };
        let mut waits = Vec::new();
        for (place, value) in differences(format, now, text) {
            let key = place.tokens().last().cloned().unwrap_or_default();
            let wanted = value.as_ref().map(Value::plain);
            let mut scope =
                found.as_ref().map_or_else(|| server.survey.scope.clone(), |(_, scope)| scope.clone());
            let is_play = play.as_ref().is_some_and(|(at, _)| *at == place);
            let rule = if is_play {
                scope.found.insert("it".into(), wanted.clone().unwrap_or_default());
                play.as_ref().and_then(|(_, live)| live.clone())
            } else {
                scope.found.insert("key".into(), key.clone());
                scope.found.insert("value".into(), wanted.clone().unwrap_or_default());
                found.as_ref().and_then(|(rule, _)| rule.live.clone())
            };
            // A value could not be told from the command around it.
            let is_plain = |text: &String| !text.chars().any(|c| c.is_control() || "\"\\;".contains(c));
            let names_value = |rule: &LiveRule| is_play || has_value(rule, &scope);
            match rule {
                Some(rule) if !names_value(&rule) || wanted.as_ref().is_some_and(is_plain) => {
                    let rules = found.iter().flat_map(|(rule, _)| &rule.keys);
                    let is_secret = rules.clone().any(|(at, rule)| rule.secret && place.fits(at));
                    let what = if is_play { "The map".to_owned() } else { key };
                    self.changes.push(LiveChange { what, wanted, is_secret, rule, scope });
                }
                _ => waits.push(format!("{path}#{place}")),
            }
        }
        waits
    }

    /// Tells the server, and asks it what became of it. The change was made; what is wrong with this is part of the outcome.
    pub fn tell(&self, server: &Server) -> Vec<LiveOutcome> {
        let failed = |why: String| {
            let outcome =
                |change: &LiveChange| change.outcome(LiveState::Failed { why: why.clone() }, Vec::new());
            self.changes.iter().map(outcome).collect()
        };
        let reread = |path: &TreePath| LiveOutcome {
            what: path.to_string(),
            wanted: None,
            state: LiveState::Reread,
            answer: Vec::new(),
        };
        let mut outcomes: Vec<LiveOutcome> = self.reread.iter().map(reread).collect();
        if !self.changes.is_empty() {
            outcomes.extend(match console::connect(server) {
                Err(error) => failed(error.to_string()),
                Ok(mut session) => {
                    self.tell_over(&mut session).unwrap_or_else(|error| failed(error.to_string()))
                }
            });
        }
        outcomes
    }

    fn tell_over(&self, session: &mut ConsoleSession) -> Result<Vec<LiveOutcome>, ConsoleError> {
        let mut sent: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for change in &self.changes {
            let line = change.rule.send.render(&change.scope)?;
            if let Entry::Vacant(place) = sent.entry(line) {
                let answer = session.send(place.key())?;
                place.insert(answer);
            }
        }
        let mut outcomes = Vec::new();
        for change in &self.changes {
            let mut answer = sent.get(&change.rule.send.render(&change.scope)?).cloned().unwrap_or_default();
            if let Some(ask) = &change.rule.ask {
                answer = session.send(&ask.render(&change.scope)?)?;
            }
            let state = match (change.rule.told(&answer, &change.scope)?, &change.wanted) {
                (Told::Value(value), Some(wanted)) if !is_same(&value, wanted) => {
                    LiveState::Differs { value }
                }
                (Told::Value(_), _) => LiveState::Taken,
                (Told::Taken, _) => LiveState::Accepted,
                (Told::Untold, _) => LiveState::NotTaken,
                (Told::CannotTell, _) => LiveState::Told,
            };
            outcomes.push(change.outcome(state, answer));
        }
        Ok(outcomes)
    }

    /// Returns whether nothing has to be sent.
    pub fn is_silent(&self) -> bool {
        self.changes.is_empty()
    }
}

impl LiveChange {
    fn outcome(&self, state: LiveState, answer: Vec<String>) -> LiveOutcome {
        let (wanted, answer) =
            if self.is_secret { (None, Vec::new()) } else { (self.wanted.clone(), answer) };
        let state = match state {
            LiveState::Differs { .. } if self.is_secret => LiveState::NotTaken,
            state => state,
        };
        LiveOutcome { what: self.what.clone(), wanted, state, answer }
    }
}

/// Whether the command of a rule has the value in it.
fn has_value(rule: &LiveRule, scope: &Scope) -> bool {
    const OTHER: &str = "\u{1}";
    let mut other = scope.clone();
    other.found.insert("value".into(), OTHER.into());
    rule.send.render(&other).is_ok_and(|line| line.contains(OTHER))
}

/// Whether two texts are one value: servers write numbers and switches in their own way.
fn is_same(one: &str, other: &str) -> bool {
    let number = |text: &str| text.trim().parse::<f64>().ok();
    one.trim() == other.trim() || number(one).is_some() && number(one) == number(other)
}

/// Returns the places whose values differ, with what they are afterwards.
fn differences(format: Format, now: Vec<u8>, text: &str) -> Vec<(Pointer, Option<Value>)> {
    let leaves = |document: Option<Document>| -> BTreeMap<String, (Pointer, Value)> {
        let leaves = document.map(|document| document.leaves()).unwrap_or_default();
        leaves.into_iter().map(|(at, value)| (at.to_string(), (at, value))).collect()
    };
    let before = leaves(Document::read(format, now).ok());
    let after = leaves(Document::parse(format, text).ok());
    let gone =
        before.iter().filter(|(name, _)| !after.contains_key(*name)).map(|(_, (at, _))| (at.clone(), None));
    let set = after
        .iter()
        .filter(|(name, (_, value))| before.get(*name).is_none_or(|(_, old)| old != value))
        .map(|(_, (at, value))| (at.clone(), Some(value.clone())));
    gone.chain(set).collect()
}
