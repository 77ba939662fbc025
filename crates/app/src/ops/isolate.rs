//! Finding the contents that make a server fail, by starting copies of it with fewer of them.

use std::{
    collections::{BTreeMap, BTreeSet},
};

use serde::{Deserialize, Serialize};
use tracing::debug;
use yalotheca_core::{
    catalogue::Side,
    control::{ControlFile, LOCK_FILE, LockFile, WANTS_FILE},
    diagnose::Verdict,
    hint::Advice,
    id::{ContentId, Digest, TreePath},
    isolate::{Answers, Culprits, Next, Problem},
};
use yalotheca_host::{
    settle,
    trial::{Trial, read_good_start},
};

use super::since::Context;
use crate::{AppError, Front, Server, on_copy::OnCopy, plan::can_be_off};

/// What counts as failing, and how long it may take.
#[derive(Debug, Clone, Default)]
pub struct IsolateRequest {
    /// A text that the log has if it fails; else a start that does not become ready fails.
    pub line: Option<String>,
    /// Whether what an earlier search has learned is forgotten.
    pub again: bool,
}

/// What happens during the search.
#[derive(Debug)]
pub enum Isolating<'i> {
    /// It begins.
    Plan {
        /// How many contents are searched.
        contents: usize,
        /// How many of them were changed since the last good start.
        suspects: usize,
        /// About how many starts one culprit takes.
        starts: usize,
        /// How many of them were made by an earlier search.
        known: usize,
    },
    /// The server is being copied.
    Copying,
    /// The copy is started.
    Starting {
        /// The number of the start.
        number: usize,
        /// With how many contents.
        contents: usize,
    },
    /// It has ended.
    Went {
        /// The number of the start.
        number: usize,
        /// With how many contents.
        contents: usize,
        /// Whether it failed.
        fails: bool,
        /// Why, in the log's words.
        why: &'i str,
    },
    /// A line of the log.
    Line(&'i str),
}

/// What was found.
#[derive(Debug, Serialize)]
pub struct IsolateReport {
    /// The server, as people call it.
    pub server: String,
    /// How many contents were searched.
    pub contents: usize,
    /// How many starts it took, earlier ones included.
    pub starts: usize,
    /// What was found.
    #[serde(flatten)]
    pub found: Culprits,
    /// Whether one content alone made it fail, or several did so in a second start as well.
    pub confirmed: bool,
    /// What the last failing start said.
    pub why: Option<String>,
    /// Whether the last of what was found can be switched off; else it can be removed.
    pub can_be_off: bool,
    /// The changes since the last good start that brought what was found.
    pub changes: Vec<u32>,
}

/// What a search has learned; it lies beside the server, so that it can be gone on with.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Learned {
    format: u32,
    /// The digest of the lock and of what counts as failing.
    question: String,
    answers: Answers,
    why: Option<String>,
}

fn record() -> TreePath {
    TreePath::new(".yalotheca/isolate.json").unwrap_or_else(|_| TreePath::root())
}

/// A search under way.
struct Search<'s> {
    server: &'s Server,
    request: &'s IsolateRequest,
    hear: &'s dyn Fn(Isolating<'_>),
    problem: Problem,
    learned: Learned,
    copy: Option<OnCopy>,
    /// How many starts there were, earlier ones included.
    starts: usize,
}

