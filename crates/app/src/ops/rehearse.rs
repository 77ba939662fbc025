//! Does what a joining player's game does, and says whether the player would be admitted.

use crate::words::ServerName;
use std::{
    collections::{BTreeMap, BTreeSet},
    fs::File,
    io::{self, Read, Write},
    path::{Path, PathBuf},
};

use globset::{GlobBuilder, GlobMatcher};
use serde::Serialize;
use yalotheca_core::{
    check::Weight,
    game::{JoinAsk, JoinRule, MirrorIndex, Need, NeedDigest, NeedFrom, NeedRule},
    hint::{Advice, Listing},
    id::{ContentId, TreePath},
    version::ReleaseVersion,
};
use yalotheca_host::{
    compress::decompress,
    fetch::Wanted,
    foreign_digest::{hex, sha1_from_hex},
    joining::{ask_line, digest_of},
    mirror::{WantedFile, link_to},
    survey,
    tree::{LocalTree, Tree},
    trial,
};

use crate::{AppError, Server, limits::limit_of, mirror, ops, pack, reading::Reading, words::size};

/// A rehearsal.
#[derive(Debug, Clone, Default)]
pub struct RehearsalRequest {
    /// A player's folder; without it the player has what the handout lists, and nothing that their game downloads.
    pub player: Option<PathBuf>,
}

/// What came of a rehearsal.
#[derive(Debug, Serialize)]
pub struct RehearsalReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// The port that was asked.
    pub port: u16,
    /// The player's folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub player: Option<PathBuf>,
    /// What the player's game did, in order.
    pub steps: Vec<RehearsalStep>,
    /// What the player sees who is turned away.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub turned_away: Option<String>,
}

/// Something that the player's game did.
#[derive(Debug, Clone, Serialize)]
pub struct RehearsalStep {
    /// What it looked for, in a word.
    pub what: String,
    /// Its name.
    pub name: String,
    /// How it went.
    pub outcome: StepOutcome,
    /// What happened, in words.
    pub says: String,
    /// What can be done.
    #[serde(skip)]
    pub fix: Option<Advice>,
}

/// How a step went.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum StepOutcome {
    /// Well.
    Good,
    /// The player joins without it.
    Without,
    /// The player is turned away.
    TurnedAway,
}

/// Joins a server as a player.
///
/// # Errors
/// If the definition does not say how players join, or the server does not answer.
pub fn rehearse(server: &Server, request: &RehearsalRequest) -> Result<RehearsalReport, AppError> {
    let rule = server.game.join.as_ref().ok_or_else(|| AppError::Usage {
        what: format!("the definition of {} does not say how players join", server.game.title),
        hint: Some(Advice::List(Listing::Definition(server.game.name.clone()))),
    })?;
    let (port, answer) = ask(server, rule)?;
    let player = request.player.as_ref().map(|folder| Player::of(server, rule, folder)).transpose()?;
    let mut steps = Vec::new();
    if let JoinAsk::Datagram(_) = rule.ask {
        steps.push(RehearsalStep::good("server", port.to_string(), "answers players".into()));
    }
    for need_rule in &rule.needs {
        for need in need_rule.read(&answer) {
            steps.push(step(server, need_rule, &need, player.as_ref())?);
        }
    }
    steps.extend(media(server)?);
    steps.extend(signatures(server)?);
    let turned_away =
        steps.iter().find(|step| step.outcome == StepOutcome::TurnedAway).map(|step| step.says.clone());
    let player = request.player.clone();
    Ok(RehearsalReport { server: server.shown(), port, player, steps, turned_away })
}

fn ask(server: &Server, rule: &JoinRule) -> Result<(u16, serde_json::Value), AppError> {
    let port = rule.port.render(&server.survey.scope).map_err(yalotheca_host::survey::SurveyError::from)?;
    let port: u16 = port.trim().parse().map_err(|_| AppError::Usage {
        what: format!("{port:?} is not a port"),
        hint: Some("look at the server's own settings".into()),
    })?;
    let host = server.machine();
    let silent = |source: io::Error| AppError::Silent { host: host.clone(), port, source };
    match &rule.ask {
        JoinAsk::Line(send) => {
            let line = ask_line(&host, port, send).map_err(silent)?;
            let answer =
                serde_json::from_str(line.trim()).map_err(|error| silent(io::Error::other(error)))?;
            Ok((port, answer))
        }
        JoinAsk::Datagram(send) if trial::answers_datagram(&host, port, send) => {
            Ok((port, serde_json::Value::Null))
        }
        JoinAsk::Datagram(_) => Err(silent(io::ErrorKind::TimedOut.into())),
    }
}

