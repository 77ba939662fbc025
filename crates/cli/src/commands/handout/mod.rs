//! `handout`: what players need, as a page, a text or a pack.

mod forms;

use std::{fs, path::PathBuf, process::ExitCode};

use clap::{Args, ValueEnum};
use serde::Serialize;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::{
        export::ExportReport,
        handout::{Handout, bundle, handout, remember},
    },
};

use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View, count, size},
};

/// Tell players what they need: which contents, in which version, from where.
#[derive(Debug, Args)]
pub(crate) struct HandoutArgs {
    /// Write it to this file; its suffix says the form, unless --form does
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    /// In which form
    #[arg(long, value_enum)]
    form: Option<Form>,
    /// Also write a pack with the files that may be passed on; the others are in it by name
    #[arg(long, value_name = "FILE")]
    bundle: Option<PathBuf>,
    /// Replace a file that is there already
    #[arg(long)]
    force: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// A page for browsers
    Html,
    /// Text with Markdown's marks
    Markdown,
    /// Plain text
    Text,
    /// For programs
    Json,
}

impl Form {
    fn of_suffix(file: &std::path::Path) -> Option<Self> {
        Some(match file.extension()?.to_str()?.to_lowercase().as_str() {
            "html" | "htm" => Self::Html,
            "md" | "markdown" => Self::Markdown,
            "txt" => Self::Text,
            "json" => Self::Json,
            _ => return None,
        })
    }

    fn write(self, handout: &Handout) -> Result<String, AppError> {
        Ok(match self {
            Self::Html => forms::html(handout)?,
            Self::Markdown => forms::markdown(handout),
            Self::Text => forms::text(handout),
            Self::Json => {
                let failed = |error: serde_json::Error| AppError::Io {
                    what: "writing the handout".into(),
                    source: error.into(),
                };
                serde_json::to_string_pretty(handout).map_err(failed)? + "\n"
            }
        })
    }
}

/// Files that were written.
#[derive(Debug, Serialize)]
struct Written {
    handout: Handout,
    #[serde(skip_serializing_if = "Option::is_none")]
    file: Option<PathBuf>,
    #[serde(skip_serializing_if = "Option::is_none")]
    bundle: Option<ExportReport>,
}

impl View for Written {
    fn view(&self, page: &mut Page) {
        let all = self.handout.install.len() + self.handout.download.len();
        if let Some(file) = &self.file {
            page.line(Role::Good, &format!("Written: {} ({}).", file.display(), count(all, "content")));
        }
        if let Some(bundle) = &self.bundle {
            page.line(Role::Good, &format!("Written: {} ({}).", bundle.file, size(bundle.bytes)));
            let names = |ids: &[yalotheca_core::id::ContentId]| {
                ids.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
            };
            if !bundle.bundled.is_empty() {
                page.item(Role::Plain, &format!("with their files: {}", names(&bundle.bundled)));
            }
            if !bundle.by_name.is_empty() {
                page.item(Role::Plain, &format!("by name only: {}", names(&bundle.by_name)));
            }
            if !bundle.left_out.is_empty() {
                let left_out = names(&bundle.left_out);
                page.item(
                    Role::Warn,
                    &format!("not in it, since nothing says that they may be passed on: {left_out}"),
                );
            }
        }
    }
}

pub(crate) fn run(args: &HandoutArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let writes = args.to.is_some() || args.bundle.is_some();
    let purpose = if writes { Purpose::Change } else { Purpose::Look };
    let server = Server::open(purpose, &global.open(), ui)?;
    let handout = handout(&server)?;
    if !writes {
        match args.form {
            None if ui.is_json() => ui.print(&Form::Json.write(&handout)?)?,
            form => ui.print(&form.unwrap_or(Form::Text).write(&handout)?)?,
        }
        return Ok(ExitCode::SUCCESS);
    }
    if let Some(to) = &args.to {
        let form = args.form.or_else(|| Form::of_suffix(to)).unwrap_or(Form::Text);
        if !args.force {
            yalotheca_app::ops::merge::refuse_to_replace(to)?;
        }
        let text = form.write(&handout)?;
        fs::write(to, text).map_err(|source| AppError::Io { what: to.display().to_string(), source })?;
    }
    let bundle = args.bundle.as_ref().map(|file| bundle(&server, file, args.force)).transpose()?;
    if let Err(error) = remember(&server, &handout) {
        ui.warn(&format!("The next handout cannot say what has changed: {error}"));
    }
    ui.show(&Written { handout, file: args.to.clone(), bundle })?;
    Ok(ExitCode::SUCCESS)
}
