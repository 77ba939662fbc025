//! What a person can do about an error.

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
    /// Add a map, or play another one.
    AddMapOrPlayAnother,
    /// Add a map, or take it out of the rotation.
    AddMapOrLeaveItOut,
}

impl From<String> for Advice {
    fn from(text: String) -> Self {
        Self::Say(text)
    }
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
