//! Settling: a change set is carried out, all or nothing.
//!
//! Everything about one settle lies in `.yalotheca/journal/<number>/`, from before the first byte of the server
//! changes: `plan.json` (the steps), `staged/` (new files, checked), `attic/` (what was replaced or removed),
//! `before/` and `after/` (receipt, lock, wants), `state`. Once everything is staged, an interrupted
//! settle can always be finished; before that nothing of the server was touched, and it is taken back. Large settles do not
//! wait for the disk: see `unwritten`.

mod fault;
mod history;
mod journal;
mod staging;
mod steps;
mod unwritten;

use std::{
    fs::{self, File, TryLockError},
    io::Read,
    path::{Path, PathBuf},
    thread,
};

use serde::{Deserialize, Serialize};
use yalotheca_core::{
    change::{ChangeSet, Receipt, Step},
    control::{LOCK_FILE, WANTS_FILE},
    hint::Hint,
    id::TreePath,
};

use crate::{
    catalogue::{CatalogueError, Sources},
    tree::{LocalTree, Tree, TreeError},
};
pub use history::{Past, history};
pub use journal::{Outcome, recover};

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
    #[error("{path} was changed while the change was being prepared")]
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
    /// The journal is damaged.
    #[error("{path}: {why}")]
    Journal {
        /// The file.
        path: String,
        /// What is wrong.
        why: String,
    },
    /// A file of the control folder could not be written.
    #[error("writing {path}: {source}")]
    Control {
        /// The file.
        path: String,
        /// Why.
        source: std::io::Error,
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
    fn hint(&self) -> Option<String> {
        match self {
            Self::Tree(error) => error.hint(),
            Self::Catalogue(error) => error.hint(),
            Self::Bytes { .. } => Some("nothing was changed; try again".into()),
            Self::Moved { .. } => Some("nothing was changed; look what writes there, then try again".into()),
            Self::Busy { .. } => Some("wait until it is done".into()),
            Self::Journal { .. } => Some("keep the folder .yalotheca as it is and ask for help".into()),
            Self::Control { .. } => Some("give yourself the right to write there".into()),
            Self::Stuck { .. } => Some("mend the cause; the next command finishes the settle".into()),
        }
    }
}

/// Who settles, when and by which command.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Origin {
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
pub struct Order<'a> {
    /// The steps and the receipt afterwards.
    pub change: &'a ChangeSet,
    /// The receipt before.
    pub receipt_before: &'a Receipt,
    /// The control files before the command.
    pub before: ControlTexts,
    /// The control files after it.
    pub after: ControlTexts,
    /// The control folder.
    pub control: PathBuf,
    /// Who, when, why.
    pub origin: Origin,
}

/// The right to change one server; it ends when this is dropped, or with the process.
#[derive(Debug)]
pub struct Claim {
    _file: File,
}

/// Claims a server, so that two commands never change it at once.
///
/// # Errors
/// Where another one holds it, or the folder cannot be written.
pub fn claim(tree: &LocalTree) -> Result<Claim, SettleError> {
    let folder = own("")?;
    tree.make_folder(&folder)?;
    let path = tree.at(&own("busy")?);
    let failed = |source| TreeError { verb: "writing", path: path.display().to_string(), source };
    let mut file = File::options().create(true).read(true).append(true).open(&path).map_err(failed)?;
    match file.try_lock() {
        Ok(()) => {
            file.set_len(0).map_err(failed)?;
            std::io::Write::write_all(&mut file, format!("process {}\n", std::process::id()).as_bytes())
                .map_err(failed)?;
            Ok(Claim { _file: file })
        }
        Err(TryLockError::WouldBlock) => {
            let mut who = String::new();
            file.read_to_string(&mut who).map_err(failed)?;
            Err(SettleError::Busy { folder: tree.shown(), who: who.trim().to_owned() })
        }
        Err(TryLockError::Error(source)) => Err(failed(source).into()),
    }
}

