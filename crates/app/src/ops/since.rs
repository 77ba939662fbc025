//! What a trial's log is joined with: the last good start, what has changed since, and whose files the log names.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    time::Duration,
};

use serde::Serialize;
use yalotheca_core::{
    change::Placed,
    diagnose::{ContentState, FilePlace, Noise, Trouble},
    id::{ContentId, Digest, TreePath},
};
use yalotheca_host::{
    settle,
    trial::{GoodStart, Trial, read_good_start, write_good_start},
};

use crate::{AppError, Server, findings::configuration_files};

/// What has changed since the last good start.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct SinceGood {
    /// When it was, as RFC 3339.
    pub when: String,
    /// The changes since, the newest first.
    pub changes: Vec<ChangeSince>,
    /// Configuration files that have changed, by a change or by hand.
    pub files: Vec<TreePath>,
    /// Files of contents that somebody has edited since.
    pub edited: Vec<TreePath>,
}

/// A change since the last good start.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ChangeSince {
    /// Its number.
    pub number: u32,
    /// What it did.
    pub summary: String,
    /// Who made it.
    pub who: String,
}

/// The problems of a start that somebody has accepted.
#[derive(Debug, Clone, Default)]
pub struct Accepted {
    /// What they say.
    pub says: Vec<String>,
    /// The contents that are not well.
    pub contents: BTreeSet<ContentId>,
}

/// By what a problem is known again at the next start.
fn key(went: &Trial, trouble: &Trouble) -> String {
    if trouble.line.is_empty() { trouble.says.clone() } else { went.lines.form(&trouble.line) }
}

fn content_key(id: &ContentId) -> String {
    format!("content {id}")
}

/// What is known beside a log.
#[derive(Debug, Default)]
pub struct Context {
    /// The last good start.
    good: Option<GoodStart>,
}

impl Context {
    /// Reads what is known before a start.
    ///
    /// # Errors
    /// If the server's folder cannot be read.
    pub fn of(server: &Server) -> Result<Self, AppError> {
        Ok(Self { good: read_good_start(&*server.tree)? })
    }

    /// Has the problems of a start accepted: they are no reason to call a later one a bad one.
    pub fn accept(&mut self, went: &Trial, troubles: &[Trouble]) {
        let accepted = &mut self.good.get_or_insert_default().accepted;
        for trouble in troubles {
            accepted.insert(key(went, trouble), trouble.says.clone());
        }
        for (id, state) in &went.contents {
            let says = match state {
                ContentState::Failed { why } => format!("{id}: {why}"),
                ContentState::NotSeen { .. } => format!("{id} is not seen in the log"),
                ContentState::Loaded | ContentState::Untold => continue,
            };
            accepted.insert(content_key(id), says);
        }
    }

    /// Marks the problems that somebody has accepted, and returns these and the contents that may be missing.
    pub fn accepted(&self, went: &Trial, troubles: &mut [Trouble]) -> Accepted {
        let mut found = Accepted::default();
        let Some(good) = &self.good else { return found };
        for trouble in troubles {
            trouble.accepted = good.accepted.contains_key(&key(went, trouble));
            if trouble.accepted && !found.says.contains(&trouble.says) {
                found.says.push(trouble.says.clone());
            }
        }
        for (id, state) in &went.contents {
            let is_bad = matches!(state, ContentState::Failed { .. } | ContentState::NotSeen { .. });
            if let Some(says) = good.accepted.get(&content_key(id)).filter(|_| is_bad) {
                found.contents.insert(id.clone());
                if !found.says.iter().any(|said| says.contains(said.as_str())) {
                    found.says.push(says.clone());
                }
            }
        }
        found
    }

    /// Says how the log compares with those of good starts; nothing where there was none.
    pub fn noise(&self, went: &Trial) -> Option<Noise> {
        self.good.as_ref().filter(|good| good.known.starts > 0).map(|good| went.lines.compare(&good.known))
    }

