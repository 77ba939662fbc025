//! What came to this machine: a file, an archive or a folder is looked into, and the contents in it are told with where
//! the bytes of each of their files lie.

use std::{
    collections::{BTreeMap, BTreeSet},
    io,
    path::{Path, PathBuf},
};

use yalotheca_core::{
    catalogue::{ReleaseFile, Side},
    game::{DescribeError, Game, Shape, Template},
    hint::Hint,
    id::{Digest, TreePath},
    pack::{PACK_FILE, PACK_KIND},
    route::{
        Asked, Bundle, Found, LeftOut, Payload, PayloadFile, Recognised, Sorted, recognise,
        recognise_as_kind, sort_out,
    },
    version::VersionRange,
};

use crate::{
    archive::{FolderBundle, ZipBundle},
    catalogue::ByteSource,
    store::Store,
    survey,
    tree::digest_of,
    unpack::{
        Container, UnpackError, UnpackOptions, UnpackedBundle, bare_name, by_name, container_of, head_of,
        unpack,
    },
};

/// How deep archives may lie in archives.
const DEEPEST: usize = 2;

/// Something that came and cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ArrivalError {
    /// It cannot be unpacked.
    #[error(transparent)]
    Unpack(#[from] UnpackError),
    /// It cannot be read.
    #[error("{path}: {source}")]
    Read {
        /// The path.
        path: String,
        /// Why.
        source: io::Error,
    },
    /// It bears a kind's mark, and its descriptor is wrong.
    #[error("{path}: {source}")]
    Describe {
        /// The path.
        path: String,
        /// What is wrong.
        source: DescribeError,
    },
    /// No content is in it.
    #[error("{path}: {why}")]
    Nothing {
        /// The path.
        path: String,
        /// What it is instead, or what is wrong with it.
        why: String,
        /// What can be done.
        hint: String,
    },
}

impl Hint for ArrivalError {
    fn hint(&self) -> Option<String> {
        match self {
            Self::Unpack(error) => error.hint(),
            Self::Read { .. } => Some("look whether it is there and may be read".into()),
            Self::Describe { source, .. } => source.hint(),
            Self::Nothing { hint, .. } => Some(hint.clone()),
        }
    }
}

/// One content that came.
#[derive(Debug, Clone)]
pub struct Arrived {
    /// What it is; its release names its files, or the digest of all of them.
    pub content: Recognised,
    /// Where it lay in what came; empty for the whole.
    pub inside: String,
    /// Its files.
    pub payload: Payload,
    /// Where their bytes lie.
    pub sources: BTreeMap<Digest, ByteSource>,
    /// Contents that it brings along, where it is a pack.
    pub bundled: Vec<Self>,
    /// Files that are put where there are none yet.
    pub once: Vec<Once>,
}

/// A file that is put where there is none yet, and belongs to nobody then: settings.
#[derive(Debug, Clone)]
pub struct Once {
    /// Where it goes.
    pub to: TreePath,
    /// Its size in bytes.
    pub size: u64,
    /// The digest of its bytes.
    pub digest: Digest,
    /// Where they lie.
    pub source: ByteSource,
}

/// What came.
#[derive(Debug, Clone, Default)]
pub struct Arrival {
    /// The contents.
    pub contents: Vec<Arrived>,
    /// What is left out, and why.
    pub left_out: Vec<LeftOut>,
    /// What nobody knows a place for.
    pub unrouted: Vec<String>,
    /// Files that bear a kind's name and are something else.
    pub broken: Vec<(String, String)>,
    /// What is worth knowing.
    pub notes: Vec<String>,
    /// Whether it is a whole server's folder.
    pub is_setup: bool,
    /// Files that are put where there are none yet: the configuration of a setup.
    pub once: Vec<Once>,
}

/// How to look.
#[derive(Debug, Clone, Default)]
pub struct LookOptions {
    /// What the administrator says about it.
    pub asked: Asked,
    /// How to unpack.
    pub unpack: UnpackOptions,
    /// What the person knows it by, where that is not its file's name.
    pub name: Option<String>,
}

