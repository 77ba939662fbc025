//! A copy of a server on which something is tried: a change before it is made, or fewer contents. It has ports of its own, and nothing
//! that happens there reaches the original.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
    sync::Arc,
};

use yalotheca_core::{
    change::{ChangeSet, plan},
    control::{ControlFile, LOCK_FILE, Locked, WANTS_FILE},
    document::{Document, Format, Pointer, Value},
    game::{ConfigPlace, Scope},
    id::{ContentId, TreePath},
};
use yalotheca_host::{
    control::Control,
    server_copy::{ServerCopy, free_port},
    settle::{self, ControlTexts},
    sources::Sources,
    survey::{self, FoundContent, Survey},
    tree::{LocalTree, Tree},
    trial::{Patience, Trial, TrialOptions, trial as run_trial},
};

use crate::{
    AppError, OpenCatalogues, Server,
    apply::{Prepared, attempt_change, origin, settle_change},
    findings::{configuration_files, locked_state},
    plan::{look, sources, tools},
    take_over::{place, take_over_one},
};

/// A change that was planned and not made yet.
pub struct PlannedChange<'p, 'c> {
    /// The change.
    pub prepared: &'p Prepared,
    /// The wants after it.
    pub wants: &'p ControlFile,
    /// Where its files come from.
    pub catalogues: &'p OpenCatalogues<'c>,
}

/// A copy of a server, ready to be started.
pub struct OnCopy {
    copy: ServerCopy,
    server: Server,
}

fn failed(what: &str) -> impl Fn(std::io::Error) -> AppError + use<> {
    let what = what.to_owned();
    move |source| AppError::Io { what: what.clone(), source }
}

impl OnCopy {
    /// Copies a server as it is, or as it would be after a change.
    ///
    /// # Errors
    /// If it is on another machine, starting it was not agreed to, or something cannot be read or written.
    pub fn of(server: &Server, change: Option<&PlannedChange<'_, '_>>) -> Result<Self, AppError> {
        let original = server.local()?.root().to_owned();
        // What is started is what was agreed to for the original.
        server.require_run_trust()?;
        let scope = &server.survey.scope;
        let rule = server.game.copy.clone().unwrap_or_default();
        let empty: Vec<globset::GlobMatcher> = rule
            .empty
            .iter()
            .map(|template| template.render(scope).map_err(survey::SurveyError::Render))
            .collect::<Result<Vec<String>, _>>()?
            .iter()
            .filter_map(|pattern| Some(globset::Glob::new(pattern).ok()?.compile_matcher()))
            .collect();
        let leave = |path: &str| empty.iter().any(|glob| glob.is_match(path));
        // A change under way would be copied half done.
        let claim = server.claim()?;
        let copy = ServerCopy::make(&original, &leave).map_err(failed("copying the server"))?;
        drop(claim);
        write_controls(server, &copy)?;
        if let Some(change) = change {
            settle_on(server, &copy, change)?;
        }
        let files = text_files(server)?;
        for path in &files {
            copy.redirect(path.as_str()).map_err(failed("copying the server"))?;
        }
        let given = other_ports(server, &copy)?;
        for (place, to) in &rule.set {
            let to = to.render(scope).map_err(survey::SurveyError::Render)?;
            set_value(&copy, place, scope, &to)?;
        }
        let opened = open(server, copy.folder(), given)?;
        Ok(Self { copy, server: opened })
    }

    /// Has contents that lie there unmanaged managed on the copy, so that it can be started without them.
    ///
    /// # Errors
    /// If the copy's records cannot be written.
    pub fn take_over(&mut self, found: &[FoundContent]) -> Result<(), AppError> {
        let mut receipt = self.server.receipt()?.clone();
        let mut lock = self.server.control.lock.clone();
        for one in found {
            lock.contents.push(take_over_one(&self.server, one)?);
            place(&self.server.game, one, &mut receipt);
        }
        settle::write_receipt(&*self.server.tree, &receipt)?;
        self.copy.write(LOCK_FILE, lock.text().as_bytes()).map_err(failed("copying yalotheca.lock"))?;
        let given = self.server.control.wants.server.values.clone();
        self.server = open(&self.server, self.copy.folder(), given)?;
        Ok(())
    }

