//! Answers about all names, kept beside them in the cache: as long as no name has changed, the same question has the same answer.

use std::{
    fs,
    io::{self, Write},
    path::{Path, PathBuf},
};

use yalotheca_core::id::Digest;

use super::{FoundName, NameKind};

/// How the file begins: with the number of its format.
const MAGIC: &[u8; 16] = b"yalotheca-reply1";

/// The number of names that were looked at, and those that were found.
pub(super) type Answer = (usize, Vec<FoundName>);

/// Where the names are kept, and the digest of all of them.
#[derive(Debug, Clone)]
pub(super) struct Kept {
    pub(super) file: PathBuf,
    pub(super) sum: Digest,
}

impl Kept {
    fn place(&self, question: &str) -> (PathBuf, [u8; 80]) {
        let asked = Digest::of(question.as_bytes());
        let mut head = [0; 80];
        head[..16].copy_from_slice(MAGIC);
        head[16..48].copy_from_slice(self.sum.bytes());
        head[48..].copy_from_slice(asked.bytes());
        (self.file.with_extension(format!("reply-{}", asked.short())), head)
    }

    /// Returns the answer to a question, if it was kept and no name has changed since.
    pub(super) fn read(&self, question: &str) -> Option<Answer> {
        let (file, head) = self.place(question);
        read(&file, &head)
    }

    /// Keeps an answer. That this fails costs time only.
    pub(super) fn write(&self, question: &str, answer: &Answer) {
        let (file, head) = self.place(question);
        write(&file, &head, answer).ok();
    }
}

fn read(file: &Path, head: &[u8]) -> Option<Answer> {
    let bytes = fs::read(file).ok()?;
    let (body, sum) = bytes.split_at_checked(bytes.len().checked_sub(32)?)?;
    if blake3::hash(body).as_bytes() != sum {
        return None;
    }
    let (count, rest) = body.strip_prefix(head)?.split_at_checked(8)?;
    let count = usize::try_from(u64::from_le_bytes(count.try_into().ok()?)).ok()?;
    let entry = |entry: &[u8]| {
        let (kind, path) = entry.split_first()?;
        Some(FoundName { path: String::from_utf8(path.to_vec()).ok()?, kind: NameKind::of_byte(*kind) })
    };
    let found = rest.split(|byte| *byte == 0).filter(|part| !part.is_empty());
    Some((count, found.map(entry).collect::<Option<_>>()?))
}

fn write(file: &Path, head: &[u8], (count, found): &Answer) -> io::Result<()> {
    let mut body = head.to_vec();
    body.extend((*count as u64).to_le_bytes());
    for name in found {
        body.push(name.kind.byte());
        body.extend(name.path.as_bytes());
        body.push(0);
    }
    let mut temporary = tempfile::NamedTempFile::new_in(file.parent().unwrap_or(Path::new(".")))?;
    temporary.write_all(&body)?;
    temporary.write_all(blake3::hash(&body).as_bytes())?;
    temporary.persist(file).map(drop).map_err(|error| error.error)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_holds_as_long_as_no_name_has_changed() -> io::Result<()> {
        let folder = tempfile::tempdir()?;
        let kept = |sum: &[u8]| Kept { file: folder.path().join("x.names"), sum: Digest::of(sum) };
        let name = |path: &str, kind| FoundName { path: path.into(), kind };
        let answer = (7, vec![name("a/b", NameKind::File), name("a c", NameKind::Folder)]);
        kept(b"1").write("*.tile", &answer);
        assert_eq!(kept(b"1").read("*.tile"), Some(answer));
        assert_eq!(kept(b"2").read("*.tile"), None);
        assert_eq!(kept(b"1").read("*.hull"), None);
        kept(b"1").write("none", &(0, Vec::new()));
        assert_eq!(kept(b"1").read("none"), Some((0, Vec::new())));
        let (file, _) = kept(b"1").place("*.tile");
        let whole = fs::read(&file)?;
        for at in 0..whole.len() {
            let mut broken = whole.clone();
            broken[at] ^= 1;
            fs::write(&file, &broken)?;
            assert_eq!(kept(b"1").read("*.tile"), None, "byte {at}");
        }
        Ok(())
    }
}