/// Looks at what came.
///
/// # Errors
/// Where it cannot be read or unpacked, a descriptor in it is wrong, or no content is in it.
pub fn look(path: &Path, game: &Game, store: &Store, options: &LookOptions) -> Result<Arrival, ArrivalError> {
    let own = || path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
    let name = options.name.clone().unwrap_or_else(own);
    let mut looking = Looking { game, store, options, arrival: Arrival::default() };
    let metadata = std::fs::metadata(path).map_err(looking.read(path))?;
    if metadata.is_dir() {
        let sorted = looking.sorted(&name, &name, &mut FolderBundle::new(path))?;
        looking.take_from_folder(path, sorted)?;
    } else {
        looking.file(path, &name, "", 0)?;
    }
    let arrival = looking.arrival;
    if arrival.contents.is_empty() && !arrival.is_setup {
        Err(nothing(path, &name, game, &arrival))
    } else {
        Ok(arrival)
    }
}

struct Looking<'a> {
    game: &'a Game,
    store: &'a Store,
    options: &'a LookOptions,
    arrival: Arrival,
}

fn below(outer: &str, path: &str) -> String {
    if outer.is_empty() { path.to_owned() } else { format!("{outer}/{path}") }
}

impl Looking<'_> {
    #[expect(clippy::unused_self, reason = "what is looked at is told by who looks")]
    fn read(&self, path: &Path) -> impl FnOnce(io::Error) -> ArrivalError + use<> {
        let path = path.display().to_string();
        move |source| ArrivalError::Read { path, source }
    }

    fn sorted(&self, shown: &str, name: &str, bundle: &mut dyn Bundle) -> Result<Sorted, ArrivalError> {
        sort_out(self.game, name, bundle, &self.options.asked)
            .map_err(|source| ArrivalError::Describe { path: shown.into(), source })
    }

    /// Looks at a file. `outer` is where it lies in what came.
    fn file(&mut self, path: &Path, name: &str, outer: &str, depth: usize) -> Result<(), ArrivalError> {
        let container = container_of(path).map_err(self.read(path))?;
        if let (Some(by_name), found) = (by_name(name), container)
            && found != Some(by_name)
            && let Some(found) = found
        {
            self.arrival.notes.push(format!("{name} is {}, whatever its name says", found.name()));
        }
        let kinds = self.game.kinds.values().filter(|kind| kind.shape == Shape::File && kind.magic.is_some());
        let claims =
            kinds.filter_map(|kind| kind.suffix.as_ref()).any(|suffix| name.ends_with(suffix.as_str()));
        if let (true, Some(found)) = (claims, container) {
            self.arrival.notes.push(format!("{name} is {}, whatever its name says", found.name()));
        }
        if container == Some(Container::Zip) && self.whole_archive(path, name, outer)? {
            return Ok(());
        }
        let Some(container) = container else {
            return self.plain_file(path, name, outer);
        };
        let shown = if outer.is_empty() { name.to_owned() } else { outer.to_owned() };
        let Some(unpacked) = unpack(path, &shown, self.store, &self.options.unpack)? else { return Ok(()) };
        self.arrival.notes.extend(unpacked.notes.iter().map(|note| format!("{shown}: {note}")));
        let mut bundle = UnpackedBundle::new(&unpacked, self.store);
        let stem =
            if container.is_compression() && unpacked.members.len() == 1 { "" } else { bare_name(name) };
        let sorted =
            self.sorted(&shown, if stem.is_empty() { bare_name(name) } else { stem }, &mut bundle)?;
        let members: BTreeMap<&str, (u64, Digest)> = unpacked
            .members
            .iter()
            .map(|member| (member.path.as_str(), (member.size, member.digest)))
            .collect();
        let inner = self.take(outer, sorted, |from| {
            let (size, digest) = members.get(from).copied()?;
            Some((size, digest, self.store.file(&digest)?))
        });
        self.open_packs(&mut bundle, &members)?;
        let inner = if depth == 0 { self.setup(inner, &members)? } else { inner };
        for member in inner {
            let whole = below(outer, &member);
            let place = members.get(member.as_str()).and_then(|(_, digest)| self.store.file(digest));
            let before = self.arrival.contents.len();
            match place {
                Some(place) if depth < DEEPEST => {
                    let base = member.rsplit('/').next().unwrap_or(&member).to_owned();
                    self.file(&place, &base, &whole, depth + 1)?;
                    if self.arrival.contents.len() == before && !self.arrival.unrouted.contains(&whole) {
                        self.arrival.unrouted.push(whole);
                    }
                }
                _ => self.arrival.unrouted.push(whole),
            }
        }
        Ok(())
    }

    /// An archive that is itself the payload.
    fn whole_archive(&mut self, path: &Path, name: &str, outer: &str) -> Result<bool, ArrivalError> {
        let opened = ZipBundle::open(path)
            .map_err(|source| UnpackError::Damaged { archive: name.into(), why: source.to_string() })?;
        let Some(mut bundle) = opened else { return Ok(false) };
        let describe = |source| ArrivalError::Describe { path: name.into(), source };
        let asked = self.options.asked.kind.as_ref().and_then(|kind| self.game.kinds.get_key_value(kind));
        let found = match asked.filter(|(_, kind)| kind.shape == Shape::Archive) {
            Some((kind, _)) => recognise_as_kind(self.game, kind, name, &mut bundle).map_err(describe)?,
            None => recognise(self.game, Shape::Archive, name, &mut bundle).map_err(describe)?,
        };
        let Some(content) = found else { return Ok(false) };
        let (digest, size) = self.store.digest_of(path).map_err(self.read(path))?;
        let found = Found {
            content,
            root: String::new(),
            files: vec![yalotheca_core::route::FoundFile {
                from: String::new(),
                path: name.into(),
                to: None,
            }],
        };
        let arrived = arrived(self.store, found, outer, |_| Some((size, digest, path.to_owned())));
        self.arrival.contents.push(arrived);
        Ok(true)
    }

    /// A file that is no archive: a content by itself, with its companions beside it.
    fn plain_file(&mut self, path: &Path, name: &str, outer: &str) -> Result<(), ArrivalError> {
        let folder = path.parent().unwrap_or(Path::new("."));
        let file = path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
        let kinds = self.game.kinds.values().filter(|kind| kind.shape == Shape::File);
        let mut few: BTreeSet<String> = kinds
            .flat_map(|kind| {
                kind.companions.iter().map(|companion| companion.replace("{{ name }}", kind.stem(&file)))
            })
            .collect();
        if !outer.is_empty() || file != name {
            // In the cache, what lies beside it is somebody else's.
            few.clear();
        }
        few.insert(file.clone());
        let mut bundle = FolderBundle::new(folder).only(few).called(&file, name);
        let mut sorted = self.sorted(name, name, &mut bundle)?;
        // Companions of something that is not there are none.
        sorted.unrouted.retain(|path| path == name);
        let inner = self.take(outer, sorted, |from| {
            let place = folder.join(if from == name { file.as_str() } else { from });
            let (digest, size) = digest_of(&place).ok()?;
            Some((size, digest, place))
        });
        self.arrival.unrouted.extend(inner);
        Ok(())
    }

    /// Where the archive is a whole server's folder, its configuration goes along, and its worlds do not. Returns the
    /// archives that are still to be opened.
    fn setup(
        &mut self,
        inner: Vec<String>,
        members: &BTreeMap<&str, (u64, Digest)>,
    ) -> Result<Vec<String>, ArrivalError> {
        let Some(root) = setup_root(self.game, members.keys().copied()) else { return Ok(inner) };
        let failed = |why: String| ArrivalError::Describe {
            path: "the setup".into(),
            source: DescribeError { file: root.clone(), why },
        };
        let scope = survey::default_scope(self.game);
        let protected = survey::protected(self.game, &scope).map_err(|error| failed(error.to_string()))?;
        self.arrival.is_setup = true;
        let rest: Vec<String> = self.arrival.unrouted.drain(..).chain(inner).collect();
        for path in rest {
            let own =
                if root.is_empty() { Some(path.as_str()) } else { path.strip_prefix(&format!("{root}/")) };
            let Some(own) = own else {
                self.arrival.unrouted.push(path);
                continue;
            };
            if protected.is_match(own) {
                let why = "of a world, a save or a log; yours stays".into();
                self.arrival.left_out.push(LeftOut { path, why });
                continue;
            }
            let to = TreePath::new(own).map_err(|error| failed(error.to_string()))?;
            if let Some((size, digest)) = members.get(path.as_str()).copied()
                && let Some(at) = self.store.file(&digest)
            {
                self.arrival.once.push(Once { to, size, digest, source: ByteSource::Cached(at) });
            }
        }
        Ok(Vec::new())
    }

    /// A pack in our own format: what it brings along is looked into, and needed by it.
    fn open_packs(
        &mut self,
        bundle: &mut UnpackedBundle<'_>,
        members: &BTreeMap<&str, (u64, Digest)>,
    ) -> Result<(), ArrivalError> {
        let is_pack = |arrived: &&mut Arrived| {
            arrived.content.release.kind == PACK_KIND && arrived.payload != Payload::default()
        };
        let Some(arrived) = self.arrival.contents.iter_mut().find(is_pack) else { return Ok(()) };
        let wrong = |file: &str, why: String| ArrivalError::Describe {
            path: PACK_FILE.into(),
            source: DescribeError { file: file.into(), why },
        };
        let pack = yalotheca_core::route::pack("the pack", bundle)
            .map_err(|source| ArrivalError::Describe { path: "the pack".into(), source })?;
        if pack.game != self.game.name {
            return Err(wrong("game", format!("it is for {}, and this is a {}", pack.game, self.game.title)));
        }
        let place = |file: &str| {
            let (size, digest) = members.get(file).copied()?;
            Some((size, digest, self.store.file(&digest)?))
        };
        for member in pack.members.iter().filter(|member| member.side != Side::Player) {
            let (_, _, at) =
                place(&member.file).ok_or_else(|| wrong(&member.file, "it is not in the pack".into()))?;
            let name = member.file.rsplit('/').next().map(str::to_owned);
            let options = LookOptions { name, ..self.options.clone() };
            let inner = look(&at, self.game, self.store, &options)?;
            for mut one in inner.contents {
                one.inside = below(&member.file, &one.inside);
                let version = VersionRange::exactly(&one.content.release.version);
                let any = one.content.release.version.is_unversioned();
                let range = if any { VersionRange::any() } else { version };
                arrived.content.release.needs.insert(one.content.id.clone(), range);
                arrived.bundled.push(one);
            }
        }
        for setting in &pack.settings {
            let (size, digest, at) =
                place(&setting.file).ok_or_else(|| wrong(&setting.file, "it is not in the pack".into()))?;
            arrived.once.push(Once { to: setting.to.clone(), size, digest, source: ByteSource::Cached(at) });
        }
        // Nothing of the pack itself is placed by rule.
        arrived.payload = Payload::default();
        arrived.content.release.payload = Some(arrived.payload.digest());
        Ok(())
    }

    fn take_from_folder(&mut self, folder: &Path, sorted: Sorted) -> Result<(), ArrivalError> {
        let inner = self.take("", sorted, |from| {
            let place = folder.join(from);
            let (digest, size) = digest_of(&place).ok()?;
            Some((size, digest, place))
        });
        for path in inner {
            let base = path.rsplit('/').next().unwrap_or(&path).to_owned();
            let before = self.arrival.contents.len();
            self.file(&folder.join(&path), &base, &path, 1)?;
            if self.arrival.contents.len() == before {
                self.arrival.unrouted.push(path);
            }
        }
        Ok(())
    }

    /// Takes over what was sorted out, and returns the archives in it that are still to be opened.
    fn take(
        &mut self,
        outer: &str,
        sorted: Sorted,
        place: impl Fn(&str) -> Option<(u64, Digest, PathBuf)>,
    ) -> Vec<String> {
        let contents: Vec<Arrived> =
            sorted.contents.into_iter().map(|found| arrived(self.store, found, outer, &place)).collect();
        self.arrival.contents.extend(contents);
        let whole = |left: LeftOut| LeftOut { path: below(outer, &left.path), why: left.why };
        self.arrival.left_out.extend(sorted.left_out.into_iter().map(whole));
        self.arrival.unrouted.extend(sorted.unrouted.iter().map(|path| below(outer, path)));
        self.arrival.broken.extend(sorted.broken.into_iter().map(|(path, why)| (below(outer, &path), why)));
        sorted.inner
    }
}

