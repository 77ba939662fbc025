//! The receipt as it is kept: a small file that names, for each owner, the digest of its manifest; and the manifests, plain texts
//! that change only with what they tell of. So a settle writes down what changed, and what does not ask for files reads none of it.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use serde::{Deserialize, Serialize};

use super::receipt::{OwnedEntry, Placed, ReadReceiptError, Receipt, Settled};
use memchr::{memchr, memchr_iter};

use crate::{
    id::{ContentId, Digest, TreePath},
    route::{Payload, PayloadFile},
};

/// The first line of a manifest.
const HEAD: &str = "yalotheca manifest 1";
/// The format of receipts that have manifests.
const FORMAT: u32 = 2;

/// A receipt's own file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StoredReceipt {
    /// The format's number.
    pub format: u32,
    /// The manifests of all that own something.
    #[serde(default)]
    pub manifests: BTreeMap<ContentId, Digest>,
    /// Whose entry comes when, where that is not simply by owner.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub entries: Vec<ContentId>,
    /// Configuration files that did not exist before us, with what they began with.
    #[serde(default)]
    pub created: BTreeMap<TreePath, String>,
    /// Folders that did not exist before us and in which no owner has a file.
    #[serde(default)]
    pub folders: BTreeSet<TreePath>,
}

/// The files and entries of one owner.
#[derive(Debug, Default)]
struct Manifest<'a> {
    settled: Option<&'a Settled>,
    entries: Vec<&'a OwnedEntry>,
    folders: Vec<&'a TreePath>,
    placed: Vec<(&'a TreePath, &'a Placed)>,
}

/// Escapes what would end a field or a line.
fn put_field(into: &mut String, field: &str) {
    if !field.contains(['\\', '\n', '\r', '\t']) {
        return into.push_str(field);
    }
    for c in field.chars() {
        match c {
            '\\' => into.push_str("\\\\"),
            '\n' => into.push_str("\\n"),
            '\r' => into.push_str("\\r"),
            '\t' => into.push_str("\\t"),
            other => into.push(other),
        }
    }
}

fn field(text: &str) -> Result<String, String> {
    if !text.contains('\\') {
        return Ok(text.to_owned());
    }
    let mut plain = String::with_capacity(text.len());
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        plain.push(match c {
            '\\' => match chars.next() {
                Some('\\') => '\\',
                Some('n') => '\n',
                Some('r') => '\r',
                Some('t') => '\t',
                _ => return Err("a backslash stands alone".into()),
            },
            other => other,
        });
    }
    Ok(plain)
}

impl Manifest<'_> {
    /// One line a file: its digest, its size, its path in the payload, its place on the server, and where it was told to go.
    fn text(&self) -> String {
        let files = self.settled.map_or(&[][..], |settled| &settled.payload().files);
        let mut text = String::with_capacity(64 + 160 * files.len().max(self.placed.len()));
        text.extend([HEAD, "\n"]);
        if let Some(settled) = self.settled {
            text.extend(["settled ", &settled.digest().hex(), "\n"]);
        }
        for entry in &self.entries {
            // Plain data whose map keys are texts always becomes JSON, in one line.
            text.extend(["entry ", &serde_json::to_string(entry).unwrap_or_default(), "\n"]);
        }
        for folder in &self.folders {
            text.push_str("folder ");
            put_field(&mut text, folder.as_str());
            text.push('\n');
        }
        // Mostly a placed file is one of the payload's: then they share a line.
        let mut placed: BTreeMap<(&Digest, u64), Vec<&TreePath>> = BTreeMap::new();
        for (path, one) in self.placed.iter().rev() {
            placed.entry((&one.digest, one.size)).or_default().push(path);
        }
        let mut line = |digest: &Digest, size: u64, fields: [Option<&str>; 3]| {
            text.extend(["file ", &digest.hex(), "\t", &size.to_string()]);
            let last = fields.iter().rposition(Option::is_some).map_or(0, |last| last + 1);
            for field in &fields[..last] {
                text.push('\t');
                put_field(&mut text, field.unwrap_or_default());
            }
            text.push('\n');
        };
        for file in files {
            let at = placed.get_mut(&(&file.digest, file.size)).and_then(Vec::pop);
            let to = file.to.as_ref().map(TreePath::as_str);
            line(&file.digest, file.size, [Some(&file.path), at.map(TreePath::as_str), to]);
        }
        for ((digest, size), paths) in &placed {
            for path in paths.iter().rev() {
                line(digest, *size, [None, Some(path.as_str()), None]);
            }
        }
        text
    }
}

