//! What most commands begin with: the control folder, the game, the server's folder, and what is known of it.

use std::{
    cell::{OnceCell, Ref, RefCell},
    collections::{BTreeMap, HashMap},
    mem::ManuallyDrop,
    path::PathBuf,
    time::{Duration, Instant},
};

use tracing::debug;
use yalotheca_core::{
    catalogue::{Platform, Release, Universe},
    change::Receipt,
    control::{ControlFile, Given, Locked, UnpackSection, WANTS_FILE},
    game::Game,
    id::{ContentId, Digest},
    link::without_user,
    solve::{Answer, Question, Selection, solve},
    suggest,
    version::VersionRange,
};
use yalotheca_host::{
    catalogue::{Ahead, Catalogues, Looks},
    control::{Control, Stranger},
    fetch::Fetcher,
    games,
    running::{self, Running},
    settle::{self, Claim, SealKey, SettleError},
    store::Store,
    survey::{self, Queries, Survey, SurveyError},
    tree::LocalTree,
    trust::{Invocation, Trust},
    unpack::{Limits, UnpackOptions},
};

use crate::{
    AppError, Event, Front,
    plan::{Fresh, Mend},
    secrets::Secrets,
};

/// Which server is opened, and how.
#[derive(Debug, Clone, Default)]
pub struct OpenOptions {
    /// The folder with `yalotheca.toml`; else the one above the present folder.
    pub at: Option<PathBuf>,
    /// Whether the network may not be used.
    pub offline: bool,
    /// A file with the password of an archive.
    pub password_file: Option<PathBuf>,
    /// The command that was given, as the history keeps it.
    pub command: String,
}

/// One server, open for a command.
pub struct Server {
    /// What is wanted and what is locked.
    pub control: Control,
    /// The game definition.
    pub game: Game,
    /// The server's folder.
    pub tree: LocalTree,
    /// What is known of the server itself.
    pub survey: Survey,
    /// What was placed and registered.
    pub receipt: Receipt,
    /// The receipt as it was read, where another one is planned on.
    read_receipt: Option<Receipt>,
    /// The digest of the receipt's file, where there is one.
    pub receipt_digest: Option<Digest>,
    /// What fetches files.
    pub fetcher: Fetcher,
    /// How given files are looked into.
    pub looks: Looks,
    ahead: Ahead,
    /// The command that was given, as the history keeps it.
    pub command: String,
}

/// What a command is about to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// It only looks: no program is run for that.
    Look,
    /// It changes the server.
    Change,
}

impl Server {
    /// Opens the server that the options name. A settle that was interrupted is finished or taken back first.
    pub fn open(purpose: Purpose, options: &OpenOptions, front: &dyn Front) -> Result<Self, AppError> {
        let trust = trust()?;
        let mut control = Control::open(&open_folder(options, &trust, front)?, false)?;
        let tree = server_tree(&control)?;
        if settle::interrupted(&tree)?.is_some() {
            match settle::claim(&tree) {
                Ok(claim) => {
                    let key = seal_key()?;
                    if let Some(outcome) = settle::recover(&tree, &control.folder, &key, false)? {
                        front.event(Event::Recovered(&outcome));
                        control = Control::open(&control.folder, false)?;
                    }
                    drop(claim);
                }
                // Somebody is at work there, so nothing is interrupted; looking is free, and a change will be refused.
                Err(SettleError::Busy { .. }) => {}
                Err(error) => return Err(error.into()),
            }
        }
        let ahead = ahead(&control);
        let (game, origin, text) = games::find(Some(&control.folder), &control.wants.server.game)?;
        let given = &control.wants.server.values;
        require_trust((&game, &origin, &text), (&tree, given), &trust)?;
        // Before any of the server's files is shown.
        let scope = survey::values(&tree, &game, given);
        let scope = scope.unwrap_or_else(|_| survey::default_scope(&game));
        front.event(Event::Secrets(Secrets::of(&tree, &game, &scope)));
        let store = Store::of_user()?;
        let queries = if purpose == Purpose::Look { Queries::Remembered } else { Queries::Run(&trust) };
        let survey = survey::survey(&tree, &game, given, (queries, &store))?;
        let (receipt, receipt_digest) = settle::read_receipt(&tree)?;
        let fetcher = Fetcher::new(store, options.offline).watched(front.watch());
        let looks = Looks::new(unpack_options(&control.wants, options)?);
        let read_receipt = None;
        let command = options.command.clone();
        Ok(Self {
            control,
            game,
            tree,
            survey,
            receipt,
            read_receipt,
            receipt_digest,
            fetcher,
            looks,
            ahead,
            command,
        })
    }

