//! Settling: a change set is carried out, all or nothing.
//!
//! Everything about one settle lies in `.yalotheca/journal/<number>/`, from before the first byte of the server
//! changes: `plan.json` (the steps), `staged/` (new files, checked), `attic/` (what was replaced or removed),
//! `before/` and `after/` (receipt, lock, wants), `state`. Once everything is staged, an interrupted
//! settle can always be finished; before that nothing of the server was touched, and it is taken back. Large settles do not
//! wait for the disk: see `unwritten`.

mod execute;
mod fault;
mod history;
mod journal;
mod lock;
mod outermost;
mod owners;
mod records;
mod recover;
mod seal;
mod staging;
mod steps;
mod unwritten;

use std::{
    collections::BTreeSet,
    path::{Path, PathBuf},
    thread,
    time::Instant,
};

use serde::{Deserialize, Serialize};
use tracing::debug;
use yalotheca_core::{
    change::{ChangeSet, Receipt, Source, Step},
    control::{LOCK_FILE, WANTS_FILE},
    hint::{Advice, Hint},
    id::{Digest, TreePath},
};

use crate::{
    catalogue::CatalogueError,
    interrupt::Within,
    sources::Sources,
    tree::{LocalTree, Tree, TreeError},
};
use execute::PreparedControls;
pub use history::{Past, PastKind, Retention, change_since, find_in_attic, history, is_sealed, sweep};
use journal::State;
pub use journal::in_attic;
pub use lock::{Claim, break_lock, claim};
pub use records::ReceiptFile;
pub use recover::{Outcome, interrupted, recover};
pub use seal::SealKey;

/// The folder of ours in a server's folder.
pub const OWN: &str = ".yalotheca";

/// A settle that could not be done.
#[derive(Debug, thiserror::Error)]
pub enum SettleError {
    /// The server's folder could not be read or written.
    #[error(transparent)]
    Tree(#[from] TreeError),
    /// The files could not be had.
    #[error(transparent)]
    Catalogue(#[from] CatalogueError),
    /// The bytes of a file could not be read, or are others than promised.
    #[error("{path}: {why}")]
    Bytes {
        /// Where they belong.
        path: String,
        /// What is wrong.
        why: String,
    },
    /// The server's folder changed while it was looked at.
    #[error("{path} was changed by somebody else while this change was being prepared")]
    Moved {
        /// The file.
        path: TreePath,
    },
    /// Somebody else is at it.
    #[error("{folder}: another yalotheca is at work there ({who})")]
    Busy {
        /// The server.
        folder: String,
        /// Who.
        who: String,
    },
    /// Somebody else was at it, and has not been heard of since.
    #[error("{folder} is locked by {who}, who has not been heard of for {heard}")]
    Abandoned {
        /// The server.
        folder: String,
        /// Who.
        who: String,
        /// For how long it was not heard of.
        heard: String,
    },
    /// The journal is damaged.
    #[error("{path}: {why}")]
    Journal {
        /// The file.
        path: String,
        /// What is wrong.
        why: String,
    },
    /// A file of the control folder could not be read or written.
    #[error("{source}")]
    Control {
        /// The file.
        path: String,
        /// Why.
        source: TreeError,
    },
    /// An interrupted settle was written down by somebody else, or not by Yalotheca at all.
    #[error("change {number} ({}, by {}) was interrupted, and this account has no record of it", origin.command, origin.who)]
    Foreign {
        /// Its number.
        number: u32,
        /// What its journal says of itself.
        origin: Box<ChangeOrigin>,
    },
    /// An interrupted settle belongs to another control folder.
    #[error("change {number} was interrupted; it was made from {control}")]
    OtherControl {
        /// Its number.
        number: u32,
        /// That folder.
        control: String,
    },
    /// The server was changed from another control folder, and the lock here does not know of that.
    #[error(
        "change {number} ({}) was made by {} from another folder; {} here is older than that and would undo it",
        origin.command, origin.who, LOCK_FILE
    )]
    ChangedSince {
        /// The number of that change.
        number: u32,
        /// Who made it, and how.
        origin: Box<ChangeOrigin>,
    },
    /// A step failed, and so did taking it back.
    #[error("{first}; and taking back what was done failed too: {second}")]
    Stuck {
        /// What failed.
        first: Box<Self>,
        /// What failed then.
        second: Box<Self>,
    },
}

impl Hint for SettleError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Tree(error) => error.hint(),
            Self::Catalogue(error) => error.hint(),
            Self::Bytes { .. } => Some("nothing was changed; try again".into()),
            Self::Moved { .. } => {
                Some("Nothing was changed. Find out what is writing there, then try again.".into())
            }
            Self::ChangedSince { .. } => Some(Advice::BringControlFiles),
            Self::Foreign { .. } => Some(Advice::ReviewInterrupted),
            Self::OtherControl { control, .. } => Some(Advice::GoOnFrom(control.clone())),
            Self::Busy { .. } => Some("wait until it is done".into()),
            Self::Abandoned { .. } => Some(Advice::BreakLock),
            Self::Journal { path, .. } if path.ends_with("receipt.json") || path.ends_with(".manifest") => {
                Some(Advice::RebuildReceipt)
            }
            Self::Journal { .. } => Some("keep the folder .yalotheca as it is and ask for help".into()),
            Self::Control { source, .. } => source.hint(),
            Self::Stuck { .. } => Some("Fix the cause; the next command continues to take it back.".into()),
        }
    }
}

