//! What came to this machine: a file, an archive or a folder is looked into, and the contents in it are told with where
//! the bytes of each of their files lie.

mod foreign;
mod pack;
mod setup;

use std::{
    collections::{BTreeSet, HashMap},
    io,
    path::{Path, PathBuf},
    sync::Arc,
};

use yalotheca_core::{
    catalogue::{Recognised, ReleaseFile},
    game::{DescribeError, Game, PACK_KIND, Shape},
    hint::{Advice, Hint},
    id::{Digest, TreePath},
    route::{
        Asked, Bundle, LeftOut, Payload, PayloadFile, Sorted, SortedContent, recognise, recognise_as_kind,
        sort_out,
    },
};

use crate::{
    archive::{FolderBundle, ZipBundle},
    container::{Container, bare_name, by_name},
    sources::{ByteSource, Sources},
    store::Store,
    tree::digest_of,
    unpack::{
        UnpackError, UnpackOptions, Unpacked, UnpackedBundle, container_of, head_of, unpack, unpacked_before,
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
        hint: Box<Advice>,
    },
}

impl Hint for ArrivalError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Unpack(error) => error.hint(),
            Self::Read { .. } => Some("check that it exists and can be read".into()),
            Self::Describe { source, .. } => source.hint(),
            Self::Nothing { hint, .. } => Some((**hint).clone()),
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
    pub payload: Arc<Payload>,
    /// Where their bytes lie.
    pub sources: Arc<Sources>,
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
    // Of a pack the contents are recognised by themselves.
    let is_asked_as_pack = options.asked.kind.as_deref() == Some(PACK_KIND);
    let mut inner = options.clone();
    if is_asked_as_pack {
        inner.asked.kind = None;
    }
    let (arrival, overrides) = (Arrival::default(), Vec::new());
    let mut looking = Looking { game, store, options: &inner, arrival, overrides, is_asked_as_pack };
    let metadata = std::fs::metadata(path).map_err(looking.read(path))?;
    if metadata.is_dir() {
        looking.folder(path, &name)?;
    } else {
        looking.file(path, &name, "", 0)?;
    }
    looking.as_one_pack(&name);
    let arrival = looking.arrival;
    if arrival.contents.is_empty() && !arrival.is_setup {
        Err(nothing(path, &name, game, &arrival))
    } else {
        Ok(arrival)
    }
}

/// Finds a file of what came by its path in it: its size, its digest and where its bytes lie.
type Locate<'p> = &'p dyn Fn(&str) -> Option<(u64, Digest, PathBuf)>;

