//! The change set that takes a settled one back.

use super::{
    ChangeSet, ConfigLine, FileAct, FileLine, KeptLine, PlanChangeError, Present, Receipt, Source, Step,
    entries, put_text,
};
use crate::{
    desire::Registration,
    document::Document,
    id::{ContentId, Digest, TreePath},
};

/// Returns the steps that bring back what stood before a settle. `steps` are those of the settle with that number,
/// `before` and `now` its receipts; files that no content owns are reported as the game's. A configuration file that the server has written to since is not overwritten: our
/// entries in it are taken back by their meaning.
///
/// # Errors
/// Where such a file cannot be read any more.
pub fn undo(
    (settle, game): (u32, &ContentId),
    steps: &[Step],
    (before, now): (&Receipt, &Receipt),
    present: &Present,
) -> Result<ChangeSet, PlanChangeError> {
    let mut change = ChangeSet { receipt: before.clone(), ..ChangeSet::default() };
    for (index, step) in steps.iter().enumerate().rev() {
        match step {
            Step::MakeFolder { path } => change.steps.push(Step::RemoveFolder { path: path.clone() }),
            Step::RemoveFolder { path } => change.steps.push(Step::MakeFolder { path: path.clone() }),
            Step::SetAside { path, before: digest } => {
                let is_config = present.texts.contains_key(path);
                let size = present.files.get(path).map_or(0, |(_, size)| *size);
                if let Some((now, _)) = present.files.get(path)
                    && now != digest
                    && !is_config
                {
                    keep(&mut change, path, *digest, before);
                }
                if !is_config && !present.files.contains_key(path) {
                    let content = owner(path, now, before).unwrap_or((game, size));
                    line(&mut change, path, FileAct::Restore, content);
                    change.steps.push(put_back(settle, index, path, None, *digest));
                }
            }
            Step::Put { path, source, before: was, after, size } => {
                let found = match source {
                    Source::Text(_) => present.texts.get(path).map(|file| Digest::of(&file.bytes())),
                    _ => present.files.get(path).map(|(digest, _)| *digest),
                };
                let is_text = matches!(source, Source::Text(_)) || owns_entries(path, now, before);
                if is_text && found != Some(*after) {
                    by_meaning(path, before, now, present, &mut change)?;
                    continue;
                }
                if !is_text && found.is_some_and(|found| found != *after) {
                    keep(&mut change, path, *after, now);
                    continue;
                }
                if is_text {
                    config_line(&mut change, path, was.is_none());
                } else {
                    let act = if was.is_some() { FileAct::Restore } else { FileAct::Aside };
                    let (content, _) = owner(path, now, before).unwrap_or((game, *size));
                    line(&mut change, path, act, (content, *size));
                }
                match (was, found) {
                    (Some(was), found) => change.steps.push(put_back(settle, index, path, found, *was)),
                    (None, Some(found)) => {
                        change.steps.push(Step::SetAside { path: path.clone(), before: found });
                    }
                    (None, None) => {}
                }
            }
        }
    }
    Ok(change)
}

/// What somebody has changed since stays as it is, and is named.
fn keep(change: &mut ChangeSet, path: &TreePath, put: Digest, receipt: &Receipt) {
    let content = receipt.placed.get(path).map(|placed| placed.content.clone());
    change.kept.push(KeptLine { path: path.clone(), content, put, beside: None });
}

fn put_back(settle: u32, step: usize, path: &TreePath, before: Option<Digest>, after: Digest) -> Step {
    Step::Put { path: path.clone(), source: Source::Attic { settle, step }, before, after, size: 0 }
}

fn owns_entries(path: &TreePath, now: &Receipt, before: &Receipt) -> bool {
    now.entries.iter().chain(&before.entries).any(|entry| entry.file == *path)
}

fn config_line(change: &mut ChangeSet, path: &TreePath, removed: bool) {
    change.config.push(ConfigLine::new(path, false, removed, Vec::new()));
}

/// The owner of a file, and its size in bytes.
fn owner<'r>(path: &TreePath, now: &'r Receipt, before: &'r Receipt) -> Option<(&'r ContentId, u64)> {
    let placed = before.placed.get(path).or_else(|| now.placed.get(path))?;
    Some((&placed.content, placed.size))
}

fn line(change: &mut ChangeSet, path: &TreePath, act: FileAct, (content, size): (&ContentId, u64)) {
    let (path, content) = (path.clone(), content.clone());
    change.files.push(FileLine { act, path, from: None, size, content });
}

/// The server has written to the file since: only our own entries go back.
fn by_meaning(
    path: &TreePath,
    before: &Receipt,
    now: &Receipt,
    present: &Present,
    change: &mut ChangeSet,
) -> Result<(), PlanChangeError> {
    let Some(file) = present.texts.get(path) else { return Ok(()) };
    let owned: Vec<_> = now.entries.iter().filter(|entry| entry.file == *path).cloned().collect();
    let wanted: Vec<Registration> = before
        .entries
        .iter()
        .filter(|entry| entry.file == *path)
        .map(|entry| Registration {
            content: entry.content.clone(),
            file: entry.file.clone(),
            format: entry.format,
            pointer: entry.pointer.clone(),
            create: String::new(),
            waits: false,
            exclusive: false,
            enables: false,
            entry: entry.entry.clone(),
        })
        .collect();
    let Some(format) = owned.first().map(|e| e.format).or_else(|| wanted.first().map(|w| w.format)) else {
        return Ok(());
    };
    let failed = |source| PlanChangeError::Edit { path: path.clone(), source };
    let document = Document::parse(format, file.text()).map_err(|error| failed(error.into()))?;
    let wanted: Vec<&Registration> = wanted.iter().collect();
    let compiled = entries::compile(document, &owned, &wanted).map_err(failed)?;
    if compiled.text == file.text() {
        return Ok(());
    }
    let entries = compiled.lines;
    change.config.push(ConfigLine::new(path, false, false, entries));
    let new =
        file.with(compiled.text).map_err(|source| PlanChangeError::Encode { path: path.clone(), source })?;
    change.steps.push(put_text(path, Some(Digest::of(&file.bytes())), new));
    Ok(())
}