/// What a player has.
struct Player {
    tree: LocalTree,
    paths: Vec<TreePath>,
    contents: BTreeMap<ContentId, ReleaseVersion>,
}

impl Player {
    fn of(server: &Server, rule: &JoinRule, folder: &Path) -> Result<Self, AppError> {
        let failed = |source| AppError::Io { what: folder.display().to_string(), source };
        let tree = LocalTree::new(&folder.canonicalize().map_err(failed)?);
        let index = tempfile::NamedTempFile::new().map_err(failed)?;
        let paths = tree.names(index.path()).files_and_links(|_| true);
        let mut contents = BTreeMap::new();
        if rule.needs.iter().any(|need| need.kind.is_some()) {
            let found = survey::inventory(&tree, &server.game, &server.survey.scope)?;
            for one in found.contents {
                contents.insert(one.content.id, one.content.release.version);
            }
        }
        Ok(Self { tree, paths, contents })
    }
}

fn step(
    server: &Server,
    rule: &NeedRule,
    need: &Need,
    player: Option<&Player>,
) -> Result<RehearsalStep, AppError> {
    let found = match rule.from {
        NeedFrom::Link => from_link(server, need)?,
        NeedFrom::Mirror => match player.and_then(|player| own_file(rule, need, player).transpose()) {
            Some(own) => own?,
            None => from_mirror(server, rule, need)?,
        },
        NeedFrom::Player => match player {
            Some(player) => own(rule, need, player)?,
            None => as_handed_out(server, rule, need)?,
        },
    };
    let outcome = match (&found, need.is_must) {
        (Found::Good(_), _) => StepOutcome::Good,
        (_, true) => StepOutcome::TurnedAway,
        (_, false) => StepOutcome::Without,
    };
    let (says, fix) = match found {
        Found::Good(how) => (how, None),
        Found::Missing(why, fix) => (sentence(&rule.missing(need), &why), fix),
        Found::Differs(why, fix) => (sentence(&rule.differs(need), &why), fix),
    };
    Ok(RehearsalStep { what: rule.what.clone(), name: need.name.clone(), outcome, says, fix })
}

fn sentence(seen: &str, why: &str) -> String {
    if why.is_empty() { seen.to_owned() } else { format!("{seen} ({why})") }
}

/// What a player's game found.
enum Found {
    /// What it needs; how, in words.
    Good(String),
    /// Nothing; why, in words.
    Missing(String, Option<Advice>),
    /// Another one; how it differs, in words.
    Differs(String, Option<Advice>),
}

/// Compares a file with what the server announces; returns how it differs.
fn difference(rule: &NeedRule, need: &Need, from: &mut dyn Read) -> io::Result<Option<String>> {
    let kind = rule.digest.as_ref().map(|(_, kind)| *kind);
    let (bytes, digest) = digest_of(from, kind)?;
    if let Some(expected) = need.bytes.filter(|expected| *expected != bytes) {
        return Ok(Some(format!("{bytes} bytes instead of {expected}")));
    }
    let is_other = kind.is_some() && need.digest.as_ref().is_some_and(|expected| *expected != digest);
    Ok(is_other.then(|| format!("another {}", kind.map_or("digest", digest_name))))
}

fn digest_name(kind: NeedDigest) -> &'static str {
    match kind {
        NeedDigest::Sha1 => "SHA-1",
        NeedDigest::Sha256 => "SHA-256",
        NeedDigest::Crc32 { .. } => "CRC-32",
    }
}

fn matcher(rule: &NeedRule, need: &Need) -> Option<GlobMatcher> {
    let glob = GlobBuilder::new(&rule.path(need)?).literal_separator(true).build().ok()?;
    Some(glob.compile_matcher())
}

