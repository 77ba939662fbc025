//! `settle` and `preview`.

use std::process::ExitCode;

use clap::Args;
use globset::{Glob, GlobBuilder, GlobSet, GlobSetBuilder};
use yalotheca_app::{
    AppError, Purpose, Server,
    apply::Along,
    plan::{Fresh, PlanOptions},
};
use yalotheca_core::{
    change::{ChangeSet, ConfigLine, EntryAct, EntryLine, PlanChangeError, diff, put_text},
    document::{Document, Pointer, TextFile, Value},
    id::{ContentId, Digest, TreePath},
};
use yalotheca_host::{survey::SurveyError, tree::Tree};

use super::apply::{Mode, apply};
use crate::{args::Global, ui::Ui};

/// Make the server match yalotheca.toml, all or nothing.
#[derive(Debug, Args)]
pub(crate) struct SettleArgs {
    /// Accept the server's terms: your own explicit act, kept in the history
    #[arg(long)]
    accept_terms: bool,
    /// First set aside contents and leftovers of contents that yalotheca.toml does not ask for; everything else stays, and
    /// undo brings them back
    #[arg(long)]
    clean_first: bool,
    /// Leave configuration files that cannot be read as they are, and do the rest
    #[arg(long)]
    skip_broken: bool,
    /// Put the original of these files back, though somebody has changed them (a path, or a pattern as in 'mods/**')
    #[arg(long, value_name = "PATH")]
    replace: Vec<String>,
    /// With --clean-first: leave these files where they are
    #[arg(long, value_name = "PATTERN", requires = "clean_first")]
    spare: Vec<String>,
}

/// Show what settle would do.
#[derive(Debug, Args)]
pub(crate) struct PreviewArgs {
    /// Show the lines of configuration files that would change
    #[arg(long)]
    diff: bool,
}

pub(crate) fn preview(args: &PreviewArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let catalogues = server.catalogues();
    apply(
        &server,
        &catalogues,
        &server.control.wants,
        &Fresh::None,
        (if args.diff { Mode::PreviewWithLines } else { Mode::Preview }, Along::default()),
        ui,
    )
}

pub(crate) fn run(args: &SettleArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let catalogues = server.catalogues();
    let terms = if args.accept_terms { accept(&server)? } else { None };
    let clean = args.clean_first.then(|| globs("--spare", &args.spare)).transpose()?;
    let replace = (!args.replace.is_empty()).then(|| globs("--replace", &args.replace)).transpose()?;
    let plan = PlanOptions { skip_broken: args.skip_broken, replace, ..PlanOptions::default() };
    let along = Along { more: terms, clean, plan, ..Along::default() };
    apply(&server, &catalogues, &server.control.wants, &Fresh::None, (Mode::Settle, along), ui)
}

/// Reads patterns that were given.
pub(super) fn globs(option: &str, patterns: &[String]) -> Result<GlobSet, AppError> {
    let wrong = |text: &str, error: &globset::Error| AppError::Usage {
        what: format!("{option} {text:?}: {}", error.kind()),
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
    let bytes = server.tree.read(&path)?;
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
