//! What a person can do about an error.

use std::path::PathBuf;

/// What a person can do about an error or a finding: a sentence, or something that a front end words as a command of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Advice {
    /// Something to do elsewhere, in one sentence.
    Say(String),
    /// Adopt the server, or say where it is.
    AdoptFirst,
    /// Test the game definition.
    TestDefinition,
    /// Correct the game definition, and test it.
    CorrectDefinition,
    /// Look at the content kinds of the game.
    ListKinds,
    /// Review the programs that would be run, and agree to them.
    ReviewPrograms,
    /// Look at the parameters of a content.
    ShowParameters(String),
    /// Set the value in spite of what stands against it.
    SetAnyway,
    /// Use another value, or set this one in spite of what stands against it.
    OtherValueOrAnyway,
    /// Take back the server's own setting at a place.
    ResetServerSetting(String),
    /// Remove one of two contents, this one say.
    RemoveOneOf(String),
    /// Correct a line, or leave the file alone and do the rest.
    CorrectOrSkip,
    /// Bring the lock back, or have it rebuilt.
    RestoreLock,
    /// Have the receipt rebuilt.
    RebuildReceipt,
    /// Take the lock away from an owner that has not been heard of.
    BreakLock,
    /// Look at what finishing an interrupted change would do.
    ReviewInterrupted,
    /// Bring the control files from where the server was changed, or make new ones.
    BringControlFiles,
    /// Go on from another control folder.
    GoOnFrom(String),
    /// Wait for the host, or go on without the network.
    GoOnOffline,
    /// Use the network once.
    UseNetworkOnce,
    /// Ask all links whether they are right.
    CheckLinks,
    /// Accept the release that is there now.
    AcceptPresent(String),
    /// Name a file that holds the password.
    NamePasswordFile,
    /// Give the right password, or set up a key.
    GiveCredentials,
    /// Leave the password out of an address: there are other places for it.
    KeepPasswordElsewhere,
    /// Name the kind of what was given, if that cannot be seen; the kinds there are, in a clause.
    NameKind(String),
    /// Have everything put right that can be.
    Fix,
    /// Have this put right.
    FixThis(String),
    /// Bring the server to what is wanted.
    Settle,
    /// Put the original of a file back, if its edit was not on purpose.
    ReplaceEdited(String),
    /// Read the terms in a file, and accept them.
    AcceptTerms(String),
    /// Look for newer releases.
    Update,
    /// Remove one of two contents.
    RemoveEither(String, String),
    /// Have lock or receipt rebuilt.
    Repair,
    /// Give a content another name, or switch it off.
    RenameOrSwitchOff(String),
    /// Add a map that is named and not there, or name others instead.
    AddMapOr {
        /// The map.
        map: String,
        /// What names it.
        instead: MapsInstead,
    },
    /// Say the same again in another way, or with something more.
    Amend(Amendment),
    /// Set the setting (`file#/pointer`) that switches the server's console on, and start the server again.
    SwitchConsoleOn(String),
    /// Start the server and leave it running: then its console answers.
    StartForConsole,
    /// Look at a list.
    List(Listing),
    /// Add a catalogue, or give the file itself.
    AddCatalogue,
    /// Tell the developers; the machine-readable output holds what reproduces it.
    ReportDefect,
    /// Install a content.
    Install(String),
    /// Look whether a content would fit this server.
    SeeWhetherItFits(String),
    /// Switch a content on.
    SwitchOn(String),
    /// Switch several contents off together.
    SwitchAllOff(Vec<String>),
    /// Remove a content, which can be undone.
    Remove(String),
    /// Say where in the load order a content should be.
    AskForPlace(String),
    /// Forget what was asked for a content's place.
    ForgetPlace(String),
    /// Compare a key with the one its author publishes, and accept it if they match.
    CompareKey(String),
    /// Offer the pack by another link.
    OfferPack,
    /// Bring the mirror up to date, there where players look.
    PublishMirror,
    /// Start the server for the first time.
    StartOnce,
    /// Start the server first.
    StartFirst,
    /// Give the player what the handout lists.
    HandOut,
    /// Remove the player's own file, so that their game downloads it again.
    RenewOwn(String),
    /// Announce the mirror's address in the right form.
    AnnounceMirror(String),
    /// Build the mirror first, in a folder.
    BuildMirror,
    /// Say where to publish the mirror.
    NameMirrorTarget,
    /// Publish the mirror first, or announce its address in spite of what stands against it.
    PublishFirstOrAnyway,
    /// Choose another folder for the mirror, or replace what is there.
    OtherMirrorFolderOrReplace,
    /// Raise a limit by a server's own setting, if it can be raised so far, or let players download from a mirror.
    RaiseLimit {
        /// The setting with the value that is enough.
        setting: Option<String>,
        /// Whether the game knows mirrors.
        or_mirror: bool,
    },
    /// Play another map first.
    PlayAnotherMap,
    /// Take a map out of the rotation first.
    LeaveOutOfRotation,
    /// Undo a change from the control folder that made it, or accept its record.
    UndoRecordedElsewhere,
    /// Start the server as it is.
    StartAsItIs,
    /// Have a content's files put back.
    PutBack,
    /// See how the server is, or move the control file away to start over.
    CheckOrStartOver,
    /// Work in that control folder.
    WorkThere(PathBuf),
    /// Work in that control folder, and agree to what somebody else put there.
    AgreeToFolder(PathBuf),
    /// Read a game definition, and allow it.
    AllowDefinition(String),
    /// Read a game definition that was left out of a search, and allow it.
    AllowNewDefinition(String),
    /// Review what a game's definition would run.
    ReviewProgramsOf(String),
    /// Stop the server first, or follow its log.
    StopOrWatch {
        /// Whether a trial has started it, so that it can be stopped from here.
        is_ours: bool,
    },
    /// Stop the server first, or have it stopped for the change.
    StopOrRestart(StartedBy),
    /// Follow the log while the server is started there, or say how it is started and stopped.
    WatchOrSayHow,
    /// Say which file the server writes its log to.
    NameLog,
    /// Look at the assets that several contents have.
    ShowClashes,
    /// Drop a catalogue, or choose another name.
    DropCatalogueOrRename(String),
}

