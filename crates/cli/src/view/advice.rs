//! What a person can do about an error, as a command or a sentence.

use yalotheca_core::hint::{Advice, Amendment, Listing, MapsInstead, StartedBy};
use yalotheca_host::trust::shell_word;

/// Says what to do.
#[expect(clippy::too_many_lines, reason = "a sentence for each case, and nothing else")]
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
        Advice::AddMapOr { map, instead } => format!("add {map}, or {}", instead_of_map(instead)),
        Advice::NamePasswordFile => "name a file that holds it: --password-file FILE".into(),
        Advice::List(listing) => list(listing),
        Advice::AddCatalogue => {
            "this server has no catalogues yet: yalotheca catalogue add NAME WHERE (an address, or a folder of downloads); \
             or give the file itself: yalotheca add FILE"
                .into()
        }
        Advice::ReportDefect => {
            "nothing was changed; please report this with the output of the same command with --json, which holds \
             what reproduces it"
                .into()
        }
        Advice::Install(id) => format!("install it: yalotheca add {id}"),
        Advice::SeeWhetherItFits(id) => format!("see whether it would fit: yalotheca about {id}"),
        Advice::SwitchOn(id) => format!("yalotheca on {id} switches it on"),
        Advice::SwitchAllOff(ids) => {
            format!("yalotheca off {} switches all of them off", ids.join(" "))
        }
        Advice::Remove(id) => format!("yalotheca drop {id} removes it; undo brings it back"),
        Advice::AskForPlace(id) => format!("yalotheca order {id} --after OTHER, --before OTHER, or --free"),
        Advice::ForgetPlace(id) => format!("yalotheca order {id} --free forgets what was asked before"),
        Advice::CompareKey(name) => {
            format!("compare it with what its author publishes; if it is theirs: yalotheca settle --accept-key {name}")
        }
        Advice::OfferPack => "offer a link that leads to the file itself: yalotheca players pack LINK".into(),
        Advice::PublishMirror => {
            "bring the mirror up to date: yalotheca mirror build, then yalotheca mirror publish".into()
        }
        Advice::SwitchConsoleOn(place) => format!(
            "set {place} (yalotheca settings server shows the server's settings), then start the server again"
        ),
        Advice::StartForConsole => "start it with yalotheca trial --keep, or look whether its console is on another port".into(),
        Advice::StartOnce => "yalotheca trial starts it for the first time".into(),
        Advice::StartFirst => "start it first: yalotheca trial --keep".into(),
        Advice::HandOut => "tell players what they need: yalotheca handout lists it".into(),
        Advice::RenewOwn(path) => format!("the player removes {path}; their game downloads the right one"),
        Advice::AnnounceMirror(address) => format!("yalotheca mirror address {address}"),
        Advice::BuildMirror => "build it first: yalotheca mirror build FOLDER".into(),
        Advice::NameMirrorTarget => {
            "name a folder, or an address: yalotheca mirror publish sftp://USER@HOST/PATH".into()
        }
        Advice::PublishFirstOrAnyway => {
            "publish the mirror there first, or add --unchecked if it comes later; nothing was changed".into()
        }
        Advice::OtherMirrorFolderOrReplace => {
            "choose another folder, or add --replace; then those files are kept in .yalotheca/replaced".into()
        }
        Advice::RaiseLimit { setting, or_mirror } => {
            let raise =
                setting.as_ref().map(|setting| format!("raise the limit: yalotheca settings server {setting}"));
            let mirror =
                or_mirror.then(|| "let players download it from a web folder: yalotheca mirror".to_owned());
            let ways: Vec<String> = raise.into_iter().chain(mirror).collect();
            if ways.is_empty() { "use a smaller version of it".into() } else { ways.join("; or ") }
        }
        Advice::PlayAnotherMap => "play another map first: yalotheca maps play NAME".into(),
        Advice::LeaveOutOfRotation => {
            "take it out of the rotation first: yalotheca maps rotate NAME".into()
        }
        Advice::UndoRecordedElsewhere => {
            "ask them to take it back; or look closely at the preview of: yalotheca undo --recorded-elsewhere".into()
        }
        Advice::StartAsItIs => "yalotheca trial starts the server as it is".into(),
        Advice::PutBack => "yalotheca settle puts them back".into(),
        Advice::CheckOrStartOver => {
            "run yalotheca check to see how it is; to start over, move that file away".into()
        }
        Advice::WorkThere(folder) => {
            format!("run yalotheca in that folder, or with --at '{}'", folder.display())
        }
        Advice::AgreeToFolder(folder) => {
            format!("yalotheca --at '{}' … asks whether to use it", folder.display())
        }
        Advice::AllowDefinition(name) => format!("read it, then allow it: yalotheca game trust {name}"),
        Advice::AllowNewDefinition(name) => format!(
            "the definition {name} is new here and was not asked; read it, then allow it: yalotheca game trust {name}"
        ),
        Advice::ReviewProgramsOf(name) => {
            format!("review it first: yalotheca game trust {name} shows all that would be run, and asks")
        }
        Advice::StopOrWatch { is_ours } => {
            let stop = if *is_ours { "yalotheca stop ends it" } else { "stop it first" };
            format!("{stop}; or follow its log: yalotheca trial --watch")
        }
        Advice::StopOrRestart(by) => {
            let stop = match by {
                StartedBy::Trial => "a trial started it: yalotheca stop ends it",
                StartedBy::Somebody => "stop it first",
                StartedBy::Panel => "stop it first, in its panel say",
            };
            format!(
                "{stop}; or add --restart to have it stopped for the change and started again. It may rewrite what is \
                 changed under it."
            )
        }
        Advice::WatchOrSayHow => {
            "yalotheca trial --watch follows its log while you start it there, in its panel say; or say in yalotheca.toml \
             how it is started and stopped: [server.process]"
                .into()
        }
        Advice::NameLog => {
            "name the file, below the server's folder: yalotheca trial --watch --log console.log".into()
        }
        Advice::ShowClashes => {
            "yalotheca clashes shows them; yalotheca clashes keep ASSET --from NAME decides".into()
        }
        Advice::DropCatalogueOrRename(name) => {
            format!("yalotheca catalogue drop {name} removes it; or choose another name")
        }
        Advice::Amend(how) => amend(how),
    }
}

