//! Merges several resource packs into one.

use std::{
    collections::BTreeMap,
    io::{BufWriter, Write},
    path::{Path, PathBuf},
};

use serde::Serialize;
use yalotheca_core::{
    game::PackRule,
    hint::{Advice, Amendment},
    id::ContentId,
    merge::{KeyConflict, MergeHow, PackInput, Piece, merge_texts, plan_merge},
    suggest,
};
use yalotheca_host::{foreign_digest::digest_file, pack_archive::PackArchive, zip_out::ZipOut};

use super::change::Change;
use crate::{AppError, Server, pack};

/// A merge to carry out.
#[derive(Debug, Clone, Default)]
pub struct MergeRequest {
    /// The packs, highest priority first.
    pub packs: Vec<PathBuf>,
    /// Where to write the merged pack; if absent, the merge is only previewed.
    pub into: Option<PathBuf>,
    /// Which pack's file to take for a path in several packs: `path=pack`.
    pub keep: Vec<String>,
}

/// The result of a merge.
#[derive(Debug, Serialize)]
pub struct MergeReport {
    /// The packs, highest priority first.
    pub packs: Vec<MergedPack>,
    /// The number of files in the merged pack.
    pub files: usize,
    /// The number of files that are identical in several packs.
    pub alike: usize,
    /// Files merged from several packs.
    pub merged: Vec<MergedFile>,
    /// Files taken from one pack although others have different versions.
    pub conflicts: Vec<ConflictLine>,
    /// The packs' formats, if they differ.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub formats: BTreeMap<String, String>,
    /// The merged pack, if it was written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub written: Option<WrittenPack>,
}

/// A pack that was merged.
#[derive(Debug, Serialize)]
pub struct MergedPack {
    /// Its name: the file name without the suffix.
    pub name: String,
    /// The number of its files.
    pub files: usize,
    /// The folder that wrapped everything in it, which was removed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wrapper: Option<String>,
    /// Files in it that were skipped because they are not part of the pack.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<String>,
}

/// A file merged from several packs.
#[derive(Debug, Serialize)]
pub struct MergedFile {
    /// Its path.
    pub path: String,
    /// How.
    pub how: MergeHow,
    /// The packs, highest priority first.
    pub packs: Vec<String>,
    /// Keys with different values.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub conflicts: Vec<KeyConflict>,
}