impl Receipt {
    /// Returns the receipt's own file and the manifests by their digests.
    pub fn stored(&self) -> (StoredReceipt, BTreeMap<Digest, String>) {
        let mut manifests: BTreeMap<&ContentId, Manifest<'_>> = BTreeMap::new();
        for (id, settled) in &self.contents {
            manifests.entry(id).or_default().settled = Some(settled);
        }
        for entry in &self.entries {
            manifests.entry(&entry.content).or_default().entries.push(entry);
        }
        for (path, placed) in self.placed.iter() {
            manifests.entry(&placed.content).or_default().placed.push((path, placed));
        }
        let owners = self.folder_owners();
        let mut stored =
            StoredReceipt { format: FORMAT, created: self.created.clone(), ..Default::default() };
        for folder in &self.folders {
            match owners.get(folder.as_str()) {
                Some(owner) => manifests.entry(owner).or_default().folders.push(folder),
                None => drop(stored.folders.insert(folder.clone())),
            }
        }
        let is_by_owner = self.entries.is_sorted_by_key(|entry| &entry.content);
        if !is_by_owner {
            stored.entries = self.entries.iter().map(|entry| entry.content.clone()).collect();
        }
        let mut texts = BTreeMap::new();
        for (id, manifest) in manifests {
            let text = manifest.text();
            let digest = Digest::of(text.as_bytes());
            stored.manifests.insert(id.clone(), digest);
            texts.insert(digest, text);
        }
        (stored, texts)
    }

    /// Returns in whose manifest each folder stands: of all that have a file below it, the first by name.
    fn folder_owners(&self) -> BTreeMap<&str, &ContentId> {
        fn outer(path: &str) -> Option<&str> {
            path.rsplit_once('/').map(|(folder, _)| folder)
        }
        let mut owners: BTreeMap<&str, &ContentId> = BTreeMap::new();
        let mut last = None;
        for (path, Placed { content, .. }) in self.placed.iter() {
            let mut next = outer(path.as_str());
            if last == Some((next, content)) {
                continue;
            }
            last = Some((next, content));
            while let Some(folder) = next {
                if owners.get(folder).is_some_and(|owner| *owner <= content) {
                    break;
                }
                owners.insert(folder, content);
                next = outer(folder);
            }
        }
        owners
    }
}

impl StoredReceipt {
    /// Reads a receipt's own file; `file` is its name for messages. Nothing where it is of the first format, which has no manifests.
    ///
    /// # Errors
    /// Where it is not JSON of that shape.
    pub fn parse(file: &str, text: &str) -> Result<Option<Self>, ReadReceiptError> {
        #[derive(Deserialize)]
        struct Format {
            format: u32,
        }
        let failed = |source| ReadReceiptError { file: file.into(), source };
        let Format { format } = serde_json::from_str(text).map_err(failed)?;
        match format {
            0 | 1 => Ok(None),
            FORMAT => serde_json::from_str(text).map(Some).map_err(failed),
            other => Err(failed(serde::de::Error::custom(format!(
                "it has the format {other}, and this version of Yalotheca knows up to {FORMAT}"
            )))),
        }
    }

    /// Returns the file's text.
    pub fn text(&self) -> String {
        // Plain data whose map keys are texts always becomes JSON.
        serde_json::to_string_pretty(self).unwrap_or_default() + "\n"
    }

    /// Returns the receipt of these manifests, all that it names, in the order of their owners.
    pub fn receipt(&self, manifests: Vec<ReadManifest>) -> Receipt {
        let mut entries: BTreeMap<ContentId, std::vec::IntoIter<OwnedEntry>> = BTreeMap::new();
        let mut contents = Vec::with_capacity(manifests.len());
        let mut placed = Vec::with_capacity(manifests.iter().map(|read| read.placed.len()).sum());
        let mut folders = self.folders.clone();
        for read in manifests {
            contents.extend(read.settled.map(|settled| (read.owner.clone(), settled)));
            placed.extend(read.placed);
            folders.extend(read.folders);
            if !read.entries.is_empty() {
                entries.insert(read.owner, read.entries.into_iter());
            }
        }
        let mut ordered = Vec::new();
        for id in &self.entries {
            ordered.extend(entries.get_mut(id).and_then(Iterator::next));
        }
        ordered.extend(entries.into_values().flatten());
        placed.sort_by(|a, b| a.0.cmp(&b.0));
        Receipt {
            format: 1,
            contents: contents.into_iter().collect(),
            placed: Arc::new(placed.into_iter().collect()),
            entries: ordered,
            created: self.created.clone(),
            folders,
        }
    }
}