fn own(name: &str) -> Result<TreePath, SettleError> {
    TreePath::new(&format!("{OWN}/{name}"))
        .map_err(|error| SettleError::Journal { path: OWN.into(), why: error.to_string() })
}

/// Reads the receipt of a server; an empty one where there is none.
///
/// # Errors
/// Where it is there and cannot be read.
pub fn read_receipt(tree: &dyn Tree) -> Result<Receipt, SettleError> {
    let path = own("receipt.json")?;
    match tree.read(&path)? {
        None => Ok(Receipt::empty()),
        Some(bytes) => {
            Receipt::parse(&format!("{}/{path}", tree.shown()), &String::from_utf8_lossy(&bytes)).map_err(
                |error| SettleError::Journal { path: error.file.clone(), why: error.source.to_string() },
            )
        }
    }
}

/// Writes the receipt without a settle: only for `adopt`, which changes nothing on the server.
///
/// # Errors
/// Where it cannot be written.
pub fn write_receipt(tree: &dyn Tree, receipt: &Receipt) -> Result<(), SettleError> {
    tree.make_folder(&own("")?)?;
    Ok(tree.write(&own("receipt.json")?, receipt.text().as_bytes())?)
}

/// Writes a file of the control folder as a whole; nothing removes it.
///
/// # Errors
/// Where it cannot be written.
pub fn write_control(folder: &Path, name: &str, text: Option<&str>) -> Result<(), SettleError> {
    let path = folder.join(name);
    let failed = |source| SettleError::Control { path: path.display().to_string(), source };
    match text {
        Some(text) => {
            let tree = LocalTree::new(folder);
            let at = TreePath::new(name).map_err(|error| failed(std::io::Error::other(error)))?;
            tree.write(&at, text.as_bytes()).map_err(|error| failed(error.source))
        }
        None => match fs::remove_file(&path) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(failed(error)),
            _ => Ok(()),
        },
    }
}

fn write_controls(folder: &Path, texts: &ControlTexts) -> Result<(), SettleError> {
    write_control(folder, LOCK_FILE, texts.lock.as_deref())?;
    write_control(folder, WANTS_FILE, texts.wants.as_deref())
}

/// Carries a change set out and returns the settle's number. `sources` says where each payload file's bytes lie.
///
/// # Errors
/// Where anything fails: then the server is as it was before.
pub fn settle(tree: &LocalTree, order: &Order<'_>, sources: &Sources) -> Result<u32, SettleError> {
    let journal = journal::Journal::begin(tree, order)?;
    // Files may be staged before everything about them is written down: without that, all of it is taken back.
    let prepared = thread::scope(|scope| {
        let written = scope.spawn(|| {
            let written = journal.write_down(tree, order);
            fault::point();
            written
        });
        let staged = steps::check_unchanged(tree, &order.change.steps)
            .and_then(|()| steps::stage(tree, &journal, sources));
        let written = written.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        written.and(staged).and_then(|()| journal.make_durable(tree))
    })
    .and_then(|()| journal.state(tree, "staged"));
    if let Err(error) = prepared {
        journal.take_back(tree).ok();
        return Err(error);
    }
    fault::point();
    if let Err(first) = journal.carry_out(tree) {
        return match journal.roll_back(tree) {
            Ok(()) => Err(first),
            Err(second) => Err(SettleError::Stuck { first: Box::new(first), second: Box::new(second) }),
        };
    }
    journal.finish(tree)?;
    Ok(journal.number())
}

/// Returns the steps of a settle and the receipts and control files around it.
///
/// # Errors
/// Where its journal cannot be read.
pub fn read_settle(
    tree: &LocalTree,
    number: u32,
) -> Result<(Vec<Step>, Receipt, ControlTexts, ControlTexts), SettleError> {
    let journal = journal::Journal::open(tree, number)?;
    Ok((
        journal.steps().to_vec(),
        journal.receipt(tree, "before")?,
        journal.texts(tree, "before")?,
        journal.texts(tree, "after")?,
    ))
}
