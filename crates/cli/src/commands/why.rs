//! `why`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::why::{WhyReport, why},
};

use crate::{
    complete,
    global::Global,
    ui::Ui,
    view::{Page, Role, View, lineup},
};

/// Say why a content is on the server, and what keeps it from being newer.
#[derive(Debug, Args)]
pub(crate) struct WhyArgs {
    /// The content's name
    #[arg(add = ArgValueCandidates::new(complete::installed))]
    name: String,
}

impl View for WhyReport {
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
    ui.show(&why(&server, &args.name)?)?;
    Ok(ExitCode::SUCCESS)
}
