//! What a content says of itself in its descriptor.

use std::collections::BTreeMap;

use serde_json::{Map, Value as Json};

use super::{DescribeRule, DescriptorForm, Kind, Pick, Scope};
use crate::{
    catalogue::{PlatformSet, Relations, Side},
    document::{Document, Format, Pointer},
    hint::{Advice, Hint},
    id::{ContentId, TreePath},
    version::{ReleaseVersion, VersionRange},
};

/// What descriptors say of a content. What none of them says is empty.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Described {
    /// Its id.
    pub id: Option<ContentId>,
    /// What people call it.
    pub title: Option<String>,
    /// What it is for.
    pub about: Option<String>,
    /// Its version.
    pub version: Option<ReleaseVersion>,
    /// What it needs.
    pub needs: Relations,
    /// What it welcomes.
    pub welcomes: Relations,
    /// What it refuses.
    pub refuses: Relations,
    /// Where it has its effect.
    pub side: Option<Side>,
    /// What it wishes to follow.
    pub after: Vec<ContentId>,
    /// What it wishes to precede.
    pub before: Vec<ContentId>,
    /// What it asks of the platform.
    pub platform: PlatformSet,
    /// Facts that it states.
    pub facts: BTreeMap<String, String>,
}

/// What is wrong with a descriptor.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{file}: {why}")]
pub struct DescribeError {
    /// The descriptor's path inside the content.
    pub file: String,
    /// What is wrong.
    pub why: String,
}

impl DescribeError {
    /// Returns the error with the path of the content that it is about. A content that is a single file is named once.
    pub fn within(&self, path: &TreePath) -> String {
        if path.name() == self.file { format!("{path}: {}", self.why) } else { format!("{path}: {self}") }
    }
}

impl Hint for DescribeError {
    fn hint(&self) -> Option<Advice> {
        Some("the file may be damaged: get it again, or ask its author".into())
    }
}

/// Returns a member's bytes, if it is there, or why it cannot be read.
pub type ReadMember<'a> = &'a mut dyn FnMut(&str) -> Result<Option<Vec<u8>>, String>;

/// Reads what a content of that kind says of itself. `read` returns a member's bytes, if it is there. Of several
/// descriptors the first that says a thing decides it; relations are read from the first that has any.
///
/// # Errors
/// Where a descriptor is there and cannot be read.
pub fn describe(kind: &Kind, read: ReadMember<'_>) -> Result<Described, DescribeError> {
    let mut all = Described::default();
    let mut related = false;
    for rule in &kind.describe {
        let error = |why: String| DescribeError { file: rule.file.clone(), why };
        let Some(bytes) = read(&rule.file).map_err(error)? else { continue };
        let text = String::from_utf8(bytes).map_err(|_| error("it is not UTF-8 text".into()))?;
        let json = parse(rule.form, &text).map_err(error)?;
        apply(rule, &json, &mut all, &mut related).map_err(error)?;
    }
    Ok(all)
}

fn parse(form: DescriptorForm, text: &str) -> Result<Json, String> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    match form {
        DescriptorForm::Json => {
            serde_json::from_str(text).map_err(|error| format!("it is not JSON: {error}"))
        }
        DescriptorForm::Toml => toml::from_str(text).map_err(|error| format!("it is not TOML: {error}")),
        DescriptorForm::Lines => Ok(text
            .lines()
            .map(|line| line.split_once('#').map_or(line, |(item, _)| item).trim())
            .filter(|line| !line.is_empty())
            .map(|line| Json::String(line.into()))
            .collect()),
        DescriptorForm::Pairs | DescriptorForm::Properties => {
            let (sign, format) = match form {
                DescriptorForm::Pairs => (':', Format::Pairs),
                _ => ('=', Format::Properties),
            };
            // Nothing is ever written to a descriptor, and servers pass over lines in it that say nothing.
            let is_entry = |line: &&str| line.contains(sign) || line.trim_start().starts_with('#');
            let entries: Vec<&str> = text.lines().filter(is_entry).collect();
            let entries = if entries.is_empty() { text.to_owned() } else { entries.join("\n") };
            let document = Document::parse(format, &entries).map_err(|error| error.to_string())?;
            let mut map = Map::new();
            for key in document.keys(&Pointer::root()) {
                let at = Pointer::parse(&format!("/{}", key.replace('~', "~0").replace('/', "~1")));
                if let Some(value) = at.ok().and_then(|at| document.get(&at)) {
                    map.insert(key, Json::String(value.plain().trim_matches('"').trim().to_owned()));
                }
            }
            Ok(Json::Object(map))
        }
    }
}