    /// Adds to troubles which contents and files they are about, and whether they are new; new ones come first.
    ///
    /// # Errors
    /// If the server's folder cannot be read.
    pub fn explain(&self, server: &Server, went: &Trial, troubles: &mut [Trouble]) -> Result<(), AppError> {
        let receipt = server.receipt()?;
        let contents = &server.control.lock.contents;
        let folder = &server.survey.scope.folder;
        // Large setups have many files, and log many problems.
        let mut by_name: HashMap<&str, Vec<&TreePath>> = HashMap::new();
        for path in receipt.placed.keys() {
            by_name.entry(path.name()).or_default().push(path);
        }
        let by_end = |name: &str| {
            let name = name.trim_start_matches("./");
            let inside = name.strip_prefix(folder.as_str()).unwrap_or(name).trim_start_matches('/');
            let end = format!("/{inside}");
            let is_it = |path: &&&TreePath| path.as_str() == inside || path.as_str().ends_with(&end);
            let named = by_name.get(inside.rsplit('/').next().unwrap_or_default());
            // What is placed in the server's folder may be named from a folder in it.
            let placed = named.and_then(|named| named.iter().find(is_it)).map(|path| (*path).clone());
            placed.or_else(|| TreePath::new(inside).ok())
        };
        // A long path is cut at its beginning by some.
        let placed_end = |name: &str| {
            let ends = name.match_indices('/').map(|(at, _)| &name[at + 1..]).take(12);
            ends.filter(|end| end.contains('/'))
                .find_map(|end| TreePath::new(end).ok().filter(|path| receipt.placed.contains_key(path)))
        };
        for trouble in troubles {
            let text: String = std::iter::once(&trouble.line)
                .chain(&trouble.trace)
                .fold(String::new(), |all, line| all + line + "\n");
            let mut named: BTreeSet<ContentId> = contents
                .iter()
                .filter(|locked| names(&text, locked.id.as_str()))
                .map(|locked| locked.id.clone())
                .collect();
            let words = text.split(|c: char| c.is_whitespace() || "'\"(),;:".contains(c));
            for word in words.filter(|word| word.contains('/') || word.contains('.')) {
                let owner = by_end(word).and_then(|path| receipt.placed.get(&path));
                named.extend(owner.map(|placed| placed.content.clone()));
            }
            trouble.contents = named.into_iter().collect();
            // What to switch off is known then.
            if let ([only], Some(advice)) = (trouble.contents.as_slice(), &mut trouble.advice) {
                *advice = advice.replace(" off NAME", &format!(" off {only}"));
            }
            if folder.len() > 1 {
                trouble.says = trouble.says.replace(&format!("{folder}/"), "");
            }
            trouble.place = trouble.place.take().or_else(|| place_in_words(trouble));
            if let Some(place) = &mut trouble.place
                && let Some(path) = placed_end(&place.file).or_else(|| by_end(&place.file))
                && let Some(bytes) = server.tree.read_file(&path).ok().flatten()
            {
                let text = String::from_utf8_lossy(&bytes).into_owned();
                let line = text.lines().nth(place.line.saturating_sub(1)).map(str::to_owned);
                trouble.says = without_cut_path(&trouble.says, path.as_str());
                *place = FilePlace { file: path.to_string(), line: place.line, text: line };
            }
            if let Some(good) = self.good.as_ref().filter(|_| !trouble.line.is_empty()) {
                trouble.is_new = Some(!went.lines.is_known(&trouble.line, &good.known));
            }
        }
        Ok(())
    }

    /// Returns what has changed since the last good start; nothing where there was none.
    ///
    /// # Errors
    /// If the server's records cannot be read.
    pub fn since(&self, server: &Server) -> Result<Option<SinceGood>, AppError> {
        let Some(good) = &self.good else { return Ok(None) };
        let past = settle::history(&*server.tree)?;
        let is_later = |number: u32| good.change.is_none_or(|last| number > last);
        let changes = past
            .into_iter()
            .rev()
            .filter(|past| is_later(past.number) && !past.undone)
            .map(|past| ChangeSince {
                number: past.number,
                summary: past.origin.summary,
                who: past.origin.who,
            })
            .collect();
        let paths: Vec<TreePath> = good.files.keys().cloned().collect();
        let now = server.tree.digest(&paths)?;
        let files = (paths.into_iter().zip(now))
            .filter(|(path, now)| now.map(|(digest, _)| digest) != good.files.get(path).copied())
            .map(|(path, _)| path)
            .collect();
        let is_since =
            |(path, digest): (TreePath, Digest)| (good.edited.get(&path) != Some(&digest)).then_some(path);
        let edited = edited(server)?.into_iter().filter_map(is_since).collect();
        Ok(Some(SinceGood { when: good.when.clone(), changes, files, edited }))
    }

