//! What every changing use case does at its end: prepare the change, then carry it out once somebody has agreed to it.

use std::{collections::BTreeSet, time::Duration};

use globset::GlobSet;
use serde::Serialize;
use yalotheca_core::{
    change::{ChangeSet, KeptLine, Source, Step, diff},
    control::{ControlFile, HistorySection, LockFile, WANTS_FILE},
    id::{ContentId, TreePath},
    link::shown_in,
    reference::Break,
    route::LeftOut,
};
use yalotheca_host::{
    control::Control,
    settle::{self, ChangeOrigin, ControlTexts, Retention, SettleOrder},
    sources::Sources,
};

use crate::{
    AppError, Fresh, OpenCatalogues, Server,
    limits::too_large,
    ops::keys,
    ops::update::HeldBackContent,
    plan::{
        ContentAct, ContentLine, PlanOptions, Planned, clean, newly_broken, plan_change, reasons, sources,
        summary_of, tools,
    },
    server::seal_key,
    words::listed,
};

/// A file that was edited since Yalotheca installed it.
#[derive(Debug, Clone, Serialize)]
pub struct ChangedFile {
    /// The file.
    pub path: TreePath,
    /// Whose it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub content: Option<ContentId>,
    /// Where the new release's file is put instead.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub beside: Option<TreePath>,
    /// What was changed in it, line by line; nothing where it is no text.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub diff: Vec<String>,
}

/// What accompanies a change.
#[derive(Debug, Default)]
pub struct ChangeExtras {
    /// Steps besides those that are planned.
    pub more: Option<ChangeSet>,
    /// Where the bytes of those lie.
    pub bytes: Sources,
    /// What was asked for, in words.
    pub asked: Vec<String>,
    /// How the change is planned.
    pub plan: PlanOptions,
    /// The change, where it was planned already.
    pub planned: Option<Box<Planned>>,
    /// Set aside what is not part of the lineup, except for files that fit one of these patterns.
    pub clean: Option<GlobSet>,
    /// What is left out of what was given.
    pub left_out: Vec<LeftOut>,
    /// Contents that are not updated to a newer release, and why.
    pub held_back: Vec<HeldBackContent>,
    /// What the change puts right.
    pub fixes: Vec<String>,
    /// What is worth knowing.
    pub notes: Vec<String>,
    /// Files that the server had before their contents were managed; anything compiled from them is out of date.
    pub came: Vec<TreePath>,
}

/// A change that is ready to be carried out.
#[derive(Debug)]
pub struct Prepared {
    /// The change.
    pub planned: Planned,
    /// Files that were edited since Yalotheca installed them, and that stay.
    pub kept: Vec<ChangedFile>,
    /// What is left out of what was given.
    pub left_out: Vec<LeftOut>,
    /// Contents that are not updated to a newer release, and why.
    pub held_back: Vec<HeldBackContent>,
    /// What the change puts right.
    pub fixes: Vec<String>,
    /// What is worth knowing.
    pub notes: Vec<String>,
    /// References that would no longer hold.
    pub breaks: Vec<Break>,
    /// Where the bytes of what is put besides lie.
    bytes: Sources,
    came: Vec<TreePath>,
    asked: Vec<String>,
}

/// Plans the change to these wants. Nothing is changed.
///
/// # Errors
/// Where it cannot be planned.
pub fn prepare(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    wants: &ControlFile,
    fresh: &Fresh,
    extras: ChangeExtras,
) -> Result<Prepared, AppError> {
    server.require_current_lock()?;
    let mut planned = match extras.planned {
        Some(planned) => *planned,
        None => plan_change(server, catalogues, wants, fresh, &extras.plan)?,
    };
    if let Some(mut more) = extras.more {
        // What the lineup itself places or writes is not put besides.
        let registered = planned.desired.registrations.iter().map(|registration| &registration.file);
        let taken: BTreeSet<&TreePath> = planned.desired.placements.keys().chain(registered).collect();
        more.steps.retain(|step| match step {
            Step::Put { path, source: Source::Payload, .. } => !taken.contains(path),
            _ => true,
        });
        more.files.retain(|line| !taken.contains(&line.path));
        planned.change.steps.extend(more.steps);
        planned.change.config.extend(more.config);
        planned.change.files.extend(more.files);
    }
    if let Some(spare) = &extras.clean {
        clean::set_aside(server, &mut planned, spare)?;
    }
    let mut notes = extras.notes;
    notes.extend(kept_for_others(server, &planned.lock, wants));
    notes.extend(doubled(catalogues, &planned)?);
    let skipped = planned.change.skipped.iter().map(|(path, line, expected)| {
        format!("{path} cannot be read (line {line}: {expected}); it is left as it is, and what belongs in it waits.")
    });
    notes.extend(skipped);
    planned.lock.keys = keys::known_after(server, catalogues, &planned)?;
    notes.extend(tools::announce(server, &tools::due(server, &planned.change, &extras.came))?);
    notes.extend(too_large(server, &planned.change.files)?);
    let (kept, breaks) = (changed_files(server, &planned.change), newly_broken(server, &planned.change));
    let ChangeExtras { left_out, held_back, fixes, bytes, asked, came, .. } = extras;
    server.tree.check_reads()?;
    Ok(Prepared { planned, kept, left_out, held_back, fixes, notes, breaks, bytes, came, asked })
}