/// Compares the player's own file; nothing if they do not have it.
fn own_file(rule: &NeedRule, need: &Need, player: &Player) -> Result<Option<Found>, AppError> {
    let Some(matcher) = matcher(rule, need) else { return Ok(None) };
    let mut last = None;
    for path in player.paths.iter().filter(|path| matcher.is_match(path.as_str())) {
        let Some(mut file) = player.tree.open(path)? else { continue };
        let failed = |source| AppError::Io { what: path.to_string(), source };
        match difference(rule, need, &mut file).map_err(failed)? {
            None => return Ok(Some(Found::Good(format!("the player has it: {path}")))),
            Some(how) => {
                last =
                    Some(Found::Differs(format!("{path}: {how}"), Some(Advice::RenewOwn(path.to_string()))));
            }
        }
    }
    Ok(last)
}

fn own(rule: &NeedRule, need: &Need, player: &Player) -> Result<Found, AppError> {
    if rule.kind.is_none() {
        let missing = || Found::Missing(String::new(), Some(Advice::HandOut));
        return Ok(own_file(rule, need, player)?.unwrap_or_else(missing));
    }
    let has = ContentId::new(&need.name).ok().and_then(|id| player.contents.get(&id).cloned());
    Ok(match (has, &need.version) {
        (None, _) => Found::Missing(String::new(), Some(Advice::HandOut)),
        (Some(has), Some(version)) if !is_version(&has, version) => {
            Found::Differs(format!("the player has {has}, the server {version}"), Some(Advice::HandOut))
        }
        (Some(has), _) => Found::Good(format!("the player has {has}")),
    })
}

fn is_version(has: &ReleaseVersion, other: &str) -> bool {
    ReleaseVersion::parse(other).is_ok_and(|other| other == *has)
}

/// Compares what the server announces with the handout.
fn as_handed_out(server: &Server, rule: &NeedRule, need: &Need) -> Result<Found, AppError> {
    if rule.kind.is_some() {
        let locked = ContentId::new(&need.name).ok();
        let locked = locked.and_then(|id| server.control.lock.get(&id));
        return Ok(match (locked, &need.version) {
            (None, _) => Found::Missing(
                "it is not in yalotheca.toml, so no handout lists it".into(),
                Some(Advice::List(Listing::Findings)),
            ),
            (Some(locked), Some(version)) if !is_version(&locked.release.version, version) => Found::Differs(
                format!("the handout lists {}, the server runs {version}", locked.release.version),
                Some(Advice::Settle),
            ),
            (Some(locked), _) => Found::Good(format!("the handout lists {}", locked.release.version)),
        });
    }
    let Some(matcher) = matcher(rule, need) else { return Ok(Found::Good("players bring it".into())) };
    let index = server.tree.names(&server.fetcher.store().names_of(&*server.tree));
    for path in index.files_and_links(|path| matcher.is_match(path)) {
        let Some(mut file) = server.tree.open(&path)? else { continue };
        let failed = |source| AppError::Io { what: path.to_string(), source };
        if difference(rule, need, &mut file).map_err(failed)?.is_none() {
            return Ok(Found::Good(format!("as in {path}")));
        }
    }
    Ok(Found::Differs("no file of the server is what it announces; it may have to be restarted".into(), None))
}

/// Downloads a file as a player's game does: from the mirror if there is one, else from the server.
fn from_mirror(server: &Server, rule: &NeedRule, need: &Need) -> Result<Found, AppError> {
    let Some(mirror_rule) = &server.game.mirror else { return from_server(server, rule, need) };
    let (Some(path), Some(address)) = (rule.file_of(need), mirror::address(server, mirror_rule)?) else {
        return from_server(server, rule, need);
    };
    if let Some(why) = mirror::settings_problems(server, mirror_rule, Some(&address))?.into_iter().next() {
        return Ok(Found::Missing(why, Some(Advice::AnnounceMirror(address))));
    }
    let needed = mirror::needed(server, mirror_rule, &mirror::known(server))?;
    let mut names: Vec<&WantedFile> = needed.files.iter().filter(|file| file.from == path).collect();
    // The compressed form is the one that games ask for first.
    names.sort_by_key(|file| file.compress.is_none());
    let mut first_wrong = None;
    for file in names {
        let link = link_to(&address, &file.name);
        match download(server, rule, need, (file, &link)) {
            Ok(None) => return Ok(Found::Good(format!("downloaded from {link} ({})", size(file.bytes)))),
            Ok(Some(how)) => {
                return Ok(Found::Differs(format!("{link}: {how}"), Some(Advice::PublishMirror)));
            }
            Err(error) => drop(first_wrong.get_or_insert(error.to_string())),
        }
    }
    let why = first_wrong.unwrap_or_else(|| format!("{path} is not on the server"));
    Ok(Found::Missing(why, Some(Advice::PublishMirror)))
}