    /// Remembers a start that became ready.
    ///
    /// # Errors
    /// If it cannot be written.
    pub fn remember(self, server: &Server, went: &Trial) -> Result<(), AppError> {
        let mut good = self.good.unwrap_or_default();
        went.lines.add_to(&mut good.known);
        let files = Vec::from_iter(configuration_files(server)?);
        let digests = server.tree.digest(&files)?;
        good.files =
            (files.into_iter().zip(digests)).filter_map(|(path, now)| Some((path, now?.0))).collect();
        good.edited = edited(server)?;
        let milliseconds = |time: Option<Duration>| {
            time.map_or(0, |time| u64::try_from(time.as_millis()).unwrap_or(u64::MAX))
        };
        good.ready_ms = milliseconds(went.ready_after);
        good.stop_ms = milliseconds(went.stopped_after);
        good.change = settle::history(&*server.tree)?.last().map(|past| past.number);
        good.when = jiff::Timestamp::now().round(jiff::Unit::Second).unwrap_or_default().to_string();
        good.format = 1;
        Ok(write_good_start(&*server.tree, &good)?)
    }
}

/// Returns the files of contents that somebody has edited since they were installed; none on another machine, where looking takes long.
fn edited(server: &Server) -> Result<BTreeMap<TreePath, Digest>, AppError> {
    if server.tree.local().is_none() {
        return Ok(BTreeMap::new());
    }
    let placed: Vec<_> = server.receipt()?.placed.iter().collect();
    let paths: Vec<TreePath> = placed.iter().map(|(path, _)| (*path).clone()).collect();
    let now = server.tree.digest(&paths)?;
    let is_edited = |((path, placed), now): (&(&TreePath, &Placed), Option<(Digest, u64)>)| {
        now.filter(|(digest, _)| *digest != placed.digest).map(|(digest, _)| ((*path).clone(), digest))
    };
    Ok(placed.iter().zip(now).filter_map(is_edited).collect())
}

/// Returns a sentence in which a path that was cut at its beginning is the path on the server.
fn without_cut_path(says: &str, path: &str) -> String {
    let Some(at) = says.find(path) else { return says.to_owned() };
    match says[..at].rfind("...").filter(|begin| !says[*begin..at].contains(": ")) {
        Some(begin) => format!("{}{}", &says[..begin], &says[at..]),
        None => says.to_owned(),
    }
}

/// Returns the place that the definition's words name: a line in the one, a file in the other.
fn place_in_words(trouble: &Trouble) -> Option<FilePlace> {
    let number = trouble.says.split("line ").nth(1)?;
    let digits: String = number.chars().take_while(char::is_ascii_digit).collect();
    let words =
        trouble.advice.as_deref()?.split_whitespace().map(|word| word.trim_matches(['.', ',', ':', ';']));
    let file = words.rev().find(|word| word.contains('.') && !word.ends_with('.'))?;
    Some(FilePlace { file: file.to_owned(), line: digits.parse().ok()?, text: None })
}

/// Returns whether a text names a content, as a word of its own.
fn names(text: &str, id: &str) -> bool {
    const SHORTEST: usize = 3;
    let is_part = |c: char| c.is_alphanumeric() || c == '_' || c == '-';
    id.len() >= SHORTEST
        && text.match_indices(id).any(|(at, _)| {
            !text[..at].chars().next_back().is_some_and(is_part)
                && !text[at + id.len()..].chars().next().is_some_and(is_part)
        })
}

#[cfg(test)]
mod tests {
    use super::names;

    #[test]
    fn a_content_is_named_by_a_whole_word() {
        assert!(names("plugin tidebell: needs", "tidebell") && names("mods/tidebell/init.lua", "tidebell"));
        assert!(!names("tidebells ring", "tidebell") && !names("old-tidebell", "tidebell"));
        assert!(!names("of it", "it"));
    }
}
