//! What goes in: every member's name and size is looked at before a byte of it is kept.

use std::{
    collections::BTreeMap,
    io::{self, Read},
    sync::atomic::{AtomicU64, AtomicUsize, Ordering},
};

use yalotheca_core::route::{link_target, meeting_names, member_path};

use super::{Limits, Member, UnpackError, Unpacked};
use crate::store::Store;

/// A small archive may always grow to so many bytes.
const ALWAYS: u64 = 64 << 20;

/// One unpacking.
pub(super) struct Intake<'a> {
    store: &'a Store,
    /// The archive, as the person knows it.
    archive: &'a str,
    limits: Limits,
    /// How many bytes may come out in all.
    most: u64,
    came: AtomicU64,
    count: AtomicUsize,
}

/// A link inside an archive.
pub(super) struct Link {
    pub(super) path: String,
    pub(super) target: String,
    /// Whether its target is counted from the archive's top.
    pub(super) from_top: bool,
}

impl<'a> Intake<'a> {
    pub(super) fn new(store: &'a Store, archive: &'a str, limits: Limits, packed: u64) -> Self {
        let most = limits.bytes.min(packed.saturating_mul(limits.ratio).saturating_add(ALWAYS));
        Self { store, archive, limits, most, came: AtomicU64::new(0), count: AtomicUsize::new(0) }
    }

    pub(super) fn damaged(&self, why: impl std::fmt::Display) -> UnpackError {
        UnpackError::Damaged { archive: self.archive.into(), why: why.to_string() }
    }

    pub(super) fn unsafe_member(&self, member: &str, why: impl std::fmt::Display) -> UnpackError {
        let member = member.chars().map(|c| if c.is_control() { '\u{fffd}' } else { c }).collect();
        UnpackError::Unsafe { archive: self.archive.into(), member, why: why.to_string() }
    }

    pub(super) fn password(&self, wrong: bool) -> UnpackError {
        UnpackError::Password { archive: self.archive.into(), wrong }
    }

    pub(super) fn too_much(&self, what: String) -> UnpackError {
        UnpackError::TooMuch { archive: self.archive.into(), what }
    }

    /// Looks at the name of a member, and counts it.
    pub(super) fn name(&self, raw: &str) -> Result<String, UnpackError> {
        let most = self.limits.entries;
        if self.count.fetch_add(1, Ordering::Relaxed) >= most {
            return Err(self.too_much(format!("it has more than {most} members")));
        }
        member_path(raw).map_err(|why| self.unsafe_member(raw, why))
    }

    /// Looks at what an archive says of its size, before it is unpacked.
    pub(super) fn will_bring(&self, bytes: u64) -> Result<(), UnpackError> {
        if bytes > self.most { Err(self.swollen()) } else { Ok(()) }
    }

    pub(super) fn swollen(&self) -> UnpackError {
        self.too_much(format!("more than {} MB would come out of it", self.most / 1_000_000))
    }

    /// Returns how many bytes a tar may have: those of its members, and a few blocks for each.
    pub(super) fn most_of_tar(&self) -> u64 {
        const BLOCKS: u64 = 8 * 512;
        self.most
            .saturating_add((self.limits.entries as u64).saturating_mul(BLOCKS))
            .min(self.most.saturating_mul(2).saturating_add(BLOCKS))
    }

    /// Keeps a member's bytes.
    pub(super) fn take(&self, path: String, from: &mut dyn Read) -> Result<Member, UnpackError> {
        let mut counted = Counted { from, came: &self.came, most: self.most };
        let taken = self.store.insert_from(&mut counted)?;
        let (digest, size) = taken.map_err(|error| {
            if self.came.load(Ordering::Relaxed) > self.most {
                self.swollen()
            } else {
                self.damaged(format!("{path}: {error}"))
            }
        })?;
        Ok(Member { path, size, digest })
    }

    /// Keeps a member's bytes, all of them.
    pub(super) fn take_whole(&self, path: String, bytes: &[u8]) -> Result<Member, UnpackError> {
        let size = bytes.len() as u64;
        if self.came.fetch_add(size, Ordering::Relaxed) + size > self.most {
            return Err(self.swollen());
        }
        let digest = self.store.insert_bytes(bytes)?;
        Ok(Member { path, size, digest })
    }

    /// Puts everything together: links become copies of what they lead to.
    pub(super) fn finish(&self, members: Vec<Member>, links: Vec<Link>) -> Result<Unpacked, UnpackError> {
        let mut notes = Vec::new();
        let mut by_path: BTreeMap<String, Member> = BTreeMap::new();
        for member in members {
            let path = member.path.clone();
            if by_path.insert(path.clone(), member).is_some() {
                return Err(self.unsafe_member(&path, "it is in the archive twice"));
            }
        }
        for link in links {
            let start = if link.from_top { "" } else { &link.path };
            let target = link_target(start, &link.target).ok_or_else(|| {
                self.unsafe_member(&link.path, "it is a link that leads out of the archive")
            })?;
            match by_path.get(&target) {
                Some(member) => {
                    let member = Member { path: link.path.clone(), ..member.clone() };
                    by_path.entry(link.path).or_insert(member);
                }
                None => notes.push(format!("{} is a link to {target}, which is no file in it", link.path)),
            }
        }
        let paths: Vec<&str> = by_path.keys().map(String::as_str).collect();
        for group in meeting_names(paths) {
            notes.push(format!("{} are one name on some disks", group.join(" and ")));
        }
        Ok(Unpacked { members: by_path.into_values().collect(), notes })
    }
}

struct Counted<'a> {
    from: &'a mut dyn Read,
    came: &'a AtomicU64,
    most: u64,
}

impl Read for Counted<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.from.read(buffer)?;
        let came = self.came.fetch_add(read as u64, Ordering::Relaxed) + read as u64;
        if came > self.most { Err(io::Error::other("too much comes out of it")) } else { Ok(read) }
    }
}