    /// Returns the server that is the copy.
    pub fn server(&self) -> &Server {
        &self.server
    }

    /// Starts the copy as it is, and stops it again.
    ///
    /// # Errors
    /// If it cannot be started at all.
    pub fn start(&self, patience: Patience, on_line: &mut dyn FnMut(&str)) -> Result<Trial, AppError> {
        let contents = self.server.control.lock.loaded(&self.server.control.wants.off);
        self.start_loaded(&self.server.survey.scope, &contents.contents, patience, on_line)
    }

    fn start_loaded(
        &self,
        scope: &Scope,
        contents: &[Locked],
        patience: Patience,
        on_line: &mut dyn FnMut(&str),
    ) -> Result<Trial, AppError> {
        let options = TrialOptions { keep: false, patience };
        let tree = self.server.local()?;
        let mut went = run_trial(tree, &self.server.game, scope, contents, options, on_line)?;
        if went.was_first {
            // It made its files; now it is started for real.
            went = run_trial(tree, &self.server.game, scope, contents, options, on_line)?;
        }
        Ok(went)
    }

    /// Starts the copy without some of its contents; afterwards it is as before, and the worlds are as in the original.
    ///
    /// # Errors
    /// If that cannot be arranged, or it cannot be started at all.
    pub fn start_without(
        &mut self,
        without: &BTreeSet<ContentId>,
        patience: Patience,
        on_line: &mut dyn FnMut(&str),
    ) -> Result<Trial, AppError> {
        let protected = survey::protected(&self.server.game, &self.server.survey.scope)?;
        self.copy.renew(&|path| protected.is_match(path)).map_err(failed("copying the worlds"))?;
        let given = self.server.control.wants.server.values.clone();
        let mut fewer = open(&self.server, self.copy.folder(), given)?;
        let everything = self.server.control.lock.loaded(&self.server.control.wants.off);
        fewer.control.lock.contents.retain(|locked| !without.contains(&locked.id));
        let (desired, contents) = locked_state(&fewer)?;
        let mut change = plan(&desired, contents, fewer.receipt()?, &look(&fewer, &desired)?)?;
        let mut bytes = Sources::default();
        let due = tools::due(&fewer, &change, &[]);
        // Which also makes sure that they may be run.
        tools::announce(&fewer, &due)?;
        for tool in due {
            tools::run(&fewer, tool, (&mut change, &mut bytes))?;
        }
        let loaded: Vec<Locked> =
            everything.contents.into_iter().filter(|locked| !without.contains(&locked.id)).collect();
        attempt_change(&fewer, (&change, &bytes), "fewer contents are tried on a copy", || {
            self.start_loaded(&fewer.survey.scope, &loaded, patience, on_line)
        })?
    }
}

/// Opens the copy of a server with these values.
fn open(server: &Server, folder: &Path, given: BTreeMap<String, String>) -> Result<Server, AppError> {
    let mut control = Control::open(folder, false)?;
    control.wants.server.values = given;
    let tree: Arc<dyn Tree> = Arc::new(LocalTree::new(folder));
    let scope = survey::values(&*tree, &server.game, &control.wants.server.values)?;
    let survey = Survey { scope, platform: server.survey.platform.clone() };
    server.standing_for(control, tree, survey)
}

/// Puts the control files into the copy, whose folder the server is then.
fn write_controls(server: &Server, copy: &ServerCopy) -> Result<(), AppError> {
    let wrong = failed("copying yalotheca.toml");
    let wants = in_own_folder(&server.control.wants_text)?;
    copy.write(WANTS_FILE, wants.as_bytes()).map_err(&wrong)?;
    match &server.control.lock_text {
        Some(lock) => copy.write(LOCK_FILE, lock.as_bytes()).map_err(&wrong),
        None => Ok(()),
    }
}