/// Names the list that helps.
fn list(listing: &Listing) -> String {
    match listing {
        Listing::Findings => "yalotheca check lists the findings, each with its code".into(),
        Listing::Maps => "yalotheca maps lists the maps here; yalotheca add installs another one".into(),
        Listing::History => "yalotheca history lists all changes".into(),
        Listing::Installed => "yalotheca list shows what is installed".into(),
        Listing::Catalogues => "yalotheca catalogue list shows them".into(),
        Listing::Catalogued => "yalotheca find lists what the catalogues have".into(),
        Listing::Settings => "yalotheca settings lists what can be set".into(),
        Listing::SettingsOf(owner) => format!("yalotheca settings {owner} lists them"),
        Listing::OwnSettings(owner) => format!("yalotheca settings {owner} shows which are yours"),
        Listing::Definition(game) => format!("see the definition: yalotheca game show {game}"),
    }
}

/// Says how to amend a request.
fn amend(how: &Amendment) -> String {
    match how {
        Amendment::WritePlace => "write --place 'PATTERN=FOLDER', the folder as the server sees it".into(),
        Amendment::NameContent(name) => {
            format!("say what it is called, as other contents name it: --id {name}")
        }
        Amendment::AllOrOnly(one) => format!("use --all for all of them, or --only {one} for one"),
        Amendment::GetAgainOrLeave(file) => format!("get it again; --leave '{file}' goes on without it"),
        Amendment::PlaceOrLeave(file) => {
            format!("--place '{file}=FOLDER' puts it somewhere, --leave '{file}' leaves it out")
        }
        Amendment::LeaveOutOrDoWithout => "leave that file out (--leave), or do without it".into(),
        Amendment::WriteParameter(name) => format!("write --set {name}=VALUE"),
        Amendment::GiveParameter { name, takes } => format!("give it with --set {name}=VALUE; {takes}"),
        Amendment::ChooseEdition => {
            "yalotheca list shows what is installed; --edition chooses for whom the pack is".into()
        }
        Amendment::OtherNameOrReplace => "choose another name, or add --force to replace it".into(),
        Amendment::NameGame(games) => format!("say which it is: --game {}", games.join(" or --game ")),
        Amendment::NameSettingsFile(None) => "say which file you mean with --file".into(),
        Amendment::NameSettingsFile(Some(one)) => format!("use --file {one} to say which one you mean"),
        Amendment::AcceptKey(name) => {
            format!("compare it with what its author publishes; if it is right, add --accept-key {name}")
        }
        Amendment::SetOrReset(place) => format!("write {place}=VALUE, or --reset {place}"),
    }
}

fn instead_of_map(instead: &MapsInstead) -> String {
    const MOST: usize = 20;
    let named = |names: &[String], command: &str| {
        let words: Vec<String> = names.iter().map(|name| shell_word(name)).collect();
        match words.len() {
            0 => format!("others: {command} NAME…"),
            1..=MOST => format!("only the others: {command} {}", words.join(" ")),
            _ => format!("only the others: {command} NAME…"),
        }
    };
    match instead {
        MapsInstead::Play(other) => {
            let other = other.as_deref().map_or_else(|| "NAME".to_owned(), shell_word);
            format!("play another one: yalotheca maps play {other}")
        }
        MapsInstead::Rotate(others) => format!("rotate {}", named(others, "yalotheca maps rotate")),
        MapsInstead::Offer(others) => format!("offer {}", named(others, "yalotheca maps offer")),
    }
}
