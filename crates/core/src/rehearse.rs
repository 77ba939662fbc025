//! Uses a definition once with made-up contents, so that `game check` reports its mistakes before a server meets them.

use std::{collections::BTreeMap, fmt::Display};

use crate::{
    catalogue::{Member, Release},
    change::{PlanChangeError, Present, Receipt, Settled, plan},
    control::{AsFound, Locked, LockedPack, MapsSection, PackSection},
    desire::{Asked, Desired, Entry, LineupEntry, Registration, desire},
    diagnose::LogReader,
    document::{Format, Pointer, Value},
    game::{
        Agree, ConfigPlace, Game, Kind, MapFolders, PACK_KIND, PlatformRule, Probe, Scope, Shape, TWEAK_KIND,
        Template,
    },
    hint::{Advice, Hint},
    id::{ContentId, Digest, TreePath},
    route::{Payload, PayloadFile},
    settings::{SERVER, Settings},
    version::ReleaseVersion,
};

/// Something in a definition that would fail on a server.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{at}: {why}")]
pub struct RehearseError {
    /// The part of the definition, as it is written there.
    pub at: String,
    /// What is wrong with it.
    pub why: String,
}

impl Hint for RehearseError {
    fn hint(&self) -> Option<Advice> {
        Some("docs/game-definitions.md tells what a definition can say there".into())
    }
}

type Tried<T = ()> = Result<T, RehearseError>;

fn wrong(at: &str, why: impl Display) -> RehearseError {
    RehearseError { at: at.into(), why: why.to_string() }
}

/// Uses a definition with a made-up content of each kind: its templates are filled, its entries are written into files that do not
/// exist yet, and what is made of the log's lines is made ready.
///
/// # Errors
/// The first thing that fails.
pub fn rehearse(game: &Game) -> Tried {
    let mut scope = Scope { folder: "/srv/server".into(), ..Scope::default() };
    for (name, rule) in &game.values {
        let default = rule.default.clone().filter(|default| !default.is_empty());
        scope.values.insert(name.clone(), default.unwrap_or_else(|| "value".into()));
    }
    let mut formats = Formats::default();
    templates(game, &scope, &mut formats)?;
    let own = own_files(game, &scope, &mut formats)?;
    let mut together = own.clone();
    for (name, kind) in &game.kinds {
        if name == PACK_KIND || name == TWEAK_KIND {
            continue;
        }
        let at = format!("[kind.{name}]");
        let (locked, payload) = sample((name, kind), "")?;
        let mut settings = Settings::new();
        for file in &kind.settings {
            let scope = crate::route::scope_of(&scope, &locked.id, &locked.title, &locked.release);
            let short = file.short.render(&scope).map_err(|error| wrong(&at, error))?;
            settings.entry(locked.id.to_string()).or_default().insert(short, one_setting(file.format));
        }
        let off = BTreeMap::new();
        let maps = MapsSection::default();
        let entries = [LineupEntry { locked: &locked, payload: &payload }];
        let asked = Asked { maps: &maps, settings: &settings, off: &off, keep: &BTreeMap::new(), pack: None };
        let desired = desire(game, &scope, &entries, asked).map_err(|error| wrong(&at, error))?;
        let contents = BTreeMap::from([(locked.id.clone(), Settled::new(payload.clone()))]);
        let is_played = |registration: &&Registration| {
            // The list that a map needs an item in may have other items.
            let is_alone = |own: &&Registration| !matches!(own.entry, Entry::Item { anywhere: true, .. });
            game.maps.is_some()
                && own.registrations.iter().filter(is_alone).any(|own| same_place(own, registration))
        };
        if let Some(both) = desired.registrations.iter().find(is_played) {
            let why = format!("{}#{} is what [maps] writes; let that do it alone", both.file, both.pointer);
            return Err(wrong(&at, why));
        }
        together.registrations.extend(desired.registrations.iter().cloned());
        let (second, files) = sample((name, kind), "-2")?;
        let second = [LineupEntry { locked: &second, payload: &files }];
        let asked = Asked { maps: &maps, settings: &settings, off: &off, keep: &BTreeMap::new(), pack: None };
        let second = desire(game, &scope, &second, asked).map_err(|error| wrong(&at, error))?;
        together.registrations.extend(second.registrations);
        let mut beside = desired;
        beside.registrations.extend(own.registrations.iter().cloned());
        write(&at, &beside, contents, &mut formats)?;
        LogReader::new(game, &scope, std::slice::from_ref(&locked), Some(locked.id.as_str()))
            .map_err(|error| wrong(&at, error))?;
    }
    // What each part writes, twice, must find room beside what the others write. That two contents write one value is for people to decide.
    match plan(&together, BTreeMap::new(), &Receipt::empty(), &Present::default()) {
        Err(error @ PlanChangeError::Edit { .. }) => Err(wrong("what several parts write", error)),
        _ => Ok(()),
    }
}