/// Returns the text of a `yalotheca.toml` whose server is the folder that it is in.
fn in_own_folder(wants: &str) -> Result<String, AppError> {
    let wrong = |why: String| failed("copying yalotheca.toml")(std::io::Error::other(why));
    let mut wants = Document::parse(Format::Toml, wants).map_err(|error| wrong(error.to_string()))?;
    let at = Pointer::root().join("server").join("at");
    if wants.get(&at).is_some() {
        wants.set(&at, &Value::Text(".".into())).map_err(|error| wrong(error.to_string()))?;
    }
    Ok(wants.into_text())
}

/// Makes on the copy the change that was planned for the original.
fn settle_on(server: &Server, copy: &ServerCopy, planned: &PlannedChange<'_, '_>) -> Result<(), AppError> {
    let (mut bytes, mut gone) = sources(server, planned.catalogues, &planned.prepared.planned)?;
    if !gone.is_empty() {
        return Err(gone.remove(0).1);
    }
    bytes.extend(planned.prepared.more_bytes());
    let mut change: ChangeSet = planned.prepared.planned.change.clone();
    // Planning has made sure that they may be run.
    for tool in tools::due(server, &change, &[]) {
        tools::run(server, tool, (&mut change, &mut bytes))?;
    }
    let opened = open(server, copy.folder(), server.control.wants.server.values.clone())?;
    let wants = in_own_folder(&planned.wants.text())?;
    let after = ControlTexts { wants: Some(wants), lock: Some(planned.prepared.planned.lock.text()) };
    let origin = origin(server, "a change is tried on a copy", None);
    settle_change(&opened, &change, (after, &bytes), origin).map(drop)
}

/// Returns the text files that may name the server's folder.
fn text_files(server: &Server) -> Result<BTreeSet<TreePath>, AppError> {
    let mut files = configuration_files(server)?;
    let top = server.tree.list_folder(&TreePath::root())?;
    files.extend(top.into_iter().filter_map(|(name, _)| TreePath::new(&name).ok()));
    files.retain(|path| path.as_str() != WANTS_FILE && path.as_str() != LOCK_FILE);
    Ok(files)
}

/// Gives the copy ports of its own, and returns its given values.
fn other_ports(server: &Server, copy: &ServerCopy) -> Result<BTreeMap<String, String>, AppError> {
    let scope = &server.survey.scope;
    let mut given = server.control.wants.server.values.clone();
    for (name, rule) in &server.game.values {
        let is_port = name == "port" || name.ends_with("_port");
        let now = scope.values.get(name).and_then(|text| text.trim().parse::<u16>().ok());
        if !is_port || now.is_none_or(|port| port == 0) {
            continue;
        }
        let port = free_port().map_err(failed("looking for a free port"))?.to_string();
        if let Some(value) = given.get_mut(name) {
            value.clone_from(&port);
        }
        if let Some(place) = &rule.from {
            set_value(copy, place, scope, &Value::Text(port))?;
        }
    }
    Ok(given)
}

/// Sets a value in a file of the copy, if the file is there.
fn set_value(copy: &ServerCopy, place: &ConfigPlace, scope: &Scope, value: &Value) -> Result<(), AppError> {
    let wrong =
        |why: String| AppError::Io { what: "changing the copy".into(), source: std::io::Error::other(why) };
    let (file, pointer) = place.spot(scope).map_err(wrong)?;
    let Ok(bytes) = std::fs::read(copy.folder().join(file.as_str())) else { return Ok(()) };
    let mut document = Document::read(place.format, bytes).map_err(|error| wrong(error.to_string()))?;
    let value = document.get(&pointer).map_or_else(|| value.clone(), |there| value.like(&there));
    document.set(&pointer, &value).map_err(|error| wrong(error.to_string()))?;
    copy.write(file.as_str(), document.text().as_bytes()).map_err(failed("changing the copy"))
}