/// What a manifest says.
#[derive(Debug)]
pub struct ReadManifest {
    owner: ContentId,
    settled: Option<Settled>,
    entries: Vec<OwnedEntry>,
    placed: Vec<(TreePath, Placed)>,
    folders: Vec<TreePath>,
}

impl ReadManifest {
    /// Calls a function with the place and the digest of each placed file in a manifest's text; lines that are none are passed over.
    pub fn each_placed(text: &[u8], mut act: impl FnMut(&[u8], &[u8])) {
        let mut start = 0;
        while let Some(rest) = text.get(start..).filter(|rest| !rest.is_empty()) {
            let end = memchr(b'\n', rest).unwrap_or(rest.len());
            start += end + 1;
            let Some(line) = rest[..end].strip_prefix(b"file ") else { continue };
            let mut tabs = memchr_iter(b'\t', line);
            let (Some(first), Some(third)) = (tabs.next(), tabs.nth(1)) else { continue };
            let at = &line[third + 1..tabs.next().unwrap_or(line.len())];
            if memchr(b'\\', at).is_none() {
                act(at, &line[..first]);
            } else if let Some(Ok(at)) = std::str::from_utf8(at).ok().map(field) {
                act(at.as_bytes(), &line[..first]);
            }
        }
    }

    /// Reads the text of an owner's manifest.
    ///
    /// # Errors
    /// Where it is none, with the line.
    pub fn parse(owner: &ContentId, text: &str) -> Result<Self, String> {
        let mut lines = text.lines();
        if lines.next() != Some(HEAD) {
            return Err(format!("it does not begin with {HEAD:?}"));
        }
        let (entries, placed, folders) = (Vec::new(), Vec::new(), Vec::new());
        let mut read = Self { owner: owner.clone(), settled: None, entries, placed, folders };
        let (mut files, mut settled) = (Vec::new(), None);
        for (at, line) in lines.enumerate() {
            let (word, rest) = line.split_once(' ').unwrap_or((line, ""));
            let done = match word {
                "file" => read.file(rest).map(|file| files.extend(file)),
                "folder" => path_of(rest).map(|path| read.folders.push(path)),
                "entry" => serde_json::from_str(rest)
                    .map(|entry| read.entries.push(entry))
                    .map_err(|error| error.to_string()),
                "settled" => Digest::parse(rest)
                    .map(|digest| settled = Some(digest))
                    .map_err(|error| error.to_string()),
                _ => Err("it begins with no word that manifests have".into()),
            };
            done.map_err(|why| format!("line {}: {why}", at + 2))?;
        }
        read.settled = settled.map(|digest| Settled::known(Payload { files }, digest));
        Ok(read)
    }

    fn file(&mut self, line: &str) -> Result<Option<PayloadFile>, String> {
        let mut fields = line.split('\t');
        let mut next = || fields.next().filter(|field| !field.is_empty());
        let digest = next().ok_or("the digest is missing")?;
        let digest = Digest::parse(digest).map_err(|error| error.to_string())?;
        let size = next().ok_or("the size is missing")?;
        let size: u64 = size.parse().map_err(|_| "the size is no number")?;
        let (inside, at, to) = (next(), next(), next());
        if let Some(at) = at {
            let content = self.owner.clone();
            self.placed.push((path_of(at)?, Placed { content, size, digest }));
        }
        let to = to.map(path_of).transpose()?;
        inside.map(|inside| Ok(PayloadFile { path: field(inside)?, size, digest, to })).transpose()
    }
}

fn path_of(text: &str) -> Result<TreePath, String> {
    TreePath::new(&field(text)?).map_err(|error| error.to_string())
}