fn apply(rule: &DescribeRule, json: &Json, all: &mut Described, related: &mut bool) -> Result<(), String> {
    let text = |what: &str| rule.picks.get(what).and_then(|pick| text_at(json, pick));
    if let (None, Some(id)) = (&all.id, text("id")) {
        all.id = Some(ContentId::new(&id).map_err(|error| error.to_string())?);
    }
    all.title = all.title.take().or_else(|| text("title"));
    all.about = all.about.take().or_else(|| text("about"));
    if let (None, Some(version)) = (&all.version, text("version")) {
        all.version = Some(ReleaseVersion::parse(&version).map_err(|error| error.to_string())?);
    }
    if let (None, Some(side)) = (all.side, text("side")) {
        all.side = Some(match side.as_str() {
            "server" => Side::Server,
            "player" => Side::Player,
            "both" => Side::Both,
            other => return Err(format!("{other:?} is not a side: server, player or both")),
        });
    }
    for (name, pick) in &rule.facts {
        if let Some(text) = text_at(json, pick) {
            all.facts.entry(name.clone()).or_insert(text);
        }
    }
    if !*related {
        let relations = |what: &str| match rule.picks.get(what) {
            Some(pick) => relations_at(json, pick),
            None => Ok(Relations::new()),
        };
        all.needs = relations("needs")?;
        all.welcomes = relations("welcomes")?;
        all.refuses = relations("refuses")?;
        all.after = relations("after")?.keys().cloned().collect();
        all.before = relations("before")?.keys().cloned().collect();
        let sets = [&all.needs, &all.welcomes, &all.refuses];
        *related = sets.iter().any(|set| !set.is_empty());
    }
    for (part, pick) in &rule.platform {
        let Some(found) = text_at(json, pick) else { continue };
        let range = if pick.map.is_empty() {
            match &pick.range {
                Some(template) => {
                    let mut scope = Scope::default();
                    scope.found.insert("it".into(), found);
                    template.render(&scope).map_err(|error| error.to_string())?
                }
                None => match pick.item.as_ref().and_then(|item| item.captures(&found)) {
                    Some(groups) => groups
                        .name("range")
                        .map(|range| range.as_str().trim())
                        .filter(|range| !range.is_empty())
                        .unwrap_or("*")
                        .to_owned(),
                    None => found,
                },
            }
        } else {
            // A value that the definition does not know fits no version, rather than every one.
            pick.map
                .get(&found)
                .cloned()
                .ok_or_else(|| format!("{} {found:?} is not one that is known", pick.at))?
        };
        if !range.trim().is_empty() {
            let range = VersionRange::parse(&range).map_err(|error| error.to_string())?;
            all.platform.entry(part.clone()).or_insert(range);
        }
    }
    Ok(())
}

/// The text at a place. Of a list it is the first item that fits the pick's pattern; what the pattern picks of it, if it has a group for
/// that.
fn text_at(json: &Json, pick: &Pick) -> Option<String> {
    let picked = |text: &str| match &pick.item {
        Some(item) if item.groups().any(|group| group == "id") => {
            Some(item.captures(text)?.name("id")?.as_str().trim().to_owned())
        }
        _ => Some(text.to_owned()),
    };
    match json.pointer(&pick.at.to_string())? {
        Json::String(text) => picked(text).filter(|text| !text.is_empty()),
        Json::Array(items) => {
            let item = pick.item.as_ref()?;
            let mut texts = items.iter().filter_map(Json::as_str);
            texts.find(|text| item.find(text).is_some()).and_then(picked).filter(|text| !text.is_empty())
        }
        Json::Number(number) => Some(number.to_string()),
        Json::Bool(flag) => Some(flag.to_string()),
        _ => None,
    }
}

fn relations_at(json: &Json, pick: &Pick) -> Result<Relations, String> {
    let mut found = Relations::new();
    let mut add = |id: &str, range: &str| -> Result<(), String> {
        let id = ContentId::new(id).map_err(|error| error.to_string())?;
        let range = if range.trim().is_empty() { "*" } else { range };
        found.insert(id, VersionRange::parse(range).map_err(|error| error.to_string())?);
        Ok(())
    };
    let mut item = |text: &str| -> Result<(), String> {
        let text = text.trim();
        if text.is_empty() {
            return Ok(());
        }
        if let Some(pattern) = &pick.item {
            match pattern.captures(text) {
                Some(groups) => add(&groups["id"], groups.name("range").map_or("", |range| range.as_str())),
                None => Ok(()),
            }
        } else {
            let (id, range) = text.split_once(char::is_whitespace).unwrap_or((text, ""));
            add(id, range)
        }
    };
    match json.pointer(&pick.at.to_string()) {
        None | Some(Json::Null) => {}
        Some(Json::Array(items)) => {
            for entry in items {
                item(entry.as_str().ok_or_else(|| format!("{} must be a list of texts", pick.at))?)?;
            }
        }
        Some(Json::Object(map)) => {
            for (id, range) in map {
                add(id, range.as_str().ok_or_else(|| format!("{}/{id} must be a version range", pick.at))?)?;
            }
        }
        Some(Json::String(text)) => match &pick.split {
            Some(separator) => text.split(separator.as_str()).try_for_each(item)?,
            None => item(text)?,
        },
        Some(_) => return Err(format!("{} must be a list or a group of ranges", pick.at)),
    }
    Ok(found)
}
