//! Settles that do not wait for the disk.
//!
//! Until a disk has written several hundred megabytes takes longer than everything else. As long as the machine runs, all
//! that was written is what everybody reads, on the disk or not yet: so a large settle does not wait. It notes in which run
//! of the machine it was made. Should the machine go down before everything is on the disk, the next command sees that this
//! was in another run, and looks at each file that was put: a settle that was under way is taken back where one is
//! damaged, and after one that was done it is told. What nobody could bring again is waited for all the same: the journal,
//! configuration files, the receipt, and what lies where; and the next settle waits for all of the last one before it
//! begins.

use std::fs;

use yalotheca_core::change::Step;

/// So many bytes take a disk a while.
const MUCH: u64 = 64 << 20;

/// One run of a machine, from its start until it goes down.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct BootId(String);

impl BootId {
    /// Returns the present one; nothing on a system that does not tell.
    pub(super) fn of_this_machine() -> Option<Self> {
        Self::parse(&fs::read("/proc/sys/kernel/random/boot_id").ok()?)
    }

    /// Reads what was noted of one; nothing where nothing was.
    pub(super) fn parse(bytes: &[u8]) -> Option<Self> {
        let text = String::from_utf8_lossy(bytes).trim().to_owned();
        (!text.is_empty()).then_some(Self(text))
    }

    /// Returns what is noted of it.
    pub(super) fn text(&self) -> &str {
        &self.0
    }
}

/// Whether steps put so much that nobody should wait for the disk.
pub(super) fn is_much(steps: &[Step]) -> bool {
    let sizes = steps.iter().map(|step| if let Step::Put { size, .. } = step { *size } else { 0 });
    sizes.sum::<u64>() >= MUCH
}
