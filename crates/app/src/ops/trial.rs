//! A supervised start.

use crate::words::ServerName;
use std::{collections::BTreeMap, time::Duration};

use serde::Serialize;
use tracing::debug;
use yalotheca_core::{
    change::plan,
    control::Locked,
    diagnose::{ContentState, Noise, Trouble, Verdict},
    document::TextFile,
    game::{Scope, Terms},
    hint::Advice,
    id::{ContentId, TreePath},
};
use yalotheca_host::{
    running,
    sources::Sources,
    trial::{LogFollower, Patience, SLOW, Trial, TrialOptions, WatchOptions, trial as run_trial, watch},
};

use super::since::{Accepted, Context, SinceGood};
use crate::{
    AppError, Fresh, Front, OpenOptions, Purpose, Server,
    apply::{ChangeExtras, origin, prepare, settle_change, texts},
    findings::{locked_state, runtime::runtimes},
    on_copy::{OnCopy, PlannedChange},
    plan::look,
    process::{self, Act, ServerState},
    words::count,
};

/// How the server is started.
#[derive(Debug, Clone, Default)]
pub struct TrialRequest {
    /// Whether it is left running.
    pub keep: bool,
    /// Whether the problems that it has are no reason to call a start a bad one from now on.
    pub accepts: bool,
    /// Whether somebody else starts it: its log is followed, and it is neither started nor stopped.
    pub watches: bool,
    /// The log that is followed, below the server's folder; else the one that the definition names.
    pub log: Option<String>,
}

/// What happens while the server runs.
#[derive(Debug)]
pub enum Heard<'h> {
    /// It is being started.
    Starting {
        /// The server, as people call it.
        server: &'h str,
        /// The user to whom its folder belongs, where that is another one and root starts it.
        owner: Option<u32>,
        /// Whether it was started before, in the same trial.
        again: bool,
    },
    /// It is being copied; the copy is started then.
    Copying {
        /// The server, as people call it.
        server: &'h str,
    },
    /// A line of its log.
    Line(&'h str),
    /// Somebody is to start it now.
    Watching {
        /// The server, as people call it.
        server: &'h str,
        /// The log that is followed.
        log: &'h TreePath,
    },
    /// It is over.
    Over,
}

/// How a start went.
#[derive(Debug, Serialize)]
pub struct TrialReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// How it went.
    pub verdict: Verdict,
    /// When the server said that it was ready, in milliseconds.
    pub ready_after_ms: Option<u128>,
    /// Whether its port answered, where there is one to ask.
    pub port_answers: Option<bool>,
    /// What was wrong.
    pub troubles: Vec<Trouble>,
    /// What the first start did, where there was another one after it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub first: Vec<String>,
    /// The terms' text, where the start failed for want of them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub terms: Option<String>,
    /// How the log compares with those of good starts, if there were any.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub noise: Option<Noise>,
    /// What has changed since the last good start, if the start was not a good one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub since: Option<SinceGood>,
    /// What became of each content.
    pub contents: Vec<TriedContent>,
    /// Its exit code, where it ended by itself.
    pub ended_with: Option<i32>,
    /// The signal that ended it, if one did.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ended_by_signal: Option<i32>,
    /// Whether it had to be killed, since it did not stop when it was told to.
    pub was_killed: bool,
    /// Whether it was stopped again.
    pub was_stopped: bool,
    /// Whether the start went well: the server is ready, and all problems were accepted.
    pub is_good: bool,
    /// Problems that were accepted before this start or with it, and that it has.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub accepted: Vec<String>,
    /// The process that was left running.
    pub left_running: Option<u32>,
    /// The last lines of its log.
    pub last_lines: Vec<String>,
}

/// What became of one content.
#[derive(Debug, Serialize)]
pub struct TriedContent {
    /// The content.
    pub id: ContentId,
    /// Its version.
    pub version: String,
    /// What became of it.
    #[serde(flatten)]
    pub state: ContentState,
}

