//! Finding the contents that make a server fail, by starting copies of it with fewer of them.

use crate::words::ServerName;
use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use tracing::debug;
use yalotheca_core::{
    catalogue::Side,
    control::{ControlFile, LOCK_FILE, LockFile, WANTS_FILE},
    diagnose::Verdict,
    hint::Advice,
    id::{ContentId, Digest, TreePath},
    isolate::{Answers, Culprits, Next, Problem},
    version::{ReleaseVersion, VersionRange},
};
use yalotheca_host::{
    settle,
    survey::{self, FoundContent},
    trial::{Trial, read_good_start},
};

use super::{since::Context, trial::prove};
use crate::{
    AppError, Fresh, Front, Server,
    apply::{ChangeExtras, prepare},
    findings::{locked_state, strangers},
    on_copy::{OnCopy, PlannedChange},
    plan::can_be_off,
    take_over::as_locked,
};

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
        /// Whether it failed for the reason that is searched.
        fails: bool,
        /// Whether it failed for another one.
        is_other: bool,
        /// Why, in the log's words.
        why: &'i str,
    },
    /// An older release of what was found is tried.
    Older {
        /// The content.
        id: &'i ContentId,
        /// The release.
        version: &'i ReleaseVersion,
    },
    /// A line of the log.
    Line(&'i str),
}

/// What was found.
#[derive(Debug, Serialize)]
pub struct IsolateReport {
    /// The server, as people call it.
    pub server: ServerName,
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
    /// An older release of what was found with which the server starts.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub works_with: Option<ReleaseVersion>,
    /// Other reasons for which starts have failed on the way.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub other_faults: Vec<String>,
    /// What was found and lies there unmanaged, with its folder.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub unmanaged: BTreeMap<ContentId, TreePath>,
}

/// What a search has learned; it lies beside the server, so that it can be gone on with.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Learned {
    format: u32,
    /// The digest of the lock and of what counts as failing.
    question: String,
    answers: Answers,
    /// What the first failing start said: what is searched.
    #[serde(default)]
    fault: Option<Fault>,
    #[serde(default)]
    other_faults: Vec<String>,
}

/// Why a start failed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Fault {
    says: String,
    /// What it says with all numbers alike.
    form: String,
    means: Option<String>,
    contents: Vec<ContentId>,
}

impl Fault {
    /// Returns whether two starts have probably failed for one reason.
    fn is_same(&self, other: &Self) -> bool {
        let is_about_same = || match (self.contents.as_slice(), other.contents.as_slice()) {
            ([], _) | (_, []) => true,
            (one, two) => one.iter().any(|id| two.contains(id)),
        };
        self.form == other.form || self.means == other.means && is_about_same()
    }
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
    /// Contents that the server loads and that are not in the lock.
    unmanaged: &'s [FoundContent],
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
                let mut copy = OnCopy::of(self.server, None)?;
                copy.take_over(self.unmanaged)?;
                none.insert(copy)
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
        let mut went = copy.start_without(&without, self.server.patience(), &mut on_line)?;
        let has_failed = if text.is_some() { has_line } else { went.verdict == Verdict::Failed };
        let fault = if text.is_some() || !has_failed { None } else { fault(copy, &mut went) };
        let says = fault.as_ref().map(|fault| fault.says.clone()).unwrap_or_default();
        // Another fault, that shows once the first one is left out, is not what is searched.
        let is_other = match (&fault, &self.learned.fault) {
            (Some(now), Some(first)) => !now.is_same(first),
            _ => false,
        };
        if is_other && !self.learned.other_faults.contains(&says) {
            self.learned.other_faults.push(says.clone());
        }
        if self.learned.fault.is_none() {
            self.learned.fault = fault;
        }
        let fails = has_failed && !is_other;
        (self.hear)(Isolating::Went { number, contents, fails, is_other, why: &says });
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
    let unmanaged = unmanaged(server)?;
    let (problem, changes) = problem(server, &unmanaged)?;
    let contents = problem.order.len();
    if contents == 0 {
        return Err(AppError::Usage {
            what: "no content is loaded here that could be left out".into(),
            hint: Some(Advice::StartAsItIs),
        });
    }
    let question = question(server, request, &problem.order);
    let mut learned = if request.again { Learned::default() } else { read(server, &question)? };
    (learned.question, learned.format) = (question, 1);
    let (starts, known) = (problem.estimate().0, learned.answers.len());
    hear(Isolating::Plan { contents, suspects: problem.suspects, starts, known });
    let is_known = matches!(problem.next(&learned.answers), Next::Found(_));
    if !is_known && !front.confirm("The server is copied, and the copies are started and stopped. Begin?")? {
        return Err(AppError::Refused { what: "nothing was started".into(), hint: None });
    }
    let mut search =
        Search { server, request, hear, problem, learned, unmanaged: &unmanaged, copy: None, starts: known };
    let found = search.run()?;
    let (ids, set): (&[ContentId], BTreeSet<ContentId>) = match &found {
        Culprits::Contents { ids, with } => (ids, ids.iter().chain(with).cloned().collect()),
        _ => (&[], BTreeSet::new()),
    };
    // That one content alone makes it fail was seen, and that it works with all before it; several may have failed by chance.
    let confirmed = ids.len() == 1 || !ids.is_empty() && search.start(&set)?;
    let brought = changes.iter().filter(|(id, _)| ids.contains(id)).map(|(_, number)| *number);
    let changes = brought.collect::<BTreeSet<u32>>().into_iter().collect();
    let (starts, learned) = (search.starts, search.learned);
    drop(search.copy);
    let last = ids.last().and_then(|id| server.control.lock.get(id));
    let can_be_off = last.is_some_and(|locked| can_be_off(&server.game, locked));
    let works_with = match ids {
        [only] if request.line.is_none() => older_that_works(server, only, hear)?,
        _ => None,
    };
    let of_found = unmanaged.iter().filter(|found| ids.contains(&found.content.id));
    let unmanaged = of_found.map(|found| (found.content.id.clone(), found.path.clone())).collect();
    Ok(IsolateReport {
        server: server.shown(),
        contents,
        starts,
        confirmed,
        why: learned.fault.map(|fault| fault.says),
        can_be_off,
        changes,
        works_with,
        other_faults: learned.other_faults,
        unmanaged,
        found,
    })
}

