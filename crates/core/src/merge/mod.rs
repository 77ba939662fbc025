//! Several resource packs made into one: which file comes from which pack, and what is merged by its structure.
//!
//! A pure function over the packs' lists of files. The first pack counts most. Whoever carries the plan out copies what is copied as it is
//! and merges texts with [`merge_texts`].

mod texts;

use std::collections::{BTreeMap, BTreeSet};

use globset::GlobMatcher;
use serde::Serialize;

pub use texts::{KeyConflict, MergedText, merge_texts};

/// A file in a pack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackEntry {
    /// Its path, below the folder that holds everything.
    pub path: String,
    /// Its size.
    pub size: u64,
    /// Its checksum.
    pub sum: u32,
}

/// A pack that is merged.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackInput {
    /// What it is called.
    pub name: String,
    /// Its files.
    pub entries: Vec<PackEntry>,
}

/// How files of one path are merged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum MergeHow {
    /// JSON maps: all keys; of one key the first pack's value.
    Map,
    /// JSON maps of lists: all keys, and all items of each.
    MapOfLists,
    /// All lines, each once.
    Lines,
    /// The first pack's file, without a word: every pack has one of its own.
    First,
}

/// A rule of a game about how files of some paths are merged.
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
    /// It is copied from this pack.
    Copy(usize),
    /// It is made of the files of these packs, the one that counts most first.
    Merge(MergeHow, Vec<usize>),
}

/// A path that several packs have with different bytes, and that cannot be merged.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackConflict {
    /// The path.
    pub path: String,
    /// The packs, the one that counts most first.
    pub packs: Vec<usize>,
    /// The pack whose file is taken.
    pub winner: usize,
    /// Whether somebody has decided that.
    pub is_decided: bool,
}

/// How packs become one.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct MergePlan {
    /// Each file of the merged pack, by its path.
    pub files: BTreeMap<String, Piece>,
    /// What several have and cannot be merged.
    pub conflicts: Vec<PackConflict>,
    /// How many files several packs have with the same bytes.
    pub alike: usize,
}

/// Plans how packs become one. `decided` says from which pack a path comes, by the pack's name.
pub fn plan_merge(packs: &[PackInput], rules: &[MergeRule], decided: &BTreeMap<String, String>) -> MergePlan {
    let mut by_path: BTreeMap<&str, Vec<(usize, &PackEntry)>> = BTreeMap::new();
    for (at, pack) in packs.iter().enumerate() {
        let mut seen = BTreeSet::new();
        // Of one path twice in one archive the last one counts, as it does for whoever unpacks it.
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