    /// Refuses to start the server where this account has not agreed to what would be run.
    pub fn require_run_trust(&self) -> Result<(), AppError> {
        let Survey { scope, .. } = &self.survey;
        let invocation = Invocation::of_server(&self.game, scope).map_err(SurveyError::Render)?;
        let foreign = survey::foreign_values(&self.game, scope, &BTreeMap::new());
        match invocation {
            // A missing program is reported when the trial starts it.
            Some(invocation) if invocation.program.exists() && !trust()?.may_run(&invocation, &foreign) => {
                Err(AppError::Refused {
                    what: format!(
                        "to start the server, {invocation} would be run, which this account has not allowed yet"
                    ),
                    hint: Some(format!(
                        "review it first: yalotheca game trust {} shows all that would be run, and asks",
                        self.game.name
                    )),
                })
            }
            _ => Ok(()),
        }
    }

    /// Keeps the receipt as it was read; what is added to it from now on is only planned on.
    pub fn keep_receipt(&mut self) {
        self.read_receipt = Some(self.receipt.clone());
    }

    /// Returns the receipt as it was read.
    pub fn read_receipt(&self) -> &Receipt {
        self.read_receipt.as_ref().unwrap_or(&self.receipt)
    }

    /// What people call the server, with its platform: `Larkspur Harbour (saltwick, engine 2.4, runtime 6)`.
    pub fn shown(&self) -> String {
        let name = &self.control.wants.server.name;
        let name = if name.is_empty() { self.tree.root().display().to_string() } else { name.clone() };
        let parts: Vec<String> =
            self.survey.platform.parts.iter().map(|(part, version)| format!("{part} {version}")).collect();
        // Some games call a part of their platform by their own name.
        let own = self.survey.platform.parts.contains_key(&self.game.name);
        let game = if own { Vec::new() } else { vec![self.game.name.clone()] };
        let brackets = [game, parts].concat().join(", ");
        format!("{name} ({brackets})")
    }

