//! `maps try`: a new map against the one that is known to work, so that a fault is known to be the map's.

use std::{process::ExitCode, time::Duration};

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError, Prompt, Purpose, Server,
    apply::{carry_out, note, origin, texts},
    plan::{Fresh, PlanOptions, plan_change, sources},
    server::seal_key,
};
use yalotheca_app::{
    maps::{self, MapSource},
    ops::{
        add::{AddRequest, wanted},
        maps::rule,
    },
};
use yalotheca_core::{control::ControlFile, diagnose::Verdict, game::Maps, id::ContentId};
use yalotheca_host::{
    catalogue::Sources,
    settle::{self, Order},
    survey,
    trial::{Trial, TrialOptions, trial},
    trust::shell_word,
};

use crate::{
    args::Global,
    ui::Ui,
    view::{Page, Role, View, change::ChangeView},
};

#[derive(Debug, Args)]
pub(super) struct TryArgs {
    /// A link, a file, or a name of a catalogue
    #[arg(value_name = "WHAT")]
    what: String,
    /// Which one, where it holds several
    #[arg(long, value_name = "NAME")]
    only: Option<String>,
    /// Leave these files of it out
    #[arg(long, value_name = "PATTERN")]
    leave: Vec<String>,
    /// How many seconds to wait for the server to be ready
    #[arg(long, value_name = "SECONDS", default_value_t = 60)]
    patience: u64,
}

/// Whose fault it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
enum Fault {
    /// Nobody's: it works.
    None,
    /// The new map's.
    Map,
    /// The server's: it fails with the known map as well.
    Server,
}

#[derive(Debug, Serialize)]
struct TryView {
    server: String,
    map: String,
    known: String,
    fault: Fault,
    /// What the failing start said.
    troubles: Vec<String>,
}

impl View for TryView {
    fn view(&self, page: &mut Page) {
        let Self { map, known, .. } = self;
        match self.fault {
            Fault::None => {
                page.line(
                    Role::Good,
                    &format!("{map} works: the server starts with {known}, and it starts with {map}."),
                );
                page.line(
                    Role::Plain,
                    &format!(
                        "It is installed; {known} still plays. yalotheca maps play {} puts it on.",
                        shell_word(map)
                    ),
                );
            }
            Fault::Map => {
                page.line(
                    Role::Bad,
                    &format!("The fault is {map}'s: the server starts with {known}, and not with {map}."),
                );
                page.line(Role::Plain, "Everything is as it was before.");
            }
            Fault::Server => {
                page.line(
                    Role::Bad,
                    &format!("The fault is not {map}'s: the server does not start with {known} either."),
                );
                page.line(Role::Plain, &format!("{map} was not installed. yalotheca trial looks closer."));
            }
        }
        if !self.troubles.is_empty() {
            page.head("What the server says");
            for trouble in &self.troubles {
                page.item(Role::Warn, trouble);
            }
        }
    }
}