/// The server's own settings files, and what it plays.
fn own_files(game: &Game, scope: &Scope, formats: &mut Formats) -> Tried<Desired> {
    let mut own = Desired::default();
    let off = BTreeMap::new();
    for file in &game.settings {
        let at = "[[settings]]";
        let short = file.short.render(scope).map_err(|error| wrong(at, error))?;
        let settings =
            Settings::from([(SERVER.to_owned(), BTreeMap::from([(short, one_setting(file.format))]))]);
        let asked = Asked {
            maps: &MapsSection::default(),
            settings: &settings,
            off: &off,
            keep: &BTreeMap::new(),
            pack: None,
        };
        let desired = desire(game, scope, &[], asked).map_err(|error| wrong(at, error))?;
        write(at, &desired, BTreeMap::new(), formats)?;
        own.registrations.extend(desired.registrations);
    }
    if game.pack.is_some() {
        let section = PackSection { links: vec!["https://example.test/pack.zip".into()], must: Some(true) };
        let locked = LockedPack {
            link: section.links[0].clone(),
            digest: Some("00ff".into()),
            blake3: None,
            bytes: None,
        };
        let pack = Some((&section, &locked));
        let (maps, settings) = (&MapsSection::default(), &Settings::new());
        let asked = Asked { maps, settings, off: &off, keep: &BTreeMap::new(), pack };
        let desired = desire(game, scope, &[], asked).map_err(|error| wrong("[pack]", error))?;
        write("[pack]", &desired, BTreeMap::new(), formats)?;
        own.registrations.extend(desired.registrations);
    }
    let Some(rule) = &game.maps else { return Ok(own) };
    let named = |part: &str| vec![part; rule.folders().map_or(1, MapFolders::depth)].join("/");
    let listed = |is_there: bool| is_there.then(|| vec![named("pier"), named("gulls")]);
    let maps = MapsSection {
        play: Some(named("pier")),
        rotate: listed(rule.rotate.is_some()),
        offer: listed(rule.offer.is_some()),
    };
    let asked =
        Asked { maps: &maps, settings: &Settings::new(), off: &off, keep: &BTreeMap::new(), pack: None };
    let desired = desire(game, scope, &[], asked).map_err(|error| wrong("[maps]", error))?;
    write("[maps]", &desired, BTreeMap::new(), formats)?;
    own.registrations.extend(desired.registrations);
    Ok(own)
}

fn same_place(one: &Registration, other: &Registration) -> bool {
    one.file == other.file && one.pointer == other.pointer
}

/// One setting that a file of that format can hold.
fn one_setting(format: Format) -> BTreeMap<Pointer, Value> {
    let key = if format == Format::Ini { "/section/key" } else { "/key" };
    Pointer::parse(key).map(|pointer| (pointer, Value::Text("text".into()))).into_iter().collect()
}

fn write(
    at: &str,
    desired: &Desired,
    contents: BTreeMap<ContentId, Settled>,
    formats: &mut Formats,
) -> Tried {
    for registration in &desired.registrations {
        formats.note(at, registration.file.as_str(), registration.format)?;
    }
    plan(desired, contents, &Receipt::empty(), &Present::default()).map_err(|error| wrong(at, error))?;
    Ok(())
}

/// A made-up content of a kind.
fn sample((kind, rule): (&str, &Kind), which: &str) -> Tried<(Locked, Payload)> {
    let (shape, suffix, members) = (rule.shape, rule.suffix.as_deref(), &rule.members);
    let id = |text: &str| ContentId::new(text).map_err(|error| wrong("a made-up content", error));
    let version = ReleaseVersion::parse("1.2").map_err(|error| wrong("a made-up content", error))?;
    let mut release = Release::new(version, kind);
    let stated = rule.describe.iter().flat_map(|rule| rule.facts.keys());
    for name in rule.facts.keys().chain(stated) {
        release.facts.insert(name.clone(), format!("sample{which}"));
    }
    for member in members.iter().chain(members) {
        release.members.push(Member {
            id: id(&format!("member-{}", release.members.len()))?,
            kind: member.clone(),
            folder: format!("folder-{}", release.members.len()),
            needs: litemap::LiteMap::new(),
        });
    }
    let path = match shape {
        Shape::File => format!("sample{}", suffix.unwrap_or_default()),
        Shape::Archive => format!("sample{}", suffix.unwrap_or(".zip")),
        Shape::Folder => "sample.txt".into(),
    };
    let file = PayloadFile { path, size: 1, digest: Digest::of(b"x"), to: None };
    let locked = Locked {
        id: id(&format!("sample{which}-{kind}")).or_else(|_| id("sample"))?,
        title: "Sample".into(),
        catalogue: String::new(),
        off: false,
        release,
        given: None,
        found: AsFound::default(),
    };
    Ok((locked, Payload { files: vec![file] }))
}