/// Starts the server, watches it and stops it. Settings that wait for a file that only the server makes are set after its first
/// start, and then it is started again.
///
/// # Errors
/// Where it runs already, may not be run, or cannot be started at all.
pub fn trial(
    options: &OpenOptions,
    front: &dyn Front,
    request: &TrialRequest,
    hear: &dyn Fn(Heard<'_>),
) -> Result<TrialReport, AppError> {
    let open = || Server::open(Purpose::Change, options, front);
    let mut server = open()?;
    if request.watches || is_started_elsewhere(&server, request.log.as_deref()) {
        return watched(&server, front, request, hear);
    }
    if let Some(running) = server.running() {
        return Err(AppError::Refused {
            what: format!("the server is running already (process {})", running.pid),
            hint: Some(Advice::StopOrWatch { is_ours: running.is_noted }),
        });
    }
    let mut first = Vec::new();
    let waits = waits(&server)?;
    // Where something waits for the first start, the server is not left running by it.
    let mut went = start(&server, request.keep && !waits, (false, hear))?;
    if went.was_first {
        first.push("The first start made its files and ended by itself.".to_owned());
    }
    let lives = went.was_first || went.verdict != Verdict::Failed;
    if lives && waits {
        server = open()?;
        first.extend(set_pending(&server)?);
    }
    if lives && (went.was_first || waits) {
        server = open()?;
        went = start(&server, request.keep, (true, hear))?;
    }
    report(&server, went, (first, request.accepts))
}

/// Copies the server, makes on the copy what settle would change, and starts and stops the copy. The server itself may run.
///
/// # Errors
/// If the change cannot be planned, or the server cannot be copied or its copy started at all.
pub fn trial_on_copy(
    options: &OpenOptions,
    front: &dyn Front,
    hear: &dyn Fn(Heard<'_>),
) -> Result<TrialReport, AppError> {
    let server = Server::open(Purpose::Change, options, front)?;
    let wants = server.control.wants.clone();
    let catalogues = server.catalogues_for(&wants);
    let prepared = prepare(&server, &catalogues, &wants, &Fresh::None, ChangeExtras::default())?;
    let change = PlannedChange { prepared: &prepared, wants: &wants, catalogues: &catalogues };
    prove(&server, &change, hear)
}

/// Makes a change on a copy of the server, and starts and stops the copy.
///
/// # Errors
/// If the server cannot be copied, or its copy started at all.
pub fn prove(
    server: &Server,
    change: &PlannedChange<'_, '_>,
    hear: &dyn Fn(Heard<'_>),
) -> Result<TrialReport, AppError> {
    let name = server.shown().to_string();
    hear(Heard::Copying { server: &name });
    let copy = OnCopy::of(server, Some(change))?;
    hear(Heard::Starting { server: &format!("a copy of {name}"), owner: None, again: false });
    let mut on_line = |line: &str| hear(Heard::Line(line));
    let went = copy.start(server.patience(), &mut on_line);
    hear(Heard::Over);
    let mut went = went?;
    // The copy's log is compared with the original's good starts.
    let context = Context::of(server).unwrap_or_default();
    let mut troubles = std::mem::take(&mut went.troubles);
    context.explain(copy.server(), &went, &mut troubles).ok();
    put_cause_first(&mut troubles);
    let (noise, since) = (context.noise(&went), None);
    let is_accepted = context.accepted(&went, &mut troubles);
    let mut report = told(copy.server(), went, (Vec::new(), troubles, noise, since), &is_accepted);
    report.server = ServerName { is_copy: true, ..server.shown() };
    Ok(report)
}

/// Returns whether a `[server.process]` command starts the server, rather than a person on its machine.
pub(crate) fn is_started_elsewhere(server: &Server, log: Option<&str>) -> bool {
    let has_command = !server.control.wants.server.process.start.is_empty();
    has_command && (log.is_some() || server.log_file().is_some()) || server.tree.local().is_none()
}

fn report(
    server: &Server,
    mut went: Trial,
    (first, accepts): (Vec<String>, bool),
) -> Result<TrialReport, AppError> {
    // The report tells what the log says even if records on the server are damaged.
    let mut context = Context::of(server).unwrap_or_default();
    let mut troubles = std::mem::take(&mut went.troubles);
    if went.verdict == Verdict::Failed {
        let runtimes = runtimes(server).unwrap_or_default();
        troubles
            .extend(runtimes.into_iter().map(|finding| Trouble::told("wrong runtime", finding.says, None)));
    }
    context.explain(server, &went, &mut troubles).ok();
    put_cause_first(&mut troubles);
    let noise = context.noise(&went);
    mark_failed(&mut went.contents, &troubles);
    if accepts {
        if went.verdict == Verdict::Failed {
            return Err(AppError::Refused {
                what: format!(
                    "the server did not start{}, and a start that fails cannot be accepted",
                    troubles.first().map(|cause| format!(": {}", cause.says)).unwrap_or_default()
                ),
                hint: None,
            });
        }
        context.accept(&went, &troubles);
    }
    let accepted = context.accepted(&went, &mut troubles);
    let is_good = is_good(&went, &troubles, &accepted);
    let since = (!is_good).then(|| context.since(server).ok().flatten()).flatten();
    if is_good
        && !went.was_first
        && let Err(error) = context.remember(server, &went)
    {
        debug!("the start is not remembered: {error}");
    }
    Ok(told(server, went, (first, troubles, noise, since), &accepted))
}

/// Returns whether a start went well: ready, and nothing is wrong but what was accepted.
fn is_good(went: &Trial, troubles: &[Trouble], accepted: &Accepted) -> bool {
    let is_bad = |(id, state): (&ContentId, &ContentState)| {
        matches!(state, ContentState::Failed { .. } | ContentState::NotSeen { .. })
            && !accepted.contents.contains(id)
    };
    went.verdict == Verdict::Ready
        || went.verdict == Verdict::ReadyWithTrouble
            && troubles.iter().all(|trouble| trouble.accepted)
            && !went.contents.iter().any(is_bad)
}

/// What was heard of a start, as a report.
fn told(
    server: &Server,
    mut went: Trial,
    (first, troubles, noise, since): (Vec<String>, Vec<Trouble>, Option<Noise>, Option<SinceGood>),
    accepted: &Accepted,
) -> TrialReport {
    mark_failed(&mut went.contents, &troubles);
    let is_good = is_good(&went, &troubles, accepted);
    let contents = server
        .control
        .lock
        .contents
        .iter()
        .filter_map(|locked| {
            let state = went.contents.remove(&locked.id)?;
            let version = locked.release.version.shown().to_owned();
            Some(TriedContent { id: locked.id.clone(), version, state })
        })
        .collect();
    TrialReport {
        server: server.shown(),
        verdict: went.verdict,
        first,
        terms: server.game.terms.as_ref().and_then(|terms| shown_terms(server, terms, &troubles)),
        ready_after_ms: went.ready_after.map(|after| after.as_millis()),
        port_answers: went.answers,
        troubles,
        noise,
        since,
        contents,
        ended_with: went.ended.and_then(|ended| ended.code),
        ended_by_signal: went.ended.and_then(|ended| ended.signal),
        was_killed: went.was_killed,
        was_stopped: went.stopped_after.is_some() || went.was_killed,
        is_good,
        accepted: accepted.says.clone(),
        left_running: went.kept,
        last_lines: went.tail,
    }
}

/// A content that the log says nothing good of, and that alone ended the start, has failed.
fn mark_failed(contents: &mut BTreeMap<ContentId, ContentState>, troubles: &[Trouble]) {
    for trouble in troubles.iter().filter(|trouble| trouble.fatal) {
        if let [only] = trouble.contents.as_slice()
            && let Some(state) = contents.get_mut(only)
            && matches!(state, ContentState::NotSeen { .. })
        {
            *state = ContentState::Failed { why: trouble.says.clone() };
        }
    }
}

/// Puts the most telling trouble first: what ended the start before what is only wrong, what is new before what always is, and what
/// is understood before what is not. What is said right before the end is its cause more often than the end itself.
fn put_cause_first(troubles: &mut [Trouble]) {
    const RIGHT_BEFORE: usize = 3;
    let end =
        troubles.iter().filter(|trouble| trouble.fatal && trouble.at > 0).map(|trouble| trouble.at).min();
    let rank = |trouble: &Trouble| {
        let is_understood = trouble.at > 0 && trouble.means.is_some() && trouble.is_new != Some(false);
        match end {
            Some(end) if is_understood && trouble.at < end && end - trouble.at <= RIGHT_BEFORE => 0,
            _ if trouble.fatal && trouble.at > 0 => 1,
            // Without a last word, as when a server crashes, what it said before is all there is.
            _ if trouble.means.as_deref() == Some(SLOW) => 1,
            None if is_understood => 2,
            _ if trouble.fatal => 3,
            _ => 4,
        }
    };
    troubles.sort_by_key(|trouble| (rank(trouble), trouble.is_new == Some(false), trouble.means.is_none()));
}

/// Follows the log of a server that its start command or somebody else starts, and that a stop command stops.
fn watched(
    server: &Server,
    front: &dyn Front,
    request: &TrialRequest,
    hear: &dyn Fn(Heard<'_>),
) -> Result<TrialReport, AppError> {
    let contents = server.control.lock.loaded(&server.control.wants.off);
    let went = follow(server, &server.survey.scope, &contents.contents, (front, request), hear)?;
    report(server, went, (Vec::new(), request.accepts))
}

/// Follows the log of a server with these contents while its start command, or a person, starts it.
pub(super) fn follow(
    server: &Server,
    scope: &Scope,
    contents: &[Locked],
    (front, request): (&dyn Front, &TrialRequest),
    hear: &dyn Fn(Heard<'_>),
) -> Result<Trial, AppError> {
    /// How long somebody may take to start the server.
    const BY_HAND: Duration = Duration::from_secs(600);
    let patience = server.patience();
    let start = if request.watches { None } else { server.process_command(Act::Start, front)? };
    let stop = match &start {
        Some(_) if !request.keep => server.process_command(Act::Stop, front)?,
        _ => None,
    };
    if start.is_none() && !request.watches {
        // Says that it runs on another machine, and what can be done.
        server.local()?;
    }
    if start.is_some()
        && let ServerState::Running(by) = server.state(front)?
    {
        let hint = Some("stop it first".into());
        return Err(AppError::Refused { what: by.says(), hint });
    }
    let log = match &request.log {
        Some(log) => TreePath::new(log)?,
        None => server.log_file().ok_or_else(|| AppError::Usage {
            what: format!(
                "the definition of {} does not say where the server writes its log",
                server.game.name
            ),
            hint: Some(Advice::NameLog),
        })?,
    };
    let options = WatchOptions {
        host: server.machine(),
        begins_within: if start.is_some() { patience.ready } else { BY_HAND },
        patience,
    };
    let mut follower = LogFollower::at_end(&*server.tree, log.clone())?;
    let name = server.shown().to_string();
    match &start {
        Some(start) => {
            hear(Heard::Starting { server: &name, owner: None, again: false });
            process::run(start)?;
        }
        None => hear(Heard::Watching { server: &name, log: &log }),
    }
    let known = (&server.game, scope, contents);
    let mut on_line = |line: &str| hear(Heard::Line(line));
    let went = watch(&*server.tree, known, &mut follower, &options, &mut on_line);
    hear(Heard::Over);
    if let Some(stop) = stop {
        process::run(&stop)?;
    }
    Ok(went?)
}

fn start(server: &Server, keep: bool, (again, hear): (bool, &dyn Fn(Heard<'_>))) -> Result<Trial, AppError> {
    server.require_run_trust()?;
    hear(Heard::Starting {
        server: &server.shown().to_string(),
        owner: running::other_owner(server.local()?),
        again,
    });
    let options = TrialOptions { keep, patience: server.patience() };
    let scope = &server.survey.scope;
    let contents = server.control.lock.loaded(&server.control.wants.off);
    let mut on_line = |line: &str| hear(Heard::Line(line));
    let went = run_trial(server.local()?, &server.game, scope, &contents.contents, options, &mut on_line);
    hear(Heard::Over);
    Ok(went?)
}

/// Starts and stops a server with these contents, with its own commands if set, without reporting its log.
///
/// # Errors
/// If running it was not agreed to, or it cannot be started.
pub(super) fn start_once(
    server: &Server,
    scope: &Scope,
    contents: &[Locked],
    (front, patience): (&dyn Front, Patience),
) -> Result<Trial, AppError> {
    if is_started_elsewhere(server, None) {
        return follow(server, scope, contents, (front, &TrialRequest::default()), &|_| {});
    }
    server.require_run_trust()?;
    let options = TrialOptions { keep: false, patience };
    Ok(run_trial(server.local()?, &server.game, scope, contents, options, &mut |_| {})?)
}

/// Returns whether settings wait for a file that only the server makes. No file is read for it.
fn waits(server: &Server) -> Result<bool, AppError> {
    let (desired, _) = locked_state(server)?;
    for registration in desired.registrations.iter().filter(|registration| registration.waits) {
        if server.tree.kind_of(&registration.file)?.is_none() {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Sets what waited for files that are there now. Where more than that is to be done, settle is left to do it.
fn set_pending(server: &Server) -> Result<Vec<String>, AppError> {
    let (desired, contents) = locked_state(server)?;
    let change = match plan(&desired, contents, server.receipt()?, &look(server, &desired)?) {
        Ok(change) => change,
        Err(error) => return Ok(vec![format!("Nothing was set after the first start: {error}")]),
    };
    let mut says: Vec<String> = change
        .pending
        .iter()
        .map(|line| {
            format!("{} is still not there; {} wait for it.", line.path, count(line.settings, "setting"))
        })
        .collect();
    if change.steps.is_empty() {
        return Ok(says);
    }
    if !change.files.is_empty() {
        says.push("Settings wait for the next settle, which has more to do here.".into());
        return Ok(says);
    }
    let set: usize = change.config.iter().map(|line| line.entries.len()).sum();
    let files: Vec<String> = change.config.iter().map(|line| line.path.to_string()).collect();
    let summary = format!("{} set after the first start", count(set, "setting"));
    let number = settle_change(
        server,
        &change,
        (texts(&server.control), &Sources::default()),
        origin(server, &summary, None),
    )?;
    says.push(format!(
        "{} could be set after the first start (change {number}), in {}; then it was started again.",
        count(set, "setting"),
        files.join(", ")
    ));
    Ok(says)
}

/// The terms' text, where the start failed for want of them.
fn shown_terms(server: &Server, terms: &Terms, troubles: &[Trouble]) -> Option<String> {
    let refused = |trouble: &Trouble| trouble.means.as_deref() == Some("terms not agreed");
    if !troubles.iter().any(refused) {
        return None;
    }
    let path = TreePath::new(&terms.place.file.render(&server.survey.scope).ok()?).ok()?;
    let bytes = server.tree.read_file(&path).ok()??;
    Some(TextFile::read(bytes).text().to_owned())
}
