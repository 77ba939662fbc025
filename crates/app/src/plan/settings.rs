//! Settings files as they are: what is in them, what is known of them, and what an update makes of them.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::PathBuf,
};

use yalotheca_core::{
    change::{Receipt, Settled, Update},
    control::{ControlFile, LockFile, Locked},
    document::{Document, ParseDocumentError, Pointer, TextFile, Value},
    game::{Scope, SettingsFile, Shape, TWEAK_SUFFIX, Template},
    id::{ContentId, Digest, TreePath},
    route::{Bundle, Payload, scope_of},
    settings::{Known, SERVER, SettingRule, merge, rules_of_lines, rules_of_schema},
    tweak::{TWEAK_FACT, Tweak},
};
use yalotheca_host::{
    archive::ZipBundle,
    sources::{ByteSource, Sources},
    survey::SurveyError,
};

use crate::{AppError, OpenCatalogues, Server};

/// A settings file, or the parameters of a tweak, open to look at.
#[expect(clippy::struct_excessive_bools, reason = "each is said by the definition")]
pub struct OpenSettings {
    /// Whose they are: a content's id, or `server`.
    pub owner: String,
    /// What the file is called for short.
    pub short: String,
    /// What people call it.
    pub title: String,
    /// The file; a tweak's parameters are in none.
    pub path: Option<TreePath>,
    /// Whether it only comes into being when the server starts.
    pub appears: bool,
    /// Whether it says how the server is started.
    pub launch: bool,
    /// Whether it takes settings that nobody has heard of.
    pub open: bool,
    /// Whether only what is described is meant: the file belongs to others as well.
    pub described: bool,
    /// What it says; nothing where it is not there.
    pub now: Option<Result<Document, ParseDocumentError>>,
    /// The defaults.
    pub defaults: Option<Document>,
    /// What is known of its settings.
    pub rules: Vec<(Pointer, SettingRule)>,
}

impl OpenSettings {
    /// Returns what is known, for judging.
    pub fn known(&self) -> Known<'_> {
        let now = self.now.as_ref().and_then(|now| now.as_ref().ok());
        let (rules, open) = (self.rules.as_slice(), self.open);
        Known { now, defaults: self.defaults.as_ref(), rules, open, described: self.described }
    }

    /// Returns the default of a place: the content's, or what a rule says.
    pub fn default_of(&self, at: &Pointer) -> Option<Value> {
        let by_rule = || self.known().rule(at).and_then(|rule| rule.default.clone());
        self.defaults.as_ref().and_then(|document| document.get(at)).or_else(by_rule)
    }

    /// Returns the value of a place; a tweak's parameter that nobody set has its default.
    pub fn value_of(&self, at: &Pointer, asked: Option<&Value>) -> Option<Value> {
        let now = self.known().now.and_then(|document| document.get(at));
        if self.path.is_none() { asked.cloned().or_else(|| self.default_of(at)) } else { now }
    }
}

fn text(template: &Template, scope: &Scope) -> Result<String, AppError> {
    template.render(scope).map_err(|error| AppError::Survey(SurveyError::Render(error)))
}

/// Returns all settings files of a server, and the parameters of its tweaks: the server's own first.
pub fn open_settings(server: &Server) -> Result<Vec<OpenSettings>, AppError> {
    let scope_of_server = &server.survey.scope;
    let mut found = Vec::new();
    for rule in &server.game.settings {
        found.push(open(server, SERVER, rule, scope_of_server, |_| None)?);
    }
    for locked in &server.control.lock.contents {
        let scope = scope_of(scope_of_server, &locked.id, &locked.title, &locked.release);
        if let Some(tweak) = tweak_of(server, locked) {
            found.push(OpenSettings {
                owner: locked.id.to_string(),
                short: TWEAK_SUFFIX.into(),
                title: locked.title.clone(),
                path: None,

                appears: false,
                launch: false,
                open: false,
                described: false,
                now: None,
                defaults: None,
                rules: tweak
                    .parameters
                    .iter()
                    .map(|(name, rule)| (Pointer::root().join(name), rule.clone()))
                    .collect(),
            });
        }
        let Some(kind) = server.game.kinds.get(&locked.release.kind) else { continue };
        let receipt = server.receipt()?;
        for rule in &kind.settings {
            let member = |name: &str| placed_member((server, receipt), locked, name);
            let one = open(server, locked.id.as_str(), rule, &scope, member)?;
            let has_any = if one.described {
                !one.rules.is_empty()
            } else {
                one.now.is_some() || one.defaults.is_some()
            };
            if has_any {
                found.push(one);
            }
        }
    }
    Ok(found)
}

fn tweak_of(server: &Server, locked: &Locked) -> Option<Tweak> {
    let values: Vec<String> = server.game.values.iter().map(|(name, _)| name.clone()).collect();
    Tweak::parse(TWEAK_SUFFIX, locked.release.facts.get(TWEAK_FACT)?, &values).ok()
}