/// Downloads a file of the mirror, and compares it with what the server announces.
fn download(
    server: &Server,
    rule: &NeedRule,
    need: &Need,
    (file, link): (&WantedFile, &str),
) -> Result<Option<String>, AppError> {
    let wanted = Wanted { url: link.into(), name: file.name.name().into(), ..Wanted::default() };
    let came = server.fetcher.download(wanted)?;
    let failed = |source| AppError::Io { what: link.to_owned(), source };
    let mut packed = File::open(&came.path).map_err(failed)?;
    let Some(how) = file.compress else { return difference(rule, need, &mut packed).map_err(failed) };
    let mut plain = tempfile::tempfile().map_err(failed)?;
    let unpacked = decompress(how, packed, &mut plain).and_then(|_| {
        plain.flush()?;
        io::Seek::rewind(&mut plain)
    });
    match unpacked {
        Ok(()) => difference(rule, need, &mut plain).map_err(failed),
        Err(error) => Ok(Some(format!("it cannot be decompressed: {error}"))),
    }
}

/// Whether the server itself sends a file: only as large as its limit allows.
fn from_server(server: &Server, rule: &NeedRule, need: &Need) -> Result<Found, AppError> {
    let Some(path) = rule.file_of(need) else { return Ok(Found::Good("the server sends it".into())) };
    let bytes = match need.bytes {
        Some(bytes) => Some(bytes),
        None => server.tree.digest(std::slice::from_ref(&path))?.pop().flatten().map(|(_, bytes)| bytes),
    };
    let Some(bytes) = bytes else {
        return Ok(Found::Missing(
            format!("{path} is not on the server"),
            Some(Advice::List(Listing::Findings)),
        ));
    };
    match limit_of(server, &path)? {
        Some((most, fix)) if bytes > most => {
            let why = format!("it has {}, and the server sends at most {}", size(bytes), size(most));
            Ok(Found::Missing(why, Some(fix)))
        }
        _ => Ok(Found::Good(format!("the server sends it ({})", size(bytes)))),
    }
}

/// Downloads the pack from its link.
fn from_link(server: &Server, need: &Need) -> Result<Found, AppError> {
    let rule = pack::rule(server)?;
    match pack::fetch(server, rule, &need.name) {
        Ok((file, _)) => match &need.digest {
            Some(digest) if *digest != file.digest.to_lowercase() => {
                let why = "the file at the link has another digest than the server announces".into();
                Ok(Found::Differs(why, Some(Advice::Fix)))
            }
            _ => Ok(Found::Good(format!("downloaded ({})", size(file.bytes)))),
        },
        Err(error) => Ok(Found::Missing(error.to_string(), Some(Advice::OfferPack))),
    }
}