impl Search<'_> {
    /// Starts the copy with a set of contents, and returns whether it failed.
    fn start(&mut self, set: &BTreeSet<ContentId>) -> Result<bool, AppError> {
        let copy = match &mut self.copy {
            Some(copy) => copy,
            none => {
                (self.hear)(Isolating::Copying);
                none.insert(OnCopy::of(self.server, None)?)
            }
        };
        self.starts += 1;
        let (number, contents) = (self.starts, set.len());
        (self.hear)(Isolating::Starting { number, contents });
        let without = self.problem.order.iter().filter(|id| !set.contains(*id)).cloned().collect();
        let text = self.request.line.as_deref();
        let mut has_line = false;
        let mut on_line = |line: &str| {
            has_line |= text.is_some_and(|text| line.contains(text));
            (self.hear)(Isolating::Line(line));
        };
        let mut went =
            copy.start_without(&without, self.server.patience(), &mut on_line)?;
        let fails = if text.is_some() { has_line } else { went.verdict == Verdict::Failed };
        let why = if text.is_some() { None } else { why(copy, &mut went) };
        (self.hear)(Isolating::Went { number, contents, fails, why: why.as_deref().unwrap_or_default() });
        if fails {
            self.learned.why = why.or_else(|| self.learned.why.take());
        }
        Ok(fails)
    }

    /// Makes starts until it is known.
    fn run(&mut self) -> Result<Culprits, AppError> {
        loop {
            match self.problem.next(&self.learned.answers) {
                Next::Found(found) => return Ok(found),
                Next::Start(set) => {
                    let fails = self.start(&set)?;
                    self.learned.answers.note(set, fails);
                    write(self.server, &self.learned)?;
                }
            }
        }
    }
}