/// How a request can be amended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Amendment {
    /// Write a place as a pattern and a folder.
    WritePlace,
    /// Say what a content is called; this name say.
    NameContent(String),
    /// Take all of several contents, or only this one say.
    AllOrOnly(String),
    /// Get a broken file again, or go on without it.
    GetAgainOrLeave(String),
    /// Say where a file goes, or leave it out.
    PlaceOrLeave(String),
    /// Leave a file out, or do without the content.
    LeaveOutOrDoWithout,
    /// Write a parameter with its value.
    WriteParameter(String),
    /// Give a parameter that has no default.
    GiveParameter {
        /// Its name.
        name: String,
        /// What it takes, in words.
        takes: String,
    },
    /// Choose for whom the pack is.
    ChooseEdition,
    /// Choose another name for the file, or replace it.
    OtherNameOrReplace,
    /// Say which of these games it is.
    NameGame(Vec<String>),
    /// Say which settings file is meant; this one say.
    NameSettingsFile(Option<String>),
    /// Write a setting with its value, or reset it.
    SetOrReset(String),
    /// Compare a new key with what its author publishes, and accept it by its name.
    AcceptKey(String),
}

/// A list that a person can look at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Listing {
    /// The findings of a check.
    Findings,
    /// The maps that are here.
    Maps,
    /// All changes.
    History,
    /// What is installed.
    Installed,
    /// The catalogues of this server.
    Catalogues,
    /// What the catalogues have.
    Catalogued,
    /// All that can be set.
    Settings,
    /// What can be set of one owner.
    SettingsOf(String),
    /// What was set of one owner.
    OwnSettings(String),
    /// What a game definition says.
    Definition(String),
}

/// Who started a server that runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StartedBy {
    /// A trial that left it running.
    Trial,
    /// Somebody at this machine.
    Somebody,
    /// Somebody at another machine, mostly in a panel.
    Panel,
}

impl From<String> for Advice {
    fn from(text: String) -> Self {
        Self::Say(text)
    }
}

/// Which maps to name in place of one that is not there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MapsInstead {
    /// One to start with, if there is another.
    Play(Option<String>),
    /// Those that are played in turn and are there.
    Rotate(Vec<String>),
    /// Those that players may choose and are there.
    Offer(Vec<String>),
}

impl From<&str> for Advice {
    fn from(text: &str) -> Self {
        Self::Say(text.to_owned())
    }
}

/// Errors that know a way out.
pub trait Hint {
    /// Returns what to do next, where there is something to do.
    fn hint(&self) -> Option<Advice> {
        None
    }
}
