//! Plans how resource packs merge: which file comes from which pack, and which files are merged by structure.
//!
//! A pure function over the packs' lists of files. The first pack has the highest priority. The caller copies files and
//! merges texts with [`merge_texts`].

mod texts;

use std::collections::{BTreeMap, BTreeSet};

use globset::GlobMatcher;
use serde::Serialize;

pub use texts::{KeyConflict, MergedText, merge_texts};

/// A file in a pack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackEntry {
    /// Its path, without any wrapping folder.
    pub path: String,
    /// Its size.
    pub size: u64,
    /// Its checksum.
    pub sum: u32,
}

/// A pack to merge.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackInput {
    /// Its name.
    pub name: String,
    /// Its files.
    pub entries: Vec<PackEntry>,
}

/// How files with the same path are merged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum MergeHow {
    /// JSON objects: all keys; the first pack's value wins.
    Map,
    /// JSON objects of lists: all keys, and all items of each list.
    MapOfLists,
    /// All lines, each once.
    Lines,
    /// The first pack's file, without a conflict: every pack has one of its own.
    First,
}

/// A game's rule for merging files.
#[derive(Debug, Clone)]
pub struct MergeRule {
    /// The files, by their paths in the pack.
    pub files: GlobMatcher,
    /// How.
    pub how: MergeHow,
}

/// Where a file of the merged pack comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece {
    /// Copied from this pack.
    Copy(usize),
    /// Merged from these packs, highest priority first.
    Merge(MergeHow, Vec<usize>),
}

/// A path with different bytes in several packs that cannot be merged.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackConflict {
    /// The path.
    pub path: String,
    /// The packs, highest priority first.
    pub packs: Vec<usize>,
    /// The pack whose file is taken.
    pub winner: usize,
    /// Whether the user chose it.
    pub is_decided: bool,
}

/// A plan for a merge.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct MergePlan {
    /// Each file of the merged pack, by its path.
    pub files: BTreeMap<String, Piece>,
    /// Paths that cannot be merged.
    pub conflicts: Vec<PackConflict>,
    /// The number of files that are identical in several packs.
    pub alike: usize,
}

/// Plans a merge. `decided` maps paths to the name of the pack that the user chose.
pub fn plan_merge(packs: &[PackInput], rules: &[MergeRule], decided: &BTreeMap<String, String>) -> MergePlan {
    let mut by_path: BTreeMap<&str, Vec<(usize, &PackEntry)>> = BTreeMap::new();
    for (at, pack) in packs.iter().enumerate() {
        let mut seen = BTreeSet::new();
        // If a path is in one archive twice, the last one wins, as when unpacking it.
        for entry in pack.entries.iter().rev().filter(|entry| seen.insert(entry.path.as_str())) {
            by_path.entry(&entry.path).or_default().push((at, entry));
        }
    }
    let mut plan = MergePlan::default();
    for (path, having) in by_path {
        let first = having[0].0;
        let differs =
            having.iter().any(|(_, entry)| (entry.size, entry.sum) != (having[0].1.size, having[0].1.sum));
        if !differs {
            plan.alike += usize::from(having.len() > 1);
            plan.files.insert(path.to_owned(), Piece::Copy(first));
            continue;
        }
        let all: Vec<usize> = having.iter().map(|(at, _)| *at).collect();
        let chosen =
            decided.get(path).and_then(|name| all.iter().copied().find(|at| packs[*at].name == *name));
        if let Some(chosen) = chosen {
            plan.conflicts.push(PackConflict {
                path: path.to_owned(),
                packs: all,
                winner: chosen,
                is_decided: true,
            });
            plan.files.insert(path.to_owned(), Piece::Copy(chosen));
            continue;
        }
        let piece = match rules.iter().find(|rule| rule.files.is_match(path)).map(|rule| rule.how) {
            Some(MergeHow::First) => Piece::Copy(first),
            Some(how) => Piece::Merge(how, all),
            None => {
                plan.conflicts.push(PackConflict {
                    path: path.to_owned(),
                    packs: all,
                    winner: first,
                    is_decided: false,
                });
                Piece::Copy(first)
            }
        };
        plan.files.insert(path.to_owned(), piece);
    }
    plan
}

#[cfg(test)]
mod tests {
    use globset::Glob;

    use super::*;

    fn pack(name: &str, files: &[(&str, u32)]) -> PackInput {
        let entry = |(path, sum): &(&str, u32)| PackEntry { path: (*path).into(), size: 1, sum: *sum };
        PackInput { name: name.into(), entries: files.iter().map(entry).collect() }
    }

    fn rule(files: &str, how: MergeHow) -> MergeRule {
        MergeRule { files: Glob::new(files).unwrap().compile_matcher(), how }
    }

    #[test]
    fn each_file_comes_from_somewhere_and_conflicts_are_told() {
        let packs = [
            pack("a", &[("look.json", 1), ("words/en.json", 1), ("pier.png", 1), ("same.png", 7)]),
            pack(
                "b",
                &[("look.json", 2), ("words/en.json", 2), ("pier.png", 2), ("same.png", 7), ("own.png", 3)],
            ),
            pack("c", &[("look.json", 3), ("pier.png", 1)]),
        ];
        let rules = [rule("words/*.json", MergeHow::Map), rule("look.json", MergeHow::First)];
        let plan = plan_merge(&packs, &rules, &BTreeMap::new());
        assert_eq!(plan.files["look.json"], Piece::Copy(0));
        assert_eq!(plan.files["words/en.json"], Piece::Merge(MergeHow::Map, vec![0, 1]));
        assert_eq!(plan.files["own.png"], Piece::Copy(1));
        assert_eq!(plan.alike, 1);
        let conflict =
            PackConflict { path: "pier.png".into(), packs: vec![0, 1, 2], winner: 0, is_decided: false };
        assert_eq!(plan.conflicts, [conflict]);
        let decided = BTreeMap::from([("pier.png".to_owned(), "b".to_owned())]);
        let plan = plan_merge(&packs, &rules, &decided);
        assert_eq!(plan.files["pier.png"], Piece::Copy(1));
        assert!(plan.conflicts[0].is_decided);
    }
}
