//! What changes are made of, kept by digest in `.yalotheca/records/`: receipts, the manifests that they name, and the texts of the
//! control files. What several changes have in common is kept once, and a settle writes only what is new.

use std::{
    collections::{BTreeMap, BTreeSet},
    io::Read,
};

use serde::{Deserialize, Serialize};
use yalotheca_core::{
    change::{ReadManifest, ReadReceiptError, Receipt, StoredReceipt},
    id::{ContentId, Digest, TreePath},
};

use super::{ControlTexts, SettleError, SettleOrder, damaged, own};
use crate::{
    threads::{cores, spread},
    tree::{Attributes, LocalTree, Tree},
};

/// The records of one moment: before a change, or after it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Moment {
    pub(super) receipt: Digest,
    pub(super) wants: Option<Digest>,
    pub(super) lock: Option<Digest>,
}

/// What a change was made of, and what it made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Records {
    pub(super) before: Moment,
    pub(super) after: Moment,
}

impl Records {
    pub(super) fn at(&self, when: &str) -> &Moment {
        if when == "before" { &self.before } else { &self.after }
    }
}

/// No control file has more bytes than this.
const MOST: u64 = 256 << 20;
/// So many records a thread takes at a time.
const FEW: usize = 8;

fn place(digest: &Digest, kind: &str) -> Result<TreePath, SettleError> {
    own(&format!("records/{}.{kind}", digest.hex().as_ref()))
}

/// Where a receipt is kept.
pub(super) fn receipt_at(digest: &Digest) -> Result<TreePath, SettleError> {
    place(digest, "receipt")
}

pub(super) fn read_record(
    tree: &LocalTree,
    path: &TreePath,
    digest: &Digest,
) -> Result<Vec<u8>, SettleError> {
    let bytes = tree.read(path)?.ok_or_else(|| damaged(path, &"it is not there"))?;
    if Digest::of(&bytes) == *digest { Ok(bytes) } else { Err(damaged(path, &"it was modified")) }
}

/// A receipt's own file, read. What its manifests say is read when the receipt is asked for.
#[derive(Debug)]
pub struct ReceiptFile(Form);

#[derive(Debug)]
enum Form {
    /// With manifests.
    Stored(StoredReceipt),
    /// Of the first format, which has everything in one file.
    Whole(Receipt),
}

impl ReceiptFile {
    /// Reads one; `file` is its name for messages.
    pub(super) fn parse(file: &str, bytes: &[u8]) -> Result<Self, SettleError> {
        let text = String::from_utf8_lossy(bytes);
        let wrong = |error: ReadReceiptError| SettleError::Journal {
            path: error.file.clone(),
            why: error.source.to_string(),
        };
        Ok(Self(match StoredReceipt::parse(file, &text).map_err(wrong)? {
            Some(stored) => Form::Stored(stored),
            None => Form::Whole(Receipt::parse(file, &text).map_err(wrong)?),
        }))
    }

    /// Returns the receipt.
    ///
    /// # Errors
    /// Where a manifest cannot be read.
    pub fn receipt(&self, tree: &LocalTree) -> Result<Receipt, SettleError> {
        let stored = match &self.0 {
            Form::Stored(stored) => stored,
            Form::Whole(receipt) => return Ok(receipt.clone()),
        };
        let read = |(id, digest): &(&ContentId, &Digest)| {
            let path = place(digest, "manifest")?;
            let bytes = read_record(tree, &path, digest)?;
            let text = std::str::from_utf8(&bytes).map_err(|error| damaged(&path, &error))?;
            ReadManifest::parse(id, text).map_err(|why| damaged(&path, &why))
        };
        let all: Vec<_> = stored.manifests.iter().collect();
        let manifests: Result<Vec<_>, SettleError> = spread(&all, (cores(), FEW), read).into_iter().collect();
        Ok(stored.receipt(manifests?))
    }

    /// Returns the owners of placed files, and the digests with which they were placed. Other paths are left out.
    ///
    /// # Errors
    /// Where a manifest cannot be read.
    pub fn owners(
        &self,
        tree: &LocalTree,
        paths: &BTreeSet<TreePath>,
    ) -> Result<BTreeMap<TreePath, (ContentId, Digest)>, SettleError> {
        let mut owners = BTreeMap::new();
        match &self.0 {
            Form::Whole(receipt) => {
                let placed = paths.iter().filter_map(|path| Some((path, receipt.placed.get(path)?)));
                owners.extend(placed.map(|(path, one)| (path.clone(), (one.content.clone(), one.digest))));
            }
            Form::Stored(_) if paths.is_empty() => {}
            Form::Stored(stored) => {
                for (id, digest) in &stored.manifests {
                    let bytes = read_record(tree, &place(digest, "manifest")?, digest)?;
                    ReadManifest::each_placed(&String::from_utf8_lossy(&bytes), |at, digest| {
                        if let (Some(path), Ok(digest)) = (paths.get(at), Digest::parse(digest)) {
                            owners.insert(path.clone(), (id.clone(), digest));
                        }
                    });
                }
            }
        }
        Ok(owners)
    }

    /// Returns whether it names no content and no entry.
    pub fn is_empty(&self) -> bool {
        match &self.0 {
            Form::Stored(stored) => stored.manifests.is_empty(),
            Form::Whole(receipt) => receipt.contents.is_empty() && receipt.entries.is_empty(),
        }
    }
}