/// Returns the folder in an archive that is a whole server's folder, if there is one: the top, or the wrapper around all.
fn setup_root<'a>(game: &Game, paths: impl Iterator<Item = &'a str>) -> Option<String> {
    let paths: Vec<&str> = paths.collect();
    let scope = survey::default_scope(game);
    let wrapper = paths.first().and_then(|path| path.split_once('/')).map(|(top, _)| top);
    let wrapper = wrapper
        .filter(|top| paths.iter().all(|path| path.split_once('/').is_some_and(|(own, _)| own == *top)));
    let is_one = |root: &str| {
        let there = |template: &Template| {
            let Ok(pattern) = template.render(&scope) else { return false };
            let whole = if root.is_empty() { pattern } else { format!("{root}/{pattern}") };
            paths.iter().any(|path| match whole.split_once('*') {
                Some((head, tail)) => {
                    let middle = path.strip_prefix(head).and_then(|rest| rest.strip_suffix(tail));
                    middle.is_some_and(|middle| !middle.contains('/'))
                }
                None => *path == whole || path.strip_prefix(&whole).is_some_and(|rest| rest.starts_with('/')),
            })
        };
        let any = &game.recognise_any;
        !(game.recognise_all.is_empty() && any.is_empty())
            && game.recognise_all.iter().all(there)
            && (any.is_empty() || any.iter().any(there))
    };
    [Some(""), wrapper].into_iter().flatten().find(|root| is_one(root)).map(str::to_owned)
}