/// A file taken from one pack although others have different versions.
#[derive(Debug, Serialize)]
pub struct ConflictLine {
    /// Its path.
    pub path: String,
    /// The packs that have it, highest priority first.
    pub packs: Vec<String>,
    /// The pack whose file was taken.
    pub winner: String,
    /// Whether the user chose it.
    pub decided: bool,
    /// Why it could not be merged, if a rule says to merge it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// The merged pack.
#[derive(Debug, Serialize)]
pub struct WrittenPack {
    /// Its path.
    pub path: String,
    /// Its size.
    pub bytes: u64,
    /// Its digest as the game wants it.
    pub digest: String,
    /// Whether the file was there already, with the same bytes.
    pub is_same: bool,
}

/// An open pack.
struct Opened {
    name: String,
    archive: PackArchive,
}

/// Merges packs and saves the user's choices in `yalotheca.toml`.
///
/// # Errors
/// If one of them is not a pack, or the merged pack cannot be written.
pub fn merge(server: &Server, request: &MergeRequest) -> Result<MergeReport, AppError> {
    let rule = pack::rule(server)?;
    let mut packs = open_all(rule, &request.packs)?;
    let inputs: Vec<PackInput> = packs
        .iter()
        .map(|pack| PackInput { name: pack.name.clone(), entries: pack.archive.entries().to_vec() })
        .collect();
    let decided = decided(server, &request.keep, &inputs)?;
    let plan = plan_merge(&inputs, &rule.merge, &decided);
    let named = |all: &[usize]| all.iter().map(|at| inputs[*at].name.clone()).collect::<Vec<_>>();
    let mut report = MergeReport {
        packs: packs.iter().map(told).collect(),
        files: plan.files.len(),
        alike: plan.alike,
        merged: Vec::new(),
        conflicts: Vec::new(),
        formats: formats(rule, &mut packs)?,
        written: None,
    };
    for conflict in &plan.conflicts {
        report.conflicts.push(ConflictLine {
            path: conflict.path.clone(),
            packs: named(&conflict.packs),
            winner: inputs[conflict.winner].name.clone(),
            decided: conflict.is_decided,
            why: None,
        });
    }
    let mut out = match &request.into {
        Some(into) => Some(Target::beside(into)?),
        None => None,
    };
    for (path, piece) in &plan.files {
        match piece {
            Piece::Copy(at) => copy(&mut packs[*at], path, out.as_mut())?,
            Piece::Merge(how, all) => {
                let those = named(all);
                match made_of(&mut packs, path, (*how, all))? {
                    Ok((text, conflicts)) => {
                        if let Some(out) = &mut out {
                            out.store(path, text.as_bytes())?;
                        }
                        report.merged.push(MergedFile {
                            path: path.clone(),
                            how: *how,
                            packs: those,
                            conflicts,
                        });
                    }
                    Err(why) => {
                        let winner = those.first().cloned().unwrap_or_default();
                        report.conflicts.push(ConflictLine {
                            path: path.clone(),
                            packs: those,
                            winner,
                            decided: false,
                            why: Some(why),
                        });
                        copy(&mut packs[all[0]], path, out.as_mut())?;
                    }
                }
            }
        }
    }
    report.conflicts.sort_by(|a, b| (a.decided, &a.path).cmp(&(b.decided, &b.path)));
    if let Some(out) = out {
        report.written = Some(out.finish(rule)?);
        note(server, &decided)?;
    }
    Ok(report)
}

fn told(pack: &Opened) -> MergedPack {
    MergedPack {
        name: pack.name.clone(),
        files: pack.archive.entries().len(),
        wrapper: pack.archive.wrapper().map(str::to_owned),
        left_out: pack.archive.left_out().to_vec(),
    }
}

fn open_all(rule: &PackRule, paths: &[PathBuf]) -> Result<Vec<Opened>, AppError> {
    let mut packs: Vec<Opened> = Vec::new();
    for path in paths {
        let shown = path.display();
        let archive = PackArchive::open(path, &rule.marker).map_err(|error| AppError::Refused {
            what: format!("{shown}: {error}"),
            hint: Some("nothing was written".into()),
        })?;
        let name = path.file_stem().map_or_else(String::new, |stem| stem.to_string_lossy().into_owned());
        if packs.iter().any(|other| other.name == name) {
            return Err(AppError::Usage {
                what: format!("two of the packs are called {name}"),
                hint: Some("rename one of the files".into()),
            });
        }
        packs.push(Opened { name, archive });
    }
    Ok(packs)
}

/// Returns which pack each chosen path comes from: saved choices, then those of this request.
fn decided(
    server: &Server,
    keep: &[String],
    packs: &[PackInput],
) -> Result<BTreeMap<String, String>, AppError> {
    let noted = server.control.wants.keep.iter().map(|(path, from)| (path.clone(), from.to_string()));
    let mut decided: BTreeMap<String, String> = noted.collect();
    for text in keep {
        let Some((path, name)) = text.rsplit_once('=') else {
            return Err(AppError::Usage {
                what: format!("{text} names no pack"),
                hint: Some("write it as PATH=PACK".into()),
            });
        };
        let Some(pack) = packs.iter().find(|pack| pack.name == name) else {
            let near = suggest::did_you_mean(name, packs.iter().map(|pack| pack.name.as_str()));
            return Err(AppError::Usage {
                what: format!("none of the packs is called {name}"),
                hint: near.map(Advice::Say),
            });
        };
        if !pack.entries.iter().any(|entry| entry.path == path) {
            let near = suggest::did_you_mean(path, pack.entries.iter().map(|entry| entry.path.as_str()));
            return Err(AppError::Usage {
                what: format!("{name} has no {path}"),
                hint: near.map(Advice::Say),
            });
        }
        ContentId::new(name)?;
        decided.insert(path.to_owned(), name.to_owned());
    }
    Ok(decided)
}

/// Saves new choices; a merge changes nothing else on a server.
fn note(server: &Server, decided: &BTreeMap<String, String>) -> Result<(), AppError> {
    let mut wants = server.control.wants.clone();
    for (path, name) in decided {
        wants.keep_asset(path, Some(&ContentId::new(name)?));
    }
    if wants.keep == server.control.wants.keep {
        return Ok(());
    }
    Change::to(wants, vec!["which packs files are taken from".into()]).note(server)
}

fn formats(rule: &PackRule, packs: &mut [Opened]) -> Result<BTreeMap<String, String>, AppError> {
    let Some(at) = &rule.format else { return Ok(BTreeMap::new()) };
    let mut formats = BTreeMap::new();
    for pack in packs {
        let bytes = read(pack, &rule.marker)?;
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let value: serde_json::Value =
            serde_json::from_str(text.trim_start_matches('\u{feff}')).unwrap_or_default();
        if let Some(format) = value.pointer(&at.to_string()) {
            formats.insert(pack.name.clone(), format.to_string());
        }
    }
    let is_one = formats.values().collect::<std::collections::BTreeSet<_>>().len() < 2;
    Ok(if is_one { BTreeMap::new() } else { formats })
}

fn failed(pack: &str) -> impl Fn(std::io::Error) -> AppError + use<'_> {
    move |source| AppError::Io { what: pack.to_owned(), source }
}

