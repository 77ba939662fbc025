//! `why`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use serde::Serialize;
use yalotheca_app::{AppError, Purpose, Server, plan::newer};
use yalotheca_core::{catalogue::AnyOf, id::ContentId, solve::Explanation, version::ReleaseVersion};

use super::shell;
use crate::{
    args::Global,
    ui::Ui,
    view::{Page, Role, View, lineup},
};

/// Say why a content is on the server, and what keeps it from being newer.
#[derive(Debug, Args)]
pub(crate) struct WhyArgs {
    /// The content's name
    #[arg(add = ArgValueCandidates::new(shell::installed))]
    name: String,
}

#[derive(Debug, Serialize)]
struct WhyView {
    id: ContentId,
    version: ReleaseVersion,
    /// The want, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    you_want: Option<String>,
    needed: Vec<Asked>,
    welcomed: Vec<Asked>,
    #[serde(skip_serializing_if = "Option::is_none")]
    newer: Option<NewerView>,
}

/// Another content that asks for it.
#[derive(Debug, Serialize)]
struct Asked {
    by: ContentId,
    version: ReleaseVersion,
    /// By which name, where it is not its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    as_name: Option<ContentId>,
    range: String,
}

#[derive(Debug, Serialize)]
struct NewerView {
    version: ReleaseVersion,
    fits: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    by_you: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    because: Option<Explanation>,
}

impl View for WhyView {
    fn view(&self, page: &mut Page) {
        page.head(&format!("Why {} is here", self.version.named(&self.id)));
        if let Some(range) = &self.you_want {
            page.item(Role::Plain, range);
        }
        for (asked, verb) in
            self.needed.iter().map(|a| (a, "needs")).chain(self.welcomed.iter().map(|a| (a, "welcomes")))
        {
            let what = match &asked.as_name {
                Some(name) => format!("{name}, which it stands in for"),
                None => "it".to_owned(),
            };
            let range = if asked.range.is_empty() { String::new() } else { format!(": {}", asked.range) };
            page.item(Role::Plain, &format!("{} {verb} {what}{range}", asked.version.named(&asked.by)));
        }
        if self.you_want.is_none() && self.needed.is_empty() {
            page.item(Role::Warn, "Nothing needs it any more; the next settle takes it away.");
        }
        let Some(newer) = &self.newer else {
            page.head("Nothing newer is out");
            return;
        };
        let name = newer.version.named(&self.id);
        match (&newer.by_you, &newer.because) {
            (Some(range), _) => {
                page.head(&format!("{name} is out"));
                page.item(Role::Plain, &format!("You want {range}, so it stays."));
                page.item(Role::Plain, &format!("yalotheca add '{}@*' lets it go on.", self.id));
            }
            (None, Some(because)) => {
                page.head(&format!("{name} is out and does not fit"));
                lineup::sentences(page, because, Some(&self.id));
            }
            (None, None) => {
                page.head(&format!("{name} is out and fits"));
                page.item(Role::Plain, &format!("yalotheca update {} takes it.", self.id));
            }
        }
    }
}

pub(crate) fn run(args: &WhyArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let lock = &server.control.lock;
    let id = ContentId::new(&args.name)?;
    let Some(locked) = lock.get(&id) else {
        return Err(server.not_here(&id, format!("see whether it would fit: yalotheca about {id}")));
    };
    let (mut needed, mut welcomed) = (Vec::new(), Vec::new());
    for other in lock.on().filter(|other| other.id != id) {
        let release = &other.release;
        let asks = |(name, range): (&ContentId, &yalotheca_core::version::VersionRange)| {
            locked.release.stands_for(&id, name).then(|| Asked {
                by: other.id.clone(),
                version: release.version.clone(),
                as_name: (*name != id).then(|| name.clone()),
                range: if range.is_any() { String::new() } else { range.in_words() },
            })
        };
        needed.extend(release.needs.iter().filter_map(asks));
        needed.extend(release.needs_any.iter().flat_map(AnyOf::iter).filter_map(asks));
        welcomed.extend(release.welcomes.iter().filter_map(asks));
    }
    let catalogues = server.catalogues();
    let newer = newer(&server, &catalogues, &id, &locked.release.version)?.map(|newer| NewerView {
        fits: newer.by_you.is_none() && newer.because.is_none(),
        version: newer.version,
        by_you: newer.by_you,
        because: newer.because,
    });
    let off = server.control.wants.off.get(&id);
    let you_want = server.control.wants.wants.get(&id).map(|range| {
        if let Some(why) = off {
            let colon = if why.is_empty() { "" } else { ": " };
            format!("It is off{colon}{why}.")
        } else if range.is_any() {
            "You want it.".to_owned()
        } else if range.is_exact() {
            format!("You hold it at {}.", range.in_words())
        } else {
            format!("You want {}.", range.in_words())
        }
    });
    let version = locked.release.version.clone();
    ui.show(&WhyView { id, version, you_want, needed, welcomed, newer })?;
    Ok(ExitCode::SUCCESS)
}