/// Searches.
///
/// # Errors
/// If the server cannot be copied or started at all.
pub fn isolate(
    server: &Server,
    request: &IsolateRequest,
    front: &dyn Front,
    hear: &dyn Fn(Isolating<'_>),
) -> Result<IsolateReport, AppError> {
    let (problem, changes) = problem(server)?;
    let contents = problem.order.len();
    if contents == 0 {
        return Err(AppError::Usage {
            what: "no content is loaded here that could be left out".into(),
            hint: Some(Advice::StartAsItIs),
        });
    }
    let question = question(server, request);
    let mut learned = if request.again { Learned::default() } else { read(server, &question)? };
    (learned.question, learned.format) = (question, 1);
    let (starts, known) = (problem.estimate().0, learned.answers.len());
    hear(Isolating::Plan { contents, suspects: problem.suspects, starts, known });
    let is_known = matches!(problem.next(&learned.answers), Next::Found(_));
    if !is_known && !front.confirm("The server is copied, and the copies are started and stopped. Begin?")? {
        return Err(AppError::Refused { what: "nothing was started".into(), hint: None });
    }
    let mut search = Search { server, request, hear, problem, learned, copy: None, starts: known };
    let found = search.run()?;
    let (ids, set): (&[ContentId], BTreeSet<ContentId>) = match &found {
        Culprits::Contents { ids, with } => (ids, ids.iter().chain(with).cloned().collect()),
        _ => (&[], BTreeSet::new()),
    };
    // That one content alone makes it fail was seen, and that it works with all before it; several may have failed by chance.
    let confirmed = ids.len() == 1 || !ids.is_empty() && search.start(&set)?;
    let brought = changes.iter().filter(|(id, _)| ids.contains(id)).map(|(_, number)| *number);
    let changes = brought.collect::<BTreeSet<u32>>().into_iter().collect();
    let (starts, why) = (search.starts, search.learned.why);
    let last = ids.last().and_then(|id| server.control.lock.get(id));
    let can_be_off = last.is_some_and(|locked| can_be_off(&server.game, locked));
    Ok(IsolateReport { server: server.shown(), contents, starts, found, confirmed, why, can_be_off, changes })
}

/// The sentence that tells why a start failed, with paths inside the server.
fn why(copy: &OnCopy, went: &mut Trial) -> Option<String> {
    let mut troubles = std::mem::take(&mut went.troubles);
    if let Err(error) = Context::default().explain(copy.server(), went, &mut troubles) {
        debug!("what the log names is not looked up: {error}");
    }
    let fatal = troubles.iter().find(|trouble| trouble.fatal).or_else(|| troubles.first());
    fatal.map(|trouble| trouble.says.clone())
}

/// Returns what can be left out, in an order in which what others need comes first and what has changed last; and which change brought
/// each of the latter.
fn problem(server: &Server) -> Result<(Problem, Vec<(ContentId, u32)>), AppError> {
    let lock = &server.control.lock;
    let plays = server.control.wants.maps.play.clone();
    let is_unit = |locked: &&yalotheca_core::control::Locked| {
        let kind = server.game.kinds.get(&locked.release.kind);
        let brings = kind.is_some_and(|kind| kind.brings.is_some());
        let is_played = plays.as_deref() == Some(locked.id.as_str());
        locked.release.side != Side::Player && !brings && !is_played
    };
    let units: Vec<_> = lock.on().filter(is_unit).collect();
    let ids: BTreeSet<ContentId> = units.iter().map(|locked| locked.id.clone()).collect();
    let provider = |need: &ContentId| -> Option<ContentId> {
        if ids.contains(need) {
            return Some(need.clone());
        }
        units.iter().find(|locked| locked.release.provides.contains_key(need)).map(|locked| locked.id.clone())
    };
    let mut problem = Problem::default();
    for locked in &units {
        let needs =
            locked.release.needed_ids().filter_map(provider).filter(|need| *need != locked.id).collect();
        problem.needs.insert(locked.id.clone(), needs);
    }
    let changes = changed_since(server, &ids)?;
    let newer: BTreeSet<&ContentId> = changes.iter().map(|(id, _)| id).collect();
    // The load order has what others need first.
    let mut order: Vec<ContentId> = lock.order().into_iter().filter(|id| ids.contains(id)).collect();
    order.extend(ids.iter().filter(|id| !order.contains(id)).cloned().collect::<Vec<_>>());
    let (suspects, others): (Vec<_>, Vec<_>) = order.into_iter().partition(|id| newer.contains(id));
    problem.suspects = suspects.len();
    problem.order = [others, suspects].concat();
    Ok((problem, changes))
}

/// Returns the contents whose files changes since the last good start have touched.
fn changed_since(server: &Server, ids: &BTreeSet<ContentId>) -> Result<Vec<(ContentId, u32)>, AppError> {
    let Some(good) = read_good_start(&*server.tree)? else { return Ok(Vec::new()) };
    let past = settle::history(&*server.tree)?;
    let later = past.iter().filter(|past| good.change.is_none_or(|last| past.number > last) && !past.undone);
    let mut found = Vec::new();
    for past in later {
        // One whose record is damaged tells nothing.
        let Ok((_, _, before, after)) = settle::read_settle(&*server.tree, past.number, None) else {
            continue;
        };
        let contents = |texts: &settle::ControlTexts| -> BTreeMap<ContentId, String> {
            let lock = texts.lock.as_ref().and_then(|text| LockFile::parse(LOCK_FILE, text).ok());
            let wants = texts.wants.as_ref().and_then(|text| ControlFile::parse(WANTS_FILE, text).ok());
            let is_off = |id: &ContentId| wants.as_ref().is_some_and(|wants| wants.off.contains_key(id));
            let locked = lock.into_iter().flat_map(|lock| lock.contents);
            locked
                .map(|one| {
                    (one.id.clone(), format!("{} {}", one.release.version, one.off || is_off(&one.id)))
                })
                .collect()
        };
        let (before, after) = (contents(&before), contents(&after));
        let is_changed =
            |(id, state): &(ContentId, String)| ids.contains(id) && before.get(id) != Some(state);
        found.extend(after.into_iter().filter(is_changed).map(|(id, _)| (id, past.number)));
    }
    Ok(found)
}

/// What is asked, so that answers to something else are not taken for answers to this.
fn question(server: &Server, request: &IsolateRequest) -> String {
    let text = format!(
        "{} {:?} {:?}",
        server.control.lock_text.as_deref().unwrap_or_default(),
        server.control.wants.off,
        request.line
    );
    Digest::of(text.as_bytes()).to_string()
}

fn read(server: &Server, question: &str) -> Result<Learned, AppError> {
    let bytes = server.tree.read_file(&record())?;
    let learned = bytes.and_then(|bytes| serde_json::from_slice::<Learned>(&bytes).ok());
    Ok(learned.filter(|learned| learned.format == 1 && learned.question == question).unwrap_or_default())
}

fn write(server: &Server, learned: &Learned) -> Result<(), AppError> {
    let text = serde_json::to_vec(learned).unwrap_or_default();
    server.tree.replace(&record(), &text)?;
    Ok(())
}
