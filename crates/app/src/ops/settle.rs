//! Bringing the server to what is wanted.

use globset::{Glob, GlobBuilder, GlobSet, GlobSetBuilder};
use yalotheca_core::{
    change::{ChangeSet, ConfigLine, EntryAct, EntryLine, PlanChangeError, diff, put_text},
    document::{Document, Pointer, TextFile, Value},
    id::{ContentId, Digest, TreePath},
};
use yalotheca_host::survey::SurveyError;

use super::change::Change;
use crate::{AppError, Fresh, Server, apply::ChangeExtras, plan::PlanOptions};

/// How the server is settled.
#[derive(Debug, Clone, Default)]
pub struct SettleRequest {
    /// Whether its terms are accepted.
    pub accept_terms: bool,
    /// Set aside what is not wanted, except for files that fit one of these patterns.
    pub clean: Option<Vec<String>>,
    /// Whether configuration files that cannot be read are left as they are.
    pub skip_broken: bool,
    /// Files, as paths or patterns, that are replaced even where somebody has edited them.
    pub replace: Vec<String>,
}

/// Brings the server to what is wanted.
///
/// # Errors
/// Where a pattern is none, or the terms cannot be accepted.
pub fn settle(server: &Server, request: &SettleRequest) -> Result<Change, AppError> {
    let terms = if request.accept_terms { accept(server)? } else { None };
    let clean = request.clean.as_ref().map(|spare| globs("the files to spare", spare)).transpose()?;
    let replace =
        (!request.replace.is_empty()).then(|| globs("the files to replace", &request.replace)).transpose()?;
    let plan = PlanOptions { skip_broken: request.skip_broken, replace, ..PlanOptions::default() };
    let extras = ChangeExtras { more: terms, clean, plan, ..ChangeExtras::default() };
    Ok(Change { wants: server.control.wants.clone(), fresh: Fresh::None, extras })
}

/// Reads patterns that were given.
fn globs(what: &str, patterns: &[String]) -> Result<GlobSet, AppError> {
    let wrong = |text: &str, error: &globset::Error| AppError::Usage {
        what: format!("{what}: {text:?}: {}", error.kind()),
        hint: Some("write a path, or a pattern as in 'plugins/*/settings.yml' or '**/*.yml'".into()),
    };
    let mut set = GlobSetBuilder::new();
    for text in patterns {
        let glob = GlobBuilder::new(text).literal_separator(true).build();
        set.add(glob.map_err(|error| wrong(text, &error))?);
        // A path with brackets in it is that path.
        set.add(Glob::new(&globset::escape(text)).map_err(|error| wrong(text, &error))?);
    }
    set.build().map_err(|error| wrong("", &error))
}

/// The change that accepts the terms; nothing where they are accepted already.
fn accept(server: &Server) -> Result<Option<ChangeSet>, AppError> {
    let Some(terms) = &server.game.terms else {
        return Err(AppError::Usage {
            what: format!("{} servers have no terms to accept", server.game.title),
            hint: None,
        });
    };
    let scope = &server.survey.scope;
    let broken = |error| AppError::Survey(SurveyError::Render(error));
    let path = TreePath::new(&terms.place.file.render(scope).map_err(broken)?)?;
    let pointer = terms.place.pointer.render(scope).map_err(broken)?;
    let pointer =
        Pointer::parse(&pointer).map_err(|error| AppError::Usage { what: error.to_string(), hint: None })?;
    let bytes = server.tree.read_file(&path)?;
    let before = bytes.as_ref().map(|bytes| Digest::of(bytes));
    let file = bytes.map(TextFile::read).unwrap_or_default();
    let mut document = Document::parse(terms.place.format, file.text())
        .map_err(|source| SurveyError::Broken { path: path.to_string(), source })?;
    let agreed = Value::Text(terms.agreed.clone());
    if document.get(&pointer).is_some_and(|now| now.means(&agreed)) {
        return Ok(None);
    }
    document.set(&pointer, &agreed)?;
    let new = file
        .with(document.into_text())
        .map_err(|source| PlanChangeError::Encode { path: path.clone(), source })?;
    let what = format!("{} = {agreed}", pointer.to_string().trim_start_matches('/'));
    let content = ContentId::new(&server.game.name)?;
    let entries = vec![EntryLine { act: EntryAct::Set, what, content }];
    Ok(Some(ChangeSet {
        config: vec![ConfigLine {
            diff: diff(file.text(), new.text()),
            ..ConfigLine::new(&path, before.is_none(), false, entries)
        }],
        steps: vec![put_text(&path, before, new)],
        ..ChangeSet::default()
    }))
}