    /// The catalogues, opened when they are first needed.
    pub fn catalogues(&self) -> OpenCatalogues<'_> {
        self.catalogues_for(&self.control.wants)
    }

    /// The catalogues for other wants than the noted ones: what is given by hand is in them.
    pub fn catalogues_for<'a>(&'a self, wants: &'a ControlFile) -> OpenCatalogues<'a> {
        let mut universe = Universe::open();
        // What is switched off is as if it were not there.
        wants.off.keys().for_each(|id| universe.close(id));
        for locked in self.control.lock.contents.iter().filter(|locked| !wants.off.contains_key(&locked.id)) {
            for provided in locked.release.provides.keys() {
                universe.note_provider(provided, &locked.id);
            }
        }
        OpenCatalogues {
            server: self,
            wants,
            opened: OnceCell::new(),
            fresh: RefCell::new(Fresh::None),
            tolerated: OnceCell::new(),
            mend: RefCell::new(Mend::None),
            universe: RefCell::new(ManuallyDrop::new(universe)),
        }
    }

    /// Refuses to go on while the server runs, since it may hold or rewrite its files.
    pub fn refuse_running(&self) -> Result<(), AppError> {
        match self.running() {
            None => Ok(()),
            Some(running) => Err(AppError::Refused {
                what: format!("the server is running (process {})", running.pid),
                hint: Some(how_to_stop(&running)),
            }),
        }
    }

    /// Claims the server for a change. Refused while the server runs.
    pub fn claim_stopped(&self) -> Result<Claim, AppError> {
        self.refuse_running()?;
        self.claim()
    }

    /// Claims the server for a change of the control files only. Where another command is at work, it is waited for a moment.
    pub fn claim(&self) -> Result<Claim, AppError> {
        const PATIENCE: Duration = Duration::from_secs(3);
        let until = Instant::now() + PATIENCE;
        loop {
            match settle::claim(&self.tree) {
                Err(SettleError::Busy { .. }) if Instant::now() < until => {
                    std::thread::sleep(Duration::from_millis(30));
                }
                claim => return Ok(claim?),
            }
        }
    }

    /// The server's process, if it runs.
    pub fn running(&self) -> Option<Running> {
        running::find(&self.tree, &self.game, &self.survey.scope)
    }

    /// The error for a content that is not on this server.
    pub fn not_here(&self, id: &ContentId, otherwise: String) -> AppError {
        let near = self.control.lock.contents.iter().map(|locked| locked.id.as_str());
        AppError::Usage {
            what: format!("{id} is not on this server"),
            hint: suggest::did_you_mean(id.as_str(), near).or(Some(otherwise)),
        }
    }

    /// The error for a content that nobody has.
    pub fn unknown(catalogues: &OpenCatalogues<'_>, id: &ContentId) -> Result<AppError, AppError> {
        let near = catalogues.get()?.listings().into_iter().map(|listing| listing.id.to_string()).collect();
        let has_catalogues = !catalogues.server.control.wants.catalogues.is_empty();
        Ok(AppError::UnknownContent { id: id.clone(), near, has_catalogues })
    }
}

/// Returns the server's folder. It must be there: where a disk is not mounted, nothing may be made in its place.
pub fn server_tree(control: &Control) -> Result<LocalTree, AppError> {
    let at = &control.wants.server.at;
    if at.contains("://") {
        let scheme = at.split(':').next().unwrap_or_default();
        return Err(AppError::Refused {
            what: format!(
                "yalotheca.toml says that the server is at {}, and this version works on folders of this machine only ({scheme} is still to come)",
                without_user(at)
            ),
            hint: Some(
                "run yalotheca on the server's machine, or mount its folder here and set at to that".into(),
            ),
        });
    }
    let folder = control.server_folder();
    if !folder.is_dir() {
        return Err(AppError::Refused {
            what: format!("the server's folder {} is not there", folder.display()),
            hint: Some(
                "if it is on another disk, mount that first; else correct at in yalotheca.toml".into(),
            ),
        });
    }
    Ok(LocalTree::new(&folder))
}

/// What to do about a server that runs and must not.
pub fn how_to_stop(running: &Running) -> String {
    if running.is_noted {
        "a trial started it: yalotheca stop ends it. It may rewrite what is changed under it.".into()
    } else {
        "stop it first; it may rewrite what is changed under it".into()
    }
}

/// Returns the key with which this user's changes are recorded.
pub fn seal_key() -> Result<SealKey, AppError> {
    SealKey::of_user().map_err(|source| AppError::Io {
        what: "the key in your state folder (XDG_STATE_HOME)".into(),
        source,
    })
}

/// Where something is wanted that is not locked, catalogues will be asked: they are opened while the server is looked at.
fn ahead(control: &Control) -> Ahead {
    let locked = control.lock.by_id();
    let is_locked = |id| locked.contains_key(id);
    if control.wants.wants.keys().all(is_locked) {
        return Ahead::default();
    }
    Ahead::begin(&control.wants.catalogues, &control.folder)
}

