//! What changes are made of, kept by digest in `.yalotheca/records/`: receipts, the manifests that they name, and the texts of the
//! control files. What several changes have in common is kept once, and a settle writes only what is new.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    io::Read,
    path::Path,
};

use serde::{Deserialize, Serialize};
use yalotheca_core::{
    change::{ReadManifest, ReadReceiptError, Receipt, StoredReceipt},
    id::{ContentId, Digest, TreePath},
};

use super::{
    ControlTexts, SettleError, SettleOrder, damaged, own,
    owners::{self, PlacedFiles},
};
use crate::{
    threads::{cores, spread},
    tree::{Access, Flush, Tree, Upload, UploadError},
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

pub(super) fn read_record(tree: &dyn Tree, path: &TreePath, digest: &Digest) -> Result<Vec<u8>, SettleError> {
    let bytes = tree.read_file(path)?.ok_or_else(|| damaged(path, &"it is not there"))?;
    if Digest::of(&bytes) == *digest { Ok(bytes) } else { Err(damaged(path, &"it was modified")) }
}

/// Reads the manifests with some digests.
fn read_manifests<'a>(
    tree: &dyn Tree,
    digests: impl Iterator<Item = &'a Digest> + Clone,
) -> Result<Vec<(TreePath, Vec<u8>)>, SettleError> {
    let paths: Vec<TreePath> =
        digests.clone().map(|digest| place(digest, "manifest")).collect::<Result<_, _>>()?;
    let read = tree.read(&paths)?;
    let verified = |((path, bytes), digest): ((TreePath, Option<Vec<u8>>), &Digest)| {
        let bytes = bytes.ok_or_else(|| damaged(&path, &"it is not there"))?;
        if Digest::of(&bytes) == *digest {
            Ok((path, bytes))
        } else {
            Err(damaged(&path, &"it was modified"))
        }
    };
    paths.into_iter().zip(read).zip(digests).map(verified).collect()
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
    pub fn receipt(&self, tree: &dyn Tree) -> Result<Receipt, SettleError> {
        let stored = match &self.0 {
            Form::Stored(stored) => stored,
            Form::Whole(receipt) => return Ok(receipt.clone()),
        };
        let read = |all: &[(&ContentId, &Digest)]| {
            let read = read_manifests(tree, all.iter().map(|(_, digest)| *digest))?.into_iter().zip(all);
            let parse = |((path, bytes), (id, _)): ((TreePath, Vec<u8>), &(&ContentId, &Digest))| {
                let text = std::str::from_utf8(&bytes).map_err(|error| damaged(&path, &error))?;
                ReadManifest::parse(id, text).map_err(|why| damaged(&path, &why))
            };
            read.map(parse).collect::<Result<Vec<_>, SettleError>>()
        };
        let all: Vec<_> = stored.manifests.iter().collect();
        // Far away, all of them in one go; near by, on all cores.
        let parts: Vec<_> = all.chunks(if tree.local().is_some() { FEW } else { all.len().max(1) }).collect();
        let manifests: Result<Vec<_>, SettleError> =
            spread(&parts, (cores(), 1), |part| read(part)).into_iter().collect();
        let manifests: Result<Vec<_>, SettleError> =
            manifests.map(|parts| parts.into_iter().flatten().collect());
        Ok(stored.receipt(manifests?))
    }

    /// Returns the owners of placed files, and the files' digests when placed. Other paths are left out. `index` is the cache
    /// file that keeps them for a receipt, and this receipt's digest.
    ///
    /// # Errors
    /// Where a manifest cannot be read.
    pub fn owners(
        &self,
        tree: &dyn Tree,
        paths: &BTreeSet<TreePath>,
        index: Option<(&Path, &Digest)>,
    ) -> Result<BTreeMap<TreePath, (ContentId, Digest)>, SettleError> {
        let mut owners = BTreeMap::new();
        let stored = match &self.0 {
            Form::Whole(receipt) => {
                let placed = paths.iter().filter_map(|path| Some((path, receipt.placed.get(path)?)));
                owners.extend(placed.map(|(path, one)| (path.clone(), (one.content.clone(), one.digest))));
                return Ok(owners);
            }
            Form::Stored(_) if paths.is_empty() => return Ok(owners),
            Form::Stored(stored) => stored,
        };
        // Reading a few manifests is just as fast.
        let index = index.filter(|_| tree.local().is_some() && stored.manifests.len() > FEW);
        if let Some(found) = index.and_then(|(file, receipt)| owners::read(file, receipt, paths)) {
            return Ok(found);
        }
        let placed_in = |bytes: &[u8]| {
            let mut placed = PlacedFiles::new();
            ReadManifest::each_placed(bytes, |at, digest| {
                let digest = std::str::from_utf8(digest).ok().map(Digest::parse);
                placed.extend(digest.and_then(Result::ok).map(|digest| (at.to_vec(), digest)));
            });
            placed
        };
        // On a remote server one request fetches all of them; here each thread reads and verifies its own.
        let digests: Vec<&Digest> = stored.manifests.values().collect();
        let placed: Vec<_> = if tree.local().is_none() {
            read_manifests(tree, digests.into_iter())?.iter().map(|(_, bytes)| placed_in(bytes)).collect()
        } else {
            let one = |digest: &&Digest| {
                let read = read_manifests(tree, std::iter::once(*digest))?;
                Ok(read.iter().flat_map(|(_, bytes)| placed_in(bytes)).collect())
            };
            spread(&digests, (cores(), 4), one).into_iter().collect::<Result<_, SettleError>>()?
        };
        let wanted: HashMap<&[u8], &TreePath, foldhash::fast::RandomState> =
            paths.iter().map(|path| (path.as_str().as_bytes(), path)).collect();
        let placed: Vec<(&ContentId, PlacedFiles)> = stored.manifests.keys().zip(placed).collect();
        for (id, files) in &placed {
            for (path, digest) in files {
                if let Some(path) = wanted.get(path.as_slice()) {
                    owners.insert((*path).clone(), ((*id).clone(), *digest));
                }
            }
        }
        if let Some((file, receipt)) = index {
            // Failing to save it only costs time.
            owners::write(file, receipt, &placed).ok();
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
pub(super) fn check_receipt(tree: &dyn Tree, digest: &Digest) -> Result<(), SettleError> {
    read_record(tree, &receipt_at(digest)?, digest).map(drop)
}

/// Returns a receipt that a change was made on, or made.
pub(super) fn receipt(tree: &dyn Tree, digest: &Digest) -> Result<Receipt, SettleError> {
    let path = receipt_at(digest)?;
    ReceiptFile::parse(path.as_str(), &read_record(tree, &path, digest)?)?.receipt(tree)
}

/// Returns the control files of a moment.
pub(super) fn texts(tree: &dyn Tree, moment: &Moment) -> Result<ControlTexts, SettleError> {
    let read = |digest: &Option<Digest>| -> Result<Option<String>, SettleError> {
        let Some(digest) = digest else { return Ok(None) };
        let path = place(digest, "zst")?;
        let packed = tree.read_file(&path)?.ok_or_else(|| damaged(&path, &"it is not there"))?;
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

/// Records that are going to be written: under other names until all of them are on the disk.
pub(super) struct Writing<'a> {
    tree: &'a dyn Tree,
    waiting: TreePath,
    /// By the names that they get.
    records: BTreeMap<TreePath, (Vec<u8>, Access<'static>)>,
}

impl<'a> Writing<'a> {
    /// Begins; `waiting` is a folder of ours.
    pub(super) fn begin(tree: &'a dyn Tree, waiting: TreePath) -> Self {
        Self { tree, waiting, records: BTreeMap::new() }
    }

    /// Adds a receipt and its manifests, and returns the receipt's digest and text.
    pub(super) fn receipt(&mut self, receipt: &Receipt) -> Result<(Digest, String), SettleError> {
        let (stored, manifests) = receipt.stored();
        for (digest, text) in manifests {
            self.records.insert(place(&digest, "manifest")?, (text.into_bytes(), Access::Own));
        }
        let text = stored.text();
        let digest = Digest::of(text.as_bytes());
        self.records.insert(receipt_at(&digest)?, (text.clone().into_bytes(), Access::Own));
        Ok((digest, text))
    }

    fn text(&mut self, text: Option<&String>) -> Result<Option<Digest>, SettleError> {
        let Some(text) = text else { return Ok(None) };
        let digest = Digest::of(text.as_bytes());
        let path = place(&digest, "zst")?;
        let packed = zstd::encode_all(text.as_bytes(), 0).map_err(|error| damaged(&path, &error))?;
        // There may be secrets in it.
        self.records.insert(path, (packed, Access::Secret));
        Ok(Some(digest))
    }

    /// Writes those that are not there, waits until all are on the disk, and gives them their names.
    pub(super) fn finish(self) -> Result<(), SettleError> {
        let tree = self.tree;
        upload(tree, &self.finish_or_leave()?)
    }

    /// The same; but over a network, returns what is still to be uploaded: others may go with it.
    fn finish_or_leave(self) -> Result<Vec<NewRecord>, SettleError> {
        let Self { tree, mut records, waiting } = self;
        let paths: Vec<TreePath> = records.keys().cloned().collect();
        // One that is damaged is written again.
        for (path, there) in paths.iter().zip(tree.digest(&paths)?) {
            let is_there =
                |(bytes, _): &(Vec<u8>, _)| there.is_some_and(|(there, _)| there == Digest::of(bytes));
            if records.get(path).is_some_and(is_there) {
                records.remove(path);
            }
        }
        tree.create_folder(&own("records")?)?;
        if records.is_empty() {
            return Ok(Vec::new());
        }
        // Over a network they get their names at once: one that is torn is known by its digest, and nothing names it yet.
        if tree.local().is_none() {
            let new = |(path, (bytes, access))| NewRecord { path, bytes, access };
            return Ok(records.into_iter().map(new).collect());
        }
        tree.create_folder(&waiting)?;
        let waits: Vec<TreePath> = records
            .keys()
            .map(|path| waiting.join(path.name()).map_err(|error| damaged(path, &error)))
            .collect::<Result<_, _>>()?;
        let (names, waiting_records): (Vec<TreePath>, Vec<NewRecord>) = records
            .into_iter()
            .zip(&waits)
            .map(|((name, (bytes, access)), path)| (name, NewRecord { path: path.clone(), bytes, access }))
            .unzip();
        upload(tree, &waiting_records)?;
        tree.flush(Flush::Entries(&waits))?;
        tree.rename(&waits.iter().zip(&names).collect::<Vec<_>>())?;
        tree.flush(Flush::Entries(&[own("records")?]))?;
        tree.remove_all(&waiting)?;
        Ok(Vec::new())
    }
}

/// A file of ours that is to be written.
#[derive(Debug)]
pub(super) struct NewRecord {
    pub(super) path: TreePath,
    pub(super) bytes: Vec<u8>,
    pub(super) access: Access<'static>,
}

/// Writes files of ours.
pub(super) fn upload(tree: &dyn Tree, records: &[NewRecord]) -> Result<(), SettleError> {
    let uploads: Vec<Upload<'_>> =
        records.iter().map(|record| Upload::of_bytes(&record.path, &record.bytes, record.access)).collect();
    tree.upload(&uploads).map_err(|error| match error {
        UploadError::Tree(error) => error.into(),
        UploadError::Bytes { index, why } => damaged(&records[index].path, &why),
    })
}

/// Writes down what a change is made of and what it makes. Over a network, what is still to be uploaded is returned as well.
pub(super) fn write(
    tree: &dyn Tree,
    order: &SettleOrder<'_>,
    waiting: TreePath,
) -> Result<(Records, Vec<NewRecord>), SettleError> {
    let mut records = Writing::begin(tree, waiting);
    let before = match order.receipt_digest {
        // It is the one that lies there.
        Some(digest) => {
            tree.create_folder(&own("records")?)?;
            tree.duplicate(&own("receipt.json")?, &receipt_at(&digest)?)?;
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
    let left = records.finish_or_leave()?;
    Ok((Records { before, after }, left))
}
