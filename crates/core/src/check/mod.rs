//! Findings: what is wrong with a server, seen without starting it.

mod listed;
mod meaning;

use std::collections::HashSet;

use serde::Serialize;

pub use listed::{Listed, Listing};
pub use meaning::{MEANINGS, meaning};

use crate::{
    change::{ChangeSet, EntryAct, FileAct, OwnedEntry, Step},
    document::Pointer,
    hint::Advice,
    id::{ContentId, TreePath},
    solve::Breach,
};

/// What `fix` does about a finding.
#[derive(Debug, Clone, PartialEq)]
pub enum Remedy {
    /// Bring the server to what is wanted.
    Settle,
    /// Bring an installed content to what is usual and satisfies everything: what it needs, its place in the order, its entries.
    Mend(ContentId),
    /// Take over what lies at this path, and place it where it belongs.
    TakeOver(TreePath),
    /// Take out an entry for something that is not there.
    TakeOut(Box<OwnedEntry>),
    /// Set a second copy aside.
    SetAside(TreePath),
    /// Download the offered resource pack again and announce its digest.
    RefreshPack,
    /// Play this map, with the entries it needs.
    Play(String),
    /// Set one of the server's own settings.
    Set {
        /// The file, as it is called for short.
        file: String,
        /// The place in it.
        at: Pointer,
        /// The value.
        value: String,
    },
    /// Rebuild this file with the game's own tool.
    Rebuild(TreePath),
}

/// How much a finding weighs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// The server will not run as wanted.
    Trouble,
    /// Worth knowing.
    Note,
}

/// One thing that a check found.
#[derive(Debug, Clone, PartialEq)]
pub struct Finding {
    /// How much it weighs.
    pub weight: Weight,
    /// Its stable code: `missing-file`, `needs` and so on (see [`MEANINGS`]).
    pub code: &'static str,
    /// The content, or the path, that it is about.
    pub about: String,
    /// What is wrong.
    pub says: String,
    /// What that means for the server.
    pub means: &'static str,
    /// What can be done; a front end words it.
    pub fix: Option<Advice>,
    /// What `fix` does about it.
    pub remedy: Option<Remedy>,
}

impl Finding {
    /// Returns the finding with what `fix` does about it.
    #[must_use]
    pub fn with_remedy(self, remedy: Remedy) -> Self {
        Self { remedy: Some(remedy), ..self }
    }

    /// Returns a finding that is trouble.
    pub fn trouble(code: &'static str, about: &str, says: String, fix: Option<Advice>) -> Self {
        let means = meaning(code);
        Self { weight: Weight::Trouble, code, about: about.into(), says, means, fix, remedy: None }
    }

    /// Returns a finding that is only worth knowing.
    pub fn note(code: &'static str, about: &str, says: String, fix: Option<Advice>) -> Self {
        Self { weight: Weight::Note, ..Self::trouble(code, about, says, fix) }
    }
}

/// Returns what the locked lineup breaks.
pub fn of_breaches(breaches: &[Breach]) -> Vec<Finding> {
    breaches
        .iter()
        .map(|breach| {
            let says = breach.to_string();
            match breach {
                Breach::Unknown { id } => {
                    Finding::trouble("unknown", id.as_str(), says, Some(Advice::Update))
                        .with_remedy(Remedy::Mend(id.clone()))
                }
                Breach::Want { id, .. } => {
                    Finding::trouble("wanted", id.as_str(), says, Some(Advice::Settle))
                }
                Breach::Need { id, .. } => Finding::trouble("needs", id.as_str(), says, Some(Advice::Fix))
                    .with_remedy(Remedy::Mend(id.clone())),
                Breach::Welcome { id, .. } => {
                    Finding::trouble("goes-with", id.as_str(), says, Some(Advice::Fix))
                        .with_remedy(Remedy::Mend(id.clone()))
                }
                Breach::Refuse { id, other } => {
                    let fix = Advice::RemoveEither(id.to_string(), other.to_string());
                    Finding::trouble("refuses", id.as_str(), says, Some(fix))
                }
                Breach::Platform { id, .. } => {
                    Finding::trouble("platform", id.as_str(), says, Some(Advice::Fix))
                        .with_remedy(Remedy::Mend(id.clone()))
                }
            }
        })
        .collect()
}