/// Says of what is installed from a folder of downloads in which it lies twice, with other files, which of them counts.
fn doubled(catalogues: &OpenCatalogues<'_>, planned: &Planned) -> Result<Vec<String>, AppError> {
    let comes = |line: &&ContentLine| {
        matches!(line.act, ContentAct::New | ContentAct::Newer | ContentAct::Older | ContentAct::Changed)
    };
    let mut notes = Vec::new();
    for line in planned.contents.iter().filter(comes) {
        let locked = planned.lock.get(&line.id).filter(|locked| !locked.catalogue.is_empty());
        let Some(locked) = locked else { continue };
        if let Some(doubled) = catalogues.get()?.doubled(locked) {
            notes.push(format!(
                "Of {} there are several editions: {} is the newest and counts; {} is left out.",
                doubled.id,
                doubled.newer,
                listed(&doubled.older)
            ));
        }
    }
    Ok(notes)
}

/// Says of what is dropped and stays that it does, and why.
fn kept_for_others(server: &Server, lock: &LockFile, wants: &ControlFile) -> Vec<String> {
    let before = &server.control.wants;
    let dropped = before.wants.keys().filter(|id| !wants.wants.contains_key(*id) && lock.get(id).is_some());
    let mut why = reasons(lock, &wants.wants);
    let told = dropped.map(|id| {
        let why = why.remove(id).filter(|why| !why.is_empty()).unwrap_or_else(|| "something needs it".into());
        let source = before.given.get(id).and_then(|given| given.link.as_ref().or(given.file.as_ref()));
        let source = source.map(|source| format!("; nor does it note that it came from {source}"));
        format!(
            "{id} stays installed: {why}. {WANTS_FILE} does not ask for it any more{}; it goes once nothing needs it.",
            source.unwrap_or_default()
        )
    });
    told.collect()
}

impl Prepared {
    /// Returns what is written into `yalotheca.toml` where nothing else changes.
    pub fn noted(&self, server: &Server, wants: &ControlFile) -> Vec<String> {
        if wants.text() == server.control.wants_text { Vec::new() } else { self.asked.clone() }
    }

    /// Carries the change out, and returns its number and the contents whose files could not be had.
    ///
    /// # Errors
    /// Where it cannot be carried out, or somebody has changed meanwhile what it was planned on; then nothing was changed.
    pub fn settle(
        self,
        server: &Server,
        catalogues: &OpenCatalogues<'_>,
        wants: &ControlFile,
    ) -> Result<(u32, Vec<(ContentId, AppError)>), AppError> {
        let summary = self.summary();
        let Self { mut planned, bytes: more, came, .. } = self;
        let (mut bytes, mut gone) = sources(server, catalogues, &planned)?;
        bytes.extend(more);
        if !gone.is_empty() {
            // Contents whose files are in no source are skipped; everything else goes ahead.
            planned.change.steps.retain(|step| match step {
                Step::Put { source: Source::Payload, after, .. } => bytes.contains_key(after),
                _ => true,
            });
            if !planned.change.steps.iter().any(|step| !matches!(step, Step::MakeFolder { .. })) {
                return Err(gone.remove(0).1);
            }
        }
        for tool in tools::due(server, &planned.change, &came) {
            tools::run(server, tool, (&mut planned.change, &mut bytes))?;
        }
        keys::add_new(server, &mut planned, &bytes)?;
        let after = ControlTexts { wants: Some(wants.text()), lock: Some(planned.lock.text()) };
        let number = settle_change(server, &planned.change, (after, &bytes), origin(server, &summary, None))?;
        server.fetcher.store().refresh_dates();
        Ok((number, gone))
    }

    /// Writes the wants and the lock, where nothing else is to be done.
    ///
    /// # Errors
    /// Where they cannot be written.
    pub fn note(&self, server: &Server, wants: &ControlFile) -> Result<(), AppError> {
        note(server, wants, (Some(&self.planned.lock.text()), &self.summary()))
    }

    /// Returns where the bytes of what is put besides lie.
    pub(crate) fn more_bytes(&self) -> Sources {
        self.bytes.clone()
    }

    /// Returns what it does, in one line for the history.
    pub fn summary(&self) -> String {
        let Planned { contents, change, .. } = &self.planned;
        if contents.is_empty() && change.files.is_empty() && change.config.is_empty() {
            return noted(&self.asked);
        }
        summary_of(contents, change.files.len(), change.config.len())
    }
}