pub(super) fn run(
    args: &TryArgs,
    server: &Server,
    (global, ui): (&Global, &Ui),
) -> Result<ExitCode, AppError> {
    let rule = rule(server)?;
    let (map, mut wants) = find(args, server, rule, ui)?;
    let known = server.survey.scope.values.get("map").cloned().unwrap_or_default();
    let known = wants.maps.play.clone().unwrap_or(known);
    if known == map {
        return Err(AppError::Usage {
            what: format!("{map} is the map that plays now; there is nothing to hold it against"),
            hint: Some("yalotheca trial starts the server as it is".into()),
        });
    }
    if !ui.confirm(&format!("Start the server with {known}, then with {map}?"))? {
        ui.note("Nothing was changed.");
        return Ok(ExitCode::SUCCESS);
    }
    let waiting = ui.wait(&format!("Starting with {known}, which plays now"));
    let with_known = start(server, args)?;
    drop(waiting);
    let mut view = TryView {
        server: server.shown(),
        map: map.clone(),
        known: known.clone(),
        fault: Fault::None,
        troubles: Vec::new(),
    };
    if with_known.verdict == Verdict::Failed {
        view.fault = Fault::Server;
        view.troubles = told(&with_known);
        ui.show(&view)?;
        return Ok(ExitCode::FAILURE);
    }
    // The map is installed and put on, tried, and all of that is taken back; where it works, it is installed without being put on.
    let kept = wants.clone();
    wants.play(Some(&map));
    let waiting = ui.wait(&format!("Starting with {map}"));
    let went = attempt(server, &wants, args)?;
    drop(waiting);
    let old: Vec<String> = told(&with_known);
    let failed = match &went {
        Ok(went) => {
            view.troubles = told(went).into_iter().filter(|line| !old.contains(line)).collect();
            went.verdict == Verdict::Failed || !view.troubles.is_empty()
        }
        Err(_) => true,
    };
    went?;
    if !failed {
        install(global, &kept, ui)?;
    }
    view.fault = if failed { Fault::Map } else { Fault::None };
    ui.show(&view)?;
    Ok(if failed { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

/// Finds the map, and returns its name and what is wanted with it.
fn find(args: &TryArgs, server: &Server, rule: &Maps, ui: &Ui) -> Result<(String, ControlFile), AppError> {
    let here = maps::list(server, rule, true)?;
    let known_here = here
        .iter()
        .filter(|map| map.origin != MapSource::Nowhere)
        .find(|map| map.name == args.what || map.id.as_ref().is_some_and(|id| id.as_str() == args.what));
    let request = AddRequest {
        names: vec![args.what.clone()],
        only: args.only.iter().cloned().collect(),
        leave: args.leave.clone(),
        ..AddRequest::default()
    };
    // What is here already is only played.
    let (wants, named) = match known_here {
        Some(_) => (server.control.wants.clone(), None),
        None => wanted(server, &request, ui)?,
    };
    let map = match (known_here, &named) {
        (Some(here), _) => here.name.clone(),
        (None, Some(id)) => name_when_installed(server, &wants, rule, id)?,
        (None, None) => return Err(AppError::Usage { what: "nothing was named".into(), hint: None }),
    };
    Ok((map, wants))
}

/// Returns what the server will call a map once it is installed.
fn name_when_installed(
    server: &Server,
    wants: &ControlFile,
    rule: &Maps,
    id: &ContentId,
) -> Result<String, AppError> {
    let catalogues = server.catalogues_for(wants);
    let planned = plan_change(server, &catalogues, wants, &Fresh::None, &PlanOptions::default())?;
    let placed = planned.desired.placements.iter().filter(|(_, placement)| placement.content == *id);
    Ok(maps::name_of(server.game.kinds.get(&rule.kind), id, placed.map(|(path, _)| path)))
}

/// Tries other wants on the server, which is as before afterwards.
fn attempt(
    server: &Server,
    wants: &ControlFile,
    args: &TryArgs,
) -> Result<Result<Trial, AppError>, AppError> {
    let catalogues = server.catalogues_for(wants);
    let planned = plan_change(server, &catalogues, wants, &Fresh::None, &PlanOptions::default())?;
    let (bytes, mut gone) = sources(server, &catalogues, &planned)?;
    if !gone.is_empty() {
        return Err(gone.remove(0).1);
    }
    let key = seal_key()?;
    let _claim = server.claim_stopped()?;
    let now = texts(&server.control);
    let order = Order {
        change: &planned.change,
        receipt_before: &server.receipt,
        receipt_digest: server.receipt_digest,
        before: now.clone(),
        after: now,
        control: server.control.folder.clone(),
        origin: origin(server, "a map is tried", None),
        key: &key,
    };
    let given = &server.control.wants.server.values;
    Ok(settle::attempt(&server.tree, &order, &bytes, || {
        let scope = survey::values(&server.tree, &server.game, given)?;
        server.require_run_trust()?;
        let options = TrialOptions { keep: false, patience: Duration::from_secs(args.patience) };
        let contents = planned.lock.loaded(&server.control.wants.off);
        Ok(trial(&server.tree, &server.game, &scope, &contents.contents, options, &mut |_| {})?)
    })?)
}

/// Installs a map that works, as one change; the server has been started since the plan was made, so it is planned again.
fn install(global: &Global, wants: &ControlFile, ui: &Ui) -> Result<(), AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let catalogues = server.catalogues_for(wants);
    let planned = plan_change(&server, &catalogues, wants, &Fresh::None, &PlanOptions::default())?;
    let view = ChangeView::of(server.shown(), &planned);
    if planned.change.is_empty() {
        return note(&server, wants, (Some(&planned.lock.text()), &view.summary()));
    }
    carry_out(&server, &catalogues, wants, planned, (Sources::default(), &view.summary())).map(drop)
}

fn start(server: &Server, args: &TryArgs) -> Result<Trial, AppError> {
    server.require_run_trust()?;
    let options = TrialOptions { keep: false, patience: Duration::from_secs(args.patience) };
    let lineup = &server.control.lock.contents;
    Ok(trial(&server.tree, &server.game, &server.survey.scope, lineup, options, &mut |_| {})?)
}

fn told(trial: &Trial) -> Vec<String> {
    let mut told: Vec<String> = Vec::new();
    for trouble in &trial.troubles {
        if !told.contains(&trouble.says) {
            told.push(trouble.says.clone());
        }
    }
    told
}
