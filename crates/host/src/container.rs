//! What a file is, by its first bytes. Its name is only believed to differ.

/// The sorts of archives and compressed files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Container {
    /// A zip archive.
    Zip,
    /// A 7z archive.
    SevenZ,
    /// A tar archive.
    Tar,
    /// One file or a tar, compressed by gzip.
    Gzip,
    /// One file or a tar, compressed by bzip2.
    Bzip2,
    /// One file or a tar, compressed by xz.
    Xz,
    /// One file or a tar, compressed by Zstandard.
    Zstd,
    /// A RAR archive, which is only recognised.
    Rar,
}

impl Container {
    /// Returns what people call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Zip => "a zip archive",
            Self::SevenZ => "a 7z archive",
            Self::Tar => "a tar archive",
            Self::Gzip => "a gzip file",
            Self::Bzip2 => "a bzip2 file",
            Self::Xz => "an xz file",
            Self::Zstd => "a Zstandard file",
            Self::Rar => "a RAR archive",
        }
    }

    /// Returns whether it holds one file or a tar and nothing else.
    pub fn is_compression(self) -> bool {
        matches!(self, Self::Gzip | Self::Bzip2 | Self::Xz | Self::Zstd)
    }
}

/// How many bytes [`sniff`] wants to see.
pub const HEAD: usize = 512;

/// Returns what a file that begins so is.
pub fn sniff(head: &[u8]) -> Option<Container> {
    const BY_HEAD: &[(&[u8], Container)] = &[
        (b"PK\x03\x04", Container::Zip),
        (b"PK\x05\x06", Container::Zip),
        (b"7z\xbc\xaf\x27\x1c", Container::SevenZ),
        (b"\x1f\x8b", Container::Gzip),
        (b"BZh", Container::Bzip2),
        (b"\xfd7zXZ\0", Container::Xz),
        (b"\x28\xb5\x2f\xfd", Container::Zstd),
        (b"Rar!\x1a\x07", Container::Rar),
    ];
    let known = BY_HEAD.iter().find(|(magic, _)| head.starts_with(magic)).map(|(_, container)| *container);
    known.or_else(|| is_tar(head).then_some(Container::Tar))
}

/// A tar's first block holds the sum of its own bytes.
fn is_tar(head: &[u8]) -> bool {
    let Some(block) = head.get(..HEAD) else { return false };
    let text: String = block[148..156].iter().map(|byte| char::from(*byte)).collect();
    let told = u32::from_str_radix(text.trim_matches(['\0', ' ']), 8);
    let sum = block
        .iter()
        .enumerate()
        .map(|(at, byte)| if (148..156).contains(&at) { 32 } else { u32::from(*byte) });
    block[0] != 0 && told == Ok(sum.sum())
}

/// Returns what a file's name says it is.
pub fn by_name(name: &str) -> Option<Container> {
    let name = name.to_ascii_lowercase();
    let by_suffix = [
        (&["zip"] as &[&str], Container::Zip),
        (&["7z"], Container::SevenZ),
        (&["tar"], Container::Tar),
        (&["gz", "tgz"], Container::Gzip),
        (&["bz2", "tbz2", "tbz"], Container::Bzip2),
        (&["xz", "txz"], Container::Xz),
        (&["zst", "tzst"], Container::Zstd),
        (&["rar"], Container::Rar),
    ];
    let suffix = name.rsplit_once('.')?.1;
    by_suffix.into_iter().find(|(suffixes, _)| suffixes.contains(&suffix)).map(|(_, container)| container)
}

/// Returns a file's name without what says that it is an archive: `festival.tar.gz` becomes `festival`.
pub fn bare_name(name: &str) -> &str {
    let cut = |name: &'_ str| by_name(name).and_then(|_| name.rfind('.')).filter(|at| *at > 0);
    let once = cut(name).map_or(name, |at| &name[..at]);
    if once != name && once.to_ascii_lowercase().ends_with(".tar") { &once[..once.len() - 4] } else { once }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn by_bytes_and_by_name() {
        let mut tar = tar::Builder::new(Vec::new());
        let mut header = tar::Header::new_old();
        header.set_size(1);
        header.set_cksum();
        tar.append_data(&mut header, "a", &b"x"[..]).unwrap();
        assert_eq!(sniff(&tar.into_inner().unwrap()), Some(Container::Tar));
        assert_eq!(sniff(b"Rar!\x1a\x07\x01\0"), Some(Container::Rar));
        assert_eq!(sniff(b"PK"), None);
        assert_eq!(sniff(&[0; 512]), None);
        assert_eq!(by_name("a.TGZ"), Some(Container::Gzip));
        assert_eq!(by_name("a.kmap"), None);
        for (name, bare) in [
            ("festival.tar.gz", "festival"),
            ("a.b.zip", "a.b"),
            ("x.kmap.bz2", "x.kmap"),
            (".zip", ".zip"),
            ("x", "x"),
        ] {
            assert_eq!(bare_name(name), bare);
        }
    }
}