fn read(pack: &mut Opened, path: &str) -> Result<Vec<u8>, AppError> {
    pack.archive.read(path).map_err(failed(&pack.name))
}

fn copy(pack: &mut Opened, path: &str, out: Option<&mut Target>) -> Result<(), AppError> {
    match out {
        Some(out) => pack.archive.copy(path, &mut out.zip).map_err(failed(&pack.name)),
        None => Ok(()),
    }
}

/// Returns the merged text with its conflicts, or why it could not be merged.
type Made = Result<(String, Vec<KeyConflict>), String>;

fn made_of(packs: &mut [Opened], path: &str, (how, all): (MergeHow, &[usize])) -> Result<Made, AppError> {
    let mut texts = Vec::new();
    for at in all {
        let pack = &mut packs[*at];
        match String::from_utf8(read(pack, path)?) {
            Ok(text) => texts.push((pack.name.clone(), text)),
            Err(_) => return Ok(Err(format!("{}: it is not UTF-8", pack.name))),
        }
    }
    let texts: Vec<(&str, &str)> = texts.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    Ok(merge_texts(how, &texts).map(|merged| (merged.text, merged.conflicts)))
}

/// The merged pack while it is written, under a temporary name.
struct Target {
    into: PathBuf,
    file: tempfile::TempPath,
    zip: ZipOut<BufWriter<std::fs::File>>,
}

impl Target {
    fn beside(into: &Path) -> Result<Self, AppError> {
        let shown = into.display().to_string();
        let folder = into.parent().filter(|folder| !folder.as_os_str().is_empty());
        let file = tempfile::Builder::new()
            .prefix(".yalotheca-new-")
            .tempfile_in(folder.unwrap_or(Path::new(".")))
            .map_err(failed(&shown))?;
        let (file, path) = file.into_parts();
        Ok(Self {
            into: into.to_owned(),
            file: path,
            zip: ZipOut::new(BufWriter::with_capacity(1 << 20, file)),
        })
    }

    fn store(&mut self, path: &str, bytes: &[u8]) -> Result<(), AppError> {
        self.zip.store(path, bytes).map_err(failed(&self.into.display().to_string()))
    }

    fn finish(self, rule: &PackRule) -> Result<WrittenPack, AppError> {
        let shown = self.into.display().to_string();
        let failed = failed(&shown);
        let mut out = self.zip.finish().map_err(&failed)?;
        out.flush().map_err(&failed)?;
        drop(out.into_inner().map_err(|error| failed(error.into_error()))?);
        // The same permissions as any file that the user creates.
        std::fs::set_permissions(&self.file, std::os::unix::fs::PermissionsExt::from_mode(0o644))
            .map_err(&failed)?;
        let kind = rule.digest.as_ref().map_or(yalotheca_core::game::PackDigest::Sha1, |(_, kind)| *kind);
        let digests = digest_file(&self.file, kind).map_err(&failed)?;
        let is_same = digest_file(&self.into, kind).is_ok_and(|there| there == digests);
        self.file.persist(&self.into).map_err(|error| failed(error.error))?;
        Ok(WrittenPack { path: shown.clone(), bytes: digests.bytes, digest: digests.foreign, is_same })
    }
}

/// Refuses to overwrite an existing file.
///
/// # Errors
/// If it exists and `--force` was not given.
pub fn refuse_to_replace(into: &Path) -> Result<(), AppError> {
    if into.exists() {
        return Err(AppError::Refused {
            what: format!("{} is there already", into.display()),
            hint: Some(Advice::Amend(Amendment::OtherNameOrReplace)),
        });
    }
    Ok(())
}