struct Looking<'a> {
    game: &'a Game,
    store: &'a Store,
    options: &'a LookOptions,
    arrival: Arrival,
    /// Files for the server's configuration, where somebody else's pack has some.
    overrides: Vec<Once>,
    /// Whether what came is to be one pack.
    is_asked_as_pack: bool,
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
        if let (true, Some(found)) = (claims && !self.is_file_kind(path, name)?, container) {
            self.arrival.notes.push(format!("{name} is {}, whatever its name says", found.name()));
        }
        if container.is_none() {
            return self.plain_file(path, name, outer);
        }
        let before = unpacked_before(path, self.store).map_err(self.read(path))?;
        if container == Some(Container::Zip)
            && self.may_be_whole(name, before.as_ref())
            && self.whole_archive(path, name, outer)?
        {
            return Ok(());
        }
        if self.is_file_kind(path, name)? {
            return self.plain_file(path, name, outer);
        }
        let shown = if outer.is_empty() { name.to_owned() } else { outer.to_owned() };
        let unpacked = match before {
            Some(before) => Some(before),
            None => unpack(path, &shown, self.store, &self.options.unpack)?,
        };
        let Some(unpacked) = unpacked else { return Ok(()) };
        self.arrival.notes.extend(unpacked.notes.iter().map(|note| format!("{shown}: {note}")));
        let mut bundle = UnpackedBundle::new(&unpacked, self.store);
        let sorted = self.sorted(&shown, bare_name(name), &mut bundle)?;
        let members: HashMap<&str, (u64, Digest), foldhash::fast::RandomState> = unpacked
            .members
            .iter()
            .map(|member| (member.path.as_str(), (member.size, member.digest)))
            .collect();
        let store = self.store;
        let place = |from: &str| {
            let (size, digest) = members.get(from).copied()?;
            Some((size, digest, store.file(&digest)?))
        };
        let inner = self.take(outer, sorted, place);
        self.open_packs(&mut bundle, &place)?;
        let mut paths: Vec<&str> = members.keys().copied().collect();
        paths.sort_unstable();
        let inner = if depth == 0 { self.setup(inner, &paths, &place)? } else { inner };
        if depth == 0 {
            self.take_overrides(&place)?;
        }
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

    fn is_file_kind(&self, path: &Path, name: &str) -> Result<bool, ArrivalError> {
        is_file_kind(self.game, self.options.asked.kind.as_deref(), path, name).map_err(self.read(path))
    }

    /// Whether an archive may itself be the payload; of one that was unpacked before, its members tell sooner than it does.
    fn may_be_whole(&self, name: &str, before: Option<&Unpacked>) -> bool {
        let Some(before) = before.filter(|_| self.options.asked.kind.is_none()) else { return true };
        let mut bundle = UnpackedBundle::new(before, self.store);
        !matches!(recognise(self.game, Shape::Archive, name, &mut bundle), Ok(None))
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
        let found = SortedContent {
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
        let mut few: BTreeSet<String> = kinds.flat_map(|kind| kind.companions_of(kind.stem(&file))).collect();
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

    /// Looks at a folder: it may be what an archive may be.
    fn folder(&mut self, folder: &Path, name: &str) -> Result<(), ArrivalError> {
        let mut bundle = FolderBundle::new(folder);
        let sorted = self.sorted(name, name, &mut bundle)?;
        let place = |from: &str| {
            let place = folder.join(from);
            let (digest, size) = digest_of(&place).ok()?;
            Some((size, digest, place))
        };
        let inner = self.take("", sorted, place);
        self.open_packs(&mut bundle, &place)?;
        let files = bundle.files();
        let paths: Vec<&str> = files.iter().map(|(path, _)| path.as_str()).collect();
        let inner = self.setup(inner, &paths, &place)?;
        self.take_overrides(&place)?;
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

/// Returns whether what is an archive by its bytes is a content as one file: its kind has such a name, and no other first bytes.
pub(crate) fn is_file_kind(game: &Game, asked: Option<&str>, path: &Path, name: &str) -> io::Result<bool> {
    let kinds = game.kinds.iter().filter(|(_, kind)| kind.shape == Shape::File);
    let mut kinds = kinds
        .filter(|(kind_name, kind)| {
            let suffix = kind.suffix.as_ref();
            asked.is_none_or(|asked| asked == *kind_name)
                && suffix.map_or(asked.is_some(), |suffix| name.ends_with(suffix.as_str()))
        })
        .peekable();
    if kinds.peek().is_none() {
        return Ok(false);
    }
    let size = std::fs::metadata(path)?.len();
    let head = head_of(path)?;
    Ok(kinds.any(|(_, kind)| kind.looks_right(&head, size).is_ok()))
}

fn arrived(
    store: &Store,
    found: SortedContent,
    outer: &str,
    place: impl Fn(&str) -> Option<(u64, Digest, PathBuf)>,
) -> Arrived {
    let SortedContent { mut content, root, files } = found;
    let is_whole_archive = root.is_empty() && files.len() == 1 && files[0].from.is_empty()
        || files.iter().all(|file| file.from == root);
    let (mut payload, mut sources) = (Payload::default(), Vec::with_capacity(files.len()));
    for file in files {
        let Some((size, digest, at)) = place(&file.from) else { continue };
        payload.files.push(PayloadFile { path: file.path, size, digest, to: file.to });
        sources.push((digest, source_at(store, &digest, at)));
    }
    payload.files.sort_by(|a, b| a.path.cmp(&b.path));
    match payload.files.as_slice() {
        [PayloadFile { path, size, digest, to: None }] if is_whole_archive => {
            let file = ReleaseFile { name: path.clone(), size: *size, blake3: *digest, at: None };
            content.release.files = vec![file];
        }
        _ => content.release.payload = Some(payload.digest()),
    }
    content.release.know_by_bytes();
    let inside = if root.is_empty() { outer.to_owned() } else { below(outer, &root) };
    let (payload, sources) = (Arc::new(payload), Arc::new(sources.into_iter().collect()));
    Arrived { content, inside, payload, sources, bundled: Vec::new(), once: Vec::new() }
}

fn source_at(store: &Store, digest: &Digest, at: PathBuf) -> ByteSource {
    // As text: there are very many, and all are written alike.
    let below = at.as_os_str().as_encoded_bytes().strip_prefix(store.root().as_os_str().as_encoded_bytes());
    match (below.is_some_and(|below| below.starts_with(b"/")), store.is_fresh(digest)) {
        (true, true) => ByteSource::Fresh(at),
        (true, false) => ByteSource::Cached(at),
        (false, _) => ByteSource::File(at),
    }
}

/// Says what it is instead of a content.
fn nothing(path: &Path, name: &str, game: &Game, arrival: &Arrival) -> ArrivalError {
    let kinds: Vec<&str> = game.kinds.keys().map(String::as_str).filter(|kind| *kind != PACK_KIND).collect();
    let hint = Advice::NameKind(format!("contents of {} are: {}", game.title, kinds.join(", ")));
    let error =
        |why: String, hint: Advice| ArrivalError::Nothing { path: name.into(), why, hint: Box::new(hint) };
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