fn arrived(
    store: &Store,
    found: Found,
    outer: &str,
    place: impl Fn(&str) -> Option<(u64, Digest, PathBuf)>,
) -> Arrived {
    let Found { mut content, root, files } = found;
    let is_whole_archive = root.is_empty() && files.len() == 1 && files[0].from.is_empty()
        || files.iter().all(|file| file.from == root);
    let (mut payload, mut sources) = (Payload::default(), BTreeMap::new());
    for file in files {
        let Some((size, digest, at)) = place(&file.from) else { continue };
        payload.files.push(PayloadFile { path: file.path, size, digest, to: file.to });
        let source = match (at.starts_with(store.root()), store.is_fresh(&digest)) {
            (true, true) => ByteSource::Fresh(at),
            (true, false) => ByteSource::Cached(at),
            (false, _) => ByteSource::File(at),
        };
        sources.insert(digest, source);
    }
    payload.files.sort_by(|a, b| a.path.cmp(&b.path));
    match payload.files.as_slice() {
        [PayloadFile { path, size, digest, to: None }] if is_whole_archive => {
            let file = ReleaseFile { name: path.clone(), size: *size, blake3: *digest, at: None };
            content.release.files = vec![file];
        }
        _ => content.release.payload = Some(payload.digest()),
    }
    let inside = if root.is_empty() { outer.to_owned() } else { below(outer, &root) };
    Arrived { content, inside, payload, sources, bundled: Vec::new(), once: Vec::new() }
}

