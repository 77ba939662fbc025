//! What a person can do about an error, as a command or a sentence.

use yalotheca_core::hint::Advice;

/// Says what to do.
pub(crate) fn in_words(advice: &Advice) -> String {
    match advice {
        Advice::Say(text) => text.clone(),
        Advice::AdoptFirst => {
            "run yalotheca adopt in the server's folder first, or say where it is with --at FOLDER".into()
        }
        Advice::TestDefinition => "yalotheca game check FILE tests a definition".into(),
        Advice::CorrectDefinition => {
            "the game definition needs to be corrected; yalotheca game check tests it".into()
        }
        Advice::ListKinds => "yalotheca game show NAME lists the kinds".into(),
        Advice::ReviewPrograms => {
            "review it first: yalotheca game trust shows everything that would be run, and asks".into()
        }
        Advice::ShowParameters(content) => format!("yalotheca settings {content} shows its parameters"),
        Advice::SetAnyway => "add --force to set it anyway".into(),
        Advice::OtherValueOrAnyway => "use another value, or add --force to set this one anyway".into(),
        Advice::ResetServerSetting(pointer) => {
            format!("take one of them back: yalotheca settings server --reset {pointer}")
        }
        Advice::RemoveOneOf(content) => format!("drop one of them: yalotheca drop {content}"),
        Advice::CorrectOrSkip => {
            "correct that line, or run yalotheca settle --skip-broken to leave this file alone and do the rest"
                .into()
        }
        Advice::RestoreLock => {
            "restore it from version control, or run yalotheca repair, which rebuilds it without changing anything \
             on the server"
                .into()
        }
        Advice::RebuildReceipt => "yalotheca repair rebuilds it without changing anything on the server".into(),
        Advice::BreakLock => "make sure that no other yalotheca is running there, then: yalotheca repair --unlock".into(),
        Advice::ReviewInterrupted => "yalotheca repair shows what finishing it would do, and asks".into(),
        Advice::BringControlFiles => {
            "copy yalotheca.toml and yalotheca.lock from that folder (keep both under version control), or start with an \
             empty folder: yalotheca adopt; yalotheca history lists what was changed"
                .into()
        }
        Advice::GoOnFrom(folder) => format!("run a command there: yalotheca --at '{folder}' check"),
        Advice::GoOnOffline => {
            "look whether the host is up; --offline goes on with what was fetched before".into()
        }
        Advice::UseNetworkOnce => "run it once without --offline".into(),
        Advice::CheckLinks => {
            "look whether the address is right: yalotheca links --check asks all of them".into()
        }
        Advice::AcceptPresent(content) => {
            format!("accept the one that is there now: yalotheca update {content}")
        }
        Advice::GiveCredentials => {
            "set up a key (ssh-copy-id), or give the password: it is asked for in a terminal, or taken from YALOTHECA_PASSWORD or --password-file FILE".into()
        }
        Advice::KeepPasswordElsewhere => {
            "addresses are written down and shown, so leave it out: it is asked for, or taken from YALOTHECA_PASSWORD, --password-file or credentials.toml in your configuration folder".into()
        }
        Advice::NameKind(kinds) => {
            format!("{kinds}; --kind KIND says which it is where that cannot be seen")
        }
        Advice::Fix => "yalotheca fix".into(),
        Advice::FixThis(what) => format!("yalotheca fix {what}"),
        Advice::Settle => "yalotheca settle".into(),
        Advice::ReplaceEdited(path) => {
            format!("if that was not on purpose: yalotheca settle --replace '{path}'")
        }
        Advice::AcceptTerms(file) => format!("read {file}, then yalotheca settle --accept-terms"),
        Advice::Update => "yalotheca update".into(),
        Advice::RemoveEither(one, other) => format!("yalotheca drop {one}, or drop {other}"),
        Advice::Repair => "yalotheca repair".into(),
        Advice::RenameOrSwitchOff(content) => {
            format!("name it in its descriptor, or rename its folder; yalotheca off {content} leaves it out")
        }
        Advice::AddMapOrPlayAnother => "add it, or leave it out: yalotheca maps play NAME".into(),
        Advice::AddMapOrLeaveItOut => "add it, or leave it out: yalotheca maps rotate NAME…".into(),
        Advice::NamePasswordFile => "name a file that holds it: --password-file FILE".into(),
    }
}