/// Returns the files that were edited since Yalotheca installed them, each with its diff if both texts are available.
pub fn changed_files(server: &Server, change: &ChangeSet) -> Vec<ChangedFile> {
    const LARGEST: usize = 256 << 10;
    let text = |bytes: Vec<u8>| {
        String::from_utf8(bytes).ok().filter(|text| text.len() <= LARGEST && !text.contains('\0'))
    };
    let lines = |kept: &KeptLine| {
        let was = std::fs::read(server.fetcher.store().file(&kept.put)?).ok().and_then(text)?;
        let now = server.tree.read_file(&kept.path).ok().flatten().and_then(text)?;
        Some(diff(&was, &now))
    };
    let told = |kept: &KeptLine| ChangedFile {
        path: kept.path.clone(),
        content: kept.content.clone(),
        beside: kept.beside.clone(),
        diff: lines(kept).unwrap_or_default(),
    };
    change.kept.iter().map(told).collect()
}

/// Settles a change of this server: claims it, makes sure that all is as it was planned on, and sweeps what is not kept longer.
pub fn settle_change(
    server: &Server,
    change: &ChangeSet,
    (after, bytes): (ControlTexts, &Sources),
    origin: ChangeOrigin,
) -> Result<u32, AppError> {
    let sent = change.steps.iter().map(|step| match step {
        Step::Put { source: Source::Payload, size, .. } => *size,
        _ => 0,
    });
    server.tree.expect_upload(sent.sum());
    let key = seal_key()?;
    let _claim = if change.steps.is_empty() { server.claim()? } else { server.claim_stopped()? };
    let order = SettleOrder {
        change,
        receipt_digest: server.receipt_digest,
        before: texts(&server.control),
        after,
        control: server.control.folder.clone(),
        origin,
        key: &key,
    };
    let number = settle::settle(&*server.tree, &order, bytes)?;
    // What cannot be swept now is swept by a later change.
    settle::sweep(&*server.tree, retention(&server.control.wants.history)).ok();
    Ok(number)
}

/// Carries a change out, does something, and takes the change back, whatever came of that.
///
/// # Errors
/// Where it cannot be carried out or taken back.
pub(crate) fn attempt_change<T>(
    server: &Server,
    (change, bytes): (&ChangeSet, &Sources),
    summary: &str,
    during: impl FnOnce() -> T,
) -> Result<T, AppError> {
    let key = seal_key()?;
    let _claim = server.claim_stopped()?;
    let now = texts(&server.control);
    let order = SettleOrder {
        change,
        receipt_digest: server.receipt_digest,
        before: now.clone(),
        after: now,
        control: server.control.folder.clone(),
        origin: origin(server, summary, None),
        key: &key,
    };
    Ok(settle::attempt(&*server.tree, &order, bytes, during)?)
}

fn retention(section: &HistorySection) -> Retention {
    let usual = Retention::default();
    Retention {
        changes: section.changes.unwrap_or(usual.changes),
        age: section.days.map_or(usual.age, |days| Duration::from_secs(days.saturating_mul(24 * 60 * 60))),
        bytes: section.megabytes.map_or(usual.bytes, |megabytes| megabytes.saturating_mul(1_000_000)),
    }
}

/// Returns what is only written down, in one line for the history.
pub(crate) fn noted(asked: &[String]) -> String {
    if asked.is_empty() { "only yalotheca.lock".into() } else { format!("noted: {}", asked.join(", ")) }
}

/// Writes wants, and the lock where one is given, as a change of its own that touches nothing else on the server.
pub(crate) fn note(
    server: &Server,
    wants: &ControlFile,
    (lock, summary): (Option<&str>, &str),
) -> Result<(), AppError> {
    let now = texts(&server.control);
    let lock = lock.map(str::to_owned).or_else(|| now.lock.clone());
    let after = ControlTexts { wants: Some(wants.text()), lock };
    if after == now {
        return Ok(());
    }
    server.require_current_lock()?;
    let change = ChangeSet { receipt: server.receipt()?.clone(), ..ChangeSet::default() };
    settle_change(server, &change, (after, &Sources::default()), origin(server, summary, None)).map(drop)
}

/// Returns the control files as they are on the disk.
pub fn texts(control: &Control) -> ControlTexts {
    ControlTexts { wants: Some(control.wants_text.clone()), lock: control.lock_text.clone() }
}

/// Returns who does what, when.
pub fn origin(server: &Server, summary: &str, undoes: Option<u32>) -> ChangeOrigin {
    let user =
        std::env::var("USER").or_else(|_| std::env::var("LOGNAME")).unwrap_or_else(|_| "somebody".into());
    // The person, where root was borrowed; and from where, where it was over the network.
    let user = match std::env::var("SUDO_USER") {
        Ok(person) if !person.is_empty() && person != user => format!("{person} as {user}"),
        _ => user,
    };
    let from = std::env::var("SSH_CONNECTION").ok();
    let from = from.and_then(|text| text.split_whitespace().next().map(|address| format!(" from {address}")));
    let host =
        std::fs::read_to_string("/etc/hostname").map(|name| name.trim().to_owned()).unwrap_or_default();
    ChangeOrigin {
        command: shown_in(&server.command),
        who: if host.is_empty() { user } else { format!("{user}@{host}") } + &from.unwrap_or_default(),
        when: jiff::Timestamp::now().round(jiff::Unit::Second).unwrap_or_default().to_string(),
        summary: shown_in(summary),
        undoes,
    }
}
