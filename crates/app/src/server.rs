//! An opened server: its control folder, its game definition, its folder and its survey.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::PathBuf,
    sync::{Arc, Mutex, OnceLock, PoisonError, atomic::AtomicBool},
    thread::{self, JoinHandle},
    time::{Duration, Instant},
};

use yalotheca_core::{
    change::Receipt,
    control::{ControlFile, UnpackSection, WANTS_FILE},
    game::Game,
    hint::{Advice, Listing},
    id::{ContentId, Digest, TreePath},
    suggest,
};
use yalotheca_host::{
    catalogue::{GivenInspector, PrefetchedCatalogues},
    control::{Control, Stranger},
    fetch::Fetcher,
    games,
    running::{self, Running},
    settle::{self, Claim, ReceiptFile, SealKey, SettleError},
    store::Store,
    survey::{self, Queries, Survey, SurveyError},
    tree::{EntryKind, LocalTree, RemoteAddress, Tree},
    trust::{Invocation, Trust},
    unpack::{Limits, UnpackOptions},
};

use crate::{
    AppError, Event, Front, plan::reserved::used, remote::open_remote, secrets::Secrets, words::ServerName,
};

/// What becomes of a server that runs when it is to be changed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum WhileRunning {
    /// The change is refused.
    #[default]
    Refuse,
    /// It is stopped for the change, and started again.
    Restart,
    /// The change is made while it runs, and applied through its console; refused if it needs a restart.
    Tell,
}

/// Which server is opened, and how.
#[derive(Debug, Clone, Default)]
pub struct OpenOptions {
    /// The folder with `yalotheca.toml`; else the one above the present folder.
    pub at: Option<PathBuf>,
    /// Whether the network may not be used.
    pub offline: bool,
    /// A file with the password of an archive.
    pub password_file: Option<PathBuf>,
    /// The program that asks for secrets in the name of others: this one.
    pub helper: Option<PathBuf>,
    /// Options for `ssh`, as in its configuration file.
    pub ssh: Vec<String>,
    /// The command that was given, as the history keeps it.
    pub command: String,
    /// What becomes of a server that runs when it is to be changed.
    pub while_running: WhileRunning,
    /// The text shown to players before the server is stopped, and how long before.
    pub announcement: Option<(String, Duration)>,
    /// Whether all files are going to be compared: then they are looked at from the start.
    pub compares: bool,
    /// The names of publishers' keys that may be replaced by others.
    pub accept_keys: Vec<String>,
    /// How long the server may take to start, and a process to stop; else as long as it took before, three times.
    pub patience: Option<Duration>,
    /// Whether a change after which the server does not start well again is taken back.
    pub else_undo: bool,
}

impl OpenOptions {
    /// Returns whether a server that runs is stopped for a change, and started again.
    pub fn restarts(&self) -> bool {
        self.while_running == WhileRunning::Restart
    }
}

/// One server, open for a command.
pub struct Server {
    /// What is wanted and what is locked.
    pub control: Control,
    /// The game definition.
    pub game: Game,
    /// The server's folder.
    pub tree: Arc<dyn Tree>,
    /// The server's values and platform.
    pub survey: Survey,
    /// What was placed and registered; its manifests are read when somebody asks for it.
    receipt: OnceLock<Receipt>,
    reading: ReadingReceipt,
    /// The digest of the receipt's file, where there is one.
    pub receipt_digest: Option<Digest>,
    /// What fetches files.
    pub fetcher: Fetcher,
    /// How given files are looked into.
    pub inspector: GivenInspector,
    pub(crate) ahead: PrefetchedCatalogues,
    /// Files of the server that were fetched to this machine.
    copies: Mutex<Vec<tempfile::NamedTempFile>>,
    /// The command that was given, as the history keeps it.
    pub command: String,
    /// The machine at which its port is asked, once it is known.
    pub(crate) machine: OnceLock<String>,
    /// Whether the change at hand is one that a running server takes.
    pub(crate) takes_live: AtomicBool,
    /// The folder of the server of which this is a copy: what may be run there may be run here.
    copy_of: Option<String>,
    /// How this was opened.
    pub(crate) options: OpenOptions,
}

/// A receipt's manifests, read by another thread while the server is opened.
struct ReadingReceipt {
    file: Option<Arc<ReceiptFile>>,
    thread: Mutex<Option<JoinHandle<Result<Receipt, SettleError>>>>,
}

impl ReadingReceipt {
    fn new(file: Option<ReceiptFile>) -> Self {
        Self { file: file.map(Arc::new), thread: Mutex::default() }
    }