/// Who settles, when and by which command.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChangeOrigin {
    /// The command as typed.
    pub command: String,
    /// Who, as user and machine.
    pub who: String,
    /// When, in UTC, as RFC 3339.
    pub when: String,
    /// What it did, in a line.
    pub summary: String,
    /// The settle that this one takes back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undoes: Option<u32>,
}

/// The texts of the control folder's two files; nothing means that the file is not there.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ControlTexts {
    /// `yalotheca.toml`.
    pub wants: Option<String>,
    /// `yalotheca.lock`.
    pub lock: Option<String>,
}

/// Everything that a settle needs.
#[derive(Debug)]
pub struct SettleOrder<'a> {
    /// The steps and the receipt afterwards.
    pub change: &'a ChangeSet,
    /// The digest of the receipt's file before, where there is one.
    pub receipt_digest: Option<Digest>,
    /// The control files before the command.
    pub before: ControlTexts,
    /// The control files after it.
    pub after: ControlTexts,
    /// The control folder.
    pub control: PathBuf,
    /// Who, when, why.
    pub origin: ChangeOrigin,
    /// The key with which the journal is sealed.
    pub key: &'a SealKey,
}

fn own(name: &str) -> Result<TreePath, SettleError> {
    TreePath::new(&format!("{OWN}/{name}"))
        .map_err(|error| SettleError::Journal { path: OWN.into(), why: error.to_string() })
}

fn damaged(path: &TreePath, why: &dyn std::fmt::Display) -> SettleError {
    SettleError::Journal { path: path.to_string(), why: why.to_string() }
}

/// Reads the receipt's file of a server, and returns it with its digest; nothing where there is none.
///
/// # Errors
/// Where it is there and cannot be read.
pub fn read_receipt_file(tree: &dyn Tree) -> Result<Option<(ReceiptFile, Digest)>, SettleError> {
    let path = own("receipt.json")?;
    let Some(bytes) = tree.read_file(&path)? else { return Ok(None) };
    let file = ReceiptFile::parse(&format!("{}/{path}", tree.location()), &bytes)?;
    Ok(Some((file, Digest::of(&bytes))))
}

/// Reads the receipt of a server and the digest of its file; an empty one where there is none.
///
/// # Errors
/// Where it is there and cannot be read.
pub fn read_receipt(tree: &dyn Tree) -> Result<(Receipt, Option<Digest>), SettleError> {
    match read_receipt_file(tree)? {
        None => Ok((Receipt::empty(), None)),
        Some((file, digest)) => Ok((file.receipt(tree)?, Some(digest))),
    }
}

/// Writes the receipt without a settle: only for `adopt`, which changes nothing on the server.
///
/// # Errors
/// Where it cannot be written.
pub fn write_receipt(tree: &dyn Tree, receipt: &Receipt) -> Result<(), SettleError> {
    tree.create_folder(&own("")?)?;
    let mut writing = records::Writing::begin(tree, own("records-new")?);
    let (_, text) = writing.receipt(receipt)?;
    writing.finish()?;
    Ok(tree.replace(&own("receipt.json")?, text.as_bytes())?)
}

/// Writes a file of the control folder as a whole.
///
/// # Errors
/// Where it cannot be written.
pub fn write_control(folder: &Path, name: &str, text: &str) -> Result<(), SettleError> {
    let failed = |source: TreeError| SettleError::Control { path: source.path.clone(), source };
    let path = TreePath::new(name)
        .map_err(|error| SettleError::Journal { path: name.into(), why: error.to_string() })?;
    LocalTree::new(folder).replace(&path, text.as_bytes()).map_err(failed)
}

/// Makes sure that what was planned on is what is there: the control files and the receipt.
fn check_current(tree: &dyn Tree, order: &SettleOrder<'_>) -> Result<(), SettleError> {
    tree.check_reads()?;
    // What was seen before may be another's by now. All folders that are going to be needed, in one go.
    tree.forget_seen();
    if tree.local().is_none() {
        let steps = order.change.steps.iter().filter_map(|step| step.path().parent());
        let folders: BTreeSet<TreePath> = steps.chain([own("journal")?, own("records")?]).collect();
        tree.list(&Vec::from_iter(folders), false)?;
        let before = |step: &Step| match step {
            Step::Put { path, before: Some(_), source: Source::Text(_), .. } => Some(path.clone()),
            _ => None,
        };
        let texts: Vec<TreePath> =
            order.change.steps.iter().filter_map(before).chain([own("receipt.json")?]).collect();
        tree.read(&texts)?;
    }
    let control =
        tree.local().map_or_else(|| LocalTree::new(&order.control), |tree| tree.beside(&order.control));
    for (name, text) in [(WANTS_FILE, &order.before.wants), (LOCK_FILE, &order.before.lock)] {
        let path = TreePath::new(name)
            .map_err(|error| SettleError::Journal { path: name.into(), why: error.to_string() })?;
        let now = control.digest_file(&path)?.map(|(digest, _)| digest);
        if now != text.as_ref().map(|text| Digest::of(text.as_bytes())) {
            return Err(SettleError::Moved { path });
        }
    }
    let path = own("receipt.json")?;
    let now = tree.digest_file(&path)?.map(|(digest, _)| digest);
    if now == order.receipt_digest { Ok(()) } else { Err(SettleError::Moved { path }) }
}

