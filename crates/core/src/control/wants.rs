//! `yalotheca.toml`, edited so that comments and order stay.

use std::collections::BTreeMap;

use serde::Deserialize;
use toml::Spanned;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, value};

use super::{
    CatalogueSource, Given, HistorySection, LinkSection, MapsSection, MirrorSection, PackSection,
    ServerSection, UnpackSection,
};
use crate::{
    document::{Pointer, Value},
    id::ContentId,
    link::user_of,
    order::AskedPlace,
    settings::Settings,
    toml_file::{ReadTomlError, TomlFile},
    version::VersionRange,
};

/// Why a content is switched off: a reason, or simply `true`.
#[derive(Deserialize)]
#[serde(untagged, expecting = "true, or a text that says why it is off")]
enum RawOff {
    Plain(bool),
    Reason(String),
}

/// A want: a range of versions, or where the content lies.
#[derive(Deserialize)]
#[serde(untagged, expecting = "a range of versions, or { link = … } or { file = … }")]
enum RawWant {
    Range(String),
    Given(Box<Given>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Raw {
    format: u32,
    server: ServerSection,
    #[serde(default)]
    catalogue: Vec<CatalogueSource>,
    #[serde(default)]
    link: Vec<LinkSection>,
    #[serde(default)]
    unpack: UnpackSection,
    #[serde(default)]
    history: HistorySection,
    #[serde(default)]
    wants: BTreeMap<ContentId, Spanned<RawWant>>,
    #[serde(default)]
    off: BTreeMap<ContentId, Spanned<RawOff>>,
    #[serde(default)]
    order: BTreeMap<ContentId, AskedPlace>,
    #[serde(default)]
    maps: MapsSection,
    #[serde(default)]
    pack: Option<PackSection>,
    #[serde(default)]
    mirror: MirrorSection,
    #[serde(default)]
    keep: BTreeMap<String, ContentId>,
    #[serde(default)]
    settings: BTreeMap<String, BTreeMap<String, BTreeMap<Pointer, Value>>>,
}

/// Returns what is off, each with the reason.
///
/// # Errors
/// The place of a line that says that something is not off.
fn read_off(raw: BTreeMap<ContentId, Spanned<RawOff>>) -> Result<BTreeMap<ContentId, String>, usize> {
    let reason = |(id, why): (ContentId, Spanned<RawOff>)| {
        let at = why.span().start;
        match why.into_inner() {
            RawOff::Plain(true) => Ok((id, String::new())),
            RawOff::Plain(false) => Err(at),
            RawOff::Reason(why) => Ok((id, why)),
        }
    };
    raw.into_iter().map(reason).collect()
}

/// `yalotheca.toml`.
#[derive(Debug, Clone)]
pub struct ControlFile {
    document: DocumentMut,
    /// Which server.
    pub server: ServerSection,
    /// Where contents come from; earlier ones decide.
    pub catalogues: Vec<CatalogueSource>,
    /// How pages' addresses become files'.
    pub links: Vec<LinkSection>,
    /// Bounds on what archives may bring.
    pub unpack: UnpackSection,
    /// How long changes can be taken back.
    pub history: HistorySection,
    /// What was asked for; any version of what was given by hand.
    pub wants: BTreeMap<ContentId, VersionRange>,
    /// What was given by link, file or folder.
    pub given: BTreeMap<ContentId, Given>,
    /// Contents and members of packs that are switched off, each with the reason, which may be empty.
    pub off: BTreeMap<ContentId, String>,
    /// What is played.
    pub maps: MapsSection,
    /// The resource pack that players are offered.
    pub pack: Option<PackSection>,
    /// The web folder from which players' games download files.
    pub mirror: MirrorSection,
    /// What was asked of the load order.
    pub order: BTreeMap<ContentId, AskedPlace>,
    /// From which content an asset comes that several have, by its name.
    pub keep: BTreeMap<String, ContentId>,
    /// The settings that are asked for.
    pub settings: Settings,
}

impl ControlFile {
    /// Returns a new file for a server.
    pub fn new(server: &ServerSection, catalogues: &[CatalogueSource]) -> Self {
        let mut document = DocumentMut::new();
        document["format"] = value(1);
        let mut section = Table::new();
        if !server.name.is_empty() {
            section["name"] = value(&server.name);
        }
        section["game"] = value(&server.game);
        section["at"] = value(&server.at);
        if !server.values.is_empty() {
            let mut values = Table::new();
            for (name, text) in &server.values {
                values[name] = value(text);
            }
            section["values"] = Item::Table(values);
        }
        document["server"] = Item::Table(section);
        let mut list = toml_edit::ArrayOfTables::new();
        for catalogue in catalogues {
            let mut table = Table::new();
            table["name"] = value(&catalogue.name);
            table["at"] = value(&catalogue.at);
            list.push(table);
        }
        if !list.is_empty() {
            document["catalogue"] = Item::ArrayOfTables(list);
        }
        document["wants"] = Item::Table(Table::new());
        Self {
            document,
            server: server.clone(),
            catalogues: catalogues.to_vec(),
            links: Vec::new(),
            unpack: UnpackSection::default(),
            history: HistorySection::default(),
            wants: BTreeMap::new(),
            given: BTreeMap::new(),
            off: BTreeMap::new(),
            maps: MapsSection::default(),
            pack: None,
            mirror: MirrorSection::default(),
            order: BTreeMap::new(),
            keep: BTreeMap::new(),
            settings: Settings::new(),
        }
    }

    /// Reads the file; `file` is its name for messages.
    ///
    /// # Errors
    /// Where it is not TOML, or a key or a value in it is wrong.
    pub fn parse(file: &str, text: &str) -> Result<Self, ReadTomlError> {
        let file = TomlFile { name: file, text, advice: "correct that line; nothing was changed" };
        let fail = |at: usize, why: &str| file.mistake(&(at..at), why);
        let raw: Raw = file.read()?;
        if raw.format != 1 {
            return Err(fail(0, "this program reads format 1; a newer yalotheca wrote this file"));
        }
        let document = text
            .parse::<DocumentMut>()
            .map_err(|error| fail(error.span().map_or(0, |span| span.start), error.message()))?;
        let addresses = raw.catalogue.iter().map(|catalogue| &catalogue.at).chain([&raw.server.at]);
        let addresses = addresses.chain(&raw.mirror.target);
        if let Some(at) =
            addresses.into_iter().find(|at| user_of(at).is_some_and(|(_, password)| !password.is_empty()))
        {
            let place = text.find(at.as_str()).unwrap_or(0);
            return Err(file.mistake(
                &(place..place),
                "an address here holds a password; write it without, and put user and password into credentials.toml in your configuration folder",
            ));
        }
        let Raw {
            server,
            catalogue: catalogues,
            link: links,
            unpack,
            history,
            wants: raw_wants,
            off: raw_off,
            order,
            maps,
            pack,
            mirror,
            keep,
            settings,
            ..
        } = raw;
        let (mut wants, mut given) = (BTreeMap::new(), BTreeMap::new());
        for (id, want) in raw_wants {
            let at = want.span().start;
            match want.into_inner() {
                RawWant::Range(range) => {
                    let range = VersionRange::parse(&range).map_err(|error| fail(at, &error.to_string()))?;
                    wants.insert(id, range);
                }
                RawWant::Given(one) => {
                    if one.link.is_some() == one.file.is_some() {
                        return Err(fail(at, "a want in braces has either \"link\" or \"file\""));
                    }
                    wants.insert(id.clone(), VersionRange::any());
                    given.insert(id, *one);
                }
            }
        }
        let off = read_off(raw_off)
            .map_err(|at| fail(at, "what is not off has no line in [off]; take this line out"))?;
        Ok(Self {
            document,
            server,
            catalogues,
            links,
            unpack,
            history,
            wants,
            given,
            off,
            maps,
            pack,
            mirror,
            order,
            keep,
            settings,
        })
    }

    /// Adds a catalogue after the others.
    pub fn add_catalogue(&mut self, catalogue: &CatalogueSource) {
        let mut table = Table::new();
        table["name"] = value(&catalogue.name);
        table["at"] = value(&catalogue.at);
        if let Some(key) = &catalogue.key {
            table["key"] = value(key);
        }
        let list = || Item::ArrayOfTables(toml_edit::ArrayOfTables::new());
        if let Some(list) = self.document.entry("catalogue").or_insert_with(list).as_array_of_tables_mut() {
            list.push(table);
        }
        self.catalogues.push(catalogue.clone());
    }

    /// Takes a catalogue out and returns whether it was there.
    pub fn drop_catalogue(&mut self, name: &str) -> bool {
        let Some(at) = self.catalogues.iter().position(|catalogue| catalogue.name == name) else {
            return false;
        };
        self.catalogues.remove(at);
        if let Some(list) = self.document.get_mut("catalogue").and_then(Item::as_array_of_tables_mut) {
            list.remove(at);
            if list.is_empty() {
                self.document.remove("catalogue");
            }
        }
        true
    }

    /// Notes a content that was given by link, file or folder.
    pub fn give(&mut self, id: &ContentId, given: &Given) {
        // Plain data without maps whose keys are no texts always becomes TOML.
        let inline = toml_edit::ser::to_document(given)
            .map(|document| document.as_table().clone().into_inline_table());
        let wants = self.document.entry("wants").or_insert_with(|| Item::Table(Table::new()));
        let mut inline = inline.unwrap_or_default();
        for (_, inner) in inline.iter_mut() {
            inner.decor_mut().clear();
        }
        wants[id.as_str()] = value(inline);
        self.wants.insert(id.clone(), VersionRange::any());
        self.given.insert(id.clone(), given.clone());
    }

    /// Notes which map is played; nothing leaves that to the server's own file.
    pub fn play(&mut self, name: Option<&str>) {
        self.maps.play = name.map(str::to_owned);
        self.set_in_maps("play", name.map(value));
    }

    /// Notes which maps are played in turn.
    pub fn rotate(&mut self, names: Option<&[String]>) {
        self.maps.rotate = names.map(<[String]>::to_vec);
        self.set_in_maps("rotate", names.map(|names| value(names.iter().collect::<Array>())));
    }

    /// Notes which maps players may choose.
    pub fn offer(&mut self, names: Option<&[String]>) {
        self.maps.offer = names.map(<[String]>::to_vec);
        self.set_in_maps("offer", names.map(|names| value(names.iter().collect::<Array>())));
    }

    /// Sets the resource pack that players are offered; without one, the server's own setting stays.
    pub fn offer_pack(&mut self, pack: Option<&PackSection>) {
        self.pack = pack.cloned();
        let Some(PackSection { links, must }) = pack else {
            self.document.remove("pack");
            return;
        };
        let table = self.document.entry("pack").or_insert_with(|| Item::Table(Table::new()));
        let Some(table) = table.as_table_like_mut() else { return };
        table.insert("links", value(links.iter().collect::<Array>()));
        match must {
            Some(must) => drop(table.insert("must", value(*must))),
            None => drop(table.remove("must")),
        }
    }

    /// Notes where the mirror is built and published; what is not given stays.
    pub fn note_mirror(&mut self, folder: Option<&str>, target: Option<&str>) {
        for (key, to) in [("folder", folder), ("target", target)] {
            let Some(to) = to else { continue };
            let table = self.document.entry("mirror").or_insert_with(|| Item::Table(Table::new()));
            if let Some(table) = table.as_table_like_mut() {
                table.insert(key, value(to));
            }
        }
        self.mirror.folder = folder.map(str::to_owned).or(self.mirror.folder.take());
        self.mirror.target = target.map(str::to_owned).or(self.mirror.target.take());
    }

    fn set_in_maps(&mut self, key: &str, to: Option<Item>) {
        let table = self.document.entry("maps").or_insert_with(|| Item::Table(Table::new()));
        let Some(table) = table.as_table_like_mut() else { return };
        match to {
            Some(item) => drop(table.insert(key, item)),
            None => drop(table.remove(key)),
        }
        if table.is_empty() {
            self.document.remove("maps");
        }
    }

    /// Notes a want, in the place it has or at the end.
    pub fn want(&mut self, id: &ContentId, range: &VersionRange) {
        let wants = self.document.entry("wants").or_insert_with(|| Item::Table(Table::new()));
        match wants.get_mut(id.as_str()).and_then(Item::as_value_mut) {
            Some(there) => {
                let decor = there.decor().clone();
                *there = range.as_str().into();
                *there.decor_mut() = decor;
            }
            None => wants[id.as_str()] = value(range.as_str()),
        }
        self.wants.insert(id.clone(), range.clone());
        self.given.remove(id);
    }

    /// Takes a want out and returns whether it was there.
    pub fn unwant(&mut self, id: &ContentId) -> bool {
        if let Some(table) = self.document.get_mut("wants").and_then(Item::as_table_like_mut) {
            table.remove(id.as_str());
        }
        self.given.remove(id);
        self.wants.remove(id).is_some()
    }

    /// Notes that a content or a member of a pack is switched off; the reason may be empty.
    pub fn switch_off(&mut self, id: &ContentId, why: &str) {
        let noted = if why.is_empty() { value(true) } else { value(why) };
        let table = self.document.entry("off").or_insert_with(|| Item::Table(Table::new()));
        table[id.as_str()] = noted;
        self.off.insert(id.clone(), why.to_owned());
    }

    /// Takes a content out of those that are switched off and returns whether it was there.
    pub fn switch_on(&mut self, id: &ContentId) -> bool {
        if let Some(table) = self.document.get_mut("off").and_then(Item::as_table_like_mut) {
            table.remove(id.as_str());
            if table.is_empty() {
                self.document.remove("off");
            }
        }
        self.off.remove(id).is_some()
    }

    /// Notes from which content an asset comes; nothing forgets it.
    pub fn keep_asset(&mut self, name: &str, from: Option<&ContentId>) {
        let table = self.document.entry("keep").or_insert_with(|| Item::Table(Table::new()));
        if let Some(id) = from {
            table[name] = value(id.as_str());
            self.keep.insert(name.to_owned(), id.clone());
        } else {
            if let Some(table) = table.as_table_like_mut() {
                table.remove(name);
            }
            self.keep.remove(name);
        }
        if self.keep.is_empty() {
            self.document.remove("keep");
        }
    }

    /// Notes what is asked of a content's place in the load order, in place of what was asked before; an empty place asks
    /// for nothing.
    pub fn ask_place(&mut self, id: &ContentId, place: AskedPlace) {
        if place == AskedPlace::default() {
            self.order.remove(id);
            let Some(table) = self.document.get_mut("order").and_then(Item::as_table_like_mut) else {
                return;
            };
            table.remove(id.as_str());
            if table.is_empty() {
                self.document.remove("order");
            }
            return;
        }
        let mut inline = InlineTable::new();
        for (key, ids) in [("after", &place.after), ("before", &place.before)] {
            if !ids.is_empty() {
                inline.insert(key, ids.iter().map(ContentId::as_str).collect::<Array>().into());
            }
        }
        let table = self.document.entry("order").or_insert_with(|| Item::Table(Table::new()));
        match table.get_mut(id.as_str()).and_then(Item::as_value_mut) {
            Some(there) => {
                let decor = there.decor().clone();
                *there = inline.into();
                *there.decor_mut() = decor;
            }
            None => table[id.as_str()] = value(inline),
        }
        self.order.insert(id.clone(), place);
    }

    /// Notes a setting; nothing forgets it.
    pub fn ask_setting(&mut self, owner: &str, file: &str, at: &Pointer, to: Option<&Value>) {
        let table = self.settings.entry(owner.into()).or_default().entry(file.into()).or_default();
        match to {
            Some(value) => drop(table.insert(at.clone(), value.clone())),
            None => drop(table.remove(at)),
        }
        self.settings.retain(|_, files| {
            files.retain(|_, values| !values.is_empty());
            !files.is_empty()
        });
        let group = || {
            let mut table = Table::new();
            table.set_implicit(true);
            Item::Table(table)
        };
        let root = self.document.entry("settings").or_insert_with(group);
        let Some(owners) = root.as_table_like_mut() else { return };
        let Some(files) = owners.entry(owner).or_insert_with(group).as_table_like_mut() else { return };
        let Some(values) = files.entry(file).or_insert_with(|| Item::Table(Table::new())).as_table_like_mut()
        else {
            return;
        };
        match to {
            Some(value) => {
                let new = toml_value(&value.to_json());
                let key = at.to_string();
                match values.get_mut(&key).and_then(Item::as_value_mut) {
                    Some(there) => {
                        let decor = there.decor().clone();
                        *there = new;
                        *there.decor_mut() = decor;
                    }
                    None => drop(values.insert(&key, Item::Value(new))),
                }
            }
            None => drop(values.remove(&at.to_string())),
        }
        if values.is_empty() {
            files.remove(file);
        }
        if files.is_empty() {
            owners.remove(owner);
        }
        if owners.is_empty() {
            self.document.remove("settings");
        }
    }

    /// Returns the text of the file.
    pub fn text(&self) -> String {
        self.document.to_string()
    }
}

fn toml_value(json: &serde_json::Value) -> toml_edit::Value {
    match json {
        serde_json::Value::Bool(flag) => (*flag).into(),
        serde_json::Value::Number(number) => match number.as_i64() {
            Some(whole) => whole.into(),
            None => number.as_f64().unwrap_or_default().into(),
        },
        serde_json::Value::Array(items) => items.iter().map(toml_value).collect::<Array>().into(),
        serde_json::Value::Object(entries) => {
            let entries = entries.iter().map(|(key, value)| (key.clone(), toml_value(value)));
            entries.collect::<InlineTable>().into()
        }
        serde_json::Value::String(text) => text.as_str().into(),
        serde_json::Value::Null => "".into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{control::ProcessSection, id::Digest, version::ReleaseVersion};

    #[test]
    fn settings_are_noted_and_forgotten() {
        let mut control = ControlFile::parse("yalotheca.toml", TEXT).unwrap();
        let at = |text| Pointer::parse(text).unwrap();
        control.ask_setting("tidebell", "settings.yml", &at("/volume/default"), Some(&Value::Whole(3)));
        control.ask_setting("server", "boot.json", &at("/memory_mb"), Some(&Value::Whole(2048)));
        control.ask_setting("tidebell", "settings.yml", &at("/volume/default"), Some(&Value::Whole(4)));
        assert_eq!(
            control.text(),
            format!(
                "{TEXT}\n[settings.tidebell.\"settings.yml\"]\n\"/volume/default\" = 4\n\n\
                 [settings.server.\"boot.json\"]\n\"/memory_mb\" = 2048\n"
            )
        );
        assert_eq!(ControlFile::parse("y", &control.text()).unwrap().settings, control.settings);
        control.ask_setting("tidebell", "settings.yml", &at("/volume/default"), None);
        control.ask_setting("server", "boot.json", &at("/memory_mb"), None);
        assert_eq!((control.text().as_str(), control.settings.len()), (TEXT, 0));
    }

    const TEXT: &str = "format = 1\n# ours\n[server]\ngame = \"saltwick\"\n\n[wants]\n# the core\nharbour-core = \">=2\" # keep\ntidebell = \"*\"\n";

    #[test]
    fn places_are_noted_and_forgotten() {
        let mut control = ControlFile::parse("yalotheca.toml", TEXT).unwrap();
        let id = |text| ContentId::new(text).unwrap();
        let place = AskedPlace { after: vec![id("gull-chat")], before: Vec::new() };
        control.ask_place(&id("tidebell"), place.clone());
        assert_eq!(control.text(), format!("{TEXT}\n[order]\ntidebell = {{ after = [\"gull-chat\"] }}\n"));
        assert_eq!(ControlFile::parse("y", &control.text()).unwrap().order[&id("tidebell")], place);
        control.ask_place(&id("tidebell"), AskedPlace::default());
        assert_eq!(control.text(), TEXT);
        let wrong = format!("{TEXT}\n[order]\ntidebell = {{ aftr = [] }}\n");
        assert!(ControlFile::parse("y", &wrong).unwrap_err().to_string().contains("aftr"));
    }

    #[test]
    fn catalogues_come_and_go() {
        let mut control = ControlFile::parse("yalotheca.toml", TEXT).unwrap();
        let source = |name: &str, key: Option<&str>| CatalogueSource {
            name: name.into(),
            at: "https://quayside.example/".into(),
            key: key.map(str::to_owned),
            older: false,
        };
        control.add_catalogue(&source("quayside", None));
        control.add_catalogue(&source("signed", Some("RWQ")));
        let read = ControlFile::parse("y", &control.text()).unwrap();
        assert_eq!(read.catalogues, control.catalogues);
        assert!(control.text().contains("# keep"));
        assert!(control.drop_catalogue("quayside") && !control.drop_catalogue("quayside"));
        assert_eq!(ControlFile::parse("y", &control.text()).unwrap().catalogues, control.catalogues);
        assert!(control.drop_catalogue("signed"));
        assert_eq!(control.text().trim_end(), TEXT.trim_end());
    }

    #[test]
    fn what_is_off_is_noted_and_forgotten() {
        let mut control = ControlFile::parse("yalotheca.toml", TEXT).unwrap();
        let id = |text| ContentId::new(text).unwrap();
        control.switch_off(&id("tidebell"), "");
        control.switch_off(&id("xdecor"), "crashes since 5.6");
        assert_eq!(
            control.text(),
            format!("{TEXT}\n[off]\ntidebell = true\nxdecor = \"crashes since 5.6\"\n")
        );
        assert_eq!(ControlFile::parse("y", &control.text()).unwrap().off, control.off);
        assert!(control.switch_on(&id("tidebell")) && control.switch_on(&id("xdecor")));
        assert!(!control.switch_on(&id("xdecor")));
        assert_eq!(control.text(), TEXT);
        for wrong in ["false", "7"] {
            let error = ControlFile::parse("y", &format!("{TEXT}[off]\nxdecor = {wrong}\n")).unwrap_err();
            assert_eq!(error.line, 11, "{error}");
        }
    }

    #[test]
    fn what_is_given_by_hand_is_noted_and_read_again() {
        let mut control = ControlFile::parse("yalotheca.toml", TEXT).unwrap();
        let id = ContentId::new("foghorn").unwrap();
        let given = Given {
            link: Some("https://files.example/s/8f2?view=0".into()),
            blake3: Some(Digest::of(b"x")),
            inside: Some("pack/foghorn.swp".into()),
            version: Some(ReleaseVersion::parse("0.9").unwrap()),
            place: [("extra/*".to_owned(), "weather".to_owned())].into(),
            leave: vec!["**/*.bak".into()],
            facts: [("number".to_owned(), "4410021".to_owned())].into(),
            ..Given::default()
        };
        control.give(&id, &given);
        let read = ControlFile::parse("y", &control.text()).unwrap();
        assert_eq!((read.given.get(&id), read.wants.get(&id)), (Some(&given), Some(&VersionRange::any())));
        assert!(
            control.text().lines().any(|line| line.starts_with("foghorn = { link = ")),
            "{}",
            control.text()
        );
        // By name again: it is no longer given.
        control.want(&id, &VersionRange::any());
        assert!(
            control.given.is_empty() && ControlFile::parse("y", &control.text()).unwrap().given.is_empty()
        );
        assert!(control.unwant(&id));
        assert_eq!(control.text(), TEXT);
    }

    #[test]
    fn a_want_in_braces_names_one_place() {
        for (want, says) in [
            ("{ }", "either \"link\" or \"file\""),
            ("{ link = \"x\", file = \"y\" }", "either \"link\" or \"file\""),
            ("{ lnk = \"x\" }", "a range of versions, or"),
            ("7", "a range of versions, or"),
            ("\"~~\"", "range"),
        ] {
            let error = ControlFile::parse("y", &format!("{TEXT}foghorn = {want}\n")).unwrap_err();
            assert!(error.why.contains(says), "{want}: {error}");
            assert_eq!(error.line, 10, "{want}: {error}");
        }
    }

    #[test]
    fn maps_are_noted_and_forgotten() {
        let mut control = ControlFile::parse("yalotheca.toml", TEXT).unwrap();
        let names = ["gull_cliffs".to_owned(), "pier_lights".to_owned()];
        control.play(Some("gull_cliffs"));
        control.rotate(Some(&names));
        control.offer(Some(&names[..1]));
        let text = control.text();
        assert!(text.ends_with(
            "[maps]\nplay = \"gull_cliffs\"\nrotate = [\"gull_cliffs\", \"pier_lights\"]\noffer = [\"gull_cliffs\"]\n"
        ));
        assert_eq!(ControlFile::parse("y", &text).unwrap().maps, control.maps);
        control.play(None);
        control.rotate(None);
        control.offer(None);
        assert_eq!(control.text(), TEXT);
        let bounds = ControlFile::parse("y", &format!("{TEXT}[unpack]\nentries = 5\n")).unwrap().unpack;
        assert_eq!((bounds.entries, bounds.bytes), (Some(5), None));
        let rules = format!("{TEXT}[[link]]\nmatch = '^x$'\ndirect = \"y\"\n");
        assert_eq!(ControlFile::parse("y", &rules).unwrap().links.len(), 1);
    }

    #[test]
    fn edits_keep_comments_and_undo_themselves() {
        let mut control = ControlFile::parse("yalotheca.toml", TEXT).unwrap();
        assert_eq!(control.text(), TEXT);
        let id = ContentId::new("gull-chat").unwrap();
        control.want(&id, &VersionRange::any());
        assert_eq!(control.text(), format!("{TEXT}gull-chat = \"*\"\n"));
        assert!(control.unwant(&id) && !control.unwant(&id));
        assert_eq!(control.text(), TEXT);
        control.want(&ContentId::new("harbour-core").unwrap(), &VersionRange::parse("=2.1").unwrap());
        assert!(control.text().contains("harbour-core = \"=2.1\" # keep"));
    }

    #[test]
    fn a_new_file_reads_as_it_was_made() {
        let server = ServerSection {
            name: "Larkspur".into(),
            game: "saltwick".into(),
            at: ".".into(),
            values: [("program".to_string(), "x".to_string())].into(),
            process: ProcessSection::default(),
        };
        let catalogues =
            [CatalogueSource { name: "q".into(), at: "http://x/".into(), key: None, older: false }];
        let made = ControlFile::new(&server, &catalogues);
        let read = ControlFile::parse("y", &made.text()).unwrap();
        assert_eq!((read.server, read.catalogues), (server, catalogues.to_vec()));
    }

    #[test]
    fn mistakes_have_places_and_suggestions() {
        let error = ControlFile::parse("y", &TEXT.replace("game =", "gane =")).unwrap_err();
        assert_eq!((error.line, error.advice.as_str()), (4, "did you mean game?"));
        let error = ControlFile::parse("y", &TEXT.replace("\">=2\"", "\">>2\"")).unwrap_err();
        assert_eq!(error.line, 8, "{error}");
        assert!(ControlFile::parse("y", "format = 1\n[server\n").is_err());
    }
}