    fn begin(&self, tree: &Arc<dyn Tree>) {
        let mut thread = self.thread.lock().unwrap_or_else(PoisonError::into_inner);
        if let (None, Some(file)) = (&*thread, &self.file) {
            tree.prefetch();
            let (file, tree) = (Arc::clone(file), Arc::clone(tree));
            *thread = Some(thread::spawn(move || file.receipt(&*tree)));
        }
    }

    fn finish(&self, tree: &dyn Tree) -> Result<Receipt, SettleError> {
        let thread = self.thread.lock().unwrap_or_else(PoisonError::into_inner).take();
        match (thread, &self.file) {
            (Some(thread), _) => thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)),
            (None, Some(file)) => file.receipt(tree),
            (None, None) => Ok(Receipt::empty()),
        }
    }
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
        let tree = server_tree(&control, options, front)?;
        if tree.local().is_none() {
            fetch_ahead(&*tree, &control)?;
        }
        if settle::interrupted(&*tree)?.is_some() {
            match settle::claim(&tree) {
                Ok(claim) => {
                    let key = seal_key()?;
                    if let Some(outcome) = settle::recover(&*tree, &control.folder, &key, false)? {
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
        let store = Store::of_user()?;
        let tree = tree.with_inventory(Some(&store.inventory_of(&*tree)));
        let (receipt_file, receipt_digest) = settle::read_receipt_file(&*tree)?.unzip();
        let reading = ReadingReceipt::new(receipt_file);
        if options.compares {
            reading.begin(&tree);
        }
        let ahead = ahead(&control);
        let (game, origin, text) = games::find(Some(&control.folder), &control.wants.server.game)?;
        let given = &control.wants.server.values;
        require_trust((&game, &origin, &text), (&*tree, given), &trust)?;
        // Before any of the server's files is shown.
        let scope = survey::values(&*tree, &game, given);
        let scope = scope.unwrap_or_else(|_| survey::default_scope(&game));
        front.event(Event::Secrets(Secrets::of(&*tree, &game, &scope)));
        let queries = if purpose == Purpose::Look { Queries::Remembered } else { Queries::Run(&trust) };
        let survey = survey::survey(&*tree, &game, given, (queries, &store))?;
        let fetcher = Fetcher::new(store, options.offline).watched(front.watch());
        let inspector = GivenInspector::new(unpack_options(&control.wants, options)?);
        let command = options.command.clone();
        Ok(Self {
            control,
            game,
            tree,
            survey,
            receipt: OnceLock::new(),
            reading,
            receipt_digest,
            fetcher,
            inspector,
            ahead,
            copies: Mutex::default(),
            command,
            machine: OnceLock::new(),
            takes_live: AtomicBool::new(false),
            copy_of: None,
            options: options.clone(),
        })
    }

    /// Returns a copy of this server, opened. What is run there is what was agreed to for this one.
    pub(crate) fn standing_for(
        &self,
        control: Control,
        tree: Arc<dyn Tree>,
        survey: Survey,
    ) -> Result<Self, AppError> {
        let (receipt_file, receipt_digest) = settle::read_receipt_file(&*tree)?.unzip();
        let store = Store::of_user()?;
        Ok(Self {
            game: self.game.clone(),
            inspector: GivenInspector::new(unpack_options(&control.wants, &self.options)?),
            ahead: PrefetchedCatalogues::default(),
            control,
            tree,
            survey,
            receipt: OnceLock::new(),
            reading: ReadingReceipt::new(receipt_file),
            receipt_digest,
            fetcher: Fetcher::new(store, true),
            copies: Mutex::default(),
            command: self.command.clone(),
            machine: OnceLock::from("127.0.0.1".to_owned()),
            takes_live: AtomicBool::new(false),
            copy_of: Some(self.copy_of.clone().unwrap_or_else(|| self.survey.scope.folder.clone())),
            options: self.options.clone(),
        })
    }

    /// Refuses to start the server where this account has not agreed to what would be run.
    pub fn require_run_trust(&self) -> Result<(), AppError> {
        let invocation =
            Invocation::of_server(&self.game, &self.survey.scope).map_err(SurveyError::Render)?;
        self.require_trust_in(invocation, "to start the server")
    }

    /// Refuses to run a program for the server to which this account has not agreed. `why` says what it is for.
    pub(crate) fn require_trust_in(&self, invocation: Option<Invocation>, why: &str) -> Result<(), AppError> {
        let scope = &self.survey.scope;
        let invocation = match &self.copy_of {
            Some(original) => invocation.map(|invocation| invocation.in_folder(&scope.folder, original)),
            None => invocation,
        };
        let foreign = survey::foreign_values(&self.game, scope, &BTreeMap::new());
        match invocation {
            // A missing program is reported when the trial starts it.
            Some(invocation) if invocation.program.exists() && !trust()?.may_run(&invocation, &foreign) => {
                Err(AppError::Refused {
                    what: format!("{why}, {invocation} would be run, which this account has not allowed yet"),
                    hint: Some(Advice::ReviewProgramsOf(self.game.name.clone())),
                })
            }
            _ => Ok(()),
        }
    }

    /// Has the receipt read by another thread, and the files that it names looked at, since both are going to be needed.
    pub fn read_ahead(&self) {
        if self.receipt.get().is_none() {
            self.reading.begin(&self.tree);
        }
    }

    /// Returns how it was opened.
    pub fn options(&self) -> &OpenOptions {
        &self.options
    }

    /// Returns what was placed and registered.
    pub fn receipt(&self) -> Result<&Receipt, AppError> {
        if let Some(receipt) = self.receipt.get() {
            return Ok(receipt);
        }
        let receipt = self.reading.finish(&*self.tree)?;
        Ok(self.receipt.get_or_init(|| receipt))
    }

    /// Returns whose files some paths are, and with which digests they were placed.
    pub fn owners(
        &self,
        paths: &BTreeSet<TreePath>,
    ) -> Result<BTreeMap<TreePath, (ContentId, Digest)>, AppError> {
        match &self.reading.file {
            Some(file) => {
                let index = self.fetcher.store().owners_of(&*self.tree);
                let index = self.receipt_digest.as_ref().map(|receipt| (index.as_path(), receipt));
                Ok(file.owners(&*self.tree, paths, index)?)
            }
            None => Ok(BTreeMap::new()),
        }
    }

    /// Returns the change that somebody made from another control folder and that the lock here does not know of.
    pub fn change_since(&self) -> Result<Option<SettleError>, AppError> {
        let Some(lock) = &self.control.lock_text else { return Ok(None) };
        let here = (self.control.folder.as_path(), lock.as_str());
        let since = settle::change_since(&*self.tree, here, SealKey::known().as_ref())?;
        Ok(since.map(|(number, origin)| SettleError::ChangedSince { number, origin: Box::new(origin) }))
    }

    /// Refuses to plan with a lock that is older than what somebody else has changed: the plan would undo that.
    pub fn require_current_lock(&self) -> Result<(), AppError> {
        self.change_since()?.map_or(Ok(()), |error| Err(error.into()))
    }

    /// Has changes planned on another receipt than that.
    pub fn plan_on(&mut self, receipt: Receipt) {
        self.receipt = OnceLock::from(receipt);
    }

    /// Returns whether anything was placed or registered.
    pub fn has_receipt_of_something(&self) -> bool {
        self.reading.file.as_ref().is_some_and(|file| !file.is_empty())
    }

    /// Returns the server's folder on this machine, for what only works there: its processes, say.
    pub fn local(&self) -> Result<&LocalTree, AppError> {
        self.tree.local().ok_or_else(|| AppError::Refused {
            what: format!(
                "the server at {} runs on another machine, so it cannot be started or stopped from here",
                self.tree.location()
            ),
            hint: Some(Advice::WatchOrSayHow),
        })
    }

    /// Returns a file of this machine with the bytes of a file of the server: the file itself, or a copy that lasts as long as this.
    pub fn file_here(&self, path: &TreePath) -> Result<PathBuf, AppError> {
        if let Some(tree) = self.tree.local() {
            return Ok(tree.at(path));
        }
        let failed = |source| AppError::Io { what: format!("fetching {path}"), source };
        let absent = || failed(std::io::Error::from(std::io::ErrorKind::NotFound));
        let mut copies = self.copies.lock().unwrap_or_else(PoisonError::into_inner);
        let mut copy = tempfile::NamedTempFile::new().map_err(failed)?;
        if !self.tree.copy_to(path, &mut copy)? {
            return Err(absent());
        }
        let at = copy.path().to_owned();
        copies.push(copy);
        Ok(at)
    }

    /// Returns the server as reports name it: `Larkspur Harbour (saltwick, engine 2.4, runtime 6)`.
    pub fn shown(&self) -> ServerName {
        let name = &self.control.wants.server.name;
        ServerName::new(name, &self.game.name, &self.survey.platform, self.tree.location())
    }

    /// Claims the server for a change of the control files only. Where another command is at work, it is waited for a moment.
    pub fn claim(&self) -> Result<Claim, AppError> {
        const PATIENCE: Duration = Duration::from_secs(3);
        let until = Instant::now() + PATIENCE;
        loop {
            match settle::claim(&self.tree) {
                Err(SettleError::Busy { .. }) if Instant::now() < until => {
                    thread::sleep(Duration::from_millis(30));
                }
                claim => return Ok(claim?),
            }
        }
    }

    /// The server's process, if it runs.
    pub fn running(&self) -> Option<Running> {
        running::find(self.tree.local()?, &self.game, &self.survey.scope)
    }

    /// The error for a content that is not on this server.
    pub fn not_here(&self, id: &ContentId, otherwise: Advice) -> AppError {
        let near = self.control.lock.contents.iter().map(|locked| locked.id.as_str());
        // What no catalogue has can neither be installed nor looked at.
        let names_it = matches!(otherwise, Advice::Install(_) | Advice::SeeWhetherItFits(_));
        let is_nowhere = || {
            let catalogues = self.catalogues();
            catalogues.get().is_ok_and(|catalogues| matches!(catalogues.content(id), Ok(None)))
        };
        let otherwise = if names_it && is_nowhere() { Advice::List(Listing::Catalogued) } else { otherwise };
        AppError::Usage {
            what: format!("{id} is not on this server"),
            hint: Some(suggest::did_you_mean(id.as_str(), near).map_or(otherwise, Advice::Say)),
        }
    }
}

/// Returns the server's folder. It must be there: where a disk is not mounted, nothing may be made in its place.
pub fn server_tree(
    control: &Control,
    options: &OpenOptions,
    front: &dyn Front,
) -> Result<Arc<dyn Tree>, AppError> {
    let at = &control.wants.server.at;
    if RemoteAddress::is_one(at) {
        return open_remote(at, options, front);
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
    Ok(Arc::new(LocalTree::new(&folder)))
}

/// Fetches what opening a server is going to read, in few calls: what is in the last journal, the receipt, and the files that the game
/// definition names.
fn fetch_ahead(tree: &dyn Tree, control: &Control) -> Result<(), AppError> {
    let own = |name: &str| TreePath::new(&format!("{}/{name}", settle::OWN));
    let mut paths = vec![own("receipt.json")?];
    let journals = tree.list_folder(&own("journal")?)?;
    let numbers = journals.iter().filter_map(|(name, _)| Some((name.parse::<u32>().ok()?, name)));
    if let Some((_, last)) = numbers.max() {
        paths.push(own(&format!("journal/{last}/state"))?);
        paths.push(own(&format!("journal/{last}/records.json"))?);
    }
    if let Ok((game, ..)) = games::find(Some(&control.folder), &control.wants.server.game) {
        let mut scope = survey::default_scope(&game);
        scope.values.extend(control.wants.server.values.clone());
        paths.extend(used(&game, &scope));
        let registered = game.kinds.values().flat_map(|kind| &kind.register);
        let files = registered.filter_map(|rule| rule.place.file.render(&scope).ok());
        paths.extend(files.filter_map(|file| TreePath::new(&file).ok()).filter(|path| !path.is_root()));
        let mut folders = survey::content_folders(&game, &scope);
        folders.extend(paths.iter().filter_map(TreePath::parent));
        tree.list(&Vec::from_iter(folders), false).ok();
    }
    paths.sort();
    paths.dedup();
    // A file that cannot be read is reported when it is needed.
    if let Ok(kinds) = tree.metadata(&paths) {
        let is_small = |kind: Option<EntryKind>| matches!(kind, Some(EntryKind::File(size)) if size <= SMALL);
        let small = paths.into_iter().zip(kinds).filter(|(_, kind)| is_small(*kind)).map(|(path, _)| path);
        tree.read(&small.collect::<Vec<_>>()).ok();
    }
    Ok(())
}

/// A file no larger than this is fetched in case that it is needed.
const SMALL: u64 = 128 << 10;

/// Returns the key with which this user's changes are recorded.
pub fn seal_key() -> Result<SealKey, AppError> {
    SealKey::of_user().map_err(|source| AppError::Io {
        what: "the key in your state folder (XDG_STATE_HOME)".into(),
        source,
    })
}

/// Where something is wanted that is not locked, catalogues will be asked: they are opened while the server is looked at.
fn ahead(control: &Control) -> PrefetchedCatalogues {
    let locked = control.lock.by_id();
    let is_locked = |id| locked.contains_key(id);
    if control.wants.wants.keys().all(is_locked) {
        return PrefetchedCatalogues::default();
    }
    PrefetchedCatalogues::begin(&control.wants.catalogues, &control.folder)
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
        let again = Advice::AgreeToFolder(folder.clone());
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
    (game, origin, text): (&Game, &games::DefinitionSource, &str),
    (tree, given): (&dyn Tree, &BTreeMap<String, String>),
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
        hint: Some(Advice::AllowDefinition(game.name.clone())),
    })
}