/// Looks through a mirror whose files are listed by their digests: whether the list has all, and whether some files are what they are
/// called.
fn media(server: &Server) -> Result<Vec<RehearsalStep>, AppError> {
    /// So many files are downloaded.
    const SAMPLE: usize = 8;
    let Some((rule, index)) = server.game.mirror.as_ref().and_then(|rule| Some((rule, rule.index.as_ref()?)))
    else {
        return Ok(Vec::new());
    };
    let Some(address) = mirror::address(server, rule)? else { return Ok(Vec::new()) };
    let needed = mirror::needed(server, rule, &mirror::known(server))?;
    let step = |outcome, says: String| {
        let fix = (outcome != StepOutcome::Good).then_some(Advice::PublishMirror);
        vec![RehearsalStep { what: "media".into(), name: index.file.clone(), outcome, says, fix }]
    };
    let get = |name: &str| {
        let link = link_to(&address, &TreePath::new(name)?);
        let wanted = Wanted { url: link.clone(), name: name.into(), ..Wanted::default() };
        let came = server.fetcher.download(wanted)?;
        std::fs::read(&came.path).map_err(|source| AppError::Io { what: link, source })
    };
    let listed = match get(&index.file) {
        Ok(bytes) => bytes,
        Err(error) => return Ok(step(StepOutcome::Without, error.to_string())),
    };
    let Some(listed) = listed.strip_prefix(index.head.as_slice()) else {
        return Ok(step(
            StepOutcome::Without,
            "it is not such a list, so the server sends all files itself".into(),
        ));
    };
    let (listed, _) = listed.as_chunks::<20>();
    let listed: BTreeSet<&[u8; 20]> = listed.iter().collect();
    let all: Vec<[u8; 20]> =
        needed.files.iter().filter_map(|file| sha1_from_hex(file.name.as_str())).collect();
    let missing = all.iter().filter(|digest| !listed.contains(digest)).count();
    if missing > 0 {
        let says = format!("it lacks {missing} of {} files; the server sends them itself", all.len());
        return Ok(step(StepOutcome::Without, says));
    }
    let announced = announced(server, index)?;
    let is_listed = |digest: &str| sha1_from_hex(digest).is_some_and(|digest| listed.contains(&digest));
    let unlisted: Vec<&str> =
        announced.iter().filter(|(digest, _)| !is_listed(digest)).map(|(_, name)| name.as_str()).collect();
    for digest in all.iter().step_by((all.len() / SAMPLE).max(1)) {
        let name = hex(digest);
        let bytes = match get(&name) {
            Ok(bytes) => bytes,
            Err(error) => return Ok(step(StepOutcome::Without, error.to_string())),
        };
        let found = digest_of(&mut bytes.as_slice(), Some(NeedDigest::Sha1));
        if !found.is_ok_and(|(_, found)| found == name) {
            return Ok(step(
                StepOutcome::Without,
                format!("{} is another file", link_to(&address, &TreePath::new(&name)?)),
            ));
        }
    }
    let downloaded = format!("{} were downloaded", all.len().min(SAMPLE));
    let says = match (announced.len(), unlisted.len()) {
        (0, _) => format!("lists all {} files that lie on the server; {downloaded}", all.len()),
        (count, 0) => format!("lists all {count} files that the server announces; {downloaded}"),
        // To build the mirror again would not bring them.
        (count, lacking) => format!(
            "lists {} of {count} files that the server announces; {downloaded}; the server sends the others itself, which do not lie \
             where a mirror's files are taken from: {}",
            count - lacking,
            some_of(&unlisted)
        ),
    };
    Ok(step(StepOutcome::Good, says))
}

fn some_of(names: &[&str]) -> String {
    /// So many are named.
    const NAMED: usize = 3;
    match names.len().saturating_sub(NAMED) {
        0 => names.join(", "),
        more => format!("{} and {more} more", names[..NAMED].join(", ")),
    }
}

/// Returns what the server announced to players at its last start, as far as its log says; the names by their digests.
fn announced(server: &Server, index: &MirrorIndex) -> Result<BTreeMap<String, String>, AppError> {
    if index.announced.is_none() || server.log_file().is_none() {
        return Ok(BTreeMap::new());
    }
    let log = ops::log::log_of(server, &ops::log::LogRequest::default())?;
    let (lines, are_all) = ops::log::tail(server, &log)?;
    let ready = &server.game.run.ready;
    // The rest of a list whose beginning is out of sight is none.
    let whole = lines.iter().map(String::as_str).skip_while(|line| !are_all && !ready.is_match(line));
    Ok(index.announced(whole, ready))
}

impl RehearsalStep {
    fn good(what: &str, name: String, says: String) -> Self {
        Self { what: what.into(), name, outcome: StepOutcome::Good, says, fix: None }
    }
}

/// Parts that players' games do not accept.
fn signatures(server: &Server) -> Result<Vec<RehearsalStep>, AppError> {
    let findings = ops::keys::findings(server, Reading::Files)?;
    let wrong = findings.into_iter().filter(|finding| finding.weight == Weight::Trouble);
    let step = |finding: yalotheca_core::check::Finding| RehearsalStep {
        what: "signature".into(),
        name: finding.about,
        outcome: StepOutcome::TurnedAway,
        says: finding.says,
        fix: finding.fix,
    };
    Ok(wrong.map(step).collect())
}