/// Returns the names of the records that a receipt's file, and what it names, lie in.
pub(super) fn named_by(path: &TreePath, bytes: &[u8]) -> Result<BTreeSet<String>, SettleError> {
    let stored = StoredReceipt::parse(path.as_str(), &String::from_utf8_lossy(bytes))
        .map_err(|error| damaged(path, &error.source))?;
    let manifests = stored.into_iter().flat_map(|stored| stored.manifests.into_values());
    Ok(manifests.map(|digest| format!("{digest}.manifest")).collect())
}

/// Makes sure that a receipt is kept as it was written.
pub(super) fn check_receipt(tree: &LocalTree, digest: &Digest) -> Result<(), SettleError> {
    read_record(tree, &receipt_at(digest)?, digest).map(drop)
}

/// Returns a receipt that a change was made on, or made.
pub(super) fn receipt(tree: &LocalTree, digest: &Digest) -> Result<Receipt, SettleError> {
    let path = receipt_at(digest)?;
    ReceiptFile::parse(path.as_str(), &read_record(tree, &path, digest)?)?.receipt(tree)
}

/// Returns the control files of a moment.
pub(super) fn texts(tree: &LocalTree, moment: &Moment) -> Result<ControlTexts, SettleError> {
    let read = |digest: &Option<Digest>| -> Result<Option<String>, SettleError> {
        let Some(digest) = digest else { return Ok(None) };
        let path = place(digest, "zst")?;
        let packed = tree.read(&path)?.ok_or_else(|| damaged(&path, &"it is not there"))?;
        let mut bytes = Vec::new();
        zstd::Decoder::new(packed.as_slice())
            .and_then(|decoder| decoder.take(MOST).read_to_end(&mut bytes))
            .map_err(|error| damaged(&path, &error))?;
        if Digest::of(&bytes) != *digest {
            return Err(damaged(&path, &"it was modified"));
        }
        Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
    };
    Ok(ControlTexts { wants: read(&moment.wants)?, lock: read(&moment.lock)? })
}

/// Records that are being written: under other names until all of them are on the disk.
pub(super) struct Writing<'a> {
    tree: &'a LocalTree,
    waiting: TreePath,
    shared: Attributes,
    /// By the names that they get, the names under which they wait.
    written: BTreeMap<TreePath, TreePath>,
}

impl<'a> Writing<'a> {
    /// Begins; `waiting` is a folder of ours.
    pub(super) fn begin(tree: &'a LocalTree, waiting: TreePath) -> Result<Self, SettleError> {
        let shared = tree.own_attributes()?;
        tree.make_folder(&own("records")?)?;
        tree.make_folder(&waiting)?;
        Ok(Self { tree, waiting, shared, written: BTreeMap::new() })
    }

    fn put(&mut self, path: TreePath, bytes: &[u8], attributes: Attributes) -> Result<(), SettleError> {
        // One that is damaged is written again.
        let is_there = || Ok::<bool, SettleError>(self.tree.read(&path)?.is_some_and(|there| there == bytes));
        if self.written.contains_key(&path) || is_there()? {
            return Ok(());
        }
        let waits = self.waiting.join(path.name()).map_err(|error| damaged(&path, &error))?;
        self.tree.put(bytes, &waits, &attributes)?;
        self.written.insert(path, waits);
        Ok(())
    }

    /// Writes a receipt and its manifests, and returns the receipt's digest and text.
    pub(super) fn receipt(&mut self, receipt: &Receipt) -> Result<(Digest, String), SettleError> {
        let (stored, manifests) = receipt.stored();
        for (digest, text) in &manifests {
            self.put(place(digest, "manifest")?, text.as_bytes(), self.shared)?;
        }
        let text = stored.text();
        let digest = Digest::of(text.as_bytes());
        self.put(receipt_at(&digest)?, text.as_bytes(), self.shared)?;
        Ok((digest, text))
    }

    fn text(&mut self, text: Option<&String>) -> Result<Option<Digest>, SettleError> {
        let Some(text) = text else { return Ok(None) };
        let digest = Digest::of(text.as_bytes());
        let path = place(&digest, "zst")?;
        let packed = zstd::encode_all(text.as_bytes(), 0).map_err(|error| damaged(&path, &error))?;
        // There may be secrets in it.
        self.put(path, &packed, self.shared.secret())?;
        Ok(Some(digest))
    }

    /// Waits until all of it is on the disk, and gives it its names.
    pub(super) fn finish(self) -> Result<(), SettleError> {
        let Self { tree, written, waiting, .. } = self;
        let files: Vec<&TreePath> = written.values().collect();
        // Several at a time, since a disk takes them in groups.
        for synced in spread(&files, (8, FEW), |file| tree.sync_file(file)) {
            synced?;
        }
        for (path, waits) in &written {
            tree.rename(waits, path)?;
        }
        tree.sync_file(&own("records")?)?;
        Ok(tree.remove_all(&waiting)?)
    }
}

/// Writes down what a change is made of and what it makes.
pub(super) fn write(
    tree: &LocalTree,
    order: &SettleOrder<'_>,
    waiting: TreePath,
) -> Result<Records, SettleError> {
    let mut records = Writing::begin(tree, waiting)?;
    let before = match order.receipt_digest {
        // It is the one that lies there.
        Some(digest) => {
            tree.keep(&own("receipt.json")?, &receipt_at(&digest)?)?;
            digest
        }
        None => records.receipt(&Receipt::empty())?.0,
    };
    let before = Moment {
        receipt: before,
        wants: records.text(order.before.wants.as_ref())?,
        lock: records.text(order.before.lock.as_ref())?,
    };
    let after = Moment {
        receipt: records.receipt(&order.change.receipt)?.0,
        wants: records.text(order.after.wants.as_ref())?,
        lock: records.text(order.after.lock.as_ref())?,
    };
    records.finish()?;
    Ok(Records { before, after })
}