/// Carries a change set out and returns the settle's number. `sources` says where each payload file's bytes lie. The server
/// must be claimed.
///
/// # Errors
/// Where anything fails: then the server is as it was before.
pub fn settle(tree: &dyn Tree, order: &SettleOrder<'_>, sources: &Sources) -> Result<u32, SettleError> {
    check_current(tree, order)?;
    let journal = journal::Journal::begin(tree, order)?;
    // Files may be staged before everything about them is written down: without that, all of it is taken back.
    let prepared = thread::scope(|scope| {
        let written = scope.spawn(|| {
            let written = journal.write_down(tree, order);
            fault::point();
            written
        });
        let staged = steps::check_unchanged(tree, &order.change.steps)
            .and_then(|()| steps::stage(tree, &journal, sources))
            .and_then(|()| PreparedControls::of(tree, &journal, &order.after));
        let written = written.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        written.and(staged)
    })
    .and_then(|controls| journal.make_durable(tree).map(|()| controls))
    .and_then(|controls| journal.set_state(tree, State::Staged).map(|()| controls));
    let controls = match prepared {
        Ok(controls) => controls,
        Err(error) => {
            // Where even that fails, the next command does it.
            journal.forget(tree).ok();
            return Err(error);
        }
    };
    fault::point();
    let _within = Within::change();
    let started = Instant::now();
    let done = journal.carry_out(tree, None).and_then(|()| journal.finish(tree, Some(controls)));
    if let Err(first) = done {
        return match journal.roll_back(tree) {
            Ok(()) => Err(first),
            Err(second) => Err(SettleError::Stuck { first: Box::new(first), second: Box::new(second) }),
        };
    }
    journal.tidy(tree);
    debug!(
        "change {}: {} steps in {} ms",
        journal.number(),
        order.change.steps.len(),
        started.elapsed().as_millis()
    );
    Ok(journal.number())
}

/// Returns the receipt and the control files as a settle left them.
///
/// # Errors
/// Where its journal cannot be read.
pub fn read_after(tree: &dyn Tree, number: u32) -> Result<(Receipt, ControlTexts), SettleError> {
    let journal = journal::Journal::open(tree, number)?;
    Ok((journal.receipt(tree, "after")?, journal.texts(tree, "after")?))
}

/// Carries a change set out, does something, and takes the change back, whatever came of that; receipt, lock and wants stay as
/// they are all the while. Should the program be killed meanwhile, the next command takes it back. The server must be claimed.
///
/// # Errors
/// Where the change cannot be carried out or taken back.
pub fn attempt<T>(
    tree: &dyn Tree,
    order: &SettleOrder<'_>,
    sources: &Sources,
    during: impl FnOnce() -> T,
) -> Result<T, SettleError> {
    check_current(tree, order)?;
    let journal = journal::Journal::begin(tree, order)?;
    let prepared = journal
        .write_down(tree, order)
        .and_then(|()| steps::check_unchanged(tree, &order.change.steps))
        .and_then(|()| steps::stage(tree, &journal, sources))
        .and_then(|()| journal.make_durable(tree))
        // The next command takes it back.
        .and_then(|()| journal.set_state(tree, State::TakingBack));
    if let Err(error) = prepared {
        journal.forget(tree).ok();
        return Err(error);
    }
    let _within = Within::change();
    let done = journal.carry_out(tree, None).map(|()| during());
    match (done, journal.roll_back(tree)) {
        (done, Ok(())) => done,
        (Ok(_), Err(error)) => Err(error),
        (Err(first), Err(second)) => {
            Err(SettleError::Stuck { first: Box::new(first), second: Box::new(second) })
        }
    }
}

/// Returns the steps of a settle and the receipts and control files around it.
///
/// # Errors
/// Where its journal cannot be read.
pub fn read_settle(
    tree: &dyn Tree,
    number: u32,
    key: Option<&SealKey>,
) -> Result<(Vec<Step>, Receipt, ControlTexts, ControlTexts), SettleError> {
    let journal = journal::Journal::open(tree, number)?;
    let mut steps = journal.steps().to_vec();
    // What goes back is what was really found there.
    for (index, found) in journal.found(tree, key)? {
        match steps.get_mut(index) {
            Some(Step::Put { before, .. }) => *before = Some(found),
            Some(Step::SetAside { before, .. }) => *before = found,
            _ => {}
        }
    }
    Ok((
        steps,
        journal.receipt(tree, "before")?,
        journal.texts(tree, "before")?,
        journal.texts(tree, "after")?,
    ))
}