fn unpack_options(wants: &ControlFile, options: &OpenOptions) -> Result<UnpackOptions, AppError> {
    let UnpackSection { entries, bytes, ratio } = wants.unpack;
    let usual = Limits::default();
    let limits = Limits {
        entries: entries.unwrap_or(usual.entries),
        bytes: bytes.unwrap_or(usual.bytes),
        ratio: ratio.unwrap_or(usual.ratio),
    };
    let read = |path: &PathBuf| {
        let text = std::fs::read_to_string(path);
        text.map_err(|source| AppError::Io { what: format!("the password file {}", path.display()), source })
    };
    let password = options.password_file.as_ref().map(read).transpose()?;
    Ok(UnpackOptions {
        limits,
        password: password.map(|text| text.trim_end_matches(['\r', '\n']).to_owned()),
    })
}

/// What this user has agreed to.
pub fn trust() -> Result<Trust, AppError> {
    Trust::of_user().map_err(|source| AppError::Io { what: "your configuration folder".into(), source })
}

/// Finds the control folder. One that another user could have put there is taken only where it was named and agreed to.
pub fn open_folder(options: &OpenOptions, trust: &Trust, front: &dyn Front) -> Result<PathBuf, AppError> {
    let start = options.at.clone().unwrap_or_else(|| PathBuf::from("."));
    let (folder, foreign) = Control::find(&start, options.at.is_none())?;
    if let Some(Stranger { owner, why }) = foreign
        && !trust.has_folder(&folder, owner)
    {
        let what = format!("{}: {why}", folder.join(WANTS_FILE).display());
        let again = format!("yalotheca --at '{}' … asks whether to use it", folder.display());
        if options.at.is_none() {
            return Err(AppError::Refused { what, hint: Some(again) });
        }
        front.event(Event::ForeignFolder { file: folder.join(WANTS_FILE), why: &why });
        if !front.confirm("Use it?")? {
            return Err(AppError::Refused { what, hint: None });
        }
        trust
            .agree_to_folder(&folder, owner)
            .map_err(|source| AppError::Io { what: "noting that it may be used".into(), source })?;
    }
    Ok(folder)
}

/// A definition that may have come with a server's folder is not used before it was agreed to.
pub fn require_trust(
    (game, origin, text): (&Game, &games::Origin, &str),
    (tree, given): (&LocalTree, &BTreeMap<String, String>),
    trust: &Trust,
) -> Result<(), AppError> {
    if games::is_trusted(origin, text, trust) {
        return Ok(());
    }
    let scope = survey::values(tree, game, given)?;
    let commands = Invocation::all(game, &scope).map_err(SurveyError::Render)?;
    let commands: Vec<String> = commands.iter().map(ToString::to_string).collect();
    Err(AppError::Refused {
        what: format!("the game definition {origin} is new here, and it would run: {}", commands.join("; ")),
        hint: Some(format!("read it, then allow it: yalotheca game trust {}", game.name)),
    })
}

/// The catalogues of a server.
pub struct OpenCatalogues<'a> {
    server: &'a Server,
    wants: &'a ControlFile,
    opened: OnceCell<ManuallyDrop<Catalogues<'a>>>,
    /// Which contents may become newer: of those a catalogue is asked, of all others the lock.
    fresh: RefCell<Fresh>,
    /// What is installed and breaks something already, without what it breaks.
    tolerated: OnceCell<HashMap<ContentId, Release>>,
    /// What is installed and must satisfy everything, as what is new must.
    mend: RefCell<Mend>,
    /// What was read of them so far, and what is locked of that. Both are never taken apart: the program ends with the
    /// command, and the memory of many thousand small things is given back sooner as a whole.
    universe: RefCell<ManuallyDrop<Universe>>,
}