/// Returns how the server's files differ from the locked lineup: each step that would mend something is a finding.
/// Many files of one content become one finding.
pub fn of_change(change: &ChangeSet) -> Vec<Finding> {
    const MOST: usize = 3;
    let mut findings = Vec::new();
    let replaced: HashSet<&TreePath> = change
        .steps
        .iter()
        .filter_map(|step| if let Step::Put { path, before: Some(_), .. } = step { Some(path) } else { None })
        .collect();
    let there = |path: &TreePath| replaced.contains(path);
    let mut counted: Vec<((FileAct, bool), &crate::id::ContentId, Vec<&crate::change::FileLine>)> =
        Vec::new();
    for line in &change.files {
        let code = (line.act, there(&line.path));
        match counted.iter_mut().find(|(known, content, _)| *known == code && *content == &line.content) {
            Some((_, _, lines)) => lines.push(line),
            None => counted.push((code, &line.content, vec![line])),
        }
    }
    for ((act, altered), content, lines) in counted {
        if lines.len() > MOST {
            let first = &lines[0].path;
            let (code, verb) = words(act, altered);
            let folder =
                |path: &TreePath| path.parent().map_or_else(|| "/".to_owned(), |folder| folder.to_string());
            let says = match (&lines[0].from, act) {
                (Some(from), FileAct::Move) => format!(
                    "{} files of {content} lie in {}, where the server does not look; they belong in {}",
                    lines.len(),
                    folder(from),
                    folder(first)
                ),
                _ => format!("{} files of {content} {verb}, the first is {first}", lines.len()),
            };
            let finding = Finding::trouble(code, content.as_str(), says, Some(Advice::Settle));
            findings.push(finding.with_remedy(Remedy::Settle));
            continue;
        }
        for line in lines {
            let (code, _) = words(act, altered);
            let path = &line.path;
            let says = match (act, &line.from) {
                (FileAct::Move, Some(from)) => {
                    format!("{content} lies at {from}, where the server does not look; it belongs at {path}")
                }
                (FileAct::Displace, _) => format!("{path} is not the file of {content} that belongs there"),
                (FileAct::Replace, _) if altered => format!("{path} of {content} is another release's file"),
                (FileAct::Replace | FileAct::Restore, _) => format!("{path} of {content} is gone"),
                (FileAct::Aside, _) => format!("{path} belongs to nothing that is installed"),
                _ => format!("{path} of {content} is not there"),
            };
            let finding = Finding::trouble(code, content.as_str(), says, Some(Advice::Settle));
            findings.push(finding.with_remedy(Remedy::Settle));
        }
    }
    for kept in &change.kept {
        let owner = kept.content.as_ref().map_or("", |content| content.as_str());
        let says = format!("{} of {owner} was edited since Yalotheca installed it", kept.path);
        let fix = Advice::ReplaceEdited(kept.path.to_string());
        findings.push(Finding::note("altered-file", kept.path.as_str(), says, Some(fix)));
    }
    for config in &change.config {
        for entry in &config.entries {
            let (path, what) = (&config.path, &entry.what);
            let (code, says) = match entry.act {
                EntryAct::Add => ("not-registered", format!("{path} lacks {what}")),
                EntryAct::Set => ("registered-wrong", format!("{path} should say {what}")),
                EntryAct::Move => ("order", format!("{path} has {what} in the wrong place of the order")),
                EntryAct::Remove | EntryAct::Restore => ("left-over", format!("{path} still has {what}")),
                EntryAct::Leave => ("changed-by-hand", format!("{path} has {what}")),
            };
            let finding = Finding::trouble(code, entry.content.as_str(), says, Some(Advice::Settle));
            findings.push(finding.with_remedy(Remedy::Settle));
        }
    }
    findings
}

fn words(act: FileAct, altered: bool) -> (&'static str, &'static str) {
    match act {
        FileAct::Put => ("missing-file", "are not there"),
        FileAct::Replace | FileAct::Restore if altered => ("other-release", "are another release's"),
        FileAct::Replace | FileAct::Restore => ("missing-file", "are gone"),
        FileAct::Move => ("wrong-folder", "lie in the wrong folder"),
        FileAct::Displace => ("other-file", "are not this content's files"),
        FileAct::Aside => ("left-over", "belong to nothing that is installed"),
    }
}