/// Returns the contents that the server loads and that are not in the lock.
fn unmanaged(server: &Server) -> Result<Vec<FoundContent>, AppError> {
    let (desired, _) = locked_state(server)?;
    let owned = strangers::owned(server, &desired)?;
    let inventory = survey::inventory(&*server.tree, &server.game, &server.survey.scope)?;
    let mut found: Vec<FoundContent> = Vec::new();
    for one in inventory.contents {
        let id = &one.content.id;
        let is_known = owned.contains(&one.path)
            || server.control.lock.get(id).is_some()
            || found.iter().any(|other| other.content.id == *id);
        if !is_known && strangers::is_loaded_as_it_lies(server, &one)? {
            found.push(one);
        }
    }
    Ok(found)
}

/// Tries older releases of what makes the server fail, the newest first; returns the first with which it starts.
fn older_that_works(
    server: &Server,
    id: &ContentId,
    hear: &dyn Fn(Isolating<'_>),
) -> Result<Option<ReleaseVersion>, AppError> {
    const MOST: usize = 3;
    let Some(locked) = server.control.lock.get(id) else { return Ok(None) };
    // Without its catalogue, leaving it out is all that can be said.
    let Ok(Some(content)) = server.catalogues().get()?.content(id) else { return Ok(None) };
    let here = &locked.release.version;
    let mut older: Vec<ReleaseVersion> = content.releases.into_iter().map(|one| one.version).collect();
    older.retain(|version| version < here && !version.is_unversioned());
    older.sort_by(|a, b| b.cmp(a));
    for version in older.into_iter().take(MOST) {
        let mut wants = server.control.wants.clone();
        wants.want(id, &VersionRange::exactly(&version));
        let catalogues = server.catalogues_for(&wants);
        let prepared = prepare(server, &catalogues, &wants, &Fresh::None, ChangeExtras::default());
        // What does not fit everything else is no way out.
        let Ok(prepared) = prepared else { continue };
        hear(Isolating::Older { id, version: &version });
        let change = PlannedChange { prepared: &prepared, wants: &wants, catalogues: &catalogues };
        let report = prove(server, &change, &|_| {})?;
        if report.verdict != Verdict::Failed {
            return Ok(Some(version));
        }
    }
    Ok(None)
}

/// Why a start failed, with paths inside the server.
fn fault(copy: &OnCopy, went: &mut Trial) -> Option<Fault> {
    let mut troubles = std::mem::take(&mut went.troubles);
    if let Err(error) = Context::default().explain(copy.server(), went, &mut troubles) {
        debug!("what the log names is not looked up: {error}");
    }
    let fatal = troubles.iter().find(|trouble| trouble.fatal).or_else(|| troubles.first());
    fatal.map(|trouble| Fault {
        says: trouble.says.clone(),
        form: went.lines.form(&trouble.says),
        means: trouble.means.clone(),
        contents: trouble.contents.clone(),
    })
}

/// Returns what can be left out, in an order in which what others need comes first and what has changed last; and which change brought
/// each of the latter.
fn problem(
    server: &Server,
    unmanaged: &[FoundContent],
) -> Result<(Problem, Vec<(ContentId, u32)>), AppError> {
    let mut lock = server.control.lock.clone();
    lock.contents.extend(unmanaged.iter().map(as_locked));
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
fn question(server: &Server, request: &IsolateRequest, order: &[ContentId]) -> String {
    let text = format!(
        "{} {order:?} {:?} {:?}",
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