/// In which format each file is read.
#[derive(Default)]
struct Formats(BTreeMap<String, (Format, String)>);

impl Formats {
    fn note(&mut self, at: &str, file: &str, format: Format) -> Tried {
        let known = self.0.entry(file.to_owned()).or_insert_with(|| (format, at.to_owned()));
        if known.0 == format {
            return Ok(());
        }
        let (other, first) = (known.0.name(), &known.1);
        Err(wrong(at, format!("{file} is read as {} here, and as {other} in {first}", format.name())))
    }

    fn place(&mut self, at: &str, place: &ConfigPlace, scope: &Scope) -> Tried {
        let file = place.file.render(scope).map_err(|error| wrong(at, error))?;
        let pointer = place.pointer.render(scope).map_err(|error| wrong(at, error))?;
        Pointer::parse(&pointer).map_err(|error| wrong(at, error))?;
        // A value may leave out a file that does not exist for this server.
        if file.is_empty() {
            return Ok(());
        }
        TreePath::new(&file).map_err(|error| wrong(at, error))?;
        self.note(at, &file, place.format)
    }
}

fn render<'t>(at: &str, all: impl IntoIterator<Item = &'t Template>, scope: &Scope) -> Tried {
    all.into_iter().try_for_each(|one| one.render(scope).map(drop).map_err(|error| wrong(at, error)))
}

/// Everything that is filled without a content.
fn templates(game: &Game, scope: &Scope, formats: &mut Formats) -> Tried {
    render("[recognise]", game.recognise_all.iter().chain(&game.recognise_any), scope)?;
    render("[never-touch]", &game.never_touch, scope)?;
    render("[provides]", game.provides.values().flatten(), scope)?;
    render("[run]", game.run.command.iter().chain(game.run.env.values()), scope)?;
    match &game.run.probe {
        Some(Probe::Tcp(port) | Probe::Udp { port, .. }) => render("[run]", [port], scope)?,
        None => {}
    }
    if let Some(console) = &game.console {
        let mut with_line = scope.clone();
        for name in ["line", "text"] {
            with_line.found.insert(name.into(), "text".into());
        }
        render("[console]", console.channel.templates(), &with_line)?;
        render("[console]", &console.announce, &with_line)?;
        console.secret.iter().try_for_each(|place| formats.place("[console]", place, scope))?;
    }
    for (_, rule) in &game.values {
        rule.from.iter().try_for_each(|place| formats.place("[values]", place, scope))?;
    }
    for rule in game.platform.values() {
        match rule {
            PlatformRule::File(place) => formats.place("[platform]", place, scope)?,
            PlatformRule::Inside { archive, .. } => render("[platform]", [archive], scope)?,
            PlatformRule::Command { command, .. } => render("[platform]", command, scope)?,
        }
    }
    if let Some(terms) = &game.terms {
        formats.place("[terms]", &terms.place, scope)?;
    }
    let mut found = scope.clone();
    for name in ["found", "expected"] {
        found.found.insert(name.into(), "text".into());
    }
    for agree in &game.agree {
        match agree {
            Agree::File { file, named, say, .. } => {
                render("[[agree]]", [file, say], scope)?;
                formats.place("[[agree]]", named, scope)?;
            }
            Agree::Present { value, say } => {
                render("[[agree]]", [say], scope)?;
                formats.place("[[agree]]", value, scope)?;
            }
            Agree::Value { value, is, inside, say } => {
                render("[[agree]]", inside.iter().chain([say]), &found)?;
                formats.place("[[agree]]", value, scope)?;
                if inside.is_none() {
                    formats.place("[[agree]]", is, scope)?;
                }
            }
        }
    }
    for symptom in &game.symptoms {
        let mut found = scope.clone();
        found.found.extend(symptom.pattern.groups().map(|group| (group.to_owned(), "text".to_owned())));
        render("[[symptom]]", std::iter::once(&symptom.say).chain(&symptom.advice), &found)?;
    }
    Ok(())
}