/// Says what it is instead of a content.
fn nothing(path: &Path, name: &str, game: &Game, arrival: &Arrival) -> ArrivalError {
    let kinds: Vec<&str> = game.kinds.keys().map(String::as_str).filter(|kind| *kind != PACK_KIND).collect();
    let hint = format!(
        "contents of {} are: {}; --kind KIND says which it is where that cannot be seen",
        game.title,
        kinds.join(", ")
    );
    let error = |why: String, hint: String| ArrivalError::Nothing { path: name.into(), why, hint };
    if let Some((file, why)) = arrival.broken.first() {
        let why = if file == name { why.clone() } else { format!("{file}: {why}") };
        return error(why, "fetch it again, or ask its author".into());
    }
    let head = if path.is_file() { head_of(path).unwrap_or_default() } else { Vec::new() };
    let text = String::from_utf8_lossy(&head).trim_start().to_ascii_lowercase();
    if text.starts_with("<!doctype html") || text.starts_with("<html") {
        return error(
            "it is a web page, not the file".into(),
            "give yalotheca the link: it looks for the file behind it".into(),
        );
    }
    let seen = &arrival.unrouted;
    if seen.is_empty() || (seen.len() == 1 && seen[0] == name) {
        return error("nothing in it is recognised as a content of this game".into(), hint);
    }
    let some: Vec<&str> = seen.iter().take(4).map(String::as_str).collect();
    let more = if seen.len() > 4 { format!(" and {} more", seen.len() - 4) } else { String::new() };
    error(format!("nothing in it is recognised as a content of this game: {}{more}", some.join(", ")), hint)
}