impl<'a> OpenCatalogues<'a> {
    /// Returns the catalogues.
    pub fn get(&self) -> Result<&Catalogues<'a>, AppError> {
        if let Some(opened) = self.opened.get() {
            return Ok(opened);
        }
        let Server { control, game, fetcher, looks, ahead, .. } = self.server;
        let locked =
            control.lock.by_id().into_iter().map(|(id, locked)| (id.clone(), locked.clone())).collect();
        let opened = Catalogues::open(self.wants, (&control.folder, locked), game, fetcher, looks, ahead)?;
        Ok(self.opened.get_or_init(|| ManuallyDrop::new(opened)))
    }

    /// From now on these contents may become newer.
    pub fn set_fresh(&self, fresh: &Fresh) {
        self.fresh.replace(fresh.clone());
    }

    /// From now on these installed contents must satisfy everything, as what is new must.
    pub fn mend(&self, mend: &Mend) {
        self.mend.replace(mend.clone());
    }

    /// Returns the release of an installed content that stays as it is.
    pub fn staying<'l>(&'l self, locked: &'l Locked) -> &'l Release {
        if self.mend.borrow().has(&locked.id) {
            return &locked.release;
        }
        let Server { control, survey, .. } = self.server;
        let tolerated =
            self.tolerated.get_or_init(|| control.lock.tolerated(&survey.platform, &self.wants.off));
        tolerated.get(&locked.id).unwrap_or(&locked.release)
    }

    /// Returns how a content was given, where it was given by hand.
    pub fn given(&self, id: &ContentId) -> Option<&Given> {
        self.wants.given.get(id)
    }

    /// Returns what was read so far.
    pub fn universe(&self) -> Ref<'_, Universe> {
        Ref::map(self.universe.borrow(), |universe| &**universe)
    }

    /// Solves, reading those contents that turn out to matter and no others.
    pub fn solve(
        &self,
        platform: &Platform,
        wants: &BTreeMap<ContentId, VersionRange>,
        locked: &Selection,
    ) -> Result<Answer, AppError> {
        let wanted: Vec<ContentId> = wants.keys().cloned().collect();
        // Mostly the newest release that may be chosen is.
        let may = |id: &ContentId, release: &Release| {
            !release.withdrawn
                && wants.get(id).is_none_or(|range| range.matches(&release.version))
                && locked.get(id).is_none_or(|version| release.version == *version)
                && platform.miss(release).is_none()
        };
        self.read(&wanted, may)?;
        if let Some(id) = wants.keys().find(|id| self.universe().get(id).is_none()) {
            return Err(Server::unknown(self, id)?);
        }
        loop {
            let universe = self.universe();
            let question = Question { universe: &universe, platform, wants, locked };
            let started = Instant::now();
            let answer = solve(&question);
            debug!("solved for {} wants in {} ms", wants.len(), started.elapsed().as_millis());
            match answer {
                Answer::Unread(ids) => {
                    drop(universe);
                    self.read(&ids, may)?;
                }
                Answer::Defect { breaches, .. } => {
                    let breaches = breaches.iter().map(ToString::to_string).collect();
                    return Err(AppError::Solver { breaches, question: Box::new(question.to_json()) });
                }
                answer => return Ok(answer),
            }
        }
    }

    /// Reads contents. What is locked of them is added, so that it can stay even where its catalogue has forgotten it.
    fn read(&self, ids: &[ContentId], may: impl Fn(&ContentId, &Release) -> bool) -> Result<(), AppError> {
        let mut universe = self.universe.borrow_mut();
        let unread: Vec<ContentId> = ids.iter().filter(|id| universe.is_unread(id)).cloned().collect();
        if unread.is_empty() {
            return Ok(());
        }
        let read = self.get()?.read(&unread, &mut universe, may)?;
        let lock = self.server.control.lock.by_id();
        for locked in read.iter().filter_map(|id| lock.get(id)) {
            if self.fresh.borrow().has(&locked.id) {
                universe.add_release(&locked.id, &locked.catalogue, locked.release.clone());
            } else {
                universe.put_release(&locked.id, &locked.catalogue, self.staying(locked).clone());
            }
        }
        Ok(())
    }
}