fn open(
    server: &Server,
    owner: &str,
    rule: &SettingsFile,
    scope: &Scope,
    member: impl Fn(&str) -> Option<String>,
) -> Result<OpenSettings, AppError> {
    let path = TreePath::new(&text(&rule.file, scope)?)?;
    let now = server.tree.read_file(&path)?.map(|bytes| Document::read(rule.format, bytes));
    let defaults = rule.defaults.as_ref().and_then(|name| member(name));
    let mut rules = rule.keys.clone();
    if let Some(schema) = rule.schema.as_ref().and_then(|name| member(name)) {
        rules.extend(if rule.schema_lines.is_empty() {
            rules_of_schema(&schema).unwrap_or_default()
        } else {
            rules_of_lines(&schema, &rule.schema_lines)
        });
    }
    Ok(OpenSettings {
        owner: owner.into(),
        short: text(&rule.short, scope)?,
        title: rule.title.clone(),
        path: Some(path),

        appears: rule.appears,
        launch: rule.launch,
        open: rule.open,
        described: !rule.schema_lines.is_empty(),
        now,
        defaults: defaults.and_then(|text| Document::parse(rule.format, &text).ok()),
        rules,
    })
}

/// Reads a member of a content as it is placed on the server.
fn placed_member((server, receipt): (&Server, &Receipt), locked: &Locked, name: &str) -> Option<String> {
    let shape = server.game.kinds.get(&locked.release.kind)?.shape;
    let mut files = receipt.placed.iter().filter(|(_, placed)| placed.content == locked.id);
    let bytes = match shape {
        Shape::Archive => {
            let (path, _) = files.next()?;
            ZipBundle::of_file(server.tree.open(path).ok()??).ok()??.read(name).ok()??
        }
        Shape::Folder | Shape::File => {
            // A pack has one in each of its members.
            let end = format!("/{name}");
            let of_name = files.filter(|(path, _)| path.as_str() == name || path.as_str().ends_with(&end));
            let texts = of_name.filter_map(|(path, _)| server.tree.read_file(path).ok()?);
            let texts: Vec<Vec<u8>> = texts.collect();
            if texts.is_empty() {
                return None;
            }
            texts.join(&b'\n')
        }
    };
    Some(TextFile::read(bytes).text().to_owned())
}

/// Reads a member of a content that is not placed yet.
fn coming_member(
    server: &Server,
    (shape, payload): (Shape, &Payload),
    sources: &Sources,
    name: &str,
) -> Option<String> {
    let at = |digest: &Digest| -> Option<PathBuf> {
        match sources.get(digest)? {
            ByteSource::File(path)
            | ByteSource::Cached(path)
            | ByteSource::Fresh(path)
            | ByteSource::Built(path) => Some(path.clone()),
            ByteSource::Server(path) => server.file_here(path).ok(),
        }
    };
    let bytes = match shape {
        Shape::Archive => ZipBundle::open(&at(&payload.files.first()?.digest)?).ok()??.read(name).ok()??,
        Shape::Folder | Shape::File => {
            std::fs::read(at(&payload.files.iter().find(|file| file.path == name)?.digest)?).ok()?
        }
    };
    Some(TextFile::read(bytes).text().to_owned())
}

/// Brings the settings files of contents up to date whose release changes: where the defaults have changed, the old ones,
/// the new ones and the file as it is are merged.
pub(super) fn updates(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    wants: &ControlFile,
    (lineup, payloads): (&[Locked], &[Settled]),
) -> Result<BTreeMap<TreePath, Update>, AppError> {
    let mut found = BTreeMap::new();
    let before: &LockFile = &server.control.lock;
    for (locked, settled) in lineup.iter().zip(payloads) {
        let Some(old) = before.get(&locked.id).filter(|old| old.release != locked.release) else { continue };
        let Some(kind) = server.game.kinds.get(&locked.release.kind) else { continue };
        let receipt = server.receipt()?;
        for rule in kind.settings.iter().filter(|rule| rule.defaults.is_some()) {
            let Some(member) = &rule.defaults else { continue };
            let scope = scope_of(&server.survey.scope, &locked.id, &locked.title, &locked.release);
            let path = TreePath::new(&text(&rule.file, &scope)?)?;
            let Some(bytes) = server.tree.read_file(&path)? else { continue };
            let Some(old_text) = placed_member((server, receipt), old, member) else { continue };
            let sources = catalogues.get()?.fetch(locked)?;
            let Some(new_text) = coming_member(server, (kind.shape, settled.payload()), &sources, member)
            else {
                continue;
            };
            if old_text == new_text {
                continue;
            }
            let noted = noted(wants, &locked.id, &text(&rule.short, &scope)?);
            let mine = TextFile::read(bytes);
            // A file that is broken is told by check, and never written over.
            if let Ok(merged) = merge(rule.format, (&old_text, &new_text, mine.text()), &noted) {
                found.insert(path, Update { format: rule.format, merged, defaults: new_text });
            }
        }
    }
    Ok(found)
}

fn noted(wants: &ControlFile, id: &ContentId, short: &str) -> Vec<Pointer> {
    let values = wants.settings.get(id.as_str()).and_then(|files| files.get(short));
    values
        .map(|values| values.keys().cloned().collect::<BTreeSet<_>>().into_iter().collect())
        .unwrap_or_default()
}
